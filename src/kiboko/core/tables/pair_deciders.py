"""Which rule or gate decides what becomes of pairs of ends, each pair for itself, with a bit for each kind of traffic.

What `PairWords.trace` hashes, so that pairs can be told apart, is spelled out here for one pair of each sort.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.records.columns import numbered
from kiboko.core.tables.filter_lists import BOUND_ELSEWHERE, NOTHING_LISTENS
from kiboko.core.tables.kinds import Words
from kiboko.core.tables.pair_block import Block
from kiboko.core.tables.pair_tables import Side
from kiboko.core.tables.pair_words import PairWords
from kiboko.core.tables.places import NONE
from kiboko.core.tables.slots import GATES, LISTENER, SETTLED, ZONE_DEFAULT, Slot
from kiboko.core.tables.traces import Trace
from kiboko.core.tables.ways import RECEIVER, SENDER

Rows = NDArray[np.int64]
PASSES_ALL, STOPPED_BACK, STOPPED = range(3)
"""What becomes of requests: they are answered, only the replies are stopped, or they are stopped themselves."""
LISTENER_GATE = 1 + GATES.index("listener")
_GETS_BACK, _IS_LOST = 1, 2
"""What becomes of a listener's reset."""
_SILENT = -1
_KEEPING = 24
"""Room for the number of which gates in front of a dead end keep state."""


class Decided(NamedTuple):
    """`n` times what decides for one pair: `pair` int64[n] which of the pairs asked about, `key` int64[n, 5] what tells
    what decides apart (what becomes of it; the way and the gate, or that a rule does and the kind of gate; the decider;
    what becomes of a refusal), `kinds` uint64[n, words] for which kinds of traffic."""

    pair: Rows
    key: Rows
    kinds: Words


def decided(judge: PairWords, way: int, senders: Side, receivers: Side) -> Decided:
    """What decides between each of some senders and the receiver of its place, all of one way.

    No pair may be one of which more has to be known than which rule stops it (`Trace.apart`), and kinds may not differ
    in client ports alone. `judge` is one that was made with traces.
    """
    block = _DecidedBlock(judge, way, senders, receivers)
    return block.decided()


