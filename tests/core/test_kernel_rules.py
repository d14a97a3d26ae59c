"""Clause S35: host rule sets, with the kernel itself as the judge.

Rule sets are loaded into namespaces, real packets are sent, and what came back is compared with what the walk
says from the kernel's own listing of the same rule set.
"""

import contextlib
import json
import os
import random
import sys
import unittest
from unittest import mock

from kiboko.core.filters.discovery import Discovery
from kiboko.core.filters.host_judge import judge
from kiboko.core.header.packet import Packet
from tests.helpers import load, walk
from tests.kernel_statements import MATCHES, NAMED, STATEMENTS, VERDICT_MAPS
from tests.namespaces import CLIENT4, CLIENT6, OPEN_PORTS, SERVER4, SERVER6, TwoMachines

SERVICES = [f"{protocol}/{port}" for protocol in ("tcp", "udp") for port in (*OPEN_PORTS, 1003)]

LINE = "\n"
RULE_SETS = int(os.environ.get("KIBOKO_RULE_SETS", "10"))
FIRST_SEED = int(os.environ.get("KIBOKO_FIRST_SEED", "0"))

HAND_WRITTEN = {
    "of two chains with one priority the later one is asked first": """
        table inet t { chain a { type filter hook input priority 5; policy accept; tcp dport 1000 drop; udp dport 1000 reject }
        chain b { type filter hook input priority 5; policy accept; tcp dport 1000 reject with tcp reset; udp dport 1000 drop } }""",
    "established only, ssh-like port open": """
        table inet t { chain input { type filter hook input priority 0; policy drop;
            ct state established,related accept
            tcp dport 1000 accept
            udp dport { 1001, 1003 } accept
            icmp type echo-request accept
            icmpv6 type echo-request accept
        } }""",
    "reject kinds": """
        table inet t { chain input { type filter hook input priority 0; policy accept;
            tcp dport 1000 reject with tcp reset
            tcp dport 1001 reject
            tcp dport 1002 reject with icmpx admin-prohibited
            udp dport 1000 reject with icmpx port-unreachable
            udp dport 1001 reject with icmpx host-unreachable
            meta l4proto icmp reject
            meta l4proto ipv6-icmp reject with icmpv6 no-route
        } }""",
    "accept ends one chain, drop is final, priorities count": """
        table inet late { chain b { type filter hook input priority 10; policy accept; tcp dport 1000 drop } }
        table inet early { chain a { type filter hook input priority -10; policy accept;
            tcp dport 1000 accept
            tcp dport 1001 drop
        } chain c { type filter hook input priority 20; policy accept; tcp dport 1001 accept; udp dport 1000 drop } }""",
    "jump comes back, goto does not, return": """
        table inet t {
            chain inner { tcp dport 1000 return; tcp dport 1001 accept; udp dport 1000 drop }
            chain leave { udp dport 1001 accept }
            chain input { type filter hook input priority 0; policy drop;
                jump inner
                tcp dport 1000 accept
                udp dport 1001-1002 goto leave
                udp dport 1002 accept
                meta l4proto { icmp, ipv6-icmp } accept
            } }""",
    "verdict maps, named sets, ranges, concatenation, negation": """
        table inet t {
            set ports { type inet_service; flags interval; elements = { 1000-1001 } }
            map byport { type inet_service : verdict; elements = { 1000 : accept, 1002 : drop } }
            set pairs { type ipv4_addr . inet_service; elements = { 10.9.0.1 . 1001 } }
            chain input { type filter hook input priority 0; policy drop;
                ct state vmap { established : accept, related : accept }
                udp dport vmap @byport
                tcp dport @ports ip6 saddr fd09::/64 accept
                ip saddr . tcp dport @pairs accept
                meta l4proto tcp ip saddr != 10.9.0.0/24 accept
                iifname != "eth0" drop
                meta nfproto ipv6 udp dport != 1001 accept
            } }""",
    "families apart": """
        table ip four { chain input { type filter hook input priority 0; policy drop; tcp dport 1000 accept } }
        table ip6 six { chain input { type filter hook input priority 0; policy drop; udp dport 1000 accept } }""",
    "the reply is stopped by the output hook": """
        table inet t { chain output { type filter hook output priority 0; policy drop;
            ct state established tcp sport 1000 accept
            udp sport 1001 accept
            icmp type echo-reply accept
            oifname "eth0" ct state related accept
        } }""",
    "flags of requests and replies, and what connection tracking says of them": """
        table inet t {
            chain input { type filter hook input priority 0; policy drop;
                tcp flags syn / fin,syn,rst,ack tcp dport 1000 drop
                tcp flags & (syn|ack) == (syn|ack) reject with tcp reset
                tcp flags != syn tcp dport 1001 drop
                tcp flags ! syn tcp dport 1002 drop
                ct status dnat drop
                ct direction reply drop
                ip version 4 counter
                ct direction original accept
            }
            chain output { type filter hook output priority 0; policy accept;
                ct status & seen-reply == seen-reply tcp flags { syn, ack } drop
                tcp flags syn,ack tcp sport 1002 drop
            } }""",
    "a bare reject holds for its own family and its own protocol only": """
        table inet t { chain input { type filter hook input priority 0; policy accept;
            tcp dport 1000 meta nfproto ipv6 reject
            tcp dport 1001 reject with icmp type host-prohibited
            udp dport 1000 reject with icmpv6 type admin-prohibited
            meta l4proto { tcp, udp } th dport 1002 meta l4proto tcp reject with tcp reset
        } }""",
    "codes by name, the machine's own addresses": """
        table inet t { chain input { type filter hook input priority 0; policy accept;
            fib daddr type local tcp dport 1000 drop
            fib daddr type { broadcast, multicast } drop
            fib saddr type local drop
        }
        chain output { type filter hook output priority 0; policy accept;
            icmp type destination-unreachable icmp code port-unreachable drop
            icmpv6 type destination-unreachable icmpv6 code { no-route, port-unreachable } drop
        } }""",
    "a translation that meets none of these packets": """
        table ip t { chain pre { type nat hook prerouting priority -100; policy accept; tcp dport 4242 redirect to :1000 }
        chain post { type nat hook postrouting priority 100; policy accept; ip saddr 192.0.2.0/24 masquerade } }""",
    "a list of which each element has its time stops nobody else, and no packet is a fragment": """
        table inet t {
            set banned { type ipv4_addr; flags timeout; elements = { 10.9.0.7 timeout 1h, 10.9.0.8 timeout 2h }; }
            set banned6 { type ipv6_addr; flags interval,timeout; timeout 4h; elements = { fd09::70-fd09::7f, fd09::9 }; }
            chain input { type filter hook input priority 0; policy accept;
                ip saddr @banned drop
                ip6 saddr @banned6 counter reject
                ip frag-off & 0x1fff != 0 drop
                ip frag-off & 0x2000 == 0 tcp dport 1001 drop
                ip daddr . tcp dport { 10.9.0.2 . 1002 } drop
            } }""",
    "prerouting and postrouting stop packets too": """
        table inet t {
            chain pre { type filter hook prerouting priority 0; policy accept; tcp dport 1000 drop }
            chain post { type filter hook postrouting priority 0; policy accept; udp sport 1001 drop; iifname != "x" tcp sport 1001 drop }
        }""",
}
CLIENT_RULES = {
    "the client's refusal to itself is stopped by its own rules": """
        table inet t { chain input { type filter hook input priority 0; policy drop; ct state established accept }
        chain output { type filter hook output priority 0; policy accept; tcp dport 1000 reject; tcp dport 1001 reject with tcp reset } }""",
    "the client's refusal to itself comes in over loopback": """
        table inet t { chain input { type filter hook input priority 0; policy drop; iifname "lo" accept }
        chain output { type filter hook output priority 0; policy accept; tcp dport 1000 reject; udp dport 1000 reject } }""",
    "the client lets nothing back that it did not ask for": """
        table inet t { chain input { type filter hook input priority 0; policy drop;
            ct state established accept
        } }""",
    "the client drops and refuses some of its own": """
        table inet t { chain output { type filter hook output priority 0; policy accept;
            tcp dport 1000 drop
            tcp dport 1001 reject with tcp reset
            udp dport 1000 drop
            udp dport 1001 reject
        } }""",
    "the client takes icmp errors only": """
        table inet t { chain input { type filter hook input priority 0; policy drop;
            ct state related accept
        } }""",
}


