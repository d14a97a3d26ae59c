"""Client ports where none is recorded: one for each stretch of a sender's that nothing in a network tells apart."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.filters.ground import Ground
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP6, OF_LINKS, WITH_PORTS, Service
from kiboko.core.records.columns import distinct, has_ports
from kiboko.core.tables.gate_tables import GateTables
from kiboko.core.tables.lines import NumberLine, service_line

Rows = NDArray[np.int64]


_HOP_BY_HOP, _FRAGMENT = 0, 44
"""Headers of IPv6 that stand in front of the protocol's own (RFC 8200)."""


def asked_line(ground: Ground, served: RangeSet) -> NumberLine:
    """The atoms of services as records have them, in which port 0 is apart from all that there are."""
    return service_line(ground, served, more=[protocol << 16 | 1 for protocol in WITH_PORTS])


def is_without_service(service: Rows, port: Rows) -> NDArray[np.bool_]:
    """Of which flows it is not known what they were sent to, bool[n]: no port of a protocol with ports is known (no
    service is at port 0, RFC 6335), or what stands for the protocol is none."""
    protocol = service >> 16
    portless = has_ports(protocol) & (service & 0xFFFF == 0) & (port < 0)
    found: NDArray[np.bool_] = portless | (protocol == _HOP_BY_HOP) | (protocol == _FRAGMENT)
    return found


def is_of_links(service: Rows) -> NDArray[np.bool_]:
    """Which flows are messages of ICMPv6 between neighbours alone, bool[n]: no filter of a network file is asked about
    these."""
    found: NDArray[np.bool_] = (service >> 16 == ICMP6) & np.isin(service >> 8 & 0xFF, list(OF_LINKS))
    return found


def is_beside_rules(service: Rows, port: Rows) -> NDArray[np.bool_]:
    """Of which flows rules tell nothing, whoever sent them, bool[n]."""
    return is_without_service(service, port) | is_of_links(service)


class ClientPorts:
    """Those of one network."""

    def __init__(self, tables: GateTables) -> None:
        self._tables = tables
        self._starts: dict[tuple[int, int], Rows] = {}
        """The first port of each stretch, by the atom of the sender and the protocol."""

    def spread(self, sender: Rows, service: Rows, port: Rows, recorded: Rows | None = None) -> tuple[Rows, Rows]:
        """Some flows, those without a client port (-1) once for each stretch of ports that they may have been sent
        from (clause S23).

        Parameters
        ----------
        sender : the atoms of the senders' addresses, int64[n]
        recorded : one port more that each may have been sent from, as its gateway recorded it, int64[n]; -1 for none

        Returns
        -------
        of : int64[m], which of the flows each is, ascending
        port : int64[m], its client port; -1 for protocols without ports
        """
        if recorded is not None:
            of, found = self.spread(sender, service, port)
            more = np.flatnonzero(has_ports(service >> 16) & (recorded >= 0))
            order = np.argsort(np.append(of, more), kind="stable")
            return np.append(of, more)[order], np.append(found, recorded[more])[order]
        needs = np.flatnonzero(has_ports(service >> 16) & (port < 0))
        if not len(needs):
            return np.arange(len(port)), port
        kinds = distinct(sender[needs], service[needs] >> 16)
        rows = needs[kinds.first]
        listed = zip(sender[rows].tolist(), (service[rows] >> 16).tolist(), strict=True)
        starts = [self._of(atom, protocol) for atom, protocol in listed]
        sizes = np.array([len(each) for each in starts], dtype=np.int64)
        begins = np.cumsum(sizes) - sizes
        times = np.ones(len(port), dtype=np.int64)
        times[needs] = sizes[kinds.codes]
        of = np.repeat(np.arange(len(port)), times)
        found = port[of]
        within = np.arange(len(of)) - np.repeat(np.cumsum(times) - times, times)
        kind = np.full(len(port), -1, dtype=np.int64)
        kind[needs] = kinds.codes
        several = np.flatnonzero(kind[of] >= 0)
        found[several] = np.concatenate(starts)[begins[kind[of[several]]] + within[several]]
        return of, found

    def _of(self, sender: int, protocol: int) -> Rows:
        key = sender, protocol
        if key not in self._starts:
            tables = self._tables
            endpoint = tables.places.end(sender).endpoint
            found: list[Rows] = []
            cuts = tables.services.starts
            for low, high in tables.walker.source_ports(endpoint, Service(protocol, 0)):
                first, last = np.searchsorted(cuts, [protocol << 16 | low, protocol << 16 | high], side="right")
                found += [np.array([low], dtype=np.int64), cuts[first:last] & 0xFFFF]
            self._starts[key] = np.concatenate(found)
        return self._starts[key]
