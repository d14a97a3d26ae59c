"""What the records of a conversation prove, and what they do not (clauses E3 to E8).

A record is not judged for what it is: the records of a conversation together prove that its request arrived, that it
was answered, how far it came, that it was stopped or refused, or that nobody answered. Of all conversations few kinds
are told apart here, by *marks*: which way records went, what they say, what their TCP flags tell, and where they were
taken.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.conversations import Conversations
from kiboko.core.evidence.seen_ends import SeenEnds
from kiboko.core.header.services import TCP
from kiboko.core.records.columns import Distinct, among, distinct
from kiboko.core.records.flow_table import EVENTS, NO_TIME, FlowTable
from kiboko.core.records.records import DENIED, PASSED, SEEN

_SYN, _RST, _ACK = 0x02, 0x04, 0x10
PLAIN, OPENING, RESET, ACKNOWLEDGES, UNCLEAR = range(5)
"""What a record is by its TCP flags: a packet like any other (or not of TCP); SYN without ACK; a reset and nothing
else; one with an ACK, which is no bare reset; or that is not told, since the flags are not recorded and its packets are
small enough for resets."""
_KINDS = 5
_LARGEST_RESET = {4: 58, 6: 78}
"""Octets of a reset, which has no options (RFC 9293), with the frame that some exporters count in."""
_HALF = len(EVENTS) * _KINDS * 2
ALONE, UNANSWERED, UNASKED = range(3)
"""What a conversation's own records do not tell and those of others do: nothing; where replies of others were recorded
none of its own was (E7); a reply without its request, where requests of others were recorded (E8)."""
_BUCKET = 300_000
_SETTLING = 10_000
"""Milliseconds before the end of a log in which a reply may still be to come."""


@dataclass(frozen=True, slots=True)
class Mark:
    """Records of a conversation at a known observation point. `event` is what they say; `is_answer` whether
    they are surely no resets; `source_is_public` and
    `destination_is_public` whether they show our ends by their public addresses."""

    point: int
    event: str
    is_reply: bool
    is_answer: bool
    source_is_public: bool
    destination_is_public: bool


@dataclass(frozen=True, slots=True)
class Proof:
    """What is proved of a conversation, whoever its ends are.

    `arrived`: the responder sent what only an accepted request can cause (E3). `answered`: the initiator sent what only
    a reply can cause (E4). `denied`, `reply_denied`: a record says so (E6). `passed`: at a point that the network file
    does not know (E5). `refused`: nothing but resets came back; `unclear`: something, which may be resets.
    `has_request`: records of the initiator are there which are surely no resets. `marks` are those at points that the
    network file knows.
    """

    arrived: bool
    answered: bool
    denied: bool
    reply_denied: bool
    passed: bool
    refused: bool
    unclear: bool
    has_request: bool
    context: int
    marks: tuple[Mark, ...] = ()

    @property
    def observed(self) -> str:
        """What was observed, in one word."""
        if self.answered:
            return "answered"
        if self.reply_denied:
            return DENIED
        if self.arrived:
            return "arrived"
        if self.denied:
            return DENIED
        if self.refused:
            return "refused"
        if self.unclear:
            return "something"
        if self.context == UNANSWERED:
            return "silent"
        passed = self.passed or any(mark.event == PASSED for mark in self.marks)
        return PASSED if passed else SEEN


def flag_kinds(table: FlowTable) -> NDArray[np.int64]:
    """What each record is by its TCP flags, int64[n]."""
    flags = table.flags
    told = np.where(flags & (_SYN | _ACK) == _SYN, OPENING, np.where(flags & _ACK > 0, ACKNOWLEDGES, PLAIN))
    told = np.where((flags & 0x3F == _RST) | (flags & 0x3F == _RST | _ACK), RESET, told)
    largest = np.where(table.addresses.family == 6, _LARGEST_RESET[6], _LARGEST_RESET[4])[table.source]
    small = table.octets <= table.packets * largest
    told = np.where(flags >= 0, told, np.where(small, UNCLEAR, PLAIN))
    return np.where(table.protocol == TCP, told, PLAIN).astype(np.int64)


def mark_bits(
    table: FlowTable, found: Conversations, is_mapped: NDArray[np.bool_], kinds: NDArray[np.int64]
) -> NDArray[np.int64]:
    """For each conversation which kinds of records it has on its two sides, as bits, int64[k]. `kinds` are those of
    `flag_kinds`."""
    place = is_mapped * (len(EVENTS) * _KINDS) + table.event.astype(np.int64) * _KINDS + kinds
    bits = np.left_shift(np.int64(1), place + found.side * _HALF)
    united: NDArray[np.int64] = found.union(bits)
    return united


def turned_bits(bits: NDArray[np.int64]) -> NDArray[np.int64]:
    """The same with the sides exchanged."""
    low = (1 << _HALF) - 1
    found: NDArray[np.int64] = (bits & low) << _HALF | bits >> _HALF
    return found


def read_proof(bits: int, marks: tuple[Mark, ...], context: int) -> Proof:
    """What kinds of records prove, where the first side is the initiator's."""
    request, reply = _kinds_of(bits & (1 << _HALF) - 1), _kinds_of(bits >> _HALF)
    answering = [each for each in reply if each[2] not in (RESET, UNCLEAR)]
    arrived = bool(answering)
    answered = any(kind == ACKNOWLEDGES and event != DENIED for _, event, kind in request)
    return Proof(
        arrived=arrived,
        answered=answered,
        denied=any(event == DENIED for _, event, _ in request),
        reply_denied=any(event == DENIED for _, event, _ in answering),
        passed=any(event == PASSED and not mapped for mapped, event, _ in request),
        refused=bool(reply) and not arrived and not answered and all(kind == RESET for _, _, kind in reply),
        unclear=not arrived and not answered and any(kind == UNCLEAR for _, _, kind in reply),
        has_request=any(kind not in (RESET, UNCLEAR) for _, _, kind in request),
        context=context,
        marks=tuple(each for each in marks if not (each.is_reply and not each.is_answer)),
    )


