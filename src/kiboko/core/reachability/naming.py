"""The fewest names for many ends: groups, subnets, zones and networks that lie within them whole, then one by one."""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from kiboko.core.header.addresses import Address, AddressSet, range_text
from kiboko.core.header.nesting import Nesting
from kiboko.core.header.ranges import RangeSet
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.members import Member


@dataclass(frozen=True, slots=True)
class Name:
    """A name that stands for some ends: `count` of them, instances where `is_instances`, else addresses."""

    text: str
    count: int
    is_instances: bool = True


class Namer:
    """Names ends of one network."""

    def __init__(self, ends: Ends) -> None:
        topology, directory = ends.topology, ends.directory
        held: dict[str, set[str]] = {}
        for name in topology.groups:
            members = ends.resolve(name).members
            if all(each.name in topology.instances for each in members):  # no single interface, no address
                held[name] = {each.name for each in members} - set(directory.without_address)
        recorded: dict[str, list[Address]] = {name: [] for name in topology.subnets}
        for interface in directory.interfaces():
            if not interface.addresses:
                continue
            subnet = topology.subnets[interface.subnet]
            recorded[subnet.name] += interface.addresses
            for holder in (f"subnet {subnet.name}", f"zone {subnet.zone}" if subnet.zone else "",
                           f"network {subnet.network}"):  # fmt: skip
                if holder:
                    held.setdefault(holder, set()).add(interface.instance)
        held["every instance"] = set(topology.instances) - set(directory.without_address)
        # A shorter word for the same machines comes first: a group before a place, a small place before a large one.
        self._held = {holder: frozenset(names) for holder, names in held.items() if len(names) > 1}
        self._free = {
            name: AddressSet.of_prefixes(subnet.blocks)
            - directory.undeliverable
            - AddressSet.of_addresses(recorded[name])
            for name, subnet in topology.subnets.items()
        }
        ours = AddressSet.of_addresses(directory.public_addresses()) | directory.network_blocks
        self._outside = {
            name: directory.outside_addresses(name) - ours - directory.undeliverable for name in topology.outsides
        }
        # Of an outside within which others lie, what is its own: the longest prefix tells whose an address is (S2).
        nesting = Nesting(self._outside)
        self._rest = {name: nesting.own(name) for name in self._outside}

    def names(self, members: Iterable[Member]) -> list[Name]:
        """The fewest names for some ends that a greedy choice finds, each exact; the largest first."""
        listed = list(members)
        instances = list(dict.fromkeys(each.name for each in listed if each.low is None))
        whose = {each.name: f"{each.name} ({each.instance})" for each in listed
                 if each.is_literal or (each.is_further and "/" not in each.name)}  # fmt: skip
        found = [each if each.text not in whose else Name(whose[each.text], 1) for each in self._instances(instances)]
        return found + self._addresses([each for each in listed if each.low is not None])

    def _instances(self, names: Sequence[str]) -> list[Name]:
        wanted = set(names)
        left = set(names)
        usable = [(holder, held) for holder, held in self._held.items() if held <= wanted]
        # By how much each would name at most, the most first: as more is named it can only become less.
        most = [(-len(held), place) for place, (_, held) in enumerate(usable)]
        heapq.heapify(most)
        found: list[Name] = []
        while most and len(left) > 1:
            bound, place = most[0]
            holder, held = usable[place]
            more = len(held & left)
            if more < -bound:
                heapq.heapreplace(most, (-more, place))
                continue
            if more < 2:
                break
            heapq.heappop(most)
            found.append(Name(f"every instance of {holder}" if " " in holder and holder != "every instance" else holder,
                              len(held)))  # fmt: skip
            left -= held
        return found + [Name(name, 1) for name in names if name in left]

    def _addresses(self, members: Sequence[Member]) -> list[Name]:
        if not members:
            return []
        ranges: dict[int, list[tuple[int, int]]] = {4: [], 6: []}
        for each in members:
            if each.low is not None and each.high is not None:
                ranges[each.low.family].append((each.low.value, each.high.value))
        left = {family: RangeSet.of(each) for family, each in ranges.items()}
        found: list[Name] = []
        for family in (4, 6):
            for said, sets in (("{}", self._outside), ("the rest of {}", self._rest),
                               ("the other addresses of {}", self._free)):  # fmt: skip
                for name, whole in sets.items() if left[family] else ():
                    part = whole.family(family)
                    if part and part <= left[family]:
                        found.append(Name(said.format(name) + (" (IPv6)" if family == 6 else ""), part.size, False))
                        left[family] -= part
        for family in (4, 6):
            found += [Name(range_text(family, low, high), high - low + 1, False) for low, high in left[family]]
        return found
