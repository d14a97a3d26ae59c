"""Findings made visible: grouped by how grave they are, each with its proof and what ends it; JSON and SARIF."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote

from kiboko import __version__
from kiboko.core.audit.audit import Audit
from kiboko.core.audit.findings import FEW, HIGH, KINDS, LOW, MEDIUM, NOTE, SEVERITIES, Finding
from kiboko.core.errors import Place
from kiboko.core.wording import counted
from kiboko.views.output import Output
from kiboko.views.text import iso

_STYLES = {HIGH: "blocked", MEDIUM: "partly", LOW: "heading", NOTE: "quiet"}
_LEVELS = {HIGH: "error", MEDIUM: "warning", LOW: "note", NOTE: "none"}
"""What SARIF calls them (SARIF 2.1.0, section 3.27.10)."""
_MOST_ALIKE = 10


@dataclass(frozen=True, slots=True)
class AuditShown:
    """How findings are shown: those of this severity and graver, all of one kind or the first few, and what else goes
    on a command line."""

    severity: str = LOW
    full: bool = False
    options: str = ""


def chosen(audit: Audit, severity: str) -> list[Finding]:
    """The findings of a severity and of graver ones."""
    wanted = SEVERITIES[: SEVERITIES.index(severity) + 1]
    return [each for each in audit.findings if each.severity in wanted]


def show_audit(audit: Audit, shown: AuditShown, caveats: Sequence[str], out: Output) -> None:
    """How many there are, then each, the gravest first."""
    findings = chosen(audit, shown.severity)
    met = Counter(each.severity for each in findings)
    told = ", ".join(f"{met[severity]:,} {severity}" for severity in SEVERITIES if met[severity])
    out.line(f"{counted(len(findings), 'finding')}{': ' + told if told else ''}."
             + (f" {counted(len(audit.accepted), 'more is', 'more are')} accepted." if audit.accepted else ""),
             "heading")  # fmt: skip
    less = Counter(each.severity for each in audit.findings) - met
    if less:
        out.line(f"{counted(less.total(), 'less grave finding')} not shown; --severity {NOTE} shows all", "quiet")
    for severity in SEVERITIES:
        mine = [each for each in findings if each.severity == severity]
        if mine:
            out.line()
            out.line(severity.upper(), _STYLES[severity])
            _show_all(mine, shown, out)
    if audit.accepted:
        out.heading("Accepted")
        for each in audit.accepted:
            assert each.accepted is not None
            until = each.accepted.until
            end = f", until {until.date().isoformat()}" if until is not None else ""
            out.parts((f"  {each.id} ", "quiet"), (each.at, ""), (f": {each.accepted.reason}{end}", "quiet"))
    if caveats:
        out.heading("Bear in mind")
        out.bullets(list(caveats))


def _show_all(findings: Sequence[Finding], shown: AuditShown, out: Output) -> None:
    for kind in dict.fromkeys(each.id for each in findings):
        mine = [each for each in findings if each.id == kind]
        most = len(mine) if shown.full else _MOST_ALIKE
        for each in mine[:most]:
            where = f"  ({each.place})" if each.place is not None else ""
            out.parts(("  ", ""), (each.id, "mark"), (f"  {each.at}", ""), (where, "quiet"))
            if shown.full and len(each.machines) > FEW:
                out.labelled("      all  ", ", ".join(each.machines))
            out.labelled("      why  ", each.proof)
            out.labelled("      fix  ", each.fix)
            if each.others:
                rules = "; ".join(f"{name} ({place})" for name, place in each.others)
                out.labelled("      see  ", rules, "quiet")
            if each.check:
                out.labelled("      ask  ", each.check + shown.options, is_paste=True)
        if len(mine) > most:
            out.line(f"  and {len(mine) - most:,} more of {kind}; --full shows all", "quiet")


def show_kinds(out: Output) -> None:
    """The documented list of all kinds."""
    for severity in SEVERITIES:
        out.line(severity.upper(), _STYLES[severity])
        for name, kind in KINDS.items():
            if kind.severity == severity:
                out.parts((f"  {name:<24}", "mark"), (kind.meaning, ""))


# JSON and SARIF.


def audit_json(audit: Audit, shown: AuditShown, caveats: Sequence[str]) -> dict[str, Any]:
    """The findings as `audit/1`."""
    findings = chosen(audit, shown.severity)
    met = Counter(each.severity for each in findings)
    return {
        "kiboko": "audit/1",
        "summary": {severity: met[severity] for severity in SEVERITIES} | {"accepted": len(audit.accepted)},
        "rows": [_finding_json(each, shown) for each in (*findings, *audit.accepted)],
        "caveats": list(caveats),
    }


def _finding_json(each: Finding, shown: AuditShown) -> dict[str, Any]:
    word = each.accepted
    return {
        "finding": each.id, "severity": each.severity, "at": each.at, **_place_json(each.place), "proof": each.proof,
        "fix": each.fix, "machines": list(each.machines),
        "rules": [{"rule": name, **_place_json(place)} for name, place in each.others],
        "check": each.check + shown.options if each.check else None,
        "accepted": {"reason": word.reason, "until": iso(word.until)} if word is not None else None,
    }  # fmt: skip


def _place_json(place: Place | None) -> dict[str, Any]:
    return {"file": place.file if place else None, "line": place.line if place else None}


def sarif(audit: Audit, severity: str, network: str) -> dict[str, Any]:
    """The findings in the Static Analysis Results Interchange Format (SARIF 2.1.0, OASIS), for what shows these beside
    the lines of a file. Accepted ones are there as suppressed."""
    kinds = list(KINDS)
    return {
        "version": "2.1.0",
        "runs": [
            {
                "tool": {
                    "driver": {
                        "name": "kiboko",
                        "semanticVersion": __version__,
                        "rules": [
                            {
                                "id": name,
                                "shortDescription": {"text": kind.meaning},
                                "defaultConfiguration": {"level": _LEVELS[kind.severity]},
                            }
                            for name, kind in KINDS.items()
                        ],
                    }
                },
                "results": [
                    _result(each, kinds.index(each.id), network) for each in (*chosen(audit, severity), *audit.accepted)
                ],
                "columnKind": "unicodeCodePoints",
            }
        ],
    }


def _result(each: Finding, index: int, network: str) -> dict[str, Any]:
    found: dict[str, Any] = {
        "ruleId": each.id,
        "ruleIndex": index,
        "level": _LEVELS[each.severity],
        "message": {"text": f"{each.at}: {each.proof}. Fix: {each.fix}."},
        "locations": [_location(each.place or Place(network, 1))],
        "partialFingerprints": {"kiboko/1": f"{each.id} {each.at}"},
    }
    if each.others:
        found["relatedLocations"] = [
            {"id": number, "message": {"text": name}, **_location(place)}
            for number, (name, place) in enumerate(each.others)
        ]
    if each.accepted is not None:
        found["suppressions"] = [{"kind": "external", "justification": each.accepted.reason}]
    return found


def _location(place: Place) -> dict[str, Any]:
    file = place.file.replace(os.sep, "/")
    uri = ("file://" if file.startswith("/") else "") + quote(file)
    return {"physicalLocation": {"artifactLocation": {"uri": uri}, "region": {"startLine": max(1, place.line)}}}
