"""For each gate that stops a flow, the smallest change that opens it, each proved by walking again with it made."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from kiboko.core.errors import Place
from kiboko.core.header.addresses import Address, AddressSet
from kiboko.core.header.packet import Packet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, parse_services
from kiboko.core.network import edits
from kiboko.core.network.edits import Edit
from kiboko.core.network.host_rules import HostRule, Match, Values, Verdict
from kiboko.core.network.model import ALLOW, DROP, Crossing, Filter, Instance, Listener, Rule, Topology
from kiboko.core.network.peers import Literal, peer_text
from kiboko.core.queries.near_misses import asked_service, packet_at
from kiboko.core.queries.proposed import Proposal, Steps, at_gate, way_of
from kiboko.core.queries.proving import gate_of, tried, walked_again
from kiboko.core.queries.route_fixes import for_route, for_translation
from kiboko.core.queries.rule_fixes import is_by_place, put_in, rule_fixes, stops_at, wider_rules
from kiboko.core.walk.gates import Row
from kiboko.core.walk.walk import Walk, Walker

_MOST_STEPS = 16
_STEP = 10


@dataclass(frozen=True, slots=True)
class Proposals:
    """A change for each gate that stops a flow, and the verdict once all that can be made are made."""

    each: tuple[Proposal, ...]
    verdict_with_all: str

    def edit_of(self, number: int) -> Edit | None:
        """The edit that makes one of them, with those before it where it rests on them."""
        chosen = self.each[number]
        if not chosen.rests_on_earlier:
            return chosen.edit
        edits_made = [each.edit for each in self.each[: number + 1] if each.edit is not None]

        def edit(topology: Topology) -> Topology:
            return functools.reduce(lambda changed, make: make(changed), edits_made, topology)

        return edit


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
        row = next((each for each in now.stops() if gate_of(each) not in given_up), None)
        if row is None:
            break
        here = walker.on(topology)
        listed = _propose(here, now, row)
        each_tried = (each if each.proved else tried(here, now, row, each) for each in (listed, *listed.others))
        opening = [each for each in each_tried if each.proved]
        if not opening:
            given_up.add(gate_of(row))
            told = listed if listed.edit is None else at_gate(row, f"no change that was tried opens it: {row.reason}")
            if all(each.edit is not None or each.text != told.text for each in found):  # that of two gates, once
                found.append(told)
            continue
        by_itself = opening
        if topology is not walker.topology:
            brought = topology.filters.keys() - walker.topology.filters.keys()  # by earlier ones
            by_itself = [tried(walker, walk, row, each) for each in opening if each.filter not in brought]
        first = next(iter(by_itself), None)
        if first is None or not first.proved:
            first = dataclasses.replace(opening[0], rests_on_earlier=True)
        found.append(dataclasses.replace(first, others=tuple(each for each in by_itself[1:] if each.proved)))
        assert first.edit is not None
        topology = first.edit(topology)
        now = walked_again(walker.on(topology), now)
    return Proposals(tuple(found), now.verdict)


def stops(walker: Walker, walk: Walk) -> tuple[Proposal, ...]:
    """What would stop a flow that is allowed and should not be: at each filter that lets its request pass, from the
    receiver's end, a rule that stops it switched on or moved in front of the one that decides, a drop of this very
    traffic there, or the rule that decides switched off. Each is proved by walking again."""
    found = []
    for row in reversed([each for each in walk.forward if each.filters and not each.stops and not each.tracked]):
        rule, fields = _smallest_rule(packet_at(walk, row), row.ports, row, walker.topology)
        values = {**rule_values(fields), "action": DROP}
        dropping = dataclasses.replace(rule, action=DROP)
        for each in (*rule_fixes(walker, walk, row), *stops_at(walker, walk, row, dropping, values)):
            assert each.edit is not None
            after = walked_again(walker.on(each.edit(walker.topology)), walk)
            if not after.delivered:
                found.append(dataclasses.replace(each, proved=True, verdict_after=after.verdict))
    return tuple(found)


def _propose(walker: Walker, walk: Walk, row: Row) -> Proposal:
    topology = walker.topology
    if row.filter is not None and row.filter in topology.filters:
        added = _rule_for(walker, walk, row)
        listed = [*rule_fixes(walker, walk, row), added, *wider_rules(walker, walk, row)]
        return _best_of(walker, walk, row, listed, added)
    makers: dict[str, Callable[[Walker, Walk, Row], Proposal]] = {
        "source": _for_source, "destination": _for_stopped, "zone": _for_zone, "route": for_route,
        "translate": for_translation, "listener": _for_listener, "host-in": _for_kernel, "host-out": _for_kernel,
    }  # fmt: skip
    make = makers.get(row.gate)
    return make(walker, walk, row) if make is not None else at_gate(row, f"{row.gate} at {row.at}: {row.reason}")


# Rules of filters.


def _best_of(walker: Walker, walk: Walk, row: Row, listed: list[Proposal], added: Proposal) -> Proposal:
    """The first of some changes that opens the gate, with the others that do; the rule to add where none does."""
    proved = [each for each in (tried(walker, walk, row, each) for each in listed) if each.proved]
    if not proved:
        return added
    return dataclasses.replace(proved[0], others=tuple(proved[1:]))


def _rule_for(walker: Walker, walk: Walk, row: Row) -> Proposal:
    """An allow for exactly this traffic in the filter that stops it, in front of the rule that decides."""
    chosen = walker.topology.filters[row.filter or ""]
    stopped = RangeSet.of(pair for r in walk.rows if r.stops and gate_of(r) == gate_of(row) for pair in r.ports)
    rule, fields = _smallest_rule(packet_at(walk, row), stopped, row, walker.topology)
    way = way_of(row, chosen.rules is not None)
    place, order = _place_of(chosen, way, row)
    if order is not None:
        fields = {"order": order, **fields}

    def edit(topology: Topology) -> Topology:
        return topology.with_filter(_inserted(topology.filters[chosen.name], way, row, rule, order))

    text = f"in {chosen.name}, {way}, {place}: {yaml_of(fields)}"
    steps = _adding(chosen, way, row, order, fields)
    return Proposal(row.gate, row.at, row.direction, chosen.name, place, fields, text, edit=edit, steps=steps)


def _adding(chosen: Filter, way: str, row: Row, order: int | None, fields: dict[str, str | int]) -> Steps:
    """The step of a change file that adds a rule; none where its list has to be numbered anew."""
    rules: tuple[Rule, ...] = getattr(chosen, way) or ()
    told: dict[str, Any] = {"filter": chosen.name, "direction": way, "rule": rule_values(fields)}
    if order is None and chosen.decide == "first" and rules:
        if not is_by_place(rules):
            return ()
        if any(each.name == row.rule for each in rules):
            told["before"] = row.rule
    return ({"add_rule": told},)


def rule_values(fields: Mapping[str, str | int]) -> dict[str, Any]:
    """The fields of a rule as values of a network file: lists where there are several."""
    return {name: value.split(", ") if isinstance(value, str) and ", " in value else value
            for name, value in fields.items()}  # fmt: skip


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
    if is_by_place(ordered):
        return f"before {ordered[index].name}" if index < len(ordered) else "at the end", None
    if index == len(ordered):
        return "at the end", before + _STEP
    gap = ordered[index].order - before
    return f"before {ordered[index].name}", before + gap // 2 if gap > 1 else None


def _inserted(chosen: Filter, way: str, row: Row, rule: Rule, order: int | None) -> Filter:
    """The filter with a rule in its place; where no number is free there, all are numbered anew."""
    rules: tuple[Rule, ...] = getattr(chosen, way) or ()
    if chosen.decide == "any":
        last = max((each.order for each in rules), default=0)
        return edits.with_rules(chosen, way, (*rules, dataclasses.replace(rule, order=last + 1, order_is_given=False)))
    if is_by_place(rules):
        return edits.with_rules(chosen, way, put_in(rules, rule, row.rule))
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
        return at_gate(row, f"on {row.at}: {row.reason}")
    made = _host_rule(packet, row.ports)
    if made is None:
        return at_gate(row, f"on {row.at}: {row.filter} ({stops}) stops {walk.flow.service}")
    rule, text = made
    instance, chain = interface.instance, row.chain
    return at_gate(
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
    return at_gate(row, f"send from an address of a subnet: {row.reason}")


def _for_stopped(walker: Walker, walk: Walk, row: Row) -> Proposal:
    name = row.at.partition("/")[0]
    return at_gate(row, f"start {name}: it is recorded as stopped", lambda topology: edits.started(topology, name),
                   steps=({"set_instance": {"instance": name, "state": "running"}},))  # fmt: skip


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
    return at_gate(row, text, lambda topology: edits.listening(topology, instance.name, listener),
                   steps=_listens(instance, str(service)))  # fmt: skip


def _listens(instance: Instance, service: str) -> Steps:
    """The step that has an instance listen to one more; none where what listens is read from its sockets."""
    told: list[Any] = []
    for each in instance.listens or ():
        if each.place.file != instance.place.file:
            return ()
        several = each.text.partition(" on ")[0].split(", ")
        if each.bound is not None:
            told.append({"service": several if len(several) > 1 else several[0], "address": each.bound})
        else:
            told += several
    return ({"set_instance": {"instance": instance.name, "listens": [*told, service]}},)


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
    steps = (
        {"add_filter": {"filter": name, "is": {"layer": "zone", "decide": "first", "stateful": True, "rules": [
            {"order": _STEP, "action": ALLOW, "service": service.split(", ")}]}}},
        {"set_crossing": {"from": source, "to": destination, "filter": name}},
    )  # fmt: skip
    if name in walker.topology.filters or any(
        (each.source, each.destination) == row.step.zones for each in walker.topology.crossings
    ):
        steps = ()  # type: ignore[assignment]
    return at_gate(row, text, lambda topology: edits.with_crossing(topology, crossing, chosen), "new crossing", steps)
