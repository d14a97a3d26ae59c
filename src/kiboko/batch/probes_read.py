"""Files of probe records, held against the rules."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from kiboko.core.errors import InputError, UsageError
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.probed import ProbeAsked
from kiboko.core.evidence.summary import Summary
from kiboko.core.records.flow_query import FlowFilter
from kiboko.core.records.flow_table import milliseconds
from kiboko.core.records.records import ProbeRecord
from kiboko.files.elements.rejects import Rejects
from kiboko.files.logs.chosen_files import given_file, without_copies
from kiboko.files.logs.probe_log import read_probes

_MOST_DOUBTS = 5
Wanted = Callable[[ProbeAsked], bool]


@dataclass(slots=True)
class ProbesRead:
    """Files of probe records, and which times count. While they are read it is counted how many are of the time asked
    for (`used`) and how many are not (`left_out`), how many rows were `rejected`, and told what has to be borne in mind
    (`caveats`)."""

    paths: Sequence[Path]
    strict: bool = False
    times: FlowFilter = field(default_factory=FlowFilter)
    used: int = 0
    left_out: int = 0
    rejected: int = 0
    caveats: list[str] = field(default_factory=list)

    def each(self, comparison: Comparison) -> Iterator[tuple[ProbeRecord, ProbeAsked | None]]:
        """Every probe of the time asked for, and what it asked; None where its packets went elsewhere and its ends have
        no address to go to.

        Raises
        ------
        InputError : for a file that cannot be read, or of which not one record can
        """
        paths, copies = without_copies([given_file(path) for path in self.paths])
        self.caveats.extend(copies)
        for path in paths:
            yield from self._of_file(path, comparison)
        if self.left_out:
            told = "1 probe is" if self.left_out == 1 else f"{self.left_out:,} probes are"
            self.caveats.append(f"{told} not of the time asked for, and left out")

    def taken(self, comparison: Comparison, summary: Summary, is_wanted: Wanted | None = None) -> list[str]:
        """Hold the probes against the rules, or those that are wanted, and take them into a summary; what has to be
        borne in mind. Raises InputError, as `each` does."""
        for record, asked in self.each(comparison):
            if is_wanted is None or (asked is not None and is_wanted(asked)):
                summary.add(record, comparison.probe(record, asked))
        summary.rejected += self.rejected
        return self.caveats

    def _of_file(self, path: Path, comparison: Comparison) -> Iterator[tuple[ProbeRecord, ProbeAsked | None]]:
        rejects, known = Rejects(str(path), self.strict), False
        for number, record in enumerate(read_probes(path, rejects), 1):
            asked = None
            try:
                asked = comparison.probes.of(record)
            except UsageError as error:
                if not record.redirected:
                    rejects.note("ends that the network does not know", str(error), number)
                    continue
            known = True
            if is_of_time(record, self.times):
                self.used += 1
                yield record, asked
            else:
                self.left_out += 1
        if not known:
            told = "there is no record in it"
            if rejects.total:
                what = "; ".join(rejects.sentences())
                told = f"no record could be used; {what}; probe records are JSON Lines, and flow logs go with --flows"
            raise InputError(f"{path}: {told}")
        self.rejected += rejects.total
        self.caveats.extend(rejects.sentences())


def times_of(since: str | None, until: str | None) -> FlowFilter:
    """The filter of two times as a user gives them. Raises UsageError for what is no time."""
    if not since and not until:
        return FlowFilter()
    from kiboko.files.elements.fields import time_filter  # takes long to load

    return time_filter(since, until)


def left_aside(doubts: Counter[str]) -> list[str]:
    """Sentences that say of how many probes why they tell nothing."""
    return [f"{count:,} probe{' tells' if count == 1 else 's tell'} nothing: {doubt}"
            for doubt, count in doubts.most_common(_MOST_DOUBTS)]  # fmt: skip


def is_of_time(record: ProbeRecord, times: FlowFilter) -> bool:
    """Whether a probe was sent in the time asked for."""
    when = milliseconds(record.time)
    return (times.since is None or when >= times.since) and (times.until is None or when < times.until)
