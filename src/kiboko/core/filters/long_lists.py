"""Rules of long lists found by what they name, without asking each of them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.addresses import Address, AddressSet
from kiboko.core.header.ranges import RangeSet

_MOST_KEPT = 1 << 10


class NamedBy:
    """The sets that rules name, by their places in a list: of services, or of addresses of one family."""

    def __init__(self, sets: Sequence[RangeSet | None], dtype: type = np.int64) -> None:
        """`None` is everything. `dtype` is that of the bounds, `object` for those of more than 63 bits."""
        named = [(place, low, high) for place, each in enumerate(sets) if each is not None for low, high in each]
        self._every = np.array([place for place, each in enumerate(sets) if each is None], dtype=np.int64)
        self._place = np.array([place for place, _, _ in named], dtype=np.int64)
        self._low: NDArray[Any] = np.array([low for _, low, _ in named], dtype=dtype)
        self._high: NDArray[Any] = np.array([high for _, _, high in named], dtype=dtype)
        self._known: dict[tuple[int, int], NDArray[np.int64]] = {}

    def meeting(self, low: int, high: int) -> NDArray[np.int64]:
        """The places of those that have any of the numbers from `low` to `high`, ascending, int64[m]."""
        found = self._known.get((low, high))
        if found is None:
            if len(self._known) >= _MOST_KEPT:
                self._known.clear()
            met = ((self._low <= high) & (self._high >= low)).astype(np.bool_)
            found = self._known[low, high] = np.union1d(self._every, self._place[met])
        return found


class NamedEnds:
    """The addresses that rules name on one side, by their places in a list."""

    def __init__(self, sets: Sequence[AddressSet | None]) -> None:
        self._by_family = {
            family: NamedBy([each if each is None else each.family(family) for each in sets], dtype)
            for family, dtype in ((4, np.int64), (6, object))
        }

    def holding(self, address: Address) -> NDArray[np.int64]:
        """The places of those that hold an address, ascending, int64[m]."""
        return self._by_family[address.family].meeting(address.value, address.value)


class LongList:
    """The rules of a list by their places in it: each names sources, destinations and services, None for all."""

    def __init__(
        self, sources: Sequence[AddressSet | None], destinations: Sequence[AddressSet | None],
        services: Sequence[RangeSet | None],
    ) -> None:  # fmt: skip
        self._sources, self._destinations = NamedEnds(sources), NamedEnds(destinations)
        self._services = NamedBy(services)

    def matching(self, source: Address, destination: Address, first: int, last: int) -> list[int]:
        """Those that name both ends and any of the services from `first` to `last`."""
        places = np.intersect1d(
            self._sources.holding(source), self._destinations.holding(destination), assume_unique=True
        )
        found: list[int] = np.intersect1d(places, self._services.meeting(first, last), assume_unique=True).tolist()
        return found

    def naming(self, source: Address, destination: Address) -> list[int]:
        """Those that name one end or the other."""
        found: list[int] = np.union1d(self._sources.holding(source), self._destinations.holding(destination)).tolist()
        return found
