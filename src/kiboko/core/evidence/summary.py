"""Findings summed up: by who, what and why, the few that matter first."""

from __future__ import annotations

import dataclasses
import functools
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import datetime

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
from kiboko.core.records.columns import distinct
from kiboko.core.records.flow_table import NO_TIME, moment
from kiboko.core.records.records import FlowRecord, ProbeRecord

_Key = tuple[object, ...]
_RANK = {LEAK: 0, BREAK: 1, UNSURE: 2, AGREE: 3}


@dataclass(slots=True)
class FindingGroup:
    """Findings alike in status, ends, deciding rule and service, as far as rules tell services apart, with one example.
    `concluded` is what they come to; `settle` judges the example by its own walk. `met` are the lowest and the highest
    service number of flow records, None for probes."""

    evidence: str
    source: str
    destination: str
    concluded: Conclusion
    make_example: Callable[[], ProbeRecord | FlowRecord]
    settle: Callable[[], Finding]
    met: tuple[int, int] | None = None
    count: int = 0
    packets: int = 0
    octets: int = 0
    first: datetime | None = None
    last: datetime | None = None
    _finding: Finding | None = None
    _example: ProbeRecord | FlowRecord | None = None

    @property
    def example(self) -> ProbeRecord | FlowRecord:
        """The first record or probe of them."""
        if self._example is None:
            self._example = self.make_example()
        return self._example

    @property
    def finding(self) -> Finding:
        """The finding of the example, with its walk: worked out when it is first asked for."""
        if self._finding is None:
            self._finding = self.settle()
        return self._finding

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
        self.span(start, end)

    def span(self, start: datetime | None, end: datetime | None) -> None:
        """Stretch the time that the group covers."""
        if start is not None and (self.first is None or start < self.first):
            self.first = start
        if end is not None and (self.last is None or end > self.last):
            self.last = end

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
        group.span(moment(tally.first), moment(tally.last))
        return group

    def take_all(self, tallies: Tallies, settle: Callable[[Tally], Finding], lines_before: int = 0) -> None:
        """Take in many tallies at once, of records that stand `lines_before` lines further down in their file."""
        for number, concluded in enumerate(tallies.concluded):
            self._count(concluded, int(tallies.count[tallies.conclusion == number].sum()))
        if not len(tallies):
            return
        listed, names = tallies.examples.addresses, []
        codes: dict[str, int] = {}
        used = np.unique(np.concatenate([tallies.examples.source, tallies.examples.destination]))
        code_of = np.zeros(len(listed), dtype=np.int64)
        for at in used.tolist():
            names.append(self.directory.name_of(listed[at]))
            code_of[at] = codes.setdefault(names[-1], len(codes))
        names = list(codes)
        source, destination = code_of[tallies.examples.source], code_of[tallies.examples.destination]
        groups = distinct(tallies.conclusion, source, destination, tallies.alike[:, 0], tallies.alike[:, 1])
        low = np.full((len(groups), 3), np.iinfo(np.int64).max)
        high = np.full((len(groups), 2), np.iinfo(np.int64).min)
        first = np.where(tallies.first == NO_TIME, np.iinfo(np.int64).max, tallies.first)
        np.minimum.at(low[:, 0], groups.codes, first)
        np.minimum.at(low[:, 1], groups.codes, tallies.met[:, 0])
        np.maximum.at(high[:, 0], groups.codes, tallies.last)
        np.maximum.at(high[:, 1], groups.codes, tallies.met[:, 1])
        sums = zip(*(groups.sums(each) for each in (tallies.count, tallies.packets, tallies.octets)), strict=True)
        rows = groups.first.tolist()
        for row, (count, packets, octets), least, most in zip(rows, sums, low.tolist(), high.tolist(), strict=True):
            concluded = tallies.concluded[int(tallies.conclusion[row])]
            ends = "flow", names[int(source[row])], names[int(destination[row])]
            key = (concluded.status, *ends, tuple(tallies.alike[row].tolist()), *_told(concluded))
            group = self.groups.get(key)
            if group is None:
                group = self.groups[key] = FindingGroup(
                    *ends, concluded, functools.partial(_example, tallies, row, lines_before),
                    functools.partial(_settled, tallies, row, lines_before, settle),
                )  # fmt: skip
            group.stretch((least[1], most[1]))
            group.count += count
            group.packets += packets
            group.octets += octets
            if least[0] != np.iinfo(np.int64).max:
                group.span(moment(least[0]), moment(most[0]))

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
            self.groups[key] = FindingGroup(*self._ends(record), concluded, lambda: record, settle)
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


def _example(tallies: Tallies, row: int, lines_before: int) -> FlowRecord:
    record = tallies.examples.record(row)
    return dataclasses.replace(record, line=record.line + lines_before)


def _settled(tallies: Tallies, row: int, lines_before: int, settle: Callable[[Tally], Finding]) -> Finding:
    tally = tallies[row]
    return settle(dataclasses.replace(tally, record=_example(tallies, row, lines_before)))


def _alone(record: FlowRecord, finding: Finding) -> tuple[int, int]:
    """The service that a record is about, as the only one."""
    number = conversation_service(record, finding).number
    return number, number
