"""The figures of the page: their findings, shapes in two layouts, and numbers."""

from collections.abc import Callable
from itertools import pairwise
from typing import Any

import numpy as np
import pandas as pd

from fairladder import wording
from fairladder.book.spend import buyers
from fairladder.frames import row_of_largest, rows_of
from fairladder.history.growth import repeat_share
from fairladder.ladder import GroupedLadder
from fairladder.numbers import EXACT_DECIMALS, ratio, to_minor
from fairladder.report import charts
from fairladder.report.charts import Bar, BarRow, Figure, Series
from fairladder.report.contents import Contents
from fairladder.scores.fitting import SCORES

#: Number of groups with a line of their own; the others are combined.
_MOST_LINES = 6
#: Customers with this many orders or more are combined.
_MANY_ORDERS = 8
_MARKS = (0.01, 0.05, 0.2, 0.5)
#: Classes of lines, in their order.
_LINES = ("keep", "grow", "welcome", "win-back", "ink", "shade-3")


def _money(about: Contents) -> Callable[[float], str]:
    unit = f" {about.currency}" if about.currency else ""
    return lambda amount: wording.money(amount) + unit


def balance(about: Contents) -> Figure:
    """Draw the rows by state, as parts of one bar."""
    rows = [
        (label, count, minor) for label, count, minor in about.checked.balance.lines()[1:] if count
    ]
    read = about.checked.balance.rows_read
    css = {
        "used": "keep",
        "set aside": "win-back",
        "filtered out": "leave",
        "outside the date range": "shade-1",
    }
    named = [(label, float(n), css.get(label, "shade-2"),
    f"{label}: {wording.counted(n, 'rows')}, {wording.percent(n / read)}")
             for label, n, _ in rows]  # fmt: skip
    used = wording.percent(about.checked.balance.used / read)
    scale = 10**about.checked.balance.decimals
    return Figure(
        "balance", f"{used} of {wording.counted(read, 'rows')} are used, and all are accounted for",
        "One bar of all rows read, split by their state.",
        charts.both(lambda w: charts.whole(named, w)),
        ("what", "rows", "share", "amount"),
        tuple((label, wording.count(n), wording.percent(n / read),
        wording.money(minor / scale, about.checked.balance.decimals))
              for label, n, minor in rows),
        tuple((c, f"{label}: {wording.count(n)}") for label, n, c, _ in named),
    )  # fmt: skip


def segments(about: Contents) -> Figure:
    """Draw the share of spend and of customers of each segment with customers."""
    table = about.segments[about.segments["customers"] > 0]
    table = table.sort_values(["spend", "customers"], ascending=False, kind="stable")
    money = _money(about)
    rows = [
        BarRow(s.segment, _shares(s, money(s.spend)), s.stance, f"{s.stance}-text")
        for s in rows_of(table)
    ]
    by_stance = table.groupby("stance", sort=False, observed=True)[
        ["customer_share", "spend_share"]
    ].sum()
    best = row_of_largest(by_stance, by_stance["spend_share"].fillna(0))
    people, spend = wording.percent(best["customer_share"]), wording.percent(best["spend_share"])
    finding = (
        f"Customers to {_DO[str(best.name)]} are {people} of all and contribute {spend} of spend"
    )
    return Figure(
        "segments", finding,
        "For each segment its share of spend (full bar) and of customers (light bar).",
        charts.both(lambda w: charts.bars(rows, w), charts.HALF),
        ("segment", "stance", "customers", "customer share", "spend", "spend share", "median recency days"),
        tuple((s.segment, s.stance, wording.count(s.customers), wording.percent(s.customer_share),
        wording.money(s.spend),
               wording.percent(s.spend_share),
               wording.days(s.median_recency_days)) for s in rows_of(about.segments)),
    )  # fmt: skip


_DO = {
    "keep": "keep",
    "grow": "grow",
    "welcome": "welcome",
    "win-back": "win back",
    "leave": "leave alone",
}


def _shares(segment: Any, spent: str) -> tuple[Bar, Bar]:
    """Return the bars of a segment's share of spend and of customers."""
    share, people = wording.percent(segment.spend_share), wording.percent(segment.customer_share)
    many = wording.counted(segment.customers, "customers")
    return (
        Bar(
            100 * _or_zero(segment.spend_share),
            f"{share} of spend",
            segment.stance,
            f"{segment.segment}: {spent} spent",
        ),
        Bar(
            100 * segment.customer_share,
            f"{people} of customers",
            f"{segment.stance} light",
            f"{segment.segment}: {many}",
        ),
    )


def _or_zero(number: float) -> float:
    return 0.0 if wording.missing(number) else float(number)


