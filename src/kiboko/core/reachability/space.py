"""The whole space of pairs: every sender with every receiver on every kind of traffic, exactly, by the gate tables.

Ends that nothing tells apart but their names are asked about together where nobody is recorded; machines one by one.
Pairs of places between which ways have the same gates are judged as one block (`kiboko.core.tables.pair_words`).
"""

from __future__ import annotations

import functools
from collections.abc import Collection, Iterable, Iterator, Sequence
from copy import copy
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.addresses import Address
from kiboko.core.header.ranges import EMPTY, RangeSet
from kiboko.core.header.services import TCP, Service
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.network.model import Instance
from kiboko.core.queries.ends import Ends, services_for
from kiboko.core.queries.members import Member, at_address, at_public, seen_from_outside, sent_to_at
from kiboko.core.queries.subjects import subject_of
from kiboko.core.reachability.pair_blocks import PairBlocks, Senders
from kiboko.core.tables.boxes import DESTINATIONS, SOURCES
from kiboko.core.tables.cuts import NO_EDGES, Edges
from kiboko.core.tables.kinds import Kinds, Words
from kiboko.core.tables.layout import GateLayout
from kiboko.core.tables.lines import AddressLine, port_line, service_line
from kiboko.core.tables.pair_tables import Outcome, Side
from kiboko.core.tables.pair_words import PairWords
from kiboko.core.tables.places import NONE
from kiboko.core.tables.sent_off import SentOff
from kiboko.core.tables.subject import client_ports
from kiboko.core.walk.walk import Walker

Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]
_ANY_TCP = Service(TCP, 1)
_NOWHERE: frozenset[int] = frozenset()
RECORDED, NOBODY, OUTSIDE = 0, 1, 2
"""Kinds of ends: interfaces of instances, addresses of subnets where nobody is recorded, what lies beyond."""


@dataclass(frozen=True, slots=True)
class SpaceEnd:
    """One sender or receiver, in one address family: an interface, or addresses that nothing tells apart.

    `members` are what it stands for; `atom` is that of its own address, `public` that of the address that it is sent to
    at from outside, -1 for none. `networks` is its network's name, `elsewhere` the subnets that its machine reaches by
    other interfaces of its own, and `only` whether it sends to its own subnet alone (clause S3). To an outside that has
    no tunnel to it, its machine means another address where it `is_spare`, or where that outside has a tunnel to one
    of the networks of `rather` (clause S1). `is_further` tells of a sender at an address that its machine does not use
    unless a program asks for it, and of a receiver at its public address, to which somebody inside may send as well.
    """

    kind: int
    members: tuple[Member, ...]
    atom: int
    public: int = NONE
    network: str | None = None
    outside: str | None = None
    ports: RangeSet = EMPTY
    elsewhere: frozenset[int] = frozenset()
    only: int = NONE
    is_spare: bool = False
    rather: frozenset[str] = frozenset()
    is_further: bool = False

    @property
    def name(self) -> str:
        """What the first of it is called."""
        return self.members[0].name

    @property
    def instance(self) -> str | None:
        """Its machine."""
        return self.members[0].instance

    @property
    def count(self) -> int:
        """For how many ends it stands."""
        return sum(each.count for each in self.members)

    @property
    def is_several(self) -> bool:
        """Whether it stands for more ends than one."""
        return len(self.members) > 1 or self.members[0].low != self.members[0].high


@dataclass(frozen=True, slots=True)
class Block:
    """What becomes of some senders' traffic to some receivers: their places among those asked about, int64[n] and
    int64[m]; `there` bool[m, n] which pairs there are, for no machine sends to itself; `outcome` of all kinds."""

    senders: Rows
    receivers: Rows
    there: Truths
    outcome: Outcome


