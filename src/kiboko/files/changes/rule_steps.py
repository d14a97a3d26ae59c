"""Steps of a change on rules: added, replaced, edited, moved, removed, switched on and off."""

from __future__ import annotations

from typing import Any

from kiboko.files.changes.sections import Sections, Unfit, text_at
from kiboko.files.documents.edited_yaml import EditedYaml
from kiboko.files.documents.edited_yaml import Path as Keys
from kiboko.files.documents.lined_yaml import Plain

_WAYS = ("inbound", "outbound", "rules")
_STEP = 10
_ANYTHING = {"from": "any", "to": "any", "service": "any", "source_ports": "0-65535"}
"""What a rule matches that has no such field, as it is written."""


class RuleSteps(Sections):
    """Does the steps on rules, each by a method of its name."""

    def _rule(self, text: str) -> tuple[EditedYaml, Keys, int]:
        """The rule that `FILTER/RULE` or `FILTER/DIRECTION/RULE` names: its file, its list, and its place in it."""
        name, _, rest = text.partition("/")
        way_asked, _, rule = rest.rpartition("/")
        body, keys = self.named("filters", name)
        found, known = [], []
        for way in _WAYS:
            names = self._rule_names(body, (*keys, way))
            known += names
            if way_asked in ("", way):
                found += [(way, at) for at, each in enumerate(names) if each == rule]
        if not found:
            hint = f"; its rules are {', '.join(dict.fromkeys(known))}" if known else ""
            raise Unfit(f"filter '{name}' has no rule '{rest}'{hint}")
        if len(found) > 1:
            ways = " or ".join(f"{name}/{way}/{rule}" for way, _ in found)
            raise Unfit(f"'{text}' names {len(found)} rules; write {ways}")
        return body, (*keys, found[0][0]), found[0][1]

    def _rule_names(self, body: EditedYaml, keys: Keys) -> list[str]:
        node = body.find(keys)
        if node is None or node.kind != "list":
            return []
        return [text_at(item, "id") or text_at(item, "order") or str(at) for at, item in enumerate(node.items, 1)]

    def _orders(self, body: EditedYaml, keys: Keys) -> list[int | None]:
        """The orders that the rules of a list give themselves."""
        node = body.find(keys)
        texts = [text_at(item, "order") for item in node.items] if node is not None else []
        return [int(text) if text is not None and text.isdecimal() else None for text in texts]

    # Rules.

    def _add_rule(self, told: Any, raw: Any) -> None:
        body, keys = self.named("filters", told.filter)
        way = told.direction or self._only_way(body, keys, told.filter)
        listed, rule = (*keys, way), dict(raw["rule"])
        if body.find(listed) is None:
            body.set_key(keys, way, "[]")
        place, order = self._place_for(body, listed, told, "order" in rule)
        if order is not None:
            rule = {"order": order, **rule}
        elif "order" in rule:
            given = int(str(rule["order"]))
            orders = self._orders(body, listed)
            place = sum(each is not None and each < given for each in orders) if None not in orders else len(orders)
        body.insert(listed, place, body.written(rule))

    def _only_way(self, body: EditedYaml, keys: Keys, name: str) -> str:
        ways = [way for way in _WAYS if body.find((*keys, way)) is not None]
        if len(ways) != 1:
            raise Unfit(f"filter '{name}' has {' and '.join(ways) or 'no rules'}: say which 'direction'")
        return ways[0]

    def _place_for(self, body: EditedYaml, listed: Keys, told: Any, has_order: bool) -> tuple[int, int | None]:
        """Where a rule goes in its list, and the order that it gets; None for none, or its own."""
        if told.before is not None and told.after is not None:
            raise Unfit("a rule goes in front of one or behind one, not both")
        orders = self._orders(body, listed)
        beside = told.before if told.before is not None else told.after
        if beside is None:
            last = max((each for each in orders if each is not None), default=None)
            return len(orders), last + _STEP if last is not None and not has_order else None
        if has_order:
            raise Unfit("a rule has an order of its own, or a place before or after another, not both")
        names = self._rule_names(body, listed)
        if beside.rpartition("/")[2] not in names:
            raise Unfit(f"there is no rule '{beside}' to stand beside; the rules are {', '.join(names)}")
        at = names.index(beside.rpartition("/")[2]) + (told.after is not None)
        if all(each is None for each in orders):
            return at, None
        own = orders[names.index(beside.rpartition("/")[2])]
        if own is None:
            raise Unfit("some rules of that list have an order and others none: give this one an order")
        numbers = sorted(each for each in orders if each is not None)
        if told.after is not None:
            low, high = own, next((each for each in numbers if each > own), own + 2 * _STEP)
        else:
            low, high = next((each for each in reversed(numbers) if each < own), 0), own
        if high - low < 2:
            raise Unfit(f"no number is free between {low} and {high}: give those rules other orders first")
        return at, low + (high - low) // 2

    def _replace_rule(self, told: Any, raw: Any) -> None:
        body, listed, at = self._rule(told.rule)
        node = body.find((*listed, at))
        assert node is not None
        kept = {key: Plain(text) for key in ("order", "id")
                if key not in raw["with"] and (text := text_at(node, key)) is not None}  # fmt: skip
        body.replace((*listed, at), body.written({**kept, **raw["with"]}))

    def _edit_rule(self, told: Any, raw: Any) -> None:
        body, listed, at = self._rule(told.rule)
        for key, value in raw["set"].items():
            node = body.find((*listed, at))
            if value is None:
                if node is None or node.place_of(key) is None:
                    raise Unfit(f"rule {told.rule} has no '{key}' to take out")
                if key in _ANYTHING:
                    raise Unfit(f"'{key}' has no value, and without it the rule matches anything; if that is meant,"
                                f" write '{key}: {_ANYTHING[key]}'")  # fmt: skip
                body.remove_key((*listed, at), key)
            else:
                body.set_key((*listed, at), key, body.written(value))

    def _move_rule(self, told: Any, raw: Any) -> None:
        body, listed, at = self._rule(told.rule)
        orders = self._orders(body, listed)
        if (told.before is None) == (told.after is None) and told.order is None:
            raise Unfit("say where to: before, after or order")
        if told.order is not None:
            if told.before is not None or told.after is not None:
                raise Unfit("a rule has an order, or a place before or after another, not both")
            if any(each == told.order for each in orders):
                raise Unfit(f"order {told.order} is taken")
            body.set_key((*listed, at), "order", str(told.order))
            return
        place, order = self._place_for(body, listed, told, False)
        if orders[at] is not None:
            assert order is not None
            body.set_key((*listed, at), "order", str(order))
            return
        if place in (at, at + 1):
            raise Unfit(f"rule {told.rule} stands there already")
        text = body.taken((*listed, at))
        body.remove(listed, at)
        body.insert(listed, place - (place > at), text)

    def _remove_rule(self, told: str, raw: Any) -> None:
        body, listed, at = self._rule(told)
        body.remove(listed, at)

    def _enable_rule(self, told: str, raw: Any) -> None:
        body, listed, at = self._rule(told)
        node = body.find((*listed, at))
        if node is None or text_at(node, "enabled") not in ("false", "False", "FALSE"):
            raise Unfit(f"rule {told} is enabled as it is")
        body.remove_key((*listed, at), "enabled")

    def _disable_rule(self, told: str, raw: Any) -> None:
        body, listed, at = self._rule(told)
        node = body.find((*listed, at))
        if node is not None and text_at(node, "enabled") in ("false", "False", "FALSE"):
            raise Unfit(f"rule {told} is disabled as it is")
        body.set_key((*listed, at), "enabled", "false")
