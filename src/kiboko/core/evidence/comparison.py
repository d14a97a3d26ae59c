"""What evidence comes to, and single probes held against what the walk says. Flow records are judged by
`kiboko.core.evidence.evaluator`."""

from __future__ import annotations

from dataclasses import dataclass, replace

from kiboko.core.evidence.known_ports import served
from kiboko.core.evidence.probed import REDIRECTED, ProbeAsked, Probed, ProbeEnds
from kiboko.core.header.addresses import Address
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import TCP, UDP, Service, union_services
from kiboko.core.network.directory import Endpoint
from kiboko.core.network.model import ALLOW, Gateway
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.members import seen_from_outside
from kiboko.core.records.records import (
    ANSWERED,
    ARRIVED,
    PASSED,
    REFUSED,
    SILENT,
    UNREACHABLE,
    ProbeRecord,
)
from kiboko.core.routing.steps import NOT_KNOWN
from kiboko.core.walk.gates import FORWARD, Row
from kiboko.core.walk.walk import ALLOWED, PARTLY, UNKNOWN, Walk, Walker

_MOST_LOOKED_AT = 1000
OF_ENDS = ("source", "destination", "listener")
"""Gates of an end itself: what stops there is no filter, and no route."""
NOT_DELIVERED = "no router delivers to one of its ends (multicast, broadcast, link-local and the like)"
BOTH_OUTSIDE = "both ends are outside: no gate lies between them"
OF_ONE_MACHINE = "both ends are of one machine, or of addresses that nothing tells apart: no gate lies between them"
IN_DOUBT = "answered, through a gate that is not known: the rules do not say whether it may"
OUT_OF_DATE = "the filters let it pass, as the rules say; the inventory is out of date"
AGREE, LEAK, BREAK, UNSURE = "agree", "leak", "break", "unsure"
Decided = tuple[str, str | None, str | None]
"""The gate, the filter and the rule that stop something; without a filter the gate alone."""


@dataclass(frozen=True, slots=True)
class FlowAsked:
    """What a conversation asked: from which address to which, on which service, from which client port (None where
    there is none), and how many steps of the request's way it passed for sure."""

    source: Address
    target: Address
    service: Service
    port: int | None
    passed: int = 0


@dataclass(frozen=True, slots=True)
class Conclusion:
    """What a finding comes to, without the walk that it rests on: equal for conversations alike.

    `status` is agree, leak, break or unsure; `observed` what the evidence says, in one word. `as_far_as_seen` marks
    agreement whose proof ends before the gate that decides, or passes one that is not known; `different_signal`
    tells that both sides say it fails, but by another signal; `is_elsewhere` that it is stopped at another place;
    `is_inventory` that the filters agree, and what the network file says of a machine does not; `is_first_alone`
    that by the rules the first packet and its answer get through, and what follows does not; `before_as_of` that it is
    older than the network file, `is_undated` that it may be, since no time of it is recorded. `decider` is the gate,
    the filter and the rule that stop the flow by the rules, None where they allow it. `at` is the observation point
    at which it was seen to be denied. `is_shared` tells that its sender is behind a shared address: it holds for
    whoever that may be, and has a `decider` where all of them have the same.
    """

    status: str
    observed: str
    why: str
    as_far_as_seen: bool = False
    different_signal: bool = False
    is_elsewhere: bool = False
    is_inventory: bool = False
    before_as_of: bool = False
    cause: str | None = None
    decider: Decided | None = None
    at: str | None = None

    @property
    def is_proved_stop(self) -> bool:
        """Whether it was stopped where the rules stop it, and seen to be."""
        is_another = self.different_signal or self.is_elsewhere or self.is_inventory or self.as_far_as_seen
        return self.status == AGREE and self.decider is not None and not is_another

    @property
    def is_seen_to_work(self) -> bool:
        """Whether what the rules allow was seen to get through."""
        seen = (ANSWERED,) if self.is_shared else (ANSWERED, ARRIVED, PASSED)
        return self.status == AGREE and self.decider is None and self.observed in seen

    is_first_alone: bool = False
    is_undated: bool = False
    is_shared: bool = False


