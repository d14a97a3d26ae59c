"""Edits of a network: the same network with one thing changed. Each gives a new value and leaves the old one alone."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from kiboko.core.errors import UsageError
from kiboko.core.header.addresses import Address
from kiboko.core.hints import nearest
from kiboko.core.network.host_rules import HostRule, HostRuleSet
from kiboko.core.network.model import (
    Crossing,
    Filter,
    Instance,
    Interface,
    Listener,
    RouteEntry,
    RouteTable,
    Rule,
    Topology,
)

Edit = Callable[[Topology], Topology]
"""A change of a network, to be made again on any version of it."""
WAYS = ("inbound", "outbound", "rules")


# Rules.


@dataclass(frozen=True, slots=True)
class RulePlace:
    """A rule of a filter: in which of its lists, and under which name."""

    filter: str
    way: str
    rule: str


def rule_place(topology: Topology, rule_path: str) -> RulePlace:
    """The rule that `FILTER/RULE` names, or `FILTER/inbound/RULE` where both directions have a rule of that name.

    Raises UsageError where it names none, or more than one.
    """
    name, _, rest = rule_path.partition("/")
    way_asked, _, rule_name = rest.rpartition("/")
    if name not in topology.filters:
        raise UsageError(
            f"'{rule_path}': filter '{name}' is not defined" + nearest(name, topology.filters, likeness=0.5)
        )
    chosen = topology.filters[name]
    ways = [
        way
        for way in WAYS
        if way_asked in ("", way) and any(rule.name == rule_name for rule in getattr(chosen, way) or ())
    ]
    if not ways:
        known = list(dict.fromkeys(rule.name for rule in chosen.every_rule()))
        hint = f"; its rules are {', '.join(known[:12])}" if known else ""
        raise UsageError(f"'{rule_path}': filter '{name}' has no rule '{rule_name}'{hint}")
    if len(ways) > 1:
        options = " or ".join(f"{name}/{way}/{rule_name}" for way in ways)
        raise UsageError(f"'{rule_path}' names a rule of each direction; write {options}")
    return RulePlace(name, ways[0], rule_name)


def without_rule(topology: Topology, rule_path: str) -> Topology:
    """The network as if a rule were not there. Raises UsageError, as `rule_place` does."""
    return _with_each(topology, rule_place(topology, rule_path), lambda rule: None)


def with_rule_enabled(topology: Topology, rule_path: str) -> Topology:
    """The network with a rule switched on, and its condition holding where it has one (clause S41). Raises UsageError,
    as `rule_place` does."""
    place = rule_place(topology, rule_path)
    return _with_each(topology, place, lambda rule: dataclasses.replace(rule, enabled=True, condition=""))


def settled(topology: Topology, holds: Callable[[Filter, Rule], bool] = lambda _, __: False) -> Topology:
    """The network as it is while the conditions of some rules hold, and those of all others do not (clause S41)."""
    found = topology
    for chosen in topology.filters.values():
        for way in WAYS if chosen.has_conditions else ():
            rules = getattr(chosen, way)
            if rules is not None:
                left = (rule if not rule.condition else dataclasses.replace(rule, condition="") for rule in rules
                        if not rule.condition or holds(chosen, rule))  # fmt: skip
                found = found.with_filter(with_rules(found.filters[chosen.name], way, tuple(left)))
    return found


def is_enabled(topology: Topology, rule_path: str) -> bool:
    """Whether a rule is switched on. Raises UsageError, as `rule_place` does."""
    place = rule_place(topology, rule_path)
    rules = getattr(topology.filters[place.filter], place.way) or ()
    return any(rule.enabled for rule in rules if rule.name == place.rule)


def toggled_rule(topology: Topology, rule_path: str) -> Topology:
    """The network with a rule switched off where it is on, and on where it is off. Raises UsageError, as `rule_place`
    does."""
    place = rule_place(topology, rule_path)
    return _with_each(topology, place, lambda rule: dataclasses.replace(rule, enabled=not rule.enabled))


def _with_each(topology: Topology, place: RulePlace, change: Callable[[Rule], Rule | None]) -> Topology:
    chosen = topology.filters[place.filter]
    changed = (change(rule) if rule.name == place.rule else rule for rule in getattr(chosen, place.way))
    return topology.with_filter(with_rules(chosen, place.way, tuple(rule for rule in changed if rule is not None)))


def with_rules(chosen: Filter, way: str, rules: tuple[Rule, ...]) -> Filter:
    """A filter with the rules of one list, `inbound`, `outbound` or `rules`, replaced."""
    if way == "rules":
        return dataclasses.replace(chosen, rules=rules)
    if way == "inbound":
        return dataclasses.replace(chosen, inbound=rules)
    return dataclasses.replace(chosen, outbound=rules)


# Machines.


def with_instance(topology: Topology, changed: Instance) -> Topology:
    """The network with an instance replaced by another of the same name."""
    return dataclasses.replace(topology, instances={**topology.instances, changed.name: changed})


def started(topology: Topology, name: str) -> Topology:
    """The network with an instance running."""
    return with_instance(topology, dataclasses.replace(topology.instances[name], running=True))


def with_tags(topology: Topology, name: str, tags: Mapping[str, str]) -> Topology:
    """The network with some tags of an instance set."""
    instance = topology.instances[name]
    return with_instance(topology, dataclasses.replace(instance, tags={**instance.tags, **tags}))


def forwarding(topology: Topology, name: str) -> Topology:
    """The network with an instance that passes on what is not addressed to it, and runs."""
    return with_instance(topology, dataclasses.replace(topology.instances[name], running=True, forwards=True))


def listening(topology: Topology, name: str, listener: Listener) -> Topology:
    """The network with one more socket that accepts at an instance."""
    instance = topology.instances[name]
    return with_instance(topology, dataclasses.replace(instance, listens=(*(instance.listens or ()), listener)))


def with_public(topology: Topology, interface: Interface, address: Address) -> Topology:
    """The network with a public address for an interface."""
    instance = topology.instances[interface.instance]
    interfaces = tuple(
        each._replace(public=address) if each.name == interface.name else each for each in instance.interfaces
    )
    return with_instance(topology, dataclasses.replace(instance, interfaces=interfaces))


def with_host_rule(topology: Topology, name: str, chain_name: str, rule: HostRule) -> Topology:
    """The network with a rule in front of all others in a chain of an instance's kernel rule set."""
    instance = topology.instances[name]
    rules = instance.host_filter
    assert isinstance(rules, HostRuleSet)
    chains = tuple(
        dataclasses.replace(chain, rules=(rule, *chain.rules)) if chain.shown == chain_name else chain
        for chain in rules.chains
    )
    return with_instance(topology, dataclasses.replace(instance, host_filter=rules.with_chains(chains)))


