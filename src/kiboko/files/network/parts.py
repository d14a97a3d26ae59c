"""A network file or folder as checked parts: every file read, every key and type held against the schema."""

from __future__ import annotations

import csv
import dataclasses
import io
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType
from typing import Any

from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.hints import nearest
from kiboko.core.wording import counted
from kiboko.files.documents import lined_yaml
from kiboko.files.documents.lined_yaml import Items, Plain, Table
from kiboko.files.documents.nearby import nearby
from kiboko.files.documents.shapes import held_against, of_another_kind
from kiboko.files.network.listing import is_data
from kiboko.files.network.schema import SINGLE, NetworkFile

Texts = Mapping[str, str]
"""Texts that are read in the place of files, by what these are called in messages."""
_COLUMNS = ("name", "subnet", "address", "public", "state", "tags", "filters", "listens")
_OTHER_SEPARATORS = {";": "';'", "\t": "tabs", "|": "'|'"}


@dataclass(frozen=True, slots=True)
class Part:
    """One file of the network: its values with their lines, the same checked against the schema, the names that each
    section defines, those whose values are malformed too, and what is odd about it."""

    raw: Table
    shape: NetworkFile
    names: Mapping[str, Mapping[str, Place]]
    warnings: tuple[Problem, ...] = ()


def read_parts(path: Path, shown: str, problems: list[Problem], texts: Texts = MappingProxyType({})) -> list[Part]:
    """Every part of a network file or folder; what is wrong is added to `problems`. A file that `texts` has, by what it
    is called in messages, is read from there.

    Raises InputError where there is nothing to read at all.
    """
    if not path.exists():
        hint = "; standard input is /dev/stdin" if shown == "-" else nearby(path) if shown == str(path) else ""
        hint = hint or "; name one with --network PATH or KIBOKO_NETWORK"
        raise InputError(f"{shown}: no such network file{hint}")
    if not path.is_dir():
        part = _read_part(path, shown, problems, texts)
        return [part] if part else []
    files = sorted(path.iterdir())
    yamls = [file for file in files if file.suffix == ".yaml" and file.is_file()]
    if not yamls:
        raise InputError(f"{shown}: a network folder holds at least one *.yaml file, and there is none here")
    parts = [_read_part(file, f"{shown.rstrip('/')}/{file.name}", problems, texts) for file in yamls]
    tables = [file for file in files if file.name == "instances.csv"]
    found = [part for part in parts if part is not None]
    may_carry = any(each.layer == "instance" and not each.attach_to for part in found
                    for each in part.shape.filters.values())  # fmt: skip
    for file in tables:
        table = _read_instances(file, f"{shown.rstrip('/')}/{file.name}", problems, texts, may_carry)
        found += [table] if table is not None else []
    return found


def unread_files(path: Path, shown: str, used: set[Path]) -> list[Problem]:
    """A problem for every file of data in a network folder that is not part of the network."""
    if not path.is_dir():
        return []
    return [
        Problem(
            Place(f"{shown.rstrip('/')}/{file.name}", 1),
            "this file is not part of the network: parts are *.yaml and instances.csv"
            " (a .yml file has to be named .yaml)",
        )
        for file in sorted(path.iterdir())
        if file.is_file()
        and is_data(file.name)
        and file.suffix != ".yaml"
        and file.name != "instances.csv"
        and file.resolve() not in used
    ]


def _text(path: Path, shown: str, texts: Texts) -> str:
    """The text of a file. Raises InputError."""
    return texts[shown].removeprefix("\ufeff") if shown in texts else lined_yaml.read_text(path, shown)


def _read_part(path: Path, shown: str, problems: list[Problem], texts: Texts) -> Part | None:
    try:
        raw, found = lined_yaml.parse(_text(path, shown, texts), shown)
    except InputError as error:
        problems.extend(error.problems)
        return None
    problems.extend(found)
    if not isinstance(raw, Table):
        what = "the file is empty" if raw is None else "the file is not a table of sections"
        problems.append(Problem(Place(shown, 1), f"{what}; it starts with 'kiboko: 1'"))
        return None
    if other := of_another_kind(raw, "1"):
        problems.extend(other)
        return None
    if "kiboko" not in raw:
        problems.append(Problem(Place(shown, 1), "'kiboko: 1' is missing: this is not a network file"))
        return None
    return _checked(raw, problems)


