"""The registry of columns: the definition of every column in every result.

All other modules read it. To add a measure of customers, add an entry here and a line in
``book.measures``.
"""

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

if TYPE_CHECKING:
    import pandas as pd

#: The kinds of values in a column. ``money`` is in major units, ``share`` a fraction 0..1, ``days``
#: a number of days, ``score`` a rung, ``points`` a weighted sum of scores.
Kind = Literal[
    "id", "text", "count", "money", "day", "days", "share", "ratio", "score", "points", "truth"
]
Better = Literal["high", "low"]

#: The frame attribute with the settings that produced the customers, as JSON.
SCHEME = "fairladder_scheme"
#: The frame attribute with the names of columns copied from a user's file, which may have the same
#: names as ours.
CARRIED = "fairladder_carried"
#: The frame attribute with names of columns that are money in this result only.
ALSO_MONEY = "fairladder_money"
#: The frame attribute with names of columns that are shares in this result only.
ALSO_SHARES = "fairladder_shares"


@dataclass(frozen=True)
class Column:
    """One column of one table: its name, kind, better end, and whether it adds up over rows."""

    table: str
    name: str
    kind: Kind
    sentence: str
    """Its meaning, in one sentence."""
    better: Better = "high"
    adds_up: bool = False
    nulls: str = ""
    """When it is null; empty if never."""
    on_axis: str = ""
    """Its label on an axis, if the heading alone is not clear."""

    @property
    def title(self) -> str:
        """The column's heading: its name with spaces."""
        return self.name.replace("_", " ")

    @property
    def unit(self) -> str:
        """The unit of the column's numbers; empty if they have none."""
        return {"money": "the orders' currency", "days": "days", "share": "0 to 1"}.get(
            self.kind, ""
        )


def _table(table: str, *columns: Column) -> tuple[Column, ...]:
    return tuple(Column(table, *(getattr(c, f) for f in _FIELDS)) for c in columns)


_FIELDS = ("name", "kind", "sentence", "better", "adds_up", "nulls", "on_axis")


def _is(
    name: str,
    kind: Kind,
    sentence: str,
    *,
    better: Better = "high",
    adds_up: bool = False,
    nulls: str = "",
    on_axis: str = "",
) -> Column:
    return Column("", name, kind, sentence, better, adds_up, nulls, on_axis)


_NEVER_BOUGHT = "without a purchase"

CUSTOMERS = _table(
    "customers",
    _is("customer", "id", "The customer's id, as text."),
    _is("name", "text",
    "The name, from the customers file or else from the latest day in the orders.",
    nulls="where no name is known"),
    _is("orders", "count", "Number of purchases (the frequency).", adds_up=True),
    _is("refunds", "count", "Number of orders below zero.", better="low", adds_up=True),
    _is("zero_orders", "count", "Number of orders of exactly zero.", adds_up=True),
    _is("lines", "count", "Number of rows in the purchases.", adds_up=True),
    _is("first_order", "day", "Day of the first purchase.", better="low", nulls=_NEVER_BOUGHT),
    _is("last_order", "day", "Day of the last purchase.", nulls=_NEVER_BOUGHT),
    _is("recency_days", "days", "Days from the last purchase to the as-of date.", better="low",
        nulls=_NEVER_BOUGHT, on_axis="days since the last order"),
    _is("tenure_days", "days", "Days from the first purchase to the as-of date.",
    nulls=_NEVER_BOUGHT),
    _is("spend", "money",
    "Sum of the orders' amounts (the monetary value). The scheme sets how refunds count.", adds_up=True),
    _is("average_order_value", "money", "Spend divided by purchases.",
    nulls=_NEVER_BOUGHT),
    _is("smallest_order", "money", "The amount of the smallest purchase.", nulls=_NEVER_BOUGHT),
    _is("largest_order", "money", "The amount of the largest purchase.", nulls=_NEVER_BOUGHT),
    _is("average_gap_days", "days",
    "Days from the first to the last purchase, divided by the purchases after the first.",
    better="low",
        nulls="below two purchases"),
    _is("overdue_ratio", "ratio",
    "Recency divided by the average gap: above 1 a customer is later than usual.", better="low",
        nulls="where the average gap is null or 0"),
    _is("spend_share", "share", "Spend divided by the sum of all positive spend."),
    _is("spend_share_running", "share",
    "Share of positive spend that belongs to customers who spent at least as much."),
    _is("spend_rank", "count", "1 plus the number of customers who spent more.", better="low"),
    _is("only_channel", "text", "The channel, if all purchases came through the same one.",
        nulls="if purchases differ or have no channel"),
)  # fmt: skip

