"""Work on the whole space of pairs by as many processes as there are processors, where there is enough to do."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

from kiboko.batch import processors
from kiboko.batch.piecework import shared_out
from kiboko.core.reachability.matrix import Matrix, MatrixQuestion

_FEW_PAIRS = 1_000_000
"""As many pairs are sooner judged than processes started."""


def matrix_of(question: MatrixQuestion, workers: int | None = None) -> Matrix:
    """All cells of a matrix. Raises EnvironmentFailure where a process is ended from outside."""
    pieces = question.pieces()
    count = workers or processors.usable()
    if count == 1 or os.name != "posix" or question.pairs < _FEW_PAIRS:
        return question.matrix(map(question, pieces))
    return question.matrix(shared_out(question, pieces, count))


@dataclass(frozen=True, slots=True)
class _Calls:
    """A function to be called with numbers, in processes that are made from this one."""

    function: Callable[[int], Any]

    def start(self) -> Callable[[int], Any]:
        """What is called."""
        return self.function


def spread(function: Callable[[int], Any], numbers: Iterable[int]) -> Iterable[Any]:
    """What a function gives for some numbers, in their order, each by a process of its own as far as there are
    processors. Raises EnvironmentFailure where one is ended from outside."""
    listed = list(numbers)
    count = min(len(listed), processors.usable())
    if count < 2 or os.name != "posix":
        return map(function, listed)
    return shared_out(_Calls(function), listed, count)
