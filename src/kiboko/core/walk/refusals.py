"""The way of a refusal back to the sender (clause S34).

A reset or an ICMP error is a packet too: it has to pass the gates between where it is made and the sender.
"""

from __future__ import annotations

from dataclasses import dataclass

from kiboko.core.filters import host_judge
from kiboko.core.filters.ground import Ground
from kiboko.core.header.addresses import Address
from kiboko.core.header.packet import ACK, NO_ROUTE, RST, Packet, refusal_service, request
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service
from kiboko.core.routing.path import PathFinder
from kiboko.core.routing.steps import Path, Step
from kiboko.core.walk.gates import FORWARD, REFUSAL, GateAsker, Row

_AT_RECEIVER = ("instance-in", "host-in", "destination", "listener", "outside")
_AT_SENDER = ("source", "host-out", "instance-out", "outside")


@dataclass(frozen=True, slots=True)
class WayBack:
    """What becomes of a refusal: where it is stopped on its way, and the first gate there that is not known, each as
    `gate at PLACE`; None where there is none."""

    lost_at: str | None = None
    not_known_at: str | None = None


def way_of_refusal(ground: Ground, paths: PathFinder, request_path: Path, decider: Row, service: Service) -> WayBack:
    """What becomes of the refusal that `decider` sends."""
    step = decider.step
    index = request_path.steps.index(step)
    if index < _own_gates(request_path):
        return _back_at_own_host(ground, step, decider, service)
    code = NO_ROUTE if step.gate == "route" else decider.icmp_code
    refusal, turned = refusal_service(service, step.destination.family, code)
    back, by_another = _way_back(ground, paths, request_path, step, not turned)
    if back is None or not back.steps:
        return WayBack()
    # What the request passed before it was refused keeps state, and so do the receiver's own attachments.
    asker = GateAsker(ground, service, RangeSet.one(decider.ports.lowest))
    passed_steps = request_path.steps if _is_at_end(request_path, index) else request_path.steps[: index + 1]
    for passed in passed_steps:
        asker.ask(passed, request(passed.source, passed.destination, service), FORWARD)
    not_known = None
    for gate in back.steps:
        # A gateway gives the message of somebody on the way the address that the request was sent to.
        is_own = by_another and not turned and gate.source == back.steps[0].source
        source = _own_address(back.steps[0]) if is_own else gate.source
        state = _state(gate, step, turned, asker.hosts_passed)
        flags = RST | ACK if turned else None
        packet = Packet(gate.destination.family, source, gate.destination, refusal, turned, state, flags)
        for row in asker.ask(gate, packet, REFUSAL):
            if row.stops:
                lost = f"{row.gate} at {row.at}" + (f" ({row.filter}/{row.rule})" if row.filter else "")
                return WayBack(lost, not_known)
            if row.action is None and not_known is None:
                not_known = f"{row.gate} at {row.at}"
    return WayBack(None, not_known)


def _back_at_own_host(ground: Ground, step: Step, decider: Row, service: Service) -> WayBack:
    """Where a machine's own kernel rules stop the refusal that they made, or that its own interface did: it comes in
    over the loopback interface, through the same rule set. A filter of the network file asks nothing here."""
    own = step.egress or step.interface
    if step.gate not in ("host-out", "instance-out") or own is None:
        return WayBack()
    instance = ground.directory.instance_of(own)
    rules = instance.host_filter
    if rules is None or isinstance(rules, str):
        return WayBack()
    refusal, turned = refusal_service(service, step.destination.family, decider.icmp_code)
    sender = step.destination if turned else step.source
    packet = Packet(step.source.family, sender, step.source, refusal, turned, "related", RST | ACK if turned else None)
    port = RangeSet.one(decider.ports.lowest)
    not_known = None
    for path, ingress, egress in (("output", "", "lo"), ("input", "lo", "")):
        for share in host_judge.judge(rules, path, packet, port, ingress, egress) or ():
            where = f"{step.gate} at {step.at} ({rules.file}, chain {share.chain}, on its way over loopback)"
            if share.action in (host_judge.DROP, host_judge.REJECT):
                return WayBack(where, not_known)
            if share.action == host_judge.UNKNOWN:
                not_known = not_known or where
    return WayBack(None, not_known)


def _own_gates(path: Path) -> int:
    """How many gates at the start are the sender's own interface, host or outside filter: they refuse at once."""
    count = 0
    for step in path.steps:
        if step.gate not in _AT_SENDER:
            break
        count += 1
    return count


def _way_back(
    ground: Ground, paths: PathFinder, path: Path, step: Step, is_message: bool
) -> tuple[Path | None, bool]:  # fmt: skip
    """The refusal's path, and whether somebody on the way sends it rather than the receiver: a router, an appliance.
    `is_message` tells whether it is one of ICMP, which bears the address of who sends it."""
    if step.gate in ("subnet-in", "subnet-out") and step.subnet is not None:
        return paths.from_router(step.subnet, path, step, is_message), True
    if step.gate == "route":
        subnet = ground.topology.subnets.get(step.at)
        if subnet is not None and not (step.stop and step.stop.by_core):
            return paths.from_router(subnet, path, step, is_message), True
        return paths.from_core(path, step), True
    if step.gate == "zone":
        return paths.from_core(path, step), True
    own = step.interface or step.egress
    if own is not None and not _is_at_end(path, path.steps.index(step)):
        return paths.from_appliance(own, path, step, is_message), True
    return paths.reply(path), False


def _own_address(first: Step) -> Address | None:
    """The address that a message of somebody on the way comes from, by the first gate of its way: that of the interface
    by which it leaves an appliance; that of a router is not known."""
    return first.egress.address(first.destination.family) if first.egress is not None else None


def _is_at_end(path: Path, index: int) -> bool:
    """Whether a gate belongs to the receiver itself, so that nothing but its own gates comes behind."""
    return all(step.gate in _AT_RECEIVER for step in path.steps[index:])


def _state(gate: Step, refusing: Step, is_reset: bool, hosts_passed: set[str]) -> str:
    """The kernel's connection state of a refusal (nf_conntrack).

    A machine that the request has not come to knows nothing of the connection. To others an ICMP error is related to
    it, and a reset belongs to it, except to the machine whose own rules made it, for which it is related.
    """
    here, there = gate.interface or gate.egress, refusing.interface or refusing.egress
    made_here = here is not None and there is not None and here.instance == there.instance
    if here is not None and not made_here and here.instance not in hosts_passed:
        return "invalid"
    return "related" if not is_reset or (made_here and refusing.gate != "listener") else "established"
