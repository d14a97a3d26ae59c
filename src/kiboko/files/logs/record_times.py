"""When a record of a text began, read off a line at a glance, so that files can be put in the order of their times."""

from __future__ import annotations

import io
import json
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from kiboko.core.errors import InputError
from kiboko.core.records.flow_table import NO_TIME
from kiboko.files.elements.column_map import ColumnMap
from kiboko.files.elements.moments import by_size, read_moments
from kiboko.files.elements.streams import PACKED, TORN, Unpacked, opened
from kiboko.files.logs.flow_pieces import Piece, opening_of
from kiboko.files.logs.flow_texts import first_cells

_START = "flowStartMilliseconds"
_LOOKED_AT, _LONGEST = 1 << 16, 24


def first_time(piece: Piece, columns: ColumnMap) -> int | None:
    """When the first record of a file began, in milliseconds since 1970; None where that cannot be told at a glance.
    What is wrong with a file says whoever reads it."""
    try:
        with opened(piece.path, piece.form if piece.form in PACKED else None) as stream:
            data = Unpacked(stream).read(_LOOKED_AT)
        known = opening_of(io.BytesIO(data), piece.path, columns) if piece.form in PACKED else piece
    except (InputError, *TORN):
        return None
    opened_as = replace(piece, form=known.form, header=known.header, delimiter=known.delimiter)
    return line_time(opened_as, data[known.begin :].split(b"\n", 1)[0], columns)


def line_time(piece: Piece, line: bytes, columns: ColumnMap) -> int | None:
    """When the record in a line of a piece began; None where that cannot be told."""
    if piece.form == "csv":
        return _time_among(piece.header, first_cells(piece.delimiter, line), columns)
    if piece.form == "json":
        try:
            fields = json.loads(line)
        except (ValueError, RecursionError):
            return None
        if isinstance(fields, dict):
            return _time_among(tuple(fields), [str(value) for value in fields.values()], columns)
    return None


def _time_among(header: tuple[str, ...], cells: Sequence[str], columns: ColumnMap) -> int | None:
    """When a record began, from its fields; None where no column tells, or not by itself."""
    chosen = columns.chosen(header).columns
    found = next(((place, column) for place, column in chosen if column.element == _START), None)
    if found is None or found[0] >= len(cells):
        return None
    text, column = cells[found[0]], found[1]
    if column.form is None and len(text) < _LONGEST and text.replace(".", "", 1).isdecimal():
        number = np.array([float(text)])
        return int(by_size(number)[0]) if column.by_size else int(number[0] * (column.scale or 1))
    moment = int(read_moments([text], column.form, column.zone)[0][0])
    return moment if moment != NO_TIME else None
