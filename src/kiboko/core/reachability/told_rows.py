"""What very many pairs of classes come to, as columns: one row for each distinct outcome, with an example.

Pairs that come to the same stand in one group, of which one pair is asked what decides (`AlikePairs.decided`); what is
said of groups, families and services stays columns of numbers until rows are made of it.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import TCP, WITH_PORTS, Service
from kiboko.core.reachability.alike_classes import AlikeClasses
from kiboko.core.reachability.cell_columns import CellColumns
from kiboko.core.records.columns import ascending, distinct
from kiboko.core.tables.kinds import Kinds, Words, as_truths, as_words
from kiboko.core.tables.places import NONE
from kiboko.core.walk.walk import Walk

Rows = NDArray[np.int64]
WalkOf = Callable[[int, int, Service], Walk]
"""The walk of a group's first pair, in a family and on a service."""
_MOST_BITS = 1 << 24
_KINDS = 3
"""Outcomes are told apart by the kind of the ends as well, as one number."""


class ToldRow(NamedTuple):
    """What some pairs of one kind come to: `family` None where it is the same in all families, or there is one alone;
    `outcome` its number; `order` the group in which it is first met, and how far back there; the walk of an example of
    that group."""

    kind: int
    family: int | None
    outcome: int
    order: tuple[int, int]
    walk: Walk
    cells: CellColumns


@dataclass(frozen=True, slots=True)
class _Outcomes:
    """What groups come to in one family, sorted by group and outcome: int64[n] each, on which services, by the kinds of
    all families, and which of them is the first."""

    group: Rows
    outcome: Rows
    kinds: Words
    rank: Rows


