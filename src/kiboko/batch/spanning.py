"""A matrix worked out by as many processes as there are processors, where there is enough to do."""

from __future__ import annotations

import os

from kiboko.batch.piecework import shared_out
from kiboko.core.reachability.matrix import Matrix, MatrixQuestion

_FEW_PAIRS = 1_000_000
"""As many pairs are sooner judged than processes started."""


def matrix_of(question: MatrixQuestion, workers: int | None = None) -> Matrix:
    """All cells of a matrix. Raises EnvironmentFailure where a process is ended from outside."""
    pieces = question.pieces()
    count = workers or os.cpu_count() or 1
    if count == 1 or os.name != "posix" or question.pairs < _FEW_PAIRS:
        return question.matrix(map(question, pieces))
    return question.matrix(shared_out(question, pieces, count))
