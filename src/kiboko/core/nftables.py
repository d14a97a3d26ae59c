"""A host's own kernel rule set, as `nft -j list ruleset` tells it, and what it decides (clause S35).

The values here are what the file reader makes of the JSON (schema: libnftables-json(5)); evaluation follows
nft(8): base chains of a hook by priority, `accept` ends one chain, `drop` and `reject` are final, a jump comes
back, a goto does not. What cannot be judged makes the gate not known, with the expression named.
"""

from __future__ import annotations

import fnmatch
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from kiboko.core.packet import Packet
from kiboko.core.ranges import EMPTY, RangeSet
from kiboko.core.services import ICMP, ICMP6, SCTP, TCP, UDP

UNKNOWN = "unknown"
_PORT_PROTOCOL = {"tcp": TCP, "udp": UDP, "sctp": SCTP}
# Connection tracking runs at this priority in prerouting and output: chains before it see no state.
CONNTRACK_PRIORITY = -200


@dataclass(frozen=True, slots=True)
class Unjudged:
    """A statement or expression that Kiboko does not judge, as text."""

    text: str


@dataclass(frozen=True, slots=True)
class Values:
    """The right side of a match: numbers as ranges, or names (interfaces, connection states)."""

    numbers: RangeSet = EMPTY
    names: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True)
class Match:
    """A comparison of one or several packet fields with a list of value tuples, joined by or.

    `fields` are pairs such as `("ip", "saddr")`; each alternative has one `Values` for each field.
    """

    fields: tuple[tuple[str, str], ...]
    alternatives: tuple[tuple[Values, ...], ...]
    negated: bool = False


@dataclass(frozen=True, slots=True)
class Verdict:
    """`accept`, `drop`, `reject`, `return`, `continue`, or `jump`/`goto` to the chain `target`.

    `icmp` tells what a reject sends: the code of an ICMP destination unreachable (RFC 792) and of an ICMPv6 one
    (RFC 4443), or None for a TCP reset.
    """

    kind: str
    target: str = ""
    icmp: tuple[int, int] | None = None


@dataclass(frozen=True, slots=True)
class VerdictMap:
    """`vmap`: the verdict of the first alternative that matches."""

    fields: tuple[tuple[str, str], ...]
    entries: tuple[tuple[tuple[Values, ...], Verdict], ...]


Statement = Match | Verdict | VerdictMap | Unjudged


@dataclass(frozen=True, slots=True)
class HostRule:
    """One rule: its comment or handle as name, its statements in order, and what its counter has counted, packets and
    octets, None without one."""

    name: str
    statements: tuple[Statement, ...]
    counted: tuple[int, int] | None = None

    @property
    def action(self) -> str:
        """What it does with a packet that matches: the kind of its last verdict."""
        verdicts = [each.kind for each in self.statements if isinstance(each, Verdict)]
        return verdicts[-1] if verdicts else "map" if any(isinstance(s, VerdictMap) for s in self.statements) else "-"


@dataclass(frozen=True, slots=True)
class Chain:
    """A chain of a table; a base chain has a hook, a type, a priority and a policy."""

    family: str
    table: str
    name: str
    rules: tuple[HostRule, ...] = ()
    hook: str | None = None
    type: str | None = None
    priority: int = 0
    policy: str = "accept"

    @property
    def is_foreign(self) -> bool:
        """Whether it is hooked where IP packets are not judged as such, and could still stop them."""
        elsewhere = self.family not in ("inet", "ip", "ip6") or self.hook in ("ingress", "egress")
        return self.hook is not None and elsewhere and (bool(self.rules) or self.policy != "accept")


@dataclass(frozen=True, slots=True)
class HostRuleSet:
    """A whole rule set and the file it was listed in."""

    file: str
    chains: tuple[Chain, ...]
    by_name: Mapping[tuple[str, str, str], Chain] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class HostShare:
    """The client ports that one rule of a rule set decides. `action` is allow, drop, reject or unknown; `icmp` is
    as in `Verdict`."""

    ports: RangeSet
    action: str
    rule: str
    chain: str
    detail: str = ""
    icmp: tuple[int, int] | None = None


# The hooks a packet passes, in order, by what the machine does with it.
HOOKS = {
    "input": ("prerouting", "input"),
    "output": ("output", "postrouting"),
    "forward": ("prerouting", "forward", "postrouting"),
}


