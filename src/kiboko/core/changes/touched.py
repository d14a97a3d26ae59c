"""What a change can touch: which pairs of ends may come to anything else by it, and on which services.

A pair is judged by the rules of the filters on its way, by what both ends are, and by the routes and crossings between
them. So a change of rules touches pairs of which one end carries the filter; a change of a machine or a subnet touches
pairs of which one end is it, or lies in it; and so on. What lies on the way of others touches them all.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from kiboko.core.changes.changed_rules import (
    EVERYTHING,
    Matched,
    all_matched,
    all_of,
    changed_rules,
    matched_by,
    united,
)
from kiboko.core.changes.said import Said
from kiboko.core.changes.sameness import is_same
from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.model import Filter, Peer, Topology
from kiboko.core.queries.ends import Ends, Member

_WHOLE = frozenset(("defaults", "networks", "outside", "gateways"))
"""Sections that may touch everybody."""
_FEW_FILTERS = 8
"""As many changed filters are looked at one by one; of more, all that any of them touches is taken together."""


@dataclass(frozen=True, slots=True)
class Chosen:
    """Some ends: those that are, or lie in, one of `names` (machines, subnets, outsides, and zones as `zone:NAME`), and
    have an address among `addresses`. None stands for all."""

    names: frozenset[str] | None = None
    addresses: AddressSet | None = None


ALL = Chosen()
Touching = tuple[Chosen, Chosen]
"""Pairs of ends: every one of some senders with every one of some receivers."""


@dataclass(frozen=True, slots=True)
class Touched:
    """What a change can touch: traffic on `services` between the pairs of `parts`. `filters` are those whose rules
    differ. `senders` and `receivers` are the addresses that all of it goes from and to, None for all. `is_of_rules`
    tells that nothing else differs. `ends` are the addresses of which one is of each pair that anything but a rule
    touches."""

    filters: frozenset[str]
    parts: tuple[Touching, ...]
    services: RangeSet
    senders: AddressSet | None
    receivers: AddressSet | None
    is_of_rules: bool = True
    ends: AddressSet | None = None

    def chosen(self, members: Iterable[Member], is_sender: bool) -> Iterator[Member]:
        """Those of some members that the traffic may go from, or to."""
        wanted = self.senders if is_sender else self.receivers
        return (each for each in members if wanted is None or each.is_among(wanted))


def names_of(ends: Ends, member: Member) -> Iterator[str]:
    """What an end is, and what it lies in, as `Chosen` names them."""
    subnets = ends.topology.subnets
    if member.low is None:
        found = [member.instance, *(each.subnet for each in member.interfaces)]
        zones = [subnets[each.subnet].zone for each in member.interfaces]
    else:
        endpoint = ends.directory.endpoint(member.low)
        found = [member.instance, member.outside, endpoint.subnet.name if endpoint.subnet else None]
        found += [endpoint.interface.instance if endpoint.interface else None]
        zones = [endpoint.zone]
    yield from (name for name in found if name is not None)
    yield from (f"zone:{zone}" for zone in zones if zone is not None)


def touched(old: Ends, new: Ends, said: Sequence[Said]) -> Touched | None:
    """What a change can touch, of which it is known what both versions say differently; None where that may be
    everything."""
    named: dict[str, list[str]] = {}
    for each in said:
        named.setdefault(each.section, []).append(each.name)
    if not _WHOLE.isdisjoint(named):
        return None
    rules = _OfRules(old, new)
    structure = _OfStructure(old, new, named)
    if not structure.parts:
        return rules.touched()
    if structure.is_everything:
        return None
    return Touched(rules.filters, (*rules.parts, *structure.parts), EVERYTHING, None, None, False,
                   all_of(structure.ends))  # fmt: skip


class _Way:
    """What packets between other ends may pass."""

    def __init__(self, old: Ends, new: Ends) -> None:
        self._halfway = frozenset(name for ends in (old, new) for name in _on_the_way(ends.topology))
        topology = new.topology  # the outsides and networks of both
        self._outer = {each.zone for each in topology.outsides.values()}
        blocks = [block for each in topology.networks.values() for block in each.blocks if block.family == 6]
        self._six = AddressSet.of_prefixes(blocks)

    def has(self, names: Iterable[str]) -> bool:
        """Whether any of some names lies on the way of others: that of a next hop, of its subnet or its zone."""
        return not self._halfway.isdisjoint(names)

    def in_zone(self, zone: str) -> Iterator[Chosen]:
        """The ends between which packets are in a zone: those that lie in it, and whoever sends through it."""
        if self.has([f"zone:{zone}"]):
            yield ALL
            return
        yield Chosen(frozenset((f"zone:{zone}",)))
        if (
            zone in self._outer and self._six
        ):  # global addresses of two networks meet there, out by one and in by another
            yield Chosen(None, self._six)

    def across(self, zones: tuple[str, str]) -> Iterator[Touching]:
        """The pairs of which packets go from one zone to another."""
        for sender in self.in_zone(zones[0]):
            for receiver in self.in_zone(zones[1]):
                yield sender, receiver


def _on_the_way(topology: Topology) -> Iterator[str]:
    """The next hops of routes, with their subnets and zones: packets between other ends pass the gates there."""
    hops = {entry.instance for table in topology.route_tables.values() for entry in table.entries if entry.instance}
    for name in hops:
        yield name
        for interface in topology.instances[name].interfaces:
            yield interface.subnet
            yield f"zone:{topology.subnets[interface.subnet].zone}"


def _carriers(ends: Ends, changed: frozenset[str]) -> Iterator[str]:
    """What carries any of some filters, crossings left out."""
    topology = ends.topology
    for name in changed & set(topology.filters):
        yield from (each.instance for each in ends.walker.membership.carriers(name))
    for instance in topology.instances.values():
        if isinstance(instance.host_filter, str) and instance.host_filter in changed:
            yield instance.name
    yield from (each.name for each in topology.subnets.values() if each.filter in changed)
    yield from (each.name for each in topology.outsides.values() if each.filter in changed)


def _crossings(versions: Sequence[Ends], changed: frozenset[str]) -> dict[tuple[str, str], None]:
    """The pairs of zones between which any of some filters judges, in any version."""
    return {(each.source, each.destination): None for ends in versions for each in ends.topology.crossings
            if each.filter in changed}  # fmt: skip


class _OfRules:
    """What changed rules touch: traffic that they match, where one end carries the filter or crosses where it is."""

    def __init__(self, old: Ends, new: Ends) -> None:
        self._versions, self._way = (old, new), _Way(old, new)
        before, after = old.topology.filters, new.topology.filters
        listed = {name: self._matched(before[name], after[name]) for name in before.keys() & after.keys()
                  if not is_same(before[name], after[name])}  # fmt: skip
        matched = {name: traffic for name, traffic in listed.items() if traffic}
        self.filters = frozenset(matched)
        self._traffic = [each for traffic in matched.values() for each in traffic]
        together = [(frozenset((name,)), traffic) for name, traffic in sorted(matched.items())]
        if len(together) > _FEW_FILTERS:
            together = [(self.filters, self._traffic)]
        self.parts = [part for names, traffic in together for part in self._parts(names, traffic)]

    def touched(self) -> Touched:
        """All that they touch, where nothing else differs."""
        return Touched(
            self.filters, tuple(self.parts), RangeSet.of(pair for each in self._traffic for pair in each.services),
            all_of([each.senders for each in self._traffic]), all_of([each.receivers for each in self._traffic]),
        )  # fmt: skip

    def _matched(self, before: Filter, after: Filter) -> list[Matched]:
        own = changed_rules(before, after)
        if own is None:
            return list(all_matched())
        return [traffic for ends, some in zip(self._versions, own, strict=True) for way, rule in some
                for traffic in matched_by(ends.walker, rule, way, after.layer)]  # fmt: skip

    def _parts(self, names: frozenset[str], traffic: Sequence[Matched]) -> Iterator[Touching]:
        carriers = frozenset(name for ends in self._versions for name in _carriers(ends, names))
        crossings = _crossings(self._versions, names)
        for each in united(traffic):
            from_them, to_them = Chosen(None, each.senders), Chosen(None, each.receivers)
            if self._way.has(carriers):
                yield from_them, to_them
                continue
            if carriers and each.by_sender:
                yield Chosen(carriers, each.senders), to_them
            if carriers and each.by_receiver:
                yield from_them, Chosen(carriers, each.receivers)
            for pair in crossings:
                for sender, receiver in self._way.across(pair[::-1] if each.is_reply else pair):
                    yield _within(sender, each.senders), _within(receiver, each.receivers)


def _within(chosen: Chosen, addresses: AddressSet | None) -> Chosen:
    """Those of some ends that have an address among some others as well."""
    if addresses is None or chosen.addresses is None:
        return Chosen(chosen.names, chosen.addresses if addresses is None else addresses)
    return Chosen(chosen.names, chosen.addresses & addresses)


class _OfStructure:
    """What a change of machines, subnets, groups, routes and crossings touches. `ends` has the addresses of which one
    is of each such pair, None for all."""

    def __init__(self, old: Ends, new: Ends, named: Mapping[str, Sequence[str]]) -> None:
        """`named` has what is not the same in both versions, by section."""
        self._versions, self._way, self._named = (old, new), _Way(old, new), named
        self.is_everything = False
        self.parts: list[Touching] = []
        self.ends: list[AddressSet | None] = []
        self._of_ends()
        self._of_peers()
        self._of_routes()
        self._of_crossings()

    def _topologies(self) -> tuple[Topology, Topology]:
        return self._versions[0].topology, self._versions[1].topology

    def _note(self, one: Chosen, other: Chosen = ALL) -> None:
        """Pairs of which one end is of these, and the other of those."""
        self.parts += [(one, other)] if one == other else [(one, other), (other, one)]

    def _of_ends(self) -> None:
        """Machines and subnets that are not as they were, and machines that carry other filters."""
        before, after = self._topologies()
        names = set(self._named.get("instances", ()))
        names |= {each.instance for each in self._versions[0].directory.interfaces()
                  if each.instance not in names and not self._carries_the_same(each.name)}  # fmt: skip
        machines = [topology.instances[name] for topology in (before, after) for name in names
                    if name in topology.instances]  # fmt: skip
        addresses = AddressSet.of_addresses(
            address for each in machines for interface in each.interfaces
            for address in (*interface.addresses, *((interface.public,) if interface.public is not None else ()))
        )  # fmt: skip
        subnets = set(self._named.get("subnets", ()))
        if not names and not subnets:
            return
        self.is_everything |= self._way.has(names | subnets)
        self._note(Chosen(frozenset(names | subnets)))
        if addresses:
            self._note(Chosen(None, addresses))
        self.ends += [addresses, self._addresses_in(subnets)]

    def _carries_the_same(self, interface: str) -> bool:
        """Whether an interface of both versions carries the same filters in both."""
        carried = []
        for ends in self._versions:
            found = ends.directory.interface(interface)
            assert found is not None  # its machine is the same in both
            carried.append(ends.walker.membership.filter_names_on(found))
        return carried[0] == carried[1]

    def _addresses_in(self, subnets: Iterable[str]) -> AddressSet:
        known = (topology.subnets[name] for topology in self._topologies() for name in subnets
                 if name in topology.subnets)  # fmt: skip
        return AddressSet.of_prefixes(block for each in known for block in each.blocks)

    def _of_peers(self) -> None:
        """Whom rules mean that say the same, and do not mean the same: members of a group that is another one."""
        before, after = self._topologies()
        memberships = [ends.walker.membership for ends in self._versions]
        shared = [each.address for each in before.gateways.values() if each.address is not None]
        known: dict[Peer, AddressSet] = {}
        meant: dict[AddressSet, set[str]] = {}
        for name in before.filters.keys() & after.filters.keys():
            for rule in (*before.filters[name].every_rule(), *after.filters[name].every_rule()):
                for peer in (rule.sources, rule.destinations):
                    if peer is None:
                        continue
                    if peer not in known:
                        one, other = (each.peer_addresses(peer) or AddressSet() for each in memberships)
                        known[peer] = AddressSet() if one == other else (one - other) | (other - one)
                    if known[peer]:
                        meant.setdefault(known[peer], set()).add(name)
        for addresses, filters in meant.items():
            is_anybody = any(each in addresses for each in shared)
            self._of_meant(None if is_anybody else addresses, frozenset(filters))

    def _of_meant(self, addresses: AddressSet | None, filters: frozenset[str]) -> None:
        """Pairs of which one end has one of some addresses, and that some filters judge."""
        self.ends.append(addresses)
        who, carriers = (
            Chosen(None, addresses),
            frozenset(n for ends in self._versions for n in _carriers(ends, filters)),
        )
        if self._way.has(carriers):
            self._note(who)
            return
        if carriers:
            self._note(Chosen(carriers), who)
            self._note(Chosen(carriers, addresses))
        for pair in _crossings(self._versions, filters):
            for sender, receiver in self._way.across(pair):
                for one, other in ((_within(sender, addresses), receiver), (sender, _within(receiver, addresses))):
                    self._note(one, other)

    def _of_routes(self) -> None:
        """Routes that only one version has: from the subnets that ask the table, to what the routes lead to."""
        before, after = self._topologies()
        shared = [each.address for each in before.gateways.values() if each.address is not None]
        for name in self._named.get("route tables", ()):
            entries = [each.route_tables[name].entries if name in each.route_tables else () for each in (before, after)]
            differ = [each.to for some, others in (entries, entries[::-1]) for each in some
                      if not any(is_same(each, other) for other in others)]  # fmt: skip
            subnets = {each.name for topology in (before, after) for each in topology.subnets.values()
                       if each.route_table == name}  # fmt: skip
            if not subnets:
                continue
            self.is_everything |= self._way.has(subnets)
            led = AddressSet.of_prefixes(differ)
            is_anybody = any(each in led for each in shared)  # what comes back to a shared address is for anybody
            self._note(Chosen(frozenset(subnets)), Chosen(None, None if is_anybody else led))
            self.ends.append(self._addresses_in(subnets))

    def _of_crossings(self) -> None:
        """Pairs of zones between which another filter judges, or none any more."""
        judged = [{(each.source, each.destination): each.filter for each in topology.crossings}
                  for topology in self._topologies()]  # fmt: skip
        for pair in dict.fromkeys((*judged[0], *judged[1])):
            if judged[0].get(pair) != judged[1].get(pair):
                for sender, receiver in self._way.across(pair):
                    self._note(sender, receiver)
                self.ends.append(None)
