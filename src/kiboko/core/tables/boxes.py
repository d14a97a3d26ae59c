"""Many rule lists judged for whole columns of packets at once, exactly.

Every rule is a box: a set of sources, one of destinations, one of services and one of sender's ports, each a union of
ranges of atoms. In each of the four dimensions a list cuts its own atoms into few classes; a class has one bit for each
rule of the list that holds it. The rules that match a packet are the conjunction of four such words, and the first of
them is its lowest bit (T. V. Lakshman and D. Stiliadis, "High-speed policy-based packet forwarding using efficient
multi-dimensional range matching", SIGCOMM 1998). So that the cost of a packet grows with the rules of its list by one
step for every 64, and not at all with the number of lists.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.records.columns import ascending

Ranges = NDArray[np.int64] | None
"""A set of atoms as inclusive ranges in any order, int64[n, 2]; None for all."""

SOURCES, DESTINATIONS, SERVICES, PORTS = range(4)
_WORD = 64
_MANY = 1 << 9
"""As many atoms are looked up faster in one row of classes after the other than in all at once."""
NOTHING: Ranges = np.zeros((0, 2), dtype=np.int64)
"""The set without atoms."""


@dataclass(frozen=True, slots=True)
class Box:
    """What one rule matches, by the atoms of each dimension."""

    sources: Ranges = None
    destinations: Ranges = None
    services: Ranges = None
    ports: Ranges = None

    @property
    def sides(self) -> tuple[Ranges, Ranges, Ranges, Ranges]:
        """The four sets, in the order of the dimensions."""
        return self.sources, self.destinations, self.services, self.ports


@dataclass(frozen=True, slots=True)
class Packets:
    """The atoms of `n` packets, int32[n] each: source, destination, service, and the sender's port."""

    sources: NDArray[np.int32]
    destinations: NDArray[np.int32]
    services: NDArray[np.int32]
    ports: NDArray[np.int32]

    def taken(self, rows: NDArray[np.int64]) -> Packets:
        """Some of them."""
        return Packets(self.sources[rows], self.destinations[rows], self.services[rows], self.ports[rows])

    @property
    def columns(self) -> tuple[NDArray[np.int32], ...]:
        """The four columns, in the order of the dimensions."""
        return self.sources, self.destinations, self.services, self.ports


class _Dimension:
    """One dimension of all lists: which class an atom is of, and the words of each class."""

    def __init__(self, size: int) -> None:
        self.size = size
        self._classes = [np.zeros(size, dtype=np.uint16)]  # that of lists which do not look at this dimension
        self._words: list[NDArray[np.uint64]] = [np.zeros(0, dtype=np.uint64)]
        self._row: list[int] = []
        self._base: list[int] = []
        self._used = 0
        self._known: dict[bytes, int] = {}

    def add(self, sides: Sequence[Ranges], words: int) -> None:
        """The next list, by its rules' sets."""
        self._base.append(self._used)
        if all(side is None for side in sides):
            self._row.append(0)
            self._note(_packed(np.ones((1, len(sides)), dtype=np.bool_), words))
            return
        starts, inside = _pieces(sides, self.size)
        kinds, which = _kinds(inside)
        if len(kinds) > 1 << 16:
            raise OverflowError("more classes of atoms than a list may have")
        row = np.repeat(which.astype(np.uint16), np.diff(starts, append=self.size))
        key = row.tobytes()
        if key not in self._known:
            self._known[key] = len(self._classes)
            self._classes.append(row)
        self._row.append(self._known[key])
        self._note(kinds)

    def _note(self, words: NDArray[np.uint64]) -> None:
        self._words.append(words.reshape(-1))
        self._used += words.size

    def frozen(self) -> _Frozen:
        """All of it as arrays."""
        classes, words = np.vstack(self._classes), np.concatenate(self._words)
        self._classes, self._words = list(classes), [words]  # what was brought together is not kept twice
        return _Frozen(classes, words, np.array(self._row, dtype=np.int64), np.array(self._base, dtype=np.int64))


