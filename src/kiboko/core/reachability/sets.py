"""Sets as ends: one row for each distinct outcome, exact, however many ends there are (clause S36).

Members that nothing in the network tells apart form a class (`end_classes`); each pair of them is walked once for each
family and service atom, by the one walk or its tables, and the outcome holds for all their members.
"""

from __future__ import annotations

import itertools
import operator
from collections import defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

from kiboko.core.errors import UsageError
from kiboko.core.header.ranges import EMPTY, RangeSet
from kiboko.core.header.services import Service, usual_first
from kiboko.core.memory import as_old, without_garbage
from kiboko.core.queries.ends import NO_FAMILY, Ends, services_for
from kiboko.core.queries.members import End, Member, Pair, machines_of, sent_to_at
from kiboko.core.queries.subjects import subject_of
from kiboko.core.reachability.end_classes import NOBODY, Cells, EndClass, EndClasses, is_beyond, representatives
from kiboko.core.reachability.set_answer import EndCount, OutcomeKey, SetAnswer, SetRow, outcome_key, told_together
from kiboko.core.reachability.set_products import Products
from kiboko.core.tables.cuts import address_atoms, service_cuts, split_services
from kiboko.core.walk.walk import ALLOWED, NOBODY_RECORDED, PARTLY, UNKNOWN, Walk

if TYPE_CHECKING:
    from kiboko.core.reachability.cell_columns import CellColumns
    from kiboko.core.reachability.end_classes import Places
    from kiboko.core.reachability.grid import PairGrid
    from kiboko.core.reachability.told_rows import ToldRow


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
        found = _SetQuestion(ends, sender, receiver, services, ports, family).answer()
        as_old()
        return found


