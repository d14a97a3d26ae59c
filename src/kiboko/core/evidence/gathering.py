"""Many findings brought together for a person: by the rule that decides and the smallest names that hold their ends."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from kiboko.core.evidence.finding_rows import FindingRows
from kiboko.core.records.columns import distinct, numbered
from kiboko.core.walk.walk import Walker


@dataclass(frozen=True)
class Gathered:
    """Findings of one conclusion: the pairs and services that it was met at, the largest first. What they have in
    common is worked out when it is asked for: of very many, few are shown."""

    groups: FindingRows
    by: Gatherer

    @cached_property
    def source(self) -> str:
        """What the senders have in common."""
        return self.by.holding(self.groups.names("source"))

    @cached_property
    def destination(self) -> str:
        """What the receivers have in common."""
        return self.by.holding(self.groups.names("destination"))

    @cached_property
    def services(self) -> tuple[str, ...]:
        """The services, those of most records first."""
        numbers, which = numbered(self.groups.column("service"))
        counts = np.zeros(len(numbers), dtype=np.int64)
        np.add.at(counts, which, self.groups.column("count"))
        ordered = numbers[np.argsort(-counts, kind="stable")].tolist()
        return tuple(self.groups.table.services[number] for number in ordered)

    @property
    def records(self) -> int:
        """How many records there are of it."""
        return self.groups.total("count")

    @property
    def packets(self) -> int:
        """Their packets."""
        return self.groups.total("packets")

    @property
    def octets(self) -> int:
        """Their octets."""
        return self.groups.total("octets")

    @property
    def latest(self) -> int:
        """When the last of them ended, in milliseconds since 1970."""
        return int(self.groups.column("latest").max())


class Gatherer:
    """Brings findings together over one network."""

    def __init__(self, walker: Walker) -> None:
        self._holders: dict[str, dict[str, int]] = {}
        """For each instance the names that hold it, with how many instances each of them holds."""
        self._machines: dict[str, str] = {}
        """The instances of what is called by an interface or an address of its own."""
        topology = walker.topology
        held: dict[str, set[str]] = {}
        for name in topology.groups:
            held[name] = set(walker.membership.group_instances(name))
        for interface in walker.directory.interfaces():
            subnet = topology.subnets[interface.subnet]
            names = (walker.directory.end_name(each) for each in interface.addresses)
            self._machines.update((name, interface.instance) for name in names if name != interface.instance)
            for holder in (subnet.name, f"zone {subnet.zone}" if subnet.zone else "", f"network {subnet.network}"):
                if holder:
                    held.setdefault(holder, set()).add(interface.instance)
        for holder, instances in held.items():
            for instance in instances:
                self._holders.setdefault(instance, {})[holder] = len(instances)

    def gathered(self, rows: FindingRows) -> list[Gathered]:
        """The findings by conclusion, those of most records first; of as many, the newest."""
        if not len(rows):
            return []
        kinds = distinct(rows.column("told"), rows.column("is_flow"))
        order = np.argsort(kinds.codes, kind="stable")
        found = []
        for places in np.split(order, np.cumsum(kinds.counts())[:-1]):
            alike = rows.taken(places)
            found.append(Gathered(alike.taken(np.argsort(-alike.column("count"), kind="stable")), self))
        found.sort(key=lambda each: (-each.records, -each.latest))
        return found

    def whole(self, names: set[str]) -> str | None:
        """The name of a group or subnet that holds just these instances, all of them; None where there is none."""
        names = self._of_machines(names)
        shared: set[str] | None = None
        for name in names:
            mine = {holder for holder, size in self._holders.get(name, {}).items() if size == len(names)}
            shared = mine if shared is None else shared & mine
        named = sorted(each for each in shared or () if not each.startswith(("zone ", "network ")))
        return named[0] if named and len(names) > 1 else None

    def _of_machines(self, names: set[str]) -> set[str]:
        """Names with machines in the place of their interfaces and addresses."""
        return {self._machines.get(name, name) for name in names}

    def holding(self, names: set[str]) -> str:
        """The smallest name that holds all of some, and how many of its own they are; the name itself where it is one.
        Without any such name, how many they are."""
        if len(names) == 1:
            return next(iter(names))
        names = self._of_machines(names)
        if len(names) == 1:
            return next(iter(names))
        shared: dict[str, int] | None = None
        for name in names:
            mine = self._holders.get(name, {})
            shared = mine if shared is None else {holder: shared[holder] for holder in shared if holder in mine}
            if not shared:
                return f"{len(names):,} ends"
        sizes = shared or {}
        # Of names that hold as many, a group or subnet tells more than a zone, and that more than a network.
        smallest = min(
            sizes, key=lambda name: (sizes[name], name.startswith("network "), name.startswith("zone "), name)
        )
        return f"{smallest} ({len(names):,} of {sizes[smallest]:,})"
