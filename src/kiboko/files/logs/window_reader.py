"""Windows of flow logs as tables, and the account of each of their files."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from kiboko.core.records.flow_table import FlowTable, joined
from kiboko.files.elements.column_map import USUAL, ColumnMap
from kiboko.files.elements.rejects import Rejects
from kiboko.files.logs.flow_pieces import Piece, PiecePart
from kiboko.files.logs.flow_reader import PieceReader
from kiboko.files.logs.whole_texts import WholeText, WholeTexts
from kiboko.files.logs.windows import Window


@dataclass(slots=True)
class FileRead:
    """What was read of one piece of a window: what was rejected, how many lines it took, good or bad, and how many
    records there are. `start` is the line of the window at which it begins."""

    rejects: Rejects
    lines: int = 0
    read: int = 0
    start: int = 1


class WindowReader:
    """Reads windows. One reader serves one worker and remembers the addresses that it has parsed."""

    def __init__(self, columns: ColumnMap = USUAL) -> None:
        self._pieces, self._texts = PieceReader(columns), WholeTexts(columns)

    def read(self, window: Window, files: list[FileRead]) -> Iterator[PiecePart]:
        """The tables of a window: of one piece one after another, of several files one. `files` is given the account of
        each piece, in their order. Raises InputError."""
        mine = [FileRead(Rejects(piece.path, word=piece.word)) for piece in window.pieces]
        files += mine
        if len(mine) > 1:
            yield self._together(window.pieces, mine)
            return
        for part in self._pieces.read(window.pieces[0], mine[0].rejects):
            mine[0].lines += part.lines
            mine[0].read += int(part.own.sum())
            yield part

    def _together(self, pieces: Sequence[Piece], files: Sequence[FileRead]) -> PiecePart:
        """Several files whole, as one table whose lines are those of one behind another's."""
        alike: dict[tuple[object, ...], list[tuple[int, WholeText]]] = {}
        alone = []
        for number, piece in enumerate(pieces):
            text = self._texts.of(piece)
            if text is not None:
                alike.setdefault(text.shape, []).append((number, text))
            else:
                alone.append(number)
        tables = [FlowTable.empty()]
        line = 1
        for members in alike.values():
            numbers, texts = [number for number, _ in members], [text for _, text in members]
            rejects = [files[number].rejects for number in numbers]
            table = self._texts.at_once(texts, rejects, line) if len(texts) > 1 else None
            if table is None:
                alone += numbers
                continue
            for number, text in members:
                files[number].start, files[number].lines = line, text.lines
                line += text.lines
            starts = np.array([files[number].start for number in numbers])
            of = np.array(numbers)[np.searchsorted(starts, table.line, "right") - 1]
            for number, count in enumerate(np.bincount(of, minlength=len(files)).tolist()):
                files[number].read += count
            tables.append(dataclasses.replace(table, file=of.astype(np.int32)))
        for number in sorted(alone):
            file, last = files[number], 0
            file.start = line
            for part in self._pieces.read(pieces[number], file.rejects):
                table = part.table.taken(part.own)
                file.lines, file.read = file.lines + part.lines, file.read + len(table)
                tables.append(dataclasses.replace(
                    table, line=table.line + line - 1, file=np.full(len(table), number, dtype=np.int32)
                ))  # fmt: skip
                last = part.first + part.lines - 1
            line += last
        return PiecePart(joined(tables), 1, line - 1)
