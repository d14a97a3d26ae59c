"""The two ends of conversations, by columns: by which addresses of theirs they were asked, and what they asked."""

from __future__ import annotations

from collections.abc import Callable
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
    that it sent to, the service's number, the client's port (-1 where none is recorded; then that of the service is 0
    where it is not either); which kind of proof there is, and where it was recorded (a number of `Traces`)."""

    sender: Rows
    target: Rows
    service: Rows
    port: Rows
    proof: Rows
    trace: Rows

    def taken(self, rows: Rows | Truths) -> Asked:
        """Some of them."""
        columns = self.sender, self.target, self.service, self.port, self.proof, self.trace
        return Asked(*(column[rows] for column in columns))


@dataclass(frozen=True, slots=True)
class Addressed:
    """The two ends of conversations by the atoms of their own addresses; and for each of the two the address by which
    the other sent to it, if that began. `by_public` are conversations of which a record shows that a public address was
    used: it has one, or was taken where such addresses are translated; `by_own` those of which one has none. Of those
    that `may_be_two` one without was taken in front of that, beside others or where some may be missing; None for
    none."""

    ends: SeenEnds
    one: Rows
    other: Rows
    targets: tuple[Rows, Rows]
    ports: tuple[Rows, Rows]
    protocol: Rows
    detail: Rows
    by_public: Truths
    by_own: Truths
    may_be_two: Truths | None

    @classmethod
    def of(
        cls, table: FlowTable, found: Conversations, ends: SeenEnds, internet: Truths | None, beyond: Truths | None,
        may_lack: Callable[[], Truths],
    ) -> Addressed:  # fmt: skip
        """Those of the conversations of a table. `internet` and `beyond` bool[n] are the records that were taken where
        public addresses are translated, and at the edge of an outside; None for none. `may_lack` tells which
        conversations, bool[k], may lack records, as in samples of packets, and is asked where that matters."""
        atoms = ends.atoms(table.addresses)
        own, public = ends.own(atoms), ends.is_public(atoms)
        shown = public[table.source] | public[table.destination]
        # At the edge of an outside there is the address that was sent to, whoever it is that sent (S38).
        bare = beyond & ~shown if beyond is not None else None
        if public.any():
            by_public = found.union(shown if internet is None else shown | internet)
            by_own = found.union(~shown)
        else:
            by_public = np.zeros(len(found), dtype=np.bool_) if internet is None else found.union(internet)
            by_own = np.ones(len(found), dtype=np.bool_)
        rows, turned = found.first, found.side[found.first]
        # Without a client's port nothing tells what was sent to the one address from what was sent to the other.
        is_apart = has_ports(table.protocol[rows]) & (table.source_port[rows] > 0) & (table.detail[rows] > 0)
        may_be_two = is_bare = None
        if bare is not None:
            is_bare = found.union(bare)
            may_be_two = is_bare & (by_public | ~is_apart)
            # What was seen behind may be of what was sent to the public address, which a sample of packets left out.
            is_followed = is_bare & found.union(~shown & ~bare)
            if is_followed.any():
                may_be_two |= is_followed & may_lack()
        near, far = own[table.source[rows]], own[table.destination[rows]]
        one, other = np.where(turned, far, near), np.where(turned, near, far)
        ports = [column[rows].astype(np.int64) for column in (table.source_port, table.detail)]
        return cls(
            ends, one, other,
            (ends.target(other, one, by_public, is_bare), ends.target(one, other, by_public, is_bare)),
            (np.where(turned, ports[1], ports[0]), np.where(turned, ports[0], ports[1])),
            table.protocol[rows].astype(np.int64), ports[1], by_public, by_own, may_be_two,
        )  # fmt: skip

    def sent_to(self, turned: bool) -> tuple[Rows, Rows]:
        """The senders, and the addresses that they sent to, if the first end began, or the second (`turned`)."""
        return (self.other, self.targets[0]) if turned else (self.one, self.targets[1])

    def other_targets(self, turned: Truths) -> Rows:
        """The addresses that senders may have used as well, -1 for none."""
        sender, receiver = np.where(turned, self.other, self.one), np.where(turned, self.one, self.other)
        return self.ends.other_target(sender, receiver, self.by_public, self.by_own, self.may_be_two)

    def taken(self, rows: Rows) -> Addressed:
        """Those of some conversations."""
        targets, ports = ((one[rows], other[rows]) for one, other in (self.targets, self.ports))
        columns = self.protocol[rows], self.detail[rows], self.by_public[rows], self.by_own[rows]
        two = self.may_be_two[rows] if self.may_be_two is not None else None
        return Addressed(self.ends, self.one[rows], self.other[rows], targets, ports, *columns, two)

    def asked(self, turned: Truths, proofs: tuple[Rows, Rows], traces: tuple[Rows, Rows]) -> Asked:
        """What is asked, if the second end began (`turned`, bool[k]), or else the first. `proofs` and `traces` are what
        is proved, and where, if the first began and if the second did, int64[k] each."""
        sender, target = (np.where(turned, *sides) for sides in zip(self.sent_to(True), self.sent_to(False)))
        client, port = np.where(turned, *self.ports[::-1]), np.where(turned, *self.ports)
        ported = has_ports(self.protocol)
        # Port 0 is none: whoever records it has no other (RFC 768), as of the later fragments of a packet.
        known = port > 0
        detail = np.where(ported, np.where(known, port, 0), self.detail)
        icmp = np.flatnonzero(is_icmp(self.protocol))
        if len(icmp):
            protocol, kind = self.protocol[icmp], self.detail[icmp] >> 8
            # An echo request is asked about where a reply alone was recorded too.
            answers = (protocol == ICMP) & (kind == 0) | (protocol == ICMP6) & (kind == 129)
            detail[icmp[answers]] = np.where(protocol[answers] == ICMP, 8, 128) << 8
        client = np.where(ported & known & (client > 0), client, NONE)
        proof, trace = (np.where(turned, *pair[::-1]) for pair in (proofs, traces))
        return Asked(sender, target, self.protocol << 16 | detail, client, proof, trace)
