"""Check a user's SELECT before it is sent to a database. Its text is sent unchanged, without comments."""

from collections.abc import Collection
from itertools import pairwise

import sqlglot
from sqlglot import exp
from sqlglot.dialects.dialect import Dialect
from sqlglot.tokens import Token, TokenType  # type: ignore[attr-defined]

from fairladder.errors import UsageError, shortened

#: Parts of a SELECT that write or lock rows.
_CHANGES = (
    exp.Insert, exp.Update, exp.Delete, exp.Merge, exp.Create, exp.Command, exp.Into, exp.Lock,
)  # fmt: skip
#: Words that begin or contain a change, for queries that can only be read word by word.
_CHANGING_WORDS = frozenset(
    "insert update delete merge create drop alter truncate grant revoke into copy call do lock "
    "share execute prepare set outfile dumpfile load handler procedure".split()
)
#: Words of comparisons with several values, which the SQL library may take for functions.
_QUANTIFIERS = ("all", "any", "some")
#: Words before a parenthesis that are not functions.
_NOT_FUNCTIONS = frozenset(
    "in values and or not exists as over filter on using where when then else select from having "
    "by any all some case is like between union except intersect distinct partition within group "
    "order limit offset fetch rows range with recursive lateral interval join array row cast "
    "extract convert".split()
)


def checked_query(query: str, dialect: str | None, allowed: Collection[str] | None) -> str:
    """Return the text of one SELECT without comments and a semicolon at its end.

    ``allowed`` are the names of functions that it may call besides those of the SQL library; None
    allows all. Raises UsageError for anything else.
    """
    try:
        tokens = Dialect.get_or_raise(dialect).tokenize(query)
    except sqlglot.errors.SqlglotError as error:
        raise _unreadable(error) from None
    while tokens and tokens[-1].token_type == TokenType.SEMICOLON:
        tokens = tokens[:-1]
    text = _without_comments(query, tokens)
    _require_unqualified(query, tokens, allowed)
    try:
        trees = sqlglot.parse(text, dialect=dialect)
    except sqlglot.errors.SqlglotError as error:
        _check_words(query, tokens, allowed, error)
        return text
    if len(trees) != 1 or not isinstance(trees[0], exp.Query) or trees[0].find(*_CHANGES):
        raise _not_one_select()
    for function in trees[0].find_all(exp.Anonymous):
        if function.name.lower() not in _QUANTIFIERS:
            _require_allowed(function.name, allowed)
    return text


def attributes(query: str, dialect: str | None) -> set[str]:
    """Return the names in a query that follow a point: columns, or functions in PostgreSQL."""
    tokens = Dialect.get_or_raise(dialect).tokenize(query)
    return {
        _plain(query, token)
        for before, token in pairwise(tokens)
        if before.token_type == TokenType.DOT
    }


def _require_unqualified(query: str, tokens: list[Token], allowed: Collection[str] | None) -> None:
    """Raise UsageError for a function of a named schema, which could be anybody's."""
    words = [_plain(query, t).lower() for t in tokens]
    for n, (token, after) in enumerate(pairwise(tokens)):
        qualified = n > 1 and tokens[n - 1].token_type == TokenType.DOT
        if qualified and after.token_type == TokenType.L_PAREN and words[n - 2] != "pg_catalog":
            _require_allowed(f"{words[n - 2]}.{token.text}", allowed)


def _without_comments(query: str, tokens: list[Token]) -> str:
    """Return the query with a space for each comment, which could contain commands."""
    parts, end = list[str](), 0
    for n, token in enumerate(tokens):
        between = query[end : token.start] if n else ""
        parts += [between if not between.strip() else " ", query[token.start : token.end + 1]]
        end = token.end + 1
    return "".join(parts)


def _check_words(
    query: str, tokens: list[Token], allowed: Collection[str] | None, error: Exception
) -> None:
    """Raise UsageError unless the words of a query that cannot be parsed are those of one SELECT
    with allowed functions.
    """
    if allowed is None or not tokens:
        raise _unreadable(error)
    quoted = (TokenType.STRING, TokenType.HEREDOC_STRING, TokenType.IDENTIFIER)
    words = [_plain(query, t) for t in tokens]
    first = next((w for w in words if w != "("), "")
    changes = any(
        w in _CHANGING_WORDS and t.token_type not in quoted
        for w, t in zip(words, tokens, strict=True)
    )
    parts = sum(t.token_type == TokenType.SEMICOLON for t in tokens)
    if first not in ("select", "with", "values") or changes or parts:
        raise _not_one_select()
    known = {name.lower() for f in exp.ALL_FUNCTIONS for name in f.sql_names()}
    for word, (token, after) in zip(words, pairwise(tokens), strict=False):
        is_name = (word[:1].isalpha() or word[:1] == "_") and token.token_type not in quoted[:2]
        is_plain = token.token_type != TokenType.IDENTIFIER and word in _NOT_FUNCTIONS | known
        if after.token_type == TokenType.L_PAREN and is_name and not is_plain:
            _require_allowed(word, allowed)


def _plain(query: str, token: Token) -> str:
    """Return a word in lowercase, a quoted name without quotes."""
    if token.token_type == TokenType.IDENTIFIER:
        return str(token.text)
    return query[token.start : token.end + 1].lower()


def _require_allowed(function: str, allowed: Collection[str] | None) -> None:
    if allowed is not None and function.lower() not in allowed:
        raise UsageError(
            f"The query calls `{shortened(function, 40)}`, which is not on the list "
            "of functions known to change nothing. Create a view of the query in the "
            "database, and name it with --table."
        )


def _unreadable(error: Exception) -> UsageError:
    return UsageError(f"The query cannot be read: {str(error).splitlines()[0]}")


def _not_one_select() -> UsageError:
    return UsageError("A query must be one SELECT; nothing else is sent to a database.")
