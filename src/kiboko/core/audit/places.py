"""Findings on what is attached where, on names that stand for nothing, and on routes that lead nowhere."""

from __future__ import annotations

import functools
from bisect import bisect_left
from collections.abc import Callable, Iterator

from kiboko.core.audit.findings import LOW, Finding, few, found
from kiboko.core.header.addresses import Address, AddressSet, Prefix
from kiboko.core.network.model import ALLOW, Filter, Gateway, Group, Interface, Outside, RouteEntry, Subnet, Topology
from kiboko.core.network.peers import Named
from kiboko.core.routing.routes import Router, rank_of
from kiboko.core.walk.walk import Walker
from kiboko.core.wording import all_of


def of_attachments(walker: Walker) -> Iterator[Finding]:
    """Filters that nothing carries, and interfaces, subnets and crossings that carry none."""
    topology = walker.topology
    carried = {name for each in topology.instances.values() for i in each.interfaces for name in i.filters}
    carried |= {each.host_filter for each in topology.instances.values() if isinstance(each.host_filter, str)}
    carried |= {each.filter for each in topology.subnets.values() if each.filter}
    carried |= {each.filter for each in topology.outsides.values() if each.filter}
    carried |= {each.filter for each in topology.crossings}
    for chosen in topology.filters.values():
        if chosen.name not in carried and not chosen.attach_to:
            yield found("unattached-filter", chosen.name, chosen.place,
                        f"no {_carrier(chosen)} carries it, so that none of its rules decides anything",
                        f"attach it to the {_carrier(chosen)}s that it was written for, or take it out")  # fmt: skip
    yield from _unguarded(walker)
    yield from _crossings(walker)
    yield from _without_zone(topology)


def _carrier(chosen: Filter) -> str:
    return {"subnet": "subnet", "instance": "interface", "zone": "crossing", "host": "machine"}[chosen.layer]


def _unguarded(walker: Walker) -> Iterator[Finding]:
    topology = walker.topology
    bare: dict[str, list[Interface]] = {}
    by_fleet: dict[tuple[str, ...], list[Interface]] = {}
    unguarded: set[str] = set()
    for interface in walker.directory.interfaces():
        if not interface.addresses:
            continue
        instance = walker.directory.instance_of(interface)
        filters = walker.membership.filters_on(interface)
        subnet = topology.subnets[interface.subnet]
        if not filters and not instance.has_host_filter and subnet.filter is None:
            unguarded.add(interface.instance)
            yield found("unguarded-interface", interface.name, interface.place,
                        f"neither the interface nor its machine nor subnet {subnet.name} carries a filter",
                        "attach a filter to it, or to its subnet")  # fmt: skip
        own = [each for each in filters if each.name in interface.filters]
        if not own and not instance.has_host_filter:
            bare.setdefault(interface.subnet, []).append(interface)
            if filters and all(each.decide == "first" and each.otherwise == ALLOW for each in filters):
                by_fleet.setdefault(tuple(each.name for each in filters), []).append(interface)
    for names, interfaces in by_fleet.items():
        chosen = topology.filters[names[0]]
        who = few([each.instance for each in interfaces])
        verb = "carries" if len(interfaces) == 1 else "carry"
        yield found("guarded-by-fleet-only", ", ".join(names), chosen.place,
                    f"{who} {verb} nothing but {', '.join(names)}, which lets pass what it does not name",
                    "attach to them a filter of their own that names what they serve")  # fmt: skip
    for name, interfaces in bare.items():
        subnet = topology.subnets[name]
        interfaces = [each for each in interfaces if each.instance not in unguarded]  # these are told of already
        if subnet.filter is None and interfaces:
            who = few([each.instance for each in interfaces])
            yield found("unguarded-subnet", name, subnet.place,
                        f"it has no filter, and {who} in it {'carries' if len(interfaces) == 1 else 'carry'} none of"
                        " their own" if len(interfaces) > 1 else
                        f"it has no filter, and {who} in it carries none of its own",
                        "give the subnet a filter, or each machine in it one")  # fmt: skip


