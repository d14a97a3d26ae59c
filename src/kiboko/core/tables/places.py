"""What the way of a packet depends on of its two ends, and nothing more.

Ten thousand machines have ten thousand addresses, and few *places*: the way of a packet (`kiboko.core.routing.path`)
looks at an end's network, routes, zone, at whether it has a public address, and so on, and not at which machine it is.
Two ends of one place take the same way to and from any other, but for the names of their own gates.
"""

from __future__ import annotations

from bisect import bisect_right
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.filters.ground import Ground
from kiboko.core.header.addresses import BITS, IPV6_NOT_GLOBAL, PRIVATE_BLOCKS, Address
from kiboko.core.network.directory import Endpoint
from kiboko.core.network.model import Subnet
from kiboko.core.records.columns import distinct
from kiboko.core.tables.lines import AddressLine
from kiboko.core.tables.route_pieces import RoutePieces

NONE = -1
_BY_SUBNET = 4
"""Where in the key of a place that stands which its subnet brings with it, the zone first."""
_FEW = 1_000
"""As many ends are sooner looked at one by one than all bearers of addresses."""

Rows = NDArray[np.int64]
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


class Form(NamedTuple):
    """A place apart from the zone of its subnet: what is left, as a number, and the zone, None for none."""

    number: int
    zone: str | None


class _Bearers(NamedTuple):
    """Who bears which address. By atom: the number of the interface, -1 for none, whether it is the interface's first
    address of its family, whether it is nobody's own and no public one of ours, and a number that is the same where
    routes, gateways, outsides and subnets tell nothing apart; by interface: whether it has no public address and is no
    next hop (one row more stands for none), its subnet, whether its machine runs, and the machine's number."""

    interface: Rows
    is_first: NDArray[np.bool_]
    is_nobodys: NDArray[np.bool_]
    piece: Rows
    is_usual: NDArray[np.bool_]
    subnet: Rows
    is_running: NDArray[np.bool_]
    machine: Rows


