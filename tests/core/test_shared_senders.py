"""Whoever stands behind a shared address (clause E11), by hand: dan and others in b1 leave by the gateway `exit`, which
gives them 203.0.113.2; the machines of the front leave by a door of their own, with addresses of their own."""

import random
import unittest
from unittest import mock

from kiboko.core.evidence import shared_senders
from kiboko.core.evidence.causes import Causes
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.summary import Summary
from kiboko.core.evidence.watch import Watch
from kiboko.core.records.flow_table import table_of
from kiboko.core.walk.walk import Walker
from kiboko.views.collect_view import disagreement_line
from tests.core.test_evaluator import random_records
from tests.core.test_evidence import ALL, RST, flow
from tests.helpers import a_filter, base, load
from tests.plain_judge import PlainJudge
from tests.random_networks import random_network

SHARED, WEB = "203.0.113.2", "8.8.8.8"


def network():
    values = base()
    values["filters"] = {
        "web-only": a_filter("instance", outbound=[{"action": "allow", "service": "https"}]),
        "mail-only": a_filter("instance", outbound=[{"action": "allow", "service": "smtp"}]),
    }
    values["instances"]["dan"]["interfaces"][0]["filters"] = ["web-only"]
    return values


def with_others(values, count, name="web-only"):
    """More machines beside dan that carry a filter."""
    for number in range(count):
        interface = {"subnet": "b1", "addresses": [f"10.2.1.{20 + number}"], "filters": [name]}
        values["instances"][f"{name}-{number}"] = {"interfaces": [interface]}
    return values


