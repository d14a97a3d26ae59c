"""Verdicts on sets made visible: one line for each distinct outcome."""

from __future__ import annotations

from collections import Counter
from typing import Any

from kiboko.core.services import services_texts
from kiboko.core.sets import SetAnswer, SetRow
from kiboko.core.walk import ALLOWED, PARTLY
from kiboko.views.check_view import decider_json, decider_text
from kiboko.views.output import Output
from kiboko.views.text import counted

_MOST_NAMES = 4
_MOST_PARTS = 2


def show_set(answer: SetAnswer, source: str, destination: str, out: Output) -> None:
    """The rows, what does not get through first."""
    totals: Counter[str] = Counter()
    for row in answer.rows:
        totals[row.example.verdict] += row.pairs
    told = ", ".join(f"{counted(number, 'pair')} {verdict}" for verdict, number in totals.items())
    one = len(answer.rows) == 1
    style = answer.rows[0].example.verdict if one else ""
    outcomes = counted(len(answer.rows), "distinct outcome")
    out.parts((style.upper() or "MIXED", style or "partly"), (f": {source} to {destination}: {told}, {outcomes}.", ""))
    for number, row in enumerate(answer.rows, 1):
        out.line()
        walk = row.example
        out.parts(
            (f"{number}. ", "quiet"),
            (walk.verdict, walk.verdict),
            (f", {walk.signal}: {counted(row.pairs, 'pair')}", ""),
        )
        for part in row.parts[:_MOST_PARTS]:
            out.parts(("   from     ", "quiet"), (_some(part.source_texts()), ""))
            out.parts(("   to       ", "quiet"), (_some(part.destination_texts()), ""))
            out.parts(("   service  ", "quiet"), (_some(services_texts(part.services), 8), ""))
        if len(row.parts) > _MOST_PARTS:
            out.line(f"   and {len(row.parts) - _MOST_PARTS} more such combinations, all in --json", "quiet")
        if walk.verdict == PARTLY:
            out.parts(("   only     ", "quiet"), (f"source ports {walk.answered}", ""))
        if walk.decided_by is not None:
            out.parts(("   by       ", "quiet"), (decider_text(walk.decided_by), ""))
        out.parts(("   see      ", "quiet"), (_check_line(row), ""))
    if answer.caveats:
        out.heading("Bear in mind")
        out.bullets(list(answer.caveats))


def _some(texts: list[str], most: int = _MOST_NAMES) -> str:
    shown = ", ".join(texts[:most])
    return f"{shown} and {len(texts) - most:,} more" if len(texts) > most else shown


def _check_line(row: SetRow) -> str:
    flow = row.example.flow
    source = row.example_names[0] if flow.source.interface else str(flow.source.address)
    name = row.example_names[1]
    destination = name if "-" not in name or not name[0].isdigit() else str(flow.target)
    return f"kiboko check {source} {destination} {flow.service}"


def set_json(answer: SetAnswer, source: str, destination: str, service: str) -> dict[str, Any]:
    """The answer as `check-set/1`."""
    totals: Counter[str] = Counter()
    for row in answer.rows:
        totals[row.example.verdict] += row.pairs
    return {
        "kiboko": "check-set/1",
        "source": source,
        "destination": destination,
        "service": service,
        "summary": {"pairs": answer.pairs, "outcomes": len(answer.rows), **totals},
        "rows": [_row_json(row) for row in answer.rows],
        "caveats": list(answer.caveats),
    }


def _row_json(row: SetRow) -> dict[str, Any]:
    walk = row.example
    with_ports = walk.verdict in (ALLOWED, PARTLY) and walk.flow.service.has_ports
    return {
        "verdict": walk.verdict,
        "signal": walk.signal,
        "pairs": row.pairs,
        "parts": [
            {
                "sources": part.source_texts(),
                "destinations": part.destination_texts(),
                "services": services_texts(part.services),
                "pairs": part.pairs,
            }
            for part in row.parts
        ],
        "allowed_source_ports": walk.answered.texts() if with_ports else [],
        "decided_by": decider_json(walk.decided_by) if walk.decided_by else None,
        "example": {
            "source": str(walk.flow.source.address),
            "destination": str(walk.flow.target),
            "service": str(walk.flow.service),
            "check": _check_line(row),
        },
    }  # fmt: skip
