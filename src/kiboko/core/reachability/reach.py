"""Everything that can reach an end, or that it can reach: exact, as the fewest lines that say it."""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.errors import TooMuch, UsageError
from kiboko.core.header.addresses import Address, AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service, usual_first
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.members import End, Member, machines_of, member_addresses
from kiboko.core.reachability.letting_in import LetIn, let_in
from kiboko.core.reachability.outcomes_of_pairs import OutcomesOfPairs
from kiboko.core.reachability.products import apart
from kiboko.core.reachability.space import NOBODY, OUTSIDE, RECORDED, Space, SpaceEnd
from kiboko.core.reachability.statuses import VERDICTS, Status, Statuses
from kiboko.core.tables.kinds import Kinds
from kiboko.core.walk.walk import PARTLY

Rows = NDArray[np.int64]
MOST_CELLS = 600_000_000
"""As many pairs and services are looked at at once, with four octets for each; of more a matrix tells."""
_CELLS_OF_A_WORD = 8
"""For so many cells a word of 64 kinds counts: each of a few facts takes eight octets of them."""


@dataclass(frozen=True, slots=True)
class ReachLine:
    """Ends that come to the same: every one of `far` with every one of `near` on all `services`.

    `far` are the ends that were looked for, `near` those that were asked about. `kind` is that of the far ends;
    `ports` are, of `partly`, the client ports that get an answer. `example` is a source, a destination and a service.
    `let_in` tells the rules that let it in, and whether only some of the pairs were looked at for them; it is asked
    when somebody wants to know.
    """

    verdict: str
    family: int
    kind: int
    far: tuple[Member, ...]
    near: tuple[Member, ...]
    services: RangeSet
    ports: RangeSet
    example: tuple[Member, Member, Service]
    let_in: Callable[[], tuple[tuple[LetIn, ...], bool]]

    @property
    def rules(self) -> tuple[LetIn, ...]:
        """The rules that let it in, gate by gate."""
        return self.let_in()[0]

    @property
    def is_sampled(self) -> bool:
        """Whether these are those of some of the pairs only."""
        return self.let_in()[1]

    @property
    def pairs(self) -> int:
        """How many pairs of ends there are."""
        return sum(each.count for each in self.far) * sum(each.count for each in self.near)


@dataclass(frozen=True, slots=True)
class ReachAnswer:
    """All lines, recorded ends first, IPv4 before IPv6; how many ends of each kind were looked at, and how many
    of them reach it (or are reached) on anything; what has to be borne in mind."""

    lines: tuple[ReachLine, ...]
    looked_at: tuple[int, ...]
    found: tuple[int, ...]
    caveats: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class ReachQuestion:
    """What is asked: everything that reaches `name`, or (`is_out`) that it reaches.

    `services` are service numbers, as `resolve_service` gives them; `family` 4 or 6, None for both; `excepted` are ends
    that are left out, and `only` is `recorded` or `outside` where only these are looked for.
    """

    name: End
    services: RangeSet
    is_out: bool = False
    family: int | None = None
    excepted: tuple[End, ...] = ()
    only: str | None = None
    ports: RangeSet | None = None


def reach(ends: Ends, question: ReachQuestion) -> ReachAnswer:
    """Everything that can reach an end, or that it can reach.

    Raises
    ------
    UsageError : where there are too many pairs to be told one by one, or none; of an address of no one machine

    >>> from kiboko.core.queries.ends import resolve_service
    >>> from kiboko.core.walk.walk import Walker
    >>> from kiboko.files.network.network_file import load_network
    >>> ends = Ends(Walker(load_network("network.yaml")))
    >>> found = reach(ends, ReachQuestion(ends.resolve("gauge-07"), resolve_service("ssh", {}), only="outside"))
    >>> [(line.verdict, line.far[0].outside) for line in found.lines]
    [('allowed', 'crews')]
    """
    ends.refuse_undeliverable(question.name)
    return _Reach(ends, question).answer()


