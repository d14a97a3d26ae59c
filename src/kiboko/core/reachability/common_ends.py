"""The same ends as two spaces have them, where either tells apart what the other does not."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence

from kiboko.core.header.addresses import Address
from kiboko.core.queries.members import Member
from kiboko.core.reachability.space import Space, SpaceEnd


def common_ends(
    spaces: tuple[Space, Space], ends: tuple[Sequence[SpaceEnd], Sequence[SpaceEnd]]
) -> list[tuple[SpaceEnd, SpaceEnd]]:
    """The ends of one side and family that both spaces have, each as either has it: machines by name and address;
    addresses as far as neither tells them apart."""
    machines = [machines_of(some, space) for some, space in zip(ends, spaces, strict=True)]
    pairs = [(end, machines[1][key]) for key, end in machines[0].items() if key in machines[1]]
    pieces = [pieces_of(some) for some in ends]
    alike: dict[tuple[int, int], tuple[SpaceEnd, SpaceEnd, list[Member]]] = {}
    for span, (end, member) in pieces[0].items():
        if span in pieces[1]:
            other, _ = pieces[1][span]
            alike.setdefault((id(end), id(other)), (end, other, []))[2].append(member)
    for end, other, members in alike.values():
        some = tuple(members)
        first = members[0].low
        assert first is not None
        one, two = (dataclasses.replace(each, members=some, atom=space.layout.addresses.atom(first))
                    for each, space in zip((end, other), spaces, strict=True))  # fmt: skip
        pairs.append((one, two))
    return pairs


def machines_of(ends: Sequence[SpaceEnd], space: Space) -> dict[tuple[str | None, Address, bool], SpaceEnd]:
    """Those that are machines, by their name and address, and whether that is a further one."""
    return {(end.instance, space.layout.addresses.first(end.atom), end.is_further): end
            for end in ends if end.members[0].low is None}  # fmt: skip


def pieces_of(ends: Sequence[SpaceEnd]) -> dict[tuple[Address, Address], tuple[SpaceEnd, Member]]:
    """Those that are addresses, by the first and the last of each of their ranges."""
    return {(member.low, member.high): (end, member) for end in ends for member in end.members
            if member.low is not None and member.high is not None}  # fmt: skip