def _checked(raw: Table, problems: list[Problem]) -> Part | None:
    """A part by its shape. What is malformed is told and left out, so that the faults of the rest are told as well."""
    for section in [key for key, value in raw.items() if value is None]:
        if section in SINGLE:
            problems.append(Problem(raw.place(section), f"'{section}' has no value; {_ELSE}"))
        del raw[section]  # a section with nothing in it
    names = {
        section: {name: value.place(name) for name in value}
        for section, value in raw.items()
        if isinstance(value, Table)
    }
    taken_out: set[tuple[int | str, ...]] = set()
    for _ in range(_MOST_ROUNDS):
        found: list[Problem] = []
        faults: list[tuple[int | str, ...]] = []
        shape = held_against(NetworkFile, raw, found, faults)
        if shape is not None:
            problems += _without_value(raw, problems)
            return Part(raw, shape, names)
        for problem, location in zip(found, faults, strict=True):
            if location not in taken_out and problem not in problems:  # what was taken out is not missing
                problems.append(problem)
        taken_out.update(faults)
        # From behind, so that what is left out of a list does not move what is still to be left out of it.
        for location in sorted(faults, key=lambda steps: [(isinstance(s, str), s) for s in steps], reverse=True):
            _leave_out(raw, location)
    return None


def _without_value(raw: Table, problems: list[Problem]) -> Iterator[Problem]:
    """Keys that are there and say nothing: what was commented out behind one would be taken as meant."""
    for section, values in raw.items():
        for trail, holder, key in _empty_keys(values, section) if section != "zones" else ():
            place = holder.place(key)
            is_told = any(each.place == place and f".{key}:" in each.text for each in problems)
            if not is_told:
                yield Problem(place, f"{trail}: '{key}' has no value; {_LEFT_OUT.get(key, _ELSE)}")


_ELSE = "leave it out, or write one"
_LEFT_OUT = {
    **dict.fromkeys(("inbound", "outbound", "rules"), "[] is no rule at all ('otherwise' decides), left out it is not"
                    " filtered"),
    **dict.fromkeys(("from", "to", "service", "source_ports"), "left out it matches anything"),
}  # fmt: skip
"""What keys without a value would be taken for, where that is more than nothing."""


def _empty_keys(value: Any, trail: str) -> Iterator[tuple[str, Table, str]]:
    if isinstance(value, Items):
        for at, each in enumerate(value, 1):
            yield from _empty_keys(each, f"{trail}.{at}")
    elif isinstance(value, Table):
        for key, inner in value.items():
            if inner is None:
                yield trail, value, key
            yield from _empty_keys(inner, f"{trail}.{key}")


_MOST_ROUNDS = 6
_STAND_INS = {"stateful": Plain("true"), "decide": Plain("first"), "action": Plain("allow")}
"""What is read in place of a malformed value that an entry cannot be without, and that nothing else rests on."""


def _leave_out(raw: Table, location: tuple[int | str, ...]) -> None:
    """Take out the value at a place, or whatever holds it and cannot be without it."""
    holders: list[tuple[Any, Any]] = []
    at: Any = raw
    for step in location:
        if not isinstance(at, Table | Items):
            break
        try:
            inner = at[step]  # type: ignore[index]
        except (KeyError, IndexError, TypeError):
            break  # it is what is missing: the entry that it belongs to goes
        holders.append((at, step))
        at = inner
    if not holders:
        return
    holder, step = holders[-1]
    if isinstance(holder, Items):
        del holder[step]
        if step < len(holder.lines):
            del holder.lines[step]
    elif len(holders) == len(location) and step in _STAND_INS and holder[step] is not _STAND_INS[step]:
        holder[step] = _STAND_INS[step]
    else:
        holder.pop(step, None)


