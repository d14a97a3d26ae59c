"""What was recorded of the very traffic that somebody asks about: of one ticket, everything that is known."""

from __future__ import annotations

from dataclasses import dataclass

from kiboko.batch.confirming import FlowsRead
from kiboko.batch.probes_read import ProbesRead
from kiboko.core.evidence.asking import Asker, Asking, Beside, addresses_of
from kiboko.core.evidence.comparison import AGREE, BREAK, LEAK, Comparison, Conclusion
from kiboko.core.evidence.finding_groups import FindingGroup
from kiboko.core.evidence.probed import ProbeAsked
from kiboko.core.evidence.summary import Summary
from kiboko.core.header.addresses import Address
from kiboko.core.header.ranges import RangeSet
from kiboko.core.queries.members import End
from kiboko.core.records.group_sums import Sum
from kiboko.core.records.records import ProbeRecord
from kiboko.core.walk.walk import Walker

CONTRADICTED = "the network does not do what the rules say"
INVENTORY = "the filters do what the rules say, and the inventory is out of date"
CONFIRMED = "the network does what the rules say"
ELSEWHERE = "it fails, and not as the rules say: something else stops it"
OPEN = "nothing that settles it"


@dataclass(frozen=True, slots=True)
class Question:
    """Who asked to send to whom, on which services, from which client ports (any where None). Of a single pair
    `addresses` are those of its ends that the verdict is about, None of sets."""

    sender: End
    receiver: End
    services: RangeSet
    ports: RangeSet | None = None
    addresses: tuple[Address, Address] | None = None


@dataclass(frozen=True, slots=True)
class Ticket:
    """What evidence says of one question.

    `groups` are the findings, the worst first; `read` sums up all the flow records that were looked through (None where
    no log was given), `beside` counts those of them that are near this traffic and not of it, `left_out` those that
    were not of the time asked for; `probes` how many probe records were looked through, `probes_further` how many of
    those at further addresses of the ends. `sent` is what came of a probe sent just now, `aside` why it says nothing of
    this traffic, if so.
    """

    groups: tuple[FindingGroup, ...]
    read: Sum | None
    beside: Beside
    left_out: int
    probes: int | None
    caveats: tuple[str, ...]
    sent: FindingGroup | None = None
    aside: str | None = None
    probes_further: int = 0

    @property
    def _telling(self) -> list[Conclusion]:
        """What everything comes to that says something of the question."""
        sent = [self.sent] if self.sent is not None and self.aside is None else []
        return [group.concluded for group in (*self.groups, *sent)]

    @property
    def is_contradicted(self) -> bool:
        """Whether anything that was seen contradicts the rules."""
        return any(each.status in (LEAK, BREAK) for each in self._telling)

    @property
    def comes_to(self) -> str:
        """What everything that was seen comes to, beside the rules."""
        if self.is_contradicted:
            return CONTRADICTED
        proved = [each for each in self._telling if each.status == AGREE and not each.as_far_as_seen]
        if any(each.is_inventory for each in proved):
            return INVENTORY
        if any(not (each.is_elsewhere or each.different_signal) for each in proved):
            return CONFIRMED
        return ELSEWHERE if proved else OPEN


def ticket_of(
    walker: Walker,
    question: Question,
    probes: ProbesRead | None,
    flows: FlowsRead | None,
    sent: ProbeRecord | None = None,
) -> Ticket:
    """What logs and probes say of a question.

    Parameters
    ----------
    probes : files of probe records, None for none
    flows : flow logs, None for none
    sent : a probe sent just now, None for none

    Raises
    ------
    InputError : for a file that cannot be read, or of which not one record can
    """
    comparison, summary = Comparison(walker), Summary(walker.directory)
    asking = _asking(walker, question)
    caveats: list[str] = []
    probes_further = 0
    wide = asking.widened()

    def is_mine(asked: ProbeAsked) -> bool:
        nonlocal probes_further
        mine = is_asked(asking, asked)
        probes_further += not mine and is_asked(wide, asked)
        return mine

    looked = None
    if probes is not None:
        caveats.extend(probes.taken(comparison, summary, is_mine))
        looked = probes.used
    read, beside, left_out = None, Beside(), 0
    if flows is not None:
        judge, told = flows.judged(comparison, summary, asking)
        caveats.extend(told)
        read, beside = Sum(judge.read - judge.left_out), judge.beside
        left_out = judge.left_out
        for each, _ in judge.coverage.points.values():
            read.add(0, 0, 0, each.first, each.last)
    now, aside = _sent(comparison, asking, sent) if sent is not None else (None, None)
    return Ticket(
        tuple(summary.rows()), read, beside, left_out, looked, tuple(caveats), now, aside,
        probes_further,
    )  # fmt: skip


def _asking(walker: Walker, question: Question) -> Asking:
    """The traffic asked about. Of a single pair a name means one address of each machine, and what is recorded of the
    others is counted only: the verdict on the one says nothing of them."""
    wide = (addresses_of(walker.topology, question.sender.members, True),
            addresses_of(walker.topology, question.receiver.members, False))  # fmt: skip
    asker = Asker(walker.directory)
    if question.addresses is None:
        return asker.by_name(*wide, question.services, question.ports)
    return asker.of_pair(*question.addresses, wide, question.services, question.ports)


def is_asked(asking: Asking, asked: ProbeAsked) -> bool:
    """Whether a probe is of the traffic asked about."""
    port = asked.ports.lowest if asked.ports is not None else None
    return asking.asks_of(asked.sources[0].address, asked.target, asked.service.number, port)


def _sent(comparison: Comparison, asking: Asking, record: ProbeRecord) -> tuple[FindingGroup | None, str | None]:
    """What came of a probe sent just now, and why it says nothing of the traffic asked about, if so."""
    asked = comparison.probes.of(record)
    group = Summary(comparison.walker.directory).add(record, comparison.probe(record))
    if is_asked(asking, asked):
        return group, asked.doubt
    if is_asked(asking.widened(), asked):
        source = asked.sources[0].address
        return group, f"it went from {source} to {asked.target}, which this verdict is not about"
    return group, f"it was sent by {record.source}, which is not who was asked about"
