"""The compiled evaluator: millions of flow records held against the rules, without a walk for each.

Every boundary that a rule, route, group or listener draws cuts each dimension of a record into atoms
(`kiboko.core.tables.lines`). Records of the same atoms, event, kind of TCP flags, observation point and age are one
class. What the finding of a class rests on is worked out for all new classes at once, by the gate tables
(`kiboko.core.evidence.signatures`), and one record of each kind is judged by the one walk.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import (
    UNSURE,
    Comparison,
    Conclusion,
    Finding,
    conclusion,
    conversation_service,
    is_request,
    seen_behind,
)
from kiboko.core.evidence.signatures import Signatures
from kiboko.core.header.addresses import Address
from kiboko.core.records.columns import KeyNumbers, distinct
from kiboko.core.records.conversations import FlowHash, OtherEnds, partners, port_hash
from kiboko.core.records.flow_table import EVENTS, NO_TIME, FlowTable, milliseconds, summed
from kiboko.core.records.records import FlowRecord
from kiboko.core.records.signs import is_bare_reset, proves_passage
from kiboko.core.tables.gate_tables import GateTables

_MOST_CLASSES = 300_000
_Ends = tuple[Address | None, Address | None]
_SYN, _RST, _ACK = 0x02, 0x04, 0x10
_SERVICES = 1 << 24
_KINDS = len(EVENTS) * 4
_AGES = 3


@dataclass(frozen=True, slots=True)
class Tally:
    """Records of one table that got the same finding, summed up: small, and the same wherever it was made.

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
class _Class:
    """What a number of `CompiledComparison` stands for: its key, one record of it and the request of that where its
    kind is of replies whose requests were recorded too; the number of its signature; the services that it may be of,
    by the source port where that is a reply's."""

    key: tuple[int, ...]
    record: FlowRecord
    signature: int
    concluded: Conclusion
    alike: tuple[int, int]
    is_from: bool
    request: FlowRecord | None = None
    is_decided: bool = False


@dataclass(frozen=True, slots=True)
class Judged:
    """A table's findings: `code` is int64[n], for each record the index of its finding in `findings`, which is that of
    a record like it in all but its names (`CompiledComparison.exact` has its own); `request` is int64[n], the row of
    the request that it is the reply of, -1 for none, or None where no record is any."""

    code: NDArray[np.int64]
    findings: list[Finding]
    request: NDArray[np.int64] | None = None


def judged_alone(comparison: Comparison, record: FlowRecord, request: FlowRecord | None, is_decided: bool) -> Finding:
    """The finding of one record by its own walk, beside its request where that was recorded."""
    if request is not None:
        return comparison.judge_reply(record, comparison.judge(request))
    found = comparison.judge(record)
    return comparison.decided(found) if is_decided else found


