"""What becomes of a sender's packets after the first: a kernel's own rule set may let in the first one alone (S35).

Where no rule of it lets known connections pass, the first packet is accepted as new and its answer comes back, and all
that follows is dropped: what was opened hangs. So it is at a machine on the way there that is not on the way back: to
its connection tracking what follows is no part of a connection (nf_conntrack calls it invalid).
"""

from __future__ import annotations

from kiboko.core.filters.ground import Ground
from kiboko.core.header.packet import following
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.routing.steps import Path, Step
from kiboko.core.walk.gates import FORWARD, GateAsker, Row

_AT_HOSTS = ("host-out", "host-in")


def stops_later(ground: Ground, path: Path, back: Path | None, service: Service, ports: RangeSet) -> Row | None:
    """The first gate of a kernel rule set on the way that stops what follows an answered first packet from any of some
    client ports; None where none surely does."""
    steps = [step for step in path.steps if step.gate in _AT_HOSTS and _has_kernel_rules(ground, step)]
    if not steps:
        return None
    asker = GateAsker(ground, service, ports)
    passed_back = {_machine(step) for step in back.steps if step.gate in _AT_HOSTS} if back is not None else set()
    for step in steps:
        packet = following(step.source, step.destination, service, _machine(step) in passed_back)
        stops = (row for row in asker.ask(step, packet, FORWARD) if row.stops)
        found = next(stops, None)
        if found is not None:
            return found
    return None


def _has_kernel_rules(ground: Ground, step: Step) -> bool:
    name = _machine(step)
    return name is not None and isinstance(ground.topology.instances[name].host_filter, HostRuleSet)


def _machine(step: Step) -> str | None:
    interface = step.interface or step.egress
    return interface.instance if interface is not None else None
