"""Who has which address: interfaces, subnets, networks, outsides, public and shared addresses."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator, Mapping
from copy import copy
from typing import NamedTuple

from kiboko.core.header.addresses import (
    BITS,
    PRIVATE_BLOCKS,
    SPECIAL_PURPOSE,
    Address,
    AddressSet,
    Prefix,
    is_global_ipv6,
    special_purpose,
)
from kiboko.core.header.prefixes import PrefixTable
from kiboko.core.network.model import Gateway, Instance, Interface, Network, Outside, Subnet, Topology


class Endpoint(NamedTuple):
    """One end of a flow, as recorded: an address and what it belongs to.

    `name` is how the user or the file calls it. An endpoint has an interface and its subnet, or a bare subnet
    (nobody recorded there), or a bare network, or an outside, or none of these (clause S4).
    """

    address: Address
    name: str
    interface: Interface | None = None
    subnet: Subnet | None = None
    network: str | None = None
    outside: Outside | None = None

    @property
    def is_anywhere(self) -> bool:
        """Whether the endpoint has an address at all."""
        return self.address.value != 0 or self.outside is not None or self.network is not None

    @property
    def zone(self) -> str | None:
        """The zone of the endpoint's subnet or outside."""
        if self.subnet is not None:
            return self.subnet.zone
        return self.outside.zone if self.outside else None


SHARED = " (shared)"
"""Behind the name of a gateway: the address that it shares out."""


class _Blocks:
    """Disjoint blocks with a value each, found by bisection."""

    def __init__(self, items: list[tuple[Prefix, str]]) -> None:
        self._starts: dict[int, list[int]] = {}
        self._items: dict[int, list[tuple[Prefix, str]]] = {}
        for family in (4, 6):
            chosen = sorted((item for item in items if item[0].family == family), key=lambda i: i[0].value)
            self._items[family] = chosen
            self._starts[family] = [prefix.value for prefix, _ in chosen]

    def find(self, address: Address) -> str | None:
        index = bisect_right(self._starts[address.family], address.value) - 1
        if index < 0:
            return None
        prefix, value = self._items[address.family][index]
        return value if address in prefix else None


