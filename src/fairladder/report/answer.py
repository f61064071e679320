"""The answer that a report begins with: who carries the shop, who is slipping, who can be left
alone, what to do, and how sure.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import pandas as pd

from fairladder import wording
from fairladder.frames import row_of_largest
from fairladder.report.contents import Contents


@dataclass(frozen=True)
class Line:
    """A question and its answer, with the stance that it speaks of."""

    question: str
    answer: str
    stance: str = ""


def answer_of(about: Contents) -> list[Line]:
    """The three sentences, the one thing to do next, and how sure it is; only the reasons
    where there are too few to advise.
    """
    if about.few:
        return [Line("Why is there no advice?", " ".join(about.few)), _how_sure(about)]
    return [
        _stance(
            about,
            "Who carries the shop?",
            ("keep",),
            "nobody yet: no segment to keep holds a customer.",
        ),
        _slipping(about),
        _stance(
            about,
            "Who can be left alone?",
            ("leave",),
            "nobody: no segment to leave alone holds a customer.",
        ),
        _next(about),
        _how_sure(about),
    ]


def _held(about: Contents, stances: Sequence[str]) -> pd.DataFrame:
    table = about.segments
    return table[table["stance"].isin(stances) & (table["customers"] > 0)]


def _money(about: Contents, amount: object) -> str:
    return f"{wording.money(amount)} {about.currency}".strip()


def _stance(about: Contents, question: str, stances: tuple[str, ...], nobody: str) -> Line:
    held = _held(about, stances)
    if held.empty:
        return Line(question, nobody[0].upper() + nobody[1:], stances[0])
    people, share = (
        wording.counted(held["customers"].sum(), "customers"),
        held["customer_share"].sum(),
    )
    text = f"{people} ({wording.percent(share)} of all) in {wording.listed(held['segment'])}. They have spent "
    text += f"{_money(about, held['spend'].sum())}, {wording.percent(held['spend_share'].sum())} of all spend."
    return Line(question, text, stances[0])


def _slipping(about: Contents) -> Line:
    question, held = "Who is slipping?", _held(about, ("win-back",))
    if held.empty:
        return Line(question, "Nobody: no segment to win back holds a customer.", "win-back")
    line = _stance(about, question, ("win-back",), "")
    if about.forecast is None:
        return line
    these = about.customers["stance"].astype(str) == "win-back"
    expected = about.customers.loc[these, "expected_value"].sum()
    more = f" Left to themselves they are expected to bring {_money(about, expected)} in the next {about.forecast.horizon} days."
    return Line(question, line.answer + more, "win-back")


def _next(about: Contents) -> Line:
    question, held = "What is the one thing to do next?", _held(about, ("win-back",))
    held = held[held["spend"] > 0]
    if about.checked.errors:
        first = about.checked.errors[0]
        return Line(
            question,
            f"Settle what makes these numbers wrong first: {first.effect.rstrip('.')}. {first.advice}".strip(),
        )
    if held.empty:
        return Line(
            question,
            "Nobody needs to be won back. Look after those who carry the shop, and come back next "
            "month.",
        )
    best = row_of_largest(held, held["spend"])
    each = best["spend"] / best["customers"]
    days = wording.days(best["median_recency_days"])
    if best["customers"] == 1:
        return Line(
            question,
            f"Write to the one customer of {best['segment']}, who has spent {_money(about, each)} "
            f"and not ordered for {days} days.",
            "win-back",
        )
    return Line(
        question,
        f"Write to the {wording.counted(best['customers'], 'customers')} of {best['segment']}: "
        f"they have spent {_money(about, each)} "
        f"each, and half of them have not ordered for {days} days or more. `fairladder campaign` "
        "makes the list and holds some out, "
        "so that you can tell what the letter brought.",
        "win-back",
    )


def _how_sure(about: Contents) -> Line:
    balance = about.checked.balance
    parts = [f"{wording.percent(balance.used / balance.rows_read)} of the rows read are used."]
    errors = [f for f in about.checked.findings if f.level == "error"]
    warnings = [f for f in about.checked.findings if f.level == "warning"]
    if errors:
        parts.insert(
            0,
            f"Not sure at all: {wording.counted(len(errors), 'findings', 'have')} to be settled "
            "before these numbers count.",
        )
    if warnings:
        parts.append(f"{wording.counted(len(warnings), 'warnings', 'stand')} below.")
    if about.forecast is not None and about.forecast.backtest is not None:
        parts.append(about.forecast.backtest.in_words())
    elif about.forecast is not None:
        parts.append(
            "The forecast is untested: the history is too short to set some months aside for a "
            "test."
        )
    return Line("How sure is this?", " ".join(parts))
