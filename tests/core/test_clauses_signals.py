"""Clauses S32 to S34: listeners, signals, and refusals on their way back. Expected results by hand."""

import json
import unittest

from tests.helpers import a_filter, base, decided, walk


def filtered(place, **directions):
    """The base network with a stateless or stateful filter `f` on subnet or interface `place`."""
    values = base()
    layer = "subnet" if place in values["subnets"] else "instance"
    values["filters"]["f"] = a_filter(layer, **directions)
    if layer == "subnet":
        values["subnets"][place]["filter"] = "f"
    else:
        values["instances"][place]["interfaces"][0]["filters"] = ["f"]
    return values


class Listeners(unittest.TestCase):
    def listening(self, *listens):
        values = base()
        values["instances"]["ann"]["listens"] = list(listens)
        return values

    def test_s32_a_listener_is_compared_with_the_address_after_translation(self):
        values = self.listening({"service": "ssh", "address": "10.1.1.10"})
        self.assertEqual(walk(values, "192.0.2.1", "ann", "ssh").verdict, "allowed")
        values = self.listening({"service": "ssh", "address": "127.0.0.1"})
        self.assertEqual(decided(walk(values, "bob", "ann", "ssh")), ("listener", "ann", None, None))

    def test_s32_no_address_means_all_addresses_of_both_families(self):
        values = self.listening("ssh")
        values["instances"]["bob"]["interfaces"][0]["addresses"].append("2001:db8:1:1::11")
        self.assertEqual([walk(values, "bob", "ann", "ssh", family=f).verdict for f in (4, 6)], ["allowed", "allowed"])

    def test_s32_several_services_at_one_address_are_one_listener(self):
        values = self.listening({"service": ["ssh", "http"], "address": "127.0.0.1"}, {"service": ["https"]})
        told = {name: walk(values, "bob", "ann", name).decided_by for name in ("ssh", "http", "https")}
        self.assertEqual(
            ["listens on 127.0.0.1 only, not on 10.1.1.10"] * 2, [told[each].reason for each in ("ssh", "http")]
        )
        self.assertIsNone(told["https"])

    def test_s32_all_addresses_of_a_family_are_written_as_the_kernel_tells_them(self):
        """Of `0.0.0.0` and `::` no machine has the address: it is that of no interface."""
        for address, reached in (("*", [4, 6]), ("0.0.0.0", [4]), ("::", [6])):
            values = self.listening({"service": "ssh", "address": address})
            values["instances"]["bob"]["interfaces"][0]["addresses"].append("2001:db8:1:1::11")
            walks = {family: walk(values, "bob", "ann", "ssh", family=family) for family in (4, 6)}
            self.assertEqual([each for each in walks if walks[each].verdict == "allowed"], reached, address)
            for family in {4, 6} - set(reached):
                self.assertEqual(decided(walks[family])[0], "listener")
                told = f"listens on IPv{reached[0]} only, not on {walks[family].flow.target}"
                self.assertEqual(walks[family].decided_by.reason, told)

    def test_s32_not_listening_is_blocked_and_refused_and_not_known_never_blocks(self):
        self.assertEqual(walk(self.listening(), "bob", "ann", "ssh").signal, "refused")
        self.assertEqual(walk(self.listening("http"), "bob", "ann", "udp/80").verdict, "blocked")
        unknown = walk(base(), "bob", "ann", "ssh")
        self.assertEqual((unknown.verdict, unknown.signal), ("allowed", "answered"))
        self.assertIn("whether ann listens on tcp/22 is not known", unknown.caveats)

    def test_s32_the_system_answers_an_echo_request_and_other_protocols_are_not_known(self):
        self.assertEqual(walk(self.listening(), "bob", "ann", "ping").forward[-1].action, "allow")
        self.assertIsNone(walk(self.listening(), "bob", "ann", "proto/47").forward[-1].action)


