"""What silence proves where other logs of its time are read apart from it: nothing (clause E7)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence import judging
from kiboko.core.evidence.comparison import BREAK
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.judged import Judged
from kiboko.core.records.records import SILENT


def with_doubt(evaluator: Evaluator, judged: Judged) -> tuple[NDArray[np.bool_], Judged]:
    """Which records are of conversations that break by their silence alone, bool[n]; and what all come to where the
    answers may stand in logs that were not at hand."""
    is_silent = np.array(
        [each.status == BREAK and each.observed == SILENT for each in judged.concluded], dtype=np.bool_
    )
    silent: NDArray[np.bool_] = is_silent[judged.conclusion]
    return silent, evaluator.with_reason(judged, silent, judging.SILENT_APART)
