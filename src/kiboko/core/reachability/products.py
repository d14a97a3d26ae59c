"""What holds for many pairs of ends on many services, as few products of ends, ends and services."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.addresses import somebodys
from kiboko.core.queries.members import Member
from kiboko.core.reachability.space import SpaceEnd

Rows = NDArray[np.int64]


def apart(senders: Sequence[SpaceEnd], receivers: Sequence[SpaceEnd]) -> tuple[Member, Member]:
    """An example of a pair: not the same machine twice."""
    pairs = ((one, other) for one in senders for other in receivers)
    one, other = next(
        (pair for pair in pairs if pair[0].instance is None or pair[0].instance != pair[1].instance),
        (senders[0], receivers[0]),
    )
    if one.instance is None and one.atom == other.atom:  # of one range its first and its last address
        return _single(one.members[0], False), _single(one.members[-1], True)
    return _single(max(one.members, key=lambda each: each.count), False), _single(
        max(other.members, key=lambda each: each.count), False
    )


def _single(member: Member, is_last: bool) -> Member:
    """A member as one end: of a range an address of it, one that somebody could have where it is large."""
    if member.low is None or member.high is None:
        return member
    address = member.high if is_last else somebodys(member.low, member.high)
    return Member(str(address), None, (), address, address, outside=member.outside)


def products(truths: NDArray[np.bool_]) -> list[tuple[Rows, Rows, Rows]]:
    """The fewest of two ways to write bool[far, near, services] as products: by services that hold for the same pairs,
    or by ends that are treated alike."""
    by_service = [
        (rows, columns, services)
        for services in _alike(np.moveaxis(truths, 2, 0))
        for rows, columns in _rectangles(truths[:, :, services[0]])
    ]
    by_end = [
        (rows, columns, services) for rows in _alike(truths) for columns, services in _rectangles(truths[rows[0]])
    ]
    return by_service if len(by_service) <= len(by_end) else by_end


def _alike(slices: NDArray[np.bool_]) -> Iterator[Rows]:
    """The places of equal slices along the first dimension, those that hold nothing left out."""
    found: dict[bytes, list[int]] = {}
    for place in np.flatnonzero(slices.any(axis=(1, 2))).tolist():
        found.setdefault(np.packbits(slices[place]).tobytes(), []).append(place)
    return (np.array(places, dtype=np.int64) for places in found.values())


def _rectangles(truths: NDArray[np.bool_]) -> Iterable[tuple[Rows, Rows]]:
    """Truth values as rectangles of rows that hold for the same columns."""
    return [(rows, np.flatnonzero(truths[rows[0]])) for rows in _alike(truths[:, :, None])]
