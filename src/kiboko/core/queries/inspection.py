"""What stands around one thing: the rules in force at an instance, a filter's attachments, a group's members."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from kiboko.core.errors import Place
from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, WITH_PORTS, Service, details_of, reply_of
from kiboko.core.network.model import Crossing, Filter, Group, Instance, Interface, Listener, Rule, Subnet
from kiboko.core.queries.members import End, member_addresses
from kiboko.core.routing.steps import crossing_name
from kiboko.core.tables.reply_filters import asked_of_replies
from kiboko.core.walk.walk import Walker

IN, OUT = "in", "out"


@dataclass(frozen=True, slots=True)
class AppliedRule:
    """A rule in force at some place, in the order it is asked; `rule` None is the filter's `otherwise`.

    `where` are several crossings, a comma between them, where they have the filter in common. `sources` and
    `destinations` are the addresses that its peers come to, None for any.
    """

    gate: str
    where: str
    filter: Filter
    rule: Rule | None
    sources: AddressSet | None
    destinations: AddressSet | None

    @property
    def place(self) -> Place:
        """Where it is written."""
        return self.rule.place if self.rule is not None else self.filter.default_place

    def is_for(self, own: AddressSet, way: str) -> bool:
        """Whether its own side, `to` inbound and `from` outbound, holds any of these addresses."""
        side = self.destinations if way == IN else self.sources
        return side is None or bool(side & own)

    def concerns(self, services: RangeSet | None, peers: AddressSet | None, way: str) -> bool:
        """Whether it could match traffic of these services with these other ends."""
        if self.rule is None:
            return True
        if services is not None and self.rule.services is not None and not services & self.rule.services:
            return False
        other = self.sources if way == IN else self.destinations
        return peers is None or other is None or bool(peers & other)

    def concerns_reply(self, services: RangeSet, client_ports: RangeSet, peers: AddressSet | None, way: str) -> bool:
        """Whether it could match the reply to requests for these services, going `way` (clause S19): such a reply is
        sent from the service's port to a client port."""
        if self.rule is None:
            return True
        wanted, from_ports = self.rule.services, self.rule.source_ports
        by_ports = any(
            (wanted is None or bool(details_of(wanted, protocol) & client_ports))
            and (from_ports is None or bool(details_of(services, protocol) & from_ports))
            for protocol in WITH_PORTS
            if details_of(services, protocol)
        )
        others = replies_to(services)
        if not by_ports and not (from_ports is None and others and (wanted is None or wanted & others)):
            return False
        other = self.sources if way == IN else self.destinations
        return peers is None or other is None or bool(peers & other)


def replies_to(services: RangeSet) -> RangeSet:
    """The services of replies to requests that have no ports: the echo reply to an echo request, and so on."""
    found: list[tuple[int, int]] = []
    for low, high in services:
        if low >> 16 in (ICMP, ICMP6):
            turned = [reply_of(Service(low >> 16, detail)) for detail in range(low & 0xFFFF, (high & 0xFFFF) + 1, 256)]
            found.extend((each.number, each.number) for each in turned if each is not None)
    return RangeSet.of(found)


def rules_for_replies(walker: Walker, interface: Interface, way: str) -> list[AppliedRule]:
    """The rules at an interface, in the order that they are asked, that replies going `way` may need: those of filters
    that do not know all their requests."""
    asked = asked_of_replies(walker.ground)
    return [each for each in applied_rules(walker, interface, way) if each.filter.name in asked]


@dataclass(frozen=True, slots=True)
class Listening:
    """What an instance has to do with a service: a socket that takes it, or None where it is not known what listens."""

    instance: Instance
    listener: Listener | None


def rules_for(walker: Walker, services: RangeSet) -> tuple[list[tuple[Filter, Rule]], int]:
    """The rules that speak of some of these services, and the number of those that are for any service."""
    every = [(chosen, rule) for chosen in walker.topology.filters.values() for rule in chosen.every_rule()]
    speaking = [(chosen, rule) for chosen, rule in every if rule.services is not None and rule.services & services]
    return speaking, sum(rule.services is None for _, rule in every)


def listening(walker: Walker, services: RangeSet) -> list[Listening]:
    """Who listens to some of these services, and of whom that is not known."""
    found = []
    for instance in walker.topology.instances.values():
        if instance.listens is None:
            found.append(Listening(instance, None))
        else:
            found.extend(Listening(instance, each) for each in instance.listens if each.services & services)
    return found


