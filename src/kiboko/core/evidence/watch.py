"""Records held against the rules as they come, with those just before them for their requests and replies."""

from __future__ import annotations

import functools
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import BREAK, LEAK, Comparison, Finding
from kiboko.core.evidence.compiled import CompiledComparison, Tally
from kiboko.core.evidence.summary import FindingGroup, Summary
from kiboko.core.records.flow_table import FlowTable, joined
from kiboko.core.records.records import FlowRecord

_MOST_WAITING = 200_000
_WINDOW = 50_000


@dataclass(frozen=True, slots=True)
class Disagreement:
    """Leaks or breaks of one group as they were met: how many, the first, and whether it is the group's first."""

    group: FindingGroup
    record: FlowRecord
    count: int
    is_first: bool


@dataclass(slots=True)
class Watch:
    """Judges tables in the order in which they come. What waits is bounded: `unjudged` counts what was let go.

    The last records, `_WINDOW` of them, are the bounded window of clause S39.
    """

    comparison: Comparison
    summary: Summary
    unjudged: int = 0
    judged: int = 0
    _compiled: CompiledComparison = field(init=False)
    _waiting: list[FlowTable] = field(default_factory=list)
    _size: int = 0
    _window: FlowTable = field(default_factory=FlowTable.empty)
    _undecided: dict[int, Finding] = field(default_factory=dict)
    """Findings of requests in the window that a reply may still change, by their row."""

    def __post_init__(self) -> None:
        self._compiled = CompiledComparison(self.comparison)

    def add(self, table: FlowTable) -> None:
        """Have a table judged; too many records at once are let go, and counted."""
        room = max(0, _MOST_WAITING - self._size)
        if len(table) > room:
            self.unjudged += len(table) - room
            table = table.taken(slice(0, room))
        if len(table):
            self._waiting.append(table)
            self._size += len(table)

    @property
    def waiting(self) -> int:
        """Records that are not judged yet."""
        return self._size

    def judge(self) -> list[Disagreement]:
        """Judge what waits; the leaks and breaks that were met."""
        if not self._waiting:
            return []
        before = len(self._window)
        table = joined([self._window, *self._waiting])
        self._waiting, self._size = [], 0
        judged = self._compiled.judge(table)
        found = [*self._corrected(table, judged.code, judged.findings)]
        found += self._fresh(table.taken(slice(before, None)), judged.code[before:])
        self.judged += len(table) - before
        self._keep(table, judged.code, judged.findings)
        return found

    def _fresh(self, table: FlowTable, code: NDArray[np.int64]) -> list[Disagreement]:
        met: dict[int, Disagreement] = {}
        for row, services, *sums in self._compiled.summed(table, code):
            number, record = int(code[row]), table.record(row)
            concluded, alike = self._compiled.concluded(number), self._compiled.alike(number)
            tally = Tally(concluded, (), record, None, False, alike, services, *sums)
            group = self.summary.take(record, tally, functools.partial(self._compiled.exact, number))
            if concluded.status in (LEAK, BREAK):
                known = met.get(id(group))
                is_first = group.count == sums[0] if known is None else known.is_first
                count = sums[0] + (known.count if known is not None else 0)
                met[id(group)] = Disagreement(group, known.record if known is not None else record, count, is_first)
        return list(met.values())

    def _corrected(self, table: FlowTable, code: NDArray[np.int64], findings: list[Finding]) -> list[Disagreement]:
        """Requests of the window whose reply has come now."""
        found = []
        for row, before in list(self._undecided.items()):
            after = findings[code[row]]
            if after.status == LEAK and before.status != LEAK:
                record = table.record(row)
                group = self.summary.correct(record, before, after, self._compiled.alike(int(code[row])))
                found.append(Disagreement(group, record, 1, group.count == 1))
                del self._undecided[row]
        return found

    def _keep(self, table: FlowTable, code: NDArray[np.int64], findings: list[Finding]) -> None:
        first = max(0, len(table) - _WINDOW)
        self._window = table.taken(slice(first, None))
        undecided = np.array([each.is_undecided and each.status != LEAK for each in findings], dtype=np.bool_)
        rows = np.flatnonzero(undecided[code])
        self._undecided = {row - first: findings[code[row]] for row in rows.tolist() if row >= first}