def _kinds_of(half: int) -> list[tuple[bool, str, int]]:
    """Kinds of records by their bits: whether taken at a known point, what they say, what their flags tell."""
    found = []
    for place in range(_HALF):
        if half >> place & 1:
            mapped, rest = divmod(place, len(EVENTS) * _KINDS)
            found.append((bool(mapped), EVENTS[rest // _KINDS], rest % _KINDS))
    return found


def contexts(
    table: FlowTable, found: Conversations, ends: SeenEnds, responders: NDArray[np.int64], kinds: NDArray[np.int64]
) -> NDArray[np.int64]:
    """What the records of others tell of each conversation, int64[k] (E7, E8).

    A point counts as recording both directions of a subnet's traffic at a time where it recorded both of another
    conversation with that subnet then; and as recording them whole where no conversation that was surely answered is
    without its replies there, which sampled and one-sided logs are full of.

    Parameters
    ----------
    responders : int64[k], the atoms of the ends that were sent to; -1 where nothing tells which these are
    kinds : int64[n], as `flag_kinds` has them
    """
    result = np.full(len(found), ALONE, dtype=np.int64)
    known = (responders >= 0) & (found.began >= 0)
    subnets = np.full(len(found), -1, dtype=np.int64)
    subnets[known] = ends.subnets(responders[known])
    known &= subnets >= 0
    if not known.any():
        return result
    if len(table.points) > 1 and len(found) < len(table):
        cells = distinct(found.of, table.point)
    else:
        cells = Distinct(found.of, found.first)  # each has records of one point
    of, point = found.of[cells.first], table.point[cells.first]
    is_reply = found.side != (found.began == 1)[found.of]
    asks, answers = (np.zeros(len(cells), dtype=np.bool_) for _ in range(2))
    asks[cells.codes[~is_reply]] = True
    answers[cells.codes[is_reply]] = True
    acknowledged = np.zeros(len(found), dtype=np.bool_)
    acknowledged[found.of[~is_reply & (kinds == ACKNOWLEDGES)]] = True
    begin, last = found.least(np.where(table.start == NO_TIME, 0, table.start)), found.most(table.last())
    bucket = begin // _BUCKET
    usable = known[of]
    whole = usable & asks & answers
    partial = usable & (acknowledged[of] & asks & ~answers)
    lost = np.zeros(len(table.points), dtype=np.bool_)
    lost[point[partial]] = True
    width = np.int64(len(table.points))
    size = np.int64(int(subnets.max()) + 2)
    place = (bucket[of] * width + point) * size + subnets[of]
    step = width * size
    complete = np.unique(place[whole])

    def near(cell: NDArray[np.bool_]) -> NDArray[np.bool_]:
        """Which of some cells have whole conversations of others at their place and about their time."""
        return among(place, np.concatenate([complete - step, complete, complete + step])) & cell

    latest = np.full(len(table.points), NO_TIME, dtype=np.int64)
    np.maximum.at(latest, table.point, table.last())
    settled = last[of] + _SETTLING <= latest[point]
    has_reply = np.zeros(len(found), dtype=np.bool_)
    has_reply[found.of[is_reply]] = True
    has_request = np.zeros(len(found), dtype=np.bool_)
    has_request[found.of[~is_reply]] = True
    silent = near(usable & asks & ~has_reply[of] & ~acknowledged[of] & settled & ~lost[point])
    result[of[silent]] = UNANSWERED
    unasked = near(usable & answers & ~has_request[of])
    result[of[unasked]] = UNASKED
    return result
