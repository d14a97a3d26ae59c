"""One verdict made visible: the sentence, the gates, the rule that decides, and what to change."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from kiboko.core.header.ranges import RangeSet
from kiboko.core.walk.gates import Row
from kiboko.core.walk.walk import ALLOWED, ONE_WAY, PARTLY, UNKNOWN, Walk
from kiboko.views.output import Grid, Output

if TYPE_CHECKING:
    from kiboko.core.evidence.row_verdicts import DecidedBy
    from kiboko.core.queries.near_misses import NearMiss
    from kiboko.core.queries.proposals import Proposals
    from kiboko.views.fixes_view import Fix

SEEN = {
    "answered": "the sender gets an answer",
    "refused": "the sender sees an active refusal",
    "silent": "the sender sees silence until it gives up",
    "unreachable": "the sender is told that the destination is unreachable",
    "unknown": "what the sender sees is not known",
}
HEADLINES = {UNKNOWN: "NOT KNOWN"}
_MOST_MISSES = 6
_BARE = ("no filter", "no host filter")
_DIRECTIONS = {"in": "inbound", "out": "outbound"}


@dataclass(frozen=True, slots=True)
class CheckAnswer:
    """Everything `check` says of one pair. `asked` are the toggles that it was asked with; `fixes` the changes that
    were asked for, of an allowed flow those that stop it (`is_stop`); `written` says where a change file is."""

    walk: Walk
    source_name: str
    destination_name: str
    destination_address: str | None
    misses: list[NearMiss]
    proposals: Proposals
    caveats: list[str]
    asked: list[str]
    fixes: tuple[Fix, ...] = ()
    is_stop: bool = False
    written: str = ""


@dataclass(frozen=True, slots=True)
class Shown:
    """How much of an answer is shown: gates with nothing attached too, and the reply also where no request arrives."""

    every_gate: bool = False
    whole_reply: bool = False


def show_check(
    answer: CheckAnswer, out: Output, shown: Shown = Shown(), below: Callable[[], None] = lambda: None
) -> None:
    """The whole answer, the verdict first. `below` shows what else belongs right below the verdict."""
    walk = answer.walk
    out.parts((headline(walk.verdict), walk.verdict), (f": {_sentence(answer)}", ""))
    show_asked(answer.asked, out)
    decider = walk.decided_by
    if decider is not None and walk.verdict == UNKNOWN:
        out.parts(("Rests on ", ""), (decider_text(decider), "mark"))
    elif decider is not None:
        out.parts(("Decided by ", ""), (decider_text(decider), "mark"))
        if decider.note:
            out.line(f'That is meant, by the note beside the rule: "{decider.note}"')
        elif decider.stops and decider.filter is not None and decider.rule not in (None, "otherwise"):
            out.line("A rule stops it, and no default: see that it is not meant before it is opened.", "quiet")
    below()
    _rows("Request", walk.forward, walk, shown, out)
    _show_reply(walk, shown, out)
    also = [row for row in walk.stops() if decider is None or not _is_same(row, decider)]
    if also:
        out.heading("What else blocks")
        out.bullets([decider_text(row) for row in also])
    if answer.fixes:
        from kiboko.views.fixes_view import show_fixes

        title = "What would stop it" if answer.is_stop else "What would open it, gate by gate"
        show_fixes(answer.fixes, title, out)
        if len(answer.proposals.each) > 1 and not answer.is_stop:
            out.line(f"     with the first of each gate: {answer.proposals.verdict_with_all}", "quiet")
    else:
        _show_proposals(answer, out)
    if answer.written:
        out.line()
        out.line(answer.written, "allowed")
    if answer.misses:
        out.heading("Rules that almost match")
        out.bullets(
            [
                f"{miss.where}: {miss.sentence()} ({miss.place})" + (f"; {miss.hint}" if miss.hint else "")
                for miss in answer.misses[:_MOST_MISSES]
            ]
        )
        if len(answer.misses) > _MOST_MISSES:
            out.line(f"    and {len(answer.misses) - _MOST_MISSES} more, all in --json", "quiet")
    if answer.caveats:
        out.heading("Bear in mind")
        out.bullets(answer.caveats)


def headline(verdict: str) -> str:
    """The verdict as the first word of an answer."""
    return HEADLINES.get(verdict, verdict.upper())


def show_asked(asked: Sequence[str], out: Output) -> None:
    """With which toggles an answer was asked for."""
    if asked:
        out.line(f"(asked {', '.join(asked)}; the network file itself is unchanged)", "quiet")


def _sentence(answer: CheckAnswer) -> str:
    walk = answer.walk
    source = _end(answer.source_name, source_address(walk) or "no address")
    destination = _end(answer.destination_name, answer.destination_address or "no usable address")
    arrival = walk.arrival
    if arrival is not None and answer.destination_address not in (None, str(arrival.address)):
        destination = _end(answer.destination_name, f"{answer.destination_address}, private {arrival.address}")
    service = str(walk.flow.service)
    if walk.verdict == ALLOWED:
        if walk.later is not None:
            return (
                f"the first packet of {source} reaches {destination} on {service}, and its answer comes back, but what"
                f" follows is stopped at {walk.later.gate} of {walk.later.at}: what is opened hangs."
            )
        return f"{source} reaches {destination} on {service}, and the reply comes back."
    if walk.verdict == PARTLY:
        return f"{source} reaches {destination} on {service} from some client ports only. {_partly(walk)}"
    if walk.verdict == UNKNOWN and walk.either is not None:
        worst, best = walk.either
        return f"whether {source} reaches {destination} on {service} cannot be told: it is {worst} or {best}."
    if walk.verdict == ONE_WAY:
        request = f"the request of {source} arrives at {destination} on {service}"
        return f"{request}, but the reply is stopped; {SEEN[walk.signal]}."
    return f"{source} does not reach {destination} on {service}; {SEEN[walk.signal]}."


def _partly(walk: Walk) -> str:
    """Of the client ports of a `partly` flow: which work, and where the others die."""
    ports = walk.flow.source_ports
    lost, unanswered = ports - walk.delivered, walk.delivered - walk.answered
    told = [f"Client ports {walk.answered} of {ports} get an answer"]
    if unanswered:
        told.append(f"from {unanswered} the request arrives and the reply is stopped")
    if lost:
        told.append(f"from {lost} the request is stopped")
    return "; ".join(told) + "."


def source_address(walk: Walk) -> str | None:
    """The sender's address; None where it has none."""
    return str(walk.flow.source.address) if walk.flow.source.is_anywhere else None


