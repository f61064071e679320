"""Errors say what is wrong, where, and what to do.

FairLadderError
├── DataError        the data does not allow it (exit 1)
└── UsageError       options, paths or measures are wrong (exit 2)
    ├── SchemeError      a key or value of the scheme
    └── ConditionError   a SQL condition
"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from difflib import get_close_matches
from typing import Self


@dataclass(frozen=True)
class Question:
    """The setting in ``[orders]`` that would prevent an error, and how each answer reads the data.

    ``answers`` maps each answer to up to three rows as they would then be read. An interactive
    caller may ask the user and try again.
    """

    text: str
    key: str
    answers: Mapping[str, tuple[str, ...]]
    sets: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    """Answer → keys of ``[orders]`` with their values, for answers that set other keys than
    ``key``.
    """

    def settings(self, answer: str) -> Mapping[str, str]:
        """Return the keys of ``[orders]`` that an answer sets."""
        return self.sets.get(answer, {self.key: answer})


class FairLadderError(Exception):
    """Base class of all errors of this package. Its text is written for the user."""

    exit_code = 1
    question: Question | None = None

    def asking(self, question: Question) -> Self:
        """Return this error with the question that would resolve it."""
        self.question = question
        return self


class DataError(FairLadderError):
    """The data does not allow the requested result."""


class UsageError(FairLadderError):
    """The request is wrong, such as an option, a path or a name."""

    exit_code = 2


class SchemeError(UsageError):
    """A key or value of the scheme is wrong."""


class ConditionError(UsageError):
    """A condition does not parse, uses what is not allowed, or names an unknown column."""


class FairLadderWarning(UserWarning):
    """A result is returned although a finding suggests that it is probably wrong."""


def nearest(name: str, known: Iterable[str]) -> str:
    """Suggest the known name most similar to ``name``, or list all known names if none is
    similar.
    """
    names = [shortened(str(k), 60) for k in known]
    name = shortened(name, 60)
    folded = {n.casefold(): n for n in names}
    close = get_close_matches(name.casefold(), folded, n=1, cutoff=0.6)
    if close:
        return f"Did you mean `{folded[close[0]]}`?"
    if not names:
        return "There are none."
    shown = ", ".join(f"`{n}`" for n in names[:12])
    return (
        f"There are: {shown}{' and ' + str(len(names) - 12) + ' more' if len(names) > 12 else ''}."
    )


def shortened(text: str, most: int = 200) -> str:
    """Return the text on one line without control characters, with its middle elided if it is
    longer than ``most``.
    """
    line = "".join(c if c.isprintable() else " " for c in text)
    return line if len(line) <= most else f"{line[: most * 2 // 3]} … {line[-most // 4 :]}"
