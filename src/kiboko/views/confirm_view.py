"""Rules against evidence made visible: totals first, then the leaks and breaks that matter."""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Generator, Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from kiboko.core.evidence.causes import Cause, Causes
from kiboko.core.evidence.comparison import AGREE, BREAK, LEAK, UNSURE, Decided
from kiboko.core.evidence.coverage import Coverage
from kiboko.core.evidence.finding_groups import FindingGroup
from kiboko.core.evidence.finding_rows import FindingRows
from kiboko.core.evidence.gathering import Gathered, gathered
from kiboko.core.evidence.side_by_side import ALL_AGREE, Side, side_by_side
from kiboko.core.evidence.summary import Summary
from kiboko.core.network.directory import SHARED
from kiboko.core.queries.holders import Holders
from kiboko.core.walk.walk import Walker
from kiboko.core.wording import counted
from kiboko.views.check_view import decider_text
from kiboko.views.coverage_view import coverage_json, show_coverage
from kiboko.views.finding_texts import rows_json, texts_of
from kiboko.views.output import Grid, Output
from kiboko.views.text import network_option, streamed

_ORDER = (LEAK, BREAK, UNSURE, AGREE)
_MEANING = {
    LEAK: "passes, though the rules stop it",
    BREAK: "fails, though the rules allow it",
    UNSURE: "cannot be told",
    AGREE: "the rules and the network say the same",
}
_MOST_CAUSES = 2
_FEW = 30
"""As many pairs of one status are shown one by one."""
_IN_FULL = 5
_MANY_RULES = 5
"""So many rules, or kinds of traffic, of which none does what it says, are hardly all wrong by themselves."""
_LINES = 20
"""As many lines of what is brought together are shown where nobody says how many."""


@dataclass(frozen=True, slots=True)
class FindingsShown:
    """How much of the findings is shown: those that agree too; every pair by itself; the first `top` lines of each
    status, by default some of what is brought together and all pairs."""

    agreeing: bool = False
    by_pair: bool = False
    top: int | None = None


def show_confirm(
    summary: Summary,
    causes: Causes,
    caveats: list[str],
    shown: FindingsShown,
    out: Output,
    coverage: Coverage | None = None,
) -> None:
    """The whole report."""
    show_findings(summary, causes, shown, out)
    _show_sides(side_by_side(summary), shown, out)
    if coverage is not None and coverage.points:
        show_coverage(coverage, causes.walker.topology, out)
    if caveats:
        out.heading("Bear in mind")
        out.bullets(caveats)


def show_findings(summary: Summary, causes: Causes, shown: FindingsShown, out: Output) -> None:
    """Totals, then what disagrees, group by group."""
    total = summary.records
    leaks, breaks = summary.totals[LEAK], summary.totals[BREAK]
    end = f"; {counted(summary.rejected, 'row')} could not be read." if summary.rejected else "."
    if summary.before_as_of and not (leaks or breaks):
        count = summary.before_as_of
        end = f"; {count:,} that {'disagrees is' if count == 1 else 'disagree are'} older than the network file{end}"
    one = summary.undated == 1
    disagrees = "disagrees" if one else "disagree"
    untimed = f"{'does' if one else 'do'} not say when {'it' if one else 'they'} began"
    if summary.undated and (leaks or breaks):
        end = f"; {summary.undated:,} that {disagrees} {untimed}{end}"
    if not total:
        out.parts(("NOT KNOWN", "unsure"), (": there is no record to hold against the rules.", ""))
    elif leaks or breaks:
        told = " and ".join(counted(number, word) for number, word in ((leaks, "leak"), (breaks, "break")) if number)
        out.parts(("DISAGREE", "leak" if leaks else "break"), (f": {told} in {counted(total, 'record')}{end}", ""))
    elif summary.undated:
        told = f"{counted(summary.undated, 'record')} of {total:,} {disagrees}, and {untimed}"
        out.parts(("NOT KNOWN", "unsure"),
                  (f": {told}: {'it' if one else 'they'} may be older than the network file{end}", ""))  # fmt: skip
    elif not summary.tested:
        out.parts(("NOTHING PROVED", "unsure"),
                  (f": none of {counted(total, 'record')} tests to the end what the rules say{end}", ""))  # fmt: skip
    else:
        out.parts(("AGREE", "agree"), (f": no leak and no break in {counted(total, 'record')}{end}", ""))
    for status in _ORDER:
        if summary.totals[status]:
            note = _note(summary, status)
            out.parts(
                (f"  {summary.totals[status]:>8,}  ", ""), (f"{status:<8}", status), (f"{_MEANING[status]}{note}", "")
            )
    if summary.as_far_as_seen:
        out.parts((f"  {summary.as_far_as_seen:>8,}  ", ""), (f"{AGREE:<8}", "quiet"),
                  ("as far as seen: no record tests the gate that decides, or shows what came of it", ""))  # fmt: skip
    if summary.conversations:
        out.line(f"  {_made_of(summary)}", "quiet")
    _show_nothing_at_work(summary, out)
    holders = Holders(causes.walker)
    for status in (LEAK, BREAK, UNSURE, *((AGREE,) if shown.agreeing else ())):
        groups = summary.rows((status,)).concluded(lambda each: not each.as_far_as_seen or shown.agreeing)
        if not groups:
            continue
        out.heading(f"{status}: {_MEANING[status]}")
        if shown.by_pair or len(groups) <= _FEW:
            _show_pairs(groups, causes, shown.top, out)
        else:
            stopped = summary.seen_stopped() if status == LEAK else None
            lines = gathered(groups, holders)
            _show_gathered(lines, stopped, causes, _LINES if shown.top is None else shown.top, out)
    if summary.answered_probes:
        out.line()
        out.line(
            f"{counted(summary.answered_probes, 'probe')} answered as the rules say: the network lets it through."
            " If somebody still cannot get in, what remains is the service itself (login, keys, certificates)."
        )


