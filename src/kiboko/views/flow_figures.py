"""Flow records as figures: the largest groups, records over time, and what they came to against the rules."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import Any

from kiboko.core.evidence.coverage import Coverage
from kiboko.core.network.model import Topology
from kiboko.core.records.flow_query import MINUTE, Timeline
from kiboko.core.records.flow_sums import Sums
from kiboko.core.records.flow_table import moment
from kiboko.views.coverage_view import point_text
from kiboko.views.figures import plotting, save_figure, words

_OUTCOMES = {"passed": "#2f7d6d", "seen": "#9aa5b1", "denied": "#c4552d"}
_WRONG = {"leak": "#b3203a", "break": "#8e44ad"}
_RIGHT = {"agree": "#2f7d6d", "agree as far as seen": "#a9cfc6", "unsure": "#d9a441"}
_MOST_BARS = 12
_MOST_PERIODS = 120


def draw_flows(sums: Sums, timeline: Timeline, by: str, path: Path) -> None:
    """Draw to a PNG or SVG file. Raises UsageError for another form, EnvironmentFailure where it cannot be written."""
    pyplot = plotting(path)
    from matplotlib import ticker

    figure, (bars, course) = pyplot.subplots(2, 1, figsize=(12.8, 8), height_ratios=(3, 2), layout="constrained")
    shown = sums.largest(by, _MOST_BARS)[::-1]
    bars.barh([words("  ".join(key)) for key, _ in shown], [getattr(each, by) for _, each in shown], color="#3b5b92")
    bars.set_title(f"Most {by} by {', '.join(sums.fields)}", loc="left")
    bars.set_xlabel(by)
    bars.xaxis.set_major_formatter(ticker.EngFormatter(sep=""))
    _draw_course(course, timeline, _OUTCOMES)
    course.set_title("Records by the time they began (UTC)", loc="left")
    save_figure(figure, (bars, course), path)


def draw_findings(coverage: Coverage, topology: Topology, path: Path) -> None:
    """Findings over time, leaks and breaks apart from the rest, and when each observation point recorded anything. To a
    PNG or SVG file; raises UsageError for another form, EnvironmentFailure where it cannot be written."""
    pyplot = plotting(path)
    points = sorted(coverage.points.items(), key=lambda item: (-item[1][0].records, item[0]))[:_MOST_BARS][::-1]
    heights = (2, 2, 1 + 0.25 * len(points))
    figure, (wrong, rest, places) = pyplot.subplots(
        3, 1, figsize=(12.8, 8), height_ratios=heights, sharex=True, layout="constrained"
    )
    _draw_course(wrong, coverage.timeline, _WRONG)
    _draw_course(rest, coverage.timeline, _RIGHT)
    wrong.set_title("Leaks and breaks by the time their records began (UTC)", loc="left")
    rest.set_title("Records that agree, or cannot be told", loc="left")
    minute = MINUTE / 86_400_000
    shown = coverage.timeline.without_early()[0].met()
    if shown:
        places.set_xlim(_day(shown[0][0]), _day(shown[-1][0]) + coverage.timeline.step / 86_400_000)
    for height, (_, (_, minutes)) in enumerate(points):
        runs = _runs(sorted(minutes))
        spans = [(_day(begin * MINUTE), (end - begin) * minute) for begin, end in runs]
        places.broken_barh(spans, (height - 0.35, 0.7), color="#3b5b92", linewidth=0)
    places.set_yticks(range(len(points)), [words(point_text(name, topology)) for name, _ in points])
    places.set_title("Minutes with a record, by observation point", loc="left")
    save_figure(figure, (wrong, rest, places), path)


def _day(milliseconds: int) -> float:
    from matplotlib import dates

    return float(dates.date2num(moment(milliseconds)))


def _draw_course(axes: Any, timeline: Timeline, colours: dict[str, str]) -> None:
    """Stacked bars of some kinds of a timeline."""
    from matplotlib import dates, ticker

    coarse = timeline.without_early()[0].coarsened(_MOST_PERIODS)
    rows = coarse.rows()
    base = [0] * len(rows)
    for name, colour in colours.items():
        heights = [counts[coarse.kinds.index(name)] for _, counts in rows]
        if any(heights):
            times = [_day(begin) for begin, _ in rows]
            axes.bar(
                times, heights, bottom=base, width=coarse.step / 86_400_000, align="edge", label=name, color=colour
            )
            base = [low + high for low, high in zip(base, heights, strict=True)]
    if any(base):
        # No calendar goes beyond these years, and neither does a margin.
        left, right = axes.get_xlim()
        first, last = (float(dates.date2num(each)) for each in (datetime(1, 1, 1), datetime(9999, 12, 31)))
        axes.set_xlim(max(left, first), min(right, last))
        locator = dates.AutoDateLocator()
        axes.xaxis.set_major_locator(locator)
        axes.xaxis.set_major_formatter(dates.ConciseDateFormatter(locator))
        axes.legend(loc="lower right", bbox_to_anchor=(1, 1), ncols=len(colours), frameon=False)
    axes.yaxis.set_major_locator(ticker.MaxNLocator(integer=True))
    axes.set_ylabel("records")


def _runs(minutes: list[int]) -> list[tuple[int, int]]:
    """Minutes as runs without a gap, each from its first to before its end."""
    found: list[tuple[int, int]] = []
    for minute in minutes:
        if found and found[-1][1] == minute:
            found[-1] = found[-1][0], minute + 1
        else:
            found.append((minute, minute + 1))
    return found
