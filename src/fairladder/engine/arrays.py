"""Convert Arrow columns to NumPy without Arrow's own conversions, which import pandas."""

from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

_TYPES: dict[Any, Any] = {
    pa.int8(): np.int8, pa.int16(): np.int16, pa.int32(): np.int32, pa.int64(): np.int64,
    pa.uint8(): np.uint8, pa.uint16(): np.uint16, pa.uint32(): np.uint32, pa.uint64(): np.uint64,
    pa.float32(): np.float32, pa.float64(): np.float64, pa.date32(): "datetime64[D]",
}  # fmt: skip


def as_array(values: pa.ChunkedArray) -> NDArray[Any]:
    """Return numbers or dates as an array of their own type, shape (n,). Whole decimals become
    int64; nulls get arbitrary values.
    """
    if values.type not in _TYPES:
        return np.array([int(v or 0) for v in values.to_pylist()], dtype=np.int64)
    kind = np.dtype(_TYPES[values.type]) if values.type != pa.date32() else np.dtype(np.int32)
    parts = [
        np.frombuffer(c.buffers()[1], kind, len(c), c.offset * kind.itemsize)
        for c in values.chunks
        if len(c)
    ]
    whole = np.concatenate(parts) if len(parts) > 1 else parts[0] if parts else np.zeros(0, kind)
    return whole.astype("datetime64[D]") if values.type == pa.date32() else whole


def known(values: pa.ChunkedArray) -> NDArray[np.bool_]:
    """Return a mask of the values that are not null, shape (n,)."""
    if not values.null_count:
        return np.ones(len(values), dtype=bool)
    return (
        np.concatenate([_valid(chunk) for chunk in values.chunks])
        if values.chunks
        else np.zeros(0, dtype=bool)
    )


def _valid(chunk: pa.Array) -> NDArray[np.bool_]:
    bits = chunk.buffers()[0]
    if bits is None:
        return np.ones(len(chunk), dtype=bool)
    flags = np.unpackbits(np.frombuffer(bits, np.uint8), bitorder="little")
    return flags[chunk.offset : chunk.offset + len(chunk)].astype(bool)
