"""In which form a flow log is, and how large ones are cut into pieces.

Pieces of a fixed size can be read apart and by several workers, so that memory does not grow with the log. Where they
are cut depends on the log alone, never on the workers.
"""

from __future__ import annotations

import csv
import io
import json
import os
import re
import shlex
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import BinaryIO

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.records.flow_table import FlowTable
from kiboko.files.elements.column_map import USUAL, ColumnMap
from kiboko.files.elements.fields import element_of
from kiboko.files.elements.streams import PACKED, TORN, opened
from kiboko.files.logs.log_lines import LINES, LogLines, PatternLines, is_journal, is_log, try_pattern

PIECE = 32 << 20
"""Octets of text in a piece."""
CONTEXT = 1 << 19
"""Octets before and after a piece in which the other half of a conversation is looked for."""
ROWS, CONTEXT_ROWS = 250_000, 5_000
"""Rows in a piece of a Parquet file, at least, and before and after it as octets are of a text."""
OWN = np.uint8(1)
_PROBES = re.compile(rb'\{\s*"kiboko"\s*:\s*"probe/')
_TRACKED = re.compile(rb"\[(NEW|UPDATE|DESTROY|\d{1,11}\.\d)")
_LOOKED_AT = 200
_TRIED = 1000
_MAGIC = {
    b"\x1f\x8b": "gzip", b"\x28\xb5\x2f\xfd": "zstd", b"\xfd7zX": "xz", b"BZh": "bzip2", b"PAR1": "parquet",
    b"\xff\xff\xff\xff": "arrow",
}  # fmt: skip
_ZIP, _TAR, _TAR_AT = (b"PK\x03\x04", b"PK\x05\x06"), b"ustar", 257
_CAPTURES = (b"\xa1\xb2\xc3\xd4", b"\xd4\xc3\xb2\xa1", b"\xa1\xb2\x3c\x4d", b"\x4d\x3c\xb2\xa1", b"\x0a\x0d\x0d\x0a")
"""How capture files begin: pcap of either byte order, with microseconds or nanoseconds, and pcapng."""
_IPFIX_VERSION = b"\x00\x0a"
FIELDS = re.compile(r"#fields[:\s]\s*(.*)", re.IGNORECASE)
"""The line that names the fields of a log in the extended log file format."""
_DELIMITERS = (",", ";", "\t", " ", "|")
_LONGEST_LINE = 16 << 20


@dataclass(frozen=True, slots=True)
class Piece:
    """A part of a log that is read in one go: octets `start` to `stop` of a text file, row groups `start` to `stop` of
    a Parquet file, or the whole of another file.

    `form` is csv, json (JSON Lines), lines (of a log), document (JSON that is not a record a line), parquet, arrow (an
    Arrow stream), ipfix, or one of those of what is compressed. `begin` is where the records of the file begin;
    `header` are the columns of CSV, empty for other forms, and `header_lines` how many lines they take.
    """

    path: str
    form: str
    start: int = 0
    stop: int | None = None
    begin: int = 0
    header: tuple[str, ...] = ()
    delimiter: str = ","
    header_lines: int = 0
    columns: ColumnMap | None = None
    """How its columns are read, where that rests on the file's first line."""
    is_part: bool = False
    """Whether it is a part of a text."""
    context: int | None = None
    """How many octets of a text, or rows of a Parquet file, are read before and behind it for conversations that lie
    across its ends; None for as many as is usual."""
    at_once: int | None = None
    """How many octets of what is compressed are read at once; None for as many as is usual."""

    @property
    def word(self) -> str:
        """What one record of the form is called in messages."""
        return "row" if self.form == "csv" else "record"


