"""Findings on the rules of one filter: those that decide nothing, or not what they say, or too much."""

from __future__ import annotations

import math
import re
from bisect import bisect_left
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date
from functools import cached_property

import numpy as np

from kiboko.core.audit.covering import Boxes, Cover, Sides
from kiboko.core.audit.findings import LOW, Finding, few, found
from kiboko.core.audit.parts import TooManyParts, less
from kiboko.core.errors import Place
from kiboko.core.filters.filters import ReadyRule
from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, TCP, services_texts
from kiboko.core.network.host_rules import OF_IPTABLES, Unclear, Unjudged
from kiboko.core.network.model import ALLOW, Filter, Instance, Rule
from kiboko.core.walk.walk import Walker

_PORTS = RangeSet.span(0, 1 << 16)  # and one that stands for packets without ports
_EVERY = {4: RangeSet.span(0, (1 << 32) - 1), 6: RangeSet.span(0, (1 << 128) - 1)}
_MANY_PORTS = 1000
_DATE = re.compile(r"\buntil\s+(\d{4}-\d{2}-\d{2})\b", re.IGNORECASE)
WAY_NAMES = {"in": "inbound", "out": "outbound", "": "rules"}


def directions(chosen: Filter) -> Iterator[str]:
    """The directions in which a filter has rules: `in`, `out`, or an empty one for rules of none."""
    if chosen.rules is not None:
        yield ""
        return
    for way in ("in", "out"):
        if chosen.direction(way) is not None:
            yield way


@dataclass
class RuleList:
    """The rules of a filter in one direction, in the order in which they decide, as boxes in each address family."""

    walker: Walker
    filter: Filter
    way: str

    @cached_property
    def rules(self) -> tuple[ReadyRule, ...]:
        """The enabled ones."""
        return self.walker.ground.judge.rules(self.filter, self.way or "in") or ()

    @cached_property
    def sides(self) -> dict[int, list[Sides]]:
        """What each of them matches, by address family."""
        return {family: [box_of(rule, family) for rule in self.rules] for family in (4, 6)}

    @cached_property
    def boxes(self) -> dict[int, Boxes]:
        """The same as boxes that are asked about one another."""
        return {family: Boxes(sides) for family, sides in self.sides.items()}

    def name(self, rule: Rule | None) -> str:
        """What a rule is called: `bank-edge/inbound/20`."""
        return f"{self.filter.name}/{WAY_NAMES[self.way]}/{rule.name if rule is not None else 'otherwise'}"

    def others(self, numbers: Sequence[int]) -> tuple[tuple[str, Place], ...]:
        """The names and places of some of the rules."""
        return tuple((self.name(self.rules[each].rule), self.rules[each].rule.place) for each in numbers)

    @cached_property
    def sure(self) -> list[int]:
        """Which of them match whatever they speak of: all but those that hold under a condition only, or match no
        openings (clauses S41, S42)."""
        return [number for number, ready in enumerate(self.rules) if not is_limited(ready.rule)]

    @cached_property
    def lasting(self) -> list[int]:
        """Those, and the ones that match no openings: what covers another one of these."""
        return [number for number, ready in enumerate(self.rules) if not ready.rule.condition]

    def sure_before(self, number: int) -> Sequence[int]:
        """Those that are asked before a rule and match all that it does, as far as they speak of it."""
        found = self.lasting if self.rules[number].rule.established else self.sure
        return range(number) if len(found) == len(self.rules) else found[: bisect_left(found, number)]

    @cached_property
    def by_earlier(self) -> list[Cover | None]:
        """Of each rule what covers it of those that are asked before it; None where they do not."""
        return [self.covered(number, self.sure_before(number)) for number in range(len(self.rules))]

    def covered(self, number: int, among: Sequence[int]) -> Cover | None:
        """What covers a rule in both address families; None where something does not, or the rule matches nothing."""
        among_ = among if isinstance(among, range) else np.array(among, dtype=np.int64)
        by: set[int] = set()
        for boxes in self.boxes.values():
            if boxes.holds_anything(number):
                cover = boxes.covered(number, among_)
                if not cover.is_whole:
                    return None
                by.update(cover.by)
        return Cover(tuple(sorted(by))) if by else None


