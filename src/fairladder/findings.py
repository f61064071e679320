"""The registry of findings as plain data: code, levels, text and advice.

``check``, the notes of all commands, ``--facts``, the report and ``docs/findings.md`` read it, so
they always agree.
"""

import re
from collections.abc import Collection, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any, Literal

Level = Literal["error", "warning", "note"]
#: The source of a finding: the pass over the rows that every command makes; a second look at the
#: rows, which for large sources only `check` makes; the customers; or how the file is read.
FoundIn = Literal["pass", "rows", "customers", "reading"]
#: Levels, most serious first.
LEVELS: tuple[Level, ...] = ("error", "warning", "note")


@dataclass(frozen=True)
class Finding:
    """One finding: its count, its effect on the totals, up to five examples, and advice."""

    code: str
    level: Level
    count: int
    effect: str
    examples: tuple[str, ...]
    advice: str
    money: str | None = None
    """The money at stake as exact text in major units; None if unknown."""

    def as_json(self) -> dict[str, Any]:
        """Return plain JSON values under the field names."""
        return {**asdict(self), "examples": list(self.examples)}

    @property
    def sentence(self) -> str:
        """Return the finding as one note to print below a result."""
        lead = "" if self.level == "note" else f"{self.level.capitalize()}: "
        counts = KNOWN[self.code].found_in != "reading" and not self.effect[:1].isupper()
        statement = (
            f"{self.count:,} {_agreeing(self.count, self.effect)}" if counts else self.effect
        )
        end = "" if self.effect.endswith(".") else "."
        return " ".join(filter(None, (f"{lead}{statement}{end}", self.advice)))


#: Verbs of effects, plural to singular.
_VERBS = {
    "are": "is",
    "have": "has",
    "were": "was",
    "repeat": "repeats",
    "add": "adds",
    "do": "does",
    "count": "counts",
    "belong": "belongs",
    "lower": "lowers",
}


def _agreeing(count: int, effect: str) -> str:
    """Return an effect, written in the plural, with its first noun, its verb and a verb after
    ``and`` in the number of ``count``.
    """
    if count != 1:
        return effect
    words = effect.split(" ")
    clause = next((i for i, word in enumerate(words[:7]) if word.endswith(";")), 7)
    verb = next(
        (i for i, word in enumerate(words[: clause + 1]) if word.rstrip(":") in _VERBS), len(words)
    )
    noun = 0 if words[0].endswith("s") else verb - 1
    if words[0] == "of" or (verb == len(words) and clause == 7):
        return effect  # "of" is not counted, and without a verb the noun is not known
    words[noun] = re.sub(r"(?<=us)es\b|s\b", "", words[noun])
    for i in range(verb, len(words)):
        if i == verb or words[i - 1] == "and":
            words[i] = re.sub(r"\w+", lambda found: _VERBS.get(found[0], found[0]), words[i])
    return " ".join(words)


@dataclass(frozen=True)
class Known:
    """The static part of a finding; ``effect`` and ``advice`` are templates for its figures."""

    code: str
    levels: tuple[Level, ...]
    found_in: FoundIn
    meaning: str
    """One sentence for the documentation."""
    effect: str
    advice: str = ""
    allowed: bool = False
    """True if ``--allow CODE`` turns the error into a warning."""


def finding(
    code: str,
    count: int,
    *,
    level: Level | None = None,
    examples: Sequence[str] = (),
    money: str | None = None,
    **parts: Any,
) -> Finding:
    """Return a finding of the registry with its figures filled in. ``level`` defaults to its first
    level.

    Raises KeyError for a code that is not registered, ValueError for a level that the code cannot
    have.
    """
    known = KNOWN[code]
    chosen = level or known.levels[0]
    if chosen not in known.levels:
        raise ValueError(f"{code} cannot be {chosen}; it is {' or '.join(known.levels)}")
    effect, advice = (text.format(money=money, **parts) for text in (known.effect, known.advice))
    at_stake = None if money is None else money.replace(",", "")
    return Finding(code, chosen, count, effect, tuple(examples[:5]), advice, at_stake)


