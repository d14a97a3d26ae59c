"""What services come to for pairs of ends, each distinct outcome once: there are far fewer of them than pairs."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from kiboko.core.reachability.products import products_of
from kiboko.core.reachability.space import SpaceEnd, usual_of
from kiboko.core.reachability.statuses import Statuses
from kiboko.core.records.columns import ascending
from kiboko.core.walk.walk import ALLOWED

Rows = NDArray[np.int64]
Codes = NDArray[np.int32]
"""What every service comes to, as numbers of `Statuses.known`; 0 for nothing, and where there is no pair."""


class OutcomesOfPairs:
    """A table of pairs, int64[far, near], of places among `outcomes`."""

    def __init__(self, table: Rows, outcomes: list[Codes], numbers: dict[bytes, int], allowed: Sequence[int]) -> None:
        """`numbers` has the place of each outcome, by its octets; `allowed` are the codes of what is allowed."""
        self._table, self._outcomes, self._numbers, self._allowed = table, outcomes, numbers, allowed

    @classmethod
    def of(cls, ids: NDArray[np.int32], reading: Statuses) -> OutcomesOfPairs:
        """Those of pairs by the numbers that a reading gives them, int32[far, near]."""
        known, back = ascending(ids.reshape(-1))
        outcomes: list[Codes] = []
        numbers: dict[bytes, int] = {}
        places = np.array([cls._place(each, outcomes, numbers) for each in reading.rows(known)], dtype=np.int64)
        allowed = [code for code, each in enumerate(reading.known) if each.verdict_text == ALLOWED]
        return cls(places[back].reshape(ids.shape), outcomes, numbers, allowed)

    @staticmethod
    def _place(outcome: Codes, outcomes: list[Codes], numbers: dict[bytes, int]) -> int:
        key = outcome.tobytes()
        if key not in numbers:
            numbers[key] = len(outcomes)
            outcomes.append(outcome)
        return numbers[key]

    def turned(self) -> OutcomesOfPairs:
        """The same pairs, near ends first: what is changed here is changed there."""
        return OutcomesOfPairs(self._table.T, self._outcomes, self._numbers, self._allowed)

    def drop_what_is_usual(self, ends: Sequence[SpaceEnd]) -> None:
        """Of an end at a further address keep what its machine does not come to without being asked."""
        for row, usual in usual_of(ends):
            for column in range(self._table.shape[1]):
                comes_to = np.max([self._outcomes[place] for place in self._table[usual, column].tolist()], axis=0)
                own = self._outcomes[int(self._table[row, column])]
                left = np.where((own == comes_to) | np.isin(comes_to, self._allowed), np.int32(0), own)
                self._table[row, column] = self._place(left, self._outcomes, self._numbers)

    def is_any(self) -> NDArray[np.bool_]:
        """Which far ends come to anything, bool[far]."""
        comes = np.array([bool(each.any()) for each in self._outcomes], dtype=np.bool_)
        found: NDArray[np.bool_] = np.any(comes[self._table], axis=1)
        return found

    def products(self, rows: Rows, code: int) -> list[tuple[Rows, Rows, Rows]]:
        """What comes to one code, of some far ends, as products: places among these, near ends, and services."""
        used, back = ascending(self._table[rows].reshape(-1))
        holds = np.array([self._outcomes[place] == code for place in used.tolist()], dtype=np.bool_)
        return products_of(back.reshape(len(rows), -1), holds) if holds.any() else []
