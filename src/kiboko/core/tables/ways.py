"""The ways between places: for each pair of places the gates of the request and of the reply, with what stands there
left open (`the sender's instance filters`) and the addresses as they are at that gate.

Each is worked out by the one path finder for one pair of ends, and holds for every pair of ends of these places.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import NamedTuple

from kiboko.core.header.addresses import Address
from kiboko.core.network.directory import Endpoint
from kiboko.core.network.model import Interface
from kiboko.core.routing.path import PathFinder
from kiboko.core.routing.steps import Path, Step, crossing_name
from kiboko.core.tables.places import PlacedEnd
from kiboko.core.walk.gates import FORWARD, REPLY

SENDER, RECEIVER, FIXED = "sender", "receiver", "fixed"
"""Whose a gate or an address is: of the one end, of the other, or the same for all flows of the way."""

OWN, PUBLIC, SENT_TO, PRIVATE, CONSTANT = range(5)
"""An address at a gate: the sender's own, its public one, the one that the request was sent to, the receiver's own
behind that, or a constant one (the shared address of a gateway)."""


class Gate(NamedTuple):
    """A gate of a way. `whose` tells whose interface or subnet it is; `step` is that of the ends it was worked out for.
    `source` and `destination` are kinds of addresses; `named` tells after what of which end the gate is called, None
    where it is called the same for all. `request_gates` are, for a gate of the reply, the places of the gates of the
    request that keep state for it."""

    step: Step
    direction: str
    whose: str
    source: int
    destination: int
    named: tuple[str, str] | None
    request_gates: tuple[int, ...] = ()

    @property
    def is_dead_end(self) -> bool:
        """Whether the sender's own router has no way on there. What becomes of its message rests on the sender and on
        the gates in front, and not on whom the request was for (clauses S31, S34)."""
        stop = self.step.stop
        return stop is not None and stop.kind == "no route" and self.named == (SENDER, "subnet")

    def at(self, sender: PlacedEnd, receiver: PlacedEnd) -> str:
        """What the gate is called for two ends."""
        if self.named is None:
            return self.step.at
        whose, what = self.named
        return _names(sender if whose == SENDER else receiver)[what]


@dataclass(frozen=True, slots=True)
class Way:
    """All gates between two places. `arrives` tells whether anybody is there that a request could reach; `seen` the
    kind of address that the sender has there, and the address itself where that is constant."""

    request: tuple[Gate, ...]
    reply: tuple[Gate, ...]
    arrives: bool
    seen: tuple[int, Address]

    @property
    def has_reply(self) -> bool:
        """Whether somebody is there to reply."""
        return self.arrives


def find_way(paths: PathFinder, sender: PlacedEnd, target: Address, receiver: PlacedEnd) -> Way:
    """The way from one end to an address of another, which is of another machine."""
    path = paths.forward(sender.endpoint, target)
    back = paths.reply(path)
    called = _called(sender, receiver)
    request = tuple(_gate(step, FORWARD, path, sender, receiver, called) for step in path.steps)
    keys = [(_keeper(step, FORWARD), step.source, step.destination) for step in path.steps]
    reply = []
    for step in back.steps if back is not None else ():
        wanted = (_keeper(step, REPLY), step.destination, step.source)
        keeping = tuple(i for i, key in enumerate(keys) if key == wanted and key[0] is not None)
        reply.append(_gate(step, REPLY, path, sender, receiver, called, keeping))
    seen = _kind(path.source_seen, path, sender, receiver, True), path.source_seen
    return Way(request, tuple(reply), back is not None, seen)


def recrossed(way: Way, zones: Mapping[str, str]) -> Way:
    """The same way between ends of other zones: those that stand in the place of some."""

    def moved(gate: Gate) -> Gate:
        if gate.step.zones is None:
            return gate
        one, other = (zones.get(zone, zone) for zone in gate.step.zones)
        return gate._replace(step=gate.step._replace(at=crossing_name(one, other), zones=(one, other)))

    return replace(way, request=tuple(map(moved, way.request)), reply=tuple(map(moved, way.reply)))


def _gate(
    step: Step, direction: str, path: Path, sender: PlacedEnd, receiver: PlacedEnd,
    called: Mapping[str, tuple[str, str]], request_gates: tuple[int, ...] = (),
) -> Gate:  # fmt: skip
    forward = direction == FORWARD
    return Gate(
        step, direction, _whose(step, sender.endpoint, receiver.endpoint),
        _kind(step.source, path, sender, receiver, forward),
        _kind(step.destination, path, sender, receiver, not forward), called.get(step.at), request_gates,
    )  # fmt: skip


def _names(end: PlacedEnd) -> dict[str, str]:
    """What gates may be called after at an end."""
    endpoint = end.endpoint
    found = {"address": str(endpoint.address)}
    if endpoint.interface is not None:
        found |= {"interface": endpoint.interface.name, "instance": endpoint.interface.instance}
    if endpoint.subnet is not None:
        found["subnet"] = endpoint.subnet.name
    return found


def _called(sender: PlacedEnd, receiver: PlacedEnd) -> dict[str, tuple[str, str]]:
    """After whom a gate of each name is called: whose name it is, of which kind; the sender's first."""
    found: dict[str, tuple[str, str]] = {}
    for whose, end in ((SENDER, sender), (RECEIVER, receiver)):
        for what, name in _names(end).items():
            found.setdefault(name, (whose, what))
    return found


def _whose(step: Step, sender: Endpoint, receiver: Endpoint) -> str:
    interface = step.interface or step.egress
    if interface is not None:
        return _of_either(interface, sender.interface, receiver.interface)
    if step.subnet is not None:
        if sender.subnet is not None and step.subnet.name == sender.subnet.name:
            return SENDER
        if receiver.subnet is not None and step.subnet.name == receiver.subnet.name:
            return RECEIVER
    return FIXED


def _of_either(interface: Interface, sender: Interface | None, receiver: Interface | None) -> str:
    if sender is not None and interface.name == sender.name:
        return SENDER
    if receiver is not None and interface.name == receiver.name:
        return RECEIVER
    return FIXED


def _kind(address: Address, path: Path, sender: PlacedEnd, receiver: PlacedEnd, is_senders: bool) -> int:
    """What an address of a gate is: on the sender's side or on the other."""
    if is_senders:
        interface = sender.endpoint.interface
        if address == sender.endpoint.address:
            return OWN
        if interface is not None and address == interface.public:
            return PUBLIC
        return CONSTANT
    if address == path.target:
        return SENT_TO
    if address == receiver.endpoint.address:
        return PRIVATE
    return CONSTANT


def _keeper(step: Step, direction: str) -> tuple[str, ...] | None:
    """What keeps state at a gate (clause S18), whichever way a packet passes it; None for a gate that keeps none."""
    if step.zones is not None:
        return ("zone", *(step.zones if direction == FORWARD else reversed(step.zones)))
    kind = step.gate.partition("-")[0]
    return (kind, step.at) if kind in ("instance", "host", "subnet", "outside") else None
