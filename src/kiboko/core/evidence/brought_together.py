"""Records brought together into conversations (clause E1): those of the same two ends, protocol and ports, in either
direction, at whatever points they were taken, if they are near each other in time."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.conversations import PAUSE, Conversations, Several
from kiboko.core.evidence.known_ports import KnownPorts
from kiboko.core.evidence.seen_ends import SeenEnds
from kiboko.core.evidence.who_began import Since, begun_within, who_began
from kiboko.core.header.services import ICMP, ICMP6
from kiboko.core.records.columns import Distinct, distinct, has_ports, is_icmp
from kiboko.core.records.flow_table import NO_TIME, FlowTable, joined

_NEVER = np.iinfo(np.int64).max


def bring_together(
    table: FlowTable, ends: SeenEnds, known_ports: KnownPorts, at_edge: NDArray[np.bool_] | None = None,
    points: NDArray[np.int64] | None = None, since: Since = None,
) -> Conversations:  # fmt: skip
    """The conversations of a table of at least one record, where a table is the window in which records may meet.

    Parameters
    ----------
    known_ports : those that are sent to rather than from
    at_edge : bool[n], near which records may be missing; None for none
    points : int64[n], the numbers of the points that the network file knows, 0 for any other; None for no such
    since : when the log begins, in milliseconds since 1970, or for each record what was recorded at its place; None
        where that is when the table does
    """
    key, side = _keys(table, ends)
    numbers = distinct(key)
    several = Several.of(numbers)
    apart = _split_by_time(table, numbers, several)
    if apart is not None:
        numbers, several = apart, Several.of(apart)
    none = np.zeros(0)
    bare = Conversations(
        numbers.codes, side, numbers.first, none.astype(np.int8), none.astype(np.uint8), none > 0, several
    )
    cut_off = bare.union(at_edge) if at_edge is not None else np.zeros(len(bare), dtype=np.bool_)
    is_placed = points > 0 if points is not None else np.zeros(len(table), dtype=np.bool_)
    lone, from_within = _lone_replies(table, bare), begun_within(table, bare, since)
    began, by, contradicted = who_began(table, bare, known_ports, lone, cut_off, is_placed, from_within)
    return Conversations(numbers.codes, side, numbers.first, began, by, contradicted, several)


def of_the_same(some: FlowTable, others: FlowTable, ends: SeenEnds) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """Which of other records have the ends, protocol and ports of one of some records, in either direction: their
    rows, ascending; and of which of some the other direction is among them, bool[n]."""
    rows = _of_the_same_ports(some, others)
    key, side = _keys(joined([some, others.taken(rows)]), ends)
    mine, theirs = key[: len(some)], key[len(some) :]
    is_one = np.isin(theirs, mine)
    turned = [np.isin(mine, theirs[is_one & (side[len(some) :] == is_second)]) for is_second in (False, True)]
    return rows[is_one], np.where(side[: len(some)], *turned)


def _of_the_same_ports(some: FlowTable, others: FlowTable) -> NDArray[np.int64]:
    """Which of other records have no ports, or only such as some records have."""
    is_met = np.zeros(1 << 16, dtype=np.bool_)
    mine = has_ports(some.protocol)
    is_met[np.maximum(some.source_port[mine], 0)] = is_met[some.detail[mine]] = True
    ported = has_ports(others.protocol)
    ports = is_met[np.maximum(others.source_port, 0)] & is_met[np.where(ported, others.detail, 0)]
    return np.flatnonzero(ports | ~ported)


def is_echo(protocol: NDArray[np.uint8], detail: NDArray[np.int32]) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Which packets are echo requests, and which echo replies (RFC 792, RFC 4443), by protocol and by type and code."""
    kind = protocol.astype(np.int64) << 8 | detail >> 8
    return (kind == (ICMP << 8 | 8)) | (kind == (ICMP6 << 8 | 128)), (kind == ICMP << 8) | (kind == (ICMP6 << 8 | 129))


