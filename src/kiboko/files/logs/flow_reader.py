"""Flow logs as tables: CSV, JSON, Parquet, Arrow streams and IPFIX files, each plain or compressed."""

from __future__ import annotations

import dataclasses
import io
import itertools
import mmap
import os
import tempfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa

from kiboko.core.errors import InputError
from kiboko.core.records.flow_table import FlowTable
from kiboko.files.elements.column_map import USUAL, ColumnMap, label
from kiboko.files.elements.rejects import Rejects
from kiboko.files.elements.streams import PACKED, Stream, Unpacked, opened
from kiboko.files.logs import flow_pieces
from kiboko.files.logs.address_texts import addresses_written_out
from kiboko.files.logs.flow_columns import Converter
from kiboko.files.logs.flow_pieces import (
    Piece,
    PiecePart,
    opening_of,
    pieces_of,
    there_now,
    whole_form,
    written_at,
)
from kiboko.files.logs.flow_texts import Batch, Text, TextReader, batch_of, count_lines
from kiboko.files.logs.log_lines import LINES, LogLines, PatternLines
from kiboko.files.logs.nested_json import outer_items

_ROWS = 250_000
_MOST_ROWS = 1_000_000
_SOME_ROWS = 50_000
_DAMAGE = (pa.ArrowException, UnicodeDecodeError, MemoryError, OverflowError)
"""What the library raises for damaged files; a length that cannot be is asked for as memory."""


