"""Windows of flow logs judged: what each worker does, whatever other windows hold."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kiboko.batch.heard_out import heard_out
from kiboko.core.evidence.asking import Asking, Beside, RecordedEnds
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.coverage import Coverage, SubnetPlaces
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.judged import Judged
from kiboko.core.evidence.older_sessions import NO_KEYS, Keys, leaks_without_opening, older, with_older
from kiboko.core.evidence.rule_usage import RuleUsage
from kiboko.core.evidence.silence import with_doubt
from kiboko.core.evidence.summing import as_slice
from kiboko.core.evidence.tallies import Tallies
from kiboko.core.memory import without_garbage
from kiboko.core.network.model import Topology
from kiboko.core.records.flow_query import FlowFilter
from kiboko.core.records.flow_table import NO_TIME, FlowTable, milliseconds
from kiboko.core.walk.walk import Walker
from kiboko.files.elements.column_map import ColumnMap
from kiboko.files.logs.window_reader import FileRead, WindowReader
from kiboko.files.logs.windows import Window


@dataclass(frozen=True, slots=True)
class Silence:
    """What some conversations come to that break by their silence alone, or by a reset: where no other log of their
    time is there, and where one is, in which their answers may stand."""

    told: tuple[Tallies, Coverage]
    doubted: tuple[Tallies, Coverage]


@dataclass(frozen=True, slots=True)
class Revised:
    """What some records came to, and come to in the light of what other windows hold."""

    before: tuple[Tallies, Coverage]
    after: tuple[Tallies, Coverage]


@dataclass(frozen=True, slots=True)
class JudgedWindow:
    """What came of a window: its tallies, the accounts of its files, how many records were not wanted, and what the
    others cover. Of `twice` and `elsewhere` many records other ones show the same packets: in the same capture, or at
    another point. `beside` counts those beside what was asked about. Where other logs are read apart from it, some
    `silences` are left open, and `spans` are the times that its tables are of.
    """

    tallies: list[Tallies]
    files: list[FileRead]
    left_out: int
    coverage: Coverage
    twice: int
    elsewhere: int
    beside: Beside
    usage: RuleUsage | None = None
    """The rules that they met, where that is asked for."""
    silences: tuple[Silence, ...] = ()
    spans: tuple[tuple[int, int], ...] = ()
    older: Keys = field(default_factory=lambda: NO_KEYS)
    """Sessions that are older than the rules, by their keys."""
    unopened: Keys = field(default_factory=lambda: NO_KEYS)
    """Those that leak and of which no opening was recorded, which may be older than the rules as well."""

    @property
    def read(self) -> int:
        """How many records there are."""
        return sum(each.read for each in self.files)


class Worker:
    """Judges windows for one topology."""

    def __init__(
        self, topology: Topology, wanted: FlowFilter, columns: ColumnMap, asking: Asking | None = None,
        comparison: Comparison | None = None, with_usage: bool = False, only_usage: bool = False,
        sessions: Keys = NO_KEYS,
    ) -> None:  # fmt: skip
        """`comparison` is one of the same topology, whose walks are remembered, where this process has one;
        `with_usage` tells which rules were met as well, `only_usage` nothing else. `sessions` are known to be older
        than the rules, by their keys."""
        self._sessions, self._as_of = sessions, milliseconds(topology.as_of)
        self._topology, self._with_usage, self._only_usage = topology, with_usage, only_usage
        self._evaluator = Evaluator(comparison or Comparison(Walker(topology)))
        self._reader = WindowReader(columns)
        self._wanted, self._asking = wanted, asking
        self._places = SubnetPlaces.of(topology)

    def judge(self, window: Window) -> JudgedWindow:
        """Read and judge one window. Raises InputError."""
        files: list[FileRead] = []
        tallies: list[Tallies] = []
        left_out = twice = elsewhere = 0
        beside = Beside()
        usage = RuleUsage(self._topology) if self._with_usage else None
        coverage = Coverage(self._places)
        silences: list[Silence] = []
        spans: list[tuple[int, int]] = []
        older_keys, unopened = [NO_KEYS], [NO_KEYS]
        for part in self._reader.read(window, files):
            with without_garbage():
                table, own, judged = heard_out(self._evaluator, part)
                wanted = own & self._wanted.mask(table)
                left_out += int(own.sum()) - int(wanted.sum())
                rows = np.flatnonzero(wanted)
                silent, doubted = self._doubted(window, table, judged)
                together = as_slice(rows[~silent[rows]])
                coverage.add(table.taken(together), judged.part(together))
                met_silent = rows[silent[rows]]
                if self._asking is not None:
                    ends = RecordedEnds(judged, self._evaluator.ends_of(table, judged))
                    met = self._asking.recorded(ends, wanted)
                    rows, beside = met.rows, beside.and_more(met.beside)
                summed = self._evaluator.summed(table, judged, rows)
                if usage is not None:
                    for each in self._evaluator.uses(table, judged, summed, rows):
                        usage.take(*each)
                left_open = rows[silent[rows]]
                if len(left_open):
                    summed = self._evaluator.summed(table, judged, rows[~silent[rows]])
                if not self._only_usage:
                    tallies.append(summed)
                if len(met_silent):
                    silences.append(Silence(
                        *((self._evaluator.summed(table, each, left_open), self._covered(table, each, met_silent))
                          for each in (judged, doubted))
                    ))  # fmt: skip
            joined = judged.joined(rows)
            twice, elsewhere = twice + joined[0], elsewhere + joined[1]
            spans += part.spans if window.chain >= 0 else []
            if self._as_of != NO_TIME and not self._only_usage:
                older_keys.append(older(table, judged, self._as_of))
                unopened.append(leaks_without_opening(table, judged)[1])
        return JudgedWindow(tallies, files, left_out, coverage, twice, elsewhere, beside, usage, tuple(silences),
                            tuple(spans), np.concatenate(older_keys), np.concatenate(unopened))  # fmt: skip

    def revise(self, window: Window) -> list[Revised]:
        """What some records of a window came to, and come to since sessions are known to be older than the rules.
        Raises InputError."""
        found = []
        for part in self._reader.read(window, []):
            with without_garbage():
                table, own, before = heard_out(self._evaluator, part)
                after = with_older(self._evaluator, table, before, self._sessions)
                wanted = own & self._wanted.mask(table)
                rows = covered = np.flatnonzero(wanted & (before.conclusion != after.conclusion))
                if self._asking is not None:
                    ends = RecordedEnds(before, self._evaluator.ends_of(table, before))
                    rows = np.intersect1d(rows, self._asking.recorded(ends, wanted).rows)
                if len(covered):
                    found.append(Revised(*(
                        (self._evaluator.summed(table, each, rows), self._covered(table, each, covered))
                        for each in (before, after)
                    )))  # fmt: skip
        return found

    def _doubted(self, window: Window, table: FlowTable, judged: Judged) -> tuple[NDArray[np.bool_], Judged]:
        """Which records of a window, bool[n], break by their silence alone, or by a reset, where other logs are read
        apart from it, and what all come to if these are of its time."""
        if window.chain < 0:
            return np.zeros(len(judged.conclusion), dtype=np.bool_), judged
        return with_doubt(self._evaluator, table, judged)

    def _covered(self, table: FlowTable, judged: Judged, rows: NDArray[np.int64]) -> Coverage:
        found = Coverage(self._places)
        found.add(table.taken(rows), judged.part(rows))
        return found


@dataclass(frozen=True, slots=True)
class JudgeJob:
    """Windows judged for one topology; where somebody asks about some traffic, only that is summed up."""

    topology: Topology
    wanted: FlowFilter
    columns: ColumnMap
    asking: Asking | None = None
    with_usage: bool = False
    only_usage: bool = False

    def start(self) -> Callable[[Window], JudgedWindow]:
        """Make a worker."""
        return self.worker(None).judge

    def worker(self, comparison: Comparison | None) -> Worker:
        """A worker, with the walks that a comparison remembers, where there is one."""
        return Worker(
            self.topology, self.wanted, self.columns, self.asking, comparison, self.with_usage, self.only_usage
        )


@dataclass(frozen=True, slots=True)
class ReviseJob:
    """Windows held once more against one topology, of which some sessions are known to be older than its rules."""

    topology: Topology
    wanted: FlowFilter
    columns: ColumnMap
    asking: Asking | None
    sessions: Keys

    def start(self) -> Callable[[Window], list[Revised]]:
        """Make a worker."""
        return Worker(self.topology, self.wanted, self.columns, self.asking, sessions=self.sessions).revise
