"""Small text files of one shape, read as one text: what each costs by itself is paid once for all of them."""

from __future__ import annotations

import io
import json
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from kiboko.core.records.flow_table import FlowTable
from kiboko.files.elements.column_map import USUAL, ColumnMap
from kiboko.files.elements.rejects import Rejects, SharedRejects
from kiboko.files.elements.streams import PACKED, TORN, Unpacked, opened
from kiboko.files.logs import flow_pieces
from kiboko.files.logs.flow_columns import Converter
from kiboko.files.logs.flow_pieces import Opening, Piece, opening_of, whole_form
from kiboko.files.logs.flow_texts import Text, TextReader
from kiboko.files.messages.syslog import names_flow

_FORMS = ("csv", "json")


@dataclass(frozen=True, slots=True)
class WholeText:
    """A text whole, without what stands before its records; each of its lines ends with a line break."""

    form: str
    header: tuple[str, ...]
    delimiter: str
    columns: ColumnMap
    data: bytes
    header_lines: int

    @property
    def shape(self) -> tuple[object, ...]:
        """What is equal where texts can be read as one."""
        return self.form, self.header, self.delimiter, self.columns

    @property
    def lines(self) -> int:
        """How many lines it has."""
        return self.data.count(b"\n")


class WholeTexts:
    """Reads texts of one shape at once. It remembers the addresses that it has parsed."""

    def __init__(self, columns: ColumnMap = USUAL) -> None:
        self._map = columns
        self._readers: dict[ColumnMap, tuple[TextReader, Converter]] = {}

    def of(self, piece: Piece) -> WholeText | None:
        """A file, plain or compressed, that may be read together with others of its shape: a text of cells or of JSON
        objects; None for any other, for one that unpacks to more than a piece, and where it is torn or cannot be read:
        reading it by itself tells why. Raises InputError."""
        columns = piece.columns or self._map
        if piece.form not in (*_FORMS, *PACKED) or columns.totals is not None or columns.pattern is not None:
            return None
        try:
            with opened(piece.path, piece.form if piece.form in PACKED else None) as packed:
                stream = Unpacked(packed)
                data = stream.read(flow_pieces.PIECE + 1)
        except TORN:
            return None
        if len(data) > flow_pieces.PIECE:  # little that is packed may be very much: that is read as it is unpacked
            return None
        opening: Opening | Piece = piece
        if piece.form in PACKED and not stream.fault and data and whole_form(data[:4]) is None:
            opening = opening_of(io.BytesIO(data), piece.path, columns)
        if stream.fault or opening.form not in _FORMS or len(data) == opening.begin:
            return None
        whole = data[opening.begin :]
        if opening.form == "json" and not _begins_with_flow(whole):
            return None
        whole = whole if whole.endswith(b"\n") else whole + b"\n"
        return WholeText(opening.form, opening.header, opening.delimiter, columns, whole, opening.header_lines)

    def at_once(self, texts: Sequence[WholeText], rejects: Sequence[Rejects], first: int) -> FlowTable | None:
        """Some texts of one shape as one table whose lines count from `first`; None where not each of their lines is a
        record of one shape. `rejects` are those of each."""
        shape, lines = texts[0], [text.lines for text in texts]
        if shape.columns not in self._readers:
            self._readers[shape.columns] = TextReader(shape.columns), Converter(shape.columns.totals)
        reader, converter = self._readers[shape.columns]
        shared = SharedRejects(rejects, [first, *(first + np.cumsum(lines[:-1])).tolist()])
        whole = Text(pa.py_buffer(b"".join(text.data for text in texts)), first)
        batch = reader.at_once(shape.form, shape.header, shape.delimiter, whole, shared, sum(lines))
        if batch is None:
            return None
        for each, mine in zip(texts, rejects, strict=True):
            mine.headers = each.header_lines
        table = converter.table(batch.columns, shared, first, batch.places)
        shared.end()
        return table


def _begins_with_flow(data: bytes) -> bool:
    """Whether the first of some JSON objects has the ends of a flow: fields of other files would stand for those that a
    file has not."""
    try:
        first = json.loads(data.split(b"\n", 1)[0])
    except (ValueError, RecursionError):
        return False
    return isinstance(first, dict) and names_flow(first)
