"""A tree put into the words of another dialect, node by node."""

from collections.abc import Callable

from sqlglot import exp

from fairladder.sqltree import sql


def in_words(
    query: exp.Expr, words: Callable[[exp.Expr], exp.Expr], *, layers_apart: bool = True
) -> exp.Expr:
    """The tree with every node in the words of a dialect, from the leaves up; ``layers_apart`` keeps an engine from merging layers."""
    changed = query.copy()
    for node in reversed(list(changed.walk())):
        if (
            layers_apart
            and isinstance(node, exp.Select)
            and isinstance(node.parent, exp.Subquery)
            and not node.args.get("group")
        ):
            _worked_out_once(node)
        other = words(node)
        if other is not node:
            if node is changed:
                return other
            node.replace(other)
    return changed


def _worked_out_once(layer: exp.Select) -> None:
    """Keep a database from pulling a layer into the one above, which would work out each of its columns many times."""
    if not layer.args.get("limit"):
        layer.offset(0, copy=False)


def part_of_text(node: exp.Expr) -> exp.Expr:
    """Whether a text holds another, begins or ends with it, for databases that have no word for that; any other node as it is."""
    match node:
        case exp.Contains():
            return sql("(STRPOS(:t, :part) > 0)", t=node.this, part=node.expression)
        case exp.StartsWith():
            return sql("(LEFT(:t, LENGTH(:part)) = :part)", t=node.this, part=node.expression)
        case exp.EndsWith():
            return sql("(RIGHT(:t, LENGTH(:part)) = :part)", t=node.this, part=node.expression)
    return node
