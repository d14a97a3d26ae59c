"""Findings summed up: by who, what and why, the few that matter first."""

from __future__ import annotations

import dataclasses
from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import (
    AGREE,
    BREAK,
    LEAK,
    UNSURE,
    Conclusion,
    Decided,
    Finding,
)
from kiboko.core.evidence.disagreements import Disagreements
from kiboko.core.evidence.finding_groups import FindingGroup, Origin, services_met
from kiboko.core.evidence.finding_rows import FindingRows, FindingTable
from kiboko.core.evidence.group_columns import GroupColumns, merged
from kiboko.core.evidence.origins import FlowOrigin, ProbeOrigin, Settle
from kiboko.core.evidence.tallies import Tallies
from kiboko.core.header.addresses import Address
from kiboko.core.memory import without_garbage
from kiboko.core.network.directory import Directory
from kiboko.core.records.address_names import AddressNames, Stretches
from kiboko.core.records.columns import ascending, distinct
from kiboko.core.records.line_places import LinePlaces
from kiboko.core.records.narrow import whole
from kiboko.core.records.records import DENIED, REFUSED, ProbeRecord

_Key = tuple[object, ...]
Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]
_FEW_WAITING = 600_000
_RANK = {LEAK: 0, BREAK: 1, UNSURE: 2, AGREE: 3}


Counted = tuple[GroupColumns, FlowOrigin | None]
"""Tallies as rows of groups, and where their examples are."""


