"""Reading a mapping file: for other people's logs, which column is which information element.

A mapping file is YAML; `docs/guide.md` describes it. It says where the records lie, which column (or field of a JSON
object) is which element, in which unit, and which values mean passed and denied.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.hints import nearest
from kiboko.files.documents import lined_yaml
from kiboko.files.documents.lined_yaml import Table
from kiboko.files.documents.shapes import held_against, of_another_kind
from kiboko.files.elements.column_map import Column, ColumnMap
from kiboko.files.elements.fields import ELEMENTS, EVENT_NAMES, is_protocol
from kiboko.files.elements.mapping_shapes import ColumnShape, MapShape
from kiboko.files.elements.moments import unknown_directive

_TIMES = {"seconds": 1e3, "milliseconds": 1.0, "microseconds": 1e-3, "nanoseconds": 1e-6}
_SIZES = {"bits": 0.125, "bytes": 1.0, "kilobytes": 1e3, "kibibytes": 1024.0, "megabytes": 1e6, "mebibytes": 1048576.0}
_TIME_ELEMENTS = ("flowStartMilliseconds", "flowEndMilliseconds", "flowDurationMilliseconds")
_EVENT_VALUES = {"passed": "1", "denied": "3", "seen": "0"}


def read_column_maps(paths: Sequence[Path]) -> ColumnMap:
    """Several mapping files: those that name a first line are for logs which begin so, and one at most is for all
    others. Raises InputError with everything that is wrong with them."""
    general: dict[Path, ColumnMap] = {}
    others: list[tuple[str, ColumnMap]] = []
    for path in paths:
        first_line, found = _read(path)
        if first_line is None:
            general[path] = found
        else:
            others.append((first_line, found))
    if len(general) > 1:
        names = " and ".join(map(str, general))
        raise InputError(f"{names} are both for any log: all but one need 'first_line', a text by which to tell theirs")
    return replace(next(iter(general.values()), ColumnMap()), others=tuple(others))


def read_column_map(path: Path) -> ColumnMap:
    """A mapping file. Raises InputError with everything that is wrong with it."""
    return _read(path)[1]


def _read(path: Path) -> tuple[str | None, ColumnMap]:
    """A mapping file, and the text by which the logs are told that it is for."""
    raw, problems = lined_yaml.parse(lined_yaml.read_text(path, str(path)), str(path))
    if not isinstance(raw, Table):
        raise InputError(
            [Problem(Place(str(path), 1), "this is not a mapping file; it starts with 'kiboko: columns/1'")]
        )
    if other := of_another_kind(raw, "columns/1"):
        raise InputError(other)
    shape = held_against(MapShape, raw, problems)
    if shape is None:
        raise InputError(problems)
    return shape.first_line, _Reader(raw, shape, problems).column_map()


@dataclass(slots=True)
class _Reader:
    raw: Table
    shape: MapShape
    problems: list[Problem] = field(default_factory=list)

    def column_map(self) -> ColumnMap:
        shape, raw = self.shape, self.raw
        columns = tuple(self._column(name, value) for name, value in shape.columns.items())
        for name, text in shape.constant.items():
            self._check_constant(name, text, raw["constant"].place(name), columns)
        elements = [each.element for each in columns] + list(shape.constant)
        for wanted in ("sourceIPv4Address", "destinationIPv4Address", "protocolIdentifier"):
            if wanted not in elements and wanted.replace("v4", "v6") not in elements:
                self.problems.append(Problem(raw.place("columns"), f"no column is '{wanted}'; a record needs one"))
        delimiter = {"tab": "\t", "space": " "}.get(shape.delimiter or "", shape.delimiter)
        if delimiter is not None and (len(delimiter) != 1 or delimiter in '"\r\n'):
            self.problems.append(Problem(raw.place("delimiter"), "the delimiter is one character, tab or space"))
        self._check_once(columns)
        if shape.pattern is not None:
            self._check_pattern(shape.pattern, columns)
        if shape.names:
            for name in self._read_names(columns):
                if name not in shape.names:
                    text = f"column '{name}' is none of 'names'" + nearest(name, shape.names)
                    self.problems.append(Problem(raw.place("names"), text))
        if shape.first_line is not None and not shape.first_line.strip():
            self._fault(raw.place("first_line"), "'first_line' is a text that the first line of a log has in it")
        if shape.parts is not None and "flowId" not in elements:
            self._fault(raw.place("parts"), "no column is 'flowId', by which the parts of one flow are told")
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
            ("-",) if shape.none is None else tuple(shape.none),
            shape.pattern,
            None if shape.parts is None else shape.parts == "totals",
        )

    def _read_names(self, columns: tuple[Column, ...]) -> list[str]:
        """The columns that have to be among `names`: all, unless fields around a delimited record may be meant too."""
        named = [name for column in columns for name in column.names]
        return [] if self.shape.records else [*named, *self.shape.skip]

    def _check_once(self, columns: tuple[Column, ...]) -> None:
        """Two columns for one element are a mistake, but for addresses, of which records have either family."""
        seen: dict[str, str] = {}
        for column in columns:
            other = seen.setdefault(column.element, column.name)
            if other != column.name and "Address" not in column.element:
                self._fault(self.raw["columns"].place(column.name),
                            f"'{column.name}' and '{other}' are both {column.element}, of which a record has one;"
                            f" put their texts together as '{other} + {column.name}', take the one that has a value"
                            f" as '{other} | {column.name}', or choose one")  # fmt: skip

    def _check_constant(self, name: str, text: str, place: Place, columns: tuple[Column, ...]) -> None:
        """What all records have, which no column of theirs says as well."""
        self._element(name, place)
        column = next((each.name for each in columns if each.element == name), None)
        if column is not None and "Address" not in name:
            self._fault(place, f"{name} is what column '{column}' says; it cannot be the same for all records as well")
        if not text.strip():
            self._fault(place, f"{name}: there is no value")
        elif name == "firewallEvent" and text.lower() not in EVENT_NAMES:
            self._fault(place, f"'{text}' is no firewallEvent; it is passed, denied or seen")
        elif name == "protocolIdentifier" and not is_protocol(text):
            self._fault(place, f"'{text}' is no protocol; it is a number or a name such as tcp")

    def _check_pattern(self, pattern: str, columns: tuple[Column, ...]) -> None:
        import regex  # loaded where there is one alone

        try:
            groups = regex.compile(pattern).groupindex
        except regex.error as error:
            self._fault(self.raw.place("pattern"), f"the pattern cannot be read: {error}")
            return
        for column in columns:
            for name in column.names:
                if name not in groups:
                    self._fault(self.raw["columns"].place(column.name),
                                f"the pattern has no group '{name}'; write (?P<{name}>...)"
                                + nearest(name, groups))  # fmt: skip

    def _column(self, name: str, given: ColumnShape) -> Column:
        place = self.raw["columns"].place(name)
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
        if element == "protocolIdentifier":
            for meant in given.values.values():
                if not is_protocol(meant):
                    self._fault(place, f"{name}: '{meant}' is no protocol; it is a number or a name such as tcp")
        for what, sign in (("decimal", given.decimal), ("thousands", given.thousands)):
            if sign is not None and (len(sign) != 1 or sign.isalnum()):
                self._fault(place, f"{name}: '{what}' is one character such as a comma, no letter and no digit")
        if given.base is not None and (given.base != "16" or element in _TIME_ELEMENTS or scale or given.decimal):
            self._fault(place, f"{name}: 'base' is 16, of numbers that are neither times nor have a unit")
        return Column(name, element, scale, tuple(texts.items()), given.format, given.zone, given.decimal,
                      given.thousands, is_hexadecimal=given.base is not None)  # fmt: skip

    def _element(self, name: str, place: Place) -> str:
        if name not in ELEMENTS:
            self._fault(place, f"'{name}' is no information element that is read" + nearest(name, ELEMENTS))
        return name

    def _fault(self, place: Place, text: str) -> None:
        self.problems.append(Problem(place, text))
