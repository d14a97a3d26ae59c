"""Sets as ends: one row for each distinct outcome, exact, however many ends there are (clause S36).

Members that nothing in the network tells apart form a class; each pair of classes is walked once for each family and
service atom, by the one walk, and the outcome holds for all their members.
"""

from __future__ import annotations

import itertools
import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

from kiboko.core.errors import UsageError
from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import EMPTY, RangeSet
from kiboko.core.header.services import Service
from kiboko.core.memory import without_garbage
from kiboko.core.network.model import Instance
from kiboko.core.queries.ends import End, Ends, Member, Pair, services_for
from kiboko.core.reachability.end_classes import NOBODY, OUTSIDE, RECORDED, Cells, EndClass, Shape
from kiboko.core.tables.cuts import address_atoms, service_cuts, split_services
from kiboko.core.walk.gates import Row
from kiboko.core.walk.walk import ALLOWED, NOBODY_RECORDED, PARTLY, UNKNOWN, Walk

if TYPE_CHECKING:
    from kiboko.core.reachability.cell_columns import CellColumns
    from kiboko.core.reachability.end_classes import Places
    from kiboko.core.reachability.grid import PairGrid
    from kiboko.core.reachability.told_rows import ToldRow

_MOST_CAVEATS, _FEW_NAMES = 12, 4
_LISTENS = re.compile(r"whether (.+) listens on (.+) is not known")


@dataclass(frozen=True, slots=True)
class EndCount:
    """How many ends some members are: instances by name, addresses with nobody recorded, outsides by name."""

    instances: tuple[str, ...] = ()
    addresses: int = 0
    outsides: tuple[str, ...] = ()

    @classmethod
    def of(cls, members: Iterable[Member]) -> EndCount:
        """Count members, an instance once however many of its addresses are among them."""
        listed = list(members)
        return cls(
            tuple(dict.fromkeys(member.instance for member in listed if member.instance is not None)),
            sum(member.count for member in listed if member.instance is None and member.outside is None),
            tuple(dict.fromkeys(member.outside for member in listed if member.outside is not None)),
        )


class Product(NamedTuple):
    """Every source with every destination on every service; `size` is how many pairs of ends there are, by which
    products are ranked."""

    sources: tuple[Member, ...]
    destinations: tuple[Member, ...]
    services: RangeSet
    size: int

    def source_texts(self) -> list[str]:
        """The sources: names, then what is left as blocks and ranges."""
        return member_texts(self.sources)

    def destination_texts(self) -> list[str]:
        """The destinations, likewise."""
        return member_texts(self.destinations)


@dataclass(frozen=True, slots=True)
class SetRow:
    """One distinct outcome: the products that share it, the largest first, how many ends they are, and one example.

    `family` is None where both families come to the same, or only one is there; `kind` is that of the ends that are
    least known among its products.
    """

    parts: tuple[Product, ...]
    example: Walk
    example_names: tuple[str, str]
    family: int | None
    kind: int
    sources: EndCount
    destinations: EndCount

    @property
    def reason(self) -> str | None:
        """Why the way itself stops it, in words that hold for every member; None where a rule decides, or one alone."""
        decider = self.example.decided_by
        single = len(self.parts) == 1 and len(self.parts[0].sources) == len(self.parts[0].destinations) == 1
        if decider is None or single:
            return None
        if decider.gate == "listener":
            return "nothing listens there" if _is_bare(decider) else "what listens there is bound to another address"
        return SHARED_REASONS.get(decider.step.stop.kind) if decider.step.stop is not None else None


SHARED_REASONS = {
    "stopped": "the machine is stopped",
    "no subnet of its own": "the sender lies in no subnet",
    "nowhere": "the address belongs to no subnet and no outside",
    "no subnet": "no subnet holds the destination",
    "no route": "the sender's subnet has no route there",
    "no address": "an end has no address that the other can use",
    "private": "the address is private, and nothing leads there from outside",
    "nobody": "the address is nobody's",
    "shared": "a nat gateway lets in only replies",
    "loop": "the routes lead round in a circle",
    "has no public address": "the sender has no public address",
    "is not a global address": "the sender's address is not global",
}
"""Why the way itself stops a packet, in words that hold for every end."""


@dataclass(frozen=True, slots=True)
class SetAnswer:
    """All rows, how many ends were asked about, and the caveats of the examples."""

    rows: tuple[SetRow, ...]
    sources: EndCount
    destinations: EndCount
    walks: int
    caveats: tuple[str, ...]


