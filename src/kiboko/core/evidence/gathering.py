"""Many findings brought together for a person: by the rule that decides and the smallest names that hold their ends."""

from __future__ import annotations

from collections.abc import Collection, Iterable
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
        whole = [name for name, size in self._shared(names).items() if size == len(names)]
        named = sorted(each for each in whole if not each.startswith(("zone ", "network ")))
        return named[0] if named and len(names) > 1 else None

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

    def holding(self, names: set[str]) -> str:
        """The smallest name that holds all of some, and how many of its own they are; the name itself where it is one.
        Without any such name, how many they are."""
        if len(names) == 1:
            return next(iter(names))
        names = self._of_machines(names)
        if len(names) == 1:
            return next(iter(names))
        sizes = self._shared(names)
        if not sizes:
            return f"{len(names):,} ends"
        # Of names that hold as many, a group or subnet tells more than a zone, and that more than a network.
        smallest = min(
            sizes, key=lambda name: (sizes[name], name.startswith("network "), name.startswith("zone "), name)
        )
        return f"{smallest} ({len(names):,} of {sizes[smallest]:,})"
