"""What the finding of a flow record rests on, as numbers, for whole columns of records by the gate tables.

Records with one signature get the same finding, but for the names in it: the comparison
(`kiboko.core.evidence.comparison`) is asked about one of them, and the answer stands for all. What a record proves is
said there alone; here is told apart whatever it looks at. Where that is more than the tables hold, a record has a
signature of its own.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import Comparison
from kiboko.core.header.addresses import Address
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, TCP, WITH_PORTS, Service
from kiboko.core.records.flow_table import EVENTS, FlowTable
from kiboko.core.records.records import DENIED
from kiboko.core.records.signs import ICMP_ERRORS
from kiboko.core.tables.column import Flows
from kiboko.core.tables.filter_lists import DOUBTFUL, NOT_KNOWN, REJECTS
from kiboko.core.tables.gate_tables import VERDICTS, Gates, GateTables
from kiboko.core.tables.places import NONE
from kiboko.core.walk.walk import ALLOWED

_DENIED = EVENTS.index(DENIED)
_OPENING, _BARE_OPENING, _RESET = 1, 2, 3
_WIDTH = 20
_REPLY_STOP = 8
"""The first of the two columns that tell what stops the reply."""
_MOST_DECIDERS = 1 << 32


@dataclass(frozen=True, slots=True)
class _Facts:
    """What an atom of addresses is to a record. `translated` is the atom of the public address of an interface that
    bears this one, -1 where there is none; `outside` is that which it belongs to, `network` that of its interface,
    `ports` are the client ports of its end."""

    is_apart: bool
    is_public: bool
    is_foreign: bool
    is_inside: bool
    translated: int
    outside: str | None
    network: str | None
    ports: RangeSet


class Signatures:
    """Tells the records of one network's logs apart."""

    def __init__(self, comparison: Comparison, tables: GateTables) -> None:
        self._comparison = comparison
        self._directory = comparison.walker.directory
        self._tables = tables
        self._facts: dict[int, _Facts] = {}
        self._marks: dict[bytes, int] = {}
        self._served = comparison.served

    def of(
        self,
        table: FlowTable,
        rows: NDArray[np.int64],
        points: NDArray[np.int64],
        ages: NDArray[np.int64],
        flag_kinds: NDArray[np.int64],
    ) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
        """The signatures of some records, int64[k, m], and the atoms that the addresses of their requests have where
        they arrive, int64[k, 2], -1 for those that stay as they are; and what stops their replies, int64[k].

        Parameters
        ----------
        points, ages, flag_kinds : int64[k], the number of each record's observation point (0 for none that is known),
            how old it is beside the network file, and what its TCP flags tell
        """
        line = self._tables.addresses
        atoms = line.atoms(table.addresses.family, table.addresses.high, table.addresses.low)
        source, destination = atoms[table.source[rows]], atoms[table.destination[rows]]
        protocol = table.protocol[rows].astype(np.int64)
        detail, port = table.detail[rows].astype(np.int64), table.source_port[rows].astype(np.int64)
        event = table.event[rows].astype(np.int64)
        has_ports = np.isin(protocol, list(WITH_PORTS))
        known = _Ends(self, source, destination)
        number = protocol << 16 | detail
        turned_number = protocol << 16 | np.maximum(port, 0)
        served = _within(number, self._served), has_ports & (port >= 0) & _within(turned_number, self._served)
        by_ports = np.where(served[0] == served[1], 0, np.where(served[1], 1, 2))
        echo = np.isin(protocol << 8 | detail >> 8, (ICMP << 8, ICMP6 << 8 | 129))
        error = np.isin(protocol << 8 | detail >> 8, [k << 8 | e for k, each in ICMP_ERRORS.items() for e in each])
        internet = np.array([False, *self._internet_points()])[points]
        target = known.target(internet)
        outside = ~known.inside[0] & known.foreign(target)
        own = known.apart | (has_ports & (port < 0))
        direct = self._asked(source, target, number, np.where(has_ports, port, NONE))
        own |= direct.way == NONE
        found = np.zeros((len(rows), _WIDTH), dtype=np.int64)
        found[:, 0] = event * 8 + flag_kinds
        found[:, 1] = ages * 4 + by_ports
        found[:, 2] = np.where(protocol == TCP, 1, np.where(has_ports, 2, np.where(error, 3, np.where(echo, 4, 5))))
        found[:, 3] = outside
        self._tell_direct(found, direct)
        stopped = found[:, 4] != 0
        # Of refusals the signal counts, which rests on their own way back. Of what is denied where by the rules
        # something refuses, only whether that is known: where a kernel's rule set may stand on the way, it may be not.
        own |= (protocol == TCP) & (flag_kinds == _RESET) & (stopped | (event == _DENIED))
        if self._tables.layout.has_kernel:
            own |= (event == _DENIED) & (direct.action == REJECTS).any(axis=1)
        opening = (flag_kinds == _OPENING) | (flag_kinds == _BARE_OPENING)
        asked = _Turned(protocol, port, detail, echo, served[1] | echo, ~opening, event == _DENIED)
        own |= self._tell_turned(found, known, known.turned_target(internet), asked)
        if self._comparison.walker.topology.observation_points:
            self._tell_points(found, points, direct, known, target, known.turned_target(internet))
        found[outside] = 0
        found[outside, 0] = event[outside] + 1
        found[outside, 3] = 1
        alone = np.flatnonzero(own)
        if len(alone):
            found[alone, -4], found[alone, -3] = source[alone] + 1, destination[alone]
            found[alone, -2], found[alone, -1] = number[alone], port[alone] + 2
        # What stops a reply tells the findings of replies apart, and not those of their requests.
        replies = found[:, _REPLY_STOP] * _MOST_DECIDERS + found[:, _REPLY_STOP + 1]
        found[:, _REPLY_STOP : _REPLY_STOP + 2] = 0
        return found, self._behind(direct, known, source, destination, target, own | outside), replies

    def facts(self, atom: int) -> _Facts:
        """What an atom of addresses is."""
        if atom not in self._facts:
            self._facts[atom] = self._made(self._tables.addresses.first(atom))
        return self._facts[atom]

    def _made(self, address: Address) -> _Facts:
        directory = self._directory
        owner, endpoint = directory.interface_at(address), directory.endpoint(address)
        moved = owner is not None and owner.public is not None and owner.address(4) == address
        topology = self._comparison.walker.topology
        return _Facts(
            directory.why_undeliverable(address) is not None or directory.shared_owner(address) is not None,
            directory.public_owner(address) is not None, self._comparison.ends.is_foreign(address),
            endpoint.network is not None,
            self._tables.addresses.atom(owner.public) if moved and owner is not None and owner.public else NONE,
            endpoint.outside.name if endpoint.outside is not None else None,
            topology.subnets[owner.subnet].network if owner is not None else None,
            self._comparison.walker.source_ports(endpoint, Service(TCP, 1)),
        )  # fmt: skip

    def is_translated(self, sender: _Facts, receiver: _Facts) -> bool:
        """Whether a sender uses the public address of a receiver, at a point that tells nothing of it (S38)."""
        if receiver.translated == NONE:
            return False
        if sender.is_public:
            return True
        tunnel = self._directory.tunnel
        return sender.outside is not None and tunnel(receiver.network or "", sender.outside) is None

    def _internet_points(self) -> list[bool]:
        topology = self._comparison.walker.topology
        gateways = (topology.gateways.get(point.name or "") for point in topology.observation_points.values())
        return [gateway is not None and gateway.kind == "internet" for gateway in gateways]

    def _asked(
        self, source: NDArray[np.int32], target: NDArray[np.int32], service: NDArray[np.int64], port: NDArray[np.int64]
    ) -> Gates:
        return self._tables.gates(Flows(source.astype(np.int32), target.astype(np.int32), service, port))

    def _tell_direct(self, found: NDArray[np.int64], gates: Gates) -> None:
        """The first gate that stops, of those that a record speaks of; the first of all, which an end may be; the first
        of the reply; what is not known."""
        layout = self._tables.layout
        stops = gates.stops
        columns = np.arange(stops.shape[1])
        is_end = self._is_end(gates)
        request = stops & (columns < gates.request)
        for column, chosen in (
            (4, request & ~is_end),
            (6, request),
            (_REPLY_STOP, stops & (columns >= gates.request) & ~is_end),
        ):
            gate = np.full(len(found), NONE)
            if chosen.shape[1]:
                gate = np.where(chosen.any(axis=1), chosen.argmax(axis=1), NONE)
            decider = np.where(gate >= 0, gates.decider[np.arange(len(gate)), np.maximum(gate, 0)], 0)
            found[:, column] = np.where(
                gate >= 0, layout.columns(gates.way.astype(np.int64), gate, lambda slot: slot.number), 0
            )
            found[:, column + 1] = np.where(decider > 0, decider, -1 - gates.way) * (gate >= 0)
        verdict = self._tables.verdicts(gates).verdict
        unknown = ((gates.action == DOUBTFUL) | (gates.action == NOT_KNOWN)).any(axis=1)
        found[:, 10] = verdict.astype(np.int64) * 4 + unknown * 2 + (gates.action == DOUBTFUL).any(axis=1)

    def _is_end(self, gates: Gates) -> NDArray[np.bool_]:
        """Which gates are an end's own: a sender or receiver that is stopped, a listener."""
        layout = self._tables.layout
        ways, back = np.unique(gates.way, return_inverse=True)
        known = np.zeros((len(ways), gates.action.shape[1]), dtype=np.bool_)
        for row, way in enumerate(ways.tolist()):
            for at in range(known.shape[1]) if way >= 0 else ():
                slot = layout.slot(way, at >= gates.request, at - gates.request if at >= gates.request else at)
                known[row, at] = slot is not None and slot.gate.step.gate in ("source", "destination", "listener")
        return known[back.reshape(-1)]

    def _tell_turned(
        self, found: NDArray[np.int64], known: _Ends, target: NDArray[np.int32], turned: _Turned
    ) -> NDArray[np.bool_]:
        """What the flow is, by the rules, that a record may be the reply to. Which records need a signature of their
        own for it, bool[k]."""
        own = np.zeros(len(found), dtype=np.bool_)
        may = turned.may_reply & (turned.is_echo | (turned.has_ports & known.uses(turned.detail)))
        may &= known.inside[1] | ~known.foreign(target)
        rows = np.flatnonzero(may)
        if not len(rows):
            return own
        service, client = turned.service, np.where(turned.is_echo, NONE, turned.detail)
        gates = self._asked(known.destination[rows], target[rows], service[rows], client[rows])
        allowed = self._tables.verdicts(gates).verdict == VERDICTS.index(ALLOWED)
        own[rows] = gates.way == NONE
        found[rows, 11] = 1 + allowed * 2 + turned.is_served[rows] * 4
        # Denied in front of the gateway it cannot be told from the reply to a sender of the private address.
        moved = np.flatnonzero(allowed & (target != known.source)[rows] & turned.is_denied[rows])
        if len(moved):
            again = rows[moved]
            private = self._asked(known.destination[again], known.source[again], service[again], client[again])
            verdict = self._tables.verdicts(private).verdict
            arrives = ~private.stops[:, : private.request].any(axis=1)
            found[again, 12] = 1 + 2 * arrives + 4 * (verdict == VERDICTS.index(ALLOWED))
            own[again] |= private.way == NONE
        return own

    def _tell_points(
        self,
        found: NDArray[np.int64],
        points: NDArray[np.int64],
        gates: Gates,
        known: _Ends,
        target: NDArray[np.int32],
        turned_target: NDArray[np.int32],
    ) -> None:
        """Where records tell their observation points: which gates lie before one follows from the places of both ends,
        and from whether the point is called after one of them; beside that, every gate that stops."""
        layout = self._tables.layout
        place = known.column(lambda atom: layout.end(atom).place)
        related = [self._related(known.atoms[at], points) for at in known.at]
        moved = (target == known.destination) * 2 + (turned_target == known.source)
        stops = gates.stops
        stopping = [*(gates.action * stops).T.astype(np.int64), *(gates.decider * stops).T.astype(np.int64)]
        rows = np.stack([*place, *related, moved, points, *stopping], axis=1)
        found[:, 13] = [1 + self._marks.setdefault(row.tobytes(), len(self._marks)) for row in rows]

    def _related(self, atoms: NDArray[np.int64], points: NDArray[np.int64]) -> NDArray[np.int64]:
        """Whether an observation point is called after the subnet, interface or machine of an end, as a number."""
        keys, back = np.unique(np.stack([atoms, points]), axis=1, return_inverse=True)
        named = [None, *(point.name for point in self._comparison.walker.topology.observation_points.values())]
        found = np.zeros(keys.shape[1], dtype=np.int64)
        for number, (atom, point) in enumerate(keys.T.tolist()):
            endpoint, name = self._tables.layout.end(atom).endpoint, named[point]
            if name is not None:
                found[number] = (
                    (endpoint.subnet is not None and endpoint.subnet.name == name)
                    + 2 * (endpoint.interface is not None and endpoint.interface.name == name)
                    + 4 * (endpoint.interface is not None and endpoint.interface.instance == name)
                )
        return found[back.reshape(-1)]

    def _behind(
        self,
        gates: Gates,
        known: _Ends,
        source: NDArray[np.int32],
        destination: NDArray[np.int32],
        target: NDArray[np.int32],
        unknown: NDArray[np.bool_],
    ) -> NDArray[np.int64]:
        """The atoms of both ends where requests arrive, -1 where they are those of the record."""
        layout = self._tables.layout
        own = known.column(lambda atom: layout.end(atom).own)
        public = known.column(lambda atom: layout.end(atom).public)
        targets, back = np.unique(target, return_inverse=True)
        arriving = np.array([layout.end(int(atom)).own for atom in targets], dtype=np.int64)[back.reshape(-1)]
        seen = np.full((len(source), 2), NONE, dtype=np.int64)
        for way in np.unique(gates.way).tolist():
            rows = np.flatnonzero((gates.way == way) & ~unknown)
            if way < 0 or not len(rows) or not layout.ways[way].arrives:
                continue
            kind, constant = layout.ways[way].seen
            near = {0: own[0], 1: public[0]}.get(kind)
            seen[rows, 0] = near[rows] if near is not None else self._tables.addresses.atom(constant)
            seen[rows, 1] = arriving[rows]
        seen[:, 0][seen[:, 0] == source] = NONE
        seen[:, 1][seen[:, 1] == destination] = NONE
        return seen


