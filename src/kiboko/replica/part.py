"""What of a network is built: the machines that take part, and whatever their packets may pass."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass

from kiboko.core.errors import UsageError
from kiboko.core.network.model import Instance, Subnet, Topology

MOST_MACHINES = 2500
"""Namespaces of one replica: instances, subnet routers, gateways and outsides."""
_MOST_PORTS = 1000
"""Interfaces of one subnet: the kernel's bridge has ports for 1,023."""


@dataclass(frozen=True, slots=True)
class Part:
    """The instances and subnets that are built, by name; gateways and outsides all are. Rules keep their meaning: a
    group's addresses are those of all its members, built or not."""

    instances: frozenset[str]
    subnets: frozenset[str]

    def instances_of(self, topology: Topology) -> list[Instance]:
        """The instances that are built, in file order."""
        return [each for name, each in topology.instances.items() if name in self.instances]

    def subnets_of(self, topology: Topology) -> list[Subnet]:
        """The subnets that are built, in file order."""
        return [each for name, each in topology.subnets.items() if name in self.subnets]


def whole(topology: Topology) -> Part:
    """All of a network."""
    return Part(frozenset(topology.instances), frozenset(topology.subnets))


def part_for(topology: Topology, names: Iterable[str]) -> Part:
    """What is needed between some instances (names of anything else are passed over): their subnets, the instances
    that the route tables there lead to, and what these need in turn."""
    instances: set[str] = set()
    subnets: set[str] = set()
    waiting = [name for name in names if name in topology.instances]
    while waiting:
        name = waiting.pop()
        if name in instances:
            continue
        instances.add(name)
        for subnet in {interface.subnet for interface in topology.instances[name].interfaces} - subnets:
            subnets.add(subnet)
            table = topology.subnets[subnet].route_table
            entries = topology.route_tables[table].entries if table is not None else ()
            waiting += [entry.instance for entry in entries if entry.instance is not None]
    return Part(frozenset(instances), frozenset(subnets))


def check_size(topology: Topology, part: Part, advice: str) -> None:
    """Refuse what one kernel cannot hold. Raises UsageError with an advice."""
    machines = len(part.instances) + len(part.subnets) + len(topology.gateways) + len(topology.outsides)
    if machines > MOST_MACHINES:
        raise UsageError(f"{machines:,} machines to build, more than the {MOST_MACHINES:,} of one replica; {advice}")
    ports = Counter(each.subnet for instance in part.instances_of(topology) for each in instance.interfaces)
    for subnet, number in ports.items():
        if number > _MOST_PORTS:
            raise UsageError(
                f"{number:,} interfaces to build in subnet {subnet}, more than the {_MOST_PORTS:,} of one; {advice}"
            )
