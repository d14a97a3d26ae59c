"""Why evidence and rules disagree: likely causes of each leak and break, ranked by what the other evidence says.

A cause is held against everything else that was observed: a filter that stops something at a place is attached and
enforced there; a rule that let something through is in force; a service that answered anybody is not down; a sender
whose other traffic arrives is not cut off. What is left standing comes first.
"""

from __future__ import annotations

import functools
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass

from kiboko.core.errors import KibokoError
from kiboko.core.evidence.comparison import BREAK, LEAK
from kiboko.core.evidence.finding_groups import FindingGroup
from kiboko.core.evidence.finding_rows import FindingRows
from kiboko.core.evidence.telling import met_at_the_ends, most_telling
from kiboko.core.evidence.weighed_evidence import (
    WeighedEvidence,
    groups_that_would_turn,
    receiver_of,
    rule_key,
    sender_of,
    stops_of,
)
from kiboko.core.header.services import TCP, Service
from kiboko.core.network.model import REJECT
from kiboko.core.network.peers import Named
from kiboko.core.records.records import DENIED, REFUSED, FlowRecord
from kiboko.core.walk.gates import Row
from kiboko.core.walk.walk import ALLOWED, Walk, Walker

CAUSE_IDS = (
    "not-enforced", "exempt", "not-attached", "older-filter", "membership", "no-address", "service-down", "host-filter",
    "no-way-back", "older-session", "sender-side", "log-before-as-of", "host-unhealthy",
)  # fmt: skip
_ATTACHED = ("instance-in", "instance-out", "subnet-in", "subnet-out", "zone", "outside")
_BEYOND_GATEWAYS = ("outside", "zone", "subnet-in", "instance-in", "host-in")
_LEAST = 0.1
_SYN = 0x02


@dataclass(frozen=True, slots=True)
class Cause:
    """One likely cause: its id of the closed list, how likely beside the others (0 to 1, only for their order), what
    was looked at, and what would confirm it."""

    id: str
    weight: float
    looked_at: str
    to_confirm: str


