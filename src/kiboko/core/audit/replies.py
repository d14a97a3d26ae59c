"""Findings on replies: what a stateless filter lets pass one way, and its replies not back the other, or in part."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from kiboko.core.audit.covering import Boxes, Sides
from kiboko.core.audit.findings import Finding, few, found
from kiboko.core.audit.parts import Part, TooManyParts, few_enough, less, meeting
from kiboko.core.audit.rules import WAY_NAMES, RuleList
from kiboko.core.header.addresses import SPECIAL_PURPOSE, AddressSet
from kiboko.core.header.nesting import Nesting
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import TCP, UDP
from kiboko.core.network.model import ALLOW, Filter, Rule
from kiboko.core.walk.walk import Walker

_FEW_CLIENT_PORTS = 1000
"""What names more of the clients' own ports lets replies pass, and asks for none."""
_BACK = {"in": "out", "out": "in"}
_EVERY_PORT = RangeSet.span(0, 0xFFFF)


@dataclass(frozen=True, slots=True)
class _Edge:
    """Where a filter is attached: those behind it, those in front, and the blocks of which none is passed within."""

    behind: AddressSet
    in_front: AddressSet
    apart: tuple[AddressSet, ...] = ()


class Replies:
    """Looks for stateless subnet filters that let requests pass one way, and their replies not back the other, or only
    to some client ports (S21). Each rule is held against those of the other direction exactly: for everybody whom it
    alone lets pass, at the subnets and outsides that carry the filter, by every sender's own client ports (S23)."""

    def __init__(self, walker: Walker) -> None:
        self._walker, self._topology = walker, walker.topology

    def of_filter(self, chosen: Filter, lists: dict[str, RuleList]) -> Iterator[Finding]:
        """Those of one filter."""
        if chosen.stateful or chosen.layer != "subnet" or not {"in", "out"} <= set(lists):
            return
        if chosen.has_conditions:
            return  # what they do to replies hangs on the conditions
        places = self._places(chosen.name)
        for way in lists if places else ():
            yield from _OfWay(lists[way], lists[_BACK[way]], places, self._clients).findings()

    def _places(self, name: str) -> list[_Edge]:
        """Where a filter is attached: at some subnets, at some outsides."""
        blocks = [AddressSet.of_prefixes(each.blocks) for each in self._topology.subnets.values()
                  if each.filter == name]  # fmt: skip
        outsides = [each.name for each in self._topology.outsides.values() if each.filter == name]
        edges = [_Edge(AddressSet.union(blocks), self._everybody, tuple(blocks))] if blocks else []
        return [*edges, *(_Edge(self._outside(each), self._seen_from(each)) for each in outsides)]

    def _seen_from(self, outside: str) -> AddressSet:
        """Which addresses of ours the edge of an outside sees: public ones, by a tunnel those of its network (S10)."""
        directory = self._walker.directory
        subnets = [each for each in self._topology.subnets.values() if directory.tunnel(each.network, outside)]
        behind = AddressSet.of_prefixes(block for each in subnets for block in each.blocks)
        public = AddressSet.of_addresses(directory.public_addresses())
        return AddressSet.union([behind, public, AddressSet(v6=self._ours.v6)])

    @cached_property
    def _clients(self) -> list[tuple[RangeSet, AddressSet]]:
        """Ephemeral ports, each with all who use them."""
        own: dict[RangeSet, list[AddressSet]] = {}
        for machine in self._topology.instances.values():
            if machine.ephemeral_ports:
                addresses = [address for each in machine.interfaces for address in (*each.addresses, each.public)
                             if address is not None]  # fmt: skip
                own.setdefault(machine.ephemeral_ports, []).append(AddressSet.of_addresses(addresses))
        for outside in self._topology.outsides.values():
            if outside.ephemeral_ports:
                own.setdefault(outside.ephemeral_ports, []).append(self._outside(outside.name))
        by_ports = {ports: AddressSet.union(sets) for ports, sets in own.items()}
        others = self._everybody - AddressSet.union(by_ports.values())
        usual = self._topology.defaults.ephemeral_ports
        by_ports[usual] = by_ports.get(usual, AddressSet()) | others
        return list(by_ports.items())

    @cached_property
    def _nesting(self) -> Nesting:
        outsides = self._topology.outsides.values()
        return Nesting({each.name: AddressSet.of_prefixes(each.prefixes) for each in outsides})

    @cached_property
    def _nobody(self) -> AddressSet:
        """What belongs to no outside: our networks, private addresses of nobody, and what no router delivers to one
        machine."""
        directory = self._walker.directory
        return AddressSet.union([directory.network_blocks, directory.unrouted, *SPECIAL_PURPOSE.values()])

    def _outside(self, name: str) -> AddressSet:
        """The addresses that belong to an outside (S2)."""
        return self._nesting.own(name) - self._nobody

    @cached_property
    def _ours(self) -> AddressSet:
        """Every address of a subnet, and every public one of ours."""
        subnets = self._topology.subnets.values()
        blocks = (AddressSet.of_prefixes(each.blocks) for each in subnets)
        return AddressSet.union([*blocks, AddressSet.of_addresses(self._walker.directory.public_addresses())])

    @cached_property
    def _everybody(self) -> AddressSet:
        return AddressSet.union([self._ours, *map(self._outside, self._topology.outsides)])


