"""The reduction: order rows → orders → customers, as one query of aggregates that merge, and its measures.

Two GROUP BYs, COUNT, SUM, MIN and MAX only. Rows that are not used travel along under their state, so that one pass
over the data gives the customers and the balance together.
"""

import datetime as dt
from collections.abc import Collection
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray
from sqlglot import exp

from fairladder.errors import DataError
from fairladder.numbers import EXACT, ratio, standing
from fairladder.orders import cells
from fairladder.orders.lines import (
    SIGNS,
    KeptLines,
    line_signs,
    lines,
    offset_flag,
    reads_offsets,
    trimmed_ids,
    whole_state_of,
)
from fairladder.orders.rows import CODES, OUTSIDE, USED, Rows
from fairladder.sqltree import any_of, case, column, named, select, sql

if TYPE_CHECKING:
    import pandas as pd

#: The customers table's columns, in order; `name` and `only_channel` only where the orders or customers carry them.
COLUMNS = (
    "customer", "name", "orders", "refunds", "zero_orders", "lines", "first_order", "last_order", "recency_days",
    "tenure_days", "spend", "average_order_value", "smallest_order", "largest_order", "average_gap_days",
    "overdue_ratio", "spend_share", "spend_share_running", "spend_rank", "only_channel",
)  # fmt: skip


#: Measures of which less is better; of all others more is.
LOW_IS_BETTER = frozenset({"recency_days", "average_gap_days", "overdue_ratio", "first_order", "spend_rank", "refunds"})
#: Measures that do not add up over customers, so that nobody holds a share of their total.
NO_TOTAL = frozenset({
    "first_order", "last_order", "recency_days", "tenure_days", "average_order_value", "smallest_order", "largest_order",
    "average_gap_days", "overdue_ratio", "spend_share", "spend_share_running", "spend_rank",
})  # fmt: skip


def reduction(rows: Rows, as_written: bool, kept: exp.Expr | None = None) -> exp.Select:
    """The whole reduction as one tree: a row per customer with used rows, and rows for each other state of rows.

    Columns: ``state``, ``currency``, ``customer`` (text), counts, days, amounts in minor units, and for the balance
    ``rows_read`` and ``rows_amount``. With ``as_written`` ids are grouped as they stand, and ``untrimmed`` tells where
    that will not do because two ways of writing could be one id. ``kept`` is a table of ``orders_of``, where there is one.
    """
    customers = _customers(rows, as_written, orders_of(rows, as_written) if kept is None else kept)
    names = [c.alias for c in customers.selects if c.alias not in ("state", "customer", "untrimmed_order")]
    found = {"state": exp.column("state"), "customer": sql("CAST(customer AS VARCHAR)")}
    if as_written:
        kind = rows.kind("customer") or "text"
        trimmed = cells.text(exp.column("customer"), kind) if kind == "text" else exp.column("customer")
        state, dateless = exp.column("state"), sql("state IN (:a, :b)", a=CODES["no-date"], b=_NEITHER)
        orderless = sql("state IN (:a, :b)", a=CODES["no-order"], b=_NEITHER) if rows.has_orders else None
        found["state"] = rows.whole_state(trimmed, orderless, dateless, state)
        if kind == "text":
            found["customer"] = trimmed
            names.append("untrimmed")
            found["untrimmed"] = sql("untrimmed_order OR COALESCE(:t <> customer, FALSE)", t=trimmed)
    if rows.channels is not None:
        names.insert(names.index("channel_bits"), "only_channel")
        found["only_channel"] = _only_channel(rows.channels)
    columns = [named(found.get(n, exp.column(n, quoted=True)), n) for n in ["state", "customer", *names]]
    return select(columns, customers, "customers").order_by("state", "customer", copy=False)


#: State of rows that lack both order and date, until their customer is looked at.
_NEITHER = 40


