"""Columns of numbers in as little room as their values allow: for what is sent from one process to another."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

_NARROW = (np.uint8, np.uint16, np.uint32)


@dataclass(frozen=True, slots=True)
class Narrow:
    """A column as what each value lies above the lowest, in few octets; where all are the same there are no `values`
    at all. `kind` is the type that the column has."""

    kind: str
    shape: tuple[int, ...]
    low: int
    values: NDArray[Any] | None

    def column(self) -> NDArray[Any]:
        """The column as it was."""
        kind = np.dtype(self.kind)
        if self.values is None:
            return np.full(self.shape, self.low, dtype=kind)
        found = self.values.astype(kind)
        found += kind.type(self.low)
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


def narrow_state(value: Any) -> list[Any]:
    """The fields of a dataclass, its columns narrowed: what `__getstate__` gives."""
    fields = [getattr(value, each.name) for each in dataclasses.fields(value)]
    return [narrowed(each) if isinstance(each, np.ndarray) else each for each in fields]


def take_state(value: Any, state: list[Any]) -> None:
    """Give a frozen dataclass the fields that `narrow_state` gave: what `__setstate__` does."""
    for field, each in zip(dataclasses.fields(value), state, strict=True):
        object.__setattr__(value, field.name, each.column() if isinstance(each, Narrow) else each)
