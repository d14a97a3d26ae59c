"""Likely causes, one by one: for each the smallest evidence that points to it. Who may what is worked out by hand.

ann carries two filters: `guard` by name, which takes ssh from bob, and `fleet` from the filter's side, which drops telnet.
"""

import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from unittest import mock

from kiboko.core.evidence import telling
from kiboko.core.evidence.causes import CAUSE_IDS, Causes
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.summary import Summary
from kiboko.core.records.flow_table import table_of
from kiboko.core.walk.walk import Walker
from tests.core.test_comparison import probe
from tests.core.test_evidence import ALL, NOW, SYN_ACK, both, flow
from tests.helpers import a_filter, base, load


def network():
    values = base()
    values["groups"] = {"admins": {"where": {"role": "admin"}}}
    values["filters"] = {
        "guard": a_filter("instance", otherwise="drop", inbound=[
            {"action": "allow", "from": ["bob", "admins"], "service": ["ssh", "telnet", "udp/53"]}]),
        "fleet": a_filter("instance", otherwise="allow", attach_to=["ann", "cat"],
                          rules=[{"action": "drop", "service": "telnet"}]),
        "own": a_filter("host", otherwise="allow", inbound=[{"action": "drop", "service": "rdp"}]),
        "site-edge": a_filter("subnet", otherwise="allow", outbound=[{"action": "drop", "service": "smtp"}]),
        "narrow": a_filter("subnet", stateful=False, inbound=[{"action": "allow"}],
                           outbound=[{"action": "allow", "service": "tcp/32768-60999"}]),
    }  # fmt: skip
    values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
    values["instances"]["ann"]["listens"] = ["ssh", "telnet", "udp/53"]
    values["instances"]["bob"]["tags"] = {"role": "admn"}
    values["instances"]["cat"]["host_filter"] = "own"
    values["instances"]["cat"]["listens"] = ["ssh", "telnet", "rdp", "smtp"]
    values["instances"]["dan"]["listens"] = ["ssh"]
    values["outside"]["depot"]["filter"] = "site-edge"
    values["subnets"]["b1"]["filter"] = "narrow"
    return values


