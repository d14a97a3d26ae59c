"""Flow logs as tables: CSV, JSON Lines and Parquet, each plain, gzip- or zstd-compressed, and folders of them.

A log is cut into pieces of a fixed size, which can be read apart and by several workers; memory does not grow with the
log. Where the pieces are cut depends on the log alone, never on the workers.
"""

from __future__ import annotations

import csv
import dataclasses
import glob
import gzip
import io
import json
import mmap
import zlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
import pyarrow as pa
import pyarrow.csv
import pyarrow.json
import pyarrow.parquet
from numpy.typing import NDArray

from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.flow_table import FlowTable
from kiboko.files.flow_columns import Converter
from kiboko.files.flow_fields import DESTINATIONS, SOURCES, element_of, require_columns
from kiboko.files.rejects import Rejects

PIECE = 32 << 20
"""Octets of text in a piece."""
_ROWS = 250_000
_SUFFIXES = (".csv", ".json", ".jsonl", ".ndjson", ".log", ".txt", ".parquet")
_MAGIC = {b"\x1f\x8b": "gzip", b"\x28\xb5\x2f\xfd": "zstd", b"PAR1": "parquet"}
_LONGEST_LINE = 16 << 20
_CONTEXT = 1 << 19
"""Octets before and after a piece in which the other half of a conversation is looked for."""
_CODED = (*SOURCES, *DESTINATIONS, "protocolIdentifier", "firewallEvent", "observationPointId")


@dataclass(frozen=True, slots=True)
class Piece:
    """A part of a log that is read in one go: octets `start` to `stop` of a text file, or the whole of another file.

    `begin` is where the records of the file begin; `header` are the columns of a CSV file, empty for other forms.
    """

    path: str
    form: str
    start: int = 0
    stop: int | None = None
    begin: int = 0
    header: tuple[str, ...] = ()

    @property
    def word(self) -> str:
        """What one record of the form is called in messages."""
        return "row" if self.form == "csv" else "record"


@dataclass(frozen=True, slots=True)
class Part:
    """A table read from a piece. `first` is its first line and `lines` how many lines it took, good or bad.

    Records of other lines belong to the pieces beside it; they are there for their requests and replies.
    """

    table: FlowTable
    first: int
    lines: int

    @property
    def own(self) -> NDArray[np.bool_]:
        """Which records of the table are the part's own, bool[n]."""
        return (self.table.line >= self.first) & (self.table.line < self.first + self.lines)


def flow_files(given: Sequence[str | Path]) -> list[Path]:
    """The files that some paths, folders and patterns stand for, in order, each once: of a folder those that are named
    as logs. Raises InputError for none."""
    found: dict[Path, None] = {}
    for each in given:
        path = Path(each)
        if path.is_dir():
            inside = [p for p in sorted(path.rglob("*")) if p.is_file() and _is_log(p)]
        elif path.exists():
            inside = [path]
        else:
            inside = [Path(p) for p in sorted(glob.glob(str(each), recursive=True)) if Path(p).is_file()]
        if not inside:
            raise InputError(f"{each}: no such file, and no file that fits")
        found.update(dict.fromkeys(inside))
    return list(found)


def _is_log(path: Path) -> bool:
    """Whether a file in a folder is a log, by its name: what lies beside logs is none of them."""
    suffixes = [each for each in path.suffixes if each not in (".gz", ".zst")]
    return not path.name.startswith(".") and bool(suffixes) and suffixes[-1] in _SUFFIXES


def pieces_of(path: Path) -> Iterator[Piece]:
    """How a file is cut. Raises InputError where it cannot be read or is no flow log."""
    try:
        with path.open("rb") as stream:
            head = stream.read(4)
            packed = next((form for magic, form in _MAGIC.items() if head.startswith(magic)), None)
            if packed is not None:
                yield Piece(str(path), packed)
                return
            yield from _text_pieces(path, stream)
    except OSError as error:
        raise InputError(f"{path}: cannot be read: {error.strerror}") from error


def _text_pieces(path: Path, stream: BinaryIO) -> Iterator[Piece]:
    size = path.stat().st_size
    form, header, begin = _opening(stream, str(path))
    start = begin
    while start < size:
        stream.seek(min(size, start + PIECE))
        stream.readline(_LONGEST_LINE)
        stop = min(stream.tell(), size)
        yield Piece(str(path), form, start, stop, begin, header)
        start = stop


