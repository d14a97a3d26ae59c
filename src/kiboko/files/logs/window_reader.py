"""Windows of flow logs as tables, and the account of each of their files."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from kiboko.core.errors import InputError
from kiboko.core.records.columns import distinct
from kiboko.core.records.extent import MARGIN, WHOLE, Extent, span_of
from kiboko.core.records.flow_table import NO_TIME, FlowTable, joined
from kiboko.files.elements.column_map import USUAL, ColumnMap
from kiboko.files.elements.rejects import Rejects
from kiboko.files.logs import flow_pieces
from kiboko.files.logs.flow_pieces import OWN, Piece, PiecePart, cut_to, outward
from kiboko.files.logs.flow_reader import PieceReader
from kiboko.files.logs.merged_streams import Stream, merged
from kiboko.files.logs.record_times import first_time
from kiboko.files.logs.surroundings import Clock, Side, Surroundings, extent_by, extent_by_files, file_number, files_of
from kiboko.files.logs.whole_texts import WholeText, WholeTexts
from kiboko.files.logs.windows import Window

_NEAR, _LEAST_NEAR = 8, 1 << 16
"""What is read first of what lies beyond: a part of the size of a piece, and octets of each file at least."""
_LINES = 40
"""Of files that are read side by side each counts its lines from a multiple of this power of two on."""
_ROWS_AT_ONCE = 250_000
_FEW = 8
"""Of so many files it is looked at when the first record of each began."""
Part = tuple[FlowTable, NDArray[np.bool_]]
"""A table, and which of its records are its own."""


_LOOKED_AT = 2000
"""As many records show over what time a table goes."""
_MOST_OUTER, _MOST_APART, _OUTER_SHARE = 5000, 2 * MARGIN, 8
"""So many records at an end may lack others of their conversations, at most, or those of so many milliseconds; and
which part of all there are."""


@dataclass(slots=True)
class FileRead:
    """What was read of one piece of a window: what was rejected, how many lines it took, good or bad, and how many
    records there are. `start` is the line of the window at which it begins."""

    rejects: Rejects
    lines: int = 0
    read: int = 0
    start: int = 1


@dataclass(frozen=True, slots=True)
class WindowPart:
    """Records of a window that are judged as one table. `own` bool[n] are those of its own; the others are there for
    their requests and replies, as are those of its surroundings."""

    table: FlowTable
    own: NDArray[np.bool_]
    around: Surroundings
    since: int | None = None
    """When the log begins of which this is a part, in milliseconds since 1970; None where that is not known, or is when
    the table does."""
    cut: tuple[bool, bool] = (False, False)
    """Whether others were cut off before and behind it."""
    share: float = 1.0
    """Of as much as is read of those at most, on either side, how large a part it is itself."""

    @property
    def is_dense(self) -> bool:
        """Whether records are so many that what is read on either side would hardly tell of any silence: one is told of
        where some time behind it is at hand."""
        if not any(self.cut):
            return False
        span = span_of(self.table.start[:: max(1, len(self.table) // _LOOKED_AT)])
        return span is not None and span[1] - span[0] < 2 * MARGIN * self.share

    @property
    def outer(self) -> NDArray[np.bool_] | None:
        """Which records, bool[n], may have been cut off from others of their conversations: those around its own, and
        some at an end behind which there are more, or of the first and last time of each of several files; None for
        none."""
        table, found = self.table, ~self.own
        if table.file is not None:
            times, files = table.last(), distinct(table.file)
            first, last = files.least(times, NO_TIME), files.most(times)
            edge = np.where(first == NO_TIME, 0, np.minimum(_MOST_APART, (last - first) // _OUTER_SHARE))
            found |= (times <= (first + edge)[files.codes]) | (times >= (last - edge)[files.codes])
        else:
            count = min(_MOST_OUTER, len(table) // _OUTER_SHARE)
            found[: count * self.cut[0]] = found[len(table) - count * self.cut[1] :] = True
        return found if found.any() else None

    @property
    def spans(self) -> list[tuple[int, int]]:
        """The times in which flows of its own ended, but for a few of each file."""
        known = sorted(
            span for each in files_of(self.table.taken(self.own)) if (span := span_of(each.last())) is not None
        )
        found: list[tuple[int, int]] = []
        for first, last in known:
            if found and first <= found[-1][1]:
                found[-1] = found[-1][0], max(found[-1][1], last)
            else:
                found.append((first, last))
        return found


def _cut(window: Window) -> tuple[bool, bool]:
    """Whether others were cut off before and behind a window."""
    return bool(window.before) or window.goes_on[0], bool(window.behind) or window.goes_on[1]


def _share(window: Window) -> float:
    """How large a window is, of a piece of a text; 1 where that cannot be told."""
    sizes = [piece.stop - piece.start if piece.stop and piece.form != "parquet" else None for piece in window.pieces]
    return min(1.0, sum(filter(None, sizes)) / flow_pieces.PIECE) if None not in sizes else 1.0


class WindowReader:
    """Reads windows. One reader serves one worker and remembers the addresses that it has parsed."""

    def __init__(self, columns: ColumnMap = USUAL) -> None:
        self._pieces, self._texts, self._columns = PieceReader(columns), WholeTexts(columns), columns
        self._begun: dict[str, int | None] = {}

    def read(self, window: Window, files: list[FileRead]) -> Iterator[WindowPart]:
        """The tables of a window: of one piece one after another, of several pieces one. `files` is given the account
        of each piece, in their order. Raises InputError."""
        mine = [FileRead(Rejects(piece.path, word=piece.word)) for piece in window.pieces]
        files += mine
        if window.begins:
            yield from self._merged(window, mine)
            return
        if len(mine) > 1:
            table, own = self._together(window.pieces, mine)
            around = Surroundings(table, partial(self._sides, window, (table, own), None, None))
            yield WindowPart(table, own, around, self._since(window, table), _cut(window), _share(window))
            return
        parts = ((part.table, part.own) for part in self._counted(window.pieces[0], mine[0]))
        yield from self._one_by_one(window, parts)

    def _one_by_one(self, window: Window, parts: Iterator[Part]) -> Iterator[WindowPart]:
        """Tables of a window, each with which records are its own, between those before and behind it."""
        part, before = next(parts, None), None
        since = self._since(window, part[0]) if part is not None else None
        while part is not None:
            (table, own), following = part, next(parts, None)
            if since is None and following is not None:
                timed = table.start[table.start != NO_TIME]
                since = int(timed.min()) if len(timed) else None
            looked = partial(self._sides, window, part, before, following)
            cut = _cut(window)
            cut = cut[0] or before is not None, cut[1] or following is not None
            yield WindowPart(table, own, Surroundings(table, looked), since, cut, _share(window))
            before, part = part, following

    def _since(self, window: Window, table: FlowTable) -> int | None:
        """When the first record began of what a window is a part of; None where it is of whole files, and nothing lies
        before it, or where nobody asks for that, since its table has no biflows."""
        is_whole = not window.before and all(piece.start <= piece.begin for piece in window.pieces)
        if is_whole or table.direction is None:
            return None
        known = []
        for piece in (*window.before[:_FEW], *window.pieces[:_FEW]):  # in the order of their times
            if piece.path not in self._begun:
                self._begun[piece.path] = first_time(piece, piece.columns or self._columns)
            known.append(self._begun[piece.path])
        return min((time for time in known if time is not None), default=None)

    def _merged(self, window: Window, files: Sequence[FileRead]) -> Iterator[WindowPart]:
        """Files that are read side by side."""

        def tables(number: int, piece: Piece, file: FileRead) -> Iterator[FlowTable]:
            file.start = 1 + (number << _LINES)
            for each in cut_to(piece, piece.at_once or flow_pieces.PIECE):
                before = file.lines
                mine = dataclasses.replace(file, rejects=Rejects(piece.path, word=piece.word))
                for part in self._counted(each, mine):
                    file.lines, file.read = mine.lines, mine.read
                    table = part.table.taken(part.own)
                    yield dataclasses.replace(table, line=table.line + file.start - 1 + before,
                                              file=np.full(len(table), number, dtype=np.int32))  # fmt: skip
                file.lines, file.read = mine.lines, mine.read
                file.rejects.headers = file.rejects.headers or mine.rejects.headers
                file.rejects.take(mine.rejects, before)

        streams = [
            Stream(begins, tables(number, piece, file))
            for number, (begins, piece, file) in enumerate(zip(window.begins, window.pieces, files, strict=True))
        ]
        whole = merged(streams, _ROWS_AT_ONCE)
        yield from self._one_by_one(window, ((table, np.ones(len(table), dtype=np.bool_)) for table in whole))

    def _counted(self, piece: Piece, file: FileRead) -> Iterator[PiecePart]:
        for part in self._pieces.read(piece, file.rejects):
            file.lines += part.lines
            file.read += int(part.own.sum())
            yield part

    # What lies around.

    def _sides(self, window: Window, part: Part, before: Part | None, behind: Part | None, clock: Clock) -> list[Side]:
        """The sides of a table on which others lie: such as are held meanwhile, or pieces that were cut off."""
        found = []
        for at_end, held, beyond in ((0, before, window.before), (1, behind, window.behind)):
            if held is not None:
                own = held[0].taken(held[1])
                further = iter([(own, extent_by(files_of(own), bool(at_end), clock))])
                found.append(Side(bool(at_end), extent_by(files_of(part[0]), bool(at_end), clock), further))
            elif beyond or window.goes_on[at_end]:
                found.append(self._side(window, part, beyond, at_end, clock))
        return found

    def _side(self, window: Window, part: Part, beyond: Sequence[Piece], at_end: int, clock: Clock) -> Side:
        numbers = {piece.path: number for number, piece in enumerate(window.pieces)}
        cut: list[FlowTable] = []
        whole: list[FlowTable] = []
        # Of a file that has nothing in the window nothing around it is at hand.
        has_all = all(piece.path in numbers for piece in beyond)
        for each in files_of(part[0] if has_all else part[0].taken(part[1])):
            is_cut = not beyond or len(window.pieces) == 1 or window.pieces[file_number(each)].is_part
            (cut if is_cut else whole).append(each)
        extent = extent_by(cut, bool(at_end), clock)
        if whole:  # beside these others may lie that go on for as long
            extent = extent.within(extent_by_files(whole, bool(at_end), clock))
        return Side(bool(at_end), extent, self._further(numbers, beyond, bool(at_end), window.goes_on[at_end], clock))

    def _further(
        self, numbers: dict[str, int], beyond: Sequence[Piece], at_end: bool, goes_on: bool, clock: Clock
    ) -> Iterator[tuple[FlowTable, Extent]]:
        """What lies beyond an end of a window, that which is nearest first."""
        if not beyond:
            return
        near = max(_LEAST_NEAR, flow_pieces.PIECE // _NEAR // len(beyond))
        parted = [outward(piece, near, not at_end) for piece in beyond]
        for number in range(max(map(len, parted))):
            pieces = [each[number] for each in parted if len(each) > number]
            try:
                table = self._read_beyond(pieces, numbers)
            except InputError:  # whoever reads it for itself tells what is wrong with it
                return
            is_last = all(len(each) <= number + 1 for each in parted)
            yield table, WHOLE if is_last and not goes_on else extent_by(files_of(table), at_end, clock)

    def _read_beyond(self, pieces: Sequence[Piece], numbers: dict[str, int]) -> FlowTable:
        """Some pieces as one table, whose files have some numbers where they have one."""
        table, own = self._together(pieces, [FileRead(Rejects(piece.path)) for piece in pieces])
        table = table.taken(own)
        known = [numbers.get(piece.path, len(numbers) + number) for number, piece in enumerate(pieces)]
        return dataclasses.replace(table, file=np.array(known, dtype=np.int32)[table.optional("file")])

    # Several pieces.

    def _together(self, pieces: Sequence[Piece], files: Sequence[FileRead]) -> tuple[FlowTable, NDArray[np.bool_]]:
        """Several pieces as one table, whose lines are those of one behind another's, and which of its records are
        theirs, bool[n]; the others lie around them."""
        alike: dict[tuple[object, ...], list[tuple[int, WholeText]]] = {}
        alone = []
        for number, piece in enumerate(pieces):
            text = self._texts.of(piece) if not piece.is_part else None
            if text is not None:
                alike.setdefault(text.shape, []).append((number, text))
            else:
                alone.append(number)
        tables, places = [FlowTable.empty()], [np.zeros(0, dtype=np.uint8)]
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
            places.append(np.full(len(table), OWN))
        for number in sorted(alone):
            file, last = files[number], 0
            file.start = line
            for part in self._pieces.read(pieces[number], file.rejects):
                table = part.table
                places.append(part.places)
                file.lines, file.read = file.lines + part.lines, file.read + int(part.own.sum())
                tables.append(dataclasses.replace(
                    table, line=table.line + line - 1, file=np.full(len(table), number, dtype=np.int32)
                ))  # fmt: skip
                last = part.first + part.lines - 1
            line += last
        whole, place = joined(tables), np.concatenate(places)
        is_own = place == OWN
        if is_own.all():
            return whole, is_own
        # What lies before stands first, of whatever file: a conversation belongs to whoever has its first record.
        order = np.argsort(place, kind="stable")
        return whole.taken(order), is_own[order]
