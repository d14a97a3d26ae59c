"""Every filter as a list of boxes, made of what the filter judge itself asks, and what the rules of each list do."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from copy import copy
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.filters.filters import ReadyRule
from kiboko.core.filters.ground import Ground
from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, SCTP, TCP, UDP, WITH_PORTS
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.network.model import ALLOW, DROP, REJECT, Filter, Instance, Rule
from kiboko.core.records.columns import distinct
from kiboko.core.tables.boxes import Box, BoxLists, Packets
from kiboko.core.tables.cuts import kernel_values
from kiboko.core.tables.lines import AddressLine, NumberLine
from kiboko.core.tables.subject import Subject

ABSENT, PASSES, LETS_BACK, DROPS, REJECTS, DOUBTFUL, NOT_KNOWN = range(7)
"""What a gate does with a flow: it is not on its way; lets it pass; lets its reply back by the state that the request
left; stops it in either way; may stop it (S35, S41); or nothing is known of it, which stops nothing (S32)."""

ACTIONS = {ALLOW: PASSES, DROP: DROPS, REJECT: REJECTS}
_CODES = {code: action for action, code in ACTIONS.items()}
NO_LIST, UNFILTERED, UNFILTERED_TRACKED = -1, -2, -3
"""In place of a list: no filter is there; it does not filter this direction, and keeps no state, or does."""
_LONG = 1 << 14
_BELOW = -UNFILTERED_TRACKED
_TCP = RangeSet.span(TCP << 16, TCP << 16 | 0xFFFF)
_PROTOCOLS = {"tcp": TCP, "udp": UDP, "sctp": SCTP}


@dataclass(frozen=True, slots=True)
class Decider:
    """What decided at a gate: a rule of a filter (None: its `otherwise`), one of a kernel's chains, or neither."""

    filter: str | None = None
    rule: str | None = None
    chain: str | None = None
    possible: tuple[str, ...] = ()
    """What it may come to where that is not known: of a kernel's rule set, or a rule with a condition."""
    besides: tuple[str, str] | None = None
    """Of a rule with a condition the filter and rule that decide if no condition holds (clause S41)."""


NOTHING_LISTENS = Decider("", "nothing listens")
BOUND_ELSEWHERE = Decider("", "bound to another address")
"""What decides where a listener refuses."""


class _ListedRule(NamedTuple):
    """A rule in a list, or its `otherwise`: what it does, whether state is kept, what decides by it, its place among
    all rules of its direction, and whether it holds under a condition only."""

    action: int
    keeps: bool
    decider: int
    place: int = 0
    is_conditional: bool = False


_OPEN = _ListedRule(PASSES, False, 0)