class _DecidedBlock(Block):
    def __init__(self, judge: PairWords, way: int, senders: Side, receivers: Side) -> None:
        super().__init__(judge, way, senders, receivers, False, is_paired=True)
        self.trace: Trace = Trace(self.shape, judge.every, False)
        self._decided: list[Decided] = []
        self._refused: list[tuple[Rows, Words, int]] = []
        self._lost: Words | None = None

    def decided(self) -> Decided:
        """What decides for each pair, whatever becomes of it."""
        answered = self.outcome().answered[0]
        rows = np.flatnonzero(answered.any(axis=-1))
        self._add(rows, answered[rows], PASSES_ALL, 0, 0, 0)
        self._add_refusals()
        return Decided(*(np.concatenate(each) for each in zip(*self._decided, strict=True)))

    def _add(
        self, rows: Rows, kinds: Words, becomes: int, way: int, gate: int, decider: Rows | int, back: Rows | int = 0
    ) -> None:
        if len(rows):
            key = np.zeros((len(rows), 5), dtype=np.int64)
            for column, value in enumerate((becomes, way, gate, decider, back)):
                key[:, column] = value
            self._decided.append(Decided(rows, key, kinds))

    def _note(self, slot: Slot, at: int, stops: Words) -> None:
        fresh = np.broadcast_to(self.trace.alive & stops, self.shape)[0]
        rows = np.flatnonzero(fresh.any(axis=-1))
        if not len(rows):
            return
        self.trace.alive = self.trace.alive & ~stops
        kinds = fresh[rows]
        becomes = STOPPED_BACK if self._is_reply else STOPPED
        if self._is_dead_end(slot):
            self._note_dead_end(at, rows, kinds)
        elif slot.kind in (SETTLED, ZONE_DEFAULT):
            stop = slot.gate.step.stop
            named = self._route_tables() if stop is not None and stop.names_entry else np.zeros((1, 1), dtype=np.int64)
            self._add(rows, kinds, becomes, self._way, at, 0, np.broadcast_to(named, self.shape[:2])[0][rows])
        elif slot.kind == LISTENER:
            self._note_refused(rows, kinds)
        else:
            self._note_rules(slot, rows, kinds, becomes)

    def _note_dead_end(self, at: int, rows: Rows, kinds: Words) -> None:
        """Note what the sender's own router has no way on for: of each sender by itself, and of what the gates in front
        keep state for by itself; of messages that nobody refuses as well."""
        silent = kinds & self._judge.never_refused
        parts: list[tuple[tuple[int, ...], Words]] = [((), kinds & ~silent), ((_SILENT,), silent)]
        for number, kept in enumerate(self._kept):
            if kept.any():
                mine = np.broadcast_to(kept, self.shape)[0][rows]
                split = (part for by, some in parts for part in ((by, some & ~mine), ((*by, number), some & mine)))
                parts = [part for part in split if part[1].any()]
        own, known = self._sides[SENDER].own[rows], self._judge.keeping
        for by, some in parts:
            met = np.flatnonzero(some.any(axis=-1))
            self._add(rows[met], some[met], STOPPED, self._way, at, 0,
                      own[met] << _KEEPING | known.setdefault(by, 1 + len(known)))  # fmt: skip

    def _note_rules(self, slot: Slot, rows: Rows, kinds: Words, becomes: int) -> None:
        """Note what the rules of filters decide."""
        if self._otherwise is not None:
            is_last, decider = (np.broadcast_to(each, self.shape[:2])[0][rows] for each in self._otherwise)
            self._add(rows[is_last], kinds[is_last], becomes, NONE, slot.side, decider[is_last])
            rows, kinds = rows[~is_last], kinds[~is_last]
        if not len(rows):
            return
        lists, *ends = (np.broadcast_to(each, self.shape[:2])[0][rows] for each in self._asked)
        rules = self._judge.rules[self._is_reply]
        begin, count = rules.done(lists, *ends).deciding
        deciders, words = rules.decided()
        each = np.repeat(np.arange(len(rows)), count)
        place = np.arange(len(each)) - np.repeat(np.cumsum(count) - count, count) + begin[each]
        mine = kinds[each] & words[place]
        met = np.flatnonzero(mine.any(axis=-1))
        self._add(rows[each[met]], mine[met], becomes, NONE, slot.side, deciders[place[met]])

    def _note_refused(self, rows: Rows, kinds: Words) -> None:
        """Note what a listener refuses, until it is known which resets get back."""
        lists = self._layout.lists
        numbers, which = numbered(self._layout.listening_at(self._sides[RECEIVER].sent_to[rows].astype(np.int32)))
        elsewhere = kinds & np.stack([self._judge.listened(number)[1] for number in numbers.tolist()])[which]
        for some, decider in ((kinds & ~elsewhere, NOTHING_LISTENS), (elsewhere, BOUND_ELSEWHERE)):
            met = np.flatnonzero(some.any(axis=-1))
            self._refused.append((rows[met], some[met], lists.decider(decider)))
        full = np.zeros(self.shape, dtype=np.uint64)
        full[0, rows] = kinds
        self._reset = full

    def _note_reset(self, lost: Words) -> None:
        self._lost = lost

    def _add_refusals(self) -> None:
        lost = np.broadcast_to(self._judge.none if self._lost is None else self._lost, self.shape)[0]
        for rows, kinds, decider in self._refused:
            for back, some in ((_GETS_BACK, kinds & ~lost[rows]), (_IS_LOST, kinds & lost[rows])):
                met = np.flatnonzero(some.any(axis=-1))
                self._add(rows[met], some[met], STOPPED, NONE, LISTENER_GATE, decider, back)
