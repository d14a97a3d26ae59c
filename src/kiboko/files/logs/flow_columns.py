"""From columns of text or numbers, as a reader hands them over, to a table of flow records.

Whole columns are converted at once. A row that does not fit is taken out and read by itself, so that it is either
understood after all or rejected with its reason and place; the rest go on.
"""

from __future__ import annotations

import contextlib
import functools
import re
from collections.abc import Callable
from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kiboko.core.header.addresses import Address
from kiboko.core.header.services import ICMP, ICMP6, PROTOCOLS, UNTOLD
from kiboko.core.records.columns import Distinct, combined, distinct, has_ports
from kiboko.core.records.flow_table import EVENTS, NO_TIME, AddressTable, FlowTable, joined, milliseconds
from kiboko.core.records.records import DENIED, FlowRecord
from kiboko.files.elements.arrays import filled, values_of
from kiboko.files.elements.fields import DESTINATIONS, EVENT_NAMES, FORWARDED, SOURCES, RecordMaker, parse_mac
from kiboko.files.elements.moments import PLAIN, UNREADABLE, ZONELESS, read_moments
from kiboko.files.elements.rejects import Rejects
from kiboko.files.logs.address_texts import AddressTexts
from kiboko.files.logs.translations import Translated, in_front

_PORTED = has_ports(np.arange(256))
_EXPORTERS = {"exporterIPv4Address", "exporterIPv6Address", "observationDomainId", "ingressInterface"}
# The times that a calendar of four digits has, in milliseconds since 1970.
_EARLIEST, _LATEST = -62_135_596_800_000, 253_402_300_799_999
_POST_SOURCE, _POST_PORT = "postNATSourceIPv4Address", "postNAPTSourceTransportPort"
_NO_NUMBER = 256
_BAD = -2
_NUMBER = re.compile(r"-?\d{1,17}", re.ASCII)
_WHOLE = r"^\d{1,18}$"


