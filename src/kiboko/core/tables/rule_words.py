"""What the lists of filters do with all kinds of traffic at once: for each class of sources and each of destinations a
word of bits, one bit for each kind."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.records.columns import ascending, distinct
from kiboko.core.tables.boxes import DESTINATIONS, PORTS, SERVICES, SOURCES
from kiboko.core.tables.filter_lists import DROPS, REJECTS, UNFILTERED_TRACKED
from kiboko.core.tables.kinds import WORD, Kinds, Words, as_truths
from kiboko.core.tables.layout import GateLayout
from kiboko.core.tables.traces import Marks, mixed

Rows = NDArray[np.int64]
_BELOW = -UNFILTERED_TRACKED
"""As many numbers stand for no list: they come before the lists'."""
_MOST_ENTRIES = 1 << 22
_MOST_DECIDED = 1 << 18
"""So many where it is said what each rule decides on, which takes more room."""


@dataclass(frozen=True, slots=True)
class _Tables:
    """What lists do, uint64[entries, words] each: the kinds that a rule matches, those that are stopped, and those
    whose state is kept. `decides` uint64[entries] is a hash, equal where the same rule of one list decides on each
    kind; `begin` and `count` int64[entries] tell where it is said of each rule what it decides on. All three are 0
    where nobody asks for them. `lets` and `halts` uint64[entries, words] are the kinds of which it hangs on a rule's
    condition whether they pass: those that it lets pass if it holds, of what is stopped else, and those that it stops,
    of what passes else (clause S41); they have no words where no rule has a condition. `in_two_ways` bool[entries]
    tells whether something is stopped by a drop or by a refusal, by such a condition."""

    matched: Words
    stopped: Words
    kept: Words
    lets: Words
    halts: Words
    in_two_ways: NDArray[np.bool_]
    decides: Marks
    begin: Rows
    count: Rows


@dataclass(frozen=True, slots=True)
class Done:
    """What lists do with some packets, by the entries of tables: each is looked up when it is asked for."""

    _tables: _Tables
    _entries: Rows

    @property
    def which(self) -> Marks:
        """A hash of what decides on each kind, uint64[...]."""
        found: Marks = self._tables.decides[self._entries]
        return found

    @property
    def deciding(self) -> tuple[Rows, Rows]:
        """Where in `RuleWords.decided` the rules that decide begin, and how many they are."""
        return self._tables.begin[self._entries], self._tables.count[self._entries]

    @property
    def matched(self) -> Words:
        """The kinds that a rule matches, uint64[..., words]."""
        return self._of(self._tables.matched)

    @property
    def stopped(self) -> Words:
        """The kinds that are stopped, uint64[..., words]."""
        return self._of(self._tables.stopped)

    @property
    def kept(self) -> Words:
        """The kinds whose state is kept, uint64[..., words]."""
        return self._of(self._tables.kept)

    @property
    def lets(self) -> Words:
        """Of what is stopped else the kinds that pass if a rule's condition holds, uint64[..., words]."""
        return self._of(self._tables.lets)

    @property
    def halts(self) -> Words:
        """Of what passes else the kinds that are stopped if a rule's condition holds, uint64[..., words]."""
        return self._of(self._tables.halts)

    @property
    def in_two_ways(self) -> NDArray[np.bool_]:
        """Whether how something is stopped hangs on a rule's condition, bool[...]."""
        found: NDArray[np.bool_] = self._tables.in_two_ways[self._entries]
        return found

    def _of(self, table: Words) -> Words:
        if table.shape[1] == 1:  # single words are looked up in half the time
            return table[:, 0][self._entries][..., None]
        return np.take(table, self._entries, axis=0)


@dataclass(frozen=True, slots=True)
class _Side:
    """One side of some pairs of classes, int64[n] `classes`: `words` uint64[k, words] the rules that match each class,
    one bit each, and `met` those that match any that occurs. `order` int64[n] has the pairs by their class, those of
    each from `start` int64[k + 1] of it and before the next."""

    classes: Rows
    words: Words
    met: Words
    order: Rows
    start: Rows

    @classmethod
    def of(cls, words: Words, classes: Rows) -> _Side:
        """The side of some pairs, by what rules match."""
        start = np.concatenate([[0], np.cumsum(np.bincount(classes, minlength=len(words)))])
        met = np.bitwise_or.reduce(words[ascending(classes.reshape(-1))[0]], axis=0)
        return cls(classes, words, met, np.argsort(classes, kind="stable"), start)

    def count(self, matched: NDArray[np.bool_]) -> int:
        """How many pairs are of some classes."""
        return int(np.diff(self.start)[matched].sum())

    def rows(self, matched: NDArray[np.bool_]) -> Rows:
        """Which pairs are of some classes."""
        found = [self.order[self.start[each] : self.start[each + 1]] for each in np.flatnonzero(matched).tolist()]
        return np.concatenate(found) if found else np.zeros(0, dtype=np.int64)


