"""Changes of the rules that a filter has, before any is added: a rule in another place, switched on, or widened, or the
tag corrected that keeps an end out of the group that it names."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import parse_services
from kiboko.core.network import edits
from kiboko.core.network.edits import Edit
from kiboko.core.network.model import ALLOW, Filter, Rule, Topology
from kiboko.core.network.peers import Literal, Named, peer_text
from kiboko.core.queries.near_misses import NearMiss, asked_service, misses_at, packet_at
from kiboko.core.queries.proposed import Proposal, at_gate, peer_values, way_of
from kiboko.core.walk.gates import FORWARD, Row
from kiboko.core.walk.walk import Walk, Walker

_MOST_WIDENED = 3
_FIXED = ("order", "enabled", "established")
"""What is not widened."""
_ENDS = {"from": "sources", "to": "destinations"}


def rule_fixes(walker: Walker, walk: Walk, row: Row) -> Iterator[Proposal]:
    """Changes of what there is that may open a gate which stops a flow: a rule switched on, one that allows exactly
    this moved in front of the one that decides, a tag corrected."""
    misses = sorted(misses_at(walker, walk, row), key=lambda miss: -miss.closeness)
    yield from (_moved_or_enabled(walker, row, miss) for miss in misses if miss.field == "enabled")
    for miss in misses:
        if miss.field == "order" and (moved := _moved(walker, row, miss)) is not None:
            yield moved
    for miss in misses:
        if miss.field in _ENDS and (tagged := _tagged(walker, walk, row, miss)) is not None:
            yield tagged


def wider_rules(walker: Walker, walk: Walk, row: Row) -> Iterator[Proposal]:
    """Rules that allow nearly this, made to allow it too: with it they let pass whatever else they now speak of."""
    misses = sorted(misses_at(walker, walk, row), key=lambda miss: -miss.closeness)
    widened = [miss for miss in misses if miss.field not in _FIXED and walk.flow.service.has_ports]
    for miss in widened[:_MOST_WIDENED]:
        if (wider := _widened(walker, walk, row, miss)) is not None:
            yield wider


def _path(chosen: Filter, row: Row, rule: str) -> str:
    return f"{chosen.name}/{way_of(row, chosen.rules is not None)}/{rule}"


def _rules(chosen: Filter, row: Row) -> tuple[str, tuple[Rule, ...]]:
    way = way_of(row, chosen.rules is not None)
    return way, getattr(chosen, way) or ()


def _with(name: str, way: str, change: Callable[[tuple[Rule, ...]], tuple[Rule, ...]]) -> Edit:
    """An edit of one list of rules."""

    def edit(topology: Topology) -> Topology:
        chosen = topology.filters[name]
        return topology.with_filter(edits.with_rules(chosen, way, change(getattr(chosen, way) or ())))

    return edit


def replaced(name: str, way: str, rule: str, **fields: Any) -> Edit:
    """An edit of some fields of one rule."""
    return _with(name, way, lambda rules: tuple(
        dataclasses.replace(each, **fields) if each.name == rule else each for each in rules))  # fmt: skip


def _moved_or_enabled(walker: Walker, row: Row, miss: NearMiss) -> Proposal:
    chosen = walker.topology.filters[miss.filter]
    way, _ = _rules(chosen, row)
    path = _path(chosen, row, miss.rule)
    return at_gate(row, f"switch on rule {miss.rule} of {chosen.name}, {way} ({miss.place})",
                   replaced(chosen.name, way, miss.rule, enabled=True), steps=({"enable_rule": path},),
                   filter_name=chosen.name)  # fmt: skip


def _moved(walker: Walker, row: Row, miss: NearMiss) -> Proposal | None:
    """The rule in front of the one that decides."""
    chosen = walker.topology.filters[miss.filter]
    way, rules = _rules(chosen, row)
    ordered = sorted(rules, key=lambda each: each.order)
    decider = next((each for each in ordered if each.name == row.rule), None)
    if decider is None:
        return None
    path = _path(chosen, row, miss.rule)
    if is_by_place(ordered):
        edit = _with(chosen.name, way, lambda now: _in_front(now, miss.rule, decider.name))
        text = f"move rule {miss.rule} of {chosen.name}, {way}, in front of rule {decider.name} ({miss.place})"
        step: Mapping[str, Any] = {"move_rule": {"rule": path, "before": decider.name}}
        return at_gate(row, text, edit, steps=(step,), filter_name=chosen.name)
    before = max((each.order for each in ordered if each.order < decider.order), default=0)
    if decider.order - before < 2:
        return None
    order = before + (decider.order - before) // 2
    text = (
        f"move rule {miss.rule} of {chosen.name}, {way}, in front of rule {decider.name}: order {order} ({miss.place})"
    )
    step = {"move_rule": {"rule": path, "order": order}}
    return at_gate(row, text, replaced(chosen.name, way, miss.rule, order=order), steps=(step,),
                   filter_name=chosen.name)  # fmt: skip


def _in_front(rules: tuple[Rule, ...], name: str, decider: str) -> tuple[Rule, ...]:
    """Rules that are numbered by their places, with one moved in front of another."""
    moved = next(each for each in rules if each.name == name)
    rest = [each for each in rules if each is not moved]
    at = next(place for place, each in enumerate(rest) if each.name == decider)
    rest.insert(at, moved)
    return tuple(dataclasses.replace(each, order=place) for place, each in enumerate(rest, 1))


def is_by_place(rules: Sequence[Rule]) -> bool:
    """Whether a list of rules is numbered by their places: none of them says an order of its own."""
    return bool(rules) and not any(each.order_is_given for each in rules)


def put_in(rules: tuple[Rule, ...], new: Rule, before: str | None) -> tuple[Rule, ...]:
    """Rules that are numbered by their places, with one more in front of another, or behind all."""
    at = next((place for place, each in enumerate(rules) if each.name == before), len(rules))
    listed = [*rules[:at], dataclasses.replace(new, id=None, order_is_given=False), *rules[at:]]
    return tuple(dataclasses.replace(each, order=place) for place, each in enumerate(listed, 1))


def _tagged(walker: Walker, walk: Walk, row: Row, miss: NearMiss) -> Proposal | None:
    """The tag corrected of an end that looks as though it should be in the group that the rule names."""
    topology = walker.topology
    rule = _rule_of(topology.filters[miss.filter], row, miss.rule)
    packet = packet_at(walk, row)
    address = packet.source if miss.field == "from" else packet.destination
    owner = walker.directory.endpoint(address).interface if address is not None else None
    if rule is None or owner is None:
        return None
    for item in getattr(rule, _ENDS[miss.field]) or ():
        group = topology.groups.get(item.name) if isinstance(item, Named) else None
        if group is None or group.where is None:
            continue
        near = walker.membership.nearly_in(group).get(owner.instance)
        if near is None:
            continue
        tags = topology.instances[owner.instance].tags
        wrong = {key: values[0] for key, values in group.where if tags.get(key) not in values}
        text = f"correct the tag of {owner.instance}, which looks as though it should be in {group.name}: {near}"
        step = {"set_instance": {"instance": owner.instance, "tags": wrong}}
        edit = functools.partial(edits.with_tags, name=owner.instance, tags=wrong)
        return at_gate(row, text, edit, steps=(step,), filter_name=miss.filter)
    return None


def _rule_of(chosen: Filter, row: Row, name: str) -> Rule | None:
    return next((each for each in _rules(chosen, row)[1] if each.name == name), None)


def _widened(walker: Walker, walk: Walk, row: Row, miss: NearMiss) -> Proposal | None:
    """A rule that speaks of this traffic as well as of what it spoke of."""
    chosen = walker.topology.filters[miss.filter]
    rule = _rule_of(chosen, row, miss.rule)
    if rule is None or rule.action != ALLOW:
        return None
    way, _ = _rules(chosen, row)
    packet = packet_at(walk, row)
    fields: dict[str, Any]
    values: Sequence[Any]
    if miss.field in _ENDS:
        own = _ENDS[miss.field]
        address = packet.source if miss.field == "from" else packet.destination
        assert address is not None
        more = Literal(str(address), AddressSet.of_addresses([address]))
        fields = {own: (*(getattr(rule, own) or ()), more)}
        values, shown = [*peer_values(getattr(rule, own)), str(address)], peer_text(fields[own])
    elif miss.field == "service":
        texts = [*rule.service_text.split(", "), *asked_service(packet, row.ports).split(", ")]
        named = walker.topology.services
        services = RangeSet.of(pair for text in texts for pair in parse_services(text, named))
        fields, values = {"services": services, "service_text": ", ".join(texts)}, texts
        shown = ", ".join(texts)
    else:
        ports = RangeSet.one(packet.service.detail) if packet.turned else row.ports
        wider = RangeSet.of(pair for each in (rule.source_ports or RangeSet(), ports) for pair in each)
        fields, values = {"source_ports": wider}, wider.texts()
        shown = ", ".join(wider.texts())
    text = f"widen rule {miss.rule} of {chosen.name}, {way} ({miss.place}): {miss.field} {shown}"
    step = {"edit_rule": {"rule": _path(chosen, row, miss.rule), "set": {miss.field: list(values)}}}
    return at_gate(row, text, replaced(chosen.name, way, miss.rule, **fields), steps=(step,), filter_name=chosen.name)


# Stops.


def stops_at(walker: Walker, walk: Walk, row: Row, rule: Rule, fields: dict[str, Any]) -> Iterator[Proposal]:
    """Changes that stop a flow at a gate which lets it pass by a rule of a filter: the rule switched off, or a drop of
    this very traffic, `rule` with its `fields`, in front of it."""
    name = row.filter if row.filter is not None else (row.filters[0] if row.filters else "")
    chosen = walker.topology.filters.get(name)
    if chosen is None or row.direction != FORWARD:
        return
    way, rules = _rules(chosen, row)
    if chosen.decide == "first":
        ordered = sorted(rules, key=lambda each: each.order)
        at = next((place for place, each in enumerate(ordered) if each.name == row.rule), len(ordered))
        before = ordered[at - 1].order if at else 0
        here = ordered[at].order if at < len(ordered) else before + 20
        if is_by_place(ordered):
            told: dict[str, Any] = {"filter": chosen.name, "direction": way, "rule": fields}
            if at < len(ordered):
                told["before"] = ordered[at].name
            where = f"before {ordered[at].name}" if at < len(ordered) else "at the end"
            yield Proposal(
                row.gate, row.at, row.direction, chosen.name, way, fields,
                f"in {chosen.name}, {way}, {where}: {_one_line(fields)}",
                edit=_with(chosen.name, way, lambda now: put_in(now, rule, told.get("before"))),
                steps=({"add_rule": told},),
            )  # fmt: skip
        elif here - before > 1:
            order = before + (here - before) // 2
            new = dataclasses.replace(rule, order=order, id=None)
            text = f"in {chosen.name}, {way}: {_one_line({'order': order, **fields})}"
            step = {"add_rule": {"filter": chosen.name, "direction": way, "rule": {"order": order, **fields}}}
            yield Proposal(row.gate, row.at, row.direction, chosen.name, way, {"order": order, **fields}, text,
                           edit=_with(chosen.name, way, lambda now: (*now, new)), steps=(step,))  # fmt: skip
    decider = _rule_of(chosen, row, row.rule or "")
    if decider is not None:
        text = f"switch off rule {decider.name} of {chosen.name}, {way} ({decider.place}): {decider}"
        yield at_gate(row, text, replaced(chosen.name, way, decider.name, enabled=False),
                      steps=({"disable_rule": _path(chosen, row, decider.name)},), filter_name=chosen.name)  # fmt: skip


def _one_line(fields: dict[str, Any]) -> str:
    return "{" + ", ".join(f"{name}: {value}" for name, value in fields.items()) + "}"
