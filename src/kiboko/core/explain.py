"""Why a verdict is as it is, and what would change it: near misses, what else blocks, the smallest fix."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator
from dataclasses import dataclass

from kiboko.core.addresses import Address, AddressSet
from kiboko.core.errors import Place, UsageError
from kiboko.core.filters import ReadyRule
from kiboko.core.gates import FORWARD, Row
from kiboko.core.model import ALLOW, Filter, Literal, Rule, Topology, peer_text
from kiboko.core.packet import Packet, turned_service
from kiboko.core.ranges import RangeSet
from kiboko.core.services import TCP, details_of, parse_services
from kiboko.core.walk import Walk, Walker


@dataclass(frozen=True, slots=True)
class NearMiss:
    """A rule that would have decided the other way, but for one field."""

    gate: str
    direction: str
    filter: str
    rule: str
    action: str
    field: str
    wanted: str
    actual: str
    place: Place
    closeness: int = 0

    def sentence(self) -> str:
        """The near miss in words."""
        verb = {"allow": "allows", "drop": "drops", "reject": "rejects"}[self.action]
        if self.field == "order":
            return f"rule {self.rule} {verb} exactly this, but {self.actual} comes before it and decides"
        if self.field == "enabled":
            return f"rule {self.rule} {verb} exactly this, but it is not enabled"
        who = {"from": "the sender is", "to": "the receiver is"}.get(self.field, "this is")
        name = {"service": "", "source_ports": "source ports "}.get(self.field, f"{self.field} ")
        return f"rule {self.rule} {verb} this, but only {name}{self.wanted}; {who} {self.actual}"


@dataclass(frozen=True, slots=True)
class Suggestion:
    """The smallest change that opens one gate. `rule` is the rule to add, or None where no rule helps.

    `proved` tells that the walk was made again with the rule in place and the gate no longer stops the flow;
    `verdict_after` is the verdict then, with this change alone.
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


def near_misses(walker: Walker, walk: Walk) -> list[NearMiss]:
    """The rules that almost matched, at every gate whose decision they would have turned.

    At a gate that stops the flow these are rules that allow, at one that lets it pass rules that stop; best first.
    """
    found: list[NearMiss] = []
    asked: set[tuple[str, str, str]] = set()
    for row in walk.rows:
        if not row.filters or row.tracked or row.step.bound not in ("in", "out", ""):
            continue
        if row.rule is None or any(name not in walker.topology.filters for name in row.filters):
            continue
        key = (row.gate, row.at + row.direction, ",".join(row.filters))
        if key in asked:
            continue
        asked.add(key)
        found.extend(_misses_at(walker, walk, row))
    found.sort(key=lambda miss: (miss.direction != FORWARD, miss.action != ALLOW, -miss.closeness))
    return found


def _misses_at(walker: Walker, walk: Walk, row: Row) -> Iterator[NearMiss]:
    packet = packet_at(walk, row)
    ports = row.ports
    stops = row.stops
    if not stops and walk.verdict != "allowed":
        return  # what a gate that lets pass might have stopped is of no use to somebody who is blocked
    for name in row.filters:
        chosen = walker.topology.filters[name]
        for ready in _every_rule(walker, chosen, row.step.bound):
            if (ready.rule.action == ALLOW) == stops:
                miss = _miss(ready, row, packet, ports)
                if miss is not None:
                    yield miss


def _every_rule(walker: Walker, chosen: Filter, way: str) -> list[ReadyRule]:
    """The rules of a filter, disabled ones included."""
    peers = walker.membership.peer_addresses
    rules = chosen.direction(way) or ()
    return [ReadyRule(rule, chosen, peers(rule.sources), peers(rule.destinations)) for rule in rules]


def packet_at(walk: Walk, row: Row) -> Packet:
    """The packet as a row's gate was asked about it."""
    turned = row.direction != FORWARD
    service = turned_service(walk.flow.service) if turned else walk.flow.service
    assert service is not None
    step = row.step
    return Packet(step.destination.family, step.source, step.destination, service, turned)


def _miss(ready: ReadyRule, row: Row, packet: Packet, ports: RangeSet) -> NearMiss | None:
    rule = ready.rule
    failures: list[tuple[str, str, str]] = []
    if not ready.matches_source(packet):
        failures.append(("from", peer_text(rule.sources), str(packet.source)))
    if not ready.matches_destination(packet):
        failures.append(("to", peer_text(rule.destinations), str(packet.destination)))
    if not ports <= ready.ports_by_service(packet, ports):
        failures.append(("service", rule.service_text, asked_service(packet, ports)))
    if not ports <= ready.ports_by_source_ports(packet, ports):
        actual = str(packet.service.detail) if packet.turned else str(ports)
        failures.append(("source_ports", str(rule.source_ports), actual))
    if not rule.enabled:
        failures.append(("enabled", "true", "false"))
    if not failures and row.rule != rule.name:
        failures.append(("order", f"before {row.rule}", f"rule {row.rule}"))
    if len(failures) != 1:
        return None
    field, wanted, actual = failures[0]
    closeness = {"order": 9, "enabled": 8, "source_ports": 7, "service": 5, "from": 4, "to": 4}[field]
    if field == "service" and not details_of(rule.services or RangeSet(), packet.service.protocol):
        closeness = 1  # another protocol altogether
    if field == "service" and ready.ports_by_service(packet, ports):
        closeness = 8  # some of the client ports match
    if (rule.sources is not None or rule.destinations is not None) and field == "service":
        closeness += 1
    return NearMiss(
        row.gate, row.direction, ready.filter.name, rule.name, rule.action, field, wanted, actual, rule.place, closeness
    )