@dataclass(frozen=True, slots=True)
class PiecePart:
    """A table read from a piece. `first` is its first line and `lines` how many lines it took, good or bad.

    Records of other lines belong to the pieces beside it; they are there for their requests and replies.
    """

    table: FlowTable
    first: int
    lines: int

    @property
    def places(self) -> NDArray[np.uint8]:
        """Which records of the table lie before the part, are its own, or lie behind it: uint8[n], `OWN` - 1, `OWN`, or
        `OWN` + 1."""
        line = self.table.line
        return OWN + (line >= self.first + self.lines).astype(np.uint8) - (line < self.first).astype(np.uint8)

    @property
    def own(self) -> NDArray[np.bool_]:
        """Which records of the table are the part's own, bool[n]."""
        first, line = self.first, self.table.line
        if len(line) and line[-1] - line[0] + 1 == len(line):  # one after another, as is usual
            own = np.zeros(len(line), dtype=np.bool_)
            own[max(0, first - line[0]) : max(0, first + self.lines - line[0])] = True
            return own
        return (line >= first) & (line < first + self.lines)


def line_begin(stream: BinaryIO, at: int, begin: int) -> int:
    """Where the first line begins that lies in a text at `at` or behind it; `begin` is where its records begin."""
    if at <= begin:
        return begin
    stream.seek(at - 1)
    stream.readline(_LONGEST_LINE)
    return stream.tell()


def outward(piece: Piece, octets: int, at_end: bool) -> list[Piece]:
    """A part of a text cut into smaller ones that have nothing around them, from its end or from its beginning on: one
    of about so many octets, one twice as large, and so on; of a Parquet file by its row groups, one, two and so on;
    another piece as it is."""
    found = []
    start, stop = piece.start, piece.stop or 0
    if piece.form == "parquet":
        groups = 1
        while stop - start > groups:
            nearest = (stop - groups, stop) if at_end else (start, start + groups)
            found.append(replace(piece, start=nearest[0], stop=nearest[1], context=0))
            start, stop = (start, stop - groups) if at_end else (start + groups, stop)
            groups *= 2
        return [*found, replace(piece, start=start, stop=stop, context=0)] if piece.stop is not None else [piece]
    if not piece.is_part or piece.stop is None:
        return [piece]
    with open(piece.path, "rb") as stream:
        while stop - start > octets:
            cut = line_begin(stream, stop - octets if at_end else start + octets, piece.begin)
            if not start < cut < stop:
                break
            nearest = (cut, stop) if at_end else (start, cut)
            found.append(replace(piece, start=nearest[0], stop=nearest[1], context=0))
            start, stop = (start, cut) if at_end else (cut, stop)
            octets *= 2
    return [*found, replace(piece, start=start, stop=stop, context=0)]


def cut_to(piece: Piece, octets: int) -> Iterator[Piece]:
    """A piece of a text cut into ones of about so many octets; another piece as it is."""
    if piece.stop is None or piece.form == "parquet":
        yield piece
        return
    start = piece.start
    with open(piece.path, "rb") as stream:
        while start < piece.stop:
            stop = min(line_begin(stream, start + octets, piece.begin), piece.stop)
            yield replace(piece, start=start, stop=stop, is_part=True)
            start = stop


def there_now(path: Path) -> Path | None:
    """A log of a store that a collector writes to meanwhile: the file that a growing segment has become, or None where
    it was too old and is gone."""
    if path.exists() or path.suffix not in (".arrows", ".parquet"):
        return path
    whole = path.with_suffix(".parquet")
    return whole if whole.exists() else None


def pieces_of(path: Path, columns: ColumnMap = USUAL) -> Iterator[Piece]:
    """How a file is cut; not at all where it is of a store and gone. Raises InputError where it cannot be read or is no
    flow log."""
    now = there_now(path)
    if now is None:
        return
    path = now
    if columns.others:
        chosen = columns.of_log(_first_line(path))
        yield from (replace(piece, columns=chosen) for piece in pieces_of(path, chosen))
        return
    try:
        with path.open("rb") as stream:
            head = stream.read(4)
            whole = whole_form(head)
            if whole == "parquet":
                yield from _row_groups(path)
                return
            if whole is not None:
                yield Piece(str(path), whole)
                return
            yield from _text_pieces(path, stream, columns)
    except OSError as error:
        raise InputError(f"{path}: cannot be read: {error.strerror}") from error


