"""The kinds of proof that were met, by number: very many conversations have one of a few."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence import judging
from kiboko.core.evidence.conversations import Conversations
from kiboko.core.evidence.judging import IS_BREAK, IS_LEAK
from kiboko.core.evidence.late_denials import FORGOTTEN, HOW_LATE, REPLY_LATE
from kiboko.core.evidence.proofs import Proof, read_proof, turned_bits
from kiboko.core.records.columns import distinct, numbered
from kiboko.core.records.flow_table import NO_TIME, FlowTable

Rows = NDArray[np.int64]
_AS_NEW, _OLDER, _BEGUN_BEFORE, _ENDED_SINCE, _UNDATED = range(5)
_AGES = 5
_DENIED = (judging.DENIED_BREAK, judging.REPLY_BREAK)


@dataclass(frozen=True, slots=True)
class KnownProof:
    """A kind of proof, how old it is beside the network file (as `ages_of` has it), whether the ports say that the
    other end began, and how what was denied may have come late (as `how_late` has it)."""

    proof: Proof
    age: int
    is_contradicted: bool
    late: int


class KnownProofs:
    """Kinds of proof, numbered in the order in which they are met."""

    def __init__(self) -> None:
        self._listed: list[KnownProof] = []
        self._number_of: dict[tuple[int, ...], int] = {}

    def __getitem__(self, number: int) -> KnownProof:
        return self._listed[number]

    def __iter__(self) -> Iterator[KnownProof]:
        return iter(self._listed)

    def told(self, proof: Rows, *names: str) -> list[NDArray[np.bool_]]:
        """What some kinds of proof prove, by the names of `Proof`, bool[n] each."""
        listed = [self._listed[number].proof for number in proof.tolist()]
        return [np.array([getattr(each, name) for each in listed], dtype=np.bool_) for name in names]

    def numbers(
        self, found: Conversations, bits: Rows, around: Rows, ages: Rows, late: NDArray[np.uint8],
        lone: NDArray[np.bool_],
    ) -> tuple[Rows, Rows]:  # fmt: skip
        """The kinds of proof of conversations, if the one end began, and if the other did. `bits` int64[k] are what
        their records say, `around` int64[k] what others say near them, `ages` int64[k] as `ages_of` has it, `late`
        uint8[2, k] as `how_late` has it, `lone` bool[k] as `lone_from_beyond`."""
        rest = (around * _AGES + ages) * 2 + found.is_contradicted
        rest = ((rest * HOW_LATE + late[0]) * HOW_LATE + late[1]) * 2 + lone
        kinds = distinct(bits, rest)
        numbers = np.empty((2, len(kinds)), dtype=np.int64)
        either = bits[kinds.first], turned_bits(bits[kinds.first])
        for index, row in enumerate(kinds.first.tolist()):
            context, age, contradicted = int(around[row]), int(ages[row]), bool(found.is_contradicted[row])
            is_lone = bool(lone[row])
            for turned in (False, True):
                own, how = int(either[turned][index]), int(late[int(turned), row])
                key = own, context, age, contradicted, how, is_lone
                if key not in self._number_of:
                    self._number_of[key] = len(self._listed)
                    self._listed.append(KnownProof(read_proof(own, context, is_lone), age, contradicted, how))
                numbers[int(turned), index] = self._number_of[key]
        return numbers[0][kinds.codes], numbers[1][kinds.codes]

    def aged(self, reason: NDArray[np.uint8], proof: Rows) -> NDArray[np.uint8]:
        """Reasons beside kinds of proof, uint8[n]: what is older than the network file, or began before it, is no leak
        and no break, nor what may be, for all that is recorded."""
        numbers, which = numbered(proof)
        listed = [self._listed[number] for number in numbers.tolist()]
        ages = np.array([each.age for each in listed], dtype=np.int64)[which]
        late = np.array([each.late for each in listed], dtype=np.uint8)[which]
        reason = np.where((late == FORGOTTEN) & np.isin(reason, _DENIED), np.uint8(judging.LATE_DENIED), reason)
        is_late_reply = (late == REPLY_LATE) & (reason == judging.REPLY_BREAK)
        reason = np.where(is_late_reply, np.uint8(judging.LATE_REPLY), reason)
        is_leak, is_break = IS_LEAK[reason], IS_BREAK[reason]
        cases = (
            ((is_leak | is_break) & (ages == _OLDER), judging.BEFORE_AS_OF),
            ((is_leak | is_break) & (ages == _UNDATED), judging.UNDATED),
            (is_leak & (ages == _BEGUN_BEFORE), judging.OLDER_SESSION),
            (is_leak & (ages == _ENDED_SINCE), judging.BEGINNING_UNDATED),
        )
        return np.select([case for case, _ in cases], [np.uint8(code) for _, code in cases], reason)


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
