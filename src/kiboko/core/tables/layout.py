"""How the gates of all ways stand beside each other, as rows of equal width, and what hangs on each of them."""

from __future__ import annotations

from collections.abc import Callable, Collection
from copy import copy

import numpy as np
from numpy.typing import NDArray

from kiboko.core.filters import host_judge
from kiboko.core.header.addresses import Address
from kiboko.core.header.packet import Packet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.network.model import Interface, sockets_of
from kiboko.core.records.columns import ascending
from kiboko.core.routing.steps import UNREACHABLE
from kiboko.core.tables.filter_lists import (
    ACTIONS,
    DOUBTFUL,
    DROPS,
    NO_LIST,
    PASSES,
    REJECTS,
    FilterLists,
)
from kiboko.core.tables.interface_gates import IN, OUT, WAYS, InterfaceGates
from kiboko.core.tables.lines import AddressLine, NumberLine, port_line
from kiboko.core.tables.listeners import Listeners
from kiboko.core.tables.places import NONE, PlacedEnd, Places
from kiboko.core.tables.slots import HOST, INTERFACE, LIST, LISTENER, NO_SORT, SETTLED, SUBNET, ZONE_DEFAULT, Slot, Sort
from kiboko.core.tables.subject import Subject, everything
from kiboko.core.tables.ways import CONSTANT, FIXED, Gate, Way, find_way, recrossed
from kiboko.core.walk.walk import Walker

_READ = ("sort", "whose", "settled", "source_atom", "destination_atom")
_NOT_ASKED = -9
Classes = tuple[int, ...]
"""Where a packet stands among what a kernel rule set tells apart: the classes of its source and destination, and of
the service of its request and that of the reply."""
OWN, INTERFACE_OF, SUBNET_OF, PLACE_OF, MACHINE_OF = 0, 2, 3, 4, 5
"""Rows of what is known of ends: see `GateLayout.ends_of`."""


def kernel_code(share: host_judge.HostShare | None) -> int:
    """What a share of a kernel's rule set does, as the tables have it."""
    if share is None:
        return PASSES
    return DOUBTFUL if share.action == host_judge.UNKNOWN else ACTIONS[share.action]


