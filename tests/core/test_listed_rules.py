"""Clause S35: what a listing of a kernel's rules tells and what it leaves out, with the kernel itself as the judge."""

import json
import shutil
import subprocess
import tempfile
import unittest
from datetime import date
from pathlib import Path

from kiboko.core.audit.audit import audit
from kiboko.core.network.host_rules import LISTED_WHOLE
from kiboko.core.queries.ends import Ends
from kiboko.core.walk.walk import Walker
from tests.core import test_kernel_rules as kernel
from tests.core.test_clauses_signals import listing
from tests.core.test_kernel_rules import network
from tests.helpers import base, kiboko, walk
from tests.namespaces import SERVER4, TwoMachines

LINE = "\n"
HEAD = [":INPUT DROP [0:0]", ":FORWARD DROP [0:0]", ":OUTPUT ACCEPT [0:0]", ":own - [0:0]"]
IPTABLES = {
    "known connections, loopback, open ports": [
        "-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT",
        "-A INPUT -i lo -j ACCEPT",
        "-A INPUT -p tcp -m conntrack --ctstate NEW --dport 1000 -j ACCEPT",
        "-A INPUT -p tcp -m multiport --dports 1001,1003 -j ACCEPT",
        "-A INPUT -p udp -m comment --comment open --dport 1000 -j ACCEPT",
    ],
    "refusals of all kinds behind a log": [
        "-A INPUT -m limit --limit 3/min -j LOG --log-prefix x",
        "-A INPUT -p tcp --dport 1000 -j REJECT --reject-with tcp-reset",
        "-A INPUT -p tcp --dport 1001 -j REJECT",
        "-A INPUT -p udp --dport 1000 -j own",
        "-A INPUT -j ACCEPT",
        "-A own -j REJECT",
    ],
    "marks and invalid packets": [
        "-A INPUT -j MARK --set-mark 7",
        "-A INPUT -m conntrack --ctstate INVALID -j DROP",
        "-A INPUT -p tcp --dport 1001 -m mark --mark 7 -j DROP",
        "-A INPUT -p tcp --dport 1000 -j ACCEPT",
        "-A INPUT -p udp --dport 1001 -g own",
        "-A own -p udp -j ACCEPT",
    ],
}


