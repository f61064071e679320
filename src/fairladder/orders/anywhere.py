"""Orders from wherever they are: a database where an address is given, a Spark cluster, else a
file or a frame.
"""

import re
from importlib import import_module
from typing import Any

from fairladder.engine.embedded import Embedded
from fairladder.errors import UsageError
from fairladder.orders.source import Source, open_source
from fairladder.scheme import OrdersPart


def open_anything(orders: Any, settings: OrdersPart) -> Source:
    """A path, glob, ``-``, frame, or the SQLAlchemy URL of a database (``table`` or ``query`` say
    which rows) as a Source.

    Raises UsageError, DataError as ``open_source``, ``open_database`` and ``open_on_cluster`` do.
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
            f"`table` and `query` go with the address of a database, and {str(orders)!r} is none."
        )
    return open_source(orders, Embedded(), settings)
