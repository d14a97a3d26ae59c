"""Pairs of classes that come to the same as few products of their members."""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from kiboko.core.header.ranges import RangeSet
from kiboko.core.queries.members import Member
from kiboko.core.reachability.end_classes import Cells, EndClass, Shape
from kiboko.core.reachability.set_answer import EndCount, Product

if TYPE_CHECKING:
    from kiboko.core.reachability.cell_columns import CellColumns

_FEW_CELLS = 2_000
"""As many are sooner brought together without NumPy."""


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


class Products:
    """Makes products of the classes of two ends."""

    def __init__(self, sources: list[EndClass], destinations: list[EndClass]) -> None:
        self._sides = _Side(sources), _Side(destinations)

    def of(self, alike: list[Cells], columns: CellColumns | None) -> tuple[list[Product], EndCount, EndCount]:
        """The cells of one outcome as few products of sources, destinations and services, the largest first; and how
        many senders and receivers they have, each counted once."""
        if columns is None and len(alike) < _FEW_CELLS:
            shapes = _shapes(alike)
        else:
            from kiboko.core.reachability.cell_columns import CellColumns

            several = CellColumns.of(alike) if alike else None
            whole = several if columns is None else columns if several is None else columns.with_more(several)
            assert whole is not None
            shapes = whole.shapes()
        senders: set[int] = set()
        receivers: set[int] = set()
        found = []
        for services, group, targets in shapes:
            senders.update(group)
            receivers.update(targets)
            mine, others = self._sides[0].of(group), self._sides[1].of(targets)
            found.append(Product(mine[0], others[0], services, mine[1] * others[1]))
        found.sort(key=lambda product: -product.size)
        one, other = (EndCount.of(side.of(sorted(met))[0])
                      for side, met in zip(self._sides, (senders, receivers), strict=True))  # fmt: skip
        return found, one, other


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
