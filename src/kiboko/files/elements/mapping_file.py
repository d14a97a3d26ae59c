"""Which column of a log is which information element: by the usual names, or by a mapping file for other people's logs.

A mapping file is YAML; `docs/guide.md` describes it. It says where the records lie, which column (or field of a JSON
object) is which element, in which unit, and which values mean passed and denied.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.hints import nearest
from kiboko.files.documents import lined_yaml
from kiboko.files.documents.lined_yaml import Table
from kiboko.files.documents.shapes import held_against
from kiboko.files.elements.arrays import values_of
from kiboko.files.elements.fields import ELEMENTS, EVENT_NAMES, element_of, in_other_units, require_columns
from kiboko.files.elements.moments import REPEATED, UNREADABLE, read_moments, unknown_directive

if TYPE_CHECKING:
    from kiboko.files.elements.mapping_shapes import ColumnShape, MapShape

_NUMBER = r"^[+-]?\d{1,19}(\.\d{0,12})?$"
_TIMES = {"seconds": 1e3, "milliseconds": 1.0, "microseconds": 1e-3, "nanoseconds": 1e-6}
_SIZES = {"bits": 0.125, "bytes": 1.0, "kilobytes": 1e3, "kibibytes": 1024.0, "megabytes": 1e6, "mebibytes": 1048576.0}
_TIME_ELEMENTS = ("flowStartMilliseconds", "flowEndMilliseconds", "flowDurationMilliseconds")
_EVENT_VALUES = {"passed": "1", "denied": "3", "seen": "0"}


@dataclass(frozen=True, slots=True)
class Column:
    """What one column holds: an element, its values multiplied by `scale`, translated by `texts` (as written, and what
    it means), or times in the form `form` (that of `strptime`) and the time zone `zone`."""

    name: str
    element: str
    scale: float | None = None
    texts: tuple[tuple[str, str], ...] = ()
    form: str | None = None
    zone: str | None = None

    @property
    def is_plain(self) -> bool:
        """Whether its values are the element's as they stand."""
        return self.scale is None and not self.texts and self.form is None and self.zone is None


@dataclass(frozen=True, slots=True)
class ColumnMap:
    """How records are found in a log. Without `columns`, by the usual names.

    `records` is the path to the records in JSON documents, a name or a name with `[]` at each step; `names` are the
    columns of records without a header, `delimiter` is what parts their cells. Records with one of the values of `skip`
    in a column are none. `constants` are elements that all records have.
    """

    columns: tuple[Column, ...] = ()
    records: tuple[str, ...] = ()
    delimiter: str | None = None
    names: tuple[str, ...] = ()
    skip: tuple[tuple[str, tuple[str, ...]], ...] = ()
    constants: tuple[tuple[str, str], ...] = ()

    def chosen(self, header: tuple[str, ...], file: str | None = None) -> Chosen:
        """What is read of a table with such a header. Raises InputError for `file` where too little is there."""
        elements = [element for element, _ in self.constants]
        if not self.columns:
            found = _usual(header)
            if file is not None:
                require_columns([column.element for _, column in found], list(header), file)
            return Chosen(tuple(found), (), ())
        places = {name: index for index, name in reversed(list(enumerate(header)))}
        if file is not None:
            wanted = [column.name for column in self.columns] + [name for name, _ in self.skip]
            problems = [
                Problem(Place(file, 1), f"column '{name}' of the mapping file is not in it" + nearest(name, header))
                for name in dict.fromkeys(wanted)
                if name not in places
            ]
            if problems:
                raise InputError(problems)
            require_columns([*elements, *(column.element for column in self.columns)], list(header), file)
        picked = tuple((places[column.name], column) for column in self.columns if column.name in places)
        skipped = tuple((places[name], values) for name, values in self.skip if name in places)
        return Chosen(picked, skipped, self.constants)

    @property
    def fields(self) -> tuple[str, ...]:
        """The names of all fields that the map reads, each once: the header of records out of JSON."""
        return tuple(dict.fromkeys([*(each.name for each in self.columns), *(name for name, _ in self.skip)]))


