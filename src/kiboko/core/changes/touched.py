"""What a change of rules can touch: which ends carry them, and which traffic matches any rule that is not as it was.

The first rule that matches decides. Two lists of rules have a longest run of rules in common, in the same order; a
packet that matches none of the others meets the same first rule in both. So only traffic that matches one of the
others, there or on its way back, can come to anything else.
"""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from difflib import SequenceMatcher
from types import NoneType
from typing import Any

from kiboko.core.errors import Place
from kiboko.core.header.addresses import Address, AddressSet, Prefix
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, WITH_PORTS
from kiboko.core.network.model import Filter, PackedListeners, Rule, Topology
from kiboko.core.queries.ends import Ends, Member
from kiboko.core.walk.walk import Walker

_WAYS = ("inbound", "outbound", "rules")
_EVERYTHING = RangeSet.span(0, (1 << 24) - 1)
_PARTS = ("defaults", "networks", "outsides", "gateways", "route_tables", "subnets", "zones", "crossings", "groups",
          "instances")  # fmt: skip


@dataclass(frozen=True, slots=True)
class Touched:
    """What a change can touch. `filters` are those whose rules differ. `carriers` are the names of ends of which one
    must be of a pair: machines, subnets, outsides, and zones as `zone:NAME`; None where packets of anybody may pass
    what carries a filter, on their way through an appliance. `services` are those of the traffic;
    `senders` and `receivers` the addresses that it goes from and to, None for all. `by_sender` and `by_receiver` tell
    as which of the two a carrier can be touched: what is asked inbound alone concerns who is sent to."""

    filters: frozenset[str]
    carriers: frozenset[str] | None
    services: RangeSet
    senders: AddressSet | None
    receivers: AddressSet | None
    by_sender: bool = True
    by_receiver: bool = True

    def chosen(self, members: Iterable[Member], is_sender: bool) -> Iterator[Member]:
        """Those of some members that the traffic may go from, or to."""
        wanted = self.senders if is_sender else self.receivers
        return (each for each in members if wanted is None or each.is_among(wanted))

    def carries(self, ends: Ends, member: Member) -> bool:
        """Whether an end is, or lies in, what carries a changed filter."""
        topology, carriers = ends.topology, self.carriers
        if carriers is None:
            return True
        if member.low is None:
            names = [member.instance, *(each.subnet for each in member.interfaces)]
            zones = [topology.subnets[each.subnet].zone for each in member.interfaces]
        else:
            endpoint = ends.directory.endpoint(member.low)
            names = [member.instance, member.outside, endpoint.subnet.name if endpoint.subnet else None]
            names += [endpoint.interface.instance if endpoint.interface else None]
            zones = [endpoint.zone]
        return any(name in carriers for name in names) or any(f"zone:{zone}" in carriers for zone in zones)


def touched(old: Ends, new: Ends) -> Touched | None:
    """What a change can touch; None where more than rules differs."""
    before, after = old.topology, new.topology
    if not all(is_same(getattr(before, part), getattr(after, part)) for part in _PARTS):
        return None
    if set(before.filters) != set(after.filters):
        return None
    changed = {name for name, each in before.filters.items() if not is_same(each, after.filters[name])}
    if any((before.filters[name].attach_to, before.filters[name].exempt)
           != (after.filters[name].attach_to, after.filters[name].exempt) for name in changed):  # fmt: skip
        return None  # who carries it may be named by others
    carriers: frozenset[str] | None = frozenset(name for ends in (old, new) for name in _carriers(ends, changed))
    if carriers and not carriers.isdisjoint(_on_the_way(after)):
        carriers = None
    rules: list[_ChangedRule] = []
    for name in changed:
        own = changed_rules(before.filters[name], after.filters[name])
        if own is None:
            return Touched(frozenset(changed), carriers, _EVERYTHING, None, None)
        layer = after.filters[name].layer
        rules += [_ChangedRule(ends.walker, rule, way, layer)
                  for ends, some in zip((old, new), own, strict=True) for way, rule in some]  # fmt: skip
    return _of_rules(frozenset(changed), carriers, rules)


def _carriers(ends: Ends, changed: set[str]) -> Iterator[str]:
    topology = ends.topology
    for name in changed:
        yield from (each.instance for each in ends.walker.membership.carriers(name))
    for instance in topology.instances.values():
        if isinstance(instance.host_filter, str) and instance.host_filter in changed:
            yield instance.name
    yield from (each.name for each in topology.subnets.values() if each.filter in changed)
    yield from (each.name for each in topology.outsides.values() if each.filter in changed)
    yield from (f"zone:{each.source}" for each in topology.crossings if each.filter in changed)


def _on_the_way(topology: Topology) -> Iterator[str]:
    """The next hops of routes, with their subnets and zones: packets between other ends pass the gates there."""
    hops = {entry.instance for table in topology.route_tables.values() for entry in table.entries if entry.instance}
    for name in hops:
        yield name
        for interface in topology.instances[name].interfaces:
            yield interface.subnet
            yield f"zone:{topology.subnets[interface.subnet].zone}"


@dataclass(frozen=True, slots=True)
class _ChangedRule:
    """A rule that one version has and the other has not, in which list, of a filter of which layer."""

    walker: Walker
    rule: Rule
    way: str
    layer: str

    def by(self, is_reply: bool) -> tuple[bool, bool]:
        """Whether a carrier is touched by what it sends, and by what is sent to it."""
        if self.way == "rules" and self.layer != "zone":
            return True, True
        asked_at_sender = self.way != "inbound"  # a crossing is told by the zone that it leaves
        return (asked_at_sender, not asked_at_sender) if not is_reply else (not asked_at_sender, asked_at_sender)