class BehindASharedAddress(unittest.TestCase):
    def summed(self, values, *records):
        comparison = Comparison(Walker(load(values)))
        summary = Summary(comparison.walker.directory)
        summary.take_all(Evaluator(comparison).tallies(table_of(list(records))), comparison.finding)
        return comparison.walker, summary

    def found(self, values, *records):
        """The one group of some records."""
        (group,) = self.summed(values, *records)[1].rows()
        return group

    def status(self, values, *records):
        return self.found(values, *records).concluded.status

    def test_the_recorded_port_is_one_that_the_gateway_chose(self):
        """The edge of b1 lets replies back to 50000 to 60999, and dan sends from there: that the gateway made it 2000
        (RFC 4787) breaks no rule."""
        values = network()
        values["filters"]["edge"] = a_filter("subnet", stateful=False, outbound=[{"action": "allow"}],
                                             inbound=[{"action": "allow", "service": "tcp/50000-60999"}])  # fmt: skip
        values["subnets"]["b1"]["filter"] = "edge"
        values["instances"]["dan"]["ephemeral_ports"] = "50000-60999"
        within, beyond = (flow(SHARED, WEB, "https", port, flags=ALL) for port in (55000, 2000))
        self.assertEqual("agree", self.status(values, within))
        # Or it left the port as it was, and then the edge would not let its replies back: that cannot be told.
        found = self.found(values, beyond).concluded
        self.assertEqual(("unsure", True), (found.status, found.why.startswith("which client port it had")))
        del values["instances"]["dan"]["ephemeral_ports"]
        self.assertEqual("unsure", self.status(values, within))

    def test_who_leaves_by_a_door_of_his_own_is_not_behind_it(self):
        values = network()
        values["gateways"]["south-door"] = {"kind": "internet", "network": "south"}
        values["route_tables"]["front-table"] = [{"to": "0.0.0.0/0", "via": "south-door"}]
        values["subnets"]["front"] = {"network": "south", "cidr": "10.2.9.0/24", "zone": "right",
                                      "route_table": "front-table"}  # fmt: skip
        interface = {"subnet": "front", "addresses": ["10.2.9.10"], "public": "203.0.113.77", "filters": ["mail-only"]}
        values["instances"]["fay"] = {"interfaces": [interface]}
        self.assertEqual("agree", self.status(values, flow(SHARED, WEB, "https", 40000, flags=ALL)))
        self.assertEqual("leak", self.status(values, flow(SHARED, WEB, "smtp", 40000, flags=ALL)))
        # Where nobody's way leads by the gateway it may be any of them: fay's mail would be right, and dan's is not.
        values["subnets"]["b1"]["route_table"] = "front-table"
        self.assertEqual("leak", self.status(values, flow(SHARED, WEB, "https", 40000, flags=ALL)))

    def test_of_very_many_one_who_may_not_is_enough(self):
        """Two hundred machines that nothing tells apart, and one more, who is neither the first nor the last."""
        request = flow(SHARED, WEB, "https", 40000, flags=ALL)
        values = with_others(network(), 200)
        self.assertEqual("agree", self.status(values, request))
        values["instances"]["web-only-97"]["interfaces"][0]["filters"] = ["mail-only"]
        self.assertEqual("unsure", self.status(values, request))
        self.assertEqual("leak", self.status(values, flow(SHARED, WEB, "ssh", 40000, flags=ALL)))

    def test_the_rule_is_named_that_stops_all_of_them(self):
        values = with_others(network(), 3)
        leak = self.found(values, flow(SHARED, WEB, "ssh", 40000, flags=ALL))
        self.assertEqual(("instance-out", "web-only", "otherwise"), leak.concluded.decider)
        self.assertIn("whoever sent it from behind the shared address", leak.concluded.why)
        self.assertEqual("kiboko check 10.2.1.10 8.8.8.8 tcp/22", leak.check_line())

    def test_none_is_named_where_each_is_stopped_by_another_nor_a_cause_at_one_of_them(self):
        values = with_others(network(), 1, "mail-only")
        walker, summary = self.summed(values, flow(SHARED, WEB, "ssh", 40000, flags=ALL))
        (leak,) = summary.rows()
        self.assertIsNone(leak.concluded.decider)
        self.assertEqual("leak", leak.concluded.status)
        self.assertEqual([], Causes(walker, summary.rows()).of(leak))
        watch = Watch(Comparison(walker), Summary(walker.directory))
        watch.add(table_of([flow(SHARED, WEB, "ssh", 40000, flags=ALL)]))
        ((met,),) = watch.judge()
        self.assertIn("answered; by the rules stopped, whoever sent it, and not by the same rule for all; one of them by"
                      " default drop of web-only", disagreement_line(met))  # fmt: skip

    def test_a_cause_at_what_all_of_them_meet_is_one(self):
        values = with_others(network(), 3)
        values["filters"]["depot-edge"] = a_filter("subnet", inbound=[{"action": "allow", "service": "ssh"}])
        values["outside"]["depot"]["filter"] = "depot-edge"
        depot = values["outside"]["depot"]["addresses"][0].partition("/")[0]
        walker, summary = self.summed(values, flow(SHARED, depot, "https", 40000, flags=ALL))
        (leak,) = summary.rows()
        self.assertEqual("depot-edge", leak.concluded.decider[1])
        causes = Causes(walker, summary.rows()).of(leak)
        self.assertIn("sender-side", [each.id for each in causes])
        self.assertEqual([], [each for each in causes if "dan" in each.looked_at])

    def test_of_a_break_the_sender_is_called_by_the_address(self):
        values = with_others(network(), 3)
        records = [flow(SHARED, WEB, "https", 40000, flags=2), flow(WEB, SHARED, "tcp/40000", 443, flags=RST, at=0.1)]
        walker, summary = self.summed(values, *records)
        (refused,) = summary.rows(("break", "unsure"))
        told = " ".join(each.looked_at for each in Causes(walker, summary.rows()).of(refused))
        self.assertNotIn("dan", told)

    def test_on_random_networks_those_that_nothing_tells_apart_stand_for_each_other(self):
        shared = 0
        with mock.patch.object(shared_senders, "_FEW", 1):
            for seed in range(6):
                topology = load(random_network(seed))
                records = random_records(topology, random.Random(seed + 50), 600)
                expected = PlainJudge(Walker(topology)).judged(records)
                judged = Evaluator(Comparison(Walker(topology))).judge(table_of(records))
                for (status, _), code in zip(expected, judged.conclusion.tolist(), strict=True):
                    found = judged.concluded[code]
                    self.assertEqual(status, found.status, (seed, found))
                    shared += found.is_shared
        self.assertGreater(shared, 50)


if __name__ == "__main__":
    unittest.main()
