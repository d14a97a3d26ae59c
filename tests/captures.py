"""Packet captures, built octet by octet: what an exporter reads in place of a network."""

import ipaddress
import struct

SYN, FIN_ACK, ACK, PSH_ACK, SYN_ACK = 2, 17, 16, 24, 18


def tcp(source, destination, flags):
    return struct.pack("!HHIIBBHHH", source, destination, 1, 1, 5 << 4, flags, 1000, 0, 0)


def udp(source, destination, body):
    return struct.pack("!HHHH", source, destination, 8 + len(body), 0) + body


def echo_request(version, body):
    return struct.pack("!BBHHH", 8 if version == 4 else 128, 0, 0, 7, 1) + body


def fragments(source, destination, protocol, payload, size=1400):
    """The packet that carries a payload, in fragments (RFC 791; RFC 8200, section 4.5)."""
    for at in range(0, len(payload), size):
        part, more = payload[at : at + size], at + size < len(payload)
        if ":" in source:
            yield packet(source, destination, 44, struct.pack("!BBHI", protocol, 0, at | more, 9) + part)
        else:
            yield packet(source, destination, protocol, part, 0x2000 * more | at // 8)


def packet(source, destination, protocol, payload, fragment=0):
    """An Ethernet frame; `fragment` are the flags and the offset of one of IPv4."""
    one, two = ipaddress.ip_address(source), ipaddress.ip_address(destination)
    if one.version == 4:
        head = struct.pack("!BBHHHBBH", 0x45, 0, 20 + len(payload), 9 * bool(fragment), fragment, 64, protocol, 0)
        kind = 0x0800
    else:
        head, kind = struct.pack("!IHBB", 6 << 28, len(payload), protocol, 64), 0x86DD
    return b"\2" * 6 + b"\4" * 6 + struct.pack("!H", kind) + head + one.packed + two.packed + payload


def capture(packets, start):
    """A capture file of packets a millisecond apart."""
    found = struct.pack("!IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1)
    for index, each in enumerate(packets):
        found += struct.pack("!IIII", start, index * 1000, len(each), len(each)) + each
    return found
