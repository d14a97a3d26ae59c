"""Gateways that translate, tunnels, outsides, and the internet between them."""

from __future__ import annotations

from collections.abc import Sequence

from kiboko.core.header.addresses import Prefix
from kiboko.core.network.model import Gateway, Outside
from kiboko.replica.instances import block_sender, listen
from kiboko.replica.kernel_rules import ROUTERS4, ROUTERS6, first_chain
from kiboko.replica.layout import Machine
from kiboko.replica.site import NEIGHBOUR_DISCOVERY, Site, base_chain, chain


def add_gateway(site: Site, name: str, gateway: Gateway) -> None:
    """Make an internet or nat gateway between the core and the internet (S28)."""
    machine = site.layout.machine(name, f"gateway {gateway.name}", forwards=True)
    core_end, inner = site.layout.join(site.core, f"p{name}", machine, "inner")
    outer, net_end = site.layout.join(machine, "outer", site.internet, f"n{name}")
    site.gateway_link[gateway.name] = core_end
    site.gateway_machines[gateway.name] = machine
    site.layout.homes[gateway.name] = name
    site.public_devices.append(core_end.device)
    networks = [site.topology.networks[name] for name in gateway.networks]
    site.route_in(core_end.device, gateway.networks)
    for every in ("0.0.0.0/0", "::/0"):
        machine.route(every, outer.via(":" in every))
    for block in (block for network in networks for block in network.blocks):
        machine.route(str(block), inner.via(block.family == 6))
    pairs = {
        network.name: [
            (str(private), str(interface.public))
            for interface in site.interfaces_of(network.name)
            if interface.public is not None and (private := interface.address(4)) is not None
        ]
        for network in networks
    }
    if gateway.kind == "nat":
        _add_shared(site, machine, gateway)
        site.internet.route(f"{gateway.address}/32", net_end.via(False))
        return
    translated = [pair for each in pairs.values() for pair in each]
    _add_one_to_one(machine, translated, [block for network in networks for block in network.public])
    for network in networks:
        if gateway is site.first_internet(network.name):
            for _, public in pairs[network.name]:
                site.internet.route(f"{public}/32", net_end.via(False))
            for public_block in site.public_blocks(network.name):
                site.internet.route(str(public_block), net_end.via(public_block.family == 6))


def _add_one_to_one(machine: Machine, pairs: list[tuple[str, str]], public: Sequence[Prefix]) -> None:
    """1:1 translation, but for blocks that are public as they are; what has no public address, or no global one, does
    not get out (S28)."""
    inside, as_they_are = (f"{{ {', '.join(map(str, each))} }}" for each in ([private for private, _ in pairs], public))
    # A packet that no request was seen of cannot be translated, and only that: it may have gone another way (S26). Of
    # a router's message about one (RFC 792) the packet's destination stands 24 octets into it.
    passing = [
        f'iifname "inner" ip saddr {as_they_are} accept', f'iifname "outer" ip daddr {as_they_are} accept',
        *(f'iifname "inner" ip saddr {ROUTERS4} icmp type != echo-request'
          f" @th,192,{each.length} {each.value >> 32 - each.length:#x} accept" for each in public),
    ]  # fmt: skip
    machine.rules = [
        "chain forward { type filter hook forward priority 0; policy accept;",
        "ct state established,related accept", *(passing if public else []), "meta nfproto ipv4 ct state invalid drop",
        f'iifname "inner" ip saddr != {inside} drop' if pairs else 'iifname "inner" meta nfproto ipv4 drop',
        f'iifname "outer" ip daddr != {inside} drop' if pairs else 'iifname "outer" meta nfproto ipv4 drop',
        f'iifname "inner" ip6 saddr != {ROUTERS6} ip6 saddr {{ fc00::/7, fe80::/10 }} drop', "}",
    ]  # fmt: skip
    if public:
        # What goes out as it is and comes in again for another one's public address is not taken for what went out.
        machine.rules += [
            "chain again { type filter hook prerouting priority -300; policy accept;",
            'iifname "outer" ct original zone set 2', "}",
        ]  # fmt: skip
    if pairs:
        out = ", ".join(f"{private} : {public}" for private, public in pairs)
        back = ", ".join(f"{public} : {private}" for private, public in pairs)
        machine.rules += [
            "chain arriving { type nat hook prerouting priority -100; policy accept;",
            f'iifname "outer" dnat ip to ip daddr map {{ {back} }}', "}",
            "chain leaving { type nat hook postrouting priority 100; policy accept;",
            f'oifname "outer" snat ip to ip saddr map {{ {out} }}', "}",
        ]  # fmt: skip


def _add_shared(site: Site, machine: Machine, gateway: Gateway) -> None:
    """One shared address outbound; only replies come in, IPv6 does not pass (S28)."""
    machine.rules = [
        "chain forward { type filter hook forward priority 0; policy accept;", "meta nfproto ipv6 drop",
        "ct state established,related accept", "ct state invalid drop", 'iifname "outer" drop', "}",
        "chain leaving { type nat hook postrouting priority 100; policy accept;",
        f'oifname "outer" meta nfproto ipv4 snat ip to {gateway.address}', "}",
    ]  # fmt: skip


def add_outside(site: Site, name: str, outside: Outside) -> None:
    """Make an outside, with its filter at its own edge and a cable for each tunnel (S10)."""
    machine = site.layout.machine(name, f"outside {outside.name}")
    site.layout.homes[outside.name] = name
    edge, net_end = site.layout.join(machine, "site", site.internet, f"n{name}")
    for every in ("0.0.0.0/0", "::/0"):
        machine.route(every, edge.via(":" in every))
    for prefix in outside.prefixes:
        site.internet.route(str(prefix), net_end.via(prefix.family == 6))
    for address in site.layout.outside_addresses.get(outside.name, []):
        length = 128 if ":" in address else 32
        machine.commands.append(f"addr add {address}/{length} dev lo" + (" nodad" if length == 128 else ""))
    devices = ["site"]
    for gateway in site.topology.gateways.values():
        if gateway.kind == "tunnel" and gateway.outside == outside.name:
            device = f"t{len(site.tunnels)}"
            site_end, core_end = site.layout.join(machine, device, site.core, f"q{len(site.tunnels)}")
            site.tunnels[gateway.name] = core_end
            site.zone_of_device[core_end.device] = outside.zone
            site.route_in(core_end.device, gateway.networks)
            devices.append(device)
            for block in (block for each in gateway.networks for block in site.topology.networks[each].blocks):
                machine.route(str(block), site_end.via(block.family == 6))
    listen(site, machine, None, site.layout.outside_addresses.get(outside.name, []))
    if outside.filter is not None:
        chosen = site.topology.filters[outside.filter]
        names = "{ " + ", ".join(f'"{device}"' for device in devices) + " }"
        machine.rules = [
            *base_chain("input", "input", 0, [f"iifname {names} jump entering"]),
            *base_chain("output", "output", 0, [f"oifname {names} jump leaving"]),
            *chain("entering", [NEIGHBOUR_DISCOVERY, *first_chain(site.peers, chosen, "in", 1)]),
            *chain("leaving", [NEIGHBOUR_DISCOVERY, *first_chain(site.peers, chosen, "out", 1)]),
        ]  # fmt: skip
    block_sender(site, machine, outside.name)


def add_internet_routes(site: Site) -> None:
    """No private block is known to the internet (S26)."""
    for network in site.topology.networks.values():
        public = site.public_blocks(network.name) if site.first_internet(network.name) else []
        for block in network.blocks:
            if block not in public:
                site.internet.route(f"blackhole {block}", "")