@dataclass(frozen=True, slots=True)
class _Frozen:
    """`classes` uint16[rows, atoms], `words` uint64[...], and for each list its row and where its words begin."""

    classes: NDArray[np.uint16]
    words: NDArray[np.uint64]
    row: NDArray[np.int64]
    base: NDArray[np.int64]

    def first_words(
        self, lists: NDArray[np.int64], atoms: NDArray[np.int32], step: NDArray[np.int64]
    ) -> NDArray[np.int64] | None:
        """Where the words of each packet's class begin, by its list, whose classes have `step` words each; None where
        none of the lists looks at this dimension."""
        rows = self.row[lists]
        if not rows.any():
            return None
        found: NDArray[np.int64] = self.classes[rows, atoms] * step
        found += self.base[lists]
        return found


class BoxLists:
    """Ordered lists of boxes, numbered from 0 as they are added.

    Parameters
    ----------
    sizes : how many atoms each of the four dimensions has
    """

    def __init__(self, sizes: tuple[int, int, int, int]) -> None:
        self._dimensions = [_Dimension(size) for size in sizes]
        self._step: list[int] = []
        self._steps = np.zeros(0, dtype=np.int64)
        self._frozen: list[_Frozen] | None = None

    def __len__(self) -> int:
        return len(self._step)

    def add(self, boxes: Sequence[Box]) -> int:
        """Add a list; its number. An empty one matches nothing. Raises OverflowError where its boxes cut an axis into
        more than 65,536 classes."""
        words = max(1, -(-len(boxes) // _WORD))
        chosen = boxes or [Box(sources=NOTHING)]
        for dimension, sides in zip(self._dimensions, zip(*(box.sides for box in chosen)), strict=True):
            dimension.add(sides, words)
        self._step.append(words)
        self._frozen = None
        return len(self._step) - 1

    def marks(self, dimension: int, atoms: NDArray[np.int64], lists: Sequence[int] | None = None) -> list[bytes]:
        """For each atom of a dimension something that is equal for atoms that no box of some lists tells apart; of any
        list where none are named."""
        frozen = self._arrays()[dimension]
        rows = slice(None) if lists is None else ascending(frozen.row[np.array(lists, dtype=np.int64)])[0]
        classes = frozen.classes[rows][:, atoms].T
        return [row.tobytes() for row in np.ascontiguousarray(classes)]

    def classes(
        self, dimension: int, lists: NDArray[np.int64], atoms: NDArray[np.int32] | NDArray[np.int64]
    ) -> NDArray[np.uint16]:
        """The classes of some atoms in the lists beside them; both are brought to one shape."""
        frozen = self._arrays()[dimension]
        rows = frozen.row[lists]
        found: NDArray[np.uint16]
        if lists.ndim == 2 and lists.shape[1] == 1 and atoms.shape[0] == 1 and lists.size > 1:
            # Each list with every atom: the few rows of classes are cut down once, and then copied as they are.
            known, back = ascending(rows[:, 0])
            if atoms.size > _MANY:  # row by row, which is quicker for each atom
                cut = np.stack([frozen.classes[row].take(atoms[0], mode="wrap") for row in known.tolist()])
            else:
                cut = frozen.classes[known[:, None], atoms]
            found = cut[back]
        elif lists.ndim == 2 and lists.shape[0] == 1 and atoms.shape[1] == 1 and lists.size > len(frozen.classes):
            # Every list with each atom: of each atom all rows of classes are looked up once.
            found = frozen.classes[:, atoms[:, 0]].T.take(rows[0], axis=1, mode="wrap")
        else:
            found = frozen.classes[rows, atoms]
        return found

    def matching(self, dimension: int, chosen: int) -> NDArray[np.uint64]:
        """For each class of a list's dimension the boxes that hold it, one bit each: uint64[classes, words]."""
        frozen = self._arrays()[dimension]
        begin = frozen.base[chosen]
        end = frozen.base[chosen + 1] if chosen + 1 < len(frozen.base) else len(frozen.words)
        return frozen.words[begin:end].reshape(-1, self._step[chosen])

    def _arrays(self) -> list[_Frozen]:
        if self._frozen is None:
            self._frozen = [dimension.frozen() for dimension in self._dimensions]
            self._steps = np.array(self._step, dtype=np.int64)
        return self._frozen

    def first(self, lists: NDArray[np.int64], packets: Packets) -> NDArray[np.int32]:
        """For each packet the place of the first box of its list that holds it, int32[n]; -1 where none does."""
        frozen = self._arrays()
        step = self._steps[lists]
        looked_at: list[tuple[NDArray[np.uint64], NDArray[np.int64]]] = []
        for each, atoms in zip(frozen, packets.columns, strict=True):
            starts = each.first_words(lists, atoms, step)
            if starts is not None:
                looked_at.append((each.words, starts))
        if not looked_at:
            looked_at.append((frozen[0].words, frozen[0].base[lists]))
        found = np.full(len(lists), -1, dtype=np.int32)
        left: NDArray[np.int64] | slice = slice(None)
        for word in range(int(step.max(initial=0))):
            if word:
                left = np.flatnonzero((found < 0) & (step > word))
                if not len(left):
                    break
            matching = looked_at[0][0][looked_at[0][1][left] + word]
            for words, begin in looked_at[1:]:
                matching &= words[begin[left] + word]
            # The lowest bit alone, of which a float tells the place exactly; 0 has none.
            lowest = matching & (~matching + np.uint64(1))
            place = np.frexp(lowest.astype(np.float64))[1] - 1
            found[left] = np.where(matching != 0, place + word * _WORD, -1)
        return found


def _kinds(words: NDArray[np.uint64]) -> tuple[NDArray[np.uint64], NDArray[np.int64]]:
    """The distinct rows of words, and for each row the place of its own among them."""
    if words.shape[1] == 1:
        known, which = ascending(words[:, 0])
        return known.reshape(-1, 1), which
    numbers: dict[bytes, int] = {}
    places = np.array([numbers.setdefault(row.tobytes(), len(numbers)) for row in words], dtype=np.int64)
    first = np.empty(len(numbers), dtype=np.int64)
    first[places[::-1]] = np.arange(len(places) - 1, -1, -1)  # the last write is that of the first row
    return words[first], places


def _pieces(sides: Sequence[Ranges], size: int) -> tuple[NDArray[np.int64], NDArray[np.uint64]]:
    """The atom line cut where any set begins or ends: the first atom of each piece, and which sets hold it, a bit for
    each, uint64[pieces, words]."""
    edges, which = _numbered(sides)
    rises = edges[1:, 0] > edges[:-1, 1]
    if not (rises | (which[1:] != which[:-1])).all():
        edges, which = _numbered([side if side is None else _apart(side) for side in sides])
    edges[:, 1] += 1
    starts, place = ascending(np.append(edges, 0))
    # What begins or ends at a piece, as bits: from piece to piece these alone are other ones.
    inside = np.zeros((len(starts), -(-len(sides) // _WORD)), dtype=np.uint64)
    every = np.array([index for index, side in enumerate(sides) if side is None], dtype=np.int64)
    begins, ends = place[:-1].reshape(-1, 2).T
    for at, mine in ((np.zeros_like(every), every), (begins, which), (ends, which)):
        bits = np.uint64(1) << (mine % _WORD).astype(np.uint64)
        np.bitwise_xor.at(inside.reshape(-1), at * inside.shape[1] + mine // _WORD, bits)
    np.bitwise_xor.accumulate(inside, axis=0, out=inside)
    if starts[-1] >= size:  # a set that ends with the line
        starts, inside = starts[:-1], inside[:-1]
    return starts, inside


def _numbered(sides: Sequence[Ranges]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The ranges of all sets one after the other, and the number of each one's set."""
    none = np.zeros((0, 2), dtype=np.int64)
    ranges = [none if side is None else side for side in sides]
    return np.concatenate(ranges), np.repeat(np.arange(len(sides)), [len(each) for each in ranges])


def _apart(ranges: NDArray[np.int64]) -> NDArray[np.int64]:
    """The same set as ranges of which no two have an atom in common."""
    if len(ranges) < 2:
        return ranges
    rising = ranges[np.argsort(ranges[:, 0], kind="stable")]
    reached = np.maximum.accumulate(rising[:, 1])
    begins = np.append(True, rising[1:, 0] > reached[:-1])
    return np.column_stack([rising[begins, 0], reached[np.append(np.flatnonzero(begins)[1:] - 1, len(rising) - 1)]])


def _packed(inside: NDArray[np.bool_], words: int) -> NDArray[np.uint64]:
    """Truth values as words, the first set as the lowest bit: uint64[pieces, words]."""
    padded = np.zeros((len(inside), words * _WORD), dtype=np.bool_)
    padded[:, : inside.shape[1]] = inside
    return np.packbits(padded, axis=1, bitorder="little").view("<u8").astype(np.uint64)
