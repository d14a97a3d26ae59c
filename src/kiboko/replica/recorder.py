"""Flow records of what the kernel did: packets that its filter logs to a netlink group, summed up by flow.

The messages are those of nfnetlink_log (linux/netfilter/nfnetlink_log.h); the packet headers RFC 791, RFC 8200,
RFC 9293, RFC 768, RFC 792 and RFC 4443.
"""

from __future__ import annotations

import contextlib
import errno
import selectors
import socket
import struct
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime

from kiboko.core.errors import EnvironmentFailure
from kiboko.core.header.addresses import Address
from kiboko.core.header.services import ICMP, ICMP6, TCP, WITH_PORTS, Service
from kiboko.core.records.records import DENIED, PASSED, FlowRecord
from kiboko.replica.kernel import in_namespaces
from kiboko.replica.layout import LOG_GROUP, Layout

_NETLINK_NETFILTER = 12
_PACKET, _CONFIG = 4 << 8, 4 << 8 | 1  # subsystem 4 is the log
_ATTR_TIMESTAMP, _ATTR_PAYLOAD, _ATTR_PREFIX = 3, 9, 10
_ATTR_COMMAND, _ATTR_MODE = 1, 2
_BUFFER = 64 << 20  # octets: a burst of probes must not overrun it
_RCVBUFFORCE = 33


@dataclass(frozen=True, slots=True)
class Header:
    """What a flow record needs of one packet. `detail` is the destination port, or type and code of ICMP."""

    source: Address
    destination: Address
    protocol: int
    source_port: int | None
    detail: int
    octets: int
    tcp_flags: int | None


@dataclass(slots=True)
class _Flow:
    first: float
    last: float = 0.0
    seen: int = 0
    seen_octets: int = 0
    passed: int = 0
    passed_octets: int = 0
    flags: int | None = None


class Recorder:
    """Listens to the log group of every tapped machine. `lost` counts overruns of the kernel's buffer.

    `moved_by` are seconds added to the time of each packet from now on: a recording may stand for another day.
    """

    def __init__(self, layout: Layout) -> None:
        self.lost = 0
        self.moved_by = 0.0
        self._taps = layout.taps
        self._flows: dict[tuple[str | None, Address, Address, int, int | None, int], _Flow] = {}
        self._selector = selectors.DefaultSelector()
        self._stopped = threading.Event()
        in_namespaces([layout.machines[name] for name in layout.tapped], lambda _: self._open())
        self._thread = threading.Thread(target=self._read_all, daemon=True)
        self._thread.start()

    def _open(self) -> None:
        made = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, _NETLINK_NETFILTER)
        made.bind((0, 0))
        try:
            made.setsockopt(socket.SOL_SOCKET, _RCVBUFFORCE, _BUFFER)
        except PermissionError:  # in a user namespace the system's own limit holds
            made.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _BUFFER)
        try:
            _configure(made, _attribute(_ATTR_COMMAND, b"\x01"))  # bind the group
            _configure(made, _attribute(_ATTR_MODE, struct.pack(">IBB", 128, 2, 0)))  # copy packets, 128 octets
        except OSError as error:
            raise EnvironmentFailure(f"the kernel's packet log cannot be read: {error.strerror}") from error
        made.setblocking(False)
        self._selector.register(made, selectors.EVENT_READ)

    def _read_all(self) -> None:
        while not self._stopped.is_set():
            for key, _ in self._selector.select(0.2):
                assert isinstance(key.fileobj, socket.socket)
                self._drain(key.fileobj)

    def _drain(self, made: socket.socket) -> None:
        while True:
            try:
                data = made.recv(1 << 18)
            except BlockingIOError:
                return
            except OSError as error:
                if error.errno != errno.ENOBUFS:
                    raise
                self.lost += 1
                continue
            # The kernel puts a time on what came in and none on what it sends itself: that of reading, which is in the
            # order of the packets, is one clock for both.
            for prefix, _, payload in log_messages(data):
                self._note(prefix, time.time(), payload)

    def _note(self, prefix: str, moment: float, payload: bytes) -> None:
        header = parse_header(payload)
        if header is None:
            return
        tap = self._taps[int(prefix)]
        when = moment + self.moved_by
        key = (tap.point, header.source, header.destination, header.protocol, header.source_port, header.detail)
        flow = self._flows.setdefault(key, _Flow(when))
        flow.first, flow.last = min(flow.first, when), max(flow.last, when)
        if header.tcp_flags is not None:
            flow.flags = (flow.flags or 0) | header.tcp_flags
        if tap.passed:
            flow.passed, flow.passed_octets = flow.passed + 1, flow.passed_octets + header.octets
        else:
            flow.seen, flow.seen_octets = flow.seen + 1, flow.seen_octets + header.octets

    def stop(self) -> list[FlowRecord]:
        """Stop listening and hand over the records in the order of their start."""
        time.sleep(0.3)  # what the kernel has queued
        self._stopped.set()
        self._thread.join()
        for key in self._selector.get_map().values():
            assert isinstance(key.fileobj, socket.socket)
            self._drain(key.fileobj)
            key.fileobj.close()
        self._selector.close()
        in_time = sorted(self._flows.items(), key=lambda item: item[1].first)
        return [record for key, flow in in_time for record in _records(key, flow)]


