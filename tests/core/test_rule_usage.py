"""Hits of rules, counted by hand: ann takes ssh by rule `way-in`, http by nobody; the edge of b1 is stateless."""

import unittest

from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.rule_usage import RuleUsage
from kiboko.core.records.flow_table import table_of
from kiboko.core.walk.walk import Walker
from tests.core.test_evidence import flow
from tests.helpers import a_filter, base, load


def network():
    values = base()
    values["filters"] = {
        "guard": a_filter("instance", decide="any", inbound=[
            {"id": "way-in", "action": "allow", "service": "ssh"}, {"id": "unused", "action": "allow", "service": "dns"}]),
        "edge": a_filter("subnet", stateful=False, inbound=[{"action": "drop", "service": "http"}, {"action": "allow"}],
                         outbound=[{"action": "allow"}]),
    }  # fmt: skip
    values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
    values["instances"]["ann"]["listens"] = ["ssh"]
    values["subnets"]["b1"]["filter"] = "edge"
    return values


class Usage(unittest.TestCase):
    def hits(self, *records):
        topology = load(network())
        comparison = Comparison(Walker(topology))
        evaluator, usage = Evaluator(comparison), RuleUsage(topology)
        table = table_of(list(records))
        for tally in evaluator.tallies(table):
            usage.take(comparison.finding(tally.concluded, tally.flow), tally)
        self.assertEqual(usage.records, len(records))
        return {line.key: line.sum.records for line in usage.lines()}

    def test_every_rule_that_the_packets_meet_is_hit_and_no_other(self):
        hit = self.hits(flow("10.2.1.10", "10.1.1.10", "ssh", 40000), flow("10.1.2.10", "10.1.1.10", "ssh", 40001))
        self.assertEqual(hit["guard", "inbound", "way-in"], 2)
        self.assertEqual(hit["guard", "inbound", "unused"], 0)
        self.assertEqual(hit["edge", "outbound", "1"], 1, "only dan's goes by the edge of b1")
        self.assertEqual(hit["edge", "inbound", "2"], 0)

    def test_behind_the_rule_that_stops_it_a_packet_meets_none(self):
        hit = self.hits(flow("10.1.1.10", "10.2.1.10", "http", 40000, event="denied"))
        self.assertEqual((hit["edge", "inbound", "1"], hit["edge", "inbound", "2"]), (1, 0))

    def test_a_reply_hits_stateless_rules_and_not_those_that_let_it_back_unasked(self):
        request, reply = flow("10.2.1.10", "10.1.1.10", "ssh", 40000), flow("10.1.1.10", "10.2.1.10", "tcp/40000", 22)
        hit = self.hits(request, reply)
        self.assertEqual((hit["edge", "outbound", "1"], hit["edge", "inbound", "2"]), (1, 1))
        self.assertEqual(hit["guard", "inbound", "way-in"], 1)

    def test_what_no_rule_matches_is_counted_as_otherwise(self):
        self.assertEqual(self.hits(flow("10.1.2.10", "10.1.1.10", "http", 40000))["guard", "inbound", "otherwise"], 1)


if __name__ == "__main__":
    unittest.main()