def is_limited(rule: Rule) -> bool:
    """Whether a rule does not match all that its fields speak of (clauses S41, S42)."""
    return bool(rule.condition) or rule.established


def rule_lists(walker: Walker, chosen: Filter) -> dict[str, RuleList]:
    """The rules of a filter, direction by direction: one value for all that is asked of them, since what is worked out
    of them is remembered there."""
    return {way: RuleList(walker, chosen, way) for way in directions(chosen)}


def box_of(ready: ReadyRule, family: int) -> Sides:
    """What a rule matches in one address family: sources, destinations, services, sender's ports."""
    rule = ready.rule
    other = ICMP6 if family == 4 else ICMP
    every = RangeSet.span(TCP << 16, TCP << 16 | 0xFFFF) if rule.established else RangeSet.span(0, (1 << 24) - 1)
    services = rule.services if rule.services is not None else every
    return (
        _side(ready.sources, family), _side(ready.destinations, family),
        services - RangeSet.span(other << 16, other << 16 | 0xFFFF),
        rule.source_ports if rule.source_ports is not None else _PORTS,
    )  # fmt: skip


def _side(addresses: AddressSet | None, family: int) -> RangeSet:
    return _EVERY[family] if addresses is None else addresses.family(family)


def part_text(sides: Sequence[RangeSet], family: int) -> str:
    """What some sides hold in words: `from 192.0.2.0/24 on tcp/22`; an end that is not named is left out."""
    told = []
    for word, side in zip(("from", "to"), sides[:2], strict=True):
        if side != _EVERY[family]:
            told.append(f"{word} {few((AddressSet(side) if family == 4 else AddressSet(v6=side)).texts())}")
    return " ".join([*told, f"on {few(services_texts(sides[2]))}"])


def of_filter(chosen: Filter, lists: dict[str, RuleList], today: date) -> Iterator[Finding]:
    """Everything that is found on the rules of a filter by themselves."""
    for listed in lists.values():
        yield from _unreachable(listed)
        if chosen.decide == "first":
            yield from _contradicted(listed)
            yield from _redundant(listed)
            yield from _without_order(listed)
        yield from _wide(listed)
    for way, listed in lists.items():
        for rule in chosen.direction(way or "in") or ():
            match = _DATE.search(rule.note)
            if match is not None and rule.enabled and _is_over(match[1], today):
                yield found("expired-note", listed.name(rule), rule.place,
                            f'its note says "{rule.note}", and today is {today.isoformat()}',
                            "take the rule out, or write until when it is wanted")  # fmt: skip


def _is_over(text: str, today: date) -> bool:
    try:
        return date.fromisoformat(text) < today
    except ValueError:
        return False


def _unreachable(listed: RuleList) -> Iterator[Finding]:
    """Rules that earlier ones together cover; of sets in which any rule allows, those that others cover."""
    is_first = listed.filter.decide == "first"
    gone: set[int] = set()
    for number, ready in enumerate(listed.rules):
        sure = listed.lasting if ready.rule.established else listed.sure
        others_ = () if is_first else [n for n in sure if n != number and n not in gone]
        cover = listed.by_earlier[number] if is_first else listed.covered(number, others_)
        if cover is None:
            continue
        gone.add(number)
        others = listed.others(cover.by)
        names = few([name.rpartition("/")[2] for name, _ in others])
        same = all(listed.rules[each].rule.action == ready.rule.action for each in cover.by)
        rules = "rule" if len(others) == 1 else "rules"
        if not is_first:
            yield found("redundant-rule", listed.name(ready.rule), ready.rule.place,
                        f"{rules} {names} of the same filter allow{'s' if len(others) == 1 else ''} all that it does",
                        "take it out", others=others)  # fmt: skip
            continue
        verb = "matches" if len(others) == 1 else "together match"
        effect = "and does the same" if same else f"and {_does(listed, cover.by)} it"
        yield found("unreachable-rule", listed.name(ready.rule), ready.rule.place,
                    f"{rules} {names}, asked before it, {verb} everything that it does, {effect}",
                    "take it out" if same else f"move it in front of {names}, or take it out",
                    others=others, severity=LOW if same else None)  # fmt: skip


