"""Which pieces of logs are read together.

Exporters begin a new file every few minutes, and each writes files of its own: records of one conversation lie in
several files (clause E1), and a file that is read and judged by itself costs as much as some thousand records. So small
files are brought together, in the order of their times, up to what a piece of a large one is; and large ones of several
exporters are cut at the same times.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from kiboko.core.records.flow_table import NO_TIME
from kiboko.files.elements.column_map import USUAL, ColumnMap
from kiboko.files.elements.streams import PACKED
from kiboko.files.logs import flow_pieces
from kiboko.files.logs.begun_together import Begun, runs_of, shares_of
from kiboko.files.logs.flow_pieces import Piece, pieces_of
from kiboko.files.logs.record_times import first_time
from kiboko.files.logs.time_slices import APART, TEXTS, Pieces, Weighed, sliced

_SWELL = {**dict.fromkeys(PACKED, 8), "parquet": 8, "arrow": 2, "ipfix": 2}
"""About how many octets of text an octet of each form stands for."""


@dataclass(frozen=True, slots=True)
class Window:
    """Pieces that are read and judged as one table, in which records may meet: one piece of a file, or pieces of
    several files, among them whole ones. `before` and `behind` are those that were cut off from them, and `goes_on`
    tells whether there is more before and behind these. Windows of one `chain` are of the same files, which are read
    apart from all others; -1 where there are no others. Where `begins` tells when the first record of each began, in
    milliseconds since 1970, they are files that can be read from their beginning on alone, and are read side by side.
    """

    pieces: Pieces
    before: Pieces = ()
    behind: Pieces = ()
    goes_on: tuple[bool, bool] = (False, False)
    chain: int = -1
    begins: tuple[int, ...] = ()


def windows_of(paths: Iterable[Path], columns: ColumnMap = USUAL, apart: bool = False) -> list[Window]:
    """How some logs are read: large ones each by itself where nothing rests on which records meet (`apart`). Raises
    InputError where one cannot be read or is no flow log."""
    large: list[Pieces] = []
    small: list[Weighed] = []
    for path in paths:
        pieces = tuple(pieces_of(path, columns))
        weight = octets_of_text(pieces[0]) if len(pieces) == 1 else 0
        if 0 < weight <= _most(0):
            small.append((pieces[0], weight))
        elif pieces:
            large.append(pieces)
    if apart:
        runs = [(piece,) for pieces in large for piece in pieces] + _brought_together(small, columns)
        return [Window(pieces) for pieces in runs]
    large, small, side_by_side = _side_by_side(large, small, columns)
    alone, slices, small = sliced(large, small, columns)
    chains: list[list[Pieces]] = [[(piece,) for piece in pieces] for pieces in alone]
    chains += [runs for runs in (slices, _brought_together(small, columns)) if runs]
    if len(chains) + len(side_by_side) == 1:
        return _chained(chains[0], -1) if chains else side_by_side
    found = [window for number, runs in enumerate(chains) for window in _chained(runs, number)]
    return found + [
        replace(window, chain=number, goes_on=(True, True)) for number, window in enumerate(side_by_side, len(chains))
    ]


def _side_by_side(
    large: Sequence[Pieces], small: Sequence[Weighed], columns: ColumnMap
) -> tuple[list[Pieces], list[Weighed], list[Window]]:
    """Large files and small ones that are read otherwise; and windows of what is compressed, and of large texts beside
    it, where there are several files of which one is large: those that begin at about one time are read side by side.
    """
    timed = [Begun.of(pieces, octets_of_text(pieces[0]), columns, (*PACKED, *TEXTS)) for pieces in large]
    has_packed = any(each is not None and each.is_packed for each in timed)
    if not has_packed or len(large) + len(small) < 2:
        return list(large), list(small), []
    beside = [Begun.of((piece,), weight, columns, PACKED) for piece, weight in small]
    left = [pieces for pieces, each in zip(large, timed, strict=True) if each is None]
    others = [piece for piece, each in zip(small, beside, strict=True) if each is None]
    found = []
    for run in runs_of(sorted((each for each in (*timed, *beside) if each is not None), key=lambda each: each.time)):
        if not any(each.is_packed for each in run):
            left += [each.pieces for each in run]
        elif len(run) == 1:
            found.append(Window(run[0].pieces))
        else:
            found.append(Window(shares_of(run), begins=tuple(each.time for each in run)))
    places = {pieces[0].path: number for number, pieces in enumerate(large)}
    return sorted(left, key=lambda pieces: places[pieces[0].path]), others, found


def _chained(runs: Sequence[Pieces], chain: int) -> list[Window]:
    """Windows of pieces that follow one another. At the ends of a chain another log may go on."""
    found = []
    for at, pieces in enumerate(runs):
        first, last = _reach(runs, range(at - 1, -1, -1)), _reach(runs, range(at + 1, len(runs)))
        before, behind = runs[at - first : at], runs[at + 1 : at + 1 + last]
        goes_on = at - first > 0 or chain >= 0, at + last + 1 < len(runs) or chain >= 0
        found.append(Window(pieces, _as_one(before), _as_one(behind), goes_on, chain))
    return found


def _reach(runs: Sequence[Pieces], outward: Iterable[int]) -> int:
    """How many runs lie within about the size of a piece, of those that lie further and further away."""
    size = count = 0
    for at in outward:
        if size >= flow_pieces.PIECE:
            break
        count += 1
        size += sum(piece.stop - piece.start if piece.stop and piece.form != "parquet" else flow_pieces.PIECE
                    for piece in runs[at])  # fmt: skip
    return count


def _as_one(runs: Sequence[Pieces]) -> Pieces:
    """The pieces of some runs that follow one another, those of a text as one."""
    found: dict[str, Piece] = {}
    for piece in (piece for run in runs for piece in run):
        before = found.get(piece.path)
        found[piece.path] = piece if before is None else replace(before, stop=piece.stop)
    return tuple(found.values())


def _most(left: int) -> int:
    """How much is read together where so much is left to read: less at the end, so that all who read end at about the
    same time."""
    return flow_pieces.PIECE if left > 2 * flow_pieces.PIECE else flow_pieces.PIECE // 4


def octets_of_text(piece: Piece) -> int:
    """About how many octets of text the file of a piece is."""
    try:
        return os.path.getsize(piece.path) * _SWELL.get(piece.form, 1)
    except OSError:
        return 0


def _brought_together(small: Sequence[Weighed], columns: ColumnMap) -> list[Pieces]:
    """Some small files in runs, of which those of one time are in one."""
    left = sum(size for _, size in small)
    ordered = small
    if left > _most(left):
        ordered = [small[at] for at in _by_time([piece for piece, _ in small], columns)]
    found: list[Pieces] = []
    together: list[Piece] = []
    weight, most = 0, _most(left)
    for piece, size in ordered:
        together.append(piece)
        weight += size
        if weight >= most:
            found.append(tuple(together))
            left -= weight
            together, weight, most = [], 0, _most(left)
    return [*found, tuple(together)] if together else found


def _by_time(pieces: Sequence[Piece], columns: ColumnMap) -> list[int]:
    """The order of files by the time of the first record of each; one of which that is not known stays behind the one
    before it."""
    times: list[int] = []
    for piece in pieces:
        time = first_time(piece, piece.columns or columns)
        times.append(time if time is not None else times[-1] if times else int(NO_TIME))
    return sorted(range(len(pieces)), key=times.__getitem__)


Spans = Sequence[tuple[int, int]]


def of_one_time(windows: Sequence[Window], spans: Sequence[Spans]) -> set[int]:
    """Which of some windows have much of their time in common with windows of other chains, by their numbers. `spans`
    are the times from and to which the records of each are."""
    listed = sorted((*span, number) for number, mine in enumerate(spans) for span in mine)
    found: set[int] = set()
    still: list[tuple[int, int, int]] = []
    for first, last, number in listed:
        still = [each for each in still if each[1] >= first]
        for begun, ended, other in still:
            if windows[other].chain != windows[number].chain:
                common = min(last, ended) - first
                if common * APART >= min(last - first, ended - begun):
                    found |= {number, other}
        still.append((first, last, number))
    return found
