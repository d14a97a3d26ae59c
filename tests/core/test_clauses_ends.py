"""Clauses S1 to S10: ends, addresses and the order of gates. Expected results are worked out by hand."""

import unittest

from kiboko.core.errors import InputError, UsageError
from kiboko.core.header.addresses import parse_prefix
from kiboko.core.queries.ends import Ends
from kiboko.core.walk.walk import Walker
from tests.helpers import a_filter, base, decided, gates, load, question, walk
from tests.wider_networks import wider_network


class EndsAndAddresses(unittest.TestCase):
    def test_s1_a_name_is_private_inside_and_public_from_outside(self):
        self.assertEqual(str(walk(base(), "dan", "ann", "ssh").flow.target), "10.1.1.10")
        self.assertEqual(str(walk(base(), "192.0.2.9", "ann", "ssh").flow.target), "203.0.113.10")

    def test_s1_a_name_is_private_to_an_outside_with_a_tunnel_to_its_network(self):
        values = base()
        values["gateways"]["link"] = {"kind": "tunnel", "network": "south", "outside": "depot"}
        values["route_tables"]["south-table"].append({"to": "198.51.100.0/28", "via": "link"})
        found = walk(values, "198.51.100.5", "dan", "ssh")
        self.assertEqual((str(found.flow.target), found.verdict), ("10.2.1.10", "allowed"))
        self.assertEqual(str(walk(values, "198.51.100.5", "ann", "ssh").flow.target), "203.0.113.10")

    def test_s1_without_a_usable_address_the_flow_is_blocked_at_route(self):
        answer = question(base(), "192.0.2.9", "bob", "ssh")
        self.assertEqual((answer.walk.verdict, answer.walk.decided_by.gate), ("blocked", "route"))
        self.assertIsNone(answer.destination_address)

    def test_s1_of_several_addresses_an_outside_means_those_that_it_can_use(self):
        values = base()
        values["networks"]["north"]["cidrs"].append("fd00:1::/48")
        values["subnets"]["a3"] = {"network": "north", "cidr": "fd00:1:0:3::/64"}
        values["instances"]["eve"] = {
            "interfaces": [{"subnet": "a2", "addresses": ["10.1.2.50"]}, {"subnet": "a3", "addresses": ["fd00:1:0:3::50"]},
                           {"subnet": "a1", "addresses": ["10.1.1.50", "10.1.1.51", "2001:db8:1:1::50"],
                            "public": "203.0.113.50"}],
        }  # fmt: skip
        for sender, family, target in (("192.0.2.9", 4, "203.0.113.50"), ("2a00::9", 6, "2001:db8:1:1::50"),
                                       ("dan", 4, "10.1.2.50"), ("ann", 6, "fd00:1:0:3::50")):  # fmt: skip
            answer = question(values, sender, "eve", "ssh", family=family)
            self.assertEqual(target, str(answer.walk.flow.target), sender)
            differing = [each for each in answer.caveats if "ask for it" in each]
            self.assertEqual((target, []), (answer.destination_address, differing), sender)

    def test_s1_a_source_literal_that_is_public_is_its_interface_with_all_gates(self):
        found = walk(base(), "203.0.113.10", "dan", "ssh")
        self.assertEqual(found.flow.source.interface.name, "ann/eth0")
        self.assertIn(("instance-out", "ann/eth0"), gates(found.forward))

    def test_s1_a_destination_literal_is_taken_as_typed(self):
        found = walk(base(), "dan", "203.0.113.10", "ssh")
        self.assertEqual([gate for gate, _ in gates(found.forward)].count("translate"), 2)

    def test_s2_the_longest_prefix_gives_zone_and_filter(self):
        values = base()
        values["filters"]["edge"] = a_filter("subnet", outbound=[], inbound=[])
        values["outside"]["depot"]["filter"] = "edge"
        near, far = walk(values, "198.51.100.5", "ann", "ssh"), walk(values, "198.51.100.99", "ann", "ssh")
        self.assertEqual(decided(near), ("outside", "depot", "edge", "otherwise"))
        self.assertEqual((far.verdict, far.flow.source.zone), ("allowed", "public"))

    def test_s2_equal_prefixes_in_two_outsides_are_an_error(self):
        values = base()
        values["outside"]["twin"] = {"addresses": ["198.51.100.0/28"]}
        with self.assertRaisesRegex(InputError, "198.51.100.0/28 is also listed by outside 'depot'"):
            load(values)

    def test_s2_in_a_rule_an_outside_is_literally_its_listed_addresses(self):
        values = base()
        values["filters"]["f"] = a_filter(
            "instance", inbound=[{"action": "drop", "from": "internet"}], otherwise="allow"
        )
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["f"]
        self.assertEqual(decided(walk(values, "bob", "ann", "ssh")), ("instance-in", "ann/eth0", "f", "1"))

    def test_s2_it_is_said_where_an_outside_in_a_rule_stops_a_machine_of_ours(self):
        values = base()
        stop = {"order": 10, "action": "drop", "from": ["internet"], "service": "ssh"}
        values["filters"]["guard"] = a_filter("instance", inbound=[stop, {"order": 20, "action": "allow"}])
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
        said = "rule 10 of guard names internet, which holds addresses of ours as well: 10.1.2.10"
        self.assertIn(said, question(values, "cat", "ann", "ssh").caveats)
        self.assertEqual([], [each for each in question(values, "192.0.2.7", "ann", "ssh").caveats if "guard" in each])
        stop["from"] = ["internet", "north"]  # which names it by its own name
        self.assertEqual([], [each for each in question(values, "cat", "ann", "ssh").caveats if "guard" in each])

    def test_s2_nobody_on_the_internet_has_a_private_address(self):
        """RFC 1918: a rule for 10.0.0.0/8 lets in what is within, and nobody of an outside that lists everything."""
        values = base()
        values["filters"]["f"] = a_filter("instance", inbound=[
            {"action": "allow", "from": ["10.0.0.0/8", "100.64.0.0/10", "fc00::/7", "192.168.0.0/16"]}])  # fmt: skip
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["f"]
        for sender, target in (("10.99.1.1", "203.0.113.10"), ("100.64.1.1", "203.0.113.10"),
                               ("fd00::1", "2001:db8:1:1::10"), ("192.168.1.1", "10.1.1.10")):  # fmt: skip
            found = walk(values, sender, target, "ssh")
            self.assertEqual((found.flow.source.outside, found.verdict, decided(found)[0]), (None, "blocked", "route"))
            self.assertIn("it is private, and nobody's beyond a network", found.decided_by.reason)
        self.assertEqual("nowhere", walk(values, "ann", "172.16.5.5", "ssh").decided_by.step.stop.kind)
        self.assertEqual("allowed", walk(values, "cat", "ann", "ssh").verdict)
        internet = Ends(Walker(load(values))).resolve("internet")
        ranges = [(each.low, each.high) for each in internet.members]
        for private in map(parse_prefix, ("10.0.0.0/8", "172.16.0.0/12", "fc00::/7")):
            self.assertFalse([each for each in ranges if each[0].family == private.family
                              and each[0].value <= private.last and private.value <= each[1].value])  # fmt: skip
        # Who lists it by itself has it, and so has who may be all that is behind a tunnel.
        values["outside"]["depot"]["addresses"].append("192.168.0.0/16")
        self.assertEqual("depot", walk(values, "192.168.1.1", "203.0.113.10", "ssh").flow.source.outside.name)
        values["outside"]["office"] = {"addresses": ["0.0.0.0/1"]}
        values["gateways"]["line"] = {"kind": "tunnel", "network": "north", "outside": "office"}
        values["route_tables"]["north-table"].append({"to": "10.99.0.0/16", "via": "line"})
        found = walk(values, "10.99.1.1", "10.1.1.10", "ssh")
        self.assertEqual(("office", "allowed"), (found.flow.source.outside.name, found.verdict))
        self.assertIsNone(walk(values, "172.16.5.5", "203.0.113.10", "ssh").flow.source.outside)

    def test_s2_an_address_of_a_network_is_never_outside(self):
        found = walk(base(), "10.1.1.77", "dan", "ssh")
        self.assertEqual((found.flow.source.outside, found.flow.source.subnet.name), (None, "a1"))

    def two_legged(self):
        values = base()
        values["instances"]["eve"] = {
            "interfaces": [{"subnet": "a2", "addresses": ["10.1.2.50"]}, {"subnet": "a1", "addresses": ["10.1.1.50"]}]
        }
        return values

    def test_s3_a_sender_uses_the_interface_in_the_destinations_subnet_else_its_first(self):
        values = self.two_legged()
        self.assertEqual(str(walk(values, "eve", "ann", "ssh").flow.source.address), "10.1.1.50")
        self.assertEqual(str(walk(values, "eve", "dan", "ssh").flow.source.address), "10.1.2.50")
        self.assertEqual(str(walk(values, "eve/eth1", "dan", "ssh").flow.source.address), "10.1.1.50")

    def test_s3_a_bare_destination_is_the_first_interface_and_differing_others_are_a_caveat(self):
        values = self.two_legged()
        values["filters"]["shut"] = a_filter("instance", inbound=[])
        values["instances"]["eve"]["interfaces"][1]["filters"] = ["shut"]
        answer = question(values, "dan", "eve", "ssh")
        self.assertEqual((str(answer.walk.flow.target), answer.walk.verdict), ("10.1.2.50", "allowed"))
        self.assertIn("blocked where the address is 10.1.1.50: ask for it by that address", answer.caveats)

    def test_s3_a_differing_verdict_of_a_further_address_is_a_caveat_as_well(self):
        values = base()
        values["instances"]["ann"]["interfaces"][0]["addresses"] += ["10.1.1.12", "2001:db8:1:1::12"]
        values["filters"]["own"] = a_filter("instance", inbound=[{"action": "allow", "to": "10.1.1.12"}])
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["own"]
        answer = question(values, "dan", "ann", "ssh")
        self.assertEqual((str(answer.walk.flow.target), answer.walk.verdict), ("10.1.1.10", "blocked"))
        self.assertEqual(["allowed where the address is 10.1.1.12: ask for it by that address"],
                         [each for each in answer.caveats if "address" in each])  # fmt: skip

    def test_s3_a_differing_verdict_from_another_address_of_the_sender_is_a_caveat(self):
        values = self.two_legged()
        values["instances"]["eve"]["interfaces"][1]["addresses"].append("10.1.1.51")
        values["filters"]["own"] = a_filter("instance", inbound=[{"action": "allow", "from": "10.1.1.51"}])
        values["instances"]["dan"]["interfaces"][0]["filters"] = ["own"]
        answer = question(values, "eve", "dan", "ssh")
        self.assertEqual((str(answer.walk.flow.source.address), answer.walk.verdict), ("10.1.2.50", "blocked"))
        self.assertEqual(["allowed where it is sent from 10.1.1.51: ask for it from that address"],
                         [each for each in answer.caveats if "address" in each])  # fmt: skip

    def test_s1_s29_where_the_public_address_lets_somebody_inside_in_that_is_a_caveat(self):
        values = base()
        del values["gateways"]["peer"]
        for table in values["route_tables"].values():
            table[:] = [entry for entry in table if entry["via"] != "peer"]
        answer = question(values, "dan", "ann", "ssh")
        self.assertEqual(("blocked", "10.1.1.10"), (answer.walk.verdict, str(answer.walk.flow.target)))
        self.assertIn("allowed where the address is 203.0.113.10: ask for it by that address", answer.caveats)
        values["filters"]["own"] = a_filter("instance", inbound=[{"action": "drop", "from": "203.0.113.2"}])
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["own"]
        self.assertEqual([], [each for each in question(values, "dan", "ann", "ssh").caveats if "address" in each])

    def test_s3_what_an_address_is_called_in_findings_means_that_very_address(self):
        further = 0
        for seed in range(12):
            ends = Ends(Walker(load(wider_network(seed))))
            machines = list(ends.topology.instances)
            for interface in ends.directory.interfaces():
                for address in interface.addresses:
                    name = ends.directory.end_name(address)
                    other = next(each for each in machines if each != interface.instance and address.family in
                                 ends.resolve(each).members[0].families)  # fmt: skip
                    pairs = ends.pairs(*(ends.resolve(each).members[0] for each in (other, name)), address.family)
                    self.assertEqual(address, pairs[0].target, (seed, name))
                    further += name != interface.instance
        self.assertGreater(further, 20)

    def test_s3_replies_leave_by_the_interface_that_was_addressed(self):
        found = walk(self.two_legged(), "dan", "eve/eth1", "ssh")
        self.assertEqual(gates(found.reply)[1], ("instance-out", "eve/eth1"))

    def test_s3_a_machine_that_would_answer_by_another_interface_is_a_caveat(self):
        """As the kernel does where nothing but the destination tells it the way."""

        def told(sender, receiver):
            found = question(self.two_legged(), sender, receiver, "ssh").caveats
            return [each for each in found if "the reply is taken to leave by" in each]

        (caveat,) = told("dan", "eve/eth1")
        self.assertIn(
            "leave by eve/eth1, which was addressed; of its own accord eve sends to 10.2.1.10 by eve/eth0:", caveat
        )
        self.assertEqual([], told("dan", "eve"))
        (caveat,) = told("ann", "eve")  # ann is a neighbour of eth1
        self.assertIn("by eve/eth1: unless", caveat)
        self.assertEqual([], told("ann", "eve/eth1"))

    def test_s17_messages_between_neighbours_alone_are_a_caveat(self):
        values = base()
        values["instances"]["bob"]["interfaces"][0]["addresses"].append("2001:db8:1:1::11")
        for service, expected in (("icmp6/135/0", 1), ("icmp6/143/0", 1), ("icmp6/138/0", 0), ("icmp6/128/0", 0)):
            answer = question(values, "bob", "ann", service)
            self.assertEqual(expected, sum("passes no router" in each for each in answer.caveats), service)

    def test_s4_nobody_recorded_has_no_instance_or_host_gates_and_a_caveat(self):
        found = walk(base(), "ann", "10.2.1.99", "ssh")
        self.assertEqual(found.verdict, "allowed")
        self.assertNotIn("instance-in", [gate for gate, _ in gates(found.forward)])
        self.assertIsNone(found.forward[-1].action)
        self.assertIn("no instance recorded at 10.2.1.99", found.caveats)

    def test_s4_in_a_network_but_in_no_subnet(self):
        to, of = walk(base(), "ann", "10.2.7.7", "ssh"), walk(base(), "10.2.7.7", "ann", "ssh")
        self.assertEqual((to.verdict, to.decided_by.gate, to.signal), ("blocked", "route", "unreachable"))
        self.assertEqual((of.verdict, of.decided_by.gate), ("blocked", "source"))

    def test_s4_in_neither_is_blocked_at_route(self):
        values = base()
        values["outside"] = {"depot": {"addresses": ["198.51.100.0/28"]}}
        found = walk(values, "ann", "192.0.2.1", "ssh")
        self.assertEqual((found.verdict, found.decided_by.gate), ("blocked", "route"))

    def test_s4_outside_to_outside_is_bad_usage(self):
        with self.assertRaisesRegex(UsageError, "both outside"):
            walk(base(), "192.0.2.1", "198.51.100.5", "ssh")

    def test_s5_a_stopped_source_is_blocked_at_source_and_a_stopped_destination_at_destination(self):
        values = base()
        values["instances"]["ann"]["state"] = "stopped"
        self.assertEqual(decided(walk(values, "ann", "bob", "ssh"))[0], "source")
        to = walk(values, "bob", "ann", "ssh")
        self.assertEqual((decided(to)[0], to.signal), ("destination", "silent"))
        told = {name: [each for each in question(values, "bob", name, "ssh").caveats if "found by ARP" in each]
                for name in ("ann", "dan")}  # fmt: skip
        self.assertEqual({"ann": 1, "dan": 0}, {name: len(each) for name, each in told.items()})

    def test_s5_a_stopped_instances_own_interface_refuses_nothing(self):
        values = base()
        values["filters"]["no"] = a_filter("instance", inbound=[], otherwise="reject")
        values["instances"]["ann"] |= {"state": "stopped"}
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["no"]
        found = walk(values, "bob", "ann", "ssh")
        self.assertEqual((decided(found)[2], found.signal), ("no", "silent"))

    def test_s6_ipv4_first_and_a_differing_verdict_of_ipv6_is_said(self):
        values = base()
        values["instances"]["bob"]["interfaces"][0]["addresses"].append("2001:db8:1:1::11")
        values["filters"]["four"] = a_filter("instance", inbound=[{"action": "allow", "from": "0.0.0.0/0"}])
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["four"]
        answer = question(values, "bob", "ann", "ssh")
        self.assertEqual((answer.walk.flow.target.family, answer.walk.verdict), (4, "allowed"))
        self.assertTrue(any(text.startswith("blocked over IPv6") for text in answer.caveats), answer.caveats)
        self.assertEqual(walk(values, "bob", "ann", "ssh", family=6).verdict, "blocked")

    def test_s6_no_family_in_common_is_blocked(self):
        values = base()
        values["instances"]["six"] = {"interfaces": [{"subnet": "a1", "addresses": ["2001:db8:1:1::6"]}]}
        found = walk(values, "dan", "six", "ssh")
        self.assertEqual((found.verdict, found.decided_by.gate), ("blocked", "route"))

    def test_s6_a_ping_is_icmp_in_one_family_and_icmp6_in_the_other(self):
        values = base()
        values["instances"]["bob"]["interfaces"][0]["addresses"].append("2001:db8:1:1::11")
        self.assertEqual(str(walk(values, "bob", "ann", "ping").flow.service), "icmp/echo-request")
        self.assertEqual(str(walk(values, "bob", "ann", "ping", family=6).flow.service), "icmp6/echo-request")


