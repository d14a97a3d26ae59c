"""Where views go: a terminal gets colour and tables that fit it, a pipe gets plain text."""

from __future__ import annotations

import contextlib
import os
import shutil
import sys
import textwrap
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, TextIO

from kiboko.views.text import clean

STYLES = {
    "allowed": "bold green", "answered": "green", "allow": "green", "agree": "green",
    "blocked": "bold red", "drop": "red", "reject": "red", "leak": "bold red", "break": "bold magenta",
    "one-way": "bold magenta", "partly": "bold yellow", "unknown": "bold yellow",
    "unsure": "yellow", "not known": "yellow",
    "silent": "red", "refused": "red", "unreachable": "red",
    "section": "bold", "heading": "bold cyan", "quiet": "dim", "mark": "bold",
}  # fmt: skip


@dataclass(slots=True)
class Grid:
    """A table to be shown: headings, rows of text, and a style for each row where it has one.

    On a terminal, columns named in `wide` share the room that the others leave, and are folded there; those in `last`
    are folded where that is not enough. A section is a line of its own across all columns.
    """

    headings: Sequence[str]
    rows: list[Sequence[str] | str] = field(default_factory=list)
    styles: list[str] = field(default_factory=list)
    wide: Sequence[str] = ()
    numbers: Sequence[str] = ()
    last: Sequence[str] = ()

    def add(self, cells: Sequence[str], style: str = "") -> None:
        """Append a row. Text is made safe here, once for all views."""
        self.rows.append([clean(cell) for cell in cells])
        self.styles.append(style)

    def section(self, text: str, style: str = "section") -> None:
        """Append a line across all columns."""
        self.rows.append(clean(text))
        self.styles.append(style)

    def widths(self, room: int | None) -> list[int]:
        """The width of each column in characters, within `room` where there is one."""
        full = [
            max(len(cells[index]) for cells in [self.headings, *self.rows] if not isinstance(cells, str))
            for index in range(len(self.headings))
        ]
        over = sum(full) + 2 * (len(full) - 1) - room if room is not None else 0
        for headings in (self.wide, self.last):
            foldable = [index for index, heading in enumerate(self.headings) if heading in headings]
            while over > 0 and foldable:
                widest = max(foldable, key=full.__getitem__)
                if full[widest] <= _NARROWEST:
                    break
                full[widest] -= 1
                over -= 1
        return full


_NARROWEST = 12


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
            self._stream.write("".join(clean(text) for text, _ in parts).rstrip() + "\n")
            return
        from rich.text import Text

        shown = Text()
        for text, style in parts:
            shown.append(clean(text), STYLES.get(style, style))
        self._console.print(shown)

    def labelled(self, label: str, text: str, style: str = "", is_paste: bool = False) -> None:
        """A label and what it is of, folded on a terminal below itself; a line to be pasted is left whole."""
        room = self.width - len(label)
        lines = [text]
        if self._console is not None and not is_paste and room >= _NARROWEST:
            lines = textwrap.wrap(text, room, break_on_hyphens=False) or [text]
        for place, line in enumerate(lines):
            self.parts((label if not place else " " * len(label), "quiet"), (line, style))

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
        widths = grid.widths(self.width if self._console is not None else None)
        self._row(grid, list(grid.headings), widths, "quiet")
        for cells, style in zip(grid.rows, grid.styles, strict=True):
            if isinstance(cells, str):
                self.line(cells, style)
            else:
                self._row(grid, list(cells), widths, style)

    def _row(self, grid: Grid, cells: list[str], widths: list[int], style: str) -> None:
        """One row, folded to as many lines as its longest cell needs."""
        folded = [
            textwrap.wrap(cell, width, break_on_hyphens=False) or [""] if len(cell) > width else [cell]
            for cell, width in zip(cells, widths, strict=True)
        ]
        for line in range(max(map(len, folded))):
            parts = []
            for index, (texts, width) in enumerate(zip(folded, widths, strict=True)):
                text = texts[line] if line < len(texts) else ""
                shown = text.rjust(width) if grid.headings[index] in grid.numbers else text.ljust(width)
                words = cells[index].split(", ")  # a verdict may be followed by what the sender sees
                own = words[0] if style != "quiet" and all(each in STYLES for each in words) else style
                parts.append((shown + "  " if index < len(widths) - 1 else shown.rstrip(), own))
            self.parts(*parts)

    @property
    def width(self) -> int:
        """The columns of the terminal; 120 where there is none."""
        return shutil.get_terminal_size((120, 40)).columns if self._console is not None else 120


@contextlib.contextmanager
def working(text: str) -> Iterator[None]:
    """Show on standard error that long work goes on, where a terminal is there to see it."""
    if not sys.stderr.isatty() or os.environ.get("TERM") == "dumb":
        yield
        return
    from rich.console import Console

    with Console(stderr=True).status(clean(text)):
        yield
