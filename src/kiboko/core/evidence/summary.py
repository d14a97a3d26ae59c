"""Findings summed up: by who, what and why, the few that matter first."""

from __future__ import annotations

import dataclasses
import functools
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from datetime import datetime
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import (
    AGREE,
    BREAK,
    LEAK,
    UNSURE,
    Conclusion,
    Finding,
    FlowAsked,
)
from kiboko.core.evidence.group_columns import GroupColumns, merged
from kiboko.core.evidence.tallies import Tallies
from kiboko.core.header.addresses import Address
from kiboko.core.header.services import service_text
from kiboko.core.memory import without_garbage
from kiboko.core.network.directory import SHARED, Directory
from kiboko.core.records.columns import KeyNumbers, distinct
from kiboko.core.records.flow_table import NO_TIME, AddressTable, milliseconds, moment
from kiboko.core.records.records import FlowRecord, ProbeRecord
from kiboko.core.walk.gates import Row

Settle = Callable[[Conclusion, FlowAsked], Finding]
"""What finds the walk of what was asked."""
_Key = tuple[object, ...]
Rows = NDArray[np.int64]
_FEW_WAITING = 200_000
_RANK = {LEAK: 0, BREAK: 1, UNSURE: 2, AGREE: 3}


class Origin(Protocol):
    """Where the examples of groups are, and their findings: both are worked out when they are first asked for."""

    def example(self, place: int) -> ProbeRecord | FlowRecord:
        """The example at a place."""

    def finding(self, place: int) -> Finding:
        """Its finding."""

    def passed(self, place: int) -> int:
        """How many steps of the request's way it surely passed."""

    def asked(self, place: int) -> FlowAsked | None:
        """What it asked, of flow records."""


@dataclass(frozen=True, slots=True)
class _Probe:
    """One probe and its finding."""

    record: ProbeRecord
    found: Finding

    def example(self, place: int) -> ProbeRecord | FlowRecord:
        return self.record

    def finding(self, place: int) -> Finding:
        return self.found

    def passed(self, place: int) -> int:
        return 0

    def asked(self, place: int) -> FlowAsked | None:
        return None


@dataclass(frozen=True, slots=True)
class _Source:
    """The tallies of a table, whose records stand some lines further down in their file."""

    tallies: Tallies
    lines_before: int
    settle: Settle

    def example(self, place: int) -> ProbeRecord | FlowRecord:
        record = self.tallies.examples.record(place)
        return dataclasses.replace(record, line=record.line + self.lines_before)

    def finding(self, place: int) -> Finding:
        tallies = self.tallies
        return self.settle(tallies.concluded[int(tallies.conclusion[place])], tallies.flow(place))

    def passed(self, place: int) -> int:
        return int(self.tallies.passed[place])

    def asked(self, place: int) -> FlowAsked | None:
        return self.tallies.flow(place)


