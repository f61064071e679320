"""The reduction: order rows → orders → customers, as one query of mergeable aggregates.

It uses two GROUP BYs with COUNT, SUM, MIN and MAX only. Unused rows are grouped under their state,
so one pass gives both the customers and the balance.
"""

from collections.abc import Sequence

from sqlglot import exp

from fairladder.book.lines import SIGNS, KeptLines, line_signs, lines, reads_offsets
from fairladder.book.spend import ignores_refunds
from fairladder.orders import cells
from fairladder.orders.rows import Rows
from fairladder.orders.states import RowState, whole_state
from fairladder.sqltree import case, column, named, select, sql


def reduction(rows: Rows, as_written: bool, kept: exp.Expr | None = None) -> exp.Select:
    """Return the whole reduction as one tree: one row per customer with used rows, and rows for
    each other state.

    Columns: ``state``, ``currency``, ``customer`` (text), counts, dates, amounts in minor units,
    and for the balance ``rows_read`` and ``rows_amount``. With ``as_written`` ids are grouped
    untrimmed, and ``untrimmed`` shows whether that is wrong because two spellings could be one id.
    ``kept`` is a table of ``orders_of``, if there is one.
    """
    customers = _customers(rows, as_written, orders_of(rows, as_written) if kept is None else kept)
    names = [
        c.alias
        for c in customers.selects
        if c.alias not in ("state", "customer", "untrimmed_order")
    ]
    trees = {"state": exp.column("state"), "customer": sql("CAST(customer AS VARCHAR)")}
    if as_written:
        kind = rows.kind("customer") or "text"
        trimmed = (
            cells.text(exp.column("customer"), kind) if kind == "text" else exp.column("customer")
        )
        state, dateless = (
            exp.column("state"),
            sql("state IN (:a, :b)", a=RowState.NO_DATE, b=RowState.NEITHER),
        )
        orderless = (
            sql("state IN (:a, :b)", a=RowState.NO_ORDER, b=RowState.NEITHER)
            if rows.has_orders
            else None
        )
        trees["state"] = whole_state(rows, trimmed, orderless, dateless, state)
        if kind == "text":
            trees["customer"] = trimmed
            names.append("untrimmed")
            trees["untrimmed"] = sql(
                "untrimmed_order OR COALESCE(:t <> customer, FALSE)", t=trimmed
            )
    if rows.channels is not None:
        names.insert(names.index("channel_bits"), "only_channel")
        trees["only_channel"] = _only_channel(rows.channels)
    columns = [
        named(trees.get(n, exp.column(n, quoted=True)), n) for n in ["state", "customer", *names]
    ]
    return select(columns, customers, "customers").order_by("state", "customer", copy=False)


def mergeable_groups(rows: Rows, orders: exp.Expr) -> exp.Select:
    """Return the groups of ``reduction`` from trimmed ``orders``, in columns that ``MERGED`` can
    merge with those of other orders.
    """
    return _customers(rows, False, orders, mergeable=True)


#: How each column of ``mergeable_groups`` is merged with the same customer's of other orders.
MERGED = {
    **dict.fromkeys(("orders", "refunds", "zero_orders", "lines", "spend", "rows_read",
    "rows_amount"), "SUM"),
    **dict.fromkeys(("first_order", "smallest_order", "channel_low"), "MIN"),
    **dict.fromkeys(("last_order", "largest_order", "latest_row", "name", "channel_high", "offsets",
    "unread"), "MAX"),
    **dict.fromkeys(SIGNS, "SUM"),
}  # fmt: skip


def merged_groups(names: Sequence[str], groups: exp.Expr) -> exp.Select:
    """Merge several tables of ``mergeable_groups``, with columns ``names``, into one."""
    keys = [n for n in names if n in GROUP_KEYS]
    whole = {
        n: f"CAST({how}(:c) AS BIGINT)" if how == "SUM" else f"{how}(:c)"
        for n, how in (MERGED | _REPEATED_SUMS).items()
    }
    trees = {n: column(n) if n in keys else sql(whole[n], c=column(n)) for n in names}
    merged = select([named(tree, n) for n, tree in trees.items()], groups)
    return merged.group_by(*map(column, keys), copy=False)


