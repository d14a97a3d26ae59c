""" "Did you mean": the nearest of the words that would have been right."""

from __future__ import annotations

from collections.abc import Iterable


def alike(word: str, candidates: Iterable[str], most: int = 1, likeness: float = 0.6) -> list[str]:
    """The candidates most like a word, best first; `likeness` runs from 0 (anything) to 1 (the word itself).

    The library is imported here, since only who mistypes needs it.
    """
    import difflib

    return difflib.get_close_matches(word, list(candidates), most, likeness)


def nearest(word: str, candidates: Iterable[str], most: int = 1, likeness: float = 0.6) -> str:
    """`; did you mean 'NAME'?` for the candidates most like a word, or nothing where none is."""
    close = alike(word, candidates, most, likeness)
    return f"; did you mean {', '.join(map(repr, close))}?" if close else ""
