"""A kernel rule set from the JSON that `nft -j list ruleset` prints (libnftables-json(5))."""

from __future__ import annotations

import dataclasses
import json
from collections import Counter
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import TCP
from kiboko.core.network.host_rules import (
    OF_IPTABLES,
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
from kiboko.files.hosts.expressions import (
    MOST_OF,
    OPTIONS,
    CannotJudge,
    alternative_of,
    anything,
    bit_test,
    fields_inside,
    fields_of,
    text_of,
)
from kiboko.files.hosts.statement_texts import written

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
_TRACKING = frozenset(("dnat", "snat", "masquerade", "redirect", "synproxy", "flow"))
_XT_TRACKING = ("conntrack", "state", "connmark", "connlimit", "DNAT", "SNAT", "MASQUERADE", "REDIRECT", "NETMAP")
_DIVERTING_FIELDS = frozenset(("saddr", "daddr", "sport", "dport"))
# Flags of a table that change nothing of what its chains decide (nft(8), TABLES).
_TABLE_FLAGS = frozenset(("owner", "persist"))
# Statements that a packet gets past or not, by what has gone before it.
_CONDITIONS = frozenset(("limit", "quota", "ct count", "connlimit", "set", "map", "meter", "flow", "ct expectation"))
_HARMLESS_CHANGES = frozenset((("meta", "mark"), ("meta", "priority"), ("meta", "nftrace"),
                               ("ct", "mark"), ("ct", "label"), ("ct", "event"), ("ip", "dscp"), ("ip6", "dscp"),
                               ("ip", "ecn"), ("ip6", "ecn")))  # fmt: skip
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


_WHOLE = "the whole of what `nft -j list ruleset` prints is read"


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
        if not text.strip():
            told = "the file is empty; `nft -j list ruleset` prints nothing where it may not look: it is run as root"
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
    except InputError as error:
        problems.append(Problem(Place(shown, 1), str(error)))
        return None
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        problems.append(Problem(Place(shown, 1), f"not a listing of `nft -j list ruleset` ({type(error).__name__})"))
        return None


def _fault_of(listing: Any) -> str | None:
    objects = listing.get("nftables") if isinstance(listing, dict) else None
    if not isinstance(objects, list) or not all(isinstance(each, dict) for each in objects):
        return "not a listing of `nft -j list ruleset`: the key 'nftables' with a list is missing"
    if not objects:
        return f"it lists nothing, not even the version of `nft`; {_WHOLE}"
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
        self.written_to = set(_written_to(each["rule"] for each in objects if "rule" in each))
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
        lost = rules.keys() - {(chain["family"], chain["table"], chain["name"]) for chain in bases}
        if lost:
            raise InputError(f"it has rules of the chain '{' '.join(min(lost))}' and not the chain; {_WHOLE}")
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
        by_name = {(each.family, each.table, each.name): each for each in chains}
        tracking = {rule["family"] for rule in listed if any(map(_tracks, rule.get("expr", [])))}
        tracked = tuple(family for family, name in ((4, "ip"), (6, "ip6")) if tracking & {name, "inet"})
        return HostRuleSet(shown, tuple(chains), by_name, tracked)

    def statements(self, key: tuple[str, str, str], expression: Any) -> Iterator[Statement]:
        """What an expression of a rule comes to: nothing, one statement, or one with what it silently asks for."""
        if not isinstance(expression, dict) or len(expression) != 1:
            yield Unjudged(written(expression), True)
            return
        ((kind, body),) = expression.items()
        if kind in _HARMLESS:
            return
        if kind == "mangle" and _is_harmless_change(body):
            # A packet without the fields that are read or written gets no further in the rule, as at a match.
            for field in dict.fromkeys(fields_inside(body)):
                yield (
                    Unclear(written(expression), (field,))
                    if field in OPTIONS
                    else Match((field,), ((anything(field),),))
                )
            return
        try:
            if kind == "match":
                yield self.match(key, body)
                if self.may_expire(key, body["right"]):
                    yield Unclear(f"{written(expression)}, of which each element has its time")
            elif kind == "vmap":
                yield self.verdict_map(key, body)
            elif kind == "xt":
                yield from _of_iptables(body)
            else:
                yield from _verdicts(kind, body)
        except (CannotJudge, ValueError, KeyError, TypeError, AttributeError):
            if kind == "match":
                # Whether an option is there can be asked of packets of any other kind, too.
                is_presence = isinstance(body, dict) and isinstance(body.get("right"), bool)
                text = _of_renamed(body) or written(expression)
                yield Unclear(text, () if is_presence else tuple(fields_inside(body)))
            elif kind in _CONDITIONS:
                yield Unclear(written(expression))
            else:
                yield Unjudged(written(expression), _diverts(kind, body))

    def match(self, key: tuple[str, str, str], body: dict[str, Any]) -> Match:
        operator = body["op"]
        bits = bit_test(body["left"], operator, body["right"])
        if bits is not None:
            return bits
        fields = fields_of(body["left"])
        if operator in ("<", ">", "<=", ">="):
            if len(fields) != 1 or fields[0][1] not in MOST_OF or not isinstance(body["right"], int):
                raise CannotJudge
            bound, most = body["right"], MOST_OF[fields[0][1]]
            low, high = {
                "<": (0, bound - 1), "<=": (0, bound), ">": (bound + 1, most), ">=": (bound, most),
            }[operator]  # fmt: skip
            span = RangeSet.span(low, high) if low <= high else RangeSet()
            return Match(fields, ((Values(span),),))
        if operator not in ("==", "!=", "in"):
            raise CannotJudge
        right = body["right"]
        if isinstance(right, list):  # a bit mask: `ct state established,related`
            if fields != (("ct", "state"),) or operator not in ("in", "!="):
                raise CannotJudge
            right = {"set": right}
        elements = self.elements(key, right)
        if operator == "!=" and self.may_expire(key, right):
            raise CannotJudge
        alternatives = tuple(alternative_of(fields, element) for element in elements)
        return Match(fields, alternatives, operator == "!=")

    def verdict_map(self, key: tuple[str, str, str], body: dict[str, Any]) -> VerdictMap:
        fields = fields_of(body["key"])
        if self.may_expire(key, body["data"]):
            raise CannotJudge
        entries = []
        for element in self.elements(key, body["data"]):
            left, verdict = element
            ((kind, target),) = verdict.items()
            entries.append((alternative_of(fields, left), _verdict(kind, target)))
        return VerdictMap(fields, tuple(entries))

    def elements(self, key: tuple[str, str, str], right: Any) -> list[Any]:
        """The elements of an anonymous set, of a named one, or the one value itself."""
        if isinstance(right, str) and right.startswith("@"):
            if (key[0], key[1], right) in self.written_to or "dynamic" in _flags_of(self.named(key, right)):
                raise CannotJudge  # packets change what it holds
            return list(self.named(key, right).get("elem", []))
        if isinstance(right, dict) and "set" in right:
            inner = right["set"]
            return inner if isinstance(inner, list) else [inner]
        return [right]

    def named(self, key: tuple[str, str, str], right: str) -> dict[str, Any]:
        """The named set or map of a table that a rule speaks of."""
        return self.sets[(key[0], key[1], right[1:])]

    def may_expire(self, key: tuple[str, str, str], right: Any) -> bool:
        """Whether the right side is a named set or map of which elements may be gone by now."""
        if not isinstance(right, str) or not right.startswith("@"):
            return False
        named = self.named(key, right)
        return "timeout" in named or "timeout" in _flags_of(named)


def _flags_of(named: dict[str, Any]) -> list[str]:
    """The flags of a named set; some releases print one that stands alone as a text."""
    flags = named.get("flags", [])
    return [flags] if isinstance(flags, str) else list(flags)


def _written_to(rules: Iterable[dict[str, Any]]) -> Iterator[tuple[str, str, str]]:
    """The sets that statements of rules add packets to, or take from, with family and table."""
    for rule in rules:
        for statement in rule.get("expr", []):
            for kind in ("set", "map", "meter"):
                body = statement.get(kind) if isinstance(statement, dict) else None
                name = body.get("set", body.get("map", body.get("name"))) if isinstance(body, dict) else None
                if isinstance(name, str):
                    yield rule["family"], rule["table"], f"@{name.removeprefix('@')}"


def _chain_of(rule: dict[str, Any]) -> tuple[str, str, str]:
    return rule["family"], rule["table"], rule["chain"]


def _tracks(expression: Any) -> bool:
    """Whether a statement has the kernel track connections: one that looks at them, or that translates."""
    if not isinstance(expression, dict):
        return False
    ((kind, body),) = expression.items() if len(expression) == 1 else (("", None),)
    if kind in _TRACKING or kind.startswith("ct "):
        return True
    if kind == "xt":
        return isinstance(body, dict) and body.get("name") in _XT_TRACKING
    sides = [body.get(each) for each in ("left", "key")] if isinstance(body, dict) else []
    return any("ct" in _kinds_in(side) for side in sides)


def _kinds_in(value: Any) -> set[str]:
    """The kinds of expressions that one is made of."""
    if isinstance(value, list):
        return {kind for each in value for kind in _kinds_in(each)}
    if not isinstance(value, dict):
        return set()
    return set(value) | {kind for each in value.values() for kind in _kinds_in(each)}


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
    kind, name = body["type"], text_of(body["name"])
    if kind == "match":
        if name != "comment":
            yield Unclear(f"condition {name} {OF_IPTABLES}")
    elif name == "REJECT":
        yield Verdict("reject", icmp=_REJECT_CODES["icmpx"]["port-unreachable"], untold=f"target REJECT {OF_IPTABLES}")
    elif kind != "target" or name not in _XT_HARMLESS:
        yield Unjudged(f"target {name} {OF_IPTABLES}", name not in _XT_STAYING)


def _of_renamed(body: Any) -> str | None:
    """Of a condition that iptables made and nftables has no word for, as `LISTED_WHOLE` lists it, what it is."""
    if not isinstance(body, dict) or body.get("left") != {"ct": {"key": "helper"}}:
        return None
    name = str(body.get("right"))
    return f"condition {name[3:]} {OF_IPTABLES}, which nftables has no word for" if name.startswith("xt-") else None


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
    raise CannotJudge


def _is_harmless_change(body: Any) -> bool:
    """Whether a change of the packet is one that neither its way nor any rule that is judged looks at."""
    try:
        return "tcp option" in body["key"] or fields_of(body["key"])[0] in _HARMLESS_CHANGES
    except (CannotJudge, KeyError, TypeError, IndexError):
        return False
