"""A network file that may change while it is in use: whether it has, and what it is now."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from kiboko.core.network.model import Topology
from kiboko.files.network.listing import is_data

Read = Callable[[], tuple[Topology, tuple[Path, ...]]]
"""What reads the network file, and tells which files beside it went into it. Raises InputError."""
_Seen = dict[str, tuple[int, int, int]]


class WatchedNetwork:
    """The network that a file or folder describes, with the files that it names.

    Parameters
    ----------
    path : the file or folder
    read : reads it

    Raises InputError where it cannot be read at the beginning.
    """

    def __init__(self, path: str, read: Read) -> None:
        self._path, self._read = Path(path), read
        self._used: tuple[Path, ...] = ()
        self._in_use: _Seen = {}
        self._last: _Seen = {}
        self.topology = self.load()
        """What it was when it was last read."""

    def load(self) -> Topology:
        """Read it anew. Raises InputError; it is read again when it has changed again."""
        before = self._in_use = self._last = self._seen()
        topology, self._used = self._read()
        after = self._seen()
        if all(after.get(name, seen) == seen for name, seen in before.items()):  # else it changed while it was read
            self._in_use = self._last = after
        self.topology = topology
        return topology

    def has_changed(self) -> bool:
        """Whether any of its files is another than when it was read, and nobody is writing any: none has changed since
        this was asked before."""
        before, self._last = self._last, self._seen()
        return self._last == before and self._last != self._in_use

    def _seen(self) -> _Seen:
        """What the file system says of each file: its number, its size, and when it was written."""
        found = {}
        for each in dict.fromkeys((self._path, *self._parts(), *self._used)):
            try:
                status = os.stat(each)
            except OSError:
                found[str(each)] = (0, 0, 0)
            else:
                found[str(each)] = (status.st_ino, status.st_size, status.st_mtime_ns)
        return found

    def _parts(self) -> list[Path]:
        try:
            return [self._path / name for name in sorted(os.listdir(self._path)) if is_data(name)]
        except OSError:  # a file
            return []
