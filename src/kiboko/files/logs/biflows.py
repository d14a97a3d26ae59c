"""Biflows (RFC 5103): records that tell of both directions of a conversation, and the record of the other one."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.services import ICMP, ICMP6, TCP
from kiboko.core.records.columns import has_ports
from kiboko.core.records.flow_table import NO_TIME, FlowTable, joined
from kiboko.files.elements.rejects import Rejects

_PORTED = has_ports(np.arange(256))
_OTHER_DIRECTION = np.array([0, 2, 1], dtype=np.uint8)
_FIN, _SYN, _RST, _PSH, _ACK = 0x01, 0x02, 0x04, 0x08, 0x10
_TOLD = 0x3F
"""The flags that tell something of who sent what."""


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
        """A table with a record for each direction in which there was a packet."""
        both = np.flatnonzero((self.packets > 0) | (self.octets > 0))
        if self.direction.any():
            table = replace(table, direction=self.direction)
        if not len(both):
            return table
        flags, of_replies = _sent_by_each(table.taken(both), self.taken(both))
        if (flags != table.flags[both]).any():
            whole = table.flags.copy()
            whole[both] = flags
            table = replace(table, flags=whole)
        forward, back = table.taken(both), replace(self.taken(both), flags=of_replies)
        has_ports = _PORTED[forward.protocol]
        swapped = np.where(has_ports, np.maximum(forward.source_port, 0), forward.detail).astype(np.int32)
        detail = np.where(forward.protocol == ICMP, _echoed(forward.detail, 8, 0), swapped)
        detail = np.where(forward.protocol == ICMP6, _echoed(forward.detail, 128, 129), detail)
        turned = replace(
            forward, source=forward.destination, destination=forward.source,
            source_port=np.where(has_ports, forward.detail, -1).astype(np.int32), detail=detail.astype(np.int32),
            flags=back.flags, packets=back.packets, octets=back.octets, direction=_OTHER_DIRECTION[back.direction],
            source_mac=forward.destination_mac, destination_mac=forward.source_mac,
            start=np.where(back.start == NO_TIME, forward.start, back.start),
            end=np.where(back.end == NO_TIME, forward.end, back.end),
        )  # fmt: skip
        told = (self.packets > 0) | (self.octets > 0)
        rejects.remark_all("telling of both directions: each of them is counted", table.line[told])
        return joined([table, turned])


def _sent_by_each(forward: FlowTable, back: Reverse) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """The TCP flags that each direction of some biflows has sent for sure, int32[n], -1 for not known.

    A record that has flags once, as the logs of sessions do, may have those of both directions together, whatever RFC
    5103 says: SYN, RST and ACK of a refused connection are no ACK of the one that was refused. That whoever began has
    sent more than SYN and RST is sure where nobody sent these, and where data or an end followed the opening.
    """
    flags = forward.flags & _TOLD
    mixed = (forward.protocol == TCP) & (forward.flags > 0) & (back.flags < 0) & (flags & (_RST | _SYN) > 0)
    mixed &= flags != _SYN
    opened, ended = flags & _SYN > 0, flags & _RST > 0
    followed = opened & (flags & _ACK > 0) & (flags & (_FIN | _PSH) > 0)
    followed &= ~ended | ((forward.packets > 1) & (back.packets > 1))
    left = mixed & ~followed
    # Of one packet each way the first is SYN alone, and the other is what answered it.
    is_one = left & opened & (forward.packets == 1) & (back.packets == 1) & (back.direction == 1)
    is_one &= flags & (_FIN | _PSH) == 0
    sent, replied = np.where(left, -1, forward.flags), back.flags
    sent = np.where(is_one, _SYN, sent)
    replied = np.where(is_one, np.where(ended, _RST | _ACK, _SYN | _ACK), replied)
    return sent.astype(np.int32), replied.astype(np.int32)


def _echoed(detail: NDArray[np.int32], asks: int, answers: int) -> NDArray[np.int32]:
    """The type that answers an echo request, and any other as it is."""
    return np.where(detail >> 8 == asks, np.int32(answers << 8), detail)
