"""Steps of a change on machines: what hangs on them, their tags, listeners and addresses."""

from __future__ import annotations

from typing import Any

from kiboko.files.changes.sections import Sections, Unfit, text_at
from kiboko.files.changes.sheets import InstanceTable
from kiboko.files.documents.edited_yaml import EditedYaml
from kiboko.files.documents.edited_yaml import Path as Keys


class MachineSteps(Sections):
    """Does the steps on machines, each by a method of its name."""

    # Attachments.

    def _attach(self, told: Any, raw: Any) -> None:
        for name in told.to:
            self._attachment(told.filter, name, True)

    def _detach(self, told: Any, raw: Any) -> None:
        for name in told.from_:
            self._attachment(told.filter, name, False)

    def _attachment(self, chosen: str, name: str, on: bool) -> None:
        body, keys = self.named("filters", chosen)
        layer = text_at(body.find(keys), "layer")
        if layer == "zone":
            raise Unfit("a zone filter is carried by a crossing: set_crossing")
        if layer == "host":
            self._single(*self._instance(name), "host_filter", chosen, name, on)
        elif layer == "subnet":
            section = "outside" if self.sheets.holding("outside", name) is not None else "subnets"
            self._single(*self.named(section, name), "filter", chosen, name, on)
        elif name == "all" or self.sheets.holding("groups", name) is not None:
            self.change_list(body, keys, "attach_to", name, on, f"filter '{chosen}'")
        else:
            self._at_interfaces(chosen, name, on)

    def _instance(self, name: str) -> tuple[EditedYaml, Keys]:
        if self.sheets.table is not None and name in self.sheets.table.names():
            raise Unfit(f"'{name}' is of the table of instances, which has no column for that")
        return self.named("instances", name)

    def _single(self, body: EditedYaml, keys: Keys, key: str, value: str, name: str, on: bool) -> None:
        now = text_at(body.find(keys), key)
        if on and now == value:
            raise Unfit(f"'{name}' carries '{value}' as it is")
        if on and now is not None:
            raise Unfit(f"'{name}' carries '{now}': detach that first")
        if not on and now != value:
            raise Unfit(f"'{name}' does not carry '{value}'")
        if on:
            body.set_key(keys, key, body.written(value))
        else:
            body.remove_key(keys, key)

    def _at_interfaces(self, chosen: str, name: str, on: bool) -> None:
        machine, _, device = name.partition("/")
        table = self.sheets.table
        if table is not None and machine in table.names():
            self._in_table(table, machine, device, chosen, on)
            return
        body, keys = self.named("instances", machine)
        for at in self._interfaces(body, keys, machine, device):
            self.change_list(body, (*keys, "interfaces", at), "filters", chosen, on, f"an interface of '{name}'")

    def _interfaces(self, body: EditedYaml, keys: Keys, machine: str, device: str) -> list[int]:
        node = body.find((*keys, "interfaces"))
        names = [text_at(item, "name") or f"eth{at}" for at, item in enumerate(node.items if node is not None else ())]
        found = [at for at, each in enumerate(names) if device in ("", each)]
        if not found:
            raise Unfit(f"'{machine}' has no interface '{device}'; it has {', '.join(names) or 'none'}")
        return found

    def _in_table(self, table: InstanceTable, machine: str, device: str, chosen: str, on: bool) -> None:
        rows = table.cells(machine)
        for at, row in enumerate(rows):
            if device in ("", f"eth{at}"):
                now = [each for each in row.get("filters", "").split(";") if each.strip() not in ("", "-")]
                if on == (chosen in now):
                    raise Unfit(f"'{machine}' {'carries' if on else 'does not carry'} '{chosen}'")
                left = [*now, chosen] if on else [each for each in now if each != chosen]
                table.set_cell(machine, "filters", ";".join(left) or "-", at)

    # Machines.

    def _set_instance(self, told: Any, raw: Any) -> None:
        table = self.sheets.table
        if table is not None and told.instance in table.names():
            self._set_in_table(table, told, raw)
            return
        body, keys = self.named("instances", told.instance)
        for key, value in raw.items():
            if key == "tags":
                for tag, text in value.items():
                    self.set_inside(body, keys, "tags", tag, text)
            elif key != "instance":
                self.set_or_take(body, keys, key, value)

    def _set_in_table(self, table: InstanceTable, told: Any, raw: Any) -> None:
        name, (row, *_) = told.instance, table.cells(told.instance)
        for key, value in raw.items():
            if key == "state":
                table.set_cell(name, "state", str(value or ""))
            elif key == "listens":
                if not all(isinstance(each, str) for each in value or ()):
                    raise Unfit("in the table of instances a listener is a service alone")
                table.set_cell(name, "listens", "" if value is None else ";".join(value) or "-")
            elif key == "tags":
                given = row.get("tags", "")
                now = dict(pair.split("=", 1) for pair in given.split(";") if "=" in pair)
                for tag, text in value.items():
                    now = {**now, tag: text} if text is not None else {k: v for k, v in now.items() if k != tag}
                table.set_cell(name, "tags", ";".join(f"{k}={v}" for k, v in now.items()) or "-")
            elif key != "instance":
                raise Unfit(f"the table of instances has no column for '{key}'")

    def _set_interface(self, told: Any, raw: Any) -> None:
        machine, _, device = told.interface.partition("/")
        table = self.sheets.table
        if table is not None and machine in table.names():
            rows = range(len(table.cells(machine)))
            chosen = [at for at in rows if device in ("", f"eth{at}")]
            if len(chosen) != 1:
                raise Unfit(f"'{told.interface}' stands for {len(chosen)} interfaces: name one of them")
            for key, value in raw.items():
                if key != "interface":
                    cell = ";".join(told.addresses or ()) if key == "addresses" else value
                    table.set_cell(machine, {"addresses": "address"}.get(key, key), str(cell or "-"), chosen[0])
            return
        body, keys = self.named("instances", machine)
        found = self._interfaces(body, keys, machine, device)
        if len(found) != 1:
            raise Unfit(f"'{told.interface}' stands for {len(found)} interfaces: name one of them")
        for key, value in raw.items():
            if key != "interface":
                self.set_or_take(body, (*keys, "interfaces", found[0]), key, value)
