"""The state of a row, and the trees that determine it."""

from collections.abc import Sequence
from enum import IntEnum

from sqlglot import exp

from fairladder.conditions import to_engine
from fairladder.errors import SchemeError, nearest
from fairladder.orders import cells
from fairladder.orders.recipe import Recipe
from fairladder.orders.source import FILE
from fairladder.orders.words import TOTAL_WORDS
from fairladder.sqltree import (
    all_of,
    any_of,
    case,
    cell_column,
    column,
    day_literal,
    named,
    select,
    sql,
)


class RowState(IntEnum):
    """The state of a row, numbered as in queries; the first that applies wins."""

    BLANK_ROW = -1
    """The row is completely blank, and is not even counted as read."""
    USED = 0
    TOTAL_ROW = 1
    UNDECIDED = 2
    """The row lacks customer, order and date: blank, a total, or ``NO_CUSTOMER``, depending on the
    sums of all rows.
    """
    NO_CUSTOMER = 3
    NO_ORDER = 4
    NO_DATE = 5
    BAD_DATE = 6
    NO_AMOUNT = 7
    BAD_AMOUNT = 8
    OTHER_CURRENCY = 9
    CONFLICTING_TOTAL = 10
    FILTERED_OUT = 20
    """``where`` is false for the row."""
    UNKNOWN = 21
    """``where`` is unknown for the row, because of a blank cell."""
    REPEAT = 22
    """The row was dropped because it repeats another row."""
    OLDER = 23
    """The row was dropped because it belongs to an older version of its order."""
    OUTSIDE = 30
    """The row is after the as-of date, or outside the date range."""
    NEITHER = 40
    """For groups as written: the row lacks both order and date, until its customer is examined."""

    @property
    def reason(self) -> str:
        """The reason as named in the definitions: ``no-customer``."""
        return self.name.lower().replace("_", "-")


#: The states of rows that are set aside, in the order in which they are checked.
SET_ASIDE = (
    RowState.TOTAL_ROW,
    *(s for s in RowState if RowState.NO_CUSTOMER <= s <= RowState.CONFLICTING_TOTAL),
)


def whole_state(
    recipe: Recipe,
    customer: exp.Expr,
    no_order: exp.Expr | None,
    no_date: exp.Expr,
    cell_state: exp.Expr,
) -> exp.Expr:
    """Return the final state of a row from its trimmed customer id, whether its order id and date
    are blank, and ``#cell_state``.
    """
    no_customer = sql(":c IS NULL", c=customer)
    branches = [
        *(
            [(_says_total(customer, recipe.plainly), exp.Literal.number(RowState.TOTAL_ROW))]
            if recipe.kind("customer") == "text"
            else []
        ),
        (
            all_of([no_customer, no_date, *([no_order] if no_order else [])]),
            exp.Literal.number(RowState.UNDECIDED),
        ),
        (no_customer, exp.Literal.number(RowState.NO_CUSTOMER)),
        *([(no_order, exp.Literal.number(RowState.NO_ORDER))] if no_order else []),
    ]
    return sql("CAST(:s AS TINYINT)", s=case(branches, cell_state))


def _says_total(customer: exp.Expr, plainly: bool) -> exp.Expr:
    words = exp.Tuple(expressions=[exp.Literal.string(w) for w in TOTAL_WORDS])
    is_total = sql(
        "LOWER(REGEXP_REPLACE(TRIM(REGEXP_REPLACE(:c, '\\s*:$', '')), '\\s+', ' ', 'g')) IN :words",
        c=customer,
        words=words,
    )
    if plainly:
        return is_total
    # Only an id that does not end in a digit is worth the regular expressions.
    return sql(
        "CASE WHEN ARRAY_EXTRACT(:c, -1) BETWEEN '0' AND '9' THEN FALSE ELSE :said END",
        c=customer,
        said=is_total,
    )


