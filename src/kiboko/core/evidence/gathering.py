"""Many findings brought together for a person: by the rule that decides and the smallest names that hold their ends."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from kiboko.core.evidence.summary import FindingGroup, services_met
from kiboko.core.walk.walk import Walker


@dataclass(frozen=True, slots=True)
class Gathered:
    """Findings of one conclusion: the pairs and services that it was met at, the largest first, and what their senders
    and receivers have in common."""

    groups: tuple[FindingGroup, ...]
    source: str
    destination: str
    services: tuple[str, ...]

    @property
    def records(self) -> int:
        """How many records there are of it."""
        return sum(group.count for group in self.groups)

    @property
    def packets(self) -> int:
        """Their packets."""
        return sum(group.packets for group in self.groups)

    @property
    def octets(self) -> int:
        """Their octets."""
        return sum(group.octets for group in self.groups)

    @property
    def latest(self) -> int:
        """When the last of them ended, in milliseconds since 1970."""
        return max(group.latest for group in self.groups)


class Gatherer:
    """Brings findings together over one network."""

    def __init__(self, walker: Walker) -> None:
        self._holders: dict[str, dict[str, int]] = {}
        """For each instance the names that hold it, with how many instances each of them holds."""
        topology = walker.topology
        held: dict[str, set[str]] = {}
        for name in topology.groups:
            held[name] = set(walker.membership.group_instances(name))
        for interface in walker.directory.interfaces():
            subnet = topology.subnets[interface.subnet]
            for holder in (subnet.name, f"zone {subnet.zone}" if subnet.zone else "", f"network {subnet.network}"):
                if holder:
                    held.setdefault(holder, set()).add(interface.instance)
        for holder, instances in held.items():
            for instance in instances:
                self._holders.setdefault(instance, {})[holder] = len(instances)

    def gathered(self, groups: Iterable[FindingGroup]) -> list[Gathered]:
        """The findings by conclusion, those of most records first; of as many, the newest."""
        # Conclusions are compared as a whole once for each object: most groups share theirs.
        alike_of: dict[tuple[str, int], list[FindingGroup]] = {}
        for group in groups:
            alike_of.setdefault((group.evidence, id(group.concluded)), []).append(group)
        by_conclusion: dict[tuple[object, ...], list[FindingGroup]] = {}
        for (evidence, _), some in alike_of.items():
            by_conclusion.setdefault((evidence, some[0].concluded), []).extend(some)
        found = []
        for alike in by_conclusion.values():
            alike.sort(key=lambda group: -group.count)
            by_number: dict[tuple[int, int] | str, int] = {}
            for group in alike:
                number = group.met or group.service
                by_number[number] = by_number.get(number, 0) + group.count
            services: dict[str, int] = {}
            for number, count in by_number.items():
                text = number if isinstance(number, str) else services_met(number)
                services[text] = services.get(text, 0) + count
            found.append(Gathered(
                tuple(alike), self.holding({group.source for group in alike}),
                self.holding({group.destination for group in alike}),
                tuple(sorted(services, key=lambda text: -services[text])),
            ))  # fmt: skip
        found.sort(key=lambda each: (-each.records, -each.latest))
        return found

    def whole(self, names: set[str]) -> str | None:
        """The name of a group or subnet that holds just these instances, all of them; None where there is none."""
        shared: set[str] | None = None
        for name in names:
            mine = {holder for holder, size in self._holders.get(name, {}).items() if size == len(names)}
            shared = mine if shared is None else shared & mine
        named = sorted(each for each in shared or () if not each.startswith(("zone ", "network ")))
        return named[0] if named and len(names) > 1 else None

    def holding(self, names: set[str]) -> str:
        """The smallest name that holds all of some, and how many of its own they are; the name itself where it is one.
        Without any such name, how many they are."""
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