class PieceReader:
    """Reads pieces. One reader serves one worker and remembers the addresses that it has parsed."""

    def __init__(self, columns: ColumnMap = USUAL) -> None:
        self._map = columns
        self._texts = TextReader(columns)
        self._converter = Converter(columns.totals)
        self._others: dict[ColumnMap, PieceReader] = {}
        self._contents: dict[tuple[object, ...], Any] = {}

    def read(self, piece: Piece, rejects: Rejects) -> Iterator[PiecePart]:
        """The tables of a piece; lines count from 1 at its beginning. A segment of a store that has become another file
        since is read from there. Raises InputError."""
        if piece.columns is not None and piece.columns != self._map:
            if piece.columns not in self._others:
                self._others[piece.columns] = PieceReader(piece.columns)
            yield from self._others[piece.columns].read(piece, rejects)
            return
        now = there_now(Path(piece.path))
        if now is None:
            return
        if str(now) != piece.path and piece.form == "arrow":
            piece = dataclasses.replace(piece, path=str(now), form="parquet", start=0, stop=None)
        try:
            if piece.form in PACKED:
                yield from self._packed(piece, rejects)
            elif piece.form in ("csv", "json", LINES):
                yield self._mapped(piece, rejects)
            elif piece.form == "parquet":
                yield from self._parquet(piece.path, piece.path, rejects, (piece.start, piece.stop), piece.context)
            else:
                with open(piece.path, "rb") as stream:
                    yield from self._whole(piece.form, piece.path, stream, rejects)
        except OSError as error:
            raise InputError(f"{piece.path}: cannot be read: {error}") from error

    # Texts.

    def _mapped(self, piece: Piece, rejects: Rejects) -> PiecePart:
        """A piece of a text file, read where it lies. The mapping goes when the last column that rests on it does."""
        with open(piece.path, "rb") as stream:
            whole = mmap.mmap(stream.fileno(), 0, access=mmap.ACCESS_READ)
        begin, end = _with_context(piece, whole)
        before, behind = whole[begin : piece.start].count(b"\n"), count_lines(whole[piece.stop : end])
        data = pa.py_buffer(whole).slice(begin, end - begin)
        return self._text(piece, Text(data, 1 - before, before, behind), rejects)

    def _text(self, piece: Piece, text: Text, rejects: Rejects) -> PiecePart:
        """The part that a text is."""
        if piece.form == LINES:
            reader = PatternLines(self._map.pattern) if self._map.pattern is not None else LogLines(
                written_at(piece.path), bool(self._map.columns))  # fmt: skip
            batch = self._texts.log(text, reader, rejects)
        elif piece.form == "json":
            batch = self._texts.json(text, rejects)
        else:
            batch = self._texts.csv(piece.header, piece.delimiter, text, rejects)
        first, own = text.line + text.before, batch.lines - text.before - text.behind
        text.bounded(rejects, batch.lines)
        return PiecePart(self._converter.table(batch.columns, rejects, text.line, batch.places), first, own)

    # What is packed.

    def _packed(self, piece: Piece, rejects: Rejects) -> Iterator[PiecePart]:
        """What is compressed, read as it is unpacked; what was whole before a tear is kept."""
        with opened(piece.path, piece.form) as packed:
            stream = Unpacked(packed)
            head = stream.read(4)
            form = whole_form(head)
            stream.put_back(head)
            if form in PACKED:
                raise InputError(f"{piece.path}: compressed twice")
            if form is not None:
                yield from self._whole(form, piece.path, stream, rejects)
            else:
                yield from self._packed_text(piece, stream, rejects)
            if stream.fault:
                rejects.last_line = 1 << 62
                rejects.note(f"torn {piece.form}", f"it ends in the middle: {stream.fault}", stream.line)

    def _packed_text(self, piece: Piece, stream: Unpacked, rejects: Rejects) -> Iterator[PiecePart]:
        """Text that is unpacked, as pieces with the lines around them, as a file that is not packed."""
        at_once = piece.at_once or flow_pieces.PIECE
        context = flow_pieces.CONTEXT if piece.context is None else piece.context
        data = stream.read(at_once)
        if not data and stream.fault:
            return
        opening = opening_of(io.BytesIO(data), piece.path, self._map)
        if opening.form == "document":
            stream.put_back(data)
            yield from self._whole("document", piece.path, stream, rejects)
            return
        rejects.headers = opening.header_lines
        known = dataclasses.replace(piece, form=opening.form, header=opening.header, delimiter=opening.delimiter)
        runs = _whole_lines(data[opening.begin :], stream, at_once)
        before, own = b"", next(runs, b"")
        while own:
            following = next(runs, b"")
            behind = following[: following.rfind(b"\n", 0, context) + 1]
            lines_before = before.count(b"\n")
            whole = pa.py_buffer(b"".join((before, own, behind)))
            text = Text(whole, stream.line - lines_before, lines_before, behind.count(b"\n"))
            part = self._text(known, text, rejects)
            stream.line += part.lines
            yield part
            start = max(0, len(own) - context)
            before = own[own.find(b"\n", start) + 1 or len(own) :] if start else own
            own = following

    # Forms that are read whole.

    def _whole(self, form: str, path: str, stream: Stream, rejects: Rejects) -> Iterator[PiecePart]:
        if form == "parquet" and isinstance(stream, Unpacked):
            yield from self._unpacked_parquet(path, stream, rejects)
        elif form == "arrow":
            yield from self._arrow(path, stream, rejects)
        elif form == "ipfix":
            yield from self._messages(stream, rejects)
        else:
            yield from self._rows(self._documents(path, stream, rejects), rejects)

    def _columnar(
        self, tables: Iterator[tuple[pa.Table, int, int]], path: str, rejects: Rejects
    ) -> Iterator[PiecePart]:
        """Tables of columns, each with how many of its rows lie before the part's own, and how many these are."""
        line = 1
        for each, before, own in tables:
            table = _as_utf8(_flattened(each))
            chosen = self._map.chosen(tuple(table.column_names), path)
            labelled = table.rename_columns([label(place) for place in range(table.num_columns)])
            rejects.first_line, rejects.last_line = line, line + own - 1
            rejects.unread |= self._map.unread(tuple(table.column_names))
            first = line - before
            read = batch_of(labelled.select(chosen.places), chosen, None, first, table.num_rows, rejects)
            columns = addresses_written_out(read.columns)
            yield PiecePart(self._converter.table(columns, rejects, first, read.places), line, own)
            line += own

    def _parquet(
        self, path: str, source: Any, rejects: Rejects, groups: tuple[int, int | None] = (0, None),
        context: int | None = None,
    ) -> Iterator[PiecePart]:  # fmt: skip
        """Some row groups of a Parquet file, all by default, with so many rows before and behind them. Texts come as
        dictionaries, as they are mostly kept."""
        import pyarrow.parquet  # takes long to load

        try:
            # The table of contents is long where there are many row groups, and is read once for all pieces of a file.
            stamp = _stamp(source)
            with pyarrow.parquet.ParquetFile(source, metadata=self._contents.get(stamp)) as file:
                contents, self._contents = file.metadata, {stamp: file.metadata} if stamp else {}
                schema, header = file.schema_arrow, tuple(_flattened(file.schema_arrow.empty_table()).column_names)
            texts = [each.name for each in schema if pa.types.is_string(each.type)]
            with pyarrow.parquet.ParquetFile(source, metadata=contents, read_dictionary=texts) as file:
                chosen = self._map.chosen(header, path)
                rejects.unread |= self._map.unread(header)
                columns = [header[place] for place in chosen.places]
                indices = list(range(groups[0], file.num_row_groups if groups[1] is None else groups[1]))
                rows = sum(file.metadata.row_group(index).num_rows for index in indices)
                tables: Iterator[pa.Table]
                if rows > _MOST_ROWS:  # a row group may be of any size
                    batches = file.iter_batches(_ROWS, indices, columns, use_threads=False)
                    tables = (pa.Table.from_batches([batch]) for batch in batches)
                else:
                    tables = iter([file.read_row_groups(indices, columns, use_threads=False)] if rows else [])
                count = flow_pieces.CONTEXT_ROWS if context is None else context
                before, behind = (
                    _rows_near(file, columns, numbers, count, at_end)
                    for numbers, at_end in ((range(groups[0] - 1, -1, -1), True),
                                            (range(groups[0] + len(indices), file.num_row_groups), False))
                )  # fmt: skip
                yield from self._columnar(_overlapping(tables, before, behind, count), path, rejects)
        except _DAMAGE as error:
            raise InputError(f"{path}: not Parquet: {error}") from error

    def _unpacked_parquet(self, path: str, stream: Unpacked, rejects: Rejects) -> Iterator[PiecePart]:
        with tempfile.TemporaryFile() as spool:
            while data := stream.read(flow_pieces.PIECE):
                spool.write(data)
            if stream.fault:
                return  # its table of contents stood at the end; the tear is told by who unpacked it
            spool.seek(0)
            yield from self._parquet(path, spool, rejects)

    def _arrow(self, path: str, stream: Stream, rejects: Rejects) -> Iterator[PiecePart]:
        """An Arrow stream; its last batch may be torn, as a collector that was killed leaves it."""

        def batches() -> Iterator[pa.Table]:
            reader = pa.ipc.open_stream(pa.PythonFile(stream, mode="r"))
            while True:
                try:
                    batch = reader.read_next_batch()
                except StopIteration:
                    return
                batch.validate(full=True)  # damage may show in its offsets only
                yield pa.Table.from_batches([batch])

        done = 0
        try:
            for part in self._columnar(((each, 0, each.num_rows) for each in batches()), path, rejects):
                done = part.first + part.lines - 1
                yield part
        except (*_DAMAGE, OSError) as error:
            rejects.last_line = 1 << 62
            rejects.note("torn arrow", f"it ends in the middle: {error}", done + 1)

    def _rows(self, records: Iterator[tuple[Mapping[str, Any], int]], rejects: Rejects) -> Iterator[PiecePart]:
        """Records that come one by one, each with its place, as tables of bounded size."""
        while chunk := list(itertools.islice(records, _SOME_ROWS)):
            rows, places = [row for row, _ in chunk], [place for _, place in chunk]
            first, last = places[0], places[-1]
            window, rejects.first_line, rejects.last_line = rejects.last_line, 0, 1 << 62
            batch: Batch = self._texts.objects(rows, places, first, last - first + 1, rejects)
            yield PiecePart(self._converter.table(batch.columns, rejects, first, batch.places), first, batch.lines)
            rejects.last_line = window

    def _documents(self, path: str, stream: Stream, rejects: Rejects) -> Iterator[tuple[Mapping[str, Any], int]]:
        import ijson

        place = 0
        head = stream.read(1 << 12)
        again = Unpacked(stream)
        again.put_back(head)
        is_array = head.removeprefix(b"\xef\xbb\xbf").lstrip()[:1] == b"["
        steps = self._map.records or (("[]",) if is_array else ("",))
        try:
            for item, remaining in outer_items(again, steps):
                inner = TextReader(dataclasses.replace(self._map, records=remaining))
                for row in inner.inside(item, place + 1, rejects):
                    place += 1
                    yield row, place
            if not place and self._map.records and not rejects.total:
                path = ".".join(self._map.records)
                rejects.note("no records", f"the path '{path}' of the mapping file leads to none", 1)
        except (ijson.JSONError, UnicodeDecodeError) as error:
            first = str(error).strip().splitlines()[0]
            rejects.note("torn JSON", f"not JSON from here on: {first}", place + 1)

    def _messages(self, stream: Stream, rejects: Rejects) -> Iterator[PiecePart]:
        """An IPFIX file (RFC 5655)."""
        from kiboko.files.messages.flow_messages import (
            ANEW,
            GAPS,
            LATE,
            MessageReader,
            messages_of,
        )  # loads its library

        reader, done = MessageReader(), 0
        rejects.first_line, rejects.last_line = 0, 1 << 62

        def parts() -> Iterator[PiecePart]:
            nonlocal done
            for columns in reader.take():
                size = columns.num_rows
                yield PiecePart(self._converter.table(columns, rejects, done + 1), done + 1, size)
                done += size

        for data, fault in messages_of(stream):
            if fault:
                rejects.note("torn IPFIX message" if data else "no IPFIX message", fault, done + reader.records + 1)
            if data:
                reader.read(data, "")
            if reader.records >= _ROWS:
                yield from parts()
        yield from parts()
        if reader.counts["message cut short"] and "torn IPFIX message" not in rejects.counts:
            rejects.note("message cut short", "a set is longer than its message", done + 1)
        if reader.waiting:
            rejects.note("unknown template", f"{reader.waiting} sets of data whose template never came", done + 1)
        if reader.counts[GAPS]:
            rejects.remark("missing by the sequence numbers of their exporter", done, reader.counts[GAPS])
        for kind in (LATE, ANEW):
            if reader.counts[kind]:
                rejects.remark(f"around {kind}", done, reader.counts[kind])


