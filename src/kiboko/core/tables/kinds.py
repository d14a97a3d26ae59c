"""Kinds of traffic: services and client ports that nothing in a network tells apart, so that all of them can be judged
at once, one bit for each kind."""

from __future__ import annotations

import itertools
from collections.abc import Hashable, Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.errors import TooMuch
from kiboko.core.header.ranges import EMPTY, RangeSet
from kiboko.core.header.services import ICMP, ICMP6, NEVER_REFUSED, WITH_PORTS, usual_services
from kiboko.core.tables.boxes import PORTS, SERVICES
from kiboko.core.tables.column import turned
from kiboko.core.tables.layout import GateLayout
from kiboko.core.tables.lines import NO_PORT

WORD = 64
MOST_KINDS = 1 << 20
"""As many kinds of traffic are judged at once: for each pair of ends they take a bit each, several times over."""
Words = NDArray[np.uint64]


@dataclass(frozen=True, slots=True)
class Kind:
    """Services sent to from client ports; `ports` is empty where there are none. `service` and `port` are an example,
    `port` -1 where there is none."""

    services: RangeSet
    ports: RangeSet
    service: int
    port: int


@dataclass(frozen=True, slots=True)
class Atoms:
    """What packets of all kinds have, by atoms: int32[k] services and sender's ports."""

    services: NDArray[np.int32]
    ports: NDArray[np.int32]


