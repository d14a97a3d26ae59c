"""Probes and flow records of the same traffic beside each other: rules say, probe says, log says, conclusion."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field

import numpy as np

from kiboko.core.evidence.comparison import LEAK
from kiboko.core.evidence.summary import Summary
from kiboko.core.records.records import ANSWERED, ARRIVED, DENIED, PASSED, REFUSED, SILENT
from kiboko.core.walk.walk import ALLOWED, PARTLY, UNKNOWN, Walk

ALL_AGREE = "all three agree"


@dataclass(slots=True)
class Side:
    """One kind of traffic that both probes and flow records speak of. `probes` counts outcomes, `records` those of flow
    records: answered, arrived, passed, denied, refused, silent, seen."""

    source: str
    destination: str
    service: str
    walk: Walk
    probes: Counter[str] = field(default_factory=Counter)
    records: Counter[str] = field(default_factory=Counter)
    leaked: bool = False
    """Whether a flow record alone shows that a gate did not stop what it stops by the rules."""

    @property
    def conclusion(self) -> str:
        """What follows from all three."""
        answered = self.probes[ANSWERED] > 0
        failed = sum(self.probes.values()) > self.probes[ANSWERED]
        passed = any(self.records[word] > 0 for word in (PASSED, ARRIVED, ANSWERED))
        denied = self.records[DENIED] > 0
        if answered and failed:
            return "answered at one time or from one port, and not at another: look at when"
        if passed and denied:
            return "passed at one time or place, denied at another: look at when and where"
        if self.walk.verdict == PARTLY:
            return "it rests on the client port"
        if self.walk.verdict == UNKNOWN:
            return "the rules cannot tell, since a gate is not known: what was seen is all there is"
        return (
            self._of_allowed(answered, denied) if self.walk.verdict == ALLOWED else self._of_stopped(answered, denied)
        )

    def _of_allowed(self, answered: bool, denied: bool) -> str:
        if answered:
            return "denied where the probe was not" if denied else f"{ALL_AGREE}: it works"
        if denied:
            return "a filter stops it that the rules do not have there: they are not what is in force"
        if self.probes[REFUSED]:
            return "it arrives and is refused: look at the service"
        if self.records[ANSWERED] or self.records[ARRIVED]:
            return "answered for others, not for the probe: look at where the probe was sent from"
        return "the log has it on its way, and nothing came back: look behind the observation point and at the way back"

    def _of_stopped(self, answered: bool, denied: bool) -> str:
        if answered:
            return "denied for others, answered to the probe" if denied else "both saw it get through: a leak"
        if denied:
            return f"{ALL_AGREE}: it is stopped"
        if self.leaked:
            return "the log saw it pass a filter that stops it by the rules, the probe was not answered: a leak so far"
        if self.probes[REFUSED] and self.walk.signal == SILENT and self.walk.signal_known:
            return "refused, where the rule that stops it keeps silent: something else stops it"
        what = "refused" if self.probes[REFUSED] else "not answered"
        return f"on its way where the log was taken, and {what}: as the rules say, stopped further on"


def side_by_side(summary: Summary) -> list[Side]:
    """The traffic that both kinds of evidence speak of, in the order of the groups."""
    found: dict[tuple[str, str, str], Side] = {}
    rows = summary.rows()
    probes = rows.of("probe")
    probed = {frozenset(_ends_of(summary, walk)[:2]) for each in probes if (walk := each.finding.walk) is not None}
    ends = rows.numbers_of({name for pair in probed for name in pair})
    is_at_both = np.isin(rows.column("source"), ends) & np.isin(rows.column("destination"), ends)
    for group in rows.where(is_at_both | (rows.column("is_flow") == 0)) if probed else ():
        if group.evidence != "probe" and frozenset((group.source, group.destination)) not in probed:
            continue
        walk = group.finding.walk
        if walk is None:
            continue
        key = _ends_of(summary, walk)
        side = found.setdefault(key, Side(*key, walk))
        if group.evidence == "probe":
            side.probes[group.concluded.observed] += group.count
            side.walk = walk
        else:
            side.records[group.concluded.observed] += group.count
            side.leaked |= group.concluded.status == LEAK
    return [side for side in found.values() if side.probes and side.records]


def _ends_of(summary: Summary, walk: Walk) -> tuple[str, str, str]:
    directory = summary.directory
    flow = walk.flow
    owner = directory.public_owner(flow.target)
    arrived = owner.address(4) if owner is not None else flow.target
    target = arrived if arrived is not None else flow.target
    return directory.end_name(flow.source.address), directory.end_name(target), str(flow.service)
