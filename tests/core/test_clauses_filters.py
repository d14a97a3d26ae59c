"""Clauses S11 to S23: filters, state, replies, source ports. Expected results are worked out by hand."""

import unittest

from kiboko.core.errors import InputError
from tests.helpers import a_filter, base, decided, load, walk


def on_ann(filters, *names):
    """The base network with these filters, the named ones on ann's interface."""
    values = base()
    values["filters"] = filters
    values["instances"]["ann"]["interfaces"][0]["filters"] = list(names)
    return values


class Filters(unittest.TestCase):
    def test_s11_the_lowest_order_that_matches_decides_whatever_the_place_in_the_file(self):
        rules = [
            {"order": 30, "action": "allow", "service": "ssh"},
            {"order": 20, "action": "drop", "from": "10.1.1.0/24"},
            {"order": 10, "action": "allow", "from": "dan"},
        ]
        values = on_ann({"f": a_filter("instance", inbound=rules)}, "f")
        self.assertEqual(decided(walk(values, "bob", "ann", "ssh")), ("instance-in", "ann/eth0", "f", "20"))
        self.assertEqual(walk(values, "dan", "ann", "tcp/99").verdict, "allowed")
        self.assertEqual(walk(values, "cat", "ann", "ssh").verdict, "allowed")
        self.assertEqual(decided(walk(values, "cat", "ann", "tcp/99"))[3], "otherwise")

    def test_s11_a_disabled_rule_decides_nothing(self):
        rules = [{"action": "drop", "enabled": False}, {"action": "allow"}]
        values = on_ann({"f": a_filter("instance", inbound=rules)}, "f")
        self.assertEqual(walk(values, "bob", "ann", "ssh").verdict, "allowed")

    def test_s11_several_first_filters_are_gates_of_their_own_in_order_and_all_must_allow(self):
        filters = {
            "reach": a_filter("instance", inbound=[{"action": "allow"}], attach_to=["all"]),
            "one": a_filter("instance", inbound=[{"action": "allow"}]),
            "two": a_filter("instance", inbound=[{"action": "drop"}]),
        }
        found = walk(on_ann(filters, "two", "one"), "bob", "ann", "ssh")
        asked = [row.filter for row in found.forward if row.gate == "instance-in"]
        self.assertEqual((asked, found.verdict), (["two", "one", "reach"], "blocked"))

    def test_s12_any_filters_on_one_interface_are_one_set_at_the_place_of_its_first_member(self):
        filters = {
            "a": a_filter("instance", decide="any", inbound=[{"action": "allow", "service": "http"}]),
            "f": a_filter("instance", inbound=[{"action": "allow"}]),
            "b": a_filter("instance", decide="any", inbound=[{"action": "allow", "service": "ssh"}]),
        }
        found = walk(on_ann(filters, "a", "f", "b"), "bob", "ann", "ssh")
        rows = [row for row in found.forward if row.gate == "instance-in"]
        self.assertEqual([row.filters for row in rows], [("a", "b"), ("f",)])
        self.assertEqual((rows[0].filter, rows[0].rule, found.verdict), ("b", "1", "allowed"))

    def test_s12_a_direction_is_filtered_if_one_member_names_it(self):
        filters = {
            "a": a_filter("instance", decide="any", inbound=[{"action": "allow"}]),
            "b": a_filter("instance", decide="any", outbound=[{"action": "allow", "service": "http"}]),
        }
        values = on_ann(filters, "a", "b")
        self.assertEqual(walk(values, "bob", "ann", "ssh").verdict, "allowed")
        self.assertEqual(decided(walk(values, "ann", "bob", "ssh"))[:2], ("instance-out", "ann/eth0"))
        self.assertEqual(walk(on_ann(filters, "a"), "ann", "bob", "ssh").verdict, "allowed")

    def test_s12_the_set_rejects_only_if_all_members_naming_the_direction_do(self):
        def signal(*otherwise):
            filters = {
                f"f{i}": a_filter("instance", decide="any", inbound=[], otherwise=each)
                for i, each in enumerate(otherwise)
            }
            filters["out"] = a_filter("instance", decide="any", outbound=[{"action": "allow"}], otherwise="drop")
            return walk(on_ann(filters, *filters), "bob", "ann", "ssh").signal

        self.assertEqual((signal("reject", "reject"), signal("reject", "drop")), ("refused", "silent"))

    def test_s12_a_drop_rule_in_an_any_filter_is_an_error(self):
        with self.assertRaisesRegex(InputError, "only allows; it cannot drop"):
            load(on_ann({"f": a_filter("instance", decide="any", inbound=[{"action": "drop"}])}, "f"))

    def test_s13_a_direction_not_named_is_open_and_an_empty_list_filters_everything(self):
        values = on_ann({"f": a_filter("instance", inbound=[])}, "f")
        self.assertEqual(walk(values, "ann", "bob", "ssh").verdict, "allowed")
        self.assertEqual(walk(values, "bob", "ann", "ssh").verdict, "blocked")

    def test_s13_rules_beside_inbound_is_an_error(self):
        with self.assertRaisesRegex(InputError, "cannot stand beside 'inbound'"):
            load(on_ann({"f": a_filter("instance", rules=[], inbound=[])}, "f"))

    def test_s14_directionless_rules_are_asked_at_the_sender_and_at_the_receiver(self):
        rules = [{"action": "allow", "from": "bob", "to": "ann"}]
        values = on_ann({"f": a_filter("instance", rules=rules)}, "f")
        rows = [row for row in walk(values, "bob", "ann", "ssh").forward if row.filters]
        self.assertEqual([row.gate for row in rows], ["instance-in"])
        values["instances"]["bob"]["interfaces"][0]["filters"] = ["f"]
        rows = [row for row in walk(values, "bob", "ann", "ssh").forward if row.filters]
        self.assertEqual([row.gate for row in rows], ["instance-out", "instance-in"])
        self.assertEqual(walk(values, "ann", "bob", "ssh").verdict, "blocked")

    def test_s15_exempt_removes_only_the_attachment_of_attach_to(self):
        shut = a_filter("instance", inbound=[], attach_to=["all"], exempt=["ann", "bob"])
        values = on_ann({"shut": shut})
        self.assertEqual(walk(values, "bob", "ann", "ssh").verdict, "allowed")
        self.assertEqual(walk(values, "bob", "cat", "ssh").verdict, "blocked")
        self.assertEqual(walk(on_ann({"shut": shut}, "shut"), "bob", "ann", "ssh").verdict, "blocked")

    def test_s15_carrying_is_every_interface_with_the_filter_attached_stopped_ones_included(self):
        filters = {
            "mark": a_filter("instance", attach_to=["friends"], exempt=["cat"]),
            "f": a_filter("instance", inbound=[{"action": "allow", "from": {"carrying": "mark"}}]),
        }
        values = on_ann(filters, "f")
        values["groups"]["friends"] = {"members": ["bob", "cat"]}
        self.assertEqual(walk(values, "bob", "ann", "ssh").verdict, "allowed")
        self.assertEqual(walk(values, "cat", "ann", "ssh").verdict, "blocked")
        values["instances"]["bob"]["state"] = "stopped"
        self.assertEqual(walk(values, "bob", "ann", "ssh").decided_by.gate, "source")
        self.assertEqual(len(walk(values, "bob", "ann", "ssh").stops()), 1)

    def test_s16_a_public_address_of_ours_is_never_a_peer_by_name(self):
        values = on_ann({"f": a_filter("instance", inbound=[{"action": "allow", "from": "cat"}])}, "f")
        self.assertEqual(walk(values, "cat", "ann", "ssh").verdict, "allowed")
        self.assertEqual(decided(walk(values, "cat", "203.0.113.10", "ssh"))[2:], ("f", "otherwise"))

    def test_s16_a_group_is_members_at_any_depth_tags_and_literal_addresses(self):
        values = on_ann({"f": a_filter("instance", inbound=[{"action": "allow", "from": "outer"}])}, "f")
        values["groups"] = {
            "outer": {"members": ["inner", "cat/eth0"], "addresses": ["192.0.2.0/30"]},
            "inner": {"where": {"role": "x", "stage": ["live", "trial"]}},
        }
        values["instances"]["bob"]["tags"] = {"role": "x", "stage": "trial"}
        values["instances"]["dan"]["tags"] = {"role": "x", "stage": "old"}
        verdicts = [walk(values, source, "ann", "ssh").verdict for source in ("bob", "cat", "192.0.2.3", "dan")]
        self.assertEqual(verdicts, ["allowed", "allowed", "allowed", "blocked"])

    def test_s16_a_member_without_an_address_adds_nothing_and_is_said(self):
        values = on_ann({"f": a_filter("instance", inbound=[{"action": "allow", "from": "g"}])}, "f")
        values["instances"]["new"] = {"interfaces": [{"subnet": "a1"}]}
        values["groups"]["g"] = {"members": ["new"]}
        found = walk(values, "bob", "ann", "ssh")
        self.assertEqual(found.verdict, "blocked")
        self.assertTrue(any("new is in group g" in text for text in found.caveats), found.caveats)

    def test_s16_all_but_somebody_is_every_other_address_of_both_families(self):
        rules = [{"id": "others", "action": "reject", "from": {"not": ["bob", "10.2.0.0/16"]}}, {"action": "allow"}]
        values = on_ann({"f": a_filter("instance", inbound=rules)}, "f")
        values["instances"]["bob"]["interfaces"][0]["addresses"].append("2001:db8:1:1::11")
        for source, verdict in (("bob", "allowed"), ("dan", "allowed"), ("cat", "blocked"), ("192.0.2.3", "blocked"),
                                ("10.1.1.12", "blocked"), ("2001:db8:1:1::12", "blocked"),
                                ("2001:db8:1:1::11", "allowed")):  # fmt: skip
            self.assertEqual(walk(values, source, "ann", "ssh").verdict, verdict, source)
        row = walk(values, "cat", "ann", "ssh").decided_by
        self.assertEqual((row.rule, row.reason), ("others", "reject from all but (bob, 10.2.0.0/16)"))
        # What bob sends to the public address comes from his own public one, which no name of his stands for.
        values["instances"]["bob"]["interfaces"][0]["public"] = "203.0.113.11"
        self.assertEqual(walk(values, "bob", "203.0.113.10", "ssh").verdict, "blocked")

    def test_s16_some_but_others_are_what_is_left_of_them(self):
        rules = [{"action": "allow", "from": {"in": "north", "not": {"carrying": "mark"}}}]
        values = on_ann({"f": a_filter("instance", inbound=rules), "mark": a_filter("instance", inbound=[])}, "f")
        values["instances"]["cat"]["interfaces"][0]["filters"] = ["mark"]
        verdicts = [walk(values, source, "ann", "ssh").verdict for source in ("bob", "10.1.1.12", "cat", "dan")]
        self.assertEqual(verdicts, ["allowed", "allowed", "blocked", "blocked"])

    def test_s16_all_but_a_member_without_an_address_is_said(self):
        values = on_ann({"f": a_filter("instance", inbound=[{"action": "allow", "from": {"not": "g"}}])}, "f")
        values["instances"]["new"] = {"interfaces": [{"subnet": "a1"}]}
        values["groups"]["g"] = {"members": ["new"]}
        found = walk(values, "bob", "ann", "ssh")
        self.assertEqual(found.verdict, "allowed")
        self.assertTrue(any("new is in group g" in text for text in found.caveats), found.caveats)

    def test_s16_all_but_the_internet_is_nobody_and_is_said(self):
        values = on_ann({"f": a_filter("instance", inbound=[{"action": "allow", "from": {"not": "internet"}}])}, "f")
        topology = load(values)
        (told,) = (each.text for each in topology.warnings if "f'" in each.text)
        self.assertEqual(told, "filter 'f', rule 1: 'from: all but internet' is nobody, so that it never matches")
        self.assertEqual(walk(values, "bob", "ann", "ssh").verdict, "blocked")

    def test_s16_all_but_what_is_no_peer_is_an_error(self):
        for peer, said in (({"not": "any"}, "'not' is of somebody"), ({"not": []}, "'not' is of somebody"),
                           ({"not": "nobdy"}, "'nobdy', which is not defined"),
                           ({"not": {"not": "bob"}}, "no other key, and no such table"),
                           ({"not": "bob", "from": "a1"}, "no other key"), ({"in": "a1"}, "a peer that is a table"),
                           ({"not": None}, "'not' has no value")):  # fmt: skip
            with self.assertRaisesRegex(InputError, said):
                load(on_ann({"f": a_filter("instance", inbound=[{"action": "allow", "from": peer}])}, "f"))

    def test_s17_ports_match_only_protocols_with_ports_and_icmp_is_one_family(self):
        rules = [{"action": "allow", "source_ports": "0-65535"}, {"action": "drop"}]
        values = on_ann({"f": a_filter("instance", inbound=rules)}, "f")
        self.assertEqual(walk(values, "bob", "ann", "udp/53").verdict, "allowed")
        self.assertEqual(walk(values, "bob", "ann", "ping").verdict, "blocked")
        self.assertEqual(walk(values, "bob", "ann", "proto/47").verdict, "blocked")
        values = on_ann({"f": a_filter("instance", inbound=[{"action": "allow", "service": "icmp"}])}, "f")
        values["instances"]["bob"]["interfaces"][0]["addresses"].append("2001:db8:1:1::11")
        self.assertEqual(walk(values, "bob", "ann", "ping").verdict, "allowed")
        self.assertEqual(walk(values, "bob", "ann", "ping", family=6).verdict, "blocked")

    def test_s17_stateful_is_a_rules_own_only_in_zone_filters(self):
        with self.assertRaisesRegex(InputError, "only in zone filters"):
            load(on_ann({"f": a_filter("instance", inbound=[{"action": "allow", "stateful": False}])}, "f"))


