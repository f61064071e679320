"""Check output paths before any work is done, and replace files all at once or not at all."""

import contextlib
import os
import stat
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

from fairladder.errors import UsageError, shortened
from fairladder.scratch import sweep_folder_of, temporary_path

FORMATS = ("csv", "parquet", "json", "xlsx", "md", "html")


def format_of(path: str | Path) -> str:
    """Return the format of a file's suffix. Raises UsageError for an unknown one."""
    ending = Path(path).suffix.lower().lstrip(".")
    if ending not in FORMATS:
        raise UsageError(
            f"{str(path)!r}: results cannot be written as "
            f"{ending or 'a file without a suffix'}; end the name in "
            f"{', '.join('.' + f for f in FORMATS)}."
        )
    return ending


def settings_path(path: str | Path) -> Path:
    """Return the path of a CSV's file of facts: ``scored.csv`` → ``scored.settings.json``."""
    return Path(path).with_suffix(".settings.json")


def require_place(path: str | Path) -> None:
    """Raise UsageError if no file can be written at ``path``: a missing or read-only folder, or not
    a regular file.
    """
    target = Path(path)
    if target.is_dir():
        raise UsageError(f"{str(target)!r} is a folder; name a file in it.")
    real = _real(target)
    if not real.parent.is_dir():
        folder = real.parent if target.is_symlink() else target.parent
        raise UsageError(
            f"There is no folder {str(folder)!r} to write {target.name!r} into. Create it first."
        )
    if real.exists() and not real.is_file():
        raise UsageError(
            f"{str(target)!r} is not a regular file, and results replace whole files. Name a "
            "file, or give --out -."
        )
    if not os.access(real.parent, os.W_OK):
        raise UsageError(
            f"The folder {str(real.parent)!r} is not writable. Name a file in another one."
        )


def require_distinct_files(outputs: Mapping[str, str | Path], inputs: Iterable[str | Path]) -> None:
    """Raise UsageError if an output (option → path) is an input or another output, also through
    links or different case.
    """
    seen: dict[str, str] = {}
    read = [Path(path) for path in inputs]
    for option, path in outputs.items():
        for other in read:
            if _same(Path(path), other):
                raise UsageError(
                    f"{option} {str(path)!r} is the file {str(other)!r}, which is read. Inputs "
                    "are never changed; name another file."
                )
        key = str(_real(Path(path))).casefold()
        if key in seen:
            raise UsageError(f"{option} and {seen[key]} name one file, {str(path)!r}. Name two.")
        seen[key] = option


def _same(one: Path, other: Path) -> bool:
    with contextlib.suppress(OSError):
        if one.exists() and other.exists():
            return one.samefile(other)
    return str(_real(one)).casefold() == str(_real(other)).casefold()


def _real(path: Path) -> Path:
    """Return the file that a path leads to, through links."""
    return Path(os.path.realpath(path))


@contextmanager
def replacing(path: str | Path) -> Iterator[Path]:
    """Create a temporary file next to ``path``; at the end of the block it replaces the path, or is
    removed on an error.

    Links are followed, and the mode of a replaced file is kept. Raises UsageError if that fails.
    """
    require_place(path)
    target = _real(Path(path))
    sweep_folder_of(target)
    new = temporary_path(target)
    try:
        yield new
        if target.exists():
            new.chmod(stat.S_IMODE(target.stat().st_mode))
        with new.open("rb") as written:
            os.fsync(written.fileno())
        new.replace(target)
    except OSError as error:
        raise UsageError(f"{str(path)!r} cannot be written: {error.strerror or error}.") from error
    except Exception as error:
        if not type(error).__module__.startswith("xlsxwriter"):
            raise
        raise UsageError(f"{str(path)!r} cannot be written: {shortened(str(error))}.") from error
    finally:
        new.unlink(missing_ok=True)
