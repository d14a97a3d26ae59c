"""From a network file to a blueprint: which namespaces, how joined, how routed.

Every instance is a machine. Every subnet has a router, where its filter and its route table are; a cable of its
own leads from there to the core for each kind of next hop, so that the core knows which one was chosen. The core has
the zone filters and hands on what gateways, peerings and tunnels carry. Gateways translate; the machine `net` is the
internet between gateways and outsides; each outside is a machine with its filter at its own edge.
"""

from __future__ import annotations

from collections.abc import Callable

from kiboko.core.addresses import Address, Prefix, is_global_ipv6
from kiboko.core.errors import UsageError
from kiboko.core.model import Gateway, Instance, Interface, Outside, RouteEntry, Subnet, Topology
from kiboko.replica.blueprint import Blueprint, End, Machine
from kiboko.replica.kernel_rules import (
    ROUTERS4,
    ROUTERS6,
    any_chain,
    first_chain,
    let_back,
    mark,
    tracking,
    verdict_lines,
)
from kiboko.replica.peers import filters_of

GATEWAY4, GATEWAY6 = "100.127.255.254", "fd7f:7f7f:ffff::1"
_ARRIVING = 90  # the table of what comes in to a subnet: delivered, no entry of its own table is asked (S26)
_RANK = {"manual": 0, "platform": 1, "local": 2}
_NEIGHBOUR_DISCOVERY = "icmpv6 type { 133-137 } return"


def lay_out(topology: Topology, services: list[tuple[str, int]], outside_addresses: dict[str, list[str]]) -> Blueprint:
    """The blueprint of a network; `services` are the `(protocol, port)` pairs that machines whose listeners are not
    known answer on, `outside_addresses` the addresses that stand for each outside."""
    layout = _Layout(topology, services)
    layout.blueprint.outside_addresses = outside_addresses
    layout.build()
    return layout.blueprint


