"""CSV and JSON Lines as columns: all at once where the text allows it, else line by line, so that whatever is wrong has
its place."""

from __future__ import annotations

import csv
import io
import itertools
import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv
import pyarrow.json
from numpy.typing import NDArray

from kiboko.files.elements.column_map import Chosen, ColumnMap, label
from kiboko.files.elements.fields import DESTINATIONS, SOURCES, TIMES
from kiboko.files.elements.rejects import Rejects
from kiboko.files.logs.log_lines import LineReader, LogLines, read_lines
from kiboko.files.logs.nested_json import delimited, expanded, path_inside
from kiboko.files.messages.filter_lines import filter_lines

_WHOLE = ("flowStartMilliseconds", "flowEndMilliseconds", "flowDurationMilliseconds", "packetDeltaCount",
          "octetDeltaCount")  # fmt: skip
_SMALL = ("sourceTransportPort", "destinationTransportPort", "icmpTypeCodeIPv4", "icmpTypeCodeIPv6", "tcpControlBits")
_CODED = ("protocolIdentifier", "firewallEvent", "observationPointId", "exporterIPv4Address", "exporterIPv6Address",
          "observationDomainId", "ingressInterface", "egressInterface", "flowDirection")  # fmt: skip
_OFTEN_NUMBERS = ("protocolIdentifier", "firewallEvent")
_TYPES = {
    **dict.fromkeys(_WHOLE, pa.int64()),
    **dict.fromkeys(_SMALL, pa.int32()),
    **dict.fromkeys((*SOURCES, *DESTINATIONS), pa.binary()),
    **dict.fromkeys(_CODED, pa.dictionary(pa.int32(), pa.string())),
}
_NOTHING = pa.table({"protocolIdentifier": pa.array([], pa.string())})
_BLOCK = 1 << 20  # octets that are parsed at once: what stays in a processor's cache


@dataclass(frozen=True, slots=True)
class Text:
    """A text to be read: its octets, the line of its first one, and how many lines of it lie before and behind those
    that are its own."""

    data: pa.Buffer
    line: int
    before: int = 0
    behind: int = 0

    def bounded(self, rejects: Rejects, lines: int) -> None:
        """Have `rejects` count only what is wrong with the text's own lines, of `lines` in all."""
        rejects.first_line = self.line + self.before
        rejects.last_line = self.line + lines - self.behind - 1


@dataclass(frozen=True, slots=True)
class Batch:
    """Columns by information element; the line of each row, where they are not one after another; how many lines."""

    columns: pa.Table
    places: list[int] | None
    lines: int


def count_lines(data: bytes) -> int:
    """The lines of a text, a last one without its line break too."""
    return data.count(b"\n") + (data[-1:] not in (b"\n", b""))


def batch_of(
    columns: pa.Table, chosen: Chosen, places: Sequence[int] | None, first: int, lines: int, rejects: Rejects
) -> Batch:
    """Columns by place as a batch; rows that the mapping file leaves out are told of."""
    table, keep, repeated = chosen.applied(columns)
    if keep is None and not repeated.any():
        return Batch(table, None if places is None else list(places), lines)
    whole = np.arange(first, first + columns.num_rows) if places is None else np.array(places, dtype=np.int64)
    kept = whole if keep is None else whole[keep]
    for kind, marked in (
        ("left out, as the mapping file says", whole[~keep] if keep is not None else whole[:0]),
        ("with a time in an hour that the clocks show twice: the earlier one is taken", kept[repeated]),
    ):
        rejects.remark_all(kind, marked)
    if keep is None:
        return Batch(table, None if places is None else list(places), lines)
    return Batch(table, kept.tolist(), lines)


def table_of_rows(rows: Sequence[Mapping[str, Any]], header: Sequence[str], places: Iterable[int]) -> pa.Table:
    """Rows of named values as a table of texts: the columns of some places, which bear the labels of these."""
    return pa.table(
        {label(place): pa.array([_as_text(row.get(header[place])) for row in rows], pa.string()) for place in places}
    )


def _labelled(table: pa.Table, header: Sequence[str], chosen: Chosen) -> pa.Table:
    """The columns of a table at the places that are read, with the labels of these; empty where it has none."""
    none = pa.nulls(table.num_rows, pa.string())
    names = set(table.column_names)
    return pa.table({label(at): table[header[at]] if header[at] in names else none for at in chosen.places})


def _as_text(value: Any) -> str | None:
    if value is None:
        return None
    if isinstance(value, str):  # JSON may write half of a pair of surrogates, which is no text
        return value if value.isascii() else value.encode("utf-8", "replace").decode("utf-8")
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    try:
        return str(value)
    except (ValueError, RecursionError):  # a number of thousands of digits, a value nested too deeply
        return "?"