class Space:
    """All pairs over one network on some services.

    Parameters
    ----------
    ends : the network's ends
    services : service numbers, as `resolve_service` gives them
    ports : the client ports asked about; None for all ephemeral ports of each sender
    receivers : the instances that may be sent to; None for all
    between : who may send, and who may be sent to; None for anybody
    with_all_gates : whether it matters what gates say behind one at which no request arrives or no reply comes back
    more : where values are cut beside where this network tells them apart
    """

    def __init__(
        self, ends: Ends, services: RangeSet, ports: RangeSet | None = None,
        receivers: Iterable[Instance] | None = None, more: Edges = NO_EDGES,
        between: tuple[Sequence[Member] | None, Sequence[Member] | None] = (None, None), with_all_gates: bool = False,
    ) -> None:  # fmt: skip
        self.ends = ends
        self.walker = walker = ends.walker
        topology = walker.topology
        filters = frozenset(topology.filters) if with_all_gates else more.filters
        ground = walker.ground
        self.layout = GateLayout(
            walker, _line_of(walker, more.addresses), service_line(ground, services, receivers, more.services),
            port_line(ground, more.ports), subject_of(ends, services, ports, *between, filters),
        )  # fmt: skip
        self._sent_off = SentOff(self.layout)
        for chosen in topology.filters.values():
            for way in ("in", "out"):
                self.layout.lists.list_of(chosen, way)
        for instance in topology.instances.values():
            if isinstance(instance.host_filter, HostRuleSet):
                self.layout.lists.kernel_list(instance)
        self._services, self._ports = services, ports
        self._subnets = {name: number for number, name in enumerate(topology.subnets)}
        self._judges: dict[int, tuple[Kinds, PairWords]] = {}
        self._told_by: dict[int, int] = {}
        """How many sets of what is listened to the kinds of a family are told apart by."""
        self._cuts: dict[tuple[Address, Address], list[tuple[int, Member]]] = {}
        self._like: Space | None = None
        self._sent: tuple[Sequence[SpaceEnd], list[Senders]] | None = None

    def of_changed(self, ends: Ends, changed: Collection[str]) -> Space:
        """The space of a network that differs in the rules of some filters alone, which shares what the change leaves
        as it is. What its rules tell apart must be among the `more` of this one. Ends and kinds of traffic of either
        are those of both."""
        made = copy(self)
        made.ends, made.walker, made._like = ends, ends.walker, self
        made.layout = self.layout.of_changed(ends.walker, changed)
        made._sent_off = SentOff(made.layout)
        made._judges = {}
        return made

    # Ends.

    def ends_of(
        self, members: Iterable[Member], family: int, is_sender: bool, with_further: bool = False
    ) -> list[SpaceEnd]:
        """Members as ends in one address family: each interface by itself, of receivers each of its addresses, and
        ranges by what is told apart; `with_further` senders at every other address of theirs as well, and receivers at
        their public ones."""
        found: list[SpaceEnd] = []
        ranges: list[tuple[int, Member]] = []
        for member in members:
            if member.low is None or member.high is None:
                usual = list(self._of_instance(member, family, is_sender))
                found.extend(usual)
                if with_further:
                    found.extend(self._further(member, family) if is_sender else self.at_public(usual))
            elif member.low.family == family:
                ranges.extend(self._cut(member.low, member.high))
        return found + list(self._of_ranges(ranges))

    def _of_instance(self, member: Member, family: int, is_sender: bool) -> Iterator[SpaceEnd]:
        atom = self.layout.addresses.atom
        usable = [(each, address) for each in member.interfaces for address in each.addresses
                  if address.family == family and (not is_sender or address == each.address(family))]  # fmt: skip
        subnets = [self._subnets[each.subnet] for each, _ in usable]
        networks = [self.walker.topology.subnets[each.subnet].network for each, _ in usable]
        directory = self.walker.directory
        seen = [member.is_literal or seen_from_outside(directory, *each) is not None for each in usable]
        for place, (interface, address) in enumerate(usable):
            if is_sender and subnets.index(subnets[place]) < place:
                continue
            shown, is_first = member, interface.address(family) == address
            if len(usable) > 1 and not is_sender:
                shown = Member(interface.name, member.instance, (interface,), is_by_address=member.is_by_address)
                shown = shown if is_first else at_address(interface, address)
            public = interface.public if family == 4 and is_first and not member.is_literal else None
            network = networks[place]
            yield SpaceEnd(
                RECORDED, (shown,), atom(address), atom(public) if public is not None else NONE, network, None,
                self._ports or self.walker.source_ports(self.walker.directory.endpoint(address), _ANY_TCP),
                frozenset(subnets) - {subnets[0]} if not place else _NOWHERE, subnets[place] if place else NONE,
                not seen[place] if any(seen) else place > 0,
                frozenset(networks) - {network} if not any(seen) else frozenset(),
            )  # fmt: skip

    def _further(self, member: Member, family: int) -> Iterator[SpaceEnd]:
        """A machine as a sender at the addresses that its name does not mean."""
        atom = self.layout.addresses.atom
        for other in sent_to_at(member):
            for interface in other.interfaces if other.is_further else ():
                address = interface.address(family)
                if address is not None:
                    ports = self._ports or self.walker.source_ports(self.walker.directory.endpoint(address), _ANY_TCP)
                    network = self.walker.topology.subnets[interface.subnet].network
                    yield SpaceEnd(RECORDED, (other,), atom(address), NONE, network, ports=ports, is_further=True)

    def at_public(self, receivers: Iterable[SpaceEnd]) -> Iterator[SpaceEnd]:
        """Those of some machines that have a public address, at that, as those inside see it."""
        for each in receivers:
            if each.public != NONE:
                behind = self.walker.directory.interface_at(self.layout.addresses.first(each.atom))
                assert behind is not None
                yield SpaceEnd(RECORDED, (at_public(behind),), each.public, NONE, each.network, is_further=True)

    def _cut(self, low: Address, high: Address) -> list[tuple[int, Member]]:
        """A range cut into atoms, each with the part of the range that is in it: senders and receivers are often both
        of an outside of very many."""
        if (low, high) not in self._cuts:
            self._cuts[low, high] = list(self._pieces(low, high))
        return self._cuts[low, high]

    def _pieces(self, low: Address, high: Address) -> Iterator[tuple[int, Member]]:
        line, directory = self.layout.addresses, self.walker.directory
        first, last = line.atom(low), line.atom(high)
        for atom in range(first, last + 1):
            begin = max(low, line.first(atom))
            end = high if atom == last else Address(low.family, line.first(atom + 1).value - 1)
            name = str(begin) if begin == end else f"{begin}-{end}"
            beyond = directory.outside_of(begin)
            yield atom, Member(name, None, (), begin, end, outside=beyond.name if beyond else None)

    def _of_ranges(self, pieces: Sequence[tuple[int, Member]]) -> Iterator[SpaceEnd]:
        layout = self.layout
        atoms = np.array([atom for atom, _ in pieces], dtype=np.int64)
        if not len(atoms):
            return
        side = Side.of(layout, atoms)
        marks = zip(*(layout.lists.marks(each, atoms) for each in (SOURCES, DESTINATIONS)), strict=True)
        alike: dict[object, list[int]] = {}
        for row, mark in enumerate(marks):
            own = side.own[row] if side.own[row] != atoms[row] or side.interface[row] != NONE else NONE
            key = (int(side.place[row]), int(side.subnet[row]), int(own), mark)
            alike.setdefault(key, []).append(row)
        for rows in alike.values():
            first = pieces[rows[0]]
            endpoint = layout.end(first[0]).endpoint
            kind = OUTSIDE if endpoint.outside is not None else NOBODY if endpoint.interface is None else RECORDED
            yield SpaceEnd(
                kind, tuple(pieces[row][1] for row in rows), first[0], NONE, endpoint.network,
                endpoint.outside.name if endpoint.outside is not None else None,
                self._ports or self.walker.source_ports(endpoint, _ANY_TCP),
            )  # fmt: skip

    # Pairs.

    def prepare(self, receivers: Sequence[SpaceEnd]) -> None:
        """Look up what some receivers listen to, before it is asked what nothing tells apart."""
        atoms = {atom for each in receivers for atom in (each.atom, each.public) if atom != NONE}
        self.layout.listening_at(np.array(sorted(atoms), dtype=np.int32))

    def prepare_for(self, members: Iterable[Member]) -> None:
        """Look up what all of some members listen to, where they are asked about one after the other: kinds of traffic
        that stay as they are need be judged once."""
        asked = list(members)
        for family in (4, 6):
            self.prepare(self.ends_of(asked, family, False, with_further=True))

    def kinds(self, family: int) -> Kinds:
        """The kinds of traffic of an address family. What all receivers that were prepared until now listen to tells
        services apart, so that they may be others when more are."""
        return self._judge(family)[0]

    def _judge(self, family: int) -> tuple[Kinds, PairWords]:
        known = self._judges.get(family)
        if self._like is not None:
            kinds, judge = self._like._judge(family)
            if known is None or known[0] is not kinds:
                known = self._judges[family] = kinds, judge.of_changed(self.layout)
            return known
        count = len(self.layout.listeners)
        if known is None or self._told_by[family] != count:
            topology = self.walker.topology
            clients = [self._ports] if self._ports else client_ports(topology)
            kinds = Kinds(self.layout, services_for(self._services, family), clients)
            if known is None or known[0].kinds != kinds.kinds:
                known = self._judges[family] = kinds, PairWords(self.layout, kinds)
            self._told_by[family] = count
        return known

    def blocks(
        self, senders: Sequence[SpaceEnd], receivers: Sequence[SpaceEnd], family: int, kinds: Kinds,
        with_single: bool = False, with_hanging: bool = False, wanted: Words | None = None,
        at_hosts: Words | None = None,
    ) -> Iterator[Block]:  # fmt: skip
        """What becomes of all kinds between all senders and receivers of one family, block by block; `with_single` also
        what one gate alone stops, `with_hanging` what gets through with its first packet alone. Of some `wanted` kinds,
        uint64[receivers, words], only what gets through may be found, where that is quicker; of some kinds `at_hosts`,
        uint64[words], only what the receivers' host filters alone stop. Pairs of which both ends are outside are left
        out: no gate lies between them. `kinds` are those that were asked for when these
        receivers had been prepared. Raises ValueError for others, of which one may be what these tell apart."""
        layout = self.layout
        self.prepare(receivers)
        known, judge = self._judge(family)
        if known is not kinds:
            raise ValueError("kinds of traffic from before these receivers were prepared")
        for sent in self._by_outside(senders):
            theirs = np.array(
                [row for row, each in enumerate(receivers) if sent.outside is None or self._is_met(each, sent.outside)],
                dtype=np.int64,
            )
            if not len(theirs):
                continue
            to = [receivers[row] for row in theirs.tolist()]
            targets = np.array([self.target(each, sent.outside) for each in to], dtype=np.int64)
            layout.listening_at(targets.astype(np.int32))
            several = np.array([each.is_several for each in to], dtype=np.bool_)
            by_atom = None
            if wanted is not None:
                by_atom = np.zeros((layout.addresses.size, kinds.words), dtype=np.uint64)
                np.bitwise_or.at(by_atom, targets, wanted[theirs])
            made = functools.partial(judge.judge, with_single=with_single, with_hanging=with_hanging, wanted=by_atom)
            if at_hosts is not None:
                made = functools.partial(judge.at_hosts, kinds=at_hosts)
            # The way of what nobody answers is none where only what gets through is asked about.
            is_any = with_single or at_hosts is not None
            pairs = PairBlocks(layout, made, judge.width, sent, theirs, Side.of(layout, targets), several,
                               way=None if is_any else self._sent_off.way_if_any)  # fmt: skip
            yield from (Block(*each) for each in pairs.blocks())

    def _is_met(self, receiver: SpaceEnd, outside: str) -> bool:
        """Whether somebody in an outside means a receiver, by this address of it."""
        if receiver.outside is not None:
            return False
        if receiver.is_further:  # who has no tunnel means it by the machine
            return self.walker.directory.tunnel(receiver.network or "", outside) is not None
        has_tunnel = (self.walker.directory.tunnel(each, outside) is not None for each in receiver.rather)
        if not receiver.is_spare and not any(has_tunnel):
            return True
        return self.walker.directory.tunnel(receiver.network or "", outside) is not None

    def _by_outside(self, senders: Sequence[SpaceEnd]) -> list[Senders]:
        """Senders that are all within, or all of one outside; they are mostly asked about with many parts of the
        receivers, one after the other."""
        if self._sent is None or self._sent[0] is not senders:
            by_outside: dict[str | None, list[int]] = {}
            for row, each in enumerate(senders):
                by_outside.setdefault(each.outside, []).append(row)
            made = [self._senders(senders, outside, rows) for outside, rows in by_outside.items()]
            self._sent = senders, made
        return self._sent[1]

    def _senders(self, senders: Sequence[SpaceEnd], outside: str | None, rows: Sequence[int]) -> Senders:
        mine = [senders[row] for row in rows]
        choosy = [(at, each.only, each.elsewhere) for at, each in enumerate(mine)
                  if each.only != NONE or each.elsewhere]  # fmt: skip
        atoms = np.array([each.atom for each in mine], dtype=np.int64)
        several = np.array([each.is_several for each in mine], dtype=np.bool_)
        return Senders.of(self.layout, outside, np.array(rows, dtype=np.int64), atoms, several, choosy)

    def target(self, receiver: SpaceEnd, outside: str | None) -> int:
        """The address that a receiver is sent to at (clause S1); of several that nothing tells apart the last one."""
        is_from_afar = outside is not None and receiver.public != NONE and receiver.network is not None
        if is_from_afar and self.walker.directory.tunnel(receiver.network or "", outside or "") is None:
            return receiver.public
        last = receiver.members[-1].high
        return self.layout.addresses.atom(last) if last is not None else receiver.atom