def allowed(findings: Sequence[Finding], codes: Collection[str]) -> list[Finding]:
    """Return the findings, with errors whose codes are allowed turned into warnings."""
    return [
        replace(f, level="warning") if f.level == "error" and f.code in codes else f
        for f in findings
    ]


def sentences(findings: Sequence[Finding]) -> list[str]:
    """Return errors, then warnings, as one sentence each."""
    return [f.sentence for level in LEVELS[:2] for f in findings if f.level == level]


def codes_in(found_in: FoundIn) -> tuple[str, ...]:
    """Return the codes of errors and warnings that come from one source."""
    return tuple(k.code for k in KNOWN.values() if k.found_in == found_in and k.levels != ("note",))


_ALL = (
    # the pass over the rows
    Known("no-usable-row", ("error",), "pass", "No row can be used, so every table is empty.",
          "No row can be used, so every table is empty",
          ("Look at the reasons in the balance: the columns, the dates or `where` do not fit "
              "the file.")),
    Known("mostly-set-aside", ("error", "warning"), "pass", "More than 20 % of the rows are set aside.",
          "rows are set aside, more than {percent} % of all", "The columns are probably mapped wrongly. Correct [orders] in the scheme, or pass "
          "--allow-set-aside."),
    Known("mixed-currencies", ("error",), "pass", "Amounts are in several currencies and none is chosen.",
          "different currencies would be added up ({currencies})",
          "Choose one with `currency` under [money]; the others are then set aside. Or convert them: `rates` under [money] names a file of "
          "currency, day and rate.{instead}"),
    Known("unknown-condition", ("warning",), "pass", "`where` is undecided for some rows because a cell is blank.",
          "rows are filtered out because a cell that `where` needs is blank",
          "If they should count, write the condition so that blanks pass: `state IS NULL OR state <> 'x'`."),
    Known("repeated-total", ("warning", "error"), "pass", "The total of an order was probably joined onto each of its lines.",
          "of {orders} orders with several rows repeat one amount on each: the total was probably joined onto every line, and spend is "
          "{money} too high",
          'If so, set `amount_is = "order"` under [orders] (--amount-is order). If each row is right, pass --allow repeated-total.',
          allowed=True),
    Known("cancelled-orders", ("warning",), "pass", "Rows with a status such as cancelled, returned or unpaid count.",
          "rows count although `{column}` says cancelled, returned, unpaid or the like; they add {money} to spend",
          "If they should not count, filter them out with {condition}"),
    Known("discount-unit", ("error", "warning"), "pass", "The unit of the discounts is probably wrong.",
          "rows have a discount over 1 in `{column}` and are set aside: discounts seem to be in percent or money off, and a 1 among them "
          "would be read as 100 % off",
          'Set `discount_as = "percent"` under [orders] (--discount-as percent), "amount" for money off, or "fraction" if those rows are '
          "wrong.", allowed=True),
    Known("full-discounts", ("error",), "pass", "All discounts are 0 or 1, and a 1 can be 1 % or 100 % off.",
          "rows have a discount of 1 in `{column}`, which is read as 100 % off; all other discounts are 0",
          'If 1 means one percent, set `discount_as = "percent"` under [orders] (--discount-as percent). If 1 means all of it, set '
          '"fraction".'),
    Known("straddling-orders", ("warning",), "rows", "Some orders have rows inside and outside the date range.",
          "orders have rows inside and outside the date range; outside: {rows} with {money}",
          "Choose days that do not split orders, or give every row of an order the same day."),
    # a second look at the rows
    Known("duplicate-rows", ("warning",), "rows", "Rows of one file repeat another row of it in every cell.",
          "rows repeat another of the same file in every cell and add {money} to spend",
          'Two equal lines of one order can be real. If these are not, set `drop = "repeats"` under [orders] (--drop repeats).'),
    Known("repeats-across-files", ("warning",), "rows", "Rows are in several files: the exports overlap.",
          "rows are in several files with the same cells and add {money} to spend",
          "The exports probably overlap. Keep one copy of each with --drop repeats-across-files."),
    Known("changed-orders", ("warning",), "rows", "Orders are in several files with different cells.",
          "orders are in several files with different cells; all versions count, and the earlier ones add {money} to spend",
          "If the last file has the valid version, keep only that with --drop older-versions."),
    Known("shared-order", ("warning",), "rows", "One order id belongs to several customers.",
          "order ids belong to more than one customer; they make {orders} ({money})",
          ("Check whether ids start again each year or in each shop, or whether a customer's "
              "id is written in two ways.")),
    Known("after-today", ("warning",), "rows", "Rows are dated after today.",
          "rows are dated after today ({today}), with {money}",
          "Check whether day and month are swapped; rows after --as-of do not count."),
    Known("serial-dates", ("warning",), "rows", "Dates that cannot be read look like the day numbers of a spreadsheet.",
          "dates are written as numbers, probably the day numbers of a spreadsheet; {money} are set aside",
          'If so, set `date_format = "spreadsheet-days"` under [orders].'),
    Known("unread-amounts", ("warning", "note"), "rows", "Amounts cannot be read, so their rows are set aside.",
          ("rows are set aside because the amount cannot be read as a number; judging by "
              "their digits, they contain up to {money}"),
          "See the cells in `fairladder check --part set-aside`. Name another column with --amount-column, or set `decimal_mark`."),
    Known("statuses", ("warning", "note"), "rows", "The statuses that count, with rows and money.",
          "statuses in `{column}` count: {list}", "To count only some, pass {condition}"),
    Known("kinds-of-rows", ("warning",), "rows", "A column distinguishes several kinds of rows, and all of them count.",
          "kinds of rows in `{column}` all count: {list}", "To count only some, pass {condition}"),
    Known("excess-decimals", ("note",), "rows", "Amounts have more decimals than the currency.",
          "amounts with over {decimals} decimals are rounded, which changes the total by {money}", "Set `decimals` under [money] if the extra decimals matter."),
    Known("unmatched-customers", ("error",), "customers", "The orders and the customers file write ids differently.",
          ("of {ids} ids occur in only one of the files: the orders write {ours}, and "
              "{label} writes {theirs}"),
          "{cause}Name the right columns with `customer` under [orders] and [customers], or write ids the same way in both files. If they "
          "are right, pass --allow unmatched-customers.", allowed=True),
    Known("unknown-customers", ("warning", "note"), "customers", "Customers have orders but no row in the customers file.",
          "customers have orders (spend {money}) but no row in the customers file, {percent} of all buyers",
          "{cause}Ask for a newer customers file, or check that both files write ids the same way."),
    Known("spoiled-ids", ("warning",), "customers", "Customer ids were damaged by a spreadsheet or an export.",
          ("customer ids are damaged ({kinds}); {orders} with {money} may belong to other "
              "customers"),
          "Export the ids as text. Filter out rows without a customer with --where {condition}"),
    Known("id-near-twins", ("warning",), "customers", "Customer ids differ only in case, spaces or leading zeros.",
          "ids are written in several ways that differ only in case, spaces or leading zeros; the most used spellings have {most}, the "
          "others {rest}",
          "If they are one customer, write the id the same way throughout the export."),
    Known("odd-accounts", ("warning",), "customers", "Ids or names look like accounts for tests, staff or guests.",
          ("customers have ids or names that look like accounts for tests, staff or guests; "
              "they have {held}"),
          "Look at them, and filter out those that are not customers with --where {condition}"),
    Known("short-history", ("warning",), "customers", "The orders cover less than 180 days.",
          "days of history; fewer than {least} are too few to judge lifetimes", "Export a longer period before judging who is inactive."),
    Known("one-customer-dominates", ("warning",), "customers", "One customer has over 20 % of all spend.",
          "customer has {share} % of all spend", "Check whether this is a reseller or a shared account, and read averages with care."),
    Known("name-twins", ("note",), "customers", "One name belongs to several customer ids.",
          "names belong to several ids: {customers} with {held}",
          "Customers are identified by id. If two are one person, merge them in the export."),
    Known("refunds", ("note",), "customers", "Orders with a negative amount lower the spend.",
          "orders below zero, from {customers}, lower the spend",
          'Set `refunds = "ignore"` under [money] if spend should count purchases only.'),
    Known("zero-orders", ("note",), "customers", "Orders of 0 do not count as purchases.", "orders of 0 do not count as purchases"),
    Known("no-orders", ("note",), "customers", "Some customers in the customers file have no order.",
          "customers in the customers file have no order", "They appear in every table, without scores."),
    Known("ties-at-cuts", ("note",), "customers", "Cutting the sorted list into equal parts would split customers with equal values.", "{text}",
          "Ladders give equal customers equal scores, so rungs differ a little in size."),
    # how the file is read
    Known("guessed-columns", ("note",), "reading", "Columns that the scheme does not name are guessed.",
          ("Columns are guessed: {list}. Run `fairladder start` to write them to a scheme, "
              "with the reasons")),
    Known("reading", ("note",), "reading", "The format of the file: sheets, separator, dates and numbers.", "{text}"),
    Known("unused-discount", ("note",), "reading", "A column that looks like a discount is not used.",
          "`{column}` looks like a discount and is not used: amounts are used unchanged",
          ("If they are before the discount, give --unit-price-column, --quantity-column and "
              "--discount-column instead of an amount.")),
    Known("discount-in-percent", ("note",), "reading", "Discounts are read as percentages, judging by name and cells.",
          "`{column}` is read as percentages because of its name and its values over 1", "Otherwise pass --discount-as fraction or amount."),
    Known("amounts-in-cents", ("note",), "reading", "Amounts are read as minor units because of the column's name.",
          "`{column}` is read in minor units such as cents, as its name says: 1234 is 12.34", "Otherwise pass --amount-unit major."),
    Known("money-given-back", ("note",), "reading", "A column of refunded amounts is not subtracted.",
          "`{column}` contains refunded amounts, which are not subtracted from `{amount}`",
          "If it should be, pass --discount-column {option} --discount-as amount."),
    Known("customers-key", ("note",), "reading", "The column that joins the customers file was found by its values or its name.", "{text}"),
    Known("no-order-ids", ("note",), "reading", "Without an order column every row is one order.",
          "No order column is known, so every row counts as one order"),
    Known("days-as-written", ("note",), "reading", "Timestamps with an offset count on the day that is written.",
          "Some timestamps have an offset from UTC; the day is taken as written", "Set `time_zone` to convert them."),
    Known("days-in-utc", ("note",), "reading", "Instants count on their day in UTC.",
          "Order times are instants; their day is taken in UTC", "Set `time_zone` to convert them."),
    Known("chosen-rows", ("note",), "reading", "Only rows in the date range that match `where` count.",
          "Only rows {which} count towards `orders`, `first_order` and the segments"),
    Known("shown-periods", ("note",), "reading", "The date range limits what is shown; earlier orders still decide who is new.",
          ("The date range from {first} limits what is shown; earlier orders still decide "
              "who is new, order numbers and gaps")),
)  # fmt: skip
_WHERE = {
    "pass": "The pass over the rows, which every command makes.",
    "rows": (
        "A second look at the rows: every command up to a million rows (200,000 in a database), "
        "larger sources in `check` only."
    ),
    "customers": "The customers.",
    "reading": "How the file is read.",
}


