"""What a filter decides: the clauses S11 to S17, S20, S41 and S42.

A filter is asked about all client ports at once and answers with shares: disjoint sets of ports, each with
the rule that decides it. No port is tried singly and none is sampled.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

from kiboko.core.header.addresses import Address, AddressSet
from kiboko.core.header.packet import ACK, RST, Packet
from kiboko.core.header.ranges import EMPTY, RangeSet
from kiboko.core.header.services import details_of
from kiboko.core.network.membership import Membership
from kiboko.core.network.model import ALLOW, DROP, REJECT, Filter, Rule

if TYPE_CHECKING:
    from kiboko.core.filters.long_lists import LongList

_MOST_KEPT = 1 << 16
LONG = 200
"""So many rules are found faster by their bounds than by asking each."""


@dataclass(frozen=True, slots=True)
class ReadyRule:
    """A rule with its peers worked out to addresses. A field that is None matches anything."""

    rule: Rule
    filter: Filter
    sources: AddressSet | None
    destinations: AddressSet | None

    def matching_ports(self, packet: Packet, ports: RangeSet) -> RangeSet:
        """The client ports, out of `ports`, for which this rule matches the packet (clause S17)."""
        # The rules that a packet is held against are those on its service: what they differ in are the ends.
        by_service = self.ports_by_service(packet, ports) if self.matches_addresses(packet) else EMPTY
        if not by_service or not self.matches_flags(packet):
            return EMPTY
        return by_service if self.rule.source_ports is None else by_service & self.ports_by_source_ports(packet, ports)

    def matches_addresses(self, packet: Packet) -> bool:
        """Whether `from` and `to` match."""
        return self.matches_source(packet) and self.matches_destination(packet)

    def matches_source(self, packet: Packet) -> bool:
        """Whether `from` matches."""
        return _within(packet.source, self.sources, packet.family)

    def matches_destination(self, packet: Packet) -> bool:
        """Whether `to` matches."""
        return _within(packet.destination, self.destinations, packet.family)

    def matches_flags(self, packet: Packet) -> bool:
        """Whether it is no opening of TCP, where the rule matches none (clause S42)."""
        return not self.rule.established or bool((packet.tcp_flags or 0) & (ACK | RST))

    def matching_service(self, packet: Packet, ports: RangeSet) -> RangeSet:
        """The client ports for which `service` and `source_ports` match."""
        return self.ports_by_service(packet, ports) & self.ports_by_source_ports(packet, ports)

    def ports_by_service(self, packet: Packet, ports: RangeSet) -> RangeSet:
        """The client ports for which `service` alone matches."""
        services = self.rule.services
        if services is None:
            return ports
        if packet.turned and packet.service.has_ports:
            return ports & details_of(services, packet.service.protocol)
        return ports if packet.service.number in services else EMPTY

    def ports_by_source_ports(self, packet: Packet, ports: RangeSet) -> RangeSet:
        """The client ports for which `source_ports` alone matches."""
        wanted = self.rule.source_ports
        if wanted is None:
            return ports
        if not packet.service.has_ports:
            return EMPTY
        if packet.turned:
            return ports if packet.service.detail in wanted else EMPTY
        return ports & wanted


def _within(address: Address | None, wanted: AddressSet | None, family: int) -> bool:
    """Whether a set holds an address. That of a router, None, is not known: only a set of all addresses surely does."""
    if wanted is None:
        return True
    return wanted.is_whole(family) if address is None else address in wanted


class Share(NamedTuple):
    """The client ports that one rule (None: `otherwise`) of one filter decides, and how.

    Where that hangs on a rule's condition `action` is None, and `rule` the one that it hangs on; `besides` is what
    decides if no condition holds. `possible` are the actions that it may come to, also where the ports are stopped in
    any case and only how hangs on `on` (clause S41).
    """

    ports: RangeSet
    filter: Filter
    rule: Rule | None
    action: str | None
    possible: tuple[str, ...] = ()
    on: Rule | None = None
    besides: tuple[Filter, Rule | None] | None = None


class Ruling(NamedTuple):
    """What one gate's filters say of a packet: its shares, and the ports whose flow it tracks.

    `shares` is None in a direction that is not filtered (clause S13). `perhaps` are ports whose flow it tracks if a
    rule's condition holds, with the rule and its filter (clause S41).
    """

    shares: tuple[Share, ...] | None
    tracked: RangeSet
    perhaps: tuple[RangeSet, Filter, Rule] | None = None


class FilterJudge:
    """Asks filters about packets. Peers are worked out once per filter and direction."""

    def __init__(self, membership: Membership, before: FilterJudge | None = None) -> None:
        """`before` is the judge of the topology that this one was changed from."""
        self._membership = membership
        self._ready: dict[tuple[str, str], tuple[ReadyRule, ...] | None] = {}
        self._every: dict[tuple[str, str], tuple[ReadyRule, ...]] = {}
        self._on_service: dict[tuple[str, str, int], tuple[ReadyRule, ...]] = {}
        self._named: dict[tuple[str, str], dict[str, Rule]] = {}
        # Of long lists, by filter, direction, and whether rules that are not enabled are in it.
        self._long: dict[tuple[str, str, bool], LongList] = {}
        if before is not None and before._membership.shares_peers(membership):
            old, new = before._membership.topology.filters, membership.topology.filters
            self._ready = {key: ready for key, ready in before._ready.items() if new.get(key[0]) is old[key[0]]}

    def rules(self, chosen: Filter, way: str) -> tuple[ReadyRule, ...] | None:
        """The enabled rules of a filter in the order they decide; None where the direction is not filtered."""
        key = (chosen.name, way)
        if key not in self._ready:
            self._ready[key] = self._make_ready(chosen, way)
        return self._ready[key]

    def every_rule(self, chosen: Filter, way: str) -> tuple[ReadyRule, ...]:
        """All rules of a filter in the order of the file, those that are not enabled among them."""
        key = (chosen.name, way)
        if key not in self._every:
            addresses = self._membership.peer_addresses
            self._every[key] = tuple(
                ReadyRule(rule, chosen, addresses(rule.sources), addresses(rule.destinations))
                for rule in chosen.direction(way) or ()
            )
        return self._every[key]

    def rule_of(self, chosen: Filter, way: str, name: str) -> Rule | None:
        """A rule of a filter by its name, the first that has it; None where none has."""
        key = (chosen.name, way)
        if key not in self._named:
            self._named[key] = {rule.name: rule for rule in reversed(chosen.direction(way) or ())}
        return self._named[key].get(name)

    def rules_at(self, chosen: Filter, way: str, packet: Packet) -> Sequence[ReadyRule]:
        """Of all rules of a filter, in the order of the file, at least those that name an end of a packet."""
        every = self.every_rule(chosen, way)
        if len(every) < LONG or packet.source is None or packet.destination is None:
            return every
        places = self._long_list((chosen.name, way, True), every).naming(packet.source, packet.destination)
        return [every[place] for place in places]

    def _long_list(self, key: tuple[str, str, bool], rules: Sequence[ReadyRule]) -> LongList:
        if key not in self._long:
            from kiboko.core.filters.long_lists import LongList  # takes long to load

            columns = ([each.sources for each in rules], [each.destinations for each in rules],
                       [each.rule.services for each in rules])  # fmt: skip
            self._long[key] = LongList(*columns)
        return self._long[key]

    def _make_ready(self, chosen: Filter, way: str) -> tuple[ReadyRule, ...] | None:
        rules = chosen.direction(way)
        if rules is None:
            return None
        enabled: Iterable[Rule] = (rule for rule in rules if rule.enabled)
        if chosen.decide == "first":
            enabled = sorted(enabled, key=lambda rule: rule.order)
        addresses = self._membership.peer_addresses
        return tuple(ReadyRule(r, chosen, addresses(r.sources), addresses(r.destinations)) for r in enabled)

    def _rules_on(self, rules: tuple[ReadyRule, ...], chosen: Filter, way: str, packet: Packet) -> Iterable[ReadyRule]:
        """Those rules of a filter that may match a packet by its service, in their order; of many, those that do so by
        its ends as well."""
        service = packet.service
        by_ports = packet.turned and service.has_ports
        first, last = (service.protocol << 16, (service.protocol + 1 << 16) - 1) if by_ports else (service.number,) * 2
        if len(rules) >= LONG and packet.source is not None and packet.destination is not None:
            places = self._long_list((chosen.name, way, False), rules)
            return [rules[each] for each in places.matching(packet.source, packet.destination, first, last)]
        key = (chosen.name, way, -service.protocol if by_ports else service.number)
        found = self._on_service.get(key)
        if found is None:
            if len(self._on_service) >= _MOST_KEPT:
                self._on_service.clear()
            asked = RangeSet.span(first, last)
            found = self._on_service[key] = tuple(
                each for each in rules if each.rule.services is None or each.rule.services.meets(asked)
            )
        return found

    def first(self, chosen: Filter, way: str, packet: Packet, ports: RangeSet) -> Ruling:
        """`decide: first`: ascending order, the first match decides, else `otherwise` (clause S11)."""
        rules = self.rules(chosen, way)
        if rules is None:
            return Ruling(None, ports if chosen.stateful else EMPTY)
        shares: list[Share] = []
        perhaps: list[tuple[RangeSet, Filter, Rule]] = []
        tracked = EMPTY
        left = ports
        for ready in self._rules_on(rules, chosen, way, packet):
            matched = ready.matching_ports(packet, left)
            if matched and ready.rule.condition:
                perhaps.append((matched, chosen, ready.rule))
            elif matched:
                shares.append(Share(matched, chosen, ready.rule, ready.rule.action))
                if _keeps_state(chosen, ready.rule):
                    tracked |= matched
                left = left - matched
                if not left:
                    break
        if left:
            shares.append(Share(left, chosen, None, chosen.otherwise))
            if chosen.stateful:
                tracked |= left
        return Ruling(_on_conditions(shares, perhaps), tracked)

    def any(self, members: Sequence[Filter], way: str, packet: Packet, ports: RangeSet) -> Ruling:
        """`decide: any`: the union of the rules of all members that name the direction (clauses S12, S20)."""
        naming = [member for member in members if member.direction(way) is not None]
        if not naming:
            return Ruling(None, ports if any(member.stateful for member in members) else EMPTY)
        shares: list[Share] = []
        perhaps: list[tuple[RangeSet, Filter, Rule]] = []
        tracked = EMPTY
        left = ports
        for member in naming:
            for ready in self._rules_on(self.rules(member, way) or (), member, way, packet):
                matched = ready.matching_ports(packet, ports)
                if ready.rule.condition:
                    if matched:
                        perhaps.append((matched, member, ready.rule))
                    continue
                if member.stateful:
                    tracked |= matched
                if matched & left:
                    shares.append(Share(matched & left, member, ready.rule, ALLOW))
                    left = left - matched
        if left:
            rejects = all(member.otherwise == REJECT for member in naming)
            decider = next((m for m in naming if m.otherwise == DROP), naming[0])
            shares.append(Share(left, decider, None, REJECT if rejects else DROP))
            if any(member.stateful for member in naming):
                tracked |= left
        if not perhaps:
            return Ruling(tuple(shares), tracked)
        # Where nothing lets it pass but what may, that alone leaves state: all of it, or some.
        keeping, others = ([each for each in perhaps if each[1].stateful is keeps] for keeps in (True, False))
        surely = tracked - (left & _all_ports(others))
        doubtful = _all_ports(keeping) - surely
        by = next(((doubtful, member, rule) for ports, member, rule in keeping if ports & doubtful), None)
        return Ruling(_on_conditions(shares, perhaps), surely, by)


def _all_ports(matched: Iterable[tuple[RangeSet, Filter, Rule]]) -> RangeSet:
    return RangeSet.of(pair for ports, _, _ in matched for pair in ports)


def _on_conditions(
    shares: Iterable[Share], perhaps: Sequence[tuple[RangeSet, Filter, Rule]]
) -> tuple[Share, ...]:  # fmt: skip
    """What becomes of shares in front of which some rules match if their conditions hold: what all possibilities agree
    on stays decided (clause S41)."""
    if not perhaps:
        return tuple(shares)
    found: dict[tuple[object, ...], Share] = {}
    for share in shares:
        parts: list[tuple[RangeSet, tuple[tuple[Filter, Rule], ...]]] = [(share.ports, ())]
        for ports, chosen, rule in perhaps:
            parts = [
                part for cell, before in parts
                for part in ((cell & ports, _with_first(before, chosen, rule)), (cell - ports, before)) if part[0]
            ]  # fmt: skip
        for cell, before in parts:
            judged = _judged_on(share, before)
            key = id(judged.rule), judged.action, judged.possible, share.filter.name, id(share.rule)
            known = found[key].ports if key in found else EMPTY
            found[key] = judged._replace(ports=known | cell)
    return tuple(found.values())


def _with_first(
    before: tuple[tuple[Filter, Rule], ...], chosen: Filter, rule: Rule
) -> tuple[tuple[Filter, Rule], ...]:  # fmt: skip
    """Rules in front of something with one more behind them, if none of them does the same: the first of each action
    tells what it may come to."""
    return before if any(rule.action == each.action for _, each in before) else (*before, (chosen, rule))


def _judged_on(share: Share, before: Sequence[tuple[Filter, Rule]]) -> Share:
    """One share of which all ports are matched by the same rules in front, if their conditions hold."""
    assert share.action is not None
    possible = tuple(dict.fromkeys((*(rule.action for _, rule in before), share.action)))
    if len(possible) == 1:
        return share
    turning = ((chosen, rule) for chosen, rule in before if (rule.action == ALLOW) != (share.action == ALLOW))
    chosen, turned = next(turning, (share.filter, None))
    if turned is None:
        return share._replace(possible=possible, on=next(rule for _, rule in before if rule.action != share.action))
    return Share(share.ports, chosen, turned, None, possible, None, (share.filter, share.rule))


def _keeps_state(chosen: Filter, rule: Rule) -> bool:
    return chosen.stateful if rule.stateful is None else rule.stateful
