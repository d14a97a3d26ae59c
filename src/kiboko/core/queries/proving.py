"""What a proposed change does to a flow: the walk made again with the change in place."""

from __future__ import annotations

import dataclasses

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


def gate_of(row: Row) -> tuple[object, ...]:
    """What is equal for the same gate in two walks."""
    return (row.direction, row.gate, row.at, row.filters)


def tried(walker: Walker, walk: Walk, row: Row, proposal: Proposal) -> Proposal:
    """The proposal with what the walk says of the network as it is with this change alone."""
    if proposal.edit is None:
        return proposal
    after = walked_again(walker.on(proposal.edit(walker.topology)), walk)
    is_open = not is_shut(after, row)
    return dataclasses.replace(proposal, proved=is_open, verdict_after=after.verdict if is_open else None)
