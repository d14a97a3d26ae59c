"""Where records stand in their files, also where those of several files were read at once."""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class LinePlaces:
    """The files that some lines are of, which were read one behind another: those from `starts[i]` on are of `files[i]`
    (None for a stream that has no name), and `shifts[i]` further down there.

    >>> LinePlaces((1, 101), ("a.csv", "b.csv"), (1, -99)).of(101)
    ('b.csv', 2)
    """

    starts: tuple[int, ...] = (1,)
    files: tuple[str | None, ...] = (None,)
    shifts: tuple[int, ...] = (0,)

    def of(self, line: int) -> tuple[str | None, int]:
        """The file of a line, and its number there, from 1."""
        which = max(0, bisect_right(self.starts, line) - 1)
        return self.files[which], line + self.shifts[which]
