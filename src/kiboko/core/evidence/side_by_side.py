"""Probes and flow records of the same traffic beside each other: rules say, probe says, log says, conclusion."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field

import numpy as np

from kiboko.core.evidence.comparison import AGREE, BREAK, LEAK, Conclusion
from kiboko.core.evidence.finding_groups import FindingGroup
from kiboko.core.evidence.summary import Summary
from kiboko.core.header.services import Service
from kiboko.core.records.records import ANSWERED, ARRIVED, DENIED, PASSED, REFUSED, SILENT
from kiboko.core.walk.walk import ALLOWED, BLOCKED, PARTLY, UNKNOWN, Walk

ALL_AGREE = "all three agree"


@dataclass(slots=True)
class Side:
    """One kind of traffic that both probes and flow records speak of, and of which the rules say one thing. `probes`
    counts outcomes, `records` those of flow records: answered, arrived, passed, denied, refused, silent, seen."""

    source: str
    destination: str
    service: str
    walk: Walk
    probes: Counter[str] = field(default_factory=Counter)
    records: Counter[str] = field(default_factory=Counter)
    leaked: bool = False
    """Whether a flow record alone shows that a gate did not stop what it stops by the rules."""
    as_ruled: bool = True
    """Whether every flow record is as the rules say, as far as it was seen."""
    disagrees: bool = False
    """Whether anything is a leak or a break."""
    is_older: bool = False
    """Whether anything would be one, and is older than the network file."""
    is_undated: bool = False
    """Whether anything would be one, and may be older: when it was is not recorded."""
    is_elsewhere: bool = True
    """Whether all that was denied was stopped at another place than by the rules."""
    is_inventory: bool = False
    """Whether anything got through that only a listener or a stopped machine stops by the network file."""
    rests_on: str | None = None
    """What the rules tell it apart by from other traffic of the same ends and service, if there is some."""

    def note(self, concluded: Conclusion) -> None:
        """Take in what some probes or flow records come to."""
        self.disagrees |= concluded.status in (LEAK, BREAK)
        self.is_older |= concluded.before_as_of
        self.is_undated |= concluded.is_undated
        self.is_inventory |= concluded.is_inventory

    @property
    def rules(self) -> str:
        """What the rules say: the verdict, and of what they stop what the sender sees."""
        return f"{self.walk.verdict}, {self.walk.signal}" if self.walk.verdict == BLOCKED else self.walk.verdict

    @property
    def conclusion(self) -> str:
        """What follows from all three."""
        return self.follows + (f" (it rests on {self.rests_on})" if self.rests_on is not None else "")

    @property
    def follows(self) -> str:
        """The same, without what it rests on."""
        answered = self.probes[ANSWERED] > 0
        failed = sum(self.probes.values()) > self.probes[ANSWERED]
        passed = any(self.records[word] > 0 for word in (PASSED, ARRIVED, ANSWERED))
        denied = self.records[DENIED] > 0
        if self.is_older and not self.disagrees:
            return "against the rules, and older than the network file: what they were then it does not say"
        if self.is_undated and not self.disagrees:
            return "against the rules, and without a time: it may be older than the network file"
        if answered and failed:
            return "answered at one time or from one port, and not at another: look at when"
        if passed and denied and not self.as_ruled:
            return "passed at one time or place, denied at another: look at when and where"
        if self.walk.verdict == PARTLY:
            return "it rests on the client port"
        if self.walk.verdict == UNKNOWN:
            return "the rules cannot tell, since a gate is not known: what was seen is all there is"
        return (
            self._of_allowed(answered, denied) if self.walk.verdict == ALLOWED else self._of_stopped(answered, denied)
        )

    def _of_allowed(self, answered: bool, denied: bool) -> str:
        came_back = self.records[ANSWERED] + self.records[ARRIVED] > 0
        refused, silent = self.records[REFUSED] > 0, self.records[SILENT] > 0
        if answered and denied:
            return "denied where the probe was not"
        if answered and (refused or silent):
            how = "refused" if refused else "not answered"
            return f"answered to the probe, and {how} for others: look at when, and at the service"
        if answered:
            return f"{ALL_AGREE}: it works"
        if denied:
            return "a filter stops it that the rules do not have there: they are not what is in force"
        if self.probes[REFUSED] and came_back:
            return "answered for others, refused to the probe: look at when, and at where the probe was sent from"
        if self.probes[REFUSED]:
            return "it arrives and is refused: look at the service"
        if came_back:
            return "answered for others, not for the probe: look at where the probe was sent from"
        return "the log has it on its way, and nothing came back: look behind the observation point and at the way back"

    def _of_stopped(self, answered: bool, denied: bool) -> str:
        if self.is_inventory and not self.disagrees:
            return "it gets through the filters, as the rules say: the inventory is out of date"
        if answered and denied:
            return "denied for others, answered to the probe"
        if answered and self.leaked:
            return "both saw it get through: a leak"
        if answered:
            return "the probe was answered: a leak; the log has it on its way where it was taken"
        keeps_silent = self.walk.signal == SILENT and self.walk.signal_known
        if denied and self.is_elsewhere:
            return "it is stopped, and not where the rules stop it: something else does"
        if denied and self.probes[REFUSED] and keeps_silent:
            return "denied for others, as the rules say, and refused to the probe: something else stops that"
        if denied:
            return f"{ALL_AGREE}: it is stopped"
        if self.leaked:
            return "the log saw it pass a filter that stops it by the rules, the probe was not answered: a leak so far"
        if (self.probes[REFUSED] or self.records[REFUSED]) and keeps_silent:
            return "refused, where the rule that stops it keeps silent: something else stops it"
        if self.probes[REFUSED] and self.records[REFUSED] and self.walk.signal == REFUSED:
            return f"{ALL_AGREE}: it is refused"
        what = "refused" if self.probes[REFUSED] else "not answered"
        return f"on its way where the log was taken, and {what}: as the rules say, stopped further on"


@dataclass(frozen=True, slots=True)
class _Asked:
    """What is the same traffic: the ends by name, and what the rules say of it. A machine is asked by its own address
    or by its public one, a client by several ports, and the rules may treat these in different ways."""

    source: str
    destination: str
    verdict: str
    signal: str

    @classmethod
    def of(cls, summary: Summary, walk: Walk, verdict: str | None = None) -> _Asked:
        directory, flow = summary.directory, walk.flow
        owner = directory.public_owner(flow.target)
        arrived = owner.address(4) if owner is not None else flow.target
        target = arrived if arrived is not None else flow.target
        verdict = verdict or walk.verdict
        signal = "" if verdict == PARTLY else walk.signal
        return cls(directory.end_name(flow.source.address), directory.end_name(target), verdict, signal)


def side_by_side(summary: Summary) -> list[Side]:
    """The traffic that both kinds of evidence speak of, in the order of the groups.

    Flow records are of the same traffic as a probe where the ends have the same names, the rules do not tell the
    services apart, and say the same of both. Of a probe that is `partly` let through they may be from any client port.
    """
    rows = summary.rows()
    is_flow = rows.column("is_flow") == 1
    probed: dict[_Asked, dict[Service, Side]] = {}
    order: dict[int, int] = {}
    for place, group in zip(np.flatnonzero(~is_flow).tolist(), rows.where(~is_flow), strict=True):
        walk = group.finding.walk
        if walk is not None:
            asked, service = _Asked.of(summary, walk), walk.flow.service
            sides = probed.setdefault(asked, {})
            side = sides.setdefault(service, Side(asked.source, asked.destination, str(service), walk))
            side.probes[group.concluded.observed] += group.count
            side.note(group.concluded)
            order.setdefault(id(side), place)
    ends = rows.numbers_of({name for asked in probed for name in (asked.source, asked.destination)})
    is_between = np.isin(rows.column("source"), ends) & np.isin(rows.column("destination"), ends)
    pairs = {frozenset((asked.source, asked.destination)) for asked in probed}
    chosen = is_between & is_flow if probed else np.zeros(len(rows), dtype=np.bool_)
    for place, group in zip(np.flatnonzero(chosen).tolist(), rows.where(chosen), strict=True):
        if frozenset((group.source, group.destination)) in pairs:
            for side in _sides_of(summary, probed, group):
                side.records[group.concluded.observed] += group.count
                side.leaked |= group.concluded.status == LEAK
                side.as_ruled &= group.concluded.status == AGREE
                side.is_elsewhere &= group.concluded.is_elsewhere or group.concluded.observed != DENIED
                side.note(group.concluded)
                order[id(side)] = min(order[id(side)], place)
    found = [side for sides in probed.values() for side in sides.values() if side.records]
    _tell_apart(found)
    return sorted(found, key=lambda side: order[id(side)])


def _tell_apart(sides: list[Side]) -> None:
    """Note of traffic of one name, of which the rules say several things, what that rests on."""
    alike: dict[tuple[str, str, str], list[Side]] = {}
    for side in sides:
        alike.setdefault((side.source, side.destination, side.service), []).append(side)
    for each in alike.values():
        flows = [side.walk.flow for side in each]
        if len(each) > 1:
            by_target = len({flow.target for flow in flows}) > 1
            by_source = len({flow.source.address for flow in flows}) > 1
            rests_on = "the address that is asked" if by_target else "the sender's address"
            for side in each:
                side.rests_on = rests_on if by_target or by_source else "the client port"


def _sides_of(summary: Summary, probed: dict[_Asked, dict[Service, Side]], group: FindingGroup) -> list[Side]:
    """The probed traffic that a group of flow records is of: of several services that the rules do not tell apart, all
    that were met."""
    walk = group.finding.walk
    if walk is None:
        return []
    own, (low, high) = walk.flow.service, group.met or (0, -1)
    for asked in (_Asked.of(summary, walk), _Asked.of(summary, walk, PARTLY)):
        found = [
            side for service, side in probed.get(asked, {}).items() if service == own or low <= service.number <= high
        ]
        if found:
            return found
    return []
