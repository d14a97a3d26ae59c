"""What names mean in addresses, worked out from the model alone (S14 to S16); the walk has its own room for it."""

from __future__ import annotations

from kiboko.core.header.addresses import AddressSet
from kiboko.core.network.model import Carrying, Interface, Literal, Peer, Topology


def all_interfaces(topology: Topology) -> list[Interface]:
    """Every interface of every instance."""
    return [interface for instance in topology.instances.values() for interface in instance.interfaces]


def named(topology: Topology, name: str) -> AddressSet:
    """The addresses that a peer's name stands for."""
    if name in topology.groups:
        return _group(topology, name)
    if name in topology.instances:
        return _of_interfaces(topology.instances[name].interfaces)
    for section in (topology.subnets, topology.networks):
        if name in section:
            return AddressSet.of_prefixes(section[name].blocks)
    if name in topology.outsides:
        return AddressSet.of_prefixes(topology.outsides[name].prefixes)
    return _of_interfaces([each for each in all_interfaces(topology) if each.name == name])


def _of_interfaces(interfaces: object) -> AddressSet:
    return AddressSet.of_addresses(address for each in interfaces for address in each.addresses)  # type: ignore[attr-defined]


def _group(topology: Topology, name: str) -> AddressSet:
    group = topology.groups[name]
    found = group.addresses
    for member in group.members:
        found = found | named(topology, member)
    if group.where is not None:
        for instance in topology.instances.values():
            if all(instance.tags.get(key) in values for key, values in group.where):
                found = found | _of_interfaces(instance.interfaces)
    return found


def instances_of(topology: Topology, name: str) -> set[str]:
    """The instances that an `attach_to` or `exempt` entry names."""
    if name == "all":
        return set(topology.instances)
    if name in topology.instances:
        return {name}
    if name in topology.groups:
        group = topology.groups[name]
        found = {member for each in group.members for member in instances_of(topology, each)}
        if group.where is not None:
            for instance in topology.instances.values():
                if all(instance.tags.get(key) in values for key, values in group.where):
                    found.add(instance.name)
        return found
    return {each.instance for each in all_interfaces(topology) if each.name == name}


def filters_of(topology: Topology, interface: Interface) -> list[str]:
    """The filters of an interface: its own in order, then those that attach to its instance in file order."""
    found = list(interface.filters)
    for each in topology.filters.values():
        reached = {name for target in each.attach_to for name in instances_of(topology, target)}
        reached -= {name for target in each.exempt for name in instances_of(topology, target)}
        if interface.instance in reached and each.name not in found:
            found.append(each.name)
    return found


def peer_addresses(topology: Topology, peer: Peer | None) -> AddressSet | None:
    """The addresses of a rule's `from` or `to`; None for any."""
    if peer is None:
        return None
    found = AddressSet()
    for item in peer:
        if isinstance(item, Literal):
            found = found | item.addresses
        elif isinstance(item, Carrying):
            carriers = [each for each in all_interfaces(topology) if item.filter in filters_of(topology, each)]
            found = found | _of_interfaces(carriers)
        else:
            found = found | named(topology, item.name)
    return found
