"""Records brought together into conversations, and who began each of them (clauses E1 and E2).

All records of the same two ends, protocol and ports are of one conversation, in either direction, at whatever points
they were taken, if they are near each other in time. The addresses in front of and behind a gateway are the same end.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.seen_ends import SeenEnds
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, TCP
from kiboko.core.records.columns import has_ports, is_icmp, within
from kiboko.core.records.flow_table import NO_TIME, FlowTable

PAUSE = 300_000
"""Milliseconds without a record behind which the same ends and ports are another conversation: the longest time-out
that exporters commonly have."""
BY_OPENING, BY_BIFLOW, BY_TYPE, BY_TIME, BY_PORTS, BY_NOTHING = range(6)
"""What tells who began, in the order in which it is believed."""
_SYN, _ACK = 0x02, 0x10
_OPENING, _HAS_SYN, _INITIATOR, _RESPONDER = 1, 2, 4, 8
_SIDE = 8
_WELL_KNOWN = 1024
_NEVER = np.iinfo(np.int64).max
_SMALL = 4
"""As many records has a conversation that is looked at record by record: one of all, another of all."""
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
    def of(cls, order: NDArray[np.int64], starts: NDArray[np.int64], sizes: NDArray[np.int64]) -> Several:
        """Those of conversations whose rows begin somewhere in an order of all, int64[k], of some sizes, int64[k]."""
        is_small = sizes <= _SMALL
        further = []
        for place in range(1, _SMALL):
            number = np.flatnonzero(is_small & (sizes > place))
            if len(number):
                further.append((number, order[starts[number] + place]))
        large = np.flatnonzero(~is_small)
        rows = order[np.repeat(~is_small, sizes)] if len(large) else order[:0]
        return cls(order[starts], tuple(further), large, rows, np.cumsum(sizes[large]) - sizes[large])


@dataclass(frozen=True, slots=True)
class Conversations:
    """`k` conversations of a table of `n` records.

    `of` int64[n] is the number of each record's conversation, in the order of their first records; `side` bool[n] tells
    which go from the second of its ends to the first. `first` int64[k] are their first rows; `order` int64[n] the rows
    sorted by conversation, of which that of number i begin at `begin[i]`. `began` int8[k] is the side of whoever began,
    -1 where nothing tells; `by` uint8[k] what told; `is_contradicted` bool[k] whether the ports say otherwise.
    """

    of: NDArray[np.int64]
    side: NDArray[np.bool_]
    first: NDArray[np.int64]
    order: NDArray[np.int64]
    begin: NDArray[np.int64]
    began: NDArray[np.int8]
    by: NDArray[np.uint8]
    is_contradicted: NDArray[np.bool_]
    several: Several

    def __len__(self) -> int:
        return len(self.first)

    @property
    def taken_as_turned(self) -> NDArray[np.bool_]:
        """Of which the second end is taken to have begun, bool[k]: where nothing tells, whoever sent the first
        record."""
        return np.where(self.began >= 0, self.began == 1, self.side[self.first])

    def is_reply(self) -> NDArray[np.bool_]:
        """Which records are of whoever did not begin, bool[n]."""
        found: NDArray[np.bool_] = self.side != self.taken_as_turned[self.of]
        return found

    def union(self, bits: NDArray[Any]) -> NDArray[Any]:
        """The union of some bits of the records of each, [k]."""
        return self._of_each(np.bitwise_or, bits)

    def least(self, values: NDArray[np.int64]) -> NDArray[np.int64]:
        """The least value among the records of each, int64[k]."""
        return self._of_each(np.minimum, values)

    def most(self, values: NDArray[np.int64]) -> NDArray[np.int64]:
        """The greatest value among the records of each, int64[k]."""
        return self._of_each(np.maximum, values)

    def _of_each(self, together: np.ufunc, values: NDArray[Any]) -> NDArray[Any]:
        """What the values of the records of each come to. Most conversations are of few records."""
        found: NDArray[Any] = values[self.several.one]
        for number, rows in self.several.further:
            found[number] = together(found[number], values[rows])
        if len(self.several.large):
            found[self.several.large] = together.reduceat(values[self.several.rows], self.several.begin)
        return found

    def rows(self, number: int) -> NDArray[np.int64]:
        """The rows of one of them."""
        end = self.begin[number + 1] if number + 1 < len(self.begin) else len(self.order)
        return self.order[self.begin[number] : end]


def bring_together(table: FlowTable, ends: SeenEnds, served: RangeSet) -> Conversations:
    """The conversations of a table of at least one record, where a table is the window in which records may meet.

    Parameters
    ----------
    served : the services that somebody listens to or that have a name
    """
    key, side = _keys(table, ends)
    order = np.argsort(key)  # whatever the order within a conversation
    is_new = np.ones(len(order), dtype=np.bool_)
    ordered = key[order]
    is_new[1:] = ordered[1:] != ordered[:-1]
    order, is_new = _split_by_time(table, order, is_new)
    begin = np.flatnonzero(is_new)
    first = np.minimum.reduceat(order, begin)
    # Numbered by their first rows: the rows of each stay together.
    rank = np.argsort(first)
    sizes = np.diff(begin, append=len(order))[rank]
    starts = np.cumsum(sizes) - sizes
    order = order[np.repeat(begin[rank] - starts, sizes) + np.arange(len(order))]
    of = np.empty(len(order), dtype=np.int64)
    of[order] = np.repeat(np.arange(len(rank)), sizes)
    none = np.zeros(0)
    several = Several.of(order, starts, sizes)
    bare = Conversations(
        of, side, first[rank], order, starts, none.astype(np.int8), none.astype(np.uint8), none > 0, several
    )
    began, by, contradicted = _who_began(table, bare, served)
    return Conversations(of, side, first[rank], order, starts, began, by, contradicted, several)


def is_echo(table: FlowTable) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Which records are echo requests, and which echo replies (RFC 792, RFC 4443)."""
    kind = table.protocol.astype(np.int64) << 8 | table.detail >> 8
    return (kind == (ICMP << 8 | 8)) | (kind == (ICMP6 << 8 | 128)), (kind == ICMP << 8) | (kind == (ICMP6 << 8 | 129))


