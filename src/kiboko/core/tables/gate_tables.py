"""The walk compiled: verdicts for whole columns of flows, by tables that were made by asking the walk's own parts.

A flow's way depends only on the places of its two ends (`kiboko.core.tables.places`), and each filter is a list of
boxes (`kiboko.core.tables.boxes`). So the gates of a flow are a row of numbers, and the first gate of all flows is
judged at once, then the second, and so on (`kiboko.core.tables.column`). What a clause means is said by the walk, its
path finder and its judges alone; `tests/core/test_gate_tables.py` holds the tables to the walk, gate by gate.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service
from kiboko.core.tables.column import FlowColumn, Flows
from kiboko.core.tables.filter_lists import ABSENT, ACTIONS, DOUBTFUL, DROPS, LETS_BACK, NOT_KNOWN, REJECTS, Decider
from kiboko.core.tables.layout import GateLayout
from kiboko.core.tables.lines import AddressLine, NumberLine, service_line
from kiboko.core.tables.places import NONE
from kiboko.core.tables.subject import Subject
from kiboko.core.walk.gates import FORWARD, REPLY, Row
from kiboko.core.walk.walk import ALLOWED, BLOCKED, ONE_WAY, UNKNOWN, Walk, Walker

VERDICTS = (ALLOWED, ONE_WAY, BLOCKED, UNKNOWN)
_MOST_ROWS = 1 << 16


@dataclass(frozen=True, slots=True)
class Gates:
    """All gates of `n` flows: `action` uint8[n, gates] and `decider` int32[n, gates], an index of
    `GateTables.deciders`; `way` int32[n] an index of the layout's ways. The first `request` columns are of the request.
    """

    action: NDArray[np.uint8]
    decider: NDArray[np.int32]
    way: NDArray[np.int32]
    request: int

    @property
    def stops(self) -> NDArray[np.bool_]:
        """Which gates stop which flow."""
        found: NDArray[np.bool_] = (self.action == DROPS) | (self.action == REJECTS)
        return found

    def taken(self, rows: NDArray[np.int64]) -> Gates:
        """Those of some flows."""
        return Gates(self.action[rows], self.decider[rows], self.way[rows], self.request)


@dataclass(frozen=True, slots=True)
class Verdicts:
    """The verdicts on `n` flows: `verdict` uint8[n], an index of `VERDICTS`; `gate` int16[n] the column of the gate
    that decides, -1 for an allowed flow, and `decider` int32[n] what decides there."""

    verdict: NDArray[np.uint8]
    gate: NDArray[np.int16]
    decider: NDArray[np.int32]


class GateTables:
    """Judges columns of flows over one network. Ways and tables are made when a flow first needs them.

    Parameters
    ----------
    walker : the walker whose parts are asked
    addresses, services : the lines of that network, where they are made already

    >>> from kiboko.core.header.addresses import parse_address
    >>> from kiboko.files.network.network_file import load_network
    >>> tables = GateTables(Walker(load_network("network.yaml")))
    >>> desk, forecast = (tables.addresses.atom(parse_address(text)) for text in ("10.63.1.11", "10.62.2.20"))
    >>> flows = Flows(np.int32([desk, desk]), np.int32([forecast] * 2), np.int64([6 << 16 | 8443, 6 << 16 | 443]),
    ...               np.int64([40000, 40000]))
    >>> judged = tables.judge(flows)
    >>> [VERDICTS[number] for number in judged.verdict], tables.deciders[judged.decider[0]].filter
    (['blocked', 'blocked'], 'core-guard')
    """

    def __init__(
        self, walker: Walker, addresses: AddressLine | None = None, services: NumberLine | None = None,
        subject: Subject | None = None,
    ) -> None:  # fmt: skip
        self.walker = walker
        self.layout = GateLayout(
            walker, addresses or AddressLine(walker.ground, subject=subject),
            services or service_line(walker.ground, RangeSet()), subject=subject,
        )  # fmt: skip
        self.addresses = self.layout.addresses
        self.services = self.layout.services
        self.places = self.layout.places
        self.walked = 0

    @property
    def deciders(self) -> list[Decider]:
        """What decides somewhere, by number."""
        return self.layout.lists.deciders

    def traffic(self, service: NDArray[np.int64], port: NDArray[np.int64]) -> NDArray[np.int64]:
        """A number for each service and client port, equal where nothing in the network tells two apart, int64[n];
        -1 stands for no client port."""
        own = self.services.atoms(service >> 16 << 16 | np.maximum(port, 0)).astype(np.int64) + 1
        own[port < 0] = 0
        found: NDArray[np.int64] = own * self.services.size + self.services.atoms(service)
        return found

    def gates(self, flows: Flows) -> Gates:
        """What every gate does with every flow."""
        parts = [self._gates(flows.taken(slice(at, at + _MOST_ROWS))) for at in range(0, len(flows), _MOST_ROWS)]
        if len(parts) == 1:
            return parts[0]
        if not parts:
            return Gates(np.zeros((0, 0), np.uint8), np.zeros((0, 0), np.int32), np.zeros(0, np.int32), 0)
        request = max(each.request for each in parts)
        reply = max(each.action.shape[1] - each.request for each in parts)
        return Gates(
            np.vstack([widened(each.action, each.request, request, reply) for each in parts]),
            np.vstack([widened(each.decider, each.request, request, reply) for each in parts]),
            np.concatenate([each.way for each in parts]),
            request,
        )

    def _gates(self, flows: Flows) -> Gates:
        column = FlowColumn(self.layout, flows)
        alone = {row: self.walk(flows, row) for row in np.flatnonzero(column.way == NONE).tolist()}
        if alone:
            self.layout.widen(*(max(len(getattr(each, part)) for each in alone.values()) for part in (FORWARD, REPLY)))
            if self.layout.widths != (column.request, column.reply):
                column = FlowColumn(self.layout, flows)
        for at in range(column.request + column.reply) if self.layout.ways else ():
            column.ask(at)
        for row, walk in alone.items():
            self._take(column, row, walk)
        return Gates(column.action, column.deciding, column.way, column.request)

    def stops_later(self, flows: Flows, gates: Gates) -> NDArray[np.bool_]:
        """Of which flows that all gates let through a kernel's rule set surely stops what follows the first packet and
        its answer, bool[n] (clause S35). `gates` are theirs."""
        found = np.zeros(len(flows), dtype=np.bool_)
        if self.layout.has_kernel:
            through = ~gates.stops.any(axis=1) & ~(gates.action == DOUBTFUL).any(axis=1) & (gates.way != NONE)
            rows = np.flatnonzero(through)
            for at in range(0, len(rows), _MOST_ROWS):
                some = rows[at : at + _MOST_ROWS]
                found[some] = FlowColumn(self.layout, flows.taken(some)).stops_later()
        return found

    def _take(self, column: FlowColumn, row: int, walk: Walk) -> None:
        """A flow that no way is made for, by the walk itself."""
        self.walked += 1
        for begin, rows in ((0, walk.forward), (column.request, walk.reply)):
            for at, each in enumerate(rows):
                column.action[row, begin + at] = code_of(each)
                column.deciding[row, begin + at] = self.layout.lists.decider(
                    Decider(each.filter, each.rule, each.chain)
                )

    def walk(self, flows: Flows, row: int) -> Walk:
        """The walk of one of some flows."""
        number, port = int(flows.service[row]), int(flows.port[row])
        sender = self.places.end(int(flows.source[row])).endpoint
        target = self.addresses.first(int(flows.target[row]))
        ports = RangeSet.one(port) if port >= 0 else None
        return self.walker.walk(sender, target, Service(number >> 16, number & 0xFFFF), ports)

    def judge(self, flows: Flows) -> Verdicts:
        """The verdict on every flow, and what decides it (clauses S23, S35)."""
        return self.verdicts(self.gates(flows))

    def verdicts(self, found: Gates) -> Verdicts:
        """The verdicts that follow from what all gates of some flows do."""
        stops, doubtful = found.stops, found.action == DOUBTFUL
        columns = found.action.shape[1]
        if not columns:
            empty = np.zeros(len(found.way))
            return Verdicts(empty.astype(np.uint8), empty.astype(np.int16) - 1, empty.astype(np.int32))
        in_request = np.arange(columns) < found.request
        arrives = ~stops[:, in_request].any(axis=1)
        answered = arrives & ~stops[:, ~in_request].any(axis=1)
        in_doubt = answered & doubtful.any(axis=1) | arrives & doubtful[:, in_request].any(axis=1)
        verdict = np.where(in_doubt, 3, np.where(answered, 0, np.where(arrives, 1, 2))).astype(np.uint8)
        gate = np.where(in_doubt, doubtful.argmax(axis=1), stops.argmax(axis=1)).astype(np.int16)
        gate[verdict == 0] = NONE
        decider = found.decider[np.arange(len(gate)), np.maximum(gate, 0)]
        return Verdicts(verdict, gate, np.where(gate >= 0, decider, 0).astype(np.int32))


def widened(columns: NDArray[Any], own: int, request: int, reply: int) -> NDArray[Any]:
    """Columns of gates, of which the first `own` are the request's, with room for those of wider parts."""
    found = np.zeros((len(columns), request + reply), dtype=columns.dtype)
    found[:, :own] = columns[:, :own]
    found[:, request : request + columns.shape[1] - own] = columns[:, own:]
    return found


def code_of(row: Row) -> int:
    """What a row of the walk does, as the tables have it."""
    if row.action is None:
        return DOUBTFUL if row.possible else NOT_KNOWN
    return LETS_BACK if row.tracked else ACTIONS[row.action]


def gates_of(tables: GateTables, flows: Flows, gates: Gates, row: int) -> Iterator[tuple[str, str, str, int, Decider]]:
    """The gates of one flow that the tables judged, in order: gate, place, direction, what it does, what decides."""
    way = int(gates.way[row])
    sender, receiver = (tables.places.end(int(atoms[row])) for atoms in (flows.source, flows.target))
    for at in range(gates.action.shape[1]):
        code = int(gates.action[row, at])
        is_reply = at >= gates.request
        slot = tables.layout.slot(way, is_reply, at - gates.request if is_reply else at) if way >= 0 else None
        if code != ABSENT and slot is not None:
            name = slot.gate.at(sender, receiver)
            decider = tables.deciders[gates.decider[row, at]]
            yield slot.gate.step.gate, name, REPLY if is_reply else FORWARD, code, decider
