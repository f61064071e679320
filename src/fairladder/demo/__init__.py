"""The sample shop: Quillmoor Yarns, an invented hand-dyed yarn studio."""

from pathlib import Path

#: Where the shop's files lie in the package.
SHOP = Path(__file__).parent / "shop"
FILES = (
    "orders.csv", "members.csv", "scheme.toml", "scheme-points.toml", "scheme-cells.toml", "scheme-behaviour.toml",
)  # fmt: skip
