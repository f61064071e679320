"""The language of conditions: what may be written, and what kind of value each part is.

Three-valued logic as in SQL: a comparison with NULL is unknown, and unknown is not true. Text
compares by code point and case-sensitively; numbers are calculated with as floats; ``/`` is real
division and by zero gives NULL; ROUND is half away from zero by decimal text; LOWER and UPPER
change letter by letter.
"""

import datetime as dt
import re
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from fairladder.errors import ConditionError, nearest, shortened
from fairladder.sqltree import column

Kind = Literal["text", "number", "day", "truth", "any"]

COMPARISONS: tuple[type[exp.Expr], ...] = (exp.EQ, exp.NEQ, exp.GT, exp.GTE, exp.LT, exp.LTE)
CALCULATIONS: tuple[type[exp.Expr], ...] = (exp.Add, exp.Sub, exp.Mul, exp.Div)
ALLOWED_WORDS = (
    "Conditions may use comparisons, AND, OR, NOT, IN, BETWEEN, LIKE, IS NULL, + − × ÷, CASE, "
    "COALESCE, ABS, ROUND, "
    "LOWER, UPPER and LENGTH."
)
#: A condition is read by people; what is longer or nests deeper was made by a program and belongs
#: into a file of ids.
LONGEST, DEEPEST = 200_000, 250
#: Beyond this numbers have no exact minor units, so no condition on money can mean them.
LARGEST_NUMBER = 10**15
#: ROUND leaves a number as it is where so many digits or more stand before the rounded place: its
#: float has no half there.
LARGEST_ROUNDED = 14
_NUMBER = re.compile(r"(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?", re.ASCII)
#: What a condition calls a role whose name is another column's, e.g. ``role.amount``.
ROLE = "role"


@dataclass(frozen=True)
class Condition:
    """A checked condition: its text, its tree over known columns, and the names it uses."""

    text: str
    tree: exp.Expr
    names: frozenset[str]

    def __repr__(self) -> str:
        return f"Condition({self.text!r})"


def parse_condition(
    text: str, columns: Mapping[str, Kind], where: str = "condition", twofold: Collection[str] = ()
) -> Condition:
    """Check ``text`` against the known ``columns`` (name → kind); ``where`` names its origin in
    errors.

    Of ``twofold`` names the bare one is refused: in quotes it is the column's, and after ``role.``
    the role's, which ``columns`` has as ``role.NAME``. Raises ConditionError where the condition
    does not parse, goes beyond the language, is too long or too deep, names an unknown column or
    mixes kinds.
    """
    parsing = _Parsing(text, columns, where, frozenset(twofold))
    tree = parsing.tree()
    if parsing.kind(tree) not in ("truth", "any"):
        raise parsing.refused("is a value, not a condition; compare it with something")
    return Condition(text, tree, frozenset(c.name for c in tree.find_all(exp.Column)))


