"""One sender, one receiver, one service: which of their addresses count, and what the others would say (S3, S6)."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass

from kiboko.core.errors import UsageError
from kiboko.core.header.ranges import EMPTY, RangeSet
from kiboko.core.header.services import ICMP6, OF_LINKS, Service
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.network.peers import Named
from kiboko.core.queries.ends import NO_FAMILY, Ends, services_for, single_service
from kiboko.core.queries.members import End, Member, Pair
from kiboko.core.queries.near_misses import packet_at
from kiboko.core.routing.steps import Path, Step
from kiboko.core.walk.walk import ALLOWED, BLOCKED, PARTLY, Walk
from kiboko.core.wording import all_of

_CHOSEN = RangeSet.of([(1024, 65535)])
"""The client ports that a gateway with a shared address chooses from (RFC 4787, RFC 6335)."""


@dataclass(frozen=True, slots=True)
class Answer:
    """The walk of the pair that counts, and the caveats on the pairs that do not."""

    walk: Walk
    source_name: str
    destination_name: str
    destination_address: str | None
    caveats: tuple[str, ...]


def ask(
    ends: Ends, sender: End, receiver: End, services: RangeSet, ports: RangeSet | None, family: int | None
) -> Answer | None:
    """The answer for single ends and a single service; None where one of them stands for more than one.

    Parameters
    ----------
    ends : the network's ends, which resolved `sender` and `receiver`
    services : service numbers, as `resolve_service` gives them
    ports : the client ports asked about; None for all ephemeral ports of the sender
    family : 4 or 6; None for IPv4 where the ends share both

    Raises
    ------
    UsageError : where the question has no meaning: both ends outside, or a service of the other family

    >>> from kiboko.core.queries.ends import Ends, resolve_service
    >>> from kiboko.core.walk.walk import Walker
    >>> from kiboko.files.network.network_file import load_network
    >>> ends = Ends(Walker(load_network("network.yaml")))
    >>> desk, forecast = ends.resolve("desk-1"), ends.resolve("forecast-1")
    >>> answer = ask(ends, desk, forecast, resolve_service("tcp/8443", {}), None, None)
    >>> answer.walk.verdict, answer.walk.signal, answer.walk.decided_by.filter
    ('blocked', 'silent', 'core-guard')
    """
    for end in (sender, receiver):
        ends.refuse_undeliverable(end)
    if sender.is_set or receiver.is_set:
        return None
    source, target = sender.members[0], receiver.members[0]
    if source.instance is not None and source.instance == target.instance:
        raise UsageError(f"{sender.text} and {receiver.text} are one machine: what it sends itself passes no gate")
    pairs = ends.pairs(source, target, family)
    if not pairs:
        return _nowhere(ends, sender, receiver, services)
    asked = [(pair, services_for(services, pair.source.address.family)) for pair in pairs]
    asked = [(pair, possible) for pair, possible in asked if possible]
    if not asked:
        raise UsageError(NO_FAMILY)
    first, possible = asked[0]
    service = single_service(possible)
    if service is None:
        return None
    refuse_outside_to_outside(ends, first)
    walk = ends.walk_pair(first, service, ports)
    others = [(pair, one) for pair, some in asked[1:] if (one := single_service(some)) is not None]
    caveats = (*_differing(ends, walk, first, others, ports), *_sent_otherwise(ends, walk, first, source, ports),
               *_by_public(ends, walk, first, ports), *_as_outside(ends, walk), *_answered_elsewhere(ends, walk),
               *_of_links(walk), *_of_stopped(walk), *_without_routes(ends, walk), *_from_chosen_ports(ends, walk),
               *_by_shared_address(ends, walk))  # fmt: skip
    address = str(first.target) if first.usable else None
    return Answer(walk, sender.text, receiver.text, address, caveats)


def refuse_outside_to_outside(ends: Ends, pair: Pair) -> None:
    """Traffic that passes none of our gates is no question for Kiboko (clause S4). Raises UsageError."""
    if pair.source.network is None and ends.is_foreign(pair.target):
        raise UsageError(
            f"{pair.source.name} and {pair.receiver.name} are both outside: no gate of this network lies between them"
        )


def _differing(
    ends: Ends, walk: Walk, first: Pair, others: list[tuple[Pair, Service]], ports: RangeSet | None
) -> tuple[str, ...]:
    """What other families, interfaces and addresses of the receiver would say, where that differs."""
    found = []
    for pair, service in others:
        other = ends.walk_pair(pair, service, ports)
        if other.verdict != walk.verdict:
            kind = "" if pair.source.address.family == first.source.address.family else " over IPv6"
            found.append(f"{other.verdict}{kind} where the address is {pair.target}: ask for it by that address")
    return tuple(found)


def _sent_otherwise(ends: Ends, walk: Walk, pair: Pair, sender: Member, ports: RangeSet | None) -> Iterator[str]:
    """What it would come to from the sender's other addresses, where that differs: a program may be bound to any."""
    for interface in sender.interfaces:
        for address in interface.addresses:
            if address.family == pair.target.family and address != pair.source.address:
                source = ends.directory.endpoint(address)
                other = ends.walker.walk(source, pair.target, walk.flow.service, ports)
                if other.verdict != walk.verdict:
                    yield f"{other.verdict} where it is sent from {address}: ask for it from that address"