def _opening(stream: BinaryIO, name: str) -> tuple[str, tuple[str, ...], int]:
    """The form of a text, its columns, and where its records begin."""
    stream.seek(0)
    first = stream.readline(_LONGEST_LINE)
    if not first:
        raise InputError([Problem(Place(name, 1), "the file is empty; a flow log has at least a header")])
    if first.removeprefix(b"\xef\xbb\xbf").lstrip()[:1] in (b"{", b"["):
        return "json", (), 0
    try:
        text = first.decode("utf-8-sig", errors="replace").replace("\0", "\ufffd")
        header = [each.strip() for each in next(csv.reader([text.rstrip("\r\n")]), [])]
    except csv.Error as error:
        raise InputError([Problem(Place(name, 1), f"not CSV: {error}")]) from error
    require_columns([element_of(each) for each in header], header, name)
    return "csv", tuple(header), len(first)


class PieceReader:
    """Reads pieces. One reader serves one worker and remembers the addresses that it has parsed."""

    def __init__(self) -> None:
        self._converter = Converter()

    def read(self, piece: Piece, rejects: Rejects) -> Iterator[Part]:
        """The tables of a piece; lines count from 1 at its beginning. Raises InputError."""
        try:
            if piece.form == "parquet":
                yield from self._parquet(piece, rejects)
            elif piece.form in ("gzip", "zstd"):
                yield from self._packed(piece, rejects)
            else:
                yield self._mapped(piece, rejects)
        except OSError as error:
            raise InputError(f"{piece.path}: cannot be read: {error}") from error

    def _mapped(self, piece: Piece, rejects: Rejects) -> Part:
        """A piece of a text file, read where it lies. The mapping goes when the last column that rests on it does."""
        with open(piece.path, "rb") as stream:
            whole = mmap.mmap(stream.fileno(), 0, access=mmap.ACCESS_READ)
        begin, end = _with_context(piece, whole)
        around = whole[begin : piece.start].count(b"\n"), _lines(whole[piece.stop : end])
        data = pa.py_buffer(whole).slice(begin, end - begin)
        return self._text(piece.form, piece.header, data, rejects, 1 - around[0], around)

    def _text(
        self, form: str, header: tuple[str, ...], data: pa.Buffer, rejects: Rejects, line: int,
        around: tuple[int, int] = (0, 0),
    ) -> Part:  # fmt: skip
        """The part that a text is, whose first line is `line`; so many lines of it before and behind the part's own are
        `around`."""
        read = self._json if form == "json" else self._csv
        batch, places, lines = read(header, data, rejects, line, around)
        first = line + around[0]
        rejects.first_line, rejects.last_line = first, first + lines - sum(around) - 1
        return Part(self._converter.table(batch, rejects, line, places), first, lines - sum(around))

    # CSV.

    def _csv(
        self, header: tuple[str, ...], data: pa.Buffer, rejects: Rejects, line: int, around: tuple[int, int]
    ) -> tuple[pa.Table, list[int] | None, int]:
        """A text's columns, the line of each row where they are not one after another, and how many lines it has."""
        batch = self._columns(header, data)
        if batch is not None:
            return batch, None, batch.num_rows
        # The slow way: line by line, so that whatever is wrong has its place.
        text = data.to_pybytes()
        lines = _lines(text)
        rejects.first_line, rejects.last_line = line + around[0], line + lines - around[1] - 1
        return (*self._slow_csv(header, text, rejects, line), lines)

    def _columns(self, header: tuple[str, ...], data: pa.Buffer) -> pa.Table | None:
        """The columns of a text, by types that fit nearly always, else as text; None where a row is out of shape."""
        if bytes(1) in memoryview(data).tobytes() if data.size < 1 << 16 else np.frombuffer(data, np.uint8).min() == 0:
            return None
        names, wanted = _named(header)
        options = pyarrow.csv.ReadOptions(column_names=names, use_threads=False, block_size=max(data.size + 1, 1 << 16))
        parsing = pyarrow.csv.ParseOptions(ignore_empty_lines=False)
        whole, coded = pa.int64(), pa.dictionary(pa.int32(), pa.string())
        sample = _first_cells(header, data.slice(0, min(data.size, 1 << 16)).to_pybytes())
        typed = {name: coded if name in _CODED else whole for name in wanted}
        typed |= {name: _time_type(sample.get(name, "")) for name in wanted if name.endswith("Milliseconds")}
        for types in (typed, dict.fromkeys(wanted, pa.string())):
            converting = pyarrow.csv.ConvertOptions(
                column_types=types, include_columns=wanted, strings_can_be_null=True, null_values=[""]
            )
            try:
                return pyarrow.csv.read_csv(data, options, parsing, converting)
            except pa.ArrowInvalid:
                continue
        return None

    def _slow_csv(
        self, header: tuple[str, ...], data: bytes, rejects: Rejects, line: int
    ) -> tuple[pa.Table, list[int]]:
        text = data.decode("utf-8", errors="replace").replace("\0", "\ufffd")
        reader = csv.reader(io.StringIO(text, newline=""))
        kept: list[list[str]] = []
        places: list[int] = []
        ends_whole = text.endswith("\n")
        while True:
            try:
                cells = next(reader, None)
            except csv.Error as error:
                rejects.note("not CSV", str(error), line + reader.line_num - 1)
                continue
            if cells is None:
                break
            if not cells:
                continue
            if len(cells) != len(header):
                last = not ends_whole and reader.line_num >= text.count("\n") + 1
                kind = "torn last line" if last else "wrong number of cells"
                rejects.note(kind, f"{len(cells)} cells, {len(header)} columns", line + reader.line_num - 1)
                continue
            kept.append(cells)
            places.append(line + reader.line_num - 1)
        names, wanted = _named(header)
        columns = {name: [cells[names.index(name)] or None for cells in kept] for name in wanted}
        return pa.table({name: pa.array(values, pa.string()) for name, values in columns.items()}), places

    # JSON Lines.

    def _json(
        self, header: tuple[str, ...], data: pa.Buffer, rejects: Rejects, line: int, around: tuple[int, int]
    ) -> tuple[pa.Table, list[int] | None, int]:
        text = data.to_pybytes()
        lines = _lines(text)
        try:
            options = pyarrow.json.ReadOptions(use_threads=False, block_size=max(data.size + 1, 1 << 16))
            batch = pyarrow.json.read_json(data, options)
            if batch.num_rows == lines and not any(pa.types.is_nested(field.type) for field in batch.schema):
                return _renamed(batch), None, lines
        except pa.ArrowInvalid:
            pass
        rejects.first_line, rejects.last_line = line + around[0], line + lines - around[1] - 1
        return (*self._slow_json(text, rejects, line), lines)

    def _slow_json(self, data: bytes, rejects: Rejects, line: int) -> tuple[pa.Table, list[int]]:
        rows: list[dict[str, Any]] = []
        places: list[int] = []
        for number, text in enumerate(data.split(b"\n"), line):
            if not text.strip():
                continue
            try:
                value = json.loads(text)
            except (ValueError, RecursionError):
                torn = not data.endswith(b"\n") and number == line + data.count(b"\n")
                rejects.note("torn last line" if torn else "not JSON", "the line is not JSON", number)
                continue
            if not isinstance(value, dict):
                rejects.note("not a record", "the line is not a JSON object", number)
                continue
            rows.append(value)
            places.append(number)
        names = {name: element for row in rows for name in row if (element := element_of(name)) is not None}
        columns: dict[str, list[str | None]] = {}
        for name, element in names.items():
            columns[element] = [None if row.get(name) is None else str(row[name]) for row in rows]
        return pa.table({name: pa.array(values, pa.string()) for name, values in columns.items()}), places

    # Packed.

    def _packed(self, piece: Piece, rejects: Rejects) -> Iterator[Part]:
        """A compressed text, read as it is unpacked; what was whole before a tear is kept."""
        line, left = 1, b""
        form, header = "", tuple[str, ...]()
        # Unpacked by gzip's own reader, since the other says nothing of a stream that ends in the middle.
        is_gzip = piece.form == "gzip"
        with gzip.open(piece.path) if is_gzip else pa.input_stream(piece.path, compression="zstd") as stream:
            while True:
                data, fault = _some(stream.read1 if is_gzip else stream.read)
                if fault:
                    rejects.last_line = max(rejects.last_line, line)
                    rejects.note(f"torn {piece.form}", f"it ends in the middle: {fault}", line)
                if not form and (data or left):
                    form, header, start = _opening(io.BytesIO(data), piece.path)
                    data, line = data[start:], line + (form == "csv")
                whole = left + data
                cut = whole.rfind(b"\n") + 1 if data and not fault else len(whole)
                left = whole[cut:]
                if cut:
                    part = self._text(form, header, pa.py_buffer(whole[:cut]), rejects, line)
                    line += part.lines
                    yield part
                if fault or not data:
                    return

    def _parquet(self, piece: Piece, rejects: Rejects) -> Iterator[Part]:
        try:
            file = pyarrow.parquet.ParquetFile(piece.path)
            names = {name: element for name in file.schema_arrow.names if (element := element_of(name)) is not None}
            require_columns(list(names.values()), file.schema_arrow.names, piece.path)
            line = 1
            for batch in file.iter_batches(_ROWS, columns=list(names)):
                table = _renamed(pa.Table.from_batches([batch]))
                rejects.first_line, rejects.last_line = line, line + table.num_rows
                yield Part(self._converter.table(table, rejects, line), line, table.num_rows)
                line += table.num_rows
        except pa.ArrowInvalid as error:
            raise InputError(f"{piece.path}: not Parquet: {error}") from error


