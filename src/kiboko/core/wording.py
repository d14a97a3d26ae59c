"""Numbers in words, the same wherever something is counted."""

from __future__ import annotations


def counted(number: int, word: str, plural: str | None = None) -> str:
    """`1 row`, `2 rows`, with thousands separated; from 10^15 on rounded, since nobody reads more digits."""
    shown = f"{number:,}" if number < 10**15 else f"about {number:.1e}".replace("e+", " × 10^")
    return f"{shown} {word if number == 1 else plural or word + 's'}"
