"""What becomes of packets at a machine whose own kernel rule set may stop the discovery of neighbours (clause S35).

Before an IPv6 packet is sent on a link, who sends it asks for the hardware address of the next hop by a neighbour
solicitation, and is told it by an advertisement (RFC 4861, section 7.2): messages of ICMPv6, which pass the rule sets
of both. A machine that stops them is not found over IPv6, whatever else its rules accept, unless its neighbours know it
from before, or something on the link answers for it. For IPv4 that is ARP (RFC 826), which is no IP: only tables of the
family arp are asked about it, and these are not judged. The advertisements of routers, from which many machines have
their default route (section 6.3.4), are told of alone: whether one does is not known.
"""

from __future__ import annotations

import dataclasses
from typing import NamedTuple

from kiboko.core.filters.host_judge import ALLOW, DROP, REJECT, UNKNOWN, HostShare, judge
from kiboko.core.header.addresses import Address
from kiboko.core.header.packet import Packet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP6, Service
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.network.model import Instance, Interface

_UNFOUND = "whether its neighbours know it: it stops "
UNDISCOVERED = f"{_UNFOUND}neighbour "
"""How the text begins of what is in doubt where discovery is stopped."""
LETS_FIND = "icmpv6 type { nd-router-advert, nd-neighbor-solicit, nd-neighbor-advert } accept"
"""The rule that lets discovery through, as nft(8) has it; that of routers too, since who stops neighbours and is told
of that rule may have its routes from these (RFC 4890, section 4.4.1)."""
SOLICITATION, ADVERTISEMENT = Service(ICMP6, 135 << 8), Service(ICMP6, 136 << 8)
ROUTES = Service(ICMP6, 134 << 8)
_SOLICITED_NODE = Address(6, 0xFF02 << 112 | 0x1FF000000)
"""The first of the multicast addresses that solicitations go to (RFC 4291, section 2.7.1)."""
_LINK_LOCAL = Address(6, 0xFE80 << 112 | 2)
"""What solicitations of routers come from, and of whoever forwards (RFC 4861, section 7.2.2)."""
_EVERY_NODE = Address(6, 0xFF02 << 112 | 1)
"""What advertisements of routers go to (RFC 4861, section 6.2.6)."""
_ANY = RangeSet.one(0)
_IN, _OUT = "input", "output"


class _Message(NamedTuple):
    """A message of discovery as a rule set meets it: by which hooks, and which it is."""

    path: str
    service: Service

    @property
    def told(self) -> str:
        """What is said of it."""
        which = _NAMES[self.service]
        return f"{which} {'in' if self.path == _IN else 'out'} (ICMPv6 type {self.service.detail >> 8})"


_NAMES = {
    SOLICITATION: "neighbour solicitations",
    ADVERTISEMENT: "neighbour advertisements",
    ROUTES: "router advertisements",
}
_TO_BE_FOUND = (_Message(_IN, SOLICITATION), _Message(_OUT, ADVERTISEMENT))
_TO_FIND = (_Message(_OUT, SOLICITATION), _Message(_IN, ADVERTISEMENT))
_OF_ROUTERS = _Message(_IN, ROUTES)
_TOWARDS = {SOLICITATION: _SOLICITED_NODE, ROUTES: _EVERY_NODE}
_KEPT_FROM = dict.fromkeys(_TO_BE_FOUND, "being found") | {_OF_ROUTERS: "routes that it would have from them"}


class Stopped(NamedTuple):
    """A message of discovery that a rule set surely stops: which one, what that keeps its machine from, and by which
    rule of which chain."""

    message: str
    kept_from: str
    rule: str
    chain: str

    def __str__(self) -> str:
        rule = "its policy" if self.rule == "otherwise" else f"rule '{self.rule}'"
        return f"stops {self.message} (chain {self.chain}, {rule}), which keeps it from {self.kept_from}"


