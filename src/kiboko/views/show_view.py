"""What `show` says of each kind of thing, as sheets."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from kiboko.core.header.addresses import Address, AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import WELL_KNOWN, services_texts
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.network.model import Filter, Group, Instance, Interface, Outside, RouteEntry, Subnet, Topology
from kiboko.core.network.peers import names_in, peer_text
from kiboko.core.queries.inspection import (
    IN,
    OUT,
    attachments,
    by_filter,
    filter_rules,
    group_reasons,
    groups_of,
    listening,
    rules_for,
)
from kiboko.core.walk.walk import Walker
from kiboko.core.wording import all_of, counted
from kiboko.views.rules_shown import RulesShown, some_of
from kiboko.views.sheet import Sheet


class Shower:
    """Makes sheets over one topology. `services` and `peers` leave only the rules that could concern them; `options`
    are those of lines to be pasted."""

    def __init__(
        self, walker: Walker, services: RangeSet | None = None, peers: AddressSet | None = None, options: str = ""
    ) -> None:
        self.walker = walker
        self.topology = walker.topology
        self._rules = RulesShown(walker, services, peers, options)

    def service(self, text: str, services: RangeSet) -> Sheet:
        """A service: what it is, which rules speak of it, who listens."""
        sheet = Sheet("service", text)
        sheet.fact("stands for", services_texts(services))
        named = text in self.topology.services
        sheet.fact("defined", "in the network file" if named else "in the table that ships with Kiboko"
                   if text in WELL_KNOWN else None)  # fmt: skip
        speaking, for_any = rules_for(self.walker, services)
        table = sheet.table("Rules that speak of it", ["filter", "rule", "action", "from", "to", "service", "file"],
                            ("from", "to"), "none")  # fmt: skip
        for chosen, rule in speaking:
            action = rule.action if rule.enabled else f"({rule.action}, not enabled)"
            action = f'{action} if "{rule.condition}"' if rule.condition else action
            sides = [peer_text(rule.sources), peer_text(rule.destinations)]
            table.add([chosen.name, rule.name, action, *sides, rule.service_words, rule.place],
                      "" if rule.enabled else "quiet",
                      action=rule.action, enabled=rule.enabled, condition=rule.condition or None,
                      note=rule.note)  # fmt: skip
        table = sheet.table("Who listens", ["instance", "state", "listens", "file"], (), "nobody that is known")
        unknown = []
        for each in listening(self.walker, services):
            if each.listener is None:
                unknown.append(each.instance.name)
            else:
                state = "running" if each.instance.running else "stopped"
                table.add([each.instance.name, state, each.listener.text, each.listener.place])
        if for_any:
            sheet.notes.append(f"{counted(for_any, 'rule')} for any service may match it too")
        if unknown:
            sheet.notes.append(f"what listens is not known at {some_of(unknown, 6)}")
        return sheet

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
            sheet.first("asked for", f"{address}, the {kind} address of {owner.name}")
            return sheet
        shared = directory.shared_owner(address)
        if shared is not None:
            sheet = self.gateway(shared.name)
            sheet.first(
                "asked for",
                f"{address}, the shared address behind which {all_of(shared.networks)}"
                f" {'goes' if len(shared.networks) == 1 else 'go'} out",
            )
            return sheet
        subnet, network, outside = (
            directory.subnet_of(address),
            directory.network_of(address),
            directory.outside_holding(address),
        )
        if subnet is not None:
            sheet = self.subnet(subnet)
            sheet.first("asked for", f"{address}, in this subnet; no instance is recorded there")
        elif network is not None:
            sheet = self.network(network.name)
            sheet.first("asked for", f"{address}, in this network but in no subnet")
        elif outside is not None:
            sheet = self.outside(outside)
            sheet.first("asked for", f"{address}, which belongs to this outside")
        else:
            sheet = Sheet("address", str(address))
            sheet.fact("belongs to", "no network and no outside of the file")
        return sheet

    # Instances.

    def instance(self, instance: Instance, only: Interface | None = None) -> Sheet:
        """An instance: who it is, the rules in force in the order they decide, routes, listeners."""
        sheet = Sheet("instance", instance.name)
        sheet.fact("state", "running" if instance.running else "stopped")
        sheet.fact("tags", [f"{key}={value}" for key, value in instance.tags.items()])
        sheet.fact("groups", groups_of(self.walker, instance))
        sheet.fact("forwards", instance.forwards,
                   "yes, it passes on traffic not addressed to it" if instance.forwards else "")  # fmt: skip
        sheet.fact("listens", _listeners(instance))
        sheet.fact("note", instance.note)
        sheet.fact("written in", instance.place)
        interfaces = [only] if only is not None else list(instance.interfaces)
        for interface in interfaces:
            subnet = self.topology.subnets[interface.subnet]
            addresses = ", ".join(map(str, interface.addresses)) or "no address"
            public = f", public {interface.public}" if interface.public else ""
            text = f"{addresses}{public}; subnet {subnet.name}, zone {subnet.zone or 'none'}, network {subnet.network}"
            values: dict[str, Any] = {
                "addresses": list(map(str, interface.addresses)), "subnet": subnet.name, "zone": subnet.zone,
                "public": str(interface.public) if interface.public else None, "network": subnet.network,
            }  # fmt: skip
            sheet.fact(interface.device, values, text)
        for interface in interfaces:
            for way, title in ((IN, "Inbound"), (OUT, "Outbound")):
                self._rules.applied(
                    sheet, interface, way, f"{title} at {interface.device}, in the order that rules are asked"
                )
        self._rules.kernel_rules(sheet, instance)
        for name in dict.fromkeys(interface.subnet for interface in interfaces):
            self._routes(sheet, self.topology.subnets[name])
        self._notes(sheet, instance, interfaces)
        return sheet

    def _notes(self, sheet: Sheet, instance: Instance, interfaces: list[Interface]) -> None:
        for interface in interfaces:
            subnet = self.topology.subnets[interface.subnet]
            if not interface.addresses:
                sheet.notes.append(f"{interface.name} has no address: no rule that names it matches anything")
            if subnet.filter is not None and not self.topology.filters[subnet.filter].stateful:
                sheet.notes.append(f"{subnet.filter} is stateless: replies need a rule of their own")
        rules = instance.host_filter
        if isinstance(rules, HostRuleSet):
            if rules.caveat is not None:
                sheet.notes.append(rules.caveat)
            stopped = self.walker.ground.discovery.stops(instance, rules)
            sheet.notes += [f"{rules.file} {each} over IPv6" for each in stopped]
        if instance.listens is None:
            sheet.notes.append("what listens here is not known")
        for group in self.topology.groups.values():
            why = self.walker.membership.nearly_in(group).get(instance.name)
            if why is not None:
                sheet.notes.append(f"it looks as though it should be in group {group.name}: {why}")
        for each in self.topology.filters.values():
            if instance.name in each.exempt:
                sheet.notes.append(f"it is exempt from {each.name} ({each.place})")

    def _routes(self, sheet: Sheet, subnet: Subnet) -> None:
        table = sheet.table(
            f"Routes of subnet {subnet.name}, the longest prefix first", ["to", "via", "origin", "file"]
        )
        entries = list(self.topology.route_tables[subnet.route_table].entries) if subnet.route_table else []
        entries += [RouteEntry(block, "connected", None) for block in self.topology.networks[subnet.network].blocks]
        rank = {"static": 0, "learned": 1, "connected": 2}
        for entry in sorted(entries, key=lambda e: (e.to.family, -e.to.length, e.to.value, rank[e.origin])):
            table.add([str(entry.to), entry.via, entry.origin, entry.place], note=entry.note)
            if entry.note:
                sheet.notes.append(f"route {entry.to} via {entry.via} ({entry.place}): {entry.note}")

    # Other things.

    def subnet(self, subnet: Subnet) -> Sheet:
        """A subnet: its block, filter, routes and who is in it."""
        sheet = Sheet("subnet", subnet.name)
        sheet.fact("block", list(map(str, subnet.blocks)))
        sheet.fact("network", subnet.network)
        sheet.fact("zone", subnet.zone, "none: its zone gates are open" if subnet.zone is None else "")
        sheet.fact("filter", subnet.filter, "none" if subnet.filter is None else "")
        sheet.fact("written in", subnet.place)
        if subnet.filter is not None:
            self._rules.directions(sheet, self.topology.filters[subnet.filter], subnet.name)
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
        state = "stateful" if chosen.stateful else "stateless: replies need their own rule"
        sheet.fact("decides", chosen.decide, f"{decides}, {state}")
        sheet.value("stateful", chosen.stateful)
        sheet.fact("otherwise", chosen.otherwise)
        where = attachments(self.walker, chosen)
        kinds = counted(len(where), where[0][0] if where else "place")
        sheet.fact("attached to", [place for _, place in where],
                   f"{kinds}: {some_of([place for _, place in where], 8)}" if where else "nothing")  # fmt: skip
        sheet.fact("attach_to", list(chosen.attach_to))
        sheet.fact("exempt", list(chosen.exempt))
        sheet.fact("note", chosen.note)
        sheet.fact("written in", chosen.place)
        self._rules.directions(sheet, chosen)
        if not where:
            sheet.notes.append("this filter is attached to nothing, so none of its rules decides anything")
        for rule in chosen.every_rule():
            for peer in (rule.sources, rule.destinations):
                for group, member in self.walker.membership.without_address(peer):
                    sheet.notes.append(f"rule {rule.name}: {member} is in group {group} but has no address")
        return sheet

    def group(self, group: Group) -> Sheet:
        """A group: who is in and why, and who looks as though it should be."""
        sheet = Sheet("group", group.name)
        sheet.fact("where", [f"{key} is {' or '.join(values)}" for key, values in group.where or ()])
        reasons = group_reasons(self.walker, group)
        total = AddressSet.union(reason.addresses for reason in reasons)
        sheet.fact("holds", {"members": len(reasons), "addresses": total.size},
                   f"{counted(len(reasons), 'member')}, {counted(total.size, 'address', 'addresses')}")  # fmt: skip
        sheet.fact("note", group.note)
        sheet.fact("written in", group.place)
        table = sheet.table("Members", ["member", "why", "addresses"], ("addresses",), "nobody")
        for reason in reasons:
            addresses = ", ".join(reason.addresses.texts())
            table.add(
                [reason.name, reason.why, addresses or "none: adds nothing to any rule"], "" if addresses else "partly"
            )
        near = sheet.table("Not in it, though it looks as if it should be", ["instance", "what keeps it out", "file"])
        for name, why in self.walker.membership.nearly_in(group).items():
            near.add([name, why, self.topology.instances[name].place], "partly")
        uses = sheet.table("Rules that name it", ["filter", "rule", "as", "file"])
        for each in self.topology.filters.values():
            for rule in each.every_rule():
                for side, peer in (("from", rule.sources), ("to", rule.destinations)):
                    if group.name in names_in(peer):
                        uses.add([each.name, rule.name, side, rule.place])
        return sheet

    def zone(self, name: str) -> Sheet:
        """A zone: what is in it, and its crossings."""
        sheet = Sheet("zone", name)
        sheet.fact("subnets", [s.name for s in self.topology.subnets.values() if s.zone == name])
        sheet.fact("outsides", [o.name for o in self.topology.outsides.values() if o.zone == name])
        defaults = self.topology.defaults
        sheet.fact("inside it", defaults.same_zone, f"{defaults.same_zone} where no crossing is listed")
        sheet.fact("to and from others", defaults.between_zones,
                   f"{defaults.between_zones} where no crossing is listed")  # fmt: skip
        sheet.fact("note", self.topology.zones[name].note)
        sheet.fact("written in", self.topology.zones[name].place)
        crossings = [each for each in self.topology.crossings if name in (each.source, each.destination)]
        for chosen, where in by_filter(self.walker, crossings):
            title = "From {} to {}".format(*where.split(">")) if "," not in where else f"By {chosen.name}"
            rules = filter_rules(self.walker, chosen, IN, "zone", where)
            self._rules.table(sheet, title, self._rules.could_concern(rules, IN), ["from", "to"])
        return sheet

    def gateway(self, name: str) -> Sheet:
        """A gateway: what it joins, and the routes that lead to it."""
        gateway = self.topology.gateways[name]
        sheet = Sheet("gateway", name)
        sheet.fact("kind", gateway.kind)
        sheet.fact("networks", list(gateway.networks))
        sheet.fact("outside", gateway.outside)
        sheet.fact("shared address", str(gateway.address) if gateway.address else None)
        sheet.fact("written in", gateway.place)
        table = sheet.table(
            "Routes to it", ["table", "to", "origin", "subnets", "file"], ("subnets",), "no route leads here"
        )
        for each in self.topology.route_tables.values():
            users = ", ".join(s.name for s in self.topology.subnets.values() if s.route_table == each.name)
            for entry in each.entries:
                if entry.gateway == name:
                    table.add([each.name, str(entry.to), entry.origin, users or "none", entry.place])
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
        sheet.fact("addresses", list(map(str, outside.prefixes)))
        if self.walker.directory.unrouted.meets(AddressSet.of_prefixes(outside.prefixes)):
            sheet.fact("without", "private addresses, which are nobody's beyond a network")
        sheet.fact("zone", outside.zone, "none: its zone gates are open" if outside.zone is None else "")
        sheet.fact("filter", outside.filter, "none" if outside.filter is None else "")
        sheet.fact("written in", outside.place)
        if outside.filter is not None:
            self._rules.directions(sheet, self.topology.filters[outside.filter], outside.name)
        return sheet

    def network(self, name: str) -> Sheet:
        """A network: its blocks, subnets and gateways."""
        network = self.topology.networks[name]
        sheet = Sheet("network", name)
        sheet.fact("blocks", list(map(str, network.blocks)))
        if network.public:
            sheet.fact("public", list(map(str, network.public)))
        sheet.fact("gateways", [g.name for g in self.topology.gateways.values() if name in g.networks])
        sheet.fact("written in", network.place)
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
        sheet.fact("used by", users, "" if users else "no subnet")
        sheet.fact("written in", table.place)
        rows = sheet.table("Entries, as written", ["to", "via", "origin", "file"], (), "none")
        for entry in table.entries:
            rows.add([str(entry.to), entry.via, entry.origin, entry.place])
        return sheet


def _listeners(instance: Instance) -> list[str] | str:
    if instance.listens is None:
        return "not known"
    return [listener.text for listener in instance.listens] or "nothing"
