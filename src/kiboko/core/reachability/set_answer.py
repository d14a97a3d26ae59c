"""What a question about sets comes to: rows of distinct outcomes, each as products of ends and services."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from operator import attrgetter
from typing import NamedTuple

from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.queries.members import Member, machines_of
from kiboko.core.walk.gates import Row
from kiboko.core.walk.walk import PARTLY, UNKNOWN, Walk

_FEW_NAMES = 4
_LISTENS = re.compile(r"whether (.+) listens on (.+) is not known")


@dataclass(frozen=True, slots=True)
class EndCount:
    """How many ends some members are: instances by name, addresses with nobody recorded, outsides by name."""

    instances: tuple[str, ...] = ()
    addresses: int = 0
    outsides: tuple[str, ...] = ()

    @classmethod
    def of(cls, members: Iterable[Member]) -> EndCount:
        """Count members, an instance once however many of its addresses are among them."""
        listed = list(members)
        return cls(
            tuple(machines_of(listed)),
            sum(member.count for member in listed if member.machine is None and member.outside is None),
            tuple(dict.fromkeys(member.outside for member in listed if member.outside is not None)),
        )


class Product(NamedTuple):
    """Every source with every destination on every service; `size` is how many pairs of ends there are, by which
    products are ranked."""

    sources: tuple[Member, ...]
    destinations: tuple[Member, ...]
    services: RangeSet
    size: int

    def source_texts(self) -> list[str]:
        """The sources: names, then what is left as blocks and ranges."""
        return member_texts(self.sources)

    def destination_texts(self) -> list[str]:
        """The destinations, likewise."""
        return member_texts(self.destinations)


@dataclass(frozen=True, slots=True)
class SetRow:
    """One distinct outcome: the products that share it, the largest first, how many ends they are, and one example.

    `family` is None where both families come to the same, or only one is there; `kind` is that of the ends that are
    least known among its products. `outcomes` is how many distinct ones it stands for, and `gist` what those have in
    common.
    """

    parts: tuple[Product, ...]
    example: Walk
    example_names: tuple[str, str]
    family: int | None
    kind: int
    sources: EndCount
    destinations: EndCount
    outcomes: int = 1
    gist: str = ""

    @property
    def reason(self) -> str | None:
        """Why the way itself stops it, in words that hold for every member; None where a rule decides, or one alone."""
        decider = self.example.decided_by
        single = len(self.parts) == 1 and len(self.parts[0].sources) == len(self.parts[0].destinations) == 1
        if self.gist or decider is None or single:
            return self.gist or None
        if decider.gate == "listener":
            return "nothing listens there" if _is_bare(decider) else "what listens there is bound to another address"
        stop = decider.step.stop
        return (SHARED_REASONS.get(stop.kind) or stop.of_entry or None) if stop is not None else None


SHARED_REASONS = {
    "stopped": "the machine is stopped",
    "no subnet of its own": "the sender lies in no subnet",
    "nowhere": "the address belongs to no subnet and no outside",
    "no subnet": "no subnet holds the destination",
    "no route": "the sender's subnet has no route there",
    "no address": "an end has no address that the other can use",
    "private": "the address is private, and nothing leads there from outside",
    "nobody": "the address is nobody's",
    "shared": "a nat gateway lets in only replies",
    "loop": "the routes lead round in a circle",
    "has no public address": "the sender has no public address",
    "is not a global address": "the sender's address is not global",
}
"""Why the way itself stops a packet, in words that hold for every end."""


@dataclass(frozen=True, slots=True)
class SetAnswer:
    """All rows, how many ends were asked about, and the caveats of the examples."""

    rows: tuple[SetRow, ...]
    sources: EndCount
    destinations: EndCount
    walks: int
    caveats: tuple[str, ...]


def together(rows: Sequence[SetRow]) -> list[SetRow]:
    """Rows with those in one that differ in names alone: of a route's entry that does not lead there, of two zones
    without a crossing. It stands at the place of the first of them, with the example of that."""
    found: dict[object, list[SetRow]] = {}
    for number, row in enumerate(rows):
        decider, gist = row.example.decided_by, _gist(row.example)
        rest = (*_comes_to(row.example), decider.direction, decider.action) if decider is not None else ()
        found.setdefault((gist, row.kind, row.family, *rest) if gist else number, []).append(row)
    return [_joined(mine) if len(mine) > 1 else mine[0] for mine in found.values()]


def _joined(rows: Sequence[SetRow]) -> SetRow:
    parts = sorted((part for row in rows for part in row.parts), key=lambda part: -part.size)
    sources, destinations = (
        EndCount.of({id(member): member for part in parts for member in side(part)}.values())
        for side in (attrgetter("sources"), attrgetter("destinations"))
    )
    return replace(
        rows[0], parts=tuple(parts), sources=sources, destinations=destinations, outcomes=len(rows),
        gist=_gist(rows[0].example) or "",
    )  # fmt: skip


def _gist(walk: Walk) -> str | None:
    """What decides, without the names of a route's entry or of zones; None where a rule does, or another reason."""
    decider = walk.decided_by
    if decider is None or decider.filter is not None:
        return None
    step = decider.step
    if step.stop is not None and step.stop.names_entry and step.lookup is not None and step.lookup.entry is not None:
        if step.lookup.entry.discard:
            return "the route throws it away"
        return f"the {'next hop' if step.lookup.entry.instance else 'gateway'} of the route does not take it there"
    if step.zones is not None and step.stop is None:
        if step.zones[0] == step.zones[1]:
            return "inside one zone, by default"
        return "no crossing between the two zones is listed"
    return None


