"""Records held against the rules as they come, with those just before them for their requests and replies."""

from __future__ import annotations

import functools
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import BREAK, LEAK, Comparison, Finding
from kiboko.core.evidence.compiled import CompiledComparison, Judged, Tallies, judged_alone
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
        found = [*self._corrected(table, judged)]
        found += self._fresh(self._compiled.summed(table, judged, np.arange(before, len(table))))
        self.judged += len(table) - before
        self._keep(table, judged.code, judged.findings)
        return found

    def _fresh(self, tallies: Tallies) -> list[Disagreement]:
        met: dict[int, Disagreement] = {}
        for tally in tallies:
            settle = functools.partial(judged_alone, self.comparison, tally.record, tally.request, tally.is_decided)
            group = self.summary.take(tally.record, tally, settle)
            if tally.concluded.status in (LEAK, BREAK):
                known = met.get(id(group))
                is_first = group.count == tally.count if known is None else known.is_first
                count = tally.count + (known.count if known is not None else 0)
                first = known.record if known is not None else tally.record
                met[id(group)] = Disagreement(group, first, count, is_first)
        return list(met.values())

    def _corrected(self, table: FlowTable, judged: Judged) -> list[Disagreement]:
        """Requests of the window whose reply has come now."""
        found = []
        for row, before in list(self._undecided.items()):
            after = judged.findings[judged.code[row]]
            if after.status == LEAK and before.status != LEAK:
                (tally,) = self._compiled.summed(table, judged, np.array([row]))
                settle = functools.partial(judged_alone, self.comparison, tally.record, None, True)
                group = self.summary.correct(tally.record, before, after, tally.alike, settle)
                found.append(Disagreement(group, tally.record, 1, group.count == 1))
                del self._undecided[row]
        return found

    def _keep(self, table: FlowTable, code: NDArray[np.int64], findings: list[Finding]) -> None:
        first = max(0, len(table) - _WINDOW)
        self._window = table.taken(slice(first, None))
        undecided = np.array([each.is_undecided and each.status != LEAK for each in findings], dtype=np.bool_)
        rows = np.flatnonzero(undecided[code])
        self._undecided = {row - first: findings[code[row]] for row in rows.tolist() if row >= first}
