"""What a proposed change is: what it says, the edit that makes it, and the steps of a change file that do."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from kiboko.core.network.edits import Edit
from kiboko.core.network.peers import AllBut, Carrying, Literal, Peer
from kiboko.core.walk.gates import Row

Steps = tuple[Mapping[str, Any], ...]


@dataclass(frozen=True, slots=True)
class Proposal:
    """A change that opens one gate, or shuts it.

    `rule` has the fields of the rule to add, as the network file writes them, None where something else than a rule
    helps. `proved` tells that the walk was made again with the change in place and the gate does otherwise;
    `verdict_after` is the verdict then, with this change alone. `edit` makes the change, None where no change of the
    network file is known that would; `steps` are those of a change file, none where it takes more than the network
    file. `others` are further changes for the same gate. One that `rests_on_earlier` ones was tried with those that are
    proposed before it, since without them its gate is not met, or met by another packet.
    """

    gate: str
    at: str
    direction: str
    filter: str | None
    place: str
    rule: dict[str, str | int] | None
    text: str
    proved: bool = False
    verdict_after: str | None = None
    edit: Edit | None = None
    steps: Steps = ()
    others: tuple[Proposal, ...] = ()
    rests_on_earlier: bool = False

    @property
    def how_tried(self) -> str:
        """How it was tried, in words."""
        return "tried with those before it" if self.rests_on_earlier else "tried"

    @property
    def is_for_one_address(self) -> bool:
        """Whether it adds a rule for this one flow: a proof more than a policy."""
        return self.rule is not None


def at_gate(
    row: Row, text: str, edit: Edit | None = None, place: str = "", steps: Sequence[Mapping[str, Any]] = (),
    filter_name: str | None = None,
) -> Proposal:  # fmt: skip
    """A proposal for a gate that does not add a rule."""
    name = row.filter if filter_name is None else filter_name
    return Proposal(row.gate, row.at, row.direction, name, place, None, text, edit=edit, steps=tuple(steps))


def peer_values(peer: Peer | None) -> list[Any]:
    """A rule's `from` or `to` as values of a network file."""
    found: list[Any] = []
    for item in peer or ():
        if isinstance(item, Carrying):
            found.append({"carrying": item.filter})
        elif isinstance(item, AllBut):
            within = {"in": peer_values(item.within)} if item.within is not None else {}
            found.append({**within, "not": peer_values(item.without)})
        else:
            found.append(item.text if isinstance(item, Literal) else item.name)
    return found


def way_of(row: Row, has_rules: bool) -> str:
    """Which of a filter's lists a gate asks."""
    return "rules" if has_rules else "inbound" if row.step.bound == "in" else "outbound"
