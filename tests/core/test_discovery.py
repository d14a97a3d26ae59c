"""Clause S35: rule sets of a machine that stop neighbour discovery, with the kernel itself as the judge: both machines
forget their neighbours before each probe."""

import sys
import time
import unittest
from datetime import date

from kiboko.core.audit.audit import audit
from kiboko.core.filters.discovery import LETS_FIND, Discovery
from kiboko.core.header.addresses import parse_address
from kiboko.core.header.packet import request
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service, parse_services
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.pair import ask
from kiboko.core.walk.walk import Walker
from kiboko.views.show_view import Shower
from tests.core.test_kernel_rules import network
from tests.helpers import load, walk
from tests.namespaces import SERVER4, SERVER6, TwoMachines

_ADVERTISE = """
import socket, struct
made = socket.socket(socket.AF_INET6, socket.SOCK_RAW, socket.IPPROTO_ICMPV6)
made.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_MULTICAST_HOPS, 255)
made.sendto(struct.pack("!BBHBBHII", 134, 0, 0, 64, 0, 1800, 0, 0), ("ff02::1", 0, 0, socket.if_nametoindex("eth0")))
"""
"""Sends an advertisement of a router for half an hour (RFC 4861, section 4.2)."""
_OPEN = "tcp dport 1000 accept\nicmpv6 type echo-request accept"


def _table(rules, hook="input", policy="drop"):
    return f"table inet t {{ chain c {{ type filter hook {hook} priority 0; policy {policy};\n{rules}\n }} }}"


def _input(*rules):
    return _table("\n".join(["ct state established,related accept", *rules, _OPEN]))


FOUND = {
    "both messages by name": _input("icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert } accept"),
    "all of ICMPv6": _input("meta l4proto ipv6-icmp accept"),
    "with the hop limit that they have": _input("icmpv6 type { 133-136 } ip6 hoplimit 255 accept"),
    "what goes to many, and what is not tracked": _input("ip6 daddr ff02::/16 accept", "ct state untracked accept"),
    "so many a second": _input("icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert } limit rate 100/second accept"),
    "from both kinds of addresses": _input("ip6 saddr { fe80::/10, fd09::/64 } icmpv6 type 135-136 accept"),
    "by the type of the address": _input("fib daddr type multicast accept", "icmpv6 type 136 accept"),
    "nothing else is stopped but what is invalid": _table(
        "ct state vmap { established : accept, related : accept, invalid : drop }", policy="accept"
    ),
    "not over another device": _table("iifname eth1 drop", policy="accept"),
    "nothing out to what IPv4 addresses look like": _table(
        "ct state established,related accept\nip6 daddr { ::/96, ::ffff:0.0.0.0/96, 2002::/24 } reject",
        "output",
        "accept",
    ),
    "of IPv4 alone": "table ip t { chain c { type filter hook input priority 0; policy drop; tcp dport 1000 accept } }",
}
LOST = {
    "nothing but what is opened": _input(),
    "what goes to many is stopped": _table("ip6 daddr ff02::/16 drop", policy="accept"),
    "by the kind of packet": _table("meta pkttype multicast drop", policy="accept"),
    "by the type of the address": _table("fib daddr type != local drop", policy="accept"),
    "over another device": _input('iifname "eth1" meta l4proto ipv6-icmp accept'),
    "solicitations are refused": _table("icmpv6 type nd-neighbor-solicit reject", policy="accept"),
    "what is not tracked": _table("ct state untracked drop", policy="accept"),
    "before they are tracked": _table("icmpv6 type 135 drop", "prerouting", "accept"),
    "advertisements out": _table("ct state established,related accept", "output"),
    "from routers alone": _input("ip6 saddr fe80::/10 meta l4proto ipv6-icmp accept"),
}
ARP = {
    "address resolution in": "table arp t { chain c { type filter hook input priority 0; policy drop; } }",
    "answers out": "table arp t { chain c { type filter hook output priority 0; policy accept; arp operation reply drop\n } }",
}
"""Rule sets that stop what IPv4 is found by."""
ROUTES = {
    "neighbours alone": (FOUND["both messages by name"], False),
    "the rule that is told of": (_input(LETS_FIND), True),
    "all of ICMPv6": (FOUND["all of ICMPv6"], True),
    "by types": (FOUND["with the hop limit that they have"], True),
    "what goes to many": (FOUND["what goes to many, and what is not tracked"], True),
    "what begins a connection": (_input("icmpv6 type 135-136 accept", "ct state new accept"), False),
    "of IPv4 alone": (FOUND["of IPv4 alone"], True),
    "from neighbours alone": (_input("ip6 saddr fd09::/64 icmpv6 type 134-136 accept"), False),
    "rejected": (_table("icmpv6 type nd-router-advert reject", policy="accept"), False),
}
"""Rule sets, and whether a machine takes its default route from a router in spite of them."""
OF_ROUTERS = {"from neighbours alone": _input("ip6 saddr fd09::/64 icmpv6 type { 135, 136 } accept")}
"""Rule sets that let the solicitations of one neighbour in, and none of a router, which is not to be told apart."""
CANNOT_FIND = {
    "its own answers are stopped": _table("icmpv6 type nd-neighbor-advert drop", policy="accept"),
    "nothing out but what is known": _table("icmpv6 type nd-neighbor-solicit drop", "output", "accept"),
}
"""Rule sets of a client that finds nobody."""


