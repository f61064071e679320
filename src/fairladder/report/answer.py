"""The answer at the top of a report: who contributes most, who is slipping, which customers to leave alone,
what to do, and how certain it is.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import pandas as pd

from fairladder import wording
from fairladder.frames import row_of_largest
from fairladder.report.contents import Contents


@dataclass(frozen=True)
class Line:
    """A question and its answer, with the stance that it is about."""

    question: str
    answer: str
    stance: str = ""


def answer_of(about: Contents) -> list[Line]:
    """Return the three findings, the next step, and how certain it is; only the reasons if there
    are too few customers for advice.
    """
    if about.few:
        return [Line("Why is there no advice?", " ".join(about.few)), _how_sure(about)]
    return [
        _stance(
            about, "Who contributes most?", ("keep",), "none yet: no segment to keep has customers."
        ),
        _slipping(about),
        _stance(
            about,
            "Who can be left alone?",
            ("leave",),
            "none: no segment to leave alone has customers.",
        ),
        _next(about),
        _how_sure(about),
    ]


def _held(about: Contents, stances: Sequence[str]) -> pd.DataFrame:
    table = about.segments
    return table[table["stance"].isin(stances) & (table["customers"] > 0)]


def _money(about: Contents, amount: object) -> str:
    return f"{wording.money(amount)} {about.currency}".strip()


def _stance(about: Contents, question: str, stances: tuple[str, ...], if_empty: str) -> Line:
    held = _held(about, stances)
    if held.empty:
        return Line(question, if_empty[0].upper() + if_empty[1:], stances[0])
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
        return Line(question, "No customers: the segments to win back are empty.", "win-back")
    line = _stance(about, question, ("win-back",), "")
    if about.forecast is None:
        return line
    these = about.customers["stance"].astype(str) == "win-back"
    expected = about.customers.loc[these, "expected_value"].sum()
    more = (
        f" Without any action their expected value is {_money(about, expected)} in the next "
        f"{about.forecast.horizon} days."
    )
    return Line(question, line.answer + more, "win-back")


def _next(about: Contents) -> Line:
    question, held = "What is the one thing to do next?", _held(about, ("win-back",))
    held = held[held["spend"] > 0]
    if about.checked.errors:
        first = about.checked.errors[0]
        return Line(
            question,
            (
                f"Resolve what makes these numbers wrong first: {first.effect.rstrip('.')}. "
                f"{first.advice}"
            ).strip(),
        )
    if held.empty:
        return Line(
            question,
            "No customer needs to be won back. Look after those who contribute most, and "
            "come back next month.",
        )
    best = row_of_largest(held, held["spend"])
    each = best["spend"] / best["customers"]
    days = wording.days(best["median_recency_days"])
    if best["customers"] == 1:
        return Line(
            question,
            f"Contact the one customer in {best['segment']}, who has spent "
            f"{_money(about, each)} and not ordered for {days} days.",
            "win-back",
        )
    return Line(
        question,
        f"Contact the {wording.counted(best['customers'], 'customers')} in "
        f"{best['segment']}. They have spent {_money(about, each)} on average, and half of "
        f"them have not ordered for {days} days or more. `fairladder campaign` makes the "
        "list and holds some customers out, so that you can measure the effect.",
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
            f"Not certain: {wording.counted(len(errors), 'findings', 'have')} to be resolved "
            "before these numbers count.",
        )
    if warnings:
        parts.append(f"{wording.counted(len(warnings), 'warnings', 'are')} listed below.")
    if about.forecast is not None and about.forecast.backtest is not None:
        parts.append(about.forecast.backtest.in_words())
    elif about.forecast is not None:
        parts.append(
            "The forecast is untested: the history is too short to set months aside for a test."
        )
    return Line("How certain is this?", " ".join(parts))
