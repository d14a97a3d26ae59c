"""A sheet: facts and tables about one thing, to be shown as text or as JSON."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from kiboko.views.output import Grid, Output


@dataclass(slots=True)
class Table:
    """A titled table. A row whose style is `quiet` is of less weight; `empty` is said where there is no row."""

    title: str
    headings: list[str]
    rows: list[list[str] | str] = field(default_factory=list)
    styles: list[str] = field(default_factory=list)
    wide: tuple[str, ...] = ()
    empty: str = ""

    def add(self, cells: list[str], style: str = "") -> None:
        """Append a row."""
        self.rows.append(cells)
        self.styles.append(style)

    def section(self, text: str) -> None:
        """Append a line across all columns: what follows belongs to it."""
        self.rows.append(text)
        self.styles.append("section")


@dataclass(slots=True)
class Sheet:
    """Everything `show` says of one thing."""

    kind: str
    name: str
    facts: list[tuple[str, str]] = field(default_factory=list)
    tables: list[Table] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    def fact(self, label: str, text: str | None) -> None:
        """Add a fact, where there is one."""
        if text:
            self.facts.append((label, text))

    def table(self, title: str, headings: list[str], wide: tuple[str, ...] = (), empty: str = "") -> Table:
        """Begin a table."""
        made = Table(title, headings, wide=wide, empty=empty)
        self.tables.append(made)
        return made


def show_sheet(sheet: Sheet, out: Output) -> None:
    """The sheet as text."""
    out.parts((f"{sheet.kind} ", "quiet"), (sheet.name, "mark"))
    width = max((len(label) for label, _ in sheet.facts), default=0)
    for label, text in sheet.facts:
        out.parts((f"  {label.ljust(width)}  ", "quiet"), (text, ""))
    for table in sheet.tables:
        if not table.rows and not table.empty:
            continue
        out.heading(table.title)
        if not table.rows:
            out.line(f"  {table.empty}")
            continue
        grid = Grid(table.headings, wide=table.wide)
        for cells, style in zip(table.rows, table.styles, strict=True):
            if isinstance(cells, str):
                grid.section(cells)
            else:
                grid.add(cells, style)
        out.grid(grid)
    if sheet.notes:
        out.heading("Bear in mind")
        out.bullets(sheet.notes)


def sheet_json(sheet: Sheet) -> dict[str, Any]:
    """The sheet as `show/1`: every table's rows, each with the title of its table."""
    return {
        "kiboko": "show/1",
        "summary": {"kind": sheet.kind, "name": sheet.name, **dict(sheet.facts)},
        "rows": [row for table in sheet.tables for row in _rows_json(table)],
        "caveats": sheet.notes,
    }


def _rows_json(table: Table) -> Iterator[dict[str, str]]:
    section = None
    for cells in table.rows:
        if isinstance(cells, str):
            section = cells
            continue
        where = {"table": table.title} if section is None else {"table": table.title, "section": section}
        yield {**where, **dict(zip(table.headings, cells, strict=True))}
