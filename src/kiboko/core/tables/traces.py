"""What tells pairs of ends apart on all kinds of traffic: the gates that stop them, and by which rules."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.tables.kinds import Words

Marks = NDArray[np.uint64]
Truths = NDArray[np.bool_]
_ONE, _TWO = np.uint64(0x9E3779B97F4A7C15), np.uint64(0xC2B2AE3D27D4EB4F)


class Trace:
    """A block of `m` receivers and `n` senders being followed from gate to gate.

    `mark` uint64[m, n] is equal for pairs that are stopped on the same kinds of traffic at gates of the same sort by
    the same rules; it is a hash, and two others have an equal one as rarely as 64 bits allow. `apart` bool[m, n] are
    pairs of which more has to be known than which rule stops them: what becomes of a refusal rests on its way back, and
    what a kernel's rules may do on more than a table holds.
    """

    def __init__(self, shape: tuple[int, int, int], every: Words, has_cells: bool) -> None:
        """`every` are all kinds, uint64[1, 1, words]; `has_cells` tells that kinds differ in client ports alone: then
        what a gate stops matters also where an earlier one has stopped it."""
        self.mark = np.zeros(shape[:2], dtype=np.uint64)
        self.apart = np.zeros(shape[:2], dtype=np.bool_)
        self.alive = every
        self._has_cells = has_cells

    def note(self, sort: int, stops: Words, which: NDArray[np.int64] | Marks | int, apart: Truths | bool) -> Words:
        """A further gate of a sort, the kinds that it stops, what of it decides, and whether that is not enough to
        know. The kinds that were not stopped before. All arrays are [m, n] or have 1 where they do not differ."""
        fresh = self.alive & stops
        met = fresh.any(axis=-1)
        if met.any():
            self.alive = self.alive & ~stops
            told = hashed(stops if self._has_cells else fresh, sort)
            told = mixed(told ^ np.asarray(which).astype(np.uint64))
            self.mark += np.where(met, told, np.uint64(0))
            self.apart |= met & apart
        return fresh

    def add(self, words: Words, sort: int) -> None:
        """Tell pairs apart by some words as well."""
        self.mark += hashed(words, sort)


def hashed(words: Words, sort: int) -> Marks:
    """A hash of the words of each pair, uint64[..., words] to uint64[...]."""
    found = np.full(words.shape[:-1], sort, dtype=np.uint64) * _TWO
    for word in range(words.shape[-1]):
        found = mixed(found ^ words[..., word])
    return found


def mixed(values: Marks) -> Marks:
    """Values spread over all bits."""
    values = values * _ONE
    values = (values ^ values >> np.uint64(29)) * _TWO
    return values ^ values >> np.uint64(32)
