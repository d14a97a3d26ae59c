"""Everything that is wrong or dangerous in the rules of a network, with what somebody has accepted set apart."""

from __future__ import annotations

import dataclasses
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass
from datetime import date

from kiboko.core.audit.findings import KINDS, SEVERITIES, Finding, found
from kiboko.core.audit.first_packets import of_first_packets
from kiboko.core.audit.listening import Spread, of_listeners
from kiboko.core.audit.places import of_attachments, of_names, of_routes
from kiboko.core.audit.rules import of_filter, of_kernel
from kiboko.core.audit.scope import WHOLE, Scope
from kiboko.core.audit.ways import of_hosts, of_openness, of_replies
from kiboko.core.errors import UsageError
from kiboko.core.hints import nearest
from kiboko.core.network.model import Accepted
from kiboko.core.queries.ends import Ends

_OPENNESS = "administration that is open to very many"
_LISTENING = "who gets to what listens"
_HOSTS = "hosts that stop whom their instance filters let in"


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
    kinds_of = _all(ends, today, scope, spread) if scope.filters is None else _within(ends, today, scope, scope.filters)
    made = (each for some in kinds_of for each in _unless_too_much(some, left_out))
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


def _unless_too_much(some: tuple[str, Iterable[Finding]], left_out: list[str]) -> Iterator[Finding]:
    """Findings of one sort; where there is too much to look at, that is noted, and the others are looked for."""
    sort, findings = some
    try:
        yield from findings
    except UsageError as error:
        left_out.append(f"{sort} was not looked for: {error}")


def _all(ends: Ends, today: date, scope: Scope, spread: Spread) -> Iterator[tuple[str, Iterable[Finding]]]:
    walker = ends.walker
    filters, instances = walker.topology.filters.values(), walker.topology.instances.values()
    yield "what is wrong in filters", (each for chosen in filters for each in of_filter(walker, chosen, today))
    yield "what is wrong in kernel rule sets", (each for instance in instances for each in of_kernel(instance))
    yield "what gets through with its first packet alone", of_first_packets(walker)
    yield "what carries no filter", of_attachments(walker)
    yield "names that stand for nothing", of_names(walker)
    yield "routes that lead nowhere", of_routes(walker)
    yield "replies that do not get back", of_replies(walker)
    yield _OPENNESS, of_openness(ends, scope)
    yield _LISTENING, of_listeners(ends, scope, spread)
    yield _HOSTS, of_hosts(ends, scope, spread)


def _within(ends: Ends, today: date, scope: Scope, filters: frozenset[str]) -> Iterator[tuple[str, Iterable[Finding]]]:
    """What rests on the rules of some filters, in them or on whole ways."""
    walker = ends.walker
    topology = walker.topology
    changed = [topology.filters[name] for name in filters & set(topology.filters)]
    yield "what is wrong in filters", (each for chosen in changed for each in of_filter(walker, chosen, today))
    yield "what carries no filter", of_attachments(walker)
    yield "replies that do not get back", of_replies(walker, scope)
    yield _OPENNESS, of_openness(ends, scope)
    yield _LISTENING, of_listeners(ends, scope)
    yield _HOSTS, of_hosts(ends, scope)


def _bare(at: str) -> str:
    """A rule without its direction: `bank-edge/20`."""
    parts = at.split("/")
    return f"{parts[0]}/{parts[2]}" if len(parts) == 3 else at


def _rank(each: Finding) -> tuple[object, ...]:
    place = each.place
    return (
        SEVERITIES.index(each.severity),
        list(KINDS).index(each.id),
        (place.file, place.line) if place else ("", 0),
        each.at,
    )


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
