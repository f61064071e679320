"""Conditions as text that a user can paste: names quoted where the language needs it, values
quoted for the shell.
"""

import re
import shlex
from collections.abc import Sequence

from sqlglot.dialects.duckdb import DuckDB
from sqlglot.tokenizer_core import TokenType


def written_name(name: str) -> str:
    """A column's name as a condition writes it: bare where it is one plain word, else in
    double quotes.
    """
    if re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]*", name):
        found = DuckDB().tokenize(name)
        if len(found) == 1 and found[0].token_type is TokenType.VAR:
            return name
    return '"' + name.replace('"', '""') + '"'


def written_text(text: str) -> str:
    """A text as a condition writes it."""
    return "'" + text.replace("'", "''") + "'"


def none_of(name: str, texts: Sequence[str]) -> str:
    """The condition under which a column holds none of some texts; blank cells pass."""
    column = written_name(name)
    return f"{column} IS NULL OR {column} NOT IN ({', '.join(map(written_text, texts))})"


def where_option(condition: str) -> str:
    """``--where`` with a condition, quoted for a shell."""
    return f"--where {for_shell(condition)}"


def for_shell(text: str) -> str:
    """A text quoted for a shell, in double quotes where that reads better."""
    if "'" in text and not re.search(r"[$`\\!]", text):
        return '"' + text.replace('"', '\\"') + '"'
    return shlex.quote(text)
