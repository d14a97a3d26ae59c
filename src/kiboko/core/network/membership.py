"""What a peer means in addresses, which filters an interface carries, and who is in a group (S14 to S16)."""

from __future__ import annotations

import functools
from collections.abc import Iterator

from kiboko.core.header.addresses import EVERY_ADDRESS, AddressSet
from kiboko.core.network.directory import Directory
from kiboko.core.network.model import Filter, Group, Instance, Interface, Topology
from kiboko.core.network.peers import AllBut, Carrying, Literal, Peer, PeerItem, names_in
from kiboko.core.network.tag_slips import TagSlips


class Membership:
    """Groups, peers and attachments of one topology, each worked out once when first asked for."""

    def __init__(self, directory: Directory) -> None:
        self.directory = directory
        self.topology = directory.topology
        self._names: dict[str, AddressSet] = {}
        self._peers: dict[Peer, AddressSet] = {}
        self._carried: dict[str, AddressSet] = {}
        self._attached: dict[str, frozenset[str]] = {}
        self._carriers: dict[str, list[Interface]] | None = None
        self._groups: dict[str, dict[str, Instance]] = {}
        self._nearly: dict[str, dict[str, str]] = {}
        self._tagged: dict[tuple[str, str], dict[str, None]] | None = None
        self._reaching = [f for f in self.topology.filters.values() if f.attach_to]

    def of_changed(self, directory: Directory) -> Membership:
        """The memberships of a changed topology, which share with these what the change leaves as it is."""
        made = Membership(directory)
        own, topology = self.topology, directory.topology
        parts = ("instances", "groups", "subnets", "networks", "outsides")
        if all(getattr(own, part) is getattr(topology, part) for part in parts):
            made._names, made._groups, made._tagged = self._names, self._groups, self._with_every_tag()
            made._nearly = self._nearly
            if _attachments(own) == _attachments(topology):
                made._peers, made._carried, made._attached = self._peers, self._carried, self._attached
                made._carriers = self._carriers
        return made

    def nearly_in(self, group: Group) -> dict[str, str]:
        """The instances that are not in a group and look as though they should be, by a tag that looks like a slip:
        each with what keeps it out."""
        if group.name not in self._nearly:
            inside = self.group_instances(group.name)
            found = {each.name: why for each, why in self._slips.of_group(group) if each.name not in inside}
            self._nearly[group.name] = found
        return self._nearly[group.name]

    @functools.cached_property
    def _slips(self) -> TagSlips:
        return TagSlips(self.topology)

    def shares_peers(self, other: Membership) -> bool:
        """Whether every peer means the same addresses in both."""
        return self._peers is other._peers

    def peer_addresses(self, peer: Peer | None) -> AddressSet | None:
        """The addresses that a rule's `from` or `to` matches; None where it matches anything."""
        if peer is None:
            return None
        found = self._peers.get(peer)
        if found is None:
            found = AddressSet.union(self._item_addresses(item) for item in peer)
            self._peers[peer] = found
        return found

    def _item_addresses(self, item: PeerItem) -> AddressSet:
        if isinstance(item, Literal):
            return item.addresses
        if isinstance(item, AllBut):
            within, without = (self.peer_addresses(each) for each in (item.within, item.without))
            return (EVERY_ADDRESS if within is None else within) - (without or AddressSet())
        if isinstance(item, Carrying):
            return self.carrier_addresses(item.filter)
        return self.name_addresses(item.name)

    def name_addresses(self, name: str) -> AddressSet:
        """The private addresses of an instance or interface, a subnet's or network's blocks, an outside's
        listed addresses, a group's members; never a public address of ours (clause S16)."""
        found = self._names.get(name)
        if found is None:
            found = self._names[name] = self._look_up(name)
        return found

    def _look_up(self, name: str) -> AddressSet:
        topology = self.topology
        if name in topology.instances:
            interfaces = topology.instances[name].interfaces
            return AddressSet.of_addresses(a for each in interfaces for a in each.addresses)
        if name in topology.groups:
            group = topology.groups[name]
            machines, others = [], [group.addresses]
            for member in self.group_members(group):
                if member in topology.instances:
                    machines.append(topology.instances[member])
                else:
                    others.append(self.name_addresses(member))
            addresses = (a for machine in machines for each in machine.interfaces for a in each.addresses)
            return AddressSet.union([AddressSet.of_addresses(addresses), *others])
        if name in topology.subnets:
            return AddressSet.of_prefixes(topology.subnets[name].blocks)
        if name in topology.networks:
            return AddressSet.of_prefixes(topology.networks[name].blocks)
        if name in topology.outsides:
            return AddressSet.of_prefixes(topology.outsides[name].prefixes)
        interface = self.directory.interface(name)
        return AddressSet.of_addresses(interface.addresses) if interface else AddressSet()

    def group_members(self, group: Group) -> Iterator[str]:
        """The names directly in a group: its listed members, then the instances whose tags match."""
        yield from group.members
        if group.where is not None:
            listed = set(group.members)
            yield from (name for name in self._with_tags(group.where) if name not in listed)

    def _with_tags(self, where: tuple[tuple[str, tuple[str, ...]], ...]) -> list[str]:
        """The instances that have every tag asked for, in file order."""
        (key, values), *others = where
        tagged = self._with_every_tag()
        found = [name for value in values for name in tagged.get((key, value), ())]
        instances = self.topology.instances
        found = [n for n in found if all(instances[n].tags.get(other) in wanted for other, wanted in others)]
        if len(values) == 1:
            return found
        chosen = set(found)
        return [name for name in instances if name in chosen]

    def _with_every_tag(self) -> dict[tuple[str, str], dict[str, None]]:
        """For each tag the instances that have it."""
        if self._tagged is None:
            self._tagged = {}
            for instance in self.topology.instances.values():
                for tag in instance.tags.items():
                    self._tagged.setdefault(tag, {})[instance.name] = None
        return self._tagged

    def group_instances(self, name: str) -> dict[str, Instance]:
        """All instances that a name stands for: itself, or every member of a group at any depth."""
        topology = self.topology
        if name in topology.instances:
            return {name: topology.instances[name]}
        if name in topology.groups:
            if name not in self._groups:
                found: dict[str, Instance] = {}
                for member in self.group_members(topology.groups[name]):
                    found.update(self.group_instances(member))
                self._groups[name] = found
            return self._groups[name]
        interface = self.directory.interface(name)
        return {interface.instance: topology.instances[interface.instance]} if interface else {}

    def without_address(self, peer: Peer | None) -> list[tuple[str, str]]:
        """The `(group, instance)` pairs in a peer whose instance has no address and so adds nothing."""
        bare = self.directory.without_address
        if not bare:
            return []
        return [
            (group, name)
            for group in names_in(peer)
            if group in self.topology.groups
            for name in bare
            if name in self.group_instances(group)
        ]

    def _attached_instances(self, name: str) -> frozenset[str]:
        """The instances that a filter's `attach_to` reaches, less those that `exempt` names."""
        found = self._attached.get(name)
        if found is None:
            chosen = self.topology.filters[name]
            reached: set[str] = set()
            for target in chosen.attach_to:
                reached.update(self.topology.instances if target == "all" else self.group_instances(target))
            for target in chosen.exempt:
                reached.difference_update(self.group_instances(target))
            found = self._attached[name] = frozenset(reached)
        return found

    def filters_on(self, interface: Interface) -> list[Filter]:
        """The filters of an interface in the order they are asked: its own, then those that attach to it."""
        return [self.topology.filters[name] for name in self.filter_names_on(interface)]

    def filter_names_on(self, interface: Interface) -> tuple[str, ...]:
        """The names of the filters of an interface, in the same order."""
        names = interface.filters
        for each in self._reaching:
            if each.name not in names and interface.instance in self._attached_instances(each.name):
                names = (*names, each.name)
        return names

    def carriers(self, filter_name: str) -> list[Interface]:
        """Every interface that carries a filter, stopped instances included (clause S15)."""
        if self._carriers is None:
            self._carriers = {}
            for interface in self.directory.interfaces():
                for each in self.filters_on(interface):
                    self._carriers.setdefault(each.name, []).append(interface)
        return self._carriers.get(filter_name, [])

    def carrier_addresses(self, filter_name: str) -> AddressSet:
        """The addresses of every interface that carries a filter."""
        found = self._carried.get(filter_name)
        if found is None:
            found = AddressSet.of_addresses(a for i in self.carriers(filter_name) for a in i.addresses)
            self._carried[filter_name] = found
        return found


def _attachments(topology: Topology) -> dict[str, tuple[tuple[str, ...], tuple[str, ...]]]:
    """What every filter attaches itself to, by name."""
    return {each.name: (each.attach_to, each.exempt) for each in topology.filters.values()}