def reduction_of_groups(rows: Rows, groups: exp.Expr) -> exp.Select:
    """Return ``reduction`` from a table of ``mergeable_groups``."""
    plain = _customers(rows, False, exp.to_table("orders"))
    trees = {
        "customer": sql("CAST(customer AS VARCHAR)"),
        "name": sql("SUBSTRING(name, 11)"),
        "only_channel": sql(
            "CASE WHEN channel_low = channel_high THEN NULLIF(channel_low, '') END"
        ),
    }
    columns = [named(trees.get(c.alias, column(c.alias)), c.alias) for c in plain.selects]
    return select(columns, groups).order_by("state", "customer", copy=False)


#: The keys of the reduction's groups.
GROUP_KEYS = ("state", "customer", "currency")


def _customers(
    rows: Rows, as_written: bool, orders: exp.Expr, mergeable: bool = False
) -> exp.Select:
    """Group orders by customer. Values that count for purchases only are null in other orders, so
    that one pass is enough.

    With ``mergeable`` the latest name keeps its day, and of channels the lowest and the highest are
    kept.
    """
    name = "MAX(name)" if mergeable else "SUBSTRING(MAX(name), 11)"
    channel = {"only_channel": _ONE_TEXT}
    if mergeable:
        channel = {"channel_low": "MIN(paid_channel)", "channel_high": "MAX(paid_channel)"}
    time = rows.scheme.time
    has = set(order_columns(rows, as_written))
    state: exp.Expr = exp.column("state")
    untrimmed: dict[str, exp.Expr] = {}
    if as_written:
        untrimmed["untrimmed_order"] = exp.false()
        if rows.has_orders and rows.kind("order") == "text":
            order, clean = (
                cells.text(exp.column("order_id"), "text"),
                cells.plainly_trimmed(exp.column("order_id")),
            )
            neither = sql(
                "CASE WHEN state = :d THEN :n ELSE :o END",
                d=RowState.NO_DATE,
                n=RowState.NEITHER,
                o=RowState.NO_ORDER,
            )
            state = sql(
                "CASE WHEN :c THEN state WHEN :o IS NULL THEN :n ELSE state END",
                c=clean,
                o=order,
                n=neither,
            )
            untrimmed["untrimmed_order"] = sql(
                "CASE WHEN :c THEN FALSE ELSE COALESCE(:o <> order_id, FALSE) END", c=clean, o=order
            )
    paid = {
        name: sql("CASE WHEN amount > 0 THEN :c END", c=exp.column(name))
        for name in ("amount", "day", "lines")
    }
    if "channel" in has:
        paid["channel"] = sql("CASE WHEN amount > 0 THEN COALESCE(channel, '') END")
    if "channel_bits" in has:
        paid["channel"] = sql("CASE WHEN amount > 0 THEN channel_bits END")
    parts = [named(tree, f"paid_{name}") for name, tree in paid.items()]
    parts += [named(tree, name) for name, tree in untrimmed.items()]
    others = [
        exp.column(n)
        for n in (
            "currency",
            "customer",
            "amount",
            "rows_amount",
            "lines",
            "latest",
            "name",
            "offsets",
            "unread",
            "least",
            "files",
            *SIGNS,
        )
        if n in has
    ]
    divided = select([named(state, "state"), *others, *parts], orders, "orders")
    measures = {
        "orders": "COUNT(paid_amount)",
        "refunds": "COUNT(CASE WHEN amount < 0 THEN 1 END)",
        "zero_orders": "COUNT(CASE WHEN amount = 0 THEN 1 END)",
        "lines": "SUM(paid_lines)",
        "first_order": "MIN(paid_day)",
        "last_order": "MAX(paid_day)",
        "spend": "SUM(paid_amount)" if ignores_refunds(rows.scheme) else "SUM(amount)",
        "smallest_order": "MIN(paid_amount)",
        "largest_order": "MAX(paid_amount)",
        "rows_read": "SUM(lines)",
        "rows_amount": "SUM(rows_amount)" if "rows_amount" in has else "SUM(amount)",
        **({"latest_row": "MAX(latest)"} if time.as_of is None and time.through is None else {}),
        **({"name": name} if "name" in has else {}),
        **(channel if "channel" in has else {}),
        **({"channel_bits": "BIT_OR(paid_channel)"} if "channel_bits" in has else {}),
        **({"offsets": "MAX(offsets)"} if "offsets" in has else {}),
        **({"unread": "MAX(unread)"} if "unread" in has else {}),
        **({"untrimmed_order": "BOOL_OR(untrimmed_order)"} if as_written else {}),
        **(repeated_totals("files" in has) if "least" in has else {}),
        **{name: f"CAST(SUM({name}) AS BIGINT)" for name in SIGNS if name in has},
    }  # fmt: skip
    keys = [exp.column(n) for n in GROUP_KEYS if n in has]
    columns = [
        *(named(k, k.name) for k in keys),
        *(named(sql(tree), name) for name, tree in measures.items()),
    ]
    return select(columns, divided, "divided").group_by(*keys, copy=False)


