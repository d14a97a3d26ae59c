"""For each gate that stops a flow, the smallest change that opens it, each proved by walking again with it made."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from kiboko.core.errors import Place
from kiboko.core.header.addresses import Address, AddressSet, Prefix
from kiboko.core.header.packet import Packet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, parse_services
from kiboko.core.network import edits
from kiboko.core.network.edits import Edit
from kiboko.core.network.host_rules import HostRule, Match, Values, Verdict
from kiboko.core.network.model import (
    ALLOW,
    Crossing,
    Filter,
    Gateway,
    Listener,
    Literal,
    RouteEntry,
    Rule,
    Topology,
    peer_text,
)
from kiboko.core.queries.near_misses import asked_service, packet_at
from kiboko.core.walk.gates import FORWARD, Row
from kiboko.core.walk.walk import Walk, Walker

_MOST_STEPS = 16
_STEP = 10


@dataclass(frozen=True, slots=True)
class Proposal:
    """A change that opens one gate.

    `rule` has the fields of the rule to add, as the network file writes them, None where something else than a rule
    helps. `proved` tells that the walk was made again with the change in place and the gate no longer stops the flow;
    `verdict_after` is the verdict then, with this change alone. `edit` makes the change, None where no change of the
    network file is known that would.
    """

    gate: str
    at: str
    direction: str
    filter: str | None
    place: str
    rule: dict[str, str | int] | None
    text: str
    proved: bool = False
    verdict_after: str | None = None
    edit: Edit | None = None

    @property
    def is_for_one_address(self) -> bool:
        """Whether it adds a rule for this one flow: a proof more than a policy."""
        return self.rule is not None


@dataclass(frozen=True, slots=True)
class Proposals:
    """A change for each gate that stops a flow, and the verdict once all that can be made are made."""

    each: tuple[Proposal, ...]
    verdict_with_all: str


def proposals(walker: Walker, walk: Walk) -> Proposals:
    """What would open a flow, gate by gate: each proposal is worked out on the network that the ones before it leave,
    so that together they fit, and none comes twice.

    >>> from kiboko.core.header.addresses import parse_address
    >>> from kiboko.core.header.services import Service
    >>> from kiboko.files.network.network_file import load_network
    >>> walker = Walker(load_network("network.yaml"))
    >>> desk = walker.directory.endpoint(parse_address("10.63.1.11"))
    >>> walk = walker.walk(desk, parse_address("10.62.2.20"), Service(6, 8443))
    >>> found = proposals(walker, walk)
    >>> [each.filter for each in found.each], found.verdict_with_all
    (['core-guard'], 'allowed')
    """
    found: list[Proposal] = []
    topology, now = walker.topology, walk
    given_up: set[tuple[object, ...]] = set()
    for _ in range(_MOST_STEPS):
        row = next((each for each in now.stops() if _gate(each) not in given_up), None)
        if row is None:
            break
        proposal = _proved(walker, walk, row, _propose(walker.on(topology), now, row))
        found.append(proposal)
        if proposal.edit is None:
            given_up.add(_gate(row))
            continue
        topology = proposal.edit(topology)
        now = walked_again(walker.on(topology), now)
        if any(each.stops and _gate(each) == _gate(row) for each in now.rows):
            given_up.add(_gate(row))
    return Proposals(tuple(found), now.verdict)


def walked_again(walker: Walker, walk: Walk) -> Walk:
    """The same question asked of a changed network. A sender from outside uses a receiver's public address, where it
    has one now (S1)."""
    topology = walker.topology
    flow, directory = walk.flow, walker.directory
    source = directory.endpoint(flow.source.address, flow.source.name)
    receiver, target = directory.interface_at(flow.target), flow.target
    if source.outside is not None and receiver is not None and receiver.public is not None and target.family == 4:
        network = topology.subnets[receiver.subnet].network
        if directory.tunnel(network, source.outside.name) is None:
            target = receiver.public
    return walker.walk(source, target, flow.service, flow.source_ports)


def _gate(row: Row) -> tuple[object, ...]:
    return (row.direction, row.gate, row.at, row.filters)


def _proved(walker: Walker, walk: Walk, row: Row, proposal: Proposal) -> Proposal:
    """The proposal with what the walk says of the network as it is with this change alone."""
    if proposal.edit is None:
        return proposal
    after = walked_again(walker.on(proposal.edit(walker.topology)), walk)
    proved = not any(each.stops and _gate(each) == _gate(row) for each in after.rows)
    return dataclasses.replace(proposal, proved=proved, verdict_after=after.verdict if proved else None)


def _propose(walker: Walker, walk: Walk, row: Row) -> Proposal:
    topology = walker.topology
    if row.filter is not None and row.filter in topology.filters:
        return _rule_for(walker, walk, row)
    makers: dict[str, Callable[[Walker, Walk, Row], Proposal]] = {
        "source": _for_source, "destination": _for_stopped, "zone": _for_zone, "route": _for_route,
        "translate": _for_translation, "listener": _for_listener, "host-in": _for_kernel, "host-out": _for_kernel,
    }  # fmt: skip
    make = makers.get(row.gate)
    return make(walker, walk, row) if make is not None else _advice(row, f"{row.gate} at {row.at}: {row.reason}")


def _advice(row: Row, text: str, edit: Edit | None = None, place: str = "") -> Proposal:
    return Proposal(row.gate, row.at, row.direction, row.filter, place, None, text, edit=edit)


# Rules of filters.


def _rule_for(walker: Walker, walk: Walk, row: Row) -> Proposal:
    """An allow for exactly this traffic in the filter that stops it, in front of the rule that decides."""
    chosen = walker.topology.filters[row.filter or ""]
    stopped = RangeSet.of(pair for r in walk.rows if r.stops and _gate(r) == _gate(row) for pair in r.ports)
    rule, fields = _smallest_rule(packet_at(walk, row), stopped, row, walker.topology)
    way = "rules" if chosen.rules is not None else "inbound" if row.step.bound == "in" else "outbound"
    place, order = _place_of(chosen, way, row)
    if order is not None:
        fields = {"order": order, **fields}

    def edit(topology: Topology) -> Topology:
        return topology.with_filter(_inserted(topology.filters[chosen.name], way, row, rule, order))

    text = f"in {chosen.name}, {way}, {place}: {yaml_of(fields)}"
    return Proposal(row.gate, row.at, row.direction, chosen.name, place, fields, text, edit=edit)


def yaml_of(fields: dict[str, str | int]) -> str:
    """A rule as the network file writes it, on one line."""
    return "{" + ", ".join(f"{name}: {_scalar(value)}" for name, value in fields.items()) + "}"


def _scalar(value: str | int) -> str:
    text = str(value)
    if ", " in text:
        return f"[{', '.join(map(_scalar, text.split(', ')))}]"
    return f'"{text}"' if ":" in text else text


def _smallest_rule(packet: Packet, ports: RangeSet, row: Row, topology: Topology) -> tuple[Rule, dict[str, str | int]]:
    """An allow for exactly this traffic at this gate."""
    fields: dict[str, str | int] = {"action": ALLOW}
    sources, destinations = _peer_for(packet.source), _peer_for(packet.destination)
    service = asked_service(packet, ports)
    services = RangeSet.of(pair for text in service.split(", ") for pair in parse_services(text))
    source_ports = None
    fields["from"], fields["to"], fields["service"] = peer_text(sources), peer_text(destinations), service
    if packet.turned and packet.service.has_ports:
        source_ports = RangeSet.one(packet.service.detail)
        fields["source_ports"] = str(source_ports)
    place = row.place or Place(topology.file, 1)
    return Rule(0, ALLOW, place, "new", sources, destinations, services, service, source_ports), fields


def _peer_for(address: Address | None) -> tuple[Literal]:
    assert address is not None
    return (Literal(str(address), AddressSet.of_addresses([address])),)


def _place_of(chosen: Filter, way: str, row: Row) -> tuple[str, int | None]:
    """Where a new rule stands, and the order that it can have there; None where no number is free."""
    rules: tuple[Rule, ...] = getattr(chosen, way) or ()
    if chosen.decide == "any":
        return "the place does not matter", None
    ordered = sorted(rules, key=lambda each: each.order)
    index = next((i for i, each in enumerate(ordered) if each.name == row.rule), len(ordered))
    before = ordered[index - 1].order if index else 0
    if index == len(ordered):
        return "at the end", before + _STEP
    gap = ordered[index].order - before
    return f"before {ordered[index].name}", before + gap // 2 if gap > 1 else None


def _inserted(chosen: Filter, way: str, row: Row, rule: Rule, order: int | None) -> Filter:
    """The filter with a rule in its place; where no number is free there, all are numbered anew."""
    rules: tuple[Rule, ...] = getattr(chosen, way) or ()
    if chosen.decide == "any":
        return edits.with_rules(chosen, way, (*rules, dataclasses.replace(rule, order=len(rules) + 1)))
    if order is not None:
        named = dataclasses.replace(rule, order=order, id=None)
        return edits.with_rules(chosen, way, (*rules, named))
    ordered = sorted(rules, key=lambda each: each.order)
    index = next((i for i, each in enumerate(ordered) if each.name == row.rule), len(ordered))
    renumbered = [
        dataclasses.replace(each, order=position * _STEP, id=each.name) for position, each in enumerate(ordered, 1)
    ]
    renumbered.insert(index, dataclasses.replace(rule, order=index * _STEP + _STEP // 2, id=None))
    return edits.with_rules(chosen, way, tuple(renumbered))


# Kernel rule sets.


def _for_kernel(walker: Walker, walk: Walk, row: Row) -> Proposal:
    """An accept for exactly this traffic, at the head of the chain that stops it."""
    packet = packet_at(walk, row)
    step = row.step
    interface = step.interface or step.egress
    stops = f"{row.reason}, rule {row.rule}" if row.rule not in (None, "otherwise") else f"policy of {row.reason}"
    if interface is None or row.chain is None:
        return _advice(row, f"on {row.at}: {row.reason}")
    made = _host_rule(packet, row.ports)
    if made is None:
        return _advice(row, f"on {row.at}: {row.filter} ({stops}) stops {walk.flow.service}")
    rule, text = made
    instance, chain = interface.instance, row.chain
    return _advice(
        row, f"on {row.at}: in {row.filter}, at the head of chain {chain}: {text}",
        lambda topology: edits.with_host_rule(topology, instance, chain, rule), f"at the head of chain {chain}",
    )  # fmt: skip


def _host_rule(packet: Packet, ports: RangeSet) -> tuple[HostRule, str] | None:
    """A rule of the kernel's that accepts a packet, and how nft(8) writes it."""
    assert packet.source is not None and packet.destination is not None
    keyword, service = "ip" if packet.family == 4 else "ip6", packet.service
    statements: list[Match] = []
    words = []
    for side, address in (("saddr", packet.source), ("daddr", packet.destination)):
        statements.append(Match(((keyword, side),), ((Values(RangeSet.one(address.value)),),)))
        words.append(f"{keyword} {side} {address}")
    if service.has_ports:
        name = {6: "tcp", 17: "udp", 132: "sctp"}[service.protocol]
        own, client = ("sport", "dport") if packet.turned else ("dport", "sport")
        statements.append(Match(((name, own),), ((Values(RangeSet.one(service.detail)),),)))
        words.append(f"{name} {own} {service.detail}")
        if packet.turned:
            statements.append(Match(((name, client),), ((Values(ports),),)))
            words.append(f"{name} {client} {{ {ports} }}")
    elif service.protocol in (ICMP, ICMP6):
        name = "icmp" if service.protocol == ICMP else "icmpv6"
        statements.append(Match(((name, "type"),), ((Values(RangeSet.one(service.detail >> 8)),),)))
        words.append(f"{name} type {service.detail >> 8}")
    else:
        statements.append(Match((("meta", "l4proto"),), ((Values(RangeSet.one(service.protocol)),),)))
        words.append(f"meta l4proto {service.protocol}")
    return HostRule("new", (*statements, Verdict("accept"))), " ".join([*words, "accept"])


