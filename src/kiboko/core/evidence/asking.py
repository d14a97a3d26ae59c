"""The traffic that somebody asks about, found among what was recorded."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.judged import Judged
from kiboko.core.header.addresses import Address, AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.directory import Directory
from kiboko.core.network.model import Topology
from kiboko.core.queries.members import Member
from kiboko.core.records.columns import distinct, within
from kiboko.core.records.flow_query import among
from kiboko.core.records.flow_table import AddressTable


class Recorded(NamedTuple):
    """Of a judged table the `rows` of conversations asked about, int64[n], in their order; how many records are of
    `other` traffic between the same ends, in either direction; and how many of such traffic `elsewhere`, at further
    addresses of the same machines."""

    rows: NDArray[np.int64]
    other: int = 0
    elsewhere: int = 0


@dataclass(frozen=True, slots=True)
class Asking:
    """Traffic from some addresses to some, on some services, from some client ports (any of them where None). A
    machine's addresses are its own, its public ones, and of a sender the shared ones that it may be behind.
    `further` are those of the senders and the targets that are not asked about, since a name does not mean them."""

    senders: AddressSet
    targets: AddressSet
    services: RangeSet
    ports: RangeSet | None = None
    further: tuple[AddressSet, AddressSet] = (AddressSet(), AddressSet())

    def conversations(self, ends: RecordedEnds) -> NDArray[np.bool_]:
        """Which conversations it asks about, at the ends that are meant, bool[k]."""
        return ends.between(self.senders, self.targets) & ends.on(self.services, self.ports)

    def recorded(self, ends: RecordedEnds) -> Recorded:
        """What a judged table has of it."""
        senders, targets = self.senders | self.further[0], self.targets | self.further[1]
        forth = ends.between(senders, targets)
        wanted = forth & ends.on(self.services, self.ports)
        other = int(((forth | ends.between(targets, senders)) & ~wanted)[ends.of].sum())
        if not any(self.further):
            return Recorded(np.flatnonzero(wanted[ends.of]), other)
        mine = self.conversations(ends)
        return Recorded(np.flatnonzero(mine[ends.of]), other, int((wanted & ~mine)[ends.of].sum()))


class RecordedEnds:
    """The ends of the `k` conversations of a judged table, and what was asked.

    `of` int64[n] is the conversation of each record. Each distinct address and service is looked at once
    for a question, since there may be very many questions.
    """

    def __init__(self, judged: Judged, ends: tuple[AddressTable, AddressTable]) -> None:
        """`ends` are who asked, and which address was asked, as `Evaluator.ends_of` has them."""
        self._asked, self._count = judged.asked, len(ends[0])
        self.of = judged.found.of if judged.found is not None else np.zeros(0, dtype=np.int64)
        self._sides = []
        for table in ends if self._count else ():
            known = distinct(table.family, table.high, table.low)
            self._sides.append((table.taken(known.first), known.codes))
        if judged.asked is not None and self._count:
            services = distinct(judged.asked.service)
            self._services, self._service_of = judged.asked.service[services.first], services.codes

    def between(self, senders: AddressSet, targets: AddressSet) -> NDArray[np.bool_]:
        """Which of them are from some addresses to some, bool[k]."""
        found = np.ones(self._count, dtype=np.bool_)
        for (table, codes), addresses in zip(self._sides, (senders, targets), strict=False):
            mine = among(addresses, table)
            if not mine.any():
                return np.zeros(self._count, dtype=np.bool_)
            found &= mine[codes]
        return found

    def on(self, services: RangeSet, ports: RangeSet | None) -> NDArray[np.bool_]:
        """Which of them are on some services, from some client ports (any of them where None), bool[k]."""
        if self._asked is None or not self._count:
            return np.zeros(self._count, dtype=np.bool_)
        found: NDArray[np.bool_] = within(services, self._services)[self._service_of]
        if ports is not None:
            found &= (self._asked.port < 0) | within(ports, self._asked.port)
        return found


def addresses_of(topology: Topology, members: Iterable[Member], is_sender: bool) -> AddressSet:
    """Every address under which some ends may be recorded."""
    ranges: dict[int, list[tuple[int, int]]] = {4: [], 6: []}
    single: list[Address] = []
    networks: set[str] = set()
    for member in members:
        if member.low is not None and member.high is not None:
            ranges[member.low.family].append((member.low.value, member.high.value))
        for each in member.interfaces:
            single += each.addresses
            if each.public is not None:
                single.append(each.public)
            networks.add(topology.subnets[each.subnet].network)
    if is_sender:
        near = (each for each in topology.gateways.values() if networks & set(each.networks))
        single += (each.address for each in near if each.address is not None)
    return AddressSet(RangeSet.of(ranges[4]), RangeSet.of(ranges[6])) | AddressSet.of_addresses(single)


def recorded_as(directory: Directory, source: Address, target: Address) -> tuple[AddressSet, AddressSet]:
    """The addresses under which what one address sends to another may be recorded, of the sender and of the receiver:
    in front of gateways and behind them."""
    found = []
    for address in (source, target):
        owner = directory.interface_at(address) or directory.public_owner(address)
        mine = {address}
        if owner is not None and address in (owner.public, owner.address(4)):
            mine |= {each for each in (owner.public, owner.address(4)) if each is not None}
        found.append(mine)
    end = directory.endpoint(source)
    found[0] |= {each.address for each in directory.topology.gateways.values()
                 if each.address is not None and end.network in each.networks}  # fmt: skip
    return AddressSet.of_addresses(found[0]), AddressSet.of_addresses(found[1])