class Discovery:
    """Asks kernel rule sets about packets and about the discovery that these need; what they say of that is remembered.

    >>> Discovery().judge(rules, "input", packet, ports, "eth0", "")
    [HostShare(ports=..., action='unknown', rule='otherwise', chain='input', ...)]
    """

    def __init__(self) -> None:
        # With the rule sets themselves, so that no other one may come to bear the identity of one of them.
        self._looks: dict[int, tuple[HostRuleSet, bool]] = {}
        self._known: dict[tuple[int, _Message, str, Address | None], Stopped | None] = {}

    def judge(
        self, rules: HostRuleSet, path: str, packet: Packet, ports: RangeSet, ingress: str, egress: str
    ) -> list[HostShare] | None:
        """What becomes of a packet at a machine; the parameters, and None, are as for `host_judge.judge`. What a rule
        set accepts of IPv6 is not known where it stops the discovery without which that is not delivered."""
        shares = judge(rules, path, packet, ports, ingress, egress)
        lost = (
            self._lost(rules, path, packet, ingress, egress) if packet.family == 6 else _by_arp(rules, ingress, egress)
        )
        if lost is None:
            return shares
        # Where no chain is hooked all of it passes.
        mine = shares if shares is not None else [HostShare(ports, ALLOW, lost.rule, lost.chain)]
        return [_doubted(share, lost) for share in mine]

    def _lost(self, rules: HostRuleSet, path: str, packet: Packet, ingress: str, egress: str) -> Stopped | None:
        """Which message a rule set stops of those that bring a packet in, and out. Whether an end of it is a neighbour
        is not known here: where messages of that end would be stopped if it were, that counts."""
        lost = None
        if path != _OUT and ingress != "lo":
            lost = self.stopped(rules, _TO_BE_FOUND, ingress, packet.source)
        if path != _IN and egress != "lo":
            lost = lost or self.stopped(rules, _TO_FIND, egress, packet.destination)
        return lost

    def stopped(
        self, rules: HostRuleSet, messages: tuple[_Message, ...], device: str, other: Address | None
    ) -> Stopped | None:
        """The first of some messages that a rule set surely stops at a device, of routers or of `other`; else None.
        Solicitations that come in are of link-local addresses, as of routers, or of `other` if that is a neighbour, and
        advertisements of an address that is not known, or of `other`."""
        if id(rules) not in self._looks:
            self._looks[id(rules)] = rules, rules.looks_at("ip6", "saddr")
        for message in messages:
            lost = self._stopped(rules, message, device, _LINK_LOCAL if message == _TO_BE_FOUND[0] else None)
            if lost is None and message.path == _IN and other is not None and self._looks[id(rules)][1]:
                lost = self._stopped(rules, message, device, other)
                lost = lost and lost._replace(message=f"{lost.message} of this end, if it is a neighbour")
            if lost is not None:
                return lost
        return None

    def _stopped(
        self, rules: HostRuleSet, message: _Message, device: str, source: Address | None
    ) -> Stopped | None:  # fmt: skip
        """Whether a rule set surely stops a message of one address; None where that is not known."""
        key = id(rules), message, device, source
        if key not in self._known:
            packet = Packet(6, source, _TOWARDS.get(message.service), message.service, state="untracked")
            devices = (device, "") if message.path == _IN else ("", device)
            shares = judge(rules, message.path, packet, _ANY, *devices) or []
            stops = [each for each in shares if each.action in (DROP, REJECT)]
            kept_from = _KEPT_FROM.get(message, "finding others")
            is_lost = len(stops) == len(shares) > 0
            self._known[key] = Stopped(message.told, kept_from, stops[0].rule, stops[0].chain) if is_lost else None
        return self._known[key]

    def routeless(self, rules: HostRuleSet, device: str) -> Stopped | None:
        """What a rule set stops at a device of what tells its machine of routes for IPv6; else None."""
        return self._stopped(rules, _OF_ROUTERS, device, _LINK_LOCAL)

    def stops(self, instance: Instance, rules: HostRuleSet) -> list[Stopped]:
        """All that is told of a machine's own rule set: what `unfound` and `routeless` have."""
        devices = dict.fromkeys(each.device for each in _of_six(instance))
        told = self.unfound(instance, rules), *(self.routeless(rules, each) for each in devices)
        return list(dict.fromkeys(filter(None, told)))

    def unfound(self, instance: Instance, rules: HostRuleSet) -> Stopped | None:
        """What a machine's own rule set stops of what it needs to be found over IPv6, or to find others; None for
        nothing, and where it has no such address."""
        devices = dict.fromkeys(each.device for each in _of_six(instance))
        asked = (self.stopped(rules, some, each, None) for each in devices for some in (_TO_BE_FOUND, _TO_FIND))
        return next(filter(None, asked), None)


def _of_six(instance: Instance) -> list[Interface]:
    """The interfaces of a machine that have an address of IPv6."""
    return [each for each in instance.interfaces if any(one.family == 6 for one in each.addresses)]


def _by_arp(rules: HostRuleSet, ingress: str, egress: str) -> Stopped | None:
    """The chain that may stop address resolution; None where there is none."""
    chains = (each for each in rules.chains if each.family == "arp" and each.hook and each.sleeps is not True)
    for chain in chains if "lo" not in (ingress, egress) else ():
        stopping = [rule.name for rule in chain.rules if rule.action not in ("accept", "-")]
        if stopping or chain.policy != "accept":
            return Stopped("ARP, or may do so", "being found", stopping[0] if stopping else "otherwise", chain.shown)
    return None


def _doubted(share: HostShare, lost: Stopped) -> HostShare:
    """What becomes of some ports that are perhaps not delivered: who sends them may be told so, or hear nothing."""
    why = _UNFOUND + lost.message
    if share.action == ALLOW:
        return HostShare(share.ports, UNKNOWN, lost.rule, lost.chain, why, None, (DROP, REJECT, ALLOW))
    may_pass = (ALLOW,) if ALLOW in share.possible else ()
    return dataclasses.replace(share, detail=share.detail or why, possible=(DROP, REJECT, *may_pass))
