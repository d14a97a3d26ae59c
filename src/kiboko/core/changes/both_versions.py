"""Pairs of ends judged in two versions of a network: which of them come to something else, and to what."""

from __future__ import annotations

import bisect
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.changes.sides import Chosen, names_of
from kiboko.core.changes.touched import Touched
from kiboko.core.errors import UsageError
from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet, shared_parts
from kiboko.core.queries.members import Member
from kiboko.core.reachability.common_ends import common_ends, machines_of, pieces_of
from kiboko.core.reachability.space import Space, SpaceEnd, usual_of
from kiboko.core.reachability.statuses import Statuses
from kiboko.core.spreading import Spread

Rows = NDArray[np.int64]
Table = NDArray[np.int32]
MOST_PAIRS = 4_000_000
"""As many pairs are compared in any case."""
_MOST_WORDS = 200_000_000
"""As many words of 64 kinds of traffic are compared for all pairs together."""
_FEW_PAIRS = 1_000_000
"""As many pairs are sooner compared than processes started."""
_PIECE = 1 << 20
"""As many pairs are compared at once."""
_MOST_FLAGS = 1 << 27
"""As many pairs of outcomes are told apart by a table of all of them."""


@dataclass(frozen=True, slots=True)
class Turn:
    """What a service came to, and comes to: the verdicts, and the client ports that get an answer where they are not
    all or none."""

    verdicts: tuple[str, str]
    ports: tuple[RangeSet, RangeSet]


@dataclass(frozen=True, slots=True)
class Turned:
    """Pairs that come to something else on any service: of some senders and receivers, by their places, int64[n] and
    int64[m], a `table` int32[n, m] of places in `patterns`. A pattern says of every service how it turned, None where
    it did not; the first is that of pairs that come to the same."""

    senders: Rows
    receivers: Rows
    table: Table
    patterns: list[tuple[Turn | None, ...]]


class _Side:
    """The ends of one side in one family, each as either version has it."""

    def __init__(self, spaces: tuple[Space, Space], pairs: list[tuple[SpaceEnd, SpaceEnd]], family: int) -> None:
        self.pairs, self._family = pairs, family
        self._rows: dict[str, list[int]] = {}
        for row, pair in enumerate(pairs):
            versions = list(zip(spaces, pair, strict=True))[pair[0] is pair[1] :]  # once, where they are the same
            for name in {name for space, end in versions for name in names_of(space.ends, end.members[0])}:
                self._rows.setdefault(name, []).append(row)
        self._ranges: list[tuple[int, Member]] = []
        self._singles = self._note_addresses()
        self._among: dict[AddressSet, NDArray[np.bool_]] = {}
        # What a machine comes to at one address is told beside what it comes to at another.
        with_further = {pair[1].instance for pair in pairs if pair[1].is_further}
        self._together: dict[str | None, list[int]] = {}
        for row, pair in enumerate(pairs):
            if pair[1].instance in with_further:
                self._together.setdefault(pair[1].instance, []).append(row)

    def chosen(self, some: Chosen) -> NDArray[np.bool_]:
        """Which of them are among some ends, in either version."""
        found = np.ones(len(self.pairs), dtype=np.bool_)
        if some.names is not None:
            found[:] = False
            for name in some.names:
                found[self._rows.get(name, [])] = True
        if some.addresses is not None:
            found &= self._addressed(some.addresses)
        for rows in self._together.values():
            found[rows] = found[rows].any()
        return found

    def _addressed(self, some: AddressSet) -> NDArray[np.bool_]:
        """Which of them have an address of the family among some, public ones too: no packet of theirs has another."""
        if some not in self._among:
            found = np.zeros(len(self.pairs), dtype=np.bool_)
            found[[row for row, member in self._ranges if member.is_among(some)]] = True
            values, rows = self._singles
            for low, high in some.family(self._family):
                found[rows[bisect.bisect_left(values, low) : bisect.bisect_right(values, high)]] = True
            self._among[some] = found
        return self._among[some]

    def _note_addresses(self) -> tuple[list[int], Rows]:
        """The addresses of machines in their order, and whose they are; what has ranges of addresses is noted."""
        singles: list[tuple[int, int]] = []
        for row, pair in enumerate(self.pairs):
            for member in dict.fromkeys(member for end in pair for member in end.members):
                if member.low is not None:
                    self._ranges.append((row, member))
                for interface in member.interfaces:
                    singles += [(each.value, row) for each in (*interface.addresses, interface.public)
                                if each is not None and each.family == self._family]  # fmt: skip
        singles.sort()
        return [value for value, _ in singles], np.array([row for _, row in singles], dtype=np.int64)


