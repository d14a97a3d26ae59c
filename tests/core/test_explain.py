"""Near misses, the smallest fix, and toggles: each by hand, each fix proved by walking again."""

import unittest

from kiboko.core.errors import UsageError
from kiboko.core.explain import near_misses, suggestions, toggled, verdict_with_all
from kiboko.core.walk import Walker
from tests.helpers import a_filter, base, load, walk


def setup(rules, source="bob", service="ssh", **more):
    values = base()
    values["filters"]["f"] = a_filter("instance", inbound=rules, **more)
    values["instances"]["ann"]["interfaces"][0]["filters"] = ["f"]
    topology = load(values)
    return Walker(topology), walk(topology, source, "ann", service)


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

    def test_the_closest_come_first(self):
        found = misses(
            {"action": "allow", "service": "udp/22", "id": "other"},
            {"action": "drop", "id": "d"},
            {"action": "allow", "id": "late"},
        )
        self.assertEqual([rule for rule, *_ in found], ["late", "other"])


class Fixes(unittest.TestCase):
    def test_the_smallest_rule_and_its_place_proved_by_walking_again(self):
        rules = [
            {"order": 10, "action": "allow", "from": "cat"},
            {"order": 20, "action": "drop", "from": "10.1.0.0/16"},
        ]
        (fix,) = suggestions(*setup(rules))
        self.assertEqual((fix.place, fix.proved, fix.verdict_after), ("before 20", True, "allowed"))
        self.assertEqual(
            fix.rule, {"order": 15, "action": "allow", "from": "10.1.1.11", "to": "10.1.1.10", "service": "tcp/22"}
        )

    def test_at_the_end_where_otherwise_decides_and_without_a_number_where_none_is_free(self):
        (end,) = suggestions(*setup([{"order": 10, "action": "allow", "from": "cat"}]))
        self.assertEqual((end.place, end.rule["order"]), ("at the end", 20))
        (tight,) = suggestions(*setup([{"order": 1, "action": "drop"}]))
        self.assertEqual((tight.place, "order" in tight.rule, tight.proved), ("before 1", False, True))

    def test_in_an_any_set_the_rule_may_stand_anywhere(self):
        (fix,) = suggestions(*setup([], decide="any"))
        self.assertEqual((fix.place, fix.proved), ("anywhere", True))

    def test_a_stateless_reply_needs_the_clients_ports_from_the_servers_port(self):
        values = base()
        values["filters"]["e"] = a_filter("subnet", stateful=False, inbound=[{"action": "allow"}], outbound=[])
        values["subnets"]["b1"]["filter"] = "e"
        topology = load(values)
        (fix,) = suggestions(Walker(topology), walk(topology, "ann", "dan", "ssh"))
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
        self.assertEqual([(fix.gate, fix.verdict_after) for fix in suggestions(walker, found)],
                         [("subnet-in", "blocked"), ("instance-in", "blocked"), ("subnet-out", "blocked")])  # fmt: skip
        self.assertEqual(verdict_with_all(walker, found), "allowed")

    def test_where_no_rule_helps_the_advice_says_what_does(self):
        values = base()
        values["route_tables"]["north-table"].append({"to": "10.2.1.10/32", "via": "discard"})
        values["instances"]["dan"]["listens"] = []
        topology = load(values)
        texts = [fix.text for fix in suggestions(Walker(topology), walk(topology, "ann", "dan", "ssh"))]
        self.assertEqual(
            texts[0],
            "change or remove the route 10.2.1.10/32 via discard; without this entry, 10.2.0.0/16 via peer (platform) would carry it",
        )
        self.assertTrue(texts[1].startswith("on dan: nothing listens on tcp/22"))


class Toggles(unittest.TestCase):
    def test_a_rule_is_taken_away_or_put_in_for_one_answer(self):
        walker, found = setup([{"action": "drop", "id": "a"}, {"action": "allow", "id": "b", "enabled": False}])
        self.assertEqual(found.verdict, "blocked")
        opened = toggled(toggled(walker.topology, "f/a", enabled=False), "f/b", enabled=True)
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
                toggled(walker.topology, path, enabled=False)


if __name__ == "__main__":
    unittest.main()
