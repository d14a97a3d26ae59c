"""The walk: every gate of a flow asked in order, forward and reply, and the verdict that follows.

This is the one evaluator of Kiboko; every command that judges traffic asks it. It takes a flow for all its
client ports at once (clauses S18 to S24, S33).
"""

from __future__ import annotations

import dataclasses
import itertools
from collections.abc import Iterable
from dataclasses import dataclass

from kiboko.core.filters.ground import Ground
from kiboko.core.header.addresses import Address
from kiboko.core.header.packet import Packet, answering, request, turned_service
from kiboko.core.header.ranges import EMPTY, RangeSet
from kiboko.core.header.services import NEVER_REFUSED, NO_PORTS, WITH_PORTS, Service
from kiboko.core.network.directory import Endpoint
from kiboko.core.network.model import DROP, REJECT, Topology
from kiboko.core.routing.path import PathFinder
from kiboko.core.routing.steps import NOT_KNOWN, SILENT, UNREACHABLE, Path, Step, Stop
from kiboko.core.walk.gates import FORWARD, REPLY, GateAsker, Row
from kiboko.core.walk.later_packets import stops_later
from kiboko.core.walk.refusals import way_of_refusal

ALLOWED, BLOCKED, ONE_WAY, PARTLY, UNKNOWN = "allowed", "blocked", "one-way", "partly", "unknown"
ANSWERED = "answered"
NOBODY_RECORDED = "no instance recorded at"


@dataclass(frozen=True, slots=True)
class Flow:
    """What is asked: a sender, the address it sends to, a service, and the client ports that it may come from."""

    source: Endpoint
    target: Address
    service: Service
    source_ports: RangeSet


@dataclass(frozen=True, slots=True)
class Walk:
    """All gates of a flow, and the verdict. `delivered` are the client ports whose request arrives, as far as is known;
    `answered` those whose reply surely comes back too; `doubtful` those that nothing known stops, and a gate that
    cannot be judged may (clause S35)."""

    flow: Flow
    forward: tuple[Row, ...]
    reply: tuple[Row, ...]
    request_path: Path
    reply_path: Path | None
    delivered: RangeSet
    answered: RangeSet
    caveats: tuple[str, ...]
    doubtful: RangeSet = EMPTY
    signal: str = ANSWERED
    signal_known: bool = True
    """Whether no gate that a refusal has to pass is unknown."""
    later: Row | None = None
    """What stops what the sender sends after its first packet, though that was answered (clause S35)."""

    @property
    def rows(self) -> tuple[Row, ...]:
        """The gates of both directions."""
        return self.forward + self.reply

    @property
    def verdict(self) -> str:
        """`allowed`, `partly`, `unknown`, `one-way` or `blocked` (clauses S23, S35)."""
        if self.doubtful:
            return UNKNOWN
        if self.answered:
            return ALLOWED if self.answered == self.flow.source_ports else PARTLY
        if self.delivered:
            return ONE_WAY if self.arriving else UNKNOWN
        return BLOCKED

    @property
    def arriving(self) -> RangeSet:
        """The client ports whose request surely arrives."""
        return self.delivered - _ports_of(row for row in self.forward if row.is_doubtful)

    @property
    def decided_by(self) -> Row | None:
        """The row that explains the verdict, for its lowest port; None for `allowed`.

        That of the earliest gate that stops every port that came to it; if none does, of the earliest that stops any.
        Of `unknown`, that of the earliest gate that is not known.
        """
        if self.verdict == UNKNOWN:
            in_doubt = self.doubtful or self.delivered
            return next(row for row in self.rows if row.is_doubtful and row.ports & in_doubt)
        coming, stops = self.flow.source_ports, self.stops()
        for first in stops:
            key = _gate_key(first)
            stopped = _ports_of(row for row in self.rows if row.stops and _gate_key(row) == key)
            if coming <= stopped:
                return first
            coming = coming - stopped
        return stops[0] if stops else None

    @property
    def either(self) -> tuple[str, str] | None:
        """Of `unknown`, the verdicts that it may come to: if all gates that are not known stop, and if none does."""
        if self.verdict != UNKNOWN:
            return None
        worst = ONE_WAY if self.arriving else BLOCKED
        best = ALLOWED if self.answered | self.doubtful == self.flow.source_ports else PARTLY
        return (PARTLY if self.answered else worst), (best if self.doubtful else ONE_WAY)

    def stops(self) -> list[Row]:
        """The row for the lowest stopped port of every gate that stops any, in the order of the gates."""
        found: dict[tuple[object, ...], Row] = {}
        for row in self.rows:
            if row.stops:
                key = _gate_key(row)
                best = found.get(key)
                if best is None or row.ports.lowest < best.ports.lowest:
                    found[key] = row
        return list(found.values())

    @property
    def arrival(self) -> Endpoint | None:
        """The end that the request reaches, or would reach."""
        return self.request_path.arrival

    @property
    def is_known(self) -> bool:
        """Whether no gate of the walk is not known, nor one that its refusal has to pass."""
        return self.signal_known and all(row.action is not None for row in self.rows)


