"""Flow logs held against two versions of a network, piece by piece: which recorded traffic a change would turn."""

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
from kiboko.files.elements.rejects import Rejects
from kiboko.files.logs.chosen_files import flow_files, without_copies
from kiboko.files.logs.flow_pieces import Piece, pieces_of
from kiboko.files.logs.flow_reader import PieceReader


@dataclass(slots=True)
class TurnedPiece:
    """What came of a piece."""

    turned: Turned
    rejects: Rejects
    lines: int
    read: int
    left_out: int


@dataclass(frozen=True, slots=True)
class TurnJob:
    """Pieces held against two versions of a network; of records of other times nothing is said."""

    old: Topology
    new: Topology
    wanted: FlowFilter
    columns: ColumnMap = USUAL
    services: RangeSet | None = None
    """Those on which the change may turn anything; None for all."""

    def start(self) -> Callable[[Piece], TurnedPiece]:
        """Make a worker."""
        old = Walker(self.old)
        turning, reader = Turning(old, old.on(self.new), self.services), PieceReader(self.columns)

        def turn(piece: Piece) -> TurnedPiece:
            rejects, turned = Rejects(piece.path, word=piece.word), Turned()
            lines = read = left_out = 0
            for part in reader.read(piece, rejects):
                wanted = part.own & self.wanted.mask(part.table)
                own = int(part.own.sum())
                read, left_out = read + own, left_out + own - int(wanted.sum())
                with without_garbage():
                    turning.take(part.table, turning.judge(part.table), np.flatnonzero(wanted), turned)
                lines += part.lines
            return TurnedPiece(turned, rejects, lines, read, left_out)

        return turn


def turned_by(
    old: Topology, new: Topology, flows: Sequence[str | Path], wanted: FlowFilter, columns: ColumnMap, strict: bool,
    services: RangeSet | None = None,
) -> tuple[Turned, list[str]]:  # fmt: skip
    """The recorded traffic that a change turns, which may turn that on some `services` alone, and what has to be borne
    in mind. Raises InputError for a log of which nothing can be read."""
    paths, told = without_copies(flow_files(flows))
    pieces = [piece for path in paths for piece in pieces_of(path, columns)]
    accounts, found, left_out = Accounts(paths, strict), Turned(), 0
    job = TurnJob(old, new, wanted, columns, services)
    for piece, outcome in zip(pieces, outcomes(job, pieces), strict=True):
        accounts.take(piece, outcome)
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
    if found.left_out:
        told.append(f"{flow_records(found.left_out, 'is', 'are')} of more ends and services than are listed, in the"
                    " totals only")  # fmt: skip
    return found, told