class TextReader:
    """Reads texts by one column map."""

    def __init__(self, columns: ColumnMap) -> None:
        self._map = columns
        self._fields = columns.fields

    def at_once(
        self, form: str, header: tuple[str, ...], delimiter: str, text: Text, rejects: Rejects, lines: int
    ) -> Batch | None:  # fmt: skip
        """A text of cells, or of JSON objects, by columns; None where it is not of one shape all through, with a row in
        each of its lines."""
        if form == "json":
            return self._json_at_once(text, text.data.to_pybytes(), rejects)
        return self._csv_at_once(header, delimiter, text, rejects, lines)

    # CSV.

    def csv(self, header: tuple[str, ...], delimiter: str, text: Text, rejects: Rejects) -> Batch:
        """A text of cells."""
        found = self._csv_at_once(header, delimiter, text, rejects)
        if found is not None:
            return found
        chosen, data = self._map.chosen(header), text.data.to_pybytes()
        lines = count_lines(data)
        text.bounded(rejects, lines)
        rows, places = _slow_csv(header, delimiter, data, rejects, text.line)
        return batch_of(table_of_rows(rows, header, chosen.places), chosen, places, text.line, lines, rejects)

    def _csv_at_once(
        self, header: tuple[str, ...], delimiter: str, text: Text, rejects: Rejects, lines: int | None = None
    ) -> Batch | None:  # fmt: skip
        chosen = self._map.chosen(header)
        rejects.unread |= self._map.unread(header)
        columns = _columns(header, delimiter, chosen, text.data)
        if columns is None or (lines is not None and columns.num_rows != lines):
            return None
        text.bounded(rejects, columns.num_rows)
        read, places = _without_blanks(columns, text)
        return batch_of(read, chosen, places, text.line, columns.num_rows, rejects)

    # JSON Lines.

    def json(self, text: Text, rejects: Rejects) -> Batch:
        """A text with a JSON object in each line."""
        data = text.data.to_pybytes()
        at_once = self._json_at_once(text, data, rejects)
        if at_once is not None:
            return at_once
        lines = count_lines(data)
        text.bounded(rejects, lines)
        rows: list[Mapping[str, Any]] = []
        places: list[int] = []
        for number, line in enumerate(data.split(b"\n"), text.line):
            if line.strip():
                for row in self._objects(line, number, data, text.line, rejects):
                    rows.append(row)
                    places.append(number)
        rejects.unread |= self._map.unread(_names(rows))
        return self.objects(rows, places, text.line, lines, rejects)

    def _json_at_once(self, text: Text, data: bytes, rejects: Rejects) -> Batch | None:
        """Flat objects with values of the same types all through."""
        if self._map.columns:
            return None
        lines = count_lines(data)
        try:
            options = pyarrow.json.ReadOptions(use_threads=False, block_size=max(text.data.size + 1, 1 << 16))
            columns = pyarrow.json.read_json(text.data, options)
            columns.validate(full=True)
            header = tuple(columns.column_names)
            chosen, is_flat = self._map.chosen(header), not any(map(pa.types.is_nested, columns.schema.types))
            if columns.num_rows != lines or not is_flat or chosen.is_nothing:
                return None
            rejects.unread |= self._map.unread(header)
            columns = columns.rename_columns([label(place) for place in range(len(header))])
            text.bounded(rejects, lines)
            return batch_of(columns, chosen, None, text.line, lines, rejects)
        except (pa.ArrowException, UnicodeDecodeError):
            return None

    def log(self, text: Text, reader: LineReader, rejects: Rejects) -> Batch:
        """A text of log lines; those that tell of no flow are told of, since others may be among them."""
        data = text.data.to_pybytes()
        lines = count_lines(data)
        text.bounded(rejects, lines)
        usual = self._usual_lines(data, reader)
        rows: list[Mapping[str, Any]] = []
        places: list[int] = []
        without = 0
        first_without = 0
        others: Iterable[tuple[int, bytes]] = enumerate(data.split(b"\n"), text.line)
        if usual is not None:
            others = itertools.compress(others, [*(~usual[0]).tolist(), True])
        for row, number in read_lines(others, reader, rejects):
            if row is not None:
                by_records = self._map.columns and self._map.pattern is None
                inside = self.inside(row, number, rejects) if by_records else [row]
                rows.extend(inside)
                places.extend([number] * len(inside))
            elif rejects.first_line <= number <= rejects.last_line:
                without, first_without = without + 1, first_without or number
        if without:
            rejects.remark("telling of no flow", first_without, without)
        if usual is None:
            return self.objects(rows, places, text.line, lines, rejects)
        every = np.array([*(text.line + np.flatnonzero(usual[0])).tolist(), *places])
        header = tuple(dict.fromkeys([*usual[1].column_names, *_names(rows)]))
        chosen = self._map.chosen(header)
        table = pa.concat_tables([_labelled(usual[1], header, chosen), table_of_rows(rows, header, chosen.places)])
        order = np.argsort(every, kind="stable")
        return batch_of(table.take(order) if rows else table, chosen, every[order].tolist(), text.line, lines, rejects)

    def _usual_lines(self, data: bytes, reader: LineReader) -> tuple[NDArray[np.bool_], pa.Table] | None:
        """Which lines of a text are of the packet filter in its usual form, and their fields; None where none is, or
        where a mapping file says what the fields are."""
        if self._map.columns or not isinstance(reader, LogLines) or b" PROTO=" not in data:
            return None
        ends = np.flatnonzero(np.frombuffer(data, dtype=np.uint8) == ord("\n")) + 1
        bounds = np.unique(np.concatenate([[0], ends, [len(data)]])).astype(np.int64)
        lines = pa.LargeBinaryArray.from_buffers(
            pa.large_binary(), len(bounds) - 1, [None, pa.py_buffer(bounds), pa.py_buffer(data)]
        )
        is_usual, table = filter_lines(lines, reader.written)
        return (is_usual, table) if table.num_rows else None

    def objects(
        self, rows: Sequence[Mapping[str, Any]], places: Sequence[int], first: int, lines: int, rejects: Rejects
    ) -> Batch:
        """Objects that were read one by one. A field of the mapping file that none of them has is told of: it may be
        mistyped."""
        for name in self._fields if rows else ():
            if all(row.get(name) is None for row in rows):
                rejects.remark(f"without '{name}', which the mapping file reads", places[0], len(rows))
        header = self._fields or _names(rows)
        chosen = self._map.chosen(header)
        if chosen.is_nothing:
            for row, place in zip(rows, places, strict=True):
                rejects.note("without a field of a flow record", _without_fields(row), place)
            return Batch(_NOTHING, [], lines)
        return batch_of(table_of_rows(rows, header, chosen.places), chosen, places, first, lines, rejects)

    def _objects(self, line: bytes, number: int, data: bytes, first: int, rejects: Rejects) -> list[Mapping[str, Any]]:
        try:
            value = json.loads(line)
        except (ValueError, RecursionError):
            torn = not data.endswith(b"\n") and number == first + data.count(b"\n")
            rejects.note("torn last line" if torn else "not JSON", "the line is not JSON", number)
            return []
        return self.inside(value, number, rejects)

    def inside(self, value: Any, number: int, rejects: Rejects) -> list[Mapping[str, Any]]:
        """The records in a JSON value, as fields by name."""
        if not self._map.columns:
            if isinstance(value, dict):
                return [value]
            rejects.note("not a record", "the line is not a JSON object", number)
            return []
        found: list[Mapping[str, Any]] = []
        for chain, leaf in expanded(value, self._map.records):
            if isinstance(leaf, str):
                cells = delimited(leaf, self._map.delimiter or ",", self._map.names)
                if cells is None:
                    text = f"{leaf[:60]!r} has not the {len(self._map.names)} fields that 'names' lists"
                    rejects.note("wrong number of fields", text, number)
                    continue
                chain = (*chain, cells)
            elif isinstance(leaf, dict):
                chain = (*chain, leaf)
            else:
                rejects.note("not a record", f"{str(leaf)[:40]!r} is no record", number)
                continue
            found.append({name: _lookup(chain, name) for name in self._fields})
        if not found and self._map.records and not _reaches(value, self._map.records):
            rejects.note("no records", f"the path '{'.'.join(self._map.records)}' leads nowhere", number)
        return found


