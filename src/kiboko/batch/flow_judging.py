"""Flow logs read and judged window by window, by several processes where there is enough to read.

Each worker reads a window, judges it with the evaluator, and hands back its tallies, which are small; they are
taken in in the order of the windows, so that the result is the same whoever did the work.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kiboko.batch.accounts import Accounts
from kiboko.batch.heard_out import heard_out
from kiboko.batch.piecework import cluster_outcomes, outcomes
from kiboko.core.evidence.asking import Asking, Beside, RecordedEnds
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.coverage import Coverage, SubnetPlaces
from kiboko.core.evidence.evaluator import Evaluator, as_slice
from kiboko.core.evidence.judged import Judged
from kiboko.core.evidence.older_sessions import NO_KEYS, Keys, leaks_without_opening, older
from kiboko.core.evidence.rule_usage import RuleUsage
from kiboko.core.evidence.summary import Counted, Summary
from kiboko.core.evidence.tallies import Tallies
from kiboko.core.memory import without_garbage
from kiboko.core.network.model import Topology
from kiboko.core.records.flow_query import FlowFilter
from kiboko.core.records.flow_table import NO_TIME, FlowTable, milliseconds
from kiboko.core.records.line_places import LinePlaces
from kiboko.core.walk.walk import Walker
from kiboko.files.elements.column_map import USUAL, ColumnMap
from kiboko.files.logs.chosen_files import without_copies
from kiboko.files.logs.window_reader import FileRead, WindowReader
from kiboko.files.logs.windows import Spans, Window, of_one_time, windows_of


@dataclass(frozen=True, slots=True)
class Silence:
    """What some conversations come to that break by their silence alone: where no other log of their time is there, and
    where one is, in which their answers may stand."""

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
                silent, doubted = self._doubted(window, judged)
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
                if len(met_silent):
                    summed = self._evaluator.summed(table, judged, rows[~silent[rows]])
                    told = rows[silent[rows]]
                    silences.append(Silence(
                        *((self._evaluator.summed(table, each, told), self._covered(table, each, met_silent))
                          for each in (judged, doubted))
                    ))  # fmt: skip
                if not self._only_usage:
                    tallies.append(summed)
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
                after = self._evaluator.with_older(table, before, self._sessions)
                rows = covered = np.flatnonzero(
                    own & self._wanted.mask(table) & (before.conclusion != after.conclusion)
                )
                if self._asking is not None:
                    ends = RecordedEnds(before, self._evaluator.ends_of(table, before))
                    rows = np.intersect1d(rows, self._asking.recorded(ends, own & self._wanted.mask(table)).rows)
                if len(covered):
                    found.append(Revised(*(
                        (self._evaluator.summed(table, each, rows), self._covered(table, each, covered))
                        for each in (before, after)
                    )))  # fmt: skip
        return found

    def _doubted(self, window: Window, judged: Judged) -> tuple[NDArray[np.bool_], Judged]:
        """Which records of a window, bool[n], break by their silence alone where other logs are read apart from it, and
        what all come to if these are of its time."""
        if window.chain < 0:
            return np.zeros(len(judged.conclusion), dtype=np.bool_), judged
        return self._evaluator.with_doubt(judged)

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


def _here(job: JudgeJob, comparison: Comparison) -> Callable[[Window], JudgedWindow]:
    """A worker in this very process: what it has walked need not be walked again to be told of."""
    return job.worker(comparison).judge


class FlowJudge:
    """Takes flow logs into a summary, into the usage of rules, or into both."""

    def __init__(
        self,
        comparison: Comparison,
        summary: Summary | None,
        strict: bool = False,
        wanted: FlowFilter | None = None,
        usage: RuleUsage | None = None,
        columns: ColumnMap = USUAL,
        asking: Asking | None = None,
    ) -> None:
        self._comparison = comparison
        self._summary = summary
        self._usage = usage
        self._strict = strict
        self._wanted = wanted or FlowFilter()
        self._columns = columns
        self._asking = asking
        self.read = self.left_out = self.twice = self.elsewhere = 0
        self.beside = Beside()
        self.coverage = Coverage(SubnetPlaces.of(comparison.walker.topology))

    def take(self, paths: list[Path], workers: int | None = None, cluster: str | None = None) -> list[str]:
        """Judge some files, on this machine or on a cluster. What was rejected, in sentences. Raises InputError where a
        file cannot be used."""
        paths, copies = without_copies(paths)
        windows = windows_of(paths, self._columns)
        job = JudgeJob(
            self._comparison.walker.topology,
            self._wanted,
            self._columns,
            self._asking,
            self._usage is not None,
            self._summary is None,
        )
        here = functools.partial(_here, job, self._comparison)
        done = (
            cluster_outcomes(job, windows, cluster, self._counted)
            if cluster
            else outcomes(job, windows, workers, here, self._counted)
        )
        return copies + self._take_all(paths, windows, done, cluster)

    def _counted(self, outcome: JudgedWindow) -> tuple[JudgedWindow, list[Counted]]:
        """What came of a window, and its groups where they are summed up."""
        if self._summary is None:
            return outcome, []
        with without_garbage():
            return outcome, [self._summary.counted(each, self._comparison.finding) for each in outcome.tallies]

    def _revise(self, sessions: Keys, unopened: Sequence[tuple[Window, LinePlaces, Keys]], cluster: str | None) -> None:
        """Look once more at windows in which sessions seem to leak that others show to be older than the rules."""
        again = [(window, places) for window, places, keys in unopened if np.isin(keys, sessions).any()]
        if not again or self._summary is None:
            return
        job = ReviseJob(self._comparison.walker.topology, self._wanted, self._columns, self._asking, sessions)
        windows = [window for window, _ in again]
        done = cluster_outcomes(job, windows, cluster) if cluster else outcomes(job, windows)
        for (_, places), found in zip(again, done, strict=True):
            for each in found:
                self.coverage.correct(each.before[1], each.after[1])
                for taken_back, (tallies, _) in ((True, each.before), (False, each.after)):
                    with without_garbage():
                        self._summary.take_all(tallies, self._comparison.finding, places, taken_back)

    def _take_silence(self, silence: tuple[Tallies, Coverage], places: LinePlaces) -> None:
        tallies, coverage = silence
        self.coverage.merge(coverage)
        if self._summary is not None:
            with without_garbage():
                self._summary.gather(self._summary.counted(tallies, self._comparison.finding), places)

    def _take_all(
        self, paths: list[Path], windows: list[Window], done: Iterator[tuple[JudgedWindow, list[Counted]]],
        cluster: str | None,
    ) -> list[str]:  # fmt: skip
        accounts = Accounts(paths, self._strict)
        left: list[tuple[int, Silence, LinePlaces]] = []
        spans: list[Spans] = []
        sessions = [NO_KEYS]
        unopened: list[tuple[Window, LinePlaces, Keys]] = []
        for window, (outcome, counted) in zip(windows, done, strict=True):
            places = accounts.take(window, outcome)
            if self._summary is not None:
                with without_garbage():
                    for groups in counted:
                        self._summary.gather(groups, places)
            if self._usage is not None and outcome.usage is not None:
                self._usage.merge(outcome.usage)
            self.read += outcome.read
            self.beside = self.beside.and_more(outcome.beside)
            self.left_out += outcome.left_out
            self.twice += outcome.twice
            self.elsewhere += outcome.elsewhere
            self.coverage.merge(outcome.coverage)
            left += [(len(spans), each, places) for each in outcome.silences]
            spans.append(outcome.spans)
            sessions.append(outcome.older)
            unopened.append((window, places, outcome.unopened))
        self._revise(np.concatenate(sessions), unopened, cluster)
        doubted = of_one_time(windows, spans)
        for number, each, places in left:
            self._take_silence(each.doubted if number in doubted else each.told, places)
        if self._summary is not None:
            self._summary.rejected += accounts.rejected
        return accounts.sentences()
