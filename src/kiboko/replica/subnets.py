"""A subnet: its router, its filter, its route table, and a cable to the core for each kind of next hop."""

from __future__ import annotations

from kiboko.core.header.addresses import Prefix
from kiboko.core.network.model import Gateway, Interface, Subnet
from kiboko.replica.kernel_rules import ROUTERS4, ROUTERS6, first_chain
from kiboko.replica.layout import Machine, ReplicaEnd
from kiboko.replica.site import ARRIVING, GATEWAY4, GATEWAY6, NEIGHBOUR_DISCOVERY, Site, base_chain, chain


def add_router(site: Site, subnet: Subnet) -> None:
    """Make the router of a subnet, with the subnet's filter at its edge."""
    router = site.routers[subnet.name]
    site.layout.homes[subnet.name] = router.name
    router.commands += [
        "link add br0 type bridge",
        "link set br0 up",
        f"addr add {GATEWAY4}/32 dev br0",
        f"addr add {GATEWAY6}/128 dev br0 nodad",
    ]
    for block in subnet.blocks:
        router.route(str(block), "dev br0")
        router.route(str(block), "dev br0", ARRIVING)
    site.local_link[subnet.name] = site.uplink(subnet, "local", 0)[1]
    if subnet.filter is not None:
        chosen = site.topology.filters[subnet.filter]
        router.rules = [
            # What leaves is asked before the look-up, what enters behind it (S7).
            *base_chain("departures", "prerouting", -190, ['iifname "br0" jump leaving']),
            *base_chain("arrivals", "forward", 0, ['iifname != "br0" oifname "br0" jump entering']),
            *chain("leaving", [NEIGHBOUR_DISCOVERY, *first_chain(site.peers, chosen, "out", 1)]),
            *chain("entering", first_chain(site.peers, chosen, "in", 1)),
        ]  # fmt: skip


def add_routes(site: Site, subnet: Subnet) -> None:
    """Give the router of a subnet its table, with a cable for each next hop."""
    router = site.routers[subnet.name]
    for prefix, entry in site.winners(subnet).items():
        if any(block.covers(prefix) for block in subnet.blocks):
            continue  # what is in the subnet is on the bridge, whatever the table says (S8)
        six = prefix.family == 6
        if entry is not None and entry.discard:
            router.route(f"blackhole {prefix}", "")
            continue
        if entry is not None and entry.instance is not None:
            _route_by_hop(site, router, subnet, prefix, site.next_hop(entry))
            continue
        end = (
            site.uplinks[subnet.name]["local"] if entry is None else _link_to_gateway(site, subnet, entry.gateway or "")
        )
        router.route(str(prefix), end.via(six))


def _route_by_hop(site: Site, router: Machine, subnet: Subnet, prefix: Prefix, hop: Interface) -> None:
    """By an instance; one that is stopped or does not forward swallows all but what is for itself (S30, S31)."""
    instance = site.topology.instances[hop.instance]
    six = prefix.family == 6
    if hop.subnet == subnet.name:
        way = f"via {hop.address(prefix.family)} dev br0 onlink"
    else:
        way = _link_to_hop(site, subnet, hop).via(six)
    if instance.running and instance.forwards:
        router.route(str(prefix), way)
        return
    router.route(f"blackhole {prefix}", "")
    for interface in instance.interfaces:
        for address in interface.addresses:
            winner = max((p for p in site.winners(subnet) if address in p), key=lambda p: p.length, default=None)
            if instance.running and winner == prefix and address not in subnet:
                router.route(f"{address}/{128 if six else 32}", way)


def _new_link(site: Site, subnet: Subnet, key: str) -> tuple[ReplicaEnd, str, int] | None:
    """A further cable for one kind of next hop: our end, the core's device, its routing table."""
    known = site.uplinks[subnet.name]
    if key in known:
        return None
    router_end, core_end = site.uplink(subnet, key, len(known))
    known[key] = router_end
    table = site.next_table()
    site.core.both(f"rule add iif {core_end.device} lookup {table} priority {table}")
    return router_end, core_end.device, table


def _link_to_hop(site: Site, subnet: Subnet, hop: Interface) -> ReplicaEnd:
    key = f"hop {hop.name}"
    made = _new_link(site, subnet, key)
    if made is not None:
        _, _, table = made
        target = site.topology.subnets[hop.subnet]
        router = site.routers[target.name]
        core_device = f"c{len(site.zone_of_device)}"
        core_end, far = site.layout.join(site.core, core_device, router, f"h{len(site.layout.cables)}")
        site.zone_of_device[core_device] = target.zone
        hop_table = site.next_table()
        router.both(f"rule add iif {far.device} lookup {hop_table} priority {hop_table}")
        for address in hop.addresses:
            six = address.family == 6
            every = "::/0" if six else "0.0.0.0/0"
            site.core.route(every, core_end.via(six), table)
            router.route(every, f"via {address} dev br0 onlink", hop_table)
    return site.uplinks[subnet.name][key]


def _link_to_gateway(site: Site, subnet: Subnet, name: str) -> ReplicaEnd:
    made = _new_link(site, subnet, name)
    if made is not None:
        _, device, table = made
        gateway = site.topology.gateways[name]
        blocks = site.topology.networks[subnet.network].blocks
        for family, keyword, routers in ((4, "ip", [ROUTERS4]), (6, "ip6", [ROUTERS6, "fe80::/10"])):
            own = [str(block) for block in blocks if block.family == family]
            allowed = ", ".join([*own, *routers])  # the routers' own: refusals, neighbour discovery
            site.source_rules.append(f'iifname "{device}" {keyword} saddr != {{ {allowed} }} drop')
        _carry(site, gateway, subnet, table)
    return site.uplinks[subnet.name][name]


def _carry(site: Site, gateway: Gateway, subnet: Subnet, table: int) -> None:
    """What a gateway takes from a subnet of one of its networks (S26, S28)."""
    for every in ("0.0.0.0/0", "::/0"):
        site.core.route(f"blackhole {every}", "", table)
    if gateway.kind == "peering":
        for other in gateway.networks:
            if other != subnet.network:
                site.local_routes(other, table)
        return
    if gateway.kind == "tunnel":
        outside = site.topology.outsides[gateway.outside or ""]
        for prefix in outside.prefixes:
            site.core.route(str(prefix), site.tunnels[gateway.name].via(prefix.family == 6), table)
        for other_outside in site.topology.outsides.values():
            for prefix in other_outside.prefixes:
                if other_outside.name != outside.name and any(o.covers(prefix) for o in outside.prefixes):
                    site.core.route(f"blackhole {prefix}", "", table)
    else:
        end = site.gateway_link[gateway.name]
        site.core.route("0.0.0.0/0", end.via(False), table)
        if gateway.kind == "internet":
            site.core.route("::/0", end.via(True), table)
    for network in site.topology.networks.values():
        for block in network.blocks:
            is_led_to = gateway.kind == "internet" or block.family == 4
            if not (is_led_to and block in site.public_blocks(network.name)):
                site.core.route(f"blackhole {block}", "", table)
        for block in network.public:
            if gateway.kind in ("internet", "nat") and block not in network.blocks:
                site.core.route(str(block), site.gateway_link[gateway.name].via(False), table)