@dataclass(frozen=True, slots=True)
class Finding:
    """What a probe or a conversation comes to, with the walk of what was asked. `decider` is the row that stops it by
    the rules, None where they allow it; `asked` the gates that the evidence speaks of; `is_reply` marks the part of a
    conversation that came from whoever was sent to."""

    concluded: Conclusion
    walk: Walk | None
    decider: Row | None = None
    asked: tuple[Row, ...] = ()
    is_reply: bool = False
    named: tuple[str, str] | None = None
    """Of a probe the sender and the receiver as a question names them."""

    @property
    def status(self) -> str:
        """Agree, leak, break or unsure."""
        return self.concluded.status

    @property
    def observed(self) -> str:
        """What the evidence says."""
        return self.concluded.observed

    @property
    def why(self) -> str:
        """Why the status is what it is."""
        return self.concluded.why


class Comparison:
    """Holds evidence against one topology."""

    def __init__(self, walker: Walker) -> None:
        self.walker = walker
        self.ends = Ends(walker)
        self.probes = ProbeEnds(self.ends)
        self.served = union_services(served(walker.topology))
        """Every service that somebody listens to or that has a name."""
        self._behind_gateway: dict[tuple[str, int], list[Endpoint]] = {}

    # Probes.

    def probe(self, record: ProbeRecord, asked: ProbeAsked | None = None) -> Finding:
        """A probe held against the rules; `asked` is what it asked, where that is known already. Raises UsageError
        where its ends are not known to the network."""
        found, as_of = self._probe(record, asked), self.walker.topology.as_of
        if found.status in (LEAK, BREAK) and as_of is not None and record.time < as_of:
            why = "probed before the time that the network file tells of"
            cause = "log-before-as-of"
            older = replace(found.concluded, status=UNSURE, why=why, before_as_of=True, cause=cause)
            return replace(found, concluded=older)
        return found

    def _probe(self, record: ProbeRecord, asked: ProbeAsked | None) -> Finding:
        if record.redirected:
            return _finding(UNSURE, record.outcome, REDIRECTED)
        asked = asked or self.probes.of(record)
        return replace(self._probed(record, self.probes.walked(asked)), named=asked.named)

    def _probed(self, record: ProbeRecord, asked: Probed) -> Finding:
        walk = asked.walk
        doubt = asked.doubt or self.without_rules(walk.flow.source, walk.flow.target)
        if doubt is not None:
            return _finding(UNSURE, record.outcome, doubt)
        if walk.verdict == PARTLY and record.source_port is None:
            why = f"the rules allow only client ports {walk.answered}, and the probe's port is not known"
            return _finding(UNSURE, record.outcome, why, walk, walk.decided_by)
        if walk.verdict in (ALLOWED, UNKNOWN) and (walk.answered or walk.doubtful):
            return self._probe_of_allowed(record, walk)
        if record.outcome == ANSWERED:
            stops = walk.stops()
            decider = walk.decided_by if walk.verdict != UNKNOWN else stops[0]
            if all(row.gate in OF_ENDS for row in stops):
                found = _finding(AGREE, record.outcome, OUT_OF_DATE, walk, decider)
                return replace(found, concluded=replace(found.concluded, is_inventory=True))
            return _finding(LEAK, record.outcome, "answered, though the rules stop it", walk, decider)
        same = walk.signal == NOT_KNOWN or _as_failure(record.outcome) == _as_failure(walk.signal)
        why = "both fail" if same else f"both fail, but the rules say {walk.signal}: it dies at another place"
        return _finding(AGREE, record.outcome, why, walk, walk.decided_by, different_signal=not same)

    def _probe_of_allowed(self, record: ProbeRecord, walk: Walk) -> Finding:
        outcome = record.outcome
        if walk.later is not None:
            told = f"the rules let through the first packet and its answer, and stop what follows at {walk.later.gate}"
            if outcome == ANSWERED:
                found = _finding(AGREE, outcome, f"answered, as the rules say; {told} of {walk.later.at}", walk)
                return replace(found, concluded=replace(found.concluded, is_first_alone=True))
            return _finding(
                UNSURE, outcome, f"{told} of {walk.later.at}: whether a probe sees the answer is open", walk
            )
        if outcome == ANSWERED and walk.doubtful:
            found = _finding(AGREE, outcome, IN_DOUBT, walk)
            return replace(found, concluded=replace(found.concluded, as_far_as_seen=True))
        if outcome == ANSWERED:
            return _finding(AGREE, outcome, "answered, as the rules say", walk)
        unknown = [row for row in walk.rows if row.action is None]
        listens = any(row.gate == "listener" and row.action == ALLOW for row in walk.rows)
        if outcome == REFUSED and not listens:  # nor is it known of anybody outside
            return _finding(UNSURE, outcome, "refused: is anything listening?", walk)
        if walk.flow.service.protocol == TCP and walk.arrival is not None and walk.arrival.interface is not None:
            # A machine that runs answers or refuses TCP, whatever listens: silence does not rest on the listener.
            unknown = [row for row in unknown if row.gate != "listener"]
        if unknown:
            gate = unknown[0]
            return _finding(UNSURE, outcome, f"it rests on {gate.gate} at {gate.at}, which is not known", walk)
        if outcome == SILENT and walk.flow.service.protocol == UDP:
            return _finding(UNSURE, outcome, "many UDP services answer only what they understand", walk)
        return _finding(BREAK, outcome, f"{outcome}, though the rules allow it", walk)

    # Conversations.

    def finding(self, concluded: Conclusion, flow: FlowAsked, is_reply: bool = False) -> Finding:
        """What a conversation comes to, with the walk of what it asked."""
        behind = self._behind(flow)
        source = behind or self.walker.directory.endpoint(flow.source)
        if self.without_rules(source, flow.target) is not None:
            return Finding(concluded, None, is_reply=is_reply)
        # Which port a sender behind a shared address used is not recorded.
        port = RangeSet.one(flow.port) if flow.port is not None and behind is None else None
        walk = self.walker.walk(source, flow.target, flow.service, port)
        steps = [id(step) for step in walk.request_path.steps][: flow.passed]
        asked = tuple(row for row in walk.forward if id(row.step) in steps)
        decider = next((row for row in walk.stops() if _decides(row, concluded.decider)), None)
        if decider is not None and decider.direction != FORWARD:
            asked = walk.reply
        elif decider is not None and decider not in asked:
            asked = (*asked, decider)
        return Finding(concluded, walk, decider, asked or walk.forward, is_reply)

    def without_rules(self, source: Endpoint, target: Address) -> str | None:
        """Why the rules say nothing of traffic from an end to an address, None where they do."""
        directory = self.walker.directory
        if directory.why_undeliverable(source.address) or directory.why_undeliverable(target):
            return NOT_DELIVERED
        if source.network is None and self.ends.is_foreign(target):
            return BOTH_OUTSIDE
        receiver = directory.endpoint(target).interface
        is_of_one = receiver is not None and source.interface is not None and (
            receiver.instance == source.interface.instance
        )  # fmt: skip
        return OF_ONE_MACHINE if is_of_one else None  # a machine's packets to itself pass no gate

    def _behind(self, flow: FlowAsked) -> Endpoint | None:
        """Of a flow from a shared address the first end that may stand behind it (clause E11), of those whose packets
        leave by that gateway if there are such: what all of them come to is shown by one."""
        gateway = self.walker.directory.shared_owner(flow.source)
        if gateway is None:
            return None
        others = [each for each in self._some_behind(gateway, flow.target.family)
                  if self.without_rules(each, flow.target) is None]  # fmt: skip
        for end in others:
            steps = self.walker.paths.forward(end, flow.target).steps
            if any(step.gate == "translate" and step.at == gateway.name for step in steps):
                return end
        return others[0] if others else None

    def _some_behind(self, gateway: Gateway, family: int) -> list[Endpoint]:
        """Ends of the networks of a gateway that have an address of a family: of each subnet the first with a public
        address, and the first without one. All others of it are routed as these are."""
        key = gateway.name, family
        if key not in self._behind_gateway:
            first: dict[tuple[str, bool], Endpoint] = {}
            for interface in self.walker.directory.interfaces():
                address = interface.address(family)
                if address is not None and self.walker.topology.subnets[interface.subnet].network in gateway.networks:
                    kind = interface.subnet, seen_from_outside(self.walker.directory, interface, address) is not None
                    if kind not in first and len(first) < _MOST_LOOKED_AT:
                        first[kind] = self.walker.directory.endpoint(address)
            self._behind_gateway[key] = list(first.values())
        return self._behind_gateway[key]


def _finding(
    status: str, observed: str, why: str, walk: Walk | None = None, decider: Row | None = None,
    different_signal: bool = False,
) -> Finding:  # fmt: skip
    told = (decider.gate, decider.filter, decider.rule) if decider is not None else None
    return Finding(Conclusion(status, observed, why, different_signal=different_signal, decider=told), walk, decider)


def _decides(row: Row, decider: Decided | None) -> bool:
    """Whether a row is the one that a conclusion names."""
    return (
        decider is not None
        and row.gate == decider[0]
        and (row.filter or None) == decider[1]
        and (decider[1] is None or row.rule == decider[2])
    )


def _as_failure(outcome: str) -> str:
    """`silent` and `unreachable` count as the same failure."""
    return SILENT if outcome == UNREACHABLE else outcome