@dataclass(slots=True)
class FindingGroup:
    """Findings alike in status, ends, deciding rule and service, as far as rules tell services apart, with one example.
    `concluded` is what they come to; `source_of` has the example at `place`, and its finding. `met` are the lowest and
    the highest service number of flow records, None for probes. `replies` of the `count` records are of whoever was
    sent to; packets and octets count once, at however many points they were recorded."""

    evidence: str
    source: str
    destination: str
    concluded: Conclusion
    source_of: Origin
    place: int = 0
    met: tuple[int, int] | None = None
    conversations: int = 0
    count: int = 0
    replies: int = 0
    packets: int = 0
    octets: int = 0
    earliest: int = NO_TIME
    latest: int = NO_TIME
    """When the first of them began and the last one ended, in milliseconds since 1970; `NO_TIME` where none tells."""
    _finding: Finding | None = None
    _example: ProbeRecord | FlowRecord | None = None

    @property
    def example(self) -> ProbeRecord | FlowRecord:
        """The first record or probe of them."""
        if self._example is None:
            self._example = self.source_of.example(self.place)
        return self._example

    @property
    def finding(self) -> Finding:
        """The finding of the example, with its walk: worked out when it is first asked for."""
        if self._finding is None:
            self._finding = self.source_of.finding(self.place)
        return self._finding

    def forget(self) -> None:
        """Let go of the walk: it can be made again."""
        self._finding = self._example = None

    @property
    def passed(self) -> tuple[Row, ...]:
        """The gates that the request of the example surely passed, as far as flow records show."""
        walk = self.finding.walk
        if walk is None:
            return ()
        steps = {id(step) for step in walk.request_path.steps[: self.source_of.passed(self.place)]}
        return tuple(row for row in walk.forward if id(row.step) in steps)

    @property
    def first(self) -> datetime | None:
        """When the first of them began."""
        return moment(self.earliest)

    @property
    def last(self) -> datetime | None:
        """When the last of them ended."""
        return moment(self.latest)

    @property
    def service(self) -> str:
        """What the records are about; several services that no rule tells apart are a range."""
        if self.met is None:
            return str(self.example.service)
        return services_met(self.met)

    def stretch(self, met: tuple[int, int]) -> None:
        """Take in the lowest and the highest service number of more flow records."""
        self.met = met if self.met is None else (min(self.met[0], met[0]), max(self.met[1], met[1]))

    def note(self, record: ProbeRecord) -> None:
        """Count one more probe."""
        self.count += 1
        self.span(milliseconds(record.time), milliseconds(record.time))

    def span(self, earliest: int, latest: int) -> None:
        """Stretch the time that the group covers."""
        if earliest != NO_TIME and (self.earliest == NO_TIME or earliest < self.earliest):
            self.earliest = earliest
        if latest != NO_TIME and latest > self.latest:  # what is not known is the least of all
            self.latest = latest

    def check_line(self) -> str:
        """The command that reproduces the verdict on the example."""
        asked = self.source_of.asked(self.place) if self.concluded.status in (LEAK, BREAK) else None
        if asked is not None and not self.source.endswith(SHARED):  # who is behind a shared address the walk tells
            told = f"kiboko check {asked.source} {asked.target} {asked.service}"
            return told + (
                f" --client-ports {asked.port}" if asked.port is not None and asked.service.has_ports else ""
            )
        walk, port = self.finding.walk, None
        if isinstance(self.example, ProbeRecord):
            ends, service = (self.example.source, self.example.destination), self.example.service
            port = self.example.source_port
        elif walk is not None:
            ends, service = (str(walk.flow.source.address), str(walk.flow.target)), str(walk.flow.service)
            ports = walk.flow.source_ports
            port = ports.lowest if walk.flow.service.has_ports and ports.size == 1 else None
        else:
            ends, service = (str(self.example.source), str(self.example.destination)), str(self.example.service)
        ports_text = f" --client-ports {port}" if port is not None else ""
        return f"kiboko check {ends[0]} {ends[1]} {service}{ports_text}"


