"""Ends that are treated alike, and which pairs of them come to the same."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, NamedTuple

from kiboko.core.header.addresses import somebodys
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.model import Instance
from kiboko.core.queries.members import Member

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    import numpy as np
    from numpy.typing import NDArray

    from kiboko.core.queries.ends import Ends
    from kiboko.core.tables.cuts import AddressAtoms

    Places = Sequence[int] | NDArray[np.int64]

RECORDED, NOBODY, OUTSIDE = 0, 1, 2
"""Kinds of ends, in the order in which they are shown: recorded instances, addresses of subnets where nobody is
recorded, and what lies beyond the networks."""


@dataclass(slots=True)
class EndClass:
    """Members of one end that are treated alike, all of one kind."""

    kind: int
    members: list[Member] = field(default_factory=list)

    @property
    def count(self) -> int:
        """How many ends they are."""
        return sum(member.count for member in self.members)


class EndClasses:
    """Tells members apart by whatever the network tells apart: addresses by their atoms, machines by their interfaces
    and all that is asked of these."""

    def __init__(self, ends: Ends, atoms: AddressAtoms) -> None:
        self._ends, self._atoms = ends, atoms
        self._next_hops = {
            entry.instance for table in ends.topology.route_tables.values() for entry in table.entries if entry.instance
        }

    def of(self, members: Iterable[Member]) -> list[EndClass]:
        """The classes of some members, each in the order of its first one."""
        found: dict[object, EndClass] = {}
        for member in members:
            if member.low is None or member.high is None:
                found.setdefault(self._key_of(member), EndClass(RECORDED)).members.append(member)
                continue
            if member.count == 1 and not self._ends.is_foreign(member.low):
                kind = NOBODY if self._ends.directory.network_of(member.low) is not None else RECORDED
                found.setdefault(("one", member.low), EndClass(kind)).members.append(member)
                continue
            for first, last, signature in self._atoms.split(member.low, member.high):
                name = str(first) if first == last else f"{first}-{last}"
                there = self._ends.directory.endpoint(first)
                outside = there.outside.name if there.outside else None
                subnet = there.subnet.name if there.subnet else None
                piece = Member(name, None, (), first, last, outside=outside)
                key = ("range", first.family, signature, subnet, there.network, outside)
                kind = OUTSIDE if there.network is None else NOBODY
                found.setdefault(key, EndClass(kind)).members.append(piece)
        return list(found.values())

    def _key_of(self, member: Member) -> object:
        instance = self._ends.topology.instances[member.instance or ""]
        filters_on = self._ends.walker.membership.filters_on
        by_kernel = instance.host_filter is not None and not isinstance(instance.host_filter, str)
        interfaces = tuple(
            (
                interface.subnet,
                tuple(each.name for each in filters_on(interface)),
                tuple((a.family, self._atoms.signature(a)) for a in interface.addresses),
                self._atoms.signature(interface.public) if interface.public else None,
                interface.device if by_kernel else None,
            )
            for interface in member.interfaces
        )
        return (
            interfaces,
            instance.running,
            instance.host_filter if not by_kernel else id(instance.host_filter),
            _listening(instance, member),
            instance.ephemeral_ports,
            instance.name if instance.name in self._next_hops else None,
            len(instance.interfaces) == len(member.interfaces),
            member.is_literal,
            member.is_by_address,
        )


def _listening(instance: Instance, member: Member) -> object:
    if instance.listens is None:
        return None
    addresses = [address for interface in member.interfaces for address in interface.addresses]
    return tuple((each.services, tuple(each.accepts(a) for a in addresses)) for each in instance.listens)


def representatives(source: EndClass, destination: EndClass) -> tuple[Member, Member] | None:
    """One member of each class, not the same instance twice; None where there are no two."""
    for one in source.members[:2]:
        for other in destination.members[:2]:
            same_instance = one.instance is not None and one.instance == other.instance
            same_address = one.low is not None and one.low == other.low and one.count == 1
            if not same_instance and not same_address:
                if one.low is not None and one.low == other.low and other.high is not None:
                    # The same range on both sides: take its first and its last address.
                    return one, Member(str(other.high), None, (), other.high, other.high, outside=other.outside)
                return _likely(one), _likely(other)
    return None


def _likely(member: Member) -> Member:
    """Of an outside's addresses, which all are treated alike, one that somebody could have."""
    if member.outside is None or member.low is None or member.high is None:
        return member
    return dataclasses.replace(member, low=somebodys(member.low, member.high))


def is_beyond(each: EndClass, ends: Ends) -> bool:
    """Whether a class is of addresses beyond the networks that are nobody's of ours."""
    low = each.members[0].low
    return each.kind == OUTSIDE and low is not None and ends.is_foreign(low)


class Cells(NamedTuple):
    """Services on which pairs of classes come to the same: `sources` and `destinations` are the classes of each pair,
    all of one length."""

    services: RangeSet
    sources: Places
    destinations: Places


Shape = tuple[RangeSet, list[int], list[int]]
"""Sources that on some services come to the same with the same destinations, and these; ascending."""
