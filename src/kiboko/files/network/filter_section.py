"""The section `filters`: rule sets with their rules, in the order they are written."""

from __future__ import annotations

from kiboko.core.errors import Place, Problem
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import TCP
from kiboko.core.network.model import Filter, Rule
from kiboko.files.documents.lined_yaml import Items, Table
from kiboko.files.network.names import Names, name_fault
from kiboko.files.network.schema import FilterShape, RuleShape
from kiboko.files.network.values import ValueReader

_TCP = RangeSet.span(TCP << 16, TCP << 16 | 0xFFFF)


class FilterReader:
    """Makes filters of their shapes; what is wrong with them is added to `problems`."""

    def __init__(self, names: Names, values: ValueReader, problems: list[Problem]) -> None:
        self.names = names
        self.values = values
        self.problems = problems

    def read(self, name: str, shape: FilterShape, raw: Table, place: Place) -> Filter:
        """One filter with all its rules."""
        owner = f"filter '{name}'"
        self._check_directions(owner, shape, raw)
        if shape.layer != "instance":
            for key in ("attach_to", "exempt"):
                if getattr(shape, key):
                    self.values.fault(raw.place(key), f"{owner}: only a filter of layer instance has '{key}'")
        for key in ("attach_to", "exempt"):
            for index, target in enumerate(getattr(shape, key)):
                if not (key == "attach_to" and target == "all"):
                    listed = raw[key]
                    at = listed.place(index) if isinstance(listed, Items) else raw.place(key)
                    self.names.refer(owner, target, ("instance", "group"), at, "all" if key == "attach_to" else "")
        directions = {
            way: self._rules(owner, shape, getattr(shape, way), raw[way])
            for way in ("inbound", "outbound", "rules")
            if getattr(shape, way) is not None
        }
        if shape.decide == "any" and shape.otherwise == "allow":
            text = f"{owner}: 'otherwise' of a filter that decides by any rule is drop or reject"
            self.values.fault(raw.place("otherwise"), text)
        self._check_rule_names(owner, directions)
        self._check_conditions(owner, directions)
        return Filter(
            name, shape.layer, shape.decide, shape.stateful, place,
            directions.get("inbound"), directions.get("outbound"), directions.get("rules"), shape.otherwise,
            raw.place("otherwise") if "otherwise" in raw else None,
            tuple(map(str, shape.attach_to)), tuple(map(str, shape.exempt)), shape.note,
        )  # fmt: skip

    def _check_directions(self, owner: str, shape: FilterShape, raw: Table) -> None:
        directed = [way for way in ("inbound", "outbound") if getattr(shape, way) is not None]
        if shape.layer == "zone":
            for way in directed:
                text = f"{owner}: a zone filter has 'rules'; '{way}' has no meaning on a crossing"
                self.values.fault(raw.place(way), text)
            if shape.rules is None and "rules" not in raw:
                self.values.fault(raw.place(), f"{owner}: 'rules' is missing; a zone filter needs it")
        elif shape.rules is not None:
            if shape.layer != "instance":
                text = f"{owner}: a filter of layer {shape.layer} has 'inbound' and 'outbound', not 'rules'"
                self.values.fault(raw.place("rules"), text)
            elif directed:
                text = f"{owner}: 'rules' has no direction and cannot stand beside '{directed[0]}'"
                self.values.fault(raw.place("rules"), text)

    def _rules(self, owner: str, shape: FilterShape, shapes: list[RuleShape], raw: Items) -> tuple[Rule, ...]:
        rules = []
        orders: dict[int, Place] = {}
        for index, each in enumerate(shapes):
            rule = self._rule(owner, shape, each, raw[index], raw.place(index), index + 1)
            if rule.order in orders:
                text = f"{owner}: order {rule.order} is given twice; first in {orders[rule.order]}"
                self.values.fault(rule.place, text)
            orders.setdefault(rule.order, rule.place)
            rules.append(rule)
        return tuple(rules)

    def _rule(self, owner: str, shape: FilterShape, each: RuleShape, raw: Table, place: Place, position: int) -> Rule:
        rule_owner = f"{owner}, rule {each.id or each.order or position}"
        if shape.decide == "any" and each.action != "allow":
            text = f"{rule_owner}: a filter that decides by any rule only allows; it cannot {each.action}"
            self.values.fault(raw.place("action"), text)
        if each.stateful is not None and shape.layer != "zone":
            self.values.fault(raw.place("stateful"), f"{rule_owner}: 'stateful' is a rule's own only in zone filters")
        for field in ("service", "source_ports"):
            if field in raw and raw[field] == []:
                self.values.fault(
                    raw.place(field), f"{rule_owner}: '{field}' has no value; left out it matches anything"
                )
        if each.established and each.action != "allow":
            text = (
                f"{rule_owner}: 'established' is of rules that allow: one that stops segments of a connection lets it"
            )
            self.values.fault(raw.place("established"), f"{text} be opened, and hang")
        if each.condition is not None and not each.condition.strip():
            text = f"{rule_owner}: 'condition' has no value; a rule that holds without one leaves it out"
            self.values.fault(raw.place("condition"), text)
        if each.id is not None and name_fault(each.id):
            self.values.fault(raw.place("id"), f"{rule_owner}: {name_fault(each.id)}")
        services = self.values.services(rule_owner, each.service, raw.place("service"))
        if each.established and services is not None and services & _TCP != services:
            self.values.fault(raw.place("service"), f"{rule_owner}: 'established' is of TCP alone")
        return Rule(
            order=each.order if each.order is not None else position,
            action=each.action,
            place=place,
            id=str(each.id) if each.id is not None else None,
            sources=self.values.peer(rule_owner, each.source, raw.place("from")),
            destinations=self.values.peer(rule_owner, each.destination, raw.place("to")),
            services=services,
            service_text=", ".join(each.service) if each.service else "any",
            source_ports=self.values.ports(rule_owner, each.source_ports, raw.place("source_ports")),
            stateful=each.stateful,
            enabled=each.enabled,
            log=each.log,
            note=each.note,
            order_is_given=each.order is not None,
            condition=" ".join((each.condition or "").split()),
            established=each.established,
        )

    def _check_conditions(self, owner: str, directions: dict[str, tuple[Rule, ...]]) -> None:
        """Whether a flow is tracked must not hang on what cannot be judged (clause S41)."""
        rules = [rule for each in directions.values() for rule in each]
        conditional = next((rule for rule in rules if rule.condition), None)
        own = next((rule for rule in rules if rule.stateful is not None), None)
        if conditional is not None and own is not None:
            text = (f"{owner}: rule {own.name} has 'stateful' of its own, and rule {conditional.name} a 'condition'; "
                    "in one filter they cannot be told together")  # fmt: skip
            self.values.fault(own.place, f"{text}: leave 'stateful' to the filter")

    def _check_rule_names(self, owner: str, directions: dict[str, tuple[Rule, ...]]) -> None:
        for rules in directions.values():
            seen: dict[str, Place] = {}
            unnamed: set[str] = set()
            for rule in rules:
                if rule.name in seen and (rule.id is not None or rule.name not in unnamed):
                    text = f"{owner}: two rules are called '{rule.name}'; the other is in {seen[rule.name]}"
                    if text not in [problem.text for problem in self.problems]:
                        self.values.fault(rule.place, text)
                seen.setdefault(rule.name, rule.place)
                if rule.id is None:
                    unnamed.add(rule.name)  # two of one order are told as that
