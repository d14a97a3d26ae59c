"""Which column of a log is which information element: by the usual names, or as a mapping file says
(`kiboko.files.elements.mapping_file`)."""

from __future__ import annotations

import functools
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.hints import nearest
from kiboko.files.elements.arrays import filled, values_of
from kiboko.files.elements.fields import GUESS, TIMES, element_of, in_other_units, is_whole_name, require_columns
from kiboko.files.elements.moments import REPEATED, UNREADABLE, by_size, read_moments

JOINED = " + "
"""Between the names of columns whose texts are put together."""
EITHER = " | "
"""Between the names of columns of which the first that has a value counts."""
_NUMBER = r"^[+-]?\d{1,19}(\.\d{0,12})?$"
_MOST_HEADERS, _LONGEST_HEADER = 1 << 8, 1 << 14
_HEXADECIMAL = r"^[0-9A-Fa-f]{1,15}$"
_EPOCH = r"^\d{9,19}(\.\d{1,12})?$"


@dataclass(frozen=True, slots=True)
class Column:
    """What one column holds: an element, its values multiplied by `scale`, translated by `texts` (as written, and what
    it means), or times in the form `form` (that of `strptime`) and the time zone `zone`. Numbers may have a `decimal`
    sign other than a point, and one that parts `thousands`; or they are hexadecimal, without a sign of it. A name with
    ` + ` in it is that of several columns, whose texts are put together, such as those of date and time. Numbers that
    are times of no unit that anybody told are read `by_size`. A name with ` | ` in it is that of several columns, of
    which the first that has a value counts."""

    name: str
    element: str
    scale: float | None = None
    texts: tuple[tuple[str, str], ...] = ()
    form: str | None = None
    zone: str | None = None
    decimal: str | None = None
    thousands: str | None = None
    by_size: bool = False
    is_hexadecimal: bool = False

    @property
    def names(self) -> list[str]:
        """The columns that it is put together of."""
        return self.name.split(EITHER if EITHER in self.name else JOINED)

    @property
    def is_plain(self) -> bool:
        """Whether its values are the element's as they stand."""
        changed = (self.scale, self.form, self.zone, self.decimal, self.thousands)
        return not self.texts and changed == (None,) * 5 and len(self.names) == 1 and not self.is_hexadecimal


@dataclass(frozen=True, slots=True)
class ColumnMap:
    """How records are found in a log. Without `columns`, by the usual names.

    `records` is the path to the records in JSON documents, a name or a name with `[]` at each step; `names` are the
    columns of records without a header, `delimiter` is what parts their cells. Records with one of the values of `skip`
    in a column are none. `constants` are elements that all records have. `none` are words that stand for no value.
    `pattern` finds the fields of a record in a line of free text, by its named groups. Records of one `flowId` are
    parts of one flow where `totals` is not None: true where their counts are those since it began. Logs whose first
    line has one of the texts of `others` in it are read by that map instead; `not_for` are these texts where none was.
    """

    columns: tuple[Column, ...] = ()
    records: tuple[str, ...] = ()
    delimiter: str | None = None
    names: tuple[str, ...] = ()
    skip: tuple[tuple[str, tuple[str, ...]], ...] = ()
    constants: tuple[tuple[str, str], ...] = ()
    none: tuple[str, ...] = ("-",)
    pattern: str | None = None
    totals: bool | None = None
    others: tuple[tuple[str, ColumnMap], ...] = ()
    not_for: tuple[str, ...] = ()

    def of_log(self, first_line: str) -> ColumnMap:
        """The map for a log with such a first line."""
        of_others = next((other for text, other in self.others if text in first_line), None)
        return of_others or replace(self, others=(), not_for=tuple(text for text, _ in self.others))

    def chosen(self, header: tuple[str, ...], file: str | None = None) -> Chosen:
        """What is read of a table with such a header. Raises InputError for `file` where too little is there."""
        elements = [element for element, _ in self.constants]
        if not self.columns:
            found = _usual(header)
            if file is not None:
                texts = ", ".join(f"'{text}'" for text in self.not_for)
                hint = f"no mapping file is for this log: its first line has no {texts} in it" if texts else GUESS
                require_columns([column.element for _, column in found], list(header), file, f"; {hint}")
            return _with_joined(Chosen(found, (), (), self.none), header)
        places = {name: index for index, name in reversed(list(enumerate(header)))}
        if file is not None:
            wanted = [name for column in self.columns for name in column.names] + [name for name, _ in self.skip]
            problems = [
                Problem(Place(file, 1), f"column '{name}' of the mapping file is not in it" + nearest(name, header))
                for name in dict.fromkeys(wanted)
                if name not in places
            ]
            if problems and len(header) == 1 and self.delimiter is not None and not self.names:
                text = f"there is no '{self.delimiter}' in its first line, which parts its columns by the mapping file"
                raise InputError([Problem(Place(file, 1), text)])
            if problems:
                raise InputError(problems)
            require_columns([*elements, *(column.element for column in self.columns)], list(header), file)
        there = [column for column in self.columns if all(name in places for name in column.names)]
        picked = tuple((places[column.names[0]], column) for column in there)
        skipped = tuple((places[name], values) for name, values in self.skip if name in places)
        return _with_joined(Chosen(picked, skipped, self.constants, self.none), header)

    def unread(self, header: tuple[str, ...]) -> dict[str, None]:
        """The columns of a table that are not read, by their names. What a mapping file leaves out it leaves out on
        purpose."""
        if self.columns:
            return {}
        read = set(self.chosen(header).places)
        return {name: None for place, name in enumerate(header) if place not in read and name.strip()}

    @property
    def fields(self) -> tuple[str, ...]:
        """The names of all fields that the map reads, each once: the header of records out of JSON."""
        named = [name for each in self.columns for name in each.names]
        return tuple(dict.fromkeys([*named, *(name for name, _ in self.skip)]))


