"""What rules two versions of a filter differ in, and the traffic that any of these matches.

The first rule that matches decides. Two lists of rules have a longest run of rules in common, in the same order; a
packet that matches none of the others meets the same first rule in both. So only traffic that matches one of the
others, there or on its way back, can come to anything else.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher

from kiboko.core.changes.sameness import is_same
from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, WITH_PORTS
from kiboko.core.network.model import Filter, Rule, Topology
from kiboko.core.walk.walk import Walker

_WAYS = ("inbound", "outbound", "rules")
EVERYTHING = RangeSet.span(0, (1 << 24) - 1)
"""All services."""


@dataclass(frozen=True, slots=True)
class Matched:
    """Traffic that a rule may match: on which services, from and to which addresses, None for all. `by_sender` and
    `by_receiver` tell as which end of it what carries the filter is asked; `is_reply` that its replies are matched."""

    services: RangeSet
    senders: AddressSet | None
    receivers: AddressSet | None
    by_sender: bool
    by_receiver: bool
    is_reply: bool


def matched_by(walker: Walker, rule: Rule, way: str, layer: str) -> Iterator[Matched]:
    """The traffic that a rule of a list, of a filter of a layer, may match: on its way there, and on its way back."""
    near, far = (walker.membership.peer_addresses(peer) for peer in (rule.sources, rule.destinations))
    near, far = (_seen(walker.topology, some) for some in (near, far))
    services = EVERYTHING if rule.services is None else rule.services
    is_asked_of_both = way == "rules" and layer != "zone"
    at_sender = is_asked_of_both or way != "inbound"  # a crossing is told by the zone that it leaves
    at_receiver = is_asked_of_both or way == "inbound"
    yield Matched(services, near, far, at_sender, at_receiver, is_reply=False)
    back = _answered(walker.topology, rule)
    if back:
        yield Matched(back, far, near, at_receiver, at_sender, is_reply=True)


def all_matched() -> Iterator[Matched]:
    """Any traffic, there and back."""
    for is_reply in (False, True):
        yield Matched(EVERYTHING, None, None, True, True, is_reply)


def united(traffic: Iterable[Matched]) -> Iterator[Matched]:
    """The same traffic and some more, as one of that which is matched there, and one of that which is on its way
    back."""
    listed = list(traffic)
    for is_reply in (False, True):
        some = [each for each in listed if each.is_reply == is_reply]
        if some:
            yield Matched(
                RangeSet.of(pair for each in some for pair in each.services),
                all_of([each.senders for each in some]), all_of([each.receivers for each in some]),
                any(each.by_sender for each in some), any(each.by_receiver for each in some), is_reply,
            )  # fmt: skip


def all_of(sets: Sequence[AddressSet | None]) -> AddressSet | None:
    """What is in any of some sets; None, which stands for all, where one of them is."""
    known = [each for each in sets if each is not None]
    return AddressSet.union(known) if len(known) == len(sets) else None


Listed = list[tuple[str, Rule]]
"""Rules, each with the list that it is of: inbound, outbound or rules."""


def changed_rules(before: Filter, after: Filter) -> tuple[Listed, Listed] | None:
    """The enabled rules of two versions of a filter that are not of their longest common run, of either; None where
    something else that decides differs, such as what is done where none matches. What a filter attaches itself to is
    not looked at."""
    plain = [dataclasses.replace(each, inbound=None, outbound=None, rules=None, attach_to=(), exempt=(), note="")
             for each in (before, after)]  # fmt: skip
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
    return (
        rule.action,
        rule.sources,
        rule.destinations,
        rule.services,
        rule.source_ports,
        rule.stateful,
        rule.condition,
        rule.established,
    )


def _seen(topology: Topology, addresses: AddressSet | None) -> AddressSet | None:
    """The addresses that a rule speaks of; None where one of them is shared, so that anybody may stand behind it."""
    shared = [each.address for each in topology.gateways.values() if each.address is not None]
    return None if addresses is None or any(each in addresses for each in shared) else addresses


def _answered(topology: Topology, rule: Rule) -> RangeSet:
    """The services whose replies a rule may match: of those that have ports, where one of a client's is among those of
    the rule."""
    if rule.services is None:
        return EVERYTHING
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
