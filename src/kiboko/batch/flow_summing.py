"""Flow logs summed up window by window, on this machine or on a cluster."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from kiboko.batch.accounts import Accounts
from kiboko.batch.piecework import cluster_outcomes, outcomes
from kiboko.core.header.addresses import Address
from kiboko.core.network.model import Topology
from kiboko.core.records.address_names import Stretches
from kiboko.core.records.flow_query import MINUTE, FlowFilter, Timeline
from kiboko.core.records.flow_sums import Sums
from kiboko.core.records.flow_table import FlowTable
from kiboko.core.walk.walk import Walker
from kiboko.files.elements.column_map import USUAL, ColumnMap
from kiboko.files.logs.chosen_files import without_copies
from kiboko.files.logs.window_reader import FileRead, WindowPart, WindowReader
from kiboko.files.logs.windows import Window, windows_of

if TYPE_CHECKING:
    from kiboko.core.evidence.evaluator import Evaluator
    from kiboko.core.evidence.rules_met import RuleKey


@dataclass(frozen=True, slots=True)
class Question:
    """What is asked of flow logs: which records, by which fields, and with which rules they must have met. Without a
    topology, addresses stand for themselves."""

    wanted: FlowFilter
    fields: tuple[str, ...] = ()
    rules: frozenset[RuleKey] = frozenset()
    topology: Topology | None = None
    columns: ColumnMap = USUAL

    @property
    def is_of_single_records(self) -> bool:
        """Whether each record tells by itself whether it is wanted."""
        return not self.rules

    def start(self) -> Callable[[Window], SumOutcome]:
        """Make a worker."""
        return Summer(self).sum


@dataclass(slots=True)
class SumOutcome:
    """What came of a window."""

    sums: Sums
    timeline: Timeline
    files: list[FileRead]


class Summer:
    """Sums up windows, and chooses among records."""

    def __init__(self, question: Question) -> None:
        self._question = question
        self._walker = Walker(question.topology) if question.topology is not None else None
        directory = self._walker.directory if self._walker is not None else None
        self._stretches = Stretches(directory.name_edges(), directory.is_by_itself) if directory is not None else None
        self._names: dict[int, str | None] = {}
        """What the addresses of each stretch that was met are called."""
        self._evaluator: Evaluator | None = None
        if self._walker is not None and question.rules:  # only who asks for rules pays for what walks records
            from kiboko.core.evidence.comparison import Comparison
            from kiboko.core.evidence.evaluator import Evaluator

            self._evaluator = Evaluator(Comparison(self._walker))
        self._reader = WindowReader(question.columns)

    def sum(self, window: Window) -> SumOutcome:
        """Read and sum up one window. Raises InputError."""
        files: list[FileRead] = []
        sums = Sums(self._question.fields, self.name)
        timeline = Timeline(MINUTE, self._question.wanted.since)
        for chosen in self.chosen_of(window, files):
            sums.add(chosen)
            timeline.add(chosen)
        return SumOutcome(sums, timeline, files)

    def chosen_of(self, window: Window, files: list[FileRead]) -> Iterator[FlowTable]:
        """The records of a window that are wanted; `files` is given the accounts of its pieces. Raises InputError."""
        for part in self._reader.read(window, files):
            yield self._chosen(part)

    def name(self, address: Address) -> str:
        """A name beside an address, where the network has one."""
        if self._walker is None or self._stretches is None:
            return str(address)
        place = self._stretches.place(address)
        if place not in self._names:
            first = self._stretches.first(place)
            self._names[place] = None if first is None else self._walker.directory.name_of(first)
        known = self._names[place]
        return str(address) if known is None else f"{known} {address}"

    def _chosen(self, part: WindowPart) -> FlowTable:
        """The records of a part that are wanted, of its own lines."""
        keep = self._question.wanted.mask(part.table) & part.own
        if self._evaluator is not None:
            keep &= self._evaluator.meeting(part.table, self._question.rules)
        return part.table if keep.all() else part.table.taken(keep)


def summed(
    paths: list[Path], question: Question, strict: bool = False, cluster: str | None = None
) -> tuple[Sums, Timeline, list[str]]:
    """The sums and the time of some logs, and what was rejected, in sentences. Raises InputError."""
    paths, said = without_copies(paths)
    windows = windows_of(paths, question.columns, question.is_of_single_records)
    sums, timeline = Sums(question.fields), Timeline(MINUTE, question.wanted.since)
    accounts = Accounts(paths, strict)
    done = cluster_outcomes(question, windows, cluster) if cluster else outcomes(question, windows)
    for window, outcome in zip(windows, done, strict=True):
        accounts.take(window, outcome)
        sums.merge(outcome.sums)
        timeline.merge(outcome.timeline)
    return sums, timeline, said + accounts.sentences()
