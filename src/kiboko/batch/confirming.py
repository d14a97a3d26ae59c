"""Rules held against probes and flow logs: the whole of what `confirm` does, but for showing it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from kiboko.batch.probes_read import ProbesRead, times_of
from kiboko.core.evidence.causes import Causes
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.summary import Summary
from kiboko.core.walk.walk import Walker

if TYPE_CHECKING:
    from kiboko.batch.flow_judging import FlowJudge
    from kiboko.core.evidence.asking import Asking
    from kiboko.core.evidence.coverage import Coverage


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
    since, until : times as a user gives them; probes and flow records of other times are left out
    columns : mapping files for the flow logs
    cluster : where to read them, as `cluster_outcomes` has it; None for this machine
    older : an older version of the network, whose rules may still be in force

    Raises
    ------
    InputError : for a file that cannot be read, or of which not one record can
    UsageError : for a time that is none
    """
    comparison, summary = Comparison(walker), Summary(walker.directory)
    coverage = None
    caveats = ProbesRead(probes, strict, times_of(since, until)).taken(comparison, summary)
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