def _crossings(walker: Walker) -> Iterator[Finding]:
    topology = walker.topology
    if topology.defaults.between_zones != ALLOW:
        return
    used = {each.zone for each in topology.subnets.values()} | {each.zone for each in topology.outsides.values()}
    zones = [zone for zone in topology.zones.values() if zone.name in used]
    outside = {each.zone for each in topology.outsides.values()} - {each.zone for each in topology.subnets.values()}
    for one in zones:
        for other in zones:
            if one is other or (one.name in outside and other.name in outside):
                continue
            if walker.ground.crossing_filter(one.name, other.name) is None:
                yield found("crossing-without-filter", f"{one.name}>{other.name}", one.place,
                            f"all traffic from zone {one.name} to zone {other.name} passes: no crossing is listed, and"
                            " between zones the default is allow",
                            "list the crossing with a filter, or let the default be drop")  # fmt: skip


def _without_zone(topology: Topology) -> Iterator[Finding]:
    holders: list[tuple[str, Subnet | Outside]] = [("subnet", each) for each in topology.subnets.values()]
    holders += [("outside", each) for each in topology.outsides.values()]
    zoned = sum(each.zone is not None for _, each in holders)
    for kind, each in holders if zoned else ():
        if each.zone is None:
            yield found("without-zone", each.name, each.place,
                        f"{kind} {each.name} has no zone, where {zoned} of {len(holders)} have one: what goes there and"
                        " comes from there meets no zone filter, and no default between zones",
                        "give it the zone that it belongs to")  # fmt: skip


def of_names(walker: Walker) -> Iterator[Finding]:
    """Groups, outsides and services that stand for nothing, for too much, or nearly for something."""
    topology = walker.topology
    for group in topology.groups.values():
        yield from _of_group(walker, group)
    blocks = walker.directory.network_blocks
    for outside in topology.outsides.values():
        named = AddressSet.of_prefixes(prefix for prefix in outside.prefixes if prefix.length)
        shared = named & blocks
        if shared:
            yield found("outside-over-own", outside.name, outside.place,
                        f"{few(shared.texts())} of it are addresses of our own networks, which it never stands for",
                        "name the addresses that are really outside")  # fmt: skip
    spoken: set[tuple[int, int]] = set()
    texts: set[str] = set()
    for chosen in topology.filters.values():
        for rule in chosen.every_rule():
            texts.update(each.strip() for each in rule.service_text.split(","))
            spoken.update(rule.services or ())
    for instance in topology.instances.values():
        for listener in instance.listens or ():
            spoken.update(listener.services)
    for name, services in topology.services.items():
        if name not in texts and not any(pair in spoken for pair in services):
            yield found("unused-service", name, None, "no rule and no listener speaks of it",
                        "take it out, or use it")  # fmt: skip


def _of_group(walker: Walker, group: Group) -> Iterator[Finding]:
    instances = walker.membership.group_instances(group.name)
    members = list(walker.membership.group_members(group))
    if not members and not group.addresses:
        yield found("empty-group", group.name, group.place, "nobody is in it, so that no rule that names it matches",
                    "put somebody in, or take it out with the rules that name it")  # fmt: skip
    bare = [name for name in instances if name in walker.directory.without_address]
    if bare and any(name in members for name in bare):
        yield found("group-without-addresses", group.name, group.place,
                    f"{few(bare)} of it {'has' if len(bare) == 1 else 'have'} no address, so that its rules do not"
                    " match there", "record the address, or take the machine out")  # fmt: skip
    for name, why in walker.membership.nearly_in(group).items():
        yield found("nearly-member", group.name, group.place, f"{name} looks as though it should be in it: {why}",
                    f"correct the tag of {name}, or name it otherwise",
                    others=((name, walker.topology.instances[name].place),))  # fmt: skip


