"""Where results go: endings and places judged before any work is done, files replaced as a whole or not at all."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from fairladder.errors import UsageError

FORMATS = ("csv", "parquet", "json", "xlsx")


def format_of(path: str | Path) -> str:
    """The format that a file's ending asks for. Raises UsageError for any other ending."""
    ending = Path(path).suffix.lower().lstrip(".")
    if ending not in FORMATS:
        raise UsageError(
            f"{str(path)!r}: results are not written as {ending or 'a file without an ending'}; "
            f"end the name in {', '.join('.' + f for f in FORMATS)}."
        )
    return ending


def require_place(path: str | Path) -> None:
    """Raise UsageError where no file can stand at ``path``: there is no such folder, or it is one."""
    target = Path(path)
    if not target.parent.is_dir():
        raise UsageError(f"There is no folder {str(target.parent)!r} to write {target.name!r} into. Make it first.")
    if target.is_dir():
        raise UsageError(f"{str(target)!r} is a folder; name a file in it.")


@contextmanager
def replacing(path: str | Path) -> Iterator[Path]:
    """A new file beside ``path`` to write to; it takes the path's place at the end, or vanishes on an error."""
    target = Path(path)
    beside = target.with_name(f".{target.stem}.{os.getpid()}{target.suffix}")
    require_place(target)
    try:
        yield beside
        beside.replace(target)
    except OSError as error:
        raise UsageError(f"{str(target)!r} cannot be written: {error.strerror or error}.") from error
    finally:
        beside.unlink(missing_ok=True)
