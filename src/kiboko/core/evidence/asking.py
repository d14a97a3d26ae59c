"""The traffic that somebody asks about, found among what was recorded."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.evaluator import Judged
from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import EMPTY, RangeSet
from kiboko.core.network.model import Topology
from kiboko.core.queries.ends import Member
from kiboko.core.records.columns import within
from kiboko.core.records.flow_query import among
from kiboko.core.records.flow_table import AddressTable


@dataclass(frozen=True, slots=True)
class Asking:
    """Traffic from some addresses to some, on some services, from some client ports (any of them where None). A
    machine's addresses are its own, its public ones, and of a sender the shared ones that it may be behind."""

    senders: AddressSet
    targets: AddressSet
    services: RangeSet
    ports: RangeSet | None = None

    def rows(self, judged: Judged, ends: tuple[AddressTable, AddressTable]) -> tuple[NDArray[np.int64], int]:
        """Of a judged table the records of conversations asked about, in their order; and how many records are of
        others between the same ends, in either direction. `ends` are those of the conversations, as
        `Evaluator.ends_of` has them."""
        found, asked = judged.found, judged.asked
        if found is None or asked is None:
            return np.zeros(0, dtype=np.int64), 0
        sender, target = ends
        forth = among(self.senders, sender) & among(self.targets, target)
        between = forth | (among(self.targets, sender) & among(self.senders, target))
        wanted = forth & within(self.services, asked.service)
        if self.ports is not None:
            wanted &= (asked.port < 0) | within(self.ports, asked.port)
        return np.flatnonzero(wanted[found.of]), int((between & ~wanted)[found.of].sum())


def addresses_of(topology: Topology, members: Iterable[Member], is_sender: bool) -> AddressSet:
    """Every address under which some ends may be recorded."""
    found = []
    networks: set[str] = set()
    for member in members:
        if member.low is not None and member.high is not None:
            span = RangeSet.span(member.low.value, member.high.value)
            found.append(AddressSet(span, EMPTY) if member.low.family == 4 else AddressSet(EMPTY, span))
        for each in member.interfaces:
            found.append(AddressSet.of_addresses([*each.addresses, *([each.public] if each.public else [])]))
            networks.add(topology.subnets[each.subnet].network)
    if is_sender:
        near = (each for each in topology.gateways.values() if networks & set(each.networks))
        found.append(AddressSet.of_addresses(each.address for each in near if each.address is not None))
    return AddressSet.union(found)
