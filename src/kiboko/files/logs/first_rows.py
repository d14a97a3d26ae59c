"""The first records of a log as they stand, whatever their columns are called."""

from __future__ import annotations

import csv
import gzip
import io
import itertools
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pyarrow as pa

from kiboko.core.errors import InputError
from kiboko.core.header.addresses import parse_address
from kiboko.files.logs.flow_pieces import whole_form
from kiboko.files.logs.log_lines import LogLines
from kiboko.files.messages.syslog import flow_fields, parse_syslog

_MOST = 1000
_OCTETS = 4 << 20
_DELIMITERS = (",", "\t", ";", "|", " ")


def first_rows(path: Path) -> tuple[list[Mapping[str, Any]], str | None]:
    """Up to a thousand records, and what parts the cells of a line where that is no comma. Raises InputError where none
    can be made out."""
    try:
        data = _opened(path)
    except (OSError, EOFError, pa.ArrowException) as error:
        raise InputError(f"{path}: cannot be read: {error}") from error
    if isinstance(data, list):
        return data, None
    lines = [line for line in data.decode("utf-8-sig", "replace").splitlines()[: _MOST + 1] if line.strip()]
    if not lines:
        raise InputError(f"{path}: there is nothing in it")
    rows = _objects(lines)
    if rows and not any(map(_is_address, rows[0].values())):
        inner = _path_inside(json.loads(lines[0]))
        if inner:
            raise InputError(
                f"{path}: its records lie inside its objects: write a mapping file with 'records: {inner}', and the"
                " columns of what lies there"
            )
    rows = rows or _log(lines)
    return (rows, None) if rows else _cells(lines, path)


def _path_inside(value: Any) -> str:
    """Where the first array of objects or texts inside a value lies, as a mapping file has it; nothing for none."""
    for name, inner in value.items() if isinstance(value, dict) else ():
        if isinstance(inner, list) and inner and isinstance(inner[0], dict | str):
            further = _path_inside(inner[0])
            return f"{name}[].{further}" if further else f"{name}[]"
        found = _path_inside(inner)
        if found:
            return f"{name}.{found}"
    return ""


def _is_address(value: Any) -> bool:
    try:
        parse_address(str(value))
    except ValueError:
        return False
    return True


def _opened(path: Path) -> bytes | list[Mapping[str, Any]]:
    with path.open("rb") as stream:
        form = whole_form(stream.read(4))
    if form == "parquet":
        import pyarrow.parquet

        with pyarrow.parquet.ParquetFile(path) as file:
            batch = next(file.iter_batches(_MOST), None)
        return [_flat(row) for row in batch.to_pylist()] if batch is not None else []
    if form == "gzip":
        with gzip.open(path) as packed:
            return packed.read(_OCTETS)
    if form == "zstd":
        with pa.input_stream(str(path), compression="zstd") as packed:
            return bytes(packed.read(_OCTETS))
    if form is not None:
        raise InputError(f"{path}: {form} names its columns itself; it needs no mapping file")
    with path.open("rb") as stream:
        return stream.read(_OCTETS)


def _objects(lines: list[str]) -> list[Mapping[str, Any]]:
    found: list[Mapping[str, Any]] = []
    for line in lines:
        try:
            value = json.loads(line)
        except (ValueError, RecursionError):
            return found
        if not isinstance(value, dict):
            return found
        found.append(_flat(value))
    return found


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


def _cells(lines: list[str], path: Path) -> tuple[list[Mapping[str, Any]], str | None]:
    fields = next((line for line in lines if line.lower().startswith("#fields:")), None)
    if fields is not None:
        lines = [fields.partition(":")[2].strip(), *(line for line in lines if not line.startswith("#"))]
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
    if any(map(_is_address, header)):
        raise InputError(
            f"{path}: its first line is no header: an address is in it; write a mapping file that lists its columns"
            " as 'names'"
        )
    made: list[Mapping[str, Any]] = [dict(zip(header, row, strict=False)) for row in rest if len(row) == len(header)]
    return made, None if best[1] == "," else best[1]
