"""What can be read from, whether a file, something unpacked on the way, or text put back in front of it."""

from __future__ import annotations

import bz2
import gzip
import lzma
import zlib
from collections.abc import Callable
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any, Protocol

import pyarrow as pa

PACKED = ("gzip", "zstd", "xz", "bzip2")
"""The forms of what is compressed."""
_OPENED: dict[str | None, Callable[[str | Path], AbstractContextManager[Any]]] = {
    "gzip": gzip.open, "xz": lzma.open, "bzip2": bz2.open,
}  # fmt: skip
TORN = (OSError, EOFError, zlib.error, lzma.LZMAError, pa.ArrowException)
"""What is raised by the readers of what is compressed."""


class Stream(Protocol):
    """Octets in order."""

    def read(self, size: int = -1, /) -> bytes:
        """At most `size` octets, all that are left without one; none at the end."""


def opened(path: str | Path, form: str | None) -> AbstractContextManager[Any]:
    """A file as a stream of octets, unpacked where it is of one of the forms `PACKED`. It raises one of `TORN`."""
    # Each by its own reader, since the one for all says nothing of a stream that ends in the middle.
    if form in _OPENED:
        return _OPENED[form](path)
    stream: AbstractContextManager[Any] = pa.input_stream(str(path), compression=form)
    return stream


class Unpacked:
    """A stream that ends where it is torn and remembers why in `fault`. `line` is for who reads it."""

    closed = False

    def __init__(self, stream: Stream) -> None:
        self._stream = stream
        self._front = b""
        self.fault = ""
        self.line = 1

    def put_back(self, data: bytes) -> None:
        """Have the next read begin with this."""
        self._front = data + self._front

    def read(self, size: int = -1, /) -> bytes:
        """So many octets, fewer only at the end or at a tear."""
        chunks, have = [self._front[:size] if size >= 0 else self._front], 0
        have = len(chunks[0])
        self._front = self._front[have:]
        # As little at a time as there is: what lies before a tear is only had that way.
        read = getattr(self._stream, "read1", self._stream.read)
        while not self.fault and (size < 0 or have < size):
            try:
                chunk = read(min(1 << 16, size - have) if size >= 0 else 1 << 16)
            except TORN as error:
                self.fault = str(error)
                break
            if not chunk:
                break
            chunks.append(chunk)
            have += len(chunk)
        return b"".join(chunks)
