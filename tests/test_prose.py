"""Test that texts stay in plain English: words, docstrings, the README and the help."""

import ast
import re
import subprocess
import tokenize
from pathlib import Path

import pytest

from fairladder.cli.app import COMMANDS

ROOT = Path(__file__).parents[1]
#: Words that plain technical English hardly uses. A few occurrences are fine.
ODD = set((ROOT / "tests" / "odd_words.txt").read_text("utf-8").split())
#: Path → odd words allowed per 10,000 words.
LIMITS = {"src": 5, "tests": 5, "examples": 5, "benchmarks": 5, "docs": 10, "README.md": 10}


def words(path):
    """Return the lowercase words that people read: Python tokens, or Markdown outside code."""
    if path.suffix == ".py":
        with tokenize.open(path) as file:
            texts = [
                token.string.replace("_", " ")
                for token in tokenize.generate_tokens(file.readline)
                if token.type in (tokenize.STRING, tokenize.COMMENT, tokenize.NAME)
            ]
    else:
        texts = re.split(r"^```.*?^```", path.read_text("utf-8"), flags=re.DOTALL | re.MULTILINE)
    return re.findall(r"[a-z']+", " ".join(texts).lower())


@pytest.mark.parametrize("root", LIMITS)
def test_odd_words_are_rare(root):
    files = subprocess.run(
        ["git", "ls-files", root], cwd=ROOT, capture_output=True, text=True, check=True
    ).stdout.split()
    found = [
        (word, name)
        for name in files
        if name.endswith((".py", ".md"))
        for word in words(ROOT / name)
    ]
    odd = [(word, name) for word, name in found if word in ODD]
    assert 1e4 * len(odd) / len(found) <= LIMITS[root], odd[:20]


def test_docstrings_begin_with_what_a_function_does():
    docstrings = [
        (path.name, node.name, ast.get_docstring(node))
        for path in (ROOT / "src").rglob("*.py")
        for node in ast.walk(ast.parse(path.read_text("utf-8")))
        if isinstance(node, ast.FunctionDef) and ast.get_docstring(node)
    ]
    riddles = re.compile(r"(What|Which|How|Where|Whether|When|Whose|Why|That|Those|So|Of|On|As)\b")
    found = [one for one in docstrings if riddles.match(one[2])]
    assert len(found) <= 0.01 * len(docstrings), found


def test_readme_is_short():
    text = (ROOT / "README.md").read_text("utf-8")
    assert len(text.splitlines()) <= 120
    prose = re.sub(r"```.*?```|^\|.*?$|^#.*?$", "\n\n", text, flags=re.DOTALL | re.MULTILINE)
    sentences = re.split(
        r"(?<=[.?!:])\s+|\n\n|\n\* ", re.sub(r"!?\[([^]]*)\]\([^)]*\)", r"\1", prose)
    )
    assert [s for s in sentences if len(s.split()) > 25] == []
    pictures = set(re.findall(r"\(docs/screenshots/([\w-]+\.png)\)", text))
    assert pictures == {p.name for p in (ROOT / "docs" / "screenshots").iterdir()}
    assert len(pictures) < 20


@pytest.mark.parametrize("command", COMMANDS)
def test_help_of_a_command_fits_on_a_page(fairladder, monkeypatch, command):
    monkeypatch.setenv("COLUMNS", "120")
    assert len(fairladder(command, "--help").stdout.splitlines()) <= 60