def of_routes(walker: Walker) -> Iterator[Finding]:
    """Routes that lead to nothing, that never win, and ways back that are missing."""
    topology = walker.topology
    tables = {subnet.route_table for subnet in topology.subnets.values() if subnet.route_table}
    for table in topology.route_tables.values():
        used = {subnet.network for subnet in topology.subnets.values() if subnet.route_table == table.name}
        beyond = functools.cache(functools.partial(_beyond, topology, used))
        first: dict[tuple[Prefix, int], RouteEntry] = {}
        for entry in table.entries:
            first.setdefault((entry.to, rank_of(entry)), entry)
        for entry in table.entries:
            reason = _leads_to_nothing(walker, entry, beyond)
            if reason:
                yield found("route-to-nothing", f"{table.name}: {entry.to}", entry.place or table.place, reason,
                            "remove the entry, or mend what it leads to")  # fmt: skip
            stronger = next(
                (first[entry.to, rank] for rank in range(rank_of(entry)) if (entry.to, rank) in first), None
            )
            if stronger is not None and stronger.via != entry.via:
                yield found("route-shadowed", f"{table.name}: {entry.to}", entry.place or table.place,
                            f"the {stronger.origin} entry {stronger} always wins", "take one of both out",
                            others=((str(stronger), stronger.place or table.place),))  # fmt: skip
    yield from _without_return(walker, tables)
    yield from _without_way_out(walker)


def _beyond(topology: Topology, used: set[str], peering: str) -> tuple[list[str], AddressSet]:
    """The networks that a peering leads to from some, and their blocks."""
    networks = topology.gateways[peering].networks
    far = [name for name in networks if name not in used] or list(networks)
    return far, AddressSet.of_prefixes(block for name in far for block in topology.networks[name].blocks)


def _leads_to_nothing(walker: Walker, entry: RouteEntry, beyond: Callable[[str], tuple[list[str], AddressSet]]) -> str:
    topology = walker.topology
    if entry.instance is not None:
        instance = topology.instances[entry.instance]
        own = AddressSet.of_addresses(address for each in instance.interfaces for address in each.addresses)
        if own and AddressSet.of_prefixes([entry.to]) <= own:
            return ""  # a next hop that is the destination has nothing to pass on (S30)
        if not instance.running:
            return f"it leads to {instance.name}, which is stopped"
        if not instance.forwards:
            return f"it leads to {instance.name}, which does not pass on what is not addressed to it"
        if instance.name in walker.directory.without_address:
            return f"it leads to {instance.name}, which has no address"
    gateway = topology.gateways.get(entry.gateway or "")
    if gateway is not None and gateway.kind == "peering":
        far, blocks = beyond(gateway.name)
        if not AddressSet.of_prefixes([entry.to]) & blocks:
            has = "has" if len(far) == 1 else "have"
            return f"it leads by {gateway.name} to {all_of(far)}, which {has} none of {entry.to}"
    return ""


def _without_return(walker: Walker, tables: set[str]) -> Iterator[Finding]:
    """Subnets that have a route to others by a peering, which have none back to them."""
    topology = walker.topology
    router = Router(walker.directory)
    told: set[tuple[str, str, str]] = set()
    led_to = functools.cache(functools.partial(_led_to, topology))
    for subnet in topology.subnets.values():
        for entry, gateway, other in led_to(subnet.route_table, subnet.network) if subnet.route_table else ():
            near = subnet.block(entry.to.family)
            key = (subnet.route_table or "", other.name, subnet.network)
            if near is None or key in told or router.look_up(subnet, _first(_block(other, entry))).entry is not entry:
                continue
            back = router.look_up(other, _first(near)).entry
            out = topology.gateways.get(back.gateway or "") if back is not None else None
            if back is None or back.discard or (out is not None and out.kind in ("internet", "nat")):
                told.add(key)
                lacks = f"sends what goes back to {out.name}" if out else "discards what goes back" if back else (
                    "has no way back")  # fmt: skip
                yield found("no-return-route", f"{other.name}: {near}", other.place,
                            f"{subnet.name} has a route to it ({entry}), and its own table"
                            f" ({other.route_table or 'none'}) {lacks}",
                            f"add a route to {near} by {gateway.name}",
                            others=((str(entry), entry.place or subnet.place),))  # fmt: skip


