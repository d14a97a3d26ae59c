"""A kernel rule set from the JSON that `nft -j list ruleset` prints (libnftables-json(5))."""

from __future__ import annotations

import dataclasses
import json
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.header.addresses import parse_address, parse_prefix
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP6_TYPES, ICMP_TYPES, PROTOCOLS, TCP
from kiboko.core.network.host_rules import (
    OF_IPTABLES,
    PRESENCE,
    WAY_BACK,
    Chain,
    HostRule,
    HostRuleSet,
    Match,
    Statement,
    Unclear,
    Unjudged,
    Values,
    Verdict,
    VerdictMap,
)
from kiboko.files.documents.lined_yaml import read_text

# Statements that neither decide nor change what later rules look at.
_HARMLESS = frozenset(("counter", "log", "comment", "last", "dup", "secmark", "ct helper", "ct timeout"))
# Of rules that iptables made the listing has the kind and the name alone of what no statement of nftables says
# (iptables-extensions(8)): not what a condition asks, nor how a target refuses. These targets let the packet on.
_XT_HARMLESS = frozenset(("AUDIT", "CHECKSUM", "CLASSIFY", "CONNMARK", "LED", "LOG", "MARK", "NFLOG", "SET", "TCPMSS",
                          "TRACE", "ULOG"))  # fmt: skip
# These let it go where it goes, whatever else they do to it.
_XT_STAYING = frozenset(("CONNSECMARK", "CT", "DSCP", "ECN", "HL", "NFQUEUE", "NOTRACK", "SECMARK", "TCPOPTSTRIP",
                         "TEE", "TOS", "TTL"))  # fmt: skip
# Statements that let a packet go where it goes, if they let it go at all.
_STAYING = frozenset(("queue", "notrack", "reset"))
_DIVERTING_FIELDS = frozenset(("saddr", "daddr", "sport", "dport"))
# Flags of a table that change nothing of what its chains decide (nft(8), TABLES).
_TABLE_FLAGS = frozenset(("owner", "persist"))
# Statements that a packet gets past or not, by what has gone before it.
_CONDITIONS = frozenset(("limit", "quota", "ct count", "connlimit", "set", "map", "meter", "flow", "ct expectation"))
_HARMLESS_CHANGES = frozenset((("meta", "mark"), ("meta", "priority"), ("meta", "nftrace"), ("meta", "pkttype"),
                               ("ct", "mark"), ("ct", "label"), ("ct", "event"), ("ip", "dscp"), ("ip6", "dscp"),
                               ("ip", "ecn"), ("ip6", "ecn")))  # fmt: skip
_TCP_FLAGS = {"fin": 1, "syn": 2, "rst": 4, "psh": 8, "ack": 16, "urg": 32, "ecn": 64, "cwr": 128}
# Bits of the kernel's enum ip_conntrack_status (linux/netfilter/nf_conntrack_common.h).
_CT_STATUS = {"expected": 1, "seen-reply": 2, "assured": 4, "confirmed": 8, "snat": 16, "dnat": 32, "dying": 512}
_BITS = {("tcp", "flags"): _TCP_FLAGS, ("ct", "status"): _CT_STATUS}
_ICMP_CODES = {
    "icmp": {"net-unreachable": 0, "host-unreachable": 1, "prot-unreachable": 2, "port-unreachable": 3,
             "frag-needed": 4, "net-prohibited": 9, "host-prohibited": 10, "admin-prohibited": 13},
    "icmpv6": {"no-route": 0, "admin-prohibited": 1, "addr-unreachable": 3, "port-unreachable": 4, "policy-fail": 5,
               "reject-route": 6},
}  # fmt: skip
_MOST = {"sport": 65535, "dport": 65535, "protocol": 255, "nexthdr": 255, "l4proto": 255, "type": 255, "code": 255,
         "version": 15}  # fmt: skip
_OPTIONS = ("tcp", "option"), ("exthdr", "header")
"""What a packet of the right protocol may still be without."""
_ANYTHING = Values(RangeSet.span(0, (1 << 128) - 1))
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


