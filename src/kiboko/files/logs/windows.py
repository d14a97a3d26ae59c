"""Which pieces of logs are read together.

Exporters begin a new file every few minutes, and each writes files of its own: records of one conversation lie in
several files (clause E1), and a file that is read and judged by itself costs as much as some thousand records. So small
files are brought together, in the order of their times, up to what a piece of a large one is.
"""

from __future__ import annotations

import io
import json
import os
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kiboko.core.errors import InputError
from kiboko.core.records.flow_table import NO_TIME
from kiboko.files.elements.column_map import USUAL, ColumnMap
from kiboko.files.elements.moments import by_size, read_moments
from kiboko.files.elements.streams import PACKED, TORN, Unpacked, opened
from kiboko.files.logs import flow_pieces
from kiboko.files.logs.flow_pieces import Piece, opening_of, pieces_of
from kiboko.files.logs.flow_texts import first_cells

_START = "flowStartMilliseconds"
_SWELL = {**dict.fromkeys(PACKED, 8), "parquet": 8, "arrow": 2, "ipfix": 2}
"""About how many octets of text an octet of each form stands for."""
_LOOKED_AT, _LONGEST = 1 << 16, 24


@dataclass(frozen=True, slots=True)
class Window:
    """Pieces that are read and judged as one table, in which records may meet: one piece of a file, or several files
    whole."""

    pieces: tuple[Piece, ...]


def windows_of(paths: Iterable[Path], columns: ColumnMap = USUAL) -> list[Window]:
    """How some logs are read. Raises InputError where one cannot be read or is no flow log."""
    alone: list[Window] = []
    small: list[tuple[Piece, int]] = []
    for path in paths:
        pieces = list(pieces_of(path, columns))
        size = _weight(pieces[0]) if len(pieces) == 1 else 0
        if 0 < size <= _most(0):
            small.append((pieces[0], size))
        else:
            alone += [Window((piece,)) for piece in pieces]
    return alone + _brought_together(small, columns)


def _most(left: int) -> int:
    """How much is read together where so much is left to read: less at the end, so that all who read end at about the
    same time."""
    return flow_pieces.PIECE if left > 2 * flow_pieces.PIECE else flow_pieces.PIECE // 4


def _weight(piece: Piece) -> int:
    """About how many octets of text a file is."""
    try:
        return os.path.getsize(piece.path) * _SWELL.get(piece.form, 1)
    except OSError:
        return 0


def _brought_together(small: Sequence[tuple[Piece, int]], columns: ColumnMap) -> list[Window]:
    """Windows of some small files, of which those of one time are in one window."""
    left = sum(size for _, size in small)
    ordered = small
    if left > _most(left):
        ordered = [small[at] for at in _by_time([piece for piece, _ in small], columns)]
    found: list[Window] = []
    together: list[Piece] = []
    weight, most = 0, _most(left)
    for piece, size in ordered:
        together.append(piece)
        weight += size
        if weight >= most:
            found.append(Window(tuple(together)))
            left -= weight
            together, weight, most = [], 0, _most(left)
    return [*found, Window(tuple(together))] if together else found


def _by_time(pieces: Sequence[Piece], columns: ColumnMap) -> list[int]:
    """The order of files by the time of the first record of each; one of which that is not known stays behind the one
    before it."""
    times: list[int] = []
    for piece in pieces:
        time = _first_time(piece, piece.columns or columns)
        times.append(time if time is not None else times[-1] if times else int(NO_TIME))
    return sorted(range(len(pieces)), key=times.__getitem__)


def _first_time(piece: Piece, columns: ColumnMap) -> int | None:
    """When the first record of a file began, in milliseconds since 1970; None where that cannot be told at a glance.
    What is wrong with a file says whoever reads it."""
    try:
        with opened(piece.path, piece.form if piece.form in PACKED else None) as stream:
            data = Unpacked(stream).read(_LOOKED_AT)
        known = opening_of(io.BytesIO(data), piece.path, columns) if piece.form in PACKED else piece
    except (InputError, *TORN):
        return None
    line = data[known.begin :].split(b"\n", 1)[0]
    if known.form == "csv":
        return _time_among(known.header, first_cells(known.delimiter, line), columns)
    if known.form == "json":
        try:
            fields = json.loads(line)
        except (ValueError, RecursionError):
            return None
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
