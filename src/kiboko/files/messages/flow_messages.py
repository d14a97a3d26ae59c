"""IPFIX (RFC 7011) and NetFlow version 9 (RFC 3954) messages as columns by information element.

Templates, option records, sampling rates and sequence numbers are kept by the library netflume, for each exporter and
observation domain; so are records of no fixed length read by it. Data that comes before its template waits for it,
within a bound.
"""

from __future__ import annotations

import struct
from collections import Counter, OrderedDict
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

import pyarrow as pa
from netflume import Decoder, SequenceWatch
from netflume.events import DecodeError, TemplateLearned

from kiboko.files.elements.streams import Stream
from kiboko.files.messages.template_columns import (
    COUNTS,
    DAY_MS,
    ELEMENTS,
    OBSERVED,
    REVERSE_COUNTS,
    TIMES,
    WRAP_MS,
    RecordLayout,
    has_ends,
    is_of_samples,
    taken_together,
)

IPFIX_HEADER = 16
"""Octets of an IPFIX message header (RFC 7011, section 3.1)."""
_V9_HEADER = 20
_FIRST_DATA = 256
_MOST_WAITING = 4 << 20
_MOST_BOOTED = 10_000
_MOST_FIELDS = 1_000
"""Fields of a template; one with more is not kept."""
_MOST_OF_ONE = 2_000
"""Templates of one exporter that are kept; then the oldest of its own make room."""
_MOST_OF_ALL = 200_000
"""Fields of the templates of all exporters; then the exporter heard of least recently makes room."""
NO_ENDS = "records without two ends"
SAMPLES = "packet samples (PSAMP, RFC 5476), which are no flow records"
_Template = tuple[str, int, int]
GAPS = "records or messages that never came"
LATE = "messages that came twice or late"
ANEW = "sequences that began anew, as after a restart: no loss that is known of"
_OTHER = "message of another version"
_OTHERS = {
    b"\x00\x00\x00\x05": "sFlow version 5, which is not read: have the device send IPFIX",
    b"\x00\x01": "NetFlow version 1, which is not read: have the device send version 9 or IPFIX",
    b"\x00\x07": "NetFlow version 7, which is not read: have the device send version 9 or IPFIX",
    b"\x00\x08": "NetFlow version 8, which is not read: have the device send version 9 or IPFIX",
}
"""What other messages are, by how they begin."""
_FAULTS = {
    "short": "message shorter than its header",
    "unsupported": _OTHER,
    "malformed": "message that cannot be read",
}


