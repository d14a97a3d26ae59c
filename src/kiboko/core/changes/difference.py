"""What differs between two versions of a network: in what they say, and in every verdict, exactly."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.changes.both_versions import OfFamily, Turn
from kiboko.core.changes.said import Said, differences_said
from kiboko.core.changes.touched import Touched, touched
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service
from kiboko.core.network.model import Topology
from kiboko.core.queries.ends import Ends, services_for
from kiboko.core.queries.members import Member
from kiboko.core.reachability.products import apart, products_of
from kiboko.core.reachability.space import Space, SpaceEnd, address_cuts
from kiboko.core.spreading import Spread
from kiboko.core.tables.cuts import Edges, rule_edges
from kiboko.core.walk.walk import ALLOWED, BLOCKED, ONE_WAY, PARTLY, UNKNOWN

OPENED, CLOSED, IN_PART = "opened", "closed", "changed in part"
_OPENNESS = {BLOCKED: 0, ONE_WAY: 1, UNKNOWN: 2, PARTLY: 3, ALLOWED: 4}


@dataclass(frozen=True, slots=True)
class Changed:
    """Pairs of ends whose verdict is another one: every one of `sources` with every one of `destinations` on all
    `services`. Client ports are those that get an answer, before and after, where they are not all or none."""

    kind: str
    before: str
    after: str
    ports: tuple[RangeSet, RangeSet]
    family: int
    sources: tuple[Member, ...]
    destinations: tuple[Member, ...]
    services: RangeSet
    example: tuple[Member, Member, Service]
    beyond: tuple[bool, bool]
    """Whether any of its sources, and whether any of its destinations, is outside."""
    rank: tuple[object, ...]
    """Its place among others of its kind: what is of an outside before what is of machines alone, and last what is of
    addresses where nobody is recorded; the most pairs first."""

    @property
    def was_answered(self) -> bool:
        """Whether anything of it got through before, and its answer back."""
        return _OPENNESS[self.before] > _OPENNESS[ONE_WAY]

    @property
    def is_answered(self) -> bool:
        """Whether anything of it gets through now, and its answer back."""
        return _OPENNESS[self.after] > _OPENNESS[ONE_WAY]


@dataclass(frozen=True, slots=True)
class Difference:
    """All that differs. `gone` and `new` are instances that only one version has, `moved` those and the addresses that
    the other has otherwise: their verdicts are not compared."""

    said: tuple[Said, ...]
    changed: tuple[Changed, ...]
    gone: tuple[str, ...]
    new: tuple[str, ...]
    moved: tuple[str, ...] = ()
    touched: Touched | None = None
    """What it can touch at all; None where that may be everything."""


def difference(
    old: Ends, new: Ends, services: RangeSet, family: int | None = None, is_brief: bool = False, spread: Spread = map
) -> Difference:
    """What differs between two versions of a network: what they say, and every verdict on some services.

    Only pairs that a change can touch are looked at, on the services that it can touch. `spread` has a function called
    with some numbers, as `map` does, perhaps by other processes. Raises UsageError where there are too many pairs;
    `is_brief`, where they would take more than some seconds.
    """
    said = tuple(differences_said(old.topology, new.topology))
    names = [list(each.topology.instances) for each in (old, new)]
    gone = tuple(name for name in names[0] if name not in new.topology.instances)
    added = tuple(name for name in names[1] if name not in old.topology.instances)
    changed: list[Changed] = []
    moved: dict[str, None] = {}
    what = touched(old, new, said)
    if said:
        services = services if what is None else services & what.services
        spaces = _spaces(old, new, services, what)
        anybody = [ends.resolve("any").members for ends in (old, new)]
        for each in (4, 6) if family is None else (family,):
            if not services_for(services, each) or not all(_has_family(ends.topology, each) for ends in (old, new)):
                continue
            part = OfFamily(spaces, anybody, each, what, is_brief)
            changed += _lines(part, spread)
            moved |= dict.fromkeys(part.moved)
    changed.sort(key=lambda each: ((OPENED, CLOSED, IN_PART).index(each.kind), *each.rank))
    only_one = {*gone, *added}
    return Difference(said, tuple(changed), gone, added, tuple(name for name in moved if name not in only_one),
                      what)  # fmt: skip


def _spaces(old: Ends, new: Ends, services: RangeSet, what: Touched | None) -> tuple[Space, Space]:
    """Both versions, each cut where the other is."""
    if what is None or not what.is_of_rules:
        more = Edges(tuple(edge for each in (old, new) for edge in address_cuts(each.walker)))
        return Space(old, services, more=more), Space(new, services, more=more)
    filters = new.topology.filters
    space = Space(old, services, more=rule_edges(new.walker.ground, [filters[name] for name in what.filters]))
    return space, space.of_changed(new, what.filters)


def _has_family(topology: Topology, family: int) -> bool:
    """Whether anybody may have an address of a family."""
    blocks = [block for each in topology.networks.values() for block in each.blocks]
    blocks += [prefix for each in topology.outsides.values() for prefix in each.prefixes]
    return any(block.family == family for block in blocks)


def _lines(part: OfFamily, spread: Spread) -> Iterator[Changed]:
    """Every product of ends and services of one family whose verdict changed."""
    found = list(part.turned(spread))
    if not found:
        return
    senders, receivers = (np.unique(np.concatenate(some)) for some in (
        [each.senders for each in found], [each.receivers for each in found]))  # fmt: skip
    table = np.zeros((len(senders), len(receivers)), dtype=np.int32)
    numbered: dict[tuple[Turn | None, ...], int] = {found[0].patterns[0]: 0}
    for each in found:
        places = np.array([numbered.setdefault(pattern, len(numbered)) for pattern in each.patterns], dtype=np.int32)
        where = np.ix_(np.searchsorted(senders, each.senders), np.searchsorted(receivers, each.receivers))
        table[where] = np.where(each.table != 0, places[each.table], table[where])
    patterns = list(numbered)
    sides = (
        _Ends([part.senders[row][1] for row in senders.tolist()]),
        _Ends([part.receivers[column][1] for column in receivers.tolist()]),
    )
    for turn in dict.fromkeys(turn for pattern in patterns for turn in pattern if turn is not None):
        holds = np.array([[each == turn for each in pattern] for pattern in patterns], dtype=np.bool_)
        is_met = np.asarray(holds.any(axis=1))[table]
        rows, columns = np.flatnonzero(is_met.any(axis=1)), np.flatnonzero(is_met.any(axis=0))
        for some, others, services in products_of(table[np.ix_(rows, columns)], holds):
            spans = RangeSet.of(span for each in services.tolist() for span in part.services[each])
            yield _line(turn, part.family, sides, (rows[some], columns[others]), spans)


class _Ends:
    """The ends of one side, of which many lines have some."""

    def __init__(self, ends: Sequence[SpaceEnd]) -> None:
        self._ends = np.empty(len(ends), dtype=object)
        self._ends[:] = ends
        known = [sum(each.count for each in end.members if each.low is None or each.outside is not None)
                 for end in ends]  # fmt: skip
        self._known = np.array(known, dtype=np.float64)
        self._count = np.array([sum(each.count for each in end.members) for end in ends], dtype=np.float64)
        self._is_beyond = np.array(
            [any(each.outside is not None for each in end.members) for end in ends], dtype=np.bool_
        )
        self._members: dict[bytes, tuple[Member, ...]] = {}

    def some(self, rows: NDArray[np.int64]) -> list[SpaceEnd]:
        """Those at some places."""
        found: list[SpaceEnd] = self._ends[rows].tolist()
        return found

    def members(self, rows: NDArray[np.int64]) -> tuple[Member, ...]:
        """All that those at some places stand for: of the same places the same tuple."""
        key = rows.tobytes()
        if key not in self._members:
            self._members[key] = tuple(itertools.chain.from_iterable(each.members for each in self.some(rows)))
        return self._members[key]

    def counts(self, rows: NDArray[np.int64]) -> tuple[float, float]:
        """How many are recorded, or outside, of those at some places; and how many there are in all."""
        return float(self._known[rows].sum()), float(self._count[rows].sum())

    def is_beyond(self, rows: NDArray[np.int64]) -> bool:
        """Whether any of those at some places is outside."""
        return bool(self._is_beyond[rows].any())


def _line(
    turn: Turn, family: int, sides: tuple[_Ends, _Ends], places: tuple[NDArray[np.int64], NDArray[np.int64]],
    services: RangeSet,
) -> Changed:  # fmt: skip
    before, after = turn.verdicts
    kind = OPENED if _OPENNESS[after] > _OPENNESS[before] else CLOSED if before != after else IN_PART
    one, other = apart(*(side.some(rows) for side, rows in zip(sides, places, strict=True)))
    mine, theirs = (side.counts(rows) for side, rows in zip(sides, places, strict=True))
    beyond = sides[0].is_beyond(places[0]), sides[1].is_beyond(places[1])
    known, number = mine[0] * theirs[0], services.lowest
    rank = not known, not any(beyond), family, -known, -mine[1] * theirs[1]
    return Changed(
        kind, before, after, turn.ports, family, sides[0].members(places[0]), sides[1].members(places[1]), services,
        (one, other, Service(number >> 16, number & 0xFFFF)), beyond, rank,
    )  # fmt: skip
