"""What a question about some ends is about: see `kiboko.core.tables.subject`."""

from __future__ import annotations

from collections.abc import Sequence

from kiboko.core.header.addresses import Address, AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.members import Member
from kiboko.core.tables.reply_filters import asked_of_replies
from kiboko.core.tables.subject import Subject, answers_to, client_ports, seen_at_gates

_MANY = 2_000
"""As many ends are all that any rule is about, more or less: they are not looked for in each of its peers."""


def subject_of(
    ends: Ends, services: RangeSet, ports: RangeSet | None, senders: Sequence[Member] | None = None,
    receivers: Sequence[Member] | None = None, filters: frozenset[str] = frozenset(), with_refusals: bool = False,
) -> Subject:  # fmt: skip
    """The subject of a question.

    Parameters
    ----------
    services : service numbers, as `resolve_service` gives them
    ports : the client ports asked about; None for all that anybody uses
    senders, receivers : who may send, and who may be sent to; None for anybody
    filters : those that another version of the network asks about what comes back
    with_refusals : whether it matters if refusals get back as well
    """
    answers = answers_to([ports] if ports else client_ports(ends.topology))
    asked = asked_of_replies(ends.walker.ground) | filters
    return Subject(services, answers, asked, _addresses(ends, senders), _addresses(ends, receivers), with_refusals)


def _addresses(ends: Ends, members: Sequence[Member] | None) -> AddressSet | None:
    """All addresses that packets of some may have, of machines those of all their interfaces; None for very many."""
    if members is None or len(members) > _MANY:
        return None
    borne: list[Address] = []
    ranges: dict[int, list[tuple[int, int]]] = {4: [], 6: []}
    for each in members:
        if each.low is not None and each.high is not None:
            ranges[each.low.family].append((each.low.value, each.high.value))
        else:
            machine = ends.topology.instances[each.instance] if each.instance is not None else None
            for interface in machine.interfaces if machine is not None else each.interfaces:
                borne += [*interface.addresses, *([interface.public] if interface.public is not None else [])]
    spans = AddressSet(RangeSet.of(ranges[4]), RangeSet.of(ranges[6]))
    return seen_at_gates(ends.walker.ground, spans | AddressSet.of_addresses(borne))
