"""Probes made visible, one line each as they come back."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from pathlib import Path

from kiboko.core.records.records import OUTCOMES, ProbeRecord
from kiboko.core.wording import counted
from kiboko.views.output import Output

_MOST_NAMES = 6


def show_outcome(record: ProbeRecord, out: Output) -> None:
    """One probe in one line."""
    where = record.destination if record.destination == record.address else f"{record.destination} ({record.address})"
    details = [f"in {record.rtt_ms:.1f} ms"] if record.rtt_ms is not None else []
    if record.source_port is not None:
        details.append(f"from port {record.source_port}")
    if record.attempts > 1:
        details.append(f"{record.attempts} attempts")
    if record.redirected:
        details.append("redirected: not the name's own address")
    tail = f"  ({', '.join(details)})" if details else ""
    out.parts((f"{record.outcome:<12}", record.outcome), (f"{where} {record.service}", ""), (tail, "quiet"))


def left_out_text(reason: str, names: Sequence[str]) -> str:
    """Who of what was asked about is not probed, and why not."""
    more = f" and {len(names) - _MOST_NAMES:,} more" if len(names) > _MOST_NAMES else ""
    return f"not probed: {', '.join(names[:_MOST_NAMES])}{more} ({reason})"


def doubt_text(doubt: str, count: int) -> str:
    """Why some probes say nothing of what they name."""
    return f"{counted(count, 'probe')} of something else: {doubt} (confirm calls it unsure)"


def show_probe_summary(
    records: Sequence[ProbeRecord], left_out: Mapping[str, Sequence[str]], doubts: Mapping[str, int], log: Path | None,
    out: Output,
) -> None:  # fmt: skip
    """How many saw what, who was left out, which are of something else, and where the records are."""
    if len(records) > 1:
        counts = Counter(record.outcome for record in records)
        told = ", ".join(f"{counts[outcome]} {outcome}" for outcome in OUTCOMES if counts[outcome])
        out.line(f"{counted(len(records), 'probe')}: {told}")
    for reason, names in left_out.items():
        out.line(left_out_text(reason, names), "unsure")
    for doubt, count in doubts.items():
        out.line(doubt_text(doubt, count), "unsure")
    if log is not None:
        out.line(f"{counted(len(records), 'record')} appended to {log}", "quiet")
