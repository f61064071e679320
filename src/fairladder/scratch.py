"""Create temporary files, and remove those of earlier processes that were killed.

File names contain the machine and the process id, so a later run can tell whose they were and
whether that process is still running.
"""

import contextlib
import os
import re
import shutil
import socket
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from uuid import uuid4

_MARK = "fairladder"


@cache
def _machine() -> str:
    return re.sub(r"[^A-Za-z0-9]", "", socket.gethostname())[:40] or "here"


def _own() -> str:
    return f"{_MARK}-{_machine()}-{os.getpid()}"


def scratch_path(what: str) -> Path:
    """Return an unused path in the temporary folder; a later run's ``sweep`` removes the file if it
    is left.
    """
    return Path(tempfile.gettempdir()) / f"{_own()}-{what}-{uuid4().hex}"


def scratch_folder() -> Path:
    """Create a temporary folder that only this user can read."""
    path = scratch_path("files")
    path.mkdir(mode=0o700)
    return path


@contextmanager
def a_scratch_folder() -> Iterator[Path]:
    """Create a temporary folder and remove it at the end of the block."""
    path = scratch_folder()
    try:
        yield path
    finally:
        shutil.rmtree(path, ignore_errors=True)


def temporary_path(target: Path) -> Path:
    """Return a temporary name in the target's folder, to be renamed to the target when complete."""
    return target.with_name(f".{target.stem}.{_own()}{target.suffix}")


def sweep_temporary() -> None:
    """Remove files that killed runs on this machine left in the temporary folder."""
    for path in Path(tempfile.gettempdir()).glob(f"{_MARK}-{_machine()}-*"):
        if _left_behind(path.name):
            shutil.rmtree(path, ignore_errors=True)


def sweep_folder_of(target: Path) -> None:
    """Remove files that killed runs on this machine left next to a target."""
    for path in target.parent.glob(f".*.{_MARK}-{_machine()}-*"):
        if _left_behind(path.name):
            with contextlib.suppress(OSError):
                path.unlink()


def _left_behind(name: str) -> bool:
    """Return True if the process whose id is in the name is no longer running."""
    number = re.search(rf"{_MARK}-{_machine()}-(\d+)", name)
    if number is None or int(number[1]) == os.getpid():
        return False
    try:
        os.kill(int(number[1]), 0)
    except ProcessLookupError:
        return True
    except OSError:
        return False
    return False
