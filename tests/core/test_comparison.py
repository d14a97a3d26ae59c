"""Probes against the rules, and the likely causes of what disagrees. Expected results are worked out by hand."""

import unittest
from datetime import UTC, datetime

from kiboko.core.errors import UsageError
from kiboko.core.evidence.causes import Causes
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.summary import Summary
from kiboko.core.header.addresses import parse_address
from kiboko.core.header.services import Service, parse_services
from kiboko.core.records.records import FlowRecord, ProbeRecord
from kiboko.core.walk.walk import Walker
from tests.core.test_clauses_signals import listing
from tests.helpers import a_filter, base, load

NOW = datetime(2026, 11, 20, 10, 0, tzinfo=UTC)


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
    return Comparison(Walker(load(values or network())))


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
            [(f.status, f.concluded.different_signal) for f in (refused, unreachable)],
            [("agree", True), ("agree", False)],
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

    def test_a_probe_of_what_lets_through_the_first_packet_alone_is_no_break_however_it_ends(self):
        """Whether it sees the answer, or what becomes of its next packet, is a race (S35)."""
        values = network()
        values["instances"]["bob"]["host_filter"] = {"nftables": "bob.json"}
        files = {"bob.json": listing("input", "drop", ("new", "accept"))}
        held = Comparison(Walker(load(values, files)))
        found = [held.probe(probe("ann", "bob", "ssh", outcome)) for outcome in ("answered", "refused", "silent")]
        self.assertEqual(["agree", "unsure", "unsure"], [each.status for each in found])
        self.assertTrue(all("stop what follows at host-in of bob" in each.why for each in found), found)

    def test_silence_of_a_running_machine_does_not_rest_on_its_listener(self):
        self.assertEqual(
            self.statuses(probe("ann", "bob", "ssh", "silent"), probe("ann", "bob", "ssh", "answered")),
            ["break", "agree"],
        )

    def test_ends_that_the_network_does_not_know_are_refused(self):
        with self.assertRaises(UsageError):
            comparison().probe(probe("ann", "nobody", "ssh", "silent"))


class LikelyCauses(unittest.TestCase):
    """Ranked by what the other evidence says. Who is who: ann takes ssh from bob only."""

    def ranked(self, *probes, values=None, older=None):
        held = comparison(values)
        summary = Summary(held.walker.directory)
        for each in probes:
            summary.add(each, held.probe(each))
        causes = Causes(held.walker, summary.rows(), older)
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


if __name__ == "__main__":
    unittest.main()