@dataclass(slots=True)
class MessageReader:
    """Reads messages of any number of exporters. `counts` has what was met and what was wrong, by kind; `first` the
    exporter of the first of each fault."""

    counts: Counter[str] = field(default_factory=Counter)
    first: dict[str, str] = field(default_factory=dict)
    records: int = 0
    """Flow records that were read and not taken yet."""
    _decoder: Decoder = field(default_factory=lambda: Decoder(track_sequence=False))
    _sequence: SequenceWatch = field(default_factory=SequenceWatch)
    _booted: dict[tuple[str, int], int] = field(default_factory=dict)
    """When exporters of IPFIX say that they were booted, in milliseconds since 1970, by exporter and domain."""
    _layouts: OrderedDict[_Template, RecordLayout | None] = field(default_factory=OrderedDict)
    _one_by_one: list[dict[str, Any]] = field(default_factory=list)
    _gone: list[tuple[RecordLayout, str, int]] = field(default_factory=list)
    _kept: OrderedDict[str, OrderedDict[tuple[int, int], int]] = field(default_factory=OrderedDict)
    """The fields of each template that is kept, by exporter, then by domain and number."""
    _kept_fields: int = 0
    _waiting: OrderedDict[_Template, list[bytes]] = field(default_factory=OrderedDict)
    _waiting_size: int = 0
    _told: OrderedDict[tuple[str, int, int], tuple[str, bytes]] = field(default_factory=OrderedDict)
    """How templates were defined, and from which port, by address, domain and number."""
    _apart: set[str] = field(default_factory=set)
    """Sessions that share an address with others and have templates of their own."""

    def read(self, data: bytes, exporter: str) -> None:
        """Take in one message, and with it earlier data whose template it brings. Never raises for bad data.

        `exporter` is an address, or a session of one: `ADDRESS#PORT`, or `ADDRESS#tcp-PORT` for a connection. Sequences
        are those of a session. Templates are those of a connection (RFC 7011, section 8), and over UDP those of an
        address, whose port may change on the way, until another port says otherwise of the same template: then there
        are several exporters behind one address, and each is taken by itself.
        """
        exporter = exporter.removeprefix("::ffff:") if "." in exporter else exporter
        size = {b"\x00\x0a": IPFIX_HEADER, b"\x00\x09": _V9_HEADER}.get(data[:2])
        if size is None or len(data) < size:
            flows, _ = self._by_library(data, exporter)
            self.counts["messages"] += flows >= 0
            return
        self.counts["messages"] += 1
        domain, sequence, sets, is_short = _opened(data, size)
        session, exporter = exporter, self._exporter(exporter, domain, sets)
        if is_short:
            self._fault("message cut short", exporter)
        flows, options = self._read_sets(data[:size], exporter, domain, sets)
        if flows >= 0:
            self._watch(session, exporter, domain, data[1], sequence, flows, options)

    def _watch(
        self, session: str, exporter: str, domain: int, version: int, sequence: int, flows: int, options: int
    ) -> None:
        """What a sequence number tells: of loss, or of something else that looks like it."""
        watch = self._sequence
        late, anew = watch.backwards, watch.resyncs
        gap = watch.observe(session, domain, version, sequence, flows, options)
        if gap:
            self._fault(GAPS, exporter, gap)
        if watch.backwards > late:
            self._fault(LATE, exporter)
        if watch.resyncs > anew:
            self._fault(ANEW, exporter)

    def _exporter(self, session: str, domain: int, sets: list[tuple[int, bytes]]) -> str:
        """Whose templates a session's are: its address's, or its own."""
        address, _, port = session.partition("#")
        if not port or port.startswith("tcp") or session in self._apart:
            return session
        for number, body in sets:
            for template, told in _definitions(body) if number in (0, 2) else ():
                known = self._told.get((address, domain, template))
                if known is not None and known[0] != port and known[1] != told and len(self._apart) < _MOST_BOOTED:
                    self._apart.add(session)
                    self.counts["exporters behind an address of others"] += 1
                    return session
                self._told[address, domain, template] = port, told
                self._told.move_to_end((address, domain, template))
                if len(self._told) > _MOST_BOOTED:
                    self._told.popitem(last=False)
        return address

    def _read_sets(self, header: bytes, exporter: str, domain: int, sets: list[tuple[int, bytes]]) -> tuple[int, int]:
        """The flow and option records of some sets, how many: first templates and what exporters say of themselves,
        since the data rest on both."""
        learnt = []
        for number, each in sets:
            if number < _FIRST_DATA and _widest(each) > _MOST_FIELDS:  # not even looked at: that alone takes long
                self._fault("templates of more fields than are read", exporter)
            elif number < _FIRST_DATA:
                learnt.append(each)
        if learnt:
            self._by_library(_message(header, learnt), exporter)
        known = {number: self._decoder.templates.get(exporter, domain, number) for number, _ in sets}
        told = [each for number, each in sets if number >= _FIRST_DATA and known[number][1]]
        options = self._by_library(_message(header, told), exporter)[1] if told else 0
        export, boot = _clock(header, self._booted.get((exporter, domain), 0))
        rate = self._decoder.sampling_rate(exporter, domain)
        flows, others, uncounted = 0, 0, False
        odd: list[bytes] = []
        for number, each in sets:
            fields, is_option = known[number]
            if number < _FIRST_DATA or is_option:
                continue
            if not fields:
                self._set_aside(header, exporter, domain, number, each)
                continue
            layout = self._layout((exporter, domain, number), fields)
            if not has_ends(fields):
                # No flows, however many there are: not one of them is looked at.
                count = layout.count(each[4:]) if layout is not None else 0
                uncounted |= layout is None
                self._fault(SAMPLES if is_of_samples(fields) else NO_ENDS, exporter, max(1, count))
                others += count
            elif layout is None:
                odd.append(each)
            else:
                flows += layout.add(each[4:], export, boot, rate)
        self.records += flows
        more = self._by_library(_message(header, odd), exporter)[0] if odd else 0
        return -1 if uncounted else flows + others + max(0, more), options

    def _layout(self, template: _Template, fields: Any) -> RecordLayout | None:
        layout = self._layouts.get(template)
        if template not in self._layouts or (layout is not None and layout.fields is not fields):
            if layout is not None and layout.fields != fields:
                self._read_out(layout, template)
            if layout is None or layout.fields != fields:
                layout = RecordLayout.of(fields)
            else:
                layout.fields = fields
            self._layouts[template] = layout
        return layout

    def _read_out(self, layout: RecordLayout | None, template: _Template) -> None:
        """Keep the records of a layout that is no more, if it has any, to be taken with the others."""
        if layout is not None and layout.bodies:
            self._gone.append((layout, template[0], template[1]))

    def _by_library(self, data: bytes, exporter: str) -> tuple[int, int]:
        """How many flow and option records the library found in a message, -1 where it could not read it."""
        message = self._decoder.decode(data, exporter)
        for event in self._decoder.take_events():
            if isinstance(event, TemplateLearned):
                self.counts["templates"] += 1
                if event.options:  # the number was of data before: what is kept of that is not lost
                    template = event.exporter, event.domain, event.template_id
                    self._read_out(self._layouts.pop(template, None), template)
                if self._keep(event.exporter, event.domain, event.template_id, len(event.fields)):
                    self._late(event.exporter, event.domain, event.template_id)
            elif isinstance(event, DecodeError):
                kind = _FAULTS.get(event.reason, "message that cannot be read")
                self._fault(_OTHERS.get(data[:4], _OTHERS.get(data[:2], kind)) if kind == _OTHER else kind, exporter)
        if message is None:
            return -1, 0
        self.counts["option records"] += len(message.options)
        header = dict(message.header)
        if data[:2] == b"\x00\x05":  # its clock tells parts of a second, which the library leaves out
            header["unix_nsecs"] = int.from_bytes(data[12:16], "big")
        for option in message.options:
            if "system_init_time_ms" in option and len(self._booted) < _MOST_BOOTED:
                self._booted[exporter, header["domain"]] = int(option["system_init_time_ms"])
        rows = list(_records(message.flows, header, message.sampling_rate, exporter, self._booted))
        self._one_by_one.extend(rows)
        self.records += len(rows)
        return len(rows), len(message.options)

    def _keep(self, exporter: str, domain: int, number: int, fields: int) -> bool:
        """Have a template that was learnt stay within bounds; whether it stays at all."""
        mine = self._kept.setdefault(exporter, OrderedDict())
        self._kept.move_to_end(exporter)
        self._kept_fields += fields - mine.get((domain, number), 0)
        mine[domain, number] = fields
        mine.move_to_end((domain, number))
        if fields > _MOST_FIELDS:
            self._fault("templates of more fields than are read", exporter)
            self._let_go(exporter, (domain, number))
            return False
        while len(mine) > _MOST_OF_ONE:
            self._fault("templates let go: their exporter has too many", exporter)
            self._let_go(exporter, next(iter(mine)))
        while self._kept_fields > _MOST_OF_ALL:
            oldest = next(iter(self._kept))
            self._fault("templates let go: there are too many in all", oldest)
            self._let_go(oldest, next(iter(self._kept[oldest])))
        return (domain, number) in self._kept.get(exporter, ())

    def _let_go(self, exporter: str, key: tuple[int, int]) -> None:
        template = (exporter, *key)
        self._read_out(self._layouts.pop(template, None), template)
        self._decoder.templates.templates.pop(template, None)
        mine = self._kept[exporter]
        self._kept_fields -= mine.pop(key)
        if not mine:
            del self._kept[exporter]

    def _fault(self, kind: str, exporter: str, count: int = 1) -> None:
        self.counts[kind] += count
        self.first.setdefault(kind, address_of(exporter))

    def take(self) -> list[pa.Table]:
        """The records since the last time, as tables by information element."""
        alike: dict[tuple[Any, ...], list[tuple[RecordLayout, str, int]]] = {}
        mine = ((layout, exporter, domain) for (exporter, domain, _), layout in self._layouts.items() if layout)
        for layout, exporter, domain in (*self._gone, *mine):
            if layout.bodies:
                part = (layout, address_of(exporter), domain)
                alike.setdefault(tuple(map(tuple, layout.fields)), []).append(part)
        self._gone = []
        found = [taken_together(parts) for parts in alike.values()]
        rows, self._one_by_one, self.records = self._one_by_one, [], 0
        if rows:
            names = dict.fromkeys(name for row in rows for name in row)
            found.append(
                pa.table({name: pa.array([_text(row.get(name)) for row in rows], pa.string()) for name in names})
            )
        return found

    @property
    def waiting(self) -> int:
        """How many sets of data wait for a template that has not come."""
        return sum(len(each) for each in self._waiting.values())

    @property
    def sampled(self) -> dict[tuple[str, int], int]:
        """The sampling rates in force, one packet in so many, by exporter and domain: counts are multiplied by them."""
        watch = self._decoder.sampling
        rates = watch.rates if watch is not None else {}
        return {(address_of(exporter), domain): rate for (exporter, domain), rate in rates.items()}

    # Data before its template.

    def _set_aside(self, header: bytes, exporter: str, domain: int, number: int, body: bytes) -> None:
        """Keep a set whose template is not known, as a message of its own."""
        self._fault("data before its template", exporter)
        alone = _message(header, [body])
        self._waiting.setdefault((exporter, domain, number), []).append(alone)
        self._waiting_size += len(alone)
        while self._waiting_size > _MOST_WAITING:
            _, lost = self._waiting.popitem(last=False)
            self._waiting_size -= sum(map(len, lost))
            self.counts["data dropped without a template"] += len(lost)

    def _late(self, exporter: str, domain: int, number: int) -> None:
        """Read what has waited for a template. Its sequence was counted when it came, as of no records."""
        for data in self._waiting.pop((exporter, domain, number), ()):
            self._waiting_size -= len(data)
            size = IPFIX_HEADER if data[1] == 10 else _V9_HEADER
            self._read_sets(data[:size], exporter, domain, [(number, data[size:])])
            self.counts["data before its template, read later"] += 1


