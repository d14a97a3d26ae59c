"""Clauses S37 to S40: probes and flow records against the rules. Expected results are worked out by hand."""

import unittest
from datetime import UTC, datetime

from kiboko.core.errors import UsageError
from kiboko.core.evidence.causes import Causes
from kiboko.core.evidence.summary import Summary
from kiboko.core.header.addresses import parse_address
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service, parse_services
from kiboko.core.records.records import FlowRecord, ProbeRecord
from kiboko.core.walk.walk import Walker
from tests.helpers import a_filter, base, load
from tests.one_by_one import OneByOne

NOW = datetime(2026, 11, 20, 10, 0, tzinfo=UTC)
SYN, REST = 0x02, 0x1B


def network():
    """ann takes ssh from bob only; dan's subnet lets replies back to some ports only; cat listens to http."""
    values = base()
    values["filters"] = {
        "guard": a_filter("instance", inbound=[{"action": "allow", "from": "bob", "service": ["ssh", "dns"]}]),
        "edge": a_filter(
            "subnet", stateful=False, inbound=[{"action": "allow"}],
            outbound=[{"action": "allow", "service": "tcp/50000-60999"}, {"action": "allow", "service": "udp"}],
        ),
    }  # fmt: skip
    values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
    values["instances"]["ann"]["listens"] = ["ssh", "dns"]
    values["instances"]["cat"]["listens"] = ["http"]
    values["subnets"]["b1"]["filter"] = "edge"
    return values


def comparison(values=None):
    return OneByOne(Walker(load(values or network())))


def probe(source, destination, service, outcome, port=None, address="10.0.0.0", redirected=False):
    return ProbeRecord(NOW, source, destination, address, service, outcome, port, redirected=redirected)


def flow(source, destination, service, port, event="passed", flags=None, point=None, start=NOW, end=NOW):
    number = parse_services(service).lowest
    return FlowRecord(parse_address(source), parse_address(destination), Service(number >> 16, number & 0xFFFF), port,
                      event, start, end, 1, 60, flags, point)  # fmt: skip


class Probes(unittest.TestCase):
    def statuses(self, *probes):
        held = comparison()
        return [held.probe(each).status for each in probes]

    def test_the_same_is_agree_and_the_other_way_is_a_leak_or_a_break(self):
        self.assertEqual(
            self.statuses(
                probe("bob", "ann", "ssh", "answered"), probe("cat", "ann", "ssh", "silent"),
                probe("cat", "ann", "ssh", "answered"), probe("bob", "ann", "ssh", "silent"),
                probe("bob", "ann", "ssh", "refused"), probe("bob", "ann", "ssh", "unreachable"),
            ),
            ["agree", "agree", "leak", "break", "break", "break"],
        )  # fmt: skip

    def test_another_signal_agrees_and_is_told_and_unreachable_counts_as_silent(self):
        held = comparison()
        refused, unreachable = (
            held.probe(probe("cat", "ann", "ssh", "refused")),
            held.probe(probe("cat", "ann", "ssh", "unreachable")),
        )
        self.assertEqual(
            [(f.status, f.different_signal) for f in (refused, unreachable)], [("agree", True), ("agree", False)]
        )

    def test_s40_what_cannot_be_told_is_unsure(self):
        self.assertEqual(
            self.statuses(
                probe("bob", "ann", "udp/53", "silent"),  # UDP silence where the rules allow
                probe("ann", "10.1.2.99", "ssh", "silent"),  # nobody recorded there
                probe("ann", "dan", "ssh", "silent"),  # partly, and the port is not known
                probe("ann", "bob", "ssh", "refused"),  # is anything listening?
                probe("bob", "ann", "ssh", "silent", redirected=True),
            ),
            ["unsure"] * 5,
        )

    def test_s40_a_partly_flow_is_judged_by_the_probes_own_port(self):
        self.assertEqual(
            self.statuses(probe("ann", "dan", "ssh", "silent", 40000), probe("ann", "dan", "ssh", "answered", 40000),
                          probe("ann", "dan", "ssh", "answered", 50000), probe("ann", "dan", "ssh", "silent", 50000)),
            ["agree", "leak", "agree", "break"],
        )  # fmt: skip

    def test_silence_of_a_running_machine_does_not_rest_on_its_listener(self):
        self.assertEqual(
            self.statuses(probe("ann", "bob", "ssh", "silent"), probe("ann", "bob", "ssh", "answered")),
            ["break", "agree"],
        )

    def test_ends_that_the_network_does_not_know_are_refused(self):
        with self.assertRaises(UsageError):
            comparison().probe(probe("ann", "nobody", "ssh", "silent"))


