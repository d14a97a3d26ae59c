"""Clauses S24 to S31: routes, gateways, translation, appliances. Expected results are worked out by hand."""

import re
import unittest

from kiboko.core.errors import InputError
from tests.helpers import a_filter, base, decided, gates, load, question, walk


def tunnelled():
    """The base network with a tunnel between south and the depot, and dan's public address."""
    values = base()
    values["gateways"]["link"] = {"kind": "tunnel", "network": "south", "outside": "depot"}
    values["route_tables"]["south-table"].append({"to": "198.51.100.0/28", "via": "link"})
    return values


def with_appliance(**changes):
    """The base network where a1 reaches south through mid, which stands in a2."""
    values = base()
    values["instances"]["mid"] = {
        "interfaces": [{"subnet": "a2", "addresses": ["10.1.2.9"]}], "forwards": True, **changes,
    }  # fmt: skip
    values["route_tables"]["a1-table"] = [{"to": "10.2.0.0/16", "via": {"instance": "mid"}}]
    values["subnets"]["a1"]["route_table"] = "a1-table"
    return values


def with_campus(public=("192.88.10.0/24",)):
    """The base network and a campus, whose addresses from 192.88.10.0 on are routed on the internet as they are, and
    those from 192.88.11.0 on are not."""
    values = base()
    values["networks"]["east"] = {"cidrs": ["192.88.10.0/23"], "public": list(public)}
    values["gateways"]["east-door"] = {"kind": "internet", "network": "east"}
    values["route_tables"]["east-table"] = [{"to": "0.0.0.0/0", "via": "east-door"}]
    for name, third in (("e1", 10), ("e2", 11)):
        values["subnets"][name] = {"network": "east", "cidr": f"192.88.{third}.0/24", "route_table": "east-table"}
    values["instances"]["eve"] = {"interfaces": [{"subnet": "e1", "addresses": ["192.88.10.10"]}]}
    values["instances"]["fay"] = {"interfaces": [{"subnet": "e2", "addresses": ["192.88.11.10"]}]}
    values["instances"]["gus"] = {
        "interfaces": [{"subnet": "e2", "addresses": ["192.88.11.20"], "public": "203.0.113.60"}]
    }
    return values


def let_in(source, name="eve"):
    """The same, where a machine lets in one sender alone."""
    values = with_campus()
    values["filters"]["only"] = a_filter("instance", inbound=[{"action": "allow", "from": source}], attach_to=[name])
    return values


