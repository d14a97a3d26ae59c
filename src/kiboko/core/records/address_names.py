"""What addresses are called, for whole columns of them: each is named once, however often it is met."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.addresses import Address
from kiboko.core.records.columns import KeyNumbers, distinct
from kiboko.core.records.flow_table import AddressTable


class AddressNames:
    """The numbers of the names of addresses. Remembers those that were met, and names again what it has forgotten."""

    def __init__(self, number_of: Callable[[Address], int]) -> None:
        """`number_of` gives the number of an address's name, the same whenever it is asked."""
        self._number_of = number_of
        self._known = KeyNumbers(3)

    def numbers(self, addresses: AddressTable) -> NDArray[np.int64]:
        """The number of what each of some addresses is called, int64[m]."""
        columns = addresses.family, addresses.high.view(np.int64), addresses.low.view(np.int64)
        found = self._known.find(*columns)
        rows = np.flatnonzero(found < 0)
        if len(rows):
            fresh = tuple(column[rows] for column in columns)
            kinds = distinct(*fresh)
            numbers = np.array([self._number_of(addresses[at]) for at in rows[kinds.first].tolist()], dtype=np.int64)
            self._known.note(numbers, *(column[kinds.first] for column in fresh))
            found[rows] = numbers[kinds.codes]
        return found
