"""What disagreed, in a store: a file of lines that grows, and goes to the folder of its day when that is over, to be
kept as long as the records of that day."""

from __future__ import annotations

import os
import shutil
from datetime import UTC, date, datetime
from pathlib import Path
from types import TracebackType

from kiboko.core.errors import EnvironmentFailure
from kiboko.files.documents.saving import DISAGREEMENTS, LineAppender


class DayLog:
    """Appends lines to the file of a store that grows; days are those of UTC in which lines are written.

    Raises EnvironmentFailure where it cannot be written.
    """

    def __init__(self, folder: Path, now: datetime) -> None:
        """What an earlier process wrote on another day is put away first."""
        self._folder, self.path = folder, folder / DISAGREEMENTS
        self._day = now.date()
        try:
            written = datetime.fromtimestamp(self.path.stat().st_mtime, UTC).date() if self.path.is_file() else None
        except OSError:
            written = None
        if written is not None and written < self._day:
            self._put_away(written)
        self._lines = LineAppender(self.path)

    def __enter__(self) -> DayLog:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._lines.close()

    def append(self, lines: str, now: datetime) -> None:
        """Append one or more lines."""
        self.end_day(now)
        self._lines.append(lines)

    def end_day(self, now: datetime) -> None:
        """Put away what was written on a day that is over, and begin a new file."""
        if now.date() <= self._day:
            return
        self._lines.close()
        try:
            self._put_away(self._day)
        finally:
            self._day = now.date()
            self._lines = LineAppender(self.path)

    def _put_away(self, day: date) -> None:
        kept = self._folder / f"{day:%Y-%m-%d}" / DISAGREEMENTS
        try:
            if not self.path.stat().st_size:
                return
            kept.parent.mkdir(exist_ok=True)
            if not kept.exists():
                os.replace(self.path, kept)
                return
            with self.path.open("rb") as more, kept.open("ab") as before:
                shutil.copyfileobj(more, before)
                before.flush()
                os.fsync(before.fileno())
            self.path.unlink()
        except OSError as error:
            raise EnvironmentFailure(
                f"{self.path}: cannot be put into the folder of its day: {error.strerror}"
            ) from error
