"""Writing that leaves nothing half-written: whole files moved into place, and records appended line by line."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import re
import secrets
import stat
import sys
from collections.abc import Iterable, Iterator
from pathlib import Path
from types import TracebackType
from typing import BinaryIO

from kiboko.core.errors import EnvironmentFailure, UsageError

DISAGREEMENTS = "disagreements.jsonl"
"""What a collector writes into its store beside the records: leaks and breaks, which are no flow records."""


@contextlib.contextmanager
def written_whole(path: Path, private: bool = False) -> Iterator[Path]:
    """A path to write to; what is there when the block ends takes the place of `path`, and nothing is left where it
    fails. A link goes on leading to its file, and a file keeps its mode and its owner; the mode of a new one is what
    the user's umask leaves. A `private` file is one that nobody else may read, whatever was there. What is no file (a
    pipe, a device, `-` for standard output) is not replaced but written into.

    What is written in between lies beside the file, under a name that is nobody's to guess, so that no link laid there
    beforehand is followed. Raises EnvironmentFailure where it cannot be written.
    """
    if not private and is_no_file(path):
        with _written_into(path) as temporary:
            yield temporary
        return
    target = path if private else Path(os.path.realpath(path))
    # The name is there before the file, so that nothing is left whenever it is interrupted.
    temporary = target.parent / f".{target.name[:40]}.{secrets.token_hex(8)}.part"
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        os.close(os.open(temporary, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o600))
        yield temporary
        with open(temporary, "rb") as stream:
            os.fsync(stream.fileno())
        os.chmod(temporary, 0o600 if private else _mode_as(path, temporary))
        _put_in_place(temporary, target)
    except OSError as error:
        raise _unwritten(path, error) from error
    finally:
        with contextlib.suppress(OSError):
            os.unlink(temporary)


def _put_in_place(temporary: Path, target: Path) -> None:
    """Have a file take the place of another, or of none. One that is mounted by itself, as containers have it, cannot
    be replaced (rename(2), EBUSY): its content is. Raises OSError."""
    try:
        os.replace(temporary, target)
    except OSError as error:
        if error.errno != errno.EBUSY:
            raise
        data = temporary.read_bytes()
        with target.open("r+b") as stream:
            stream.write(data)
            stream.truncate()
            stream.flush()
            os.fsync(stream.fileno())


@contextlib.contextmanager
def _written_into(path: Path) -> Iterator[Path]:
    """A path to write to, whose content is passed on into what is no file at the end. Raises EnvironmentFailure."""
    import shutil
    import tempfile

    try:
        folder = tempfile.mkdtemp()
    except OSError as error:
        raise _unwritten(path, error) from error
    try:
        temporary = Path(folder) / "whole"
        temporary.touch()
        yield temporary
        with temporary.open("rb") as stream, _passing_on(path) as goal:
            shutil.copyfileobj(stream, goal)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


@contextlib.contextmanager
def _passing_on(path: Path) -> Iterator[BinaryIO]:
    """What is no file, to be written into as far as it is read there. Raises EnvironmentFailure."""
    try:
        with _opened(path) as goal:
            yield goal
    except BrokenPipeError:
        return  # whoever reads has read enough
    except OSError as error:
        raise _unwritten(path, error) from error


def _unwritten(path: Path, error: OSError) -> EnvironmentFailure:
    return EnvironmentFailure(f"{path}: cannot be written: {error.strerror or error}")


def is_no_file(path: Path) -> bool:
    """Whether what has this name is written into rather than replaced: a pipe, a device, what this process has open
    (`/dev/stdout`, `/dev/fd/63`), or standard output."""
    if _number_of(path) is not None:
        return True
    try:
        return not stat.S_ISREG(path.stat().st_mode) and not path.is_dir()
    except OSError:
        return False


def _number_of(path: Path) -> int | None:
    """The number of what this process has open, where a path says no more than that."""
    name = {"-": "/dev/fd/1", "/dev/stdout": "/dev/fd/1", "/dev/stderr": "/dev/fd/2"}.get(str(path), str(path))
    found = re.fullmatch(r"/(?:dev|proc/self)/fd/(\d+)", name)
    return int(found[1]) if found else None


def _opened(path: Path) -> BinaryIO:
    """What is no file, opened to be written into."""
    number = _number_of(path)
    if number is None:
        return path.open("wb")
    for stream in (sys.stdout, sys.stderr):
        if stream is not None:
            stream.flush()
    return os.fdopen(os.dup(number), "wb")


def _mode_as(path: Path, temporary: Path) -> int:
    """The mode of the file that is replaced, whose owner the new one gets as far as this user may give it; of a new
    file what the umask leaves. Raises OSError where the file that is there may not be written."""
    try:
        handle = os.open(path, os.O_WRONLY)
    except FileNotFoundError:
        return 0o666 & ~_umask()
    was = os.fstat(handle)
    os.close(handle)
    mode = stat.S_IMODE(was.st_mode) & 0o777
    try:
        os.chown(temporary, was.st_uid, was.st_gid)
    except OSError:
        return mode if os.stat(temporary).st_gid == was.st_gid else mode & 0o707
    return mode


def write_whole(path: Path, data: bytes, private: bool = False) -> None:
    """Write a file beside its target and move it into place; into what is no file straight, which takes no other place
    to write to. Raises EnvironmentFailure."""
    if not private and is_no_file(path):
        with _passing_on(path) as goal:
            goal.write(data)
        return
    with written_whole(path, private) as temporary:
        temporary.write_bytes(data)


def check_writable(path: Path, mark: bytes = b"", reads: Iterable[Path] = ()) -> None:
    """Raise, before any work is done, where a file should not be written in the end, or could not.

    UsageError where there is a file that is read as well (one of `reads`), or one of another kind, without a `mark`
    near its beginning: it would be gone. EnvironmentFailure where nothing can be written there.
    """
    if is_no_file(path):
        return
    if path.is_file():
        if any(each.exists() and each.samefile(path) for each in reads):
            raise UsageError(f"{path}: it is read, and would be gone: write to another file")
        if (head := head_of(path)) and mark not in head:
            raise UsageError(f"{path}: there is another file of this name, which would be gone: write to a new one")
        if not os.access(path, os.W_OK):
            raise EnvironmentFailure(f"{path}: cannot be written: Permission denied")
    folder = Path(os.path.realpath(path)).parent
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
            self._sync()
        except OSError:
            with contextlib.suppress(OSError):
                os.ftruncate(self._handle, before)
            raise
        finally:
            with contextlib.suppress(OSError):
                fcntl.flock(self._handle, fcntl.LOCK_UN)

    def _sync(self) -> None:
        try:
            os.fsync(self._handle)
        except OSError as error:
            if error.errno not in (errno.EINVAL, errno.EROFS, errno.ENOTSUP):  # a pipe or a device keeps nothing
                raise
