"""Ends that reach another by way of machines: whoever may log in to one may go on from there."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.members import Member
from kiboko.core.reachability.common_ends import common_ends
from kiboko.core.reachability.letting_in import LetIn, let_in
from kiboko.core.reachability.reach import ReachQuestion, far_members
from kiboko.core.reachability.space import NOBODY, OUTSIDE, RECORDED, Space, SpaceEnd
from kiboko.core.tables.kinds import Kind

Rows = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Hop:
    """One connection of a chain: who sends to whom on what, and the rules that let it pass."""

    source: Member
    destination: Member
    service: Service
    rules: tuple[LetIn, ...]


@dataclass(frozen=True, slots=True)
class Chain:
    """Ends whose shortest way to the end that was asked about takes `steps` connections; `hops` are those of the first
    of them. All of `sources` log in to the same machine first, on the same service."""

    steps: int
    family: int
    kind: int
    sources: tuple[Member, ...]
    hops: tuple[Hop, ...]


@dataclass(frozen=True, slots=True)
class _Link:
    """How a sender goes on: to which end, on which kind of traffic."""

    receiver: SpaceEnd
    kind: Kind


def stepping_stones(ends: Ends, question: ReachQuestion, logins: RangeSet, most: int) -> tuple[Chain, ...]:
    """Everything that reaches an end in at most `most` connections, and in no less than two.

    Parameters
    ----------
    question : what is asked; its services are those of the last connection
    logins : the services by which a machine is logged in to, as service numbers
    most : how many connections a chain may have
    """
    found: list[Chain] = []
    # Whoever is looked for, the machines on the way are any.
    members = tuple(far_members(ends, dataclasses.replace(question, only=None)))
    for family in (4, 6) if question.family is None else (question.family,):
        found += _Stones(ends, question, logins, family, members).chains(most)
    if question.only is not None:
        found = [chain for chain in found if (chain.kind == OUTSIDE) == (question.only == "outside")
                 and (chain.kind != NOBODY)]  # fmt: skip
    return tuple(sorted(found, key=lambda chain: (chain.steps, chain.kind, chain.family, -len(chain.sources))))


class _Stones:
    def __init__(
        self, ends: Ends, question: ReachQuestion, logins: RangeSet, family: int, members: Sequence[Member]
    ) -> None:
        self.family = family
        self.last = Space(ends, question.services, question.ports)
        self.on_the_way = Space(ends, logins)
        self.targets = question.name.members
        self.members = members

    def chains(self, most: int) -> Iterator[Chain]:
        """All chains of one family, the shortest first."""
        targets = self.last.ends_of(self.targets, self.family, False)
        spaces = self.last, self.on_the_way
        found = [space.ends_of(self.members, self.family, True) for space in spaces]
        # What rules tell apart on the last connection and on those before it differs: an end is what neither does.
        both = common_ends(spaces, (found[0], found[1]))
        if not targets or not both:
            return
        senders, senders_later = [one for one, _ in both], [other for _, other in both]
        own = {each.instance for each in targets if each.instance}
        links: dict[int, tuple[int, _Link, Space]] = {}
        self.link(self.last, senders, targets, range(len(senders)), 1, links)
        stones = self.on_the_way.ends_of(self.members, self.family, False)
        done = set(own)
        by_instance: dict[str | None, int] = {}
        for steps in range(2, most + 1):
            # A machine of several interfaces is as near as the nearest of them.
            before: dict[str | None, int] = {}
            for row, (at, _, _) in links.items():
                name = senders[row].instance
                if at == steps - 1 and senders[row].kind == RECORDED and name is not None and name not in done:
                    before.setdefault(name, row)
            by_instance |= before
            done.update(name for name in before if name is not None)
            near = [each for each in stones if each.kind == RECORDED and each.instance in before]
            left = [row for row, each in enumerate(senders) if row not in links and each.instance not in done]
            if not near or not left:
                break
            self.link(self.on_the_way, senders_later, near, left, steps, links)
            yield from self.of_step(steps, senders, links, by_instance)

    def link(
        self, space: Space, senders: Sequence[SpaceEnd], receivers: Sequence[SpaceEnd], rows: Sequence[int], steps: int,
        links: dict[int, tuple[int, _Link, Space]],
    ) -> None:  # fmt: skip
        """Note for every sender that gets through to a receiver the first of them, and the first kind of traffic."""
        asked = [senders[row] for row in rows]
        space.prepare(receivers)
        kinds = space.kinds(self.family)
        blocks = list(space.blocks(asked, receivers, self.family, kinds))
        sends = kinds.sent_by([each.ports for each in asked])
        for block in blocks:
            passed = block.outcome.answered & ~block.outcome.doubtful & sends[block.senders][None]
            passed = np.where(block.there[..., None], passed, np.uint64(0))
            hit: NDArray[np.bool_] = np.any(passed, axis=2)
            for column in np.flatnonzero(hit.any(axis=0)).tolist():
                place = int(block.senders[column])
                row = int(hit[:, column].argmax())
                kind = kinds.kinds[int(kinds.unpacked(passed[row, column]).argmax())]
                links.setdefault(rows[place], (steps, _Link(receivers[int(block.receivers[row])], kind), space))

    def of_step(
        self, steps: int, senders: Sequence[SpaceEnd], links: dict[int, tuple[int, _Link, Space]],
        by_instance: dict[str | None, int],
    ) -> Iterator[Chain]:  # fmt: skip
        """The chains of so many connections, those of one next machine and service together."""
        alike: dict[tuple[str | None, Kind, int], list[int]] = {}
        for row, (at, link, _) in links.items():
            if at == steps:
                alike.setdefault((link.receiver.instance, link.kind, senders[row].kind), []).append(row)
        for (_, _, kind), rows in alike.items():
            hops: list[Hop] = []
            place: int | None = rows[0]
            while place is not None:
                _, link, space = links[place]
                hops.append(self.hop(senders[place], link, space))
                place = by_instance.get(link.receiver.instance) if space is self.on_the_way else None
            sources = tuple(member for each in rows for member in senders[each].members)
            yield Chain(steps, self.family, kind, sources, tuple(hops))

    def hop(self, sender: SpaceEnd, link: _Link, space: Space) -> Hop:
        """One connection of a chain."""
        kind = link.kind
        rules, _ = let_in(space, [sender], [link.receiver], [kind])
        service = Service(kind.service >> 16, kind.service & 0xFFFF)
        return Hop(sender.members[0], link.receiver.members[-1], service, rules)