def _first_line(path: Path) -> str:
    """The first line of a text, packed or not; empty for other forms. Raises InputError."""
    try:
        with path.open("rb") as stream:
            form = whole_form(stream.read(4))
        if form is not None and form not in PACKED:
            return ""
        with opened(path, form) as stream:
            head: bytes = stream.read(_LONGEST_LINE)
    except TORN as error:
        raise InputError(f"{path}: cannot be read: {error}") from error
    return head.partition(b"\n")[0].decode("utf-8", "replace")


def _row_groups(path: Path) -> Iterator[Piece]:
    """A Parquet file cut into runs of row groups, about as many rows in each."""
    import pyarrow.parquet  # takes long to load

    try:
        with pyarrow.parquet.ParquetFile(path) as file:
            sizes = [file.metadata.row_group(index).num_rows for index in range(file.metadata.num_row_groups)]
    except (pa.ArrowException, UnicodeDecodeError, MemoryError, OverflowError) as error:
        raise InputError(f"{path}: not Parquet: {error}") from error
    start = rows = 0
    for index, size in enumerate(sizes):
        rows += size
        if rows >= ROWS or index == len(sizes) - 1:
            yield Piece(str(path), "parquet", start, index + 1)
            start, rows = index + 1, 0
    if not sizes:
        yield Piece(str(path), "parquet", 0, 0)


def whole_form(head: bytes) -> str | None:
    """The form of a file that is not cut, by its first four octets; None for text."""
    if head.startswith(_IPFIX_VERSION):
        return "ipfix"
    return next((form for magic, form in _MAGIC.items() if head.startswith(magic)), None)


def _text_pieces(path: Path, stream: BinaryIO, columns: ColumnMap) -> Iterator[Piece]:
    size = path.stat().st_size
    opening = opening_of(stream, str(path), columns)
    if opening.form == "document":
        yield Piece(str(path), "document")
        return
    start = opening.begin
    while start < size:
        # The last ones are smaller, so that all who read them end at about the same time.
        length = PIECE if size - start > 2 * PIECE else PIECE // 4
        stream.seek(min(size, start + length))
        stream.readline(_LONGEST_LINE)
        stop = min(stream.tell(), size)
        yield Piece(str(path), opening.form, start, stop, opening.begin, opening.header, opening.delimiter,
                    opening.header_lines, is_part=start > opening.begin or stop < size)  # fmt: skip
        start = stop


@dataclass(frozen=True, slots=True)
class Opening:
    """What a text is: its form, its columns, what parts them, where its records begin and behind how many lines."""

    form: str
    header: tuple[str, ...] = ()
    delimiter: str = ","
    begin: int = 0
    header_lines: int = 0


def opening_of(stream: BinaryIO | io.BytesIO, name: str, columns: ColumnMap) -> Opening:
    """What a text is, by its first line. Raises InputError where that cannot be a flow log."""
    stream.seek(0)
    refuse_what_is_no_text(stream.read(4), name)  # a capture may begin with an empty line
    stream.seek(0)
    first = stream.readline(_LONGEST_LINE)
    refuse_what_is_no_text(first, name)
    blank = 0
    while first.isspace() and columns.pattern is None:
        blank, first = blank + 1, stream.readline(_LONGEST_LINE)
    if not first:
        raise InputError([Problem(Place(name, 1), "the file is empty; a flow log has at least a header")])
    header_ends = stream.tell()
    if columns.pattern is not None:
        stream.seek(0)
        lines = [stream.readline(_LONGEST_LINE) for _ in range(_TRIED)]
        try_pattern([line for line in lines if line], PatternLines(columns.pattern), name)
        return Opening(LINES)
    start = first.removeprefix(b"\xef\xbb\xbf").lstrip()
    if start[:1] in (b"{", b"[") and not _TRACKED.match(start):
        if not columns.columns and is_journal(start):
            return Opening(LINES)
        if _PROBES.match(start):
            raise InputError(
                [Problem(Place(name, 1), "these are probe records, no flow records: give them with --probes")]
            )
        return Opening("json" if _is_object(start) else "document")
    if columns.names and not columns.records:
        return Opening("csv", columns.names, columns.delimiter or ",")
    if start.startswith(b"#"):
        extended = _extended(stream, name, columns)
        if extended is not None:
            return extended
    header, delimiter = _header(first, name, columns)
    try:
        columns.chosen(header, name)
    except InputError:
        stream.seek(0)
        lines = [stream.readline(_LONGEST_LINE) for _ in range(_LOOKED_AT)]
        if is_log(lines, LogLines(written_at(name), bool(columns.columns))):
            return Opening(LINES)
        raise
    return Opening("csv", header, delimiter, header_ends, blank + 1)


