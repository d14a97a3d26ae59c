"""Recorded traffic held to expectations, and a first set of expectations out of what was recorded."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from kiboko.batch.observing import Evidence, observed_of
from kiboko.batch.spanning import spread
from kiboko.core.changes.expecting import HELD, held
from kiboko.core.changes.spoken_of import ONLY
from kiboko.core.errors import Place
from kiboko.core.evidence.asking import Asker, Asking, addresses_of
from kiboko.core.evidence.comparison import AGREE
from kiboko.core.evidence.finding_groups import FindingGroup
from kiboko.core.evidence.observed import Observed
from kiboko.core.evidence.summary import Summary
from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.services import parse_services
from kiboko.core.network.model import Expectation, Topology
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.holders import Holders
from kiboko.core.records.records import ANSWERED, ARRIVED
from kiboko.core.walk.walk import ALLOWED, BLOCKED, Walker


@dataclass(frozen=True, slots=True)
class SeenPromise:
    """What was recorded of the traffic that an expectation speaks of; `others` of that of anybody else, which `only`
    shuts out."""

    expectation: Expectation
    seen: Observed
    others: Observed

    @property
    def breaks(self) -> int:
        """How many conversations and probes were seen to break it."""
        if self.expectation.expect == BLOCKED:
            return self.seen.through
        return self.seen.stopped + (self.others.through if self.expectation.expect == ONLY else 0)

    @property
    def keeps(self) -> int:
        """How many were seen to keep it."""
        if self.expectation.expect == BLOCKED:
            return self.seen.stopped
        return self.seen.answered + (self.others.stopped if self.expectation.expect == ONLY else 0)


def seen_of(
    ends: Ends, expectations: Sequence[Expectation], evidence: Evidence
) -> tuple[dict[str, SeenPromise], list[str]]:
    """What evidence shows of each expectation, by id, and what has to be borne in mind. Raises InputError."""
    topology, asker = ends.topology, Asker(ends.directory)
    asked: list[Asking] = []
    for each in expectations:
        excepted = _addresses(ends, each.excepted, True)
        senders = _addresses(ends, each.sources, True) - excepted
        targets = _of_family(_addresses(ends, each.destinations, False), each.family)
        others = AddressSet()
        if each.expect == ONLY:
            others = _everybody(topology) - _addresses(ends, each.sources, True) - excepted
        # What is to be stopped is so by whatever address (S3); what is to get through, by that which names mean.
        mine = asker.by_any if each.expect == BLOCKED else asker.by_name
        asked += [mine(senders, targets, each.services), Asking(others, targets, each.services)]
    found, told = observed_of(ends.walker, asked, evidence)
    return {each.id: SeenPromise(each, found[2 * at], found[2 * at + 1]) for at, each in enumerate(expectations)}, told


def _addresses(ends: Ends, names: Sequence[str], is_sender: bool) -> AddressSet:
    members = [member for name in names for member in ends.resolve(name).members]
    return addresses_of(ends.topology, members, is_sender)


def _of_family(addresses: AddressSet, family: int | None) -> AddressSet:
    """Those of one family; all of them where none is given."""
    if family is None:
        return addresses
    return AddressSet(v4=addresses.v4) if family == 4 else AddressSet(v6=addresses.v6)


def _everybody(topology: Topology) -> AddressSet:
    """Every address of the network and its outsides, and whatever stands behind a gateway."""
    blocks = [prefix for each in topology.networks.values() for prefix in each.blocks]
    blocks += [prefix for each in topology.outsides.values() for prefix in each.prefixes]
    return AddressSet.of_prefixes(blocks)


def drafted(walker: Walker, summary: Summary) -> list[Expectation]:
    """A promise for each kind of traffic that was recorded to be answered, by the smallest names that hold its ends,
    where the rules allow it and nothing of it disagrees: for a person to cut down."""
    holders = Holders(walker)
    place = Place("recorded", 1)
    known = {*walker.topology.instances, *walker.topology.outsides}
    by_service: dict[str, list[FindingGroup]] = {}
    for group in summary.rows((AGREE,)).concluded(lambda each: each.observed in (ANSWERED, ARRIVED)):
        walk = group.finding.walk
        if walk is not None and walk.verdict == ALLOWED and known.issuperset((group.source, group.destination)):
            by_service.setdefault(group.service, []).append(group)
    found = {}
    for service, groups in by_service.items():
        for source, destination in _pairs(holders, groups):
            name = f"{source}-{destination}-{service.replace('/', '-')}".replace(":", "-").lower()
            try:
                services = parse_services(service, walker.topology.services)
            except ValueError:
                continue  # several services that nothing tells apart
            found[name] = Expectation(name, (source,), (destination,), services, service, ALLOWED, place)
    # What was recorded of some of them only is no promise to begin with.
    return [each.expectation for each in held(Ends(walker), list(found.values()), spread) if each.state == HELD]


def _pairs(holders: Holders, groups: Sequence[FindingGroup]) -> Iterator[tuple[str, str]]:
    """Who talked to whom on one service: all senders to a receiver under one name, where one is only theirs."""
    by_receiver: dict[str, set[str]] = {}
    for group in groups:
        by_receiver.setdefault(group.destination, set()).add(group.source)
    for receiver, senders in by_receiver.items():
        whole = holders.whole(senders)
        yield from ((name, receiver) for name in ([whole] if whole is not None else sorted(senders)))
