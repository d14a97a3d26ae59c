"""What the fields of a flow record mean: names of the IPFIX information elements (RFC 7012) and the plain headers that
say the same, and one record from its fields."""

from __future__ import annotations

import functools
import re
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np

from kiboko.core.errors import InputError, Place, Problem, UsageError
from kiboko.core.header.addresses import Address, parse_meant
from kiboko.core.header.services import ICMP, ICMP6, PROTOCOLS, UNTOLD, WITH_PORTS, Service
from kiboko.core.hints import alike
from kiboko.core.records.flow_query import FlowFilter
from kiboko.core.records.flow_table import milliseconds
from kiboko.core.records.records import DENIED, PASSED, SEEN, FlowRecord
from kiboko.files.elements.moments import by_size
from kiboko.files.elements.rejects import Rejects

SOURCES = ("sourceIPv4Address", "sourceIPv6Address")
DESTINATIONS = ("destinationIPv4Address", "destinationIPv6Address")
TIMES = ("flowStartMilliseconds", "flowEndMilliseconds")
# Plain headers that say the same as an information element, whatever their case.
_PLAIN = {
    "sourceIPv4Address": ("src", "source", "src_ip", "srcip", "src_addr", "source_ip", "source_address", "c_ip"),
    "destinationIPv4Address": (
        "dst", "destination", "dst_ip", "dstip", "dst_addr", "destination_ip", "destination_address", "s_ip",
        "dest", "dest_ip", "dest_addr", "dest_address",
    ),
    "sourceTransportPort": ("src_port", "source_port", "sport", "srcport", "spt", "c_port"),
    "destinationTransportPort": (
        "dst_port", "destination_port", "dport", "dest_port", "dstport", "dpt", "port", "s_port",
    ),
    "protocolIdentifier": ("proto", "protocol"),
    "firewallEvent": ("action", "verdict", "event", "disposition"),
    "flowStartMilliseconds": ("start", "start_time", "time", "timestamp"),
    "flowEndMilliseconds": ("end", "end_time"),
    "packetDeltaCount": ("packets",),
    "octetDeltaCount": ("bytes", "octets", "size"),
    "tcpControlBits": ("tcp_flags", "flags"),
    "observationPointId": ("point", "observation_point"),
    "flowDurationMilliseconds": ("duration_ms",),
    "exporterIPv4Address": ("exporter",),
    "exporterIPv6Address": (),
    "observationDomainId": ("observation_domain",),
    "ingressInterface": ("in_interface",),
    "egressInterface": (),
    "flowDirection": (),
    "forwardingStatus": (),
    "biflowDirection": (),
    "responderPackets": (),
    "responderOctets": (),
    "initiatorPackets": (),
    "initiatorOctets": (),
    "reversePacketDeltaCount": (),
    "reverseOctetDeltaCount": (),
    "reverseTcpControlBits": (),
    "reverseFlowStartMilliseconds": (),
    "reverseFlowEndMilliseconds": (),
    "flowId": (),
    "postNATSourceIPv4Address": (),
    "postNAPTSourceTransportPort": (),
    "vlanId": ("vlan", "vlan_id"),
    "sourceMacAddress": ("src_mac", "source_mac"),
    "destinationMacAddress": ("dst_mac", "destination_mac"),
    "icmpTypeIPv4": ("icmp_type",),
    "icmpCodeIPv4": ("icmp_code",),
    "icmpTypeIPv6": ("icmpv6_type", "icmp6_type"),
    "icmpCodeIPv6": ("icmpv6_code", "icmp6_code"),
}  # fmt: skip
_BY_PLAIN = {plain: element for element, names in _PLAIN.items() for plain in names}
# Written in one word they say the same: `srcaddr`, `tcpflags`. But for `c_ip` and the like: a `sip` is nobody's server.
_BY_PLAIN |= {
    plain.replace("_", ""): element for plain, element in _BY_PLAIN.items() if not plain.startswith(("c_", "s_"))
}
ELEMENTS = frozenset((*_PLAIN, *SOURCES, *DESTINATIONS, "icmpTypeCodeIPv4", "icmpTypeCodeIPv6"))
"""The information elements that are read."""
_BY_CASE = {element.lower(): element for element in ELEMENTS}
# Elements that say the same in another unit: which, and the factor.
_OTHER_UNITS = {
    f"flow{end}{unit}": (f"flow{end}Milliseconds", factor)
    for end in ("Start", "End")
    for unit, factor in (("Seconds", 1e3), ("Microseconds", 1e-3), ("Nanoseconds", 1e-6))
} | {
    "dot1qVlanId": ("vlanId", 1.0),
    "flowDurationMicroseconds": ("flowDurationMilliseconds", 1e-3),
    "packetTotalCount": ("packetDeltaCount", 1.0),
    "octetTotalCount": ("octetDeltaCount", 1.0),
    "reversePacketTotalCount": ("reversePacketDeltaCount", 1.0),
    "reverseOctetTotalCount": ("reverseOctetDeltaCount", 1.0),
    "observationTimeSeconds": ("flowStartMilliseconds", 1e3),
    "observationTimeMilliseconds": ("flowStartMilliseconds", 1.0),
    "observationTimeMicroseconds": ("flowStartMilliseconds", 1e-3),
    "observationTimeNanoseconds": ("flowStartMilliseconds", 1e-6),
}
_OTHER_BY_CASE = {element.lower(): other for element, other in _OTHER_UNITS.items()}
# firewallEvent of the IANA registry: 1 created, 2 deleted, 3 denied, 4 alert, 5 update.
EVENT_NAMES = {
    **dict.fromkeys(("1", "2", "5", "created", "deleted", "update"), PASSED),
    **dict.fromkeys(("pass", "passed", "allow", "allowed", "accept", "accepted", "permit", "permitted"), PASSED),
    **dict.fromkeys(("3", "denied", "deny", "drop", "dropped", "reject", "rejected", "block", "blocked"), DENIED),
    **dict.fromkeys(("", "0", "4", "alert", "-", "seen"), SEEN),
}  # fmt: skip


