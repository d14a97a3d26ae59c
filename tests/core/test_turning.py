"""Recorded traffic that a change turns: held to the walks of every conversation in both versions."""

import copy
import os
import random
import unittest
from collections import Counter
from unittest import mock

import numpy as np

from kiboko.core.changes.difference import difference
from kiboko.core.errors import InputError
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.turning import KINDS, PASSES, STOPPED, TRIED, Turned, Turning
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.records.flow_table import table_of
from kiboko.core.walk.walk import ALLOWED, BLOCKED, Walker
from tests.core.test_evaluator import random_records
from tests.core.test_evidence import ALL, RST, SYN, SYN_ACK, flow
from tests.helpers import a_filter, base, load
from tests.plain_judge import NEIGHBOURS, stretches
from tests.random_changes import ANYTHING, changed
from tests.random_networks import random_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "8"))


class HeldToWalks(unittest.TestCase):
    def test_what_is_turned_is_what_both_walks_say_of_each_conversation(self):
        met = Counter()
        for seed in range(NETWORKS):
            values, chance = random_network(seed), random.Random(seed)
            other = values
            for _ in range(4):
                other = changed(other, chance, ANYTHING)
            try:
                old, new = (Walker(load(each)) for each in (values, other))
            except InputError:
                continue
            table = table_of(random_records(old.topology, chance, 700))
            turning, turned = Turning(old, new), Turned()
            judged = turning.judge(table)
            turning.take(table, judged, np.arange(len(table)), turned)
            want = self.by_walks(old, new, table)
            got = Counter()
            for kind in KINDS:
                for (source, destination, _), each in turned.of(kind):
                    got[kind, source, destination] += each.records
            self.assertEqual(dict(got), dict(want), seed)
            self.assertEqual(turned.records, len(table))
            met.update(key[0] for key in want)
        self.assertTrue(all(met[kind] > 5 for kind in (STOPPED, PASSES, TRIED)), met)

    def by_walks(self, old, new, table):
        """Conversation by conversation. Where it is not known who began one, it is turned where both ways are so."""
        comparison = Comparison(old)
        evaluator = Evaluator(comparison)
        judged, want = evaluator.judge(table), Counter()
        sources, targets = evaluator.ends_of(table, judged)
        for number in range(len(judged.found)):
            source, target = sources[number], targets[number]
            service, port = int(judged.asked.service[number]), int(judged.asked.port[number])
            kind = self.kind_of(comparison, new, source, target, service, port)
            if judged.found.began[number] < 0:
                one, other = self.turned_round(old, source, target)
                client = service & 0xFFFF if service & 0xFFFF and port > 0 else -1
                # What may be a later fragment of a ping was asked by its own sender, as a ping.
                turned = service if service >> 16 == 1 else service & ~0xFFFF | max(port, 0)
                back = self.kind_of(comparison, new, one, other, turned, client)
                kind = kind if kind == back else None
            if kind is not None and not (kind == TRIED and judged.unasked[number]):
                ends = old.directory.end_name(source), old.directory.end_name(target)
                want[kind, *ends] += int((judged.found.of == number).sum())
        return want

    def turned_round(self, walker, source, target):
        """The ends if the other one had begun: it sends from its private address, and to the public one from outside."""
        directory = walker.directory
        owner, receiver = directory.public_owner(target), directory.interface_at(source)
        sender = owner.address(4) if owner is not None else target
        outside = directory.endpoint(sender).outside
        if outside is None or receiver is None or receiver.public is None or source != receiver.address(4):
            return sender, source
        network = walker.topology.subnets[receiver.subnet].network
        return sender, source if directory.tunnel(network, outside.name) is not None else receiver.public

    def kind_of(self, comparison, new, source, target, service, port):
        """How what one end asks of another is turned; None where it is not, or nobody can say."""
        old = comparison.walker
        shared = {each.address for each in old.topology.gateways.values() if each.address is not None}
        if any(old.directory.why_undeliverable(each) for each in (source, target)) or source in shared:
            return None
        if service >> 16 == 58 and service >> 8 & 0xFF in NEIGHBOURS:
            return None
        end = old.directory.endpoint(source)
        if end.network is None and comparison.ends.is_foreign(target):
            return None
        if service >> 16 in (6, 17, 132) and port < 0:
            ports = stretches(
                old, comparison.served | Comparison(new).served, end, Service(service >> 16, service & 0xFFFF)
            )
            kinds = {self.kind_of(comparison, new, source, target, service, each) for each in ports if service & 0xFFFF}
            return kinds.pop() if len(kinds) == 1 else None
        ports = RangeSet.one(port) if port >= 0 else None
        verdicts = [each.walk(each.directory.endpoint(source), target, Service(service >> 16, service & 0xFFFF), ports)
                    .verdict for each in (old, new)]  # fmt: skip
        if verdicts[0] == ALLOWED != verdicts[1]:
            return STOPPED
        if verdicts[1] == ALLOWED != verdicts[0]:
            return PASSES
        return TRIED if verdicts == [BLOCKED, BLOCKED] else None


