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
from kiboko.core.evidence.comparison import BREAK, LEAK, Comparison, Decided, FlowAsked
from kiboko.core.evidence.finding_groups import FindingGroup
from kiboko.core.evidence.finding_rows import FindingRows
from kiboko.core.network.model import DROP, REJECT
from kiboko.core.routing.steps import SILENT
from kiboko.core.tables.column import Flows
from kiboko.core.tables.filter_lists import DOUBTFUL, DROPS, REJECTS
from kiboko.core.tables.gate_tables import VERDICTS, GateTables
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


_BY_WALK = DecidedBy("", "", "", None, None, "", None)
"""In place of what decides: the walk is to tell it."""


class _Met(NamedTuple):
    """What the gates of one flow do, by column (`Gates`), those of the reply from `request` on; the verdict, the column
    that decides it, and the atoms of both ends."""

    way: int
    actions: list[int]
    deciders: list[int]
    request: int
    verdict: str
    gate: int
    ends: tuple[int, int]


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
            met = _Met(
                int(gates.way[at]), gates.action[at].tolist(), gates.decider[at].tolist(), gates.request,
                VERDICTS[judged.verdict[at]], int(judged.gate[at]), (int(flows.source[at]), int(flows.target[at])),
            )  # fmt: skip
            found[row] = self._told(groups[row], flow, met)
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

    def _told(self, group: FindingGroup, flow: FlowAsked, met: _Met) -> RowVerdict | None:
        if met.way < 0 or DOUBTFUL in met.actions or met.verdict == UNKNOWN:
            return None
        if met.verdict == BLOCKED and not self._is_silent(met):
            return None
        decider = self._decider(group.concluded.decider, met)
        if decider is _BY_WALK:
            return None
        if group.concluded.status not in (LEAK, BREAK):
            flow = replace(flow, source=self._walker.directory.endpoint(flow.source).address)
        return RowVerdict(met.verdict, ANSWERED if met.verdict == ALLOWED else SILENT, decider, flow)

    def _is_silent(self, met: _Met) -> bool:
        """Whether what decides drops, and no rule set of a kernel has a say: a refusal has a way of its own back
        (clause S34), and how a kernel stops something is not in the tables, nor how rules with conditions do (S41)."""
        slot = self._slot(met, met.gate)
        if met.actions[met.gate] != DROPS or slot is None or slot.kind not in _OF_FILTERS:
            return False
        if self._tables.deciders[met.deciders[met.gate]].possible:
            return False
        return not self._tables.layout.has_kernel or not any(
            action in _STOPPING and self._tables.deciders[number].chain is not None
            for action, number in zip(met.actions, met.deciders, strict=True)
        )

    def _slot(self, met: _Met, column: int) -> Slot | None:
        is_reply = column >= met.request
        return self._tables.layout.slot(met.way, is_reply, column - met.request if is_reply else column)

    def _decider(self, named: Decided | None, met: _Met) -> DecidedBy | None:
        """The first gate that stops a flow of all that its conclusion names, None where none does; `_BY_WALK` where
        tables do not know all of it."""
        if named is None:
            return None
        gate, chosen, rule = named
        for column, action in enumerate(met.actions):
            if action not in _STOPPING:
                continue
            slot, decider = self._slot(met, column), self._tables.deciders[met.deciders[column]]
            if slot is None or slot.gate.step.gate != gate or (decider.filter or None) != chosen:
                continue
            if chosen is not None and decider.rule != rule:
                continue
            if slot.kind not in _OF_FILTERS or decider.chain is not None:
                return _BY_WALK
            at = slot.gate.at(*map(self._tables.places.end, met.ends))
            place = self._place(chosen, slot.gate.step.bound, decider.rule) if chosen is not None else None
            direction = REPLY if column >= met.request else FORWARD
            return DecidedBy(gate, at, direction, chosen, decider.rule, _STOPPING[action], place)
        return None

    def _place(self, name: str, way: str, rule: str | None) -> Place:
        """Where a rule of a filter is written that is asked of traffic going `way`, or what it does otherwise."""
        if (name, way) not in self._rule_places:
            chosen = self._walker.topology.filters[name]
            places = {each.name: each.place for each in chosen.direction(way) or ()}
            self._rule_places[name, way] = {**places, "otherwise": chosen.default_place}
        return self._rule_places[name, way][rule or "otherwise"]
