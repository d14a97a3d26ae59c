"""What a firewall denied although its rules allow it, since it knew no more of what that belongs to (clause E6)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.conversations import Conversations
from kiboko.core.evidence.segment_sizes import may_open
from kiboko.core.header.services import TCP
from kiboko.core.records.columns import distinct
from kiboko.core.records.flow_table import EVENTS, NO_TIME, FlowTable
from kiboko.core.records.records import DENIED, PASSED

Truths = NDArray[np.bool_]
FORGOTTEN, REPLY_LATE = 1, 2
"""How what was denied may have come late: it is of a conversation without a recorded opening; or it is a reply that
came behind others, or long after what asked for it."""
HOW_LATE = 3
"""How many such numbers there are, 0 for what did not."""
_DENIED, _PASSED = EVENTS.index(DENIED), EVENTS.index(PASSED)
_SYN, _FLAGS = 0x02, 0x3F
_NEVER = np.iinfo(np.int64).max
_BEHIND = 1000
"""By so many milliseconds a reply is another one than that which passed before it."""
_FORGETS = 20_000
"""After so many milliseconds without a packet a firewall may have forgotten a request: 30 seconds is what is common for
UDP that was not answered."""


def how_late(table: FlowTable, found: Conversations, lone: Truths) -> NDArray[np.uint8]:
    """How what was denied in conversations may have come late, if the first end began and if the second did,
    uint8[2, k]; 0 where it did not. `lone` are those of `lone_from_beyond`."""
    is_denied = table.event == _DENIED
    if not is_denied.any():
        return np.zeros((2, len(found)), dtype=np.uint8)
    forgotten = _without_opening(table, found, is_denied, lone)
    late = np.where(_late_replies(table, found, is_denied), np.uint8(REPLY_LATE), np.uint8(0))
    return np.where(forgotten, np.uint8(FORGOTTEN), late)


def _without_opening(table: FlowTable, found: Conversations, is_denied: Truths, lone: Truths) -> Truths:
    """Of which conversations nobody's opening was recorded, where what was denied is surely none, or the replies alone
    were recorded, bool[2, k]. Of those that are `lone` SYN with ACK answers no opening for sure."""
    tcp, flags = table.protocol == TCP, np.maximum(table.flags, 0) & _FLAGS
    untold = is_denied & (flags == 0)
    rows = np.flatnonzero(untold & tcp)
    if len(rows):
        untold[rows[~may_open(table, rows)]] = False
    kinds = is_denied, tcp & (flags & _SYN > 0), tcp, untold, ~found.side, found.side
    bits = found.union(sum(each.astype(np.uint8) << place for place, each in enumerate(kinds)))
    denied, opened, any_tcp, untold, of_first, of_second = (bits & 1 << place > 0 for place in range(len(kinds)))
    late = denied & (~opened | lone)
    return np.stack([late & (any_tcp & ~untold | ~each) for each in (of_first, of_second)])


def _late_replies(table: FlowTable, found: Conversations, is_denied: Truths) -> Truths:
    """In which conversations all replies that were denied came behind others that had passed there, or long after the
    last packet of whoever asked, bool[2, k]."""
    late = np.zeros((len(found), 2), dtype=np.bool_)
    rows = np.flatnonzero((found.union(is_denied) & found.union(~is_denied))[found.of])
    if not len(rows):
        return late.T
    denied, start, side = is_denied[rows], table.start[rows], found.side[rows].astype(np.int64)
    sent = found.of[rows] * 2 + side
    cells = distinct(sent, table.point[rows], table.optional("file")[rows])
    passed = np.full(len(cells), _NEVER)
    has_passed = (table.event[rows] == _PASSED) & (start != NO_TIME)
    np.minimum.at(passed, cells.codes[has_passed], start[has_passed])
    asked = np.full(2 * len(found), NO_TIME)
    np.maximum.at(asked, sent ^ 1, table.last()[rows])
    before, asked_last = passed[cells.codes[denied]], asked[sent[denied]]
    at, sent = start[denied], sent[denied]
    is_behind = (before != _NEVER) & (at - _BEHIND >= before)
    is_forgotten = (asked_last != NO_TIME) & (at - _FORGETS >= asked_last)
    is_late = (at != NO_TIME) & (is_behind | is_forgotten)
    told = late.reshape(-1)
    told[sent] = True
    told[sent[~is_late]] = False
    return late[:, ::-1].T