def _answered_elsewhere(ends: Ends, walk: Walk) -> Iterator[str]:
    """Where a machine of several subnets, left to itself, answers by another interface than was addressed (S3)."""
    arrival = walk.arrival
    if walk.verdict == BLOCKED or not walk.reply or arrival is None or arrival.interface is None:
        return
    instance = ends.directory.instance_of(arrival.interface)
    sender = walk.request_path.steps[-1].source
    chosen = ends.sending_by(instance.interfaces, sender)
    if chosen.subnet != arrival.interface.subnet:
        yield (f"the reply is taken to leave by {arrival.interface.name}, which was addressed; of its own accord"
               f" {instance.name} sends to {sender} by {chosen.name}: unless it routes by source address (ip rule), the"
               " reply goes that way, and a strict reverse path filter (RFC 3704) takes no request here")  # fmt: skip


def _of_links(walk: Walk) -> Iterator[str]:
    """Where it is a message that filters are not asked about."""
    service = walk.flow.service
    if service.protocol == ICMP6 and service.detail >> 8 in OF_LINKS:
        yield (f"ICMPv6 type {service.detail >> 8} passes no router, and neighbours need it: most filters let it pass"
               " whatever their rules say, but for a machine's own (RFC 4890)")  # fmt: skip


def _of_stopped(walk: Walk) -> Iterator[str]:
    """Where a stopped machine is all that stops it: who keeps silent then rests on how the network finds machines."""
    if walk.decided_by is not None and walk.decided_by.gate == "destination":
        yield ("where machines are found by ARP or neighbour discovery, whoever looks for a stopped one finds none, and"
               " the sender is told after some seconds that it is unreachable")  # fmt: skip


def _without_routes(ends: Ends, walk: Walk) -> Iterator[str]:
    """Where a machine would have no way to the other end, if it had its routes for IPv6 from routers alone (S35)."""
    if walk.flow.target.family == 4 or walk.verdict not in (ALLOWED, PARTLY):
        return
    sender, arrival = walk.flow.source, walk.arrival
    for end, other in ((sender, walk.flow.target), (arrival, sender.address)):
        if end is None or end.interface is None or ends.directory.endpoint(other).subnet == end.subnet:
            continue
        instance = ends.directory.instance_of(end.interface)
        rules = instance.host_filter
        if isinstance(rules, HostRuleSet):
            lost = ends.walker.ground.discovery.routeless(rules, end.interface.device)
            if lost is not None:
                yield (f"{rules.file} of {instance.name} {lost}: without a route that was set by hand it has no way to"
                       f" {other} (RFC 4861)")  # fmt: skip


def _by_public(ends: Ends, walk: Walk, pair: Pair, ports: RangeSet | None) -> Iterator[str]:
    """Where somebody inside does not get through to a machine by its own address, and does by its public one (S29)."""
    if walk.verdict == ALLOWED or pair.target.family == 6 or pair.receiver.is_literal:
        return
    for interface in pair.receiver.interfaces:
        if interface.public is not None and interface.public != pair.target:
            other = ends.walker.walk(pair.source, interface.public, walk.flow.service, ports)
            if other.verdict in (ALLOWED, PARTLY):
                yield f"{other.verdict} where the address is {interface.public}: ask for it by that address"