class OfFamily:
    """The pairs of one address family that a change touches, in both versions.

    Parameters
    ----------
    spaces : both versions
    anybody : everybody in each of them
    family : 4 or 6
    what : what the change touches; None for everything
    is_brief : refuse what would take more than some seconds
    """

    def __init__(
        self, spaces: tuple[Space, Space], anybody: Sequence[Sequence[Member]], family: int, what: Touched | None,
        is_brief: bool = False,
    ) -> None:  # fmt: skip
        self.spaces, self.family, self._touched = spaces, family, what
        self.moved: dict[str, None] = {}
        """Machines and ranges that either version has otherwise."""
        sides = []
        for is_sender in (True, False):
            if what is None or not what.is_of_rules:
                sides.append(_common(spaces, family, is_sender, anybody, self.moved))
            else:  # either has every end, and what tells ends apart in one does in both
                ends = spaces[1].ends_of(what.chosen(anybody[1], is_sender), family, is_sender, with_further=True)
                sides.append([(each, each) for each in ends])
        self.senders, self.receivers = sides
        pairs = self._pairs()
        # What any receiver listens to tells services apart, and is known before these are asked for.
        met = np.unique(np.concatenate([np.zeros(0, dtype=np.int64), *(columns for _, columns in pairs)])).tolist()
        for which, space in enumerate(spaces):
            space.prepare([self.receivers[column][which] for column in met])
        self._refuse_too_many(sum(len(rows) * len(columns) for rows, columns in pairs), is_brief)
        self._readings: list[Statuses] = []
        """Those of the last piece, which know the outcomes that were met."""
        self._pieces = [(rows, some) for rows, columns in pairs for some in self._parts(len(rows), columns)]
        if self._pieces:
            both = shared_parts(*(space.kinds(family).services for space in spaces))
            self.services = [shared for _, _, shared in both]
            """Services cut as finely as either version cuts them."""
            self._columns = [one for one, _, _ in both], [other for _, other, _ in both]

    def _pairs(self) -> list[tuple[Rows, Rows]]:
        """The pairs that the change touches, as products of senders and receivers; no pair is in two of them."""
        if self._touched is None:
            whole = [(np.arange(len(self.senders)), np.arange(len(self.receivers)))]
            return [each for each in whole if len(each[0]) and len(each[1])]
        senders, receivers = (_Side(self.spaces, pairs, self.family) for pairs in (self.senders, self.receivers))
        parts = dict.fromkeys(self._touched.parts)
        near = np.array([senders.chosen(one) for one, _ in parts], dtype=np.bool_)
        far = np.array([receivers.chosen(other) for _, other in parts], dtype=np.bool_)
        by_parts: dict[bytes, list[int]] = {}
        for row, parts_of_it in enumerate(near.T):
            by_parts.setdefault(parts_of_it.tobytes(), []).append(row)
        alike: dict[bytes, list[int]] = {}
        for key, rows in by_parts.items():
            columns = far[np.frombuffer(key, dtype=np.bool_)].any(axis=0)
            alike.setdefault(columns.tobytes(), []).extend(rows)
        found = [(np.array(sorted(rows)), np.flatnonzero(np.frombuffer(key, dtype=np.bool_)))
                 for key, rows in alike.items()]  # fmt: skip
        return [(rows, columns) for rows, columns in found if len(columns)]

    def _refuse_too_many(self, pairs: int, is_brief: bool) -> None:
        """Raise UsageError for more pairs than are compared in a minute or two: the fewer, the more kinds of traffic
        there are."""
        if pairs <= MOST_PAIRS:
            return
        if is_brief:
            raise UsageError(f"it touches {pairs:,} pairs of ends, which takes a while: --write-change FILE and"
                             " rehearse tell")  # fmt: skip
        if pairs * self.spaces[-1].kinds(self.family).words > _MOST_WORDS:
            raise UsageError(
                f"the change touches {pairs:,} pairs of ends, more than are compared one by one: look at a part of"
                " the traffic (--service), or ask for 'matrix --against', group by group"
            )

    def _parts(self, rows: int, columns: Rows) -> Iterator[Rows]:
        """Receivers in parts that are compared at once with so many senders: those of one place near each other, and
        of one machine in one part."""
        ends = [self.receivers[column][1] for column in columns.tolist()]
        places = self.spaces[1].layout.ends_of(np.array([each.atom for each in ends], dtype=np.int32))[4].tolist()
        first: dict[str, tuple[int, int]] = {}
        order = [first.setdefault(each.instance, (place, at)) if each.instance is not None else (place, at)
                 for at, (place, each) in enumerate(zip(places, ends, strict=True))]  # fmt: skip
        ordered = sorted(range(len(order)), key=order.__getitem__)
        step, at = max(1, _PIECE // max(1, rows)), 0
        while at < len(ordered):
            end = min(at + step, len(ordered))
            while end < len(ordered) and order[ordered[end]] == order[ordered[end - 1]]:
                end += 1
            yield columns[np.sort(ordered[at:end])]
            at = end

    def turned(self, spread: Spread = map) -> Iterator[Turned]:
        """What turns, part by part; no pair is in two of them. Of few pairs `spread` is not asked."""
        numbers = range(len(self._pieces))
        pairs = sum(len(rows) * len(columns) for rows, columns in self._pieces)
        found = spread(self._turned, numbers) if pairs > _FEW_PAIRS else map(self._turned, numbers)
        yield from (each for each in found if each is not None)

    def _turned(self, number: int) -> Turned | None:
        """What turns of one piece."""
        rows, columns = self._pieces[number]
        tables: list[Table] = []
        readings: list[Statuses] = []
        for which, space in enumerate(self.spaces):
            senders = [self.senders[row][which] for row in rows.tolist()]
            receivers = [self.receivers[column][which] for column in columns.tolist()]
            kinds = space.kinds(self.family)
            like = self._readings[which] if self._readings else readings[0] if readings else None
            reading = Statuses(kinds, senders, like if like is not None and like.kinds.kinds == kinds.kinds else None)
            table = np.zeros((len(columns), len(rows)), dtype=np.int32)
            for block in space.blocks(senders, receivers, self.family, kinds):
                ids = reading.ids(block.senders, block.outcome.arrives, block.outcome.answered, block.outcome.doubtful)
                where = np.ix_(block.receivers, block.senders)
                table[where] = np.where(block.there, ids, table[where])
            tables.append(table)
            readings.append(reading)
        for side, among, is_far in ((self.senders, rows, True), (self.receivers, columns, False)):
            by_end = [table.T if is_far else table for table in tables]
            for place, usual in usual_of([side[end][1] for end in among.tolist()]):
                # Of an end at a further address what its machine comes to as well is told of that.
                alike = np.all([table[place] == table[usual].max(axis=0) for table in by_end], axis=0)
                for table in by_end:
                    table[place][alike] = 0
        self._readings = readings
        outcomes = _Outcomes(readings[0], readings[1], self._columns)
        codes, differ = outcomes.differing(tables[0], tables[1])
        columns_, rows_ = np.flatnonzero(differ.any(axis=1)), np.flatnonzero(differ.any(axis=0))
        if not len(rows_):
            return None
        where = np.ix_(columns_, rows_)
        table, patterns = outcomes.patterns(codes[where], differ[where])
        return Turned(rows[rows_], columns[columns_], np.ascontiguousarray(table.T), patterns)


class _Outcomes:
    """Pairs of outcomes, of two versions, service by service: services are cut as finely as either cuts them."""

    def __init__(self, old: Statuses, new: Statuses, columns: tuple[list[int], list[int]]) -> None:
        self._readings, self._known, self._columns = (old, new), (old.known, new.known), columns
        self._width = len(new)
        self._turns: dict[int, Turn | None] = {}

    def differing(self, before: Table, after: Table) -> tuple[Rows, NDArray[np.bool_]]:
        """Pairs of outcomes as one number each, and which of these differ on any service."""
        codes = before.astype(np.int64) * self._width + after
        if self._known[0] is self._known[1] and not (before != after).any():
            return codes, np.zeros(codes.shape, dtype=np.bool_)
        size = len(self._readings[0]) * self._width
        if size > _MOST_FLAGS:
            met, back = np.unique(codes, return_inverse=True)
            return codes, self._differ(met)[back.reshape(codes.shape)]
        flags = np.zeros(size, dtype=np.bool_)
        flags[codes] = True
        met = np.flatnonzero(flags)
        flags[met] = self._differ(met)
        return codes, flags[codes]

    def _differ(self, codes: Rows) -> NDArray[np.bool_]:
        """Which pairs of outcomes differ on any service."""
        return np.array([any(each is not None for each in turns) for turns in self._patterns(codes)], dtype=np.bool_)

    def patterns(self, codes: Rows, differ: NDArray[np.bool_]) -> tuple[Table, list[tuple[Turn | None, ...]]]:
        """What differs of some pairs as places in a list of patterns: the pair's, its services'."""
        met = np.unique(codes[differ])
        found = list(self._patterns(met))
        numbered: dict[tuple[Turn | None, ...], int] = {(None,) * len(self._columns[0]): 0}
        places = np.array([numbered.setdefault(each, len(numbered)) for each in found], dtype=np.int32)
        table = np.zeros(codes.shape, dtype=np.int32)
        table[differ] = places[np.searchsorted(met, codes[differ])]
        return table, list(numbered)

    def _patterns(self, codes: Rows) -> Iterator[tuple[Turn | None, ...]]:
        """Of some pairs of outcomes how each service turned."""
        before, after = (
            reading.rows(ids)[:, columns].astype(np.int64)
            for reading, ids, columns in zip(self._readings, np.divmod(codes, self._width), self._columns, strict=True)
        )
        for row in (before * len(self._known[1]) + after).tolist():
            yield tuple(map(self._turn, row))

    def _turn(self, number: int) -> Turn | None:
        """How a service turned, by such a number; None where it did not."""
        if number not in self._turns:
            numbers = divmod(number, len(self._known[1]))
            was, is_ = (known[each] for known, each in zip(self._known, numbers, strict=True))
            is_same = was.verdict_text == is_.verdict_text and was.ports == is_.ports
            turn = None if is_same else Turn((was.verdict_text, is_.verdict_text), (was.ports, is_.ports))
            self._turns[number] = turn
        return self._turns[number]


def _common(
    spaces: tuple[Space, Space], family: int, is_sender: bool, chosen: Sequence[Sequence[Member]],
    moved: dict[str, None],
) -> list[tuple[SpaceEnd, SpaceEnd]]:  # fmt: skip
    """The ends that both versions have, each as either has it. What has none in the other is noted in `moved`."""
    found = tuple(
        space.ends_of(some, family, is_sender, with_further=True) for space, some in zip(spaces, chosen, strict=True)
    )
    machines = [machines_of(ends, space) for ends, space in zip(found, spaces, strict=True)]
    for keys, others in ((machines[0], machines[1]), (machines[1], machines[0])):
        moved.update((end.instance or end.name, None) for key, end in keys.items()
                     if key not in others and not end.is_further)  # fmt: skip
    pieces = [pieces_of(ends) for ends in found]
    for spans, rest in ((pieces[0], pieces[1]), (pieces[1], pieces[0])):
        left = [span for span in spans if span not in rest]
        if left:
            ranges = RangeSet.of((low.value, high.value) for low, high in left)
            moved.update(
                (text, None) for text in (AddressSet(ranges) if family == 4 else AddressSet(v6=ranges)).texts()
            )
    return common_ends(spaces, (found[0], found[1]))