def cell_state(recipe: Recipe) -> exp.Expr:
    """Return the first state that applies without regard to ids; blank cells are checked only where
    it matters.
    """
    code = {state: exp.Literal.number(state) for state in RowState}
    no_day = sql(":d IS NULL", d=column("#day"))
    kind = recipe.kind("placed") or "text"
    no_placed = (
        sql("(:p IS NULL)", p=column("#placed"))
        if kind == "text"
        else cells.blank(column("#placed"), kind)
    )
    branches = [
        (all_of([no_day, no_placed]), code[RowState.NO_DATE]),
        (no_day, code[RowState.BAD_DATE]),
        (
            sql(":m IS NULL AND :b", m=column("#minor"), b=_no_amount(recipe)),
            code[RowState.NO_AMOUNT],
        ),
        *([] if recipe.rates is None else _other_currency(recipe, code[RowState.OTHER_CURRENCY])),
        (sql(":m IS NULL", m=column("#minor")), code[RowState.BAD_AMOUNT]),
        *(_other_currency(recipe, code[RowState.OTHER_CURRENCY]) if recipe.rates is None else []),
        *_filtered_out(recipe),
        *_outside(recipe),
    ]
    return sql("CAST(:r AS TINYINT)", r=case(branches, exp.Literal.number(RowState.USED)))


def _no_amount(recipe: Recipe) -> exp.Expr:
    kinds = recipe.source.columns
    return any_of(cells.blank(cell_column(f), kinds[f]) for f in recipe.roles.factors)


def _other_currency(recipe: Recipe, code: exp.Expr) -> list[tuple[exp.Expr, exp.Expr]]:
    wanted = recipe.scheme.money.currency
    if wanted is None or not recipe.has_currencies:
        return []
    if recipe.rates is not None:
        return [(sql(":r IS NULL", r=column("#rate")), code)]
    return [
        (sql(":c IS DISTINCT FROM :w", c=column("#currency"), w=exp.Literal.string(wanted)), code)
    ]


def _filtered_out(recipe: Recipe) -> list[tuple[exp.Expr, exp.Expr]]:
    if recipe.condition is None:
        return []
    values = recipe.condition_cells()
    holds = to_engine(recipe.condition, values)
    unknown = (sql(":h IS NULL", h=holds), exp.Literal.number(RowState.UNKNOWN))
    return [unknown, (sql("NOT :h", h=holds), exp.Literal.number(RowState.FILTERED_OUT))]


def _outside(recipe: Recipe) -> list[tuple[exp.Expr, exp.Expr]]:
    time = recipe.scheme.time
    ends = [d for d in (time.as_of, time.through) if d is not None]
    beyond = []
    if time.from_ is not None:
        beyond.append(sql(":d < :day", d=column("#day"), day=day_literal(time.from_)))
    if ends:
        beyond.append(sql(":d > :day", d=column("#day"), day=day_literal(min(ends))))
    return [(test, exp.Literal.number(RowState.OUTSIDE)) for test in beyond]


#: The state of rows before some are dropped; the final one is in ``#state``. Both stay, since few
#: databases can leave out columns of ``*``.
JUDGED = "#judged"


def without_conflicts(stated: exp.Select, name: str) -> exp.Select:
    """Return the rows, whose state is in ``#first``, with their state in the column ``name``, which
    marks those of orders whose repeated totals disagree among the rows that ``where`` keeps.
    """
    pair = [column("#customer"), column("#order")]
    disagree = (
        select(pair, stated, "stated")
        .where(
            sql(
                ":s IN (:used, :out)", s=column("#first"), used=RowState.USED, out=RowState.OUTSIDE
            ),
            copy=False,
        )
        .group_by(*pair, copy=False)
        .having(sql("MIN(:m) <> MAX(:m)", m=column("#minor")), copy=False)
    )
    hit = all_of(
        [
            sql(
                ":s IN (:used, :out)", s=column("#first"), used=RowState.USED, out=RowState.OUTSIDE
            ),
            exp.In(this=exp.Tuple(expressions=pair), query=disagree.subquery(copy=False)),
        ]
    )
    state = case([(hit, exp.Literal.number(RowState.CONFLICTING_TOTAL))], column("#first"))
    return select(["*", named(state, name)], stated, "judged")


