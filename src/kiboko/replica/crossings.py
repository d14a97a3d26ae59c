"""The core: delivery inside each network, the way back of its own refusals, and the zone filters."""

from __future__ import annotations

from collections.abc import Callable

from kiboko.replica.kernel_rules import MARK_BITS, first_chain, let_back, mark, state_set, tracked, verdict_lines
from kiboko.replica.layout import ReplicaEnd
from kiboko.replica.site import GATEWAY4, GATEWAY6, ROUTER_MAC, Site, base_chain, chain
from kiboko.replica.taps import crossing_taps


def add_core(site: Site) -> None:
    """Finish the core, once everything that is joined to it is there."""
    for network, table in site.pending_local:
        site.local_routes(network, table)
    for subnet in site.subnets:
        for block in subnet.blocks:
            site.core.route(str(block), site.local_link[subnet.name].via(block.family == 6))
    for tunnel, end in site.tunnels.items():
        _mark_way_back(site, end, 0x200 + list(site.tunnels).index(tunnel))
    for number, end in enumerate(site.gateway_link.values()):
        _mark_way_back(site, end, 0x100 + number)
    for router in site.routers.values():
        # Before its neighbours are noted: a new address of its own makes the kernel forget them.
        router.commands.append(f"link set br0 address {ROUTER_MAC}")
    for subnet_name, known in site.neighbours.items():
        router = site.routers[subnet_name]
        for address, mac, machine_name, device in known:
            router.commands.append(f"neigh replace {address} lladdr {mac} dev br0 nud permanent")
            for other, other_mac, _, _ in known:
                if other != address and (":" in other) == (":" in address):
                    site.layout.machines[machine_name].commands.append(
                        f"neigh replace {other} lladdr {other_mac} dev {device} nud permanent"
                    )
            gateway = GATEWAY6 if ":" in address else GATEWAY4
            site.layout.machines[machine_name].commands.append(
                f"neigh replace {gateway} lladdr {ROUTER_MAC} dev {device} nud permanent"
            )
    _zone_rules(site)


def _mark_way_back(site: Site, end: ReplicaEnd, number: int) -> None:
    """What the core itself refuses goes back by the gateway that it came from (S34): the refusal bears the
    packet's mark."""
    site.mark_rules.append(f'iifname "{end.device}" meta mark set {number:#x}')
    table = site.next_table()
    site.core.both(f"rule add fwmark {number:#x} iif lo lookup {table} priority {table}")
    for every in ("0.0.0.0/0", "::/0"):
        site.core.route(every, end.via(":" in every), table)


def _zone_rules(site: Site) -> None:
    """Crossings, each with a bit of its own in the connection's mark (S22)."""
    zones = list(site.topology.zones)
    pairs = [(x, y) for x in zones for y in zones]
    # Where the bits of a mark are too few, connections are kept in sets, a set for each crossing.
    first = 0 if len(pairs) <= MARK_BITS else MARK_BITS
    bits = {pair: 1 << first + index for index, pair in enumerate(pairs)}
    crossings = {(each.source, each.destination): each.filter for each in site.topology.crossings}
    chains: list[str] = []
    defaults = site.topology.defaults
    for (x, y), bit in bits.items():
        if (x, y) in crossings:
            body = first_chain(site.peers, site.topology.filters[crossings[(x, y)]], "in", bit, bits[(y, x)])
        else:
            action = defaults.same_zone if x == y else defaults.between_zones
            body = [let_back(bits[(y, x)]), *([mark(bit)] if action == "allow" else []), *verdict_lines("", action)]
        name, body = f"cross-{_safe(x)}-{_safe(y)}", [*_late_resets(bits[(y, x)]), *body]
        before, behind = crossing_taps(site, x, y)
        if before:
            chains += chain(f"rules-of-{name}", body)
            body = [*before, f"jump rules-of-{name}", *behind]
        chains += chain(name, body)
    by_zone: dict[str, list[str]] = {}
    for device, zone in site.zone_of_device.items():
        if zone is not None:
            by_zone.setdefault(zone, []).append(device)
    public = "{ " + ", ".join(f'"{device}"' for device in site.public_devices) + " }"
    for x in zones:
        body = [f"oifname {_devices(devices)} goto cross-{_safe(x)}-{_safe(y)}" for y, devices in by_zone.items()]
        if site.public_devices:
            body.append(f"oifname {public} goto out-{_safe(x)}")
        chains += chain(f"out-{_safe(x)}", _by_outside(site, "daddr", _to_crossing(x)))
        chains += chain(f"from-{_safe(x)}", body)
    entry = [f"iifname {_devices(devices)} jump from-{_safe(x)}" for x, devices in by_zone.items()]
    if site.public_devices:
        chains += chain("arriving", _by_outside(site, "saddr", lambda x: f"goto from-{_safe(x)}"))
        entry.append(f"iifname {public} jump arriving")
    remembered, noting = _remembered(list(bits.values()))
    site.core.rules = [
        *remembered,
        *chains,
        *base_chain("remember", "postrouting", 0, noting),
        *base_chain("marks", "prerouting", -195, site.mark_rules),
        *base_chain("sources", "prerouting", -190, site.source_rules),
        *base_chain("zones", "forward", 0, entry),
    ]  # fmt: skip


