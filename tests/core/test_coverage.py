"""What evidence covers, by hand: gaps, subnets and points without a record, rules that do not log; and both kinds of
evidence side by side."""

import unittest
from collections import Counter
from datetime import UTC, datetime, timedelta
from unittest import mock

import numpy as np

from kiboko.core.evidence.comparison import LEAK, Comparison
from kiboko.core.evidence.coverage import AS_FAR_AS_SEEN, Coverage, Gap, SubnetPlaces, unlogged
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.side_by_side import Side, side_by_side
from kiboko.core.evidence.summary import Summary
from kiboko.core.header.addresses import parse_address
from kiboko.core.header.services import Service
from kiboko.core.records.flow_query import MINUTE, Timeline
from kiboko.core.records.flow_table import AddressTable, milliseconds, table_of
from kiboko.core.records.records import DENIED, PASSED, FlowRecord, ProbeRecord
from kiboko.core.walk.walk import UNKNOWN, Walker
from tests.helpers import a_filter, base, load

TEN = datetime(2026, 11, 20, 10, tzinfo=UTC)


def flow(
    minute, source="10.1.1.10", destination="10.1.2.10", port=22, event=PASSED, point="1", source_port=40000, flags=2
):
    at = TEN + timedelta(minutes=minute)
    ends = parse_address(source), parse_address(destination)
    return FlowRecord(*ends, Service(6, port), source_port, event, at, at, 1, 60, flags, point)


def network():
    values = base()
    values["observation_points"] = {"1": "a1", "2": "b1", "192.0.2.1/7": "a2"}
    values["filters"] = {
        "quiet": a_filter("subnet", inbound=[{"action": "allow", "service": "ssh"}]),
        "loud": a_filter("instance", rules=[{"action": "drop", "service": "http", "log": True}, {"action": "allow"}]),
    }
    values["subnets"]["b1"]["filter"] = "quiet"
    values["instances"]["cat"]["listens"] = ["ssh"]
    return values


def translated():
    """The network in which what comes to cat from public addresses is dropped."""
    values = network()
    values["filters"]["edge"] = a_filter("subnet", inbound=[{"action": "allow", "from": "north"}])
    values["subnets"]["a2"]["filter"] = "edge"
    return values


