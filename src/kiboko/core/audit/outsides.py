"""Findings on rules that name an outside which holds addresses of our own: in a rule it stands for these as well."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

import numpy as np

from kiboko.core.audit.findings import MEDIUM, NOTE, Finding, few, found
from kiboko.core.audit.parts import Part, TooManyParts, less, meeting
from kiboko.core.audit.rules import RuleList, is_limited, part_text
from kiboko.core.header.addresses import AddressSet
from kiboko.core.network.model import ALLOW, Filter, Rule
from kiboko.core.network.peers import Named, Peer
from kiboko.core.walk.walk import Walker


class OutsidesInRules:
    """Looks for rules that stop our own machines, or let them pass, only since an outside that they name holds them too
    (S2): where the other rules would decide the same, nothing is said."""

    def __init__(self, walker: Walker) -> None:
        self._walker, self._topology = walker, walker.topology

    def of_filter(self, chosen: Filter, lists: dict[str, RuleList]) -> Iterator[Finding]:
        """Those of one filter."""
        for way, listed in lists.items():
            for number, ready in enumerate(listed.rules):
                for side, peer in enumerate((ready.rule.sources, ready.rule.destinations)):
                    names, own = self._own(peer)
                    if own and not is_limited(ready.rule) and side in self._sides(chosen, way):
                        part = _turned(listed, number, side, own - self._never_met(chosen))
                        if part is not None:
                            yield _finding(listed, ready.rule, names, *part)

    def _own(self, peer: Peer | None) -> tuple[list[str], AddressSet]:
        """The outsides that a rule names which hold addresses of ours, and those that nothing else it names holds."""
        outsides = [
            each.name for each in peer or () if isinstance(each, Named) and each.name in self._topology.outsides
        ]
        if not outsides:
            return [], AddressSet()
        membership = self._walker.membership
        held = {name: own for name in outsides if (own := membership.name_addresses(name) & self._blocks)}
        others = tuple(each for each in peer or () if not isinstance(each, Named) or each.name not in outsides)
        return list(held), AddressSet.union(held.values()) - (membership.peer_addresses(others) or AddressSet())

    @cached_property
    def _blocks(self) -> AddressSet:
        """Every address of a subnet."""
        return AddressSet.of_prefixes(block for each in self._topology.subnets.values() for block in each.blocks)

    def _sides(self, chosen: Filter, way: str) -> set[int]:
        """On which sides a filter meets addresses of ours from afar: 0 for sources, 1 for destinations."""
        if chosen.layer == "zone":
            ours = {each.zone for each in self._topology.subnets.values()}
            crossings = [each for each in self._topology.crossings if each.filter == chosen.name]
            return {side for each in crossings for side, zone in enumerate((each.source, each.destination))
                    if zone in ours}  # fmt: skip
        if chosen.layer == "subnet" and all(each.filter != chosen.name for each in self._topology.subnets.values()):
            return set()  # at the edge of a site nobody sees our own addresses
        return {"in": {0}, "out": {1}, "": {0, 1}}[way]

    def _never_met(self, chosen: Filter) -> AddressSet:
        """The block of the only subnet that carries a filter: what is sent within it does not meet the filter (S8)."""
        carriers = [each for each in self._topology.subnets.values() if each.filter == chosen.name]
        is_one = chosen.layer == "subnet" and len(carriers) == 1
        return AddressSet.of_prefixes(carriers[0].blocks) if is_one else AddressSet()


def _finding(listed: RuleList, rule: Rule, names: list[str], part: Part, family: int) -> Finding:
    sources, destinations, services, clients = part
    does = "lets pass" if rule.action == ALLOW else f"{rule.action}s"
    what = part_text((sources, destinations, services, clients), family)
    return found("outside-holds-own", listed.name(rule), rule.place,
                 f"it names {few(names)}, whose addresses hold our own too: it {does} {what}, as no other rule would",
                 "name whom it is meant for, or put a rule on our own networks in front of it",
                 severity=NOTE if rule.action == ALLOW else MEDIUM)  # fmt: skip


def _turned(listed: RuleList, number: int, side: int, own: AddressSet) -> tuple[Part, int] | None:
    """What a rule alone decides for some ends as none of the others would, and its address family."""
    for family in (4, 6):
        sides = listed.sides[family]
        part: Part = tuple(each & own.family(family) if place == side else each
                           for place, each in enumerate(sides[number]))  # fmt: skip
        met = np.flatnonzero(listed.boxes[family].meeting(number)).tolist()
        others = [each for each in met if each != number]
        try:
            turned = _of_any(listed, part, others, family) if listed.filter.decide == "any" else (
                _of_first(listed, number, part, others, family))  # fmt: skip
        except TooManyParts:
            continue
        if turned is not None:
            return turned, family
    return None


def _of_any(listed: RuleList, part: Part, others: list[int], family: int) -> Part | None:
    left = less([part] if all(part) else [], (listed.sides[family][each] for each in others))
    return left[0] if left else None


def _of_first(listed: RuleList, number: int, part: Part, others: list[int], family: int) -> Part | None:
    sides, action = listed.sides[family], listed.rules[number].rule.action
    left = less([part] if all(part) else [], (sides[each] for each in others if each < number))
    for each in (each for each in others if each > number):
        here = [both for some in left if all(both := meeting(some, sides[each]))]
        other = listed.rules[each].rule
        if here and not is_limited(other) and _differs(action, other.action):
            return here[0]
        left = less(left, [sides[each]])
    return left[0] if left and _differs(action, listed.filter.otherwise) else None


def _differs(action: str, other: str) -> bool:
    """Whether one lets pass what the other stops."""
    return (action == ALLOW) != (other == ALLOW)
