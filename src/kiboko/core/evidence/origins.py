"""Where the examples of groups are, and what finds out what each comes to."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.comparison import Conclusion, Finding, FlowAsked
from kiboko.core.evidence.tallies import Tallies
from kiboko.core.records.line_places import LinePlaces
from kiboko.core.records.narrow import put_away
from kiboko.core.records.records import FlowRecord, ProbeRecord

Settle = Callable[[Conclusion, FlowAsked], Finding]
"""What finds the walk of what was asked."""
Rows = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class ProbeOrigin:
    """One probe and its finding."""

    record: ProbeRecord
    found: Finding

    def example(self, place: int) -> ProbeRecord | FlowRecord:
        """The example at a place."""
        return self.record

    def line(self, place: int) -> tuple[str | None, int] | None:
        """None: a probe is known by its time."""
        return None

    def finding(self, place: int) -> Finding:
        """Its finding."""
        return self.found

    def passed(self, place: int) -> int:
        """How many steps of the request's way it surely passed."""
        return 0

    def asked(self, place: int) -> FlowAsked | None:
        """What it asked, of flow records."""
        return None


@dataclass(frozen=True, slots=True)
class FlowOrigin:
    """The tallies of a table, and where its lines stand in their files."""

    tallies: Tallies
    lines: LinePlaces
    settle: Settle

    def taken(self, places: Rows) -> FlowOrigin:
        """Those at some places."""
        return dataclasses.replace(self, tallies=self.tallies.taken(places)).kept()

    def kept(self) -> FlowOrigin:
        """The same in as little room as it can be."""
        return dataclasses.replace(self, tallies=put_away(self.tallies))

    def example(self, place: int) -> ProbeRecord | FlowRecord:
        """The example at a place."""
        file, line = self.line(place)
        return dataclasses.replace(self.tallies.examples.record(place), file=file, line=line)

    def line(self, place: int) -> tuple[str | None, int]:
        """The file and the line where it stands."""
        return self.lines.of(int(self.tallies.examples.line[place]))

    def finding(self, place: int) -> Finding:
        """Its finding."""
        tallies = self.tallies
        return self.settle(tallies.concluded[int(tallies.conclusion[place])], tallies.flow(place))

    def passed(self, place: int) -> int:
        """How many steps of the request's way it surely passed."""
        return int(self.tallies.passed[place])

    def asked(self, place: int) -> FlowAsked | None:
        """What it asked, of flow records."""
        return self.tallies.flow(place)
