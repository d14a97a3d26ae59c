"""What the way of a packet depends on of its two ends, and nothing more.

Ten thousand machines have ten thousand addresses, and few *places*: the way of a packet (`kiboko.core.routing.path`)
looks at an end's network, routes, zone, at whether it has a public address, and so on, and not at which machine it is.
Two ends of one place take the same way to and from any other, but for the names of their own gates.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator
from typing import NamedTuple

from kiboko.core.filters.ground import Ground
from kiboko.core.header.addresses import IPV6_NOT_GLOBAL, Address, is_global_ipv6
from kiboko.core.network.directory import Endpoint
from kiboko.core.network.model import Interface, RouteEntry
from kiboko.core.tables.lines import AddressLine

NONE = -1

PlaceKey = tuple[object, ...]


class PlacedEnd(NamedTuple):
    """An atom of addresses as an end: `own` is the atom of the address behind a public one of ours, `public` that of
    its interface's public address; `interface` and `subnet` are numbers in file order; -1 where there is none."""

    endpoint: Endpoint
    own: int
    public: int
    interface: int
    subnet: int
    instance: str
    place: int


class Places:
    """The ends of one network by the atoms of their addresses, worked out when they are first asked for."""

    def __init__(self, ground: Ground, line: AddressLine) -> None:
        self._directory = ground.directory
        self._topology = ground.topology
        self._line = line
        self._interfaces = {each.name: number for number, each in enumerate(self._directory.interfaces())}
        self._subnets = {name: number for number, name in enumerate(self._topology.subnets)}
        self._tables: dict[object, int] = {}
        self._table_numbers: dict[str | None, int] = {}
        entries = [entry for table in self._topology.route_tables.values() for entry in table.entries]
        self._routes = {family: self._route_edges(entries, family) for family in (4, 6)}
        self._edges = {family: self._seen_edges(family) for family in (4, 6)}
        self._seen: dict[tuple[int, int], PlaceKey] = {}
        self._next_hops = frozenset(entry.instance for entry in entries if entry.instance)
        self._hop_subnets = frozenset(
            each.subnet for name in self._next_hops for each in self._topology.instances[name].interfaces
        )
        self._numbers: dict[PlaceKey, int] = {}
        self._usual: dict[PlaceKey, int] = {}
        self._ends: dict[int, PlacedEnd] = {}

    def __len__(self) -> int:
        return len(self._numbers)

    def end(self, atom: int) -> PlacedEnd:
        """The end that an atom of addresses stands for."""
        found = self._ends.get(atom)
        if found is None:
            found = self._ends[atom] = self._made(atom)
        return found

    def numbers(self, atoms: list[int]) -> Iterator[tuple[int, int, int, int, str, int]]:
        """Of each of some atoms what `PlacedEnd` says, but for the end itself, in other order: `own`, `public`,
        `interface`, `subnet`, `instance`, `place`. No ends are made of most."""
        directory, first = self._directory, self._line.first
        for atom in atoms:
            address = first(atom)
            interface = directory.interface_at(address)
            if interface is None or not self._is_usual(address, interface):
                end = self.end(atom)
                yield end.own, end.public, end.interface, end.subnet, end.instance, end.place
            else:
                place = self._usual_place(address, interface)
                yield (atom, NONE, self._interfaces[interface.name], self._subnets[interface.subnet],
                       interface.instance, place)  # fmt: skip

    def _made(self, atom: int) -> PlacedEnd:
        address = self._line.first(atom)
        endpoint = self._directory.endpoint(address)
        interface = endpoint.interface
        public = interface.public if interface is not None else None
        return PlacedEnd(
            endpoint,
            atom if endpoint.address == address else self._line.atom(endpoint.address),
            self._line.atom(public) if public is not None and endpoint.address.family == 4 else NONE,
            self._interfaces[interface.name] if interface is not None else NONE,
            self._subnets[endpoint.subnet.name] if endpoint.subnet is not None else NONE,
            interface.instance if interface is not None else "",
            self._place(address, endpoint),
        )

    def _place(self, address: Address, endpoint: Endpoint) -> int:
        """The number of the place of an end."""
        if endpoint.interface is not None and self._is_usual(address, endpoint.interface):
            return self._usual_place(address, endpoint.interface)
        return self._numbers.setdefault(self._key(address, endpoint), len(self._numbers))

    def _is_usual(self, address: Address, interface: Interface) -> bool:
        """Whether an interface has no public address, is no next hop, and an address of it is nobody else's."""
        directory = self._directory
        return not (
            interface.public is not None or interface.instance in self._next_hops
            or directory.shared_owner(address) is not None or directory.public_owner(address) is not None
        )  # fmt: skip

    def _usual_place(self, address: Address, interface: Interface) -> int:
        """The number of the place of such an interface. Of one subnet most machines are told apart by nothing: for them
        it is worked out once."""
        family = address.family
        told = (
            interface.subnet, family, bisect_right(self._edges[family], address.value),
            interface.addresses[0] == address or interface.address(family) == address,
            self._directory.instance_of(interface).running,
        )  # fmt: skip
        found = self._usual.get(told)
        if found is None:
            key = self._key(address, self._directory.endpoint(address))
            found = self._usual[told] = self._numbers.setdefault(key, len(self._numbers))
        return found

    def _key(self, address: Address, endpoint: Endpoint) -> PlaceKey:
        directory, interface, subnet = self._directory, endpoint.interface, endpoint.subnet
        owner = directory.public_owner(address)
        shared = directory.shared_owner(address)
        public = interface.public if interface is not None else None
        own = endpoint.address
        seen = self._seen_by_routes(address)
        machine: PlaceKey = ()
        if interface is not None:
            instance = directory.instance_of(interface)
            machine = (
                instance.running, interface.address(own.family) == own, public is not None,
                instance.name if instance.name in self._next_hops else None,
            )  # fmt: skip
        by_subnet: PlaceKey = ()
        if subnet is not None:
            by_subnet = (subnet.zone, self._table_number(subnet.route_table),
                         subnet.name if subnet.name in self._hop_subnets else None)  # fmt: skip
        return (
            own.family, endpoint.network, endpoint.outside.name if endpoint.outside is not None else None,
            machine, by_subnet, owner is not None, shared.name if shared is not None else None,
            seen, seen if own == address else self._seen_by_routes(own),
            self._seen_by_routes(public) if public is not None else None,
        )  # fmt: skip

    def _table_number(self, name: str | None) -> int:
        """Equal for route tables that say the same."""
        if name in self._table_numbers:
            return self._table_numbers[name]
        entries = self._topology.route_tables[name].entries if name else ()
        said = tuple(
            (entry.to, entry.origin, entry.gateway, entry.instance, entry.interface, entry.discard) for entry in entries
        )
        return self._table_numbers.setdefault(name, self._tables.setdefault(said, len(self._tables)))

    def _route_edges(self, entries: list[RouteEntry], family: int) -> list[int]:
        """Where the routes of a family begin, and where they have ended."""
        blocks = [entry.to for entry in entries if entry.to.family == family]
        return sorted({edge for block in blocks for edge in (block.value, block.last + 1)})

    def _seen_edges(self, family: int) -> list[int]:
        """Where anything that routes, gateways and outsides look at begins, and where it has ended."""
        topology = self._topology
        blocks = [block for subnet in topology.subnets.values() for block in subnet.blocks]
        blocks += [block for network in topology.networks.values() for block in network.blocks]
        blocks += [block for outside in topology.outsides.values() for block in outside.prefixes]
        edges = {edge for block in blocks if block.family == family for edge in (block.value, block.last + 1)}
        if family == 6:
            edges.update(edge for low, high in IPV6_NOT_GLOBAL for edge in (low, high + 1))
        edges.update(self._routes[family])
        return sorted(edges)

    def _seen_by_routes(self, address: Address) -> PlaceKey:
        """What routes, gateways and outsides make of an address: worked out once between any two edges."""
        family = address.family
        piece = family, bisect_right(self._edges[family], address.value)
        found = self._seen.get(piece)
        if found is None:
            directory = self._directory
            network, subnet = directory.network_of(address), directory.subnet_of(address)
            outside = directory.outside_holding(address)
            found = self._seen[piece] = (
                bisect_right(self._routes[family], address.value), is_global_ipv6(address),
                network.name if network is not None else None, subnet is not None,
                outside.name if outside is not None else None,
            )  # fmt: skip
        return found