def network(server_rules, client_rules):
    """The two machines as a network file, with their rule sets as files beside it."""
    values = {
        "kiboko": 1,
        "networks": {"cable": {"cidrs": ["10.9.0.0/24", "fd09::/64"]}},
        "subnets": {"wire": {"network": "cable", "cidr": ["10.9.0.0/24", "fd09::/64"]}},
        "instances": {
            "client": {"interfaces": [{"name": "eth0", "subnet": "wire", "addresses": [CLIENT4, CLIENT6]}]},
            "server": {
                "interfaces": [{"name": "eth0", "subnet": "wire", "addresses": [SERVER4, SERVER6]}],
                "listens": [f"{protocol}/{port}" for protocol in ("tcp", "udp") for port in OPEN_PORTS],
            },
        },
    }
    files = {}
    for name, rules in (("server", server_rules), ("client", client_rules)):
        if rules is not None:
            files[f"{name}.json"] = rules
            values["instances"][name]["host_filter"] = {"nftables": f"{name}.json"}
    return load(values, files)


_EVERY_TYPE = """
import json, socket, struct, sys, time
four = "." in sys.argv[1]
made = socket.socket(socket.AF_INET if four else socket.AF_INET6, socket.SOCK_RAW, 1 if four else 58)
made.settimeout(0.005)
refused = set()
for kind in range(256):
    message = struct.pack("!BBHI", kind, 0, 0 if not four else ~(kind << 8) & 0xFFFF, 0)
    made.sendto(message, (sys.argv[1], 0))
    until = time.monotonic() + (2 if kind == 255 else 0)
    while True:
        try:
            got = made.recv(500)
            got = got[20:] if four else got
            if got[0] == (3 if four else 1):
                refused.add(got[28 if four else 48])  # the type of the message that is quoted
        except TimeoutError:
            if time.monotonic() >= until:
                break
print(json.dumps(sorted(refused)))
"""
"""Sends a message of every type, and prints those that an ICMP error is sent about."""


