"""What the records of a table come to, and what each class of conversations does."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.addressed import Asked
from kiboko.core.evidence.comparison import Conclusion
from kiboko.core.evidence.conversations import Conversations
from kiboko.core.records.columns import Growing

Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class Judged:
    """What the records of a table come to, each by its conversation: `conclusion` int64[n] is an index of `concluded`;
    `classes` int64[n] tells conversations apart as far as anything in the network does; `is_reply` bool[n] which
    records are of whoever was sent to; `weight` uint8[n] is 0 for those whose packets others show too; `is_first`
    bool[n] are those that stand for their conversation where these are counted. `found` are the conversations, of which
    `asked` has the ends, and `kinds` what the classes come to. `is_twice` bool[n] are records of one capture that was
    taken twice; of the others whose packets count elsewhere they were taken at a further point. `around` int64[k] is
    what others tell of each conversation, as `contexts` has it; of those that are `unasked`, bool[k], nothing shows
    that anybody asked."""

    conclusion: Rows
    concluded: list[Conclusion]
    classes: Rows
    is_reply: Truths
    weight: NDArray[np.uint8]
    is_first: Truths
    found: Conversations | None
    asked: Asked | None
    kinds: Classes
    is_twice: Truths
    around: Rows | None = None
    unasked: Truths | None = None

    def joined(self, rows: Rows) -> tuple[int, int]:
        """How many of some records are of one capture taken twice, and how many were taken at a further point."""
        twice = int(np.count_nonzero(self.is_twice[rows]))
        return twice, len(rows) - int(np.count_nonzero(self.weight[rows])) - twice

    def part(self, rows: Rows | slice) -> Judged:
        """Those of some of the records."""
        return Judged(self.conclusion[rows], self.concluded, self.classes[rows], self.is_reply[rows], self.weight[rows],
                      self.is_first[rows], None, None, self.kinds, self.is_twice[rows])  # fmt: skip


class Classes:
    """What each class came to: `reason` an index of `REASONS`, `conclusion` one of all conclusions, `passed` how many
    steps of the request's way were passed for sure."""

    def __init__(self) -> None:
        self._reason = Growing(np.dtype(np.uint8))
        self._conclusion, self._passed = (Growing(np.dtype(np.int64)) for _ in range(2))

    def __len__(self) -> int:
        return len(self._reason)

    @property
    def reason(self) -> NDArray[np.uint8]:
        """The reason of each, uint8[n]."""
        return self._reason.values

    @property
    def conclusion(self) -> Rows:
        """The conclusion of each, int64[n]."""
        return self._conclusion.values

    @property
    def passed(self) -> Rows:
        """How many steps were passed of each, int64[n]."""
        return self._passed.values

    def add(self, reason: NDArray[np.uint8], conclusion: Rows, passed: Rows) -> None:
        """Further ones."""
        self._reason.add(reason)
        self._conclusion.add(conclusion)
        self._passed.add(passed)
