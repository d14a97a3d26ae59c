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
from kiboko.core.queries.ends import Ends, services_for
from kiboko.core.queries.members import Member
from kiboko.core.reachability.alike_pairs import AlikePairs
from kiboko.core.reachability.end_classes import RECORDED, EndClass, is_beyond
from kiboko.core.reachability.grid import PairGrid
from kiboko.core.records.columns import distinct
from kiboko.core.tables.kinds import Kinds
from kiboko.core.tables.pair_deciders import Decided
from kiboko.core.tables.places import NONE
from kiboko.core.tables.sent_off import SentOff
from kiboko.core.tables.traces import Marks, mixed

Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]
_NO_PAIR = -2
"""In the place of a group's number: both ends are outside, or have no family in common."""


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
    """The pairs of one address family, in parts: those whose senders use the same client ports and send to the same
    addresses of each receiver. In which `part` each class is a sender, and at which `row` among the senders of that, -1
    for none; and the `columns` of each part, where each class is among its receivers, -1 for none. `is_there`
    bool[destinations] are those that have addresses of the family. `near` are the classes that send by another
    interface to those in its subnet: bool[destinations], which, and its row as well."""

    parts: list[AlikePairs]
    columns: list[Rows]
    part: Rows
    row: Rows
    is_there: Truths
    near: list[tuple[int, Truths, int]]

    @property
    def kinds(self) -> Kinds:
        """The kinds of traffic: of services the same in all parts."""
        return self.parts[0].kinds

    def there(self, sources: Rows, destinations: Rows) -> Truths:
        """Which pairs of classes have addresses of it."""
        found: Truths = (self.row[sources] != NONE) & self.is_there[destinations]
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
                made = part.decided(rows[mine], self.columns[number][destinations[mine]])
                found.append(made._replace(pair=mine[made.pair]))
        return Decided(*(np.concatenate(each) for each in zip(*found, strict=True)))


class _Sending(NamedTuple):
    """A class that sends from an address; the subnet of its interface, whether that is the first of its family, and the
    networks that have a tunnel to it, None where it is within a network."""

    at: int
    address: Address
    subnet: str
    is_first: bool
    tunnels: frozenset[str] | None


class _Receiving(NamedTuple):
    """A class that is sent to, at which address by those within a network, and the subnet of that."""

    at: int
    address: Address
    subnet: str


