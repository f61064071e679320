"""Every setting of a scheme as plain data: its meaning, and its option on the command line.

The models of ``scheme``, their JSON Schema, the commented scheme, the options and their help all
read it, so they always agree. It is separate from the models so that help is printed without
importing pydantic.
"""

from dataclasses import dataclass
from typing import Literal

#: The type of an option: text, a whole number, an amount, a date, a share (0.2 or 20%), a percent
#: (20 or 20%), repeated text, or a flag.
Given = Literal["text", "number", "amount", "day", "share", "percent", "texts", "flag"]
#: Headings of the help.
WINDOW, COLUMNS, WRITING = (
    "Rows and days", "Columns of the orders (where the scheme does not name them)",
    "Format of the file (where it is not detected)",
)  # fmt: skip
FORMULA, FORECAST, OUTPUT = "The formula", "The forecast", "Output"
CARRIED = "First and latest order's columns"
WHO, HOW_MANY = "Eligibility and exclusions", "How many"


@dataclass(frozen=True)
class Setting:
    """One key of one table of the scheme: ``part`` is the table and ``sentence`` the meaning. If
    ``option`` is set, the command line has the key.
    """

    part: str
    key: str
    sentence: str
    option: str = ""
    metavar: str = ""
    panel: str = ""
    given: Given = "text"
    measure: bool = False
    """True if its value is a measure of customers, one of ours or a column of the customers file.
    """
    default: str = ""
    """The scheme's default as the help shows it; empty if there is none."""


def _role(role: str, sentence: str) -> Setting:
    return Setting("orders", role, sentence, f"--{role.replace('_', '-')}-column", "NAME", COLUMNS)


