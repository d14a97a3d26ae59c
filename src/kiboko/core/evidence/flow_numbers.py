"""Flows by number, each of them asked about once: those that nothing in the network tells apart have one number."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from kiboko.core.records.columns import KeyNumbers, distinct
from kiboko.core.tables.column import Flows
from kiboko.core.tables.gate_tables import GateTables

Rows = NDArray[np.int64]
_MOST_FLOWS = 1_000_000


class FlowNumbers:
    """The numbers of flows, from 0 in the order in which they are asked about. Remembers them, within a bound.

    Parameters
    ----------
    tables : the gates, which tell flows apart
    ask : is called with flows that are not known, which get the next numbers in their order
    forget : is called where so many are known that all are let go of, and numbers begin at 0 again
    """

    def __init__(self, tables: GateTables, ask: Callable[[Flows], None], forget: Callable[[], None]) -> None:
        self._tables, self._ask, self._forget = tables, ask, forget
        self._known = KeyNumbers(2)
        self._count = 0

    def clear(self) -> None:
        """Let go of all flows."""
        self._known.clear()
        self._count = 0

    def of(self, flows: Flows) -> Rows:
        """The numbers of some flows, int64[n]."""
        pair = flows.source.astype(np.int64) * self._tables.addresses.size + flows.target
        traffic = self._tables.traffic(flows.service, flows.port)
        found = self._known.find(pair, traffic)
        rows = np.flatnonzero(found < 0)
        if len(rows):
            if self._count > _MOST_FLOWS:
                self._forget()
                self.clear()
                rows = np.arange(len(flows))
            each = distinct(pair[rows], traffic[rows])
            first = rows[each.first]
            numbers = np.arange(self._count, self._count + len(first))
            self._ask(flows.taken(first))
            self._known.note(numbers, pair[first], traffic[first])
            self._count += len(first)
            found[rows] = numbers[each.codes]
        return found