def by_state(reduced: exp.Select, groups: exp.Expr) -> exp.Select:
    """Sum the groups of ``reduction``, kept in ``groups``, by state and currency, for the account
    of a pass.

    ``customers`` counts the groups, ``largest`` is the largest of their whole numbers, and
    ``positive`` the total of positive spend.
    """
    there = [c.alias for c in reduced.selects]
    keys = [column(n) for n in ("state", "currency") if n in there]
    largest = [n for n in ("latest_row", "offsets", "unread") if n in there]
    sums = [n for n in ("rows_read", "rows_amount", *_REPEATED, *SIGNS) if n in there]
    trees = {n: sql(f"MAX({n})") for n in largest} | {n: sql(f"SUM({n})") for n in sums}
    if "untrimmed" in there:
        trees["untrimmed"] = sql("BOOL_OR(untrimmed)")
    if "channel_bits" in there:
        trees["channel_bits"] = sql("BIT_OR(channel_bits)")
    sizes = [
        sql("COALESCE(ABS(:c), 0)", c=column(n))
        for n in ("spend", "smallest_order", "largest_order", "lines")
    ]
    trees |= {
        "customers": sql("COUNT(*)"),
        "largest": sql("MAX(:g)", g=exp.Greatest(this=sizes[0], expressions=sizes[1:])),
        "positive": sql("SUM(CASE WHEN spend > 0 THEN spend ELSE 0 END)"),
    }
    columns = [
        *(named(k, k.name) for k in keys),
        *(named(tree, name) for name, tree in trees.items()),
    ]
    return select(columns, groups).group_by(*keys, copy=False).order_by("state", copy=False)


#: True if all rows of an order have one amount: their sum is the smallest times their number.
SAME = "amount = least * lines"


def repeated_totals(several_files: bool) -> dict[str, str]:
    """Return aggregates for orders with several rows, those that repeat one amount on each row, and
    the spend that this adds.

    Rows in several files repeat each other, which is no sign of repeated totals.
    """
    one = "lines > 1 AND least <> 0" + (" AND files = 1" if several_files else "")
    return {
        "all_orders": "COUNT(*)",
        "several_rows": f"COUNT(CASE WHEN {one} THEN 1 END)",
        "repeated_orders": f"COUNT(CASE WHEN {one} AND {SAME} THEN 1 END)",
        "repeated_money": f"CAST(SUM(CASE WHEN {one} AND {SAME} THEN amount - least END) AS BIGINT)",
    }


_REPEATED = tuple(repeated_totals(several_files=False))
_REPEATED_SUMS = dict.fromkeys(_REPEATED, "SUM")


_ONE_TEXT = "CASE WHEN MIN(paid_channel) = MAX(paid_channel) THEN NULLIF(MIN(paid_channel), '') END"


def _only_channel(channels: tuple[str, ...]) -> exp.Expr:
    """Return the single channel of all purchases, from their bits."""
    branches = [
        (sql("channel_bits = :b", b=2 ** (i + 1)), exp.Literal.string(t))
        for i, t in enumerate(channels)
    ]
    return case(branches, exp.cast(exp.null(), "VARCHAR"))


