"""Files of probe records, held against the rules."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
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
from kiboko.files.logs.chosen_files import without_copies
from kiboko.files.logs.probe_log import read_probes

_MOST_DOUBTS = 5
Wanted = Callable[[ProbeAsked], bool]


@dataclass(slots=True)
class ProbesTaken:
    """What came of files of probe records: how many were of the time asked for, how many were not, and what has to be
    borne in mind."""

    used: int = 0
    left_out: int = 0
    caveats: list[str] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class ProbesRead:
    """Files of probe records, and which times count, as a user gives them: `since` and later, before `until`."""

    paths: Sequence[Path]
    strict: bool = False
    since: str | None = None
    until: str | None = None

    def taken(self, comparison: Comparison, summary: Summary, is_wanted: Wanted | None = None) -> ProbesTaken:
        """Hold the records against the rules, or those of them that are wanted, and take them into a summary.

        Raises
        ------
        InputError : for a file that cannot be read, or of which not one record can
        UsageError : for a time that is none
        """
        times = FlowFilter()
        if self.since or self.until:
            from kiboko.files.elements.fields import time_filter  # takes long to load

            times = time_filter(self.since, self.until)
        found = ProbesTaken()
        paths, copies = without_copies(self.paths)
        found.caveats.extend(copies)
        for path in paths:
            self._take(path, comparison, summary, is_wanted, times, found)
        if found.left_out:
            told = "1 probe is" if found.left_out == 1 else f"{found.left_out:,} probes are"
            found.caveats.append(f"{told} not of the time asked for, and left out")
        return found

    def _take(
        self, path: Path, comparison: Comparison, summary: Summary, is_wanted: Wanted | None, times: FlowFilter,
        found: ProbesTaken,
    ) -> None:  # fmt: skip
        rejects = Rejects(str(path), self.strict)
        used = 0
        for number, record in enumerate(read_probes(path, rejects), 1):
            is_due = is_of_time(record, times)
            try:
                is_mine = is_due and (is_wanted is None or is_wanted(comparison.probes.of(record)))
                finding = comparison.probe(record) if is_mine else None
            except UsageError as error:
                rejects.note("ends that the network does not know", str(error), number)
                continue
            used += 1
            found.used, found.left_out = found.used + is_due, found.left_out + (not is_due)
            if finding is not None:
                summary.add(record, finding)
        if not used:
            told = "there is no record in it"
            if rejects.total:
                what = "; ".join(rejects.sentences())
                told = f"no record could be used; {what}; probe records are JSON Lines, and flow logs go with --flows"
            raise InputError(f"{path}: {told}")
        summary.rejected += rejects.total
        found.caveats.extend(rejects.sentences())


def left_aside(doubts: Counter[str]) -> list[str]:
    """Sentences that say of how many probes why they tell nothing."""
    return [f"{count:,} probe{' tells' if count == 1 else 's tell'} nothing: {doubt}"
            for doubt, count in doubts.most_common(_MOST_DOUBTS)]  # fmt: skip


def is_of_time(record: ProbeRecord, times: FlowFilter) -> bool:
    """Whether a probe was sent in the time asked for."""
    when = milliseconds(record.time)
    return (times.since is None or when >= times.since) and (times.until is None or when < times.until)
