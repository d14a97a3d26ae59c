"""The compiled evaluator: millions of flow records held against the rules, without a walk for each.

Every boundary that a rule, route, group or listener draws cuts each dimension of a record into atoms
(`kiboko.core.tables.lines`). Records of the same atoms, event, kind of TCP flags, observation point and age are one
class. What the finding of a class rests on is worked out for all new classes at once, by the gate tables
(`kiboko.core.evidence.signatures`), and one record of each kind is judged by the one walk.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import (
    UNSURE,
    Comparison,
    Conclusion,
    Finding,
    conclusion,
    is_request,
    seen_behind,
)
from kiboko.core.header.addresses import Address
from kiboko.core.records.columns import Distinct, KeyNumbers, distinct, numbered
from kiboko.core.records.conversations import FlowHash, OtherEnds, partners, port_hash
from kiboko.core.records.flow_table import EVENTS, NO_TIME, FlowTable, milliseconds
from kiboko.core.records.records import FlowRecord
from kiboko.core.records.signs import proves_passage
from kiboko.core.tables.lines import AddressLine, service_line

if TYPE_CHECKING:
    from kiboko.core.evidence.signatures import Signatures

_MOST_CLASSES, _MOST_KINDS = 1_000_000, 50_000
FEW_CLASSES = 300
"""As many classes as are sooner walked than tables are made."""
_SYN, _RST, _ACK = 0x02, 0x04, 0x10
_RESET = 3
_KINDS = len(EVENTS) * 4
_AGES = 3
_NONE = -1
Rows = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Tally:
    """Records of one table that got the same finding, summed up.

    `concluded` is what the finding comes to; `key` tells what it rests on; `record` is the first of them, `request` a
    request like that of a reply, and `is_decided` tells of requests whose passage their replies prove. `alike` are the
    lowest and the highest service number that no rule tells from the record's (for replies, that they are from), `met`
    those among the records. `first` and `last` are milliseconds since 1970, `NO_TIME` where no record had a time.
    """

    concluded: Conclusion
    key: tuple[int, ...]
    record: FlowRecord
    request: FlowRecord | None
    is_decided: bool
    alike: tuple[int, int]
    met: tuple[int, int]
    count: int
    packets: int
    octets: int
    first: int
    last: int


@dataclass(frozen=True, slots=True)
class Tallies:
    """Many tallies as columns: small, and the same wherever they were made. `examples` has the first record of each, in
    the order in which they come; `requests` and `request` int64[m] those of replies, -1 for none; `conclusion` int64[m]
    is an index of `concluded`; `keys` is int64[m, 5]; `alike` and `met` int64[m, 2]; the rest int64[m] each."""

    concluded: tuple[Conclusion, ...]
    conclusion: Rows
    decided: tuple[bool, ...]
    examples: FlowTable
    requests: FlowTable
    request: Rows
    keys: Rows
    alike: Rows
    met: Rows
    count: Rows
    packets: Rows
    octets: Rows
    first: Rows
    last: Rows

    def __len__(self) -> int:
        return len(self.conclusion)

    def __getitem__(self, index: int) -> Tally:
        number = int(self.conclusion[index])
        asked = int(self.request[index])
        low, high = self.alike[index].tolist()
        least, most = self.met[index].tolist()
        return Tally(
            self.concluded[number], tuple(self.keys[index].tolist()), self.examples.record(index),
            self.requests.record(asked) if asked >= 0 else None, self.decided[number], (low, high), (least, most),
            int(self.count[index]), int(self.packets[index]), int(self.octets[index]), int(self.first[index]),
            int(self.last[index]),
        )  # fmt: skip

    def __iter__(self) -> Iterator[Tally]:
        return (self[index] for index in range(len(self)))


@dataclass(frozen=True, slots=True)
class Judged:
    """A table's findings: `code` is int64[n], for each record the index of its finding in `findings`, which is that of
    a record like it in all but its names (`judged_alone` has its own); `classes` int64[n] tells records apart as far as
    anything in the network does; `request` is int64[n], the row of the request that it is the reply of, -1 for none."""

    code: Rows
    findings: list[Finding]
    classes: Rows
    request: Rows


def judged_alone(comparison: Comparison, record: FlowRecord, request: FlowRecord | None, is_decided: bool) -> Finding:
    """The finding of one record by its own walk, beside its request where that was recorded."""
    if request is not None:
        return comparison.judge_reply(record, comparison.judge(request))
    found = comparison.judge(record)
    return comparison.decided(found) if is_decided else found


@dataclass(slots=True)
class _Kinds:
    """The findings of all signatures, of replies beside their requests, and of requests whose replies prove that they
    passed; with what has to be known of the records of each."""

    findings: list[Finding]
    concluded: list[Conclusion]
    is_request: list[bool]
    may_reply: list[bool]
    is_surely_reply: list[bool]
    proves: list[bool]
    is_decided: list[bool]

    @classmethod
    def none(cls) -> _Kinds:
        """No kinds yet."""
        return cls([], [], [], [], [], [], [])

    def add(self, finding: Finding, concluded: Conclusion, *known: bool, is_decided: bool = False) -> int:
        """A further kind; its number."""
        self.findings.append(finding)
        self.concluded.append(concluded)
        for column, value in zip((self.is_request, self.may_reply, self.is_surely_reply, self.proves),
                                 known or (False,) * 4, strict=True):  # fmt: skip
            column.append(value)
        self.is_decided.append(is_decided)
        return len(self.findings) - 1


class CompiledComparison:
    """Judges tables of flow records. Remembers what was worked out for each class of records, within a fixed bound.

    Replies are looked for among the records of the same table: a table is the bounded window of S39.

    >>> from pathlib import Path
    >>> from kiboko.core.walk.walk import Walker
    >>> from kiboko.files.logs.flow_reader import tables_of
    >>> from kiboko.files.network.network_file import load_network
    >>> compiled = CompiledComparison(Comparison(Walker(load_network("network.yaml"))))
    >>> table, _ = next(iter(tables_of(Path("evidence/flows.csv"))))
    >>> judged = compiled.judge(table)
    >>> sum(judged.findings[code].status == "leak" for code in judged.code)
    8
    """

    def __init__(self, comparison: Comparison) -> None:
        self._comparison = comparison
        ground = comparison.walker.ground
        self._line, self._services = AddressLine(ground), service_line(ground, comparison.served)
        self._signatures: Signatures | None = None
        known = comparison.walker.topology.observation_points
        # A point that the network file does not name tells no more than none.
        self._points = {name: index for index, name in enumerate(known, 1)}
        self._flag_kinds = _flag_kinds()
        self._known = KeyNumbers(2)
        self._forget()

    def _forget(self) -> None:
        self._kinds = _Kinds.none()
        self._kind_of: dict[tuple[int, ...], int] = {}
        self._reply_kinds: dict[tuple[int, ...], int] = {}
        self._decided_kinds: dict[int, int] = {}
        self._numbers: dict[tuple[int, int], int] = {}
        # Of each class its key, its kind, the atoms that its ends have behind a gateway, and what stops its replies.
        self._classes = np.zeros((0, 6), dtype=np.int64)
        self._known.clear()

    def judge(self, table: FlowTable) -> Judged:
        """A finding for every record of a table."""
        if len(self._classes) > _MOST_CLASSES or len(self._kinds.findings) > _MOST_KINDS:
            self._forget()
        classes = self._class_of(table)
        code = self._classes[classes, 2] if len(classes) else classes
        code, request = self._with_requests(table, classes, code)
        return Judged(code, self._kinds.findings, classes, request)

    def tallies(
        self,
        table: FlowTable,
        wanted: NDArray[np.bool_] | None = None,
        covered: Callable[[FlowTable, Judged], None] | None = None,
    ) -> Tallies:
        """A table judged, and its wanted records (all by default) summed up by finding and class, in the order of the
        first record of each. The others are there for their requests and replies. `covered` is told of the wanted
        records."""
        judged = self.judge(table)
        rows = np.arange(len(table)) if wanted is None else np.flatnonzero(wanted)
        if covered is not None:
            part = slice(None) if len(rows) == len(table) else _as_slice(rows)
            code = judged.code[part]
            covered(table if len(rows) == len(table) else table.taken(part),
                    Judged(code, judged.findings, judged.classes[part], judged.request[part]))  # fmt: skip
        return self.summed(table, judged, rows)

    def summed(self, table: FlowTable, judged: Judged, rows: Rows) -> Tallies:
        """Some records of a judged table summed up by finding and class."""
        code, classes, request = judged.code[rows], judged.classes[rows], judged.request[rows]
        groups, asked = _groups_of(judged, rows)
        part = table if len(rows) == len(table) else table.taken(rows)
        first = groups.first
        examples = part.taken(first)
        kinds, conclusion_of = numbered(code[first])
        concluded = tuple(self._kinds.concluded[kind] for kind in kinds.tolist())
        decided = tuple(self._kinds.is_decided[kind] for kind in kinds.tolist())
        is_from = np.array([each.is_from_service for each in concluded], dtype=np.bool_)[conclusion_of]
        number = _services_of(examples, is_from)
        atoms = self._services.atoms(number)
        starts = np.append(self._services.starts, self._services.end)
        alike = np.stack([starts[atoms], starts[atoms + 1] - 1], axis=1).astype(np.int64)
        met = np.stack([number, number], axis=1)
        several = (alike[:, 0] < alike[:, 1])[groups.codes]
        if several.any():
            which = groups.codes[several]
            services = _services_of(part, is_from[groups.codes])[several]
            np.minimum.at(met[:, 0], which, services)
            np.maximum.at(met[:, 1], which, services)
        replies = np.flatnonzero(asked[first] != _NONE)
        place = np.full(len(first), _NONE, dtype=np.int64)
        place[replies] = np.arange(len(replies))
        keys = np.full((len(first), 5), _NONE, dtype=np.int64)
        if len(first):
            keys[:, :2] = self._classes[classes[first], :2]
            keys[replies, 2:4] = self._classes[asked[first][replies], :2]
            keys[:, 4] = np.array(decided)[conclusion_of]
        return Tallies(
            concluded, conclusion_of, decided, examples,
            table.taken(request[first][replies]), place, keys, alike, met, groups.counts(),
            np.array(groups.sums(part.packets), dtype=np.int64), np.array(groups.sums(part.octets), dtype=np.int64),
            np.array(groups.least(part.start, int(NO_TIME)), dtype=np.int64),
            np.array(groups.most(part.last()), dtype=np.int64),
        )  # fmt: skip

    def fitting(self, table: FlowTable, fits: Callable[[Finding], bool]) -> NDArray[np.bool_]:
        """The records whose findings fit, by their own walks: one for each class of them."""
        judged = self.judge(table)
        groups, _ = _groups_of(judged, np.arange(len(table)))
        found = []
        for row in groups.first.tolist():
            request = table.record(int(judged.request[row])) if judged.request[row] >= 0 else None
            is_decided = self._kinds.is_decided[int(judged.code[row])]
            found.append(fits(judged_alone(self._comparison, table.record(row), request, is_decided)))
        return np.array(found, dtype=np.bool_)[groups.codes]

    # Classes.

    def _class_of(self, table: FlowTable) -> Rows:
        pair, rest = self._keys(table)
        found = self._known.find(pair, rest)
        rows = np.flatnonzero(found < 0)
        if len(rows):
            pair, rest = pair[rows], rest[rows]
            each = distinct(pair, rest)
            pair, rest, first = pair[each.first], rest[each.first], rows[each.first]
            known = self._numbers
            numbers = np.array([known.get(key, _NONE) for key in zip(pair.tolist(), rest.tolist(), strict=True)],
                               dtype=np.int64)  # fmt: skip
            fresh = np.flatnonzero(numbers < 0)
            if len(fresh):
                numbers[fresh] = np.arange(len(fresh)) + len(self._classes)
                self._add_classes(table, first[fresh], pair[fresh], rest[fresh])
            self._known.note(numbers, pair, rest)
            found[rows] = numbers[each.codes]
        return found

    def _add_classes(self, table: FlowTable, rows: Rows, pair: Rows, rest: Rows) -> None:
        """Classes for some records, of which no two are alike."""
        points, ages = self._points_of(table), self._ages(table)
        none = np.zeros(len(rows), dtype=np.int64)
        flags = (self._flag_kinds[table.flags[rows]] // len(EVENTS)).astype(np.int64)
        if self._signatures is None and len(self._classes) + len(rows) <= FEW_CLASSES:
            # So few are sooner walked than tables are made: each stands for itself alone.
            marks, behind, back = np.column_stack([pair, rest, none + 1]), np.full((len(rows), 2), _NONE), none
        else:
            marks, behind, back = self._told_apart().of(
                table, rows, points[rows] if points is not None else none, ages[rows] if ages is not None else none,
                flags,
            )  # fmt: skip
        each = distinct(*(np.ascontiguousarray(column) for column in marks.T))
        kinds = np.empty(len(each), dtype=np.int64)
        for index, at in enumerate(each.first.tolist()):
            mark = tuple(marks[at].tolist())
            stands_alone, is_new = bool(mark[-1]), mark not in self._kind_of
            if is_new or stands_alone:
                record = table.record(int(rows[at]))
                if is_new:
                    self._kind_of[mark] = self._new_kind(record)
                if stands_alone:
                    behind[at] = self._moved(record, self._kinds.findings[self._kind_of[mark]])
            kinds[index] = self._kind_of[mark]
        begin = len(self._classes)
        self._numbers.update(zip(zip(pair.tolist(), rest.tolist()), range(begin, begin + len(rows)), strict=True))
        made = np.column_stack([pair, rest, kinds[each.codes], behind, back])
        self._classes = np.concatenate([self._classes, made])

    def _told_apart(self) -> Signatures:
        if self._signatures is None:
            # Only who brings many kinds of records pays for what judges them by columns.
            from kiboko.core.evidence.signatures import Signatures
            from kiboko.core.tables.gate_tables import GateTables

            tables = GateTables(self._comparison.walker, self._line, self._services)
            self._signatures = Signatures(self._comparison, tables)
        return self._signatures

    def _new_kind(self, record: FlowRecord) -> int:
        finding = self._comparison.judge(record)
        has_ports = record.service.has_ports and record.source_port is not None
        return self._kinds.add(
            finding, conclusion(record, finding), has_ports and is_request(record, finding),
            has_ports and self._comparison.may_reply(record, finding),
            self._comparison.is_reply_by_ports(record) is True, proves_passage(record),
        )  # fmt: skip

    def _moved(self, record: FlowRecord, finding: Finding) -> tuple[int, int]:
        """The atoms of the ends that a request bears behind a gateway and not in front of it, -1 for its own."""
        behind = seen_behind(finding)
        if behind is None:
            return _NONE, _NONE
        near, far = behind
        return (self._line.atom(near) if near != record.source else _NONE,
                self._line.atom(far) if far != record.destination else _NONE)  # fmt: skip

    def _keys(self, table: FlowTable) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Two numbers for each record, for its ends and for the rest: equal where nothing tells records apart."""
        line, services = self._line, self._services
        listed = table.addresses
        atom = line.atoms(listed.family, listed.high, listed.low).astype(np.int64)
        pair = (atom * line.size)[table.source] + atom[table.destination]
        protocol = table.protocol.astype(np.int64) << 16
        port = services.atoms(protocol | table.source_port & 0xFFFF) + np.int64(1)
        port[table.source_port < 0] = 0
        rest = port * services.size + services.atoms(protocol | table.detail)
        size = (services.size + 1) * services.size
        rest += (self._flag_kinds[table.flags] + table.event) * np.int64(size)
        size *= _KINDS
        # The ages and points of most tables are all 0.
        for part, kinds in ((self._ages(table), _AGES), (self._points_of(table), len(self._points) + 1)):
            if part is not None:
                rest += part * np.int64(size)
            size *= kinds
        return pair, rest

    def _points_of(self, table: FlowTable) -> NDArray[np.int64] | None:
        """The numbers of the observation points of the records; None where the network file knows none of them."""
        found = [self._comparison.walker.topology.observation_point(point) for point in table.points]
        points = np.array([self._points[point.key] if point is not None else 0 for point in found], dtype=np.int64)
        return points[table.point] if points.any() else None

    def _ages(self, table: FlowTable) -> NDArray[np.int64] | None:
        """0: as new as the network file; 1: older; 2: begun before it and ended since. None where all are new."""
        as_of = milliseconds(self._comparison.walker.topology.as_of)
        if as_of == NO_TIME or not len(table) or int(table.start.min()) >= as_of:
            return None
        timed, last = table.start != NO_TIME, table.last()
        return np.where(timed & (last < as_of), 1, np.where(timed & (table.start < as_of), 2, 0))

    # Replies.

    def _with_requests(self, table: FlowTable, classes: Rows, code: Rows) -> tuple[Rows, Rows]:
        """The findings changed where a record's request, or its reply, is in the table as well; and the row of each
        request that was found."""
        partner = np.full(len(table), _NONE, dtype=np.int64)
        rows = np.flatnonzero(np.array(self._kinds.may_reply, dtype=np.bool_)[code])
        if not len(rows):
            return code, partner
        hashes = FlowHash.of(table.addresses)
        wanted = hashes.turned(table, rows)
        request_rows, request_hash = self._requests(table, classes, code, hashes, rows)
        requests = partners(wanted, request_hash, request_rows)
        hit = requests >= 0
        rows, requests = rows[hit], requests[hit]
        if not len(rows):
            return code, partner
        # Where the ports do not tell which of the two is the reply, it is the one recorded later.
        surely = np.array(self._kinds.is_surely_reply, dtype=np.bool_)[code[rows]]
        keep = (surely | (requests < rows)) & (requests != rows)
        rows, requests = rows[keep], requests[keep]
        result = code.copy()
        own, theirs = code[rows], code[requests]
        # A reset may refuse: whose refusal that is, and what it would look like, its own walk tells.
        reset = self._flag_kinds[table.flags[rows]] // len(EVENTS) == _RESET
        apart = [np.where(reset, classes[at], _NONE) for at in (rows, requests)]
        apart.append(self._classes[classes[requests], 5])
        met = distinct(own, theirs, *apart)
        kinds = np.empty(len(met), dtype=np.int64)
        for index, at in enumerate(met.first.tolist()):
            key = (int(own[at]), int(theirs[at]), *(int(each[at]) for each in apart))
            if key not in self._reply_kinds:
                record, asked = table.record(int(rows[at])), table.record(int(requests[at]))
                finding = self._comparison.judge_reply(record, self._comparison.judge(asked))
                self._reply_kinds[key] = self._kinds.add(finding, conclusion(record, finding))
            kinds[index] = self._reply_kinds[key]
        result[rows] = kinds[met.codes]
        self._decide(table, code, result, rows, requests)
        partner[rows] = requests
        return result, partner

    def _requests(
        self, table: FlowTable, classes: Rows, code: Rows, hashes: FlowHash, replies: Rows
    ) -> tuple[Rows, NDArray[np.uint64]]:
        """The requests of a table that some rows may be replies to, by the client's port at least, and their hashes:
        those behind a gateway under both pairs of addresses."""
        rows = np.flatnonzero(np.array(self._kinds.is_request, dtype=np.bool_)[code])
        clients = np.zeros(1 << 16, dtype=np.bool_)
        clients[table.detail[replies]] = True
        rows = rows[clients[table.source_port[rows]]]
        near, far = hashes.as_source[table.source[rows]], hashes.as_destination[table.destination[rows]]
        ports = port_hash(table, rows, False)
        own = near ^ far ^ ports
        behind = self._classes[classes[rows], 3:5]
        moved = np.flatnonzero((behind != _NONE).any(axis=1))
        if not len(moved):
            return rows, own
        other = self._behind(behind[moved, 0], near[moved], True) ^ self._behind(behind[moved, 1], far[moved], False)
        return np.concatenate([rows, rows[moved]]), np.concatenate([own, other ^ ports[moved]])

    def _behind(self, atoms: Rows, own: NDArray[np.uint64], is_source: bool) -> NDArray[np.uint64]:
        """The hashes of some ends by their atoms, each of which is one address; -1 stands for its own hash."""
        listed, back = numbered(atoms)
        ends: list[Address | None] = [self._line.first(atom) if atom >= 0 else None for atom in listed.tolist()]
        return OtherEnds.of(ends, is_source).instead(own, back)

    def _decide(self, table: FlowTable, code: Rows, result: Rows, rows: Rows, requests: Rows) -> None:
        """Requests of unknown outcome whose reply is in the table have passed."""
        kinds = self._kinds
        undecided = np.array([each.is_undecided and each.status == UNSURE for each in kinds.findings], dtype=np.bool_)
        proving = np.array(kinds.proves, dtype=np.bool_)[code[rows]]
        decided, _ = numbered(requests[undecided[code[requests]] & proving])
        for kind in numbered(code[decided])[0].tolist():
            mine = decided[code[decided] == kind]
            if kind not in self._decided_kinds:
                finding, record = self._comparison.decided(kinds.findings[kind]), table.record(int(mine[0]))
                self._decided_kinds[kind] = kinds.add(finding, conclusion(record, finding), is_decided=True)
            result[mine] = self._decided_kinds[kind]