@dataclass(slots=True)
class Summary:
    """All findings of a run. Memory grows with the groups, not with the records.

    `totals` counts records and probes by status; those that agree only as far as they were seen are `as_far_as_seen`,
    and not among those that agree. `conversations` counts those of flow records.
    """

    directory: Directory
    totals: Counter[str] = field(default_factory=Counter)
    as_far_as_seen: int = 0
    conversations: int = 0
    replies: int = 0
    different_signal: int = 0
    elsewhere: int = 0
    inventory: int = 0
    before_as_of: int = 0
    answered_probes: int = 0
    _groups: dict[_Key, FindingGroup] = field(default_factory=dict)
    _waiting: list[GroupColumns] = field(default_factory=list)
    """What was taken in and is not among the groups yet: of a large log that is worth doing once."""
    _origins: list[Origin] = field(default_factory=list)
    _names: list[str] = field(default_factory=list)
    _number_of: dict[str, int] = field(default_factory=dict)
    _told: list[Conclusion] = field(default_factory=list)
    _told_of: dict[Conclusion, int] = field(default_factory=dict)
    _known: KeyNumbers = field(default_factory=lambda: KeyNumbers(3))
    """The numbers of the names of addresses that were met."""
    _ranked: dict[str, list[FindingGroup]] | None = None
    """The groups of each status in their order, until there are more records."""
    _unkeyed: tuple[GroupColumns, list[FindingGroup]] | None = None
    """Groups that nothing was added to since they were made, which nobody asked for by key."""

    @property
    def groups(self) -> dict[_Key, FindingGroup]:
        """The findings in groups, by what tells these apart."""
        self._settle()
        if self._unkeyed is not None:
            (columns, made), self._unkeyed = self._unkeyed, None
            with without_garbage():
                self._groups = dict(zip(self._keys(columns), made, strict=True))
        return self._groups

    def _settle(self) -> None:
        """Make groups of what waits."""
        if not self._waiting:
            return
        waiting, self._waiting = merged(self._waiting), []
        with without_garbage():
            if not self._groups and self._unkeyed is None and self._are_apart(waiting):
                self._make_all(waiting)
            else:
                self._take_rows(waiting)
        self._origins = []

    def _are_apart(self, columns: GroupColumns) -> bool:
        """Whether no two rows are of one group: conclusions may differ in what tells groups not apart."""
        numbers: dict[_Key, int] = {}
        told = [numbers.setdefault((each.status, *_told(each)), number) for number, each in enumerate(self._told)]
        return len(distinct(np.array(told, dtype=np.int64)[columns.key[0]], *columns.key[1:])) == len(columns)

    def _make_all(self, columns: GroupColumns) -> None:
        """Make groups of all there is, in the order in which they are shown."""
        columns = columns.taken(self._order(columns))
        told, names, origins = self._told, self._names, self._origins
        made = [
            FindingGroup(
                "flow", names[sender], names[receiver], told[number], origins[origin], place, (met_low, met_high),
                conversations, count, replies, packets, octets, start, end,
            )
            for number, sender, receiver, _, _, met_low, start, met_high, end, conversations, count, replies, packets,
            octets, origin, place in columns.listed()
        ]  # fmt: skip
        self._unkeyed = columns, made
        self._ranked = _by_status(made)

    def _order(self, columns: GroupColumns) -> Rows:
        """The places of groups in the order in which they are shown, as `_in_order` has it."""
        rank = np.empty(len(self._names), dtype=np.int64)
        rank[sorted(range(len(self._names)), key=self._names.__getitem__)] = np.arange(len(self._names))
        status = np.array([_RANK[each.status] for each in self._told], dtype=np.int64)
        as_far = np.array([each.as_far_as_seen for each in self._told], dtype=np.int64)
        told, sender, receiver = columns.key[:3]
        return np.lexsort([rank[receiver], rank[sender], -columns.sums[1], as_far[told], status[told]])

    def _keys(self, columns: GroupColumns) -> Iterator[_Key]:
        """What tells each group apart."""
        told, names = [(each.status, _told(each)) for each in self._told], self._names
        for number, sender, receiver, low, high in zip(*columns.key.tolist(), strict=True):
            status, rest = told[number]
            yield (status, "flow", names[sender], names[receiver], (low, high), *rest)

    def add(self, record: ProbeRecord, finding: Finding) -> FindingGroup:
        """Take in one probe; the group that it is of."""
        concluded = finding.concluded
        self._count(concluded, 1)
        if finding.status == AGREE and record.outcome == "answered":
            self.answered_probes += 1
        key = (concluded.status, "probe", record.source, record.destination, record.service, *_told(concluded))
        groups = self.groups
        if key not in groups:
            groups[key] = FindingGroup("probe", record.source, record.destination, concluded, _Probe(record, finding))
        groups[key].note(record)
        return groups[key]

    def _count(self, concluded: Conclusion, records: int) -> None:
        self._ranked = None
        if concluded.as_far_as_seen:
            self.as_far_as_seen += records
        else:
            self.totals[concluded.status] += records
        self.different_signal += concluded.different_signal * records
        self.elsewhere += concluded.is_elsewhere * records
        self.inventory += concluded.is_inventory * records
        self.before_as_of += concluded.before_as_of * records

    @property
    def records(self) -> int:
        """How many records and probes there are in all."""
        return self.totals.total() + self.as_far_as_seen

    def gather(self, tallies: Tallies, settle: Settle, lines_before: int = 0) -> None:
        """Take in many tallies at once, of records that stand `lines_before` lines further down in their file."""
        columns = self._columns(tallies, settle, lines_before, 1)
        if not len(columns):
            return
        self._waiting.append(columns)
        if len(self._waiting) > 1 and sum(map(len, self._waiting[1:])) > max(_FEW_WAITING, len(self._waiting[0])):
            together = merged(self._waiting)
            used, places = np.unique(together.example[0], return_inverse=True)
            self._origins = [self._origins[number] for number in used.tolist()]
            together.example[0] = places.reshape(-1)
            self._waiting = [together]

    def take_all(
        self, tallies: Tallies, settle: Settle, lines_before: int = 0, taken_back: bool = False
    ) -> list[tuple[FindingGroup, int, int]]:
        """Take in tallies as `gather` does, or take back what was taken in before (`taken_back`); the groups that they
        are of, with how many records of each and the place of the first tally."""
        sign = -1 if taken_back else 1
        self._settle()
        columns = self._columns(tallies, settle, lines_before, sign)
        met = [(group, sign * count, place) for group, count, place in self._take_rows(columns)]
        self._origins = []
        return met

    def _columns(self, tallies: Tallies, settle: Settle, lines_before: int, sign: int) -> GroupColumns:
        """The tallies by group, counted among the totals."""
        for number, concluded in enumerate(tallies.concluded):
            self._count(concluded, sign * int(tallies.count[tallies.conclusion == number].sum()))
        self.conversations += sign * int(tallies.conversations.sum())
        self.replies += sign * int(tallies.replies.sum())
        told = np.array([self._told_number(each) for each in tallies.concluded], dtype=np.int64)
        if not len(tallies):
            return GroupColumns.none()
        self._origins.append(_Source(tallies, lines_before, settle))
        source, target = self._codes(tallies.sources), self._codes(tallies.targets)
        sums = (tallies.conversations, tallies.count, tallies.replies, tallies.packets, tallies.octets)
        return GroupColumns(
            np.stack([told[tallies.conclusion], source, target, tallies.alike[:, 0], tallies.alike[:, 1]]),
            np.stack([tallies.met[:, 0], tallies.first]), np.stack([tallies.met[:, 1], tallies.last]),
            sign * np.stack(sums),
            np.stack([np.full(len(tallies), len(self._origins) - 1), np.arange(len(tallies))]),
        ).by_key()  # fmt: skip

    def _take_rows(self, columns: GroupColumns) -> list[tuple[FindingGroup, int, int]]:
        """Take in columns of groups; the group of each, its records, and where the example is."""
        met: list[tuple[FindingGroup, int, int]] = []
        names, groups = self._names, self.groups
        for key, (
            number, sender, receiver, _, _, met_low, start, met_high, end, conversations, count, replies, packets,
            octets, origin, place,
        ) in zip(self._keys(columns), columns.listed(), strict=True):  # fmt: skip
            group = groups.get(key)
            if group is None:
                group = groups[key] = FindingGroup(
                    "flow", names[sender], names[receiver], self._told[number], self._origins[origin], place,
                    (met_low, met_high), conversations, count, replies, packets, octets, start, end,
                )  # fmt: skip
            else:
                group.stretch((met_low, met_high))
                group.conversations += conversations
                group.count += count
                group.replies += replies
                group.packets += packets
                group.octets += octets
                group.span(start, end)
                if not group.count:
                    del groups[key]
            met.append((group, count, place))
        return met

    def _told_number(self, concluded: Conclusion) -> int:
        """The number of a conclusion; what does not tell groups apart, as where it was denied, is of each its own."""
        number = self._told_of.setdefault(concluded, len(self._told))
        if number == len(self._told):
            self._told.append(concluded)
        return number

    def _codes(self, addresses: AddressTable) -> Rows:
        """The number of what each of some addresses is called, int64[m]."""
        columns = addresses.family, addresses.high.view(np.int64), addresses.low.view(np.int64)
        found = self._known.find(*columns)
        rows = np.flatnonzero(found < 0)
        if len(rows):
            fresh = tuple(column[rows] for column in columns)
            kinds = distinct(*fresh)
            numbers = np.array([self._name_number(addresses[at]) for at in rows[kinds.first].tolist()], dtype=np.int64)
            self._known.note(numbers, *(column[kinds.first] for column in fresh))
            found[rows] = numbers[kinds.codes]
        return found

    def _name_number(self, address: Address) -> int:
        name = self.directory.name_of(address)
        number = self._number_of.setdefault(name, len(self._names))
        if number == len(self._names):
            self._names.append(name)
        return number

    def rows(self, statuses: tuple[str, ...] = (LEAK, BREAK, UNSURE, AGREE)) -> Iterator[FindingGroup]:
        """The groups, leaks first, the largest of each status first; what agrees only as far as it was seen comes
        last."""
        self._settle()
        if self._ranked is None:
            with without_garbage():
                self._ranked = _by_status(_in_order(list(self.groups.values())))
        for status in _RANK:
            if status in statuses:
                yield from self._ranked.get(status, ())