@dataclass(frozen=True, slots=True)
class _Lost:
    """Requests to whose replies the same happens: none of them pass, or some.

    `whole` are the sources and the destinations of all requests that the same rule lets pass. `stopped` and `passed`
    are client ports, `by` the rules that stop replies to the former, None for what decides where no rule does. `is_all`
    where there is no other loss of this kind, `is_of_one` where the other address family is none the worse.
    """

    sources: AddressSet
    destinations: AddressSet
    ports: RangeSet
    whole: tuple[AddressSet, AddressSet]
    stopped: RangeSet
    passed: RangeSet
    by: tuple[Rule | None, ...]
    is_all: bool
    is_of_one: bool = False


class _OfWay:
    """The rules of one direction of a filter, held against those of the other."""

    def __init__(
        self, asked: RuleList, back: RuleList, places: Sequence[_Edge], clients: Sequence[tuple[RangeSet, AddressSet]]
    ) -> None:
        self.asked, self.back, self.places, self.clients = asked, back, places, clients
        self.usual = asked.walker.topology.defaults.ephemeral_ports
        self._replies: dict[tuple[int, int], Boxes] = {}

    def findings(self) -> Iterator[Finding]:
        """One finding at most for each rule and protocol: of those who get no reply, else of those who get some."""
        for number, ready in enumerate(self.asked.rules):
            if ready.rule.action != ALLOW or ready.rule.established or self.asked.by_earlier[number] is not None:
                continue
            for protocol, word in ((TCP, "tcp"), (UDP, "udp")):
                ports = self._served(ready.rule, protocol)
                if ports:
                    try:
                        lost = self._worst(number, protocol, ports)
                    except TooManyParts:
                        continue
                    if lost is not None:
                        yield self._finding(ready.rule, word, ports, lost)

    def _served(self, rule: Rule, protocol: int) -> RangeSet:
        """The ports of a protocol that a rule lets requests to; none where it is one that lets replies pass."""
        if rule.services is None:  # who lets all pass means TCP first, and would be told of it twice
            return RangeSet.span(1, 1023) if protocol == TCP else RangeSet()
        named = _ports_of(rule.services, protocol)
        return RangeSet() if (named & self.usual).size > _FEW_CLIENT_PORTS else named - self.usual

    def _worst(self, number: int, protocol: int, ports: RangeSet) -> _Lost | None:
        """What is lost of the replies to what one rule lets pass. Raises TooManyParts."""
        of_family = [_OfRule(self, number, family, protocol, ports) for family in (4, 6)]
        is_of_both = all(each.requests for each in of_family)
        for is_whole in (True, False):
            lost = [each for replies in of_family if (each := replies.lost(is_whole=is_whole)) is not None]
            if len(lost) == 2 and _alike(*lost):
                return _both(*lost)
            if lost:
                return replace(lost[0], is_all=lost[0].is_all and len(lost) == 1, is_of_one=is_of_both)
        return None

    def met_by_replies(self, number: int, family: int, protocol: int) -> list[int]:
        """The rules of the other direction that replies to what one rule matches may meet at all, in their order."""
        if not self.back.rules:
            return []
        if (family, protocol) not in self._replies:
            replies = [_reply(sides, protocol) for sides in self.asked.sides[family]]
            self._replies[family, protocol] = Boxes([*self.back.sides[family], *replies])
        count = len(self.back.rules)
        return np.flatnonzero(self._replies[family, protocol].meeting(count + number)[:count]).tolist()

    def _finding(self, rule: Rule, word: str, ports: RangeSet, lost: _Lost) -> Finding:
        where = f"{self.back.filter.name}/{WAY_NAMES[self.back.way]}"
        told = rule.service_text if rule.services is not None else word
        is_in = self.asked.way == "in"
        # What was asked answers: where requests come in, to those in front; where they leave, to those behind.
        rules = self.back.rules
        who = (_who(lost.destinations, lost.whole[1], (each.sources for each in rules)),
               _who(lost.sources, lost.whole[0], (each.destinations for each in rules)))  # fmt: skip
        port = f"port{'s' if lost.ports.size > 1 else ''} {lost.ports}" if lost.ports != ports else ""
        from_ = " of ".join(each for each in (port, who[0]) if each)
        narrow = f"{f' from {from_}' if from_ else ''}{f' to {who[1]}' if who[1] else ''}"
        if not any(who) and lost.is_of_one:
            narrow += f" by IPv{4 if lost.sources.v4 else 6}"
        before = [each.name for each in lost.by if each is not None]
        stopping = [f"rule {name}" for name in before]
        if None in lost.by:
            stopping.append(f"the default {self.back.filter.otherwise}")
        tail = f"; stopped by {few(stopping)}{'' if lost.is_all else ', and so are others'}"
        fix = f"allow {word}/{lost.stopped} in {where}" + (f", in front of {few(before)}" if before else "")
        if narrow and not lost.passed:
            fix += f", or do not let their requests {'in' if is_in else 'out'}"
        others = tuple((self.back.name(each), each.place) for each in lost.by if each is not None)
        passed, every = lost.passed, lost.passed | lost.stopped
        what = (f"{word} replies back{narrow} to client ports {passed} only, of {every}" if passed else
                f"no {word} reply back{narrow} to client ports {every}")  # fmt: skip
        return found("partial-way-back" if passed else "no-way-back", self.asked.name(rule), rule.place,
                     f"it lets {told} pass, and {where} lets {what}{tail}", fix, others=others)  # fmt: skip


