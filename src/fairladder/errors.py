"""Errors: what is wrong, where, and what to do.

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
    """What an error would have to know to be none: the key of ``[orders]``, and what each answer
    would read.

    ``answers`` is answer → what up to three rows show then. Whoever has somebody to ask may ask it
    and try again.
    """

    text: str
    key: str
    answers: Mapping[str, tuple[str, ...]]
    sets: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    """Answer → keys of ``[orders]`` with their values, for answers that set other keys than
    ``key``.
    """

    def settings(self, answer: str) -> Mapping[str, str]:
        """The keys of ``[orders]`` that an answer sets."""
        return self.sets.get(answer, {self.key: answer})


class FairLadderError(Exception):
    """Base of all errors of this package; its text is meant for the person at the keyboard."""

    exit_code = 1
    question: Question | None = None

    def asking(self, question: Question) -> Self:
        """The same error with the question that would settle it."""
        self.question = question
        return self


class DataError(FairLadderError):
    """The data does not allow what was asked."""


class UsageError(FairLadderError):
    """The request itself is wrong: an option, a path, a name."""

    exit_code = 2


class SchemeError(UsageError):
    """A key or value of the scheme is wrong."""


class ConditionError(UsageError):
    """A condition does not parse, uses what is not allowed, or names an unknown column."""


class FairLadderWarning(UserWarning):
    """Numbers that are given although something says that they are probably wrong."""


def nearest(name: str, known: Iterable[str]) -> str:
    """Advice naming the known name most like ``name``, or all known names where none is like it."""
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
    """The text in one line for a message: no control signs, the middle left out where it is
    longer than ``most``.
    """
    line = "".join(c if c.isprintable() else " " for c in text)
    return line if len(line) <= most else f"{line[: most * 2 // 3]} … {line[-most // 4 :]}"
