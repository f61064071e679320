"""The registry of columns: what every column of every result is, in one place that everything else
reads.

A new measure of customers is an entry here and a line in ``book.measures``.
"""

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

if TYPE_CHECKING:
    import pandas as pd

#: What a column holds. ``money`` is in major units, ``share`` a fraction 0..1, ``days`` a number of
#: days, ``score`` a rung, ``points`` a weighted sum of scores.
Kind = Literal[
    "id", "text", "count", "money", "day", "days", "share", "ratio", "score", "points", "truth"
]
Better = Literal["high", "low"]

#: Where a frame of customers keeps the settings that it was made with, as JSON.
SCHEME = "fairladder_scheme"
#: Where a frame keeps the names of columns that are carried along from somebody's file and only
#: look like ours.
CARRIED = "fairladder_carried"
#: Where a frame keeps the names of its own columns that are money in it alone.
ALSO_MONEY = "fairladder_money"
#: The same for shares.
ALSO_SHARES = "fairladder_shares"


@dataclass(frozen=True)
class Column:
    """One column of one table: what it is called and holds, which end is better, and whether
    it adds up over rows.
    """

    table: str
    name: str
    kind: Kind
    sentence: str
    """What it says, in one sentence."""
    label: str = ""
    """How people read it at the head of a table, where that is not its name with blanks."""
    better: Better = "high"
    adds_up: bool = False
    nulls: str = ""
    """When it is empty; empty text where it never is."""
    on_axis: str = ""
    """How it reads alone, beside an axis, where its label would not say enough."""

    @property
    def title(self) -> str:
        """The head of the column for people."""
        return self.label or self.name.replace("_", " ")

    @property
    def unit(self) -> str:
        """What its numbers count; empty where they have no unit."""
        return {"money": "the orders' currency", "days": "days", "share": "0 to 1"}.get(
            self.kind, ""
        )


def _table(table: str, *columns: Column) -> tuple[Column, ...]:
    return tuple(Column(table, *(getattr(c, f) for f in _FIELDS)) for c in columns)


_FIELDS = ("name", "kind", "sentence", "label", "better", "adds_up", "nulls", "on_axis")


def _is(
    name: str,
    kind: Kind,
    sentence: str,
    label: str = "",
    *,
    better: Better = "high",
    adds_up: bool = False,
    nulls: str = "",
    on_axis: str = "",
) -> Column:
    return Column("", name, kind, sentence, label, better, adds_up, nulls, on_axis)


_NEVER_BOUGHT = "without a purchase"

CUSTOMERS = _table(
    "customers",
    _is("customer", "id", "The customer's id, as text."),
    _is("name", "text",
    "The name, from the customers file or else of the latest day in the orders.",
    nulls="where none is known"),
    _is("orders", "count", "Number of purchases: the frequency.", adds_up=True),
    _is("refunds", "count", "Number of orders below zero.", better="low", adds_up=True),
    _is("zero_orders", "count", "Number of orders of exactly zero.", adds_up=True),
    _is("lines", "count", "Number of rows of the purchases.", adds_up=True),
    _is("first_order", "day", "Day of the first purchase.", better="low", nulls=_NEVER_BOUGHT),
    _is("last_order", "day", "Day of the last purchase.", nulls=_NEVER_BOUGHT),
    _is("recency_days", "days", "Days from the last purchase to the day of reckoning.",
    "days since", better="low",
        nulls=_NEVER_BOUGHT, on_axis="days since the last order"),
    _is("tenure_days", "days", "Days from the first purchase to the day of reckoning.",
    nulls=_NEVER_BOUGHT),
    _is("spend", "money",
    "Sum of the orders' amounts, refunds as the scheme says: the monetary value.", adds_up=True),
    _is("average_order_value", "money", "Spend divided by purchases.", "per order",
    nulls=_NEVER_BOUGHT),
    _is("smallest_order", "money", "The smallest purchase.", nulls=_NEVER_BOUGHT),
    _is("largest_order", "money", "The largest purchase.", nulls=_NEVER_BOUGHT),
    _is("average_gap_days", "days",
    "Days from the first to the last purchase, divided by the purchases after the first.",
    better="low",
        nulls="below two purchases"),
    _is("overdue_ratio", "ratio",
    "Recency divided by the average gap: above 1 a customer is later than usual.", better="low",
        nulls="where the average gap is null or 0"),
    _is("spend_share", "share", "Spend divided by all positive spend.", "share"),
    _is("spend_share_running", "share",
    "Share of positive spend that is held by customers who spent at least as much.", "running"),
    _is("spend_rank", "count", "1 plus the number of customers who spent more.", better="low"),
    _is("only_channel", "text", "The channel, where every purchase has one and it is the same.",
        nulls="where purchases differ, or none has one"),
)  # fmt: skip