def member_texts(members: Iterable[Member]) -> list[str]:
    """Members as text: instances by name, addresses merged to blocks and ranges."""
    listed = list(members)
    names = list(dict.fromkeys(member.name for member in listed if member.low is None))
    ranges: dict[int, list[tuple[int, int]]] = {4: [], 6: []}
    for member in listed:
        if member.low is not None and member.high is not None:
            ranges[member.low.family].append((member.low.value, member.high.value))
    return names + AddressSet(RangeSet.of(ranges[4]), RangeSet.of(ranges[6])).texts()


def ask_set(
    ends: Ends, sender: End, receiver: End, services: RangeSet, ports: RangeSet | None, family: int | None
) -> SetAnswer:
    """The rows for two ends of any size and any set of services.

    Parameters
    ----------
    ends : the network's ends, which resolved `sender` and `receiver`
    services : service numbers, as `resolve_service` gives them
    ports : the client ports asked about; None for all ephemeral ports of each sender
    family : 4 or 6; None for both, each by itself

    Raises
    ------
    UsageError : where no pair is left: both ends outside, the same single instance, no family in common

    >>> from kiboko.core.queries.ends import resolve_service
    >>> from kiboko.core.walk.walk import Walker
    >>> from kiboko.files.network.network_file import load_network
    >>> ends = Ends(Walker(load_network("network.yaml")))
    >>> crews, river = ends.resolve("crews"), ends.resolve("river")
    >>> found = ask_set(ends, crews, river, resolve_service("ssh", {}), None, None)
    >>> [(row.example.verdict, len(row.destinations.instances)) for row in found.rows]
    [('allowed', 4), ('blocked', 1), ('blocked', 1), ('blocked', 1)]
    """
    with without_garbage():  # very many tuples are made, and none of them in a circle
        return _SetQuestion(ends, services, ports, family).answer(sender, receiver)


OutcomeKey = tuple[object, ...]
_RowKey = tuple[int, int | None, int]
"""The kind of ends, the family where it matters, and the number of the outcome."""
FEW_WALKS = 400
"""As many walks as are sooner made than tables."""
_FEW_PAIRS, _MOST_PAIRS = 100, 40_000_000
"""As many pairs are sooner asked about one by one than told apart; more are refused, for the memory that they take."""


class _Outcome(NamedTuple):
    """Services on which a pair of classes comes to the same."""

    services: RangeSet
    key: int
    walk: Walk


@dataclass(frozen=True, slots=True)
class _Meeting:
    """A pair of classes by one pair of members that stands for all, in one family; its outcomes when they are known."""

    source: int
    destination: int
    names: tuple[str, str]
    pair: Pair | None
    outcomes: list[_Outcome]


class _Met(NamedTuple):
    """Pairs of classes that come to the same: one of them by family (0: it has none in common), its number in the order
    of all pairs, and the classes of all of them."""

    number: int
    by_family: dict[int, _Meeting]
    places: tuple[Places, Places]


class _Example(NamedTuple):
    """Where an outcome is first met, and its walk between ends of these names."""

    order: tuple[int, int]
    walk: Walk
    names: tuple[str, str]


