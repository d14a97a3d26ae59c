"""Rows that cannot be used: counted by kind, with the first place of each, never a reason to lose the rest."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.wording import counted


@dataclass(frozen=True, slots=True)
class Told:
    """How many rows of a file were rejected, or are odd, for one reason, and which is the first."""

    kind: str
    word: str
    count: int
    first: str

    def __str__(self) -> str:
        return f"{counted(self.count, self.word)} {self.kind}; first {self.first}"


@dataclass(slots=True)
class Rejects:
    """What was rejected while reading one file. With `strict`, the first one stops the reading.

    `word` is what a row is called, `headers` how many lines come before the first. Lines before `first_line` or behind
    `last_line` are somebody else's to count.
    """

    file: str
    strict: bool = False
    word: str = "record"
    headers: int = 0
    first_line: int = 0
    last_line: int = 1 << 62
    counts: dict[str, int] = field(default_factory=dict)
    first: dict[str, tuple[int, str]] = field(default_factory=dict)
    remarks: dict[str, tuple[int, int]] = field(default_factory=dict)
    """What is odd about rows that are used all the same, or were left out on purpose: the first line, how many."""
    unread: dict[str, None] = field(default_factory=dict)
    """The columns, or fields, that are not read, each once."""

    def remark(self, kind: str, line: int, count: int = 1) -> None:
        """Tell of something odd that rejects nothing."""
        first, before = self.remarks.get(kind, (line, 0))
        self.remarks[kind] = min(first, line), before + count

    def remark_all(self, kind: str, lines: NDArray[np.int64]) -> None:
        """The same of many rows, by their lines in ascending order."""
        mine = lines[(lines >= self.first_line) & (lines <= self.last_line)]
        if len(mine):
            self.remark(kind, int(mine[0]), len(mine))

    def note(self, kind: str, text: str, line: int) -> None:
        """Count a rejected row; `line` counts from 1."""
        if not self.first_line <= line <= self.last_line:
            return
        if self.strict:
            raise InputError([Problem(Place(self.file, line), f"{self._where(line)}: {text}")])
        self.counts[kind] = self.counts.get(kind, 0) + 1
        self.first.setdefault(kind, (line, text))

    def take(self, other: Rejects, lines_before: int) -> None:
        """Add what a later part of the same file rejected, whose lines count from after `lines_before`."""
        for kind, (line, text) in other.first.items():
            if self.strict:
                self.note(kind, text, line + lines_before)
            self.first.setdefault(kind, (line + lines_before, text))
            self.counts[kind] = self.counts.get(kind, 0) + other.counts[kind]
        for kind, (line, count) in other.remarks.items():
            self.remark(kind, line + lines_before, count)
        self.unread |= other.unread

    @property
    def total(self) -> int:
        """How many rows were rejected."""
        return sum(self.counts.values())

    def told(self) -> list[Told]:
        """What is said of each kind of fault."""
        found = []
        for kind, count in self.counts.items():
            found.append(Told(f"rejected, {kind}", "row", count, self._place(kind)))
        for kind, (line, count) in self.remarks.items():
            found.append(Told(kind, self.word, count, f"{self._where(line)} (line {line})"))
        return found

    def sentences(self) -> list[str]:
        """One sentence for each kind of fault."""
        return [f"{self.file}: {each}" for each in self.told()]

    def _where(self, line: int) -> str:
        return f"{self.word} {line - self.headers:,}"

    def _place(self, kind: str) -> str:
        line, text = self.first[kind]
        return f"{self._where(line)} (line {line}): {text}"


class SharedRejects(Rejects):
    """What was rejected while reading several files one behind another, told of each: `starts` are the lines at which
    they begin, ascending."""

    def __init__(self, files: Sequence[Rejects], starts: Sequence[int]) -> None:
        super().__init__(files[0].file, word=files[0].word)
        self._files, self._starts = files, starts

    def _of(self, line: int) -> tuple[Rejects, int]:
        """The file of a line, and its number there."""
        which = max(0, bisect_right(self._starts, line) - 1)
        return self._files[which], line - self._starts[which] + 1

    def remark(self, kind: str, line: int, count: int = 1) -> None:
        """Tell of something odd that rejects nothing."""
        file, own = self._of(line)
        file.remark(kind, own, count)

    def remark_all(self, kind: str, lines: NDArray[np.int64]) -> None:
        """The same of many rows, by their lines in ascending order."""
        ends = [*np.searchsorted(lines, self._starts[1:]).tolist(), len(lines)]
        begin = 0
        for end in ends:
            if end > begin:
                self.remark(kind, int(lines[begin]), end - begin)
            begin = end

    def note(self, kind: str, text: str, line: int) -> None:
        """Count a rejected row; `line` counts from 1."""
        file, own = self._of(line)
        file.note(kind, text, own)

    def end(self) -> None:
        """Have each of the files know what was found of all of them."""
        for each in self._files:
            each.unread |= self.unread
