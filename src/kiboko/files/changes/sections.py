"""The sections of a network file as the steps of a change edit them: names, lists and tables in their texts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from kiboko.files.changes.change_file import unknown
from kiboko.files.changes.sheets import Sheets
from kiboko.files.documents.edited_yaml import EditedYaml, Node
from kiboko.files.documents.edited_yaml import Path as Keys

_KIND = {
    "filters": "filter", "groups": "group", "services": "service", "instances": "instance", "subnets": "subnet",
    "route_tables": "route table", "outside": "outside", "zones": "zone",
}  # fmt: skip


class Unfit(ValueError):
    """A step that does not fit the network file."""


class Sections:
    """The sections of the files of a network."""

    def __init__(self, sheets: Sheets) -> None:
        self.sheets = sheets

    def named(self, section: str, name: str) -> tuple[EditedYaml, Keys]:
        """Where a name of a section is written. Raises Unfit where there is none."""
        found = self.sheets.holding(section, name)
        if found is None:
            raise Unfit(unknown(_KIND[section], name, self.sheets.names(section)))
        return found

    def must_be_new(self, section: str, name: str) -> None:
        """Raise Unfit where there is such a name already."""
        if self.sheets.holding(section, name) is not None:
            raise Unfit(f"there is a {_KIND[section]} '{name}' already")

    def set_named(self, section: str, name: str, value: str) -> None:
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

    def remove_named(self, section: str, name: str) -> None:
        """Take a name out of a section."""
        body, _ = self.named(section, name)
        body.remove_key((section,), name)

    def change_list(self, body: EditedYaml, keys: Keys, key: str, value: str, on: bool, owner: str) -> None:
        """A value put into a list of texts, or taken out; one text may stand for a list of it."""
        now = texts_at(body.find(keys), key)
        if on == (value in now):
            raise Unfit(f"{owner} has '{value}' in '{key}' as it is" if on else f"{owner} has no '{value}' in '{key}'")
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

    def set_inside(self, body: EditedYaml, keys: Keys, holder: str, key: str, value: Any) -> None:
        """A key of a table inside, which is made where there is none."""
        if body.find((*keys, holder)) is None:
            if value is None:
                raise Unfit(f"there is no {holder} '{key}' to take off")
            body.set_key(keys, holder, body.written({key: value}))
            return
        self.set_or_take(body, (*keys, holder), key, value)

    def set_or_take(self, body: EditedYaml, keys: Keys, key: str, value: Any) -> None:
        """A key of a table set, or with None taken off."""
        node = body.find(keys)
        if value is not None:
            body.set_key(keys, key, body.written(value))
        elif node is None or node.place_of(key) is None:
            raise Unfit(f"there is no '{key}' to take off")
        else:
            body.remove_key(keys, key)

    def add_last(self, section: str, values: Mapping[str, Any]) -> None:
        """One more entry of a section that is a list."""
        body = self.sheets.place_for(section)
        node = body.find((section,))
        if node is None:
            body.set_key((), section, f"[{body.written(values)}]")
        else:
            body.insert((section,), len(node.items), body.written(values))


def text_at(node: Node | None, key: str) -> str | None:
    """The text of a key of a table."""
    at = node.place_of(key) if node is not None and node.kind == "map" else None
    if node is None or at is None or node.items[at].kind != "scalar":
        return None
    return node.items[at].text or None


def texts_at(node: Node | None, key: str) -> list[str]:
    """The texts of a key that is a text or a list of them."""
    at = node.place_of(key) if node is not None and node.kind == "map" else None
    if node is None or at is None:
        return []
    inner = node.items[at]
    listed: Sequence[Node] = inner.items if inner.kind == "list" else [inner]
    return [each.text for each in listed if each.kind == "scalar" and each.text]
