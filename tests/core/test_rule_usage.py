"""Hits of rules, counted by hand: ann takes ssh by rule `way-in`, http by nobody; the edge of b1 is stateless."""

import os
import random
import tempfile
import unittest
from collections import Counter
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np

from kiboko.core.evidence import flow_numbers, shared_senders
from kiboko.core.evidence.comparison import Comparison, Finding, FlowAsked
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.rule_usage import RuleUsage
from kiboko.core.evidence.rules_met import rules_met
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service
from kiboko.core.records.flow_table import table_of
from kiboko.core.walk.walk import Walker
from kiboko.demo.data import write_demo
from kiboko.files.network.network_file import load_network
from tests.core.test_evaluator import random_records
from tests.core.test_evidence import flow
from tests.helpers import a_filter, base, load
from tests.plain_judge import NEIGHBOURS, stretches
from tests.random_networks import random_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "5"))


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
    def hits(self, *records, values=None):
        topology = load(values or network())
        comparison = Comparison(Walker(topology))
        evaluator, usage = Evaluator(comparison), RuleUsage(topology)
        table = table_of(list(records))
        judged, rows = evaluator.judge(table), np.arange(len(table))
        for each in evaluator.uses(table, judged, evaluator.summed(table, judged, rows), rows):
            usage.take(*each)
        self.assertEqual(usage.records, len(records))
        self.usage = usage
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

    def test_where_nothing_tells_who_began_the_rules_of_both_ways_are_hit(self):
        """ann and dan send to each other from high ports: either request may be the one that its rule let through, and a
        rule that was never hit is one to take out."""
        one = flow("10.1.1.10", "10.2.1.10", "udp/47000", 46000)
        other = flow("10.2.1.10", "10.1.1.10", "udp/46000", 47000)
        hit = self.hits(one, other)
        self.assertEqual(1, hit["guard", "inbound", "otherwise"], "by dan's request")
        self.assertEqual(2, hit["edge", "inbound", "2"], "by ann's request, and by her reply to dan")
        self.assertEqual(2, hit["edge", "outbound", "1"], "by dan's request, and by his reply to ann")
        evaluator = Evaluator(Comparison(Walker(load(network()))))
        guard, edge = (frozenset({key}) for key in (("guard", "inbound", "otherwise"), ("edge", "inbound", "2")))
        table = table_of([one, other])
        self.assertEqual([False, True], evaluator.meeting(table, guard).tolist())
        self.assertEqual([True, False], evaluator.meeting(table, edge).tolist())

    def test_what_comes_from_a_shared_address_hits_the_rules_of_all_who_may_have_sent_it(self):
        """dan and eve stand behind 203.0.113.2, each with a filter of his own: a rule that nothing hit is one to take
        out, and either of them may have sent it. eve's way to 10.1.1.10 leads by the peering, and by no shared address."""
        values = network()
        for name, address in (("dan", "10.2.1.10"), ("eve", "10.2.1.11")):
            values["filters"][f"of-{name}"] = a_filter(
                "instance",
                outbound=[
                    {"id": "web", "action": "allow", "service": "https"},
                    {"id": "mail", "action": "allow", "service": "smtp"},
                ],
            )
            interface = {"subnet": "b1", "addresses": [address], "filters": [f"of-{name}"]}
            values["instances"][name] = {"interfaces": [interface]}  # fmt: skip
        hit = self.hits(flow("203.0.113.2", "8.8.8.8", "https", 2000), flow("203.0.113.2", "8.8.8.8", "https", 40000),
                        values=values)  # fmt: skip
        found = {rule: hit[f"of-{name}", "outbound", rule] for name in ("dan", "eve") for rule in ("web", "mail")}
        self.assertEqual({"web": 2, "mail": 0}, found)
        self.assertEqual([2, 2], [hit[f"of-{name}", "outbound", "web"] for name in ("dan", "eve")])

    def test_where_too_many_may_have_sent_it_that_is_said_and_no_rule_is_hit(self):
        values = network()
        for number in range(3):
            values["filters"][f"own-{number}"] = a_filter(
                "instance", outbound=[{"action": "allow", "service": "https"}]
            )
            interface = {"subnet": "b1", "addresses": [f"10.2.1.{20 + number}"], "filters": [f"own-{number}"]}
            values["instances"][f"m{number}"] = {"interfaces": [interface]}
        request = flow("203.0.113.2", "8.8.8.8", "https", 40000)
        with mock.patch.object(shared_senders, "MOST_BEHIND", 2):
            hit = self.hits(request, values=values)
        self.assertEqual(0, hit["own-1", "outbound", "1"])
        self.assertEqual(["1 record is of a sender behind a shared address, and counts for no rule: of those who may have"
                          " sent it rules tell too many apart, and a rule of theirs that was never hit may have been"],
                         self.usage.caveats)  # fmt: skip
        hit = self.hits(request, values=values)
        self.assertEqual(1, hit["own-1", "outbound", "1"])
        self.assertEqual(["1 record is of a sender behind a shared address, and counts for the rules of each that may have"
                          " sent it"], self.usage.caveats)  # fmt: skip

    def test_what_no_rule_matches_is_counted_as_otherwise(self):
        self.assertEqual(self.hits(flow("10.1.2.10", "10.1.1.10", "http", 40000))["guard", "inbound", "otherwise"], 1)