def orders_of(rows: Rows, as_written: bool, kept: KeptLines | None = None) -> exp.Select:
    """Group rows by order, from ``kept`` if the rows are kept; without order ids each row is an
    order.

    Unused rows become one order per state, unless ids are as written. Kept rows also give the
    ``least`` amount and, in the embedded engine, ``marks``: as many bits as rows only if all rows
    of the order differ.
    """
    columns = order_columns(rows, as_written, looked_at=kept is not None)
    if kept is not None and kept.marked and rows.has_orders:
        columns["marks"] = sql("BIT_OR(CAST(1 AS BIGINT) << CAST(twin % 63 AS INTEGER))")
    trees = [named(t, name) for name, t in columns.items()]
    orders = select(trees, lines(rows, as_written) if kept is None else kept.table, "order_lines")
    keys = [c for c in orders.selects if c.alias in ("state", "customer", "order_id", "currency")]
    return (
        orders.group_by(*(exp.convert(i + 1) for i in range(len(keys))), copy=False)
        if rows.has_orders
        else orders
    )


def order_columns(rows: Rows, as_written: bool, looked_at: bool = False) -> dict[str, exp.Expr]:
    """Return name → tree of an order's columns: its keys first, then its aggregates."""
    trees: dict[str, exp.Expr] = {"state": column("state")}
    counts = (
        sql("state = :used OR state = :out", used=RowState.USED, out=RowState.OUTSIDE)
        if looked_at
        else sql("state = :u", u=RowState.USED)
    )
    for name in ("customer", *(["order_id"] if rows.has_orders else [])):
        trees[name] = (
            column(name)
            if as_written
            else sql("CASE WHEN :u THEN :c END", u=counts, c=column(name))
        )
    if rows.by_currency:
        trees["currency"] = column("currency")
    each = not rows.has_orders
    repeated = rows.scheme.orders.amount_is == "order"
    minor, day = column("minor"), column("day")
    trees |= {
        "amount": minor
        if each
        else sql(f"CAST({'MIN' if repeated else 'SUM'}(:m) AS BIGINT)", m=minor),
        "day": day if each else sql("MIN(:d)", d=day),
        "lines": exp.Literal.number(1) if each else sql("CAST(COUNT(*) AS INTEGER)"),
    }
    if repeated and not each:
        trees["rows_amount"] = sql("SUM(:m)", m=minor)
    if rows.scheme.time.as_of is None and rows.scheme.time.through is None:
        trees["latest"] = day if each else sql("MAX(:d)", d=day)
    if rows.roles.get("name"):
        # ISO dates sort as text, so the greatest pair has the latest name, and the greatest name of
        # that day.
        dated = sql("CAST(:d AS VARCHAR) || :n", d=day, n=column("name"))
        trees["name"] = dated if each else sql("MAX(:x)", x=dated)
    if rows.channels is not None:
        trees["channel_bits"] = (
            column("channel_bits") if each else sql("BIT_OR(:b)", b=column("channel_bits"))
        )
    elif rows.roles.get("channel"):
        written = sql("COALESCE(:x, '')", x=column("channel"))
        agreed = "CASE WHEN MIN(:x) = MAX(:x) THEN NULLIF(MIN(:x), '') END"
        trees["channel"] = column("channel") if each else sql(agreed, x=written)
    if reads_offsets(rows):
        trees["offsets"] = column("offset") if each else sql("MAX(:x)", x=column("offset"))
    if rows.unread is not None:
        trees["unread"] = column("unread") if each else sql("MAX(:x)", x=column("unread"))
    if not each and (looked_at or can_repeat_totals(rows)):
        trees |= {"least": sql("MIN(:m)", m=minor)}
    if not each and rows.source.parts:
        trees["files"] = sql("CASE WHEN MIN(home) = MAX(home) THEN 1 ELSE 2 END")
    for name in line_signs(rows):
        trees[name] = column(name) if each else sql("CAST(SUM(:x) AS BIGINT)", x=column(name))
    return trees


def can_repeat_totals(rows: Rows) -> bool:
    """Return True if an order's rows add up, so that equal amounts on all of them suggest a joined
    total.
    """
    return rows.has_orders and rows.scheme.orders.amount_is == "line" and not rows.plainly
