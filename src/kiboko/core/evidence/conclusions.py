"""What conversations come to, by number: the reason in words, with the gate and the rule that decide."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence import judging
from kiboko.core.evidence.comparison import UNSURE, Conclusion, Decided
from kiboko.core.evidence.judging import REASONS
from kiboko.core.evidence.known_proofs import KnownProofs
from kiboko.core.network.model import ObservationPoint
from kiboko.core.records.columns import distinct, numbered
from kiboko.core.records.records import ANSWERED, DENIED
from kiboko.core.tables.filter_lists import Decider
from kiboko.core.tables.slots import GATES

Rows = NDArray[np.int64]
_ANSWERED = (judging.ANSWERED_AS_SAID, judging.ANSWERED_IN_DOUBT, judging.FIRST_ALONE, judging.ANSWERED_LEAK,
             judging.REPLY_LEAK)  # fmt: skip


class Conclusions:
    """Conclusions, numbered in the order in which they are met: `listed` has them.

    Parameters
    ----------
    proofs : the kinds of proof that conclusions rest on
    points : the observation points of the network, of which others speak by number, from 1
    """

    def __init__(self, proofs: KnownProofs, points: Sequence[ObservationPoint]) -> None:
        self.listed: list[Conclusion] = []
        self._proofs, self._points = proofs, points
        self._number_of: dict[Conclusion, int] = {}
        self._known: dict[tuple[int, ...], int] = {}

    def of(
        self, reason: NDArray[np.uint8], kind: Rows, decider: Rows, proof: Rows, denied_at: Rows,
        is_shared: NDArray[np.bool_], deciders: Sequence[Decider],
    ) -> Rows:  # fmt: skip
        """The numbers of the conclusions, int64[n], from reasons (indices of `REASONS`), kinds of gates (as the layout
        numbers them, 0 for none), what decides there (indices of `deciders`), the kinds of proof, the observation
        points at which they were denied (0 for none), and whether the sender is behind a shared address."""
        told = reason, kind, decider, proof, denied_at, is_shared.astype(np.uint8)
        kinds = distinct(*told)
        columns = (column[kinds.first].tolist() for column in told)
        keys = zip(*columns, strict=True)
        made = [self._known[key] if key in self._known else self._conclude(key, deciders[key[2]]) for key in keys]
        return np.array(made, dtype=np.int64)[kinds.codes]

    def with_reason(self, conclusion: int, reason: int) -> int:
        """The conclusion of another reason, with the same gate."""
        before = self.listed[conclusion]
        is_less = before.observed == ANSWERED and reason == judging.AS_RECORDED
        observed = "something" if is_less else before.observed
        return self._number(_concluded(reason, observed, before.decider, False, before.at, before.is_shared))

    def either_way(self, conclusions: Rows) -> Rows:
        """The same conclusions, of conversations of which nothing tells who began, where these hold whoever did."""
        kinds, codes = numbered(conclusions)
        return np.array([self._either_way(number) for number in kinds.tolist()], dtype=np.int64)[codes]

    def _either_way(self, conclusion: int) -> int:
        before = self.listed[conclusion]
        if before.status == UNSURE:
            return conclusion
        return self._number(replace(before, why=f"{before.why} (who began is not recorded, and it comes to the same)"))

    def _conclude(self, key: tuple[int, ...], decider: Decider) -> int:
        reason, kind, _, proof, denied_at, is_shared = key
        known = self._proofs[proof]
        gate = GATES[(kind - 1) % len(GATES)] if kind else ""
        told = (gate, decider.filter or None, decider.rule if decider.filter else None) if gate else None
        observed = ANSWERED if reason in _ANSWERED else known.proof.observed
        is_told = denied_at and (observed == DENIED or reason == judging.FOLLOWED_DENIED)
        at = self._points[denied_at - 1].text if is_told else None
        found = self._known[key] = self._number(
            _concluded(reason, observed, told, known.is_contradicted, at, bool(is_shared))
        )
        return found

    def _number(self, concluded: Conclusion) -> int:
        if concluded not in self._number_of:
            self._number_of[concluded] = len(self.listed)
            self.listed.append(concluded)
        return self._number_of[concluded]


def _concluded(
    reason: int,
    observed: str,
    decider: Decided | None,
    is_contradicted: bool,
    at: str | None,
    is_shared: bool,
) -> Conclusion:
    found = REASONS[reason]
    whose = ", whoever sent it from behind the shared address" if is_shared and found.status != UNSURE else ""
    why = found.text + whose + (" (the ports alone would say that the other end began)" if is_contradicted else "")
    return Conclusion(
        found.status, observed, why, found.as_far_as_seen, found.different_signal, found.is_elsewhere,
        found.is_inventory, found.before_as_of, found.cause, decider, at, found.is_first_alone,
        found.is_undated, is_shared,
    )  # fmt: skip
