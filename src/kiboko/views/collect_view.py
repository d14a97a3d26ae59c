"""What a collector took in, made visible: totals, faults, and the leaks and breaks that were met."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from json import dumps
from typing import TYPE_CHECKING, Any

from kiboko.core.evidence.causes import Causes
from kiboko.core.evidence.summary import Summary
from kiboko.core.evidence.watch import Disagreement
from kiboko.core.records.flow_table import EVENTS, FlowTable
from kiboko.views.check_view import decider_text
from kiboko.views.confirm_view import FindingsShown, rows_json, show_findings
from kiboko.views.output import Grid, Output
from kiboko.views.text import counted, iso

if TYPE_CHECKING:
    from kiboko.files.collection.intake import Intake
    from kiboko.files.store.flow_store import FlowStore

_PLAIN = ("messages", "templates", "option records", "syslog messages")


@dataclass(slots=True)
class LiveTally:
    """Counts of a run. `counts` are messages and faults by kind, `first` the sender of the first of each."""

    records: int = 0
    packets: int = 0
    octets: int = 0
    events: Counter[str] = field(default_factory=Counter)
    lost: int = 0
    leaks: int = 0
    breaks: int = 0
    unjudged: int = 0
    senders: int = 0
    removed: int = 0
    recovered: int = 0
    damaged: int = 0
    counts: Counter[str] = field(default_factory=Counter)
    first: dict[str, str] = field(default_factory=dict)
    sampled: dict[tuple[str, int], int] = field(default_factory=dict)

    def add(self, table: FlowTable) -> None:
        """Count the records of a table."""
        self.records += len(table)
        self.packets += int(table.packets.sum())
        self.octets += int(table.octets.sum())
        for event, name in enumerate(EVENTS):
            self.events[name] += int((table.event == event).sum())

    def finish(self, intake: Intake, store: FlowStore) -> None:
        """Take the counts of a run that is over."""
        self.counts, self.first, self.sampled = intake.counts, intake.first, intake.sampled
        if intake.without_template:
            self.counts["data whose template never came"] = intake.without_template
        self.senders = len(intake.exporters)
        self.removed, self.recovered, self.damaged = store.removed, store.recovered, store.damaged

    @property
    def faults(self) -> list[tuple[str, int, str]]:
        """What was wrong, how often, and who sent the first."""
        return [(kind, count, self.first.get(kind, "")) for kind, count in self.counts.items() if kind not in _PLAIN]

    def sentences(self) -> list[str]:
        """What has to be borne in mind of a run."""
        found = [
            f"{kind}: {count:,}" + (f", the first from {sender}" if sender else "")
            for kind, count, sender in self.faults
        ]
        found += [
            f"counts of {exporter}, domain {domain}, are multiplied by its sampling rate of 1 in {rate:,}"
            for (exporter, domain), rate in self.sampled.items()
        ]
        if self.unjudged:
            found.append(f"{self.unjudged:,} records were stored but not held against the rules: too many came at once")
        if self.lost:
            found.append(f"{self.lost:,} records could not be stored")
        if self.recovered:
            found.append(f"{self.recovered:,} records of an earlier run that was cut short were put in order")
        if self.damaged:
            found.append(
                f"{counted(self.damaged, 'segment')} of an earlier run not readable in full: set aside as *.damaged"
            )
        if self.removed:
            found.append(f"{counted(self.removed, 'segment')} too old or too much removed from the store")
        return found


def show_collected(tally: LiveTally, summary: Summary | None, causes: Causes | None, out: Output) -> None:
    """The report at the end."""
    out.parts(
        (f"{tally.records:,}", "mark"),
        (f" records from {counted(tally.senders, 'sender')}: {counted(tally.packets, 'packet')},"
         f" {counted(tally.octets, 'octet')}", ""),
    )  # fmt: skip
    told = [counted(tally.counts[kind], kind.rstrip("s")) for kind in _PLAIN if tally.counts[kind]]
    if told:
        out.line(f"  in {', '.join(told)}")
    if summary is not None and causes is not None:
        out.line()
        show_findings(summary, causes, FindingsShown(), out)
    if tally.sentences():
        out.heading("Bear in mind")
        out.bullets(tally.sentences())


def collect_json(tally: LiveTally, summary: Summary | None, causes: Causes | None) -> dict[str, Any]:
    """The report as `collect/1`; its rows are those of `confirm/1`, leaks and breaks first."""
    return {
        "kiboko": "collect/1",
        "summary": {
            "records": tally.records, "packets": tally.packets, "octets": tally.octets, "senders": tally.senders,
            **{name: tally.events[name] for name in EVENTS}, "leaks": tally.leaks, "breaks": tally.breaks,
            "unjudged": tally.unjudged, "lost": tally.lost, "recovered": tally.recovered,
            "damaged": tally.damaged, "removed": tally.removed,
            "messages": {kind: tally.counts[kind] for kind in _PLAIN},
            "faults": [{"kind": kind, "count": count, "first": sender} for kind, count, sender in tally.faults],
        },
        "rows": rows_json(summary, causes) if summary is not None and causes is not None else [],
        "caveats": tally.sentences(),
    }  # fmt: skip


def disagreement_line(each: Disagreement) -> str:
    """A leak or break in one line, as it is met."""
    group, finding = each.group, each.group.finding
    when = f"{each.record.start:%H:%M:%S}Z " if each.record.start is not None else ""
    why = f"stopped by {decider_text(finding.decider)}" if finding.decider is not None else "allowed at every gate"
    return (
        f"{finding.status.upper()} {when}{group.source} to {group.destination}, {group.service}: {finding.observed};"
        f" by the rules {why}"
    )


def disagreement_json(each: Disagreement) -> str:
    """Leaks or breaks of one group as a line of `disagreement/1`."""
    group, record, concluded = each.group, each.record, each.group.concluded
    _, chosen, rule = concluded.decider or (None, None, None)
    return dumps(
        {
            "kiboko": "disagreement/1", "status": concluded.status, "time": iso(record.start), "source": group.source,
            "destination": group.destination, "source_address": str(record.source),
            "destination_address": str(record.destination), "service": group.service,
            "source_port": record.source_port, "observed": concluded.observed,
            "why": concluded.why, "filter": chosen, "rule": rule, "count": each.count, "check": group.check_line(),
        }
    )  # fmt: skip


def live_grid(rows: list[list[str]]) -> Grid:
    """The latest records as a table."""
    grid = Grid(["time", "source", "destination", "service", "outcome", "octets"], wide=("source", "destination"),
                numbers=("octets",))  # fmt: skip
    for cells in rows:
        grid.add(cells)
    return grid