class _SetQuestion:
    def __init__(self, ends: Ends, services: RangeSet, ports: RangeSet | None, family: int | None) -> None:
        self.ends = ends
        self.services = services
        self.ports = ports
        self.families = (4, 6) if family is None else (family,)
        self.atoms = address_atoms(ends.walker.ground)
        self.receivers: list[Instance] = []
        self.cuts: list[int] = []
        self.next_hops = {
            entry.instance for table in ends.topology.route_tables.values() for entry in table.entries if entry.instance
        }
        self.walks = self.grid_walks = 0
        self.known: dict[RangeSet, RangeSet] = {}
        self.parted: dict[tuple[int, int, int], tuple[RangeSet, RangeSet, RangeSet, RangeSet]] = {}
        self.grid: PairGrid | None = None
        self.numbers: dict[OutcomeKey, int] = {}
        self.keys: dict[int, int] = {}
        self.kept: list[object] = []
        self.left_out_outside = False
        self.names_of: dict[int, tuple[str, str]] = {}

    def answer(self, sender: End, receiver: End) -> SetAnswer:
        named = dict.fromkeys(member.instance for member in receiver.members if member.instance is not None)
        self.receivers = [self.ends.topology.instances[name] for name in named]
        self.cuts = service_cuts(self.ends.walker.ground, self.receivers)
        sources, destinations = self.classes(sender), self.classes(receiver)
        cells: dict[_RowKey, list[Cells]] = defaultdict(list)
        columns: dict[_RowKey, CellColumns] = {}
        examples: dict[_RowKey, _Example] = {}
        both = services_for(self.services, 4) & services_for(self.services, 6)
        meetings, told = self.meetings(sources, destinations)
        for met in meetings:
            some = next(iter(met.by_family.values()))
            kind = max(sources[some.source].kind, destinations[some.destination].kind)
            mine: dict[_RowKey, list[RangeSet]] = defaultdict(list)
            for place, (family, outcome) in enumerate(self.by_family(met.by_family, both)):
                key = (kind, family, outcome.key)
                mine[key].append(outcome.services)
                if key not in examples:
                    examples[key] = _Example((met.number, place), outcome.walk, some.names)
            for key, services in mine.items():
                cells[key].append(Cells(self.union(services), *met.places))
        for row in told:
            key = (RECORDED, row.family, row.outcome)
            columns[key] = row.cells
            if key not in examples or row.order < examples[key].order:
                examples[key] = _Example(row.order, row.walk, self.names_of[row.order[0]])
        if not examples:
            raise UsageError(self.nothing_left(sender, receiver))
        caveats: dict[str, None] = dict.fromkeys((*sender.caveats, *receiver.caveats))
        rows = []
        products = _Products(sources, destinations)
        for key, example in sorted(examples.items(), key=lambda each: each[1].order):
            caveats.update(dict.fromkeys(example.walk.caveats))
            parts = sorted(products.of(cells[key], columns.get(key)), key=lambda part: -part.size)
            rows.append(SetRow(tuple(parts), example.walk, example.names, key[1], key[0], *products.counted()))
        first = (ALLOWED, PARTLY, UNKNOWN) if sender.is_outside or receiver.is_outside else ()
        rows.sort(key=lambda row: (row.kind, *_rank(row.example.verdict, first), -sum(p.size for p in row.parts)))
        if first:  # asked about an outside, what gets through matters before all else
            rows.sort(key=lambda row: row.example.verdict not in first)
        listed = _together(caveat for caveat in caveats if not caveat.startswith(NOBODY_RECORDED))
        if len(listed) > _MOST_CAVEATS:
            left = len(listed) - _MOST_CAVEATS
            listed[_MOST_CAVEATS:] = [f"and {left:,} more to bear in mind of the examples: each tells its own"]
        if any(row.kind == NOBODY for row in rows):
            listed.insert(
                0, "where nobody is recorded, no instance or host filter is asked, and what listens is not known"
            )
        if self.left_out_outside:
            listed.append("pairs with both ends outside are left out: no gate lies between them")
        return SetAnswer(
            tuple(rows),
            EndCount.of(member for each in sources for member in each.members),
            EndCount.of(member for each in destinations for member in each.members),
            self.walks,
            tuple(listed),
        )

    def union(self, services: list[RangeSet]) -> RangeSet:
        """All of some services; the same value for equal ones."""
        found = services[0] if len(services) == 1 else RangeSet.of(pair for each in services for pair in each)
        return self.known.setdefault(found, found)

    def by_family(self, meetings: dict[int, _Meeting], both: RangeSet) -> Iterator[tuple[int | None, _Outcome]]:
        """The outcomes of a pair of classes, each with its family; None where the families come to the same, or only
        one of them is there. `both` are the services asked about that travel in either family."""
        if len(meetings) == 1:
            (only,) = meetings.values()
            yield from ((None, each) for each in only.outcomes)
            return
        by_key = {family: self.by_key(meetings[family].outcomes) for family in (4, 6)}
        for family, other in ((4, 6), (6, 4)):
            theirs = by_key[other]
            for each in meetings[family].outcomes:
                shared, alone = self.parts(family, each.services, theirs.get(each.key, EMPTY), both)
                if shared:
                    yield None, _Outcome(shared, each.key, each.walk)
                if alone:
                    yield family, _Outcome(alone, each.key, each.walk)

    def by_key(self, outcomes: list[_Outcome]) -> dict[int, RangeSet]:
        """The services of each outcome."""
        found: dict[int, RangeSet] = {}
        for each in outcomes:
            known = found.get(each.key)
            found[each.key] = each.services if known is None else self.union([known, each.services])
        return found

    def parts(self, family: int, mine: RangeSet, theirs: RangeSet, both: RangeSet) -> tuple[RangeSet, RangeSet]:
        """Of services that come to something in one family, beside those that come to the same in the other, what is
        told without a family and what with it. Most pairs have the same sets: each two are looked at once."""
        key = family, id(mine), id(theirs)
        found = self.parted.get(key)
        if found is None:
            # What both come to is told once; a service of one family alone is of that family and needs no saying so.
            same, shared = mine & theirs, mine - both
            if family == 4:
                shared = shared | same
            found = self.parted[key] = mine, theirs, self.union([shared]), self.union([(mine & both) - same])
        return found[2], found[3]

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
                found.setdefault(self.instance_key(member), EndClass(RECORDED)).members.append(member)
                continue
            if member.count == 1 and not self.ends.is_foreign(member.low):
                kind = NOBODY if self.ends.directory.network_of(member.low) is not None else RECORDED
                found.setdefault(("one", member.low), EndClass(kind)).members.append(member)
                continue
            for first, last, signature in self.atoms.split(member.low, member.high):
                name = str(first) if first == last else f"{first}-{last}"
                there = self.ends.directory.endpoint(first)
                outside = there.outside.name if there.outside else None
                subnet = there.subnet.name if there.subnet else None
                piece = Member(name, None, (), first, last, outside=outside)
                key = ("range", first.family, signature, subnet, there.network, outside)
                kind = OUTSIDE if there.network is None else NOBODY
                found.setdefault(key, EndClass(kind)).members.append(piece)
        return list(found.values())

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
            member.is_by_address,
        )

    # Outcomes.

    def meetings(self, sources: list[EndClass], destinations: list[EndClass]) -> tuple[list[_Met], list[ToldRow]]:
        """Every pair of classes that can meet, with all outcomes, in the order of the pairs: those that are asked about
        one by one, and as rows those that are not; pairs that come to the same by the same rules stand together."""
        found: list[_Met] = []
        asked: dict[int, list[_Meeting]] = {family: [] for family in self.families}
        pairs, told = self.alike(sources, destinations)
        for number, i, j, places in pairs:
            chosen = _representatives(sources[i], destinations[j])
            if chosen is None:
                continue
            by_family = self.met(i, j, chosen)
            if by_family:
                found.append(_Met(number, by_family, places))
                for family, meeting in by_family.items():
                    if family:
                        asked[family].append(meeting)
        for family, meetings in asked.items():
            if meetings:
                self.judge(meetings, services_for(self.services, family))
        return found, told

    def alike(
        self, sources: list[EndClass], destinations: list[EndClass]
    ) -> tuple[Iterable[tuple[int, int, int, tuple[Places, Places]]], list[ToldRow]]:
        """The pairs of classes that are to be asked about, with their numbers in the order of all, each alone or with
        all that come to the same; and what the others come to."""
        count = len(sources) * len(destinations)
        if count > _MOST_PAIRS:
            raise UsageError(
                f"that are {count:,} pairs of ends that something tells apart, more than the {_MOST_PAIRS:,} that are"
                " asked about at once; ask about a part of them, or for all of it 'kiboko matrix' or 'kiboko reach'"
            )
        if count < _FEW_PAIRS:
            wide = len(destinations)
            return ((i * wide + j, i, j, ((i,), (j,))) for i in range(len(sources)) for j in range(wide)), []
        from kiboko.core.reachability.alike_classes import AlikeClasses
        from kiboko.core.reachability.told_rows import ToldRows

        alike = AlikeClasses(self.pair_grid(), sources, destinations, self.families, self.services)
        groups = alike.groups
        if not alike.is_aligned:
            return groups.pairs(), []

        def walk(group: int, family: int, service: Service) -> Walk:
            chosen = _representatives(sources[groups.source[group]], destinations[groups.destination[group]])
            assert chosen is not None
            self.names_of[group] = chosen[0].name, chosen[1].name
            self.walks += 1
            return self.ends.walk_pair(self.ends.pairs(*chosen, family)[0], service, self.ports)

        rows = ToldRows(alike, walk, self.key_of).rows()
        return groups.pairs(groups.is_told), rows

    def pair_grid(self) -> PairGrid:
        """What judges many pairs."""
        from kiboko.core.reachability.grid import PairGrid  # few ends are asked about without NumPy

        if self.grid is None:
            self.grid = PairGrid(self.ends.walker, self.ports, self.receivers)
        return self.grid

    def met(self, i: int, j: int, chosen: tuple[Member, Member]) -> dict[int, _Meeting]:
        names = (chosen[0].name, chosen[1].name)
        found: dict[int, _Meeting] = {}
        none = False
        for family in self.families:
            pairs = self.ends.pairs(*chosen, family)
            none = none or bool(pairs)
            if not pairs or pairs[0].target == pairs[0].source.address:
                continue
            if pairs[0].source.network is None and self.ends.is_foreign(pairs[0].target):
                self.left_out_outside = True
                continue
            found[family] = _Meeting(i, j, names, pairs[0], [])
        if not none and not set(chosen[0].families) & set(chosen[1].families):
            outcomes = list(self.without_family(chosen, names))
            if outcomes:
                found[0] = _Meeting(i, j, names, None, outcomes)
        return found

    def judge(self, meetings: list[_Meeting], services: RangeSet) -> None:
        """Fill in what some meetings of one family come to: by walks where there are few, else by tables."""
        atoms = list(split_services(services, self.cuts))
        if len(meetings) * len(atoms) <= FEW_WALKS:
            for meeting in meetings:
                meeting.outcomes.extend(self.walked(meeting, atoms))
            return
        grid = self.pair_grid()
        pairs = [meeting.pair for meeting in meetings if meeting.pair is not None]
        made: dict[int, list[_Outcome]] = {}  # pairs that come to the same share the list of what that is
        for meeting, judged in zip(meetings, grid.judged(pairs, services), strict=True):
            if id(judged) not in made:
                made[id(judged)] = [_Outcome(each.services, self.key_of(each.walk), each.walk) for each in judged]
                self.kept.append(judged)
            meeting.outcomes.extend(made[id(judged)])
        self.walks += grid.walks - self.grid_walks
        self.grid_walks = grid.walks

    def key_of(self, walk: Walk) -> int:
        """The number of what a walk comes to, equal for equal outcome keys; worked out once."""
        if id(walk) not in self.keys:
            self.keys[id(walk)] = self.numbers.setdefault(_outcome_key(walk), len(self.numbers))
            self.kept.append(walk)
        return self.keys[id(walk)]

    def walked(self, meeting: _Meeting, atoms: list[tuple[int, int]]) -> Iterable[_Outcome]:
        """The walk of every service atom for one pair."""
        assert meeting.pair is not None
        for low, high in atoms:
            self.walks += 1
            walk = self.ends.walk_pair(meeting.pair, Service(low >> 16, low & 0xFFFF), self.ports)
            yield _Outcome(RangeSet.span(low, high), self.key_of(walk), walk)

    def without_family(self, chosen: tuple[Member, Member], names: tuple[str, str]) -> Iterable[_Outcome]:
        """Instances that share no family cannot reach each other; addresses of two families make no pair at all."""
        by_address = any(member.low is not None or member.is_by_address for member in chosen)
        if by_address and all(member.families for member in chosen):
            return
        source, destination = chosen
        origin = self.ends.source_of(source) if source.families else None
        reason = f"{names[0]} and {names[1]} have no address family in common" if destination.families else ""
        for low, high in self.services:
            service = Service(low >> 16, low & 0xFFFF)
            receiver = destination.name if origin else source.name
            walk = self.ends.walker.walk_nowhere(origin, receiver, service, reason if origin else "")
            yield _Outcome(RangeSet.span(low, high), self.key_of(walk), walk)


