"""What flow records come to by source, service, hour or any other field."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.addresses import Address
from kiboko.core.header.services import PROTOCOL_NAMES, Service
from kiboko.core.records.address_names import AddressNames
from kiboko.core.records.columns import combined, distinct, numbered
from kiboko.core.records.flow_query import MINUTE
from kiboko.core.records.flow_table import EVENTS, NO_TIME, FlowTable
from kiboko.core.records.group_sums import Groups, GroupSums

FIELDS = ("source", "destination", "service", "source-port", "protocol", "outcome", "point", "minute", "hour", "day",
          "vlan", "source-mac", "destination-mac")  # fmt: skip
_PERIODS = {"minute": MINUTE, "hour": 60 * MINUTE, "day": 1440 * MINUTE}
_LINK = {"vlan": "vlan", "source-mac": "source_mac", "destination-mac": "destination_mac"}
"""What a record says of the link, and the column that has it."""
Rows = NDArray[np.int64]


class Sums(GroupSums):
    """Records summed up by some fields of `FIELDS`.

    >>> from pathlib import Path
    >>> from kiboko.files.logs.flow_reader import tables_of
    >>> sums = Sums(("service",))
    >>> for table, _ in tables_of(Path("evidence/flows.csv")):
    ...     sums.add(table)
    >>> [(key, each.records) for key, each in sums.largest("records", 2)]
    [(('tcp/8883',), 191), (('tcp/22',), 13)]
    """

    def __init__(self, fields: tuple[str, ...], name: Callable[[Address], str] = str) -> None:
        """`name` says what an address is called."""
        super().__init__(len(fields))
        self.fields = fields
        self._name = name
        self._addresses = AddressNames(self._number_of)

    def add(self, table: FlowTable) -> None:
        """Take in a table."""
        if not len(table):
            return
        columns = [self._column(name, table) for name in self.fields]
        kinds = combined(list(columns), len(table))
        keys = np.stack([column[kinds.first] for column in columns]) if columns else np.zeros((0, len(kinds)), np.int64)
        groups = Groups(
            keys, kinds.counts(), kinds.sums(table.packets), kinds.sums(table.octets),
            kinds.least(table.start, int(NO_TIME)), kinds.most(table.last()), np.zeros(len(kinds), np.int64),
        )  # fmt: skip
        self.take(groups, groups.total())

    # What values are called.

    def _number_of(self, address: Address) -> int:
        return self.number(self._name(address))

    def _column(self, name: str, table: FlowTable) -> Rows:
        """The numbers of the texts of a field, int64[n]."""
        if name in ("source", "destination"):
            used, codes = numbered(table.source if name == "source" else table.destination)
            return self._addresses.numbers(table.addresses.taken(used))[codes]
        kinds = distinct(_codes(name, table))
        texts = [self.number(_text(name, table, row)) for row in kinds.first.tolist()]
        found: Rows = np.array(texts, dtype=np.int64)[kinds.codes]
        return found


def _codes(name: str, table: FlowTable) -> Rows:
    """A number for each value of a field that is no address, int64[n]."""
    if name == "service":
        return table.protocol.astype(np.int64) << 16 | table.detail
    if name in _PERIODS:
        return np.where(table.start == NO_TIME, NO_TIME, table.start // _PERIODS[name])
    if name == "source-port":
        return table.source_port.astype(np.int64)
    if name == "protocol":
        return table.protocol.astype(np.int64)
    if name in _LINK:
        return table.optional(_LINK[name]).astype(np.int64)
    return (table.event if name == "outcome" else table.point).astype(np.int64)


def _text(name: str, table: FlowTable, row: int) -> str:
    """What a record says in a field that is no address."""
    protocol = int(table.protocol[row])
    if name == "service":
        return str(Service(protocol, int(table.detail[row])))
    if name in _PERIODS:
        start = int(table.start[row])
        return "no time" if start == NO_TIME else _moment(start - start % _PERIODS[name], name)
    if name == "source-port":
        return str(table.source_port[row]) if table.source_port[row] >= 0 else "-"
    if name == "protocol":
        return PROTOCOL_NAMES.get(protocol, str(protocol))
    if name in _LINK:
        number = int(table.optional(_LINK[name])[row])
        return "-" if number < 0 else mac_text(number) if name != "vlan" else str(number)
    return EVENTS[table.event[row]] if name == "outcome" else table.points[table.point[row]] or "-"


def mac_text(number: int) -> str:
    """A MAC address by its number of 48 bits."""
    return number.to_bytes(6).hex(":")


def _moment(milliseconds: int, period: str) -> str:
    moment = datetime.fromtimestamp(milliseconds / 1000, UTC)
    return f"{moment:%Y-%m-%d}" if period == "day" else f"{moment:%Y-%m-%d %H:%M}Z"
