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
from kiboko.core.tables.flow_ways import ways_of
from kiboko.core.tables.interface_gates import WAYS
from kiboko.core.tables.layout import INTERFACE_OF, MACHINE_OF, PLACE_OF, SUBNET_OF, GateLayout
from kiboko.core.tables.places import NONE

Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]
MOST_BEHIND = 1 << 12
"""As many senders as are looked at behind one shared address, of those that nothing tells apart two."""
_FEW = 64
_MOST_AT_ONCE = 1 << 17
_NOBODY = 255


@dataclass(frozen=True, slots=True)
class ByGates:
    """What `n` flows come to by their gates: `reason` uint8[n], an index of `REASONS`, `kind` int64[n] of the gate that
    stops each, as the layout numbers them, `decider` int64[n] what decides there, and `steps` int64[n] how many steps
    of the request's way were passed."""

    reason: NDArray[np.uint8]
    kind: Rows
    decider: Rows
    steps: Rows


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
            found = found[self._of_each_kind(found, near)] if len(found) > _FEW else found
            self._behind[key] = found if len(found) <= MOST_BEHIND else found[:0]
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

    def asked(self, gateway: int, senders: Rows, target: Rows) -> tuple[Rows, Rows]:
        """Who of some senders may have sent something to some addresses: those whose packets leave by the gateway, or
        any where there are no such among all that stand behind it.

        Returns
        -------
        of : int64[m], which of the addresses, ascending
        place : int64[m], which of the senders, ascending for each address
        """
        leads, is_any = self._leading(gateway, senders, target)
        machines, sent_to = self._ends.machines(senders), self._ends.machines(target)
        of, place = np.nonzero((leads | ~is_any[:, np.newaxis]) & (machines != sent_to[:, np.newaxis]))
        return of, place

    def _leading(self, gateway: int, senders: Rows, target: Rows) -> tuple[Truths, Truths]:
        """Of which senders the packets to which addresses leave by a gateway, bool[addresses, senders]; and to which
        addresses those of anybody behind it do."""
        every = self._ends.behind(gateway)
        places = [self._layout.fact(PLACE_OF, each.astype(np.int32)) for each in (senders, every)]
        is_near = self._ends.subnets(target) != NONE
        kinds = distinct(self._layout.fact(PLACE_OF, target.astype(np.int32)), np.where(is_near, target, NONE))
        leads = np.zeros((len(kinds), len(senders)), dtype=np.bool_)
        is_any = np.zeros(len(kinds), dtype=np.bool_)
        first_of = distinct(places[1]).first
        for number, row in enumerate(kinds.first.tolist()):
            # Where an address is beyond the network, the sender's place alone tells the way.
            asked = every if is_near[row] else every[first_of]
            ways = ways_of(self._layout, asked.astype(np.int32), np.full(len(asked), target[row], dtype=np.int32))
            found = np.array([self._leads(gateway, way) for way in ways.tolist()], dtype=np.bool_)
            is_any[number] = found.any()
            leading = asked[found] if is_near[row] else places[1][first_of[found]]
            leads[number] = np.isin(senders if is_near[row] else places[0], leading)
        return leads[kinds.codes], is_any[kinds.codes]

    def _leads(self, gateway: int, way: int) -> bool:
        """Whether a way leads by the translation of a gateway."""
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
        for some in _shares(len(senders)):
            step = max(1, _MOST_AT_ONCE // len(some))
            for at in range(0, len(left), step):
                rows = left[at : at + step]
                of, place = self.asked(gateway, senders[some], asked.target[rows])
                if len(of):
                    every = asked.taken(rows[of])
                    whole = replace(every, sender=senders[some[place]], port=np.full(len(of), NONE))
                    found.note(rows, of, some[place], judge(whole, every.port))
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
    """What the possibilities that were noted of some flows have in common."""

    def __init__(self, count: int) -> None:
        self._least = np.full(count, _NOBODY, dtype=np.uint8)
        self._most = np.zeros(count, dtype=np.uint8)
        self._worth = np.full(count, _NOBODY, dtype=np.uint8)
        self._is_alike = np.ones(count, dtype=np.bool_)
        self._first = np.full(count, MOST_BEHIND, dtype=np.int64)
        self._reason = np.full(count, judging.SHARED_UNKNOWN, dtype=np.uint8)
        self._decided = np.full(count, NONE, dtype=np.int64)
        self._is_one = np.ones(count, dtype=np.bool_)

    def note(self, rows: Rows, of: Rows, place: Rows, told: ByGates) -> None:
        """Note possibilities: `of` which of the `rows` each is, ascending, and the place of its sender among all,
        ascending for each of them."""
        status, worth = judging.standing(told.reason)
        decided = told.kind << 32 | told.decider
        begins = np.flatnonzero(np.diff(of, prepend=-1))
        row = rows[of[begins]]
        self._least[row] = np.minimum(self._least[row], np.minimum.reduceat(status, begins))
        self._most[row] = np.maximum(self._most[row], np.maximum.reduceat(status, begins))
        mine, known = worth[begins], self._worth[row]
        is_alike = np.minimum.reduceat(worth, begins) == np.maximum.reduceat(worth, begins)
        self._is_alike[row] &= is_alike & ((known == _NOBODY) | (known == mine))
        self._worth[row] = mine
        first, before = decided[begins], self._decided[row]
        is_one = np.minimum.reduceat(decided, begins) == np.maximum.reduceat(decided, begins)
        self._is_one[row] &= is_one & ((before == NONE) | (before == first))
        self._decided[row] = first
        earlier = place[begins] < self._first[row]
        self._first[row[earlier]] = place[begins[earlier]]
        self._reason[row[earlier]] = told.reason[begins[earlier]]

    def is_told(self, rows: Rows) -> Truths:
        """Which flows have nothing in common, whatever others come to."""
        found: Truths = (self._least[rows] != _NOBODY) & (self._least[rows] != self._most[rows])
        return found

    def outcome(self) -> ByGates:
        """What all flows come to."""
        reason = np.where(self._is_alike, self._reason, np.uint8(judging.AS_RECORDED))
        reason[self.is_told(np.arange(len(reason)))] = judging.SHARED_UNSURE
        reason[reason == judging.PORTS_UNKNOWN] = judging.SHARED_PORT
        decided = np.where(self._is_one, np.maximum(self._decided, 0), 0)
        none = np.zeros(len(reason), dtype=np.int64)
        return ByGates(reason, decided >> 32, decided & 0xFFFFFFFF, none)