def asked_service(packet: Packet, ports: RangeSet) -> str:
    """The service of a packet as a rule would have to name it; of a reply, the client's ports."""
    if packet.turned and packet.service.has_ports:
        protocol = {TCP: "tcp", 17: "udp"}.get(packet.service.protocol, "sctp")
        return ", ".join(f"{protocol}/{text}" for text in ports.texts())
    return str(packet.service)


# Fixes.

MOST_FILTERS_OPENED = 16


def suggestions(walker: Walker, walk: Walk) -> list[Suggestion]:
    """For each gate that stops the flow, the smallest change that opens it, proved by walking again."""
    found: list[Suggestion] = []
    for row in walk.stops():
        found.append(_suggest(walker, walk, row))
    return found


def verdict_with_all(walker: Walker, walk: Walk) -> str:
    """The verdict were every filter that stops the flow opened by its smallest rule."""
    for _ in range(MOST_FILTERS_OPENED):
        row = next((row for row in walk.stops() if row.filter in walker.topology.filters), None)
        if row is None:
            break
        walker, walk, *_ = _opened(walker, walk, row)
    return walk.verdict


def _suggest(walker: Walker, walk: Walk, row: Row) -> Suggestion:
    topology = walker.topology
    if row.gate == "zone" and row.filter is None and row.step.zones is not None:
        source, destination = row.step.zones
        text = f"list a crossing {source} to {destination} with a zone filter that allows {walk.flow.service}"
        return Suggestion(row.gate, row.at, row.direction, None, "new crossing", None, text)
    if row.filter is None or row.filter not in topology.filters:
        return Suggestion(row.gate, row.at, row.direction, row.filter, "", None, _advice(walk, row))
    chosen = topology.filters[row.filter]
    _, after, rule, fields, place = _opened(walker, walk, row)
    proved = not any(r.stops and _same_gate(r, row) for r in after.rows)
    way = {"in": "inbound", "out": "outbound"}.get(row.step.bound, "rules")
    text = f"in {chosen.name}, {'rules' if chosen.rules is not None else way}, {place}: {rule}"
    verdict = after.verdict if proved else None
    return Suggestion(row.gate, row.at, row.direction, chosen.name, place, fields, text, proved, verdict)


def _opened(walker: Walker, walk: Walk, row: Row) -> tuple[Walker, Walk, Rule, dict[str, str | int], str]:
    """The walk made again with the smallest allowing rule in the filter that a row stands for."""
    chosen = walker.topology.filters[row.filter or ""]
    stopped = RangeSet.of(pair for r in walk.rows if r.stops and _same_gate(r, row) for pair in r.ports)
    rule, fields = _smallest_rule(walker, packet_at(walk, row), stopped, row)
    changed, place, order = _insert(chosen, row, rule)
    if order is not None:
        fields = {"order": order, **fields}
    again = Walker(walker.topology.with_filter(changed), walker.directory)
    flow = walk.flow
    return again, again.walk(flow.source, flow.target, flow.service, flow.source_ports), rule, fields, place


def _same_gate(one: Row, other: Row) -> bool:
    return (one.direction, one.gate, one.at, one.filters) == (other.direction, other.gate, other.at, other.filters)


def _smallest_rule(walker: Walker, packet: Packet, ports: RangeSet, row: Row) -> tuple[Rule, dict[str, str | int]]:
    """An allow for exactly this traffic at this gate."""
    fields: dict[str, str | int] = {"action": ALLOW}
    sources = _peer_for(walker, packet.source)
    destinations = _peer_for(walker, packet.destination)
    service = asked_service(packet, ports)
    services = RangeSet.of(pair for text in service.split(", ") for pair in parse_services(text))
    source_ports = None
    fields["from"], fields["to"], fields["service"] = peer_text(sources), peer_text(destinations), service
    if packet.turned and packet.service.has_ports:
        source_ports = RangeSet.one(packet.service.detail)
        fields["source_ports"] = str(source_ports)
    place = row.place or Place(walker.topology.file, 1)
    return Rule(0, ALLOW, place, "new", sources, destinations, services, service, source_ports), fields


def _peer_for(walker: Walker, address: Address | None) -> tuple[Literal]:
    assert address is not None
    return (Literal(str(address), AddressSet.of_addresses([address])),)


