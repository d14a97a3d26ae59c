"""Evidence: what probes and flow records say happened on the real network."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from kiboko.core.header.addresses import Address
from kiboko.core.header.services import Service

ANSWERED, REFUSED, SILENT, UNREACHABLE = "answered", "refused", "silent", "unreachable"
OUTCOMES = (ANSWERED, REFUSED, SILENT, UNREACHABLE)
PASSED, DENIED, SEEN = "passed", "denied", "seen"
ARRIVED = "arrived"
"""What is observed of a conversation of which somebody on the other side sent a packet."""


@dataclass(frozen=True, slots=True)
class ProbeRecord:
    """What one probe saw.

    `source` and `destination` are names or addresses as the user gave them; `address` is where packets went.
    `rtt_ms` is the round-trip time in milliseconds, None without an answer. `redirected` tells that the packets
    went somewhere else than to the destination's own address.
    """

    time: datetime
    source: str
    destination: str
    address: str
    service: str
    outcome: str
    source_port: int | None = None
    rtt_ms: float | None = None
    attempts: int = 1
    sent_from: str | None = None
    redirected: bool = False


@dataclass(frozen=True, slots=True)
class FlowRecord:
    """One flow record, one direction.

    `event` is `passed` or `denied` where the record says so (`firewallEvent`), else `seen`. Times are UTC;
    `packets` and `octets` are counts; `tcp_flags` is the union of the TCP flags seen (RFC 9293), None where not
    recorded; `point` is the `observationPointId`. `line` counts from 1. `direction` is 1 where a biflow says that it is
    of whoever began, 2 of whoever answered (`biflowDirection`, RFC 5103), 0 where nothing is said. `file` is that of
    the line, None where it has no name.
    """

    source: Address
    destination: Address
    service: Service
    source_port: int | None
    event: str
    start: datetime | None = None
    end: datetime | None = None
    packets: int = 1
    octets: int = 0
    tcp_flags: int | None = None
    point: str | None = None
    line: int = 0
    direction: int = 0
    file: str | None = None
