"""TCP flags that prove less than they seem to: those of both directions in one record, as the logs of sessions have
them, and those of packets that belong to no connection, as scans, floods and their echoes send them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.conversations import Conversations
from kiboko.core.evidence.proofs import PLAIN, UNCLEAR, no_larger_than_resets
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


_FORMS = by_flags(np.array([_form_of(flags) for flags in range(1 << 6)], dtype=np.uint8), _OTHER)


def without_doubtful(table: FlowTable, found: Conversations, kinds: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """What each record is by its TCP flags (`flag_kinds`), uint8[n], beside the others of its conversation."""
    forms = np.where(table.protocol == TCP, _FORMS[table.flags], np.uint8(_OTHER))
    if not (forms > _RESET).any():
        return kinds
    mixed = _of_both_directions(table, found, forms)
    stray = _of_no_connection(table, found, forms)
    if not len(mixed) and not len(stray):
        return kinds
    told = kinds.copy()
    told[mixed[no_larger_than_resets(table, mixed)]] = UNCLEAR
    told[mixed[~no_larger_than_resets(table, mixed)]] = PLAIN
    told[stray] = UNCLEAR
    return told


def _of_both_directions(table: FlowTable, found: Conversations, forms: NDArray[np.uint8]) -> NDArray[np.int64]:
    """The records whose flags may be those of both directions together: with a reset in one packet, in a conversation
    of which one direction alone was recorded, or on both sides; or of an opening and its answer in one packet each way.
    """
    rows = np.flatnonzero((forms == _OPENED) | (forms == _AND_RESET))
    has_reset, is_one = forms[rows] == _AND_RESET, table.packets[rows] == 1
    if not has_reset.any() and not is_one.any():
        return rows[:0]
    bits = np.ones(len(table), dtype=np.uint8)
    bits[rows] = (1 + 2 * has_reset + 4 * is_one).astype(np.uint8)
    met = found.union(np.where(found.side, bits << 4, bits))[found.of[rows]]
    both = met & met >> 4
    is_mixed = np.where(has_reset, (both & 1 == 0) | (both & 2 > 0) | is_one, is_one & (both & 4 > 0))
    mixed: NDArray[np.int64] = rows[is_mixed]
    return mixed


def _of_no_connection(table: FlowTable, found: Conversations, forms: NDArray[np.uint8]) -> NDArray[np.int64]:
    """The records of packets that may belong to no connection: acknowledgements without an opening, or an answer to
    one, that were met by nothing but resets (RFC 9293, section 3.10.7: so does whoever knows of no connection); and
    single acknowledgements without data of which nothing else was recorded."""
    rows = np.flatnonzero(forms == _GOES_ON)
    is_small = (table.packets[rows] == 1) & no_larger_than_resets(table, rows)
    bits = np.array([_HAS_OTHER, _HAS_RESET, _HAS_OPENED, _HAS_OTHER, _HAS_LARGE], dtype=np.uint16)[forms]
    bits[rows[is_small]] = _HAS_SMALL
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
