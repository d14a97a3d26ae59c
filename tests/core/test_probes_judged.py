"""Probes beside conversations: what a probe proves is proved by the packets of one as well, and both are held against the
same rules by code of their own."""

import os
import random
import unittest
from datetime import UTC, datetime, timedelta

from kiboko.core.errors import UsageError
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.header.services import TCP, Service, union_services
from kiboko.core.network.model import listened
from kiboko.core.records.flow_table import table_of
from kiboko.core.records.records import ANSWERED, DENIED, PASSED, FlowRecord, ProbeRecord
from kiboko.core.walk.walk import Walker
from tests.helpers import load
from tests.wider_networks import any_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "6"))
TEN = datetime(2026, 11, 20, 10, tzinfo=UTC)
SYN, ACK, RST = 2, 16, 4


class AsConversations(unittest.TestCase):
    def judged(self, evaluator, records):
        """The status of a conversation, whether the inventory is out of date by it, and whether it counts in full."""
        (found,) = evaluator.tallies(table_of(records)).concluded
        return found.status, found.is_inventory, found.as_far_as_seen

    def test_an_answered_probe_comes_to_what_an_answered_conversation_does(self):
        """SYN, SYN with ACK, ACK: the way there and back, as a probe that was answered proves it."""
        for ask in self.asked():
            with self.subTest(**ask.names):
                there = ask.flow(SYN | ACK), ask.flow(SYN | ACK, is_reply=True)
                self.assertEqual(self.judged(ask.evaluator, there), (*ask.probed(ANSWERED), False))

    def test_a_silent_probe_never_contradicts_a_refused_or_denied_conversation(self):
        """A conversation that was seen to be denied in front of everything is stopped, as a silent probe is: neither
        leaks, and where the one breaks what the rules promise, so does the other, as far as it is known what listens."""
        for ask in self.asked():
            with self.subTest(**ask.names):
                status, _, _ = self.judged(ask.evaluator, [ask.flow(SYN, event=DENIED)])
                probed, _ = ask.probed("silent")
                self.assertNotIn("leak", (status, probed))
                self.assertTrue(status == probed or "unsure" in (status, probed), (status, probed))

    def asked(self):
        for seed in range(NETWORKS):
            chance = random.Random(seed)
            values = any_network(seed)
            comparison = Comparison(Walker(load(values)))
            evaluator = Evaluator(comparison)
            for _ in range(60):
                asked = Asked(comparison, evaluator, chance, seed)
                if asked.means_something:
                    yield asked


class Asked:
    """One address that sends to another on TCP, from one client port."""

    def __init__(self, comparison, evaluator, chance, seed):
        self.comparison, self.evaluator = comparison, evaluator
        directory = comparison.walker.directory
        own = [address for each in directory.interfaces() for address in each.addresses]
        public = directory.public_addresses()
        blocks = [prefix for each in directory.topology.outsides.values() for prefix in each.prefixes]
        blocks += [prefix for each in directory.topology.subnets.values() for prefix in each.blocks]

        def drawn(*more):
            block = chance.choice(blocks)
            value = chance.randint(block.value, min(block.last, block.value + 200))
            return chance.choice([*own, *own, *more, type(own[0])(block.family, value)])

        self.source, self.target = drawn(), drawn(*public)
        known = union_services(listened(directory.topology.instances.values()))
        listening = [low & 0xFFFF for low, _ in known if low >> 16 == TCP]
        self.port = chance.choice([*listening, 22, 443])
        self.client = chance.choice([chance.randint(1024, 65535), chance.randint(32768, 60999)])
        self.names = {"seed": seed, "source": str(self.source), "target": str(self.target), "port": self.port,
                      "client": self.client}  # fmt: skip
        topology, there = directory.topology, directory.interface_at(self.target)
        # Of what comes from outside records show a private address and mean the public one (S38); a probe says which.
        by_private = directory.endpoint(self.source).outside is not None and there is not None and (
            there.public is not None and self.target == there.address(4)
        )  # fmt: skip
        shared = [each.address for each in topology.gateways.values() if each.address is not None]
        self.means_something = (
            self.source.family == self.target.family
            and self.source != self.target
            and self.source not in (*public, *shared)
            and self.client not in listening
            and not by_private
        )

    def flow(self, flags, is_reply=False, event=PASSED):
        """A record of one direction, at no known point."""
        ends = (self.target, self.source) if is_reply else (self.source, self.target)
        ports = (self.client, self.port) if is_reply else (self.port, self.client)
        at = TEN + timedelta(milliseconds=20 * is_reply)
        return FlowRecord(*ends, Service(TCP, ports[0]), ports[1], event, at, at + timedelta(seconds=1), 5, 400, flags)

    def probed(self, outcome):
        """The status of a probe, and whether the inventory is out of date by it."""
        record = ProbeRecord(TEN, str(self.source), str(self.target), str(self.target), f"tcp/{self.port}", outcome,
                             self.client, 1.0, 1, str(self.source))  # fmt: skip
        try:
            found = self.comparison.probe(record).concluded
        except UsageError as error:  # of an end that is of no one machine
            return str(error), False
        return found.status, found.is_inventory


if __name__ == "__main__":
    unittest.main()
