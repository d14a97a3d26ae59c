"""Logs of several exporters of the same time, cut at the same times.

Of one conversation each exporter records what comes by it: a request here, its reply there. What was cut apart would
look as if nobody had answered.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import BinaryIO

import numpy as np
from numpy.typing import NDArray

from kiboko.files.elements.column_map import ColumnMap
from kiboko.files.logs import flow_pieces
from kiboko.files.logs.flow_pieces import Piece, line_begin
from kiboko.files.logs.record_times import first_time, line_time

TEXTS = ("csv", "json")
"""The forms of texts of which each line tells when its record began."""
_SHARE, _FINE = 16, 512
"""Into how many parts of the size of a piece a file is looked at, and how finely it is cut."""
_LONGEST_LINE, _TRIED = 1 << 16, 3
_LEAST_CONTEXT, _MOST_PIECES = 1 << 14, 4
"""Octets that are read around each part of a slice at least, and how many times as large as a piece a slice may be."""
APART = 10
"""Files that have less than this part of the time of the shorter one in common follow each other."""
_LATE, _MOST = 0.1, 0.9
"""By which part of a file's time the most of its records, looked at here and there, may come behind newer ones: times
are not quite in order."""
Pieces = tuple[Piece, ...]
Weighed = tuple[Piece, int]


@dataclass(frozen=True, slots=True)
class _TimedFile:
    """A file of about `weight` octets of text of which it is known when the records at some places began: `at` int64[n]
    octets, `times` int64[n] never falling. `last` is when one of its last began. What is no text has one place."""

    whole: Piece
    columns: ColumnMap
    at: NDArray[np.int64]
    times: NDArray[np.int64]
    last: int
    weight: int

    def before(self, moments: NDArray[np.int64]) -> NDArray[np.float64]:
        """About how many octets of it are of records that began before some moments, float64[n]."""
        if not self.is_text:
            return np.where(moments > self.times[0], float(self.weight), 0.0)
        found: NDArray[np.float64] = np.interp(
            moments, np.append(self.times, self.last), np.append(self.at - self.at[0], self.weight)
        )
        return found

    @property
    def is_text(self) -> bool:
        """Whether it can be cut at any line."""
        return self.whole.form in TEXTS


def sliced(
    large: Sequence[Pieces], small: Sequence[Weighed], columns: ColumnMap
) -> tuple[list[Pieces], list[Pieces], list[Weighed]]:
    """Large files that are read by themselves, by their pieces; runs of pieces in the order of their times, of which
    those of files of one time are slices of all of them; and the small files that are in none of these. With small
    files stands about how many octets of text they are."""
    timed: list[_TimedFile] = []
    alone: list[Pieces] = []
    if len(large) + len(small) > 1:
        for pieces in large:
            whole = replace(pieces[0], stop=pieces[-1].stop, is_part=False)
            known = _timed(whole, whole.columns or columns)
            if known is None:
                alone.append(pieces)
            else:
                timed.append(known)
    else:
        alone = list(large)
    if not timed:
        return alone, [], list(small)
    beside, left = _beside(timed, small, columns)
    runs: list[Pieces] = []
    for group in _of_one_time([*timed, *beside]):
        slices = _slices(group) if len(group) > 1 else None
        paths = {each.whole.path for each in group}
        mine = [pieces for pieces in large if pieces[0].path in paths]
        if slices is not None:
            runs += slices
        elif len(mine) == 1:
            runs += [(piece,) for piece in mine[0]]
        else:
            alone += mine
        if slices is None:
            left += [each for each in small if each[0].path in paths]
    places = {piece.path: number for number, (piece, _) in enumerate(small)}
    order = {pieces[0].path: number for number, pieces in enumerate(large)}
    return (sorted(alone, key=lambda pieces: order[pieces[0].path]), runs,
            sorted(left, key=lambda each: places[each[0].path]))  # fmt: skip


def _beside(
    timed: Sequence[_TimedFile], small: Sequence[Weighed], columns: ColumnMap
) -> tuple[list[_TimedFile], list[Weighed]]:
    """Small files that begin while a large one goes on, and the others."""
    found: list[_TimedFile] = []
    left: list[Weighed] = []
    spans = [(int(each.times[0]), each.last) for each in timed]
    for piece, weight in small:
        time = first_time(piece, piece.columns or columns)
        if time is None or not any(first <= time <= last for first, last in spans):
            left.append((piece, weight))
            continue
        known = _timed(piece, piece.columns or columns)
        found.append(known or _TimedFile(piece, columns, np.array([piece.start]), np.array([time]), time, weight))
    return found, left


def _timed(whole: Piece, columns: ColumnMap) -> _TimedFile | None:
    """A text with the times of its records; None where it is none, its records have none, or these are in no order."""
    if whole.form not in TEXTS or not whole.stop:
        return None
    try:
        with open(whole.path, "rb") as stream:
            step = max(1, flow_pieces.PIECE // _SHARE)
            known = [(begin, time) for begin, time in _looked_at(stream, whole, columns, step) if time is not None]
            last = _line_before(stream, whole, columns)
    except OSError:
        return None
    if not known or last is None:
        return None
    at, times = (np.array(column, dtype=np.int64) for column in zip(*known, strict=True))
    rising = np.maximum.accumulate(times)
    if at[0] != whole.start or np.quantile(rising - times, _MOST) > _LATE * (rising[-1] - times.min()):
        return None
    return _TimedFile(whole, columns, at, rising, max(last, int(rising[-1])), whole.stop - whole.start)


def _looked_at(stream: BinaryIO, whole: Piece, columns: ColumnMap, step: int) -> Iterator[tuple[int, int | None]]:
    begin = whole.start
    while begin < (whole.stop or 0):
        yield begin, _time_at(stream, whole, columns, begin)
        begin = line_begin(stream, begin + step, whole.begin)


def _time_at(stream: BinaryIO, whole: Piece, columns: ColumnMap, begin: int) -> int | None:
    """When the record in the line at some place began, or in one of the next few where that one does not tell."""
    stream.seek(begin)
    for _ in range(_TRIED):
        line = stream.readline(_LONGEST_LINE)
        time = line_time(whole, line, columns) if line else None
        if time is not None:
            return time
    return None


def _line_before(stream: BinaryIO, whole: Piece, columns: ColumnMap) -> int | None:
    """When one of the last records of a text began."""
    stop = whole.stop or 0
    begin = line_begin(stream, max(whole.start, stop - _LONGEST_LINE // 4), whole.begin)
    stream.seek(begin)
    lines = stream.read(stop - begin).splitlines()
    return next((time for line in reversed(lines[-_TRIED:]) if (time := line_time(whole, line, columns)) is not None),
                None)  # fmt: skip


def _of_one_time(files: Sequence[_TimedFile]) -> list[list[_TimedFile]]:
    """Files in groups, of which each has much of its time in common with those before it in its group."""
    groups: list[list[_TimedFile]] = []
    begun = ended = 0
    for file in sorted(files, key=lambda each: int(each.times[0])):
        first = int(file.times[0])
        if not groups or min(file.last, ended) - first < min(file.last - first, ended - begun) / APART:
            groups.append([])
            begun, ended = first, file.last
        groups[-1].append(file)
        ended = max(ended, file.last)
    return groups


def _slices(group: Sequence[_TimedFile]) -> list[Pieces] | None:
    """Files of one time in slices, each about as large as a piece of one; None where their times do not tell apart
    enough of their records."""
    bounds = _bounds(group)
    cuts = [_cuts(each, bounds) for each in group]
    sizes = [sum(stop - start for start, stop in each) for each in zip(*cuts, strict=True)]
    if max(sizes) > _MOST_PIECES * flow_pieces.PIECE:
        return None
    context = max(_LEAST_CONTEXT, flow_pieces.CONTEXT // len(group))
    found = []
    for number in range(len(bounds) + 1):
        pieces = [
            each.whole if stop - start >= each.weight
            else replace(each.whole, start=start, stop=stop, is_part=True, context=context)
            for each, (start, stop) in zip(group, (cut[number] for cut in cuts), strict=True) if start < stop
        ]  # fmt: skip
        if pieces:
            found.append(tuple(pieces))
    return found


def _bounds(group: Sequence[_TimedFile]) -> list[int]:
    """The times at which files are cut, so that what lies between is about as large as a piece of one."""
    moments = np.unique(np.concatenate([np.append(each.times, each.last) for each in group]))
    octets = np.sum([each.before(moments) for each in group], axis=0)
    whole = float(octets[-1])
    bounds: list[int] = []
    done = 0.0
    while True:
        done += flow_pieces.PIECE if whole - done > 2 * flow_pieces.PIECE else flow_pieces.PIECE // 4
        if done >= whole:
            return bounds
        bound = int(np.interp(done, octets, moments))
        if not bounds or bound > bounds[-1]:
            bounds.append(bound)


def _cuts(file: _TimedFile, bounds: Sequence[int]) -> list[tuple[int, int]]:
    """From where to where a file is of each slice, of which each ends at one of some times, the last at none."""
    stop = file.whole.start + file.weight
    if not file.is_text:
        mine = int(np.searchsorted(bounds, file.times[0], "right"))
        return [(0, file.weight if number == mine else 0) for number in range(len(bounds) + 1)]
    places = [file.whole.start]
    with open(file.whole.path, "rb") as stream:
        for bound in bounds:
            index = int(np.searchsorted(file.times, bound, "left"))
            low = int(file.at[index - 1]) if index else file.whole.start
            high = int(file.at[index]) if index < len(file.at) else stop
            places.append(max(places[-1], _place(stream, file, bound, low, high) if index else low))
    places.append(stop)
    return list(itertools.pairwise(places))


def _place(stream: BinaryIO, file: _TimedFile, bound: int, low: int, high: int) -> int:
    """About where the records of a file that began at some time are, between two places."""
    fine = max(1, flow_pieces.PIECE // _FINE)
    while high - low > fine:
        middle = line_begin(stream, (low + high) // 2, file.whole.begin)
        if middle >= high:
            break
        time = _time_at(stream, file.whole, file.columns, middle)
        if time is not None and time < bound:
            low = middle
        else:
            high = middle
    return high
