"""What `show` tells of an interface, held against walks: whatever decides there is shown, as of this traffic too."""

import itertools
import os
import random
import unittest

from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, TCP, UDP, Service
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.inspection import applied_rules, rules_for_replies
from kiboko.core.walk.walk import Walker
from tests.helpers import load
from tests.wider_networks import any_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "8"))


class Inspection(unittest.TestCase):
    def test_what_decides_in_a_walk_is_among_the_rules_of_its_end_and_is_for_this_traffic(self):
        decided = 0
        for seed in range(NETWORKS):
            chance, walker = random.Random(seed), Walker(load(any_network(seed)))
            ends, topology = Ends(walker), walker.topology
            names = chance.sample(list(topology.instances), min(5, len(topology.instances)))
            services = self.services(topology, chance)
            for near, far in itertools.product(names, chance.sample([*topology.instances, *topology.outsides], 4)):
                for source, target in ((near, far), (far, near)):
                    for walk in self.walks(ends, source, target, services):
                        for is_sender in (True, False):
                            decided += self.held(walker, walk, is_sender, f"{seed}: {source} to {target}")
        self.assertGreater(decided, 100 * NETWORKS)

    def services(self, topology, chance):
        edges = {edge for each in topology.filters.values() for rule in each.every_rule()
                 for low, high in rule.services or () for edge in (low, high + 1)}  # fmt: skip
        known = [Service(edge >> 16, edge & 0xFFFF) for edge in sorted(edges) if edge >> 16 in (TCP, UDP, ICMP, ICMP6)]
        return chance.sample(known, min(6, len(known)))

    def walks(self, ends, source, target, services):
        if source == target:
            return
        members = (ends.resolve(name).members[:2] for name in (source, target))
        for (one, other), family in itertools.product(itertools.product(*members), (4, 6)):
            for pair in itertools.islice(ends.pairs(one, other, family), 2):
                for service in services:
                    if service.protocol != {4: ICMP6, 6: ICMP}[family]:
                        yield ends.walk_pair(pair, service)

    def held(self, walker, walk, is_sender, told):
        """How many gates of the sender's or the receiver's side were decided by a rule, each of which is shown."""
        end = walk.flow.source if is_sender else walker.directory.endpoint(walk.flow.target)
        own, found = end.interface, 0
        if own is None:
            return 0
        zone = walker.topology.subnets[own.subnet].zone
        for row in walk.rows:
            way = "out" if is_sender == (row.direction == "forward") else "in"
            here, there = (row.step.source, row.step.destination)[:: 1 if way == "out" else -1]
            is_crossing = row.gate == "zone" and row.at.partition(">")[:: 2 if way == "out" else -2][0] == zone
            at_it = row.gate.endswith(f"-{way}") and row.at in (own.name, own.subnet, own.instance)
            if (
                row.filter not in walker.topology.filters
                or row.rule is None
                or row.tracked
                or here not in own.addresses
            ):
                continue
            if not (at_it or is_crossing):
                continue
            rules = applied_rules if row.direction == "forward" else rules_for_replies
            shown = [each for each in rules(walker, own, way) if (each.gate, each.filter.name) == (row.gate, row.filter)
                     and row.at in each.where.split(", ")
                     and (each.rule.name if each.rule else "otherwise") == row.rule]  # fmt: skip
            service, peers = RangeSet.one(walk.flow.service.number), AddressSet.of_addresses([there])
            ports = walk.flow.source_ports or RangeSet.span(0, 65535)
            is_told = [
                each for each in shown if each.is_for(AddressSet.of_addresses([here]), way)
                and (each.concerns(service, peers, way) if row.direction == "forward"
                     else each.concerns_reply(service, ports, peers, way))
            ]  # fmt: skip
            self.assertTrue(
                is_told, (told, str(walk.flow.service), row.direction, row.gate, row.at, row.filter, row.rule)
            )
            found += 1
        return found


if __name__ == "__main__":
    unittest.main()
