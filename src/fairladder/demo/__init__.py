"""The sample shop: Quillmoor Yarns, an invented hand-dyed yarn studio."""

from pathlib import Path

from fairladder.errors import UsageError, nearest

#: The folder with the shop's files in the package.
SHOP = Path(__file__).parent / "shop"
FILES = (
    "orders.csv", "members.csv", "scheme.toml", "scheme-points.toml", "scheme-cells.toml",
    "scheme-behaviour.toml",
)  # fmt: skip


def sample_shop(name: str) -> Path:
    """Return the path of a file of the sample shop: ``orders.csv``, ``members.csv``,
    ``scheme.toml``, ….

    Raises UsageError for a file that it does not have.
    """
    if name not in FILES:
        raise UsageError(f"The sample shop has no file {name!r}. {nearest(name, FILES)}")
    return SHOP / name
