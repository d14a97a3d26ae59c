"""What a host's own kernel rule set decides (clause S35).

Evaluation follows nft(8): base chains of a hook by priority, `accept` ends one chain, `drop` and `reject` are final,
a jump comes back, a goto does not.

It is of three values. Each rule matches surely, surely not, or perhaps, where it holds a condition that cannot be
judged; behind a rule that perhaps ends a packet's way the packet is perhaps still there. What all possibilities agree
on is decided; where they differ the gate is not known, with the expression named.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from kiboko.core.filters.packet_fields import PacketFields, compare
from kiboko.core.header.packet import Packet
from kiboko.core.header.ranges import EMPTY, RangeSet
from kiboko.core.network.host_rules import (
    Chain,
    HostRule,
    HostRuleSet,
    Match,
    Unclear,
    Unjudged,
    Values,
    Verdict,
    VerdictMap,
)

UNKNOWN = "unknown"
ALLOW, DROP, REJECT = "allow", "drop", "reject"
# Connection tracking runs at this priority in prerouting and output: chains before it see no state.
CONNTRACK_PRIORITY = -200
# Where a translation of the destination stands, and one of the source.
_NAT_PRIORITY = {"prerouting": -100, "output": -100, "input": 100, "postrouting": 100}
# What a refusal by a firewall's administrator is in ICMP (RFC 1812, 5.2.7.1) and ICMPv6 (RFC 4443, 3.1).
ADMIN_PROHIBITED = (13, 1)
_MOST_JUMPS = 16  # the kernel's own limit on the jump stack

# The hooks a packet passes, in order, by what the machine does with it.
HOOKS = {
    "input": ("prerouting", "input"),
    "output": ("output", "postrouting"),
    "forward": ("prerouting", "forward", "postrouting"),
}


@dataclass(frozen=True, slots=True)
class HostShare:
    """The client ports of which one rule of a rule set decides. `action` is allow, drop, reject or unknown; `icmp` is
    as in `Verdict`.

    `detail` names the expression that an unknown action rests on. `possible` are the actions that it may come to, also
    where the packet is stopped in any case and only how is not known. `diverts` tells whether it may go on to somewhere
    else, or with other addresses or ports.
    """

    ports: RangeSet
    action: str
    rule: str
    chain: str
    detail: str = ""
    icmp: tuple[int, int] | None = None
    possible: tuple[str, ...] = ()
    diverts: bool = False


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
        if chain.hook == hook and not chain.sleeps and _family_applies(chain.family, packet.family)
    ]
    hooked.sort(key=lambda pair: (pair[0], _asked_at(pair[1]), pair[1].priority))
    foreign = [each for each in rules.chains if each.is_foreign and not each.sleeps]
    if not hooked and not foreign:
        return None
    evaluation = _Evaluation(rules, PacketFields(packet, path, ingress, egress))
    if foreign:
        evaluation.taint(ports, foreign[0].shown, "otherwise", f"hook {foreign[0].hook}")
    for _, chain in hooked:
        if chain.sleeps is None:
            evaluation.taint(ports, chain.shown, "otherwise", f"flags of table {chain.table}, which may be dormant")
    live = _Live(ports)
    for _, chain in hooked:
        live = evaluation.base_chain(chain, live)
    return evaluation.shares(ports, live)


def _asked_at(chain: Chain) -> int:
    """The priority at which a base chain is asked: those of type nat all at that of translation, in the order of their
    own (linux/net/netfilter/nf_nat_core.c, nf_nat_register_fn)."""
    if chain.type != "nat":
        return chain.priority
    return _NAT_PRIORITY.get(chain.hook or "", chain.priority)


def _family_applies(table_family: str, packet_family: int) -> bool:
    return table_family == "inet" or table_family == ("ip" if packet_family == 4 else "ip6")


@dataclass(frozen=True, slots=True)
class _Live:
    """The ports whose packet is surely still on its way, and those whose packet perhaps is."""

    sure: RangeSet = EMPTY
    perhaps: RangeSet = EMPTY

    @property
    def all(self) -> RangeSet:
        """Both."""
        return self.sure | self.perhaps

    def within(self, ports: RangeSet) -> _Live:
        """What of it is of some ports."""
        return _Live(self.sure & ports, self.perhaps & ports)


@dataclass(frozen=True, slots=True)
class _End:
    """A verdict that some ports' packets meet, surely or perhaps."""

    ports: RangeSet
    action: str
    rule: str
    chain: str
    icmp: tuple[int, int] | None = None

    @property
    def kind(self) -> tuple[str, tuple[int, int] | None]:
        """What the sender can tell apart."""
        return self.action, self.icmp


