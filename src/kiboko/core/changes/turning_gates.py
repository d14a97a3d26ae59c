"""Where two walks of one flow part: the gate that stops it in one version and lets it through in the other."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from kiboko.core.walk.gates import Row
from kiboko.core.walk.walk import Walk

_Key = tuple[str, str, str]


class TurningGate(NamedTuple):
    """What is asked there before and after; None where no such gate is asked in that version."""

    before: Row | None
    after: Row | None


def turning_gate(before: Walk, after: Walk) -> TurningGate | None:
    """The first gate that stops a flow in one version alone, in the order in which it is met; None where there is none:
    then nothing turned, or something in doubt did."""
    rows = [_by_gate(walk.rows) for walk in (before, after)]
    for key in dict.fromkeys((*rows[1], *rows[0])):
        found = [each.get(key) for each in rows]
        if len({row is not None and row.stops for row in found}) > 1:
            return TurningGate(*found)
    return None


def _by_gate(rows: Iterable[Row]) -> dict[_Key, Row]:
    """The row of each gate that tells most: one that stops, where some client ports are stopped there."""
    found: dict[_Key, Row] = {}
    for row in rows:
        key = row.direction, row.gate, row.at
        if key not in found or (row.stops and not found[key].stops):
            found[key] = row
    return found