class Kinds:
    """All kinds of some services, those of the same services side by side: kind number k is bit k % 64 of word k // 64.

    Parameters
    ----------
    layout : the gates of the network, with the lists of every filter that may be asked
    services : service numbers, as `resolve_service` gives them
    clients : the sets of client ports that may be asked about

    Raises
    ------
    TooMuch : where there are too many

    `services` are the distinct sets of services, `service_of` int64[k] is the index of each kind's among them.
    """

    def __init__(self, layout: GateLayout, services: RangeSet, clients: Iterable[RangeSet]) -> None:
        clients = list(dict.fromkeys(clients))
        cells = {protocol: alike_ports(layout, protocol, clients) for protocol in WITH_PORTS}
        found: list[Kind] = []
        number: list[int] = []
        self.services: list[RangeSet] = []
        told_apart = list(alike_services(layout, services))
        count = sum(len(cells.get(example >> 16, "-")) for _, example in told_apart)
        if count > MOST_KINDS:
            raise TooMuch(
                f"rules tell {len(told_apart):,} kinds of services and up to {max(map(len, cells.values())):,} of"
                f" client ports apart, {count:,} of both together, more than the {MOST_KINDS:,} that are looked at at"
                " once",
                "ask about fewer services, or about single client ports",
            )
        for values, example in told_apart:
            mine = cells.get(example >> 16, [(EMPTY, -1)])
            found += [Kind(values, ports, example, port) for ports, port in mine]
            number += [len(self.services)] * len(mine)
            self.services.append(values)
        self.kinds = tuple(found)
        self.service_of = np.array(number, dtype=np.int64)
        self.words = max(1, -(-len(found) // WORD))
        service = np.array([kind.service for kind in found], dtype=np.int64)
        port = np.array([kind.port for kind in found], dtype=np.int64)
        has_ports = port >= 0
        back, answered = turned(service, port, has_ports)
        line, ports = layout.services, layout.ports
        self.request = Atoms(line.atoms(service), ports.atoms(np.where(has_ports, port, NO_PORT)))
        self.reply = Atoms(line.atoms(back), ports.atoms(np.where(has_ports, service & 0xFFFF, NO_PORT)))
        self.has_ports = has_ports
        self.has_reply = self.packed(answered)
        self.every = self.packed(np.ones(len(found), dtype=np.bool_))

    def __len__(self) -> int:
        return len(self.kinds)

    def packed(self, truths: NDArray[np.bool_]) -> Words:
        """Truth values of all kinds, bool[..., k], as words, uint64[..., words]."""
        return as_words(truths, self.words)

    def unpacked(self, words: Words) -> NDArray[np.bool_]:
        """Words as truth values of all kinds, bool[..., k]."""
        return as_truths(words, len(self.kinds))

    def sent_from(self, ports: RangeSet) -> Words:
        """The kinds that a sender with these client ports may send: uint64[words]."""
        distinct = {id(kind.ports): kind.ports for kind in self.kinds}
        may = {number: not each or bool(each & ports) for number, each in distinct.items()}
        return self.packed(np.array([may[id(kind.ports)] for kind in self.kinds], dtype=np.bool_))

    def sent_by(self, ports: Sequence[RangeSet]) -> Words:
        """The kinds that each of some senders may send, uint64[senders, words], by their client ports."""
        sent = {each: self.sent_from(each) for each in dict.fromkeys(ports)}
        return np.array([sent[each] for each in ports], dtype=np.uint64).reshape(-1, self.words)

    def met_by(self, services: Sequence[RangeSet]) -> Words:
        """The kinds of which each of some sets has any service: uint64[sets, words]."""
        ranges = [(low, high, number) for number, each in enumerate(self.services) for low, high in each]
        lows, highs, numbers = np.array(ranges, dtype=np.int64).reshape(-1, 3).T
        met: dict[RangeSet, Words] = {}
        for each in dict.fromkeys(services):
            truths = np.zeros(len(self.services), dtype=np.bool_)
            for low, high in each:
                truths[numbers[(lows <= high) & (highs >= low)]] = True
            met[each] = self.packed(truths[self.service_of])
        return np.array([met[each] for each in services], dtype=np.uint64).reshape(-1, self.words)

    def of_same_services(self, words: Words) -> Words:
        """All kinds of those services of which some kinds are given: uint64[..., words] of uint64[..., words]."""
        met: NDArray[np.bool_] = self.by_service(self.unpacked(words)) > 0
        return self.packed(met[..., self.service_of])

    def by_service(self, truths: NDArray[np.bool_]) -> NDArray[np.int64]:
        """How many kinds of each set of services are true, int64[..., services], of bool[..., k]."""
        starts = np.searchsorted(self.service_of, np.arange(len(self.services)))
        found: NDArray[np.int64] = np.add.reduceat(truths.astype(np.int64), starts, axis=-1)
        return found


def as_words(truths: NDArray[np.bool_], words: int) -> Words:
    """Truth values, bool[..., k], as words, uint64[..., words], the first as the lowest bit."""
    padded = np.zeros((*truths.shape[:-1], words * WORD), dtype=np.bool_)
    padded[..., : truths.shape[-1]] = truths
    return np.packbits(padded, axis=-1, bitorder="little").view("<u8").astype(np.uint64)


def as_truths(words: Words, count: int) -> NDArray[np.bool_]:
    """Words as truth values, bool[..., count]."""
    raw = np.ascontiguousarray(words).astype("<u8").view(np.uint8)
    return np.unpackbits(raw, axis=-1, bitorder="little")[..., :count].astype(np.bool_)


def alike_services(layout: GateLayout, services: RangeSet) -> Iterator[tuple[RangeSet, int]]:
    """Services that no filter and no listener tells apart, neither as what requests go to nor as what replies come
    from, each with an example: rather one that people ask about than the first number."""
    line = layout.services
    usual = usual_services(layout.walker.topology.services)
    pieces: dict[Hashable, list[tuple[int, int]]] = {}
    for low, high in services:
        first, last = (int(each) for each in line.atoms(np.array([low, high])))
        atoms = np.arange(first, last + 1)
        starts = line.starts[first : last + 1]
        details = np.where(np.isin(starts >> 16, list(WITH_PORTS)), starts & 0xFFFF, NO_PORT)
        marks = zip(layout.lists.marks(SERVICES, atoms), layout.listeners.marks(atoms),
                    layout.lists.marks(PORTS, layout.ports.atoms(details).astype(np.int64)), strict=True)  # fmt: skip
        for atom, mark in zip(atoms.tolist(), marks, strict=True):
            begin, end = line.span(atom)
            number = max(low, begin)
            pieces.setdefault((mark, _nature(number)), []).append((number, min(high, end)))
    for ranges in pieces.values():
        values = RangeSet.of(ranges)
        yield values, next((number for number in usual if number in values), ranges[0][0])


def alike_ports(layout: GateLayout, protocol: int, clients: Sequence[RangeSet]) -> list[tuple[RangeSet, int]]:
    """Client ports that no rule tells apart, neither as a sender's ports nor, of the filters that are asked of replies,
    as those that replies go to, and that the same of some `clients` use, each with an example."""
    base = protocol << 16
    ports = RangeSet.of(pair for each in clients for pair in each)
    edges = {edge for each in (*clients, ports) for low, high in each for edge in (low, high + 1)}
    edges.update(int(each) for each in layout.ports.starts)
    near = layout.services.starts[(layout.services.starts >= base) & (layout.services.starts < base + (1 << 16))]
    edges.update(int(each) - base for each in near)
    starts = np.array(sorted(edge for edge in edges if edge < 1 << 16 and edge in ports), dtype=np.int64)
    sent = layout.lists.marks(PORTS, layout.ports.atoms(starts).astype(np.int64))
    back = layout.lists.marks(SERVICES, layout.services.atoms(starts | base).astype(np.int64), layout.subject.filters)
    bounds = sorted(edge for edge in edges | {1 << 16})
    after = dict(itertools.pairwise(bounds))
    pieces: dict[Hashable, list[tuple[int, int]]] = {}
    for start, *mark in zip(starts.tolist(), sent, back, strict=True):
        users = tuple(start in each for each in clients)
        pieces.setdefault((*mark, users), []).append((start, after[start] - 1))
    return [(RangeSet.of(ranges), ranges[0][0]) for ranges in pieces.values()]


def _nature(number: int) -> tuple[int, ...]:
    """What tells services apart without any rule: whether there are ports and of which protocol; an ICMP message that
    asks for an answer, or one that does not; one that nobody refuses (clauses S21, S32, S34)."""
    protocol, kind = number >> 16, number >> 8 & 0xFF
    if protocol in WITH_PORTS:
        return (protocol,)
    if protocol not in (ICMP, ICMP6):
        return ()
    if kind == {ICMP: 8, ICMP6: 128}[protocol]:
        return protocol, number & 0xFF
    return protocol, -2 if number in NEVER_REFUSED else -1
