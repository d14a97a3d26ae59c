"""Who and what an expectation speaks of: the pairs of ends, and what is promised of them."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass

from kiboko.core.errors import Problem, UsageError
from kiboko.core.header.addresses import Address, AddressSet, reads_as_address
from kiboko.core.network.model import Expectation, Interface
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.members import Member, member_addresses
from kiboko.core.reachability.reach import without_addresses
from kiboko.core.walk.walk import BLOCKED

ONLY = "only"
THROUGH, SHUT = "through", "shut"
"""What is promised of a pair: that all gets through, or that nothing arrives."""


@dataclass(frozen=True, slots=True)
class Part:
    """The same promised of every pair of some senders and receivers."""

    promise: str
    sources: Sequence[Member]
    destinations: Sequence[Member]

    def with_one_of(self, machines: Collection[str]) -> Iterator[tuple[list[Member], list[Member]]]:
        """Those of the pairs of which some machines are an end: senders and receivers, all of each with all."""
        mine, others = ([each for each in self.sources if (each.instance in machines) == is_mine]
                        for is_mine in (True, False))  # fmt: skip
        yield mine, list(self.destinations)
        yield others, [each for each in self.destinations if each.instance in machines]


class SpokenOf:
    """The ends of one expectation in a network."""

    def __init__(self, ends: Ends, expectation: Expectation) -> None:
        self.ends, self.expectation = ends, expectation

    @property
    def is_of_addresses(self) -> bool:
        """Whether it is sent to addresses that were asked for as such, recorded or not."""
        return any(reads_as_address(name) or "/" in name for name in self.expectation.destinations)

    def parts(self) -> list[Part]:
        """What is promised of whom. Raises UsageError for an end that is not known."""
        asked = self.expectation
        excepted = [member for name in asked.excepted for member in self.resolve(name)]
        sources = list(self.members(asked.sources, excepted))
        destinations = list(self.members(asked.destinations, []))
        found = [Part(SHUT if asked.expect == BLOCKED else THROUGH, sources, destinations)]
        if asked.expect == ONLY:
            others = list(self.less(self.ends.resolve("any").members, [*sources, *excepted]))
            found.append(Part(SHUT, others, destinations))
        return found

    def unknown(self) -> Iterator[Problem]:
        """Every end that is not known."""
        asked = self.expectation
        for name in dict.fromkeys((*asked.sources, *asked.destinations, *asked.excepted)):
            try:
                self.ends.resolve_deliverable(name)
            except UsageError as error:
                yield Problem(asked.place, f"expectation '{asked.id}': {error}")

    def resolve(self, name: str) -> tuple[Member, ...]:
        """The members of an end."""
        return self.ends.resolve_deliverable(name).members

    def members(self, names: Sequence[str], excepted: Sequence[Member]) -> Iterator[Member]:
        """What some names stand for, each once, without those that are excepted."""
        found = dict.fromkeys(member for name in names for member in self.resolve(name))
        yield from self.less(tuple(found), excepted)

    def less(self, members: Sequence[Member], excepted: Sequence[Member]) -> Iterator[Member]:
        """Members without others: machines address by address, ranges by what is in them."""
        named = {(interface.name, address) for each in excepted for interface in each.interfaces
                 for address in interface.addresses}  # fmt: skip
        whole = {each.instance for each in excepted if each.low is None and not each.interfaces}
        addresses = AddressSet.union(member_addresses(each) for each in excepted if each.low is not None)
        for member in members:
            if member.low is not None:
                yield from without_addresses(member, addresses)
            elif member.instance in whole:
                continue
            elif not any((each.name, address) in named for each in member.interfaces for address in each.addresses):
                yield member
            elif left := tuple(rest for each in member.interfaces if (rest := _without(each, named)).addresses):
                yield Member(left[0].name, member.instance, left)


def _without(interface: Interface, named: set[tuple[str, Address]]) -> Interface:
    """An interface without some of its addresses."""
    left = tuple(address for address in interface.addresses if (interface.name, address) not in named)
    return interface._replace(addresses=left)
