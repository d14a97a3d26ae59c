"""What a question is about, and which rules may have a say in it: all others are as good as not there.

A firewall of thousands of rules has few about one machine or one service. What the rest of them tell apart would be
told apart for nothing.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from kiboko.core.filters.ground import Ground
from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import EVERY_SERVICE, ICMP, ICMP6, WITH_PORTS
from kiboko.core.network.model import Rule, Topology

_MESSAGES = RangeSet.of((kind << 16, kind << 16 | 0xFFFF) for kind in (ICMP, ICMP6))


@dataclass(frozen=True, slots=True)
class Subject:
    """The services that requests go to, and those that what comes back goes to, which `filters` are asked about; the
    addresses that senders and receivers may have at any gate, None for all. All filters may be asked about messages
    that refuse, where that matters."""

    services: RangeSet
    answers: RangeSet
    filters: frozenset[str]
    senders: AddressSet | None = None
    receivers: AddressSet | None = None
    with_refusals: bool = False
    _met: dict[tuple[int, bool], tuple[AddressSet, bool]] = field(default_factory=dict, compare=False, repr=False)
    """Of peers, which rules have in common, whether senders or receivers may be of them; they are kept, so that none
    other comes to bear their `id`."""

    def concerns(
        self, filter_name: str, rule: Rule, sources: AddressSet | None, destinations: AddressSet | None
    ) -> bool:
        """Whether a rule, with its peers as addresses, could match anything of it."""
        is_for_requests = _meet(rule.services, self.services)
        if is_for_requests and self._may_be(sources, True) and self._may_be(destinations, False):
            return True
        # What has no ports comes back as what it is.
        comes_back = filter_name in self.filters and (is_for_requests or _meet(rule.services, self.answers))
        comes_back = comes_back or (self.with_refusals and _meet(rule.services, _MESSAGES))
        return comes_back and self._may_be(sources, False) and self._may_be(destinations, True)

    def _may_be(self, peers: AddressSet | None, sends: bool) -> bool:
        """Whether one of some peers may be one who sends, or one who receives."""
        ends = self.senders if sends else self.receivers
        if peers is None or ends is None:
            return True
        key = id(peers), sends
        if key not in self._met:
            self._met[key] = peers, peers.meets(ends)
        return self._met[key][1]


def _meet(services: RangeSet | None, others: RangeSet) -> bool:
    return services is None or services.meets(others)


def everything(ground: Ground) -> Subject:
    """All that may be asked about a network."""
    return Subject(EVERY_SERVICE, EVERY_SERVICE, frozenset(ground.topology.filters), with_refusals=True)


def client_ports(topology: Topology) -> list[RangeSet]:
    """The ports that clients use, wherever they are given."""
    own = [each.ephemeral_ports for each in topology.instances.values()]
    own += [each.ephemeral_ports for each in topology.outsides.values()]
    return [topology.defaults.ephemeral_ports, *(ports for ports in own if ports)]


def answers_to(clients: Iterable[RangeSet]) -> RangeSet:
    """The services of what comes back to some client ports: replies, resets, and ICMP messages."""
    back = [(kind << 16 | low, kind << 16 | high) for kind in WITH_PORTS for each in clients for low, high in each]
    return RangeSet.of([*back, *_MESSAGES])


def seen_at_gates(ground: Ground, addresses: AddressSet) -> AddressSet:
    """The addresses that packets of some ends may have at a gate: their own, shared ones of gateways, and those of
    appliances, which send messages about them."""
    topology = ground.topology
    hops = {entry.instance for table in topology.route_tables.values() for entry in table.entries if entry.instance}
    others = [each.address for each in topology.gateways.values() if each.address is not None]
    others += [a for name in hops for each in topology.instances[name].interfaces for a in each.addresses]
    return addresses | AddressSet.of_addresses(others)
