"""Sessions that began before the time that a network file tells of, known again where a log is read piece by piece.

A session that is older than the rules goes on under them, and is no leak. What is recorded of it later has no opening
(SYN, RFC 9293): by that and by its ends and ports it is known again in another piece.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence import judging
from kiboko.core.evidence.comparison import LEAK
from kiboko.core.evidence.conversations import PAUSE
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.judged import Judged
from kiboko.core.header.services import TCP
from kiboko.core.records.flow_table import FlowTable

Keys = NDArray[np.uint64]
NO_KEYS: Keys = np.zeros(0, dtype=np.uint64)
_OLDER = ("older-session", "log-before-as-of")
_SYN = 0x02
_ODD = tuple(np.uint64(each) for each in (0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0xD6E8FEB86659FD93))
_SHIFT = np.uint64(29)


def keys_of(table: FlowTable, rows: NDArray[np.int64]) -> Keys:
    """A hash of the protocol, addresses and ports of some records, the same for both directions, uint64[n]."""

    def end(index: NDArray[np.int64], port: NDArray[np.int32]) -> Keys:
        mixed = table.addresses.high[index] * _ODD[0] ^ table.addresses.low[index] * _ODD[1]
        mixed += np.maximum(port, 0).astype(np.uint64) * _ODD[2]
        hashed: Keys = mixed ^ mixed >> _SHIFT
        return hashed

    one = end(table.source[rows], table.source_port[rows])
    other = end(table.destination[rows], table.detail[rows])
    mixed = (np.minimum(one, other) * _ODD[2] ^ np.maximum(one, other)) * _ODD[0] + table.protocol[rows]
    found: Keys = mixed ^ mixed >> _SHIFT
    return found


def older(table: FlowTable, judged: Judged, as_of: int) -> Keys:
    """The keys of sessions that the rules of today would stop, and that went on shortly before these were true."""
    if judged.found is None or int(table.start.min()) >= as_of:
        return NO_KEYS
    found = judged.found
    is_older = np.array([each.cause in _OLDER for each in judged.concluded], dtype=np.bool_)
    rows = np.flatnonzero(is_older[judged.conclusion[found.first]] & (found.most(table.last()) >= as_of - PAUSE))
    return keys_of(table, found.first[rows])


def leaks_without_opening(table: FlowTable, judged: Judged) -> tuple[NDArray[np.int64], Keys]:
    """The sessions of TCP that leak and of which nobody's opening was recorded, though flags were: they may be older
    than the rules. The numbers of their conversations, int64[m], and their keys, uint64[m]."""
    is_leak = np.array([each.status == LEAK for each in judged.concluded], dtype=np.bool_)
    rows = np.flatnonzero(is_leak[judged.conclusion])
    rows = rows[(table.protocol[rows] == TCP) & (table.flags[rows] >= 0)]
    if judged.found is None or not len(rows):
        return np.zeros(0, dtype=np.int64), NO_KEYS
    of = judged.found.of[rows]
    is_unopened = np.zeros(len(judged.found), dtype=np.bool_)
    is_unopened[of] = True
    is_unopened[of[table.flags[rows] & _SYN > 0]] = False
    met = np.flatnonzero(is_unopened)
    return met, keys_of(table, judged.found.first[met])


def with_older(evaluator: Evaluator, table: FlowTable, judged: Judged, sessions: Keys) -> Judged:
    """What records come to where some sessions are known to be older than the rules, by their keys, ascending."""
    met, keys = leaks_without_opening(table, judged)
    is_older = among(keys, sessions)
    if judged.found is None or not is_older.any():
        return judged
    conversations = np.zeros(len(judged.found), dtype=np.bool_)
    conversations[met[is_older]] = True
    return evaluator.with_reason(judged, conversations[judged.found.of], judging.OLDER_SESSION)


def among(keys: Keys, known: Keys) -> NDArray[np.bool_]:
    """Which keys are among known ones, which are ascending, bool[n]."""
    if not len(known):
        return np.zeros(len(keys), dtype=np.bool_)
    found: NDArray[np.bool_] = known[np.minimum(np.searchsorted(known, keys), len(known) - 1)] == keys
    return found
