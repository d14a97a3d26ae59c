"""Kernel rule sets of receivers, senders and appliances in whole networks: the walk and the tables against the kernel."""

import json
import os
import random
import subprocess
import tempfile
import unittest
from pathlib import Path

from kiboko.files.network.network_file import load_network
from kiboko.replica.trials import Choice
from kiboko.replica.verify import verify
from tests.core import test_evaluator, test_gate_tables, test_space  # their classes by name would be run here as well
from tests.namespaces import why_not
from tests.random_networks import by_an_appliance, random_network
from tests.wider_networks import STRANGERS, wider_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "2"))
PROBES = 600
DEVICES = ['iifname "eth0"', 'iifname "eth1"', 'iifname != "eth0"', 'iifname "lo"']
ADDRESSES = ["ip saddr 10.1.0.0/16", "ip daddr 10.2.1.0/24", "ip6 saddr 2001:db8::/32", "ip saddr != 10.2.0.0/16",
             "ip daddr 203.0.113.0/24", "ip6 daddr fd00:2::/48"]  # fmt: skip
KINDS = ["tcp dport 22", "udp dport 53", "tcp dport { 80, 8000 }", "udp dport 20000-60999", "meta l4proto tcp",
         "icmp type echo-request", "meta l4proto { icmp, ipv6-icmp }", "tcp sport 22", "ct state established",
         "ct state established,related", "ct state new", "ct state invalid", "icmp type destination-unreachable",
         "fib saddr . iif oif missing", "fib saddr . mark . iif oif exists", "tcp flags & rst == rst", "ct direction original", "ct direction reply"]  # fmt: skip

FINDING = "icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert } accept"
NAMED = (
    "map by_service { typeof meta l4proto . th dport : verdict; elements = { tcp . 22 : jump side, udp . 53 : drop }; }"
)
UNCLEAR = ["limit rate 100000/second", "quota 100 mbytes", "ip ttl > 1", "ip6 hoplimit > 1", "meta mark 1", "ct mark 0",
           "meta length > 20", "tcp option maxseg exists", "udp length > 4", "meta mark set 1", "ip dscp set cs1",
           "ct mark set 1", "numgen inc mod 2 == 1", "meta mark set jhash ip saddr mod 4", "exthdr frag exists"]  # fmt: skip
"""Conditions that are not judged, and changes that matter to none."""


def rule(chance, hook):
    """One rule of a chain at a hook."""
    matches = [chance.choice(some) for some, share in ((DEVICES, 0.35), (ADDRESSES, 0.3), (KINDS, 0.6),
                                                            (UNCLEAR, 0.2))
               if chance.random() < share]  # fmt: skip
    refusals = ["reject", "reject with icmpx admin-prohibited"]
    refusals += ["reject with tcp reset"] if any("tcp" in each for each in matches) else []
    actions = ["accept", "accept", "accept", "drop", "return", "jump side"]
    text = " ".join([*matches, chance.choice(actions + refusals)])
    return text.replace("iifname", "oifname") if hook == "output" else text


def rule_set(chance):
    """A random rule set with chains at some hooks; some let known connections pass, and some do not."""
    side = [rule(chance, "input").replace("jump side", "accept") for _ in range(2)]
    lines = ["table inet t {", "chain side {", *side, "}"]
    for hook in ("input", "forward", "output"):  # the replica has what is before these inside the machine as well
        if chance.random() < 0.75:
            policy, priority = chance.choice(["accept", "accept", "drop"]), chance.choice([0, 5, -5])
            known = ["ct state established,related accept"] if chance.random() < 0.6 else []
            if hook != "forward" and chance.random() < 0.7:
                known.append(FINDING)
            if chance.random() < 0.3:
                known.append("meta l4proto . th dport vmap @by_service")
            rules = [rule(chance, hook) for _ in range(chance.randint(1, 4))]
            lines += [
                f"chain at-{hook} {{",
                f"type filter hook {hook} priority {priority}; policy {policy};",
                *known,
                *rules,
                "}",
            ]
    return "\n".join([*lines, NAMED, "}"])


def listed(chance):
    """What the kernel lists of the first random rule set that it takes."""
    while True:
        made = subprocess.run(["unshare", "-n", "sh", "-c", "nft -f - && nft -j list ruleset"], input=rule_set(chance),
                              capture_output=True, text=True)  # fmt: skip
        if made.returncode == 0:
            return made.stdout


@unittest.skipIf(why_not() is not None, why_not() or "")
class RealPackets(unittest.TestCase):
    def test_the_walk_the_tables_and_the_kernel_agree(self):
        for seed in range(NETWORKS):
            chance = random.Random(seed)
            values = wider_network(seed) if seed % 2 else by_an_appliance(random_network(seed), chance)
            names = list(values["instances"])
            with self.subTest(seed=seed), tempfile.TemporaryDirectory() as folder:
                for name in dict.fromkeys(
                    [*chance.sample(names, len(names) // 2), *(each for each in names if each.startswith("mid"))]
                ):
                    (Path(folder) / f"{name}.json").write_text(listed(chance))
                    values["instances"][name]["host_filter"] = {"nftables": f"{name}.json"}
                (Path(folder) / "network.yaml").write_text(json.dumps(values))
                topology = load_network(str(Path(folder) / "network.yaml"))
                test_gate_tables.HeldToTheWalk().hold(topology, seed, 500, STRANGERS)
                test_evaluator.AgainstThePlainJudge().hold(topology, seed, 300)
                test_space.HeldToTheWalk().hold(topology, seed, 200)
                found = verify(topology, Choice(most=PROBES, seed=seed))
                self.assertGreater(found.compared, PROBES // 6)
                self.assertEqual([str(each) for each in found.differences], [])


if __name__ == "__main__":
    unittest.main()
