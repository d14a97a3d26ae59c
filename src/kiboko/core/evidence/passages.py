"""How far along its way a packet was, by the observation point that recorded it (clause E5)."""

from __future__ import annotations

from kiboko.core.evidence.proofs import Mark, Proof
from kiboko.core.network.model import ObservationPoint
from kiboko.core.records.records import DENIED, PASSED
from kiboko.core.tables.layout import GateLayout, Slot
from kiboko.core.tables.places import PlacedEnd
from kiboko.core.tables.ways import CONSTANT, PUBLIC, SENT_TO

NOWHERE = -1


class Passages:
    """Finds the gates of observation points on the ways of one network. Gates are numbered by their columns, those of
    the reply behind `request` columns of the request."""

    def __init__(self, layout: GateLayout, points: tuple[ObservationPoint, ...]) -> None:
        self._layout = layout
        self._points = points
        self._outsides = layout.walker.topology.outsides

    def reach(
        self, way: int, proof: Proof, request: int, ends: tuple[PlacedEnd, PlacedEnd], is_by_public: bool
    ) -> tuple[int, int, int, bool, bool]:
        """What the marks of a proof come to on one way.

        Parameters
        ----------
        request : how many columns requests have
        ends : the sender and the receiver
        is_by_public : whether the sender uses a public address of the receiver

        Returns
        -------
        How many columns are proved to have been passed; the first and the last column at which a record says that it
        was stopped, -1 where none is known; and whether a request, and whether a reply was denied where by the rules it
        does not come by.
        """
        passed, first, last, strange = 0, NOWHERE, NOWHERE, [False, False]
        for mark in proof.marks:
            slots = self._layout.slots(way, mark.is_reply)
            base = request if mark.is_reply else 0
            met = self._met(slots, mark, ends, is_by_public)
            if not met:
                strange[mark.is_reply] |= mark.event == DENIED
                continue
            if mark.event == DENIED:
                first = min(first, base + met[0]) if first != NOWHERE else base + met[0]
                last = max(last, base + met[-1])
                continue
            end = met[0]
            if mark.event == PASSED:
                while end in met and not (mark.is_reply and slots[end].gate.step.gate == "translate"):
                    end += 1
                if mark.is_reply and end == len(slots):
                    end = self._layout.widths[1]
            passed = max(passed, base + end)
        return passed, first, last, strange[False], strange[True]

    def _met(self, slots: list[Slot], mark: Mark, ends: tuple[PlacedEnd, PlacedEnd], is_by_public: bool) -> list[int]:
        """The columns of a point that a recorded packet met. A way may meet its point twice, with other addresses
        behind a translation, or by way of an appliance: the passage with the record's own addresses counts."""
        point = self._points[mark.point - 1]
        met = [at for at, slot in enumerate(slots) if _is_at(slot, point, ends)]
        if mark.event != DENIED or point.name in self._outsides:
            # What a filter's log says passed has passed the filter; the look-up comes behind it.
            met = [at for at in met if slots[at].gate.step.gate != "route"]
        shown = [at for at in met if _shows(slots[at], mark, is_by_public)]
        # A reply with an address that the request did not go to comes as far as any other, and to nobody's use.
        wrong = next((at for at, slot in enumerate(slots) if mark.is_reply and _is_wrong_source(slot)), len(slots))
        met = shown or [at for at in met if at <= wrong]
        # What a machine as next hop does not pass on has come to it all the same, in front of that look-up.
        held = next((at for at, slot in enumerate(slots) if _is_held_by(slot, point)), len(slots))
        met = [at for at in met if at < held] or ([held] if mark.event == DENIED and held < len(slots) else [])
        if met and mark.event != PASSED:
            # What captures at an interface may do so in front of the machine's own filter as well.
            while met[0] and _is_of_one_machine(slots[met[0] - 1], slots[met[0]], ends):
                met.insert(0, met[0] - 1)
        return met


def _is_held_by(slot: Slot, point: ObservationPoint) -> bool:
    """Whether a look-up stops packets at the very machine that an observation point is of."""
    step = slot.gate.step
    entry = step.lookup.entry if step.lookup is not None else None
    hop = entry.instance if entry is not None and step.stop is not None else None
    return hop is not None and point.name is not None and point.name.partition("/")[0] == hop


def _is_wrong_source(slot: Slot) -> bool:
    """Whether replies leave there with another address than the request went to (clause S24)."""
    return slot.gate.step.gate == "translate" and slot.gate.step.stop is not None


def _is_of_one_machine(one: Slot, other: Slot, ends: tuple[PlacedEnd, PlacedEnd]) -> bool:
    """Whether both gates are a machine's: its host or one of its interfaces."""
    if not all(slot.gate.step.gate.startswith(("host", "instance")) for slot in (one, other)):
        return False
    first, second = (slot.gate.at(*ends).partition("/")[0] for slot in (one, other))
    return first == second


def _shows(slot: Slot, mark: Mark, is_by_public: bool) -> bool:
    """Whether packets have the addresses of the records at a gate."""
    gate = slot.gate
    near, far = (gate.destination, gate.source) if mark.is_reply else (gate.source, gate.destination)
    near_public, far_public = mark.source_is_public, mark.destination_is_public
    if mark.is_reply:
        near_public, far_public = far_public, near_public
    return (near in (PUBLIC, CONSTANT)) == near_public and (not is_by_public or (far == SENT_TO) == far_public)


def _is_at(slot: Slot, point: ObservationPoint, ends: tuple[PlacedEnd, PlacedEnd]) -> bool:
    """Whether a gate belongs to what an observation point names."""
    if point.crossing is not None:
        return slot.gate.step.zones == point.crossing
    name = slot.gate.at(*ends)
    return name == point.name or name.startswith(f"{point.name}/")