class _Reach:
    def __init__(self, ends: Ends, question: ReachQuestion) -> None:
        self.ends, self.question = ends, question
        named = machines_of(question.name.members)
        receivers = None if question.is_out else [ends.topology.instances[name] for name in named]
        near = question.name.members
        self.space = Space(ends, question.services, question.ports, receivers,
                           between=(near, None) if question.is_out else (None, near))  # fmt: skip
        self.lines: list[ReachLine] = []
        self.looked_at: list[dict[str, int]] = [{}, {}, {}]
        self.found: list[dict[str, int]] = [{}, {}, {}]
        self.is_any_hanging = False
        self.usual = usual_first(ends.topology.services)

    def answer(self) -> ReachAnswer:
        question = self.question
        members = tuple(far_members(self.ends, question))
        for family in (4, 6) if question.family is None else (question.family,):
            far = self.space.ends_of(members, family, not question.is_out, with_further=True)
            near = self.space.ends_of(question.name.members, family, question.is_out, with_further=True)
            if not far or not near:
                continue
            self.space.prepare(far if question.is_out else near)
            self.refuse_too_much(len(far) * len(near), self.space.kinds(family))
            self.of_family(far, near, family)
        if not any(self.looked_at):
            raise UsageError(f"{question.name.text} makes no pair with anything: it has no address, or nothing is left"
                             " to look for")  # fmt: skip
        lines = sorted(self.lines, key=lambda each: (each.kind, each.family, VERDICTS.index(each.verdict), -each.pairs))
        looked_at, found = (tuple(sum(each.values()) for each in counts) for counts in (self.looked_at, self.found))
        return ReachAnswer(tuple(lines), looked_at, found, self.caveats(lines))

    def refuse_too_much(self, pairs: int, kinds: Kinds) -> None:
        """Raise TooMuch for more than can be looked at at once, rather than take all memory."""
        cells = pairs * (len(kinds.services) + _CELLS_OF_A_WORD * kinds.words)
        if cells > MOST_CELLS:
            raise TooMuch(
                f"{self.question.name.text} and what is looked for make {pairs:,} pairs, and rules tell {len(kinds):,}"
                " kinds of traffic apart, more than is looked at at once",
                "ask about less, about fewer services (--service) or single client ports (--client-ports), or for a"
                " matrix of groups",
            )

    def caveats(self, lines: Sequence[ReachLine]) -> tuple[str, ...]:
        told = list(self.question.name.caveats)
        if any(each.kind == NOBODY for each in lines):
            told.append("where nobody is recorded, no instance or host filter is asked, and what listens is not known")
        if any(line.verdict == PARTLY for line in lines):
            told.append("partly: only some client ports get an answer; a client that happens on another port fails")
        if self.is_any_hanging:
            told.append("of some of it only the first packet and its answer get through, for want of a kernel's rule"
                        " for known connections: kiboko check says of which, kiboko audit where")  # fmt: skip
        return tuple(told)

    # One family.

    def of_family(self, far: Sequence[SpaceEnd], near: Sequence[SpaceEnd], family: int) -> None:
        is_out = self.question.is_out
        senders, receivers = (near, far) if is_out else (far, near)
        kinds = self.space.kinds(family)
        blocks = list(self.space.blocks(senders, receivers, family, kinds, with_hanging=True))
        ids = np.zeros((len(far), len(near)), dtype=np.int32)
        met = np.zeros((len(far), len(near)), dtype=np.bool_)
        reading = Statuses(kinds, senders)
        for block in blocks:
            own = reading.ids(block.senders, block.outcome.arrives, block.outcome.answered, block.outcome.doubtful)
            if not self.is_any_hanging and block.outcome.hanging is not None:
                hanging = block.outcome.hanging & reading.sends[block.senders][None]
                self.is_any_hanging = bool((hanging.any(axis=2) & block.there).any())
            mine, there = (own, block.there) if is_out else (own.T, block.there.T)
            rows, columns = (block.receivers, block.senders) if is_out else (block.senders, block.receivers)
            where = np.ix_(rows, columns)
            ids[where] = np.where(there, mine, ids[where])
            met[where] |= there
        found = OutcomesOfPairs.of(ids, reading)
        found.drop_what_is_usual(far)
        found.turned().drop_what_is_usual(near)
        for row in np.flatnonzero(met.any(axis=1)).tolist():
            self.note(self.looked_at, far[row])
        for row in np.flatnonzero(found.is_any()).tolist():
            self.note(self.found, far[row])
        for kind in (RECORDED, NOBODY, OUTSIDE):
            alike = np.array([row for row, each in enumerate(far) if each.kind == kind], dtype=np.int64)
            for code in range(1, len(reading.known)):
                for rows, columns, services in found.products(alike, code):
                    self.add(reading.known[code], family, kind, far, near, alike[rows], columns, services, kinds)

    def note(self, counts: list[dict[str, int]], end: SpaceEnd) -> None:
        """Count an end once, in whichever family: an instance, an outside by name, else addresses."""
        name = end.instance or (end.outside if end.kind == OUTSIDE else None) or f"{end.atom}"
        counts[end.kind][name] = 1 if end.kind != NOBODY else end.count

    def add(
        self, status: Status, family: int, kind: int, far: Sequence[SpaceEnd], near: Sequence[SpaceEnd], rows: Rows,
        columns: Rows, services: Rows, kinds: Kinds,
    ) -> None:  # fmt: skip
        is_out = self.question.is_out
        mine, theirs = [far[row] for row in rows.tolist()], [near[column] for column in columns.tolist()]
        senders, receivers = (theirs, mine) if is_out else (mine, theirs)
        examples = [
            kind for kind, number in zip(kinds.kinds, kinds.service_of.tolist(), strict=True)
            if number in set(services.tolist()) and (not status.ports or kind.port in status.ports)
        ]  # fmt: skip
        told = functools.cache(lambda: let_in(self.space, senders, receivers, examples))
        every = RangeSet.of(pair for number in services.tolist() for pair in kinds.services[number])
        lowest = kinds.kinds[int(np.flatnonzero(kinds.service_of == services[0])[0])].service
        asked = next((each for each in self.usual if each in every), lowest)
        one, other = apart(senders, receivers)
        self.lines.append(
            ReachLine(
                VERDICTS[status.verdict - 1], family, kind,
                tuple(member for each in mine for member in each.members),
                tuple(member for each in theirs for member in each.members),
                every, status.ports, (one, other, Service(asked >> 16, asked & 0xFFFF)), told,
            )
        )  # fmt: skip


def far_members(ends: Ends, question: ReachQuestion) -> Iterator[Member]:
    """The ends that a question looks for."""
    left_out = {each.instance for end in question.excepted for each in end.members if each.instance}
    addresses = AddressSet.union(
        member_addresses(each) for end in question.excepted for each in end.members if each.low is not None
    )
    for member in ends.resolve("any").members:
        if member.low is None:
            if member.instance not in left_out and question.only != "outside":
                yield member
        elif question.only is None or (question.only == "outside" and member.outside is not None):
            yield from without_addresses(member, addresses)


def without_addresses(member: Member, left_out: AddressSet) -> Iterator[Member]:
    """A range less some addresses."""
    if not left_out or member.low is None or member.high is None:
        yield member
        return
    rest = member_addresses(member) - left_out
    for family in (4, 6):
        for low, high in rest.family(family):
            first, last = Address(family, low), Address(family, high)
            name = str(first) if low == high else f"{first}-{last}"
            yield Member(name, None, (), first, last, outside=member.outside)
