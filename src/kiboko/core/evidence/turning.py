"""Recorded traffic that a change of the rules would turn: newly stopped, newly let pass, or stopped as it was before
and tried all the same."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator, Judged
from kiboko.core.evidence.tallies import Tallies
from kiboko.core.header.addresses import Address
from kiboko.core.header.services import service_text
from kiboko.core.records.columns import has_ports
from kiboko.core.records.flow_sums import Sum
from kiboko.core.records.flow_table import FlowTable
from kiboko.core.tables.column import Flows
from kiboko.core.tables.gate_tables import VERDICTS, GateTables
from kiboko.core.tables.lines import AddressLine, NumberLine, service_line
from kiboko.core.tables.places import NONE
from kiboko.core.walk.walk import ALLOWED, BLOCKED, Walker

STOPPED, PASSES, TRIED = "newly stopped", "newly let pass", "stopped as before"
_OPEN = VERDICTS.index(ALLOWED)
_SHUT = VERDICTS.index(BLOCKED)
TurnKey = tuple[str, str, str, str]
"""How it is turned, the sender, the receiver and the service."""


@dataclass(slots=True)
class TurnedSum:
    """What some recorded traffic comes to: its records, and how many conversations they are of."""

    sum: Sum = field(default_factory=Sum)
    conversations: int = 0


@dataclass(slots=True)
class Turned:
    """Recorded traffic by how a change turns it. `untold` records are of senders behind a shared address, or of traffic
    of which the ports that it was sent from matter and were not recorded."""

    sums: dict[TurnKey, TurnedSum] = field(default_factory=dict)
    records: int = 0
    untold: int = 0

    def merge(self, other: Turned) -> None:
        """Take in what other records come to."""
        self.records += other.records
        self.untold += other.untold
        for key, each in other.sums.items():
            mine = self.sums.setdefault(key, TurnedSum())
            told = each.sum
            mine.sum.add(told.records, told.packets, told.octets, told.first, told.last)
            mine.conversations += each.conversations

    def of(self, kind: str) -> list[tuple[TurnKey, TurnedSum]]:
        """Those of a kind, the most records first; of as many, the newest."""
        found = [(key, each) for key, each in self.sums.items() if key[0] == kind]
        return sorted(found, key=lambda item: (-item[1].sum.records, -item[1].sum.last, item[0]))


class Turning:
    """Holds recorded traffic against two versions of a network at once. Whatever either tells apart is apart."""

    def __init__(self, old: Walker, new: Walker) -> None:
        comparison = Comparison(old)
        newer = Comparison(new)
        line = AddressLine(old.ground, AddressLine(new.ground).edges())
        lines = [service_line(each.walker.ground, each.served) for each in (comparison, newer)]
        services = NumberLine((*lines[0].starts.tolist(), *lines[1].starts.tolist()), lines[0].end)
        self._evaluator = Evaluator(comparison, line, services)
        self._tables = self._evaluator.tables, GateTables(new, line, services)
        self._directory = old.directory
        self._names: dict[Address, str] = {}

    def judge(self, table: FlowTable) -> Judged:
        """What every record of a table comes to by the rules as they are."""
        return self._evaluator.judge(table)

    def take(self, table: FlowTable, judged: Judged, rows: NDArray[np.int64], into: Turned) -> None:
        """Take in some records of a table."""
        tallies = self._evaluator.summed(table, judged, rows)
        if not len(tallies):
            return
        into.records += int(tallies.count.sum())
        told, verdicts = self._verdicts(tallies)
        into.untold += int(tallies.count[~told].sum())
        before, after = verdicts
        was_open, is_open = before == _OPEN, after == _OPEN
        for kind, mask in (
            (STOPPED, told & was_open & ~is_open),
            (PASSES, told & ~was_open & is_open),
            (TRIED, told & (before == _SHUT) & (after == _SHUT)),
        ):
            for row in np.flatnonzero(mask).tolist():
                self._note(tallies, row, kind, into)

    def _verdicts(self, tallies: Tallies) -> tuple[NDArray[np.bool_], list[NDArray[np.uint8]]]:
        """Of which tallies both versions tell, bool[m], and the verdicts of either, indices of `VERDICTS`."""
        ends = self._evaluator.ends
        sender, target = ends.atoms(tallies.sources), ends.atoms(tallies.targets)
        told = ~(ends.is_apart(sender) | ends.is_apart(target))
        told &= ~(ends.is_foreign(sender) & ends.is_foreign(target))
        asked = told.copy()
        told &= ends.shared_by(sender) == NONE
        told &= ~(has_ports(tallies.service >> 16) & (tallies.port < 0))
        rows = np.flatnonzero(told)
        flows = Flows(sender[rows].astype(np.int32), target[rows].astype(np.int32), tallies.service[rows],
                      tallies.port[rows])  # fmt: skip
        found = []
        for tables in self._tables:
            verdict = np.full(len(tallies), _OPEN, dtype=np.uint8)
            verdict[rows] = tables.judge(flows).verdict
            found.append(verdict)
        return told | ~asked, found  # what no gate lies between is turned by nothing

    def _note(self, tallies: Tallies, row: int, kind: str, into: Turned) -> None:
        low, high = tallies.met[row].tolist()
        service = service_text(low, high) if low >> 16 == high >> 16 else f"{service_text(low, low)} and others"
        key = kind, self._name(tallies.sources[row]), self._name(tallies.targets[row]), service
        mine = into.sums.setdefault(key, TurnedSum())
        mine.sum.add(int(tallies.count[row]), int(tallies.packets[row]), int(tallies.octets[row]),
                     int(tallies.first[row]), int(tallies.last[row]))  # fmt: skip
        mine.conversations += int(tallies.conversations[row])

    def _name(self, address: Address) -> str:
        if address not in self._names:
            self._names[address] = self._directory.name_of(address)
        return self._names[address]


def kinds_of(turned: Turned) -> Iterator[tuple[str, list[tuple[TurnKey, TurnedSum]]]]:
    """What is turned, by how: what would newly be stopped first."""
    for kind in (STOPPED, PASSES, TRIED):
        found = turned.of(kind)
        if found:
            yield kind, found
