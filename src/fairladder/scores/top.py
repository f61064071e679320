"""Top lists: the best or worst customers by any measure, including all who tie with the last
place.
"""

from collections.abc import Mapping, Sequence

import pyarrow as pa
from sqlglot import exp

from fairladder import columns
from fairladder.book.read import Read
from fairladder.book.standing import standing
from fairladder.conditions import Kind
from fairladder.engine.protocol import CustomerEngine
from fairladder.errors import DataError, UsageError
from fairladder.output.listing import Listing, rising
from fairladder.scores.fitting import check_there
from fairladder.scores.scored import MOST_GROUPS, as_number, kinds_of, require_few_groups
from fairladder.scores.selection import require_known
from fairladder.sqltree import column, named, select, sql


def top_list(
    orders: Read, people: exp.Expr, by: str, *, count: int | None = None,
    percent: float | None = None, worst: bool = False,
    within: str | None = None, all_customers: bool = False, ties: str = "include",
    columns: Sequence[str] | None = None,
) -> Listing:  # fmt: skip
    """Return the list of ``fairladder.top`` over customers kept in ``people``, with some of its
    columns.

    Raises UsageError and DataError as that does, and UsageError if ``within`` has too many values.
    """
    engine = orders.customer_engine
    query = top_query(
        engine,
        people,
        by,
        count=count,
        percent=percent,
        worst=worst,
        within=within,
        all_customers=all_customers,
        ties=ties,
    )
    for name in columns or ():
        require_known(name, query.named_selects)
    keys = [*([] if within is None else [distinct_name(within)]), "rank", "customer"]
    rows = select(["*"], engine.keep(query))
    return Listing(
        engine,
        rows,
        rising(keys),
        tuple(columns or query.named_selects),
        orders.frame_of,
        orders.carried_names,
    )


