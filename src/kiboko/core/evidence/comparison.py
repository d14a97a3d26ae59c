"""Rules against evidence: does what probes and flow records saw agree with what the walk says? (S37 to S40)"""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass

from kiboko.core.errors import UsageError
from kiboko.core.header.addresses import Address
from kiboko.core.header.ranges import ALL_PORTS, RangeSet
from kiboko.core.header.services import ICMP, ICMP6, TCP, UDP, WELL_KNOWN, Service, parse_services, union_services
from kiboko.core.network.directory import Endpoint
from kiboko.core.network.model import ObservationPoint
from kiboko.core.queries.ends import Ends, resolve_service, services_for, single_service
from kiboko.core.records.records import (
    ANSWERED,
    DENIED,
    PASSED,
    REFUSED,
    SEEN,
    SILENT,
    UNREACHABLE,
    FlowRecord,
    ProbeRecord,
)
from kiboko.core.records.signs import (
    is_bare_opening,
    is_bare_reset,
    is_echo_reply,
    is_icmp_error,
    is_opening,
)
from kiboko.core.walk.gates import FORWARD, Row
from kiboko.core.walk.walk import ALLOWED, PARTLY, Walk, Walker

AGREE, LEAK, BREAK, UNSURE = "agree", "leak", "break", "unsure"
_MOST_WALKS = 10_000


@dataclass(frozen=True, slots=True)
class Conclusion:
    """What a finding comes to, without the walk that it rests on: equal for records alike. `decider` is the gate, the
    filter and the rule that stop the flow by the rules."""

    status: str
    observed: str
    why: str
    is_reply: bool
    different_signal: bool
    before_as_of: bool
    is_from_service: bool
    decider: tuple[str, str | None, str | None] | None


@dataclass(frozen=True, slots=True)
class Finding:
    """One record held against the rules.

    `status` is agree, leak, break or unsure; `decider` the row that stops the flow by the rules, None where they
    allow it; `different_signal` tells that both sides say it fails, but by another signal. `is_reply` marks a
    record that is the reply of an allowed flow. `asked` are the gates of the request that a flow record speaks of:
    those up to its observation point. `is_undecided` marks a request that the rules stop and of which the record does
    not say whether it passed; `is_bare_opening` a TCP connection that never came about.
    """

    status: str
    observed: str
    why: str
    walk: Walk | None
    decider: Row | None = None
    different_signal: bool = False
    is_reply: bool = False
    before_as_of: bool = False
    cause: str | None = None
    asked: tuple[Row, ...] = ()
    is_undecided: bool = False
    is_bare_opening: bool = False


