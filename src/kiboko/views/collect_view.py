"""What a collector took in, made visible: totals, faults, and the leaks and breaks that were met."""

from __future__ import annotations

import functools
from collections import Counter
from collections.abc import Generator, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from json import dumps
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.causes import Causes
from kiboko.core.evidence.comparison import AGREE, BREAK, LEAK, UNSURE, Conclusion
from kiboko.core.evidence.disagreements import Disagreement, Disagreements
from kiboko.core.evidence.finding_groups import services_met
from kiboko.core.evidence.summary import Summary
from kiboko.core.header.services import WITH_PORTS, Service
from kiboko.core.network.directory import SHARED
from kiboko.core.records.flow_table import EVENTS, NO_TIME, FlowTable
from kiboko.core.wording import counted
from kiboko.views.confirm_view import FindingsShown, by_the_rules, show_findings
from kiboko.views.finding_texts import texts_of
from kiboko.views.output import Grid, Output
from kiboko.views.text import iso, network_option, streamed

if TYPE_CHECKING:
    from kiboko.files.collection.intake import Intake
    from kiboko.files.store.flow_store import FlowStore

_PLAIN = ("messages", "templates", "option records", "syslog messages")


@dataclass(frozen=True, slots=True)
class EarlierRules:
    """What was held against a network file `until` it was another: how many records of each status."""

    until: datetime
    records: Mapping[str, int]

    @property
    def counts(self) -> dict[str, int]:
        """The same for all statuses, in the order in which they are told."""
        return {status: self.records.get(status, 0) for status in (LEAK, BREAK, UNSURE, AGREE)}


@dataclass(slots=True)
class LiveTally:
    """Counts of a run. `counts` are messages and faults by kind, `first` the sender of the first of each; `earlier` is
    what was held against the network file before it changed, `unused` why it is not used as it is by now."""

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
    earlier: list[EarlierRules] = field(default_factory=list)
    unused: str | None = None

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
        for each in self.earlier:
            counts = ", ".join(f"{count:,} {status}" for status, count in each.counts.items())
            found.append(
                f"until {each.until:%Y-%m-%d %H:%M:%S}Z records were held against the network file as it was then"
                f" ({counts}); what is told above came since, and disagreements.jsonl has all"
            )
        if self.unused is not None:
            found.append(f"the network file has changed and cannot be used, so that it counts as it was: {self.unused}")
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
    caveats = [*tally.sentences(), *_let_go(summary)]
    if caveats:
        out.heading("Bear in mind")
        out.bullets(caveats)


def collect_json_text(tally: LiveTally, summary: Summary | None, causes: Causes | None) -> Generator[str, None, None]:
    """The report as `collect/1`, as text in pieces; its rows are those of `confirm/1`, leaks and breaks first."""
    around = {
        "kiboko": "collect/1",
        "summary": {
            "records": tally.records, "packets": tally.packets, "octets": tally.octets, "senders": tally.senders,
            **{name: tally.events[name] for name in EVENTS}, "leaks": tally.leaks, "breaks": tally.breaks,
            "unjudged": tally.unjudged, "lost": tally.lost, "recovered": tally.recovered,
            "damaged": tally.damaged, "removed": tally.removed,
            "earlier_rules": [{"until": iso(each.until), **each.counts} for each in tally.earlier],
            "kinds_let_go": summary.let_go.total() if summary is not None else 0,
            "messages": {kind: tally.counts[kind] for kind in _PLAIN},
            "faults": [{"kind": kind, "count": count, "first": sender} for kind, count, sender in tally.faults],
        },
        "rows": [],
        "caveats": [*tally.sentences(), *_let_go(summary)],
    }  # fmt: skip
    rows = texts_of(summary.rows(), causes) if summary is not None and causes is not None else ()
    return streamed(around, "rows", rows)


def _let_go(summary: Summary | None) -> list[str]:
    """What has to be borne in mind where kinds of traffic were too many to be kept."""
    if summary is None or not summary.let_go:
        return []
    told = ", ".join(f"{count:,} {status}" for status, count in summary.let_go.most_common())
    return [
        f"more kinds of traffic were met than are kept: those met longest ago ({told}) are in the totals alone, and"
        " counted anew where they come again; 'kiboko confirm --flows STORE' tells of all that is stored"
    ]


