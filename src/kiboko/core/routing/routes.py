"""Route look-up: longest prefix, then origin (clause S25)."""

from __future__ import annotations

from dataclasses import dataclass

from kiboko.core.header.addresses import Address
from kiboko.core.header.prefixes import PrefixTable
from kiboko.core.network.directory import Directory
from kiboko.core.network.model import RouteEntry, Subnet

_RANK = {"static": 0, "learned": 1, "connected": 2}


def precedence(entry: RouteEntry) -> tuple[int, int]:
    """What orders the entries of one table that hold an address: the least wins (clause S25)."""
    return -entry.to.length, rank_of(entry)


def rank_of(entry: RouteEntry) -> int:
    """What decides between entries of one prefix: the least wins (clause S25)."""
    return _RANK[entry.origin]


@dataclass(frozen=True, slots=True)
class Lookup:
    """What a subnet's table says of a destination: the entry that won, and those it beat, best first."""

    entry: RouteEntry | None
    beaten: tuple[RouteEntry, ...] = ()


class Router:
    """The route tables of one topology, with each network's own blocks as `connected` entries."""

    def __init__(self, directory: Directory) -> None:
        self._topology = directory.topology
        self._tables: dict[tuple[str | None, str], PrefixTable[RouteEntry]] = {}

    def look_up(self, subnet: Subnet, destination: Address) -> Lookup:
        """The entry that a packet leaving `subnet` for `destination` takes."""
        table = self._table(subnet)
        found = sorted(table.matches(destination), key=precedence)
        return Lookup(found[0], tuple(found[1:])) if found else Lookup(None)

    def _table(self, subnet: Subnet) -> PrefixTable[RouteEntry]:
        key = (subnet.route_table, subnet.network)
        if key not in self._tables:
            entries = self._topology.route_tables[subnet.route_table].entries if subnet.route_table else ()
            blocks = self._topology.networks[subnet.network].blocks
            local = tuple(RouteEntry(block, "connected", None) for block in blocks)
            self._tables[key] = PrefixTable((entry.to, entry) for entry in entries + local)
        return self._tables[key]
