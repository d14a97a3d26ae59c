"""The two ends of conversations, by columns: by which addresses of theirs they were asked, and what they asked."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.conversations import Conversations
from kiboko.core.evidence.seen_ends import SeenEnds
from kiboko.core.header.services import ICMP, ICMP6
from kiboko.core.records.columns import has_ports, is_icmp
from kiboko.core.records.flow_table import FlowTable
from kiboko.core.tables.places import NONE

Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class Asked:
    """What conversations ask, if one end or the other began, by columns: the atoms of the sender and of the address
    that it sent to, the service's number, the client's port; and which kind of proof there is."""

    sender: Rows
    target: Rows
    service: Rows
    port: Rows
    proof: Rows

    def taken(self, rows: Rows | Truths) -> Asked:
        """Some of them."""
        return Asked(self.sender[rows], self.target[rows], self.service[rows], self.port[rows], self.proof[rows])

    def instead(self, which: Truths, other: Asked) -> Asked:
        """These, but for some, of which others hold."""
        return Asked(*(np.where(which, theirs, own) for own, theirs in zip(self._columns(), other._columns())))

    def _columns(self) -> tuple[Rows, ...]:
        return self.sender, self.target, self.service, self.port, self.proof


@dataclass(frozen=True, slots=True)
class Addressed:
    """The two ends of conversations by the atoms of their own addresses, with what was shown of them: whether a record
    has one by its public address, and whether one was taken where such addresses are translated."""

    ends: SeenEnds
    one: Rows
    other: Rows
    ports: tuple[Rows, Rows]
    protocol: Rows
    detail: Rows
    is_shown: tuple[Truths, Truths]
    is_internet: Truths

    @classmethod
    def of(cls, table: FlowTable, found: Conversations, ends: SeenEnds, internet: Truths | None) -> Addressed:
        """Those of the conversations of a table."""
        atoms = ends.atoms(table.addresses)
        own, public = ends.own(atoms), ends.is_public(atoms)
        by_public = public[table.source], public[table.destination]
        shown = np.where(found.side, *by_public[::-1]) | np.where(found.side, *by_public) << 1
        if internet is not None:
            shown |= internet.astype(shown.dtype) << 2
        bits = found.union(shown.astype(np.uint8))
        rows, turned = found.first, found.side[found.first]
        near, far = own[table.source[rows]], own[table.destination[rows]]
        ports = [column[rows].astype(np.int64) for column in (table.source_port, table.detail)]
        return cls(
            ends, np.where(turned, far, near), np.where(turned, near, far),
            (np.where(turned, ports[1], ports[0]), np.where(turned, ports[0], ports[1])),
            table.protocol[rows].astype(np.int64), ports[1], (bits & 1 > 0, bits & 2 > 0), bits & 4 > 0,
        )  # fmt: skip

    def sent_to(self, turned: bool) -> tuple[Rows, Rows]:
        """The senders, and the addresses that they sent to, if the first end began, or the second (`turned`)."""
        sender, receiver = (self.other, self.one) if turned else (self.one, self.other)
        return sender, self.ends.target(sender, receiver, self.by_public)

    @property
    def by_public(self) -> Truths:
        """Of which a record shows that a public address was used."""
        return self.is_shown[0] | self.is_shown[1] | self.is_internet

    def other_targets(self, turned: Truths) -> Rows:
        """The addresses that senders may have used as well, -1 for none."""
        sender, receiver = np.where(turned, self.other, self.one), np.where(turned, self.one, self.other)
        return self.ends.other_target(sender, receiver, self.by_public)

    def asked(self, turned: bool, proof: Rows) -> Asked:
        """What is asked, if the first end began, or the second."""
        sender, target = self.sent_to(turned)
        client, port = (self.ports[1], self.ports[0]) if turned else self.ports
        ported = has_ports(self.protocol)
        icmp = is_icmp(self.protocol)
        kind = np.where(self.protocol == ICMP, 8, 128)
        # An echo request is asked about where a reply alone was recorded too.
        answers = (self.protocol == ICMP) & (self.detail >> 8 == 0) | (self.protocol == ICMP6) & (
            self.detail >> 8 == 129
        )
        detail = np.where(ported, np.maximum(port, 0), np.where(icmp & answers, kind << 8, self.detail))
        return Asked(sender, target, self.protocol << 16 | detail, np.where(ported, client, NONE), proof)