def disagreement_line(each: Disagreement) -> str:
    """A leak or break in one line, as it is met."""
    group, finding = each.group, each.group.finding
    when = f"{each.record.start:%H:%M:%S}Z " if each.record.start is not None else ""
    return (
        f"{finding.status.upper()} {when}{group.source} to {group.destination}, {group.service}: {finding.observed};"
        f" by the rules {by_the_rules(group)}"
    )


def disagreement_lines(met: Disagreements, network: str = "network.yaml") -> list[str]:
    """Leaks and breaks of a network file as lines of `disagreement/1`, one for each group; made by columns, since there
    may be very many at once."""
    options = network_option(network)
    quoted = dumps(options)[1:-1]
    if not len(met):
        return []
    tallies, (_, places, numbers) = met.tallies, met.columns.example
    examples = tallies.examples
    senders, receivers = (examples.addresses.taken(side[places]) for side in (examples.source, examples.destination))
    askers, asked_for = (tallies.addresses.taken(side[places]) for side in (tallies.source, tallies.target))
    texts = [each.texts() for each in (senders, receivers, askers, asked_for)]
    client = np.where(np.isin(examples.protocol[places], list(WITH_PORTS)), examples.source_port[places], -1)
    told = {number: _concluded(met.book.conclusion(number)) for number in set(numbers.tolist())}
    columns = zip(
        met.ends(), map(told.__getitem__, numbers.tolist()), _times(examples.start[places]), *texts, client.tolist(),
        map(services_met, zip(met.columns.least[0].tolist(), met.columns.most[0].tolist(), strict=True)),
        map(_service, tallies.service[places].tolist()), tallies.port[places].tolist(),
        np.abs(met.columns.sums[1]).tolist(), strict=True,
    )  # fmt: skip
    found = []
    for row, each in enumerate(columns):
        (one, other), told, time, source, destination, asker, asked, port, service, about, asked_from, count = each
        if one.endswith(SHARED):  # who is behind a shared address the walk tells
            check = dumps(met[row].group.check_line() + options)
        else:
            ports = f" --client-ports {asked_from}" if asked_from >= 0 and about[1] else ""
            check = f'"kiboko check {asker} {asked} {about[0]}{ports}{quoted}"'
        found.append(
            f'{{"kiboko": "disagreement/1", "status": {told[0]}, "time": {time}, "source": {_quoted(one)},'
            f' "destination": {_quoted(other)}, "source_address": "{source}", "destination_address": "{destination}",'
            f' "service": {_quoted(service)}, "source_port": {port if port >= 0 else "null"}, {told[1]},'
            f' "count": {count}, "check": {check}}}'
        )
    return found


@functools.lru_cache(maxsize=1 << 16)
def _quoted(text: str) -> str:
    """A text as JSON writes it."""
    return dumps(text)


def _concluded(concluded: Conclusion) -> tuple[str, str]:
    """The status of a conclusion, and the rest that is told of it, as JSON writes them."""
    _, chosen, rule = concluded.decider or (None, None, None)
    rest = {"observed": concluded.observed, "why": concluded.why, "filter": chosen, "rule": rule}
    return dumps(concluded.status), dumps(rest)[1:-1]


@functools.lru_cache(maxsize=1 << 16)
def _service(number: int) -> tuple[str, bool]:
    """A service as text, and whether it has ports."""
    service = Service(number >> 16, number & 0xFFFF)
    return str(service), service.has_ports


def _times(start: NDArray[np.int64]) -> list[str]:
    """Times in milliseconds since 1970 as JSON has them (RFC 3339)."""
    known = start != NO_TIME
    texts = np.datetime_as_string(np.where(known, start, 0).astype("datetime64[ms]"), unit="ms").tolist()
    return [f'"{text}Z"' if is_known else "null" for text, is_known in zip(texts, known.tolist(), strict=True)]


def live_grid(rows: list[list[str]]) -> Grid:
    """The latest records as a table."""
    grid = Grid(["time", "source", "destination", "service", "outcome", "octets"], wide=("source", "destination"),
                numbers=("octets",))  # fmt: skip
    for cells in rows:
        grid.add(cells)
    return grid
