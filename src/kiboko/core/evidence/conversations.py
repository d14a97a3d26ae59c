"""Conversations: the records of each of them, and who began it (clauses E1 and E2).

All records of the same two ends, protocol and ports are of one conversation, in either direction, at whatever points
they were taken, if they are near each other in time. The addresses in front of and behind a gateway are the same end.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.services import TCP
from kiboko.core.records.columns import Distinct
from kiboko.core.records.flow_table import FlowTable

PAUSE = 300_000
"""Milliseconds without a record behind which the same ends and ports are another conversation: the longest time-out
that exporters commonly have."""
BY_OPENING, BY_BIFLOW, BY_TYPE, BY_TIME, BY_PORTS, BY_NOTHING = range(6)
"""What tells who began, in the order in which it is believed."""
_SHORT = 1 << 16
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