class Leaking(NamedTuple):
    """A rule, or a gate, that should have stopped what got through: how many records and how many kinds of traffic; and
    how many other records it was seen to stop."""

    rule: Decided
    records: int
    kinds: int
    stopped: int


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
    first_alone: int = 0
    before_as_of: int = 0
    undated: int = 0
    answered_probes: int = 0
    let_go: Counter[str] = field(default_factory=Counter)
    """How many groups of each status are in the totals alone, since there were too many to be kept."""
    turn: int = 0
    """How many times flow records were taken in."""
    rejected: int = 0
    """How many rows of what was read could not be used, and are in none of the other numbers."""
    _probes: dict[_Key, FindingGroup] = field(default_factory=dict)
    """The groups of probes, by what tells them apart."""
    _gathered: list[GroupColumns] = field(default_factory=list)
    """Groups of flow records: no object is made of them before it is looked at."""
    _again: list[GroupColumns] = field(default_factory=list)
    """Rows without records, whose examples stand for groups that were taken back and have come again."""
    _is_apart: bool = True
    """Whether no two rows of what was taken in are of one group."""
    _origins: list[FlowOrigin] = field(default_factory=list)
    """Where the examples of those are."""
    _odd: dict[tuple[int, ...], int] = field(default_factory=dict)
    """How many records each leak and break has that was taken in by `take_all`."""
    _names: list[str] = field(default_factory=list)
    _number_of: dict[str, int] = field(default_factory=dict)
    _told: list[Conclusion] = field(default_factory=list)
    _told_of: dict[Conclusion, tuple[int, int]] = field(default_factory=dict)
    """The number of each conclusion, and of the first one that tells groups apart as it does."""
    _alike_of: dict[_Key, int] = field(default_factory=dict)
    _addresses: AddressNames = field(init=False)
    _ranked: FindingRows | None = None
    """All groups in their order, until there are more records."""

    def __post_init__(self) -> None:
        stretches = Stretches(self.directory.name_edges(), self.directory.is_by_itself)
        self._addresses = AddressNames(self._name_number, stretches)

    @property
    def groups(self) -> dict[_Key, FindingGroup]:
        """The findings in groups, by what tells these apart: an object for each."""
        columns = self._all_gathered()
        with without_garbage():
            made = [self._made(columns, row) for row in range(len(columns))]
            return self._probes | dict(zip(self._keys(columns), made, strict=True))

    def _all_gathered(self) -> GroupColumns:
        """What was taken in, each group in one row."""
        if not self._gathered:
            return GroupColumns.none()
        if not self._is_apart:
            self._keep(merged([*reversed(self._again), *self._gathered]))
            self._again, self._is_apart = [], True
        return self._gathered[0]

    def _keep(self, columns: GroupColumns) -> None:
        """Keep some groups, and of the others nothing."""
        used, places = ascending(columns.example[0])
        self._origins = [self._origins[number] for number in used.tolist()]
        columns.example[0] = places
        self._gathered = [columns]

    def keep_most(self, most: int, since: int) -> None:
        """Keep about so many groups of flow records, where somebody takes them in for weeks: of more, those go that
        were met longest ago, of such as agree first, then of what is unsure. Their records stay in the totals, and
        `let_go` counts the groups. What was met in turn `since` or later is kept: it may be taken back."""
        if sum(map(len, self._gathered)) <= most + most // 4:
            return
        columns = self._all_gathered()
        rank = np.array([-_RANK[each.status] for each in self._told], dtype=np.int64)[columns.key[0]]
        oldest = np.lexsort([columns.most[2], rank])
        going = oldest[columns.most[2, oldest] < since][: max(0, len(columns) - most)]
        if not len(going):
            return
        told, counts = ascending(columns.key[0, going])
        for number, count in zip(told.tolist(), np.bincount(counts).tolist(), strict=True):
            self.let_go[self._told[number].status] += count
        for key in zip(*columns.key[:, going[rank[going] >= -_RANK[BREAK]]].tolist(), strict=True):
            self._odd.pop(key, None)
        is_kept = np.ones(len(columns), dtype=np.bool_)
        is_kept[going] = False
        self._keep(columns.taken(np.flatnonzero(is_kept)))
        self._compact()
        self._ranked = None

    def _compact(self) -> None:
        """Let go of the tallies that are no example of a group any more: what is kept grows with the groups."""
        example = self._all_gathered().example
        order = np.argsort(example[0], kind="stable")
        bounds = np.searchsorted(example[0][order], np.arange(len(self._origins) + 1)).tolist()
        for number, source in enumerate(self._origins):
            rows = order[bounds[number] : bounds[number + 1]]
            places, back = ascending(example[1, rows])
            if 2 * len(places) <= len(source.tallies):
                self._origins[number] = source.taken(places)
                example[1, rows] = back

    def _made(self, columns: GroupColumns, row: int) -> FindingGroup:
        """The group of a row."""
        return self.group_of(columns, row, self._origins[int(columns.example[0, row])])

    def group_of(self, columns: GroupColumns, row: int, origin: Origin) -> FindingGroup:
        """The group of a row, whose example is of an origin."""
        _, sender, receiver, *_ = columns.key[:, row].tolist()
        _, place, told = columns.example[:, row].tolist()
        conversations, count, replies, packets, octets = columns.sums[:, row].tolist()
        (met_low, start), (met_high, end, _) = columns.least[:, row].tolist(), columns.most[:, row].tolist()
        return FindingGroup(
            "flow", self._names[sender], self._names[receiver], self._told[told], origin, place,
            (met_low, met_high), conversations, count, replies, packets, octets, start, end,
        )  # fmt: skip

    def _keys(self, columns: GroupColumns) -> Iterator[_Key]:
        """What tells each group apart."""
        told, names = [_key_of(each) for each in self._told], self._names
        for number, sender, receiver, low, high in zip(*columns.key.tolist(), strict=True):
            status, *rest = told[number]
            yield (status, "flow", names[sender], names[receiver], (low, high), *rest)

    # Taking in.

    def add(self, record: ProbeRecord, finding: Finding) -> FindingGroup:
        """Take in one probe; the group that it is of."""
        concluded = finding.concluded
        self._count(concluded, 1)
        if finding.status == AGREE and record.outcome == "answered":
            self.answered_probes += 1
        status, *rest = _key_of(concluded)
        key = (status, "probe", record.source, record.destination, record.service, *rest)
        groups = self._probes
        if key not in groups:
            groups[key] = FindingGroup(
                "probe", record.source, record.destination, concluded, ProbeOrigin(record, finding)
            )
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
        self.first_alone += concluded.is_first_alone * records
        self.before_as_of += concluded.before_as_of * records
        self.undated += concluded.is_undated * records

    @property
    def tested(self) -> int:
        """How many of those that agree test the gate that decides (clause E10): what was stopped elsewhere does not."""
        return self.totals[AGREE] - self.elsewhere

    @property
    def agrees(self) -> bool:
        """Whether something was tested to the end, and nothing leaks or breaks, or may for all that is recorded of its
        time: no agreement that was not seen."""
        return bool(self.tested and not (self.totals[LEAK] or self.totals[BREAK] or self.undated))

    @property
    def records(self) -> int:
        """How many records and probes there are in all."""
        return self.totals.total() + self.as_far_as_seen

    def counted(self, tallies: Tallies, settle: Settle) -> Counted:
        """Count tallies among the totals, in whatever order they come; their groups, for `gather`."""
        return self._columns(tallies, settle, 1)

    def gather(self, counted: Counted, lines: LinePlaces | None = None) -> None:
        """Take in what was counted at once; `lines` tells where the records stand in their files."""
        columns, source = counted
        if source is not None:
            self._add(columns, dataclasses.replace(source, lines=lines or source.lines))

    def _add(self, columns: GroupColumns, source: FlowOrigin) -> None:
        columns.example[0], columns.most[2] = len(self._origins), self.turn
        self.turn += 1
        self._origins.append(source.kept())
        self._gathered.append(columns)
        self._is_apart = False
        if len(self._gathered) > 1 and sum(map(len, self._gathered[1:])) > max(_FEW_WAITING, len(self._gathered[0])):
            self._compact()

    def take_all(
        self, tallies: Tallies, settle: Settle, lines: LinePlaces | None = None, taken_back: bool = False
    ) -> Disagreements:
        """Take in tallies as `gather` does, or take back what was taken in before (`taken_back`); the leaks and breaks
        among them."""
        columns, source = self._columns(tallies, settle, -1 if taken_back else 1)
        if source is None:
            return Disagreements.none(self)
        columns = columns.by_key()
        source = dataclasses.replace(source, lines=lines or source.lines)
        self._add(columns, source)
        is_odd = np.array([each.status in (LEAK, BREAK) for each in self._told], dtype=np.bool_)[columns.key[0]]
        odd = columns.taken(np.flatnonzero(is_odd))
        return Disagreements(self, odd, self._note_odd(odd), source)

    def _note_odd(self, columns: GroupColumns) -> Truths:
        """Count the records of leaks and breaks; which groups were not there before."""
        counts, again = self._odd, []
        is_first = np.zeros(len(columns), dtype=np.bool_)
        for row, (count, *key) in enumerate(zip(columns.sums[1].tolist(), *columns.key.tolist(), strict=True)):
            before = counts.get(tuple(key))
            counts[tuple(key)] = (before or 0) + count
            if not before and count > 0:
                is_first[row] = True
                if before is not None:
                    again.append(row)
        if again:
            rows = columns.taken(np.array(again))
            rows.sums[:] = 0
            self._again.append(rows)
        return is_first

    def _columns(self, tallies: Tallies, settle: Settle, sign: int) -> Counted:
        """The tallies as rows of groups, counted among the totals."""

        def of(*names: str) -> list[Rows]:
            return [whole(getattr(tallies, name)) for name in names]

        conclusion, *sums = of("conclusion", "conversations", "count", "replies", "packets", "octets")
        conversations, count, replies = sums[:3]
        counts = np.bincount(conclusion, weights=count, minlength=len(tallies.concluded))
        for concluded, records in zip(tallies.concluded, counts.tolist(), strict=True):
            self._count(concluded, sign * int(records))
        self.conversations += sign * int(conversations.sum())
        self.replies += sign * int(replies.sum())
        numbers = [self._told_numbers(each) for each in tallies.concluded]
        if not len(tallies):
            return GroupColumns.none(), None
        own, alike = (np.array(each, dtype=np.int64)[conclusion] for each in zip(*numbers, strict=True))
        source, target = tallies.ends(self._addresses.numbers)
        (services, met), (first, last) = of("alike", "met"), of("first", "last")
        none, places = np.zeros(len(tallies), dtype=np.int64), np.arange(len(tallies))
        columns = GroupColumns(
            np.stack([alike, source, target, *services.T], dtype=np.int32, casting="same_kind"),
            np.stack([met[:, 0], first]), np.stack([met[:, 1], last, none]), sign * np.stack(sums),
            np.stack([none, places, own], dtype=np.int32, casting="same_kind"),
        )  # fmt: skip
        return columns, FlowOrigin(tallies, LinePlaces(), settle)

    def _told_numbers(self, concluded: Conclusion) -> tuple[int, int]:
        """The number of a conclusion, and that of the first one that groups are told apart by as by this: they may
        differ in where it was denied."""
        if concluded not in self._told_of:
            number = len(self._told)
            self._told_of[concluded] = number, self._alike_of.setdefault(_key_of(concluded), number)
            self._told.append(concluded)
        return self._told_of[concluded]

    def _name_number(self, address: Address) -> int:
        return self._number_of_name(self.directory.end_name(address))

    def _number_of_name(self, name: str) -> int:
        number = self._number_of.setdefault(name, len(self._names))
        if number == len(self._names):
            self._names.append(name)
        return number

    def name(self, number: int) -> str:
        """A name by its number."""
        return self._names[number]

    def conclusion(self, number: int) -> Conclusion:
        """A conclusion by its number."""
        return self._told[number]

    # In order.

    def rows(self, statuses: tuple[str, ...] = tuple(_RANK)) -> FindingRows:
        """The groups, leaks first, the largest of each status first; what agrees only as far as it was seen comes
        last."""
        if self._ranked is None:
            table = self._table()
            self._ranked = FindingRows(table, _in_order(table))
        return self._ranked.concluded(lambda each: each.status in statuses)

    def seen_stopped(self) -> Counter[Decided]:
        """How many records and probes each rule, as conclusions name it, was seen to stop."""
        rows = self.rows((AGREE,))
        sums = np.bincount(rows.column("told"), weights=rows.column("count"), minlength=len(self._told))
        found: Counter[Decided] = Counter()
        for told, count in zip(self._told, sums.astype(np.int64).tolist(), strict=True):
            if count and told.decider is not None and told.is_proved_stop and told.observed in (DENIED, REFUSED):
                found[told.decider] += count
        return found

    def leaking(self) -> list[Leaking]:
        """The rules that leak, those of most records first."""
        rows = self.rows((LEAK,))
        told, stopped = rows.column("told"), self.seen_stopped()
        count = np.bincount(told, weights=rows.column("count"), minlength=len(self._told)).astype(np.int64)
        records: Counter[Decided] = Counter()
        kinds: Counter[Decided] = Counter()
        for number in ascending(told)[0].tolist():
            rule = self._told[number].decider
            if rule is not None:
                records[rule] += int(count[number])
                kinds[rule] += int(np.count_nonzero(told == number))
        return [Leaking(rule, number, kinds[rule], stopped[rule]) for rule, number in records.most_common()]

    def _table(self) -> FindingTable:
        """All groups as columns."""
        objects, columns = list(self._probes.values()), self._all_gathered()
        origins = list(self._origins)
        texts: dict[str, int] = {}

        def services(listed: Iterable[str]) -> list[int]:
            return [texts.setdefault(each, len(texts)) for each in listed]

        def joined(own: Iterable[int], gathered: Rows) -> Rows:
            return np.concatenate([np.array(list(own), dtype=np.int64), gathered])

        met = distinct(columns.least[0], columns.most[0])
        pairs = zip(columns.least[0][met.first].tolist(), columns.most[0][met.first].tolist(), strict=True)
        service = joined(services(each.service for each in objects),
                         np.array(services(map(services_met, pairs)), dtype=np.int64)[met.codes])  # fmt: skip
        is_flow = joined((each.evidence == "flow" for each in objects), np.ones(len(columns), dtype=np.int64)) > 0

        def make(row: int) -> FindingGroup:
            if row < len(objects):
                return objects[row]
            at = row - len(objects)
            return self.group_of(columns, at, origins[int(columns.example[0, at])])

        return FindingTable(
            self._told, self._names, self._number_of, list(texts),
            joined((self._told_numbers(each.concluded)[0] for each in objects), columns.example[2]),
            joined((self._number_of_name(each.source) for each in objects), columns.key[1]),
            joined((self._number_of_name(each.destination) for each in objects), columns.key[2]),
            service, is_flow,
            joined((each.count for each in objects), columns.sums[1]),
            joined((each.packets for each in objects), columns.sums[3]),
            joined((each.octets for each in objects), columns.sums[4]),
            joined((each.latest for each in objects), columns.most[1]),
            make,
        )  # fmt: skip


def _in_order(table: FindingTable) -> Rows:
    """The rows of a table in the order in which they are shown."""
    rank = np.empty(len(table.names), dtype=np.int64)
    rank[sorted(range(len(table.names)), key=table.names.__getitem__)] = np.arange(len(table.names))
    of_conclusion = [2 * _RANK[each.status] + each.as_far_as_seen for each in table.conclusions]
    status = np.array(of_conclusion, dtype=np.int64)[table.told]
    ends = rank[table.source] * len(rank) + rank[table.destination]
    most = int(table.count.max(initial=0))
    if (int(status.max(initial=0)) + 1) * (most + 1) * len(rank) ** 2 >= 1 << 63:
        return np.lexsort([ends, -table.count, status])
    # As one number, which is sorted in a fraction of the time.
    return np.argsort((status * (most + 1) + most - table.count) * len(rank) ** 2 + ends, kind="stable")


def _key_of(concluded: Conclusion) -> _Key:
    """What tells the findings of one pair and service apart."""
    return concluded.status, concluded.decider, concluded.observed, concluded.why
