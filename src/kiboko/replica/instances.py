"""An instance: its interfaces, routes, filters at its own hooks, and what listens."""

from __future__ import annotations

import re
import zlib
from pathlib import Path

from kiboko.core.errors import Place, UsageError
from kiboko.core.header.addresses import Prefix
from kiboko.core.network.host_rules import LISTED_WHOLE
from kiboko.core.network.model import Instance, Interface, RouteEntry, Rule, Subnet
from kiboko.replica.kernel_rules import any_chain, first_chain, rule_matches, tracking
from kiboko.replica.layout import Machine
from kiboko.replica.site import GATEWAY4, GATEWAY6, NEIGHBOUR_DISCOVERY, Site, base_chain, chain


def add_instance(site: Site, name: str, instance: Instance) -> None:
    """Make the machine of an instance."""
    machine = site.layout.machine(name, f"instance {instance.name}", forwards=instance.forwards)
    site.layout.homes[instance.name] = name
    for index, interface in enumerate(instance.interfaces):
        _add_interface(site, machine, interface, index)
    _route_instance(site, machine, instance)
    if not instance.running:
        machine.rules = [
            *base_chain("off", "prerouting", -400, ['iifname != "lo" drop']),
            *base_chain("mute", "output", -400, ['oifname != "lo" drop']),
        ]  # fmt: skip
        return
    machine.client_ports = site.client_ports(instance)
    _filter_instance(site, machine, instance)
    addresses = [str(address) for interface in instance.interfaces for address in interface.addresses]
    listen(site, machine, instance, addresses)


def _refuse_bare_names(file: str) -> None:
    """Refuse a listing that is not there itself, as one of a revision, and one of rules of which iptables made some
    that has no more of these than names."""
    if not Path(file).is_file():
        raise UsageError(
            f"{file}: a replica loads the listing itself; check that revision out and name the network file in it"
        )
    if '"xt"' in Path(file).read_text():
        raise UsageError(
            f"{file}: what iptables made cannot be rebuilt from its name alone; this lists it whole: {LISTED_WHOLE}"
        )


_AS_IT_IS = re.compile(r"(?!lo$|dev$|via$|all$|default$)[a-z][a-z0-9._-]{1,14}")


def device_of(interface: Interface) -> str:
    """What an interface is called in its namespace: as in the network file, but for names that the kernel or ip(8)
    takes for something else, or that are too long."""
    device = interface.device
    if _AS_IT_IS.fullmatch(device):
        return device
    return f"if{zlib.crc32(interface.name.encode()):08x}"


def _add_interface(site: Site, machine: Machine, interface: Interface, index: int) -> None:
    subnet = site.topology.subnets[interface.subnet]
    router = site.routers[subnet.name]
    device = device_of(interface)
    port = f"b{len(site.layout.cables)}"
    cable = site.layout.plug(machine, device, router, port)
    router.commands.append(f"link set {port} master br0")
    for address in interface.addresses:
        block = subnet.block(address.family)
        assert block is not None
        six = address.family == 6
        machine.commands.append(f"addr add {address}/{block.length} dev {device}" + (" nodad" if six else ""))
        site.neighbours.setdefault(subnet.name, []).append((str(address), cable.one_mac, machine.name, device))


def _route_instance(site: Site, machine: Machine, instance: Instance) -> None:
    """A machine's own packets go by the interface whose address they bear (S3); what it forwards goes by the
    rules of S30."""
    for index, interface in enumerate(instance.interfaces):
        table = 200 + index
        _subnet_routes(site, machine, interface, table)
        for address in interface.addresses:
            machine.family(address.family == 6).append(
                f"rule add from {address} iif lo lookup {table} priority {table}"
            )
    if instance.forwards:
        _forwarding_routes(site, machine, instance)
    else:
        # Refusals that the kernel makes in prerouting look their way up without an address of their own.
        for interface in reversed(instance.interfaces):
            _subnet_routes(site, machine, interface, None)


def _subnet_routes(site: Site, machine: Machine, interface: Interface, table: int | None) -> None:
    """The routes of one interface: neighbours direct, next hops in the subnet direct, the rest by its router."""
    subnet = site.topology.subnets[interface.subnet]
    for family, router in ((4, GATEWAY4), (6, GATEWAY6)):
        block = subnet.block(family)
        if block is None or interface.address(family) is None:
            continue
        six = family == 6
        machine.route(str(block), f"dev {device_of(interface)}", table)
        machine.route("::/0" if six else "0.0.0.0/0", f"via {router} dev {device_of(interface)} onlink", table)
        for prefix, entry in site.winners(subnet).items():
            if prefix.family != family or block.covers(prefix):
                continue
            machine.route(str(prefix), _hop_of(site, interface, entry, prefix, router), table)
        if table is not None:
            _refuse_loops(site, subnet, interface, family)


def _refuse_loops(site: Site, subnet: Subnet, interface: Interface, family: int) -> None:
    """What an appliance sends itself by way of itself is a loop: its router says so (S30)."""
    winners = {prefix: entry for prefix, entry in site.winners(subnet).items() if prefix.family == family}
    loops = {prefix for prefix, entry in winners.items() if entry is not None and entry.instance == interface.instance}
    if not loops:
        return
    router, table = site.routers[subnet.name], site.next_table()
    for address in interface.addresses:
        if address.family == family:
            router.family(family == 6).append(f"rule add from {address} iif br0 lookup {table} priority {table}")
    for prefix in winners:
        # What another entry wins is looked up as what everybody else sends is.
        router.route(f"{'unreachable' if prefix in loops else 'throw'} {prefix}", "", table)


