"""Expectations read from a file of their own, and from a table of wanted connections as a request comes with."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BeforeValidator

from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import parse_services, service_hint, union_services
from kiboko.core.hints import nearest
from kiboko.core.network.model import Expectation
from kiboko.files.documents import lined_yaml
from kiboko.files.documents.lined_yaml import Items, Table
from kiboko.files.documents.shapes import Shape, held_against, of_another_kind
from kiboko.files.network.network_file import expectation_of
from kiboko.files.network.schema import ExpectationShape

_COLUMNS = {
    "from": ("from", "source", "src", "origin"), "to": ("to", "destination", "dst", "target"),
    "service": ("service", "port", "ports"), "id": ("id", "number", "nr"), "expect": ("expect",),
    "except": ("except",), "owner": ("owner", "requester"), "reason": ("reason", "purpose", "comment", "note"),
}  # fmt: skip
"""The columns of a table, each with the headings that people give it; those of the first row decide."""
_EXPECT = ("allowed", "blocked", "only")


class ExpectationFile(Shape):
    """A file of expectations, version 1."""

    kiboko: Annotated[Literal["expectations/1"], BeforeValidator(str)]
    expectations: list[ExpectationShape]


def read_expectations(path: Path, named: Mapping[str, RangeSet]) -> list[Expectation]:
    """A file of expectations: YAML that begins with `kiboko: expectations/1`. Raises InputError with everything that is
    wrong with it."""
    raw, problems = lined_yaml.parse(lined_yaml.read_text(path, str(path)), str(path))
    if not isinstance(raw, Table):
        text = "this is no file of expectations; it starts with 'kiboko: expectations/1'"
        raise InputError([Problem(Place(str(path), 1), text)])
    if other := of_another_kind(raw, "expectations/1"):
        raise InputError(other)
    shape = held_against(ExpectationFile, raw, problems)
    if shape is None or problems:
        raise InputError(problems)
    listed = raw["expectations"]
    found = []
    first: dict[str, Place] = {}
    for index, each in enumerate(shape.expectations):
        place = listed.place(index) if isinstance(listed, Items) else Place(str(path), 1)
        if each.id in first:
            problems.append(Problem(place, f"expectation '{each.id}' is there twice; first in {first[each.id]}"))
        first.setdefault(each.id, place)
        found.append(expectation_of(each, _services(list(each.service), named, each.id, place, problems), place))
    if problems:
        raise InputError(problems)
    return found


def _services(
    texts: Sequence[str], named: Mapping[str, RangeSet], owner: str, place: Place, problems: list[Problem]
) -> RangeSet:
    found = []
    for text in texts:
        try:
            found.append(parse_services(text, named))
        except ValueError as error:
            problems.append(Problem(place, f"expectation '{owner}': {error}{service_hint(text, named)}"))
    return union_services(found)


def read_table(path: Path, named: Mapping[str, RangeSet], prefix: str = "") -> list[Expectation]:
    """A table of wanted connections as CSV, with any of the usual separators: from, to and service, and if it has them
    id (else its line, behind `prefix`), expect (else `allowed`), except, owner, reason; several in a cell are split by
    `;`, `,` or a line break. Raises InputError with everything that is wrong with it."""
    text = lined_yaml.read_text(path, str(path)).lstrip("\ufeff")
    problems: list[Problem] = []
    head = text.partition("\n")[0]
    delimiter = max(",;\t|", key=head.count)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    header = [cell.strip().lower() for cell in next(reader, [])]
    column = {name: next((place for place, cell in enumerate(header) if cell in words), None)
              for name, words in _COLUMNS.items()}  # fmt: skip
    for name in ("from", "to", "service"):
        if column[name] is None:
            words = ", ".join(_COLUMNS[name])
            problems.append(Problem(Place(str(path), 1), f"no column '{name}' (or {words}); there are"
                                    f" {', '.join(header) or 'none'}" + nearest(name, header)))  # fmt: skip
    if problems:
        raise InputError(problems)
    found = []
    for row in reader:
        place = Place(str(path), reader.line_num)
        if not any(cell.strip() for cell in row):
            continue
        cells = {name: row[at].strip() if at is not None and at < len(row) else "" for name, at in column.items()}
        number = cells["id"] or f"{prefix}line-{reader.line_num}"
        expect = cells["expect"].lower() or "allowed"
        if expect not in _EXPECT:
            problems.append(Problem(place, f"'{expect}' is none of {', '.join(_EXPECT)}" + nearest(expect, _EXPECT)))
            continue
        missing = [name for name in ("from", "to", "service") if not cells[name]]
        if missing:
            problems.append(Problem(place, f"nothing in {' and '.join(missing)}"))
            continue
        services = _services(_split(cells["service"]), named, number, place, problems)
        found.append(Expectation(number, _split(cells["from"]), _split(cells["to"]), services, cells["service"], expect,
                                 place, _split(cells["except"]), None, cells["owner"], cells["reason"]))  # fmt: skip
    if not found and not problems:
        problems.append(Problem(Place(str(path), 1), "there is no row in it"))
    if problems:
        raise InputError(problems)
    return found


def _split(cell: str) -> tuple[str, ...]:
    return tuple(part.strip() for part in re.split("[;,\n]", cell) if part.strip())
