"""A reference implementation of the definitions: row by row in plain Python with exact fractions,
independent of SQL.
"""

import datetime as dt
from collections import defaultdict
from fractions import Fraction

import numpy as np

REASONS = {
    "total-row",
    "no-customer",
    "no-order",
    "no-date",
    "bad-date",
    "no-amount",
    "bad-amount",
    "conflicting-total",
}
TOTALS = {"total", "grand total", "subtotal", "sub-total", "sub total"}


def half_away(x):
    return int(abs(x) + Fraction(1, 2)) * (1 if x >= 0 else -1)


def number(cell):
    try:
        return None if "_" in cell or "/" in cell else Fraction(cell.strip())
    except ValueError:
        return None


def minor(row, decimals):
    """Return the minor units of the row's amount, or the reason why there are none."""
    if "amount" in row:
        factors, discount = [row["amount"]], Fraction(0)
    else:
        factors, text = [row["unit_price"], row["quantity"]], row["discount"].strip()
        discount = number(text.rstrip("%")) if text else Fraction(0)
        if discount is not None and "%" in text:
            discount /= 100
    if any(not f.strip() for f in factors):
        return "no-amount"
    parts = [number(f) for f in factors]
    if None in parts or discount is None or not 0 <= discount <= 1:
        return "bad-amount"
    product = 1 - discount
    for part in parts:
        product *= part
    return half_away(product * 10**decimals)


def day(cell):
    try:
        return dt.datetime.fromisoformat(cell.strip()).date()
    except ValueError:
        return None


def states(rows, decimals, as_of, start, grain, keep):  # noqa: C901  # the definitions' list of reasons, one after the other
    """Return reason, ``filtered-out``, ``outside-range`` or ``used`` of each row, and its minor
    units if readable.
    """
    found = []
    for row in rows:
        customer, order, placed = (row[k].strip() for k in ("customer", "order", "placed"))
        amount = minor(row, decimals)
        folded = " ".join(customer.casefold().removesuffix(":").split())
        if folded in TOTALS:
            state = "total-row"
        elif not customer and not order and not placed:
            state = "undecided"
        elif not customer:
            state = "no-customer"
        elif not order:
            state = "no-order"
        elif not placed:
            state = "no-date"
        elif day(placed) is None:
            state = "bad-date"
        elif isinstance(amount, str):
            state = amount
        elif not keep(row):
            state = "filtered-out"
        elif day(placed) > as_of or (start and day(placed) < start):
            state = "outside-window"
        else:
            state = "used"
        found.append([state, None if isinstance(amount, str) else amount])
    if grain == "order":
        totals = defaultdict(set)
        kept = [
            (s in ("used", "outside-window"), (r["customer"].strip(), r["order"].strip()))
            for r, (s, _) in zip(rows, found, strict=True)
        ]
        for (counts, pair), (_, amount) in zip(kept, found, strict=True):
            if counts:
                totals[pair].add(amount)
        for (counts, pair), entry in zip(kept, found, strict=True):
            if counts and len(totals[pair]) > 1:
                entry[0] = "conflicting-total"
    usable = [
        (r, s, a)
        for r, (s, a) in zip(rows, found, strict=True)
        if s in ("used", "filtered-out", "outside-window")
    ]
    once = {
        (r["customer"].strip(), r["order"].strip()): a
        for r, _, a in sorted(usable, key=lambda u: -u[2])
    }
    sums = {sum(a for _, _, a in usable)} | ({sum(once.values())} if grain == "order" else set())
    readable = sum(a for _, a in found if a is not None)
    for row, entry in zip(rows, found, strict=True):
        if entry[0] == "undecided":
            total = entry[1] is not None and (entry[1] in sums or readable - entry[1] == entry[1])
            blank = not any(cell.strip() for cell in row.values())
            entry[0] = "blank" if blank else "total-row" if total else "no-customer"
    return found


def customers(rows, found, decimals, as_of, grain, refunds, members=()):
    """Return id → the columns of the customers table, each one correctly rounded division of whole
    numbers.
    """
    orders, all_ids = defaultdict(list), set(members)
    for row, (state, amount) in zip(rows, found, strict=True):
        if state == "used":
            all_ids.add(row["customer"].strip())
            orders[row["customer"].strip(), row["order"].strip()].append(
                (day(row["placed"]), amount, row["channel"].strip())
            )
    of = defaultdict(list)
    for (customer, _), lines in orders.items():
        amount = lines[0][1] if grain == "order" else sum(a for _, a, _ in lines)
        of[customer].append(
            (amount, min(d for d, _, _ in lines), len(lines), {c for _, _, c in lines})
        )
    table = {c: _one(of[c], 10**decimals, as_of, refunds) for c in all_ids}
    positive = [t["spend_minor"] for t in table.values() if t["spend_minor"] > 0]
    for one in table.values():
        spend = one["spend_minor"]
        one["spend_share"] = spend / sum(positive) if spend > 0 else 0.0
        one["spend_share_running"] = (
            sum(p for p in positive if p >= spend) / sum(positive)
            if spend > 0
            else float(bool(positive))
        )
        one["spend_rank"] = 1 + sum(t["spend_minor"] > spend for t in table.values())
    return table


def _one(orders, scale, as_of, refunds):
    bought = [o for o in orders if o[0] > 0]
    spend = sum(a for a, *_ in (orders if refunds == "net" else bought))
    n, days, channels = (
        len(bought),
        [d for _, d, *_ in bought],
        set().union(*(c for *_, c in bought)),
    )
    one = dict.fromkeys(("first_order", "last_order", "recency_days", "tenure_days", "average_order_value", "smallest_order",
                         "largest_order", "average_gap_days", "overdue_ratio", "only_channel"))  # fmt: skip
    one |= {
        "orders": n,
        "refunds": sum(a < 0 for a, *_ in orders),
        "zero_orders": sum(a == 0 for a, *_ in orders),
    }
    one |= {
        "lines": sum(lines for _, _, lines, _ in bought),
        "spend": spend / scale,
        "spend_minor": spend,
    }
    if n:
        span = (max(days) - min(days)).days
        one |= {
            "first_order": min(days),
            "last_order": max(days),
            "recency_days": (as_of - max(days)).days,
        }
        one |= {"tenure_days": (as_of - min(days)).days, "average_order_value": spend / (n * scale)}
        one |= {"smallest_order": min(bought)[0] / scale, "largest_order": max(bought)[0] / scale}
        one["only_channel"] = (
            next(iter(channels)) if len(channels) == 1 and "" not in channels else None
        )
        if n > 1:
            one["average_gap_days"] = span / (n - 1)
            one["overdue_ratio"] = one["recency_days"] * (n - 1) / span if span else None
    return one


def most_even(counts, k):
    """Return the sizes of the best partition of distinct values (worst first) into k rungs, by
    trying all of them.
    """
    sums = np.concatenate([[0], np.cumsum(counts)])
    held = sums[None, :] - sums[:, None]
    cost = np.where(held > 0, (k * held - sums[-1]) ** 2, 2**60)
    onward = [np.where(sums == sums[-1], 0, 2**60)]
    for _ in range(k):
        onward.insert(0, (cost + onward[0][None, :]).min(axis=1))
    at, sizes = 0, []
    for rest in onward[
        1:
    ]:  # of equally good partitions the one whose worst rung is smallest, then the next
        end = int(np.argmin(cost[at] + rest))
        sizes.append(int(held[at, end]))
        at = end
    return tuple(sizes)