def without_repeats(recipe: Recipe, judged: exp.Select) -> exp.Select:
    """Return the rows, whose state is in ``JUDGED``, with ``#state``, which marks those that ``drop``
    excludes: repeats, or rows of older versions of their order.
    """
    drop = recipe.scheme.orders.drop
    if drop == "older-versions":
        return _marked(judged, *_older_versions(recipe), RowState.OLDER)
    several = bool(recipe.source.parts)
    cells_of = [
        cell_column(name) for name in recipe.source.columns if not (several and name == FILE)
    ]
    if drop == "repeats" or not several:
        order = [exp.Ordered(this=column(FILE))] if several else []
        place = _row_number([column(JUDGED), *cells_of], order)
        never = exp.false() if drop == "repeats-across-files" else sql(":p > 1", p=column("#place"))
        return _marked(judged, [named(place, "#place")], never, RowState.REPEAT)
    # The n-th copy in one file equals the n-th copy in another, so as many stay as the file with
    # most of them has.
    copy = _row_number([column(JUDGED), *cells_of, column(FILE)], [])
    copied = select(["*", named(copy, "#copy")], judged, "copied")
    place = _row_number(
        [column(JUDGED), *cells_of, column("#copy")], [exp.Ordered(this=column(FILE))]
    )
    return _marked(
        copied, [named(place, "#place")], sql(":p > 1", p=column("#place")), RowState.REPEAT
    )


def _row_number(partition: Sequence[exp.Expr], order: Sequence[exp.Expr]) -> exp.Window:
    return exp.Window(
        this=exp.RowNumber(),
        partition_by=list(partition),
        order=exp.Order(expressions=list(order)) if order else None,
    )


def _older_versions(recipe: Recipe) -> tuple[list[exp.Expr], exp.Expr]:
    """Return columns for the version of each used row and the latest of its order, and a condition
    for older rows.

    Raises SchemeError if neither files nor a column distinguish versions, or orders have no ids.
    """
    source, by = recipe.source, recipe.scheme.orders.version
    if not recipe.has_orders:
        raise SchemeError(
            '`drop = "older-versions"` needs order ids. Name their column with `order` under '
            "[orders]."
        )
    if by is not None:
        if by not in source.columns:
            raise SchemeError(
                f"{source.label} has no column `{by}`, which `version` names. "
                f"{nearest(by, source.columns)}"
            )
        version: exp.Expr = cell_column(by)
    elif source.parts:
        ranks = [
            (sql(":f = :n", f=column(FILE), n=exp.Literal.string(n)), exp.convert(i))
            for i, n in enumerate(source.part_names)
        ]
        version = case(ranks, exp.convert(0))
    else:
        raise SchemeError(
            f'{source.label} is one file, so `drop = "older-versions"` needs a column that sorts the '
            "versions. Name it with `version` under [orders] (--version-column)."
        )
    latest = exp.Window(
        this=exp.Max(this=version),
        partition_by=[column(JUDGED), column("#customer"), column("#order")],
    )
    # A row without a version is older than any row with one.
    older = sql(":l IS NOT NULL AND :v IS DISTINCT FROM :l", v=version, l=column("#latest"))
    return [named(latest, "#latest")], older


def _marked(
    judged: exp.Select, added: list[exp.Expr], dropped: exp.Expr, state: RowState
) -> exp.Select:
    """Add columns to compute which used rows are ``dropped``, and ``#state``, which is another one
    for those.
    """
    placed = select(["*", *added], judged, "placed")
    marked = sql(
        "CASE WHEN :s = :u AND :d THEN :r ELSE :s END",
        s=column(JUDGED),
        u=RowState.USED,
        d=exp.paren(dropped),
        r=state,
    )
    return select(["*", named(marked, "#state")], placed, "counted")
