"""What the rules say of very many groups of findings: by tables, where these know it as well as a walk would.

A walk of each would take most of the time of a report that has a row for every pair and service.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from kiboko.core.errors import Place
from kiboko.core.evidence.comparison import BREAK, LEAK, Comparison, FlowAsked
from kiboko.core.evidence.finding_groups import FindingGroup
from kiboko.core.evidence.finding_rows import FindingRows
from kiboko.core.network.model import DROP, REJECT
from kiboko.core.routing.steps import SILENT
from kiboko.core.tables.column import Flows
from kiboko.core.tables.filter_lists import DOUBTFUL, DROPS, REJECTS
from kiboko.core.tables.gate_tables import VERDICTS, Gates, GateTables, Verdicts
from kiboko.core.tables.slots import HOST, INTERFACE, LIST, SUBNET, ZONE_DEFAULT, Slot
from kiboko.core.walk.gates import FORWARD, REPLY
from kiboko.core.walk.walk import ALLOWED, ANSWERED, BLOCKED, UNKNOWN, Walker

_OF_FILTERS = (INTERFACE, HOST, SUBNET, LIST, ZONE_DEFAULT)
"""Gates of which tables know all that a row of the walk would say of what stops there."""
_STOPPING = {DROPS: DROP, REJECTS: REJECT}
FEW = 2_000
"""As many rows are sooner told by a walk of each than tables are made."""
_AT_A_TIME = 2_000


class DecidedBy(NamedTuple):
    """What stops a flow, as a row of the walk names it."""

    gate: str
    at: str
    direction: str
    filter: str | None
    rule: str | None
    action: str
    place: Place | None


@dataclass(frozen=True, slots=True)
class RowVerdict:
    """What the rules say of the example of a group: the verdict and the signal, what stops it of all that its
    conclusion names (None where nothing does), and what the line to paste asks."""

    verdict: str
    signal: str
    decider: DecidedBy | None
    asked: FlowAsked


def verdicts_of(walker: Walker, groups: FindingRows) -> Iterator[tuple[FindingGroup, str | None]]:
    """Each of some groups with the verdict on its example, None where the rules say nothing of it. Of many nothing is
    kept."""
    verdicts = RowVerdicts(Comparison(walker)) if len(groups) > FEW else None
    for at in range(0, len(groups), _AT_A_TIME):
        part = groups[at : at + _AT_A_TIME]
        some = list(part)
        for group, told in zip(some, verdicts.of(some) if verdicts is not None else itertools.repeat(None)):
            if told is not None:
                yield group, told.verdict
                continue
            walk = group.finding.walk
            yield group, walk.verdict if walk is not None else None
            if verdicts is not None:
                group.forget()
        if verdicts is not None:
            part.let_go()


class RowVerdicts:
    """Asks tables about groups, many at once.

    Parameters
    ----------
    comparison : what the findings of the groups come from
    """

    def __init__(self, comparison: Comparison) -> None:
        self._comparison = comparison
        self._walker = comparison.walker
        self._tables = GateTables(comparison.walker)
        self._rule_places: dict[tuple[str, str], dict[str, Place]] = {}

    def of(self, groups: Sequence[FindingGroup]) -> list[RowVerdict | None]:
        """What the rules say of each group. None where only its walk tells: of probes, of senders behind a shared
        address, of refusals, of kernel rule sets, of what no filter stops."""
        found: list[RowVerdict | None] = [None] * len(groups)
        asked = [(row, flow) for row, each in enumerate(groups) if (flow := self._asked(each)) is not None]
        if not asked:
            return found
        flows = self._flows([flow for _, flow in asked])
        gates = self._tables.gates(flows)
        judged = self._tables.verdicts(gates)
        for at, (row, flow) in enumerate(asked):
            found[row] = self._told(groups[row], flow, flows, gates, judged, at)
        return found

    def _asked(self, group: FindingGroup) -> FlowAsked | None:
        """What a group asked, where tables may know what comes of it."""
        flow, directory = group.source_of.asked(group.place), self._walker.directory
        if flow is None or (flow.port is None and flow.service.has_ports):
            return None
        if group.concluded.is_shared or directory.shared_owner(flow.source) is not None:
            return None
        without = self._comparison.without_rules(directory.endpoint(flow.source), flow.target)
        return flow if without is None else None

    def _flows(self, asked: Sequence[FlowAsked]) -> Flows:
        line = self._tables.addresses
        return Flows(
            line.atoms_of([each.source for each in asked]).astype(np.int32),
            line.atoms_of([each.target for each in asked]).astype(np.int32),
            np.array([each.service.number for each in asked], dtype=np.int64),
            np.array([-1 if each.port is None else each.port for each in asked], dtype=np.int64),
        )

    def _told(
        self, group: FindingGroup, flow: FlowAsked, flows: Flows, gates: Gates, judged: Verdicts, at: int
    ) -> RowVerdict | None:
        way, actions = int(gates.way[at]), gates.action[at].tolist()
        verdict = VERDICTS[judged.verdict[at]]
        if way < 0 or DOUBTFUL in actions or verdict == UNKNOWN:
            return None
        signal = ANSWERED if verdict == ALLOWED else SILENT
        if verdict == BLOCKED:  # what is dropped is silent; a refusal has a way of its own (clause S34)
            column = int(judged.gate[at])
            slot = self._slot(gates, way, column)
            if actions[column] != DROPS or slot is None or slot.kind not in _OF_FILTERS or self._is_kernel(gates, at):
                return None
        decider, is_known = self._decider(group, flows, gates, actions, at)
        if not is_known:
            return None
        if group.concluded.status not in (LEAK, BREAK):
            flow = replace(flow, source=self._walker.directory.endpoint(flow.source).address)
        return RowVerdict(verdict, signal, decider, flow)

    def _slot(self, gates: Gates, way: int, column: int) -> Slot | None:
        is_reply = column >= gates.request
        return self._tables.layout.slot(way, is_reply, column - gates.request if is_reply else column)

    def _is_kernel(self, gates: Gates, at: int) -> bool:
        """Whether a kernel's own rule set stops a flow somewhere: how it does is not in the tables."""
        if not self._tables.layout.has_kernel:
            return False
        deciders = self._tables.deciders
        stopping = np.isin(gates.action[at], list(_STOPPING))
        return any(deciders[number].chain is not None for number in gates.decider[at, stopping].tolist())

    def _decider(
        self, group: FindingGroup, flows: Flows, gates: Gates, actions: Sequence[int], at: int
    ) -> tuple[DecidedBy | None, bool]:
        """What stops a flow of all that the conclusion names, and whether tables know that."""
        named = group.concluded.decider
        if named is None:
            return None, True
        gate, chosen, rule = named
        for column, action in enumerate(actions):
            if action not in _STOPPING:
                continue
            slot = self._slot(gates, int(gates.way[at]), column)
            decider = self._tables.deciders[gates.decider[at, column]]
            if slot is None or slot.gate.step.gate != gate or (decider.filter or None) != chosen:
                continue
            if chosen is not None and decider.rule != rule:
                continue
            if slot.kind not in _OF_FILTERS or decider.chain is not None:
                return None, False
            place = self._place(chosen, slot.gate.step.bound, decider.rule) if chosen is not None else None
            ends = (self._tables.places.end(int(atoms[at])) for atoms in (flows.source, flows.target))
            direction = REPLY if column >= gates.request else FORWARD
            return DecidedBy(gate, slot.gate.at(*ends), direction, chosen, decider.rule, _STOPPING[action], place), True
        return None, True

    def _place(self, name: str, way: str, rule: str | None) -> Place:
        """Where a rule of a filter is written that is asked of traffic going `way`, or what it does otherwise."""
        if (name, way) not in self._rule_places:
            chosen = self._walker.topology.filters[name]
            places = {each.name: each.place for each in chosen.direction(way) or ()}
            self._rule_places[name, way] = {**places, "otherwise": chosen.default_place}
        return self._rule_places[name, way][rule or "otherwise"]
