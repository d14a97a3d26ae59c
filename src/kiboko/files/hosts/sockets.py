"""Listening sockets from the text that `ss -H -tuln` prints (iproute2)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.header.addresses import Address, parse_address
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import SCTP, TCP, UDP
from kiboko.core.network.model import ALL_ADDRESSES, Listener
from kiboko.files.documents.lined_yaml import read_text

_LINE = re.compile(r"(tcp|udp|sctp)\s+(LISTEN|UNCONN)\s+\d+\s+\d+\s+(\S+):(\d+)\s+\S+")
_HEADER = re.compile(r"Netid\s+State\s")
# What `ss` lists besides: connections, and sockets that are none of the network's.
_CONNECTED = "ESTAB|SYN-SENT|SYN-RECV|FIN-WAIT-[12]|TIME-WAIT|CLOSE|CLOSE-WAIT|LAST-ACK|CLOSING"
_ELSEWHERE = r"nl|p_raw|p_dgr|u_str|u_seq|u_dgr|raw|icmp|icmp6|v_str|v_dgr|ti_\w+|xdp"
_OTHERS = re.compile(rf"((tcp|udp|sctp)\s+({_CONNECTED})|({_ELSEWHERE})\s+[A-Z0-9-]+)\s")
_LOOPBACK = (parse_address("127.0.0.1"), parse_address("::1"))
_PROTOCOLS = {"tcp": TCP, "udp": UDP, "sctp": SCTP}


def read_sockets(
    path: Path, shown: str, problems: list[Problem], devices: Mapping[str, tuple[Address, ...]] | None = None
) -> tuple[Listener, ...]:
    """The listeners in a file of `ss -H -tuln` output, with its header or without and with other sockets among them or
    not; each line that is none of these is a problem.

    `*` stands for all addresses of both families, `0.0.0.0` for those of IPv4 and `[::]` for those of IPv6: a
    socket that serves both is printed as `*`. One that is bound to a device (`0.0.0.0%eth1`) serves the addresses that
    `devices` has for that, of the loopback device none of the network's, and of any other all.
    """
    try:
        text = read_text(path, shown)
    except InputError as error:
        problems.extend(error.problems)
        return ()
    if not text.strip():
        told = "the file is empty; of a machine on which nothing listens write 'listens: []'"
        problems.append(Problem(Place(shown, 1), told))
    found = []
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or _HEADER.match(line) or _OTHERS.match(line.strip()):
            continue
        place = Place(shown, number)
        match = _LINE.match(line.strip())
        if not match or int(match[4]) > 65535:
            problems.append(
                Problem(place, "not a line of `ss -H -tuln`, such as 'tcp LISTEN 0 128 0.0.0.0:22 0.0.0.0:*'")
            )
            continue
        bound, _, device = match[3].partition("%")
        bound = bound.strip("[]").removeprefix("::ffff:")
        try:
            address = None if bound in ALL_ADDRESSES else parse_address(bound)
        except ValueError:
            problems.append(Problem(place, "the local address of this line cannot be read"))
            continue
        port = int(match[4])
        services = RangeSet.one(_PROTOCOLS[match[1]] << 16 | port)
        serving: list[Address | None] = [address]
        if address is None:
            serving = _addresses_at(device.strip("]"), ALL_ADDRESSES[bound], devices or {})
        for own in serving:
            name = f"{match[1]}/{port}" + (f" on {own}" if own else "")
            found.append(Listener(services, name, place, own, ALL_ADDRESSES.get(bound)))
    return tuple(found)


def _addresses_at(device: str, family: int | None, devices: Mapping[str, tuple[Address, ...]]) -> list[Address | None]:
    """The addresses that a socket serves which is bound to none, and perhaps to a device; None stands for all."""
    if not device or (device not in devices and device != "lo"):
        return [None]
    return [each for each in devices.get(device, _LOOPBACK) if family in (None, each.family)]
