"""Edits of a YAML text that leave everything else as it is, octet by octet: comments, order, layout, quotes.

The text is parsed for where each value stands, and an edit cuts out or puts in no more than has to change. Values that
are put in are written on one line, in flow style, in the manner of the file: as JSON where the file is JSON.
"""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from yaml.events import (
    AliasEvent,
    MappingEndEvent,
    MappingStartEvent,
    ScalarEvent,
    SequenceEndEvent,
    SequenceStartEvent,
    StreamEndEvent,
)

from kiboko.files.documents.lined_yaml import EventLoader, Plain

Path = tuple[str | int, ...]
"""The keys and places that lead to a value."""
_MAP, _LIST, _SCALAR, _ALIAS = "map", "list", "scalar", "alias"
_PLAIN = re.compile(r"[A-Za-z0-9_/.<>(][A-Za-z0-9_/.<>()*+-]*")
_NO_TEXT = re.compile(r"[-+]?[0-9.][0-9_.eE+-]*|0[xo][0-9a-fA-F]+|~|null|Null|NULL|true|True|TRUE|false|False|FALSE")


class NotEditable(ValueError):
    """An edit that the layout of the text does not allow: it has to be made by hand."""


@dataclass(slots=True)
class Node:
    """A value and where it stands: the text from `start` to before `end`. A map has its keys, each with where it
    begins and ends; a map and a list have the values in them."""

    kind: str
    start: int
    end: int = 0
    is_flow: bool = False
    text: str = ""
    keys: list[tuple[str, int, int]] = field(default_factory=list)
    items: list[Node] = field(default_factory=list)

    def place_of(self, key: str) -> int | None:
        """Which of its values a key has, None where there is no such key."""
        return next((at for at, (name, _, _) in enumerate(self.keys) if name == key), None)