class PublicBlocks(unittest.TestCase):
    def test_s27_what_is_public_as_it_is_is_reached_from_outside_as_it_is(self):
        found = walk(with_campus(), "192.0.2.1", "eve", "ssh")
        self.assertEqual(("allowed", "192.88.10.10"), (found.verdict, str(found.flow.target)))
        self.assertIn(("translate", "east-door"), gates(found.forward))
        self.assertEqual("allowed", walk(let_in("192.0.2.1"), "192.0.2.1", "192.88.10.10", "ssh").verdict)
        self.assertEqual("allowed", walk(with_campus(), "192.0.2.1", "192.88.10.77", "ssh").verdict)
        private = with_campus(public=())
        self.assertEqual("route", decided(walk(private, "192.0.2.1", "192.88.10.10", "ssh"))[0])

    def test_s27_the_rest_of_its_network_is_reached_by_public_addresses(self):
        self.assertEqual("route", decided(walk(with_campus(), "192.0.2.1", "192.88.11.10", "ssh"))[0])
        found = walk(with_campus(), "192.0.2.1", "gus", "ssh")
        self.assertEqual(("allowed", "203.0.113.60"), (found.verdict, str(found.flow.target)))

    def test_s28_what_it_sends_is_not_translated(self):
        values = with_campus()
        values["filters"]["edge"] = a_filter("subnet", inbound=[{"action": "allow", "from": "192.88.10.10"}])
        values["outside"]["depot"]["filter"] = "edge"
        self.assertEqual("allowed", walk(values, "eve", "198.51.100.5", "ssh").verdict)
        self.assertEqual(("translate", "east-door"), decided(walk(values, "fay", "198.51.100.5", "ssh"))[:2])
        self.assertEqual(("outside", "depot"), decided(walk(values, "gus", "198.51.100.5", "ssh"))[:2])

    def test_s26_another_networks_public_block_is_reached_through_the_internet(self):
        """By ann's own public address, and from dan's network by the one that it shares."""
        for sender, seen in (("ann", "203.0.113.10"), ("dan", "203.0.113.2")):
            self.assertEqual("allowed", walk(let_in(seen), sender, "eve", "ssh").verdict)
            self.assertEqual(("instance-in", "eve/eth0"), decided(walk(let_in(sender), sender, "eve", "ssh"))[:2])
            self.assertEqual("route", decided(walk(with_campus(), sender, "192.88.11.10", "ssh"))[0])
        self.assertEqual(("translate", "door"), decided(walk(with_campus(), "bob", "eve", "ssh"))[:2])
        self.assertEqual("allowed", walk(let_in("eve", "ann"), "eve", "203.0.113.10", "ssh").verdict)
        self.assertEqual("route", decided(walk(with_campus(), "eve", "10.1.1.10", "ssh"))[0])

    def test_s34_what_the_core_refuses_of_a_neighbours_request_to_a_public_address_goes_back_by_the_gateway(self):
        """eve asks for gus's public address; the zone filter behind the gateway rejects what goes to his own one."""
        values = with_campus()
        values["subnets"]["e2"]["zone"] = "right"
        values["crossings"] = [{"from": "public", "to": "right", "filter": "no"}]
        values["filters"]["no"] = {
            "layer": "zone",
            "decide": "first",
            "stateful": True,
            "rules": [{"action": "reject"}],
        }
        for sender in ("eve", "ann"):
            found = walk(values, sender, "203.0.113.60", "udp/53")
            self.assertEqual((decided(found)[0], found.signal), ("zone", "refused"), sender)

    def test_s28_nat_translates_it_nevertheless(self):
        values = let_in("203.0.113.9", "ann")
        values["gateways"]["east-exit"] = {"kind": "nat", "network": "east", "address": "203.0.113.9"}
        values["route_tables"]["east-table"][0]["via"] = "east-exit"
        self.assertEqual("allowed", walk(values, "eve", "203.0.113.10", "ssh").verdict)
        # What comes in asks for eve herself; the reply that leaves by the other gateway would bear its address.
        found = walk(values, "192.0.2.1", "eve", "ssh")
        self.assertEqual(("one-way", "translate"), (found.verdict, found.decided_by.gate))

    def test_s6_a_public_block_is_of_its_network_and_nobodys_own(self):
        for block, said in (
            (
                "10.1.0.0/16",
                "public block 10.1.0.0/16 is private (RFC 1918, RFC 6598): nobody outside has a route to it",
            ),
            ("192.88.10.0/24", r"public block 192.88.10.0/24 lies outside its blocks (10.1.0.0/16, 2001:db8:1::/48)"),
            ("2001:db8:1::/48", "global IPv6 addresses are public without it; leave it out"),
        ):
            values = base()
            values["networks"]["north"]["public"] = [block]
            with self.assertRaisesRegex(InputError, re.escape(said)):
                load(values)
        values = with_campus()
        values["gateways"]["exit"] = {"kind": "nat", "networks": ["south", "east"], "address": "203.0.113.2"}
        with self.assertRaisesRegex(
            InputError, "gateway 'exit': it serves several networks, and east has public blocks"
        ):
            load(values)
        with self.assertRaisesRegex(InputError, "'gus/eth0': 192.88.11.20 is public as it is, in its network"):
            load(with_campus(public=("192.88.10.0/23",)))


