"""A store of flow records: a folder for each day, in it segments that any reader of flow logs reads.

The segment that grows is an Arrow stream, of which every batch is in the kernel's hands as soon as it is written: a
process that is killed loses nothing that it had written. A full segment becomes a Parquet file. What is too old, or too
much, goes with whole segments, the oldest first.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet

from kiboko.core.errors import SurroundingsError
from kiboko.core.flow_table import FlowTable
from kiboko.files.flow_export import arrow_table

SEGMENT_OCTETS = 64 << 20
"""Octets of a growing segment after which it is closed."""
SEGMENT_SECONDS = 600
"""Seconds after which a growing segment is closed."""
_LOCK = ".collecting"


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

        Raises SurroundingsError where it cannot be written, or another process is collecting into it.
        """
        store = cls(folder, keeping)
        try:
            folder.mkdir(parents=True, exist_ok=True)
            store._lock = (folder / _LOCK).open("w")
            fcntl.flock(store._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            store._lock.close()
            raise SurroundingsError(f"{folder}: another process is collecting into this store") from error
        except OSError as error:
            raise SurroundingsError(f"{folder}: cannot be written: {error.strerror}") from error
        for path in sorted(folder.glob("*/*.arrows")):
            store.recovered += finish_segment(path)
        store.remove_old(now)
        return store

    def append(self, table: FlowTable, now: datetime) -> Path | None:
        """Write records. The path of a segment that is full by now, to be finished by whoever has the time.

        Raises SurroundingsError where they cannot be written.
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
            raise SurroundingsError(f"{self.folder}: cannot be written: {error.strerror or error}") from error
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
        if self._writer is not None:
            self._writer.close()
            self._stream.close()
            self._writer = self._stream = None
        return path

    def remove_old(self, now: datetime) -> None:
        """Remove segments that are too old or too much. Raises SurroundingsError."""
        try:
            segments = sorted(path for path in self.folder.glob("*/*") if path.suffix in (".arrows", ".parquet"))
            sizes = {path: path.stat().st_size for path in segments if path != self._path}
            total = sum(sizes.values())
            for path, size in sizes.items():
                too_much = self.keeping.octets is not None and total > self.keeping.octets
                if not too_much and not self._is_old(path, now):
                    continue
                path.unlink(missing_ok=True)
                with contextlib.suppress(OSError):
                    path.parent.rmdir()
                total -= size
                self.removed += 1
        except OSError as error:
            raise SurroundingsError(f"{self.folder}: cannot be put in order: {error.strerror}") from error

    def _is_old(self, path: Path, now: datetime) -> bool:
        if self.keeping.days is None:
            return False
        try:
            day = date.fromisoformat(path.parent.name)
        except ValueError:
            return False
        return day <= now.date() - timedelta(days=self.keeping.days)

    def close(self) -> None:
        """End the store in order. Raises SurroundingsError."""
        path = self.end_segment()
        if path is not None:
            finish_segment(path)
        if self._lock is not None:
            self._lock.close()


def finish_segment(path: Path) -> int:
    """Make a segment a Parquet file in its place; how many records. What is torn at its end is left out.

    Raises SurroundingsError where that cannot be written; the segment stays as it is then.
    """
    whole = path.with_suffix(".parquet")
    temporary = path.with_name(f".{path.stem}.part")
    rows = 0
    try:
        if not whole.exists():
            writer = None
            for batch in _batches(path):
                writer = writer or pa.parquet.ParquetWriter(temporary, batch.schema)
                writer.write_batch(batch)
                rows += batch.num_rows
            if writer is not None:
                writer.close()
                with temporary.open("rb") as stream:
                    os.fsync(stream.fileno())
                os.replace(temporary, whole)
        path.unlink(missing_ok=True)
    except OSError as error:
        raise SurroundingsError(f"{path}: cannot be finished: {error.strerror or error}") from error
    finally:
        temporary.unlink(missing_ok=True)
    return rows


def _batches(path: Path) -> Iterator[pa.RecordBatch]:
    """The batches of a stream, up to where it is torn."""
    with path.open("rb") as stream:
        try:
            reader = pa.ipc.open_stream(stream)
            while True:
                yield reader.read_next_batch()
        except (StopIteration, pa.ArrowInvalid, OSError):
            return