class Flows(unittest.TestCase):
    def statuses(self, *records, values=None):
        held = comparison(values)
        return [held.flow(each).status for each in records]

    def test_passed_and_denied_against_the_rules(self):
        self.assertEqual(
            self.statuses(
                flow("10.1.1.11", "10.1.1.10", "ssh", 40000), flow("10.1.2.10", "10.1.1.10", "ssh", 40000, "denied"),
                flow("10.1.2.10", "10.1.1.10", "ssh", 40001), flow("10.1.1.11", "10.1.1.10", "ssh", 40001, "denied"),
            ),
            ["agree", "agree", "leak", "break"],
        )  # fmt: skip

    def test_s37_unmapped_is_never_a_leak_for_the_listener_or_a_stopped_end(self):
        values = network()
        values["instances"]["bob"]["state"] = "stopped"
        self.assertEqual(
            self.statuses(
                flow("10.1.1.10", "10.1.2.10", "tcp/99", 40000),
                flow("10.1.1.11", "10.1.1.10", "ssh", 40000),
                values=values,
            ),
            ["agree", "agree"],
        )

    def test_s37_a_record_that_says_neither_is_unsure_at_most_unless_its_reply_is_recorded(self):
        held = comparison()
        summary = Summary(held.walker.directory)
        request = flow("10.1.2.10", "10.1.1.10", "ssh", 40000, "seen")
        reply = flow("10.1.1.10", "10.1.2.10", "tcp/40000", 22, "seen")
        first = held.flow(request)
        self.assertEqual(first.status, "unsure")
        summary.add(request, first)
        summary.add(reply, held.flow(reply))
        for record, before, after in held.corrected:
            summary.correct(record, before, after)
        self.assertEqual(dict(summary.totals), {"unsure": 0, "leak": 1, "agree": 1})

    def test_s37_a_mapped_record_is_compared_with_the_gates_up_to_its_point(self):
        values = network()
        values["observation_points"] = {"7": "a2", "8": "ann/eth0"}
        early, late = (flow("10.1.2.10", "10.1.1.10", "ssh", 40000, point=point) for point in ("7", "8"))
        self.assertEqual(self.statuses(early, late, values=values), ["agree", "leak"])

    def test_s37_a_partly_flow_is_judged_by_the_records_own_port(self):
        values = network()
        values["filters"]["edge"]["inbound"] = [{"action": "allow", "source_ports": "50000-60999"}]
        self.assertEqual(
            self.statuses(
                flow("10.1.1.10", "10.2.1.10", "ssh", 40000),
                flow("10.1.1.10", "10.2.1.10", "ssh", 50000),
                values=values,
            ),
            ["leak", "agree"],
        )

    def test_ports_that_are_treated_alike_share_a_walk_that_says_what_each_ports_own_walk_says(self):
        values = network()
        values["filters"]["edge"]["inbound"] = [{"action": "drop", "source_ports": "50000-50009"}, {"action": "allow"}]
        held = comparison(values)
        ends = held.walker.directory
        source, target = ends.endpoint(parse_address("10.1.1.10")), parse_address("10.2.1.10")
        for port in (0, 1, 40000, 49999, 50000, 50009, 50010, 60999, 61000, 65535):
            shared = held._walk(source, target, Service(6, 22), port)
            own = held.walker.walk(source, target, Service(6, 22), RangeSet.one(port))
            said = [
                (w.verdict, w.signal, w.decided_by and (w.decided_by.gate, w.decided_by.rule)) for w in (shared, own)
            ]
            self.assertEqual(said[0], said[1], port)
        self.assertLessEqual(len(held._walks), 4, "below, in and above the dropped range, and what is not ephemeral")

    def test_s38_a_flow_seen_behind_or_in_front_of_the_gateway_is_the_same_flow(self):
        values = network()
        values["filters"]["guard"]["inbound"] = [{"action": "allow", "from": "192.0.2.0/24", "service": "ssh"}]
        self.assertEqual(
            self.statuses(flow("192.0.2.1", "10.1.1.10", "ssh", 40000), flow("192.0.2.1", "203.0.113.10", "ssh", 40000),
                          flow("203.0.113.20", "192.0.2.1", "ssh", 40000), flow("10.1.2.10", "192.0.2.1", "ssh", 40000), values=values),
            ["agree"] * 4,
        )  # fmt: skip

    def test_s38_who_is_behind_a_shared_address_is_not_recorded(self):
        self.assertEqual(self.statuses(flow("203.0.113.2", "203.0.113.10", "ssh", 40000)), ["unsure"])

    def test_s39_replies_are_recognised_and_never_leaks(self):
        held = comparison()
        found = held.flow(flow("10.1.1.10", "10.1.1.11", "tcp/40000", 22))
        self.assertEqual((found.status, found.is_reply), ("agree", True), "a reply also where its own way is open")
        values = network()
        values["filters"]["guard"]["outbound"] = []
        held = comparison(values)
        found = held.flow(flow("10.1.1.10", "10.1.1.11", "tcp/40000", 22))
        self.assertEqual((found.status, found.is_reply), ("agree", True))
        self.assertEqual(held.flow(flow("10.1.1.10", "10.1.1.11", "tcp/40000", 22, flags=SYN)).status, "leak")
        self.assertEqual(
            held.flow(flow("10.1.1.10", "10.1.1.11", "tcp/40000", 2222)).status, "leak", "nobody serves 2222"
        )
        self.assertEqual(
            held.flow(flow("10.1.1.10", "10.1.1.11", "tcp/1000", 22)).status, "leak", "1000 is not ephemeral"
        )
        self.assertEqual(
            held.flow(flow("10.1.1.10", "10.1.2.10", "tcp/40000", 22)).status, "leak", "cat may not ask ann"
        )

    def test_s39_the_reply_of_a_recorded_request_is_judged_by_the_gates_of_the_reply(self):
        held = comparison()
        leak = held.flow(flow("10.1.2.10", "10.1.1.10", "ssh", 40000))
        reply = held.flow(flow("10.1.1.10", "10.1.2.10", "tcp/40000", 22, flags=REST))
        self.assertEqual([(f.status, f.is_reply) for f in (leak, reply)], [("leak", False), ("agree", True)])
        request = held.flow(flow("10.1.1.10", "10.2.1.10", "ssh", 40000))
        stopped = held.flow(flow("10.2.1.10", "10.1.1.10", "tcp/40000", 22, "denied"))
        passed = held.flow(flow("10.2.1.10", "10.1.1.10", "tcp/40000", 22, "passed"))
        self.assertEqual([f.status for f in (request, stopped, passed)], ["agree", "agree", "leak"])

    def test_a_denied_reply_of_an_allowed_flow_is_a_break_with_no_way_back(self):
        held = comparison()
        held.flow(flow("10.1.1.11", "10.1.1.10", "ssh", 40000))
        found = held.flow(flow("10.1.1.10", "10.1.1.11", "tcp/40000", 22, "denied"))
        self.assertEqual((found.status, found.cause), ("break", "no-way-back"))

    def test_echo_replies(self):
        values = network()
        values["filters"]["guard"]["outbound"] = []
        values["filters"]["guard"]["inbound"].append({"action": "allow", "service": "ping"})
        self.assertEqual(self.statuses(flow("10.1.1.10", "10.1.2.10", "icmp/0/0", None), values=values), ["agree"])

    def test_records_and_sessions_older_than_the_network_file_are_set_apart(self):
        values = network()
        values["as_of"] = "2026-11-20T09:00:00Z"
        before, long_ago = datetime(2026, 11, 20, 8, 59, tzinfo=UTC), datetime(2026, 11, 18, tzinfo=UTC)
        held = comparison(values)
        old = held.flow(flow("10.1.2.10", "10.1.1.10", "ssh", 40000, start=long_ago, end=before))
        session = held.flow(flow("10.1.2.10", "10.1.1.10", "ssh", 40001, start=long_ago, end=NOW))
        self.assertEqual(
            [(f.status, f.cause) for f in (old, session)], [("unsure", "log-before-as-of"), ("unsure", "older-session")]
        )

    def test_a_refusal_in_a_log_is_no_leak(self):
        """cat may not reach ann; ann's kernel, or a filter, says so with a reset that stateful filters let out (S34)."""
        values = network()
        values["filters"]["guard"]["outbound"] = []
        held = comparison(values)
        reset = flow("10.1.1.10", "10.1.2.10", "tcp/40000", 22, flags=0x14)
        self.assertEqual((held.flow(reset).status, held.flow(reset).is_reply), ("agree", True))
        self.assertEqual(held.flow(flow("10.1.1.10", "10.1.2.10", "icmp/3/3", None)).status, "unsure")

    def test_a_reset_to_a_bare_opening_packet_is_a_break_where_the_rules_allow(self):
        held = comparison()
        self.assertEqual(held.flow(flow("10.1.1.11", "10.1.1.10", "ssh", 40000, flags=SYN)).status, "agree")
        finding = held.flow(flow("10.1.1.10", "10.1.1.11", "tcp/40000", 22, flags=0x14))
        self.assertEqual((finding.status, finding.observed), ("break", "refused"))

    def test_a_packet_that_meets_its_point_twice_has_passed_there_once(self):
        """ann to bob's public address: the subnet's filter is passed on the way out and stops on the way in."""
        values = network()
        values["filters"]["way-in"] = a_filter("subnet", inbound=[])
        values["subnets"]["a1"]["filter"] = "way-in"
        values["observation_points"] = {1: "a1"}
        held = comparison(values)
        bob = values["instances"]["bob"]["interfaces"][0]
        bob["public"] = "203.0.113.11"
        held = comparison(values)
        out = flow("10.1.1.10", "203.0.113.11", "http", 40000, flags=SYN, point="1")
        self.assertEqual(held.flow(out).status, "agree")
        inside = flow("203.0.113.10", "10.1.1.11", "http", 40000, flags=SYN, point="1")
        self.assertEqual(held.flow(inside).status, "leak")