def _read_instances(
    path: Path, shown: str, problems: list[Problem], texts: Texts, may_carry: bool
) -> Part | None:  # fmt: skip
    """`instances.csv` as the section `instances`: one row per interface, which may carry filters that nothing else
    attaches (`may_carry`)."""
    try:
        text = _text(path, shown, texts)
    except InputError as error:
        problems.extend(error.problems)
        return None
    reader = csv.reader(io.StringIO(text, newline=""), strict=True)
    raw = Table(shown, 1)
    raw["kiboko"] = Plain("1")
    instances = raw["instances"] = Table(shown, 1)
    before = len(problems)
    try:
        header = [cell.strip() for cell in next(reader, [])]
        other = next((each for each in _OTHER_SEPARATORS if len(header) == 1 and each in header[0]), None)
        if other is not None:
            text = (
                f"the columns are separated by {_OTHER_SEPARATORS[other]}; here by commas, and a list in a cell by ';'"
            )
            problems.append(Problem(Place(shown, 1), text))
            return None
        for column in header:
            if column not in _COLUMNS:
                known = ", ".join(_COLUMNS)
                text = f"unknown column '{column}'; the columns are {known}" + nearest(column.lower(), _COLUMNS)
                problems.append(Problem(Place(shown, 1), text))
        for column in dict.fromkeys(each for each in header if header.count(each) > 1):
            problems.append(Problem(Place(shown, 1), f"column '{column}' is there twice; a list in a cell is by ';'"))
        for column in ("name", "subnet"):
            if column not in header:
                problems.append(Problem(Place(shown, 1), f"column '{column}' is missing"))
        if len(problems) > before:
            return None
        unknown = []
        for row in reader:
            if any(cell.strip() for cell in row):
                _add_row(instances, header, row, reader.line_num, shown, problems)
                if "filters" in header and len(row) == len(header) and not row[header.index("filters")].strip():
                    unknown.append(reader.line_num)
    except csv.Error as error:
        problems.append(Problem(Place(shown, reader.line_num), f"not CSV: {error}"))
        return None
    part = _checked(raw, problems)
    if part is not None and "filters" not in header and may_carry:
        told = "there is no column 'filters': which of them the interfaces carry is not known, and none is taken"
        return dataclasses.replace(part, warnings=(Problem(Place(shown, 1), told),))
    if part is None or not unknown:
        return part
    told = (
        f"the filters of {counted(len(unknown), 'interface')} are not known (an empty cell), and taken as none: write -"
    )
    return dataclasses.replace(part, warnings=(Problem(Place(shown, unknown[0]), told),))


def _add_row(
    instances: Table, header: list[str], row: list[str], line: int, shown: str, problems: list[Problem]
) -> None:
    if len(row) != len(header):
        text = f"{len(row)} cells in this row, {len(header)} columns in the header"
        problems.append(Problem(Place(shown, line), text))
        return
    cells = {column: cell.strip() for column, cell in zip(header, row, strict=True) if cell.strip()}
    name = cells.pop("name", "")
    if not name:
        problems.append(Problem(Place(shown, line), "a row without a name"))
        return
    for column in ("address", "filters", "listens"):
        if "," in cells.get(column, "") or " " in cells.get(column, "").replace("; ", ";"):
            text = f"{column} '{cells[column]}': a list in a cell is parted by ';'"
            problems.append(Problem(Place(shown, line), text))
            del cells[column]
    instance = instances.get(name)
    if instance is None:
        instance = Table(shown, line)
        instances[name], instances.lines[name] = instance, line
        instance["interfaces"] = Items(shown, line)
    interface = Table(shown, line)
    for column, key in (("subnet", "subnet"), ("public", "public")):
        if cells.get(column, "-") != "-":
            interface[key] = cells[column]
    for column, key in (("address", "addresses"), ("filters", "filters")):
        if column in cells:
            interface[key] = _split(cells[column], shown, line)
    if interface:
        instance["interfaces"].append(interface)
        instance["interfaces"].lines.append(line)
    machine: dict[str, Any] = {}
    if "state" in cells:
        machine["state"] = cells["state"]
    if "listens" in cells:
        machine["listens"] = _split(cells["listens"], shown, line)
    if "tags" in cells:
        machine["tags"] = Table(shown, line)
        for pair in _split(cells["tags"], shown, line):
            key, equals, value = pair.partition("=")
            if not equals:
                problems.append(Problem(Place(shown, line), f"tag '{pair}' is not written as key=value"))
            if key.strip() in machine["tags"]:
                problems.append(Problem(Place(shown, line), f"tag '{key.strip()}' is there twice"))
            machine["tags"][key.strip()] = value.strip()
    for key, value in machine.items():
        if instance.get(key, value) != value:
            text = f"'{name}' has another '{key}' here than in its first row, line {instance.line}"
            problems.append(Problem(Place(shown, line), text))
        instance[key] = value


def _split(cell: str, shown: str, line: int) -> Items:
    items = Items(shown, line)
    if cell != "-":
        items.extend(part.strip() for part in re.split(";", cell) if part.strip())
    return items
