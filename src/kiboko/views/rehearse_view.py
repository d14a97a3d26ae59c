"""A rehearsal made visible: what the change opens and closes, which promises it breaks, which findings it brings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kiboko.core.audit.findings import FEW, Finding
from kiboko.core.changes.expecting import Held
from kiboko.core.changes.rehearsing import Rehearsal
from kiboko.core.evidence.turning import PASSES, STOPPED, TRIED, Turned
from kiboko.core.header.addresses import reads_as_address
from kiboko.core.queries.ends import Ends
from kiboko.core.records.flow_table import moment
from kiboko.core.wording import counted
from kiboko.views.compare_view import CompareShown, compare_json, show_difference
from kiboko.views.expect_view import promise_text
from kiboko.views.output import Grid, Output
from kiboko.views.reach_view import question_words
from kiboko.views.text import iso, network_option

if TYPE_CHECKING:
    from kiboko.core.evidence.observed import Observed
    from kiboko.files.changes.kept_rehearsals import KeptLine, KeptRehearsal

_MOST_TURNED, _MOST_ALIKE = 12, 10


def show_rehearsal(
    found: Rehearsal, shown: CompareShown, ends: tuple[Ends, Ends], out: Output, turned: Turned | None = None,
    told: Sequence[str] = (),
) -> None:  # fmt: skip
    """The verdicts, then recorded traffic, promises and findings."""
    show_difference(found.difference, shown, ends, out)
    if turned is not None:
        _show_turned(turned, shown, out)
    if found.expectations:
        out.heading("Expectations")
        still = sum(before.state == after.state == "broken" for before, after in found.expectations)
        out.line(f"{counted(len(found.expectations), 'expectation')}: {len(found.broken)} broken by it, "
                 f"{len(found.mended)} mended by it, {still} broken before and after.")  # fmt: skip
        for word, style, outcomes in (
            ("breaks", "blocked", [(each, each.why) for each in found.broken]),
            ("breaks further", "blocked", [(each, f"now {pair} as well") for each, pair in found.worse]),
            ("mends", "allowed", [(each, each.why) for each in found.mended]),
        ):
            most = len(outcomes) if shown.full else shown.top
            for each, why in outcomes[:most]:
                asked = each.expectation
                out.parts((f"  {word} ", style), (asked.id, "mark"), (f"  ({asked.place})", "quiet"))
                out.labelled("      ", promise_text(asked) + (f"; {why}" if why else ""))
            if len(outcomes) > most:
                out.line(f"  {word} {len(outcomes) - most:,} more; --full shows all", "quiet")
    for word, style, findings in (("brings", "blocked", found.brought), ("ends", "allowed", found.ended)):
        if findings:
            out.heading(f"Findings that it {word}")
        for kind in dict.fromkeys(each.id for each in findings):
            mine = [each for each in findings if each.id == kind]
            most = len(mine) if shown.full else min(shown.top, _MOST_ALIKE)
            for finding in mine[:most]:
                out.parts((f"  {finding.severity:<7}", style), (f"{finding.id} ", "mark"), (finding.at, ""))
                if shown.full and len(finding.machines) > FEW:
                    out.labelled("         ", ", ".join(finding.machines), "quiet")
                out.labelled("         ", finding.proof)
            if len(mine) > most:
                out.line(f"  and {len(mine) - most:,} more of {kind}; --full shows all", "quiet")
    if told:
        out.heading("Also")
        out.bullets(list(told))


_TURNED = {
    STOPPED: ("Recorded traffic that would newly be stopped", "blocked"),
    PASSES: ("Recorded traffic that would newly be let through", "allowed"),
    TRIED: ("Recorded traffic that the rules stop before and after, and that was tried all the same", "quiet"),
}


def _show_turned(turned: Turned, shown: CompareShown, out: Output) -> None:
    counts = {kind: turned.total(kind).records for kind in _TURNED}
    out.heading("Recorded traffic")
    out.line(
        f"Of {counted(turned.records, 'record')} {counts[STOPPED]:,} would newly be stopped, {counts[PASSES]:,}"
        f" would newly be let through; {counts[TRIED]:,} the rules stop before and after."
    )
    for kind, (title, style) in _TURNED.items():
        count = turned.count(kind)
        if not count:
            continue
        most = count if shown.full else min(shown.top, _MOST_TURNED)
        out.line()
        out.line(title, style)
        grid = Grid(["  conversations", "records", "from", "to", "service", "last seen"], wide=("from", "to"),
                    numbers=("  conversations", "records"))  # fmt: skip
        for (source, destination, service), each in turned.of(kind, most):
            last = iso(moment(each.last)) or "no time"
            grid.add([f"{each.conversations:,}", f"{each.records:,}", source, destination, service, last])
        out.grid(grid)
        if count > most:
            out.line(f"  and {count - most:,} more; --full shows all", "quiet")


def rehearsal_json(
    found: Rehearsal, shown: CompareShown, ends: tuple[Ends, Ends], turned: Turned | None = None,
    told: Sequence[str] = (),
) -> dict[str, Any]:  # fmt: skip
    """A rehearsal as `rehearse/1`: what `compare/1` has, recorded traffic, promises and findings."""
    whole = compare_json(found.difference, shown, ends)
    whole["recorded"] = None if turned is None else _turned_json(turned)
    whole["caveats"] = [*whole["caveats"], *told]
    whole["kiboko"] = "rehearse/1"
    worse = {id(each.expectation): pair for each, pair in found.worse}
    whole["expectations"] = [
        _held_json(before, after, worse.get(id(after.expectation))) for before, after in found.expectations
    ]
    whole["findings"] = [_finding_json(each, "brought") for each in found.brought]
    whole["findings"] += [_finding_json(each, "ended") for each in found.ended]
    return whole


def _held_json(before: Held, after: Held, worse: str | None) -> dict[str, Any]:
    return {"id": after.expectation.id, "before": before.state, "after": after.state, "why": after.why or None,
            "worse": worse}  # fmt: skip


def _finding_json(finding: Finding, change: str) -> dict[str, Any]:
    return {
        "change": change,
        "finding": finding.id,
        "severity": finding.severity,
        "at": finding.at,
        "machines": list(finding.machines),
        "proof": finding.proof,
    }


def _turned_json(turned: Turned) -> dict[str, Any]:
    return {
        "records": turned.records,
        "untold": turned.untold,
        "unasked": turned.unasked,
        "rows": [
            {
                "turned": kind, "source": source, "destination": destination, "service": service,
                "conversations": each.conversations, "records": each.records, "packets": each.packets,
                "octets": each.octets, "first": iso(moment(each.first)), "last": iso(moment(each.last)),
            }
            for kind in _TURNED
            for (source, destination, service), each in turned.of(kind)
        ],
    }  # fmt: skip


# Rehearsals that were kept.


def show_kept(kept: Sequence[KeptRehearsal], folder: Path, out: Output) -> None:
    """Those that are kept, the newest first."""
    if not kept:
        out.line(f"No rehearsal is kept in {folder}; rehearse CHANGE --save NAME keeps one.")
        return
    grid = Grid(["name", "rehearsed", "change", "verdicts", "reason"], wide=("change", "reason"), numbers=("verdicts",))
    for each in kept:
        grid.add([each.name, f"{each.made:%Y-%m-%d %H:%M}Z", each.change, f"{len(each.lines):,}", each.reason])
    out.grid(grid)


def kept_json(kept: Sequence[KeptRehearsal]) -> dict[str, Any]:
    """Those that are kept, as `rehearsals/1`."""
    return {
        "kiboko": "rehearsals/1",
        "summary": {"kept": len(kept)},
        "rows": [{"name": each.name, "made": iso(each.made), "change": each.change, "network": each.network,
                  "reason": each.reason, "verdicts": len(each.lines)} for each in kept],
        "caveats": [],
    }  # fmt: skip


DONE, NOT_DONE, NOT_SEEN, MIXED = "done", "not done", "not seen", "both"


def told_by(line: KeptLine, seen: Observed) -> tuple[str, str]:
    """Whether what was seen shows that a verdict changed as it was to, and what was seen."""
    parts = [f"{count:,} {word}" for word, count in seen.counts.items()]
    what = ", ".join(parts) or "nothing was recorded of it"
    is_open = line.after == "allowed"
    good, bad = (seen.answered, seen.stopped) if is_open else (seen.stopped, seen.through)
    if line.after not in ("allowed", "blocked"):
        return NOT_SEEN, f"{what}; it was to be {line.after}, which rests on more than that"
    if good and bad:
        return MIXED, f"{what}: at one time or place the one, at another the other"
    return (DONE if good else NOT_DONE if bad else NOT_SEEN), what


_STYLE = {DONE: "allowed", NOT_DONE: "blocked", NOT_SEEN: "quiet", MIXED: "partly"}


@dataclass(frozen=True, slots=True)
class AfterShown:
    """How what came of a change is shown: the network file as it was named, and how many verdicts of each kind."""

    network: str
    top: int = 20
    full: bool = False


def show_after(
    kept: KeptRehearsal, observed: Sequence[Observed], now: Sequence[str | None], told: Sequence[str],
    shown: AfterShown, out: Output,
) -> None:  # fmt: skip
    """What was seen since of each verdict that was to change, first of those that did not; `now` is what the rules of
    the network file as it is say of each."""
    found = [told_by(line, seen) for line, seen in zip(kept.lines, observed, strict=True)]
    counts = {state: sum(each[0] == state for each in found) for state in _STYLE}
    parts = [f"{counts[state]:,} {word}" for state, word in
             ((DONE, "did"), (NOT_DONE, "did not"), (MIXED, "did and did not")) if counts[state]]  # fmt: skip
    if counts[NOT_SEEN]:
        parts.append(f"of {counts[NOT_SEEN]:,} nothing was seen that tells")
    what = counted(len(found), "verdict was", "verdicts were")
    out.line(f"{kept.name}: {what} to change; {', '.join(parts) or 'there is none'}.", "heading")
    out.line(f"rehearsed {kept.made:%Y-%m-%d %H:%M}Z{f': {kept.reason}' if kept.reason else ''}", "quiet")
    for state in (NOT_DONE, MIXED, DONE, NOT_SEEN):
        mine = [place for place, each in enumerate(found) if each[0] == state]
        most = len(mine) if shown.full else shown.top
        for place in mine[:most]:
            line = kept.lines[place]
            out.line()
            out.parts(
                (f"{state.upper():<9}", _STYLE[state]), (f"{line.before} → {line.after}: ", ""), (line.told, "mark")
            )
            out.labelled("  seen  ", found[place][1])
            out.labelled("  see   ", _question(line, now[place], shown.network), is_paste=True)
        if len(mine) > most:
            out.line()
            out.line(
                f"and {counted(len(mine) - most, 'more verdict')} {state}; --top N shows more, --full all", "quiet"
            )
    caveats = [*_caveats_of(kept, now, shown.network), *told]
    if caveats:
        out.heading("Bear in mind")
        out.bullets(caveats)


def _question(line: KeptLine, now: str | None, network: str) -> str:
    """The line that shows what a verdict was to become: where the network file has the change by now, of that file."""
    if line.example is None or now != line.after:
        return line.check
    names = line.example.source, line.example.destination
    family = None if any(map(reads_as_address, names)) else line.example.family
    return question_words(names, line.example.service, family, network_option(network))


def _caveats_of(kept: KeptRehearsal, now: Sequence[str | None], network: str) -> list[str]:
    """Whether the network file has the change."""
    known = [(line, verdict) for line, verdict in zip(kept.lines, now, strict=True) if verdict is not None]
    wrong = sum(line.after != verdict for line, verdict in known)
    if not wrong:
        return []
    some = "none" if wrong == len(known) else f"{len(known) - wrong:,} of {len(known):,}"
    return [f"by the rules of {network} {some} of these verdicts came about: the change is not made there, or something"
            " else came between"]  # fmt: skip


def after_json(
    kept: KeptRehearsal, observed: Sequence[Observed], now: Sequence[str | None], told: Sequence[str], network: str
) -> dict[str, Any]:
    """What was seen since, as `after/1`."""
    found = [told_by(line, seen) for line, seen in zip(kept.lines, observed, strict=True)]
    return {
        "kiboko": "after/1",
        "summary": {"name": kept.name, "made": iso(kept.made), "reason": kept.reason,
                    **{state.replace(" ", "_"): sum(each[0] == state for each in found) for state in _STYLE}},
        "rows": [
            {"before": line.before, "after": line.after, "now": verdict, "what": line.told, "state": state,
             "seen": seen.counts, "last": {word: iso(moment(last)) for word, last in seen.last.items()},
             "check": _question(line, verdict, network)}
            for line, seen, verdict, (state, _) in zip(kept.lines, observed, now, found, strict=True)
        ],
        "caveats": [*_caveats_of(kept, now, network), *told],
    }  # fmt: skip