def _customers(rows: Rows, as_written: bool, orders: exp.Expr) -> exp.Select:
    """Orders → customers. What counts for purchases only is null in the other orders, so that one pass will do."""
    money, time = rows.scheme.money, rows.scheme.time
    has = set(_order_columns(rows, as_written))
    state: exp.Expr = exp.column("state")
    untrimmed: dict[str, exp.Expr] = {}
    if as_written:
        untrimmed["untrimmed_order"] = exp.false()
        if rows.has_orders and rows.kind("order") == "text":
            order = cells.text(exp.column("order_id"), "text")
            neither = sql(
                "CASE WHEN state = :d THEN :n ELSE :o END", d=CODES["no-date"], n=_NEITHER, o=CODES["no-order"]
            )
            state = sql("CASE WHEN :o IS NULL THEN :n ELSE state END", o=order, n=neither)
            untrimmed["untrimmed_order"] = sql("COALESCE(:o <> order_id, FALSE)", o=order)
    paid = {name: sql("CASE WHEN amount > 0 THEN :c END", c=exp.column(name)) for name in ("amount", "day", "lines")}
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
            "most",
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
        "spend": "SUM(amount)" if money.refunds == "net" else "SUM(paid_amount)",
        "smallest_order": "MIN(paid_amount)",
        "largest_order": "MAX(paid_amount)",
        "rows_read": "SUM(lines)",
        "rows_amount": "SUM(rows_amount)" if "rows_amount" in has else "SUM(amount)",
        **({"latest_row": "MAX(latest)"} if time.as_of is None and time.through is None else {}),
        **({"name": "SUBSTRING(MAX(name), 11)"} if "name" in has else {}),
        **({"only_channel": _ONE_TEXT} if "channel" in has else {}),
        **({"channel_bits": "BIT_OR(paid_channel)"} if "channel_bits" in has else {}),
        **({"offsets": "MAX(offsets)"} if "offsets" in has else {}),
        **({"unread": "MAX(unread)"} if "unread" in has else {}),
        **({"untrimmed_order": "BOOL_OR(untrimmed_order)"} if as_written else {}),
        **(_repeated("files" in has) if "least" in has else {}),
        **{name: f"CAST(SUM({name}) AS BIGINT)" for name in SIGNS if name in has},
    }  # fmt: skip
    keys = [exp.column(n) for n in ("state", "customer", "currency") if n in has]
    columns = [*(named(k, k.name) for k in keys), *(named(sql(tree), name) for name, tree in measures.items())]
    return select(columns, divided, "divided").group_by(*keys, copy=False)


def _repeated(several_files: bool) -> dict[str, str]:
    """Orders with several rows, those of them that repeat one amount on each, and what that adds to spend.

    Rows that are in several files repeat one another, which says nothing of totals.
    """
    one = "lines > 1 AND least <> 0" + (" AND files = 1" if several_files else "")
    return {
        "all_orders": "COUNT(*)",
        "several_rows": f"COUNT(CASE WHEN {one} THEN 1 END)",
        "repeated_orders": f"COUNT(CASE WHEN {one} AND least = most THEN 1 END)",
        "repeated_money": f"CAST(SUM(CASE WHEN {one} AND least = most THEN amount - least END) AS BIGINT)",
    }


_ONE_TEXT = "CASE WHEN MIN(paid_channel) = MAX(paid_channel) THEN NULLIF(MIN(paid_channel), '') END"


def _only_channel(channels: tuple[str, ...]) -> exp.Expr:
    """The one channel of all purchases, from their bits."""
    branches = [(sql("channel_bits = :b", b=2 ** (i + 1)), exp.Literal.string(t)) for i, t in enumerate(channels)]
    return case(branches, exp.cast(exp.null(), "VARCHAR"))


def orders_of(rows: Rows, as_written: bool, kept: KeptLines | None = None) -> exp.Select:
    """Order rows → orders, from ``kept`` where the rows are kept; without order ids a row is one.

    Rows that are not used become one per state, unless ids are as written. From kept rows there are the ``least`` and ``most``
    amount, too, and in the embedded engine ``marks``: as many bits as rows only where all rows of the order differ.
    """
    columns = _order_columns(rows, as_written, looked_at=kept is not None)
    if kept is not None and kept.marked and rows.has_orders:
        columns["marks"] = sql("BIT_OR(CAST(1 AS BIGINT) << CAST(twin % 63 AS INTEGER))")
    found = [named(t, name) for name, t in columns.items()]
    orders = select(found, lines(rows, as_written) if kept is None else kept.table, "order_lines")
    keys = [c for c in orders.selects if c.alias in ("state", "customer", "order_id", "currency")]
    return orders.group_by(*(exp.convert(i + 1) for i in range(len(keys))), copy=False) if rows.has_orders else orders


