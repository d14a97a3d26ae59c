"""Listening sockets from the text that `ss -H -tuln` prints (iproute2)."""

from __future__ import annotations

import re
from pathlib import Path

from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.header.addresses import parse_address
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import SCTP, TCP, UDP
from kiboko.core.network.model import Listener
from kiboko.files.documents.lined_yaml import read_text

_LINE = re.compile(r"(tcp|udp|sctp)\s+(LISTEN|UNCONN)\s+\d+\s+\d+\s+(\S+):(\d+)\s+\S+")
_EVERY: dict[str, int | None] = {"*": None, "0.0.0.0": 4, "::": 6}
_PROTOCOLS = {"tcp": TCP, "udp": UDP, "sctp": SCTP}


def read_sockets(path: Path, shown: str, problems: list[Problem]) -> tuple[Listener, ...]:
    """The listeners in a file of `ss -H -tuln` output; each line that is none is a problem.

    `*` stands for all addresses of both families, `0.0.0.0` for those of IPv4 and `[::]` for those of IPv6: a
    socket that serves both is printed as `*`.
    """
    try:
        text = read_text(path, shown)
    except InputError as error:
        problems.extend(error.problems)
        return ()
    found = []
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        place = Place(shown, number)
        match = _LINE.match(line.strip())
        if not match or int(match[4]) > 65535:
            problems.append(
                Problem(place, "not a line of `ss -H -tuln`, such as 'tcp LISTEN 0 128 0.0.0.0:22 0.0.0.0:*'")
            )
            continue
        bound = match[3].partition("%")[0].strip("[]")  # `[fe80::1]%eth0`: the interface stands behind the bracket
        try:
            address = None if bound in _EVERY else parse_address(bound.removeprefix("::ffff:"))
        except ValueError:
            problems.append(Problem(place, "the local address of this line cannot be read"))
            continue
        port = int(match[4])
        name = f"{match[1]}/{port}" + (f" on {address}" if address else "")
        number_of_service = _PROTOCOLS[match[1]] << 16 | port
        found.append(Listener(RangeSet.one(number_of_service), name, place, address, _EVERY.get(bound)))
    return tuple(found)
