"""The way of a packet through the network: every gate in order, with the addresses it bears at that gate.

Only addresses and routes decide the way, never ports and never filters, so a path is worked out once and then
judged (`kiboko.core.walk.walk`). The clauses are S5, S7 to S10, S24 and S26 to S31.
"""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass, field

from kiboko.core.header.addresses import Address
from kiboko.core.network.directory import Directory, Endpoint
from kiboko.core.network.model import Gateway, Interface, Outside, RouteEntry, Subnet
from kiboko.core.routing.gateways import is_public_of_ours, no_way_in, not_carried
from kiboko.core.routing.next_hops import exit_interface, next_hop
from kiboko.core.routing.routes import Lookup, Router
from kiboko.core.routing.steps import UNREACHABLE, Path, Step, Stop, crossing_name

MOST_HOPS = 16


@dataclass(slots=True)
class _Packet:
    """The addresses as they change under way."""

    source: Address
    destination: Address


@dataclass(slots=True)
class _Trip:
    """A path being worked out. `answers` is the request's path where this one is the reply; `made_by` the instance that
    made the packet, None where a router did or somebody of whom nothing is recorded; `network` that of a message whose
    sender's address the packet is not worked out with, and `own` that address, where it is known."""

    origin: Endpoint
    packet: _Packet
    answers: Path | None = None
    made_by: str | None = None
    network: str | None = None
    own: Address | None = None
    steps: list[Step] = field(default_factory=list)
    arrival: Endpoint | None = None
    entered: list[str] = field(default_factory=list)
    reply_from: Address | None = None

    def add(self, gate: str, at: str, **details: object) -> None:
        self.steps.append(Step(gate, at, self.packet.source, self.packet.destination, **details))  # type: ignore[arg-type]

    def path(self, target: Address) -> Path:
        reply_from = self.reply_from or target
        return Path(self.origin, target, tuple(self.steps), self.arrival, self.packet.source, reply_from)


