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

from kiboko.core.header.ranges import RangeSet

Sides = tuple[RangeSet, RangeSet, RangeSet, RangeSet]
Point = tuple[int, int, int, int]
Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]
_Parts = tuple[Rows, Rows, Rows]
"""Products of single ranges: int64[n, 4] the lowest and the highest pieces, and int64[n] whose they are."""
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


class _Line:
    """One side of all boxes: its distinct sets, on a line of pieces that begin wherever a set begins or has ended."""

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
        self.owner = np.repeat(np.arange(len(distinct)), self.count)
        self._meeting: dict[int, Truths] = {}
        self._holding: dict[int, Truths] = {}

    def ranges(self, box: int) -> tuple[Rows, Rows]:
        """The lowest and the highest piece of each range of a box's set."""
        mine = slice(self.begin[self.of[box]], self.begin[self.of[box]] + self.count[self.of[box]])
        return self.low[mine], self.high[mine]

    def meeting(self, box: int) -> Truths:
        """Which boxes' sets have something in common with that of a box."""
        number = int(self.of[box])
        if number not in self._meeting:
            found = np.zeros(len(self.count), dtype=np.bool_)
            for low, high in zip(*self.ranges(box), strict=True):
                found[self.owner[(self.low <= high) & (self.high >= low)]] = True
            self._meeting[number] = found
        return self._meeting[number][self.of]

    def holding(self, box: int) -> Truths:
        """Which boxes' sets hold that of a box whole."""
        number = int(self.of[box])
        if number not in self._holding:
            found = np.zeros(len(self.count), dtype=np.int64)
            for low, high in zip(*self.ranges(box), strict=True):
                found[self.owner[(self.low <= low) & (self.high >= high)]] += 1
            self._holding[number] = found == self.count[number]
        return self._holding[number][self.of]

    def corners(self, box: int) -> tuple[int, int, int]:
        """Three pieces of a box's set: the lowest, the highest, and one in the middle of its middle range."""
        low, high = self.ranges(box)
        middle = len(low) // 2
        return int(low[0]), int(high[-1]), int(low[middle] + high[middle]) // 2