def _rank(verdict: str, first: tuple[str, ...]) -> tuple[bool, ...]:
    """What does not get through comes first, or what does."""
    return (verdict not in first,) if first else (verdict == ALLOWED,)


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
                    return one, Member(str(other.high), None, (), other.high, other.high, outside=other.outside)
                return one, other
    return None


def _together(caveats: Iterable[str]) -> list[str]:
    """Caveats with those on what listens told once for each service: many examples are of many machines."""
    machines: dict[str, list[str]] = {}
    found: dict[str, None] = {}
    for caveat in caveats:
        met = _LISTENS.fullmatch(caveat)
        if met is None:
            found[caveat] = None
        else:
            machines.setdefault(met[2], []).append(met[1])
            found[met[2]] = None
    return [_listening_unknown(machines[each], each) if each in machines else each for each in found]


def _listening_unknown(names: list[str], service: str) -> str:
    listed = ", ".join(names[:_FEW_NAMES]) + (f" and {len(names) - _FEW_NAMES:,} more" if names[_FEW_NAMES:] else "")
    return f"whether {listed} {'listens' if len(names) == 1 else 'listen'} on {service} is not known"


def _outcome_key(walk: Walk) -> OutcomeKey:
    decider = walk.decided_by
    why: OutcomeKey = _why(decider) if decider is not None else ()
    ports = walk.answered if walk.verdict in (PARTLY, UNKNOWN) else None
    return (walk.verdict, walk.signal, why, ports, walk.either)


