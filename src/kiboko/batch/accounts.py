"""What is counted of each file while its pieces are read: lines, records, and what was rejected."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

from kiboko.core.errors import InputError
from kiboko.files.elements.rejects import Rejects
from kiboko.files.logs.flow_pieces import Piece, there_now


class PieceRead(Protocol):
    """What came of a piece, whatever was asked of it."""

    @property
    def rejects(self) -> Rejects:
        """What was rejected."""

    @property
    def lines(self) -> int:
        """How many lines it took, good or bad."""

    @property
    def read(self) -> int:
        """How many records could be read."""


@dataclass(slots=True)
class Accounts:
    """The accounts of some files, whose pieces come in their order."""

    paths: list[Path]
    strict: bool = False
    _rejects: dict[str, Rejects] = field(default_factory=dict)
    _lines: dict[str, int] = field(default_factory=dict)
    _read: dict[str, int] = field(default_factory=dict)

    def take(self, piece: Piece, outcome: PieceRead) -> int:
        """Note what came of a piece: how many lines of its file come before it. Raises InputError when strict."""
        headers = piece.header_lines or outcome.rejects.headers
        rejects = self._rejects.setdefault(piece.path, Rejects(piece.path, self.strict, piece.word, headers))
        before = self._lines.setdefault(piece.path, headers)
        rejects.take(outcome.rejects, before)
        self._lines[piece.path] = before + outcome.lines
        self._read[piece.path] = self._read.get(piece.path, 0) + outcome.read
        return before

    @property
    def rejected(self) -> int:
        """How many rows could not be used."""
        return sum(rejects.total for rejects in self._rejects.values())

    def sentences(self) -> list[str]:
        """What was rejected. Raises InputError for a file of which not one record could be read, and where there is
        none in any file: that they say nothing must not look like nothing being wrong."""
        unread = [
            f"{path}: no record could be read; {'; '.join(rejects.sentences())}"
            for path, rejects in self._rejects.items()
            if rejects.total and not self._read[path]
        ]
        if not unread and not any(self._read.values()):
            # A file of a store that was removed meanwhile says nothing either way.
            unread = [f"{path}: there is no record in it" for path in self.paths if there_now(path) is not None]
        if unread:
            raise InputError("\n".join(unread))
        return [sentence for rejects in self._rejects.values() for sentence in rejects.sentences()]