class Places:
    """The ends of one network by the atoms of their addresses, worked out when they are first asked for."""

    def __init__(self, ground: Ground, line: AddressLine) -> None:
        self._directory = ground.directory
        self._topology = ground.topology
        self._line = line
        self._interfaces = {each.name: number for number, each in enumerate(self._directory.interfaces())}
        self._subnets = {name: number for number, name in enumerate(self._topology.subnets)}
        self._machines = {name: number for number, name in enumerate(self._topology.instances)}
        self._tables: dict[object, int] = {}
        self._table_numbers: dict[str | None, int] = {}
        entries = [entry for table in self._topology.route_tables.values() for entry in table.entries]
        self._seen: dict[tuple[int, int], PlaceKey] = {}
        self._next_hops = frozenset(entry.instance for entry in entries if entry.instance)
        self._hop_subnets = frozenset(
            each.subnet for name in self._next_hops for each in self._topology.instances[name].interfaces
        )
        self._routes = RoutePieces(self._topology, self._hop_subnets)
        self._fixed = {family: self._seen_edges(family) for family in (4, 6)}
        """Where anything but a route that routes, gateways and outsides look at begins, and where it has ended."""
        self._edges = {family: sorted({*self._fixed[family], *self._routes.edges[family]}) for family in (4, 6)}
        self._numbers: dict[PlaceKey, int] = {}
        self._form_numbers: dict[PlaceKey, int] = {}
        self._forms: list[Form] = []
        # Zones that are crossed whatever the zones of both ends are: those of outsides, and of what passes packets on.
        crossed = [each.zone for each in self._topology.outsides.values()]
        crossed += [self._topology.subnets[name].zone for name in self._hop_subnets]
        self._crossed = frozenset(crossed)
        self._borne: _Bearers | None = None
        self._ends: dict[int, PlacedEnd] = {}

    def __len__(self) -> int:
        return len(self._numbers)

    def end(self, atom: int) -> PlacedEnd:
        """The end that an atom of addresses stands for."""
        found = self._ends.get(atom)
        if found is None:
            found = self._ends[atom] = self._made(atom)
        return found

    def numbers(self, atoms: Rows) -> Rows:
        """Of each of some atoms what `PlacedEnd` says of it as numbers, int64[6, n]: `own`, `public`, `interface`,
        `subnet`, `place`, and the number of the machine. No ends are made of most."""
        found = np.full((6, len(atoms)), NONE, dtype=np.int64)
        if self._borne is None and len(atoms) < _FEW:
            for row, atom in enumerate(atoms.tolist()):
                found[:, row] = self._numbers_of(self.end(atom))
            return found
        bearer = self._bearers()
        interface = bearer.interface[atoms]
        usual = np.flatnonzero((interface != NONE) & bearer.is_usual[interface])
        if len(usual):
            mine, borne = atoms[usual], interface[usual]
            told = (bearer.subnet[borne], bearer.is_first[mine], bearer.piece[mine], bearer.is_running[borne])
            kinds = distinct(*told, mine >= self._line.second)
            places = np.array([self.end(int(mine[row])).place for row in kinds.first.tolist()], dtype=np.int64)
            found[0, usual], found[2, usual], found[3, usual] = mine, borne, bearer.subnet[borne]
            found[4, usual], found[5, usual] = places[kinds.codes], bearer.machine[borne]
        nobodys = np.flatnonzero(bearer.is_nobodys[atoms])
        if len(nobodys):
            mine = atoms[nobodys]
            alike = distinct(bearer.piece[mine], mine >= self._line.second)
            ends = [self.end(int(mine[row])) for row in alike.first.tolist()]
            found[0, nobodys] = mine
            found[3, nobodys] = np.array([each.subnet for each in ends], dtype=np.int64)[alike.codes]
            found[4, nobodys] = np.array([each.place for each in ends], dtype=np.int64)[alike.codes]
        others = np.flatnonzero(found[0] == NONE)
        for row in others.tolist():
            found[:, row] = self._numbers_of(self.end(int(atoms[row])))
        return found

    def _numbers_of(self, end: PlacedEnd) -> tuple[int, ...]:
        machine = self._machines[end.instance] if end.instance else NONE
        return end.own, end.public, end.interface, end.subnet, end.place, machine

    def _bearers(self) -> _Bearers:
        """Who bears which atom, worked out once."""
        if self._borne is None:
            self._borne = self._find_bearers()
        return self._borne

    def _find_bearers(self) -> _Bearers:
        directory, topology, line = self._directory, self._topology, self._line
        interfaces = directory.interfaces()
        borne: list[Address] = []
        by, first = [], []
        for number, interface in enumerate(interfaces):
            for address in interface.addresses:
                borne.append(address)
                by.append(number)
                first.append(interface.address(address.family) == address)
        interface_of, is_first = np.full(line.size, NONE, dtype=np.int64), np.zeros(line.size, dtype=np.bool_)
        at = line.atoms_of(borne)
        interface_of[at], is_first[at] = by, first
        is_nobodys = np.ones(line.size, dtype=np.bool_)
        is_nobodys[at] = False
        for address in directory.public_addresses():
            atom = line.atom(address)
            interface_of[atom], is_nobodys[atom] = NONE, False
        usual = [each.public is None and each.instance not in self._next_hops for each in interfaces]
        running = [topology.instances[each.instance].running for each in interfaces]
        return _Bearers(
            interface_of, is_first, is_nobodys, self._pieces(), np.array([*usual, False], dtype=np.bool_),
            np.array([self._subnets[each.subnet] for each in interfaces], dtype=np.int64),
            np.array(running, dtype=np.bool_),
            np.array([self._machines[each.instance] for each in interfaces], dtype=np.int64),
        )  # fmt: skip

    def _pieces(self) -> Rows:
        """A number for each atom, the same where routes, gateways, outsides and subnets tell nothing apart."""

        def atoms_at(edges: dict[int, list[int]]) -> Rows:
            return np.sort(self._line.atoms_of([Address(family, edge) for family in (4, 6) for edge in edges[family]]))

        # Where any of these begins or ends an atom begins as well; a piece of the routes begins with each family.
        atoms = np.arange(self._line.size)
        between = np.searchsorted(atoms_at(self._fixed), atoms, side="right")
        by_route = np.searchsorted(atoms_at(self._routes.edges), atoms, side="right") - 1
        sent = np.array([number for family in (4, 6) for number in self._routes.numbers[family]], dtype=np.int64)
        return distinct(between, sent[by_route]).codes

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
            self._number(self._key(address, endpoint), endpoint.subnet),
        )

    def _number(self, key: PlaceKey, subnet: Subnet | None) -> int:
        number = self._numbers.setdefault(key, len(self._numbers))
        if number == len(self._forms):
            zone = subnet.zone if subnet is not None else None
            by_subnet = key[_BY_SUBNET]
            assert isinstance(by_subnet, tuple)
            without = (*key[:_BY_SUBNET], by_subnet[1:], *key[_BY_SUBNET + 1 :])
            self._forms.append(Form(self._form_numbers.setdefault(without, len(self._form_numbers)), zone))
        return number

    def form(self, place: int) -> Form:
        """A place apart from the zone of its subnet."""
        return self._forms[place]

    def is_free(self, zone: str | None) -> bool:
        """Whether a zone is crossed only for being that of an end, so that any other such zone would do as well."""
        return zone is not None and zone not in self._crossed

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

    def _seen_edges(self, family: int) -> list[int]:
        topology = self._topology
        blocks = [block for subnet in topology.subnets.values() for block in subnet.blocks]
        blocks += [block for network in topology.networks.values() for block in (*network.blocks, *network.public)]
        blocks += [*PRIVATE_BLOCKS, *(block for outside in topology.outsides.values() for block in outside.prefixes)]
        edges = {edge for block in blocks if block.family == family for edge in (block.value, block.last + 1)}
        if family == 6:
            edges.update(edge for low, high in IPV6_NOT_GLOBAL for edge in (low, high + 1))
        return sorted(edge for edge in edges if edge < 1 << BITS[family])

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
                self._routes.number(address), directory.is_global(address),
                network.name if network is not None else None, subnet is not None,
                outside.name if outside is not None else None,
            )  # fmt: skip
        return found
