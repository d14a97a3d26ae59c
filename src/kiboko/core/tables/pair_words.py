"""Many senders and many receivers of one way on all kinds of traffic at once: what `FlowColumn` does for single flows,
with a bit for each kind."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kiboko.core.tables.kinds import Words
from kiboko.core.tables.pair_block import Block
from kiboko.core.tables.pair_tables import Outcome, PairTables, Side
from kiboko.core.tables.sent_off import NO_WAY
from kiboko.core.tables.traces import Trace

Rows = NDArray[np.int64]
_DEARER = 3
"""As many times as long as beside others a pair takes that is judged by itself."""


class PairWords(PairTables):
    """Judges senders and receivers of one way over one network."""

    def judge(
        self, way: int, senders: Side, receivers: Side, with_single: bool = False, with_hanging: bool = False,
        wanted: Words | None = None,
    ) -> Outcome:  # fmt: skip
        """What becomes of all kinds between some ends, all of one way and no two of one machine; `with_single` also
        what one gate alone stops, and `with_hanging` what gets through with its first packet alone. By `NO_WAY` nothing
        arrives. Where `wanted` uint64[atoms, words] tells which kinds are asked about, by the address that is sent to,
        what gets through of them is all that is found, and pairs without it may come out with nothing."""
        if way == NO_WAY:
            nothing = np.broadcast_to(self.none, (len(receivers), len(senders), self.width))
            return Outcome(nothing, nothing, nothing, hanging=nothing if with_hanging else None)
        if wanted is not None and (pairs := self._left_open(way, senders, receivers, wanted)) is not None:
            return self._of_pairs(way, senders, receivers, pairs)
        block = Block(self, way, senders, receivers, with_single)
        found = block.outcome()
        return replace(found, hanging=block.hanging(found)) if with_hanging else found

    def _left_open(self, way: int, senders: Side, receivers: Side, wanted: Words) -> tuple[Rows, Rows] | None:
        """The pairs for which the receivers' own filters leave anything open that is wanted, by the places of their
        receivers and senders: of all others no further gate need be asked. None where there are not few of them."""
        shut = Block(self, way, senders, receivers, False).shut_by_receivers()
        if shut is None:
            return None
        pairs = np.nonzero((wanted[receivers.sent_to][:, None] & ~shut).any(axis=-1))
        return (pairs[0], pairs[1]) if len(pairs[0]) * _DEARER < len(senders) * len(receivers) else None

    def _of_pairs(self, way: int, senders: Side, receivers: Side, pairs: tuple[Rows, Rows]) -> Outcome:
        """What becomes of all kinds between some pairs; of the others nothing."""
        some = Block(self, way, senders.taken(pairs[1]), receivers.taken(pairs[0]), False, is_paired=True).outcome()
        found = []
        for part in (some.arrives, some.answered, some.doubtful):
            whole = np.zeros((len(receivers), len(senders), self.width), dtype=np.uint64)
            whole[pairs] = part[0]
            found.append(whole)
        return Outcome(*found)

    def at_hosts(self, way: int, senders: Side, receivers: Side, kinds: Words) -> Outcome:
        """What the host filters of the receivers alone stop of some kinds, uint64[words], as `single` of an outcome
        that tells nothing else: no other gate is asked between ends of which they stop none of it."""
        found = np.zeros((len(receivers), len(senders), self.width), dtype=np.uint64)
        nothing = np.broadcast_to(self.none, found.shape)
        if way != NO_WAY:
            stops = Block(self, way, senders, receivers, True).stopped_by_hosts() & kinds
            pairs = np.nonzero(stops.any(axis=-1))
            if len(pairs[0]):
                block = Block(self, way, senders.taken(pairs[1]), receivers.taken(pairs[0]), True, is_paired=True)
                single = block.outcome().single
                assert single is not None
                found[pairs] = single[0] & stops[pairs]
        return Outcome(nothing, nothing, nothing, found)

    def trace(self, way: int, senders: Side, receivers: Side, is_paired: bool = False) -> Trace:
        """What tells apart pairs of some ends, all of one way and no two of one machine: every sender with every
        receiver, or where they are paired each with that of its own place."""
        block = Block(self, way, senders, receivers, False, is_paired)
        block.trace = Trace(block.shape, self.every, len(self.kinds) > len(self.kinds.services))
        block.outcome()
        return block.trace
