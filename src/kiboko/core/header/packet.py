"""The packet that a gate is asked about: addresses as they stand at that gate, service, and which way it goes."""

from __future__ import annotations

from typing import NamedTuple

from kiboko.core.header.addresses import Address
from kiboko.core.header.services import ICMP, ICMP6, TCP, Service, reply_of

SYN, RST, ACK = 0x02, 0x04, 0x10
"""Flags of a TCP segment (RFC 9293, section 3.1)."""


class Packet(NamedTuple):
    """One packet, for all client ports at once.

    `service` is the request's service. Where `turned` is true the packet travels from server to client, so the
    server's port is its source port and the client's ports are its destination ports. An address that is
    None is a router's own: it matches only rules that name no address, or all of them (clause S34).
    """

    family: int
    source: Address | None
    destination: Address | None
    service: Service
    turned: bool = False
    state: str = "new"
    """Its connection-tracking state on a host: `new`, `established`, `related` or `invalid`, and `untracked`
    for what the kernel never tracks (clause S35)."""
    tcp_flags: int | None = None
    """Of a TCP segment its flags (RFC 9293, section 3.1): those of an opening, of its answer, or of a reset."""


def request(source: Address, destination: Address, service: Service) -> Packet:
    """The first packet of a flow."""
    flags = SYN if service.protocol == TCP else None
    return Packet(destination.family, source, destination, service, tcp_flags=flags)


def answering(source: Address, destination: Address, service: Service, is_known: bool) -> Packet | None:
    """The answer to the first packet of a service; None where nothing answers it.

    `is_known` tells whether the host that is asked saw the request, so that the answer is part of a connection to it.
    To any other it is invalid, and without TCP and ICMP as new as any packet (clause S19).
    """
    turned = turned_service(service)
    if turned is None:
        return None
    state = "established" if is_known else "invalid" if service.protocol in (TCP, ICMP, ICMP6) else "new"
    flags = SYN | ACK if service.protocol == TCP else None
    return Packet(destination.family, source, destination, turned, True, state, flags)


def following(source: Address, destination: Address, service: Service, is_known: bool) -> Packet:
    """What a sender sends behind an answered first packet (clause S35).

    `is_known` tells whether the host that is asked saw the answer: to any other it is no part of a connection. What
    nothing answers stays new.
    """
    is_part = is_known and turned_service(service) is not None
    state = "established" if is_part else "invalid" if service.protocol == TCP else "new"
    flags = ACK if service.protocol == TCP else None
    return Packet(destination.family, source, destination, service, False, state, flags)


def turned_service(service: Service) -> Service | None:
    """The service to judge a reply by: the request's own where ports are swapped, else that of the reply."""
    return service if service.has_ports else reply_of(service)


NO_ROUTE = 0
"""The code of a destination unreachable of a router that knows no way: ICMP 3/0 (RFC 792), ICMPv6 1/0 (RFC 4443)."""
PORT_UNREACHABLE = {4: 3, 6: 4}
"""The code of a destination unreachable that refuses a port: ICMP 3/3 (RFC 792), ICMPv6 1/4 (RFC 4443)."""


def refusal_service(service: Service, family: int, code: int | None = None) -> tuple[Service, bool]:
    """What a refusal is on the wire: a TCP segment with ports swapped, else ICMP 3/3 or ICMPv6 1/4 (S34).

    `code` is that of a destination unreachable sent whatever the protocol: by a kernel rule that refuses by ICMP, or by
    a router that knows no way on. Returns the service and whether it travels `turned`.
    """
    if service.protocol == TCP and code is None:
        return service, True
    code = PORT_UNREACHABLE[family] if code is None else code
    return (Service(ICMP, 3 << 8 | code) if family == 4 else Service(ICMP6, 1 << 8 | code)), False
