"""Open orders from any source: a database for a database URL, a Spark cluster, otherwise a file or
a frame.
"""

import re
from importlib import import_module
from typing import Any

from fairladder.engine.embedded import Embedded
from fairladder.errors import UsageError
from fairladder.orders.source import Source, open_source
from fairladder.scheme import OrdersPart


def open_anything(orders: Any, settings: OrdersPart) -> Source:
    """Open a path, glob, ``-``, frame, or the SQLAlchemy URL of a database (``table`` or ``query``
    select rows) as a Source.

    Raises UsageError and DataError like ``open_source``, ``open_database`` and ``open_on_cluster``.
    """
    if settings.spark is not None or type(orders).__module__.startswith("pyspark.sql."):
        clusters = import_module("fairladder.orders.clusters")
        found: Source = (
            clusters.open_spark(orders)
            if clusters.is_spark(orders)
            else clusters.open_on_cluster(orders, settings)
        )
        return found
    if isinstance(orders, str) and re.match(r"[A-Za-z][A-Za-z0-9+_.-]*://", orders):
        source: Source = import_module("fairladder.orders.databases").open_database(
            orders, settings
        )
        return source
    if settings.table or settings.query:
        raise UsageError(
            f"`table` and `query` need the address of a database; {str(orders)!r} is not one."
        )
    return open_source(orders, Embedded(), settings)