SCORES = _table(
    "scores",
    _is("recency_score", "score", "Rung on the recency ladder.", nulls=_NEVER_BOUGHT),
    _is("frequency_score", "score", "Rung on the frequency ladder.", nulls=_NEVER_BOUGHT),
    _is("monetary_score", "score", "Rung on the monetary ladder.", nulls=_NEVER_BOUGHT),
    _is("score_total", "points", "Weighted sum of the scores, with the scheme's weights.",
    nulls=_NEVER_BOUGHT),
    _is("score_code", "text", "The three scores in a row, such as 5-4-5.", nulls=_NEVER_BOUGHT),
    _is("percentile", "ratio",
    "Percentage of customers with a worse value, counting half of those with an equal value.", nulls=_NEVER_BOUGHT),
    _is("percent_rank", "ratio", "Percentage of the other customers who have a worse value.",
    nulls=_NEVER_BOUGHT),
    _is("segment", "text", "The segment of the first rule that matches."),
    _is("stance", "text", "The recommended action for the segment."),
)  # fmt: skip

FORECAST = _table(
    "forecast",
    _is("active_probability", "share", "Probability that the customer is still active.",
    nulls=_NEVER_BOUGHT),
    _is("expected_orders", "ratio", "Expected number of orders within the forecast's horizon.", adds_up=True,
    nulls=_NEVER_BOUGHT),
    _is("expected_order_value", "money",
    "Expected amount of a day's orders, after refunds.", nulls=_NEVER_BOUGHT),
    _is("expected_value", "money", "Expected spend within the forecast's horizon.",
    adds_up=True, nulls=_NEVER_BOUGHT),
    _is("value_low", "money", "Lower end of the range for expected value.",
    nulls=_NEVER_BOUGHT),
    _is("value_high", "money", "Upper end of the range for expected value.",
    nulls=_NEVER_BOUGHT),
)  # fmt: skip

#: Columns that every table of orders begins with.
_OF_AN_ORDER = (
    _is("customer", "id", "The customer's id, as text."),
    _is("order", "id", "The order's id, as text.", nulls="absent where the orders have no ids"),
    _is("placed_on", "day", "Day of the order's earliest row."),
)

ORDERS = _table(
    "orders",
    *_OF_AN_ORDER,
    _is("amount", "money", "Sum of the order's rows.", adds_up=True),
    _is("lines", "count", "Number of rows.", adds_up=True),
    _is("nth", "count", "The order's number among the customer's purchases, from 1.",
    nulls="for refunds and orders of zero"),
    _is("kind", "text", "first for the customer's first purchase, otherwise repeat.",
    nulls="for refunds and orders of zero"),
    _is("gap_days", "days", "Days since the customer's previous purchase.",
    nulls="for first purchases, refunds and orders of zero"),
    _is("share_of_customer", "share",
    "Amount divided by the customer's total spend.",
        nulls="where that spend is not positive"),
    _is("before", "day", "Day of the previous purchase; not shown."),
)  # fmt: skip

ORDER_LINES = _table(
    "order lines",
    *_OF_AN_ORDER,
    _is("line_amount", "money", "The row's amount.", adds_up=True),
    _is("order_amount", "money", "Sum of the order's rows."),
    _is("share_of_order", "share", "The row's amount divided by the order's.",
    nulls="if the order's amount is not positive"),
    _is("share_of_customer", "share",
    "The row's amount divided by the customer's total spend.",
        nulls="where that spend is not positive"),
)  # fmt: skip

GROWTH = _table(
    "growth",
    _is("period", "day", "The period's first day."),
    _is("label", "text", "The period's name."),
    _is("orders", "count", "Number of purchases.", adds_up=True),
    _is("customers", "count", "Customers with a purchase."),
    _is("new_customers", "count", "Customers with their first purchase ever.", adds_up=True),
    _is("returning_customers", "count", "Customers who had bought in an earlier period."),
    _is("revenue", "money", "First and repeat revenue, less refunds.", adds_up=True),
    _is("new_revenue", "money", "Revenue from first purchases.", adds_up=True),
    _is("repeat_revenue", "money", "Revenue from later purchases.", adds_up=True),
    _is("refunded", "money", "Amount refunded, a negative number.", adds_up=True),
    _is("new_customers_running", "count", "Number of new customers up to and including this period."),
    _is("complete", "truth", "True if the period's last day has been reached."),
    _is("flat", "truth", "True if the period belongs to a run of complete periods without a new customer."),
)  # fmt: skip

