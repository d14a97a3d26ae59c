"""Numbers and lists in words, the same wherever something is told of; files by the names that they were given by."""

from __future__ import annotations

from collections.abc import Sequence

GIVEN_AS: dict[str, str] = {}
"""What was given that only a copy can be read of (a pipe, standard input), by the path of the copy."""


def as_given(text: str) -> str:
    """A text that names files, with no copy in it but what that is of."""
    for copy, given in GIVEN_AS.items():
        text = text.replace(copy, given)
    return text


def all_of(names: Sequence[str]) -> str:
    """`one`, `one and another`, `one, another and a third`."""
    return " and ".join([*([", ".join(names[:-1])] if names[1:] else []), *names[-1:]])


def counted(number: int, word: str, plural: str | None = None) -> str:
    """`1 row`, `2 rows`, with thousands separated; from 10^15 on rounded, since nobody reads more digits."""
    shown = f"{number:,}" if number < 10**15 else f"about {number:.1e}".replace("e+", " × 10^")
    return f"{shown} {word if number == 1 else plural or word + 's'}"
