"""What somebody beyond the network sent alone, and what nothing shows that anybody asked for (clause E13)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.conversations import Conversations
from kiboko.core.evidence.proofs import ACKNOWLEDGES, BUT_RESETS, HALF, OPENINGS, SURE, turned_bits
from kiboko.core.evidence.segment_sizes import may_open, surely_seen
from kiboko.core.header.services import TCP
from kiboko.core.records.flow_table import EVENTS, FlowTable
from kiboko.core.records.records import DENIED

_FIN, _SYN, _PSH, _ACK = 0x01, 0x02, 0x08, 0x10
_DENIED = EVENTS.index(DENIED)
MOST_STRAY = 16
"""As many packets of one record as may be sent to somebody who does not answer, if they were all seen."""


def lone_from_beyond(
    table: FlowTable, found: Conversations, bits: NDArray[np.int64], kinds: NDArray[np.uint8],
    beyond: tuple[NDArray[np.bool_], NDArray[np.bool_]],
) -> NDArray[np.bool_]:  # fmt: skip
    """Which conversations may be none, bool[k]: those of which nothing was recorded but what one end sent from beyond
    the network (`beyond` bool[k] of either end), and resets of the other. Whoever forges, scans, or is answered in
    somebody's name sends such packets, and a machine that knows of no connection resets them (RFC 9293). Not what asks
    by itself: an opening of TCP, or what may be one, and of others what whoever began has sent; nor TCP that goes on
    behind an opening and its answer, or by more packets than anybody sends who is not answered. `bits` are those of
    `mark_bits`, `kinds` those of `flag_kinds`."""
    sides = bits & (1 << HALF) - 1, bits >> HALF
    lone = np.zeros(len(found), dtype=np.bool_)
    for mine, other in ((0, 1), (1, 0)):
        is_alone = (sides[mine] > 0) & (sides[other] & SURE == 0) & (sides[mine] & OPENINGS == 0)
        lone |= is_alone & beyond[mine] & ~beyond[other]
    asks = np.flatnonzero(lone & np.where(found.began == 0, beyond[0], beyond[1] & (found.began == 1)))
    if len(asks):
        is_asking = np.zeros(len(found), dtype=np.bool_)
        is_asking[asks] = True
        rows = np.flatnonzero(is_asking[found.of])
        is_tcp = table.protocol[rows] == TCP
        lone[found.of[rows[~is_tcp]]] = False
        untold = rows[is_tcp & (np.maximum(table.flags[rows], 0) & 0x3F == 0)]
        lone[found.of[untold[may_open(table, untold)]]] = False
    if lone.any():
        rows = np.flatnonzero((kinds == ACKNOWLEDGES) & lone[found.of])
        flags, packets = table.flags[rows], table.packets[rows]
        goes_on = (flags & (_SYN | _ACK) == _SYN | _ACK) & (flags & (_FIN | _PSH) > 0) & (packets != 1)
        is_session = (table.event[rows] != _DENIED) & (goes_on | (surely_seen(table, rows) > MOST_STRAY))
        lone[found.of[rows[is_session]]] = False
    return lone


def unasked(bits: NDArray[np.int64], is_turned: NDArray[np.bool_], lone: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Of which conversations nothing shows that anybody asked, bool[k]: no more than resets was recorded of whoever
    began (the second end where `is_turned`, else the first), and of the other nothing that surely answers. `bits` are
    those of `mark_bits`, `lone` as `lone_from_beyond` has it."""
    own = np.where(is_turned, turned_bits(bits), bits)
    found: NDArray[np.bool_] = (own & (1 << HALF) - 1 & BUT_RESETS == 0) & (lone | (own >> HALF & SURE == 0))
    return found
