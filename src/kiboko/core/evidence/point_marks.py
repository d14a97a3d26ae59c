"""What the records of conversations say at observation points, by columns; and which of them count for packets."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.conversations import Conversations
from kiboko.core.evidence.proofs import KINDS, RESET, UNCLEAR
from kiboko.core.evidence.seen_ends import SeenEnds
from kiboko.core.records.columns import distinct, repeated
from kiboko.core.records.flow_table import NO_TIME, FlowTable
from kiboko.core.tables.places import NONE

Rows = NDArray[np.int64]
SURELY_RESET, PERHAPS_RESET, NO_RESET = range(3)
"""What a mark is of."""
_TOLD = np.full(KINDS, NO_RESET, dtype=np.int64)
_TOLD[[RESET, UNCLEAR]] = SURELY_RESET, PERHAPS_RESET
_ROOM = 4
"""So many cells for each record may be left empty."""


@dataclass(frozen=True, slots=True)
class PointMarks:
    """What the records of `k` conversations say at observation points. `hashes` int64[k] is a hash of all of it,
    `sizes` int64[k] how many distinct marks each has, and `numbers` are these, one conversation's behind another's (as
    `traces` reads them)."""

    hashes: Rows
    sizes: Rows
    numbers: Rows

    def of(self, conversations: Rows) -> Rows:
        """The marks of some conversations, one's behind another's."""
        return self.numbers[runs((np.cumsum(self.sizes) - self.sizes)[conversations], self.sizes[conversations])]


def point_marks(
    table: FlowTable, found: Conversations, points: Rows, ends: SeenEnds, flags: NDArray[np.uint8]
) -> PointMarks:
    """The marks of all conversations of a table. `points` int64[n] are the numbers of points, 0 for none; `flags`
    uint8[n] what records are by their TCP flags (`flag_kinds`)."""
    public = ends.is_public(ends.atoms(table.addresses)) | (ends.shared_by(ends.atoms(table.addresses)) != NONE)
    rows = np.flatnonzero(points > 0)
    parts = (points[rows] << 5, found.side[rows] << 4, _TOLD[flags[rows]] << 2, public[table.destination[rows]] << 1,
             public[table.source[rows]])  # fmt: skip
    number = sum(np.asarray(part, dtype=np.int64) for part in parts) * 4 + table.event[rows].astype(np.int64)
    kinds = distinct(found.of[rows], number)
    of, number = found.of[rows[kinds.first]], number[kinds.first]
    order = np.argsort(of, kind="stable")
    mixed = (number.view(np.uint64) + np.uint64(1)) * np.uint64(0x9E3779B97F4A7C15)
    mixed = (mixed ^ mixed >> np.uint64(29)) * np.uint64(0xBF58476D1CE4E5B9)
    hashes = np.zeros(len(found), dtype=np.uint64)
    np.add.at(hashes, of, mixed ^ mixed >> np.uint64(32))
    return PointMarks(hashes.view(np.int64), np.bincount(of, minlength=len(found)), number[order])


def runs(begins: Rows, sizes: Rows) -> Rows:
    """The places from each of some on, as many as it has, one run behind another: int64[sum of sizes]."""
    within = np.arange(int(sizes.sum())) - np.repeat(np.cumsum(sizes) - sizes, sizes)
    found: Rows = np.repeat(begins, sizes) + within
    return found


def weights(table: FlowTable, found: Conversations) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
    """Which records count for packets, uint8[n] (clause E1): of one capture taken twice one, and of several points that
    with the most packets. And which do not for the first of these reasons, bool[n]."""
    weight = np.ones(len(table), dtype=np.uint8)
    direction, points = found.of * 2 + found.side, len(table.points)
    # A cell is a direction of a conversation as it was recorded at one point.
    cell, size = direction * points + table.point if points > 1 else direction, 2 * len(found) * points
    if size > _ROOM * len(table):
        cells = distinct(cell)
        known, cell, size = cell[cells.first], cells.codes, len(cells)
    else:
        known = np.arange(size)
    counts = np.bincount(cell, minlength=size)
    rows = np.flatnonzero((counts > 1)[cell] & (table.start != NO_TIME))
    if len(rows):
        weight[_taken_twice(table, cell, rows[repeated(cell[rows], table.start[rows])])] = 0  # few begin together
    is_twice = weight == 0
    if points > 1:
        met = np.flatnonzero(counts)
        of, point = np.divmod(known[met], points)
        if int(np.bincount(of).max(initial=0)) > 1:
            packets = np.bincount(cell, weights=table.packets * weight, minlength=size)[met]
            most = np.full(2 * len(found), -1.0)
            np.maximum.at(most, of, packets)
            best, mine = np.full(len(most), points), np.flatnonzero(packets == most[of])
            rank = _ranks(table.points)
            np.minimum.at(best, of[mine], rank[point[mine]])  # of equals the first by name, in whatever piece they are
            weight[rank[table.point] != best[direction]] = 0
    return weight, is_twice


def _ranks(points: tuple[str | None, ...]) -> Rows:
    """The places of some points in the order of their names, int64[n]; none comes first."""
    found = np.empty(len(points), dtype=np.int64)
    found[sorted(range(len(points)), key=lambda each: points[each] or "")] = np.arange(len(points))
    return found


def _taken_twice(table: FlowTable, cell: Rows, rows: Rows) -> Rows:
    """Which of some ascending rows are as one before them in all that a capture says."""
    if not len(rows):
        return rows
    address = table.addresses.firsts()
    columns = (cell, table.event, table.flags, table.start, table.end, table.packets, table.octets)
    same = distinct(*(column[rows] for column in columns), address[table.source[rows]],
                    address[table.destination[rows]])  # fmt: skip
    found: Rows = rows[same.further()]
    return found
