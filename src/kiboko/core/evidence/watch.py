"""Records held against the rules as they come, with those just before them for their requests and replies."""

from __future__ import annotations

import dataclasses
from collections import deque
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.disagreements import Disagreements
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.judged import Judged
from kiboko.core.evidence.older_sessions import NO_KEYS, Keys, among, older, with_older
from kiboko.core.evidence.summary import Summary
from kiboko.core.records.columns import ascending
from kiboko.core.records.extent import WHOLE, Extent, extent_of
from kiboko.core.records.flow_table import NO_TIME, FlowTable, joined, milliseconds

_MOST_WAITING = 200_000
_WINDOW = 50_000
_MOST_OLDER = 1_000_000
_MOST_KINDS = 500_000
"""So many kinds of traffic are kept for the report, some 0.4 KB each."""


@dataclass(slots=True)
class Watch:
    """Judges tables in the order in which they come. What waits is bounded: `unjudged` counts what was let go.

    The last records, `_WINDOW` of them, are the window in which later ones may meet those of their conversation: what
    was said of these is taken back where it has changed.
    """

    comparison: Comparison
    summary: Summary
    is_later: bool = False
    """Whether others were judged before it, by other rules."""
    unjudged: int = 0
    judged: int = 0
    _evaluator: Evaluator = field(init=False)
    _as_of: int = field(init=False)
    _older: Keys = field(default_factory=lambda: NO_KEYS)
    """Sessions that are older than the rules, and may go on."""
    _waiting: list[FlowTable] = field(default_factory=list)
    _size: int = 0
    _window: FlowTable = field(default_factory=FlowTable.empty)
    _before: Judged | None = None
    """What was said of the window."""
    _unheard: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, dtype=np.bool_))
    """Of which records of the window those that they belong to may have been let go before they came."""
    _has_let_go: bool = False
    """Whether there were others before it."""
    _turns: deque[tuple[int, int]] = field(default_factory=deque)
    """In which turns of the summary the records of the window were taken in, and how many in each."""

    def __post_init__(self) -> None:
        self._evaluator = Evaluator(self.comparison)
        self._as_of = milliseconds(self.comparison.walker.topology.as_of)
        self._has_let_go = self.is_later
        self._evaluator.prepare()  # while it is being done nothing else is, and packets do not wait

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

    def judge(self) -> list[Disagreements]:
        """Judge what waits; the leaks and breaks that were met: of records before those that wait, and of these."""
        if not self._waiting:
            return []
        before = len(self._window)
        table = joined([self._window, *self._waiting])
        self._waiting, self._size = [], 0
        unheard = np.append(self._unheard, ~self._extent(table).holds(table.last()[before:]))
        judged = self._evaluator.judge(table, unheard if unheard.any() else None)
        if self._as_of != NO_TIME:
            fresh = older(table, judged, self._as_of)
            fresh = fresh[~among(fresh, self._older)]
            if len(fresh):
                self._older = ascending(np.append(self._older, fresh))[0][-_MOST_OLDER:]
            judged = with_older(self._evaluator, table, judged, self._older)
        found: list[Disagreements] = []
        changed = self._changed(judged, before)
        if len(changed):
            self._take_back(table, judged, changed)
            found.append(self._taken(table, judged, changed))
        self._turns.append((self.summary.turn, len(table) - before))
        found.append(self._taken(table, judged, np.arange(before, len(table))))
        self.judged += len(table) - before
        self._keep(table, judged, unheard)
        return found

    def _extent(self, table: FlowTable) -> Extent:
        """The time of which all records are in the window still."""
        return extent_of(table.last(), at_end=False) if self._has_let_go else WHOLE

    def _changed(self, judged: Judged, before: int) -> NDArray[np.int64]:
        """The rows of the window whose conversations come to something else now."""
        if self._before is None:
            return np.zeros(0, dtype=np.int64)
        said = self._before.conclusion
        if self._before.concluded is not judged.concluded:  # the evaluator has let go of all, and numbered them anew
            numbers = {each: number for number, each in enumerate(judged.concluded)}
            said = np.array([numbers.get(each, -1) for each in self._before.concluded], dtype=np.int64)[said]
        return np.flatnonzero(said != judged.conclusion[:before])

    def _take_back(self, table: FlowTable, judged: Judged, rows: NDArray[np.int64]) -> None:
        """Take back what was said of some rows of the window."""
        assert self._before is not None
        before = self._before
        conclusion, weight, concluded = judged.conclusion.copy(), judged.weight.copy(), judged.concluded
        known = np.arange(len(before.conclusion))
        conclusion[known], weight[known] = before.conclusion, before.weight
        if before.concluded is not concluded:  # it was numbered otherwise
            conclusion[known] += len(concluded)
            concluded = [*concluded, *before.concluded]
        said = dataclasses.replace(judged, conclusion=conclusion, weight=weight, concluded=concluded)
        self.summary.take_all(self._evaluator.summed(table, said, rows), self.comparison.finding, taken_back=True)

    def _taken(self, table: FlowTable, judged: Judged, rows: NDArray[np.int64]) -> Disagreements:
        """Take some rows in; the leaks and breaks among them."""
        return self.summary.take_all(self._evaluator.summed(table, judged, rows), self.comparison.finding)

    def _keep(self, table: FlowTable, judged: Judged, unheard: NDArray[np.bool_]) -> None:
        first = max(0, len(table) - _WINDOW)
        gone = first
        while gone and self._turns[0][1] <= gone:
            gone -= self._turns.popleft()[1]
        self._turns[0] = self._turns[0][0], self._turns[0][1] - gone
        self.summary.keep_most(_MOST_KINDS, self._turns[0][0])
        self._has_let_go |= first > 0
        self._window = table.taken(slice(first, None))
        self._before, self._unheard = judged.part(slice(first, None)), unheard[first:]