class ByHand(unittest.TestCase):
    def test_a_rule_that_is_switched_off_stops_what_it_let_pass(self):
        values = base()
        values["filters"]["guard"] = a_filter("instance", inbound=[
            {"id": "shell", "action": "allow", "service": "ssh"}, {"id": "web", "action": "allow", "from": "bob",
                                                                   "service": "http"}])  # fmt: skip
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
        other = copy.deepcopy(values)
        other["filters"]["guard"]["inbound"][0]["enabled"] = False
        other["filters"]["guard"]["inbound"][1].pop("from")
        table = table_of([
            flow("10.1.2.10", "10.1.1.10", "ssh", 40000), flow("10.1.1.10", "10.1.2.10", "tcp/40000", 22),
            flow("10.1.2.10", "10.1.1.10", "ssh", 40001), flow("10.1.2.10", "10.1.1.10", "http", 40002),
            flow("10.1.2.10", "10.1.1.10", "https", 40003), flow("10.1.1.10", "10.1.2.10", "ssh", 40004),
        ])  # fmt: skip
        walkers = [Walker(load(each)) for each in (values, other)]
        touched = difference(*map(Ends, walkers), resolve_service("any", {})).touched.services
        self.assertFalse(touched & resolve_service("https", {}), "neither rule is of it, and neither are its replies")
        for services in (None, touched):
            turning, turned = Turning(*walkers, services), Turned()
            turning.take(table, turning.judge(table), np.arange(6), turned)
            told = {(kind, *key): (each.conversations, each.records) for kind in KINDS for key, each in turned.of(kind)}
            self.assertEqual(told, {(STOPPED, "cat", "ann", "tcp/22"): (2, 3), (PASSES, "cat", "ann", "tcp/80"): (1, 1),
                                    (TRIED, "cat", "ann", "tcp/443"): (1, 1)})  # fmt: skip

    def test_what_either_end_may_have_begun_is_turned_where_it_is_whoever_did(self):
        """ann and cat send to each other from high ports, and nothing tells who began. What is shut for the one way alone
        may have been turned or not; that is not passed over."""
        values = base()
        udp = [flow("10.1.1.10", "10.1.2.10", "udp/47000", 46000), flow("10.1.2.10", "10.1.1.10", "udp/46000", 47000)]
        for guarded, seen in ((("ann",), (0, 2)), (("cat",), (0, 2)), (("ann", "cat"), (2, 0)), ((), (0, 0))):
            other = copy.deepcopy(values)
            other["filters"]["guard"] = a_filter("instance", inbound=[])
            for name in guarded:
                other["instances"][name]["interfaces"][0]["filters"] = ["guard"]
            turning, turned = Turning(Walker(load(values)), Walker(load(other))), Turned()
            table = table_of(udp)
            turning.take(table, turning.judge(table), np.arange(2), turned)
            self.assertEqual(seen, (turned.total(STOPPED).records, turned.untold), guarded)

    def test_what_nothing_shows_that_anybody_asked_for_was_not_tried(self):
        """Answers from outside to what others forged, and resets of either side; who opens, or is answered, tried."""
        values = base()
        values["filters"]["guard"] = a_filter("instance", inbound=[], outbound=[])
        values["instances"]["cat"]["interfaces"][0]["filters"] = ["guard"]
        outside, cat = "192.0.2.9", "10.1.2.10"
        answer = flow(outside, cat, "tcp/40000", 443, flags=SYN_ACK)
        unasked = [answer, flow(outside, cat, "udp/40001", 53), flow(cat, outside, "https", 40002, flags=RST),
                   flow(outside, cat, "http", 40003, flags=0x04)]  # fmt: skip
        tried = [flow(cat, outside, "https", 40004, flags=SYN), flow(outside, cat, "tcp/40004", 443, flags=SYN_ACK),
                 flow(outside, cat, "http", 40005, flags=SYN), flow("10.1.1.10", cat, "tcp/40006", 22, flags=SYN_ACK),
                 flow(outside, cat, "tcp/40007", 443, flags=ALL, packets=5)]  # fmt: skip
        walker, table = Walker(load(values)), table_of([*unasked, *tried])
        turning, turned = Turning(walker, walker), Turned()
        turning.take(table, turning.judge(table), np.arange(len(table)), turned)
        self.assertEqual((9, 4, 5), (turned.records, turned.unasked, turned.total(TRIED).records))
        # What a change stops is told of all that was recorded, whatever it was.
        turning, turned = Turning(Walker(load(base())), walker), Turned()
        turning.take(table, turning.judge(table), np.arange(len(table)), turned)
        self.assertEqual((0, 9), (turned.unasked, turned.total(STOPPED).records))

    def test_what_is_too_much_to_be_listed_is_counted(self):
        values = base()
        values["filters"]["guard"] = a_filter("instance", inbound=[{"action": "drop"}])
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
        walker = Walker(load(values))
        table = table_of([flow("10.1.2.10", "10.1.1.10", f"tcp/{port}", 40000) for port in (22, 80, 80, 443)])
        turning, parts = Turning(walker, walker), (Turned(), Turned())
        for turned, rows in zip(parts, (np.arange(2), np.arange(2, 4)), strict=True):
            turning.take(table, turning.judge(table), rows, turned)
        with mock.patch("kiboko.core.records.group_sums._MOST_GROUPS", 2):
            parts[0].merge(parts[1])
            self.assertEqual((parts[0].count(TRIED), parts[0].total(TRIED).records, parts[0].left_out), (2, 4, 1))


if __name__ == "__main__":
    unittest.main()
