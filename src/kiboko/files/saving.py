"""Writing that leaves nothing half-written: whole files moved into place, and records appended line by line."""

from __future__ import annotations

import contextlib
import os
import tempfile
from pathlib import Path
from types import TracebackType

from kiboko.core.errors import SurroundingsError


def write_whole(path: Path, data: bytes) -> None:
    """Write a file beside its target and move it into place. Raises SurroundingsError."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, temporary = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
        try:
            with os.fdopen(handle, "wb") as stream:
                stream.write(data)
                stream.flush()
                os.fsync(stream.fileno())
            os.chmod(temporary, 0o644)
            os.replace(temporary, path)
        except BaseException:
            with contextlib.suppress(OSError):
                os.unlink(temporary)
            raise
    except OSError as error:
        raise SurroundingsError(f"{path}: cannot be written: {error.strerror}") from error


class LineAppender:
    """Appends whole lines to a file. A line that cannot be written in full is taken back.

    Opening fails with SurroundingsError where the file cannot be appended to, before anything is sent or done.
    A last line without its line break, as a crash may leave, is closed first.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        try:
            self._handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o644)
            size = os.fstat(self._handle).st_size
            if size and os.pread(self._handle, 1, size - 1) != b"\n":
                self._write(b"\n")
        except OSError as error:
            raise SurroundingsError(f"{path}: cannot be appended to: {error.strerror}") from error

    def __enter__(self) -> LineAppender:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        os.close(self._handle)

    def append(self, line: str) -> None:
        """Append one line. Raises SurroundingsError, with the file as it was before, where it does not fit."""
        try:
            self._write(line.encode() + b"\n")
        except OSError as error:
            raise SurroundingsError(
                f"{self._path}: cannot be written: {error.strerror}; the records before this one are kept"
            ) from error

    def _write(self, data: bytes) -> None:
        before = os.fstat(self._handle).st_size
        try:
            written = 0
            while written < len(data):
                written += os.write(self._handle, data[written:])
            os.fsync(self._handle)
        except OSError:
            with contextlib.suppress(OSError):
                os.ftruncate(self._handle, before)
            raise
