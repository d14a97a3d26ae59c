"""Real packets between all ends of a replica, compared with the walk."""

from __future__ import annotations

import random
import resource
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from kiboko.core.addresses import Address, parse_address
from kiboko.core.directory import Directory
from kiboko.core.evidence import SILENT, UNREACHABLE
from kiboko.core.model import Topology
from kiboko.core.ranges import RangeSet
from kiboko.core.services import ICMP, ICMP6, TCP, UDP, Service
from kiboko.core.verification import Difference, Verification
from kiboko.core.walk import Walker
from kiboko.replica.blueprint import Blueprint
from kiboko.replica.holder import Job, run_inside
from kiboko.replica.kernel import Services, build, enter
from kiboko.replica.layout import lay_out
from kiboko.wire.probes import Outcome, Sending, Target, probe

_MOST_PORTS = 6
_AT_ONCE = 400
_CANDIDATES = ("192.0.2.77", "198.51.100.99", "203.0.113.251", "198.18.0.77", "2001:db8:ffff::77", "2001:db8:fffe::77")


@dataclass(frozen=True, slots=True)
class Attempt:
    """One probe of the replica: from an address of a machine to an address."""

    machine: str
    source: Address
    target: Target


def verify(topology: Topology, seed: int = 0, most: int | None = None, timeout: float = 0.7) -> Verification:
    """Build the network, probe all pairs of addresses on the services that matter, compare, take it down.

    `most` bounds the number of probes, drawn at random by `seed`; `timeout` is the seconds to wait for an answer.
    """
    walker = Walker(topology)
    services = services_that_matter(topology)
    outside = outside_addresses(topology, walker.directory)
    ports = [({TCP: "tcp", UDP: "udp"}[s.protocol], s.detail) for s in services if s.protocol in (TCP, UDP)]
    blueprint = lay_out(topology, ports, outside)
    attempts = list(_attempts(topology, walker, blueprint, services, random.Random(seed)))
    if most is not None and len(attempts) > most:
        attempts = random.Random(seed).sample(attempts, most)
    outcomes = run_inside(Job("kiboko.replica.verify", "probe_inside", (blueprint, attempts, timeout)))
    differences, unknown = [], 0
    for attempt, outcome in zip(attempts, outcomes, strict=True):
        target = attempt.target
        port = RangeSet.one(target.source_port) if target.source_port is not None else None
        said = walker.walk(walker.directory.endpoint(attempt.source), target.address, target.service, port)
        if any(row.action is None and row.gate != "listener" for row in said.rows):
            unknown += 1
        elif _class(outcome.outcome) != _class(said.signal):
            differences.append(Difference(attempt.source, target.source_port, outcome.outcome, said))
    return Verification(len(attempts) - unknown, unknown, tuple(differences))


def _class(signal: str) -> str:
    """`silent` and `unreachable` count as the same failure."""
    return SILENT if signal == UNREACHABLE else signal


def services_that_matter(topology: Topology) -> list[Service]:
    """A representative of every service that a rule or listener names, one that none names, and echo requests."""
    ports: dict[int, dict[int, None]] = {TCP: {}, UDP: {}}
    sets = [rule.services for each in topology.filters.values() for rule in each.every_rule() if rule.services]
    sets += [listener.services for each in topology.instances.values() for listener in each.listens or ()]
    for services in sets:
        for low, high in services:
            protocol = low >> 16
            if protocol in ports and low >> 16 == high >> 16 and (low & 0xFFFF, high & 0xFFFF) != (0, 0xFFFF):
                ports[protocol].setdefault(max(1, low & 0xFFFF))
    found = [Service(protocol, port) for protocol, chosen in ports.items() for port in list(chosen)[: 2 * _MOST_PORTS]]
    unnamed = next(port for port in range(47000, 48000) if port not in ports[TCP])
    return [*found, Service(TCP, unnamed), Service(UDP, unnamed), Service(ICMP, 8 << 8), Service(ICMP6, 128 << 8)]


def outside_addresses(topology: Topology, directory: Directory) -> dict[str, list[str]]:
    """An address of each family that belongs to each outside, as far as one is to be had."""
    found: dict[str, list[str]] = {}
    ours = {str(address) for address in directory.public_addresses()}
    for outside in topology.outsides.values():
        chosen: list[str] = []
        for family in (4, 6):
            firsts = [str(Address(family, p.value + 1 if p.value < p.last else p.value)) for p in outside.prefixes
                      if p.family == family and p.length >= 8]  # fmt: skip
            for text in [*_CANDIDATES, *firsts]:
                address = parse_address(text)
                owner = directory.outside_of(address)
                if address.family == family and owner is not None and owner.name == outside.name and text not in ours:
                    chosen.append(text)
                    break
        found[outside.name] = chosen
    return found


def _attempts(
    topology: Topology, walker: Walker, blueprint: Blueprint, services: list[Service], chance: random.Random
) -> Iterator[Attempt]:
    inside = [
        (blueprint.homes[instance.name], address)
        for instance in topology.instances.values()
        for interface in instance.interfaces
        for address in interface.addresses
    ]
    outside = [
        (blueprint.homes[name], parse_address(text))
        for name, texts in blueprint.outside_addresses.items()
        for text in texts
    ]
    publics = walker.directory.public_addresses()
    listening = {service.detail for service in services if service.has_ports}
    used: dict[tuple[str, int], set[int]] = {}
    for machine, source in [*inside, *outside]:
        is_outside = (machine, source) in outside
        targets = [a for _, a in inside] + publics + ([] if is_outside else [a for _, a in outside])
        own = {a for other, a in inside if other == machine}
        own |= {
            i.public for e in topology.instances.values() for i in e.interfaces if i.public and own & set(i.addresses)
        }
        for target in targets:
            if target.family != source.family or target in own:
                continue
            for service in services:
                if service.family in (None, target.family):
                    port = _port(
                        walker, source, service, used.setdefault((machine, service.protocol), set(listening)), chance
                    )
                    yield Attempt(machine, source, Target(target, service, port, source))


def _port(walker: Walker, source: Address, service: Service, used: set[int], chance: random.Random) -> int | None:
    """A client port of the sender that no other probe of its machine uses."""
    if not service.has_ports:
        return None
    ranges = walker.source_ports(walker.directory.endpoint(source), service).ranges
    while True:
        low, high = chance.choice(ranges)
        port = chance.randint(low, high)
        if port not in used:
            used.add(port)
            return port


# Inside the namespaces.


def probe_inside(argument: tuple[Blueprint, list[Attempt], float]) -> list[Outcome]:
    """Build, serve, and probe: the outcomes in the order of the attempts."""
    blueprint, attempts, timeout = argument
    build(blueprint)
    services = Services(blueprint)
    sending = Sending(timeout, 2)  # a lost packet is no verdict
    _, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (min(hard, 65536), hard))

    def send(attempt: Attempt) -> Outcome:
        enter(attempt.machine)
        return probe(attempt.target, sending)

    # The threads change namespaces, which this one must not: it belongs to none of the machines.
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        outcomes = list(pool.map(send, attempts))
    services.close()
    return outcomes
