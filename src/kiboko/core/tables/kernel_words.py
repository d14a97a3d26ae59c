"""What kernel rule sets of hosts do with all kinds of traffic at once, a bit for each kind: by the classes of addresses
that each rule set tells apart, each worked out when a packet of it is first met (clause S35)."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.packet import Packet, answering, following, request
from kiboko.core.header.services import ICMP, ICMP6, WITH_PORTS, Service
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.records.columns import distinct
from kiboko.core.tables.boxes import DESTINATIONS, SERVICES, SOURCES
from kiboko.core.tables.filter_lists import DOUBTFUL, DROPS, REJECTS
from kiboko.core.tables.kinds import Kinds, Words
from kiboko.core.tables.layout import GateLayout, kernel_code
from kiboko.core.tables.places import NONE

Rows = NDArray[np.int64]
OWN_DEVICE = None
"""Stands for the device of the interface that is asked about."""
REQUEST, REPLY, LATER = range(3)
"""Packets of a connection: its first, the answer to that, and what its sender sends when that has come."""


class HostGate(NamedTuple):
    """How packets come to a host: by which hooks, by which devices they come in and go out (`OWN_DEVICE` is that of the
    interface itself, an empty one none), and which of a connection they are."""

    hooks: str
    ingress: str | None
    egress: str | None
    part: int


class _Lot(NamedTuple):
    """Kinds that a rule set does not tell apart: an example with its client port, the classes of its service and of
    the reply's, and which kinds they are."""

    service: Service
    port: int
    classes: tuple[int, int]
    kinds: Rows


class KernelWords:
    """The kernel rule sets of one network.

    Parameters
    ----------
    layout : the gates of the network
    kinds : the kinds of traffic
    """

    def __init__(self, layout: GateLayout, kinds: Kinds) -> None:
        self._layout, self._kinds = layout, kinds
        self._tables: dict[tuple[HostGate, int], _Table] = {}
        self._lots: dict[int, list[_Lot]] = {}
        # Of each sort of interfaces the list of what its rule set tells apart, and how many classes of sources and of
        # destinations that has.
        self._lists = np.full(max(1, len(layout.interfaces)), NONE, dtype=np.int64)
        self._counts = np.zeros((2, len(self._lists)), dtype=np.int64)

    def done(
        self, gate: HostGate, interfaces: Rows, is_met: NDArray[np.bool_], sources: Rows, destinations: Rows
    ) -> tuple[Words, Words, Words]:
        """What rule sets stop, what they may stop, and what may go elsewhere by them, uint64[..., words] each. All
        arrays are brought to one shape.

        Parameters
        ----------
        interfaces : those of the hosts, which have kernel rule sets
        is_met : whether what they are asked about is part of a connection to them: whether requests came by them, or
            of what follows the first answers
        sources, destinations : atoms of addresses, all of one family
        """
        interfaces, is_met = np.broadcast_arrays(interfaces, is_met)
        sorts = self._layout.kernel_sorts(interfaces)
        self._look_up(sorts, interfaces)
        lists, counts = self._lists[sorts], self._counts[:, sorts]
        from_ = self._layout.lists.classes(SOURCES, lists, sources).astype(np.int64)
        to = self._layout.lists.classes(DESTINATIONS, lists, destinations).astype(np.int64)
        family = self._layout.addresses.first(int(sources.reshape(-1)[0])).family
        table = self._tables.setdefault((gate, family), _Table(len(self._lists)))
        entries = table.begin(sorts, is_met, counts) + from_ * counts[1] + to
        fresh = np.flatnonzero(table.place[entries].reshape(-1) == NONE)
        if len(fresh):
            columns = [np.broadcast_to(each, entries.shape).reshape(-1)[fresh]
                       for each in (interfaces, is_met, sources, destinations, from_, to)]  # fmt: skip
            wanted = distinct(entries.reshape(-1)[fresh])
            for row in wanted.first.tolist():
                number, met, source, destination, *classes = (int(each[row]) for each in columns)
                words = self._words(gate, number, bool(met), (source, destination), (classes[0], classes[1]))
                table.put(int(entries.reshape(-1)[fresh[row]]), words)
        places = table.place[entries]
        stops, doubtful, diverted = (each[places] for each in table.words())
        return stops, doubtful, diverted

    def _look_up(self, sorts: Rows, interfaces: Rows) -> None:
        """Have the lists of some sorts of interfaces there."""
        lists, flat = self._layout.lists, sorts.reshape(-1)
        for row in distinct(flat).first.tolist() if (self._lists[flat] == NONE).any() else ():
            instance = self._layout.walker.directory.instance_of(self._layout.interfaces[interfaces.reshape(-1)[row]])
            self._lists[flat[row]] = chosen = lists.kernel_list(instance)
            self._counts[:, flat[row]] = [len(lists.matching(side, chosen)) for side in (SOURCES, DESTINATIONS)]

    def _words(
        self, gate: HostGate, number: int, is_met: bool, ends: tuple[int, int], classes: tuple[int, int]
    ) -> Words:
        """What the rule set of one interface's host stops, what it may stop and what may go elsewhere by it, between
        two atoms of addresses, uint64[3, words]."""
        layout = self._layout
        interface = layout.interfaces[number]
        instance = layout.walker.directory.instance_of(interface)
        rules = instance.host_filter
        assert isinstance(rules, HostRuleSet)
        devices = (
            interface.device if gate.ingress is OWN_DEVICE else gate.ingress,
            interface.device if gate.egress is OWN_DEVICE else gate.egress,
        )
        source, destination = (layout.addresses.first(atom) for atom in ends)
        truths = np.zeros((3, len(self._kinds)), dtype=np.bool_)
        for lot in self._lots_of(layout.lists.kernel_list(instance)):
            packet: Packet | None = request(source, destination, lot.service)
            if gate.part == REPLY:
                packet = answering(source, destination, lot.service, is_met)
            elif gate.part == LATER:
                packet = following(source, destination, lot.service, is_met)
            if packet is None:
                continue
            share = layout.kernel(rules, gate.hooks, devices, packet, lot.port, (*classes, *lot.classes))
            action, diverts = kernel_code(share), share is not None and share.diverts
            truths[:, lot.kinds] = np.array([[action in (DROPS, REJECTS)], [action == DOUBTFUL], [diverts]])
        return self._kinds.packed(truths)

    def _lots_of(self, chosen: int) -> list[_Lot]:
        """The kinds that a rule set, by its list, does not tell apart; those that are answered by themselves."""
        if chosen not in self._lots:
            lists, kinds = self._layout.lists, self._kinds
            every = np.full(len(kinds), chosen, dtype=np.int64)
            service, back = (lists.classes(SERVICES, every, each.services) for each in (kinds.request, kinds.reply))
            numbers = np.array([kind.service for kind in kinds.kinds], dtype=np.int64)
            # Which ICMP messages are answered rests on their type.
            nature = np.where(np.isin(numbers >> 16, (ICMP, ICMP6)), numbers >> 8, numbers >> 16 << 8)
            found = distinct(service, back, nature)
            self._lots[chosen] = []
            for number, row in enumerate(found.first.tolist()):
                kind = kinds.kinds[row]
                asked = Service(kind.service >> 16, kind.service & 0xFFFF)
                port = kind.port if asked.protocol in WITH_PORTS else 0
                mine = np.flatnonzero(found.codes == number)
                self._lots[chosen].append(_Lot(asked, port, (int(service[row]), int(back[row])), mine))
        return self._lots[chosen]


