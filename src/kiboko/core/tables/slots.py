"""The gates of a way as the columns of a row: what kind of gate stands in each, and how it is asked."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from kiboko.core.tables.filter_lists import PASSES
from kiboko.core.tables.interface_gates import OUT
from kiboko.core.tables.places import NONE
from kiboko.core.tables.ways import CONSTANT, FIXED, RECEIVER, SENDER, Gate
from kiboko.core.walk.gates import REPLY

NO_GATE, SETTLED, INTERFACE, HOST, SUBNET, LIST, ZONE_DEFAULT, LISTENER = range(8)
GATES = ("listener", "route", "source", "destination", "translate", "zone", "outside", "subnet-in", "subnet-out",
         "instance-in", "instance-out", "host-in", "host-out")  # fmt: skip
"""Every kind of gate; the place of one is its number."""
_WHOSE = (SENDER, RECEIVER, FIXED)


class Sort(NamedTuple):
    """What tells how a column of a way is asked: its kind, which of its slots and in which direction, whose it is (an
    index of sender, receiver, neither), where its source and destination stand, and which columns of the request keep
    state for it."""

    kind: int
    slot: int
    way: int
    of: int
    source: int
    destination: int
    keepers: tuple[int, ...]


NO_SORT = Sort(NO_GATE, 0, OUT, 0, CONSTANT, CONSTANT, ())
"""That of a column where a way has no gate."""


@dataclass(slots=True)
class Slot:
    """One column of a way: what kind of gate, whose, which of its slots; kinds of addresses; for a gate of the reply,
    the columns of the request that keep state for it."""

    kind: int
    gate: Gate
    whose: int = NONE
    """Of a gate that is the same for all flows: the number of its interface, subnet or list."""
    slot: int = 0
    way: int = OUT
    settled: int = PASSES
    keepers: tuple[int, ...] = ()

    @property
    def number(self) -> int:
        """What kind of gate it is and in which direction, as a number from 1."""
        return 1 + GATES.index(self.gate.step.gate) + (len(GATES) if self.gate.direction == REPLY else 0)

    @property
    def side(self) -> int:
        """The same, of an outside's edge also whether its filter is asked inbound or outbound: rules of either side may
        have the same name."""
        return 2 * self.number + self.way

    @property
    def sort(self) -> Sort:
        """How it is asked."""
        gate = self.gate
        return Sort(
            self.kind, self.slot, self.way, _WHOSE.index(gate.whose), gate.source, gate.destination, self.keepers
        )

    @property
    def told(self) -> tuple[object, ...]:
        """What of it decides how it is judged."""
        gate, step = self.gate, self.gate.step
        interface = step.interface or step.egress if gate.whose == FIXED else None
        return (
            *self.sort, self.whose, self.settled, step.gate, step.way, step.interface is not None,
            step.egress is not None, step.source if gate.source == CONSTANT else None,
            step.destination if gate.destination == CONSTANT else None,
            (interface.name, step.egress and step.egress.name) if interface is not None else None,
        )  # fmt: skip
