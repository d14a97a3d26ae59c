"""Where the records of conversations were taken, by number.

On a network with many observation points nearly every conversation was recorded at points of its own, of which few
come to anything new: so what was recorded where is kept as columns, and held against ways as such (`passages`).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.point_marks import NO_RESET, SURELY_RESET, PointMarks, runs
from kiboko.core.records.columns import Growing, KeyNumbers, distinct
from kiboko.core.records.flow_table import EVENTS
from kiboko.core.records.records import DENIED

Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]
NO_TRACE = 0
_DENIED = EVENTS.index(DENIED)


class Marks(NamedTuple):
    """What records at observation points say of some flows, by columns: of which flow (its row), at which point (from
    1), what (an index of `EVENTS`), whether of the reply, and whether the record shows its source and its destination
    by a public address of ours. Replies which may be resets are not among them, nor resets of whoever asked which
    passed: they may answer what came by another way than the request's."""

    row: Rows
    point: Rows
    event: Rows
    is_reply: Truths
    source_is_public: Truths
    destination_is_public: Truths

    @property
    def is_denied(self) -> Truths:
        """Which say that it was denied."""
        found: Truths = self.event == _DENIED
        return found

    def taken(self, rows: Truths) -> Marks:
        """Some of them."""
        return Marks(
            self.row[rows], self.point[rows], self.event[rows], self.is_reply[rows], self.source_is_public[rows],
            self.destination_is_public[rows],
        )  # fmt: skip


class Traces:
    """Sets of marks, numbered from 1 in the order in which they are met; each twice, as of conversations that the one
    end began, or the other."""

    def __init__(self) -> None:
        self._known = KeyNumbers(1)
        self.clear()

    def clear(self) -> None:
        """Forget all."""
        self._known.clear()
        self._begins, self._sizes, self._marks = (Growing(np.dtype(np.int64)) for _ in range(3))

    def numbers(self, marks: PointMarks | None, count: int) -> tuple[Rows, Rows]:
        """The traces of `count` conversations, if the one end began, and if the other did, int64[count] each; NO_TRACE
        for those without marks."""
        found = np.zeros(count, dtype=np.int64)
        rows = np.flatnonzero(marks.sizes) if marks is not None else np.zeros(0, dtype=np.int64)
        if marks is None or not len(rows):
            return found, found
        each = distinct(marks.hashes[rows])
        first = rows[each.first]
        numbers = self._known.find(marks.hashes[first])
        fresh = np.flatnonzero(numbers < 0)
        if len(fresh):
            numbers[fresh] = np.arange(len(self._sizes), len(self._sizes) + len(fresh)) + 1
            mine = first[fresh]
            sizes = marks.sizes[mine]
            self._begins.add(len(self._marks) + np.cumsum(sizes) - sizes)
            self._sizes.add(sizes)
            self._marks.add(marks.of(mine))
            self._known.note(numbers[fresh], marks.hashes[mine])
        found[rows] = numbers[each.codes] << 1
        return found, np.where(found > 0, found | 1, found)

    def marks(self, traces: Rows) -> Marks:
        """All marks of some traces, in their order; a NO_TRACE has none."""
        rows = np.flatnonzero(traces != NO_TRACE)
        place, turned = (traces[rows] >> 1) - 1, traces[rows] & 1
        sizes = self._sizes.values[place]
        number = self._marks.values[runs(self._begins.values[place], sizes)]
        rest = number >> 2
        source, destination, side = (rest >> bit & 1 for bit in (0, 1, 4))
        told, event = rest >> 2 & 3, number & 3
        is_reply = side != np.repeat(turned, sizes)
        found = Marks(np.repeat(rows, sizes), rest >> 5, event, is_reply, source > 0, destination > 0)
        is_request = ~is_reply & ((told != SURELY_RESET) | (event == _DENIED))
        return found.taken(is_request | (told == NO_RESET))

    def denied_at(self, traces: Rows) -> Rows:
        """The observation points at which flows were denied, of several the first of the network file; 0 for none."""
        marks = self.marks(traces)
        denied = marks.taken(marks.is_denied)
        most = np.iinfo(np.int64).max
        found = np.full(len(traces), most)
        np.minimum.at(found, denied.row, denied.point)
        found[found == most] = 0
        return found
