"""Machines at their public addresses, as somebody inside may send to them (S29): what more gets through there than at
the private addresses that their names mean."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.reachability.space import Block, Space, SpaceEnd
from kiboko.core.tables.kinds import Words
from kiboko.core.tables.pair_tables import Outcome
from kiboko.core.tables.places import NONE

Rows = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class PublicTargets:
    """Receivers at public addresses, and the place of each among receivers by their names, int64[n] ascending."""

    ends: Sequence[SpaceEnd]
    usual: Rows

    @classmethod
    def of(cls, space: Space, receivers: Sequence[SpaceEnd]) -> PublicTargets:
        """Those of some receivers that have a public address."""
        usual = np.array([row for row, each in enumerate(receivers) if each.public != NONE], dtype=np.int64)
        return cls(list(space.at_public(receivers)), usual)

    def between(self, first: int, behind: int) -> PublicTargets:
        """Those of the receivers from one place up to another."""
        low, high = np.searchsorted(self.usual, [first, behind]).tolist()
        return PublicTargets(self.ends[low:high], self.usual[low:high])


class MoreByPublic:
    """What senders come to at public addresses beyond what they come to at those behind them: take in what holds for
    these first."""

    def __init__(self, targets: PublicTargets, senders: int, words: int) -> None:
        self._usual = targets.usual
        self._levels = np.zeros((3, len(self._usual), senders, words), dtype=np.uint64)

    def take_usual(self, receivers: Rows, block: Block) -> None:
        """Note what holds for a block of senders and receivers by name, of which `receivers` are the places."""
        at = np.searchsorted(self._usual, receivers)
        mine = np.flatnonzero(np.append(self._usual, NONE)[at] == receivers)
        if len(mine):
            for level, found in zip(self._levels, _levels(block.outcome), strict=True):
                level[np.ix_(at[mine], block.senders)] = found[mine]

    def at(self, block: Block) -> Words:
        """The kinds of which more comes at public addresses, uint64[m, n, words], of a block of senders and these."""
        where = np.ix_(block.receivers, block.senders)
        through, perhaps, arrives = _levels(block.outcome)
        usual = self._levels
        more: Words = through & ~usual[0][where] | perhaps & ~usual[1][where] | arrives & ~usual[2][where]
        return more


def _levels(outcome: Outcome) -> tuple[Words, Words, Words]:
    """What gets through, what does or may, and what does, may or arrives."""
    through = outcome.answered & ~outcome.doubtful
    perhaps = through | outcome.doubtful & outcome.answered
    return through, perhaps, perhaps | outcome.arrives
