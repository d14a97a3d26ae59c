"""Which of very many pairs come to the same on all services, by the same rules: one of them is asked for all."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.ranges import RangeSet
from kiboko.core.reachability.pair_blocks import PairBlocks, Senders
from kiboko.core.tables.kinds import Kinds
from kiboko.core.tables.layout import GateLayout
from kiboko.core.tables.pair_deciders import Decided, decided
from kiboko.core.tables.pair_tables import Side
from kiboko.core.tables.pair_words import PairWords
from kiboko.core.tables.sent_off import SentOff
from kiboko.core.tables.traces import Marks

T = TypeVar("T")
Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]
_MOST_WORDS = 1 << 16
"""As many words of one gate as are handled at once."""


class AlikePairs:
    """All pairs of some senders and receivers of one address family: which of them come to the same, and to what.

    Parameters
    ----------
    layout : the gates of the network
    sent_off : what the senders' own routers do with what they send
    senders, receivers : atoms of their addresses, int64[n] and int64[m], all of them within the network
    ports : the client ports that all of them use
    """

    def __init__(
        self, layout: GateLayout, sent_off: SentOff, senders: Rows, receivers: Rows, ports: RangeSet
    ) -> None:  # fmt: skip
        self._layout, self._sent_off, self._ports = layout, sent_off, ports
        self._own, self._to = Side.of(layout, senders), Side.of(layout, receivers)
        layout.listening_at(receivers.astype(np.int32))
        self._sent = Senders.of(
            layout, None, np.arange(len(senders)), senders, np.zeros(len(senders), dtype=np.bool_), []
        )
        # All ways, filters and listeners, which tell traffic apart.
        blocks = self._blocks(lambda *_: None, 1)
        for _ in itertools.chain(blocks.between_subnets(), blocks.within_subnets()):
            pass

    def _blocks(self, judge: Callable[[int, Side, Side], T], width: int) -> PairBlocks[T]:
        to = self._to
        several, rows = np.zeros(len(to), dtype=np.bool_), np.arange(len(to))
        return PairBlocks(self._layout, judge, width, self._sent, rows, to, several, self._alike,
                          way=self._sent_off.way_by_entry)  # fmt: skip

    def marks(self, services: RangeSet, like: AlikePairs | None = None) -> tuple[Marks, Truths]:
        """Hashes for all pairs, uint64[n, m], on the services asked about: equal for those that come to the same by the
        same rules; and bool[n, m], which pairs have one and need not be asked about by themselves. All ways of the
        network that anybody will ask about must have been laid out. With `like`, other pairs of the network, is shared
        what has been worked out."""
        self.kinds = Kinds(self._layout, services, [self._ports])
        if like is not None and like.kinds.kinds == self.kinds.kinds:
            self._judge: PairWords = like._judge
        else:
            self._judge = PairWords(self._layout, self.kinds, True)
        marks: Marks = np.zeros((len(self._own), len(self._to)), dtype=np.uint64)
        is_told = np.zeros(marks.shape, dtype=np.bool_)
        blocks = self._blocks(self._judge.trace, self._judge.width)
        for mine, theirs, there, trace in blocks.between_subnets():
            at = np.ix_(mine, theirs)
            chosen = (there & ~trace.apart).T
            marks[at] = np.where(chosen, trace.mark.T, marks[at])
            is_told[at] |= chosen
        for way, rows, columns in blocks.within_subnets():
            for some in self._steps(len(rows)):
                pairs = rows[some], columns[some]
                trace = self._judge.trace(way, self._own.taken(pairs[0]), self._to.taken(pairs[1]), is_paired=True)
                marks[pairs] = trace.mark[0]
                is_told[pairs] = ~trace.apart[0]
        return marks, is_told

    def _steps(self, count: int) -> Iterator[slice]:
        """So many pairs in parts that are judged at once."""
        step = max(1, _MOST_WORDS // self._judge.width)
        return (slice(at, at + step) for at in range(0, count, step))

    def _alike(self, way: int) -> int:
        """A number for each way, equal for those whose pairs are judged together."""
        return -1 - way if self._layout.stops_itself(way) else self._layout.alike(way)

    def decided(self, rows: Rows, columns: Rows) -> Decided:
        """What decides for some pairs that have a mark, each by its sender and its receiver. Kinds may not differ in
        client ports alone."""
        own, to = self._own.taken(rows), self._to.taken(columns)
        found: list[Decided] = []
        for way, pairs in self._blocks(lambda *_: None, 1).by_way(rows, columns):
            for part in self._steps(len(pairs)):
                some = pairs[part]
                made = decided(self._judge, way, own.taken(some), to.taken(some))
                found.append(made._replace(pair=some[made.pair]))
        return Decided(*(np.concatenate(each) for each in zip(*found, strict=True)))