def _led_to(topology: Topology, table: str, network: str) -> list[tuple[RouteEntry, Gateway, Subnet]]:
    """The subnets of other networks that the entries of a table lead to by a peering, for senders of one network."""
    begins = {
        family: sorted((block.value, number, other) for number, other in enumerate(topology.subnets.values())
                       if (block := other.block(family)) is not None) for family in (4, 6)
    }  # fmt: skip
    found = []
    for entry in topology.route_tables[table].entries:
        gateway = topology.gateways.get(entry.gateway or "")
        if gateway is not None and gateway.kind == "peering":
            listed = begins[entry.to.family]
            first, behind = bisect_left(listed, (entry.to.value,)), bisect_left(listed, (entry.to.last + 1,))
            found += [(entry, gateway, other) for _, _, other in sorted(listed[first:behind], key=lambda each: each[1])
                      if other.network != network and other.network in gateway.networks]  # fmt: skip
    return found


def _without_way_out(walker: Walker) -> Iterator[Finding]:
    """Interfaces whose own filters let in somebody outside by name, where nobody outside can get to."""
    topology = walker.topology
    router = Router(walker.directory)
    outsides_of = functools.cache(functools.partial(_outsides_of, walker))
    for interface in walker.directory.interfaces():
        subnet = topology.subnets[interface.subnet]
        if not interface.addresses or interface.public is not None:
            continue
        if any(map(walker.directory.is_global, interface.addresses)):
            continue
        for chosen in walker.membership.filters_on(interface):
            if chosen.name not in interface.filters:
                continue
            for rule in chosen.inbound or ():
                if not rule.enabled or rule.action != ALLOW or rule.established:
                    continue
                outsides = [o for item in rule.sources or () if isinstance(item, Named)
                            for o in outsides_of(item.name)]  # fmt: skip
                is_for_outsides = outsides and len(outsides) >= len(rule.sources or ())
                if not is_for_outsides:
                    continue
                if any(walker.directory.tunnel(subnet.network, name) for name in outsides):
                    continue
                if any(address.family == 6 for address in interface.addresses):
                    continue
                first = next(address for address in interface.addresses)
                out = router.look_up(subnet, _first(topology.outsides[outsides[0]].prefixes[0])).entry
                lacks = "no public address" + ("" if out is not None else f", and {subnet.name} has no route out")
                yield found("no-return-route", interface.name, interface.place,
                            f"rule {chosen.name}/inbound/{rule.name} lets in {few(outsides)} from outside, and"
                            f" {interface.instance} ({first}) has {lacks}",
                            "give it a public address and a route, or leave it out of that filter",
                            others=((f"{chosen.name}/inbound/{rule.name}", rule.place),),
                            check=f"kiboko check {outsides[0]} {interface.instance} any", severity=LOW)  # fmt: skip


def _block(subnet: Subnet, entry: RouteEntry) -> Prefix:
    """The block of a subnet that an entry leads to."""
    block = subnet.block(entry.to.family)
    assert block is not None
    return block


def _first(block: Prefix) -> Address:
    return Address(block.family, block.value)


def _outsides_of(walker: Walker, name: str) -> list[str]:
    """The outsides that a name of a rule stands for: itself, or those that a group's addresses lie in."""
    topology = walker.topology
    if name in topology.outsides:
        return [name]
    group = topology.groups.get(name)
    if group is None or list(walker.membership.group_members(group)) or not group.addresses:
        return []
    family = 4 if group.addresses.v4 else 6
    beyond = walker.directory.outside_of(Address(family, group.addresses.family(family).lowest))
    return [beyond.name] if beyond is not None else []
