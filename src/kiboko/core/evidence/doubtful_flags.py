"""TCP flags that prove less than they seem to: those of both directions in one record, as the logs of sessions have
them, and those of packets that belong to no connection, as scans, floods and their echoes send them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.alone_from_beyond import MOST_STRAY
from kiboko.core.evidence.conversations import INITIATORS, Conversations
from kiboko.core.evidence.proofs import ACKNOWLEDGES, OPENING, PLAIN, RESET, UNCLEAR
from kiboko.core.evidence.segment_sizes import is_short, no_larger_than_resets, surely_seen
from kiboko.core.header.services import TCP
from kiboko.core.records.columns import by_flags
from kiboko.core.records.flow_table import FlowTable

_FIN, _SYN, _RST, _PSH, _ACK = 0x01, 0x02, 0x04, 0x08, 0x10
_OTHER, _RESET, _OPENED, _AND_RESET, _GOES_ON = range(5)
"""What the flags of a record are: anything else; a reset and nothing more; an opening and its answer, by which no data
and no end was sent; and with a reset besides; or an acknowledgement without an opening."""
_HAS_RESET, _HAS_OPENED, _HAS_SMALL, _HAS_LARGE, _HAS_OTHER = 1, 2, 4, 8, 16
_SIDE = 5
_ONE_SIDE = (1 << _SIDE) - 1


def _form_of(flags: int) -> int:
    if flags in (_RST, _RST | _ACK):
        return _RESET
    if flags & (_SYN | _ACK) == _SYN | _ACK and not flags & (_FIN | _PSH):
        return _AND_RESET if flags & _RST else _OPENED
    return _GOES_ON if flags & (_SYN | _ACK) == _ACK else _OTHER


_SURELY, _UNLESS_SEVERAL = 1, 2


def _told_once_of(flags: int) -> int:
    """Whether flags may be those of both directions where the other has none; with a reset behind data unless several
    packets were sent each way."""
    if flags == _SYN or not flags & (_SYN | _RST):
        return 0
    followed = flags & (_SYN | _ACK) == _SYN | _ACK and flags & (_FIN | _PSH)
    return _SURELY if not followed else _UNLESS_SEVERAL if flags & _RST else 0


_TOLD_ONCE = by_flags(np.array([_told_once_of(flags) for flags in range(1 << 6)], dtype=np.uint8), 0)
_FORMS = by_flags(np.array([_form_of(flags) for flags in range(1 << 6)], dtype=np.uint8), _OTHER)


def without_doubtful(table: FlowTable, found: Conversations, kinds: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """What each record is by its TCP flags (`flag_kinds`), uint8[n], beside the others of its conversation."""
    forms = np.where(table.protocol == TCP, _FORMS[table.flags], np.uint8(_OTHER))
    is_mixed = np.zeros(len(table), dtype=np.bool_)
    is_mixed[_of_both_directions(table, found, forms)] = is_mixed[_told_once(table, found)] = True
    mixed = np.flatnonzero(is_mixed)
    stray = _of_no_connection(table, found, forms) if (forms > _RESET).any() else mixed[:0]
    short = _short_alone(table, found, kinds)
    if not len(mixed) and not len(stray) and not len(short):
        return kinds
    told = kinds.copy()
    told[short] = RESET
    told[mixed] = np.where(no_larger_than_resets(table, mixed), np.uint8(UNCLEAR), np.uint8(PLAIN))
    _note_single(table, found, mixed, told)
    told[stray] = UNCLEAR
    return told


def _short_alone(table: FlowTable, found: Conversations, kinds: NDArray[np.uint8]) -> NDArray[np.int64]:
    """The records without flags that tell no more than resets do, where one direction alone was recorded: of a few
    packets too short for an opening."""
    rows = np.flatnonzero(kinds == UNCLEAR)
    rows = rows[(surely_seen(table, rows) <= MOST_STRAY) & is_short(table, rows)]
    if not len(rows):
        return rows
    sides = found.union(np.where(found.side, np.uint8(2), np.uint8(1)))
    alone: NDArray[np.int64] = rows[sides[found.of[rows]] != 3]
    return alone


def _told_once(table: FlowTable, found: Conversations) -> NDArray[np.int64]:
    """The records whose flags may be those of both directions, since the other direction was recorded, and none of its
    flags: so a biflow of a log of sessions has them, whatever RFC 5103 says. That whoever sent it has sent more than
    SYN and RST is sure where nobody sent these, and where data or an end followed the opening."""
    rows = np.flatnonzero((_TOLD_ONCE[table.flags] > 0) & (table.protocol == TCP))
    has_flags = (table.flags > 0) & (table.flags & 0x3F > 0)
    if not len(rows) or (has_flags | (table.protocol != TCP)).all():
        return rows[:0]
    bits = np.where(has_flags, np.uint8(2), np.uint8(0)) | np.where(table.packets > 1, np.uint8(5), np.uint8(1))
    met = found.union(np.where(found.side, bits << 4, bits))[found.of[rows]]
    other = np.where(found.side[rows], met & 7, met >> 4)
    several = (table.packets[rows] > 1) & (other & 4 > 0)
    once: NDArray[np.int64] = rows[(other & 3 == 1) & ((_TOLD_ONCE[table.flags[rows]] == _SURELY) | ~several)]
    return once


def _note_single(table: FlowTable, found: Conversations, mixed: NDArray[np.int64], told: NDArray[np.uint8]) -> None:
    """Of one packet each way the first is SYN alone, and the other is what answered it."""
    if table.direction is None or not len(mixed):
        return
    flags = table.flags[mixed]
    is_one = (table.packets[mixed] == 1) & (table.direction[mixed] == INITIATORS)
    rows = mixed[is_one & (flags & (_SYN | _ACK) == _SYN | _ACK) & (flags & (_FIN | _PSH) == 0)]
    if not len(rows):
        return
    answer = np.zeros(len(found), dtype=np.uint8)
    answer[found.of[rows]] = np.where(table.flags[rows] & _RST > 0, np.uint8(RESET), np.uint8(ACKNOWLEDGES))
    answer[found.union((table.packets != 1).astype(np.uint8)) > 0] = 0
    answer[found.union(np.where(found.side, np.uint8(2), np.uint8(1))) != 3] = 0
    told[rows[answer[found.of[rows]] > 0]] = OPENING
    replied = np.flatnonzero((answer[found.of] > 0) & (table.flags <= 0))
    told[replied] = answer[found.of[replied]]


def _of_both_directions(table: FlowTable, found: Conversations, forms: NDArray[np.uint8]) -> NDArray[np.int64]:
    """The records whose flags may be those of both directions together: with a reset in one packet, in a conversation
    of which one direction alone was recorded, or on both sides; of an opening and its answer in one packet each way; or
    of both in a biflow of whose other direction there is no record."""
    rows = np.flatnonzero((forms == _OPENED) | (forms == _AND_RESET))
    has_reset, is_one = forms[rows] == _AND_RESET, table.packets[rows] == 1
    is_biflow = table.direction[rows] == INITIATORS if table.direction is not None else np.zeros(len(rows), dtype=bool)
    if not has_reset.any() and not is_one.any() and not is_biflow.any():
        return rows[:0]
    bits = np.ones(len(table), dtype=np.uint8)
    bits[rows] = (1 + 2 * has_reset + 4 * is_one).astype(np.uint8)
    met = found.union(np.where(found.side, bits << 4, bits))[found.of[rows]]
    both = met & met >> 4
    is_alone = both & 1 == 0
    is_mixed = np.where(has_reset, is_alone | (both & 2 > 0) | is_one, is_one & (both & 4 > 0) | is_biflow & is_alone)
    mixed: NDArray[np.int64] = rows[is_mixed]
    return mixed


def _of_no_connection(table: FlowTable, found: Conversations, forms: NDArray[np.uint8]) -> NDArray[np.int64]:
    """The records of packets that may belong to no connection: acknowledgements without an opening, or an answer to
    one, that were met by nothing but resets (RFC 9293, section 3.10.7: so does whoever knows of no connection); and
    single acknowledgements without data of which nothing else was recorded."""
    rows = np.flatnonzero(forms == _GOES_ON)
    single = rows[table.packets[rows] == 1]
    bits = np.array([_HAS_OTHER, _HAS_RESET, _HAS_OPENED, _HAS_OTHER, _HAS_LARGE], dtype=np.uint16)[forms]
    bits[single[no_larger_than_resets(table, single)]] = _HAS_SMALL
    met = found.union(np.where(found.side, bits << _SIDE, bits))
    one, other = met & np.uint16(_ONE_SIDE), met >> np.uint16(_SIDE)

    def may_be(mine: NDArray[np.uint16], theirs: NDArray[np.uint16]) -> NDArray[np.bool_]:
        goes_on = (mine > 0) & (mine & ~np.uint16(_HAS_SMALL | _HAS_LARGE) == 0)
        is_met = (theirs == _HAS_RESET) & (goes_on | (mine == _HAS_OPENED))
        told: NDArray[np.bool_] = is_met | ((theirs == 0) & (mine == _HAS_SMALL))
        return told

    of_first, of_second = may_be(one, other), may_be(other, one)
    if not of_first.any() and not of_second.any():
        return rows[:0]
    return np.flatnonzero(np.where(found.side, of_second[found.of], of_first[found.of]))
