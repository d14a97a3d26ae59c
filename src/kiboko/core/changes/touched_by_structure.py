"""What a change of machines, subnets, groups, routes and crossings touches."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from kiboko.core.changes.sameness import is_same
from kiboko.core.changes.sides import ALL, Chosen, Touching, Way, carriers_of, crossings_of, within
from kiboko.core.header.addresses import AddressSet
from kiboko.core.network.model import Topology
from kiboko.core.network.peers import Peer
from kiboko.core.queries.ends import Ends


class OfStructure:
    """What a change of machines, subnets, groups, routes and crossings touches. `ends` has the addresses of which one
    is of each such pair, None for all."""

    def __init__(self, old: Ends, new: Ends, named: Mapping[str, Sequence[str]]) -> None:
        """`named` has what is not the same in both versions, by section."""
        self._versions, self._way, self._named = (old, new), Way(old, new), named
        self.is_everything = False
        self.parts: list[Touching] = []
        self.ends: list[AddressSet | None] = []
        self._of_ends()
        self._of_peers()
        self._of_routes()
        self._of_crossings()

    def _topologies(self) -> tuple[Topology, Topology]:
        return self._versions[0].topology, self._versions[1].topology

    def _note(self, one: Chosen, other: Chosen = ALL) -> None:
        """Pairs of which one end is of these, and the other of those."""
        self.parts += [(one, other)] if one == other else [(one, other), (other, one)]

    def _of_ends(self) -> None:
        """Machines and subnets that are not as they were, and machines that carry other filters."""
        before, after = self._topologies()
        names = set(self._named.get("instances", ()))
        names |= {each.instance for each in self._versions[0].directory.interfaces()
                  if each.instance not in names and not self._carries_the_same(each.name)}  # fmt: skip
        machines = [topology.instances[name] for topology in (before, after) for name in names
                    if name in topology.instances]  # fmt: skip
        addresses = AddressSet.of_addresses(
            address for each in machines for interface in each.interfaces
            for address in (*interface.addresses, *((interface.public,) if interface.public is not None else ()))
        )  # fmt: skip
        subnets = set(self._named.get("subnets", ()))
        if not names and not subnets:
            return
        self.is_everything |= self._way.has(names | subnets)
        self._note(Chosen(frozenset(names | subnets)))
        if addresses:
            self._note(Chosen(None, addresses))
        self.ends += [addresses, self._addresses_in(subnets)]

    def _carries_the_same(self, interface: str) -> bool:
        """Whether an interface of both versions carries the same filters in both."""
        carried = []
        for ends in self._versions:
            found = ends.directory.interface(interface)
            assert found is not None  # its machine is the same in both
            carried.append(ends.walker.membership.filter_names_on(found))
        return carried[0] == carried[1]

    def _addresses_in(self, subnets: Iterable[str]) -> AddressSet:
        known = (topology.subnets[name] for topology in self._topologies() for name in subnets
                 if name in topology.subnets)  # fmt: skip
        return AddressSet.of_prefixes(block for each in known for block in each.blocks)

    def _of_peers(self) -> None:
        """Whom rules mean that say the same, and do not mean the same: members of a group that is another one."""
        before, after = self._topologies()
        memberships = [ends.walker.membership for ends in self._versions]
        shared = [each.address for each in before.gateways.values() if each.address is not None]
        known: dict[Peer, AddressSet] = {}
        meant: dict[AddressSet, set[str]] = {}
        for name in before.filters.keys() & after.filters.keys():
            for rule in (*before.filters[name].every_rule(), *after.filters[name].every_rule()):
                for peer in (rule.sources, rule.destinations):
                    if peer is None:
                        continue
                    if peer not in known:
                        one, other = (each.peer_addresses(peer) or AddressSet() for each in memberships)
                        known[peer] = AddressSet() if one == other else (one - other) | (other - one)
                    if known[peer]:
                        meant.setdefault(known[peer], set()).add(name)
        for addresses, filters in meant.items():
            is_anybody = any(each in addresses for each in shared)
            self._of_meant(None if is_anybody else addresses, frozenset(filters))

    def _of_meant(self, addresses: AddressSet | None, filters: frozenset[str]) -> None:
        """Pairs of which one end has one of some addresses, and that some filters judge."""
        self.ends.append(addresses)
        who = Chosen(None, addresses)
        carriers = frozenset(name for ends in self._versions for name in carriers_of(ends, filters))
        if self._way.has(carriers):
            self._note(who)
            return
        if carriers:
            self._note(Chosen(carriers), who)
            self._note(Chosen(carriers, addresses))
        for pair in crossings_of(self._versions, filters):
            for sender, receiver in self._way.across(pair):
                for one, other in ((within(sender, addresses), receiver), (sender, within(receiver, addresses))):
                    self._note(one, other)

    def _of_routes(self) -> None:
        """Routes that only one version has: from the subnets that ask the table, to what the routes lead to."""
        before, after = self._topologies()
        shared = [each.address for each in before.gateways.values() if each.address is not None]
        for name in self._named.get("route tables", ()):
            entries = [each.route_tables[name].entries if name in each.route_tables else () for each in (before, after)]
            differ = [each.to for some, others in (entries, entries[::-1]) for each in some
                      if not any(is_same(each, other) for other in others)]  # fmt: skip
            subnets = {each.name for topology in (before, after) for each in topology.subnets.values()
                       if each.route_table == name}  # fmt: skip
            if not subnets:
                continue
            self.is_everything |= self._way.has(subnets)
            led = AddressSet.of_prefixes(differ)
            is_anybody = any(each in led for each in shared)  # what comes back to a shared address is for anybody
            self._note(Chosen(frozenset(subnets)), Chosen(None, None if is_anybody else led))
            self.ends.append(self._addresses_in(subnets))

    def _of_crossings(self) -> None:
        """Pairs of zones between which another filter judges, or none any more."""
        judged = [{(each.source, each.destination): each.filter for each in topology.crossings}
                  for topology in self._topologies()]  # fmt: skip
        for pair in dict.fromkeys((*judged[0], *judged[1])):
            if judged[0].get(pair) != judged[1].get(pair):
                for sender, receiver in self._way.across(pair):
                    self._note(sender, receiver)
                self.ends.append(None)
