"""Filters whose rules may judge a reply, held to what walks ask of replies."""

import os
import random
import unittest

from kiboko.core.tables.gate_tables import GateTables
from kiboko.core.tables.reply_filters import asked_of_replies
from kiboko.core.walk.walk import Walker
from tests.core.test_gate_tables import STRANGERS, WIDER_STRANGERS, flows_on
from tests.helpers import load
from tests.random_networks import by_an_appliance, in_more_zones, random_network
from tests.wider_networks import wider_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "6"))


def judging(topology, chance, count, strangers=STRANGERS):
    """The filters whose rules judged the reply of some random flow in its walk."""
    tables = GateTables(Walker(topology))
    flows = flows_on(tables, chance, count, strangers)
    met = set()
    for row in range(len(flows)):
        for each in tables.walk(flows, row).rows:
            if each.stops and each.gate in ("source", "route", "translate"):
                break  # never arrives or never comes back, whatever the client port and whatever stands behind
            if each.direction == "reply" and not each.tracked and each.rule is not None:
                met |= {name for name in each.filters if name in topology.filters}
    return met


class AskedOfReplies(unittest.TestCase):
    def test_all_that_judge_a_reply_in_any_walk_are_among_them_and_not_all_filters_are(self):
        met, asked, spared = 0, 0, 0
        for seed in range(NETWORKS):
            chance = random.Random(seed)
            values = random_network(seed)
            for told, strangers in ((values, STRANGERS), (by_an_appliance(random_network(seed), chance), STRANGERS),
                                    (in_more_zones(random_network(seed), chance), STRANGERS),
                                    (wider_network(seed), WIDER_STRANGERS)):  # fmt: skip
                with self.subTest(seed=seed):
                    topology = load(told)
                    known = asked_of_replies(Walker(topology).ground)
                    judged = judging(topology, chance, 300, strangers)
                    self.assertLessEqual(judged, known)
                    met, asked, spared = (
                        met + len(judged),
                        asked + len(known),
                        spared + len(topology.filters) - len(known),
                    )
        self.assertGreater(met, asked / 4)
        self.assertGreater(spared, NETWORKS)


if __name__ == "__main__":
    unittest.main()
