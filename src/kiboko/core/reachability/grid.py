"""Many pairs of ends on many services at once, by the gate tables: what `ask_set` asks where walks would be too many.

Services that no filter and no listener tells apart are asked once, and so are client ports. The walk is asked for one
example of each outcome, and for refusals whose way back no table holds.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import NEVER_REFUSED, TCP, WITH_PORTS, Service
from kiboko.core.network.model import Instance
from kiboko.core.queries.members import Pair
from kiboko.core.records.columns import distinct
from kiboko.core.tables.column import Flows
from kiboko.core.tables.filter_lists import DOUBTFUL, REJECTS
from kiboko.core.tables.gate_tables import Gates, GateTables
from kiboko.core.tables.kinds import alike_ports, alike_services
from kiboko.core.tables.lines import service_line
from kiboko.core.tables.places import NONE
from kiboko.core.tables.slots import Slot
from kiboko.core.tables.subject import Subject
from kiboko.core.walk.walk import Walk, Walker

_MOST_FLOWS = 1 << 16
_ByKey = dict[tuple[int, ...], list[RangeSet]]
"""The services of each outcome, by what tells outcomes apart."""


class PairOutcome(NamedTuple):
    """Services of one pair that come to the same, with the walk of an example: of another pair, where that pair comes
    to the same by the same rule. A tuple, since there are very many."""

    services: RangeSet
    walk: Walk


@dataclass(frozen=True, slots=True)
class _Kind:
    """Values that nothing tells apart: all of them, and one to be asked about."""

    values: RangeSet
    example: int


class PairGrid:
    """Judges pairs over one network.

    Parameters
    ----------
    walker : the walker of the network
    ports : the client ports asked about; None for all ephemeral ports of each sender
    receivers : the instances that may be sent to
    subject : what will be asked about, where that is not everything
    """

    def __init__(
        self, walker: Walker, ports: RangeSet | None, receivers: Iterable[Instance], subject: Subject | None = None
    ) -> None:
        self.walker = walker
        self.tables = GateTables(walker, None, service_line(walker.ground, RangeSet(), receivers), subject)
        self.ports = ports
        self._marks: dict[tuple[int, bytes], int] = {}
        self.walks = 0

    def judged(self, pairs: Sequence[Pair], services: RangeSet) -> list[list[PairOutcome]]:
        """For each pair, of which none is of one machine with itself, what its services come to.

        All pairs are of one address family; `services` are those that can travel in it.
        """
        atom, layout = self.tables.addresses.atom, self.tables.layout
        source = np.array([atom(pair.source.address) for pair in pairs], dtype=np.int32)
        target = np.array([atom(pair.target) for pair in pairs], dtype=np.int32)
        self._lay_out(source, target)
        found: list[list[_ByKey]] = [[] for _ in pairs]
        walks: dict[tuple[int, ...], Walk] = {}
        kinds = [_Kind(values, example) for values, example in alike_services(layout, services)]
        for about, (groups, rows) in enumerate(self._by_ports(pairs, kinds)):
            for place, (group, cells) in enumerate(groups):
                self._ask(pairs, rows, source, target, group, cells, about * 8 + place, found, walks)
        unions: dict[tuple[int, ...], RangeSet] = {}  # most outcomes are of the same kinds of services

        def union(met: list[RangeSet]) -> RangeSet:
            key = tuple(map(id, met))
            if key not in unions:
                unions[key] = RangeSet.of(pair for each in met for pair in each)
            return unions[key]

        known: dict[tuple[int, ...], list[PairOutcome]] = {}
        for parts in found:
            key = tuple(map(id, parts))
            if key not in known:
                together: _ByKey = {}
                for part in parts:
                    for outcome, met in part.items():
                        together.setdefault(outcome, []).extend(met)
                known[key] = [PairOutcome(union(met), walks[outcome]) for outcome, met in together.items()]
        return [known[tuple(map(id, parts))] for parts in found]

    def _lay_out(self, source: NDArray[np.int32], target: NDArray[np.int32]) -> None:
        """Have all ways, filters and listeners of some pairs there, before it is asked what nothing tells apart."""
        layout = self.tables.layout
        *_, own_subnet, own_place, _ = layout.ends_of(source)
        *_, subnet, place, _ = layout.ends_of(target)
        layout.listening_at(target)
        for row in distinct(own_place, place, (own_subnet == subnet).astype(np.int64)).first.tolist():
            one, other = int(source[row]), int(target[row])
            layout.way_between(layout.end(one), other, layout.end(other))

    def _by_ports(
        self, pairs: Sequence[Pair], kinds: list[_Kind]
    ) -> Iterator[tuple[list[tuple[list[_Kind], list[_Kind]]], NDArray[np.int64]]]:
        """The pairs whose senders have the same client ports; for each protocol with ports its kinds of services and of
        client ports, and the rest of the services, which have none, those that nobody refuses by themselves."""
        by_ports: dict[RangeSet, list[int]] = {}
        for number, pair in enumerate(pairs):
            ports = self.ports or self.walker.source_ports(pair.source, Service(TCP, 1))
            by_ports.setdefault(ports, []).append(number)
        for ports, rows in by_ports.items():
            groups = []
            sorts = [*((each, False) for each in WITH_PORTS), (None, False), (None, True)]
            for protocol, is_silent in sorts:
                mine = [kind for kind in kinds if _sort(kind.example) == (protocol, is_silent)]
                if mine:
                    cells = [_Kind(RangeSet(), -1)]
                    if protocol is not None:
                        cells = [_Kind(*each) for each in alike_ports(self.tables.layout, protocol, [ports])]
                    groups.append((mine, cells))
            yield groups, np.array(rows)

    def _ask(
        self,
        pairs: Sequence[Pair],
        rows: NDArray[np.int64],
        source: NDArray[np.int32],
        target: NDArray[np.int32],
        kinds: list[_Kind],
        cells: list[_Kind],
        about: int,
        found: list[list[_ByKey]],
        walks: dict[tuple[int, ...], Walk],
    ) -> None:
        step = max(1, _MOST_FLOWS // (len(kinds) * len(cells)))
        examples = np.array([kind.example for kind in kinds], dtype=np.int64)
        ports = np.array([cell.example for cell in cells], dtype=np.int64)
        every = [kind.values for kind in kinds]
        for at in range(0, len(rows), step):
            mine = rows[at : at + step]
            shape = (len(mine), len(kinds), len(cells))
            flows = Flows(
                np.broadcast_to(source[mine][:, None, None], shape).reshape(-1),
                np.broadcast_to(target[mine][:, None, None], shape).reshape(-1),
                np.broadcast_to(examples[None, :, None], shape).reshape(-1),
                np.broadcast_to(ports[None, None, :], shape).reshape(-1),
            )
            is_tcp = _with_ports(kinds[0].example) == TCP
            keys = self._keys(self.tables.gates(flows), len(cells), (is_tcp, about))
            groups = distinct(*(np.ascontiguousarray(column) for column in keys.T))
            back = groups.codes.reshape(len(mine), len(kinds))
            names = [tuple(key) for key in keys[groups.first].tolist()]
            for row, key in zip(groups.first.tolist(), names, strict=True):
                if key[0] not in _ALONE and key not in walks:
                    at_pair, at_kind = divmod(row, len(kinds))
                    walks[key] = self._walk(pairs[int(mine[at_pair])], kinds[at_kind])
            alike: dict[bytes, _ByKey] = {}
            alone = np.array([key[0] in _ALONE for key in names], dtype=np.bool_)
            is_own: list[bool] = np.any(alone[back], axis=1).tolist()
            for pair, numbers, own in zip(mine.tolist(), back, is_own, strict=True):
                told = numbers.tobytes()
                part = alike.get(told)
                if own:
                    whose = {_SENDER: int(source[pair]), _PAIR: pair, _EACH: pair}
                    part = self._own_part(whose, pairs[pair], kinds, [names[number] for number in numbers], walks)
                elif part is None:
                    together: dict[int, list[RangeSet]] = {}
                    for values, number in zip(every, numbers.tolist(), strict=True):
                        if number in together:
                            together[number].append(values)
                        else:
                            together[number] = [values]
                    part = alike[told] = {names[number]: met for number, met in together.items()}
                found[pair].append(part)

    def _own_part(
        self, whose: Mapping[int, int], pair: Pair, kinds: list[_Kind], keys: list[tuple[int, ...]],
        walks: dict[tuple[int, ...], Walk],
    ) -> _ByKey:  # fmt: skip
        """What the services of a pair come to of which something holds for this pair or its sender alone, by the
        outcomes of all; `whose` are their numbers."""
        part: _ByKey = {}
        for kind, key in zip(kinds, keys, strict=True):
            if key[0] in _ALONE:
                key = (*key, whose[key[0]], kind.example if key[0] == _EACH else NONE)
                if key not in walks:
                    walks[key] = self._walk(pair, kind)
            part.setdefault(key, []).append(kind.values)
        return part

    def _walk(self, pair: Pair, kind: _Kind) -> Walk:
        self.walks += 1
        service = Service(kind.example >> 16, kind.example & 0xFFFF)
        return self.walker.walk(pair.source, pair.target, service, self.ports)

    def _keys(self, gates: Gates, cells: int, about: tuple[bool, int]) -> NDArray[np.int64]:
        """What tells outcomes apart, int64[flows / cells, 6], for flows whose client ports lie side by side; at least
        as finely as the outcome key of `ask_set` does. `about` tells whether they are of TCP, and of which ports."""
        is_tcp, ports = about
        layout = self.tables.layout
        count, columns = len(gates.way) // cells, gates.action.shape[1]
        if not columns:  # all of them are of ends that nothing tells apart
            return np.tile(np.array(_BY_ITSELF, dtype=np.int64), (count, 1))
        stops = gates.stops.reshape(count, cells, columns)
        doubtful = np.any(gates.action == DOUBTFUL, axis=1).reshape(count, cells).any(axis=1)
        arrives = np.any(~np.any(stops[:, :, : gates.request], axis=2), axis=1)
        answered: NDArray[np.bool_] = ~np.any(stops, axis=2)
        verdict = np.where(answered.any(axis=1), _PARTLY, np.where(arrives, _ONE_WAY, _BLOCKED))
        verdict[answered.all(axis=1)] = _ALLOWED
        gate, cell = _deciding(stops)
        place = (np.arange(count) * cells + cell, np.maximum(gate, 0))
        decider, action = gates.decider[place], gates.action[place]
        way = gates.way.reshape(count, cells)[:, 0].astype(np.int64)
        kind = layout.columns(way, gate, lambda slot: slot.number)
        by_way = decider == 0
        refused = (verdict == _BLOCKED) & (action == REJECTS)
        # A listener's reset goes the way of the reply, and by the same rules where no kernel has a word in it: from
        # which client ports it was asked for decides whether it gets back.
        reset = refused & (kind == _LISTENER) & (is_tcp and not layout.has_kernel)
        lost = np.any(stops[:, :, gates.request :], axis=2)
        # The way back of an ICMP message does not rest on the service that it speaks of, that of another reset does.
        message = refused & ~reset & ((kind == _ROUTE) | (not is_tcp))
        # Where no kernel has a word in it what is in doubt, and what comes of that, follows from what all gates do.
        by_gates = np.flatnonzero(doubtful & ~refused & (not layout.has_kernel))
        own = (way == NONE) | doubtful | (refused & ~reset & ~message)
        own[by_gates] = way[by_gates] == NONE
        own |= by_way & (layout.columns(way, gate, _is_of_ends) > 0)
        found = np.zeros((count, 6), dtype=np.int64)
        found[:, 0] = np.where(message, _PAIR, verdict)
        found[:, 1] = np.where(by_way, way, NONE)
        found[:, 2] = np.where(by_way, gate, layout.columns(way, gate, lambda slot: slot.side))
        found[:, 3] = decider
        refusing = np.flatnonzero(reset)
        found[refusing, 4] = 1 + self._numbered(lost[refusing], ports)
        partly = np.flatnonzero(verdict == _PARTLY)
        found[partly, 4] = self._numbered(answered[partly], ports)
        alike = np.flatnonzero(message)
        if len(alike):
            # What keeps state for it, which behind a router that has no way on nothing does.
            behind = (np.arange(columns) >= gate[alike, None]) & (kind[alike] == _ROUTE)[:, None]
            whole = [np.where(behind[:, None, :], 0, each.reshape(count, cells, columns)[alike]).reshape(len(alike), -1)
                     for each in (gates.action, gates.decider)]  # fmt: skip
            found[alike, 5] = self._numbered(np.concatenate(whole, axis=1), ports)
        found[message & (layout.columns(way, gate, lambda slot: slot.gate.is_dead_end) > 0), 0] = _SENDER
        # What names an entry of a route table is asked of each pair: those of tables alike stand at their own places.
        of_pair = by_way & ~message & (layout.columns(way, gate, _names_entry) > 0)
        found[of_pair, 0], found[of_pair, 3] = _PAIR, 1 + verdict[of_pair]
        found[verdict == _ALLOWED] = 0
        if len(by_gates):
            whole = [each.reshape(count, -1)[by_gates] for each in (gates.action, gates.decider)]
            found[by_gates] = 0
            found[by_gates, 0], found[by_gates, 1] = _DOUBTFUL, way[by_gates]
            found[by_gates, 5] = self._numbered(np.concatenate(whole, axis=1), ports)
        found[own] = _BY_ITSELF
        return found

    def _numbered(self, rows: NDArray[Any], about: int) -> NDArray[np.int64]:
        """A number for each row, equal for equal rows of one kind."""
        numbers = [
            self._marks.setdefault((about, row.tobytes()), len(self._marks)) for row in np.ascontiguousarray(rows)
        ]
        return np.array(numbers, dtype=np.int64)


_ALLOWED, _PARTLY, _ONE_WAY, _BLOCKED, _DOUBTFUL = range(5)
_SENDER, _PAIR, _EACH = _ALONE = 7, 8, 9
"""Outcomes that hold for one sender alone, one pair, or one pair on one kind of services: of refusals and doubts the
rest depends on more than a table holds."""
_BY_ITSELF = (_EACH, 0, 0, 0, 0, 0)
_LISTENER, _ROUTE = 1, 2


def _is_of_ends(slot: Slot) -> int:
    """Whether a gate that the way itself settles says why in words that hold for its own ends alone."""
    stop = slot.gate.step.stop
    return int(stop is not None and stop.is_of_ends)


def _names_entry(slot: Slot) -> int:
    """Whether it says why by an entry of a route table."""
    stop = slot.gate.step.stop
    return int(stop is not None and stop.names_entry)


def _deciding(stops: NDArray[np.bool_]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """For flows of several client ports, bool[flows, ports, gates], the gate that explains the verdict (clause S23) and
    the lowest of the ports that it stops: the earliest gate that stops every port that came to it; if none does, the
    earliest that stops any. -1 where none stops."""
    count, _, gates = stops.shape
    gate = np.full(count, NONE, dtype=np.int64)
    coming = np.ones(stops.shape[:2], dtype=np.bool_)
    for at in range(gates):
        here = stops[:, :, at]
        whole = here.any(axis=1) & ~(coming & ~here).any(axis=1) & (gate == NONE)
        gate[whole] = at
        coming &= ~here
    earliest = np.where(stops.any(axis=(1, 2)), stops.any(axis=1).argmax(axis=1), NONE)
    gate = np.where(gate == NONE, earliest, gate)
    cell = stops[np.arange(count), :, np.maximum(gate, 0)].argmax(axis=1)
    return gate, cell


def _sort(service: int) -> tuple[int | None, bool]:
    """Of a service the protocol, None where it has no ports, and whether nobody refuses it."""
    return _with_ports(service), service in NEVER_REFUSED


def _with_ports(number: int) -> int | None:
    """The protocol of a service that has ports; None of any other."""
    return number >> 16 if number >> 16 in WITH_PORTS else None