# Machines and what they listen to.


def _for_source(walker: Walker, walk: Walk, row: Row) -> Proposal:
    if row.step.stop is not None and row.step.stop.kind == "stopped":
        return _for_stopped(walker, walk, row)
    return _advice(row, f"send from an address of a subnet: {row.reason}")


def _for_stopped(walker: Walker, walk: Walk, row: Row) -> Proposal:
    name = row.at.partition("/")[0]
    return _advice(row, f"start {name}: it is recorded as stopped", lambda topology: edits.started(topology, name))


def _for_listener(walker: Walker, walk: Walk, row: Row) -> Proposal:
    """Have it listen, at the machine's own address where it is bound to another one."""
    service, address = walk.flow.service, row.step.destination
    services = RangeSet.span(service.number, service.number)
    listener = Listener(services, str(service), row.place or Place(walker.topology.file, 1))
    instance = walker.topology.instances[row.at]
    bound = next((each for each in instance.listens or () if service.number in each.services), None)
    if bound is None:
        text = f"on {row.at}: nothing listens on {service}; start the service, or correct 'listens' in the network file"
    else:
        where = bound.address or f"IPv{bound.family}"
        text = f"on {row.at}: {service} is bound to {where}; bind it to {address}, the machine's own address"
    return _advice(row, text, lambda topology: edits.listening(topology, instance.name, listener))