def read_rule_set(
    path: Path, shown: str, problems: list[Problem], known: dict[str, HostRuleSet] | None = None
) -> HostRuleSet | None:
    """The rule set in a file. What makes the file unusable is a problem; what cannot be judged stays inside. `known`
    are those read before, by the text of their file: what says the same is read once."""
    try:
        text = read_text(path, shown)
        if known is not None and text in known:
            return dataclasses.replace(known[text], file=shown)
        listing = json.loads(text)
    except InputError as error:
        problems.extend(error.problems)
        return None
    except json.JSONDecodeError as error:
        told = f"not JSON: {error.msg}; it takes what `nft -j list ruleset` prints"
        problems.append(Problem(Place(shown, error.lineno), told))
        return None
    except ValueError:  # a number of more digits than are read
        problems.append(Problem(Place(shown, 1), "not JSON that can be read, as `nft -j list ruleset` prints it"))
        return None
    except RecursionError:
        problems.append(Problem(Place(shown, 1), "nested too deeply to be a rule set"))
        return None
    fault = _fault_of(listing)
    if fault:
        problems.append(Problem(Place(shown, 1), fault))
        return None
    try:
        found = _Listing(listing["nftables"]).rule_set(shown)
        if known is not None:
            known[text] = found
        return found
    except RecursionError:
        problems.append(Problem(Place(shown, 1), "nested too deeply to be a rule set"))
        return None
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        problems.append(Problem(Place(shown, 1), f"not a listing of `nft -j list ruleset` ({type(error).__name__})"))
        return None


def _fault_of(listing: Any) -> str | None:
    objects = listing.get("nftables") if isinstance(listing, dict) else None
    if not isinstance(objects, list) or not all(isinstance(each, dict) for each in objects):
        return "not a listing of `nft -j list ruleset`: the key 'nftables' with a list is missing"
    told = [o["metainfo"] for o in objects if isinstance(o.get("metainfo"), dict)]
    version = next((each.get("json_schema_version") for each in told), 1)
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
        listed = [each["rule"] for each in self.objects if "rule" in each]
        comments = Counter((_chain_of(rule), str(rule.get("comment"))) for rule in listed)
        for rule in listed:
            key = _chain_of(rule)
            handle = f"handle {rule.get('handle', '?')}"
            name = str(rule.get("comment") or handle)
            if rule.get("comment") and comments[key, name] > 1:
                name = f"{name} ({handle})"
            statements = tuple(made for each in rule.get("expr", []) for made in self.statements(key, each))
            rules.setdefault(key, []).append(HostRule(name, statements, _counted(rule.get("expr", []))))
        bases = [each["chain"] for each in self.objects if "chain" in each]
        named = Counter(chain["name"] for chain in bases)
        asleep = {
            (table.get("family"), table.get("name")): _sleeps(table.get("flags"))
            for table in (each["table"] for each in self.objects if "table" in each)
        }
        chains = []
        for chain in bases:
            key = (chain["family"], chain["table"], chain["name"])
            chains.append(
                Chain(
                    *key,
                    tuple(rules.get(key, ())),
                    chain.get("hook"),
                    chain.get("type"),
                    int(chain.get("prio", 0)),
                    chain.get("policy", "accept"),
                    " ".join(key) if named[key[2]] > 1 else "",
                    asleep.get(key[:2], False),
                )  # fmt: skip
            )
        return HostRuleSet(shown, tuple(chains), {(c.family, c.table, c.name): c for c in chains})

    def statements(self, key: tuple[str, str, str], expression: Any) -> Iterator[Statement]:
        """What an expression of a rule comes to: nothing, one statement, or one with what it silently asks for."""
        if not isinstance(expression, dict) or len(expression) != 1:
            yield Unjudged(_short(expression))
            return
        ((kind, body),) = expression.items()
        if kind in _HARMLESS:
            return
        if kind == "mangle" and _is_harmless_change(body):
            # A packet without the fields that are read or written gets no further in the rule, as at a match.
            for field in dict.fromkeys(_fields_inside(body)):
                yield Unclear(_short(expression), (field,)) if field in _OPTIONS else Match((field,), ((_ANYTHING,),))
            return
        try:
            if kind == "match":
                yield self.match(key, body)
            elif kind == "vmap":
                yield self.verdict_map(key, body)
            elif kind == "xt":
                yield from _of_iptables(body)
            else:
                yield from _verdicts(kind, body)
        except (_CannotJudge, ValueError, KeyError, TypeError, AttributeError):
            if kind == "match":
                # Whether an option is there can be asked of packets of any other kind, too.
                is_presence = isinstance(body, dict) and isinstance(body.get("right"), bool)
                text = _of_renamed(body) or _short(expression)
                yield Unclear(text, () if is_presence else tuple(_fields_inside(body)))
            elif kind in _CONDITIONS:
                yield Unclear(_short(expression))
            else:
                yield Unjudged(_short(expression), _diverts(kind, body))

    def match(self, key: tuple[str, str, str], body: dict[str, Any]) -> Match:
        operator = body["op"]
        bits = _bit_test(body["left"], operator, body["right"])
        if bits is not None:
            return bits
        fields = _fields(body["left"])
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
            if fields != (("ct", "state"),) or operator not in ("in", "!="):
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