def _is_bare(listener: Row) -> bool:
    """Whether nothing listens at all, rather than at another address."""
    return listener.reason.startswith("nothing listens")


def _why(decider: Row) -> OutcomeKey:
    """What a reason is told apart by: members of one row must share it whole."""
    if decider.gate == "listener":
        return decider.gate, decider.direction, decider.action, _is_bare(decider)
    why: OutcomeKey = (
        decider.gate, decider.direction, decider.filter, decider.rule, decider.action, decider.place, decider.chain,
    )  # fmt: skip
    stop = decider.step.stop
    if stop is not None:
        return (*why, stop.kind if stop.kind in SHARED_REASONS else stop.reason)
    if decider.filter is None and decider.gate == "zone":
        return (*why, decider.at)
    return why


class _Side:
    """The members of the classes of one end."""

    def __init__(self, classes: list[EndClass]) -> None:
        self._members = [tuple(each.members) for each in classes]
        self._counts = [each.count for each in classes]
        self._is_single = all(count == 1 for count in self._counts)
        self._first = [members[0] for members in self._members]

    def of(self, places: Sequence[int]) -> tuple[tuple[Member, ...], int]:
        """The members of some classes, and how many ends they are."""
        if self._is_single:  # a range of one address, or a machine
            return tuple(map(self._first.__getitem__, places)), len(places)
        members = itertools.chain.from_iterable(map(self._members.__getitem__, places))
        return tuple(members), sum(map(self._counts.__getitem__, places))


