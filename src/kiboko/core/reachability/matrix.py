"""Names by names by services: what gets through from all of one to all of another, exactly, for all pairs at once."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.errors import UsageError
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import WELL_KNOWN, parse_services, services_texts
from kiboko.core.hints import nearest
from kiboko.core.queries.ends import Ends, services_for
from kiboko.core.queries.members import Member
from kiboko.core.reachability.public_targets import MoreByPublic, PublicTargets
from kiboko.core.reachability.space import NOBODY, Space, SpaceEnd
from kiboko.core.tables.kinds import Words
from kiboko.core.tables.pair_tables import Outcome
from kiboko.core.walk.walk import ALLOWED, BLOCKED, ONE_WAY, PARTLY, UNKNOWN

NO_PAIR = "no pair"
STATES = (NO_PAIR, BLOCKED, ONE_WAY, UNKNOWN, PARTLY, ALLOWED)
"""What a cell may be: no two ends that could meet; what holds for every pair; or `partly`, where pairs, client ports or
families differ."""
BY_ADDRESS, BY_PORT = "address", "port"
_KINDS_OF_NAMES = ("group", "zone", "subnet", "network")
_MOST_PIECES = 64
_FEWEST_PAIRS = 1 << 18
"""Pieces of fewer pairs cost more than they are worth."""


@dataclass(frozen=True, slots=True)
class AxisName:
    """A name of the matrix and the ends that it stands for."""

    text: str
    members: tuple[Member, ...]


@dataclass(frozen=True, slots=True)
class Cell:
    """What gets through: one of `STATES`, and of `partly` by what pairs differ: `address` or `port`; and whether more
    gets through to public addresses than the state says (S29)."""

    state: str
    by: str | None = None
    more_to_public: bool = False


@dataclass(frozen=True, slots=True)
class Matrix:
    """All cells, by the places of their names: `state` uint8[names, names, services], sender first, is a place in
    `STATES`; of `partly`, `by_port` bool[...] tells that only client ports differ. `more_to_public` bool[...] are those
    of which any pair comes to more where its sender, which means a machine by its private address, sends to the public
    one."""

    names: tuple[str, ...]
    services: tuple[str, ...]
    state: NDArray[np.uint8]
    by_port: NDArray[np.bool_]
    more_to_public: NDArray[np.bool_]

    def cell(self, source: int, destination: int, service: int) -> Cell:
        """One cell."""
        state = STATES[self.state[source, destination, service]]
        by = (BY_PORT if self.by_port[source, destination, service] else BY_ADDRESS) if state == PARTLY else None
        return Cell(state, by, bool(self.more_to_public[source, destination, service]))


@dataclass(slots=True)
class Sums:
    """What holds for some pairs of each cell, uint64[destinations, sources, words] each: the kinds that any of them may
    send, that get through for all and for any of them, that arrive for any, that are in doubt for any, and that come to
    more at the public address for any."""

    sent: Words
    all_through: Words
    through: Words
    arriving: Words
    doubtful: Words
    more_to_public: Words

    @classmethod
    def none(cls, shape: tuple[int, int, int]) -> Sums:
        """Those of no pair."""
        zero = [np.zeros(shape, dtype=np.uint64) for _ in range(6)]
        zero[1] = ~zero[1]
        return cls(*zero)

    def add(self, other: Sums) -> None:
        """Take in those of further pairs."""
        self.all_through &= other.all_through
        for name in ("sent", "through", "arriving", "doubtful", "more_to_public"):
            np.bitwise_or(getattr(self, name), getattr(other, name), out=getattr(self, name))


class MatrixOfFamily:
    """The cells of one address family, worked out for some of the receivers at a time."""

    def __init__(self, space: Space, names: Sequence[AxisName], family: int, with_nobody: bool) -> None:
        self._space, self._family = space, family
        self.count = len(names)
        self._senders, self._from = self._ends_of(names, True, with_nobody)
        self._receivers, self._to = self._ends_of(names, False, with_nobody)
        self._public = PublicTargets.of(space, self._receivers)
        if self._receivers and self._senders:
            # What is listened to tells services apart, so that all of it is known before any of them is judged.
            space.prepare([*self._receivers, *self._public.ends])

    def settle(self) -> None:
        """Settle the kinds of traffic, now that the receivers of all families are known."""
        self.kinds = self._space.kinds(self._family)
        self._sends = self.kinds.sent_by([end.ports for end in self._senders])

    def _ends_of(
        self, names: Sequence[AxisName], is_sender: bool, with_nobody: bool
    ) -> tuple[list[SpaceEnd], _Holders]:
        """All ends, each once, receivers of one place together; and which names hold each of them."""
        held: dict[tuple[object, ...], tuple[SpaceEnd, dict[int, None]]] = {}
        for number, name in enumerate(names):
            for end in self._space.ends_of(name.members, self._family, is_sender):
                if end.kind != NOBODY or with_nobody:
                    key = (end.atom, end.members[0].name, end.only, end.elsewhere, end.public)
                    held.setdefault(key, (end, {}))[1][number] = None
        found = list(held.values())
        if found and not is_sender:
            places = self._space.layout.ends_of(np.array([end.atom for end, _ in found], dtype=np.int32))[4]
            found = [found[at] for at in np.argsort(places, kind="stable").tolist()]
        return [end for end, _ in found], _Holders([list(holders) for _, holders in found])

    @property
    def pairs(self) -> int:
        """How many pairs of ends there are."""
        return len(self._senders) * len(self._receivers)

    def pieces(self) -> list[tuple[int, int]]:
        """The receivers in parts, as first and behind the last."""
        count = len(self._receivers)
        step = max(1, -(-count // _MOST_PIECES), _FEWEST_PAIRS // max(1, len(self._senders)))
        return [(at, min(at + step, count)) for at in range(0, count, step)] if self._senders else []

    def sums(self, piece: tuple[int, int]) -> Sums:
        """What holds for the pairs with a part of the receivers."""
        found = Sums.none((self.count, self.count, self.kinds.words))
        own = np.arange(*piece)
        public = self._public.between(*piece)
        more = MoreByPublic(public, len(self._senders), self.kinds.words)
        receivers = self._receivers[piece[0] : piece[1]]
        for block in self._space.blocks(self._senders, receivers, self._family, self.kinds):
            outcome = block.outcome
            sent = np.where(block.there[..., None], self._sends[block.senders][None], np.uint64(0))
            more.take_usual(own[block.receivers], block)
            through, doubtful = self._surely(outcome, sent)
            rows, by_row = self._from.among(block.senders)
            columns, by_column = self._to.among(own[block.receivers])
            parts = {
                "sent": sent, "all_through": through | ~sent, "through": through & sent,
                "arriving": outcome.arrives & sent,
            }  # fmt: skip
            if doubtful.any():
                parts["doubtful"] = doubtful
            for name, words in parts.items():
                join = np.bitwise_and if name == "all_through" else np.bitwise_or
                table, where = getattr(found, name), np.ix_(columns, rows)
                table[where] = join(table[where], _reduced(words, by_column, by_row, join))
        if public.ends:
            self._add_public(found, public, more)
        return found

    def _surely(self, outcome: Outcome, sent: Words) -> tuple[Words, Words]:
        """The kinds that get through, and those of which it is not known: of a pair whose verdict on a service is not
        known for some client ports none gets through, and none is in doubt that is one-way by others (S23, S35)."""
        if not outcome.doubtful.any():
            return outcome.answered, outcome.doubtful
        through, doubtful = outcome.answered & ~outcome.doubtful, outcome.doubtful & sent
        rows = np.nonzero(doubtful.any(axis=-1))
        if len(rows[0]):
            answered = outcome.answered[rows]
            arriving = (outcome.arrives & ~outcome.doubtful & sent)[rows]
            through[rows] &= ~self.kinds.of_same_services(doubtful[rows] & answered)
            doubtful[rows] &= ~self.kinds.of_same_services(arriving) | answered
        return through, doubtful

    def _add_public(self, found: Sums, public: PublicTargets, more: MoreByPublic) -> None:
        """Take in what more comes to public addresses."""
        for block in self._space.blocks(self._senders, public.ends, self._family, self.kinds):
            sent = np.where(block.there[..., None], self._sends[block.senders][None], np.uint64(0))
            rows, by_row = self._from.among(block.senders)
            columns, by_column = self._to.among(public.usual[block.receivers])
            where = np.ix_(columns, rows)
            found.more_to_public[where] |= _reduced(more.at(block) & sent, by_column, by_row, np.bitwise_or)

    def facts(self, sums: Sums, services: Sequence[RangeSet]) -> NDArray[np.bool_]:
        """What holds for each cell on some services: bool[destinations, sources, services, 7]. In this order: any pair,
        all through, any through, any arriving, any in doubt, whether pairs of the same client port differ, and whether
        any comes to more at a public address."""
        kinds = self.kinds
        found = np.zeros((self.count, self.count, len(services), 7), dtype=np.bool_)
        sent, whole, through, arriving, doubtful, more = (
            kinds.unpacked(getattr(sums, each)) for each in Sums.__slots__
        )
        for place, each in enumerate(services):
            mine = np.array([bool(kind.services & each) for kind in kinds.kinds], dtype=np.bool_)
            if not mine.any():
                continue
            of_mine = sent[..., mine]
            found[:, :, place, 0] = of_mine.any(axis=-1)
            found[:, :, place, 1] = (whole[..., mine] | ~of_mine).all(axis=-1)
            found[:, :, place, 2] = through[..., mine].any(axis=-1)
            found[:, :, place, 3] = arriving[..., mine].any(axis=-1)
            found[:, :, place, 4] = doubtful[..., mine].any(axis=-1)
            found[:, :, place, 5] = (through[..., mine] & ~whole[..., mine]).any(axis=-1)
            found[:, :, place, 6] = more[..., mine].any(axis=-1)
        return found


_Order = tuple[NDArray[np.int64], NDArray[np.int64]]
"""In which order some ends are taken, and where those of each name begin."""


class _Holders:
    """Which names hold each of some ends: as many as it may be, one behind the other."""

    def __init__(self, held_by: Sequence[Sequence[int]]) -> None:
        self._count = np.array([len(each) for each in held_by], dtype=np.int64)
        self._begin = np.cumsum(self._count) - self._count
        self._names = np.array([name for each in held_by for name in each], dtype=np.int64)
        self._known: dict[bytes, tuple[NDArray[np.int64], _Order]] = {}

    def among(self, ends: NDArray[np.int64]) -> tuple[NDArray[np.int64], _Order]:
        """The names that hold any of some ends, ascending, and how to take those of each name."""
        key = ends.tobytes()
        if key not in self._known:
            count = self._count[ends]
            which = np.repeat(np.arange(len(ends)), count)
            place = np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count)
            names = self._names[self._begin[ends][which] + place]
            order = np.argsort(names, kind="stable")
            present, starts = np.unique(names[order], return_index=True)
            self._known[key] = present, (which[order], starts)
        return self._known[key]


def _reduced(words: Words, rows: _Order, columns: _Order, join: np.ufunc) -> Words:
    """Words [m, n, words] brought together by names of rows and of columns."""
    for axis, (order, starts) in ((1, columns), (0, rows)):
        if len(order) != words.shape[axis] or (np.diff(order) != 1).any():
            words = np.take(words, order, axis=axis)
        words = join.reduceat(words, starts, axis=axis)
    return words


class MatrixQuestion:
    """What a matrix asks: names by names by services, with one part for each address family."""

    def __init__(
        self, ends: Ends, names: Sequence[AxisName], services: Sequence[tuple[str, RangeSet]], family: int | None,
        with_nobody: bool = False,
    ) -> None:  # fmt: skip
        if not names:
            raise UsageError("a matrix needs at least one name; say which with --by")
        self.names, self.services = tuple(names), tuple(services)
        union = RangeSet.of(pair for _, each in services for pair in each)
        space = Space(ends, union)
        self.parts = [
            MatrixOfFamily(space, names, each, with_nobody) for each in ((4, 6) if family is None else (family,))
            if services_for(union, each)
        ]  # fmt: skip
        for part in self.parts:
            part.settle()

    def pieces(self) -> list[tuple[int, tuple[int, int]]]:
        """All pieces of work: which part, which receivers."""
        return [(number, piece) for number, part in enumerate(self.parts) for piece in part.pieces()]

    @property
    def pairs(self) -> int:
        """How many pairs of ends there are."""
        return sum(part.pairs for part in self.parts)

    def start(self) -> Callable[[Any], tuple[int, Sums]]:
        """Ready as it is."""
        return self

    def __call__(self, piece: tuple[int, tuple[int, int]]) -> tuple[int, Sums]:
        """What comes of a piece of work."""
        return piece[0], self.parts[piece[0]].sums(piece[1])

    def matrix(self, done: Iterator[tuple[int, Sums]]) -> Matrix:
        """The cells, from what came of all pieces."""
        count = len(self.names)
        sums = [Sums.none((count, count, part.kinds.words)) for part in self.parts]
        for number, each in done:
            sums[number].add(each)
        wanted = [each for _, each in self.services]
        facts = [part.facts(each, wanted) for part, each in zip(self.parts, sums, strict=True)]
        stacked = np.stack(facts)
        state, by_port = _states(stacked[..., :6])
        more = stacked[..., 6].any(axis=0)
        return Matrix(tuple(each.text for each in self.names), tuple(text for text, _ in self.services),
                      np.swapaxes(state, 0, 1), np.swapaxes(by_port, 0, 1), np.swapaxes(more, 0, 1))  # fmt: skip


def _states(facts: NDArray[np.bool_]) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
    """The states of cells, by what holds in each family, bool[families, ..., 6] as `MatrixOfFamily.facts` has it."""
    there, whole, through, arriving, doubtful, differ = np.moveaxis(facts, -1, 0)
    any_through, any_whole = (through & there).any(axis=0), (whole & there).any(axis=0)
    all_whole, all_through = ((each | ~there).all(axis=0) for each in (whole, through))
    state = np.select(
        [~there.any(axis=0), all_whole, any_through, (doubtful & there).any(axis=0), (arriving & there).any(axis=0)],
        [STATES.index(each) for each in (NO_PAIR, ALLOWED, PARTLY, UNKNOWN, ONE_WAY)],
        STATES.index(BLOCKED),
    ).astype(np.uint8)
    by_port = (state == STATES.index(PARTLY)) & ~((differ & there).any(axis=0) | any_whole | ~all_through)
    return state, by_port


def axis_names(ends: Ends, by: str) -> list[AxisName]:
    """The names of a matrix: `group`, `zone`, `subnet`, `network`, `tag:KEY`, or names with commas between. But for a
    list, outsides that none of them holds are names as well. Raises UsageError."""
    topology = ends.topology
    if by == "group":
        texts = list(topology.groups)
    elif by in ("subnet", "network"):
        texts = list(topology.subnets if by == "subnet" else topology.networks)
    elif by == "zone":
        texts = [f"zone:{name}" for name in topology.zones]
        held = {each.zone for each in topology.subnets.values()} | {each.zone for each in topology.outsides.values()}
        return [AxisName(text, ends.resolve(text).members) for text in texts if text.partition(":")[2] in held]
    elif by.startswith("tag:"):
        key = by.partition(":")[2]
        values = dict.fromkeys(each.tags[key] for each in topology.instances.values() if key in each.tags)
        if not values:
            raise UsageError(f"--by {by}: no instance has a tag '{key}'")
        texts = [f"tag:{key}={value}" for value in values]
    else:
        listed = [text.strip() for text in by.split(",") if text.strip()]
        try:
            return [AxisName(text, ends.resolve_deliverable(text).members) for text in dict.fromkeys(listed)]
        except UsageError as error:
            hint = nearest(by, list(_KINDS_OF_NAMES), 1, 0.6)
            raise UsageError(f"--by {by}: {error}{hint}; --by is {', '.join(_KINDS_OF_NAMES)}, tag:KEY, or names with"
                             " commas between") from error  # fmt: skip
    if not texts:
        raise UsageError(f"--by {by}: the network file has none; try --by subnet, zone, network, tag:KEY, or a list")
    return [AxisName(text, ends.resolve(text).members) for text in (*texts, *topology.outsides)]


def usual_services(ends: Ends, most: int) -> list[tuple[str, RangeSet]]:
    """The services that rules and listeners speak of by name or as one port, those that most speak of first."""
    topology = ends.topology
    met: dict[RangeSet, int] = {}
    for chosen in topology.filters.values():
        for rule in chosen.every_rule():
            if rule.services is not None:
                met[rule.services] = met.get(rule.services, 0) + 1
    named = {parse_services(name): name for name in WELL_KNOWN}
    named |= {each: name for name, each in topology.services.items()}
    for instance in topology.instances.values():
        for listener in instance.listens or ():
            met[listener.services] = met.get(listener.services, 0) + 1
    for each in topology.services.values():
        met.setdefault(each, 0)
    found = []
    for each in sorted(met, key=lambda services: -met[services]):
        texts = services_texts(each)
        if each in named or each.size <= 2 or (len(texts) == 1 and each.size < 16):
            found.append((named.get(each, "+".join(texts)), each))
    return found[:most]