class Walker:
    """Walks flows over one topology. Holds only what can be worked out from the topology once."""

    def __init__(self, topology: Topology, before: Ground | None = None) -> None:
        """`before` is the ground of the topology that this one was changed from."""
        self.topology = topology
        self.ground = Ground(topology, before)
        self.directory = self.ground.directory
        self.membership = self.ground.membership
        self.paths = PathFinder(self.directory)

    def on(self, topology: Topology) -> Walker:
        """A walker over a changed topology, which shares what the change leaves as it is."""
        if topology is self.topology:
            return self
        return Walker(topology, self.ground)

    def source_ports(self, source: Endpoint, service: Service) -> RangeSet:
        """The client ports a flow stands for where none is named (clause S23)."""
        if not service.has_ports:
            return NO_PORTS
        if source.interface is not None:
            own = self.directory.instance_of(source.interface).ephemeral_ports
        else:
            own = source.outside.ephemeral_ports if source.outside else None
        return own or self.topology.defaults.ephemeral_ports

    def walk(self, source: Endpoint, target: Address, service: Service, source_ports: RangeSet | None = None) -> Walk:
        """The verdict on one flow, with every gate.

        Parameters
        ----------
        source : the sender, as `Directory.endpoint` gives it
        target : the address that the packet is sent to (private or public), of the sender's family
        service : protocol and destination port, or ICMP type and code
        source_ports : the client ports asked about; None for all ephemeral ports of the sender

        >>> from kiboko.core.header.addresses import parse_address
        >>> from kiboko.files.network.network_file import load_network
        >>> walker = Walker(load_network("network.yaml"))
        >>> desk = walker.directory.endpoint(parse_address("10.63.1.11"))
        >>> walk = walker.walk(desk, parse_address("10.62.2.20"), Service(6, 8443))
        >>> walk.verdict, walk.decided_by.gate, walk.decided_by.rule
        ('blocked', 'instance-in', '20')
        """
        ports = source_ports if source_ports and service.has_ports else self.source_ports(source, service)
        request_path = self.paths.forward(source, target)
        asker = GateAsker(self.ground, service, ports)
        forward = self._ask_request(asker, request_path)
        delivered = ports - _stopped(forward)
        reply_path = self.paths.reply(request_path) if turned_service(service) is not None else None
        reply = self._ask_reply(asker, reply_path) if reply_path else ()
        answered = delivered - _stopped(reply)
        doubtful = answered & _ports_of(row for row in (*forward, *reply) if row.is_doubtful)
        surely = answered - doubtful
        later = stops_later(self.ground, request_path, reply_path, service, surely) if surely else None
        walked = Walk(
            Flow(source, target, service, ports),
            forward,
            reply,
            request_path,
            reply_path,
            delivered,
            answered - doubtful,
            (*asker.caveats, *_who_is_recorded(request_path, service), *_what_follows(later)),
            doubtful,
            later=later,
        )
        return self._with_signal(walked)

    def walk_nowhere(self, source: Endpoint | None, receiver: str, service: Service, reason: str = "") -> Walk:
        """The verdict where one end has no usable address: blocked at `source` or `route` (clauses S1, S4)."""
        nobody = Address(4, 0)
        origin = source or Endpoint(nobody, receiver)
        gate, at = "source", receiver
        if source is not None:
            place = source.subnet or source.outside
            gate, at = "route", place.name if place else source.name
        step = Step(
            gate, at, origin.address, nobody, stop=Stop(reason or f"{receiver} has no address", kind="no address")
        )
        ports = self.source_ports(origin, service)
        path = Path(origin, nobody, (step,), None, origin.address, nobody)
        rows = tuple(
            GateAsker(self.ground, service, ports).ask(step, request(origin.address, nobody, service), FORWARD)
        )
        return Walk(Flow(origin, nobody, service, ports), rows, (), path, None, EMPTY, EMPTY, (), EMPTY, SILENT)

    def _ask_request(self, asker: GateAsker, path: Path) -> tuple[Row, ...]:
        rows: list[Row] = []
        packet: Packet | None = None
        for step in path.steps:
            if packet is None or packet.source is not step.source or packet.destination is not step.destination:
                packet = request(step.source, step.destination, asker.service)
            rows.extend(asker.ask(step, packet, FORWARD))
        return tuple(rows)

    def _ask_reply(self, asker: GateAsker, path: Path) -> tuple[Row, ...]:
        rows: list[Row] = []
        for step in path.steps:
            packet = answering(step.source, step.destination, asker.service, _is_known(step, asker))
            assert packet is not None
            rows.extend(asker.ask(step, packet, REPLY))
        return tuple(rows)

    def _with_signal(self, walked: Walk) -> Walk:
        """Fill in what the sender would see (clauses S31, S33, S34) and the caveat of a `partly` verdict."""
        caveats = list(walked.caveats)
        signal, known = ANSWERED, True
        decider = walked.decided_by
        if walked.verdict == UNKNOWN:
            signal = NOT_KNOWN
        elif walked.verdict == PARTLY:
            caveats.append(
                f"only some client ports work: {walked.answered} of {walked.flow.source_ports};"
                " a client that happens on another port fails"
            )
        elif walked.verdict == ONE_WAY:
            signal = SILENT
        elif decider is not None:
            signal = decider.signal
            known = signal != NOT_KNOWN
            if decider.action == REJECT and known and walked.flow.service.number in NEVER_REFUSED:
                signal = SILENT
                caveats.append(
                    f"{decider.gate} at {decider.at} refuses it, but no ICMP error is sent about such a message"
                )
            elif decider.action == REJECT and known:
                way = way_of_refusal(self.ground, self.paths, walked.request_path, decider, walked.flow.service)
                refuses = f"{decider.gate} at {decider.at} refuses"
                if decider.signal == UNREACHABLE and decider.gate == "route":
                    refuses = f"a router says from {decider.at} that it knows no way"
                if way.lost_at:
                    signal = SILENT
                    caveats.append(f"{refuses}, but that is lost at {way.lost_at}")
                elif way.not_known_at:
                    signal, known = NOT_KNOWN, False
                    caveats.append(f"{refuses}; whether that gets back rests on {way.not_known_at}, which is not known")
            if _is_stopped_otherwise(walked, decider, signal):
                signal, known = NOT_KNOWN, False
        return dataclasses.replace(walked, signal=signal, signal_known=known, caveats=tuple(dict.fromkeys(caveats)))


