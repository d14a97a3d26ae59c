"""IPFIX and NetFlow version 9 messages, built octet by octet from RFC 7011 and RFC 3954."""

import ipaddress
import struct

# Element numbers and lengths of the IANA registry.
ELEMENTS = {
    "flowStartMilliseconds": (152, 8), "flowEndMilliseconds": (153, 8), "sourceIPv4Address": (8, 4),
    "destinationIPv4Address": (12, 4), "sourceIPv6Address": (27, 16), "destinationIPv6Address": (28, 16),
    "sourceTransportPort": (7, 2), "destinationTransportPort": (11, 2), "protocolIdentifier": (4, 1),
    "tcpControlBits": (6, 2), "packetDeltaCount": (2, 8), "octetDeltaCount": (1, 8), "firewallEvent": (233, 1),
    "observationPointId": (138, 8), "ingressInterface": (10, 4), "flowStartSysUpTime": (22, 4),
    "flowEndSysUpTime": (21, 4), "flowStartSeconds": (150, 4), "flowEndMicroseconds": (155, 8), "samplingInterval": (34, 4), "observationDomainId": (149, 4),
    "interfaceName": (82, 0xFFFF), "icmpTypeCodeIPv4": (32, 2), "icmpTypeIPv4": (176, 1), "icmpCodeIPv4": (177, 1),
    "postNATSourceIPv4Address": (225, 4), "postNAPTSourceTransportPort": (227, 2),
    "vlanId": (58, 2), "sourceMacAddress": (56, 6), "destinationMacAddress": (80, 6),
    "forwardingStatus": (89, 1), "biflowDirection": (239, 1), "responderPackets": (299, 8), "responderOctets": (232, 8),
    "selectionSequenceId": (301, 8), "ipHeaderPacketSection": (313, 20),
    "initiatorPackets": (298, 8), "initiatorOctets": (231, 8),
}  # fmt: skip
FLOW = (
    "flowStartMilliseconds", "flowEndMilliseconds", "sourceIPv4Address", "destinationIPv4Address",
    "sourceTransportPort", "destinationTransportPort", "protocolIdentifier", "tcpControlBits", "packetDeltaCount",
    "octetDeltaCount", "firewallEvent", "observationPointId",
)  # fmt: skip
START = 1_763_632_800_000  # 2025-11-20 10:00:00 UTC


def a_flow(number=0, **changes):
    """The values of one flow."""
    return {
        "flowStartMilliseconds": START + number, "flowEndMilliseconds": START + number + 500,
        "sourceIPv4Address": "10.1.1.10", "destinationIPv4Address": "10.2.1.10", "sourceIPv6Address": "2001:db8:1:1::10",
        "destinationIPv6Address": "2001:db8::9", "sourceTransportPort": 40000 + number % 20000,
        "destinationTransportPort": 22, "protocolIdentifier": 6, "tcpControlBits": 27, "packetDeltaCount": 10,
        "octetDeltaCount": 900, "firewallEvent": 1, "observationPointId": 7, "ingressInterface": 3,
        "interfaceName": "eth0", **changes,
    }  # fmt: skip


def a_set(number, body):
    return struct.pack("!HH", number, 4 + len(body)) + body


# Elements of the other direction have the number of the one that they reverse, under a number of its own (RFC 5103).
REVERSE = {"reversePacketDeltaCount": (2, 8), "reverseOctetDeltaCount": (1, 8), "reverseTcpControlBits": (6, 2)}


def fields(names):
    return b"".join(
        struct.pack("!HHI", 0x8000 | REVERSE[name][0], REVERSE[name][1], 29305)
        if name in REVERSE
        else struct.pack("!HH", *ELEMENTS[name])
        for name in names
    )


def template(number, names, version=10):
    return a_set(2 if version == 10 else 0, struct.pack("!HH", number, len(names)) + fields(names))


def options(number, scope, names):
    """An options template of IPFIX (RFC 7011, section 3.4.2.2)."""
    return a_set(3, struct.pack("!HHH", number, len(scope) + len(names), len(scope)) + fields([*scope, *names]))


def data(number, names, rows):
    return a_set(number, b"".join(_value(name, row[name]) for row in rows for name in names))


def message(sequence, *sets, domain=7, exported=START // 1000 + 60):
    body = b"".join(sets)
    return struct.pack("!HHIII", 10, 16 + len(body), exported, sequence, domain) + body


def v9(sequence, count, *sets, domain=7, uptime=3_600_000, exported=START // 1000 + 60):
    return struct.pack("!HHIIII", 9, count, uptime, exported, sequence, domain) + b"".join(sets)


def _value(name, value):
    length = (REVERSE.get(name) or ELEMENTS[name])[1]
    if name.endswith(("IPv4Address", "IPv6Address")):
        return ipaddress.ip_address(value).packed
    if length == 0xFFFF:
        return struct.pack("!B", len(value)) + value.encode()
    return value.to_bytes(length, "big")
