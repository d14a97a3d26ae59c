""" "Did you mean": the nearest of the words that would have been right."""

from __future__ import annotations

import itertools
from collections.abc import Iterable

_MANY, _FEW = 1000, 200
"""Of more candidates than many, those few are compared that have the most pairs of letters in common with the word."""


def alike(word: str, candidates: Iterable[str], most: int = 1, likeness: float = 0.6) -> list[str]:
    """The candidates most like a word, best first; `likeness` runs from 0 (anything) to 1 (the word itself). Where none
    is as it is written, those are that are like it in small letters, as names are.

    The library is imported here, since only who mistypes needs it.
    """
    import difflib

    listed = list(candidates)
    if len(listed) > _MANY:
        import heapq

        own = _pairs(word.lower())
        listed = heapq.nlargest(_FEW, listed, key=lambda each: _shared(own, _pairs(each.lower())))
    found = difflib.get_close_matches(word, listed, most, likeness)
    return found or difflib.get_close_matches(word.lower(), listed, most, likeness)


def _pairs(word: str) -> set[tuple[str, str]]:
    """Letters that stand next to each other."""
    return {*itertools.pairwise(word)}


def _shared(own: set[tuple[str, str]], other: set[tuple[str, str]]) -> float:
    return len(own & other) / (len(own) + len(other) or 1)


def nearest(word: str, candidates: Iterable[str], most: int = 1, likeness: float = 0.6) -> str:
    """`; did you mean 'NAME'?` for the candidates most like a word, or nothing where none is."""
    close = alike(word, candidates, most, likeness)
    return f"; did you mean {', '.join(map(repr, close))}?" if close else ""