@unittest.skipIf(shutil.which("iptables-nft-restore", path="/usr/sbin:/sbin:/usr/bin") is None, "needs iptables")
class RulesOfIptables(kernel.HeldToTheKernel):
    def load_iptables(self, rules):
        """Make the rules in both families, and give back what nft lists of them."""
        self.load_rules(self.server, "")
        text = LINE.join(["*filter", *HEAD, *rules, "COMMIT", ""])
        for command in ("iptables-nft-restore", "ip6tables-nft-restore"):
            self.inside(self.server, command, text=text)
        return self.inside(self.server, "nft", "-j", "list", "ruleset")

    def test_s35_a_listing_of_what_iptables_made_is_never_read_as_more_than_it_says(self):
        for title, rules in IPTABLES.items():
            with self.subTest(title):
                listing = self.load_iptables(rules)
                self.assertIn('"xt"', listing)
                self.hold(network(listing, None), rules)

    def test_s35_the_listing_that_is_advised_tells_all_of_it(self):
        for title, rules in IPTABLES.items():
            with self.subTest(title):
                self.load_iptables(rules)
                listing = self.listed_whole().stdout
                self.assertNotIn('"xt"', listing)
                self.assertEqual(self.hold(network(listing, None), rules), 18)

    def listed_whole(self):
        """What the commands print that are advised for rules of iptables."""
        with tempfile.TemporaryDirectory() as folder:
            command = ["ip", "netns", "exec", self.server, "sh", "-c", f"cd {folder} && {LISTED_WHOLE}"]
            return subprocess.run(command, capture_output=True, text=True, timeout=60)

    def test_s35_a_condition_that_nftables_has_no_word_for_stays_one_that_is_not_known(self):
        rules = ["-A INPUT -p tcp --dport 1000 -m recent --rcheck --name x -j DROP", "-A INPUT -j ACCEPT"]
        self.load_iptables(rules)
        topology = network(self.listed_whole().stdout, None)
        self.assertEqual(self.hold(topology, rules), 16)
        said = walk(topology, "client", "server", "tcp/1000")
        self.assertEqual(said.verdict, "unknown")
        self.assertIn("condition recent of iptables, which nftables has no word for", said.caveats[0])

    def test_s35_a_target_that_nftables_has_no_word_for_is_not_lost(self):
        self.load_iptables(["-A INPUT -p tcp --dport 1000 -j IDLETIMER --timeout 5 --label x", "-A INPUT -j ACCEPT"])
        self.assertNotEqual(self.listed_whole().returncode, 0)

    def test_s35_of_what_is_kept_beside_nftables_a_listing_has_nothing_and_that_is_said(self):
        """Real packets are stopped by rules that no listing has."""
        self.load_rules(self.server, "")
        text = LINE.join(["*filter", *HEAD, "COMMIT", ""])
        try:
            self.inside(self.server, "iptables-legacy-restore", text=text)
        except (AssertionError, FileNotFoundError) as error:
            self.skipTest(f"this kernel keeps no rules beside nftables: {error}")
        self.addCleanup(self.inside, self.server, "iptables-legacy", "-P", "INPUT", "ACCEPT")
        listed = self.inside(self.server, "nft", "-j", "list", "ruleset")
        said = walk(network(listed, None), "client", "server", "tcp/1000")
        self.assertEqual(["silent"], [each["outcome"] for each in self.probe(SERVER4, ["tcp/1000"])])
        self.assertIn("filters nothing: what a machine keeps beside nftables", said.caveats[0])

    def test_s35_a_listing_stops_nothing_where_no_chain_of_it_that_is_asked_has_a_rule_or_drops(self):
        rules = (([["established"], "accept"],), ())
        for hook, policy, rule, expected in (
            ("input", "accept", (), True), ("input", "drop", (), False), ("input", "accept", rules[0], False),
            ("ingress", "accept", rules[0], False),
        ):  # fmt: skip
            topology = network(listing(hook, policy, *rule), None)
            instance = topology.instances["server"]
            self.assertEqual((expected, not expected), (instance.host_filter.filters_nothing, instance.has_host_filter))
            told = [
                each for each in walk(topology, "client", "server", "tcp/1000").caveats if "beside nftables" in each
            ]
            self.assertEqual(expected, bool(told), (hook, policy, rule))
            found = [
                each.at
                for each in audit(Ends(Walker(topology)), date(2026, 11, 25)).findings
                if each.id == "unguarded-interface"
            ]
            self.assertEqual(expected, "server/eth0" in found)
        asleep = json.loads(listing("input", "drop"))
        asleep["nftables"][0]["table"]["flags"] = "dormant"
        self.assertTrue(network(json.dumps(asleep), None).instances["server"].host_filter.filters_nothing)

    def test_the_replica_refuses_what_it_has_the_names_of_alone_and_says_what_to_do(self):
        values = base()
        values["instances"]["cat"]["host_filter"] = {"nftables": "cat.json"}
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "cat.json").write_text(self.load_iptables(["-A INPUT -m limit --limit 3/min -j LOG"]))
            (Path(folder) / "network.yaml").write_text(json.dumps(values))
            done = kiboko("replica", "verify", "--source", "ann", "--destination", "cat", cwd=folder)
        self.assertEqual(done.returncode, 2)
        self.assertIn(LISTED_WHOLE, done.stderr)

    def test_chains_of_one_name_in_two_tables_are_told_apart(self):
        listing = self.load_iptables(IPTABLES["refusals of all kinds behind a log"])
        topology = network(listing, None)
        for family in (4, 6):
            said = walk(topology, "client", "server", "udp/1000", None, family)
            self.assertEqual(said.decided_by.chain, f"{'ip' if family == 4 else 'ip6'} filter own")


