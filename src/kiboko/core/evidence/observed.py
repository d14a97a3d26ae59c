"""What was recorded of traffic that several questions ask about at once: how much of it got through, and how much was
stopped."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.asking import Asking, RecordedEnds
from kiboko.core.evidence.comparison import UNSURE, Conclusion
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.judged import Judged
from kiboko.core.header.services import ICMP, ICMP6, TCP
from kiboko.core.records.flow_table import NO_TIME, FlowTable
from kiboko.core.records.records import ANSWERED, ARRIVED, DENIED, PASSED, REFUSED, SILENT, UNREACHABLE

ALONE = "arrived alone"
"""That it arrived, where the rules let no reply back and none was seen to come all the way."""
GOT_THROUGH = (ANSWERED, ARRIVED, ALONE)
"""What shows that a request passed every gate."""
STOPPED = (DENIED, REFUSED, SILENT, UNREACHABLE)
NOT_TOLD = "not telling"
"""What was recorded of it, and shows neither."""


def shown_by(concluded: Conclusion, protocol: int) -> str:
    """What a conversation or a probe shows of what it asked, in one word. It shows nothing where it is not sure who
    began, or whose it is; where only silence was seen, but of TCP; and where nothing but its first packet gets through.
    That it is, or may be, older than the network file takes nothing from what was seen."""
    is_older = concluded.before_as_of or concluded.is_undated or concluded.cause == "older-session"
    if (concluded.status == UNSURE and not is_older) or concluded.is_first_alone:
        return NOT_TOLD
    if concluded.observed == ARRIVED and concluded.as_far_as_seen and concluded.decider is not None:
        return ALONE
    return NOT_TOLD if concluded.observed == SILENT and protocol not in (TCP, ICMP, ICMP6) else concluded.observed


@dataclass(slots=True)
class Observed:
    """What was recorded of some traffic: conversations and probes by what was seen of them, and when the last of each
    kind was, in milliseconds since 1970."""

    counts: dict[str, int] = field(default_factory=dict)
    last: dict[str, int] = field(default_factory=dict)

    def note(self, observed: str, count: int, last: int) -> None:
        """Count some more."""
        self.counts[observed] = self.counts.get(observed, 0) + count
        self.last[observed] = max(self.last.get(observed, int(NO_TIME)), last)

    def merge(self, other: Observed) -> None:
        """Take in what others come to."""
        for observed, count in other.counts.items():
            self.note(observed, count, other.last[observed])

    def total(self, kinds: Sequence[str]) -> int:
        """How many there are of some kinds."""
        return sum(self.counts.get(kind, 0) for kind in kinds)

    @property
    def through(self) -> int:
        """How many surely got through."""
        return self.total(GOT_THROUGH)

    @property
    def answered(self) -> int:
        """How many of those nothing is known to have kept from being answered."""
        return self.total((ANSWERED, ARRIVED))

    @property
    def stopped(self) -> int:
        """How many were surely stopped, or never answered."""
        return self.total(STOPPED)

    @property
    def passing(self) -> int:
        """How many were seen to pass a point, and no further."""
        return self.total((PASSED,))


def observe(
    evaluator: Evaluator,
    table: FlowTable,
    judged: Judged,
    own: NDArray[np.bool_],
    wanted: NDArray[np.bool_],
    asked: Sequence[Asking],
) -> list[Observed]:
    """What the wanted records of a judged table, bool[n], show of each of some questions. A conversation counts once:
    where its first record is one of the table's `own`, bool[n], and no other's."""
    if judged.found is None:
        return [Observed() for _ in asked]
    rows = np.flatnonzero(wanted)
    # Of each conversation of which records are wanted, the first of these, and when the last was.
    conversations, first = np.unique(judged.found.of[rows], return_index=True)
    count = len(judged.found)
    is_wanted, conclusion = np.zeros(count, dtype=np.bool_), np.zeros(count, dtype=np.int64)
    is_wanted[conversations], conclusion[conversations] = True, judged.conclusion[rows[first]]
    is_wanted &= own[judged.found.first]
    latest = np.full(count, int(NO_TIME), dtype=np.int64)
    np.maximum.at(latest, judged.found.of[rows], table.last()[rows])
    known, found = RecordedEnds(judged, evaluator.ends_of(table, judged)), []
    protocol = judged.asked.service >> 16 if judged.asked is not None else np.zeros(count, dtype=np.int64)
    for asking in asked:
        met = np.flatnonzero(asking.conversations(known) & is_wanted)
        mine = Observed()
        columns = conclusion[met], judged.found.began[met] >= 0, protocol[met], latest[met]
        for code, is_told, kind, when in zip(*(column.tolist() for column in columns), strict=True):
            mine.note(shown_by(judged.concluded[code], kind) if is_told else NOT_TOLD, 1, when)
        found.append(mine)
    return found
