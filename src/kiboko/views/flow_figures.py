"""Flow records as a figure: the largest groups, and records over time."""

from __future__ import annotations

from pathlib import Path

from kiboko.core.errors import SurroundingsError, UsageError
from kiboko.core.flow_query import Sums, Timeline
from kiboko.core.flow_table import EVENTS, moment
from kiboko.views.flows_view import MEASURES, top
from kiboko.views.text import clean

_COLOURS = {"passed": "#2f7d6d", "seen": "#9aa5b1", "denied": "#c4552d"}
_MOST_BARS = 12
_MOST_PERIODS = 120


def draw_flows(sums: Sums, timeline: Timeline, by: str, path: Path) -> None:
    """Draw to a PNG or SVG file. Raises UsageError for another form, SurroundingsError where it cannot be written."""
    if path.suffix not in (".png", ".svg"):
        raise UsageError(f"{path}: a figure is .png or .svg")
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import dates, pyplot, ticker

    figure, (bars, course) = pyplot.subplots(2, 1, figsize=(12.8, 8), height_ratios=(3, 2), layout="constrained")
    shown = top(sums, by, _MOST_BARS)[::-1]
    bars.barh(
        [clean("  ".join(key)) for key, _ in shown], [getattr(each, MEASURES[by]) for _, each in shown], color="#3b5b92"
    )
    bars.set_title(f"Most {by} by {', '.join(sums.fields)}", loc="left")
    bars.set_xlabel(by)
    bars.xaxis.set_major_formatter(ticker.EngFormatter(sep=""))
    coarse = timeline.coarsened(_MOST_PERIODS)
    rows = coarse.rows()
    if rows:
        times = dates.date2num([moment(begin) for begin, _ in rows])
        base = [0] * len(rows)
        for name in ("passed", "seen", "denied"):
            heights = [counts[EVENTS.index(name)] for _, counts in rows]
            if any(heights):
                course.bar(times, heights, bottom=base, width=coarse.step / 86_400_000, align="edge", label=name,
                           color=_COLOURS[name])  # fmt: skip
                base = [low + high for low, high in zip(base, heights, strict=True)]
        locator = dates.AutoDateLocator()
        course.xaxis.set_major_locator(locator)
        course.xaxis.set_major_formatter(dates.ConciseDateFormatter(locator))
        course.legend(loc="lower right", bbox_to_anchor=(1, 1), ncols=len(_COLOURS), frameon=False)
    course.set_title("Records by the time they began (UTC)", loc="left")
    course.set_ylabel("records")
    for axes in (bars, course):
        axes.spines[["top", "right"]].set_visible(False)
    try:
        figure.savefig(path, dpi=100)
    except OSError as error:
        raise SurroundingsError(f"{path}: cannot be written: {error.strerror}") from error
    finally:
        pyplot.close(figure)
