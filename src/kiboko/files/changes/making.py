"""A change made in the files of a network: each step edits no more of their text than has to change."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.header.addresses import parse_prefix
from kiboko.files.changes.change_file import Change, Step
from kiboko.files.changes.machine_steps import MachineSteps
from kiboko.files.changes.rule_steps import RuleSteps
from kiboko.files.changes.sections import Unfit, text_at
from kiboko.files.changes.sheets import Sheets
from kiboko.files.documents.edited_yaml import EditedYaml, NotEditable
from kiboko.files.documents.edited_yaml import Path as Keys


def make(change: Change, sheets: Sheets) -> None:
    """Make a change in the texts of a network. Raises InputError with every step that does not fit, at its place in the
    change file; the texts are of no use then."""
    maker, problems = _Maker(sheets), []
    touched: dict[tuple[str, ...], Place] = {}
    for step in change.steps:
        try:
            for what in _touches(step):
                if what in touched:
                    raise Unfit(f"{' '.join(what)} is changed twice; first in line {touched[what].line}")
                touched[what] = step.place
            maker.make(step)
        except (Unfit, NotEditable) as error:
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


class _Maker(RuleSteps, MachineSteps):
    def make(self, step: Step) -> None:
        """One step. Raises NotEditable and what says that it does not fit."""
        done: Callable[[Any, Any], None] = getattr(self, f"_{step.verb}")
        done(step.told, step.raw)

    # Subnets and routes.

    def _set_subnet(self, told: Any, raw: Any) -> None:
        body, keys = self.named("subnets", told.subnet)
        for key, value in raw.items():
            if key != "subnet":
                self.set_or_take(body, keys, key, value)

    def _add_route(self, told: Any, raw: Any) -> None:
        body, keys = self.named("route_tables", told.table)
        node = body.find(keys)
        body.insert(keys, len(node.items) if node is not None else 0, body.written(raw["route"]))

    def _route(self, told: Any) -> tuple[EditedYaml, Keys, int]:
        body, keys = self.named("route_tables", told.table)
        node = body.find(keys)
        entries = node.items if node is not None else []
        found = [at for at, item in enumerate(entries) if _same_block(text_at(item, "to"), told.to)
                 and told.origin in (None, text_at(item, "origin") or "static")]  # fmt: skip
        if not found:
            known = ", ".join(dict.fromkeys(str(text_at(item, "to")) for item in entries))
            raise Unfit(f"route table '{told.table}' has no entry to {told.to}; it has {known or 'none'}")
        if len(found) > 1:
            raise Unfit(f"route table '{told.table}' has {len(found)} entries to {told.to}: say which 'origin'")
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
            self.set_named("groups", told.group, self.sheets.place_for("groups").written(values))
            return
        body, keys = found
        for key, value in values.items():
            self.set_or_take(body, keys, key, value)

    def _add_members(self, told: Any, raw: Any) -> None:
        body, keys = self.named("groups", told.group)
        for name in told.members:
            self.change_list(body, keys, "members", name, True, f"group '{told.group}'")

    def _remove_members(self, told: Any, raw: Any) -> None:
        body, keys = self.named("groups", told.group)
        for name in told.members:
            self.change_list(body, keys, "members", name, False, f"group '{told.group}'")

    def _remove_group(self, told: str, raw: Any) -> None:
        self.remove_named("groups", told)

    def _set_service(self, told: Any, raw: Any) -> None:
        self.set_named("services", told.service, self.sheets.place_for("services").written(raw["means"]))

    def _remove_service(self, told: str, raw: Any) -> None:
        self.remove_named("services", told)

    def _crossing(self, source: str, destination: str) -> tuple[EditedYaml, int] | None:
        for body, node in self.sheets.lists("crossings"):
            for at, item in enumerate(node.items):
                if (text_at(item, "from"), text_at(item, "to")) == (source, destination):
                    return body, at
        return None

    def _set_crossing(self, told: Any, raw: Any) -> None:
        found = self._crossing(told.source, told.destination)
        if found is not None:
            found[0].set_key(("crossings", found[1]), "filter", found[0].written(told.filter))
            return
        self.add_last("crossings", {"from": told.source, "to": told.destination, "filter": told.filter})

    def _remove_crossing(self, told: Any, raw: Any) -> None:
        found = self._crossing(told.source, told.destination)
        if found is None:
            raise Unfit(f"there is no crossing from '{told.source}' to '{told.destination}'")
        found[0].remove(("crossings",), found[1])

    def _add_filter(self, told: Any, raw: Any) -> None:
        self.must_be_new("filters", told.filter)
        self.set_named("filters", told.filter, self.sheets.place_for("filters").written(raw["is"]))

    def _remove_filter(self, told: str, raw: Any) -> None:
        self.remove_named("filters", told)

    def _accept(self, told: Any, raw: Mapping[str, Any]) -> None:
        for body, node in self.sheets.lists("accepted"):
            for item in node.items:
                if (text_at(item, "finding"), text_at(item, "at")) == (told.finding, told.at):
                    line = body.text.count("\n", 0, item.start) + 1
                    raise Unfit(f"{told.finding} at {told.at} is accepted as it is (line {line})")
        self.add_last("accepted", raw)

    def _set_defaults(self, told: Any, raw: Mapping[str, Any]) -> None:
        body = self.sheets.place_for("defaults")
        for key, value in raw.items():
            if value is None:
                raise Unfit(f"'{key}' is to be something")
            if body.find(("defaults",)) is None:
                body.set_key((), "defaults", body.written({key: value}))
            else:
                body.set_key(("defaults",), key, body.written(value))


def _same_block(one: str | None, other: str) -> bool:
    try:
        return one is not None and parse_prefix(one) == parse_prefix(other)
    except ValueError:
        return one == other
