"""Arrow columns as NumPy arrays, taken from where they lie: the library's own way looks for pandas first, and loads it
where it is installed, which takes longer than most logs."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray


def values_of(column: pa.ChunkedArray | pa.Array) -> NDArray[Any]:
    """A column of numbers, truth values or times (as their int64) without nulls, as one array. Nothing is copied of a
    column of numbers in one chunk."""
    chunks = column.chunks if isinstance(column, pa.ChunkedArray) else [column]
    parts = [_values(chunk) for chunk in chunks if len(chunk)]
    if not parts:
        return np.zeros(0, dtype=_dtype(column.type))
    return parts[0] if len(parts) == 1 else np.concatenate(parts)


def filled(column: pa.ChunkedArray | pa.Array, missing: int) -> tuple[NDArray[Any], NDArray[np.bool_] | None]:
    """A column of numbers or times as one array with `missing` in place of nulls, and which rows these are, bool[n];
    None where there is none. A number that its type cannot hold makes it int64."""
    if not column.null_count:
        return values_of(column), None
    chunks = [each for each in (column.chunks if isinstance(column, pa.ChunkedArray) else [column]) if len(each)]
    absent = np.concatenate([_absent(chunk) for chunk in chunks])
    values = np.concatenate([_values(chunk) for chunk in chunks])
    if not np.can_cast(np.min_scalar_type(missing), values.dtype):
        values = values.astype(np.int64)
    values = values.copy() if not values.flags.writeable else values
    values[absent] = missing
    return values, absent


def _absent(chunk: pa.Array) -> NDArray[np.bool_]:
    """The nulls of a chunk, by its bitmap (the columnar format of Arrow: bits from the least significant)."""
    valid = chunk.buffers()[0]
    if valid is None:
        return np.zeros(len(chunk), dtype=np.bool_)
    bits = np.frombuffer(valid, dtype=np.uint8)
    flags = np.unpackbits(bits, count=chunk.offset + len(chunk), bitorder="little")[chunk.offset :]
    found: NDArray[np.bool_] = flags == 0
    return found


def _dtype(kind: pa.DataType) -> np.dtype[Any]:
    if pa.types.is_boolean(kind):
        return np.dtype(np.bool_)
    if pa.types.is_temporal(kind):
        return np.dtype(np.int64 if kind.bit_width == 64 else np.int32)
    letter = "f" if pa.types.is_floating(kind) else "i" if pa.types.is_signed_integer(kind) else "u"
    return np.dtype(f"{letter}{kind.bit_width // 8}")


def _values(chunk: pa.Array) -> NDArray[Any]:
    kind, data = _dtype(chunk.type), chunk.buffers()[1]
    if kind == np.bool_:
        bits = np.frombuffer(data, dtype=np.uint8)
        flags = np.unpackbits(bits, count=chunk.offset + len(chunk), bitorder="little")[chunk.offset :]
        return flags.astype(np.bool_)
    found: NDArray[Any] = np.frombuffer(data, dtype=kind)[chunk.offset : chunk.offset + len(chunk)]
    return found
