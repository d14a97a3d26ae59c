"""Records of both sides of a translation of source addresses, brought together: what one record tells of the sender in
front of it and behind it says who stands behind the address that others show."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.conversations import PAUSE
from kiboko.core.records.columns import distinct
from kiboko.core.records.flow_table import NO_TIME, FlowTable

_NONE = -1


@dataclass(frozen=True, slots=True)
class Translated:
    """What records say of the sender behind a translation (`postNATSourceIPv4Address`, `postNAPTSourceTransportPort`):
    `address` int64[n] indices of the table's addresses, 0 for none, `port` int32[n], -1 for that of the record."""

    address: NDArray[np.int64]
    port: NDArray[np.int32]

    def taken(self, rows: NDArray[np.bool_]) -> Translated:
        """Those of some rows."""
        return Translated(self.address[rows], self.port[rows])


def in_front(table: FlowTable, translated: Translated) -> tuple[FlowTable, NDArray[np.bool_]]:
    """The table with the records of the far side as they are in front of the translation, and which these are, bool[n].
    Where records tell of two senders for one address, port and other end, nothing is joined; nor is what came so long
    before or behind what they tell of that another may have had the port by then."""
    first = table.addresses.firsts()
    source, destination, behind = (first[each] for each in (table.source, table.destination, translated.address))
    port = np.where(translated.port >= 0, translated.port, table.source_port)
    telling = np.flatnonzero((translated.address > 0) & (behind != source) & (port >= 0))
    if not len(telling):
        return table, np.zeros(len(table), dtype=np.bool_)
    detail, protocol = table.detail, table.protocol.astype(np.int64)
    key = [behind[telling], port[telling], destination[telling], detail[telling], protocol[telling]]
    request = [source, table.source_port, destination, detail, protocol]
    reply = [destination, detail, source, table.source_port, protocol]
    columns = [np.concatenate([np.asarray(part, dtype=np.int64) for part in each])
               for each in zip(key, request, reply, strict=True)]  # fmt: skip
    codes = distinct(*columns).codes
    own, count = codes[: len(telling)], len(table)
    inner = np.full((2, int(codes.max()) + 1), _NONE, dtype=np.int64)
    told = np.stack([source[telling], table.source_port[telling]])
    inner[:, own] = told
    inner[:, own[(inner[:, own] != told).any(axis=0)]] = _NONE  # of two senders nobody knows which it was
    begun, ended = _times(table, telling, own, inner.shape[1])
    start, last = table.start, table.last()
    sides = [codes[begin : begin + count] for begin in (len(telling), len(telling) + count)]
    asked, answered = (inner[:, each] for each in sides)
    near = [(start == NO_TIME) | ((start <= ended[each]) & (last >= begun[each])) for each in sides]
    forth, back = (asked[0] != _NONE) & near[0], (answered[0] != _NONE) & near[1]
    found = replace(
        table,
        source=np.where(forth, asked[0], table.source),
        source_port=np.where(forth, asked[1], table.source_port).astype(np.int32),
        destination=np.where(back, answered[0], table.destination),
        detail=np.where(back, answered[1], table.detail).astype(np.int32),
    )
    return found, forth | back


def _times(
    table: FlowTable, telling: NDArray[np.int64], of: NDArray[np.int64], count: int
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """From when and until when a port is taken by its sender, int64[count] each, by the records that tell of it, and as
    much longer as records of one conversation may be apart: always, where one of them has no time."""
    edge = np.iinfo(np.int64)
    start, last = table.start[telling], table.last()[telling]
    timed = start != NO_TIME
    begun, ended = np.full(count, edge.max), np.full(count, edge.min)
    np.minimum.at(begun, of, np.where(timed, start - PAUSE, edge.min))
    np.maximum.at(ended, of, np.where(timed, last + PAUSE, edge.max))
    return begun, ended