def address_of(exporter: str) -> str:
    """The address of an exporter, without its session."""
    return exporter.partition("#")[0]


def _opened(data: bytes, size: int) -> tuple[int, int, list[tuple[int, bytes]], bool]:
    """The domain of a message, its sequence number, its sets by number, and whether it ends before they do."""
    sequence, domain = struct.unpack_from("!II", data, size - 8)
    end, is_short = len(data), False
    if data[1] == 10:
        length = int.from_bytes(data[2:4], "big")
        end, is_short = min(end, length or end), length > end
    found, at = [], size
    while at + 4 <= end:
        number, length = struct.unpack_from("!HH", data, at)
        if length < 4:
            is_short = True
            break
        is_short |= at + length > end
        found.append((number, data[at : min(end, at + length)]))
        at += length
    return domain, sequence, found, is_short


def _widest(body: bytes) -> int:
    """The most fields of a template in a set of templates (RFC 7011, section 3.4; RFC 3954, section 5.2)."""
    number, at, most = int.from_bytes(body[:2], "big"), 4, 0
    is_option = number in (1, 3)
    while at + (6 if is_option else 4) <= len(body):
        count = int.from_bytes(body[at + 2 : at + 4], "big")
        if number == 1:  # version 9 counts octets of scopes and options, four of them a field
            count = (count + int.from_bytes(body[at + 4 : at + 6], "big")) // 4
        most = max(most, count)
        if most > _MOST_FIELDS:
            return most
        at += 6 if is_option else 4
        for _ in range(count):
            # A field of an enterprise is longer by the enterprise's number.
            at += 8 if number in (2, 3) and at < len(body) and body[at] & 0x80 else 4
    return most


