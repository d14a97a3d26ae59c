"""Flow records made visible: what they come to by any field, when they were, and which rules they hit."""

from __future__ import annotations

from typing import Any

from kiboko.core.flow_query import MINUTE, Sum, Sums, Timeline
from kiboko.core.flow_table import EVENTS, NO_TIME, moment
from kiboko.core.rule_usage import RuleLine, RuleUsage
from kiboko.views.output import Grid, Output
from kiboko.views.text import counted

MEASURES = {"bytes": "octets", "packets": "packets", "records": "records"}
"""What groups may be ranked by, as users call it, and as `Sum` does."""
_BAR = 36
_MOST_PERIODS = 24


def top(sums: Sums, by: str, most: int) -> list[tuple[tuple[str, ...], Sum]]:
    """The groups with most of a measure, the largest first; equal ones by name."""
    ranked = sorted(sums.groups.items(), key=lambda item: (-getattr(item[1], MEASURES[by]), item[0]))
    return ranked[:most]


def show_flows(sums: Sums, timeline: Timeline, by: str, most: int, caveats: list[str], out: Output) -> None:
    """Totals, the largest groups, and a histogram of time."""
    total = sums.total
    out.parts(
        (f"{total.records:,}", "mark"),
        (f" records, {counted(total.packets, 'packet')}, {counted(total.octets, 'byte')}{_span(total)}", ""),
    )
    if sums.fields and sums.groups:
        shown = top(sums, by, most)
        out.heading(f"by {', '.join(sums.fields)}: most {by} first")
        grid = Grid(
            [*sums.fields, "records", "packets", "bytes", "share", "first", "last"],
            wide=tuple(name for name in sums.fields if name in ("source", "destination")),
            numbers=("records", "packets", "bytes", "share"),
        )
        whole = max(1, getattr(total, MEASURES[by]))
        for key, each in shown:
            share = f"{100 * getattr(each, MEASURES[by]) / whole:.1f} %"
            grid.add([*key, f"{each.records:,}", f"{each.packets:,}", f"{each.octets:,}", share,
                      _time(each.first), _time(each.last)])  # fmt: skip
        out.grid(grid)
        if len(sums.groups) > len(shown):
            out.line(f"and {len(sums.groups) - len(shown):,} more groups; --top N shows more", "quiet")
    _histogram(timeline.coarsened(_MOST_PERIODS), out)
    if caveats:
        out.heading("Bear in mind")
        out.bullets(caveats)


def _span(each: Sum) -> str:
    return f", {_time(each.first)} to {_time(each.last)}" if each.first != NO_TIME else ""


def _time(milliseconds: int) -> str:
    when = moment(milliseconds)
    return f"{when:%Y-%m-%d %H:%M:%S}Z" if when is not None else "-"


