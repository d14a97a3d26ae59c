"""Which rules the packets of many conversations met, by the gate tables; by the walk where these do not tell."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import Comparison, Finding
from kiboko.core.evidence.flow_numbers import FlowNumbers
from kiboko.core.evidence.seen_ends import SeenEnds
from kiboko.core.evidence.shared_senders import SharedSenders
from kiboko.core.evidence.tallies import Tallies
from kiboko.core.network.model import Topology
from kiboko.core.records.columns import numbered
from kiboko.core.tables.client_ports import ClientPorts, is_beside_rules
from kiboko.core.tables.column import Flows
from kiboko.core.tables.filter_lists import ABSENT, LETS_BACK, Decider
from kiboko.core.tables.gate_tables import Gates, GateTables
from kiboko.core.tables.places import NONE
from kiboko.core.walk.gates import Row

RuleKey = tuple[str, str, str]
"""A rule: its filter, its direction (`inbound`, `outbound`, `rules`), and its id or order; `otherwise` for none. Of a
kernel's rule set: its file, the chain, and the rule's comment or handle; `otherwise` for its policy."""
Rows = NDArray[np.int64]
_MOST_KNOWN = 100_000
_MOST_AT_ONCE = 1 << 17
_INBOUND, _OUTBOUND = "inbound", "outbound"


@dataclass(frozen=True, slots=True)
class Met:
    """The rules that the packets of `m` tallies met up to the one that stops them, each once: `request` int32[m, a] and
    `reply` int32[m, b] are indices of `keys`, -1 for none."""

    keys: tuple[RuleKey, ...]
    request: NDArray[np.int32]
    reply: NDArray[np.int32]

    def any_of(self, wanted: frozenset[RuleKey], is_reply: NDArray[np.bool_]) -> NDArray[np.bool_]:
        """Which tallies met one of some rules, bool[m]: by their replies, or by their requests."""
        asked = np.array([key in wanted for key in self.keys] + [False])
        return np.where(is_reply, asked[self.reply].any(axis=1), asked[self.request].any(axis=1))


class RulesMet:
    """Finds them for one network. Remembers those of each flow, within a bound."""

    def __init__(self, comparison: Comparison, tables: GateTables, ends: SeenEnds, shared: SharedSenders) -> None:
        self._comparison, self._tables, self._ends, self._shared = comparison, tables, ends, shared
        self._topology = comparison.walker.topology
        self._keys: list[RuleKey] = []
        self._number_of: dict[RuleKey, int] = {}
        self._client_ports = ClientPorts(tables)
        self._flows = FlowNumbers(tables, self._ask, self._forget)
        self._met_behind: dict[tuple[int, ...], tuple[list[int], list[int]]] = {}
        """The numbers of the rules that any met who may have sent something from a shared address, by what it is."""
        self._forget()

    def _forget(self) -> None:
        self._by_walk = np.zeros(0, dtype=np.bool_)
        """Which of the flows that are remembered the tables have no way of."""
        self._met_by = [np.zeros((0, 1), dtype=np.int32), np.zeros((0, 1), dtype=np.int32)]
        """The numbers of the rules that each of the others meets, by its request and by its reply."""

    def of(self, tallies: Tallies) -> Met:
        """The rules that the packets of tallies met."""
        asking, target = tallies.ends(self._ends.atoms)
        sender = self._ends.own(asking)
        known = ~(self._ends.is_apart(sender) | self._ends.is_apart(target))
        known &= ~(self._ends.is_foreign(sender) & self._ends.is_foreign(target))
        known &= ~is_beside_rules(tallies.service, tallies.port)
        gateway = self._ends.shared_by(sender)
        is_shared = gateway != NONE
        behind = self._behind_shared(tallies, np.flatnonzero(known & is_shared), gateway, target)
        rows = np.flatnonzero(known & ~is_shared)
        of, port = self._client_ports.spread(sender[rows], tallies.service[rows], tallies.port[rows])
        of = rows[of]
        numbers = self._flows.of(Flows(sender[of].astype(np.int32), target[of].astype(np.int32), tallies.service[of],
                                       port))  # fmt: skip
        # Of several client ports that it may have been sent from one stands beside the other.
        place = np.arange(len(of)) - np.searchsorted(of, of)
        widest = int(place.max(initial=0)) + 1
        listed = {int(row): self._walked(tallies, int(row)) for row in of[self._by_walk[numbers]]}
        listed |= behind
        found = []
        for part, met in enumerate(self._met_by):
            own = met.shape[1]
            width = max((len(each[part]) for each in listed.values()), default=0)
            whole = np.full((len(tallies), max(width, own * widest)), NONE, dtype=np.int32)
            for which in range(widest):
                here = place == which
                whole[of[here], own * which : own * (which + 1)] = met[numbers[here]]
            if widest > 1:
                whole = without_repeated(whole)
            for row, each in listed.items():
                whole[row] = NONE
                whole[row, : len(each[part])] = each[part]
            found.append(whole)
        return Met(tuple(self._keys), *found)

    def _ask(self, flows: Flows) -> None:
        """Ask the gates of flows that are not known."""
        gates = self._tables.gates(flows)
        self._by_walk = np.append(self._by_walk, gates.way == NONE)
        for part, before in enumerate(self._met_by):
            met = self._met(gates, part == 1)
            whole = np.full((len(before) + len(met), max(before.shape[1], met.shape[1])), NONE, dtype=np.int32)
            whole[: len(before), : before.shape[1]] = before
            whole[len(before) :, : met.shape[1]] = met
            self._met_by[part] = whole

    def _behind_shared(
        self, tallies: Tallies, rows: Rows, gateway: NDArray[np.int32], target: Rows
    ) -> dict[int, tuple[list[int], list[int]]]:  # fmt: skip
        """Of tallies from shared addresses the rules that any met who may have sent them (clause E11)."""
        if len(self._met_behind) > _MOST_KNOWN:
            self._met_behind.clear()
        service, port = tallies.service, tallies.port
        told = gateway[rows], target[rows], self._tables.traffic(service[rows], port[rows])
        keys = list(zip(*(each.tolist() for each in told), strict=True))
        first = {key: row for key, row in zip(reversed(keys), reversed(rows.tolist())) if key not in self._met_behind}
        fresh, where = np.array(list(first.values()), dtype=np.int64), list(first)
        is_near = self._ends.subnets(target[fresh]) != NONE
        for kind in set(zip(gateway[fresh].tolist(), is_near.tolist(), strict=True)):
            senders = self._shared.behind(*kind)
            mine = np.flatnonzero((gateway[fresh] == kind[0]) & (is_near == kind[1]))
            step = max(1, _MOST_AT_ONCE // max(1, len(senders)))
            for at in range(0, len(mine), step):
                some = mine[at : at + step]
                asked = target[fresh[some]], service[fresh[some]], port[fresh[some]]
                met = self._met_by_any(kind[0], senders, *asked)
                self._met_behind.update(zip((where[each] for each in some), met, strict=True))
        return {row: self._met_behind[key] for row, key in zip(rows.tolist(), keys, strict=True)}

    def _met_by_any(
        self, gateway: int, senders: Rows, target: Rows, service: Rows, port: Rows
    ) -> list[tuple[list[int], list[int]]]:
        """The rules that any met of those who may have sent what is asked, from any of their ports or the recorded
        one."""
        of, place = self._shared.asked(gateway, senders, target)
        sender = senders[place]
        more, ports = self._client_ports.spread(sender, service[of], np.full(len(of), NONE), port[of])
        of, sender = of[more], sender[more]
        numbers = self._flows.of(
            Flows(sender.astype(np.int32), target[of].astype(np.int32), service[of], ports)
        )  # fmt: skip
        found: tuple[list[list[int]], ...] = tuple([[] for _ in target] for _ in self._met_by)
        for part, met in zip(found, self._met_by, strict=True):
            rules = met[numbers]
            pairs = np.unique(np.repeat(of, rules.shape[1]) * (len(self._keys) + 1) + rules.reshape(-1) + 1)
            for row, rule in zip(*(each.tolist() for each in np.divmod(pairs, len(self._keys) + 1)), strict=True):
                if rule:
                    part[row].append(rule - 1)
        return list(zip(*found, strict=True))

    def _walked(self, tallies: Tallies, row: int) -> tuple[list[int], list[int]]:
        concluded = tallies.concluded[int(tallies.conclusion[row])]
        finding = self._comparison.finding(concluded, tallies.flow(row))
        request, reply = ([self._number(key) for key in rules_met(self._topology, finding, way)]
                          for way in (False, True))  # fmt: skip
        return request, reply

    def _met(self, gates: Gates, is_reply: bool) -> Rows:
        """The numbers of the rules met by requests or replies, int64[n, gates]."""
        chosen = slice(gates.request, None) if is_reply else slice(0, gates.request)
        action, decider = gates.action[:, chosen], gates.decider[:, chosen]
        stops = gates.stops[:, chosen]
        behind = np.cumsum(stops, axis=1) - stops > 0
        is_asked = ~behind & (action != ABSENT) & (action != LETS_BACK) & (gates.way != NONE)[:, np.newaxis]
        bound = self._bounds(gates.way, is_reply, action.shape[1])
        code = np.where(is_asked, decider * 2 + bound, 0)
        kinds, back = numbered(code.reshape(-1))
        back = back.reshape(code.shape)
        numbers = np.array([self._key_of(kind >> 1, kind & 1) for kind in kinds.tolist()], dtype=np.int64)
        found = numbers[back]
        if self._tables.layout.lists.has_conditions:  # what decides if no condition holds may be met as well
            besides = [self._key_besides(kind >> 1, kind & 1) for kind in kinds.tolist()]
            found = np.concatenate([found, np.array(besides, dtype=np.int64)[back]], axis=1)
        return without_repeated(found)  # one that is met twice on one way is hit once

    def _bounds(self, ways: NDArray[np.int32], is_reply: bool, width: int) -> Rows:
        """Which gates are passed inbound, int64[n, gates]."""
        kinds, back = numbered(ways)
        found = np.zeros((len(kinds), width), dtype=np.int64)
        for row, way in enumerate(kinds.tolist()):
            for at, slot in enumerate(self._tables.layout.slots(way, is_reply) if way != NONE else ()):
                found[row, at] = slot.gate.step.bound == "in"
        return found[back]

    def _key_of(self, number: int, is_inbound: int) -> int:
        """The number of the rule that decides something in one direction; -1 where that is none."""
        if not number:
            return NONE
        key = _key(self._topology, self._tables.deciders[number], _INBOUND if is_inbound else _OUTBOUND)
        return self._number(key) if key is not None else NONE

    def _key_besides(self, number: int, is_inbound: int) -> int:
        """The number of the rule that decides something if no condition holds; -1 where it is decided anyway."""
        besides = self._tables.deciders[number].besides
        key = _key(self._topology, Decider(*besides), _INBOUND if is_inbound else _OUTBOUND) if besides else None
        return self._number(key) if key is not None else NONE

    def _number(self, key: RuleKey) -> int:
        if key not in self._number_of:
            self._number_of[key] = len(self._keys)
            self._keys.append(key)
        return self._number_of[key]


def without_repeated(numbers: NDArray[Any]) -> NDArray[Any]:
    """The numbers in each row, each once; -1 in the place of others."""
    found = np.sort(numbers, axis=1)
    found[:, 1:][found[:, 1:] == found[:, :-1]] = NONE
    return found


def _key(topology: Topology, decider: Decider, direction: str) -> RuleKey | None:
    """The rule that a decider stands for where it is met in one direction."""
    if decider.filter is None:
        return None
    if decider.chain is not None:
        return decider.filter, decider.chain, decider.rule or "otherwise"
    chosen = topology.filters.get(decider.filter)
    if chosen is None or decider.rule is None:
        return None
    return decider.filter, "rules" if chosen.rules is not None else direction, decider.rule


def rules_met(topology: Topology, finding: Finding, is_reply: bool) -> list[RuleKey]:
    """The rules that the packets of a record met by the walk, each once, up to the one that stops it."""
    walk = finding.walk
    if walk is None:
        return []
    rows = walk.reply if is_reply else walk.forward
    return list(dict.fromkeys(_met_by_rows(topology, rows)))


def _met_by_rows(topology: Topology, rows: tuple[Row, ...]) -> Iterator[RuleKey]:
    for row in rows:
        direction = _INBOUND if row.step.bound == "in" else _OUTBOUND
        if row.chain is not None and row.filter is not None:
            yield row.filter, row.chain, row.rule or "otherwise"
        for name in row.filters:
            if not row.tracked and (row.filter or name) == name:
                key = _key(topology, Decider(name, row.rule), direction)
                if key is not None:
                    yield key
        other = _key(topology, Decider(*row.besides), direction) if row.besides is not None else None
        if other is not None:
            yield other
        if row.stops:
            return