@dataclass(frozen=True, slots=True)
class _Doubt:
    """Why it is not known what becomes of some ports' packets."""

    ports: RangeSet
    rule: str
    chain: str
    text: str


@dataclass(slots=True)
class _Evaluation:
    """One packet's way through the chains: where it may end, and what is in doubt."""

    rules: HostRuleSet
    fields: PacketFields
    ends: list[_End] = dataclasses.field(default_factory=list)
    doubts: list[_Doubt] = dataclasses.field(default_factory=list)
    tainted: RangeSet = EMPTY
    """Ports whose packet something may have been done to that is not judged, so that nothing is known behind it."""
    diverted: RangeSet = EMPTY
    """Those of them whose packet may go elsewhere, or be another one."""

    def taint(self, ports: RangeSet, chain: str, rule: str, text: str, diverts: bool = False) -> None:
        """Note that nothing is known of some ports any more."""
        if ports:
            self.tainted = self.tainted | ports
            self.diverted = self.diverted | ports if diverts else self.diverted
            self.doubts.append(_Doubt(ports, rule, chain, text))

    def shares(self, ports: RangeSet, live: _Live) -> list[HostShare]:
        """What all possible ends come to, for each port."""
        if ports.size == 1:
            return [self._share(ports, live)]
        cells = [ports]
        for each in (*(e.ports for e in self.ends), *(d.ports for d in self.doubts), live.all, self.tainted,
                     self.diverted):  # fmt: skip
            cells = [part for cell in cells for part in (cell & each, cell - each) if part]
        found: dict[HostShare, RangeSet] = {}
        for cell in cells:
            share = self._share(cell, live)
            alike = dataclasses.replace(share, ports=EMPTY)
            found[alike] = found.get(alike, EMPTY) | cell
        shares = [dataclasses.replace(share, ports=cell) for share, cell in found.items()]
        return sorted(shares, key=lambda share: share.ports.lowest)

    def _share(self, cell: RangeSet, live: _Live) -> HostShare:
        """What becomes of ports that nothing tells apart."""
        mine = [end for end in self.ends if cell <= end.ports]
        stops = {end.kind: end for end in mine if end.action != ALLOW}
        goes_on = cell <= live.all
        if cell <= self.tainted or (goes_on and stops):
            doubt = next(each for each in self.doubts if cell <= each.ports)
            # Of what was changed or handed over nothing is known, and not by which rule behind that it is met.
            stopping = (DROP, REJECT) if cell <= self.tainted else tuple(action for action, _ in stops)
            actions = tuple(dict.fromkeys((*stopping, ALLOW)))
            diverts = cell <= self.diverted
            return HostShare(cell, UNKNOWN, doubt.rule, doubt.chain, doubt.text, None, actions, diverts)
        if stops:
            last = list(stops.values())[-1]
            if len(stops) == 1:
                return HostShare(cell, last.action, last.rule, last.chain, "", last.icmp)
            doubt = next(each for each in self.doubts if cell <= each.ports)
            possible = dict.fromkeys(action for action, _ in stops)
            return HostShare(cell, last.action, last.rule, last.chain, doubt.text, last.icmp, tuple(possible))
        lets = [end for end in mine if end.action == ALLOW]
        named = [end for end in lets if end.rule != "otherwise"] or lets
        # None where only chains are hooked that are shown the first packet of a connection alone.
        return HostShare(cell, ALLOW, *((named[-1].rule, named[-1].chain) if named else ("otherwise", "")))

    # Chains.

    def base_chain(self, chain: Chain, live: _Live) -> _Live:
        """One base chain: what is still on its way behind it."""
        if chain.type == "nat" and self.fields.packet.state != "new":
            return live  # only the first packet of a connection is shown to these
        self.fields.before_conntrack = chain.hook in ("prerouting", "output") and _asked_at(chain) <= CONNTRACK_PRIORITY
        before = len(self.ends)
        fell = self.chain(chain, live, 0)
        self._end(fell.all, ALLOW if chain.policy == "accept" else DROP, "otherwise", chain.shown)
        ends = self.ends[before:]
        if chain.type == "nat" and self.fields.packet.family not in self.rules.tracked:
            del self.ends[before:]
            stopped = RangeSet.of(pair for end in ends if end.action != ALLOW for pair in end.ports)
            why = "whether connections are tracked, without which a chain of type nat is asked nothing"
            self.taint(stopped, chain.shown, "otherwise", why)
            return live
        let = RangeSet.of(pair for end in ends if end.action == ALLOW for pair in end.ports) | self.tainted
        stopped = RangeSet.of(pair for end in ends if end.action != ALLOW for pair in end.ports)
        let = let & live.all
        sure = live.sure & let - stopped
        return _Live(sure, let - sure)

    def _end(self, ports: RangeSet, action: str, rule: str, chain: str, icmp: tuple[int, int] | None = None) -> None:
        if ports:
            self.ends.append(_End(ports, action, rule, chain, icmp))

    def chain(self, chain: Chain, live: _Live, depth: int) -> _Live:
        """The ports that fall out at a chain's end or by `return`."""
        if depth > _MOST_JUMPS:
            self.taint(live.all, chain.shown, "otherwise", f"jumps nested deeper than {_MOST_JUMPS}")
            return _Live()
        fell: list[_Live] = []
        for rule in chain.rules:
            if not live.all:
                break
            live, returned = self.rule(chain, rule, live, depth)
            fell.append(returned)
        return _joined([*fell, live])

    def rule(self, chain: Chain, rule: HostRule, live: _Live, depth: int) -> tuple[_Live, _Live]:
        """One rule: what is live behind it, and what leaves the chain by it."""
        sure, perhaps = live.all, EMPTY
        doubt = ""
        for statement in rule.statements:
            if not sure and not perhaps:
                break
            if isinstance(statement, Match):
                yes, maybe, text = self.matched(statement.fields, statement.alternatives, statement.negated, live.all)
                perhaps = (sure & maybe) | (perhaps & (yes | maybe))
                sure = sure & yes
                doubt = doubt or (text if maybe else "")
            elif isinstance(statement, Unclear):
                absent = any(self.fields.read(*each) is None for each in statement.fields)
                sure, perhaps = EMPTY, EMPTY if absent else sure | perhaps
                doubt = doubt or statement.text
            elif isinstance(statement, Unjudged):
                self.taint(sure | perhaps, chain.shown, rule.name, statement.text, statement.diverts)
                return _without(live, sure, perhaps), _Live()
            elif isinstance(statement, VerdictMap):
                return self.verdict_map(chain, rule, statement, live, (sure, perhaps, doubt), depth)
            elif statement.kind != "continue":
                return self.verdict(chain, rule, statement, live, (sure, perhaps, doubt), depth)
        return live, _Live()

    def verdict(
        self,
        chain: Chain,
        rule: HostRule,
        verdict: Verdict,
        live: _Live,
        met: tuple[RangeSet, RangeSet, str],
        depth: int,
    ) -> tuple[_Live, _Live]:
        """A verdict that some live ports meet, surely or perhaps and why only that."""
        sure, perhaps, doubt = met
        if perhaps:
            self.doubts.append(_Doubt(perhaps, rule.name, chain.shown, doubt))
        both = sure | perhaps
        left = _without(live, sure, perhaps)
        gone = _Live(live.sure & sure, both - (live.sure & sure)).within(live.all)
        if verdict.kind == "return":
            return left, gone
        if verdict.kind in ("jump", "goto"):
            target = self.rules.by_name.get((chain.family, chain.table, verdict.target))
            if target is None:
                self.taint(both, chain.shown, rule.name, f"{verdict.kind} {verdict.target}")
                return left, _Live()
            fell = self.chain(target, _Live(both), depth + 1)
            # Inside it was as if all were surely there: what was only perhaps there comes out so, but for what did not
            # jump at all and would be here as well.
            if verdict.kind == "goto":
                return left, _Live(fell.sure & gone.sure, fell.all - (fell.sure & gone.sure))
            back = _Live(fell.sure & live.sure, fell.all - (fell.sure & live.sure))
            sure_now = (left.sure - back.all) | back.sure
            return _Live(sure_now, (left.all | back.all) - sure_now), _Live()
        action = {"accept": ALLOW}.get(verdict.kind, verdict.kind)
        self._end(gone.all, action, rule.name, chain.shown, verdict.icmp)
        if verdict.untold and gone.all:  # of the kinds of refusals any: two that a sender can tell apart stand for them
            self._end(gone.all, action, rule.name, chain.shown, ADMIN_PROHIBITED)
            self.doubts.append(_Doubt(gone.all, rule.name, chain.shown, verdict.untold))
        return left, _Live()

    def verdict_map(
        self,
        chain: Chain,
        rule: HostRule,
        statement: VerdictMap,
        live: _Live,
        met: tuple[RangeSet, RangeSet, str],
        depth: int,
    ) -> tuple[_Live, _Live]:
        """The verdict of the first entry that matches."""
        sure, perhaps, doubt = met
        returned: list[_Live] = []
        asked = live
        for alternative, verdict in statement.entries:
            yes, maybe, text = self.matched(statement.fields, (alternative,), False, asked.all)
            hit_sure, hit_perhaps = sure & yes, (sure & maybe) | (perhaps & (yes | maybe))
            if (hit_sure or hit_perhaps) and verdict.kind != "continue":
                live, went = self.verdict(chain, rule, verdict, live, (hit_sure, hit_perhaps, doubt or text), depth)
                returned.append(went)
            sure, perhaps = sure - yes - maybe, (perhaps - yes) | (sure & maybe)
        return live, _joined(returned)

    # Matches.

    def matched(
        self,
        fields: tuple[tuple[str, str], ...],
        alternatives: Iterable[tuple[Values, ...]],
        negated: bool,
        ports: RangeSet,
    ) -> tuple[RangeSet, RangeSet, str]:
        """The ports for which the fields surely equal one of the alternatives (or none of them, if negated), those for
        which they perhaps do, and what that rests on."""
        readings = [self.fields.read(protocol, name) for protocol, name in fields]
        if any(reading is None for reading in readings):
            return EMPTY, EMPTY, ""  # the field is not in this packet: nft breaks off the rule, negated or not
        total, possible = EMPTY, EMPTY
        for alternative in alternatives:
            found, perhaps = ports, ports
            for reading, values in zip(readings, alternative, strict=True):
                yes, maybe = compare(reading, values, ports)
                found, perhaps = found & yes, perhaps & (yes | maybe)
            total, possible = total | found, possible | perhaps
        doubt = next((reading.text for reading in readings if isinstance(reading, Unjudged)), " ".join(fields[0]))
        if negated:
            return ports - possible, possible - total, doubt
        return total, possible - total, doubt


def _without(live: _Live, sure: RangeSet, perhaps: RangeSet) -> _Live:
    """What is live behind a rule that ends some ports surely and others perhaps."""
    left = live.all - sure
    sure_left = live.sure - sure - perhaps
    return _Live(sure_left, left - sure_left)


def _joined(parts: Iterable[_Live]) -> _Live:
    """Several ways to the same place: surely there by one of them is surely there."""
    pairs: Iterator[_Live] = iter(parts)
    sure, perhaps = EMPTY, EMPTY
    for each in pairs:
        sure, perhaps = sure | each.sure, perhaps | each.perhaps
    return _Live(sure, perhaps - sure)
