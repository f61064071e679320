"""Shared by all tests: the sample shop's files and a way to run the command line."""

import os
import subprocess
import sys
from pathlib import Path

import pytest

from fairladder.demo import FILES, SHOP

os.environ["TZ"] = "Pacific/Kiritimati"  # far from UTC: the machine's zone must never show


@pytest.fixture(scope="session")
def shop(tmp_path_factory):
    folder = tmp_path_factory.mktemp("shop")
    for name in FILES:
        (folder / name).write_bytes((SHOP / name).read_bytes())
    return folder


@pytest.fixture(scope="session")
def fairladder():
    """Run the command as people do: ``fairladder("score", path, …)`` → finished process with text output."""

    def run(*words, **kwargs):
        command = [str(Path(sys.executable).with_name("fairladder")), *map(str, words)]
        return subprocess.run(command, capture_output=True, text=True, timeout=120, check=False, **kwargs)

    return run