def top_query(
    engine: CustomerEngine, people: exp.Expr, by: str, *, count: int | None, percent: float | None,
    worst: bool, within: str | None,
    all_customers: bool, ties: str,
) -> exp.Select:  # fmt: skip
    """Return the rows of ``top_list`` with all columns, unordered."""
    kinds = kinds_of(engine, people)
    share = check_places(kinds, by, count, percent, ties)
    rows = (
        select(["*"], people)
        if all_customers
        else select(["*"], people).where(sql("orders > 0"), copy=False)
    )
    own = [named(as_number(by, kinds), "list value")]
    if within is not None:
        own.append(named(_part(within, kinds), "list part"))
    chosen = select(["*", *own], rows, "rows")
    sizes = _sizes(engine, chosen, within)
    wanted = [
        (count or 10) if share is None else -(-share[0] * n // share[1])
        for n in sizes["members"].to_pylist()
    ]
    ranked = _ranked(
        engine, chosen, sizes, wanted, within, low=(columns.better(by) == "low") != worst
    )
    # If ties are excluded, a whole run of equal values must fit.
    last = '"list rank" + "list equals" - 1' if ties == "exclude" else '"list rank"'
    first = [] if within is None else [within]
    shown = [
        named(column(n), distinct_name(n)) for n in (*first, *(n for n in kinds if n not in first))
    ]
    listed = select([named(column("list rank"), "rank"), *shown], ranked, "ranked")
    return listed.where(sql(f'{last} <= "list wanted"'), copy=False)


def distinct_name(name: str) -> str:
    """Return another name for a user's column that has the name of one of ours."""
    return f"{name} (cell)" if name == "rank" else name


def _part(within: str, kinds: Mapping[str, Kind]) -> exp.Expr:
    """Return the group as a text that is never null; customers without a group form their own."""
    check_there(kinds, group=within)
    return sql("COALESCE('=' || :c, '')", c=exp.cast(column(within), "VARCHAR"))


def _sizes(engine: CustomerEngine, chosen: exp.Select, within: str | None) -> pa.Table:
    """Return for each list the number of customers (``members``), and of those whose measure is not
    null (``known``).

    Raises DataError if there are no customers, UsageError if there are too many lists.
    """
    counts = [named(sql("COUNT(*)"), "members"), named(sql('COUNT("list value")'), "known")]
    parts = [] if within is None else [named(column("list part"), "part")]
    query = select([*parts, *counts], chosen, "chosen")
    if within is not None:
        query = query.group_by(column("list part"), copy=False).limit(MOST_GROUPS + 1, copy=False)
    sizes = engine.table(query)
    if within is not None:
        require_few_groups(len(sizes), within, "list")
    if not sum(sizes["members"].to_pylist()):
        raise DataError("No customer has a purchase, so there is no best and no worst.")
    return sizes


def _ranked(
    engine: CustomerEngine,
    chosen: exp.Select,
    sizes: pa.Table,
    wanted: Sequence[int],
    within: str | None,
    low: bool,
) -> exp.Select:
    """Return the customers with ``list rank``, ``list equals`` (how many share it) and ``list
    wanted``; with ``low``, less is better.
    """
    part = None if within is None else column("list part")
    ranks = standing(
        engine, chosen.subquery("chosen"), column("list value"), {"customers": sql("1")}, part
    )
    here, below = sql("ranks.customers_here"), sql("ranks.customers_below")
    if within is None:
        whole = sizes.to_pylist()[0]
        of = {
            "members": exp.convert(whole["members"]),
            "known": exp.convert(whole["known"]),
            "wanted": exp.convert(wanted[0]),
        }
    else:
        of = {n: exp.column(n, "sizes") for n in ("members", "known", "wanted")}
    better = below if low else sql("(:k - :b - :h)", k=of["known"], b=below, h=here)
    # Nulls come last, with equal ranks.
    trees = {
        "list rank": sql(
            "CAST(CASE WHEN :h IS NULL THEN 1 + :k ELSE 1 + :b END AS BIGINT)",
            h=here,
            k=of["known"],
            b=better,
        ),
        "list equals": sql("COALESCE(:h, :n - :k)", h=here, n=of["members"], k=of["known"]),
        "list wanted": of["wanted"],
    }
    everything = exp.Column(this=exp.Star(), table=exp.to_identifier("chosen"))
    ranked = select([everything, *(named(t, n) for n, t in trees.items())], chosen, "chosen")
    same = 'chosen."list value" = ranks.value' + (
        "" if within is None else ' AND chosen."list part" = ranks.part'
    )
    ranked = ranked.join(
        exp.alias_(ranks, "ranks", table=True), on=sql(same), join_type="left", copy=False
    )
    if within is None:
        return ranked
    sizes = sizes.append_column("wanted", pa.array(wanted, pa.int64()))
    offered = exp.alias_(engine.offer(sizes), "sizes", table=True)
    return ranked.join(offered, on=sql('chosen."list part" = sizes.part'), copy=False)


def check_places(
    kinds: Mapping[str, Kind], by: str, count: int | None, percent: float | None, ties: str
) -> tuple[int, int] | None:
    """Return the percentage as a fraction of whole numbers, or None. Raises UsageError for
    impossible arguments.
    """
    if kinds.get(by) not in ("number", "day", None):
        raise UsageError(
            f"`{by}` contains neither numbers nor dates, so customers cannot be ranked by "
            "it. Try spend, orders or recency_days."
        )
    if ties not in ("include", "exclude"):
        raise UsageError(f"Ties are include or exclude, not {ties!r}.")
    if count is not None and percent is not None:
        raise UsageError("Give either a count or a percent, not both.")
    if count is not None and count < 1:
        raise UsageError(f"A list has at least 1 place, not {count}.")
    if percent is None:
        return None
    if not 0 < percent <= 100:
        raise UsageError(f"A percentage is above 0 and up to 100, and {percent:g} is not.")
    return round(percent * 10_000), 1_000_000
