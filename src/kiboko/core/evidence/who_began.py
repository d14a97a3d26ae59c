"""Who began each conversation (clause E2): by what opened it, a biflow, the type of a message, the time, or the ports.

What is told earlier in this order wins. Where nothing tells for sure, nobody is said to have begun.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.beginnings import without_beginnings, without_directions
from kiboko.core.evidence.conversations import (
    BY_BIFLOW,
    BY_NOTHING,
    BY_OPENING,
    BY_PORTS,
    BY_TIME,
    BY_TYPE,
    INITIATORS,
    PAUSE,
    RESPONDERS,
    Conversations,
)
from kiboko.core.evidence.known_ports import KnownPorts
from kiboko.core.header.services import TCP
from kiboko.core.records.columns import by_flags, distinct, is_icmp
from kiboko.core.records.flow_table import NO_TIME, FlowTable

_SYN, _ACK = 0x02, 0x10
_OPENING, _HAS_SYN, _INITIATOR, _RESPONDER, _GOES_ON, _ONE_ANSWER = 1, 2, 4, 8, 16, 32
_SIDE = 8
_TOLD = [
    (_OPENING if flags & (_SYN | _ACK) == _SYN else 0) | (_HAS_SYN if flags & _SYN else _GOES_ON if flags else 0)
    for flags in range(1 << 6)
]
_BY_FLAGS = by_flags(np.array(_TOLD, dtype=np.uint16), 0)
"""What the TCP flags of a record tell of who began, as a table."""
_NEVER = np.iinfo(np.int64).max
_APART = 50
"""By so many milliseconds the times may differ that one exporter takes at several places."""
_FEW = 4
"""So many connections at a point show whether beginnings are recorded there."""
_PART = 20
"""Of one connection in so many a sample of packets has one direction alone, or of more."""
_Told = tuple[NDArray[np.bool_], NDArray[np.bool_]]
"""Of which conversations the first end is said to have begun, and of which the second, bool[k] each."""
Since = NDArray[np.int64] | int | None
"""When a log begins that some records are a part of, or for each what was recorded at its place (`bring_together`)."""


def who_began(
    table: FlowTable,
    found: Conversations,
    known_ports: KnownPorts,
    perhaps_none: NDArray[np.bool_],
    cut_off: NDArray[np.bool_],
    is_placed: NDArray[np.bool_],
    from_within: NDArray[np.bool_] | None,
) -> tuple[NDArray[np.int8], NDArray[np.uint8], NDArray[np.bool_]]:
    """`began`, `by` and `is_contradicted` of some conversations (`Conversations`).

    Parameters
    ----------
    known_ports : those that are sent to rather than from
    perhaps_none : bool[k], which consist of echo replies alone that may be something else
    cut_off : bool[k], near which records may be missing
    is_placed : bool[n], which records were taken at a point that the network file knows
    from_within : as `begun_within` tells
    """
    bits = np.where(table.protocol == TCP, _BY_FLAGS[table.flags], np.uint16(0))
    if table.direction is not None:
        bits |= np.where(table.direction == INITIATORS, np.uint16(_INITIATOR), np.uint16(0))
        bits |= np.where(table.direction == RESPONDERS, np.uint16(_RESPONDER), np.uint16(0))
        is_answer = (table.protocol == TCP) & (table.packets == 1) & (table.flags & (_SYN | _ACK) == _SYN | _ACK)
        bits |= np.where(is_answer & (table.flags > 0), np.uint16(_ONE_ANSWER), np.uint16(0))
    union = found.union(np.where(found.side, bits << _SIDE, bits))
    zero, one = union & np.uint16(0xFF), union >> np.uint16(_SIDE)
    began = np.full(len(found), -1, dtype=np.int8)
    by = np.full(len(found), BY_NOTHING, dtype=np.uint8)

    def decide(how: int, is_first: NDArray[np.bool_], is_second: NDArray[np.bool_]) -> None:
        told = (began < 0) & (is_first != is_second)
        began[told] = is_second[told]
        by[told] = how

    decide(BY_OPENING, zero & _OPENING > 0, one & _OPENING > 0)
    looks_first, looks_second = _by_ports(table, found, known_ports)
    by_ports: _Told = looks_first, looks_second
    if from_within is not None:
        by_biflow, by_ports = _by_biflow(zero, one, by_ports, from_within)
        decide(BY_BIFLOW, *by_biflow)
    protocol = table.protocol[found.first]
    icmp = is_icmp(protocol)
    decide(BY_TYPE, icmp & ~perhaps_none, np.zeros(len(found), dtype=np.bool_))
    by[perhaps_none & (began < 0)] = BY_TYPE  # if these are what they seem, which nothing tells for sure
    by_time, disputed = _earlier(table, found, bits & _HAS_SYN > 0, cut_off, is_placed, (looks_first, looks_second))
    decide(BY_TIME, *by_time)
    before = began.copy()
    decide(BY_PORTS, *(each & ~disputed for each in by_ports))
    contradicted = (looks_first != looks_second) & (before >= 0) & (looks_second != (before == 1)) & ~icmp
    return began, by, contradicted


def begun_within(table: FlowTable, found: Conversations, since: Since) -> NDArray[np.bool_] | None:
    """Which conversations began so long behind the beginning of what was recorded where they were that an exporter
    which began with it has not met them in the middle, bool[k], and whose beginnings are not left out there; None where
    nothing rests on that, since there are no biflows."""
    if table.direction is None:
        return None
    return _begun_later(table, found, since) & ~_with_parts_left_out(table, found)


def sampled(table: FlowTable, found: Conversations) -> NDArray[np.bool_]:
    """Which conversations were recorded where others lack their beginnings, and some a whole direction, as samples of
    packets do, bool[k]."""
    return _with_parts_left_out(table, found, _PART)


def perhaps_sampled(table: FlowTable, found: Conversations) -> NDArray[np.bool_]:
    """Which conversations are of files in which nothing shows that beginnings are recorded, bool[k]."""
    is_late = _begun_later(table, found, None)
    places = distinct(table.optional("file")).codes
    return found.union(without_beginnings(table, found.of, found.side, places, is_late[found.of], _FEW))


def shared_out(table: FlowTable, found: Conversations) -> NDArray[np.bool_]:
    """Which conversations were recorded where others have a direction alone, bool[k]: others may have recorded the
    rest."""
    places = distinct(table.optional("file"), table.point).codes
    return found.union(without_directions(table, found.of, found.side, places, _PART))


def _with_parts_left_out(table: FlowTable, found: Conversations, part: int | None = None) -> NDArray[np.bool_]:
    """Which conversations were recorded where many others lack their beginnings, bool[k]; `part` is as for
    `without_beginnings`. Of a part of a log those tell that begin some time behind that part's own beginning: of others
    an earlier part may have it."""
    is_late = _begun_later(table, found, None)
    if not is_late.any():
        return is_late
    places = distinct(table.optional("file"), table.point).codes
    return found.union(without_beginnings(table, found.of, found.side, places, is_late[found.of], part=part))


def _begun_later(table: FlowTable, found: Conversations, since: Since) -> NDArray[np.bool_]:
    """Which conversations began some time behind what was recorded where they were, bool[k]."""
    ahead = table.start - _beginnings(table, since)
    ahead = found.least(np.where(table.start == NO_TIME, _NEVER, ahead))
    later: NDArray[np.bool_] = (ahead != _NEVER) & (ahead >= PAUSE)
    return later


def _beginnings(table: FlowTable, since: Since) -> NDArray[np.int64]:
    """When what was recorded where each record was begins, int64[n]: an exporter may begin later than others, or have
    another clock. Of a part of a log that is when the log does, where others do not begin long before it."""
    if isinstance(since, np.ndarray):
        return since
    places = distinct(table.optional("file"), table.point)
    first = places.least(table.start, NO_TIME)
    if since is not None:
        known = first[first != NO_TIME]
        first = np.where(first > int(known.min(initial=_NEVER)) + PAUSE, first, since)
    return first[places.codes]


def _by_biflow(
    zero: NDArray[np.uint16], one: NDArray[np.uint16], ports: _Told, from_within: NDArray[np.bool_]
) -> tuple[_Told, _Told]:
    """Which end began by what biflows say, from the bits of both sides; and by the ports, where biflows do not say
    otherwise. Who met a conversation in the middle takes whoever sent next for the one that began it: where no
    beginning is recorded a biflow is believed only without flags, where the ports say the same, or it began some time
    behind its log (`from_within`); where the ports contradict it, neither is. One packet with SYN and ACK, of which
    nothing else was recorded, began nothing."""
    first, second = (zero & _INITIATOR) + (one & _RESPONDER) > 0, (one & _INITIATOR) + (zero & _RESPONDER) > 0
    both, says = zero | one, first != second
    is_begun, is_cut_off = both & _HAS_SYN > 0, both & (_HAS_SYN | _GOES_ON) == _GOES_ON
    is_answer = first & (zero & _ONE_ANSWER > 0) & (one == 0) | second & (one & _ONE_ANSWER > 0) & (zero == 0)
    says &= ~is_answer
    has_ports = ports[0] != ports[1]
    disputed = says & ~is_begun & has_ports & (ports[0] != first)
    is_believed = says & ~is_cut_off & ~disputed & (is_begun | has_ports | from_within)
    return (first & is_believed, second & is_believed), (ports[0] & ~disputed, ports[1] & ~disputed)


def _earlier(
    table: FlowTable,
    found: Conversations,
    has_syn: NDArray[np.bool_],
    cut_off: NDArray[np.bool_],
    is_placed: NDArray[np.bool_],
    ports: _Told,
) -> tuple[_Told, NDArray[np.bool_]]:
    """Whose first packet came earlier, by one clock: at one point, by more than its resolution, and where the records
    hold the conversation's beginning: of TCP, where the first records of both sides there have a SYN. Without its flags
    they are sure to only some time behind the first record of that point, by how much more than a record is long, and
    where none may be missing beside them (`cut_off`). A point that the network file does not know may be an exporter
    that records at several places, each by its own count of time: of others than `is_placed` more has to lie between.
    So it has where the ports say otherwise (`ports`), since one device may count by several clocks as well: of which
    neither is believed is the second value, bool[k]."""
    none = np.zeros(len(found), dtype=np.bool_)
    is_known = np.array([name is not None for name in table.points], dtype=np.bool_)[table.point]
    is_known &= table.start != NO_TIME
    if not is_known.any():
        return (none, none), none
    clock = found.least(np.where(is_known, table.point, _NEVER))
    mine = is_known & (table.point == clock[found.of])
    zero = found.least(np.where(mine & ~found.side, table.start, _NEVER))
    one = found.least(np.where(mine & found.side, table.start, _NEVER))
    times = table.start[is_known]
    resolution = 1 if (times % 1000).any() else 1000
    longest = int(np.maximum(table.last()[is_known] - times, 0).max())
    first_at = np.full(len(table.points), _NEVER)
    np.minimum.at(first_at, table.point[is_known], times)
    begins = first_at[np.where(clock == _NEVER, 0, clock)]
    begun = ~cut_off & (np.minimum(zero, one) - longest - PAUSE >= begins)
    opens = mine & has_syn & (table.start == np.where(found.side, one[found.of], zero[found.of]))
    both_opened = found.union(opens & ~found.side) & found.union(opens & found.side)
    is_tcp = table.protocol[found.first] == TCP
    sure = (zero != _NEVER) & (one != _NEVER) & np.where(is_tcp, both_opened, begun)
    if (sure & ~is_tcp).any():
        left_out = without_beginnings(table, found.of, found.side, table.point, mine & begun[found.of], _FEW)
        sure &= is_tcp | ~found.union(left_out & mine)
    sure &= _are_beginnings(table, found, np.flatnonzero(mine & sure[found.of]), (zero, one))
    apart = max(resolution, _APART)
    least = np.where(found.union(mine & is_placed), resolution, apart)
    first, second = sure & (one - zero > least), sure & (zero - one > least)
    disputed = (first & ports[1] & ~ports[0] | second & ports[0] & ~ports[1]) & (np.abs(one - zero) <= apart)
    return (first & ~disputed, second & ~disputed), disputed


def _are_beginnings(
    table: FlowTable, found: Conversations, rows: NDArray[np.int64], first: tuple[NDArray[np.int64], NDArray[np.int64]]
) -> NDArray[np.bool_]:
    """Of which conversations the times of the first records of both sides, which are among some rows, may be those of
    their first packets, bool[k]: some logs have the time at which a record was written alone. Whoever opened a
    connection of TCP goes on when the other has answered; of others several packets take some time."""
    of, side = found.of[rows], found.side[rows]
    start, last = table.start[rows], table.last()[rows]
    is_first = start == np.where(side, first[1][of], first[0][of])
    of, side, start, last = of[is_first], side[is_first], start[is_first], last[is_first]
    ended = np.full((2, len(found)), np.iinfo(np.int64).min)
    np.maximum.at(ended, (side.astype(np.int64), of), last)
    goes_on = np.where(first[0] <= first[1], ended[0] >= first[1], ended[1] >= first[0])
    at_once = np.zeros(len(found), dtype=np.bool_)
    at_once[of[(last <= start) & (table.packets[rows][is_first] != 1)]] = True
    return np.where(table.protocol[found.first] == TCP, goes_on, ~at_once)


def _by_ports(table: FlowTable, found: Conversations, known_ports: KnownPorts) -> _Told:
    """Of which conversations only the second end has a port that is listened to, listed or below 1024, so that the
    first began; and of which only the first has."""
    rows = found.first
    protocol = table.protocol[rows]
    serves = [known_ports.among(protocol, column[rows]) for column in (table.source_port, table.detail)]
    turned = found.side[rows]
    first, second = np.where(turned, serves[1], serves[0]), np.where(turned, serves[0], serves[1])
    return second & ~first, first & ~second
