"""Who may stand behind a shared address, and what all of them have in common (clause E11).

A gateway that gives many senders one address gives them other ports as well (RFC 4787): what is recorded behind it
tells neither who sent it nor from which port. So a flow from there is judged for each sender whose packets leave by
that gateway, and for each port that he may have used, the recorded one among them.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence import judging
from kiboko.core.evidence.addressed import Asked
from kiboko.core.evidence.seen_ends import SeenEnds
from kiboko.core.records.columns import distinct
from kiboko.core.tables.boxes import DESTINATIONS, SOURCES
from kiboko.core.tables.interface_gates import WAYS
from kiboko.core.tables.layout import INTERFACE_OF, MACHINE_OF, PLACE_OF, SUBNET_OF, GateLayout
from kiboko.core.tables.places import NONE

Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]
MOST_BEHIND = 1 << 16
"""As many senders as are looked at behind one shared address."""
_FEW = 64
_MOST_AT_ONCE = 1 << 17
_NOBODY = 255


@dataclass(frozen=True, slots=True)
class ByGates:
    """What `n` flows come to by their gates: `reason` uint8[n], an index of `REASONS`, `kind` int64[n] of the gate that
    stops each, as the layout numbers them, `decider` int64[n] what decides there, `steps` int64[n] how many steps of
    the request's way were passed, and `way` int64[n] the number of that way."""

    reason: NDArray[np.uint8]
    kind: Rows
    decider: Rows
    steps: Rows
    way: Rows


