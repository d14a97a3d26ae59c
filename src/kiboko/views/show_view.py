"""What `show` says of each kind of thing, as sheets."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from kiboko.core.header.addresses import Address, AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.model import (
    Filter,
    Group,
    Instance,
    Interface,
    Literal,
    Outside,
    Peer,
    Rule,
    Subnet,
    Topology,
    peer_text,
)
from kiboko.core.queries.inspection import (
    IN,
    OUT,
    AppliedRule,
    applied_rules,
    attachments,
    filter_rules,
    group_lookalikes,
    group_reasons,
    groups_of,
)
from kiboko.core.walk.walk import Walker
from kiboko.views.sheet import Sheet, Table
from kiboko.views.text import counted

_MOST_ADDRESSES = 2


class Shower:
    """Makes sheets over one topology. `services` and `peers` leave only the rules that could concern them."""

    def __init__(self, walker: Walker, services: RangeSet | None = None, peers: AddressSet | None = None) -> None:
        self.walker = walker
        self.topology = walker.topology
        self.services = services
        self.peers = peers

    def sheet(self, name: str) -> Sheet | None:
        """The sheet of a name; None where nothing bears it."""
        topology: Topology = self.topology
        makers: list[tuple[Iterable[str], Callable[[str], Sheet]]] = [
            (topology.instances, lambda n: self.instance(topology.instances[n])),
            (topology.subnets, lambda n: self.subnet(topology.subnets[n])),
            (topology.filters, lambda n: self.filter(topology.filters[n])),
            (topology.groups, lambda n: self.group(topology.groups[n])),
            (topology.zones, self.zone),
            (topology.gateways, self.gateway),
            (topology.outsides, lambda n: self.outside(topology.outsides[n])),
            (topology.networks, self.network),
            (topology.route_tables, self.route_table),
        ]
        for names, make in makers:
            if name in names:
                return make(name)
        interface = self.walker.directory.interface(name)
        if interface is not None:
            return self.instance(topology.instances[interface.instance], interface)
        return None

    def address(self, address: Address) -> Sheet:
        """The sheet of whatever an address belongs to, private, public or shared."""
        directory = self.walker.directory
        owner = directory.interface_at(address) or directory.public_owner(address)
        if owner is not None:
            kind = "private" if directory.interface_at(address) else "public"
            sheet = self.instance(directory.instance_of(owner), owner)
            sheet.facts.insert(0, ("asked for", f"{address}, the {kind} address of {owner.name}"))
            return sheet
        shared = directory.shared_owner(address)
        if shared is not None:
            sheet = self.gateway(shared.name)
            sheet.facts.insert(
                0, ("asked for", f"{address}, the shared address behind which {shared.networks[0]} goes out")
            )
            return sheet
        subnet, network, outside = (
            directory.subnet_of(address),
            directory.network_of(address),
            directory.outside_holding(address),
        )
        if subnet is not None:
            sheet = self.subnet(subnet)
            sheet.facts.insert(0, ("asked for", f"{address}, in this subnet; no instance is recorded there"))
        elif network is not None:
            sheet = self.network(network.name)
            sheet.facts.insert(0, ("asked for", f"{address}, in this network but in no subnet"))
        elif outside is not None:
            sheet = self.outside(outside)
            sheet.facts.insert(0, ("asked for", f"{address}, which belongs to this outside"))
        else:
            sheet = Sheet("address", str(address), [("belongs to", "no network and no outside of the file")])
        return sheet

    # Instances.

    def instance(self, instance: Instance, only: Interface | None = None) -> Sheet:
        """An instance: who it is, the rules in force in the order they decide, routes, listeners."""
        sheet = Sheet("instance", instance.name)
        sheet.fact("state", "running" if instance.running else "stopped")
        sheet.fact("tags", ", ".join(f"{key}={value}" for key, value in instance.tags.items()))
        sheet.fact("groups", ", ".join(groups_of(self.walker, instance)))
        sheet.fact("forwards", "yes, it passes on traffic not addressed to it" if instance.forwards else None)
        sheet.fact("listens", _listeners(instance))
        sheet.fact("written in", str(instance.place))
        interfaces = [only] if only is not None else list(instance.interfaces)
        for interface in interfaces:
            subnet = self.topology.subnets[interface.subnet]
            addresses = ", ".join(map(str, interface.addresses)) or "no address"
            public = f", public {interface.public}" if interface.public else ""
            sheet.fact(
                interface.device,
                f"{addresses}{public}; subnet {subnet.name}, zone {subnet.zone or 'none'}, network {subnet.network}",
            )
        for interface in interfaces:
            for way, title in ((IN, "Inbound"), (OUT, "Outbound")):
                self._applied(
                    sheet, interface, way, f"{title} at {interface.device}, in the order that rules are asked"
                )
        self._kernel_rules(sheet, instance)
        for name in dict.fromkeys(interface.subnet for interface in interfaces):
            self._routes(sheet, self.topology.subnets[name])
        self._notes(sheet, instance, interfaces)
        return sheet

    def _applied(self, sheet: Sheet, interface: Interface, way: str, title: str) -> None:
        applied = applied_rules(self.walker, interface, way)
        own = AddressSet.of_addresses(interface.addresses)
        asked = self.services is not None or self.peers is not None
        chosen = [
            rule
            for rule in applied
            if rule.concerns(self.services, self.peers, way) and (not asked or rule.is_for(own, way))
        ]
        if len(chosen) < len(applied):
            title = f"{title} ({len(chosen)} of {len(applied)}: only what could concern the traffic asked about)"
        other = "from" if way == IN else "to"
        self._rules(sheet, title, chosen, [other], "nothing filters this direction", (own, way))

    def _rules(
        self,
        sheet: Sheet,
        title: str,
        rules: list[AppliedRule],
        peers: list[str],
        empty: str = "",
        own: tuple[AddressSet, str] | None = None,
    ) -> None:
        """A table of rules, a section for each filter; `own` are the addresses whose rules these are."""
        table = sheet.table(title, ["rule", "action", *peers, "service", "file"], (*peers, "service"), empty)
        at = None
        for each in rules:
            if at != (each.gate, each.where, each.filter.name):
                at = (each.gate, each.where, each.filter.name)
                table.section(_section(each))
            if each.rule is not None:
                self._rule_row(table, each, each.rule, peers, own is None or each.is_for(*own))

    def _rule_row(self, table: Table, each: AppliedRule, rule: Rule, peers: list[str], for_it: bool) -> None:
        both = {"from": (rule.sources, each.sources), "to": (rule.destinations, each.destinations)}
        shown = [_peer(*both[which]) for which in peers]
        for which in ("from", "to"):
            if which not in peers and both[which][0] is not None and not for_it:
                shown[0] += f"; not for this one, only {which} {peer_text(both[which][0])}"
        action = rule.action if rule.enabled and for_it else f"({rule.action})"
        if not rule.enabled:
            shown[0] += "; not enabled"
        service = rule.service_text + (f", source ports {rule.source_ports}" if rule.source_ports else "")
        table.add(
            [f"  {rule.name}", action, *shown, service, str(each.place)], "" if rule.enabled and for_it else "quiet"
        )

    def _kernel_rules(self, sheet: Sheet, instance: Instance) -> None:
        rules = instance.host_filter
        if rules is None or isinstance(rules, str):
            return
        table = sheet.table(
            f"The kernel's own rules ({rules.file})", ["hook", "chain", "priority", "policy", "rules"], ("rules",)
        )
        for chain in rules.chains:
            names = "; ".join(rule.name for rule in chain.rules) or "-"
            table.add([chain.hook or "-", chain.name, str(chain.priority) if chain.hook else "-",
                       chain.policy if chain.hook else "-", names])  # fmt: skip

    def _notes(self, sheet: Sheet, instance: Instance, interfaces: list[Interface]) -> None:
        for interface in interfaces:
            subnet = self.topology.subnets[interface.subnet]
            if not interface.addresses:
                sheet.notes.append(f"{interface.name} has no address: no rule that names it matches anything")
            if subnet.filter is not None and not self.topology.filters[subnet.filter].stateful:
                sheet.notes.append(f"{subnet.filter} is stateless: replies need a rule of their own")
        if instance.listens is None:
            sheet.notes.append("what listens here is not known")
        for group in self.topology.groups.values():
            for other, why in group_lookalikes(self.walker, group):
                if other.name == instance.name:
                    sheet.notes.append(f"it looks as though it should be in group {group.name}: {why}")
        for each in self.topology.filters.values():
            if instance.name in each.exempt:
                sheet.notes.append(f"it is exempt from {each.name} ({each.place})")

    def _routes(self, sheet: Sheet, subnet: Subnet) -> None:
        table = sheet.table(
            f"Routes of subnet {subnet.name}, the longest prefix first", ["to", "via", "origin", "file"]
        )
        entries = list(self.topology.route_tables[subnet.route_table].entries) if subnet.route_table else []
        for block in self.topology.networks[subnet.network].blocks:
            table.add([str(block), "connected", "connected", "-"])
        for entry in entries:
            table.add([str(entry.to), entry.via, entry.origin, str(entry.place)])
        rank = {"static": 0, "learned": 1, "connected": 2}
        table.rows.sort(key=lambda row: (":" in row[0], -int(row[0].rpartition("/")[2]), row[0], rank[row[2]]))

    # Other things.

    def subnet(self, subnet: Subnet) -> Sheet:
        """A subnet: its block, filter, routes and who is in it."""
        sheet = Sheet("subnet", subnet.name)
        sheet.fact("block", ", ".join(map(str, subnet.blocks)))
        sheet.fact("network", subnet.network)
        sheet.fact("zone", subnet.zone or "none: its zone gates are open")
        sheet.fact("filter", subnet.filter or "none")
        sheet.fact("written in", str(subnet.place))
        if subnet.filter is not None:
            self._directions(sheet, self.topology.filters[subnet.filter], subnet.name)
        self._routes(sheet, subnet)
        table = sheet.table("Interfaces in it", ["interface", "addresses", "public", "filters"], ("filters",), "none")
        for interface in self.walker.directory.interfaces():
            if interface.subnet == subnet.name:
                filters = ", ".join(each.name for each in self.walker.membership.filters_on(interface))
                addresses = ", ".join(map(str, interface.addresses)) or "none"
                table.add([interface.name, addresses, str(interface.public or "-"), filters or "-"])
        return sheet

    def filter(self, chosen: Filter) -> Sheet:
        """A filter: its rules, where it is attached, and what its peers come to."""
        sheet = Sheet("filter", chosen.name)
        decides = "the first rule that matches decides" if chosen.decide == "first" else "any rule that matches allows"
        sheet.fact("layer", chosen.layer)
        sheet.fact(
            "decides", f"{decides}, {'stateful' if chosen.stateful else 'stateless: replies need their own rule'}"
        )
        sheet.fact("otherwise", chosen.otherwise)
        where = attachments(self.walker, chosen)
        kinds = counted(len(where), where[0][0] if where else "place")
        sheet.fact("attached to", f"{kinds}: {_some([place for _, place in where], 8)}" if where else "nothing")
        sheet.fact("attach_to", ", ".join(chosen.attach_to))
        sheet.fact("exempt", ", ".join(chosen.exempt))
        sheet.fact("written in", str(chosen.place))
        self._directions(sheet, chosen, "")
        if not where:
            sheet.notes.append("this filter is attached to nothing, so none of its rules decides anything")
        for rule in chosen.every_rule():
            for peer in (rule.sources, rule.destinations):
                for group, member in self.walker.membership.without_address(peer):
                    sheet.notes.append(f"rule {rule.name}: {member} is in group {group} but has no address")
        return sheet

    def _directions(self, sheet: Sheet, chosen: Filter, where: str) -> None:
        ways = [(IN, "Rules")] if chosen.rules is not None else [(IN, "Inbound"), (OUT, "Outbound")]
        for way, title in ways:
            rules = list(filter_rules(self.walker, chosen, way, chosen.layer, where))
            kept = [rule for rule in rules if rule.concerns(self.services, self.peers, way)]
            empty = "this direction is not filtered"
            self._rules(sheet, f"{title}, in the order they decide", kept, ["from", "to"], empty)

    def group(self, group: Group) -> Sheet:
        """A group: who is in and why, and who looks as though it should be."""
        sheet = Sheet("group", group.name)
        sheet.fact("where", ", ".join(f"{key} is {' or '.join(values)}" for key, values in group.where or ()))
        reasons = group_reasons(self.walker, group)
        total = AddressSet.union(reason.addresses for reason in reasons)
        sheet.fact("holds", f"{counted(len(reasons), 'member')}, {counted(total.size, 'address', 'addresses')}")
        sheet.fact("written in", str(group.place))
        table = sheet.table("Members", ["member", "why", "addresses"], ("addresses",), "nobody")
        for reason in reasons:
            addresses = ", ".join(reason.addresses.texts())
            table.add(
                [reason.name, reason.why, addresses or "none: adds nothing to any rule"], "" if addresses else "partly"
            )
        near = sheet.table("Not in it, though it looks as if it should be", ["instance", "what keeps it out", "file"])
        for instance, why in group_lookalikes(self.walker, group):
            near.add([instance.name, why, str(instance.place)], "partly")
        uses = sheet.table("Rules that name it", ["filter", "rule", "as", "file"])
        for each in self.topology.filters.values():
            for rule in each.every_rule():
                for side, peer in (("from", rule.sources), ("to", rule.destinations)):
                    if any(getattr(item, "name", None) == group.name for item in peer or ()):
                        uses.add([each.name, rule.name, side, str(rule.place)])
        return sheet

    def zone(self, name: str) -> Sheet:
        """A zone: what is in it, and its crossings."""
        sheet = Sheet("zone", name)
        sheet.fact("subnets", ", ".join(s.name for s in self.topology.subnets.values() if s.zone == name))
        sheet.fact("outsides", ", ".join(o.name for o in self.topology.outsides.values() if o.zone == name))
        defaults = self.topology.defaults
        sheet.fact("inside it", f"{defaults.same_zone} where no crossing is listed")
        sheet.fact("to and from others", f"{defaults.between_zones} where no crossing is listed")
        sheet.fact("written in", str(self.topology.zones[name].place))
        for crossing in self.topology.crossings:
            if name in (crossing.source, crossing.destination):
                chosen = self.topology.filters[crossing.filter]
                rules = list(filter_rules(self.walker, chosen, IN, "zone", f"{crossing.source}>{crossing.destination}"))
                kept = [rule for rule in rules if rule.concerns(self.services, self.peers, IN)]
                self._rules(sheet, f"From {crossing.source} to {crossing.destination}", kept, ["from", "to"])
        return sheet

    def gateway(self, name: str) -> Sheet:
        """A gateway: what it joins, and the routes that lead to it."""
        gateway = self.topology.gateways[name]
        sheet = Sheet("gateway", name)
        sheet.fact("kind", gateway.kind)
        sheet.fact("networks", ", ".join(gateway.networks))
        sheet.fact("outside", gateway.outside)
        sheet.fact("shared address", str(gateway.address) if gateway.address else None)
        sheet.fact("written in", str(gateway.place))
        table = sheet.table(
            "Routes to it", ["table", "to", "origin", "subnets", "file"], ("subnets",), "no route leads here"
        )
        for each in self.topology.route_tables.values():
            users = ", ".join(s.name for s in self.topology.subnets.values() if s.route_table == each.name)
            for entry in each.entries:
                if entry.gateway == name:
                    table.add([each.name, str(entry.to), entry.origin, users or "none", str(entry.place)])
        if gateway.kind == "internet":
            behind = sheet.table("Public addresses it translates", ["public", "private", "interface"], (), "none")
            for interface in self.walker.directory.interfaces():
                network = self.topology.subnets[interface.subnet].network
                if interface.public is not None and network in gateway.networks:
                    behind.add([str(interface.public), str(interface.address(4)), interface.name])
        return sheet

    def outside(self, outside: Outside) -> Sheet:
        """An outside: its addresses, zone and the filter at its edge."""
        sheet = Sheet("outside", outside.name)
        sheet.fact("addresses", ", ".join(map(str, outside.prefixes)))
        sheet.fact("zone", outside.zone or "none: its zone gates are open")
        sheet.fact("filter", outside.filter or "none")
        sheet.fact("written in", str(outside.place))
        if outside.filter is not None:
            self._directions(sheet, self.topology.filters[outside.filter], outside.name)
        return sheet

    def network(self, name: str) -> Sheet:
        """A network: its blocks, subnets and gateways."""
        network = self.topology.networks[name]
        sheet = Sheet("network", name)
        sheet.fact("blocks", ", ".join(map(str, network.blocks)))
        sheet.fact("gateways", ", ".join(g.name for g in self.topology.gateways.values() if name in g.networks))
        sheet.fact("written in", str(network.place))
        table = sheet.table("Subnets", ["subnet", "block", "zone", "route table", "filter"], (), "none")
        for subnet in self.topology.subnets.values():
            if subnet.network == name:
                blocks = ", ".join(map(str, subnet.blocks))
                table.add([subnet.name, blocks, subnet.zone or "-", subnet.route_table or "-", subnet.filter or "-"])
        return sheet

    def route_table(self, name: str) -> Sheet:
        """A route table and the subnets that use it."""
        table = self.topology.route_tables[name]
        sheet = Sheet("route table", name)
        users = [s.name for s in self.topology.subnets.values() if s.route_table == name]
        sheet.fact("used by", ", ".join(users) or "no subnet")
        sheet.fact("written in", str(table.place))
        rows = sheet.table("Entries, as written", ["to", "via", "origin", "file"], (), "none")
        for entry in table.entries:
            rows.add([str(entry.to), entry.via, entry.origin, str(entry.place)])
        return sheet


def _section(each: AppliedRule) -> str:
    """A filter in one line: its gate and place, how it decides, and what it does where no rule matches."""
    chosen = each.filter
    decides = "first match decides" if chosen.decide == "first" else "any match allows"
    state = "stateful" if chosen.stateful else "stateless"
    where = f" {each.where}" if each.where else ""
    place = chosen.otherwise_place or chosen.place
    return f"{each.gate}{where}: {chosen.name} ({decides}, {state}, otherwise {chosen.otherwise}) {place}"


def _peer(peer: Peer | None, addresses: AddressSet | None) -> str:
    """A peer with the addresses it comes to, where its text is not the address itself."""
    if peer is None:
        return "any"
    text = ", ".join(str(item) for item in peer) or "nobody"
    if addresses is None or all(isinstance(item, Literal) for item in peer):
        return text
    return f"{text} ({_some(addresses.texts(), _MOST_ADDRESSES) or 'no address'})"


def _some(texts: list[str], most: int) -> str:
    more = f", {len(texts) - most} more" if len(texts) > most else ""
    return ", ".join(texts[:most]) + more


def _listeners(instance: Instance) -> str:
    if instance.listens is None:
        return "not known"
    return ", ".join(listener.text for listener in instance.listens) or "nothing"
