"""Translate a tree to another dialect, node by node."""

from collections.abc import Callable

from sqlglot import exp

from fairladder.sqltree import sql


def in_words(
    query: exp.Expr, words: Callable[[exp.Expr], exp.Expr], *, keep_layers: bool = True
) -> exp.Expr:
    """Translate every node of the tree, from the leaves up; ``keep_layers`` keeps an engine from
    merging layers.
    """
    changed = query.copy()
    for node in reversed(list(changed.walk())):
        if (
            keep_layers
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
    """Keep a database from merging a layer into the one above, which would compute each of its
    columns many times.
    """
    if not layer.args.get("limit"):
        layer.offset(0, copy=False)


def part_of_text(node: exp.Expr) -> exp.Expr:
    """Translate contains, begins with and ends with for databases that lack them; other nodes are
    returned unchanged.
    """
    match node:
        case exp.Contains():
            return sql("(STRPOS(:t, :part) > 0)", t=node.this, part=node.expression)
        case exp.StartsWith():
            return sql("(LEFT(:t, LENGTH(:part)) = :part)", t=node.this, part=node.expression)
        case exp.EndsWith():
            return sql("(RIGHT(:t, LENGTH(:part)) = :part)", t=node.this, part=node.expression)
    return node
