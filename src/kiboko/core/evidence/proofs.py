"""What the records of a conversation prove, and what they do not (clauses E3 to E8).

A record is not judged for what it is: the records of a conversation together prove that its request arrived, that it
was answered, how far it came, that it was stopped or refused, or that nobody answered. Of all conversations few kinds
are told apart here: by which way records went, what they say, what their TCP flags tell, and whether they were taken
at points that the network file knows.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.conversations import Conversations
from kiboko.core.evidence.seen_ends import SeenEnds
from kiboko.core.evidence.segment_sizes import no_larger_than_resets
from kiboko.core.header.services import TCP
from kiboko.core.records.columns import beside, by_flags, distinct
from kiboko.core.records.extent import MARGIN
from kiboko.core.records.flow_table import EVENTS, NO_TIME, FlowTable
from kiboko.core.records.records import DENIED, PASSED, SEEN

_SYN, _RST, _ACK = 0x02, 0x04, 0x10
PLAIN, OPENING, RESET, ACKNOWLEDGES, UNCLEAR = range(5)
"""What a record is by its TCP flags: a packet like any other (or not of TCP); SYN without ACK; a reset and nothing
else; one with an ACK, which is no bare reset; or that is not told, since no flag is recorded (every segment has one:
who does not record them often has 0 for them) and its packets are small enough for resets."""
KINDS = 5
"""How many of these there are."""
HALF = len(EVENTS) * KINDS * 2
"""Bits for the records of one side of a conversation."""
ALONE, UNANSWERED, UNASKED, UNSETTLED = range(4)
"""What a conversation's own records do not tell and those of others do: nothing; where replies of others were recorded
none of its own was (E7); a reply without its request, where requests of others were recorded (E8); that none of its own
was so far, and one may be to come, or may not have been read."""
_BUCKET = 300_000


@dataclass(frozen=True, slots=True)
class Proof:
    """What is proved of a conversation, whoever its ends are.

    `arrived`: the responder sent what only an accepted request can cause (E3). `answered`: the initiator sent what
    only a reply can cause (E4). `denied`, `reply_denied`: a record says so (E6). `passed`: at a point that the
    network file does not know (E5). `refused`: nothing but resets came back; `unclear`: something, which may be
    resets. `has_request`: records of the initiator are there which are surely no resets; `reset_alone`: nothing but
    its resets. `followed_denied`: one of these says that it was denied and is surely no opening, so that it may
    have followed an answer; `only_opens`: all of these are openings, and resets perhaps; `opens`: one of them is an
    opening that was not denied. `is_lone`: what was
    recorded came from beyond the network, and may belong to no connection (`alone_from_beyond`). `is_placed`: a
    record that says nothing of the kind was taken at a point that the network file knows; `passed_at_point`: such a
    one says that it passed there. Where these points are on its way is no part of this (`passages`).
    """

    arrived: bool
    answered: bool
    denied: bool
    reply_denied: bool
    passed: bool
    refused: bool
    unclear: bool
    has_request: bool
    reset_alone: bool
    followed_denied: bool
    only_opens: bool
    opens: bool
    is_lone: bool
    is_placed: bool
    passed_at_point: bool
    context: int

    @property
    def observed(self) -> str:
        """What was observed, in one word."""
        if self.answered:
            return "answered"
        if self.reply_denied:
            return DENIED
        if self.arrived and self.is_lone:
            return PASSED if self.passed_at_point else "something"
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
        return PASSED if self.passed or self.passed_at_point else SEEN


_DENIED_REQUESTS = sum(1 << place for place in range(HALF) if EVENTS[place % (len(EVENTS) * KINDS) // KINDS] == DENIED)
"""The bits of requests that were denied, of those of `mark_bits`."""
BUT_RESETS = sum(1 << place for place in range(HALF) if place % KINDS != RESET)
"""The bits of requests that are, or may be, more than resets."""
OPENINGS = sum(1 << place for place in range(HALF) if place % KINDS == OPENING)
SURE = sum(1 << place for place in range(HALF) if place % KINDS not in (RESET, UNCLEAR))
"""The bits of one side's openings, and of what is surely no reset."""


