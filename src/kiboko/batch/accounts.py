"""What is counted of each file while its pieces are read: lines, records, and what was rejected."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

from kiboko.core.errors import InputError
from kiboko.core.records.line_places import LinePlaces
from kiboko.core.wording import counted
from kiboko.files.elements.fields import BAD, GUESS, nearest_name
from kiboko.files.elements.rejects import Rejects, Told
from kiboko.files.logs.flow_pieces import there_now
from kiboko.files.logs.window_reader import FileRead
from kiboko.files.logs.windows import Window

_MOST_NAMES, _FEW_FILES = 8, 3
_UNREAD, _EMPTY = "no record could be read", "there is no record in it"


class WindowRead(Protocol):
    """What came of a window, whatever was asked of it."""

    @property
    def files(self) -> list[FileRead]:
        """What was read of each of its pieces, in their order."""


@dataclass(slots=True)
class Accounts:
    """The accounts of some files, whose pieces come in their order."""

    paths: list[Path]
    strict: bool = False
    _rejects: dict[str, Rejects] = field(default_factory=dict)
    _lines: dict[str, int] = field(default_factory=dict)
    _read: dict[str, int] = field(default_factory=dict)

    def take(self, window: Window, outcome: WindowRead) -> LinePlaces:
        """Note what came of a window: where its lines stand in their files. Raises InputError when strict."""
        starts, shifts = [], []
        for piece, file in zip(window.pieces, outcome.files, strict=True):
            headers = piece.header_lines or file.rejects.headers
            rejects = self._rejects.setdefault(piece.path, Rejects(piece.path, self.strict, piece.word, headers))
            before = self._lines.setdefault(piece.path, headers)
            rejects.take(file.rejects, before)
            self._lines[piece.path] = before + file.lines
            self._read[piece.path] = self._read.get(piece.path, 0) + file.read
            starts.append(file.start)
            shifts.append(before - file.start + 1)
        order = sorted(range(len(starts)), key=starts.__getitem__)
        return LinePlaces(
            tuple(starts[at] for at in order), tuple(window.pieces[at].path for at in order),
            tuple(shifts[at] for at in order),
        )  # fmt: skip

    @property
    def rejected(self) -> int:
        """How many rows could not be used."""
        return sum(rejects.total for rejects in self._rejects.values())

    def sentences(self) -> list[str]:
        """What was rejected. Raises InputError for a file of which not one record could be read, and where there is
        none in any file: that they say nothing must not look like nothing being wrong."""
        place = {str(path): number for number, path in enumerate(self.paths)}
        known = dict(sorted(self._rejects.items(), key=lambda each: place.get(each[0], len(place))))
        unread, what = [path for path, each in known.items() if each.total and not self._read[path]], _UNREAD
        problems = [f"{path}: {what}; {'; '.join(map(str, known[path].told()))}" for path in unread[:_FEW_FILES]]
        if problems and any(kind.startswith(BAD) for kind in known[unread[0]].counts):
            problems[0] += f"; {GUESS}"
        if not unread and not any(self._read.values()):
            # A file of a store that was removed meanwhile says nothing either way.
            unread, what = [str(path) for path in self.paths if there_now(path) is not None], _EMPTY
            problems = [f"{path}: {what}" for path in unread[:_FEW_FILES]]
        if len(unread) > len(problems):
            problems.append(f"of {counted(len(unread) - len(problems), 'more file')} the same holds: {what}")
        if problems:
            raise InputError("\n".join(problems))
        return _by_kind(known) + self._unread()

    def _unread(self) -> list[str]:
        """Which columns are not read, of files of the same columns at once: one may be mistyped."""
        alike: dict[tuple[str, ...], list[str]] = {}
        for path, rejects in self._rejects.items():
            if rejects.unread:
                alike.setdefault(tuple(rejects.unread), []).append(path)
        found = []
        for names, paths in alike.items():
            more = f" and {len(paths) - 1:,} more files" if len(paths) > 2 else f" and {paths[1]}" if paths[1:] else ""
            told = ", ".join(name + nearest_name(name) for name in names[:_MOST_NAMES])
            rest = f" and {len(names) - _MOST_NAMES:,} more" if len(names) > _MOST_NAMES else ""
            what = "1 column is" if len(names) == 1 else f"{len(names):,} columns are"
            found.append(f"{paths[0]}{more}: {what} not read: {told}{rest}")
        return found


def _by_kind(known: Mapping[str, Rejects]) -> list[str]:
    """One sentence for each kind of fault of each file; of many files with one fault that of the first, and how many
    rows of how many others have it as well."""
    alike: dict[tuple[str, str], list[Told]] = {}
    for rejects in known.values():
        for each in rejects.told():
            alike.setdefault((each.kind, each.word), []).append(each)
    found, done = [], set()
    for path, rejects in known.items():
        for each in rejects.told():
            others = alike[each.kind, each.word]
            if len(others) <= _FEW_FILES:
                found.append(f"{path}: {each}")
            elif (each.kind, each.word) not in done:
                done.add((each.kind, each.word))
                count = sum(other.count for other in others[1:])
                found.append(f"{path}: {each}; so {'is' if count == 1 else 'are'} {counted(count, each.word)} of"
                             f" {len(others) - 1:,} more files")  # fmt: skip
    return found