class _Products:
    """Makes products of the classes of two ends."""

    def __init__(self, sources: list[EndClass], destinations: list[EndClass]) -> None:
        self._sides = _Side(sources), _Side(destinations)
        self._met: tuple[set[int], set[int]] = set(), set()

    def of(self, alike: list[Cells], columns: CellColumns | None) -> Iterator[Product]:
        """The cells of one outcome as few products of sources, destinations and services."""
        if columns is None and len(alike) < _FEW_PAIRS:
            shapes = _shapes(alike)
        else:
            from kiboko.core.reachability.cell_columns import CellColumns

            several = CellColumns.of(alike) if alike else None
            whole = several if columns is None else columns if several is None else columns.with_more(several)
            assert whole is not None
            shapes = whole.shapes()
        self._met = set(), set()
        for services, group, targets in shapes:
            self._met[0].update(group)
            self._met[1].update(targets)
            mine, others = self._sides[0].of(group), self._sides[1].of(targets)
            yield Product(mine[0], others[0], services, mine[1] * others[1])

    def counted(self) -> tuple[EndCount, EndCount]:
        """How many ends are in the products that were made last, each counted once."""
        one, other = (EndCount.of(side.of(sorted(met))[0]) for met, side in zip(self._met, self._sides, strict=True))
        return one, other


def _shapes(alike: list[Cells]) -> Iterator[Shape]:
    """The sources of some cells, by services, those together that have the same destinations."""
    by_source: dict[tuple[RangeSet, int], list[int]] = defaultdict(list)
    for cells in alike:
        for i, j in zip(cells.sources, cells.destinations, strict=True):
            by_source[cells.services, i].append(j)
    groups: dict[tuple[RangeSet, tuple[int, ...]], list[int]] = defaultdict(list)
    for services, i in sorted(by_source, key=lambda cell: cell[1]):
        groups[services, tuple(sorted(by_source[services, i]))].append(i)
    for (services, targets), group in groups.items():
        yield services, group, list(targets)