def _keys(table: FlowTable, ends: SeenEnds) -> tuple[NDArray[np.uint64], NDArray[np.bool_]]:
    """A 64-bit hash for each record that is equal within conversations, and the side that it comes from: of echo
    messages the first end is always the one that asks; other ICMP messages are answered by none."""
    identity = ends.identities(table.addresses).astype(np.uint64)
    ported = has_ports(table.protocol)
    protocol = table.protocol.astype(np.uint64)
    near = identity[table.source] << np.uint64(17)
    far = identity[table.destination] << np.uint64(17)
    near += np.where(ported, table.source_port + 1, 0).astype(np.uint64)
    far += np.where(ported, table.detail + 1, 0).astype(np.uint64)
    side = near > far
    icmp = is_icmp(table.protocol)
    extra = np.zeros(len(table), dtype=np.uint64)
    if icmp.any():
        asks, answers = is_echo(table)
        side = np.where(icmp, answers, side)
        extra = np.where(icmp & ~asks & ~answers, table.detail + 1, 0).astype(np.uint64)
    extra += _by_public(table, ends).astype(np.uint64) << np.uint64(18)
    one, other = np.where(side, far, near), np.where(side, near, far)
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
    shows = public[table.source] | public[table.destination]
    found: NDArray[np.bool_] = shows & ours[table.source] & ours[table.destination]
    return found


def _split_by_time(
    table: FlowTable, order: NDArray[np.int64], is_new: NDArray[np.bool_]
) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """Records of the same ends and ports, far from each other in time, taken apart. Those without a time stay with the
    first ones."""
    known = table.start != NO_TIME
    most, least = int(table.start.max()), int(np.where(known, table.start, _NEVER).min())
    if most - least <= PAUSE or most == NO_TIME:
        return order, is_new
    begin = np.flatnonzero(is_new)
    starts, last = table.start[order], table.last()[order]
    known = known[order]
    spread = np.maximum.reduceat(np.where(known, starts, 0), begin) - np.minimum.reduceat(
        np.where(known, starts, _NEVER), begin
    )
    wide = np.flatnonzero(spread > PAUSE)
    if not len(wide):
        return order, is_new
    order, is_new = order.copy(), is_new.copy()
    ends = np.append(begin[1:], len(order))
    for group in wide.tolist():
        part = slice(int(begin[group]), int(ends[group]))
        place = np.argsort(starts[part], kind="stable")
        order[part] = order[part][place]
        ended = np.maximum.accumulate(last[part][place])
        is_new[part] = np.concatenate(
            [[True], (starts[part][place][1:] - ended[:-1] > PAUSE) & (ended[:-1] != NO_TIME)]
        )
    return order, is_new