class State(unittest.TestCase):
    def test_s18_a_stateful_attachment_lets_the_reply_through_also_in_a_direction_it_filters(self):
        values = on_ann({"f": a_filter("instance", inbound=[{"action": "allow"}], outbound=[])}, "f")
        self.assertEqual(walk(values, "bob", "ann", "ssh").verdict, "allowed")
        self.assertEqual(walk(values, "ann", "bob", "ssh").verdict, "blocked")

    def test_s18_one_filter_on_two_interfaces_is_two_attachments(self):
        # The request passes the filter at ann only; bob's own attachment never saw it and filters nothing outbound.
        values = on_ann({"f": a_filter("instance", outbound=[{"action": "allow", "to": "10.1.1.11"}])}, "f")
        values["instances"]["bob"]["interfaces"][0]["filters"] = ["f"]
        self.assertEqual(walk(values, "ann", "bob", "ssh").verdict, "allowed")
        self.assertEqual(walk(values, "bob", "ann", "ssh").verdict, "blocked")

    def test_s18_passing_inbound_does_not_excuse_the_request_outbound_at_an_appliance(self):
        values = base()
        values["filters"]["in-only"] = a_filter("instance", inbound=[{"action": "allow"}], outbound=[])
        values["instances"]["mid"] = {
            "interfaces": [{"subnet": "a2", "addresses": ["10.1.2.9"], "filters": ["in-only"]}],
            "forwards": True,
        }
        values["route_tables"]["a1-table"] = [{"to": "10.2.0.0/16", "via": {"instance": "mid"}}]
        values["subnets"]["a1"]["route_table"] = "a1-table"
        found = walk(values, "ann", "dan", "ssh")
        self.assertEqual(decided(found), ("instance-out", "mid/eth0", "in-only", "otherwise"))

    def test_s18_an_attachment_knows_a_flow_by_the_addresses_it_bore_there(self):
        """Found by real packets: the request leaves a2 for a public address; the reply, sent by way of an appliance,
        passes a2's edge before it is translated back, and is not what the edge saw."""

        def verdict(stateful_edge):
            values = base()
            values["filters"]["edge"] = a_filter("subnet", stateful=stateful_edge, inbound=[{"action": "allow"}],
                                                 outbound=[{"action": "allow", "service": "ssh"}])  # fmt: skip
            values["subnets"]["a2"]["filter"] = "edge"
            values["instances"]["mid"] = {
                "interfaces": [
                    {"subnet": "a1", "addresses": ["10.1.1.9"]},
                    {"subnet": "a2", "addresses": ["10.1.2.9"]},
                ],
                "forwards": True,
            }
            values["route_tables"]["a1-table"] = [{"to": "203.0.113.0/24", "via": {"instance": "mid"}}]
            values["subnets"]["a1"]["route_table"] = "a1-table"
            return walk(values, "cat", "203.0.113.10", "ssh")

        found = verdict(stateful_edge=True)
        self.assertEqual((found.verdict, decided(found)[:2]), ("one-way", ("subnet-out", "a2")))

    def test_s19_a_reply_that_meets_a_stateful_attachment_it_never_passed_is_judged_by_the_rules(self):
        values = base()
        # The request goes straight, the reply through an appliance whose filter saw nothing of it.
        values["filters"]["f"] = a_filter("instance", inbound=[{"action": "allow", "service": "ssh"}])
        values["instances"]["mid"] = {
            "interfaces": [{"subnet": "a2", "addresses": ["10.1.2.9"], "filters": ["f"]}],
            "forwards": True,
        }
        values["subnets"]["a3"] = {"network": "north", "cidr": "10.1.3.0/24", "route_table": "a3-table"}
        values["route_tables"]["a3-table"] = [{"to": "10.1.1.0/24", "via": {"instance": "mid"}}]
        values["instances"]["fay"] = {"interfaces": [{"subnet": "a3", "addresses": ["10.1.3.10"]}]}
        found = walk(values, "ann", "fay", "ssh")
        self.assertEqual((found.verdict, decided(found)[:2]), ("one-way", ("instance-in", "mid/eth0")))
        self.assertTrue(any("never saw the request" in text for text in found.caveats))
        values["filters"]["f"]["inbound"] = [{"action": "allow", "service": "tcp/32768-60999"}]
        self.assertEqual(walk(values, "ann", "fay", "ssh").verdict, "allowed")

    def test_s20_the_reply_is_let_back_if_an_allowing_rule_belongs_to_a_stateful_member(self):
        def verdict(*members):
            filters = {
                f"f{i}": a_filter("instance", decide="any", stateful=stateful, inbound=inbound, outbound=[])
                for i, (stateful, inbound) in enumerate(members)
            }
            return walk(on_ann(filters, *filters), "bob", "ann", "ssh").verdict

        ssh, http = [{"action": "allow", "service": "ssh"}], [{"action": "allow", "service": "http"}]
        self.assertEqual(verdict((False, ssh), (True, ssh)), "allowed")
        self.assertEqual(verdict((False, ssh), (True, http)), "one-way")

    def test_s20_in_a_direction_none_names_any_stateful_member_tracks(self):
        def verdict(stateful):
            filters = {
                "a": a_filter("instance", decide="any", stateful=False, inbound=[]),
                "b": a_filter("instance", decide="any", stateful=stateful, inbound=[]),
            }
            return walk(on_ann(filters, "a", "b"), "ann", "bob", "ssh").verdict

        self.assertEqual((verdict(True), verdict(False)), ("allowed", "one-way"))

    def test_s21_reply_through_stateless_filter_needs_its_own_rule_on_the_clients_port(self):
        def verdict(outbound):
            values = base()
            values["filters"]["e"] = a_filter(
                "subnet", stateful=False, inbound=[{"action": "allow", "service": "ssh"}], outbound=outbound
            )
            values["subnets"]["b1"]["filter"] = "e"
            return walk(values, "ann", "dan", "ssh").verdict

        self.assertEqual(verdict([{"action": "allow", "service": "ssh"}]), "one-way")
        self.assertEqual(verdict([{"action": "allow", "service": "tcp/32768-60999"}]), "allowed")
        self.assertEqual(verdict([{"action": "allow", "service": "tcp/32768-60999", "source_ports": "22"}]), "allowed")
        self.assertEqual(verdict([{"action": "allow", "source_ports": "23"}]), "one-way")

    def test_s21_an_echo_is_answered_by_an_echo_reply_and_other_icmp_by_nothing(self):
        values = base()
        values["filters"]["e"] = a_filter(
            "subnet", stateful=False, inbound=[{"action": "allow"}],
            outbound=[{"action": "allow", "service": ["icmp/echo-reply", "proto/47"]}],
        )  # fmt: skip
        values["subnets"]["b1"]["filter"] = "e"
        self.assertEqual(walk(values, "ann", "dan", "ping").verdict, "allowed")
        self.assertEqual(walk(values, "ann", "dan", "proto/47").verdict, "allowed")
        self.assertEqual(walk(values, "ann", "dan", "proto/50").verdict, "one-way")
        unreachable = walk(values, "ann", "dan", "icmp/3/4")
        self.assertEqual((unreachable.verdict, unreachable.reply), ("allowed", ()))

    def zones(self, crossings, **defaults):
        values = base()
        values["defaults"] = defaults or {"between_zones": "drop"}
        for source, destination, name, rules in crossings:
            values["filters"][name] = a_filter("zone", rules=rules[1], stateful=rules[0])
            values["crossings"].append({"from": source, "to": destination, "filter": name})
        return values

    def test_s22_a_leg_with_an_end_without_a_zone_has_an_open_zone_gate(self):
        values = self.zones([])
        del values["subnets"]["b1"]["zone"]
        self.assertEqual(walk(values, "ann", "dan", "ssh").verdict, "allowed")

    def test_s22_a_reply_passes_if_the_request_crossed_under_state_or_a_default(self):
        allow = [{"action": "allow"}]
        self.assertEqual(
            walk(self.zones([("left", "right", "f", (True, allow))]), "ann", "dan", "ssh").verdict, "allowed"
        )
        self.assertEqual(
            walk(self.zones([("left", "right", "f", (False, allow))]), "ann", "dan", "ssh").verdict, "one-way"
        )
        opened = self.zones([], between_zones="allow")
        self.assertEqual(walk(opened, "ann", "dan", "ssh").verdict, "allowed")

    def test_s22_otherwise_the_reply_is_a_crossing_of_its_own(self):
        allow, back = [{"action": "allow"}], [{"action": "allow", "service": "tcp/32768-60999"}]
        values = self.zones([("left", "right", "f", (False, allow)), ("right", "left", "g", (True, back))])
        self.assertEqual(walk(values, "ann", "dan", "ssh").verdict, "allowed")

    def test_s22_a_rule_may_keep_state_or_not_for_itself(self):
        rules = [{"action": "allow", "service": "ssh", "stateful": False}, {"action": "allow"}]
        values = self.zones([("left", "right", "f", (True, rules))])
        self.assertEqual(walk(values, "ann", "dan", "ssh").verdict, "one-way")
        self.assertEqual(walk(values, "ann", "dan", "http").verdict, "allowed")

    def test_s22_the_default_inside_one_zone(self):
        values = self.zones([], between_zones="drop", same_zone="reject")
        found = walk(values, "ann", "cat", "ssh")
        self.assertEqual(
            (found.verdict, found.signal, decided(found)[:2]), ("blocked", "refused", ("zone", "left>left"))
        )


