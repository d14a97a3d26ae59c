"""The ends of pairs, by what they are and lie in; and what packets pass on their way, where neither end is."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from kiboko.core.header.addresses import AddressSet
from kiboko.core.network.model import Topology
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.members import Member


@dataclass(frozen=True, slots=True)
class Chosen:
    """Some ends: those that are, or lie in, one of `names` (machines, subnets, outsides, and zones as `zone:NAME`), and
    have an address among `addresses`. None stands for all."""

    names: frozenset[str] | None = None
    addresses: AddressSet | None = None


ALL = Chosen()
Touching = tuple[Chosen, Chosen]
"""Pairs of ends: every one of some senders with every one of some receivers."""


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


def within(chosen: Chosen, addresses: AddressSet | None) -> Chosen:
    """Those of some ends that have an address among some others as well."""
    if addresses is None or chosen.addresses is None:
        return Chosen(chosen.names, chosen.addresses if addresses is None else addresses)
    return Chosen(chosen.names, chosen.addresses & addresses)


class Way:
    """What packets between other ends may pass."""

    def __init__(self, old: Ends, new: Ends) -> None:
        self._halfway = frozenset(name for ends in (old, new) for name in _on_the_way(ends.topology))
        topology = new.topology  # the outsides and networks of both
        self._outer = {each.zone for each in topology.outsides.values()}
        networks = topology.networks.values()
        six = (block for each in networks for block in each.blocks if block.family == 6)
        public = (block for each in networks for block in each.public)
        self._untranslated = AddressSet.of_prefixes([*six, *public])

    def has(self, names: Iterable[str]) -> bool:
        """Whether any of some names lies on the way of others: that of a next hop, of its subnet or its zone."""
        return not self._halfway.isdisjoint(names)

    def in_zone(self, zone: str) -> Iterator[Chosen]:
        """The ends between which packets are in a zone: those that lie in it, and whoever sends through it."""
        if self.has([f"zone:{zone}"]):
            yield ALL
            return
        yield Chosen(frozenset((f"zone:{zone}",)))
        if zone in self._outer and self._untranslated:  # global addresses of two networks meet there
            yield Chosen(None, self._untranslated)

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


def carriers_of(ends: Ends, changed: frozenset[str]) -> Iterator[str]:
    """What carries any of some filters, crossings left out."""
    topology = ends.topology
    for name in changed & set(topology.filters):
        yield from (each.instance for each in ends.walker.membership.carriers(name))
    for instance in topology.instances.values():
        if isinstance(instance.host_filter, str) and instance.host_filter in changed:
            yield instance.name
    yield from (each.name for each in topology.subnets.values() if each.filter in changed)
    yield from (each.name for each in topology.outsides.values() if each.filter in changed)


def crossings_of(versions: Sequence[Ends], changed: frozenset[str]) -> dict[tuple[str, str], None]:
    """The pairs of zones between which any of some filters judges, in any version."""
    return {(each.source, each.destination): None for ends in versions for each in ends.topology.crossings
            if each.filter in changed}  # fmt: skip
