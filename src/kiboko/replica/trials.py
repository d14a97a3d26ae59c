"""What is tried in a replica: who sends to whom, on which services, from which client ports."""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass

from kiboko.core.errors import UsageError
from kiboko.core.header.addresses import Address, AddressSet, parse_address
from kiboko.core.header.services import ICMP, ICMP6, TCP, UDP, Service
from kiboko.core.network.directory import Directory
from kiboko.core.network.model import Topology
from kiboko.core.queries.ends import Ends, address_set_of, resolve_service
from kiboko.core.walk.walk import Walker
from kiboko.replica.layout import Layout
from kiboko.wire.probes import Target

_MOST_PORTS = 6
_MOST_SERVICES = 64
_CANDIDATES = ("192.0.2.77", "198.51.100.99", "203.0.113.251", "198.18.0.77", "2001:db8:ffff::77", "2001:db8:fffe::77")


@dataclass(frozen=True, slots=True)
class Trial:
    """One probe of the replica: from an address of a machine to an address."""

    machine: str
    source: Address
    target: Target


@dataclass(frozen=True, slots=True)
class Choice:
    """Which trials are wanted: ends by name, group, subnet or address, and services; empty is all of them.

    `most` bounds their number, drawn at random by `seed`; None is no bound.
    """

    sources: tuple[str, ...] = ()
    destinations: tuple[str, ...] = ()
    services: tuple[str, ...] = ()
    most: int | None = None
    seed: int = 0


def chosen_services(topology: Topology, choice: Choice) -> list[Service]:
    """The services to try. Raises UsageError for one that cannot be probed, or a range too wide to probe."""
    if not choice.services:
        return services_that_matter(topology)
    found: dict[Service, None] = {}
    for text in choice.services:
        for low, high in resolve_service(text, topology.services):
            if high - low >= _MOST_SERVICES or low >> 16 not in (TCP, UDP, ICMP, ICMP6):
                raise UsageError(f"'{text}' cannot be probed whole; name single services of tcp or udp, or ping")
            found.update(dict.fromkeys(Service(n >> 16, n & 0xFFFF) for n in range(low, high + 1)))
    return list(found)


def chosen_trials(walker: Walker, layout: Layout, services: list[Service], choice: Choice) -> list[Trial]:
    """The trials of a choice. Raises UsageError where there is none."""
    sources, destinations = _addresses(walker, choice.sources), _addresses(walker, choice.destinations)
    chance = random.Random(choice.seed)
    wanted = [
        each
        for each in _trials(walker, layout, services, chance)
        if (sources is None or each.source in sources) and (destinations is None or each.target.address in destinations)
    ]
    if not wanted:
        raise UsageError("nothing to probe: no address of the replica fits what was chosen")
    if choice.most is not None and len(wanted) > choice.most:
        wanted = random.Random(choice.seed).sample(wanted, choice.most)
    return wanted


def _addresses(walker: Walker, names: tuple[str, ...]) -> AddressSet | None:
    """Every address that some names stand for, public ones as well; None for no names."""
    if not names:
        return None
    return address_set_of(Ends(walker), names)


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


def _trials(walker: Walker, layout: Layout, services: list[Service], chance: random.Random) -> Iterator[Trial]:
    topology = walker.topology
    inside = [
        (layout.homes[instance.name], address)
        for instance in topology.instances.values()
        for interface in instance.interfaces
        for address in interface.addresses
    ]
    inside += [(layout.homes[instance], parse_address(text)) for text, instance in layout.strangers.items()]
    outside = [
        (layout.homes[name], parse_address(text)) for name, texts in layout.outside_addresses.items() for text in texts
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
                    yield Trial(machine, source, Target(target, service, port, source))


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
