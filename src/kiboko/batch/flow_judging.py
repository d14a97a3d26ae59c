"""Flow logs read and judged window by window, by several processes where there is enough to read.

Each worker reads a window, judges it with the evaluator, and hands back its tallies, which are small; they are
taken in in the order of the windows, so that the result is the same whoever did the work.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import numpy as np

from kiboko.batch.accounts import Accounts
from kiboko.batch.piecework import cluster_outcomes, outcomes
from kiboko.batch.window_judging import JudgedWindow, JudgeJob, ReviseJob, Silence
from kiboko.core.evidence.asking import Asking, Beside
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.coverage import Coverage, SubnetPlaces
from kiboko.core.evidence.older_sessions import NO_KEYS, Keys, among
from kiboko.core.evidence.rule_usage import RuleUsage
from kiboko.core.evidence.summary import Counted, Summary
from kiboko.core.evidence.tallies import Tallies
from kiboko.core.memory import without_garbage
from kiboko.core.records.columns import ascending
from kiboko.core.records.flow_query import FlowFilter
from kiboko.core.records.line_places import LinePlaces
from kiboko.files.elements.column_map import USUAL, ColumnMap
from kiboko.files.logs.chosen_files import without_copies
from kiboko.files.logs.windows import Spans, Window, of_one_time, windows_of


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
        again = [(window, places) for window, places, keys in unopened if among(keys, sessions).any()]
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
        self._revise(ascending(np.concatenate(sessions))[0], unopened, cluster)
        doubted = of_one_time(windows, spans)
        for number, each, places in left:
            self._take_silence(each.doubted if number in doubted else each.told, places)
        if self._summary is not None:
            self._summary.rejected += accounts.rejected
        return accounts.sentences()
