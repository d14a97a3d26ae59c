"""Which kinds of traffic tell most of the causes of leaks and breaks, where there are too many to walk them all."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from kiboko.core.evidence.comparison import AGREE, BREAK, LEAK
from kiboko.core.evidence.finding_groups import FindingGroup
from kiboko.core.evidence.finding_rows import FindingRows

_MOST = 600
"""As many kinds of traffic are looked at as take a second to walk; those come first that matter most."""
_MOST_ODD = _MOST // 4
"""So many of them are leaks and breaks."""
_AT_AN_END = {("destination", True): 40, ("destination", False): 20, ("source", True): 20, ("source", False): 10}
"""So many kinds are looked at that were met at the receiver or the sender of another: that agree, and that do not."""


def most_telling(groups: FindingRows) -> Sequence[FindingGroup]:
    """Of too many kinds of traffic the first leaks and the first breaks, and what agrees at the ends of these: it is
    that which speaks against a cause."""
    if len(groups) <= _MOST:
        return groups
    most = _MOST_ODD
    leaks = groups.concluded(lambda each: each.status == LEAK)
    breaks = groups.concluded(lambda each: each.status == BREAK)
    agreeing = groups.concluded(lambda each: each.status == AGREE)
    # As many of the ones as of the others, where there are as many.
    leaks, breaks = leaks[: max(most // 2, most - len(breaks))], breaks[: max(most // 2, most - len(leaks))]
    names = {name for odd in (leaks, breaks) for side in ("source", "destination") for name in odd.names(side)}
    ends = groups.numbers_of(names)
    is_at_one = np.isin(agreeing.column("source"), ends) | np.isin(agreeing.column("destination"), ends)
    return [*leaks, *breaks, *agreeing.where(is_at_one)[: _MOST - len(leaks) - len(breaks)]]


def met_at_the_ends(groups: FindingRows, group: FindingGroup) -> Iterator[FindingGroup]:
    """Some of what was met at the receiver and the sender of one kind of traffic, the largest of each status first."""
    for (side, agrees), most in _AT_AN_END.items():
        met = groups.at_end(side, getattr(group, side))
        alike = (lambda each: each.status == AGREE) if agrees else (lambda each: each.status != AGREE)
        yield from met.concluded(alike)[:most]
