"""Proposed changes made visible: each with what else it does, the promises that it breaks, the traffic it turns."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from kiboko.core.changes.effects import Effects
from kiboko.core.evidence.turning import PASSES, STOPPED, Turned
from kiboko.core.header.services import services_texts
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.proposed import Proposal
from kiboko.core.reachability.naming import Namer
from kiboko.core.records.flow_table import moment
from kiboko.core.wording import counted
from kiboko.views.output import Output
from kiboko.views.reach_view import named
from kiboko.views.text import iso

_MOST_LINES = 4
_MOST_SERVICES = 4


@dataclass(frozen=True, slots=True)
class Fix:
    """A proposed change, and what is known of what it does, with names of the network that it leaves."""

    proposal: Proposal
    ends: Ends
    effects: Effects | None = None
    turned: Turned | None = None


def show_fixes(fixes: Sequence[Fix], title: str, out: Output) -> None:
    """A list of changes, each with what else it does."""
    if not fixes:
        return
    out.heading(title)
    namers: dict[int, Namer] = {}
    for number, each in enumerate(fixes, 1):
        proposal = each.proposal
        proof = f"  [{proposal.how_tried}: verdict {proposal.verdict_after}]" if proposal.proved else ""
        out.parts((f"  {number}. ", "quiet"), (proposal.text, "mark"), (proof, "quiet"))
        if id(each.ends) not in namers:
            namers[id(each.ends)] = Namer(each.ends)
        for label, text in _told(each, namers[id(each.ends)]):
            out.labelled(f"     {label:<10}", text)


def _told(fix: Fix, namer: Namer) -> Iterator[tuple[str, str]]:
    effects = fix.effects
    if effects is None:
        return
    if effects.refused:
        yield "besides", f"not told: {effects.refused}"
    elif effects.is_nothing_else:
        yield "besides", "nothing else"
    for line in effects.other[:_MOST_LINES]:
        texts = services_texts(line.services)
        more = f" and {len(texts) - _MOST_SERVICES} more" if len(texts) > _MOST_SERVICES else ""
        family = " over IPv6" if line.family == 6 else ""
        yield (
            "besides",
            (
                f"{line.before} → {line.after}{family}: {named(namer.names(line.sources), False)} to"
                f" {named(namer.names(line.destinations), False)} on {', '.join(texts[:_MOST_SERVICES])}{more}"
            ),
        )
    if len(effects.other) > _MOST_LINES:
        yield (
            "besides",
            f"and {len(effects.other) - _MOST_LINES:,} more lines; --write-change FILE and rehearse show all",
        )
    if effects.moved:
        yield "besides", f"{', '.join(effects.moved[:_MOST_LINES])} are others then, and not compared"
    for word, some in (("breaks", effects.broken), ("mends", effects.mended)):
        if some:
            yield word, ", ".join(f"expectation {each.expectation.id} ({each.expectation.place})" for each in some)
    for each, pair in effects.worse:
        yield "breaks", f"expectation {each.expectation.id} ({each.expectation.place}) further: now {pair} as well"
    if fix.turned is not None:
        yield "recorded", _recorded(fix.turned)


def _recorded(turned: Turned) -> str:
    told = []
    for kind, words in ((STOPPED, "would newly be stopped"), (PASSES, "would newly be let through")):
        total = turned.total(kind)
        if total.records:
            last = iso(moment(total.last)) or "no time"
            told.append(f"{counted(total.records, 'record')} {words}, the last of {last}")
    return "; ".join(told) or f"none of {counted(turned.records, 'record')} would be turned"


def fix_json(fix: Fix) -> dict[str, Any]:
    """A change with what it does."""
    proposal, effects = fix.proposal, fix.effects
    found: dict[str, Any] = {
        "gate": proposal.gate, "at": proposal.at, "filter": proposal.filter, "text": proposal.text,
        "proved": proposal.proved, "rests_on_earlier": proposal.rests_on_earlier,
        "verdict_after": proposal.verdict_after, "steps": [dict(s) for s in proposal.steps],
    }  # fmt: skip
    if effects is not None:
        found["nothing_else"] = effects.is_nothing_else
        found["besides"] = [
            {"before": line.before, "after": line.after, "family": line.family,
             "sources": [each.name for each in line.sources], "destinations": [each.name for each in line.destinations],
             "services": services_texts(line.services)}
            for line in effects.other
        ]  # fmt: skip
        found["breaks"] = [each.expectation.id for each in effects.broken]
        found["breaks_further"] = [each.expectation.id for each, _ in effects.worse]
        found["mends"] = [each.expectation.id for each in effects.mended]
        found["not_told"] = effects.refused or None
    if fix.turned is not None:
        found["recorded"] = {kind: fix.turned.total(kind).records for kind in (STOPPED, PASSES)}
    return found
