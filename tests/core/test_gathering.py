"""Many findings: taken in as columns as they would be one by one, and brought together by the rule that decides."""

import json
import random
import tempfile
import unittest
from collections import Counter
from pathlib import Path

import numpy as np
import yaml

from kiboko.core.evidence.comparison import LEAK, Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.gathering import gathered
from kiboko.core.evidence.summary import Summary
from kiboko.core.queries.holders import Holders
from kiboko.core.records.flow_table import table_of
from kiboko.core.records.line_places import LinePlaces
from kiboko.core.walk.walk import Walker
from tests.core.test_evaluator import random_records
from tests.helpers import a_filter, base, kiboko, load
from tests.random_networks import random_network


class TakenIn(unittest.TestCase):
    def made(self, seed, count=400):
        topology = load(random_network(seed))
        comparison = Comparison(Walker(topology))
        table = table_of(random_records(topology, random.Random(seed), count))
        return comparison, Evaluator(comparison), table

    def test_groups_are_what_the_records_of_the_table_come_to_one_by_one(self):
        for seed in range(4):
            comparison, evaluator, table = self.made(seed)
            judged = evaluator.judge(table)
            summary = Summary(comparison.walker.directory)
            summary.take_all(evaluator.tallies(table), comparison.finding)
            want = Counter(judged.concluded[code].status for code in judged.conclusion.tolist())
            told = summary.totals + Counter({"agree": summary.as_far_as_seen})
            self.assertEqual(want, told, seed)
            self.assertEqual(len(judged.found), summary.conversations)
            self.assertEqual(sum(group.count for group in summary.groups.values()), len(table))
            self.assertEqual(sum(g.octets for g in summary.groups.values()), int((table.octets * judged.weight).sum()))
            for key, group in summary.groups.items():
                self.assertEqual(group.concluded, group.finding.concluded, key)

    def test_what_is_taken_back_leaves_nothing_behind(self):
        comparison, evaluator, table = self.made(1)
        judged = evaluator.judge(table)
        summary, half = (Summary(comparison.walker.directory) for _ in range(2))
        first, second = (evaluator.summed(table, judged, rows) for rows in (np.arange(200), np.arange(200, 400)))
        half.take_all(first, comparison.finding)
        for tallies, taken_back in ((first, False), (second, False), (second, True)):
            summary.take_all(tallies, comparison.finding, taken_back=taken_back)
        self.assertEqual(dict(half.totals), {key: value for key, value in summary.totals.items() if value})
        self.assertEqual({key: group.count for key, group in half.groups.items()},
                         {key: group.count for key, group in summary.groups.items()})  # fmt: skip

    def test_lines_are_those_of_the_file(self):
        comparison, evaluator, table = self.made(1, 40)
        summary = Summary(comparison.walker.directory)
        tallies = evaluator.tallies(table)
        summary.take_all(tallies, comparison.finding, LinePlaces((1,), ("a.csv",), (1000,)))
        lines = {("a.csv", tally.record.line + 1000) for tally in tallies}
        found = {(group.example.file, group.example.line) for group in summary.groups.values()}
        self.assertTrue(found <= lines)


def leaky():
    """Forty machines of one role behind a filter that allows nothing, and a log of ten others that reach them."""
    values = base()
    values["filters"]["shut"] = a_filter("instance", inbound=[])
    values["groups"]["stores"] = {"where": {"role": "store"}}
    for number in range(40):
        values["instances"][f"store-{number}"] = {
            "tags": {"role": "store"},
            "interfaces": [{"subnet": "a2", "addresses": [f"10.1.2.{100 + number}"], "filters": ["shut"]}],
        }
        values["instances"][f"till-{number}"] = {
            "interfaces": [{"subnet": "a1", "addresses": [f"10.1.1.{100 + number}"]}]
        }
    rows = ["src,dst,src_port,dst_port,protocol,packets,bytes,action,start,end,tcpControlBits"]
    for sender in range(10):
        for receiver in range(5):
            rows.append(
                f"10.1.1.{100 + sender},10.1.2.{100 + receiver},40000,443,6,{1 + sender},60,allow,1795166400000,1795166400500,27"
            )
    return values, "\n".join(rows) + "\n"


