"""Format SQL for people: an expression that fits on a line stays on one line."""

import re
from functools import lru_cache
from typing import Any

from sqlglot import exp
from sqlglot.dialects.dialect import Dialect
from sqlglot.generator import Generator

#: Maximum line length, as far as single words allow it.
WIDTH = 140
#: Nodes that always start new lines.
_LAID_OUT = (exp.Select, exp.With, exp.CTE, exp.Subquery, exp.Create, exp.From, exp.Join, exp.Union)
_CLAUSES = (exp.Where, exp.Group, exp.Having, exp.Order)


class _Compact:
    """A generator for any dialect that keeps expressions on one line if they fit, and fills lists
    line by line.
    """

    def sql(self: Any, expression: Any, key: str | None = None, comment: bool = True) -> str:
        if (
            self.pretty
            and key is None
            and isinstance(expression, exp.Expr)
            and not isinstance(expression, _LAID_OUT)
        ):
            flat = _flat(self, expression)
            if len(flat) <= WIDTH - 20 and "\n" not in flat:
                return f"{self.sep()}{flat.strip()}" if isinstance(expression, _CLAUSES) else flat
        return str(super().sql(expression, key, comment))  # type: ignore[misc]

    def expressions(
        self: Any, expression: Any = None, key: str | None = None, sqls: Any = None, **options: Any
    ) -> str:
        several = None if expression is None else expression.args.get(key or "expressions")
        if (
            not self.pretty
            or options.get("flat")
            or sqls is not None
            or not several
            or options.get("dynamic")
        ):
            return str(super().expressions(expression, key=key, sqls=sqls, **options))  # type: ignore[misc]
        lines = _filled([self.sql(e) for e in several])
        laid = "\n".join(lines)
        if not options.get("indent", True):
            return laid
        return str(
            self.indent(
                laid,
                skip_first=options.get("skip_first", False),
                skip_last=options.get("skip_last", False),
            )
        )

    def select_sql(self: Any, expression: exp.Select) -> str:
        text = str(super().select_sql(expression))  # type: ignore[misc]
        return re.sub(r"\A((?:/\*.*\*/\s)?)SELECT\n  ([^\n]*)\n(?=FROM)", r"\1SELECT \2\n", text)

    def create_sql(self: Any, expression: exp.Create) -> str:
        text = str(super().create_sql(expression))  # type: ignore[misc]
        return re.sub(r"\A(.*) AS\n(.{1,90})\Z", r"\1 AS \2", text)

    def case_sql(self: Any, expression: exp.Case) -> str:
        branches = [(self.sql(b, "this"), self.sql(b, "true")) for b in expression.args["ifs"]]
        this = self.sql(expression, "this")
        lines = [
            f"CASE {this}" if this else "CASE",
            *(line for branch in branches for line in _branch(*branch)),
        ]
        if expression.args.get("default") is not None:
            lines.append(f"ELSE {self.sql(expression, 'default')}")
        return (
            str(self.indent("\n".join([*lines, "END"]), skip_first=True, skip_last=True))
            if self.pretty
            else " ".join([*lines, "END"])
        )

    def format_args(self: Any, *args: Any, sep: str = ", ") -> str:
        texts = [self.sql(a) for a in args if a is not None and not isinstance(a, bool)]
        if not self.pretty or sum(map(len, texts)) <= WIDTH - 40:
            return str(super().format_args(*args, sep=sep))  # type: ignore[misc]
        return str(
            self.indent("\n" + "\n".join(_filled(texts)) + "\n", skip_first=True, skip_last=True)
        )


def _branch(when: str, then: str) -> list[str]:
    one = f"WHEN {when} THEN {then}"
    return (
        [one]
        if "\n" not in when and len(one.split("\n")[0]) <= WIDTH - 20
        else [f"WHEN {when}", f"THEN {then}"]
    )


def _filled(texts: list[str]) -> list[str]:
    """Join texts with commas, filling lines; texts of several lines get lines of their own."""
    lines: list[str] = []
    for text in texts:
        fits = (
            lines
            and "\n" not in lines[-1]
            and len(lines[-1]) + len(text.split("\n")[0]) < WIDTH - 10
        )
        if fits:
            lines[-1] += f", {text}"
            continue
        if lines:
            lines[-1] += ","
        lines.append(text)
    return lines


def _flat(generator: Any, expression: exp.Expr) -> str:
    options = {"pretty": False, "dialect": generator.dialect, "identify": generator.identify}
    return str(type(generator)(**options).generate(expression, copy=False))


@lru_cache
def _generator(own: type[Generator]) -> type[Generator]:
    """Return the dialect's generator with our layout; unchanged if it is compiled and cannot be
    subclassed.
    """
    try:
        return type(f"Compact{own.__name__}", (_Compact, own), {})
    except TypeError:
        return own


def laid_out(tree: exp.Expr, dialect: Any, *, identify: bool = False) -> str:
    """Return the tree as indented text in a dialect; with ``identify`` all names are quoted."""
    known = Dialect.get_or_raise(dialect)
    made: Any = _generator(known.generator_class)
    return str(
        made(pretty=True, dialect=known, max_text_width=WIDTH, identify=identify).generate(tree)
    )