Listed = list[tuple[str, Rule]]
"""Rules, each with the list that it is of: inbound, outbound or rules."""


def changed_rules(before: Filter, after: Filter) -> tuple[Listed, Listed] | None:
    """The enabled rules of two versions of a filter that are not of their longest common run, of either; None where
    something else than rules differs, such as what is done where none matches."""
    plain = [dataclasses.replace(each, inbound=None, outbound=None, rules=None) for each in (before, after)]
    if not is_same(*plain):
        return None
    gone: Listed = []
    new: Listed = []
    for way in _WAYS:
        lists: tuple[Sequence[Rule] | None, Sequence[Rule] | None] = getattr(before, way), getattr(after, way)
        if (lists[0] is None) != (lists[1] is None):
            return None  # a direction that is named is filtered
        one, other = ([rule for rule in sorted(each or (), key=lambda rule: rule.order) if rule.enabled]
                      for each in lists)  # fmt: skip
        keys = [[_matched(rule) for rule in each] for each in (one, other)]
        runs = SequenceMatcher(None, keys[0], keys[1], autojunk=False).get_opcodes()
        for kind, low, high, begin, end in runs:
            if kind != "equal":
                gone += [(way, rule) for rule in one[low:high]]
                new += [(way, rule) for rule in other[begin:end]]
    return gone, new


def _matched(rule: Rule) -> tuple[object, ...]:
    """What a rule matches and does, whatever it is called and wherever it stands."""
    return (rule.action, rule.sources, rule.destinations, rule.services, rule.source_ports, rule.stateful)


def _of_rules(filters: frozenset[str], carriers: frozenset[str] | None, rules: Sequence[_ChangedRule]) -> Touched:
    services: list[RangeSet] = []
    senders: list[AddressSet | None] = []
    receivers: list[AddressSet | None] = []
    roles = [False, False]
    for each in rules:
        walker, rule = each.walker, each.rule
        roles = [known or more for known, more in zip(roles, each.by(False), strict=True)]
        near, far = (walker.membership.peer_addresses(peer) for peer in (rule.sources, rule.destinations))
        near, far = (_seen(walker.topology, some) for some in (near, far))
        services.append(_EVERYTHING if rule.services is None else rule.services)
        senders.append(near)
        receivers.append(far)
        back = _answered(walker.topology, rule)
        if back:
            services.append(back)
            senders.append(far)
            receivers.append(near)
            roles = [known or more for known, more in zip(roles, each.by(True), strict=True)]
    if carriers is None:
        roles = [True, True]
    return Touched(filters, carriers, _union(services), _all_of(senders), _all_of(receivers), *roles)


def _seen(topology: Topology, addresses: AddressSet | None) -> AddressSet | None:
    """The addresses that a rule speaks of; None where one of them is shared, so that anybody may stand behind it."""
    shared = [each.address for each in topology.gateways.values() if each.address is not None]
    return None if addresses is None or any(each in addresses for each in shared) else addresses


def _answered(topology: Topology, rule: Rule) -> RangeSet:
    """The services whose replies a rule may match: of those that have ports, where one of a client's is among those of
    the rule."""
    if rule.services is None:
        return _EVERYTHING
    clients = RangeSet.of(pair for ports in _client_ports(topology) for pair in ports)
    found: list[tuple[int, int]] = []
    for protocol in sorted(WITH_PORTS):
        asked = RangeSet.of((protocol << 16 | low, protocol << 16 | high) for low, high in clients)
        if rule.services & asked:
            ports = rule.source_ports if rule.source_ports is not None else RangeSet.span(0, 65535)
            found += [(protocol << 16 | low, protocol << 16 | high) for low, high in ports]
    for protocol in (ICMP, ICMP6):
        whole = RangeSet.span(protocol << 16, protocol << 16 | 0xFFFF)
        if rule.services & whole:
            found += list(whole)
    return RangeSet.of(found)


def _client_ports(topology: Topology) -> Iterator[RangeSet]:
    yield topology.defaults.ephemeral_ports
    own = [each.ephemeral_ports for each in topology.instances.values()]
    own += [each.ephemeral_ports for each in topology.outsides.values()]
    yield from (ports for ports in own if ports is not None)


def _union(sets: Sequence[RangeSet]) -> RangeSet:
    return RangeSet.of(pair for each in sets for pair in each)


def _all_of(sets: Sequence[AddressSet | None]) -> AddressSet | None:
    known = [each for each in sets if each is not None]
    return AddressSet.union(known) if len(known) == len(sets) else None


def is_same(one: object, other: object) -> bool:
    """Whether two values say the same, wherever it is written."""
    return one is other or bare(one) == bare(other)


_PLAIN = frozenset((str, int, bool, float, NoneType, datetime, Address, Prefix, RangeSet, AddressSet))
"""What says nothing of where it is written."""


def bare(value: object) -> object:
    """A value without where it is written: two files that say the same are the same."""
    kind: Any = type(value)
    if kind in _PLAIN:
        return value
    if kind is Place:
        return None
    names = _fields_of(kind)
    if names is not None:
        return kind, tuple([bare(getattr(value, name)) for name in names])
    if isinstance(value, PackedListeners):
        value = value.sockets
    if isinstance(value, Mapping):
        return {key: bare(each) for key, each in value.items()}
    if isinstance(value, Sequence) and not isinstance(value, str | bytes):
        return tuple([bare(each) for each in value])
    return value


@functools.cache
def _fields_of(kind: type[Any]) -> tuple[str, ...] | None:
    """The fields of a dataclass; None for any other."""
    return tuple(field.name for field in dataclasses.fields(kind)) if dataclasses.is_dataclass(kind) else None
