"""Columns of numbers: which values are equal, and what the rows of equal ones come to."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

_BITS = 20
_FEW = 20_000
_SMALL_BITS = 16
_MULTIPLIERS = (0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0xD6E8FEB86659FD93)
_EXACT = 1 << 53


@dataclass(frozen=True, slots=True)
class Distinct:
    """The distinct values of a column of `n` numbers, numbered in the order in which they are met.

    `codes` is int64[n], for each row the number of its value; `first` int64[k] the row at which each is first met.
    """

    codes: NDArray[np.int64]
    first: NDArray[np.int64]

    def __len__(self) -> int:
        return len(self.first)

    def counts(self) -> NDArray[np.int64]:
        """How many rows have each value, int64[k]."""
        return np.bincount(self.codes, minlength=len(self)).astype(np.int64)

    def sums(self, values: NDArray[np.int64]) -> list[int]:
        """What a column of counts comes to for each value, exactly."""
        if int(values.max(initial=0)) * len(values) < _EXACT:
            return [int(each) for each in np.bincount(self.codes, weights=values, minlength=len(self))]
        found = [0] * len(self)
        for code, value in zip(self.codes.tolist(), values.tolist(), strict=True):
            found[code] += value
        return found

    def least(self, values: NDArray[np.int64], missing: int) -> list[int]:
        """The least value of a column for each; `missing` stands for none, and for no value at all."""
        top = np.iinfo(np.int64).max
        found = np.full(len(self), top)
        np.minimum.at(found, self.codes, np.where(values == missing, top, values))
        return [missing if each == top else each for each in found.tolist()]

    def most(self, values: NDArray[np.int64]) -> list[int]:
        """The greatest value of a column for each."""
        found = np.full(len(self), np.iinfo(np.int64).min)
        np.maximum.at(found, self.codes, values)
        return found.tolist()


def distinct(values: NDArray[Any]) -> Distinct:
    """The distinct values of a column of 64-bit numbers.

    Few values among many rows, as is usual, are told apart by a hash without any sorting: where two values fall on one
    slot, which is seen, another multiplier is tried, and sorting is what remains. It is the cheaper for few rows.
    """
    keys = values.view(np.uint64) if values.dtype.itemsize == 8 else values.astype(np.uint64)
    count = len(keys)
    if count > _FEW:
        rows = np.arange(count, dtype=np.int32)
        if int(keys.max()) < 1 << _SMALL_BITS:
            return _numbered(keys.astype(np.int64), rows, 1 << _SMALL_BITS)[1]
        for multiplier in _MULTIPLIERS:
            slots = ((keys * np.uint64(multiplier)) >> np.uint64(64 - _BITS)).astype(np.int64)
            firsts, found = _numbered(slots, rows, 1 << _BITS)
            if bool((keys[firsts] == keys).all()):
                return found
    _, first, back = np.unique(keys, return_index=True, return_inverse=True)
    order = np.argsort(first)
    number = np.empty(len(first), dtype=np.int64)
    number[order] = np.arange(len(first))
    return Distinct(number[back], first[order])


def _numbered(slots: NDArray[np.int64], rows: NDArray[np.int32], size: int) -> tuple[NDArray[np.int32], Distinct]:
    """For each row the first that has the same slot, and the slots as distinct values."""
    count = len(rows)
    holder = np.full(size, count, dtype=np.int32)
    holder[slots[::-1]] = rows[::-1]  # the last write is that of the first row
    firsts = holder[slots]
    first = np.sort(holder[holder < count])
    number = np.empty(count, dtype=np.int32)
    number[first] = np.arange(len(first), dtype=np.int32)
    return firsts, Distinct(number[firsts].astype(np.int64), first.astype(np.int64))


def combined(columns: list[NDArray[Any]], count: int) -> Distinct:
    """The distinct rows of several columns of `count` numbers; of none, one value for all rows."""
    codes = np.zeros(count, dtype=np.int64)
    for column in columns:
        each = distinct(column)
        codes = distinct(codes * max(1, len(each)) + each.codes).codes
    return distinct(codes)
