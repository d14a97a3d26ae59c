"""Services: protocol and destination port, or ICMP type and code, as exact sets.

Every service is a number of 24 bits, `protocol << 16 | detail`, where the detail is the destination port for
protocols that have ports, `type << 8 | code` for ICMP and ICMPv6, and stands unused (all values at once) for
the rest. A set of services is then a set of ranges of these numbers, and "any" is one range.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import lru_cache

from kiboko.core.header.ranges import RangeSet
from kiboko.core.hints import nearest

TCP, UDP, SCTP, ICMP, ICMP6 = 6, 17, 132, 1, 58
PROTOCOLS: dict[str, int] = {"tcp": TCP, "udp": UDP, "sctp": SCTP, "icmp": ICMP, "icmp6": ICMP6}
PROTOCOL_NAMES = {number: name for name, number in PROTOCOLS.items()}
WITH_PORTS = frozenset((TCP, UDP, SCTP))
EVERY_SERVICE = RangeSet.span(0, (256 << 16) - 1)

# Type numbers of the IANA registries "ICMP Type Numbers" and "ICMPv6 type Numbers".
ICMP_TYPES = {
    "echo-reply": 0, "destination-unreachable": 3, "redirect": 5, "echo-request": 8,
    "time-exceeded": 11, "parameter-problem": 12, "timestamp-request": 13, "timestamp-reply": 14,
}  # fmt: skip
ICMP6_TYPES = {
    "destination-unreachable": 1, "packet-too-big": 2, "time-exceeded": 3, "parameter-problem": 4,
    "echo-request": 128, "echo-reply": 129, "router-solicitation": 133, "router-advertisement": 134,
    "neighbor-solicitation": 135, "neighbor-advertisement": 136,
}  # fmt: skip

OF_LINKS = frozenset((*range(130, 138), 141, 142, 143, 148, 149, 151, 152, 153))
"""The types of ICMPv6 messages that never pass a router: listeners of multicast, neighbour discovery and what came to
it, by the same registry."""

NEVER_REFUSED = RangeSet.of(
    (protocol << 16 | low << 8, protocol << 16 | high << 8 | 0xFF)
    for protocol, types in ((ICMP, ((1, 7), (9, 12), (19, 255))), (ICMP6, ((0, 127),)))
    for low, high in types
)
"""The ICMP messages that nobody answers by an ICMP error: errors themselves (RFC 1122, section 3.2.2; RFC 4443, section
2.4), and of IPv4 what is no question and no answer to one, as the kernel was seen to do."""

_OTHER_PROTOCOLS = {"icmpv6": "icmp6", "ipv6-icmp": "icmp6"} | {
    name: f"proto/{number}"
    for name, number in (("igmp", 2), ("ipip", 4), ("rsvp", 46), ("gre", 47), ("esp", 50), ("ah", 51), ("eigrp", 88),
                         ("ospf", 89), ("pim", 103), ("vrrp", 112), ("l2tpv3", 115), ("udplite", 136))
}  # fmt: skip
"""How protocols are written here that others write by their names in the IANA registry "Assigned Internet Protocol
Numbers"."""