def _order_columns(rows: Rows, as_written: bool, looked_at: bool = False) -> dict[str, exp.Expr]:
    """Name → tree of an order's columns: its keys first, then what its rows make of it."""
    found: dict[str, exp.Expr] = {"state": column("state")}
    counts = sql("state = :used OR state = :out", used=USED, out=OUTSIDE) if looked_at else sql("state = :u", u=USED)
    for name in ("customer", *(["order_id"] if rows.has_orders else [])):
        found[name] = column(name) if as_written else sql("CASE WHEN :u THEN :c END", u=counts, c=column(name))
    if rows.by_currency:
        found["currency"] = column("currency")
    each = not rows.has_orders
    repeated = rows.scheme.orders.amount_is == "order"
    minor, day = column("minor"), column("day")
    found |= {
        "amount": minor if each else sql(f"CAST({'MIN' if repeated else 'SUM'}(:m) AS BIGINT)", m=minor),
        "day": day if each else sql("MIN(:d)", d=day),
        "lines": exp.Literal.number(1) if each else sql("CAST(COUNT(*) AS INTEGER)"),
    }
    if repeated and not each:
        found["rows_amount"] = sql("SUM(:m)", m=minor)
    if rows.scheme.time.as_of is None and rows.scheme.time.through is None:
        found["latest"] = day if each else sql("MAX(:d)", d=day)
    if rows.roles.get("name"):
        # ISO days sort as text, so the greatest pair is the latest name, and of one day the greatest.
        dated = sql("CAST(:d AS VARCHAR) || :n", d=day, n=column("name"))
        found["name"] = dated if each else sql("MAX(:x)", x=dated)
    if rows.channels is not None:
        found["channel_bits"] = column("channel_bits") if each else sql("BIT_OR(:b)", b=column("channel_bits"))
    elif rows.roles.get("channel"):
        written = sql("COALESCE(:x, '')", x=column("channel"))
        agreed = "CASE WHEN MIN(:x) = MAX(:x) THEN NULLIF(MIN(:x), '') END"
        found["channel"] = column("channel") if each else sql(agreed, x=written)
    if reads_offsets(rows):
        found["offsets"] = column("offset") if each else sql("MAX(:x)", x=column("offset"))
    if rows.unread is not None:
        found["unread"] = column("unread") if each else sql("MAX(:x)", x=column("unread"))
    if not each and (looked_at or _tells_repeats(rows)):
        found |= {"least": sql("MIN(:m)", m=minor), "most": sql("MAX(:m)", m=minor)}
    if not each and rows.source.parts:
        found["files"] = sql("CASE WHEN MIN(home) = MAX(home) THEN 1 ELSE 2 END")
    for name in line_signs(rows):
        found[name] = column(name) if each else sql("CAST(SUM(:x) AS BIGINT)", x=column(name))
    return found


#: Columns of an order on its own; an orders' column of such a name is told apart by `` (cell)``.
LEDGER_COLUMNS = (
    "customer",
    "order",
    "placed_on",
    "amount",
    "lines",
    "nth",
    "kind",
    "gap_days",
    "share_of_customer",
    "before",
)


def order_rows(
    rows: Rows,
    customers: Collection[str] | None = None,
    columns: Collection[str] | None = None,
    mixed: bool = False,
    sequence: bool = True,
) -> exp.Select:
    """Used orders one by one, for commands that show them: window functions, which the reduction does without.

    Columns: ``customer``, ``order`` (with the role), ``placed_on``, ``amount`` (minor units), ``lines``, ``nth`` and ``before``
    (day of the purchase before) of purchases, and the orders' other columns, or those of ``columns``, where an order's
    rows agree, named ``of NAME``; where they do not, null; with ``mixed`` as text, the text
    ``mixed`` where they do not. ``customers`` picks ids. Without ``sequence`` there is no ``nth`` and no ``before``.
    """
    shown, others = _shown_columns(rows, columns)
    lines = select(
        [named(t, n) for n, t in _line_cells(rows, shown, others, mixed, sequence).items()], rows.tree(), "order_rows"
    )
    lines = lines.where(sql(":s = :used", s=column("#state"), used=USED), copy=False)
    if customers is not None:
        ids = exp.In(this=_id_text("#customer"), expressions=[exp.Literal.string(c) for c in customers])
        lines = lines.where(ids if customers else exp.false(), copy=False)
    orders = select(["*", named(exp.Literal.number(1), "lines")], lines, "lines")
    if rows.has_orders:
        keys = [column(k) for k in ("customer", "order")]
        grouped = [*keys, *(named(t, n) for n, t in _order_measures(rows, shown, mixed, sequence).items())]
        orders = select(grouped, lines, "lines").group_by(*keys, copy=False)
    return _sequenced(orders, rows, shown, others, sequence)


