"""What a change can touch: which pairs of ends may come to anything else by it, and on which services.

A pair is judged by the rules of the filters on its way, by what both ends are, and by the routes and crossings between
them. So a change of rules touches pairs of which one end carries the filter; a change of a machine or a subnet touches
pairs of which one end is it, or lies in it; and so on. What lies on the way of others touches them all.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from kiboko.core.changes.changed_rules import EVERYTHING, all_of
from kiboko.core.changes.said import Said
from kiboko.core.changes.sides import Touching
from kiboko.core.changes.touched_by_rules import OfRules
from kiboko.core.changes.touched_by_structure import OfStructure
from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.members import Member

_WHOLE = frozenset(("defaults", "networks", "outside", "gateways"))
"""Sections that may touch everybody."""


@dataclass(frozen=True, slots=True)
class Touched:
    """What a change can touch: traffic on `services` between the pairs of `parts`. `filters` are those whose rules
    differ. `senders` and `receivers` are the addresses that all of it goes from and to, None for all. `is_of_rules`
    tells that nothing else differs. `ends` are the addresses of which one is of each pair that anything but a rule
    touches."""

    filters: frozenset[str]
    parts: tuple[Touching, ...]
    services: RangeSet
    senders: AddressSet | None
    receivers: AddressSet | None
    is_of_rules: bool = True
    ends: AddressSet | None = None

    def chosen(self, members: Iterable[Member], is_sender: bool) -> Iterator[Member]:
        """Those of some members that the traffic may go from, or to."""
        wanted = self.senders if is_sender else self.receivers
        return (each for each in members if wanted is None or each.is_among(wanted))


def touched(old: Ends, new: Ends, said: Sequence[Said]) -> Touched | None:
    """What a change can touch, of which it is known what both versions say differently; None where that may be
    everything."""
    named: dict[str, list[str]] = {}
    for each in said:
        named.setdefault(each.section, []).append(each.name)
    if not _WHOLE.isdisjoint(named):
        return None
    rules = OfRules(old, new)
    structure = OfStructure(old, new, named)
    if not structure.parts:
        return Touched(
            rules.filters, tuple(rules.parts), RangeSet.of(pair for each in rules.traffic for pair in each.services),
            all_of([each.senders for each in rules.traffic]), all_of([each.receivers for each in rules.traffic]),
        )  # fmt: skip
    if structure.is_everything:
        return None
    return Touched(rules.filters, (*rules.parts, *structure.parts), EVERYTHING, None, None, False,
                   all_of(structure.ends))  # fmt: skip