# Zones.


def _for_zone(walker: Walker, walk: Walk, row: Row) -> Proposal:
    """A crossing with a filter of its own that lets this service through."""
    assert row.step.zones is not None
    source, destination = row.step.zones
    packet = packet_at(walk, row)
    service = asked_service(packet, row.ports)
    services = RangeSet.of(pair for text in service.split(", ") for pair in parse_services(text))
    place = Place(walker.topology.file, 1)
    name = f"{source}-to-{destination}"
    rule = Rule(_STEP, ALLOW, place, services=services, service_text=service)
    chosen = Filter(name, "zone", "first", True, place, rules=(rule,))
    text = f"list a crossing {source} to {destination} with a zone filter that allows {service}"
    crossing = Crossing(source, destination, name, place)
    return _advice(row, text, lambda topology: edits.with_crossing(topology, crossing, chosen), "new crossing")


# Routes.


def _for_route(walker: Walker, walk: Walk, row: Row) -> Proposal:
    lookup, topology = row.step.lookup, walker.topology
    subnet = topology.subnets.get(row.at)
    if lookup is None or subnet is None:
        owner = walk.arrival.interface if walk.arrival is not None else None
        if owner is not None and owner.public is None and row.step.source.family == 4:
            return _public_for(walker, row, owner.name, f"give {owner.name} a public address: {row.reason}")
        return _advice(row, f"give the receiver an address that this sender can use: {row.reason}")
    entry = lookup.entry
    if entry is None:
        return _new_route(walker, walk, row, None)
    table = subnet.route_table
    if entry.instance is not None and entry.instance in topology.instances and not lookup.beaten:
        hop = topology.instances[entry.instance]
        what = f"start {hop.name}" if hop.forwards else f"have {hop.name} forward ('forwards: true')"
        return _advice(row, f"{what}: {row.reason}", lambda changed: edits.forwarding(changed, hop.name))
    if table is not None and entry.origin != "connected" and entry.place is not None:
        if lookup.beaten:
            text = f"remove the route {entry} ({entry.place}); then {lookup.beaten[0]} carries it"
        else:
            text = f"remove or correct the route {entry} ({entry.place})"
        chosen = table
        removed = _advice(row, text, lambda changed: edits.without_route(changed, chosen, entry))
        if _proved(walker, walk, row, removed).proved:
            return removed
        added = _new_route(walker, walk, row, entry)
        return added if added.edit is not None else removed
    return _advice(row, f"no change of a route carries it: {row.reason}")


