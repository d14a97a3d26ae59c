"""What the evidence as a whole says of gates, machines and groups: what likely causes are held against."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field

from kiboko.core.evidence.comparison import AGREE, BREAK, LEAK, OF_ENDS
from kiboko.core.evidence.finding_groups import FindingGroup
from kiboko.core.header.services import Service
from kiboko.core.network.peers import Named
from kiboko.core.queries.near_misses import near_misses
from kiboko.core.records.records import ANSWERED, ARRIVED, DENIED, PASSED, SILENT
from kiboko.core.walk.gates import FORWARD, Row
from kiboko.core.walk.walk import ALLOWED, ONE_WAY, Walk, Walker

_MOST_LOOKED_UP = 60

RuleKey = tuple[str, str, str | None, str | None, Service]
"""A rule at a gate as one service meets it: gate, place, filter, rule, service."""


@dataclass(slots=True)
class WeighedEvidence:
    """What the evidence as a whole says, by who and where."""

    enforced_at: dict[str, set[str]] = field(default_factory=lambda: defaultdict(set))
    """For each place of a gate, the filters seen to stop something there that no other would have stopped."""
    working_at: set[str] = field(default_factory=set)
    """Places of gates where something was seen to be stopped, by whatever filter."""
    misplaced: dict[tuple[str, str], set[str]] = field(default_factory=lambda: defaultdict(set))
    """For each group and each end outside of it that it would turn things for, the places where it did."""
    passed_rules: set[RuleKey] = field(default_factory=set)
    answered_by: dict[str, set[tuple[str, Service]]] = field(default_factory=lambda: defaultdict(set))
    """For each receiver who was answered, on what; `worked_*` also hold what was only seen to arrive."""
    worked_to: dict[str, set[tuple[str, Service]]] = field(default_factory=lambda: defaultdict(set))
    worked_from: dict[str, set[tuple[str, Service]]] = field(default_factory=lambda: defaultdict(set))
    broken_to: dict[str, set[tuple[str, Service]]] = field(default_factory=lambda: defaultdict(set))
    broken_from: dict[str, set[tuple[str, Service]]] = field(default_factory=lambda: defaultdict(set))
    leaking_at: dict[str, set[tuple[str, Service]]] = field(default_factory=lambda: defaultdict(set))
    breaking_rules: dict[RuleKey, int] = field(default_factory=lambda: defaultdict(int))
    denied_at: dict[tuple[str, str, Service], str] = field(default_factory=dict)
    """For each sender, receiver and service of a break, the place where it was seen to be denied."""
    lost_replies: set[tuple[str, Service]] = field(default_factory=set)
    """Of which receivers and services replies were seen to be denied, though the rules let them back."""
    passed_anywhere: set[tuple[str | None, str | None, Service]] = field(default_factory=set)
    """The rules that let a service pass at any place: filter, rule, service."""
    looked_up: int = 0
    """How many leaks were looked at for groups that would turn them."""

    def note(self, walker: Walker, group: FindingGroup, walk: Walk) -> None:
        """Take in one kind of traffic: what was seen of it, and what that says of the gates on its way."""
        if group.concluded.is_shared:
            self._note_shared(group, walk)
            return
        status = group.concluded.status
        sender, receiver = sender_of(walk), receiver_of(walk)
        service = walk.flow.service
        observed = group.concluded.observed
        if status == AGREE and walk.verdict == ALLOWED and observed in (ANSWERED, ARRIVED, PASSED):
            if observed in (ANSWERED, ARRIVED):
                self.answered_by[receiver].add((sender, service))
                self.worked_to[receiver].add((sender, service))
                self.worked_from[sender].add((receiver, service))
            asked = walk.rows if observed == ANSWERED else group.finding.asked or walk.rows
            for row in asked:
                if row.filters and not row.tracked:
                    self.passed_rules.add(rule_key(row, service))
                    self.passed_anywhere.add((row.filter, row.rule, service))
        elif group.concluded.is_proved_stop:
            # Silence tells of a filter only where nothing else would have kept silent too.
            stops = walk.stops() if observed in (DENIED, SILENT) else []
            if observed == DENIED and group.finding.decider is not None:
                stops = [row for row in stops if row.at == group.finding.decider.at]
            if len({row.at for row in stops}) == 1:
                self.working_at.add(stops[0].at)
                stopping = {name for row in stops for name in row.filters}
                if len({row.filters for row in stops}) == 1:
                    self.enforced_at[stops[0].at].update(stopping)
        elif status == BREAK:
            self.broken_to[receiver].add((sender, service))
            self.broken_from[sender].add((receiver, service))
            if group.concluded.cause == "no-way-back":
                self.lost_replies.add((receiver, service))
            elif group.concluded.at is not None:
                self.denied_at[sender, receiver, service] = group.concluded.at
            for row in walk.rows:
                if row.filters and not row.tracked:
                    self.breaking_rules[rule_key(row, service)] += 1
        elif status == LEAK:
            places = {row.at for row in stops_of(group)}
            for place in places:
                self.leaking_at[place].add((sender, service))
            if self.looked_up < _MOST_LOOKED_UP:
                self.looked_up += 1
                for name, end in groups_that_would_turn(walker, walk):
                    self.misplaced[name, end].update(places)

    def _note_shared(self, group: FindingGroup, walk: Walk) -> None:
        """Take in what somebody behind a shared address sent: what it says of whom it was sent to. The walk is one of
        many that it may have taken, and its gates are not."""
        told = group.concluded
        sender, receiver, service = group.source, receiver_of(walk), walk.flow.service
        if told.status == AGREE and told.observed == ANSWERED:
            self.answered_by[receiver].add((sender, service))
            self.worked_to[receiver].add((sender, service))
            self.worked_from[sender].add((receiver, service))
        elif told.status == BREAK:
            self.broken_to[receiver].add((sender, service))
            self.broken_from[sender].add((receiver, service))
            if told.cause == "no-way-back":
                self.lost_replies.add((receiver, service))
            elif told.at is not None:
                self.denied_at[sender, receiver, service] = told.at


def stops_of(group: FindingGroup) -> list[Row]:
    """What the rules say stops a flow on the way that the evidence speaks of, less listeners and stopped ends; of a
    one-way flow, the gates of the reply."""
    walk = group.finding.walk
    if walk is None:
        return []
    rows = group.finding.asked or (walk.reply if walk.verdict == ONE_WAY else walk.forward)
    return [row for row in rows if row.stops and row.gate not in OF_ENDS]


def rule_key(row: Row, service: Service) -> RuleKey:
    """What a rule is known by where one service meets it."""
    return row.gate, row.at, row.filter, row.rule, service


def groups_that_would_turn(walker: Walker, walk: Walk) -> Iterator[tuple[str, str]]:
    """Each group, with the end of a flow outside of it (or in it, for a rule that stops), of which the verdict
    would be another were it a member."""
    for miss in near_misses(walker, walk):
        is_senders = (miss.field == "from") == (miss.direction == FORWARD)
        for item in miss.peer or ():
            if isinstance(item, Named) and item.name in walker.topology.groups:
                yield item.name, sender_of(walk) if is_senders else receiver_of(walk)


def sender_of(walk: Walk) -> str:
    """Who sends: the instance, the outside, or the bare address."""
    source = walk.flow.source
    if source.interface is not None:
        return source.interface.instance
    return source.outside.name if source.outside is not None else str(source.address)


def receiver_of(walk: Walk) -> str:
    """Who is sent to: the instance, the outside, or the bare address."""
    arrival = walk.arrival
    if arrival is not None and arrival.interface is not None:
        return arrival.interface.instance
    return arrival.outside.name if arrival is not None and arrival.outside is not None else str(walk.flow.target)