def _length(step: int) -> str:
    minutes = step // MINUTE
    for size, word in ((1440, "day"), (60, "hour"), (1, "minute")):
        if minutes % size == 0:
            return counted(minutes // size, word)
    return f"{minutes} minutes"


def _histogram(timeline: Timeline, out: Output) -> None:
    rows = timeline.rows()
    if not rows:
        return
    out.heading(f"records by the time they began, each line {_length(timeline.step)}")
    most = max(sum(counts) for _, counts in rows)
    for begin, counts in rows:
        seen, passed, denied = (max(bool(count), round(_BAR * count / most)) for count in counts)
        parts = [(f"  {_time(begin)[:16]}  {sum(counts):>12,}  ", "")]
        parts += [("█" * passed, "allow"), ("▒" * seen, "quiet"), ("░" * denied, "drop")]
        out.parts(*parts)
    out.parts(("  █ ", "allow"), ("passed  ", ""), ("▒ ", "quiet"), ("seen, no word of its fate  ", ""), ("░ ", "drop"),
              ("denied", ""))  # fmt: skip


def show_usage(usage: RuleUsage, caveats: list[str], out: Output) -> None:
    """Every rule with what hit it; those never hit are marked."""
    lines = usage.lines()
    never = [each for each in lines if not each.is_hit and each.rule is not None]
    rules = sum(each.rule is not None for each in lines)
    grid = Grid(["rule", "action", "what", "records", "packets", "bytes", "first", "last"], wide=("what",),
                numbers=("records", "packets", "bytes"))  # fmt: skip
    section = ""
    for each in lines:
        if each.rule is None and not each.is_hit:
            continue
        head = f"{each.filter.name}, {each.direction}" if each.direction != "rules" else each.filter.name
        if head != section:
            grid.section(head)
            section = head
        action = each.rule.action if each.rule is not None else each.filter.otherwise
        what = _what(each)
        if not each.is_hit:
            disabled = each.rule is not None and not each.rule.enabled
            grid.add(
                [f"  {each.name}", action, what, "never hit" if not disabled else "disabled", "", "", "", ""], "quiet"
            )
        else:
            grid.add([f"  {each.name}", action, what, f"{each.sum.records:,}", f"{each.sum.packets:,}",
                      f"{each.sum.octets:,}", _time(each.sum.first), _time(each.sum.last)])  # fmt: skip
    out.grid(grid)
    out.line()
    out.parts((f"{usage.records:,}", "mark"), (f" records held against {counted(rules, 'rule')}; ", ""),
              (f"{len(never)} never hit", "unsure" if never else "agree"))  # fmt: skip
    out.line("A rule that is never hit may be needed all the same: these records cover their own time and places only.")
    if caveats:
        out.heading("Bear in mind")
        out.bullets(caveats)


def _what(line: RuleLine) -> str:
    rule = line.rule
    if rule is None:
        return "no rule matched"
    from kiboko.core.model import peer_text

    parts = [f"from {peer_text(rule.sources)}" if rule.sources is not None else "",
             f"to {peer_text(rule.destinations)}" if rule.destinations is not None else "",
             rule.service_text if rule.services is not None else ""]  # fmt: skip
    return " ".join(part for part in parts if part) or "anything"


def flows_json(sums: Sums, timeline: Timeline, by: str, most: int | None, caveats: list[str]) -> dict[str, Any]:
    """The sums as `flows/1`."""
    rows = top(sums, by, most if most is not None else len(sums.groups))
    return {
        "kiboko": "flows/1",
        "summary": {**_sum_json(sums.total), "groups": len(sums.groups), "left_out": sums.left_out},
        "rows": [{**dict(zip(sums.fields, key, strict=True)), **_sum_json(each)} for key, each in rows],
        "timeline": {
            "step_ms": timeline.step,
            "rows": [
                {"begin": _iso(begin), **dict(zip(EVENTS, counts, strict=True))} for begin, counts in timeline.rows()
            ],
        },
        "caveats": caveats,
    }


def usage_json(usage: RuleUsage, caveats: list[str]) -> dict[str, Any]:
    """The usage of rules as `rule-usage/1`."""
    lines = usage.lines()
    return {
        "kiboko": "rule-usage/1",
        "summary": {
            "records": usage.records,
            "rules": sum(each.rule is not None for each in lines),
            "never_hit": sum(not each.is_hit for each in lines if each.rule is not None),
        },
        "rows": [
            {"filter": each.filter.name, "direction": each.direction, "rule": each.name,
             "action": each.rule.action if each.rule else each.filter.otherwise,
             "file": each.rule.place.file if each.rule else each.filter.place.file,
             "line": each.rule.place.line if each.rule else each.filter.place.line, **_sum_json(each.sum)}
            for each in lines
        ],
        "caveats": caveats,
    }  # fmt: skip


def _sum_json(each: Sum) -> dict[str, Any]:
    return {"records": each.records, "packets": each.packets, "bytes": each.octets,
            "first": _iso(each.first), "last": _iso(each.last)}  # fmt: skip


def _iso(milliseconds: int) -> str | None:
    when = moment(milliseconds)
    return when.isoformat(timespec="milliseconds").replace("+00:00", "Z") if when is not None else None