FLAT_SPELLS = _table(
    "flat-spells",
    _is("group", "text", "The group, under its own name where it has one.", nulls="without groups"),
    _is("first", "text", "The first period without a new customer."),
    _is("last", "text", "The last period without a new customer."),
    _is("periods", "count", "Number of periods in the spell."),
    _is("running", "count", "Number of customers during the spell."),
)

COHORTS = _table(
    "cohorts",
    _is("cohort", "day", "First day of the period of the first purchase."),
    _is("size", "count", "Customers in the cohort.", adds_up=True),
    _is("k", "count", "Periods since the first one."),
    _is(
        "active",
        "count",
        "Customers with a purchase in that period.",
        nulls="where the period is not complete",
    ),
    _is(
        "retention",
        "share",
        "Active customers divided by the cohort's size.",
        nulls="where the period is not complete",
    ),
    _is(
        "revenue",
        "money",
        "Spend of the cohort in that period.",
        adds_up=True,
        nulls="where the period is not complete",
    ),
)

RATES = _table(
    "rates",
    _is("rate", "text", "The name of the rate."),
    _is("numerator", "count", "Customers who came back."),
    _is("denominator", "count", "Customers who could have come back."),
    _is(
        "value",
        "share",
        "Returned customers divided by eligible customers.",
        nulls="if no customer was eligible",
    ),
)

ORDER_COUNTS = _table(
    "order_counts",
    _is("n", "count", "A number of purchases."),
    _is("customers", "count", "Customers with exactly this many purchases.", adds_up=True),
    _is("share", "share", "Their share of all customers with a purchase.", adds_up=True),
    _is("at_least_n", "count", "Customers with this many purchases or more."),
    _is(
        "went_on", "share", "Of customers with this many or more, the share with at least one more."
    ),
    _is("spend", "money", "Spend of the customers with exactly this many purchases.", adds_up=True),
)

SEGMENTS = _table(
    "segments",
    _is("segment", "text", "The segment."),
    _is("stance", "text", "The recommended action."),
    _is("customers", "count", "Number of customers in the segment.", adds_up=True),
    _is("customer_share", "share", "Their share of all customers.", adds_up=True),
    _is("spend", "money", "Their spend.", adds_up=True),
    _is("spend_share", "share", "Their share of all spend.", adds_up=True,
    nulls="where all spend is 0"),
    _is("orders", "count", "Their purchases.", adds_up=True),
    _is("median_recency_days", "days", "Median number of days since their last purchase.", better="low",
        nulls="without purchases"),
    _is("average_order_value", "money", "Their spend divided by their purchases.",
    nulls="without purchases"),
)  # fmt: skip

TIERS = _table(
    "tiers",
    _is("tier", "text", "The ladder of tiers, by its name in the scheme."),
    _is("label", "text", "The tier; the best comes first."),
    _is("customers", "count", "Number of customers in the tier.", adds_up=True),
    _is("customer_share", "share", "Their share of all customers with a tier.", adds_up=True,
    nulls="if no customer has a tier"),
    _is("spend", "money", "Their spend.", adds_up=True),
    _is("spend_share", "share", "Their share of the spend of all customers with a tier.",
    adds_up=True,
        nulls="if that spend is 0"),
)  # fmt: skip

RULES = _table(
    "rules",
    _is("segment", "text", "The segment that the rule assigns."),
    _is("condition", "text", "The rule."),
    _is("placed", "count", "Customers placed by this rule.", adds_up=True),
    _is("shadowed", "count", "Customers who match this rule but were placed by an earlier one."),
    _is("reached", "truth", "True if at least one customer was left for this rule."),
)

