"""Findings summed up: by who, what and why, the few that matter first."""

from __future__ import annotations

import dataclasses
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import datetime
from typing import Protocol

import numpy as np

from kiboko.core.evidence.comparison import (
    AGREE,
    BREAK,
    LEAK,
    UNSURE,
    Conclusion,
    Finding,
    conclusion,
    conversation_service,
)
from kiboko.core.evidence.compiled import Tallies, Tally
from kiboko.core.header.services import service_text
from kiboko.core.network.directory import Directory
from kiboko.core.records.columns import distinct, numbered
from kiboko.core.records.flow_table import NO_TIME, milliseconds, moment
from kiboko.core.records.records import FlowRecord, ProbeRecord

_Key = tuple[object, ...]
_RANK = {LEAK: 0, BREAK: 1, UNSURE: 2, AGREE: 3}


class Origin(Protocol):
    """Where the examples of groups are, and their findings: both are worked out when they are first asked for."""

    def example(self, place: int) -> ProbeRecord | FlowRecord:
        """The example at a place."""

    def finding(self, place: int) -> Finding:
        """Its finding."""


@dataclass(frozen=True, slots=True)
class _Single:
    """One record and what judges it."""

    record: ProbeRecord | FlowRecord
    settle: Callable[[], Finding]

    def example(self, place: int) -> ProbeRecord | FlowRecord:
        return self.record

    def finding(self, place: int) -> Finding:
        return self.settle()


@dataclass(frozen=True, slots=True)
class _Source:
    """The tallies of a table, whose records stand some lines further down in their file."""

    tallies: Tallies
    lines_before: int
    settle: Callable[[Tally], Finding]

    def example(self, place: int) -> FlowRecord:
        record = self.tallies.examples.record(place)
        return dataclasses.replace(record, line=record.line + self.lines_before)

    def finding(self, place: int) -> Finding:
        return self.settle(dataclasses.replace(self.tallies[place], record=self.example(place)))


@dataclass(slots=True)
class FindingGroup:
    """Findings alike in status, ends, deciding rule and service, as far as rules tell services apart, with one example.
    `concluded` is what they come to; `source_of` has the example at `place`, and its finding. `met` are the lowest and
    the highest service number of flow records, None for probes."""

    evidence: str
    source: str
    destination: str
    concluded: Conclusion
    source_of: Origin
    place: int = 0
    met: tuple[int, int] | None = None
    count: int = 0
    packets: int = 0
    octets: int = 0
    earliest: int = NO_TIME
    latest: int = NO_TIME
    """When the first of them began and the last one ended, in milliseconds since 1970; `NO_TIME` where none tells."""
    _finding: Finding | None = None
    _example: ProbeRecord | FlowRecord | None = None

    @property
    def example(self) -> ProbeRecord | FlowRecord:
        """The first record or probe of them."""
        if self._example is None:
            self._example = self.source_of.example(self.place)
        return self._example

    @property
    def finding(self) -> Finding:
        """The finding of the example, with its walk: worked out when it is first asked for."""
        if self._finding is None:
            self._finding = self.source_of.finding(self.place)
        return self._finding

    @property
    def first(self) -> datetime | None:
        """When the first of them began."""
        return moment(self.earliest)

    @property
    def last(self) -> datetime | None:
        """When the last of them ended."""
        return moment(self.latest)

    @property
    def service(self) -> str:
        """What the records are about; several services that no rule tells apart are a range."""
        if self.met is None:
            return str(self.example.service)
        low, high = self.met
        text = service_text(low, high)
        if low >> 16 != high >> 16:
            text = f"{service_text(low, low)} to {service_text(high, high)}"
        return f"reply of {text}" if self.concluded.is_from_service else text

    def stretch(self, met: tuple[int, int]) -> None:
        """Take in the lowest and the highest service number of more flow records."""
        self.met = met if self.met is None else (min(self.met[0], met[0]), max(self.met[1], met[1]))

    def note(self, record: ProbeRecord | FlowRecord) -> None:
        """Count one more record."""
        self.count += 1
        start = record.time if isinstance(record, ProbeRecord) else record.start
        end = record.time if isinstance(record, ProbeRecord) else record.end or record.start
        if isinstance(record, FlowRecord):
            self.packets += record.packets
            self.octets += record.octets
        self.span(milliseconds(start), milliseconds(end))

    def span(self, earliest: int, latest: int) -> None:
        """Stretch the time that the group covers."""
        if earliest != NO_TIME and (self.earliest == NO_TIME or earliest < self.earliest):
            self.earliest = earliest
        if latest != NO_TIME and latest > self.latest:  # what is not known is the least of all
            self.latest = latest

    def check_line(self) -> str:
        """The command that reproduces the verdict on the example."""
        walk = self.finding.walk
        if isinstance(self.example, ProbeRecord):
            ends, service, port = (
                (self.example.source, self.example.destination),
                self.example.service,
                self.example.source_port,
            )
        else:
            target = walk.flow.target if walk is not None else self.example.destination
            source = walk.flow.source.address if walk is not None else self.example.source
            service = str(walk.flow.service if walk is not None else self.example.service)
            ends, port = (str(source), str(target)), self.example.source_port
            if self.finding.is_reply:
                port = self.example.service.detail if self.example.service.has_ports else None
        ports = f" --client-ports {port}" if port is not None else ""
        return f"kiboko check {ends[0]} {ends[1]} {service}{ports}"