def member_texts(members: Iterable[Member]) -> list[str]:
    """Members as text: instances by name, addresses merged to blocks and ranges."""
    listed = list(members)
    names = list(dict.fromkeys(member.name for member in listed if member.low is None))
    ranges: dict[int, list[tuple[int, int]]] = {4: [], 6: []}
    for member in listed:
        if member.low is not None and member.high is not None:
            ranges[member.low.family].append((member.low.value, member.high.value))
    return names + AddressSet(RangeSet.of(ranges[4]), RangeSet.of(ranges[6])).texts()


OutcomeKey = tuple[object, ...]


def outcome_key(walk: Walk) -> OutcomeKey:
    """What a walk comes to: equal for walks of one row."""
    decider = walk.decided_by
    return (*_comes_to(walk), _why(decider) if decider is not None else ())


def _comes_to(walk: Walk) -> OutcomeKey:
    """The same, but for what decides."""
    return walk.verdict, walk.signal, walk.answered if walk.verdict in (PARTLY, UNKNOWN) else None, walk.either


def _is_bare(listener: Row) -> bool:
    """Whether nothing listens at all, rather than at another address."""
    return listener.reason.startswith("nothing listens")


def _why(decider: Row) -> OutcomeKey:
    """What a reason is told apart by: members of one row must share it whole."""
    if decider.gate == "listener":
        return decider.gate, decider.direction, decider.action, _is_bare(decider)
    why: OutcomeKey = (
        decider.gate, decider.direction, decider.filter, decider.rule, decider.action, decider.place, decider.chain,
    )  # fmt: skip
    stop = decider.step.stop
    if stop is not None:
        return (*why, stop.kind if stop.kind in SHARED_REASONS else stop.of_entry or stop.reason)
    if decider.filter is None and decider.gate == "zone":
        return (*why, decider.at)
    return why


def told_together(caveats: Iterable[str]) -> list[str]:
    """Caveats with those on what listens told once for each service: many examples are of many machines."""
    machines: dict[str, list[str]] = {}
    found: dict[str, None] = {}
    for caveat in caveats:
        met = _LISTENS.fullmatch(caveat)
        if met is None:
            found[caveat] = None
        else:
            machines.setdefault(met[2], []).append(met[1])
            found[met[2]] = None
    return [_listening_unknown(machines[each], each) if each in machines else each for each in found]


def _listening_unknown(names: list[str], service: str) -> str:
    listed = ", ".join(names[:_FEW_NAMES]) + (f" and {len(names) - _FEW_NAMES:,} more" if names[_FEW_NAMES:] else "")
    return f"whether {listed} {'listens' if len(names) == 1 else 'listen'} on {service} is not known"
