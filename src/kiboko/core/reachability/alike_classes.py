"""Classes of ends that meet very many others: which pairs of them come to the same, so that one is asked for all."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.addresses import Address
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import TCP, Service
from kiboko.core.network.model import Interface
from kiboko.core.queries.ends import services_for
from kiboko.core.queries.members import Member
from kiboko.core.reachability.alike_pairs import AlikePairs
from kiboko.core.reachability.end_classes import EndClass
from kiboko.core.reachability.grid import PairGrid
from kiboko.core.records.columns import distinct
from kiboko.core.tables.kinds import Kinds
from kiboko.core.tables.pair_deciders import Decided
from kiboko.core.tables.places import NONE
from kiboko.core.tables.traces import Marks, mixed

Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class Groups:
    """Pairs of classes in `g` groups, in the order of the first pair of each: the classes of that pair, int64[g] each;
    where its pairs begin, int64[g + 1], and the classes of all pairs, group by group; whether they come to the same by
    the same rules, bool[g]; others are one pair each."""

    source: Rows
    destination: Rows
    begin: Rows
    sources: Rows
    destinations: Rows
    is_told: Truths

    def pairs(self, without: Truths | None = None) -> Iterator[tuple[int, int, int, tuple[Rows, Rows]]]:
        """The number of each group and its first pair, with the classes of all its pairs; but for some groups."""
        chosen = range(len(self.source)) if without is None else np.flatnonzero(~without).tolist()
        begin = self.begin.tolist()
        for each in chosen:
            mine = slice(begin[each], begin[each + 1])
            yield (
                each,
                int(self.source[each]),
                int(self.destination[each]),
                (self.sources[mine], self.destinations[mine]),
            )


@dataclass(frozen=True, slots=True)
class Family:
    """The pairs of one address family, those whose senders use the same client ports together: in which `part` each
    class is a sender, and where it is among the senders of that and among all receivers, -1 for none. `near` are the
    classes that send by another interface to those in its subnet: bool[destinations], which, and its place as well."""

    parts: list[AlikePairs]
    part: Rows
    row: Rows
    column: Rows
    near: list[tuple[int, Truths, int]]

    @property
    def kinds(self) -> Kinds:
        """The kinds of traffic: of services the same in all parts."""
        return self.parts[0].kinds

    def there(self, sources: Rows, destinations: Rows) -> Truths:
        """Which pairs of classes have addresses of it."""
        found: Truths = (self.row[sources] != NONE) & (self.column[destinations] != NONE)
        return found

    def decided(self, sources: Rows, destinations: Rows) -> Decided:
        """What decides for some pairs of classes that have a mark (`AlikePairs.decided`)."""
        rows = self.row[sources]
        for source, is_near, row in self.near:
            rows[(sources == source) & is_near[destinations]] = row
        found = []
        for number, part in enumerate(self.parts):
            mine = np.flatnonzero(self.part[sources] == number)
            if len(mine):
                made = part.decided(rows[mine], self.column[destinations[mine]])
                found.append(made._replace(pair=mine[made.pair]))
        return Decided(*(np.concatenate(each) for each in zip(*found, strict=True)))


class _Sending(NamedTuple):
    """A class that sends by an interface; whether that is the first of its family."""

    at: int
    interface: Interface
    is_first: bool


class AlikeClasses:
    """All pairs of classes of some ends, which of them come to the same by the same rules, and to what.

    A class is told apart by its first machine; pairs with addresses of which nobody is recorded stand alone.

    Parameters
    ----------
    grid : what judges pairs one by one
    families : the address families asked about, services : what is asked about in any of them
    """

    def __init__(
        self, grid: PairGrid, sources: Sequence[EndClass], destinations: Sequence[EndClass], families: Sequence[int],
        services: RangeSet,
    ) -> None:  # fmt: skip
        self._grid, self._sides = grid, (sources, destinations)
        self._like: AlikePairs | None = None
        plain = [np.array([at for at, each in enumerate(side) if _is_plain(each)], dtype=np.int64)
                 for side in self._sides]  # fmt: skip
        self.families: dict[int, Family] = {}
        """Those in which there are any pairs."""
        for family in families:
            found = self._of_family(plain, family)
            if found is not None:
                self.families[family] = found
        shape = len(sources), len(destinations)
        marks, is_told, is_open = np.zeros(shape, dtype=np.uint64), np.zeros(shape, dtype=np.bool_), self._plain()
        for family, known in self.families.items():
            mark, has_mark = self._marks(known, services_for(services, family))
            marks += np.where(has_mark, mixed(mark + np.uint64(family)), np.uint64(0))
            is_told |= has_mark
            # It is told in all families that it has.
            is_open &= has_mark | ~((known.row != NONE)[:, None] & (known.column != NONE)[None, :])
        is_told &= is_open
        together = np.full(shape, NONE, dtype=np.int64)
        if is_told.any():
            together[is_told] = distinct(marks[is_told].view(np.int64)).codes
        self.groups = _in_order(together)

    def _plain(self) -> Truths:
        """Which pairs are of classes of machines, bool[sources, destinations]."""
        one, other = (np.array([_is_plain(each) for each in side], dtype=np.bool_) for side in self._sides)
        return one[:, None] & other[None, :]

    def _of_family(self, plain: Sequence[Rows], family: int) -> Family | None:
        """The pairs of classes of machines in one family; None where there are none.

        Whoever is sent to is sent to at the first interface of the family, and who sends does so by the first one, but
        to receivers in the subnet of another one by that (clause S3).
        """
        sources, destinations = self._sides
        senders = [_Sending(at, interface, place == 0) for at in plain[0].tolist()
                   for place, interface in enumerate(_sending(sources[at].members[0], family))]  # fmt: skip
        receivers = [(at, usable[0]) for at in plain[1].tolist()
                     if (usable := _usable(destinations[at].members[0], family))]  # fmt: skip
        if not senders or not receivers:
            return None
        tables, walker = self._grid.tables, self._grid.walker
        by_ports: dict[RangeSet, list[_Sending]] = {}
        for each in senders:
            end = walker.directory.endpoint(_address(each.interface, family))
            by_ports.setdefault(self._grid.ports or walker.source_ports(end, Service(TCP, 1)), []).append(each)
        targets = np.array([tables.addresses.atom(_address(each, family)) for _, each in receivers], dtype=np.int64)
        column, subnets = np.full(len(destinations), NONE, dtype=np.int64), np.full(len(destinations), "", dtype=object)
        column[[at for at, _ in receivers]] = np.arange(len(receivers))
        subnets[[at for at, _ in receivers]] = [each.subnet for _, each in receivers]
        part, row = (np.full(len(sources), NONE, dtype=np.int64) for _ in range(2))
        parts, near = [], []
        for number, (ports, mine) in enumerate(by_ports.items()):
            atoms = [tables.addresses.atom(_address(each.interface, family)) for each in mine]
            parts.append(AlikePairs(tables.layout, np.array(atoms, dtype=np.int64), targets, ports))
            for place, each in enumerate(mine):
                if each.is_first:
                    part[each.at], row[each.at] = number, place
                else:
                    near.append((each.at, subnets == each.interface.subnet, place))
        return Family(parts, part, row, column, near)

    def _marks(self, known: Family, services: RangeSet) -> tuple[Marks, Truths]:
        """Of all pairs of classes in one family the marks, and which have one: both are [sources, destinations]."""
        shape = len(known.row), len(known.column)
        marks, has_mark = np.zeros(shape, dtype=np.uint64), np.zeros(shape, dtype=np.bool_)
        theirs = np.flatnonzero(known.column != NONE)
        for number, part in enumerate(known.parts):
            mine = np.flatnonzero(known.part == number)
            mark, has = part.marks(services, self._like)
            there = np.ix_(mine, theirs)
            marks[there], has_mark[there] = mark[known.row[mine]] + np.uint64(number), has[known.row[mine]]
            for source, is_near, row in known.near:
                if known.part[source] == number:
                    columns = known.column[is_near]
                    marks[source, is_near] = mark[row, columns] + np.uint64(number)
                    has_mark[source, is_near] = has[row, columns]
            self._like = part
        return marks, has_mark

    @property
    def is_aligned(self) -> bool:
        """Whether all that pairs come to can be told by kinds of services alone: no kinds differ in client ports alone,
        and those of two families are the same services or none in common."""
        kinds = [part.kinds for each in self.families.values() for part in each.parts]
        if not kinds or any(len(each) > len(each.services) for each in kinds):
            return False
        if any(part.kinds.services != each.kinds.services for each in self.families.values() for part in each.parts):
            return False
        first, last = (set(each.services) for each in (kinds[0], kinds[-1]))
        return not any(one & other for one in first - last for other in last - first)


def _is_plain(each: EndClass) -> bool:
    """Whether a class is of machines."""
    return each.members[0].low is None and bool(each.members[0].interfaces)


def _usable(member: Member, family: int) -> list[Interface]:
    return [each for each in member.interfaces if each.address(family) is not None]


def _sending(member: Member, family: int) -> list[Interface]:
    """The interfaces of a machine by which it may send: the first of each subnet."""
    found: dict[str, Interface] = {}
    for each in _usable(member, family):
        found.setdefault(each.subnet, each)
    return list(found.values())


def _address(interface: Interface, family: int) -> Address:
    found = interface.address(family)
    assert found is not None
    return found


def _in_order(together: Rows) -> Groups:
    """Pairs of one number, and those of none, by the first of each."""
    width = together.shape[1]
    flat = together.reshape(-1)
    alone = np.flatnonzero(flat == NONE)
    told = np.flatnonzero(flat != NONE)
    numbers = flat[told]
    small = numbers.astype(np.uint16) if numbers.max(initial=0) < 1 << 16 else numbers  # sorted in a tenth of the time
    order = told[np.argsort(small, kind="stable")]
    starts = np.flatnonzero(np.diff(flat[order], prepend=NONE))
    sizes = np.concatenate([np.diff(starts, append=len(order)), np.ones(len(alone), dtype=np.int64)])
    order = np.concatenate([order, alone])
    begin = np.cumsum(sizes) - sizes
    by_first = np.argsort(order[begin])
    mine = sizes[by_first]
    bounds = np.concatenate([[0], np.cumsum(mine)])
    place = np.arange(len(order)) + np.repeat(begin[by_first] - bounds[:-1], mine)
    sources, destinations = np.divmod(order[place], width)
    first = bounds[:-1]
    return Groups(sources[first], destinations[first], bounds, sources, destinations, by_first < len(starts))
