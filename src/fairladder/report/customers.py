"""Encode the table of customers as one compact block of typed columns, which the page unpacks when
it opens.

The block is gzip of: the length of a header (4 bytes, little endian), the header as JSON, and the
columns' bytes, each at an offset that is a multiple of 8. For every column the header has its name,
label, kind, storage type (``text``, ``names``, ``i32``, ``f64``, ``u2``) and offset. Numbers are
whole, in units of 10^−decimals; null is the smallest number in ``i32`` and NaN in ``f64``.
"""

import base64
import gzip
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from fairladder import columns
from fairladder.ladder import GroupedLadder
from fairladder.numbers import to_minor
from fairladder.report.contents import Contents
from fairladder.scores.fitting import SCORES
from fairladder.wording import span

NULL = -(2**31)
#: A column with up to this many different texts is a group, by which the page can filter.
MOST_GROUPS = 60
#: With more customers the table would exceed the maximum height of a page in browsers.
MOST_ON_PAGE = 400_000
_FIRST = ("orders", "last_order", "spend", "expected_value")
_MEASURES = (
    "recency_days", "average_order_value", "overdue_ratio", *SCORES,
    "active_probability", "expected_orders", "value_low", "value_high",
)  # fmt: skip


@dataclass(frozen=True)
class Field:
    """A column of the block."""

    name: str
    label: str
    kind: str
    stored: str
    data: bytes
    extra: Mapping[str, Any]


def shown(about: Contents) -> pd.DataFrame:
    """Return the customers in the page: all, or, if there are too many, those with the largest
    spend, without a tied group that does not fit.
    """
    customers = about.customers
    if len(customers) <= MOST_ON_PAGE:
        return customers
    edge = np.sort(customers["spend"].to_numpy())[::-1][MOST_ON_PAGE]
    kept: pd.DataFrame = customers[customers["spend"] > edge]
    return kept.reset_index(drop=True)


def fields(about: Contents, customers: pd.DataFrame) -> list[Field]:
    """Return id, name, segment, tiers, groups and measures, in the order of the page."""
    made = [_text("customer", "customer", customers["customer"])]
    if "name" in customers:
        made.append(_text("name", "name", customers["name"]))
    made.append(
        _names("segment", "segment", customers["segment"], [s.name for s in about.scheme.segments])
    )
    made += [
        _names(name, name, customers[name], tier.names())
        for name, tier in about.scheme.tiers.items()
    ]
    groups = [_names(name, name, customers[name]) for name in _groups(about, customers)]
    first, rest = (
        [_number(n, customers[n], about) for n in some if n in customers]
        for some in (_FIRST, _MEASURES)
    )
    return [*made, *first, *groups, *rest]


def block(about: Contents, customers: pd.DataFrame) -> str:
    """Return the block in base64."""
    parts = [*fields(about, customers), *_strips(about, customers), _actions(about, customers)]
    place, described, data = 0, [], list[bytes]()
    for part in parts:
        texts_by_rung = {
            "name": part.name,
            "label": part.label,
            "kind": part.kind,
            "stored": part.stored,
            "at": place,
        }
        described.append({**texts_by_rung, "bytes": len(part.data), **part.extra})
        padded = part.data + b"\0" * (-len(part.data) % 8)
        data.append(padded)
        place += len(padded)
    head = {
        "rows": len(customers), "decimals": about.scheme.money.decimals, "columns": described,
        "segments": _segments(about),
        "ladders": _ladders(about), "asOf": about.as_of.isoformat(),
        "horizon": about.forecast.horizon if about.forecast is not None else None,
    }  # fmt: skip
    header = json.dumps(head, ensure_ascii=False).encode()
    header += b" " * (-(len(header) + 4) % 8)
    whole = len(header).to_bytes(4, "little") + header + b"".join(data)
    return base64.b64encode(gzip.compress(whole, 6, mtime=0)).decode()


def _segments(about: Contents) -> list[dict[str, Any]]:
    return [
        {
            "name": s.name,
            "stance": s.stance,
            "rule": s.when or "all customers without an earlier rule",
        }
        for s in about.scheme.segments
    ]


def _ladders(about: Contents) -> dict[str, Any]:
    """Return score → for each group (null: all customers) the values on its rungs, in words."""
    by_score: dict[str, Any] = {}
    for name, (measure, _) in SCORES.items():
        ladder = about.ladders[name]
        if isinstance(ladder, GroupedLadder):
            continue  # each group's cuts would need a table of their own
        bounds: list[Any] = [None, *(None if abs(c) == np.inf else c for c in ladder.cuts), None]
        rungs = [span(low, high) for low, high in pairwise(bounds)]
        by_score[name] = {"of": measure, "rungs": rungs if ladder.better == "high" else rungs[::-1]}
    return by_score