def _hop_of(site: Site, interface: Interface, entry: RouteEntry | None, prefix: Prefix, router: str) -> str:
    if entry is not None and entry.instance is not None:
        hop = site.next_hop(entry)
        if hop.subnet == interface.subnet and hop.instance != interface.instance:
            return f"via {hop.address(prefix.family)} dev {device_of(interface)} onlink"
    return f"via {router} dev {device_of(interface)} onlink"


def _forwarding_routes(site: Site, machine: Machine, instance: Instance) -> None:
    """For each prefix the first interface whose table does not lead back to the appliance (S30)."""
    for family, router in ((4, GATEWAY4), (6, GATEWAY6)):
        usable = [each for each in instance.interfaces if each.address(family) is not None]
        tables = [site.winners(site.topology.subnets[each.subnet]) for each in usable]
        own = [site.topology.subnets[each.subnet].block(family) for each in usable]
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
                    machine.route(str(prefix), _hop_of(site, interface, entry, prefix, router))
                    break
            else:
                if usable:  # every way leads back: its router sends it round until its time is up
                    machine.route(str(prefix), f"via {router} dev {device_of(usable[0])} onlink")


def _filter_instance(site: Site, machine: Machine, instance: Instance) -> None:
    """The filters of each interface at its own hooks, the host filter between them (S11, S12, S30)."""
    bits = iter(1 << index for index in range(31))
    pre, out, chains, notes = [], [], [], []
    for interface in instance.interfaces:
        filters = [site.topology.filters[name] for name in site.peers.filters_of(interface)]
        if not filters or instance.name in site.unenforced:
            continue
        inward, outward = [NEIGHBOUR_DISCOVERY], [NEIGHBOUR_DISCOVERY]
        together = [each for each in filters if each.decide == "any"]
        for index, chosen in enumerate(filters):
            if chosen.decide == "any" and chosen is not together[0]:
                continue
            bit = next(bits)
            members = together if chosen.decide == "any" else [chosen]
            note = f"note{index}-{device_of(interface)}"
            chains += chain(note, tracking(site.peers, members, "in", bit))
            notes.append(f'iifname "{device_of(interface)}" jump {note}')
            for way, lines in (("in", inward), ("out", outward)):
                body = (
                    any_chain(site.peers, together, way, bit)
                    if chosen.decide == "any"
                    else first_chain(site.peers, chosen, way, bit)
                )
                name = f"f{index}-{way}-{device_of(interface)}".replace(".", "_")
                chains += chain(name, body)
                lines.append(f"jump {name}")
        chains += [*chain(f"in-{device_of(interface)}", inward), *chain(f"out-{device_of(interface)}", outward)]
        pre.append(f'iifname "{device_of(interface)}" jump in-{device_of(interface)}')
        out.append(f'oifname "{device_of(interface)}" jump out-{device_of(interface)}')
    host_in: list[str] = []
    host_out: list[str] = []
    host_notes: list[str] = []
    if isinstance(instance.host_filter, str):
        chosen, bit = site.topology.filters[instance.host_filter], next(bits)
        chains += chain("host-in", [NEIGHBOUR_DISCOVERY, *first_chain(site.peers, chosen, "in", bit)])
        chains += chain("host-out", [NEIGHBOUR_DISCOVERY, *first_chain(site.peers, chosen, "out", bit)])
        host_in, host_out = ["jump host-in"], ["jump host-out"]
        chains += chain("note-host", tracking(site.peers, [chosen], "in", bit))
        host_notes = ['iifname != "lo" jump note-host']
    elif instance.host_filter is not None:
        _refuse_bare_names(instance.host_filter.file)
        machine.host_rules = instance.host_filter.file
        machine.renamed = {i.device: device_of(i) for i in instance.interfaces if i.device not in ("lo", device_of(i))}
    machine.rules = [
        *chains,
        *base_chain("arrived", "input", -190, [*notes, *host_notes, *pre]),
        *base_chain("passing", "forward", -190, [*notes, *pre]),
        *base_chain("host-input", "input", 50, [f'iifname != "lo" {each}' for each in host_in]),
        *base_chain("host-output", "output", 50, [f'oifname != "lo" {each}' for each in host_out]),
        *base_chain("host-forward", "forward", 50, [*host_in, *host_out]),
        *base_chain("sent", "output", 100, out),
        *base_chain("onward", "forward", 100, out),
    ]  # fmt: skip
    block_sender(site, machine, instance.name)


def block_sender(site: Site, machine: Machine, name: str) -> None:
    """What the sender's own network does not let out, where a fault asks for it."""
    for index, services in enumerate(site.blocked_senders.get(name, ())):
        rule = Rule(0, "drop", Place("", 0), services=services)
        lines = [
            f'oifname != "lo" ct direction original ct state new {match} drop'
            for match in rule_matches(site.peers, rule)
        ]
        machine.rules += base_chain(f"own-network-{index}", "output", 200, lines)


def listen(site: Site, machine: Machine, instance: Instance | None, addresses: list[str]) -> None:
    """Real sockets for what listens; a machine of which nothing is known answers on every service asked."""
    if instance is None or instance.listens is None:
        machine.listeners = [(protocol, address, port) for protocol, port in site.services for address in addresses]
        return
    for listener in instance.listens:
        for protocol, port in site.services:
            number = {"tcp": 6, "udp": 17}[protocol] << 16 | port
            if number in listener.services:
                bound = [str(listener.address)] if listener.address is not None else addresses
                for address in bound:
                    if listener.family is None or (listener.family == 6) == (":" in address):
                        machine.listeners.append((protocol, address, port))