def as_markdown() -> str:
    """Return all findings as Markdown, the text of ``docs/findings.md``."""
    lines = [
        "# Findings",
        "",
        (
            "Generated from `fairladder.findings` by `python -m fairladder.findings`; all other "
            "modules read it, too."
        ),
        "",
    ]
    lines += [("Every command prints errors and the warnings with the most money below its result, and all with `--all-notes`. `--fail-on warning` "
        "exits with code 1 if there is one. An error"),
              "that is right in this file can be allowed with `--allow CODE` where the table says so.", ""]  # fmt: skip
    for where, title in _WHERE.items():
        lines += [
            f"## {title.rstrip('.')}",
            "",
            "| code | level | meaning | `--allow` |",
            "|---|---|---|---|",
        ]
        lines += [
            f"| `{k.code}` | {' or '.join(k.levels)} | {k.meaning} | {'yes' if k.allowed else ''} |"
            for k in _ALL
            if k.found_in == where
        ]
        lines.append("")
    return "\n".join(lines)


#: Code → the static part of the finding.
KNOWN = {known.code: known for known in _ALL}
#: Codes of errors that a user can allow after checking them.
ALLOWED = (*(k.code for k in _ALL if k.allowed), "set-aside")


if __name__ == "__main__":
    print(as_markdown(), end="")
