"""Many flow records as columns: what `kiboko.core.evidence.evaluator` judges at once."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.addresses import Address, ipv6_text
from kiboko.core.header.services import WITH_PORTS, Service
from kiboko.core.records.columns import distinct
from kiboko.core.records.narrow import Narrow
from kiboko.core.records.records import DENIED, PASSED, SEEN, FlowRecord

NO_TIME = np.iinfo(np.int64).min
"""Stands for a time that was not recorded."""
_LOW = (1 << 64) - 1
EVENTS = (SEEN, PASSED, DENIED)


@functools.cache
def _halves() -> list[str]:
    """Each half of an IPv4 address in dotted decimals."""
    decimals = list(map(str, range(256)))
    return [f"{one}.{other}" for one in decimals for other in decimals]


@dataclass(frozen=True, slots=True)
class AddressTable:
    """`m` addresses as columns: `family` uint8[m], 4 or 6, and the address as a number, its upper 64 bits `high`
    uint64[m] and its lower ones `low` uint64[m]."""

    family: NDArray[np.uint8]
    high: NDArray[np.uint64]
    low: NDArray[np.uint64]

    @classmethod
    def of(cls, addresses: Iterable[Address]) -> AddressTable:
        """Some addresses as columns."""
        known = list(addresses)
        return cls(
            np.array([a.family for a in known], dtype=np.uint8),
            np.array([a.value >> 64 for a in known], dtype=np.uint64),
            np.array([a.value & _LOW for a in known], dtype=np.uint64),
        )

    def __len__(self) -> int:
        return len(self.family)

    def __getitem__(self, index: int) -> Address:
        return Address(int(self.family[index]), int(self.high[index]) << 64 | int(self.low[index]))

    def taken(self, rows: NDArray[np.int64]) -> AddressTable:
        """Some of them."""
        return AddressTable(self.family[rows], self.high[rows], self.low[rows])

    def and_more(self, other: AddressTable) -> AddressTable:
        """These, and others behind them."""
        if not len(other):
            return self
        return AddressTable(
            np.concatenate([self.family, other.family]), np.concatenate([self.high, other.high]),
            np.concatenate([self.low, other.low]),
        )  # fmt: skip

    def firsts(self) -> NDArray[np.int64]:
        """The place of the first that is equal to each, int64[m]: an address may be there more than once."""
        kinds = distinct(self.family, self.high, self.low)
        return kinds.first[kinds.codes]

    def texts(self) -> list[str]:
        """Each as text, as `str` of it is."""
        four = self.family == 4
        half, numbers = _halves(), self.low[four]
        upper, lower = (numbers >> np.uint64(16)).tolist(), (numbers & np.uint64(0xFFFF)).tolist()
        short = [f"{half[one]}.{half[other]}" for one, other in zip(upper, lower, strict=True)]
        if len(short) == len(self):
            return short
        both = np.stack([self.high[~four], self.low[~four]], axis=1).astype(">u8").tobytes()
        found = np.empty(len(self), dtype=object)
        found[four], found[~four] = short, [ipv6_text(both[at : at + 16]) for at in range(0, len(both), 16)]
        texts: list[str] = found.tolist()
        return texts


_OPTIONAL: dict[str, tuple[type[np.integer[Any]], int]] = {
    "direction": (np.uint8, 0), "vlan": (np.int32, -1), "source_mac": (np.int64, -1), "destination_mac": (np.int64, -1),
    "file": (np.int32, 0),
}  # fmt: skip
"""Columns that most logs do not have: their types, and what stands for none."""


@dataclass(frozen=True, slots=True)
class FlowTable:
    """`n` flow records, one direction each.

    `addresses` are the addresses that occur, some of them perhaps more than once; `source` and `destination` int64[n]
    are their indices. `protocol` is
    uint8[n]; `source_port` int32[n], -1 where there is none; `detail` int32[n] the destination port, or type and code
    of ICMP. `event` is uint8[n], an index of `EVENTS`; `flags` int32[n] the TCP flags (RFC 9293), -1 for none.
    `start` and `end` are int64[n] in milliseconds since 1970 UTC, `NO_TIME` where not recorded; `packets` and
    `octets` int64[n] counts; `point` int64[n] indices of `points`; `line` int64[n] from 1. `direction` is uint8[n],
    1 where a biflow says that a record is of whoever began, 2 of whoever answered (`biflowDirection`, RFC 5103), 0
    where nothing is said; None where that holds for all. `vlan` int32[n] (IEEE 802.1Q), and MAC addresses as numbers of
    48 bits, `source_mac` and `destination_mac` int64[n], are -1 where there is none; None where no record has one.
    `file` int32[n] tells those of several files apart that were read together; None where all are of one.
    """

    addresses: AddressTable
    source: NDArray[np.int64]
    destination: NDArray[np.int64]
    protocol: NDArray[np.uint8]
    source_port: NDArray[np.int32]
    detail: NDArray[np.int32]
    event: NDArray[np.uint8]
    flags: NDArray[np.int32]
    start: NDArray[np.int64]
    end: NDArray[np.int64]
    packets: NDArray[np.int64]
    octets: NDArray[np.int64]
    points: tuple[str | None, ...]
    point: NDArray[np.int64]
    line: NDArray[np.int64]
    direction: NDArray[np.uint8] | None = None
    vlan: NDArray[np.int32] | None = None
    source_mac: NDArray[np.int64] | None = None
    destination_mac: NDArray[np.int64] | None = None
    file: NDArray[np.int32] | None = None

    @classmethod
    def empty(cls) -> FlowTable:
        """A table of no records."""
        return table_of([])

    def __len__(self) -> int:
        return len(self.source)

    def taken(self, rows: NDArray[np.bool_] | NDArray[np.int64] | slice) -> FlowTable:
        """Some of the records, by a mask, their indices or a slice."""
        columns = {each.name: getattr(self, each.name) for each in dataclasses.fields(self)}
        chosen: dict[str, Any] = {n: c[rows] if isinstance(c, (np.ndarray, Narrow)) else c for n, c in columns.items()}
        return FlowTable(**chosen)

    def optional(self, name: str) -> NDArray[Any]:
        """A column that may be None, with what stands for none in every row."""
        known: NDArray[Any] | None = getattr(self, name)
        kind, none = _OPTIONAL[name]
        return np.full(len(self), none, dtype=kind) if known is None else known

    def began(self) -> NDArray[np.int64]:
        """When each record began, int64[n]."""
        return self.start

    def last(self) -> NDArray[np.int64]:
        """The last time that each record knows of, int64[n]."""
        if not len(self) or int(self.end.min()) != NO_TIME:
            return self.end
        return np.where(self.end == NO_TIME, self.start, self.end)

    def within(self, since: int | None, until: int | None) -> NDArray[np.bool_]:
        """Which records touch a time, in milliseconds since 1970, bool[n]. Where a time is asked for, those without one
        do not; None leaves a side open."""
        if since is None and until is None:
            return np.ones(len(self), dtype=np.bool_)
        last = self.last()
        keep = self.start != NO_TIME
        if since is not None:
            keep &= last >= since
        if until is not None:
            keep &= self.start < until
        found: NDArray[np.bool_] = keep
        return found

    def record(self, index: int) -> FlowRecord:
        """One of the records."""
        protocol = int(self.protocol[index])
        port, flags = int(self.source_port[index]), int(self.flags[index])
        return FlowRecord(
            self.addresses[self.source[index]], self.addresses[self.destination[index]],
            Service(protocol, int(self.detail[index])), port if protocol in WITH_PORTS and port >= 0 else None,
            EVENTS[self.event[index]], moment(int(self.start[index])), moment(int(self.end[index])),
            int(self.packets[index]), int(self.octets[index]), flags if flags >= 0 else None,
            self.points[self.point[index]], int(self.line[index]),
            int(self.direction[index]) if self.direction is not None else 0,
        )  # fmt: skip


def joined(tables: Sequence[FlowTable]) -> FlowTable:
    """Tables one behind the other, with no more addresses than occur."""
    used, places = [], []
    for each in tables:
        is_used = np.zeros(len(each.addresses), dtype=np.bool_)
        is_used[each.source] = is_used[each.destination] = True
        used.append(np.flatnonzero(is_used))
        places.append(np.cumsum(is_used) - 1)
    starts = np.cumsum([0, *map(len, used)])
    points: dict[str | None, int] = {}
    columns: dict[str, list[Any]] = {name: [] for name in (field.name for field in dataclasses.fields(FlowTable))}
    for table, place, start in zip(tables, places, starts, strict=False):
        codes = np.array([points.setdefault(point, len(points)) for point in table.points], dtype=np.int64)
        for name, column in columns.items():
            if name in ("source", "destination"):
                column.append(start + place[getattr(table, name)])
            elif name == "point":
                column.append(codes[table.point] if len(table) else table.point)
            elif name in _OPTIONAL:
                column.append(table.optional(name))
            elif name not in ("addresses", "points"):
                column.append(getattr(table, name))
    chosen = [(t.addresses.family[own], t.addresses.high[own], t.addresses.low[own]) for t, own in zip(tables, used)]
    addresses = AddressTable(*(np.concatenate(parts) for parts in zip(*chosen, strict=True)))
    for name in _OPTIONAL:
        if all(getattr(table, name) is None for table in tables):
            columns[name] = []
    whole = {name: np.concatenate(parts) for name, parts in columns.items() if parts}
    return FlowTable(addresses=addresses, points=tuple(points), **whole)


def moment(milliseconds: int) -> datetime | None:
    """A column's time as a moment; None for `NO_TIME`."""
    return None if milliseconds == NO_TIME else datetime.fromtimestamp(milliseconds / 1000, UTC)


