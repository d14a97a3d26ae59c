"""YAML 1.2 core schema, safe subset, as values that know their lines.

Built from the events of libyaml's parser without recursion, with caps on depth, size and expanded aliases, so
that no input can exhaust the stack or the memory. Plain scalars stay text (`Plain`): what they mean depends on
the field they stand in, so `on`, `off`, `yes`, `no` and a name such as `10` are never turned into something else.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import yaml
from yaml.events import (
    AliasEvent,
    DocumentStartEvent,
    MappingEndEvent,
    MappingStartEvent,
    ScalarEvent,
    SequenceEndEvent,
    SequenceStartEvent,
    StreamEndEvent,
)

from kiboko.core.errors import InputError, Place, Problem
from kiboko.files.documents.nearby import nearby

try:
    from yaml import CSafeLoader as _Loader
except ImportError:  # PyYAML built without libyaml: slower, same events
    from yaml import SafeLoader as _Loader  # type: ignore[assignment]

EventLoader = _Loader
"""What gives the events of a text, in C where that is there."""
MOST_BYTES = 256 << 20
MOST_DEPTH = 100
MOST_ALIASED = 100_000
_STANDARD_TAGS = frozenset(f"tag:yaml.org,2002:{kind}" for kind in ("str", "int", "bool", "null", "float"))
_COLLECTION_TAGS = frozenset(f"tag:yaml.org,2002:{kind}" for kind in ("map", "seq"))


class Plain(str):
    """A scalar that was written without quotes: a number, a truth value or null where the field wants one."""

    __slots__ = ()


class Table(dict[str, Any]):
    """A mapping with the line of each key. `size` counts the values inside, aliases expanded."""

    __slots__ = ("file", "line", "lines", "size")

    def __init__(self, file: str, line: int) -> None:
        super().__init__()
        self.file, self.line, self.size = file, line, 1
        self.lines: dict[str, int] = {}

    def place(self, key: object = None) -> Place:
        """Where a key stands, or the mapping itself."""
        return Place(self.file, self.lines.get(key, self.line) if isinstance(key, str) else self.line)


class Items(list[Any]):
    """A sequence with the line of each item."""

    __slots__ = ("file", "line", "lines", "size")

    def __init__(self, file: str, line: int) -> None:
        super().__init__()
        self.file, self.line, self.size = file, line, 1
        self.lines: list[int] = []

    def place(self, index: object = None) -> Place:
        """Where an item stands, or the sequence itself."""
        inside = isinstance(index, int) and 0 <= index < len(self.lines)
        return Place(self.file, self.lines[index] if inside else self.line)  # type: ignore[call-overload]


def read_text(path: Path, name: str) -> str:
    """A file's text in UTF-8. Raises InputError where it cannot be read, is too large or is no text."""
    try:
        with path.open("rb") as stream:  # bounded: a device may have no end
            data = stream.read(MOST_BYTES + 1)
    except OSError as error:
        hint = "" if path.exists() else nearby(path)
        raise InputError(f"{name}: cannot be read: {error.strerror}{hint}") from error
    if not data and not path.is_file():
        told = "what another program writes can be read once; if it is read again here, put it into a file"
        raise InputError(f"{name}: there is nothing to read: {told}")
    if len(data) > MOST_BYTES:
        raise InputError([Problem(Place(name, 1), f"the file is larger than the {MOST_BYTES:,} bytes allowed")])
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        told = "UTF-16 text; save it as UTF-8" if data[:2] in (b"\xff\xfe", b"\xfe\xff") else "not UTF-8 text"
        raise InputError([Problem(Place(name, line), f"this is {told}")]) from error


def parse(text: str, file: str) -> tuple[Any, list[Problem]]:
    """The one document in `text`, and what is wrong with it that does not stop reading (duplicate keys).

    Raises InputError where reading cannot go on: a syntax error, a second document, a cap exceeded.
    """
    try:
        return _Reader(text, file).read()
    except yaml.MarkedYAMLError as error:
        raise InputError([_syntax_problem(text, file, error)]) from error
    except yaml.reader.ReaderError as error:
        line = text.count("\n", 0, error.position) + 1 if isinstance(error.position, int) else 1
        raise InputError([Problem(Place(file, line), f"not text: {error.reason}")]) from error


_WORDS = {
    "found character that cannot start any token": "this character cannot begin a value; put the text in quotes",
    "did not find expected ',' or '}'": "a '}' or ',' is missing before this line's end",
    "did not find expected ',' or ']'": "a ']' or ',' is missing before this line's end",
    "did not find expected key": "this line is not indented as the lines beside it are",
    "did not find expected '-' indicator": "this line is not indented as the items beside it are",
    "mapping values are not allowed in this context": "this line is not indented as the lines beside it are, or its"
    " text has ': ' inside and needs quotes",
    "found unexpected end of stream": "the file ends inside a quoted text or an open bracket",
}  # fmt: skip


