"""Where the beginnings of conversations are recorded, and where they may be left out, as by samples of packets (E2)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.segment_sizes import is_long
from kiboko.core.header.services import TCP
from kiboko.core.records.columns import distinct
from kiboko.core.records.flow_table import FlowTable

_FIN, _SYN, _RST, _PSH, _ACK, _FLAGS = 0x01, 0x02, 0x04, 0x08, 0x10, 0x3F
_PARTS, _MOST_PARTS = 3, 4


def without_beginnings(
    table: FlowTable, of: NDArray[np.int64], side: NDArray[np.bool_], place: NDArray[np.int64],
    is_late: NDArray[np.bool_], few: int = 0, part: int | None = None,
) -> NDArray[np.bool_]:  # fmt: skip
    """Which records were taken where beginnings may be left out, bool[n]: where few packets of many are taken, the
    earliest of them tells nothing of who began. That is so where fewer than three of four connections of TCP are
    recorded from their beginning, of those that begin some time behind the first record there and go on; or where there
    are fewer than `few` of these. It is their beginning that has a SYN; without flags those are taken to have theirs of
    which both directions are recorded. A place that has none of them is taken to be as all others together. Connections
    that rest for longer than a conversation lack theirs too: where `part` is given, it is so only where of one in so
    many one direction alone was recorded, or there are few of them.

    Parameters
    ----------
    of, side : int64[n], bool[n], the conversation of each record, and which of its ends sent it
    place : int64[n], where each was taken, as numbers from 0 on
    is_late : bool[n], which are of conversations that begin some time behind the first record there
    """
    whole, alone, every = _counted(table, of, side, place, np.flatnonzero((table.protocol == TCP) & is_late))
    lacks, few_there = every == 0, every < few
    for counts in (whole, alone, every):
        counts[lacks] = counts.sum()
    left_out: NDArray[np.bool_] = few_there | (whole * _MOST_PARTS < every * _PARTS)
    if part is not None:
        left_out &= _is_part(alone, every, part)
    return left_out[place]


def without_directions(
    table: FlowTable, of: NDArray[np.int64], side: NDArray[np.bool_], place: NDArray[np.int64], part: int
) -> NDArray[np.bool_]:
    """Which records were taken where of one in so many (`part`) connections of TCP that go on one direction alone was
    recorded, or where there are few of them, bool[n]; the rest may be elsewhere. The others are as for
    `without_beginnings`."""
    _, alone, every = _counted(table, of, side, place, np.flatnonzero(table.protocol == TCP))
    return _is_part(alone, every, part)[place]


def _is_part(alone: NDArray[np.int64], every: NDArray[np.int64], part: int) -> NDArray[np.bool_]:
    """Where one in so many is alone, or there are too few to tell."""
    found: NDArray[np.bool_] = (alone * part >= every) | (every < 2 * part)
    return found


def _counted(
    table: FlowTable, of: NDArray[np.int64], side: NDArray[np.bool_], place: NDArray[np.int64], rows: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
    """Of the connections of some rows that go on, at each place: how many have their beginning, of how many one
    direction alone was recorded, and how many there are."""
    flags = np.where(table.flags[rows] > 0, table.flags[rows] & _FLAGS, 0)
    cells = distinct(of[rows], place[rows])
    has_syn, goes_on, one, other = (
        cells.any(each)
        for each in (
            flags & _SYN > 0,
            (flags & (_FIN | _PSH) > 0) | (flags & (_SYN | _RST | _ACK) == _ACK) | (flags == 0) & is_long(table, rows),
            side[rows],
            ~side[rows],
        )
    )
    is_whole = np.where(cells.any(flags > 0), has_syn, one & other)
    where, width = place[rows[cells.first]], int(place.max(initial=0)) + 1
    whole, alone, every = (
        np.bincount(where[which], minlength=width) for which in (goes_on & is_whole, goes_on & ~(one & other), goes_on)
    )
    return whole, alone, every
