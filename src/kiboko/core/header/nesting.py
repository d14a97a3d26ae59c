"""Which of many named sets of addresses lie within one of them."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterator, Mapping

from kiboko.core.header.addresses import AddressSet


class Nesting:
    """Named sets of addresses, looked up by where they begin: to find what lies in one, not all others are tried."""

    def __init__(self, sets: Mapping[str, AddressSet]) -> None:
        self._sets = sets
        self._begins = {
            family: sorted(
                (ranges.ranges[0][0], name) for name, each in sets.items() if (ranges := each.family(family))
            )
            for family in (4, 6)
        }

    def own(self, name: str) -> AddressSet:
        """One of the sets without the others that lie within it; an equal one does not."""
        whole = self._sets[name]
        return whole - AddressSet.union(self._within(name, whole))

    def _within(self, name: str, whole: AddressSet) -> Iterator[AddressSet]:
        for family in (4, 6):
            begins = self._begins[family]
            for low, high in whole.family(family):
                first, behind = bisect_left(begins, low, key=_begin), bisect_right(begins, high, key=_begin)
                for _, each in begins[first:behind]:
                    other = self._sets[each]
                    if each != name and other != whole and other <= whole:
                        yield other


def _begin(each: tuple[int, str]) -> int:
    return each[0]