class _Layout:
    def __init__(self, topology: Topology, services: list[tuple[str, int]]) -> None:
        self.topology = topology
        self.services = services
        self.blueprint = Blueprint()
        self.core = self.blueprint.machine("core", "core", forwards=True)
        self.internet = self.blueprint.machine("net", "the internet", forwards=True)
        self.routers: dict[str, Machine] = {}
        self.local_link: dict[str, End] = {}
        self.zone_of_device: dict[str, str | None] = {}
        self.public_devices: list[str] = []
        self.table = 100
        self.source_rules: list[str] = []
        self.mark_rules: list[str] = []
        self.uplinks: dict[str, dict[str, End]] = {}
        self.gateway_link: dict[str, End] = {}
        self.tunnels: dict[str, End] = {}
        self.pending_local: list[tuple[str, int]] = []
        self.neighbours: dict[str, list[tuple[str, str, str, str]]] = {}

    def build(self) -> None:
        self.check_ranges()
        for index, subnet in enumerate(self.topology.subnets.values()):
            self.routers[subnet.name] = self.blueprint.machine(f"s{index}", f"router of {subnet.name}", forwards=True)
            self.add_router(subnet)
        for index, gateway in enumerate(self.topology.gateways.values()):
            if gateway.kind in ("internet", "nat"):
                self.add_gateway(f"g{index}", gateway)
        for index, outside in enumerate(self.topology.outsides.values()):
            self.add_outside(f"o{index}", outside)
        for index, instance in enumerate(self.topology.instances.values()):
            self.add_instance(f"i{index}", instance)
        for subnet in self.topology.subnets.values():
            self.add_routes(subnet)
        self.add_core()
        self.add_internet_routes()

    def check_ranges(self) -> None:
        own = Prefix(4, int.from_bytes(bytes((100, 127, 0, 0)), "big"), 16)
        for network in self.topology.networks.values():
            for block in network.blocks:
                if block.overlaps(own):
                    raise UsageError(
                        f"network {network.name} uses {block}; the replica needs {ROUTERS4} for its own routers"
                    )

    def next_table(self) -> int:
        self.table += 1
        return self.table

    # Subnets.

    def add_router(self, subnet: Subnet) -> None:
        router = self.routers[subnet.name]
        router.commands += [
            "link add br0 type bridge",
            "link set br0 up",
            f"addr add {GATEWAY4}/32 dev br0",
            f"addr add {GATEWAY6}/128 dev br0 nodad",
        ]
        for block in subnet.blocks:
            router.route(str(block), "dev br0")
            router.route(str(block), "dev br0", _ARRIVING)
        self.local_link[subnet.name] = self.uplink(subnet, "local", 0)[1]
        if subnet.filter is not None:
            chosen = self.topology.filters[subnet.filter]
            router.rules = [
                # What leaves is asked before the look-up, what enters behind it (S7).
                *_base("departures", "prerouting", -190, ['iifname "br0" jump leaving']),
                *_base("arrivals", "forward", 0, ['iifname != "br0" oifname "br0" jump entering']),
                *_chain("leaving", [_NEIGHBOUR_DISCOVERY, *first_chain(self.topology, chosen, "out", 1)]),
                *_chain("entering", first_chain(self.topology, chosen, "in", 1)),
            ]  # fmt: skip

    def uplink(self, subnet: Subnet, kind: str, number: int) -> tuple[End, End]:
        """A cable from a subnet's router to the core; its device at the core belongs to the subnet's zone."""
        router = self.routers[subnet.name]
        device = f"c{len(self.zone_of_device)}"
        made = self.blueprint.join(router, f"u{number}", self.core, device)
        self.zone_of_device[device] = subnet.zone
        router.both(f"rule add iif u{number} lookup {_ARRIVING} priority {50 + number}")
        if kind == "local":
            self.uplinks.setdefault(subnet.name, {})["local"] = made[0]
            self.route_in(device, subnet.network)
        return made

    def winners(self, subnet: Subnet) -> dict[Prefix, RouteEntry | None]:
        """The entry that wins for each prefix of a subnet's table; None is local (S25)."""
        found: dict[Prefix, RouteEntry | None] = dict.fromkeys(self.topology.networks[subnet.network].blocks)
        entries = self.topology.route_tables[subnet.route_table].entries if subnet.route_table else ()
        for entry in sorted(entries, key=lambda each: -_RANK[each.origin]):
            found[entry.to] = entry
        return found

    def next_hop(self, entry: RouteEntry) -> Interface:
        instance = self.topology.instances[entry.instance or ""]
        if entry.interface is not None:
            return next(each for each in instance.interfaces if each.name == entry.interface)
        return next((i for i in instance.interfaces if i.address(entry.to.family)), instance.interfaces[0])

    def add_routes(self, subnet: Subnet) -> None:
        router = self.routers[subnet.name]
        for prefix, entry in self.winners(subnet).items():
            if any(block.covers(prefix) for block in subnet.blocks):
                continue  # what is in the subnet is on the bridge, whatever the table says (S8)
            six = prefix.family == 6
            if entry is not None and entry.discard:
                router.route(f"blackhole {prefix}", "")
                continue
            if entry is not None and entry.instance is not None:
                self.route_by_hop(router, subnet, prefix, self.next_hop(entry))
                continue
            end = (
                self.uplinks[subnet.name]["local"]
                if entry is None
                else self.link_to_gateway(subnet, entry.gateway or "")
            )
            router.route(str(prefix), end.via(six))

    def route_by_hop(self, router: Machine, subnet: Subnet, prefix: Prefix, hop: Interface) -> None:
        """By an instance; one that is stopped or does not forward swallows all but what is for itself (S30, S31)."""
        instance = self.topology.instances[hop.instance]
        six = prefix.family == 6
        if hop.subnet == subnet.name:
            way = f"via {hop.address(prefix.family)} dev br0 onlink"
        else:
            way = self.link_to_hop(subnet, hop).via(six)
        if instance.running and instance.forwards:
            router.route(str(prefix), way)
            return
        router.route(f"blackhole {prefix}", "")
        for interface in instance.interfaces:
            for address in interface.addresses:
                winner = max((p for p in self.winners(subnet) if address in p), key=lambda p: p.length, default=None)
                if instance.running and winner == prefix and address not in subnet:
                    router.route(f"{address}/{128 if six else 32}", way)

    def new_link(self, subnet: Subnet, key: str) -> tuple[End, str, int] | None:
        """A further cable for one kind of next hop: our end, the core's device, its routing table."""
        known = self.uplinks[subnet.name]
        if key in known:
            return None
        router_end, core_end = self.uplink(subnet, key, len(known))
        known[key] = router_end
        table = self.next_table()
        self.core.both(f"rule add iif {core_end.device} lookup {table} priority {table}")
        return router_end, core_end.device, table

    def link_to_hop(self, subnet: Subnet, hop: Interface) -> End:
        key = f"hop {hop.name}"
        made = self.new_link(subnet, key)
        if made is not None:
            _, _, table = made
            target = self.topology.subnets[hop.subnet]
            router = self.routers[target.name]
            core_device = f"c{len(self.zone_of_device)}"
            core_end, far = self.blueprint.join(self.core, core_device, router, f"h{len(self.blueprint.cables)}")
            self.zone_of_device[core_device] = target.zone
            hop_table = self.next_table()
            router.both(f"rule add iif {far.device} lookup {hop_table} priority {hop_table}")
            for address in hop.addresses:
                six = address.family == 6
                every = "::/0" if six else "0.0.0.0/0"
                self.core.route(every, core_end.via(six), table)
                router.route(every, f"via {address} dev br0 onlink", hop_table)
        return self.uplinks[subnet.name][key]

    def link_to_gateway(self, subnet: Subnet, name: str) -> End:
        made = self.new_link(subnet, name)
        if made is not None:
            _, device, table = made
            gateway = self.topology.gateways[name]
            blocks = self.topology.networks[subnet.network].blocks
            for family, keyword, routers in ((4, "ip", [ROUTERS4]), (6, "ip6", [ROUTERS6, "fe80::/10"])):
                own = [str(block) for block in blocks if block.family == family]
                allowed = ", ".join([*own, *routers])  # the routers' own: refusals, neighbour discovery
                self.source_rules.append(f'iifname "{device}" {keyword} saddr != {{ {allowed} }} drop')
            self.carry(gateway, subnet, table)
        return self.uplinks[subnet.name][name]

    def carry(self, gateway: Gateway, subnet: Subnet, table: int) -> None:
        """What a gateway takes from a subnet of one of its networks (S26, S28)."""
        for every in ("0.0.0.0/0", "::/0"):
            self.core.route(f"blackhole {every}", "", table)
        if gateway.kind == "peering":
            other = next(name for name in gateway.networks if name != subnet.network)
            self.local_routes(other, table)
            return
        if gateway.kind == "tunnel":
            outside = self.topology.outsides[gateway.outside or ""]
            for prefix in outside.prefixes:
                self.core.route(str(prefix), self.tunnel_end(gateway).via(prefix.family == 6), table)
            for other_outside in self.topology.outsides.values():
                for prefix in other_outside.prefixes:
                    if other_outside.name != outside.name and any(o.covers(prefix) for o in outside.prefixes):
                        self.core.route(f"blackhole {prefix}", "", table)
        else:
            end = self.gateway_link[gateway.name]
            self.core.route("0.0.0.0/0", end.via(False), table)
            if gateway.kind == "internet":
                self.core.route("::/0", end.via(True), table)
        for network in self.topology.networks.values():
            for block in network.blocks:
                first = Address(block.family, block.value)
                if not (gateway.kind == "internet" and is_global_ipv6(first)):
                    self.core.route(f"blackhole {block}", "", table)

    def local_routes(self, network: str, table: int) -> None:
        """The core delivers to the subnets of a network; what lies between them is unreachable."""
        for block in self.topology.networks[network].blocks:
            self.core.route(f"unreachable {block}", "", table)
        for subnet in self.topology.subnets.values():
            if subnet.network == network:
                for block in subnet.blocks:
                    self.core.route(str(block), self.local_link[subnet.name].via(block.family == 6), table)

    def route_in(self, device: str, network: str) -> None:
        """What comes in over a device is delivered locally; no table of the network is asked (S26)."""
        table = self.next_table()
        self.core.both(f"rule add iif {device} lookup {table} priority {table}")
        for every in ("0.0.0.0/0", "::/0"):
            self.core.route(f"blackhole {every}", "", table)
        self.pending_local.append((network, table))

    # Gateways, tunnels, outsides.

    def add_gateway(self, name: str, gateway: Gateway) -> None:
        machine = self.blueprint.machine(name, f"gateway {gateway.name}", forwards=True)
        core_end, inner = self.blueprint.join(self.core, f"p{name}", machine, "inner")
        outer, net_end = self.blueprint.join(machine, "outer", self.internet, f"n{name}")
        self.gateway_link[gateway.name] = core_end
        self.public_devices.append(core_end.device)
        network = gateway.networks[0]
        self.route_in(core_end.device, network)
        for every in ("0.0.0.0/0", "::/0"):
            machine.route(every, outer.via(":" in every))
        for block in self.topology.networks[network].blocks:
            machine.route(str(block), inner.via(block.family == 6))
        pairs = [
            (str(private), str(interface.public))
            for interface in self.interfaces_of(network)
            if interface.public is not None and (private := interface.address(4)) is not None
        ]
        if gateway.kind == "nat":
            self.add_shared(machine, gateway)
            self.internet.route(f"{gateway.address}/32", net_end.via(False))
            return
        self.add_one_to_one(machine, pairs)
        if gateway is self.first_internet(network):
            for _, public in pairs:
                self.internet.route(f"{public}/32", net_end.via(False))
            for block in self.topology.networks[network].blocks:
                if block.family == 6 and is_global_ipv6(Address(6, block.value)):
                    self.internet.route(str(block), net_end.via(True))

    def first_internet(self, network: str) -> Gateway | None:
        return next(
            (g for g in self.topology.gateways.values() if g.kind == "internet" and network in g.networks), None
        )

    def interfaces_of(self, network: str) -> list[Interface]:
        subnets = {each.name for each in self.topology.subnets.values() if each.network == network}
        return [i for each in self.topology.instances.values() for i in each.interfaces if i.subnet in subnets]

    def add_one_to_one(self, machine: Machine, pairs: list[tuple[str, str]]) -> None:
        """1:1 translation; what has no public address, or no global one, does not get out (S28)."""
        inside = "{ " + ", ".join(private for private, _ in pairs) + " }"
        machine.rules = [
            "chain forward { type filter hook forward priority 0; policy accept;",
            "ct state established,related accept", "meta nfproto ipv4 ct state invalid drop",
            f'iifname "inner" ip saddr != {inside} drop' if pairs else 'iifname "inner" meta nfproto ipv4 drop',
            f'iifname "outer" ip daddr != {inside} drop' if pairs else 'iifname "outer" meta nfproto ipv4 drop',
            'iifname "inner" ip6 saddr { fc00::/7, fe80::/10 } drop', "}",
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

    def add_shared(self, machine: Machine, gateway: Gateway) -> None:
        """One shared address outbound; only replies come in, IPv6 does not pass (S28)."""
        machine.rules = [
            "chain forward { type filter hook forward priority 0; policy accept;", "meta nfproto ipv6 drop",
            "ct state established,related accept", "ct state invalid drop", 'iifname "outer" drop', "}",
            "chain leaving { type nat hook postrouting priority 100; policy accept;",
            f'oifname "outer" meta nfproto ipv4 snat ip to {gateway.address}', "}",
        ]  # fmt: skip

    def tunnel_end(self, gateway: Gateway) -> End:
        return self.tunnels[gateway.name]

    def add_outside(self, name: str, outside: Outside) -> None:
        machine = self.blueprint.machine(name, f"outside {outside.name}")
        self.blueprint.homes[outside.name] = name
        site, net_end = self.blueprint.join(machine, "site", self.internet, f"n{name}")
        for every in ("0.0.0.0/0", "::/0"):
            machine.route(every, site.via(":" in every))
        for prefix in outside.prefixes:
            self.internet.route(str(prefix), net_end.via(prefix.family == 6))
        for address in self.blueprint.outside_addresses.get(outside.name, []):
            length = 128 if ":" in address else 32
            machine.commands.append(f"addr add {address}/{length} dev lo" + (" nodad" if length == 128 else ""))
        devices = ["site"]
        for gateway in self.topology.gateways.values():
            if gateway.kind == "tunnel" and gateway.outside == outside.name:
                device = f"t{len(self.tunnels)}"
                site_end, core_end = self.blueprint.join(machine, device, self.core, f"q{len(self.tunnels)}")
                self.tunnels[gateway.name] = core_end
                self.zone_of_device[core_end.device] = outside.zone
                self.route_in(core_end.device, gateway.networks[0])
                devices.append(device)
                for block in self.topology.networks[gateway.networks[0]].blocks:
                    machine.route(str(block), site_end.via(block.family == 6))
        self.listen(machine, None, self.blueprint.outside_addresses.get(outside.name, []))
        if outside.filter is not None:
            chosen = self.topology.filters[outside.filter]
            names = "{ " + ", ".join(f'"{device}"' for device in devices) + " }"
            machine.rules = [
                *_base("input", "input", 0, [f"iifname {names} jump entering"]),
                *_base("output", "output", 0, [f"oifname {names} jump leaving"]),
                *_chain("entering", [_NEIGHBOUR_DISCOVERY, *first_chain(self.topology, chosen, "in", 1)]),
                *_chain("leaving", [_NEIGHBOUR_DISCOVERY, *first_chain(self.topology, chosen, "out", 1)]),
            ]  # fmt: skip

    def add_internet_routes(self) -> None:
        for network in self.topology.networks.values():
            for block in network.blocks:
                is_public = (
                    block.family == 6 and is_global_ipv6(Address(6, block.value)) and self.first_internet(network.name)
                )
                if not is_public:
                    self.internet.route(f"blackhole {block}", "")

    # Instances.

    def add_instance(self, name: str, instance: Instance) -> None:
        machine = self.blueprint.machine(name, f"instance {instance.name}", forwards=instance.forwards)
        self.blueprint.homes[instance.name] = name
        for index, interface in enumerate(instance.interfaces):
            self.add_interface(machine, interface, index)
        self.route_instance(machine, instance)
        if not instance.running:
            machine.rules = [
                *_base("off", "prerouting", -400, ['iifname != "lo" drop']),
                *_base("mute", "output", -400, ['oifname != "lo" drop']),
            ]  # fmt: skip
            return
        self.filter_instance(machine, instance)
        addresses = [str(address) for interface in instance.interfaces for address in interface.addresses]
        self.listen(machine, instance, addresses)

    def add_interface(self, machine: Machine, interface: Interface, index: int) -> None:
        subnet = self.topology.subnets[interface.subnet]
        router = self.routers[subnet.name]
        device = interface.device
        port = f"b{len(self.blueprint.cables)}"
        cable = self.blueprint.plug(machine, device, router, port)
        router.commands.append(f"link set {port} master br0")
        for address in interface.addresses:
            block = subnet.block(address.family)
            assert block is not None
            six = address.family == 6
            machine.commands.append(f"addr add {address}/{block.length} dev {device}" + (" nodad" if six else ""))
            self.neighbours.setdefault(subnet.name, []).append((str(address), cable.one_mac, machine.name, device))

    def route_instance(self, machine: Machine, instance: Instance) -> None:
        """A machine's own packets go by the interface whose address they bear (S3); what it forwards goes by the
        rules of S30."""
        for index, interface in enumerate(instance.interfaces):
            table = 200 + index
            self.subnet_routes(machine, interface, table)
            for address in interface.addresses:
                machine.family(address.family == 6).append(
                    f"rule add from {address} iif lo lookup {table} priority {table}"
                )
        if instance.forwards:
            self.forwarding_routes(machine, instance)
        else:
            # Refusals that the kernel makes in prerouting look their way up without an address of their own.
            for interface in reversed(instance.interfaces):
                self.subnet_routes(machine, interface, None)

    def subnet_routes(self, machine: Machine, interface: Interface, table: int | None) -> None:
        """The routes of one interface: neighbours direct, next hops in the subnet direct, the rest by its router."""
        subnet = self.topology.subnets[interface.subnet]
        for family, router in ((4, GATEWAY4), (6, GATEWAY6)):
            block = subnet.block(family)
            if block is None or interface.address(family) is None:
                continue
            six = family == 6
            machine.route(str(block), f"dev {interface.device}", table)
            machine.route("::/0" if six else "0.0.0.0/0", f"via {router} dev {interface.device} onlink", table)
            for prefix, entry in self.winners(subnet).items():
                if prefix.family != family or block.covers(prefix):
                    continue
                machine.route(str(prefix), self.hop_of(interface, entry, prefix, router), table)
                if entry is not None and entry.instance == interface.instance and table is not None:
                    self.refuse_loop(subnet, interface, prefix)

    def refuse_loop(self, subnet: Subnet, interface: Interface, prefix: Prefix) -> None:
        """What an appliance sends itself by way of itself is a loop: its router says so (S30)."""
        router, address = self.routers[subnet.name], interface.address(prefix.family)
        table = self.next_table()
        router.family(prefix.family == 6).append(f"rule add from {address} iif br0 lookup {table} priority {table}")
        router.route(f"unreachable {prefix}", "", table)

    def hop_of(self, interface: Interface, entry: RouteEntry | None, prefix: Prefix, router: str) -> str:
        if entry is not None and entry.instance is not None:
            hop = self.next_hop(entry)
            if hop.subnet == interface.subnet and hop.instance != interface.instance:
                return f"via {hop.address(prefix.family)} dev {interface.device} onlink"
        return f"via {router} dev {interface.device} onlink"

    def forwarding_routes(self, machine: Machine, instance: Instance) -> None:
        """For each prefix the first interface whose table does not lead back to the appliance (S30)."""
        for family, router in ((4, GATEWAY4), (6, GATEWAY6)):
            usable = [each for each in instance.interfaces if each.address(family) is not None]
            tables = [self.winners(self.topology.subnets[each.subnet]) for each in usable]
            own = [self.topology.subnets[each.subnet].block(family) for each in usable]
            prefixes = {prefix for table in tables for prefix in table if prefix.family == family}
            every = Prefix(family, 0, 0)
            for prefix in {*prefixes, every}:
                if any(block is not None and block.covers(prefix) for block in own):
                    continue
                for interface, table in zip(usable, tables, strict=True):
                    holding = [each for each in table if each.covers(prefix)]
                    best = max(holding, key=lambda each: each.length) if holding else None
                    entry = table[best] if best is not None else None
                    if entry is None or entry.instance != instance.name:
                        machine.route(str(prefix), self.hop_of(interface, entry, prefix, router))
                        break
                else:
                    if usable:
                        machine.route(f"unreachable {prefix}", "")

    def filter_instance(self, machine: Machine, instance: Instance) -> None:
        """The filters of each interface at its own hooks, the host filter between them (S11, S12, S30)."""
        bits = iter(1 << index for index in range(31))
        pre, out, chains, notes = [], [], [], []
        for interface in instance.interfaces:
            filters = [self.topology.filters[name] for name in filters_of(self.topology, interface)]
            if not filters:
                continue
            inward, outward = [_NEIGHBOUR_DISCOVERY], [_NEIGHBOUR_DISCOVERY]
            together = [each for each in filters if each.decide == "any"]
            for index, chosen in enumerate(filters):
                if chosen.decide == "any" and chosen is not together[0]:
                    continue
                bit = next(bits)
                members = together if chosen.decide == "any" else [chosen]
                note = f"note{index}-{interface.device}"
                chains += _chain(note, tracking(self.topology, members, "in", bit))
                notes.append(f'iifname "{interface.device}" jump {note}')
                for way, lines in (("in", inward), ("out", outward)):
                    body = (
                        any_chain(self.topology, together, way, bit)
                        if chosen.decide == "any"
                        else first_chain(self.topology, chosen, way, bit)
                    )
                    chain = f"f{index}-{way}-{interface.device}".replace(".", "_")
                    chains += _chain(chain, body)
                    lines.append(f"jump {chain}")
            chains += [*_chain(f"in-{interface.device}", inward), *_chain(f"out-{interface.device}", outward)]
            pre.append(f'iifname "{interface.device}" jump in-{interface.device}')
            out.append(f'oifname "{interface.device}" jump out-{interface.device}')
        host_in: list[str] = []
        host_out: list[str] = []
        host_notes: list[str] = []
        if isinstance(instance.host_filter, str):
            chosen, bit = self.topology.filters[instance.host_filter], next(bits)
            chains += _chain("host-in", [_NEIGHBOUR_DISCOVERY, *first_chain(self.topology, chosen, "in", bit)])
            chains += _chain("host-out", [_NEIGHBOUR_DISCOVERY, *first_chain(self.topology, chosen, "out", bit)])
            host_in, host_out = ["jump host-in"], ["jump host-out"]
            chains += _chain("note-host", tracking(self.topology, [chosen], "in", bit))
            host_notes = ['iifname != "lo" jump note-host']
        elif instance.host_filter is not None:
            machine.host_rules = instance.host_filter.file
        machine.rules = [
            *chains,
            *_base("arrived", "input", -190, [*notes, *host_notes, *pre]),
            *_base("passing", "forward", -190, [*notes, *pre]),
            *_base("host-input", "input", 50, [f'iifname != "lo" {each}' for each in host_in]),
            *_base("host-output", "output", 50, [f'oifname != "lo" {each}' for each in host_out]),
            *_base("host-forward", "forward", 50, [*host_in, *host_out]),
            *_base("sent", "output", 100, out),
            *_base("onward", "forward", 100, out),
        ]  # fmt: skip

    def listen(self, machine: Machine, instance: Instance | None, addresses: list[str]) -> None:
        """Real sockets for what listens; a machine of which nothing is known answers on every service asked."""
        if instance is None or instance.listens is None:
            machine.listeners = [(protocol, address, port) for protocol, port in self.services for address in addresses]
            return
        for listener in instance.listens:
            for protocol, port in self.services:
                number = {"tcp": 6, "udp": 17}[protocol] << 16 | port
                if number in listener.services:
                    bound = [str(listener.address)] if listener.address is not None else addresses
                    for address in bound:
                        if listener.family is None or (listener.family == 6) == (":" in address):
                            machine.listeners.append((protocol, address, port))

    # The core.

    def add_core(self) -> None:
        for network, table in self.pending_local:
            self.local_routes(network, table)
        for subnet in self.topology.subnets.values():
            for block in subnet.blocks:
                self.core.route(str(block), self.local_link[subnet.name].via(block.family == 6))
        for tunnel, end in self.tunnels.items():
            self.mark_way_back(end, 0x200 + list(self.tunnels).index(tunnel))
        for number, end in enumerate(self.gateway_link.values()):
            self.mark_way_back(end, 0x100 + number)
        for subnet_name, known in self.neighbours.items():
            router = self.routers[subnet_name]
            for address, mac, machine_name, device in known:
                router.commands.append(f"neigh replace {address} lladdr {mac} dev br0 nud permanent")
                for other, other_mac, _, _ in known:
                    if other != address and (":" in other) == (":" in address):
                        self.blueprint.machines[machine_name].commands.append(
                            f"neigh replace {other} lladdr {other_mac} dev {device} nud permanent"
                        )
                gateway = GATEWAY6 if ":" in address else GATEWAY4
                self.blueprint.machines[machine_name].commands.append(
                    f"neigh replace {gateway} lladdr {ROUTER_MAC} dev {device} nud permanent"
                )
        for router in self.routers.values():
            router.commands.append(f"link set br0 address {ROUTER_MAC}")
        self.zone_rules()

    def mark_way_back(self, end: End, number: int) -> None:
        """What the core itself refuses goes back by the gateway that it came from (S34): the refusal bears the
        packet's mark."""
        self.mark_rules.append(f'iifname "{end.device}" meta mark set {number:#x}')
        table = self.next_table()
        self.core.both(f"rule add fwmark {number:#x} iif lo lookup {table} priority {table}")
        for every in ("0.0.0.0/0", "::/0"):
            self.core.route(every, end.via(":" in every), table)

    def zone_rules(self) -> None:
        """Crossings, each with a bit of its own in the connection's mark (S22)."""
        zones = list(self.topology.zones)
        if len(zones) > 5:
            raise UsageError("the replica keeps state for crossings between at most 5 zones")
        bits = {(x, y): 1 << index for index, (x, y) in enumerate((x, y) for x in zones for y in zones)}
        crossings = {(each.source, each.destination): each.filter for each in self.topology.crossings}
        chains: list[str] = []
        defaults = self.topology.defaults
        for (x, y), bit in bits.items():
            if (x, y) in crossings:
                body = first_chain(self.topology, self.topology.filters[crossings[(x, y)]], "in", bit, bits[(y, x)])
            else:
                action = defaults.same_zone if x == y else defaults.between_zones
                body = [let_back(bits[(y, x)]), *([mark(bit)] if action == "allow" else []), *verdict_lines("", action)]
            chains += _chain(f"cross-{_safe(x)}-{_safe(y)}", body)
        by_zone: dict[str, list[str]] = {}
        for device, zone in self.zone_of_device.items():
            if zone is not None:
                by_zone.setdefault(zone, []).append(device)
        public = "{ " + ", ".join(f'"{device}"' for device in self.public_devices) + " }"
        for x in zones:
            body = [f"oifname {_devices(devices)} goto cross-{_safe(x)}-{_safe(y)}" for y, devices in by_zone.items()]
            if self.public_devices:
                body.append(f"oifname {public} goto out-{_safe(x)}")
            chains += _chain(f"out-{_safe(x)}", self.by_outside("daddr", _to_crossing(x)))
            chains += _chain(f"from-{_safe(x)}", body)
        entry = [f"iifname {_devices(devices)} jump from-{_safe(x)}" for x, devices in by_zone.items()]
        if self.public_devices:
            chains += _chain("arriving", self.by_outside("saddr", lambda x: f"goto from-{_safe(x)}"))
            entry.append(f"iifname {public} jump arriving")
        self.core.rules = [
            *chains,
            *_base("marks", "prerouting", -195, self.mark_rules),
            *_base("sources", "prerouting", -190, self.source_rules),
            *_base("zones", "forward", 0, entry),
        ]  # fmt: skip

    def by_outside(self, side: str, verdict: Callable[[str], str]) -> list[str]:
        """A decision by the outside that an address belongs to, the longest prefix first; none: open."""
        pairs = [(prefix, outside) for outside in self.topology.outsides.values() for prefix in outside.prefixes]
        lines = []
        for prefix, outside in sorted(pairs, key=lambda pair: -pair[0].length):
            keyword = "ip" if prefix.family == 4 else "ip6"
            match = f"{keyword} {side} {prefix}" if prefix.length else f"meta nfproto ipv{prefix.family}"
            lines.append(f"{match} {verdict(outside.zone)}" if outside.zone is not None else f"{match} return")
        return lines


ROUTER_MAC = "02:6b:ff:ff:ff:fe"


def _devices(devices: list[str]) -> str:
    return "{ " + ", ".join(f'"{device}"' for device in devices) + " }"


def _to_crossing(source: str) -> Callable[[str], str]:
    return lambda destination: f"goto cross-{_safe(source)}-{_safe(destination)}"


def _safe(name: str) -> str:
    return "z" + name.replace(".", "_")


def _base(name: str, hook: str, priority: int, body: list[str]) -> list[str]:
    return [f"chain {name} {{ type filter hook {hook} priority {priority}; policy accept;", *body, "}"]


def _chain(name: str, body: list[str]) -> list[str]:
    return [f"chain {name} {{", *body, "}"]