def refuse_what_is_no_text(start: bytes, name: str) -> None:
    """Raise InputError where the first line of a log shows that it is an archive, UTF-16, or no text at all: what
    stands before the records of a file inside would be taken for a part of its header."""
    if start.startswith((b"\xff\xfe", b"\xfe\xff")):
        raise InputError([Problem(Place(name, 1), "this is UTF-16 text; save it as UTF-8")])
    if start.startswith(_ZIP) or start[_TAR_AT:].startswith(_TAR):
        kind = "zip" if start.startswith(_ZIP) else "tar"
        raise InputError(f"{name}: this is a {kind} archive; unpack it, and give the logs that are in it")
    if start.startswith(_CAPTURES):
        raise InputError(
            f"{name}: this is a capture of packets, and flow records are read; an exporter makes them of it, for"
            f" 'kiboko collect STORE' to take: softflowd -r {shlex.quote(name)} -6 -v 10 -A milli -d -n 127.0.0.1:4739"
        )
    if b"\0" in start:
        raise InputError(f"{name}: this is no text, by octets of 0 in its first line; logs are UTF-8 text, Parquet,"
                         " Arrow streams or IPFIX files, plain or compressed")  # fmt: skip


def written_at(name: str) -> datetime:
    """When a file was last written to; now, where that cannot be told."""
    try:
        return datetime.fromtimestamp(os.stat(name).st_mtime, UTC)
    except OSError:
        return datetime.now(UTC)


def _extended(stream: BinaryIO | io.BytesIO, name: str, columns: ColumnMap) -> Opening | None:
    """What a log in the extended log file format of the W3C is: directives, among them its fields (`#Fields: a b`, also
    written `#fields a b`), then values parted by spaces or tabs; None where it has no such directive."""
    stream.seek(0)
    at = lines = 0
    header: tuple[str, ...] = ()
    while (line := stream.readline(_LONGEST_LINE)).startswith(b"#"):
        at, lines = at + len(line), lines + 1
        if (fields := FIELDS.match(line.decode("utf-8", "replace"))) is not None:
            header = tuple(fields[1].split())
    if not header:
        return None
    columns.chosen(header, name)
    return Opening("csv", header, "\t" if b"\t" in line else " ", at, lines)


def _is_object(line: bytes) -> bool:
    """Whether a line is a JSON object, whole: then every line is one. A torn or broken one is taken for one too."""
    try:
        return isinstance(json.loads(line), dict)
    except RecursionError:
        return True
    except ValueError:
        return line.rstrip()[-1:] not in (b"{", b"[", b",")


def _header(first: bytes, name: str, columns: ColumnMap) -> tuple[tuple[str, ...], str]:
    """The columns that a first line names, and what parts them: what the mapping says, else what makes most sense."""
    text = first.decode("utf-8-sig", errors="replace").replace("\0", "\ufffd").rstrip("\r\n")
    tried = []
    for delimiter in (columns.delimiter,) if columns.delimiter else _DELIMITERS:
        try:
            header = tuple(each.strip() for each in next(csv.reader([text], delimiter=delimiter), []))
        except csv.Error as error:
            told = "its lines end with a carriage return alone, where a line feed belongs" if "\r" in text else error
            raise InputError([Problem(Place(name, 1), f"not CSV: {told}")]) from error
        known = {each.name for each in columns.columns}
        sense = sum(each in known if known else element_of(each) is not None for each in header)
        tried.append((sense, header, delimiter))
    best = max(tried, key=lambda each: each[0])
    return best[1], best[2]