def _ports_of(rows: Iterable[Row]) -> RangeSet:
    found = EMPTY
    for row in rows:
        found |= row.ports
    return found


def _stopped(rows: Iterable[Row]) -> RangeSet:
    return _ports_of(row for row in rows if row.stops)


def _is_stopped_otherwise(walked: Walk, decider: Row, signal: str) -> bool:
    """Whether a gate in front of the one that decides, of which it is not known, may stop the request in a way that the
    sender could tell from `signal`: of any refusal nothing more is known."""
    front = itertools.takewhile(lambda row: row is not decider, walked.forward)
    perhaps = (row for row in front if row.is_doubtful and row.ports & RangeSet.one(decider.ports.lowest))
    return any(REJECT in row.possible or (signal != SILENT and DROP in row.possible) for row in perhaps)


def _gate_key(row: Row) -> tuple[object, ...]:
    return (row.direction, row.gate, row.at, row.filters)


def _is_known(step: Step, asker: GateAsker) -> bool:
    """Whether a reply is part of a connection to a host: one that never saw the request tracks nothing of it (S19)."""
    interface = step.interface or step.egress
    return interface is None or interface.instance in asker.hosts_passed


def _what_follows(later: Row | None) -> Iterable[str]:
    """The caveat on a first packet that is answered and no other."""
    if later is not None:
        by = f"{later.filter}, chain {later.chain}, {later.rule}"
        yield (f"only the first packet gets through: what the sender sends after it is stopped at {later.gate} of"
               f" {later.at} ({by}), so that what is opened hangs")  # fmt: skip


def _who_is_recorded(path: Path, service: Service) -> Iterable[str]:
    """The caveats on ends that nobody recorded (clause S4) or whose listeners nobody can know."""
    for end in (path.origin, path.arrival):
        if end is not None and end.interface is None and end.subnet is not None:
            yield f"{NOBODY_RECORDED} {end.address}"
    arrival = path.arrival
    if arrival is not None and arrival.outside is not None and service.protocol in WITH_PORTS:
        yield f"what listens at {arrival.address} ({arrival.name}) is not known"