class LikelyCauses(unittest.TestCase):
    """Ranked by what the other evidence says. Who is who: ann takes ssh from bob only."""

    def ranked(self, *probes, values=None, older=None):
        held = comparison(values)
        summary = Summary(held.walker.directory)
        for each in probes:
            summary.add(each, held.probe(each))
        causes = Causes(held.walker, summary.groups.values(), older)
        return {(g.source, g.service): [c.id for c in causes.of(g)] for g in summary.rows(("leak", "break"))}

    def test_several_services_let_through_at_one_machine_alone_are_not_enforced_there(self):
        found = self.ranked(probe("cat", "ann", "ssh", "answered"), probe("cat", "ann", "udp/53", "answered"))
        self.assertEqual([ids[0] for ids in found.values()], ["not-enforced"] * 2)

    def test_a_filter_that_stops_other_traffic_there_is_enforced_and_so_by_older_rules(self):
        found = self.ranked(probe("cat", "ann", "ssh", "answered"), probe("cat", "ann", "udp/53", "silent"))
        self.assertEqual(found["cat", "ssh"][0], "older-filter")

    def test_a_service_that_answers_nobody_and_refuses_is_down(self):
        found = self.ranked(probe("bob", "ann", "ssh", "refused"), probe("bob", "ann", "ping", "answered"))
        self.assertEqual(found["bob", "ssh"][0], "service-down")

    def test_a_service_that_answers_others_is_not_down_but_the_sender_side_blocks(self):
        values = network()
        values["filters"]["guard"]["inbound"][0]["from"] = "any"
        found = self.ranked(probe("198.51.100.3", "ann", "ssh", "silent"), probe("bob", "ann", "ssh", "answered"),
                            values=values)  # fmt: skip
        self.assertEqual(found["198.51.100.3", "ssh"][0], "sender-side")

    def test_a_machine_that_answers_nobody_on_anything_is_unwell(self):
        values = network()
        values["filters"]["guard"]["inbound"][0]["from"] = "any"
        silent = [probe(who, "ann", what, "silent") for who in ("bob", "cat") for what in ("ssh",)]
        found = self.ranked(*silent, probe("bob", "ann", "udp/53", "refused"), values=values)
        self.assertEqual(found["cat", "ssh"][0], "host-unhealthy")

    def test_what_agrees_with_an_older_file_is_an_older_filter(self):
        values = network()
        values["filters"]["guard"]["inbound"][0]["from"] = "any"
        older = Walker(load(values))
        found = self.ranked(probe("cat", "ann", "ssh", "answered"), older=older)
        self.assertEqual(found["cat", "ssh"][0], "older-filter")

    def test_a_sender_in_no_record_may_be_an_address_nobody_recorded(self):
        found = self.ranked(probe("10.1.1.77", "ann", "ssh", "answered"))
        self.assertIn("no-address", found["10.1.1.77", "ssh"])

    def test_the_check_line_reproduces_the_example(self):
        held = comparison()
        summary = Summary(held.walker.directory)
        record = flow("10.1.2.10", "10.1.1.10", "http", 40002)
        summary.add(record, held.flow(record))
        line = "kiboko check 10.1.2.10 10.1.1.10 tcp/80 --client-ports 40002"
        self.assertEqual(next(summary.rows()).check_line(), line)


if __name__ == "__main__":
    unittest.main()
