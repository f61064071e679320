"""Fair Ladder: from a table of orders to scored, segmented customers.

    import fairladder as fl

    orders = fl.open_orders("orders.csv", customers="members.csv", scheme="scheme.toml")
    orders.check()
    scored = fl.score(orders.customers(), orders.scheme)
    fl.segment_summary(scored)

Names are loaded when they are first used.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from fairladder import figures
    from fairladder.errors import ConditionError, DataError, FairLadderError, SchemeError, UsageError
    from fairladder.files import write
    from fairladder.ladder import Ladder, percent_rank, percentile
    from fairladder.order_book import Check, Orders, open_orders
    from fairladder.orders.findings import Finding
    from fairladder.scheme import Scheme, load_scheme
    from fairladder.scoring import fit_ladders, rule_coverage, score, segment_summary
    from fairladder.toplists import top

__version__ = "0.1.0"
__all__ = [
    "Check", "ConditionError", "DataError", "FairLadderError", "Finding", "Ladder", "Orders", "Scheme", "SchemeError",
    "UsageError", "figures", "fit_ladders", "load_scheme", "open_orders", "percent_rank", "percentile", "rule_coverage",
    "score", "segment_summary", "top", "write",
]  # fmt: skip

_HOMES = {
    "errors": ("ConditionError", "DataError", "FairLadderError", "SchemeError", "UsageError"),
    "files": ("write",),
    "ladder": ("Ladder", "percent_rank", "percentile"),
    "order_book": ("Check", "Orders", "open_orders"),
    "orders.findings": ("Finding",),
    "scheme": ("Scheme", "load_scheme"),
    "toplists": ("top",),
    "scoring": ("fit_ladders", "rule_coverage", "score", "segment_summary"),
}
_HOME = {name: home for home, names in _HOMES.items() for name in names}


def __getattr__(name: str) -> Any:
    if name == "figures":
        return import_module("fairladder.figures")
    if name in _HOME:
        return getattr(import_module(f"fairladder.{_HOME[name]}"), name)
    raise AttributeError(f"module 'fairladder' has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted([*__all__, "__version__"])
