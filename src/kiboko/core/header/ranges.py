"""Exact sets of whole numbers as sorted, disjoint, non-touching ranges.

Addresses, ports, ICMP types and the combined service numbers are all sets of this one kind, so that every
answer that Kiboko gives about a set is exact and none is sampled.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

_ABOVE_ALL = 1 << 160


@dataclass(frozen=True, slots=True)
class RangeSet:
    """A set of integers, held as ascending inclusive ranges with a gap between any two of them."""

    ranges: tuple[tuple[int, int], ...] = ()

    @classmethod
    def of(cls, pairs: Iterable[tuple[int, int]]) -> RangeSet:
        """The union of inclusive ranges `(low, high)` in any order, overlapping or touching."""
        listed = sorted(pairs)
        if len(listed) < 2:
            return cls(tuple(listed)) if listed else EMPTY
        merged: list[tuple[int, int]] = []
        for low, high in listed:
            if merged and low <= merged[-1][1] + 1:
                if high > merged[-1][1]:
                    merged[-1] = (merged[-1][0], high)
            else:
                merged.append((low, high))
        return cls(tuple(merged))

    @classmethod
    def span(cls, low: int, high: int) -> RangeSet:
        """All integers from `low` to `high`, both included."""
        return cls(((low, high),))

    @classmethod
    def one(cls, value: int) -> RangeSet:
        """The set of one integer."""
        return cls(((value, value),))

    def __bool__(self) -> bool:
        return bool(self.ranges)

    @property
    def size(self) -> int:
        """How many integers are in the set. (`len` cannot count the addresses of an IPv6 block.)"""
        return sum(high - low + 1 for low, high in self.ranges)

    def __iter__(self) -> Iterator[tuple[int, int]]:
        return iter(self.ranges)

    def __contains__(self, value: int) -> bool:
        # Compared as pairs, with an upper end that none has: without a function for the key this is much the faster.
        index = bisect_right(self.ranges, (value, _ABOVE_ALL)) - 1
        return index >= 0 and value <= self.ranges[index][1]

    def __or__(self, other: RangeSet) -> RangeSet:
        if not other.ranges or self.ranges == other.ranges:
            return self
        return RangeSet.of(self.ranges + other.ranges) if self.ranges else other

    def __and__(self, other: RangeSet) -> RangeSet:
        left, right = self.ranges, other.ranges
        if left is right or left == right:
            return self
        if len(left) == len(right) == 1:
            low, high = max(left[0][0], right[0][0]), min(left[0][1], right[0][1])
            return RangeSet(((low, high),)) if low <= high else EMPTY
        found: list[tuple[int, int]] = []
        i = j = 0
        while i < len(left) and j < len(right):
            low = max(left[i][0], right[j][0])
            high = min(left[i][1], right[j][1])
            if low <= high:
                found.append((low, high))
            if left[i][1] < right[j][1]:
                i += 1
            else:
                j += 1
        return RangeSet(tuple(found))

    def __sub__(self, other: RangeSet) -> RangeSet:
        if not other.ranges or not self.ranges:
            return self
        if self.ranges is other.ranges or self.ranges == other.ranges:
            return EMPTY
        if len(other.ranges) == 1:
            return self._without(*other.ranges[0])
        found: list[tuple[int, int]] = []
        right = other.ranges
        j = max(0, bisect_right(right, self.ranges[0]) - 1)  # what lies before all of this takes nothing away
        for low, high in self.ranges:
            while j < len(right) and right[j][1] < low:
                j += 1
            k = j
            while k < len(right) and right[k][0] <= high:
                if right[k][0] > low:
                    found.append((low, right[k][0] - 1))
                low = right[k][1] + 1
                k += 1
            if low <= high:
                found.append((low, high))
        return RangeSet(tuple(found))

    def _without(self, low: int, high: int) -> RangeSet:
        """The set without one range of integers: of many ranges most are kept as they are."""
        left = self.ranges
        first, behind = bisect_right(left, (low, -1)), bisect_right(left, (high, _ABOVE_ALL))
        if first and left[first - 1][1] >= low:
            first -= 1
        met = left[first:behind]
        if not met:
            return self
        before = ((met[0][0], low - 1),) if met[0][0] < low else ()
        after = ((high + 1, met[-1][1]),) if met[-1][1] > high else ()
        return RangeSet((*left[:first], *before, *after, *left[behind:]))

    def meets(self, other: RangeSet) -> bool:
        """Whether the two have a member in common."""
        few, many = self.ranges, other.ranges
        if len(few) > len(many):
            few, many = many, few
        if not few or few[0][0] > many[-1][1] or many[0][0] > few[-1][1]:
            return False
        begun = 0
        for low, high in few:
            begun = bisect_right(many, (high, _ABOVE_ALL), begun)  # so many begin by then
            if begun and many[begun - 1][1] >= low:
                return True
        return False

    def __le__(self, other: RangeSet) -> bool:
        begun = 0
        for low, high in self.ranges:  # each lies within one of the other's, between which there are gaps
            begun = bisect_right(other.ranges, (low, _ABOVE_ALL), begun)
            if not begun or other.ranges[begun - 1][1] < high:
                return False
        return True

    @property
    def lowest(self) -> int:
        """The smallest member; the set must not be empty."""
        return self.ranges[0][0]

    def texts(self) -> list[str]:
        """Each range as `low-high`, or `low` where it is one number: ascending, merged."""
        return [str(low) if low == high else f"{low}-{high}" for low, high in self.ranges]

    def __str__(self) -> str:
        return ", ".join(self.texts()) or "none"


EMPTY = RangeSet()
ALL_PORTS = RangeSet.span(0, 65535)


def shared_parts(ours: Sequence[RangeSet], theirs: Sequence[RangeSet]) -> list[tuple[int, int, RangeSet]]:
    """What sets of two lists have in common, with their places: those that have anything in common, by place. No two
    sets of one list may have a member in common."""
    cuts = [sorted((*span, place) for place, each in enumerate(some) for span in each) for some in (ours, theirs)]
    found: dict[tuple[int, int], list[tuple[int, int]]] = {}
    i = j = 0
    while i < len(cuts[0]) and j < len(cuts[1]):
        (low, high, one), (from_, to, other) = cuts[0][i], cuts[1][j]
        if max(low, from_) <= min(high, to):
            found.setdefault((one, other), []).append((max(low, from_), min(high, to)))
        if high < to:
            i += 1
        else:
            j += 1
    return [(one, other, RangeSet.of(spans)) for (one, other), spans in sorted(found.items())]