class Comparison:
    """Holds records against one topology, each by itself; what several of them tell together is found by
    `kiboko.core.evidence.compiled`. Remembers walks, within a fixed bound."""

    def __init__(self, walker: Walker) -> None:
        self.walker = walker
        self.ends = Ends(walker)
        self._walks: dict[tuple[Address, Address, Service, RangeSet | None], Walk] = {}
        self._cells: dict[tuple[Address, Address, Service], tuple[RangeSet, ...]] = {}
        self._first: dict[tuple[Address, Address, Service], tuple[int, Walk]] = {}
        self.served = self._served_services()

    def _served_services(self) -> RangeSet:
        """Every service that somebody listens to or that has a name: a reply comes from one of these (S39)."""
        topology = self.walker.topology
        listened = [
            listener.services for instance in topology.instances.values() for listener in instance.listens or ()
        ]
        named = [parse_services(text) for texts in WELL_KNOWN.values() for text in texts]
        return union_services([*listened, *topology.services.values(), *named])

    # Probes.

    def probe(self, record: ProbeRecord) -> Finding:
        """A probe held against the rules. Raises UsageError where its ends are not known to the network."""
        if record.redirected:
            return Finding(UNSURE, record.outcome, "the packets went to another address than the name's own", None)
        walk = self._walk_of_probe(record)
        if walk.verdict == PARTLY and record.source_port is None:
            why = f"the rules allow only client ports {walk.answered}, and the probe's port is not known"
            return Finding(UNSURE, record.outcome, why, walk, walk.decided_by)
        if walk.verdict == ALLOWED:
            return self._probe_of_allowed(record, walk)
        if record.outcome == ANSWERED:
            return Finding(LEAK, record.outcome, "answered, though the rules stop it", walk, walk.decided_by)
        same = _as_failure(record.outcome) == _as_failure(walk.signal)
        why = "both fail" if same else f"both fail, but the rules say {walk.signal}: it dies at another place"
        return Finding(AGREE, record.outcome, why, walk, walk.decided_by, different_signal=not same)

    def _walk_of_probe(self, record: ProbeRecord) -> Walk:
        sender, receiver = self.ends.resolve(record.source), self.ends.resolve(record.destination)
        if len(receiver.members) != 1 or receiver.members[0].count != 1:
            raise UsageError(f"'{record.destination}' stands for more than one end; a probe goes to one")
        services = resolve_service(record.service, self.walker.topology.services)
        family = 6 if ":" in record.address else 4
        pairs = self.ends.pairs(sender.members[0], receiver.members[0], family)
        service = single_service(services_for(services, family))
        if not pairs or service is None:
            raise UsageError(
                f"a probe of {record.destination} {record.service} from {record.source} means nothing here"
            )
        port = RangeSet.one(record.source_port) if record.source_port is not None else None
        return self.ends.walk_pair(pairs[0], service, port)

    def _probe_of_allowed(self, record: ProbeRecord, walk: Walk) -> Finding:
        outcome = record.outcome
        if outcome == ANSWERED:
            return Finding(AGREE, outcome, "answered, as the rules say", walk)
        unknown = [row for row in walk.rows if row.action is None]
        if outcome == REFUSED and any(row.gate == "listener" for row in unknown):
            return Finding(UNSURE, outcome, "refused: is anything listening?", walk)
        if walk.flow.service.protocol == TCP and walk.arrival is not None and walk.arrival.interface is not None:
            # A machine that runs answers or refuses TCP, whatever listens: silence does not rest on the listener.
            unknown = [row for row in unknown if row.gate != "listener"]
        if unknown:
            gate = unknown[0]
            return Finding(UNSURE, outcome, f"it rests on {gate.gate} at {gate.at}, which is not known", walk)
        if outcome == SILENT and walk.flow.service.protocol == UDP:
            return Finding(UNSURE, outcome, "many UDP services answer only what they understand", walk)
        return Finding(BREAK, outcome, f"{outcome}, though the rules allow it", walk)

    # Flow records.

    def judge(self, record: FlowRecord) -> Finding:
        """A flow record held against the rules by itself. Records alike in everything that a rule or the network tells
        apart get findings alike, which is what `kiboko.core.evidence.compiled` rests on."""
        return self._aged(record, self._judge_flow(record))

    def is_reply_by_ports(self, record: FlowRecord) -> bool | None:
        """Whether the ports alone tell a reply from a request, by which is a service's; None if they do not."""
        protocol = record.service.protocol << 16
        to_service = record.service.number in self.served
        from_service = protocol | (record.source_port or 0) in self.served
        return None if to_service == from_service else from_service

    def may_reply(self, record: FlowRecord, finding: Finding) -> bool:
        """Whether a record is the reply of a request that was recorded before it, if there is one: not if it opens a
        connection, goes to a service from a port that is none, or is known for the reply of an allowed flow."""
        if finding.status == AGREE and finding.is_reply:
            return False  # it is known for one already
        return finding.walk is not None and not is_opening(record) and self.is_reply_by_ports(record) is not False

    def judge_reply(self, record: FlowRecord, request: Finding) -> Finding:
        """A record whose request was recorded too and got the finding `request`."""
        walk = request.walk
        assert walk is not None
        return self._aged(record, self._judge_reply(record, walk, request.is_bare_opening))

    def _aged(self, record: FlowRecord, finding: Finding) -> Finding:
        """What is older than the network file, or began before it, is no leak and no break."""
        as_of = self.walker.topology.as_of
        if as_of is None or record.start is None or finding.status not in (LEAK, BREAK):
            return finding
        if (record.end or record.start) < as_of:
            why = f"{finding.why}; recorded before {as_of:%Y-%m-%d %H:%M}Z, which the network file tells of"
            return _changed(finding, UNSURE, why, "log-before-as-of", before_as_of=True)
        if record.start < as_of and finding.status == LEAK:
            why = f"{finding.why}; the session began before {as_of:%Y-%m-%d %H:%M}Z and may be older than the rules"
            return _changed(finding, UNSURE, why, "older-session")
        return finding

    def _judge_flow(self, record: FlowRecord) -> Finding:
        ends = self.walker.directory
        source = ends.endpoint(record.source)
        target = self._target(record.source, record.destination, record.point)
        for address in (record.source, record.destination):
            what = ends.why_undeliverable(address)
            if what is not None:
                return Finding(UNSURE, record.event, f"{address} is {what}: no gate of this network delivers it", None)
        if ends.shared_owner(record.source) is not None:
            return Finding(UNSURE, record.event, f"who sent it behind {record.source} is not recorded", None)
        if ends.shared_owner(record.destination) is not None:
            # Only replies come in there, and whose they are is not recorded either: no walk of their own tells of them.
            return Finding(UNSURE, record.event, f"who it is for behind {record.destination} is not recorded", None)
        if source.network is None and self.ends.is_foreign(target):
            return Finding(UNSURE, record.event, "both ends are outside: no gate lies between them", None)
        if is_echo_reply(record):
            return self._reply(record) or Finding(UNSURE, record.event, "an echo reply without a request", None)
        walk = self._walk(source, target, record.service, record.source_port)
        asked = self._rows_up_to(walk.forward, record)
        found = self._judge_request(record, walk, _stopping(asked))
        return dataclasses.replace(found, asked=asked, is_bare_opening=is_bare_opening(record))

    def _judge_request(self, record: FlowRecord, walk: Walk, stops: list[Row]) -> Finding:
        """A record by its own walk: `stops` are the gates that it had to pass and that stop it by the rules."""
        if not stops:
            return self._flow_of_open(record, walk)
        reply = self._refusal(record, walk) or self._reply(record)
        if reply is not None:
            return reply
        if record.event == DENIED:
            return Finding(AGREE, DENIED, "denied, as the rules say", walk, stops[0])
        if record.event == PASSED:
            turned = self._turned(record, served_only=False)
            if turned is not None and self._walk(*turned).verdict == ALLOWED:
                why = "the reply of an allowed flow, or a request that the rules stop: which, the record does not say"
                return Finding(UNSURE, PASSED, why, walk, stops[0])
            return Finding(LEAK, PASSED, "passed, though the rules stop it", walk, stops[0])
        return Finding(UNSURE, SEEN, "the record does not say whether it passed", walk, stops[0], is_undecided=True)

    def _flow_of_open(self, record: FlowRecord, walk: Walk) -> Finding:
        """A record of a request that no gate on its way stops."""
        if record.event != DENIED:
            if self.is_reply_by_ports(record) and not is_bare_reset(record):
                reply = self._reply(record)
                if reply is not None:
                    return reply
            there = "passed" if walk.delivered else "passed its observation point"
            return Finding(AGREE, record.event, f"{there}, as the rules say", walk)
        if is_icmp_error(record):
            return Finding(UNSURE, DENIED, "an ICMP error: what it speaks of is not recorded", walk)
        if not walk.is_known:
            return Finding(UNSURE, DENIED, "it rests on a gate that is not known", walk)
        stopped_end = [row for row in walk.forward if row.stops]
        if stopped_end:
            return Finding(AGREE, DENIED, "denied, as the rules say", walk, stopped_end[0])
        return Finding(BREAK, DENIED, "denied, though the rules allow it", walk)

    def _target(self, sent_from: Address, destination: Address, point: str | None) -> Address:
        """The address that a sender used, where a record shows the private one behind it: that of an outside, or of a
        neighbour seen by its public address (S38, S29)."""
        directory = self.walker.directory
        owner = directory.interface_at(destination)
        if owner is None or owner.public is None or owner.address(4) != destination:
            return destination
        if directory.public_owner(sent_from) is not None or self._is_internet(point):
            return owner.public
        outside = directory.endpoint(sent_from).outside
        network = self.walker.topology.subnets[owner.subnet].network
        if outside is None or directory.tunnel(network, outside.name) is not None:
            return destination
        return owner.public

    def _is_internet(self, point: str | None) -> bool:
        """Whether a record was taken at a gateway that translates public addresses."""
        known = self.walker.topology.observation_point(point)
        gateway = self.walker.topology.gateways.get(known.name or "") if known is not None else None
        return gateway is not None and gateway.kind == "internet"

    def _walk(self, source: Endpoint, target: Address, service: Service, port: int | None) -> Walk:
        """The walk of one client port. Ports that every rule treats alike share one walk, which stands for them all."""
        key = (source.address, target, service)
        if port is None or not service.has_ports:
            return self._remembered((*key, None), source, target, service, None)
        if key not in self._cells:
            if len(self._cells) >= _MOST_WALKS or len(self._first) >= _MOST_WALKS:
                self._cells.clear()
                self._walks.clear()
                self._first.clear()
            # Most are asked about from one port; only the second one makes it worth while to walk all of them.
            first = self._first.get(key)
            if first is None:
                first = self._first[key] = (port, self.walker.walk(source, target, service, RangeSet.one(port)))
            if first[0] == port:
                return first[1]
            walk = self.walker.walk(source, target, service, ALL_PORTS)
            cells = self._cells[key] = _port_cells(walk)
            if len(cells) == 1:
                self._walks[*key, cells[0]] = walk
        cell = next(each for each in self._cells[key] if port in each)
        return self._remembered((*key, cell), source, target, service, cell)

    def _remembered(
        self,
        key: tuple[Address, Address, Service, RangeSet | None],
        source: Endpoint,
        target: Address,
        service: Service,
        ports: RangeSet | None,
    ) -> Walk:
        if key not in self._walks:
            self._walks[key] = self.walker.walk(source, target, service, ports)
        return self._walks[key]

    def _rows_up_to(self, rows: tuple[Row, ...], record: FlowRecord) -> tuple[Row, ...]:
        """The gates that a recorded packet had to pass: those up to its observation point where that is known, else
        those of the whole way (clause S37)."""
        point = self.walker.topology.observation_point(record.point)
        if point is not None:
            met = [index for index, row in enumerate(rows) if _is_at(row, point)]
            if record.event != DENIED or point.name in self.walker.topology.outsides:
                # What a filter's log says passed has passed the filter; the look-up comes behind it.
                met = [index for index in met if rows[index].gate != "route"]
            rows = rows[: _last_of(rows, met, record) + 1]
            if record.event != DENIED:
                # A reply that another gateway translates than its request (S24) still passes its inner side.
                rows = tuple(row for row in rows if not (row.gate == "translate" and row.direction != FORWARD))
        return rows

    # Replies (clause S39).

    def _reply(self, record: FlowRecord) -> Finding | None:
        """The finding where the record is the reply of a flow that the rules allow; else None."""
        request = self._turned(record)
        if request is None:
            return None
        walk = self._walk(*request)
        if walk.verdict != ALLOWED:
            return None
        requester, target, service, port = request
        if record.event == DENIED and target != record.source:
            # In front of the gateway it cannot be told from the reply to a sender that used the private address.
            private = self._walk(requester, record.source, service, port)
            if private.delivered and private.verdict != ALLOWED:
                why = "denied, as the reply of a flow to the private address would be"
                return Finding(UNSURE, DENIED, why, walk, is_reply=True)
        if record.event == DENIED and not self._comes_by(walk, record):
            why = "denied, where by the rules the reply does not come by"
            return Finding(UNSURE, DENIED, why, walk, is_reply=True)
        if record.event == DENIED:
            why = "the reply of an allowed flow is denied"
            return Finding(BREAK, DENIED, why, walk, is_reply=True, cause="no-way-back")
        return Finding(AGREE, record.event, "the reply of an allowed flow", walk, is_reply=True)

    def _refusal(self, record: FlowRecord, walk: Walk) -> Finding | None:
        """The finding where the record is a refusal (clause S34): a bare TCP reset, or an ICMP error. Stateful filters
        let it back with the flow that it refuses, so that its own walk tells nothing."""
        if is_icmp_error(record):
            return Finding(
                UNSURE, record.event, "an ICMP error: what it speaks of is not recorded", walk, walk.decided_by
            )
        if record.service.protocol != TCP or record.source_port is None or not is_bare_reset(record):
            return None
        requester = self.walker.directory.endpoint(record.destination)
        if self.walker.directory.shared_owner(record.destination) is not None:
            return None
        target = self._target(record.destination, record.source, record.point)
        if requester.network is None and self.ends.is_foreign(target):
            return None
        refused = self._walk(requester, target, Service(TCP, record.source_port), record.service.detail)
        if refused.verdict == ALLOWED:
            why = "a reset of an allowed flow: refused, or ended early"
            return Finding(UNSURE, record.event, why, refused, is_reply=True)
        return self._refusal_of(refused, record)

    def _refusal_of(self, refused: Walk, record: FlowRecord) -> Finding:
        """A refusal of a flow that the rules stop."""
        lost = record.event == DENIED
        same = refused.signal == (SILENT if lost else REFUSED)
        why = (
            "the refusal of a flow that the rules stop"
            if not lost
            else "the refusal of a stopped flow, lost on its way"
        )
        return Finding(AGREE, record.event, why, refused, refused.decided_by, not same, is_reply=True)

    def _comes_by(self, walk: Walk, record: FlowRecord) -> bool:
        """Whether the way of a reply leads by the record's observation point, where that is known."""
        point = self.walker.topology.observation_point(record.point)
        return point is None or any(_is_at(row, point) for row in walk.reply)

    def _refused(self, walk: Walk) -> Finding:
        """A refusal of a flow that the rules allow: something else refuses, or nothing listens."""
        if any(row.action is None and row.gate == "listener" for row in walk.rows):
            return Finding(UNSURE, REFUSED, "refused: is anything listening?", walk, is_reply=True)
        return Finding(BREAK, REFUSED, "refused, though the rules allow it", walk, is_reply=True)

    def _judge_reply(self, record: FlowRecord, walk: Walk, never_answered: bool) -> Finding:
        """A reply by the gates of the reply alone: it is never a leak for what its request did."""
        stops = _stopping(self._rows_up_to(walk.reply, record))
        if never_answered and is_bare_reset(record):
            if walk.verdict != ALLOWED:
                return self._refusal_of(walk, record)
            if record.event != DENIED:
                return self._refused(walk)
        if record.event == DENIED:
            if stops:
                return Finding(AGREE, DENIED, "the reply is denied, as the rules say", walk, stops[0], is_reply=True)
            if not self._comes_by(walk, record):
                why = "denied, where by the rules the reply does not come by"
                return Finding(UNSURE, DENIED, why, walk, is_reply=True)
            why = "the reply is denied, though the rules let it back"
            return Finding(BREAK, DENIED, why, walk, is_reply=True, cause="no-way-back")
        if stops and record.event == PASSED:
            return Finding(LEAK, PASSED, "the reply passed, though the rules stop it", walk, stops[0], is_reply=True)
        if stops:
            return Finding(UNSURE, SEEN, "the record does not say whether it passed", walk, stops[0], is_reply=True)
        return Finding(AGREE, record.event, "the reply of a recorded request", walk, is_reply=True)

    def _turned(
        self, record: FlowRecord, served_only: bool = True
    ) -> tuple[Endpoint, Address, Service, int | None] | None:
        """The request that a record could be the reply to: of a service that somebody listens to or that has a name,
        unless `served_only` is false."""
        if is_opening(record):
            return None
        directory = self.walker.directory
        protocol = record.service.protocol
        if protocol in (ICMP, ICMP6):
            kind = {ICMP: 8, ICMP6: 128}[protocol]
            if not is_echo_reply(record):
                return None
            service, port = Service(protocol, kind << 8), None
        elif record.service.has_ports and record.source_port is not None:
            service, port = Service(protocol, record.source_port), record.service.detail
            if served_only and service.number not in self.served:
                return None
        else:
            return None
        requester = directory.endpoint(record.destination)
        if directory.shared_owner(record.destination) is not None:
            return None
        if port is not None and port not in self.walker.source_ports(requester, service):
            return None
        target = self._target(record.destination, record.source, record.point)
        if requester.network is None and self.ends.is_foreign(target):
            return None
        return requester, target, service, port

    def decided(self, request: Finding) -> Finding:
        """The finding of an undecided request whose reply was recorded."""
        return _changed(request, LEAK, "its reply was recorded, so it passed", None)


