"""What was recorded of the very traffic that somebody asks about: of one ticket, everything that is known."""

from __future__ import annotations

import functools
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from kiboko.batch.confirming import FlowsRead, take_probes
from kiboko.core.evidence.asking import Asking, addresses_of, recorded_as
from kiboko.core.evidence.comparison import AGREE, BREAK, LEAK, Comparison, Conclusion
from kiboko.core.evidence.finding_groups import FindingGroup
from kiboko.core.evidence.summary import Summary
from kiboko.core.header.addresses import Address, parse_address
from kiboko.core.header.ranges import RangeSet
from kiboko.core.queries.members import End
from kiboko.core.records.group_sums import Sum
from kiboko.core.records.records import ProbeRecord
from kiboko.core.walk.walk import Walker
from kiboko.files.logs.chosen_files import without_copies


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
    no log was given), `between` how many of them are of other traffic between the same ends, `further` how many of this
    traffic are at addresses of theirs that the verdict is not about, `left_out` how many were not of the time asked
    for; `probes` how many probe records were looked through. `sent` is what came of a probe sent
    just now, `aside` why it says nothing of this traffic, if so.
    """

    groups: tuple[FindingGroup, ...]
    read: Sum | None
    between: int
    left_out: int
    probes: int | None
    caveats: tuple[str, ...]
    sent: FindingGroup | None = None
    aside: str | None = None
    further: int = 0

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
    def is_confirmed(self) -> bool:
        """Whether something that was seen proves that the network does what the rules say, and nothing else."""
        proved = any(each.status == AGREE and not each.as_far_as_seen for each in self._telling)
        return proved and not self.is_contradicted


def ticket_of(
    walker: Walker,
    question: Question,
    probes: Sequence[Path],
    flows: FlowsRead | None,
    sent: ProbeRecord | None = None,
    strict: bool = False,
) -> Ticket:
    """What logs and probes say of a question.

    Parameters
    ----------
    probes : files of probe records
    flows : flow logs, None for none
    sent : a probe sent just now, None for none

    Raises
    ------
    InputError : for a file that cannot be read, or of which not one record can
    """
    comparison, summary = Comparison(walker), Summary(walker.directory)
    asking = _asking(walker, question)
    caveats: list[str] = []
    looked = 0
    paths, copies = without_copies(probes)
    caveats.extend(copies)
    for path in paths:
        used, told = take_probes(path, strict, comparison, summary, functools.partial(is_asked, comparison, asking))
        looked += used
        caveats.extend(told)
    read, between, further, left_out = None, 0, 0, 0
    if flows is not None:
        judge, told = flows.judged(comparison, summary, asking)
        caveats.extend(told)
        read, between, further = Sum(judge.read - judge.left_out), judge.between, judge.further
        left_out = judge.left_out
        for each, _ in judge.coverage.points.values():
            read.add(0, 0, 0, each.first, each.last)
    now, aside = _sent(comparison, asking, sent) if sent is not None else (None, None)
    return Ticket(
        tuple(summary.rows()), read, between, left_out, looked if probes else None, tuple(caveats), now, aside,
        further,
    )  # fmt: skip


def _asking(walker: Walker, question: Question) -> Asking:
    """The traffic asked about. Of a single pair a name means one address of each machine, and what is recorded of the
    others is counted only: the verdict on the one says nothing of them."""
    wide = (addresses_of(walker.topology, question.sender.members, True),
            addresses_of(walker.topology, question.receiver.members, False))  # fmt: skip
    if question.addresses is None:
        return Asking(*wide, question.services, question.ports)
    asked = recorded_as(walker.directory, *question.addresses)
    return Asking(*asked, question.services, question.ports, (wide[0] - asked[0], wide[1] - asked[1]))


def is_asked(comparison: Comparison, asking: Asking, record: ProbeRecord) -> bool:
    """Whether a probe is of the traffic asked about. Raises UsageError where its ends are not known."""
    walk = comparison.walk_of_probe(record)
    ports, port = asking.ports, record.source_port
    return (
        walk.flow.source.address in asking.senders
        and walk.flow.target in asking.targets
        and walk.flow.service.number in asking.services
        and (ports is None or port is None or port in ports)
    )


def _sent(comparison: Comparison, asking: Asking, record: ProbeRecord) -> tuple[FindingGroup | None, str | None]:
    """What came of a probe sent just now, and why it says nothing of the traffic asked about, if so."""
    group = Summary(comparison.walker.directory).add(record, comparison.probe(record))
    if not is_asked(comparison, asking, record):
        return group, f"it was sent by {record.source}, which is not who was asked about"
    own = addresses_of(comparison.walker.topology, comparison.ends.resolve(record.source).members, True)
    if record.sent_from is not None and parse_address(record.sent_from) not in own:
        return group, f"it left from {record.sent_from}, which is no address of {record.source}"
    return group, None
