"""A kernel rule set from the JSON that `nft -j list ruleset` prints (libnftables-json(5))."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

from kiboko.core.addresses import parse_address, parse_prefix
from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.nftables import (
    Chain,
    HostRule,
    HostRuleSet,
    Match,
    Statement,
    Unjudged,
    Values,
    Verdict,
    VerdictMap,
)
from kiboko.core.ranges import RangeSet
from kiboko.core.services import ICMP6_TYPES, ICMP_TYPES, PROTOCOLS
from kiboko.files.lined_yaml import read_text

_HARMLESS = frozenset(("counter", "log", "comment"))
_MOST = {"sport": 65535, "dport": 65535, "protocol": 255, "nexthdr": 255, "l4proto": 255, "type": 255, "code": 255}
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


# The codes of `reject with`, as (ICMP, ICMPv6) (nft(8), REJECT STATEMENT).
_REJECT_CODES: dict[str, dict[str, tuple[int, int]]] = {
    "icmp": {
        "net-unreachable": (0, 0), "host-unreachable": (1, 0), "prot-unreachable": (2, 0),
        "port-unreachable": (3, 0), "net-prohibited": (9, 0), "host-prohibited": (10, 0), "admin-prohibited": (13, 0),
    },
    "icmpv6": {
        "no-route": (0, 0), "admin-prohibited": (0, 1), "addr-unreachable": (0, 3), "port-unreachable": (0, 4),
        "policy-fail": (0, 5), "reject-route": (0, 6),
    },
    "icmpx": {
        "no-route": (0, 0), "port-unreachable": (3, 4), "host-unreachable": (1, 3), "admin-prohibited": (13, 1),
    },
}  # fmt: skip


class _CannotJudge(Exception):
    """An expression beyond what Kiboko judges; its text says which."""


def read_rule_set(path: Path, shown: str, problems: list[Problem]) -> HostRuleSet | None:
    """The rule set in a file. What makes the file unusable is a problem; what cannot be judged stays inside."""
    try:
        text = read_text(path, shown)
        listing = json.loads(text)
    except InputError as error:
        problems.extend(error.problems)
        return None
    except json.JSONDecodeError as error:
        problems.append(Problem(Place(shown, error.lineno), f"not JSON: {error.msg}"))
        return None
    except RecursionError:
        problems.append(Problem(Place(shown, 1), "nested too deeply to be a rule set"))
        return None
    fault = _fault_of(listing)
    if fault:
        problems.append(Problem(Place(shown, 1), fault))
        return None
    try:
        return _Listing(listing["nftables"]).rule_set(shown)
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        problems.append(Problem(Place(shown, 1), f"not a listing of `nft -j list ruleset`: {error!r}"))
        return None


def _fault_of(listing: Any) -> str | None:
    objects = listing.get("nftables") if isinstance(listing, dict) else None
    if not isinstance(objects, list) or not all(isinstance(each, dict) for each in objects):
        return "not a listing of `nft -j list ruleset`: the key 'nftables' with a list is missing"
    version = next((o["metainfo"].get("json_schema_version") for o in objects if "metainfo" in o), 1)
    if version != 1:
        return f"the listing has JSON schema version {version}; version 1 is read"
    families = {str(o["table"].get("family")) for o in objects if isinstance(o.get("table"), dict)}
    if families and not families & {"inet", "ip", "ip6"}:
        return f"only tables of family {', '.join(sorted(families))}; inet, ip and ip6 are judged"
    return None


class _Listing:
    def __init__(self, objects: list[dict[str, Any]]) -> None:
        self.objects = objects
        self.sets: dict[tuple[str, str, str], dict[str, Any]] = {}
        for each in objects:
            for kind in ("set", "map"):
                if kind in each:
                    found = each[kind]
                    self.sets[(found["family"], found["table"], found["name"])] = found

    def rule_set(self, shown: str) -> HostRuleSet:
        rules: dict[tuple[str, str, str], list[HostRule]] = {}
        for each in self.objects:
            if "rule" in each:
                rule = each["rule"]
                key = (rule["family"], rule["table"], rule["chain"])
                name = str(rule.get("comment") or f"handle {rule.get('handle', '?')}")
                statements = tuple(
                    made for expression in rule.get("expr", []) if (made := self.statement(key, expression)) is not None
                )
                rules.setdefault(key, []).append(HostRule(name, statements, _counted(rule.get("expr", []))))
        chains = []
        for each in self.objects:
            if "chain" in each:
                chain = each["chain"]
                key = (chain["family"], chain["table"], chain["name"])
                chains.append(
                    Chain(
                        *key,
                        tuple(rules.get(key, ())),
                        chain.get("hook"),
                        chain.get("type"),
                        int(chain.get("prio", 0)),
                        chain.get("policy", "accept"),
                    )  # fmt: skip
                )
        return HostRuleSet(shown, tuple(chains), {(c.family, c.table, c.name): c for c in chains})

    def statement(self, key: tuple[str, str, str], expression: Any) -> Statement | None:
        if not isinstance(expression, dict) or len(expression) != 1:
            return Unjudged(_short(expression))
        ((kind, body),) = expression.items()
        try:
            if kind in _HARMLESS:
                return None
            if kind == "match":
                return self.match(key, body)
            if kind == "vmap":
                return self.verdict_map(key, body)
            return _verdict(kind, body)
        except (_CannotJudge, ValueError, KeyError, TypeError):
            return Unjudged(_short(expression))

    def match(self, key: tuple[str, str, str], body: dict[str, Any]) -> Match:
        fields = _fields(body["left"])
        operator = body["op"]
        if operator in ("<", ">", "<=", ">="):
            if len(fields) != 1 or fields[0][1] not in _MOST or not isinstance(body["right"], int):
                raise _CannotJudge
            bound, most = body["right"], _MOST[fields[0][1]]
            low, high = {
                "<": (0, bound - 1), "<=": (0, bound), ">": (bound + 1, most), ">=": (bound, most),
            }[operator]  # fmt: skip
            span = RangeSet.span(low, high) if low <= high else RangeSet()
            return Match(fields, ((Values(span),),))
        if operator not in ("==", "!=", "in"):
            raise _CannotJudge
        right = body["right"]
        if isinstance(right, list):  # a bit mask: `ct state established,related`
            if fields != (("ct", "state"),) or operator == "==":
                raise _CannotJudge
            right = {"set": right}
        elements = self.elements(key, right)
        alternatives = tuple(_alternative(fields, element) for element in elements)
        return Match(fields, alternatives, operator == "!=")

    def verdict_map(self, key: tuple[str, str, str], body: dict[str, Any]) -> VerdictMap:
        fields = _fields(body["key"])
        entries = []
        for element in self.elements(key, body["data"]):
            left, verdict = element
            ((kind, target),) = verdict.items()
            entries.append((_alternative(fields, left), _verdict(kind, target)))
        return VerdictMap(fields, tuple(entries))

    def elements(self, key: tuple[str, str, str], right: Any) -> list[Any]:
        """The elements of an anonymous set, of a named one, or the one value itself."""
        if isinstance(right, str) and right.startswith("@"):
            named = self.sets[(key[0], key[1], right[1:])]
            if {"dynamic", "timeout"} & set(named.get("flags", ())) or "timeout" in named:
                raise _CannotJudge  # what it holds changes by itself
            return list(named.get("elem", []))
        if isinstance(right, dict) and "set" in right:
            inner = right["set"]
            return inner if isinstance(inner, list) else [inner]
        return [right]


def _counted(expressions: Any) -> tuple[int, int] | None:
    """Packets and octets of a rule's own counter; a named counter stands elsewhere, and is not looked up."""
    for each in expressions if isinstance(expressions, list) else ():
        body = each.get("counter") if isinstance(each, dict) else None
        if isinstance(body, dict) and isinstance(body.get("packets"), int) and isinstance(body.get("bytes"), int):
            return max(0, body["packets"]), max(0, body["bytes"])
    return None