def kept_orders(rows: Rows, columns: Collection[str] | None, mixed: bool, sequence: bool) -> exp.Select:
    """All rows as orders with ids as written, those not used under their state: one pass for the balance and ``order_rows``.

    Columns: ``state`` (ids aside), ``currency`` where there is one, those of ``order_rows`` before they are numbered, and for
    the balance ``latest`` and, where text timestamps could carry them, ``offsets``; and ``unread`` where there is something to settle.
    """
    shown, others = _shown_columns(rows, columns)
    cells_of = {"state": column("#cell_state"), **_line_cells(rows, shown, others, mixed, sequence, as_written=True)}
    keys = ["state", "customer", "order"]
    if rows.by_currency:
        cells_of["currency"] = column("#currency")
        keys.append("currency")
    if reads_offsets(rows):
        cells_of["offset"] = offset_flag()
    cells_of |= line_signs(rows)
    measures = {**_order_measures(rows, shown, mixed, sequence), "latest": sql("MAX(placed_on)")}
    measures |= {name: sql("CAST(SUM(:x) AS BIGINT)", x=column(name)) for name in line_signs(rows)}
    measures |= {"least": sql("MIN(amount)"), "most": sql("MAX(amount)")} if _tells_repeats(rows) else {}
    measures |= {"offsets": sql('MAX("offset")')} if reads_offsets(rows) else {}
    if (unread := rows.unread) is not None:
        cells_of["unread"] = unread
        measures["unread"] = sql("MAX(unread)")
    lines = select([named(t, n) for n, t in cells_of.items()], rows.tree_as_written(), "order_rows")
    grouped = [*(column(k) for k in keys), *(named(t, n) for n, t in measures.items())]
    return select(grouped, lines, "lines").group_by(*(column(k) for k in keys), copy=False)


def kept_states(rows: Rows, kept: exp.Expr) -> exp.Select:
    """The balance of ``kept_orders``: rows and amounts by state and currency, ids looked at, and whether any needs trimming."""
    ids = trimmed_ids(rows, "order")
    untrimmed = [sql("COALESCE(:t <> :c, FALSE)", t=ids[n], c=column(n)) for n in ids if rows.kind(n) == "text"]
    told = {
        "state": whole_state_of(rows, "order"),
        "untrimmed": any_of(untrimmed) if untrimmed else exp.false(),
        **{
            n: column(n)
            for n in (
                "lines",
                "amount",
                "latest",
                *(["least", "most"] if _tells_repeats(rows) else []),
                *line_signs(rows),
            )
        },
        **({"currency": column("currency")} if rows.by_currency else {}),
        **{flag: column(flag) for flag in _flags(rows)},
    }
    looked = select([named(t, n) for n, t in told.items()], kept)
    measures = {
        "rows_read": "SUM(lines)",
        "rows_amount": "SUM(amount)",
        "latest_row": "MAX(latest)",
        "untrimmed": "BOOL_OR(untrimmed)",
    }
    measures |= {flag: f"MAX({flag})" for flag in _flags(rows)}
    measures |= _repeated(several_files=False) if _tells_repeats(rows) and not rows.source.parts else {}
    measures |= {name: f"CAST(SUM({name}) AS BIGINT)" for name in line_signs(rows)}
    keys = [column(n) for n in ("state", *(["currency"] if rows.by_currency else []))]
    summed = select([*keys, *(named(sql(m), n) for n, m in measures.items())], looked, "looked")
    return summed.group_by(*keys, copy=False)


def _tells_repeats(rows: Rows) -> bool:
    """Whether an order's rows add up, so that one amount on each of them is a sign of its total joined on."""
    return rows.has_orders and rows.scheme.orders.amount_is == "line"


def _flags(rows: Rows) -> list[str]:
    return [*(["offsets"] if reads_offsets(rows) else []), *(["unread"] if rows.unread is not None else [])]


def order_rows_of(
    rows: Rows, kept: exp.Expr, columns: Collection[str] | None, sequence: bool, bare: bool
) -> exp.Select:
    """``order_rows`` from what ``kept_orders`` kept; ``bare`` where no row's id puts it aside, so that states tell all."""
    shown, others = _shown_columns(rows, columns)
    state = column("state") if bare else whole_state_of(rows, "order")
    names = ["placed_on", "amount", "lines", *(["moment"] if sequence else []), *(f"of {n}" for n in shown)]
    texts = [named(_id_text(n), n) for n in ("customer", "order")]
    used = select([*texts, *(column(n) for n in names)], kept).where(sql(":s = :used", s=state, used=USED), copy=False)
    return _sequenced(used, rows, shown, others, sequence)


