"""Records brought together into conversations, and who began each of them (clauses E1 and E2).

All records of the same two ends, protocol and ports are of one conversation, in either direction, at whatever points
they were taken, if they are near each other in time. The addresses in front of and behind a gateway are the same end.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.beginnings import without_beginnings
from kiboko.core.evidence.known_ports import KnownPorts
from kiboko.core.evidence.seen_ends import SeenEnds
from kiboko.core.header.services import ICMP, ICMP6, TCP
from kiboko.core.records.columns import Distinct, by_flags, distinct, has_ports, is_icmp
from kiboko.core.records.flow_table import NO_TIME, FlowTable, joined

PAUSE = 300_000
"""Milliseconds without a record behind which the same ends and ports are another conversation: the longest time-out
that exporters commonly have."""
BY_OPENING, BY_BIFLOW, BY_TYPE, BY_TIME, BY_PORTS, BY_NOTHING = range(6)
"""What tells who began, in the order in which it is believed."""
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
_SHORT = 1 << 16
_SMALL = 4
"""As many records has a conversation that is looked at record by record: one of all, another of all."""
_Told = tuple[NDArray[np.bool_], NDArray[np.bool_]]
"""Of which conversations the first end is said to have begun, and of which the second, bool[k] each."""
Since = NDArray[np.int64] | int | None
"""When a log begins that some records are a part of, or for each what was recorded at its place (`bring_together`)."""
INITIATORS, RESPONDERS = 1, 2
"""What a biflow says a direction is (`biflowDirection`, RFC 5103)."""


class Several(NamedTuple):
    """The records of conversations, one after another, in whatever order. `one` is a row of each; `further` are, for a
    second record, a third and so on, the numbers of the small conversations that have one and its rows; `large` the
    numbers of the others, `rows` all rows of theirs together, and `begin` where among these the rows of each begin."""

    one: NDArray[np.int64]
    further: tuple[tuple[NDArray[np.int64], NDArray[np.int64]], ...]
    large: NDArray[np.int64]
    rows: NDArray[np.int64]
    begin: NDArray[np.int64]

    @classmethod
    def of(cls, numbers: Distinct) -> Several:
        """Those of conversations, by the number of each record's."""
        sizes = numbers.counts()
        is_large = sizes > _SMALL
        large = np.flatnonzero(is_large)
        left = numbers.further()
        if len(large):
            left = left[~is_large[numbers.codes[left]]]
        further = []
        taken = np.empty(len(sizes), dtype=np.int64)
        while len(left):
            of = numbers.codes[left]
            taken[of] = left  # one of each: the one that is written last
            is_taken = taken[of] == left
            further.append((of[is_taken], left[is_taken]))
            left = left[~is_taken]
        rows = np.flatnonzero(is_large[numbers.codes]) if len(large) else large
        place = np.cumsum(is_large)[numbers.codes[rows]] - 1
        if len(large) <= _SHORT:  # short numbers are sorted by their digits
            place = place.astype(np.uint16)
        sizes = sizes[large]
        return cls(numbers.first, tuple(further), large, rows[np.argsort(place, kind="stable")],
                   np.cumsum(sizes) - sizes)  # fmt: skip

    def together(self, how: np.ufunc, values: NDArray[Any]) -> NDArray[Any]:
        """What the values of the records of each come to. Most conversations are of few records."""
        found: NDArray[Any] = values[self.one]
        for number, rows in self.further:
            found[number] = how(found[number], values[rows])
        if len(self.large):
            found[self.large] = how.reduceat(values[self.rows], self.begin)
        return found


@dataclass(frozen=True, slots=True)
class Conversations:
    """`k` conversations of a table of `n` records.

    `of` int64[n] is the number of each record's conversation, in the order of their first records; `side` bool[n] tells
    which go from the second of its ends to the first. `first` int64[k] are their first rows. `began` int8[k] is the
    side of whoever began, -1 where nothing tells for sure; `by` uint8[k] what told, or seems to; `is_contradicted`
    bool[k] whether the ports say otherwise.
    """

    of: NDArray[np.int64]
    side: NDArray[np.bool_]
    first: NDArray[np.int64]
    began: NDArray[np.int8]
    by: NDArray[np.uint8]
    is_contradicted: NDArray[np.bool_]
    several: Several

    def __len__(self) -> int:
        return len(self.first)

    @property
    def taken_as_turned(self) -> NDArray[np.bool_]:
        """Of which the second end is taken to have begun, bool[k]: where nothing tells, whoever sent the first
        record, but of echo replies whoever got them."""
        found: NDArray[np.bool_] = np.where(
            self.began >= 0, self.began == 1, self.side[self.first] & (self.by != BY_TYPE)
        )
        return found

    def is_reply(self) -> NDArray[np.bool_]:
        """Which records are of whoever did not begin, bool[n]."""
        found: NDArray[np.bool_] = self.side != self.taken_as_turned[self.of]
        return found

    def told_by_time(self, table: FlowTable) -> NDArray[np.bool_]:
        """Of which it is by times alone that it is told who began, bool[k]: by those of their first packets, without
        the flags of TCP that would tell that these are the first. `table` is theirs."""
        found: NDArray[np.bool_] = (self.by == BY_TIME) & (table.protocol[self.first] != TCP)
        return found

    def union(self, bits: NDArray[Any]) -> NDArray[Any]:
        """The union of some bits of the records of each, [k]."""
        if bits.dtype == np.bool_ and np.count_nonzero(bits) < len(bits) >> 3:  # of few, these alone
            met = np.zeros(len(self), dtype=np.bool_)
            met[self.of[np.flatnonzero(bits)]] = True
            return met
        return self.several.together(np.bitwise_or, bits)

    def least(self, values: NDArray[np.int64]) -> NDArray[np.int64]:
        """The least value among the records of each, int64[k]."""
        return self.several.together(np.minimum, values)

    def most(self, values: NDArray[np.int64]) -> NDArray[np.int64]:
        """The greatest value among the records of each, int64[k]."""
        return self.several.together(np.maximum, values)


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
    lone, from_within = _lone_replies(table, bare), _begun_within(table, bare, since)
    began, by, contradicted = _who_began(table, bare, known_ports, lone, cut_off, is_placed, from_within)
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


def _who_began(
    table: FlowTable,
    found: Conversations,
    known_ports: KnownPorts,
    perhaps_none: NDArray[np.bool_],
    cut_off: NDArray[np.bool_],
    is_placed: NDArray[np.bool_],
    from_within: NDArray[np.bool_] | None,
) -> tuple[NDArray[np.int8], NDArray[np.uint8], NDArray[np.bool_]]:
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


def _begun_within(table: FlowTable, found: Conversations, since: Since) -> NDArray[np.bool_] | None:
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
