"""A change rehearsed before it is made: every verdict, expectation and finding that it turns."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date

from kiboko.core.audit.audit import audit
from kiboko.core.audit.findings import NOTE, Finding, few
from kiboko.core.audit.listening import of_unreached, reached_by, unreached
from kiboko.core.audit.scope import Scope
from kiboko.core.changes.difference import Difference, difference
from kiboko.core.changes.expecting import Held, held
from kiboko.core.changes.worsened import still_broken
from kiboko.core.errors import UsageError
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import services_texts
from kiboko.core.network.edits import toggled_rule
from kiboko.core.network.model import Expectation, Topology
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.queries.members import Member
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
    worse: tuple[tuple[Held, str], ...] = ()
    """The expectations that were broken before and are for more now, each with a pair of those."""

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
    before, after = (held(ends, expectations, spread) for ends in (old, new))
    whole = _of_all_services(old, new, found, services if family is None else RangeSet(), spread)
    scope = _scope(found)
    # A finding gathers all machines that nobody reaches on the same services: what is told is what differs of each.
    shut = [unreached(ends, dataclasses.replace(scope, machines=machines), spread)
            for ends, machines in zip((old, new), _turned(old, new, whole, scope), strict=True)]  # fmt: skip
    only = [{name: left for name, some in mine.items() if (left := some - others.get(name, RangeSet()))}
            for mine, others in (shut, shut[::-1])]  # fmt: skip

    def listed(version: int) -> tuple[list[Finding], tuple[str, ...]]:
        ends = (old, new)[version]
        audited = audit(ends, today, of_unreached(ends, only[version]), scope=scope)
        return [each for each in audited.findings if each.severity != NOTE], audited.left_out

    audits = list((spread if len(old.topology.instances) > _FEW_MACHINES else map)(listed, range(2)))
    findings = [mine for mine, _ in audits]
    left_out = dict.fromkeys(each for _, sentences in audits for each in sentences)
    ended, brought = (
        tuple(_of_one_version(word, *each)) for word, each in (("over", findings), ("new", findings[::-1]))
    )
    outcomes = tuple(zip(before, after, strict=True))
    worse = still_broken(new, outcomes, whole if whole is not None else found)
    return Rehearsal(found, outcomes, ended, brought, tuple(left_out), worse)


def _of_one_version(word: str, mine: Sequence[Finding], others: Sequence[Finding]) -> Iterator[Finding]:
    """The findings of one version that the other has not: what can be got to by its machines and services, whichever
    rule lets it in, all else by its kind and place. Machines that nobody reaches are those that differ anyhow. What is
    in one version in part is told of first, by `word`."""
    known = {(each.id, each.at) for each in others}
    opened = [_opened(findings) for findings in (mine, others)]
    told: set[tuple[str, str]] = set()
    for each in mine:
        key = each.id, each.at
        if each.opened:
            fresh = {name: left for name, services in each.opened
                     if (left := services - opened[1].get((each.id, name), RangeSet()))}  # fmt: skip
            if fresh == dict(each.opened):
                yield each
            elif fresh:
                services = RangeSet.of(pair for some in fresh.values() for pair in some)
                proof = f"{word} is {few(services_texts(services))} of {few(fresh)}: {each.proof}"
                yield dataclasses.replace(each, proof=proof, machines=tuple(fresh), opened=tuple(fresh.items()))
        elif each.id == "unallowed-listener" or (key not in known and key not in told):
            told.add(key)
            yield each


def _opened(findings: Sequence[Finding]) -> dict[tuple[str, str], RangeSet]:
    """What can be got to that should not be by some findings: the services of each kind and machine."""
    found: dict[tuple[str, str], RangeSet] = {}
    for each in findings:
        for name, services in each.opened:
            found[each.id, name] = found.get((each.id, name), RangeSet()) | services
    return found


def _of_all_services(
    old: Ends, new: Ends, found: Difference, compared: RangeSet, spread: Spread
) -> Difference | None:  # fmt: skip
    """What differs on any service, where `found` is about those that were `compared` in both families; None where it
    touches too many pairs."""
    every = resolve_service("any", {})
    if found.touched is not None:
        every = every & found.touched.services
    if not every - compared:
        return found
    try:
        return difference(old, new, every, spread=spread)
    except UsageError:
        return None


def _scope(found: Difference) -> Scope:
    """What of the findings a change may turn, but for what reaches machines (`_turned`)."""
    what = found.touched
    if what is None or not what.is_of_rules:
        return Scope(machines={}, ends=what.ends if what is not None else None)
    # A rule that is moved may turn no packet, and still be one that no packet gets to, or that another makes needless.
    filters = frozenset(each.name.split("/")[0] for each in found.said if each.section in ("filters", "rules"))
    return Scope(what.filters | filters, what.services, what.senders, what.receivers, {})


_Machines = dict[str, RangeSet]
"""Machines, each with some services that it may listen to."""


def _turned(
    old: Ends, new: Ends, whole: Difference | None, scope: Scope
) -> tuple[_Machines | None, _Machines | None]:  # fmt: skip
    """Of the version before a change the machines and services that nobody may have reached and somebody does now, of
    the one after it those that somebody reached and nobody may now: what nobody reaches in one version is reached in
    the other only by who gets there in that alone. None for all machines."""
    if whole is None or len(whole.moved) > _FEW_MACHINES:
        return None, None
    found = _opened_and_closed(whole)
    # Of machines that are not as they were, verdicts are not compared, neither what they get to nor what gets to them.
    alone = [*whole.gone, *whole.new, *whole.moved]
    for mine, other in zip(found, (new, old), strict=True):
        senders = [other.resolve(name).members[0] for name in alone if name in other.topology.instances]
        for name, services in reached_by(other, senders, dataclasses.replace(scope, machines=None)).items():
            mine[name] = mine.get(name, RangeSet()) | services
        listening = [*alone, *(each.name for each in whole.said if each.section == "instances")]
        mine.update(dict.fromkeys(listening, resolve_service("any", {})))
    return found


def _opened_and_closed(whole: Difference) -> tuple[_Machines, _Machines]:
    """The machines and services of which anything is answered now that was not, and the other way round."""
    found: tuple[_Machines, _Machines] = ({}, {})
    on: tuple[dict[int, tuple[tuple[Member, ...], list[RangeSet]]], ...] = ({}, {})
    for each in whole.changed:
        if each.was_answered != each.is_answered:  # of many lines the receivers are the very same
            some = on[each.was_answered].setdefault(id(each.destinations), (each.destinations, []))
            some[1].append(each.services)
    for mine, by_ends in zip(found, on, strict=True):
        for members, some_services in by_ends.values():
            union = RangeSet.of(pair for each in some_services for pair in each)
            for name in {member.instance for member in members if member.instance is not None}:
                mine[name] = mine.get(name, RangeSet()) | union
    return found
