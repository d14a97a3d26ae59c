"""What silence and resets prove where other logs of their time are read apart: little (clauses E6, E7)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence import judging
from kiboko.core.evidence.comparison import BREAK
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.judged import Judged
from kiboko.core.evidence.who_began import shared_out
from kiboko.core.records.flow_table import FlowTable
from kiboko.core.records.records import REFUSED, SILENT


def with_doubt(evaluator: Evaluator, table: FlowTable, judged: Judged) -> tuple[NDArray[np.bool_], Judged]:
    """Which records of a judged table are of conversations that break by their silence alone, or by resets alone where
    directions of others are missing, bool[n]; and what all come to where the answers may stand in logs that were not at
    hand."""
    silent, refused = (_breaks_by(judged, observed) for observed in (SILENT, REFUSED))
    if judged.found is not None and refused.any():
        refused &= shared_out(table, judged.found)[judged.found.of]
    doubted = evaluator.with_reason(judged, silent, judging.SILENT_APART)
    return silent | refused, evaluator.with_reason(doubted, refused, judging.REFUSED_APART)


def _breaks_by(judged: Judged, observed: str) -> NDArray[np.bool_]:
    is_break = np.array(
        [(each.status, each.observed) == (BREAK, observed) for each in judged.concluded], dtype=np.bool_
    )
    found: NDArray[np.bool_] = is_break[judged.conclusion]
    return found
