"""What names mean in addresses, worked out from the model alone (S14 to S16); the walk has its own room for it."""

from __future__ import annotations

import functools
from collections.abc import Iterable, Iterator

from kiboko.core.header.addresses import AddressSet, Prefix
from kiboko.core.network.model import Group, Instance, Interface, Topology
from kiboko.core.network.peers import AllBut, Carrying, Literal, Peer


class Peers:
    """What the names of one topology stand for, each worked out once."""

    def __init__(self, topology: Topology) -> None:
        self.topology = topology
        self.addresses = functools.cache(self._addresses)
        """The addresses that a name stands for."""

    def of(self, peer: Peer | None) -> AddressSet | None:
        """The addresses of a rule's `from` or `to`; None for any."""
        if peer is None:
            return None
        return AddressSet.union(self._of_item(item) for item in peer)

    def filters_of(self, interface: Interface) -> list[str]:
        """The filters of an interface: its own in order, then those that attach to its instance in file order."""
        attached = self._attached.get(interface.instance, [])
        return [*interface.filters, *(name for name in attached if name not in interface.filters)]

    @functools.cached_property
    def interfaces(self) -> list[Interface]:
        """Every interface of every instance."""
        return [interface for instance in self.topology.instances.values() for interface in instance.interfaces]

    @functools.cached_property
    def _by_name(self) -> dict[str, Interface]:
        return {interface.name: interface for interface in self.interfaces}

    @functools.cached_property
    def _attached(self) -> dict[str, list[str]]:
        """The filters that attach themselves to each instance, in file order."""
        found: dict[str, list[str]] = {}
        for each in self.topology.filters.values():
            spared = {name for target in each.exempt for name in self._instances_of(target)}
            for name in dict.fromkeys(name for target in each.attach_to for name in self._instances_of(target)):
                if name not in spared:
                    found.setdefault(name, []).append(each.name)
        return found

    @functools.cached_property
    def _carriers(self) -> dict[str, list[Interface]]:
        found: dict[str, list[Interface]] = {}
        for interface in self.interfaces:
            for name in self.filters_of(interface):
                found.setdefault(name, []).append(interface)
        return found

    @functools.cached_property
    def _tagged(self) -> dict[tuple[str, str], list[Instance]]:
        """The instances that bear a tag with a value."""
        found: dict[tuple[str, str], list[Instance]] = {}
        for instance in self.topology.instances.values():
            for tag in instance.tags.items():
                found.setdefault(tag, []).append(instance)
        return found

    def _of_item(self, item: object) -> AddressSet:
        if isinstance(item, Literal):
            return item.addresses
        if isinstance(item, Carrying):
            return _borne(self._carriers.get(item.filter, ()))
        if isinstance(item, AllBut):
            every = AddressSet.of_prefixes([Prefix(4, 0, 0), Prefix(6, 0, 0)])
            left = every if item.within is None else AddressSet.union(map(self._of_item, item.within))
            return left - AddressSet.union(map(self._of_item, item.without))
        return self.addresses(item.name)  # type: ignore[attr-defined]

    def _addresses(self, name: str) -> AddressSet:
        topology = self.topology
        if name in topology.groups:
            group = topology.groups[name]
            members = [self.addresses(member) for member in group.members]
            tagged = [_borne(instance.interfaces) for instance in self._with_all_tags(group)]
            return AddressSet.union([group.addresses, *members, *tagged])
        if name in topology.instances:
            return _borne(topology.instances[name].interfaces)
        for section in (topology.subnets, topology.networks):
            if name in section:
                return AddressSet.of_prefixes(section[name].blocks)
        if name in topology.outsides:
            return AddressSet.of_prefixes(topology.outsides[name].prefixes)
        return _borne([self._by_name[name]] if name in self._by_name else ())

    def _instances_of(self, name: str) -> Iterator[str]:
        """The instances that an `attach_to` or `exempt` entry names."""
        topology = self.topology
        if name == "all":
            yield from topology.instances
        elif name in topology.instances:
            yield name
        elif name in topology.groups:
            for member in topology.groups[name].members:
                yield from self._instances_of(member)
            yield from (instance.name for instance in self._with_all_tags(topology.groups[name]))
        elif name in self._by_name:
            yield self._by_name[name].instance

    def _with_all_tags(self, group: Group) -> list[Instance]:
        """The instances that bear every tag of a group's `where`."""
        if group.where is None:
            return []
        if not group.where:
            return list(self.topology.instances.values())
        (key, values), *others = group.where
        return [
            instance
            for value in dict.fromkeys(values)
            for instance in self._tagged.get((key, value), ())
            if all(instance.tags.get(key) in values for key, values in others)
        ]


def _borne(interfaces: Iterable[Interface]) -> AddressSet:
    """The addresses that some interfaces bear."""
    return AddressSet.of_addresses(address for each in interfaces for address in each.addresses)
