"""Pairs of classes and the services on which they come to the same, as columns, and as few products of them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.ranges import RangeSet
from kiboko.core.reachability.end_classes import Cells, Shape
from kiboko.core.records.columns import Distinct, distinct
from kiboko.core.tables.places import NONE
from kiboko.core.tables.traces import mixed

Rows = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class CellColumns:
    """`n` cells, of which no two share a pair and a service: `services` int64[n] is a number of one of `sets`, `source`
    and `destination` int64[n] are classes."""

    sets: list[RangeSet]
    services: Rows
    source: Rows
    destination: Rows

    def __len__(self) -> int:
        return len(self.services)

    @classmethod
    def of(cls, alike: Sequence[Cells]) -> CellColumns:
        """Some cells as columns."""
        numbers: dict[RangeSet, int] = {}
        told = [numbers.setdefault(cells.services, len(numbers)) for cells in alike]
        i, j = (np.concatenate([np.asarray(getattr(cells, name), dtype=np.int64) for cells in alike])
                for name in ("sources", "destinations"))  # fmt: skip
        return cls(
            list(numbers), np.repeat(np.array(told, dtype=np.int64), [len(each.sources) for each in alike]), i, j
        )

    def with_more(self, more: CellColumns) -> CellColumns:
        """These and others."""
        numbers: dict[RangeSet, int] = {}
        sides = []
        for each in (self, more):
            met = distinct(each.services)
            used = [each.sets[number] for number in each.services[met.first].tolist()]
            place = np.array([numbers.setdefault(services, len(numbers)) for services in used], dtype=np.int64)
            sides.append((place[met.codes], each.source, each.destination))
        return CellColumns(list(numbers), *(np.concatenate(each) for each in zip(*sides, strict=True)))

    def shapes(self) -> Iterator[Shape]:
        """The sources, by services, those together that have the same destinations."""
        met = distinct(self.services)
        number_of = self.services[met.first].tolist()
        # One number for each cell sorts faster than three.
        width, count = int(self.destination.max(initial=0)) + 1, len(number_of)
        cells = np.sort((self.source * count + met.codes) * width + self.destination)
        at_source, j = np.divmod(cells, width)
        starts = np.flatnonzero(np.diff(at_source, prepend=NONE))
        size = np.diff(starts, append=len(j))
        i, services = np.divmod(at_source[starts], count)
        hashes = np.add.reduceat(mixed(j.astype(np.uint64)), starts).view(np.int64)
        alike = distinct(services, size, hashes)
        # That equal hashes are of equal destinations is seen, not believed.
        first = np.repeat(starts[alike.first[alike.codes]] - starts, size) + np.arange(len(j))
        if not np.array_equal(j[first], j):
            alike = _by_destinations(j, starts, services)
        order = np.argsort(alike.codes, kind="stable")
        for each, group in zip(alike.first.tolist(), np.split(i[order], np.cumsum(alike.counts())[:-1]), strict=True):
            begin = int(starts[each])
            targets = j[begin : begin + int(size[each])]
            yield self.sets[number_of[int(services[each])]], group.tolist(), targets.tolist()


def _by_destinations(j: Rows, starts: Rows, services: Rows) -> Distinct:
    """Which runs of destinations, each with its services, are the same."""
    numbers: dict[tuple[int, bytes], int] = {}
    codes = [numbers.setdefault((number, run.tobytes()), len(numbers))
             for number, run in zip(services.tolist(), np.split(j, starts[1:]), strict=True)]  # fmt: skip
    return distinct(np.array(codes, dtype=np.int64))