def _chain_of(rule: dict[str, Any]) -> tuple[str, str, str]:
    return rule["family"], rule["table"], rule["chain"]


def _sleeps(flags: Any) -> bool | None:
    """Whether a table with these flags is dormant; None where they are not known (some releases of nft print a flag
    that stands alone wrongly)."""
    told = [flags] if isinstance(flags, str) else flags or []
    if not isinstance(told, list):
        return None
    if "dormant" in told:
        return True
    return False if all(each in _TABLE_FLAGS for each in told) else None


def _of_iptables(body: Any) -> Iterator[Statement]:
    """What a condition or a target comes to that iptables made, and of which the listing has the name alone."""
    kind, name = body["type"], _text(body["name"])
    if kind == "match":
        if name != "comment":
            yield Unclear(f"condition '{name}' {OF_IPTABLES}")
    elif name == "REJECT":
        yield Verdict(
            "reject", icmp=_REJECT_CODES["icmpx"]["port-unreachable"], untold=f"target 'REJECT' {OF_IPTABLES}"
        )
    elif kind != "target" or name not in _XT_HARMLESS:
        yield Unjudged(f"target '{name}' {OF_IPTABLES}", name not in _XT_STAYING)


def _of_renamed(body: Any) -> str | None:
    """Of a condition that iptables made and nftables has no word for, as `LISTED_WHOLE` lists it, what it is."""
    if not isinstance(body, dict) or body.get("left") != {"ct": {"key": "helper"}}:
        return None
    name = str(body.get("right"))
    return f"condition '{name[3:]}' {OF_IPTABLES}, which nftables has no word for" if name.startswith("xt-") else None


def _diverts(kind: str, body: Any) -> bool:
    """Whether a packet may go elsewhere, or have other addresses or ports, by a statement that is not judged."""
    if kind != "mangle":
        return kind not in _STAYING
    payload = body["key"].get("payload") if isinstance(body, dict) and isinstance(body.get("key"), dict) else {}
    if not isinstance(payload, dict):
        return False
    return "protocol" not in payload or payload.get("field") in _DIVERTING_FIELDS


def _counted(expressions: Any) -> tuple[int, int] | None:
    """Packets and octets of a rule's own counter; a named counter stands elsewhere, and is not looked up."""
    for each in expressions if isinstance(expressions, list) else ():
        body = each.get("counter") if isinstance(each, dict) else None
        if isinstance(body, dict) and isinstance(body.get("packets"), int) and isinstance(body.get("bytes"), int):
            return max(0, body["packets"]), max(0, body["bytes"])
    return None