class CompiledComparison:
    """Judges tables of flow records. Remembers one finding for each class of records, within a fixed bound.

    Replies are looked for among the records of the same table: a table is the bounded window of S39.
    """

    def __init__(self, comparison: Comparison) -> None:
        self._comparison = comparison
        self._tables = GateTables(comparison.walker, comparison.served)
        self._line, self._services = self._tables.addresses, self._tables.services
        self._signatures = Signatures(comparison, self._tables)
        self._signature_of: dict[tuple[int, ...], int] = {}
        self._alike: list[Finding] = []
        """For each signature the finding of one record."""
        self._replies_alike: dict[tuple[int, int], Finding] = {}
        self._exact: dict[int, Finding] = {}
        known = comparison.walker.topology.observation_points
        # A point that the network file does not name tells no more than none.
        self._points = {name: index for index, name in enumerate(known, 1)}
        self._flag_kinds = _flag_kinds()
        self._numbers: dict[tuple[int, ...], int] = {}
        self._known = KeyNumbers(2)
        self._classes: list[_Class] = []
        self._findings: list[Finding] = []
        self._is_request: list[bool] = []
        self._may_reply: list[bool] = []
        self._by_ports: list[bool | None] = []
        self._proves: list[bool] = []
        self._behind: list[_Ends | None] = []
        self._replies: dict[tuple[int, int], int] = {}
        self._decided: dict[int, int] = {}

    def judge(self, table: FlowTable) -> Judged:
        """A finding for every record of a table."""
        if len(self._findings) > _MOST_CLASSES:
            self._forget()
        code = self._class_of(table)
        code, request = self._with_requests(table, code)
        return Judged(code, self._findings, request)

    def _forget(self) -> None:
        memories = (self._classes, self._findings, self._is_request, self._may_reply, self._by_ports, self._proves,
                    self._behind, self._numbers, self._replies, self._decided, self._exact)  # fmt: skip
        for memory in memories:
            memory.clear()
        self._known.clear()

    def tallies(
        self,
        table: FlowTable,
        wanted: NDArray[np.bool_] | None = None,
        covered: Callable[[FlowTable, Judged], None] | None = None,
    ) -> list[Tally]:
        """A table judged, and its wanted records (all by default) summed up by finding, in the order of each finding's
        first record. The others are there for their requests and replies. `covered` is told of the wanted records."""
        whole, judged = table, self.judge(table)
        code = judged.code
        rows: Sequence[int] = range(len(table))
        if wanted is not None and not wanted.all():
            chosen, rows = _as_slice(wanted)
            table, code = table.taken(chosen), code[chosen]
        if covered is not None:
            covered(table, Judged(code, judged.findings))
        if not len(table):
            return []
        found = []
        for row, met, *sums in self.summed(table, code):
            about = self._classes[code[row]]
            request = None
            if about.request is not None:
                assert judged.request is not None
                request = whole.record(int(judged.request[rows[row]]))
            found.append(
                Tally(about.concluded, about.key, table.record(row), request, about.is_decided, about.alike, met, *sums)
            )
        return found

    def concluded(self, number: int) -> Conclusion:
        """What the finding of a number comes to."""
        return self._classes[number].concluded

    def alike(self, number: int) -> tuple[int, int]:
        """The services that no rule tells from those of a finding's records: see `Tally`."""
        return self._classes[number].alike

    def summed(self, table: FlowTable, code: NDArray[np.int64]) -> Iterator[tuple[Any, ...]]:
        """For each finding of a judged table: its first row, the lowest and highest service number among its records,
        how many there are, their packets and octets, and the first and last time among them."""
        groups = distinct(code)
        about = [self._classes[number] for number in code[groups.first].tolist()]
        low, high = (np.array([each.alike[side] for each in about], dtype=np.int64) for side in (0, 1))
        several = low < high
        rows = np.flatnonzero(several[groups.codes]) if several.any() else np.zeros(0, dtype=np.int64)
        if len(rows):
            which = groups.codes[rows]
            is_from = np.array([each.is_from for each in about])[which]
            port = np.where(is_from, table.source_port[rows], table.detail[rows])
            service = table.protocol[rows].astype(np.int64) << 16 | port
            low[several], high[several] = _SERVICES, -1
            np.minimum.at(low, which, service)
            np.maximum.at(high, which, service)
        for met, (row, *sums) in zip(zip(low.tolist(), high.tolist()), summed(groups, table), strict=True):
            yield row, met, *sums

    # Classes.

    def _class_of(self, table: FlowTable) -> NDArray[np.int64]:
        pair, rest = self._keys(table)
        found = self._known.find(pair, rest)
        rows = np.flatnonzero(found < 0)
        if len(rows):
            pair, rest = pair[rows], rest[rows]
            each = distinct(pair, rest)
            pair, rest, first = pair[each.first], rest[each.first], rows[each.first]
            numbers = np.array([self._numbers.get(key, -1) for key in zip(pair.tolist(), rest.tolist(), strict=True)],
                               dtype=np.int64)  # fmt: skip
            fresh = np.flatnonzero(numbers < 0)
            if len(fresh):
                numbers[fresh] = self._new_classes(table, first[fresh], pair[fresh], rest[fresh])
            self._known.note(numbers, pair, rest)
            found[rows] = numbers[each.codes]
        return found

    def _new_classes(
        self, table: FlowTable, rows: NDArray[np.int64], pair: NDArray[np.int64], rest: NDArray[np.int64]
    ) -> list[int]:
        """Classes for some records, of which no two are alike; their numbers."""
        points, ages = self._points_of(table), self._ages(table)
        none = np.zeros(len(rows), dtype=np.int64)
        kinds = (self._flag_kinds[table.flags[rows]] // len(EVENTS)).astype(np.int64)
        marks, behind = self._signatures.of(
            table, rows, points[rows] if points is not None else none, ages[rows] if ages is not None else none, kinds
        )
        numbers = []
        for index, (row, mark) in enumerate(zip(rows.tolist(), map(tuple, marks.tolist()), strict=True)):
            record = table.record(row)
            signature = self._signature_of.get(mark)
            if signature is None:
                signature = self._signature_of[mark] = len(self._alike)
                self._alike.append(self._comparison.judge(record))
            key = (int(pair[index]), int(rest[index]))
            numbers.append(self._new_class(record, key, signature, behind[index].tolist(), bool(mark[-1])))
            self._numbers[key] = numbers[-1]
        return numbers

    def _new_class(
        self, record: FlowRecord, key: tuple[int, ...], signature: int, behind: list[int], is_alone: bool
    ) -> int:
        finding = self._alike[signature]
        has_ports = record.service.has_ports and record.source_port is not None
        if is_alone:
            ends = _moved(record, seen_behind(finding))
        else:
            near, far = (self._line.first(atom) if atom >= 0 else None for atom in behind)
            ends = (near, far) if near is not None or far is not None else None
        return self._add(
            finding,
            self._class(key, record, finding, signature),
            has_ports and is_request(record, finding),
            has_ports and self._comparison.may_reply(record, finding),
            self._comparison.is_reply_by_ports(record),
            proves_passage(record),
            ends,
        )

    def exact(self, number: int) -> Finding:
        """The finding of one of the records of a number by itself, with the names of its own gates."""
        found = self._exact.get(number)
        if found is None:
            about = self._classes[number]
            found = self._exact[number] = judged_alone(self._comparison, about.record, about.request, about.is_decided)
        return found

    def _class(
        self,
        key: tuple[int, ...],
        record: FlowRecord,
        finding: Finding,
        signature: int,
        request: FlowRecord | None = None,
    ) -> _Class:
        number = np.array([conversation_service(record, finding).number])
        alike = self._services.span(int(self._services.atoms(number)[0]))
        concluded = conclusion(record, finding)
        return _Class(key, record, signature, concluded, alike, concluded.is_from_service, request)

    def _add(
        self,
        finding: Finding,
        stands_for: _Class,
        request: bool = False,
        reply: bool = False,
        by_ports: bool | None = None,
        proves: bool = False,
        behind: _Ends | None = None,
    ) -> int:
        self._findings.append(finding)
        self._classes.append(stands_for)
        self._is_request.append(request)
        self._may_reply.append(reply)
        self._by_ports.append(by_ports)
        self._proves.append(proves)
        self._behind.append(behind)
        return len(self._findings) - 1

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

    def _with_requests(
        self, table: FlowTable, code: NDArray[np.int64]
    ) -> tuple[NDArray[np.int64], NDArray[np.int64] | None]:
        """The findings changed where a record's request, or its reply, is in the table as well; and the row of each
        request that was found."""
        candidate = np.array(self._may_reply)[code]
        rows = np.flatnonzero(candidate)
        if not len(rows):
            return code, None
        hashes = FlowHash.of(table.addresses)
        wanted = hashes.turned(table, rows)
        request_rows, request_hash = self._requests(table, code, hashes, rows)
        requests = partners(wanted, request_hash, request_rows)
        hit = requests >= 0
        rows, requests = rows[hit], requests[hit]
        if not len(rows):
            return code, None
        # Where the ports do not tell which of the two is the reply, it is the one recorded later.
        surely = np.array([each is True for each in self._by_ports])[code[rows]]
        keep = (surely | (requests < rows)) & (requests != rows)
        rows, requests = rows[keep], requests[keep]
        result = code.copy()
        own, theirs = code[rows], code[requests]
        met = distinct(own, theirs)
        fresh = np.empty(len(met), dtype=np.int64)
        for index, row in enumerate(met.first.tolist()):
            fresh[index] = self._reply(table, int(rows[row]), int(requests[row]), int(own[row]), int(theirs[row]))
        result[rows] = fresh[met.codes]
        self._decide(table, code, result, rows, requests)
        partner = np.full(len(table), -1, dtype=np.int64)
        partner[rows] = requests
        return result, partner

    def _requests(
        self, table: FlowTable, code: NDArray[np.int64], hashes: FlowHash, replies: NDArray[np.int64]
    ) -> tuple[NDArray[np.int64], NDArray[np.uint64]]:
        """The requests of a table that some rows may be replies to, by the client's port at least, and their hashes:
        those behind a gateway under both pairs of addresses."""
        rows = np.flatnonzero(np.array(self._is_request)[code])
        clients = np.zeros(1 << 16, dtype=np.bool_)
        clients[table.detail[replies]] = True
        rows = rows[clients[table.source_port[rows]]]
        near, far = hashes.as_source[table.source[rows]], hashes.as_destination[table.destination[rows]]
        ports = port_hash(table, rows, False)
        own = near ^ far ^ ports
        classes = code[rows]
        near_behind, far_behind = self._ends_behind()
        moved = np.flatnonzero((near_behind.is_given | far_behind.is_given)[classes])
        if not len(moved):
            return rows, own
        behind = near_behind.instead(near[moved], classes[moved]) ^ far_behind.instead(far[moved], classes[moved])
        return np.concatenate([rows, rows[moved]]), np.concatenate([own, behind ^ ports[moved]])

    def _ends_behind(self) -> tuple[OtherEnds, OtherEnds]:
        """The hashes that the sources and destinations of requests have behind a gateway, by class."""
        ends = [ends or (None, None) for ends in self._behind]
        return OtherEnds.of([near for near, _ in ends], True), OtherEnds.of([far for _, far in ends], False)

    def _reply(self, table: FlowTable, row: int, request_row: int, own: int, request: int) -> int:
        """The finding of a reply, by its own class and that of its request.

        Their records must be two of one conversation: where a point is met twice on one way, it is by their addresses
        that a reply is known to have been taken on this side of a translation or on that.
        """
        number = self._replies.get((own, request))
        if number is None:
            record, asked = table.record(row), table.record(request_row)
            mine, theirs = self._classes[own].signature, self._classes[request].signature
            finding = self._replies_alike.get((mine, theirs))
            # A reset may refuse: whose refusal that is, and what it would look like, its own walk tells.
            if finding is None or is_bare_reset(record):
                finding = self._comparison.judge_reply(record, self._comparison.judge(asked))
                self._replies_alike[mine, theirs] = finding
            key = (*self._classes[own].key, *self._classes[request].key)
            number = self._replies[own, request] = self._add(finding, self._class(key, record, finding, mine, asked))
        return number

    def _decide(
        self,
        table: FlowTable,
        code: NDArray[np.int64],
        result: NDArray[np.int64],
        rows: NDArray[np.int64],
        requests: NDArray[np.int64],
    ) -> None:
        """Requests of unknown outcome whose reply is in the table have passed."""
        undecided = np.array([each.is_undecided and each.status == UNSURE for each in self._findings])[code[requests]]
        proving = np.array(self._proves)[code[rows]]
        for row in sorted(set(requests[undecided & proving].tolist())):
            own = int(code[row])
            number = self._decided.get(own)
            if number is None:
                finding, record = self._comparison.decided(self._findings[own]), table.record(row)
                about = dataclasses.replace(
                    self._classes[own], key=(*self._classes[own].key, -1), record=record, is_decided=True,
                    concluded=conclusion(record, finding),
                )  # fmt: skip
                number = self._decided[own] = self._add(finding, about)
            result[row] = number


def _as_slice(wanted: NDArray[np.bool_]) -> tuple[NDArray[np.bool_] | slice, Sequence[int]]:
    """A mask of rows that lie together as a slice, which copies nothing; and the rows themselves."""
    rows = np.flatnonzero(wanted)
    if len(rows) and rows[-1] - rows[0] + 1 == len(rows):
        first, last = int(rows[0]), int(rows[-1])
        return slice(first, last + 1), range(first, last + 1)
    return wanted, rows.tolist()


def _flag_kinds() -> NDArray[np.uint8]:
    """For each union of TCP flags what it tells: 0 nothing, 1 opening, 2 nothing but SYN, 3 a bare reset; each times
    the number of events, so that one can be added. Of -1, for flags that are not known, the last one tells nothing."""
    kinds = np.zeros((1 << 16) + 1, dtype=np.uint8)
    flags = np.arange(1 << 16)
    kinds[:-1][flags & (_SYN | _ACK) == _SYN] = 1
    kinds[:-1][flags & 0x3F == _SYN] = 2
    kinds[:-1][np.isin(flags & 0x3F, (_RST, _RST | _ACK))] = 3
    return kinds * np.uint8(len(EVENTS))


def _moved(record: FlowRecord, behind: tuple[Address, Address] | None) -> _Ends | None:
    """The ends that a request bears behind a gateway and not in front of it; None where both are its own.

    Records of one class may differ in an end, but only in one that stays as it is.
    """
    if behind is None or behind == (record.source, record.destination):
        return None
    source, destination = behind
    return None if source == record.source else source, None if destination == record.destination else destination