@dataclass(frozen=True, slots=True)
class Chosen:
    """The columns of a table that are read, by place, and what is made of them."""

    columns: tuple[tuple[int, Column], ...]
    skip: tuple[tuple[int, tuple[str, ...]], ...] = ()
    constants: tuple[tuple[str, str], ...] = ()

    @property
    def places(self) -> list[int]:
        """The places of all columns that are needed, ascending."""
        return sorted({place for place, _ in self.columns} | {place for place, _ in self.skip})

    def typed(self, types: dict[str, pa.DataType]) -> dict[str, pa.DataType]:
        """The types to read columns as, by the label of each: those of their elements, text where values change."""
        found = {label(place): pa.string() for place in self.places}
        found |= {label(place): types[c.element] for place, c in self.columns if c.is_plain and c.element in types}
        return found

    def applied(self, batch: pa.Table) -> tuple[pa.Table, NDArray[np.bool_] | None, NDArray[np.bool_]]:
        """A batch whose columns bear the labels of their places as one whose columns are elements; which of its rows
        are records, where some are none; and which of the records have a time of an hour that a clock shows twice."""
        keep = None
        for place, values in self.skip:
            out = ~_is_among(batch.column(label(place)), values)
            keep = out if keep is None else keep & out
        if keep is not None:
            batch = batch.filter(pa.array(keep))
        found: dict[str, pa.ChunkedArray] = {}
        repeated = np.zeros(batch.num_rows, dtype=np.bool_)
        for place, column in self.columns:
            values = batch.column(label(place))
            values = values if column.is_plain else _translated(column, values, repeated)
            known = found.get(column.element)
            found[column.element] = values if known is None else _either(known, values)
        for element, text in self.constants:
            found.setdefault(element, pa.chunked_array([pa.array([text] * batch.num_rows, pa.string())]))
        return pa.table(found), keep, repeated


USUAL = ColumnMap()
"""Columns by the names of information elements and by plain headers."""


def label(place: int) -> str:
    """What the column at a place is called while it is read, whatever its header says."""
    return f"c{place}"


def _usual(header: tuple[str, ...]) -> list[tuple[int, Column]]:
    """Columns by their usual names. Of several for one element the first that has a value counts, whole names before
    plain ones and before other units."""
    found: list[tuple[int, int, Column]] = []
    for place, name in enumerate(header):
        element, other = element_of(name), in_other_units(name)
        if element is not None:
            found.append((int(name != element), place, Column(name, element)))
        elif other is not None:
            found.append((2, place, Column(name, other[0], other[1])))
    return [(place, column) for _, place, column in sorted(found, key=lambda item: item[:2])]


def _text(column: pa.ChunkedArray) -> pa.ChunkedArray:
    if pa.types.is_string(column.type):
        return column
    try:
        return column.cast(pa.string())
    except pa.ArrowInvalid:  # octets that are no UTF-8
        texts = [None if octets is None else octets.decode("utf-8", "replace") for octets in column.to_pylist()]
        return pa.chunked_array([pa.array(texts, pa.string())])


# `pyarrow.compute` takes long to load, and the common columns do without.


def _is_among(column: pa.ChunkedArray, values: Sequence[str]) -> NDArray[np.bool_]:
    import pyarrow.compute as pc

    matches = pc.is_in(pc.utf8_trim_whitespace(_text(column)), pa.array(values, pa.string()))
    return values_of(pc.fill_null(matches, False))


def _either(one: pa.ChunkedArray, other: pa.ChunkedArray) -> pa.ChunkedArray:
    import pyarrow.compute as pc

    return pc.coalesce(_text(one), _text(other))


def _translated(column: Column, values: pa.ChunkedArray, repeated: NDArray[np.bool_]) -> pa.ChunkedArray:
    """Values as their element wants them; one that does not fit stays as it is, to be rejected with its place. Rows
    with a time of an hour that a clock shows twice are marked in `repeated`, bool[n]."""
    import pyarrow.compute as pc

    text = pc.utf8_trim_whitespace(_text(values))
    if column.texts:
        written, meant = zip(*column.texts)
        at = pc.index_in(text, pa.array(written, pa.string()))
        text = pc.coalesce(pc.take(pa.array(meant, pa.string()), at), text)
    if column.form is not None or column.zone is not None:
        moments, kinds = read_moments(text.to_pylist(), column.form, column.zone)
        repeated |= kinds == REPEATED
        return pc.coalesce(pc.cast(pa.array(moments, mask=kinds == UNREADABLE), pa.string()), text)
    if column.scale is not None:
        fits = pc.match_substring_regex(text, _NUMBER)
        number = pc.if_else(fits, text, pa.scalar(None, pa.string())).cast(pa.float64())
        scaled = pc.round(pc.multiply(number, column.scale)).cast(pa.int64(), safe=False)
        return pc.coalesce(scaled.cast(pa.string()), text)
    return text


# The mapping file.


