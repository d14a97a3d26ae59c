"""A sheet: facts and tables about one thing, to be shown as text or as JSON."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from kiboko.core.errors import Place
from kiboko.views.output import Grid, Output

Cell = str | int | None | Place | list[str] | dict[str, Any]
"""What stands in a cell or a fact: its value for JSON, of which the text is made; None where there is none."""


@dataclass(slots=True)
class Line:
    """A line of a table. A line whose style is `quiet` is of less weight. `values` are what JSON has in place of the
    cells, or beside them; without cells it is a line across all columns, and its values hold for those that follow.
    Without any text or cells that are shown, `is_left_out`, a line is in JSON alone."""

    cells: list[Cell] | None
    style: str = ""
    text: str = ""
    values: dict[str, Any] = field(default_factory=dict)
    is_left_out: bool = False


@dataclass(slots=True)
class SheetTable:
    """A titled table; `empty` is said where there is no line."""

    title: str
    headings: list[str]
    lines: list[Line] = field(default_factory=list)
    wide: tuple[str, ...] = ()
    empty: str = ""

    def add(self, cells: list[Cell], style: str = "", *, is_left_out: bool = False, **values: Any) -> None:
        """Append a line; `values` stand in JSON instead of the cells under those headings."""
        self.lines.append(Line(cells, style, values=values, is_left_out=is_left_out))

    def section(self, text: str, **values: Any) -> None:
        """Append a line across all columns: what follows belongs to it."""
        self.lines.append(Line(None, "section", text, values))

    def remark(self, text: str) -> None:
        """Append a line of less weight across all columns, which is not in JSON."""
        self.lines.append(Line(None, "quiet", text))


@dataclass(frozen=True, slots=True)
class Fact:
    """One thing said in a line: its value for JSON, and how it reads, empty where it is not shown."""

    label: str
    value: Cell
    text: str


@dataclass(slots=True)
class Sheet:
    """Everything `show` says of one thing."""

    kind: str
    name: str
    facts: list[Fact] = field(default_factory=list)
    tables: list[SheetTable] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    def fact(self, label: str, value: Cell, text: str = "") -> None:
        """Add a fact, where there is one; `text` is how it reads, where that is more than its value."""
        if value or text:
            self.facts.append(Fact(label, value, text or cell_text(value)))

    def value(self, label: str, value: Cell) -> None:
        """Add a fact that is in JSON only, since the text of another tells it."""
        self.facts.append(Fact(label, value, ""))

    def first(self, label: str, value: str) -> None:
        """Add a fact before all others."""
        self.facts.insert(0, Fact(label, value, value))

    def table(self, title: str, headings: list[str], wide: tuple[str, ...] = (), empty: str = "") -> SheetTable:
        """Begin a table."""
        made = SheetTable(title, headings, wide=wide, empty=empty)
        self.tables.append(made)
        return made


def cell_text(cell: Cell) -> str:
    """A cell as it reads."""
    if isinstance(cell, list):
        return ", ".join(cell) or "-"
    return "-" if cell is None or cell == "" else str(cell)


def show_sheet(sheet: Sheet, out: Output) -> None:
    """The sheet as text."""
    out.parts((f"{sheet.kind} ", "quiet"), (sheet.name, "mark"))
    shown = [fact for fact in sheet.facts if fact.text]
    width = max((len(fact.label) for fact in shown), default=0)
    for fact in shown:
        out.parts((f"  {fact.label.ljust(width)}  ", "quiet"), (fact.text, ""))
    for table in sheet.tables:
        if not table.lines and not table.empty:
            continue
        out.heading(table.title)
        if not table.lines:
            out.line(f"  {table.empty}")
            continue
        grid = Grid(table.headings, wide=table.wide)
        for line in table.lines:
            if line.cells is None:
                grid.section(line.text, line.style)
            elif not line.is_left_out:
                grid.add([cell_text(cell) for cell in line.cells], line.style)
        out.grid(grid)
    if sheet.notes:
        out.heading("Bear in mind")
        out.bullets(sheet.notes)


def sheet_json(sheet: Sheet) -> dict[str, Any]:
    """The sheet as `show/1`: every table's lines, each with the title of its table, by values."""
    facts: dict[str, Any] = {}
    for fact in sheet.facts:
        _put(facts, fact.label, fact.value)
    return {
        "kiboko": "show/1",
        "summary": {"kind": sheet.kind, "name": sheet.name, **facts},
        "rows": [row for table in sheet.tables for row in _rows_json(table)],
        "caveats": sheet.notes,
    }


def _rows_json(table: SheetTable) -> Iterator[dict[str, Any]]:
    section: dict[str, Any] = {}
    for line in table.lines:
        if line.cells is None:
            section = line.values if line.style == "section" else section
            continue
        row: dict[str, Any] = {"table": table.title, **section}
        for heading, cell in zip(table.headings, line.cells, strict=True):
            if heading not in line.values:
                _put(row, heading, cell)
        yield {**row, **line.values}


def _put(into: dict[str, Any], label: str, value: Cell) -> None:
    """A value under its label; a place as `file` and `line`, as everywhere."""
    if isinstance(value, Place):
        into["file"], into["line"] = value.file, value.line
    else:
        into[label.replace(" ", "_")] = value