def _told_by_flags() -> NDArray[np.uint8]:
    """What a record of TCP is by its flags, as a table."""
    flags = np.arange(1 << 6)
    told = np.where(flags & (_SYN | _ACK) == _SYN, OPENING, np.where(flags & _ACK > 0, ACKNOWLEDGES, PLAIN))
    told = np.where((flags & 0x3F == _RST) | (flags & 0x3F == _RST | _ACK), RESET, told)
    told[0] = UNCLEAR
    return by_flags(told.astype(np.uint8), UNCLEAR)


_BY_FLAGS = _told_by_flags()


def flag_kinds(table: FlowTable) -> NDArray[np.uint8]:
    """What each record is by its TCP flags, uint8[n]."""
    told = np.where(table.protocol == TCP, _BY_FLAGS[table.flags], np.uint8(PLAIN))
    rows = np.flatnonzero(told == UNCLEAR)
    told[rows[~no_larger_than_resets(table, rows)]] = PLAIN
    return told


def mark_bits(
    table: FlowTable, found: Conversations, is_mapped: NDArray[np.bool_], kinds: NDArray[np.uint8]
) -> NDArray[np.int64]:
    """For each conversation which kinds of records it has on its two sides, as bits, int64[k]. `kinds` are those of
    `flag_kinds`."""
    place = table.event * np.uint8(KINDS) + kinds
    place += is_mapped * np.uint8(len(EVENTS) * KINDS) + found.side * np.uint8(HALF)
    united: NDArray[np.int64] = found.union(np.left_shift(1, np.arange(2 * HALF))[place])
    return united