def read_column_map(path: Path) -> ColumnMap:
    """A mapping file. Raises InputError with everything that is wrong with it."""
    raw, problems = lined_yaml.parse(lined_yaml.read_text(path, str(path)), str(path))
    if not isinstance(raw, Table):
        raise InputError(
            [Problem(Place(str(path), 1), "this is not a mapping file; it starts with 'kiboko: columns/1'")]
        )
    from kiboko.files.elements.mapping_shapes import MapShape  # only such logs pay for them

    shape = held_against(MapShape, raw, problems)
    if shape is None:
        raise InputError(problems)
    return _Reader(raw, shape, problems).column_map()


@dataclass(slots=True)
class _Reader:
    raw: Table
    shape: MapShape
    problems: list[Problem] = field(default_factory=list)

    def column_map(self) -> ColumnMap:
        shape, raw = self.shape, self.raw
        columns = tuple(self._column(name, value) for name, value in shape.columns.items())
        for name in shape.constant:
            self._element(name, raw["constant"].place(name))
        elements = [each.element for each in columns] + list(shape.constant)
        for wanted in ("sourceIPv4Address", "destinationIPv4Address", "protocolIdentifier"):
            if wanted not in elements and wanted.replace("v4", "v6") not in elements:
                self.problems.append(Problem(raw.place("columns"), f"no column is '{wanted}'; a record needs one"))
        delimiter = {"tab": "\t", "space": " "}.get(shape.delimiter or "", shape.delimiter)
        if delimiter is not None and (len(delimiter) != 1 or delimiter in '"\r\n'):
            self.problems.append(Problem(raw.place("delimiter"), "the delimiter is one character, tab or space"))
        if shape.names:
            for name in self._read_names():
                if name not in shape.names:
                    text = f"column '{name}' is none of 'names'" + nearest(name, shape.names)
                    self.problems.append(Problem(raw.place("names"), text))
        for column, values in shape.skip.items():
            if not values:
                self._fault(raw["skip"].place(column), f"skip, {column}: name the values of rows that are no records")
        if self.problems:
            raise InputError(self.problems)
        return ColumnMap(
            columns,
            tuple(shape.records.split(".")) if shape.records else (),
            delimiter,
            tuple(shape.names),
            tuple((name, tuple(values)) for name, values in shape.skip.items()),
            tuple(shape.constant.items()),
        )

    def _read_names(self) -> list[str]:
        """The columns that have to be among `names`: all, unless fields around a delimited record may be meant too."""
        return [] if self.shape.records else [*self.shape.columns, *self.shape.skip]

    def _column(self, name: str, value: ColumnShape | str) -> Column:
        place = self.raw["columns"].place(name)
        given = type(self.shape).of_element(value) if isinstance(value, str) else value
        element = self._element(given.element, place)
        is_time = element in _TIME_ELEMENTS
        scale = None
        if given.unit is not None:
            units = _TIMES if is_time else _SIZES if element == "octetDeltaCount" else {}
            if given.unit not in units:
                known = ", ".join(units) or "none"
                self._fault(place, f"{name}: '{given.unit}' is no unit of {element}; units are {known}")
            scale = units.get(given.unit)
        if (given.format or given.zone) and not is_time:
            self._fault(place, f"{name}: 'format' and 'zone' are for times, not for {element}")
        if (given.format or given.zone) and given.unit:
            self._fault(place, f"{name}: a time has a unit or a form, not both")
        if given.format is not None and (odd := unknown_directive(given.format)) is not None:
            self._fault(place, f"{name}: '{odd}' cannot be read back from a time; '%Y-%m-%d %H:%M:%S' is such a format")
        if given.zone is not None:
            try:
                ZoneInfo(given.zone)
            except (ZoneInfoNotFoundError, ValueError, OSError):
                self._fault(place, f"{name}: '{given.zone}' is no time zone")
        texts = dict(given.values)
        for word, code in _EVENT_VALUES.items():
            for text in getattr(given, word):
                if element != "firewallEvent":
                    self._fault(place, f"{name}: '{word}' is for firewallEvent, not for {element}")
                if text in texts:
                    self._fault(place, f"{name}: '{text}' is given two meanings")
                texts[text] = code
        if element == "firewallEvent":
            for text, meant in given.values.items():
                if meant.lower() not in EVENT_NAMES:
                    self._fault(place, f"{name}: '{meant}' is no firewallEvent; use passed, denied or seen: [{text}]")
        return Column(name, element, scale, tuple(texts.items()), given.format, given.zone)

    def _element(self, name: str, place: Place) -> str:
        if name not in ELEMENTS:
            self._fault(place, f"'{name}' is no information element that is read" + nearest(name, ELEMENTS))
        return name

    def _fault(self, place: Place, text: str) -> None:
        self.problems.append(Problem(place, text))