class HeldToTheKernel(TwoMachines):
    """Two machines whose kernels are asked what the walk says of their rule sets. They know their neighbours, and the
    walk is told so."""

    def setUp(self):
        self.enterContext(mock.patch.object(Discovery, "stopped", return_value=None))

    def compare(self, server_rules, client_rules=None):
        """Real packets against the walk, every service in both families."""
        server = self.load_rules(self.server, server_rules)
        client = self.load_rules(self.client, client_rules or "")
        return self.hold(network(server, client if client_rules else None), server_rules, client_rules)

    def hold(self, topology, server_rules, client_rules=None):
        """What comes back of real packets to the rule sets that are loaded, against the walk of their listings: how
        many of all 18 probes it knows the outcome of."""
        known = 0
        for address, family in ((SERVER4, 4), (SERVER6, 6)):
            for record in self.probe(address, [*SERVICES, "ping"]):
                said = walk(topology, "client", "server", record["service"], record["source_port"], family)
                if record["outcome"] == "silent" and said.is_known and said.signal != "silent":
                    # On a busy machine an answer may take longer than a probe waits for it.
                    (record,) = self.probe(address, [record["service"]], "--timeout", "3")
                    said = walk(topology, "client", "server", record["service"], record["source_port"], family)
                if refuses_what_follows(topology, said):
                    continue
                if not said.is_known:
                    self.assertIn(record["outcome"], signals_possible(said), (server_rules, client_rules, said.rows))
                    continue
                known += 1
                shown = [f"{row.gate}: {row.rule} {row.action}" for row in said.rows if row.filters]
                self.assertEqual(
                    record["outcome"],
                    said.signal,
                    f"{record['service']} IPv{family}: {shown}\n{server_rules}\n{client_rules}",
                )
        return known