class Converter:
    """Turns batches into tables. Remembers the addresses that it had to parse one by one, within a bound."""

    def __init__(self, totals: bool | None = None) -> None:
        """`totals` tells how the parts of one flow, those of one `flowId`, are joined: their counts are those since the
        flow began, or since the part before; None where they are not joined."""
        self._addresses = AddressTexts()
        self._totals = totals

    def table(self, batch: pa.Table, rejects: Rejects, first_line: int, places: list[int] | None = None) -> FlowTable:
        """A table of the usable rows of a batch, whose columns bear the names of information elements.

        `first_line` is the line of its first row, where `places` does not give the line of each. What is not usable
        is noted in `rejects`.
        """
        columns = _Columns(batch)
        size = batch.num_rows
        addresses, (source, destination), behind = self._ends(batch)
        protocol = columns.coded("protocolIdentifier", _protocol, -1)
        source_port = columns.whole("sourceTransportPort", -1, 65535)
        port = columns.whole("destinationTransportPort", -1, 65535)
        ported, detail = _PORTED.take(protocol, mode="clip"), port
        if not ported.all():
            source_port, detail = np.where(ported, source_port, np.int32(-1)), np.where(ported, port, np.int32(0))
        for number, name in ((ICMP, "icmpTypeCodeIPv4"), (ICMP6, "icmpTypeCodeIPv6")):
            if not (protocol == number).any():
                continue
            kind = columns.icmp_kind(name)
            # Many exporters put type and code where the destination port stands (RFC 7011 did not settle it); a port of
            # 0 is what others fill in.
            fallback = np.where(port > 0, port, np.int32(UNTOLD))
            detail = np.where(protocol == number, np.where(kind >= 0, kind, fallback), detail)
        event = columns.events()
        flags = columns.whole("tcpControlBits", -1, 0xFFFF)
        packets, octets = (
            columns.counts("packetDeltaCount", "initiatorPackets"),
            columns.counts("octetDeltaCount", "initiatorOctets"),
        )
        start, end = columns.times("flowStartMilliseconds"), columns.times("flowEndMilliseconds")
        if "flowDurationMilliseconds" in batch.column_names:
            lasted = columns.count("flowDurationMilliseconds", -1)
            ended = (end == NO_TIME) & (start != NO_TIME) & (lasted >= 0) & (lasted < _LATEST - start)
            end = np.where(ended, start + lasted, end)
        points, point = columns.points()
        bad = columns.bad | (source == 0) | (destination == 0) | (protocol < 0) | (ported & (detail < 0))
        if (addresses.family == 6).any():
            bad |= addresses.family[source] != addresses.family[destination]
        table = FlowTable(
            addresses=addresses, source=source, destination=destination, protocol=protocol.astype(np.uint8),
            source_port=source_port, detail=detail, event=event.astype(np.uint8), flags=flags, start=start, end=end,
            packets=packets, octets=octets, points=points, point=point,
            line=np.arange(first_line, first_line + size) if places is None else np.array(places, dtype=np.int64),
        )  # fmt: skip
        reverse, link = columns.reverse(), columns.link()
        translated = Translated(behind, columns.whole(_POST_PORT, -1, 65535)) if behind is not None else None
        parts = columns.parts() if self._totals is not None else None
        if columns.zoneless.any():
            _remark(table, columns.zoneless, "with a time without a zone, where others have one: read as UTC", rejects)
        if bad.any():
            table, keep = self._mended(table, batch, np.flatnonzero(bad), rejects)
            reverse = reverse.taken(keep) if reverse is not None else None
            link = {name: column[keep] for name, column in link.items()}
            parts = parts[keep] if parts is not None else None
            translated = translated.taken(keep) if translated is not None else None
        if translated is not None:
            table, joined_sides = in_front(table, translated)
            _remark(table, joined_sides, "behind a translation of which others tell: taken as in front of it", rejects)
        if link:
            table = replace(table, **link)  # type: ignore[arg-type]
        if parts is not None:
            table, reverse = self._parts_joined(table, reverse, parts, rejects)
        if reverse is not None:
            table = reverse.added_to(table, rejects)
        turned = table.end < table.start
        if turned.any() and (turned := turned & (table.end != NO_TIME)).any():
            _remark(table, turned, "ending before they begin: some clock is wrong", rejects)
        return table

    def _ends(self, batch: pa.Table) -> tuple[AddressTable, list[NDArray[np.int64]], NDArray[np.int64] | None]:
        """The addresses of a batch, and both ends of every row as indices of them, 0 for none; and the senders behind a
        translation, where records tell of any."""
        sides = [[name for name in names if name in batch.column_names]
                 for names in (SOURCES, DESTINATIONS, (_POST_SOURCE,))]  # fmt: skip
        addresses, columns = self._addresses.table([batch.column(name) for names in sides for name in names])
        ends: list[NDArray[np.int64]] = []
        for names in sides:
            end = columns.pop(0) if names else np.zeros(batch.num_rows, dtype=np.int64)
            for _ in names[1:]:
                end = np.where(end == 0, columns.pop(0), end)
            ends.append(end)
        return addresses, ends[:2], ends[2] if sides[2] else None

    def _parts_joined(
        self, table: FlowTable, reverse: _Reverse | None, parts: NDArray[np.int64], rejects: Rejects
    ) -> tuple[FlowTable, _Reverse | None]:
        """The table, and its other directions, with the parts of one flow as one record in the place of the first: of
        one number of `parts` (-1 for none), the same ends and ports, and denied or not as well."""
        alone = np.where(parts < 0, -1 - np.arange(len(table)), parts)
        denied = table.event == EVENTS.index(DENIED)
        groups = distinct(alone, table.source << 32 | table.destination, table.protocol.astype(np.int64),
                          table.source_port.astype(np.int64) << 32 | table.detail, denied.astype(np.int64))  # fmt: skip
        if len(groups) == len(table):
            return table, reverse
        further = np.ones(len(table), dtype=np.bool_)
        further[groups.first] = False
        _remark(table, further, "further parts of flows told before: joined with the first of each", rejects)
        event = groups.most(table.event.astype(np.int64)).astype(np.uint8)
        found = replace(table.taken(groups.first), event=event, **self._together(groups, table))
        if reverse is None:
            return found, None
        return found, replace(reverse.taken(groups.first), **self._together(groups, reverse))

    def _together(self, groups: Distinct, told: FlowTable | _Reverse) -> dict[str, Any]:
        """What the parts of each flow come to."""

        def whole(values: NDArray[np.int64]) -> NDArray[np.int64]:
            return groups.most(values) if self._totals else groups.sums(values)

        flags = np.full(len(groups), -1, dtype=np.int32)
        known = told.flags >= 0
        flags[groups.codes[known]] = 0
        np.bitwise_or.at(flags, groups.codes[known], told.flags[known])
        return {
            "packets": whole(told.packets), "octets": whole(told.octets), "flags": flags,
            "start": groups.least(told.start, int(NO_TIME)),
            "end": groups.most(told.end),
        }  # fmt: skip

    def _mended(
        self, table: FlowTable, batch: pa.Table, bad: NDArray[np.int64], rejects: Rejects
    ) -> tuple[FlowTable, NDArray[np.bool_]]:
        """The table with its bad rows read one at a time: put right, or taken out and noted; and which are left."""
        maker = RecordMaker(rejects)
        keep = np.ones(len(table), dtype=np.bool_)
        copies = {name: getattr(table, name).copy() for name in _FIELDS}
        more: dict[Address, int] = {}
        for index in bad.tolist():
            given = {name: _plain(column[index]) for name, column in zip(batch.column_names, batch.columns)}
            line = int(table.line[index])
            record = maker.record({name: value for name, value in given.items() if value is not None}, line)
            if record is None:
                keep[index] = False
                continue
            for name, value in _values(record, len(table.addresses), more).items():
                copies[name][index] = value
        kept = {name: column[keep] for name, column in copies.items()}
        mine, new = table.addresses, AddressTable.of(more)
        addresses = AddressTable(
            np.concatenate([mine.family, new.family]), np.concatenate([mine.high, new.high]),
            np.concatenate([mine.low, new.low]),
        )  # fmt: skip
        found = FlowTable(
            addresses=addresses, points=table.points, point=table.point[keep], line=table.line[keep], **kept
        )
        return found, keep


