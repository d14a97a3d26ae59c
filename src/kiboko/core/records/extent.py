"""The time of which all records are at hand, where a log is read piece by piece.

Exporters write records in about the order in which flows end, and not quite: those of one conversation may lie far
apart in a busy log. What was not recorded can be told of the time between alone.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.records.flow_table import NO_TIME, FlowTable

MARGIN = 10_000
"""Milliseconds within which what belongs to a record may be recorded earlier or later than that."""
_MOST_SHOWN, _SHARE = 1000, 8
"""How many records show where the edge of a table is, at most, and which part of it at most."""
_OUTLIERS, _STRAYS = 0.02, 0.001
EVER = int(np.iinfo(np.int64).max)


@dataclass(frozen=True, slots=True)
class Extent:
    """All records of flows that ended behind `since` and before `until` are at hand, in milliseconds since 1970.

    >>> Extent(since=60_000).holds(np.array([65_000, 70_000, 900_000])).tolist()
    [False, True, True]
    """

    since: int = -EVER
    until: int = EVER

    @property
    def is_bounded(self) -> bool:
        """Whether there is anything that may not be at hand."""
        return self.since > -EVER or self.until < EVER

    def begun(self, ends: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Of which of some flows, by when they ended, int64[k], no record may lie before those at hand, bool[k]."""
        return ends >= _moved(self.since, MARGIN)

    def ended(self, ends: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Of which none may lie behind them, bool[k]."""
        return ends <= _moved(self.until, -MARGIN)

    def holds(self, ends: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Of which all are at hand, bool[k]."""
        return self.begun(ends) & self.ended(ends)

    def within(self, other: Extent) -> Extent:
        """What is at hand by both."""
        return Extent(max(self.since, other.since), min(self.until, other.until))


WHOLE, NOTHING = Extent(), Extent(EVER, -EVER)


def _moved(bound: int, by: int) -> int:
    return bound if abs(bound) == EVER else bound + by


def extent_of(table: FlowTable, at_end: bool) -> Extent:
    """The time of which all records of a log are at hand that goes on behind the last record of a table, or before its
    first: by the records at that edge, and by how far records of the table come behind newer ones."""
    last = table.last()
    last = last[last != NO_TIME]
    if not len(last):
        return NOTHING
    few = max(1, min(_MOST_SHOWN, len(last) // _SHARE))
    first, final = np.sort(last[:few]), np.sort(last[-few:])
    aside = int(few * _OUTLIERS)
    is_newest_first = bool(first[aside] > final[-1 - aside])
    late = _lateness(last[::-1] if is_newest_first else last)
    low, high = (int(each) for each in (final if at_end else first)[[aside, -1 - aside]])
    if at_end != is_newest_first:  # what is not at hand is newer
        return Extent(until=min(low, high - late))
    return Extent(since=max(high, low + late))


def _lateness(times: NDArray[np.int64]) -> int:
    """How much older than the newest before it a record is, in milliseconds, but for the very few latest ones."""
    late = np.sort(np.maximum.accumulate(times) - times)
    return int(late[-1 - int(len(late) * _STRAYS)])


def span_of(table: FlowTable) -> tuple[int, int] | None:
    """Between which times the flows of a table ended, but for a few of them; None where none has a time."""
    known = np.sort(table.last())
    known = known[known != NO_TIME]
    if not len(known):
        return None
    aside = int(len(known) * _OUTLIERS)
    return int(known[aside]), int(known[-1 - aside])