class HeldToTheWalk(unittest.TestCase):
    """The rules met by columns are those of the walk of each conversation, met by its rows one after the other."""

    def held(self, topology, records):
        """In three tables, of which the later ones have many flows of those before them."""
        comparison = Comparison(Walker(topology))
        evaluator = Evaluator(comparison)
        several = 0
        for part in (records[: len(records) // 2], records[len(records) // 3 :], records):
            tallies = evaluator.tallies(table_of(part))
            met = evaluator.rules_met(tallies)
            for row, tally in enumerate(tallies):
                for numbers, is_reply in ((met.request[row], False), (met.reply[row], True)):
                    found = [met.keys[number] for number in numbers.tolist() if number >= 0]
                    want = self.met_by(comparison, tally, tally.flow, is_reply)
                    self.assertEqual(sorted(found), sorted(want), (tally.flow, is_reply))
                    several += len(found) > 1
        return several

    def asked(self, comparison, flow):
        """A flow, by each client port that tells anything apart where none is recorded; nothing without a service."""
        if flow.service.protocol == 58 and flow.service.detail >> 8 in NEIGHBOURS:
            return []
        if not flow.service.has_ports or flow.port is not None:
            return [flow]
        source = comparison.walker.directory.endpoint(flow.source)
        ports = stretches(comparison.walker, comparison.served, source, flow.service)
        return [replace(flow, port=port) for port in ports] if flow.service.detail else []

    def met_by(self, comparison, tally, flow, is_reply):
        """The rules that the packets of a flow met by the walk, or would have by one of the ports."""
        findings = [comparison.finding(tally.concluded, each) for each in self.asked(comparison, flow)]
        gateway = comparison.walker.directory.shared_owner(flow.source)
        if gateway is not None and any(finding.walk is not None for finding in findings):
            findings = [Finding(tally.concluded, walk) for walk in self.walks_behind(comparison, gateway, flow)]
        return {key for finding in findings for key in rules_met(comparison.walker.topology, finding, is_reply)}

    def walks_behind(self, comparison, gateway, flow):
        """What everybody behind a shared address may have sent, by every port of his and the recorded one; of those
        whose packets leave by it, if there are such."""
        walker, found = comparison.walker, {True: [], False: []}
        directory = walker.directory
        there = directory.endpoint(flow.target).interface
        for interface in directory.interfaces():
            if walker.topology.subnets[interface.subnet].network not in gateway.networks:
                continue
            for address in (each for each in interface.addresses if each.family == 4):
                if there is not None and there.instance == interface.instance:
                    continue
                end = directory.endpoint(address)
                ports = [None]
                if flow.service.has_ports:
                    ports = [
                        *stretches(walker, comparison.served, end, flow.service),
                        *([flow.port] if flow.port else []),
                    ]
                for port in ports:
                    walk = walker.walk(end, flow.target, flow.service, None if port is None else RangeSet.one(port))
                    steps = walk.request_path.steps
                    leaves = any(step.gate == "translate" and step.at == gateway.name for step in steps)
                    found[leaves].append(walk)
        return found[True] or found[False]

    def test_on_random_networks_of_every_feature(self):
        several = 0
        for seed in range(NETWORKS):
            topology = load(random_network(seed))
            several += self.held(topology, random_records(topology, random.Random(seed), 600))
        self.assertGreater(several, 500)

    def test_where_flows_are_forgotten_in_between(self):
        topology = load(random_network(5))
        with mock.patch.object(flow_numbers, "_MOST_FLOWS", 40):
            self.assertGreater(self.held(topology, random_records(topology, random.Random(5), 300)), 30)

    def test_on_the_demo_with_its_kernel_rule_sets(self):
        with tempfile.TemporaryDirectory() as folder:
            write_demo(Path(folder))
            topology = load_network(str(Path(folder) / "network.yaml"))
            records = random_records(topology, random.Random(3), 3000)
            self.assertGreater(self.held(topology, records), 100)

    def test_records_that_met_a_rule_are_those_whose_tally_did(self):
        topology = load(random_network(3))
        comparison = Comparison(Walker(topology))
        evaluator = Evaluator(comparison)
        table = table_of(random_records(topology, random.Random(9), 800))
        judged, tallies = evaluator.judge(table), evaluator.tallies(table)
        met = dict.fromkeys(zip(judged.conclusion.tolist(), judged.classes.tolist(), strict=True))
        at = {key: row for row, key in enumerate(met)}  # tallies come in the order of their first records
        self.assertEqual(len(at), len(tallies))
        listed = list(tallies)
        every = [[self.met_by(comparison, each, each.flow, way) for way in (False, True)] for each in listed]
        wanted = frozenset(key for key, _ in Counter(key for keys, _ in every for key in keys).most_common(2))
        want = [
            not wanted.isdisjoint(every[at[conclusion, kind]][bool(is_reply)])
            for conclusion, kind, is_reply in zip(
                judged.conclusion.tolist(), judged.classes.tolist(), judged.is_reply, strict=True
            )
        ]
        # Of what either end may have begun, so are those that would meet it if the other one had.
        turned = [[self.met_by(comparison, each, self.turned_round(each.flow), way) for way in (False, True)]
                  for each in listed]  # fmt: skip
        for row, (conclusion, kind, is_reply) in enumerate(zip(
            judged.conclusion.tolist(), judged.classes.tolist(), judged.is_reply.tolist(), strict=True
        )):  # fmt: skip
            if judged.found.began[judged.found.of[row]] < 0:
                want[row] |= not wanted.isdisjoint(turned[at[conclusion, kind]][not is_reply])
        self.assertEqual(evaluator.meeting(table, wanted).tolist(), want)
        self.assertTrue(0 < sum(want) < len(want))

    def turned_round(self, flow):
        """What the other end would have asked."""
        own = flow.service
        if not own.has_ports:
            return FlowAsked(flow.target, flow.source, own, None)
        client = own.detail if own.detail and flow.port else None
        return FlowAsked(flow.target, flow.source, Service(own.protocol, flow.port or 0), client)


if __name__ == "__main__":
    unittest.main()
