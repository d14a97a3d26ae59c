"""Probes against the rules, and the likely causes of what disagrees. Expected results are worked out by hand."""

import json
import unittest
from datetime import UTC, datetime, timedelta

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


OWN = {"ann": "10.1.1.10", "bob": "10.1.1.11", "cat": "10.1.2.10", "dan": "10.2.1.10"}
PUBLIC = {"ann": "203.0.113.10", "cat": "203.0.113.20"}


def probe(source, destination, service, outcome, port=None, address=None, redirected=False, sent_from=None):
    means = OWN if source in OWN or source.startswith("10.") else {**OWN, **PUBLIC}
    address = address or means.get(destination, destination)
    return ProbeRecord(
        NOW, source, destination, address, service, outcome, port, redirected=redirected, sent_from=sent_from
    )


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
                probe("cat", "192.0.2.9", "ssh", "refused"),  # nor is it known outside
                probe("bob", "ann", "ssh", "silent", redirected=True),
            ),
            ["unsure"] * 6,
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

    def test_a_probe_of_what_is_not_known_is_no_leak_and_no_failure_of_the_rules(self):
        """A rule with a limit may let ssh pass, or not (S35): it was seen to, or what stopped it is open."""
        values = network()
        values["instances"]["bob"]["host_filter"] = {"nftables": "bob.json"}
        values["instances"]["bob"]["listens"] = ["ssh"]
        limited = json.loads(listing("input", "drop", ("new", "accept")))
        limited["nftables"][-1]["rule"]["expr"] = [{"limit": {"rate": 10, "per": "second"}}, {"accept": None}]
        held = Comparison(Walker(load(values, {"bob.json": json.dumps(limited)})))
        found = {
            outcome: held.probe(probe("ann", "bob", "ssh", outcome))
            for outcome in ("answered", "refused", "silent", "unreachable")
        }
        self.assertEqual({"unknown"}, {each.walk.verdict for each in found.values()})
        answered = found.pop("answered").concluded
        self.assertEqual(("agree", True), (answered.status, answered.as_far_as_seen), "no gate was tested by it")
        self.assertEqual(
            {("unsure", "it rests on host-in at bob, which is not known")},
            {(each.status, each.why) for each in found.values()},
        )

    def test_e9_an_answer_that_only_the_inventory_stops_is_no_leak(self):
        values = network()
        values["instances"]["bob"]["listens"] = ["http"]
        values["instances"]["dan"]["state"] = "stopped"
        values["subnets"]["b1"].pop("filter")
        held = comparison(values)
        for target in ("bob", "dan"):
            answered, silent = (held.probe(probe("ann", target, "ssh", outcome)) for outcome in ("answered", "silent"))
            self.assertEqual(("agree", True), (answered.status, answered.concluded.is_inventory), target)
            self.assertEqual(("agree", False), (silent.status, silent.concluded.is_inventory), target)

    def test_s4_of_what_no_rule_is_asked_about_a_probe_proves_nothing(self):
        held = comparison()
        for source, target, why in (
            ("ann", "ann", "of one machine"), ("ann", "203.0.113.10", "of one machine"),
            ("192.0.2.1", "192.0.2.2", "both ends are outside"), ("ann", "10.1.1.255", "no router delivers"),
            ("ann", "224.0.0.1", "no router delivers"), ("127.0.0.1", "ann", "no router delivers"),
        ):  # fmt: skip
            for outcome in ("answered", "silent"):
                found = held.probe(probe(source, target, "ssh", outcome))
                self.assertEqual("unsure", found.status, (source, target))
                self.assertIn(why, found.why)

    def test_s40_a_probe_is_of_the_addresses_that_it_left_from_and_went_to(self):
        """ann takes ssh from bob alone, who is 10.1.1.11; cat is asked from outside at 203.0.113.20 alone."""
        held = comparison()
        for record, status, why in (
            (probe("bob", "ann", "ssh", "answered", sent_from="10.1.1.11"), "agree", "answered, as the rules say"),
            (probe("203.0.113.20", "ann", "ssh", "silent", address="10.1.1.10", sent_from="10.1.2.10"), "agree",
             "both fail"),
            (probe("bob", "ann", "ssh", "answered", sent_from="10.1.2.10"), "unsure",
             "it left from 10.1.2.10, which is no address of bob"),
            (probe("bob", "ann", "ssh", "answered", sent_from="172.17.0.2"), "unsure",
             "it left from 172.17.0.2, which is no address of bob"),
            (probe("bob", "ann", "ssh", "answered", sent_from="2001:db8:1:1::10"), "unsure",
             "it left from 2001:db8:1:1::10, which is no address of bob"),
            (probe("bob", "ann", "ssh", "answered", address="10.1.2.10"), "unsure",
             "it went to 10.1.2.10, which is no address of ann"),
            # The address of ann that it went to is the public one, where the sender is another than bob's.
            (probe("bob", "ann", "ssh", "silent", address="203.0.113.10"), "agree", "both fail"),
        ):  # fmt: skip
            with self.subTest(record):
                found = held.probe(record)
                self.assertEqual((status, why), (found.status, found.why))
        self.assertEqual(("bob", "203.0.113.10"), found.named)

    def test_s40_a_machine_of_several_addresses_is_probed_from_the_one_that_packets_left_from(self):
        values = network()
        values["instances"]["bob"]["interfaces"].append({"name": "second", "subnet": "a2", "addresses": ["10.1.2.12"]})
        values["filters"]["guard"]["inbound"][0]["from"] = "10.1.1.11"
        held = comparison(values)
        first, second = (
            held.probe(probe("bob", "ann", "ssh", "answered", sent_from=address))
            for address in ("10.1.1.11", "10.1.2.12")
        )
        self.assertEqual(("agree", "leak"), (first.status, second.status))
        # The question names what was judged: bob, and the address that his name does not mean.
        self.assertEqual([("bob", "ann"), ("10.1.2.12", "ann")], [first.named, second.named])

    def test_s40_whose_own_address_is_translated_stands_for_all_of_its_outside(self):
        """The depot is 198.51.100.0/28, and ssh of ann is for bob; http of cat is for everybody but half of the depot."""
        values = network()
        values["filters"]["half"] = a_filter(
            "instance", inbound=[{"action": "drop", "from": "198.51.100.8/29"}, {"action": "allow"}]
        )
        values["instances"]["cat"]["interfaces"][0]["filters"] = ["half"]
        held = comparison(values)
        for sender, service, sent_from, outcome, status in (
            ("depot", "ssh", "192.168.1.5", "answered", "leak"),  # to ann: nobody of it may
            ("depot", "http", "192.168.1.5", "answered", "unsure"),  # to cat: some may, and some may not
            ("depot", "http", None, "silent", "unsure"),
            ("depot", "http", "198.51.100.3", "answered", "agree"),
            ("depot", "http", "198.51.100.9", "answered", "leak"),
            ("198.51.100.9", "http", "192.168.1.5", "answered", "leak"),  # it is said which
            ("depot", "http", "192.0.2.9", "answered", "unsure"),  # of somebody else
            ("depot", "http", "10.1.1.11", "answered", "unsure"),  # bob, who calls himself the depot
            ("internet", "http", "192.168.1.5", "answered", "agree"),  # the depot has a name of its own
        ):
            with self.subTest(sender=sender, service=service, sent_from=sent_from):
                target = "ann" if service == "ssh" else "cat"
                found = held.probe(probe(sender, target, service, outcome, sent_from=sent_from))
                self.assertEqual(status, found.status, found.why)
                own = sent_from if sent_from in ("198.51.100.3", "198.51.100.9") else sender
                self.assertEqual((own, target), found.named)
        six = held.probe(
            probe("internet", "ann", "https", "silent", address="2001:db8:1:1::10", sent_from="2001:db8:9::1")
        )
        self.assertEqual("agree", six.status, "an outside has addresses of both families")

    def test_s40_what_was_probed_before_as_of_is_no_leak_and_no_break(self):
        for days, statuses in ((-1, ["break", "leak", "agree"]), (1, ["unsure", "unsure", "agree"])):
            values = network()
            values["as_of"] = (NOW + timedelta(days=days)).isoformat()
            held = comparison(values)
            found = [
                held.probe(probe(*each))
                for each in (("bob", "ann", "ssh", "silent"), ("cat", "ann", "ssh", "answered"),
                             ("bob", "ann", "ssh", "answered"))
            ]  # fmt: skip
            self.assertEqual(statuses, [each.status for each in found])
            self.assertEqual(days > 0, found[0].concluded.before_as_of)

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