SCORES = _table(
    "scores",
    _is("recency_score", "score", "Rung on the ladder of recency.", nulls=_NEVER_BOUGHT),
    _is("frequency_score", "score", "Rung on the ladder of purchases.", nulls=_NEVER_BOUGHT),
    _is("monetary_score", "score", "Rung on the ladder of spend.", nulls=_NEVER_BOUGHT),
    _is("score_total", "points", "The scores added up by the scheme's weights.",
    nulls=_NEVER_BOUGHT),
    _is("score_code", "text", "The three scores side by side, as in 5-4-5.", nulls=_NEVER_BOUGHT),
    _is("percentile", "ratio",
    "Customers in a hundred that stand below, those who tie counted half.", nulls=_NEVER_BOUGHT),
    _is("percent_rank", "ratio", "Customers in a hundred of the others that stand strictly below.",
    nulls=_NEVER_BOUGHT),
    _is("segment", "text", "The segment of the first rule that holds."),
    _is("stance", "text", "What to do about the segment."),
)  # fmt: skip

FORECAST = _table(
    "forecast",
    _is("active_probability", "share", "The chance that the customer still orders.",
    nulls=_NEVER_BOUGHT),
    _is("expected_orders", "ratio", "Orders expected within the horizon.", adds_up=True,
    nulls=_NEVER_BOUGHT),
    _is("expected_order_value", "money",
    "What a day's orders are expected to bring, after refunds.", nulls=_NEVER_BOUGHT),
    _is("expected_value", "money", "What the customer is expected to bring within the horizon.",
    adds_up=True, nulls=_NEVER_BOUGHT),
    _is("value_low", "money", "Lower end of the range for what the customer brings.",
    nulls=_NEVER_BOUGHT),
    _is("value_high", "money", "Upper end of the range for what the customer brings.",
    nulls=_NEVER_BOUGHT),
)  # fmt: skip

#: What a line of any table of orders begins with.
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
    _is("nth", "count", "Place among the customer's purchases, from 1.",
    nulls="for refunds and orders of zero"),
    _is("kind", "text", "Whether the purchase is the customer's first, or a repeat.",
    nulls="for refunds and orders of zero"),
    _is("gap_days", "days", "Days since the purchase before.",
    nulls="for first purchases, refunds and orders of zero"),
    _is("share_of_customer", "share",
    "Amount divided by the customer's spend of the whole history.",
        nulls="where that spend is not positive"),
    _is("before", "day", "Day of the purchase before; not shown."),
)  # fmt: skip

ORDER_LINES = _table(
    "order lines",
    *_OF_AN_ORDER,
    _is("line_amount", "money", "What the row says.", adds_up=True),
    _is("order_amount", "money", "Sum of the order's rows."),
    _is("share_of_order", "share", "The row's amount divided by the order's.",
    nulls="where the order's amount is not positive"),
    _is("share_of_customer", "share",
    "The row's amount divided by the customer's spend of the whole history.",
        nulls="where that spend is not positive"),
)  # fmt: skip

