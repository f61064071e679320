"""Every setting of a scheme in plain data: what it means, and the option that sets it on the
command line.

The models of ``scheme``, their JSON Schema, the commented scheme, the options and their help all
read from here, so that they cannot differ. It stands apart from the models because the help of the
command line should not wait for what checks them.
"""

from dataclasses import dataclass
from typing import Literal

#: What an option is given as: text, a whole number, an amount, a day, a share (0.2 or 20%), a
#: percent (20 or 20%), texts again and again, yes by being there.
Given = Literal["text", "number", "amount", "day", "share", "percent", "texts", "flag"]
#: Headings of the help.
WINDOW, COLUMNS, WRITING = (
    "Rows and days", "Columns of the orders (where the scheme does not name them)",
    "How the file is written (where it does not tell)",
)  # fmt: skip
FORMULA, FORECAST, OUTPUT = "The formula", "The forecast", "Output"
CARRIED = "Columns of the orders on the customers"
WHO, HOW_MANY = "Who is eligible, and who is left out", "How many"


@dataclass(frozen=True)
class Setting:
    """One key of one part of the scheme: ``part`` is its table, ``sentence`` what it means;
    with ``option`` the command line has it.
    """

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
    Setting("time", "as_of", "The day of reckoning. Rows after it do not count.", "--as-of", "DAY",
    WINDOW, "day"),
    Setting("time", "from", "The first day that counts.", "--from", "DAY", WINDOW, "day"),
    Setting("time", "through", "The last day that counts, itself included.", "--through", "DAY",
    WINDOW, "day"),
    Setting("time", "time_zone",
    "The business time zone, an IANA name such as Europe/Lisbon, in which times become days."),
    Setting("time", "year_starts",
    "The month with which years (and quarters) begin, such as 04 for April.",
            "--year-starts", "MONTH", WINDOW),
    Setting("orders", "where",
    "A SQL condition: only rows for which it holds count. Where the scheme has one too, both must "
    "hold.",
            "--where", "CONDITION", WINDOW),
    Setting("orders", "allow",
            "A finding that is usually an error but is right in this file: repeated-total, "
            "discount-unit or unmatched-customers.",
            "--allow", "FINDING", WINDOW, "texts"),
    Setting("orders", "drop",
    "Which rows to drop: repeats (the same cells as another row), repeats-across-files (only "
    "those of several "
            "files) or older-versions (of each order only the version in the last file counts).",
            "--drop", "WHAT", WINDOW),
    Setting("orders", "version",
    "The column by which the latest version of an order is known, in place of the files' order.",
            "--version-column", "NAME", WINDOW),
    _role("customer", "The column of customer ids."),
    _role("order", "The column of order ids. Without one every row is an order."),
    _role("placed", "The column of the order's day or time."),
    _role("amount", "The column of amounts."),
    _role("unit_price", "The column of the price of one, where there are no amounts."),
    _role("quantity", "The column of quantities, beside a unit price."),
    _role("discount",
    "The column of discounts, beside a unit price; or of money off, beside an amount."),
    _role("name", "The column of customer names."),
    _role("channel", "The column that says through which channel the order came."),
    _role("status", "The column of the order's state, such as paid or cancelled."),
    _role("currency",
    "The column of the amount's currency; none where all amounts are in one, whatever the file "
    "says."),
    _role("cost", "The column of what the row cost the shop."),
    Setting("orders", "kept_in",
    "A folder that keeps the orders of files already read, so that only new files are.",
    "--kept-in", "FOLDER",
            WRITING),
    Setting("orders", "spark",
    "The Spark cluster that reckons, such as local[2] or spark://host:7077.", "--spark", "MASTER",
    WRITING),
    Setting("orders", "table", "The table to read, where ORDERS is the address of a database.",
    "--table", "NAME", WRITING),
    Setting("orders", "query", "A SELECT that gives the rows, in place of a table.", "--query",
    "SQL", WRITING),
    Setting("orders", "date_format",
    "How dates are written: iso, day-first, month-first, year-first, or a pattern such as "
    "%d.%m.%y.",
            "--date-format", "FORMAT", WRITING),
    Setting("orders", "decimal_mark", "The decimal mark: . or a comma.", "--decimal-mark", "MARK",
    WRITING),
    Setting("orders", "separator", "The sign between the cells of a text file.", "--separator",
    "SIGN", WRITING),
    Setting("orders", "encoding", "The encoding of a text file: utf-8, utf-16, cp1252 or another.",
    "--encoding", "NAME", WRITING),
    Setting("orders", "header_row",
    "The row that holds the column names, the first being 1; 0 if there is none.", "--header-row",
    "NUMBER",
            WRITING, "number"),
    Setting("orders", "sheet",
    "The sheet of a workbook, or * for all sheets with the same columns.", "--sheet", "NAME",
    WRITING),
    Setting("orders", "amount_is",
    "What an amount is of: line (rows add up) or order (each row repeats the order's total).",
            "--amount-is", "GRAIN", COLUMNS),
    Setting("orders", "amount_unit",
    "What amounts are written in: major, or minor units such as cents.", "--amount-unit", "UNIT",
    COLUMNS),
    Setting("orders", "discount_as",
    "What discounts are: fraction (0 to 1), percent (0 to 100) or amount (money off).",
            "--discount-as", "UNIT", COLUMNS),
    Setting("orders", "channel_customers",
    "For each channel its column of customer ids, where every channel has a column of its own."),
    Setting("orders", "channel_amounts",
    "For each channel its column of amounts, where channels stand side by side."),
    Setting("orders", "day_amounts",
    "For each day its column of amounts, where days or months stand side by side."),
    Setting("orders", "credit",
    "The column of what was given back. A row has either an amount or a credit.",
            "--credit-column", "NAME", COLUMNS),
    Setting("lines", "file",
    "A file with the lines of the orders, where the orders' own file has none."),
    Setting("lines", "order", "The order's id in that file."),
    Setting("lines", "amount", "The line's amount in that file."),
    Setting("lines", "unit_price", "Price of one in that file, in place of an amount."),
    Setting("lines", "quantity", "How many in that file, beside a unit price."),
    Setting("lines", "discount", "Fraction off in that file, beside a unit price."),
    Setting("money", "decimals", "How many decimals amounts have, from 0 to 4."),
    Setting("money", "refunds",
    "What refunds do: net (they lower spend) or ignore (they count for nothing)."),
    Setting("money", "currency", "The currency to keep, or to convert into."),
    Setting("money", "rates", "A file of currency, day and rate, to convert by."),
    Setting("money", "columns",
    "Other columns that hold money of the row, such as fees, in its currency and unit."),
    Setting("customers", "file", "A file with one row per customer."),
    Setting("customers", "customer", "The column of customer ids in the customers file.",
    "--customers-id", "NAME", COLUMNS),
    Setting("customers", "name", "The column of customer names in the customers file.",
    "--customers-name", "NAME", COLUMNS),
    Setting("customers", "since",
    "The column of the day since when a customer is one, in the customers file.",
    "--customers-since", "NAME",
            COLUMNS),
    Setting("customers", "at_first",
    "A column of the orders. What it says at the first order becomes first_COLUMN.",
            "--at-first", "COLUMN", CARRIED, "texts"),
    Setting("customers", "at_latest",
    "A column of the orders. What it says at the latest order becomes latest_COLUMN.",
            "--at-latest", "COLUMN", CARRIED, "texts"),
    Setting("customers", "encoding", "How that file is encoded, where it does not tell."),
    Setting("scores", "rungs", "How many rungs each ladder has, from 2 to 100."),
    Setting("scores", "method",
    "How ladders are cut: even, or by a kind of quantile: inclusive, exclusive or inverse."),
    Setting("scores", "weights",
    "The weights of the recency, frequency and monetary scores in their sum."),
    Setting("scores", "shares",
    "The share of customers wanted on each rung, the worst rung first; without it all are alike."),
    Setting("scores", "within", "A column; each of its values gets ladders of its own."),
    Setting("scores", "percentile_of", "The measure of `percentile` and `percent_rank`.",
    measure=True),
    Setting("tiers", "of", "The measure that the tiers cut.", measure=True),
    Setting("tiers", "top_percents",
    "Where the tiers end, from the best down, in percent of the customers."),
    Setting("tiers", "spend_percents",
    "Where the tiers end, from the best down, in percent of the measure's total."),
    Setting("tiers", "rungs", "How many tiers of equal size there are."),
    Setting("tiers", "shares", "The share of customers wanted on each tier, the worst tier first."),
    Setting("tiers", "labels", "Names of the tiers, the best first."),
    Setting("tiers", "ties",
    "Whether those tied at an edge are in the better tier: include or exclude."),
    Setting("tiers", "better", "Which end of the measure is better: high or low."),
    Setting("tiers", "within", "A column; each of its values gets tiers of its own."),
    Setting("segments", "name", "The segment's name."),
    Setting("segments", "when",
    "A condition on scored customers. The first that holds places a customer."),
    Setting("segments", "otherwise", "true in the last rule, which places everybody left."),
    Setting("segments", "stance", "What to do: keep, grow, welcome, win-back or leave."),
    Setting("value", "margin", "The share of revenue that is profit: 0.4 or 40%.", "--margin",
    "FRACTION", FORMULA, "share"),
    Setting("value", "horizon", "How many days to look ahead; 365 if nothing is said.", "--horizon",
    "DAYS", FORECAST, "number"),
    Setting("value", "discount_rate", "How much less next year's money is worth: 0.1 or 10%.",
            "--discount-rate", "FRACTION", FORECAST, "share"),
    Setting("value", "method",
    "The method of the forecast: best, naive, beta-geometric, central beta-geometric or Pareto.",
            "--method", "NAME", FORECAST),
    Setting("value", "backtest",
    "Learn up to this day and test on the rest; without it the last quarter is the test.",
            "--backtest", "DAY", FORECAST),
    Setting("value", "season",
    "auto (a season where two years of orders show one), yearly (there is one) or off.",
            "--season", "WORD", FORECAST),
    Setting("output", "separator", "What stands between the cells of CSV files: , ; | or a tab.",
    "--out-separator", "SIGN",
            OUTPUT),
    Setting("output", "decimal_mark",
    "The decimal mark of CSV files: . or a comma, which needs another separator.",
            "--out-decimal-mark", "MARK", OUTPUT),
    Setting("output", "byte_order_mark",
    "Begin CSV files with the mark by which spreadsheets know UTF-8.",
            "--byte-order-mark", "", OUTPUT, "flag"),
    Setting("output", "days",
    "How days are written: iso, day-first (30.06.2026) or month-first (06/30/2026).", "--out-days",
    "STYLE",
            OUTPUT),
    Setting("output", "currency",
    "What stands behind amounts: none, the code or the sign of the scheme's currency.",
    "--out-currency",
            "WHAT", OUTPUT),
    Setting("campaigns", "name",
    "One of the scheme's campaigns, or a new one's name. Without it, all the scheme's campaigns "
    "are listed."),
    Setting("campaigns", "when", "Customers for whom this SQL condition holds.", "--when",
    "CONDITION", WHO),
    Setting("campaigns", "bought_from", "Customers with one purchase on or after this day …",
    "--bought-from", "DAY", WHO, "day"),
    Setting("campaigns", "bought_through", "… and on or before this one …", "--bought-through",
    "DAY", WHO, "day"),
    Setting("campaigns", "at_least", "… of at least this amount.", "--at-least", "AMOUNT", WHO,
    "amount"),
    Setting("campaigns", "exclude", "A file of ids to leave out. It may be given several times.",
    "--exclude", "FILE", WHO, "texts"),
    Setting("campaigns", "consent", "The column of the customers file that has to say yes.",
    "--consent", "COLUMN", WHO),
    Setting("campaigns", "contacted",
    "An earlier list, for --contacted-days. It may be given several times.",
            "--contacted", "FILE", WHO, "texts"),
    Setting("campaigns", "contacted_days",
    "Leave out everybody whom an earlier list reached within this many days.",
            "--contacted-days", "DAYS",
            WHO, "number"),
    Setting("campaigns", "limit", "The most customers to list.", "--limit", "NUMBER", HOW_MANY,
    "number"),
    Setting("campaigns", "budget", "List as many as this amount pays for, at …", "--budget",
    "AMOUNT", HOW_MANY, "amount"),
    Setting("campaigns", "cost", "… this amount for each contact.", "--cost", "AMOUNT", HOW_MANY,
    "amount"),
    Setting("campaigns", "response",
    "The share of those gone whom a contact brings back: 0.05 or 5%. Gives `expected_return`.",
            "--response", "FRACTION", HOW_MANY, "share"),
    Setting("campaigns", "by", "The measure to rank by; spend if nothing is said.", "--by",
    "COLUMN", HOW_MANY, measure=True),
    Setting("campaigns", "ties", "Whether those tied at the limit are listed: include or exclude.",
    "--ties", "HOW", HOW_MANY),
    Setting("campaigns", "holdout", "The share to hold out, in percent: 20 or 20%.", "--holdout",
    "PERCENT", HOW_MANY, "percent"),
)  # fmt: skip


def of_part(part: str) -> dict[str, Setting]:
    """Key → setting of a part of the scheme."""
    return {s.key: s for s in SETTINGS if s.part == part}


def with_option(*parts: str) -> tuple[Setting, ...]:
    """The settings of these parts that the command line has, in the order of its help."""
    return tuple(s for s in SETTINGS if s.option and s.part in parts)