class Directory:
    """The look-ups over one topology. Built once; holds no state of any walk."""

    def __init__(self, topology: Topology) -> None:
        self.topology = topology
        self._interfaces: dict[Address, Interface] = {}
        self._publics: dict[Address, Interface] = {}
        self._by_name: dict[str, Interface] = {}
        self.without_address = [
            name for name, instance in topology.instances.items() if not any(i.addresses for i in instance.interfaces)
        ]
        for instance in topology.instances.values():
            for interface in instance.interfaces:
                self._by_name[interface.name] = interface
                for address in interface.addresses:
                    self._interfaces[address] = interface
                if interface.public is not None:
                    self._publics[interface.public] = interface
        self._subnets = _Blocks([(b, s.name) for s in topology.subnets.values() for b in s.blocks])
        self._networks = _Blocks([(b, n.name) for n in topology.networks.values() for b in n.blocks])
        listed: list[tuple[Prefix, Outside | None]] = [(p, o) for o in topology.outsides.values() for p in o.prefixes]
        private = [(block, self._behind_tunnel(block)) for block in PRIVATE_BLOCKS]
        self._outsides = PrefixTable([*listed, *private])
        self.unrouted = AddressSet.union(
            AddressSet.of_prefixes([block]) - AddressSet.of_prefixes(p for p, _ in listed if block.covers(p))
            for block, outside in private
            if outside is None
        )
        """Private addresses that belong to no outside, whether or not one lists a wider block (clause S2)."""
        self._shared = {g.address: g for g in topology.gateways.values() if g.address is not None}
        self._public_blocks = AddressSet.of_prefixes(
            block for network in topology.networks.values() for block in network.public
        ).v4
        self.network_blocks = AddressSet.of_prefixes(
            block for network in topology.networks.values() for block in network.blocks
        )

        # RFC 919, section 7: the first and the last address of a block stand for all of it; RFC 3021 excepts /31.
        edges = [
            Address(4, value)
            for subnet in topology.subnets.values()
            for block in subnet.blocks
            if block.family == 4 and block.length < 31
            for value in (block.value, block.last)
        ]
        self._edges = AddressSet.of_addresses(a for a in edges if a not in self._interfaces)
        self.undeliverable = AddressSet.union([*SPECIAL_PURPOSE.values(), self._edges])

    def _behind_tunnel(self, block: Prefix) -> Outside | None:
        """The outside of the longest wider block that has a tunnel: what is private there may come by that."""
        led_to = {each.outside for each in self.topology.gateways.values() if each.kind == "tunnel"}
        wider = [(prefix.length, each.name) for each in self.topology.outsides.values() if each.name in led_to
                 for prefix in each.prefixes if prefix.covers(block)]  # fmt: skip
        return self.topology.outsides[max(wider)[1]] if wider else None

    def outside_addresses(self, name: str) -> AddressSet:
        """What an outside lists, without the private addresses that are nobody's beyond a network (clause S2)."""
        return AddressSet.of_prefixes(self.topology.outsides[name].prefixes) - self.unrouted

    def of_changed(self, topology: Topology) -> Directory:
        """The directory of a changed topology, which shares what the change leaves as it is: all look-ups, where every
        interface, subnet, network, outside and gateway is the same."""
        own = self.topology
        if own is topology:
            return self
        alike = all(
            getattr(own, part) is getattr(topology, part) for part in ("subnets", "networks", "outsides", "gateways")
        )
        if not alike or not _same_interfaces(own.instances, topology.instances):
            return Directory(topology)
        changed = copy(self)
        changed.topology = topology
        return changed

    def why_undeliverable(self, address: Address) -> str | None:
        """What an address is that no packet to one machine goes to, such as `multicast`; None for any other."""
        if address in self._edges:
            subnet = self.subnet_of(address)
            return f"broadcast in subnet {subnet.name}" if subnet is not None else "broadcast"
        return special_purpose(address) if self.interface_at(address) is None else None

    def interface_at(self, address: Address) -> Interface | None:
        """The interface that bears this private address."""
        return self._interfaces.get(address)

    def is_global(self, address: Address) -> bool:
        """Whether an address is the same to those beyond its network: a global IPv6 address, and an IPv4 address of a
        block that its network calls public (clause S6)."""
        if address.family == 4:
            return bool(self._public_blocks) and address.value in self._public_blocks
        return is_global_ipv6(address)

    def public_owner(self, address: Address) -> Interface | None:
        """The interface that an internet gateway translates this public address to."""
        return self._publics.get(address)

    def name_of(self, address: Address) -> str:
        """What an address is called: its instance, outside, subnet or network, or the gateway that shares it out; else
        the address itself."""
        shared = self._shared.get(address)
        if shared is not None:
            return shared.name + SHARED
        end = self.endpoint(address)
        if end.interface is not None:
            return end.interface.instance
        if end.outside is not None:
            return end.outside.name
        return end.subnet.name if end.subnet is not None else end.network or str(address)

    def name_edges(self) -> Iterator[Address]:
        """Where a stretch of addresses of one name begins, or one of addresses that are called by themselves."""
        topology = self.topology
        blocks = [block for subnet in topology.subnets.values() for block in subnet.blocks]
        blocks += [block for network in topology.networks.values() for block in network.blocks]
        blocks += [*PRIVATE_BLOCKS, *(block for outside in topology.outsides.values() for block in outside.prefixes)]
        stretches = [(block.family, block.value, block.last) for block in blocks]
        stretches += [(each.family, each.value, each.value) for each in (*self._interfaces, *self.public_addresses())]
        for family, first, last in stretches:
            yield Address(family, first)
            if last + 1 < 1 << BITS[family]:
                yield Address(family, last + 1)

    def is_by_itself(self, address: Address) -> bool:
        """Whether an address is called by itself, since nothing is recorded that holds it."""
        if address in self._interfaces:
            return False
        end = self.endpoint(address)
        is_held = end.interface is not None or end.outside is not None or end.network is not None
        return not is_held and address not in self._shared

    def end_name(self, address: Address) -> str:
        """What to call an address where it is asked about as an end: as `name_of` does, but for addresses of a machine
        that its name does not mean (S3), which are called by their interface or by themselves."""
        own = self._interfaces.get(address)
        is_plain = own is not None and own.address(address.family) == address and address not in self._shared
        if own is not None and is_plain and self.topology.instances[own.instance].interfaces[0] is own:
            return own.instance  # as nearly every address of a machine is called
        end = self.endpoint(address)
        interface = end.interface
        if interface is None or address in self._shared:
            return self.name_of(address)
        family = end.address.family
        if interface.address(family) != end.address:
            return str(end.address)
        machine = self.topology.instances[interface.instance]
        is_first = next(each for each in machine.interfaces if each.address(family) is not None) is interface
        return interface.instance if is_first else interface.name

    def public_addresses(self) -> list[Address]:
        """Every public address of ours, shared ones of nat gateways included."""
        return [*self._publics, *self._shared]

    def shared_owner(self, address: Address) -> Gateway | None:
        """The nat gateway whose shared address this is."""
        return self._shared.get(address)

    def interface(self, name: str) -> Interface | None:
        """An interface by its full name `instance/interface`."""
        return self._by_name.get(name)

    def interfaces(self) -> list[Interface]:
        """Every interface, in file order."""
        return list(self._by_name.values())

    def instance_of(self, interface: Interface) -> Instance:
        """The machine that an interface belongs to."""
        return self.topology.instances[interface.instance]

    def subnet_of(self, address: Address) -> Subnet | None:
        """The subnet whose block holds the address."""
        name = self._subnets.find(address)
        return self.topology.subnets[name] if name else None

    def network_of(self, address: Address) -> Network | None:
        """The network whose block holds the address."""
        name = self._networks.find(address)
        return self.topology.networks[name] if name else None

    def outside_of(self, address: Address) -> Outside | None:
        """The outside an address belongs to: none for an address of a network (clause S2)."""
        return None if self._networks.find(address) else self.outside_holding(address)

    def outside_holding(self, address: Address) -> Outside | None:
        """The outside with the longest prefix that holds the address, whoever else uses it (clause S29)."""
        return self._outsides.longest(address)

    def belongs_nowhere(self, address: Address, within: str) -> str:
        """Words for an address that belongs to no subnet or network (`within`) and no outside (clause S4)."""
        private = ": it is private, and nobody's beyond a network" if address in self.unrouted else ""
        return f"{address} belongs to no {within} and no outside{private}"

    def internet_gateway(self, network: str) -> Gateway | None:
        """The network's first internet gateway, in file order."""
        for gateway in self.topology.gateways.values():
            if gateway.kind == "internet" and network in gateway.networks:
                return gateway
        return None

    def tunnel(self, network: str, outside: str) -> Gateway | None:
        """The tunnel between a network and an outside."""
        for gateway in self.topology.gateways.values():
            if gateway.kind == "tunnel" and network in gateway.networks and gateway.outside == outside:
                return gateway
        return None

    def endpoint(self, address: Address, name: str | None = None) -> Endpoint:
        """The end that an address stands for as a sender: a public address of ours is its interface (S1)."""
        interface = self.interface_at(address)
        if interface is None and (owner := self.public_owner(address)) is not None:
            private = owner.address(address.family)
            if private is not None:
                interface, address = owner, private
        if interface is not None:
            subnet = self.topology.subnets[interface.subnet]
            return Endpoint(address, name or interface.instance, interface, subnet, subnet.network)
        subnet_found = self.subnet_of(address)
        network = self.network_of(address)
        return Endpoint(
            address,
            name or str(address),
            None,
            subnet_found,
            network.name if network else None,
            None if network else self.outside_holding(address),
        )


def _same_interfaces(some: Mapping[str, Instance], others: Mapping[str, Instance]) -> bool:
    if some is others:
        return True
    if len(some) != len(others):
        return False
    return all(
        name == other and (one is changed or one.interfaces is changed.interfaces)
        for (name, one), (other, changed) in zip(some.items(), others.items(), strict=True)
    )