@dataclass(slots=True)
class Summary:
    """All findings of a run. Memory grows with the groups, not with the records."""

    directory: Directory
    totals: Counter[str] = field(default_factory=Counter)
    replies: int = 0
    different_signal: int = 0
    before_as_of: int = 0
    groups: dict[_Key, FindingGroup] = field(default_factory=dict)
    answered_probes: int = 0

    def add(self, record: ProbeRecord | FlowRecord, finding: Finding) -> FindingGroup:
        """Take in one finding; the group that it is of."""
        concluded = conclusion(record, finding)
        self._count(concluded, 1)
        if isinstance(record, ProbeRecord) and finding.status == AGREE and record.outcome == "answered":
            self.answered_probes += 1
        alone = _alone(record, finding) if isinstance(record, FlowRecord) else None
        group = self._group(record, concluded, alone, lambda: finding)
        group.note(record)
        if alone is not None:
            group.stretch(alone)
        return group

    def _count(self, concluded: Conclusion, records: int) -> None:
        self.totals[concluded.status] += records
        self.replies += concluded.is_reply * records
        self.different_signal += concluded.different_signal * records
        self.before_as_of += concluded.before_as_of * records

    def take(self, record: FlowRecord, tally: Tally, settle: Callable[[], Finding]) -> FindingGroup:
        """Take in many flow records of one finding, of which `record` is the first and `settle` judges it by its own
        walk; the group that they are of."""
        self._count(tally.concluded, tally.count)
        group = self._group(record, tally.concluded, tally.alike, settle)
        group.stretch(tally.met)
        group.count += tally.count
        group.packets += tally.packets
        group.octets += tally.octets
        group.span(tally.first, tally.last)
        return group

    def take_all(self, tallies: Tallies, settle: Callable[[Tally], Finding], lines_before: int = 0) -> None:
        """Take in many tallies at once, of records that stand `lines_before` lines further down in their file."""
        for number, concluded in enumerate(tallies.concluded):
            self._count(concluded, int(tallies.count[tallies.conclusion == number].sum()))
        if not len(tallies):
            return
        listed, names = tallies.examples.addresses, []
        codes: dict[str, int] = {}
        used, _ = numbered(np.concatenate([tallies.examples.source, tallies.examples.destination]))
        code_of = np.zeros(len(listed), dtype=np.int64)
        for at in used.tolist():
            names.append(self.directory.name_of(listed[at]))
            code_of[at] = codes.setdefault(names[-1], len(codes))
        names = list(codes)
        source, destination = code_of[tallies.examples.source], code_of[tallies.examples.destination]
        groups = distinct(tallies.conclusion, source, destination, tallies.alike[:, 0], tallies.alike[:, 1])
        rows = groups.first
        least, most = (
            np.stack([tallies.met[rows, 0], tallies.first[rows]]),
            np.stack([tallies.met[rows, 1], tallies.last[rows]]),
        )
        known = tallies.first != NO_TIME
        least[1] = np.where(least[1] == NO_TIME, np.iinfo(np.int64).max, least[1])
        np.minimum.at(least[0], groups.codes, tallies.met[:, 0])
        np.minimum.at(least[1], groups.codes[known], tallies.first[known])
        least[1] = np.where(least[1] == np.iinfo(np.int64).max, NO_TIME, least[1])
        np.maximum.at(most[0], groups.codes, tallies.met[:, 1])
        np.maximum.at(most[1], groups.codes, tallies.last)
        sums = (groups.sums(each) for each in (tallies.count, tallies.packets, tallies.octets))
        told = [(each.status, _told(each)) for each in tallies.concluded]
        columns = (rows, tallies.conclusion[rows], source[rows], destination[rows], tallies.alike[rows, 0],
                   tallies.alike[rows, 1], *least, *most)  # fmt: skip
        whole = _Source(tallies, lines_before, settle)
        for row, number, sender, receiver, low, high, met_low, start, met_high, end, count, packets, octets in zip(
            *(column.tolist() for column in columns), *sums, strict=True
        ):
            status, rest = told[number]
            key = (status, "flow", names[sender], names[receiver], (low, high), *rest)
            group = self.groups.get(key)
            if group is None:
                group = self.groups[key] = FindingGroup(
                    "flow", names[sender], names[receiver], tallies.concluded[number], whole, row
                )
            group.stretch((met_low, met_high))
            group.count += count
            group.packets += packets
            group.octets += octets
            group.span(start, end)

    def correct(
        self,
        record: FlowRecord,
        before: Finding,
        after: Finding,
        alike: tuple[int, int] | None = None,
        settle: Callable[[], Finding] | None = None,
    ) -> FindingGroup:
        """Replace the finding of a record, which a later one changed; the group that it is of now. `alike` are the
        services that no rule tells from the record's, `settle` judges the record by its own walk."""
        alike = alike or _alone(record, before)
        key = self._key(record, conclusion(record, before), alike)
        group = self.groups.get(key)
        if group is not None:
            self.totals[before.status] -= 1
            group.count -= 1
            group.packets -= record.packets
            group.octets -= record.octets
            if not group.count:
                del self.groups[key]
        self.totals[after.status] += 1
        group = self._group(record, conclusion(record, after), alike, settle or (lambda: after))
        group.note(record)
        group.stretch(_alone(record, after))
        return group

    def _group(
        self,
        record: ProbeRecord | FlowRecord,
        concluded: Conclusion,
        alike: tuple[int, int] | None,
        settle: Callable[[], Finding],
    ) -> FindingGroup:
        key = self._key(record, concluded, alike)
        if key not in self.groups:
            self.groups[key] = FindingGroup(*self._ends(record), concluded, _Single(record, settle))
        return self.groups[key]

    def _ends(self, record: ProbeRecord | FlowRecord) -> tuple[str, str, str]:
        """What kind of evidence it is, and what its ends are called."""
        if isinstance(record, ProbeRecord):
            return "probe", record.source, record.destination
        return "flow", self.directory.name_of(record.source), self.directory.name_of(record.destination)

    def _key(self, record: ProbeRecord | FlowRecord, concluded: Conclusion, alike: tuple[int, int] | None) -> _Key:
        return (
            concluded.status, *self._ends(record), record.service if isinstance(record, ProbeRecord) else alike,
            *_told(concluded),
        )  # fmt: skip

    def rows(self, statuses: tuple[str, ...] = (LEAK, BREAK, UNSURE, AGREE)) -> Iterator[FindingGroup]:
        """The groups, leaks first, the largest of each status first."""
        chosen = [group for group in self.groups.values() if group.concluded.status in statuses]
        yield from sorted(chosen, key=lambda g: (_RANK[g.concluded.status], -g.count, g.source, g.destination))


def _told(concluded: Conclusion) -> tuple[object, ...]:
    """What tells the findings of one pair and service apart, beside their status."""
    return concluded.is_reply, concluded.decider, concluded.observed, concluded.why


def _alone(record: FlowRecord, finding: Finding) -> tuple[int, int]:
    """The service that a record is about, as the only one."""
    number = conversation_service(record, finding).number
    return number, number