def _groups(about: Contents, customers: pd.DataFrame) -> list[str]:
    """Return columns with few different texts: from the customers file, and the only channel."""
    known = {
        *columns.names(columns.CUSTOMERS),
        *columns.names(columns.SCORES),
        *columns.names(columns.FORECAST),
    }
    own = [str(c) for c in customers if c not in known and c not in about.scheme.tiers]
    texts = [c for c in (*own,
    "only_channel") if c in customers and not pd.api.types.is_numeric_dtype(customers[c])
             and customers[c].dtype.kind != "M"]  # fmt: skip
    return [c for c in texts if 1 < customers[c].nunique() <= MOST_GROUPS]


def _text(name: str, label: str, values: "pd.Series[Any]") -> Field:
    """Encode UTF-8 texts, one after the other, after their lengths in bytes (4 each; the largest
    number for null).
    """
    encoded = [None if v is None or v != v else str(v).encode() for v in values.astype(object)]
    lengths = np.array([2**32 - 1 if e is None else len(e) for e in encoded], dtype="<u4")
    return Field(
        name,
        label,
        "text",
        "text",
        lengths.tobytes() + b"".join(e for e in encoded if e is not None),
        {},
    )


def _names(
    name: str, label: str, values: "pd.Series[Any]", order: Sequence[str] | None = None
) -> Field:
    """Encode positions among the names, from 1; 0 is null."""
    texts = values.astype(object).where(values.notna(), None)
    there = order or sorted({str(v) for v in texts if v is not None})
    place = {text: i for i, text in enumerate(there, start=1)}
    codes = np.array([0 if v is None else place[str(v)] for v in texts], dtype="<u2")
    return Field(name, label, "names", "names", codes.tobytes(), {"names": list(there)})


def _number(name: str, values: "pd.Series[Any]", about: Contents) -> Field:
    """Encode whole numbers in a unit small enough for display: minor units, millionths of a share,
    hundredths, days.
    """
    column = columns.of_customers(name)
    assert column is not None
    if column.kind == "day":
        days = values.to_numpy().astype("datetime64[D]")
        return _whole(column, 0, np.where(np.isnat(days), NULL, days.astype(np.int64)))
    decimals = (
        about.scheme.money.decimals if column.kind == "money" else _DECIMALS.get(column.kind, 0)
    )
    numbers = values.to_numpy(dtype=np.float64, na_value=np.nan)
    known = np.isfinite(numbers)
    units = np.full(len(numbers), NULL, dtype=np.int64)
    units[known] = to_minor(numbers[known], decimals)
    if np.abs(units[known]).max(initial=0) < 2**31 - 1:
        return _whole(column, decimals, units)
    floats = np.where(known, units, np.nan).astype("<f8")
    return Field(name, column.title, column.kind, "f64", floats.tobytes(), {"decimals": decimals})


#: Decimals of kinds that are not whole; of a share the page displays three, as a percentage.
_DECIMALS = {"share": 6, "ratio": 2, "points": 2}


def _whole(column: columns.Column, decimals: int, units: NDArray[Any]) -> Field:
    data = units.astype("<i4").tobytes()
    return Field(column.name, column.title, column.kind, "i32", data, {"decimals": decimals})


def _actions(about: Contents, customers: pd.DataFrame) -> Field:
    """Encode the action for each customer, if one is recommended."""
    actions = customers["customer"].map(about.plan.group_of)
    return _names("#action", "", actions, [a.name for a in about.plan.actions])


def _strips(about: Contents, customers: pd.DataFrame) -> list[Field]:
    """Encode orders by month: the number of months of each customer (``strip``), then the month and
    the orders of each.
    """
    strips = about.strips[about.strips["customer"].isin(customers["customer"])]
    month = strips["month"].dt.year * 12 + strips["month"].dt.month - 1
    first = int(month.min()) if len(month) else 0
    place = (
        pd.Series(np.arange(len(customers)), index=customers["customer"])
        .loc[strips["customer"]]
        .to_numpy()
    )
    order = np.lexsort((month.to_numpy(), place))
    sizes = np.bincount(place, minlength=len(customers))
    last = about.as_of.year * 12 + about.as_of.month - 1
    extra = {"first": first, "months": last - first + 1}
    return [
        Field("#strip", "", "strip", "u2", sizes.astype("<u2").tobytes(), extra),
        Field(
            "#month",
            "",
            "strip",
            "u2",
            (month.to_numpy()[order] - first).astype("<u2").tobytes(),
            {},
        ),
        Field(
            "#count",
            "",
            "strip",
            "u2",
            np.minimum(strips["orders"].to_numpy()[order], 65535).astype("<u2").tobytes(),
            {},
        ),
    ]