class Gathered(unittest.TestCase):
    def test_the_smallest_name_that_holds_them_all_is_told_with_how_many_of_it_they_are(self):
        holders = Holders(Walker(load(leaky()[0])))
        self.assertEqual("store-3", holders.holding({"store-3"}))
        self.assertEqual("stores (2 of 40)", holders.holding({"store-3", "store-4"}))
        self.assertEqual("a2 (3 of 41)", holders.holding({"store-3", "store-4", "cat"}))
        self.assertEqual("zone left (2 of 83)", holders.holding({"store-3", "till-4"}))
        self.assertEqual("2 ends", holders.holding({"store-3", "internet"}))

    def test_many_leaks_are_a_line_by_the_rule_that_decides_and_by_pair_on_request(self):
        values, log = leaky()
        with tempfile.TemporaryDirectory() as folder:
            Path(folder, "network.yaml").write_text(yaml.safe_dump(values))
            Path(folder, "log.csv").write_text(log)
            done = kiboko("confirm", "--flows", "log.csv", cwd=folder)
            self.assertEqual(1, done.returncode, done.stderr)
            line = next(line for line in done.stdout.splitlines() if "shut/otherwise (instance-in)" in line)
            for part in ("a1 (10 of 42)", "stores (5 of 40)", "tcp/443", " 50 "):
                self.assertIn(part, line)
            self.assertIn("50 pairs and services in all; --by pair lists each", done.stdout)
            by_pair = kiboko("confirm", "--flows", "log.csv", "--by", "pair", cwd=folder)
            self.assertEqual(
                50,
                sum(
                    "answered, though the rules stop it" in row and "till-" in row
                    for row in by_pair.stdout.splitlines()
                ),
            )
            some = kiboko("confirm", "--flows", "log.csv", "--by", "pair", "--top", "3", cwd=folder).stdout
            shown = [row for row in by_pair.stdout.splitlines() if "though the rules stop it" in row and "till-" in row]
            self.assertEqual(
                shown[:3], [row for row in some.splitlines() if "though the rules stop it" in row and "till-" in row]
            )
            self.assertRegex(some, "and 47 more records of 47 more pairs and services; --top N shows more of them")

    def test_lines_beyond_the_first_are_counted(self):
        values, log = leaky()
        for number in range(5):
            values["filters"][f"shut-{number}"] = a_filter("instance", inbound=[])
            values["instances"][f"store-{number}"]["interfaces"][0]["filters"] = [f"shut-{number}"]
        with tempfile.TemporaryDirectory() as folder:
            Path(folder, "network.yaml").write_text(yaml.safe_dump(values))
            Path(folder, "log.csv").write_text(log)
            done = kiboko("confirm", "--flows", "log.csv", "--top", "2", cwd=folder)
        self.assertIn("and 30 more records in 3 more lines; --top N shows more", done.stdout)

    def told(self, values, log, *options):
        """The report of `confirm`."""
        with tempfile.TemporaryDirectory() as folder:
            Path(folder, "network.yaml").write_text(yaml.safe_dump(values))
            Path(folder, "log.csv").write_text(log)
            done = kiboko("confirm", "--flows", "log.csv", *options, cwd=folder)
            self.assertEqual(1, done.returncode, done.stderr)
            return done.stdout

    def test_what_a_leaking_rule_was_seen_to_stop_stands_beside_its_leaks(self):
        """`shut` lets 50 through and stops three; what is stopped elsewhere is none of its own."""
        values, log = leaky()
        values["observation_points"] = {"7": "store-9/eth0", "8": "till-9/eth0"}
        lines = log.splitlines()
        lines[0] += ",observationPointId"
        lines[1:] = [f"{each}," for each in lines[1:]]
        for number, point in ((1, 7), (2, 7), (3, 7), (4, 8)):
            lines.append(
                f"10.1.1.10{number},10.1.2.109,4000{number},22,6,1,60,deny,1795166400000,1795166400500,2,{point}"
            )
        told = self.told(values, "\n".join(lines) + "\n")
        line = next(line for line in told.splitlines() if "shut/otherwise (instance-in)" in line)
        self.assertEqual(["1", "50", "3", "50"], line.split()[:4])
        self.assertIn("stopped: how many other records the same rule was seen to stop", told)
        self.assertIn("1 stopped elsewhere", told)
        (rule,) = json.loads(self.told(values, "\n".join(lines) + "\n", "--json"))["leaking_rules"]
        self.assertEqual({"gate": "instance-in", "filter": "shut", "rule": "otherwise", "records": 50, "kinds": 50,
                          "seen_stopped": 3}, rule)  # fmt: skip

    def test_that_no_rule_is_seen_to_do_what_it_says_is_told_of_many_alone(self):
        values, log = leaky()
        for number in range(5):
            values["filters"][f"shut-{number}"] = a_filter("instance", inbound=[])
            values["instances"][f"store-{number}"]["interfaces"][0]["filters"] = [f"shut-{number}"]
        question = (
            "None of the 5 rules that should have stopped these leaks was seen to stop anything, nor was any other"
        )
        self.assertIn(question, self.told(values, log))
        self.assertIn(question, self.told(values, log, "--by", "pair"))
        stopped = "10.1.1.101,10.1.2.100,40009,22,6,1,60,deny,1795166400000,1795166400500,2\n"
        self.assertNotIn("None of the", self.told(values, log + stopped))
        self.assertNotIn("None of the", self.told(*leaky()))
        values["instances"]["store-20"]["interfaces"][0]["filters"] = ["wall"]
        values["filters"]["wall"] = a_filter("instance", inbound=[])
        elsewhere = stopped.replace("10.1.2.100", "10.1.2.120")
        self.assertIn("to stop anything, though 1 other was: are they in force?", self.told(values, log + elsewhere))

    def test_that_nothing_allowed_gets_through_is_told_of_many_alone(self):
        values, log = leaky()
        values["filters"]["shut"]["otherwise"] = "allow"
        for store in range(40):
            values["instances"][f"store-{store}"]["listens"] = ["tcp/443"]
        denied = log.replace(",allow,", ",deny,").replace(",27\n", ",2\n")
        question = "Nothing that the rules allow was seen to get through"
        self.assertIn(question, self.told(values, denied))
        passed = "10.1.1.109,10.1.2.120,40009,443,6,1,60,allow,1795166400000,1795166400500,27\n"
        self.assertNotIn(question, self.told(values, denied + passed))

    def test_what_a_machine_sends_itself_is_held_against_no_rule(self):
        values, log = leaky()
        values["instances"]["till-1"]["interfaces"].append(
            {"name": "eth1", "subnet": "a2", "addresses": ["10.1.2.99"], "filters": ["shut"]}
        )
        own = "10.1.1.101,10.1.2.99,40000,443,6,1,60,allow,1795166400000,1795166400500,27\n"
        row = next(line for line in self.told(values, log + own).splitlines() if "one machine" in line)
        self.assertEqual(["answered", "-"], row.split()[5:7])

    def test_of_one_conclusion_the_largest_pair_comes_first(self):
        values, _ = leaky()
        topology = load(values)
        comparison = Comparison(Walker(topology))
        summary = Summary(comparison.walker.directory)
        table = table_of(random_records(topology, random.Random(2), 600))
        summary.take_all(Evaluator(comparison).tallies(table), comparison.finding)
        lines = gathered(summary.rows((LEAK,)), Holders(comparison.walker))
        self.assertEqual(sum(each.records for each in lines), summary.totals[LEAK])
        for each in lines:
            counts = [group.count for group in each.groups]
            self.assertEqual(sorted(counts, reverse=True), counts)
            self.assertEqual(1, len({group.concluded for group in each.groups}))


if __name__ == "__main__":
    unittest.main()
