"""What pairs of ends are judged by, and what becomes of them: the ends as columns, what lists, listeners and kernels do
with all kinds of traffic, and the kinds that arrive, are answered, or are in doubt."""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass
from typing import Self

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.services import NEVER_REFUSED, TCP
from kiboko.core.tables.kernel_words import KernelWords
from kiboko.core.tables.kinds import Kinds, Words
from kiboko.core.tables.layout import GateLayout
from kiboko.core.tables.listeners import ELSEWHERE, TAKEN
from kiboko.core.tables.rule_words import RuleWords

Rows = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Side:
    """Ends by the atoms of their addresses, int64[n] each: `sent_to` the addresses that are used of them, own and
    public ones, the numbers of their interfaces, subnets, places and machines; -1 for none."""

    sent_to: Rows
    own: Rows
    public: Rows
    interface: Rows
    subnet: Rows
    place: Rows
    machine: Rows

    @classmethod
    def of(cls, layout: GateLayout, atoms: Rows) -> Side:
        """The ends that some atoms stand for."""
        own, public, interface, subnet, place, machine = layout.ends_of(atoms.astype(np.int32))
        return cls(atoms, own, public, interface, subnet, place, machine)

    def __len__(self) -> int:
        return len(self.sent_to)

    def taken(self, rows: Rows | slice) -> Side:
        """Some of them."""
        return Side(*(getattr(self, name)[rows] for name in Side.__slots__))


@dataclass(frozen=True, slots=True)
class Outcome:
    """What becomes of all kinds between `m` receivers and `n` senders, uint64[m, n, words] each: requests that arrive,
    those of them that are answered as well, and those that a gate which cannot be judged may stop (S35, S41): on the
    way there or back where they are answered, on the way there where they are not. Where that is asked for, `single`
    are those that one gate alone stops, on the way there or back, and no other may; and `hanging` those that are
    answered and of which a kernel's rule set surely stops what follows."""

    arrives: Words
    answered: Words
    doubtful: Words
    single: Words | None = None
    hanging: Words | None = None


class PairTables:
    """What pairs of ends over one network are judged by: for all kinds of traffic what lists, listeners and kernels do.

    Parameters
    ----------
    layout : the gates of the network, with the lists of every filter that may be asked
    kinds : the kinds of traffic
    """

    def __init__(self, layout: GateLayout, kinds: Kinds, with_traces: bool = False) -> None:
        """`with_traces`: `trace` will be asked for."""
        self.layout, self.kinds = layout, kinds
        self.rules = RuleWords(layout, kinds, False, with_traces), RuleWords(layout, kinds, True, with_traces)
        self.none = np.zeros((1, 1, kinds.words), dtype=np.uint64)
        self.every = kinds.every[None, None]
        self.width = kinds.words
        """How many words there are for each pair."""
        self.never_refused = kinds.packed(
            np.array([kind.service in NEVER_REFUSED for kind in kinds.kinds], dtype=np.bool_)
        )
        self.tcp = kinds.packed(np.array([kind.service >> 16 == TCP for kind in kinds.kinds], dtype=np.bool_))
        """The kinds that are of TCP."""
        self._listened: dict[int, tuple[Words, Words]] = {}
        self.keeping: dict[tuple[int, ...], int] = {}
        """A number for each choice of the gates of a way that keep state (`pair_deciders`)."""
        self.kernels = KernelWords(layout, kinds)

    def of_changed(self, layout: GateLayout) -> Self:
        """The same for a network that differs in the rules of some filters alone (`GateLayout.of_changed`)."""
        made = copy(self)
        made.layout = layout
        return made

    def words_of(self, chosen: bool | np.bool_) -> Words:
        """All kinds or none."""
        return self.every if chosen else self.none

    def listened(self, number: int) -> tuple[Words, Words]:
        """The kinds that a machine refuses since nobody listens, and those of them that somebody listens to at another
        of its addresses; by the number of what is listened to."""
        if number not in self._listened:
            layout, kinds = self.layout, self.kinds
            met = layout.listeners.at(np.full(len(kinds), number, dtype=np.int64), kinds.request.services)
            self._listened[number] = (
                kinds.packed((met != TAKEN) & kinds.has_ports), kinds.packed((met == ELSEWHERE) & kinds.has_ports)
            )  # fmt: skip
        return self._listened[number]