GROWTH = _table(
    "growth",
    _is("period", "day", "The period's first day."),
    _is("label", "text", "The period in words."),
    _is("orders", "count", "Number of purchases.", adds_up=True),
    _is("customers", "count", "Customers with a purchase."),
    _is("new_customers", "count", "Customers with their first purchase ever.", adds_up=True),
    _is("returning_customers", "count", "Customers who had bought in an earlier period."),
    _is("revenue", "money", "First and repeat revenue, and what refunds took back.", adds_up=True),
    _is("new_revenue", "money", "What first purchases brought.", adds_up=True),
    _is("repeat_revenue", "money", "What later purchases brought.", adds_up=True),
    _is("refunded", "money", "What refunds took back, below zero.", adds_up=True),
    _is("new_customers_running", "count", "New customers up to here."),
    _is("complete", "truth", "Whether the period's last day has been reached."),
    _is("flat", "truth", "Whether it lies in a run of complete periods without a new customer."),
)  # fmt: skip

FLAT_SPELLS = _table(
    "flat-spells",
    _is(
        "group", "text", "The group, under its own name where there is one.", nulls="without groups"
    ),
    _is("first", "text", "The first period without a new customer."),
    _is("last", "text", "The last period without a new customer."),
    _is("periods", "count", "How many periods it lasted."),
    _is("running", "count", "The customers that the group stood at."),
)

COHORTS = _table(
    "cohorts",
    _is("cohort", "day", "First day of the period of the first purchase."),
    _is("size", "count", "Customers in the cohort.", adds_up=True),
    _is("k", "count", "Periods since the first."),
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
        "What the cohort spent in that period.",
        adds_up=True,
        nulls="where the period is not complete",
    ),
)

RATES = _table(
    "rates",
    _is("rate", "text", "Which rate it is."),
    _is("numerator", "count", "Customers who came back."),
    _is("denominator", "count", "Customers who could have."),
    _is("value", "share", "The one divided by the other.", nulls="where nobody could have"),
)

ORDER_COUNTS = _table(
    "order_counts",
    _is("n", "count", "A number of purchases."),
    _is("customers", "count", "Customers with exactly so many.", adds_up=True),
    _is("share", "share", "Those of all customers with a purchase.", adds_up=True),
    _is("at_least_n", "count", "Customers with at least so many."),
    _is("went_on", "share", "Customers with more, of those with at least so many."),
    _is("spend", "money", "What customers with exactly so many spent.", adds_up=True),
)

SEGMENTS = _table(
    "segments",
    _is("segment", "text", "The segment."),
    _is("stance", "text", "What to do about it."),
    _is("customers", "count", "Customers in it.", adds_up=True),
    _is("customer_share", "share", "Those of all customers.", "of all", adds_up=True),
    _is("spend", "money", "What they spent.", adds_up=True),
    _is("spend_share", "share", "That of all spend.", "of all spend", adds_up=True,
    nulls="where all spend is 0"),
    _is("orders", "count", "Their purchases.", adds_up=True),
    _is("median_recency_days", "days", "Median of the days since their last purchase.",
    "median days since", better="low",
        nulls="without purchases"),
    _is("average_order_value", "money", "Their spend divided by their purchases.", "per order",
    nulls="without purchases"),
)  # fmt: skip

TIERS = _table(
    "tiers",
    _is("tier", "text", "The ladder of tiers, by its name in the scheme."),
    _is("label", "text", "The tier, the best first."),
    _is("customers", "count", "Customers on it.", adds_up=True),
    _is("customer_share", "share", "Those of all customers with a tier.", "of all", adds_up=True,
    nulls="where nobody has one"),
    _is("spend", "money", "What they spent.", adds_up=True),
    _is("spend_share", "share", "That of the spend of all with a tier.", "of all spend",
    adds_up=True,
        nulls="where that spend is 0"),
)  # fmt: skip