class KernelDecides(HeldToTheKernel):
    def test_s35_hand_written_rule_sets(self):
        for title, rules in HAND_WRITTEN.items():
            with self.subTest(title):
                self.assertEqual(self.compare(rules), 18)

    def test_s35_hand_written_rule_sets_of_the_sender(self):
        server = HAND_WRITTEN["reject kinds"]
        for title, rules in CLIENT_RULES.items():
            with self.subTest(title):
                self.assertEqual(self.compare(server, rules), 18)
                self.assertEqual(self.compare("", rules), 18)

    def test_s34_messages_that_no_icmp_error_is_sent_about(self):
        """Every type of ICMP and ICMPv6, to a machine that rejects all of them."""
        rules = "table inet t { chain i { type filter hook input priority 0; policy accept; meta l4proto { icmp, ipv6-icmp } reject } }"
        topology = network(self.load_rules(self.server, rules), None)
        for word, address, family in (("icmp", SERVER4, 4), ("icmp6", SERVER6, 6)):
            refused = json.loads(self.inside(self.client, sys.executable, "-c", _EVERY_TYPE, address))
            for kind in (*range(0, 21, 1 if family == 4 else 5), 41, 126, 127, 128, 129, 140, 255):
                said = walk(topology, "client", "server", f"{word}/{kind}/0", None, family)
                self.assertEqual("refused" if kind in refused else "silent", said.signal, (word, kind))
            self.assertTrue(0 < len(refused) < 256)

    def test_s35_random_rule_sets(self):
        known = 0
        for seed in range(FIRST_SEED, FIRST_SEED + RULE_SETS):
            chance = random.Random(seed)
            with self.subTest(seed=seed):
                server = self.loadable(self.server, chance)
                known += self.compare(server, self.loadable(self.client, chance) if seed % 3 == 0 else None)
        self.assertGreater(known, 9 * RULE_SETS)

    def loadable(self, name, chance):
        """A random rule set that the kernel takes: it refuses contradictions such as `tcp` and `icmp` in one rule."""
        for _ in range(200):
            rules = random_rules(chance)
            with contextlib.suppress(AssertionError):
                self.load_rules(name, rules)
                return rules
        raise AssertionError("no rule set that the kernel takes")


def signals_possible(said):
    """What a sender may see of a flow that the walk cannot tell of, by what its doubtful gates may come to."""
    found = {"silent"}  # whatever refuses, the refusal may be lost
    if said.verdict == "unknown":
        found.add("answered")
    if any("reject" in (row.action, *row.possible) for row in said.rows):
        found |= {"refused", "unreachable"}
    return found


def refuses_what_follows(topology, said):
    """Whether a rule set takes the first packet of a TCP connection and refuses the next one of the same sender.

    Then what `connect` tells is a matter of which packet wins the race; the walk judges request and reply.
    """
    if said.flow.service.protocol != 6 or not said.answered:
        return False
    packet = Packet(
        said.flow.target.family,
        said.flow.source.address,
        said.flow.target,
        said.flow.service,
        False,
        "established",
        0x10,
    )
    for name, path, ingress, egress in (("client", "output", "", "eth0"), ("server", "input", "eth0", "")):
        rules = topology.instances[name].host_filter
        if rules is not None:
            shares = judge(rules, path, packet, said.flow.source_ports, ingress, egress)
            if any(share.action == "reject" for share in shares or ()):
                return True
    return False


def random_rules(chance):
    """A rule set drawn from the statements that are judged, and from what else real rules say."""
    chains, base = [], []
    inner = [f"inner{i}" for i in range(chance.randint(0, 3))]
    for index, name in enumerate(inner):
        body = [random_rule(chance, inner[index + 1 :]) for _ in range(chance.randint(1, 4))]
        chains.append(f"chain {name} {{ {LINE.join(body)} }}")
    for index in range(chance.randint(1, 3)):
        hook = chance.choice(["input", "input", "output", "prerouting", "postrouting"])
        policy = chance.choice(["accept", "accept", "drop"])
        body = [random_rule(chance, inner) for _ in range(chance.randint(1, 6))]
        if policy == "drop" or chance.random() < 0.4:
            body.insert(0, "ct state established,related accept")
        priority = chance.choice([-20, 0, 5, 30])
        kind = "filter"
        if chance.random() < 0.15 and hook != "input":
            kind = "nat"
            body.append(
                "tcp dport 1003 snat to 10.9.0.2" if hook == "postrouting" else "tcp dport 1003 redirect to :1001"
            )
        base.append(
            f"chain b{index} {{ type {kind} hook {hook} priority {priority}; policy {policy}; {LINE.join(body)} }}"
        )
    named = NAMED if any("@" in each or " name " in each for each in (*chains, *base)) else ""
    family = chance.choice(["inet", "inet", "inet", "inet", "ip", "ip6"])
    return f"table {family} t {{ {named}{LINE}{LINE.join([*chains, *base])} }}"