def _plain(value: pa.Scalar) -> Any:
    """A value of a column as a plain one: octets as text, a time beyond any calendar as its number."""
    try:
        found = value.as_py()
    except (OverflowError, ValueError):
        return value.value
    return found.decode("utf-8", "replace") if isinstance(found, bytes) else found


def _remark(table: FlowTable, rows: NDArray[np.bool_], kind: str, rejects: Rejects) -> None:
    lines = table.line[rows]
    lines = lines[(lines >= rejects.first_line) & (lines <= rejects.last_line)]
    if len(lines):
        rejects.remark(kind, int(lines[0]), len(lines))


def _values(record: FlowRecord, size: int, more: dict[Address, int]) -> dict[str, int]:
    """A record as values of columns; an address is a new one behind the `size` of the table."""
    return {
        "source": more.setdefault(record.source, size + len(more)),
        "destination": more.setdefault(record.destination, size + len(more)),
        "protocol": record.service.protocol,
        "source_port": -1 if record.source_port is None else record.source_port,
        "detail": record.service.detail,
        "event": EVENTS.index(record.event),
        "flags": -1 if record.tcp_flags is None else record.tcp_flags,
        "start": milliseconds(record.start),
        "end": milliseconds(record.end),
        "packets": min(record.packets, (1 << 63) - 1),
        "octets": min(record.octets, (1 << 63) - 1),
    }


