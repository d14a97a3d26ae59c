"""Near misses, the smallest fix, and toggles: each by hand, each fix proved by walking again."""

import json
import unittest

from kiboko.core.errors import UsageError
from kiboko.core.network.edits import with_rule_enabled, without_rule
from kiboko.core.queries.near_misses import near_misses
from kiboko.core.queries.proposals import proposals
from kiboko.core.walk.walk import Walker
from tests.helpers import a_filter, base, load, walk


def setup(rules, source="bob", service="ssh", **more):
    values = base()
    values["filters"]["f"] = a_filter("instance", inbound=rules, **more)
    values["instances"]["ann"]["interfaces"][0]["filters"] = ["f"]
    topology = load(values)
    return Walker(topology), walk(topology, source, "ann", service)


def fixes(walker, found):
    return proposals(walker, found).each


def misses(*rules, **more):
    return [(miss.rule, miss.field, miss.wanted, miss.actual) for miss in near_misses(*setup(list(rules), **more))]


class NearMisses(unittest.TestCase):
    def test_each_field_that_alone_did_not_match_is_named(self):
        self.assertEqual(misses({"action": "allow", "from": "cat"}), [("1", "from", "cat", "10.1.1.11")])
        self.assertEqual(misses({"action": "allow", "to": "cat", "service": "ssh"}), [("1", "to", "cat", "10.1.1.10")])
        self.assertEqual(misses({"action": "allow", "service": "tcp/23"}), [("1", "service", "tcp/23", "tcp/22")])
        self.assertEqual(
            misses({"action": "allow", "source_ports": "1-1023"}), [("1", "source_ports", "1-1023", "32768-60999")]
        )
        self.assertEqual(misses({"action": "allow", "enabled": False}), [("1", "enabled", "true", "false")])
        self.assertEqual(
            misses({"action": "drop", "id": "first"}, {"action": "allow", "id": "second"}),
            [("second", "order", "before first", "rule first")],
        )

    def test_two_fields_are_no_near_miss_and_the_same_effect_is_none(self):
        self.assertEqual(misses({"action": "allow", "from": "cat", "service": "http"}), [])
        self.assertEqual(misses({"action": "drop", "from": "cat"}), [])

    def test_of_an_allowed_flow_the_rules_that_almost_stop_it(self):
        self.assertEqual(
            misses({"action": "allow", "id": "a"}, {"action": "drop", "id": "b", "service": "ssh"}),
            [("b", "order", "before a", "rule a")],
        )

    def test_an_end_that_a_mistyped_tag_keeps_out_of_the_group_is_said_so(self):
        values = base()
        values["groups"]["webs"] = {"where": {"role": "web"}}
        values["instances"]["bob"]["tags"] = {"role": "wbe"}
        values["instances"]["cat"]["tags"] = {"role": "db"}
        values["filters"]["f"] = a_filter("instance", inbound=[{"action": "allow", "from": "webs"}])
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["f"]
        topology = load(values)
        hints = [near_misses(Walker(topology), walk(topology, who, "ann", "ssh"))[0].hint for who in ("bob", "cat")]
        self.assertIn(
            "bob looks as though it should be in webs: its tag is role=wbe, the group asks for role=web", hints[0]
        )
        self.assertEqual("", hints[1])

    def test_the_closest_come_first(self):
        found = misses(
            {"action": "allow", "service": "udp/22", "id": "other"},
            {"action": "drop", "id": "d"},
            {"action": "allow", "id": "late"},
        )
        self.assertEqual([rule for rule, *_ in found], ["late"], "a rule for another protocol is noise beside it")


