"""How far along their ways packets were, by the observation points that recorded them (clause E5)."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.traces import Marks
from kiboko.core.network.model import ObservationPoint
from kiboko.core.records.columns import distinct
from kiboko.core.records.flow_table import EVENTS
from kiboko.core.records.records import DENIED, PASSED
from kiboko.core.tables.layout import INTERFACE_OF, MACHINE_OF, SUBNET_OF, GateLayout
from kiboko.core.tables.places import NONE, PlacedEnd
from kiboko.core.tables.slots import Slot
from kiboko.core.tables.ways import CONSTANT, PUBLIC, SENT_TO

NOWHERE = -1
_ELSEWHERE, _AT_SUBNET, _AT_INTERFACE, _AT_MACHINE = range(4)
"""Where an observation point is beside an end: at none of what is its own, or at its subnet, interface or machine."""
_WHOLE = -1
"""Stands for as many gates as any reply has."""
Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]


class Mark(NamedTuple):
    """What records say at an observation point: `event`, of the request or the reply, and whether they show source and
    destination by public addresses of ours."""

    point: ObservationPoint
    event: str
    is_reply: bool
    source_is_public: bool
    destination_is_public: bool


class Reached(NamedTuple):
    """How far flows were, by columns: how many gates are proved to have been passed; the first and the last gate at
    which a record says that it was stopped, NOWHERE where none is known; and whether a request, and whether a reply was
    denied where by the rules it does not come by."""

    passed: Rows
    first: Rows
    last: Rows
    is_off_way: Truths
    is_strange: Truths


class Passages:
    """Finds the gates of observation points on the ways of one network. Gates are numbered by their columns, those of
    the reply behind `request` columns of the request.

    What a record shows rests on the way, and on where its point is beside the two ends: each such case is looked at
    once, of all conversations at once.
    """

    def __init__(self, layout: GateLayout, points: tuple[ObservationPoint, ...]) -> None:
        self._layout = layout
        self._outsides = layout.walker.topology.outsides
        # Points that observe the same are one spot, and numbered from 1.
        spots: dict[tuple[object, ...], int] = {}
        self._spot_of = np.array([0, *(spots.setdefault(_told(each), len(spots) + 1) for each in points)])
        first = [int(np.flatnonzero(self._spot_of == spot)[0]) - 1 for spot in range(1, len(spots) + 1)]
        self._spots = [points[number] for number in first]
        topology = layout.walker.topology
        numbers = [
            {name: number for number, name in enumerate(names)}
            for names in (topology.subnets, (each.name for each in layout.interfaces), topology.instances)
        ]
        self._places = np.full((3, len(spots) + 1), NONE, dtype=np.int64)
        for spot, each in enumerate(self._spots, 1):
            self._places[:, spot] = [known.get(each.name or "", NONE) for known in numbers]
        self._by_name: dict[str | None, list[int]] = {}
        self._by_crossing: dict[tuple[str, str] | None, list[int]] = {}
        self._by_machine: dict[str | None, list[int]] = {}
        for spot, each in enumerate(self._spots, 1):
            if each.crossing is not None:
                self._by_crossing.setdefault(each.crossing, []).append(spot)
            else:
                self._by_name.setdefault(each.name, []).append(spot)
                self._by_machine.setdefault((each.name or "").partition("/")[0], []).append(spot)
        self._of_way: dict[int, set[int]] = {}
        self._met_at: dict[tuple[int, int], tuple[int, int, int]] = {}

    def reached(
        self, marks: Marks, way: Rows, ends: tuple[Rows, Rows], is_by_public: Truths, request: int
    ) -> Reached:  # fmt: skip
        """How far `n` flows were.

        Parameters
        ----------
        marks : what was recorded of them
        way : int64[n], the numbers of their ways
        ends : int64[n] each, the atoms of the sender and of the address that it sent to
        is_by_public : bool[n], whether that is a public address
        request : how many columns requests have
        """
        low, high, end = self._met(marks, way, ends, is_by_public)
        found = Reached(*(np.full(len(way), value) for value in (0, NOWHERE, NOWHERE)),
                        *(np.zeros(len(way), dtype=np.bool_) for _ in range(2)))  # fmt: skip
        denied, is_met = marks.is_denied, low != NOWHERE
        for is_reply, strange in ((False, found.is_off_way), (True, found.is_strange)):
            strange[marks.row[denied & ~is_met & (marks.is_reply == is_reply)]] = True
        base = np.where(marks.is_reply, request, 0)
        rows = np.flatnonzero(is_met & ~denied)
        ended = np.where(end[rows] == _WHOLE, self._layout.widths[1], end[rows])
        np.maximum.at(found.passed, marks.row[rows], base[rows] + ended)
        rows = np.flatnonzero(is_met & denied)
        np.maximum.at(found.last, marks.row[rows], base[rows] + high[rows])
        first = np.full(len(way), np.iinfo(np.int64).max)
        np.minimum.at(first, marks.row[rows], base[rows] + low[rows])
        found.first[marks.row[rows]] = first[marks.row[rows]]
        return found

    def _met(
        self, marks: Marks, way: Rows, ends: tuple[Rows, Rows], is_by_public: Truths
    ) -> tuple[Rows, Rows, Rows]:  # fmt: skip
        """Of marks the first and the last gate that they may be of, NOWHERE for none, and how many were passed."""
        if not len(marks.row):
            return marks.row, marks.row, marks.row
        spot, mine = self._spot_of[marks.point], way[marks.row]
        beside = [self._beside(atoms, spot, marks.row) for atoms in ends]
        is_on_way = self._is_on_way(mine, spot)
        found = np.full((3, len(spot)), NOWHERE, dtype=np.int64)
        rows = np.flatnonzero(is_on_way | (beside[0] != _ELSEWHERE) | (beside[1] != _ELSEWHERE))
        if not len(rows):
            return found[0], found[1], found[2]
        place = mine * (len(self._spots) + 1) + np.where(is_on_way, spot, 0)
        code = beside[0] << 2 | beside[1]
        for column in (marks.is_reply, marks.source_is_public, marks.destination_is_public, is_by_public[marks.row]):
            code = code << 1 | column
        code = code << 2 | marks.event
        kinds = distinct(place[rows], code[rows])
        listed = []
        for row in rows[kinds.first].tolist():
            key = int(place[row]), int(code[row])
            if key not in self._met_at:
                mark = Mark(
                    self._spots[int(spot[row]) - 1], EVENTS[int(marks.event[row])], bool(marks.is_reply[row]),
                    bool(marks.source_is_public[row]), bool(marks.destination_is_public[row]),
                )  # fmt: skip
                flow = int(marks.row[row])
                sender, receiver = (self._layout.places.end(int(atoms[flow])) for atoms in ends)
                self._met_at[key] = self._meets(int(mine[row]), mark, (sender, receiver), bool(is_by_public[flow]))
            listed.append(self._met_at[key])
        found[:, rows] = np.array(listed, dtype=np.int64).T[:, kinds.codes]
        return found[0], found[1], found[2]

    def _beside(self, atoms: Rows, spot: Rows, row: Rows) -> Rows:
        """Where spots are beside the ends of flows, by the rows of these."""
        facts = self._layout.ends_of(atoms.astype(np.int32))
        cases = []
        for known, which in zip(self._places, (SUBNET_OF, INTERFACE_OF, MACHINE_OF), strict=True):
            there = known[spot]
            cases.append((there != NONE) & (there == facts[which][row]))
        return np.select(cases, [_AT_SUBNET, _AT_INTERFACE, _AT_MACHINE], _ELSEWHERE)

    def _is_on_way(self, way: Rows, spot: Rows) -> Truths:
        """Which spots are of what some ways lead by whatever their ends are, or of a machine that they end at as a next
        hop."""
        width = len(self._spots) + 1
        ways = distinct(way)
        known = [number * width + each for number in way[ways.first].tolist() for each in self._spots_of(number)]
        found: Truths = np.isin(way * width + spot, np.array(known, dtype=np.int64))
        return found

    def _spots_of(self, way: int) -> set[int]:
        """Those of one way."""
        if way not in self._of_way:
            found = self._of_way[way] = set()
            for slot in (*self._layout.slots(way, False), *self._layout.slots(way, True)):
                step = slot.gate.step
                found.update(self._by_crossing.get(step.zones, ()), self._by_machine.get(_held_by(slot), ()))
                if slot.gate.named is None:
                    for name in (step.at, step.at.partition("/")[0]):
                        found.update(self._by_name.get(name, ()))
        return self._of_way[way]

    def _meets(
        self, way: int, mark: Mark, ends: tuple[PlacedEnd, PlacedEnd], is_by_public: bool
    ) -> tuple[int, int, int]:  # fmt: skip
        """The first and the last gate of one way that a mark may be of, NOWHERE for none, and how many were passed."""
        slots = self._layout.slots(way, mark.is_reply)
        met = self._gates_of(slots, mark, ends, is_by_public)
        if not met:
            return NOWHERE, NOWHERE, NOWHERE
        end = met[0]
        if mark.event == PASSED:
            while end in met and not (mark.is_reply and slots[end].gate.step.gate == "translate"):
                end += 1
            if mark.is_reply and end == len(slots):
                end = _WHOLE
        return met[0], met[-1], end

    def _gates_of(
        self, slots: list[Slot], mark: Mark, ends: tuple[PlacedEnd, PlacedEnd], is_by_public: bool
    ) -> list[int]:
        """The columns of a point that a recorded packet met. A way may meet its point twice, with other addresses
        behind a translation, or by way of an appliance: the passage with the record's own addresses counts."""
        point = mark.point
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


def _told(point: ObservationPoint) -> tuple[object, ...]:
    """What a point observes."""
    return point.name, point.crossing


def _held_by(slot: Slot) -> str | None:
    """The machine, as a next hop, at which a look-up stops packets; None where it stops none there."""
    step = slot.gate.step
    entry = step.lookup.entry if step.lookup is not None else None
    return entry.instance if entry is not None and step.stop is not None else None


def _is_held_by(slot: Slot, point: ObservationPoint) -> bool:
    """Whether a look-up stops packets at the very machine that an observation point is of."""
    hop = _held_by(slot)
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
