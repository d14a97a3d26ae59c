"""Conversations that come to the same, summed up: small, and the same wherever they were made."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import Conclusion, FlowAsked
from kiboko.core.header.services import Service
from kiboko.core.records.columns import has_ports
from kiboko.core.records.flow_table import AddressTable, FlowTable, joined
from kiboko.core.records.narrow import Narrow, put_away, whole
from kiboko.core.records.records import FlowRecord

Rows = NDArray[np.int64]
_COLUMN = (np.ndarray, Narrow)


@dataclass(frozen=True, slots=True)
class Tally:
    """Conversations of one table that come to the same, summed up.

    `concluded` is what they come to, `flow` what was asked in the first of them, `record` its first record. `alike` are
    the lowest and the highest service number that no rule tells from theirs, `met` those among them. `replies` of the
    `count` records are of those that were sent to, with `reply_packets` and
    `reply_octets` of all. Packets and octets count once, at however many points they were
    recorded. `first` and `last` are milliseconds since 1970, `NO_TIME` where no record had a time.
    """

    concluded: Conclusion
    flow: FlowAsked
    record: FlowRecord
    alike: tuple[int, int]
    met: tuple[int, int]
    conversations: int
    count: int
    replies: int
    packets: int
    octets: int
    reply_packets: int
    reply_octets: int
    first: int
    last: int


@dataclass(frozen=True, slots=True)
class Tallies:
    """`m` tallies as columns: small, and the same wherever they were made. `examples` has the first record of each, in
    the order in which they come; `source` and `target` int64[m] are the places among `addresses` of those that were
    asked about, `service` and `port` int64[m] on what, from which client port, -1 for none; `passed` int64[m] how many
    steps of the request's way were passed for sure. `conclusion` int64[m] is an index of `concluded`;
    `alike` and `met` int64[m, 2]; the rest int64[m] each.

    From another process, and where they are kept, they come put away (`kiboko.core.records.narrow`).
    """

    concluded: tuple[Conclusion, ...]
    conclusion: Rows
    examples: FlowTable
    addresses: AddressTable
    source: Rows
    target: Rows
    service: Rows
    port: Rows
    passed: Rows
    alike: Rows
    met: Rows
    conversations: Rows
    count: Rows
    replies: Rows
    packets: Rows
    octets: Rows
    reply_packets: Rows
    reply_octets: Rows
    first: Rows
    last: Rows

    def __reduce__(self) -> tuple[type[Tallies], tuple[Any, ...]]:
        # Not by its state, which Python before 3.11.4 does not ask a frozen class with slots about.
        away = put_away(self)  # and so they stay in the other process
        return Tallies, tuple(getattr(away, each.name) for each in dataclasses.fields(away))

    def __len__(self) -> int:
        return len(self.conclusion)

    def taken(self, rows: Rows) -> Tallies:
        """Some of them, with no more addresses than they have."""
        columns = {each.name: getattr(self, each.name) for each in dataclasses.fields(self)}
        columns |= {name: column[rows] for name, column in columns.items() if isinstance(column, _COLUMN)}
        used, places = self._used(columns["source"], columns["target"])
        columns |= {
            "examples": joined([self.examples.taken(rows)]), "addresses": self.addresses.taken(used),
            "source": places[columns["source"]], "target": places[columns["target"]],
        }  # fmt: skip
        return Tallies(**columns)

    def _used(self, source: Rows, target: Rows) -> tuple[Rows, Rows]:
        """The addresses that some tallies have, and for each address of all its place among those."""
        is_used = np.zeros(len(self.addresses), dtype=np.bool_)
        is_used[source] = is_used[target] = True
        return np.flatnonzero(is_used), np.cumsum(is_used) - 1

    def ends(self, number: Callable[[AddressTable], Rows], rows: Rows | None = None) -> tuple[Rows, Rows]:
        """A number for each sender and for each address that was sent to, int64[m] both, by what numbers addresses: it
        is asked once about each that they have. Of some `rows` alone, where they are given."""
        source, target = (whole(side) if rows is None else side[rows] for side in (self.source, self.target))
        used, _ = self._used(source, target)
        numbers = np.zeros(len(self.addresses), dtype=np.int64)
        numbers[used] = number(self.addresses.taken(used))
        return numbers[source], numbers[target]

    def turned_round(self) -> Tallies:
        """The same as if the other end had begun each of them: its requests were what were taken for replies."""
        service, port = turned_round(self.service, self.port)
        return dataclasses.replace(
            self, source=self.target, target=self.source, service=service, port=port,
            replies=self.count - self.replies, reply_packets=self.packets - self.reply_packets,
            reply_octets=self.octets - self.reply_octets,
        )  # fmt: skip

    def __getitem__(self, index: int) -> Tally:
        low, high = self.alike[index].tolist()
        least, most = self.met[index].tolist()
        return Tally(
            self.concluded[int(self.conclusion[index])], self.flow(index),
            self.examples.record(index), (low, high), (least, most), int(self.conversations[index]),
            int(self.count[index]), int(self.replies[index]), int(self.packets[index]), int(self.octets[index]),
            int(self.reply_packets[index]), int(self.reply_octets[index]), int(self.first[index]),
            int(self.last[index]),
        )  # fmt: skip

    def flow(self, index: int) -> FlowAsked:
        """What was asked in the first conversation of a tally."""
        number, port = int(self.service[index]), int(self.port[index])
        source, target = self.addresses[self.source[index]], self.addresses[self.target[index]]
        return FlowAsked(source, target, Service(number >> 16, number & 0xFFFF),
                         port if port >= 0 else None, int(self.passed[index]))  # fmt: skip

    def __iter__(self) -> Iterator[Tally]:
        return (self[index] for index in range(len(self)))


def turned_round(service: Rows, port: Rows) -> tuple[Rows, Rows]:
    """The services and client ports of flows if the other end had begun them; of protocols with ports the port of the
    service is 0, and the client's -1, where the one that it would be is not known."""
    ported, known = has_ports(service >> 16), port > 0
    turned = np.where(ported, service & ~0xFFFF | np.where(known, port, 0), service)
    return turned, np.where(ported, np.where(known & (service & 0xFFFF > 0), service & 0xFFFF, -1), port)


def no_tallies() -> Tallies:
    """Those of no conversation at all."""
    none = np.zeros(0, dtype=np.int64)
    two = np.zeros((0, 2), dtype=np.int64)
    return Tallies((), none, FlowTable.empty(), AddressTable.of([]), *(none,) * 5, two, two, *(none,) * 9)
