"""Files that begin at about one time, so that exporters may have written them together, in runs that are read by one
process each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from kiboko.files.elements.column_map import ColumnMap
from kiboko.files.elements.streams import PACKED
from kiboko.files.logs import flow_pieces
from kiboko.files.logs.flow_pieces import Piece
from kiboko.files.logs.record_times import first_time
from kiboko.files.logs.time_slices import Pieces

_SIDE_BY_SIDE, _RUNS = 8, 4
"""How many pieces of text are in files that are read side by side, about; and into how many runs they are parted at
least, so that several processes have something to read."""
_SHARES, _LEAST_AT_ONCE = 16, 1 << 16
"""Into how many shares a piece is parted for files that are read side by side, at most; and octets of each that are
read at once, at least."""
_BEGUN_TOGETHER = 60_000
"""Milliseconds between whose beginnings files may be of exporters that begin new ones together."""


@dataclass(frozen=True, slots=True)
class Begun:
    """A file by its pieces, about how many octets of text it is, and when its first record began."""

    pieces: Pieces
    weight: int
    time: int

    @classmethod
    def of(cls, pieces: Pieces, weight: int, columns: ColumnMap, forms: Sequence[str]) -> Begun | None:
        """A file of some forms; None where its first record does not tell when it began."""
        first = pieces[0]
        time = first_time(first, first.columns or columns) if first.form in forms else None
        return cls(pieces, weight, time) if time is not None else None

    @property
    def is_packed(self) -> bool:
        """Whether it is compressed."""
        return self.pieces[0].form in PACKED

    @property
    def whole(self) -> Piece:
        """The file as one piece."""
        return replace(self.pieces[0], stop=self.pieces[-1].stop)


def runs_of(files: Sequence[Begun]) -> list[list[Begun]]:
    """Files in the order of their times in runs that are read side by side."""
    usual = max(_BEGUN_TOGETHER, (files[-1].time - files[0].time) // len(files))
    most = min(_SIDE_BY_SIDE * flow_pieces.PIECE, sum(each.weight for each in files) // _RUNS)
    runs: list[list[Begun]] = [[]]
    weight, latest = 0, files[0].time
    for each in files:
        # Exporters begin new files at about one time: what is read apart is best begun then.
        if weight >= max(flow_pieces.PIECE, most) and each.time - latest >= usual:
            runs.append([])
            weight = 0
        runs[-1].append(each)
        weight, latest = weight + each.weight, each.time
    return runs


def shares_of(run: Sequence[Begun]) -> Pieces:
    """The files of a run as pieces of which little is read at once, so that all of them are at hand."""
    at_once = max(_LEAST_AT_ONCE, flow_pieces.PIECE // min(len(run), _SHARES))
    return tuple(replace(each.whole, context=0, at_once=at_once) for each in run)
