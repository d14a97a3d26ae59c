"""A network held to its expectations, exactly: every pair of ends on every service that a promise speaks of."""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from kiboko.core.changes.spoken_of import ONLY, SHUT, THROUGH, SpokenOf
from kiboko.core.errors import InputError
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service, usual_first
from kiboko.core.network.model import Expectation
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.members import Member
from kiboko.core.reachability.products import apart
from kiboko.core.reachability.space import NOBODY, Block, Space, SpaceEnd
from kiboko.core.spreading import Spread
from kiboko.core.tables.kinds import Kinds
from kiboko.core.walk.walk import ALLOWED, BLOCKED

if TYPE_CHECKING:
    from kiboko.core.reachability.matrix import Matrix, MatrixQuestion

    Judged = Callable[[MatrixQuestion], Matrix]

HELD, BROKEN = "held", "broken"
_FEW_PAIRS = 100_000
"""As many pairs are sooner looked at than processes started, where hardly two of them are alike."""
_PIECES = 16
_MOST_KINDS = 1000
"""Among so many kinds of traffic that break a promise one is looked for that people ask about."""


@dataclass(frozen=True, slots=True)
class Counterexample:
    """One pair that breaks a promise: the ends, the service, and a client port where that matters."""

    source: Member
    destination: Member
    service: Service
    port: int | None


@dataclass(frozen=True, slots=True)
class Held:
    """What came of one expectation. `pairs` ends were looked at, of which `wrong` break it; `why` says how, and
    `example` shows one."""

    expectation: Expectation
    state: str
    pairs: int
    wrong: int
    why: str = ""
    example: Counterexample | None = None
    family: int | None = None


def held(ends: Ends, expectations: Sequence[Expectation], spread: Spread = map) -> list[Held]:
    """What comes of each expectation, in their order. `spread` has a function called with some numbers, as `map` does,
    perhaps by other processes; of few pairs it is not asked. Raises InputError with every end that is not known.

    `allowed`: every sender gets through to every receiver, from all of its client ports. Addresses of subnets where
    nobody is recorded are no promise of anybody's, and left out. `blocked`: no request of any sender arrives, neither
    from machines nor from addresses where nobody is recorded; where it is sent to, these are left out unless they were
    asked for as addresses. `only`: the senders get through, and no request of anybody else arrives. A promise over
    nobody is broken: it was meant of somebody.
    """
    if not expectations:
        return []
    every = RangeSet.of(pair for each in expectations for pair in each.services)
    space = Space(ends, every)
    asked = [_Held(space, each) for each in expectations]
    if problems := [problem for each in asked for problem in each.spoken.unknown()]:
        raise InputError(problems)
    space.prepare_for(dict.fromkeys(member for held_to in asked for name in held_to.expectation.destinations
                                    for member in held_to.spoken.resolve(name)))  # fmt: skip
    pairs = np.cumsum([each.most_pairs() for each in asked], dtype=np.float64)
    # Where one piece ends and the next begins: each has about as many pairs.
    edges = np.searchsorted(pairs, np.linspace(0, pairs[-1], _PIECES + 1)[1:-1], side="right").tolist()
    pieces = [asked[begin:end] for begin, end in itertools.pairwise([0, *edges, len(asked)]) if begin < end]

    def outcomes(number: int) -> list[Held]:
        return [each.outcome() for each in pieces[number]]

    done = (spread if pairs[-1] > _FEW_PAIRS else map)(outcomes, range(len(pieces)))
    return [each for some in done for each in some]


def broken_by(ends: Ends, expectation: Expectation, machines: Collection[str]) -> str:
    """How an expectation is broken by pairs of which some machines are an end; nothing where it is not."""
    held_to = _Held(Space(ends, expectation.services), expectation)
    for family in (4, 6) if expectation.family is None else (expectation.family,):
        for part in held_to.spoken.parts():
            for source, destination in part.with_one_of(machines):
                held_to.hold(source, destination, family, part.promise)
    return held_to.why


