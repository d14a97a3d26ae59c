"""Which ports tell who was sent to (clause E2): those that services have, and that clients do not send from."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import TCP, WELL_KNOWN, WITH_PORTS, parse_services
from kiboko.core.network.model import Topology, listened
from kiboko.core.tables.subject import client_ports

_WELL_KNOWN = 1024
_FTP_DATA = 20
"""A port that servers open connections from (RFC 959, section 3.2), and that nobody sends to unasked."""
_DYNAMIC = RangeSet.span(32768, 65535)
"""What clients send from by default: the range of IANA (RFC 6335), and that of Linux."""
_FEW = 16
"""As many ports in a row are named for a service that has them; of more, such as those that a server hands out one by
one, clients use those that they send from as well."""


def served(topology: Topology) -> list[RangeSet]:
    """The services that somebody listens to or that have a name, a set for each listener and name."""
    shipped = [parse_services(text) for texts in WELL_KNOWN.values() for text in texts]
    return [*listened(topology.instances.values()), *topology.services.values(), *shipped]


def sent_to(topology: Topology) -> RangeSet:
    """The numbers of the services whose ports tell who was sent to: of a name, in the network file or as it ships; that
    somebody listens to; or that a rule names by themselves. Of many in a row those that clients send from tell
    nothing."""
    clients = _DYNAMIC
    for ports in client_ports(topology):
        clients = clients | ports
    rules = {rule.services for chosen in topology.filters.values() for rule in chosen.every_rule() if rule.services}
    return RangeSet.of([*_telling(served(topology), clients), *_telling(rules, None)])


def _telling(sets: Iterable[RangeSet], clients: RangeSet | None) -> Iterator[tuple[int, int]]:
    """The stretches of some sets of services that are short, and of longer ones what `clients` do not send from;
    nothing of these where that is None."""
    for low, high in (each for services in sets for each in services):
        protocol = low >> 16
        if high - low < _FEW:
            yield low, high
        elif clients is not None and protocol == high >> 16 and protocol in WITH_PORTS:
            used = RangeSet.of((protocol << 16 | first, protocol << 16 | last) for first, last in clients)
            yield from RangeSet.span(low, high) - used


class KnownPorts:
    """Ports that are sent to rather than from: below 1024 (but for that of FTP's data), named or listened to; a look-up
    for whole columns."""

    def __init__(self, services: RangeSet) -> None:
        """`services` are the numbers of those that are named or listened to (`sent_to`)."""
        # A row for each protocol with ports, and one for all others.
        self._row_of = np.zeros(1 << 8, dtype=np.int32)
        self._row_of[list(WITH_PORTS)] = np.arange(1, len(WITH_PORTS) + 1)
        is_known = np.zeros((len(WITH_PORTS) + 1, 1 << 16), dtype=np.bool_)
        is_known[1:, :_WELL_KNOWN] = True
        for low, high in services:
            for protocol in range(low >> 16, (high >> 16) + 1):
                first, last = max(low, protocol << 16) & 0xFFFF, min(high, protocol << 16 | 0xFFFF) & 0xFFFF
                is_known[self._row_of[protocol], first : last + 1] = True
        is_known[0] = is_known[self._row_of[TCP], _FTP_DATA] = False
        self._is_known = is_known.reshape(-1)

    def among(self, protocols: NDArray[np.uint8], ports: NDArray[np.int32]) -> NDArray[np.bool_]:
        """Which ports of which protocols are, bool[n]; a port of -1 is none, and one of 0 neither."""
        found: NDArray[np.bool_] = self._is_known[self._row_of[protocols] << 16 | np.maximum(ports, 0)] & (ports > 0)
        return found