# Routes and zones.


def with_route(topology: Topology, subnet_name: str, entry: RouteEntry) -> Topology:
    """The network with an entry in a subnet's route table, which is made where it has none, and takes the place of
    another of the same destination and origin."""
    subnet = topology.subnets[subnet_name]
    name = subnet.route_table or f"table-of-{subnet_name}"
    table = topology.route_tables.get(name) or RouteTable(name, (), subnet.place)
    kept = tuple(each for each in table.entries if (each.to, each.origin) != (entry.to, entry.origin))
    tables = {**topology.route_tables, name: dataclasses.replace(table, entries=(*kept, entry))}
    subnets = {**topology.subnets, subnet_name: dataclasses.replace(subnet, route_table=name)}
    return dataclasses.replace(topology, route_tables=tables, subnets=subnets)


def without_route(topology: Topology, table_name: str, entry: RouteEntry) -> Topology:
    """The network without one entry of a route table."""
    table = topology.route_tables[table_name]
    kept = tuple(each for each in table.entries if each != entry)
    tables = {**topology.route_tables, table_name: dataclasses.replace(table, entries=kept)}
    return dataclasses.replace(topology, route_tables=tables)


def with_crossing(topology: Topology, crossing: Crossing, chosen: Filter) -> Topology:
    """The network with a crossing, and the zone filter that judges it."""
    changed = topology.with_filter(chosen)
    return dataclasses.replace(changed, crossings=(*topology.crossings, crossing))
