"""Leaks and breaks as they are met, as columns: of a log that is judged as it comes there may be very many at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol, overload

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import Conclusion
from kiboko.core.evidence.finding_groups import FindingGroup, Origin
from kiboko.core.evidence.group_columns import GroupColumns
from kiboko.core.evidence.origins import FlowOrigin
from kiboko.core.evidence.tallies import Tallies
from kiboko.core.records.records import FlowRecord

Truths = NDArray[np.bool_]


class Book(Protocol):
    """Where groups are kept: what the numbers in their columns stand for."""

    def name(self, number: int) -> str:
        """A name by its number."""

    def conclusion(self, number: int) -> Conclusion:
        """A conclusion by its number."""

    def group_of(self, columns: GroupColumns, row: int, origin: Origin) -> FindingGroup:
        """The group of a row, whose example is of an origin."""


@dataclass(frozen=True, slots=True)
class Disagreement:
    """Leaks or breaks of one group as they were met: how many, the first record, and whether it is the group's first.
    `group` counts those that were met alone."""

    group: FindingGroup
    record: FlowRecord
    count: int
    is_first: bool


@dataclass(frozen=True, slots=True)
class Disagreements(Sequence[Disagreement]):
    """Leaks and breaks as a summary took them in, group by group: `columns` has what was met of each, `is_first`
    bool[g] which groups were not there before."""

    book: Book
    columns: GroupColumns
    is_first: Truths
    source: FlowOrigin | None

    @classmethod
    def none(cls, book: Book) -> Disagreements:
        """No leak and no break."""
        return cls(book, GroupColumns.none(), np.zeros(0, dtype=np.bool_), None)

    def __len__(self) -> int:
        return len(self.columns)

    @overload
    def __getitem__(self, index: int) -> Disagreement: ...

    @overload
    def __getitem__(self, index: slice) -> list[Disagreement]: ...

    def __getitem__(self, index: int | slice) -> Disagreement | list[Disagreement]:
        if isinstance(index, slice):
            return [self[row] for row in range(*index.indices(len(self)))]
        if not -len(self) <= index < len(self):
            raise IndexError("no such disagreement")
        assert self.source is not None
        group = self.book.group_of(self.columns, index, self.source)
        record = self.source.tallies.examples.record(group.place)
        return Disagreement(group, record, self.count(index), bool(self.is_first[index]))

    def count(self, index: int) -> int:
        """How many records one has."""
        return abs(int(self.columns.sums[1, index]))

    @property
    def tallies(self) -> Tallies:
        """What they are of: the second row of `columns.example` has their places."""
        assert self.source is not None
        return self.source.tallies

    def ends(self) -> list[tuple[str, str]]:
        """What the sender and the receiver of each are called."""
        numbers = self.columns.key[1:3].tolist()
        names = {number: self.book.name(number) for number in {*numbers[0], *numbers[1]}}
        return [(names[one], names[other]) for one, other in zip(*numbers, strict=True)]

    def records(self, status: str) -> int:
        """How many records those of a status have."""
        told = self.columns.example[2]
        wanted = [number for number in set(told.tolist()) if self.book.conclusion(number).status == status]
        return abs(int(self.columns.sums[1][np.isin(told, wanted)].sum()))
