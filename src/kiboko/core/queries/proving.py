"""What a proposed change does to a flow: the walk made again with the change in place."""

from __future__ import annotations

import dataclasses
import itertools

from kiboko.core.queries.proposed import Proposal
from kiboko.core.walk.gates import Row
from kiboko.core.walk.walk import Walk, Walker


def walked_again(walker: Walker, walk: Walk) -> Walk:
    """The same question asked of a changed network. A sender from outside uses a receiver's public address, where it
    has one now (S1)."""
    topology = walker.topology
    flow, directory = walk.flow, walker.directory
    source = directory.endpoint(flow.source.address, flow.source.name)
    receiver, target = directory.interface_at(flow.target), flow.target
    if source.outside is not None and receiver is not None and receiver.public is not None and target.family == 4:
        network = topology.subnets[receiver.subnet].network
        if directory.tunnel(network, source.outside.name) is None:
            target = receiver.public
    return walker.walk(source, target, flow.service, flow.source_ports)


def is_shut(walk: Walk, row: Row) -> bool:
    """Whether a gate that stops a flow, as a row of an earlier walk tells, stops it in this one."""
    return any(each.stops and gate_of(each) == gate_of(row) for each in walk.rows)


def opens(before: Walk, after: Walk, row: Row) -> bool:
    """Whether a gate that stops a flow in one walk lets it pass in the other: a filter that is met several times, as on
    the way out and back in, once more often; anything else whenever it is met."""
    left = _times_shut(after, row)
    return left < _times_shut(before, row) and (not left or bool(row.filters))


def _times_shut(walk: Walk, row: Row) -> int:
    """How often a gate is met and stops a flow; what it does to several ranges of client ports is one time."""
    met = itertools.groupby(walk.rows, gate_of)
    return sum(any(each.stops for each in rows) for gate, rows in met if gate == gate_of(row))


def gate_of(row: Row) -> tuple[object, ...]:
    """What is equal for the same gate in two walks."""
    return (row.direction, row.gate, row.at, row.filters)


def tried(walker: Walker, walk: Walk, row: Row, proposal: Proposal) -> Proposal:
    """The proposal with what the walk says of the network as it is with this change alone."""
    if proposal.edit is None:
        return proposal
    after = walked_again(walker.on(proposal.edit(walker.topology)), walk)
    is_open = opens(walk, after, row)
    return dataclasses.replace(proposal, proved=is_open, verdict_after=after.verdict if is_open else None)
