"""Flow records made visible: what they come to by any field, when they were, and which rules they hit."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from kiboko.core.records.flow_query import Timeline
from kiboko.core.records.flow_sums import Sums
from kiboko.core.records.flow_table import EVENTS, NO_TIME
from kiboko.core.records.group_sums import Sum
from kiboko.core.wording import counted
from kiboko.views.output import Grid, Output
from kiboko.views.timeline_view import Bar, iso_of, show_timeline, time_text

if TYPE_CHECKING:
    from kiboko.core.evidence.rule_usage import RuleLine, RuleUsage

_BAR = 36
_FEW_LISTS = 40
"""Of as many lists of rules each rule is shown; of more a line for each list."""


def show_flows(sums: Sums, timeline: Timeline, by: str, most: int, caveats: list[str], out: Output) -> None:
    """Totals, the largest groups, and a histogram of time."""
    total = sums.total
    amounts = f"{counted(total.packets, 'packet')}, {counted(total.octets, 'octet')}"
    out.parts((counted(total.records, "record"), "mark"), (f", {amounts}{_span(total)}", ""))
    if sums.fields and len(sums):
        shown = sums.largest(by, most)
        out.heading(f"by {', '.join(sums.fields)}: most {by} first")
        grid = Grid(
            [*sums.fields, "records", "packets", "octets", "share", "first", "last"],
            wide=tuple(name for name in sums.fields if name in ("source", "destination")),
            numbers=("records", "packets", "octets", "share"),
        )
        whole = max(1, getattr(total, by))
        for key, each in shown:
            share = f"{100 * getattr(each, by) / whole:.1f} %"
            grid.add([*key, f"{each.records:,}", f"{each.packets:,}", f"{each.octets:,}", share,
                      time_text(each.first), time_text(each.last)])  # fmt: skip
        out.grid(grid)
        if len(sums) > len(shown):
            out.line(f"and {len(sums) - len(shown):,} more groups; --top N shows more", "quiet")
    _histogram(timeline, out)
    if caveats:
        out.heading("Bear in mind")
        out.bullets(caveats)


def _span(each: Sum) -> str:
    return f", {time_text(each.first)} to {time_text(each.last)}" if each.first != NO_TIME else ""


def _histogram(timeline: Timeline, out: Output) -> None:
    bars = (
        Bar("passed", "█", "allow"),
        Bar("seen", "▒", "quiet", "seen, its outcome not recorded"),
        Bar("denied", "░", "drop"),
    )
    show_timeline(timeline, bars, out)


def show_usage(usage: RuleUsage, full: bool, top: int, caveats: list[str], out: Output) -> None:
    """Every rule with what hit it, those never hit marked; of many lists of rules, unless all is wanted (`full`), how
    many of each that are, for the first `top`."""
    lines = usage.lines()
    lists: dict[str, list[RuleLine]] = {}
    for each in lines:
        name, direction, _ = each.key
        lists.setdefault(f"{name}, {direction}" if direction != "rules" else name, []).append(each)
    if full or len(lists) <= _FEW_LISTS:
        _show_rules(lists, out)
    else:
        _show_lists(lists, top, out)
    never = sum(each.is_never_hit for each in lines)
    out.line()
    out.parts((f"{usage.records:,}", "mark"),
              (f" records held against {counted(sum(each.is_rule for each in lines), 'rule')}; ", ""),
              (f"{never:,} never hit", "unsure" if never else "agree"))  # fmt: skip
    out.line("A rule that is never hit may be needed all the same: these records cover their own time and places only.")
    if caveats:
        out.heading("Bear in mind")
        out.bullets(caveats)


def _show_rules(lists: dict[str, list[RuleLine]], out: Output) -> None:
    """Every rule, list by list."""
    has_counters = any(each.counted is not None for lines in lists.values() for each in lines)
    counters = ["counter"] if has_counters else []
    grid = Grid(
        ["rule", "action", "what", "records", "packets", "octets", *counters, "first", "last"],
        wide=("what",), numbers=("records", "packets", "octets", "counter"),
    )  # fmt: skip
    for head, lines in lists.items():
        told = [each for each in lines if each.is_rule or each.is_hit]
        if told:
            grid.section(head)
        for each in told:
            rule = each.key[2]
            counter = [] if not has_counters else ["" if each.counted is None else f"{each.counted[0]:,}"]
            if each.sum.records:
                grid.add([
                    f"  {rule}", each.action, each.what, f"{each.sum.records:,}", f"{each.sum.packets:,}",
                    f"{each.sum.octets:,}", *counter, time_text(each.sum.first), time_text(each.sum.last),
                ])  # fmt: skip
                continue
            state = "no record" if each.is_hit else "not told" if each.untold else "never hit"
            state = state if each.is_enabled else "disabled"
            grid.add(
                [f"  {rule}", each.action, each.what, state, "", "", *counter, "", ""], "" if each.is_hit else "quiet"
            )
    out.grid(grid)


def _show_lists(lists: dict[str, list[RuleLine]], most: int, out: Output) -> None:
    """A line for each list, those of which the most rules were never hit first."""
    rows = []
    for head, lines in lists.items():
        rules = [each for each in lines if each.is_rule]
        never = sum(each.is_never_hit for each in rules)
        hits = sum(each.sum.records for each in rules)
        rest = sum(each.sum.records for each in lines if not each.is_rule)
        last = max((each.sum.last for each in rules if each.sum.records), default=NO_TIME)
        rows.append((never, hits, [head, f"{len(rules):,}", f"{never:,}", f"{hits:,}", f"{rest:,}", time_text(last)]))
    rows.sort(key=lambda row: (-row[0], row[1]))
    out.line(f"{counted(len(rows), 'list')} of rules, those of which the most were never hit first", "quiet")
    grid = Grid(["rules of", "rules", "never hit", "records", "no rule matched", "last hit"], wide=("rules of",),
                numbers=("rules", "never hit", "records", "no rule matched"))  # fmt: skip
    for _, hits, cells in rows[:most]:
        grid.add(cells, "quiet" if not hits else "")
    out.grid(grid)
    more = f"and {counted(len(rows) - most, 'more list')}; --top N shows more, " if len(rows) > most else ""
    out.line(f"{more}--rules-of FILTER every rule of one filter, --full all of them", "quiet")


def flows_json(sums: Sums, timeline: Timeline, by: str, most: int | None, caveats: list[str]) -> dict[str, Any]:
    """The sums as `flows/1`."""
    rows = sums.largest(by, most)
    return {
        "kiboko": "flows/1",
        "summary": {**_sum_json(sums.total), "groups": len(sums), "left_out": sums.left_out},
        "rows": [{**dict(zip(sums.fields, key, strict=True)), **_sum_json(each)} for key, each in rows],
        "timeline": {
            "step_ms": timeline.step,
            "rows": [
                {"begin": iso_of(begin), **dict(zip(EVENTS, counts, strict=True))} for begin, counts in timeline.met()
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
            "rules": sum(each.is_rule for each in lines),
            "never_hit": sum(each.is_never_hit for each in lines),
        },
        "rows": [
            {**dict(zip(("filter", "direction", "rule"), each.key, strict=True)), "action": each.action,
             "file": each.place.file, "line": each.place.line, **_sum_json(each.sum),
             "never_hit": each.is_never_hit,
             "counter": None if each.counted is None else dict(zip(("packets", "octets"), each.counted, strict=True))}
            for each in lines
        ],
        "caveats": caveats,
    }  # fmt: skip


def _sum_json(each: Sum) -> dict[str, Any]:
    return {"records": each.records, "packets": each.packets, "octets": each.octets,
            "first": iso_of(each.first), "last": iso_of(each.last)}  # fmt: skip