class Boxes:
    """Boxes in an order, asked about one another. A box with an empty side holds nothing."""

    def __init__(self, boxes: Sequence[Sides]) -> None:
        self._is_empty = np.array([not all(box) for box in boxes], dtype=np.bool_)
        self._lines = [_Line([box[side] for box in boxes]) for side in _SIDES]
        # Boxes of one range on each side, which most are, as they are; the others are taken apart when they are met.
        firsts = [line.begin[line.of] for line in self._lines]
        counts = np.stack([line.count[line.of] for line in self._lines], axis=1)
        self._is_single = (counts == 1).all(axis=1)
        known = [(line.low, line.high) if len(line.low) else (np.zeros(1, np.int64),) * 2 for line in self._lines]
        self._low, self._high = (
            np.stack([each[side][np.minimum(first, len(each[side]) - 1)]
                      for each, first in zip(known, firsts, strict=True)]).T
            for side in (0, 1)
        )  # fmt: skip
        self._apart: dict[int, tuple[Rows, Rows] | None] = {}

    def __len__(self) -> int:
        return len(self._is_empty)

    def holds_anything(self, box: int) -> bool:
        """Whether a box has no empty side."""
        return not self._is_empty[box]

    def meeting(self, box: int) -> Truths:
        """Which boxes have something in common with one of them, bool[n]."""
        found: Truths = ~self._is_empty & ~self._is_empty[box]
        for line in self._lines:
            found = found & line.meeting(box)
        return found

    def holding(self, box: int) -> Truths:
        """Which boxes hold one of them whole, bool[n]."""
        found: Truths = ~self._is_empty
        for line in self._lines:
            found = found & line.holding(box)
        return found

    def covered(self, box: int, among: Rows) -> Cover:
        """Whether some of the boxes, by their numbers, cover one of them together."""
        if self._is_empty[box]:
            return Cover()
        among = np.asarray(among, dtype=np.int64)
        whole = self._of_all(box, among, is_holding=True)
        if len(whole):
            return Cover((int(whole[0]),))
        chosen = self._of_all(box, among, is_holding=False)
        if not len(chosen):
            return Cover(outside=self._point([line.ranges(box)[0][0] for line in self._lines]))
        corners = [line.corners(box) for line in self._lines]
        points = np.array([[corners[side][kind] for side, kind in enumerate(kinds)] for kinds in _TRIED])
        parts, cutters = self._parts([box]), self._parts(chosen)
        if parts is None or cutters is None:
            return Cover(is_known=False)
        held = np.ones((len(_TRIED), len(cutters[0])), dtype=np.bool_)
        for side in _SIDES:
            held &= (cutters[0][:, side] <= points[:, side, None]) & (cutters[1][:, side] >= points[:, side, None])
        outside = np.flatnonzero(~held.any(axis=1))
        if len(outside):
            return Cover(outside=self._point(points[outside[0]]))
        return self._cut(box, parts, cutters)

    def _of_all(self, box: int, among: Rows, is_holding: bool) -> Rows:
        """Which of some boxes hold one whole, or have something in common with it."""
        if not self._is_single.all():
            return among[(self.holding(box) if is_holding else self.meeting(box))[among]]
        for low, high in zip(self._low.T, self._high.T, strict=True):  # side by side, with those that are left
            if is_holding:
                among = among[(low[among] <= low[box]) & (high[among] >= high[box])]
            else:
                among = among[(low[among] <= high[box]) & (high[among] >= low[box])]
        return among

    def _point(self, pieces: Sequence[Any]) -> Point:
        found = [line.starts[int(piece)] for line, piece in zip(self._lines, pieces, strict=True)]
        return found[0], found[1], found[2], found[3]

    def _cut(self, box: int, parts: _Parts, cutters: _Parts) -> Cover:
        """The box cut at those that hold most of what is left of it, depth first."""
        low, high, owner = cutters
        used: dict[int, None] = {}
        left = [(parts[0][row], parts[1][row], np.arange(len(owner))) for row in range(len(parts[0]))]
        cuts = 0
        while left:
            first, last, those = left.pop()
            from_, to = np.maximum(low[those], first), np.minimum(high[those], last)
            met = (from_ <= to).all(axis=1)
            if not met.any():
                return Cover(outside=self._point(list(first)))
            cuts += 1
            if cuts > _MOST_CUTS:
                return Cover(is_known=False)
            those, from_, to = those[met], from_[met], to[met]
            best = int(np.prod((to - from_ + 1).astype(np.float64), axis=1).argmax())
            used[int(owner[those[best]])] = None
            left.extend((*rest, those) for rest in _less(first, last, from_[best], to[best]))
        return Cover(tuple(sorted(self._needed(box, list(used)))))

    def _parts(self, boxes: Sequence[int] | Rows) -> _Parts | None:
        """Boxes as products of single ranges; None where there are too many."""
        numbers = np.asarray(boxes, dtype=np.int64)
        single = numbers[self._is_single[numbers]]
        low, high, owner = [self._low[single]], [self._high[single]], [single]
        for box in numbers[~self._is_single[numbers]].tolist():
            apart = self._taken_apart(box)
            if apart is None:
                return None
            low.append(apart[0])
            high.append(apart[1])
            owner.append(np.full(len(apart[0]), box, dtype=np.int64))
        return np.concatenate(low), np.concatenate(high), np.concatenate(owner)

    def _taken_apart(self, box: int) -> tuple[Rows, Rows] | None:
        if box not in self._apart:
            ranges = [line.ranges(box) for line in self._lines]
            counts = [len(each[0]) for each in ranges]
            self._apart[box] = None
            if np.prod(counts) <= _MOST_PARTS:
                index = np.indices(counts).reshape(4, -1)
                self._apart[box] = (
                    np.stack([each[0][at] for each, at in zip(ranges, index, strict=True)], axis=1),
                    np.stack([each[1][at] for each, at in zip(ranges, index, strict=True)], axis=1),
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
        left = list(zip(parts[0], parts[1], strict=True))
        for low, high in zip(cutters[0], cutters[1], strict=True):
            kept: list[tuple[Rows, Rows]] = []
            for first, last in left:
                from_, to = np.maximum(low, first), np.minimum(high, last)
                kept += list(_less(first, last, from_, to)) if (from_ <= to).all() else [(first, last)]
            left = kept
            if len(left) > _MOST_CUTS:
                return False
        return not left


def _less(first: Rows, last: Rows, from_: Rows, to: Rows) -> Iterator[tuple[Rows, Rows]]:
    """What is left of a product of ranges without one that lies in it, as products that do not meet."""
    inner_first, inner_last = first.copy(), last.copy()
    for side in _SIDES:
        if first[side] < from_[side]:
            end = inner_last.copy()
            end[side] = from_[side] - 1
            yield inner_first.copy(), end
        if last[side] > to[side]:
            begin = inner_first.copy()
            begin[side] = to[side] + 1
            yield begin, inner_last.copy()
        inner_first[side], inner_last[side] = from_[side], to[side]
