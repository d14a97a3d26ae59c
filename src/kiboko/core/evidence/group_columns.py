"""Findings in groups as columns: what a large log comes to, summed up without an object for each pair of ends."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.records.columns import Distinct, distinct
from kiboko.core.records.flow_table import NO_TIME

_NEVER = np.iinfo(np.int64).max
Rows = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class GroupColumns:
    """`g` rows of groups: `key` int32[5, g] tells them apart (conclusion, sender, receiver, lowest and highest service
    number that nothing tells from theirs); `least` int64[2, g] is the lowest service and the earliest time met, `most`
    int64[3, g] the highest and the latest, and in which turn they were taken in last; `sums` int64[5, g] counts
    conversations, records, replies, packets, octets; `example` int32[3, g] says where the first record is (origin,
    place) and what it came to: conclusions that tell groups apart alike may differ in the rest."""

    key: NDArray[np.int32]
    least: Rows
    most: Rows
    sums: Rows
    example: NDArray[np.int32]

    @classmethod
    def none(cls) -> GroupColumns:
        """No rows."""
        two, three, five = (np.zeros((count, 0), dtype=np.int64) for count in (2, 3, 5))
        return cls(five.astype(np.int32), two, three, five, three.astype(np.int32))

    def __len__(self) -> int:
        return len(self.key[0])

    def by_key(self) -> GroupColumns:
        """Rows of one key made one row, in the order in which keys are met; the example is that of the first."""
        return _together([self])

    def taken(self, rows: Rows) -> GroupColumns:
        """Some of the rows."""
        return GroupColumns(self.key[:, rows], self.least[:, rows], self.most[:, rows], self.sums[:, rows],
                            self.example[:, rows])  # fmt: skip


def merged(parts: list[GroupColumns]) -> GroupColumns:
    """Several of them as one, each key once; without those of which all records were taken back."""
    whole = _together(parts)
    return whole.taken(np.flatnonzero(whole.sums[1])) if (whole.sums[1] == 0).any() else whole


def _together(parts: list[GroupColumns]) -> GroupColumns:
    """The rows of several, each key once. One field is brought together after the other: there may be millions."""

    def joined(name: str) -> NDArray[Any]:
        columns = [getattr(part, name) for part in parts]
        return np.concatenate(columns, axis=1) if len(columns) > 1 else columns[0]

    key = joined("key")
    if not key.size:
        return GroupColumns.none()
    kinds = _kinds(key)
    if len(kinds) == len(key[0]):
        return GroupColumns(key, joined("least"), joined("most"), joined("sums"), joined("example"))
    # Of a large estate nearly every row is of its own: those that are not are brought to the first of theirs.
    is_first = np.zeros(len(key[0]), dtype=np.bool_)
    is_first[kinds.first] = True
    more = np.flatnonzero(~is_first)
    into = kinds.codes[more]

    def divided(name: str) -> tuple[NDArray[Any], NDArray[Any]]:
        columns = joined(name)
        return columns[:, kinds.first], columns[:, more]

    least, others = divided("least")
    np.minimum.at(least[0], into, others[0])
    earliest = np.where(least[1] == NO_TIME, _NEVER, least[1])
    np.minimum.at(earliest, into, np.where(others[1] == NO_TIME, _NEVER, others[1]))
    least[1] = np.where(earliest == _NEVER, NO_TIME, earliest)
    most, others = divided("most")
    for mine, other in zip(most, others, strict=True):
        np.maximum.at(mine, into, other)
    sums, others = divided("sums")
    for mine, other in zip(sums, others, strict=True):
        np.add.at(mine, into, other)
    return GroupColumns(key[:, kinds.first], least, most, sums, joined("example")[:, kinds.first])


def _kinds(key: NDArray[np.int32]) -> Distinct:
    """The rows of one key each. The lowest of services that nothing tells apart says which these are, so that the
    highest needs no looking at, but to see that this holds."""
    highest = key[-1]
    kinds = distinct(*key[:-1])
    return kinds if (highest == highest[kinds.first][kinds.codes]).all() else distinct(*key)
