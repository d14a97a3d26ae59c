"""Expectations that were broken before a change, and are broken for more by it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from kiboko.core.changes.difference import Changed, Difference
from kiboko.core.changes.expecting import BROKEN, Held, broken_by
from kiboko.core.changes.spoken_of import SHUT, Part, SpokenOf
from kiboko.core.header.addresses import AddressSet, somebodys
from kiboko.core.header.services import TCP, Service, usual_services
from kiboko.core.network.model import Expectation
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.members import Member, member_addresses
from kiboko.core.walk.walk import ALLOWED, BLOCKED


def still_broken(new: Ends, outcomes: Sequence[tuple[Held, Held]], found: Difference) -> tuple[tuple[Held, str], ...]:
    """Of expectations as they are held before a change and after it those that are broken for more pairs by it, each
    with one that shows it. `found` is all that differs on their services."""
    told = ((now, worse_for(new, now.expectation, found)) for was, now in outcomes if was.state == now.state == BROKEN)
    return tuple((now, pair) for now, pair in told if pair)


def worse_for(new: Ends, expectation: Expectation, found: Difference) -> str:
    """Of an expectation that is broken before and after what shows that it is so for more pairs now, by all that
    differs between both versions on its services; nothing where it is not."""
    spoken = SpokenOf(new, expectation)
    for part in spoken.parts():
        held = _HeldTo(spoken, part)
        told = next(filter(None, map(held.newly_broken, found.changed)), "")
        if told:
            return told
    others = {*found.new, *found.moved} & new.topology.instances.keys()
    return broken_by(new, expectation, others) if others else ""


class _HeldTo:
    """Verdicts that changed, held to a part of an expectation."""

    def __init__(self, spoken: SpokenOf, part: Part) -> None:
        self._spoken = spoken
        self._sides = [AddressSet.union(map(member_addresses, side)) for side in (part.sources, part.destinations)]
        self._is_shut = part.promise == SHUT

    def newly_broken(self, changed: Changed) -> str:
        """A pair of those whose verdict changed which breaks the promise now and did not."""
        asked = self._spoken.expectation
        services = changed.services & asked.services
        if not services or asked.family not in (None, changed.family) or not self._is_broken(changed):
            return ""
        # What must not arrive must not from anywhere; all else is of machines and outsides, unless it was asked for.
        source = next(self._among(changed.sources, 0, self._is_shut), None)
        destination = next(self._among(changed.destinations, 1, self._spoken.is_of_addresses), None)
        if source is None or destination is None:
            return ""
        usual = sorted(usual_services(self._spoken.ends.topology.services), key=lambda number: number >> 16 != TCP)
        number = next((each for each in usual if each in services), services.lowest)
        word = "arrives" if self._is_shut else "does not get through"
        return f"{_one_of(source)} to {_one_of(destination)} on {Service(number >> 16, number & 0xFFFF)} {word}"

    def _is_broken(self, changed: Changed) -> bool:
        if self._is_shut:
            return changed.before == BLOCKED != changed.after
        return changed.before == ALLOWED != changed.after

    def _among(self, members: Sequence[Member], side: int, with_nobody: bool) -> Iterator[Member]:
        """Those that the promise is about: what must get through does by the addresses that are used."""
        for each in members:
            is_asked = with_nobody or each.machine is not None or each.outside is not None
            if is_asked and (self._is_shut or not each.is_further) and each.is_among(self._sides[side]):
                yield each


def _one_of(member: Member) -> str:
    """An end by its name, and addresses by one that somebody could have."""
    return member.name if member.low is None or member.high is None else str(somebodys(member.low, member.high))