class Causes:
    """The causes of one summary's groups. `older` walks an older network file of the same network, where one is at
    hand: what agrees with that file and not with today's is most likely a filter that was never brought up to date."""

    def __init__(self, walker: Walker, groups: FindingRows, older: Walker | None = None) -> None:
        self.walker = walker
        self._older = older
        self._evidence = WeighedEvidence()
        self._groups = groups
        self._weighed: set[tuple[int, int]] = set()
        """The groups that were looked at, by where their examples are."""
        self._is_begun = False

    @functools.cached_property
    def _is_needed(self) -> bool:
        """Whether there is anything that has likely causes."""
        return len(self._groups.concluded(lambda each: each.status in (LEAK, BREAK))) > 0

    def weigh(self) -> None:
        """Weigh what tells most of the causes, unless it was done or nothing has any. It is done when it is needed;
        whoever asks in several processes has it done before."""
        if self._is_needed:
            self._begin()

    def _begin(self) -> None:
        if not self._is_begun:
            self._is_begun = True
            self._weigh(most_telling(self._groups))

    @property
    def left_out(self) -> int:
        """How many kinds of traffic were too many to be weighed; 0 where nothing has causes."""
        if not self._is_needed:
            return 0
        self._begin()
        return len(self._groups) - len(self._weighed)

    @property
    def caveat(self) -> str | None:
        """What has to be borne in mind where some were left out."""
        if not self.left_out:
            return None
        return (
            f"likely causes rest on a part of the traffic: {self.left_out:,} kinds of it were not weighed,"
            " but for some at the ends of what is shown in full; 'not seen' means not among the others"
        )

    def _weigh(self, groups: Iterable[FindingGroup]) -> None:
        for group in groups:
            key = id(group.source_of), group.place
            if key in self._weighed:
                continue
            self._weighed.add(key)
            walk = group.finding.walk
            if walk is not None:
                self._evidence.note(self.walker, group, walk)

    def look_around(self, shown: Iterable[FindingGroup]) -> None:
        """Of more kinds of traffic than can be weighed, weigh those that were met at the ends of some that are to be
        shown: it is they that speak for or against a cause."""
        if self.left_out:
            for group in shown:
                self._weigh([group, *met_at_the_ends(self._groups, group)])

    def of(self, group: FindingGroup) -> list[Cause]:
        """The likely causes of a leak or break, the likeliest first, each id once; empty for anything else."""
        concluded = group.concluded
        found: list[Cause] = []
        if concluded.cause is not None:
            found.append(Cause(concluded.cause, 1.0, concluded.why, _TO_CONFIRM[concluded.cause]))
        walk = None
        if concluded.status in (LEAK, BREAK):
            self._begin()
            walk = group.finding.walk
        if walk is not None and concluded.status == LEAK:
            found += self._of_leak(group, walk)
        elif walk is not None:
            found += self._of_break(group, walk)
        best: dict[str, Cause] = {}
        for cause in sorted(found, key=lambda each: -each.weight):
            if cause.weight >= _LEAST:
                best.setdefault(cause.id, cause)
        return list(best.values())

    # Leaks.

    def _of_leak(self, group: FindingGroup, walk: Walk) -> Iterator[Cause]:
        stops, is_known = stops_of(group), not group.concluded.is_shared
        if not is_known:  # its sender's own gates are not known, and those that it shares with all others are
            stops = [row for row in stops if row is group.finding.decider and row.gate in _BEYOND_GATEWAYS]
        for end in (walk.flow.source, self.walker.directory.endpoint(walk.flow.target)):
            if end.network is None and end.outside is None:
                looked = f"{end.address} belongs to no network and no outside that is recorded"
                yield _cause("no-address", 0.9, looked)
        if not stops:
            return
        places = {row.at for row in stops}
        filters = {name for row in stops for name in row.filters}
        gates = {row.gate for row in stops}
        if len(places) == 1:
            yield from self._filter_that_does_nothing(stops, filters)
        if is_known or self._older is None:
            yield from self._older_filter(walk, ALLOWED, filters, places)
        if is_known:
            yield from self._membership(walk)
        if gates <= {"host-in", "host-out"}:
            yield _cause("host-filter", 0.8, f"only the host filter of {_names(places)} stops it")
        if gates == {"outside"}:
            yield _cause("sender-side", 0.75, f"only the edge of {_names(places)} itself stops it")
        example = group.example
        if isinstance(example, FlowRecord) and example.service.protocol == TCP:
            flags = example.tcp_flags
            if flags and not flags & _SYN:
                yield _cause("older-session", 0.7, "the record has no opening packet (SYN): the session is older")

    def _filter_that_does_nothing(self, stops: list[Row], filters: set[str]) -> Iterator[Cause]:
        place = stops[0].at
        enforced = self._evidence.enforced_at.get(place, set())
        # What is asked about is one of them, though it may not have been weighed.
        leaking = max(1, len(self._evidence.leaking_at[place]))
        at_interface = all(row.gate in ("instance-in", "instance-out") for row in stops)
        kinds = "1 kind" if leaking == 1 else f"{leaking} kinds"
        several = f"{kinds} of traffic that only {place} stops {'gets' if leaking == 1 else 'get'} through"
        if at_interface:
            if place in self._evidence.working_at:
                by = f"{_names(enforced)} still {_verb(enforced, 'stop')}" if enforced else "something still stops"
                yield _cause("not-enforced", 0.12, f"{by} other traffic at {place}")
            else:
                looked = f"{several}; nothing was seen to be stopped by the filters there"
                yield _cause("not-enforced", 0.9 if leaking > 1 else 0.65, looked)
        if not filters or not all(row.gate in _ATTACHED for row in stops):
            return
        if enforced & filters:
            both = enforced & filters
            weight, looked = 0.12, f"{_names(both)} still {_verb(both, 'stop')} other traffic at {place}"
        elif enforced:
            seen = f"{_names(filters)} {_verb(filters, 'was', 'were')} not seen to"
            weight, looked = 0.7, f"other filters at {place} stop traffic, {seen}"
        else:
            seen = f"{_names(filters)} {_verb(filters, 'was', 'were')} not seen to stop anything"
            weight, looked = 0.5 if at_interface else 0.6, f"{seen} at {place}"
        # An attachment from the filter's side is undone by an exemption, one that the place names by being left out.
        yield _cause("exempt" if self._from_filters_side(stops[0], filters) else "not-attached", weight, looked)

    def _from_filters_side(self, row: Row, filters: set[str]) -> bool:
        interface = row.step.interface
        return interface is not None and not filters & set(interface.filters)

    # Breaks.

    def _of_break(self, group: FindingGroup, walk: Walk) -> Iterator[Cause]:
        is_known = not group.concluded.is_shared  # else the walk is one of many that it may have taken
        sender = sender_of(walk) if is_known else group.source
        receiver, service = receiver_of(walk), walk.flow.service
        seen = self._evidence
        reply_denied = group.concluded.cause == "no-way-back"
        if reply_denied or (receiver, service) in seen.lost_replies:
            yield _cause("no-way-back", 0.95, f"a reply of {receiver} on {service} was seen to be denied on its way")
        at = group.concluded.at or seen.denied_at.get((sender, receiver, service))
        if not is_known:
            if at is not None and not reply_denied:
                yield from self._of_denied(walk, at)
            elif not reply_denied:
                yield from self._of_receiver(group, sender, receiver, service)
            return
        if reply_denied:  # the request came all the way, and nothing on its way there is to blame
            yield from self._older_filter(walk, "blocked", set(), set())
            here = next((row for row in walk.reply if row.filters and row.at == at), None)
            if here is not None:
                looked = f"its reply was denied at {at}, where {_rule_text(here)} lets it pass today"
                yield _cause("older-filter", 0.6, looked)
            elif at is None:
                yield from self._rule_of_yesterday(walk.reply, service, False)
            yield from self._membership(walk)
            return
        if at is not None:
            yield from self._older_filter(walk, "blocked", set(), set())
            yield from self._of_denied(walk, at)
            yield from self._membership(walk)
            return
        refused = group.concluded.observed == REFUSED
        denied = group.concluded.observed == DENIED
        yield from self._older_filter(walk, "blocked", set(), set())
        yield from self._rule_of_yesterday(walk.forward if denied else walk.rows, service, refused)
        yield from self._of_receiver(group, sender, receiver, service, any(row.action == REJECT for row in walk.rows))
        if any(row.stateful is False and row.filters for row in walk.reply) and not refused and not denied:
            looked = "a stateless filter must let the reply back by a rule of its own"
            yield _cause("no-way-back", 0.3, looked)
        yield from self._membership(walk)

    def _of_receiver(
        self, group: FindingGroup, sender: str, receiver: str, service: Service, rejecting: bool = False
    ) -> Iterator[Cause]:
        """What may be wrong at whom it was sent to, or with the sender as a whole. `rejecting` is whether a gate on the
        way refuses what it stops."""
        seen, observed = self._evidence, group.concluded.observed
        refused, denied = observed == REFUSED, observed == DENIED
        others = {who for who, what in seen.worked_to[receiver] if what == service and who != sender}
        reached = {who for who, what in seen.worked_from[sender] if what == service}
        answered = {who for who, what in seen.answered_by[receiver] if what == service}
        if service.has_ports and not denied:
            if answered:
                yield _cause("service-down", 0.15, f"{service} of {receiver} answered {_names(answered)}")
            elif refused:
                looked = f"{receiver} refused {service}, and was not seen to answer anybody there"
                yield _cause("service-down", 0.7 if rejecting else 0.9, looked)
            else:
                yield _cause("service-down", 0.25, f"{service} of {receiver} was not seen to answer anybody")
        if not refused and not denied:
            yield from self._unwell(sender, receiver)
        yield from self._sender_side(sender, receiver, service, others, reached, 0.5 if refused else 1.0, denied)
        yield from self._host_filter(service, receiver, refused)

    def _of_denied(self, walk: Walk, at: str) -> Iterator[Cause]:
        """A request that was seen to be denied at a place: it has passed every gate in front of that."""
        seen, service = self._evidence, walk.flow.service
        machine = at.partition("/")[0]
        sender, receiver = sender_of(walk), receiver_of(walk)
        here = [row for row in walk.forward if row.filters and (row.at == at or row.at.startswith(f"{machine}/"))]
        waiting = [row for row in here if (row.filter, row.rule, service) not in seen.passed_anywhere]
        nobody = walk.arrival is not None and walk.arrival.subnet is not None and walk.arrival.interface is None
        if machine in self.walker.topology.instances and nobody and machine != sender:
            looked = f"it was denied at {machine}, which may have the address {walk.flow.target} that nobody recorded"
            yield _cause("no-address", 0.9, looked)
        elif machine in self.walker.topology.instances:
            broken = seen.broken_to[machine] | seen.broken_from[machine]
            works = seen.worked_to[machine] | seen.worked_from[machine]
            if not works and len({what for _, what in broken}) > 1 and len({who for who, _ in broken}) > 1:
                looked = (
                    f"{machine} denied whatever was sent to it or from it, on {len({w for _, w in broken})} services"
                )
                yield _cause("host-unhealthy", 0.92, looked)
            elif machine == sender and machine != receiver:
                yield _cause("sender-side", 0.85, f"{machine} itself did not let it out")
            looked = f"it was denied at {machine}, whose filters let it pass by the rules"
            if here and not waiting:
                looked += f"; {_names(name for row in here for name in row.filters)} let it pass elsewhere"
            yield _cause("host-filter", 0.5 if waiting else 0.8, looked)
        if here:
            rule = _rule_text((waiting or here)[0])
            looked = f"it was denied at {at}, where {rule} lets it pass today"
            yield _cause("older-filter", 0.75 if waiting else 0.4, looked)

    def _rule_of_yesterday(self, rows: Sequence[Row], service: Service, refused: bool) -> Iterator[Cause]:
        """A rule on the way, where the proof does not say that it was passed, that nothing was seen to pass: perhaps it
        is not in force yet."""
        if self._older is not None:
            return
        seen = self._evidence
        asked = [row for row in rows if row.filters and not row.tracked]
        waiting = [row for row in asked if rule_key(row, service) not in seen.passed_rules]
        if waiting:
            shared = max(waiting, key=lambda row: seen.breaking_rules[rule_key(row, service)])
            count = max(1, seen.breaking_rules[rule_key(shared, service)])  # this one, where it was not weighed
            needed = f"{count} broken kind{' of traffic needs' if count == 1 else 's of traffic need'}"
            looked = f"no {service} was seen to pass {_rule_text(shared)}, which {needed}"
            weight = (0.75 if count > 1 else 0.6) * (0.6 if refused and shared.action != REJECT else 1.0)
            yield _cause("older-filter", weight, looked)
        elif asked:
            yield _cause("older-filter", 0.2, "every rule on the way was seen to let other traffic pass")

    def _unwell(self, sender: str, receiver: str) -> Iterator[Cause]:
        seen = self._evidence
        broken = {service for _, service in seen.broken_to[receiver]}
        senders = {who for who, _ in seen.broken_to[receiver]}
        if seen.answered_by[receiver]:
            return
        if len(broken) > 1 and len(senders) > 1:
            looked = f"none of {len(broken)} services of {receiver} answered any of {len(senders)} senders"
            yield _cause("host-unhealthy", 0.88, looked)
        else:
            yield _cause("host-unhealthy", 0.35, f"nothing was seen to answer at {receiver}")

    def _sender_side(
        self,
        sender: str,
        receiver: str,
        service: Service,
        others: set[str],
        reached: set[str],
        factor: float,
        denied: bool,
    ) -> Iterator[Cause]:
        lost = {who for who, what in self._evidence.broken_from[sender] if what == service}
        if denied:
            return
        if reached:
            yield _cause("sender-side", 0.12, f"{service} from {sender} reaches {_names(reached)}")
        elif others or len(lost) > 1:
            seen = [f"{service} from {sender} was not seen to arrive anywhere ({len(lost)} tried)"]
            if others:
                seen.append(f"{receiver} answers {_names(others)}")
            yield _cause("sender-side", (0.85 if others else 0.72) * factor, "; ".join(seen))
        else:
            yield _cause("sender-side", 0.4 * factor, f"{service} from {sender} was not seen to arrive anywhere")

    def _host_filter(self, service: Service, receiver: str, refused: bool) -> Iterator[Cause]:
        instance = self.walker.topology.instances.get(receiver)
        if instance is None:
            return
        factor = 0.5 if refused else 1.0
        if any(what == service for _, what in self._evidence.answered_by[receiver]):
            factor *= 0.4  # it answers others on this very service
        answers = {str(what) for _, what in self._evidence.answered_by[receiver]}
        if not instance.has_host_filter and answers:
            looked = f"no host filter of {receiver} is recorded, and it answers {_names(answers)}"
            yield _cause("host-filter", 0.5 * factor, looked)
        elif not instance.has_host_filter:
            yield _cause("host-filter", 0.3 * factor, f"no host filter of {receiver} is recorded")
        else:
            yield _cause(
                "host-filter", 0.35 * factor, f"the host filter of {receiver} is as recorded, not as it may be"
            )

    # Both.

    def _older_filter(self, walk: Walk, wanted: str, filters: set[str], places: set[str]) -> Iterator[Cause]:
        """A filter that stands on the device as it once was."""
        if self._older is not None:
            try:
                before = self._older.walk(
                    self._older.directory.endpoint(walk.flow.source.address),
                    walk.flow.target, walk.flow.service, walk.flow.source_ports,
                )  # fmt: skip
            except KibokoError:
                return
            agrees = (before.verdict == ALLOWED) == (wanted == ALLOWED)
            looked = f"by the older network file it is {before.verdict}"
            yield _cause("older-filter", 0.95 if agrees else 0.05, looked)
        elif filters and len(places) == 1:
            enforced = filters & self._evidence.enforced_at.get(next(iter(places)), set())
            if enforced:
                so = "so it is in force" if len(enforced) == 1 else "so they are in force"
                looked = f"{_names(enforced)} {_verb(enforced, 'stop')} other traffic at {_names(places)}"
                yield _cause("older-filter", 0.8, f"{looked}, {so}, by other rules")
            else:
                looked = f"only {_names(filters)} at {_names(places)} {_verb(filters, 'stop')} it"
                yield _cause("older-filter", 0.55, looked)
        elif filters:
            old = "all of them would have to be old" if len(filters) > 1 else "it would have to be old at each of them"
            looked = f"{_names(filters)} {_verb(filters, 'stop')} it at {_names(places)}; {old}"
            yield _cause("older-filter", 0.3, looked)

    def _membership(self, walk: Walk) -> Iterator[Cause]:
        """A group that holds more, or less, than the network file says."""
        turning = list(groups_that_would_turn(self.walker, walk))
        for end in (walk.flow.source, walk.arrival):
            if end is not None and end.subnet is not None and end.interface is None:
                looked = f"no instance is recorded at {end.address}"
                if turning:
                    looked += f", and it would be right, were it a member of {turning[0][0]}"
                yield _cause("no-address", 0.9 if turning else 0.5, looked)
        for name, end_name in turning[:1]:
            places = self._evidence.misplaced[name, end_name]
            looked = f"a rule would turn it, were {end_name} in group {name}"
            if len(places) > 1:
                looked += f"; the same holds at {len(places)} places"
            yield _cause("membership", 0.85 if len(places) > 1 else 0.45, looked)
            if self.walker.membership.without_address((Named(name),)):
                yield _cause("no-address", 0.3, f"a member of group {name} has no address recorded")