COMPARISON = _table(
    "comparison",
    _is("from_segment", "text", "Segment as of the earlier day."),
    _is("to_segment", "text", "Segment as of the later day."),
    _is("from_rung", "score", "Rung as of the earlier day."),
    _is("to_rung", "score", "Rung as of the later day."),
    _is("score_before", "points", "Total of the scores as of the earlier day."),
    _is("score_after", "points", "Total of the scores as of the later day."),
    _is("change", "points", "The later total less the earlier one."),
    _is("spend_before", "money", "Spend as of the earlier day.", adds_up=True),
    _is("spend_after", "money", "Spend as of the later day.", adds_up=True),
    _is("orders_before", "count", "Purchases as of the earlier day.", adds_up=True),
    _is("orders_after", "count", "Purchases as of the later day.", adds_up=True),
)

VALUE = _table(
    "value",
    _is("spend_to_date", "money", "Spend to date.", adds_up=True),
    _is("margin_to_date", "money", "Profit to date.", adds_up=True),
    _is("quick_value", "money", "Value by the simplest formula: spend per customer to date."),
    _is("formula_value", "money", "Value by the formula."),
    _is(
        "value_if_lower",
        "money",
        "Value by the formula with retention at the lower end of its confidence interval.",
    ),
    _is(
        "value_if_higher",
        "money",
        "Value by the formula with retention at the upper end of its confidence interval.",
    ),
    _is("per_customer", "money", "Value per customer."),
    _is("all_customers", "money", "Value of all customers together."),
    _is("actual_value", "money", "Actual value of the purchases in the test period."),
    _is("value_now", "money", "Value per customer today."),
    _is("value_then", "money", "Value per customer after a change."),
    _is("value_change", "money", "Effect of the change per customer."),
    _is("change_low", "money", "Lower end of the range of the effect per customer."),
    _is("change_high", "money", "Upper end of the range of the effect per customer."),
    _is("all_change", "money", "Effect of the change for all customers."),
    _is("all_low", "money", "Lower end of the range of the effect for all customers."),
    _is("all_high", "money", "Upper end of the range of the effect for all customers."),
    _is(
        "value_if_active",
        "money",
        "Average expected spend within the horizon of a customer who is still active.",
    ),
    _is("break_even", "money", "Largest average cost of a contact that does not lose money."),
    _is("all_worth", "money", "Expected return of contacting all of them.", adds_up=True),
)

CAMPAIGN = _table(
    "campaign",
    _is("customer", "id", "The customer's id, or a keyed pseudonym."),
    _is("name", "text", "The name.", nulls="where no name is known"),
    _is("group", "text", "Whether the customer is contacted or held out."),
    _is("rank", "count", "Place by the measure that ranks the list.", better="low"),
    _is("segment", "text", "The customer's segment."),
    _is("reason", "text", "The reason why the customer is listed."),
    _is("stance", "text", "The recommended action for the segment."),
    _is(
        "expected_return",
        "money",
        "Expected return of a contact within the forecast's horizon.",
        nulls="absent if no response is given",
    ),
    _is("listed_on", "day", "The as-of date of the list."),
)

#: All tables of the registry, in the order of the work.
TABLES: tuple[tuple[Column, ...], ...] = (
    CUSTOMERS, SCORES, FORECAST, ORDERS, ORDER_LINES,
    GROWTH, FLAT_SPELLS, COHORTS, RATES, ORDER_COUNTS, SEGMENTS, TIERS, RULES, COMPARISON, VALUE,
    CAMPAIGN,
)  # fmt: skip
#: Columns of customers that a user can name, whichever table they come from.
_OF_CUSTOMERS = {c.name: c for c in (*CUSTOMERS, *SCORES, *FORECAST)}
_MONEY = frozenset(c.name for table in TABLES for c in table if c.kind == "money")
_POINTS = frozenset(c.name for table in TABLES for c in table if c.kind == "points")


def every() -> Iterator[Column]:
    """Iterate over the columns of all tables."""
    return (column for table in TABLES for column in table)


def names(table: tuple[Column, ...]) -> tuple[str, ...]:
    """Return the names of a table's columns, in order."""
    return tuple(column.name for column in table)


def forecast_in(texts: Iterable[str]) -> set[str]:
    """Return the forecast columns that these conditions or measures use."""
    return set(names(FORECAST)) & set(re.findall(r"\w+", " ".join(texts)))


def of_customers(name: str) -> Column | None:
    """Return our column of scored customers with this name, or None."""
    return _OF_CUSTOMERS.get(name)


