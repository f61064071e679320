"""The answer at the top of a report: what to do next, and how certain that is."""

from dataclasses import dataclass

from fairladder import wording
from fairladder.report.actions import Action
from fairladder.report.contents import Contents
from fairladder.report.key_figures import KeyFigure


@dataclass(frozen=True)
class Line:
    """A heading and its text, with the stance that it is about."""

    heading: str
    text: str
    stance: str = ""


def answer_of(about: Contents) -> list[Line]:
    """Return the ranked actions, the customers to leave alone, and how certain this is; only the
    reasons if the orders or the number of customers do not allow advice.
    """
    lines = no_advice(about)
    if not lines:
        ranked = enumerate(about.plan.actions, start=1)
        lines = [
            Line(f"{n}. {a.title}.", f"{who(a)} {a.why} {gain(about, a)}".strip(), a.stance)
            for n, a in ranked
        ]
        lines += [left_alone(about)] if about.plan.leave is not None else []
        lines.append(Line("How is this ranked?", about.plan.basis))
    certain = ". ".join(text[0].upper() + text[1:] for text, _ in confidence(about))
    return [*lines, Line("How certain is this?", f"{certain}.")]


def no_advice(about: Contents) -> list[Line]:
    """Return why there are no actions; empty if there are."""
    if about.checked.errors:
        first = about.checked.errors[0]
        return [
            Line(
                "First resolve what makes these numbers wrong.",
                f"{first.effect[0].upper()}{first.effect[1:].rstrip('.')}. {first.advice}".strip(),
                "win-back",
            )
        ]
    if about.few:
        return [Line("Why is there no advice?", " ".join(about.few))]
    if not about.plan.actions:
        return [Line("There is nobody to contact.", "No customer is in a segment to act on.")]
    return []


def who(action: Action) -> str:
    """Return the number of customers, as a sentence."""
    return f"{wording.counted(action.customers, 'customers')}."


def gain(about: Contents, action: Action) -> str:
    """Return what the action may bring and the highest cost of a contact; empty without a trusted
    forecast.
    """
    if wording.missing(action.worth) or about.forecast is None:
        return ""
    return (
        f"May bring {money(about, action.worth)} ({wording.money(action.low)} to "
        f"{wording.money(action.high)}). A contact may cost up to {money(about, action.each, 2)}."
    )


def left_alone(about: Contents) -> Line:
    """Return who can be left alone, and what a contact would bring."""
    leave = about.plan.leave
    assert leave is not None
    saved = "" if wording.missing(leave.worth) else (
        f" A contact would bring {money(about, leave.each, 2)}: dearer ones lose money."
    )  # fmt: skip
    return Line("Leave alone.", f"{who(leave)} {leave.why}{saved}", "leave")


def money(about: Contents, amount: float, decimals: int = 0) -> str:
    """Return an amount with the currency, if it is known."""
    return f"{wording.money(amount, decimals)} {about.currency}".strip()


def confidence(about: Contents) -> list[tuple[str, str]]:
    """Return reasons to trust the numbers or not, each with the section that explains it."""
    balance, findings = about.checked.balance, about.checked.findings
    errors = sum(f.level == "error" for f in findings)
    warnings = sum(f.level == "warning" for f in findings)
    parts = []
    if errors:
        have = wording.counted(errors, "findings", "have")
        parts.append((f"not certain: {have} to be resolved before these numbers count", "trust"))
    used = wording.percent(balance.used / balance.rows_read)
    parts.append((f"{used} of {wording.counted(balance.rows_read, 'rows')} are used", "trust"))
    parts.append((f"{wording.counted(warnings, 'warnings')} on the data", "trust"))
    tested = about.forecast.backtest if about.forecast is not None else None
    if about.forecast is None:
        parts.append(("there is no forecast", "worth-part"))
    elif tested is None:
        parts.append(("the forecast is untested, since the history is short", "worth-part"))
    else:
        best = tested.frame.iloc[0]
        parts.append(
            (
                f"in its test the forecast was off by {wording.signed_percent(best['total_error'])} in orders and "
                f"{wording.signed_percent(best['value_error'])} in value",
                "worth-part",
            )
        )
    return parts


def key_figure_words(about: Contents, figure: KeyFigure) -> str:
    """Return a key figure with its currency."""
    unit = f" {about.currency}" if figure.kind == "money" and about.currency else ""
    return f"{figure.in_words}{unit}"
