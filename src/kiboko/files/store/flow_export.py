"""Flow records written out, with the names of the IPFIX information elements (RFC 7012)."""

from __future__ import annotations

import csv
import dataclasses
import io
import json
from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet
from numpy.typing import NDArray

from kiboko.core.errors import UsageError
from kiboko.core.header.services import ICMP, ICMP6, UNTOLD, WITH_PORTS
from kiboko.core.records.columns import ascending, numbered
from kiboko.core.records.flow_sums import mac_text
from kiboko.core.records.flow_table import NO_TIME, FlowTable
from kiboko.core.records.records import DENIED, PASSED, FlowRecord
from kiboko.files.documents.saving import written_whole
from kiboko.files.store import ipfix_export

_EVENTS = {PASSED: "1", DENIED: "3"}


def flows_csv(records: Iterable[FlowRecord]) -> str:
    """A whole CSV file. Columns that no record fills are left out."""
    rows = [_fields(record) for record in records]
    used = [name for name in _COLUMNS if any(row.get(name) for row in rows)]
    text = io.StringIO()
    writer = csv.DictWriter(text, used or list(_COLUMNS), extrasaction="ignore", lineterminator="\n")
    writer.writeheader()
    writer.writerows(rows)
    return text.getvalue()


def write_tables(tables: Iterable[FlowTable], path: Path, raw: bool = False) -> int:
    """Write tables to a file by its name: `.csv`, `.jsonl`, `.ipfix`, `.arrows` or `.parquet`, all but the last also
    with `.gz` or `.zst` behind it; how many records. Nothing half-written is left. In CSV a text that a spreadsheet
    would take for a formula, or that holds control characters, is made harmless, unless `raw` is true.

    Raises UsageError for another name, EnvironmentFailure where it cannot be written.
    """
    form, packed = _form_of(path)
    written = 0
    with written_whole(path) as temporary, _Writer(temporary, form, packed, raw) as writer:
        for table in tables:
            writer.write(table)
            written += len(table)
    return written


def _form_of(path: Path) -> tuple[str, str | None]:
    """The form that a file's name asks for, and how it is compressed."""
    packed = {".gz": "gzip", ".zst": "zstd"}.get(path.suffix)
    form = (path.with_suffix("") if packed else path).suffix
    form = {".json": ".jsonl", ".ndjson": ".jsonl"}.get(form, form)
    if form not in _FORMS or (packed and form == ".parquet"):
        raise UsageError(
            f"{path}: records are written as {', '.join(_FORMS)}, all but the last with .gz or .zst as well"
        )
    return form, packed


_FORMS = (".csv", ".jsonl", ".ipfix", ".arrows", ".parquet")


class _Writer:
    """One file of records in some form."""

    def __init__(self, path: Path, form: str, packed: str | None, raw: bool) -> None:
        self._form = form
        self._raw = raw
        self._written = 0
        schema = arrow_table(FlowTable.empty()).schema
        self._stream = pa.output_stream(str(path), compression=packed)
        self._writer: Any = None
        if form == ".parquet":
            self._writer = pyarrow.parquet.ParquetWriter(self._stream, schema)
        elif form == ".arrows":
            self._writer = pa.ipc.new_stream(self._stream, schema)
        elif form == ".csv":
            # The names of elements need no quotes; that a header has none can be said from Arrow 22 on only.
            self._stream.write((",".join(schema.names) + "\n").encode())
            options = pyarrow.csv.WriteOptions(include_header=False, quoting_style="needed")
            self._writer = pyarrow.csv.CSVWriter(self._stream, schema, write_options=options)
        elif form == ".ipfix":
            self._stream.write(ipfix_export.templates())

    def __enter__(self) -> _Writer:
        return self

    def __exit__(self, *_: object) -> None:
        for each in (self._writer, self._stream):
            if each is not None:
                each.close()

    def write(self, table: FlowTable) -> None:
        """Write some records; an element that a record has not is left out in JSON Lines, empty in CSV."""
        if self._form == ".ipfix":
            for message in ipfix_export.messages(table, self._written):
                self._stream.write(message)
        elif self._writer is not None:
            self._writer.write_table(_columns_of(table, self._form == ".csv" and not self._raw))
        else:
            for row in arrow_table(table).to_pylist():
                line = json.dumps({name: value for name, value in row.items() if value is not None})
                self._stream.write(line.encode() + b"\n")
        self._written += len(table)


def _columns_of(table: FlowTable, for_spreadsheets: bool) -> pa.Table:
    if for_spreadsheets:
        points = tuple(None if point is None else _harmless(point) for point in table.points)
        table = dataclasses.replace(table, points=points)
    return arrow_table(table)


def _harmless(text: str) -> str:
    """A text that no spreadsheet takes for a formula and no terminal for a command."""
    shown = "".join(each if each.isprintable() else each.encode("unicode_escape").decode("ascii") for each in text)
    return f"'{shown}" if shown[:1] in ("=", "+", "-", "@") else shown