def _names(rows: Sequence[Mapping[str, Any]]) -> tuple[str, ...]:
    """The names of the fields of some objects, each once."""
    return tuple({name: None for row in rows for name in row})


def _without_fields(row: Mapping[str, Any]) -> str:
    """What an object has in place of the fields of a flow record."""
    told = f"it has {', '.join(repr(str(name)[:40]) for name in itertools.islice(row, 5))}" if row else "it is empty"
    inside = path_inside(row)
    if not inside and not any(isinstance(value, dict) for value in row.values()):
        return told
    what = f"records may lie inside, at {inside}" if inside else "its fields may lie inside"
    return f"{told}; {what}: flows --guess proposes a mapping file"


def _lookup(chain: tuple[Mapping[str, Any], ...], name: str) -> Any:
    """A field by its dotted name, of the record or else of the nearest object around it that has it."""
    for each in reversed(chain):
        if name in each:
            return each[name]
        value: Any = each
        for step in name.split("."):
            value = value.get(step) if isinstance(value, dict) else None
        if value is not None:
            return value
    return None


def _reaches(value: Any, path: tuple[str, ...]) -> bool:
    """Whether a path leads somewhere in a value; an empty array on the way is no fault."""
    if not path:
        return True
    name, is_many = path[0].removesuffix("[]"), path[0].endswith("[]")
    if name:
        if not isinstance(value, dict) or name not in value:
            return False
        value = value[name]
    if not is_many:
        return _reaches(value, path[1:])
    return isinstance(value, list) and (not value or any(_reaches(item, path[1:]) for item in value))


