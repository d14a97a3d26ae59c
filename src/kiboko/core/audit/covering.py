"""Whether some boxes together cover another one, exactly: which of them do, or a point that none of them holds.

A rule of a filter is a box of four sides (sources, destinations, services, sender's ports), each a set of numbers. What
no single box covers, and where no point that was tried lies outside, is cut at the box that holds most of it, until
nothing is left or a piece that none of them meets.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.audit.side_lines import SideLine
from kiboko.core.header.ranges import RangeSet
from kiboko.core.tables.kinds import WORD, Words, as_truths, as_words

Sides = tuple[RangeSet, RangeSet, RangeSet, RangeSet]
Point = tuple[int, int, int, int]
Rows = NDArray[np.int64]
Pieces = NDArray[np.integer[Any]]
Truths = NDArray[np.bool_]
_Parts = tuple[Pieces, Pieces, Rows]
"""Products of single ranges: [4, n] the lowest and the highest pieces, and int64[n] whose they are."""
_Corner = tuple[int, ...]
"""The lowest or the highest pieces of a product of single ranges, one for each side."""
_SIDES = range(4)
_TRIED = (
    (0, 0, 0, 0),
    (1, 1, 1, 1),
    (2, 2, 2, 2),
    (0, 1, 2, 0),
    (1, 0, 2, 1),
    (2, 0, 0, 1),
    (0, 2, 1, 0),
    (2, 1, 2, 0),
)
"""Points of a box that are tried before it is cut: on each side the lowest (0), the highest (1) or a middle one (2)."""
_MOST_CUTS = 20_000
"""As many cuts are made for one box before it is left undecided."""
_MOST_PARTS = 4096
_FEW_TO_PRUNE = 12
_LARGEST = 48
"""As many of the cutters of a piece, those that hold most of it, are looked at before all others."""


@dataclass(frozen=True, slots=True)
class Cover:
    """What covers a box. `by` are the numbers of the boxes that together do, empty where they do not; `outside` is a
    point of the box that none of them holds, None where they cover it. Where it took too much to tell, `is_known` is
    false."""

    by: tuple[int, ...] = ()
    outside: Point | None = None
    is_known: bool = True

    @property
    def is_whole(self) -> bool:
        """Whether the box is covered."""
        return bool(self.by)


class Boxes:
    """Boxes in an order, asked about one another. A box with an empty side holds nothing."""

    def __init__(self, boxes: Sequence[Sides]) -> None:
        self._is_empty = np.array([not all(box) for box in boxes], dtype=np.bool_)
        self._full = as_words(~self._is_empty, -(-len(boxes) // WORD))
        self._lines = [SideLine([box[side] for box in boxes]) for side in _SIDES]
        # Boxes of one range on each side, which most are, as they are; the others are taken apart when they are met.
        firsts = [line.begin[line.of] for line in self._lines]
        counts = np.stack([line.count[line.of] for line in self._lines], axis=1)
        self._is_single = (counts == 1).all(axis=1)
        known = [(line.low, line.high) if len(line.low) else (np.zeros(1, np.int64),) * 2 for line in self._lines]
        self._low, self._high = (
            np.stack([each[side][np.minimum(first, len(each[side]) - 1)]
                      for each, first in zip(known, firsts, strict=True)]).astype(np.int32)
            for side in (0, 1)
        )  # fmt: skip
        self._apart: dict[int, tuple[Pieces, Pieces] | None] = {}

    def __len__(self) -> int:
        return len(self._is_empty)

    def holds_anything(self, box: int) -> bool:
        """Whether a box has no empty side."""
        return not self._is_empty[box]

    def meeting(self, box: int) -> Truths:
        """Which boxes have something in common with one of them, bool[n]."""
        return self._on_all_sides(line.meeting(box) for line in self._lines)

    def holding(self, box: int) -> Truths:
        """Which boxes hold one of them whole, bool[n]."""
        return self._on_all_sides(line.holding(box) for line in self._lines)

    def _on_all_sides(self, sides: Iterator[Words]) -> Truths:
        found = self._full
        for side in sides:
            found = found & side
            if not found.any():
                break
        return as_truths(found, len(self))

    def covered(self, box: int, among: Rows | range) -> Cover:
        """Whether some of the boxes, by their numbers, cover one of them together."""
        if self._is_empty[box]:
            return Cover()
        whole = self._among(box, among, is_holding=True)
        if len(whole):
            return Cover((int(whole[0]),))
        chosen = self._among(box, among, is_holding=False)
        if not len(chosen):
            return Cover(outside=self._point([line.ranges(box)[0][0] for line in self._lines]))
        corners = [line.corners(box) for line in self._lines]
        points = np.array([[corners[side][kind] for side, kind in enumerate(kinds)] for kinds in _TRIED])
        parts, cutters = self._parts([box]), self._parts(chosen)
        if parts is None or cutters is None:
            return Cover(is_known=False)
        held = np.ones((len(_TRIED), len(cutters[2])), dtype=np.bool_)
        for side in _SIDES:
            held &= (cutters[0][side] <= points[:, side, None]) & (cutters[1][side] >= points[:, side, None])
        outside = np.flatnonzero(~held.any(axis=1))
        if len(outside):
            return Cover(outside=self._point(points[outside[0]]))
        return self._cut(box, parts, cutters)

    def _among(self, box: int, among: Rows | range, is_holding: bool) -> Rows:
        """Which of some boxes hold one whole, or have something in common with it."""
        if not isinstance(among, range):
            return among[(self.holding(box) if is_holding else self.meeting(box))[among]]
        rows = slice(among.start, among.stop)  # they lie together: nothing is copied
        if not self._is_single.all():
            return np.flatnonzero((self.holding(box) if is_holding else self.meeting(box))[rows]) + among.start
        held = np.ones(len(among), dtype=np.bool_)
        for low, high in zip(self._low, self._high, strict=True):
            if is_holding:
                held &= (low[rows] <= low[box]) & (high[rows] >= high[box])
            else:
                held &= (low[rows] <= high[box]) & (high[rows] >= low[box])
        return np.flatnonzero(held) + among.start

    def _point(self, pieces: Sequence[Any]) -> Point:
        found = [line.starts[int(piece)] for line, piece in zip(self._lines, pieces, strict=True)]
        return found[0], found[1], found[2], found[3]

    def _cut(self, box: int, parts: _Parts, cutters: _Parts) -> Cover:
        """The box cut at those that hold most of what is left of it, depth first."""
        used: dict[int, None] = {}
        cuts = 0
        for whole in _corners(parts):
            mine = _met(*whole, cutters)
            left = [(*whole, mine)]
            while left:
                first, last, those = left.pop()
                meeting = _within(first, last, those)
                if meeting is None and those is not mine:
                    meeting = _within(first, last, mine)
                if meeting is None:
                    return Cover(outside=self._point(list(first)))
                cuts += 1
                if cuts > _MOST_CUTS:
                    return Cover(is_known=False)
                from_, to, owner = meeting
                used[int(owner[0])] = None
                pieces = _less(first, last, tuple(from_[:, 0].tolist()), tuple(to[:, 0].tolist()))
                left.extend((*piece, meeting) for piece in pieces)
        return Cover(tuple(sorted(self._needed(box, list(used)))))

    def _parts(self, boxes: Sequence[int] | Rows) -> _Parts | None:
        """Boxes as products of single ranges; None where there are too many."""
        numbers = np.asarray(boxes, dtype=np.int64)
        is_single = self._is_single[numbers]
        if is_single.all():
            return np.take(self._low, numbers, axis=1), np.take(self._high, numbers, axis=1), numbers
        single = numbers[is_single]
        low: list[Pieces]
        high: list[Pieces]
        low, high = [np.take(self._low, single, axis=1)], [np.take(self._high, single, axis=1)]
        owner = [single]
        for box in numbers[~is_single].tolist():
            apart = self._taken_apart(box)
            if apart is None:
                return None
            low.append(apart[0])
            high.append(apart[1])
            owner.append(np.full(apart[0].shape[1], box, dtype=np.int64))
        return np.concatenate(low, axis=1), np.concatenate(high, axis=1), np.concatenate(owner)

    def _taken_apart(self, box: int) -> tuple[Pieces, Pieces] | None:
        if box not in self._apart:
            ranges = [line.ranges(box) for line in self._lines]
            counts = [len(each[0]) for each in ranges]
            self._apart[box] = None
            if np.prod(counts) <= _MOST_PARTS:
                index = np.indices(counts).reshape(4, -1)
                self._apart[box] = (
                    np.stack([each[0][at] for each, at in zip(ranges, index, strict=True)]),
                    np.stack([each[1][at] for each, at in zip(ranges, index, strict=True)]),
                )
        return self._apart[box]

    def _needed(self, box: int, used: list[int]) -> list[int]:
        """Of some boxes that cover one together as few as a look at each of them leaves."""
        if len(used) > _FEW_TO_PRUNE:
            return used
        for each in sorted(used, reverse=True):
            rest = [other for other in used if other != each]
            if rest and self._covers(box, rest):
                used = rest
        return used

    def _covers(self, box: int, those: Sequence[int]) -> bool:
        parts, cutters = self._parts([box]), self._parts(those)
        if parts is None or cutters is None:
            return False
        ranges = list(_corners(cutters))
        left = [(*corners, 0) for corners in _corners(parts)]
        while left:  # a piece at a time, so that one which nothing covers is soon found
            first, last, place = left.pop()
            while place < len(ranges) and not _meet(first, last, *ranges[place]):
                place += 1
            if place == len(ranges) or len(left) > _MOST_CUTS:
                return False
            from_, to = tuple(map(max, ranges[place][0], first)), tuple(map(min, ranges[place][1], last))
            left.extend((*piece, place + 1) for piece in _less(first, last, from_, to))
        return True


def _corners(parts: _Parts) -> Iterator[tuple[_Corner, _Corner]]:
    """Products of single ranges one by one: the lowest and the highest pieces of each."""
    return ((tuple(low), tuple(high)) for low, high in zip(parts[0].T.tolist(), parts[1].T.tolist(), strict=True))


def _met(first: _Corner, last: _Corner, cutters: _Parts) -> _Parts:
    """Those of some cutters that have something in common with a product of ranges."""
    low, high, owner = cutters
    met = np.flatnonzero(((low <= _column(last)) & (high >= _column(first))).all(axis=0))
    return low.take(met, axis=1), high.take(met, axis=1), owner.take(met)


def _within(first: _Corner, last: _Corner, cutters: _Parts) -> _Parts | None:
    """What of some cutters lies in a product of ranges: of those that hold most of it, the one
    that holds most first. None where none of them meets it."""
    low, high, owner = cutters
    from_, to = np.maximum(low, _column(first)), np.minimum(high, _column(last))
    size = to - from_ + 1
    met = np.flatnonzero(np.minimum.reduce(size) > 0)
    if not len(met):
        return None
    volume = np.multiply.reduce(size.take(met, axis=1).astype(np.float64))
    if len(met) > _LARGEST:
        largest = volume.argpartition(-_LARGEST)[-_LARGEST:]
        met, volume = met[largest], volume[largest]
    best = int(volume.argmax())
    met[[0, best]] = met[[best, 0]]
    return from_.take(met, axis=1), to.take(met, axis=1), owner.take(met)


def _meet(first: _Corner, last: _Corner, low: _Corner, high: _Corner) -> bool:
    """Whether two products of ranges have something in common."""
    return (
        first[0] <= high[0] and low[0] <= last[0] and first[1] <= high[1] and low[1] <= last[1]
        and first[2] <= high[2] and low[2] <= last[2] and first[3] <= high[3] and low[3] <= last[3]
    )  # fmt: skip


def _column(corner: _Corner) -> Pieces:
    return np.array(corner, dtype=np.int32)[:, None]


def _less(first: _Corner, last: _Corner, from_: _Corner, to: _Corner) -> Iterator[tuple[_Corner, _Corner]]:
    """What is left of a product of ranges without one that lies in it, as products that do not meet."""
    inner_first, inner_last = list(first), list(last)
    for side in _SIDES:
        if first[side] < from_[side]:
            yield tuple(inner_first), (*inner_last[:side], from_[side] - 1, *inner_last[side + 1 :])
        if last[side] > to[side]:
            yield (*inner_first[:side], to[side] + 1, *inner_first[side + 1 :]), tuple(inner_last)
        inner_first[side], inner_last[side] = from_[side], to[side]