def _end(name: str, address: str) -> str:
    return name if name == address else f"{name} ({address})"


def decider_text(row: Row, reason: str | None = None) -> str:
    """A row that stops, in words: what, where, which rule, and its file and line. `reason` stands in for the row's own
    where that is of one member of many."""
    where = f"{row.gate} at {row.at}" + (" (reply)" if row.direction == "reply" else "")
    place = f" ({row.place})" if row.place else ""
    if row.filter is None:
        if reason is not None:
            return f"{row.gate}{' (reply)' if row.direction == 'reply' else ''}: {reason}"
        return f"{where}{place}: {row.reason}"
    name = f"{row.filter}, {_DIRECTIONS[row.step.bound]}" if row.step.bound in _DIRECTIONS else row.filter
    if row.rule == "otherwise" and row.chain is not None:
        return f"policy {row.action} of {name}{place}, {where}: {row.reason}"
    if row.rule == "otherwise":
        default = f"default {row.action}" if row.action is not None else "the default"
        return f"{default} of {name}{place}, {where}: {row.reason}"
    return f"rule {row.rule} of {name}{place}, {where}: {row.reason}"


def _is_same(one: Row, other: Row) -> bool:
    return (one.direction, one.gate, one.at, one.filters) == (other.direction, other.gate, other.at, other.filters)


def _rows(title: str, rows: tuple[Row, ...], walk: Walk, shown: Shown, out: Output) -> None:
    """The gates of one direction; the one that decides is marked, and those that nothing reaches stand back."""
    out.heading(title)
    decider = walk.decided_by
    by_port = any(row.ports != walk.flow.source_ports for row in rows)
    headings = ["", "gate", "where", "filter", "rule", "action"]
    grid = Grid([*headings, *(["client ports"] if by_port else []), "reason", "file"], wide=("reason",))
    bare: list[str] = []
    for row, is_reached in _with_reach(rows, walk.flow.source_ports if title == "Request" else walk.delivered):
        if not row.filters and row.reason in _BARE and not shown.every_gate:
            bare.append(f"{row.gate} {row.at}")
            continue
        decides = decider is not None and row is decider
        action = row.action or "not known"
        name = row.chain or ", ".join(row.filters) if row.chain is None else f"{row.filter}"
        cells = [">" if decides else "", row.gate, row.at, name or "-", row.rule or "-", action]
        if by_port:
            cells.append(str(row.ports))
        reason = f'{row.reason} ("{row.note}")' if row.note else row.reason
        if not is_reached:
            reason = f"[not reached] {reason}"
        style = ("drop" if row.stops else "") if is_reached else "quiet"
        grid.add([*cells, reason, str(row.place or "")], style)
    out.grid(grid)
    if bare:
        out.line(f"  nothing is attached at {', '.join(bare)} (-a shows these too)", "quiet")