def _columns(header: tuple[str, ...], delimiter: str, chosen: Chosen, data: pa.Buffer) -> pa.Table | None:
    """The columns of a text, by types that fit nearly always, else as text; None where a row is out of shape."""
    if data.size == 0:
        return None
    labels = [label(place) for place in range(len(header))]
    wanted = [label(place) for place in chosen.places]
    options = pyarrow.csv.ReadOptions(column_names=labels, use_threads=False, block_size=_BLOCK)
    parsing = pyarrow.csv.ParseOptions(ignore_empty_lines=False, delimiter=delimiter)
    sample = first_cells(delimiter, data.slice(0, min(data.size, 1 << 16)).to_pybytes())
    typed = chosen.typed(_TYPES)
    for place, column in chosen.columns:
        if column.is_plain and column.element in TIMES:
            typed[label(place)] = _time_type(sample[place] if place < len(sample) else "", column.by_size)
    attempts = [typed, dict.fromkeys(wanted, pa.string())]
    numbered = {
        label(place): pa.int32()
        for place, column in chosen.columns
        if column.is_plain and column.element in _OFTEN_NUMBERS and place < len(sample) and sample[place].isdecimal()
    }
    if numbered:
        attempts.insert(0, {**typed, **numbered})
    for types in attempts:
        converting = pyarrow.csv.ConvertOptions(
            column_types=types, include_columns=wanted, strings_can_be_null=True, null_values=[""]
        )
        try:
            return pyarrow.csv.read_csv(data, options, parsing, converting)
        except pa.ArrowInvalid:
            continue
    return None


def _without_blanks(columns: pa.Table, text: Text) -> tuple[pa.Table, list[int] | None]:
    """The rows of a text but for its blank lines, and the line of each where there are such: a row of no value may be
    one."""
    if not all(column.null_count for column in columns.columns):
        return columns, None
    octets = np.frombuffer(text.data, dtype=np.uint8)
    ends = np.flatnonzero(octets == ord("\n"))
    if len(octets) and octets[-1] != ord("\n"):
        ends = np.append(ends, len(octets))
    begins = np.append(0, ends[:-1] + 1)
    is_blank = (ends == begins) | ((ends == begins + 1) & (octets[begins] == ord("\r")))
    if len(ends) != columns.num_rows or not is_blank.any():
        return columns, None
    return columns.filter(pa.array(~is_blank)), (text.line + np.flatnonzero(~is_blank)).tolist()


def _slow_csv(
    header: tuple[str, ...], delimiter: str, data: bytes, rejects: Rejects, line: int
) -> tuple[list[dict[str, str]], list[int]]:
    text = data.decode("utf-8", errors="replace").replace("\0", "\ufffd")
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    kept: list[dict[str, str]] = []
    places: list[int] = []
    ends_whole = text.endswith("\n")
    while True:
        try:
            cells = next(reader, None)
        except csv.Error as error:
            rejects.note("not CSV", str(error), line + reader.line_num - 1)
            continue
        if cells is None:
            return kept, places
        if not cells:
            continue
        if len(cells) != len(header):
            last = not ends_whole and reader.line_num >= text.count("\n") + 1
            kind = "torn last line" if last else "wrong number of cells"
            rejects.note(kind, f"{len(cells)} cells, {len(header)} columns", line + reader.line_num - 1)
            continue
        kept.append({name: cell for name, cell in reversed(list(zip(header, cells, strict=True))) if cell})
        places.append(line + reader.line_num - 1)


def first_cells(delimiter: str, data: bytes) -> list[str]:
    """The cells of the first line of a text; none where that is out of shape."""
    line = data[: max(0, data.find(b"\n")) or len(data)].decode("utf-8", errors="replace")
    try:
        return next(csv.reader([line.rstrip("\r")], delimiter=delimiter), [])
    except csv.Error:
        return []


def _time_type(sample: str, by_size: bool) -> pa.DataType:
    """The type of a time column, by its first value."""
    text = sample.strip()
    if by_size and text.replace(".", "", 1).isdecimal() and "." in text:
        return pa.float64()
    if text.lstrip("-").isdecimal() or not text:
        return pa.int64()
    zoned = text.endswith("Z") or "+" in text[10:] or "-" in text[10:]
    fraction = text.partition(".")[2].rstrip("Z").partition("+")[0].partition("-")[0]
    unit = "ms" if len(fraction) <= 3 else "us"
    return pa.timestamp(unit, "UTC") if zoned else pa.timestamp(unit)