def _records(key: tuple[str | None, Address, Address, int, int | None, int], flow: _Flow) -> Iterator[FlowRecord]:
    """What passed is one record, what was seen and did not pass another."""
    point, source, destination, protocol, port, detail = key
    stopped = flow.seen - flow.passed
    for event, packets, octets in (
        (PASSED, flow.passed, flow.passed_octets),
        (DENIED, stopped, flow.seen_octets - flow.passed_octets),
    ):
        if packets > 0:
            yield FlowRecord(
                source, destination, Service(protocol, detail), port, event, _moment(flow.first), _moment(flow.last),
                packets, max(0, octets), flow.flags, point,
            )  # fmt: skip


def _moment(seconds: float) -> datetime:
    return datetime.fromtimestamp(round(seconds, 3), UTC)


def _attribute(kind: int, value: bytes) -> bytes:
    length = 4 + len(value)
    return struct.pack("=HH", length, kind) + value + b"\0" * (-length % 4)


def _configure(made: socket.socket, attribute: bytes) -> None:
    """Send one configuration message for the log group and wait for its acknowledgement (flags: request, ack)."""
    body = struct.pack(">BBH", 0, 0, LOG_GROUP) + attribute
    made.send(struct.pack("=IHHII", 16 + len(body), _CONFIG, 5, 1, 0) + body)
    answer = made.recv(4096)
    number = struct.unpack_from("=i", answer, 16)[0]
    if number:
        raise OSError(-number, errno.errorcode.get(-number, str(number)))


def log_messages(data: bytes) -> Iterator[tuple[str, float | None, bytes]]:
    """The packets of a netlink read: log prefix, time in seconds since 1970 where the kernel gives one, payload."""
    place = 0
    while place + 16 <= len(data):
        length, kind = struct.unpack_from("=IH", data, place)
        if length < 16:
            return
        if kind == _PACKET:
            prefix, moment, payload = "", None, b""
            for attribute, value in _attributes(data, place + 20, min(place + length, len(data))):
                if attribute == _ATTR_PREFIX:
                    prefix = value.rstrip(b"\0").decode(errors="replace")
                elif attribute == _ATTR_PAYLOAD:
                    payload = value
                elif attribute == _ATTR_TIMESTAMP:
                    seconds, micro = struct.unpack(">QQ", value)
                    moment = seconds + micro / 1e6
            yield prefix, moment, payload
        place += length + (-length % 4)


def _attributes(data: bytes, place: int, end: int) -> Iterator[tuple[int, bytes]]:
    while place + 4 <= end:
        length, kind = struct.unpack_from("=HH", data, place)
        if length < 4:
            return
        yield kind & 0x3FFF, data[place + 4 : place + length]
        place += length + (-length % 4)


def parse_header(packet: bytes) -> Header | None:
    """The headers of an IP packet; None where it is cut too short or no IP packet."""
    with contextlib.suppress(struct.error, IndexError):
        version = packet[0] >> 4
        if version == 4:
            start, octets, protocol = (packet[0] & 15) * 4, struct.unpack_from(">H", packet, 2)[0], packet[9]
            ends = packet[12:16], packet[16:20]
        elif version == 6:
            # The replica sends no extension headers.
            start, octets, protocol = 40, 40 + struct.unpack_from(">H", packet, 4)[0], packet[6]
            ends = packet[8:24], packet[24:40]
        else:
            return None
        source, destination = (Address(version, int.from_bytes(end, "big")) for end in ends)
        port, detail, flags = None, 0, None
        if protocol in WITH_PORTS:
            port, detail = struct.unpack_from(">HH", packet, start)
            flags = packet[start + 13] if protocol == TCP else None
        elif protocol in (ICMP, ICMP6):
            detail = packet[start] << 8 | packet[start + 1]
        return Header(source, destination, protocol, port, detail, octets, flags)
    return None