def _stamp(source: Any) -> tuple[object, ...]:
    """What tells a file from any other, and from what it was before; empty where it has no name."""
    if not isinstance(source, str):
        return ()
    told = os.stat(source)
    return source, told.st_dev, told.st_ino, told.st_size, told.st_mtime_ns


def _whole_lines(text: bytes, stream: Unpacked, at_once: int) -> Iterator[bytes]:
    """What begins with `text` and goes on in a stream, a run of whole lines of about so many octets after the other;
    the last may be torn."""
    while True:
        following = stream.read(at_once)
        if not following:
            if text:
                yield text
            return
        cut = text.rfind(b"\n") + 1
        if cut:
            yield text[:cut]
        text = text[cut:] + following


def tables_of(path: Path, strict: bool = False, columns: ColumnMap = USUAL) -> Iterator[tuple[FlowTable, Rejects]]:
    """The tables of a file one after another, with lines counted from its beginning, and what was rejected so far.

    Raises InputError where the file cannot be read, and with `strict` for the first row that is rejected.
    """
    reader, rejects, lines = PieceReader(columns), None, 0
    for piece in pieces_of(path, columns):
        if rejects is None:
            lines = piece.header_lines
            rejects = Rejects(str(path), strict, piece.word, lines)
        fresh = Rejects(str(path), word=piece.word)
        read = 0
        for part in reader.read(piece, fresh):
            lines = lines or fresh.headers  # what is compressed shows its header only now
            own = part.own
            table = part.table if own.all() else part.table.taken(own)
            read += part.lines
            yield dataclasses.replace(table, line=table.line + lines), rejects
        rejects.headers = rejects.headers or fresh.headers
        rejects.take(fresh, lines)
        lines += read
    if rejects is not None:
        yield FlowTable.empty(), rejects


