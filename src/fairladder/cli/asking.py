"""Ask the user at a terminal what a file leaves open; without a terminal no command ever waits."""

import sys
from collections.abc import Callable, Mapping
from typing import TypeVar

import typer

from fairladder import wording
from fairladder.errors import FairLadderError, Question
from fairladder.settings import SETTINGS

#: Maximum number of questions about one file.
MOST_QUESTIONS = 5
T = TypeVar("T")


def with_answers(work: Callable[[Mapping[str, str]], T]) -> T:
    """Run the work; if it needs a setting that the file leaves open, ask for it and run the work
    again.

    Raises the work's own error if there is no terminal, or the user stops.
    """
    answers: dict[str, str] = {}
    answered_keys: set[str] = set()
    while True:
        try:
            done = work(answers)
        except FairLadderError as error:
            question = error.question
            if (
                question is None
                or question.text in answered_keys
                or len(answered_keys) == MOST_QUESTIONS
                or not is_interactive()
            ):
                raise
            answer = ask(question)
            if answer is None:
                raise
            answers.update(question.settings(answer))
            answered_keys.add(question.text)
        else:
            if answers:
                print(
                    f"To avoid these questions, add: {' '.join(_as_options(answers))}",
                    file=sys.stderr,
                )
            return done


def is_interactive() -> bool:
    """Return True if questions can be shown and answered."""
    return sys.stdin.isatty() and sys.stderr.isatty()


def ask(question: Question) -> str | None:
    """Show the answers, each with how it would read the first rows, and read a number; None to
    stop.
    """
    print(question.text, file=sys.stderr)
    names = list(question.answers)
    width = max(map(len, names))
    for number, name in enumerate(names, start=1):
        rows = " | ".join(question.answers[name])
        print(wording.plain(f"  {number}  {name:<{width}}  {rows}"), file=sys.stderr)
    while True:
        typed = typer.prompt(
            f"A number from 1 to {len(names)}, or Enter to stop",
            default="",
            show_default=False,
            err=True,
        )
        if not typed.strip():
            return None
        if typed.strip().isdecimal() and 1 <= int(typed) <= len(names):
            return names[int(typed) - 1]


def _as_options(answers: Mapping[str, str]) -> list[str]:
    import shlex

    options = {s.key: s.option for s in SETTINGS if s.part == "orders"}
    return [word for key, answer in answers.items() for word in (options[key], shlex.quote(answer))]
