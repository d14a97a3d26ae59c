"""Echo replies that may be none: exporters that do not put packets together record the later fragments of a large ping
by a type of 0, which is that of a reply, and some record it of all messages."""

from __future__ import annotations

import dataclasses

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.brought_together import is_echo
from kiboko.core.evidence.conversations import Conversations
from kiboko.core.evidence.proofs import UNCLEAR
from kiboko.core.evidence.seen_ends import SeenEnds
from kiboko.core.header.services import ICMP, UNTOLD
from kiboko.core.records.flow_table import FlowTable

_LEAST_CUT = 256
"""So many octets have packets in the mean, at the least, of which some were too large for a link: none in use carries
fewer than 576 (RFC 791), and others of the same flow may have been smaller."""
_OVERHEAD = 8
"""So many octets more or less may count who records it at another place: the tags of one VLAN or two (IEEE 802.1Q)."""
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
    """The replies, by their rows, that may be later fragments of what their own sender asks, where the other end asks
    as well. (Of replies to nothing that was recorded that is known already.)"""
    rows = np.flatnonzero(table.protocol == ICMP)
    asks, answers = is_echo(table.protocol[rows], table.detail[rows])
    if not asks.any() or not answers.any():
        return rows[:0]
    is_asked = np.zeros(len(found), dtype=np.bool_)
    is_asked[found.of[rows[asks]]] = True
    requests, replies = rows[asks], rows[answers & is_asked[found.of[rows]]]
    doubtful = _of_other_sizes(table, found, requests, replies) | _asks_by_large(table, ends, requests, replies)
    return replies[doubtful]


def _asks_by_large(
    table: FlowTable, ends: SeenEnds, requests: NDArray[np.int64], replies: NDArray[np.int64]
) -> NDArray[np.bool_]:
    """Which replies have a sender that asks the same end by large packets, or by such of an unknown size, bool[n]."""
    size = _sizes(table, requests)
    large = requests[np.isnan(size) | (size >= _LEAST_CUT)]
    identity = ends.identities(table.addresses).astype(np.uint64)

    def direction(rows: NDArray[np.int64]) -> NDArray[np.uint64]:
        return identity[table.source[rows]] * _ODD + identity[table.destination[rows]]

    return np.isin(direction(replies), direction(large))


def _of_other_sizes(
    table: FlowTable, found: Conversations, requests: NDArray[np.int64], replies: NDArray[np.int64]
) -> NDArray[np.bool_]:
    """Which replies are not as large as what was asked, or to something that was large enough to be cut itself,
    bool[n]. An echo has what it echoes (RFC 792); in a sampled log what a fragment is of may be missing."""
    size, of = _sizes(table, requests), found.of[requests]
    least, most = np.full(len(found), np.inf), np.full(len(found), -np.inf)
    np.minimum.at(least, of, np.where(np.isnan(size), -np.inf, size))
    np.maximum.at(most, of, np.where(np.isnan(size), np.inf, size))
    mine, low, high = _sizes(table, replies), least[found.of[replies]], most[found.of[replies]]
    is_another: NDArray[np.bool_] = (mine < low - _OVERHEAD) | (mine > high + _OVERHEAD)
    is_large: NDArray[np.bool_] = (high >= _LEAST_CUT) & np.isfinite(high)
    return is_another | is_large


def _sizes(table: FlowTable, rows: NDArray[np.int64]) -> NDArray[np.float64]:
    """How large the packets of some records are in the mean, in octets, float64[n]; NaN where that is not recorded."""
    octets, packets = table.octets[rows], table.packets[rows]
    found: NDArray[np.float64] = octets / np.maximum(packets, 1)
    found[(octets <= 0) | (packets <= 0)] = np.nan
    return found


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