class Routes(unittest.TestCase):
    def test_s24_a_reply_from_another_address_than_the_one_asked_is_stopped_at_translate(self):
        values = tunnelled()
        values["gateways"]["south-door"] = {"kind": "internet", "network": "south"}
        values["instances"]["dan"]["interfaces"][0]["public"] = "203.0.113.40"
        # The depot asks the public address; the reply takes the tunnel and bears the private one.
        found = walk(values, "198.51.100.5", "203.0.113.40", "ssh")
        self.assertEqual((found.verdict, found.decided_by.gate, found.decided_by.direction),
                         ("one-way", "translate", "reply"))  # fmt: skip
        self.assertEqual(walk(values, "198.51.100.5", "10.2.1.10", "ssh").verdict, "allowed")

    def test_s24_a_reply_through_a_nat_gateway_bears_the_wrong_address(self):
        values = base()
        values["gateways"]["south-door"] = {"kind": "internet", "network": "south"}
        values["instances"]["dan"]["interfaces"][0]["public"] = "203.0.113.40"
        found = walk(values, "192.0.2.1", "dan", "ssh")
        self.assertEqual((found.verdict, found.decided_by.at), ("one-way", "exit"))

    def test_s25_longest_prefix_then_manual_before_platform_before_local(self):
        values = base()
        table = values["route_tables"]["north-table"]
        table += [
            {"to": "10.2.0.0/16", "via": "discard"},
            {"to": "10.1.0.0/16", "via": "discard", "origin": "learned"},
            {"to": "10.2.1.10/32", "via": "peer", "origin": "learned"},
        ]
        exact = walk(values, "ann", "dan", "ssh")
        self.assertEqual(exact.verdict, "allowed")
        lookup = next(row.step.lookup for row in exact.forward if row.gate == "route")
        self.assertEqual([str(e) for e in (lookup.entry, *lookup.beaten)],
                         ["10.2.1.10/32 via peer (learned)", "10.2.0.0/16 via discard", "10.2.0.0/16 via peer (learned)", "0.0.0.0/0 via door"])  # fmt: skip
        self.assertEqual(decided(walk(values, "ann", "10.2.1.9", "ssh"))[0], "route")
        self.assertEqual(decided(walk(values, "ann", "cat", "ssh"))[0], "route")

    def test_s25_two_entries_with_the_same_to_and_origin_are_an_error(self):
        values = base()
        values["route_tables"]["north-table"].append({"to": "0.0.0.0/0", "via": "discard"})
        with self.assertRaisesRegex(InputError, r"0.0.0.0/0 \(static\) is given twice"):
            load(values)

    def test_s25_a_subnet_without_a_table_has_only_local(self):
        values = base()
        del values["subnets"]["a1"]["route_table"]
        self.assertEqual(walk(values, "ann", "cat", "ssh").verdict, "allowed")
        found = walk(values, "ann", "dan", "ssh")
        self.assertEqual((decided(found)[0], found.signal), ("route", "unreachable"))

    def test_s26_a_packet_that_comes_in_is_delivered_locally_without_asking_a_table(self):
        values = base()
        values["route_tables"]["south-table"].append({"to": "10.2.1.10/32", "via": "discard"})
        self.assertEqual(walk(values, "ann", "dan", "ssh").verdict, "allowed")

    def test_s26_peering_is_not_passed_on_to_a_third_network(self):
        values = base()
        values["networks"]["east"] = {"cidrs": ["10.3.0.0/16"]}
        values["gateways"]["peer-east"] = {"kind": "peering", "networks": ["south", "east"]}
        values["subnets"]["c1"] = {"network": "east", "cidr": "10.3.1.0/24"}
        values["instances"]["eve"] = {"interfaces": [{"subnet": "c1", "addresses": ["10.3.1.10"]}]}
        values["route_tables"]["north-table"].append({"to": "10.3.0.0/16", "via": "peer"})
        found = walk(values, "ann", "eve", "ssh")
        self.assertEqual((decided(found)[:2], found.signal), (("route", "a1"), "silent"))

    def test_s26_a_hub_carries_between_any_two_of_its_networks_where_their_tables_say_so(self):
        values = base()
        values["networks"] |= {"east": {"cidrs": ["10.3.0.0/16"]}, "west": {"cidrs": ["10.4.0.0/16"]}}
        values["gateways"]["hub"] = {"kind": "peering", "networks": ["north", "east", "west"]}
        for name, network, number in (("c1", "east", 3), ("d1", "west", 4)):
            values["subnets"][name] = {
                "network": network,
                "cidr": f"10.{number}.1.0/24",
                "route_table": f"{name}-table",
            }
            values["route_tables"][f"{name}-table"] = [{"to": "10.0.0.0/8", "via": "hub"}]
            values["instances"][f"of-{network}"] = {
                "interfaces": [{"subnet": name, "addresses": [f"10.{number}.1.10"]}]
            }
        values["route_tables"]["north-table"].append({"to": "10.3.0.0/16", "via": "hub"})
        for source, destination in (("ann", "of-east"), ("of-east", "of-west"), ("of-west", "of-east")):
            self.assertEqual("allowed", walk(values, source, destination, "ssh").verdict, (source, destination))
        self.assertEqual("one-way", walk(values, "of-west", "ann", "ssh").verdict)  # north has no route to west
        self.assertEqual("route", decided(walk(values, "ann", "of-west", "ssh"))[0])
        found = walk(values, "of-east", "dan", "ssh")  # south is not of the hub
        self.assertIn("hub carries only north, east and west", found.decided_by.reason)
        for networks in (["north"], ["north", "north"], ["north", "east", "north"]):
            values["gateways"]["hub"]["networks"] = networks
            with self.assertRaisesRegex(InputError, "a peering joins two networks or more, each named once"):
                load(values)

    def test_s28_a_gateway_may_serve_several_networks(self):
        """South has no gateway of its own here: it goes out by those of north, and is reached by its tunnel."""
        values = base()
        values["gateways"] = {
            "door": {"kind": "internet", "networks": ["north", "south"]},
            "exit": {"kind": "nat", "networks": ["south", "north"], "address": "203.0.113.2"},
            "link": {"kind": "tunnel", "networks": ["north", "south"], "outside": "depot"},
        }
        values["instances"]["dan"]["interfaces"][0]["public"] = "203.0.113.40"
        for name in ("north-table", "south-table"):
            values["route_tables"][name] = [{"to": "0.0.0.0/0", "via": "door"}, {"to": "192.0.2.0/24", "via": "exit"},
                                            {"to": "198.51.100.0/28", "via": "link"}]  # fmt: skip
        seen = {"ann": "203.0.113.10", "dan": "203.0.113.40"}
        for name, other in (("ann", "dan"), ("dan", "ann")):
            self.assertEqual("allowed", walk(values, "198.18.0.1", name, "ssh").verdict)
            found = walk(values, name, "192.0.2.5", "ssh")
            self.assertEqual(("allowed", "203.0.113.2"), (found.verdict, str(found.forward[-1].step.source)))
            found = walk(values, name, seen[other], "ssh")  # out by the gateway, and in again by the same
            self.assertEqual(("allowed", seen[name]), (found.verdict, str(found.forward[-1].step.source)))
            own = {"ann": "10.1.1.10", "dan": "10.2.1.10"}
            self.assertEqual("allowed", walk(values, "198.51.100.5", own[name], "ssh").verdict)
            self.assertEqual("allowed", walk(values, own[name], "198.51.100.5", "ssh").verdict)
            self.assertEqual("route", decided(walk(values, name, own[other], "ssh"))[0])
        del values["gateways"]["link"]["networks"]
        with self.assertRaisesRegex(InputError, "gateway 'link': 'network' is missing; a tunnel gateway needs it"):
            load(values)
        values["gateways"]["link"] |= {"networks": ["north"], "network": "south"}
        with self.assertRaisesRegex(InputError, "gateway 'link': give 'network' or 'networks', not both"):
            load(values)

    def test_s28_of_two_gateways_to_the_internet_none_translates_for_one_network(self):
        """Which of them has ann's public address nothing tells; what is public as it is goes out and comes in by either."""
        values = base()
        values["gateways"]["other-door"] = {"kind": "internet", "network": "north"}
        said = "network 'north': door and other-door lead to the internet, and machines in it have public addresses"
        with self.assertRaisesRegex(InputError, said):
            load(values)
        values = with_campus()
        del values["instances"]["gus"]["interfaces"][0]["public"]
        values["gateways"]["back-door"] = {"kind": "internet", "network": "east"}
        values["route_tables"]["east-table"][0]["via"] = "back-door"
        for source, destination in (
            ("192.0.2.1", "eve"),
            ("eve", "192.0.2.1"),
            ("ann", "eve"),
            ("eve", "203.0.113.10"),
        ):
            self.assertEqual("allowed", walk(values, source, destination, "ssh").verdict, (source, destination))

    def test_s26_internet_never_leads_to_a_private_block(self):
        values = base()
        values["route_tables"]["north-table"] = [{"to": "0.0.0.0/0", "via": "door"}]
        found = walk(values, "ann", "dan", "ssh")
        self.assertEqual((decided(found)[0], found.signal), ("route", "silent"))

    def test_s26_a_tunnel_carries_only_its_network_and_its_outside(self):
        values = tunnelled()
        values["route_tables"]["south-table"].append({"to": "192.0.2.0/24", "via": "link"})
        self.assertEqual(walk(values, "dan", "198.51.100.5", "ssh").verdict, "allowed")
        self.assertEqual(decided(walk(values, "dan", "192.0.2.5", "ssh"))[0], "route")

    def test_s27_from_outside_only_public_and_global_addresses_and_tunnels_lead_in(self):
        self.assertEqual(walk(base(), "192.0.2.1", "203.0.113.10", "ssh").verdict, "allowed")
        self.assertEqual(walk(base(), "2001:db8:ffff::1", "ann", "ssh").verdict, "allowed")
        self.assertEqual(decided(walk(base(), "192.0.2.1", "10.1.1.10", "ssh"))[0], "route")
        self.assertEqual(walk(tunnelled(), "198.51.100.5", "10.2.1.10", "ssh").verdict, "allowed")
        self.assertEqual(decided(walk(tunnelled(), "192.0.2.1", "10.2.1.10", "ssh"))[0], "route")

    def test_s27_a_receiver_with_no_route_back_gives_one_way(self):
        values = base()
        del values["subnets"]["a2"]["route_table"]
        found = walk(values, "192.0.2.1", "cat", "ssh")
        self.assertEqual(
            (found.verdict, found.decided_by.gate, found.decided_by.direction), ("one-way", "route", "reply")
        )

    def test_s28_internet_needs_the_senders_public_address_else_blocked_at_translate_behind_the_zone(self):
        found = walk(base(), "bob", "192.0.2.1", "ssh")
        self.assertEqual((decided(found)[:2], found.signal), (("translate", "door"), "silent"))
        order = [gate for gate, _ in gates(found.forward)]
        self.assertLess(order.index("zone"), order.index("translate"))
        self.assertEqual(len(found.stops()), 1)

    def test_s28_internet_needs_a_global_ipv6_address(self):
        values = base()
        values["networks"]["north"]["cidrs"].append("fd00:1::/32")
        values["subnets"]["u1"] = {"network": "north", "cidr": "fd00:1:1::/64", "route_table": "north-table"}
        values["instances"]["ula"] = {"interfaces": [{"subnet": "u1", "addresses": ["fd00:1:1::1"]}]}
        self.assertEqual(decided(walk(values, "ula", "2001:db8:ffff::1", "ssh"))[0], "translate")
        self.assertEqual(walk(values, "ann", "2001:db8:ffff::1", "ssh").verdict, "allowed")

    def test_s28_of_a_port_that_nat_may_choose_instead_it_is_said_which_ones_are_stopped_behind_it(self):
        """dan asks for ann's public address from 32768 to 60999; the edge of a1 is stateless, and lets replies back to
        these alone. In front of `exit` his own subnet's filter sees his own ports."""
        values = base()
        values["filters"]["edge"] = a_filter("subnet", stateful=False, inbound=[{"action": "allow"}],
                                             outbound=[{"action": "allow", "service": "tcp/32768-60999"}])  # fmt: skip
        values["subnets"]["a1"]["filter"] = "edge"
        answer = question(values, "dan", "203.0.113.10", "https")
        told = ("exit may choose another client port for it (RFC 4787), and subnet-out at a1 stops client ports 1024-32767,"
                " 61000-65535: from there it fails")  # fmt: skip
        self.assertEqual(("allowed", True), (answer.walk.verdict, told in answer.caveats))
        values["filters"]["edge"]["stateful"] = True
        self.assertEqual((), question(values, "dan", "203.0.113.10", "https").caveats)
        values["filters"]["edge"]["stateful"] = False
        values["subnets"]["b1"]["filter"] = "edge"
        del values["subnets"]["a1"]["filter"]
        values["filters"]["edge"] |= {"inbound": [{"action": "allow", "service": "tcp/32768-60999"}],
                                      "outbound": [{"action": "allow"}]}  # fmt: skip
        self.assertEqual((), question(values, "dan", "203.0.113.10", "https").caveats)

    def test_s28_who_asks_for_the_shared_address_as_a_sender_is_told_whose_it_is(self):
        caveats = question(base(), "203.0.113.2", "203.0.113.10", "https").caveats
        told = ("203.0.113.2 is what exit makes of many senders' addresses, and nobody's own: ask for one of those behind it,"
                " or for all of south")  # fmt: skip
        self.assertEqual((told,), caveats)
        self.assertEqual((), question(base(), "192.0.2.1", "203.0.113.10", "https").caveats)

    def test_s28_nat_shares_an_address_lets_only_replies_in_and_has_no_ipv6(self):
        out = walk(base(), "dan", "192.0.2.1", "ssh")
        self.assertEqual((out.verdict, str(out.request_path.source_seen)), ("allowed", "203.0.113.2"))
        request = walk(base(), "192.0.2.1", "203.0.113.2", "ssh")
        self.assertEqual((decided(request)[0], request.signal), ("route", "silent"))
        values = base()
        values["networks"]["south"]["cidrs"].append("2001:db8:2::/48")
        values["subnets"]["b1"]["cidr"] = ["10.2.1.0/24", "2001:db8:2:1::/64"]
        values["instances"]["dan"]["interfaces"][0]["addresses"].append("2001:db8:2:1::10")
        values["route_tables"]["south-table"].append({"to": "::/0", "via": "exit"})
        self.assertEqual(decided(walk(values, "dan", "2001:db8:ffff::1", "ssh"))[0], "route")

    def test_s29_a_public_address_from_inside_goes_out_and_comes_back_with_two_crossings(self):
        found = walk(base(), "dan", "203.0.113.10", "ssh")
        self.assertEqual(found.verdict, "allowed")
        self.assertEqual(gates(found.forward)[4:], [
            ("route", "b1"), ("zone", "right>public"), ("translate", "exit"), ("route", "a1"), ("translate", "door"),
            ("zone", "public>left"), ("subnet-in", "a1"), ("instance-in", "ann/eth0"), ("host-in", "ann"),
            ("listener", "ann"),
        ])  # fmt: skip

    def test_s29_even_between_neighbours_and_the_receiver_sees_the_translated_sender(self):
        values = base()
        values["instances"]["bob"]["interfaces"][0]["public"] = "203.0.113.11"
        values["filters"]["f"] = a_filter("instance", inbound=[{"action": "allow", "from": "bob"}])
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["f"]
        self.assertEqual(walk(values, "bob", "ann", "ssh").verdict, "allowed")
        self.assertEqual(
            decided(walk(values, "bob", "203.0.113.10", "ssh")), ("instance-in", "ann/eth0", "f", "otherwise")
        )
        values["filters"]["f"]["inbound"][0]["from"] = "203.0.113.11"
        self.assertEqual(walk(values, "bob", "203.0.113.10", "ssh").verdict, "allowed")

    def test_s30_gates_through_an_appliance(self):
        found = walk(with_appliance(), "ann", "dan", "ssh")
        self.assertEqual(gates(found.forward)[2:], [
            ("instance-out", "ann/eth0"), ("subnet-out", "a1"), ("route", "a1"), ("zone", "left>left"), ("subnet-in", "a2"),
            ("instance-in", "mid/eth0"), ("host-in", "mid"), ("host-out", "mid"), ("instance-out", "mid/eth0"),
            ("subnet-out", "a2"), ("route", "a2"), ("zone", "left>right"), ("subnet-in", "b1"),
            ("instance-in", "dan/eth0"), ("host-in", "dan"), ("listener", "dan"),
        ])  # fmt: skip
        self.assertEqual(found.verdict, "allowed")

    def test_s30_a_next_hop_in_the_same_subnet_has_no_subnet_zone_or_translate_gate(self):
        values = with_appliance()
        values["instances"]["mid"]["interfaces"] = [
            {"subnet": "a1", "addresses": ["10.1.1.9"]}, {"subnet": "a2", "addresses": ["10.1.2.9"]},
        ]  # fmt: skip
        found = walk(values, "ann", "dan", "ssh")
        self.assertEqual(gates(found.forward)[2:9], [
            ("instance-out", "ann/eth0"), ("route", "a1"), ("instance-in", "mid/eth0"), ("host-in", "mid"), ("host-out", "mid"),
            ("instance-out", "mid/eth1"), ("subnet-out", "a2"),
        ])  # fmt: skip

    def test_s30_it_is_entered_by_the_interface_named_and_leaves_by_one_in_the_destinations_subnet(self):
        values = with_appliance()
        values["instances"]["mid"]["interfaces"] = [
            {"subnet": "a1", "addresses": ["10.1.1.9"]}, {"subnet": "a2", "addresses": ["10.1.2.9"]},
        ]  # fmt: skip
        values["route_tables"]["a1-table"] = [{"to": "10.1.2.0/24", "via": {"instance": "mid", "interface": "eth1"}}]
        found = walk(values, "ann", "cat", "ssh")
        mid = [at for gate, at in gates(found.forward) if gate.startswith("instance") and at.startswith("mid")]
        self.assertEqual(mid, ["mid/eth1", "mid/eth1"])

    def test_s30_a_next_hop_that_is_the_destination_is_delivered(self):
        values = with_appliance(forwards=False)
        values["route_tables"]["a1-table"] = [{"to": "10.1.2.9/32", "via": {"instance": "mid"}}]
        self.assertEqual(walk(values, "ann", "mid", "ssh").verdict, "allowed")

    def test_s30_a_loop_is_unreachable(self):
        values = with_appliance()
        values["route_tables"]["a2-table"] = [{"to": "10.2.0.0/16", "via": {"instance": "mid"}}]
        values["subnets"]["a2"]["route_table"] = "a2-table"
        found = walk(values, "ann", "dan", "ssh")
        self.assertEqual((found.verdict, decided(found)[0], found.signal), ("blocked", "route", "unreachable"))

    def test_s30_what_is_sent_round_meets_every_gate_on_its_way_once(self):
        """The only way out of mid leads back to it: the crossing there, and that back to it, are asked all the same."""
        values = with_appliance()
        values["route_tables"]["a2-table"] = [{"to": "10.2.0.0/16", "via": {"instance": "mid"}}]
        values["subnets"]["a2"] |= {"route_table": "a2-table", "zone": "right"}
        values["filters"]["shut"] = a_filter("zone", rules=[{"action": "reject", "service": "ssh"}], otherwise="allow")
        values["crossings"] = [{"from": "left", "to": "right", "filter": "shut"}]
        found = walk(values, "ann", "dan", "ssh")
        self.assertEqual((("zone", "left>right", "shut", "1"), "refused"), (decided(found), found.signal))
        found = walk(values, "ann", "dan", "tcp/80")
        self.assertEqual((("route", "a2", None, None), "unreachable"), (decided(found), found.signal))
        values["filters"]["edge"] = a_filter("subnet", outbound=[{"action": "reject"}])
        values["subnets"]["a2"]["filter"] = "edge"
        found = walk(values, "ann", "dan", "tcp/80")
        self.assertEqual(("subnet-out", "a2", "edge", "1"), decided(found), "what is sent to itself goes to the router")
        del values["subnets"]["a2"]["filter"]
        # With a leg in a1, by which it does not send: what comes in there leaves by a2, and comes in there again.
        values["instances"]["mid"]["interfaces"].append({"subnet": "a1", "addresses": ["10.1.1.9"]})
        table = [{"to": "10.2.0.0/16", "via": {"instance": "mid", "interface": "eth1"}}]
        values["route_tables"] |= {"a1-table": table, "a2-table": table}
        values["crossings"] = [{"from": "right", "to": "left", "filter": "shut"}]
        found = walk(values, "ann", "dan", "ssh")
        self.assertEqual((("zone", "right>left", "shut", "1"), "refused"), (decided(found), found.signal))

    def test_s30_two_appliances_that_send_to_each_other_are_a_loop(self):
        values = with_appliance()
        values["instances"]["wim"] = {"interfaces": [{"subnet": "a1", "addresses": ["10.1.1.9"]}], "forwards": True}
        values["route_tables"]["a2-table"] = [{"to": "10.2.0.0/16", "via": {"instance": "wim"}}]
        values["subnets"]["a2"]["route_table"] = "a2-table"
        found = walk(values, "ann", "dan", "ssh")
        self.assertEqual((decided(found)[0], found.signal), ("route", "unreachable"))

    def test_s30_a_neighbour_as_next_hop_that_does_not_forward_is_met_without_the_subnets_edge(self):
        values = with_appliance(forwards=False)
        values["instances"]["mid"]["interfaces"] = [{"subnet": "a1", "addresses": ["10.1.1.9"]}]
        values["filters"]["edge"] = a_filter("subnet", outbound=[{"action": "reject"}])
        values["subnets"]["a1"]["filter"] = "edge"
        found = walk(values, "ann", "dan", "ssh")
        self.assertEqual((decided(found)[0], found.signal), ("route", "silent"))

    def test_s30_an_appliance_that_is_its_own_next_hop_is_a_loop(self):
        values = with_appliance()
        values["route_tables"]["a2-table"] = [{"to": "10.2.0.0/16", "via": {"instance": "mid"}}]
        values["subnets"]["a2"]["route_table"] = "a2-table"
        found = walk(values, "mid", "dan", "ssh")
        self.assertEqual((decided(found)[0], found.signal), ("route", "unreachable"))

    def test_s31_signals_of_routes(self):
        discard = base()
        discard["route_tables"]["north-table"].append({"to": "10.2.1.10/32", "via": "discard"})
        signals = [
            walk(discard, "ann", "dan", "ssh").signal,
            walk(with_appliance(forwards=False), "ann", "dan", "ssh").signal,
            walk(with_appliance(state="stopped"), "ann", "dan", "ssh").signal,
            walk(base(), "192.0.2.1", "bob", "ssh").signal,
            walk(base(), "ann", "10.1.9.9", "ssh").signal,
        ]
        self.assertEqual(signals, ["silent", "silent", "silent", "silent", "unreachable"])


if __name__ == "__main__":
    unittest.main()