# Ports of the IANA service registry; the same on every machine, so it ships here and is not read from one.
WELL_KNOWN: dict[str, tuple[str, ...]] = {
    "ping": ("icmp/echo-request", "icmp6/echo-request"),
    "ftp": ("tcp/21",), "ssh": ("tcp/22",), "telnet": ("tcp/23",), "smtp": ("tcp/25",),
    "dns": ("tcp/53", "udp/53"), "dhcp": ("udp/67-68",), "tftp": ("udp/69",), "http": ("tcp/80",),
    "kerberos": ("tcp/88", "udp/88"), "pop3": ("tcp/110",), "ntp": ("udp/123",), "imap": ("tcp/143",),
    "snmp": ("udp/161",), "snmp-trap": ("udp/162",), "bgp": ("tcp/179",), "ldap": ("tcp/389",),
    "https": ("tcp/443",), "smb": ("tcp/445",), "syslog": ("udp/514",), "submission": ("tcp/587",),
    "ipp": ("tcp/631",), "ldaps": ("tcp/636",), "dns-tls": ("tcp/853",), "nfs": ("tcp/2049",),
    "imaps": ("tcp/993",), "pop3s": ("tcp/995",), "mysql": ("tcp/3306",), "rdp": ("tcp/3389",),
    "netflow": ("udp/2055",), "ipfix": ("udp/4739", "tcp/4739"), "sip": ("tcp/5060", "udp/5060"),
    "postgresql": ("tcp/5432",), "amqp": ("tcp/5672",), "mqtt": ("tcp/1883",), "mqtts": ("tcp/8883",),
    "syslog-tls": ("tcp/6514",), "winrm": ("tcp/5985-5986",), "ike": ("udp/500", "udp/4500"),
    "radius": ("udp/1812-1813",), "vxlan": ("udp/4789",), "rsync": ("tcp/873",), "redis": ("tcp/6379",),
}  # fmt: skip


@dataclass(frozen=True, slots=True, order=True)
class Service:
    """The service of one flow: an IP protocol number and its detail (see the module's text)."""

    protocol: int
    detail: int = 0

    @property
    def number(self) -> int:
        """The 24-bit service number."""
        return self.protocol << 16 | self.detail

    @property
    def has_ports(self) -> bool:
        """Whether the protocol carries source and destination ports (TCP, UDP, SCTP)."""
        return self.protocol in WITH_PORTS

    def __str__(self) -> str:
        return service_text(self.number, self.number)

    @property
    def family(self) -> int | None:
        """The only address family the protocol can travel in, or None where both can."""
        return {ICMP: 4, ICMP6: 6}.get(self.protocol)


UNTOLD = 0xFFFF
"""In place of type and code of an ICMP message of which no record says what it is; 255 is reserved (RFC 3692)."""


def usual_services(named: Mapping[str, RangeSet]) -> list[int]:
    """The numbers of services that people ask about by name: those of the network file, then well-known ones."""
    known = [parse_services(texts[0]) for texts in WELL_KNOWN.values()]
    return [each.lowest for each in (*named.values(), *known) if each]


def usual_first(named: Mapping[str, RangeSet]) -> list[int]:
    """The same in the order in which one of them stands for others: those of TCP first."""
    return sorted(usual_services(named), key=lambda number: number >> 16 != TCP)


def service_hint(text: str, named: Mapping[str, RangeSet]) -> str:
    """What somebody may have meant, or how a service is written, for a text that `parse_services` refuses: to be put
    behind its message."""
    meant = _written_as_here(text)
    if meant is not None:
        with contextlib.suppress(ValueError):
            parse_services(meant, named)
            return f"; did you mean '{meant}'?"
    if "," in text and all(_is_service(each.strip(), named) or each.strip().isdecimal() for each in text.split(",")):
        return "; several are a list in a file, and a name under 'services' or one at a time on the command line"
    if re.fullmatch(r"\d+(-\d+)?", text, re.ASCII):
        return f"; a port goes with its protocol: tcp/{text} or udp/{text}"
    if text.partition("/")[0] in PROTOCOLS:
        return ""
    near = nearest(text, [*named, *WELL_KNOWN, *PROTOCOLS], 3, 0.5) if "/" not in text else ""
    return near or "; write it as tcp/443, udp/53, icmp/echo-request or a name"


def _is_service(text: str, named: Mapping[str, RangeSet]) -> bool:
    try:
        parse_services(text, named)
    except ValueError:
        return False
    return True