def _does(listed: RuleList, numbers: Sequence[int]) -> str:
    actions = list(dict.fromkeys(listed.rules[each].rule.action for each in numbers))
    return " or ".join(f"{action}s" for action in actions)


def _contradicted(listed: RuleList) -> Iterator[Finding]:
    """Rules that stop something, of which an earlier, wider one lets a part pass: wider on one side, narrower on
    another. An exception within what is stopped, and a rule that stops all the rest, are meant so."""
    for number, ready in enumerate(listed.rules):
        if ready.rule.action == ALLOW or is_limited(ready.rule):
            continue
        for family in (4, 6):
            boxes, own = listed.boxes[family], listed.sides[family][number]
            if not all(own) or listed.by_earlier[number] is not None:
                continue
            crossing = [
                each for each in np.flatnonzero(boxes.meeting(number)[:number]).tolist()
                if listed.rules[each].rule.action == ALLOW and not is_limited(listed.rules[each].rule)
                and _crosses(own, listed.sides[family][each])
            ]  # fmt: skip
            passed = {each: part for each in crossing if (part := _passed(listed, own, each, family)) is not None}
            if not passed:
                continue
            wider = list(passed)
            example = part_text(passed[wider[0]], family)
            others = listed.others(wider)
            names = few([name.rpartition("/")[2] for name, _ in others])
            yield found("contradicted-rule", listed.name(ready.rule), ready.rule.place,
                        f"rule {names}, asked before it, lets a part of it pass: {example}",
                        f"move it in front of {names}", others=others)  # fmt: skip
            break


def _passed(listed: RuleList, own: Sides, number: int, family: int) -> Sides | None:
    """A part of a box that an earlier rule lets pass, not one asked before it; None where there is none that is known.
    All that the two share, where no rule before has any of it."""
    sides, boxes = listed.sides[family], listed.boxes[family]
    one, two, three, four = (mine & theirs for mine, theirs in zip(own, sides[number], strict=True))
    shared = one, two, three, four
    before = [sides[each] for each in np.flatnonzero(boxes.meeting(number)[:number]).tolist()]
    try:
        left = less([shared], before)
    except TooManyParts:
        return None
    if not left:
        return None
    one, two, three, four = max(left, key=lambda part: math.prod(side.size for side in part))
    return one, two, three, four


def _crosses(own: Sides, other: Sides) -> bool:
    """Whether another box is wider on a side where one end is named, and narrower on the services."""
    sides = list(zip(own[:2], other[:2], strict=True))
    is_named = any(mine <= theirs and mine != theirs for mine, theirs in sides)
    return is_named and not own[2] <= other[2] and all(mine <= theirs for mine, theirs in sides)


def _redundant(listed: RuleList) -> Iterator[Finding]:
    """Rules without which all that they match would be decided the same by those behind them."""
    otherwise = listed.filter.otherwise
    for number, ready in enumerate(listed.rules):
        rule = ready.rule
        if rule.log or rule.note or listed.by_earlier[number] is not None:
            continue
        met = listed.boxes[4].meeting(number) | listed.boxes[6].meeting(number)
        mine = [each for each in np.flatnonzero(met).tolist() if each > number]
        same = [each for each in mine if _is_same(listed, rule, listed.rules[each].rule)]
        first_other = min({*mine} - {*same}, default=len(listed.rules))
        # A rule that no packet gets to is to be taken out itself: both would be one too many.
        surely = [each for each in same if not is_limited(listed.rules[each].rule)]
        cover = listed.covered(number, [each for each in surely if each < first_other and not listed.by_earlier[each]])
        if cover is not None:
            others = listed.others(cover.by)
            names = few([name.rpartition("/")[2] for name, _ in others])
            yield found("redundant-rule", listed.name(rule), rule.place,
                        f"rule {names}, asked behind it, would decide all that it matches the same way", "take it out",
                        others=others)  # fmt: skip
        elif rule.action == otherwise and len(same) == len(mine) and not _is_catch_all(ready):
            keeps = listed.filter.stateful if rule.stateful is None else rule.stateful
            if keeps == listed.filter.stateful and any(b.holds_anything(number) for b in listed.boxes.values()):
                yield found("redundant-rule", listed.name(rule), rule.place,
                            f"the filter {otherwise}s what no rule matches, and nothing behind it does otherwise",
                            "take it out, or say in a note why it stands there")  # fmt: skip