def _new_route(walker: Walker, walk: Walk, row: Row, against: RouteEntry | None) -> Proposal:
    """A route by the first exit that carries the packet, more specific than the entry `against` that wins now; the
    others that would are named too."""
    topology, destination = walker.topology, row.step.destination
    to = _block_to(walker, destination, against)
    place = Place(topology.file, 1)
    table = topology.subnets[row.at].route_table
    into = f"to route table {table}" if table else f"to a route table of subnet {row.at}, which has none"
    works: list[tuple[str, Edit]] = []
    for gateway in _exits(topology, topology.subnets[row.at].network):
        entry = RouteEntry(to, "static", place, gateway=gateway.name)

        def edit(changed: Topology, entry: RouteEntry = entry) -> Topology:
            return edits.with_route(changed, row.at, entry)

        after = walked_again(walker.on(edit(topology)), walk)
        if not any(each.stops and _gate(each) == _gate(row) for each in after.rows):
            missing = next((r.reason for r in after.rows if r.stops and r.gate == "translate"), "")
            needs = f" (but then {missing})" if missing else _translation(gateway)
            needs += _nearly(topology, table, gateway, to, destination)
            works.append((f"{{to: {_quoted(to)}, via: {gateway.name}}}{needs}", edit))
    if not works:
        kinds = "its network has no gateway that leads there"
        now = f"no route to {destination}" if against is None else f"{against} does not carry it"
        return _advice(row, f"{now} in the table of subnet {row.at}, and {kinds}")
    works.sort(key=lambda option: "(but then" in option[0])
    text = f"add {into}: {works[0][0]}"
    if len(works) > 1:
        text += "; or by " + " or ".join(option for option, _ in works[1:])
    return _advice(row, text, works[0][1], "new route")


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


def _for_translation(walker: Walker, walk: Walk, row: Row) -> Proposal:
    """A public address for the sender; where the network has a nat gateway, a route by that is named too."""
    topology = walker.topology
    gateway = row.step.gateway
    sender = walker.directory.interface_at(row.step.source)
    if gateway is None or row.direction != FORWARD or sender is None or row.step.source.family == 6:
        return _advice(row, f"the reply must leave by the way that the request came: {row.reason}")
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
    return _advice(row, text, lambda topology: edits.with_public(topology, interface, free))