def concentration(about: Contents) -> Figure | None:
    """Draw the share of positive spend from the best customers; None without positive spend."""
    spend = np.sort(np.maximum(buyers(about.customers)["spend"].to_numpy(dtype=np.float64), 0))[
        ::-1
    ]
    if not spend.sum() > 0:
        return None
    share = np.concatenate([[0], np.cumsum(spend)]) / spend.sum()
    people = np.arange(len(share)) / len(spend)
    at = np.unique(np.concatenate([np.linspace(0, 1, 101), np.linspace(0, 0.1, 41)]))
    held = np.interp(at, people, share)
    marks = [(m, float(np.interp(m, people, share))) for m in _MARKS]
    texts = [(m, h, f"first {100 * m:g} %: {wording.percent(h)} of spend") for m, h in marks]
    fifth = wording.percent(marks[2][1])
    return Figure(
        "concentration", f"The first fifth of customers contribute {fifth} of spend",
        "The running share of spend by share of customers with a purchase, largest spend "
        "first. The dashed line is the share if all customers spent equally.",
        charts.both(lambda w: charts.curve(list(zip(at.tolist(), held.tolist(), strict=True)),
        texts, w)),
        ("customers, largest spend first", "spend share"),
        tuple((f"first {100 * m:g} %", wording.percent(h)) for m, h in marks),
    )  # fmt: skip


def rung_lines(about: Contents) -> dict[str, list[tuple[int, str, int, float]]]:
    """Return score → its rungs, best first: rung, its values, customers and their spend."""
    lines_by_score = {}
    for name in SCORES:
        ladder, rungs = (
            about.ladders[name],
            about.customers[name].to_numpy(dtype=np.int64, na_value=0),
        )
        counts = np.bincount(rungs, minlength=ladder.rungs + 1)
        spend = np.zeros(
            ladder.rungs + 1, dtype=np.int64
        )  # whole units, so that sums do not depend on the order of rows
        np.add.at(spend, rungs, to_minor(about.customers["spend"].to_numpy(), EXACT_DECIMALS))
        each = ratio(spend, 10**EXACT_DECIMALS)
        holds = ["by its group"] * ladder.rungs
        if not isinstance(ladder, GroupedLadder):
            ends = [None, *(None if abs(c) == np.inf else c for c in ladder.cuts), None]
            holds = [wording.span(a, b) for a, b in pairwise(ends)][
                :: 1 if ladder.better == "high" else -1
            ]
        lines_by_score[name] = [
            (r, holds[r - 1], int(counts[r]), float(each[r])) for r in range(ladder.rungs, 0, -1)
        ]
    return lines_by_score


def ladders(about: Contents) -> list[Figure]:
    """Draw the number of customers on each rung of each score, with the rung's values."""
    return [_ladder(name, lines) for name, lines in rung_lines(about).items()]


def _ladder(name: str, lines: list[tuple[int, str, int, float]]) -> Figure:
    measure, title = SCORES[name][0].replace("_", " "), name.removesuffix("_score")
    total = sum(n for _, _, n, _ in lines) or 1
    rows = [
        BarRow(
            f"rung {rung}: {what}",
            (
                Bar(
                    n,
                    f"{wording.count(n)}, {wording.percent(n / total)}",
                    "shade-2" if i else "keep",
                    f"rung {rung}, {what}: {wording.counted(n, 'customers')}",
                ),
            ),
        )
        for i, (rung, what, n, _) in enumerate(lines)
    ]
    most = wording.percent(max(n for _, _, n, _ in lines) / total)
    shows = (
        f"Customers on each rung of the {title} ladder, best rung first. Equal customers share a "
        "rung."
    )
    numbers = [(str(r), s, wording.count(n), wording.percent(n / total)) for r, s, n, _ in lines]
    return Figure(
        f"ladder-{title}", f"{title.capitalize()}, by {measure}: the largest rung has {most}",
        shows,
        charts.both(lambda w: charts.bars(rows, w)), ("rung", "values", "customers", "share"),
        tuple(numbers),
    )  # fmt: skip