def _by_status(groups: Iterable[FindingGroup]) -> dict[str, list[FindingGroup]]:
    found: dict[str, list[FindingGroup]] = {}
    for group in groups:
        found.setdefault(group.concluded.status, []).append(group)
    return found


def _in_order(groups: list[FindingGroup]) -> list[FindingGroup]:
    """Groups in the order in which they are shown; of a log of many ends they are very many."""
    if not groups:
        return groups
    names = sorted({name for group in groups for name in (group.source, group.destination)})
    place = {name: at for at, name in enumerate(names)}
    keys = np.array(
        [
            (place[each.destination], place[each.source], -each.count, each.concluded.as_far_as_seen,
             _RANK[each.concluded.status])
            for each in groups
        ],
        dtype=np.int64,
    )  # fmt: skip
    return [groups[at] for at in np.lexsort(keys.T).tolist()]


@functools.lru_cache(maxsize=1 << 16)
def services_met(met: tuple[int, int]) -> str:
    """A service, or a range of them, by their lowest and highest numbers."""
    low, high = met
    if low >> 16 != high >> 16:
        return f"{service_text(low, low)} to {service_text(high, high)}"
    return service_text(low, high)


def _told(concluded: Conclusion) -> tuple[object, ...]:
    """What tells the findings of one pair and service apart, beside their status."""
    return concluded.decider, concluded.observed, concluded.why
