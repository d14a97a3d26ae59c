"""Everything that is wrong or dangerous in the rules of a network, with what somebody has accepted set apart."""

from __future__ import annotations

import dataclasses
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass
from datetime import date

from kiboko.core.audit.findings import BY_SIZE, KINDS, SEVERITIES, Finding, few, found
from kiboko.core.audit.first_packets import of_first_packets
from kiboko.core.audit.listening import of_listeners
from kiboko.core.audit.misplaced import Misplaced
from kiboko.core.audit.neighbours import of_neighbours
from kiboko.core.audit.outsides import OutsidesInRules
from kiboko.core.audit.places import of_attachments, of_names, of_routes
from kiboko.core.audit.replies import Replies
from kiboko.core.audit.rules import of_filter, of_kernel, rule_lists
from kiboko.core.audit.scope import WHOLE, Scope
from kiboko.core.audit.ways import of_hosts, of_openness
from kiboko.core.errors import TooMuch
from kiboko.core.hints import nearest
from kiboko.core.network.model import Accepted, Filter, Topology
from kiboko.core.queries.ends import Ends
from kiboko.core.spreading import Spread
from kiboko.core.walk.walk import Walker


@dataclass(frozen=True, slots=True)
class Audit:
    """All findings, the gravest first; those that somebody has accepted apart from the others."""

    findings: tuple[Finding, ...]
    accepted: tuple[Finding, ...]
    left_out: tuple[str, ...] = ()
    """What was not looked for, in sentences: there is too much of it."""


def audit(
    ends: Ends, today: date, further: Iterable[Finding] = (), kinds: Collection[str] = (), scope: Scope = WHOLE,
    spread: Spread = map,
) -> Audit:  # fmt: skip
    """Look for every kind of finding.

    Parameters
    ----------
    today : the day by which notes and acceptances are over
    further : findings from elsewhere, such as rules that no recorded traffic hit
    kinds : only these kinds; all where none is named
    scope : only what may be another with a change
    spread : has a function called with some numbers, as `map` does, perhaps by other processes

    >>> from kiboko.core.walk.walk import Walker
    >>> from kiboko.files.network.network_file import load_network
    >>> found = audit(Ends(Walker(load_network("network.yaml"))), date(2026, 11, 25))
    >>> [each.at for each in found.findings if each.id == "unattached-filter"]
    ['archive-guard']
    """
    left_out: list[str] = []
    by_itself = _all(ends, today) if scope.filters is None else _within(ends, today, scope.filters)
    if scope.filters is None:
        left_out += _on_conditions(ends.topology)
    made = (*by_itself, *_of_whole_ways(ends, scope, spread if scope.filters is None else map, left_out))
    listed = [each for each in (*made, *further) if not kinds or each.id in kinds]
    left, accepted, used = [], [], set()
    for each in dict.fromkeys(listed):
        word = next(
            (a for a in ends.topology.accepted if a.finding == each.id and a.at in (each.at, _bare(each.at))), None
        )
        if word is not None:
            used.add(word)
        if word is None or _is_over(word, today):
            left.append(each)
        else:
            accepted.append(dataclasses.replace(each, accepted=word))
    if (not kinds or "accepted-in-vain" in kinds) and scope.filters is None:
        left.extend(_in_vain(ends, used, today))
    return Audit(tuple(sorted(left, key=_rank)), tuple(sorted(accepted, key=_rank)), tuple(left_out))


def _all(ends: Ends, today: date) -> Iterator[Finding]:
    walker = ends.walker
    yield from _of_filters(walker, walker.topology.filters.values(), today)
    for instance in walker.topology.instances.values():
        yield from of_kernel(instance)
    yield from of_first_packets(walker)
    yield from of_neighbours(walker)
    yield from of_attachments(walker)
    yield from of_names(walker)
    yield from of_routes(walker)


def _within(ends: Ends, today: date, filters: frozenset[str]) -> Iterator[Finding]:
    """What rests on the rules of some filters."""
    walker = ends.walker
    known = walker.topology.filters
    yield from _of_filters(walker, [known[name] for name in filters if name in known], today)
    yield from of_attachments(walker)


def _of_filters(walker: Walker, filters: Iterable[Filter], today: date) -> Iterator[Finding]:
    """What is found on the rules of some filters."""
    further = OutsidesInRules(walker), Misplaced(walker), Replies(walker)
    for chosen in filters:
        lists = rule_lists(walker, chosen)
        yield from of_filter(chosen, lists, today)
        for each in further:
            yield from each.of_filter(chosen, lists)


def _of_whole_ways(ends: Ends, scope: Scope, spread: Spread, left_out: list[str]) -> Iterator[Finding]:
    """What rests on all gates between ends. Of what there is too much to look at, that is noted."""
    for what, findings in (
        ("administration that is open to very many", of_openness(ends, scope)),
        ("who gets to what listens", of_listeners(ends, scope, spread)),
        ("whom a host stops that its instance filters let in", of_hosts(ends, scope, spread)),
    ):
        try:
            yield from findings
        except TooMuch as error:
            left_out.append(f"{what} was not looked for: {error.what}; 'kiboko reach' tells of a machine or service")


def _on_conditions(topology: Topology) -> Iterator[str]:
    """What is not known of rules that hold under a condition only (clause S41)."""
    named = [f"{chosen.name}/{rule.name}" for chosen in topology.filters.values() for rule in chosen.every_rule()
             if rule.condition and rule.enabled]  # fmt: skip
    if named:
        rules = f"{len(named):,} rules hold" if len(named) > 1 else "1 rule holds"
        yield (f"{rules} under a condition that no header tells ({few(named)}): what hangs on one is told neither as"
               " open nor as closed")  # fmt: skip


def _bare(at: str) -> str:
    """A rule without its direction: `bank-edge/20`."""
    parts = at.split("/")
    return f"{parts[0]}/{parts[2]}" if len(parts) == 3 else at


def _rank(each: Finding) -> tuple[object, ...]:
    """Where a finding stands: by its kind, then by its place; what evidence shows as it comes, the largest first."""
    kind = SEVERITIES.index(each.severity), list(KINDS).index(each.id)
    if each.id in BY_SIZE:
        return kind
    return (*kind, (each.place.file, each.place.line) if each.place else ("", 0), each.at)


def _is_over(word: Accepted, today: date) -> bool:
    return word.until is not None and word.until.date() < today


def _in_vain(ends: Ends, used: set[Accepted], today: date) -> Iterator[Finding]:
    """Acceptances that hold no longer, or never did."""
    for word in ends.topology.accepted:
        at = f"{word.finding} at {word.at}"
        if word.finding not in KINDS:
            hint = nearest(word.finding, list(KINDS), 3, 0.5)
            yield found("accepted-in-vain", at, word.place, f"there is no finding '{word.finding}'{hint}",
                        "write the id of a finding")  # fmt: skip
        elif _is_over(word, today):
            assert word.until is not None
            yield found("accepted-in-vain", at, word.place, f"it was accepted until {word.until.date().isoformat()}"
                        f" ({word.reason})", "mend it, or accept it again")  # fmt: skip
        elif word not in used:
            yield found("accepted-in-vain", at, word.place, "there is no such finding any more", "take it out")
