"""Open order rows on a Spark cluster: a DataFrame, files as the cluster sees them, or a table of
its catalogue.
"""

from dataclasses import replace
from typing import Any

from fairladder.engine.cluster import Cluster, catalogue_frame, files_frame, files_of, session_at
from fairladder.errors import UsageError
from fairladder.orders.source import Source, kinds_of, own_names
from fairladder.scheme import OrdersPart


def is_spark(orders: Any) -> bool:
    """Return True for a Spark DataFrame, without importing Spark."""
    return (
        type(orders).__module__.startswith("pyspark.sql.") and type(orders).__name__ == "DataFrame"
    )


def open_spark(frame: Any, label: str = "a Spark DataFrame", text: bool = False) -> Source:
    """Open a Spark DataFrame as a Source; its rows stay on the cluster.

    Raises UsageError for a Spark Connect session, whose views our own session cannot see.
    """
    if ".connect." in type(frame).__module__:
        raise UsageError(
            "This DataFrame belongs to a Spark Connect session, which is not supported. "
            "Open it in a session on the cluster itself."
        )
    cluster = Cluster(frame)
    types = cluster.columns(cluster.relation)
    return Source(
        label, own_names(cluster.relation, types), kinds_of(types, label), cluster, text=text
    )


def open_on_cluster(orders: Any, settings: OrdersPart) -> Source:
    """Open a path as the session at ``settings.spark`` sees it, or the catalogue table
    ``settings.table``, as a Source.

    Raises UsageError or DataError if it does not exist.
    """
    session = session_at(settings.spark or "")
    if settings.query is not None:
        raise UsageError(
            "`query` needs the address of a database. Create a view of it on the cluster, "
            "and name that with --table."
        )
    if settings.table is not None:
        return open_spark(catalogue_frame(session, settings.table), settings.table)
    frame, text = files_frame(session, str(orders), settings.separator, settings.encoding)
    return replace(open_spark(frame, str(orders), text), files_there=files_of(frame))