def _some(read: Callable[[int], bytes]) -> tuple[bytes, str]:
    """About as much of a stream as a piece is, and what was wrong with the rest; nothing at its end."""
    chunks: list[bytes] = []
    size = 0
    while size < PIECE:
        try:
            chunk = read(1 << 20)
        except (OSError, EOFError, zlib.error) as error:
            return b"".join(chunks), str(error)
        if not chunk:
            break
        chunks.append(chunk)
        size += len(chunk)
    return b"".join(chunks), ""


def tables_of(path: Path, strict: bool = False) -> Iterator[tuple[FlowTable, Rejects]]:
    """The tables of a file one after another, with lines counted from its beginning, and what was rejected so far.

    Raises InputError where the file cannot be read, and with `strict` for the first row that is rejected.
    """
    reader, rejects, lines = PieceReader(), None, 0
    for piece in pieces_of(path):
        if rejects is None:
            lines = 1 if piece.form == "csv" else 0
            rejects = Rejects(str(path), strict, piece.word, lines)
        fresh = Rejects(str(path), word=piece.word)
        read = 0
        for part in reader.read(piece, fresh):
            own = part.own
            table = part.table if own.all() else part.table.taken(own)
            read += part.lines
            yield dataclasses.replace(table, line=table.line + lines), rejects
        rejects.take(fresh, lines)
        lines += read
    if rejects is not None:
        yield FlowTable.empty(), rejects