class FilterLists:
    """The lists of all filters by direction. They are made when they are first asked for.

    A list has all rules of a direction. Beside one of which some hold under a condition only stand others (clause S41):
    one without these rules, which says what is so if no condition holds, and for each action one with those of them
    that do it, which says whether any such condition comes before that.
    """

    def __init__(
        self,
        ground: Ground,
        addresses: AddressLine,
        services: NumberLine,
        ports: NumberLine,
        subject: Subject,
    ) -> None:
        """Rules that have no say in the `subject` are left out."""
        self._ground, self._subject = ground, subject
        self._addresses, self._services, self._ports = addresses, services, ports
        self._boxes = BoxLists((addresses.size, addresses.size, services.size, ports.size))
        self._by_rule: dict[tuple[int, int], NDArray[np.uint64]] = {}
        self.deciders: list[Decider] = [Decider()]
        self._decider_of: dict[Decider, int] = {Decider(): 0}
        self._list_of: dict[tuple[object, ...], int] = {}
        self._lists_of: dict[str, list[int]] = {}  # all lists by filter, of a changed one those of before as well
        self._kernel_lists: list[int] = []
        self._meaning_of: dict[int, int] = {}
        self._meanings: dict[tuple[object, ...], int] = {}
        # Where each list's rules begin among all, and how many there are; the one behind the last is `otherwise`.
        self._begin: list[int] = []
        self._count: list[int] = []
        self._rules: list[_ListedRule] = []
        self._arrays: tuple[NDArray[Any], ...] = ()
        # Of lists with conditions the one without them, and those with the ones of each action.
        self._plain: dict[int, int] = {}
        self._by_action: dict[int, dict[int, int]] = {}
        # Of lists of which some rules match no openings the one that replies are asked by, with these (clause S42).
        self._for_replies: dict[int, int] = {}

    def __len__(self) -> int:
        return len(self._begin)

    @cached_property
    def _is_said(self) -> bool:
        return any(each.has_conditions for each in self._ground.topology.filters.values())

    @property
    def has_conditions(self) -> bool:
        """Whether any rule holds under a condition only, of a network or one that shares its lists (clause S41)."""
        return self._is_said or bool(self._plain)

    def of_changed(self, ground: Ground, changed: Collection[str]) -> FilterLists:
        """The lists of a network that differs in the rules of some filters alone: with these, they share all others,
        the numbers, and the deciders. Both must be cut where either tells values apart."""
        made = copy(self)
        made._ground = ground
        made._list_of = {key: number for key, number in self._list_of.items() if key[1] not in changed}
        for name in changed:
            for way in ("in", "out"):
                made.list_of(ground.topology.filters[name], way)
        return made

    def decider(self, decider: Decider) -> int:
        """The number of what decides somewhere."""
        if decider not in self._decider_of:
            self._decider_of[decider] = len(self.deciders)
            self.deciders.append(decider)
        return self._decider_of[decider]

    def list_of(self, chosen: Filter, way: str) -> int:
        """The list of a filter's rules of one direction; a number below -1 where it does not filter that direction."""
        key = ("filter", chosen.name, way)
        if key not in self._list_of:
            every = self._ground.judge.rules(chosen, way)
            if every is None:
                self._list_of[key] = UNFILTERED_TRACKED if chosen.stateful else UNFILTERED
            else:
                concerns = self._subject.concerns
                ready = [each for each in every if concerns(chosen.name, each.rule, each.sources, each.destinations)]
                opening = [each for each in ready if not each.rule.established]
                self._list_of[key] = self._add_rules(chosen, opening)
                if len(opening) < len(ready):
                    self._for_replies[self._list_of[key]] = self._add_rules(chosen, ready)
        return self._list_of[key]

    def _add_rules(self, chosen: Filter, ready: list[ReadyRule]) -> int:
        """A list of some rules of a filter, and what stands beside it."""
        boxes = [
            Box(self._addresses.ranges(each.sources), self._addresses.ranges(each.destinations),
                self._services.ranges(_TCP if each.rule.established and each.rule.services is None else
                                      each.rule.services),
                self._ports.ranges(each.rule.source_ports))
            for each in ready
        ]  # fmt: skip
        rules = [self._rule(chosen, each.rule, place) for place, each in enumerate(ready)]
        number = self._add(boxes, rules, self._otherwise(chosen))
        self._lists_of.setdefault(chosen.name, []).append(number)
        if any(rule.is_conditional for rule in rules):
            self._add_beside(number, boxes, rules, self._otherwise(chosen))
        return number

    def for_replies(self, lists: NDArray[np.int64]) -> NDArray[np.int64]:
        """The lists that replies are asked by, in the place of those of requests."""
        if not self._for_replies:
            return lists
        instead = np.arange(len(self._begin) + _BELOW) - _BELOW
        instead[[each + _BELOW for each in self._for_replies]] = list(self._for_replies.values())
        found: NDArray[np.int64] = instead[lists + _BELOW]
        return found

    def _add_beside(self, chosen: int, boxes: list[Box], rules: list[_ListedRule], otherwise: _ListedRule) -> None:
        """The lists that stand beside one with conditions."""
        actions = {rule.action for rule in rules if rule.is_conditional}
        added = {}
        for action in (ABSENT, *sorted(actions)):
            some = [place for place, rule in enumerate(rules) if not rule.is_conditional or rule.action == action]
            added[action] = self._add([boxes[each] for each in some], [rules[each] for each in some], otherwise)
        self._plain[chosen] = added.pop(ABSENT)
        self._by_action[chosen] = added

    def kernel_list(self, instance: Instance) -> int:
        """A list that no gate asks: what the kernel rule set of an instance tells apart, as boxes. Instances with rule
        sets of one meaning have the same list."""
        assert isinstance(instance.host_filter, HostRuleSet)
        key = ("kernel", self.meaning(instance.host_filter))
        if key not in self._list_of:
            boxes = list(self._kernel_boxes(instance))
            self._list_of[key] = self._add(boxes, [_OPEN] * len(boxes), _OPEN)
            self._kernel_lists.append(self._list_of[key])
        return self._list_of[key]

    def meaning(self, rules: HostRuleSet) -> int:
        """A number for a kernel rule set, the same for all that mean the same."""
        if id(rules) not in self._meaning_of:
            number = self._meanings.setdefault(rules.meaning, len(self._meanings))
            self._meaning_of[id(rules)] = number
        return self._meaning_of[id(rules)]

    def _kernel_boxes(self, instance: Instance) -> Iterator[Box]:
        for (family, name), values in kernel_values([instance]):
            if name in ("saddr", "daddr"):
                addresses = self._addresses.ranges(AddressSet(values) if family == "ip" else AddressSet(v6=values))
                yield Box(sources=addresses)
                yield Box(destinations=addresses)
            elif name in ("sport", "dport"):
                yield Box(ports=self._ports.ranges(values))
                for protocol in (_PROTOCOLS[family],) if family in _PROTOCOLS else WITH_PORTS:
                    base = protocol << 16
                    yield Box(services=self._services.ranges(
                        RangeSet.of((base | low, base | high) for low, high in values)))  # fmt: skip
            elif name in ("protocol", "nexthdr", "l4proto"):
                protocols = [(low, min(high, 255)) for low, high in values if low < 256]
                yield Box(services=self._services.ranges(
                    RangeSet.of((low << 16, high << 16 | 0xFFFF) for low, high in protocols)))  # fmt: skip
            elif name in ("type", "code"):
                yield Box(services=self._services.ranges(RangeSet.of(_messages(name, values))))

    def _rule(self, chosen: Filter, rule: Rule, place: int) -> _ListedRule:
        keeps = chosen.stateful if rule.stateful is None else rule.stateful
        decider = self.decider(Decider(chosen.name, rule.name))
        return _ListedRule(ACTIONS[rule.action], keeps, decider, place, bool(rule.condition))

    def _otherwise(self, chosen: Filter) -> _ListedRule:
        decider = self.decider(Decider(chosen.name, "otherwise"))
        return _ListedRule(ACTIONS[chosen.otherwise], chosen.stateful, decider)

    def _add(self, boxes: list[Box], rules: list[_ListedRule], otherwise: _ListedRule) -> int:
        self._begin.append(len(self._rules))
        self._count.append(len(boxes))
        self._rules.extend((*rules, otherwise))
        return self._boxes.add(boxes)

    def _numbers(self) -> tuple[NDArray[Any], ...]:
        """By list where rules begin and how many there are; by rule action, whether state is kept, decider, place, and
        whether it holds under a condition; by list the one without conditions."""
        if not self._arrays or len(self._arrays[0]) != len(self._begin):
            action, keeps, decider, place, conditional = zip(*self._rules) if self._rules else ((),) * 5
            plain = np.arange(len(self._begin))
            plain[list(self._plain)] = list(self._plain.values())
            self._arrays = (np.array(self._begin), np.array(self._count), np.array(action, dtype=np.uint8),
                            np.array(keeps), np.array(decider, dtype=np.int32), np.array(place, dtype=np.int64),
                            np.array(conditional, dtype=np.bool_), plain)  # fmt: skip
        return self._arrays

    def marks(self, dimension: int, atoms: NDArray[np.int64], filters: Collection[str] | None = None) -> list[bytes]:
        """For each atom of a dimension something that is equal for atoms that no rule tells apart: of some filters and
        of kernel rule sets, or of any."""
        if filters is None:
            return self._boxes.marks(dimension, atoms)
        lists = [number for name in sorted(filters) for number in self._lists_of.get(name, ())]
        return self._boxes.marks(dimension, atoms, [*lists, *self._kernel_lists])

    def classes(
        self, dimension: int, lists: NDArray[np.int64], atoms: NDArray[np.int32] | NDArray[np.int64]
    ) -> NDArray[np.uint16]:
        """The classes of some atoms in the lists beside them; both are brought to one shape."""
        return self._boxes.classes(dimension, lists, atoms)

    def matching(self, dimension: int, chosen: int) -> NDArray[np.uint64]:
        """For each class of a list's dimension the rules that match it, one bit each: uint64[classes, words]."""
        return self._boxes.matching(dimension, chosen)

    def matching_by_rule(self, dimension: int, chosen: int) -> NDArray[np.uint64]:
        """The same, laid out so that one word of all classes lies together: quick to read rule by rule. Of long lists
        it is kept, as they are read so again and again."""
        known = self._by_rule.get((dimension, chosen))
        if known is None:
            known = np.asfortranarray(self.matching(dimension, chosen))
            if known.size > _LONG:
                self._by_rule[dimension, chosen] = known
        return known

    def rules_of(self, chosen: int) -> tuple[NDArray[np.uint8], NDArray[np.bool_], NDArray[np.bool_]]:
        """What the rules of a list do, in their order, `otherwise` last: action, whether state is kept, and whether
        they hold under a condition only."""
        begin, count, action, keeps, _, _, conditional, _ = self._numbers()
        rules = slice(int(begin[chosen]), int(begin[chosen] + count[chosen]) + 1)
        return action[rules], keeps[rules], conditional[rules]

    def deciders_of(self, chosen: int) -> NDArray[np.int32]:
        """The deciders of the rules of a list, in their order, `otherwise` last: int32[rules + 1]."""
        begin, count, _, _, decider, *_ = self._numbers()
        found: NDArray[np.int32] = decider[int(begin[chosen]) : int(begin[chosen] + count[chosen]) + 1]
        return found

    def first(self, lists: NDArray[np.int64], packets: Packets) -> NDArray[np.int64]:
        """For each packet the number of the first rule of its list that surely matches, int64[n]; -1 for none."""
        return self._first(self._numbers()[-1][lists] if self._plain else lists, packets)

    def _first(self, lists: NDArray[np.int64], packets: Packets) -> NDArray[np.int64]:
        place = self._boxes.first(lists, packets)
        return np.where(place >= 0, self._numbers()[0][lists] + place, -1)

    def first_on_condition(self, action: int, lists: NDArray[np.int64], packets: Packets) -> NDArray[np.int64]:
        """For each packet the number of the first rule of its list that does something if a condition holds, and that
        no rule which surely matches stands in front of, int64[n]; -1 where there is none."""
        found = np.full(len(lists), -1, dtype=np.int64)
        beside = np.full(len(self._begin), -1, dtype=np.int64)
        for chosen, by_action in self._by_action.items():
            beside[chosen] = by_action.get(action, -1)
        rows = np.flatnonzero(beside[lists] >= 0)
        if len(rows):
            rule = self._first(beside[lists[rows]], packets.taken(rows))
            conditional = self._numbers()[6]
            found[rows] = np.where((rule >= 0) & conditional[rule], rule, -1)
        return found

    def decided(
        self, lists: NDArray[np.int64], packets: Packets
    ) -> tuple[NDArray[np.uint8], NDArray[np.bool_], NDArray[np.int32]]:
        """What lists whose first match decides do with packets: action, whether state is kept, and the decider."""
        begin, count, action, keeps, decider, *_, plain = self._numbers()
        rule = self.first(lists, packets)
        rule = np.where(rule >= 0, rule, (begin + count)[lists])
        does, by = action[rule], decider[rule]
        if self._plain and len(rows := np.flatnonzero(plain[lists] != lists)):
            does[rows], by[rows] = self._on_conditions(lists[rows], packets.taken(rows), does[rows], by[rows])
        return does, keeps[rule], by

    def _on_conditions(
        self, lists: NDArray[np.int64], packets: Packets, does: NDArray[np.uint8], by: NDArray[np.int32]
    ) -> tuple[NDArray[np.uint8], NDArray[np.int32]]:
        """What lists do with packets, and what decides, by what they do if no condition holds (clause S41)."""
        *_, decider, place, _, _ = self._numbers()
        met = {code: self.first_on_condition(code, lists, packets) for code in _CODES}
        kinds = distinct(does, by, *met.values())
        action, deciding = does[kinds.first], by[kinds.first]
        for kind, row in enumerate(kinds.first.tolist()):
            own = int(does[row])
            rules = sorted((int(place[rule[row]]), code) for code, rule in met.items() if rule[row] >= 0)
            turning = [code for _, code in rules if (code == PASSES) != (own == PASSES)]
            possible = tuple(dict.fromkeys((*(_CODES[code] for _, code in rules), _CODES[own])))
            if turning:
                action[kind] = DOUBTFUL
                deciding[kind] = self._possibly(int(decider[met[turning[0]][row]]), possible, int(by[row]))
            elif len(possible) > 1:
                deciding[kind] = self._possibly(int(by[row]), possible)
        return action[kinds.codes], deciding[kinds.codes]

    def perhaps(
        self, rules: NDArray[np.int64], otherwise: NDArray[np.uint8], besides: NDArray[np.int32]
    ) -> NDArray[np.int32]:
        """The deciders of rules, by their numbers, that let packets pass if a condition holds, int32[n]; `otherwise` is
        what becomes of them else, and `besides` decides that."""
        kinds = distinct(rules, otherwise, besides)
        by, action = self._numbers()[4], self._numbers()[2]
        found = [
            self._possibly(int(by[rules[row]]), (_CODES[int(action[rules[row]])], _CODES[int(otherwise[row])]),
                           int(besides[row]))
            for row in kinds.first.tolist()
        ]  # fmt: skip
        told: NDArray[np.int32] = np.array(found, dtype=np.int32)[kinds.codes]
        return told

    def _possibly(self, decider: int, possible: tuple[str, ...], besides: int = 0) -> int:
        """What decides, with what it may come to, and what decides if no condition holds."""
        other = self.deciders[besides]
        named = (other.filter, other.rule) if other.filter is not None and other.rule is not None else None
        return self.decider(replace(self.deciders[decider], possible=possible, besides=named))

    def deciding(self, rules: NDArray[np.int64]) -> NDArray[np.int32]:
        """The deciders of rules by their numbers, int32[n]; that of -1 means nothing."""
        found: NDArray[np.int32] = self._numbers()[4][np.maximum(rules, 0)]
        return found


def _messages(name: str, values: RangeSet) -> Iterator[tuple[int, int]]:
    """The service numbers of ICMP messages of some types, or with some codes."""
    for low, high in values:
        for protocol in (ICMP, ICMP6):
            if name == "type":
                yield protocol << 16 | low << 8, protocol << 16 | high << 8 | 0xFF
            else:
                yield from (
                    (protocol << 16 | kind << 8 | low, protocol << 16 | kind << 8 | high) for kind in range(256)
                )