class PathFinder:
    """Works out paths over one topology."""

    def __init__(self, directory: Directory) -> None:
        self.directory = directory
        self.router = Router(directory)
        self._words: dict[int, str] = {}

    def forward(self, origin: Endpoint, target: Address) -> Path:
        """The request's way from `origin` to the address it is sent to."""
        trip = _Trip(origin, _Packet(origin.address, target), made_by=_instance_of(origin))
        self._source_gate(trip)
        self._set_out(trip, origin)
        if trip.arrival is not None:
            self._listener(trip)
        return trip.path(target)

    def is_cut_off(self, origin: Endpoint, target: Address) -> bool:
        """Whether the router of an end's own subnet, or the gateway that it sends by, carries nothing to an address,
        whatever filters say. False where another machine is to pass it on."""
        trip, entry, stop = self._sent_off(origin, target)
        gateway = self.directory.topology.gateways[entry.gateway] if entry is not None and entry.gateway else None
        if stop is not None or gateway is None or gateway.kind not in ("internet", "nat"):
            return stop is not None
        return self._translated_source(trip, gateway) is None

    def stop_at_router(self, origin: Endpoint, target: Address) -> Stop | None:
        """Why the router of an end's own subnet does not send on what is for an address; None where it does, or where
        another machine is to pass it on."""
        return self._sent_off(origin, target)[2]

    def _sent_off(self, origin: Endpoint, target: Address) -> tuple[_Trip, RouteEntry | None, Stop | None]:
        """What an end sends, by which entry of its subnet's table, and why that does not carry it; neither where
        another machine is to pass it on, or no router is asked."""
        trip, subnet = _Trip(origin, _Packet(origin.address, target)), origin.subnet
        if subnet is None or target in subnet:
            return trip, None, None
        entry = self.router.look_up(subnet, target).entry
        if entry is not None and entry.instance:
            return trip, None, None
        return trip, entry, self._stop_of(trip, subnet, entry, None)

    def reply(self, request: Path) -> Path | None:
        """The reply's way, by the tables of the receiver; None where there is nobody to reply."""
        receiver = request.arrival
        if receiver is None:
            return None
        trip = _Trip(receiver, _Packet(receiver.address, request.source_seen), request, _instance_of(receiver))
        self._set_out(trip, receiver)
        return trip.path(request.source_seen)

    def from_router(self, subnet: Subnet, request: Path, step: Step, is_message: bool) -> Path:
        """The way of a refusal that the router of `subnet` sends from the gate `step` to the sender (S34). A message of
        ICMP comes from an address of its own network, a reset from the one that the request was sent to."""
        trip = self._turned_at(request, step)
        trip.network = subnet.network if is_message else None
        if step.source in subnet:
            self._arrive(trip, subnet, direct=True)
        else:
            self._route_out(trip, subnet, None, at_router=True)
        return trip.path(step.source)

    def from_core(self, request: Path, step: Step) -> Path:
        """The way of a refusal that the core sends from a `zone` gate, or where it knows no way on, by the subnet or
        gateway that the request came from (S31, S34)."""
        trip = self._turned_at(request, step)
        before = request.steps[: request.steps.index(step)]
        gateway = next((s.gateway for s in reversed(before) if s.gateway is not None), None)
        if gateway is None:
            subnet, outside = request.origin.subnet, request.origin.outside
            if subnet is not None:
                self._arrive(trip, subnet)
            elif outside is not None:
                self._arrive_outside(trip, outside)
            return trip.path(step.source)
        translated = trip.packet.source if gateway.kind == "tunnel" else self._translated_source(trip, gateway)
        self._translate_out(trip, gateway, translated or trip.packet.source)
        outside = request.origin.outside
        if outside is not None:
            self._arrive_outside(trip, outside)
        else:
            back_from = self.directory.outside_holding(trip.packet.source)
            self._come_in(trip, step.at, back_from.zone if back_from else None, None)
        return trip.path(step.source)

    def from_appliance(self, interface: Interface, request: Path, step: Step, is_message: bool) -> Path:
        """The way of a refusal that an appliance on the way sends from its own interface or host."""
        trip = self._turned_at(request, step)
        trip.made_by = interface.instance
        instance = self.directory.instance_of(interface)
        leaves = exit_interface(self.router, self.directory, instance, step.source) or interface
        if is_message:
            trip.network = self.directory.topology.subnets[leaves.subnet].network
            trip.own = leaves.address(step.source.family)
        self._host(trip, "host-out", "output", egress=leaves)
        trip.add("instance-out", leaves.name, way="out", interface=leaves)
        self._depart(trip, self.directory.topology.subnets[leaves.subnet], leaves)
        return trip.path(step.source)

    def _turned_at(self, request: Path, step: Step) -> _Trip:
        # A refusal bears the address that the request was sent to, wherever the request would have ended.
        sender = request.arrival or self.directory.endpoint(step.destination)
        return _Trip(
            sender, _Packet(step.destination, step.source), dataclasses.replace(request, reply_from=request.target)
        )

    # Ends.

    def _source_gate(self, trip: _Trip) -> None:
        origin = trip.origin
        stop = None
        if origin.interface is not None:
            if not self.directory.instance_of(origin.interface).running:
                stop = Stop(f"{origin.interface.instance} is stopped", kind="stopped")
            trip.add("source", origin.interface.name, stop=stop)
            return
        if origin.network is not None and origin.subnet is None:
            stop = Stop(
                f"{origin.address} lies in network {origin.network} but in no subnet", kind="no subnet of its own"
            )
        at = origin.subnet.name if origin.subnet else origin.outside.name if origin.outside else origin.name
        trip.add("source", at, stop=stop)

    def _set_out(self, trip: _Trip, end: Endpoint) -> None:
        if end.interface is not None:
            self._host(trip, "host-out", "output", egress=end.interface)
            trip.add("instance-out", end.interface.name, way="out", interface=end.interface)
        if end.subnet is not None:
            self._depart(trip, end.subnet, end.interface)
        elif end.outside is not None:
            trip.add("outside", end.outside.name, way="out", outside=end.outside)
            self._come_in(trip, end.outside.name, end.zone, end.outside)
        else:
            told = self.directory.belongs_nowhere(end.address, "subnet")
            self._block_route(trip, end.name, Stop(told, kind="nowhere"))

    def _listener(self, trip: _Trip) -> None:
        arrival = trip.arrival
        assert arrival is not None
        if arrival.interface is not None:
            name = arrival.interface.instance
            if self.directory.instance_of(arrival.interface).running:
                trip.add("listener", name, interface=arrival.interface)
            else:
                trip.add(
                    "destination", name, interface=arrival.interface, stop=Stop(f"{name} is stopped", kind="stopped")
                )
        elif arrival.subnet is not None:
            trip.add("listener", str(arrival.address))

    def _host(
        self,
        trip: _Trip,
        gate: str,
        way: str,
        ingress: Interface | None = None,
        egress: Interface | None = None,
    ) -> None:
        interface = ingress or egress
        assert interface is not None
        trip.add(gate, interface.instance, way=way, interface=ingress, egress=egress)

    # Leaving a subnet.

    def _depart(self, trip: _Trip, subnet: Subnet, interface: Interface | None) -> None:
        if trip.packet.destination in subnet:
            self._arrive(trip, subnet, direct=True)
        else:
            self._route_out(trip, subnet, interface)

    def _route_out(self, trip: _Trip, subnet: Subnet, interface: Interface | None, at_router: bool = False) -> None:
        """Ask the subnet's table and go on; `at_router`: the packet starts at the router itself."""
        lookup = self.router.look_up(subnet, trip.packet.destination)
        entry = lookup.entry
        hop = next_hop(self.directory, entry, trip.packet.destination) if entry and entry.instance else None
        # What goes to a neighbour as next hop never meets the subnet's edge (S30), even where it ends there; what an
        # appliance is to send to itself goes to the router.
        to_itself = interface is not None and hop is not None and hop.instance == interface.instance
        beside = hop is not None and hop.subnet == subnet.name and not to_itself
        if not at_router and not beside:
            trip.add("subnet-out", subnet.name, way="out", subnet=subnet)
        if entry is not None and hop is not None and self._stop_at_hop(trip, entry, hop) is None:
            self._via_instance(trip, subnet, entry, lookup, hop)
            return
        stop = self._stop_of(trip, subnet, entry, hop)
        if stop is not None:
            self._block_route(trip, subnet.name, stop, lookup)
            return
        assert entry is not None
        self._route_gate(trip, subnet, lookup)
        gateway = self.directory.topology.gateways[entry.gateway] if entry.gateway else None
        if gateway is None or gateway.kind == "peering":
            target = self.directory.subnet_of(trip.packet.destination)
            assert target is not None
            self._zone(trip, subnet.zone, target.zone)
            self._arrive(trip, target)
        elif gateway.kind == "tunnel":
            outside = self.directory.topology.outsides[gateway.outside or ""]
            self._zone(trip, subnet.zone, outside.zone)
            self._translate_out(trip, gateway, trip.packet.source)
            self._arrive_outside(trip, outside)
        else:
            self._go_public(trip, subnet, gateway)

    def _route_gate(self, trip: _Trip, subnet: Subnet, lookup: Lookup) -> None:
        entry = lookup.entry
        place = entry.place if entry else None
        trip.add("route", subnet.name, lookup=lookup, place=place, reason=self._said(entry))

    def _said(self, entry: RouteEntry | None) -> str:
        """An entry in words."""
        if id(entry) not in self._words:
            self._words[id(entry)] = str(entry)
        return self._words[id(entry)]

    def _block_route(self, trip: _Trip, at: str, stop: Stop, lookup: Lookup | None = None) -> None:
        entry = lookup.entry if lookup else None
        trip.add("route", at, stop=stop, lookup=lookup, place=entry.place if entry else None)
        self._deliver_straight(trip)

    def _stop_of(self, trip: _Trip, subnet: Subnet, entry: RouteEntry | None, hop: Interface | None) -> Stop | None:
        """Why the entry cannot carry the packet, or None where it can (clauses S26, S28, S31)."""
        destination = trip.packet.destination
        if entry is None:
            return Stop(f"no route to {destination}", UNREACHABLE, "no route")
        if entry.discard:
            return Stop(f"{entry} throws it away")
        if entry.instance:
            return self._stop_at_hop(trip, entry, hop)
        if entry.gateway is None:
            target = self.directory.subnet_of(destination)
            return (
                None
                if target
                else Stop(f"no subnet of {subnet.network} holds {destination}", UNREACHABLE, "no subnet", True)
            )
        return not_carried(self.directory, entry, trip.network, trip.packet.source, trip.packet.destination)

    # Through an instance as next hop (clause S30).

    def _stop_at_hop(self, trip: _Trip, entry: RouteEntry, hop: Interface | None) -> Stop | None:
        instance = self.directory.topology.instances[entry.instance or ""]
        if hop is None:
            return Stop(f"{entry}: {instance.name} has no interface")
        if not instance.running:
            return Stop(f"{entry}: {instance.name} is stopped")
        receiver = self.directory.interface_at(trip.packet.destination)
        if receiver is not None and receiver.instance == instance.name:
            return None
        if not instance.forwards:
            return Stop(f"{entry}: {instance.name} does not forward")
        if hop.instance == self._own_instance(trip) or len(trip.entered) >= MOST_HOPS:
            return _loop(entry, hop)
        if exit_interface(self.router, self.directory, instance, trip.packet.destination) is None:
            return Stop(f"{entry}: {instance.name} has no IPv{trip.packet.destination.family} address", UNREACHABLE,
                        "loop", True)  # fmt: skip
        return None

    def _own_instance(self, trip: _Trip) -> str | None:
        """The machine whose own packet this is, as long as it has not passed another."""
        return trip.made_by if not trip.entered else None

    def _via_instance(
        self,
        trip: _Trip,
        subnet: Subnet,
        entry: RouteEntry,
        lookup: Lookup,
        hop: Interface,
    ) -> None:
        hop_subnet = self.directory.topology.subnets[hop.subnet]
        neighbour = hop_subnet.name == subnet.name
        self._route_gate(trip, subnet, lookup)
        if not neighbour:
            self._zone(trip, subnet.zone, hop_subnet.zone)
            trip.add("subnet-in", hop_subnet.name, way="in", subnet=hop_subnet)
        if hop.name in trip.entered:  # what comes behind has been asked, and leads here again
            self._block_route(trip, hop_subnet.name, _loop(entry, hop), lookup)
            return
        trip.add("instance-in", hop.name, way="in", interface=hop)
        receiver = self.directory.interface_at(trip.packet.destination)
        if receiver is not None and receiver.instance == hop.instance:
            self._host(trip, "host-in", "input", ingress=hop)
            self._finish_at(trip, receiver)
            return
        instance = self.directory.instance_of(hop)
        trip.entered.append(hop.name)
        leaves = exit_interface(self.router, self.directory, instance, trip.packet.destination)
        assert leaves is not None
        if instance.host_filter is not None and not isinstance(instance.host_filter, str):
            self._host(trip, "host-in", "forward", ingress=hop, egress=leaves)
        else:
            self._host(trip, "host-in", "input", ingress=hop)
            self._host(trip, "host-out", "output", egress=leaves)
        trip.add("instance-out", leaves.name, way="out", interface=leaves)
        self._depart(trip, self.directory.topology.subnets[leaves.subnet], leaves)

    # Gateways and public addresses.

    def _go_public(self, trip: _Trip, subnet: Subnet, gateway: Gateway) -> None:
        """Out by an internet or nat gateway: to an outside, or back in at a public address of ours (S29)."""
        destination = trip.packet.destination
        outside = self.directory.outside_holding(destination)
        out_zone = outside.zone if outside else None
        self._zone(trip, subnet.zone, out_zone)
        translated = self._translated_source(trip, gateway)
        if translated is None:
            sender = self.directory.interface_at(trip.packet.source)
            missing = "is not a global address" if trip.packet.source.family == 6 else "has no public address"
            stop = Stop(f"{sender.name if sender else trip.packet.source} {missing}", kind=missing)
            trip.add("translate", gateway.name, stop=stop, gateway=gateway, place=gateway.place)
        else:
            self._translate_out(trip, gateway, translated)
        if not is_public_of_ours(self.directory, destination):
            assert outside is not None
            self._arrive_outside(trip, outside)
            return
        back_from = self.directory.outside_holding(trip.packet.source)
        self._come_in(trip, subnet.name, back_from.zone if back_from else None, None)

    def _translated_source(self, trip: _Trip, gateway: Gateway) -> Address | None:
        source = trip.packet.source
        is_global = self.directory.is_global(trip.own or source)
        if source.family == 6:
            is_of_router = trip.network is not None and trip.made_by is None  # which has an address for every place
            return source if is_of_router or is_global else None
        if gateway.kind == "nat":
            return gateway.address
        if self.directory.is_global(source):  # what it belongs to is not translated, nor are messages about that
            return source if is_global else None
        sender = self.directory.interface_at(source)
        # One public address stands for one private address: the interface's first of the family.
        return sender.public if sender and sender.address(source.family) == source else None

    def _translate_out(self, trip: _Trip, gateway: Gateway, translated: Address) -> None:
        """The gate on the way out. A reply must leave with the address that the request went to (S24)."""
        before = trip.packet.source
        reason = f"{before} becomes {translated}" if translated != before else "addresses stay as they are"
        stop = self._wrong_source(trip, translated)
        trip.add("translate", gateway.name, stop=stop, gateway=gateway, reason=reason, place=gateway.place)
        trip.packet.source = trip.answers.reply_from if stop and trip.answers else translated

    def _wrong_source(self, trip: _Trip, source: Address) -> Stop | None:
        if trip.answers is None or source == trip.answers.reply_from:
            return None
        went_to = trip.answers.reply_from
        return Stop(f"the reply would come from {source}, the request went to {went_to}", is_of_ends=True)

    def _come_in(self, trip: _Trip, at: str, from_zone: str | None, outside: Outside | None) -> None:
        """In from the internet, or from an outside that may have a tunnel (clauses S26, S27)."""
        if trip.answers is not None and trip.answers.stop_step is not None:
            trip.add("route", at, reason="as if the request had found its way")
            self._deliver_straight(trip)
            return
        destination = trip.packet.destination
        network = self.directory.network_of(destination)
        if network is not None:
            tunnel = self.directory.tunnel(network.name, outside.name) if outside else None
            gateway = tunnel or (
                self.directory.internet_gateway(network.name) if self.directory.is_global(destination) else None
            )
            if gateway is None:
                self._block_route(
                    trip, at, Stop(no_way_in(self.directory, destination, network.name, outside), kind="private")
                )
                return
            subnet = self.directory.subnet_of(destination)
            if subnet is None:
                stop = Stop(f"no subnet of {network.name} holds {destination}", UNREACHABLE, "no subnet", True)
                self._block_route(trip, at, stop)
                return
            self._enter(trip, gateway, destination, subnet, from_zone)
            return
        local = self._behind_public(trip, destination)
        if isinstance(local, Stop):
            self._block_route(trip, at, local)
            return
        gateway, private = local
        subnet = self.directory.subnet_of(private)
        assert subnet is not None
        self._enter(trip, gateway, private, subnet, from_zone)

    def _behind_public(self, trip: _Trip, public: Address) -> tuple[Gateway, Address] | Stop:
        """The gateway that owns a public address and the private address behind it."""
        owner = self.directory.public_owner(public)
        if owner is not None:
            network = self.directory.topology.subnets[owner.subnet].network
            gateway = self.directory.internet_gateway(network)
            private = owner.address(public.family)
            if gateway is None:
                return Stop(f"network {network} has no internet gateway")
            if private is None:
                return Stop(f"{owner.name} has no private address", is_of_ends=True)
            return gateway, private
        shared = self.directory.shared_owner(public)
        if shared is None:
            return Stop(f"{public} is nobody's address", kind="nobody")
        if trip.answers is None:
            return Stop(f"{shared.name} lets in only replies", kind="shared")
        if trip.answers.origin.subnet is None:
            return Stop(f"{shared.name} knows nothing of this flow")
        return shared, trip.answers.origin.address

    def _enter(self, trip: _Trip, gateway: Gateway, private: Address, subnet: Subnet, from_zone: str | None) -> None:
        trip.add("route", subnet.name, reason=f"comes in by {gateway.name}", place=gateway.place)
        changed = private != trip.packet.destination
        reason = f"{trip.packet.destination} becomes {private}" if changed else "addresses stay as they are"
        trip.add("translate", gateway.name, gateway=gateway, reason=reason, place=gateway.place)
        trip.packet.destination = private
        self._zone(trip, from_zone, subnet.zone)
        self._arrive(trip, subnet)

    # Arriving.

    def _zone(self, trip: _Trip, source: str | None, destination: str | None) -> None:
        """A crossing; where an end has no zone there is none (S22)."""
        if source is not None and destination is not None:
            trip.add("zone", crossing_name(source, destination), zones=(source, destination))

    def _arrive(self, trip: _Trip, subnet: Subnet, direct: bool = False) -> None:
        if not direct:
            trip.add("subnet-in", subnet.name, way="in", subnet=subnet)
        receiver = self.directory.interface_at(trip.packet.destination)
        if receiver is None:
            network = subnet.network
            trip.arrival = Endpoint(trip.packet.destination, str(trip.packet.destination), None, subnet, network)
            self._check_source(trip)
            return
        trip.add("instance-in", receiver.name, way="in", interface=receiver)
        self._host(trip, "host-in", "input", ingress=receiver)
        self._finish_at(trip, receiver)

    def _finish_at(self, trip: _Trip, receiver: Interface) -> None:
        subnet = self.directory.topology.subnets[receiver.subnet]
        trip.arrival = Endpoint(trip.packet.destination, receiver.instance, receiver, subnet, subnet.network)
        self._check_source(trip)

    def _check_source(self, trip: _Trip) -> None:
        """A reply that was never translated must still bear the address the request went to (S24)."""
        stop = self._wrong_source(trip, trip.packet.source)
        if stop is not None and not any(step.stop for step in trip.steps):
            trip.add("translate", trip.steps[-1].at, stop=stop)

    def _arrive_outside(self, trip: _Trip, outside: Outside) -> None:
        trip.add("outside", outside.name, way="in", outside=outside)
        address = trip.packet.destination
        trip.arrival = Endpoint(address, outside.name, None, None, None, outside)

    def _deliver_straight(self, trip: _Trip) -> None:
        """Behind a block at `route`: the gates as if delivered, from the sender's zone to the receiver's (S9)."""
        if trip.answers is not None:
            receiver = trip.answers.origin
        else:
            receiver = self.directory.endpoint(trip.packet.destination)
        if receiver.subnet is None and receiver.outside is None:
            return
        trip.packet.destination = trip.reply_from = receiver.address
        self._zone(trip, trip.origin.zone, receiver.zone)
        if receiver.subnet is not None:
            self._arrive(trip, receiver.subnet)
        elif receiver.outside is not None:
            self._arrive_outside(trip, receiver.outside)


def _instance_of(end: Endpoint) -> str | None:
    return end.interface.instance if end.interface is not None else None


def _loop(entry: RouteEntry, hop: Interface) -> Stop:
    return Stop(f"{entry}: a loop through {hop.name}", UNREACHABLE, "loop", True)
