"""Counts over time, as lines of bars."""

from __future__ import annotations

from dataclasses import dataclass

from kiboko.core.records.flow_query import MINUTE, Timeline
from kiboko.core.records.flow_table import moment
from kiboko.core.wording import counted
from kiboko.views.output import Output
from kiboko.views.text import iso

_WIDTH = 36
_MOST_PERIODS = 24


@dataclass(frozen=True, slots=True)
class Bar:
    """How one kind of a timeline is drawn: its mark, its style, and what it is called."""

    kind: str
    mark: str
    style: str
    text: str = ""


def show_timeline(whole: Timeline, bars: tuple[Bar, ...], out: Output) -> None:
    """A line for each period, with a bar of each kind in the order given. Kinds that never occur are left out, and so
    are the few records from long before the others."""
    timeline, early = whole.without_early()
    timeline = timeline.coarsened(_MOST_PERIODS)
    rows = timeline.rows()
    if not rows:
        return
    out.heading(f"records by the time they began, each line {length_text(timeline.step)}")
    places = [timeline.kinds.index(bar.kind) for bar in bars]
    met = [any(counts[place] for _, counts in rows) for place in places]
    most = max(sum(counts) for _, counts in rows)
    if early:
        out.line(f"  {'earlier':<16}  {early:>12,}", "quiet")
    for begin, counts in rows:
        parts = [(f"  {time_text(begin)[:16]}  {sum(counts):>12,}  ", "")]
        parts += [
            (bar.mark * max(bool(counts[place]), round(_WIDTH * counts[place] / most)), bar.style)
            for bar, place in zip(bars, places, strict=True)
        ]
        out.parts(*parts)
    legend = [("  ", "")]
    for bar, is_met in zip(bars, met, strict=True):
        if is_met:
            legend += [(f"{bar.mark} ", bar.style), (f"{bar.text or bar.kind}  ", "")]
    out.parts(*legend)


def time_text(milliseconds: int) -> str:
    """A column's time as people read it, `-` for none."""
    when = moment(milliseconds)
    return f"{when:%Y-%m-%d %H:%M:%S}Z" if when is not None else "-"


def iso_of(milliseconds: int) -> str | None:
    """A column's time as RFC 3339 has it, None for none."""
    return iso(moment(milliseconds))


def length_text(step: int) -> str:
    """A length of time in milliseconds, in days, hours or minutes."""
    minutes = step // MINUTE
    for size, word in ((1440, "day"), (60, "hour"), (1, "minute")):
        if minutes % size == 0:
            return counted(minutes // size, word)
    return f"{minutes} minutes"