@dataclass(frozen=True, slots=True)
class _Reverse:
    """The other direction of `n` biflows (RFC 5103): `direction` uint8[n] is what the record itself is, as
    `FlowTable.direction` has it."""

    packets: NDArray[np.int64]
    octets: NDArray[np.int64]
    flags: NDArray[np.int32]
    start: NDArray[np.int64]
    end: NDArray[np.int64]
    direction: NDArray[np.uint8]

    def taken(self, rows: NDArray[np.bool_] | NDArray[np.int64]) -> _Reverse:
        """Those of some rows."""
        return _Reverse(*(getattr(self, each.name)[rows] for each in fields(self)))

    def added_to(self, table: FlowTable, rejects: Rejects) -> FlowTable:
        """A table with a record for each direction in which there was a packet."""
        both = np.flatnonzero((self.packets > 0) | (self.octets > 0))
        if self.direction.any():
            table = replace(table, direction=self.direction)
        if not len(both):
            return table
        forward, back = table.taken(both), self.taken(both)
        has_ports = _PORTED[forward.protocol]
        swapped = np.where(has_ports, np.maximum(forward.source_port, 0), forward.detail).astype(np.int32)
        detail = np.where(forward.protocol == ICMP, _echoed(forward.detail, 8, 0), swapped)
        detail = np.where(forward.protocol == ICMP6, _echoed(forward.detail, 128, 129), detail)
        turned = replace(
            forward, source=forward.destination, destination=forward.source,
            source_port=np.where(has_ports, forward.detail, -1).astype(np.int32), detail=detail.astype(np.int32),
            flags=back.flags, packets=back.packets, octets=back.octets, direction=_OTHER_DIRECTION[back.direction],
            source_mac=forward.destination_mac, destination_mac=forward.source_mac,
            start=np.where(back.start == NO_TIME, forward.start, back.start),
            end=np.where(back.end == NO_TIME, forward.end, back.end),
        )  # fmt: skip
        _remark(table, (self.packets > 0) | (self.octets > 0), "telling of both directions: each of them is counted",
                rejects)  # fmt: skip
        return joined([table, turned])


def _echoed(detail: NDArray[np.int32], asks: int, answers: int) -> NDArray[np.int32]:
    """The type that answers an echo request, and any other as it is."""
    return np.where(detail >> 8 == asks, np.int32(answers << 8), detail)


_OTHER_DIRECTION = np.array([0, 2, 1], dtype=np.uint8)
_REVERSE = {"reversePacketDeltaCount", "reverseOctetDeltaCount", "responderPackets", "responderOctets"}