class EachCause(unittest.TestCase):
    def ranked(self, *records, values=None):
        """The ids of what `causes` finds."""
        return [each.id for each in self.causes(*records, values=values)]

    def causes(self, *records, values=None):
        """The causes of the last probe's group, or of the one group of flow records, the likeliest first."""
        held = Comparison(Walker(load(values or network())))
        summary = Summary(held.walker.directory)
        flows = [each for each in records if hasattr(each, "event")]
        summary.take_all(Evaluator(held).tallies(table_of(flows)), held.finding)
        for each in records:
            if each not in flows:
                summary.add(each, held.probe(each))
        causes = Causes(held.walker, summary.rows())
        group = next(g for g in summary.groups.values() if flows or g.example is records[-1])
        found = causes.of(group)
        self.assertTrue(all(each.looked_at and each.to_confirm for each in found))
        self.assertTrue({each.id for each in found} <= set(CAUSE_IDS))
        self.assertEqual(len({each.id for each in found}), len(found))
        return found

    def test_whoever_is_of_no_network_and_no_outside_has_an_address_to_be_recorded(self):
        for sender in ("10.99.1.1", "192.168.7.7"):
            found = self.causes(*both(sender, "10.1.1.10", 22, 40000))
            self.assertEqual("no-address", found[0].id)
            self.assertTrue(found[0].looked_at.startswith(f"{sender} belongs to no network and no outside"), found)
        self.assertNotIn("no-address", self.ranked(*both("192.0.2.9", "10.1.1.10", 22, 40000)))

    def test_what_is_asked_about_counts_though_it_is_not_among_what_was_weighed(self):
        held = Comparison(Walker(load(network())))
        summary = Summary(held.walker.directory)
        record = probe("bob", "ann", "telnet", "answered")
        summary.add(record, held.probe(record))
        (group,) = summary.rows()
        looked = [
            each.looked_at for each in Causes(held.walker, summary.rows()[:0]).of(group) if each.id == "not-enforced"
        ]
        self.assertEqual(["1 kind of traffic that only ann/eth0 stops gets through"],
                         [each.partition(";")[0] for each in looked])  # fmt: skip

    def test_older_filter_names_the_rule_its_default_or_a_filter_that_leaves_the_direction_open(self):
        """dan sends to cat: only `own` at cat has a say there, by its default, and what is put at dan's interface."""

        def looked(what, *services):
            values = network()
            values["filters"]["dans"] = a_filter("instance", **what)
            values["instances"]["dan"]["interfaces"][0]["filters"] = ["dans"]
            del values["subnets"]["b1"]["filter"]
            denied = [flow("10.2.1.10", "10.1.2.10", service, 40000, "denied") for service in services]
            return next(each.looked_at for each in self.causes(*denied, values=values) if each.id == "older-filter")

        rule = {"inbound": [], "outbound": [{"id": "out", "action": "allow"}], "decide": "any"}
        one, needs = "no tcp/22 was seen to pass", "at dan/eth0, which 1 broken kind of traffic needs"
        self.assertEqual(f"{one} rule out of dans {needs}", looked(rule, "ssh"))
        self.assertEqual(f"{one} dans {needs}", looked({"inbound": []}, "ssh"))
        self.assertEqual(f"{one} the default of dans {needs}", looked({"outbound": [], "otherwise": "allow"}, "ssh"))

    def test_exempt_where_the_filters_own_side_attaches_it_and_others_there_work(self):
        """telnet from bob passes guard; only fleet stops it, and guard is seen to stop cat."""
        ids = self.ranked(probe("cat", "ann", "ssh", "silent"), probe("bob", "ann", "telnet", "answered"))
        self.assertEqual(ids[0], "exempt")
        self.assertNotEqual(ids[0], "not-enforced")

    def test_not_attached_where_the_interface_names_it(self):
        """ssh from cat passes fleet; only guard stops it, and fleet is seen to stop bob's telnet."""
        ids = self.ranked(probe("bob", "ann", "telnet", "silent"), probe("cat", "ann", "ssh", "answered"))
        self.assertIn("not-attached", ids[:2])
        self.assertLess(ids.index("not-attached"), ids.index("not-enforced"))

    def test_membership_where_a_group_would_turn_it(self):
        self.assertIn("membership", self.ranked(probe("cat", "ann", "ssh", "answered")))

    def test_membership_names_the_group_of_the_rule_of_that_direction_and_the_end_that_is_not_in_it(self):
        """Rules are numbered by themselves in each direction. bob may come in to dan; the reply may not leave, but for
        who sends it being of `answering`, which dan is not."""
        values = network()
        values["groups"] |= {"calling": {"members": ["cat"]}, "answering": {"members": ["cat"]}}
        values["filters"]["narrow"] |= {
            "inbound": [{"action": "allow", "from": ["bob"]}, {"action": "allow", "from": "calling"}],
            "outbound": [{"action": "allow", "from": "answering"}],
        }
        found = self.causes(probe("bob", "dan", "ssh", "answered"), values=values)
        told = {each.id: each.looked_at for each in found}
        self.assertEqual("a rule would turn it, were dan in group answering", told["membership"])

    def test_host_filter_where_only_that_stops_it(self):
        self.assertEqual(self.ranked(probe("ann", "cat", "rdp", "answered"))[0], "host-filter")

    def test_host_filter_may_be_one_that_nobody_recorded(self):
        ids = self.ranked(probe("bob", "ann", "ping", "answered"), probe("bob", "ann", "ssh", "answered"),
                          probe("bob", "ann", "udp/53", "answered"), probe("bob", "dan", "ssh", "silent"))  # fmt: skip
        self.assertIn("host-filter", ids)

    def test_sender_side_where_its_own_edge_should_have_stopped_it(self):
        self.assertEqual(self.ranked(probe("198.51.100.3", "cat", "smtp", "answered"))[0], "sender-side")

    def test_each_finding_keeps_the_place_where_it_was_denied(self):
        """Two findings that differ in nothing but where: neither is told of with the place of the other."""
        held = Comparison(Walker(load({**network(), "observation_points": {"5": "ann", "6": "dan"}})))
        summary = Summary(held.walker.directory)
        for target, point in (("10.1.1.10", "5"), ("10.2.1.10", "6")):
            record = replace(flow("10.1.1.11", target, "ssh", 40000, "denied"), point=point)
            summary.take_all(Evaluator(held).tallies(table_of([record])), held.finding)
        self.assertEqual([each.concluded.at for each in summary.rows(("break",))], ["ann", "dan"])

    def test_no_way_back_where_a_reply_is_denied(self):
        ids = self.ranked(
            flow("10.1.1.11", "10.2.1.10", "ssh", 40000),
            flow("10.2.1.10", "10.1.1.11", "tcp/40000", 22, "denied", SYN_ACK),
        )
        self.assertEqual(ids[0], "no-way-back")
        self.assertFalse({"service-down", "sender-side", "host-unhealthy"} & set(ids), "the request came all the way")

    def test_no_way_back_is_thought_of_where_a_stateless_filter_lets_the_reply_back(self):
        self.assertIn("no-way-back", self.ranked(probe("bob", "dan", "ssh", "silent")))

    def test_a_denied_request_is_not_laid_to_its_way_back_nor_a_denied_reply_to_its_way_there(self):
        """ssh from bob to dan: `narrow` stands at dan's subnet, and lets the request in and the reply out."""
        self.assertNotIn("no-way-back", self.ranked(flow("10.1.1.11", "10.2.1.10", "ssh", 40000, "denied")))
        values = {**network(), "observation_points": {"7": "b1"}}
        reply = replace(flow("10.2.1.10", "10.1.1.11", "tcp/40000", 22, "denied", SYN_ACK), point="7")
        found = {each.id: each.looked_at for each in self.causes(
            flow("10.1.1.11", "10.2.1.10", "ssh", 40000), reply, values=values)}  # fmt: skip
        self.assertEqual(list(found), ["no-way-back", "older-filter"])
        self.assertEqual(found["older-filter"],
                         "its reply was denied at b1, where rule 1 of narrow at b1 lets it pass today")  # fmt: skip

    def test_of_too_many_kinds_of_traffic_the_first_leaks_and_the_first_breaks_are_weighed(self):
        values = network()
        values["instances"] |= {
            f"n{number}": {"interfaces": [{"subnet": "a2", "addresses": [f"10.1.2.{30 + number}"]}], "listens": ["ssh"]}
            for number in range(5)
        }
        held = Comparison(Walker(load(values)))

        def weighed(most, leaks, breaks):
            summary, flows = Summary(held.walker.directory), []
            for number in range(leaks):
                flows += both(f"10.1.2.{30 + number}", "10.1.1.10", 22, 40000)
            for number in range(breaks):
                flows.append(flow("10.1.1.11", f"10.1.2.{30 + number}", "ssh", 40000, "denied"))
            summary.take_all(Evaluator(held).tallies(table_of(flows)), held.finding)
            rows = summary.rows()
            met = [each.concluded.status for each in rows]
            self.assertEqual((met.count("leak"), met.count("break")), (leaks, breaks))
            with mock.patch.multiple(telling, _MOST=most + 1, _MOST_ODD=most):
                return [each.concluded.status for each in telling.most_telling(rows)]

        self.assertEqual(weighed(4, 5, 5), ["leak"] * 2 + ["break"] * 2)
        self.assertEqual(weighed(4, 1, 5), ["leak"] + ["break"] * 3)
        self.assertEqual(weighed(4, 5, 1), ["leak"] * 3 + ["break"])

    def test_of_too_many_kinds_what_was_met_at_the_ends_of_one_that_is_shown_is_weighed_as_well(self):
        """ann is leaked to, and stops others: without these, its filters were not seen to stop anything."""
        held = Comparison(Walker(load(network())))
        flows = both("10.1.2.10", "10.1.1.10", 25, 40000)
        flows += [flow("10.1.2.10", "10.1.1.10", "rdp", 40000 + port, "denied") for port in range(3)]
        summary = Summary(held.walker.directory)
        summary.take_all(Evaluator(held).tallies(table_of(flows)), held.finding)
        leak = next(each for each in summary.rows() if each.concluded.status == "leak")
        with mock.patch.multiple(telling, _MOST=1, _MOST_ODD=1):
            few = Causes(held.walker, summary.rows())
            few.weigh()
        self.assertGreater(few.left_out, 0)
        before = {each.id: each.looked_at for each in few.of(leak)}
        few.look_around([leak])
        self.assertEqual(0, few.left_out)
        self.assertEqual(few.of(leak), Causes(held.walker, summary.rows()).of(leak))
        after = {each.id: each.looked_at for each in few.of(leak)}
        self.assertIn("nothing was seen to be stopped by the filters there", before["not-enforced"])
        self.assertEqual("guard still stops other traffic at ann/eth0", after["not-enforced"])

    def test_where_nothing_disagrees_nothing_is_weighed_and_that_is_nothing_to_bear_in_mind(self):
        held = Comparison(Walker(load(network())))
        for further, told in (([], None), (both("10.1.2.10", "10.1.1.10", 25, 40000), "likely causes rest on a part")):
            flows = [flow("10.1.2.10", "10.1.1.10", "rdp", 40000 + port, "denied") for port in range(3)] + further
            flows += both("10.1.1.11", "10.1.2.10", 22, 40000)
            summary = Summary(held.walker.directory)
            summary.take_all(Evaluator(held).tallies(table_of(flows)), held.finding)
            with (
                mock.patch.multiple(telling, _MOST=1, _MOST_ODD=1),
                mock.patch.object(held.walker, "walk", wraps=held.walker.walk) as walk,
            ):
                caveat = Causes(held.walker, summary.rows()).caveat
            self.assertEqual(told, caveat and caveat[: len(told)])
            self.assertEqual(told is not None, walk.called)

    def test_older_session_where_the_opening_packet_is_missing(self):
        self.assertIn("older-session", self.ranked(flow("10.1.2.10", "10.1.1.10", "tcp/25", 40000, flags=0x18)))
        self.assertNotIn("older-session", self.ranked(flow("10.1.2.10", "10.1.1.10", "tcp/25", 40000, flags=ALL)))

    def test_what_is_older_than_the_network_file_says_so_itself(self):
        values = {**network(), "as_of": "2026-11-20T10:00:00Z"}
        early = datetime(2026, 11, 20, 8, tzinfo=UTC)
        old = replace(flow("10.1.2.10", "10.1.1.10", "tcp/25", 40000, flags=ALL), start=early,
                      end=early + timedelta(minutes=1))  # fmt: skip
        self.assertEqual(self.ranked(old, values=values), ["log-before-as-of"])
        long = replace(flow("10.1.2.10", "10.1.1.10", "tcp/25", 40000, flags=ALL), start=early,
                       end=NOW + timedelta(hours=1))  # fmt: skip
        self.assertEqual(self.ranked(long, values=values), ["older-session"])

    def test_what_agrees_has_no_cause(self):
        self.assertEqual(self.ranked(probe("bob", "ann", "ssh", "answered")), [])
        self.assertEqual(self.ranked(probe("cat", "ann", "ssh", "silent")), [])

    def test_a_leak_that_only_the_listener_stops_has_no_cause_of_the_list(self):
        """Nothing is said to listen on smtp at dan's; that it answers tells of the listener, not of a filter."""
        self.assertEqual(self.ranked(probe("bob", "dan", "smtp", "answered")), [])

    def test_a_service_that_answers_others_is_not_called_down(self):
        ids = self.ranked(probe("ann", "dan", "ssh", "answered"), probe("bob", "dan", "ssh", "refused"))
        self.assertNotEqual(ids[0], "service-down")


if __name__ == "__main__":
    unittest.main()