class Fixes(unittest.TestCase):
    def test_the_smallest_rule_and_its_place_proved_by_walking_again(self):
        rules = [
            {"order": 10, "action": "allow", "from": "cat"},
            {"order": 20, "action": "drop", "from": "10.1.0.0/16"},
        ]
        (fix,) = fixes(*setup(rules))
        self.assertEqual((fix.place, fix.proved, fix.verdict_after), ("before 20", True, "allowed"))
        self.assertEqual(
            fix.rule, {"order": 15, "action": "allow", "from": "10.1.1.11", "to": "10.1.1.10", "service": "tcp/22"}
        )

    def test_at_the_end_where_otherwise_decides_and_without_a_number_where_none_is_free(self):
        (end,) = fixes(*setup([{"order": 10, "action": "allow", "from": "cat"}]))
        self.assertEqual((end.place, end.rule["order"]), ("at the end", 20))
        (tight,) = fixes(*setup([{"order": 1, "action": "drop"}]))
        self.assertEqual((tight.place, "order" in tight.rule, tight.proved), ("before 1", False, True))

    def test_in_an_any_set_the_rule_may_stand_anywhere(self):
        (fix,) = fixes(*setup([], decide="any"))
        self.assertEqual((fix.place, fix.proved), ("the place does not matter", True))

    def test_a_stateless_reply_needs_the_clients_ports_from_the_servers_port(self):
        values = base()
        values["filters"]["e"] = a_filter("subnet", stateful=False, inbound=[{"action": "allow"}], outbound=[])
        values["subnets"]["b1"]["filter"] = "e"
        topology = load(values)
        (fix,) = fixes(Walker(topology), walk(topology, "ann", "dan", "ssh"))
        self.assertEqual(fix.rule, {"order": 10, "action": "allow", "from": "10.2.1.10", "to": "10.1.1.10",
                                    "service": "tcp/32768-60999", "source_ports": "22"})  # fmt: skip
        self.assertEqual(fix.verdict_after, "allowed")

    def test_several_gates_have_a_fix_each_and_all_together_open_the_way(self):
        values = base()
        values["filters"] = {
            "f": a_filter("instance", inbound=[]),
            "e": a_filter("subnet", stateful=False, inbound=[], outbound=[]),
        }
        values["instances"]["dan"]["interfaces"][0]["filters"] = ["f"]
        values["subnets"]["b1"]["filter"] = "e"
        topology = load(values)
        walker, found = Walker(topology), walk(topology, "ann", "dan", "ssh")
        self.assertEqual([(fix.gate, fix.verdict_after) for fix in fixes(walker, found)],
                         [("subnet-in", "blocked"), ("instance-in", "blocked"), ("subnet-out", "blocked")])  # fmt: skip
        self.assertEqual(proposals(walker, found).verdict_with_all, "allowed")

    def test_where_no_rule_helps_the_advice_says_what_does(self):
        values = base()
        values["route_tables"]["north-table"].append({"to": "10.2.1.10/32", "via": "discard"})
        values["instances"]["dan"]["listens"] = []
        topology = load(values)
        line = topology.route_tables["north-table"].entries[-1].place.line
        both = fixes(Walker(topology), walk(topology, "ann", "dan", "ssh"))
        texts = [fix.text for fix in both]
        self.assertEqual([fix.proved for fix in both], [True, True])
        self.assertEqual(
            texts[0],
            f"remove the route 10.2.1.10/32 via discard ({topology.file}:{line}); then 10.2.0.0/16 via peer (learned) carries it",
        )
        self.assertTrue(texts[1].startswith("on dan: nothing listens on tcp/22"))


