"""The cells of a matrix that are others than in another network file: as a whole, or for pairs of ends within them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.changes.difference import Difference
from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.queries.members import Member, member_addresses
from kiboko.core.reachability.matrix import STATES, AxisName, Cell, Matrix
from kiboko.core.walk.walk import ONE_WAY, PARTLY, UNKNOWN

Truths = NDArray[np.bool_]
_IN_PART = [STATES.index(each) for each in (PARTLY, ONE_WAY, UNKNOWN)]
"""States that may hold for some pairs of a cell and not for others."""


@dataclass(frozen=True, slots=True)
class OtherCell:
    """A cell that differs: what it was and what it is. Where that is the same, it is so of other ends (`is_within`)."""

    source: str
    destination: str
    service: str
    before: Cell
    now: Cell
    is_within: bool


@dataclass(frozen=True, slots=True)
class CellsCompared:
    """What differs between two matrices. `alone` are the names that only one of them has; `untold` counts the cells of
    which something gets through in part in both, and of which it cannot be told whether it is the same."""

    differ: tuple[OtherCell, ...]
    alone: tuple[str, ...]
    untold: int

    @property
    def is_other(self) -> bool:
        """Whether anything differs, or may."""
        return bool(self.differ) or self.untold > 0


def compared(matrix: Matrix, before: Matrix, within: Truths | None) -> CellsCompared:
    """Two matrices compared. `within`, as `turned_within` has it, tells which cells of the first differ for some pair;
    None where that is not known."""
    mine, theirs = _of_both(matrix, before)
    here, there = np.ix_(*mine), np.ix_(*theirs)
    differ = matrix.state[here] != before.state[there]
    differ |= (matrix.state[here] == STATES.index(PARTLY)) & (matrix.by_port[here] != before.by_port[there])
    differ |= matrix.more_to_public[here] != before.more_to_public[there]
    alike = alike_in_part(matrix, before)[here] & ~differ
    inside = alike & within[here] if within is not None else np.zeros_like(alike)
    found = tuple(_other_cells(matrix, before, (mine, theirs), differ, inside))
    alone = tuple(sorted(set(matrix.names) ^ set(before.names)))
    return CellsCompared(found, alone, int(alike.sum()) if within is None else 0)


def alike_in_part(matrix: Matrix, before: Matrix) -> Truths:
    """The cells of a matrix, bool[names, names, services], whose state may hold for some pairs alone and is the same in
    another."""
    mine, theirs = _of_both(matrix, before)
    here, there = np.ix_(*mine), np.ix_(*theirs)
    found = np.zeros(matrix.state.shape, dtype=np.bool_)
    found[here] = np.isin(matrix.state[here], _IN_PART) & (matrix.state[here] == before.state[there])
    return found


_Places = tuple[list[int], list[int], list[int]]


def _of_both(matrix: Matrix, before: Matrix) -> tuple[_Places, _Places]:
    """The places of the names, twice, and of the services that both have, in the one and in the other."""
    names = [place for place, name in enumerate(matrix.names) if name in before.names]
    services = [place for place, text in enumerate(matrix.services) if text in before.services]
    theirs = [before.names.index(matrix.names[place]) for place in names]
    return (names, names, services), (
        theirs, theirs, [before.services.index(matrix.services[place]) for place in services])  # fmt: skip


def _other_cells(
    matrix: Matrix, before: Matrix, places: tuple[_Places, _Places], differ: Truths, inside: Truths
) -> Iterator[OtherCell]:
    mine, theirs = places
    for at in np.argwhere(differ | inside).tolist():
        here, there = ([each[place] for each, place in zip(of, at, strict=True)] for of in (mine, theirs))
        yield OtherCell(
            matrix.names[here[0]], matrix.names[here[1]], matrix.services[here[2]],
            before.cell(there[0], there[1], there[2]), matrix.cell(here[0], here[1], here[2]), bool(inside[tuple(at)]),
        )  # fmt: skip


# Pairs within cells.


def turned_within(
    names: Sequence[AxisName], names_before: Sequence[AxisName], services: Sequence[tuple[str, RangeSet]],
    found: Difference, with_nobody: bool = False,
) -> Truths:  # fmt: skip
    """The cells, bool[names, names, services], sender first, in which the verdict of some pair is another one, or that
    are about other ends than before; `with_nobody` where addresses at which nobody is recorded count."""
    holders = _Holders(names, with_nobody)
    turned = np.zeros((len(names), len(names), len(services)), dtype=np.bool_)
    for each in found.changed:
        mine = [number for number, (_, wanted) in enumerate(services) if wanted & each.services]
        turned[np.ix_(holders.of(each.sources), holders.of(each.destinations), mine)] = True
    before = {name.text: _ends_of(name) for name in names_before}
    for place, name in enumerate(names):
        ends = _ends_of(name)
        if ends != before.get(name.text, ends) or not ends.isdisjoint(found.moved):
            turned[place] = turned[:, place] = True
    return turned


class _Holders:
    """Which names hold an end."""

    def __init__(self, names: Sequence[AxisName], with_nobody: bool) -> None:
        self._held = [AddressSet.union(map(_addresses, name.members)) for name in names]
        self._with_nobody = with_nobody
        self._known: dict[Member, tuple[int, ...]] = {}

    def of(self, members: Iterable[Member]) -> list[int]:
        """The places of the names that hold any of some ends."""
        return sorted({place for member in members for place in self._of(member)})

    def _of(self, member: Member) -> tuple[int, ...]:
        if member not in self._known:
            is_asked = self._with_nobody or member.machine is not None or member.outside is not None
            self._known[member] = tuple(
                place for place, held in enumerate(self._held) if is_asked and member.is_among(held)
            )
        return self._known[member]


def _addresses(member: Member) -> AddressSet:
    """Every address of an end, public ones too."""
    public = (each.public for each in member.interfaces if each.public is not None)
    return member_addresses(member) | AddressSet.of_addresses(public)


def _ends_of(name: AxisName) -> frozenset[object]:
    """The machines of a name, and the addresses of all that is none."""
    return frozenset(each.instance or (each.low, each.high) for each in name.members)
