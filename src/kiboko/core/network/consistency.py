"""What only shows between the values of a network file: overlaps, strays, cycles, wrong networks."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping

from kiboko.core.errors import Place, Problem
from kiboko.core.header.addresses import PRIVATE_USE, Address, AddressSet, Prefix
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import WITH_PORTS, details_of
from kiboko.core.network.directory import Directory
from kiboko.core.network.membership import Membership
from kiboko.core.network.model import Filter, Gateway, Network, RouteEntry, Rule, Subnet, Topology
from kiboko.core.network.peers import AllBut, peer_text
from kiboko.core.wording import all_of


def problems_of(topology: Topology, is_whole: bool = True, short: Collection[str] = ()) -> Iterator[Problem]:
    """Every contradiction in a network. Where not all of it could be read, as `is_whole` tells, its names may stand for
    nothing and something may be missing, as a block of the networks and subnets in `short`: no more is said then than
    what is wrong whatever that should have been."""
    yield from _overlaps("network", [(b, n.name, n.place) for n in topology.networks.values() for b in n.blocks])
    yield from _overlaps("subnet", [(b, s.name, s.place) for s in topology.subnets.values() for b in s.blocks])
    yield from _strays(topology, short)
    yield from _public_blocks(topology, short)
    yield from _translations(topology)
    yield from _double_addresses(topology, is_whole)
    yield from _outsides(topology)
    yield from _group_cycles(topology)
    yield from _routes(topology, is_whole)


def warnings_of(topology: Topology) -> Iterator[Problem]:
    """What is probably not meant in a network that can be read."""
    membership = Membership(Directory(topology))
    for group in topology.groups.values():
        if not membership.name_addresses(group.name):
            why = "nobody is in it" if not membership.group_instances(group.name) else "nobody in it has an address"
            yield Problem(group.place, f"group '{group.name}' matches nobody: {why}")
    for chosen in topology.filters.values():
        for rules in (chosen.inbound, chosen.outbound, chosen.rules):
            yield from _odd_rules(chosen, rules or ())
            yield from _of_nobody(membership, chosen, rules or ())
    for outside in topology.outsides.values():
        for prefix in outside.prefixes:
            for network in topology.networks.values():
                if any(block.covers(prefix) for block in network.blocks):
                    text = (
                        f"outside '{outside.name}': {prefix} lies in network '{network.name}': nobody there is outside"
                    )
                    yield Problem(outside.place, text)


def _odd_rules(chosen: Filter, rules: tuple[Rule, ...]) -> Iterator[Problem]:
    given = [rule for rule in rules if rule.order_is_given]
    for rule in rules:
        services = rule.services
        if rule.source_ports is not None and services is not None and not _has_ports(services):
            text = f"filter '{chosen.name}', rule {rule.name}: 'source_ports' never match a service without ports"
            yield Problem(rule.place, text)
        if given and not rule.order_is_given and chosen.decide == "first":
            text = f"filter '{chosen.name}': a rule without 'order' between ordered ones counts as {rule.order}"
            yield Problem(rule.place, text)


def _of_nobody(membership: Membership, chosen: Filter, rules: tuple[Rule, ...]) -> Iterator[Problem]:
    """Rules for all but some of whom nobody is left, as of the internet, which lists all addresses (S2, S16)."""
    for rule in rules:
        for word, peer in (("from", rule.sources), ("to", rule.destinations)):
            if any(isinstance(item, AllBut) for item in peer or ()) and not membership.peer_addresses(peer):
                text = f"'{word}: {peer_text(peer)}' is nobody, so that it never matches"
                yield Problem(rule.place, f"filter '{chosen.name}', rule {rule.name}: {text}")


def _has_ports(services: RangeSet) -> bool:
    return any(details_of(services, protocol) for protocol in WITH_PORTS)


def _overlaps(kind: str, items: list[tuple[Prefix, str, Place]]) -> Iterator[Problem]:
    ordered = sorted(items, key=lambda item: (item[0].family, item[0].value, item[0].length))
    widest: tuple[Prefix, str, Place] | None = None
    for item in ordered:
        if widest is not None and widest[0].overlaps(item[0]):
            what = f"{kind} '{item[1]}' ({item[0]}) overlaps {kind} '{widest[1]}' ({widest[0]}) in {widest[2]}"
            yield Problem(item[2], what)
        if widest is None or widest[0].family != item[0].family or item[0].last > widest[0].last:
            widest = item


def _strays(topology: Topology, short: Collection[str]) -> Iterator[Problem]:
    def lies_in(block: Prefix, holder: Network | Subnet) -> bool:
        return holder.name in short or any(outer.covers(block) for outer in holder.blocks)

    for subnet in topology.subnets.values():
        network = topology.networks.get(subnet.network)
        for block in subnet.blocks:
            if network is not None and not lies_in(block, network):
                blocks = ", ".join(map(str, network.blocks))
                text = f"subnet '{subnet.name}': {block} lies outside network '{network.name}' ({blocks})"
                yield Problem(subnet.place, text)
    for instance in topology.instances.values():
        for interface in instance.interfaces:
            holder = topology.subnets.get(interface.subnet)
            for address in interface.addresses:
                itself = Prefix(address.family, address.value, 32 if address.family == 4 else 128)
                if holder is not None and not lies_in(itself, holder):
                    blocks = ", ".join(map(str, holder.blocks))
                    text = f"'{interface.name}': {address} lies outside subnet '{holder.name}' ({blocks})"
                    yield Problem(interface.place, text)


def _public_blocks(topology: Topology, short: Collection[str]) -> Iterator[Problem]:
    """Blocks that are said to be reached from outside as they are, and cannot be (S6)."""
    for network in topology.networks.values():
        for block in network.public:
            owner = f"network '{network.name}': public block {block}"
            if block.family == 6:
                yield Problem(network.place, f"{owner}: global IPv6 addresses are public without it; leave it out")
            elif network.name not in short and not any(outer.covers(block) for outer in network.blocks):
                yield Problem(network.place, f"{owner} lies outside its blocks ({', '.join(map(str, network.blocks))})")
            elif AddressSet.of_prefixes([block]).meets(PRIVATE_USE):
                text = f"{owner} is private (RFC 1918, RFC 6598): nobody outside has a route to it"
                yield Problem(network.place, text)


def _translations(topology: Topology) -> Iterator[Problem]:
    """Gateways of which nothing tells what they would translate (S26, S28): for several networks of which one has
    public blocks, and where several lead from one network to the internet."""
    doors: dict[str, list[Gateway]] = {}
    for gateway in topology.gateways.values():
        known = [topology.networks[name] for name in gateway.networks if name in topology.networks]
        if gateway.kind in ("internet", "nat") and len(known) > 1 and any(each.public for each in known):
            whose = all_of([each.name for each in known if each.public])
            text = f"gateway '{gateway.name}': it serves several networks, and {whose} has public blocks: what it would"
            text += " translate between them is not told; give each network a gateway of its own"
            yield Problem(gateway.place, text)
        for name in gateway.networks if gateway.kind == "internet" else ():
            doors.setdefault(name, []).append(gateway)
    translated = {
        topology.subnets[each.subnet].network
        for instance in topology.instances.values()
        for each in instance.interfaces
        if each.public is not None and each.subnet in topology.subnets
    }
    for name, several in doors.items():
        if len(several) > 1 and name in translated:
            text = f"network '{name}': {all_of([each.name for each in several])} lead to the internet, and machines in"
            text += " it have public addresses: which of them translates is not told; write one gateway for all"
            yield Problem(several[1].place, text)


def _double_addresses(topology: Topology, is_whole: bool) -> Iterator[Problem]:
    networks = [(b, n.name) for n in topology.networks.values() for b in n.blocks]
    seen: dict[Address, tuple[str, Place]] = {}

    def note(address: Address, owner: str, place: Place) -> Iterator[Problem]:
        if address in seen:
            other, at = seen[address]
            yield Problem(place, f"{owner}: {address} is also the address of {other} in {at}")
        seen.setdefault(address, (owner, place))

    def public(address: Address, owner: str, place: Place) -> Iterator[Problem]:
        for block, network in networks:
            if address in block:
                known = topology.networks[network]
                more = "; leave a block that is translated to out of its cidrs" if known.public else ""
                yield Problem(place, f"{owner}: public address {address} lies in network '{network}' itself{more}")
        yield from note(address, owner, place)

    for instance in topology.instances.values():
        for interface in instance.interfaces:
            owner = f"'{interface.name}'"
            for address in interface.addresses:
                yield from note(address, owner, interface.place)
            if interface.public is not None:
                yield from public(interface.public, owner, interface.place)
                own = interface.address(4)
                if any(
                    own is not None and own in block for each in topology.networks.values() for block in each.public
                ):
                    text = f"{owner}: {own} is public as it is, in its network; leave out 'public', or that block there"
                    yield Problem(interface.place, text)
                if own is None and is_whole:
                    text = f"{owner}: a public address needs a private IPv4 address behind it"
                    yield Problem(interface.place, text)
    for gateway in topology.gateways.values():
        if gateway.address is not None:
            yield from public(gateway.address, f"gateway '{gateway.name}'", gateway.place)


def _outsides(topology: Topology) -> Iterator[Problem]:
    seen: dict[Prefix, str] = {}
    for outside in topology.outsides.values():
        for prefix in outside.prefixes:
            if seen.setdefault(prefix, outside.name) != outside.name:
                text = f"outside '{outside.name}': {prefix} is also listed by outside '{seen[prefix]}'"
                yield Problem(outside.place, text)


def _group_cycles(topology: Topology) -> Iterator[Problem]:
    """Depth first over group members, without recursion; each cycle is told once."""
    done: set[str] = set()
    for start in topology.groups:
        trail: list[str] = []
        pending: list[tuple[str, bool]] = [(start, False)]
        while pending:
            name, leaving = pending.pop()
            if leaving:
                trail.pop()
                done.add(name)
            elif name in trail:
                cycle = [*trail[trail.index(name) :], name]
                yield Problem(topology.groups[name].place, f"group cycle: {' > '.join(cycle)}")
            elif name not in done:
                trail.append(name)
                pending.append((name, True))
                pending.extend((m, False) for m in topology.groups[name].members if m in topology.groups)


def _routes(topology: Topology, is_whole: bool) -> Iterator[Problem]:
    users: dict[str, dict[str, str]] = {}
    """Of each table the networks in which it is used, and a subnet of each that does."""
    for subnet in topology.subnets.values():
        if subnet.route_table is not None and subnet.network in topology.networks:
            users.setdefault(subnet.route_table, {}).setdefault(subnet.network, subnet.name)
    for table in topology.route_tables.values():
        seen: dict[tuple[Prefix, str], RouteEntry] = {}
        for entry in table.entries:
            first = seen.setdefault((entry.to, entry.origin), entry)
            told = [f"{entry.to} ({entry.origin}) is given twice; first in {first.place}"] * (first is not entry)
            told += _of_gateway(topology, entry, users.get(table.name, {}), is_whole)
            told += _of_next_hop(topology, entry, users.get(table.name, {}), is_whole)
            for text in told:
                yield Problem(entry.place or table.place, f"route table '{table.name}': {text}")


def _of_gateway(topology: Topology, entry: RouteEntry, users: Mapping[str, str], is_whole: bool) -> Iterator[str]:
    gateway = topology.gateways.get(entry.gateway or "")
    if gateway is None:
        return
    known = [name for name in gateway.networks if name in topology.networks]
    if not is_whole and len(known) < (2 if gateway.kind == "peering" else 1):
        return
    for network, subnet in users.items():
        if network not in gateway.networks:
            yield (
                f"gateway '{gateway.name}' is of network {all_of(gateway.networks)},"
                f" but subnet '{subnet}' of network {network} uses this table"
            )


def _of_next_hop(topology: Topology, entry: RouteEntry, users: Mapping[str, str], is_whole: bool) -> Iterator[str]:
    instance = topology.instances.get(entry.instance or "")
    if instance is None:
        return
    named = (each for each in instance.interfaces if entry.interface in (None, each.name))
    chosen = next(named, None)
    if chosen is None:
        if is_whole:
            yield f"next hop '{instance.name}' is in no subnet: it has no interface"
        return
    holder = topology.subnets.get(chosen.subnet)
    for other in users:
        if holder is not None and holder.network in topology.networks and other != holder.network:
            yield f"next hop '{chosen.name}' is in network {holder.network}, the table is used in {other}"
    considered = [chosen] if entry.interface else instance.interfaces
    if is_whole and all(each.address(entry.to.family) is None for each in considered):
        yield f"next hop '{chosen.name}' has no IPv{entry.to.family} address"
