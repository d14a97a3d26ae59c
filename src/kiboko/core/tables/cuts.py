"""Atoms: the pieces of each dimension within which no rule, route, group or listener tells two values apart.

Every boundary that anything in a topology draws cuts addresses and services. Whatever holds for one member of
an atom holds for all, so that walking one representative of each combination of atoms is exact.
"""

from __future__ import annotations

import hashlib
from bisect import bisect_right
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass

from kiboko.core.filters.ground import Ground
from kiboko.core.header.addresses import BITS, PRIVATE_BLOCKS, SPECIAL_PURPOSE, Address, AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, NEVER_REFUSED, SCTP, TCP, UDP, WITH_PORTS
from kiboko.core.network.host_rules import Match, Values, VerdictMap
from kiboko.core.network.model import Filter, Instance, Rule, listened
from kiboko.core.tables.reply_filters import asked_of_replies
from kiboko.core.tables.subject import Subject


class AddressAtoms:
    """The address line of each family, cut wherever one of the given sets begins or ends.

    A signature stands for the exact list of sets that an address is in: two addresses with the same signature are
    in the same sets. It is the exclusive-or of one 128-bit key a set (A. Zobrist, 1970, University of Wisconsin
    TR 88), so that it can be kept while sweeping over millions of boundaries.
    """

    def __init__(self, sets: Iterable[AddressSet]) -> None:
        changes: dict[int, dict[int, int]] = {4: {0: 0}, 6: {0: 0}}
        for index, each in enumerate(dict.fromkeys(sets)):
            key = int.from_bytes(hashlib.blake2b(index.to_bytes(8, "big"), digest_size=16).digest(), "big")
            for family in (4, 6):
                line = changes[family]
                for low, high in each.family(family):
                    line[low] = line.get(low, 0) ^ key
                    line[high + 1] = line.get(high + 1, 0) ^ key
        self._starts: dict[int, list[int]] = {}
        self._signatures: dict[int, list[int]] = {}
        for family, line in changes.items():
            self._starts[family] = sorted(line)
            running = 0
            self._signatures[family] = [running := running ^ line[start] for start in self._starts[family]]

    def starts(self) -> dict[int, list[int]]:
        """For each family the first value of every piece, ascending from 0."""
        return self._starts

    def signature(self, address: Address) -> int:
        """What tells the address apart from others."""
        starts = self._starts[address.family]
        return self._signatures[address.family][bisect_right(starts, address.value) - 1]

    def split(self, low: Address, high: Address) -> Iterator[tuple[Address, Address, int]]:
        """A range cut into pieces of one signature each, as `(first, last, signature)`."""
        family = low.family
        starts, signatures = self._starts[family], self._signatures[family]
        index = bisect_right(starts, low.value) - 1
        first = low.value
        while first <= high.value:
            last = min(high.value, starts[index + 1] - 1) if index + 1 < len(starts) else high.value
            yield Address(family, first), Address(family, last), signatures[index]
            first, index = last + 1, index + 1


def address_atoms(ground: Ground, subject: Subject | None = None) -> AddressAtoms:
    """The atoms that a topology cuts addresses into, as far as that matters to a subject."""
    return AddressAtoms(address_sets(ground, subject))


def address_sets(ground: Ground, subject: Subject | None = None) -> Iterator[AddressSet]:
    """Every set of addresses that something in a topology treats as one; of rules those that concern a subject."""
    topology = ground.topology
    for _, peers in _rules_about(ground, subject):
        yield from (addresses for addresses in peers if addresses is not None)
    for table in topology.route_tables.values():
        for entry in table.entries:
            yield AddressSet.of_prefixes([entry.to])
    for outside in topology.outsides.values():
        for prefix in outside.prefixes:
            yield AddressSet.of_prefixes([prefix])
    for network in topology.networks.values():
        for block in (*network.blocks, *network.public):
            yield AddressSet.of_prefixes([block])
    for subnet in topology.subnets.values():
        yield AddressSet.of_prefixes(subnet.blocks)
    for address in ground.directory.public_addresses():
        yield AddressSet.of_addresses([address])
    for block in PRIVATE_BLOCKS:  # nobody's beyond (S2), and of IPv6 not global (S6)
        yield AddressSet.of_prefixes([block])
    yield from SPECIAL_PURPOSE.values()
    yield ground.directory.undeliverable
    for fields, values in kernel_values(topology.instances.values()):
        if fields[1] in ("saddr", "daddr"):
            yield AddressSet(v4=values) if fields[0] == "ip" else AddressSet(v6=values)


@dataclass(frozen=True, slots=True)
class Edges:
    """Where atoms begin beside where a network tells values apart by itself: addresses, service numbers, and sender's
    ports; and the filters that another version asks about replies."""

    addresses: tuple[Address, ...] = ()
    services: tuple[int, ...] = ()
    ports: tuple[int, ...] = ()
    filters: frozenset[str] = frozenset()


NO_EDGES = Edges()


