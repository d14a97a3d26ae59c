"""Observation points: where the replica's kernels log the packets that reach a point and those that pass it.

At a machine a packet is seen before its first filter and has passed behind its last; at a gateway on its inner side
(S38); at a crossing around the rules of that crossing. The replica's own routers speak for themselves and are left out.
"""

from __future__ import annotations

from kiboko.core.network.model import ObservationPoint
from kiboko.replica.kernel_rules import ROUTERS4, ROUTERS6
from kiboko.replica.layout import Machine
from kiboko.replica.site import Site, base_chain

_FOREIGN = [
    "icmpv6 type { 133-137, 143 } return",
    f"ip saddr {ROUTERS4} return",
    f"ip daddr {ROUTERS4} return",
    f"ip6 saddr {{ {ROUTERS6}, fe80::/10 }} return",
    f"ip6 daddr {{ {ROUTERS6}, ff00::/8 }} return",
]


def add_taps(site: Site) -> None:
    """Log at every observation point; where the network names none, what arrives at each running instance."""
    points = site.topology.observation_points.values()
    for point in points:
        if point.crossing is None:
            _tap_named(site, point)
    if not points:
        for instance in site.instances:
            if instance.running:
                _tap_arrivals(site, site.layout.machines[site.layout.homes[instance.name]])


def crossing_taps(site: Site, source: str, destination: str) -> tuple[list[str], list[str]]:
    """The statements before and behind the rules of a crossing; none where nobody observes it."""
    for point in site.topology.observation_points.values() if site.tapping else ():
        if point.crossing == (source, destination):
            before = site.layout.log(site.core, point.key, False)
            return [before], [site.layout.log(site.core, point.key, True)]
    return [], []


def _tap_named(site: Site, point: ObservationPoint) -> None:
    name = point.name or ""
    home, _, interface = name.partition("/")
    gateway = site.topology.gateways.get(name)
    if gateway is not None:
        if gateway.name in site.gateway_machines:
            machine = site.gateway_machines[gateway.name]
            _around(site, machine, point.key, [("forward", -300)], [("forward", 300)], "")
        return
    built = site.layout.homes.get(name if name in site.topology.subnets else home)
    if built is None:
        return  # it takes no part
    _around(
        site, site.layout.machines[built], point.key,
        [("prerouting", -300), ("output", -300)], [("input", 300), ("postrouting", 300)], interface,
    )  # fmt: skip


def _tap_arrivals(site: Site, machine: Machine) -> None:
    """What is meant for the machine itself and what gets in; what an appliance passes on may still be stopped."""
    _around(site, machine, None, [("prerouting", -300)], [("input", 300)], "", "fib daddr type local ")


def _around(
    site: Site,
    machine: Machine,
    key: str | None,
    seen: list[tuple[str, int]],
    passed: list[tuple[str, int]],
    interface: str,
    narrowed: str = "",
) -> None:
    """Log at hooks in front of all filters and behind them, of one interface or of all but the loopback."""
    before = site.layout.log(machine, key, False)
    behind = site.layout.log(machine, key, True)
    for hooks, statement in ((seen, before), (passed, behind)):
        for hook, priority in hooks:
            which = f'"{interface}"' if interface else '!= "lo"'
            lines = [f"{narrowed}{side} {which} {statement}" for side in _sides(hook, interface)]
            name = f"tap-{len(machine.rules)}-{hook}"
            machine.rules += base_chain(name, hook, priority, [*_FOREIGN, *lines])


def _sides(hook: str, interface: str) -> list[str]:
    """Which of a packet's interfaces to ask at a hook: at postrouting of one interface both, since what it took in
    and passed on leaves by another."""
    if hook in ("prerouting", "input"):
        return ["iifname"]
    return ["oifname", "iifname"] if hook == "postrouting" and interface else ["oifname"]
