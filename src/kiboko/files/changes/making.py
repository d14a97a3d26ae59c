"""A change made in the files of a network: each step edits no more of their text than has to change."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.header.addresses import parse_prefix
from kiboko.files.changes.change_file import Change, Step, unknown
from kiboko.files.changes.sheets import InstanceTable, Sheets
from kiboko.files.documents.edited_yaml import EditedYaml, Node, NotEditable
from kiboko.files.documents.edited_yaml import Path as Keys
from kiboko.files.documents.lined_yaml import Plain

_WAYS = ("inbound", "outbound", "rules")
_STEP = 10
_KIND = {
    "filters": "filter", "groups": "group", "services": "service", "instances": "instance", "subnets": "subnet",
    "route_tables": "route table", "outside": "outside", "zones": "zone",
}  # fmt: skip


class _Unfit(ValueError):
    """A step that does not fit the network file."""


def make(change: Change, sheets: Sheets) -> None:
    """Make a change in the texts of a network. Raises InputError with every step that does not fit, at its place in the
    change file; the texts are of no use then."""
    maker, problems = _Maker(sheets), []
    touched: dict[tuple[str, ...], Place] = {}
    for step in change.steps:
        try:
            for what in _touches(step):
                if what in touched:
                    raise _Unfit(f"{' '.join(what)} is changed twice; first in line {touched[what].line}")
                touched[what] = step.place
            maker.make(step)
        except (_Unfit, NotEditable) as error:
            problems.append(Problem(step.place, f"{step.verb}: {error}"))
    if problems:
        raise InputError(problems)


def _touches(step: Step) -> Iterator[tuple[str, ...]]:
    """What a step changes, so that two steps which change the same are in conflict."""
    told = step.told
    match step.verb:
        case "replace_rule" | "move_rule":
            yield "rule", told.rule
        case "remove_rule" | "enable_rule" | "disable_rule":
            yield "rule", told
        case "edit_rule":
            yield from (("rule", told.rule, "field", key) for key in told.set_)
        case "set_instance" | "set_interface" | "set_subnet":
            kind = step.verb.partition("_")[2]
            for key, value in step.raw.items():
                if key == "tags":
                    yield from ((kind, getattr(told, kind), "tag", tag) for tag in value)
                elif key != kind:
                    yield kind, getattr(told, kind), key
        case "replace_route" | "remove_route":
            yield "route", told.table, told.to
        case "set_group" | "set_service":
            kind = step.verb.partition("_")[2]
            yield kind, getattr(told, kind)
        case "remove_group" | "remove_service" | "remove_filter":
            yield step.verb.partition("_")[2], told
        case "add_filter":
            yield "filter", told.filter
        case "set_crossing" | "remove_crossing":
            yield "crossing", told.source, told.destination
        case "attach" | "detach":
            names = told.to if step.verb == "attach" else told.from_
            yield from (("attachment of", told.filter, "to", name) for name in names)
        case "add_members" | "remove_members":
            yield from (("membership in", told.group, "of", name) for name in told.members)
        case "accept":
            yield "acceptance", told.finding, told.at
        case "set_defaults":
            yield from (("default", key) for key in step.raw)


class _Maker:
    def __init__(self, sheets: Sheets) -> None:
        self.sheets = sheets

    def make(self, step: Step) -> None:
        """One step. Raises NotEditable and what says that it does not fit."""
        done: Callable[[Any, Any], None] = getattr(self, f"_{step.verb}")
        done(step.told, step.raw)

    # Where things are.

    def _named(self, section: str, name: str) -> tuple[EditedYaml, Keys]:
        found = self.sheets.holding(section, name)
        if found is None:
            raise _Unfit(unknown(_KIND[section], name, self.sheets.names(section)))
        return found

    def _must_be_new(self, section: str, name: str) -> None:
        if self.sheets.holding(section, name) is not None:
            raise _Unfit(f"there is a {_KIND[section]} '{name}' already")

    def _set_named(self, section: str, name: str, value: str) -> None:
        """A name of a section given a value as a whole; a new one comes last."""
        found = self.sheets.holding(section, name)
        if found is not None:
            found[0].replace(found[1], value)
            return
        body = self.sheets.place_for(section)
        if body.find((section,)) is None:
            body.set_key((), section, "{" + f"{body.written(name)}: {value}" + "}")
        else:
            body.set_key((section,), name, value)

    def _remove_named(self, section: str, name: str) -> None:
        body, _ = self._named(section, name)
        body.remove_key((section,), name)

    def _rule(self, text: str) -> tuple[EditedYaml, Keys, int]:
        """The rule that `FILTER/RULE` or `FILTER/DIRECTION/RULE` names: its file, its list, and its place in it."""
        name, _, rest = text.partition("/")
        way_asked, _, rule = rest.rpartition("/")
        body, keys = self._named("filters", name)
        found, known = [], []
        for way in _WAYS:
            names = self._rule_names(body, (*keys, way))
            known += names
            if way_asked in ("", way):
                found += [(way, at) for at, each in enumerate(names) if each == rule]
        if not found:
            hint = f"; its rules are {', '.join(dict.fromkeys(known))}" if known else ""
            raise _Unfit(f"filter '{name}' has no rule '{rest}'{hint}")
        if len(found) > 1:
            ways = " or ".join(f"{name}/{way}/{rule}" for way, _ in found)
            raise _Unfit(f"'{text}' names {len(found)} rules; write {ways}")
        return body, (*keys, found[0][0]), found[0][1]

    def _rule_names(self, body: EditedYaml, keys: Keys) -> list[str]:
        node = body.find(keys)
        if node is None or node.kind != "list":
            return []
        return [_text_at(item, "id") or _text_at(item, "order") or str(at) for at, item in enumerate(node.items, 1)]

    def _orders(self, body: EditedYaml, keys: Keys) -> list[int | None]:
        """The orders that the rules of a list give themselves."""
        node = body.find(keys)
        texts = [_text_at(item, "order") for item in node.items] if node is not None else []
        return [int(text) if text is not None and text.isdecimal() else None for text in texts]

    # Rules.

    def _add_rule(self, told: Any, raw: Any) -> None:
        body, keys = self._named("filters", told.filter)
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
            raise _Unfit(f"filter '{name}' has {' and '.join(ways) or 'no rules'}: say which 'direction'")
        return ways[0]

    def _place_for(self, body: EditedYaml, listed: Keys, told: Any, has_order: bool) -> tuple[int, int | None]:
        """Where a rule goes in its list, and the order that it gets; None for none, or its own."""
        if told.before is not None and told.after is not None:
            raise _Unfit("a rule goes in front of one or behind one, not both")
        orders = self._orders(body, listed)
        beside = told.before if told.before is not None else told.after
        if beside is None:
            last = max((each for each in orders if each is not None), default=None)
            return len(orders), last + _STEP if last is not None and not has_order else None
        if has_order:
            raise _Unfit("a rule has an order of its own, or a place before or after another, not both")
        names = self._rule_names(body, listed)
        if beside.rpartition("/")[2] not in names:
            raise _Unfit(f"there is no rule '{beside}' to stand beside; the rules are {', '.join(names)}")
        at = names.index(beside.rpartition("/")[2]) + (told.after is not None)
        if all(each is None for each in orders):
            return at, None
        own = orders[names.index(beside.rpartition("/")[2])]
        if own is None:
            raise _Unfit("some rules of that list have an order and others none: give this one an order")
        numbers = sorted(each for each in orders if each is not None)
        if told.after is not None:
            low, high = own, next((each for each in numbers if each > own), own + 2 * _STEP)
        else:
            low, high = next((each for each in reversed(numbers) if each < own), 0), own
        if high - low < 2:
            raise _Unfit(f"no number is free between {low} and {high}: give those rules other orders first")
        return at, low + (high - low) // 2

    def _replace_rule(self, told: Any, raw: Any) -> None:
        body, listed, at = self._rule(told.rule)
        node = body.find((*listed, at))
        assert node is not None
        kept = {key: Plain(text) for key in ("order", "id")
                if key not in raw["with"] and (text := _text_at(node, key)) is not None}  # fmt: skip
        body.replace((*listed, at), body.written({**kept, **raw["with"]}))

    def _edit_rule(self, told: Any, raw: Any) -> None:
        body, listed, at = self._rule(told.rule)
        for key, value in raw["set"].items():
            node = body.find((*listed, at))
            if value is None:
                if node is None or node.place_of(key) is None:
                    raise _Unfit(f"rule {told.rule} has no '{key}' to take out")
                body.remove_key((*listed, at), key)
            else:
                body.set_key((*listed, at), key, body.written(value))

    def _move_rule(self, told: Any, raw: Any) -> None:
        body, listed, at = self._rule(told.rule)
        orders = self._orders(body, listed)
        if (told.before is None) == (told.after is None) and told.order is None:
            raise _Unfit("say where to: before, after or order")
        if told.order is not None:
            if told.before is not None or told.after is not None:
                raise _Unfit("a rule has an order, or a place before or after another, not both")
            if any(each == told.order for each in orders):
                raise _Unfit(f"order {told.order} is taken")
            body.set_key((*listed, at), "order", str(told.order))
            return
        place, order = self._place_for(body, listed, told, False)
        if orders[at] is not None:
            assert order is not None
            body.set_key((*listed, at), "order", str(order))
            return
        if place in (at, at + 1):
            raise _Unfit(f"rule {told.rule} stands there already")
        text = body.taken((*listed, at))
        body.remove(listed, at)
        body.insert(listed, place - (place > at), text)

    def _remove_rule(self, told: str, raw: Any) -> None:
        body, listed, at = self._rule(told)
        body.remove(listed, at)

    def _enable_rule(self, told: str, raw: Any) -> None:
        body, listed, at = self._rule(told)
        node = body.find((*listed, at))
        if node is None or _text_at(node, "enabled") not in ("false", "False", "FALSE"):
            raise _Unfit(f"rule {told} is enabled as it is")
        body.remove_key((*listed, at), "enabled")

    def _disable_rule(self, told: str, raw: Any) -> None:
        body, listed, at = self._rule(told)
        node = body.find((*listed, at))
        if node is not None and _text_at(node, "enabled") in ("false", "False", "FALSE"):
            raise _Unfit(f"rule {told} is disabled as it is")
        body.set_key((*listed, at), "enabled", "false")

    # Attachments.

    def _attach(self, told: Any, raw: Any) -> None:
        for name in told.to:
            self._attachment(told.filter, name, True)

    def _detach(self, told: Any, raw: Any) -> None:
        for name in told.from_:
            self._attachment(told.filter, name, False)

    def _attachment(self, chosen: str, name: str, on: bool) -> None:
        body, keys = self._named("filters", chosen)
        layer = _text_at(body.find(keys), "layer")
        if layer == "zone":
            raise _Unfit("a zone filter is carried by a crossing: set_crossing")
        if layer == "host":
            self._single(*self._instance(name), "host_filter", chosen, name, on)
        elif layer == "subnet":
            section = "outside" if self.sheets.holding("outside", name) is not None else "subnets"
            self._single(*self._named(section, name), "filter", chosen, name, on)
        elif name == "all" or self.sheets.holding("groups", name) is not None:
            self._listed(body, keys, "attach_to", name, on, f"filter '{chosen}'")
        else:
            self._at_interfaces(chosen, name, on)

    def _instance(self, name: str) -> tuple[EditedYaml, Keys]:
        if self.sheets.table is not None and name in self.sheets.table.names():
            raise _Unfit(f"'{name}' is of the table of instances, which has no column for that")
        return self._named("instances", name)

    def _single(self, body: EditedYaml, keys: Keys, key: str, value: str, name: str, on: bool) -> None:
        now = _text_at(body.find(keys), key)
        if on and now == value:
            raise _Unfit(f"'{name}' carries '{value}' as it is")
        if on and now is not None:
            raise _Unfit(f"'{name}' carries '{now}': detach that first")
        if not on and now != value:
            raise _Unfit(f"'{name}' does not carry '{value}'")
        if on:
            body.set_key(keys, key, body.written(value))
        else:
            body.remove_key(keys, key)

    def _listed(self, body: EditedYaml, keys: Keys, key: str, value: str, on: bool, owner: str) -> None:
        """A value put into a list of texts, or taken out; one text may stand for a list of it."""
        now = _texts_at(body.find(keys), key)
        if on == (value in now):
            raise _Unfit(f"{owner} has '{value}' in '{key}' as it is" if on else f"{owner} has no '{value}' in '{key}'")
        node = body.find((*keys, key))
        if node is not None and node.kind == "list":
            if on:
                body.insert((*keys, key), len(node.items), body.written(value))
            else:
                body.remove((*keys, key), now.index(value))
        elif on:
            body.set_key(keys, key, body.written([*now, value]))
        else:
            body.remove_key(keys, key)

    def _at_interfaces(self, chosen: str, name: str, on: bool) -> None:
        machine, _, device = name.partition("/")
        table = self.sheets.table
        if table is not None and machine in table.names():
            self._in_table(table, machine, device, chosen, on)
            return
        body, keys = self._named("instances", machine)
        for at in self._interfaces(body, keys, machine, device):
            self._listed(body, (*keys, "interfaces", at), "filters", chosen, on, f"an interface of '{name}'")

    def _interfaces(self, body: EditedYaml, keys: Keys, machine: str, device: str) -> list[int]:
        node = body.find((*keys, "interfaces"))
        names = [_text_at(item, "name") or f"eth{at}" for at, item in enumerate(node.items if node is not None else ())]
        found = [at for at, each in enumerate(names) if device in ("", each)]
        if not found:
            raise _Unfit(f"'{machine}' has no interface '{device}'; it has {', '.join(names) or 'none'}")
        return found

    def _in_table(self, table: InstanceTable, machine: str, device: str, chosen: str, on: bool) -> None:
        rows = table.cells(machine)
        for at, row in enumerate(rows):
            if device in ("", f"eth{at}"):
                now = [each for each in row.get("filters", "").split(";") if each.strip() not in ("", "-")]
                if on == (chosen in now):
                    raise _Unfit(f"'{machine}' {'carries' if on else 'does not carry'} '{chosen}'")
                left = [*now, chosen] if on else [each for each in now if each != chosen]
                table.set_cell(machine, "filters", ";".join(left) or "-", at)

    # Machines.

    def _set_instance(self, told: Any, raw: Any) -> None:
        table = self.sheets.table
        if table is not None and told.instance in table.names():
            self._set_in_table(table, told, raw)
            return
        body, keys = self._named("instances", told.instance)
        for key, value in raw.items():
            if key == "tags":
                for tag, text in value.items():
                    self._set_in(body, keys, "tags", tag, text)
            elif key != "instance":
                self._set_or_take(body, keys, key, value)

    def _set_in(self, body: EditedYaml, keys: Keys, holder: str, key: str, value: Any) -> None:
        """A key of a table inside, which is made where there is none."""
        if body.find((*keys, holder)) is None:
            if value is None:
                raise _Unfit(f"there is no {holder} '{key}' to take off")
            body.set_key(keys, holder, body.written({key: value}))
            return
        self._set_or_take(body, (*keys, holder), key, value)

    def _set_or_take(self, body: EditedYaml, keys: Keys, key: str, value: Any) -> None:
        node = body.find(keys)
        if value is not None:
            body.set_key(keys, key, body.written(value))
        elif node is None or node.place_of(key) is None:
            raise _Unfit(f"there is no '{key}' to take off")
        else:
            body.remove_key(keys, key)

    def _set_in_table(self, table: InstanceTable, told: Any, raw: Any) -> None:
        name, (row, *_) = told.instance, table.cells(told.instance)
        for key, value in raw.items():
            if key == "state":
                table.set_cell(name, "state", str(value))
            elif key == "listens":
                if not all(isinstance(each, str) for each in value or ()):
                    raise _Unfit("in the table of instances a listener is a service alone")
                table.set_cell(name, "listens", ";".join(map(str, value or ())) or "-")
            elif key == "tags":
                given = row.get("tags", "")
                now = dict(pair.split("=", 1) for pair in given.split(";") if "=" in pair)
                for tag, text in value.items():
                    now = {**now, tag: text} if text is not None else {k: v for k, v in now.items() if k != tag}
                table.set_cell(name, "tags", ";".join(f"{k}={v}" for k, v in now.items()) or "-")
            elif key != "instance":
                raise _Unfit(f"the table of instances has no column for '{key}'")

    def _set_interface(self, told: Any, raw: Any) -> None:
        machine, _, device = told.interface.partition("/")
        table = self.sheets.table
        if table is not None and machine in table.names():
            rows = range(len(table.cells(machine)))
            chosen = [at for at in rows if device in ("", f"eth{at}")]
            if len(chosen) != 1:
                raise _Unfit(f"'{told.interface}' stands for {len(chosen)} interfaces: name one of them")
            for key, value in raw.items():
                if key != "interface":
                    cell = ";".join(told.addresses or ()) if key == "addresses" else value
                    table.set_cell(machine, {"addresses": "address"}.get(key, key), str(cell or "-"), chosen[0])
            return
        body, keys = self._named("instances", machine)
        found = self._interfaces(body, keys, machine, device)
        if len(found) != 1:
            raise _Unfit(f"'{told.interface}' stands for {len(found)} interfaces: name one of them")
        for key, value in raw.items():
            if key != "interface":
                self._set_or_take(body, (*keys, "interfaces", found[0]), key, value)

    def _set_subnet(self, told: Any, raw: Any) -> None:
        body, keys = self._named("subnets", told.subnet)
        for key, value in raw.items():
            if key != "subnet":
                self._set_or_take(body, keys, key, value)

    # Routes.

    def _add_route(self, told: Any, raw: Any) -> None:
        body, keys = self._named("route_tables", told.table)
        node = body.find(keys)
        body.insert(keys, len(node.items) if node is not None else 0, body.written(raw["route"]))

    def _route(self, told: Any) -> tuple[EditedYaml, Keys, int]:
        body, keys = self._named("route_tables", told.table)
        node = body.find(keys)
        entries = node.items if node is not None else []
        found = [at for at, item in enumerate(entries) if _same_block(_text_at(item, "to"), told.to)
                 and told.origin in (None, _text_at(item, "origin") or "static")]  # fmt: skip
        if not found:
            known = ", ".join(dict.fromkeys(str(_text_at(item, "to")) for item in entries))
            raise _Unfit(f"route table '{told.table}' has no entry to {told.to}; it has {known or 'none'}")
        if len(found) > 1:
            raise _Unfit(f"route table '{told.table}' has {len(found)} entries to {told.to}: say which 'origin'")
        return body, keys, found[0]

    def _replace_route(self, told: Any, raw: Any) -> None:
        body, keys, at = self._route(told)
        body.replace((*keys, at), body.written(raw["with"]))

    def _remove_route(self, told: Any, raw: Any) -> None:
        body, keys, at = self._route(told)
        body.remove(keys, at)

    # Groups, crossings, services, filters.

    def _set_group(self, told: Any, raw: Any) -> None:
        found = self.sheets.holding("groups", told.group)
        values = {key: value for key, value in raw.items() if key != "group"}
        if found is None:
            self._set_named("groups", told.group, self.sheets.place_for("groups").written(values))
            return
        body, keys = found
        for key, value in values.items():
            self._set_or_take(body, keys, key, value)

    def _add_members(self, told: Any, raw: Any) -> None:
        body, keys = self._named("groups", told.group)
        for name in told.members:
            self._listed(body, keys, "members", name, True, f"group '{told.group}'")

    def _remove_members(self, told: Any, raw: Any) -> None:
        body, keys = self._named("groups", told.group)
        for name in told.members:
            self._listed(body, keys, "members", name, False, f"group '{told.group}'")

    def _remove_group(self, told: str, raw: Any) -> None:
        self._remove_named("groups", told)

    def _set_service(self, told: Any, raw: Any) -> None:
        self._set_named("services", told.service, self.sheets.place_for("services").written(raw["means"]))

    def _remove_service(self, told: str, raw: Any) -> None:
        self._remove_named("services", told)

    def _crossing(self, source: str, destination: str) -> tuple[EditedYaml, int] | None:
        for body, node in self.sheets.lists("crossings"):
            for at, item in enumerate(node.items):
                if (_text_at(item, "from"), _text_at(item, "to")) == (source, destination):
                    return body, at
        return None

    def _set_crossing(self, told: Any, raw: Any) -> None:
        found = self._crossing(told.source, told.destination)
        if found is not None:
            found[0].set_key(("crossings", found[1]), "filter", found[0].written(told.filter))
            return
        self._listed_last("crossings", {"from": told.source, "to": told.destination, "filter": told.filter})

    def _listed_last(self, section: str, values: Mapping[str, Any]) -> None:
        """One more entry of a section that is a list."""
        body = self.sheets.place_for(section)
        node = body.find((section,))
        if node is None:
            body.set_key((), section, f"[{body.written(values)}]")
        else:
            body.insert((section,), len(node.items), body.written(values))

    def _remove_crossing(self, told: Any, raw: Any) -> None:
        found = self._crossing(told.source, told.destination)
        if found is None:
            raise _Unfit(f"there is no crossing from '{told.source}' to '{told.destination}'")
        found[0].remove(("crossings",), found[1])

    def _add_filter(self, told: Any, raw: Any) -> None:
        self._must_be_new("filters", told.filter)
        self._set_named("filters", told.filter, self.sheets.place_for("filters").written(raw["is"]))

    def _remove_filter(self, told: str, raw: Any) -> None:
        self._remove_named("filters", told)

    def _accept(self, told: Any, raw: Mapping[str, Any]) -> None:
        for body, node in self.sheets.lists("accepted"):
            for item in node.items:
                if (_text_at(item, "finding"), _text_at(item, "at")) == (told.finding, told.at):
                    line = body.text.count("\n", 0, item.start) + 1
                    raise _Unfit(f"{told.finding} at {told.at} is accepted as it is (line {line})")
        self._listed_last("accepted", raw)

    def _set_defaults(self, told: Any, raw: Mapping[str, Any]) -> None:
        body = self.sheets.place_for("defaults")
        for key, value in raw.items():
            if value is None:
                raise _Unfit(f"'{key}' is to be something")
            if body.find(("defaults",)) is None:
                body.set_key((), "defaults", body.written({key: value}))
            else:
                body.set_key(("defaults",), key, body.written(value))


def _text_at(node: Node | None, key: str) -> str | None:
    """The text of a key of a table."""
    at = node.place_of(key) if node is not None and node.kind == "map" else None
    if node is None or at is None or node.items[at].kind != "scalar":
        return None
    return node.items[at].text or None


def _texts_at(node: Node | None, key: str) -> list[str]:
    """The texts of a key that is a text or a list of them."""
    at = node.place_of(key) if node is not None and node.kind == "map" else None
    if node is None or at is None:
        return []
    inner = node.items[at]
    listed: Sequence[Node] = inner.items if inner.kind == "list" else [inner]
    return [each.text for each in listed if each.kind == "scalar" and each.text]


def _same_block(one: str | None, other: str) -> bool:
    try:
        return one is not None and parse_prefix(one) == parse_prefix(other)
    except ValueError:
        return one == other