def _definitions(body: bytes) -> Iterator[tuple[int, bytes]]:
    """The templates of a set of them, no options: the number of each, and how it is defined, as octets."""
    at = 4
    while at + 4 <= len(body):
        number, count = struct.unpack_from("!HH", body, at)
        begin = at = at + 4
        for _ in range(count):
            at += 8 if body[1] == 2 and at < len(body) and body[at] & 0x80 else 4
        if count:
            yield number, body[begin:at]


def _clock(header: bytes, booted: int) -> tuple[int, int]:
    """A message's time of export, and of its exporter's boot, in milliseconds since 1970; 0 for no boot known. IPFIX
    messages do not tell the boot, but an option record may have: `booted`."""
    if header[1] == 10:
        return int.from_bytes(header[4:8], "big") * 1000, booted
    uptime, export = struct.unpack_from("!II", header, 4)
    return export * 1000, export * 1000 - uptime


def _message(header: bytes, sets: list[bytes]) -> bytes:
    """A message of some sets of another."""
    body = b"".join(sets)
    if header[1] == 10:
        return header[:2] + struct.pack("!H", min(0xFFFF, IPFIX_HEADER + len(body))) + header[4:] + body
    return header[:2] + struct.pack("!H", len(sets)) + header[4:] + body


def _text(value: Any) -> str | None:
    return None if value is None else str(value)