class SourcePorts(unittest.TestCase):
    def test_s23_the_flow_stands_for_all_ephemeral_ports_of_the_sender(self):
        values = base()
        self.assertEqual(walk(values, "ann", "dan", "ssh").flow.source_ports.texts(), ["32768-60999"])
        values["defaults"]["ephemeral_ports"] = "40000-50000"
        values["instances"]["ann"]["ephemeral_ports"] = "1024-2048"
        values["outside"]["depot"]["ephemeral_ports"] = "7000-8000"
        found = [walk(values, s, d, "ssh").flow.source_ports.texts() for s, d in
                 (("ann", "dan"), ("dan", "ann"), ("198.51.100.5", "ann"))]  # fmt: skip
        self.assertEqual(found, [["1024-2048"], ["40000-50000"], ["7000-8000"]])

    def judged(self, inbound, outbound):
        values = base()
        values["filters"]["e"] = a_filter("subnet", stateful=False, inbound=inbound, outbound=outbound)
        values["subnets"]["b1"]["filter"] = "e"
        return walk(values, "ann", "dan", "ssh")

    def test_s23_some_ports_allowed_is_partly_with_exact_ranges(self):
        found = self.judged(
            [{"action": "drop", "source_ports": "40000-40009"}, {"action": "allow"}],
            [{"action": "drop", "service": "tcp/50000"}, {"action": "allow"}],
        )
        self.assertEqual(found.verdict, "partly")
        self.assertEqual(found.answered.texts(), ["32768-39999", "40010-49999", "50001-60999"])
        self.assertEqual(decided(found), ("subnet-in", "b1", "e", "1"))

    def test_s23_none_allowed_but_some_delivered_is_one_way(self):
        found = self.judged([{"action": "drop", "source_ports": "40000-40009"}, {"action": "allow"}], [])
        self.assertEqual((found.verdict, found.signal), ("one-way", "silent"))

    def test_s23_decided_by_is_the_gate_that_stops_all_that_came_to_it_and_not_one_before_that_stops_some(self):
        some = [{"action": "drop", "source_ports": "40000-40009"}, {"action": "allow"}]
        self.assertEqual(decided(self.judged(some, [])), ("subnet-out", "b1", "e", "otherwise"))
        values = base()
        values["route_tables"]["south-table"] = [{"to": "10.1.0.0/16", "via": "discard"}]
        values["filters"]["e"] = a_filter("subnet", stateful=False, inbound=some)
        values["subnets"]["b1"]["filter"] = "e"
        found = walk(values, "ann", "dan", "ssh")
        self.assertEqual((found.verdict, decided(found)), ("one-way", ("route", "b1", None, None)))

    def test_s23_decided_by_is_the_rule_of_the_lowest_stopped_port(self):
        found = self.judged(
            [{"action": "drop", "source_ports": "50000-60999"}, {"action": "reject", "source_ports": "40000"},
             {"action": "allow"}],
            [{"action": "allow"}],
        )  # fmt: skip
        self.assertEqual(decided(found)[3], "2")
        self.assertIsNone(self.judged([{"action": "allow"}], [{"action": "allow"}]).decided_by)


if __name__ == "__main__":
    unittest.main()
