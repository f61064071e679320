"""Every setting of a scheme in plain data: what it means, and the option that sets it on the command line.

The models of ``scheme``, their JSON Schema, the commented scheme, the options and their help all read from here, so that they cannot
differ. It stands apart from the models because the help of the command line should not wait for what checks them.
"""

from dataclasses import dataclass
from typing import Literal

#: What an option is given as: text, a whole number, an amount, a day, a share (0.2 or 20%), a percent (20 or 20%), texts again and
#: again, yes by being there.
Given = Literal["text", "number", "amount", "day", "share", "percent", "texts", "flag"]
#: Headings of the help.
WINDOW, COLUMNS, WRITING = (
    "Rows and days", "Columns of the orders (where the scheme does not name them)", "How the file is written (where it does not tell)",
)  # fmt: skip
FORMULA, FORECAST, OUTPUT = "The formula", "The forecast", "Output"
WHO, HOW_MANY = "Who is eligible, and who is left out", "How many"


@dataclass(frozen=True)
class Setting:
    """One key of one part of the scheme: ``part`` is its table, ``sentence`` what it means; with ``option`` the command line has it."""

    part: str
    key: str
    sentence: str
    option: str = ""
    metavar: str = ""
    panel: str = ""
    given: Given = "text"
    measure: bool = False
    """Whether it names a measure of customers, any of ours or of a column of their file."""


def _role(role: str, sentence: str) -> Setting:
    return Setting("orders", role, sentence, f"--{role.replace('_', '-')}-column", "NAME", COLUMNS)