_RowKey = tuple[int, int | None, int]
"""The kind of ends, the family where it matters, and the number of the outcome."""
FEW_WALKS = 400
"""As many walks as are sooner made than tables."""
_MOST_CAVEATS = 12
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
    def __init__(
        self, ends: Ends, sender: End, receiver: End, services: RangeSet, ports: RangeSet | None, family: int | None
    ) -> None:
        self.ends = ends
        self.sender, self.receiver = sender, receiver
        self.services = services
        self.ports = ports
        self.families = (4, 6) if family is None else (family,)
        self.subject = subject_of(ends, services, ports, sender.members, receiver.members, with_refusals=True)
        self.classes = EndClasses(ends, address_atoms(ends.walker.ground, self.subject))
        self.receivers = [ends.topology.instances[name] for name in machines_of(receiver.members)]
        self.cuts = service_cuts(ends.walker.ground, self.receivers, self.subject)
        self.walks = self.grid_walks = 0
        self.known: dict[RangeSet, RangeSet] = {}
        self.parted: dict[tuple[int, int, int], tuple[RangeSet, RangeSet, RangeSet, RangeSet]] = {}
        self.grid: PairGrid | None = None
        self.numbers: dict[OutcomeKey, int] = {}
        self.keys: dict[int, int] = {}
        self.kept: list[object] = []
        self.left_out_outside = False
        self.names_of: dict[int, tuple[str, str]] = {}
        self.usual = usual_first(ends.topology.services)

    def answer(self) -> SetAnswer:
        sender, receiver = self.sender, self.receiver
        sources = self.classes.of(sender.members)
        destinations = self.classes.of(each for member in receiver.members for each in sent_to_at(member))
        senders, receivers = (EndCount.of(member for each in side for member in each.members)
                              for side in (sources, destinations))  # fmt: skip
        sources, destinations = self.without_outside_pairs(sources, destinations)
        cells: dict[_RowKey, list[Cells]] = defaultdict(list)
        columns: dict[_RowKey, CellColumns] = {}
        examples: dict[_RowKey, _Example] = {}
        both = services_for(self.services, 4) & services_for(self.services, 6)
        meetings, told = self.meetings(sources, destinations)
        for met in meetings:
            some = next(iter(met.by_family.values()))
            kind = max(sources[some.source].kind, destinations[some.destination].kind)
            mine: dict[_RowKey, list[RangeSet]] = defaultdict(list)
            first_met: dict[_RowKey, tuple[int, _Outcome]] = {}
            for place, (family, outcome) in enumerate(self.by_family(met.by_family, both)):
                key = (kind, family, outcome.key)
                mine[key].append(outcome.services)
                first_met.setdefault(key, (place, outcome))
            for key, services in mine.items():
                union = self.union(services)
                cells[key].append(Cells(union, *met.places))
                if key not in examples:
                    place, outcome = first_met[key]
                    walk = self.example(met.by_family, outcome._replace(services=union))
                    examples[key] = _Example((met.number, place), walk, some.names)
        for row in told:
            key = (row.kind, row.family, row.outcome)
            columns[key] = row.cells
            if key not in examples or row.order < examples[key].order:
                examples[key] = _Example(row.order, row.walk, self.names_of[row.order[0]])
        if not examples:
            raise UsageError(self.nothing_left(sender, receiver))
        caveats: dict[str, None] = dict.fromkeys((*sender.caveats, *receiver.caveats))
        rows = []
        products = Products(sources, destinations)
        for key, example in sorted(examples.items(), key=lambda each: each[1].order):
            caveats.update(dict.fromkeys(example.walk.caveats))
            parts, senders_met, receivers_met = products.of(cells[key], columns.get(key))
            rows.append(SetRow(tuple(parts), example.walk, example.names, key[1], key[0], senders_met,
                               receivers_met))  # fmt: skip
        first = (ALLOWED, PARTLY, UNKNOWN) if sender.is_outside or receiver.is_outside else ()
        rows.sort(key=lambda row: (row.kind, *_rank(row.example.verdict, first), -sum(p.size for p in row.parts)))
        if first:  # asked about an outside, what gets through matters before all else
            rows.sort(key=lambda row: row.example.verdict not in first)
        listed = told_together(caveat for caveat in caveats if not caveat.startswith(NOBODY_RECORDED))
        if len(listed) > _MOST_CAVEATS:
            left = len(listed) - _MOST_CAVEATS
            listed[_MOST_CAVEATS:] = [f"and {left:,} more to bear in mind of the examples: each tells its own"]
        if any(row.kind == NOBODY for row in rows):
            listed.insert(
                0, "where nobody is recorded, no instance or host filter is asked, and what listens is not known"
            )
        if self.left_out_outside:
            listed.append("pairs with both ends outside are left out: no gate lies between them")
        return SetAnswer(tuple(rows), senders, receivers, self.walks, tuple(listed))

    def example(self, meetings: dict[int, _Meeting], outcome: _Outcome) -> Walk:
        """The walk of an outcome between the very ends of a pair of classes, and on one of its services, if there is
        one on a service that people ask about: what a person is told of, and told to ask again."""
        flow = outcome.walk.flow
        meeting = meetings.get(flow.target.family)
        if meeting is None or meeting.pair is None:
            return outcome.walk
        pair, number = meeting.pair, flow.service.number
        is_its = number in outcome.services and (flow.source.address, flow.target) == (pair.source.address, pair.target)
        other = number if is_its else outcome.services.lowest
        asked = next((each for each in self.usual if each in outcome.services), other)
        if is_its and asked == number:
            return outcome.walk
        self.walks += 1
        return self.ends.walk_pair(pair, Service(asked >> 16, asked & 0xFFFF), self.ports)

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
        if not any(services_for(self.services, family) for family in self.families):
            return NO_FAMILY
        if self.left_out_outside:
            return f"{sender.text} and {receiver.text} are both outside: no gate of this network lies between them"
        return (
            f"{sender.text} and {receiver.text} make no pair: an end without members, one end alone,"
            " or no address family in common"
        )

    # Outcomes.

    def meetings(self, sources: list[EndClass], destinations: list[EndClass]) -> tuple[list[_Met], list[ToldRow]]:
        """Every pair of classes that can meet, with all outcomes, in the order of the pairs: those that are asked about
        one by one, and as rows those that are not; pairs that come to the same by the same rules stand together."""
        found: list[_Met] = []
        asked: dict[int, list[_Meeting]] = {family: [] for family in self.families}
        pairs, told = self.alike(sources, destinations)
        for number, i, j, places in pairs:
            chosen = representatives(sources[i], destinations[j])
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
                f"these are {count:,} pairs of ends that something tells apart, more than the {_MOST_PAIRS:,} that are"
                " asked about at once; ask about a part of them, or for all of it 'kiboko matrix' or 'kiboko reach'"
            )
        if count < _FEW_PAIRS:
            wide = len(destinations)
            return ((i * wide + j, i, j, ((i,), (j,))) for i in range(len(sources)) for j in range(wide)), []
        from kiboko.core.reachability.alike_classes import AlikeClasses
        from kiboko.core.reachability.told_rows import ToldRows

        alike = AlikeClasses(self.ends, self.pair_grid(), sources, destinations, self.families, self.services)
        groups = alike.groups
        self.left_out_outside = self.left_out_outside or self.has_outside_pairs(sources, destinations)
        if not alike.is_aligned:
            return groups.pairs(), []

        def walk(group: int, family: int, service: Service) -> Walk:
            chosen = representatives(sources[groups.source[group]], destinations[groups.destination[group]])
            assert chosen is not None
            self.names_of[group] = chosen[0].name, chosen[1].name
            self.walks += 1
            return self.ends.walk_pair(self.ends.pairs(*chosen, family)[0], service, self.ports)

        rows = ToldRows(alike, walk, self.key_of, self.usual).rows()
        return groups.pairs(groups.is_told), rows

    def without_outside_pairs(
        self, sources: list[EndClass], destinations: list[EndClass]
    ) -> tuple[list[EndClass], list[EndClass]]:
        """The classes of either side without those that meet others outside alone, where all of one side are outside:
        of long lists these pairs would be very many."""
        beyond = [[is_beyond(each, self.ends) for each in side] for side in (sources, destinations)]
        if all(beyond[0]) or all(beyond[1]):
            self.left_out_outside = self.has_outside_pairs(sources, destinations)
        inside = [list(itertools.compress(side, map(operator.not_, those)))
                  for side, those in zip((sources, destinations), beyond, strict=True)]  # fmt: skip
        return inside[0] if all(beyond[1]) else sources, inside[1] if all(beyond[0]) else destinations

    def has_outside_pairs(self, sources: list[EndClass], destinations: list[EndClass]) -> bool:
        """Whether there are pairs of which both ends are outside, of a family that is asked about."""
        outside = [[each for each in side if is_beyond(each, self.ends)] for side in (sources, destinations)]
        return any(
            one.members[0].families == other.members[0].families
            and one.members[0].families[0] in self.families
            and representatives(one, other) is not None
            for one, other in itertools.product(*outside)
        )

    def pair_grid(self) -> PairGrid:
        """What judges many pairs."""
        from kiboko.core.reachability.grid import PairGrid  # few ends are asked about without NumPy

        if self.grid is None:
            self.grid = PairGrid(self.ends.walker, self.ports, self.receivers, self.subject)
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
            if chosen[1].is_further and self.is_told_by_name(chosen[0], pairs[0]):
                continue
            found[family] = _Meeting(i, j, names, pairs[0], [])
        if not none and not set(chosen[0].families) & set(chosen[1].families):
            outcomes = list(self.without_family(chosen, names))
            if outcomes:
                found[0] = _Meeting(i, j, names, None, outcomes)
        return found

    def is_told_by_name(self, sender: Member, pair: Pair) -> bool:
        """Whether a further address of a machine is none that this sender means by the machine, or is the one that it
        means by its name (S1)."""
        if pair.source.outside is None:
            return False
        machine = self.ends.topology.instances[pair.receiver.instance or ""]
        whole = Member(machine.name, machine.name, machine.interfaces)
        meant = [each.target for each in self.ends.pairs(sender, whole, pair.target.family)]
        return pair.target not in meant[1:]

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
            self.keys[id(walk)] = self.numbers.setdefault(outcome_key(walk), len(self.numbers))
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
        asked = next((each for each in self.usual if each in self.services), self.services.lowest)
        service = Service(asked >> 16, asked & 0xFFFF)
        receiver = destination.name if origin else source.name
        walk = self.ends.walker.walk_nowhere(origin, receiver, service, reason if origin else "")
        yield _Outcome(self.services, self.key_of(walk), walk)


def _rank(verdict: str, first: tuple[str, ...]) -> tuple[bool, ...]:
    """What does not get through comes first, or what does."""
    return (verdict not in first,) if first else (verdict == ALLOWED,)