class OtherFixes(unittest.TestCase):
    def tried(self, values, source, destination, service="ssh"):
        topology = load(values)
        found = proposals(Walker(topology), walk(topology, source, destination, service))
        return [(fix.gate, fix.text.partition(":")[0], fix.proved) for fix in found.each], found.verdict_with_all

    def test_a_stopped_machine_is_started_and_its_gate_is_its_own(self):
        values = base()
        values["instances"]["bob"]["state"] = "stopped"
        self.assertEqual(self.tried(values, "ann", "bob"), ([("destination", "start bob", True)], "allowed"))
        self.assertEqual(self.tried(values, "bob", "ann"), ([("source", "start bob", True)], "allowed"))

    def test_a_service_bound_elsewhere_is_bound_to_the_machines_own_address(self):
        values = base()
        values["instances"]["bob"]["listens"] = [{"service": "ssh", "address": "127.0.0.1"}]
        topology = load(values)
        (fix,) = fixes(Walker(topology), walk(topology, "ann", "bob", "ssh"))
        self.assertTrue(fix.proved)
        self.assertIn("tcp/22 is bound to 127.0.0.1; bind it to 10.1.1.11, the machine's own address", fix.text)

    def test_a_missing_route_names_the_exits_and_the_translation_they_need(self):
        values = base()
        values["route_tables"]["south-table"] = [{"to": "10.1.0.0/16", "via": "peer"}]
        topology = load(values)
        (fix,) = fixes(Walker(topology), walk(topology, "dan", "192.0.2.9", "ssh"))
        self.assertIn("{to: 0.0.0.0/0, via: exit} (sends as 203.0.113.2)", fix.text)
        self.assertEqual((fix.proved, fix.verdict_after), (True, "allowed"))

    def test_a_route_that_covers_too_little_is_named_and_the_one_that_carries_it_proposed(self):
        values = base()
        routes = values["route_tables"]["south-table"]
        routes[1]["to"] = "10.1.1.0/24"
        topology = load(values)
        found = walk(topology, "dan", "cat", "ssh")
        self.assertEqual("route", found.decided_by.gate)
        (fix,) = fixes(Walker(topology), found)
        self.assertTrue(fix.proved)
        self.assertIn(
            "add to route table south-table: {to: 10.1.0.0/16, via: peer}, since 10.1.1.0/24 via peer", fix.text
        )
        self.assertIn("does not hold 10.1.2.10", fix.text)
        routes.append({"to": "10.1.0.0/16", "via": "exit"})  # as long as the network's own block: longer is needed
        topology = load(values)
        (fix,) = fixes(Walker(topology), walk(topology, "dan", "cat", "ssh"))
        self.assertEqual((True, "allowed"), (fix.proved, fix.verdict_after))

    def test_from_outside_a_private_machine_gets_a_public_address(self):
        told, together = self.tried(base(), "192.0.2.9", "bob")
        self.assertEqual((told, together), ([("route", "give bob/eth0 a public address", True)], "allowed"))

    def test_a_zone_without_a_crossing_gets_one(self):
        values = base()
        values["defaults"] = {"between_zones": "drop"}
        told, together = self.tried(values, "ann", "dan")
        self.assertEqual(told, [("zone", "list a crossing left to right with a zone filter that allows tcp/22", True)])
        self.assertEqual(together, "allowed")

    def test_a_kernel_rule_set_gets_a_rule_at_the_head_of_the_chain_that_stops(self):
        listing = {"nftables": [
            {"table": {"family": "inet", "name": "t"}},
            {"chain": {"family": "inet", "table": "t", "name": "input", "type": "filter", "hook": "input", "prio": 0,
                       "policy": "drop"}},
        ]}  # fmt: skip
        values = base()
        values["instances"]["bob"]["host_filter"] = {"nftables": "bob.json"}
        topology = load(values, {"bob.json": json.dumps(listing)})
        (fix,) = fixes(Walker(topology), walk(topology, "ann", "bob", "ssh"))
        self.assertIn("chain input: ip saddr 10.1.1.10 ip daddr 10.1.1.11 tcp dport 22 accept", fix.text)
        self.assertEqual((fix.proved, fix.rests_on_earlier, fix.verdict_after), (True, False, "allowed"))


class Toggles(unittest.TestCase):
    def test_a_rule_is_taken_away_or_put_in_for_one_answer(self):
        walker, found = setup([{"action": "drop", "id": "a"}, {"action": "allow", "id": "b", "enabled": False}])
        self.assertEqual(found.verdict, "blocked")
        opened = with_rule_enabled(without_rule(walker.topology, "f/a"), "f/b")
        self.assertEqual(walk(opened, "bob", "ann", "ssh").verdict, "allowed")
        self.assertEqual(walk(walker.topology, "bob", "ann", "ssh").verdict, "blocked")

    def test_what_names_no_rule_or_two_is_refused_with_a_hint(self):
        walker, _ = setup([{"action": "drop"}], outbound=[{"action": "drop"}])
        for path, hint in (
            ("g/1", "did you mean 'f'|not defined"),
            ("f/9", "its rules are 1"),
            ("f/1", "write f/inbound/1 or f/outbound/1"),
        ):
            with self.assertRaisesRegex(UsageError, hint):
                without_rule(walker.topology, path)


if __name__ == "__main__":
    unittest.main()