def usual_of(ends: Sequence[SpaceEnd]) -> Iterator[tuple[int, Rows]]:
    """The ends at further addresses, each with those that its machine is without being asked: their places. Of a public
    address that is the one behind it."""
    further = [(row, each) for row, each in enumerate(ends) if each.is_further]
    if not further:
        return
    wanted = {each.instance for _, each in further}
    usual: dict[str | None, list[int]] = {}
    behind: dict[int, list[int]] = {}
    for row, each in enumerate(ends):
        if each.instance in wanted and not each.is_further:
            usual.setdefault(each.instance, []).append(row)
            behind.setdefault(each.public, []).append(row)
    for row, each in further:
        rows = behind.get(each.atom) or usual.get(each.instance)
        if rows:
            yield row, np.array(rows, dtype=np.int64)


def address_cuts(walker: Walker) -> Iterator[Address]:
    """The addresses at which a space of a network cuts ranges."""
    return _line_of(walker, ()).edges()


def _line_of(walker: Walker, cuts: Iterable[Address]) -> AddressLine:
    """The addresses of a network, each block of a subnet in two halves: two that nothing tells apart may send to each
    other."""
    halves = [
        Address(block.family, block.value + (block.last - block.value + 1) // 2)
        for subnet in walker.topology.subnets.values()
        for block in subnet.blocks
        if block.last > block.value
    ]
    return AddressLine(walker.ground, (*halves, *cuts))
