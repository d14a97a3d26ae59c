"""What flow records come to by source, service, hour or any other field: groups as columns, of which a log of a large
network has hundreds of thousands."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.addresses import Address
from kiboko.core.header.services import PROTOCOL_NAMES, Service
from kiboko.core.records.address_names import AddressNames
from kiboko.core.records.columns import combined, distinct, numbered
from kiboko.core.records.flow_query import MINUTE
from kiboko.core.records.flow_table import EVENTS, NO_TIME, FlowTable

FIELDS = ("source", "destination", "service", "source-port", "protocol", "outcome", "point", "minute", "hour", "day",
          "vlan", "source-mac", "destination-mac")  # fmt: skip
MEASURES = ("octets", "packets", "records")
"""What groups may be ranked by."""
_PERIODS = {"minute": MINUTE, "hour": 60 * MINUTE, "day": 1440 * MINUTE}
_LINK = {"vlan": "vlan", "source-mac": "source_mac", "destination-mac": "destination_mac"}
"""What a record says of the link, and the column that has it."""
_MOST_GROUPS = 2_000_000
_FEW_WAITING = 1 << 18
Rows = NDArray[np.int64]


@dataclass(slots=True)
class Sum:
    """What some records come to: how many, packets, octets, and the time they cover in milliseconds since 1970."""

    records: int = 0
    packets: int = 0
    octets: int = 0
    first: int = int(NO_TIME)
    last: int = int(NO_TIME)

    def add(self, records: int, packets: int, octets: int, first: int, last: int) -> None:
        """Take in more records."""
        self.records += records
        self.packets += packets
        self.octets += octets
        if first != NO_TIME and (self.first == NO_TIME or first < self.first):
            self.first = first
        self.last = max(self.last, last)


@dataclass(frozen=True, slots=True)
class _Groups:
    """`g` groups of as many fields as there are: `keys` int64[fields, g] are numbers of texts; `records`, `packets` and
    `octets` [g] are counts, whole numbers of any size where they might be too large for int64; `first` and `last`
    int64[g] are in milliseconds since 1970, `NO_TIME` for none."""

    keys: Rows
    records: Rows
    packets: NDArray[Any]
    octets: NDArray[Any]
    first: Rows
    last: Rows

    def __len__(self) -> int:
        return len(self.records)

    @classmethod
    def joined(cls, parts: list[_Groups]) -> _Groups:
        """Groups one behind the other."""
        return cls(*(np.concatenate([getattr(part, name) for part in parts], axis=-1) for name in cls.__slots__))

    def by_key(self) -> _Groups:
        """Groups of one key made one, in the order in which keys are met."""
        kinds = combined(list(self.keys), len(self))
        if len(kinds) == len(self):
            return self
        return _Groups(
            self.keys[:, kinds.first], kinds.sums(self.records), kinds.sums(self.packets), kinds.sums(self.octets),
            kinds.least(self.first, int(NO_TIME)), kinds.most(self.last),
        )  # fmt: skip

    def taken(self, rows: Rows | slice) -> _Groups:
        """Some of them."""
        return _Groups(*(getattr(self, name)[..., rows] for name in _Groups.__slots__))

    def total(self) -> Sum:
        """What all of them come to."""
        timed = self.first[self.first != NO_TIME]
        return Sum(
            int(self.records.sum()), sum(self.packets.tolist()), sum(self.octets.tolist()),
            int(timed.min()) if len(timed) else int(NO_TIME), int(self.last.max(initial=NO_TIME)),
        )  # fmt: skip


class Sums:
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
        self.fields = fields
        self.total = Sum()
        self._name = name
        self._numbers: dict[str, int] = {}
        self._addresses = AddressNames(self._number_of)
        self._groups: list[_Groups] = []
        """What was taken in; of the first no two have one key."""
        self._left_out = 0

    def __len__(self) -> int:
        return len(self._all())

    @property
    def left_out(self) -> int:
        """Records of further groups, once there are too many to hold."""
        self._all()
        return self._left_out

    def add(self, table: FlowTable) -> None:
        """Take in a table."""
        if not len(table):
            return
        columns = [self._column(name, table) for name in self.fields]
        kinds = combined(list(columns), len(table))
        keys = np.stack([column[kinds.first] for column in columns]) if columns else np.zeros((0, len(kinds)), np.int64)
        groups = _Groups(
            keys, kinds.counts(), kinds.sums(table.packets), kinds.sums(table.octets),
            kinds.least(table.start, int(NO_TIME)), kinds.most(table.last()),
        )  # fmt: skip
        self._take(groups, groups.total())

    def merge(self, other: Sums) -> None:
        """Take in what others of the same fields came to."""
        mine = np.array([self._number(text) for text in other._numbers], dtype=np.int64)
        groups = other._all()
        self._left_out += other._left_out
        self._take(dataclasses.replace(groups, keys=mine[groups.keys]), other.total)

    def __reduce__(self) -> tuple[Any, ...]:
        # What names addresses stays: all that were met are named already.
        return _made_again, (self.fields, self.total, list(self._numbers), self._all(), self._left_out)

    def _take(self, groups: _Groups, total: Sum) -> None:
        self.total.add(total.records, total.packets, total.octets, total.first, total.last)
        self._groups.append(groups)
        if sum(map(len, self._groups[1:])) > max(_FEW_WAITING, len(self._groups[0])):
            self._all()

    def _all(self) -> _Groups:
        """All groups, each in one row."""
        if len(self._groups) != 1 or len(self._groups[0]) > _MOST_GROUPS:
            none = np.zeros(0, dtype=np.int64)
            start = _Groups(np.zeros((len(self.fields), 0), dtype=np.int64), none, none, none, none, none)
            found = _Groups.joined([start, *self._groups]).by_key()
            if len(found) > _MOST_GROUPS:
                self._left_out += int(found.records[_MOST_GROUPS:].sum())
                found = found.taken(slice(0, _MOST_GROUPS))
            self._groups = [found]
        return self._groups[0]

    # What values are called.

    def _number(self, text: str) -> int:
        return self._numbers.setdefault(text, len(self._numbers))

    def _number_of(self, address: Address) -> int:
        return self._number(self._name(address))

    def _column(self, name: str, table: FlowTable) -> Rows:
        """The numbers of the texts of a field, int64[n]."""
        if name in ("source", "destination"):
            used, codes = numbered(table.source if name == "source" else table.destination)
            return self._addresses.numbers(table.addresses.taken(used))[codes]
        kinds = distinct(_codes(name, table))
        texts = [self._number(_text(name, table, row)) for row in kinds.first.tolist()]
        found: Rows = np.array(texts, dtype=np.int64)[kinds.codes]
        return found

    # Read.

    def largest(self, by: str, most: int | None = None) -> list[tuple[tuple[str, ...], Sum]]:
        """The groups with most of a measure of `MEASURES`, the largest first, equal ones by name; None for all."""
        groups, texts = self._all(), list(self._numbers)
        measure = getattr(groups, by).tolist()
        rows: Iterable[int] = range(len(groups))
        if most is not None and 0 < most < len(groups):
            least = sorted(measure, reverse=True)[most - 1]
            rows = [row for row, value in enumerate(measure) if value >= least]
        names = {row: tuple(texts[number] for number in groups.keys[:, row].tolist()) for row in rows}
        ranked = sorted(names, key=lambda row: (-measure[row], names[row]))[:most]
        return [(names[row], self._sum(groups, row)) for row in ranked]

    @property
    def groups(self) -> dict[tuple[str, ...], Sum]:
        """All groups by their texts: an object for each."""
        return dict(self.largest("records"))

    def _sum(self, groups: _Groups, row: int) -> Sum:
        columns = (groups.records, groups.packets, groups.octets, groups.first, groups.last)
        return Sum(*(int(column[row]) for column in columns))


def _made_again(fields: tuple[str, ...], total: Sum, texts: list[str], groups: _Groups, left_out: int) -> Sums:
    made = Sums(fields)
    made.total, made._groups, made._left_out = total, [groups], left_out
    made._numbers = {text: number for number, text in enumerate(texts)}
    return made


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
