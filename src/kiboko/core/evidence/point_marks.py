"""What the records of conversations say at observation points, by columns; and which of them count for packets."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.conversations import Conversations
from kiboko.core.evidence.proofs import RESET, UNCLEAR, Mark, flag_kinds
from kiboko.core.evidence.seen_ends import SeenEnds
from kiboko.core.records.columns import distinct
from kiboko.core.records.flow_table import EVENTS, NO_TIME, FlowTable
from kiboko.core.tables.places import NONE

Rows = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class PointMarks:
    """What the records of conversations say at observation points: a hash of all of it, int64[k], and the distinct
    marks as numbers with the conversation of each."""

    hashes: Rows
    of_conversation: Rows
    numbers: Rows

    def of(self, conversation: int, turned: bool) -> tuple[Mark, ...]:
        """The marks of one conversation, if its first end began, or its second."""
        found = []
        for number in sorted(self.numbers[self.of_conversation == conversation].tolist()):
            rest, event = divmod(number, 4)
            source, destination, answer, side = (rest >> place & 1 for place in range(4))
            found.append(Mark(rest >> 4, EVENTS[event], bool(side) != turned, bool(answer), bool(source),
                              bool(destination)))  # fmt: skip
        return tuple(found)


def point_marks(table: FlowTable, found: Conversations, points: Rows, ends: SeenEnds) -> PointMarks:
    """The marks of all conversations of a table. `points` int64[n] are the numbers of points, 0 for none."""
    public = ends.is_public(ends.atoms(table.addresses)) | (ends.shared_by(ends.atoms(table.addresses)) != NONE)
    rows = np.flatnonzero(points > 0)
    answer = ~np.isin(flag_kinds(table)[rows], (RESET, UNCLEAR))
    parts = (points[rows] << 4, found.side[rows] << 3, answer << 2, public[table.destination[rows]] << 1,
             public[table.source[rows]])  # fmt: skip
    number = sum(np.asarray(part, dtype=np.int64) for part in parts) * 4 + table.event[rows].astype(np.int64)
    kinds = distinct(found.of[rows], number)
    of, number = found.of[rows[kinds.first]], number[kinds.first]
    mixed = (number.view(np.uint64) + np.uint64(1)) * np.uint64(0x9E3779B97F4A7C15)
    mixed = (mixed ^ mixed >> np.uint64(29)) * np.uint64(0xBF58476D1CE4E5B9)
    hashes = np.zeros(len(found), dtype=np.uint64)
    np.add.at(hashes, of, mixed ^ mixed >> np.uint64(32))
    return PointMarks(hashes.view(np.int64), of, number)


def weights(table: FlowTable, found: Conversations) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
    """Which records count for packets, uint8[n] (clause E1): of one capture taken twice one, and of several points that
    with the most packets. And which do not for the first of these reasons, bool[n]."""
    weight = np.ones(len(table), dtype=np.uint8)
    direction, points = found.of * 2 + found.side, len(table.points)
    # A cell is a direction of a conversation as it was recorded at one point.
    cell = direction * points + table.point if points > 1 else direction
    counts = np.bincount(cell, minlength=2 * len(found) * points)
    cells = int(np.count_nonzero(counts))
    if cells < len(table):
        crowded = np.flatnonzero((counts > 1)[cell] & (table.start != NO_TIME))
        at_once = distinct(cell[crowded], table.start[crowded])
        if len(at_once) < len(crowded):  # few begin together with another of their cell
            crowded = crowded[(at_once.counts() > 1)[at_once.codes]]
            same = distinct(*(column[crowded] for column in (
                cell, table.event, table.flags, table.start, table.end, table.packets, table.octets, table.source,
                table.destination,
            )))  # fmt: skip
            weight[crowded[same.further()]] = 0
    is_twice = weight == 0
    if points > 1 and cells > int(np.count_nonzero(counts.reshape(-1, points).any(axis=1))):
        packets = np.bincount(cell, weights=table.packets * weight, minlength=len(counts))
        best = np.where(counts > 0, packets, -1).reshape(-1, points).argmax(axis=1)
        weight[table.point != best[direction]] = 0
    return weight, is_twice
