"""What addresses are called, for whole columns of them: each is named once, however often it is met."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterable

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.addresses import Address
from kiboko.core.records.columns import KeyNumbers, ascending, distinct, in_order
from kiboko.core.records.flow_table import AddressTable

Rows = NDArray[np.int64]
_NOT_ASKED, _BY_ITSELF = -1, -2


class AddressNames:
    """The numbers of the names of addresses. Remembers those that were met, and names again what it has forgotten."""

    def __init__(self, number_of: Callable[[Address], int], stretches: Stretches | None = None) -> None:
        """`number_of` gives the number of an address's name, the same whenever it is asked; `stretches` which addresses
        have one name, so that not each of them has to be asked about."""
        self._number_of, self._stretches = number_of, stretches
        self._known = KeyNumbers(3)
        self._of_stretch = np.zeros(0, dtype=np.int64)

    def numbers(self, addresses: AddressTable) -> Rows:
        """The number of what each of some addresses is called, int64[m]."""
        if self._stretches is None:
            return self._one_by_one(addresses)
        found = self._by_stretch(self._stretches, addresses)
        rows = np.flatnonzero(found == _BY_ITSELF)
        if len(rows):
            found[rows] = self._one_by_one(addresses.taken(rows))
        return found

    def _by_stretch(self, stretches: Stretches, addresses: AddressTable) -> Rows:
        at = stretches.places(addresses)
        if not len(self._of_stretch):
            self._of_stretch = np.full(len(stretches), _NOT_ASKED, dtype=np.int64)
        found: Rows = self._of_stretch[at]
        fresh = np.flatnonzero(found == _NOT_ASKED)
        for place in ascending(at[fresh])[0].tolist():
            first = stretches.first(place)
            self._of_stretch[place] = _BY_ITSELF if first is None else self._number_of(first)
        found[fresh] = self._of_stretch[at[fresh]]
        return found

    def _one_by_one(self, addresses: AddressTable) -> Rows:
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


class Stretches:
    """Addresses cut into stretches of one name each: the log of an edge has a million senders that have one name."""

    def __init__(self, edges: Iterable[Address], is_by_itself: Callable[[Address], bool]) -> None:
        """`edges` are where stretches begin, in any order, looked at when the first address is looked up; of some every
        address is called by itself, which is told of the first."""
        self._edges, self._is_by_itself = edges, is_by_itself
        self._starts: tuple[list[int], list[int]] | None = None
        """Where those of either family begin, ascending: those of IPv4 come first."""

    def __len__(self) -> int:
        return sum(map(len, self._laid_out()))

    def first(self, place: int) -> Address | None:
        """The first address of a stretch; None where each of it is called by itself."""
        four, six = self._laid_out()
        address = Address(4, four[place]) if place < len(four) else Address(6, six[place - len(four)])
        return None if self._is_by_itself(address) else address

    def place(self, address: Address) -> int:
        """In which stretch an address is."""
        four, six = self._laid_out()
        if address.family == 4:
            return bisect_right(four, address.value) - 1
        return len(four) + bisect_right(six, address.value) - 1

    def places(self, addresses: AddressTable) -> Rows:
        """In which stretch each of some addresses is, int64[m]."""
        self._laid_out()
        at: Rows = np.searchsorted(self._four, addresses.low, side="right").astype(np.int64) - 1
        six = np.flatnonzero(addresses.family == 6)
        if len(six):
            wanted = in_order(addresses.high[six], addresses.low[six])
            at[six] = len(self._four) + np.searchsorted(self._six, wanted, side="right") - 1
        return at

    def _laid_out(self) -> tuple[list[int], list[int]]:
        if self._starts is None:
            values: dict[int, set[int]] = {4: {0}, 6: {0}}
            for each in self._edges:
                values[each.family].add(each.value)
            four, six = (sorted(values[family]) for family in (4, 6))
            self._four = np.array(four, dtype=np.uint64)
            table = AddressTable.of(Address(6, value) for value in six)
            self._six = in_order(table.high, table.low)
            self._starts = four, six
        return self._starts
