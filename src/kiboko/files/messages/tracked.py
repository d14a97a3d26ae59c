"""Lines of the kernel's connection tracking, as `conntrack -L` and `conntrack -E` print them: one connection with both
its directions, the addresses of the second as they are behind a translation."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

_STAMP = re.compile(r"^\s*\[(\d{1,11})\.(\d{1,9})\]\s*")
_WORD = re.compile(r"^\s*\[(NEW|UPDATE|DESTROY)\]\s*")
_HEAD = re.compile(r"^\s*(?:ipv[46]\s+\d+\s+)?(tcp|udp|icmp|icmpv6|sctp|dccp|udplite|gre|unknown)\s+(\d{1,3})\b")
_PAIR = re.compile(r"(\w+)=(\S+)")
_FLAG = re.compile(r"\[(\w+)\]")
_TCP = 6
_STATE = re.compile(r"\b(SYN_SENT2?|SYN_RECV|ESTABLISHED|FIN_WAIT|CLOSE_WAIT|LAST_ACK|TIME_WAIT)\b")
_SYN, _ACK, _SYN_ACK = 0x02, 0x10, 0x12
# The flags that each side has sent for sure in a state (nf_conntrack_proto_tcp.c); a closed one may have been refused,
# and one that was met when it was established, as after a restart, is of whoever sent next.
_FLAGS = {"SYN_SENT": (_SYN, None), "SYN_SENT2": (_SYN, None), "SYN_RECV": (_SYN, _SYN_ACK)} | dict.fromkeys(
    ("ESTABLISHED", "FIN_WAIT", "CLOSE_WAIT", "LAST_ACK", "TIME_WAIT"), (_ACK, _ACK))  # fmt: skip


def tracked_fields(line: str) -> list[Mapping[str, Any]]:
    """The records of a line by information element, one for each direction in which there were packets; none where the
    line is of another form.

    A connection that is marked as unanswered (`[UNREPLIED]`) is a request alone, of which nothing came back so far.
    Without counters (they are off by default) an answered one has a packet each way.
    """
    moment = None
    stamp = _STAMP.match(line)
    if stamp is not None:
        moment = int(stamp[1]) * 1000 + int(stamp[2][:3].ljust(3, "0"))
        line = line[stamp.end() :]
    event = _WORD.match(line)
    if event is not None:
        line = line[event.end() :]
    head = _HEAD.match(line)
    if head is None or "src=" not in line or "dst=" not in line:
        return []
    protocol = int(head[2])
    pairs = _PAIR.findall(line)
    flags = set(_FLAG.findall(line))
    first, second = _tuples(pairs)
    state = _STATE.search(line) if protocol == _TCP else None
    asked, answered = _FLAGS.get(state[1], (None, None)) if state is not None else (None, None)
    found = [_record(first, protocol, moment, 1, asked)]
    if second and "UNREPLIED" not in flags:
        found.append(_record(second, protocol, moment, 2, answered))
    return found


def _tuples(pairs: list[tuple[str, str]]) -> tuple[dict[str, str], dict[str, str]]:
    """The two directions: each begins with its own `src`."""
    sides: list[dict[str, str]] = []
    for name, value in pairs:
        if name == "src":
            sides.append({})
        if sides:
            sides[-1].setdefault(name, value)
    return (sides[0], sides[1] if len(sides) > 1 else {})


def _record(
    side: Mapping[str, str], protocol: int, moment: int | None, direction: int, flags: int | None
) -> Mapping[str, Any]:
    family = "IPv6" if ":" in side["src"] else "IPv4"
    found: dict[str, Any] = {
        f"source{family}Address": side["src"], f"destination{family}Address": side.get("dst", ""),
        "protocolIdentifier": protocol, "packetDeltaCount": side.get("packets", 1),
        "octetDeltaCount": side.get("bytes", 0), "biflowDirection": direction,
    }  # fmt: skip
    if flags is not None:
        found["tcpControlBits"] = flags
    if moment is not None:
        found["flowStartMilliseconds"] = moment
    for name, element in (("sport", "sourceTransportPort"), ("dport", "destinationTransportPort")):
        if name in side:
            found[element] = side[name]
    if "type" in side:
        kind = int(side["type"]) << 8 | int(side.get("code", 0))
        found["icmpTypeCodeIPv6" if protocol == 58 else "icmpTypeCodeIPv4"] = kind
    return found
