"""One verdict made visible: the sentence, the gates, the rule that decides, and what to change."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from kiboko.core.explain import NearMiss, Suggestion
from kiboko.core.gates import Row
from kiboko.core.walk import ALLOWED, BLOCKED, ONE_WAY, PARTLY, Walk
from kiboko.views.output import Grid, Output

SEEN = {
    "answered": "the sender gets an answer",
    "refused": "the sender sees an active refusal",
    "silent": "the sender sees silence until it gives up",
    "unreachable": "the sender is told that the destination is unreachable",
}
_MOST_MISSES = 6


@dataclass(frozen=True, slots=True)
class CheckAnswer:
    """Everything `check` says of one pair."""

    walk: Walk
    source_name: str
    destination_name: str
    destination_address: str | None
    misses: list[NearMiss]
    fixes: list[Suggestion]
    verdict_with_all: str
    caveats: list[str]
    toggles: list[str]


def show_check(answer: CheckAnswer, out: Output) -> None:
    """The whole answer, the verdict first."""
    walk = answer.walk
    out.parts((walk.verdict.upper(), walk.verdict), (f": {_sentence(answer)}", ""))
    if answer.toggles:
        out.line(f"(asked {', '.join(answer.toggles)}; the network file itself is unchanged)", "quiet")
    if walk.decided_by is not None:
        out.parts(("Decided by ", ""), (decider_text(walk.decided_by), "mark"))
    _rows("Request", walk.forward, walk, out)
    if walk.reply:
        _rows("Reply", walk.reply, walk, out)
    also = walk.stops()[1:]
    if also:
        out.heading("What else blocks")
        out.bullets([decider_text(row) for row in also])
    _show_fixes(answer, out)
    if answer.misses:
        out.heading("Rules that almost match")
        out.bullets([f"{miss.filter}, {miss.sentence()} ({miss.place})" for miss in answer.misses[:_MOST_MISSES]])
        if len(answer.misses) > _MOST_MISSES:
            out.line(f"    and {len(answer.misses) - _MOST_MISSES} more, all in --json", "quiet")
    if answer.caveats:
        out.heading("Bear in mind")
        out.bullets(answer.caveats)


def _sentence(answer: CheckAnswer) -> str:
    walk = answer.walk
    source = _end(answer.source_name, source_address(walk) or "no address")
    destination = _end(answer.destination_name, answer.destination_address or "no usable address")
    arrival = walk.arrival
    if arrival is not None and answer.destination_address not in (None, str(arrival.address)):
        destination = _end(answer.destination_name, f"{answer.destination_address}, private {arrival.address}")
    service = str(walk.flow.service)
    if walk.verdict == ALLOWED:
        return f"{source} reaches {destination} on {service}, and the reply comes back."
    if walk.verdict == PARTLY:
        return (
            f"{source} reaches {destination} on {service} only from source ports {walk.answered}"
            f" (of {walk.flow.source_ports}); from the others, {SEEN['silent']}."
        )
    if walk.verdict == ONE_WAY:
        request = f"the request of {source} arrives at {destination} on {service}"
        return f"{request}, but the reply is stopped; {SEEN[walk.signal]}."
    return f"{source} does not reach {destination} on {service}; {SEEN[walk.signal]}."


def source_address(walk: Walk) -> str | None:
    """The sender's address; None where it has none."""
    return str(walk.flow.source.address) if walk.flow.source.is_anywhere else None


def _end(name: str, address: str) -> str:
    return name if name == address else f"{name} ({address})"


def decider_text(row: Row) -> str:
    """A row that stops, in words: what, where, which rule, and its file and line."""
    where = f"{row.gate} at {row.at}" + (" (reply)" if row.direction == "reply" else "")
    place = f" ({row.place})" if row.place else ""
    if row.filter is None:
        return f"{where}{place}: {row.reason}"
    rule = "no rule of" if row.rule == "otherwise" else f"rule {row.rule} of"
    reason = f"otherwise {row.action}" if row.rule == "otherwise" else row.reason
    return f"{rule} {row.filter}{place}, {where}: {reason}"


