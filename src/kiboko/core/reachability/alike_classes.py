"""Classes of ends that meet very many others: which pairs of them come to the same, so that one is asked for all."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import TCP, Service
from kiboko.core.network.model import Interface
from kiboko.core.queries.ends import Member, services_for
from kiboko.core.reachability.alike_pairs import alike_pairs
from kiboko.core.reachability.end_classes import Cells, EndClass, Shape
from kiboko.core.reachability.grid import PairGrid
from kiboko.core.records.columns import distinct
from kiboko.core.tables.places import NONE

if TYPE_CHECKING:
    from kiboko.core.reachability.end_classes import Places

Rows = NDArray[np.int64]
_NO_FAMILY = -2
_Pairs = tuple[tuple[int, int], tuple["Places", "Places"]]


def alike_classes(
    grid: PairGrid, sources: Sequence[EndClass], destinations: Sequence[EndClass], families: Sequence[int],
    services: RangeSet,
) -> Iterator[_Pairs]:  # fmt: skip
    """All pairs of classes, those together that come to the same by the same rules in all families asked about: the
    first of them, and the places of both classes of each. In the order of the first pairs.

    A class is told apart by its first machine; pairs with addresses of which nobody is recorded stand alone.
    """
    plain = [np.array([at for at, each in enumerate(side) if _is_plain(each)], dtype=np.int64)
             for side in (sources, destinations)]  # fmt: skip
    together = np.full((len(sources), len(destinations)), NONE, dtype=np.int64)
    if all(map(len, plain)):
        by_family = [_of_family(grid, sources, destinations, plain, family, services) for family in families]
        told = np.stack([each.reshape(-1) for each in by_family])
        is_told = (told != NONE).all(axis=0) & (told >= 0).any(axis=0)
        numbers = np.full(told.shape[1], NONE, dtype=np.int64)
        if is_told.any():
            numbers[is_told] = distinct(*(np.ascontiguousarray(each[is_told]) for each in told)).codes
        together[np.ix_(*plain)] = numbers.reshape(len(plain[0]), len(plain[1]))
    yield from _in_order(together)


def _is_plain(each: EndClass) -> bool:
    """Whether a class is of machines."""
    return each.members[0].low is None and bool(each.members[0].interfaces)


def _usable(member: Member, family: int) -> list[Interface]:
    return [each for each in member.interfaces if each.address(family) is not None]


def _of_family(
    grid: PairGrid, sources: Sequence[EndClass], destinations: Sequence[EndClass], plain: Sequence[Rows], family: int,
    services: RangeSet,
) -> Rows:  # fmt: skip
    """The numbers of all pairs of classes of machines in one family; `_NO_FAMILY` where either has no address of it.
    Whoever is sent to is sent to at the first interface of the family, and who sends does so by the first one; where
    another one is in the receiver's subnet (clause S3) the pair stands alone."""
    mine, theirs = (
        [(at, used) for at, row in enumerate(rows.tolist()) if (used := _usable(side[row].members[0], family))]
        for side, rows in zip((sources, destinations), plain, strict=True)
    )
    found = np.full(tuple(map(len, plain)), _NO_FAMILY, dtype=np.int64)
    if not mine or not theirs:
        return found
    addresses = [[used[0].address(family) for _, used in some] for some in (mine, theirs)]
    atom, endpoint = grid.tables.addresses.atom, grid.walker.directory.endpoint
    own, to = (np.array([atom(each) for each in some if each is not None], dtype=np.int64) for some in addresses)
    ends = [endpoint(each) for each in addresses[0] if each is not None]
    ports = [grid.ports or grid.walker.source_ports(end, Service(TCP, 1)) for end in ends]
    numbers = alike_pairs(grid.tables.layout, own, to, ports, services_for(services, family))
    subnets = np.array([used[0].subnet for _, used in theirs])
    for row, (_, used) in enumerate(mine):
        others = {each.subnet for each in used} - {used[0].subnet}
        if others:
            numbers[row, np.isin(subnets, list(others))] = NONE
    found[np.ix_([at for at, _ in mine], [at for at, _ in theirs])] = numbers
    return found


def _in_order(together: Rows) -> Iterator[_Pairs]:
    """Pairs of one number, and those of none, by the first of each."""
    width = together.shape[1]
    flat = together.reshape(-1)
    alone = np.flatnonzero(flat == NONE)
    told = np.flatnonzero(flat != NONE)
    order = told[np.argsort(flat[told], kind="stable")]
    starts = np.flatnonzero(np.diff(flat[order], prepend=NONE))
    bounds = [*starts.tolist(), len(order)]
    order = np.concatenate([order, alone])
    bounds += range(len(told) + 1, len(order) + 1)
    i, j = np.divmod(order, width)
    firsts = order[bounds[:-1]]
    for group in np.argsort(firsts).tolist():
        place = slice(bounds[group], bounds[group + 1])
        yield divmod(int(firsts[group]), width), (i[place], j[place])


def shapes_of(alike: Sequence[Cells]) -> Iterator[Shape]:
    """The sources of some cells, by services, those together that have the same destinations; no pair may be in two of
    the cells."""
    numbers: dict[RangeSet, int] = {}
    told = [numbers.setdefault(cells.services, len(numbers)) for cells in alike]
    listed = list(numbers)
    i, j = (np.concatenate([np.asarray(getattr(cells, name), dtype=np.int64) for cells in alike])
            for name in ("sources", "destinations"))  # fmt: skip
    services = np.repeat(np.array(told, dtype=np.int64), [len(cells.sources) for cells in alike])
    # One number for each cell sorts faster than three.
    width, count = int(j.max(initial=0)) + 1, len(listed)
    cells = np.sort((i * count + services) * width + j)
    i, services, j = cells // (count * width), cells // width % count, cells % width
    starts = np.flatnonzero((np.diff(i, prepend=NONE) != 0) | (np.diff(services, prepend=NONE) != 0))
    groups: dict[tuple[int, bytes], list[int]] = {}
    bounds = [*starts.tolist(), len(j)]
    for begin, end, number, source in zip(
        bounds, bounds[1:], services[starts].tolist(), i[starts].tolist(), strict=False
    ):
        groups.setdefault((number, j[begin:end].tobytes()), []).append(source)
    for (number, key), group in groups.items():
        yield listed[number], group, np.frombuffer(key, dtype=np.int64).tolist()
