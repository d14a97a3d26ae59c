"""Expectations that were broken before a change, and are broken for more by it."""

from __future__ import annotations

from collections.abc import Sequence

from kiboko.core.changes.difference import Changed, Difference
from kiboko.core.changes.expecting import BROKEN, Held, broken_by
from kiboko.core.changes.spoken_of import SHUT, Part, SpokenOf
from kiboko.core.header.addresses import AddressSet, somebodys
from kiboko.core.header.services import Service, usual_first
from kiboko.core.network.model import Expectation
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.members import Member, member_addresses
from kiboko.core.walk.walk import ALLOWED, BLOCKED


def still_broken(new: Ends, outcomes: Sequence[tuple[Held, Held]], found: Difference) -> tuple[tuple[Held, str], ...]:
    """Of expectations as they are held before a change and after it those that are broken for more pairs by it, each
    with one that shows it. `found` is all that differs on their services."""
    worse = Worsened(new, found)
    told = ((now, worse.shown(now.expectation)) for was, now in outcomes if was.state == now.state == BROKEN)
    return tuple((now, pair) for now, pair in told if pair)


class Worsened:
    """What a change breaks further, by all that differs between both versions."""

    def __init__(self, new: Ends, found: Difference) -> None:
        self._new, self._found = new, found
        self._others = {*found.new, *found.moved} & new.topology.instances.keys()
        self._usual = usual_first(new.topology.services)
        self._addresses: dict[tuple[int, bool, bool], AddressSet] = {}
        """By which members these are: they stay where they are as long as all that differs does."""

    def shown(self, expectation: Expectation) -> str:
        """A pair that breaks an expectation now and did not; nothing where there is none."""
        spoken = SpokenOf(self._new, expectation)
        for part in spoken.parts():
            told = self._of_part(spoken, part)
            if told:
                return told
        return broken_by(self._new, expectation, self._others) if self._others else ""

    def _of_part(self, spoken: SpokenOf, part: Part) -> str:
        sides = [AddressSet.union(map(member_addresses, side)) for side in (part.sources, part.destinations)]
        is_shut, asked = part.promise == SHUT, spoken.expectation
        # What must not arrive must not from anywhere; all else is of machines and outsides, unless it was asked for.
        with_nobody = is_shut, spoken.is_of_addresses
        for each in self._found.changed:
            services = each.services & asked.services
            if not services or asked.family not in (None, each.family) or not _is_broken(each, is_shut):
                continue
            ends = [
                (members, side, nobody, is_shut)
                for members, side, nobody in zip((each.sources, each.destinations), sides, with_nobody, strict=True)
            ]
            if all(self._of(members, *told).meets(side) for members, side, *told in ends):
                source, destination = (
                    _one_of(next(one for one in members if _is_meant(one, *told) and one.is_among(side)))
                    for members, side, *told in ends
                )
                number = next((number for number in self._usual if number in services), services.lowest)
                word = "arrives" if is_shut else "does not get through"
                return f"{source} to {destination} on {Service(number >> 16, number & 0xFFFF)} {word}"
        return ""

    def _of(self, members: tuple[Member, ...], with_nobody: bool, with_further: bool) -> AddressSet:
        """The addresses of those members that are meant."""
        key = id(members), with_nobody, with_further
        if key not in self._addresses:
            self._addresses[key] = AddressSet.union(
                member_addresses(each) for each in members if _is_meant(each, with_nobody, with_further)
            )
        return self._addresses[key]


def _is_broken(changed: Changed, is_shut: bool) -> bool:
    """Whether verdicts that changed break a promise now and did not."""
    if is_shut:
        return changed.before == BLOCKED != changed.after
    return changed.before == ALLOWED != changed.after


def _is_meant(member: Member, with_nobody: bool, with_further: bool) -> bool:
    """Whether a promise is about an end: addresses where nobody is recorded may count or not, and so may those of a
    machine that it does not use without being asked."""
    is_somebody = member.machine is not None or member.outside is not None
    return (with_nobody or is_somebody) and (with_further or not member.is_further)


def _one_of(member: Member) -> str:
    """An end by its name, and addresses by one that somebody could have."""
    return member.name if member.low is None or member.high is None else str(somebodys(member.low, member.high))
