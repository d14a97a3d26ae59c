"""What machines listen to (clause S32), as one row of service atoms for each distinct set of sockets."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.ranges import RangeSet
from kiboko.core.tables.lines import NumberLine

NOTHING, TAKEN, ELSEWHERE = range(3)
"""Nobody listens; somebody does at this address; only at another address of the machine."""


class Listeners:
    """Distinct sets of what is listened to, numbered from 0 as they are added."""

    def __init__(self, services: NumberLine) -> None:
        self._services = services
        self._spans: dict[int, tuple[RangeSet, list[slice]]] = {}  # by what a set is: it is kept, so that it stays so
        self._numbers: dict[bytes, int] = {}
        self._rows: list[NDArray[np.uint8]] = []
        self._table = np.zeros((0, services.size), dtype=np.uint8)

    def number(self, taken: Iterable[RangeSet], elsewhere: Iterable[RangeSet]) -> int:
        """The number of the set of services that are taken at an address, beside those taken at others only."""
        row = np.zeros(self._services.size, dtype=np.uint8)
        for sockets, what in ((elsewhere, ELSEWHERE), (taken, TAKEN)):
            for services in sockets:
                for span in (self._spans.get(id(services)) or self._cut(services))[1]:
                    row[span] = what
        found = self._numbers.setdefault(row.tobytes(), len(self._rows))
        if found == len(self._rows):
            self._rows.append(row)
        return found

    def _cut(self, services: RangeSet) -> tuple[RangeSet, list[slice]]:
        """A set of services, and its atoms."""
        spans = self._services.ranges(services)
        found = [slice(first, last + 1) for first, last in spans.tolist()] if spans is not None else []
        self._spans[id(services)] = services, found
        return self._spans[id(services)]

    def at(self, numbers: NDArray[np.int64], services: NDArray[np.int32]) -> NDArray[np.uint8]:
        """What is listened to, by the numbers of sets and the atoms of services: `NOTHING`, `TAKEN`, `ELSEWHERE`."""
        found: NDArray[np.uint8] = self._all()[numbers, services]
        return found

    def marks(self, services: NDArray[np.int64]) -> list[bytes]:
        """For each atom of services something that is equal for atoms that no set tells apart."""
        return [column.tobytes() for column in np.ascontiguousarray(self._all()[:, services].T)]

    def _all(self) -> NDArray[np.uint8]:
        if len(self._table) != len(self._rows):
            self._table = np.vstack(self._rows)
        return self._table
