"""What of the findings somebody asks about: all of them, or those that a change can bring or end."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.queries.members import Member


@dataclass(frozen=True, slots=True)
class Scope:
    """Of the rules of which filters; of traffic on which services, from whom and to whom, of which one end is among
    `ends`; and of which machines it is asked what reaches them, and on which services. None stands for all."""

    filters: frozenset[str] | None = None
    services: RangeSet | None = None
    senders: AddressSet | None = None
    receivers: AddressSet | None = None
    machines: Mapping[str, RangeSet] | None = None
    ends: AddressSet | None = None

    def has_filter(self, name: str) -> bool:
        """Whether the rules of a filter are looked at."""
        return self.filters is None or name in self.filters

    def has_machine(self, name: str) -> bool:
        """Whether it is asked what reaches a machine."""
        return self.machines is None or name in self.machines

    def among(self, services: RangeSet) -> RangeSet:
        """Those of some services that are looked at."""
        return services if self.services is None else services & self.services

    def listened_to(self, machine: str, services: RangeSet) -> RangeSet:
        """Of some services that a machine listens to those on which it is asked what reaches it."""
        if self.machines is not None:
            services = services & self.machines.get(machine, RangeSet())
        return self.among(services)

    def between(
        self, senders: Iterable[Member], receivers: Iterable[Member]
    ) -> Iterator[tuple[list[Member], list[Member]]]:
        """Those of some senders and receivers that the traffic may go between: all of each with all."""
        near, far = _some(senders, self.senders), _some(receivers, self.receivers)
        if self.ends is None:
            yield near, far
            return
        mine = set(_some(near, self.ends))
        yield [each for each in near if each in mine], far
        yield [each for each in near if each not in mine], _some(far, self.ends)


WHOLE = Scope()


def _some(members: Iterable[Member], wanted: AddressSet | None) -> list[Member]:
    return [each for each in members if wanted is None or each.is_among(wanted)]
