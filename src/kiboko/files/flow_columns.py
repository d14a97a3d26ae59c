"""From columns of text or numbers, as a reader hands them over, to a table of flow records.

Whole columns are converted at once. A row that does not fit is taken out and read by itself, so that it is either
understood after all or rejected with its reason and place; the rest go on.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from kiboko.core.addresses import Address, parse_address
from kiboko.core.evidence import FlowRecord
from kiboko.core.flow_table import EVENTS, NO_TIME, FlowTable, milliseconds
from kiboko.core.services import ICMP, ICMP6, PROTOCOLS, WITH_PORTS
from kiboko.files.flow_fields import DESTINATIONS, EVENT_NAMES, SOURCES, RecordMaker
from kiboko.files.rejects import Rejects

_PORTED = np.isin(np.arange(256), sorted(WITH_PORTS))
_MOST_KNOWN = 1_000_000
_WHOLE = r"^\d{1,18}$"


@dataclass(slots=True)
class Converter:
    """Turns batches into tables. Remembers what it has parsed once, within a bound: its tables share one list of
    addresses, which grows."""

    _known: dict[str, int] = field(default_factory=dict)
    _numbers: dict[Address, int] = field(default_factory=dict)
    _addresses: list[Address] = field(default_factory=list)

    def table(self, batch: pa.Table, rejects: Rejects, first_line: int, places: list[int] | None = None) -> FlowTable:
        """A table of the usable rows of a batch, whose columns bear the names of information elements.

        `first_line` is the line of its first row, where `places` does not give the line of each. What is not usable
        is noted in `rejects`.
        """
        columns = _Columns(batch)
        size = batch.num_rows
        if len(self._addresses) > _MOST_KNOWN:
            self._known, self._numbers, self._addresses = {}, {}, []
        source, six_source, bad_source = self._ends(batch, SOURCES, size)
        destination, six_destination, bad_destination = self._ends(batch, DESTINATIONS, size)
        protocol = columns.coded("protocolIdentifier", _protocol, -1)
        source_port = columns.whole("sourceTransportPort", -1, 65535)
        port = columns.whole("destinationTransportPort", -1, 65535)
        ported = _PORTED[np.clip(protocol, 0, 255)]
        detail = np.where(ported, port, 0)
        for number, name in ((ICMP, "icmpTypeCodeIPv4"), (ICMP6, "icmpTypeCodeIPv6")):
            kind = columns.whole(name, -1, 65535)
            echo = (8 if number == ICMP else 128) << 8
            # Many exporters put type and code where the destination port stands (RFC 7011 did not settle it).
            fallback = np.where(port > 0, port, echo)
            detail = np.where(protocol == number, np.where(kind >= 0, kind, fallback), detail)
        event = columns.coded("firewallEvent", _event, 0)
        flags = columns.whole("tcpControlBits", -1, 0xFFFF)
        packets = columns.whole("packetDeltaCount", 0)
        octets = columns.whole("octetDeltaCount", 0)
        start, end = columns.times("flowStartMilliseconds"), columns.times("flowEndMilliseconds")
        points, point = columns.texts("observationPointId")
        bad = columns.bad | bad_source | bad_destination | (protocol < 0) | (ported & (detail < 0))
        bad |= six_source != six_destination
        table = FlowTable(
            addresses=self._addresses, source=source, destination=destination, protocol=protocol.astype(np.uint8),
            source_port=np.where(ported, source_port, -1).astype(np.int32), detail=detail.astype(np.int32),
            event=event.astype(np.uint8), flags=flags.astype(np.int32), start=start, end=end, packets=packets,
            octets=octets, points=points, point=point,
            line=np.arange(first_line, first_line + size) if places is None else np.array(places, dtype=np.int64),
        )  # fmt: skip
        if bad.any():
            table = self._mended(table, batch, np.flatnonzero(bad), rejects)
        return table

    def _ends(
        self, batch: pa.Table, names: tuple[str, ...], size: int
    ) -> tuple[NDArray[np.int32], NDArray[np.bool_], NDArray[np.bool_]]:
        """One end of every row as indices of the addresses, which of them are IPv6, and the rows that have none."""
        result, missing = np.zeros(size, dtype=np.int32), np.ones(size, dtype=np.bool_)
        six = np.zeros(size, dtype=np.bool_)
        for name in names:
            if name not in batch.column_names:
                continue
            texts, codes = _coded(batch.column(name))
            known = np.array([self._index(text) for text in texts] or [-1], dtype=np.int32)
            of_six = np.array([":" in text for text in texts] or [False])
            found = np.where(codes >= 0, known[np.maximum(codes, 0)], -1)
            take = missing & (found >= 0)
            result[take] = found[take]
            six[take] = of_six[codes[take]]
            missing &= found < 0
        return result, six, missing

    def _index(self, text: str) -> int:
        number = self._known.get(text)
        if number is None:
            try:
                number = self._number(parse_address(text.strip()))
            except ValueError:
                number = -1
            self._known[text] = number
        return number

    def _number(self, address: Address) -> int:
        number = self._numbers.setdefault(address, len(self._addresses))
        if number == len(self._addresses):
            self._addresses.append(address)
        return number

    def _mended(self, table: FlowTable, batch: pa.Table, bad: NDArray[np.int64], rejects: Rejects) -> FlowTable:
        """The table with its bad rows read one at a time: put right, or taken out and noted."""
        maker = RecordMaker(rejects)
        keep = np.ones(len(table), dtype=np.bool_)
        points = {text: index for index, text in enumerate(table.points)}
        copies = {name: getattr(table, name).copy() for name in _FIELDS}
        for index in bad.tolist():
            fields: Mapping[str, Any] = batch.slice(index, 1).to_pylist()[0]
            line = int(table.line[index])
            record = maker.record({k: v for k, v in fields.items() if v is not None}, line)
            if record is None:
                keep[index] = False
                continue
            for name, value in self._values(record, points).items():
                copies[name][index] = value
        kept = {name: column[keep] for name, column in copies.items()}
        return FlowTable(addresses=self._addresses, points=tuple(points), line=table.line[keep], **kept)

    def _values(self, record: FlowRecord, points: dict[str | None, int]) -> dict[str, int]:
        return {
            "source": self._number(record.source),
            "destination": self._number(record.destination),
            "protocol": record.service.protocol,
            "source_port": -1 if record.source_port is None else record.source_port,
            "detail": record.service.detail,
            "event": EVENTS.index(record.event),
            "flags": -1 if record.tcp_flags is None else record.tcp_flags,
            "start": milliseconds(record.start),
            "end": milliseconds(record.end),
            "packets": min(record.packets, (1 << 63) - 1),
            "octets": min(record.octets, (1 << 63) - 1),
            "point": points.setdefault(record.point, len(points)),
        }


class _Columns:
    """The columns of one batch as arrays; `bad` marks the rows of which some value could not be read."""

    def __init__(self, batch: pa.Table) -> None:
        self._batch = batch
        self.bad = np.zeros(batch.num_rows, dtype=np.bool_)

    def _column(self, name: str) -> pa.ChunkedArray | None:
        return self._batch.column(name) if name in self._batch.column_names else None

    def whole(self, name: str, missing: int, most: int | None = None) -> NDArray[np.int64]:
        """Whole numbers from 0 to `most`; `missing` where there is none."""
        column = self._column(name)
        if column is None:
            return np.full(len(self.bad), missing, dtype=np.int64)
        if not pa.types.is_integer(column.type):
            column = self._as_whole(column)
        absent = column.null_count > 0
        values = _numpy(pc.fill_null(column, missing) if absent else column).astype(np.int64, copy=False)
        wrong = values < 0 if most is None else (values < 0) | (values > most)
        if absent:
            wrong &= ~_numpy(column.is_null())
        if wrong.any():
            self.bad |= wrong
            values = np.where(wrong, missing, values)
        return values

    def _as_whole(self, column: pa.ChunkedArray) -> pa.ChunkedArray:
        if pa.types.is_null(column.type):
            return column.cast(pa.int64())
        text = pc.utf8_trim_whitespace(column.cast(pa.string()))
        text = pc.if_else(pc.equal(text, ""), pa.scalar(None, pa.string()), text)
        fits = pc.match_substring_regex(text, _WHOLE)
        self.bad |= _numpy(pc.fill_null(pc.invert(fits), False))
        return pc.if_else(fits, text, pa.scalar(None, pa.string())).cast(pa.int64())

    def times(self, name: str) -> NDArray[np.int64]:
        """Times in milliseconds since 1970 UTC: whole numbers as they are, text as RFC 7373 or RFC 3339."""
        column = self._column(name)
        if column is None:
            return np.full(len(self.bad), NO_TIME, dtype=np.int64)
        if pa.types.is_timestamp(column.type):
            column = pc.cast(column, pa.timestamp("ms", column.type.tz), safe=False).cast(pa.int64())
        elif not pa.types.is_integer(column.type):
            column = self._as_times(column)
        if column.null_count:
            column = pc.fill_null(column.cast(pa.int64()), int(NO_TIME))
        return _numpy(column).astype(np.int64, copy=False)

    def _as_times(self, column: pa.ChunkedArray) -> pa.ChunkedArray:
        if pa.types.is_null(column.type):
            return column.cast(pa.int64())
        text = pc.utf8_trim_whitespace(column.cast(pa.string())).to_pandas()
        given = text.notna() & (text != "")
        number = text.where(given & text.str.fullmatch(r"-?\d{1,17}").fillna(False).astype(bool))
        parsed = pd.to_datetime(text.where(given & number.isna()), format="ISO8601", utc=True, errors="coerce")
        self.bad |= (given & number.isna() & parsed.isna()).to_numpy()
        result = np.full(len(text), NO_TIME, dtype=np.int64)
        dated = parsed.notna().to_numpy()
        result[dated] = parsed[dated].to_numpy().astype("datetime64[ms]").astype(np.int64)
        numbered = number.notna().to_numpy()
        result[numbered] = number[numbered].astype(np.int64).to_numpy()
        return pa.chunked_array([pa.array(result, mask=result == NO_TIME)])

    def coded(self, name: str, read: Callable[[str], int], missing: int) -> NDArray[np.int64]:
        """Values of a small vocabulary, each distinct text read once; `missing` where there is none."""
        column = self._column(name)
        if column is None:
            return np.full(len(self.bad), missing, dtype=np.int64)
        texts, codes = _coded(column)
        read_once = np.full(len(texts) + 1, missing, dtype=np.int64)
        wrong = np.zeros(len(texts) + 1, dtype=np.bool_)
        for index, text in enumerate(texts):
            try:
                read_once[index] = read(text.strip()) if text.strip() else missing
            except (ValueError, KeyError):
                wrong[index] = True
        self.bad |= wrong[codes]
        return read_once[codes]

    def texts(self, name: str) -> tuple[tuple[str | None, ...], NDArray[np.int32]]:
        """The distinct texts of a column, None among them, and for each row which it is."""
        column = self._column(name)
        if column is None:
            return (None,), np.zeros(len(self.bad), dtype=np.int32)
        texts, codes = _coded(column)
        return (*(text.strip() or None for text in texts), None), np.where(codes < 0, len(texts), codes).astype(
            np.int32
        )


def _numpy(column: pa.ChunkedArray | pa.Array) -> NDArray[Any]:
    values: NDArray[Any] = column.to_numpy() if isinstance(column, pa.ChunkedArray) else column.to_numpy(False)
    return values


def _coded(column: pa.ChunkedArray) -> tuple[list[str], NDArray[np.int32]]:
    """The distinct texts of a column and for each row the index of its own, -1 for none."""
    if not pa.types.is_dictionary(column.type):
        column = pc.dictionary_encode(column.cast(pa.string()))
    whole = column.combine_chunks() if column.num_chunks != 1 else column.chunk(0)
    if isinstance(whole, pa.ChunkedArray):  # an empty column
        return [], np.zeros(0, dtype=np.int32)
    codes = whole.indices
    if codes.null_count:
        codes = pc.fill_null(codes, -1)
    return [str(text) for text in whole.dictionary.to_pylist()], _numpy(codes).astype(np.int32, copy=False)


def _protocol(text: str) -> int:
    number = PROTOCOLS.get(text.lower(), {"ipv6-icmp": ICMP6, "icmpv6": ICMP6}.get(text.lower()))
    number = int(text) if number is None else number
    if not 0 <= number <= 255:
        raise ValueError(text)
    return number


def _event(text: str) -> int:
    return EVENTS.index(EVENT_NAMES[text.lower()])


_FIELDS = ("source", "destination", "protocol", "source_port", "detail", "event", "flags", "start", "end",
           "packets", "octets", "point")  # fmt: skip
