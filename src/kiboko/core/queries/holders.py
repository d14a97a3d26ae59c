"""The smallest name that holds some machines: what many ends are called for a person."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from functools import cached_property

from kiboko.core.walk.walk import Walker


class Holders:
    """The groups, subnets, zones and networks of one network, each with the instances that it holds."""

    def __init__(self, walker: Walker) -> None:
        self._walker = walker

    @cached_property
    def _held(self) -> dict[str, Collection[str]]:
        """For each name that holds instances, those that it holds."""
        walker, topology = self._walker, self._walker.topology
        held: dict[str, Collection[str]] = {name: walker.membership.group_instances(name) for name in topology.groups}
        by_place: dict[str, set[str]] = {}
        of_subnet: dict[str, set[str]] = {}
        for interface in walker.directory.interfaces():
            of_subnet.setdefault(interface.subnet, set()).add(interface.instance)
        for name, instances in of_subnet.items():
            subnet = topology.subnets[name]
            for holder in (name, f"zone {subnet.zone}" if subnet.zone else "", f"network {subnet.network}"):
                if holder:
                    by_place.setdefault(holder, set()).update(instances)
        return held | by_place

    @cached_property
    def _machines(self) -> dict[str, str]:
        """The instances of what is called by an address of its own."""
        directory = self._walker.directory
        return {directory.end_name(each): interface.instance
                for interface in directory.interfaces() for each in interface.addresses}  # fmt: skip

    def whole(self, names: set[str]) -> str | None:
        """The name of a group or subnet that holds just these instances, all of them; None where there is none."""
        names = self._of_machines(names)
        whole = [name for name, size in self._shared(names).items() if size == len(names)]
        named = sorted(each for each in whole if not each.startswith(("zone ", "network ")))
        return named[0] if named and len(names) > 1 else None

    def holding(self, names: set[str], noun: str = "ends") -> str:
        """The smallest name that holds all of some, and how many of its own they are; the name itself where it is one.
        Without any such name, how many they are, of what."""
        if len(names) == 1:
            return next(iter(names))
        names = self._of_machines(names)
        if len(names) == 1:
            return next(iter(names))
        sizes = self._shared(names)
        if not sizes:
            return f"{len(names):,} {noun}"
        # Of names that hold as many, a group or subnet tells more than a zone, and that more than a network.
        smallest = min(
            sizes, key=lambda name: (sizes[name], name.startswith("network "), name.startswith("zone "), name)
        )
        return f"{smallest} ({len(names):,} of {sizes[smallest]:,})"

    def _shared(self, names: Iterable[str]) -> dict[str, int]:
        """The names that hold every one of some machines, with how many machines each of them holds."""
        held = self._held
        shared: Iterable[str] = held
        for name in names:
            shared = [holder for holder in shared if name in held[holder]]
            if not shared:
                break
        return {holder: len(held[holder]) for holder in shared}

    def _of_machines(self, names: set[str]) -> set[str]:
        """Names with machines in the place of their interfaces and addresses."""
        return {self._machine(name) for name in names}

    def _machine(self, name: str) -> str:
        topology = self._walker.topology
        if name in topology.instances or name in topology.outsides:
            return name
        interface = self._walker.directory.interface(name)
        return interface.instance if interface is not None else self._machines.get(name, name)
