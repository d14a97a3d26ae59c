"""Longest-prefix match over any number of blocks (RFC 1812, section 5.2.4.3)."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Generic, TypeVar

from kiboko.core.header.addresses import BITS, Address, Prefix

V = TypeVar("V")


class PrefixTable(Generic[V]):
    """Values under prefixes; a look-up walks the prefix lengths that occur, longest first."""

    def __init__(self, items: Iterable[tuple[Prefix, V]]) -> None:
        self._by_length: dict[int, dict[int, dict[int, list[V]]]] = {4: {}, 6: {}}
        for prefix, value in items:
            same_length = self._by_length[prefix.family].setdefault(prefix.length, {})
            same_length.setdefault(prefix.value, []).append(value)
        self._lengths = {family: sorted(table, reverse=True) for family, table in self._by_length.items()}

    def matches(self, address: Address) -> list[V]:
        """Every value whose prefix holds the address, longest prefix first, else in the order given."""
        found: list[V] = []
        bits = BITS[address.family]
        for length in self._lengths[address.family]:
            network = address.value >> (bits - length) << (bits - length)
            found.extend(self._by_length[address.family][length].get(network, ()))
        return found

    def longest(self, address: Address) -> V | None:
        """The value under the longest prefix that holds the address."""
        found = self.matches(address)
        return found[0] if found else None
