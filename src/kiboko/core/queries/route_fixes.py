"""Changes of routes and public addresses that carry a flow which nothing carries now."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from kiboko.core.errors import Place
from kiboko.core.header.addresses import Address, Prefix
from kiboko.core.network import edits
from kiboko.core.network.edits import Edit
from kiboko.core.network.model import Gateway, RouteEntry, Topology
from kiboko.core.queries.proposed import Proposal, Steps, at_gate
from kiboko.core.queries.proving import is_shut, tried, walked_again
from kiboko.core.routing.routes import Lookup
from kiboko.core.walk.gates import FORWARD, Row
from kiboko.core.walk.walk import Walk, Walker


def for_route(walker: Walker, walk: Walk, row: Row) -> Proposal:
    """A route corrected, taken out or added; a next hop that forwards; a public address where the sender has none."""
    lookup, topology = row.step.lookup, walker.topology
    if row.step.stop is not None and row.step.stop.kind == "nowhere":
        for end in map(walker.directory.endpoint, (row.step.source, row.step.destination)):
            if end.subnet is None and end.outside is None:
                text = f"record where {end.address} is: a subnet, or an outside that lists it, and what leads there"
                return at_gate(row, text)
    subnet = topology.subnets.get(row.at)
    if lookup is None or subnet is None:
        owner = walk.arrival.interface if walk.arrival is not None else None
        if owner is not None and owner.public is None and row.step.source.family == 4:
            public = _public_for(walker, row, owner.name, f"give {owner.name} a public address: {row.reason}")
            if tried(walker, walk, row, public).proved:
                return public
        return at_gate(row, f"give the receiver an address that this sender can use: {row.reason}")
    entry = lookup.entry
    if entry is None:
        return _new_route(walker, walk, row, None)
    if row.step.stop is not None and row.step.stop.kind == "no subnet":
        return at_gate(row, f"no change of a route carries it: {row.reason}")
    for other in _other_ways(walker, walk, row, lookup, subnet.route_table):
        if tried(walker, walk, row, other).proved:
            return other
    if subnet.route_table is None or entry.origin == "connected":
        return at_gate(row, f"no change of a route carries it: {row.reason}")
    return _new_route(walker, walk, row, entry)


def _other_ways(walker: Walker, walk: Walk, row: Row, lookup: Lookup, table: str | None) -> Iterator[Proposal]:
    """What may carry a packet that the entry which wins does not: the entry taken out, its next hop mended."""
    entry = lookup.entry
    assert entry is not None
    if table is not None and entry.origin != "connected" and entry.place is not None and lookup.beaten:
        step = {"remove_route": {"table": table, "to": str(entry.to), "origin": entry.origin}}
        yield at_gate(row, f"remove the route {entry} ({entry.place}); then {lookup.beaten[0]} carries it",
                      lambda changed: edits.without_route(changed, table, entry), steps=(step,))  # fmt: skip
    hop = walker.topology.instances.get(entry.instance or "")
    if hop is not None and not (hop.forwards and hop.running):
        what = f"start {hop.name}" if hop.forwards else f"have {hop.name} forward ('forwards: true')"
        told: dict[str, Any] = {"instance": hop.name, "forwards": True} | ({} if hop.running else {"state": "running"})
        yield at_gate(row, f"{what}: {row.reason}", lambda changed: edits.forwarding(changed, hop.name),
                      steps=({"set_instance": told},))  # fmt: skip


def _new_route(walker: Walker, walk: Walk, row: Row, against: RouteEntry | None) -> Proposal:
    """A route by the first exit that carries the packet, more specific than the entry `against` that wins now; the
    others that would are named too."""
    topology, destination = walker.topology, row.step.destination
    to = _block_to(walker, destination, against)
    place = Place(topology.file, 1)
    table = topology.subnets[row.at].route_table
    into = f"to route table {table}" if table else f"to a route table of subnet {row.at}, which has none"
    works: list[tuple[str, Edit, str]] = []
    for gateway in _exits(topology, topology.subnets[row.at].network):
        entry = RouteEntry(to, "static", place, gateway=gateway.name)

        def edit(changed: Topology, entry: RouteEntry = entry) -> Topology:
            return edits.with_route(changed, row.at, entry)

        after = walked_again(walker.on(edit(topology)), walk)
        if not is_shut(after, row):
            missing = next((r.reason for r in after.rows if r.stops and r.gate == "translate"), "")
            needs = f" (but then {missing})" if missing else _translation(gateway)
            needs += _nearly(topology, table, gateway, to, destination)
            works.append((f"{{to: {_quoted(to)}, via: {gateway.name}}}{needs}", edit, gateway.name))
    if not works:
        kinds = "its network has no gateway that leads there"
        now = f"no route to {destination}" if against is None else f"{against} does not carry it"
        return at_gate(row, f"{now} in the table of subnet {row.at}, and {kinds}")
    works.sort(key=lambda option: "(but then" in option[0])
    text = f"add {into}: {works[0][0]}"
    if len(works) > 1:
        text += "; or by " + " or ".join(option for option, *_ in works[1:])
    return at_gate(row, text, works[0][1], "new route", _routing(topology, table, str(to), works[0][2]))


def _routing(topology: Topology, table: str | None, to: str, gateway: str) -> Steps:
    """The step of a change file that has a route table lead there; none where the subnet has no table."""
    if table is None:
        return ()
    route = {"to": to, "via": gateway}
    is_there = any(str(each.to) == to and each.origin == "static" for each in topology.route_tables[table].entries)
    if is_there:
        return ({"replace_route": {"table": table, "to": to, "origin": "static", "with": route}},)
    return ({"add_route": {"table": table, "route": route}},)


def _nearly(topology: Topology, table: str | None, gateway: Gateway, to: Prefix, destination: Address) -> str:
    """The entry that leads to a part of that block already, and not to this destination."""
    for entry in topology.route_tables[table].entries if table else ():
        inside = entry.to.family == to.family and to.value <= entry.to.value <= to.last
        if entry.gateway == gateway.name and inside and destination not in entry.to:
            return f", since {entry} ({entry.place}) does not hold {destination}"
    return ""


def _translation(gateway: Gateway) -> str:
    if gateway.kind == "nat":
        return f" (sends as {gateway.address})"
    return " (sends as the public address)" if gateway.kind == "internet" else ""


def _quoted(prefix: Prefix) -> str:
    return f'"{prefix}"' if prefix.family == 6 else str(prefix)


def _exits(topology: Topology, network: str) -> Iterator[Gateway]:
    """The gateways that a table of a network may name."""
    return (gateway for gateway in topology.gateways.values() if network in gateway.networks)


def _block_to(walker: Walker, destination: Address, against: RouteEntry | None) -> Prefix:
    """The block that a route to an address is for: that of its network, its subnet, its outside, or all there is; the
    first that is more specific than what an entry is for that must not win."""
    network, subnet = walker.directory.network_of(destination), walker.directory.subnet_of(destination)
    outside = walker.directory.outside_of(destination)
    blocks = [block for holder in (network, subnet) if holder is not None for block in holder.blocks]
    if outside is not None and walker.directory.public_owner(destination) is None:
        blocks += sorted(outside.prefixes, key=lambda p: -p.length)
    bits = 32 if destination.family == 4 else 128
    last = (
        Prefix(destination.family, destination.value, bits) if against is not None else Prefix(destination.family, 0, 0)
    )
    longer = against.to.length if against is not None else -1
    return next((block for block in blocks if destination in block and block.length > longer), last)


def for_translation(walker: Walker, walk: Walk, row: Row) -> Proposal:
    """A public address for the sender; where the network has a nat gateway, a route by that is named too."""
    topology = walker.topology
    gateway = row.step.gateway
    sender = walker.directory.interface_at(row.step.source)
    if gateway is None or row.direction != FORWARD or sender is None or row.step.source.family == 6:
        return at_gate(row, f"the reply must leave by the way that the request came: {row.reason}")
    nats = [g.name for g in topology.gateways.values() if g.kind == "nat" and set(g.networks) & set(gateway.networks)]
    other = f", or route by {' or '.join(nats)}" if nats else ""
    return _public_for(walker, row, sender.name, f"give {sender.name} a public address{other}: {row.reason}")


def _public_for(walker: Walker, row: Row, interface_name: str, text: str) -> Proposal:
    """A public address for an interface, tried with one that nobody has."""
    interface = walker.directory.interface(interface_name)
    assert interface is not None
    free = next(
        address
        for value in range(0xC6120001, 0xC6140000)  # 198.18.0.0/15, which is for trials (RFC 2544)
        if walker.directory.network_of(address := Address(4, value)) is None
        and walker.directory.public_owner(address) is None
    )
    return at_gate(row, text, lambda topology: edits.with_public(topology, interface, free))
