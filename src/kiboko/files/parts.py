"""A network file or folder as checked parts: every file read, every key and type held against the schema."""

from __future__ import annotations

import csv
import difflib
import io
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from kiboko.core.errors import InputError, Place, Problem
from kiboko.files import lined_yaml
from kiboko.files.lined_yaml import Items, Plain, Table
from kiboko.files.schema import NOT_SUPPORTED_YET, NetworkFile

_COLUMNS = ("name", "subnet", "address", "public", "state", "tags", "filters", "listens")
_DATA_SUFFIXES = (".yaml", ".yml", ".json", ".csv", ".tsv", ".txt", ".jsonl", ".parquet", ".xml", ".toml")


@dataclass(frozen=True, slots=True)
class Part:
    """One file of the network: its values with their lines, and the same checked against the schema."""

    raw: Table
    shape: NetworkFile


def nearest(word: str, candidates: Iterable[str]) -> str:
    """`; did you mean 'NAME'?` for the closest candidate, or nothing where none is close."""
    close = difflib.get_close_matches(word, list(candidates), 1, 0.6)
    return f"; did you mean '{close[0]}'?" if close else ""


def read_parts(path: Path, shown: str, problems: list[Problem]) -> list[Part]:
    """Every part of a network file or folder; what is wrong is added to `problems`.

    Raises InputError where there is nothing to read at all.
    """
    if not path.exists():
        raise InputError(f"{shown}: no such network file; name one with --network PATH or KIBOKO_NETWORK")
    if not path.is_dir():
        part = _read_part(path, shown, problems)
        return [part] if part else []
    files = sorted(path.iterdir())
    yamls = [file for file in files if file.suffix == ".yaml" and file.is_file()]
    if not yamls:
        raise InputError(f"{shown}: a network folder holds at least one *.yaml file, and there is none here")
    parts = [_read_part(file, f"{shown.rstrip('/')}/{file.name}", problems) for file in yamls]
    tables = [file for file in files if file.name == "instances.csv"]
    parts += [_read_instances(file, f"{shown.rstrip('/')}/{file.name}", problems) for file in tables]
    return [part for part in parts if part is not None]


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
        and file.suffix in _DATA_SUFFIXES
        and file.suffix != ".yaml"
        and file.name != "instances.csv"
        and file.resolve() not in used
    ]


def _read_part(path: Path, shown: str, problems: list[Problem]) -> Part | None:
    try:
        raw, found = lined_yaml.parse(lined_yaml.read_text(path, shown), shown)
    except InputError as error:
        problems.extend(error.problems)
        return None
    problems.extend(found)
    if not isinstance(raw, Table):
        what = "the file is empty" if raw is None else "the file is not a table of sections"
        problems.append(Problem(Place(shown, 1), f"{what}; it starts with 'kiboko: 1'"))
        return None
    if "kiboko" not in raw:
        problems.append(Problem(Place(shown, 1), "'kiboko: 1' is missing: this is not a network file"))
        return None
    return _checked(raw, problems)


def _checked(raw: Table, problems: list[Problem]) -> Part | None:
    for section in NOT_SUPPORTED_YET & raw.keys():
        problems.append(Problem(raw.place(section), f"section '{section}' is not supported yet"))
        del raw[section]
    for section in [key for key, value in raw.items() if value is None]:
        del raw[section]  # a section with nothing in it
    try:
        return Part(raw, NetworkFile.model_validate(raw))
    except ValidationError as error:
        problems.extend(_problem(raw, each) for each in error.errors())
        return None


def _problem(raw: Table, error: Any) -> Problem:
    """What the schema found, in the words of the network file, at the line where it stands."""
    location = tuple(error["loc"])
    holder: Any = raw
    place = raw.place()
    trail: list[str] = []
    for index, step in enumerate(location):
        if isinstance(holder, Table | Items):
            if isinstance(holder, Items) or step in holder:
                place = holder.place(step)
            last = index == len(location) - 1
            if not last or error["type"] not in ("extra_forbidden", "missing"):
                trail.append(str(step + 1) if isinstance(step, int) else str(step))
            try:
                inner = holder[step]
            except (KeyError, IndexError, TypeError):
                break
            if last and error["type"] == "extra_forbidden":
                break
            holder = inner
    where = ".".join(trail)
    prefix = f"{where}: " if where else ""
    return Problem(place, prefix + _words(error, holder))


def _words(error: Any, holder: Any) -> str:
    kind, given = error["type"], error.get("input")
    if kind == "extra_forbidden":
        key = str(error["loc"][-1])
        return f"unknown key '{key}'" + nearest(key, _keys_at(error["loc"][:-1]))
    if kind == "missing":
        return f"'{error['loc'][-1]}' is missing"
    if kind == "literal_error":
        expected = error["ctx"]["expected"].replace("'", "").replace(" or ", ", ").split(", ")
        return f"'{given}' is none of {', '.join(expected)}" + nearest(str(given), expected)
    if kind == "value_error":
        return f"{error['ctx']['error']}, not {_shown(given)}"
    wanted = {
        "string_type": "text",
        "dict_type": "a table",
        "model_type": "a table",
        "model_attributes_type": "a table",
        "list_type": "a list",
    }.get(kind)
    return f"{wanted} belongs here, not {_shown(given)}" if wanted else str(error["msg"])


def _shown(value: Any) -> str:
    if value is None:
        return "nothing"
    if isinstance(value, dict):
        return "a table"
    if isinstance(value, list):
        return "a list"
    return f"'{value}'"


def _keys_at(location: Sequence[int | str]) -> list[str]:
    """The keys that the schema knows at a place."""
    shape: Any = NetworkFile
    for step in location:
        if isinstance(step, int) or not hasattr(shape, "model_fields"):
            continue
        known = {(field.alias or name): field for name, field in shape.model_fields.items()}
        if step in known:
            shape = _inner_shape(known[str(step)].annotation)
    if not hasattr(shape, "model_fields"):
        return []
    return [field.alias or name for name, field in shape.model_fields.items()]


def _inner_shape(annotation: Any) -> Any:
    """The model inside `dict[str, Model]`, `list[Model]` or `Model | None`."""
    if hasattr(annotation, "model_fields"):
        return annotation
    for inner in reversed(getattr(annotation, "__args__", ())):
        found = _inner_shape(inner)
        if found is not None:
            return found
    return None


def _read_instances(path: Path, shown: str, problems: list[Problem]) -> Part | None:
    """`instances.csv` as the section `instances`: one row per interface."""
    try:
        text = lined_yaml.read_text(path, shown)
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
        for column in header:
            if column not in _COLUMNS:
                known = ", ".join(_COLUMNS)
                text = f"unknown column '{column}'; the columns are {known}" + nearest(column, _COLUMNS)
                problems.append(Problem(Place(shown, 1), text))
        for column in ("name", "subnet"):
            if column not in header:
                problems.append(Problem(Place(shown, 1), f"column '{column}' is missing"))
        if len(problems) > before:
            return None
        for row in reader:
            if any(cell.strip() for cell in row):
                _add_row(instances, header, row, reader.line_num, shown, problems)
    except csv.Error as error:
        problems.append(Problem(Place(shown, reader.line_num), f"not CSV: {error}"))
        return None
    return _checked(raw, problems)


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