def arrow_table(table: FlowTable) -> pa.Table:
    """A table as Arrow columns under the names of information elements; times in milliseconds since 1970."""
    # The table may know very many addresses besides those of its own records.
    met, ends = ascending(np.concatenate([table.source, table.destination]))
    texts = np.array(table.addresses.taken(met).texts() or [""], dtype=object)
    six = table.addresses.family[table.source] == 6 if len(table) else np.zeros(0, dtype=np.bool_)
    ported = np.isin(table.protocol, sorted(WITH_PORTS))
    events = np.array([0, 1, 3], dtype=np.int64)[table.event]
    points = np.array([point or "" for point in table.points], dtype=object)[table.point]

    direction, vlan = table.optional("direction"), table.optional("vlan")
    macs = [table.optional(name) for name in ("source_mac", "destination_mac")]

    def column(values: Any, kind: pa.DataType, missing: Any) -> pa.Array:
        return pa.array(values, kind, mask=np.asarray(missing, dtype=np.bool_))

    source, destination = texts[ends[: len(table)]], texts[ends[len(table) :]]
    text, whole = pa.string(), pa.int64()
    return pa.table({
        "flowStartMilliseconds": column(table.start, whole, table.start == NO_TIME),
        "flowEndMilliseconds": column(table.end, whole, table.end == NO_TIME),
        "sourceIPv4Address": column(source, text, six),
        "sourceIPv6Address": column(source, text, ~six),
        "destinationIPv4Address": column(destination, text, six),
        "destinationIPv6Address": column(destination, text, ~six),
        "sourceTransportPort": column(table.source_port, whole, ~ported | (table.source_port < 0)),
        "destinationTransportPort": column(table.detail, whole, ~ported),
        "protocolIdentifier": pa.array(table.protocol.astype(np.int64)),
        "icmpTypeCodeIPv4": column(table.detail, whole, (table.protocol != ICMP) | (table.detail == UNTOLD)),
        "icmpTypeCodeIPv6": column(table.detail, whole, (table.protocol != ICMP6) | (table.detail == UNTOLD)),
        "tcpControlBits": column(table.flags, whole, table.flags < 0),
        "packetDeltaCount": pa.array(table.packets),
        "octetDeltaCount": pa.array(table.octets),
        "firewallEvent": column(events, whole, events == 0),
        "observationPointId": column(points, text, points == ""),
        "biflowDirection": column(direction, whole, direction == 0),
        "vlanId": column(vlan, whole, vlan < 0),
        "sourceMacAddress": column(_mac_texts(macs[0]), text, macs[0] < 0),
        "destinationMacAddress": column(_mac_texts(macs[1]), text, macs[1] < 0),
    })  # fmt: skip


def _mac_texts(numbers: NDArray[np.int64]) -> NDArray[np.object_]:
    """MAC addresses as texts; that of none is empty."""
    known, codes = numbered(numbers)
    return np.array([mac_text(each) if each >= 0 else "" for each in known.tolist()] or [""], dtype=object)[codes]


_COLUMNS = (
    "flowStartMilliseconds", "flowEndMilliseconds", "sourceIPv4Address", "sourceIPv6Address",
    "destinationIPv4Address", "destinationIPv6Address", "sourceTransportPort", "destinationTransportPort",
    "protocolIdentifier", "icmpTypeCodeIPv4", "icmpTypeCodeIPv6", "tcpControlBits", "packetDeltaCount",
    "octetDeltaCount", "firewallEvent", "observationPointId", "biflowDirection",
)  # fmt: skip


def _fields(record: FlowRecord) -> dict[str, str]:
    family = record.source.family
    protocol, detail = record.service.protocol, record.service.detail
    fields = {
        "flowStartMilliseconds": _time(record.start),
        "flowEndMilliseconds": _time(record.end),
        f"sourceIPv{family}Address": str(record.source),
        f"destinationIPv{family}Address": str(record.destination),
        "protocolIdentifier": str(protocol),
        "tcpControlBits": "" if record.tcp_flags is None else str(record.tcp_flags),
        "packetDeltaCount": str(record.packets),
        "octetDeltaCount": str(record.octets),
        "firewallEvent": _EVENTS.get(record.event, ""),
        "observationPointId": record.point or "",
        "biflowDirection": str(record.direction or ""),
    }
    if record.source_port is not None:
        fields |= {"sourceTransportPort": str(record.source_port), "destinationTransportPort": str(detail)}
    elif protocol in (ICMP, ICMP6) and detail != UNTOLD:
        fields["icmpTypeCodeIPv4" if protocol == ICMP else "icmpTypeCodeIPv6"] = str(detail)
    return fields


def _time(moment: datetime | None) -> str:
    if moment is None:
        return ""
    return moment.astimezone(UTC).strftime("%Y-%m-%d %H:%M:%S.") + f"{moment.microsecond // 1000:03d}"