def refused(bits: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Of which conversations an opening of one side was met by nothing but resets of the other, bool[k]. `bits` are
    those of `mark_bits`."""
    one, other = bits & (1 << HALF) - 1, bits >> HALF
    found: NDArray[np.bool_] = _is_refused(one, other) | _is_refused(other, one)
    return found


def perhaps_answered(bits: NDArray[np.int64]) -> NDArray[np.int64]:
    """The same bits of such conversations, with the resets as what may be none of them."""
    one, other = bits & (1 << HALF) - 1, bits >> HALF
    further = UNCLEAR - RESET
    ones = np.where(_is_refused(other, one), one << further, one)
    others = np.where(_is_refused(one, other), other << further, other)
    found: NDArray[np.int64] = ones | others << HALF
    return found


def _is_refused(mine: NDArray[np.int64], theirs: NDArray[np.int64]) -> NDArray[np.bool_]:
    found: NDArray[np.bool_] = (mine & OPENINGS > 0) & (theirs > 0) & (theirs & BUT_RESETS == 0)
    return found


def turned_bits(bits: NDArray[np.int64]) -> NDArray[np.int64]:
    """The same with the sides exchanged."""
    low = (1 << HALF) - 1
    found: NDArray[np.int64] = (bits & low) << HALF | bits >> HALF
    return found


def read_proof(bits: int, context: int, is_lone: bool = False) -> Proof:
    """What kinds of records prove, where the first side is the initiator's. Of a conversation that `is_lone` an ACK
    tells of no answer."""
    request, reply = _kinds_of(bits & (1 << HALF) - 1), _kinds_of(bits >> HALF)
    answering = [each for each in reply if each[2] not in (RESET, UNCLEAR)]
    arrived = bool(answering)
    answered = not is_lone and any(kind == ACKNOWLEDGES and event != DENIED for _, event, kind in request)
    is_refused = bool(reply) and not arrived and not answered and all(kind == RESET for _, _, kind in reply)
    denied = any(event == DENIED for _, event, _ in request)
    # What belongs to no connection is reset by whoever it reaches.
    is_of_none = is_lone and is_refused and not denied
    has_request = not is_of_none and any(kind not in (RESET, UNCLEAR) for _, _, kind in request)
    at_points = {event for mapped, event, _ in (*request, *answering) if mapped}
    return Proof(
        arrived=arrived,
        answered=answered,
        denied=denied,
        reply_denied=any(event == DENIED for _, event, _ in answering),
        passed=any(event == PASSED and not mapped for mapped, event, _ in request),
        refused=is_refused,
        unclear=not arrived and not answered and any(kind == UNCLEAR for _, _, kind in reply),
        has_request=has_request,
        reset_alone=not reply and all(kind == RESET for _, _, kind in request),
        followed_denied=any(event == DENIED and kind not in (OPENING, RESET) for _, event, kind in request),
        only_opens=all(kind in (OPENING, RESET) for _, _, kind in request),
        opens=any(kind == OPENING and event != DENIED for _, event, kind in request),
        is_lone=is_lone,
        is_placed=bool(at_points - {DENIED}),
        passed_at_point=PASSED in at_points,
        context=context,
    )


def _kinds_of(half: int) -> list[tuple[bool, str, int]]:
    """Kinds of records by their bits: whether taken at a known point, what they say, what their flags tell."""
    found = []
    for place in range(HALF):
        if half >> place & 1:
            mapped, rest = divmod(place, len(EVENTS) * KINDS)
            found.append((bool(mapped), EVENTS[rest // KINDS], rest % KINDS))
    return found


def contexts(
    table: FlowTable, found: Conversations, ends: SeenEnds, initiators: NDArray[np.int64],
    responders: NDArray[np.int64], bits: NDArray[np.int64], kinds: NDArray[np.uint8],
    points: NDArray[np.int64] | None, unheard: NDArray[np.bool_] | None,
    outer: NDArray[np.bool_] | None = None,
) -> NDArray[np.int64]:  # fmt: skip
    """What the records of others tell of each conversation, int64[k] (E7, E8).

    A point counts as recording both directions of a subnet's traffic at a time where it recorded both of another
    conversation with that subnet then; and as recording them whole where no conversation that was surely answered is
    without its replies there, which sampled and one-sided logs are full of. For a reply from beyond the network it is
    the subnet of who would have asked for it; silence is not told of anybody there. What names no point that is known
    was taken at points of its own in each file.

    Parameters
    ----------
    initiators, responders : int64[k], the atoms of the ends that sent, and that were sent to; -1 where nothing tells
        which these are
    bits : int64[k], as `mark_bits` has them
    kinds : uint8[n], as `flag_kinds` has them: what is doubtful in the light of others is an acknowledgement here
    points : int64[n], the numbers of the points that the network file knows, 0 for any other; None for no such
    unheard : bool[n], near which records may be missing, so that no silence is told of them; None for none
    outer : bool[n], which may have been cut off from others of theirs, and tell of no lost replies; None for none
    """
    result = np.full(len(found), ALONE, dtype=np.int64)
    known = (responders >= 0) & (found.began >= 0)
    subnets = np.full(len(found), -1, dtype=np.int64)
    subnets[known] = ends.subnets(responders[known])
    beyond = known & (subnets < 0)
    beyond[beyond] = ends.is_foreign(responders[beyond])
    subnets[beyond] = ends.subnets(initiators[beyond])
    known &= subnets >= 0
    if not known.any():
        return result
    bits = np.where(found.began == 1, turned_bits(bits), bits)
    has_request, has_reply = bits & (1 << HALF) - 1 > 0, bits >> HALF > 0
    acks = found.union(np.where(kinds == ACKNOWLEDGES, 1 + found.side.astype(np.uint8), np.uint8(0)))
    acknowledged = acks & np.where(found.began == 1, 2, 1) > 0
    taken_at, places = _taken_at(table, points)
    if places > 1 and len(found) < len(table):
        cells = distinct(found.of, taken_at)
        of, point = found.of[cells.first], taken_at[cells.first]
        is_reply = found.side != (found.began == 1)[found.of]
        asks, answers = (np.zeros(len(cells), dtype=np.bool_) for _ in range(2))
        asks[cells.codes[~is_reply]] = True
        answers[cells.codes[is_reply]] = True
        # What one place recorded of a try that another saw answered much later, from the same port, has lost nothing.
        sure = acknowledged & _is_brief(table, found)
        sure = sure[of]
        sure[cells.codes[(kinds == ACKNOWLEDGES) & ~is_reply]] = True
    else:  # each has records of one point
        of, point, asks, answers = np.arange(len(found)), taken_at[found.first], has_request, has_reply
        sure = acknowledged
    bucket = _buckets(table.start, found)
    usable = known[of]
    is_beyond = beyond[of]
    partial = usable & sure & asks & ~answers & ~is_beyond
    if outer is not None and partial.any():
        partial &= ~found.union(outer)[of]
    lost = np.zeros(places, dtype=np.bool_)
    lost[point[partial]] = True
    width = np.int64(places)
    size = np.int64(int(subnets.max()) + 2)
    place = (bucket[of] * width + point) * size + subnets[of]  # where and when, as one number
    step = width * size
    # Of what was denied nothing is to come, and nobody answers a reset, or flags that open nothing.
    waits = ~has_reply & ~acknowledged & (bits & _DENIED_REQUESTS == 0) & (bits & BUT_RESETS > 0)
    opens_nothing = (kinds == PLAIN) & (table.protocol == TCP) & (table.flags > 0)
    if opens_nothing.any():
        waits &= ~found.union(opens_nothing) | (bits & OPENINGS > 0)
    silent, unasked = asks & waits[of] & ~lost[point] & ~is_beyond, answers & ~has_request[of]
    # Which have whole conversations of others at their place and about their time.
    rows = np.flatnonzero(usable & (silent | unasked))
    if not len(rows):
        return result
    whole = usable & asks & answers
    is_beside = beside(place[rows], place[whole & ~is_beyond], int(step))
    lone = np.flatnonzero(is_beyond[rows])
    if len(lone):
        is_beside[lone] = beside(place[rows[lone]], place[whole], int(step))
    rows = rows[is_beside]
    settled = _settled(table, found, of[rows], point[rows], taken_at, places)
    if unheard is not None:
        settled &= ~found.union(unheard)[of[rows]]
    is_silent = silent[rows]
    result[of[rows[is_silent & ~settled]]] = UNSETTLED
    result[of[rows[is_silent & settled]]] = UNANSWERED
    result[of[rows[unasked[rows]]]] = UNASKED
    return result


def _taken_at(table: FlowTable, points: NDArray[np.int64] | None) -> tuple[NDArray[np.int64], int]:
    """Where each record was taken, int64[n], a number below the second value: at its point, but of several files at a
    point of its file's own where the network file does not know it."""
    width = len(table.points)
    if table.file is None:
        return table.point, width
    own = table.point + (table.file.astype(np.int64) + 1) * width
    places = distinct(own if points is None else np.where(points > 0, table.point, own))
    return places.codes, len(places)


def _is_brief(table: FlowTable, found: Conversations) -> NDArray[np.bool_]:
    """Which conversations may have been recorded at all places at about one time, bool[k]."""
    never = np.iinfo(np.int64).max
    begun = found.least(np.where(table.start == NO_TIME, never, table.start))
    brief: NDArray[np.bool_] = (begun == never) | (found.most(table.last()) - begun <= 2 * MARGIN)
    return brief


def _buckets(start: NDArray[np.int64], found: Conversations) -> NDArray[np.int64]:
    """The five minutes in which each conversation begins, int64[k]."""
    least, most = int(start.min()), int(start.max())
    if least != NO_TIME and least // _BUCKET == most // _BUCKET:
        return np.full(len(found), least // _BUCKET)
    return found.least(start if least != NO_TIME else np.where(start == NO_TIME, 0, start)) // _BUCKET


def _settled(
    table: FlowTable, found: Conversations, of: NDArray[np.int64], point: NDArray[np.int64],
    taken_at: NDArray[np.int64], places: int,
) -> NDArray[np.bool_]:  # fmt: skip
    """Which conversations at which points, given as columns, ended so long before the last record there that no reply
    is to come any more. `taken_at` int64[n] is at which of some `places` each record was taken."""
    end = table.last()
    if places == 1:
        return ~found.union(end + MARGIN > end.max())[of]
    latest = np.full(places, NO_TIME, dtype=np.int64)
    np.maximum.at(latest, taken_at, end)
    settled: NDArray[np.bool_] = found.most(end)[of] + MARGIN <= latest[point]
    return settled