def _id_text(name: str) -> exp.Expr:
    return sql("CAST(:c AS VARCHAR)", c=column(name))


def _shown_columns(rows: Rows, columns: Collection[str] | None) -> tuple[list[str], list[str]]:
    """The orders' columns to show, and all that play no role of their own."""
    role = rows.roles.get
    taken = {
        role(r) for r in ("customer", "order", "placed", "amount", "unit_price", "quantity", "discount", "channel")
    }
    others = [name for name in rows.source.columns if name not in taken]
    channel = role("channel")
    everything = [*([channel if "channel" in rows.source.columns else "channel"] if channel else []), *others]
    return (everything if columns is None else list(columns)), others


def _line_cells(
    rows: Rows, shown: list[str], others: list[str], mixed: bool, sequence: bool, as_written: bool = False
) -> dict[str, exp.Expr]:
    """What is read of each row; ids as text, unless ``as_written``."""
    cell = rows.condition_cells()
    read: dict[str, exp.Expr] = {"customer": column("#customer") if as_written else _id_text("#customer")}
    if rows.has_orders:
        read["order"] = column("#order") if as_written else _id_text("#order")
    read |= {"placed_on": column("#day"), "amount": column("#minor")}
    if sequence:
        kind, zone = rows.kind("placed") or "text", rows.scheme.time.time_zone
        placed = rows.placed_text() if kind == "text" else column("#placed")
        read["moment"] = cells.moment(placed, column("#day"), kind, zone)
    read |= {f"of {name}": sql("CAST(:c AS VARCHAR)", c=cell[name]) if mixed else cell[name] for name in shown}
    if not rows.has_orders:
        read |= {f"by {name}": cell[name] for name in others}
    return read


def _order_measures(rows: Rows, shown: list[str], mixed: bool, sequence: bool) -> dict[str, exp.Expr]:
    """What rows make of an order."""
    add = "MIN" if rows.scheme.orders.amount_is == "order" else "SUM"
    # A text that no cell holds stands for null, so that two aggregates tell whether all rows agree.
    text = "COALESCE(:x, CHR(31))" if mixed else ":x"
    agreed = f"CASE WHEN MIN({text}) = MAX({text}) THEN NULLIF(MIN({text}), CHR(31)) ELSE 'mixed' END"
    if not mixed:
        agreed = "CASE WHEN COUNT(:x) = COUNT(*) AND MIN(:x) = MAX(:x) THEN MIN(:x) END"
    measures = {"placed_on": sql("MIN(placed_on)"), "amount": sql(f"CAST({add}(amount) AS BIGINT)")}
    measures |= {"moment": sql("MIN(moment)")} if sequence else {}
    measures |= {f"of {name}": sql(agreed, x=column(f"of {name}")) for name in shown}
    measures["lines"] = sql("COUNT(*)")
    return measures


def _sequenced(orders: exp.Select, rows: Rows, shown: list[str], others: list[str], sequence: bool) -> exp.Select:
    """Orders with their place in their customer's history."""
    keys = ["customer", *(["order"] if rows.has_orders else [])]
    last = ["order"] if rows.has_orders else ["amount", *(f"by {name}" for name in others)]
    found: list[exp.Expr] = [column(n) for n in (*keys, "placed_on", "amount", "lines")]
    found += [column(f"of {n}") for n in shown]
    if not sequence:
        return select(found, orders, "orders")
    paid = sql("CASE WHEN amount > 0 THEN 1 ELSE 0 END")
    by_time = exp.Order(expressions=[exp.Ordered(this=column(n)) for n in ("moment", *last)])
    history: dict[str, Any] = {"partition_by": [column("customer"), paid], "order": by_time}
    nth = exp.Window(this=exp.RowNumber(), **history)
    before = exp.Window(this=exp.Lag(this=column("placed_on")), **history)
    numbered = {
        "nth": sql("CASE WHEN amount > 0 THEN :n END", n=nth),
        "before": sql("CASE WHEN amount > 0 THEN :b END", b=before),
    }
    return select([*found, *(named(t, n) for n, t in numbered.items())], orders, "orders")


# ------------------------------------------------------------------------------------- measures of each customer


