"""Some flows being judged: the first gate of all of them, then the second, and so on."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.filters.host_judge import HostShare
from kiboko.core.header.packet import Packet, answering, following, request
from kiboko.core.header.services import ICMP, ICMP6, Service
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.records.columns import distinct, has_ports
from kiboko.core.tables.boxes import DESTINATIONS, SERVICES, SOURCES, Packets
from kiboko.core.tables.filter_lists import (
    BOUND_ELSEWHERE,
    DOUBTFUL,
    DROPS,
    LETS_BACK,
    NO_LIST,
    NOT_KNOWN,
    NOTHING_LISTENS,
    PASSES,
    REJECTS,
    UNFILTERED_TRACKED,
    Decider,
)
from kiboko.core.tables.flow_ways import ways_between
from kiboko.core.tables.layout import Classes, GateLayout, kernel_code
from kiboko.core.tables.lines import NO_PORT
from kiboko.core.tables.listeners import TAKEN
from kiboko.core.tables.places import NONE
from kiboko.core.tables.slots import HOST, INTERFACE, LIST, LISTENER, NO_GATE, SETTLED, SUBNET, ZONE_DEFAULT, Sort
from kiboko.core.tables.ways import CONSTANT, FIXED, RECEIVER, Gate

_HOST_GATES = ("host-out", "host-in")


@dataclass(frozen=True, slots=True)
class Flows:
    """`n` flows, each of one client port: int32[n] atoms of the sender's address and of the address that it sends to,
    int64[n] the service's number and the client's port, -1 where there is none."""

    source: NDArray[np.int32]
    target: NDArray[np.int32]
    service: NDArray[np.int64]
    port: NDArray[np.int64]

    def __len__(self) -> int:
        return len(self.source)

    def taken(self, rows: NDArray[np.int64] | slice) -> Flows:
        """Some of them."""
        return Flows(self.source[rows], self.target[rows], self.service[rows], self.port[rows])


class _Column(NamedTuple):
    """A column of gates that is being asked: its place among all, and among those of its part, the request or the
    reply; and the sort of what is asked there."""

    at: int
    own: int
    is_reply: bool
    sort: Sort


class _KernelPacket(NamedTuple):
    """A packet at the gate of a kernel rule set: of which row, between which atoms of addresses, in which classes
    of what the rule set tells apart; whether it is of the reply, and whether it follows an answered request; and
    whether its kernel saw what went the other way, so that it takes the packet for part of a connection."""

    gate: Gate
    interface: int
    row: int
    ends: tuple[int, int]
    classes: Classes
    is_reply: bool
    is_later: bool
    is_met: bool


class FlowColumn:
    """Some flows being judged, gate by gate."""

    def __init__(self, layout: GateLayout, flows: Flows) -> None:
        self.layout, self.flows = layout, flows
        self.count = len(flows)
        self._take_ends()
        self._take_packets()
        self.request, self.reply = layout.widths
        self._arrays = layout.arrays()
        width = self.request + self.reply
        # Laid out column by column, as they are written.
        self.action = np.zeros((self.count, width), dtype=np.uint8, order="F")
        self.deciding = np.zeros((self.count, width), dtype=np.int32, order="F")
        self.keeps = np.zeros((self.count, max(1, self.request)), dtype=np.bool_, order="F")
        self._any_found = np.full(self.count, NONE, dtype=np.int64)
        self._any_keeps = np.zeros(self.count, dtype=np.bool_)
        # Of rules with conditions (clause S41): what of the requests perhaps leaves state, and of a set of `any`
        # filters the first such rule that matches, and whether some that do keep state, and some do not.
        some = self.count if layout.lists.has_conditions else 0
        self.perhaps_keeps = np.zeros((some, max(1, self.request)), dtype=np.bool_, order="F")
        self._any_perhaps = np.full(some, NONE, dtype=np.int64)
        self._any_perhaps_keeps = np.zeros((2, some), dtype=np.bool_)
        self._diverted = np.zeros(self.count, dtype=np.bool_)
        """Of which flows the packet may have gone elsewhere by now, so that no gate is sure to stop it (clause S35)."""

    def _take_ends(self) -> None:
        layout = self.layout
        near, far = layout.ends_of(self.flows.source), layout.ends_of(self.flows.target)
        own, public, self.interface, self.subnet, _, self.machine = (
            (near[row], far[row]) for row in range(len(near))
        )  # fmt: skip
        self.address = [own[0].astype(np.int32), public[0].astype(np.int32), self.flows.target, own[1].astype(np.int32)]
        """The atoms of addresses at gates, in the order of the kinds that `kiboko.core.tables.ways` has of them."""
        self.way = ways_between(layout, self.flows.source, self.flows.target, near, far)
        self.listening = layout.listening_at(self.flows.target)

    def _take_packets(self) -> None:
        layout, flows = self.layout, self.flows
        protocol = flows.service >> 16
        self.protocol = protocol
        self.has_ports = has_ports(protocol)
        self.has_ports &= flows.port >= 0
        port = np.where(self.has_ports, flows.port, NO_PORT)
        detail = np.where(self.has_ports, flows.service & 0xFFFF, NO_PORT)
        back, has_reply = turned(flows.service, flows.port, self.has_ports)
        self.service = layout.services.atoms(flows.service), layout.services.atoms(back)
        self.port = layout.ports.atoms(port), layout.ports.atoms(detail)
        replying = np.array([way.has_reply for way in layout.ways] or [False])
        self.has_reply = has_reply & replying[self.way]

    def ask(self, at: int) -> None:
        """Ask the gates of one column."""
        is_reply = at >= self.request
        diverted = np.flatnonzero(self._diverted)
        for column, rows in self._sorts(at - self.request if is_reply else at, is_reply):
            self._ask_sort(column, rows)
        if len(diverted):
            stopped = np.isin(self.action[diverted, at], (DROPS, REJECTS))
            self.action[diverted[stopped], at] = DOUBTFUL

    def _sorts(self, own: int, is_reply: bool) -> Iterator[tuple[_Column, NDArray[np.int64]]]:
        """The sorts of gates at a column of the request or the reply, and the rows of the flows that have each."""
        there = self.way >= 0
        if is_reply:
            there = there & self.has_reply
        sorts = np.where(there, self._arrays[f"{'reply' if is_reply else 'request'} sort"][self.way, own], 0)
        listed = list(self.layout.sorts)
        for number in np.flatnonzero(np.bincount(sorts)).tolist():
            if listed[number].kind != NO_GATE:
                column = _Column(own + self.request if is_reply else own, own, is_reply, listed[number])
                yield column, np.flatnonzero(sorts == number)

    def _read(self, name: str, rows: NDArray[np.int64], column: _Column) -> NDArray[np.int64]:
        part = "reply" if column.is_reply else "request"
        found: NDArray[np.int64] = self._arrays[f"{part} {name}"][self.way[rows], column.own]
        return found

    def _ask_sort(self, column: _Column, rows: NDArray[np.int64]) -> None:
        kind = column.sort.kind
        if kind == SETTLED:
            self.action[rows, column.at] = self._read("settled", rows, column)
        elif kind == ZONE_DEFAULT:
            self._ask_zone_default(column, rows)
        elif kind == LIST:
            self._ask_lists(column, rows, self._read("whose", rows, column))
        elif kind == SUBNET:
            subnet = self._whose(self.subnet, column, rows)
            self._ask_lists(column, rows, self.layout.subnet_list[subnet, column.sort.way])
        elif kind == HOST:
            self._ask_host(column, rows)
        elif kind == INTERFACE:
            self._ask_interface(column, rows)
        elif kind == LISTENER:
            self._ask_listener(column, rows)

    def _whose(
        self, numbers: tuple[NDArray[np.int64], NDArray[np.int64]], column: _Column, rows: NDArray[np.int64]
    ) -> NDArray[np.int64]:
        """The interface or subnet of a gate: the sender's, the receiver's, or that of the way."""
        of = column.sort.of
        return numbers[of][rows] if of < len(numbers) else self._read("whose", rows, column)

    def _packets(self, column: _Column, rows: NDArray[np.int64]) -> Packets:
        sides = [
            self._read(f"{side}_atom", rows, column).astype(np.int32) if kind == CONSTANT else self.address[kind][rows]
            for side, kind in (("source", column.sort.source), ("destination", column.sort.destination))
        ]
        direction = 1 if column.is_reply else 0
        return Packets(sides[0], sides[1], self.service[direction][rows], self.port[direction][rows])

    def _let_back(self, column: _Column, rows: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Which replies the state lets back that their requests left."""
        found = np.zeros(len(rows), dtype=np.bool_)
        for keeper in column.sort.keepers:
            found |= self.keeps[rows, keeper]
        return found

    def _ask_zone_default(self, column: _Column, rows: NDArray[np.int64]) -> None:
        back = self._let_back(column, rows)
        self.action[rows, column.at] = np.where(back, LETS_BACK, self._read("settled", rows, column))
        if not column.is_reply:
            self.keeps[rows, column.at] = True

    def _ask_lists(self, column: _Column, rows: NDArray[np.int64], lists: NDArray[np.int64]) -> None:
        """Gates of one filter each, by the numbers of their lists."""
        at, is_reply = column.at, column.is_reply
        lists = self.layout.lists.for_replies(lists) if is_reply else lists
        back = self._let_back(column, rows)
        self.action[rows, at] = np.where(back, LETS_BACK, PASSES)
        if not is_reply:
            self.keeps[rows, at] = lists == UNFILTERED_TRACKED
        asked = np.flatnonzero((lists >= 0) & ~back)
        if len(asked):
            action, keeps, decider = self.layout.lists.decided(lists[asked], self._packets(column, rows[asked]))
            self.action[rows[asked], at] = action
            self.deciding[rows[asked], at] = decider
            if not is_reply:
                self.keeps[rows[asked], at] = keeps
            else:
                self._doubt_let_back(column, rows[asked])

    def _doubt_let_back(self, column: _Column, rows: NDArray[np.int64]) -> None:
        """Of replies that a gate stops, note those that the state perhaps lets back that their requests left."""
        if len(self.perhaps_keeps) and column.sort.keepers:
            perhaps = self.perhaps_keeps[rows][:, list(column.sort.keepers)].any(axis=1)
            stopped = np.isin(self.action[rows, column.at], (DROPS, REJECTS))
            self.action[rows[perhaps & stopped], column.at] = DOUBTFUL

    def _ask_interface(self, column: _Column, rows: NDArray[np.int64]) -> None:
        gates = self.layout.gates
        interface, (way, slot) = self._whose(self.interface, column, rows), (column.sort.way, column.sort.slot)
        lists, member = gates.slot_list[interface, way, slot], gates.slot_any[interface, way, slot]
        single = np.flatnonzero((member == 0) & (lists != NO_LIST))
        if len(single):
            self._ask_lists(column, rows[single], lists[single])
        several = np.flatnonzero(member > 0)
        if len(several):
            self._ask_any(column, rows[several], lists[several], interface[several])

    def _ask_any(
        self, column: _Column, rows: NDArray[np.int64], lists: NDArray[np.int64], interface: NDArray[np.int64]
    ) -> None:
        """A member of an `any` set; at its last one, what the set as a whole does."""
        at, way, slot = column.at, column.sort.way, column.sort.slot
        layout = self.layout
        lists = layout.lists.for_replies(lists) if column.is_reply else lists
        asked = np.flatnonzero(lists >= 0)
        if len(asked):
            rule = layout.lists.first(lists[asked], self._packets(column, rows[asked]))
            matched = rule != NONE
            mine = rows[asked]
            fresh = matched & (self._any_found[mine] == NONE)
            self._any_found[mine[fresh]] = rule[fresh]
            stateful = layout.gates.slot_stateful[interface[asked], way, slot]
            self._any_keeps[mine] |= matched & stateful
            if len(self.perhaps_keeps):
                self._ask_any_on_conditions(lists[asked], self._packets(column, mine), mine, stateful)
        last = np.flatnonzero(layout.gates.slot_any[interface, way, slot] == 2)
        if not len(last):
            return
        mine, at_last = rows[last], (interface[last], way, slot)
        rule, back = self._any_found[mine], self._let_back(column, mine)
        matched = rule != NONE
        decider = np.where(matched, layout.lists.deciding(rule), layout.gates.else_decider[at_last])
        action = np.where(matched, PASSES, layout.gates.else_action[at_last])
        self.action[mine, at] = np.where(back, LETS_BACK, action)
        self.deciding[mine, at] = np.where(back, 0, decider)
        if not column.is_reply:
            self.keeps[mine, at] = np.where(matched, self._any_keeps[mine], layout.gates.else_keeps[at_last])
        if len(self.perhaps_keeps):
            self._close_any_on_conditions(column, mine, ~matched & ~back)
        if column.is_reply:
            self._doubt_let_back(column, mine)
        self._any_found[mine] = NONE
        self._any_keeps[mine] = False

    def _ask_any_on_conditions(
        self, lists: NDArray[np.int64], packets: Packets, rows: NDArray[np.int64], stateful: NDArray[np.bool_]
    ) -> None:
        """Note which rules of a member of an `any` set match if a condition holds (clause S41)."""
        rule = self.layout.lists.first_on_condition(PASSES, lists, packets)
        matched = rule != NONE
        fresh = matched & (self._any_perhaps[rows] == NONE)
        self._any_perhaps[rows[fresh]] = rule[fresh]
        self._any_perhaps_keeps[0, rows] |= matched & ~stateful
        self._any_perhaps_keeps[1, rows] |= matched & stateful

    def _close_any_on_conditions(
        self, column: _Column, rows: NDArray[np.int64], unmatched: NDArray[np.bool_]
    ) -> None:  # fmt: skip
        """What an `any` set perhaps does; `unmatched` are the packets that no rule of it surely matches."""
        lists, rule = self.layout.lists, self._any_perhaps[rows]
        some = np.flatnonzero((rule != NONE) & unmatched)
        here = rows[some], column.at
        self.deciding[here] = lists.perhaps(rule[some], self.action[here], self.deciding[here])
        self.action[rows[some], column.at] = DOUBTFUL
        if not column.is_reply:
            mine, (others, keeping) = rows[some], self._any_perhaps_keeps[:, rows]
            self.keeps[mine, column.at] &= ~others[some]
            self.perhaps_keeps[rows, column.at] = keeping & ~self.keeps[rows, column.at]
        self._any_perhaps[rows] = NONE
        self._any_perhaps_keeps[:, rows] = False

    def _ask_host(self, column: _Column, rows: NDArray[np.int64]) -> None:
        layout = self.layout
        interface = self._whose(self.interface, column, rows)
        kernel = layout.gates.host_kernel[interface]
        plain = np.flatnonzero(~kernel)
        if len(plain):
            self._ask_lists(column, rows[plain], layout.gates.host_list[interface[plain], column.sort.way])
        asked = np.flatnonzero(kernel)
        if len(asked):
            mine = rows[asked]
            action, deciding, diverted = self._by_kernel(column, mine, interface[asked])
            self.action[mine, column.at], self.deciding[mine, column.at] = action, deciding
            self._diverted[mine[diverted]] = True

    def stops_later(self) -> NDArray[np.bool_]:
        """Of which flows a kernel's rule set surely stops what follows an answered first packet, bool[n] (S35)."""
        layout = self.layout
        found = np.zeros(self.count, dtype=np.bool_)
        for own in range(self.request):
            for column, rows in self._sorts(own, False):
                if column.sort.kind != HOST:
                    continue
                interface = self._whose(self.interface, column, rows)
                kernel = layout.gates.host_kernel[interface]
                if kernel.any():
                    mine = rows[kernel]
                    action, _, _ = self._by_kernel(column, mine, interface[kernel], is_later=True)
                    found[mine] |= (action == DROPS) | (action == REJECTS)
        return found

    def _by_kernel(
        self, column: _Column, rows: NDArray[np.int64], interface: NDArray[np.int64], is_later: bool = False
    ) -> tuple[NDArray[np.uint8], NDArray[np.int32], NDArray[np.bool_]]:
        """What kernel rule sets do, what decides there, and which packets may go elsewhere by it: one question for all
        packets that nothing in the network tells apart. `is_later` asks about what follows an answered request."""
        own, is_reply = column.own, column.is_reply
        packets = self._packets(column, rows)
        classes = self._kernel_classes(rows, interface, packets)
        ways = distinct(self.way[rows])
        told = [self._told_by_way(row, own, is_reply) for row in rows[ways.first].tolist()]
        numbers = {each: number for number, each in enumerate(dict.fromkeys(told))}
        alike = np.array([numbers[each] for each in told], dtype=np.int64)
        sorts = self.layout.kernel_sorts(interface)
        is_met = self._is_met(rows, interface, is_reply) if is_reply or is_later else np.zeros(len(rows), np.bool_)
        kinds = distinct(alike[ways.codes], sorts, self.protocol[rows], self.has_reply[rows], is_met, *classes)
        shares = []
        for at in kinds.first.tolist():
            row, ends = int(rows[at]), (int(packets.sources[at]), int(packets.destinations[at]))
            place = self.layout.slot(int(self.way[row]), is_reply, own)
            assert place is not None
            known = tuple(int(each[at]) for each in classes)
            met = bool(is_met[at])
            asked = _KernelPacket(place.gate, int(interface[at]), row, ends, known, is_reply, is_later, met)
            shares.append(self._of_kernel(asked))
        action = np.array([kernel_code(each) for each in shares], dtype=np.uint8)
        diverted = np.array([each is not None and each.diverts for each in shares], dtype=np.bool_)
        return action[kinds.codes], self._kernel_deciders(shares, kinds.codes, interface), diverted[kinds.codes]

    def _kernel_deciders(
        self, shares: list[HostShare | None], of: NDArray[np.int64], interface: NDArray[np.int64]
    ) -> NDArray[np.int32]:
        """What decides for packets of which each has one of some shares, by the file of its own host's rule set."""
        layout, directory = self.layout, self.layout.walker.directory
        pairs = distinct(of, interface)
        decider = np.zeros(len(pairs), dtype=np.int32)
        files: dict[int, str] = {}
        known: dict[tuple[int, str], int] = {}
        firsts = zip(of[pairs.first].tolist(), interface[pairs.first].tolist(), strict=True)
        for place, (number, borne) in enumerate(firsts):
            share = shares[number]
            if share is None:
                continue
            if borne not in files:
                rules = directory.instance_of(layout.interfaces[borne]).host_filter
                assert isinstance(rules, HostRuleSet)
                files[borne] = rules.file
            key = number, files[borne]
            if key not in known:
                known[key] = layout.lists.decider(Decider(files[borne], share.rule, share.chain, share.possible))
            decider[place] = known[key]
        return decider[pairs.codes]

    def _told_by_way(self, row: int, own: int, is_reply: bool) -> tuple[object, ...]:
        """All that a kernel rule set learns of a packet by its way: the address family, and the hooks and devices by
        which it comes."""
        way, family = int(self.way[row]), self.layout.addresses.first(int(self.flows.target[row])).family
        place = self.layout.slot(way, is_reply, own)
        assert place is not None
        gate, step = place.gate, place.gate.step
        devices = [(each.device if gate.whose == FIXED else True) if each is not None else None
                   for each in (step.interface, step.egress)]  # fmt: skip
        return family, step.way, gate.whose, *devices

    def _kernel_classes(
        self, rows: NDArray[np.int64], interface: NDArray[np.int64], packets: Packets
    ) -> list[NDArray[np.uint16]]:
        """In which classes of what their kernel rule sets tell apart packets are: by both addresses, and by the service
        of their request and that of its reply, which goes to the client's port."""
        layout = self.layout
        sorts = distinct(layout.kernel_sorts(interface))
        numbers = [layout.lists.kernel_list(layout.walker.directory.instance_of(layout.interfaces[number]))
                   for number in interface[sorts.first].tolist()]  # fmt: skip
        lists = np.array(numbers, dtype=np.int64)[sorts.codes]
        atoms = packets.sources, packets.destinations, self.service[0][rows], self.service[1][rows]
        dimensions = SOURCES, DESTINATIONS, SERVICES, SERVICES
        return [layout.lists.classes(dimension, lists, each) for dimension, each in zip(dimensions, atoms, strict=True)]

    def _of_kernel(self, kind: _KernelPacket) -> HostShare | None:
        layout, gate, row = self.layout, kind.gate, kind.row
        step, interface = gate.step, layout.interfaces[kind.interface]
        instance = layout.walker.directory.instance_of(interface)
        rules = instance.host_filter
        assert isinstance(rules, HostRuleSet)
        asked = Service(int(self.protocol[row]), int(self.flows.service[row]) & 0xFFFF)
        port = int(self.flows.port[row]) if self.has_ports[row] else 0
        devices = (
            (interface if gate.whose != FIXED else step.interface).device if step.interface is not None else "",
            (interface if gate.whose != FIXED else step.egress).device if step.egress is not None else "",
        )  # fmt: skip
        source, destination = (layout.addresses.first(atom) for atom in kind.ends)
        packet: Packet | None = request(source, destination, asked)
        if kind.is_reply:
            packet = answering(source, destination, asked, kind.is_met)
        elif kind.is_later:
            packet = following(source, destination, asked, kind.is_met)
        assert packet is not None
        return layout.kernel(rules, step.way, devices, packet, port, kind.classes)

    def _is_met(self, rows: NDArray[np.int64], interface: NDArray[np.int64], is_reply: bool) -> NDArray[np.bool_]:
        """Which hosts, by their interfaces, saw what went the other way: requests where they are asked about replies,
        else these (clause S19)."""
        layout = self.layout
        machines = layout.machines[interface]
        ways = distinct(self.way[rows])
        by_end = np.zeros((2, len(ways)), dtype=np.bool_)
        fixed: dict[int, set[int]] = {}
        for number, way in enumerate(self.way[rows[ways.first]].tolist()):
            gates = layout.ways[way].request if is_reply else layout.ways[way].reply
            for gate in gates:
                if gate.step.gate not in _HOST_GATES:
                    continue
                if gate.whose != FIXED:
                    by_end[int(gate.whose == RECEIVER), number] = True
                elif (met := gate.step.interface or gate.step.egress) is not None:
                    fixed.setdefault(number, set()).add(int(layout.machines[layout.number_of(met)]))
        found: NDArray[np.bool_] = by_end[0, ways.codes] & (self.machine[0][rows] == machines)
        found |= by_end[1, ways.codes] & (self.machine[1][rows] == machines)
        for number, passed in fixed.items():
            mine = np.flatnonzero(ways.codes == number)
            found[mine] |= np.isin(machines[mine], list(passed))
        return found

    def _ask_listener(self, column: _Column, rows: NDArray[np.int64]) -> None:
        """What listens (clause S32); the system itself answers echo requests."""
        layout, at = self.layout, column.at
        echo = np.isin(self.flows.service[rows], (ICMP << 16 | 8 << 8, ICMP6 << 16 | 128 << 8))
        protocols = has_ports(self.protocol[rows])
        at_machine = self.interface[1][rows] != NONE
        self.action[rows, at] = np.where(echo & at_machine, PASSES, NOT_KNOWN)
        asked = np.flatnonzero(protocols & at_machine & (self.listening[rows] >= 0))
        if len(asked):
            met = layout.listeners.at(self.listening[rows[asked]], self.service[0][rows[asked]])
            deciders = (NOTHING_LISTENS, Decider(), BOUND_ELSEWHERE)
            self.action[rows[asked], at] = np.where(met == TAKEN, PASSES, REJECTS)
            self.deciding[rows[asked], at] = np.array([layout.lists.decider(each) for each in deciders])[met]


def turned(
    service: NDArray[np.int64], port: NDArray[np.int64], has_ports: NDArray[np.bool_]
) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """The service numbers of the replies, and whether there are any (clause S21): see `reply_of`."""
    protocol = service >> 16
    back = np.where(has_ports, protocol << 16 | np.maximum(port, 0), service)
    none = np.zeros(len(service), dtype=np.bool_)
    for kind, asks, answers in ((ICMP, 8, 0), (ICMP6, 128, 129)):
        mine = protocol == kind
        echo = mine & (service >> 8 & 0xFF == asks)
        back = np.where(echo, kind << 16 | answers << 8, back)
        none |= mine & ~echo
    return back, ~none