class Signals(unittest.TestCase):
    def test_s33_stopped_by_reject_is_refused_by_drop_silent(self):
        for action, signal in (("reject", "refused"), ("drop", "silent")):
            self.assertEqual(walk(filtered("ann", inbound=[{"action": action}]), "bob", "ann", "ssh").signal, signal)

    def test_s33_one_way_is_silent_and_partly_is_answered_with_a_caveat(self):
        one_way = filtered("b1", stateful=False, inbound=[{"action": "allow"}], outbound=[{"action": "reject"}])
        self.assertEqual(walk(one_way, "ann", "dan", "ssh").signal, "silent")
        partly = filtered("b1", inbound=[{"action": "allow", "source_ports": "40000-60999"}])
        found = walk(partly, "ann", "dan", "ssh")
        self.assertEqual(found.signal, "answered")
        self.assertTrue(found.caveats[-1].startswith("only some client ports work: 40000-60999"))


def listing(hook, policy, *rules, key="state"):
    """What the kernel lists of a rule set with one chain, whose rules are of connection states (or of another `key` of a
    connection) and what becomes of each."""
    chain = {"family": "inet", "table": "t", "name": "only", "handle": 1, "type": "filter", "hook": hook, "prio": 0,
             "policy": policy}  # fmt: skip
    made = [
        {"rule": {"family": "inet", "table": "t", "chain": "only", "handle": number, "expr": [
            {"match": {"op": "in", "left": {"ct": {"key": key}}, "right": state}}, {action: None}]}}
        for number, (state, action) in enumerate(rules, 2)
    ]  # fmt: skip
    return json.dumps({"nftables": [{"table": {"family": "inet", "name": "t", "handle": 1}}, {"chain": chain}, *made]})


