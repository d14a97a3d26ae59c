"""A store of flow records: a folder for each day, in it segments that any reader of flow logs reads.

The segment that grows is an Arrow stream, of which every batch is in the kernel's hands as soon as it is written: a
process that is killed loses nothing that it had written. A full segment becomes a Parquet file. What is too old, or too
much, goes with whole segments, the oldest first.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet

from kiboko.core.errors import EnvironmentFailure
from kiboko.core.records.flow_table import FlowTable
from kiboko.files.documents.saving import DISAGREEMENTS, written_whole
from kiboko.files.store.flow_export import arrow_table

SEGMENT_OCTETS = 64 << 20
"""Octets of a growing segment after which it is closed."""
SEGMENT_SECONDS = 600
"""Seconds after which a growing segment is closed."""
_LOCK = ".collecting"
# Only what bears such a name was made here; whatever else lies in the folder is somebody else's.
_DAY = re.compile(r"\d{4}-\d\d-\d\d")
_SEGMENT = re.compile(r"\d{6}-\d{2,}\.(arrows|parquet)")
_DAMAGED = ".damaged"
_MOST_TORN = 4 << 20
"""Octets behind the last whole batch of a segment that a process which was killed may have left."""


@dataclass(frozen=True, slots=True)
class Keeping:
    """How long records are kept: so many days, and so many octets in all; None for no limit."""

    days: int | None = None
    octets: int | None = None


@dataclass(slots=True)
class FlowStore:
    """A store that is written to by this process alone, from `opened` to `close`."""

    folder: Path
    keeping: Keeping = field(default_factory=Keeping)
    recovered: int = 0
    """Records of segments that an earlier process left unfinished."""
    removed: int = 0
    """Segments that were too old or too much."""
    damaged: int = 0
    """Segments that could not be read in full, and were set aside under another name."""
    written: int = 0
    _lock: Any = None
    _stream: Any = None
    _writer: Any = None
    _path: Path | None = None
    _day: date | None = None
    _since: datetime | None = None

    @classmethod
    def opened(cls, folder: Path, keeping: Keeping, now: datetime) -> FlowStore:
        """A store, made where there is none, with what an earlier process left unfinished put in order.

        Raises EnvironmentFailure where it cannot be written, or another process is collecting into it.
        """
        store = cls(folder, keeping)
        try:
            folder.mkdir(parents=True, exist_ok=True)
            flags = os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC
            store._lock = os.fdopen(os.open(folder / _LOCK, flags, 0o666), "w")
            fcntl.flock(store._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            store._lock.close()
            raise EnvironmentFailure(f"{folder}: another process is collecting into this store") from error
        except OSError as error:
            raise EnvironmentFailure(f"{folder}: cannot be written: {error.strerror}") from error
        for path in store._segments(".arrows"):
            rows, damaged = finish_segment(path)
            store.recovered += rows
            store.damaged += damaged
        store.remove_old(now)
        return store

    def _segments(self, *suffixes: str) -> list[Path]:
        """The segments that were made here, the oldest first."""
        return sorted(
            path
            for path in self.folder.glob("*/*")
            if path.suffix in suffixes and _SEGMENT.fullmatch(path.name) and _DAY.fullmatch(path.parent.name)
            and not path.is_symlink() and path.is_file()
        )  # fmt: skip

    def _day_logs(self) -> list[Path]:
        """What disagreed on days that are over."""
        found = self.folder.glob(f"*/{DISAGREEMENTS}")
        return [path for path in found if _DAY.fullmatch(path.parent.name) and path.is_file() and not path.is_symlink()]

    def append(self, table: FlowTable, now: datetime) -> Path | None:
        """Write records. The path of a segment that is full by now, to be finished by whoever has the time.

        Raises EnvironmentFailure where they cannot be written.
        """
        if not len(table):
            return None
        full = None
        try:
            if self._writer is not None and self._is_full(now):
                full = self.end_segment()
            batch = arrow_table(table)
            if self._writer is None:
                self._begin(batch.schema, now)
            self._writer.write_table(batch)
            self._stream.flush()
        except OSError as error:
            raise EnvironmentFailure(f"{self.folder}: cannot be written: {error.strerror or error}") from error
        self.written += len(table)
        return full

    def _begin(self, schema: pa.Schema, now: datetime) -> None:
        folder = self.folder / f"{now:%Y-%m-%d}"
        folder.mkdir(exist_ok=True)
        number = 0
        while any((folder / f"{now:%H%M%S}-{number:02d}{suffix}").exists() for suffix in (".arrows", ".parquet")):
            number += 1
        self._path, self._day, self._since = folder / f"{now:%H%M%S}-{number:02d}.arrows", now.date(), now
        self._stream = pa.OSFile(str(self._path), "wb")
        self._writer = pa.ipc.new_stream(self._stream, schema)

    def _is_full(self, now: datetime) -> bool:
        assert self._since is not None
        old = now - self._since > timedelta(seconds=SEGMENT_SECONDS)
        return old or now.date() != self._day or int(self._stream.tell()) > SEGMENT_OCTETS

    def end_segment(self) -> Path | None:
        """Close the segment that grows; its path, to be finished."""
        path, self._path = self._path, None
        writer, stream, self._writer, self._stream = self._writer, self._stream, None, None
        if writer is not None:
            try:
                writer.close()
            finally:
                stream.close()
        return path

    def remove_old(self, now: datetime) -> None:
        """Remove segments that are too old or too much, and with those of a day what disagreed on it. Raises
        EnvironmentFailure."""
        try:
            kept = sorted([*self._segments(".arrows", ".parquet"), *self._day_logs()])
            sizes = {path: path.stat().st_size for path in kept if path != self._path}
            total = sum(sizes.values())
            for path, size in sizes.items():
                too_much = self.keeping.octets is not None and total > self.keeping.octets
                if not too_much and not self._is_old(path, now):
                    continue
                path.unlink(missing_ok=True)
                with contextlib.suppress(OSError):
                    path.parent.rmdir()
                total -= size
                self.removed += path.name != DISAGREEMENTS
        except OSError as error:
            raise EnvironmentFailure(f"{self.folder}: cannot be put in order: {error.strerror}") from error

    def _is_old(self, path: Path, now: datetime) -> bool:
        if self.keeping.days is None:
            return False
        try:
            day = date.fromisoformat(path.parent.name)
        except ValueError:
            return False
        return day <= now.date() - timedelta(days=self.keeping.days)

    def close(self) -> None:
        """End the store in order. Raises EnvironmentFailure."""
        try:
            path = self.end_segment()
            if path is not None:
                finish_segment(path)
        except OSError as error:
            raise EnvironmentFailure(f"{self.folder}: cannot be written: {error.strerror or error}") from error
        finally:
            if self._lock is not None:
                self._lock.close()


def finish_segment(path: Path) -> tuple[int, bool]:
    """Make a segment a Parquet file in its place: how many records, and whether more of it than its torn end could not
    be read. Then the segment is kept beside the new file, under a name of its own.

    Raises EnvironmentFailure where that cannot be written; the segment stays as it is then.
    """
    whole = path.with_suffix(".parquet")
    rows, damaged = 0, False
    try:
        if not whole.exists():
            reading = _Reading(path)
            first = next(reading.batches(), None)
            if first is not None:
                with written_whole(whole) as temporary, pa.parquet.ParquetWriter(temporary, first.schema) as writer:
                    writer.write_batch(first)
                    rows = first.num_rows
                    for batch in reading.batches():
                        writer.write_batch(batch)
                        rows += batch.num_rows
            damaged = reading.left > (_MOST_TORN if rows else 0)
            reading.close()
        if damaged:
            os.replace(path, path.with_name(path.name + _DAMAGED))
        else:
            path.unlink(missing_ok=True)
    except OSError as error:
        raise EnvironmentFailure(f"{path}: cannot be finished: {error.strerror or error}") from error
    return rows, damaged


class _Reading:
    """The batches of a stream, up to where it cannot be read any further; `left` are the octets behind that."""

    def __init__(self, path: Path) -> None:
        self._stream = path.open("rb")
        self._size = os.fstat(self._stream.fileno()).st_size
        self._reader: Any = None
        self.left = self._size

    def batches(self) -> Iterator[pa.RecordBatch]:
        """The next batches."""
        try:
            if self._reader is None:
                self._reader = pa.ipc.open_stream(self._stream)
            while True:
                batch = self._reader.read_next_batch()
                batch.validate(full=True)
                self.left = self._size - self._stream.tell()
                yield batch
        except StopIteration:
            self.left = 0
        except (pa.ArrowException, OSError, MemoryError, OverflowError):
            return

    def close(self) -> None:
        """Let go of the file."""
        self._stream.close()