@dataclass(frozen=True)
class _Parsing:
    """One condition on its way from text to a checked tree."""

    text: str
    columns: Mapping[str, Kind]
    where: str
    twofold: frozenset[str]

    def refused(self, why: str, more: str = "") -> ConditionError:
        return ConditionError(
            f"{self.where}: `{shortened(self.text)}` {why}.{' ' + more if more else ''}"
        )

    # ----------------------------------------------------------------------------------------------

    def tree(self) -> exp.Expr:
        """The tree with its columns resolved; no node and no attribute is in it that is not
        evaluated.
        """
        self._readable()
        try:
            tree = sqlglot.parse_one(self.text)
        except (SqlglotError, RecursionError) as error:
            reason = (
                str(error).splitlines()[0].split(". Line ")[0]
                if self.text.strip()
                else "it is empty"
            )
            raise self.refused(f"does not parse as a SQL condition: {reason}") from None
        for node in self._walked(tree):
            self._known(node)
        return tree.transform(self._resolved, copy=False)

    def _readable(self) -> None:
        """Raise where the text is so long or deep that reading it could take the process down."""
        if len(self.text) > LONGEST:
            raise self.refused(
                f"has {len(self.text):,} characters, and {LONGEST:,} are the most. Put ids into a "
                "file"
            )
        try:
            tokens = [token.text.upper() for token in sqlglot.tokenize(self.text)]
        except SqlglotError as error:
            raise self.refused(
                f"does not parse as a SQL condition: {str(error).splitlines()[0]}"
            ) from None
        depth = run = deepest = 0
        for token in tokens:
            run = run + 1 if token in ("NOT", "-", "+", "~") else 0
            depth += (token in ("(", "[", "{", "CASE")) - (token in (")", "]", "}", "END"))
            deepest = max(deepest, depth + run)
        if deepest > DEEPEST:
            raise self._too_deep()

    def _too_deep(self) -> ConditionError:
        return self.refused(
            f"nests more than {DEEPEST} parts in one another or joins more by AND and OR. Write "
            "`x IN (…)` for many values"
        )

    def _walked(self, tree: exp.Expr) -> list[exp.Expr]:
        nodes, waiting = [], [(tree, 1)]
        while waiting:
            node, depth = waiting.pop()
            if depth > DEEPEST:
                raise self._too_deep()
            nodes.append(node)
            waiting += [(child, depth + 1) for child in node.iter_expressions()]
        return nodes

    def _known(self, node: exp.Expr) -> None:
        """Refuse nodes that the language lacks, and attributes that would be passed over in
        silence.
        """
        node.comments = None
        rule = LANGUAGE.get(type(node))
        given = {name for name, value in node.args.items() if value not in (None, False, [])}
        if rule is None or (isinstance(node, exp.If) and not isinstance(node.parent, exp.Case)):
            name = node.name if isinstance(node, exp.Anonymous) else type(node).__name__
            raise self.refused(f"uses {name.upper()}, which is not allowed", ALLOWED_WORDS)
        if isinstance(node, exp.In) and "query" in given:
            raise self.refused("uses IN, which is not allowed", ALLOWED_WORDS)
        if isinstance(node, exp.In) and not given & {"expressions"}:
            raise self.refused(
                "uses IN without a list of values in parentheses behind it, which is not allowed",
                ALLOWED_WORDS,
            )
        if unknown := sorted(given - rule.parts):
            raise self.refused(
                f"uses {type(node).__name__.upper()} with {' and '.join(unknown).upper()}, which "
                "is not allowed",
                ALLOWED_WORDS,
            )

    def _resolved(self, node: exp.Expr) -> exp.Expr:
        if not isinstance(node, exp.Column):
            return node
        name, quoted = node.name, bool(node.this.args.get("quoted"))
        if node.table:
            role = f"{ROLE}.{name.casefold()}"
            if node.table.casefold() == ROLE and role in self.columns:
                return column(role)
            raise self.refused(f"writes `{node.sql()}`; name the column alone, without a table")
        found = self._found(name, quoted)
        if found.casefold() in self.twofold and not quoted:
            raise self.refused(
                f"names `{name}`, which is both a column and a role that another column plays",
                f'Write `"{found}"` for the column and `{ROLE}.{found.casefold()}` for the role.',
            )
        return column(found)

    def _found(self, name: str, quoted: bool) -> str:
        if name in self.columns:
            return name
        alike = [
            c
            for c in self.columns
            if c.casefold() == name.casefold() and not c.startswith(f"{ROLE}.")
        ]
        if len(alike) == 1 and not quoted:
            return alike[0]
        raise self.refused(
            f"names the column `{shortened(name)}`, which is not there", nearest(name, self.columns)
        )

    # ----------------------------------------------------------------------------------------------

    def kind(self, node: exp.Expr) -> Kind:
        """Kind of a node's value, refusing mixtures on the way; quoted days beside days become
        DATE literals.
        """
        return LANGUAGE[type(node)].kind(self, node)

    def need(self, parts: Sequence[exp.Expr], wanted: Kind) -> Kind:
        """The wanted kind, which all parts have to be of."""
        for part in parts:
            kind = self.kind(part)
            if kind not in (wanted, "any"):
                raise self.refused(f"needs {_A[wanted]} where it has {_A[kind]}: `{shown(part)}`")
        return wanted

    def same(self, parts: Sequence[exp.Expr]) -> Kind:
        """The one kind of all parts."""
        kinds = [self.kind(part) for part in parts]
        if "day" in kinds:
            for part, kind in zip(parts, kinds, strict=True):
                if kind == "text":
                    self._make_day(part)
            kinds = ["day" if kind == "text" else kind for kind in kinds]
        certain: Kind = next((k for k in kinds if k != "any"), "any")
        for part, kind in zip(parts, kinds, strict=True):
            if kind not in (certain, "any"):
                first = parts[kinds.index(certain)]
                raise self.refused(
                    f"compares {_A[certain]} with {_A[kind]} (`{shown(first)}` and `{shown(part)}`)"
                )
        return certain

    def _make_day(self, text: exp.Expr) -> None:
        if not text.is_string:
            raise self.refused(f"compares a day with the text `{shown(text)}`")
        if not is_day(text.name):
            raise self.refused(f"compares a day with {text.sql()}; write a day as '2026-06-30'")
        text.replace(exp.cast(text.copy(), "DATE"))


def shown(node: exp.Expr) -> str:
    """A part of a condition as people write it: plain names without quotes, days in quotes
    alone.
    """
    wrapped = exp.paren(node.copy())
    for day in list(wrapped.find_all(exp.Cast)):
        day.replace(day.this)
    for name in wrapped.find_all(exp.Identifier):
        name.set("quoted", not re.fullmatch(r"[A-Za-z_]\w*(\.\w+)?", name.name))
    return shortened(wrapped.this.sql())


_A = {"text": "text", "number": "a number", "day": "a day", "truth": "true or false", "any": "NULL"}


def is_day(text: str) -> bool:
    """Whether a text is a day as ISO writes it."""
    try:
        return dt.date.fromisoformat(text).isoformat() == text
    except ValueError:
        return False


# ------------------------------------------------------------------------------------- one rule for


@dataclass(frozen=True)
class _Rule:
    parts: frozenset[str]
    """The node's attributes that are evaluated; any other makes the condition refused."""
    kind: Callable[[_Parsing, exp.Expr], Kind]