SETTINGS: tuple[Setting, ...] = (
    Setting("time", "as_of", "The as-of date. Later rows do not count.", "--as-of", "DAY",
    WINDOW, "day"),
    Setting("time", "from", "The first day that counts.", "--from", "DAY", WINDOW, "day"),
    Setting("time", "through", "The last day that counts (inclusive).", "--through", "DAY",
    WINDOW, "day"),
    Setting("time", "time_zone",
    "The business time zone, an IANA name such as Europe/Lisbon, in which times become days."),
    Setting("time", "year_starts",
    "The first month of the year (and its quarters), such as 04 for April.",
            "--year-starts", "MONTH", WINDOW),
    Setting("orders", "where",
    "A SQL condition: only rows that match it count. If the scheme has one too, both must match.",
            "--where", "CONDITION", WINDOW),
    Setting("orders", "allow",
            "Accept a finding that is usually an error but correct in this file: "
            "repeated-total, discount-unit or unmatched-customers.",
            "--allow", "FINDING", WINDOW, "texts"),
    Setting("orders", "drop",
    "Rows to drop: repeats (identical to another row), repeats-across-files (only if in "
    "another file) or older-versions (of each order, keep the version in the last file).",
            "--drop", "WHAT", WINDOW),
    Setting("orders", "version",
    ("The column that shows which version of an order is the latest, instead of the order of "
        "the files."),
            "--version-column", "NAME", WINDOW),
    _role("customer", "The column of customer ids."),
    _role("order", "The column of order ids. Without it every row is an order."),
    _role("placed", "The column of order dates or times."),
    _role("amount", "The column of amounts."),
    _role("unit_price", "The column of unit prices, if there are no amounts."),
    _role("quantity", "The column of quantities, for unit prices."),
    _role("discount",
    "The column of discounts on unit prices, or of money off an amount."),
    _role("name", "The column of customer names."),
    _role("channel", "The column of sales channels."),
    _role("status", "The column of order statuses, such as paid or cancelled."),
    _role("currency",
    "The column of currencies; `none` if all amounts are in one currency."),
    _role("cost", "The column of the shop's cost of the row."),
    Setting("orders", "kept_in",
    ("A folder that keeps the orders of files that were read, so that only new files are "
        "read again."),
    "--kept-in", "FOLDER",
            WRITING),
    Setting("orders", "spark",
    "The Spark cluster that runs the computation, such as local[2] or spark://host:7077.", "--spark", "MASTER",
    WRITING),
    Setting("orders", "table", "The table to read, if ORDERS is the address of a database.",
    "--table", "NAME", WRITING),
    Setting("orders", "query", "A SELECT that gives the rows, in place of a table.", "--query",
    "SQL", WRITING),
    Setting("orders", "date_format",
    "The date format: iso, day-first, month-first, year-first, or a pattern such as %d.%m.%y.",
            "--date-format", "FORMAT", WRITING),
    Setting("orders", "decimal_mark", "The decimal mark: . or a comma.", "--decimal-mark", "MARK",
    WRITING),
    Setting("orders", "separator", "The separator of a text file.", "--separator",
    "SIGN", WRITING),
    Setting("orders", "encoding", "The encoding of a text file: utf-8, utf-16, cp1252 or another.",
    "--encoding", "NAME", WRITING),
    Setting("orders", "header_row",
    "The row with the column names, counted from 1; 0 if there is none.", "--header-row",
    "NUMBER",
            WRITING, "number"),
    Setting("orders", "sheet",
    "The sheet of a workbook, or * for all sheets with the same columns.", "--sheet", "NAME",
    WRITING),
    Setting("orders", "amount_is",
    "What an amount refers to: line (rows add up) or order (each row repeats the order's total).",
            "--amount-is", "GRAIN", COLUMNS),
    Setting("orders", "amount_unit",
    "The unit of amounts: major, or minor such as cents.", "--amount-unit", "UNIT",
    COLUMNS),
    Setting("orders", "discount_as",
    "The unit of discounts: fraction (0 to 1), percent (0 to 100) or amount (money off).",
            "--discount-as", "UNIT", COLUMNS),
    Setting("orders", "channel_customers",
    "For each channel its column of customer ids, if every channel has its own column."),
    Setting("orders", "channel_amounts",
    "For each channel its column of amounts, if every channel has its own column."),
    Setting("orders", "day_amounts",
    "For each day its column of amounts, if every day or month has its own column."),
    Setting("orders", "credit",
    "The column of amounts given back. A row has either an amount or a credit.",
            "--credit-column", "NAME", COLUMNS),
    Setting("lines", "file",
    "A separate file with the lines of the orders."),
    Setting("lines", "order", "The order id in the lines file."),
    Setting("lines", "amount", "The line's amount in the lines file."),
    Setting("lines", "unit_price", "The unit price in the lines file, instead of an amount."),
    Setting("lines", "quantity", "The quantity in the lines file, for unit prices."),
    Setting("lines", "discount", "The discount in the lines file, as a fraction."),
    Setting("money", "decimals", "The number of decimals of amounts, from 0 to 4."),
    Setting("money", "refunds",
    "How refunds count: net (they lower spend) or ignore (they do not count)."),
    Setting("money", "currency", "The currency to keep, or to convert into."),
    Setting("money", "rates", "A file of currency, day and exchange rate."),
    Setting("money", "columns",
    "Other columns with money of the row, such as fees, in its currency and unit."),
    Setting("customers", "file", "A file with one row per customer."),
    Setting("customers", "customer", "The column of customer ids in the customers file.",
    "--customers-id", "NAME", COLUMNS),
    Setting("customers", "name", "The column of customer names in the customers file.",
    "--customers-name", "NAME", COLUMNS),
    Setting("customers", "since",
    "The column of the day on which a customer signed up, in the customers file.",
    "--customers-since", "NAME",
            COLUMNS),
    Setting("customers", "at_first",
    "A column of the orders. Its value at the first order becomes first_COLUMN.",
            "--at-first", "COLUMN", CARRIED, "texts"),
    Setting("customers", "at_latest",
    "A column of the orders. Its value at the latest order becomes latest_COLUMN.",
            "--at-latest", "COLUMN", CARRIED, "texts"),
    Setting("customers", "encoding", "The encoding of the customers file, if it is not detected."),
    Setting("scores", "rungs", "The number of rungs of each ladder, from 2 to 100."),
    Setting("scores", "method",
    "How ladders are cut: even, or at a kind of quantile: inclusive, exclusive or inverse."),
    Setting("scores", "weights",
    "The weights of the recency, frequency and monetary scores in the total."),
    Setting("scores", "shares",
    "The wanted share of customers on each rung, worst rung first; equal shares by default."),
    Setting("scores", "within", "A column; each of its values gets its own ladders."),
    Setting("scores", "percentile_of", "The measure of `percentile` and `percent_rank`.",
    measure=True),
    Setting("tiers", "of", "The measure that the tiers divide.", measure=True),
    Setting("tiers", "top_percents",
    "Upper limits of the tiers from the best down, in percent of the customers."),
    Setting("tiers", "spend_percents",
    "Upper limits of the tiers from the best down, in percent of the measure's total."),
    Setting("tiers", "rungs", "The number of tiers of equal size."),
    Setting("tiers", "shares", "The wanted share of customers in each tier, worst tier first."),
    Setting("tiers", "labels", "The names of the tiers, best first."),
    Setting("tiers", "ties",
    "Whether customers tied at a limit get the better tier: include or exclude."),
    Setting("tiers", "better", "Which end of the measure is better: high or low."),
    Setting("tiers", "within", "A column; each of its values gets its own tiers."),
    Setting("segments", "name", "The segment's name."),
    Setting("segments", "when",
    "A condition on scored customers. The first rule that matches decides the segment."),
    Setting("segments", "otherwise", "true in the last rule, which takes all remaining customers."),
    Setting("segments", "stance", "The recommended action: keep, grow, welcome, win-back or leave."),
    Setting("value", "margin", "The share of revenue that is profit: 0.4 or 40%.", "--margin",
    "FRACTION", FORMULA, "share"),
    Setting("value", "horizon", "The number of days to forecast.", "--horizon",
    "DAYS", FORECAST, "number", default="365"),
    Setting("value", "discount_rate", "The yearly discount rate of future money: 0.1 or 10%.",
            "--discount-rate", "FRACTION", FORECAST, "share"),
    Setting("value", "method",
    "The method of the forecast: best, naive, beta-geometric, central beta-geometric or Pareto.",
            "--method", "NAME", FORECAST, default="best"),
    Setting("value", "backtest",
    "Train on data up to this day and test on the rest; by default the last quarter is the test.",
            "--backtest", "DAY", FORECAST),
    Setting("value", "season",
    "The season: auto (used if two years of orders show one), yearly (always) or off.",
            "--season", "WORD", FORECAST, default="auto"),
    Setting("output", "separator", "The separator of CSV files: , ; | or a tab.",
    "--out-separator", "SIGN",
            OUTPUT),
    Setting("output", "decimal_mark",
    "The decimal mark of CSV files: . or a comma, which needs another separator.",
            "--out-decimal-mark", "MARK", OUTPUT),
    Setting("output", "byte_order_mark",
    "Start CSV files with a byte order mark, so that spreadsheets recognise UTF-8.",
            "--byte-order-mark", "", OUTPUT, "flag"),
    Setting("output", "days",
    "The format of dates: iso, day-first (30.06.2026) or month-first (06/30/2026).", "--out-days",
    "STYLE",
            OUTPUT),
    Setting("output", "currency",
    "The currency after amounts: none, code or sign, of the scheme's currency.",
    "--out-currency",
            "WHAT", OUTPUT),
    Setting("campaigns", "name",
    "A campaign of the scheme, or a new one's name. Default: all of the scheme."),
    Setting("campaigns", "when", "A SQL condition on customers: those who match are eligible.", "--when",
    "CONDITION", WHO),
    Setting("campaigns", "bought_from", "Customers with at least one purchase on or after this day …",
    "--bought-from", "DAY", WHO, "day"),
    Setting("campaigns", "bought_through", "… and on or before this day …", "--bought-through",
    "DAY", WHO, "day"),
    Setting("campaigns", "at_least", "… of at least this amount.", "--at-least", "AMOUNT", WHO,
    "amount"),
    Setting("campaigns", "exclude", "A file of ids to exclude; can be repeated.",
    "--exclude", "FILE", WHO, "texts"),
    Setting("campaigns", "consent", "The customers file's column of consent: only a yes is listed.",
    "--consent", "COLUMN", WHO),
    Setting("campaigns", "contacted",
    "An earlier list, for --contacted-days; can be repeated.",
            "--contacted", "FILE", WHO, "texts"),
    Setting("campaigns", "contacted_days",
    "Exclude customers contacted within this many days.",
            "--contacted-days", "DAYS",
            WHO, "number"),
    Setting("campaigns", "limit", "The maximum number of customers to list.", "--limit", "NUMBER", HOW_MANY,
    "number"),
    Setting("campaigns", "budget", "List as many customers as this amount pays for, at …", "--budget",
    "AMOUNT", HOW_MANY, "amount"),
    Setting("campaigns", "cost", "… this cost per contact.", "--cost", "AMOUNT", HOW_MANY,
    "amount"),
    Setting("campaigns", "response",
    "Share of inactive customers that a contact brings back: 0.05 or 5%.",
            "--response", "FRACTION", HOW_MANY, "share"),
    Setting("campaigns", "by", "The measure to rank by.", "--by",
    "COLUMN", HOW_MANY, measure=True, default="spend"),
    Setting("campaigns", "ties", "Whether customers tied at the limit are listed: include or exclude.",
    "--ties", "HOW", HOW_MANY, default="include"),
    Setting("campaigns", "holdout", "The percentage of customers to hold out: 20 or 20%.", "--holdout",
    "PERCENT", HOW_MANY, "percent"),
)  # fmt: skip


