"""What a probe asked: from which address to which, as far as its record tells."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from kiboko.core.errors import UsageError
from kiboko.core.header.addresses import PRIVATE_USE, Address, AddressSet, parse_meant
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service
from kiboko.core.network.directory import Endpoint
from kiboko.core.queries.ends import Ends, resolve_service, services_for, single_service
from kiboko.core.queries.members import End, member_addresses
from kiboko.core.records.records import ProbeRecord
from kiboko.core.tables.cuts import AddressAtoms, address_atoms
from kiboko.core.walk.walk import Walk

REDIRECTED = "the packets went to another address than the name's own"
_MOST_TRIED = 64
"""Kinds of addresses that are tried of a sender of which no address is known."""


@dataclass(frozen=True, slots=True)
class ProbeAsked:
    """What a probe asked: which ends may have sent it (of an outside whose own address is not known one of each kind
    that rules tell apart), to which address, on which service, from which client ports (None where that is not known).

    `named` are its ends as a question names them: by their names where these mean the very addresses. `doubt` says why
    its packets may have been of other traffic, None where they were of it.
    """

    sources: tuple[Endpoint, ...]
    target: Address
    service: Service
    ports: RangeSet | None
    named: tuple[str, str]
    doubt: str | None = None


@dataclass(frozen=True, slots=True)
class Probed:
    """The walk of what a probe asked, by the first end that may have sent it; and why its packets may have been of
    other traffic, or took one of several walks."""

    walk: Walk
    doubt: str | None = None


class ProbeEnds:
    """Tells what probes asked of one network.

    A record names its ends, and says from which address packets left and where they went. What they say is held to the
    name: a probe of another machine, or of an address that the name does not have (any more), proves nothing of it.
    """

    def __init__(self, ends: Ends) -> None:
        self._ends, self._directory = ends, ends.directory

    @cached_property
    def _atoms(self) -> AddressAtoms:
        return address_atoms(self._ends.walker.ground)

    def walked(self, asked: ProbeAsked) -> Probed:
        """The walk of what a probe asked."""
        walks = [self._ends.walker.walk(each, asked.target, asked.service, asked.ports) for each in asked.sources]
        doubt = asked.doubt
        if doubt is None and len({_said(walk) for walk in walks}) > 1:
            doubt = f"{_untold(asked.named[0])}, and the rules do not treat all of them alike"
        return Probed(walks[0], doubt)

    def of(self, record: ProbeRecord) -> ProbeAsked:
        """What a probe asked. Raises UsageError where its ends are not known to the network."""
        ends = self._ends
        sender, receiver = ends.resolve(record.source), ends.resolve(record.destination)
        if len(receiver.members) != 1 or receiver.members[0].count != 1:
            raise UsageError(f"'{record.destination}' stands for more than one end; a probe goes to one")
        went = _address(record.address)
        services = resolve_service(record.service, ends.topology.services)
        first = next((each for each in sender.members if went.family in each.families), None)
        pairs = ends.pairs(first, receiver.members[0], went.family) if first is not None else []
        service = single_service(services_for(services, went.family))
        if first is None or not pairs or service is None:
            raise UsageError(
                f"a probe of {record.destination} {record.service} from {record.source} means nothing here"
            )
        meant = [pair.target for pair in pairs]
        own = {a for each in receiver.members[0].interfaces for a in (*each.addresses, each.public)}
        target = went if went in meant or went in own else meant[0]
        doubt = f"it went to {went}, which is no address of {record.destination}" if target != went else None
        doubt = REDIRECTED if record.redirected else doubt
        sources, where = self._sources(record, sender, pairs[0].source, target)
        port = RangeSet.one(record.source_port) if record.source_port is not None else None
        source, left = sources[0].address, _left_from(record)
        is_other = left == source and (sender.is_set or source != pairs[0].source.address)
        asked_first = ends.pairs(first, receiver.members[0])[0].target  # of two families IPv4 (S6)
        named = (str(source) if is_other else record.source,
                 str(target) if target != asked_first else record.destination)  # fmt: skip
        return ProbeAsked(tuple(sources), target, service, port, named, doubt or where)

    def _sources(
        self, record: ProbeRecord, sender: End, usual: Endpoint, target: Address
    ) -> tuple[list[Endpoint], str | None]:
        """The ends that may have sent it, and why it may be that none of them did, if so."""
        left = _left_from(record)
        mine = AddressSet.union(map(member_addresses, sender.members))
        if left is not None and (usual.outside is None or not self._is_translated(left, mine)):
            if left not in mine and left != usual.address:  # who is named by a public address has a private one
                return [usual], f"it left from {left}, which is no address of {record.source}"
            if left.family != target.family:
                return [usual], f"it left from {left}, and went to an address of the other family"
            name = None if sender.is_set else usual.name
            return [self._directory.endpoint(left, name)], None
        if not sender.is_set:
            return [usual], None
        found = self._kinds_of(record.source, mine, target.family)
        return (found, None) if found else ([usual], _untold(record.source))

    def _is_translated(self, left: Address, mine: AddressSet) -> bool:
        """Whether somebody outside has another address for others than the one that packets left from."""
        if left not in PRIVATE_USE or self._directory.network_of(left) is not None:
            return False
        outside = self._directory.outside_of(left)
        listed = AddressSet.of_prefixes(outside.prefixes if outside is not None else ())
        return not (listed <= PRIVATE_USE and left in mine)

    def _kinds_of(self, name: str, mine: AddressSet, family: int) -> list[Endpoint]:
        """An end for each kind of addresses of a sender beyond the networks, as rules tell them apart; none where there
        are more than can be tried, or where some are inside."""
        found: dict[int, Endpoint] = {}
        ranges = (mine - PRIVATE_USE).family(family) or mine.family(family)
        for low, high in ranges:
            for first, _, signature in self._atoms.split(Address(family, low), Address(family, high)):
                end = self._directory.endpoint(first)
                if end.outside is None:
                    return []
                is_another = name in self._ends.topology.outsides and end.outside.name != name
                if not is_another and self._directory.why_undeliverable(first) is None:
                    found.setdefault(signature, end)
                if len(found) > _MOST_TRIED:
                    return []
        return list(found.values())


def _address(text: str) -> Address:
    try:
        return parse_meant(text)
    except ValueError as error:
        raise UsageError(f"'{text}' is no address") from error


def _left_from(record: ProbeRecord) -> Address | None:
    return _address(record.sent_from) if record.sent_from is not None else None


def _untold(name: str) -> str:
    return f"which address of {name} it was sent from is not recorded"


def _said(walk: Walk) -> tuple[object, ...]:
    """What the rules say of a flow, as far as a probe can show it."""
    row = walk.decided_by
    decided = (row.gate, row.filter, row.rule) if row is not None else None
    return walk.verdict, walk.signal, decided, walk.answered