def conclusion(record: FlowRecord | ProbeRecord, finding: Finding) -> Conclusion:
    """What the finding of a record comes to."""
    decider = finding.decider
    return Conclusion(
        finding.status, finding.observed, finding.why, finding.is_reply, finding.different_signal, finding.before_as_of,
        isinstance(record, FlowRecord) and is_from_service(record, finding),
        (decider.gate, decider.filter, decider.rule) if decider is not None else None,
    )  # fmt: skip


def seen_behind(finding: Finding) -> tuple[Address, Address] | None:
    """The addresses that a request bears where it arrives: behind a gateway others than in front (S38)."""
    walk = finding.walk
    if walk is None or walk.arrival is None:
        return None
    return walk.request_path.source_seen, walk.arrival.address


def is_request(record: FlowRecord, finding: Finding) -> bool:
    """Whether a record is a request that replies may be recorded of: what was denied draws none."""
    return finding.walk is not None and not finding.is_reply and record.event != DENIED


def is_from_service(record: FlowRecord, finding: Finding) -> bool:
    """Whether a record is a reply, and so about the service that it is from."""
    return finding.is_reply and record.service.has_ports and record.source_port is not None


def conversation_service(record: FlowRecord, finding: Finding) -> Service:
    """The service that a record's conversation is about."""
    if not is_from_service(record, finding):
        return record.service
    return Service(record.service.protocol, record.source_port or 0)


