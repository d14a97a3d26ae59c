"""A replica of a part of a network: which probes are drawn, which machines they need, what is refused. Expectations are
written by hand; that packets fare in a part as in the whole is tried with real ones."""

import dataclasses
import json
import random
import re
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from kiboko.core.errors import UsageError
from kiboko.core.walk.walk import Walker
from kiboko.replica.faults import Fault
from kiboko.replica.laying_out import lay_out
from kiboko.replica.part import check_size, part_for, whole
from kiboko.replica.trials import Choice, chosen_services, chosen_trials, outside_addresses
from kiboko.replica.verify import verify
from tests.helpers import a_filter, base, kiboko, load
from tests.namespaces import why_not
from tests.random_networks import random_network
from tests.wider_networks import wider_network


def trials(topology, **choice):
    walker, chosen = Walker(topology), Choice(**choice)
    services = chosen_services(topology, chosen)
    return chosen_trials(walker, outside_addresses(topology, walker.directory), {}, services, chosen)


def told(trial):
    return str(trial.source), str(trial.target.address), str(trial.target.service)


class Drawn(unittest.TestCase):
    def setUp(self):
        self.topology = load(base())

    def test_all_of_them_are_every_sender_with_every_address_but_its_own(self):
        found = trials(self.topology, services=("ssh",))
        # Of IPv4: ann, bob, cat and dan to three others, to three public addresses but their own (ann and cat have one,
        # a gateway the third), and to two outsides; each outside to the seven of ours.
        four = {told(each) for each in found if each.source.family == 4}
        inside = {"10.1.1.10", "10.1.1.11", "10.1.2.10", "10.2.1.10"}
        own = {"10.1.1.10": "203.0.113.10", "10.1.2.10": "203.0.113.20"}
        public = {*own.values(), "203.0.113.2"}
        outside = {str(each.source) for each in found if each.source.family == 4} - inside
        expected = {(a, b, "tcp/22") for a in inside for b in inside | public | outside if b not in (a, own.get(a))}
        expected |= {(a, b, "tcp/22") for a in outside for b in inside | public}
        self.assertEqual(four, expected)
        self.assertEqual(len(found), len({told(each) for each in found}))

    def test_what_is_drawn_is_of_these_each_once_and_any_may_be(self):
        every = {told(each) for each in trials(self.topology)}
        seen = set()
        for seed in range(30):
            drawn = [told(each) for each in trials(self.topology, most=20, seed=seed)]
            self.assertEqual(len(set(drawn)), 20)
            self.assertLessEqual(set(drawn), every)
            seen.update(drawn)
        self.assertGreater(len(seen), min(len(every), 600) // 2)
        self.assertEqual({told(each) for each in trials(self.topology, most=10**6)}, every)

    def test_more_than_one_run_takes_is_refused_with_what_to_do(self):
        with mock.patch("kiboko.replica.trials.MOST_TRIALS", 10):
            with self.assertRaisesRegex(UsageError, r"\d+ probes of all that was chosen, more than the 10 .*--most N"):
                trials(self.topology)
            self.assertEqual(len(trials(self.topology, most=5)), 5)

    def test_client_ports_are_all_different_until_none_is_left(self):
        values = base()
        values["instances"]["ann"]["ephemeral_ports"] = "50000-50003"
        topology = load(values)
        ports = [each.target.source_port for each in trials(topology, sources=("ann",), services=("tcp/50001", "ssh"))]
        self.assertGreater(len(ports), 8)
        self.assertEqual(sorted(ports[:3]), [50000, 50002, 50003], "none on which something may listen")
        self.assertEqual(set(ports), {50000, 50001, 50002, 50003})


class Parts(unittest.TestCase):
    def test_instances_their_subnets_and_whoever_routes_there_lead_to(self):
        values = base()
        # a1 sends by bob, who stands in a2 as well; a2 sends by eve.
        values["instances"]["bob"]["interfaces"].append({"name": "eth1", "subnet": "a2", "addresses": ["10.1.2.77"]})
        values["instances"]["eve"] = {
            "interfaces": [{"name": "eth0", "subnet": "a2", "addresses": ["10.1.2.66"]}], "forwards": True,
        }  # fmt: skip
        values["route_tables"] = {**values.get("route_tables", {}),
                                  "by-bob": [{"to": "10.9.0.0/16", "via": {"instance": "bob"}}],
                                  "by-eve": [{"to": "10.8.0.0/16", "via": {"instance": "eve"}}]}  # fmt: skip
        values["subnets"]["a1"]["route_table"], values["subnets"]["a2"]["route_table"] = "by-bob", "by-eve"
        topology = load(values)
        part = part_for(topology, ["ann", "internet"])
        self.assertEqual((set(part.instances), set(part.subnets)), ({"ann", "bob", "eve"}, {"a1", "a2"}))
        part = part_for(topology, ["dan"])
        self.assertEqual((set(part.instances), set(part.subnets)), ({"dan"}, {"b1"}))
        roles = [each.role for each in lay_out(topology, [], {}, part=part).machines.values()]
        self.assertEqual([each for each in roles if each.startswith(("instance", "router"))],
                         ["router of b1", "instance dan"])  # fmt: skip

    def test_a_group_of_a_rule_is_all_its_members_whoever_is_built(self):
        values = base()
        values["groups"] = {**values.get("groups", {}), "both": {"members": ["ann", "bob"]}}
        values["filters"] = {"f": {"layer": "instance", "decide": "any", "stateful": True,
                                   "inbound": [{"action": "allow", "from": "both", "service": "ssh"}]}}  # fmt: skip
        values["instances"]["dan"]["interfaces"][0]["filters"] = ["f"]
        topology = load(values)
        layout = lay_out(topology, [], {}, part=part_for(topology, ["ann", "dan"]))
        rules = "\n".join(layout.machines[layout.homes["dan"]].rules)
        self.assertIn("ip saddr { 10.1.1.10/31 }", rules)
        self.assertNotIn("bob", layout.homes)

    def test_more_machines_than_one_kernel_holds_are_refused(self):
        topology = load(base())
        with (
            mock.patch("kiboko.replica.part.MOST_MACHINES", 5),
            self.assertRaisesRegex(UsageError, "machines to build"),
        ):
            check_size(topology, whole(topology), "take fewer")
        with (
            mock.patch("kiboko.replica.part._MOST_PORTS", 1),
            self.assertRaisesRegex(UsageError, "subnet a1, more than"),
        ):
            check_size(topology, whole(topology), "take fewer")
        check_size(topology, whole(topology), "take fewer")

    def test_many_subnets_leave_the_kernels_own_routing_tables_alone(self):
        """Of two hundred subnets the core needs more tables than there are numbers below the kernel's own (253 to 255)."""
        values = base()
        for index in range(200):
            values["subnets"][f"n{index}"] = {"network": "north", "cidr": f"10.1.{index + 10}.0/24"}
        core = lay_out(load(values), [], {}).machines["core"]
        used = {int(each) for line in (*core.commands4, *core.commands6)
                for each in re.findall(r"(?:lookup|table) (\d+)", line)}  # fmt: skip
        self.assertGreater(len(used), 200)
        self.assertFalse(used & {253, 254, 255})


@unittest.skipIf(why_not() is not None, why_not() or "")
class RealPackets(unittest.TestCase):
    def test_packets_fare_in_a_part_as_the_rules_say(self):
        for seed in range(4):
            topology = load((random_network if seed % 2 else wider_network)(700 + seed))
            one, other = random.Random(seed).sample(sorted(topology.instances), 2)
            with self.subTest(seed=seed):
                found = verify(topology, Choice(sources=(one,), destinations=(other,)))
                self.assertEqual([str(each) for each in found.differences], [])

    def test_what_goes_before_the_rules_of_today_is_sent_by_machines_that_are_built(self):
        """The draw of what goes before is another one, of other machines."""
        values = base()
        values["filters"]["guard"] = a_filter("instance", inbound=[{"action": "allow", "service": "http"}],
                                              attach_to=["ann", "bob", "cat", "dan"])  # fmt: skip
        topology = load(values)
        older = dataclasses.replace(topology.filters["guard"], inbound=None)
        for kind in ("older-session", "log-before-as-of"):
            found = verify(
                topology, Choice(services=("ssh",), most=2), (Fault(kind, "guard", older=older),), record=True
            )
            self.assertIsNotNone(found.as_of)
            self.assertEqual(len(found.probes), 2)
        with self.assertRaisesRegex(UsageError, "more than the"), mock.patch("kiboko.replica.trials.MOST_TRIALS", 10):
            verify(topology, Choice(most=11))

    def test_a_few_of_a_network_that_is_too_large_to_be_built(self):
        instances = {
            f"m{index}": {"interfaces": [{"name": "eth0", "subnet": f"s{index % 4}",
                                          "addresses": [f"10.1.{index % 4 * 16 + index // 800}.{index // 4 % 200 + 2}"]}],
                          "tags": {"role": f"r{index % 100}"}, "listens": ["ssh"], "ephemeral_ports": "50000-50001"}
            for index in range(3000)
        }  # fmt: skip
        values = {
            "kiboko": 1, "networks": {"north": {"cidrs": ["10.1.0.0/16"]}},
            "subnets": {f"s{index}": {"network": "north", "cidr": f"10.1.{index * 16}.0/20"} for index in range(4)},
            "groups": {"few": {"where": {"role": "r7"}}}, "instances": instances,
            "filters": {"guard": {"layer": "instance", "decide": "any", "stateful": True, "attach_to": ["few"],
                                  "inbound": [{"action": "allow", "from": "few", "service": "ssh"}]}},
        }  # fmt: skip
        with tempfile.TemporaryDirectory() as folder:
            Path(folder, "network.yaml").write_text(json.dumps(values))
            done = kiboko("replica", "verify", cwd=folder)
            self.assertEqual((done.returncode, done.stdout), (2, ""))
            self.assertIn("probes of all that was chosen", done.stderr)
            done = kiboko("replica", "build", cwd=folder)
            self.assertEqual((done.returncode, done.stdout), (2, ""))
            self.assertIn("3,004 machines to build, more than the 2,500 of one replica; name what", done.stderr)
            ends = ("--source", "m7", "--source", "m8", "--destination", "few", "--service", "ssh", "--service", "http")
            done = kiboko("replica", "verify", *ends, "--json", cwd=folder)
            self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
            # Thirty bear the tag, all of them in s3: m7 is one of them and does not send to itself.
            summary = json.loads(done.stdout)["summary"]
            self.assertEqual(summary["compared"], 2 * (29 + 30))
            self.assertEqual(summary["machines"], 31 + 2 + 2, "with two subnets' routers, the core and the internet")
            done = kiboko("replica", "build", "--only", "10.1.0.2", "--only", "few", cwd=folder)
            try:
                self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
                self.assertIn("33 machines to try", done.stdout)
                there = kiboko("replica", "at", "m0", "ip", "-br", "addr", "show", "eth0", cwd=folder)
                self.assertIn("10.1.0.2/20", there.stdout)
                self.assertIn("'m1' is no instance", kiboko("replica", "at", "m1", "true", cwd=folder).stderr)
            finally:
                kiboko("replica", "remove", cwd=folder)


if __name__ == "__main__":
    unittest.main()
