"""Echo replies that may be none: exporters that do not put packets together record the later fragments of a large ping
by a type of 0, which is that of a reply, and some record it of all messages."""

from __future__ import annotations

import dataclasses

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.conversations import Conversations, is_echo
from kiboko.core.evidence.proofs import UNCLEAR
from kiboko.core.evidence.seen_ends import SeenEnds
from kiboko.core.header.services import ICMP, UNTOLD
from kiboko.core.records.flow_table import FlowTable

_LEAST_CUT = 256
"""So many octets have packets in the mean, at the least, of which some were too large for a link: none in use carries
fewer than 576 (RFC 791), and others of the same flow may have been smaller."""
_ODD = np.uint64(0x9E3779B97F4A7C15)


def without_idle_types(table: FlowTable) -> FlowTable:
    """A table in which the types of messages of ICMP for IPv4 are not told, where all of them are 0: whoever wrote them
    may not look at types."""
    rows = np.flatnonzero(table.protocol == ICMP)
    kinds = table.detail[rows]
    if not len(rows) or ((kinds != 0) & (kinds != UNTOLD)).any():
        return table
    detail = table.detail.copy()
    detail[rows] = UNTOLD
    return dataclasses.replace(table, detail=detail)


def perhaps_fragments(table: FlowTable, found: Conversations, ends: SeenEnds) -> NDArray[np.int64]:
    """The replies, by their rows, that may be fragments of what their own sender asks, and asks by large packets, where
    the other end asks as well. (Of replies to nothing that was recorded that is known already.)"""
    rows = np.flatnonzero(table.protocol == ICMP)
    asks, answers = is_echo(table.protocol[rows], table.detail[rows])
    octets, packets = table.octets[rows], table.packets[rows]
    large = rows[asks & ((packets <= 0) | (octets <= 0) | (octets >= packets * _LEAST_CUT))]
    if not len(large) or not answers.any():
        return rows[:0]
    is_asked = np.zeros(len(found), dtype=np.bool_)
    is_asked[found.of[rows[asks]]] = True
    replies = rows[answers & is_asked[found.of[rows]]]
    identity = ends.identities(table.addresses).astype(np.uint64)

    def direction(rows: NDArray[np.int64]) -> NDArray[np.uint64]:
        return identity[table.source[rows]] * _ODD + identity[table.destination[rows]]

    perhaps: NDArray[np.int64] = replies[np.isin(direction(replies), direction(large))]
    return perhaps


def with_fragments(
    table: FlowTable, found: Conversations, ends: SeenEnds, kinds: NDArray[np.uint8]
) -> NDArray[np.uint8]:
    """What each record is (`flag_kinds`), uint8[n], where replies that may be fragments are not clear."""
    rows = perhaps_fragments(table, found, ends)
    if not len(rows):
        return kinds
    told = kinds.copy()
    told[rows] = UNCLEAR
    return told