def _groups_of(judged: Judged, rows: Rows) -> tuple[Distinct, Rows]:
    """Some records by what their findings rest on: their finding, class, and the class of their request, int64[n]."""
    request = judged.request[rows]
    asked = np.where(request >= 0, judged.classes[np.maximum(request, 0)], _NONE) if len(rows) else request
    return distinct(judged.code[rows], judged.classes[rows], asked), asked


def _services_of(table: FlowTable, is_from: NDArray[np.bool_]) -> Rows:
    """The numbers of the services that records are about: of replies, that they are from."""
    port = np.where(is_from, table.source_port, table.detail).astype(np.int64)
    return table.protocol.astype(np.int64) << 16 | port


def _as_slice(rows: Rows) -> Rows | slice:
    """Rows that lie together as a slice, which copies nothing."""
    if len(rows) and rows[-1] - rows[0] + 1 == len(rows):
        return slice(int(rows[0]), int(rows[-1]) + 1)
    return rows


def _flag_kinds() -> NDArray[np.uint8]:
    """For each union of TCP flags what it tells: 0 nothing, 1 opening, 2 nothing but SYN, 3 a bare reset; each times
    the number of events, so that one can be added. Of -1, for flags that are not known, the last one tells nothing."""
    kinds = np.zeros((1 << 16) + 1, dtype=np.uint8)
    flags = np.arange(1 << 16)
    kinds[:-1][flags & (_SYN | _ACK) == _SYN] = 1
    kinds[:-1][flags & 0x3F == _SYN] = 2
    kinds[:-1][np.isin(flags & 0x3F, (_RST, _RST | _ACK))] = 3
    return kinds * np.uint8(len(EVENTS))