SETTINGS: tuple[Setting, ...] = (
    Setting("time", "as_of", "Day of reckoning; rows after it do not count.", "--as-of", "DAY", WINDOW, "day"),
    Setting("time", "from", "First day of the window.", "--from", "DAY", WINDOW, "day"),
    Setting("time", "through", "Last day of the window, itself included.", "--through", "DAY", WINDOW, "day"),
    Setting("time", "time_zone", "The business time zone, an IANA name such as Europe/Lisbon, in which times become days."),
    Setting("orders", "where", "SQL condition on rows, added to the scheme's.", "--where", "CONDITION", WINDOW),
    Setting("orders", "allow", "A finding that is an error, and right in this file: repeated-total, discount-unit, unmatched-customers.",
            "--allow", "FINDING", WINDOW, "texts"),
    Setting("orders", "drop", "repeats: rows that repeat another in every cell.", "--drop", "WHAT", WINDOW),
    _role("customer", "The customer's id."),
    _role("order", "The order's id; without one every row is an order."),
    _role("placed", "Day or time of the order."),
    _role("amount", "The row's amount."),
    _role("unit_price", "Price of one, in place of an amount."),
    _role("quantity", "How many, beside a unit price."),
    _role("discount", "Fraction off, beside a unit price."),
    _role("name", "The customer's name."),
    _role("channel", "Where the order came from."),
    _role("status", "State of the order."),
    _role("currency", "Currency of the amount."),
    _role("cost", "What the row cost the shop."),
    Setting("orders", "table", "Table of the database that ORDERS is the address of.", "--table", "NAME", WRITING),
    Setting("orders", "query", "SELECT that gives the rows, in place of a table.", "--query", "SQL", WRITING),
    Setting("orders", "date_format", "day-first, month-first, … or %d.%m.%y.", "--date-format", "FORMAT", WRITING),
    Setting("orders", "decimal_mark", "The decimal mark of numbers.", "--decimal-mark", "MARK", WRITING),
    Setting("orders", "separator", "What stands between cells.", "--separator", "SIGN", WRITING),
    Setting("orders", "encoding", "utf-8, utf-16, cp1252, …", "--encoding", "NAME", WRITING),
    Setting("orders", "header_row", "Row of the column names.", "--header-row", "NUMBER", WRITING, "number"),
    Setting("orders", "sheet", "Sheet of a workbook; * for all of the same columns.", "--sheet", "NAME", WRITING),
    Setting("orders", "amount_is", "line (rows add up) or order (each repeats it).", "--amount-is", "GRAIN", COLUMNS),
    Setting("orders", "discount_as", "fraction (0 to 1), percent (0 to 100) or amount (money off).", "--discount-as", "UNIT", COLUMNS),
    Setting("orders", "channel_customers", "Channel → its column of customer ids, where each channel has one of its own."),
    Setting("lines", "file", "A file with the lines of the orders, where the orders' own file has none."),
    Setting("lines", "order", "The order's id in that file."),
    Setting("lines", "amount", "The line's amount in that file."),
    Setting("lines", "unit_price", "Price of one in that file, in place of an amount."),
    Setting("lines", "quantity", "How many in that file, beside a unit price."),
    Setting("lines", "discount", "Fraction off in that file, beside a unit price."),
    Setting("money", "decimals", "Decimals of amounts, from 0 to 4."),
    Setting("money", "refunds", "net (they lower spend) or ignore (they count for nothing)."),
    Setting("money", "currency", "The currency to keep, or to convert into."),
    Setting("money", "rates", "A file of currency, day and rate, to convert by."),
    Setting("customers", "file", "A file with one row per customer."),
    Setting("customers", "customer", "The customer's id in that file."),
    Setting("customers", "name", "The customer's name in that file."),
    Setting("customers", "since", "The day in that file since which somebody is a customer."),
    Setting("customers", "encoding", "How that file is encoded, where it does not tell."),
    Setting("scores", "rungs", "Rungs of each ladder, from 2 to 100."),
    Setting("scores", "method", "How ladders are cut: even, or a quantile: inclusive, exclusive, inverse."),
    Setting("scores", "weights", "Weights of recency, frequency and monetary score in their sum."),
    Setting("scores", "shares", "Share of customers for each rung, the worst first, where they are not alike."),
    Setting("scores", "within", "A column: ladders are fitted for each of its values apart."),
    Setting("scores", "percentile_of", "The measure of `percentile` and `percent_rank`.", measure=True),
    Setting("tiers", "of", "The measure that the tiers cut.", measure=True),
    Setting("tiers", "top_percents", "Edges from the best down, in a hundred customers."),
    Setting("tiers", "spend_percents", "Edges from the best down, in a hundred of the measure's total."),
    Setting("tiers", "rungs", "Number of even tiers."),
    Setting("tiers", "shares", "Share of customers for each tier, the worst first."),
    Setting("tiers", "labels", "Names of the tiers, the best first."),
    Setting("tiers", "ties", "Those tied at an edge: include or exclude."),
    Setting("tiers", "better", "Which end of the measure is better: high or low."),
    Setting("tiers", "within", "A column: tiers are cut for each of its values apart."),
    Setting("segments", "name", "Name of the segment."),
    Setting("segments", "when", "Condition on scored customers; the first that holds places a customer."),
    Setting("segments", "otherwise", "true in the last rule, which places everybody left."),
    Setting("segments", "stance", "What to do: keep, grow, welcome, win-back or leave."),
    Setting("value", "margin", "What stays of revenue: 0.4 or 40%.", "--margin", "FRACTION", FORMULA, "share"),
    Setting("value", "horizon", "How far to look ahead; 365.", "--horizon", "DAYS", FORECAST, "number"),
    Setting("value", "discount_rate", "Per year: 0.1 or 10%.", "--discount-rate", "FRACTION", FORECAST, "share"),
    Setting("value", "method", "best, naive, beta-geometric, central beta-geometric or Pareto.", "--method", "NAME", FORECAST),
    Setting("value", "backtest", "Learn up to this day, test on the rest; a quarter if nothing is said.", "--backtest", "DAY", FORECAST),
    Setting("output", "separator", "What stands between the cells of CSV files: , ; | or a tab.", "--out-separator", "SIGN",
            OUTPUT),
    Setting("output", "decimal_mark", "The decimal mark of CSV files: . or a comma, which needs another separator.",
            "--out-decimal-mark", "MARK", OUTPUT),
    Setting("output", "byte_order_mark", "Begin CSV files with the mark by which spreadsheets know UTF-8.",
            "--byte-order-mark", "", OUTPUT, "flag"),
    Setting("campaigns", "name", "One of the scheme's campaigns, or a name for a new one; all of them if nothing is said."),
    Setting("campaigns", "when", "Condition on scored customers.", "--when", "CONDITION", WHO),
    Setting("campaigns", "bought_from", "One purchase on or after this day …", "--bought-from", "DAY", WHO, "day"),
    Setting("campaigns", "bought_through", "… and on or before this one …", "--bought-through", "DAY", WHO, "day"),
    Setting("campaigns", "at_least", "… of at least this amount.", "--at-least", "AMOUNT", WHO, "amount"),
    Setting("campaigns", "exclude", "File of ids to leave out; may be given again.", "--exclude", "FILE", WHO, "texts"),
    Setting("campaigns", "consent", "Column of the customers that must say yes.", "--consent", "COLUMN", WHO),
    Setting("campaigns", "contacted", "An earlier list; may be given again.", "--contacted", "FILE", WHO, "texts"),
    Setting("campaigns", "contacted_days", "Leave out whoever an earlier list has from so many days ago on.", "--contacted-days", "DAYS",
            WHO, "number"),
    Setting("campaigns", "limit", "At most so many.", "--limit", "NUMBER", HOW_MANY, "number"),
    Setting("campaigns", "budget", "As many as it pays for, at …", "--budget", "AMOUNT", HOW_MANY, "amount"),
    Setting("campaigns", "cost", "… so much a contact.", "--cost", "AMOUNT", HOW_MANY, "amount"),
    Setting("campaigns", "by", "The measure to rank by; spend.", "--by", "COLUMN", HOW_MANY, measure=True),
    Setting("campaigns", "ties", "Those tied at the limit: include or exclude.", "--ties", "HOW", HOW_MANY),
    Setting("campaigns", "holdout", "Held out, in a hundred: 20 or 20%.", "--holdout", "PERCENT", HOW_MANY, "percent"),
)  # fmt: skip


def of_part(part: str) -> dict[str, Setting]:
    """Key → setting of a part of the scheme."""
    return {s.key: s for s in SETTINGS if s.part == part}


def with_option(*parts: str) -> tuple[Setting, ...]:
    """The settings of these parts that the command line has, in the order of its help."""
    return tuple(s for s in SETTINGS if s.option and s.part in parts)
