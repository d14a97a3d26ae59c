"""The rules that almost matched: what somebody who reads the file would take for the rule that decides."""

from __future__ import annotations

import dataclasses
import itertools
from collections.abc import Iterator
from dataclasses import dataclass

from kiboko.core.errors import Place
from kiboko.core.filters.filters import ReadyRule
from kiboko.core.header.packet import ACK, SYN, Packet, turned_service
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import TCP, UDP, details_of
from kiboko.core.network.model import ALLOW, Rule
from kiboko.core.network.peers import Named, Peer, peer_text
from kiboko.core.walk.gates import FORWARD, Row
from kiboko.core.walk.walk import Walk, Walker

_VERBS = {"allow": "allows", "drop": "drops", "reject": "rejects"}
_DIRECTIONS = {"in": "inbound", "out": "outbound"}


@dataclass(frozen=True, slots=True)
class NearMiss:
    """A rule that would have decided the other way, but for one field.

    `field` is `from`, `to`, `service`, `source_ports`, `order` (an earlier rule decided first), `enabled` or
    `established`; `wanted` is what the rule says of it and `actual` what the packet has. `way` is the direction in
    which the filter was asked: `inbound`, `outbound`, or empty where its rules have none.
    """

    gate: str
    direction: str
    filter: str
    rule: str
    action: str
    field: str
    wanted: str
    actual: str
    place: Place
    way: str = ""
    closeness: int = 0
    peer: Peer | None = None
    """Whom the rule names instead, where the field is one of the ends."""
    condition: str = ""
    """What has to be so besides for the rule to match (clause S41)."""
    hint: str = ""
    """Why the end is not in the group that the rule names, though it looks as though it should be."""

    def sentence(self) -> str:
        """The near miss in words, without its filter."""
        verb = _VERBS[self.action]
        what = "the reply" if self.direction != FORWARD else "this"
        only_if = f' if "{self.condition}"' if self.condition else ""
        if self.field == "order":
            return f"rule {self.rule} {verb} exactly {what}{only_if}, but {self.actual} comes before it and decides"
        if self.field == "established":
            return f"rule {self.rule} {verb} what follows an opening, and no opening, as {what} is"
        if self.field == "enabled":
            return f"rule {self.rule} {verb} exactly {what}{only_if}, but it is not enabled"
        who = {"from": "the sender is", "to": "the receiver is"}.get(self.field, f"{what} is")
        if self.direction != FORWARD and self.field in ("from", "to"):
            who = {"from": "the reply comes from", "to": "the reply goes to"}[self.field]
        name = {"service": "", "source_ports": "source_ports "}.get(self.field, f"{self.field} ")
        return f"rule {self.rule} {verb} {what}{only_if}, but only {name}{self.wanted}; {who} {self.actual}"

    @property
    def where(self) -> str:
        """The filter and the direction in which it was asked."""
        return f"{self.filter}, {self.way}" if self.way else self.filter


def near_misses(walker: Walker, walk: Walk) -> list[NearMiss]:
    """The rules that almost matched, at every gate whose decision they would have turned.

    At a gate that stops the flow these are rules that allow, at one that lets it pass rules that stop; best first, and
    of the rules of one filter that only name another service the closest alone.

    >>> from kiboko.core.header.addresses import parse_address
    >>> from kiboko.core.header.services import Service
    >>> from kiboko.files.network.network_file import load_network
    >>> walker = Walker(load_network("network.yaml"))
    >>> desk = walker.directory.endpoint(parse_address("10.63.1.11"))
    >>> walk = walker.walk(desk, parse_address("10.62.2.20"), Service(6, 8443))
    >>> near_misses(walker, walk)[0].sentence()
    'rule 30 allows exactly this, but rule 20 comes before it and decides'
    """
    found: dict[tuple[object, ...], NearMiss] = {}
    asked: set[tuple[object, ...]] = set()
    # The rows that stop come first: of a gate that stops some client ports they are what matters.
    for row in sorted(walk.rows, key=lambda row: not row.stops):
        if not row.filters or row.tracked or row.step.bound not in ("in", "out", ""):
            continue
        if row.rule is None or any(name not in walker.topology.filters for name in row.filters):
            continue
        key = (row.gate, row.at, row.direction, row.filters)
        if key not in asked:
            asked.add(key)
            for miss in misses_at(walker, walk, row):
                found.setdefault((miss.filter, miss.way, miss.rule, miss.field, miss.wanted, miss.actual), miss)
    best = sorted(found.values(), key=lambda miss: (miss.direction != FORWARD, miss.action != ALLOW, -miss.closeness))
    return list(_without_noise(best))


def _without_noise(ranked: list[NearMiss]) -> Iterator[NearMiss]:
    """A rule for another service tells something where it is the closest to matching, or names these very ends."""
    told: set[tuple[str, str]] = set()
    for miss in ranked:
        key = (miss.filter, miss.way)
        if miss.field != "service" or miss.closeness >= _SAME_ENDS or key not in told:
            yield miss
        told.add(key)