def _rule(parts: str, kind: Callable[[_Parsing, exp.Expr], Kind]) -> _Rule:
    return _Rule(frozenset(parts.split()), kind)


def _literal(parsing: _Parsing, node: exp.Expr) -> Kind:
    if node.is_string:
        return "text"
    if not _NUMBER.fullmatch(node.name) or float(node.name) > LARGEST_NUMBER:
        raise parsing.refused(
            f"writes `{shortened(node.name)}`, which is no plain number up to 10^15"
        )
    return "number"


def _cast(parsing: _Parsing, node: exp.Expr) -> Kind:
    if node.args["to"].this != exp.DType.DATE or not node.this.is_string:
        raise parsing.refused("uses CAST, which is not allowed", ALLOWED_WORDS)
    if not is_day(node.this.name):
        raise parsing.refused(f"writes DATE {node.this.sql()}; write a day as '2026-06-30'")
    return "day"


def _is(parsing: _Parsing, node: exp.Expr) -> Kind:
    if not isinstance(node.expression, exp.Null | exp.Boolean):
        raise parsing.refused("writes IS before something other than NULL, TRUE or FALSE")
    if isinstance(node.expression, exp.Boolean):
        parsing.need([node.this], "truth")
    parsing.kind(node.this)
    return "truth"


def _like(parsing: _Parsing, node: exp.Expr) -> Kind:
    parsing.need([node.this], "text")
    if not node.expression.is_string:
        raise parsing.refused("needs a quoted pattern after LIKE")
    return "truth"


def _round(parsing: _Parsing, node: exp.Expr) -> Kind:
    digits = node.args.get("decimals")
    if digits is not None and not (
        isinstance(digits, exp.Literal) and digits.is_int and int(digits.name) <= 9
    ):
        raise parsing.refused("needs 0 to 9 digits in ROUND")
    return parsing.need([node.this], "number")


def _case(parsing: _Parsing, node: exp.Expr) -> Kind:
    branches = node.args["ifs"]
    if node.this is None:
        parsing.need([b.this for b in branches], "truth")
    else:
        parsing.same([node.this, *(b.this for b in branches)])
    default = node.args.get("default")
    return parsing.same(
        [*(b.args["true"] for b in branches), *([default] if default is not None else [])]
    )


def _truth(parts: Callable[[exp.Expr], list[exp.Expr]]) -> Callable[[_Parsing, exp.Expr], Kind]:
    """A comparison of parts that are all of one kind."""

    def kind(parsing: _Parsing, node: exp.Expr) -> Kind:
        parsing.same(parts(node))
        return "truth"

    return kind


def _needs(wanted: Kind, gives: Kind | None = None) -> Callable[[_Parsing, exp.Expr], Kind]:
    """Something whose one or two operands are all of the wanted kind."""

    def kind(parsing: _Parsing, node: exp.Expr) -> Kind:
        parts = [part for part in (node.this, node.args.get("expression")) if part is not None]
        parsing.need(parts, wanted)
        return gives or wanted

    return kind


#: All that a condition may hold: node → the attributes that are evaluated, and the kind of its
#: value.
LANGUAGE: dict[type[exp.Expr], _Rule] = {
    exp.Column: _rule("this table", lambda parsing, node: parsing.columns[node.name]),
    exp.Identifier: _rule("this quoted", lambda _, __: "any"),
    exp.Literal: _rule("this is_string", _literal),
    exp.Cast: _rule("this to _type", _cast),
    exp.DataType: _rule("this", lambda _, __: "any"),
    exp.Null: _rule("", lambda _, __: "any"),
    exp.Boolean: _rule("this", lambda _, __: "truth"),
    exp.Paren: _rule("this", lambda parsing, node: parsing.kind(node.this)),
    **dict.fromkeys((exp.And, exp.Or), _rule("this expression", _needs("truth"))),
    exp.Not: _rule("this", _needs("truth")),
    exp.Is: _rule("this expression", _is),
    exp.Like: _rule("this expression negate", _like),
    exp.In: _rule("this expressions", _truth(lambda node: [node.this, *node.expressions])),
    exp.Between: _rule(
        "this low high", _truth(lambda node: [node.this, node.args["low"], node.args["high"]])
    ),
    **dict.fromkeys(
        COMPARISONS, _rule("this expression", _truth(lambda node: [node.this, node.expression]))
    ),
    **dict.fromkeys(CALCULATIONS, _rule("this expression", _needs("number"))),
    exp.Neg: _rule("this", _needs("number")),
    exp.Abs: _rule("this", _needs("number")),
    exp.Round: _rule("this decimals", _round),
    **dict.fromkeys((exp.Lower, exp.Upper), _rule("this", _needs("text"))),
    exp.Length: _rule("this", _needs("text", "number")),
    exp.Coalesce: _rule(
        "this expressions", lambda parsing, node: parsing.same([node.this, *node.expressions])
    ),
    exp.Case: _rule("this ifs default", _case),
    exp.If: _rule("this true", lambda parsing, node: parsing.kind(node.args["true"])),
}