def _show_nothing_at_work(summary: Summary, out: Output) -> None:
    """What speaks for another network file than that of the evidence, where leaks or breaks are many: that none of the
    rules was seen to do what it says."""
    leaking = summary.leaking()
    if len(leaking) >= _MANY_RULES and not any(each.stopped for each in leaking):
        others = len(summary.seen_stopped())
        asked = (
            f"though {counted(others, 'other was', 'others were')}: are they in force?"
            if others
            else "nor was any other: is this the network file of that network, at that time, and is what is stopped"
            " recorded too?"
        )
        out.line(f"  None of the {len(leaking):,} rules that should have stopped these leaks was seen to stop anything,"
                 f" {asked}", "unsure")  # fmt: skip
    works = summary.rows((AGREE,)).concluded(lambda each: each.is_seen_to_work)
    if len(summary.rows((BREAK,))) >= _MANY_RULES and not works:
        out.line("  Nothing that the rules allow was seen to get through: is this the network file of that network, at"
                 " that time?", "unsure")  # fmt: skip


def _made_of(summary: Summary) -> str:
    """How many conversations flow records are of."""
    replies = f", {counted(summary.replies, 'of them a reply', 'of them replies')}" if summary.replies else ""
    return f"flow records of {counted(summary.conversations, 'conversation')}{replies}"


def _note(summary: Summary, status: str) -> str:
    notes = []
    if status == AGREE and summary.different_signal:
        notes.append(f"{summary.different_signal:,} with a different signal")
    if status == AGREE and summary.elsewhere:
        notes.append(f"{summary.elsewhere:,} stopped elsewhere than the rules stop it")
    if status == AGREE and summary.inventory:
        notes.append(f"{summary.inventory:,} by the filters alone: the inventory is out of date")
    if status == AGREE and summary.first_alone:
        notes.append(
            f"{summary.first_alone:,} where the rules let through the first packet alone: what is opened hangs"
        )
    if status == UNSURE and summary.before_as_of:
        notes.append(f"{summary.before_as_of:,} older than the network file")
    if status == UNSURE and summary.undated:
        notes.append(f"{summary.undated:,} that do not say when they began")
    return f" ({', '.join(notes)})" if notes else ""


def _show_pairs(groups: FindingRows, causes: Causes, top: int | None, out: Output) -> None:
    """Findings of one status pair by pair; leaks and breaks in full."""
    some = groups if top is None else groups[:top]
    _grid(some, causes.walker, out)
    rest = groups[len(some) :]
    if rest:
        pairs = counted(len(rest), "more pair and service", "more pairs and services")
        out.line(f"and {counted(rest.total('count'), 'more record')} of {pairs}; --top N shows more of them")
    if groups[0].concluded.status in (LEAK, BREAK):
        _details(causes, some, out)


def _grid(groups: FindingRows, walker: Walker, out: Output) -> None:
    from kiboko.core.evidence.row_verdicts import verdicts_of

    grid = Grid(["records", "by", "from", "to", "service", "observed", "rules", "why"], wide=("why",),
                numbers=("records",))  # fmt: skip
    for group, verdict in verdicts_of(walker, groups):
        grid.add(
            [
                f"{group.count:,}", group.evidence, group.source, group.destination, group.service,
                group.concluded.observed, verdict or "-", group.concluded.why,
            ],
            group.concluded.status,
        )  # fmt: skip
    out.grid(grid)


