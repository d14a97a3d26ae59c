"""Biflows (RFC 5103): records that tell of both directions of a conversation, and the record of the other one."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.services import ICMP, ICMP6, UNTOLD
from kiboko.core.records.columns import has_ports, is_icmp
from kiboko.core.records.flow_table import EVENTS, NO_TIME, FlowTable, joined
from kiboko.core.records.records import DENIED
from kiboko.files.elements.rejects import Rejects

_PORTED = has_ports(np.arange(256))
_DENIED = EVENTS.index(DENIED)
_OTHER_DIRECTION = np.array([0, 2, 1], dtype=np.uint8)


@dataclass(frozen=True, slots=True)
class Reverse:
    """The other direction of `n` biflows (RFC 5103): `direction` uint8[n] is what the record itself is, as
    `FlowTable.direction` has it."""

    packets: NDArray[np.int64]
    octets: NDArray[np.int64]
    flags: NDArray[np.int32]
    start: NDArray[np.int64]
    end: NDArray[np.int64]
    direction: NDArray[np.uint8]

    def taken(self, rows: NDArray[np.bool_] | NDArray[np.int64]) -> Reverse:
        """Those of some rows."""
        return Reverse(*(getattr(self, each.name)[rows] for each in fields(self)))

    def added_to(self, table: FlowTable, rejects: Rejects) -> FlowTable:
        """A table with a record for each direction in which there was a packet. The two of a biflow stand side by
        side, so that whoever reads a part of what is written of them has both. Of some only the other direction had
        one: an exporter may put the lower address first, whoever sends."""
        told = (self.packets > 0) | (self.octets > 0)
        both = np.flatnonzero(told)
        if self.direction.any():
            table = replace(table, direction=self.direction)
        if not len(both):
            return table
        forward, back = table.taken(both), self.taken(both)
        is_lone = (forward.packets == 0) & (forward.octets == 0) & (back.packets > 0) & (forward.event != _DENIED)
        has_ports = _PORTED[forward.protocol]
        swapped = np.where(has_ports, np.maximum(forward.source_port, 0), forward.detail).astype(np.int32)
        detail = np.where(forward.protocol == ICMP, _echoed(forward.detail, 8, 0), swapped)
        detail = np.where(forward.protocol == ICMP6, _echoed(forward.detail, 128, 129), detail)
        # Where nothing tells who began, a type may be that of what the one sent, or stand for what the other did not.
        is_untold = is_lone & (back.direction == 0) & is_icmp(forward.protocol)
        detail = np.where(is_untold, UNTOLD, detail)
        turned = replace(
            forward, source=forward.destination, destination=forward.source,
            source_port=np.where(has_ports, forward.detail, -1).astype(np.int32), detail=detail.astype(np.int32),
            flags=back.flags, packets=back.packets, octets=back.octets, direction=_OTHER_DIRECTION[back.direction],
            source_mac=forward.destination_mac, destination_mac=forward.source_mac,
            start=np.where(back.start == NO_TIME, forward.start, back.start),
            end=np.where(back.end == NO_TIME, forward.end, back.end),
        )  # fmt: skip
        lone = both[is_lone]
        told[lone] = False
        rejects.remark_all("telling of both directions: each of them is counted", table.line[told])
        order = np.argsort(np.append(np.arange(len(table)), both), kind="stable")
        found = joined([table, turned])
        return found.taken(order[~np.isin(order, lone)] if len(lone) else order)


def _echoed(detail: NDArray[np.int32], asks: int, answers: int) -> NDArray[np.int32]:
    """The type that answers an echo request, and any other as it is."""
    return np.where(detail >> 8 == asks, np.int32(answers << 8), detail)
