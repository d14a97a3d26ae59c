"""Questions to flow records: which are wanted, and what they come to by source, service, hour or any other field."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from datetime import UTC, datetime

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.addresses import Address, AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import PROTOCOL_NAMES, Service
from kiboko.core.records.columns import combined, within
from kiboko.core.records.flow_table import EVENTS, NO_TIME, AddressTable, FlowTable, summed

FIELDS = ("source", "destination", "service", "source-port", "protocol", "outcome", "point", "minute", "hour", "day",
          "vlan", "source-mac", "destination-mac")  # fmt: skip
MINUTE = 60_000
"""Milliseconds in a minute."""
_PERIODS = {"minute": MINUTE, "hour": 60 * MINUTE, "day": 1440 * MINUTE}
_LINK = {"vlan": "vlan", "source-mac": "source_mac", "destination-mac": "destination_mac"}
"""What a record says of the link, and the column that has it."""
_MOST_GROUPS = 2_000_000
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
    for index in np.flatnonzero(addresses.family == 6).tolist():
        found[index] = addresses[index] in wanted
    return found


@dataclass(slots=True)
class Sum:
    """What some records come to: how many, packets, octets, and the time they cover in milliseconds since 1970."""

    records: int = 0
    packets: int = 0
    octets: int = 0
    first: int = int(NO_TIME)
    last: int = int(NO_TIME)

    def add(self, records: int, packets: int, octets: int, first: int, last: int) -> None:
        """Take in more records."""
        self.records += records
        self.packets += packets
        self.octets += octets
        if first != NO_TIME and (self.first == NO_TIME or first < self.first):
            self.first = first
        self.last = max(self.last, last)


@dataclass(slots=True)
class Sums:
    """Records summed up by some fields of `FIELDS`. `name` says what an address is called."""

    fields: tuple[str, ...]
    name: Callable[[Address], str] = str
    total: Sum = field(default_factory=Sum)
    groups: dict[tuple[str, ...], Sum] = field(default_factory=dict)
    left_out: int = 0
    """Records of further groups, once there are too many to hold."""

    def add(self, table: FlowTable) -> None:
        """Take in a table."""
        if not len(table):
            return
        groups = combined([self._codes(name, table) for name in self.fields], len(table))
        for row, *sums in summed(groups, table):
            self.total.add(*sums)
            key = tuple(self._text(name, table, row) for name in self.fields)
            if key not in self.groups and len(self.groups) >= _MOST_GROUPS:
                self.left_out += sums[0]
                continue
            self.groups.setdefault(key, Sum()).add(*sums)

    def merge(self, other: Sums) -> None:
        """Take in what others of the same fields came to."""
        total = other.total
        self.total.add(total.records, total.packets, total.octets, total.first, total.last)
        self.left_out += other.left_out
        for key, each in other.groups.items():
            if key not in self.groups and len(self.groups) >= _MOST_GROUPS:
                self.left_out += each.records
                continue
            self.groups.setdefault(key, Sum()).add(each.records, each.packets, each.octets, each.first, each.last)

    def _codes(self, name: str, table: FlowTable) -> NDArray[np.int64] | NDArray[np.uint64]:
        if name in ("source", "destination"):
            hashes: NDArray[np.uint64] = table.addresses.hashes()[
                table.source if name == "source" else table.destination
            ]
            return hashes
        if name == "service":
            return table.protocol.astype(np.int64) << 16 | table.detail
        if name in _PERIODS:
            return np.where(table.start == NO_TIME, -1, table.start // _PERIODS[name])
        if name == "source-port":
            return table.source_port.astype(np.int64)
        if name == "protocol":
            return table.protocol.astype(np.int64)
        if name in _LINK:
            return table.optional(_LINK[name]).astype(np.int64)
        return (table.event if name == "outcome" else table.point).astype(np.int64)

    def _text(self, name: str, table: FlowTable, row: int) -> str:
        if name in ("source", "destination"):
            return self.name(table.addresses[int((table.source if name == "source" else table.destination)[row])])
        protocol = int(table.protocol[row])
        if name == "service":
            return str(Service(protocol, int(table.detail[row])))
        if name in _PERIODS:
            start = int(table.start[row])
            return "no time" if start == NO_TIME else _moment(start - start % _PERIODS[name], name)
        if name == "source-port":
            return str(table.source_port[row]) if table.source_port[row] >= 0 else "-"
        if name == "protocol":
            return PROTOCOL_NAMES.get(protocol, str(protocol))
        if name in _LINK:
            number = int(table.optional(_LINK[name])[row])
            return "-" if number < 0 else mac_text(number) if name != "vlan" else str(number)
        return EVENTS[table.event[row]] if name == "outcome" else table.points[table.point[row]] or "-"


def mac_text(number: int) -> str:
    """A MAC address by its number of 48 bits."""
    return number.to_bytes(6).hex(":")


def _moment(milliseconds: int, period: str) -> str:
    moment = datetime.fromtimestamp(milliseconds / 1000, UTC)
    return f"{moment:%Y-%m-%d}" if period == "day" else f"{moment:%Y-%m-%d %H:%M}Z"


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
