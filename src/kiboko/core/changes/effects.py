"""What a proposed change does beside what it is for: all that it opens and closes, the promises that it breaks and
mends."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass

from kiboko.core.changes.difference import Changed, difference
from kiboko.core.changes.expecting import BROKEN, HELD, Held, held
from kiboko.core.changes.worsened import still_broken
from kiboko.core.errors import UsageError
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.edits import Edit
from kiboko.core.network.model import Expectation
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.walk.walk import Walk, Walker


@dataclass(frozen=True, slots=True)
class Effects:
    """What a change does. `other` are verdicts beside that of the flow that was asked about; `gone` and `moved` ends of
    which nothing is compared. `refused` says why that is not told, where it takes too long."""

    other: tuple[Changed, ...] = ()
    moved: tuple[str, ...] = ()
    broken: tuple[Held, ...] = ()
    mended: tuple[Held, ...] = ()
    worse: tuple[tuple[Held, str], ...] = ()
    """The promises that are broken without it and for more by it, each with a pair of those."""
    refused: str = ""

    @property
    def is_nothing_else(self) -> bool:
        """Whether no verdict beside the one asked about changes, and nothing is left out."""
        return not self.other and not self.moved and not self.refused


class EffectsOf:
    """Finds them for several changes of one network."""

    def __init__(self, walker: Walker, walk: Walk, expectations: Sequence[Expectation]) -> None:
        self.ends, self._walk = Ends(walker), walk
        self._expectations = expectations
        self._before = held(self.ends, expectations)

    def of(self, edit: Edit) -> Effects:
        """What a change does."""
        walker = self.ends.walker
        new = Ends(walker.on(edit(walker.topology)))
        try:
            found = difference(self.ends, new, resolve_service("any", {}), is_brief=True)
        except UsageError as error:
            return Effects(refused=str(error))
        after = held(new, self._expectations)
        both = list(zip(self._before, after, strict=True))
        besides = (self._beside(each) for each in found.changed)
        return Effects(
            tuple(each for each in besides if each is not None), (*found.gone, *found.new, *found.moved),
            tuple(is_ for was, is_ in both if was.state == HELD and is_.state == BROKEN),
            tuple(is_ for was, is_ in both if was.state == BROKEN and is_.state == HELD),
            still_broken(new, both, found),
        )  # fmt: skip

    def _beside(self, line: Changed) -> Changed | None:
        """A line without the very flow that was asked about; None where that is all of it."""
        if not self._has_its_ends(line):
            return line
        left = line.services - RangeSet.one(self._walk.flow.service.number)
        return dataclasses.replace(line, services=left) if left else None

    def _has_its_ends(self, line: Changed) -> bool:
        """Whether a line is of the two ends that were asked about, and no others."""
        walk = self._walk
        if len(line.sources) != 1 or len(line.destinations) != 1:
            return False
        sender = walk.flow.source
        source, destination = line.sources[0], line.destinations[0]
        if line.family != walk.flow.target.family:
            return False
        if sender.interface is not None:
            is_sender = source.instance == sender.interface.instance
        else:
            is_sender = source.low == source.high == sender.address
        arrival = walk.arrival
        owner = arrival.interface if arrival is not None else None
        if owner is not None:
            return is_sender and destination.instance == owner.instance
        return is_sender and destination.low == destination.high == walk.flow.target
