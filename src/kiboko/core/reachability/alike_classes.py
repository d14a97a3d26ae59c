"""Classes of ends that meet very many others: which pairs of them come to the same, so that one is asked for all."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import TCP, Service
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

    A class is told apart by its first machine, where that has one interface with one address of a family; all other
    pairs stand alone.
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
    """Whether a class is of machines with one interface."""
    member = each.members[0]
    return member.low is None and len(member.interfaces) == 1


def _address(member: Member, family: int, grid: PairGrid) -> int:
    address = member.interfaces[0].address(family)
    return grid.tables.addresses.atom(address) if address is not None else NONE


def _of_family(
    grid: PairGrid, sources: Sequence[EndClass], destinations: Sequence[EndClass], plain: Sequence[Rows], family: int,
    services: RangeSet,
) -> Rows:  # fmt: skip
    """The numbers of all pairs of plain classes in one family; `_NO_FAMILY` where either has no address of it."""
    members = [[side[at].members[0] for at in rows.tolist()]
               for side, rows in zip((sources, destinations), plain, strict=True)]  # fmt: skip
    own, to = (np.array([_address(each, family, grid) for each in some], dtype=np.int64) for some in members)
    found = np.full((len(own), len(to)), _NO_FAMILY, dtype=np.int64)
    mine, theirs = np.flatnonzero(own != NONE), np.flatnonzero(to != NONE)
    if len(mine) and len(theirs):
        addresses = (members[0][at].interfaces[0].address(family) for at in mine.tolist())
        ends = [grid.walker.directory.endpoint(each) for each in addresses if each is not None]
        ports = [grid.ports or grid.walker.source_ports(end, Service(TCP, 1)) for end in ends]
        found[np.ix_(mine, theirs)] = alike_pairs(
            grid.tables.layout, own[mine], to[theirs], ports, services_for(services, family)
        )
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
    order = np.lexsort([j, services, i])
    i, j, services = i[order], j[order], services[order]
    starts = np.flatnonzero((np.diff(i, prepend=NONE) != 0) | (np.diff(services, prepend=NONE) != 0))
    groups: dict[tuple[int, bytes], list[int]] = {}
    bounds = [*starts.tolist(), len(j)]
    for begin, end, number, source in zip(
        bounds, bounds[1:], services[starts].tolist(), i[starts].tolist(), strict=False
    ):
        groups.setdefault((number, j[begin:end].tobytes()), []).append(source)
    for (number, key), group in groups.items():
        yield listed[number], group, np.frombuffer(key, dtype=np.int64).tolist()