def _who_began(
    table: FlowTable, found: Conversations, served: RangeSet
) -> tuple[NDArray[np.int8], NDArray[np.uint8], NDArray[np.bool_]]:
    tcp = table.protocol == TCP
    flags = np.maximum(table.flags, 0)
    bits = np.zeros(len(table), dtype=np.int64)
    bits |= np.where(tcp & (flags & (_SYN | _ACK) == _SYN), _OPENING, 0)
    bits |= np.where(tcp & (flags & _SYN != 0), _HAS_SYN, 0)
    if table.direction is not None:
        bits |= np.where(table.direction == INITIATORS, _INITIATOR, 0)
        bits |= np.where(table.direction == RESPONDERS, _RESPONDER, 0)
    union = found.union(np.where(found.side, bits << _SIDE, bits))
    zero, one = union & 0xFF, union >> _SIDE
    began = np.full(len(found), -1, dtype=np.int8)
    by = np.full(len(found), BY_NOTHING, dtype=np.uint8)

    def decide(how: int, is_first: NDArray[np.bool_], is_second: NDArray[np.bool_]) -> None:
        told = (began < 0) & (is_first != is_second)
        began[told] = is_second[told]
        by[told] = how

    decide(BY_OPENING, zero & _OPENING > 0, one & _OPENING > 0)
    decide(BY_BIFLOW, (zero & _INITIATOR) + (one & _RESPONDER) > 0, (one & _INITIATOR) + (zero & _RESPONDER) > 0)
    protocol = table.protocol[found.first]
    icmp = is_icmp(protocol)
    decide(BY_TYPE, icmp, np.zeros(len(found), dtype=np.bool_))
    decide(BY_TIME, *_earlier(table, found, zero & one & _HAS_SYN > 0, protocol == TCP))
    ports = _by_ports(table, found, served)
    before = began.copy()
    decide(BY_PORTS, *ports)
    looks_first, looks_second = ports
    contradicted = (looks_first != looks_second) & (before >= 0) & (looks_second != (before == 1)) & ~icmp
    return began, by, contradicted


def _earlier(
    table: FlowTable, found: Conversations, both_opened: NDArray[np.bool_], is_tcp: NDArray[np.bool_]
) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Whose first packet came earlier, by one clock: at one known point, by more than its resolution, and where the
    records hold the conversation's beginning. Without the flags of TCP they are sure to only some time behind the
    beginning of the log."""
    none = np.zeros(len(found), dtype=np.bool_)
    is_known = np.array([name is not None for name in table.points], dtype=np.bool_)[table.point]
    is_known &= table.start != NO_TIME
    if not is_known.any():
        return none, none
    clock = found.least(np.where(is_known, table.point, _NEVER))
    mine = is_known & (table.point == clock[found.of])
    zero = found.least(np.where(mine & ~found.side, table.start, _NEVER))
    one = found.least(np.where(mine & found.side, table.start, _NEVER))
    times = table.start[is_known]
    resolution = 1 if (times % 1000).any() else 1000
    begun = np.minimum(zero, one) >= int(times.min()) + PAUSE
    sure = (zero != _NEVER) & (one != _NEVER) & np.where(is_tcp, both_opened, begun)
    return sure & (one - zero > resolution), sure & (zero - one > resolution)


def _by_ports(table: FlowTable, found: Conversations, served: RangeSet) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Of which conversations only the second end has a port that is listened to, listed or below 1024, so that the
    first began; and of which only the first has."""
    rows = found.first
    protocol = table.protocol[rows].astype(np.int64) << 16
    ported = has_ports(table.protocol[rows])
    near, far = table.source_port[rows].astype(np.int64), table.detail[rows].astype(np.int64)
    serves = [ported & (port >= 0) & ((port < _WELL_KNOWN) | within(served, protocol | np.maximum(port, 0)))
              for port in (near, far)]  # fmt: skip
    turned = found.side[rows]
    first, second = np.where(turned, serves[1], serves[0]), np.where(turned, serves[0], serves[1])
    return second & ~first, first & ~second
