"""Faults on request: what a real network does that its rules do not show.

A fault changes what is built, never what the walk is told, so that evidence recorded from such a replica disagrees
with the rules in a known way.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from dataclasses import dataclass

from kiboko.core.errors import UsageError
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import parse_services, union_services
from kiboko.core.network.model import Filter, Instance, Listener, Named, Topology

NOT_ENFORCED, SERVICE_DOWN, OLDER_FILTER, SENDER_SIDE = (
    "not-enforced", "service-down", "older-filter", "sender-side",
)  # fmt: skip
KINDS = (NOT_ENFORCED, SERVICE_DOWN, OLDER_FILTER, SENDER_SIDE)


@dataclass(frozen=True, slots=True)
class Fault:
    """One fault. `who` is an instance, for `sender-side` also an outside, for `older-filter` a filter.

    `services` narrows a service that is down, or what a sender's network blocks; None is all of them. `older` is the
    filter as it stands in the older network file.
    """

    kind: str
    who: str
    services: RangeSet | None = None
    older: Filter | None = None


def check_faults(faults: tuple[Fault, ...], topology: Topology) -> None:
    """Refuse a fault that cannot be put into this network. Raises UsageError."""
    for fault in faults:
        known: Mapping[str, object] = topology.instances
        if fault.kind == SENDER_SIDE:
            known = {**topology.instances, **topology.outsides}
        elif fault.kind == OLDER_FILTER:
            known = topology.filters
        if fault.who not in known:
            what = {OLDER_FILTER: "filter", SENDER_SIDE: "instance or outside"}.get(fault.kind, "instance")
            raise UsageError(f"fault {fault.kind}: '{fault.who}' is no {what} of the network")
        if fault.kind == SERVICE_DOWN and topology.instances[fault.who].listens == ():
            raise UsageError(f"fault {fault.kind}: '{fault.who}' listens to nothing")
        if fault.older is not None:
            _check_older(fault.older, topology)


def _check_older(older: Filter, topology: Topology) -> None:
    now = topology.filters[older.name]
    if (older.layer, older.decide) != (now.layer, now.decide):
        raise UsageError(f"fault {OLDER_FILTER}: '{older.name}' was of another layer or decided otherwise then")
    known = {*topology.networks, *topology.subnets, *topology.instances, *topology.groups, *topology.outsides}
    for rule in older.every_rule():
        for item in (*(rule.sources or ()), *(rule.destinations or ())):
            if isinstance(item, Named) and item.name.partition("/")[0] not in known:
                raise UsageError(
                    f"fault {OLDER_FILTER}: rule {rule.id or rule.order} of '{older.name}' names '{item.name}',"
                    " which the network has no more"
                )


def as_built(topology: Topology, faults: tuple[Fault, ...]) -> Topology:
    """The topology whose rules the replica gets: older filters in the place of those of today, services taken off.

    Attachments stay as they are today.
    """
    filters, instances = dict(topology.filters), dict(topology.instances)
    for fault in faults:
        if fault.older is not None:
            now = filters[fault.who]
            filters[fault.who] = dataclasses.replace(fault.older, attach_to=now.attach_to, exempt=now.exempt)
        if fault.kind == SERVICE_DOWN:
            instances[fault.who] = _without(instances[fault.who], fault.services)
    return dataclasses.replace(topology, filters=filters, instances=instances)


def _without(instance: Instance, gone: RangeSet | None) -> Instance:
    """An instance on which some services, or all, have stopped listening."""
    if gone is None:
        return dataclasses.replace(instance, listens=())
    listens = instance.listens
    if listens is None:
        everything = union_services([parse_services("tcp"), parse_services("udp")])
        listens = (Listener(everything, "any", instance.place),)
    left = (dataclasses.replace(each, services=each.services - gone) for each in listens)
    return dataclasses.replace(instance, listens=tuple(each for each in left if each.services))


def unenforced(faults: tuple[Fault, ...]) -> frozenset[str]:
    """The instances on which the filters of interfaces do nothing."""
    return frozenset(fault.who for fault in faults if fault.kind == NOT_ENFORCED)


def blocked_senders(faults: tuple[Fault, ...]) -> dict[str, list[RangeSet | None]]:
    """For each instance or outside, the services that its own network does not let out."""
    found: dict[str, list[RangeSet | None]] = {}
    for fault in faults:
        if fault.kind == SENDER_SIDE:
            found.setdefault(fault.who, []).append(fault.services)
    return found
