"""What a finding is, and the list of all kinds of them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from types import MappingProxyType

from kiboko.core.errors import Place
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.model import Accepted

HIGH, MEDIUM, LOW, NOTE = "high", "medium", "low", "note"
SEVERITIES = (HIGH, MEDIUM, LOW, NOTE)
"""The gravest first."""


@dataclass(frozen=True, slots=True)
class FindingKind:
    """A kind of finding: how grave it is unless something makes it less so, and what it means."""

    severity: str
    meaning: str


KINDS: dict[str, FindingKind] = {
    "unreachable-rule": FindingKind(MEDIUM, "earlier rules together match everything that the rule does"),
    "contradicted-rule": FindingKind(MEDIUM, "an earlier, wider rule lets pass a part of what the rule is to stop"),
    "misplaced-rule": FindingKind(LOW, "a rule names nobody who is where its filter is"),
    "redundant-rule": FindingKind(LOW, "without the rule everything would be decided the same"),
    "order-matters-not": FindingKind(NOTE, "no two rules of opposite actions match the same: any order decides alike"),
    "unattached-filter": FindingKind(MEDIUM, "nothing carries the filter, so that it decides nothing"),
    "crossing-without-filter": FindingKind(MEDIUM, "traffic from zone to zone passes by default, with no filter"),
    "without-zone": FindingKind(MEDIUM, "a subnet or outside without a zone, where others have one"),
    "unguarded-interface": FindingKind(MEDIUM, "an interface that no instance, subnet or host filter guards"),
    "unguarded-subnet": FindingKind(LOW, "a subnet without a filter that holds machines without one of their own"),
    "guarded-by-fleet-only": FindingKind(LOW, "machines that carry no filter but one attached from its own side, which"
                                              " lets pass what it does not name"),
    "no-way-back": FindingKind(HIGH, "a stateless filter lets requests in, and no reply out"),
    "partial-way-back": FindingKind(HIGH, "a stateless filter lets out replies to some client ports only"),
    "first-packet-only": FindingKind(HIGH, "a kernel's rule set lets the first packet of a connection through, and"
                                           " stops what follows"),
    "neighbours-stopped": FindingKind(MEDIUM, "a kernel's rule set stops neighbour discovery, which keeps its"
                                              " machine from being found over IPv6, or from finding others"),
    "no-return-route": FindingKind(MEDIUM, "traffic is let in to where no route or address leads, or leads back from"),
    "route-to-nothing": FindingKind(HIGH, "a route leads to what does not pass anything on"),
    "route-shadowed": FindingKind(LOW, "another entry always wins over a route"),
    "open-administration": FindingKind(HIGH, "an administrative service can be reached from very many outside"),
    "wide-rule": FindingKind(MEDIUM, "a rule lets anybody in to anything, or to very many ports"),
    "empty-group": FindingKind(MEDIUM, "a group that stands for nobody"),
    "group-without-addresses": FindingKind(MEDIUM, "a member of a group has no address, so that no rule matches it"),
    "nearly-member": FindingKind(MEDIUM, "an instance whose tags nearly match a group, and do not"),
    "outside-over-own": FindingKind(MEDIUM, "an outside whose addresses are our own"),
    "outside-holds-own": FindingKind(MEDIUM, "a rule that names an outside decides for our own machines as well"),
    "unused-service": FindingKind(NOTE, "a named service that no rule and no listener speaks of"),
    "unserved-rule": FindingKind(LOW, "a rule lets in what none of the machines that carry it listens to"),
    "bound-elsewhere": FindingKind(MEDIUM, "a rule lets in what a machine listens to at another address only"),
    "host-filter-against": FindingKind(MEDIUM, "a host's own filter alone stops whom a rule above it lets in by name"),
    "hosts-in-part": FindingKind(NOTE, "not every rule that lets somebody in by name was held against host filters"),
    "unallowed-listener": FindingKind(LOW, "a machine listens to what nobody can reach"),
    "one-door-only": FindingKind(LOW, "one gate alone keeps everybody outside from an administrative service"),
    "expired-note": FindingKind(MEDIUM, "the note of a rule says that its time is over"),
    "leak": FindingKind(HIGH, "recorded traffic, or a probe, gets through what the rules stop"),
    "break": FindingKind(HIGH, "recorded traffic, or a probe, fails though the rules allow it"),
    "older-session": FindingKind(MEDIUM, "a session from before goes on, though the rules stop it now"),
    "never-hit": FindingKind(LOW, "no recorded traffic met the rule"),
    "not-judged": FindingKind(MEDIUM, "a kernel's rule that cannot be judged, so that what it stops is not known"),
    "accepted-in-vain": FindingKind(LOW, "an acceptance that is over, or of a finding that there is not"),
}  # fmt: skip
"""Every kind of finding, by its id."""
BY_SIZE = ("leak", "break", "older-session", "unallowed-listener")
"""Kinds of which those come first that were recorded most, or are of the most machines."""


@dataclass(frozen=True, slots=True)
class Finding:
    """Something wrong or dangerous in the rules themselves.

    `at` is what it is about (`FILTER/DIRECTION/RULE`, or a name), `proof` one sentence that shows it and `fix` one that
    ends it. `others` are the rules that the proof names, with their places; `check` is a question that shows it, empty
    where there is none. `accepted` is the word of whoever lives with it. `machines` are all that it is about, where it
    is about some, of which the text has the first few; `opened` of what can be got to that should not be, each of those
    machines with the services.
    """

    id: str
    severity: str
    at: str
    place: Place | None
    proof: str
    fix: str
    others: tuple[tuple[str, Place], ...] = ()
    check: str = ""
    accepted: Accepted | None = None
    machines: tuple[str, ...] = ()
    opened: tuple[tuple[str, RangeSet], ...] = ()


FEW = 6
"""As many names are told one by one."""


def few(names: Iterable[str], most: int = FEW) -> str:
    """Some names, each once: the first few, and how many more there are."""
    listed = list(dict.fromkeys(names))
    shown = ", ".join(listed[:most])
    return f"{shown} and {len(listed) - most:,} more" if len(listed) > most else shown


def found(
    kind: str, at: str, place: Place | None, proof: str, fix: str, *, others: tuple[tuple[str, Place], ...] = (),
    check: str = "", severity: str | None = None, machines: Iterable[str] = (),
    opened: Mapping[str, RangeSet] = MappingProxyType({}),
) -> Finding:  # fmt: skip
    """A finding of a kind, as grave as its kind is unless it says otherwise."""
    return Finding(kind, severity or KINDS[kind].severity, at, place, proof, fix, others, check,
                   machines=tuple(opened or machines), opened=tuple(opened.items()))  # fmt: skip