def rule_edges(ground: Ground, filters: Collection[Filter]) -> Edges:
    """Where the rules of some filters tell values apart."""
    addresses: dict[Address, None] = {}
    services: set[int] = set()
    ports: set[int] = set()
    for rule in (rule for each in filters for rule in each.every_rule()):
        for peer in (rule.sources, rule.destinations):
            peers = ground.membership.peer_addresses(peer) or AddressSet()
            addresses |= {
                Address(family, edge): None for family in (4, 6) for low, high in peers.family(family)
                for edge in (low, high + 1) if edge < 1 << BITS[family]
            }  # fmt: skip
        services.update(edge for low, high in rule.services or () for edge in (low, high + 1))
        for low, high in rule.source_ports or ():
            ports.update((low, high + 1))
            services.update(protocol << 16 | low for protocol in WITH_PORTS)
            services.update((protocol << 16 | high) + 1 for protocol in WITH_PORTS)
    return Edges(tuple(addresses), tuple(sorted(services)), tuple(sorted(ports)), asked_of_replies(ground))


def _rules_about(
    ground: Ground, subject: Subject | None
) -> Iterator[tuple[Rule, tuple[AddressSet | None, AddressSet | None]]]:
    """The rules that concern a subject, all where there is none, each with its peers as addresses."""
    addresses_of = ground.membership.peer_addresses
    for each in ground.topology.filters.values():
        for rule in each.every_rule():
            peers = addresses_of(rule.sources), addresses_of(rule.destinations)
            if subject is None or subject.concerns(each.name, rule, *peers):
                yield rule, peers


def service_cuts(
    ground: Ground, receivers: Iterable[Instance] | None = None, subject: Subject | None = None
) -> list[int]:
    """The service numbers at which something changes, ascending: an atom runs from one to before the next. Only what
    `receivers` listen to is looked at, None for all instances; of rules those that concern a subject."""
    topology = ground.topology
    cuts = {protocol + step << 16 for protocol in (ICMP, ICMP6, TCP, UDP, SCTP) for step in (0, 1)}

    def cut(low: int, high: int) -> None:
        cuts.update((low, high + 1))

    def cut_ports(ports: RangeSet) -> None:
        for protocol in (TCP, UDP, SCTP):
            for low, high in ports:
                cut(protocol << 16 | low, protocol << 16 | high)

    for rule, _ in _rules_about(ground, subject):
        for low, high in rule.services or ():
            cut(low, high)
        cut_ports(rule.source_ports or RangeSet())
    for services in listened(topology.instances.values() if receivers is None else receivers):
        for low, high in services:
            cut(low, high)
    for (_, name), values in kernel_values(topology.instances.values()):
        if name in ("sport", "dport"):
            cut_ports(values)
        elif name in ("protocol", "nexthdr", "l4proto"):
            for low, high in values:
                cut(low << 16, high << 16 | 0xFFFF)
        elif name == "type":
            for low, high in values:
                for protocol in (ICMP, ICMP6):
                    cut(protocol << 16 | low << 8, protocol << 16 | high << 8 | 255)
        elif name == "code":
            # A code may follow any type, so that every type has to be cut at it.
            for low, high in values:
                for kind in range(256):
                    for protocol in (ICMP, ICMP6):
                        cut(protocol << 16 | kind << 8 | low, protocol << 16 | kind << 8 | high)
    for low, high in NEVER_REFUSED:
        cut(low, high)
    for protocol, kinds in ((ICMP, (0, 8)), (ICMP6, (128, 129))):
        for kind in kinds:
            cut(protocol << 16 | kind << 8, protocol << 16 | kind << 8)
            cut(protocol << 16 | kind << 8, protocol << 16 | kind << 8 | 255)
    return sorted(cuts)


def split_services(services: RangeSet, cuts: list[int]) -> Iterator[tuple[int, int]]:
    """A set of service numbers cut into atoms, each `(low, high)` within it."""
    for low, high in services:
        index = bisect_right(cuts, low)
        while low <= high:
            last = min(high, cuts[index] - 1) if index < len(cuts) else high
            yield low, last
            low, index = last + 1, index + 1


def kernel_values(instances: Iterable[Instance]) -> Iterator[tuple[tuple[str, str], RangeSet]]:
    """The fields that kernel rule sets look at, each with the numbers they are compared with; what many instances have
    in common once."""
    met: set[tuple[int, ...]] = set()
    for instance in instances:
        rules = instance.host_filter
        if rules is None or isinstance(rules, str):
            continue
        chains = tuple(map(id, rules.chains))
        if chains in met:
            continue
        met.add(chains)
        for chain in rules.chains:
            for rule in chain.rules:
                for statement in rule.statements:
                    if isinstance(statement, Match):
                        alternatives: Iterable[tuple[Values, ...]] = statement.alternatives
                    elif isinstance(statement, VerdictMap):
                        alternatives = [alternative for alternative, _ in statement.entries]
                    else:
                        continue
                    for alternative in alternatives:
                        for name, values in zip(statement.fields, alternative, strict=True):
                            yield name, values.numbers