def _syntax_problem(text: str, file: str, error: yaml.MarkedYAMLError) -> Problem:
    """What is wrong with the syntax, in a user's words, at the line where the fault is rather than where it shows."""
    mark = error.problem_mark or error.context_mark
    line = mark.line if mark else 0
    what = error.problem or "not YAML"
    if "nesting" in what:  # a limit of the library's own, met before ours while it looks ahead
        return Problem(Place(file, line + 1), f"nested deeper than {MOST_DEPTH} levels")
    lines = text.split("\n")
    context = error.context_mark.line if error.context_mark else line
    if "quoted scalar" in (error.context or ""):
        return Problem(Place(file, context + 1), "not YAML: the quote that opens here is never closed")
    tabbed = next((n for n in range(max(0, line - 1), min(line + 1, len(lines))) if _has_tab_indent(lines[n])), None)
    if tabbed is not None:
        return Problem(Place(file, tabbed + 1), "not YAML: a tab in the indentation; YAML wants spaces")
    if "flow" in (error.context or "") and context != line:
        opened = "[" if "sequence" in (error.context or "") else "{"
        return Problem(Place(file, context + 1), f"not YAML: the '{opened}' that opens here is never closed")
    if "could not find expected ':'" in what:
        return Problem(Place(file, context + 1), "not YAML: a ':' is missing behind this key")
    indent = len(lines[line]) - len(lines[line].lstrip()) if line < len(lines) else 0
    if what.startswith("did not find expected") and mark is not None and mark.column > indent:
        return Problem(Place(file, line + 1), "not YAML: more text behind a value; a quote or a bracket too many?")
    if "plain scalar" in (error.context or "") and what == "found unexpected ':'":
        return Problem(
            Place(file, line + 1), "not YAML: a text that ends in ':' stands in quotes here, as \"2001:db8::\""
        )
    said = _WORDS.get(what, " ".join(part for part in (error.context, what) if part))
    return Problem(Place(file, line + 1), f"not YAML: {said}")


def _has_tab_indent(line: str) -> bool:
    return "\t" in line[: len(line) - len(line.lstrip())]


class _Reader:
    def __init__(self, text: str, file: str) -> None:
        self.file = file
        # libyaml wants no NUL and no other control characters; it says where it meets one.
        self.next_event = EventLoader(text).get_event
        self.problems: list[Problem] = []
        self.anchors: dict[str, Any] = {}
        self.aliased = 0

    def fail(self, line: int, text: str) -> InputError:
        return InputError([*self.problems, Problem(Place(self.file, line + 1), text)])

    def read(self) -> tuple[Any, list[Problem]]:
        stack: list[tuple[Table | Items | None, str | None, str | None]] = []
        current: Table | Items | None = None
        key: str | None = None
        anchor: str | None = None
        result: Any = None
        documents = 0
        while True:
            event: Any = self.next_event()
            kind = event.__class__
            if kind is ScalarEvent:
                line = event.start_mark.line
                value = self.scalar(event, line)
                if event.anchor:
                    self.anchors[event.anchor] = value
                if current.__class__ is Table and key is None:
                    key = self.new_key(current, event.value, line)
                    continue
                result = self.put(current, key, value, line, result)
                key = None
            elif kind is MappingStartEvent or kind is SequenceStartEvent:
                line = event.start_mark.line
                if current.__class__ is Table and key is None:
                    raise self.fail(line, "a key must be plain text")
                if len(stack) >= MOST_DEPTH:
                    raise self.fail(line, f"nested deeper than {MOST_DEPTH} levels")
                if event.tag and event.tag not in _COLLECTION_TAGS:
                    raise self.fail(line, f"tag '{event.tag}' is not allowed")
                stack.append((current, key, anchor))
                anchor = event.anchor
                current = (Table if kind is MappingStartEvent else Items)(self.file, line + 1)
                key = None
            elif kind is MappingEndEvent or kind is SequenceEndEvent:
                done = current
                if anchor:
                    self.anchors[anchor] = done
                current, key, anchor = stack.pop()
                assert done is not None
                result = self.put(current, key, done, done.line - 1, result)
                key = None
            elif kind is AliasEvent:
                line = event.start_mark.line
                if current.__class__ is Table and key is None:
                    raise self.fail(line, "a key must be plain text")
                result = self.put(current, key, self.alias(event.anchor, line), line, result)
                key = None
            elif kind is DocumentStartEvent:
                documents += 1
                if documents > 1:
                    raise self.fail(event.start_mark.line, "a second document; one file holds one")
            elif kind is StreamEndEvent:
                return result, self.problems

    def scalar(self, event: ScalarEvent, line: int) -> str | None:
        tag = event.tag
        if tag and tag != "!":
            if tag not in _STANDARD_TAGS:
                raise self.fail(line, f"tag '{tag}' is not allowed")
            return event.value if tag.endswith(":str") else Plain(event.value)
        if not event.implicit[0]:
            return str(event.value)
        value = event.value
        return None if value in ("", "~", "null", "Null", "NULL") else Plain(value)

    def new_key(self, table: Table, key: str, line: int) -> str:
        if key in table.lines:
            first = table.lines[key]
            self.problems.append(
                Problem(Place(self.file, line + 1), f"key '{key}' is given twice; first in line {first}")
            )
        table.lines[key] = line + 1
        return key

    def put(self, current: Table | Items | None, key: str | None, value: Any, line: int, result: Any) -> Any:
        size = getattr(value, "size", 1)
        if current is None:
            return value
        current.size += size
        if current.__class__ is Table:
            current[key] = value  # type: ignore[index]
        else:
            current.append(value)  # type: ignore[union-attr]
            current.lines.append(line + 1)  # type: ignore[union-attr]
        return result

    def alias(self, name: str, line: int) -> Any:
        if name not in self.anchors:
            raise self.fail(line, f"alias '*{name}' has no anchor before it")
        value = self.anchors[name]
        self.aliased += getattr(value, "size", 1)
        if self.aliased > MOST_ALIASED:
            raise self.fail(line, f"aliases expand to more than {MOST_ALIASED:,} values")
        return value
