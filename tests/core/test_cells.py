"""Which cells of a matrix differ from another network file within, held against the walks of all their pairs."""

import copy
import itertools
import os
import random
import unittest

import numpy as np

from kiboko.batch.spanning import matrix_of
from kiboko.core.changes.cells import alike_in_part, compared, turned_within
from kiboko.core.changes.difference import difference
from kiboko.core.errors import InputError
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.reachability.matrix import AxisName, MatrixQuestion
from kiboko.core.walk.walk import Walker
from tests.helpers import a_filter, base, load
from tests.random_changes import changed
from tests.wider_networks import any_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "5"))
SERVICES = [(text, resolve_service(text, {})) for text in ("tcp/22", "tcp/8005", "udp/53")]
ASKED = RangeSet.of(pair for _, each in SERVICES for pair in each)


def names_of(ends, groups):
    return [AxisName(text, tuple(ends.resolve(name).members[0] for name in some)) for text, some in groups.items()]


def cells(old, new, groups):
    """Two networks compared by groups of machines."""
    questions = [MatrixQuestion(ends, names_of(ends, groups[ends]), SERVICES, None) for ends in (old, new)]
    before, now = map(matrix_of, questions)
    within = turned_within(questions[1].names, questions[0].names, SERVICES, difference(old, new, ASKED))
    return now, before, within


class Cells(unittest.TestCase):
    def test_a_cell_differs_within_where_the_walk_of_a_pair_does(self):
        held = {True: 0, False: 0}
        for seed in range(NETWORKS):
            values = any_network(seed)
            try:
                old, new = (Ends(Walker(load(each))) for each in (values, changed(values, random.Random(seed))))
            except InputError:  # what was changed is no network any more
                continue
            known = [name for name in old.topology.instances if name in new.topology.instances]
            groups = {"left": known[::2], "right": known[1::2]}
            now, before, within = cells(old, new, {old: groups, new: groups})
            for row, column, number in np.argwhere(alike_in_part(now, before)).tolist():
                pairs = list(itertools.product(groups[now.names[row]], groups[now.names[column]]))
                verdicts = [self.verdicts(ends, pairs, SERVICES[number][1].lowest) for ends in (old, new)]
                differ = verdicts[0] != verdicts[1]
                if differ or not within[row, column, number]:
                    self.assertEqual(differ, bool(within[row, column, number]), (seed, row, column, number))
                    held[differ] += 1
        self.assertGreater(min(held.values()), 0, held)

    def verdicts(self, ends, pairs, service):
        """What each pair comes to in each family, and from which client ports it is answered."""
        found = {}
        for (one, other), family in itertools.product(pairs, (4, 6)):
            if one != other:
                for pair in ends.pairs(*(ends.resolve(name).members[0] for name in (one, other)), family)[:1]:
                    walk = ends.walk_pair(pair, Service(service >> 16, service & 0xFFFF))
                    found[one, other, family] = walk.verdict, walk.answered
        return found

    def setUp(self):
        """Ann and bob are one name, of which ssh gets through to bob alone."""
        self.old = base()
        self.old["filters"]["guard"] = a_filter(
            "instance", inbound=[{"action": "allow", "to": "bob", "service": "ssh"}]
        )
        for name in ("ann", "bob"):
            self.old["instances"][name]["interfaces"][0]["filters"] = ["guard"]
        self.new = copy.deepcopy(self.old)

    def compared(self, before, now):
        old, new = Ends(Walker(load(self.old))), Ends(Walker(load(self.new)))
        matrix, other, within = cells(old, new, {old: before, new: now})
        return matrix, other, within

    def test_the_same_in_part_for_another_machine_is_told_and_nothing_where_nothing_differs(self):
        groups = {"both": ["ann", "bob"], "cat": ["cat"]}
        self.assertEqual(compared(*self.compared(groups, groups)).differ, ())
        self.new["filters"]["guard"]["inbound"][0]["to"] = "ann"
        found = compared(*self.compared(groups, groups))
        self.assertEqual([(each.source, each.destination, each.service, each.before.state, each.now.state, each.is_within)
                          for each in found.differ], [("both", "both", "tcp/22", "partly", "partly", True),
                                                      ("cat", "both", "tcp/22", "partly", "partly", True)])  # fmt: skip

    def test_a_name_of_other_machines_and_a_machine_at_another_address_are_told(self):
        before, now = {"some": ["ann", "bob", "dan"], "cat": ["cat"]}, {"some": ["ann", "bob"], "cat": ["cat"]}
        self.assertIn(("cat", "some", "tcp/22"), self.within(before, now))
        self.new["instances"]["ann"]["interfaces"][0]["addresses"] = ["10.1.1.77"]
        self.assertIn(("cat", "some", "tcp/22"), self.within(now, now))

    def within(self, before, now):
        found = compared(*self.compared(before, now)).differ
        return [(each.source, each.destination, each.service) for each in found if each.is_within]

    def test_where_pairs_cannot_be_compared_it_is_not_known_and_no_agreement(self):
        groups = {"both": ["ann", "bob"], "cat": ["cat"]}
        matrix, other, _ = self.compared(groups, groups)
        found = compared(matrix, other, None)
        self.assertEqual((found.differ, found.untold, found.is_other), ((), 2, True))


if __name__ == "__main__":
    unittest.main()
