"""A change rehearsed before it is made: every verdict, expectation and finding that it turns."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from kiboko.core.audit.audit import Scope, audit
from kiboko.core.audit.findings import NOTE, Finding
from kiboko.core.changes.difference import Difference, difference
from kiboko.core.changes.expecting import Held, held
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.edits import toggled_rule
from kiboko.core.network.model import Expectation, Topology
from kiboko.core.queries.ends import Ends


@dataclass(frozen=True, slots=True)
class Rehearsal:
    """What a change does: all that differs, the expectations as they are held before and after, side by side, and the
    findings that it ends and that it brings."""

    difference: Difference
    expectations: tuple[tuple[Held, Held], ...]
    ended: tuple[Finding, ...]
    brought: tuple[Finding, ...]

    @property
    def broken(self) -> tuple[Held, ...]:
        """The expectations that the change breaks."""
        return tuple(after for before, after in self.expectations if before.state != after.state == "broken")

    @property
    def mended(self) -> tuple[Held, ...]:
        """Those that it mends."""
        return tuple(after for before, after in self.expectations if before.state != after.state == "held")


def toggled(topology: Topology, rules: list[str]) -> Topology:
    """A network with some rules switched: on where they are off, off where they are on. Raises UsageError."""
    for rule in rules:
        topology = toggled_rule(topology, rule)
    return topology


def rehearse(
    old: Ends, new: Ends, services: RangeSet, family: int | None, today: date, expectations: Sequence[Expectation]
) -> Rehearsal:
    """What a change does, from the network before and after it, and to some expectations. Raises UsageError as
    `difference` does."""
    found = difference(old, new, services, family)
    before, after = held(old, expectations), held(new, expectations)
    what = found.touched
    scope = Scope(what.filters, what.services) if what is not None else None
    findings = [
        {(each.id, each.at): each for each in audit(ends, today, scope=scope).findings if each.severity != NOTE}
        for ends in (old, new)
    ]
    return Rehearsal(
        found, tuple(zip(before, after, strict=True)),
        tuple(each for key, each in findings[0].items() if key not in findings[1]),
        tuple(each for key, each in findings[1].items() if key not in findings[0]),
    )  # fmt: skip
