"""Records held against the rules as they come, with those just before them for their requests and replies."""

from __future__ import annotations

import dataclasses
from collections import deque
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import Comparison, Conclusion
from kiboko.core.evidence.disagreements import Disagreements
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.judged import Judged
from kiboko.core.evidence.older_sessions import NO_KEYS, Keys, among, older, with_older
from kiboko.core.evidence.summary import Summary
from kiboko.core.records.columns import ascending
from kiboko.core.records.extent import WHOLE, come_by_now, extent_of, lateness
from kiboko.core.records.flow_table import NO_TIME, FlowTable, joined, milliseconds

Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]
_MOST_WAITING = 200_000
_WINDOW = 50_000
_REMEMBERED = 20 * _WINDOW
"""For so many records it is remembered how late others were."""
_LATER = 1 << 61
"""Later than any record, in milliseconds since 1970."""
_MOST_POINTS = 1 << 16
"""Of so many points it is remembered when they began."""
_MOST_OLDER = 1_000_000
_MOST_KINDS = 500_000
"""So many kinds of traffic are kept for the report, some 0.3 KB each."""


@dataclass(frozen=True, slots=True)
class _Said:
    """What was said of a table, of which the records from `first` on are the window. Of some of these it is `settled`,
    bool[window]: earlier records of their conversations have left the window, and what was said while they were there
    is better than what could be said without them."""

    table: FlowTable
    judged: Judged
    first: int
    settled: Truths

    @classmethod
    def of(cls, table: FlowTable, judged: Judged, first: int, settled: Truths) -> _Said:
        """What was said of a table of at least one record, of some of whose first records it was `settled` before."""
        assert judged.found is not None
        is_settled = judged.found.first[judged.found.of] < first
        is_settled[: len(settled)] |= settled
        return cls(table, judged, first, is_settled[first:])

    @property
    def window(self) -> slice:
        """The rows of the window."""
        return slice(self.first, None)

    def numbers(self, concluded: list[Conclusion]) -> tuple[Rows, list[Conclusion]]:
        """What was said of the window as numbers of some conclusions, and these, with those that are not among them."""
        told, before = self.judged.conclusion[self.window], self.judged.concluded
        if before is concluded:
            return told, concluded
        # The evaluator has let go of all, and numbered them anew.
        known = {each: number for number, each in enumerate(concluded)}
        kinds, back = ascending(told)
        told = np.array([known.setdefault(before[number], len(known)) for number in kinds.tolist()], dtype=np.int64)
        return told[back], list(known)


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
    _before: _Said | None = None
    """What was said of the window."""
    _unheard: Truths = field(default_factory=lambda: np.zeros(0, dtype=np.bool_))
    """Of which records of the window those that they belong to may have been let go before they came."""
    _lateness: deque[tuple[int, int]] = field(default_factory=deque)
    """After how many records some came behind newer ones, and by how many milliseconds, but for the very few latest:
    the most that is remembered first, then the most of what came behind that."""
    _has_let_go: bool = False
    """Whether there were others before it."""
    _begun: dict[str | None, int] = field(default_factory=dict)
    """When the first record of each point began."""
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
        times = table.last()
        since = self._beginnings(table, before)
        late = self._late(times)
        kept = extent_of(times, at_end=False, late=late) if self._has_let_go else WHOLE
        unheard = np.append(self._unheard, ~kept.holds(times[before:]))
        not_yet = ~come_by_now(times, late).holds(times)
        settled = self._before.settled if self._before is not None else unheard[:0]
        outer = np.append(settled, np.zeros(len(table) - len(settled), dtype=np.bool_)) | unheard | not_yet
        judged = self._evaluator.judge(table, unheard | not_yet, unheard, since, outer)
        if self._as_of != NO_TIME:
            fresh = older(table, judged, self._as_of)
            fresh = fresh[~among(fresh, self._older)]
            if len(fresh):
                self._older = ascending(np.append(self._older, fresh))[0][-_MOST_OLDER:]
            judged = with_older(self._evaluator, table, judged, self._older)
        judged = self._with_settled(judged)
        found: list[Disagreements] = []
        changed, recounted = self._changed(judged)
        if len(changed):
            self._take_back(changed)
            found.append(self._taken(table, judged, changed))
        if len(recounted):  # it is said as it was, and nobody need be told of it again
            self._taken(table, judged, recounted)
            self._take_back(recounted)
        self._turns.append((self.summary.turn, len(table) - before))
        found.append(self._taken(table, judged, np.arange(before, len(table))))
        self.judged += len(table) - before
        self._keep(table, judged, unheard)
        return found

    def _beginnings(self, table: FlowTable, before: int) -> Rows:
        """When the first record began that was taken where each was, int64[n]; those from `before` on are new."""
        start, point = table.start[before:], table.point[before:]
        known = start != NO_TIME
        first = np.full(len(table.points), _LATER)
        np.minimum.at(first, point[known], start[known])
        if len(self._begun) > _MOST_POINTS:
            self._begun.clear()
        for name, begun in zip(table.points, first.tolist(), strict=True):
            self._begun[name] = min(begun, self._begun.get(name, _LATER))
        return np.array([self._begun[name] for name in table.points], dtype=np.int64)[table.point]

    def _late(self, times: Rows) -> int:
        """By how many milliseconds a record may come behind newer ones, by these and by those before them: exporters
        that are slower than the window is long are not seen to be in it, and a backlog that one sent once is forgotten.
        """
        late, known = lateness(times), self._lateness
        while known and known[-1][1] <= late:
            known.pop()
        known.append((self.judged, late))
        while known[0][0] < self.judged - _REMEMBERED:
            known.popleft()
        return known[0][1]

    def _with_settled(self, judged: Judged) -> Judged:
        """What is said now, and what is settled as it was said; the conversations of that are counted already."""
        said = self._before
        if said is None or not said.settled.any():
            return judged
        assert judged.found is not None
        told, concluded = said.numbers(judged.concluded)
        rows = np.flatnonzero(said.settled)
        columns = {name: getattr(judged, name).copy() for name in ("conclusion", "weight", "is_reply")}
        before = {"conclusion": told} | {
            name: getattr(said.judged, name)[said.window] for name in ("weight", "is_reply")
        }
        for name, column in columns.items():
            column[rows] = before[name][rows]
        is_counted = np.zeros(len(judged.found), dtype=np.bool_)
        is_counted[judged.found.of[rows]] = True
        is_first = judged.is_first & ~is_counted[judged.found.of]
        return dataclasses.replace(judged, **columns, concluded=concluded, is_first=is_first)

    def _changed(self, judged: Judged) -> tuple[Rows, Rows]:
        """The rows of the window that come to something else now, or are of a conversation between other ends or on
        another service; and those of which other packets or conversations are to be counted alone."""
        said = self._before
        if said is None:
            return np.zeros(0, dtype=np.int64), np.zeros(0, dtype=np.int64)
        before, count = said.judged, len(said.settled)
        told, _ = said.numbers(judged.concluded)
        is_other = told != judged.conclusion[:count]
        for mine, now in zip(_asked(before, said.window), _asked(judged, slice(count)), strict=True):
            is_other |= mine != now
        is_recounted = np.zeros(count, dtype=np.bool_)
        for name in ("weight", "is_first", "is_reply"):
            is_recounted |= getattr(before, name)[said.window] != getattr(judged, name)[:count]
        return np.flatnonzero(is_other & ~said.settled), np.flatnonzero(is_recounted & ~is_other & ~said.settled)

    def _take_back(self, rows: Rows) -> None:
        """Take back what was said of some rows of the window."""
        said = self._before
        assert said is not None
        tallies = self._evaluator.summed(said.table, said.judged, said.first + rows)
        self.summary.take_all(tallies, self.comparison.finding, taken_back=True)

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
        settled = self._before.settled if self._before is not None else np.zeros(0, dtype=np.bool_)
        self._before, self._unheard = _Said.of(table, judged, first, settled), unheard[first:]


def _asked(judged: Judged, rows: slice) -> tuple[Rows, ...]:
    """Between which ends and on which service the conversations of some records are, int64[n] each."""
    found, asked = judged.found, judged.asked
    assert found is not None and asked is not None
    of = found.of[rows]
    return asked.sender[of], asked.target[of], asked.service[of]
