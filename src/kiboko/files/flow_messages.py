"""IPFIX (RFC 7011) and NetFlow version 9 (RFC 3954) messages as records by information element.

Templates, option records, sampling rates and sequence numbers are kept by the decoder of the library netflume, for each
exporter and observation domain. Data that comes before its template waits for it, within a bound.
"""

from __future__ import annotations

import struct
from collections import Counter, OrderedDict
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from netflume import Decoder, parse_v9_or_ipfix
from netflume.events import DecodeError, TemplateLearned

from kiboko.files.streams import Stream

IPFIX_HEADER = 16
"""Octets of an IPFIX message header (RFC 7011, section 3.1)."""
_V9_HEADER = 20
_MOST_WAITING = 4 << 20
_ELEMENTS = {
    "flow_start_ms": "flowStartMilliseconds", "flow_end_ms": "flowEndMilliseconds",
    "src_port": "sourceTransportPort", "dst_port": "destinationTransportPort", "proto": "protocolIdentifier",
    "icmp_type_code": "icmpTypeCodeIPv4", "icmp_type_code_v6": "icmpTypeCodeIPv6", "tcp_flags": "tcpControlBits",
    "ie233": "firewallEvent", "observation_point_id": "observationPointId", "in_if": "ingressInterface",
    "out_if": "egressInterface", "direction": "flowDirection", "ie161": "flowDurationMilliseconds",
    "src_addr": "sourceIPv4Address", "dst_addr": "destinationIPv4Address",
}  # fmt: skip
# Absolute times in other units, with the factor to milliseconds; those of NTP form come as seconds.
_TIMES = tuple(
    (f"flow_{end}_{unit}", f"flow{end.capitalize()}Milliseconds", 1000.0)
    for end in ("start", "end")
    for unit in ("s", "us", "ns")
)
_COUNTS = (("packets", "packetDeltaCount", "packets_total"), ("octets", "octetDeltaCount", "octets_total"))
_DAY_MS = 86_400_000
_WRAP = 1 << 32


@dataclass(slots=True)
class MessageReader:
    """Reads messages of any number of exporters. `counts` has what was met and what was wrong, by kind; `first` the
    exporter of the first of each fault."""

    counts: Counter[str] = field(default_factory=Counter)
    first: dict[str, str] = field(default_factory=dict)
    _decoder: Decoder = field(default_factory=Decoder)
    _waiting: OrderedDict[tuple[str, int, int], list[bytes]] = field(default_factory=OrderedDict)
    _waiting_size: int = 0

    def read(self, data: bytes, exporter: str) -> list[dict[str, Any]]:
        """The flow records of one message, and of earlier data whose template it brings. Never raises for bad data."""
        stats = self._decoder.stats
        before = stats["deferred"], stats["truncated"]
        rows = self._read(data, exporter)
        if stats["deferred"] > before[0]:
            self._set_aside(data, exporter)
        if stats["truncated"] > before[1]:
            self._fault("message cut short", exporter)
        for event in self._decoder.take_events():
            if isinstance(event, TemplateLearned):
                self.counts["templates"] += 1
                rows = [*self._late(event.exporter, event.domain, event.template_id), *rows]
            elif isinstance(event, DecodeError):
                self._fault(_FAULTS.get(event.reason, "message that cannot be read"), exporter)
        return rows

    def _read(self, data: bytes, exporter: str) -> list[dict[str, Any]]:
        message = self._decoder.decode(data, exporter)
        if message is None:
            return []
        self.counts["messages"] += 1
        self.counts["option records"] += len(message.options)
        if message.gap:
            self.counts["records or messages that never came"] += message.gap
            self.first.setdefault("records or messages that never came", exporter)
        return list(_records(message.flows, message.header, message.sampling_rate, exporter))

    def _fault(self, kind: str, exporter: str) -> None:
        self.counts[kind] += 1
        self.first.setdefault(kind, exporter)

    @property
    def waiting(self) -> int:
        """How many sets of data wait for a template that has not come."""
        return sum(len(each) for each in self._waiting.values())

    @property
    def sampled(self) -> dict[tuple[str, int], int]:
        """The sampling rates in force, one packet in so many, by exporter and domain: counts are multiplied by them."""
        watch = self._decoder.sampling
        return dict(watch.rates) if watch is not None else {}

    # Data before its template.

    def _set_aside(self, data: bytes, exporter: str) -> None:
        """Keep the sets of a message whose template is not known, each as a message of its own."""
        domain, header, sets = _sets(data)
        for number, body in sets:
            if number < 256 or self._decoder.templates.get(exporter, domain, number)[0]:
                continue
            self.counts["data before its template"] += 1
            self.first.setdefault("data before its template", exporter)
            alone = _alone(header, number, body)
            self._waiting.setdefault((exporter, domain, number), []).append(alone)
            self._waiting_size += len(alone)
        while self._waiting_size > _MOST_WAITING:
            _, lost = self._waiting.popitem(last=False)
            self._waiting_size -= sum(map(len, lost))
            self.counts["data dropped without a template"] += len(lost)

    def _late(self, exporter: str, domain: int, template: int) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = []
        for data in self._waiting.pop((exporter, domain, template), ()):
            self._waiting_size -= len(data)
            # Apart from the sequence of its exporter, in which it was counted when it came.
            header, flows, _ = _parsed(data, exporter, self._decoder)
            rate = self._decoder.sampling_rate(exporter, domain)
            found.extend(_records(flows, header, rate, exporter))
            self.counts["data before its template, read later"] += 1
        return found