PROTOCOL_WORDS = {
    **PROTOCOLS, "icmpv6": ICMP6, "ipv6-icmp": ICMP6, "igmp": 2, "ipip": 4, "ipencap": 4, "ipv6": 41, "ipv6-frag": 44,
    "rsvp": 46, "gre": 47, "esp": 50, "ipsec-esp": 50, "ah": 51, "ipsec-ah": 51, "eigrp": 88, "ospf": 89, "ospfigp": 89,
    "pim": 103, "ipcomp": 108, "vrrp": 112, "l2tp": 115, "udplite": 136,
}  # fmt: skip
"""Protocols by the words that logs have for them: IANA's keywords, and how programs write these."""


def _with_codes(most: Mapping[int, int]) -> frozenset[int]:
    return frozenset(kind << 8 | code for kind, last in most.items() for code in range(last + 1))


BY_PORT: Mapping[int, frozenset[int]] = {
    ICMP: _with_codes(
        {3: 15, 4: 0, 5: 3, 8: 0, 9: 0, 10: 0, 11: 1, 12: 2, **dict.fromkeys(range(13, 19), 0), 42: 0, 43: 4}
    ),
    ICMP6: _with_codes({1: 8, 2: 0, 3: 1, 4: 10, **dict.fromkeys(range(128, 154), 0), 139: 2, 140: 2, 160: 0, 161: 4}),
}
"""Types and codes of the messages that there are (IANA's registries). Many exporters put them where the destination
port stands, and 0 where the source port does (RFC 7011 did not settle it); others fill in 0 in both, or a type and what
tells echoes apart."""


_DIGITS_OF_A_DAY = 8
_MOST_NAMES, _LONGEST_NAME = 1 << 12, 64
FORWARDED = (*[SEEN] * 64, *[PASSED] * 64, *[DENIED] * 4, *[SEEN] * 124)
"""What each forwardingStatus says (RFC 7270, section 4.12, and its registry): from 64 on forwarded, from 128 on
dropped, for no reason that is told, by a filter (129, 130), or since there is no route (131). What was dropped for
another reason, such as its TTL, a full queue or a neighbour that did not answer, a filter may have let pass; and what
the device consumed, from 192 on, tells nothing of its filters."""


def element_of(name: str) -> str | None:
    """The information element that a column is, by its own name or a plain one; None for any other column."""
    plain = name.strip()
    return _known_element(plain) if len(plain) <= _LONGEST_NAME else None


@functools.lru_cache(_MOST_NAMES)  # a log line by line has the same names on each
def _known_element(plain: str) -> str | None:
    return _BY_CASE.get(plain.lower()) or _BY_PLAIN.get(plain.lower().replace("-", "_").replace(" ", "_"))


BAD = "bad "
"""Begins the kind of a fault in a value that is not what its column has by its name."""
GUESS = "flows --guess proposes a mapping file (--columns), which says what columns and values mean"
"""What can be done where a log has other columns, or other words in them."""


def is_whole_name(name: str) -> bool:
    """Whether a column bears the name of an information element, which tells its unit, and no plain one."""
    return name.strip().lower() in _BY_CASE


def in_other_units(name: str) -> tuple[str, float] | None:
    """The element that a column is in another unit, and the factor to it; None for any other column."""
    return _OTHER_BY_CASE.get(name.strip().lower())