class SharedSenders:
    """Those of one network."""

    def __init__(self, ends: SeenEnds, layout: GateLayout, gateways: Sequence[str]) -> None:
        """`gateways` are the names of the network's gateways, in the order in which `ends` numbers them."""
        self._ends, self._layout, self._gateways = ends, layout, gateways
        self._leads_by: dict[tuple[int, int], bool] = {}
        self._behind: dict[tuple[int, bool], Rows] = {}

    def behind(self, gateway: int, near: bool = True) -> Rows:
        """The atoms of senders that may stand behind the address of a gateway, int64[k], in file order; none where they
        are more than `MOST_BEHIND`. Of many machines that nothing tells apart there are two: of what is sent to one of
        them the other one is asked. `near` is whether what they send to may be in a subnet of theirs."""
        key = gateway, near
        if key not in self._behind:
            found = self._ends.behind(gateway)
            found = found if len(found) <= MOST_BEHIND else found[:0]
            self._behind[key] = found[self._of_each_kind(found, near)] if len(found) > _FEW else found
        return self._behind[key]

    def _of_each_kind(self, atoms: Rows, near: bool) -> Rows:
        """The places of the first senders of each two machines that no gate, rule or observation point tells apart."""
        layout = self._layout
        facts = layout.ends_of(atoms.astype(np.int32))
        interface, subnet, machine = facts[INTERFACE_OF], facts[SUBNET_OF], facts[MACHINE_OF]
        for chosen in layout.walker.topology.filters.values():
            for way in WAYS:
                layout.lists.list_of(chosen, way)
        gates = layout.gates
        kernels = np.full(len(atoms), NONE, dtype=np.int64)
        has_kernel = gates.host_kernel[interface]
        kernels[has_kernel] = layout.kernel_sorts(interface[has_kernel])
        told = [facts[PLACE_OF], kernels, self._watched(interface, subnet)]
        told += [*layout.subnet_list[subnet].T, *gates.host_list[interface].T]
        if near:
            told.append(subnet)
        for table in (gates.slot_list, gates.slot_any):
            told += list(table[interface].reshape(len(atoms), -1).T.astype(np.int64))
        for dimension in (SOURCES, DESTINATIONS):
            told.append(_numbers(layout.lists.marks(dimension, atoms)))
        told.append(_numbers([self._own_ports(number) for number in interface.tolist()]))
        kind = distinct(*told).codes
        first = distinct(kind).first
        other = np.flatnonzero(machine != machine[first][kind])
        second = other[distinct(kind[other]).first] if len(other) else other
        return np.union1d(first, second)

    def _watched(self, interface: Rows, subnet: Rows) -> Rows:
        """A number for each of some senders: the same for those that no observation point is beside, or the same one of
        their subnet."""
        topology = self._layout.walker.topology
        names = {point.name for point in topology.observation_points.values()}
        subnets = np.array([name in names for name in topology.subnets], dtype=np.bool_)
        interfaces = np.array([each.name in names or each.instance in names for each in self._layout.interfaces])
        found = np.where(subnets[subnet], subnet, NONE)
        return np.where(interfaces[interface], len(subnets) + interface, found)

    def _own_ports(self, interface: int) -> object:
        """The client's ports of a machine, where the network file says them."""
        return self._layout.walker.topology.instances[self._layout.interfaces[interface].instance].ephemeral_ports

    def leads_by(self, gateway: int, ways: Rows) -> Truths:
        """Which ways lead by the translation of a gateway, bool[n]."""
        listed, back = np.unique(ways, return_inverse=True)
        return np.array([self._leads(gateway, way) for way in listed.tolist()], dtype=np.bool_)[back]

    def _leads(self, gateway: int, way: int) -> bool:
        key = gateway, way
        if key not in self._leads_by:
            slots = self._layout.slots(way, False) if way != NONE else []
            name = self._gateways[gateway]
            self._leads_by[key] = any(s.gate.step.gate == "translate" and s.gate.step.at == name for s in slots)
        return self._leads_by[key]

    def judged(self, gateway: int, asked: Asked, judge: Callable[[Asked, Rows], ByGates]) -> ByGates:
        """What flows from the address of a gateway come to, whoever of those behind it sent them.

        What stops them is told where the same does so for all of them. Where the ways of none of them lead by that
        gateway, it may be any.

        Parameters
        ----------
        judge : judges flows whose client's port is not known, and may be one that was recorded, int64[n] (-1 for none)
        """
        found = _InCommon(len(asked.sender))
        is_near = self._ends.subnets(asked.target) != NONE
        for near in (False, True):
            rows = np.flatnonzero(is_near == near)
            if len(rows):
                self._note(self.behind(gateway, near), gateway, rows, asked, judge, found)
        return found.outcome()

    def _note(
        self, senders: Rows, gateway: int, left: Rows, asked: Asked, judge: Callable[[Asked, Rows], ByGates],
        found: _InCommon,
    ) -> None:  # fmt: skip
        """Note what some flows come to by each of some senders, until they have nothing in common."""
        machines, sent_to = self._ends.machines(senders), self._ends.machines(asked.target)
        for some in _shares(len(senders)):
            step = max(1, _MOST_AT_ONCE // len(some))
            for at in range(0, len(left), step):
                rows = left[at : at + step]
                of, place = np.nonzero(machines[some] != sent_to[rows, np.newaxis])
                if len(of):
                    every = asked.taken(rows[of])
                    whole = replace(every, sender=senders[some[place]], port=np.full(len(of), NONE))
                    told = judge(whole, every.port)
                    found.note(rows, of, some[place], told, self.leads_by(gateway, told.way))
            left = left[~found.is_told(left)]


def _shares(count: int) -> list[Rows]:
    """The numbers up to `count` in parts: a few first that lie far apart, which are most likely to differ."""
    first = np.arange(0, count, max(1, -(-count // _FEW)))
    rest = np.setdiff1d(np.arange(count), first)
    step = 1 << 12
    return [each for each in (first, *(rest[at : at + step] for at in range(0, len(rest), step))) if len(each)]


def _numbers(values: Sequence[object]) -> Rows:
    """A number for each value, the same for equal ones."""
    known: dict[object, int] = {}
    return np.array([known.setdefault(value, len(known)) for value in values], dtype=np.int64)


class _InCommon:
    """What the possibilities that were noted of some flows have in common; of those who leave by the gateway, and of
    all."""

    def __init__(self, count: int) -> None:
        self._least = np.full((2, count), _NOBODY, dtype=np.uint8)
        self._most = np.zeros((2, count), dtype=np.uint8)
        self._first = np.full((2, count), MOST_BEHIND, dtype=np.int64)
        self._reason = np.full((2, count), judging.SHARED_UNKNOWN, dtype=np.uint8)
        self._decided = np.full((2, count), NONE, dtype=np.int64)
        self._is_one = np.ones((2, count), dtype=np.bool_)

    def note(self, rows: Rows, of: Rows, place: Rows, told: ByGates, leaves: Truths) -> None:
        """Note possibilities: `of` which of the `rows` each is, ascending, the place of its sender among all, ascending
        for each of them, and which of them leave by the gateway."""
        status = judging.standing(told.reason)
        decided = told.kind << 32 | told.decider
        for which, chosen in enumerate((np.flatnonzero(leaves), np.arange(len(of)))):
            if not len(chosen):
                continue
            mine = of[chosen]
            begins = np.flatnonzero(np.diff(mine, prepend=-1))
            row = rows[mine[begins]]
            here, deciders = status[chosen], decided[chosen]
            self._least[which, row] = np.minimum(self._least[which, row], np.minimum.reduceat(here, begins))
            self._most[which, row] = np.maximum(self._most[which, row], np.maximum.reduceat(here, begins))
            first = deciders[begins]
            is_one = np.minimum.reduceat(deciders, begins) == np.maximum.reduceat(deciders, begins)
            before = self._decided[which, row]
            self._is_one[which, row] &= is_one & ((before == NONE) | (before == first))
            self._decided[which, row] = first
            earlier = place[chosen[begins]] < self._first[which, row]
            self._first[which, row[earlier]] = place[chosen[begins[earlier]]]
            self._reason[which, row[earlier]] = told.reason[chosen[begins[earlier]]]

    def is_told(self, rows: Rows) -> Truths:
        """Of which flows those who leave by the gateway have nothing in common, whatever others come to."""
        found: Truths = (self._least[0, rows] != _NOBODY) & (self._least[0, rows] != self._most[0, rows])
        return found

    def outcome(self) -> ByGates:
        """What all flows come to."""
        which = np.where(self._least[0] != _NOBODY, 0, 1)
        rows = np.arange(len(which))
        least, most, reason = (each[which, rows] for each in (self._least, self._most, self._reason))
        reason[(least != _NOBODY) & (least != most)] = judging.SHARED_UNSURE
        reason[reason == judging.PORTS_UNKNOWN] = judging.SHARED_PORT
        decided = np.where(self._is_one[which, rows], np.maximum(self._decided[which, rows], 0), 0)
        none = np.zeros(len(rows), dtype=np.int64)
        return ByGates(reason, decided >> 32, decided & 0xFFFFFFFF, none, none - 1)
