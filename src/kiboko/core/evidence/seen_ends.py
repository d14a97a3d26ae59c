"""What the addresses of records are to the network, as columns by atoms: who bears them, and under which others too."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.addresses import Address
from kiboko.core.records.columns import ascending
from kiboko.core.records.flow_table import AddressTable
from kiboko.core.tables.gate_tables import GateTables
from kiboko.core.tables.layout import INTERFACE_OF, MACHINE_OF, OWN, SUBNET_OF
from kiboko.core.tables.places import NONE
from kiboko.core.walk.walk import Walker

_APART, _FOREIGN, _PUBLIC, _TRANSLATED, _OUTSIDE, _NETWORK, _SHARED = range(7)


class SeenEnds:
    """Facts of the ends of one network, worked out for each atom of addresses when it is first met."""

    def __init__(self, walker: Walker, tables: GateTables, is_foreign: Callable[[Address], bool]) -> None:
        self._walker, self._tables = walker, tables
        self._is_foreign = is_foreign
        self._asked: tuple[AddressTable, NDArray[np.int64]] | None = None
        self._behind: dict[int, NDArray[np.int64]] = {}
        topology = walker.topology
        self._outsides = {name: number for number, name in enumerate(topology.outsides)}
        self._networks = {name: number for number, name in enumerate(topology.networks)}
        self._gateways = {name: number for number, name in enumerate(topology.gateways)}
        self._facts = np.full((7, tables.addresses.size), NONE, dtype=np.int32)
        self._is_known = np.zeros(tables.addresses.size, dtype=np.bool_)
        # Of each interface whether it has a public address, and its network; one more stands for none.
        interfaces, subnets = tables.layout.interfaces, topology.subnets
        self._has_public = np.array([*(each.public is not None for each in interfaces), False], dtype=np.bool_)
        owned = [self._networks[subnets[each.subnet].network] for each in interfaces]
        self._network_of = np.array([*owned, NONE], dtype=np.int64)
        # What is the public address of somebody, or shared.
        public = [tables.addresses.atom(address) for address in walker.directory.public_addresses()]
        self._elsewhere = np.array(public, dtype=np.int64)
        # One row and column more stand for an end without a network or outside.
        self._tunnels = np.zeros((len(self._networks) + 1, len(self._outsides) + 1), dtype=np.bool_)
        for gateway in topology.gateways.values():
            if gateway.kind == "tunnel" and gateway.outside is not None:
                for network in gateway.networks:
                    self._tunnels[self._networks[network], self._outsides[gateway.outside]] = True
        self._has_tunnels = bool(self._tunnels.any())

    def _of(self, which: int, atoms: NDArray[np.int64]) -> NDArray[np.int32]:
        if not self._is_known[atoms].all():
            fresh = ascending(atoms[~self._is_known[atoms]])[0]
            interface = self._tables.layout.fact(INTERFACE_OF, fresh.astype(np.int32))
            is_usual = (interface != NONE) & ~self._has_public[interface] & ~np.isin(fresh, self._elsewhere)
            usual, others = fresh[is_usual], fresh[~is_usual]
            # Most ends are those of machines within, known by one address.
            self._facts[:, usual] = np.array([[0, 0, 0, NONE, len(self._outsides), 0, NONE]], dtype=np.int64).T
            self._facts[_NETWORK, usual] = self._network_of[interface[is_usual]]
            if len(others):
                self._facts[:, others] = np.array([self._made(atom) for atom in others.tolist()], dtype=np.int64).T
            self._is_known[fresh] = True
        found: NDArray[np.int32] = self._facts[which][atoms]
        return found

    def _made(self, atom: int) -> tuple[int, ...]:
        directory, topology = self._walker.directory, self._walker.topology
        address = self._tables.addresses.first(atom)
        owner, endpoint = directory.interface_at(address), self._tables.places.end(atom).endpoint
        moved = owner is not None and owner.public is not None and owner.address(4) == address
        shared = directory.shared_owner(address)
        network = topology.subnets[owner.subnet].network if owner is not None else endpoint.network
        return (
            int(owner is None and directory.why_undeliverable(address) is not None),
            int(self._is_foreign(address)),
            int(directory.public_owner(address) is not None),
            self._tables.addresses.atom(owner.public) if moved and owner is not None and owner.public else NONE,
            self._outsides[endpoint.outside.name] if endpoint.outside is not None else len(self._outsides),
            self._networks[network] if network is not None else len(self._networks),
            self._gateways[shared.name] if shared is not None else NONE,
        )  # fmt: skip

    def atoms(self, addresses: AddressTable) -> NDArray[np.int64]:
        """The atoms of some addresses, int64[m]; of those of one table it is asked several times."""
        if self._asked is None or self._asked[0] is not addresses:
            found = self._tables.addresses.atoms(addresses.family, addresses.high, addresses.low).astype(np.int64)
            self._asked = addresses, found
        return self._asked[1]

    def own(self, atoms: NDArray[np.int64]) -> NDArray[np.int64]:
        """The atoms of the interfaces behind public addresses of ours, and any others as they are, int64[n]."""
        found: NDArray[np.int64] = self._tables.layout.fact(OWN, atoms.astype(np.int32))
        return found

    def subnets(self, atoms: NDArray[np.int64]) -> NDArray[np.int64]:
        """The numbers of the subnets of some ends, int64[n]; -1 for those outside."""
        found: NDArray[np.int64] = self._tables.layout.fact(SUBNET_OF, atoms.astype(np.int32))
        return found

    def identities(self, addresses: AddressTable) -> NDArray[np.int64]:
        """A number for each address, equal for the addresses in front of and behind a gateway of one interface (clause
        S38), int64[m]."""
        atoms = self.atoms(addresses)
        ends = self._tables.layout.ends_of(atoms.astype(np.int32))
        return np.where(ends[2] != NONE, ends[0], self._tables.addresses.size + addresses.firsts())

    def is_public(self, atoms: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Which are public addresses of our interfaces."""
        return self._of(_PUBLIC, atoms) > 0

    def is_apart(self, atoms: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Which no router delivers to one machine (clause S4)."""
        return self._of(_APART, atoms) > 0

    def is_foreign(self, atoms: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Which are neither in a network nor public ones of ours."""
        return self._of(_FOREIGN, atoms) > 0

    def shared_by(self, atoms: NDArray[np.int64]) -> NDArray[np.int32]:
        """The numbers of the gateways whose shared addresses they are, -1 for none."""
        return self._of(_SHARED, atoms)

    def target(
        self, sender: NDArray[np.int64], receiver: NDArray[np.int64], is_shown: NDArray[np.bool_],
        is_bare: NDArray[np.bool_] | None = None,
    ) -> NDArray[np.int64]:  # fmt: skip
        """The atoms of the addresses that senders used, int64[n]: where a receiver has a public one, that is it for
        whom it was seen in a record (`is_shown`), and for whom comes from outside without a tunnel (clause S1), but for
        those that were seen outside without one (`is_bare`)."""
        public = self._of(_TRANSLATED, receiver)
        outside, tunnelled = self._by_tunnel(sender, receiver)
        outside = outside if is_bare is None else outside & ~is_bare
        return np.where((public != NONE) & (is_shown | outside & ~tunnelled), public, receiver)

    def other_target(
        self, sender: NDArray[np.int64], receiver: NDArray[np.int64], is_shown: NDArray[np.bool_],
        is_bare: NDArray[np.bool_], may_be_two: NDArray[np.bool_] | None = None,
    ) -> NDArray[np.int64]:  # fmt: skip
        """The atoms of the addresses that senders may have used as well, -1 where there is none: by a tunnel one sends
        to the private address, and may to the public one. Where records show the one and the other (`is_shown` and
        `is_bare`) they may be of two conversations that nothing else tells apart, as pings are. So may those of who has
        no tunnel, where one was seen outside with the private address (`may_be_two`)."""
        public = self._of(_TRANSLATED, receiver)
        outside, tunnelled = self._by_tunnel(sender, receiver)
        other = np.where(~is_shown, public, np.where(is_bare, receiver, NONE))
        may_be = tunnelled if may_be_two is None else tunnelled | may_be_two
        return np.where((public != NONE) & outside & may_be, other, NONE)

    def _by_tunnel(
        self, sender: NDArray[np.int64], receiver: NDArray[np.int64]
    ) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
        """Which senders are outside, and which of them have a tunnel to the receiver's network."""
        outside = self._of(_OUTSIDE, sender)
        is_outside = outside < len(self._outsides)
        if not self._has_tunnels:
            return is_outside, np.zeros(len(sender), dtype=np.bool_)
        return is_outside, self._tunnels[self._of(_NETWORK, receiver), outside]

    def machines(self, atoms: NDArray[np.int64]) -> NDArray[np.int64]:
        """The numbers of the machines at some atoms, int64[n]; NONE for none."""
        return self._tables.layout.fact(MACHINE_OF, atoms.astype(np.int32))

    def behind(self, gateway: int) -> NDArray[np.int64]:
        """The atoms of every sender that may stand behind the shared address of a gateway: interfaces of its networks,
        of IPv4. What is sent to is none of them (clause E11)."""
        if gateway not in self._behind:
            self._behind[gateway] = self._find_behind(gateway)
        return self._behind[gateway]

    def _find_behind(self, gateway: int) -> NDArray[np.int64]:
        topology = self._walker.topology
        networks = topology.gateways[list(topology.gateways)[gateway]].networks
        found = [
            self._tables.addresses.atom(address)
            for interface in self._walker.directory.interfaces()
            if topology.subnets[interface.subnet].network in networks
            for address in interface.addresses
            if address.family == 4
        ]
        return np.array(found, dtype=np.int64)
