"""From columns of text or numbers, as a reader hands them over, to a table of flow records.

Whole columns are converted at once. A row that does not fit is taken out and read by itself, so that it is either
understood after all or rejected with its reason and place; the rest go on.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kiboko.core.header.addresses import Address
from kiboko.core.header.services import ICMP, ICMP6, UNTOLD
from kiboko.core.records.columns import Distinct, distinct, has_ports
from kiboko.core.records.flow_table import EVENTS, NO_TIME, AddressTable, FlowTable, milliseconds
from kiboko.core.records.records import DENIED, FlowRecord
from kiboko.files.elements.address_ports import ports_apart
from kiboko.files.elements.fields import BY_PORT, DESTINATIONS, SOURCES, RecordMaker, protocol_of
from kiboko.files.elements.rejects import Rejects
from kiboko.files.logs.address_texts import AddressTexts
from kiboko.files.logs.biflows import Reverse
from kiboko.files.logs.element_columns import LATEST, ElementColumns
from kiboko.files.logs.translations import Translated, in_front

_PORTED = has_ports(np.arange(256))
_EARLY = 10**11
"""Milliseconds from 1970 to March 1973: whatever is before has another reason than that it was then."""
_POST_SOURCE, _POST_PORT = "postNATSourceIPv4Address", "postNAPTSourceTransportPort"


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
        batch = ports_apart(batch)
        columns = ElementColumns(batch)
        size = batch.num_rows
        addresses, (source, destination), behind = self._ends(batch)
        protocol = columns.coded("protocolIdentifier", protocol_of, -1)
        source_port = columns.whole("sourceTransportPort", -1, 65535)
        port = columns.whole("destinationTransportPort", -1, 65535)
        ported, detail = _PORTED.take(protocol, mode="clip"), port
        if not ported.all():
            has_none = source_port <= 0
            source_port, detail = np.where(ported, source_port, np.int32(-1)), np.where(ported, port, np.int32(0))
        for number, name in ((ICMP, "icmpTypeCodeIPv4"), (ICMP6, "icmpTypeCodeIPv6")):
            if not (protocol == number).any():
                continue
            kind = columns.icmp_kind(name)
            fallback = np.where(has_none & np.isin(port, [*BY_PORT[number]]), port, np.int32(UNTOLD))
            detail = np.where(protocol == number, np.where(kind >= 0, kind, fallback), detail)
        event = columns.events()
        flags = columns.flags("tcpControlBits")
        packets, octets = (
            columns.counts("packetDeltaCount", "initiatorPackets"),
            columns.counts("octetDeltaCount", "initiatorOctets"),
        )
        start, end = columns.times("flowStartMilliseconds"), columns.times("flowEndMilliseconds")
        if "flowDurationMilliseconds" in batch.column_names:
            lasted = columns.count("flowDurationMilliseconds", -1)
            ended = (end == NO_TIME) & (start != NO_TIME) & (lasted >= 0) & (lasted < LATEST - start)
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
            rejects.remark_all(
                "with a time without a zone, where others have one: read as UTC", table.line[columns.zoneless]
            )
        if bad.any():
            table, keep = self._mended(table, batch, np.flatnonzero(bad), rejects)
            reverse = reverse.taken(keep) if reverse is not None else None
            link = {name: column[keep] for name, column in link.items()}
            parts = parts[keep] if parts is not None else None
            translated = translated.taken(keep) if translated is not None else None
        table = _without_clocks_never_set(table, rejects)
        if translated is not None:
            table, joined_sides = in_front(table, translated)
            rejects.remark_all(
                "behind a translation of which others tell: taken as in front of it", table.line[joined_sides]
            )
        if link:
            table = replace(table, **link)  # type: ignore[arg-type]
        if parts is not None:
            table, reverse = self._parts_joined(table, reverse, parts, rejects)
        if reverse is not None:
            table = reverse.added_to(table, rejects)
        turned = table.end < table.start
        if turned.any() and (turned := turned & (table.end != NO_TIME)).any():
            rejects.remark_all("ending before they begin: some clock is wrong", table.line[turned])
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
        self, table: FlowTable, reverse: Reverse | None, parts: NDArray[np.int64], rejects: Rejects
    ) -> tuple[FlowTable, Reverse | None]:
        """The table, and its other directions, with the parts of one flow as one record in the place of the first: of
        one number of `parts` (-1 for none), the same ends and ports, and denied or not as well."""
        alone = np.where(parts < 0, -1 - np.arange(len(table)), parts)
        denied = table.event == EVENTS.index(DENIED)
        first = table.addresses.firsts()
        groups = distinct(alone, first[table.source] << 32 | first[table.destination], table.protocol.astype(np.int64),
                          table.source_port.astype(np.int64) << 32 | table.detail, denied.astype(np.int64))  # fmt: skip
        if len(groups) == len(table):
            return table, reverse
        further = np.ones(len(table), dtype=np.bool_)
        further[groups.first] = False
        rejects.remark_all("further parts of flows told before: joined with the first of each", table.line[further])
        event = groups.most(table.event.astype(np.int64)).astype(np.uint8)
        found = replace(table.taken(groups.first), event=event, **self._together(groups, table))
        if reverse is None:
            return found, None
        return found, replace(reverse.taken(groups.first), **self._together(groups, reverse))

    def _together(self, groups: Distinct, told: FlowTable | Reverse) -> dict[str, Any]:
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


_FIELDS = ("source", "destination", "protocol", "source_port", "detail", "event", "flags", "start", "end",
           "packets", "octets")  # fmt: skip


def _without_clocks_never_set(table: FlowTable, rejects: Rejects) -> FlowTable:
    """A table without times that nothing was recorded at: they are taken as missing, and that is noted."""
    start, end = ((times < _EARLY) & (times != NO_TIME) for times in (table.start, table.end))
    early = start | end
    if not early.any():
        return table
    rejects.remark_all(
        "of a time before 1973: a clock that was never set, or seconds where milliseconds are meant; taken as without a"
        " time", table.line[early],
    )  # fmt: skip
    return replace(table, start=np.where(start, NO_TIME, table.start), end=np.where(end, NO_TIME, table.end))