@dataclass(frozen=True, slots=True)
class Chosen:
    """The columns of a table that are read, by place, and what is made of them."""

    columns: tuple[tuple[int, Column], ...]
    skip: tuple[tuple[int, tuple[str, ...]], ...] = ()
    constants: tuple[tuple[str, str], ...] = ()
    none: tuple[str, ...] = ()
    joined: tuple[tuple[int, tuple[int, ...]], ...] = ()
    """For columns that are put together, by the place of the first, the places of the others."""

    @property
    def is_nothing(self) -> bool:
        """Whether nothing at all is read."""
        return not self.columns and not self.constants

    @property
    def places(self) -> list[int]:
        """The places of all columns that are needed, ascending."""
        others = {place for _, more in self.joined for place in more}
        return sorted({place for place, _ in self.columns} | {place for place, _ in self.skip} | others)

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
        joined = dict(self.joined)
        for place, column in self.columns:
            values = _without(batch.column(label(place)), self.none)
            together = _either if EITHER in column.name else _put_together
            for other in joined.get(place, ()) if len(column.names) > 1 else ():
                values = together(values, _without(batch.column(label(other)), self.none))
            values = values if column.is_plain else _translated(column, values, repeated)
            values = _by_size(values) if column.by_size else values
            known = found.get(column.element)
            found[column.element] = values if known is None else _either(known, values)
        for element, text in self.constants:
            found.setdefault(element, pa.chunked_array([pa.array([text] * batch.num_rows, pa.string())]))
        return pa.table(found), keep, repeated


def _with_joined(chosen: Chosen, header: tuple[str, ...]) -> Chosen:
    """What is chosen, with the places of the other columns of those that are put together."""
    places = {name: index for index, name in reversed(list(enumerate(header)))}
    joined = tuple(
        (place, tuple(places[name] for name in column.names[1:]))
        for place, column in chosen.columns
        if len(column.names) > 1
    )
    return replace(chosen, joined=joined) if joined else chosen


USUAL = ColumnMap()
"""Columns by the names of information elements and by plain headers."""


def label(place: int) -> str:
    """What the column at a place is called while it is read, whatever its header says."""
    return f"c{place}"


def _usual(header: tuple[str, ...]) -> tuple[tuple[int, Column], ...]:
    """Columns by their usual names. Thousands of files have one header: it is looked at once, unless it is so long that
    it is better not kept."""
    is_kept = sum(map(len, header)) <= _LONGEST_HEADER
    return _known_columns(header) if is_kept else _columns_of(header)


@functools.lru_cache(_MOST_HEADERS)
def _known_columns(header: tuple[str, ...]) -> tuple[tuple[int, Column], ...]:
    return _columns_of(header)


def _columns_of(header: tuple[str, ...]) -> tuple[tuple[int, Column], ...]:
    """Columns by their usual names. Of several for one element the first that has a value counts, whole names before
    plain ones and before other units."""
    found: list[tuple[int, int, Column]] = []
    plain = [name.strip().lower() for name in header]
    together = plain.index("date") if {"date", "time"} <= set(plain) else None
    if together is not None:
        name = JOINED.join((header[together], header[plain.index("time")]))
        found.append((0, together, Column(name, "flowStartMilliseconds")))
    for place, name in enumerate(header):
        if together is not None and plain[place] == "time":
            continue
        element, other = element_of(name), in_other_units(name)
        if element is not None:
            by_size = element in TIMES and not is_whole_name(name)
            found.append((int(name != element), place, Column(name, element, by_size=by_size)))
        elif other is not None:
            found.append((2, place, Column(name, other[0], other[1])))
    return tuple((place, column) for _, place, column in sorted(found, key=lambda item: item[:2]))