class EditedYaml:
    """A YAML text that is edited. Raises NotEditable where an edit would have to guess."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.is_json = text.lstrip("\ufeff \t\r\n")[:1] == "{" and _is_json(text)
        self._break = "\r\n" if "\r\n" in text else "\n"
        self._root: Node | None = None

    @property
    def root(self) -> Node:
        """The whole document."""
        if self._root is None:
            self._root = _nodes(self.text)
        return self._root

    def find(self, path: Path) -> Node | None:
        """The value at a path; None where there is none."""
        node: Node | None = self.root
        for step in path:
            if node is None or node.kind == _ALIAS:
                return None
            at = node.place_of(step) if isinstance(step, str) else step
            node = node.items[at] if at is not None and 0 <= at < len(node.items) else None
        return node

    def line_of(self, path: Path) -> int:
        """The line of a value, from 1."""
        node = self._at(path)
        return self.text.count("\n", 0, node.start) + 1

    def _at(self, path: Path) -> Node:
        node = self.find(path)
        if node is None:
            raise NotEditable(f"there is nothing at {_path_text(path)}, or it is written elsewhere and referred to (*)")
        return node

    def written(self, value: Any) -> str:
        """A value as it is put in: one line, in flow style."""
        return flow_text(value, self.is_json)

    # Edits.

    def replace(self, path: Path, value: str) -> None:
        """Put a text in the place of a value."""
        node = self._at(path)
        gap = " " if node.start == node.end and self.text[node.start - 1 : node.start] in (":", "-") else ""
        if node.kind == _LIST and not node.is_flow:
            gap = "  "  # its dashes may stand right below the key, where nothing else may
        self._put(node.start, node.end, gap + value)

    def set_key(self, path: Path, key: str, value: str) -> None:
        """Give a key of a map a value, written as text; a new key comes last."""
        node = self._at(path)
        if node.kind == _SCALAR and not node.text:  # a section with nothing in it
            self.replace(path, f"{{{self._key(key)}: {value}}}")
            return
        if node.kind != _MAP:
            raise NotEditable(f"{_path_text(path)} is no table")
        at = node.place_of(key)
        if at is not None:
            self.replace((*path, key), value)
            return
        entry = f"{self._key(key)}: {value}"
        if node.is_flow:
            self._put_in_flow(node, len(node.items), entry)
        else:
            column = self._column(node.keys[0][1])
            self._add_line(self._line_end(node.items[-1].end), " " * column + entry)

    def remove_key(self, path: Path, key: str) -> None:
        """Take a key and its value out of a map."""
        node = self._at(path)
        at = node.place_of(key)
        if at is None:
            raise NotEditable(f"{_path_text(path)} has no '{key}'")
        start, end = node.keys[at][1], node.items[at].end
        if node.is_flow:
            self._take_from_flow(node, at, start, end)
        elif len(node.keys) == 1:
            self._put(start, end, "{}")
        elif self.text[self._line_start(start) : start].strip():  # behind the dash of a list
            self._put(start, node.keys[at + 1][1], "")
        else:
            self._take_lines(start, end)

    def insert(self, path: Path, place: int, value: str) -> None:
        """Put a value, written as text, into a list in front of the one at a place, or behind the last."""
        node = self._at(path)
        if node.kind == _SCALAR and not node.text:
            self.replace(path, f"[{value}]")
            return
        if node.kind != _LIST:
            raise NotEditable(f"{_path_text(path)} is no list")
        if node.is_flow:
            self._put_in_flow(node, place, value)
            return
        dash = self._dash(node.items[0])
        line = f"{' ' * self._column(dash)}- {value}"
        if place > 0:
            self._add_line(self._line_end(node.items[place - 1].end), line)
            return
        start = self._line_start(dash)
        if self.text[start:dash].strip():
            raise NotEditable(f"{_path_text(path)} begins in the middle of a line")
        while start and self._is_comment(before := self._line_start(start - 1)):
            start = before  # a comment in front of the first item stays with it
        self._put(start, start, line + self._break)

    def remove(self, path: Path, place: int) -> None:
        """Take a value out of a list."""
        node = self._at(path)
        if node.kind != _LIST or not 0 <= place < len(node.items):
            raise NotEditable(f"{_path_text(path)} has no item {place + 1}")
        item = node.items[place]
        if node.is_flow:
            self._take_from_flow(node, place, item.start, item.end)
            return
        dash = self._dash(item)
        start = self._line_start(dash)
        if self.text[start:dash].strip():
            raise NotEditable(f"{_path_text(path)} begins in the middle of a line")
        if len(node.items) == 1:
            self._put(dash, item.end, "  []")
        else:
            self._take_lines(dash, item.end)

    def taken(self, path: Path) -> str:
        """The text of a value, as it is written."""
        node = self._at(path)
        return self.text[node.start : node.end]

    # Text.

    def _put(self, start: int, end: int, text: str) -> None:
        self.text = self.text[:start] + text + self.text[end:]
        self._root = None

    def _key(self, key: str) -> str:
        return json.dumps(key) if self.is_json or not _is_plain(key) else key

    def _line_start(self, at: int) -> int:
        return self.text.rfind("\n", 0, at) + 1

    def _line_end(self, at: int) -> int:
        """The end of a line, in front of its break."""
        end = self.text.find("\n", at)
        if end < 0:
            return len(self.text)
        return end - 1 if self.text[end - 1 : end] == "\r" else end

    def _column(self, at: int) -> int:
        return at - self._line_start(at) - (1 if self.text.startswith("\ufeff") and not self._line_start(at) else 0)

    def _is_comment(self, start: int) -> bool:
        return self.text[start : self._line_end(start)].lstrip().startswith("#")

    def _add_line(self, at: int, line: str) -> None:
        self._put(at, at, self._break + line)

    def _take_lines(self, start: int, end: int) -> None:
        """Take out the lines of a value, with what stands behind it on its last line."""
        begin, stop = self._line_start(start), self.text.find("\n", end)
        if stop >= 0:
            self._put(begin, stop + 1, "")
        else:
            self._put(max(0, begin - len(self._break)) if begin else 0, len(self.text), "")

    def _dash(self, item: Node) -> int:
        """Where the dash of an item stands."""
        at = item.start - 1
        while at >= 0 and self.text[at] in " \t\r\n":
            at -= 1
        if at < 0 or self.text[at] != "-":
            raise NotEditable("a list whose dashes stand apart from its items")
        return at

    def _put_in_flow(self, node: Node, place: int, entry: str) -> None:
        starts = [key[1] for key in node.keys] if node.kind == _MAP else [item.start for item in node.items]
        if not starts:
            inside = self.text[node.start + 1 : node.end - 1]
            self._put(node.start + 1, node.end - 1, entry if not inside.strip() else f"{inside}{entry}")
            return
        if place < len(starts):
            at = starts[place]
            indent = self.text[self._line_start(at) : at]
            own_line = not indent.strip()
            self._put(at, at, f"{entry},{self._break}{indent}" if own_line else f"{entry}, ")
            return
        end, last = node.items[-1].end, starts[-1]
        indent = self.text[self._line_start(last) : last]
        if indent.strip() or self._line_start(last) <= node.start:
            self._put(end, end, f", {entry}")
            return
        # Each on a line of its own: a comment behind the last stays with it.
        rest_end = self._line_end(end)
        rest = self.text[end:rest_end]
        comma = rest.lstrip()[:1] == ","
        if rest.strip() and not rest.lstrip(" \t,").startswith("#"):
            self._put(end, end, f", {entry}")
        else:
            line = f"{self._break}{indent}{entry}{',' if comma else ''}"
            self._put(end, rest_end, ("" if comma else ",") + rest + line)

    def _take_from_flow(self, node: Node, place: int, start: int, end: int) -> None:
        starts = [key[1] for key in node.keys] if node.kind == _MAP else [item.start for item in node.items]
        if place + 1 < len(starts):
            self._put(start, starts[place + 1], "")
        elif place:
            self._put(node.items[place - 1].end, end, "")
        else:
            self._put(start, end, "")


def flow_text(value: Any, is_json: bool = False) -> str:
    """A value on one line, in flow style: tables, lists, texts as they were written, numbers and truth values."""
    if isinstance(value, dict):
        pairs = (f"{_key_text(str(key), is_json)}: {flow_text(inner, is_json)}" for key, inner in value.items())
        return "{" + ", ".join(pairs) + "}"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(flow_text(inner, is_json) for inner in value) + "]"
    if value is None:
        return "null"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int):
        return str(value)
    text = str(value)
    if isinstance(value, Plain) and _NO_TEXT.fullmatch(text):
        return text  # a number, or what reads as one
    if is_json or not _is_plain(text):
        return json.dumps(text, ensure_ascii=False)
    return text


def _key_text(key: str, is_json: bool) -> str:
    return json.dumps(key) if is_json or not _is_plain(key) else key


def _is_plain(text: str) -> bool:
    """Whether a text may stand without quotes, and stays text."""
    return _PLAIN.fullmatch(text) is not None and not _NO_TEXT.fullmatch(text)


def _is_json(text: str) -> bool:
    """Whether a text begins as JSON does: with a key in double quotes, or with nothing."""
    return text.lstrip("\ufeff \t\r\n")[1:].lstrip()[:1] in ('"', "}")


def _path_text(path: Sequence[str | int]) -> str:
    return "/".join(str(step + 1) if isinstance(step, int) else step for step in path) or "the top"


def _nodes(text: str) -> Node:
    """Where every value of a document stands. The text has been read before, so that its syntax is good."""
    shift = 1 if text.startswith("\ufeff") else 0
    source = text[shift:]
    next_event = EventLoader(source).get_event
    stack: list[Node] = []
    result: Node | None = None
    key: tuple[str, int, int] | None = None
    keys: list[tuple[str, int, int] | None] = []

    def put(node: Node) -> None:
        nonlocal result, key
        if not stack:
            result = node
            return
        holder = stack[-1]
        if holder.kind == _MAP:
            assert key is not None
            holder.keys.append(key)
            key = None
        holder.items.append(node)

    while True:
        event: Any = next_event()
        kind = event.__class__
        if kind is ScalarEvent:
            start, end = event.start_mark.index + shift, event.end_mark.index + shift
            if event.style in ("|", ">"):
                end = start + len(text[start:end].rstrip())
            if stack and stack[-1].kind == _MAP and key is None:
                key = event.value, start, end
                continue
            put(Node(_SCALAR, start, end, text=event.value if event.value or event.style else ""))
        elif kind is MappingStartEvent or kind is SequenceStartEvent:
            node = Node(_MAP if kind is MappingStartEvent else _LIST, event.start_mark.index + shift,
                        is_flow=event.flow_style)  # fmt: skip
            put(node)
            keys.append(key)
            key = None
            stack.append(node)
        elif kind is MappingEndEvent or kind is SequenceEndEvent:
            done = stack.pop()
            key = keys.pop()
            if done.is_flow:
                done.end = event.end_mark.index + shift
            else:
                done.end = done.items[-1].end if done.items else done.start
        elif kind is AliasEvent:
            put(Node(_ALIAS, event.start_mark.index + shift, event.end_mark.index + shift))
        elif kind is StreamEndEvent:
            assert result is not None
            return result