def _is_same(listed: RuleList, one: Rule, other: Rule) -> bool:
    """Whether two rules do the same with what they match."""
    default = listed.filter.stateful
    keeps = [default if each.stateful is None else each.stateful for each in (one, other)]
    return one.action == other.action and keeps[0] == keeps[1] and not other.log


def _is_catch_all(ready: ReadyRule) -> bool:
    rule = ready.rule
    return ready.sources is None and ready.destinations is None and rule.services is None and rule.source_ports is None


def _without_order(listed: RuleList) -> Iterator[Finding]:
    rules = listed.rules
    if len({ready.rule.action for ready in rules}) < 2:
        return
    for family in (4, 6):
        for number in range(len(rules)):
            met = listed.boxes[family].meeting(number)
            for each in np.flatnonzero(met).tolist():
                if rules[each].rule.action != rules[number].rule.action:
                    return
    yield found("order-matters-not", f"{listed.filter.name}/{WAY_NAMES[listed.way]}", listed.filter.place,
                f"no two of its {len(rules)} rules of opposite actions match the same packet",
                "nothing has to be done; new rules may be put anywhere")  # fmt: skip


def _wide(listed: RuleList) -> Iterator[Finding]:
    """Rules that let anybody in to anything, or to very many ports. Those that replies to a stateless filter's own
    requests come in by have to be so."""
    if listed.way != "in" or listed.filter.layer not in ("subnet", "instance", "host"):
        return
    clients = listed.walker.topology.defaults.ephemeral_ports
    for ready in listed.rules:
        rule = ready.rule
        if rule.action != ALLOW or rule.source_ports is not None or is_limited(rule):
            continue
        if not _is_anybody(ready.sources):
            continue
        if rule.services is None:
            if listed.filter.layer == "subnet" and not listed.filter.stateful and len(listed.rules) == 1:
                continue  # a subnet filter that lets all pass on purpose says so with its only rule
            yield found("wide-rule", listed.name(rule), rule.place, "it lets in anybody to anything",
                        "name the services, or who may come in")  # fmt: skip
            continue
        ports = sum(high - low + 1 for low, high in rule.services)
        replies = RangeSet.of((p << 16 | low, p << 16 | high) for p in (6, 17) for low, high in clients)
        own = rule.services - replies if not listed.filter.stateful else rule.services
        if ports > _MANY_PORTS and sum(high - low + 1 for low, high in own if low >> 16 in (6, 17)) > _MANY_PORTS:
            yield found("wide-rule", listed.name(rule), rule.place,
                        f"it lets in anybody to {ports:,} ports ({rule.service_text})",
                        "name the services that are meant")  # fmt: skip


def _is_anybody(sources: AddressSet | None) -> bool:
    """Whether a rule matches whoever sends, in one address family at least: as 0.0.0.0/0 does."""
    return sources is None or any(sources.is_whole(family) for family in (4, 6))


def of_kernel(instance: Instance) -> Iterator[Finding]:
    """Rules of a kernel's own rule set that cannot be judged."""
    rules = instance.host_filter
    if rules is None or isinstance(rules, str):
        return
    for chain in rules.chains:
        for rule in chain.rules:
            unjudged = next((each for each in rule.statements if isinstance(each, Unjudged | Unclear)), None)
            if unjudged is not None:
                yield found("not-judged", f"{rules.file}/{chain.shown}/{rule.name}", Place(rules.file, 1),
                            f"on {instance.name}: what '{unjudged.text}' matches or does is not known",
                            _as_known(unjudged))  # fmt: skip


def _as_known(unjudged: Unjudged | Unclear) -> str:
    """What has to be done for a rule to be judged."""
    if unjudged.text.endswith(OF_IPTABLES):
        return "list the rules as nftables says them; 'kiboko check' of what it matches prints how"
    if isinstance(unjudged, Unjudged) and unjudged.diverts:
        return "nothing, where it is meant: traffic that it matches is told as not known"
    return "write it by addresses, ports and states, if what it stops has to be known"
