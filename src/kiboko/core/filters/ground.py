"""What can be worked out from a network once, before any flow is asked about."""

from __future__ import annotations

from kiboko.core.filters.discovery import Discovery
from kiboko.core.filters.filters import FilterJudge
from kiboko.core.network.directory import Directory
from kiboko.core.network.membership import Membership
from kiboko.core.network.model import Filter, Topology


class Ground:
    """The directory, the memberships and the filter judge of one topology, and its crossings by zones."""

    def __init__(self, topology: Topology, before: Ground | None = None) -> None:
        """`before` is that of the topology that this one was changed from, with which it shares what is the same."""
        self.topology = topology
        if before is None:
            self.directory = Directory(topology)
            self.membership = Membership(self.directory)
            self.judge = FilterJudge(self.membership)
        else:
            self.directory = before.directory.of_changed(topology)
            self.membership = before.membership.of_changed(self.directory)
            self.judge = FilterJudge(self.membership, before.judge)
        self.discovery = Discovery()
        self._empty_members: dict[tuple[str, str], tuple[str, ...]] = {}
        self._crossings = {(c.source, c.destination): c for c in topology.crossings}

    def empty_members(self, name: str, way: str) -> tuple[str, ...]:
        """What has to be said where a filter is asked: which members of its rules' groups have no address."""
        if (name, way) not in self._empty_members:
            self._empty_members[name, way] = tuple(
                f"{member} is in group {group} (rule {name}/{rule.name}) but has no address,"
                " so the rule does not match it"
                for rule in self.topology.filters[name].direction(way) or ()
                for peer in (rule.sources, rule.destinations)
                for group, member in self.membership.without_address(peer)
            )
        return self._empty_members[name, way]

    def crossing_filter(self, source: str, destination: str) -> Filter | None:
        """The filter of a crossing; None where none is listed and the zone defaults hold."""
        crossing = self._crossings.get((source, destination))
        return self.topology.filters[crossing.filter] if crossing else None
