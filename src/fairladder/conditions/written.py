"""Write conditions that a user can paste: names quoted for the language, values quoted for the
shell.
"""

import re
import shlex
from collections.abc import Sequence

from sqlglot.dialects.duckdb import DuckDB
from sqlglot.tokenizer_core import TokenType


def written_name(name: str) -> str:
    """Return a column's name as a condition needs it: bare if it is one plain word, else in double
    quotes.
    """
    if re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]*", name):
        found = DuckDB().tokenize(name)
        if len(found) == 1 and found[0].token_type is TokenType.VAR:
            return name
    return '"' + name.replace('"', '""') + '"'


def written_text(text: str) -> str:
    """Return a text as a condition's string literal."""
    return "'" + text.replace("'", "''") + "'"


def none_of(name: str, texts: Sequence[str]) -> str:
    """Return the condition that a column has none of these texts; blank cells pass."""
    column = written_name(name)
    return f"{column} IS NULL OR {column} NOT IN ({', '.join(map(written_text, texts))})"


def where_option(condition: str) -> str:
    """Return ``--where`` with a condition, quoted for a shell."""
    return f"--where {for_shell(condition)}"


def for_shell(text: str) -> str:
    """Quote a text for a shell, in double quotes where that reads better."""
    if "'" in text and not re.search(r"[$`\\!]", text):
        return '"' + text.replace('"', '\\"') + '"'
    return shlex.quote(text)
