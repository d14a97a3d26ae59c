"""The time of which all records are at hand, where a log is read piece by piece.

Exporters write records in about the order in which flows end, and not quite: those of one conversation may lie far
apart in a busy log. What was not recorded can be told of the time between alone.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.records.flow_table import NO_TIME, FlowTable

MARGIN = 10_000
"""Milliseconds within which what belongs to a record may be recorded earlier or later than that."""
_MOST_SHOWN, _SHARE = 1000, 8
"""How many records show where the edge of a table is, at most, and which part of it at most."""
_OUTLIERS, _STRAYS, _LOOKED_AT = 0.02, 0.001, 20_000
EVER = int(np.iinfo(np.int64).max)


@dataclass(frozen=True, slots=True)
class Extent:
    """All records of flows that ended (or began, as the log is in order) behind `since` and before `until` are at hand,
    in milliseconds since 1970.

    >>> Extent(since=60_000).holds(np.array([65_000, 70_000, 900_000])).tolist()
    [False, True, True]
    """

    since: int = -EVER
    until: int = EVER

    def holds(self, times: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Of which of some flows, by their times, int64[k], all records are at hand, bool[k]."""
        found: NDArray[np.bool_] = (times >= _moved(self.since, MARGIN)) & (times <= _moved(self.until, -MARGIN))
        return found

    def within(self, other: Extent) -> Extent:
        """What is at hand by both."""
        return Extent(max(self.since, other.since), min(self.until, other.until))


WHOLE, NOTHING = Extent(), Extent(EVER, -EVER)


def _moved(bound: int, by: int) -> int:
    return bound if abs(bound) == EVER else bound + by


def extent_of(times: NDArray[np.int64], at_end: bool, late: int | None = None) -> Extent:
    """The time of which all records of a log are at hand that goes on behind some records, or before them, by the times
    of these in the order in which they were written: by those at that edge, and by how many milliseconds a record may
    come behind newer ones (`late`; as far as these do where it is not given)."""
    known = times[times != NO_TIME]
    if not len(known):
        return NOTHING
    first, final = _edges(known)
    edge = final if at_end else first
    late = lateness(known) if late is None else late
    if at_end != (first[0] > final[1]):  # what is not at hand is newer
        return Extent(until=min(edge[0], edge[1] - late))
    return Extent(since=max(edge[1], edge[0] + late))


def come_by_now(times: NDArray[np.int64], late: int) -> Extent:
    """The time of which all records have come of a log that is being written, by the newest of its last ones (but for
    outliers), and by how many milliseconds a record may come behind newer ones."""
    known = times[times != NO_TIME]
    if not len(known):
        return NOTHING
    return Extent(until=_edges(known)[1][1] - late)


def _edges(times: NDArray[np.int64]) -> tuple[tuple[int, int], tuple[int, int]]:
    """Between which times the first few records are, and the last few, but for outliers."""
    few = max(1, min(_MOST_SHOWN, len(times) // _SHARE))
    aside = int(few * _OUTLIERS)
    first, final = ((int(each[aside]), int(each[-1 - aside])) for each in (np.sort(times[:few]), np.sort(times[-few:])))
    return first, final


def lateness(times: NDArray[np.int64]) -> int:
    """How much older than the newest before it a record is, in milliseconds, but for the very few latest ones; where
    the newest come first, how much newer."""
    known = times[times != NO_TIME]
    if not len(known):
        return 0
    first, final = _edges(known)
    some = known[:: max(1, len(known) // _LOOKED_AT)]
    forward = some[::-1] if first[0] > final[1] else some
    place = len(some) - 1 - int(len(some) * _STRAYS)
    return int(np.partition(np.maximum.accumulate(forward) - forward, place)[place])


def is_by_start(tables: Iterable[FlowTable]) -> bool:
    """Whether the records of logs come in the order of when flows began rather than of when they ended: that of which
    they are less late."""
    late = [0, 0]
    for table in tables:
        for which, times in enumerate((table.start, table.last())):
            late[which] += lateness(times)
    return late[0] < late[1]


def span_of(times: NDArray[np.int64]) -> tuple[int, int] | None:
    """Between which times some flows were, but for a few of them; None where none has a time."""
    known = np.sort(times)
    known = known[known != NO_TIME]
    if not len(known):
        return None
    aside = int(len(known) * _OUTLIERS)
    return int(known[aside]), int(known[-1 - aside])
