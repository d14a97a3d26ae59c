"""A change rehearsed before it is made: every verdict, expectation and finding that it turns."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date

from kiboko.core.audit.audit import audit
from kiboko.core.audit.findings import NOTE, Finding
from kiboko.core.audit.listening import of_unreached, unreached
from kiboko.core.audit.scope import Scope
from kiboko.core.changes.difference import Difference, difference
from kiboko.core.changes.expecting import Held, held
from kiboko.core.errors import UsageError
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.edits import toggled_rule
from kiboko.core.network.model import Expectation, Topology
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.spreading import Spread

_FEW_MACHINES = 1_000
"""The findings of as many are sooner looked for than processes started."""


@dataclass(frozen=True, slots=True)
class Rehearsal:
    """What a change does: all that differs, the expectations as they are held before and after, side by side, and the
    findings that it ends and that it brings."""

    difference: Difference
    expectations: tuple[tuple[Held, Held], ...]
    ended: tuple[Finding, ...]
    brought: tuple[Finding, ...]
    left_out: tuple[str, ...] = ()
    """Findings that were not looked for, in sentences: there is too much to look at."""

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
    old: Ends, new: Ends, services: RangeSet, family: int | None, today: date, expectations: Sequence[Expectation],
    spread: Spread = map,
) -> Rehearsal:  # fmt: skip
    """What a change does, from the network before and after it, and to some expectations. `spread` has a function
    called with some numbers, as `map` does, perhaps by other processes. Raises UsageError as `difference` does."""
    found = difference(old, new, services, family, spread=spread)
    before, after = held(old, expectations), held(new, expectations)
    scope = _scope(old, new, found, services if family is None else RangeSet(), spread)
    # A finding gathers all machines that nobody reaches on the same services: what is told is what differs of each.
    shut = [unreached(ends, scope) for ends in (old, new)]
    rest = dataclasses.replace(scope, machines=frozenset())
    only = [{name: left for name, some in mine.items() if (left := some - others.get(name, RangeSet()))}
            for mine, others in (shut, shut[::-1])]  # fmt: skip

    def listed(version: int) -> tuple[dict[tuple[str, str], Finding], tuple[str, ...]]:
        ends = (old, new)[version]
        audited = audit(ends, today, of_unreached(ends, only[version]), scope=rest)
        return {(each.id, each.at): each for each in audited.findings if each.severity != NOTE}, audited.left_out

    audits = list((spread if len(old.topology.instances) > _FEW_MACHINES else map)(listed, range(2)))
    findings = [mine for mine, _ in audits]
    left_out = dict.fromkeys(each for _, sentences in audits for each in sentences)
    ended, brought = (
        tuple(each for key, each in mine.items() if key not in others or each.id == "unallowed-listener")
        for mine, others in (findings, findings[::-1])
    )
    return Rehearsal(found, tuple(zip(before, after, strict=True)), ended, brought, tuple(left_out))


def _scope(old: Ends, new: Ends, found: Difference, compared: RangeSet, spread: Spread = map) -> Scope:
    """What of the findings a change may turn; `compared` are the services that `found` is about in both families."""
    what = found.touched
    every = resolve_service("any", {})
    if what is not None:
        every = every & what.services
    whole: Difference | None = found
    if every - compared:
        try:
            whole = difference(old, new, every, spread=spread)
        except UsageError:  # too many pairs: every machine is looked at
            whole = None
    machines = frozenset(_turned(new.topology, whole)) if whole is not None else None
    if what is None or not what.is_of_rules:
        return Scope(machines=machines, ends=what.ends if what is not None else None)
    # A rule that is moved may turn no packet, and still be one that no packet gets to, or that another makes needless.
    filters = frozenset(each.name.split("/")[0] for each in found.said if each.section in ("filters", "rules"))
    return Scope(what.filters | filters, what.services, what.senders, what.receivers, machines)


def _turned(new: Topology, whole: Difference) -> Iterator[str]:
    """The machines that are not as they were, or of which a verdict on what is sent to them is not."""
    yield from (*whole.gone, *whole.new, *whole.moved)
    for each in whole.changed:
        yield from (member.instance for member in each.destinations if member.instance is not None)
    yield from (each.name for each in whole.said if each.section == "instances" and each.name in new.instances)
