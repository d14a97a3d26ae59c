"""What holds for many pairs of ends on many services, as few products of ends, ends and services."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.addresses import somebodys
from kiboko.core.queries.members import Member
from kiboko.core.reachability.space import SpaceEnd
from kiboko.core.tables.traces import mixed

Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]


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
    """The fewest of some ways to write bool[far, near, services] as products: by services that hold for the same pairs,
    or by ends that are treated alike."""
    count = truths.shape[2]
    packed = np.packbits(truths, axis=2)
    flat = np.ascontiguousarray(packed).view(np.dtype((np.void, packed.shape[2]))).reshape(-1)
    patterns, table = np.unique(flat, return_inverse=True)
    holds = np.unpackbits(patterns.view(np.uint8).reshape(len(patterns), -1), axis=1)[:, :count].astype(np.bool_)
    return products_of(table.reshape(truths.shape[:2]), holds)


def products_of(table: NDArray[Any], holds: Truths) -> list[tuple[Rows, Rows, Rows]]:
    """The same of pairs that are told by a pattern each: a `table` int[far, near] of places in `holds` bool[patterns,
    services]."""
    distinct, places = np.unique(holds, axis=0, return_inverse=True)
    is_any = distinct.any(axis=1)
    numbers = np.where(is_any, np.arange(1, len(distinct) + 1), 0)  # 0 for the pattern of nothing
    axes = _axes(numbers[places.reshape(-1)][table])
    by_service: list[tuple[_Axis, Truths, list[Rows], list[int]]] = []
    for services in _equal_columns(distinct):
        holds_it = np.append(False, distinct[:, services[0]])
        found = [(axis, holds_it, axis.alike(holds_it), services) for axis in axes]
        by_service.append(min(found, key=lambda each: len(each[2])))
    by_end = [[(ends, number) for ends in axis.alike() for number in axis.numbers_of(ends[0])] for axis in axes]
    fewest = min(len(each) for each in by_end)
    if sum(len(ends) for _, _, ends, _ in by_service) <= fewest:
        return [axis.product(each, holds_it, np.array(services))
                for axis, holds_it, ends, services in by_service for each in ends]  # fmt: skip
    which = int(len(by_end[0]) > fewest)
    return [axes[which].product(ends, np.arange(len(distinct) + 1) == number, np.flatnonzero(distinct[number - 1]))
            for ends, number in by_end[which]]  # fmt: skip


def _equal_columns(distinct: Truths) -> list[list[int]]:
    """The places of equal columns, those that hold nothing left out."""
    found: dict[bytes, list[int]] = {}
    for place in np.flatnonzero(distinct.any(axis=0)).tolist():
        found.setdefault(distinct[:, place].tobytes(), []).append(place)
    return list(found.values())


class _Axis:
    """The cells of a table that hold anything, line by line: its rows, or its columns where it `is_turned`."""

    def __init__(self, lines: Rows, others: Rows, numbers: NDArray[Any], is_turned: bool) -> None:
        """Where cells stand, in the order of `lines`, and the pattern of each, from 1 on."""
        self._others, self._numbers, self._is_turned = others, numbers, is_turned
        self._starts = np.flatnonzero(np.diff(lines, prepend=-1))
        self._lines = lines[self._starts]
        self._ends = np.append(self._starts[1:], len(lines))
        self._place = {line: place for place, line in enumerate(self._lines.tolist())}
        self._marks = mixed(others.astype(np.uint64) + np.uint64(1))

    def alike(self, holds: Truths | None = None) -> list[Rows]:
        """The lines whose cells are the same, each of these together: those of patterns that `hold`, bool[patterns],
        whatever their pattern, else all of them. Sets of cells are told apart by a hash of 64 bits."""
        if not len(self._lines):
            return []
        if holds is None:
            marks = mixed(self._marks ^ self._numbers.astype(np.uint64))
        else:
            marks = np.where(holds[self._numbers], self._marks, np.uint64(0))
        sums = np.add.reduceat(marks, self._starts)
        met = np.flatnonzero(sums)
        known, first, back = np.unique(sums[met], return_index=True, return_inverse=True)
        order = np.argsort(back.reshape(-1), kind="stable")
        groups = np.split(self._lines[met[order]], np.cumsum(np.bincount(back.reshape(-1), minlength=len(known)))[:-1])
        return [groups[number] for number in np.argsort(first).tolist()]

    def _cells(self, line: int) -> slice:
        place = self._place[line]
        return slice(int(self._starts[place]), int(self._ends[place]))

    def numbers_of(self, line: int) -> list[int]:
        """The patterns of one line."""
        found: list[int] = np.unique(self._numbers[self._cells(int(line))]).tolist()
        return found

    def product(self, lines: Rows, holds: Truths, services: Rows) -> tuple[Rows, Rows, Rows]:
        """Lines with the same cells of patterns that hold, as rows, columns and services."""
        cells = self._cells(int(lines[0]))
        others = self._others[cells][holds[self._numbers[cells]]]
        return (others, lines, services) if self._is_turned else (lines, others, services)


def _axes(table: NDArray[Any]) -> tuple[_Axis, _Axis]:
    """The cells of a table by its rows, and by its columns."""
    rows, columns = np.nonzero(table)
    numbers = table[rows, columns]
    order = np.argsort(columns, kind="stable")
    return _Axis(rows, columns, numbers, False), _Axis(columns[order], rows[order], numbers[order], True)