def _show_gathered(
    gathered: list[Gathered], stopped_by: Counter[Decided] | None, causes: Causes, top: int, out: Output
) -> None:
    """Findings by the rule that decides, the largest and the newest first; the first few of them in full. Of leaks
    `stopped_by` says how many records each rule was seen to stop."""
    several = len({each.groups[0].concluded.why for each in gathered}) > 1
    stopped = any(each.groups[0].concluded.decider is not None for each in gathered)
    more_columns = [*(["stopped by the rules at"] if stopped else []), *(["why"] if several else [])]
    told = ["stopped"] if stopped_by is not None else []
    by = ["by"] if len({each.groups[0].evidence for each in gathered}) > 1 else []
    grid = Grid(["", "records", *by, *told, "pairs", "from", "to", "service", *more_columns, "the largest"],
                wide=("from", "to", "why", "the largest"), numbers=("", "records", "stopped", "pairs"))  # fmt: skip
    for number, each in enumerate(gathered[:top], 1):
        largest, more = each.groups[0], len(each.services) - 1
        service = each.services[0] + (f" and {more:,} more" if more > 0 else "")
        grid.add(
            [str(number), f"{each.records:,}", *([largest.evidence] if by else []),
             *([_stopped(largest, stopped_by)] if stopped_by is not None else []),
             f"{len(each.groups):,}", each.source, each.destination, service,
             *([_where(largest.concluded.decider)] if stopped else []), *([largest.concluded.why] if several else []),
             f"{largest.source} to {largest.destination}"],
            largest.concluded.status,
        )  # fmt: skip
    out.grid(grid)
    rest = gathered[top:]
    if rest:
        records = sum(each.records for each in rest)
        out.line(
            f"and {counted(records, 'more record')} in {counted(len(rest), 'more line')}; --top N shows more of them"
        )
    if stopped_by is not None:
        out.line("stopped: how many other records the same rule was seen to stop", "quiet")
    pairs = sum(len(each.groups) for each in gathered)
    out.line(
        f"{counted(pairs, 'pair and service', 'pairs and services')} in all; --by pair lists each of them", "quiet"
    )
    if gathered[0].groups[0].concluded.status in (LEAK, BREAK):
        _details(causes, [each.groups[0] for each in gathered[:_IN_FULL]], out, "the largest of its line")


def _stopped(group: FindingGroup, stopped_by: Counter[Decided]) -> str:
    """How many records the rule was seen to stop that should have stopped these."""
    decider = group.concluded.decider
    return f"{stopped_by[decider]:,}" if decider is not None else "-"


def _where(decider: Decided | None) -> str:
    """What stops something by the rules, in few words."""
    if decider is None:
        return "-"
    gate, chosen, rule = decider
    if chosen:
        return f"{chosen}/{rule} ({gate})"
    return "between zones, by default" if gate == "zone" else gate


def _details(causes: Causes, groups: Iterable[FindingGroup], out: Output, what: str = "") -> None:
    """What stops or should let each of them pass, its likely causes, and the line to paste; told once for those of
    which the same is to be said."""
    alike: dict[tuple[str, tuple[Cause, ...]], list[tuple[int, FindingGroup]]] = {}
    causes.look_around(itertools.islice(groups, _IN_FULL))
    for number, group in enumerate(groups, 1):
        rules = by_the_rules(group)
        alike.setdefault((rules, tuple(causes.of(group)[:_MOST_CAUSES])), []).append((number, group))
        group.forget()
    for (rules, likely), told in alike.items():
        out.line()
        for number, group in told:
            lead = f"  {number}. {what}: " if what else "  "
            by = "" if group.evidence == "flow" else f" by {group.evidence}"
            name = f"{group.source} to {group.destination}, {group.service}"
            out.parts((lead, "quiet"), (name, "mark"), (f"{by}: {_span(group)}", "quiet"))
        out.line(f"    by the rules: {rules}")
        for place, cause in enumerate(likely, 1):
            out.parts((f"    {place}. ", ""), (cause.id, "mark"), (f": {cause.looked_at}", ""))
            out.line(f"       to confirm: {cause.to_confirm}", "quiet")
        if told[0][1].concluded.is_shared:
            gateway = told[0][1].source.removesuffix(SHARED)
            out.line(f"    who sent it, one of those recorded or another: a log taken in front of {gateway} tells, or"
                     " one of both sides of it (postNATSourceIPv4Address)", "quiet")  # fmt: skip
        options = network_option(causes.walker.topology.file)
        for line in dict.fromkeys(group.check_line() for _, group in told):
            out.line(f"    to see it: {line}{options}")


def by_the_rules(group: FindingGroup) -> str:
    """What the rules do with a flow, in words; with one of a shared address, whoever of those behind it sent it."""
    decider, is_shared = group.finding.decider, group.concluded.is_shared
    if decider is not None:
        return f"stopped by {decider_text(decider)}" + (", whoever sent it" if is_shared else "")
    if is_shared and group.concluded.status == LEAK:
        walk = group.finding.walk
        stops = walk.stops() if walk is not None else []
        one = f"; one of them by {decider_text(stops[0])}" if stops else ""
        return f"stopped, whoever sent it, and not by the same rule for all{one}"
    return "allowed at every gate" + (", whoever sent it" if is_shared else "")


