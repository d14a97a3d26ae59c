"""A group of findings alike: how often they were met, when, and one example that is worked out when it is asked for."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from datetime import datetime
from typing import Protocol

from kiboko.core.evidence.comparison import BREAK, LEAK, Conclusion, Finding, FlowAsked
from kiboko.core.header.services import service_text
from kiboko.core.network.directory import SHARED
from kiboko.core.records.flow_table import NO_TIME, milliseconds, moment
from kiboko.core.records.records import FlowRecord, ProbeRecord
from kiboko.core.walk.gates import Row


class Origin(Protocol):
    """Where the examples of groups are, and their findings: both are worked out when they are first asked for."""

    def example(self, place: int) -> ProbeRecord | FlowRecord:
        """The example at a place."""

    def line(self, place: int) -> tuple[str | None, int] | None:
        """The file and the line where it stands, of flow records."""

    def finding(self, place: int) -> Finding:
        """Its finding."""

    def passed(self, place: int) -> int:
        """How many steps of the request's way it surely passed."""

    def asked(self, place: int) -> FlowAsked | None:
        """What it asked, of flow records."""


@dataclass(slots=True)
class FindingGroup:
    """Findings alike in status, ends, deciding rule and service, as far as rules tell services apart, with one example.
    `concluded` is what they come to; `source_of` has the example at `place`, and its finding. `met` are the lowest and
    the highest service number of flow records, None for probes. `replies` of the `count` records are of whoever was
    sent to; packets and octets count once, at however many points they were recorded."""

    evidence: str
    source: str
    destination: str
    concluded: Conclusion
    source_of: Origin
    place: int = 0
    met: tuple[int, int] | None = None
    conversations: int = 0
    count: int = 0
    replies: int = 0
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
    def line(self) -> tuple[str | None, int] | None:
        """The file and the line of the example, of flow records."""
        return self.source_of.line(self.place)

    @property
    def finding(self) -> Finding:
        """The finding of the example, with its walk: worked out when it is first asked for."""
        if self._finding is None:
            self._finding = self.source_of.finding(self.place)
        return self._finding

    def forget(self) -> None:
        """Let go of the walk: it can be made again."""
        self._finding = self._example = None

    @property
    def passed(self) -> tuple[Row, ...]:
        """The gates that the request of the example surely passed, as far as flow records show."""
        walk = self.finding.walk
        if walk is None:
            return ()
        steps = {id(step) for step in walk.request_path.steps[: self.source_of.passed(self.place)]}
        return tuple(row for row in walk.forward if id(row.step) in steps)

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
        return services_met(self.met)

    def note(self, record: ProbeRecord) -> None:
        """Count one more probe."""
        self.count += 1
        self.span(milliseconds(record.time), milliseconds(record.time))

    def span(self, earliest: int, latest: int) -> None:
        """Stretch the time that the group covers."""
        if earliest != NO_TIME and (self.earliest == NO_TIME or earliest < self.earliest):
            self.earliest = earliest
        if latest != NO_TIME and latest > self.latest:  # what is not known is the least of all
            self.latest = latest

    def check_line(self) -> str:
        """The command that reproduces the verdict on the example."""
        asked = self.source_of.asked(self.place) if self.concluded.status in (LEAK, BREAK) else None
        if asked is not None and not self.source.endswith(SHARED):  # who is behind a shared address the walk tells
            return line_that_asks(asked)
        walk, port = self.finding.walk, None
        if isinstance(self.example, ProbeRecord):
            ends = self.finding.named or (self.example.source, self.example.destination)
            service, port = self.example.service, self.example.source_port
        elif walk is not None:
            ends, service = (str(walk.flow.source.address), str(walk.flow.target)), str(walk.flow.service)
            ports = walk.flow.source_ports
            port = ports.lowest if walk.flow.service.has_ports and ports.size == 1 else None
        else:
            ends, service = (str(self.example.source), str(self.example.destination)), str(self.example.service)
        ports_text = f" --client-ports {port}" if port is not None else ""
        return f"kiboko check {ends[0]} {ends[1]} {service}{ports_text}"


def line_that_asks(asked: FlowAsked) -> str:
    """The command that asks what a conversation asked."""
    port = f" --client-ports {asked.port}" if asked.port is not None and asked.service.has_ports else ""
    return f"kiboko check {asked.source} {asked.target} {asked.service}{port}"


@functools.lru_cache(maxsize=1 << 16)
def services_met(met: tuple[int, int]) -> str:
    """A service, or a range of them, by their lowest and highest numbers."""
    low, high = met
    if low >> 16 != high >> 16:
        return f"{service_text(low, low)} to {service_text(high, high)}"
    return service_text(low, high)