def misses_at(walker: Walker, walk: Walk, row: Row) -> Iterator[NearMiss]:
    """The rules that almost matched at one gate."""
    packet = packet_at(walk, row)
    if not row.stops and walk.verdict != "allowed":
        return  # what a gate that lets pass might have stopped is of no use to somebody who is blocked
    for name in row.filters:
        chosen = walker.topology.filters[name]
        decider = walker.ground.judge.rule_of(chosen, row.step.bound or "in", row.rule or "")
        for ready in walker.ground.judge.rules_at(chosen, row.step.bound, packet):
            if (ready.rule.action == ALLOW) == row.stops:
                miss = _miss(ready, row, packet, decider if chosen.decide == "first" else None)
                if miss is not None:
                    hint = _lookalike(walker, miss, packet)
                    yield dataclasses.replace(miss, hint=hint) if hint else miss


def _lookalike(walker: Walker, miss: NearMiss, packet: Packet) -> str:
    """Whether the end that a rule does not name looks as though it should be in a group that it names."""
    if miss.peer is None:
        return ""
    address = packet.source if miss.field == "from" else packet.destination
    owner = walker.directory.endpoint(address).interface if address is not None else None
    for item in miss.peer:
        group = walker.topology.groups.get(item.name) if isinstance(item, Named) else None
        if group is not None and owner is not None:
            why = walker.membership.nearly_in(group).get(owner.instance)
            if why is not None:
                place = walker.topology.instances[owner.instance].place
                return f"{owner.instance} looks as though it should be in {group.name}: {why} ({place})"
    return ""


def packet_at(walk: Walk, row: Row) -> Packet:
    """The packet as a row's gate was asked about it."""
    turned = row.direction != FORWARD
    service = turned_service(walk.flow.service) if turned else walk.flow.service
    assert service is not None
    step = row.step
    flags = None if service.protocol != TCP else SYN | ACK if turned else SYN
    return Packet(step.destination.family, step.source, step.destination, service, turned, tcp_flags=flags)


_SAME_ENDS = 6
_CLOSENESS = {"order": 9, "enabled": 8, "established": 3, "source_ports": 7, "service": 4, "from": 5, "to": 5}


def _miss(ready: ReadyRule, row: Row, packet: Packet, decider: Rule | None) -> NearMiss | None:
    rule = ready.rule
    failing = list(itertools.islice(_failing(ready, row, packet), 2))
    if len(failing) > 1:
        return None
    if failing:
        if decider is not None and rule.order > decider.order:
            return None  # the rule that decides would still come before it
        field = failing[0]
    elif row.rule != rule.name:
        field = "order"
    else:
        return None
    wanted, actual = _said(field, rule, row, packet)
    closeness = _CLOSENESS[field]
    if field == "service":
        if not details_of(rule.services or RangeSet(), packet.service.protocol):
            closeness = 1  # another protocol altogether
        elif packet.turned and packet.service.has_ports:
            closeness = 8  # the reply goes back to the client's port: some other client ports would do
        if rule.sources is not None or rule.destinations is not None:
            closeness += 2
    way = "" if ready.filter.rules is not None and ready.filter.layer == "zone" else _DIRECTIONS.get(row.step.bound, "")
    return NearMiss(
        row.gate, row.direction, ready.filter.name, rule.name, rule.action, field, wanted, actual, rule.place, way,
        closeness, {"from": rule.sources, "to": rule.destinations}.get(field), rule.condition,
    )  # fmt: skip


def _failing(ready: ReadyRule, row: Row, packet: Packet) -> Iterator[str]:
    """The fields of a rule that do not match a packet of some client ports."""
    ports = row.ports
    if not ready.matches_source(packet):
        yield "from"
    if not ready.matches_destination(packet):
        yield "to"
    if not ports <= ready.ports_by_service(packet, ports):
        yield "service"
    if not ports <= ready.ports_by_source_ports(packet, ports):
        yield "source_ports"
    if not ready.rule.enabled:
        yield "enabled"
    if not ready.matches_flags(packet):
        yield "established"


def _said(field: str, rule: Rule, row: Row, packet: Packet) -> tuple[str, str]:
    """What a rule says of a field, and what a packet has there."""
    match field:
        case "from":
            return peer_text(rule.sources), str(packet.source)
        case "to":
            return peer_text(rule.destinations), str(packet.destination)
        case "service":
            return rule.service_text, asked_service(packet, row.ports)
        case "source_ports":
            return str(rule.source_ports), str(packet.service.detail) if packet.turned else str(row.ports)
        case "enabled":
            return "true", "false"
        case "established":
            return "ACK or RST", "SYN"
    return f"before {row.rule}", f"rule {row.rule}"


def asked_service(packet: Packet, ports: RangeSet) -> str:
    """The service of a packet as a rule would have to name it; of a reply, the client's ports."""
    if packet.turned and packet.service.has_ports:
        protocol = {TCP: "tcp", UDP: "udp"}.get(packet.service.protocol, "sctp")
        return ", ".join(f"{protocol}/{text}" for text in ports.texts())
    return str(packet.service)
