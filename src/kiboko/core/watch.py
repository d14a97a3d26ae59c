"""Records held against the rules as they come, one after another."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field
from time import monotonic

from kiboko.core.comparison import BREAK, LEAK, Comparison, Finding
from kiboko.core.evidence import FlowRecord
from kiboko.core.flow_table import FlowTable
from kiboko.core.summary import Group, Summary

_MOST_WAITING = 200_000
_CHECK_EVERY = 64


@dataclass(frozen=True, slots=True)
class Disagreement:
    """A leak or a break as it was met: its group, its record, and whether it is the first of the group."""

    group: Group
    record: FlowRecord
    is_first: bool


@dataclass(slots=True)
class Watch:
    """Judges tables in the order in which they come. What waits is bounded: `unjudged` counts what was let go."""

    comparison: Comparison
    summary: Summary
    unjudged: int = 0
    judged: int = 0
    _waiting: deque[tuple[FlowTable, int]] = field(default_factory=deque)
    _size: int = 0

    def add(self, table: FlowTable) -> None:
        """Have a table judged; too many records at once are let go, and counted."""
        room = _MOST_WAITING - self._size
        if len(table) > room:
            self.unjudged += len(table) - max(0, room)
            table = table.taken(slice(0, max(0, room)))
        if len(table):
            self._waiting.append((table, 0))
            self._size += len(table)

    @property
    def waiting(self) -> int:
        """Records that are not judged yet."""
        return self._size

    def judge(self, seconds: float) -> list[Disagreement]:
        """Judge what waits, for about so many seconds; the leaks and breaks that were met."""
        until = monotonic() + seconds
        found: list[Disagreement] = []
        while self._waiting:
            table, at = self._waiting.popleft()
            while at < len(table):
                record = table.record(at)
                self._take(record, self.comparison.flow(record), found)
                at += 1
                if at % _CHECK_EVERY == 0 and monotonic() > until:
                    self._waiting.appendleft((table, at))
                    return found
        return found

    def _take(self, record: FlowRecord, finding: Finding, found: list[Disagreement]) -> None:
        self._size -= 1
        self.judged += 1
        group = self.summary.add(record, finding)
        if finding.status in (LEAK, BREAK):
            found.append(Disagreement(group, record, group.count == 1))
        for request, before, after in self.comparison.corrected:
            group = self.summary.correct(request, before, after)
            found.append(Disagreement(group, request, group.count == 1))
        self.comparison.corrected.clear()