class _Table:
    """What is known of one kind of gate: for each sort of interfaces, met or not, an entry for each pair of classes.
    `place` int32[entries] is where each stands among the distinct words, `NONE` where it was not met yet: rule sets of
    many hosts do the same with most of what they tell apart."""

    def __init__(self, sorts: int) -> None:
        self._begin = np.full(2 * sorts, NONE, dtype=np.int64)
        self.place = np.zeros(0, dtype=np.int32)
        self._distinct: list[Words] = []
        self._numbers: dict[bytes, int] = {}
        self._words: Words | None = None

    def begin(self, sorts: Rows, is_met: NDArray[np.bool_], counts: Rows) -> Rows:
        """Where the entries of some sorts of interfaces begin; `counts` is how many classes of sources and destinations
        they have, int64[2, ...]."""
        which = sorts * 2 + is_met
        fresh = np.flatnonzero((self._begin[which] == NONE).reshape(-1))
        if len(fresh):
            each = distinct(which.reshape(-1)[fresh])
            rows = fresh[each.first]
            sizes = (counts[0] * counts[1]).reshape(-1)[rows]
            self._begin[which.reshape(-1)[rows]] = len(self.place) + np.cumsum(sizes) - sizes
            self.place = np.append(self.place, np.full(int(sizes.sum()), NONE, dtype=np.int32))
        found: Rows = self._begin[which]
        return found

    def put(self, entry: int, words: Words) -> None:
        """Note what is stopped, what may be, and what may go elsewhere, uint64[3, words]."""
        key = words.tobytes()
        if key not in self._numbers:
            self._numbers[key] = len(self._distinct)
            self._distinct.append(words)
            self._words = None
        self.place[entry] = self._numbers[key]

    def words(self) -> Words:
        """All that were noted, uint64[3, distinct, words]."""
        if self._words is None:
            self._words = np.stack(self._distinct, axis=1)
        return self._words
