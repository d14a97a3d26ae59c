"""What evidence adds to an audit: rules that no recorded traffic met, and traffic that the rules say otherwise of."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from kiboko.batch.flow_judging import FlowJudge
from kiboko.batch.probes_read import ProbesRead, left_aside
from kiboko.core.audit.findings import Finding, few, found
from kiboko.core.errors import Place
from kiboko.core.evidence.causes import Causes
from kiboko.core.evidence.comparison import BREAK, LEAK, UNSURE, Comparison
from kiboko.core.evidence.finding_groups import FindingGroup
from kiboko.core.evidence.gathering import Gathered, gathered
from kiboko.core.evidence.rule_usage import RuleUsage
from kiboko.core.evidence.summary import Summary
from kiboko.core.queries.holders import Holders
from kiboko.core.walk.walk import Walker
from kiboko.files.elements.column_map import USUAL, ColumnMap
from kiboko.files.elements.fields import time_filter
from kiboko.files.logs.chosen_files import flow_files

NEVER_HIT, OLDER_SESSION = "never-hit", "older-session"
OF_EVIDENCE = (LEAK, BREAK, OLDER_SESSION, NEVER_HIT)
"""Kinds of findings that rest on evidence."""
_LOOKED_AROUND = 20
"""Of so many, the most recorded, what was met at their ends is weighed for their causes."""


@dataclass(frozen=True, slots=True)
class Recorded:
    """Evidence that is brought to an audit: flow logs and files of probe records, and how they are read."""

    flows: Sequence[str | Path] = ()
    probes: Sequence[Path] = ()
    columns: ColumnMap = field(default_factory=lambda: USUAL)
    strict: bool = False
    since: str | None = None
    until: str | None = None


def evidence_findings(
    walker: Walker, recorded: Recorded, kinds: Collection[str] = ()
) -> tuple[list[Finding], list[str]]:
    """What evidence shows, of all kinds that rest on it or of some, and what has to be borne in mind. Raises InputError
    and UsageError, as `confirm` does."""
    wanted = set(kinds or OF_EVIDENCE)
    comparison = Comparison(walker)
    summary = Summary(walker.directory) if wanted - {NEVER_HIT} else None
    usage = RuleUsage(walker.topology) if recorded.flows and NEVER_HIT in wanted else None
    caveats: list[str] = []
    findings: list[Finding] = []
    times = time_filter(recorded.since, recorded.until)
    if summary is not None:
        caveats += ProbesRead(recorded.probes, recorded.strict, times).taken(comparison, summary)
    if recorded.flows:
        judge = FlowJudge(comparison, summary, recorded.strict, times, usage, recorded.columns)
        caveats += judge.take(flow_files(recorded.flows))
    if summary is not None:
        causes = Causes(walker, summary.rows())
        alike = gathered(summary.rows((LEAK, BREAK, UNSURE)), Holders(walker))
        faults = _of_one_fault(alike)
        causes.look_around(each[0].groups[0] for each in faults[:_LOOKED_AROUND])
        findings += [_of_disagreement(each, causes) for each in faults]
        if causes.caveat:
            caveats.append(causes.caveat)
        doubts: Counter[str] = Counter()
        for group in summary.rows((UNSURE,)).of("probe"):
            doubts[group.concluded.why] += group.count if group.finding.walk is None else 0
        caveats += left_aside(+doubts)
        findings += [_of_older(each) for each in alike if each.groups[0].concluded.cause == OLDER_SESSION]
    if usage is not None:
        findings += _never_hit(usage)
        caveats += usage.caveats
    return [each for each in findings if each.id in wanted], caveats


def _never_hit(usage: RuleUsage) -> Iterator[Finding]:
    """Enabled rules that nothing in the logs hit; none where nothing was held against them."""
    for line in usage.lines() if usage.records else ():
        if line.is_enabled and line.is_never_hit:
            yield found(
                NEVER_HIT, "/".join(line.key), line.place,
                f"none of {usage.records:,} recorded flows met it ({line.action} {line.what})",
                "take it out, once the log is long enough to have met it",
            )  # fmt: skip


def _of_one_fault(alike: Sequence[Gathered]) -> list[list[Gathered]]:
    """Leaks and breaks, those of the same two ends at the same rule together: by flow records and by probes."""
    found: dict[tuple[object, ...], list[Gathered]] = {}
    for each in alike:
        status = each.groups[0].concluded.status
        if status != UNSURE:
            key = (status, *_decided_at(each.groups[0]), each.source, each.destination)
            found.setdefault(key, []).append(each)
    return list(found.values())


def _of_disagreement(alike: Sequence[Gathered], causes: Causes) -> Finding:
    """What evidence shows of one rule, or of one way that all rules let pass."""
    largest = alike[0].groups[0]
    likely = causes.of(largest)
    where, place = _decided_at(largest)
    cause = f"; likely {likely[0].id}: {likely[0].looked_at}" if likely else ""
    return found(
        largest.concluded.status, where, place,
        f"{_told(alike)}: {largest.concluded.why}{cause}",
        likely[0].to_confirm if likely else "compare what is in force there with the network file",
        check=largest.check_line(),
    )  # fmt: skip


def _of_older(alike: Gathered) -> Finding:
    """Sessions that outlived the rules under which they were opened."""
    largest = alike.groups[0]
    where, place = _decided_at(largest)
    return found(OLDER_SESSION, where, place, f"{_told([alike])}: {largest.concluded.why}",
                 "end the session, where it is not to go on", check=largest.check_line())  # fmt: skip


def _told(alike: Sequence[Gathered]) -> str:
    """Whom and what it was recorded of."""
    counts = {"record": 0, "probe": 0}
    for each in alike:
        counts["probe" if each.groups[0].evidence == "probe" else "record"] += each.records
    told = [f"{count:,} {word}{'' if count == 1 else 's'}" for word, count in counts.items() if count]
    services = list(dict.fromkeys(service for each in alike for service in each.services))
    return f"{' and '.join(told)} from {alike[0].source} to {alike[0].destination} on {few(services, 3)}"


def _decided_at(group: FindingGroup) -> tuple[str, Place | None]:
    """What a finding is about: the rule that decides and where, else the two ends."""
    decider = group.finding.decider
    if decider is None and not group.concluded.is_shared:
        walk = group.finding.walk
        row = next((each for each in walk.stops()), None) if walk is not None else None
        decider = row
    if decider is None:
        return f"{group.source} to {group.destination}", None
    rule = f"{decider.filter}/{decider.rule} at " if decider.filter else f"{decider.gate} "
    return f"{rule}{decider.at}", decider.place