class _Held:
    def __init__(self, space: Space, expectation: Expectation) -> None:
        self.space, self.ends, self.expectation = space, space.ends, expectation
        self.spoken = SpokenOf(space.ends, expectation)
        self.pairs = self.wrong = 0
        self.why = ""
        self.example: Counterexample | None = None
        self.family: int | None = None

    def outcome(self) -> Held:
        """What comes of it."""
        asked = self.expectation
        parts = self.spoken.parts()
        for family in (4, 6) if asked.family is None else (asked.family,):
            for part in parts:
                self.hold(part.sources, part.destinations, family, part.promise)
        if asked.expect != BLOCKED:
            self.miss(parts[0].sources, parts[0].destinations)
        if not self.pairs:
            return Held(asked, BROKEN, 0, 0, self.why or self.no_pair(parts[0].sources, parts[0].destinations))
        return Held(asked, BROKEN if self.wrong else HELD, self.pairs, self.wrong, self.why, self.example, self.family)

    def no_pair(self, sources: Sequence[Member], destinations: Sequence[Member]) -> str:
        """Why nobody of some members could send to anybody."""
        asked = self.expectation
        for names, members in ((asked.sources, sources), (asked.destinations, destinations)):
            if not members:
                return f"nobody is left of {', '.join(names)}"
        if all(each.outside is not None for each in (*sources, *destinations)):
            return "both are outside: no gate of this network lies between them"
        if len({each.instance for each in (*sources, *destinations)}) == 1 and sources[0].instance is not None:
            return "they are one machine: what it sends itself passes no gate"
        bare = list(dict.fromkeys(each.name for each in (*sources, *destinations) if not each.families))
        if bare:
            return f"{', '.join(bare)} {'has' if len(bare) == 1 else 'have'} no address"
        if asked.family is None:
            return "they have no address family in common"
        return f"no two of them have IPv{asked.family} addresses"

    def most_pairs(self) -> int:
        """As many pairs of members are looked at at most, without further addresses."""
        asked = self.expectation
        sources, destinations = (
            sum(len(self.spoken.resolve(name)) for name in names) for names in (asked.sources, asked.destinations)
        )
        if asked.expect == ONLY:
            sources += len(self.ends.resolve("any").members)
        return sources * destinations

    def miss(self, sources: Sequence[Member], destinations: Sequence[Member]) -> None:
        """Machines of which a promise cannot be kept, since they have no address (of the family that it is about), or
        none of a family in common."""
        wanted = self.expectation.family
        bare = [each.name for each in (*sources, *destinations)
                if each.low is None and not (each.families if wanted is None else wanted in each.families)]  # fmt: skip
        number, first = _without_family(sources, destinations) if wanted is None else (0, ())
        what = "no address" if wanted is None else f"no IPv{wanted} address"
        self.pairs += len(bare) + number if self.pairs else 0
        self.wrong += len(bare) + number if self.pairs else 0
        if (bare or first) and self.example is None:
            self.why = (f"{', '.join(bare)} {'has' if len(bare) == 1 else 'have'} {what}" if bare else
                        f"{' and '.join(first)} have no address family in common")  # fmt: skip

    def hold(self, sources: Sequence[Member], destinations: Sequence[Member], family: int, promise: str) -> None:
        """Hold one family of pairs to what is promised of them."""
        space = self.space
        # What must not arrive must not from or at any address; what must get through does by those that are used.
        senders = space.ends_of(sources, family, True, with_further=promise == SHUT)
        receivers = space.ends_of(destinations, family, False, with_further=promise == SHUT)
        if not self.spoken.is_of_addresses:
            receivers = [each for each in receivers if each.kind != NOBODY]
        if promise == THROUGH:
            senders = [each for each in senders if each.kind != NOBODY]
        if not senders or not receivers:
            return
        space.prepare(receivers)
        kinds = space.kinds(family)
        mine = kinds.packed(
            np.array([bool(each.services & self.expectation.services) for each in kinds.kinds], np.bool_)
        )
        if not mine.any():
            return
        sends = kinds.sent_by([each.ports for each in senders]) & mine
        first: tuple[int, int] | None = None
        words: tuple[NDArray[np.uint64], NDArray[np.uint64], NDArray[np.uint64] | None] | None = None
        for block in space.blocks(senders, receivers, family, kinds, with_hanging=promise == THROUGH):
            own = np.where(block.there[..., None], sends[block.senders][None], np.uint64(0))
            outcome = block.outcome
            broken = own & outcome.arrives
            if outcome.hanging is not None:
                broken = own & (~(outcome.answered & ~outcome.doubtful) | outcome.hanging)
            hit: NDArray[np.bool_] = np.any(broken, axis=2)
            self.pairs += int(block.there.sum())
            self.wrong += int(hit.sum())
            if hit.any() and self.example is None:
                row, column = _first(block, hit)
                pair = int(block.senders[column]), int(block.receivers[row])
                if first is None or pair < first:
                    hanging = outcome.hanging[row, column] if outcome.hanging is not None else None
                    first, words = pair, (broken[row, column], outcome.doubtful[row, column], hanging)
        if first is not None and words is not None:
            ends = senders[first[0]], receivers[first[1]]
            self.note(*ends, kinds, words[0], words[1], words[2], promise)
            self.family = family

    def note(
        self, sender: SpaceEnd, receiver: SpaceEnd, kinds: Kinds, broken: NDArray[np.uint64],
        doubtful: NDArray[np.uint64], hanging: NDArray[np.uint64] | None, promise: str,
    ) -> None:  # fmt: skip
        """Keep a pair that breaks the promise, on a service that people ask about where it does on one."""
        place, number = self.most_usual(kinds, np.flatnonzero(kinds.unpacked(broken))[:_MOST_KINDS].tolist())
        kind = kinds.kinds[place]
        source, destination = apart([sender], [receiver])
        port = kind.port if kind.port >= 0 else None
        self.example = Counterexample(source, destination, Service(number >> 16, number & 0xFFFF), port)
        word = "does not get through" if promise == THROUGH else "arrives"
        if kinds.unpacked(doubtful)[place]:
            word = "does not surely get through" if promise == THROUGH else "is not surely stopped"
            word += ": a gate on its way is not known"
        if hanging is not None and kinds.unpacked(hanging)[place]:
            word = "gets through with its first packet alone: what is opened hangs"
        self.why = f"{source.name} to {destination.name} on {self.example.service} {word}"
        if promise == SHUT and self.expectation.expect == ONLY:
            self.why += f", and is not among {', '.join(self.expectation.sources)}"

    def most_usual(self, kinds: Kinds, places: Sequence[int]) -> tuple[int, int]:
        """Of some kinds of traffic that are promised one that people ask about, and which service of it: its place and
        number. The first of them where there is none."""
        asked = [(place, kinds.kinds[place].services & self.expectation.services) for place in places]
        usual = usual_first(self.ends.topology.services)
        found = next(((place, number) for number in usual for place, services in asked if number in services), None)
        if found is not None:
            return found
        place, services = asked[0]
        example = kinds.kinds[place].service
        return place, example if example in services else services.lowest


