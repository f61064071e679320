"""Write a log with times for commands that run unattended."""

import logging
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import typer

from fairladder import wording
from fairladder.errors import UsageError

LOGGER = logging.getLogger("fairladder.command")
LOGGER.propagate = False
LOGGER.setLevel(logging.INFO)


@contextmanager
def kept_in(path: Path | None, what: str) -> Iterator[None]:
    """Log to the file during the block: the start, what ``say`` receives, errors, and how and after
    how long it ended.

    Without a path nothing is logged. Raises UsageError if the file cannot be written.
    """
    if path is None:
        yield
        return
    try:
        handler = logging.FileHandler(path, encoding="utf-8")
    except OSError as error:
        raise UsageError(f"--log {path}: the log cannot be written: {error.strerror}.") from error
    line = logging.Formatter("%(asctime)s %(levelname)s %(message)s", "%Y-%m-%dT%H:%M:%SZ")
    line.converter = time.gmtime
    handler.setFormatter(line)
    LOGGER.addHandler(handler)
    begun = time.monotonic()
    LOGGER.info("%s begins", what)
    try:
        yield
    except typer.Exit as end:
        LOGGER.log(
            logging.WARNING if end.exit_code else logging.INFO,
            "%s ended with %s",
            what,
            end.exit_code,
        )
        raise
    except BaseException as error:
        LOGGER.error(
            "%s failed after %.1f s: %s",
            what,
            time.monotonic() - begun,
            _in_one_line(str(error) or type(error).__name__),
        )
        raise
    else:
        LOGGER.info("%s is done after %.1f s", what, time.monotonic() - begun)
    finally:
        LOGGER.removeHandler(handler)
        handler.close()


def say(text: str) -> None:
    """Log a line, if there is a log."""
    LOGGER.info("%s", _in_one_line(text))


def _in_one_line(text: str) -> str:
    return " ".join(wording.plain(text).split())
