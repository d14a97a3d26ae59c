"""A change made in a network, read as if it were made, and written: to a new file, or in place with a way back."""

from __future__ import annotations

import contextlib
import difflib
import shutil
from collections.abc import Iterable, Iterator
from pathlib import Path

from kiboko.core.errors import EnvironmentFailure, InputError, Place, Problem, UsageError
from kiboko.core.network.model import Topology
from kiboko.files.changes.change_file import Change
from kiboko.files.changes.making import make
from kiboko.files.changes.sheets import Sheet, Sheets
from kiboko.files.documents.saving import check_writable, write_whole
from kiboko.files.network.network_file import load_with_files

_CONTEXT = 3


def changed(path: str, change: Change, files_elsewhere: bool = False) -> tuple[Topology, Sheets]:
    """The network that a file or folder describes once a change is made, and its files with the change in them: nothing
    is written. Raises InputError where the change does not fit, or what comes of it is no network file."""
    sheets = Sheets.read(path)
    try:
        make(change, sheets)
    except Exception:
        load_with_files(path, files_elsewhere)  # where the network file itself is wrong, that is what has to be told
        raise
    try:
        return load_with_files(path, files_elsewhere, sheets.texts())[0], sheets
    except InputError as error:
        told = Problem(Place(change.file, 1), "made, this change leaves a network file that cannot be read:")
        raise InputError([told, *error.problems]) from error


def differences(sheets: Sheets) -> Iterator[str]:
    """What was edited, as a unified diff, line by line."""
    for sheet in sheets.all:
        if sheet.is_changed:
            yield from difflib.unified_diff(
                sheet.before.splitlines(keepends=True), sheet.body.text.splitlines(keepends=True), sheet.shown,
                sheet.shown, n=_CONTEXT,
            )  # fmt: skip


def write_new(sheets: Sheets, path: str, target: Path) -> None:
    """Write the changed network to a new file, or a folder to a new folder. Raises UsageError where that is there
    already, EnvironmentFailure where it cannot be written."""
    if target.exists():
        raise UsageError(f"--out {target}: there is such a file already; --in-place changes the network file itself")
    check_writable(target)
    if not Path(path).is_dir():
        write_whole(target, sheets.all[0].body.text.encode())
        return
    shutil.copytree(path, target)
    for sheet in sheets.all:
        if sheet.is_changed:
            write_whole(target / sheet.path.name, sheet.body.text.encode())


def backup_of(path: Path, name: str) -> Path:
    """Where a file is kept as it was before the change of a name."""
    return path.with_name(f"{path.name}.before-{name}")


def write_in_place(sheets: Sheets, change: Change) -> list[tuple[str, Path]]:
    """Write a change into the network file itself; what each file that it edits was is kept beside it. The files, by
    what they are called, and where they are kept. Raises UsageError where the change was made before,
    EnvironmentFailure where it cannot be made whole: then all is as it was."""
    edited = [sheet for sheet in sheets.all if sheet.is_changed]
    kept = [backup_of(_real(sheet), change.name) for sheet in edited]
    for sheet, backup in zip(edited, kept, strict=True):
        if backup.exists():
            raise UsageError(f"{backup} is there already: was '{change.name}' made before? --undo takes it back")
        check_writable(backup)
        check_writable(_real(sheet))
    try:
        for sheet, backup in zip(edited, kept, strict=True):
            write_whole(backup, sheet.before.encode())
            _copy_mode(_real(sheet), backup)
        _write_all((_real(sheet), sheet.body.text.encode()) for sheet in edited)
    except BaseException:
        for sheet, backup in zip(edited, kept, strict=True):
            if _real(sheet).read_bytes() == sheet.before.encode():  # else what it was is nowhere but there
                backup.unlink(missing_ok=True)
        raise
    return [(sheet.shown, backup) for sheet, backup in zip(edited, kept, strict=True)]


def undo(path: str, change: Change) -> list[str]:
    """Give the files back as they were before a change, octet by octet. The files, by what they are called.

    Raises InputError where it was not made here, or they were changed since: then nothing is written.
    """
    now = Sheets.read(path)
    backups = {sheet.shown: backup_of(_real(sheet), change.name) for sheet in now.all}
    made = [sheet for sheet in now.all if backups[sheet.shown].exists()]
    if not made:
        names = ", ".join(str(backup) for backup in backups.values())
        raise InputError(f"{change.file}: there is no {names}: '{change.name}' was not made here with --in-place")
    before = Sheets.read(path)
    for sheet in before.all:
        if backups[sheet.shown].exists():
            text = backups[sheet.shown].read_bytes().decode("utf-8")
            sheet.before = text
            sheet.body = type(sheet.body)(text)
    make(change, before)
    for was, is_ in zip(before.all, now.all, strict=True):
        if was.body.text != is_.body.text:
            raise InputError(
                f"{was.shown}: it is not what {change.file} made of {backups[was.shown]}: one of them was changed"
                " since; nothing is written"
            )
    _write_all((_real(sheet), backups[sheet.shown].read_bytes()) for sheet in made)
    for sheet in made:
        backups[sheet.shown].unlink()
    return [sheet.shown for sheet in made]


def _real(sheet: Sheet) -> Path:
    """The file itself, where its path is a link."""
    return sheet.path.resolve()


def _write_all(files: Iterable[tuple[Path, bytes]]) -> None:
    """Write files anew, all of them or none. Raises EnvironmentFailure."""
    before: list[tuple[Path, bytes]] = []
    try:
        for path, data in files:
            was = path.read_bytes()
            write_whole(path, data)
            before.append((path, was))
    except BaseException:
        for path, was in before:
            with contextlib.suppress(EnvironmentFailure):  # and the others all the same
                write_whole(path, was)
        raise


def _copy_mode(path: Path, copy: Path) -> None:
    with contextlib.suppress(OSError):
        shutil.copymode(path, copy)
