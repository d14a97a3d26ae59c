"""The files of a network as texts that are edited: YAML parts, and the table of instances."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from kiboko.core.errors import InputError
from kiboko.files.documents import lined_yaml
from kiboko.files.documents.edited_yaml import EditedYaml, Node, NotEditable
from kiboko.files.documents.edited_yaml import Path as Keys

SECTIONS = ("filters", "groups", "services", "instances", "subnets", "route_tables", "outside", "zones")


class InstanceTable:
    """`instances.csv`: a row is written anew where a cell of it changes, all others stay as they are."""

    def __init__(self, text: str) -> None:
        self.text = text
        self._delimiter = ","

    def _rows(self) -> Iterator[tuple[int, int, list[str]]]:
        """Each row with where it begins and ends. A cell that holds a line break is not edited around."""
        at = 0
        for line in self.text.splitlines(keepends=True):
            cells = next(csv.reader([line], delimiter=self._delimiter), [])
            yield at, at + len(line), cells
            at += len(line)

    @property
    def header(self) -> list[str]:
        """The columns."""
        return [cell.strip() for _, _, row in self._rows() for cell in row][: self._width()]

    def _width(self) -> int:
        return len(next((row for _, _, row in self._rows()), []))

    def names(self) -> list[str]:
        """The instances that it has a row of."""
        column = self.header.index("name")
        rows = (row for _, _, row in list(self._rows())[1:] if any(cell.strip() for cell in row))
        return list(dict.fromkeys(row[column].strip() for row in rows))

    def cells(self, name: str) -> list[dict[str, str]]:
        """The rows of an instance, one for each interface."""
        header = self.header
        found = (
            dict(zip(header, (cell.strip() for cell in row), strict=False)) for _, _, row in list(self._rows())[1:]
        )
        return [row for row in found if row.get("name") == name]

    def set_cell(self, name: str, column: str, value: str, interface: int | None = None) -> None:
        """Write a cell of all rows of an instance, or of that of one interface. Raises NotEditable."""
        header = self.header
        if column not in header:
            raise NotEditable(f"the table of instances has no column '{column}'")
        if '"' in self.text and any('"' in line and line.count('"') % 2 for line in self.text.splitlines()):
            raise NotEditable("the table of instances has cells of several lines")
        made, number = [], -1
        for index, (begin, end, row) in enumerate(self._rows()):
            line = self.text[begin:end]
            if index and len(row) == len(header) and row[header.index("name")].strip() == name:
                number += 1
                if interface in (None, number):
                    row[header.index(column)] = value
                    line = _row_text(row, line)
            made.append(line)
        self.text = "".join(made)


def _row_text(row: Sequence[str], before: str) -> str:
    stream = io.StringIO()
    csv.writer(stream, lineterminator="").writerow(row)
    return stream.getvalue() + before[len(before.rstrip("\r\n")) :]


@dataclass(slots=True)
class Sheet:
    """One file of a network: where it lies, what it is called in messages, its text when it was read, and as it is
    edited."""

    path: Path
    shown: str
    before: str
    body: EditedYaml | InstanceTable

    @property
    def is_changed(self) -> bool:
        """Whether anything was edited."""
        return self.body.text != self.before


class Sheets:
    """All files of a network."""

    def __init__(self, sheets: Sequence[Sheet]) -> None:
        self.all = list(sheets)

    @classmethod
    def read(cls, path: str) -> Sheets:
        """Those of a network file or folder, which has been read before and is sound. Raises InputError."""
        top = Path(path)
        if not top.is_dir():
            return cls([_sheet(top, path)])
        files = [each for each in sorted(top.iterdir()) if each.is_file()]
        chosen = [each for each in files if each.suffix == ".yaml" or each.name == "instances.csv"]
        if not chosen:
            raise InputError(f"{path}: a network folder holds at least one *.yaml file, and there is none here")
        return cls([_sheet(each, f"{path.rstrip('/')}/{each.name}") for each in chosen])

    @property
    def parts(self) -> list[tuple[Sheet, EditedYaml]]:
        """The YAML files."""
        return [(each, each.body) for each in self.all if isinstance(each.body, EditedYaml)]

    @property
    def table(self) -> InstanceTable | None:
        """The table of instances, where there is one."""
        return next((each.body for each in self.all if isinstance(each.body, InstanceTable)), None)

    def texts(self) -> Mapping[str, str]:
        """The files that are edited, by what they are called."""
        return {each.shown: each.body.text for each in self.all if each.is_changed}

    def holding(self, section: str, name: str) -> tuple[EditedYaml, Keys] | None:
        """The file that has a name in a section, and the keys that lead to it."""
        for _, body in self.parts:
            node = body.find((section,))
            if node is not None and node.kind == "map" and node.place_of(name) is not None:
                return body, (section, name)
        return None

    def names(self, section: str) -> list[str]:
        """All names of a section."""
        found = [key for body, node in self._sections(section) if node.kind == "map" for key, _, _ in node.keys]
        if section == "instances" and self.table is not None:
            found += self.table.names()
        return found

    def lists(self, section: str) -> list[tuple[EditedYaml, Node]]:
        """The lists that a section is, one for each file that has it."""
        return [(body, node) for body, node in self._sections(section) if node.kind == "list"]

    def _sections(self, section: str) -> list[tuple[EditedYaml, Node]]:
        found = ((body, body.find((section,))) for _, body in self.parts)
        return [(body, node) for body, node in found if node is not None]

    def place_for(self, section: str) -> EditedYaml:
        """The file that something new of a section goes into: one that has it, else the first."""
        return next((body for body, _ in self._sections(section)), self.parts[0][1])


def _sheet(path: Path, shown: str) -> Sheet:
    # As it is, with its mark of the byte order and its line breaks: what is not edited stays so.
    text = lined_yaml.read_text(path, shown)
    raw = path.read_bytes().decode("utf-8")
    body: EditedYaml | InstanceTable = InstanceTable(raw) if path.suffix == ".csv" else EditedYaml(raw)
    assert raw.removeprefix("\ufeff") == text
    return Sheet(path, shown, raw, body)