class Refusals(unittest.TestCase):
    """S34: what a refusal has to pass on its way to the sender."""

    def test_s34_by_the_senders_own_interface_nothing_is_asked(self):
        values = filtered("ann", stateful=False, outbound=[{"action": "reject"}], inbound=[])
        self.assertEqual(walk(values, "ann", "dan", "ssh").signal, "refused")

    def test_s34_by_the_receivers_host_filter_it_goes_through_its_own_outbound_gates(self):
        def signal(outbound):
            values = base()
            values["filters"]["h"] = a_filter("host", stateful=False, inbound=[{"action": "reject"}], outbound=outbound)
            values["instances"]["dan"]["host_filter"] = "h"
            return walk(values, "ann", "dan", "ssh").signal

        self.assertEqual((signal([{"action": "allow"}]), signal([])), ("refused", "silent"))

    def test_s34_by_the_listener_it_goes_the_whole_way_back_as_a_segment_with_ports_swapped(self):
        def signal(outbound):
            values = filtered("b1", stateful=False, inbound=[{"action": "allow"}], outbound=outbound)
            values["instances"]["dan"]["listens"] = []
            return walk(values, "ann", "dan", "ssh").signal

        self.assertEqual(signal([{"action": "allow", "service": "tcp/32768-60999"}]), "refused")
        self.assertEqual(signal([{"action": "allow", "service": "icmp"}]), "silent")

    def test_s34_for_udp_it_is_an_icmp_port_unreachable(self):
        def signal(outbound):
            values = filtered("b1", stateful=False, inbound=[{"action": "allow"}], outbound=outbound)
            values["instances"]["dan"]["listens"] = []
            return walk(values, "ann", "dan", "udp/53").signal

        self.assertEqual(signal([{"action": "allow", "service": "icmp/3/3"}]), "refused")
        self.assertEqual(signal([{"action": "allow", "service": "udp"}]), "silent")

    def test_s34_stateful_attachments_that_tracked_the_request_let_it_pass_also_the_refusing_one(self):
        values = filtered("dan", inbound=[{"action": "reject"}], outbound=[])
        self.assertEqual(walk(values, "ann", "dan", "ssh").signal, "refused")
        values = filtered("dan", stateful=False, inbound=[{"action": "reject"}], outbound=[])
        found = walk(values, "ann", "dan", "ssh")
        self.assertEqual((found.verdict, found.signal), ("blocked", "silent"))
        self.assertTrue(any("that is lost at instance-out at dan/eth0" in text for text in found.caveats))

    def test_s34_by_a_subnet_filter_the_subnets_router_sends_it_by_its_own_table(self):
        values = filtered("b1", inbound=[{"action": "reject"}])
        self.assertEqual(walk(values, "ann", "dan", "ssh").signal, "refused")
        values["route_tables"]["south-table"] = [{"to": "10.1.0.0/16", "via": "discard"}]
        self.assertEqual(walk(values, "ann", "dan", "ssh").signal, "silent")

    def test_s34_s35_to_the_appliance_that_refuses_its_refusal_is_related(self):
        """Its own interface refused, before its rule set was asked: it knows of the request all the same."""
        values = base()
        values["filters"]["no"] = a_filter("instance", inbound=[{"action": "reject"}])
        values["instances"]["mid"] = {
            "interfaces": [{"subnet": "a2", "addresses": ["10.1.2.9"], "filters": ["no"]}], "forwards": True,
            "host_filter": {"nftables": "mid.json"},
        }  # fmt: skip
        values["route_tables"]["a1-table"] = [{"to": "10.2.0.0/16", "via": {"instance": "mid"}}]
        values["subnets"]["a1"]["route_table"] = "a1-table"
        for policy, states, signal in (("accept", "invalid", "refused"), ("accept", "related", "silent"),
                                       ("drop", "new", "silent")):  # fmt: skip
            rules = listing("output", policy, (states, "accept" if policy == "drop" else "drop"))
            found = walk(values, "ann", "dan", "ssh", files={"mid.json": rules})
            self.assertEqual(signal, found.signal, (policy, states))

    def test_s35_where_only_the_first_packet_gets_through_that_is_a_caveat(self):
        values = base()
        values["instances"]["dan"]["host_filter"] = {"nftables": "dan.json"}
        for rules, is_told in (([("new", "accept")], True), ([("new", "accept"), ("established", "accept")], False)):
            found = walk(values, "ann", "dan", "ssh", files={"dan.json": listing("input", "drop", *rules)})
            self.assertEqual("allowed", found.verdict)
            self.assertEqual(is_told, any("only the first packet gets through: what the sender sends after it is stopped"
                                          " at host-in of dan" in each for each in found.caveats), rules)  # fmt: skip

    def test_s35_what_follows_the_first_packet_goes_the_same_way(self):
        """ct direction is that of the connection: original for all that its sender sends, before and after the answer."""
        values = base()
        values["instances"]["dan"]["host_filter"] = {"nftables": "dan.json"}
        for direction, hangs in (("reply", False), ("original", None)):
            files = {"dan.json": listing("input", "accept", (direction, "drop"), key="direction")}
            found = walk(values, "ann", "dan", "ssh", files=files)
            self.assertEqual("blocked" if hangs is None else "allowed", found.verdict)
            self.assertIsNone(found.later)

    def test_s35_of_tcp_what_follows_the_answer_is_of_an_assured_connection(self):
        """Neither the opening nor its answer is; of UDP that takes the kernel longer to say."""
        values = base()
        values["instances"]["dan"]["host_filter"] = {"nftables": "dan.json"}
        for service, hook, hangs in (("ssh", "input", True), ("ssh", "output", False), ("udp/53", "input", False)):
            found = walk(values, "ann", "dan", service, files={"dan.json": listing(hook, "accept", ("assured", "drop"),
                                                                                   key="status")})  # fmt: skip
            self.assertEqual(("allowed", hangs), (found.verdict, found.later is not None), (service, hook))

    def test_s35_an_appliance_that_sees_one_way_only_knows_nothing_of_what_follows(self):
        """The way back does not lead by mid, whose rules let in what is new and what is known."""
        values = base()
        values["instances"]["mid"] = {
            "interfaces": [{"subnet": "a2", "addresses": ["10.1.2.9"]}], "forwards": True,
            "host_filter": {"nftables": "mid.json"},
        }  # fmt: skip
        values["route_tables"]["a1-table"] = [{"to": "10.2.0.0/16", "via": {"instance": "mid"}}]
        values["subnets"]["a1"]["route_table"] = "a1-table"
        files = {"mid.json": listing("forward", "drop", ("new", "accept"), ("established", "accept"))}

        def hangs(service):
            found = walk(values, "ann", "dan", service, files=files)
            self.assertEqual("allowed", found.verdict)
            return any("stopped at host-in of mid" in each for each in found.caveats)

        self.assertEqual((True, False), (hangs("ssh"), hangs("udp/53")))
        values["route_tables"]["b1-table"] = [
            {"to": "10.1.0.0/16", "via": "peer"}, {"to": "10.1.1.0/24", "via": "peer"}]  # fmt: skip
        values["instances"]["mid"]["interfaces"].append({"subnet": "b1", "addresses": ["10.2.1.9"]})
        values["route_tables"]["b1-table"][1]["via"] = {"instance": "mid", "interface": "eth1"}
        values["subnets"]["b1"]["route_table"] = "b1-table"
        self.assertFalse(hangs("ssh"), "by mid in both directions")

    def test_s34_a_refusal_of_a_senders_own_interface_passes_its_own_rule_set(self):
        values = base()
        values["filters"]["no"] = a_filter("instance", outbound=[{"action": "reject"}])
        values["instances"]["ann"] |= {"host_filter": {"nftables": "ann.json"}}
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["no"]
        for rules, signal in (([("related", "accept")], "refused"), ([("new", "accept")], "silent")):
            found = walk(values, "ann", "dan", "ssh", files={"ann.json": listing("input", "drop", *rules)})
            self.assertEqual((("instance-out", "ann/eth0", "no", "1"), signal), (decided(found), found.signal))

    def test_s34_a_message_of_an_appliance_comes_from_its_own_address_and_a_reset_from_the_receivers(self):
        def signal(service, sender):
            values = base()
            values["filters"]["no"] = a_filter("instance", stateful=False, inbound=[{"action": "reject"}])
            values["filters"]["own"] = a_filter(
                "instance", stateful=False, outbound=[{"action": "allow", "from": sender}]
            )
            values["instances"]["mid"] = {
                "interfaces": [{"subnet": "a2", "addresses": ["10.1.2.9"], "filters": ["no", "own"]}], "forwards": True,
            }  # fmt: skip
            values["route_tables"]["a1-table"] = [{"to": "10.2.0.0/16", "via": {"instance": "mid"}}]
            values["subnets"]["a1"]["route_table"] = "a1-table"
            return walk(values, "ann", "dan", service).signal

        self.assertEqual(("refused", "silent"), (signal("udp/53", "mid"), signal("udp/53", "dan")))
        self.assertEqual(("silent", "refused"), (signal("ssh", "mid"), signal("ssh", "dan")))

    def test_s34_a_message_from_halfway_is_carried_as_what_its_network_sends(self):
        """By mid the request comes to the north; its router there answers of its own, as mid does, by the peering."""
        values = base()
        values["instances"]["mid"] = {
            "interfaces": [{"subnet": "b1", "addresses": ["10.2.1.9"]}, {"subnet": "a1", "addresses": ["10.1.1.9"]}],
            "forwards": True,
        }  # fmt: skip
        values["route_tables"] |= {
            "b1-table": [{"to": "192.0.2.0/24", "via": {"instance": "mid"}}], "a1-table": [
                {"to": "0.0.0.0/0", "via": "door"}, {"to": "10.2.0.0/16", "via": "peer"}],
        }  # fmt: skip
        values["subnets"]["b2"] = {"network": "south", "cidr": "10.2.2.0/24", "route_table": "b1-table"}
        values["instances"]["eve"] = {"interfaces": [{"subnet": "b2", "addresses": ["10.2.2.10"]}]}
        values["subnets"]["b1"]["route_table"] = "b2-table"
        values["route_tables"]["b2-table"] = [{"to": "192.0.2.0/24", "via": {"instance": "mid"}}]
        values["filters"]["no"] = a_filter("subnet", outbound=[{"action": "reject"}])
        values["subnets"]["a1"]["filter"] = "no"
        for service, signal in (("udp/53", "refused"), ("ssh", "silent")):
            found = walk(values, "eve", "192.0.2.7", service)
            self.assertEqual((("subnet-out", "a1", "no", "1"), signal), (decided(found), found.signal), service)

    def test_s34_a_routers_message_by_the_internet_needs_no_global_receiver(self):
        """The request came by a tunnel to an address that the internet does not carry; the router's own may be any."""
        values = filtered("b1", inbound=[{"action": "reject"}])
        values["outside"]["depot"]["addresses"].append("2001:db8:fffe::/48")
        values["networks"]["south"]["cidrs"].append("fd00:2::/48")
        values["subnets"]["b1"]["cidr"] = ["10.2.1.0/24", "fd00:2:0:1::/64"]
        values["instances"]["dan"]["interfaces"][0]["addresses"].append("fd00:2:0:1::10")
        values["gateways"] |= {"link": {"kind": "tunnel", "network": "south", "outside": "depot"},
                               "south-door": {"kind": "internet", "network": "south"}}  # fmt: skip
        values["route_tables"]["south-table"].append({"to": "::/0", "via": "south-door"})
        signals = [walk(values, "2001:db8:fffe::7", "fd00:2:0:1::10", service).signal for service in ("udp/53", "ssh")]
        self.assertEqual(["refused", "silent"], signals)

    def test_s34_s30_a_routers_refusal_may_go_by_the_machine_that_was_sent_to(self):
        """The router makes it, so that the receiver as its next hop forwards it as anybody's."""
        values = filtered("a1", inbound=[{"action": "reject"}])
        values["instances"]["mid"] = {
            "interfaces": [{"subnet": "a2", "addresses": ["10.1.2.9"]}, {"subnet": "a1", "addresses": ["10.1.1.9"]}],
            "forwards": True,
        }  # fmt: skip
        values["route_tables"]["a1-table"] = [{"to": "10.2.0.0/16", "via": {"instance": "mid"}}]
        values["subnets"]["a1"]["route_table"] = "a1-table"
        for service in ("ssh", "udp/53"):
            found = walk(values, "dan", "10.1.1.9", service)
            self.assertEqual((decided(found)[1], found.signal), ("a1", "refused"), service)
        values["instances"]["mid"]["forwards"] = False
        self.assertEqual(walk(values, "dan", "10.1.1.9", "ssh").signal, "silent")

    def test_s34_a_routers_icmp_matches_only_rules_that_name_no_address_or_all(self):
        def signal(inbound, service):
            values = filtered("b1", inbound=[{"action": "reject"}])
            values["filters"]["own"] = a_filter(
                "instance", stateful=False, outbound=[{"action": "allow"}], inbound=inbound
            )
            values["instances"]["ann"]["interfaces"][0]["filters"] = ["own"]
            return walk(values, "ann", "dan", service).signal

        named, unnamed = [{"action": "allow", "from": "10.0.0.0/8"}], [{"action": "allow"}]
        self.assertEqual((signal(named, "udp/53"), signal(unnamed, "udp/53")), ("silent", "refused"))
        self.assertEqual(signal(named, "ssh"), "refused")  # a TCP reset bears the receiver's address
        for all_of_them in ("0.0.0.0/0", "internet", ["0.0.0.0/1", "128.0.0.0/1"]):
            self.assertEqual(signal([{"action": "allow", "from": all_of_them}], "udp/53"), "refused")

    def test_s34_by_a_zone_filter_the_core_sends_it_to_the_senders_subnet(self):
        def signal(inbound):
            values = filtered("a1", stateful=False, outbound=[{"action": "allow"}], inbound=inbound)
            values["filters"]["z"] = a_filter("zone", rules=[{"action": "reject"}])
            values["crossings"] = [{"from": "left", "to": "right", "filter": "z"}]
            return walk(values, "ann", "dan", "ssh").signal

        self.assertEqual(signal([{"action": "allow", "service": "tcp/32768-60999"}]), "refused")
        self.assertEqual(signal([]), "silent")

    def test_s34_to_an_outside_sender_it_passes_the_outsides_filter(self):
        def signal(stateful):
            values = filtered("ann", inbound=[{"action": "reject"}])
            values["filters"]["site"] = a_filter(
                "subnet", stateful=stateful, outbound=[{"action": "allow"}], inbound=[]
            )
            values["outside"]["depot"]["filter"] = "site"
            return walk(values, "198.51.100.5", "ann", "ssh").signal

        self.assertEqual((signal(True), signal(False)), ("refused", "silent"))

    def test_s34_the_receivers_own_stateful_filters_let_it_pass_also_those_behind_the_refusing_one(self):
        values = base()
        values["filters"]["no"] = a_filter("instance", stateful=False, inbound=[{"action": "reject"}])
        values["filters"]["own"] = a_filter("instance", outbound=[{"action": "drop"}])
        values["instances"]["dan"]["interfaces"][0]["filters"] = ["no", "own"]
        self.assertEqual(walk(values, "ann", "dan", "ssh").signal, "refused")
        values["filters"]["own"]["stateful"] = False
        self.assertEqual(walk(values, "ann", "dan", "ssh").signal, "silent")

    def test_s34_an_appliances_refusal_comes_from_the_appliance_also_where_it_is_the_receiver(self):
        values = base()
        values["filters"]["no"] = a_filter("instance", inbound=[{"action": "reject"}])
        values["instances"]["mid"] = {
            "interfaces": [{"subnet": "a1", "addresses": ["10.1.1.9"], "public": "203.0.113.9", "filters": ["no"]},
                           {"subnet": "a2", "addresses": ["10.1.2.9"]}], "forwards": True,
        }  # fmt: skip
        values["route_tables"]["a2-table"] = [{"to": "0.0.0.0/0", "via": "door"}]
        values["subnets"]["a2"]["route_table"] = "a2-table"
        values["route_tables"]["north-table"].append({"to": "203.0.113.0/24", "via": {"instance": "mid"}})
        self.assertEqual(walk(values, "ann", "203.0.113.9", "ssh").signal, "refused")

    def test_s34_from_a_crossing_behind_a_gateway_it_crosses_back_to_the_senders_zone(self):
        """ann asks cat's public address: the refusal of the second crossing meets the first one from behind."""

        def signal(stateful):
            values = base()
            values["filters"]["out"] = a_filter("zone", stateful=stateful, rules=[{"action": "allow"}])
            values["filters"]["in"] = a_filter("zone", rules=[{"action": "reject"}])
            values["subnets"]["a2"]["zone"] = "right"
            values["crossings"] = [{"from": "left", "to": "public", "filter": "out"},
                                   {"from": "public", "to": "right", "filter": "in"}]  # fmt: skip
            values["defaults"]["between_zones"] = "drop"
            return walk(values, "ann", "203.0.113.20", "ssh").signal

        self.assertEqual((signal(True), signal(False)), ("refused", "silent"))

    def test_s34_to_an_outside_with_a_tunnel_it_goes_back_by_the_tunnel_untranslated(self):
        values = base()
        values["gateways"]["link"] = {"kind": "tunnel", "network": "north", "outside": "depot"}
        values["defaults"]["between_zones"] = "reject"
        self.assertEqual(walk(values, "198.51.100.5", "10.1.1.10", "ssh").signal, "refused")

    def test_s34_an_outsides_edge_refuses_and_it_comes_back_through_the_gateway(self):
        values = base()
        values["filters"]["site"] = a_filter("subnet", inbound=[{"action": "reject"}])
        values["outside"]["depot"]["filter"] = "site"
        self.assertEqual(walk(values, "dan", "198.51.100.5", "ssh").signal, "refused")
        self.assertEqual(walk(values, "ann", "198.51.100.5", "ssh").signal, "refused")


if __name__ == "__main__":
    unittest.main()