def _verdict(kind: str, body: Any) -> Verdict:
    if kind in ("accept", "drop", "return", "continue"):
        return Verdict(kind)
    if kind in ("jump", "goto"):
        return Verdict(kind, body["target"])
    if kind == "reject":
        how = body or {}
        if how.get("type") == "tcp reset":
            return Verdict("reject")
        codes = _REJECT_CODES[how.get("type", "icmpx")]
        return Verdict("reject", icmp=codes[how.get("expr", "port-unreachable")])
    raise _CannotJudge


def _fields(left: Any) -> tuple[tuple[str, str], ...]:
    if not isinstance(left, dict) or len(left) != 1:
        raise _CannotJudge
    ((kind, body),) = left.items()
    if kind == "concat":
        return tuple(field for part in body for field in _fields(part))
    if kind == "payload" and "protocol" in body:
        return ((body["protocol"], body["field"]),)
    if kind == "meta":
        return (("meta", body["key"]),)
    if kind == "ct" and "dir" not in body:
        return (("ct", body["key"]),)
    raise _CannotJudge


def _alternative(fields: tuple[tuple[str, str], ...], element: Any) -> tuple[Values, ...]:
    if isinstance(element, dict) and "elem" in element:
        if "timeout" in element["elem"]:
            raise _CannotJudge
        element = element["elem"]["val"]
    parts = element["concat"] if isinstance(element, dict) and "concat" in element else [element]
    return tuple(_values(field, part) for field, part in zip(fields, parts, strict=True))


def _values(field: tuple[str, str], value: Any) -> Values:
    """One component of an element: a number, a range, a prefix, or a name."""
    name = field[1]
    if name in ("iif", "iifname", "oif", "oifname"):
        return Values(names=frozenset((_text(value),)))
    if field == ("ct", "state"):
        if value not in _STATES:
            raise _CannotJudge
        return Values(names=frozenset((value,)))
    if isinstance(value, dict) and "range" in value:
        low, high = (_number(field, bound) for bound in value["range"])
        return Values(RangeSet.span(low, high))
    if isinstance(value, dict) and "prefix" in value:
        if name not in ("saddr", "daddr"):
            raise _CannotJudge
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
    }
    if name not in readers:
        raise _CannotJudge
    return readers[name](_text(value))


def _icmp_type(protocol: str, text: str) -> int:
    known = {**ICMP_TYPES, **_ICMP_ALIASES} if protocol == "icmp" else {**ICMP6_TYPES, **_ICMP6_ALIASES}
    return known[text]


def _text(value: Any) -> str:
    if not isinstance(value, str):
        raise _CannotJudge
    return value


def _short(expression: Any) -> str:
    return json.dumps(expression, separators=(",", ":"))[:120]