@dataclass(frozen=True, slots=True)
class _Turned:
    """Records as replies, by columns: to which service, from which client."""

    protocol: NDArray[np.int64]
    port: NDArray[np.int64]
    detail: NDArray[np.int64]
    is_echo: NDArray[np.bool_]
    is_served: NDArray[np.bool_]
    may_reply: NDArray[np.bool_]
    is_denied: NDArray[np.bool_]

    @property
    def has_ports(self) -> NDArray[np.bool_]:
        """Which have ports, and tell them."""
        found: NDArray[np.bool_] = np.isin(self.protocol, list(WITH_PORTS)) & (self.port >= 0)
        return found

    @property
    def service(self) -> NDArray[np.int64]:
        """The services of their requests."""
        echo = np.where(self.protocol == ICMP, 8, 128) << 8
        found: NDArray[np.int64] = self.protocol << 16 | np.where(self.is_echo, echo, np.maximum(self.port, 0))
        return found


class _Ends:
    """The ends of some records, by the atoms of their addresses."""

    def __init__(self, signatures: Signatures, source: NDArray[np.int32], destination: NDArray[np.int32]) -> None:
        self._signatures = signatures
        self.source, self.destination = source, destination
        self.atoms, back = np.unique(np.concatenate([source, destination]), return_inverse=True)
        back = back.reshape(-1)
        self.at = back[: len(source)], back[len(source) :]
        self._facts = [signatures.facts(atom) for atom in self.atoms.tolist()]
        apart = self._of(lambda facts: facts.is_apart)
        self.apart = apart[0] | apart[1]
        self.inside = self._of(lambda facts: facts.is_inside)

    def _of(self, read: Callable[[_Facts], bool]) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
        values = np.array([read(each) for each in self._facts], dtype=np.bool_)
        return values[self.at[0]], values[self.at[1]]

    def column(self, read: Callable[[int], int]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Something of every atom, for both ends."""
        values = np.array([read(atom) for atom in self.atoms.tolist()], dtype=np.int64)
        return values[self.at[0]], values[self.at[1]]

    def foreign(self, atoms: NDArray[np.int32]) -> NDArray[np.bool_]:
        """Which addresses are neither in a network nor public ones of ours."""
        distinct_atoms, back = np.unique(atoms, return_inverse=True)
        values = [self._signatures.facts(atom).is_foreign for atom in distinct_atoms.tolist()]
        return np.array(values, dtype=np.bool_)[back.reshape(-1)]

    def target(self, internet: NDArray[np.bool_]) -> NDArray[np.int32]:
        """The address that the sender of each record used (S38)."""
        return self._target(self.at, self.destination, internet)

    def turned_target(self, internet: NDArray[np.bool_]) -> NDArray[np.int32]:
        """The address that the receiver would have used, were the record a reply to it."""
        return self._target(self.at[::-1], self.source, internet)

    def _target(
        self, at: tuple[NDArray[np.int64], ...], receiver: NDArray[np.int32], internet: NDArray[np.bool_]
    ) -> NDArray[np.int32]:
        pairs, back = np.unique(at[0] * len(self.atoms) + at[1], return_inverse=True)
        used, seen = np.zeros(len(pairs), dtype=np.int32), np.zeros(len(pairs), dtype=np.int32)
        for number, (near, far) in enumerate(zip(*divmod(pairs, len(self.atoms)), strict=True)):
            sender, other = self._facts[int(near)], self._facts[int(far)]
            own = int(self.atoms[far])
            seen[number] = other.translated if other.translated != NONE else own
            used[number] = seen[number] if self._signatures.is_translated(sender, other) else own
        back = back.reshape(-1)
        return np.where(internet, seen[back], used[back]).astype(np.int32)

    def uses(self, port: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Whether each port is one that clients at the destination use."""
        kinds: dict[RangeSet, list[int]] = {}
        for number, facts in enumerate(self._facts):
            kinds.setdefault(facts.ports, []).append(number)
        found = np.zeros(len(port), dtype=np.bool_)
        for ports, numbers in kinds.items():
            mine = np.zeros(len(self.atoms), dtype=np.bool_)
            mine[numbers] = True
            found |= mine[self.at[1]] & _within(port, ports)
        return found


def _within(numbers: NDArray[np.int64], chosen: RangeSet) -> NDArray[np.bool_]:
    """Which numbers are in a set."""
    if not chosen:
        return np.zeros(len(numbers), dtype=np.bool_)
    low, high = np.array(list(chosen), dtype=np.int64).T
    at = np.searchsorted(low, numbers, side="right") - 1
    found: NDArray[np.bool_] = (at >= 0) & (numbers <= high[np.maximum(at, 0)])
    return found