class Covering(unittest.TestCase):
    def setUp(self):
        self.walker = Walker(load(network()))
        self.topology = self.walker.topology

    def covered(self, *tables):
        evaluator = Evaluator(Comparison(self.walker))
        found = Coverage(SubnetPlaces.of(self.topology))
        for records in tables:
            table = table_of(list(records))
            part = Coverage(SubnetPlaces.of(self.topology))
            part.add(table, evaluator.judge(table))
            found.merge(part)
        return found

    def test_points_and_the_minutes_in_which_they_recorded(self):
        coverage = self.covered([flow(0), flow(0), flow(3)], [flow(4), flow(1, point="192.0.2.1/7/3")])
        records, minutes = coverage.points["1"]
        base_minute = milliseconds(TEN) // MINUTE
        self.assertEqual((records.records, sorted(m - base_minute for m in minutes)), (4, [0, 3, 4]))
        self.assertEqual(coverage.points_without(self.topology), ["2"])

    def test_statuses_over_time(self):
        coverage = self.covered([flow(0), flow(0, destination="10.2.1.10", port=80, point="2"), flow(2)])
        rows = [(begin - milliseconds(TEN), dict(zip(coverage.timeline.kinds, counts, strict=True)))
                for begin, counts in coverage.timeline.rows()]  # fmt: skip
        self.assertEqual(
            [(begin // MINUTE, counts[LEAK], counts[AS_FAR_AS_SEEN]) for begin, counts in rows],
            [(0, 1, 1), (1, 0, 0), (2, 0, 1)],
        )

    def test_subnets_that_no_record_has_an_address_of(self):
        self.assertEqual(self.covered([flow(0)]).subnets_without(self.topology), ["b1"])
        # cat of a2 by its public address; the other end is nobody's.
        coverage = self.covered([flow(0, "192.0.2.9", "203.0.113.20")])
        self.assertEqual(coverage.subnets_without(self.topology), ["a1", "b1"])
        coverage = self.covered([flow(0, "2001:db8::9", "2001:db8:1:1::10")])
        self.assertEqual(coverage.subnets_without(self.topology), ["a2", "b1"])

    def test_subnets_of_both_families_hold_their_first_and_last_address(self):
        values = base()
        values["subnets"]["a2"]["cidr"] = [values["subnets"]["a2"]["cidr"], "2001:db8:1:2::/64"]
        places = SubnetPlaces.of(load(values))
        for text, want in (
            ("2001:db8:1:1::", {"a1"}), ("2001:db8:1:1:ffff:ffff:ffff:ffff", {"a1"}), ("2001:db8:1:2::9", {"a2"}),
            ("2001:db8:1::1", set()), ("2001:db8:1:3::", set()), ("10.1.2.255", {"a2"}), ("::10.1.2.1", set()),
        ):  # fmt: skip
            table = AddressTable.of([parse_address("192.0.2.1"), parse_address(text)])
            self.assertEqual(places.met(table, np.array([True, True])), want, text)
            self.assertEqual(places.met(table, np.array([True, False])), set(), text)

    def test_gaps_are_long_beside_what_is_usual_and_told_once(self):
        everywhere = [flow(m, point=p) for m in [*range(10), *range(40, 60)] for p in ("1", "2")]
        (gap,) = self.covered(everywhere).gaps()
        self.assertEqual(gap, Gap(None, milliseconds(TEN) + 10 * MINUTE, milliseconds(TEN) + 40 * MINUTE))
        one_silent = [flow(m) for m in range(60)] + [flow(m, point="2") for m in [*range(10), *range(50, 60)]]
        (gap,) = self.covered(one_silent).gaps()
        self.assertEqual((gap.point, (gap.end - gap.begin) // MINUTE), ("2", 40))
        slow = [flow(m) for m in range(0, 600, 20)]  # every twenty minutes: none is missing
        self.assertEqual(self.covered(slow).gaps(), [])

    def test_rules_that_do_not_log(self):
        self.assertEqual(unlogged(self.topology), (2, ["quiet"]))

    def test_a_few_records_from_long_before_do_not_squeeze_the_rest(self):
        start = np.array([0] + [10_000 * MINUTE + n * MINUTE for n in range(200)])
        timeline = Timeline(MINUTE)
        timeline.note(start, np.zeros(201, dtype=np.uint8))
        kept, early = timeline.without_early()
        self.assertEqual((early, len(kept.rows()), sum(sum(counts) for _, counts in kept.rows())), (1, 200, 200))
        even = Timeline(MINUTE)
        even.note(np.arange(200) * MINUTE, np.zeros(200, dtype=np.uint8))
        self.assertEqual(even.without_early(), (even, 0))


class SideBySide(unittest.TestCase):
    def sides(self, probes, records, values=None):
        walker = Walker(load(values or network()))
        comparison, summary = Comparison(walker), Summary(walker.directory)
        for destination, address, port, outcome, *client_port in probes:
            record = ProbeRecord(TEN, "ann", destination, address, f"tcp/{port}", outcome, *(client_port or [40000]))
            summary.add(record, comparison.probe(record))
        summary.take_all(Evaluator(comparison).tallies(table_of(records)), comparison.finding)
        return side_by_side(summary)

    def told(self, probes, records, values=None):
        return [
            (s.source, s.destination, s.service, dict(s.probes), dict(s.records), s.follows.partition(":")[0])
            for s in self.sides(probes, records, values)
        ]

    def test_what_follows_from_all_three(self):
        ssh, http, telnet = ("cat", "10.1.2.10", 22), ("dan", "10.2.1.10", 80), ("cat", "10.1.2.10", 23)

        def answer(port, flags=18):
            return flow(0, "10.1.2.10", "10.1.1.10", 40000, source_port=port, flags=flags)

        def on_its_way(event=PASSED, point="1"):
            return flow(0, destination="10.2.1.10", port=80, event=event, point=point)

        reset = [flow(0), answer(22, 0x14)]
        for probed, outcome, records, said, conclusion in (
            (ssh, "answered", [flow(0), answer(22)], {"arrived": 2}, "all three agree"),
            (ssh, "answered", reset, {"refused": 2}, "answered to the probe, and refused for others"),
            (ssh, "silent", [flow(0, event=DENIED)], {"denied": 1}, "a filter stops it that the rules do not have there"),
            (ssh, "refused", [flow(0), answer(22)], {"arrived": 2}, "answered for others, refused to the probe"),
            (ssh, "refused", [flow(0)], {"passed": 1}, "it arrives and is refused"),
            (ssh, "silent", [flow(0)], {"passed": 1}, "the log has it on its way, and nothing came back"),
            (http, "silent", [on_its_way(DENIED, "2")], {"denied": 1}, "all three agree"),
            (http, "silent", [on_its_way(DENIED)], {"denied": 1}, "it is stopped, and not where the rules stop it"),
            (http, "refused", [on_its_way(DENIED, "2")], {"denied": 1},
             "denied for others, as the rules say, and refused to the probe"),
            (http, "answered", [on_its_way(point="2")], {"passed": 1}, "both saw it get through"),
            (http, "answered", [on_its_way()], {"passed": 1}, "the probe was answered"),
            (http, "silent", [on_its_way(point="2")], {"passed": 1},
             "the log saw it pass a filter that stops it by the rules, the probe was not answered"),
            (http, "silent", [on_its_way()], {"passed": 1}, "on its way where the log was taken, and not answered"),
            (http, "refused", [on_its_way()], {"passed": 1}, "refused, where the rule that stops it keeps silent"),
            (telnet, "answered", [flow(0, port=23), answer(23)], {"arrived": 2},
             "it gets through the filters, as the rules say"),
            (telnet, "refused", [flow(0, port=23)], {"passed": 1}, "on its way where the log was taken, and refused"),
            (telnet, "refused", [flow(0, port=23), answer(23, 0x14)], {"refused": 2}, "all three agree"),
        ):  # fmt: skip
            with self.subTest(conclusion):
                (side,) = self.told([(*probed, outcome)], records)
                self.assertEqual(side, ("ann", probed[0], f"tcp/{probed[2]}", {outcome: 1}, said, conclusion))

    def test_a_silence_in_the_log_beside_an_answer_to_the_probe_is_no_agreement(self):
        others = [flow(0, port=22, source_port=port) for port in (50001, 50002)]
        others += [flow(0, "10.1.2.10", "10.1.1.10", each.source_port, source_port=22, flags=18) for each in others]
        later = flow(1, source_port=50009)
        (side,) = self.told([("cat", "10.1.2.10", 22, "answered")], [*others, flow(0), later])
        self.assertEqual(
            ({"silent": 1, "arrived": 4, "passed": 1}, "answered to the probe, and not answered for others"), side[4:]
        )

    def test_where_the_rules_cannot_tell_nothing_is_a_leak_and_nothing_agrees(self):
        walk = mock.Mock(verdict=UNKNOWN)
        for probe, event in (("answered", "passed"), ("silent", "passed"), ("silent", "denied")):
            side = Side("a", "b", "tcp/22", walk, Counter({probe: 1}), Counter({event: 1}))
            self.assertTrue(side.conclusion.startswith("the rules cannot tell"), side.conclusion)

    def test_a_machine_asked_by_two_addresses_is_two_kinds_of_traffic(self):
        """cat is let in by its private address, and not by its public one."""
        probes = [("cat", "10.1.2.10", 22, "answered"), ("203.0.113.20", "203.0.113.20", 22, "silent")]
        records = [flow(0), flow(0, "10.1.2.10", "10.1.1.10", 40000, source_port=22, flags=18),
                   flow(1, destination="203.0.113.20", event=DENIED)]  # fmt: skip
        told = self.told(probes, records, translated())
        self.assertEqual(
            [("cat", {"silent": 1}, {"denied": 1}, "it is stopped, and not where the rules stop it"),
             ("cat", {"answered": 1}, {"arrived": 2}, "all three agree")],
            sorted(((to, probe, seen, said) for _, to, _, probe, seen, said in told), key=lambda each: "silent" not in each[1]),
        )  # fmt: skip

    def test_what_traffic_of_one_name_is_told_apart_by_is_said(self):
        """ssh of cat by two addresses; of dan by two client ports, of which replies come back to the upper one alone."""
        ports = network()
        ports["filters"]["quiet"] |= {
            "stateful": False, "inbound": [{"action": "allow"}],
            "outbound": [{"action": "allow", "service": "tcp/50000-60999"}],
        }  # fmt: skip
        for values, probes, records, said in (
            (translated(), [("cat", "10.1.2.10", 22, "answered"), ("203.0.113.20", "203.0.113.20", 22, "silent")],
             [flow(0), flow(1, destination="203.0.113.20", event=DENIED)], "(it rests on the address that is asked)"),
            (ports, [("dan", "10.2.1.10", 22, "silent"), ("dan", "10.2.1.10", 22, "answered", 50001)],
             [flow(0, destination="10.2.1.10"), flow(9, destination="10.2.1.10", source_port=50001)],
             "(it rests on the client port)"),
        ):  # fmt: skip
            sides = self.sides(probes, records, values)
            self.assertEqual(2, len(sides))
            self.assertTrue(all(side.conclusion.endswith(said) for side in sides), [s.conclusion for s in sides])

    def test_what_is_older_than_the_network_file_is_no_leak_beside_each_other_either(self):
        values = network()
        values["as_of"] = "2026-11-21T00:00:00Z"
        evidence = [("dan", "10.2.1.10", 80, "answered")], [flow(0, destination="10.2.1.10", port=80)]
        self.assertEqual(["the probe was answered"], [each[-1] for each in self.told(*evidence)])
        self.assertEqual(
            ["against the rules, and older than the network file"], [each[-1] for each in self.told(*evidence, values)]
        )

    def test_records_of_services_that_no_rule_tells_apart_are_of_the_one_that_was_probed(self):
        ((_, _, service, _, seen, _),) = self.told(
            [("dan", "10.2.1.10", 8083, "silent")],
            [flow(minute, destination="10.2.1.10", port=port, event=DENIED) for minute, port in ((0, 8081), (1, 8090))],
        )
        self.assertEqual(("tcp/8083", {"denied": 2}), (service, seen))
        self.assertEqual(
            [], self.told([("dan", "10.2.1.10", 8095, "silent")], [flow(0, destination="10.2.1.10", port=8081)])
        )

    def test_what_only_one_of_them_speaks_of_is_not_shown(self):
        self.assertEqual(self.told([("cat", "10.1.2.10", 22, "answered")], [flow(0, port=443)]), [])


if __name__ == "__main__":
    unittest.main()
