"""A rehearsal made visible: what the change opens and closes, which promises it breaks, which findings it brings."""

from __future__ import annotations

from typing import Any

from kiboko.core.audit.findings import Finding
from kiboko.core.changes.expecting import Held
from kiboko.core.changes.rehearsing import Rehearsal
from kiboko.core.queries.ends import Ends
from kiboko.views.compare_view import CompareShown, compare_json, show_difference
from kiboko.views.expect_view import promise_text
from kiboko.views.output import Output
from kiboko.views.text import counted


def show_rehearsal(found: Rehearsal, shown: CompareShown, ends: tuple[Ends, Ends], out: Output) -> None:
    """The verdicts, then promises and findings."""
    show_difference(found.difference, shown, ends, out)
    if found.expectations:
        out.heading("Expectations")
        still = sum(before.state == after.state == "broken" for before, after in found.expectations)
        out.line(f"{counted(len(found.expectations), 'expectation')}: {len(found.broken)} broken by it, "
                 f"{len(found.mended)} mended by it, {still} broken before and after.")  # fmt: skip
        for word, style, outcomes in (("breaks", "blocked", found.broken), ("mends", "allowed", found.mended)):
            for each in outcomes:
                out.parts(
                    (f"  {word} ", style), (each.expectation.id, "mark"), (f"  ({each.expectation.place})", "quiet")
                )
                out.labelled("      ", promise_text(each.expectation) + (f"; {each.why}" if each.why else ""))
    for word, style, findings in (("brings", "blocked", found.brought), ("ends", "allowed", found.ended)):
        if findings:
            out.heading(f"Findings that it {word}")
        for finding in findings:
            out.parts((f"  {finding.severity:<7}", style), (f"{finding.id} ", "mark"), (finding.at, ""))
            out.labelled("         ", finding.proof)


def rehearsal_json(found: Rehearsal, shown: CompareShown, ends: tuple[Ends, Ends]) -> dict[str, Any]:
    """A rehearsal as `rehearse/1`: what `compare/1` has, promises and findings."""
    whole = compare_json(found.difference, shown, ends)
    whole["kiboko"] = "rehearse/1"
    whole["expectations"] = [_held_json(before, after) for before, after in found.expectations]
    whole["findings"] = [_finding_json(each, "brought") for each in found.brought]
    whole["findings"] += [_finding_json(each, "ended") for each in found.ended]
    return whole


def _held_json(before: Held, after: Held) -> dict[str, Any]:
    return {"id": after.expectation.id, "before": before.state, "after": after.state, "why": after.why or None}


def _finding_json(finding: Finding, change: str) -> dict[str, Any]:
    return {
        "change": change,
        "finding": finding.id,
        "severity": finding.severity,
        "at": finding.at,
        "proof": finding.proof,
    }