def _rows_near(file: Any, columns: Sequence[str], groups: Iterable[int], count: int, at_end: bool) -> pa.Table | None:
    """The last rows of row groups of a Parquet file that lie before others, the nearest first, or the first ones of
    such as lie behind; None where there are none."""
    found: list[pa.Table] = []
    for group in groups:
        if count <= 0:
            break
        rows = file.metadata.row_group(group).num_rows
        if at_end or rows <= 2 * count:
            table = file.read_row_groups([group], columns, use_threads=False)
            found.append(table.slice(max(0, rows - count)) if at_end else table.slice(0, count))
        else:  # no more is unpacked than is asked for
            batches = file.iter_batches(count, [group], columns, use_threads=False)
            found.append(pa.Table.from_batches([next(batches)]))
        count -= rows
    return pa.concat_tables(reversed(found) if at_end else found) if found else None


def _overlapping(
    tables: Iterator[pa.Table], before: pa.Table | None, behind: pa.Table | None, count: int
) -> Iterator[tuple[pa.Table, int, int]]:
    """Tables of which each is cut off from the next, with `count` rows of those beside them: before the first one
    `before`, and behind the last `behind`. Each with how many rows lie before its own, and how many these are."""
    own = next(tables, None)
    while own is not None:
        following = next(tables, None)
        after = behind if following is None else following.slice(0, count)
        around = [each for each in (before, own, after) if each is not None]
        whole = pa.concat_tables(around) if len(around) > 1 else own
        yield whole, before.num_rows if before is not None else 0, own.num_rows
        before, own = own.slice(max(0, own.num_rows - count)), following