_FAULTS = {
    "short": "message shorter than its header",
    "unsupported": "message of another version",
    "malformed": "message that cannot be read",
}


def _parsed(data: bytes, exporter: str, decoder: Decoder) -> tuple[Mapping[str, Any], list[dict[str, Any]], Any]:
    header, flows, options = parse_v9_or_ipfix(data, exporter, decoder.templates)
    return header or {}, flows, options


def _sets(data: bytes) -> tuple[int, bytes, list[tuple[int, bytes]]]:
    """The domain of a message, its header, and its sets by number."""
    size = IPFIX_HEADER if data[1] == 10 else _V9_HEADER
    domain = struct.unpack_from("!I", data, size - 4)[0]
    found, at = [], size
    while at + 4 <= len(data):
        number, length = struct.unpack_from("!HH", data, at)
        if length < 4:
            break
        found.append((number, data[at : at + length]))
        at += length
    return domain, data[:size], found


def _alone(header: bytes, number: int, body: bytes) -> bytes:
    """A message of one set."""
    if header[1] == 10:
        return header[:2] + struct.pack("!H", IPFIX_HEADER + len(body)) + header[4:] + body
    return header[:2] + struct.pack("!H", 1) + header[4:] + body


def _records(
    flows: list[dict[str, Any]], header: Mapping[str, Any], rate: int, exporter: str
) -> Iterator[dict[str, Any]]:
    """Records by information element. Counts of a sampling exporter are multiplied by its rate."""
    domain, export_ms = header.get("domain"), (header.get("unix_secs") or 0) * 1000
    uptime = header.get("sys_uptime")
    for flow in flows:
        if flow.get("src_addr") is None or flow.get("dst_addr") is None:
            flow = {**flow, "src_addr": flow.get("post_nat_src_addr", flow.get("src_addr")),
                    "dst_addr": flow.get("post_nat_dst_addr", flow.get("dst_addr"))}  # fmt: skip
        row = {element: flow[name] for name, element in _ELEMENTS.items() if name in flow}
        for name, element, factor in _TIMES:
            if name in flow and element not in row:
                row[element] = round(flow[name] * factor)
        if uptime is not None and "first_switched" in flow:
            boot = export_ms - uptime
            row.setdefault("flowStartMilliseconds", _since_boot(boot, flow["first_switched"], export_ms))
            last = flow.get("last_switched")
            if last is not None:
                row.setdefault("flowEndMilliseconds", _since_boot(boot, last, export_ms))
        for name, element, total in _COUNTS:
            row[element] = flow.get(name, flow.get(total, 0)) * rate
        if "icmp_type" in flow:
            kind = flow["icmp_type"] << 8 | flow.get("icmp_code", 0)
            row.setdefault("icmpTypeCodeIPv6" if row.get("protocolIdentifier") == 58 else "icmpTypeCodeIPv4", kind)
        row["exporterIPv4Address"], row["observationDomainId"] = exporter, domain
        yield row


def _since_boot(boot: int, uptime: int, export: int) -> int:
    """A time in milliseconds of an exporter's uptime as one since 1970. The uptime is of 32 bits and wraps after 49.7
    days: a time far behind its own export has wrapped in between."""
    moment = boot + uptime
    return moment - _WRAP if moment > export + _DAY_MS else moment


def messages_of(stream: Stream) -> Iterator[tuple[bytes, str]]:
    """The messages of an IPFIX file (RFC 5655), each with what is wrong with it, empty for nothing.

    Where a message does not begin with a header that makes sense, the next one that does is looked for.
    """
    buffer, at, more = b"", 0, b"-"
    while more or len(buffer) > at:
        version, length = struct.unpack_from("!HH", buffer, at) if len(buffer) - at >= IPFIX_HEADER else (10, 0xFFFF)
        if version == 10 and IPFIX_HEADER <= length <= len(buffer) - at:
            yield buffer[at : at + length], ""
            at += length
            continue
        if more and version == 10 and length >= IPFIX_HEADER:
            more = stream.read(1 << 20)
            buffer, at = buffer[at:] + more, 0
            continue
        found = _next_header(buffer, at + 1)
        if found < 0 and version == 10 and length >= IPFIX_HEADER:
            yield buffer[at:], f"the last message ends after {len(buffer) - at} octets"
            return
        found = max(len(buffer) - IPFIX_HEADER + 1, at + 1) if found < 0 else found
        yield b"", f"{found - at} octets are no message"
        at = found


def _next_header(buffer: bytes, start: int) -> int:
    """Where the next message header may begin, -1 for nowhere: its version, a length that fits, and another behind."""
    at = start
    while (at := buffer.find(b"\x00\x0a", at)) >= 0:
        if at + 4 > len(buffer):
            return -1
        end = at + struct.unpack_from("!H", buffer, at + 2)[0]
        if end - at >= IPFIX_HEADER and (end == len(buffer) or buffer[end : end + 2] == b"\x00\x0a"):
            return at
        at += 1
    return -1
