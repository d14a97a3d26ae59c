"""Senders by receivers in blocks between which ways have the same gates, so that each block is judged as a whole."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from kiboko.core.tables.layout import GateLayout
from kiboko.core.tables.pair_words import Side
from kiboko.core.tables.places import NONE

T = TypeVar("T")
Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]
_MOST_WORDS = 1 << 18
"""As many words of one gate as fit beside the others into a processor's cache."""
_MOST_PAIRS = 1 << 22
"""As many pairs are told apart at once."""


@dataclass(frozen=True, slots=True)
class Senders:
    """Senders that are all outside at one place, or all within: their `rows` among those asked about, what they are by
    atoms, the rows of each place, which of them stand for several ends, and those that do not send everywhere (clause
    S3) with the subnet that they send to alone and those that they do not send to."""

    outside: str | None
    rows: Rows
    own: Side
    by_place: list[Rows]
    several: Truths
    choosy: list[tuple[int, int, frozenset[int]]]

    @classmethod
    def of(
        cls, layout: GateLayout, outside: str | None, rows: Rows, atoms: Rows, several: Truths,
        choosy: list[tuple[int, int, frozenset[int]]],
    ) -> Senders:  # fmt: skip
        """Senders by the atoms of their own addresses."""
        own = Side.of(layout, atoms)
        return cls(outside, rows, own, _groups(own.place), several, choosy)


class PairBlocks(Generic[T]):
    """The pairs of such senders with some receivers, block by block: those of one way, or of ways with the same gates.

    Parameters
    ----------
    layout : the gates of the network
    judge : what is to be made of a block, of its way, its senders and its receivers
    width : how many words `judge` handles for each pair
    sent : the senders
    theirs, to, several : the receivers: their rows among those asked about, what they are, which stand for several ends
    alike : a number for each way, equal for those that may stand in one block; by default those with the same gates do
    """

    def __init__(
        self, layout: GateLayout, judge: Callable[[int, Side, Side], T], width: int, sent: Senders, theirs: Rows,
        to: Side, several: Truths, alike: Callable[[int], int] | None = None,
    ) -> None:  # fmt: skip
        self._layout, self._judge, self._width, self._sent = layout, judge, width, sent
        self._theirs, self._to, self._several = theirs, to, several
        self._number = alike or layout.alike

    def blocks(self) -> Iterator[tuple[Rows, Rows, Truths, T]]:
        """The receivers of each place with the senders of all places from which the way to it has the same gates: the
        rows of both, bool[receivers, senders] which pairs there are, and what is made of them."""
        step = max(1, _MOST_PAIRS // max(1, len(self._sent.rows)))
        for columns in _groups(self._to.place):
            for at in range(0, len(columns), step):
                yield from self._to_place(columns[at : at + step])

    def _to_place(self, columns: Rows) -> Iterator[tuple[Rows, Rows, Truths, T]]:
        own, to = self._sent.own, self._to.taken(columns)
        alone = (own.machine[None, :] == to.machine[:, None]) & (own.machine != NONE)[None, :]
        # Of one atom there is a pair where it stands for more than one address.
        several = self._sent.several[None, :] | self._several[columns][:, None]
        there = ~(alone | ((own.own[None, :] == to.own[:, None]) & ~several))
        self._forbid(there, to)
        same = (own.subnet[None, :] == to.subnet[:, None]) & (own.subnet != NONE)[None, :]
        near, same = same & there, there & ~same
        yield from self._alike(self._sent.by_place, columns, same)
        for subnet in np.unique(own.subnet[near.any(axis=0)]).tolist():
            mine, far = own.subnet == subnet, np.flatnonzero(to.subnet == subnet)
            yield from self._alike([rows[mine[rows]] for rows in self._sent.by_place], columns[far], near[far])

    def _forbid(self, there: Truths, to: Side) -> None:
        """Take out the pairs of machines of several interfaces that send by another of them (clause S3)."""
        for row, only, elsewhere in self._sent.choosy:
            there[:, row] &= to.subnet == only if only != NONE else ~np.isin(to.subnet, list(elsewhere))

    def _alike(self, by_place: Sequence[Rows], columns: Rows, there: Truths) -> Iterator[tuple[Rows, Rows, Truths, T]]:
        """The senders of some places with the receivers of one, of which `there` bool[receivers, all senders] tells
        which pairs there are: those whose ways have the same gates together."""
        together: dict[int, tuple[int, list[Rows]]] = {}
        for rows in by_place:
            met = there[:, rows]
            if met.any():
                way = self._way(rows, columns, met)
                together.setdefault(self._number(way), (way, []))[1].append(rows)
        for way, groups in together.values():
            rows = np.sort(np.concatenate(groups))
            own = self._sent.own.taken(rows)
            step = max(1, _MOST_WORDS // (max(1, self._width) * len(rows)))
            for at in range(0, len(columns), step):
                some = columns[at : at + step]
                met = there[at : at + step, rows]
                if met.any():
                    made = self._judge(way, own, self._to.taken(some))
                    yield self._sent.rows[rows], self._theirs[some], met, made

    def _way(self, rows: Rows, columns: Rows, there: Truths) -> int:
        """The way of the senders of one place to the receivers of another, by a pair that there is."""
        layout = self._layout
        column, row = divmod(int(there.argmax()), there.shape[1])
        target = int(self._to.sent_to[columns[column]])
        sender = layout.end(int(self._sent.own.sent_to[rows[row]]))
        receiver = layout.end(target)
        if sender.own == receiver.own:
            return layout.way_within(receiver)
        return layout.way_between(sender, target, receiver)


def _groups(values: Rows) -> list[Rows]:
    """The places of equal values, for each value."""
    order = np.argsort(values, kind="stable")
    bounds = np.flatnonzero(np.diff(values[order])) + 1
    return np.split(order, bounds)
