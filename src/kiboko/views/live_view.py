"""What comes in, as it comes: the latest records in a terminal, which can be paused and filtered.

The view is all that stands still when it is paused: every record goes on to the store.
"""

from __future__ import annotations

import asyncio
import contextlib
import sys
import termios
import tty
from collections import deque
from collections.abc import Callable
from time import monotonic
from types import TracebackType
from typing import Any

from kiboko.core.header.addresses import Address
from kiboko.core.header.services import Service
from kiboko.core.records.flow_table import EVENTS, FlowTable, moment
from kiboko.core.wording import counted
from kiboko.views.collect_view import LiveTally, live_grid
from kiboko.views.output import STYLES
from kiboko.views.text import clean

_KEPT = 2000
_MOST_A_TABLE = 500
_MOST_TOLD = 5
_OUTCOMES = {"passed": "allow", "denied": "drop", "seen": "quiet"}


class LiveView:
    """A view for as long as it is entered. Keys: space pauses, `/` begins a filter that Enter ends, Esc clears it, `q`
    ends the run."""

    def __init__(self, end: Callable[[], None], tally: LiveTally) -> None:
        self._end = end
        self._tally = tally
        self._rows: deque[list[str]] = deque(maxlen=_KEPT)
        self._frozen: list[list[str]] | None = None
        self._missed = 0
        self._told: deque[str] = deque(maxlen=_MOST_TOLD)
        self._filter = ""
        self._is_typing = False
        self._last = (monotonic(), 0)
        self._rate = 0.0
        self._live: Any = None
        self._before: list[Any] | None = None

    def __enter__(self) -> LiveView:
        from rich.console import Console
        from rich.live import Live

        self._live = Live(console=Console(highlight=False), screen=True, auto_refresh=False)
        self._live.__enter__()
        if sys.stdin.isatty():
            self._before = termios.tcgetattr(sys.stdin)
            tty.setcbreak(sys.stdin)
            asyncio.get_running_loop().add_reader(sys.stdin, self._key)
        self.refresh()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._before is not None:
            asyncio.get_running_loop().remove_reader(sys.stdin)
            termios.tcsetattr(sys.stdin, termios.TCSADRAIN, self._before)
        with contextlib.suppress(Exception):
            self._live.__exit__(kind, error, trace)

    def add(self, table: FlowTable, name: Callable[[Address], str]) -> None:
        """Show the latest records of a table."""
        if self._frozen is not None:
            self._missed += len(table)
        for index in range(max(0, len(table) - _MOST_A_TABLE), len(table)):
            self._rows.append(_cells(table, index, name))

    def tell(self, text: str) -> None:
        """Show a leak or break above the records, until others have taken its place."""
        self._told.append(text)
        self.refresh()

    def press(self, key: str) -> None:
        """Take one key."""
        if self._is_typing:
            if key in "\r\n":
                self._is_typing = False
            elif key == "\x1b":
                self._is_typing, self._filter = False, ""
            elif key in "\x7f\b":
                self._filter = self._filter[:-1]
            elif key.isprintable():
                self._filter += key
        elif key == " ":
            self._frozen, self._missed = (list(self._rows) if self._frozen is None else None), 0
        elif key == "/":
            self._is_typing, self._filter = True, ""
        elif key == "\x1b":
            self._filter = ""
        elif key == "q":
            self._end()

    def _key(self) -> None:
        for key in sys.stdin.read(1):
            self.press(key)
        self.refresh()

    def shown(self, height: int) -> list[list[str]]:
        """The records that are shown: the latest that fit the filter, in the order in which they came."""
        rows = self._rows if self._frozen is None else self._frozen
        wanted = self._filter.lower()
        fitting = [cells for cells in rows if not wanted or wanted in " ".join(cells).lower()]
        return fitting[-max(1, height) :]

    def refresh(self) -> None:
        """Draw the view anew."""
        now, before = monotonic(), self._last
        if now - before[0] >= 1:
            self._rate = (self._tally.records - before[1]) / (now - before[0])
            self._last = now, self._tally.records
        self._live.update(self._drawn(self._live.console.width, self._live.console.height), refresh=True)

    def _drawn(self, width: int, height: int) -> Any:
        from rich.text import Text

        tally = self._tally
        lines = [
            f"{counted(tally.records, 'record')}, {self._rate:,.0f} a second; {tally.events['denied']:,} denied;"
            f" {counted(sum(count for _, count, _ in tally.faults), 'fault')};"
            f" {counted(tally.leaks, 'leak')}, {counted(tally.breaks, 'break')}"
        ]
        text = Text(no_wrap=True, overflow="ellipsis")
        text.append(f"{lines[0]}\n", "bold")
        for told in self._told:
            text.append(f"{clean(told)}\n", STYLES["leak" if told.startswith("LEAK") else "break"])
        text.append("\n")
        grid = live_grid(self.shown(height - 5 - len(self._told)))
        widths = grid.widths(width)
        for cells, style in [(list(grid.headings), "dim"), *((row, "") for row in grid.rows)]:
            parts = [
                cell[:size].rjust(size) if heading in grid.numbers else cell[:size].ljust(size)
                for cell, size, heading in zip(cells, widths, grid.headings, strict=True)
            ]
            for index, part in enumerate(parts):
                outcome = _OUTCOMES.get(part.strip(), "") if index == 4 else ""
                text.append(part + ("  " if index + 1 < len(parts) else ""), style or STYLES.get(outcome, ""))
            text.append("\n")
        text.append(f"\n{self._foot()}", "dim")
        return text

    def _foot(self) -> str:
        state = f"paused, {self._missed:,} more since  " if self._frozen is not None else ""
        if self._is_typing:
            return f"{state}filter: {clean(self._filter)}_   Enter keeps it, Esc clears it"
        kept = f"filter: {clean(self._filter)}  " if self._filter else ""
        return f"{state}{kept}space {'goes on' if self._frozen is not None else 'pauses'}   / filters   q ends"


def _cells(table: FlowTable, index: int, name: Callable[[Address], str]) -> list[str]:
    when = moment(int(table.start[index]))
    source, destination = table.addresses[int(table.source[index])], table.addresses[int(table.destination[index])]
    ends = [
        address if (known := name(each)) == (address := str(each)) else f"{known} {address}"
        for each in (source, destination)
    ]
    service = Service(int(table.protocol[index]), int(table.detail[index]))
    return [
        f"{when:%H:%M:%S}" if when is not None else "-", *ends, str(service), EVENTS[table.event[index]],
        f"{int(table.octets[index]):,}",
    ]  # fmt: skip
