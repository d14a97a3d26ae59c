"""What machines listen to (clause S32), as one row of service atoms for each distinct set of sockets."""

from __future__ import annotations

from collections.abc import Sequence

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
        # By which set it is: each is kept, so that it stays the one.
        self._spans: dict[int, tuple[RangeSet, list[tuple[int, int]]]] = {}
        self._numbers: dict[bytes, int] = {}
        self._rows: list[NDArray[np.uint8]] = []
        self._table = np.zeros((0, services.size), dtype=np.uint8)

    def __len__(self) -> int:
        return len(self._rows)

    def numbers(self, taken: Sequence[Sequence[RangeSet]], elsewhere: Sequence[Sequence[RangeSet]] = ()) -> list[int]:
        """The numbers of several sets of services that are taken at an address, each beside those taken at others only
        (none by default)."""
        table = np.zeros((len(taken), self._services.size), dtype=np.uint8)
        for sides, what in ((elsewhere, ELSEWHERE), (taken, TAKEN)):
            single: tuple[list[int], list[int]] = [], []
            for row, sockets in enumerate(sides):
                for services in sockets:
                    for first, last in (self._spans.get(id(services)) or self._cut(services))[1]:
                        if first == last:
                            single[0].append(row)
                            single[1].append(first)
                        else:
                            table[row, first : last + 1] = what
            table[single] = what
        found = []
        for each in table:
            number = self._numbers.setdefault(each.tobytes(), len(self._rows))
            if number == len(self._rows):
                self._rows.append(each)
            found.append(number)
        return found

    def _cut(self, services: RangeSet) -> tuple[RangeSet, list[tuple[int, int]]]:
        """A set of services, and its atoms."""
        spans = self._services.ranges(services)
        found = [(first, last) for first, last in spans.tolist()] if spans is not None else []
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
