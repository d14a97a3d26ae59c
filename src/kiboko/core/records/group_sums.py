"""What records come to in groups, as columns: groups whose keys are texts, of which a log of a large network has
hundreds of thousands."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.records.columns import combined
from kiboko.core.records.flow_table import NO_TIME

_MOST_GROUPS = 2_000_000
_FEW_WAITING = 1 << 18
Rows = NDArray[np.int64]
MEASURES = ("octets", "packets", "records")
"""What groups may be ranked by."""


@dataclass(slots=True)
class Sum:
    """What some records come to: how many, packets, octets, and the time they cover in milliseconds since 1970; how
    many conversations they are of, where that is counted."""

    records: int = 0
    packets: int = 0
    octets: int = 0
    first: int = int(NO_TIME)
    last: int = int(NO_TIME)
    conversations: int = 0

    def add(self, records: int, packets: int, octets: int, first: int, last: int, conversations: int = 0) -> None:
        """Take in more records."""
        self.records += records
        self.packets += packets
        self.octets += octets
        self.conversations += conversations
        if first != NO_TIME and (self.first == NO_TIME or first < self.first):
            self.first = first
        self.last = max(self.last, last)


@dataclass(frozen=True, slots=True)
class Groups:
    """`g` groups of as many fields as there are: `keys` int64[fields, g] are numbers of texts; `records`, `packets` and
    `octets` [g] are counts, whole numbers of any size where they might be too large for int64; `first` and `last`
    int64[g] are in milliseconds since 1970, `NO_TIME` for none; `conversations` int64[g] is 0 where they are not
    counted."""

    keys: Rows
    records: Rows
    packets: NDArray[Any]
    octets: NDArray[Any]
    first: Rows
    last: Rows
    conversations: Rows

    def __len__(self) -> int:
        return len(self.records)

    @classmethod
    def joined(cls, parts: list[Groups]) -> Groups:
        """Groups one behind the other."""
        return cls(*(np.concatenate([getattr(part, name) for part in parts], axis=-1) for name in cls.__slots__))

    def by_key(self) -> Groups:
        """Groups of one key made one, in the order in which keys are met."""
        kinds = combined(list(self.keys), len(self))
        if len(kinds) == len(self):
            return self
        return Groups(
            self.keys[:, kinds.first], kinds.sums(self.records), kinds.sums(self.packets), kinds.sums(self.octets),
            kinds.least(self.first, int(NO_TIME)), kinds.most(self.last), kinds.sums(self.conversations),
        )  # fmt: skip

    def taken(self, rows: Rows | slice) -> Groups:
        """Some of them."""
        return Groups(*(getattr(self, name)[..., rows] for name in Groups.__slots__))

    def total(self) -> Sum:
        """What all of them come to."""
        timed = self.first[self.first != NO_TIME]
        return Sum(
            int(self.records.sum()), sum(self.packets.tolist()), sum(self.octets.tolist()),
            int(timed.min()) if len(timed) else int(NO_TIME), int(self.last.max(initial=NO_TIME)),
            int(self.conversations.sum()),
        )  # fmt: skip


class GroupSums:
    """Groups of records by keys of some texts each."""

    def __init__(self, width: int) -> None:
        """`width` is how many texts a key has."""
        self.total = Sum()
        self._width = width
        self._numbers: dict[str, int] = {}
        self._groups: list[Groups] = []
        """What was taken in; of the first no two have one key."""
        self._left_out = 0

    def __len__(self) -> int:
        return len(self._all())

    @property
    def left_out(self) -> int:
        """Records of further groups, once there are too many to hold."""
        self._all()
        return self._left_out

    def number(self, text: str) -> int:
        """The number that stands for a text in keys."""
        return self._numbers.setdefault(text, len(self._numbers))

    def merge(self, other: GroupSums) -> None:
        """Take in what others of the same fields came to."""
        mine = np.array([self.number(text) for text in other._numbers], dtype=np.int64)
        groups = other._all()
        self._left_out += other._left_out
        self.take(dataclasses.replace(groups, keys=mine[groups.keys]), other.total)

    def __reduce__(self) -> tuple[Any, ...]:
        # What names addresses stays: all that were met are named already.
        return _made_again, (self._width, self.total, list(self._numbers), self._all(), self._left_out)

    def take(self, groups: Groups, total: Sum) -> None:
        """Take in groups, and what they come to together."""
        self.total.add(total.records, total.packets, total.octets, total.first, total.last, total.conversations)
        self._groups.append(groups)
        if sum(map(len, self._groups[1:])) > max(_FEW_WAITING, len(self._groups[0])):
            self._all()

    def _all(self) -> Groups:
        """All groups, each in one row."""
        if len(self._groups) != 1 or len(self._groups[0]) > _MOST_GROUPS:
            none = np.zeros(0, dtype=np.int64)
            start = Groups(np.zeros((self._width, 0), dtype=np.int64), none, none, none, none, none, none)
            found = Groups.joined([start, *self._groups]).by_key()
            if len(found) > _MOST_GROUPS:
                self._left_out += int(found.records[_MOST_GROUPS:].sum())
                found = found.taken(slice(0, _MOST_GROUPS))
            self._groups = [found]
        return self._groups[0]

    def largest(
        self, by: str, most: int | None = None, newest_first: bool = False
    ) -> list[tuple[tuple[str, ...], Sum]]:
        """The groups with most of a measure of `MEASURES`, the largest first; of equal ones the newest first, where
        that is asked for, then by name. `most` is how many, None for all."""
        groups, texts = self._all(), list(self._numbers)
        measure = getattr(groups, by).tolist()
        rows: Iterable[int] = range(len(groups))
        if most is not None and 0 < most < len(groups):
            least = sorted(measure, reverse=True)[most - 1]
            rows = [row for row, value in enumerate(measure) if value >= least]
        names = {row: tuple(texts[number] for number in groups.keys[:, row].tolist()) for row in rows}
        age = (-groups.last).tolist() if newest_first else [0] * len(groups)
        ranked = sorted(names, key=lambda row: (-measure[row], age[row], names[row]))[:most]
        return [(names[row], self._sum(groups, row)) for row in ranked]

    @property
    def groups(self) -> dict[tuple[str, ...], Sum]:
        """All groups by their texts: an object for each."""
        return dict(self.largest("records"))

    def _sum(self, groups: Groups, row: int) -> Sum:
        columns = (groups.records, groups.packets, groups.octets, groups.first, groups.last, groups.conversations)
        return Sum(*(int(column[row]) for column in columns))


def _made_again(width: int, total: Sum, texts: list[str], groups: Groups, left_out: int) -> GroupSums:
    made = GroupSums(width)
    made.total, made._groups, made._left_out = total, [groups], left_out
    made._numbers = {text: number for number, text in enumerate(texts)}
    return made
