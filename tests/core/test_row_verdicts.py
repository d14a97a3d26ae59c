"""What tables say of rows of a report, held to the walk of each row."""

import json
import os
import random
import tempfile
import unittest
from collections import Counter
from pathlib import Path
from unittest import mock

from kiboko.core.evidence.causes import Causes
from kiboko.core.evidence.comparison import LEAK, Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.finding_groups import line_that_asks
from kiboko.core.evidence.row_verdicts import DecidedBy, RowVerdicts, verdicts_of
from kiboko.core.evidence.summary import Summary
from kiboko.core.records.flow_table import table_of
from kiboko.core.records.line_places import LinePlaces
from kiboko.core.walk.gates import Row
from kiboko.core.walk.walk import Walker
from kiboko.demo.data import write_demo
from kiboko.files.network.network_file import load_network
from kiboko.views import finding_texts
from kiboko.views.check_view import decider_json
from tests.core.test_evaluator import random_records
from tests.helpers import a_filter, base, load
from tests.random_networks import in_more_zones, random_network
from tests.wider_networks import wider_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "4"))
REPRODUCERS = Path(__file__).resolve().parent.parent / "reproducers"


def summed(topology, seed, count=500):
    """Random records between the ends of a network, judged and in groups."""
    comparison = Comparison(Walker(topology))
    summary = Summary(comparison.walker.directory)
    tallies = Evaluator(comparison).tallies(table_of(random_records(topology, random.Random(seed), count)))
    summary.gather(summary.counted(tallies, comparison.finding), LinePlaces(files=("log.csv",)))
    return comparison, summary


class HeldToTheWalk(unittest.TestCase):
    def hold(self, topology, seed):
        """How many rows tables know and how many not, by verdict."""
        comparison, summary = summed(topology, seed)
        groups, met = list(summary.rows()), Counter()
        for group, told in zip(groups, RowVerdicts(comparison).of(groups), strict=True):
            walk, decider = group.finding.walk, group.finding.decider
            if told is None:
                met["by walk" if walk is not None else "no rules"] += 1
                continue
            met[group.concluded.status] += 1
            self.assertEqual((told.verdict, told.signal), (walk.verdict, walk.signal), (seed, group.check_line()))
            expected = decider_json(decider) if decider is not None else None
            self.assertEqual(decider_json(told.decider) if told.decider is not None else None, expected, seed)
            self.assertEqual(line_that_asks(told.asked), group.check_line())
            met[walk.verdict, told.signal] += 1
            met["decided"] += decider is not None
        return met

    def test_on_random_networks(self):
        met = Counter()
        for seed in range(NETWORKS):
            for values in (random_network(seed), wider_network(seed),
                           in_more_zones(random_network(seed), random.Random(seed))):  # fmt: skip
                met += self.hold(load(values), seed)
        for kind in (("allowed", "answered"), ("one-way", "silent"), ("blocked", "silent")):
            self.assertGreater(met[kind], 2, met)
        self.assertGreater(met["decided"], 100, met)
        self.assertGreater(met["by walk"], 20, met)
        self.assertGreater(met[LEAK], 20, met)

    def test_on_the_demo_and_on_every_reproducer_with_their_kernel_rule_sets(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        write_demo(folder)
        for path in (folder / "network.yaml", *sorted(REPRODUCERS.glob("*/network.yaml"))):
            with self.subTest(path=path.parent.name):
                self.hold(load_network(str(path)), 7)

    def test_a_rule_has_its_own_place_in_each_direction(self):
        values = base()
        values["filters"]["both"] = a_filter("instance", inbound=[{"order": 10, "action": "drop"}],
                                             outbound=[{"order": 10, "action": "drop"}])  # fmt: skip
        for name in ("ann", "cat"):
            values["instances"][name]["interfaces"][0]["filters"] = ["both"]
        self.assertGreater(self.hold(load(values), 3)["decided"], 20)

    def test_rows_by_tables_are_the_same_text_as_rows_by_walks(self):
        for seed in range(2):
            comparison, summary = summed(load(random_network(seed)), seed)
            causes = Causes(comparison.walker, summary.rows())
            by_walk = ",\n".join(finding_texts.texts_of(summary.rows(), causes))
            with (
                mock.patch("kiboko.core.evidence.row_verdicts.FEW", 10),
                mock.patch("kiboko.views.finding_texts._PIECE_ROWS", 64),
            ):
                self.assertEqual(",\n".join(finding_texts.texts_of(summary.rows(), causes)), by_walk)
                self.assertEqual(json.loads(f"[{by_walk}]"), finding_texts.rows_json(summary.rows(), causes))
                told = [(group.source, verdict) for group, verdict in verdicts_of(comparison.walker, summary.rows())]
            self.assertEqual([(each["source"], each["verdict"]) for each in json.loads(f"[{by_walk}]")], told)
            self.assertGreater(len(told), 200)
            self.assertEqual({}, summary.rows().table.made, "of very many rows nothing is kept")

    def test_what_decides_is_told_in_the_words_of_a_row_of_the_walk(self):
        self.assertLess(set(DecidedBy._fields), set(Row._fields))


if __name__ == "__main__":
    unittest.main()