def _rows(title: str, rows: tuple[Row, ...], walk: Walk, out: Output) -> None:
    out.heading(title)
    by_port = any(row.ports != walk.flow.source_ports for row in rows)
    headings = (
        ["gate", "where", "filter", "rule", "action"] + (["client ports"] if by_port else []) + ["reason", "file"]
    )
    grid = Grid(headings, wide=("reason",))
    for row in rows:
        action = row.action or "not known"
        cells = [row.gate, row.at, ", ".join(row.filters) or "-", row.rule or "-", action]
        if by_port:
            cells.append(str(row.ports))
        grid.add([*cells, row.reason, str(row.place or "")], "drop" if row.stops else "")
    out.grid(grid)


def _show_fixes(answer: CheckAnswer, out: Output) -> None:
    if not answer.fixes:
        return
    out.heading("The smallest change for each gate that blocks")
    for fix in answer.fixes:
        proof = ""
        if fix.rule is not None:
            proof = (
                f"  [walked again: {fix.gate} opens, verdict {fix.verdict_after}]"
                if fix.proved
                else "  [does not open it]"
            )
        out.parts(("  - ", "quiet"), (fix.text, ""), (proof, "quiet"))
    if len(answer.fixes) > 1 and all(fix.rule is not None for fix in answer.fixes):
        out.line(f"    with all of them: {answer.verdict_with_all}", "quiet")
    if answer.walk.verdict == BLOCKED or answer.walk.verdict == ONE_WAY:
        out.line("    Open only what the ticket needs; a rule for one address is a proof, not yet a policy.", "quiet")


# JSON.


def check_json(answer: CheckAnswer) -> dict[str, Any]:
    """The answer as `check/1`."""
    walk = answer.walk
    source, arrival = walk.flow.source, walk.arrival
    stops = walk.stops()
    private = str(arrival.address) if arrival and str(arrival.address) != answer.destination_address else None
    return {
        "kiboko": "check/1",
        "source": {"name": answer.source_name, "address": source_address(walk), "zone": source.zone},
        "destination": {
            "name": answer.destination_name,
            "address": answer.destination_address,
            "private": private,
            "zone": arrival.zone if arrival else None,
        },
        "service": str(walk.flow.service),
        "verdict": walk.verdict,
        "signal": walk.signal,
        "decided_by": decider_json(walk.decided_by) if walk.decided_by else None,
        "also_blocking": [decider_json(row) for row in stops[1:]],
        "allowed_source_ports": walk.answered.texts() if walk.flow.service.has_ports else [],
        "forward": [row_json(row, walk) for row in walk.forward],
        "reply": [row_json(row, walk) for row in walk.reply],
        "near_misses": [
            {
                "gate": miss.gate, "direction": miss.direction, "filter": miss.filter, "rule": miss.rule,
                "action": miss.action, "field": miss.field, "wanted": miss.wanted, "actual": miss.actual,
                "file": miss.place.file, "line": miss.place.line,
            }
            for miss in answer.misses
        ],
        "suggestions": [
            {
                "gate": fix.gate, "at": fix.at, "direction": fix.direction, "filter": fix.filter,
                "place": fix.place, "rule": fix.rule, "text": fix.text, "proved": fix.proved,
                "verdict_after": fix.verdict_after,
            }
            for fix in answer.fixes
        ],
        "toggles": answer.toggles,
        "caveats": answer.caveats,
    }  # fmt: skip


def decider_json(row: Row) -> dict[str, Any]:
    """A row that stops, as `decided_by`."""
    return {
        "gate": row.gate, "at": row.at, "direction": row.direction, "filter": row.filter, "rule": row.rule,
        "action": row.action, **_place_json(row),
    }  # fmt: skip


def row_json(row: Row, walk: Walk) -> dict[str, Any]:
    """A line of the gate table."""
    found = {
        "gate": row.gate, "at": row.at, "direction": row.direction, "filters": list(row.filters),
        "rule": row.rule, "action": row.action, "stateful": row.stateful, "reason": row.reason,
        **_place_json(row),
        "source_ports": row.ports.texts() if walk.flow.service.has_ports else [],
    }  # fmt: skip
    if row.gate == "route":
        lookup = row.step.lookup
        found["entry"] = str(lookup.entry) if lookup and lookup.entry else None
        found["beaten"] = [str(entry) for entry in lookup.beaten] if lookup else []
    return found


def _place_json(row: Row) -> dict[str, Any]:
    return {"file": row.place.file if row.place else None, "line": row.place.line if row.place else None}
