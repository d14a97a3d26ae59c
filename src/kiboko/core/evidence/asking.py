"""The traffic that somebody asks about, found among what was recorded."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.judged import Judged
from kiboko.core.evidence.tallies import turned_round
from kiboko.core.header.addresses import Address, AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.directory import Directory
from kiboko.core.network.model import Topology
from kiboko.core.queries.members import Member
from kiboko.core.records.columns import distinct, within
from kiboko.core.records.flow_query import among
from kiboko.core.records.flow_table import AddressTable

_NONE = AddressSet()


class Beside(NamedTuple):
    """How many records are beside those asked about: of `other` traffic between the same ends, in either direction; of
    such traffic at `further` addresses of the same machines; and of what somebody sent from `behind` a shared address,
    who may be one of the senders."""

    other: int = 0
    further: int = 0
    behind: int = 0

    def and_more(self, more: Beside) -> Beside:
        """With those of other tables."""
        return Beside(*(mine + theirs for mine, theirs in zip(self, more, strict=True)))


class Recorded(NamedTuple):
    """Of a judged table the `rows` of conversations asked about, int64[n], in their order; and what is beside them."""

    rows: NDArray[np.int64]
    beside: Beside = Beside()


@dataclass(frozen=True, slots=True)
class Asking:
    """Traffic from some addresses to some, on some services, from some client ports (any of them where None). A
    machine's addresses are its own, its public ones, and of a sender the shared ones that it may be behind.
    `further` are those of the senders and the targets that are not asked about, since a name does not mean them, and
    `apart` senders that do not mean some of the targets: what a machine of ours sends to the public address of another
    takes another way than what it sends to the private one (S29), and proves nothing of that. `either` are targets that
    records do not tell from those asked about, and `shared` are addresses that senders may be behind, as others may."""

    senders: AddressSet
    targets: AddressSet
    services: RangeSet
    ports: RangeSet | None = None
    further: tuple[AddressSet, AddressSet] = (_NONE, _NONE)
    apart: tuple[AddressSet, AddressSet] = (_NONE, _NONE)
    either: AddressSet = _NONE
    shared: AddressSet = _NONE

    def conversations(self, ends: RecordedEnds) -> NDArray[np.bool_]:
        """Which conversations it asks about, at the ends that are meant, bool[k]; also those that either end may have
        begun."""
        found = ends.between(self.senders, self.targets | self.either) & ends.on(self.services, self.ports)
        if self.apart[1]:
            found &= ~ends.between(*self.apart)
        if ends.is_open.any():
            back = ends.between(self.targets | self.either, self.senders) & ends.on(self.services, self.ports, True)
            found |= back & ends.is_open
        return found

    def widened(self) -> Asking:
        """The same at whatever addresses of the same machines."""
        senders = self.senders | self.further[0] | self.shared
        targets = self.targets | self.either | self.further[1]
        return Asking(senders, targets, self.services, self.ports)

    def asks_of(self, source: Address, target: Address, service: int, port: int | None) -> bool:
        """Whether it asks about what one address sends to another, on a service by its number, from a client port
        (None where that is not known)."""
        return (
            source in self.senders
            and target in self.targets
            and not (source in self.apart[0] and target in self.apart[1])
            and service in self.services
            and (self.ports is None or port is None or port in self.ports)
        )

    def recorded(self, ends: RecordedEnds, wanted: NDArray[np.bool_]) -> Recorded:
        """What the wanted records of a judged table, bool[n], have of it; others are there for their conversations."""
        wide = self.widened()
        forth, back = ends.between(wide.senders, wide.targets), ends.between(wide.targets, wide.senders)
        mine = self.conversations(ends)
        is_of_it = ends.on(self.services, self.ports)
        behind = ends.between(self.shared, self.targets | self.either) & is_of_it & ~mine
        elsewhere = forth & is_of_it & ~mine & ~behind
        other = (forth | back) & ~mine & ~behind & ~elsewhere
        counts = (int((each[ends.of] & wanted).sum()) for each in (other, elsewhere, behind))
        return Recorded(np.flatnonzero(mine[ends.of] & wanted), Beside(*counts))


class RecordedEnds:
    """The ends of the `k` conversations of a judged table, and what was asked.

    `of` int64[n] is the conversation of each record. Each distinct address and service is looked at once
    for a question, since there may be very many questions.
    """

    def __init__(self, judged: Judged, ends: tuple[AddressTable, AddressTable]) -> None:
        """`ends` are who asked, and which address was asked, as `Evaluator.ends_of` has them."""
        self._asked, self._count = judged.asked, len(ends[0])
        self.of = judged.found.of if judged.found is not None else np.zeros(0, dtype=np.int64)
        self.is_open = judged.found.began < 0 if judged.found is not None else np.zeros(0, dtype=np.bool_)
        """Of which conversations nothing tells who began, bool[k]."""
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

    def on(self, services: RangeSet, ports: RangeSet | None, turned: bool = False) -> NDArray[np.bool_]:
        """Which of them are on some services, from some client ports (any of them where None), bool[k]; or would be, if
        the other end had begun (`turned`)."""
        if self._asked is None or not self._count:
            return np.zeros(self._count, dtype=np.bool_)
        if turned:
            service, port = turned_round(self._asked.service, self._asked.port)
            return within(services, service) & ((port < 0) | within(ports, port) if ports is not None else True)
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
            if member.name != str(each.public):  # it is no machine at its public address
                single += each.addresses
            if each.public is not None:
                single.append(each.public)
            networks.add(topology.subnets[each.subnet].network)
    if is_sender:
        near = (each for each in topology.gateways.values() if networks & set(each.networks))
        single += (each.address for each in near if each.address is not None)
    return AddressSet(RangeSet.of(ranges[4]), RangeSet.of(ranges[6])) | AddressSet.of_addresses(single)


class Asker:
    """Makes questions to what was recorded of one network out of the addresses of ends."""

    def __init__(self, directory: Directory) -> None:
        self._directory = directory
        public = directory.public_addresses()
        self._ours = directory.network_blocks | AddressSet.of_addresses(public)
        self._behind: dict[str, AddressSet] = {}
        """The addresses of the machines that may be behind a gateway."""
        self._translated = [(each, owner.address(4)) for each in public if (owner := directory.public_owner(each))]

    def by_name(
        self, senders: AddressSet, targets: AddressSet, services: RangeSet, ports: RangeSet | None = None
    ) -> Asking:
        """What some ends send to others. By its name a machine of ours is asked at its private addresses by those
        inside, and at its public one only where that stands alone among the targets (S1)."""
        unmeant = (each for each, own in self._translated if each in targets and own is not None and own in targets)
        apart = self._ours, AddressSet.of_addresses(unmeant)
        return dataclasses.replace(self.by_any(senders, targets, services, ports), apart=apart)

    def by_any(
        self, senders: AddressSet, targets: AddressSet, services: RangeSet, ports: RangeSet | None = None
    ) -> Asking:
        """What some ends send to others, by whatever address."""
        shared = self._not_theirs_alone(senders)
        return Asking(senders - shared, targets, services, ports, shared=shared)

    def of_pair(
        self, source: Address, target: Address, ends: tuple[AddressSet, AddressSet], services: RangeSet,
        ports: RangeSet | None = None,
    ) -> Asking:  # fmt: skip
        """What one address sends to another, of `ends` that have further ones. The sender's may be recorded in front of
        gateways and behind them; of the receiver the one that was sent to counts, but for who has a tunnel to it and
        may have used its private address or its public one: records do not tell."""
        directory = self._directory
        gateways = directory.topology.gateways.values()
        end = directory.endpoint(source)
        near = {each.address for each in gateways if each.address is not None and end.network in each.networks}
        senders = AddressSet.of_addresses({source, *self._alike(source), *near})
        shared = self._not_theirs_alone(senders)
        senders -= shared
        either = AddressSet()
        receiver = directory.endpoint(target)
        if receiver.network is not None and end.outside is not None and (
            directory.tunnel(receiver.network, end.outside.name) is not None
        ):  # fmt: skip
            either = AddressSet.of_addresses(self._alike(target) - {target})
        targets = AddressSet.of_addresses([target])
        further = ends[0] - senders - shared, ends[1] - targets - either
        return Asking(senders, targets, services, ports, further, either=either, shared=shared)

    def _not_theirs_alone(self, senders: AddressSet) -> AddressSet:
        """The shared addresses among those of some senders that others may be behind as well."""
        found = []
        for gateway in self._directory.topology.gateways.values():
            if gateway.address is not None and gateway.address in senders:
                if gateway.name not in self._behind:
                    subnets = self._directory.topology.subnets
                    self._behind[gateway.name] = AddressSet.of_addresses(
                        address
                        for each in self._directory.interfaces()
                        if subnets[each.subnet].network in gateway.networks and (address := each.address(4)) is not None
                    )
                if not self._behind[gateway.name] <= senders:
                    found.append(gateway.address)
        return AddressSet.of_addresses(found)

    def _alike(self, address: Address) -> set[Address]:
        """An address in front of a gateway and behind it."""
        owner = self._directory.endpoint(address).interface
        both = {owner.public, owner.address(4)} if owner is not None else set()
        return {each for each in both if each is not None} if address in both else {address}