def _lines(data: bytes) -> int:
    return data.count(b"\n") + (data[-1:] not in (b"\n", b""))


def _with_context(piece: Piece, whole: mmap.mmap) -> tuple[int, int]:
    """Where a piece of a text file begins and ends together with the whole lines just before and behind it."""
    stop = piece.stop or 0
    begin = max(piece.begin, piece.start - _CONTEXT)
    if begin > piece.begin:
        begin = min(whole.find(b"\n", begin, piece.start) + 1 or piece.start, piece.start)
    end = max(whole.rfind(b"\n", stop, stop + _CONTEXT) + 1, stop)
    return begin, len(whole) if len(whole) <= stop + _CONTEXT else end


def _named(header: tuple[str, ...]) -> tuple[list[str], list[str]]:
    """The columns by element, others by their place, and the elements among them, each once."""
    names: list[str] = []
    for index, name in enumerate(header):
        element = element_of(name)
        names.append(f"column {index}" if element is None or element in names else element)
    return names, [name for name in names if not name.startswith("column ")]


def _renamed(batch: pa.Table) -> pa.Table:
    names, wanted = _named(tuple(batch.column_names))
    return batch.rename_columns(names).select(wanted)


def _first_cells(header: tuple[str, ...], data: bytes) -> dict[str, str]:
    names, _ = _named(header)
    line = data[: max(0, data.find(b"\n")) or len(data)].decode("utf-8", errors="replace")
    try:
        return dict(zip(names, next(csv.reader([line.rstrip("\r")]), []), strict=False))
    except csv.Error:
        return {}


def _time_type(sample: str) -> pa.DataType:
    """The type of a time column, by its first value."""
    text = sample.strip()
    if text.lstrip("-").isdecimal() or not text:
        return pa.int64()
    zoned = text.endswith("Z") or "+" in text[10:] or "-" in text[10:]
    fraction = text.partition(".")[2].rstrip("Z").partition("+")[0].partition("-")[0]
    unit = "ms" if len(fraction) <= 3 else "us"
    return pa.timestamp(unit, "UTC") if zoned else pa.timestamp(unit)
