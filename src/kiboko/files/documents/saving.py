"""Writing that leaves nothing half-written: whole files moved into place, and records appended line by line."""

from __future__ import annotations

import contextlib
import fcntl
import os
import secrets
from collections.abc import Iterable, Iterator
from pathlib import Path
from types import TracebackType

from kiboko.core.errors import EnvironmentFailure, UsageError

DISAGREEMENTS = "disagreements.jsonl"
"""What a collector writes into its store beside the records: leaks and breaks, which are no flow records."""


@contextlib.contextmanager
def written_whole(path: Path, private: bool = False) -> Iterator[Path]:
    """A path beside `path` to write to; what is there when the block ends takes the place of `path`, and nothing is
    left where it fails. The name is nobody's to guess, so that no link laid there beforehand is followed; the mode is
    what the user's umask leaves, or for a `private` file that nobody else may read it.

    Raises EnvironmentFailure where it cannot be written.
    """
    # The name is there before the file, so that nothing is left whenever it is interrupted.
    temporary = path.parent / f".{path.name[:40]}.{secrets.token_hex(8)}.part"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        os.close(os.open(temporary, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o600))
        yield temporary
        with open(temporary, "rb") as stream:
            os.fsync(stream.fileno())
        os.chmod(temporary, 0o600 if private else 0o666 & ~_umask())
        os.replace(temporary, path)
    except OSError as error:
        raise EnvironmentFailure(f"{path}: cannot be written: {error.strerror or error}") from error
    finally:
        with contextlib.suppress(OSError):
            os.unlink(temporary)


def write_whole(path: Path, data: bytes, private: bool = False) -> None:
    """Write a file beside its target and move it into place. Raises EnvironmentFailure."""
    with written_whole(path, private) as temporary:
        temporary.write_bytes(data)


def check_writable(path: Path, mark: bytes = b"", reads: Iterable[Path] = ()) -> None:
    """Raise, before any work is done, where a file should not be written in the end, or could not.

    UsageError where there is a file that is read as well (one of `reads`), or one of another kind, without a `mark`
    near its beginning: it would be gone. EnvironmentFailure where nothing can be written there.
    """
    if path.is_file():
        if any(each.exists() and each.samefile(path) for each in reads):
            raise UsageError(f"{path}: it is read, and would be gone: write to another file")
        if (head := head_of(path)) and mark not in head:
            raise UsageError(f"{path}: there is another file of this name, which would be gone: write to a new one")
    folder = path.parent
    while not folder.exists() and folder != folder.parent:
        folder = folder.parent
    if path.is_dir():
        raise EnvironmentFailure(f"{path}: cannot be written: it is a folder")
    if not folder.is_dir() or not os.access(folder, os.W_OK | os.X_OK):
        raise EnvironmentFailure(f"{path}: cannot be written: nothing may be made in {folder}")


def head_of(path: Path) -> bytes:
    """The beginning of a file; nothing where it cannot be read."""
    try:
        with path.open("rb") as stream:
            return stream.read(_HEAD)
    except OSError:
        return b""


_HEAD = 1 << 12


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


class LineAppender:
    """Appends whole lines to a file, one process after the other where several do. A line that cannot be written in
    full is taken back.

    Opening fails with EnvironmentFailure where the file cannot be appended to, before anything is sent or done.
    A last line without its line break, as a crash may leave, is closed first.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        try:
            self._handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o666)
            size = os.fstat(self._handle).st_size
            if size and os.pread(self._handle, 1, size - 1) != b"\n":
                self._write(b"\n")
        except OSError as error:
            raise EnvironmentFailure(f"{path}: cannot be appended to: {error.strerror}") from error

    def __enter__(self) -> LineAppender:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Close it, once however often that is asked for."""
        handle, self._handle = self._handle, -1
        if handle >= 0:
            os.close(handle)

    def append(self, line: str) -> None:
        """Append one line. Raises EnvironmentFailure, with the file as it was before, where it does not fit."""
        try:
            self._write(line.encode() + b"\n")
        except OSError as error:
            raise EnvironmentFailure(
                f"{self._path}: cannot be written: {error.strerror}; the records before this one are kept"
            ) from error

    def _write(self, data: bytes) -> None:
        # Locked, so that what is taken back is our own and not what another process has appended meanwhile.
        with contextlib.suppress(OSError):  # a device, or a file system without locks
            fcntl.flock(self._handle, fcntl.LOCK_EX)
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
        finally:
            with contextlib.suppress(OSError):
                fcntl.flock(self._handle, fcntl.LOCK_UN)