def applied_rules(walker: Walker, interface: Interface, way: str) -> list[AppliedRule]:
    """Every rule that traffic into (`in`) or out of (`out`) an interface from elsewhere can meet on this side, in
    the order of the gates and of the decision: zone crossings, subnet, instance and host filters."""
    topology = walker.topology
    subnet = topology.subnets[interface.subnet]
    found = [*_zone_rules(walker, subnet, way)]
    if subnet.filter is not None:
        found.extend(filter_rules(walker, topology.filters[subnet.filter], way, f"subnet-{way}", subnet.name))
    for each in walker.membership.filters_on(interface):
        found.extend(filter_rules(walker, each, way, f"instance-{way}", interface.name))
    host = walker.directory.instance_of(interface).host_filter
    if isinstance(host, str):
        found.extend(filter_rules(walker, topology.filters[host], way, f"host-{way}", interface.instance))
    return found if way == IN else _outward(found)


def _outward(rules: list[AppliedRule]) -> list[AppliedRule]:
    """Outbound, the gates come the other way round; within one gate the order stays."""
    rank = {"host-out": 0, "instance-out": 1, "subnet-out": 2, "zone": 3}
    return sorted(rules, key=lambda rule: rank[rule.gate])


def _zone_rules(walker: Walker, subnet: Subnet, way: str) -> Iterator[AppliedRule]:
    crossings = [
        each for each in walker.topology.crossings
        if subnet.zone is not None and subnet.zone == (each.destination if way == IN else each.source)
    ]  # fmt: skip
    for chosen, where in by_filter(walker, crossings):
        yield from filter_rules(walker, chosen, way, "zone", where)


def by_filter(walker: Walker, crossings: Iterable[Crossing]) -> Iterator[tuple[Filter, str]]:
    """The filters of some crossings, each once, with the crossings that have it: `office>core, public>core`."""
    names: dict[str, list[str]] = {}
    for each in crossings:
        names.setdefault(each.filter, []).append(crossing_name(each.source, each.destination))
    for name, where in names.items():
        yield walker.topology.filters[name], ", ".join(where)


def filter_rules(walker: Walker, chosen: Filter, way: str, gate: str, where: str) -> Iterator[AppliedRule]:
    """A filter's rules of one direction in the order they decide, then its `otherwise`; disabled rules too."""
    rules = chosen.direction(way)
    if rules is None:
        return
    peers = walker.membership.peer_addresses
    ordered = sorted(rules, key=lambda rule: rule.order) if chosen.decide == "first" else rules
    for rule in ordered:
        yield AppliedRule(gate, where, chosen, rule, peers(rule.sources), peers(rule.destinations))
    yield AppliedRule(gate, where, chosen, None, None, None)


def attachments(walker: Walker, chosen: Filter) -> list[tuple[str, str]]:
    """Where a filter is attached, as `(kind, place)`: nothing means that it decides nothing."""
    topology = walker.topology
    if chosen.layer == "instance":
        return [("interface", interface.name) for interface in walker.membership.carriers(chosen.name)]
    if chosen.layer == "zone":
        return [("crossing", f"{c.source}>{c.destination}") for c in topology.crossings if c.filter == chosen.name]
    if chosen.layer == "host":
        return [("host", i.name) for i in topology.instances.values() if i.host_filter == chosen.name]
    subnets = [("subnet", s.name) for s in topology.subnets.values() if s.filter == chosen.name]
    return subnets + [("outside", o.name) for o in topology.outsides.values() if o.filter == chosen.name]


@dataclass(frozen=True, slots=True)
class MemberReason:
    """One member of a group, why it is in, and its addresses."""

    name: str
    why: str
    addresses: AddressSet


def group_reasons(walker: Walker, group: Group) -> list[MemberReason]:
    """Every member of a group at any depth, each with the first reason found."""
    found: dict[str, MemberReason] = {}
    pending = [(group, "")]
    while pending:
        each, through = pending.pop(0)
        for member in walker.membership.group_members(each):
            if member in walker.topology.groups:
                pending.append((walker.topology.groups[member], f"{through}group {member}, "))
            elif member not in found:
                why = "listed" if member in each.members else f"tags {_where_text(each)}"
                found[member] = MemberReason(member, through + why, walker.membership.name_addresses(member))
        if each.addresses:
            name = ", ".join(each.address_texts)
            found.setdefault(name, MemberReason(name, f"{through}literal addresses", each.addresses))
    return list(found.values())


def _where_text(group: Group) -> str:
    return ", ".join(f"{key}={'|'.join(values)}" for key, values in group.where or ())


def groups_of(walker: Walker, instance: Instance) -> list[str]:
    """The groups that an instance is in."""
    groups = walker.topology.groups
    return [name for name in groups if instance.name in walker.membership.group_instances(name)]


def end_addresses(end: End) -> AddressSet:
    """All addresses that an end stands for."""
    return AddressSet.union(member_addresses(member) for member in end.members)
