"""What evidence covers, and what it cannot tell: when, where, and which rules say nothing of what they do."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kiboko.core.addresses import Prefix
from kiboko.core.comparison import AGREE, BREAK, LEAK, UNSURE
from kiboko.core.compiled import Judged
from kiboko.core.flow_query import MINUTE, Sum, Timeline
from kiboko.core.flow_table import NO_TIME, AddressTable, FlowTable
from kiboko.core.model import Topology

STATUSES = (LEAK, BREAK, UNSURE, AGREE)
_MOST_GAPS = 5
_LEAST_GAP = 5
_MOSTLY = 0.8
_MOST_POINTS = 10_000
_UNKNOWN = "no observation point"


@dataclass(frozen=True, slots=True)
class Gap:
    """A time from `begin` to before `end`, in milliseconds since 1970, of which a point has no record, while there are
    records before and after. `point` is None where no point has any."""

    point: str | None
    begin: int
    end: int


@dataclass(frozen=True, slots=True)
class Places:
    """Which subnet an address is of: blocks of IPv4, and single public addresses, as ascending ranges from `lows` to
    `highs`, int64[k], each with the name of its subnet; and blocks of IPv6."""

    lows: NDArray[np.int64]
    highs: NDArray[np.int64]
    names: tuple[str, ...]
    six: tuple[tuple[Prefix, str], ...]

    @classmethod
    def of(cls, topology: Topology) -> Places:
        """The places of a network."""
        found = [
            (each.public.value, each.public.value, each.subnet)
            for instance in topology.instances.values()
            for each in instance.interfaces
            if each.public is not None
        ]
        blocks = [(block, name) for name, subnet in topology.subnets.items() for block in subnet.blocks]
        found += [(block.value, block.last, name) for block, name in blocks if block.family == 4]
        found.sort()
        lows, highs = (np.array([each[side] for each in found], dtype=np.int64) for side in (0, 1))
        return cls(lows, highs, tuple(each[2] for each in found), tuple(each for each in blocks if each[0].family == 6))

    def met(self, addresses: AddressTable, used: NDArray[np.bool_]) -> set[str]:
        """The subnets that the used addresses, bool[m], are of."""
        four = addresses.low[used & (addresses.family == 4)].astype(np.int64)
        met: set[str] = set()
        if len(self.lows) and len(four):
            at = np.searchsorted(self.lows, four, side="right") - 1
            inside = (at >= 0) & (four <= self.highs[np.maximum(at, 0)])
            met = {self.names[index] for index in np.flatnonzero(np.bincount(at[inside])).tolist()}
        for index in np.flatnonzero(used & (addresses.family == 6)).tolist():
            met.update(name for block, name in self.six if name not in met and addresses[index] in block)
        return met


@dataclass(slots=True)
class Coverage:
    """When and where some flow records were taken, and what became of them when they were held against the rules.

    `timeline` counts them by status; `points` has for each observation point what it recorded and in which minutes
    since 1970; `subnets` are those that an address of a record is of, as `places` has them.
    """

    places: Places
    timeline: Timeline = field(default_factory=lambda: Timeline(MINUTE, kinds=STATUSES))
    points: dict[str, tuple[Sum, set[int]]] = field(default_factory=dict)
    subnets: set[str] = field(default_factory=set)

    def add(self, table: FlowTable, judged: Judged) -> None:
        """Take in a table and its findings."""
        if not len(table):
            return
        status = np.array([STATUSES.index(each.status) for each in judged.findings], dtype=np.uint8)
        self.timeline.note(table.start, status[judged.code])
        met = np.flatnonzero(np.bincount(table.point, minlength=len(table.points))).tolist()
        for index in met:
            rows = slice(None) if len(met) == 1 else table.point == index
            self._point(table.points[index] or _UNKNOWN, table.start[rows], table.end[rows])
        used = np.zeros(len(table.addresses), dtype=np.bool_)
        used[table.source] = True
        used[table.destination] = True
        self.subnets |= self.places.met(table.addresses, used)

    def _point(self, name: str, start: NDArray[np.int64], end: NDArray[np.int64]) -> None:
        total, minutes = self.points.get(name, (Sum(), set[int]()))
        if name not in self.points and len(self.points) >= _MOST_POINTS:
            return
        last = int(end.max())
        if last == NO_TIME or int(end.min()) == NO_TIME:
            last = int(np.where(end == NO_TIME, start, end).max())
        timed = start[start != NO_TIME] if int(start.min()) == NO_TIME else start
        total.add(len(start), 0, 0, int(timed.min()) if len(timed) else int(NO_TIME), last)
        if len(timed):
            at = timed // MINUTE
            first = int(at.min())
            span = int(at.max()) - first + 1
            met = np.flatnonzero(np.bincount(at - first)) + first if span < 1 << 20 else np.unique(at)
            minutes.update(met.tolist())
        self.points[name] = total, minutes

    def merge(self, other: Coverage) -> None:
        """Take in what another one covers."""
        self.timeline.merge(other.timeline)
        for name, (total, minutes) in other.points.items():
            mine, known = self.points.setdefault(name, (Sum(), set()))
            mine.add(total.records, 0, 0, total.first, total.last)
            known.update(minutes)
        self.subnets |= other.subnets

    def gaps(self) -> list[Gap]:
        """The longest times without a record: of all points together, then of single ones where others went on. At
        least five minutes, and ten times as long as is usual between two of its records."""
        everything = sorted(set().union(*(minutes for _, minutes in self.points.values())) if self.points else set())
        found = _gaps_of(None, everything)
        for name, (_, minutes) in self.points.items():
            if len(self.points) > 1:
                found += [gap for gap in _gaps_of(name, sorted(minutes)) if not _is_inside(gap, found)]
        found.sort(key=lambda gap: gap.begin - gap.end)
        return found[:_MOST_GAPS]

    def subnets_without(self, topology: Topology) -> list[str]:
        """The subnets with instances of which no record has an address."""
        inhabited = {each.subnet for instance in topology.instances.values() for each in instance.interfaces}
        return [name for name in topology.subnets if name in inhabited and name not in self.subnets]

    def points_without(self, topology: Topology) -> list[str]:
        """The observation points of the network file that no record was taken at."""
        met = {point.key for name in self.points if (point := topology.observation_point(name)) is not None}
        return [key for key in topology.observation_points if key not in met]


def unlogged(topology: Topology) -> tuple[int, list[str]]:
    """How many rules do not log, and the filters of which none does: their silence proves nothing."""
    silent, filters = 0, []
    for each in topology.filters.values():
        rules = [rule for rules in (each.rules, each.inbound, each.outbound) for rule in rules or ()]
        silent += sum(not rule.log for rule in rules)
        if rules and not any(rule.log for rule in rules):
            filters.append(each.name)
    return silent, filters


def _gaps_of(name: str | None, minutes: list[int]) -> list[Gap]:
    if len(minutes) < 2:
        return []
    steps = np.diff(np.array(minutes))
    least = max(_LEAST_GAP, 10 * int(np.median(steps)))
    return [
        Gap(name, (minutes[index] + 1) * MINUTE, minutes[index + 1] * MINUTE)
        for index in np.flatnonzero(steps > least).tolist()
    ]


def _is_inside(gap: Gap, others: list[Gap]) -> bool:
    """Whether a gap is hardly more than one that all points have in common."""
    shared = [min(gap.end, each.end) - max(gap.begin, each.begin) for each in others if each.point is None]
    return max(shared, default=0) >= _MOSTLY * (gap.end - gap.begin)