def _span(group: FindingGroup) -> str:
    parts = [counted(group.count, "record")]
    if group.evidence == "flow":
        parts.insert(0, counted(group.conversations, "conversation"))
        parts += [counted(group.packets, "packet"), counted(group.octets, "octet")]
    if group.first is not None and group.last is not None:
        parts.append(" to ".join(dict.fromkeys((_time(group.first), _time(group.last)))))
    return ", ".join(parts)


def _time(moment: datetime) -> str:
    return f"{moment:%Y-%m-%d %H:%M:%S}Z"


def _show_sides(sides: list[Side], shown: FindingsShown, out: Output) -> None:
    """What both kinds of evidence speak of; of more than a few a line for each conclusion."""
    if not sides:
        return
    out.heading("the same traffic by both kinds of evidence")
    if len(sides) > _FEW and not shown.by_pair:
        _show_conclusions(sides, out)
        return
    grid = Grid(["from", "to", "service", "rules say", "probe says", "log says", "conclusion"], wide=("conclusion",))
    for side in sides:
        grid.add([side.source, side.destination, side.service, side.rules, _counts(side.probes),
                  _counts(side.records), side.conclusion])  # fmt: skip
    out.grid(grid)


def _show_conclusions(sides: list[Side], out: Output) -> None:
    """What follows of how many pairs and services, with the first of each; what all agree on comes last."""
    alike: dict[tuple[str, str], list[Side]] = {}
    for side in sides:
        alike.setdefault((side.rules, side.follows), []).append(side)
    grid = Grid(["pairs", "rules say", "probe says", "log says", "conclusion", "the first"],
                wide=("conclusion",), numbers=("pairs",))  # fmt: skip
    for (rules, conclusion), each in sorted(
        alike.items(), key=lambda item: (item[0][1].startswith(ALL_AGREE), -len(item[1]))
    ):
        probes, records = (sum(counts, Counter()) for counts in ([s.probes for s in each], [s.records for s in each]))
        first = f"{each[0].source} to {each[0].destination}, {each[0].service}"
        grid.add([f"{len(each):,}", rules, _counts(probes), _counts(records), conclusion, first])
    out.grid(grid)
    out.line(f"{counted(len(sides), 'pair and service', 'pairs and services')} in all; --by pair lists each of them",
             "quiet")  # fmt: skip


def _counts(counts: Counter[str]) -> str:
    return ", ".join(f"{word} {count:,}" if count > 1 else word for word, count in counts.items())


def confirm_json(
    summary: Summary, causes: Causes, caveats: list[str], coverage: Coverage | None = None
) -> dict[str, Any]:
    """The report as `confirm/1`."""
    return {**_around(summary, causes, caveats, coverage), "rows": rows_json(summary.rows(), causes)}


def confirm_json_text(
    summary: Summary, causes: Causes, caveats: list[str], coverage: Coverage | None = None
) -> Generator[str, None, None]:
    """The report as `confirm/1`, as text in pieces: of a large log the rows are very many."""
    return streamed(_around(summary, causes, caveats, coverage), "rows", texts_of(summary.rows(), causes))


def _around(summary: Summary, causes: Causes, caveats: list[str], coverage: Coverage | None) -> dict[str, Any]:
    """The report without its rows."""
    covered = coverage_json(coverage, causes.walker.topology) if coverage is not None and coverage.points else None
    return {
        "kiboko": "confirm/1",
        "summary": {
            "records": summary.records,
            **{status: summary.totals[status] for status in _ORDER},
            "agree_as_far_as_seen": summary.as_far_as_seen,
            "conversations": summary.conversations,
            "rejected": summary.rejected,
            "replies": summary.replies,
            "different_signal": summary.different_signal,
            "stopped_elsewhere": summary.elsewhere,
            "inventory_out_of_date": summary.inventory,
            "first_packet_only": summary.first_alone,
            "before_as_of": summary.before_as_of,
            "undated": summary.undated,
            "agrees": summary.agrees,
        },
        "rows": [],
        "side_by_side": [
            {
                "source": side.source,
                "destination": side.destination,
                "service": side.service,
                "rules": side.walk.verdict,
                "signal": side.walk.signal,
                "probes": dict(side.probes),
                "records": dict(side.records),
                "conclusion": side.conclusion,
            }
            for side in side_by_side(summary)
        ],
        "leaking_rules": [
            {
                "gate": each.rule[0],
                "filter": each.rule[1],
                "rule": each.rule[2],
                "records": each.records,
                "kinds": each.kinds,
                "seen_stopped": each.stopped,
            }
            for each in summary.leaking()
        ],
        "coverage": covered,
        "caveats": caveats,
    }