def _insert(chosen: Filter, row: Row, rule: Rule) -> tuple[Filter, str, int | None]:
    """The filter with the rule in front of the one that decides; where that is, and the order it can have."""
    way = "rules" if chosen.rules is not None else "inbound" if row.step.bound == "in" else "outbound"
    rules: tuple[Rule, ...] = getattr(chosen, way) or ()
    if chosen.decide == "any":
        added = dataclasses.replace(rule, order=len(rules) + 1)
        return _with_rules(chosen, way, (*rules, added)), "anywhere", None
    ordered = sorted(rules, key=lambda each: each.order)
    index = next((i for i, each in enumerate(ordered) if each.name == row.rule), len(ordered))
    before = ordered[index - 1].order if index else None
    order: int | None
    if index == len(ordered):
        place, order = ("at the end", (before or 0) + 10)
    else:
        decider = ordered[index]
        place = f"before {decider.name}"
        low = before if before is not None else 0
        gap = decider.order - low
        order = low + gap // 2 if gap > 1 else None
    moved = [dataclasses.replace(each, order=position) for position, each in enumerate(ordered, 1)]
    moved.insert(index, dataclasses.replace(rule, order=0))
    renumbered = tuple(
        dataclasses.replace(each, order=position * 2, id=each.id or original)
        for position, (each, original) in enumerate(zip(moved, _names(ordered, index)), 1)
    )
    return _with_rules(chosen, way, renumbered), place, order


def _names(ordered: list[Rule], index: int) -> list[str]:
    names = [rule.name for rule in ordered]
    names.insert(index, "new")
    return names


def _advice(walk: Walk, row: Row) -> str:
    """What to change at a gate that no filter rule opens."""
    match row.gate:
        case "source":
            return f"start the sender, or place it in a subnet: {row.reason}"
        case "route" if row.step.lookup is not None and row.step.lookup.entry is None:
            return f"add a route to {row.step.destination} to the table of subnet {row.at}"
        case "route" if row.step.lookup is not None and row.step.lookup.entry is not None:
            beaten = row.step.lookup.beaten
            instead = f"; without this entry, {beaten[0]} would carry it" if beaten else ""
            return f"change or remove the route {row.step.lookup.entry}{instead}"
        case "route":
            return f"give the receiver an address that this sender can use: {row.reason}"
        case "translate":
            return f"give the sender a public address, or route by a nat gateway: {row.reason}"
        case "listener":
            return f"on {row.at}: {row.reason}; start the service, or bind it to {walk.request_path.reply_from}"
    if row.filter is not None:
        return (
            f"on {row.at}: the kernel's own rule set ({row.filter}, {row.reason}) needs a rule that accepts"
            f" {walk.flow.service} from {row.step.source}"
        )
    return f"{row.gate} at {row.at}: {row.reason}"


# Toggles.


def toggled(topology: Topology, rule_path: str, enabled: bool) -> Topology:
    """The network with one rule switched on or off for this answer.

    `rule_path` is `FILTER/RULE`, or `FILTER/inbound/RULE` where both directions have a rule of that name. Raises
    UsageError where it names none, or more than one.
    """
    name, _, rest = rule_path.partition("/")
    way_asked, _, rule_name = rest.rpartition("/")
    if name not in topology.filters:
        raise UsageError(f"'{rule_path}': filter '{name}' is not defined" + _closest(name, list(topology.filters)))
    chosen = topology.filters[name]
    ways = [
        way
        for way in ("inbound", "outbound", "rules")
        if way_asked in ("", way) and any(rule.name == rule_name for rule in getattr(chosen, way) or ())
    ]
    if not ways:
        known = list(dict.fromkeys(rule.name for rule in chosen.every_rule()))
        hint = f"; its rules are {', '.join(known[:12])}" if known else ""
        raise UsageError(f"'{rule_path}': filter '{name}' has no rule '{rule_name}'{hint}")
    if len(ways) > 1:
        options = " or ".join(f"{name}/{way}/{rule_name}" for way in ways)
        raise UsageError(f"'{rule_path}' names a rule of each direction; write {options}")
    rules = tuple(
        dataclasses.replace(rule, enabled=enabled) if rule.name == rule_name else rule
        for rule in getattr(chosen, ways[0])
    )
    return topology.with_filter(_with_rules(chosen, ways[0], rules))


def _with_rules(chosen: Filter, way: str, rules: tuple[Rule, ...]) -> Filter:
    """The filter with the rules of one direction replaced."""
    if way == "rules":
        return dataclasses.replace(chosen, rules=rules)
    return (
        dataclasses.replace(chosen, inbound=rules) if way == "inbound" else dataclasses.replace(chosen, outbound=rules)
    )


def _closest(word: str, candidates: list[str]) -> str:
    import difflib

    close = difflib.get_close_matches(word, candidates, 1, 0.5)
    return f"; did you mean '{close[0]}'?" if close else ""