def known(name: str) -> Column | None:
    """Return our column with this name, looking among customers' columns first.

    Returns None for a name with a different meaning in each table: a ``value`` is a rate in one, an
    amount or a parameter in others.
    """
    if name in _IN_ITS_TABLE_ONLY:
        return None
    return of_customers(name) or next((column for column in every() if column.name == name), None)


_IN_ITS_TABLE_ONLY = frozenset({"value"})


def meant(table: str, name: str) -> Column | None:
    """Return the column of a result: from the table with that name if it is there, otherwise as
    ``known`` finds it.
    """
    return next((c for c in every() if (c.table, c.name) == (table, name)), None) or known(name)


def better(measure: str) -> Better:
    """Return which end of a measure of customers is better; ``high`` for measures that are not
    ours.
    """
    found = of_customers(measure)
    return found.better if found is not None else "high"


def has_total(measure: str) -> bool:
    """Return True if a measure adds up over customers, so that a share of its total makes sense.
    Measures that are not ours are taken to add up.
    """
    found = of_customers(measure)
    return found is None or found.adds_up


def measures() -> list[str]:
    """Return the columns by which customers can be ranked, cut and listed."""
    return [c.name for c in (*CUSTOMERS, *SCORES, *FORECAST) if c.kind not in ("id", "text")]


def title(name: str) -> str:
    """Return the heading of a customer column."""
    found = known(name)
    return found.title if found is not None else name.replace("_", " ")


def on_axis(name: str) -> str:
    """Return the label of a customer column on an axis."""
    found = of_customers(name)
    return found.on_axis if found is not None and found.on_axis else title(name)


def as_markdown() -> str:
    """Return all tables as Markdown, the text of ``docs/columns.md``."""
    lines = [
        "# What every column means",
        "",
        "Generated from `fairladder.columns` by `python -m fairladder.columns`; all other "
        "modules read it, too.",
        "",
    ]
    for table in TABLES:
        lines += [
            f"## {table[0].table.replace('_', ' ').capitalize()}",
            "",
            "| column | holds | meaning | empty |",
            "|---|---|---|---|",
        ]
        for c in table:
            holds = f"{c.kind}, {c.unit}" if c.unit and c.unit != c.kind else c.kind
            meaning = (
                c.sentence
                + (" Less is better." if c.better == "low" else "")
                + (" Adds up." if c.adds_up else "")
            )
            lines.append(f"| `{c.name}` | {holds} | {meaning} | {c.nulls or 'never'} |")
        lines.append("")
    return "\n".join(lines)


def is_own_money(name: str) -> bool:
    """Return True if this is the name of one of our money columns."""
    return name in _MONEY


def decimals_in(name: str, decimals: int) -> int | None:
    """Return the number of decimals of one of our float columns in text formats; None to write
    numbers unrounded.
    """
    return decimals if name in _MONEY else 2 if name in _POINTS else None


def decimals_of(frame: "pd.DataFrame", name: object, decimals: int) -> int | None:
    """Return the number of decimals of a frame's column in text formats; None to write numbers
    unrounded.
    """
    if is_money(frame, name):
        return decimals
    carried = name in frame.attrs.get(CARRIED, ())
    return 2 if name in _POINTS and not carried and frame[name].dtype.kind == "f" else None


def is_money(frame: "pd.DataFrame", name: object) -> bool:
    """Return True if a column is our money column and not a user's column with the same name."""
    own = name in _MONEY or name in frame.attrs.get(ALSO_MONEY, ())
    return own and name not in frame.attrs.get(CARRIED, ()) and frame[name].dtype.kind in "iuf"


def is_share(frame: "pd.DataFrame", name: object) -> bool:
    """Return True if a column is a share (0 to 1) of the result's own."""
    found = known(str(name))
    own = (found is not None and found.kind == "share") or name in frame.attrs.get(ALSO_SHARES, ())
    return own and name not in frame.attrs.get(CARRIED, ()) and frame[name].dtype.kind in "iuf"


def kind_in(frame: "pd.DataFrame", name: object) -> Kind | None:
    """Return the kind of a result's column; None for a user's column or an unknown name."""
    if is_money(frame, name):
        return "money"
    if is_share(frame, name):
        return "share"
    found = known(str(name)) if name not in frame.attrs.get(CARRIED, ()) else None
    return None if found is None or found.kind in ("money", "share") else found.kind


if __name__ == "__main__":
    print(as_markdown(), end="")
