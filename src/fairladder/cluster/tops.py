"""Top lists of customers that stay on a cluster."""

from sqlglot import exp

from fairladder import columns
from fairladder.cluster.scoring import as_number, kinds_of
from fairladder.cluster.standing import standing
from fairladder.engine.protocol import Engine
from fairladder.errors import DataError, UsageError
from fairladder.scores.top import check_places
from fairladder.sqltree import column, named, select, sql


def top_query(
    engine: Engine, people: exp.Expr, by: str, *, count: int | None, percent: float | None, worst: bool, within: str | None,
    everybody: bool, ties: str,
) -> exp.Select:  # fmt: skip
    """The list of ``scores.top`` over customers kept in ``people``, by rank and then by id.

    Raises UsageError and DataError as that does, and for ``within``, which is not done on a cluster.
    """
    if within is not None:
        raise UsageError(
            "On a cluster a list is of all customers. Leave out `within`, or ask for one group at a time with a condition."
        )
    kinds = kinds_of(engine, people)
    if "rank" in kinds:
        raise UsageError(
            "The customers have a column `rank`, which a list on a cluster cannot show beside its own. Rename it."
        )
    share = check_places(kinds, by, count, percent, ties)
    chosen = select(["*"], people) if everybody else select(["*"], people).where(sql("orders > 0"), copy=False)
    n = int(engine.table(select([named(sql("COUNT(*)"), "n")], chosen, "chosen"))["n"][0].as_py())
    if not n:
        raise DataError("No customer has a purchase, so there is no best and no worst.")
    wanted = (count or 10) if share is None else -(-share[0] * n // share[1])
    value = as_number(by, kinds)
    ranks = standing(engine, chosen.subquery("chosen", copy=False), value, {"customers": sql("1")})
    low = (columns.better(by) == "low") != worst
    known = exp.Select().select(sql("COALESCE(SUM(customers_here), 0)")).from_(ranks).subquery()
    better = column("customers_below") if low else sql(":k - customers_below - customers_here", k=known)
    # Nulls come last, and all of them at one place.
    placed = sql("CASE WHEN customers_here IS NULL THEN 1 + :k ELSE 1 + :b END", k=known, b=exp.paren(better))
    equal = sql("COALESCE(customers_here, :n - :k)", n=n, k=known)
    everything = exp.Column(this=exp.Star(), table=exp.to_identifier("chosen"))
    joined = select([named(placed, "rank"), named(equal, "equal"), everything], chosen.subquery("chosen"))
    joined = joined.join(
        exp.alias_(ranks, "ranks", table=True), on=exp.EQ(this=exp.paren(value.copy()), expression=sql("ranks.value")),
        join_type="left", copy=False,
    )  # fmt: skip
    # Where those who tie are left out, a whole run of equals must have room.
    last = sql("rank + equal - 1 <= :w", w=wanted) if ties == "exclude" else sql("rank <= :w", w=wanted)
    listed = select(["rank", *map(column, kinds)], joined, "ranked").where(last, copy=False)
    return listed.order_by("rank", column("customer"), copy=False)
