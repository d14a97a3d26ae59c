"""What the gates do with flows, once for all flows that they treat alike, and what that comes to beside what is proved.

Nearly every conversation of a real estate is a flow of its own, and asks dozens of gates. What they do with it, each
pass or stop, is one of some thousand rows; so flows are asked about once, and rows and proofs are held against each
other once for each pair of them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence import judging
from kiboko.core.evidence.comparison import OF_ENDS
from kiboko.core.evidence.flow_numbers import FlowNumbers
from kiboko.core.evidence.judging import Proved
from kiboko.core.evidence.proofs import Proof
from kiboko.core.records.columns import Growing, distinct, numbered
from kiboko.core.tables.column import Flows
from kiboko.core.tables.gate_tables import Gates, GateTables, widened
from kiboko.core.tables.places import NONE

Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]
_WORD = 8


class Situation(NamedTuple):
    """What is proved of flows, and along their way: `reach` is how many gates were passed for sure, `first` and `last`
    the gates at which one was seen to stop it, NOWHERE where that is not known; `is_off_way` tells that a request, and
    `is_strange` that a reply was denied where its way does not lead."""

    proof: Proof
    is_by_public: bool
    is_tcp: bool
    reach: int
    first: int
    last: int
    is_off_way: bool
    is_strange: bool


@dataclass(frozen=True, slots=True)
class Outcomes:
    """What the gates do with `n` flows, int64[n] each: `outcome` is the number of what they do, `decider` what decides
    where they stop one, 0 for nothing, and `way` the number of its way, NONE for none; `is_first_alone` bool[n] those
    of which they let through the first packet and its answer, and surely not what follows (clause S35)."""

    outcome: Rows
    decider: Rows
    way: Rows
    is_first_alone: Truths


class GateOutcomes:
    """Asks the gates of flows, and remembers what they do, within a bound.

    Parameters
    ----------
    tables : the gates
    """

    def __init__(self, tables: GateTables) -> None:
        self._tables = tables
        self._flows = FlowNumbers(tables, self._ask, self._forget)
        self.forget()

    def forget(self) -> None:
        """Let go of all flows."""
        self._flows.clear()
        self._forget()

    def _forget(self) -> None:
        self._outcome, self._decider, self._way = (Growing(np.dtype(np.int64)) for _ in range(3))
        self._is_first_alone = Growing(np.dtype(np.bool_))
        self._numbers: dict[tuple[int, bytes], int] = {}
        self.request = 0
        """How many of the gates are the request's."""
        self._action = np.zeros((0, 0), dtype=np.uint8)
        self._like, self._gate, self._kind = (Growing(np.dtype(np.int64)) for _ in range(3))
        self._no_layout()

    def _no_layout(self) -> None:
        width = self._action.shape[1]
        self._is_end, self._is_listener, self._is_beyond = (np.zeros((0, width), dtype=np.bool_) for _ in range(3))
        self._steps = np.zeros((0, self.request + 1), dtype=np.int64)

    def of(self, flows: Flows) -> Outcomes:
        """What the gates do with some flows."""
        found = self._flows.of(flows)
        columns = self._outcome, self._decider, self._way, self._is_first_alone
        return Outcomes(*(column.values[found] for column in columns))

    def _ask(self, flows: Flows) -> None:
        """Ask the gates of flows that are not known."""
        gates = self._tables.gates(flows)
        layout = self._tables.layout
        width = gates.action.shape[1]
        if (gates.request, width) != (self.request, self._action.shape[1]):
            self._widen(gates.request, width - gates.request)
        ways, back = numbered(gates.way)
        like = np.array([layout.alike(way) if way >= 0 else NONE for way in ways.tolist()], dtype=np.int64)[back]
        padded = np.zeros((len(flows), -(-width // _WORD) * _WORD), dtype=np.uint8)
        padded[:, :width] = gates.action
        kinds = distinct(like, *padded.view(np.int64).T.copy())
        outcome = self._numbers_of(like[kinds.first], gates.action[kinds.first])[kinds.codes]
        at = self._gate.values[outcome]
        decider = gates.decider[np.arange(len(at)), np.maximum(at, 0)] if width else np.zeros(len(at), dtype=np.int64)
        self._outcome.add(outcome)
        self._decider.add(np.where(at >= 0, decider, 0).astype(np.int64))
        self._way.add(gates.way.astype(np.int64))
        self._is_first_alone.add(self._tables.stops_later(flows, gates))

    def _numbers_of(self, like: Rows, action: NDArray[np.uint8]) -> Rows:
        """The numbers of what gates like those of some ways do, of which no two are the same."""
        keys = [(each, row.tobytes()) for each, row in zip(like.tolist(), action, strict=True)]
        before = len(self._action)
        numbers = np.array([self._numbers.setdefault(key, len(self._numbers)) for key in keys], dtype=np.int64)
        fresh = np.flatnonzero(numbers >= before)
        if len(fresh):
            mine, rows = like[fresh], action[fresh]
            self._lay_out(mine)
            gate = judging.stopping(self._gates(rows, mine), self._is_end[before:])
            gate[mine == NONE] = NONE
            self._action = np.vstack([self._action, rows])
            self._like.add(mine)
            self._gate.add(gate)
            self._kind.add(self._tables.layout.columns(mine, gate, lambda slot: slot.number))
        return numbers

    def _gates(self, action: NDArray[np.uint8], like: Rows) -> Gates:
        """Rows of gates, of which nobody asks what decides there."""
        return Gates(action, np.zeros(action.shape, dtype=np.int32), like.astype(np.int32), self.request)

    def _widen(self, request: int, reply: int) -> None:
        """Give what is known as many columns as the gates have by now: the numbers of gates are others than before."""
        before, self.request = self.request, request
        self._action = widened(self._action, before, request, reply)
        self._numbers = {
            (like, row.tobytes()): number
            for number, (like, row) in enumerate(zip(self._like.values.tolist(), self._action, strict=True))
        }
        moved = self._gate.values
        moved[moved >= before] += request - before
        self._no_layout()
        self._lay_out(self._like.values)

    def _lay_out(self, like: Rows) -> None:
        """Note of further outcomes which gates are an end's own, a sender or receiver that is stopped or a listener;
        which are listeners; which are an outside's, or of its zone where there are several; and how many steps of the
        request's way lie within its first gates."""
        width = self._action.shape[1]
        outsides = self._tables.layout.walker.topology.outsides
        zones = {each.zone for each in outsides.values()}
        by_zone = zones if len(zones) > 1 else set()
        ends, listeners, beyond = (np.zeros((len(like), width), dtype=np.bool_) for _ in range(3))
        steps = np.zeros((len(like), self.request + 1), dtype=np.int64)
        ways = distinct(like)
        for code, way in enumerate(like[ways.first].tolist()):
            rows = np.flatnonzero(ways.codes == code)
            slots = self._tables.layout.slots(way, False) if way >= 0 else []
            gates = [slot.gate.step.gate for slot in slots]
            ends[rows, : len(gates)] = [gate in OF_ENDS for gate in gates]
            listeners[rows, : len(gates)] = [gate == "listener" for gate in gates]
            beyond[rows, : len(gates)] = [
                step.at in outsides or (step.zones or (None,))[0] in by_zone
                for step in (slot.gate.step for slot in slots)
            ]
            begins = [slot.gate is not before.gate for slot, before in zip(slots[1:], slots)]
            passed = np.cumsum([1, *begins], dtype=np.int64)
            steps[rows, 1 : len(slots) + 1] = passed[: len(slots)]
            steps[rows, len(slots) + 1 :] = passed[-1] if slots else 0
        self._is_end = np.vstack([self._is_end, ends])
        self._is_listener = np.vstack([self._is_listener, listeners])
        self._is_beyond = np.vstack([self._is_beyond, beyond])
        self._steps = np.vstack([self._steps, steps])

    # What outcomes are, and come to.

    def gate(self, outcome: Rows) -> Rows:
        """The gate that stops flows, int64[n]; NONE where none does."""
        return self._gate.values[outcome]

    def kind(self, outcome: Rows) -> Rows:
        """What kind of gate stops flows, int64[n], as the layout numbers them; 0 where none does."""
        return self._kind.values[outcome]

    def is_beyond(self, outcome: Rows) -> Truths:
        """Whether the gate that stops flows is one that those of other outsides do not come by, bool[n]: an outside's
        own, or of its zone."""
        gate = self._gate.values[outcome]
        if not self._is_beyond.shape[1]:
            return gate > NONE
        found: Truths = (gate >= 0) & self._is_beyond[outcome, np.maximum(gate, 0)]
        return found

    def judged(self, outcome: Rows, situation: Rows, situations: Sequence[Situation]) -> tuple[NDArray[np.uint8], Rows]:
        """For outcomes beside what is proved the reason, uint8[n], an index of `REASONS`, and how many steps of the
        request's way were passed for sure, int64[n]."""
        pairs = distinct(outcome, situation)
        rows, which = outcome[pairs.first], situation[pairs.first]
        proved = _proved(situations).taken(which)
        gates = self._gates(self._action[rows], self._like.values[rows])
        reason = judging.judge(gates, self._is_end[rows], self._is_listener[rows], proved)
        reach = np.minimum(proved.reach, self.request)
        reach = np.where(proved.arrived | proved.answered, self.request, reach)
        return reason[pairs.codes], self._steps[rows, reach][pairs.codes]


def _proved(situations: Sequence[Situation]) -> Proved:
    """Situations as columns."""

    def of(name: str) -> Truths:
        return np.array([getattr(each.proof, name) for each in situations], dtype=np.bool_)

    def along(name: str) -> Rows:
        return np.array([getattr(each, name) for each in situations], dtype=np.int64)

    context = np.array([each.proof.context for each in situations], dtype=np.int64)
    return Proved(
        of("arrived"), of("answered"), of("denied"), of("reply_denied"), of("passed"), of("refused"), of("unclear"),
        of("has_request"), of("reset_alone"), of("followed_denied"), context, along("reach"), along("first"),
        along("last"), along("is_off_way") > 0, along("is_strange") > 0, along("is_by_public") > 0,
        along("is_tcp") > 0, of("is_placed"), of("is_lone"),
    )  # fmt: skip