def _first(block: Block, hit: NDArray[np.bool_]) -> tuple[int, int]:
    """The row and column of the first pair that is hit, by its sender and then its receiver: whatever the order in
    which pairs were looked at."""
    columns = np.flatnonzero(hit.any(axis=0))
    column = int(columns[block.senders[columns].argmin()])
    rows = np.flatnonzero(hit[:, column])
    return int(rows[block.receivers[rows].argmin()]), column


def _without_family(sources: Sequence[Member], destinations: Sequence[Member]) -> tuple[int, tuple[str, ...]]:
    """How many pairs of different machines have no address family in common, and the names of the first, none where
    there is none: pairs of which the one has IPv4 alone, and the other IPv6 alone."""
    receivers: dict[int, list[Member]] = {4: [], 6: []}
    for each in destinations:
        if each.low is None and len(each.families) == 1:
            receivers[each.families[0]].append(each)
    own = {family: Counter(each.instance for each in them) for family, them in receivers.items()}
    number, first = 0, tuple[str, ...]()
    for each in sources:
        if each.low is None and len(each.families) == 1:
            family = 10 - each.families[0]
            left = len(receivers[family]) - own[family][each.instance]
            if left and not first:
                other = next(one for one in receivers[family] if one.instance != each.instance)
                first = each.name, other.name
            number += left
    return number, first


def draft(
    ends: Ends, names: Sequence[str], services: Sequence[tuple[str, RangeSet]], judged: Judged, spread: Spread = map
) -> list[Expectation]:
    """A first set of promises for a person to cut down: what gets through whole between names today, and what of the
    services that are not for everybody is shut to outsides. `judged` makes a matrix of a question, `spread` calls a
    function with some numbers, either perhaps by other processes."""
    from kiboko.core.errors import Place
    from kiboko.core.reachability.matrix import STATES, MatrixQuestion, axis_names

    question = MatrixQuestion(ends, axis_names(ends, ",".join(names)), services, None)
    matrix = judged(question)
    found = []
    outsides = ends.topology.outsides
    for row, source in enumerate(matrix.names):
        for column, destination in enumerate(matrix.names):
            for number, service in enumerate(matrix.services):
                state = STATES[matrix.state[row, column, number]]
                is_shut = state == BLOCKED and source in outsides and services[number][1] & ends.topology.administration
                if state == ALLOWED or is_shut:
                    found.append(Expectation(
                        f"{source}-{destination}-{service.replace('/', '-')}".replace(":", "-"), (source,),
                        (destination,), services[number][1], service, ALLOWED if state == ALLOWED else BLOCKED,
                        Place("draft", 1),
                    ))  # fmt: skip
    # What a machine without an address breaks today is no promise to begin with.
    return [each.expectation for each in held(ends, found, spread) if each.state == HELD]