def _flattened(table: pa.Table) -> pa.Table:
    """The fields of structures as columns with dotted names."""
    while any(pa.types.is_struct(each.type) for each in table.schema):
        table = table.flatten()
    return table


def _as_utf8(table: pa.Table) -> pa.Table:
    """The same with what is no UTF-8 in its texts replaced: a file of another writer may hold anything."""
    try:
        table.validate(full=True)
        return table
    except pa.ArrowException:
        columns = {}
        for name, column in zip(table.column_names, table.columns, strict=True):
            if pa.types.is_dictionary(column.type):
                column = pa.chunked_array([chunk.dictionary_decode() for chunk in column.chunks], pa.string())
            if pa.types.is_string(column.type):
                octets = column.cast(pa.binary()).to_pylist()
                column = pa.array([None if each is None else each.decode("utf-8", "replace") for each in octets])
            columns[name] = column
        return pa.table(columns)


def _with_context(piece: Piece, whole: mmap.mmap) -> tuple[int, int]:
    """Where a piece of a text file begins and ends together with the whole lines just before and behind it."""
    stop, context = piece.stop or 0, flow_pieces.CONTEXT if piece.context is None else piece.context
    begin = max(piece.begin, piece.start - context)
    if begin > piece.begin:
        begin = min(whole.find(b"\n", begin, piece.start) + 1 or piece.start, piece.start)
    end = max(whole.rfind(b"\n", stop, stop + context) + 1, stop)
    return begin, len(whole) if len(whole) <= stop + context else end
