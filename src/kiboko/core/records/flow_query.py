"""Questions to flow records: which are wanted, and when they were."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.records.columns import in_order, within
from kiboko.core.records.flow_table import EVENTS, NO_TIME, AddressTable, FlowTable

MINUTE = 60_000
"""Milliseconds in a minute."""
_MOST_PERIODS = 100_000


@dataclass(frozen=True, slots=True)
class FlowFilter:
    """Which records are wanted; None asks for nothing. `either` is an end on any side. Times are milliseconds since
    1970: records that touch `since` to before `until`."""

    sources: AddressSet | None = None
    destinations: AddressSet | None = None
    either: AddressSet | None = None
    services: RangeSet | None = None
    outcome: str | None = None
    since: int | None = None
    until: int | None = None

    def mask(self, table: FlowTable) -> NDArray[np.bool_]:
        """Which records of a table are wanted, bool[n]."""
        keep = table.within(self.since, self.until)
        if self.sources is not None:
            keep &= among(self.sources, table.addresses)[table.source]
        if self.destinations is not None:
            keep &= among(self.destinations, table.addresses)[table.destination]
        if self.either is not None:
            at_end = among(self.either, table.addresses)
            keep &= at_end[table.source] | at_end[table.destination]
        if self.services is not None:
            keep &= within(self.services, table.protocol.astype(np.int64) << 16 | table.detail)
        if self.outcome is not None:
            keep &= table.event == EVENTS.index(self.outcome)
        return keep


def among(wanted: AddressSet, addresses: AddressTable) -> NDArray[np.bool_]:
    """Which addresses of a table are in a set, bool[m]."""
    four: NDArray[np.bool_] = addresses.family == 4
    found = within(wanted.v4, addresses.low.astype(np.int64)) & four
    six = np.flatnonzero(~four)
    if len(six) and wanted.v6:
        values = in_order(addresses.high[six], addresses.low[six])
        lows, highs = (
            in_order(*(np.array([part(each) for each in bounds], dtype=np.uint64) for part in (_high, _low)))
            for bounds in zip(*wanted.v6, strict=True)
        )
        at = np.searchsorted(lows, values, side="right") - 1
        found[six] = (at >= 0) & (values <= highs[np.maximum(at, 0)])
    return found


def _high(value: int) -> int:
    return value >> 64


def _low(value: int) -> int:
    return value & (1 << 64) - 1


@dataclass(slots=True)
class Timeline:
    """How many records of each kind began in each period of `step` milliseconds. What began before `since`
    (milliseconds since 1970), where that is given, counts as having begun then."""

    step: int
    since: int | None = None
    kinds: tuple[str, ...] = EVENTS
    counts: dict[int, NDArray[np.int64]] = field(default_factory=dict)

    def add(self, table: FlowTable) -> None:
        """Take in a table, by what the records say of their outcome."""
        self.note(table.start, table.event)

    def note(self, start: NDArray[np.int64], kind: NDArray[np.uint8]) -> None:
        """Take in records by the time they began, int64[n] in milliseconds, and their kind, uint8[n], an index of
        `kinds`; those without a time are left out."""
        if len(start) and int(start.min()) == NO_TIME:
            timed = start != NO_TIME
            start, kind = start[timed], kind[timed]
        if not len(start):
            return
        at = (start if self.since is None else np.maximum(start, self.since)) // self.step
        size, first = len(self.kinds), int(at.min())
        span = int(at.max()) - first + 1
        if span <= _MOST_PERIODS:
            periods, codes = np.arange(first, first + span), at - first
        else:
            periods, codes = np.unique(at, return_inverse=True)
        counts = np.bincount(codes * size + kind, minlength=len(periods) * size).reshape(-1, size)
        for index in np.flatnonzero(counts.any(axis=1)).tolist():
            self._put(int(periods[index]), counts[index])

    def count(self, periods: list[int], kinds: list[int], counts: list[int]) -> None:
        """Take in records that are counted already: how many of each kind, an index of `kinds`, in each period."""
        for period, kind, number in zip(periods, kinds, counts, strict=True):
            if period not in self.counts:
                self.counts[period] = np.zeros(len(self.kinds), dtype=np.int64)
            self.counts[period][kind] += number

    def merge(self, other: Timeline) -> None:
        """Take in what another one of the same kinds and step has counted."""
        for period, row in other.counts.items():
            self._put(period, row)

    def _put(self, period: int, row: NDArray[np.int64]) -> None:
        known = self.counts.get(period)
        self.counts[period] = row if known is None else known + row

    def coarsened(self, most: int) -> Timeline:
        """The same in periods long enough that there are at most `most` from the first to the last."""
        step, counts = self.step, self.counts
        for longer in _steps(self.step):
            merged: dict[int, NDArray[np.int64]] = {}
            for period, row in counts.items():
                key = period * step // longer
                merged[key] = merged.get(key, np.zeros(len(self.kinds), dtype=np.int64)) + row
            if not merged or max(merged) - min(merged) < most:
                break
        return Timeline(longer, self.since, self.kinds, merged)

    def without_early(self) -> tuple[Timeline, int]:
        """The same without a few records from long before the others, and how many these are: at most one in a hundred,
        where leaving them out makes the time at most half as long."""
        periods = sorted(self.counts)
        whole = sum(int(self.counts[period].sum()) for period in periods)
        early, start = 0, 0
        for index, period in enumerate(periods):
            if early * 100 > whole:
                break
            if 2 * (periods[-1] - period) <= periods[-1] - periods[0]:
                start = index
                break
            early += int(self.counts[period].sum())
        if not start:
            return self, 0
        kept = {period: self.counts[period] for period in periods[start:]}
        return Timeline(self.step, self.since, self.kinds, kept), early

    def met(self) -> list[tuple[int, tuple[int, ...]]]:
        """As `rows`, but only the periods in which something was counted, however much time lies between."""
        return [(period * self.step, tuple(map(int, counts))) for period, counts in sorted(self.counts.items())]

    def rows(self) -> list[tuple[int, tuple[int, ...]]]:
        """Every period from the first to the last, empty ones too: its beginning in milliseconds since 1970, and the
        count of each of `kinds`."""
        if not self.counts:
            return []
        none = np.zeros(len(self.kinds), dtype=np.int64)
        return [
            (period * self.step, tuple(int(n) for n in self.counts.get(period, none)))
            for period in range(min(self.counts), max(self.counts) + 1)
        ]


def _steps(least: int) -> Iterable[int]:
    """Lengths of time that people count in, in milliseconds."""
    year = 365 * 1440
    lengths = (1, 5, 10, 30, 60, 180, 360, 720, 1440, 7 * 1440, 30 * 1440)
    for minutes in (*lengths, year, 10 * year, 100 * year, 1000 * year):
        if minutes * MINUTE >= least:
            yield minutes * MINUTE
