"""What is left of some traffic where rules have decided a part of it: products of sides, each a set of numbers."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from kiboko.core.header.ranges import RangeSet

MOST_PARTS = 2_000
"""As many parts are looked at before nothing is said of what falls apart into more."""
Part = tuple[RangeSet, ...]
"""Some traffic: on every side whatever is in its set, in every combination."""


class TooManyParts(Exception):
    """Something falls apart into more parts than are looked at."""


def meeting(one: Part, other: Part) -> Part:
    """What two parts have in common; some side of it is empty where they have nothing."""
    return tuple(mine & theirs for mine, theirs in zip(one, other, strict=True))


def less(parts: Sequence[Part], taken: Iterable[Part]) -> list[Part]:
    """Some parts without others, as parts of which no two that are of one have anything in common. Raises
    TooManyParts."""
    left = list(parts)
    for other in taken:
        if not left:
            break
        left = [rest for part in left for rest in _without(part, other)]
        few_enough(len(left))
    return left


def _without(part: Part, other: Part) -> Iterator[Part]:
    shared = meeting(part, other)
    if not all(shared):
        yield part
        return
    for side, (mine, both) in enumerate(zip(part, shared, strict=True)):
        rest = mine - both
        if rest:
            yield (*shared[:side], rest, *part[side + 1 :])


def few_enough(count: int) -> None:
    """Raises TooManyParts where there are too many."""
    if count > MOST_PARTS:
        raise TooManyParts
