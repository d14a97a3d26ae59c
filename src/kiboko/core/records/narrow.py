"""Columns of numbers in as little room as their values allow: to be sent to another process, or kept for long."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

_NARROW = (np.uint8, np.uint16, np.uint32)
T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Narrow:
    """A column as what each value lies above the lowest, in few octets; where all are the same there are no `values`
    at all. `kind` is the type that the column has.

    Of a row it gives a whole number, of several a column, as the column itself would.
    """

    kind: str
    shape: tuple[int, ...]
    low: int
    values: NDArray[Any] | None

    def __len__(self) -> int:
        return self.shape[0]

    def __getitem__(self, rows: Any) -> Any:
        if len(self.shape) == 1 and isinstance(rows, (int, np.integer)):
            return self.low if self.values is None else self.low + int(self.values[rows])
        if self.values is None:
            return np.broadcast_to(np.dtype(self.kind).type(self.low), self.shape)[rows].copy()
        found = self.values[rows].astype(self.kind)
        return found + found.dtype.type(self.low)

    def whole(self) -> NDArray[Any]:
        """The column as it was."""
        found: NDArray[Any] = self[:]
        return found


def narrowed(column: NDArray[Any]) -> NDArray[Any] | Narrow:
    """A column of whole numbers in less room, where there is one; else as it is."""
    if column.dtype.kind not in "iu" or not column.size:
        return column
    low = int(column.min())
    span = int(column.max()) - low
    if not span:
        return Narrow(column.dtype.str, column.shape, low, None)
    kind = next((each for each in _NARROW if span <= np.iinfo(each).max), None)
    if kind is None or np.dtype(kind).itemsize >= column.dtype.itemsize:
        return column
    return Narrow(column.dtype.str, column.shape, low, (column - column.dtype.type(low)).astype(kind))


def put_away(value: T) -> T:
    """A dataclass of columns, and of others like it, with all of them narrowed: it can be counted, asked for single
    rows, and have rows taken out; whoever reckons with a column takes the `whole` of it."""
    made = object.__new__(type(value))
    for field in dataclasses.fields(value):  # type: ignore[arg-type]
        each = getattr(value, field.name)
        if isinstance(each, np.ndarray):
            each = narrowed(each)
        elif dataclasses.is_dataclass(each) and not isinstance(each, (type, Narrow)):
            each = put_away(each)
        object.__setattr__(made, field.name, each)
    return made


def whole(column: NDArray[Any]) -> NDArray[Any]:
    """A column that may have been put away, as it was."""
    return column.whole() if isinstance(column, Narrow) else column