def revenue(about: Contents) -> Figure:
    """Draw first and repeat revenue of each period, and refunds."""
    table, written = about.growth, lambda v: wording.money(v)
    names = [
        ("new revenue", "welcome", "new_revenue"),
        ("repeat revenue", "keep", "repeat_revenue"),
        ("refunds", "win-back", "refunded"),
    ]
    series = [
        Series(n, css, tuple(table[c].astype(float)))
        for n, css, c in names
        if (table[c] != 0).any()
    ]
    unsure = 0 if table["complete"].all() else int((~table["complete"]).sum())
    share = wording.percent(repeat_share(table))
    last = f" The last {about.period} is not over yet." if unsure else ""
    return Figure(
        "revenue", f"Repeat orders are {share} of revenue before refunds",
        f"Revenue by {about.period}, first and repeat orders stacked.{last}",
        charts.both(lambda w: charts.columns(list(table["label"]), series, w, written,
        unsure=unsure)),
        (about.period, "orders", "customers", "new customers", "revenue", "new revenue", "repeat revenue",
        "refunded"),
        tuple(_period(g) for g in rows_of(table)),
        tuple((s.css, s.name) for s in series),
    )  # fmt: skip


def _period(g: Any) -> tuple[str, ...]:
    counts = (wording.count(n) for n in (g.orders, g.customers, g.new_customers))
    amounts = (wording.money(v) for v in (g.revenue, g.new_revenue, g.repeat_revenue, g.refunded))
    return (f"{g.label}{'' if g.complete else ' (not over)'}", *counts, *amounts)


def newcomers(about: Contents) -> Figure:
    """Draw customers to date by group, with the spells without new customers."""
    table = (
        about.grown_by if about.grown_by is not None else about.growth.assign(all="all customers")
    )
    by = about.by if about.grown_by is not None else "all"
    last = (
        table.groupby(by, sort=False)["new_customers_running"]
        .last()
        .sort_values(ascending=False, kind="stable")
    )
    shown = list(last.index[:_MOST_LINES]) if len(last) > _MOST_LINES + 1 else list(last.index)
    flattest = about.spells[about.spells.columns[0]].head(1).tolist()
    shown += [g for g in flattest if g in last.index and g not in shown]
    rest = [g for g in last.index if g not in shown]
    wide = table.pivot(index="period", columns=by, values="new_customers_running")
    labels = list(about.growth["label"])
    series = [
        Series(str(g), css, tuple(wide[g].astype(float)), _flat(table[table[by] == g]))
        for g, css in zip(shown, _LINES * 3, strict=False)
    ]
    if rest:
        series.append(
            Series(f"{len(rest)} others", "leave", tuple(wide[rest].sum(axis=1).astype(float)))
        )
    spells = about.spells
    if about.grown_by is not None:
        known = spells[~spells[spells.columns[0]].isin(["unknown", "mixed"])]
        spells = known if len(known) else spells
    if len(spells):
        s = next(rows_of(spells))
        of = f"{s[0]}: " if about.grown_by is not None else ""
        finding = f"{of}no new customer from {s.first} to {s.last}, {s.periods} {about.period}s"
    else:
        finding = f"{wording.count(last.sum())} customers, without a flat spell"
    columns = (about.by or "group", "from", "to", f"{about.period}s", "customers then")
    return Figure(
        "newcomers", finding[0].upper() + finding[1:],
        "Customers to date" + (f" by {about.by}" if about.by else "") + "; thick where there was no new customer.",
        charts.both(lambda w: charts.lines(labels, series, w, lambda v: wording.count(v))), columns,
        tuple((str(s[0] or "all"), s.first, s.last, wording.count(s.periods),
        wording.count(s.running)) for s in rows_of(spells)),
    )  # fmt: skip


def _flat(rows: pd.DataFrame) -> tuple[tuple[int, int], ...]:
    """Return the first and last place of each run of flat periods, after the first customer."""
    flat = (rows["flat"] & (rows["new_customers_running"] > 0)).to_numpy()
    at = np.flatnonzero(flat)
    return tuple(
        (int(r[0]), int(r[-1]))
        for r in np.split(at, np.flatnonzero(np.diff(at) > 1) + 1)
        if len(r) > 1
    )


def how_far(about: Contents) -> Figure:
    """Draw how many customers reach each number of orders."""
    counts = about.counts
    few, many = counts[counts["n"] < _MANY_ORDERS], counts[counts["n"] >= _MANY_ORDERS]
    lines = [
        (wording.counted(c.n, "orders"), int(c.customers), float(c.share), float(c.spend))
        for c in rows_of(few)
    ]
    if len(many):
        people, share, spend = (many[c].sum() for c in ("customers", "share", "spend"))
        lines.append((f"{_MANY_ORDERS} and more", int(people), float(share), float(spend)))
    rows = [
        BarRow(label,
        (Bar(n, f"{wording.count(n)}, {wording.percent(share)}", "leave" if i == 0 else "keep",
                           f"{label}: {wording.counted(n, 'customers')}, {wording.money(spend)} "
                           "spent"),))
        for i, (label, n, share, spend) in enumerate(lines)
    ]  # fmt: skip
    once = counts.iloc[0]
    return Figure(
        "how-far", f"{wording.percent(once['share'])} of customers ordered once" if once["n"] == 1 else "No customer ordered only once",
        "Customers by their number of orders.", charts.both(lambda w: charts.bars(rows, w)),
        ("orders", "customers", "share", "spend"),
        tuple((label, wording.count(n), wording.percent(share), wording.money(spend)) for label, n,
        share, spend in lines),
    )  # fmt: skip