def of_part(part: str) -> dict[str, Setting]:
    """Return key → setting for one table of the scheme."""
    return {s.key: s for s in SETTINGS if s.part == part}


def with_option(*parts: str) -> tuple[Setting, ...]:
    """Return the settings of these parts that have an option, in the order of the help."""
    return tuple(s for s in SETTINGS if s.option and s.part in parts)


def as_markdown() -> str:
    """Return all settings as Markdown, the text of ``docs/scheme.md``."""
    lines = [
        "# The scheme",
        "",
        "After this page you know every key of a scheme, the TOML file with all settings. Keys with an",
        "option can also be set on the command line. `fairladder start ORDERS` writes a first scheme.",
        "",
        "Generated from `fairladder.settings` by `python -m fairladder.settings`.",
        "",
    ]
    for part in dict.fromkeys(s.part for s in SETTINGS):
        lines += [f"## [{part}]", "", "| key | option | meaning |", "|---|---|---|"]
        for s in (s for s in SETTINGS if s.part == part):
            default = f" Default: {s.default}." if s.default else ""
            option = f"`{s.option}`" if s.option else ""
            lines.append(
                f"| `{s.key}` | {option} | {s.sentence.replace('|', chr(92) + '|')}{default} |"
            )
        lines.append("")
    return "\n".join(lines)


if __name__ == "__main__":
    print(as_markdown(), end="")
