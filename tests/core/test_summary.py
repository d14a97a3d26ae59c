"""What a log comes to in groups, held to a plain count of one tally after the other."""

import random
import unittest
from dataclasses import replace
from unittest.mock import patch

import numpy as np

from kiboko.core.evidence import summary as summing
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.group_columns import GroupColumns, merged
from kiboko.core.evidence.summary import Summary
from kiboko.core.records.flow_table import NO_TIME, table_of
from kiboko.core.records.line_places import LinePlaces
from kiboko.core.walk.walk import Walker
from tests.core.test_evaluator import random_records
from tests.helpers import load
from tests.random_networks import random_network


def told(concluded):
    return concluded.status, concluded.decider, concluded.observed, concluded.why


def counted(pieces, directory):
    """The groups by what tells them apart: the conclusion and the example of the first, sums, bounds and times."""
    groups = {}
    for before, tallies in pieces:
        for each in tallies:
            ends = (directory.end_name(each.flow.source), directory.end_name(each.flow.target))
            key = (*told(each.concluded), *ends, each.alike)
            group = groups.setdefault(key, {
                "concluded": each.concluded, "line": each.record.line + before, "met": each.met, "sums": [0] * 5,
                "first": None, "last": None,
            })  # fmt: skip
            group["met"] = (min(group["met"][0], each.met[0]), max(group["met"][1], each.met[1]))
            amounts = (each.conversations, each.count, each.replies, each.packets, each.octets)
            group["sums"] = [one + other for one, other in zip(group["sums"], amounts, strict=True)]
            if each.first != NO_TIME:
                group["first"] = min(each.first, group["first"] or each.first)
                group["last"] = max(each.last, group["last"] or each.last)
    return groups


class Groups(unittest.TestCase):
    def hold(self, seed, changed=lambda tallies, at: tallies, one_by_one=False):
        topology = load(random_network(seed))
        comparison, chance = Comparison(Walker(topology)), random.Random(seed)
        directory, evaluator = comparison.walker.directory, Evaluator(comparison)
        records = random_records(topology, chance, 600)
        pieces = [(1000 * at, changed(evaluator.tallies(table_of(records[at::6])), at)) for at in range(6)]
        expected = counted(pieces, directory)
        found = Summary(directory)
        for before, tallies in pieces:
            lines = LinePlaces(shifts=(before,))
            if one_by_one:  # and some of it again, to be taken back
                found.take_all(tallies, comparison.finding, lines)
                found.take_all(pieces[0][1], comparison.finding)
                found.take_all(pieces[0][1], comparison.finding, taken_back=True)
            else:
                found.gather(found.counted(tallies, comparison.finding), lines)
        rows = list(found.rows())
        self.assertEqual(len(rows), len(expected))
        for row in rows:
            low, high = next(key[-1] for key in expected if self.is_of(row, key))
            group = expected[*told(row.concluded), row.source, row.destination, (low, high)]
            self.assertEqual(row.concluded, group["concluded"])
            self.assertEqual(row.example.line, group["line"])
            self.assertEqual(row.met, group["met"])
            sums = [row.conversations, row.count, row.replies, row.packets, row.octets]
            self.assertEqual(sums, group["sums"])
            self.assertEqual((row.earliest, row.latest), (group["first"], group["last"]))
        counts = [row.count for row in rows if not row.concluded.as_far_as_seen]
        self.assertEqual(sum(counts), found.totals.total())
        return len(rows)

    @staticmethod
    def is_of(row, key):
        low, high = key[-1]
        return key[:-1] == (*told(row.concluded), row.source, row.destination) and low <= row.met[0] <= high

    def test_groups_looked_at_before_more_is_added_stay_what_they_were(self):
        topology = load(random_network(1))
        comparison = Comparison(Walker(topology))
        tallies = Evaluator(comparison).tallies(table_of(random_records(topology, random.Random(1), 300)))
        found, plain = Summary(comparison.walker.directory), Summary(comparison.walker.directory)
        found.gather(found.counted(tallies, comparison.finding))
        plain.take_all(tallies, comparison.finding)
        before = found.rows()
        taken = found.take_all(tallies, comparison.finding, taken_back=True)
        self.assertEqual(len(found.groups), 0)
        odd = found.rows(("leak", "break"))
        self.assertEqual(len(odd), 0)
        self.assertEqual(sum(each.count for each in taken), sum(
            each.count for each in before if each.concluded.status in ("leak", "break")))  # fmt: skip
        self.assertEqual([self.shown(each) for each in before], [self.shown(each) for each in plain.rows()])

    @staticmethod
    def shown(group):
        return group.source, group.destination, group.met, group.concluded, group.example, group.count

    def test_many_pieces_come_to_what_a_plain_count_comes_to(self):
        self.assertGreater(sum(self.hold(seed) for seed in range(3)), 300)

    def test_pieces_taken_one_by_one_come_to_the_same(self):
        self.assertGreater(sum(self.hold(seed, one_by_one=True) for seed in range(3)), 300)

    def test_conclusions_that_differ_in_what_tells_no_groups_apart_are_of_one_group(self):
        def elsewhere(tallies, at):
            concluded = tuple(replace(each, at=f"point {at}") for each in tallies.concluded)
            return replace(tallies, concluded=concluded)

        self.assertGreater(sum(self.hold(seed, elsewhere) for seed in range(2)), 100)

    def test_what_waits_is_brought_together_early_and_nothing_changes(self):
        with patch.object(summing, "_FEW_WAITING", 0):
            self.assertGreater(sum(self.hold(seed) for seed in range(3)), 300)

    def test_services_that_begin_together_and_end_apart_are_of_two_groups(self):
        # Conclusion, sender, receiver, and the lowest and the highest service that nothing tells from theirs.
        keys = [(0, 1, 2, 400, 499), (0, 1, 2, 400, 450), (0, 1, 2, 400, 499), (0, 1, 3, 400, 499)]
        zeros = np.zeros((3, len(keys)), dtype=np.int64)
        rows = GroupColumns(np.array(keys).T, zeros[:2], zeros, np.ones((5, len(keys)), dtype=np.int64), zeros)
        found = merged([rows, rows])
        self.assertEqual(list(zip(*found.key.tolist(), strict=True)), [keys[0], keys[1], keys[3]])
        self.assertEqual(found.sums[1].tolist(), [4, 2, 2])


if __name__ == "__main__":
    unittest.main()