class GateLayout:
    """The gates of all ways as rows of equal width."""

    def __init__(
        self, walker: Walker, addresses: AddressLine, services: NumberLine, ports: NumberLine | None = None,
        subject: Subject | None = None,
    ) -> None:  # fmt: skip
        """`subject` is what the gates will be asked about, where that is not everything."""
        ground = walker.ground
        self.subject = subject or everything(ground)
        self.walker = walker
        self.addresses, self.services = addresses, services
        self.ports = ports or port_line(ground)
        self.places = Places(ground, self.addresses)
        self.lists = FilterLists(ground, self.addresses, self.services, self.ports, self.subject)
        self.listeners = Listeners(self.services)
        self._listening_everywhere: dict[str, int] = {}
        self._kernel: dict[tuple[object, ...], host_judge.HostShare | None] = {}
        self._kernel_sort = np.full(max(1, len(ground.directory.interfaces())), NONE, dtype=np.int64)
        self._sorts: dict[tuple[int, str], int] = {}
        topology = walker.topology
        self.interfaces = interfaces = ground.directory.interfaces()
        subnets = list(topology.subnets.values())
        self._numbers = {each.name: number for number, each in enumerate(interfaces)}
        instances = {name: number for number, name in enumerate(topology.instances)}
        self.machines = np.array([instances[each.instance] for each in interfaces] or [NONE], dtype=np.int64)
        """The machine of each interface, as `ends_of` numbers them."""
        self._subnet_numbers = {each.name: number for number, each in enumerate(subnets)}
        tables: dict[str | None, int] = {None: 0}
        self.table_names = np.array(
            [*(tables.setdefault(each.route_table, len(tables)) for each in subnets), 0], dtype=np.int64
        )
        """The route table of each subnet, as a number; the last is that of no subnet."""
        self.has_kernel = any(isinstance(each.host_filter, HostRuleSet) for each in topology.instances.values())
        self.gates = InterfaceGates(ground, self.lists, interfaces)
        self.subnet_list = self._subnet_lists()
        self._found: dict[tuple[int, int, bool], Way] = {}
        # Ways that others are like but for their zones: by what tells these apart, and by the ways that are like them.
        self._models: dict[tuple[object, ...], tuple[tuple[str | None, str | None], tuple[int, int, bool]]] = {}
        self._model_of: dict[tuple[int, int, bool], tuple[int, int, bool]] = {}
        self._forget_ways()
        # Of each atom of addresses that was asked about: see `ends_of` and `listening_at`.
        self._facts = np.full((6, self.addresses.size), NONE, dtype=np.int64)
        self._is_known = np.zeros(self.addresses.size, dtype=np.bool_)
        self._listening = np.full(self.addresses.size, _NOT_ASKED, dtype=np.int64)

    def _forget_ways(self) -> None:
        self.ways: list[Way] = []
        self._way_of: dict[tuple[int, int, bool], int] = {}
        self._request: list[list[Slot]] = []
        self._reply: list[list[Slot]] = []
        self._like: dict[int, int] = {}
        self._first_like: dict[tuple[object, ...], int] = {}
        self._arrays: dict[str, NDArray[np.int64]] = {}
        self.sorts: dict[Sort, int] = {NO_SORT: 0}
        """The sorts of columns, by number: that of no column is 0."""
        self.widths = (0, 0)
        """How many columns requests and replies have at most."""

    def _subnet_lists(self) -> NDArray[np.int64]:
        """The lists of the subnets' filters, int64[subnets, directions]."""
        topology = self.walker.topology
        found = np.full((max(1, len(topology.subnets)), 2), NO_LIST, dtype=np.int64)
        for number, subnet in enumerate(topology.subnets.values()):
            if subnet.filter is not None:
                found[number] = [self.lists.list_of(topology.filters[subnet.filter], way) for way in WAYS]
        return found

    def of_changed(self, walker: Walker, changed: Collection[str]) -> GateLayout:
        """The gates of a network that differs in the rules of some filters alone, which share what the change leaves
        as it is: ends, ways, and all other lists. Both must be cut where either tells values apart."""
        made = copy(self)
        made.walker = walker
        made.lists = self.lists.of_changed(walker.ground, changed)
        made.gates = self.gates.of_changed(walker.ground, made.lists, changed)
        made.subnet_list = made._subnet_lists()
        made._forget_ways()
        return made

    def ends_of(self, atoms: NDArray[np.int32]) -> NDArray[np.int64]:
        """The ends of some atoms, int64[6, n]: the atoms of their own and public addresses, and the numbers of their
        interfaces, subnets, places and machines; -1 for none."""
        self._note_ends(atoms)
        return self._facts[:, atoms]

    def fact(self, which: int, atoms: NDArray[np.int32]) -> NDArray[np.int64]:
        """One of those facts alone, int64[n]."""
        self._note_ends(atoms)
        found: NDArray[np.int64] = self._facts[which, atoms]
        return found

    def _note_ends(self, atoms: NDArray[np.int32]) -> None:
        fresh = ascending(atoms[~self._is_known[atoms]])[0]
        if len(fresh):
            self._facts[:, fresh] = self.places.numbers(fresh.astype(np.int64))
            self._is_known[fresh] = True
            borne = self._facts[INTERFACE_OF, fresh]
            self.gates.ask(borne[borne != NONE])

    def listening_at(self, atoms: NDArray[np.int32]) -> NDArray[np.int64]:
        """The numbers of what is listened to at some atoms, int64[n]."""
        fresh = ascending(atoms[self._listening[atoms] == _NOT_ASKED])[0]
        if len(fresh):
            borne = self.fact(INTERFACE_OF, fresh)
            self._ask_listeners({self.interfaces[number].instance for number in borne[borne != NONE].tolist()})
            self._listening[fresh] = [self._listener_at(*each) for each in zip(fresh.tolist(), borne.tolist())]
        found: NDArray[np.int64] = self._listening[atoms]
        return found

    def end(self, atom: int) -> PlacedEnd:
        """The end that an atom of addresses stands for, with its gates laid out."""
        found = self.places.end(atom)
        if found.interface != NONE:
            self.gates.ask_one(found.interface)
        return found

    def _add(self, way: Way, model: int | None = None) -> None:
        """The next way; where it is like another but for its zones, what hangs on all other gates is the same."""
        self.ways.append(way)
        if model is not None:
            before = self.ways[model]
            for known, gates, own in (
                (self._request, before.request, way.request),
                (self._reply, before.reply, way.reply),
            ):
                instead = {id(gate): mine for gate, mine in zip(gates, own, strict=True) if mine is not gate}
                known.append([self._instead(slot, instead.get(id(slot.gate))) for slot in known[model]])
            return
        begins: list[list[int]] = []
        request: list[Slot] = []
        for gate in way.request:
            begins.append([len(request)])
            request.extend(self._columns(gate))
            begins[-1].append(len(request))
        reply: list[Slot] = []
        for gate in way.reply:
            columns = self._columns(gate)
            for offset, column in enumerate(columns):
                column.keepers = tuple(begins[each][0] + offset for each in gate.request_gates
                                       if begins[each][0] + offset < begins[each][1])  # fmt: skip
            reply.extend(columns)
        self._request.append(request)
        self._reply.append(reply)
        self.widths = max(self.widths[0], len(request)), max(self.widths[1], len(reply))

    def _instead(self, slot: Slot, gate: Gate | None) -> Slot:
        """A column as it is, or with another gate between zones in its place."""
        if gate is None:
            return slot
        (made,) = self._columns(gate)
        made.keepers = slot.keepers
        return made

    def number_of(self, interface: Interface) -> int:
        """The number of an interface, with its gates laid out."""
        number = self._numbers[interface.name]
        self.gates.ask_one(number)
        return number

    def _columns(self, gate: Gate) -> list[Slot]:
        step, walker = gate.step, self.walker
        way = IN if step.bound == "in" else OUT
        match step.gate:
            case "instance-out" | "instance-in":
                assert step.interface is not None
                own = self.number_of(step.interface) if gate.whose == FIXED else NONE
                return [Slot(INTERFACE, gate, own, slot, way) for slot in range(self.gates.most)]
            case "host-out" | "host-in":
                interface = step.interface or step.egress
                assert interface is not None
                return [Slot(HOST, gate, self.number_of(interface) if gate.whose == FIXED else NONE, 0, way)]
            case "subnet-out" | "subnet-in":
                assert step.subnet is not None
                own = self._subnet_numbers[step.subnet.name] if gate.whose == FIXED else NONE
                return [Slot(SUBNET, gate, own, 0, way)]
            case "outside":
                assert step.outside is not None
                name = step.outside.filter
                if name is None:
                    return [Slot(SETTLED, gate)]
                return [Slot(LIST, gate, self.lists.list_of(walker.topology.filters[name], WAYS[way]), 0, way)]
            case "zone":
                assert step.zones is not None
                chosen = walker.ground.crossing_filter(*step.zones)
                if chosen is not None:
                    return [Slot(LIST, gate, self.lists.list_of(chosen, step.bound or "in"))]
                defaults = walker.topology.defaults
                same = step.zones[0] == step.zones[1]
                action = defaults.same_zone if same else defaults.between_zones
                return [Slot(ZONE_DEFAULT, gate, settled=ACTIONS[action])]
            case "listener":
                return [Slot(LISTENER, gate)]
        if step.stop is None:
            return [Slot(SETTLED, gate)]
        return [Slot(SETTLED, gate, settled=REJECTS if step.stop.signal == UNREACHABLE else DROPS)]

    def arrays(self) -> dict[str, NDArray[np.int64]]:
        """The columns of all ways, request and reply apart: [ways, columns] each."""
        known = self._arrays
        done = len(next(iter(known.values()))) if known else 0
        if done < len(self.ways):
            told: dict[int, tuple[int, ...]] = {}  # ways that are alike but for their zones have most columns in common
            for part, ways, width in (("request", self._request, 0), ("reply", self._reply, 1)):
                table = np.zeros((len(_READ), len(ways), self.widths[width]), dtype=np.int64)
                for number, name in enumerate(_READ):
                    before = known.get(f"{part} {name}")
                    if before is not None:
                        table[number, :done, : before.shape[1]] = before
                    known[f"{part} {name}"] = table[number]
                for row, way in enumerate(ways[done:], done):
                    if way:
                        for place in way:
                            if id(place) not in told:
                                told[id(place)] = self._read(place)
                        table[:, row, : len(way)] = np.array([told[id(place)] for place in way], dtype=np.int64).T
        return known

    def _read(self, place: Slot) -> tuple[int, ...]:
        """What is told of a column of a way, in the order of `_READ`."""
        gate = place.gate
        atoms = [
            self.addresses.atom(address) if kind == CONSTANT else 0
            for kind, address in ((gate.source, gate.step.source), (gate.destination, gate.step.destination))
        ]
        return self.sorts.setdefault(place.sort, len(self.sorts)), place.whose, place.settled, *atoms

    def widen(self, request: int, reply: int) -> None:
        """Make room for so many gates of a request and of a reply, though no way has them."""
        before, self.widths = self.widths, (max(self.widths[0], request), max(self.widths[1], reply))
        if self.widths != before:
            self._arrays = {}

    def slots(self, way: int, is_reply: bool) -> list[Slot]:
        """All columns of a way's request or reply."""
        return (self._reply if is_reply else self._request)[way]

    def slot(self, way: int, is_reply: bool, at: int) -> Slot | None:
        """A column of a way; None where it has none there."""
        columns = self.slots(way, is_reply)
        return columns[at] if at < len(columns) else None

    def known_way(self, sender: int, receiver: int, same: bool) -> int | None:
        """The number of the way between two places, and whether in one subnet, where it was found already."""
        return self._way_of.get((sender, receiver, same))

    def way_between(self, sender: PlacedEnd, target: int, receiver: PlacedEnd) -> int:
        """The number of the way of a flow; NONE where both ends are the same machine, which has no way of its own."""
        if (sender.instance and sender.instance == receiver.instance) or sender.own == receiver.own:
            return NONE
        same = sender.subnet != NONE and sender.subnet == receiver.subnet
        key = (sender.place, receiver.place, same)
        found = self._way_of.get(key)
        if found is None:
            found = self._way_of[key] = len(self.ways)
            if key not in self._found:
                self._found[key] = self._find(sender, target, receiver, key)
            model = self._model_of.get(key)
            self._add(self._found[key], self._way_of.get(model) if model is not None else None)
        return found

    def _find(self, sender: PlacedEnd, target: int, receiver: PlacedEnd, places: tuple[int, int, bool]) -> Way:
        """A way that was not found yet. Of ways that differ in nothing but zones which any others could stand for one
        is looked for, and the others are like it: zones say which filters are asked, not where a packet goes."""
        near, far = self.places.form(sender.place), self.places.form(receiver.place)
        zones = near.zone, far.zone
        told = tuple(None if self.places.is_free(zone) else (zone,) for zone in zones)
        key = near.number, far.number, places[2], *told, near.zone == far.zone
        known = self._models.get(key)
        if known is None:
            self._models[key] = zones, places
            return find_way(self.walker.paths, sender, self.addresses.first(target), receiver)
        before, self._model_of[places] = known
        instead = {one: other for one, other in zip(before, zones) if one is not None and other is not None}
        return recrossed(self._found[known[1]], instead)

    def way_within(self, end: PlacedEnd) -> int:
        """The number of the way between two addresses of one atom, which nobody bears: as between any two of its
        place and subnet. The atom has more than one address."""
        same = end.subnet != NONE
        key = (end.place, end.place, same)
        found = self._way_of.get(key)
        if found is None:
            found = self._way_of[key] = len(self.ways)
            if key not in self._found:
                first = end.endpoint.address
                second = Address(first.family, first.value + 1)
                receiver = end._replace(endpoint=self.walker.directory.endpoint(second))
                self._found[key] = find_way(self.walker.paths, end, second, receiver)
            self._add(self._found[key])
        return found

    def alike(self, way: int) -> int:
        """The first way that has the same gates as one: nothing but whose they are tells flows of the two apart."""
        if way not in self._like:
            told = tuple(tuple(slot.told for slot in slots) for slots in (self._request[way], self._reply[way]))
            self._like[way] = self._first_like.setdefault((*told, self.ways[way].has_reply), way)
        return self._like[way]

    def stops_itself(self, way: int) -> bool:
        """Whether a way has a gate that no filter decides and that stops something: it says why in words of its own."""
        return any(
            slot.kind in (SETTLED, ZONE_DEFAULT) and slot.settled in (DROPS, REJECTS)
            for slots in (self._request[way], self._reply[way])
            for slot in slots
        )

    def _ask_listeners(self, names: Collection[str]) -> None:
        """Number what some machines listen to at all of their addresses, all at once."""
        instances = self.walker.topology.instances
        asked: dict[str, list[RangeSet]] = {}
        for name in names:
            if name not in self._listening_everywhere and instances[name].listens is not None:
                sockets = sockets_of(instances[name])
                if all(each.address is None and each.family is None for each in sockets):
                    asked[name] = [each.services for each in sockets]
        self._listening_everywhere.update(zip(asked, self.listeners.numbers(list(asked.values())), strict=True))

    def _listener_at(self, atom: int, interface: int) -> int:
        """The number of what an interface's machine listens to at an address; NO_LIST where that is not known."""
        if interface == NONE:
            return NO_LIST
        name = self.interfaces[interface].instance
        if name in self._listening_everywhere:
            return self._listening_everywhere[name]
        instance = self.walker.topology.instances[name]
        if instance.listens is None:
            return NO_LIST
        address = self.places.end(atom).endpoint.address
        taken: list[RangeSet] = []
        elsewhere: list[RangeSet] = []
        for each in sockets_of(instance):
            (taken if each.accepts(address) else elsewhere).append(each.services)
        return self.listeners.numbers([taken], [elsewhere])[0]

    # Kernel rule sets (clause S35): what the host judge says, once for all packets that it cannot tell apart.

    def kernel(
        self, rules: HostRuleSet, path: str, devices: tuple[str, str], packet: Packet, port: int, classes: Classes
    ) -> host_judge.HostShare | None:
        """What a kernel's own rule set does with a packet of one client port; None where no chain is hooked there.
        `classes` are those of its request's sides among what the rule set tells apart, as `FilterLists.kernel_list` has
        it: packets with the same ones are asked about once."""
        told = packet.family, packet.service.protocol, packet.turned, packet.state, packet.tcp_flags
        key = (self.lists.meaning(rules), path, devices, classes, told)
        if key not in self._kernel:
            shares = self.walker.ground.discovery.judge(rules, path, packet, RangeSet.one(port), *devices)
            self._kernel[key] = shares[0] if shares else None
        return self._kernel[key]

    def kernel_sorts(self, interfaces: NDArray[np.int64]) -> NDArray[np.int64]:
        """A number for each of some interfaces whose hosts have kernel rule sets, int64[n]: the same for those whose
        rule sets mean the same and which are called the same there."""
        for number in ascending(interfaces[self._kernel_sort[interfaces] == NONE])[0].tolist():
            interface = self.interfaces[number]
            rules = self.walker.directory.instance_of(interface).host_filter
            assert isinstance(rules, HostRuleSet)
            told = self.lists.meaning(rules), interface.device
            self._kernel_sort[number] = self._sorts.setdefault(told, len(self._sorts))
        found: NDArray[np.int64] = self._kernel_sort[interfaces]
        return found

    # What kind of gate a column is.

    def columns(
        self, ways: NDArray[np.int64], columns: NDArray[np.int64], read: Callable[[Slot], int]
    ) -> NDArray[np.int64]:
        """Something of one column of each of some ways, int64[n]; 0 where there is none. Columns of the reply come
        behind those of the request."""
        request = self.widths[0]
        width = sum(self.widths) + 1
        kinds, back = ascending((ways + 1) * width + columns + 1)
        found = np.zeros(len(kinds), dtype=np.int64)
        for number, kind in enumerate(kinds.tolist()):
            way, column = kind // width - 1, kind % width - 1
            if way >= 0 and column >= 0:
                slot = self.slot(way, column >= request, column - request if column >= request else column)
                found[number] = read(slot) if slot is not None else 0
        told: NDArray[np.int64] = found[back]
        return told