class AlikeClasses:
    """All pairs of classes of some ends, which of them come to the same by the same rules, and to what.

    A class is told apart by its first machine, or by its first address where nobody is recorded.

    Parameters
    ----------
    ends : the network's ends
    grid : what judges pairs one by one
    families : the address families asked about, services : what is asked about in any of them

    Pairs of which both ends are outside are in no group, nor are those of addresses of two families.
    """

    def __init__(
        self, ends: Ends, grid: PairGrid, sources: Sequence[EndClass], destinations: Sequence[EndClass],
        families: Sequence[int], services: RangeSet,
    ) -> None:  # fmt: skip
        self._ends, self._grid, self._sides = ends, grid, (sources, destinations)
        self._like: AlikePairs | None = None
        self._sent_off = SentOff(grid.tables.layout)
        self._tunnels_of: dict[str, frozenset[str]] = {}
        self.families: dict[int, Family] = {}
        """Those in which there are any pairs."""
        for family in families:
            found = self._of_family(family)
            if found is not None:
                self.families[family] = found
        shape = len(sources), len(destinations)
        marks, is_told, is_open = np.zeros(shape, np.uint64), np.zeros(shape, np.bool_), np.ones(shape, np.bool_)
        kinds = self._kinds()
        for family, known in self.families.items():
            mark, has_mark = self._marks(known, services_for(services, family))
            marks += np.where(has_mark, mixed(mark + (kinds << np.uint64(8)) + np.uint64(family)), np.uint64(0))
            is_told |= has_mark
            # It is told in all families that it has.
            is_open &= has_mark | ~((known.row != NONE)[:, None] & known.is_there[None, :])
        is_told &= is_open
        together = np.full(shape, NONE, dtype=np.int64)
        if is_told.any():
            together[is_told] = distinct(marks[is_told].view(np.int64)).codes
        is_outside = [np.array([is_beyond(each, self._ends) for each in side], dtype=np.bool_) for side in self._sides]
        together[is_outside[0][:, None] & is_outside[1][None, :]] = _NO_PAIR
        together[self._without_family(families)] = _NO_PAIR
        self.groups = _in_order(together)

    def _without_family(self, families: Sequence[int]) -> Truths:
        """The pairs that have no family in common which is asked about, bool[sources, destinations], and of which
        nothing is said: where an address was asked about, or where they have the other one in common."""
        members = [[each.members[0] for each in side] for side in self._sides]
        has = {family: [np.array([family in one.families for one in side], dtype=np.bool_) for side in members]
               for family in (4, 6)}  # fmt: skip
        named = [np.array([one.low is not None or one.is_by_address for one in side], dtype=np.bool_)
                 for side in members]  # fmt: skip
        bears = [four | six for four, six in zip(has[4], has[6], strict=True)]
        shared = {family: one[:, None] & other[None, :] for family, (one, other) in has.items()}
        told: Truths = np.zeros((len(members[0]), len(members[1])), dtype=np.bool_)
        for family in families:
            told |= shared[family]
        by_address = (named[0][:, None] | named[1][None, :]) & bears[0][:, None] & bears[1][None, :]
        found: Truths = ~told & (shared[4] | shared[6] | by_address)
        return found

    def _kinds(self) -> Marks:
        """Of each pair of classes the kind that it is shown among, uint64[sources, destinations]."""
        one, other = (np.array([each.kind for each in side], dtype=np.uint64) for side in self._sides)
        return np.maximum(one[:, None], other[None, :])

    def kinds(self, groups: Rows) -> Rows:
        """Of some groups the kind that their pairs are shown among."""
        one, other = (
            np.array([each.kind for each in side], dtype=np.int64)[mine[groups]]
            for side, mine in zip(self._sides, (self.groups.source, self.groups.destination), strict=True)
        )
        return np.maximum(one, other)

    def _of_family(self, family: int) -> Family | None:
        """The pairs of classes in one family; None where there are none.

        Whoever is sent to from within is sent to at the first address of the family, and who sends does so from the
        first one, but to receivers in the subnet of another interface from that (clause S3).
        """
        sources, destinations = self._sides
        senders = [each for at, one in enumerate(sources) for each in self._sending(at, one, family)]
        receivers = [
            got for at, one in enumerate(destinations) if (got := self._receiving(at, one, family)) is not None
        ]
        if not senders or not receivers:
            return None
        walker = self._grid.walker
        alike: dict[tuple[frozenset[str] | None, RangeSet], list[_Sending]] = {}
        for each in senders:
            end = walker.directory.endpoint(each.address)
            ports = self._grid.ports or walker.source_ports(end, Service(TCP, 1))
            alike.setdefault((each.tunnels, ports), []).append(each)
        subnets = np.full(len(destinations), "", dtype=object)
        subnets[[got.at for got in receivers]] = [got.subnet for got in receivers]
        part, row = (np.full(len(sources), NONE, dtype=np.int64) for _ in range(2))
        parts, columns, near = [], [], []
        for number, ((tunnels, ports), mine) in enumerate(alike.items()):
            theirs = receivers if tunnels is None else self._from_outside(receivers, mine[0], family)
            column = np.full(len(destinations), NONE, dtype=np.int64)
            column[[got.at for got in theirs]] = np.arange(len(theirs))
            columns.append(column)
            parts.append(
                AlikePairs(self._grid.tables.layout, self._sent_off, self._atoms(mine), self._atoms(theirs), ports)
            )
            for place, sending in enumerate(mine):
                if sending.is_first:
                    part[sending.at], row[sending.at] = number, place
                else:
                    near.append((sending.at, subnets == sending.subnet, place))
        is_there = np.zeros(len(destinations), dtype=np.bool_)
        is_there[[got.at for got in receivers]] = True
        return Family(parts, columns, part, row, is_there, near)

    def _sending(self, at: int, one: EndClass, family: int) -> Iterator[_Sending]:
        """What a class sends from: a machine from the first interface of each subnet."""
        member = one.members[0]
        if self._is_range(one, family):
            assert member.low is not None
            beyond = member.outside if is_beyond(one, self._ends) else None
            yield _Sending(at, member.low, "", True, self._tunnels(beyond) if beyond is not None else None)
            return
        found: dict[str, Interface] = {}
        for each in _usable(member, family):
            found.setdefault(each.subnet, each)
        for place, each in enumerate(found.values()):
            yield _Sending(at, _address(each, family), each.subnet, place == 0, None)

    def _receiving(self, at: int, one: EndClass, family: int) -> _Receiving | None:
        """Where those within send to a class; None where it has no address of the family."""
        member = one.members[0]
        if self._is_range(one, family):
            assert member.low is not None
            subnet = self._ends.directory.subnet_of(member.low)
            return _Receiving(at, member.low, subnet.name if subnet is not None else "")
        usable = _usable(member, family)
        return _Receiving(at, _address(usable[0], family), usable[0].subnet) if usable else None

    def _atoms(self, side: Sequence[_Sending] | Sequence[_Receiving]) -> Rows:
        """The atoms of some addresses."""
        return np.array([self._grid.tables.addresses.atom(each.address) for each in side], dtype=np.int64)

    def _from_outside(self, receivers: Sequence[_Receiving], sender: _Sending, family: int) -> list[_Receiving]:
        """Where those of an outside send to classes (clause S1): to none that is outside itself. What they mean by one
        of several addresses of a machine is asked one by one."""
        found = []
        for each in receivers:
            one = self._sides[1][each.at]
            if not is_beyond(one, self._ends) and not one.members[0].is_further:
                pairs = self._ends.pairs(self._sides[0][sender.at].members[0], one.members[0], family)
                found.append(each._replace(address=pairs[0].target))
        return found

    def _is_range(self, one: EndClass, family: int) -> bool:
        """Whether a class is of addresses of a family where nobody is recorded."""
        member = one.members[0]
        if member.low is None or member.low.family != family or one.kind == RECORDED:
            return False
        is_ours = self._ends.directory.network_of(member.low) is not None
        return is_ours or self._ends.is_foreign(member.low)

    def _tunnels(self, outside: str) -> frozenset[str]:
        """The networks that have a tunnel to an outside: those in it mean machines of these by their own addresses."""
        if outside not in self._tunnels_of:
            directory, networks = self._ends.directory, self._ends.topology.networks
            self._tunnels_of[outside] = frozenset(name for name in networks if directory.tunnel(name, outside))
        return self._tunnels_of[outside]

    def _marks(self, known: Family, services: RangeSet) -> tuple[Marks, Truths]:
        """Of all pairs of classes in one family the marks, and which have one: both are [sources, destinations]."""
        shape = len(known.row), len(known.is_there)
        marks, has_mark = np.zeros(shape, dtype=np.uint64), np.zeros(shape, dtype=np.bool_)
        for number, (part, column) in enumerate(zip(known.parts, known.columns, strict=True)):
            theirs = np.flatnonzero(column != NONE)
            mine = np.flatnonzero(known.part == number)
            mark, has = part.marks(services, self._like)
            there = np.ix_(mine, theirs)
            told = np.uint64(number << 16)  # beside the kind and the family, which are told apart by the bits below
            marks[there], has_mark[there] = mark[known.row[mine]] + told, has[known.row[mine]]
            for source, is_near, row in known.near:
                if known.part[source] == number:
                    columns = column[is_near]
                    marks[source, is_near] = mark[row, columns] + told
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


def _usable(member: Member, family: int) -> list[Interface]:
    return [each for each in member.interfaces if each.address(family) is not None]


def _address(interface: Interface, family: int) -> Address:
    found = interface.address(family)
    assert found is not None
    return found


def _in_order(together: Rows) -> Groups:
    """Pairs of one number, and those of none, by the first of each; but for what is no pair."""
    width = together.shape[1]
    flat = together.reshape(-1)
    alone = np.flatnonzero(flat == NONE)
    told = np.flatnonzero(flat >= 0)
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