class _OfRule:
    """What becomes of the replies to what one rule lets pass, in one address family."""

    def __init__(self, way: _OfWay, number: int, family: int, protocol: int, ports: RangeSet) -> None:
        self.way, self.number, self.family, self.protocol = way, number, family, protocol
        self.is_to_anybody = way.asked.way == "out" and way.asked.rules[number].rule.destinations is None
        """Whether requests go out to whom no rule names: with whom one talks, the other direction's rules say."""
        self.requests = less(list(self._let_pass(number, ports)), self._decided_before(number))
        self.passed: list[Part] = []
        self.stopped: list[tuple[Part, Rule | None]] = []
        self._judge()

    def _let_pass(self, number: int, ports: RangeSet) -> Iterator[Part]:
        """All that a rule matches, by who uses which client ports."""
        is_in = self.way.asked.way == "in"
        sources, destinations, _, clients = self.way.asked.sides[self.family][number]
        for edge in self.way.places:
            behind, in_front = edge.behind.family(self.family), edge.in_front.family(self.family)
            near, far = (in_front, behind) if is_in else (behind, in_front)
            for own, who in self.way.clients:
                part = near & sources & who.family(self.family), far & destinations, ports, own & clients
                if all(part):
                    yield part

    def _decided_before(self, number: int) -> Iterator[Part]:
        """What the rules before one decide, and what never meets the filter: traffic within one subnet (S8)."""
        boxes = self.way.asked.boxes[self.family]
        rules = self.way.asked.rules
        met = boxes.meeting(number)[:number].nonzero()[0].tolist()
        for each in (each for each in met if not rules[each].rule.established):
            yield self._part(self.way.asked.sides[self.family][each])
        for edge in self.way.places:
            for block in edge.apart:
                own = block.family(self.family)
                yield own, own, _EVERY_PORT, _EVERY_PORT

    def _part(self, box: Sides) -> Part:
        """What a rule matches of one protocol."""
        return box[0], box[1], _ports_of(box[2], self.protocol), box[3] & _EVERY_PORT

    def _judge(self) -> None:
        """All replies, by the rules of the other direction."""
        left, boxes = self.requests, self.way.back.sides[self.family]
        for number in self.way.met_by_replies(self.number, self.family, self.protocol) if left else ():
            if not left:
                break
            # A reply has the ends and the ports of its request the other way round.
            sources, destinations, clients, ports = self._part(boxes[number])
            part = destinations, sources, ports, clients
            rule = self.way.back.rules[number].rule
            self._note([both for each in left if all(both := meeting(each, part))], rule, rule.action)
            left = less(left, [part])
        self._note(left, None, self.way.back.filter.otherwise)
        if self.is_to_anybody:
            everybody = self._side(1)
            self.passed = [(sources, everybody, *more) for sources, _, *more in self.passed]
            self.stopped = [(left, rule) for part, rule in self.stopped for left in less([part], self.passed)]

    def _note(self, parts: Iterable[Part], rule: Rule | None, action: str) -> None:
        if action == ALLOW:
            self.passed.extend(parts)
        else:
            self.stopped.extend((part, rule) for part in parts)
        few_enough(len(self.passed) + len(self.stopped))

    def lost(self, *, is_whole: bool) -> _Lost | None:
        """The largest part of which all replies are lost, or of which some are; None where there is no such part."""
        passed = [part[:3] for part in self.passed]
        if is_whole:
            regions = [left for part in self.requests for left in less([part[:3]], passed)]
        else:
            regions = [part[:3] for part, _ in self.stopped]
        if not regions:
            return None
        region = max(regions, key=lambda part: math.prod(side.size for side in part))
        region, back = _narrowed(region, [(part[:3], part[3]) for part in self.passed])
        region, away = _narrowed(region, [(part[:3], part[3]) for part, _ in self.stopped])
        by = dict.fromkeys(rule for part, rule in self.stopped if all(meeting(part[:3], region)))
        sources, destinations = self._addresses(region[0]), self._addresses(region[1])
        return _Lost(sources, destinations, region[2], self.ends, away, back, tuple(by), len(regions) == 1)

    @property
    def ends(self) -> tuple[AddressSet, AddressSet]:
        """Every source and every destination of the requests."""
        sources, destinations = (self._addresses(self._side(side)) for side in (0, 1))
        return sources, destinations

    def _side(self, side: int) -> RangeSet:
        return RangeSet.of(pair for part in self.requests for pair in part[side])

    def _addresses(self, ranges: RangeSet) -> AddressSet:
        return AddressSet(ranges) if self.family == 4 else AddressSet(v6=ranges)


