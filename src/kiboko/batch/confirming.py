"""Rules held against probes and flow logs: the whole of what `confirm` does, but for showing it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from kiboko.core.errors import InputError, UsageError
from kiboko.core.evidence.causes import Causes
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.summary import Summary
from kiboko.core.records.records import ProbeRecord
from kiboko.core.walk.walk import Walker
from kiboko.files.elements.rejects import Rejects
from kiboko.files.logs.chosen_files import without_copies
from kiboko.files.logs.probe_log import read_probes

if TYPE_CHECKING:
    from kiboko.batch.flow_judging import FlowJudge
    from kiboko.core.evidence.asking import Asking
    from kiboko.core.evidence.coverage import Coverage
    from kiboko.core.evidence.probed import Probed


@dataclass(frozen=True, slots=True)
class Confirmed:
    """Findings in groups, likely causes, what has to be borne in mind, and what flow records cover where there are
    any."""

    summary: Summary
    causes: Causes
    caveats: list[str]
    coverage: Coverage | None


@dataclass(frozen=True, slots=True)
class FlowsRead:
    """Flow logs, and how they are read: which times (as a user gives them), by which mapping file, on which cluster."""

    flows: Sequence[str | Path]
    strict: bool = False
    since: str | None = None
    until: str | None = None
    columns: Sequence[Path] | None = None
    cluster: str | None = None

    def judged(
        self, comparison: Comparison, summary: Summary, asking: Asking | None = None
    ) -> tuple[FlowJudge, list[str]]:
        """The logs judged, and taken into a summary: of what is asked about alone, where anything is. And what has to
        be borne in mind. Raises InputError and UsageError, as `confirmed` does."""
        # Only who brings flow records pays for the libraries that read them.
        from kiboko.batch.flow_judging import FlowJudge
        from kiboko.files.elements.column_map import USUAL
        from kiboko.files.elements.fields import time_filter
        from kiboko.files.logs.chosen_files import flow_files

        column_map = USUAL
        if self.columns:
            from kiboko.files.elements.mapping_file import read_column_maps

            column_map = read_column_maps(self.columns)
        wanted = time_filter(self.since, self.until)
        judge = FlowJudge(comparison, summary, self.strict, wanted, columns=column_map, asking=asking)
        caveats = judge.take(flow_files(self.flows), cluster=self.cluster)
        if judge.left_out:
            caveats.append(f"{flow_records(judge.left_out, 'is', 'are')} not of the time asked for, and left out")
        if judge.twice:
            told = flow_records(judge.twice, "shows", "show")
            caveats.append(
                f"{told} packets that others of the same capture show as well; packets and octets count once"
            )
        if judge.elsewhere:
            told = flow_records(judge.elsewhere, "shows", "show")
            caveats.append(f"{told} packets that were recorded at another point as well; packets and octets count once")
        return judge, caveats


def confirmed(
    walker: Walker,
    probes: Sequence[Path],
    flows: Sequence[str | Path],
    strict: bool = False,
    *,
    since: str | None = None,
    until: str | None = None,
    columns: Sequence[Path] | None = None,
    cluster: str | None = None,
    older: Walker | None = None,
) -> Confirmed:
    """Hold files of probe records and flow logs against the rules.

    Parameters
    ----------
    since, until : times as a user gives them; flow records of other times are left out
    columns : mapping files for the flow logs
    cluster : where to read them, as `cluster_outcomes` has it; None for this machine
    older : an older version of the network, whose rules may still be in force

    Raises
    ------
    InputError : for a file that cannot be read, or of which not one record can
    UsageError : for a time that is none
    """
    comparison, summary = Comparison(walker), Summary(walker.directory)
    caveats: list[str] = []
    coverage = None
    paths, copies = without_copies(probes)
    caveats.extend(copies)
    for path in paths:
        caveats.extend(take_probes(path, strict, comparison, summary)[1])
    if flows:
        reading = FlowsRead(flows, strict, since, until, columns, cluster)
        judge, told = reading.judged(comparison, summary)
        caveats.extend(told)
        coverage = judge.coverage
    causes = Causes(walker, summary.rows(), older)
    if causes.caveat:
        caveats.append(causes.caveat)
    return Confirmed(summary, causes, caveats, coverage)


def flow_records(number: int, one: str, several: str) -> str:
    """How many flow records do something."""
    return f"{number:,} flow record{'' if number == 1 else 's'} {one if number == 1 else several}"


def take_probes(
    path: Path,
    strict: bool,
    comparison: Comparison,
    summary: Summary,
    is_wanted: Callable[[ProbeRecord, Probed], bool] | None = None,
) -> tuple[int, list[str]]:
    """Hold a file of probe records against the rules, or those of them that are wanted. How many could be used, wanted
    or not, and what was rejected, in sentences. Raises InputError where not one could."""
    rejects = Rejects(str(path), strict)
    used = 0
    for number, record in enumerate(read_probes(path, rejects), 1):
        try:
            if is_wanted is None or is_wanted(record, comparison.probes.of(record)):
                summary.add(record, comparison.probe(record))
            used += 1
        except UsageError as error:
            rejects.note("ends that the network does not know", str(error), number)
    if not used:
        told = "there is no record in it"
        if rejects.total:
            what = "; ".join(rejects.sentences())
            told = f"no record could be used; {what}; probe records are JSON Lines, and flow logs go with --flows"
        raise InputError(f"{path}: {told}")
    summary.rejected += rejects.total
    return used, rejects.sentences()
