"""Which of very many pairs come to the same on all services, by the same rules: one of them is asked for all."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.ranges import RangeSet
from kiboko.core.reachability.pair_blocks import PairBlocks, Senders
from kiboko.core.records.columns import distinct
from kiboko.core.tables.kinds import Kinds
from kiboko.core.tables.layout import GateLayout
from kiboko.core.tables.pair_words import PairWords, Side
from kiboko.core.tables.places import NONE
from kiboko.core.tables.traces import Marks, mixed

Rows = NDArray[np.int64]


def alike_pairs(
    layout: GateLayout, senders: Rows, receivers: Rows, ports: Sequence[RangeSet], services: RangeSet
) -> Rows:
    """Numbers for all pairs of some senders and receivers of one address family, int64[n, m]: pairs of one number come
    to the same by the same rules. NONE for those that have to be asked about one by one.

    Parameters
    ----------
    layout : the gates of the network
    senders, receivers : atoms of their addresses, int64[n] and int64[m], all of them within the network
    ports : the client ports of each sender
    services : those that are asked about
    """
    own, to = Side.of(layout, senders), Side.of(layout, receivers)
    layout.listening_at(receivers.astype(np.int32))
    sent = Senders.of(layout, None, np.arange(len(senders)), senders, np.zeros(len(senders), dtype=np.bool_), [])
    several, rows = np.zeros(len(receivers), dtype=np.bool_), np.arange(len(receivers))

    def alike(way: int) -> int:
        return -1 - way if layout.stops_itself(way) else layout.alike(way)

    # All ways come first: what their filters and listeners tell apart are the kinds of traffic.
    for _ in PairBlocks(layout, lambda *_: None, 1, sent, rows, to, several, alike).blocks():
        pass
    kinds = Kinds(layout, services, ports)
    judge = PairWords(layout, kinds, True)
    numbers: dict[RangeSet, int] = {}
    by_ports = mixed(np.array([numbers.setdefault(each, len(numbers)) for each in ports], dtype=np.uint64))
    marks: Marks = np.zeros((len(own), len(to)), dtype=np.uint64)
    is_told = np.zeros(marks.shape, dtype=np.bool_)
    for mine, theirs, there, trace in PairBlocks(
        layout, judge.trace, judge.width, sent, rows, to, several, alike
    ).blocks():
        at = np.ix_(mine, theirs)
        chosen = (there & ~trace.apart).T
        marks[at] = np.where(chosen, trace.mark.T + by_ports[mine, None], marks[at])
        is_told[at] |= chosen
    found = np.full(marks.shape, NONE, dtype=np.int64)
    found[is_told] = distinct(marks[is_told].view(np.int64)).codes if is_told.any() else 0
    return found