class Order(unittest.TestCase):
    def test_s7_gates_inside_to_inside(self):
        found = walk(base(), "ann", "dan", "ssh")
        self.assertEqual(
            gates(found.forward),
            [
                ("source", "ann/eth0"),
                ("host-out", "ann"),
                ("instance-out", "ann/eth0"),
                ("subnet-out", "a1"),
                ("route", "a1"),
                ("zone", "left>right"),
                ("subnet-in", "b1"),
                ("instance-in", "dan/eth0"),
                ("host-in", "dan"),
                ("listener", "dan"),
            ],
        )
        self.assertEqual([gate for gate, _ in gates(found.reply)],
                         ["host-out", "instance-out", "subnet-out", "route", "zone", "subnet-in", "instance-in", "host-in"])  # fmt: skip

    def test_s7_gates_to_and_from_the_outside(self):
        out, back = walk(base(), "ann", "192.0.2.1", "ssh"), walk(base(), "192.0.2.1", "ann", "ssh")
        self.assertEqual(gates(out.forward)[4:], [("route", "a1"), ("zone", "left>public"), ("translate", "door"), ("outside", "internet")])  # fmt: skip
        self.assertEqual(gates(back.forward)[1:6], [("outside", "internet"), ("route", "a1"), ("translate", "door"), ("zone", "public>left"), ("subnet-in", "a1")])  # fmt: skip

    def test_s8_one_subnet_is_direct_and_no_route_diverts_it(self):
        values = base()
        values["route_tables"]["north-table"].append({"to": "10.1.1.10/32", "via": "discard"})
        found = walk(values, "bob", "ann", "ssh")
        self.assertEqual(found.verdict, "allowed")
        self.assertEqual([gate for gate, _ in gates(found.forward)],
                         ["source", "host-out", "instance-out", "instance-in", "host-in", "listener"])  # fmt: skip

    def test_s9_gates_behind_a_block_are_asked_and_the_reply_is_walked_as_if_it_had_arrived(self):
        values = base()
        values["filters"]["shut"] = a_filter("instance", inbound=[], outbound=[])
        values["filters"]["edge"] = a_filter("subnet", stateful=False, inbound=[], outbound=[{"action": "allow"}])
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["shut"]
        values["instances"]["dan"]["interfaces"][0]["filters"] = ["shut"]
        values["subnets"]["b1"]["filter"] = "edge"
        found = walk(values, "ann", "dan", "ssh")
        self.assertEqual([(row.gate, row.direction) for row in found.stops()],
                         [("instance-out", "forward"), ("subnet-in", "forward"), ("instance-in", "forward")])  # fmt: skip

    def test_s9_behind_a_block_at_route_the_packet_is_delivered_straight(self):
        values = base()
        values["route_tables"]["north-table"].append({"to": "10.2.1.10/32", "via": "discard"})
        found = walk(values, "ann", "dan", "ssh")
        self.assertEqual(decided(found)[0], "route")
        self.assertEqual(gates(found.forward)[5:8], [("zone", "left>right"), ("subnet-in", "b1"), ("instance-in", "dan/eth0")])  # fmt: skip

    def test_s10_an_outside_filter_is_seen_from_the_sites_edge_and_sees_public_addresses(self):
        values = base()
        values["filters"]["edge"] = a_filter("subnet", inbound=[], outbound=[{"action": "allow", "to": "203.0.113.10"}])
        values["outside"]["depot"]["filter"] = "edge"
        self.assertEqual(walk(values, "198.51.100.5", "ann", "ssh").verdict, "allowed")
        self.assertEqual(decided(walk(values, "198.51.100.5", "cat", "ssh")), ("outside", "depot", "edge", "otherwise"))
        self.assertEqual(decided(walk(values, "ann", "198.51.100.5", "ssh")), ("outside", "depot", "edge", "otherwise"))


if __name__ == "__main__":
    unittest.main()