def nearest_name(name: str) -> str:
    """` (did you mean 'tcpControlBits'?)` for a column that is none, but nearly is; nothing where none is near."""
    close = alike(name, [*ELEMENTS, *_BY_PLAIN, *_OTHER_UNITS], likeness=0.8)
    return f" (did you mean '{close[0]}'?)" if close else ""


def require_columns(elements: Sequence[str | None], header: list[str], file: str, hint: str = "") -> None:
    """Raise InputError where a record could not have two ends and a protocol; `hint` is what can be done."""
    problems: list[Problem] = []
    for names in (SOURCES, DESTINATIONS, ("protocolIdentifier",)):
        if not any(name in elements for name in names):
            given = ", ".join(header[:12])
            told = f"column '{names[0]}' is missing; the columns are {given or 'none at all'}"
            problems.append(Problem(Place(file, 1), told if problems else told + hint))
    if problems:
        raise InputError(problems)


class RecordMaker:
    """Makes records from fields. Addresses, which repeat, are parsed once."""

    def __init__(self, rejects: Rejects) -> None:
        self._rejects = rejects
        self._addresses: dict[str, Address] = {}

    def record(self, fields: Mapping[str, Any], line: int) -> FlowRecord | None:
        """A record, or None where the fields do not make one, which is counted."""
        try:
            return self._record(fields, line)
        except _BadField as error:
            self._rejects.note(error.kind, str(error), line)
            return None

    def _record(self, fields: Mapping[str, Any], line: int) -> FlowRecord:
        source = self._address(fields, SOURCES)
        destination = self._address(fields, DESTINATIONS)
        if source.family != destination.family:
            raise _BadField("mixed families", f"{source} and {destination} are of different families")
        protocol = _read(fields, "protocolIdentifier", protocol_of)
        if protocol is None:
            raise _BadField("no protocol", "protocolIdentifier is empty")
        point = str(fields.get("observationPointId") or "") or None
        start = _read(fields, "flowStartMilliseconds", parse_flow_time)
        end = _read(fields, "flowEndMilliseconds", parse_flow_time)
        lasted = _read(fields, "flowDurationMilliseconds", _count)
        if end is None and start is not None and lasted is not None:
            end = start + timedelta(milliseconds=lasted)
        source_port = _read(fields, "sourceTransportPort", _port)
        destination_port = _read(fields, "destinationTransportPort", _port)
        detail = 0
        if protocol in WITH_PORTS:
            if destination_port is None:
                raise _BadField("no port", "destinationTransportPort is empty")
            detail = destination_port
        elif protocol in (ICMP, ICMP6):
            name = "icmpTypeCodeIPv4" if protocol == ICMP else "icmpTypeCodeIPv6"
            given = _read(fields, name, _port)
            if given is None:
                family = "IPv4" if protocol == ICMP else "IPv6"
                kind, code = (_read(fields, f"icmp{what}{family}", _octet) for what in ("Type", "Code"))
                given = kind << 8 | (code or 0) if kind is not None else None
            is_told = not source_port and destination_port in BY_PORT[protocol]
            detail = given if given is not None else destination_port if is_told else UNTOLD
        return FlowRecord(
            source,
            destination,
            Service(protocol, detail),
            source_port if protocol in WITH_PORTS else None,
            _read(fields, "firewallEvent", _event) or _read(fields, "forwardingStatus", _forwarded) or SEEN,
            start,
            end,
            _read(fields, "packetDeltaCount", _count) or _read(fields, "initiatorPackets", _count) or 0,
            _read(fields, "octetDeltaCount", _count) or _read(fields, "initiatorOctets", _count) or 0,
            _read(fields, "tcpControlBits", parse_flags),
            point,
            line,
        )

    def _address(self, fields: Mapping[str, Any], names: tuple[str, str]) -> Address:
        text = next((str(fields[name]) for name in names if fields.get(name) not in (None, "")), "")
        known = self._addresses.get(text)
        if known is not None:
            return known
        try:
            parsed = parse_meant(text)
        except ValueError as error:
            raise _BadField(f"{BAD}address", f"{names[0]} {text!r} is not an address") from error
        if len(self._addresses) > 200_000:
            self._addresses.clear()  # bounded, whatever the log holds
        self._addresses[text] = parsed
        return parsed


class _BadField(ValueError):
    def __init__(self, kind: str, text: str) -> None:
        super().__init__(text)
        self.kind = kind


def _read(fields: Mapping[str, Any], name: str, parse: Callable[[str], Any]) -> Any:
    value = fields.get(name)
    if value is None or value == "":
        return None
    try:
        return parse(str(value))
    except (ValueError, KeyError, OverflowError) as error:
        more = ": a mapping file (--columns) gives the form of other times" if name in TIMES else ""
        raise _BadField(f"{BAD}{name}", f"{name} {str(value)[:40]!r} cannot be read{more}") from error


