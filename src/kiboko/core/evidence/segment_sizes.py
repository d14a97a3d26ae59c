"""What the sizes of TCP segments tell of records that have no flags (RFC 9293)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.services import TCP
from kiboko.core.records.flow_table import FlowTable

_LARGEST_RESET = {4: 58, 6: 78}
"""Octets of a reset, which has no options (RFC 9293), with the frame that some exporters count in."""
_SMALLEST_OPENING, _LARGEST_OPENING = {4: 44, 6: 64}, {4: 98, 6: 118}
"""Octets of an opening: every system says there how large segments may be (RFC 9293, section 3.7.1), in 4 octets; all
options of a header are 40 at most, and a frame 18."""
_MOST_TRIES = 8
"""As many resets may be in a record that does not say how many packets it is of."""


def no_larger_than_resets(table: FlowTable, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Of which of some records, given by their rows, all packets may be resets by their size."""
    largest = np.where(table.addresses.family == 6, _LARGEST_RESET[6], _LARGEST_RESET[4])[table.source[rows]]
    packets = np.where(table.packets[rows] > 0, table.packets[rows], _MOST_TRIES)
    found: NDArray[np.bool_] = table.octets[rows] <= packets * largest
    return found


def may_open(table: FlowTable, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which records of TCP without flags, given by their rows, may be of openings: not those of packets that are
    shorter or longer in the mean than openings are, nor with 0 for their flags where their point has flags of others,
    as scans send it."""
    flags = np.maximum(table.flags, 0) & 0x3F
    tells = np.bincount(table.point[(table.protocol == TCP) & (flags > 0)], minlength=len(table.points)) > 0
    largest = np.where(table.addresses.family == 6, _LARGEST_OPENING[6], _LARGEST_OPENING[4])[table.source[rows]]
    packets, octets = table.packets[rows], table.octets[rows]
    is_other = is_short(table, rows) | (packets > 0) & (octets > packets * largest)
    found: NDArray[np.bool_] = ~is_other & ~(tells[table.point[rows]] & (table.flags[rows] == 0))
    return found


def is_short(table: FlowTable, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Of which records, given by their rows, the packets are shorter in the mean than openings are; of none that does
    not say how large its packets are, and how many."""
    smallest = np.where(table.addresses.family == 6, _SMALLEST_OPENING[6], _SMALLEST_OPENING[4])[table.source[rows]]
    packets, octets = table.packets[rows], table.octets[rows]
    found: NDArray[np.bool_] = (packets > 0) & (octets > 0) & (octets < packets * smallest)
    return found