_TO_CONFIRM = {
    "not-enforced": "look on the machine whether its filters are switched on at all",
    "exempt": "look whether the machine is exempt from that filter where it is in force",
    "not-attached": "look whether that filter is attached there where it is in force",
    "older-filter": "compare the rules in force there with the network file, rule by rule",
    "membership": "compare the group's members in force with 'kiboko show GROUP'",
    "no-address": "find out who has that address, and record it",
    "service-down": "look on the machine whether the service listens",
    "host-filter": "look at the machine's own packet filter, and record it as its host_filter",
    "no-way-back": "look at the stateless filters of the way back for the client's ports",
    "older-session": "close the session and watch whether it comes back",
    "sender-side": "send the same from elsewhere, and ask the sender's network what it lets out",
    "log-before-as-of": "hold the record against the network file of its own day",
    "host-unhealthy": "look on the machine itself: load, network, power",
}


def _cause(name: str, weight: float, looked_at: str) -> Cause:
    return Cause(name, weight, looked_at, _TO_CONFIRM[name])


def _rule_text(row: Row) -> str:
    """What lets something pass there, in words; a filter that does not name the direction has no rule for it."""
    rule = {None: "", "otherwise": "the default of "}.get(row.rule, f"rule {row.rule} of ")
    return f"{rule}{row.filter or ', '.join(row.filters)} at {row.at}"


def _verb(names: Collection[str], one: str, several: str | None = None) -> str:
    """A verb of what has some names: with an `s` for a single one, where `several` gives no other form."""
    if several is None:
        one, several = f"{one}s", one
    return one if len(names) == 1 else several


def _names(names: Iterable[str]) -> str:
    chosen = sorted(names)
    return ", ".join(chosen[:3]) + (f" and {len(chosen) - 3} more" if len(chosen) > 3 else "")
