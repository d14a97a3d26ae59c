"""What services come to for very many pairs of ends: each distinct outcome by a number, and read once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.ranges import EMPTY, RangeSet
from kiboko.core.reachability.space import SpaceEnd
from kiboko.core.tables.kinds import Kinds, Words
from kiboko.core.tables.traces import Marks, hashed
from kiboko.core.walk.walk import ALLOWED, BLOCKED, ONE_WAY, PARTLY, UNKNOWN

Rows = NDArray[np.int64]
VERDICTS = (ALLOWED, PARTLY, UNKNOWN, ONE_WAY)
"""What gets through, at least in part, in the order in which it is shown."""
_BLOCKED = 0
_PARTLY = VERDICTS.index(PARTLY) + 1
_SLOT_BITS = 16


@dataclass(frozen=True, slots=True)
class Status:
    """What a service comes to for a pair of ends: a place in `VERDICTS` from 1, 0 for blocked; and its client ports."""

    verdict: int
    ports: RangeSet = EMPTY

    @property
    def verdict_text(self) -> str:
        """The verdict."""
        return VERDICTS[self.verdict - 1] if self.verdict else BLOCKED


class Statuses:
    """What services come to for pairs of ends, as numbers: each distinct outcome is read once. Outcomes are told apart
    by a hash of 64 bits."""

    def __init__(self, kinds: Kinds, senders: Sequence[SpaceEnd], like: Statuses | None = None) -> None:
        """`like` is another whose kinds are the same: equal outcomes have equal numbers in both."""
        self.kinds = kinds
        ports = [each.ports for each in senders]
        self.sends = kinds.sent_by(ports)
        """The kinds that each sender may send, uint64[senders, words]."""
        self._sent_marks = hashed(self.sends, len(VERDICTS))
        self._is_sent_alike = len(set(ports)) == 1
        self.known: list[Status] = [Status(_BLOCKED)] if like is None else like.known
        self._numbers: dict[Status, int] = {self.known[0]: 0} if like is None else like._numbers
        # Distinct outcomes by their hash, and what is read off those that were asked about; the first is of no pair.
        self._ids: _Numbered = _Numbered() if like is None else like._ids
        self._words: list[Words | None] = [None] if like is None else like._words
        self._read: dict[int, NDArray[np.int32]] = (
            {0: np.zeros(len(kinds.services), dtype=np.int32)} if like is None else like._read
        )

    def __len__(self) -> int:
        return len(self._words)

    def rows(self, ids: NDArray[Any]) -> NDArray[np.int32]:
        """What every service comes to in some distinct outcomes, int32[n, services]; nothing in that of no pair."""
        for number in ids.tolist():
            words = self._words[number]
            if number not in self._read and words is not None:
                self._read[number] = self._of_words(words)
        return np.stack([self._read[number] for number in ids.tolist()])

    def ids(self, senders: Rows, *outcome: Words) -> NDArray[np.int32]:
        """The distinct outcomes of pairs by number, int32[m, n], of words uint64[m, n, words]."""
        sends = self.sends[senders][None]
        marks = self._sent_marks[senders][None]
        if self._is_sent_alike:
            sends, marks = sends[:, :1], marks[:, :1]
        for number, each in enumerate(outcome):
            marks = marks + hashed(_without_repeats(each) & sends, number)
        found, new = self._ids.numbers(marks.reshape(-1))
        for place in new.tolist():
            row, column = divmod(place, marks.shape[1])
            sent = sends[0, column % sends.shape[1]]
            self._words.append(np.stack([*(each[row, column] & sent for each in outcome), sent]))
        return np.broadcast_to(found.reshape(marks.shape), outcome[0].shape[:2])

    def _of_words(self, words: Words) -> NDArray[np.int32]:
        kinds = self.kinds
        arrives, answered, doubtful, sends = (kinds.unpacked(each) for each in words)
        doubt = kinds.by_service(answered & doubtful)
        answered = answered & ~doubtful
        sent, comes, surely, back = (kinds.by_service(each) for each in (sends, arrives, arrives & ~doubtful, answered))
        # What nothing answers is one-way where some of it surely arrives, and not known where it only may.
        verdict = np.select([doubt > 0, back == sent, back > 0, surely > 0, comes > 0], [3, 1, 2, 4, 3], _BLOCKED)
        found = np.zeros(len(verdict), dtype=np.int32)
        # A verdict has one number for all services, but where it is of some client ports: numbered as they are met.
        firsts = np.unique(verdict, return_index=True)[1]
        for service in np.union1d(firsts, np.flatnonzero(verdict == _PARTLY)).tolist():
            status = Status(int(verdict[service]))
            alike: Rows | NDArray[np.bool_] = np.array([service])
            if status.verdict == _PARTLY:
                mine = np.flatnonzero((kinds.service_of == service) & answered).tolist()
                status = Status(_PARTLY, RangeSet.of(pair for kind in mine for pair in kinds.kinds[kind].ports))
            else:
                alike = verdict == status.verdict
            if status not in self._numbers:
                self._numbers[status] = len(self.known)
                self.known.append(status)
            found[alike] = self._numbers[status]
        return found


def _without_repeats(words: Words) -> Words:
    """Words of pairs with 1 where they do not differ by how they lie in memory."""
    return words[tuple(slice(None) if step else slice(0, 1) for step in words.strides[:2])]


class _Numbered:
    """Numbers from 1 on for hashes, in the order in which they are met. Most are found in a table by some of their
    bits; those whose place in it is taken are looked up one by one."""

    def __init__(self) -> None:
        self._number: dict[int, int] = {}
        self._slot_mark = np.zeros(1 << _SLOT_BITS, dtype=np.uint64)
        self._slot_number = np.zeros(1 << _SLOT_BITS, dtype=np.int32)

    def numbers(self, marks: Marks) -> tuple[NDArray[np.int32], Rows]:
        """The number of each of some hashes, and the places of those that were not met before, each once, ascending in
        their numbers."""
        slots = (marks >> np.uint64(64 - _SLOT_BITS)).astype(np.intp)
        found = self._slot_number[slots]
        others = np.flatnonzero((self._slot_mark[slots] != marks) | (found == 0))
        new: list[int] = []
        if len(others):
            values, first, back = np.unique(marks[others], return_index=True, return_inverse=True)
            numbers = np.zeros(len(values), dtype=np.int32)
            for at, value in enumerate(values.tolist()):
                if value not in self._number:
                    self._number[value] = len(self._number) + 1
                    new.append(int(others[first[at]]))
                numbers[at] = self._number[value]
            slots = (values >> np.uint64(64 - _SLOT_BITS)).astype(np.intp)
            free = self._slot_number[slots] == 0
            self._slot_mark[slots[free]], self._slot_number[slots[free]] = values[free], numbers[free]
            found[others] = numbers[back.reshape(-1)]
        return found, np.array(new, dtype=np.int64)
