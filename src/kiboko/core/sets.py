"""Sets as ends: one row for each distinct outcome, exact, however many ends there are (clause S36).

Members that nothing in the network tells apart form a class; each pair of classes is walked once for each
service atom, by the one walk, and the outcome holds for all their members.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, field

from kiboko.core.addresses import AddressSet
from kiboko.core.atoms import address_atoms, service_cuts, split_services
from kiboko.core.endpoints import End, Ends, Member, Pair, services_for
from kiboko.core.errors import UsageError
from kiboko.core.model import Instance
from kiboko.core.ranges import RangeSet
from kiboko.core.services import Service
from kiboko.core.walk import PARTLY, Walk

_MOST_CAVEATS = 12


@dataclass(slots=True)
class EndClass:
    """Members of one end that are treated alike."""

    members: list[Member] = field(default_factory=list)

    @property
    def count(self) -> int:
        """How many ends the class holds."""
        return sum(member.count for member in self.members)

    def instances(self) -> set[str]:
        """The instances in it."""
        return {member.instance for member in self.members if member.instance is not None}


@dataclass(frozen=True, slots=True)
class Part:
    """A product: every source with every destination on every service."""

    sources: tuple[Member, ...]
    destinations: tuple[Member, ...]
    services: RangeSet
    pairs: int

    def source_texts(self) -> list[str]:
        """The sources: names, then what is left as blocks and ranges."""
        return member_texts(self.sources)

    def destination_texts(self) -> list[str]:
        """The destinations, likewise."""
        return member_texts(self.destinations)


@dataclass(frozen=True, slots=True)
class SetRow:
    """One distinct outcome: the parts that share it, the largest first, and one example."""

    parts: tuple[Part, ...]
    example: Walk
    example_names: tuple[str, str]

    @property
    def pairs(self) -> int:
        """How many pairs of ends have this outcome; a pair counts once for each part it is in."""
        return sum(part.pairs for part in self.parts)


@dataclass(frozen=True, slots=True)
class SetAnswer:
    """All rows, the pairs judged, and the caveats of the examples."""

    rows: tuple[SetRow, ...]
    pairs: int
    walks: int
    caveats: tuple[str, ...]


def member_texts(members: Iterable[Member]) -> list[str]:
    """Members as text: instances by name, addresses merged to blocks and ranges."""
    names = [member.name for member in members if member.low is None]
    ranges: dict[int, list[tuple[int, int]]] = {4: [], 6: []}
    for member in members:
        if member.low is not None and member.high is not None:
            ranges[member.low.family].append((member.low.value, member.high.value))
    return names + AddressSet(RangeSet.of(ranges[4]), RangeSet.of(ranges[6])).texts()


def ask_set(
    ends: Ends, sender: End, receiver: End, services: RangeSet, ports: RangeSet | None, family: int | None
) -> SetAnswer:
    """The rows for two ends of any size and any set of services.

    Raises UsageError where no pair is left: both ends outside, the same single instance, no family in common.
    """
    return _SetQuestion(ends, services, ports, family).answer(sender, receiver)


OutcomeKey = tuple[object, ...]
Cells = dict[int, dict[int, list[tuple[int, int]]]]


class _SetQuestion:
    def __init__(self, ends: Ends, services: RangeSet, ports: RangeSet | None, family: int | None) -> None:
        self.ends = ends
        self.services = services
        self.ports = ports
        self.family = family
        self.atoms = address_atoms(ends.walker.ground)
        self.cuts = service_cuts(ends.walker.ground)
        self.next_hops = {
            entry.instance for table in ends.topology.route_tables.values() for entry in table.entries if entry.instance
        }
        self.walks = 0
        self.left_out_outside = False

    def answer(self, sender: End, receiver: End) -> SetAnswer:
        sources, destinations = self.classes(sender), self.classes(receiver)
        cells: dict[OutcomeKey, Cells] = defaultdict(lambda: defaultdict(lambda: defaultdict(list)))
        examples: dict[OutcomeKey, tuple[Walk, tuple[str, str]]] = {}
        caveats: dict[str, None] = {}
        for i, source in enumerate(sources):
            for j, destination in enumerate(destinations):
                for low, high, walk, names in self.outcomes(source, destination):
                    key = _outcome_key(walk)
                    cells[key][i][j].append((low, high))
                    if key not in examples:
                        examples[key] = (walk, names)
                        caveats.update(dict.fromkeys(walk.caveats))
        if not cells:
            raise UsageError(self.nothing_left(sender, receiver))
        rows = []
        for key, by_source in cells.items():
            parts = sorted(_rectangles(by_source, sources, destinations), key=lambda part: -part.pairs)
            rows.append(SetRow(tuple(parts), *examples[key]))
        rows.sort(key=lambda row: (row.example.verdict == "allowed", -row.pairs))
        told = list(caveats)[:_MOST_CAVEATS]
        if self.left_out_outside:
            told.append("pairs with both ends outside are left out: no gate lies between them")
        judged = sum(_pairs(a, b) for a in sources for b in destinations)
        return SetAnswer(tuple(rows), judged, self.walks, tuple(told))

    def nothing_left(self, sender: End, receiver: End) -> str:
        if self.left_out_outside:
            return f"{sender.text} and {receiver.text} are both outside: no gate of this network lies between them"
        return (
            f"{sender.text} and {receiver.text} make no pair: an end without members, one end alone,"
            " or no address family in common"
        )

    # Classes.

    def classes(self, end: End) -> list[EndClass]:
        found: dict[object, EndClass] = {}
        for member in end.members:
            if member.low is None or member.high is None:
                found.setdefault(self.instance_key(member), EndClass()).members.append(member)
                continue
            if member.count == 1 and not self.ends.is_foreign(member.low):
                found.setdefault(("one", member.low), EndClass()).members.append(member)
                continue
            for first, last, signature in self.atoms.split(member.low, member.high):
                name = str(first) if first == last else f"{first}-{last}"
                piece = Member(name, None, (), first, last)
                key = ("range", first.family, signature, self.belongs(piece))
                found.setdefault(key, EndClass()).members.append(piece)
        return list(found.values())

    def belongs(self, piece: Member) -> object:
        assert piece.low is not None
        end = self.ends.directory.endpoint(piece.low)
        return (end.subnet.name if end.subnet else None, end.network, end.outside.name if end.outside else None)

    def instance_key(self, member: Member) -> object:
        instance = self.ends.topology.instances[member.instance or ""]
        filters_on = self.ends.walker.membership.filters_on
        by_kernel = instance.host_filter is not None and not isinstance(instance.host_filter, str)
        interfaces = tuple(
            (
                interface.subnet,
                tuple(each.name for each in filters_on(interface)),
                tuple((a.family, self.atoms.signature(a)) for a in interface.addresses),
                self.atoms.signature(interface.public) if interface.public else None,
                interface.device if by_kernel else None,
            )
            for interface in member.interfaces
        )
        return (
            interfaces,
            instance.running,
            instance.host_filter if not by_kernel else id(instance.host_filter),
            _listening(instance, member),
            instance.ephemeral_ports,
            instance.name if instance.name in self.next_hops else None,
            len(instance.interfaces) == len(member.interfaces),
            member.is_literal,
        )

    # Walks.

    def outcomes(self, source: EndClass, destination: EndClass) -> Iterable[tuple[int, int, Walk, tuple[str, str]]]:
        """The walk of every service atom between two classes, by one pair that stands for all."""
        chosen = _representatives(source, destination)
        if chosen is None:
            return
        pairs = self.ends.pairs(*chosen, self.family)
        names = (chosen[0].name, chosen[1].name)
        if not pairs:
            yield from self.without_family(chosen, names)
            return
        pair = pairs[0]
        if pair.source.network is None and self.ends.is_foreign(pair.target):
            self.left_out_outside = True
            return
        if pair.target == pair.source.address:
            return
        for low, high in split_services(services_for(self.services, pair.source.address.family), self.cuts):
            self.walks += 1
            yield low, high, self.walk(pair, low), names

    def walk(self, pair: Pair, number: int) -> Walk:
        return self.ends.walk_pair(pair, Service(number >> 16, number & 0xFFFF), self.ports)

    def without_family(
        self, chosen: tuple[Member, Member], names: tuple[str, str]
    ) -> Iterable[tuple[int, int, Walk, tuple[str, str]]]:
        """Instances that share no family cannot reach each other; address ranges of two families make no pair."""
        if any(member.low is not None for member in chosen) and all(member.families for member in chosen):
            return
        source, destination = chosen
        origin = self.ends.source_of(source) if source.families else None
        reason = f"{names[0]} and {names[1]} have no address family in common" if destination.families else ""
        for low, high in self.services:
            service = Service(low >> 16, low & 0xFFFF)
            receiver = destination.name if origin else source.name
            yield low, high, self.ends.walker.walk_nowhere(origin, receiver, service, reason if origin else ""), names


def _listening(instance: Instance, member: Member) -> object:
    if instance.listens is None:
        return None
    addresses = [address for interface in member.interfaces for address in interface.addresses]
    return tuple((each.services, tuple(each.accepts(a) for a in addresses)) for each in instance.listens)


def _representatives(source: EndClass, destination: EndClass) -> tuple[Member, Member] | None:
    """One member of each class, not the same instance twice; None where there are no two."""
    for one in source.members[:2]:
        for other in destination.members[:2]:
            same_instance = one.instance is not None and one.instance == other.instance
            same_address = one.low is not None and one.low == other.low and one.count == 1
            if not same_instance and not same_address:
                if one.low is not None and one.low == other.low and other.high is not None:
                    # The same range on both sides: take its first and its last address.
                    return one, Member(str(other.high), None, (), other.high, other.high)
                return one, other
    return None


def _pairs(source: EndClass, destination: EndClass) -> int:
    same = len(source.instances() & destination.instances())
    return source.count * destination.count - same


def _outcome_key(walk: Walk) -> OutcomeKey:
    decider = walk.decided_by
    why: OutcomeKey = ()
    if decider is not None:
        why = (decider.gate, decider.direction, decider.filter, decider.rule, decider.action, decider.place)
        if decider.step.stop is not None:
            why = (*why, decider.step.stop.kind)
        elif decider.filter is None and decider.gate == "zone":
            why = (*why, decider.at)
    return (walk.verdict, walk.signal, why, walk.answered if walk.verdict == PARTLY else None)


def _rectangles(
    by_source: Cells,
    sources: list[EndClass],
    destinations: list[EndClass],
) -> Iterable[Part]:
    """The cells of one outcome as few products of sources, destinations and services."""
    alike: dict[frozenset[tuple[int, RangeSet]], list[int]] = defaultdict(list)
    for i, by_destination in by_source.items():
        shape = frozenset((j, RangeSet.of(ranges)) for j, ranges in by_destination.items())
        alike[shape].append(i)
    for shape, group in alike.items():
        by_services: dict[RangeSet, list[int]] = defaultdict(list)
        for j, services in shape:
            by_services[services].append(j)
        for services, targets in by_services.items():
            members = tuple(member for i in group for member in sources[i].members)
            others = tuple(member for j in sorted(targets) for member in destinations[j].members)
            pairs = sum(_pairs(sources[i], destinations[j]) for i in group for j in targets)
            yield Part(members, others, services, pairs)