def milliseconds(moment: datetime | None) -> int:
    """A moment as a column holds it."""
    return int(NO_TIME) if moment is None else round(moment.timestamp() * 1000)


def table_of(records: list[FlowRecord]) -> FlowTable:
    """Records as columns."""
    addresses: dict[Address, int] = {}
    points: dict[str | None, int] = {None: 0}

    def column(values: list[int], kind: type) -> NDArray:  # type: ignore[type-arg]
        return np.array(values, dtype=kind)

    return FlowTable(
        source=column([addresses.setdefault(r.source, len(addresses)) for r in records], np.int64),
        destination=column([addresses.setdefault(r.destination, len(addresses)) for r in records], np.int64),
        protocol=column([r.service.protocol for r in records], np.uint8),
        source_port=column([-1 if r.source_port is None else r.source_port for r in records], np.int32),
        detail=column([r.service.detail for r in records], np.int32),
        event=column([EVENTS.index(r.event) for r in records], np.uint8),
        flags=column([-1 if r.tcp_flags is None else r.tcp_flags for r in records], np.int32),
        start=column([milliseconds(r.start) for r in records], np.int64),
        end=column([milliseconds(r.end) for r in records], np.int64),
        packets=column([r.packets for r in records], np.int64),
        octets=column([r.octets for r in records], np.int64),
        point=column([points.setdefault(r.point, len(points)) for r in records], np.int64),
        line=column([r.line for r in records], np.int64),
        direction=column([r.direction for r in records], np.uint8) if any(r.direction for r in records) else None,
        addresses=AddressTable.of(addresses),
        points=tuple(points),
    )