def _narrowed(region: Part, of_ports: Iterable[tuple[Part, RangeSet]]) -> tuple[Part, RangeSet]:
    """A part of a region that each of some others holds whole or does not meet, and the client ports of those that
    hold it: those that it can do without are left out."""
    ports = RangeSet()
    for other, clients in of_ports:
        without = less([region], [other])
        if without:
            region = max(without, key=lambda part: math.prod(side.size for side in part))
        else:
            ports = ports | clients
    return region, ports


def _ports_of(services: RangeSet, protocol: int) -> RangeSet:
    """The ports of one protocol among some services."""
    whole = RangeSet.span(protocol << 16, protocol << 16 | 0xFFFF)
    return RangeSet.of((low & 0xFFFF, high & 0xFFFF) for low, high in services & whole)


def _reply(request: Sides, protocol: int) -> Sides:
    """The replies to what a rule matches of one protocol: ends and ports the other way round."""
    sources, destinations, services, clients = request
    ports = _ports_of(services, protocol)
    back = RangeSet.of((protocol << 16 | low, protocol << 16 | high) for low, high in clients & _EVERY_PORT)
    return destinations, sources, back, ports


def _alike(one: _Lost, other: _Lost) -> bool:
    """Whether the same is lost in both address families."""
    return (one.ports, one.stopped, one.passed, one.by) == (other.ports, other.stopped, other.passed, other.by)


def _both(one: _Lost, other: _Lost) -> _Lost:
    """The same loss in both address families."""
    whole = one.whole[0] | other.whole[0], one.whole[1] | other.whole[1]
    return replace(one, sources=one.sources | other.sources, destinations=one.destinations | other.destinations,
                   whole=whole, is_all=one.is_all and other.is_all)  # fmt: skip


def _who(some: AddressSet, whole: AddressSet, named: Iterable[AddressSet | None]) -> str:
    """Some of the ends that a rule is about: by what is among them, or by what is not where that is shorter, and in the
    words of a rule where one names just these; nothing where it is all of them."""
    left = whole - some
    if not left:
        return ""
    words = [each for each in named if each is not None]
    texts, others = (next((each for each in words if each & whole == part), part).texts() for part in (some, left))
    return few(texts) if len(texts) <= len(others) else f"all but {few(others)}"
