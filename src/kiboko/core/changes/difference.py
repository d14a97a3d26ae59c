"""What differs between two versions of a network: in what they say, and in every verdict, exactly."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.changes.said import Said, differences_said
from kiboko.core.changes.sides import Chosen, names_of
from kiboko.core.changes.touched import Touched, touched
from kiboko.core.errors import UsageError
from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet, shared_parts
from kiboko.core.header.services import Service
from kiboko.core.network.model import Topology
from kiboko.core.queries.ends import Ends, services_for
from kiboko.core.queries.members import Member
from kiboko.core.reachability.products import apart, products
from kiboko.core.reachability.reach import Statuses
from kiboko.core.reachability.space import Space, SpaceEnd, address_cuts, usual_of
from kiboko.core.tables.cuts import Edges, rule_edges
from kiboko.core.walk.walk import ALLOWED, BLOCKED, ONE_WAY, PARTLY, UNKNOWN

Rows = NDArray[np.int64]
MOST_PAIRS = 4_000_000
"""As many pairs are compared in any case."""
_MOST_WORDS = 24_000_000
"""As many words of 64 kinds of traffic are compared for all pairs together."""
OPENED, CLOSED, IN_PART = "opened", "closed", "changed in part"
_OPENNESS = {BLOCKED: 0, ONE_WAY: 1, UNKNOWN: 2, PARTLY: 3, ALLOWED: 4}


@dataclass(frozen=True, slots=True)
class Changed:
    """Pairs of ends whose verdict is another one: every one of `sources` with every one of `destinations` on all
    `services`. Client ports are those that get an answer, before and after, where they are not all or none."""

    kind: str
    before: str
    after: str
    ports: tuple[RangeSet, RangeSet]
    family: int
    sources: tuple[Member, ...]
    destinations: tuple[Member, ...]
    services: RangeSet
    example: tuple[Member, Member, Service]

    @property
    def pairs(self) -> int:
        """How many pairs of ends there are."""
        return sum(each.count for each in self.sources) * sum(each.count for each in self.destinations)


@dataclass(frozen=True, slots=True)
class Difference:
    """All that differs. `gone` and `new` are instances that only one version has, `moved` those and the addresses that
    the other has otherwise: their verdicts are not compared."""

    said: tuple[Said, ...]
    changed: tuple[Changed, ...]
    gone: tuple[str, ...]
    new: tuple[str, ...]
    moved: tuple[str, ...] = ()
    touched: Touched | None = None
    """What it can touch at all; None where that may be everything."""


def difference(
    old: Ends, new: Ends, services: RangeSet, family: int | None = None, is_brief: bool = False
) -> Difference:
    """What differs between two versions of a network: what they say, and every verdict on some services.

    Only pairs that a change can touch are looked at, on the services that it can touch. Raises UsageError where these
    are too many; `is_brief`, where they would take more than some seconds.
    """
    said = tuple(differences_said(old.topology, new.topology))
    names = [list(each.topology.instances) for each in (old, new)]
    gone = tuple(name for name in names[0] if name not in new.topology.instances)
    added = tuple(name for name in names[1] if name not in old.topology.instances)
    changed: list[Changed] = []
    moved: dict[str, None] = {}
    what = touched(old, new, said)
    if said:
        services = services if what is None else services & what.services
        spaces = _spaces(old, new, services, what)
        for each in (4, 6) if family is None else (family,):
            if not services_for(services, each) or not all(_has_family(ends.topology, each) for ends in (old, new)):
                continue
            part = _OfFamily(spaces, each, what, is_brief)
            changed += part.lines()
            moved |= dict.fromkeys(part.moved)
    changed.sort(key=lambda each: ((OPENED, CLOSED, IN_PART).index(each.kind), each.family, -each.pairs))
    only_one = {*gone, *added}
    return Difference(said, tuple(changed), gone, added, tuple(name for name in moved if name not in only_one),
                      what)  # fmt: skip


def _spaces(old: Ends, new: Ends, services: RangeSet, what: Touched | None) -> tuple[Space, Space]:
    """Both versions, each cut where the other is."""
    if what is None or not what.is_of_rules:
        more = Edges(tuple(edge for each in (old, new) for edge in address_cuts(each.walker)))
        return Space(old, services, more=more), Space(new, services, more=more)
    filters = new.topology.filters
    space = Space(old, services, more=rule_edges(new.walker.ground, [filters[name] for name in what.filters]))
    return space, space.of_changed(new, what.filters)


def _has_family(topology: Topology, family: int) -> bool:
    """Whether anybody may have an address of a family."""
    blocks = [block for each in topology.networks.values() for block in each.blocks]
    blocks += [prefix for each in topology.outsides.values() for prefix in each.prefixes]
    return any(block.family == family for block in blocks)


class _Side:
    """The ends of one side, each as either version has it."""

    def __init__(self, spaces: tuple[Space, Space], pairs: list[tuple[SpaceEnd, SpaceEnd]]) -> None:
        self.pairs = pairs
        self._rows: dict[str, list[int]] = {}
        for row, pair in enumerate(pairs):
            versions = list(zip(spaces, pair, strict=True))[pair[0] is pair[1] :]  # once, where they are the same
            for name in {name for space, end in versions for name in names_of(space.ends, end.members[0])}:
                self._rows.setdefault(name, []).append(row)
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
            for row in np.flatnonzero(found).tolist():
                members = dict.fromkeys(member for end in self.pairs[row] for member in end.members)
                found[row] = any(member.is_among(some.addresses) for member in members)
        for rows in self._together.values():
            found[rows] = found[rows].any()
        return found


class _OfFamily:
    def __init__(self, spaces: tuple[Space, Space], family: int, what: Touched | None, is_brief: bool) -> None:
        self.spaces, self.family, self.touched, self.is_brief = spaces, family, what, is_brief
        self.moved: dict[str, None] = {}
        """Machines and ranges that either version has otherwise."""
        sides = []
        anybody = [each.ends.resolve("any").members for each in spaces]
        for is_sender in (True, False):
            if what is None or not what.is_of_rules:
                sides.append(_common(spaces, family, is_sender, anybody, self.moved))
            else:  # either has every end, and what tells ends apart in one does in both
                ends = spaces[1].ends_of(what.chosen(anybody[1], is_sender), family, is_sender, with_further=True)
                sides.append([(each, each) for each in ends])
        self.senders, self.receivers = sides

    def lines(self) -> Iterator[Changed]:
        """Every product of ends and services whose verdict changed."""
        pairs = self._touched()
        # What any receiver listens to tells services apart, and is known before these are asked for.
        met = np.unique(np.concatenate([np.zeros(0, dtype=np.int64), *(columns for _, columns in pairs)])).tolist()
        for which, space in enumerate(self.spaces):
            space.prepare([self.receivers[column][which] for column in met])
        self._refuse_too_many(sum(len(rows) * len(columns) for rows, columns in pairs))
        for rows, columns in pairs:
            yield from self._compared(rows, columns)

    def _touched(self) -> list[tuple[Rows, Rows]]:
        """The pairs that the change touches, as products of senders and receivers; no pair is in two of them."""
        if self.touched is None:
            whole = [(np.arange(len(self.senders)), np.arange(len(self.receivers)))]
            return [each for each in whole if len(each[0]) and len(each[1])]
        senders, receivers = (_Side(self.spaces, pairs) for pairs in (self.senders, self.receivers))
        parts = dict.fromkeys(self.touched.parts)
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

    def _refuse_too_many(self, pairs: int) -> None:
        """Raise UsageError for more pairs than are compared in a minute or two: the fewer, the more kinds of traffic
        there are."""
        if pairs <= MOST_PAIRS:
            return
        if self.is_brief:
            raise UsageError(f"it touches {pairs:,} pairs of ends, which takes a while: --write-change FILE and"
                             " rehearse tell")  # fmt: skip
        if pairs * self.spaces[-1].kinds(self.family).words > _MOST_WORDS:
            raise UsageError(
                f"the change touches {pairs:,} pairs of ends, more than are compared one by one: rehearse it on a"
                " part of the traffic (--service), or ask for 'matrix --against', group by group"
            )

    def _compared(self, rows: Rows, columns: Rows) -> Iterator[Changed]:
        tables: list[NDArray[np.int32]] = []
        readings: list[Statuses] = []
        for which, space in enumerate(self.spaces):
            senders = [self.senders[row][which] for row in rows.tolist()]
            receivers = [self.receivers[column][which] for column in columns.tolist()]
            kinds = space.kinds(self.family)
            like = readings[0] if readings and readings[0].kinds.kinds == kinds.kinds else None
            reading = Statuses(kinds, senders, like)
            table = np.zeros((len(rows), len(columns)), dtype=np.int32)
            for block in space.blocks(senders, receivers, self.family):
                ids = reading.ids(block.senders, block.outcome.arrives, block.outcome.answered, block.outcome.doubtful)
                where = np.ix_(block.senders, block.receivers)
                table[where] = np.where(block.there.T, ids.T, table[where])
            tables.append(table)
            readings.append(reading)
        for side, among, axis in ((self.senders, rows, 0), (self.receivers, columns, 1)):
            by_end = [table if axis == 0 else table.T for table in tables]
            for place, usual in usual_of([side[end][1] for end in among.tolist()]):
                # Of an end at a further address what its machine comes to as well is told of that.
                alike = np.all([table[place] == table[usual].max(axis=0) for table in by_end], axis=0)
                for table in by_end:
                    table[place][alike] = 0
        pair = _Refined(readings[0], readings[1])
        # Most pairs come to the same: what every service comes to is looked at for the others alone.
        codes = pair.codes(tables[0], tables[1])
        differ = np.isin(codes, [each for each in np.unique(codes).tolist() if pair.differs(each)])
        rows_, columns_ = np.flatnonzero(differ.any(axis=1)), np.flatnonzero(differ.any(axis=0))
        if not len(rows_):
            return
        changed = pair.statuses(codes[np.ix_(rows_, columns_)])
        for number in np.unique(changed).tolist():
            turned = pair.turned(number)
            if turned is not None:
                for some, others, services in products(changed == number):
                    spans = RangeSet.of(span for each in services.tolist() for span in pair.services[each])
                    yield self._line(*turned, rows[rows_[some]], columns[columns_[others]], spans)

    def _line(
        self, verdicts: tuple[str, str], ports: tuple[RangeSet, RangeSet], rows: Rows, columns: Rows, services: RangeSet
    ) -> Changed:
        senders = [self.senders[row][1] for row in rows.tolist()]
        receivers = [self.receivers[column][1] for column in columns.tolist()]
        before, after = verdicts
        kind = OPENED if _OPENNESS[after] > _OPENNESS[before] else CLOSED if before != after else IN_PART
        one, other = apart(senders, receivers)
        number = services.lowest
        return Changed(
            kind, before, after, ports, self.family, tuple(member for end in senders for member in end.members),
            tuple(member for end in receivers for member in end.members), services,
            (one, other, Service(number >> 16, number & 0xFFFF)),
        )  # fmt: skip


class _Refined:
    """What two versions say of pairs, service by service: services are cut as finely as either cuts them."""

    def __init__(self, old: Statuses, new: Statuses) -> None:
        self._readings, self._known = (old, new), (old.known, new.known)
        both = shared_parts(old.kinds.services, new.kinds.services)
        self.services = [shared for _, _, shared in both]
        self._columns = [one for one, _, _ in both], [other for _, other, _ in both]
        self._width = len(new)

    def codes(self, before: NDArray[np.int32], after: NDArray[np.int32]) -> Rows:
        """Pairs of outcomes as one number each; -1 where both are the same."""
        found = before.astype(np.int64) * self._width + after
        if self._known[0] is self._known[1]:
            found[before == after] = -1
        return found

    def statuses(self, codes: Rows) -> Rows:
        """For pairs of outcomes what each service comes to in both, as one number: int64[..., services]."""
        known, back = np.unique(np.maximum(codes, 0), return_inverse=True)
        before, after = (
            reading.rows(ids)[:, columns].astype(np.int64)
            for reading, ids, columns in zip(self._readings, np.divmod(known, self._width), self._columns, strict=True)
        )
        found: Rows = (before * len(self._known[1]) + after)[back.reshape(codes.shape)]
        return np.where(codes[..., None] < 0, 0, found)  # 0: blocked, and blocked

    def turned(self, number: int) -> tuple[tuple[str, str], tuple[RangeSet, RangeSet]] | None:
        """The verdicts and the client ports before and after, by such a number; None where they are the same."""
        was, is_ = (known[each] for known, each in zip(self._known, divmod(number, len(self._known[1])), strict=True))
        if was.verdict_text == is_.verdict_text and was.ports == is_.ports:
            return None
        return (was.verdict_text, is_.verdict_text), (was.ports, is_.ports)

    def differs(self, code: int) -> bool:
        """Whether two outcomes differ on any service."""
        if code < 0:
            return False
        return any(self.turned(each) is not None for each in np.unique(self.statuses(np.array([code]))).tolist())


def _common(
    spaces: tuple[Space, Space], family: int, is_sender: bool, chosen: Sequence[Sequence[Member]],
    moved: dict[str, None],
) -> list[tuple[SpaceEnd, SpaceEnd]]:  # fmt: skip
    """The ends that both versions have, each as either has it: machines by name and address; addresses as far as
    neither tells them apart. What has none in the other is noted in `moved`."""
    found = [
        space.ends_of(some, family, is_sender, with_further=True) for space, some in zip(spaces, chosen, strict=True)
    ]
    machines = [
        {(end.instance, space.layout.addresses.first(end.atom), end.is_further): end
         for end in ends if end.members[0].low is None}
        for ends, space in zip(found, spaces, strict=True)
    ]  # fmt: skip
    pairs = [(end, machines[1][key]) for key, end in machines[0].items() if key in machines[1]]
    pieces = [
        {(member.low, member.high): (end, member) for end in ends for member in end.members if member.low is not None}
        for ends in found
    ]
    alike: dict[tuple[int, int], tuple[SpaceEnd, SpaceEnd, list[Member]]] = {}
    for span, (end, member) in pieces[0].items():
        if span in pieces[1]:
            other, _ = pieces[1][span]
            alike.setdefault((id(end), id(other)), (end, other, []))[2].append(member)
    for keys, others in ((machines[0], machines[1]), (machines[1], machines[0])):
        moved.update((end.instance or end.name, None) for key, end in keys.items()
                     if key not in others and not end.is_further)  # fmt: skip
    for spans, rest in ((pieces[0], pieces[1]), (pieces[1], pieces[0])):
        left = [(low, high) for low, high in spans if (low, high) not in rest and low is not None and high is not None]
        if left:
            ranges = RangeSet.of((low.value, high.value) for low, high in left)
            moved.update(
                (text, None) for text in (AddressSet(ranges) if family == 4 else AddressSet(v6=ranges)).texts()
            )
    for end, other, members in alike.values():
        some = tuple(members)
        first = members[0].low
        assert first is not None
        pairs.append((
            dataclasses.replace(end, members=some, atom=spaces[0].layout.addresses.atom(first)),
            dataclasses.replace(other, members=some, atom=spaces[1].layout.addresses.atom(first)),
        ))  # fmt: skip
    return pairs
