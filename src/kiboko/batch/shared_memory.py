"""What a process that was forked off hands back, through memory that both share: its arrays are copied once, and not
written into a pipe and read from it (PEP 574)."""

from __future__ import annotations

import mmap
import pickle
from dataclasses import dataclass
from typing import Any

_SIZE = 1 << 26  # octets
_ALIGNED = 64
_LEAST = 1 << 16


@dataclass(frozen=True, slots=True)
class HandedBack:
    """Something without its arrays, and these: `places` are where each is in the shared memory and how long; where they
    have no room there, `buffers` are they themselves."""

    pickled: bytes
    places: tuple[tuple[int, int], ...] = ()
    buffers: tuple[bytes, ...] = ()


class SharedMemory:
    """Some pieces of memory, each for one thing at a time. Of a piece only what is written takes any memory."""

    def __init__(self, count: int) -> None:
        self._pieces = [mmap.mmap(-1, _SIZE) for _ in range(count)]
        self.free = list(range(count))
        """The numbers of the pieces that nobody uses."""

    def put(self, value: Any, number: int) -> Any:
        """In the other process: what it hands back of a value, by a piece that is free."""
        found: list[pickle.PickleBuffer] = []
        pickled = pickle.dumps(value, protocol=5, buffer_callback=found.append)
        arrays = [each.raw() for each in found]
        if sum(each.nbytes for each in arrays) < _LEAST:
            return value
        places, end = [], 0
        for each in arrays:
            places.append((end, each.nbytes))
            end += -(-each.nbytes // _ALIGNED) * _ALIGNED
        if end > _SIZE:
            return HandedBack(pickled, buffers=tuple(map(bytes, arrays)))
        piece = self._pieces[number]
        for (begin, length), array in zip(places, arrays, strict=True):
            piece[begin : begin + length] = array
        return HandedBack(pickled, tuple(places))

    def take(self, told: Any, number: int) -> Any:
        """In this process: the value that was handed back. The piece is free again."""
        self.free.append(number)
        if not isinstance(told, HandedBack):
            return told
        arrays = [bytearray(each) for each in told.buffers]
        with memoryview(self._pieces[number]) as whole:
            for begin, length in told.places:
                array = bytearray(length)
                array[:] = whole[begin : begin + length]
                arrays.append(array)
        return pickle.loads(told.pickled, buffers=arrays)
