"""The one cut set: addresses, services and client ports as atoms, numbers within which nothing in a network tells two
values apart.

Every boundary that anything draws cuts its line: peers of rules, routes, subnets, outsides, interfaces, listeners,
kernel rule sets, the ephemeral ports of clients. What holds for one value of an atom holds for all of them.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from kiboko.core.filters.ground import Ground
from kiboko.core.header.addresses import BITS, Address, AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, SCTP, TCP, UDP
from kiboko.core.network.model import Instance, Topology
from kiboko.core.records.columns import in_order
from kiboko.core.tables.cuts import address_sets, kernel_values, service_cuts
from kiboko.core.tables.subject import Subject, client_ports

_WITH_PORTS = (TCP, UDP, SCTP)
_LOW = (1 << 64) - 1
_FEW = 8
_PART, _MANY = 16, 1 << 16


class AddressLine:
    """Both address families on one line of atoms: those of IPv4 first, each family from 0 to its last address."""

    def __init__(self, ground: Ground, more: Iterable[Address] = (), subject: Subject | None = None) -> None:
        """`more` are addresses to begin an atom with, where nothing in the network does. Of rules those count that
        concern the `subject`, all where there is none."""
        first: dict[int, set[int]] = {4: {0}, 6: {0}}
        last: dict[int, set[int]] = {4: set(), 6: set()}
        for address in more:
            first[address.family].add(address.value)
        for interface in ground.directory.interfaces():
            for address in interface.addresses:
                first[address.family].add(address.value)
                last[address.family].add(address.value)
        for each in {id(s): s for s in address_sets(ground, subject)}.values():
            for family in (4, 6):
                ranges = each.family(family).ranges
                if ranges:
                    lows, highs = zip(*ranges, strict=True)
                    first[family].update(lows)
                    last[family].update(highs)
        edges = {family: first[family].union(high + 1 for high in last[family]) for family in (4, 6)}
        self._starts = {family: sorted(e for e in edges[family] if e < 1 << BITS[family]) for family in (4, 6)}
        self._second = len(self._starts[4])
        self._starts4 = np.array(self._starts[4], dtype=np.uint64)
        halves = (np.array([e >> 64 for e in self._starts[6]], dtype=np.uint64),
                  np.array([e & _LOW for e in self._starts[6]], dtype=np.uint64))  # fmt: skip
        self._starts6 = in_order(*halves)
        self.size = self._second + len(self._starts[6])
        self._ranges: dict[int, tuple[AddressSet, NDArray[np.int64]]] = {}

    def atom(self, address: Address) -> int:
        """The atom of an address."""
        place = bisect_right(self._starts[address.family], address.value) - 1
        return place if address.family == 4 else self._second + place

    def atoms_of(self, addresses: Sequence[Address]) -> NDArray[np.int64]:
        """The atoms of some addresses, int64[n]."""
        found = np.zeros(len(addresses), dtype=np.int64)
        by_family = {family: [row for row, each in enumerate(addresses) if each[0] == family] for family in (4, 6)}
        four = np.array([addresses[row].value for row in by_family[4]], dtype=np.uint64)
        found[by_family[4]] = np.searchsorted(self._starts4, four, side="right") - 1
        found[by_family[6]] = self._atoms6([addresses[row].value for row in by_family[6]])
        return found

    @property
    def second(self) -> int:
        """The first atom of IPv6."""
        return self._second

    def atoms(self, family: NDArray[np.uint8], high: NDArray[np.uint64], low: NDArray[np.uint64]) -> NDArray[np.int32]:
        """The atoms of addresses given as columns, as `AddressTable` has them: int32[m]."""
        found = (np.searchsorted(self._starts4, low, side="right") - 1).astype(np.int32)
        six = np.flatnonzero(family == 6)
        if len(six):
            place = np.searchsorted(self._starts6, in_order(high[six], low[six]), side="right") - 1
            found[six] = self._second + place
        return found

    def _atoms6(self, values: list[int]) -> NDArray[np.int64]:
        """The atoms of addresses of IPv6."""
        if len(values) < _FEW:
            return np.array([self.atom(Address(6, value)) for value in values], dtype=np.int64)
        octets = np.frombuffer(b"".join(value.to_bytes(16, "big") for value in values), dtype="S16")
        found: NDArray[np.int64] = self._second + np.searchsorted(self._starts6, octets, side="right") - 1
        return found

    def edges(self) -> Iterator[Address]:
        """The first address of every atom."""
        return (self.first(atom) for atom in range(self.size))

    def first(self, atom: int) -> Address:
        """The first address of an atom."""
        if atom < self._second:
            return Address(4, self._starts[4][atom])
        return Address(6, self._starts[6][atom - self._second])

    def ranges(self, addresses: AddressSet | None) -> NDArray[np.int64] | None:
        """A set that the line is cut by, as ranges of atoms: int64[n, 2], first and last; None for all addresses."""
        if addresses is None:
            return None
        if id(addresses) not in self._ranges:  # many rules share a set: the set is kept, so that its id stays its own
            four = np.array(addresses.v4.ranges, dtype=np.uint64).reshape(-1, 2)
            six = self._atoms6([bound for pair in addresses.v6 for bound in pair])
            found = np.concatenate([np.searchsorted(self._starts4, four, side="right") - 1,
                                    six.reshape(-1, 2)])  # fmt: skip
            self._ranges[id(addresses)] = addresses, found
        return self._ranges[id(addresses)][1]


class NumberLine:
    """A line of whole numbers from 0 cut into atoms: services by their 24-bit numbers, or ports."""

    def __init__(self, edges: Iterable[int], end: int) -> None:
        self.starts = np.array(sorted({0, *(edge for edge in edges if 0 < edge < end)}), dtype=np.int64)
        self.end = end
        self.size = len(self.starts)
        self._looked_up = 0
        # The atoms of all numbers with the same upper bits, such as the services of one protocol, a row for each such
        # part of the line that was met; and which row is that of which part, -1 for none yet.
        self._row_of = np.full((end - 1 >> _PART) + 1, -1, dtype=np.int32)
        self._atom_of = np.zeros(0, dtype=np.int32)

    def atoms(self, numbers: NDArray[np.int64]) -> NDArray[np.int32]:
        """The atoms of some numbers, int32[n]."""
        self._looked_up += numbers.size
        if self._looked_up <= _MANY:
            return (np.searchsorted(self.starts, numbers, side="right") - 1).astype(np.int32)
        # Many are asked about: looked up in tables, of which one costs as much as a quarter of what it holds.
        rows = self._row_of[numbers >> _PART]
        if len(rows) and rows.min() < 0:
            for part in np.flatnonzero(np.bincount((numbers >> _PART)[rows < 0])).tolist():
                every = np.searchsorted(self.starts, np.arange(1 << _PART) + (part << _PART), side="right") - 1
                self._row_of[part] = len(self._atom_of) >> _PART
                self._atom_of = np.append(self._atom_of, every.astype(np.int32))
            rows = self._row_of[numbers >> _PART]
        found: NDArray[np.int32] = self._atom_of[rows << _PART | (numbers & (1 << _PART) - 1)]
        return found

    def ranges(self, numbers: RangeSet | None) -> NDArray[np.int64] | None:
        """A set that the line is cut by, as ranges of atoms: int64[n, 2], first and last; None for all numbers."""
        if numbers is None:
            return None
        return self.atoms(np.array(numbers.ranges, dtype=np.int64).reshape(-1, 2)).astype(np.int64)

    def span(self, atom: int) -> tuple[int, int]:
        """The first and the last number of an atom."""
        last = int(self.starts[atom + 1]) if atom + 1 < self.size else self.end
        return int(self.starts[atom]), last - 1


def service_line(
    ground: Ground, served: RangeSet, receivers: Iterable[Instance] | None = None, more: Iterable[int] = ()
) -> NumberLine:
    """The atoms of services; of ports both as those that are sent to and as those of clients. `receivers` are the
    instances that are sent to; None for all. `more` are numbers to begin an atom with."""
    cuts = {*service_cuts(ground, receivers), *more}
    for ports in client_ports(ground.topology):
        for protocol in _WITH_PORTS:
            for low, high in ports:
                cuts.update((protocol << 16 | low, (protocol << 16 | high) + 1))
    for low, high in served:
        cuts.update((low, high + 1))
    # What kind of message it is decides whether it is a reply or an error.
    cuts.update(protocol << 16 | kind << 8 for protocol in (ICMP, ICMP6) for kind in range(256))
    # Each protocol is told apart by the kernel, by whether it has ports, and by whether something answers it.
    cuts.update(protocol << 16 for protocol in range(256))
    return NumberLine(cuts, 1 << 24)


def port_line(ground: Ground, more: Iterable[int] = ()) -> NumberLine:
    """The atoms of a sender's ports, and behind 65,535 one for packets that have none. `more` are ports to begin an
    atom with."""
    cuts = {1 << 16, *more}
    for each in ground.topology.filters.values():
        for rule in each.every_rule():
            for low, high in rule.source_ports or ():
                cuts.update((low, high + 1))
    for name, numbers in kernel_numbers(ground.topology):
        if name == "sport":
            for low, high in numbers:
                cuts.update((low, high + 1))
    return NumberLine(cuts, (1 << 16) + 1)


NO_PORT = 1 << 16
"""Stands for the sender's port of a packet without ports."""


def kernel_numbers(topology: Topology) -> Iterator[tuple[str, RangeSet]]:
    """The fields that kernel rule sets look at, by name, each with the numbers it is compared with."""
    for (_, name), values in kernel_values(topology.instances.values()):
        yield name, values
