"""Expressions of kernel rules, from the JSON that nft prints (libnftables-json(5)): which fields of a packet they look
at, and the values that they hold them against."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from kiboko.core.header.addresses import parse_address, parse_prefix
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP6_TYPES, ICMP_TYPES, PROTOCOLS
from kiboko.core.network.host_rules import DEVICE_FIELDS, PRESENCE, WAY_BACK, Match, Values

_TCP_FLAGS = {"fin": 1, "syn": 2, "rst": 4, "psh": 8, "ack": 16, "urg": 32, "ecn": 64, "cwr": 128}
# Bits of the kernel's enum ip_conntrack_status (linux/netfilter/nf_conntrack_common.h).
_CT_STATUS = {"expected": 1, "seen-reply": 2, "assured": 4, "confirmed": 8, "snat": 16, "dnat": 32, "dying": 512}
_BITS: dict[tuple[str, str], dict[str, int]] = {
    ("tcp", "flags"): _TCP_FLAGS, ("ct", "status"): _CT_STATUS, ("ip", "frag-off"): {},
}  # fmt: skip
_ICMP_CODES = {
    "icmp": {"net-unreachable": 0, "host-unreachable": 1, "prot-unreachable": 2, "port-unreachable": 3,
             "frag-needed": 4, "net-prohibited": 9, "host-prohibited": 10, "admin-prohibited": 13},
    "icmpv6": {"no-route": 0, "admin-prohibited": 1, "addr-unreachable": 3, "port-unreachable": 4, "policy-fail": 5,
               "reject-route": 6},
}  # fmt: skip
MOST_OF = {"sport": 65535, "dport": 65535, "protocol": 255, "nexthdr": 255, "l4proto": 255, "type": 255, "code": 255,
         "version": 15}  # fmt: skip
OPTIONS = ("tcp", "option"), ("exthdr", "header")
"""What a packet of the right protocol may still be without."""
_STATES = frozenset(("new", "established", "related", "invalid", "untracked"))
_PROTOCOL_NAMES = {
    **PROTOCOLS,
    "ipv6-icmp": 58,
    "icmpv6": 58,
    "gre": 47,
    "esp": 50,
    "ah": 51,
    "igmp": 2,
    "ipencap": 4,
}
_ICMP_ALIASES = {
    "echo-request": 8, "echo-reply": 0, "source-quench": 4, "router-advertisement": 9,
    "router-solicitation": 10, "info-request": 15, "info-reply": 16, "address-mask-request": 17,
    "address-mask-reply": 18,
}  # fmt: skip
_ICMP6_ALIASES = {
    "nd-router-solicit": 133, "nd-router-advert": 134, "nd-neighbor-solicit": 135, "nd-neighbor-advert": 136,
    "nd-redirect": 137, "mld-listener-query": 130, "mld-listener-report": 131, "mld-listener-done": 132,
    "mld2-listener-report": 143,
}  # fmt: skip


class CannotJudge(Exception):
    """An expression beyond what Kiboko judges; its text says which."""


def anything(field: tuple[str, str]) -> Values:
    """Every value that a field may have."""
    usual = (1 << (32 if field[0] == "ip" else 128)) - 1
    return Values(RangeSet.span(0, MOST_OF.get(field[1], usual)))


def bit_test(left: Any, operator: str, right: Any) -> Match | None:
    """A comparison of flags (`tcp flags`, `ct status`, `ip frag-off`); None where it is none. Raises CannotJudge.

    The listing has `in` for any of some bits, `!` for none of them, and `&` on the left for a mask (nft(8), BITMASK).
    """
    masked = isinstance(left, dict) and "&" in left
    inner = left["&"][0] if masked else left
    try:
        fields = fields_of(inner)
    except CannotJudge:
        return None
    if len(fields) != 1 or fields[0] not in _BITS:
        return None
    names = _BITS[fields[0]]
    mask = _bits_of(names, left["&"][1]) if masked else None
    if operator in ("in", "!"):
        if masked:
            raise CannotJudge
        wanted = _bits_of(names, right)
        numbers = RangeSet.span(1, wanted) if operator == "in" else RangeSet.one(0)
        return Match(fields, ((Values(numbers, mask=wanted),),))
    if operator not in ("==", "!="):
        raise CannotJudge
    listed = right["set"] if isinstance(right, dict) and "set" in right else [right]
    alternatives = tuple((Values(RangeSet.one(_bits_of(names, each)), mask=mask),) for each in listed)
    return Match(fields, alternatives, operator == "!=")


def _bits_of(names: dict[str, int], value: Any) -> int:
    """The bits that a name, a number, or a list of names joined by `|` stands for."""
    if isinstance(value, bool):
        raise CannotJudge
    if isinstance(value, int):
        return value
    if isinstance(value, str):
        return names[value]
    if isinstance(value, dict) and set(value) == {"|"}:
        value = value["|"]
    if not isinstance(value, list):
        raise CannotJudge
    found = 0
    for each in value:
        found |= _bits_of(names, each)
    return found


def fields_inside(body: Any) -> Iterator[tuple[str, str]]:
    """The header fields that a condition or a change looks at, however it combines them."""
    pending = [body.get(each) for each in ("left", "key", "value")] if isinstance(body, dict) else []
    while pending:
        each = pending.pop()
        if isinstance(each, list):
            pending.extend(each)
        elif isinstance(each, dict):
            payload = each.get("payload")
            if isinstance(payload, dict) and "protocol" in payload:
                yield str(payload["protocol"]), str(payload.get("field"))
            elif "tcp option" in each:
                yield OPTIONS[0]
            elif "exthdr" in each:
                yield OPTIONS[1]
            else:
                pending.extend(each.values())


def fields_of(left: Any) -> tuple[tuple[str, str], ...]:
    """The fields that the left side of a comparison stands for. Raises CannotJudge."""
    if not isinstance(left, dict) or len(left) != 1:
        raise CannotJudge
    ((kind, body),) = left.items()
    if kind == "concat":
        return tuple(field for part in body for field in fields_of(part))
    if kind == "payload" and "protocol" in body:
        return ((body["protocol"], body["field"]),)
    if kind == "meta":
        return (("meta", body["key"]),)
    if kind == "ct" and "dir" not in body:
        return (("ct", body["key"]),)
    if kind == "fib" and body.get("result") == "type" and body.get("flags") in ("saddr", "daddr", ["saddr"], ["daddr"]):
        side = body["flags"] if isinstance(body["flags"], str) else body["flags"][0]
        return (("fib", f"{side} type"),)
    if kind == "exthdr":
        return (("exthdr", f"{body['name']} {body['field']}" if "field" in body else PRESENCE),)
    looked_up = set(body["flags"]) if kind == "fib" and body.get("result") == "oif" else set()
    if {"saddr", "iif"} <= looked_up <= {"saddr", "iif", "mark"}:
        return (WAY_BACK,)
    raise CannotJudge


def alternative_of(fields: tuple[tuple[str, str], ...], element: Any) -> tuple[Values, ...]:
    """The values of an element of a set, one for each field. Raises CannotJudge."""
    if isinstance(element, dict) and "elem" in element:
        element = element["elem"]["val"]
    parts = element["concat"] if isinstance(element, dict) and "concat" in element else [element]
    return tuple(_values(field, part) for field, part in zip(fields, parts, strict=True))


def _values(field: tuple[str, str], value: Any) -> Values:
    """One component of an element: a number, a range, a prefix, or a name."""
    name = field[1]
    if name in DEVICE_FIELDS:
        return Values(names=frozenset((text_of(value),)))
    if field == ("ct", "state"):
        if value not in _STATES:
            raise CannotJudge
        return Values(names=frozenset((value,)))
    if field in (WAY_BACK, ("exthdr", PRESENCE)) and isinstance(value, bool):
        return Values(RangeSet.one(int(value)))
    if field[0] == "fib" or field in (("ct", "direction"), ("meta", "pkttype")):
        return Values(names=frozenset((text_of(value),)))
    if isinstance(value, dict) and "range" in value:
        low, high = (_number(field, bound) for bound in value["range"])
        return Values(RangeSet.span(low, high))
    if isinstance(value, dict) and "prefix" in value:
        if name not in ("saddr", "daddr"):
            raise CannotJudge
        prefix = parse_prefix(f"{value['prefix']['addr']}/{value['prefix']['len']}")
        return Values(RangeSet.span(prefix.value, prefix.last))
    return Values(RangeSet.one(_number(field, value)))


def _number(field: tuple[str, str], value: Any) -> int:
    protocol, name = field
    if isinstance(value, int) and not isinstance(value, bool):
        return value
    readers: dict[str, Callable[[str], int]] = {
        "saddr": lambda text: parse_address(text).value,
        "daddr": lambda text: parse_address(text).value,
        "protocol": lambda text: {"ip": 0x0800, "ip6": 0x86DD}[text] if protocol == "meta" else _PROTOCOL_NAMES[text],
        "nexthdr": _PROTOCOL_NAMES.__getitem__,
        "l4proto": _PROTOCOL_NAMES.__getitem__,
        "nfproto": {"ipv4": 2, "ipv6": 10}.__getitem__,
        "type": lambda text: _icmp_type(protocol, text),
        "code": lambda text: _ICMP_CODES[protocol][text],
    }
    if name not in readers:
        raise CannotJudge
    return readers[name](text_of(value))


def _icmp_type(protocol: str, text: str) -> int:
    known = {**ICMP_TYPES, **_ICMP_ALIASES} if protocol == "icmp" else {**ICMP6_TYPES, **_ICMP6_ALIASES}
    return known[text]


def text_of(value: Any) -> str:
    """A value that is a text. Raises CannotJudge."""
    if not isinstance(value, str):
        raise CannotJudge
    return value
