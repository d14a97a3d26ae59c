"""Which rules let traffic in, gate by gate, and how many would stop it: of many pairs at once, by the gate tables."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kiboko.core.errors import Place
from kiboko.core.reachability.space import Space, SpaceEnd
from kiboko.core.tables.column import FlowColumn, Flows
from kiboko.core.tables.filter_lists import DOUBTFUL, PASSES, Decider
from kiboko.core.tables.kinds import Kind
from kiboko.core.tables.slots import GATES
from kiboko.core.walk.gates import FORWARD, REPLY

MOST_FLOWS = 20_000
ON_THE_WAY = (
    "source", "outside", "host-out", "instance-out", "subnet-out", "route", "zone", "translate", "destination",
    "subnet-in", "instance-in", "host-in", "listener",
)  # fmt: skip
"""The gates in the order in which a packet meets them (an outside's own edge may come last)."""


@dataclass(frozen=True, slots=True)
class LetIn:
    """A rule that lets something pass at a kind of gate, in one direction, and where it is written; `rule` may be
    `otherwise`. Where it is not known whether that is so, `is_known` is false (clauses S35, S41)."""

    gate: str
    direction: str
    filter: str
    rule: str
    place: Place | None
    is_known: bool = True


def flows_between(
    space: Space, senders: Sequence[SpaceEnd], receivers: Sequence[SpaceEnd], kinds: Sequence[Kind], most: int,
    with_own: bool = False,
) -> tuple[Flows, bool]:  # fmt: skip
    """The flows of every sender to every receiver on some kinds; and whether they are only some of them, evenly spread,
    since there are more than `most`. Those of a machine to itself, and those from client ports that a sender does not
    use, are left out but for `with_own`."""
    targets = np.array(
        [[space.target(each, outside) for each in receivers] for outside in dict.fromkeys(s.outside for s in senders)]
    )
    number = {outside: row for row, outside in enumerate(dict.fromkeys(each.outside for each in senders))}
    shape = len(senders), len(receivers), len(kinds)
    count = int(np.prod(shape))
    chosen = np.arange(count) if count <= most else np.linspace(0, count - 1, most).astype(np.int64)
    sender, receiver, kind = np.unravel_index(chosen, shape)
    outside = np.array([number[each.outside] for each in senders])
    atoms = np.array([each.atom for each in senders])
    machines: dict[str | None, int] = {None: -1}
    own, other = (
        np.array([machines.setdefault(each.instance, len(machines)) for each in ends]) for ends in (senders, receivers)
    )
    apart = (own[sender] != other[receiver]) | (own[sender] < 0) | with_own
    if not with_own:
        used = {ports: [not kind.ports or bool(kind.ports & ports) for kind in kinds]
                for ports in dict.fromkeys(each.ports for each in senders)}  # fmt: skip
        apart &= np.array([used[each.ports] for each in senders], dtype=np.bool_)[sender, kind]
    sender, receiver, kind = sender[apart], receiver[apart], kind[apart]
    flows = Flows(
        atoms[sender].astype(np.int32), targets[outside[sender], receiver].astype(np.int32),
        np.array([each.service for each in kinds], dtype=np.int64)[kind],
        np.array([each.port for each in kinds], dtype=np.int64)[kind],
    )  # fmt: skip
    return flows, count > most


def judged(space: Space, flows: Flows) -> FlowColumn:
    """All gates of some flows."""
    column = FlowColumn(space.layout, flows)
    for at in range(column.request + column.reply):
        column.ask(at)
    return column


def let_in(
    space: Space, senders: Sequence[SpaceEnd], receivers: Sequence[SpaceEnd], kinds: Sequence[Kind]
) -> tuple[tuple[LetIn, ...], bool]:
    """The rules that let some traffic pass, in the order of the gates, and whether only some of it was looked at."""
    flows, is_sampled = flows_between(space, senders, receivers, kinds, MOST_FLOWS)
    if not len(flows):
        return (), False
    column = judged(space, flows)
    found: dict[LetIn, None] = {}
    for at in range(column.request + column.reply):
        met = (column.action[:, at] == PASSES) | (column.action[:, at] == DOUBTFUL)
        rows = np.flatnonzero(met & (column.deciding[:, at] > 0) & (column.way >= 0))
        if not len(rows):
            continue
        gates = space.layout.columns(
            column.way[rows].astype(np.int64), np.full(len(rows), at, dtype=np.int64), lambda slot: slot.number
        )
        deciders = len(space.layout.lists.deciders)
        is_known = column.action[rows, at] == PASSES
        for code in np.unique((gates * deciders + column.deciding[rows, at]) * 2 + is_known).tolist():
            number, decider = divmod(code // 2, deciders)
            named = _named(space, number, space.layout.lists.deciders[decider], bool(code % 2))
            if named is not None:
                found[named] = None
    # The gates of different ways do not stand side by side: they are told in the order of any way, a filter's together.
    seen = {name: place for place, name in enumerate(dict.fromkeys(each.filter for each in found))}
    in_order = sorted(
        found, key=lambda each: (each.direction != FORWARD, ON_THE_WAY.index(each.gate), seen[each.filter])
    )
    return tuple(in_order), is_sampled


def _named(space: Space, number: int, decider: Decider, is_known: bool) -> LetIn | None:
    """A rule by its gate and decider; None for what is no rule of a filter."""
    if not decider.filter or decider.rule is None:
        return None
    gate, direction = gate_named(number)
    place = place_of(space, gate, direction, decider)
    return LetIn(gate, direction, decider.filter, decider.rule, place, is_known)


def gate_named(number: int) -> tuple[str, str]:
    """A kind of gate and its direction, by the number that the layout has for both."""
    return GATES[(number - 1) % len(GATES)], FORWARD if number <= len(GATES) else REPLY


def place_of(space: Space, gate: str, direction: str, decider: Decider) -> Place | None:
    """Where what decides is written, as far as the network file says."""
    chosen = space.walker.topology.filters.get(decider.filter or "")
    if chosen is None:
        return None
    way = gate.rpartition("-")[2] if gate.endswith(("-in", "-out")) else None
    ways = [way] if way else ["in", "out"]
    for each in ways:
        rule = space.walker.ground.judge.rule_of(chosen, each, decider.rule or "")
        if rule is not None:
            return rule.place
    return chosen.default_place
