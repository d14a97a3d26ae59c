"""What was recorded of the traffic that a verdict is about, in the few lines below it."""

from __future__ import annotations

from typing import Any

from kiboko.batch.ticket import Ticket
from kiboko.core.evidence.finding_groups import FindingGroup
from kiboko.core.records.flow_table import NO_TIME
from kiboko.core.records.records import ANSWERED, ARRIVED, DENIED, PASSED, REFUSED, SEEN, SILENT, ProbeRecord
from kiboko.core.wording import counted
from kiboko.views.output import Grid, Output
from kiboko.views.text import iso, network_option
from kiboko.views.timeline_view import iso_of, time_text

_MOST = 4
_WORDS = {
    ANSWERED: "it was answered", ARRIVED: "it arrived", REFUSED: "it was refused", SILENT: "no answer",
    "something": "something came back",
}  # fmt: skip


def show_ticket(ticket: Ticket, out: Output, is_set: bool = False) -> None:
    """What was seen, the worst first, and how it compares; or that nothing was, and where it was looked for."""
    sent = [ticket.sent] if ticket.sent is not None else []
    grid = Grid(["", "last", "seen", "beside the rules", "of"], wide=("seen", "beside the rules", "of"))
    for group in sent:
        style = "unsure" if ticket.aside else group.concluded.status
        compared = f"says nothing of this: {ticket.aside}" if ticket.aside else _compared(group)
        grid.add(["sent now", time_text(group.latest), _seen(group), compared, _of(group, is_set)], style)
    for group in ticket.groups[:_MOST]:
        style = "quiet" if group.concluded.as_far_as_seen else group.concluded.status
        grid.add(["recorded" if group.evidence == "flow" else "probed", time_text(group.latest), _seen(group),
                  _compared(group), _of(group, is_set)], style)  # fmt: skip
    if sent or ticket.groups:
        out.heading(f"What was seen of it: {ticket.comes_to}")
        out.grid(grid)
    more = len(ticket.groups) - _MOST
    if more > 0:
        out.line(f"  and {counted(more, 'more line')}, all in --json", "quiet")
    if not ticket.groups and (ticket.read is not None or ticket.probes is not None):
        out.line(f"Nothing of it was recorded: {_looked_at(ticket)}.", "mark")
    elif ticket.groups:
        out.line(f"  of {_looked_at(ticket)}", "quiet")
    elsewhere = [counted(ticket.beside.further, "flow record")] if ticket.beside.further else []
    elsewhere += [counted(ticket.probes_further, "probe")] if ticket.probes_further else []
    if elsewhere:
        out.line(f"  {' and '.join(elsewhere)} of it at another address of the sender or the receiver, which"
                 " this verdict is not about: ask for it by that address", "quiet")  # fmt: skip
    if ticket.beside.behind:
        out.line(f"  {counted(ticket.beside.behind, 'flow record')} of such traffic from behind a shared address: who"
                 " sent it, this sender or another one behind it, is not recorded", "quiet")  # fmt: skip


def _looked_at(ticket: Ticket) -> str:
    """How much was looked through, and from when it is."""
    told = []
    if ticket.read is not None:
        span = ""
        if ticket.read.first != NO_TIME:
            span = f" from {time_text(ticket.read.first)} to {time_text(ticket.read.last)}"
        between = f", {ticket.beside.other:,} of other traffic between the same ends" if ticket.beside.other else ""
        out = f", {ticket.left_out:,} left out for their time" if ticket.left_out else ""
        told.append(f"{counted(ticket.read.records, 'flow record')}{span}{between}{out}")
    if ticket.probes is not None:
        told.append(counted(ticket.probes, "probe"))
    return " and ".join(told) + " looked through"


def _seen(group: FindingGroup) -> str:
    """What became of it, as far as was seen."""
    concluded, example = group.concluded, group.example
    if isinstance(example, ProbeRecord):
        return f"{concluded.observed} in {example.rtt_ms:.1f} ms" if example.rtt_ms is not None else concluded.observed
    if concluded.observed == DENIED and concluded.at is not None:
        return f"denied at {concluded.at}"
    if concluded.observed in (PASSED, SEEN):
        passed = group.passed
        if passed:
            return f"{concluded.observed}, surely as far as {passed[-1].gate} at {passed[-1].at}"
    return _WORDS.get(concluded.observed, concluded.observed)


def _compared(group: FindingGroup) -> str:
    concluded = group.concluded
    status = f"{concluded.status} as far as seen" if concluded.as_far_as_seen else concluded.status
    return f"{status}: {concluded.why}"


def _of(group: FindingGroup, is_set: bool) -> str:
    """How much was seen of it; of sets, between whom and on what."""
    many = counted(group.conversations, "conversation") if group.evidence == "flow" else counted(group.count, "probe")
    return f"{many}, {group.source} to {group.destination}, {group.service}" if is_set else many


def ticket_json(ticket: Ticket, network: str) -> dict[str, Any]:
    """What was seen, as `evidence` of `check/1` and `check-set/1`, by a network file."""
    options = network_option(network)
    read = ticket.read
    return {
        "comes_to": ticket.comes_to if ticket.groups or ticket.sent else None,
        "flow_records": read.records if read is not None else None,
        "first": iso_of(read.first) if read is not None else None,
        "last": iso_of(read.last) if read is not None else None,
        "left_out": ticket.left_out,
        "other_records_between": ticket.beside.other,
        "records_at_other_addresses": ticket.beside.further,
        "records_behind_shared_address": ticket.beside.behind,
        "probes": ticket.probes,
        "probes_at_other_addresses": ticket.probes_further,
        "sent": {**_group_json(ticket.sent, options), "says_nothing_because": ticket.aside} if ticket.sent else None,
        "findings": [_group_json(group, options) for group in ticket.groups],
        "caveats": list(ticket.caveats),
    }


def _group_json(group: FindingGroup, options: str) -> dict[str, Any]:
    concluded = group.concluded
    return {
        "evidence": group.evidence, "source": group.source, "destination": group.destination, "service": group.service,
        "status": concluded.status, "as_far_as_seen": concluded.as_far_as_seen, "observed": concluded.observed,
        "seen": _seen(group), "why": concluded.why, "at": concluded.at,
        "conversations": group.conversations if group.evidence == "flow" else None, "records": group.count,
        "first": iso(group.first), "last": iso(group.last), "check": group.check_line() + options,
    }  # fmt: skip
