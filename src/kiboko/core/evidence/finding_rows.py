"""Findings in groups in the order in which they are shown, as columns: of a large log they are very many, and few are
looked at."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import overload

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import Conclusion
from kiboko.core.evidence.finding_groups import FindingGroup
from kiboko.core.records.columns import numbered

Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class FindingTable:
    """All groups of a summary, in no order: `g` of each column.

    `told` int64[g] is an index of `conclusions`, `source` and `destination` ones of `names` (`number_of` has them the
    other way round), `service` one of `services`; `is_flow` bool[g] tells flow records from probes; `count`, `packets`
    and `octets` int64[g] are sums, `latest` int64[g] is in milliseconds since 1970. `make` makes the group of a row,
    `made` has those that were made.
    """

    conclusions: Sequence[Conclusion]
    names: Sequence[str]
    number_of: Mapping[str, int]
    services: Sequence[str]
    told: Rows
    source: Rows
    destination: Rows
    service: Rows
    is_flow: Truths
    count: Rows
    packets: Rows
    octets: Rows
    latest: Rows
    make: Callable[[int], FindingGroup]
    made: dict[int, FindingGroup] = field(default_factory=dict)

    def group(self, row: int) -> FindingGroup:
        """The group of a row; the same one whenever it is asked for."""
        if row not in self.made:
            self.made[row] = self.make(row)
        return self.made[row]


class FindingRows(Sequence[FindingGroup]):
    """Some groups of a table in their order. Each is made when it is looked at; a question about all of them is asked
    of their columns."""

    def __init__(self, table: FindingTable, rows: Rows) -> None:
        """`rows` int64[n] are rows of the table."""
        self.table = table
        self._rows = rows
        self._by_end: dict[str, tuple[Rows, Rows]] = {}

    def __len__(self) -> int:
        return len(self._rows)

    @overload
    def __getitem__(self, index: int) -> FindingGroup: ...

    @overload
    def __getitem__(self, index: slice) -> FindingRows: ...

    def __getitem__(self, index: int | slice) -> FindingGroup | FindingRows:
        if isinstance(index, slice):
            return FindingRows(self.table, self._rows[index])
        return self.table.group(int(self._rows[index]))

    def __iter__(self) -> Iterator[FindingGroup]:
        return map(self.table.group, self._rows.tolist())

    def let_go(self) -> None:
        """Keep none of the groups that were made of them: of very many each is looked at once."""
        for row in self._rows.tolist():
            self.table.made.pop(row, None)

    def column(self, name: str) -> Rows:
        """A column of the table, for these rows."""
        found: Rows = getattr(self.table, name)[self._rows]
        return found

    def total(self, name: str) -> int:
        """What a column comes to."""
        return int(self.column(name).sum())

    def where(self, chosen: Truths) -> FindingRows:
        """Those that are chosen, bool[n]."""
        return FindingRows(self.table, self._rows[chosen])

    def taken(self, places: Rows) -> FindingRows:
        """Those at some places."""
        return FindingRows(self.table, self._rows[places])

    def concluded(self, is_wanted: Callable[[Conclusion], bool]) -> FindingRows:
        """Those that come to something that is wanted."""
        wanted = np.array([is_wanted(each) for each in self.table.conclusions], dtype=np.bool_)
        return self.where(wanted[self.column("told")]) if len(self) else self

    def of(self, evidence: str) -> FindingRows:
        """Those of one kind of evidence."""
        return self.where(self.table.is_flow[self._rows] == (evidence == "flow"))

    def names(self, name: str) -> set[str]:
        """What their senders (`source`) or receivers (`destination`) are called."""
        names = self.table.names
        return {names[number] for number in numbered(self.column(name))[0].tolist()}

    def numbers_of(self, names: set[str]) -> Rows:
        """The numbers that some names have in the columns of senders and receivers."""
        numbers = self.table.number_of
        return np.array([numbers[name] for name in names if name in numbers], dtype=np.int64)

    def at_end(self, side: str, name: str) -> FindingRows:
        """Those whose sender (`source`) or receiver (`destination`) is called by a name. They are sorted by it once,
        for whoever asks about many."""
        number = self.table.number_of.get(name)
        if number is None:
            return self.taken(np.zeros(0, dtype=np.int64))
        if side not in self._by_end:
            ends = self.column(side)
            order = np.argsort(ends, kind="stable")
            self._by_end[side] = order, ends[order]
        order, ends = self._by_end[side]
        first, past = np.searchsorted(ends, [number, number + 1])
        return self.taken(order[first:past])
