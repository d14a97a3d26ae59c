"""The first records of a log as they stand, whatever their columns are called."""

from __future__ import annotations

import contextlib
import csv
import io
import itertools
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any, NamedTuple

from kiboko.core.errors import InputError
from kiboko.files.elements.streams import PACKED, TORN, opened
from kiboko.files.logs.flow_pieces import FIELDS, refuse_what_is_no_text, whole_form
from kiboko.files.logs.log_lines import LogLines
from kiboko.files.logs.nested_json import expanded, is_address, path_inside
from kiboko.files.messages.syslog import flow_fields, parse_syslog

_MOST = 1000
_OCTETS = 4 << 20
_DELIMITERS = (",", "\t", ";", "|", " ")


class FirstRows(NamedTuple):
    """The first records of a log, as fields by name; what parts the cells of a line, where that is no comma; and the
    path to them inside JSON, where they do not lie in the open."""

    rows: list[Mapping[str, Any]]
    delimiter: str | None = None
    records: str = ""


def first_rows(path: Path) -> FirstRows:
    """Up to a thousand records. Raises InputError where none can be made out."""
    try:
        data = _opened(path)
    except TORN as error:
        raise InputError(f"{path}: cannot be read: {error}") from error
    if isinstance(data, list):
        return FirstRows(data)
    lines = [line for line in data.decode("utf-8-sig", "replace").splitlines()[: _MOST + 1] if line.strip()]
    if not lines:
        raise InputError(f"{path}: there is nothing in it")
    values, step = _objects(lines), ""
    is_document = not values
    if is_document:
        values, step = _document(data)
    rows: list[Mapping[str, Any]] = list(map(_flat, values))
    if rows and not any(is_address(str(each)) for each in rows[0].values()) and (inner := path_inside(values[0])):
        inside = _inside(values, inner, is_document and not step)
        if not inside:
            raise InputError(
                f"{path}: its records lie inside its objects: write a mapping file with 'records: {step}{inner}', and"
                " the columns of what lies there"
            )
        return FirstRows(inside, records=step + inner)
    rows = rows or _log(lines)
    return FirstRows(rows) if rows else _cells(lines, path)


def _inside(values: list[dict[str, Any]], path: str, is_streamed: bool) -> list[Mapping[str, Any]]:
    """The records to which a path leads in some values, with the fields of the objects around them; none where no
    address is among them. Of one document, which is streamed, what lies around the outermost array is not kept."""
    steps = tuple(path.split("."))
    outer = 1 + next(at for at, step in enumerate(steps) if step.endswith("[]")) if is_streamed else 0
    found: list[Mapping[str, Any]] = []
    for chain, leaf in itertools.islice((each for value in values for each in expanded(value, steps)), _MOST):
        around = {name: value for each in chain[outer:] for name, value in _flat(each).items()}
        if isinstance(leaf, dict):
            found.append(around | _flat(leaf))
    return found if any(is_address(str(value)) for row in found[:1] for value in row.values()) else []


def _opened(path: Path) -> bytes | list[Mapping[str, Any]]:
    with path.open("rb") as stream:
        form = whole_form(stream.read(4))
    if form == "parquet":
        import pyarrow.parquet

        with pyarrow.parquet.ParquetFile(path) as file:
            batch = next(file.iter_batches(_MOST), None)
        return [_flat(row) for row in batch.to_pylist()] if batch is not None else []
    if form is not None and form not in PACKED:
        raise InputError(f"{path}: {form} names its columns itself; it needs no mapping file")
    with opened(path, form) as stream:
        data = bytes(stream.read(_OCTETS))
    refuse_what_is_no_text(data.partition(b"\n")[0], str(path))
    return data


def _objects(lines: list[str]) -> list[dict[str, Any]]:
    """The objects of JSON Lines."""
    found: list[dict[str, Any]] = []
    for line in lines:
        try:
            value = json.loads(line)
        except (ValueError, RecursionError):
            return found
        if not isinstance(value, dict):
            return found
        found.append(value)
    return found


def _document(data: bytes) -> tuple[list[dict[str, Any]], str]:
    """The objects of one JSON document, or the beginning of one, and the step of a path that leads to them."""
    import ijson

    text = data.removeprefix(b"\xef\xbb\xbf").lstrip()
    if text[:1] not in (b"{", b"["):
        return [], ""
    built = ijson.ObjectBuilder()
    with contextlib.suppress(ijson.JSONError, UnicodeDecodeError):  # it may be cut off, or another may follow
        for event, value in ijson.basic_parse(io.BytesIO(text), use_float=True):
            built.event(event, value)
    whole = getattr(built, "value", None)
    if isinstance(whole, list):
        return [each for each in whole[:_MOST] if isinstance(each, dict)], "[]."
    return [whole] if isinstance(whole, dict) else [], ""


def _flat(value: Mapping[str, Any], before: str = "") -> dict[str, Any]:
    """Fields inside objects under dotted names."""
    found: dict[str, Any] = {}
    for name, inner in value.items():
        if isinstance(inner, dict):
            found |= _flat(inner, f"{before}{name}.")
        elif not isinstance(inner, list):
            found[f"{before}{name}"] = inner
    return found


def _log(lines: list[str]) -> list[Mapping[str, Any]]:
    """Fields of log lines, where most have two or more."""
    from datetime import UTC, datetime

    now = datetime.now(UTC)
    if any(LogLines(now).fields(line.encode()) for line in lines[:20]):
        return list(itertools.chain.from_iterable(LogLines(now).fields(line.encode()) for line in lines))
    fields = [flow_fields(parse_syslog(line.encode(), now)) for line in lines]
    rows: list[Mapping[str, Any]] = [
        {name: value for name, value in each.items() if value is not None}
        for each in fields
        if each is not None and len(each) > 3
    ]
    return rows if len(rows) * 2 > len(lines) else []


def _cells(lines: list[str], path: Path) -> FirstRows:
    fields = next((told for line in lines if (told := FIELDS.match(line)) is not None), None)
    if fields is not None:
        lines = [fields[1].strip(), *(line for line in lines if not line.startswith("#"))]
    best: tuple[int, str, list[list[str]]] = (0, ",", [])
    for delimiter in _DELIMITERS:
        try:
            rows = list(csv.reader(io.StringIO("\n".join(lines)), delimiter=delimiter))
        except csv.Error:
            continue
        width = len(rows[0]) if rows else 0
        even = sum(len(row) == width for row in rows)
        if width > 1 and even * 10 > len(rows) * 9 and width > best[0]:
            best = (width, delimiter, rows)
    if len(best[2]) < 2:
        raise InputError(
            f"{path}: no columns can be made out; for free text write a mapping file with a 'pattern' of named groups"
        )
    header, *rest = best[2]
    if any(map(is_address, header)):
        raise InputError(
            f"{path}: its first line is no header: an address is in it; write a mapping file that lists its columns"
            " as 'names'"
        )
    made: list[Mapping[str, Any]] = [dict(zip(header, row, strict=False)) for row in rest if len(row) == len(header)]
    return FirstRows(made, None if best[1] == "," else best[1])