class ToldRows:
    """The rows of all groups whose pairs come to the same.

    Parameters
    ----------
    alike : the groups, which can be told by kinds of services (`AlikeClasses.is_aligned`)
    walk : walks the first pair of a group
    outcome_of : the number of what a walk comes to
    usual : numbers of services that people ask about, of which an example is one where it can be
    """

    def __init__(
        self, alike: AlikeClasses, walk: WalkOf, outcome_of: Callable[[Walk], int], usual: Sequence[int] = ()
    ) -> None:
        self._alike, self._groups = alike, alike.groups
        self._walk, self._outcome_of, self._usual = walk, outcome_of, usual
        self._outcomes: dict[tuple[int, ...], int] = {}
        self._walked: dict[tuple[int, int, int], Walk] = {}
        listed = {family: each.kinds for family, each in alike.families.items()}
        self._services = list(dict.fromkeys(each for kinds in listed.values() for each in kinds.services))
        """All kinds of services of any family."""
        spans = sorted((pair, kind) for kind, services in enumerate(self._services) for pair in services)
        self._spans = [pair for pair, _ in spans]
        self._kind_of = np.array([kind for _, kind in spans], dtype=np.int64)
        place = {services: number for number, services in enumerate(self._services)}
        self._place = {family: np.array([place[each] for each in kinds.services], dtype=np.int64)
                       for family, kinds in listed.items()}  # fmt: skip
        self._rank = {family: _ranks(kinds) for family, kinds in listed.items()}
        self._words = max(1, -(-len(self._services) // 64))

    def rows(self) -> list[ToldRow]:
        """All of them, in the order in which they are first met."""
        told = np.flatnonzero(self._groups.is_told)
        if not len(told):
            return []
        found = {family: self._of_family(family, told) for family in self._alike.families}
        group, outcome, family, kinds, rank = self._together(list(found.items()))
        if not len(group):  # no service that is asked about travels in any family
            return []
        rows_of = distinct(outcome, family)
        order = np.lexsort((group, rows_of.codes))
        services = distinct(*kinds.T)
        sets = [self._all_of(words) for words in kinds[services.first]]
        rows = []
        for mine in np.split(order, np.cumsum(rows_of.counts())[:-1]):
            first = mine[0]
            cells = self._cells(group[mine], services.codes[mine], sets)
            rows.append(self._row(int(group[first]), int(outcome[first]), int(family[first]), kinds[first],
                                  int(rank[first]), cells))  # fmt: skip
        rows.sort(key=lambda row: row.order)
        return rows

    def _row(self, group: int, outcome: int, family: int, kinds: Words, rank: int, cells: CellColumns) -> ToldRow:
        asked = family or self._family_of(group)
        bits = as_truths(kinds[None], len(self._services))[0][self._place[asked]]
        if not bits.any():  # services that travel in the other family alone
            asked = next(each for each in self._alike.families if each != asked)
            bits = as_truths(kinds[None], len(self._services))[0][self._place[asked]]
        known = self._alike.families[asked].kinds
        mine = RangeSet.of(pair for kind in np.flatnonzero(bits).tolist() for pair in known.services[kind])
        number = next((each for each in self._usual if each in mine), None)
        if number is None:
            number = known.kinds[min(np.flatnonzero(bits).tolist(), key=self._rank[asked].__getitem__)].service
        walk = self._walk_of(group, asked, number)
        return ToldRow(outcome % _KINDS, family or None, outcome // _KINDS, (group, rank), walk, cells)

    def _family_of(self, group: int) -> int:
        """The first family of a group's pairs."""
        one = np.array([group])
        ends = self._groups.source[one], self._groups.destination[one]
        return next(family for family, each in self._alike.families.items() if each.there(*ends)[0])

    def _walk_of(self, group: int, family: int, number: int) -> Walk:
        key = group, family, number
        if key not in self._walked:
            self._walked[key] = self._walk(group, family, Service(number >> 16, number & 0xFFFF))
        return self._walked[key]

    def _all_of(self, words: Words) -> RangeSet:
        """The services of some kinds."""
        bits = as_truths(words[None], len(self._services))[0]
        return RangeSet.of(itertools.compress(self._spans, bits[self._kind_of].tolist()))

    def _cells(self, groups: Rows, services: Rows, sets: list[RangeSet]) -> CellColumns:
        """All pairs of some groups, with the services of each."""
        begin = self._groups.begin
        size = begin[groups + 1] - begin[groups]
        ends = np.cumsum(size)
        place = np.arange(int(ends[-1])) + np.repeat(begin[groups] - (ends - size), size)
        return CellColumns(sets, np.repeat(services, size), self._groups.sources[place],
                           self._groups.destinations[place])  # fmt: skip

    # What decides, of one family and of both.

    def _of_family(self, family: int, told: Rows) -> _Outcomes:
        """What the groups come to in one family."""
        known = self._alike.families[family]
        sources, destinations = self._groups.source[told], self._groups.destination[told]
        there = np.flatnonzero(known.there(sources, destinations))
        if not len(there) or not len(known.kinds):
            none = np.zeros(0, dtype=np.int64)
            return _Outcomes(none, none, np.zeros((0, self._words), dtype=np.uint64), none)
        made = known.decided(sources[there], destinations[there])
        group = told[there[made.pair]]
        kind = self._alike.kinds(group)
        rank, chosen = self._first_kinds(family, made.kinds)
        order = np.lexsort((rank, group))
        keys = distinct(kind[order], *made.key[order].T)
        outcomes = np.zeros(len(keys), dtype=np.int64)
        for place, at in enumerate(order[keys.first].tolist()):
            key = int(kind[at]), *made.key[at].tolist()
            if key not in self._outcomes:  # whatever the family, the same rule has come to the same
                number = known.kinds.kinds[int(chosen[at])].service
                self._outcomes[key] = self._outcome_of(self._walk_of(int(group[at]), family, number))
            outcomes[place] = self._outcomes[key] * _KINDS + kind[at]
        outcome = np.empty(len(group), dtype=np.int64)
        outcome[order] = outcomes[keys.codes]
        return self._merged(family, group, outcome, made.kinds, rank)

    def _first_kinds(self, family: int, kinds: Words) -> tuple[Rows, Rows]:
        """Of some kinds each the first one's rank, and the kind."""
        rank = self._rank[family]
        by_rank = np.argsort(rank)
        found = np.zeros(len(kinds), dtype=np.int64)
        step = max(1, _MOST_BITS // max(1, len(rank)))
        for at in range(0, len(kinds), step):
            found[at : at + step] = as_truths(kinds[at : at + step], len(rank))[:, by_rank].argmax(axis=1)
        return found, by_rank[found]

    def _merged(self, family: int, group: Rows, outcome: Rows, kinds: Words, rank: Rows) -> _Outcomes:
        """Each outcome of a group once, with all kinds of services on which it is met."""
        if self._place[family].tolist() != list(range(len(self._services))):
            kinds = self._moved(family, kinds)
        width = int(outcome.max(initial=0)) + 1
        codes = group * width + outcome
        order = np.argsort(codes, kind="stable")
        starts = np.flatnonzero(np.diff(codes[order], prepend=NONE))
        return _Outcomes(
            group[order[starts]], outcome[order[starts]], np.bitwise_or.reduceat(kinds[order], starts, axis=0),
            np.minimum.reduceat(rank[order], starts),
        )  # fmt: skip

    def _moved(self, family: int, kinds: Words) -> Words:
        """Kinds of one family as those of all."""
        place = self._place[family]
        moved = np.zeros((len(kinds), self._words), dtype=np.uint64)
        step = max(1, _MOST_BITS // max(1, len(self._services)))
        for at in range(0, len(kinds), step):
            part = kinds[at : at + step]
            bits = np.zeros((len(part), len(self._services)), dtype=np.bool_)
            bits[:, place] = as_truths(part, len(place))
            moved[at : at + step] = as_words(bits, self._words)
        return moved

    def _together(self, found: list[tuple[int, _Outcomes]]) -> tuple[Rows, Rows, Rows, Words, Rows]:
        """What groups come to: group, outcome, family (0 where it is the same in either or there is one alone), kinds
        of services and rank, by columns."""
        if len(found) == 1:
            ((_, only),) = found
            return only.group, only.outcome, np.zeros(len(only.group), dtype=np.int64), only.kinds, only.rank * 2
        width = 1 + max(int(each.outcome.max(initial=0)) for _, each in found)
        codes = [each.group * width + each.outcome for _, each in found]
        union = ascending(np.concatenate(codes))[0]
        group, outcome = np.divmod(union, width)
        words = np.zeros((2, len(union), self._words), dtype=np.uint64)
        rank = np.full((2, len(union)), 1 << 30, dtype=np.int64)
        for side, ((_, each), mine) in enumerate(zip(found, codes, strict=True)):
            at = np.searchsorted(union, mine)
            words[side, at], rank[side, at] = each.kinds, each.rank + (side << 20)
        either = self._in_both(found)
        has = [np.isin(group, each.group) for _, each in found]
        # What both come to is told once; a service of one family alone is of that family and needs no saying so.
        alone = ~(has[0] & has[1])[:, None]
        same = words[0] & words[1]
        shared = [same | each & ~either | np.where(alone, each, np.uint64(0)) for each in words]
        rest = [np.where(alone, np.uint64(0), each & either & ~same) for each in words]
        first = np.where((shared[0] != 0).any(axis=1), rank[0], rank[1])
        parts = [(0, shared[0] | shared[1], first * 2)]
        parts += [(family, rest[side], rank[side] * 2 + 1) for side, (family, _) in enumerate(found)]
        columns = []
        for family, kinds, ranks in parts:
            met = np.flatnonzero((kinds != 0).any(axis=1))
            columns.append((group[met], outcome[met], np.full(len(met), family), kinds[met], ranks[met]))
        made = [np.concatenate(each) for each in zip(*columns, strict=True)]
        return made[0], made[1], made[2], made[3], made[4]

    def _in_both(self, found: list[tuple[int, _Outcomes]]) -> Words:
        """The kinds of services that travel in either family."""
        bits = np.zeros((len(found), len(self._services)), dtype=np.bool_)
        for side, (family, _) in enumerate(found):
            bits[side, self._place[family]] = True
        both: NDArray[np.bool_] = np.logical_and.reduce(bits)
        return as_words(both, self._words)


def _ranks(kinds: Kinds) -> Rows:
    """In which order kinds are told: those of TCP, which people mostly ask about, of other protocols with ports, the
    rest."""
    protocols = [kind.service >> 16 for kind in kinds.kinds]
    told = [(each != TCP) + (each not in WITH_PORTS) for each in protocols]
    ranks = np.empty(len(told), dtype=np.int64)
    ranks[np.argsort(told, kind="stable")] = np.arange(len(told))
    return ranks