def _as_outside(ends: Ends, walk: Walk) -> Iterator[str]:
    """Where the rule that decides matches an address of ours only since an outside that it names holds it too (S2)."""
    row = walk.decided_by
    chosen = ends.topology.filters.get(row.filter or "") if row is not None else None
    if row is None or chosen is None:
        return
    rule = next((each for each in chosen.direction(row.step.bound or "in") or () if each.name == row.rule), None)
    packet = packet_at(walk, row)
    peers = (rule.sources, rule.destinations) if rule is not None else ()
    for peer, address in zip(peers, (packet.source, packet.destination), strict=False):
        if address is None or ends.directory.network_of(address) is None:
            continue
        matching = [item for item in peer or () if address in (ends.walker.membership.peer_addresses((item,)) or ())]
        names = [each.name for each in matching if isinstance(each, Named) and each.name in ends.topology.outsides]
        if names and len(names) == len(matching):
            yield f"rule {row.rule} of {row.filter} names {names[0]}, which holds addresses of ours as well: {address}"


def _from_chosen_ports(ends: Ends, walk: Walk) -> Iterator[str]:
    """Where a gateway that gives many senders one address may choose a client's port that something behind it stops."""
    flow, gateways = walk.flow, ends.topology.gateways
    names = [step.at for step in walk.request_path.steps if step.gate == "translate" and step.at in gateways]
    name = next((each for each in names if gateways[each].kind == "nat"), None)
    if name is None or walk.verdict not in (ALLOWED, PARTLY) or not flow.service.has_ports:
        return
    other = ends.walker.walk(flow.source, flow.target, flow.service, _CHOSEN)
    forth = itertools.dropwhile(lambda row: row.at != name, other.forward)
    back = itertools.takewhile(lambda row: row.at != name, other.reply)
    stopped: dict[tuple[str, str], RangeSet] = {}
    for row in (*forth, *back):
        if row.stops:
            key = row.gate, row.at
            stopped[key] = stopped.get(key, EMPTY) | row.ports
    for (gate, at), ports in stopped.items():
        yield (f"{name} may choose another client port for it (RFC 4787), and {gate} at {at} stops client ports"
               f" {ports}: from there it fails")  # fmt: skip


def _by_shared_address(ends: Ends, walk: Walk) -> Iterator[str]:
    """Where the sender's address is one that a gateway gives to many."""
    address = walk.flow.source.address
    gateway = ends.directory.shared_owner(address)
    if gateway is not None:
        yield (f"{address} is what {gateway.name} makes of many senders' addresses, and nobody's own: ask for one of"
               f" those behind it, or for all of {all_of(gateway.networks)}")  # fmt: skip


def _nowhere(ends: Ends, sender: End, receiver: End, services: RangeSet) -> Answer:
    """Ends that share no address family, one of them perhaps without any address."""
    source, target = sender.members[0], receiver.members[0]
    service = single_service(services_for(services, 4)) or Service(services.lowest >> 16, services.lowest & 0xFFFF)
    if not source.families:
        walk = ends.walker.walk_nowhere(None, source.name, service)
        return Answer(walk, sender.text, receiver.text, None, ())
    origin = ends.source_of(source)
    reason = ""
    if target.families:
        reason = f"{sender.text} and {receiver.text} have no address family in common"
    walk = ends.walker.walk_nowhere(origin, receiver.text, service, reason)
    return Answer(walk, sender.text, receiver.text, None, ())


@dataclass(frozen=True, slots=True)
class Ways:
    """The way there and the way back, without asking any filter."""

    source_name: str
    destination_name: str
    request: Path
    reply: Path | None

    @property
    def stop(self) -> Step | None:
        """The first gate that stops the request, else the reply; None where both are routed."""
        return self.request.stop_step or (self.reply.stop_step if self.reply else None)


def ask_ways(ends: Ends, sender: End, receiver: End, family: int | None) -> Ways:
    """The paths between two single ends. Raises UsageError for sets and for ends that share no family."""
    for end in (sender, receiver):
        if end.is_set:
            raise UsageError(f"'{end.text}' stands for more than one end; a route has one at each side")
        ends.refuse_undeliverable(end)
    pairs = ends.pairs(sender.members[0], receiver.members[0], family)
    if not pairs:
        raise UsageError(f"{sender.text} and {receiver.text} have no address of one family to send between")
    refuse_outside_to_outside(ends, pairs[0])
    request = ends.walker.paths.forward(pairs[0].source, pairs[0].target)
    return Ways(sender.text, receiver.text, request, ends.walker.paths.reply(request))


def walk_between(ends: Ends, source: str, destination: str, service: Service, family: int) -> Walk | None:
    """The walk of one pair in one family, by the names that a question would have; None where nobody is called so, or
    the two make no pair in it."""
    try:
        senders, receivers = (ends.resolve(name).members for name in (source, destination))
    except UsageError:
        return None
    pairs = ends.pairs(senders[0], receivers[0], family) if senders and receivers else []
    return ends.walk_pair(pairs[0], service) if pairs else None
