"""Findings in groups as columns: what a large log comes to, summed up without an object for each pair of ends."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.records.columns import Distinct, distinct
from kiboko.core.records.flow_table import NO_TIME

_NEVER = np.iinfo(np.int64).max
Rows = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class GroupColumns:
    """`g` rows of groups, int64 all: `key` [5, g] tells them apart (conclusion, sender, receiver, lowest and highest
    service number that nothing tells from theirs); `least` [2, g] is the lowest service and the earliest time met,
    `most` [3, g] the highest and the latest, and in which turn they were taken in last; `sums` [5, g] counts
    conversations, records, replies, packets, octets; `example` [3, g] says where the first record is (origin, place)
    and what it came to: conclusions that tell groups apart alike may differ in the rest."""

    key: Rows
    least: Rows
    most: Rows
    sums: Rows
    example: Rows

    @classmethod
    def none(cls) -> GroupColumns:
        """No rows."""
        five, two, three = (np.zeros((count, 0), dtype=np.int64) for count in (5, 2, 3))
        return cls(five, two, three, five, three)

    def __len__(self) -> int:
        return len(self.key[0])

    def by_key(self) -> GroupColumns:
        """Rows of one key made one row, in the order in which keys are met; the example is that of the first."""
        if not len(self):
            return self
        kinds = self._kinds()
        if len(kinds) == len(self):
            return self
        # Of a large estate nearly every row is of its own: those that are not are brought to the first of theirs.
        found = self.taken(kinds.first)
        is_first = np.zeros(len(self), dtype=np.bool_)
        is_first[kinds.first] = True
        more = np.flatnonzero(~is_first)
        into = kinds.codes[more]
        earliest = np.where(found.least[1] == NO_TIME, _NEVER, found.least[1])
        np.minimum.at(earliest, into, np.where(self.least[1, more] == NO_TIME, _NEVER, self.least[1, more]))
        np.minimum.at(found.least[0], into, self.least[0, more])
        found.least[1] = np.where(earliest == _NEVER, NO_TIME, earliest)
        for mine, others in zip(found.most, self.most[:, more], strict=True):
            np.maximum.at(mine, into, others)
        for mine, others in zip(found.sums, self.sums[:, more], strict=True):
            np.add.at(mine, into, others)
        return found

    def _kinds(self) -> Distinct:
        """The rows of one key each. The lowest of services that nothing tells apart says which these are, so that the
        highest needs no looking at, but to see that this holds."""
        highest = self.key[-1]
        kinds = distinct(*self.key[:-1])
        return kinds if (highest == highest[kinds.first][kinds.codes]).all() else distinct(*self.key)

    def taken(self, rows: Rows) -> GroupColumns:
        """Some of the rows."""
        return GroupColumns(*(each[:, rows] for each in (self.key, self.least, self.most, self.sums, self.example)))


def merged(parts: list[GroupColumns]) -> GroupColumns:
    """Several of them as one, each key once; without those of which all records were taken back."""
    names = ("key", "least", "most", "sums", "example")
    whole = GroupColumns(*(np.concatenate([getattr(part, name) for part in parts], axis=1) for name in names)).by_key()
    return whole.taken(np.flatnonzero(whole.sums[1])) if (whole.sums[1] == 0).any() else whole
