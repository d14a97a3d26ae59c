"""Appliances on the way: by which interface a packet enters one, and by which it leaves (clause S30)."""

from __future__ import annotations

from kiboko.core.header.addresses import Address
from kiboko.core.network.directory import Directory
from kiboko.core.network.model import Instance, Interface, RouteEntry
from kiboko.core.routing.routes import Router


def next_hop(directory: Directory, entry: RouteEntry, destination: Address) -> Interface | None:
    """The interface by which a route entry enters an appliance: the one it names, else the first of the family."""
    instance = directory.topology.instances[entry.instance or ""]
    if entry.interface:
        return directory.interface(entry.interface)
    with_family = (i for i in instance.interfaces if i.address(destination.family) is not None)
    return next(with_family, instance.interfaces[0] if instance.interfaces else None)


def exit_interface(
    router: Router, directory: Directory, instance: Instance, destination: Address
) -> Interface | None:  # fmt: skip
    """By which an appliance sends a packet on: where every way leads back to it by the first, which is a loop. None
    where it has no address of the family."""
    subnets = directory.topology.subnets
    family = destination.family
    candidates = [i for i in instance.interfaces if i.address(family) is not None]
    for interface in candidates:
        if destination in subnets[interface.subnet]:
            return interface
    for interface in candidates:
        entry = router.look_up(subnets[interface.subnet], destination).entry
        if entry is None or entry.instance != instance.name:
            return interface
    return next(iter(candidates), None)
