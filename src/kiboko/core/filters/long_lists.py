"""Rules of long lists found by what they name, without asking each of them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.addresses import Address, AddressSet
from kiboko.core.header.ranges import RangeSet


class NamedBy:
    """The sets that rules name, by their places in a list: of services, or of addresses of one family."""

    def __init__(self, sets: Sequence[RangeSet | None], dtype: type = np.int64) -> None:
        """`None` is everything. `dtype` is that of the bounds, `object` for those of more than 63 bits."""
        named = [(place, low, high) for place, each in enumerate(sets) if each is not None for low, high in each]
        self._every = np.array([place for place, each in enumerate(sets) if each is None], dtype=np.int64)
        self._place = np.array([place for place, _, _ in named], dtype=np.int64)
        self._low: NDArray[Any] = np.array([low for _, low, _ in named], dtype=dtype)
        self._high: NDArray[Any] = np.array([high for _, _, high in named], dtype=dtype)

    def meeting(self, low: int, high: int) -> NDArray[np.int64]:
        """The places of those that have any of the numbers from `low` to `high`, ascending, int64[m]."""
        met = ((self._low <= high) & (self._high >= low)).astype(np.bool_)
        return np.union1d(self._every, self._place[met])


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


def either(some: NDArray[np.int64], others: NDArray[np.int64]) -> list[int]:
    """The places that are in one list or the other, ascending."""
    found: list[int] = np.union1d(some, others).tolist()
    return found