def judge(
    rules: HostRuleSet, path: str, packet: Packet, ports: RangeSet, ingress: str, egress: str
) -> list[HostShare] | None:
    """What a rule set decides on a packet that takes `path` (`input`, `output` or `forward`).

    `ingress` and `egress` are the interface names, empty where there is none. None: no chain is hooked there.
    """
    hooked = [
        (position, chain)
        for position, hook in enumerate(HOOKS[path])
        # Of chains with the same priority the kernel asks the one that was made last first (nf_hook_entries_grow).
        for chain in reversed(rules.chains)
        if chain.hook == hook and _family_applies(chain.family, packet.family)
    ]
    hooked.sort(key=lambda pair: (pair[0], pair[1].priority))
    foreign = [c for c in rules.chains if c.hook in ("ingress", "egress") and (c.rules or c.policy != "accept")]
    if not hooked and not foreign:
        return None
    evaluation = _Evaluation(rules, packet, ingress, egress)
    done: list[HostShare] = []
    live = [HostShare(ports, "allow", "otherwise", hooked[0][1].name if hooked else "")]
    if foreign:
        live = [_unknown(ports, foreign[0].name, "otherwise", f"hook {foreign[0].hook}")]
    for _, chain in hooked:
        after: list[HostShare] = []
        for share in live:
            for found in evaluation.base_chain(chain, share.ports):
                if found.action in ("drop", "reject"):
                    done.append(found)
                elif share.action == UNKNOWN or (found.rule == "otherwise" and share.rule != "otherwise"):
                    after.append(_narrowed(share, found.ports))
                else:
                    after.append(found)
        live = after
    return sorted(done + live, key=lambda share: share.ports.lowest)


def _narrowed(share: HostShare, ports: RangeSet) -> HostShare:
    return HostShare(ports, share.action, share.rule, share.chain, share.detail, share.icmp)


def _unknown(ports: RangeSet, chain: str, rule: str, detail: str) -> HostShare:
    return HostShare(ports, UNKNOWN, rule, chain, detail)


def _family_applies(table_family: str, packet_family: int) -> bool:
    return table_family == "inet" or table_family == ("ip" if packet_family == 4 else "ip6")


