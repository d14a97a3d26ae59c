"""The fields of a packet, as a rule of a kernel sees them (clause S35): what a field holds, and how surely that is one
of some values."""

from __future__ import annotations

import fnmatch
from dataclasses import dataclass

from kiboko.core.header.packet import ACK, SYN, Packet
from kiboko.core.header.ranges import EMPTY, RangeSet
from kiboko.core.header.services import ICMP, ICMP6, SCTP, TCP, UDP
from kiboko.core.network.host_rules import PRESENCE, Unjudged, Values

_PORT_PROTOCOL = {"tcp": TCP, "udp": UDP, "sctp": SCTP}
_MOST = {4: (1 << 32) - 1, 6: (1 << 128) - 1}
"""The highest address of each family."""
_DONT_FRAGMENT = 0x4000
"""Of the flags and the offset of a fragment (RFC 791, section 3.1) the one that is not known of a whole packet."""
_OWN_FAMILY = {"ip": 4, "ip6": 6, "exthdr": 6}
_OWN_PROTOCOL = {**_PORT_PROTOCOL, "icmp": ICMP, "icmpv6": ICMP6}


@dataclass(frozen=True, slots=True)
class Bits:
    """A field of flags: their value, and which of them are not known."""

    value: int
    unknown: int = 0


@dataclass(frozen=True, slots=True)
class OfRouter(Unjudged):
    """An address that is not known, between 0 and `most`."""

    most: int = 0


Reading = int | str | bool | Unjudged | Bits | None


@dataclass(slots=True)
class PacketFields:
    """A packet that takes `path` through a machine (`input`, `output` or `forward`), in by the device `ingress` and out
    by `egress`, empty where there is none; `before_conntrack` where connection tracking has not seen it yet."""

    packet: Packet
    path: str
    ingress: str
    egress: str
    before_conntrack: bool = False

    def read(self, protocol: str, name: str) -> Reading:
        """A field of the packet: a number, flags, a name, True for the client's ports, None where it is absent."""
        packet, service = self.packet, self.packet.service
        if _OWN_FAMILY.get(protocol, packet.family) != packet.family:
            return None
        if _OWN_PROTOCOL.get(protocol, service.protocol) != service.protocol:
            return None
        match (protocol, name):
            case ("ip" | "ip6", "saddr" | "daddr"):
                address = packet.source if name == "saddr" else packet.destination
                return (
                    OfRouter(f"{protocol} {name} of a router", most=_MOST[packet.family])
                    if address is None
                    else address.value
                )
            case ("ip", "protocol") | ("ip6", "nexthdr") | ("meta", "l4proto"):
                return service.protocol
            case ("ip", "frag-off"):
                return Bits(0, _DONT_FRAGMENT)
            case ("ip" | "ip6", "version"):
                return packet.family
            case ("meta", "nfproto"):
                return 2 if packet.family == 4 else 10
            case ("meta", "protocol"):
                return 0x0800 if packet.family == 4 else 0x86DD
            case ("meta", "iifname" | "iif"):
                return self.ingress
            case ("meta", "oifname" | "oif"):
                return self.egress
            case ("meta", "pkttype") if self.path == "input":
                return "multicast" if self._is_to_many() else "host"
            case ("exthdr", _):  # the packets that are asked about have none, as `ip6 nexthdr` says of them
                return 0 if name == PRESENCE else None
            case ("fib", "way back") if self.path == "input" and self.ingress != "lo":
                return 1  # what comes in is answered by the interface that it came in by (S3)
            case ("fib", "saddr type" | "daddr type"):
                return self._address_type(name)
            case ("ct", _):
                return self._connection(name)
            case ("tcp", "flags"):
                return Unjudged("tcp flags") if packet.tcp_flags is None else Bits(packet.tcp_flags)
            case ("tcp" | "udp" | "sctp" | "th", "sport" | "dport"):
                if not service.has_ports:
                    return Unjudged(f"th {name} of a protocol without ports")
                return True if (name == "dport") == packet.turned else service.detail
            case ("icmp" | "icmpv6", "type" | "code"):
                return service.detail >> 8 if name == "type" else service.detail & 255
        return Unjudged(f"{protocol} {name}")

    def _is_to_many(self) -> bool:
        """Whether the packet goes to a multicast address of IPv6: of all that are asked about, discovery alone."""
        address = self.packet.destination
        return address is not None and address.family == 6 and address.value >> 120 == 0xFF

    def _address_type(self, name: str) -> str:
        """What the machine's own routes make of an address: its own, or one of another machine."""
        if name == "daddr type" and self._is_to_many():
            return "multicast"
        own = "lo" in (self.ingress, self.egress) or self.path == ("input" if name == "daddr type" else "output")
        return "local" if own else "unicast"

    def _connection(self, name: str) -> Reading:
        """What connection tracking knows of the packet (linux/net/netfilter/nft_ct.c)."""
        state = self.packet.state
        if self.before_conntrack:
            return Unjudged(f"ct {name} before connection tracking")
        if name == "state":
            return state
        if state in ("invalid", "untracked"):
            return None  # there is no entry that could be looked at
        if name == "direction" and state != "related":
            return "original" if state == "new" or not self.packet.turned else "reply"
        if name == "status":
            expected, replied, assured, confirmed, dying = 1, 2, 4, 8, 512
            if state == "new":
                return Bits(0, expected | confirmed | dying)
            if state == "established":
                # Of TCP the sender's first packet behind the answer makes it so (linux/net/netfilter/
                # nf_conntrack_proto_tcp.c), before any filter is asked about it.
                flags = self.packet.tcp_flags
                sure = assured if flags == ACK else 0
                unknown = 0 if flags in (ACK, SYN | ACK) else assured
                return Bits(replied | confirmed | sure, expected | dying | unknown)
            return Bits(0, expected | replied | assured | confirmed | dying)
        return Unjudged(f"ct {name}")


def compare(reading: Reading, values: Values, ports: RangeSet) -> tuple[RangeSet, RangeSet]:
    """The ports for which a reading surely is one of some values, and for which it perhaps is."""
    if reading is True:
        return ports & values.numbers, EMPTY
    if isinstance(reading, OfRouter):
        return (ports, EMPTY) if values.numbers.ranges == ((0, reading.most),) else (EMPTY, ports)
    if isinstance(reading, Unjudged):
        return (ports, EMPTY) if _is_everything(values.numbers) else (EMPTY, ports)
    if isinstance(reading, Bits):
        mask = values.mask if values.mask is not None else 0xFFFF
        if reading.unknown & mask:
            return EMPTY, ports
        return (ports if reading.value & mask in values.numbers else EMPTY), EMPTY
    if isinstance(reading, str):
        return (ports if any(fnmatch.fnmatchcase(reading, name) for name in values.names) else EMPTY), EMPTY
    return (ports if isinstance(reading, int) and reading in values.numbers else EMPTY), EMPTY


def _is_everything(numbers: RangeSet) -> bool:
    """Whether a set of addresses holds every one of its family."""
    return numbers.ranges in (((0, (1 << 32) - 1),), ((0, (1 << 128) - 1),))