def protocol_of(text: str) -> int:
    """The number of a protocol, by a word for it or its number. Raises ValueError."""
    number = PROTOCOL_WORDS.get(text.lower())
    return _bounded(text, 255) if number is None else number


def is_protocol(text: str) -> bool:
    """Whether a word or a number is a protocol's."""
    try:
        protocol_of(text)
    except ValueError:
        return False
    return True


def _port(text: str) -> int:
    return _bounded(text, 65535)


def _octet(text: str) -> int:
    return _bounded(text, 255)


def _forwarded(text: str) -> str:
    return FORWARDED[_bounded(text, 255)]


def _count(text: str) -> int:
    return _bounded(text, (1 << 64) - 1)


FLAG_BITS = {"FIN": 1, "SYN": 2, "RST": 4, "PSH": 8, "ACK": 16, "URG": 32, "ECE": 64, "CWR": 128}
"""The flags of TCP (RFC 9293, RFC 3168) as bits of tcpControlBits."""
_FLAG_LETTERS = {**{name[0]: bit for name, bit in FLAG_BITS.items()}, "W": FLAG_BITS["CWR"]}
_PLACES = (6, 8)
"""Of so many places each has a flag or a sign for none."""


def parse_flags(text: str) -> int:
    """The flags of TCP: a number, hexadecimal or not; their names, whatever parts them; or their letters, also each in
    a place of its own with `.` or `-` in the others. (In shorter texts a point may stand for ACK, and is not read.)
    Raises ValueError."""
    told = text.strip().upper()
    if told[:1].isdigit():
        return _bounded(told, 0xFFFF)
    names = [name for name in re.split(r"[^A-Z]+", told) if name]
    if names and all(name in FLAG_BITS for name in names):
        return sum({FLAG_BITS[name] for name in names})
    letters = told.translate(_NO_FLAG) if len(told) in _PLACES else told
    if not told or len(set(letters)) < len(letters) or not set(letters) <= _FLAG_LETTERS.keys():
        raise ValueError(text)
    return sum({_FLAG_LETTERS[letter] for letter in letters})


_NO_FLAG = str.maketrans("", "", ".-")


def _bounded(text: str, most: int) -> int:
    """A whole number in digits, or in hexadecimal ones behind 0x, as columns of numbers are read."""
    number = int(text, 16 if text.strip()[:2] in ("0x", "0X") else 10)
    if "_" in text or not 0 <= number <= most:
        raise ValueError(text)
    return number


def _event(text: str) -> str:
    return EVENT_NAMES[text.strip().lower()]


_MAC = re.compile(r"[0-9a-f]{12}")


def parse_mac(text: str) -> int:
    """A MAC address as a number of 48 bits: twelve hexadecimal digits, with colons, hyphens or points or without.
    Raises ValueError."""
    digits = text.strip().lower().translate(_NO_SEPARATORS)
    if not _MAC.fullmatch(digits):
        raise ValueError(text)
    return int(digits, 16)


_NO_SEPARATORS = str.maketrans("", "", ":-.")


def parse_flow_time(text: str) -> datetime:
    """A time of a flow record: an integer is milliseconds since 1970 UTC, text is RFC 7373 or RFC 3339.

    RFC 7373 times carry no zone: they are UTC. Raises ValueError.
    """
    if text.lstrip("-").isdecimal():
        return datetime.fromtimestamp(int(text) / 1000, UTC)
    found = datetime.fromisoformat(text)
    return found.replace(tzinfo=UTC) if found.tzinfo is None else found.astimezone(UTC)


def _moment(text: str) -> int:
    """A time that a user gives in milliseconds: eight digits are a day, more a number of the unit that its size tells.
    Raises ValueError, OverflowError."""
    if not text.isdecimal():
        return milliseconds(parse_flow_time(text))
    if len(text) > _DIGITS_OF_A_DAY:
        return int(by_size(np.array([int(text)]))[0])
    if len(text) < _DIGITS_OF_A_DAY:
        raise ValueError(text)
    return milliseconds(datetime.fromisoformat(text).replace(tzinfo=UTC))


def time_filter(since: str | None, until: str | None) -> FlowFilter:
    """The filter of two times as a user gives them. Raises UsageError for what is no time."""
    limits: list[int | None] = []
    for text in (since, until):
        try:
            limits.append(_moment(text) if text else None)
        except (ValueError, OverflowError) as error:
            raise UsageError(f"'{text}' is no time; write it as 2026-11-20T10:00:00Z") from error
    low, high = limits
    if low is not None and high is not None and low >= high:
        raise UsageError(f"--since {since} is not before --until {until}: nothing lies between")
    return FlowFilter(since=low, until=high)