def _keys(table: FlowTable, ends: SeenEnds) -> tuple[NDArray[np.uint64], NDArray[np.bool_]]:
    """A 64-bit hash for each record that is equal within conversations, and the side that it comes from: of echo
    messages the first end is always the one that asks; other ICMP messages are answered by none."""
    identity = ends.identities(table.addresses).astype(np.uint64) << np.uint64(17)
    ported = has_ports(table.protocol)
    protocol = table.protocol.astype(np.uint64)
    near, far = identity[table.source], identity[table.destination]
    near += np.where(ported, np.maximum(table.source_port, 0) + 1, 0).astype(np.uint64)
    far += np.where(ported, table.detail + 1, 0).astype(np.uint64)
    side = near > far
    one, other = np.minimum(near, far), np.maximum(near, far)
    icmp = np.flatnonzero(is_icmp(table.protocol))
    extra = _by_public(table, ends).astype(np.uint64) << np.uint64(18)
    if len(icmp):
        asks, answers = is_echo(table.protocol[icmp], table.detail[icmp])
        side[icmp] = answers
        one[icmp], other[icmp] = np.where(answers, far[icmp], near[icmp]), np.where(answers, near[icmp], far[icmp])
        extra[icmp] += np.where(asks | answers, 0, table.detail[icmp] + 1).astype(np.uint64)
    key = one * np.uint64(0x9E3779B97F4A7C15)
    key ^= key >> np.uint64(31)
    key = (key + other) * np.uint64(0xC2B2AE3D27D4EB4F)
    key ^= key >> np.uint64(29)
    key = (key + (protocol << np.uint64(20)) + extra) * np.uint64(0xD6E8FEB86659FD93)
    return key ^ key >> np.uint64(32), side


def _by_public(table: FlowTable, ends: SeenEnds) -> NDArray[np.bool_]:
    """Which records between two ends of ours show a public address: what one sends to another's public address is no
    part of what it sends to the private one (clause S29)."""
    atoms = ends.atoms(table.addresses)
    public, ours = ends.is_public(atoms), ~ends.is_foreign(atoms)
    if not public.any():
        return np.zeros(len(table), dtype=np.bool_)
    kinds = public * np.uint8(1) | ours * np.uint8(2)
    source, destination = kinds[table.source], kinds[table.destination]
    found: NDArray[np.bool_] = (source & destination & 2 | (source | destination) & 1) == 3
    return found


def _split_by_time(table: FlowTable, numbers: Distinct, several: Several) -> Distinct | None:
    """Records of the same ends and ports, far from each other in time, taken apart; None where there are no such. Those
    without a time stay with the first ones."""
    start = table.start
    known = start if int(start.min()) != NO_TIME else start[start != NO_TIME]
    if not len(known) or int(known.max()) - int(known.min()) <= PAUSE:
        return None
    last = several.together(np.maximum, start)
    first = several.together(np.minimum, start if known is start else np.where(start == NO_TIME, _NEVER, start))
    is_wide = last - np.minimum(first, last) > PAUSE
    if not is_wide.any():
        return None
    rows = np.flatnonzero(is_wide[numbers.codes])
    rows = rows[np.lexsort((start[rows], numbers.codes[rows]))]
    of, start = numbers.codes[rows], start[rows]
    is_new = np.ones(len(rows), dtype=np.bool_)
    is_new[1:] = of[1:] != of[:-1]
    ended = _latest_so_far(table.last()[rows], np.flatnonzero(is_new))
    timed = np.flatnonzero(~is_new[1:] & (ended[:-1] != NO_TIME) & (start[1:] != NO_TIME))
    is_new[timed[start[timed + 1] - ended[timed] > PAUSE] + 1] = True
    codes = numbers.codes.copy()
    codes[rows] = len(numbers) + np.cumsum(is_new)
    return distinct(codes)


def _latest_so_far(values: NDArray[np.int64], begins: NDArray[np.int64]) -> NDArray[np.int64]:
    """The greatest value so far in each of some runs, which begin at some places, int64[n]."""
    found = [np.maximum.accumulate(run) for run in np.split(values, begins[1:])]
    return np.concatenate(found)


def _lone_replies(table: FlowTable, found: Conversations) -> NDArray[np.bool_]:
    """Which conversations are of echo replies of IPv4 alone, bool[k]. Many exporters record their type of 0 also of the
    later fragments of a large request."""
    rows = np.flatnonzero(table.protocol == ICMP)
    if not len(rows):
        return np.zeros(len(found), dtype=np.bool_)
    asks, answers = (np.zeros(len(found), dtype=np.bool_) for _ in range(2))
    for which, is_met in zip(is_echo(table.protocol[rows], table.detail[rows]), (asks, answers), strict=True):
        is_met[found.of[rows[which]]] = True
    return answers & ~asks