def _port_cells(walk: Walk) -> tuple[RangeSet, ...]:
    """The client ports of a walk, cut so that every row takes all of a cell or nothing of it."""
    cells = [walk.flow.source_ports]
    for row in walk.rows:
        if row.ports != walk.flow.source_ports:
            cells = [part for cell in cells for part in (cell & row.ports, cell - row.ports) if part]
    return tuple(cells)


def _changed(finding: Finding, status: str, why: str, cause: str | None, before_as_of: bool = False) -> Finding:
    return dataclasses.replace(finding, status=status, why=why, before_as_of=before_as_of, cause=cause)


def _as_failure(outcome: str) -> str:
    """`silent` and `unreachable` count as the same failure."""
    return SILENT if outcome == UNREACHABLE else outcome


def _stopping(rows: tuple[Row, ...]) -> list[Row]:
    """The filter, route and translation gates among some rows that stop."""
    return [row for row in rows if row.stops and row.gate not in ("source", "destination", "listener")]


def _last_of(rows: tuple[Row, ...], met: list[int], record: FlowRecord) -> int:
    """The place of the last gate that a recorded packet had passed at its point, or was stopped at.

    A way may meet a point twice, with other addresses behind a translation, or by way of an appliance. What was
    denied may have been so at any of them; what passed is sure to have passed at the first only.
    """
    alike = [i for i in met if (rows[i].step.source, rows[i].step.destination) == (record.source, record.destination)]
    chosen = alike or met
    if not chosen:
        return len(rows) - 1
    if record.event == DENIED:
        return chosen[-1]
    last = chosen[0]
    while last + 1 in chosen:
        last += 1
    return last


def _is_at(row: Row, point: ObservationPoint) -> bool:
    """Whether a row belongs to the gate that an observation point names."""
    if point.crossing is not None:
        return row.step.zones == point.crossing
    return row.at == point.name or row.at.startswith(f"{point.name}/")