def _written_as_here(text: str) -> str | None:
    """A service that is written as in other places (`443/tcp`, `tcp:443`, `https/tcp`, `*`) as it is written here; None
    where it does not look like one."""
    lowered = text.strip().lower()
    if lowered in ("*", "all", "ip"):
        return "any"
    if lowered in _OTHER_PROTOCOLS:
        return _OTHER_PROTOCOLS[lowered]
    if lowered in ("icmp/echo", "icmp6/echo"):
        return f"{lowered}-request"
    found = re.fullmatch(r"([a-z]+)\s*[/:]\s*(?:\*|any|all)", lowered, re.ASCII)
    if found is not None:
        return found[1]
    found = re.fullmatch(r"([a-z]+)\s*[/: -]?\s*(\d+(?:-\d+)?)", lowered, re.ASCII)
    if found is not None:
        return f"{found[1]}/{found[2]}"
    found = re.fullmatch(r"(\d+(?:-\d+)?)\s*[/: ]\s*([a-z]+)", lowered, re.ASCII)
    if found is not None:
        return f"{found[2]}/{found[1]}"
    found = re.fullmatch(r"([a-z][a-z0-9-]*)\s*[/: ]\s*([a-z][a-z0-9-]*)", lowered, re.ASCII)
    if found is not None and (found[1] in PROTOCOLS) != (found[2] in PROTOCOLS):
        return found[2] if found[1] in PROTOCOLS else found[1]
    return lowered if lowered != text else None


def parse_services(text: str, named: Mapping[str, RangeSet] | None = None) -> RangeSet:
    """A service as written in a rule or on the command line, as a set of service numbers.

    `tcp/443`, `tcp/8000-8010`, `tcp`, `icmp/echo-request`, `icmp/3/4`, `proto/47`, `any`, a name of `named` or
    of the shipped table. Raises ValueError where the text is none of these; the message does not quote names.
    """
    if text == "any":
        return EVERY_SERVICE
    if named and text in named:
        return named[text]
    if text in WELL_KNOWN:
        return RangeSet.of(pair for each in WELL_KNOWN[text] for pair in parse_services(each))
    head, slash, rest = text.partition("/")
    if head == "proto":
        if not (rest.isdecimal() and rest.isascii() and int(rest) <= 255):
            raise ValueError(f"'{text}': a protocol number runs from 0 to 255")
        return _whole(int(rest))
    if head not in PROTOCOLS:
        raise ValueError(f"service '{text}' is not defined")
    protocol = PROTOCOLS[head]
    if not slash:
        return _whole(protocol)
    if protocol in WITH_PORTS:
        return _on(protocol, parse_ports(rest, text))
    return _on(protocol, _parse_icmp(rest, text, ICMP_TYPES if protocol == ICMP else ICMP6_TYPES))


def _ports_meant(text: str, shown: str) -> str:
    """What ports may be meant that are written as in other places (`8000:8010`, `1024-`, `>1023`, `any`)."""
    pair = re.fullmatch(r"(\d+)\s*(?:[: ]|\.\.+|to)\s*(\d+)", text, re.ASCII)
    least = re.fullmatch(r"(>=?)\s*(\d+)|(\d+)\s*[-:+]", text, re.ASCII)
    if pair is not None:
        meant = f"{pair[1]}-{pair[2]}"
    elif least is not None:
        meant = f"{int(least[2] or least[3]) + (least[1] == '>')}-65535"
    elif text.lower() in ("any", "all", "*") and shown == text:
        meant = "0-65535"
    else:
        return ""
    return f"; did you mean '{shown.removesuffix(text)}{meant}'?"


def parse_ports(text: str, whole: str | None = None) -> RangeSet:
    """A port or a range `low-high`, 0 to 65535. Raises ValueError."""
    match = re.fullmatch(r"(\d{1,5})(?:\s*-\s*(\d{1,5}))?", text, re.ASCII)
    shown = whole or text
    if not match:
        raise ValueError(f"'{shown}': a port is a number or a range such as 8000-8010{_ports_meant(text, shown)}")
    low = int(match[1])
    high = int(match[2]) if match[2] else low
    if high > 65535:
        raise ValueError(f"'{shown}': a port runs from 0 to 65535")
    if low > high:
        raise ValueError(f"'{shown}' runs backwards; did you mean '{high}-{low}'?")
    return RangeSet.span(low, high)


