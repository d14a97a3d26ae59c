"""Flow logs held against two versions of a network, window by window: which recorded traffic a change would turn."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kiboko.batch.accounts import Accounts
from kiboko.batch.confirming import flow_records
from kiboko.batch.piecework import outcomes
from kiboko.core.evidence.turning import Turned, Turning
from kiboko.core.header.ranges import RangeSet
from kiboko.core.memory import without_garbage
from kiboko.core.network.model import Topology
from kiboko.core.records.flow_query import FlowFilter
from kiboko.core.walk.walk import Walker
from kiboko.files.elements.column_map import USUAL, ColumnMap
from kiboko.files.logs.chosen_files import flow_files, without_copies
from kiboko.files.logs.window_reader import FileRead, WindowReader
from kiboko.files.logs.windows import Window, windows_of


@dataclass(slots=True)
class TurnedWindow:
    """What came of a window."""

    turned: Turned
    files: list[FileRead]
    left_out: int


@dataclass(frozen=True, slots=True)
class TurnJob:
    """Windows held against two versions of a network; of records of other times nothing is said."""

    old: Topology
    new: Topology
    wanted: FlowFilter
    columns: ColumnMap = USUAL
    services: RangeSet | None = None
    """Those on which the change may turn anything; None for all."""

    def start(self) -> Callable[[Window], TurnedWindow]:
        """Make a worker."""
        old = Walker(self.old)
        turning, reader = Turning(old, old.on(self.new), self.services), WindowReader(self.columns)

        def turn(window: Window) -> TurnedWindow:
            files: list[FileRead] = []
            turned, left_out = Turned(), 0
            for part in reader.read(window, files):
                own = part.own
                wanted = own & self.wanted.mask(part.table)
                left_out += int(own.sum()) - int(wanted.sum())
                with without_garbage():
                    turning.take(part.table, turning.judge(part.table, part.since), np.flatnonzero(wanted), turned)
            return TurnedWindow(turned, files, left_out)

        return turn


def turned_by(
    old: Topology, new: Topology, flows: Sequence[str | Path], wanted: FlowFilter, columns: ColumnMap, strict: bool,
    services: RangeSet | None = None,
) -> tuple[Turned, list[str]]:  # fmt: skip
    """The recorded traffic that a change turns, which may turn that on some `services` alone, and what has to be borne
    in mind. Raises InputError for a log of which nothing can be read."""
    paths, told = without_copies(flow_files(flows))
    windows = windows_of(paths, columns)
    accounts, found, left_out = Accounts(paths, strict), Turned(), 0
    job = TurnJob(old, new, wanted, columns, services)
    for window, outcome in zip(windows, outcomes(job, windows), strict=True):
        accounts.take(window, outcome)
        found.merge(outcome.turned)
        left_out += outcome.left_out
    told += accounts.sentences()
    if left_out:
        told.append(f"{flow_records(left_out, 'is', 'are')} not of the time asked for, and left out")
    if found.untold:
        told.append(
            f"of {found.untold:,} flow records it is not told what the change does: their sender stands behind"
            " a shared address, or its port or who began was not recorded"
        )
    if found.unasked:
        told.append(
            f"of {found.unasked:,} flow records that the rules stop before and after nothing shows that anybody tried:"
            " answers from outside to nothing that was recorded, and resets; they are not among those that were tried"
        )
    if found.left_out:
        told.append(f"{flow_records(found.left_out, 'is', 'are')} of more ends and services than are listed, in the"
                    " totals only")  # fmt: skip
    return found, told
