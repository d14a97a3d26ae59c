"""Rules that no recorded traffic met, as findings of an audit."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from kiboko.batch.flow_judging import FlowJudge
from kiboko.core.audit.findings import Finding, found
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.rule_usage import RuleUsage
from kiboko.core.walk.walk import Walker
from kiboko.files.elements.column_map import ColumnMap
from kiboko.files.elements.fields import time_filter
from kiboko.files.logs.flow_pieces import flow_files


def never_hit(
    walker: Walker, flows: Sequence[str | Path], columns: ColumnMap, strict: bool, since: str | None, until: str | None
) -> tuple[list[Finding], list[str]]:
    """Enabled rules that nothing in some flow logs hit, and what has to be borne in mind. Raises InputError and
    UsageError, as `confirm` does."""
    usage = RuleUsage(walker.topology)
    judge = FlowJudge(Comparison(walker), None, strict, time_filter(since, until), usage, columns)
    caveats = judge.take(flow_files(flows))
    findings = [
        found("never-hit", "/".join(line.key), line.place,
              f"none of {usage.records:,} recorded flows met it ({line.action} {line.what})",
              "take it out, once the log is long enough to have met it")
        for line in usage.lines()
        if line.is_rule and line.is_enabled and not line.is_hit
    ]  # fmt: skip
    return findings, caveats