def random_rule(chance, jumps):
    matches = [random_match(chance) for _ in range(chance.choice([0, 1, 1, 1, 2]))]
    verdicts = ["accept", "accept", "drop", "return", "counter drop", "continue"]
    verdicts += ["reject with icmpx port-unreachable", "reject with icmpx admin-prohibited"]
    verdicts += ["reject", "reject with icmp type host-prohibited", "reject with icmpv6 type admin-prohibited"]
    verdicts += [f"{chance.choice(['jump', 'goto'])} {name}" for name in jumps] * 3
    if chance.random() < 0.08:
        return chance.choice(VERDICT_MAPS)
    if chance.random() < 0.15:
        protocol, side = chance.choice(["tcp", "udp"]), chance.choice(["dport", "sport"])
        parts = [f"{low} : {chance.choice(['accept', 'drop', 'continue'])}" for low in ("1000", "1001-1002")]
        return f"{protocol} {side} vmap {{ {', '.join(parts)} }}"
    # A `continue` alone is no rule; a rule that only drops everything tells little, so it is drawn seldom.
    verdict = chance.choice(verdicts)
    if chance.random() < 0.15:
        matches.insert(chance.randint(0, len(matches)), chance.choice(STATEMENTS))
    return " ".join([*matches, verdict]) if matches or verdict not in ("drop", "counter drop") else "counter"


def random_match(chance):
    if chance.random() < 0.35:
        return chance.choice(MATCHES)
    ports = ["1000", "1001", "1000-1001", "1001-1003", "{ 1000, 1002 }", "!= 1001", "> 1001", "!= { 1001-1002 }"]
    return chance.choice(
        [
            lambda: (
                f"{chance.choice(['tcp', 'udp', 'th'])} {chance.choice(['dport', 'dport', 'sport'])} {chance.choice(ports)}"
            ),
            lambda: (
                f"ip {chance.choice(['saddr', 'daddr'])} {chance.choice(['10.9.0.1', '10.9.0.2', '10.9.0.0/31', '!= 10.9.0.1', '{ 10.9.0.1-10.9.0.2 }'])}"
            ),
            lambda: (
                f"ip6 {chance.choice(['saddr', 'daddr'])} {chance.choice(['fd09::1', 'fd09::2', '!= fd09::2', 'fd09::/64'])}"
            ),
            lambda: f"meta l4proto {chance.choice(['tcp', 'udp', 'icmp', 'ipv6-icmp', '{ tcp, udp }', '!= tcp'])}",
            lambda: (
                f"ct state {chance.choice(['new', 'established', 'related', 'established,related', '{ new, related }', '!= established'])}"
            ),
            lambda: (
                f"{chance.choice(['icmp', 'icmpv6'])} type {chance.choice(['echo-request', 'echo-reply', '{ echo-request, echo-reply }'])}"
            ),
            lambda: f"{chance.choice(['iifname', 'oifname'])} {chance.choice(['eth0', '!= eth0', 'lo'])}",
            lambda: f"meta nfproto {chance.choice(['ipv4', 'ipv6'])}",
            lambda: (
                f"tcp flags {chance.choice(['syn', '!= syn', '& (syn|ack) == syn', '{ syn, rst }', 'ack', 'syn / fin,syn,rst,ack'])}"
            ),
            lambda: f"ct status {chance.choice(['dnat', 'seen-reply', 'assured', 'confirmed', 'snat'])}",
            lambda: f"ct direction {chance.choice(['original', 'reply'])}",
            lambda: (
                f"fib {chance.choice(['saddr', 'daddr'])} type {chance.choice(['local', 'unicast', '{ local, broadcast }'])}"
            ),
            lambda: chance.choice(["ip ttl < 5", "ip dscp cs1", "ip6 hoplimit > 3", "udp length > 4", "meta mark 0"]),
            lambda: chance.choice(["limit rate 1000/second", "limit rate over 1000/second", "quota 1 mbytes"]),
            lambda: chance.choice(["icmp code port-unreachable", "icmpv6 code { no-route, port-unreachable }"]),
        ]
    )()


if __name__ == "__main__":
    unittest.main()