class _Columns:
    """The columns of one batch as arrays; `bad` marks the rows of which some value could not be read."""

    def __init__(self, batch: pa.Table) -> None:
        self._batch = batch
        self.bad = np.zeros(batch.num_rows, dtype=np.bool_)
        self.zoneless = np.zeros(batch.num_rows, dtype=np.bool_)
        """Rows with a time without a zone, where others of its column have one."""

    def _column(self, name: str) -> pa.ChunkedArray | None:
        return self._batch.column(name) if name in self._batch.column_names else None

    def whole(self, name: str, missing: int, most: int) -> NDArray[np.int32]:
        """Whole numbers from 0 to `most`; `missing` where there is none."""
        return self._whole(name, missing, most).astype(np.int32, copy=False)

    def icmp_kind(self, name: str) -> NDArray[np.int32]:
        """Type and code of ICMP messages: together, or in two elements; -1 where neither is there."""
        kind = self.whole(name, -1, 65535)
        family = name[-4:]
        if f"icmpType{family}" not in self._batch.column_names:
            return kind
        apart, code = self.whole(f"icmpType{family}", -1, 255), self.whole(f"icmpCode{family}", 0, 255)
        return np.where((kind < 0) & (apart >= 0), apart << 8 | code, kind)

    def events(self) -> NDArray[np.int16]:
        """What records say of their fate: `firewallEvent`, else `forwardingStatus`."""
        event = self.coded("firewallEvent", _event, 0)
        if "forwardingStatus" not in self._batch.column_names:
            return event
        status = self.whole("forwardingStatus", 0, 255)
        told = np.array([EVENTS.index(each) for each in FORWARDED], dtype=np.int16)[status >> 6]
        return np.where(event == 0, told, event)

    def counts(self, name: str, other: str) -> NDArray[np.int64]:
        """A count, or what another element has of it."""
        found = self.count(name, 0)
        if other in self._batch.column_names:
            found = np.where(found == 0, self.count(other, 0), found)
        return found

    def link(self) -> dict[str, NDArray[Any]]:
        """What records say of the link, by column of a table: those columns of which some record has a value."""
        found: dict[str, NDArray[Any]] = {}
        if self._column("vlanId") is not None:
            vlan = self.whole("vlanId", -1, 65535)
            found["vlan"] = np.where(vlan == 0, -1, vlan)  # a frame of no VLAN has priority only
        for name in ("source", "destination"):
            if (column := self._column(f"{name}MacAddress")) is not None:
                found[f"{name}_mac"] = self._macs(f"{name}MacAddress", column)
        return {name: column for name, column in found.items() if (column >= 0).any()}

    def _macs(self, name: str, column: pa.ChunkedArray) -> NDArray[np.int64]:
        if pa.types.is_integer(column.type):
            numbers = filled(column, -1)[0].astype(np.int64, copy=False)
            return np.where((numbers > 0) & (numbers < 1 << 48), numbers, -1)
        texts, codes = self.texts(name)
        read = np.full(len(texts), -1, dtype=np.int64)
        for index, text in enumerate(texts):
            with contextlib.suppress(ValueError):  # nothing rests on it: a record is not lost for it
                read[index] = (parse_mac(text) or -1) if text else -1
        return read[codes]

    def parts(self) -> NDArray[np.int64] | None:
        """A number for each flow that records are parts of, -1 for those that say nothing."""
        if self._column("flowId") is None:
            return None
        texts, codes = self.texts("flowId")
        none = np.array([text is None for text in texts])[codes]
        return np.where(none, -1, codes)

    def reverse(self) -> _Reverse | None:
        """The other direction of each record; None where no record tells of it."""
        names = set(self._batch.column_names)
        if not names & {*_REVERSE, "biflowDirection"}:
            return None
        direction = self.whole("biflowDirection", 0, 255)
        told = np.where(direction <= 2, direction, 0).astype(np.uint8)
        if {"responderPackets", "responderOctets"} & names:
            told = np.where(told == 0, 1, told).astype(np.uint8)
        return _Reverse(
            self.counts("reversePacketDeltaCount", "responderPackets"),
            self.counts("reverseOctetDeltaCount", "responderOctets"), self.whole("reverseTcpControlBits", -1, 0xFFFF),
            self.times("reverseFlowStartMilliseconds"), self.times("reverseFlowEndMilliseconds"), told,
        )  # fmt: skip

    def count(self, name: str, missing: int) -> NDArray[np.int64]:
        """Whole numbers from 0; `missing` where there is none."""
        return self._whole(name, missing, None).astype(np.int64, copy=False)

    def _whole(self, name: str, missing: int, most: int | None) -> NDArray[Any]:
        column = self._column(name)
        if column is None:
            return np.full(len(self.bad), missing, dtype=np.int64 if most is None else np.int32)
        if not pa.types.is_integer(column.type):
            column = self._as_whole(column)
        values, absent = filled(column, missing)
        if absent is None and (not len(values) or (values.min() >= 0 and (most is None or values.max() <= most))):
            return values
        wrong = values < 0 if most is None else (values < 0) | (values > most)
        if absent is not None:
            wrong &= ~absent
        if wrong.any():
            self.bad |= wrong
            values = np.where(wrong, missing, values)
        return values

    def _as_whole(self, column: pa.ChunkedArray) -> pa.ChunkedArray:
        if pa.types.is_null(column.type):
            return column.cast(pa.int64())
        import pyarrow.compute as pc  # takes long to load, and most logs have their numbers as numbers

        text = pc.utf8_trim_whitespace(column.cast(pa.string()))
        text = pc.if_else(pc.equal(text, ""), pa.scalar(None, pa.string()), text)
        fits = pc.match_substring_regex(text, _WHOLE)
        self.bad |= values_of(pc.fill_null(pc.invert(fits), False))
        return pc.if_else(fits, text, pa.scalar(None, pa.string())).cast(pa.int64())

    def times(self, name: str) -> NDArray[np.int64]:
        """Times in milliseconds since 1970 UTC: whole numbers as they are, text as RFC 7373 or RFC 3339."""
        column = self._column(name)
        if column is None:
            return np.full(len(self.bad), NO_TIME, dtype=np.int64)
        unit = "ms"
        if pa.types.is_timestamp(column.type):
            unit = column.type.unit
            column = pa.chunked_array([chunk.view(pa.int64()) for chunk in column.chunks], pa.int64())
        elif not pa.types.is_integer(column.type):
            column = self._as_times(column)
        values = _in_milliseconds(filled(column, int(NO_TIME))[0].astype(np.int64, copy=False), unit)
        if len(values) and (values.min() < _EARLIEST or values.max() > _LATEST):
            wrong = ((values < _EARLIEST) | (values > _LATEST)) & (values != NO_TIME)
            self.bad |= wrong
            values = np.where(wrong, NO_TIME, values)
        return values

    def _as_times(self, column: pa.ChunkedArray) -> pa.ChunkedArray:
        if pa.types.is_null(column.type):
            return column.cast(pa.int64())
        import pyarrow.compute as pc

        texts = pc.utf8_trim_whitespace(column.cast(pa.string())).to_pylist()
        numbers = [bool(text) and _NUMBER.fullmatch(text) is not None for text in texts]
        result, kinds = read_moments([None if number else text for text, number in zip(texts, numbers, strict=True)])
        dated = np.array([bool(text) for text in texts], dtype=np.bool_) & ~np.array(numbers, dtype=np.bool_)
        self.bad |= dated & (kinds == UNREADABLE)
        if (kinds == PLAIN).any():
            self.zoneless |= kinds == ZONELESS
        for index in np.flatnonzero(numbers).tolist():
            result[index] = int(texts[index] or 0)
        return pa.chunked_array([pa.array(result, mask=result == NO_TIME)])

    def coded(self, name: str, read: Callable[[str], int], missing: int) -> NDArray[np.int16]:
        """Values of a small vocabulary, each distinct text read once; `missing` where there is none."""
        column = self._column(name)
        if column is None:
            return np.full(len(self.bad), missing, dtype=np.int16)
        if pa.types.is_integer(column.type):
            numbers, _ = filled(column, _NO_NUMBER)
            if len(numbers) and numbers.min() >= 0 and numbers.max() <= _NO_NUMBER:
                found = _numbered(read, missing).take(numbers)
                if found.min() == _BAD:
                    self.bad |= found == _BAD
                return found
        texts, codes = _coded(column)
        read_once = np.full(len(texts) + 1, missing, dtype=np.int16)
        wrong = np.zeros(len(texts) + 1, dtype=np.bool_)
        for index, text in enumerate(texts):
            try:
                read_once[index] = read(text.strip()) if text.strip() else missing
            except (ValueError, KeyError):
                wrong[index] = True
        self.bad |= wrong[codes]
        return read_once[codes]

    def points(self) -> tuple[tuple[str | None, ...], NDArray[np.int64]]:
        """Where each record was taken, as `texts` has it: the observation point that it names, else its exporter,
        observation domain and interface."""
        known, codes = self.texts("observationPointId")
        if not _EXPORTERS & set(self._batch.column_names):
            return known, codes
        parts = [self._either("exporterIPv4Address", "exporterIPv6Address"), self.texts("observationDomainId"),
                 self._interface()]  # fmt: skip
        groups = combined([column for _, column in parts], len(self.bad))
        made = [
            point_name(*(texts[column[row]] for texts, column in parts)) if len(self.bad) else None
            for row in groups.first.tolist()
        ]
        none = np.array([text is None for text in known])[codes]
        return (*known, *made), np.where(none, len(known) + groups.codes, codes)

    def _either(self, name: str, other: str) -> tuple[tuple[str | None, ...], NDArray[np.int64]]:
        one, two = self.texts(name), self.texts(other)
        none = np.array([text is None for text in one[0]])[one[1]]
        return (*one[0], *two[0]), np.where(none, len(one[0]) + two[1], one[1])

    def _interface(self) -> tuple[tuple[str | None, ...], NDArray[np.int64]]:
        """The interface at which the packets were seen: where `flowDirection` is 1, the one they left by."""
        known, codes = self.texts("ingressInterface")
        if self._column("flowDirection") is None or self._column("egressInterface") is None:
            return known, codes
        directions, direction = self.texts("flowDirection")
        left = np.array([text == "1" for text in directions])[direction]
        other, other_codes = self.texts("egressInterface")
        return (*known, *other), np.where(left, len(known) + other_codes, codes)

    def texts(self, name: str) -> tuple[tuple[str | None, ...], NDArray[np.int64]]:
        """The distinct texts of a column, None among them, and for each row which it is."""
        column = self._column(name)
        if column is None:
            return (None,), np.zeros(len(self.bad), dtype=np.int64)
        texts, codes = _coded(column)
        return (*(text.strip() or None for text in texts), None), np.where(codes < 0, len(texts), codes)


