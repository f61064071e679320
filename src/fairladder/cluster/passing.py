"""What a question keeps on the cluster while it is worked out, and lets go of afterwards."""

from collections.abc import Callable
from contextlib import AbstractContextManager

from sqlglot import exp

from fairladder.engine.cluster import Cluster
from fairladder.engine.protocol import Engine


def passing(engine: Engine) -> AbstractContextManager[Callable[[exp.Expr], exp.Expr]]:
    """``Cluster.passing``."""
    assert isinstance(engine, Cluster)
    return engine.passing()


def owned(engine: Engine, owner: object, relation: exp.Expr) -> None:
    """``Cluster.own``."""
    assert isinstance(engine, Cluster)
    engine.own(owner, relation)