def _parse_icmp(rest: str, text: str, types: Mapping[str, int]) -> RangeSet:
    kind, slash, code = rest.partition("/")
    if kind in types:
        number = types[kind]
    elif kind.isdecimal() and kind.isascii() and int(kind) <= 255:
        number = int(kind)
    else:
        raise ValueError(f"'{text}': '{kind}' is neither a type number nor one of {', '.join(types)}")
    if not slash:
        return RangeSet.span(number << 8, number << 8 | 255)
    if not (code.isdecimal() and code.isascii() and int(code) <= 255):
        raise ValueError(f"'{text}': an ICMP code runs from 0 to 255")
    return RangeSet.one(number << 8 | int(code))


def _whole(protocol: int) -> RangeSet:
    return RangeSet.span(protocol << 16, protocol << 16 | 0xFFFF)


def _on(protocol: int, details: RangeSet) -> RangeSet:
    return RangeSet(tuple((protocol << 16 | low, protocol << 16 | high) for low, high in details))


@lru_cache(maxsize=4096)
def details_of(services: RangeSet, protocol: int) -> RangeSet:
    """The details (ports, ICMP types) that a set of service numbers holds for one protocol."""
    base = protocol << 16
    return RangeSet(tuple((low - base, high - base) for low, high in services & _whole(protocol)))


def service_text(low: int, high: int) -> str:
    """A range of service numbers within one protocol, in the notation of the network file."""
    protocol = low >> 16
    first, last = low & 0xFFFF, high & 0xFFFF
    name = PROTOCOL_NAMES.get(protocol)
    if name is None:
        return f"proto/{protocol}"
    if (first, last) == (0, 0xFFFF):
        return name
    if protocol in WITH_PORTS:
        return f"{name}/{first}" if first == last else f"{name}/{first}-{last}"
    if first == last == UNTOLD:
        return f"{name}, type not recorded"
    types = {number: word for word, number in (ICMP_TYPES if protocol == ICMP else ICMP6_TYPES).items()}
    kind = types.get(first >> 8, str(first >> 8))
    if first == last:
        is_echo = kind in ("echo-request", "echo-reply") and not first & 255
        return f"{name}/{kind}" if is_echo else f"{name}/{first >> 8}/{first & 255}"
    if first >> 8 == last >> 8 and (first & 255, last & 255) == (0, 255):
        return f"{name}/{kind}"
    return f"{name}/{first >> 8}/{first & 255} to {last >> 8}/{last & 255}"


def services_texts(services: RangeSet) -> list[str]:
    """A set of service numbers as text, one entry per protocol and range; `any` for the whole."""
    if services == EVERY_SERVICE:
        return ["any"]
    found: list[str] = []
    for low, high in services:
        while low <= high:
            top = min(high, low | 0xFFFF)
            if top == low | 0xFFFF and not low & 0xFFFF and high >> 16 > (low >> 16) + 1:
                last = high >> 16 if high & 0xFFFF == 0xFFFF else (high >> 16) - 1
                found.append(f"proto/{low >> 16} to proto/{last}")
                top = last << 16 | 0xFFFF
            else:
                found.append(service_text(low, top))
            low = top + 1
    return found


def reply_of(service: Service) -> Service | None:
    """The service of the reply where that does not rest on ports: echo replies, other protocols as they are.

    None for ICMP messages that have no reply (clause S21). For protocols with ports the reply's service is the
    client's port, which is not a matter of the service: the caller swaps the ports.
    """
    if service.protocol == ICMP:
        return Service(ICMP, 0) if service.detail >> 8 == 8 else None
    if service.protocol == ICMP6:
        return Service(ICMP6, 129 << 8) if service.detail >> 8 == 128 else None
    return service


def union_services(sets: Iterable[RangeSet]) -> RangeSet:
    """Every service that is in at least one of `sets`."""
    return RangeSet.of(pair for each in sets for pair in each)


EPHEMERAL_DEFAULT = RangeSet.span(32768, 60999)
"""The default range of client ports of the Linux kernel (`net.ipv4.ip_local_port_range`)."""

NO_PORTS = RangeSet.one(0)
"""Stands for the source ports of a flow whose protocol has none, so that port sets never become empty."""
