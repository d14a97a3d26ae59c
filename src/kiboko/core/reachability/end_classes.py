"""Ends that are treated alike, and which pairs of them come to the same."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, NamedTuple

from kiboko.core.header.ranges import RangeSet
from kiboko.core.queries.members import Member

if TYPE_CHECKING:
    from collections.abc import Sequence

    import numpy as np
    from numpy.typing import NDArray

    from kiboko.core.queries.ends import Ends

    Places = Sequence[int] | NDArray[np.int64]

RECORDED, NOBODY, OUTSIDE = 0, 1, 2
"""Kinds of ends, in the order in which they are shown: recorded instances, addresses of subnets where nobody is
recorded, and what lies beyond the networks."""


@dataclass(slots=True)
class EndClass:
    """Members of one end that are treated alike, all of one kind."""

    kind: int
    members: list[Member] = field(default_factory=list)

    @property
    def count(self) -> int:
        """How many ends they are."""
        return sum(member.count for member in self.members)


def is_beyond(each: EndClass, ends: Ends) -> bool:
    """Whether a class is of addresses beyond the networks that are nobody's of ours."""
    low = each.members[0].low
    return each.kind == OUTSIDE and low is not None and ends.is_foreign(low)


class Cells(NamedTuple):
    """Services on which pairs of classes come to the same: `sources` and `destinations` are the classes of each pair,
    all of one length."""

    services: RangeSet
    sources: Places
    destinations: Places


Shape = tuple[RangeSet, list[int], list[int]]
"""Sources that on some services come to the same with the same destinations, and these; ascending."""