def customers_frame(reduced: pa.Table, decimals: int, extra: list[str]) -> "pd.DataFrame":
    """The used rows of the reduction as a frame of whole numbers and days, sorted by customer id.

    ``extra`` names the optional text columns. Amounts are minor units here; ``with_measures`` makes the rest.
    """
    import pandas as pd

    frame = pd.DataFrame({"customer": _text(reduced["customer"])})
    for name in ("orders", "refunds", "zero_orders", "lines", "spend", "smallest_order", "largest_order"):
        frame[name] = _whole(reduced[name], decimals)
    for name in ("first_order", "last_order"):
        frame[name] = reduced[name].to_numpy().astype("datetime64[s]")
    for name in extra:
        frame[name] = _text(reduced[name])
    return frame


def _text(values: pa.ChunkedArray) -> "pd.Series":
    import pandas as pd

    return pd.Series(values.cast(pa.large_string()), dtype="str")


def _whole(values: pa.ChunkedArray, decimals: int) -> NDArray[np.int64]:
    """Whole numbers with nulls as 0: sums of nothing."""
    numbers = values.fill_null(0)
    largest = max((abs(n) for n in (pc.min_max(numbers).as_py()).values() if n is not None), default=0)
    if largest > EXACT or float(pc.sum(pc.abs(pc.cast(numbers, pa.float64()))).as_py() or 0) > 2**62:
        raise DataError(
            f"Amounts come to more than {EXACT // 10**decimals:,}: too large to stay exact. Give the "
            "amounts in a larger unit, or fewer decimals under [money]."
        )
    whole: NDArray[np.int64] = numbers.cast(pa.int64()).to_numpy()
    return whole


def with_measures(frame: "pd.DataFrame", as_of: dt.date | None, decimals: int) -> "pd.DataFrame":
    """Add recency, averages, shares and ranks to the whole-number frame: the table of section 2, one row a customer.

    Every average and ratio is one correctly rounded division of whole numbers; nulls as the definitions say.
    """
    import pandas as pd

    scale = 10**decimals
    orders, spend = frame["orders"].to_numpy(), frame["spend"].to_numpy()
    bought = orders > 0
    first, last = (frame[c].to_numpy().astype("datetime64[D]") for c in ("first_order", "last_order"))
    today = np.datetime64(as_of or "1970-01-01", "D")
    recency, tenure = (_days(today - day, bought) for day in (last, first))
    span = _days(last - first, bought)
    shares = spend_shares(spend)
    columns: dict[str, Any] = {name: frame[name] for name in COLUMNS if name in frame}
    columns |= {
        "recency_days": pd.arrays.IntegerArray(recency, ~bought),
        "tenure_days": pd.arrays.IntegerArray(tenure, ~bought),
        "spend": ratio(spend, scale),
        "average_order_value": ratio(spend, orders * scale),
        "smallest_order": np.where(bought, ratio(frame["smallest_order"], scale), np.nan),
        "largest_order": np.where(bought, ratio(frame["largest_order"], scale), np.nan),
        "average_gap_days": np.where(orders >= 2, ratio(span, np.where(orders >= 2, orders - 1, 0)), np.nan),
        "overdue_ratio": np.where(orders >= 2, ratio(recency * (orders - 1), span), np.nan),
        **shares,
    }
    rest = [name for name in frame.columns if name not in COLUMNS]
    return pd.DataFrame({name: columns[name] for name in COLUMNS if name in columns} | {n: frame[n] for n in rest})


def _days(span: NDArray[np.timedelta64], known: NDArray[np.bool_]) -> NDArray[np.int64]:
    return np.where(known, span, np.timedelta64(0, "D")).astype("timedelta64[D]").astype(np.int64)


def spend_shares(spend: NDArray[np.int64]) -> dict[str, NDArray[Any]]:
    """Share, running share and rank of each customer's spend (minor units); equal spend, equal values.

    | spend | share | running | rank |
    |------:|------:|--------:|-----:|
    |    60 |   0.6 |     0.6 |    1 |
    |    20 |   0.2 |     1.0 |    2 |
    |    20 |   0.2 |     1.0 |    2 |
    |     0 |   0.0 |     1.0 |    4 |
    """
    ascending = np.sort(spend)
    total = int(ascending[ascending > 0].sum())
    below, at_most = standing(spend)
    running = np.concatenate([[0], np.cumsum(np.where(ascending > 0, ascending, 0))])
    held = total - running[below]
    positive = spend > 0
    whole = total if total else 1
    return {
        "spend_share": np.where(positive, ratio(spend, whole), 0.0),
        "spend_share_running": np.where(positive, ratio(held, whole), 1.0 if total else 0.0),
        "spend_rank": 1 + len(spend) - at_most,
    }
