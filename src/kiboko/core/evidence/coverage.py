"""What evidence covers, and what it cannot tell: when, where, and which rules say nothing of what they do."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import AGREE, BREAK, LEAK, UNSURE
from kiboko.core.evidence.judged import Judged
from kiboko.core.header.addresses import Address, Prefix
from kiboko.core.network.model import Topology
from kiboko.core.records.columns import distinct, in_order
from kiboko.core.records.flow_query import MINUTE, Timeline
from kiboko.core.records.flow_table import NO_TIME, AddressTable, FlowTable
from kiboko.core.records.group_sums import Sum

AS_FAR_AS_SEEN = "agree as far as seen"
STATUSES = (LEAK, BREAK, UNSURE, AS_FAR_AS_SEEN, AGREE)
_MOST_GAPS = 5
_LEAST_GAP = 5
_MOSTLY = 0.8
_MOST_POINTS = 10_000
_MOST_CELLS = 1 << 20
_UNKNOWN = "no observation point"


@dataclass(frozen=True, slots=True)
class Gap:
    """A time from `begin` to before `end`, in milliseconds since 1970, of which a point has no record, while there are
    records before and after. `point` is None where no point has any."""

    point: str | None
    begin: int
    end: int


@dataclass(frozen=True, slots=True)
class SubnetPlaces:
    """Which subnet an address is of: blocks of IPv4, and single public addresses, as ascending ranges from `lows` to
    `highs`, int64[k], each with the name of its subnet; and blocks of IPv6."""

    lows: NDArray[np.int64]
    highs: NDArray[np.int64]
    names: tuple[str, ...]
    six: tuple[tuple[Prefix, str], ...]

    @classmethod
    def of(cls, topology: Topology) -> SubnetPlaces:
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
        six = used & (addresses.family == 6)
        if self.six and six.any():
            asked = np.sort(in_order(addresses.high[six], addresses.low[six]))
            blocks = AddressTable.of([Address(6, edge) for block, _ in self.six for edge in (block.value, block.last)])
            edges = in_order(blocks.high, blocks.low)
            before = np.searchsorted(asked, edges[::2], side="left"), np.searchsorted(asked, edges[1::2], side="right")
            met.update(self.six[index][1] for index in np.flatnonzero(before[0] < before[1]).tolist())
        return met


@dataclass(slots=True)
class Coverage:
    """When and where some flow records were taken, and what became of them when they were held against the rules.

    `timeline` counts them by status; `points` has for each observation point what it recorded and in which minutes
    since 1970; `subnets` are those that an address of a record is of, as `places` has them.
    """

    places: SubnetPlaces
    timeline: Timeline = field(default_factory=lambda: Timeline(MINUTE, kinds=STATUSES))
    points: dict[str, tuple[Sum, set[int]]] = field(default_factory=dict)
    subnets: set[str] = field(default_factory=set)

    def add(self, table: FlowTable, judged: Judged) -> None:
        """Take in a table and its findings."""
        if not len(table):
            return
        status = np.array([STATUSES.index(AS_FAR_AS_SEEN if each.as_far_as_seen else each.status)
                           for each in judged.concluded], dtype=np.uint8)  # fmt: skip
        self._times(table, status[judged.conclusion])
        self._totals(table)
        used = np.bincount(table.source, minlength=len(table.addresses)) > 0
        used |= np.bincount(table.destination, minlength=len(table.addresses)) > 0
        self.subnets |= self.places.met(table.addresses, used)

    def correct(self, before: Coverage, after: Coverage) -> None:
        """Have some records, as they were taken in before, come to something else."""
        for period, counts in before.timeline.counts.items():
            self.timeline.counts[period] = self.timeline.counts[period] - counts
        self.timeline.merge(after.timeline)

    def _times(self, table: FlowTable, status: NDArray[np.uint8]) -> None:
        """Count by minute, point and status at once."""
        start, point = table.start, table.point
        if int(start.min()) == NO_TIME:
            timed = start != NO_TIME
            start, point, status = start[timed], point[timed], status[timed]
        if not len(start):
            return
        minute, points = start // MINUTE, len(table.points)
        first = int(minute.min())
        cell = minute - first
        if points > 1:
            cell = cell * points + point
        cell = cell * len(STATUSES) + status
        if (size := (int(minute.max()) - first + 1) * points * len(STATUSES)) <= _MOST_CELLS:
            counts = np.bincount(cell, minlength=size)
            cells = np.flatnonzero(counts)
            counts = counts[cells]
        else:
            groups = distinct(cell)
            cells, counts = cell[groups.first], groups.counts()
        rest, kind = np.divmod(cells, len(STATUSES))
        period, where = np.divmod(rest, points)
        self.timeline.count((period + first).tolist(), kind.tolist(), counts.tolist())
        for index, minutes in zip(where.tolist(), (period + first).tolist(), strict=True):
            known = self._point(table.points[index])
            if known is not None:
                known[1].add(minutes)

    def _totals(self, table: FlowTable) -> None:
        """How many records each point took, and from when to when."""
        start, end = table.start, table.last()
        if len(table.points) > 1:
            groups = distinct(table.point)
            sums = groups.first, groups.counts(), groups.least(start, int(NO_TIME)), groups.most(end)
            rows = list(zip(*(column.tolist() for column in sums), strict=True))
        else:
            known = start if int(start.min()) != NO_TIME else start[start != NO_TIME]
            rows = [(0, len(table), int(known.min() if len(known) else NO_TIME), int(end.max()))]
        for row, count, first, last in rows:
            known = self._point(table.points[table.point[row]])
            if known is not None:
                known[0].add(count, 0, 0, first, last)

    def _point(self, name: str | None) -> tuple[Sum, set[int]] | None:
        """What a point has recorded so far; None for a further one where there are too many."""
        name = name or _UNKNOWN
        if name not in self.points and len(self.points) >= _MOST_POINTS:
            return None
        return self.points.setdefault(name, (Sum(), set()))

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