def _in_milliseconds(values: NDArray[np.int64], unit: str) -> NDArray[np.int64]:
    """Times of a unit of the library's in milliseconds; what is beyond any calendar stays beyond it."""
    if unit == "s":
        fits = (values >= _EARLIEST // 1000) & (values <= _LATEST // 1000)
        return np.where(fits, values * 1000, np.where(values == NO_TIME, NO_TIME, _LATEST + 1))
    if unit == "ms" or not len(values):
        return values
    found: NDArray[np.int64] = values // (1000 if unit == "us" else 1_000_000)
    return np.where(values == NO_TIME, NO_TIME, found) if values.min() == NO_TIME else found


@functools.cache
def _numbered(read: Callable[[str], int], missing: int) -> NDArray[np.int16]:
    """What each small number of a vocabulary means, `_BAD` for nothing; the last stands for none."""
    table = np.full(_NO_NUMBER + 1, _BAD, dtype=np.int16)
    for number in range(_NO_NUMBER):
        with contextlib.suppress(ValueError, KeyError):
            table[number] = read(str(number))
    table[_NO_NUMBER] = missing
    return table


def point_name(exporter: str | None, domain: str | None, interface: str | None) -> str | None:
    """The observation point that an exporter, its observation domain and an interface make: `EXPORTER/DOMAIN/INTERFACE`
    with `*` for what is not known; None where nothing is."""
    parts = [part or "*" for part in (exporter, domain, interface)]
    while parts and parts[-1] == "*":
        parts.pop()
    return "/".join(parts) or None


def _coded(column: pa.ChunkedArray) -> tuple[list[str], NDArray[np.int64]]:
    """The distinct texts of a column and for each row the index of its own, -1 for none."""
    if not pa.types.is_dictionary(column.type):
        column = column.cast(pa.string()).dictionary_encode()
    if column.num_chunks == 0:
        return [], np.zeros(0, dtype=np.int64)
    whole = column.unify_dictionaries().combine_chunks() if column.num_chunks > 1 else column.chunk(0)
    return [str(text) for text in whole.dictionary.to_pylist()], filled(whole.indices, -1)[0].astype(np.int64)


def _protocol(text: str) -> int:
    number = PROTOCOLS.get(text.lower(), {"ipv6-icmp": ICMP6, "icmpv6": ICMP6}.get(text.lower()))
    number = int(text) if number is None else number
    if not 0 <= number <= 255:
        raise ValueError(text)
    return number


def _event(text: str) -> int:
    return EVENTS.index(EVENT_NAMES[text.lower()])


_FIELDS = ("source", "destination", "protocol", "source_port", "detail", "event", "flags", "start", "end",
           "packets", "octets")  # fmt: skip