def _in_both(one: _Side, other: _Side, rule: int) -> Rows:
    """The pairs that a rule matches, looked for among those of the side where it matches fewer."""
    matched = [_bit(side.words, rule) for side in (one, other)]
    if matched[0].all() and matched[1].all():
        return np.arange(len(one.classes))
    counts = one.count(matched[0]), other.count(matched[1])
    if counts[0] <= counts[1]:
        rows = one.rows(matched[0])
        return rows[matched[1][other.classes[rows]]]
    rows = other.rows(matched[1])
    return rows[matched[0][one.classes[rows]]]


class RuleWords:
    """The lists of one network, for requests or for replies. A list is made when it is first asked about.

    Lists that tell more pairs of classes apart than a table should have are worked out for the pairs that are met.
    """

    def __init__(self, layout: GateLayout, kinds: Kinds, is_reply: bool, with_rules: bool = False) -> None:
        """`with_rules` tells which rules decide as well (`Done.which`, `Done.deciding`)."""
        self._with_rules = with_rules
        self._lists, self._kinds, self._is_reply = layout.lists, kinds, is_reply
        self.has_conditions = layout.lists.has_conditions
        """Whether a rule holds under a condition only."""
        atoms = kinds.reply if is_reply else kinds.request
        self._services, self._ports = atoms.services, atoms.ports
        count = len(layout.lists) + _BELOW
        # Where the table of each list begins, -1 until it is made; how many classes of sources and of destinations.
        self._base = np.full(count, -1, dtype=np.int64)
        self._counts = {side: np.ones(count, dtype=np.int64) for side in (SOURCES, DESTINATIONS)}
        self._wide = np.zeros(count, dtype=np.bool_)
        none = np.zeros((1, kinds.words), dtype=np.uint64)
        unasked = [*self._no_conditions(1), np.zeros(1, dtype=np.uint64), *[np.zeros(1, dtype=np.int64)] * 2]
        self._tables = [[none, none, kinds.every[None], *unasked], *[[none, none, none, *unasked]] * 2]
        self._most = _MOST_DECIDED if with_rules else _MOST_ENTRIES
        # What each rule decides on, those of one entry after another.
        self._decider: list[NDArray[np.int32]] = []
        self._decided: list[Words] = []
        self._decisions = 0
        self._base[:_BELOW] = range(_BELOW)
        self._size = _BELOW
        self._joined: _Tables | None = None
        self._last: tuple[int, Words] | None = None
        self._rejecting: NDArray[np.bool_] | None = None

    def _no_conditions(self, entries: int) -> list[NDArray[Any]]:
        """What stands for entries of which nothing hangs on a condition."""
        words = self._kinds.words if self.has_conditions else 0
        nothing = [np.zeros((entries, words), dtype=np.uint64) for _ in range(2)]
        return [*nothing, np.zeros(entries, dtype=np.bool_)]

    def done(self, lists: Rows, sources: Rows, destinations: Rows) -> Done:
        """What some lists do with packets between atoms of addresses. The three are brought to one shape; the answer
        has as few dimensions of more than one as what it rests on.

        Parameters
        ----------
        lists : numbers of lists, or what stands in place of one
        sources, destinations : atoms of addresses
        """
        lists = self._lists.for_replies(lists) if self._is_reply else lists
        known = self._distinct(lists)
        for number in known.tolist():
            if self._base[number + _BELOW] < 0 and not self._wide[number + _BELOW]:
                self._make(number)
        places = lists + _BELOW
        from_ = self._classes_of(SOURCES, known, lists, sources)
        to = self._classes_of(DESTINATIONS, known, lists, destinations)
        if self._wide[known + _BELOW].any():
            return self._of_pairs(*np.broadcast_arrays(lists, from_, to))
        # Classes are of few bits each; the two smaller parts of the sum are brought together first.
        rows = np.multiply(from_, self._counts[DESTINATIONS][places], dtype=np.int64)
        return Done(self._all(), rows + (self._base[places] + to))

    def rejecting(self, lists: Rows) -> NDArray[np.bool_]:
        """Which lists may refuse something, rather than drop it."""
        if self._rejecting is None or len(self._rejecting) < len(self._lists) + _BELOW:
            told = [bool((self._lists.rules_of(each)[0] == REJECTS).any()) for each in range(len(self._lists))]
            self._rejecting = np.array([False] * _BELOW + told, dtype=np.bool_)
        found: NDArray[np.bool_] = self._rejecting[lists + _BELOW]
        return found

    def _distinct(self, lists: Rows) -> Rows:
        """The distinct numbers of lists, ascending."""
        if lists.size == 1:
            return lists.reshape(-1)
        met = np.zeros(len(self._base), dtype=np.bool_)
        met[lists + _BELOW] = True
        return np.flatnonzero(met) - _BELOW

    def _classes_of(self, dimension: int, known: Rows, lists: Rows, atoms: Rows) -> Rows:
        """The classes of atoms, 0 for all where no list tells any apart."""
        if not (self._counts[dimension][known + _BELOW] > 1).any():
            return np.zeros((1,) * lists.ndim, dtype=np.int64)
        found: NDArray[Any] = self._lists.classes(dimension, np.maximum(lists, 0), atoms)
        return found if known[0] >= 0 else np.where(lists >= 0, found, np.uint16(0))

    def _make(self, number: int) -> None:
        sources, destinations = (len(self._lists.matching(each, number)) for each in (SOURCES, DESTINATIONS))
        place = number + _BELOW
        self._counts[SOURCES][place], self._counts[DESTINATIONS][place] = sources, destinations
        if sources * destinations * self._kinds.words > self._most:
            self._wide[place] = True
            return
        from_, to = (each.reshape(-1) for each in np.indices((sources, destinations)))
        made = self._worked_out(number, from_, to)
        self._base[place] = self._size
        self._size += sources * destinations
        self._tables.append([getattr(made, name) for name in _Tables.__slots__])
        self._joined = None

    def _all(self) -> _Tables:
        if self._joined is None:
            whole = [np.concatenate(each) for each in zip(*self._tables, strict=True)]
            self._tables = [whole]
            self._joined = _Tables(*whole)
        return self._joined

    def _of_pairs(self, lists: Rows, from_: Rows, to: Rows) -> Done:
        """The same, each pair of classes that is met worked out once."""
        shape = lists.shape
        columns = [each.reshape(-1) for each in (lists, from_, to)]
        kinds = distinct(*columns)
        keys = [each[kinds.first] for each in columns]
        count = len(kinds)
        found: list[NDArray[Any]] = [np.zeros((count, self._kinds.words), dtype=np.uint64) for _ in range(3)]
        found += self._no_conditions(count)
        found += [np.zeros(count, dtype=np.uint64), *(np.zeros(count, dtype=np.int64) for _ in range(2))]
        whole = self._all()
        for number in ascending(keys[0])[0].tolist():
            mine = np.flatnonzero(keys[0] == number)
            done = self._worked_out(number, keys[1][mine], keys[2][mine]) if number >= 0 else whole
            for table, name in zip(found, _Tables.__slots__, strict=True):
                table[mine] = getattr(done, name)[slice(None) if number >= 0 else number + _BELOW]
        return Done(_Tables(*found), kinds.codes.reshape(shape))

    def _worked_out(self, number: int, from_: Rows, to: Rows) -> _Tables:
        """What one list does with packets between classes of sources and of destinations, int64[n] each.

        Rule by rule, each takes what those before it have left of what it matches: the cost grows with the pairs of
        classes that rules match, and most rules of a long list match few.
        """
        by_rule, kinds = self._kinds_of_rules(number), self._kinds
        sides = [_Side.of(self._lists.matching_by_rule(dimension, number), classes)
                 for dimension, classes in ((SOURCES, from_), (DESTINATIONS, to))]  # fmt: skip
        action, keeps, conditional = self._lists.rules_of(number)
        otherwise = len(action) - 1
        stops = (action == DROPS) | (action == REJECTS)
        # Word by word, and not pair by pair: a rule on few services is in few of the words of all kinds.
        left = np.repeat(kinds.every[:, None], len(from_), axis=1)
        stopped, kept = np.zeros_like(left), np.zeros_like(left)
        taking: list[tuple[int, Rows, Words]] = []
        # What rules match if their conditions hold, by what they do; and what is surely stopped, by how.
        does = np.unique(action[conditional]).tolist()
        perhaps = {each: np.zeros_like(left) for each in does}
        stopped_by = {each: np.zeros_like(left) for each in (DROPS, REJECTS) if does}
        met = as_truths(sides[0].met & sides[1].met, len(by_rule)) & by_rule.any(axis=1)
        for rule in np.flatnonzero(met).tolist():
            pairs, mine = _in_both(sides[0], sides[1], rule), np.flatnonzero(by_rule[rule])
            where = np.ix_(mine, pairs)
            taken = left[where] & by_rule[rule, mine, None]
            if conditional[rule]:
                perhaps[int(action[rule])][where] |= taken
                continue
            left[where] ^= taken
            if stops[rule]:
                stopped[where] |= taken
                if does:
                    stopped_by[int(action[rule])][where] |= taken
            if keeps[rule]:
                kept[where] |= taken
            if self._with_rules:
                whole = np.zeros((len(pairs), kinds.words), dtype=np.uint64)
                whole[:, mine] = taken.T
                taking.append((rule, pairs, whole))
        left, stopped, kept = (np.ascontiguousarray(each.T) for each in (left, stopped, kept))
        matched = kinds.every & ~left
        if stops[otherwise]:
            stopped |= left
        if keeps[otherwise]:
            kept |= left
        decides = np.zeros(len(from_), dtype=np.uint64)
        begin = count = np.zeros(len(from_), dtype=np.int64)
        if self._with_rules:
            taking.append((otherwise, np.arange(len(from_)), left))
            decides, begin, count = self._note_decided(number, len(from_), taking)
        lets, halts, in_two_ways = self._no_conditions(len(from_))
        if does:
            if stops[otherwise]:
                stopped_by[int(action[otherwise])] |= left.T
            for each, words in ((each, np.ascontiguousarray(words.T)) for each, words in perhaps.items()):
                if each not in stopped_by:
                    lets |= words & stopped
                    continue
                halts |= words & ~stopped
                in_two_ways |= np.any(words & stopped & ~stopped_by[each].T, axis=1)
        return _Tables(matched, stopped, kept, lets, halts, in_two_ways, decides, begin, count)

    def _kinds_of_rules(self, number: int) -> Words:
        """The kinds that each rule of a list matches, one bit each: uint64[rules, words]. That of the last list is
        kept: one that is worked out pair by pair is asked for again and again."""
        if self._last is None or self._last[0] != number:
            lists = np.full(len(self._kinds), number, dtype=np.int64)
            self._last = None
            by_service, by_port = (
                np.take(self._lists.matching_by_rule(dimension, number).T,
                        self._lists.classes(dimension, lists, atoms), axis=1)
                for dimension, atoms in ((SERVICES, self._services), (PORTS, self._ports))
            )  # fmt: skip
            rules = np.zeros((len(by_service) * WORD, self._kinds.words), dtype=np.uint64)
            for word, some in enumerate(by_service & by_port):
                rules[word * WORD : (word + 1) * WORD] = self._kinds.packed(as_truths(some[:, None], WORD).T)
            self._last = number, rules
        return self._last[1]

    def _note_decided(
        self, number: int, entries: int, taking: list[tuple[int, Rows, Words]]
    ) -> tuple[Marks, Rows, Rows]:
        """Note which rules of a list decide on which kinds of which entries, each as its place, the entries, and words
        of each. A hash for each entry, where its rules are said, and how many they are."""
        rule = np.concatenate([np.full(len(pairs), each, dtype=np.int64) for each, pairs, _ in taking])
        entry = np.concatenate([pairs for _, pairs, _ in taking])
        words = np.concatenate([taken for *_, taken in taking])
        some = np.flatnonzero(words.any(axis=1))
        some = some[np.argsort(entry[some], kind="stable")]
        rule, entry, words = rule[some], entry[some], words[some]
        place = np.arange(words.shape[1], dtype=np.uint64) << np.uint64(32)
        each = mixed(mixed(words) + place + rule[:, None].astype(np.uint64)) * (words != 0)
        count = np.bincount(entry, minlength=entries).astype(np.int64)
        begin = np.cumsum(count) - count
        sums = np.zeros(entries, dtype=np.uint64)
        np.add.at(sums, entry, each.sum(axis=1, dtype=np.uint64))
        self._decider.append(self._lists.deciders_of(number)[rule])
        self._decided.append(words)
        begin += self._decisions
        self._decisions += len(rule)
        return mixed(sums + np.uint64(number)), begin, count

    def decided(self) -> tuple[NDArray[np.int32], Words]:
        """What decides, by the numbers of `FilterLists.deciders`, int32[n], and on which kinds, uint64[n, words]."""
        if len(self._decider) > 1:
            self._decider, self._decided = [np.concatenate(self._decider)], [np.concatenate(self._decided)]
        return self._decider[0], self._decided[0]


def _bit(words: Words, number: int) -> NDArray[np.bool_]:
    """One bit of each row of words, uint64[n, words], as a truth value."""
    found: NDArray[np.bool_] = (words[:, number // WORD] >> np.uint64(number % WORD) & np.uint64(1)).astype(np.bool_)
    return found
