"""What is tried in a replica: who sends to whom, on which services, from which client ports."""

from __future__ import annotations

import dataclasses
import random
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from kiboko.core.errors import UsageError
from kiboko.core.header.addresses import Address, AddressSet, parse_address
from kiboko.core.header.services import ICMP, ICMP6, TCP, UDP, Service
from kiboko.core.network.directory import Directory
from kiboko.core.network.model import Topology
from kiboko.core.queries.ends import Ends, address_set_of, resolve_service
from kiboko.core.walk.walk import Walker
from kiboko.wire.probes import Target

_MOST_PORTS = 6
_MOST_SERVICES = 64
MOST_TRIALS = 100_000
"""Probes of one run: some ten minutes of them."""
_DRAWS = 50
"""How often a client port is drawn before those that are left are looked through."""
_CANDIDATES = ("192.0.2.77", "198.51.100.99", "203.0.113.251", "198.18.0.77", "2001:db8:ffff::77", "2001:db8:fffe::77")


@dataclass(frozen=True, slots=True)
class Trial:
    """One probe of the replica: from an address of a sender to an address, of `receiver` where that is an instance or
    an outside."""

    sender: str
    source: Address
    target: Target
    receiver: str | None = None


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


def chosen_trials(
    walker: Walker,
    outside: Mapping[str, list[str]],
    strangers: Mapping[str, str],
    services: list[Service],
    choice: Choice,
) -> list[Trial]:
    """The trials of a choice, from and to all recorded addresses, `outside` ones by the name of their outside, and
    `strangers` that nobody recorded, by the instance that bears each.

    Raises UsageError where there is none, or more than can be probed.
    """
    sources, destinations = _addresses(walker, choice.sources), _addresses(walker, choice.destinations)
    found = _Pairs(_places(walker, outside, strangers), sources, destinations, services)
    number = found.number if choice.most is None else min(choice.most, found.number)
    if number > MOST_TRIALS:
        raise UsageError(
            f"{number:,} probes of all that was chosen, more than the {MOST_TRIALS:,} of one run; choose ends by"
            " --source and --destination, services by --service, or have some drawn by --most N"
        )
    wanted = list(found) if choice.most is None else found.drawn(choice.most, random.Random(choice.seed))
    if not wanted:
        raise UsageError("nothing to probe: no address of the replica fits what was chosen")
    ports = _ClientPorts(walker, services, random.Random(choice.seed))
    return [dataclasses.replace(each, target=ports.given(each)) for each in wanted]


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
    for services in dict.fromkeys(sets):
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


@dataclass(frozen=True, slots=True)
class _Place:
    """An address that a probe may come from or go to, and whose it is: an instance's, an outside's, or that of no
    machine (the shared address of a gateway)."""

    address: Address
    owner: str | None
    is_outside: bool = False
    is_public: bool = False


def _places(walker: Walker, outside: Mapping[str, list[str]], strangers: Mapping[str, str]) -> list[_Place]:
    directory = walker.directory
    found = [
        _Place(address, instance.name)
        for instance in walker.topology.instances.values()
        for interface in instance.interfaces
        for address in interface.addresses
    ]
    found += [_Place(parse_address(text), instance) for text, instance in strangers.items()]
    for address in directory.public_addresses():
        owner = directory.public_owner(address)
        found.append(_Place(address, owner.instance if owner else None, is_public=True))
    return found + [_Place(parse_address(text), name, True) for name, texts in outside.items() for text in texts]


class _Pairs:
    """Every sender with every receiver of its family on every service, in an order of their own: many more than could
    be listed, where the network is large. What a machine would send to itself is counted, and left out at the end."""

    def __init__(
        self,
        places: list[_Place],
        sources: AddressSet | None,
        destinations: AddressSet | None,
        services: list[Service],
    ) -> None:
        senders = [each for each in places if not each.is_public and (sources is None or each.address in sources)]
        receivers = [each for each in places if destinations is None or each.address in destinations]
        self._parts: list[tuple[list[_Place], list[_Place], list[Service]]] = []
        for family in (4, 6):
            fitting = [each for each in services if each.family in (None, family)]
            to = [each for each in receivers if each.address.family == family]
            for is_outside in (False, True):
                own = [each for each in senders if (each.address.family, each.is_outside) == (family, is_outside)]
                # Outside to outside is no traffic of ours.
                self._parts.append((own, [each for each in to if not (is_outside and each.is_outside)], fitting))
        self.number = sum(len(a) * len(b) * len(c) for a, b, c in self._parts)

    def __iter__(self) -> Iterator[Trial]:
        for senders, receivers, services in self._parts:
            for sender in senders:
                for receiver in receivers:
                    for service in services:
                        if sender.owner != receiver.owner:
                            yield _trial(sender, receiver, service)

    def drawn(self, most: int, chance: random.Random) -> list[Trial]:
        """At most so many of them, each as likely as any other."""
        asked = most
        while True:
            asked = min(2 * asked + 100, self.number)
            found = [each for number in chance.sample(range(self.number), asked) if (each := self._at(number))]
            if len(found) >= most or asked == self.number:
                return found[:most]

    def _at(self, number: int) -> Trial | None:
        for senders, receivers, services in self._parts:
            size = len(senders) * len(receivers) * len(services)
            if number < size:
                rest, service = divmod(number, len(services))
                sender, receiver = divmod(rest, len(receivers))
                one, other = senders[sender], receivers[receiver]
                return _trial(one, other, services[service]) if one.owner != other.owner else None
            number -= size
        raise IndexError(number)


def _trial(sender: _Place, receiver: _Place, service: Service) -> Trial:
    assert sender.owner is not None  # only the shared address of a gateway is nobody's, and public
    target = Target(receiver.address, service, None, sender.address)
    return Trial(sender.owner, sender.address, target, receiver.owner)


class _ClientPorts:
    """Client ports, drawn for each machine so that no two of its probes have the same and none is one that something
    may listen on; where these are used up, any of its own."""

    def __init__(self, walker: Walker, services: list[Service], chance: random.Random) -> None:
        self._chance = chance
        self._walker = walker
        self._listening = {service.detail for service in services if service.has_ports}
        self._used: dict[tuple[str, int], set[int]] = {}

    def given(self, trial: Trial) -> Target:
        """What a trial is sent to, with a client port where its protocol has ports."""
        target = trial.target
        if not target.service.has_ports:
            return target
        ranges = self._walker.source_ports(self._walker.directory.endpoint(trial.source), target.service).ranges
        used = self._used.setdefault((trial.sender, target.service.protocol), set(self._listening))
        return dataclasses.replace(target, source_port=self._next(ranges, used))

    def _next(self, ranges: Sequence[tuple[int, int]], used: set[int]) -> int:
        for _ in range(_DRAWS):
            port = self._chance.randint(*self._chance.choice(ranges))
            if port not in used:
                break
        else:  # few are left, or none
            every = [port for low, high in ranges for port in range(low, high + 1)]
            left = [port for port in every if port not in used]
            if not left:
                used.clear()
            port = self._chance.choice(left or every)
        used.add(port)
        return port