def _verdicts(kind: str, body: Any) -> Iterator[Statement]:
    """A verdict, with the condition that its kind implies and that a listing leaves out: a reset answers TCP only, and
    a message of ICMP or ICMPv6 packets of its own family only."""
    if kind != "reject":
        yield _verdict(kind, body)
        return
    how = body or {}
    if how.get("type") == "tcp reset":
        yield Match((("meta", "l4proto"),), ((Values(RangeSet.one(TCP)),),))
        yield Verdict("reject")
        return
    wanted = how.get("type", "icmpx")
    family = {"icmp": 2, "icmpv6": 10}.get(wanted)
    if family is not None:
        yield Match((("meta", "nfproto"),), ((Values(RangeSet.one(family)),),))
    yield Verdict("reject", icmp=_REJECT_CODES[wanted][how.get("expr", "port-unreachable")])


def _verdict(kind: str, body: Any) -> Verdict:
    if kind in ("accept", "drop", "return", "continue"):
        return Verdict(kind)
    if kind in ("jump", "goto"):
        return Verdict(kind, body["target"])
    raise _CannotJudge


def _is_harmless_change(body: Any) -> bool:
    """Whether a change of the packet is one that neither its way nor any rule that is judged looks at."""
    try:
        return "tcp option" in body["key"] or _fields(body["key"])[0] in _HARMLESS_CHANGES
    except (_CannotJudge, KeyError, TypeError, IndexError):
        return False


def _bit_test(left: Any, operator: str, right: Any) -> Match | None:
    """A comparison of flags, `tcp flags` or `ct status`; None where it is none. Raises _CannotJudge.

    The listing has `in` for any of some bits, `!` for none of them, and `&` on the left for a mask (nft(8), BITMASK).
    """
    masked = isinstance(left, dict) and "&" in left
    inner = left["&"][0] if masked else left
    try:
        fields = _fields(inner)
    except _CannotJudge:
        return None
    if len(fields) != 1 or fields[0] not in _BITS:
        return None
    names = _BITS[fields[0]]
    mask = _bits_of(names, left["&"][1]) if masked else None
    if operator in ("in", "!"):
        if masked:
            raise _CannotJudge
        wanted = _bits_of(names, right)
        numbers = RangeSet.span(1, wanted) if operator == "in" else RangeSet.one(0)
        return Match(fields, ((Values(numbers, mask=wanted),),))
    if operator not in ("==", "!="):
        raise _CannotJudge
    listed = right["set"] if isinstance(right, dict) and "set" in right else [right]
    alternatives = tuple((Values(RangeSet.one(_bits_of(names, each)), mask=mask),) for each in listed)
    return Match(fields, alternatives, operator == "!=")


def _bits_of(names: dict[str, int], value: Any) -> int:
    """The bits that a name, a number, or a list of names joined by `|` stands for."""
    if isinstance(value, bool):
        raise _CannotJudge
    if isinstance(value, int):
        return value
    if isinstance(value, str):
        return names[value]
    if isinstance(value, dict) and set(value) == {"|"}:
        value = value["|"]
    if not isinstance(value, list):
        raise _CannotJudge
    found = 0
    for each in value:
        found |= _bits_of(names, each)
    return found


def _fields_inside(body: Any) -> Iterator[tuple[str, str]]:
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
                yield _OPTIONS[0]
            elif "exthdr" in each:
                yield _OPTIONS[1]
            else:
                pending.extend(each.values())


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
    if kind == "fib" and body.get("result") == "type" and body.get("flags") in ("saddr", "daddr", ["saddr"], ["daddr"]):
        side = body["flags"] if isinstance(body["flags"], str) else body["flags"][0]
        return (("fib", f"{side} type"),)
    if kind == "exthdr":
        return (("exthdr", f"{body['name']} {body['field']}" if "field" in body else PRESENCE),)
    looked_up = set(body["flags"]) if kind == "fib" and body.get("result") == "oif" else set()
    if {"saddr", "iif"} <= looked_up <= {"saddr", "iif", "mark"}:
        return (WAY_BACK,)
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
    if field in (WAY_BACK, ("exthdr", PRESENCE)) and isinstance(value, bool):
        return Values(RangeSet.one(int(value)))
    if field[0] == "fib" or field in (("ct", "direction"), ("meta", "pkttype")):
        return Values(names=frozenset((_text(value),)))
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
        "code": lambda text: _ICMP_CODES[protocol][text],
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
