"""Where views go: a terminal gets colour and tables that fit it, a pipe gets plain text."""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, TextIO

from kiboko.views.text import clean

STYLES = {
    "allowed": "bold green", "answered": "green", "allow": "green", "agree": "green",
    "blocked": "bold red", "drop": "red", "reject": "red", "leak": "bold red", "break": "bold magenta",
    "one-way": "bold magenta", "partly": "bold yellow", "unsure": "yellow", "not known": "yellow",
    "silent": "red", "refused": "red", "unreachable": "red",
    "heading": "bold cyan", "quiet": "dim", "mark": "bold",
}  # fmt: skip


@dataclass(slots=True)
class Grid:
    """A table to be shown: headings, rows of text, and a style for each row where it has one.

    A column named in `wide` takes what room is left and is folded there; the others keep their width.
    """

    headings: Sequence[str]
    rows: list[Sequence[str]] = field(default_factory=list)
    styles: list[str] = field(default_factory=list)
    wide: Sequence[str] = ()
    numbers: Sequence[str] = ()

    def add(self, cells: Sequence[str], style: str = "") -> None:
        """Append a row. Text is made safe here, once for all views."""
        self.rows.append([clean(cell) for cell in cells])
        self.styles.append(style)


class Output:
    """One command's output stream."""

    def __init__(self, stream: TextIO | None = None) -> None:
        self._stream = stream or sys.stdout
        self._console: Any = None
        if self._stream.isatty() and os.environ.get("TERM") != "dumb":
            from rich.console import Console

            self._console = Console(file=self._stream, highlight=False, soft_wrap=False)

    def line(self, text: str = "", style: str = "") -> None:
        """One line of text, coloured as a whole."""
        self.parts((text, style))

    def parts(self, *parts: tuple[str, str]) -> None:
        """One line made of pieces, each with its style."""
        if self._console is None:
            self._stream.write("".join(clean(text) for text, _ in parts) + "\n")
            return
        from rich.text import Text

        shown = Text()
        for text, style in parts:
            shown.append(clean(text), STYLES.get(style, style))
        self._console.print(shown)

    def heading(self, text: str) -> None:
        """A heading with a blank line before it."""
        self.line()
        self.line(text, "heading")

    def bullets(self, texts: Sequence[str], mark: str = "-", style: str = "") -> None:
        """A list, one entry a line."""
        for text in texts:
            self.parts((f"  {mark} ", "quiet"), (text, style))

    def grid(self, grid: Grid) -> None:
        """A table."""
        if self._console is None:
            self._plain_grid(grid)
            return
        from rich import box
        from rich.table import Table
        from rich.text import Text

        table = Table(box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, 1), header_style="dim", show_edge=False)
        for heading in grid.headings:
            fold = heading in grid.wide
            table.add_column(
                heading,
                overflow="fold",
                no_wrap=not fold,
                ratio=1 if fold else None,
                justify="right" if heading in grid.numbers else "left",
            )
        for cells, style in zip(grid.rows, grid.styles, strict=True):
            row = [Text(cell, STYLES.get(cell, STYLES.get(style, style))) for cell in cells]
            table.add_row(*row)
        self._console.print(table)

    def _plain_grid(self, grid: Grid) -> None:
        widths = [
            max(len(cells[index]) for cells in [grid.headings, *grid.rows]) for index in range(len(grid.headings))
        ]
        for cells in [grid.headings, *grid.rows]:
            padded = [
                cell.rjust(width) if heading in grid.numbers else cell.ljust(width)
                for cell, width, heading in zip(cells, widths, grid.headings, strict=True)
            ]
            self._stream.write("  ".join(padded).rstrip() + "\n")

    @property
    def width(self) -> int:
        """The columns of the terminal; 120 where there is none."""
        return shutil.get_terminal_size((120, 40)).columns if self._console is not None else 120
