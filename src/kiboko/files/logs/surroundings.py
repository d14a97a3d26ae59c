"""What lies before and behind records that were read, and is read only where somebody asks for it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kiboko.core.records.extent import NOTHING, WHOLE, Extent, extent_of, is_by_start, lateness, span_of
from kiboko.core.records.flow_table import FlowTable

Times = NDArray[np.int64]
Clock = Callable[[FlowTable], Times]
"""By which times the records of a log are in order: when flows began, or when they ended."""


@dataclass(slots=True)
class Side:
    """What lies before some records, or behind them (`at_end`): `extent` is the time of which all are at hand as far
    as this side goes, `further` are records further and further on, each time with the extent then."""

    at_end: bool
    extent: Extent
    further: Iterator[tuple[FlowTable, Extent]]

    def read_on(self) -> FlowTable | None:
        """The next records further on; None where there are no more to be read."""
        found = next(self.further, None)
        if found is None:
            return None
        table, self.extent = found
        return table


@dataclass(slots=True)
class Surroundings:
    """What lies on the sides of a table on which others were cut off from it; `looked` looks at them, by the times by
    which the log is in order."""

    table: FlowTable
    looked: Callable[[Clock], Sequence[Side]]
    _known: tuple[Clock, Sequence[Side]] | None = field(default=None, init=False)

    def _look(self) -> tuple[Clock, Sequence[Side]]:
        """The times by which the log is in order, and the sides, looked at when somebody asks for them first."""
        if self._known is None:
            clock = clock_of(files_of(self.table))
            self._known = clock, self.looked(clock)
        return self._known

    @property
    def sides(self) -> Sequence[Side]:
        """The sides on which others lie."""
        return self._look()[1]

    def times(self, table: FlowTable) -> Times:
        """When flows of these logs were, as `extent` has it."""
        return self._look()[0](table)

    @property
    def extent(self) -> Extent:
        """The time of which all records are at hand."""
        found = WHOLE
        for side in self.sides:
            found = found.within(side.extent)
        return found

    def read_on(self, times: Times) -> tuple[bool, FlowTable] | None:
        """Records further on, before or behind, where some may be of flows of some `times`, int64[k] in milliseconds
        since 1970; None where there are no more to be read."""
        for side in self.sides:
            if not side.extent.holds(times).all() and (found := side.read_on()) is not None:
                return side.at_end, found
        return None


def clock_of(tables: Iterable[FlowTable]) -> Clock:
    """The times by which the records of logs are in order."""
    return FlowTable.began if is_by_start(tables) else FlowTable.last


def files_of(table: FlowTable) -> list[FlowTable]:
    """A table of several files by file, as it is where it is of one."""
    if table.file is None or not len(table):
        return [table]
    order = np.argsort(table.file, kind="stable")
    starts = np.flatnonzero(np.diff(table.file[order])) + 1
    return [table.taken(rows) for rows in np.split(order, starts)]


def file_number(table: FlowTable) -> int:
    """The number of the file that a table of one is of."""
    return int(table.file[0]) if table.file is not None and len(table) else 0


def extent_by(tables: Iterable[FlowTable], at_end: bool, clock: Clock) -> Extent:
    """The time of which all is at hand where records go on behind the end of each of some files, or before its
    beginning."""
    times = [clock(table) for table in tables if len(table)]
    late = max(map(lateness, times), default=0)  # of few records of a file it does not show
    found = WHOLE
    for each in times:
        found = found.within(extent_of(each, at_end, late))
    return found


def extent_by_files(tables: Iterable[FlowTable], at_end: bool, clock: Clock) -> Extent:
    """The time of which all is at hand where other files lie behind some whole ones in time, or before them: such begin
    no earlier than the last of these, and go on no longer behind the first of these than most of these do."""
    spans = [known for table in tables if len(table) and (known := span_of(clock(table))) is not None]
    if not spans:
        return NOTHING
    begun, ended = np.array(spans, dtype=np.int64).T
    if at_end:
        return Extent(until=int(begun.max()))
    return Extent(since=int(begun.min()) + int(np.percentile(ended - begun, 98)))
