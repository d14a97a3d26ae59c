"""Recorded traffic that a change of the rules would turn: newly stopped, newly let pass, or stopped as it was before
and tried all the same."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.judged import Judged
from kiboko.core.evidence.tallies import Tallies
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import service_text
from kiboko.core.records.address_names import AddressNames, Stretches
from kiboko.core.records.columns import distinct, within
from kiboko.core.records.flow_table import FlowTable
from kiboko.core.records.group_sums import Groups, GroupSums, Sum
from kiboko.core.tables.client_ports import ClientPorts, asked_line, is_beside_rules
from kiboko.core.tables.column import Flows
from kiboko.core.tables.gate_tables import VERDICTS, GateTables
from kiboko.core.tables.lines import AddressLine, NumberLine
from kiboko.core.tables.places import NONE
from kiboko.core.walk.walk import ALLOWED, BLOCKED, Walker

KINDS = STOPPED, PASSES, TRIED = "newly stopped", "newly let pass", "stopped as before"
_STOPPED, _PASSES, _TRIED, _AS_BEFORE = range(4)
_OPEN = VERDICTS.index(ALLOWED)
_SHUT = VERDICTS.index(BLOCKED)
Ends = tuple[str, ...]
"""The sender, the receiver and the service."""


@dataclass(slots=True)
class Turned:
    """Recorded traffic by how a change turns it. `untold` records are of senders behind a shared address, or of traffic
    of which the ports that it was sent from, or who began it, matter and are not known; `unasked` are stopped as
    before, and nothing shows that anybody tried it."""

    sums: dict[str, GroupSums] = field(default_factory=lambda: {kind: GroupSums(3) for kind in KINDS})
    records: int = 0
    untold: int = 0
    unasked: int = 0

    def merge(self, other: Turned) -> None:
        """Take in what other records come to."""
        self.records += other.records
        self.untold += other.untold
        self.unasked += other.unasked
        for kind, sums in self.sums.items():
            sums.merge(other.sums[kind])

    def count(self, kind: str) -> int:
        """How many groups of a kind there are."""
        return len(self.sums[kind])

    def total(self, kind: str) -> Sum:
        """What all records of a kind come to."""
        return self.sums[kind].total

    @property
    def left_out(self) -> int:
        """Records of further ends and services, once there are too many to be told one by one."""
        return sum(each.left_out for each in self.sums.values())

    def of(self, kind: str, most: int | None = None) -> list[tuple[Ends, Sum]]:
        """Those of a kind, the most records first; of as many, the newest. `most` is how many, None for all."""
        return self.sums[kind].largest("records", most, newest_first=True)


class Turning:
    """Holds recorded traffic against two versions of a network at once. Whatever either tells apart is apart."""

    def __init__(self, old: Walker, new: Walker, services: RangeSet | None = None) -> None:
        """`services` are those of which a verdict may be another one in the new version; None for all."""
        comparison = Comparison(old)
        newer = Comparison(new)
        line = AddressLine(old.ground, AddressLine(new.ground).edges())
        lines = [asked_line(each.walker.ground, each.served) for each in (comparison, newer)]
        atoms = NumberLine((*lines[0].starts.tolist(), *lines[1].starts.tolist()), lines[0].end)
        self._evaluator = Evaluator(comparison, line, atoms)
        self._tables = self._evaluator.tables, GateTables(new, line, atoms)
        self._client_ports = ClientPorts(self._tables[0])
        self._services = services
        self._directory = old.directory
        self._stretches = Stretches(self._directory.name_edges(), self._directory.is_by_itself)

    def judge(self, table: FlowTable, since: int | None = None) -> Judged:
        """What every record of a table comes to by the rules as they are. `since` is when their log begins."""
        return self._evaluator.judge(table, since=since)

    def take(self, table: FlowTable, judged: Judged, rows: NDArray[np.int64], into: Turned) -> None:
        """Take in some records of a table."""
        if judged.found is None:
            return
        assert judged.unasked is not None
        of = judged.found.of[rows]
        is_open, unasked = judged.found.began[of] < 0, judged.unasked[of]
        for either in (False, True):
            for is_unasked in (False, True):
                mine = rows[(is_open == either) & (unasked == is_unasked)]
                tallies = self._evaluator.summed(table, judged, mine)
                if len(tallies):
                    self._take(tallies, either, is_unasked, into)

    def _take(self, tallies: Tallies, either: bool, is_unasked: bool, into: Turned) -> None:
        """Take in tallies; of those of which `either` end may have begun what holds whoever did."""
        into.records += int(tallies.count.sum())
        told, kind = self._kinds(tallies)
        if either:
            known, other = self._kinds(tallies.turned_round())
            is_turned = (kind == _STOPPED) | (kind == _PASSES) | (other == _STOPPED) | (other == _PASSES)
            told &= known & ((kind == other) | ~is_turned)
            kind = np.where(kind == other, kind, _AS_BEFORE)
        into.untold += int(tallies.count[~told].sum())
        if is_unasked:
            into.unasked += int(tallies.count[told & (kind == _TRIED)].sum())
            kind = np.where(kind == _TRIED, _AS_BEFORE, kind)
        for number, name in enumerate(KINDS):
            self._note(tallies, np.flatnonzero(told & (kind == number)), into.sums[name])

    def _kinds(self, tallies: Tallies) -> tuple[NDArray[np.bool_], NDArray[np.int64]]:
        """Of which tallies both versions tell, bool[m], and how the change turns each, an index of `KINDS` or
        `_AS_BEFORE`."""
        ends = self._evaluator.ends
        asking, target = tallies.ends(ends.atoms)
        sender = ends.own(asking)
        target = ends.target(sender, target, np.zeros(len(sender), dtype=np.bool_))
        service, port = tallies.service, tallies.port
        told = ~(ends.is_apart(sender) | ends.is_apart(target))
        told &= ~(ends.is_foreign(sender) & ends.is_foreign(target))
        asked = told.copy()
        told &= ends.shared_by(sender) == NONE
        told &= ~is_beside_rules(service, port)
        rows = np.flatnonzero(told)
        of, port = self._client_ports.spread(sender[rows], service[rows], port[rows])
        of = rows[of]
        flows = Flows(sender[of].astype(np.int32), target[of].astype(np.int32), service[of], port)
        before = self._tables[0].judge(flows).verdict
        may = np.arange(len(of)) if self._services is None else np.flatnonzero(within(self._services, flows.service))
        after = before.copy()
        after[may] = self._tables[1].judge(flows.taken(may)).verdict
        was_open, is_open = before == _OPEN, after == _OPEN
        turned = np.select([was_open & ~is_open, ~was_open & is_open, (before == _SHUT) & (after == _SHUT)],
                           [_STOPPED, _PASSES, _TRIED], _AS_BEFORE)  # fmt: skip
        kinds = np.full(len(tallies), _AS_BEFORE, dtype=np.int64)
        first = np.searchsorted(of, rows)
        kinds[rows] = turned[first]
        if len(of) > len(rows):  # of several client ports that it may have been sent from
            told[rows] = np.minimum.reduceat(turned, first) == np.maximum.reduceat(turned, first)
        return told | ~asked, kinds  # what no gate lies between is turned by nothing

    def _note(self, tallies: Tallies, rows: NDArray[np.int64], into: GroupSums) -> None:
        if not len(rows):
            return
        names = AddressNames(lambda address: into.number(self._directory.end_name(address)), self._stretches)
        source, target = tallies.ends(names.numbers, rows)
        met = distinct(*tallies.met[rows].T)
        services = [into.number(_service(*each)) for each in tallies.met[rows[met.first]].tolist()]
        groups = Groups(
            np.stack([source, target, np.array(services, dtype=np.int64)[met.codes]]),
            tallies.count[rows], tallies.packets[rows], tallies.octets[rows], tallies.first[rows], tallies.last[rows],
            tallies.conversations[rows],
        )  # fmt: skip
        into.take(groups.by_key(), groups.total())


def _service(low: int, high: int) -> str:
    return service_text(low, high) if low >> 16 == high >> 16 else f"{service_text(low, low)} and others"
