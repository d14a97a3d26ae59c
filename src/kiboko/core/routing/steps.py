"""The way of a packet as values: its gates in order, and why one of them stops it (clauses S7, S31)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from kiboko.core.errors import Place
from kiboko.core.header.addresses import Address
from kiboko.core.network.directory import Endpoint
from kiboko.core.network.model import Gateway, Interface, Outside, Subnet
from kiboko.core.routing.routes import Lookup

SILENT, UNREACHABLE, REFUSED, NOT_KNOWN = "silent", "unreachable", "refused", "unknown"
"""What a sender sees of a stopped packet (clauses S31, S33); `unknown` where that rests on a gate that is not known."""

_BOUND = {"input": "in", "output": "out"}


@dataclass(frozen=True, slots=True)
class Stop:
    """Why a gate that is no filter stops the packet, and the signal that the sender gets (clause S31).

    `kind` tells apart reasons whose wording differs only in names and addresses. `by_core` tells that a router beyond
    the sender's own subnet says that the destination is unreachable. `is_of_ends` tells that the wording of a reason
    without a kind holds for these very ends alone, and not for all that go the same way. `of_entry` are words that hold
    for all that an entry of a route table sends, where those of the reason say more.
    """

    reason: str
    signal: str = SILENT
    kind: str = ""
    by_core: bool = False
    is_of_ends: bool = False
    of_entry: str = ""

    @property
    def names_entry(self) -> bool:
        """Whether the wording names an entry of a route table, which stands at its own place in each table."""
        return not self.kind and not self.is_of_ends


def crossing_name(source: str, destination: str) -> str:
    """What a gate between two zones is called."""
    return f"{source}>{destination}"


class Step(NamedTuple):
    """One gate on the way. Exactly the fields that its kind of gate needs are set.

    `way` is `out` or `in` as the gate's filters see it; for a host it is the kernel path `output`, `input` or
    `forward`. `zones` is the pair crossed. `reason` says in words what a gate without a filter did.
    """

    gate: str
    at: str
    source: Address
    destination: Address
    way: str = ""
    interface: Interface | None = None
    egress: Interface | None = None
    subnet: Subnet | None = None
    outside: Outside | None = None
    zones: tuple[str, str] | None = None
    stop: Stop | None = None
    reason: str = ""
    lookup: Lookup | None = None
    gateway: Gateway | None = None
    place: Place | None = None

    @property
    def bound(self) -> str:
        """Which direction of a filter judges here: `in`, `out`, or empty where filters have none."""
        return _BOUND.get(self.way, self.way)


@dataclass(frozen=True, slots=True)
class Path:
    """A whole way in one direction.

    `arrival` is the end that the packet reaches, or would reach were nothing in the way; None where nobody can.
    `source_seen` is the sender's address as the receiver sees it; `reply_from` the address that a reply must
    bear when it reaches the sender (clause S24).
    """

    origin: Endpoint
    target: Address
    steps: tuple[Step, ...]
    arrival: Endpoint | None
    source_seen: Address
    reply_from: Address

    @property
    def stop_step(self) -> Step | None:
        """The first gate that stops the packet though it is no filter, and no end that is stopped."""
        return next((step for step in self.steps if step.stop and step.gate != "destination"), None)
