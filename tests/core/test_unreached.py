"""What machines listen to and nobody reaches, held against walks from everybody."""

import os
import unittest

from kiboko.core.audit.listening import unreached
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import SCTP, TCP, UDP, Service
from kiboko.core.queries.ends import Ends
from kiboko.core.reachability.space import Space
from kiboko.core.walk.walk import Walker
from tests.helpers import load
from tests.wider_networks import any_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "12"))
CUT_OFF = 1064
"""The seed of a network of which the walk lets nobody reach what one machine listens to, for its replies."""


class Unreached(unittest.TestCase):
    def test_a_walk_reaches_what_is_not_told_and_none_what_is(self):
        counted = {True: 0, False: 0}
        for seed in (CUT_OFF, *range(NETWORKS)):
            ends = Ends(Walker(load(any_network(seed))))
            told = unreached(ends)
            senders = self.senders(ends)
            for instance in ends.topology.instances.values():
                for service in self.heard(ends, instance) if instance.running else ():
                    is_reached = any(self.reaching(ends, senders, instance, service))
                    is_told = service.number in told.get(instance.name, RangeSet())
                    self.assertNotEqual(is_told, is_reached, (seed, instance.name, str(service)))
                    counted[is_told] += 1
        self.assertGreater(min(counted.values()), NETWORKS // 4, counted)

    def senders(self, ends):
        """One of each kind of sender, by family."""
        space = Space(ends, RangeSet.of([(TCP << 16, (UDP << 16) + 65535)]))
        members = ends.resolve("any").members
        return {family: [each.members[0] for each in space.ends_of(members, family, True)] for family in (4, 6)}

    def heard(self, ends, instance):
        """What others could reach of what it listens to, at each edge of a rule."""
        edges = {edge for each in ends.topology.filters.values() for rule in each.every_rule()
                 for low, high in rule.services or () for edge in (low, high + 1)}  # fmt: skip
        addresses = [address for each in instance.interfaces for address in each.addresses]
        for listener in instance.listens or ():
            for low, high in listener.services if any(map(listener.accepts, addresses)) else ():
                for number in sorted({low, high} | {edge for edge in edges if low <= edge <= high})[:6]:
                    if number >> 16 in (TCP, UDP, SCTP):
                        yield Service(number >> 16, number & 0xFFFF)

    def reaching(self, ends, senders, instance, service):
        """Of each pair of a sender and the machine, whether an answer comes back."""
        receiver = ends.resolve(instance.name).members[0]
        for family, mine in senders.items():
            for member in mine:
                sender = ends.resolve(str(member.low)).members[0] if member.low is not None else member
                for pair in ends.pairs(sender, receiver, family) if member.instance != instance.name else ():
                    if pair.usable and pair.source.address.family == family:
                        yield bool(ends.walk_pair(pair, service).answered)


if __name__ == "__main__":
    unittest.main()