RULES = _table(
    "rules",
    _is("segment", "text", "The segment that the rule is for."),
    _is("condition", "text", "The rule."),
    _is("placed", "count", "Customers whom it placed.", adds_up=True),
    _is("shadowed", "count", "Customers for whom it holds too, but whom an earlier rule placed."),
    _is("reached", "truth", "Whether any customer came down to it."),
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
    _is("spend_to_date", "money", "Spend so far.", adds_up=True),
    _is("margin_to_date", "money", "What stayed of it.", adds_up=True),
    _is("quick_value", "money", "Value by the quick sum: spend per customer so far."),
    _is("formula_value", "money", "Value by the formula."),
    _is("value_if_lower", "money", "The same with a retention as low as chance allows."),
    _is("value_if_higher", "money", "The same with a retention as high as chance allows."),
    _is("per_customer", "money", "Each customer's part."),
    _is("all_customers", "money", "All customers' together."),
    _is("actual_value", "money", "What the purchases of the days held back were worth."),
    _is("value_now", "money", "Value per customer as it is."),
    _is("value_then", "money", "Value per customer after a change."),
    _is("value_change", "money", "What the change is worth per customer."),
    _is("change_low", "money", "Lower end of the range of that."),
    _is("change_high", "money", "Upper end of the range of that."),
    _is("all_change", "money", "What the change is worth for all customers."),
    _is("all_low", "money", "Lower end of the range of that."),
    _is("all_high", "money", "Upper end of the range of that."),
    _is(
        "value_if_active",
        "money",
        "What a customer is expected to bring within the horizon if still there, on average.",
    ),
    _is("break_even", "money", "What a contact may cost before it loses money, on average."),
    _is(
        "all_worth", "money", "What contacting all of them is expected to bring back.", adds_up=True
    ),
)

CAMPAIGN = _table(
    "campaign",
    _is("customer", "id", "The customer's id, or a keyed pseudonym."),
    _is("name", "text", "The name.", nulls="where none is known"),
    _is("group", "text", "Whether the customer is contacted or held out."),
    _is("rank", "count", "Place by the measure that orders the list.", better="low"),
    _is("segment", "text", "The customer's segment."),
    _is("reason", "text", "Why the customer is on the list."),
    _is("stance", "text", "What to do about the segment."),
    _is(
        "expected_return",
        "money",
        "What a contact is expected to bring back within the forecast's horizon.",
        nulls="not there without a response",
    ),
    _is("listed_on", "day", "The day of reckoning of the list."),
)

#: Every table of the registry, in the order of the work.
TABLES: tuple[tuple[Column, ...], ...] = (
    CUSTOMERS, SCORES, FORECAST, ORDERS, ORDER_LINES,
    GROWTH, FLAT_SPELLS, COHORTS, RATES, ORDER_COUNTS, SEGMENTS, TIERS, RULES, COMPARISON, VALUE,
    CAMPAIGN,
)  # fmt: skip
#: Columns of customers that can be asked for by name, wherever they come from.
_OF_CUSTOMERS = {c.name: c for c in (*CUSTOMERS, *SCORES, *FORECAST)}
_MONEY = frozenset(c.name for table in TABLES for c in table if c.kind == "money")
_POINTS = frozenset(c.name for table in TABLES for c in table if c.kind == "points")


def every() -> Iterator[Column]:
    """All columns of all tables."""
    return (column for table in TABLES for column in table)


def names(table: tuple[Column, ...]) -> tuple[str, ...]:
    """The names of a table's columns, in order."""
    return tuple(column.name for column in table)


def forecast_in(texts: Iterable[str]) -> set[str]:
    """Columns of the forecast that conditions or measures speak of."""
    return set(names(FORECAST)) & set(re.findall(r"\w+", " ".join(texts)))


def of_customers(name: str) -> Column | None:
    """What a column of scored customers is, where it is ours."""
    return _OF_CUSTOMERS.get(name)


