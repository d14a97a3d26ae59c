"""Faults on request: what a real network does that its rules do not show.

A fault changes what is built, never what the walk is told, so that evidence recorded from such a replica disagrees
with the rules in a known way.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from kiboko.core.errors import UsageError
from kiboko.core.header.addresses import parse_address
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import parse_services, union_services
from kiboko.core.network.directory import Directory
from kiboko.core.network.edits import with_instance
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.network.membership import Membership
from kiboko.core.network.model import ALLOW, DROP, Filter, Instance, Interface, Listener, Rule, Subnet, Topology
from kiboko.core.network.peers import names_in

NOT_ENFORCED, SERVICE_DOWN, OLDER_FILTER, SENDER_SIDE = (
    "not-enforced", "service-down", "older-filter", "sender-side",
)  # fmt: skip
EXEMPT, NOT_ATTACHED, MEMBERSHIP, NO_ADDRESS = "exempt", "not-attached", "membership", "no-address"
HOST_FILTER, NO_WAY_BACK, HOST_UNHEALTHY = "host-filter", "no-way-back", "host-unhealthy"
OLDER_SESSION, LOG_BEFORE_AS_OF = "older-session", "log-before-as-of"
KINDS = (NOT_ENFORCED, EXEMPT, NOT_ATTACHED, OLDER_FILTER, MEMBERSHIP, NO_ADDRESS, SERVICE_DOWN, HOST_FILTER,
         NO_WAY_BACK, OLDER_SESSION, SENDER_SIDE, LOG_BEFORE_AS_OF, HOST_UNHEALTHY)  # fmt: skip
"""Each is called as the cause is that `confirm` finds for it."""
OF_TIME = (OLDER_SESSION, LOG_BEFORE_AS_OF)
"""Faults that are over when the rules of today are put in force: a filter is as it was until then, and what began
before goes on, or is in the log."""
FROM_FILE = (OLDER_FILTER, *OF_TIME)
"""Faults with a filter as it stands in another network file."""
OF_FILTERS = (EXEMPT, NOT_ATTACHED, NO_WAY_BACK, *FROM_FILE)
WITH_PLACE = (EXEMPT, NOT_ATTACHED, MEMBERSHIP, NO_ADDRESS)
"""Faults of somebody at some place."""
WITH_SERVICE = (SERVICE_DOWN, SENDER_SIDE, HOST_FILTER)


@dataclass(frozen=True, slots=True)
class Fault:
    """One fault. `who` is an instance, for `sender-side` also an outside; a filter for those of filters, a group for
    `membership`.

    `services` narrows a service that is down, or what a host or a sender's network blocks; None is all of them. `older`
    is the filter as it stands in the older network file. `at` is the instance or subnet at which a filter is not, the
    instance that is in a group and should not be (or the other way round), or an address of an instance that nobody
    recorded.
    """

    kind: str
    who: str
    services: RangeSet | None = None
    older: Filter | None = None
    at: str = ""


def check_faults(faults: tuple[Fault, ...], topology: Topology) -> None:
    """Refuse a fault that cannot be put into this network. Raises UsageError."""
    for fault in faults:
        known: Mapping[str, object] = topology.instances
        what = "instance"
        if fault.kind == SENDER_SIDE:
            known, what = {**topology.instances, **topology.outsides}, "instance or outside"
        elif fault.kind in OF_FILTERS:
            known, what = topology.filters, "filter"
        elif fault.kind == MEMBERSHIP:
            known, what = topology.groups, "group"
        if fault.who not in known:
            raise UsageError(f"fault {fault.kind}: '{fault.who}' is no {what} of the network")
        if fault.kind == SERVICE_DOWN and topology.instances[fault.who].listens == ():
            raise UsageError(f"fault {fault.kind}: '{fault.who}' listens to nothing")
        if fault.older is not None:
            _check_older(fault, fault.older, topology)
        _check_place(fault, topology)


def _check_place(fault: Fault, topology: Topology) -> None:
    places: Mapping[str, object] = topology.instances
    if fault.kind == NOT_ATTACHED:
        places = {**topology.instances, **topology.subnets}
    if fault.kind in (EXEMPT, NOT_ATTACHED, MEMBERSHIP) and fault.at not in places:
        raise UsageError(f"fault {fault.kind}: '{fault.at}' is no place of it; write {fault.who}@INSTANCE")
    if fault.kind == EXEMPT and not topology.filters[fault.who].attach_to:
        raise UsageError(f"fault {fault.kind}: '{fault.who}' attaches itself to nothing")
    if fault.kind == NOT_ATTACHED and _unattached(topology, fault) == topology:
        raise UsageError(f"fault {fault.kind}: '{fault.at}' does not carry '{fault.who}'")
    if fault.kind == NO_WAY_BACK and topology.filters[fault.who].inbound is None:
        raise UsageError(f"fault {fault.kind}: '{fault.who}' filters nothing inbound")
    if fault.kind in (HOST_FILTER, HOST_UNHEALTHY) and isinstance(
        topology.instances[fault.who].host_filter, HostRuleSet
    ):
        raise UsageError(f"fault {fault.kind}: '{fault.who}' has a rule set of the kernel already")
    if fault.kind == NO_ADDRESS:
        address = parse_address(fault.at)
        if not any(address in _subnet_of(topology, each) for each in topology.instances[fault.who].interfaces):
            raise UsageError(f"fault {fault.kind}: {fault.at} is in no subnet of '{fault.who}'")
        if Directory(topology).interface_at(address) is not None:
            raise UsageError(f"fault {fault.kind}: {fault.at} is recorded")


def _subnet_of(topology: Topology, interface: Interface) -> Subnet:
    return topology.subnets[interface.subnet]


def _check_older(fault: Fault, older: Filter, topology: Topology) -> None:
    now = topology.filters[older.name]
    if (older.layer, older.decide) != (now.layer, now.decide):
        raise UsageError(f"fault {fault.kind}: '{older.name}' was of another layer or decided otherwise then")
    known = {*topology.networks, *topology.subnets, *topology.instances, *topology.groups, *topology.outsides}
    for rule in older.every_rule():
        for name in (*names_in(rule.sources), *names_in(rule.destinations)):
            if name.partition("/")[0] not in known:
                raise UsageError(
                    f"fault {fault.kind}: rule {rule.id or rule.order} of '{older.name}' names '{name}',"
                    " which the network has no more"
                )


def as_built(topology: Topology, faults: tuple[Fault, ...]) -> Topology:
    """The topology whose rules the replica gets: older filters in the place of those of today, services taken off, and
    whatever else is not as the network file says.

    What is not enforced, and what a sender's network holds back, is left to those who lay it out.
    """
    for fault in faults:
        change = _CHANGES.get(fault.kind)
        if change is not None:
            topology = change(topology, fault)
    return topology


def _with_filter(topology: Topology, name: str, **changed: Any) -> Topology:
    return topology.with_filter(dataclasses.replace(topology.filters[name], **changed))


def _with_instance(topology: Topology, name: str, **changed: Any) -> Topology:
    return with_instance(topology, dataclasses.replace(topology.instances[name], **changed))


def _older(topology: Topology, fault: Fault) -> Topology:
    """Attachments stay as they are today."""
    if fault.older is None:
        return topology
    now = topology.filters[fault.who]
    older = dataclasses.replace(fault.older, attach_to=now.attach_to, exempt=now.exempt)
    return topology.with_filter(older)


def _down(topology: Topology, fault: Fault) -> Topology:
    return with_instance(topology, _without(topology.instances[fault.who], fault.services))


def _exempted(topology: Topology, fault: Fault) -> Topology:
    return _with_filter(topology, fault.who, exempt=(*topology.filters[fault.who].exempt, fault.at))


def _unattached(topology: Topology, fault: Fault) -> Topology:
    if fault.at in topology.subnets:
        subnet = topology.subnets[fault.at]
        changed = dataclasses.replace(subnet, filter=None) if subnet.filter == fault.who else subnet
        return dataclasses.replace(topology, subnets={**topology.subnets, fault.at: changed})
    interfaces = tuple(
        each._replace(filters=tuple(name for name in each.filters if name != fault.who))
        for each in topology.instances[fault.at].interfaces
    )
    return _with_instance(topology, fault.at, interfaces=interfaces)


def _misplaced(topology: Topology, fault: Fault) -> Topology:
    """Whoever is in a group is not, and whoever is not, is."""
    group = topology.groups[fault.who]
    inside = Membership(Directory(topology)).group_instances(fault.who)
    members = [name for name in inside if name != fault.at] + ([] if fault.at in inside else [fault.at])
    changed = dataclasses.replace(group, members=tuple(members), where=None)
    return dataclasses.replace(topology, groups={**topology.groups, fault.who: changed})


def _unrecorded(topology: Topology, fault: Fault) -> Topology:
    address = parse_address(fault.at)
    interfaces = tuple(
        each._replace(addresses=(*each.addresses, address)) if address in _subnet_of(topology, each) else each
        for each in topology.instances[fault.who].interfaces
    )
    return _with_instance(topology, fault.who, interfaces=interfaces)


def _filtered(topology: Topology, fault: Fault) -> Topology:
    """A machine with a filter of its own that nobody recorded: it drops some services, or whatever comes in."""
    place = topology.instances[fault.who].place
    rule = Rule(1, DROP, place, services=fault.services)
    made = Filter(f"unrecorded-at-{fault.who}", "host", "first", True, place, inbound=(rule,), otherwise=ALLOW)
    return _with_instance(_with_new(topology, made), fault.who, host_filter=made.name)


def _unwell(topology: Topology, fault: Fault) -> Topology:
    """A machine that takes nothing in and sends nothing out."""
    place = topology.instances[fault.who].place
    made = Filter(f"unwell-at-{fault.who}", "host", "first", False, place, inbound=(), outbound=(), otherwise=DROP)
    return _with_instance(_with_new(topology, made), fault.who, host_filter=made.name)


def _with_new(topology: Topology, made: Filter) -> Topology:
    return dataclasses.replace(topology, filters={**topology.filters, made.name: made})


def _one_way(topology: Topology, fault: Fault) -> Topology:
    """A filter that keeps no state and lets requests out, to ports below 1024 and pings, and no replies."""
    place = topology.filters[fault.who].place
    asking = union_services([parse_services(text) for text in ("tcp/1-1023", "udp/1-1023", "ping")])
    rules = Rule(1, ALLOW, place, services=asking), Rule(2, DROP, place)
    return _with_filter(topology, fault.who, stateful=False, outbound=rules)


_CHANGES: dict[str, Callable[[Topology, Fault], Topology]] = {
    **dict.fromkeys(FROM_FILE, _older), SERVICE_DOWN: _down, EXEMPT: _exempted, NOT_ATTACHED: _unattached,
    MEMBERSHIP: _misplaced, NO_ADDRESS: _unrecorded, HOST_FILTER: _filtered, HOST_UNHEALTHY: _unwell,
    NO_WAY_BACK: _one_way,
}  # fmt: skip


def _without(instance: Instance, gone: RangeSet | None) -> Instance:
    """An instance on which some services, or all, have stopped listening."""
    if gone is None:
        return dataclasses.replace(instance, listens=())
    listens = instance.listens
    if listens is None:
        everything = union_services([parse_services("tcp"), parse_services("udp")])
        listens = (Listener(everything, "any", instance.place),)
    left = (each._replace(services=each.services - gone) for each in listens)
    return dataclasses.replace(instance, listens=tuple(each for each in left if each.services))


def strangers(faults: tuple[Fault, ...]) -> dict[str, str]:
    """The addresses that nobody recorded, and the instance that bears each."""
    return {fault.at: fault.who for fault in faults if fault.kind == NO_ADDRESS}


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
