"""Flow logs and probes held to many questions at once: what was seen of the traffic that each asks about."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from kiboko.batch.accounts import Accounts
from kiboko.batch.heard_out import heard_out
from kiboko.batch.piecework import outcomes
from kiboko.batch.probes_read import ProbesRead, left_aside
from kiboko.batch.ticket import is_asked
from kiboko.core.evidence.asking import Asking
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.observed import Observed, observe, shown_by
from kiboko.core.evidence.silence import with_doubt
from kiboko.core.network.model import Topology
from kiboko.core.records.flow_query import FlowFilter
from kiboko.core.records.flow_table import milliseconds
from kiboko.core.walk.walk import Walker
from kiboko.files.elements.column_map import USUAL, ColumnMap
from kiboko.files.logs.chosen_files import flow_files, without_copies
from kiboko.files.logs.window_reader import FileRead, WindowReader
from kiboko.files.logs.windows import Spans, Window, of_one_time, windows_of


@dataclass(slots=True)
class ObservedWindow:
    """What came of a window; what is `doubted` holds instead where other logs of its time were read apart from it.
    `spans` are the times that its tables are of."""

    observed: list[Observed]
    doubted: list[Observed]
    files: list[FileRead]
    spans: list[tuple[int, int]]


@dataclass(frozen=True, slots=True)
class ObserveJob:
    """Windows held to questions about one network."""

    topology: Topology
    asked: tuple[Asking, ...]
    wanted: FlowFilter
    columns: ColumnMap = USUAL

    def start(self) -> Callable[[Window], ObservedWindow]:
        """Make a worker."""
        evaluator, reader = Evaluator(Comparison(Walker(self.topology))), WindowReader(self.columns)

        def look(window: Window) -> ObservedWindow:
            found, doubted = ([Observed() for _ in self.asked] for _ in range(2))
            outcome = ObservedWindow(found, doubted if window.chain >= 0 else found, [], [])
            for part in reader.read(window, outcome.files):
                table, own, judged = heard_out(evaluator, part)
                wanted = self.wanted.mask(table)
                _merge(found, observe(evaluator, table, judged, own, wanted, self.asked))
                if window.chain >= 0:
                    _, doubtful = with_doubt(evaluator, table, judged)
                    _merge(doubted, observe(evaluator, table, doubtful, own, wanted, self.asked))
                    outcome.spans += part.spans
            return outcome

        return look


@dataclass(frozen=True, slots=True)
class Evidence:
    """Flow logs and files of probe records, how they are read, and of which time."""

    flows: Sequence[str | Path] = ()
    probes: Sequence[Path] = ()
    wanted: FlowFilter = field(default_factory=FlowFilter)
    columns: ColumnMap = USUAL
    strict: bool = False


def observed_of(walker: Walker, asked: Sequence[Asking], evidence: Evidence) -> tuple[list[Observed], list[str]]:
    """What evidence shows of each question, and what has to be borne in mind. Raises InputError for a file of which
    nothing can be read."""
    found = [Observed() for _ in asked]
    told: list[str] = []
    if evidence.flows:
        paths, told = without_copies(flow_files(evidence.flows))
        windows = windows_of(paths, evidence.columns)
        accounts = Accounts(paths, evidence.strict)
        job = ObserveJob(walker.topology, tuple(asked), evidence.wanted, evidence.columns)
        spans: list[Spans] = []
        apart: list[tuple[int, ObservedWindow]] = []
        for number, (window, outcome) in enumerate(zip(windows, outcomes(job, windows), strict=True)):
            accounts.take(window, outcome)
            spans.append(outcome.spans)
            if outcome.doubted == outcome.observed:
                _merge(found, outcome.observed)
            else:
                apart.append((number, outcome))
        doubted = of_one_time(windows, spans)
        for number, outcome in apart:
            _merge(found, outcome.doubted if number in doubted else outcome.observed)
        told += accounts.sentences()
    told += _take_probes(walker, asked, evidence, found)
    return found, told


def _merge(into: Sequence[Observed], more: Sequence[Observed]) -> None:
    for mine, others in zip(into, more, strict=True):
        mine.merge(others)


def _take_probes(walker: Walker, asked: Sequence[Asking], evidence: Evidence, found: list[Observed]) -> list[str]:
    comparison, read = Comparison(walker), ProbesRead(evidence.probes, evidence.strict, evidence.wanted)
    doubts: Counter[str] = Counter()
    for record, probe in read.each(comparison):
        mine = [each for each, asking in zip(found, asked, strict=True) if probe and is_asked(asking, probe)]
        finding = comparison.probe(record, probe) if mine else None
        if probe is None or finding is None:
            continue
        if finding.walk is None:
            doubts[finding.why] += 1
            continue
        told = shown_by(finding.concluded, probe.service.protocol)
        for each in mine:
            each.note(told, 1, milliseconds(record.time))
    return [*read.caveats, *left_aside(doubts)]
