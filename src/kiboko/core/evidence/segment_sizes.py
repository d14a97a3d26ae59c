"""What the sizes of TCP segments tell of records that have no flags (RFC 9293), and of how many packets were seen."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.services import TCP
from kiboko.core.records.flow_table import FlowTable

_LARGEST_RESET = {4: 58, 6: 78}
"""Octets of a reset, which has no options (RFC 9293), with the frame that some exporters count in."""
_PADDED_RESET = {4: 68, 6: 82}
"""The same as it is received: no frame of Ethernet is shorter than 64 octets, the 4 of its checksum among them (IEEE
802.3), and a tag of a virtual network may be 4 more (IEEE 802.1Q)."""
_SMALLEST_OPENING, _LARGEST_OPENING = {4: 44, 6: 64}, {4: 102, 6: 122}
"""Octets of an opening: every system says there how large segments may be (RFC 9293, section 3.7.1), in 4 octets; all
options of a header are 40 at most, and a frame 22."""
_SHORTEST_FRAME = {4: 54, 6: 74}
"""Octets of a bare segment in a frame of Ethernet: a point that has shorter ones counts no frames."""
_MOST_TRIES = 8
"""As many resets may be in a record that does not say how many packets it is of."""


def surely_seen(table: FlowTable, rows: NDArray[np.int64]) -> NDArray[np.int64]:
    """As many packets as some records, given by their rows, surely tell of, int64[r]. An exporter that samples, or who
    collects from it, multiplies what was seen by its rate, which packets and octets then have in common as a factor:
    one packet in a thousand counts as a thousand. One where no octets are recorded."""
    packets, octets = np.maximum(table.packets[rows], 0), np.maximum(table.octets[rows], 0)
    found: NDArray[np.int64] = packets // np.maximum(np.gcd(packets, octets), 1)
    return found


def no_larger_than_resets(table: FlowTable, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Of which of some records, given by their rows, all packets may be resets by their size."""
    largest = np.where(_may_count_frames(table, rows), _by_family(table, rows, _PADDED_RESET),
                       _by_family(table, rows, _LARGEST_RESET))  # fmt: skip
    packets = np.where(table.packets[rows] > 0, table.packets[rows], _MOST_TRIES)
    found: NDArray[np.bool_] = table.octets[rows] <= packets * largest
    return found


def may_open(table: FlowTable, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which records of TCP without flags, given by their rows, may be of openings: not those of packets that are
    shorter or longer in the mean than openings are, nor with 0 for their flags where their point has flags of others,
    as scans send it."""
    flags = np.maximum(table.flags, 0) & 0x3F
    tells = np.bincount(table.point[(table.protocol == TCP) & (flags > 0)], minlength=len(table.points)) > 0
    is_other = is_short(table, rows) | is_long(table, rows)
    found: NDArray[np.bool_] = ~is_other & ~(tells[table.point[rows]] & (table.flags[rows] == 0))
    return found


def is_long(table: FlowTable, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Of which records, given by their rows, the packets are longer in the mean than openings are; of none that does
    not say how many they are."""
    packets, octets = table.packets[rows], table.octets[rows]
    found: NDArray[np.bool_] = (packets > 0) & (octets > packets * _by_family(table, rows, _LARGEST_OPENING))
    return found


def is_short(table: FlowTable, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Of which records, given by their rows, the packets are shorter in the mean than openings are, or may be, where
    frames may have been counted; of none that does not say how large its packets are, and how many."""
    packets, octets = table.packets[rows], table.octets[rows]
    shorter = octets < packets * _by_family(table, rows, _SMALLEST_OPENING)
    shorter |= _may_count_frames(table, rows) & (octets <= packets * _by_family(table, rows, _PADDED_RESET))
    found: NDArray[np.bool_] = (packets > 0) & (octets > 0) & shorter
    return found


def _by_family(table: FlowTable, rows: NDArray[np.int64], octets: dict[int, int]) -> NDArray[np.int64]:
    found: NDArray[np.int64] = np.where(table.addresses.family == 6, octets[6], octets[4])[table.source[rows]]
    return found


def _may_count_frames(table: FlowTable, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Whether the points of some records, given by their rows, may count frames in: they have no record of TCP whose
    packets are shorter than framed ones."""
    if not len(rows):
        return np.zeros(0, dtype=np.bool_)
    shortest = np.where(table.addresses.family == 6, _SHORTEST_FRAME[6], _SHORTEST_FRAME[4])[table.source]
    is_bare = (table.protocol == TCP) & (table.octets > 0) & (table.octets < table.packets * shortest)
    met = np.bincount(table.point[is_bare], minlength=len(table.points)) > 0
    found: NDArray[np.bool_] = ~met[table.point[rows]]
    return found