def worth(about: Contents) -> Figure:
    """Draw the value per customer to date, by formula and forecast, with ranges if there are
    any.
    """
    lines = worth_lines(about)
    money = _money(about)
    rows = [
        BarRow(
            name,
            (Bar(0.0 if wording.missing(value) else value, money(value), css,
                 f"{name}: {money(value)}{_range(ends)}", ends=ends),),
        )
        for name, value, ends, css, _ in lines
    ]  # fmt: skip
    known = [line for line in lines if not wording.missing(line[1])]
    finding = ", ".join(f"{money(value)} {name}" for name, value, *_ in known)
    of = {name: value for name, value, *_ in known}
    below = (
        " The formula counts a customer as gone at the first period without an order, so it can be "
        "below what customers have already spent."
        if of.get("by formula", 0.0) < of["to date"] and "by formula" in of
        else ""
    )
    return Figure(
        "worth", f"A customer is worth {finding}",
        f"Value per customer with a purchase; the thin line is the range.{below}",
        charts.both(lambda w: charts.bars(rows, w)),
        ("answer", "per customer", "range", "basis"),
        tuple((n, wording.money(v, 2), _range(ends).removeprefix(", ") or wording.NOTHING,
        of) for n, v, ends, _, of in lines),
    )  # fmt: skip


def worth_lines(about: Contents) -> list[tuple[str, float, tuple[float, float] | None, str, str]]:
    """Return name, value per customer, ends of its range, class, and basis, for each available
    method.
    """
    bought = buyers(about.customers)
    lines: list[tuple[str, float, tuple[float, float] | None, str, str]] = [
        (
            "to date",
            float(bought["spend"].sum()) / len(bought),
            None,
            "keep",
            "spend ÷ customers with a purchase",
        )
    ]
    if about.formula is not None:
        row = about.formula.frame.iloc[0]
        of = (
            f"until the first {about.formula.period} without an order; range: retention 5 points "
            "down and up"
        )
        lines.append(
            (
                "by formula",
                float(row["formula_value"]),
                _ends(row, "value_if_lower", "value_if_higher", 1),
                "grow",
                of,
            )
        )
    if about.forecast is not None:
        total, n = about.forecast.totals().iloc[0], len(about.forecast.frame)
        name, of = (
            f"forecast for {about.forecast.horizon} days",
            "forecast for all customers; 80 % range",
        )
        lines.append(
            (
                name,
                float(total["expected_value"]) / n,
                _ends(total, "value_low", "value_high", n),
                "welcome",
                of,
            )
        )
    return lines


def _ends(row: Any, low: str, high: str, each: int) -> tuple[float, float] | None:
    known = not wording.missing(row[low]) and not wording.missing(row[high])
    return (float(row[low]) / each, float(row[high]) / each) if known else None


def _range(ends: tuple[float, float] | None) -> str:
    return "" if ends is None else f", {wording.money(ends[0])} to {wording.money(ends[1])}"


def change(about: Contents) -> Figure | None:
    """Draw the components of the change of spend since the earlier day."""
    if about.changes is None or about.changes.parts.empty:
        return None
    parts = about.changes.parts
    rows, run = [], 0.0
    for i, p in enumerate(rows_of(parts)):
        ends = i in (0, len(parts) - 1)
        start, value = (0.0, float(p.spend)) if ends else (run, float(p.spend))
        run = value if i == 0 else run + value if not ends else run
        text = wording.money(value) if ends else wording.signed(value)
        css = "leave" if ends else "keep" if value >= 0 else "win-back"
        if ends or p.customers:
            label = p.part.replace("spend in the", "spend,").replace(
                " of those who bought again", ", bought again"
            )
            rows.append(
                BarRow(
                    label[0].upper() + label[1:],
                    (Bar(value, text, css, f"{p.part}: {text}", start=start),),
                )
            )
    return Figure(
        "change", about.changes.spend_in_words,
        "From the spend before, part by part, to the spend after. Customers who returned had "
        "bought before, but not in the earlier period.",
        charts.both(lambda w: charts.bars(rows, w)), ("part", "customers", "spend"),
        tuple((p.part, wording.count(p.customers),
        wording.money(p.spend, 2)) for p in rows_of(parts)),
    )  # fmt: skip
