"""Which addresses all route tables send the same way: a table of thousands of learned routes has few next hops."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Collection

import numpy as np

from kiboko.core.header.addresses import BITS, Address, Prefix
from kiboko.core.network.model import RouteEntry, Topology
from kiboko.core.records.columns import distinct
from kiboko.core.routing.routes import precedence


class RoutePieces:
    """The line of each family cut where a route or a network begins or ends, and a number for each piece: the same for
    pieces whose addresses every table sends the same way (clause S25).

    An entry by which a packet may be stopped is a way of its own, as it is named for that: inside networks, by any
    gateway that is no plain way out, and in the tables of `hop_subnets`, in which appliances pass on what others sent.
    """

    def __init__(self, topology: Topology, hop_subnets: Collection[str]) -> None:
        self._topology = topology
        self._blocks = [block for network in topology.networks.values() for block in network.blocks]
        singly: dict[tuple[str | None, str], bool] = {}
        for name, subnet in topology.subnets.items():
            table = subnet.route_table, subnet.network
            singly[table] = singly.get(table, False) or name in hop_subnets
        self.edges: dict[int, list[int]] = {}
        """Where the pieces of each family begin, ascending."""
        self.numbers: dict[int, list[int]] = {}
        """What stands for where all tables send the addresses of each piece."""
        for family in (4, 6):
            self._number_pieces(family, [(self._entries(*table, family), alone) for table, alone in singly.items()])

    def _number_pieces(self, family: int, tables: list[tuple[list[RouteEntry], bool]]) -> None:
        blocks = [each for each in self._blocks if each.family == family]
        ends = {_ends(each) for each in blocks} | {_ends(each.to) for entries, _ in tables for each in entries}
        edges = sorted({0, *(edge for pair in ends for edge in pair if edge < 1 << BITS[family])})
        inside = np.zeros(len(edges), dtype=np.bool_)
        for each in blocks:
            inside[_between(edges, each)] = True
        codes = np.zeros(len(edges), dtype=np.int64)
        for entries, alone in tables:
            won = np.full(len(edges), len(entries), dtype=np.int64)
            for number, entry in sorted(enumerate(entries), key=lambda each: precedence(each[1]), reverse=True):
                won[_between(edges, entry.to)] = number  # the stronger over the weaker
            ways: dict[str, int] = {}
            way = [
                ways.setdefault(each.gateway or "", number) if self._is_way_out(each) and not alone else number
                for number, each in enumerate(entries)
            ]
            codes = distinct(codes, np.where(inside, won, np.array([*way, len(entries)], dtype=np.int64)[won])).codes
        self.edges[family], self.numbers[family] = edges, codes.tolist()

    def number(self, address: Address) -> int:
        """What stands for where all tables send an address."""
        piece = bisect_right(self.edges[address.family], address.value) - 1
        return self.numbers[address.family][piece]

    def _entries(self, table: str | None, network: str, family: int) -> list[RouteEntry]:
        entries = self._topology.route_tables[table].entries if table else ()
        local = (RouteEntry(block, "connected", None) for block in self._topology.networks[network].blocks)
        return [each for each in (*entries, *local) if each.to.family == family]

    def _is_way_out(self, entry: RouteEntry) -> bool:
        """Whether an entry leads out by a gateway that stops nothing on its way to outside addresses."""
        kind = self._topology.gateways[entry.gateway].kind if entry.gateway else ""
        return kind == "internet" or (kind == "nat" and entry.to.family == 4)


def _ends(block: Prefix) -> tuple[int, int]:
    return block.value, block.last + 1


def _between(edges: list[int], block: Prefix) -> slice:
    """The pieces of a block whose ends are edges."""
    first, behind = _ends(block)
    return slice(bisect_left(edges, first), bisect_left(edges, behind))
