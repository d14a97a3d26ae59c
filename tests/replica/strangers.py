"""Packets that belong to no connection, as the edge of every network sees them all day: answers to what others forged,
scans of many kinds, and what comes late. Sent in a replica beside probes, and recorded with these."""

import socket
import struct
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from kiboko.core.header.services import ICMP, ICMP6, TCP, UDP
from kiboko.replica.kernel import Services, build, enter
from kiboko.replica.recorder import Recorder
from kiboko.replica.trials import outside_addresses
from kiboko.replica.verify import send_all
from kiboko.wire.probes import Sending

_FIN, _SYN, _RST, _PSH, _ACK, _URG = 1, 2, 4, 8, 16, 32
_OF_SERVERS = {
    "an answer to an opening": (TCP, _SYN | _ACK, 0),
    "a reset": (TCP, _RST, 0),
    "a refusal": (TCP, _RST | _ACK, 0),
    "an acknowledgement": (TCP, _ACK, 0),
    "data": (TCP, _PSH | _ACK, 300),
    "an end": (TCP, _FIN | _ACK, 0),
    "a short answer": (UDP, 0, 100),
    "a long answer": (UDP, 0, 1000),
}
"""What seems to come from a server: protocol, flags and octets of data."""
_OF_CLIENTS = {
    "no flags": (TCP, 0, 0),
    "flags that nobody has": (TCP, _FIN | _PSH | _URG, 0),
    "data to a service": (TCP, _PSH | _ACK, 200),
    "a datagram": (UDP, 0, 200),
}
_BETWEEN_SERVERS = "a datagram between servers"
_ASKS = "a datagram", _BETWEEN_SERVERS
"""What asks by itself, is answered, and is taken for what it seems."""
_AT_ONCE = 50
_IPV6_HDRINCL = 36
"""From linux/in6.h: Python has no name for it."""


@dataclass(frozen=True)
class Stray:
    """A packet sent `count` times from a machine's namespace: of ICMP the ports are its type and code."""

    home: str
    source: str
    target: str
    protocol: int
    source_port: int
    port: int
    flags: int
    size: int
    count: int


def drawn(walker, layout, ports, count, chance):
    """Packets from outside to our machines, by their own addresses and public ones, and to shared addresses; from and to
    some `ports` of services, and clients' ones."""
    outside = [(layout.homes[name], text) for name, texts in outside_addresses(walker.topology, walker.directory).items()
               for text in texts if name in layout.homes]  # fmt: skip
    own = [str(each) for interface in walker.directory.interfaces() for each in interface.addresses]
    public = [str(each) for each in walker.directory.public_addresses()]
    kinds = [*_OF_SERVERS, *_OF_CLIENTS, _BETWEEN_SERVERS, "an echo reply", "an error"]
    found = []
    while len(found) < count:
        (home, source), target = chance.choice(outside), chance.choice(public * 3 + own)
        if (":" in source) != (":" in target):
            continue
        kind, served, client = chance.choice(kinds), chance.choice(ports), chance.randint(32768, 60999)
        if chance.random() < 0.15 and kind not in _ASKS:  # in the name of somebody else outside
            source = chance.choice([text for _, text in outside if (":" in text) == (":" in source)])
        if kind in _OF_SERVERS:
            protocol, flags, size = _OF_SERVERS[kind]
            what = protocol, served, client, flags, size
        elif kind in _OF_CLIENTS:
            protocol, flags, size = _OF_CLIENTS[kind]
            what = protocol, client, served, flags, size
        elif kind == _BETWEEN_SERVERS:
            what = UDP, served, served, 0, 60
        elif kind == "an echo reply":
            what = (ICMP6, 129, 0, 0, 56) if ":" in source else (ICMP, 0, 0, 0, 56)
        else:
            what = (ICMP6, 1, 4, 0, 48) if ":" in source else (ICMP, 3, 3, 0, 48)
        found.append(Stray(home, source, target, *what, chance.choice((1, 1, 1, 2, 6))))
    return found


def packet_of(stray):
    """The octets of a packet, with its header (RFC 791, RFC 8200)."""
    family = socket.AF_INET6 if ":" in stray.source else socket.AF_INET
    ends = socket.inet_pton(family, stray.source) + socket.inet_pton(family, stray.target)
    body = b"x" * stray.size
    if stray.protocol == TCP:
        acknowledged = 2000 if stray.flags & _ACK else 0
        body = (
            struct.pack(
                ">HHIIBBHHH", stray.source_port, stray.port, 1000, acknowledged, 5 << 4, stray.flags, 8192, 0, 0
            )
            + body
        )
        at = 16
    elif stray.protocol == UDP:
        body, at = struct.pack(">HHHH", stray.source_port, stray.port, 8 + len(body), 0) + body, 6
    else:
        body, at = struct.pack(">BBHHH", stray.source_port, stray.port, 0, 77, 1) + body, 2
    summed = b"" if stray.protocol == ICMP else ends + struct.pack(">II", len(body), stray.protocol)
    body = body[:at] + struct.pack(">H", checksum(summed + body)) + body[at + 2 :]
    if family == socket.AF_INET6:
        return struct.pack(">IHBB", 6 << 28, len(body), stray.protocol, 64) + ends + body
    return struct.pack(">BBHHHBBH", 0x45, 0, 20 + len(body), 1, 0, 64, stray.protocol, 0) + ends + body


def checksum(octets):
    """The Internet checksum (RFC 1071)."""
    octets += b"\0" * (len(octets) % 2)
    total = sum(struct.unpack(f">{len(octets) // 2}H", octets))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def send(stray):
    """Send it; what the sender's own machine does not let out is none."""
    enter(stray.home)
    six = ":" in stray.source
    with socket.socket(socket.AF_INET6 if six else socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_RAW) as made:
        if six:
            made.setsockopt(socket.IPPROTO_IPV6, _IPV6_HDRINCL, 1)
        for _ in range(stray.count):
            try:
                made.sendto(packet_of(stray), (stray.target, 0))
            except OSError:
                return
            time.sleep(0.01)


def sent_inside(argument):
    """In a replica: the probes' outcomes, and the records of these and of what strangers send meanwhile."""
    layout, trials, strays, timeout = argument
    build(layout)
    services, recorder = Services(layout), Recorder(layout)

    def send_strays():
        with ThreadPoolExecutor(_AT_ONCE) as pool:
            list(pool.map(send, strays))

    meanwhile = threading.Thread(target=send_strays)
    meanwhile.start()
    outcomes = tuple(send_all(layout, trials, Sending(timeout, 2)))
    meanwhile.join()
    services.close()
    return outcomes, tuple(recorder.stop())