def _remembered(bits: list[int]) -> tuple[list[str], list[str]]:
    """For each crossing, the TCP connections that it tracks, in sets of our own.

    Connection tracking forgets a connection at once when its first answer is a reset, so that a reset which passes
    the core a second time, by way of an appliance, would not be known there any more.
    """
    declared, noting = [], []
    for bit in bits:
        for kind, keyword in (("ipv4_addr", "ip"), ("ipv6_addr", "ip6")):
            elements = f"{kind} . inet_service . {kind} . inet_service"
            declared.append(f"set {_tcp_set(keyword, bit)} {{ type {elements}; flags dynamic; size 65535; }}")
            tuple_ = f"{keyword} saddr . tcp sport . {keyword} daddr . tcp dport"
            noting.append(f"ct direction original {tracked(bit)} add @{_tcp_set(keyword, bit)} {{ {tuple_} }}")
        if bit.bit_length() > MARK_BITS:
            declared.append(f"set {state_set(bit)} {{ typeof ct id; flags dynamic; size 65535; }}")
    return declared, noting


def _late_resets(bit: int) -> list[str]:
    """A reset of a connection that was tracked here, though connection tracking knows it no more."""
    return [
        f"tcp flags & rst == rst ct state invalid {keyword} daddr . tcp dport . {keyword} saddr . tcp sport"
        f" @{_tcp_set(keyword, bit)} return"
        for keyword in ("ip", "ip6")
    ]


def _tcp_set(keyword: str, bit: int) -> str:
    return f"tcp-{keyword}-{bit.bit_length()}"


def _by_outside(site: Site, side: str, verdict: Callable[[str], str]) -> list[str]:
    """A decision by the outside that an address belongs to, the longest prefix first; none: open."""
    pairs = [(prefix, outside) for outside in site.topology.outsides.values() for prefix in outside.prefixes]
    lines = []
    for prefix, outside in sorted(pairs, key=lambda pair: -pair[0].length):
        keyword = "ip" if prefix.family == 4 else "ip6"
        match = f"{keyword} {side} {prefix}" if prefix.length else f"meta nfproto ipv{prefix.family}"
        lines.append(f"{match} {verdict(outside.zone)}" if outside.zone is not None else f"{match} return")
    return lines


def _devices(devices: list[str]) -> str:
    return "{ " + ", ".join(f'"{device}"' for device in devices) + " }"


def _to_crossing(source: str) -> Callable[[str], str]:
    return lambda destination: f"goto cross-{_safe(source)}-{_safe(destination)}"


def _safe(name: str) -> str:
    return "z" + name.replace(".", "_")
