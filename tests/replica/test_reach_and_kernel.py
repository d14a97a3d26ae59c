"""What `reach` says held against real packets: in the replica of random networks, pair by pair."""

import os
import unittest

from kiboko.core.header.addresses import parse_address
from kiboko.core.header.services import parse_services
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.queries.members import Member
from kiboko.core.reachability.reach import ReachQuestion, reach
from kiboko.core.walk.walk import Walker
from kiboko.replica.trials import Choice
from kiboko.replica.verify import verify
from tests.core.test_reach import holds
from tests.helpers import load
from tests.namespaces import why_not
from tests.random_networks import random_network

NETWORKS = int(os.environ.get("KIBOKO_REACH", "3"))
PROBES = 200


@unittest.skipIf(why_not() is not None, why_not() or "")
class RealPackets(unittest.TestCase):
    def test_the_kernel_lets_through_what_reach_says_gets_through(self):
        for seed in range(100, 100 + NETWORKS):
            with self.subTest(seed=seed):
                topology = load(random_network(seed))
                ends = Ends(Walker(topology))
                lines = reach(ends, ReachQuestion(ends.resolve("any"), resolve_service("any", {}))).lines
                probes = verify(topology, Choice(most=PROBES, seed=seed)).probes
                held = sum(self.held(ends, lines, each) for each in probes)
                self.assertGreater(held, PROBES // 5)

    def held(self, ends, lines, record):
        """Hold one probe to the lines; whether they speak of it: by the addresses that these ends use (S1, S3)."""
        sender, receiver = (self.end(ends, parse_address(text)) for text in (record.sent_from, record.address))
        if sender.instance is not None:  # a machine sends by whichever of its interfaces it has for that
            sender = ends.resolve(sender.instance).members[0]
        pairs = ends.pairs(sender, receiver, 6 if ":" in record.address else 4)
        used = (str(pairs[0].source.address), str(pairs[0].target)) if pairs else None
        if used != (record.sent_from, record.address) or (sender.outside and receiver.outside):
            return False
        number = parse_services(record.service).lowest
        mine = [line for line in lines
                if number in line.services and holds(line.far, sender) and holds(line.near, receiver)]  # fmt: skip
        mine = [line for line in mine if line.family == (6 if ":" in record.address else 4)]
        self.assertLessEqual(len(mine), 1, record)
        verdict = mine[0].verdict if mine else "blocked"
        if verdict == "unknown":
            return False
        passes = verdict == "allowed" or (verdict == "partly" and record.source_port in mine[0].ports)
        # Where nothing is known of what listens, the kernel of whoever is there refuses: it has come through all the same.
        is_nobody = receiver.instance is None and record.outcome == "refused"
        self.assertEqual(passes, record.outcome == "answered" or (passes and is_nobody), (record, verdict))
        return True

    def end(self, ends, address):
        """The end that has an address."""
        endpoint = ends.directory.endpoint(address)
        if endpoint.interface is not None:
            interface = endpoint.interface
            return Member(interface.name, interface.instance, (interface,))
        outside = endpoint.outside.name if endpoint.outside is not None else None
        return Member(str(address), None, (), address, address, outside=outside)
