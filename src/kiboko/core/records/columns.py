"""Columns of numbers: which values are equal, and what the rows of equal ones come to."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, WITH_PORTS

_BITS = 20
_FEWEST_BITS = 10
_FEW = 20_000
_FEWEST = 1 << 10
_CLOSE = 1 << 22
_SMALL = 1 << 18
_BLOCK = 1 << 16
_MULTIPLIERS = (0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0xD6E8FEB86659FD93, 0xA0761D6478BD642F)
_EXACT, _LARGEST = 1 << 53, 1 << 63


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

    def further(self) -> NDArray[np.int64]:
        """The rows whose value has been met before, ascending."""
        return np.flatnonzero(self.first[self.codes] != np.arange(len(self.codes)))

    def any(self, which: NDArray[np.bool_]) -> NDArray[np.bool_]:
        """Which values have a row of which something holds, bool[k]."""
        found = np.zeros(len(self), dtype=np.bool_)
        found[self.codes[which]] = True
        return found

    def sums(self, values: NDArray[Any]) -> NDArray[Any]:
        """What a column of counts comes to for each value, exactly: int64[k], or whole numbers of any size (object[k])
        where they might be too large for that, as those of the column may be."""
        if values.dtype != object and int(values.max(initial=0)) * len(values) < _EXACT:
            return np.bincount(self.codes, weights=values, minlength=len(self)).astype(np.int64)
        found = np.zeros(len(self), dtype=np.int64 if int(values.max()) * len(values) < _LARGEST else object)
        np.add.at(found, self.codes, values.astype(found.dtype, copy=False))
        return found

    def least(self, values: NDArray[np.int64], missing: int) -> NDArray[np.int64]:
        """The least value of a column for each, int64[k]; `missing` stands for none, and for no value at all."""
        top = np.iinfo(np.int64).max
        found = np.full(len(self), top)
        known = np.where(values == missing, top, values) if missing in (values.min(initial=top), top) else values
        np.minimum.at(found, self.codes, known)
        return np.where(found == top, missing, found)

    def most(self, values: NDArray[np.int64]) -> NDArray[np.int64]:
        """The greatest value of a column for each, int64[k]."""
        found = np.full(len(self), np.iinfo(np.int64).min)
        np.maximum.at(found, self.codes, values)
        return found


def distinct(*columns: NDArray[Any]) -> Distinct:
    """The distinct rows of one or more columns of whole numbers, of one length each.

    Rows are told apart by a hash without any sorting: the rows whose hash another value has taken before them, which is
    seen, are tried again with another multiplier, and sorting is what remains. It is the cheaper for few rows.
    """
    count = len(columns[0])
    if count > _FEW and len(columns) == 1 and int(columns[0].min()) >= 0 and (most := int(columns[0].max())) < _SMALL:
        return _distinct_small(columns[0].astype(np.int64, copy=False), most + 1)
    rows = np.arange(count, dtype=np.int32 if count < 1 << 31 else np.int64)
    keys = [_unsigned(column) for column in (_packed(columns) if count > _FEW and len(columns) > 1 else columns)]
    firsts = _firsts(keys, rows, _MULTIPLIERS if count > _FEW else ())
    first = np.flatnonzero(firsts == rows)
    number = np.empty(count, dtype=np.int64)
    number[first] = np.arange(len(first))
    return Distinct(number[firsts], first)


def repeated(*columns: NDArray[Any]) -> NDArray[np.int64]:
    """The rows, ascending, whose values in one or more columns of whole numbers another row has as well. Most may have
    theirs alone: a count of hashes shows it, and costs much less than to tell all rows apart."""
    slots = _places([_unsigned(column) for column in columns], _MULTIPLIERS[0], _BITS)
    few = np.flatnonzero((np.bincount(slots, minlength=1 << _BITS) > 1)[slots])
    if not len(few):
        return few
    groups = distinct(*(column[few] for column in columns))
    found: NDArray[np.int64] = few[(groups.counts() > 1)[groups.codes]]
    return found


def _packed(columns: tuple[NDArray[Any], ...]) -> list[NDArray[Any]]:
    """Columns whose rows are equal where those of some columns are, but fewer of them: neighbours of small range are
    made one."""
    found: list[NDArray[Any]] = []
    room = 1
    for column in columns:
        low = int(column.min())
        size = int(column.max()) - low + 1
        if size >= _LARGEST:  # as it is, and alone
            found.append(column)
            room = _LARGEST
            continue
        own = column.astype(np.int64, copy=False) - low if low < _LARGEST else (column - np.uint64(low)).view(np.int64)
        if found and room * size < _LARGEST:
            found[-1] = found[-1] * size + own
            room *= size
        else:
            found.append(own)
            room = size
    return found


def ascending(values: NDArray[Any]) -> tuple[NDArray[Any], NDArray[np.int64]]:
    """The distinct values of a column, ascending, and for each row the place of its own: for few rows, or where they
    are needed in order. (NumPy's own function for this loads a package of some 20 ms at its first call.)"""
    order = np.argsort(values, kind="stable")
    in_order = values[order]
    is_new = np.ones(len(order), dtype=np.bool_)
    is_new[1:] = in_order[1:] != in_order[:-1]
    places = np.empty(len(order), dtype=np.int64)
    places[order] = np.cumsum(is_new) - 1
    return in_order[is_new], places


def numbered(values: NDArray[Any]) -> tuple[NDArray[Any], NDArray[np.int64]]:
    """The distinct values of a column in the order in which they are met, and for each row the place of its own."""
    if not len(values):
        return values, np.zeros(0, dtype=np.int64)
    groups = distinct(values)
    return values[groups.first], groups.codes


def _distinct_small(values: NDArray[np.int64], size: int) -> Distinct:
    """The distinct values of a column whose values are below `size`."""
    row = np.full(size, -1)
    row[values[::-1]] = np.arange(len(values) - 1, -1, -1)  # the last write is that of the first row
    met = np.flatnonzero(row >= 0)
    met = met[np.argsort(row[met])]
    number = np.empty(size, dtype=np.int64)
    number[met] = np.arange(len(met))
    return Distinct(number[values], row[met])


class Growing:
    """A column that is added to again and again."""

    def __init__(self, dtype: np.dtype[Any]) -> None:
        self._all = np.zeros(_FEWEST, dtype=dtype)
        self._size = 0

    def __len__(self) -> int:
        return self._size

    @property
    def values(self) -> NDArray[Any]:
        """All that was added, in that order."""
        return self._all[: self._size]

    def add(self, more: NDArray[Any]) -> None:
        """Add some behind the others."""
        size = self._size + len(more)
        if size > len(self._all):
            larger = np.zeros(max(size, 2 * len(self._all)), dtype=self._all.dtype)
            larger[: self._size] = self.values
            self._all = larger
        self._all[self._size : size] = more
        self._size = size


class KeyNumbers:
    """Remembers the number of each key, a key being one or more whole numbers, for columns of keys at once.

    A key has one place, by its hash. Of two keys with one place the later stays and the other is not known any more:
    this is a memory that may forget, in front of one that does not.
    """

    def __init__(self, parts: int) -> None:
        """`parts` is of how many numbers a key is made."""
        self._parts = parts
        self._bits = _FEWEST_BITS
        self.clear()

    def clear(self) -> None:
        """Forget all."""
        self._noted = 0
        self._empty()

    def _empty(self) -> None:
        # A row for each place, of the parts of its key and the number: what is looked at together lies together.
        self._table = np.zeros((1 << self._bits, self._parts + 1), dtype=np.int64)
        self._table[:, -1] = -1

    def find(self, *columns: NDArray[Any]) -> NDArray[np.int64]:
        """The number of each row's key, int64[n]; -1 where it is not known."""
        keys = [_unsigned(column) for column in columns]
        found = np.empty(len(keys[0]), dtype=np.int64)
        for begin in range(0, len(found), _BLOCK):  # one after another, since each fits a processor's cache
            block = slice(begin, begin + _BLOCK)
            self._find([key[block] for key in keys], found[block])
        return found

    def _find(self, keys: list[NDArray[np.uint64]], found: NDArray[np.int64]) -> None:
        """Write the number of each row's key into `found`."""
        noted = self._table.take(_places(keys, _MULTIPLIERS[0], self._bits), axis=0)
        found[:] = noted[:, -1]
        for part, key in enumerate(keys):
            other = noted[:, part] != key.view(np.int64)
            if other.any():
                found[other] = -1

    def note(self, numbers: NDArray[np.int64], *columns: NDArray[Any]) -> None:
        """Keep the numbers of some keys, none of which may be there twice."""
        keys = [_unsigned(column) for column in columns]
        self._noted += len(numbers)
        if self._noted << 3 > 1 << self._bits and self._bits < _BITS:
            before = self._table[self._table[:, -1] >= 0]
            self._bits = min(_BITS, (self._noted << 3).bit_length() + 1)
            self._empty()
            self._put(before)
        self._put(np.stack([*(key.view(np.int64) for key in keys), numbers], axis=1))

    def _put(self, rows: NDArray[np.int64]) -> None:
        keys = [rows[:, part].view(np.uint64) for part in range(self._parts)]
        self._table[_places(keys, _MULTIPLIERS[0], self._bits)] = rows  # of those of one place the last one stays


def _places(keys: list[NDArray[np.uint64]], multiplier: int, bits: int) -> NDArray[np.int64]:
    """A hash of each key that is below `1 << bits`."""
    mixed = keys[0] * np.uint64(multiplier)
    for key in keys[1:]:
        mixed ^= mixed >> np.uint64(32)  # else keys that follow each other share places
        mixed ^= key
        mixed *= np.uint64(multiplier)
    mixed >>= np.uint64(64 - bits)
    return mixed.view(np.int64)


def _unsigned(column: NDArray[Any]) -> NDArray[np.uint64]:
    found: NDArray[np.uint64] = column.astype(np.int64, copy=False) if column.dtype.itemsize < 8 else column
    return found.view(np.uint64)


def _firsts(keys: list[NDArray[np.uint64]], rows: NDArray[Any], multipliers: tuple[int, ...]) -> NDArray[Any]:
    """For each of some ascending rows the first of them that has its keys, which are those of all rows."""
    mine = [key[rows] for key in keys] if len(rows) < len(keys[0]) else keys
    if not multipliers:
        return rows[_firsts_by_sorting(mine)]
    bits = min(_BITS, (2 * len(rows)).bit_length())
    slots = _places(mine, multipliers[0], bits)
    holder = np.empty(1 << bits, dtype=rows.dtype)  # of short numbers, twice as many fit a processor's cache
    holder[slots[::-1]] = rows[::-1]  # the last write is that of the first row
    firsts = holder[slots]
    wrong = np.zeros(len(rows), dtype=np.bool_)
    for whole, key in zip(keys, mine, strict=True):
        wrong |= whole[firsts] != key
    if wrong.any():
        firsts[wrong] = _firsts(keys, rows[wrong], multipliers[1:])
    return firsts


def _firsts_by_sorting(keys: list[NDArray[np.uint64]]) -> NDArray[np.int64]:
    order = np.lexsort(keys)  # equal rows stay in their order
    is_new = np.ones(len(order), dtype=np.bool_)
    if len(order):
        is_new[1:] = False
    for key in keys:
        ordered = key[order]
        is_new[1:] |= ordered[1:] != ordered[:-1]
    starts = np.flatnonzero(is_new)
    firsts = np.empty(len(order), dtype=np.int64)
    firsts[order] = order[starts][np.cumsum(is_new) - 1]
    return firsts


def combined(columns: list[NDArray[Any]], count: int) -> Distinct:
    """The distinct rows of several columns of `count` numbers; of none, one value for all rows."""
    return distinct(*columns) if columns else distinct(np.zeros(count, dtype=np.int64))


class Among:
    """Which numbers below 256, such as those of protocols, are among some: a look-up for whole columns."""

    def __init__(self, numbers: Iterable[int]) -> None:
        self._is_among = np.zeros(1 << 8, dtype=np.bool_)
        self._is_among[list(numbers)] = True

    def __call__(self, column: NDArray[Any]) -> NDArray[np.bool_]:
        """Which are, bool[n]."""
        found: NDArray[np.bool_] = self._is_among[column]
        return found


has_ports, is_icmp = Among(WITH_PORTS), Among((ICMP, ICMP6))
"""Which protocols have ports, and which are ICMP of either family."""


def among(values: NDArray[np.int64], known: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which numbers are among some others, bool[n]: by a table where these lie close together."""
    if not len(known):
        return np.zeros(len(values), dtype=np.bool_)
    low, high = int(known.min()), int(known.max())
    if high - low >= _CLOSE:
        return np.isin(values, known)
    table = np.zeros(high - low + 1, dtype=np.bool_)
    table[known - low] = True
    inside = (values >= low) & (values <= high)
    found: NDArray[np.bool_] = inside & table[np.where(inside, values - low, 0)]
    return found


def beside(values: NDArray[np.int64], known: NDArray[np.int64], step: int) -> NDArray[np.bool_]:
    """Which numbers are among some others, or are a step before or behind one of them, bool[n]."""
    low, high = int(values.min()) - step, int(values.max()) + step
    if not len(known) or high - low >= _CLOSE:
        return among(values, np.concatenate([known - step, known, known + step]))
    here = np.zeros(high - low + 1, dtype=np.bool_)
    here[known[(known >= low) & (known <= high)] - low] = True
    around = here.copy()
    around[step:] |= here[:-step]
    around[:-step] |= here[step:]
    found: NDArray[np.bool_] = around[values - low]
    return found


def by_flags(told: NDArray[Any], none: int) -> NDArray[Any]:
    """A table by TCP flags (RFC 9293) of 16 bits, of which the lower six count, [64]: for -1, which stands for none
    recorded, its last item."""
    return np.append(np.tile(told, 1 << 10), told.dtype.type(none))


def within(ranges: RangeSet, values: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which numbers are in some ranges, bool[n]."""
    if not ranges:
        return np.zeros(len(values), dtype=np.bool_)
    lows, highs = (np.array(side, dtype=np.int64) for side in zip(*ranges, strict=True))
    at = np.searchsorted(lows, values, side="right") - 1
    found: NDArray[np.bool_] = (at >= 0) & (values <= highs[np.maximum(at, 0)])
    return found


def in_order(high: NDArray[np.uint64], low: NDArray[np.uint64]) -> NDArray[np.bytes_]:
    """Numbers of 128 bits, given as their upper and lower halves, as values that sort as the numbers do, bytes[n]."""
    halves = np.stack([high, low], axis=1).astype(">u8")
    found: NDArray[np.bytes_] = halves.view("S16").reshape(-1)
    return found
