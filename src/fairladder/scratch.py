"""Files that live no longer than the process: where they are, and what a process that was killed
left behind.

Their names hold the machine and the process, so that the next run can tell whose they were and
whether it still works.
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
    """A path in the folder for temporary files that nothing stands at; ``sweep`` of a later
    run removes it if nobody does.
    """
    return Path(tempfile.gettempdir()) / f"{_own()}-{what}-{uuid4().hex}"


def scratch_folder() -> Path:
    """A new folder for temporary files that only this user can read."""
    path = scratch_path("files")
    path.mkdir(mode=0o700)
    return path


@contextmanager
def a_scratch_folder() -> Iterator[Path]:
    """A new folder for temporary files that is gone at the end."""
    path = scratch_folder()
    try:
        yield path
    finally:
        shutil.rmtree(path, ignore_errors=True)


def beside(target: Path) -> Path:
    """A name in the target's folder to write to before it is put in its place."""
    return target.with_name(f".{target.stem}.{_own()}{target.suffix}")


def sweep_temporary() -> None:
    """Remove what killed runs on this machine left in the folder for temporary files."""
    for path in Path(tempfile.gettempdir()).glob(f"{_MARK}-{_machine()}-*"):
        if _left_behind(path.name):
            shutil.rmtree(path, ignore_errors=True)


def sweep_beside(target: Path) -> None:
    """Remove what killed runs on this machine left beside a target."""
    for path in target.parent.glob(f".*.{_MARK}-{_machine()}-*"):
        if _left_behind(path.name):
            with contextlib.suppress(OSError):
                path.unlink()


def _left_behind(name: str) -> bool:
    """Whether the process that a name holds is no more."""
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