def _records(
    flows: list[dict[str, Any]],
    header: Mapping[str, Any],
    rate: int,
    exporter: str,
    booted: Mapping[tuple[str, int], int],
) -> Iterator[dict[str, Any]]:
    """Records that were read one by one, by information element."""
    domain = header.get("domain")
    export_ms = (header.get("unix_secs") or 0) * 1000 + (header.get("unix_nsecs") or 0) // 1_000_000
    uptime = header.get("sys_uptime")
    boot = export_ms - uptime if uptime is not None else booted.get((exporter, domain or 0))
    for flow in flows:
        row = {element: flow[name] for name, element in ELEMENTS.items() if name in flow}
        for name, element in (
            ("post_nat_src_addr", "sourceIPv4Address"),
            ("post_nat_dst_addr", "destinationIPv4Address"),
        ):
            if name in flow:
                row.setdefault(element, flow[name])
        if "dot1q_vlan" in flow:
            row.setdefault("vlanId", flow["dot1q_vlan"])
        for name, element in TIMES:
            if name in flow:
                row.setdefault(element, round(flow[name] * 1000))
        boot_ms = flow.get("system_init_time_ms", boot)
        if boot_ms is not None:
            for name, element in (
                ("first_switched", "flowStartMilliseconds"),
                ("last_switched", "flowEndMilliseconds"),
            ):
                if name in flow:
                    moment = boot_ms + flow[name]
                    row.setdefault(element, moment - WRAP_MS if moment > export_ms + DAY_MS else moment)
        if "flowEndMilliseconds" not in row:
            row.setdefault("flowStartMilliseconds", flow.get(OBSERVED, export_ms))
        for name, element, total in COUNTS:
            row[element] = flow.get(name, flow.get(total, 0)) * rate
        for name, element, total in REVERSE_COUNTS:
            if name in flow or total in flow:
                row[element] = flow.get(name, flow.get(total, 0)) * rate
        if "icmp_type" in flow:
            kind = flow["icmp_type"] << 8 | flow.get("icmp_code", 0)
            row.setdefault("icmpTypeCodeIPv6" if row.get("protocolIdentifier") == 58 else "icmpTypeCodeIPv4", kind)
        yield {**row, "exporterIPv4Address": address_of(exporter) or None, "observationDomainId": domain}


def messages_of(stream: Stream) -> Iterator[tuple[bytes, str]]:
    """The messages of an IPFIX file (RFC 5655), each with what is wrong with it, empty for nothing.

    Where a message does not begin with a header that makes sense, the next one that does is looked for.
    """
    buffer, at, more = b"", 0, b"-"
    while more or len(buffer) > at:
        version, length = struct.unpack_from("!HH", buffer, at) if len(buffer) - at >= IPFIX_HEADER else (10, 0xFFFF)
        if version == 10 and IPFIX_HEADER <= length <= len(buffer) - at:
            end = at + length
            # What looks like a header may be noise: then no other one follows where it ends, but begins before.
            inner = -1 if end == len(buffer) or buffer[end : end + 2] == b"\x00\x0a" else _next_header(buffer, at + 1)
            if not 0 <= inner < end:
                yield buffer[at:end], ""
                at = end
                continue
            yield b"", f"{inner - at} octets are no message"
            at = inner
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
