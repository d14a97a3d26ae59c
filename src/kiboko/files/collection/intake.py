"""What comes off the wire as tables of flow records, with everything counted that is not one."""

from __future__ import annotations

import dataclasses
from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

import numpy as np
import pyarrow as pa

from kiboko.core.records.flow_table import NO_TIME, FlowTable
from kiboko.files.elements.column_map import USUAL, ColumnMap
from kiboko.files.elements.rejects import Rejects
from kiboko.files.logs.flow_columns import Converter
from kiboko.files.logs.flow_texts import TextReader
from kiboko.files.messages.flow_messages import MessageReader
from kiboko.files.messages.syslog import flow_fields, names_flow, parse_syslog

_SKEW_MS = 60_000
_SKEWED = "messages of a clock more than a minute off"


@dataclass(slots=True)
class _Rows:
    """Rows that wait to become a table: the fields of each, who sent it and when it came, in milliseconds."""

    fields: list[Mapping[str, Any]] = field(default_factory=list)
    senders: list[str] = field(default_factory=list)
    times: list[int] = field(default_factory=list)


class Intake:
    """Takes messages in and gives tables out. `counts` has messages and faults by kind, `first` the sender of the first
    of each kind of fault."""

    def __init__(self, columns: ColumnMap = USUAL) -> None:
        self._columns = columns
        self._messages = MessageReader()
        self._texts = TextReader(columns)
        self._converter = Converter()
        self._logged = _Rows()
        self._own: Counter[str] = Counter()
        self._own_first: dict[str, str] = {}
        self.exporters: set[str] = set()

    @property
    def waiting(self) -> int:
        """How many rows wait to become a table."""
        return self._messages.records + len(self._logged.fields)

    def flow_message(self, data: bytes, sender: str, arrived: datetime) -> None:
        """An IPFIX or NetFlow message, of an address, or of a session of one (`ADDRESS#PORT`)."""
        self._messages.read(data, sender)
        sender = sender.partition("#")[0]
        self._note_sender(sender)
        if len(data) >= 16 and data[:2] in (b"\x00\x09", b"\x00\x0a"):
            at = 8 if data[1] == 9 else 4
            self._skew(int.from_bytes(data[at : at + 4], "big") * 1000, _milliseconds(arrived), sender)

    def log_message(self, data: bytes, sender: str, arrived: datetime) -> None:
        """A syslog message."""
        self._own["syslog messages"] += 1
        self._note_sender(sender)
        message = parse_syslog(data, arrived)
        fields = flow_fields(message)
        if fields is None or (not self._columns.columns and not names_flow(fields)):
            self.fault("syslog messages without a flow", sender)
            return
        moment = _milliseconds(message.time or arrived)
        self._skew(moment, _milliseconds(arrived), sender)
        self._logged.fields.append(fields)
        self._logged.senders.append(sender)
        self._logged.times.append(moment)

    def _note_sender(self, sender: str) -> None:
        if len(self.exporters) < 10_000:
            self.exporters.add(sender)

    def _skew(self, said: int, arrived: int, sender: str) -> None:
        if abs(said - arrived) > _SKEW_MS:
            self.fault(_SKEWED, sender)

    def fault(self, kind: str, sender: str, count: int = 1) -> None:
        """Count something that is no record."""
        self._own[kind] += count
        self._own_first.setdefault(kind, sender)

    @property
    def counts(self) -> Counter[str]:
        """Everything met so far, by kind."""
        return self._own + self._messages.counts

    @property
    def first(self) -> dict[str, str]:
        """The sender of the first of each kind of fault."""
        return {**self._messages.first, **self._own_first}

    @property
    def sampled(self) -> dict[tuple[str, int], int]:
        """The sampling rates by which counts are multiplied, by exporter and observation domain."""
        return self._messages.sampled

    @property
    def without_template(self) -> int:
        """How many sets of data wait for their template."""
        return self._messages.waiting

    def take(self) -> list[FlowTable]:
        """The records since the last time."""
        rows, self._logged = self._logged, _Rows()
        found = [self._exported(columns) for columns in self._messages.take()]
        if rows.fields:
            found.append(self._from_logs(rows))
        return [table for table in found if len(table)]

    def _exported(self, columns: pa.Table) -> FlowTable:
        rejects = Rejects("")
        table = self._converter.table(columns, rejects, 1)
        senders = columns.column("exporterIPv4Address")
        self._note(rejects, lambda line: str(senders[line - 1].as_py()))
        return table

    def _from_logs(self, rows: _Rows) -> FlowTable:
        rejects = Rejects("")
        fields, places = rows.fields, list(range(1, len(rows.fields) + 1))
        if self._columns.columns:
            inner = [
                (row, place)
                for each, place in zip(fields, places, strict=True)
                for row in self._texts.inside(each, place, rejects)
            ]
            fields, places = [row for row, _ in inner], [place for _, place in inner]
        batch = self._texts.objects(fields, places, 1, len(rows.fields), rejects)
        columns, at = batch.columns, batch.places or []
        if not ({"exporterIPv4Address", "exporterIPv6Address"} & set(columns.column_names)):
            senders = pa.array([rows.senders[place - 1] for place in at], pa.string())
            columns = columns.append_column("exporterIPv4Address", senders)
        table = self._converter.table(columns, rejects, 1, at)
        self._note(rejects, lambda line: rows.senders[line - 1])
        times = np.array(rows.times, dtype=np.int64)[table.line - 1]
        return dataclasses.replace(table, start=np.where(table.start == NO_TIME, times, table.start))

    def _note(self, rejects: Rejects, sender: Callable[[int], str]) -> None:
        for kind, count in rejects.counts.items():
            self.fault(f"records rejected, {kind}", sender(rejects.first[kind][0]), count)
        for kind, (line, count) in rejects.remarks.items():
            self.fault(f"records {kind}", sender(line), count)


def _milliseconds(moment: datetime) -> int:
    return round(moment.astimezone(UTC).timestamp() * 1000)
