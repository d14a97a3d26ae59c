"""How many locked doors stand before an end: for what does not get through, every gate that would stop it by itself."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.errors import Place, UsageError
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.members import Member
from kiboko.core.reachability.letting_in import flows_between, gate_named, judged, place_of
from kiboko.core.reachability.products import apart, products
from kiboko.core.reachability.reach import ReachQuestion, far_members
from kiboko.core.reachability.set_answer import SHARED_REASONS
from kiboko.core.reachability.space import Space, SpaceEnd
from kiboko.core.records.columns import distinct
from kiboko.core.tables.column import Flows
from kiboko.core.tables.filter_lists import DROPS, REJECTS
from kiboko.core.tables.kinds import Kind, Kinds
from kiboko.core.tables.slots import HOST, INTERFACE, Slot
from kiboko.core.tables.ways import FIXED

_MOST_FLOWS = 3_000_000
_CHUNK = 1 << 16
_GATES = 1 << 6
_DECIDERS, _REASONS = 1 << 32, 1 << 31
"""Numbers of deciders lie below; those that stand for why the way itself stops something begin half-way."""


@dataclass(frozen=True, slots=True)
class Door:
    """A gate that stops some traffic, whatever the others do: by a rule of a filter (`otherwise` for its default), or
    by what it is, such as a missing route, where `filter` is None and `reason` says why in words. `at` is
    the machine on the way that it is of, empty where it is of an end or of no machine."""

    gate: str
    direction: str
    filter: str | None
    rule: str | None
    place: Place | None
    reason: str = ""
    at: str = ""


@dataclass(frozen=True, slots=True)
class DoorsLine:
    """Ends whose traffic is stopped by the same doors: every one of `far` with every one of `near` on `services`. Where
    there is but one door, changing it opens the way. `example` is a source, a destination and a service."""

    family: int
    kind: int
    doors: tuple[Door, ...]
    far: tuple[Member, ...]
    near: tuple[Member, ...]
    services: RangeSet
    example: tuple[Member, Member, Service]


def doors(ends: Ends, question: ReachQuestion) -> tuple[DoorsLine, ...]:
    """What stops everything that does not reach an end (or that it does not reach), the fewest doors first.

    Traffic of which some client ports get through is not locked out, and is not told of. Raises UsageError where there
    is too much to be told one by one.
    """
    named = question.name.members
    space = Space(ends, question.services, question.ports, between=(named, None) if question.is_out else (None, named),
                  with_all_gates=True)  # fmt: skip
    found: list[DoorsLine] = []
    members = tuple(far_members(ends, question))
    for family in (4, 6) if question.family is None else (question.family,):
        far = space.ends_of(members, family, not question.is_out)
        near = space.ends_of(question.name.members, family, question.is_out)
        found += doors_between(space, family, far, near, question.is_out)
    return tuple(sorted(found, key=lambda line: (len(line.doors), line.kind, line.family, -len(line.far))))


def doors_between(
    space: Space, family: int, far: Sequence[SpaceEnd], near: Sequence[SpaceEnd], is_out: bool
) -> list[DoorsLine]:
    """What stops everything between some ends of one address family that does not get through, whoever sends (`is_out`:
    the near ones). Raises UsageError where there is too much to be told one by one."""
    return _OfFamily(space, family, far, near, is_out).lines() if far and near else []


def single_doors(
    space: Space, family: int, senders: Sequence[SpaceEnd], receivers: Sequence[SpaceEnd],
    at_hosts: RangeSet | None = None,
) -> Iterator[tuple[Door, SpaceEnd, SpaceEnd, RangeSet]]:  # fmt: skip
    """What one door alone stops, for each receiver by the first sender of whom it does: the door, sender, receiver, and
    the services. Of some services `at_hosts` what the host filters of the receivers alone stop."""
    if not senders or not receivers:
        return
    judge = _OfFamily(space, family, receivers, senders, True)
    met: list[tuple[SpaceEnd, SpaceEnd, list[int]]] = []
    hosts = judge.kinds.met_by([at_hosts])[0] if at_hosts is not None else None
    for block in space.blocks(senders, receivers, family, judge.kinds, with_single=hosts is None, at_hosts=hosts):
        assert block.outcome.single is not None
        sent = judge.sent[block.senders][None]
        single = np.where(block.there[..., None], block.outcome.single & sent, np.uint64(0))
        hit: NDArray[np.bool_] = np.any(single, axis=2)
        rows = np.flatnonzero(hit.any(axis=1))
        columns = hit[rows].argmax(axis=1)
        for row, column, kinds in zip(rows.tolist(), columns.tolist(), judge.kinds.unpacked(single[rows, columns]),
                                      strict=True):  # fmt: skip
            ends = senders[int(block.senders[column])], receivers[int(block.receivers[row])]
            met.append((*ends, np.flatnonzero(kinds).tolist()))
    known: list[tuple[Door, ...]] = [()]
    codes = iter(judge.of_flows(_flows(space, judge.kinds, met), {}, known).tolist())
    for sender, receiver, those in met:
        by_door: dict[Door, list[RangeSet]] = {}
        for kind in those:
            for door in known[next(codes)]:
                by_door.setdefault(door, []).append(judge.kinds.kinds[kind].services)
        for door, services in by_door.items():
            yield door, sender, receiver, RangeSet.of(pair for each in services for pair in each)


def _flows(space: Space, kinds: Kinds, met: Sequence[tuple[SpaceEnd, SpaceEnd, list[int]]]) -> Flows:
    """Some pairs on some kinds of traffic as flows, pair by pair."""
    rows = [(sender.atom, space.target(receiver, sender.outside), kinds.kinds[kind].service, kinds.kinds[kind].port)
            for sender, receiver, some in met for kind in some]  # fmt: skip
    columns = np.array(rows, dtype=np.int64).reshape(-1, 4).T
    return Flows(columns[0].astype(np.int32), columns[1].astype(np.int32), columns[2], columns[3])


class _OfFamily:
    def __init__(
        self, space: Space, family: int, far: Sequence[SpaceEnd], near: Sequence[SpaceEnd], is_out: bool
    ) -> None:
        self.space, self.family, self.is_out = space, family, is_out
        self.far, self.near = far, near
        self.reasons: list[str] = []
        self.machines: list[str] = [""]
        self.senders, self.receivers = (near, far) if is_out else (far, near)
        space.prepare(self.receivers)
        self.kinds: Kinds = space.kinds(family)
        self._by_ports: dict[RangeSet, list[int]] = {}
        for row, end in enumerate(self.senders):
            self._by_ports.setdefault(end.ports, []).append(row)
        self.sent = np.zeros((len(self.senders), self.kinds.words), dtype=np.uint64)
        """The kinds that each sender may send, by its client ports: uint64[senders, words]."""
        for ports, rows in self._by_ports.items():
            self.sent[rows] = self.kinds.sent_from(ports)

    def lines(self) -> list[DoorsLine]:
        """The lines of one family. Raises UsageError where there are too many to look at."""
        count = len(self.senders) * len(self.receivers) * len(self.kinds)
        if count > _MOST_FLOWS:
            raise UsageError(f"there are {count:,} kinds of traffic to be looked at for doors, more than anybody reads"
                             f" ({_MOST_FLOWS:,} at most): say which service, or ask about less")  # fmt: skip
        self.blocks = list(self.space.blocks(self.senders, self.receivers, self.family, self.kinds))
        codes, known = self.codes()
        there = np.zeros((len(self.senders), len(self.receivers)), dtype=np.bool_)
        for block in self.blocks:
            there[np.ix_(block.senders, block.receivers)] |= block.there.T
        codes[~there] = 0
        if self.is_out:
            codes = np.swapaxes(codes, 0, 1)
        found = []
        for kind in sorted({end.kind for end in self.far}):
            mine = np.array([row for row, end in enumerate(self.far) if end.kind == kind], dtype=np.int64)
            for code in np.unique(codes[mine]).tolist():
                if code:
                    for rows, columns, services in products(codes[mine] == code):
                        found.append(self.line(kind, known[code], mine[rows], columns, services))
        return found

    def codes(self) -> tuple[NDArray[np.int64], list[tuple[Door, ...]]]:
        """For each sender, receiver and set of services a number of the doors that stop it: int64[n, m, services]; 0
        for what gets through, at least from some client ports."""
        shape = len(self.senders), len(self.receivers)
        found = np.zeros((*shape, len(self.kinds.services)), dtype=np.int64)
        known: list[tuple[Door, ...]] = [()]
        numbers: dict[bytes, int] = {}
        open_ = np.zeros((*shape, len(self.kinds.services)), dtype=np.bool_)
        for block in self.blocks:
            answered = block.outcome.answered & self.sent[block.senders][None]
            passed = self.kinds.by_service(self.kinds.unpacked(answered)) > 0
            open_[np.ix_(block.senders, block.receivers)] |= np.swapaxes(passed & block.there[..., None], 0, 1)
        step = max(1, _CHUNK // len(self.receivers))
        for rows in self._by_ports.values():
            kinds = self._lowest_sent(rows[0])
            for at in range(0, len(rows), step):
                some = rows[at : at + step]
                mine = [self.senders[row] for row in some]
                for service, kind in enumerate(kinds):
                    found[some, :, service] = self.of_kind(mine, kind, numbers, known)
        found[open_] = 0
        return found, known

    def _lowest_sent(self, sender: int) -> list[Kind]:
        """Of each set of services the kind of the lowest client ports that a sender uses."""
        sent = np.flatnonzero(self.kinds.unpacked(self.sent[sender]))
        _, first = np.unique(self.kinds.service_of[sent], return_index=True)
        return [self.kinds.kinds[number] for number in sent[first].tolist()]

    def of_kind(
        self, senders: Sequence[SpaceEnd], kind: Kind, numbers: dict[bytes, int], known: list[tuple[Door, ...]]
    ) -> NDArray[np.int64]:
        """The numbers of the doors that stop one kind of traffic, int64[senders, receivers]."""
        flows, _ = flows_between(self.space, senders, self.receivers, [kind], len(senders) * len(self.receivers), True)
        return self.of_flows(flows, numbers, known).reshape(len(senders), len(self.receivers))

    def of_flows(self, flows: Flows, numbers: dict[bytes, int], known: list[tuple[Door, ...]]) -> NDArray[np.int64]:
        """The numbers of the doors that stop flows, int64[n]; new ones are noted in `numbers` and `known`."""
        parts = [self._of_some(flows.taken(slice(at, at + _CHUNK)), numbers, known)
                 for at in range(0, len(flows), _CHUNK)]  # fmt: skip
        return np.concatenate(parts) if parts else np.zeros(0, dtype=np.int64)

    def _of_some(self, flows: Flows, numbers: dict[bytes, int], known: list[tuple[Door, ...]]) -> NDArray[np.int64]:
        column = judged(self.space, flows)
        stops = (column.action == DROPS) | (column.action == REJECTS)
        gates = np.zeros(stops.shape, dtype=np.int64)
        way = column.way.astype(np.int64)
        for at in np.flatnonzero(stops.any(axis=0)).tolist():
            here = np.full(len(way), at, dtype=np.int64)
            number = self.space.layout.columns(way, here, self.number_of)
            reason = self.space.layout.columns(way, here, self.reason_of)
            decider = np.where(column.deciding[:, at] > 0, column.deciding[:, at], reason)
            gates[:, at] = np.where(stops[:, at], number * _DECIDERS + decider, 0)
        kinds = distinct(*gates.T)
        alike = gates[kinds.first]
        codes = np.zeros(len(alike), dtype=np.int64)
        for place in np.lexsort(alike.T[::-1]).tolist():
            met = alike[place][alike[place] > 0]
            if len(met):
                mark = met.tobytes()
                if mark not in numbers:
                    numbers[mark] = len(known)
                    known.append(tuple(self.door(*divmod(each, _DECIDERS)) for each in dict.fromkeys(met.tolist())))
                codes[place] = numbers[mark]
        return codes[kinds.codes]

    def door(self, number: int, decider: int) -> Door:
        """A door by the number of its gate and of what decides there."""
        machine, number = divmod(number, _GATES)
        gate, direction = gate_named(number)
        at = self.machines[machine]
        if decider >= _REASONS:
            return Door(gate, direction, None, None, None, self.reasons[decider - _REASONS], at)
        chosen = self.space.layout.lists.deciders[decider]
        if not chosen.filter:
            return Door(gate, direction, None, None, None, chosen.rule or "", at)
        place = place_of(self.space, gate, direction, chosen)
        return Door(gate, direction, chosen.filter, chosen.rule, place, at=at)

    def number_of(self, slot: Slot) -> int:
        """The number of a kind of gate and its direction, with that of the machine on the way whose it is."""
        if slot.gate.whose != FIXED or slot.kind not in (INTERFACE, HOST):
            return slot.number
        if slot.gate.step.at not in self.machines:
            self.machines.append(slot.gate.step.at)
        return self.machines.index(slot.gate.step.at) * _GATES + slot.number

    def reason_of(self, slot: Slot) -> int:
        """The number of why the way itself stops packets at a gate."""
        stop = slot.gate.step.stop
        words = (
            f"no crossing {slot.gate.step.at} is listed"
            if stop is None
            else SHARED_REASONS.get(stop.kind, stop.kind or "stopped here")
        )
        if words not in self.reasons:
            self.reasons.append(words)
        return _REASONS + self.reasons.index(words)

    def line(
        self, kind: int, met: tuple[Door, ...], rows: NDArray[np.int64], columns: NDArray[np.int64],
        services: NDArray[np.int64],
    ) -> DoorsLine:  # fmt: skip
        """One line."""
        mine, theirs = [self.far[row] for row in rows.tolist()], [self.near[column] for column in columns.tolist()]
        one, other = apart(*((theirs, mine) if self.is_out else (mine, theirs)))
        asked = self.kinds.kinds[int(np.flatnonzero(self.kinds.service_of == services[0])[0])].service
        return DoorsLine(
            self.family, kind, met, tuple(member for end in mine for member in end.members),
            tuple(member for end in theirs for member in end.members),
            RangeSet.of(pair for number in services.tolist() for pair in self.kinds.services[number]),
            (one, other, Service(asked >> 16, asked & 0xFFFF)),
        )  # fmt: skip
