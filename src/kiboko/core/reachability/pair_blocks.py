"""Senders by receivers in blocks between which ways have the same gates, so that each block is judged as a whole."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from kiboko.core.records.columns import ascending, distinct
from kiboko.core.tables.layout import GateLayout
from kiboko.core.tables.pair_tables import Side
from kiboko.core.tables.places import NONE, PlacedEnd
from kiboko.core.tables.sent_off import NO_WAY

T = TypeVar("T")
WayOf = Callable[[PlacedEnd, int, PlacedEnd], int]
"""The number of the way from a sender to an address of a receiver."""
Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]
_MOST_WORDS = 1 << 17
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
    way : what finds the way of a flow, by default `GateLayout.way_between`; one of `SentOff` where that tells enough
    """

    def __init__(
        self, layout: GateLayout, judge: Callable[[int, Side, Side], T], width: int, sent: Senders, theirs: Rows,
        to: Side, several: Truths, alike: Callable[[int], int] | None = None, way: WayOf | None = None,
    ) -> None:  # fmt: skip
        self._layout, self._judge, self._width, self._sent = layout, judge, width, sent
        self._theirs, self._to, self._several = theirs, to, several
        self._number = alike or layout.alike
        self._way_between = way or layout.way_between

    def blocks(self) -> Iterator[tuple[Rows, Rows, Truths, T]]:
        """Receivers with the senders from which the ways to all of them have the same gates: the rows of both,
        bool[receivers, senders] which pairs there are, and what is made of them."""
        for columns, there, near in self._parts():
            yield from self._alike(self._sent.by_place, columns, there & ~near)
            for by_place, far in self._by_subnet(columns, near):
                yield from self._alike(by_place, columns[far], near[far])

    def between_subnets(self) -> Iterator[tuple[Rows, Rows, Truths, T]]:
        """The blocks of those pairs whose ends are not of one subnet."""
        for columns, there, near in self._parts():
            yield from self._alike(self._sent.by_place, columns, there & ~near)

    def within_subnets(self) -> Iterator[tuple[int, Rows, Rows]]:
        """The other pairs, those together whose ways have the same gates: a way, and of each pair the row of its sender
        and of its receiver."""
        for columns, _, near in self._parts():
            met, rows = np.nonzero(near)
            for way, pairs in self.by_way(rows, columns[met]):
                yield way, self._sent.rows[rows[pairs]], self._theirs[columns[met[pairs]]]

    def by_way(self, rows: Rows, columns: Rows) -> Iterator[tuple[int, Rows]]:
        """Some pairs, each by its place among the senders and among the receivers: those together whose ways have the
        same gates, with one of the ways."""
        if not len(rows):
            return
        own, to = self._sent.own, self._to
        same = (own.subnet[rows] == to.subnet[columns]) & (own.subnet[rows] != NONE)
        places = distinct(own.place[rows], to.place[columns], same.astype(np.int64))
        ways = [self._way_of(int(rows[at]), int(columns[at])) for at in places.first.tolist()]
        alike = distinct(np.array([self._number(way) for way in ways], dtype=np.int64)[places.codes])
        order = np.argsort(alike.codes, kind="stable")
        for pairs in np.split(order, np.cumsum(alike.counts())[:-1]):
            yield ways[int(places.codes[pairs[0]])], pairs

    def _parts(self) -> Iterator[tuple[Rows, Truths, Truths]]:
        """Some receivers, bool[receivers, senders] which pairs there are, and which of them are of one subnet. Those of
        one place stand beside each other."""
        step = max(1, _MOST_PAIRS // max(1, len(self._sent.rows)))
        order = np.argsort(self._to.place, kind="stable")
        own = self._sent.own
        for at in range(0, len(order), step):
            columns = order[at : at + step]
            to = self._to.taken(columns)
            alone = (own.machine[None, :] == to.machine[:, None]) & (own.machine != NONE)[None, :]
            # Of one atom there is a pair where it stands for more than one address.
            several = self._sent.several[None, :] | self._several[columns][:, None]
            there = ~(alone | ((own.own[None, :] == to.own[:, None]) & ~several))
            self._forbid(there, to)
            near = (own.subnet[None, :] == to.subnet[:, None]) & (own.subnet != NONE)[None, :]
            yield columns, there, near & there

    def _by_subnet(self, columns: Rows, near: Truths) -> Iterator[tuple[list[Rows], Rows]]:
        """The senders, place by place, and the receivers of each subnet that have near pairs."""
        own, to = self._sent.own, self._to.taken(columns)
        for subnet in ascending(own.subnet[near.any(axis=0)])[0].tolist():
            mine = np.flatnonzero(own.subnet == subnet)
            yield [mine[rows] for rows in _groups(own.place[mine])], np.flatnonzero(to.subnet == subnet)

    def _forbid(self, there: Truths, to: Side) -> None:
        """Take out the pairs of machines of several interfaces that send by another of them (clause S3)."""
        for row, only, elsewhere in self._sent.choosy:
            there[:, row] &= to.subnet == only if only != NONE else ~np.isin(to.subnet, list(elsewhere))

    def _alike(self, by_place: Sequence[Rows], columns: Rows, there: Truths) -> Iterator[tuple[Rows, Rows, Truths, T]]:
        """The senders of some places with some receivers, of which `there` bool[receivers, all senders] tells which
        pairs there are: those whose ways have the same gates together."""
        ways: dict[int, int] = {}
        met_by: dict[tuple[int, int], list[int]] = {}
        groups = _groups(self._to.place[columns])
        for number, group in enumerate(groups):
            for place, rows in enumerate(by_place):
                way = self._way(rows, columns, group, there)
                if way is not None:
                    alike = self._number(way) if way != NO_WAY else NO_WAY
                    ways.setdefault(alike, way)
                    met_by.setdefault((alike, number), []).append(place)
        together: dict[tuple[int, tuple[int, ...]], list[int]] = {}
        for (alike, number), places in met_by.items():
            together.setdefault((alike, tuple(places)), []).append(number)
        for (alike, from_), numbers in together.items():
            rows = np.sort(np.concatenate([by_place[place] for place in from_]))
            mine = np.concatenate([groups[number] for number in numbers])
            own = self._sent.own.taken(rows)
            step = max(1, _MOST_WORDS // (max(1, self._width) * len(rows)))
            for at in range(0, len(mine), step):
                some = mine[at : at + step]
                met = there[some][:, rows]
                if met.any():
                    made = self._judge(ways[alike], own, self._to.taken(columns[some]))
                    yield self._sent.rows[rows], self._theirs[columns[some]], met, made

    def _way(self, rows: Rows, columns: Rows, group: Rows, there: Truths) -> int | None:
        """The way of the senders of one place to a group of the receivers, all of another, by a pair that there is;
        None where there is no pair."""
        if not len(rows):
            return None
        at, row = 0, 0
        if not there[group[0], rows[0]]:
            met = there[group][:, rows]
            at, row = divmod(int(met.argmax()), met.shape[1])
            if not met[at, row]:
                return None
        return self._way_of(int(rows[row]), int(columns[group[at]]))

    def _way_of(self, row: int, column: int) -> int:
        """The way from a sender to a receiver."""
        layout = self._layout
        target = int(self._to.sent_to[column])
        sender = layout.end(int(self._sent.own.sent_to[row]))
        receiver = layout.end(target)
        if sender.own == receiver.own:
            return layout.way_within(receiver)
        return self._way_between(sender, target, receiver)


def _groups(values: Rows) -> list[Rows]:
    """The places of equal values, for each value."""
    order = np.argsort(values, kind="stable")
    bounds = np.flatnonzero(np.diff(values[order])) + 1
    return np.split(order, bounds)