def known(name: str) -> Column | None:
    """What a column is, in whatever result, where it is ours: that of customers first.

    None for a name that says nothing outside its own table: a ``value`` is a rate in one, an
    amount or a parameter in others.
    """
    if name in _IN_ITS_TABLE_ONLY:
        return None
    return of_customers(name) or next((column for column in every() if column.name == name), None)


_IN_ITS_TABLE_ONLY = frozenset({"value"})


def meant(table: str, name: str) -> Column | None:
    """What a column of a result's table is: that of the registry's table of that name, or what
    it is elsewhere.
    """
    return next((c for c in every() if (c.table, c.name) == (table, name)), None) or known(name)


def better(measure: str) -> Better:
    """Which end of a measure of customers is better; more is, where it is not ours."""
    found = of_customers(measure)
    return found.better if found is not None else "high"


def has_total(measure: str) -> bool:
    """Whether a measure adds up over customers, so that somebody can hold a share of its
    total; any that is not ours may.
    """
    found = of_customers(measure)
    return found is None or found.adds_up


def measures() -> list[str]:
    """The columns of customers by which they can be ranked, cut and listed."""
    return [c.name for c in (*CUSTOMERS, *SCORES, *FORECAST) if c.kind not in ("id", "text")]


def title(name: str) -> str:
    """The head of a column of customers for people."""
    found = known(name)
    return found.title if found is not None else name.replace("_", " ")


def on_axis(name: str) -> str:
    """How a column of customers reads beside an axis."""
    found = of_customers(name)
    return found.on_axis if found is not None and found.on_axis else title(name)


def as_markdown() -> str:
    """All tables for the reader, as ``docs/columns.md`` has them."""
    lines = [
        "# What every column means",
        "",
        "Made of `fairladder.columns`, which everything else reads, too: `python -m "
        "fairladder.columns`.",
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
            told = (
                c.sentence
                + (" Less is better." if c.better == "low" else "")
                + (" Adds up." if c.adds_up else "")
            )
            lines.append(f"| `{c.name}` | {holds} | {told} | {c.nulls or 'never'} |")
        lines.append("")
    return "\n".join(lines)


def is_own_money(name: str) -> bool:
    """True for a name that means money wherever we use it."""
    return name in _MONEY


def decimals_in(name: str, decimals: int) -> int | None:
    """How many decimals a column of ours that holds floats has in text formats; None where
    they are written as they are.
    """
    return decimals if name in _MONEY else 2 if name in _POINTS else None


def decimals_of(frame: "pd.DataFrame", name: object, decimals: int) -> int | None:
    """How many decimals a column has in text formats; None where its numbers are written as
    they are.
    """
    if is_money(frame, name):
        return decimals
    carried = name in frame.attrs.get(CARRIED, ())
    return 2 if name in _POINTS and not carried and frame[name].dtype.kind == "f" else None


def is_money(frame: "pd.DataFrame", name: object) -> bool:
    """Whether a column is money of a result's own, and not a column of somebody's file that is
    called alike.
    """
    own = name in _MONEY or name in frame.attrs.get(ALSO_MONEY, ())
    return own and name not in frame.attrs.get(CARRIED, ()) and frame[name].dtype.kind in "iuf"


def is_share(frame: "pd.DataFrame", name: object) -> bool:
    """Whether a column is a share (0 to 1) of a result's own."""
    found = known(str(name))
    own = (found is not None and found.kind == "share") or name in frame.attrs.get(ALSO_SHARES, ())
    return own and name not in frame.attrs.get(CARRIED, ()) and frame[name].dtype.kind in "iuf"


def kind_in(frame: "pd.DataFrame", name: object) -> Kind | None:
    """What a column of a result holds; None for a column of somebody's file, or where nobody
    knows.
    """
    if is_money(frame, name):
        return "money"
    if is_share(frame, name):
        return "share"
    found = known(str(name)) if name not in frame.attrs.get(CARRIED, ()) else None
    return None if found is None or found.kind in ("money", "share") else found.kind


if __name__ == "__main__":
    print(as_markdown(), end="")