class Forgetful(TwoMachines):
    knows_neighbours = False

    def setUp(self):
        self.addCleanup(self.load_rules, self.client, "")

    def said(self, server, client=None, family=6):
        """What the walk says of two services, and what came of probes where no machine knew the other."""
        topology = network(self.load_rules(self.server, server), self.load_rules(self.client, client or "") or None)
        for name in (self.client, self.server):
            self.inside(name, "ip", f"-{family}", "neigh", "flush", "dev", "eth0")
        records = self.probe(SERVER6 if family == 6 else SERVER4, ["tcp/1000", "ping"], "--timeout", "0.8")
        self.assertEqual(2, len(records))
        for record in records:
            yield walk(topology, "client", "server", record["service"], family=family), record["outcome"]

    def test_s35_what_is_found_and_accepted_is_answered(self):
        for title, rules in FOUND.items():
            for found, outcome in self.said(rules):
                if outcome == "silent":  # on a busy machine an answer may take longer than a probe waits for it
                    outcome = self.probe(SERVER6, [str(found.flow.service)], "--timeout", "5")[0]["outcome"]
                with self.subTest(title, service=found.flow.service):
                    self.assertEqual((found.verdict, outcome), ("allowed", "answered"))

    def test_s35_what_is_not_found_is_not_known_and_comes_to_nothing(self):
        for title, rules in LOST.items():
            for found, outcome in self.said(rules):
                with self.subTest(title, service=found.flow.service):
                    self.assertEqual(found.verdict, "unknown")
                    self.assertNotEqual(outcome, "answered")
                    self.assertIn(
                        "neighbour solicitations in (ICMPv6 type 135)"
                        if title != "advertisements out"
                        else "advertisements out",
                        " ".join(found.caveats),
                    )
                    self.assertIn(f"({LETS_FIND}, in front", " ".join(found.caveats))

    def test_s35_where_a_table_of_arp_may_stop_something_ipv4_is_not_known(self):
        opened = "table ip t { chain c { type filter hook input priority 0; policy accept; tcp dport 7 drop } }"
        for title, rules in ARP.items():
            for family, expected in ((4, "unknown"), (6, "allowed")):
                for found, outcome in self.said(f"{opened}\n{rules}", family=family):
                    with self.subTest(title, family=family):
                        self.assertEqual((expected, family == 6), (found.verdict, outcome == "answered"))
                        self.assertNotIn("icmpv6", " ".join(found.caveats), "no rule of ICMPv6 mends that")
        harmless = f"{opened}\ntable arp t {{ chain c {{ type filter hook input priority 0; policy accept; }} }}"
        for found, outcome in self.said(harmless, family=4):
            self.assertEqual(("allowed", "answered"), (found.verdict, outcome))

    def test_s35_whether_an_end_is_a_neighbour_is_not_asked(self):
        for title, rules in OF_ROUTERS.items():
            for found, _ in self.said(rules):
                with self.subTest(title):
                    self.assertEqual(found.verdict, "unknown")

    def test_s35_a_sender_that_finds_nobody_is_not_known_to_get_anywhere(self):
        for title, rules in CANNOT_FIND.items():
            for found, outcome in self.said("", rules):
                with self.subTest(title, service=found.flow.service):
                    self.assertEqual((found.verdict, found.decided_by.gate), ("unknown", "host-out"))
                    self.assertNotEqual(outcome, "answered")

    def test_s35_who_stops_the_advertisements_of_routers_has_no_route_from_them(self):
        self.inside(self.server, "sysctl", "-qw", "net.ipv6.conf.eth0.accept_ra=1")
        routes = "ip", "-6", "route", "show", "default"
        for title, (rules, taken) in ROUTES.items():
            listed = self.load_rules(self.server, rules)
            self.inside(self.server, "ip", "-6", "route", "flush", "default")
            for _ in range(20 if taken else 5):  # until the sender has an address of its own
                self.inside(self.client, sys.executable, "-c", _ADVERTISE)
                time.sleep(0.1)
                if self.inside(self.server, *routes):
                    break
            with self.subTest(title):
                self.assertEqual(taken, "fe80::" in self.inside(self.server, *routes))
                topology = network(listed, None)
                server = topology.instances["server"]
                told = Discovery().routeless(server.host_filter, "eth0")
                self.assertEqual(taken, told is None, told)
                notes = " ".join(Shower(Walker(topology)).sheet("server").notes)
                self.assertEqual(taken, "router advertisements in (ICMPv6 type 134)" not in notes, notes)

    def test_s35_a_check_says_where_a_route_must_be_set_by_hand(self):
        stops = self.load_rules(self.server, FOUND["both messages by name"])
        values = {
            "kiboko": 1, "networks": {"site": {"cidrs": ["10.9.0.0/16", "fd09::/48"]}},
            "subnets": {f"wire-{n}": {"network": "site", "cidr": [f"10.9.{n}.0/24", f"fd09:0:0:{n}::/64"]} for n in (1, 2)},
            "instances": {
                name: {"interfaces": [{"name": "eth0", "subnet": f"wire-{n}",
                                       "addresses": [f"10.9.{n}.{host}", f"fd09:0:0:{n}::{host}"]}]}
                for name, n, host in (("near", 1, 3), ("server", 1, 2), ("far", 2, 2))
            },
        }  # fmt: skip
        values["instances"]["server"]["host_filter"] = {"nftables": "server.json"}
        ends = Ends(Walker(load(values, {"server.json": stops})))
        for one, other, service, family, expected in (
            ("far", "server", "tcp/1000", 6, "no way to fd09:0:0:2::2 (RFC 4861)"), ("near", "server", "tcp/1000", 6, ""),
            ("server", "far", "tcp/1000", 6, "no way to fd09:0:0:2::2 (RFC 4861)"), ("server", "near", "tcp/1000", 6, ""),
            ("far", "server", "tcp/1000", 4, ""), ("far", "server", "tcp/1001", 6, ""),
        ):  # fmt: skip
            answer = ask(ends, ends.resolve(one), ends.resolve(other), parse_services(service), None, family)
            told = [each for each in answer.caveats if "router advertisements" in each]
            self.assertEqual([expected] if expected else [], [each[-len(expected) :] for each in told], (one, other))

    def test_s35_what_is_stopped_in_any_case_is_blocked_by_an_unknown_signal(self):
        topology = network(self.load_rules(self.server, _input()), None)
        for service, family, expected in (("tcp/1001", 6, ("blocked", False)), ("tcp/1001", 4, ("blocked", True)),
                                          ("tcp/1000", 4, ("allowed", True))):  # fmt: skip
            found = walk(topology, "client", "server", service, family=family)
            self.assertEqual((found.verdict, found.signal_known), expected, (service, family))

    def test_s35_what_comes_over_loopback_needs_no_neighbour(self):
        rules = network(self.load_rules(self.server, _input()), None).instances["server"].host_filter
        here = parse_address(SERVER6)
        packet, port = request(here, here, Service(6, 1000)), RangeSet.one(40000)
        found = [Discovery().judge(rules, "input", packet, port, device, "")[0].action for device in ("lo", "eth0")]
        self.assertEqual(["allow", "unknown"], found)

    def test_s5_of_a_machine_that_is_not_there_the_sender_is_told_after_some_seconds(self):
        outcomes = [self.probe("10.9.0.9", ["tcp/1000"], "--timeout", each)[0]["outcome"] for each in ("0.3", "5")]
        self.assertEqual(["silent", "unreachable"], outcomes)

    def test_machines_that_are_not_found_are_a_finding_of_audits(self):
        for rules, expected in ((_input(), 1), (FOUND["all of ICMPv6"], 0), (FOUND["of IPv4 alone"], 0),
                                (CANNOT_FIND["its own answers are stopped"], 1)):  # fmt: skip
            listed = self.load_rules(self.server, rules)
            ends = Ends(Walker(network(listed, listed)))
            found = [each for each in audit(ends, date(2026, 11, 30)).findings if each.id == "neighbours-stopped"]
            self.assertEqual(expected, len(found), rules)
            for each in found:  # of one meaning, though they are two files
                self.assertEqual(("client: c", ("client", "server")), (each.at, each.machines))
                self.assertIn("on 2 machines (client, server): ", each.proof)
                self.assertIn("client.json stops neighbour ", each.proof)
            notes = Shower(ends.walker).sheet("client").notes
            self.assertEqual(expected, sum("stops neighbour" in each for each in notes), notes)


if __name__ == "__main__":
    unittest.main()
