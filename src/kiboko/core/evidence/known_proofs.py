"""The kinds of proof that were met, by number: very many conversations have one of a few."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence import judging
from kiboko.core.evidence.conversations import Conversations
from kiboko.core.evidence.judging import IS_BREAK, IS_LEAK
from kiboko.core.evidence.proofs import Proof, may_open, read_proof, turned_bits
from kiboko.core.header.services import TCP
from kiboko.core.records.columns import distinct, numbered
from kiboko.core.records.flow_table import EVENTS, NO_TIME, FlowTable
from kiboko.core.records.records import DENIED

Rows = NDArray[np.int64]
_AS_NEW, _OLDER, _BEGUN_BEFORE, _ENDED_SINCE, _UNDATED = range(5)
_AGES = 5
_DENIED = (judging.DENIED_BREAK, judging.REPLY_BREAK)
_DENIED_EVENT = EVENTS.index(DENIED)
_SYN, _FLAGS = 0x02, 0x3F


@dataclass(frozen=True, slots=True)
class KnownProof:
    """A kind of proof, how old it is beside the network file (as `ages_of` has it), whether the ports say that the
    other end began, and whether what was denied may have come late (as `late_denials` has it)."""

    proof: Proof
    age: int
    is_contradicted: bool
    is_late: bool


class KnownProofs:
    """Kinds of proof, numbered in the order in which they are met."""

    def __init__(self) -> None:
        self._listed: list[KnownProof] = []
        self._number_of: dict[tuple[int, ...], int] = {}

    def __getitem__(self, number: int) -> KnownProof:
        return self._listed[number]

    def __iter__(self) -> Iterator[KnownProof]:
        return iter(self._listed)

    def numbers(
        self, found: Conversations, bits: Rows, around: Rows, ages: Rows, late: NDArray[np.bool_],
        lone: NDArray[np.bool_],
    ) -> tuple[Rows, Rows]:  # fmt: skip
        """The kinds of proof of conversations, if the one end began, and if the other did. `bits` int64[k] are what
        their records say, `around` int64[k] what others say near them, `ages` int64[k] as `ages_of` has it, `late`
        bool[2, k] as `late_denials` has it, `lone` bool[k] as `lone_from_beyond`."""
        rest = ((((around * _AGES + ages) * 2 + found.is_contradicted) * 2 + late[0]) * 2 + late[1]) * 2 + lone
        kinds = distinct(bits, rest)
        numbers = np.empty((2, len(kinds)), dtype=np.int64)
        either = bits[kinds.first], turned_bits(bits[kinds.first])
        for index, row in enumerate(kinds.first.tolist()):
            context, age, contradicted = int(around[row]), int(ages[row]), bool(found.is_contradicted[row])
            is_lone = bool(lone[row])
            for turned in (False, True):
                own, is_late = int(either[turned][index]), bool(late[int(turned), row])
                key = own, context, age, contradicted, is_late, is_lone
                if key not in self._number_of:
                    self._number_of[key] = len(self._listed)
                    self._listed.append(KnownProof(read_proof(own, context, is_lone), age, contradicted, is_late))
                numbers[int(turned), index] = self._number_of[key]
        return numbers[0][kinds.codes], numbers[1][kinds.codes]

    def aged(self, reason: NDArray[np.uint8], proof: Rows) -> NDArray[np.uint8]:
        """Reasons beside kinds of proof, uint8[n]: what is older than the network file, or began before it, is no leak
        and no break, nor what may be, for all that is recorded."""
        numbers, which = numbered(proof)
        listed = [self._listed[number] for number in numbers.tolist()]
        ages = np.array([each.age for each in listed], dtype=np.int64)[which]
        is_late = np.array([each.is_late for each in listed], dtype=np.bool_)[which]
        reason = np.where(is_late & np.isin(reason, _DENIED), np.uint8(judging.LATE_DENIED), reason)
        is_leak, is_break = IS_LEAK[reason], IS_BREAK[reason]
        cases = (
            ((is_leak | is_break) & (ages == _OLDER), judging.BEFORE_AS_OF),
            ((is_leak | is_break) & (ages == _UNDATED), judging.UNDATED),
            (is_leak & (ages == _BEGUN_BEFORE), judging.OLDER_SESSION),
            (is_leak & (ages == _ENDED_SINCE), judging.BEGINNING_UNDATED),
        )
        return np.select([case for case, _ in cases], [np.uint8(code) for _, code in cases], reason)


def late_denials(table: FlowTable, found: Conversations, lone: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """In which conversations what was denied may have come late, to a firewall that had forgotten them, if the first
    end began and if the second did, bool[2, k]: those of which nobody's opening was recorded, where what was denied is
    surely none, or the replies alone were recorded. Of those that are `lone` (`lone_from_beyond`) SYN with ACK answers
    no opening for sure. Where a point has flags for other segments, 0 is none, as scans send it; and without flags
    packets that are smaller or larger than openings are none."""
    is_denied = table.event == _DENIED_EVENT
    if not is_denied.any():
        return np.zeros((2, len(found)), dtype=np.bool_)
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


def ages_of(table: FlowTable, found: Conversations, as_of: int) -> Rows:
    """Of each conversation, int64[k], beside a network file that was true at `as_of` (milliseconds since 1970,
    `NO_TIME` where it does not say): 0: as new; 1: older; 2: begun before it and ended since; 3: ended since, and when
    it began is not recorded; 4: without a time."""
    if as_of == NO_TIME or int(table.start.min()) >= as_of:
        return np.full(len(found), _AS_NEW, dtype=np.int64)
    known = table.start != NO_TIME
    begun = found.least(np.where(known, table.start, as_of))
    has_begun = found.most(known.astype(np.int64)) > 0
    last = found.most(table.last())
    cases = [~has_begun & (last == NO_TIME), last < as_of, ~has_begun, begun < as_of]
    return np.select(cases, [_UNDATED, _OLDER, _ENDED_SINCE, _BEGUN_BEFORE], _AS_NEW)