def _text(column: pa.ChunkedArray) -> pa.ChunkedArray:
    if pa.types.is_string(column.type):
        return column
    try:
        return column.cast(pa.string())
    except pa.ArrowInvalid:  # octets that are no UTF-8
        texts = [None if octets is None else octets.decode("utf-8", "replace") for octets in column.to_pylist()]
        return pa.chunked_array([pa.array(texts, pa.string())])


_SPACES = tuple(bytes([octet]) for octet in b" \t\n\v\f\r\x1c\x1d\x1e\x1f")
_LAST_SPACE, _LAST_ASCII = 0x20, 0x7F

# `pyarrow.compute` takes long to load, and the common columns do without.


def _without(column: pa.ChunkedArray, words: Sequence[str]) -> pa.ChunkedArray:
    """A column without the words that stand for no value. Numbers and times have none."""
    kind = column.type.value_type if pa.types.is_dictionary(column.type) else column.type
    if not words or not (pa.types.is_string(kind) or pa.types.is_binary(kind)):
        return column
    texts = [chunk.dictionary if pa.types.is_dictionary(column.type) else chunk for chunk in column.chunks]
    if not any(_may_have(each, words) for each in texts):
        return column
    import pyarrow.compute as pc

    text = _text(column)
    absent = pc.is_in(pc.utf8_trim_whitespace(text), pa.array(words, pa.string()))
    return pc.if_else(absent, pa.scalar(None, pa.string()), text) if pc.any(absent).as_py() else column


def _may_have(texts: pa.Array, words: Sequence[str]) -> bool:
    """Whether any of some texts may be one of the words, whatever stands around it: one has the length of a word, or
    there are spaces or letters beyond ASCII, among which there may be some."""
    if not (pa.types.is_string(texts.type) or pa.types.is_binary(texts.type)):
        return True
    _, offsets, octets = texts.buffers()
    if not len(texts) or octets is None:
        return False
    places = np.frombuffer(offsets, dtype=np.int32)[texts.offset : texts.offset + len(texts) + 1]
    whole = np.frombuffer(octets, dtype=np.uint8)[places[0] : places[-1]]
    if len(whole) and (whole.min() <= _LAST_SPACE or whole.max() > _LAST_ASCII):
        text = whole.tobytes()
        if not text.isascii() or any(space in text for space in _SPACES):
            return True
    lengths = np.diff(places)
    return any(bool((lengths == size).any()) for size in {len(word.encode()) for word in words})


def _by_size(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Times of which numbers are in milliseconds, whatever unit they were in; texts and times stay as they are."""
    if pa.types.is_timestamp(column.type) or pa.types.is_null(column.type):
        return column
    if pa.types.is_integer(column.type) or pa.types.is_floating(column.type):
        values, absent = filled(column, 0)
        if pa.types.is_floating(column.type):
            is_none = ~np.isfinite(values)
            values, absent = np.where(is_none, 0, values), is_none if absent is None else absent | is_none
        return pa.chunked_array([pa.array(by_size(values), mask=absent)])
    import pyarrow.compute as pc

    text = pc.utf8_trim_whitespace(_text(column))
    fits = pc.match_substring_regex(text, _EPOCH)
    if not pc.any(fits).as_py():
        return column
    numbers = pc.if_else(fits, text, pa.scalar(None, pa.string())).cast(pa.float64())
    values, absent = filled(numbers, 0)
    return pc.coalesce(pa.chunked_array([pa.array(by_size(values), mask=absent)]).cast(pa.string()), text)


def _put_together(one: pa.ChunkedArray, other: pa.ChunkedArray) -> pa.ChunkedArray:
    """Two columns of texts as one, a space between them; where one has no value, none."""
    import pyarrow.compute as pc

    return pc.binary_join_element_wise(_text(one), _text(other), " ")


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
    if column.is_hexadecimal:
        return pc.if_else(
            pc.match_substring_regex(text, _HEXADECIMAL), pc.binary_join_element_wise("0x", text, ""), text
        )
    if column.thousands is not None:
        text = pc.replace_substring(text, column.thousands, "")
    if column.decimal is not None:
        text = pc.replace_substring(text, column.decimal, ".")
    if column.form is not None or column.zone is not None:
        moments, kinds = read_moments(text.to_pylist(), column.form, column.zone)
        repeated |= kinds == REPEATED
        return pc.coalesce(pc.cast(pa.array(moments, mask=kinds == UNREADABLE), pa.string()), text)
    if column.scale is not None or column.decimal is not None:
        fits = pc.match_substring_regex(text, _NUMBER)
        number = pc.if_else(fits, text, pa.scalar(None, pa.string())).cast(pa.float64())
        scaled = pc.round(pc.multiply(number, 1.0 if column.scale is None else column.scale)).cast(
            pa.int64(), safe=False
        )
        return pc.coalesce(scaled.cast(pa.string()), text)
    return text
