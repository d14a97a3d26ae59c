"""What evidence covers made visible: when, where, and what its silence does not prove."""

from __future__ import annotations

from typing import Any

from kiboko.core.evidence.coverage import STATUSES, Coverage, unlogged
from kiboko.core.network.model import Topology
from kiboko.core.records.flow_query import MINUTE
from kiboko.core.wording import counted
from kiboko.views.output import Grid, Output
from kiboko.views.timeline_view import Bar, iso_of, length_text, show_timeline, time_text

_MOST_POINTS = 20
_MOST_NAMES = 12
_BARS = (
    Bar("agree", "█", "agree"),
    Bar("agree as far as seen", "▓", "quiet"),
    Bar("unsure", "▒", "unsure"),
    Bar("break", "B", "break"),
    Bar("leak", "L", "leak"),
)


def show_coverage(coverage: Coverage, topology: Topology, out: Output) -> None:
    """A timeline of the findings, then where the records were taken and what they leave open."""
    show_timeline(coverage.timeline, _BARS, out)
    out.heading("what the flow records cover")
    grid = Grid(["taken at", "records", "first", "last", "minutes"], numbers=("records", "minutes"))
    ranked = sorted(coverage.points.items(), key=lambda item: (-item[1][0].records, item[0]))
    for name, (total, minutes) in ranked[:_MOST_POINTS]:
        grid.add([point_text(name, topology), f"{total.records:,}", time_text(total.first), time_text(total.last),
                  f"{len(minutes):,}"])  # fmt: skip
    out.grid(grid)
    if len(ranked) > _MOST_POINTS:
        out.line(f"and {len(ranked) - _MOST_POINTS:,} more", "quiet")
    out.bullets(_open_ends(coverage, topology))


def point_text(name: str, topology: Topology) -> str:
    """An observation point with what the network file says it is."""
    point = topology.observation_point(name)
    if point is None:
        return f"{name} (not in the network file)" if name[:3] != "no " else name
    where = (
        point.name if point.name is not None else f"{point.crossing[0]}>{point.crossing[1]}" if point.crossing else ""
    )
    return f"{name}: {where}"


def _open_ends(coverage: Coverage, topology: Topology) -> list[str]:
    found = []
    for gap in coverage.gaps():
        who = "no record at all" if gap.point is None else f"none of {point_text(gap.point, topology)}"
        lasts = length_text((gap.end - gap.begin) // MINUTE * MINUTE)
        found.append(f"{who} from {time_text(gap.begin)} to {time_text(gap.end)} ({lasts})")
    for what, names in (
        ("no record has an address of", coverage.subnets_without(topology)),
        ("no record was taken at", [point_text(key, topology) for key in coverage.points_without(topology)]),
    ):
        if names:
            found.append(f"{what} {_some(names)}")
    silent, filters = unlogged(topology)
    if silent:
        text = f"{counted(silent, 'rule')} of the network file {'does' if silent == 1 else 'do'} not log"
        of = f", among them all of {_some(filters)}" if filters else ""
        found.append(f"{text}{of}: where records come from rules that log, their silence proves nothing")
    return found


def _some(names: list[str]) -> str:
    more = len(names) - _MOST_NAMES
    return ", ".join(names[:_MOST_NAMES]) + (f" and {more} more" if more > 0 else "")


def coverage_json(coverage: Coverage, topology: Topology) -> dict[str, Any]:
    """The same as values."""
    timeline = coverage.timeline
    silent, filters = unlogged(topology)
    return {
        "timeline": {
            "step_ms": timeline.step,
            "rows": [
                {"begin": iso_of(period * timeline.step), **{
                    status.replace(" ", "_"): int(count) for status, count in zip(STATUSES, counts, strict=True)}}
                for period, counts in sorted(timeline.counts.items())
            ],
        },
        "points": [
            {"point": name, "records": total.records, "first": iso_of(total.first), "last": iso_of(total.last),
             "minutes": len(minutes)}
            for name, (total, minutes) in sorted(coverage.points.items())
        ],
        "gaps": [{"point": g.point, "begin": iso_of(g.begin), "end": iso_of(g.end)} for g in coverage.gaps()],
        "subnets_without": coverage.subnets_without(topology),
        "points_without": coverage.points_without(topology),
        "rules_without_log": silent,
        "filters_without_log": filters,
    }  # fmt: skip