class DormantTables(TwoMachines):
    RULES = "table inet t { chain a { type filter hook input priority 0; policy drop; counter } }"

    def listing(self, flags):
        """What nft lists of the rules, with the flags of their table. Some releases print a flag that stands alone
        wrongly, so that these are put in by hand."""
        listing = json.loads(self.load_rules(self.server, self.RULES))
        next(each["table"] for each in listing["nftables"] if "table" in each)["flags"] = flags
        return json.dumps(listing)

    def test_s35_a_dormant_table_stops_nothing(self):
        topology = network(self.listing(["dormant"]), None)
        self.assertEqual(self.probe("10.9.0.2", ["tcp/1000"])[0]["outcome"], "silent")
        self.load_rules(self.server, self.RULES.replace("{ chain", "{ flags dormant; chain"))
        self.assertEqual(self.probe("10.9.0.2", ["tcp/1000"], "--timeout", "10")[0]["outcome"], "answered")
        self.assertEqual(walk(topology, "client", "server", "tcp/1000").verdict, "allowed")

    def test_s35_a_table_whose_flags_are_not_told_rightly_may_stop_and_may_not(self):
        for flags in ("t", ["t", "owner"], 7):
            said = walk(network(self.listing(flags), None), "client", "server", "tcp/1000")
            self.assertEqual((said.verdict, said.either), ("unknown", ("blocked", "allowed")))


class Translations(kernel.HeldToTheKernel):
    def test_s35_a_port_that_is_published_by_a_translation_is_not_known_and_all_else_is(self):
        rules = """
            table ip published { chain pre { type nat hook prerouting priority -100; policy accept;
                fib daddr type local tcp dport 1003 redirect to :1000
                udp dport 1003 dnat to 10.9.0.2:1001 }
            chain post { type nat hook postrouting priority 100; policy accept; ip saddr 192.0.2.0/24 masquerade } }
            table inet filtered { chain input { type filter hook input priority 0; policy drop;
                ct state established,related accept
                ct status dnat accept
                tcp dport { 1001, 1002 } accept
                meta l4proto { icmp, ipv6-icmp } accept } }"""
        self.assertEqual(self.compare(rules), 16)
        said = walk(network(self.load_rules(self.server, rules), None), "client", "server", "tcp/1003")
        self.assertEqual((said.verdict, said.either), ("unknown", ("blocked", "allowed")))

    def test_s35_a_chain_of_type_nat_is_asked_where_connections_are_tracked(self):
        stops = """table inet t { chain pre { type nat hook prerouting priority -100; policy accept;
            tcp dport 1000 drop
            udp dport 1000 drop }"""
        tracks = "chain input { type filter hook input priority 0; policy accept; ct state invalid drop }"
        self.assertEqual(self.compare(f"{stops} {tracks} }}"), 18)
        self.assertEqual(self.compare(f"{stops} }}"), 14)

    def test_s35_chains_of_type_nat_are_asked_where_translations_are_whatever_their_priority(self):
        rules = """table inet t {
            chain early { type filter hook prerouting priority -50; policy accept;
                ct state new tcp dport 1000 reject with tcp reset
                tcp dport 1001 drop }
            chain late { type nat hook prerouting priority 5; policy accept;
                tcp dport 1000 drop
                tcp dport 1001 reject with tcp reset } }"""
        self.assertEqual(self.compare(rules), 18)

    def test_s35_the_way_back_of_what_comes_in_and_headers_that_no_packet_has_are_known(self):
        rules = """
            table inet checked { chain pre { type filter hook prerouting priority 0; policy accept;
                meta nfproto ipv6 fib saddr . mark . iif oif missing drop
                fib saddr . iif oif exists tcp dport 1001 drop }
            chain input { type filter hook input priority 0; policy accept;
                rt type 0 drop
                exthdr frag exists reject
                exthdr hbh missing udp dport 1000 drop } }"""
        self.assertEqual(self.compare(rules), 18)
