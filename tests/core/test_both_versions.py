"""Pairs compared piece by piece, perhaps by other processes: the same comes of it; and where two walks part."""

import copy
import random
import unittest
import unittest.mock

import numpy as np

from kiboko.batch.spanning import spread
from kiboko.core.changes.both_versions import OfFamily
from kiboko.core.changes.difference import difference
from kiboko.core.changes.turning_gates import turning_gate
from kiboko.core.errors import InputError
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.reachability import statuses
from kiboko.core.reachability.space import Space
from kiboko.core.walk.walk import Walker
from tests.core.test_difference import told
from tests.helpers import a_filter, base, load, question
from tests.random_changes import ANYTHING, changed
from tests.random_networks import random_network
from tests.wider_networks import wider_network

BOTH = "kiboko.core.changes.both_versions"
ANY = resolve_service("any", {})


def versions(values, seed, changes=4):
    """A network and what some changes make of it; None where that is none any more."""
    chance, other = random.Random(seed), values
    for _ in range(changes):
        other = changed(other, chance, ANYTHING)
    try:
        return [Ends(Walker(load(each))) for each in (values, other)]
    except InputError:
        return None


class InPieces(unittest.TestCase):
    def held(self, networks, **patches):
        met = 0
        for values, seed in networks:
            both = versions(values, seed)
            if both is None:
                continue
            whole = told(difference(*both, ANY))
            with unittest.mock.patch.multiple(BOTH, **patches):
                self.assertEqual(whole, told(difference(*both, ANY, spread=spread)), seed)
            met += len(whole)
        self.assertGreater(met, 20)

    def test_few_pairs_at_once_come_to_the_same_as_all_of_them(self):
        """Also of machines with further addresses, which are compared beside what the machine comes to anyway."""
        networks = [(make(seed), seed) for seed in range(2) for make in (random_network, wider_network)]
        self.held(networks, _PIECE=7)

    def test_other_processes_come_to_the_same(self):
        self.held([(random_network(seed), seed) for seed in (5, 6)], _PIECE=200, _FEW_PAIRS=0)

    def test_pairs_of_outcomes_without_a_table_of_them_come_to_the_same(self):
        self.held([(random_network(seed), seed) for seed in (7, 8)], _MOST_FLAGS=0)


class Numbers(unittest.TestCase):
    def ids(self):
        """The outcomes of all pairs of some networks by number, block by block, with their words."""
        for seed in (1, 2):
            ends = Ends(Walker(load(random_network(seed))))
            space = Space(ends, ANY)
            members = ends.resolve("any").members
            senders, receivers = (space.ends_of(members, 4, is_sender) for is_sender in (True, False))
            space.prepare(receivers)
            reading = statuses.Statuses(space.kinds(4), senders)
            met = {}
            for block in space.blocks(senders, receivers, 4, reading.kinds):
                outcome = [block.outcome.arrives, block.outcome.answered, block.outcome.doubtful]
                ids = reading.ids(block.senders, *outcome)
                sends = np.broadcast_to(reading.sends[block.senders][None], outcome[0].shape)
                words = np.concatenate([*(each & sends for each in outcome), sends], axis=-1)
                for number, row in zip(ids.reshape(-1).tolist(), words.reshape(-1, words.shape[-1]), strict=True):
                    met.setdefault(number, set()).add(row.tobytes())
            yield met, len(reading)

    def test_equal_outcomes_have_one_number_and_others_another(self):
        for bits in (16, 2):  # with four places nearly all have to be looked up one by one
            with unittest.mock.patch.object(statuses, "_SLOT_BITS", bits):
                for met, known in self.ids():
                    self.assertEqual(set(range(1, known)), set(met))
                    self.assertEqual({1}, {len(words) for words in met.values()})
                    self.assertEqual(len(met), len({word for words in met.values() for word in words}))
                    self.assertGreater(len(met), 4)


class TurningGates(unittest.TestCase):
    def turning(self, old, new, far="bob", service="ssh"):
        return turning_gate(*(question(each, "ann", far, service).walk for each in (old, new)))

    def setUp(self):
        self.old = base()
        self.old["filters"]["guard"] = a_filter("instance", inbound=[
            {"order": 10, "action": "allow", "from": "ann", "service": "ssh"}])  # fmt: skip
        self.old["instances"]["bob"]["interfaces"][0]["filters"] = ["guard"]
        self.new = copy.deepcopy(self.old)

    def test_the_rules_before_and_now_at_the_gate_that_turns(self):
        self.new["filters"]["guard"]["inbound"][0]["service"] = "https"
        found = self.turning(self.old, self.new)
        self.assertEqual(("instance-in", "guard", "10", "otherwise"),
                         (found.before.gate, found.after.filter, found.before.rule, found.after.rule))  # fmt: skip
        self.assertEqual((False, True), (found.before.stops, found.after.stops))

    def test_a_gate_that_lets_it_through_by_another_rule_is_not_it(self):
        self.new["filters"]["guard"]["inbound"].insert(0, {"order": 5, "action": "allow"})
        self.assertIsNone(self.turning(self.old, self.new))

    def test_a_gate_where_one_version_has_no_filter(self):
        self.new["filters"]["edge"] = a_filter("subnet", inbound=[{"order": 1, "action": "drop"}])
        self.new["subnets"]["a1"]["filter"] = "edge"
        self.new["filters"]["edge"]["outbound"] = [{"order": 1, "action": "drop"}]
        found = self.turning(self.old, self.new, far="dan")
        self.assertEqual((None, False), (found.before.filter, found.before.stops))
        self.assertEqual(("subnet-out", "edge", "1", True),
                         (found.after.gate, found.after.filter, found.after.rule, found.after.stops))  # fmt: skip


class Families(unittest.TestCase):
    def test_a_route_of_one_family_touches_no_pair_of_the_other(self):
        old = random_network(11)
        new = copy.deepcopy(old)
        new["route_tables"]["b1-table"] = [
            each for each in old["route_tables"]["b1-table"] if ":" not in str(each["to"])
        ]
        met = []

        def noted(self, number):
            met.append(self.family)
            return turned(self, number)

        turned = OfFamily._turned
        with unittest.mock.patch.object(OfFamily, "_turned", noted):
            lines = difference(*(Ends(Walker(load(each))) for each in (old, new)), ANY).changed
        self.assertEqual({6}, set(met))
        self.assertEqual({6}, {each.family for each in lines})


if __name__ == "__main__":
    unittest.main()
