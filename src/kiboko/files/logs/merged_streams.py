"""Logs of one time that can only be read from their beginning on, as what is compressed, read side by side."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from kiboko.core.records.extent import EVER, extent_of
from kiboko.core.records.flow_table import FlowTable, joined
from kiboko.files.logs.surroundings import Clock, clock_of

_MOST_HELD = 1 << 20
"""As many records of a log are held until others have come as far: of one in no order they are let go then."""


@dataclass(slots=True)
class Stream:
    """A log whose first record began at `begins` (milliseconds since 1970), as tables one after another. `held` are the
    records that were read and not handed on; no record to come is older than `bound`, as far as can be told."""

    begins: int
    tables: Iterator[FlowTable]
    held: FlowTable | None = None
    bound: int = EVER
    has_ended: bool = False

    def read_on(self, clock: Clock) -> None:
        """Read the next table."""
        table = next(self.tables, None)
        if table is None:
            self.has_ended, self.bound = True, EVER
            return
        self.held = table if self.held is None or not len(self.held) else joined([self.held, table])
        is_held = len(table) > 0 and len(self.held) < _MOST_HELD
        self.bound = extent_of(clock(table), at_end=True).until if is_held else EVER

    def taken(self, until: int, clock: Clock) -> FlowTable | None:
        """The records that are held up to a time, which are handed on."""
        if self.held is None or not len(self.held):
            return None
        is_due = clock(self.held) <= until
        found = self.held.taken(is_due)
        self.held = self.held.taken(~is_due)
        return found


def merged(streams: Sequence[Stream], rows: int) -> Iterator[FlowTable]:
    """The records of several logs as tables of about so many rows, each of what they recorded in some time."""
    waiting = deque(sorted(streams, key=lambda each: each.begins))
    clock: Clock | None = None
    reading: list[Stream] = []
    due: list[FlowTable] = []
    while waiting or reading:
        until = min((each.bound for each in reading), default=-EVER)
        if waiting and (not reading or waiting[0].begins <= until):
            first = waiting.popleft()
            reading.append(first)
            if clock is None:
                first.read_on(FlowTable.last)
                clock = clock_of([first.held] if first.held is not None else [])
            else:
                first.read_on(clock)
            continue
        assert clock is not None
        found = [table for each in reading if (table := each.taken(until, clock)) is not None]
        due += [table for table in found if len(table)]
        reading = [each for each in reading if not each.has_ended or (each.held is not None and len(each.held))]
        if sum(map(len, due)) >= rows:
            yield joined(due)
            due = []
        for each in reading:
            if each.bound == until:
                each.read_on(clock)
    if due:
        yield joined(due)