def _with_reach(rows: Iterable[Row], coming: RangeSet) -> Iterable[tuple[Row, bool]]:
    """Each row with whether anything of its ports comes to it, past the gates before."""
    gate: Row | None = None
    stopped: list[tuple[int, int]] = []
    for row in rows:
        if gate is None or not _is_same(gate, row):
            coming = coming - RangeSet.of(stopped)
            stopped, gate = [], row
        if row.stops:
            stopped.extend(row.ports)
        yield row, bool(coming & row.ports)


def _show_reply(walk: Walk, shown: Shown, out: Output) -> None:
    if not walk.reply:
        return
    if walk.delivered or shown.whole_reply:
        _rows("Reply" if walk.delivered else "Reply, had a request arrived", walk.reply, walk, shown, out)
        return
    out.line()
    stops = [row for row in walk.reply if row.stops]
    if stops:
        out.line(f"No request arrives; its reply would be stopped by {decider_text(stops[0])} (--reply shows all).")
    else:
        out.line("No request arrives; its reply would come back (--reply shows its gates).", "quiet")


def _show_proposals(answer: CheckAnswer, out: Output) -> None:
    proposals = answer.proposals
    if not proposals.each:
        return
    out.heading("The smallest change for each gate that blocks")
    for each in proposals.each:
        proof = "  [not tried: no change of the network file is known]"
        if each.edit is not None:
            proof = f"  [{each.how_tried}: {each.gate} opens, verdict {each.verdict_after}]"
        out.parts(("  - ", "quiet"), (each.text, ""), (proof, "quiet"))
        for other in each.others:
            out.parts(("    or: ", "quiet"), (other.text, ""), (f"  [tried: verdict {other.verdict_after}]", "quiet"))
    if len(proposals.each) > 1:
        out.line(f"    with all of them: {proposals.verdict_with_all}", "quiet")
    if any(each.edit is not None for each in proposals.each):
        out.line("    --fixes says what else each would do; --write-change FILE makes a change file of them.", "quiet")
    if any(each.is_for_one_address for each in proposals.each):
        out.line("    Open only what the ticket needs; a rule for one address is a proof, not yet a policy.", "quiet")


# JSON.


def check_json(answer: CheckAnswer) -> dict[str, Any]:
    """The answer as `check/1`."""
    walk = answer.walk
    source, arrival = walk.flow.source, walk.arrival
    decider = walk.decided_by
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
        "either": list(walk.either) if walk.either else None,
        "signal": walk.signal,
        "decided_by": decider_json(decider) if decider else None,
        "also_blocking": [decider_json(row) for row in walk.stops() if decider is None or not _is_same(row, decider)],
        "allowed_client_ports": walk.answered.texts() if walk.flow.service.has_ports else [],
        "forward": [row_json(row, walk) for row in walk.forward],
        "reply": [row_json(row, walk) for row in walk.reply],
        "near_misses": [
            {
                "gate": miss.gate, "direction": miss.direction, "filter": miss.filter, "way": miss.way or None,
                "rule": miss.rule, "action": miss.action, "field": miss.field, "wanted": miss.wanted,
                "actual": miss.actual, "hint": miss.hint or None, "file": miss.place.file, "line": miss.place.line,
                **({"condition": miss.condition} if miss.condition else {}),
            }
            for miss in answer.misses
        ],
        "suggestions": [
            {
                "gate": fix.gate, "at": fix.at, "direction": fix.direction, "filter": fix.filter,
                "place": fix.place, "rule": fix.rule, "text": fix.text, "proved": fix.proved,
                "rests_on_earlier": fix.rests_on_earlier, "verdict_after": fix.verdict_after,
                "steps": [dict(step) for step in fix.steps],
                "others": [each.text for each in fix.others],
            }
            for fix in answer.proposals.each
        ],
        "verdict_with_all_suggestions": answer.proposals.verdict_with_all,
        **({"fixes": _fixes_json(answer)} if answer.fixes else {}),
        "toggles": answer.asked,
        "caveats": answer.caveats,
    }  # fmt: skip


def _fixes_json(answer: CheckAnswer) -> list[dict[str, Any]]:
    from kiboko.views.fixes_view import fix_json

    return [fix_json(each) for each in answer.fixes]


def decider_json(row: Row | DecidedBy) -> dict[str, Any]:
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
        "note": row.note or None, **_place_json(row),
        "client_ports": row.ports.texts() if walk.flow.service.has_ports else [],
    }  # fmt: skip
    if row.possible:
        found["possible"] = list(row.possible)
    if row.condition:
        found["condition"] = row.condition
    if row.gate == "route":
        lookup = row.step.lookup
        found["entry"] = str(lookup.entry) if lookup and lookup.entry else None
        found["beaten"] = [str(entry) for entry in lookup.beaten] if lookup else []
    return found


def _place_json(row: Row | DecidedBy) -> dict[str, Any]:
    return {"file": row.place.file if row.place else None, "line": row.place.line if row.place else None}
