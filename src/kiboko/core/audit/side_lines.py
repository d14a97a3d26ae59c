"""One side of many boxes: which of them have something in common with one, or hold all that it has there; a bit for
each box, the first as the lowest of the first word."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.ranges import RangeSet
from kiboko.core.tables.kinds import WORD, Words, as_words

Rows = NDArray[np.int64]
_MOST_WORDS = 1 << 24
"""Where it would take more to keep which boxes hold each piece, it is kept of every second, third, … alone."""
_MANY = 1 << 9
"""So many bits are set faster as truth values first."""
_MOST_KEPT = 1 << 12


class SideLine:
    """One side of all boxes, on a line of pieces that begin wherever a set begins or has ended."""

    def __init__(self, sets: Sequence[RangeSet]) -> None:
        distinct = list(dict.fromkeys(sets))
        number = {each: place for place, each in enumerate(distinct)}
        self.of = np.array([number[each] for each in sets], dtype=np.int64)
        edges = sorted({edge for each in distinct for low, high in each for edge in (low, high + 1)})
        piece = {edge: place for place, edge in enumerate(edges)}
        self.starts = edges
        self.count = np.array([len(each.ranges) for each in distinct], dtype=np.int64)
        self.begin = np.cumsum(self.count) - self.count
        self.low = np.array([piece[low] for each in distinct for low, _ in each], dtype=np.int64)
        self.high = np.array([piece[high + 1] - 1 for each in distinct for _, high in each], dtype=np.int64)
        self._words = -(-len(sets) // WORD)
        self._known: dict[tuple[int, bool], Words] = {}

    def ranges(self, box: int) -> tuple[Rows, Rows]:
        """The lowest and the highest piece of each range of a box's set."""
        mine = slice(self.begin[self.of[box]], self.begin[self.of[box]] + self.count[self.of[box]])
        return self.low[mine], self.high[mine]

    def corners(self, box: int) -> tuple[int, int, int]:
        """Three pieces of a box's set: the lowest, the highest, and one in the middle of its middle range."""
        low, high = self.ranges(box)
        middle = len(low) // 2
        return int(low[0]), int(high[-1]), int(low[middle] + high[middle]) // 2

    def meeting(self, box: int) -> Words:
        """Which boxes' sets have something in common with that of a box."""
        return self._asked(box, False)

    def holding(self, box: int) -> Words:
        """Which boxes' sets hold that of a box whole."""
        return self._asked(box, True)

    def _asked(self, box: int, is_holding: bool) -> Words:
        low, high = self.ranges(box)
        key = int(self.of[box]), is_holding
        if key in self._known:
            return self._known[key]
        begins, ends = self._edges
        found = np.full(self._words, ~np.uint64(0) if is_holding else np.uint64(0))
        for first, last in zip(low.tolist(), high.tolist(), strict=True):
            row = self._holding_piece(first)
            if is_holding:  # what holds its first piece holds it whole, unless it ends on the way: there are gaps
                found &= row & ~ends.among(first + 1, last)
            else:
                found |= row | begins.among(first + 1, last)
        if len(self._known) >= _MOST_KEPT:
            self._known.clear()
        self._known[key] = found
        return found

    @cached_property
    def _edges(self) -> tuple[_Edges, _Edges]:
        """All ranges of all boxes, by the piece with which they begin and by the one behind their end."""
        counts = self.count[self.of]
        whose = np.repeat(np.arange(len(self.of)), counts)
        at = np.arange(len(whose)) + np.repeat(self.begin[self.of] - (np.cumsum(counts) - counts), counts)
        pieces = len(self.starts)
        return _Edges(self.low[at], whose, pieces, self._words), _Edges(self.high[at] + 1, whose, pieces, self._words)

    @cached_property
    def _stride(self) -> int:
        return max(1, -(-len(self.starts) * self._words // _MOST_WORDS))

    @cached_property
    def _rows(self) -> Words:
        """Which boxes hold the first piece, and the one that is a stride further, and so on: uint64[rows, words]."""
        rows = np.zeros((len(self.starts) // self._stride + 2, self._words), dtype=np.uint64)
        for edges in self._edges:
            row = -(-edges.pieces // self._stride)
            np.bitwise_xor.at(rows.reshape(-1), row * self._words + edges.whose // WORD, edges.bits)
        np.bitwise_xor.accumulate(rows, axis=0, out=rows)
        return rows

    def _holding_piece(self, piece: int) -> Words:
        """Which boxes hold a piece."""
        row = piece // self._stride
        words: Words = self._rows[row]
        if row * self._stride < piece:
            words = words.copy()
            for edges in self._edges:
                edges.turn(words, row * self._stride + 1, piece)
        return words


class _Edges:
    """Where ranges begin, or have ended: by which piece, and the bit of whose they are."""

    def __init__(self, pieces: Rows, whose: Rows, pieces_in_all: int, words: int) -> None:
        order = np.argsort(pieces, kind="stable")
        self.pieces, self.whose = pieces[order], whose[order]
        self.bits = np.uint64(1) << (self.whose % WORD).astype(np.uint64)
        self._before: list[int] = np.searchsorted(self.pieces, np.arange(pieces_in_all + 2)).tolist()
        self._words = words

    def turn(self, words: Words, first: int, last: int) -> None:
        """Turn the bits of those whose edges some pieces are, once for each."""
        some = slice(self._before[first], self._before[last + 1])
        np.bitwise_xor.at(words, self.whose[some] // WORD, self.bits[some])

    def among(self, first: int, last: int) -> Words:
        """Whose edges some pieces are."""
        some = slice(self._before[first], self._before[last + 1])
        if some.stop - some.start > _MANY:
            truths = np.zeros(self._words * WORD, dtype=np.bool_)
            truths[self.whose[some]] = True
            return as_words(truths, self._words)
        found = np.zeros(self._words, dtype=np.uint64)
        np.bitwise_or.at(found, self.whose[some] // WORD, self.bits[some])
        return found