class _Evaluation:
    """One packet's way through the chains."""

    def __init__(self, rules: HostRuleSet, packet: Packet, ingress: str, egress: str) -> None:
        self.rules = rules
        self.packet = packet
        self.ingress = ingress
        self.egress = egress
        self.before_conntrack = False

    def base_chain(self, chain: Chain, ports: RangeSet) -> list[HostShare]:
        if chain.type == "nat":
            busy = chain.rules or chain.policy != "accept"
            share = _unknown(ports, chain.name, "otherwise", f"nat chain {chain.name}")
            return [share] if busy else [HostShare(ports, "allow", "otherwise", chain.name)]
        self.before_conntrack = chain.hook in ("prerouting", "output") and chain.priority <= CONNTRACK_PRIORITY
        done, fell = self.chain(chain, ports, 0)
        if fell:
            action = "allow" if chain.policy == "accept" else "drop"
            done.append(HostShare(fell, action, "otherwise", chain.name))
        return done

    def chain(self, chain: Chain, ports: RangeSet, depth: int) -> tuple[list[HostShare], RangeSet]:
        """The shares decided inside a chain, and the ports that fall out at its end or by `return`."""
        done: list[HostShare] = []
        fell = EMPTY
        live = ports
        if depth > 16:  # the kernel's own limit on the jump stack
            return [_unknown(ports, chain.name, "otherwise", "jumps nested deeper than 16")], EMPTY
        for rule in chain.rules:
            if not live:
                break
            ended, returned = self.rule(chain, rule, live, depth)
            done.extend(ended)
            fell = fell | returned
            live = live - RangeSet.of(pair for share in ended for pair in share.ports) - returned
        return done, fell | live

    def rule(self, chain: Chain, rule: HostRule, live: RangeSet, depth: int) -> tuple[list[HostShare], RangeSet]:
        """One rule on the live ports: the shares it ends, and the ports that leave the chain by it."""
        matched = live
        for statement in rule.statements:
            if isinstance(statement, Match):
                found = self.matched(statement.fields, statement.alternatives, statement.negated, matched)
                if isinstance(found, Unjudged):
                    return [_unknown(matched, chain.name, rule.name, found.text)], EMPTY
                matched = found
                if not matched:
                    return [], EMPTY
            elif isinstance(statement, Unjudged):
                return [_unknown(matched, chain.name, rule.name, statement.text)], EMPTY
            elif isinstance(statement, VerdictMap):
                return self.verdict_map(chain, rule, statement, matched, depth)
            elif statement.kind != "continue":
                return self.verdict(chain, rule, statement, matched, depth)
        return [], EMPTY

    def verdict(
        self, chain: Chain, rule: HostRule, verdict: Verdict, ports: RangeSet, depth: int
    ) -> tuple[list[HostShare], RangeSet]:
        if verdict.kind == "return":
            return [], ports
        if verdict.kind in ("jump", "goto"):
            target = self.rules.by_name.get((chain.family, chain.table, verdict.target))
            if target is None:
                return [_unknown(ports, chain.name, rule.name, f"{verdict.kind} {verdict.target}")], EMPTY
            done, fell = self.chain(target, ports, depth + 1)
            # What falls out of a jump stays live behind it; what falls out of a goto leaves this chain too.
            return done, (EMPTY if verdict.kind == "jump" else fell)
        action = {"accept": "allow"}.get(verdict.kind, verdict.kind)
        return [HostShare(ports, action, rule.name, chain.name, "", verdict.icmp)], EMPTY

    def verdict_map(
        self, chain: Chain, rule: HostRule, statement: VerdictMap, ports: RangeSet, depth: int
    ) -> tuple[list[HostShare], RangeSet]:
        done: list[HostShare] = []
        returned = EMPTY
        for alternative, verdict in statement.entries:
            found = self.matched(statement.fields, (alternative,), False, ports)
            if isinstance(found, Unjudged):
                return [_unknown(ports, chain.name, rule.name, found.text)], EMPTY
            if found and verdict.kind != "continue":
                ended, went = self.verdict(chain, rule, verdict, found, depth)
                done.extend(ended)
                returned = returned | went
            ports = ports - found
        return done, returned

    def matched(
        self,
        fields: tuple[tuple[str, str], ...],
        alternatives: Iterable[tuple[Values, ...]],
        negated: bool,
        ports: RangeSet,
    ) -> RangeSet | Unjudged:
        """The ports for which the fields equal one of the alternatives (or none of them, if negated)."""
        readings = [self.read(protocol, name) for protocol, name in fields]
        for reading in readings:
            if isinstance(reading, Unjudged):
                return reading
        if any(reading is None for reading in readings):
            return EMPTY  # the field is not in this packet: nft breaks off the rule, negated or not
        total = EMPTY
        for alternative in alternatives:
            found = ports
            for reading, values in zip(readings, alternative, strict=True):
                found = _compare(reading, values, found)
            total = total | found
        return ports - total if negated else total

    def read(self, protocol: str, name: str) -> int | str | bool | Unjudged | None:
        """A field of the packet: a number, a name, True for the client's ports, None where it is absent."""
        packet, service = self.packet, self.packet.service
        match (protocol, name):
            case ("ip" | "ip6", "saddr" | "daddr"):
                if packet.family != (4 if protocol == "ip" else 6):
                    return None
                address = packet.source if name == "saddr" else packet.destination
                return Unjudged(f"{protocol} {name} of a router") if address is None else address.value
            case ("ip", "protocol"):
                return service.protocol if packet.family == 4 else None
            case ("ip6", "nexthdr"):
                return service.protocol if packet.family == 6 else None
            case ("meta", "l4proto"):
                return service.protocol
            case ("meta", "nfproto"):
                return 2 if packet.family == 4 else 10
            case ("meta", "protocol"):
                return 0x0800 if packet.family == 4 else 0x86DD
            case ("meta", "iifname" | "iif"):
                return self.ingress
            case ("meta", "oifname" | "oif"):
                return self.egress
            case ("ct", "state"):
                return Unjudged("ct state before connection tracking") if self.before_conntrack else packet.state
            case ("tcp" | "udp" | "sctp" | "th", "sport" | "dport"):
                if protocol == "th" and not service.has_ports:
                    return Unjudged(f"th {name} of a protocol without ports")
                if protocol != "th" and service.protocol != _PORT_PROTOCOL[protocol]:
                    return None
                return True if (name == "dport") == packet.turned else service.detail
            case ("icmp" | "icmpv6", "type" | "code"):
                if service.protocol != (ICMP if protocol == "icmp" else ICMP6):
                    return None
                return service.detail >> 8 if name == "type" else service.detail & 255
        return Unjudged(f"{protocol} {name}")


def _compare(reading: int | str | bool | Unjudged | None, values: Values, ports: RangeSet) -> RangeSet:
    if reading is True:
        return ports & values.numbers
    if isinstance(reading, str):
        return ports if any(fnmatch.fnmatchcase(reading, name) for name in values.names) else EMPTY
    return ports if isinstance(reading, int) and reading in values.numbers else EMPTY
