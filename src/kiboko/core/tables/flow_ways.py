"""The ways of many flows at once."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.records.columns import distinct
from kiboko.core.tables.layout import MACHINE_OF, OWN, PLACE_OF, SUBNET_OF, GateLayout
from kiboko.core.tables.places import NONE


def ways_of(layout: GateLayout, source: NDArray[np.int32], target: NDArray[np.int32]) -> NDArray[np.int32]:
    """The numbers of the ways of some flows, int32[n], by the atoms of their senders' addresses and of those that they
    send to; NONE where both ends are one machine. A way is found when a flow first takes it."""
    return ways_between(layout, source, target, layout.ends_of(source), layout.ends_of(target))


def ways_between(
    layout: GateLayout, source: NDArray[np.int32], target: NDArray[np.int32], near: NDArray[np.int64],
    far: NDArray[np.int64],
) -> NDArray[np.int32]:  # fmt: skip
    """The same, by what the layout knows of both ends."""
    machine, own, subnet, place = ((near[row], far[row]) for row in (MACHINE_OF, OWN, SUBNET_OF, PLACE_OF))
    same = (subnet[0] == subnet[1]) & (subnet[0] != NONE)
    keys = distinct((place[0] * len(layout.places) + place[1]) * 2 + same)
    first, back = keys.first, keys.codes
    alone = ((machine[0] == machine[1]) & (machine[0] != NONE)) | (own[0] == own[1])
    ways = np.full(len(keys), NONE, dtype=np.int32)
    pairs = zip(place[0][first].tolist(), place[1][first].tolist(), same[first].tolist(), strict=True)
    for number, pair in enumerate(pairs):
        known = layout.known_way(*pair)
        if known is not None:
            ways[number] = known
            continue
        # A pair of places is made a way of by a pair of ends that are two machines.
        row = int(first[number])
        if alone[row]:
            others = np.flatnonzero((back == number) & ~alone)
            if not len(others):
                continue
            row = int(others[0])
        ways[number] = layout.way_between(layout.end(int(source[row])), int(target[row]), layout.end(int(target[row])))
    return np.where(alone, NONE, ways[back]).astype(np.int32)
