"""The replica: kernel rules from the model alone, real packets, and the walk against them."""

import json
import os
import random
import re
import shutil
import struct
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from kiboko.core.errors import UsageError
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.summary import Summary
from kiboko.core.header.addresses import Address
from kiboko.core.records.flow_table import table_of
from kiboko.core.walk.walk import Walker
from kiboko.replica.kernel_rules import any_chain, first_chain, rule_matches
from kiboko.replica.laying_out import lay_out
from kiboko.replica.peers import Peers
from kiboko.replica.recorder import Header, log_messages, parse_header
from kiboko.replica.trials import Choice, services_that_matter
from kiboko.replica.verify import verify
from tests.helpers import a_filter, base, kiboko, load, while_some_hold
from tests.namespaces import why_not
from tests.random_networks import random_network, star_network, varied_network, with_public_blocks
from tests.wider_networks import wider_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "4"))
FIRST_NETWORK = int(os.environ.get("KIBOKO_FIRST_NETWORK", "0"))
PROBES = int(os.environ.get("KIBOKO_PROBES", "200")) or None  # 0: every pair and service


def alive(pid):
    """Whether a process runs; one that has ended and waits for its parent does not."""
    state = subprocess.run(["ps", "-o", "stat=", "-p", str(pid)], capture_output=True, text=True).stdout.strip()
    return bool(state) and not state.startswith("Z")


class Names(unittest.TestCase):
    """The replica works out names for itself; on random networks it must come to what the walk comes to."""

    def test_peers_and_attachments_of_random_networks(self):
        for seed in range(40):
            topology = load(random_network(seed))
            membership, peers = Walker(topology).membership, Peers(topology)
            for each in topology.filters.values():
                for rule in each.every_rule():
                    for peer in (rule.sources, rule.destinations):
                        self.assertEqual(peers.of(peer), membership.peer_addresses(peer), (seed, each.name, rule))
            for interface in peers.interfaces:
                self.assertEqual(
                    peers.filters_of(interface),
                    [f.name for f in membership.filters_on(interface)],
                    (seed, interface.name),
                )


class Translation(unittest.TestCase):
    """Rules as nft text; expected lines are written by hand from nft(8)."""

    def rule(self, **fields):
        values = base()
        values["filters"]["f"] = a_filter("instance", inbound=[{"action": "allow", **fields}])
        topology = load(values)
        return list(rule_matches(Peers(topology), topology.filters["f"].inbound[0]))

    def test_services(self):
        self.assertEqual(self.rule(), [""])
        self.assertEqual(self.rule(service="tcp/22"), ["tcp dport { 22 }"])
        self.assertEqual(self.rule(service=["udp/53", "proto/47"]), ["udp dport { 53 }", "meta l4proto 47"])
        self.assertEqual(self.rule(service="icmp/3/4"), ["icmp type 3 icmp code 4"])
        self.assertEqual(self.rule(service="tcp", source_ports="22"), ["tcp sport { 22 }"])
        self.assertEqual(len(self.rule(source_ports="22")), 3, "tcp, udp and sctp have ports")

    def test_a_routers_address_matches_no_from_that_names_one(self):
        self.assertEqual(self.rule(**{"from": "10.1.0.0/16"}), ["ip saddr != 100.127.0.0/16 ip saddr { 10.1.0.0/16 }"])
        self.assertEqual(self.rule(to="10.1.0.0/16"), ["ip daddr { 10.1.0.0/16 }"])

    def test_a_chain_lets_back_what_it_tracks_and_decides_the_rest(self):
        values = base()
        values["filters"]["f"] = a_filter(
            "instance", inbound=[{"action": "reject", "service": "ssh"}], otherwise="allow"
        )
        topology = load(values)
        self.assertEqual(first_chain(Peers(topology), topology.filters["f"], "in", 4), [
            "ct direction reply ct mark & 0x4 == 0x4 return",
            "ct direction original ct state new,established ct mark set ct mark or 0x4",
            "tcp dport { 22 } meta l4proto tcp reject with tcp reset",
            "tcp dport { 22 } reject with icmpx port-unreachable",
            "return",
        ])  # fmt: skip

    def test_an_any_set_asks_its_stateful_members_first_and_notes_what_they_track(self):
        values = base()
        values["filters"]["plain"] = a_filter(
            "instance", decide="any", stateful=False, inbound=[{"action": "allow", "service": "http"}]
        )
        values["filters"]["keeps"] = a_filter("instance", decide="any", inbound=[{"action": "allow", "service": "ssh"}])
        topology = load(values)
        members = [topology.filters["plain"], topology.filters["keeps"]]
        self.assertEqual(any_chain(Peers(topology), members, "in", 2), [
            "ct direction reply ct mark & 0x2 == 0x2 return",
            "tcp dport { 22 } ct direction original ct state new,established ct mark set ct mark or 0x2",
            "tcp dport { 22 } return",
            "tcp dport { 80 } return",
            "ct direction original ct state new,established ct mark set ct mark or 0x2",
            "drop",
        ])  # fmt: skip
        self.assertEqual(
            any_chain(Peers(topology), members, "out", 2)[-2:],
            ["ct direction original ct state new,established ct mark set ct mark or 0x2", "return"],
        )

    def test_zones_rules_note_state_for_themselves_and_replies_look_for_the_crossing_the_other_way(self):
        values = base()
        rules = [{"action": "allow", "service": "ssh", "stateful": False}, {"action": "allow", "service": "http"}]
        values["filters"]["z"] = a_filter("zone", rules=rules)
        topology = load(values)
        self.assertEqual(first_chain(Peers(topology), topology.filters["z"], "in", 1, 8), [
            "ct direction reply ct mark & 0x8 == 0x8 return",
            "tcp dport { 22 } return",
            "tcp dport { 80 } ct direction original ct state new,established ct mark set ct mark or 0x1",
            "tcp dport { 80 } return",
            "drop",
        ])  # fmt: skip

    def test_a_network_in_the_replicas_own_addresses_is_refused(self):
        values = base()
        values["networks"]["odd"] = {"cidrs": ["100.64.0.0/10"]}
        with self.assertRaisesRegex(UsageError, "the replica needs 100.127.0.0/16"):
            lay_out(load(values), [], {})

    def test_every_machine_of_the_network_is_in_the_layout(self):
        topology = load(base())
        made = lay_out(topology, [("tcp", 22)], {"internet": ["192.0.2.77"], "depot": []})
        roles = sorted(machine.role for machine in made.machines.values())
        self.assertEqual(roles, ["core", "gateway door", "gateway exit", "instance ann", "instance bob", "instance cat",
                                 "instance dan", "outside depot", "outside internet", "router of a1", "router of a2",
                                 "router of b1", "the internet"])  # fmt: skip

    def test_services_that_matter_have_one_that_no_rule_names(self):
        values = base()
        values["filters"]["f"] = a_filter("instance", inbound=[{"action": "allow", "service": ["ssh", "udp/53"]}])
        names = [str(service) for service in services_that_matter(load(values))]
        self.assertEqual(
            names, ["tcp/22", "udp/53", "tcp/47000", "udp/47000", "icmp/echo-request", "icmp6/echo-request"]
        )


@unittest.skipIf(why_not() is not None, why_not() or "")
class RealPackets(unittest.TestCase):
    def test_random_networks_and_the_kernel_agree(self):
        for seed in range(FIRST_NETWORK, FIRST_NETWORK + NETWORKS):
            with self.subTest(seed=seed):
                topology = load(varied_network(seed))
                found = verify(topology, Choice(most=PROBES, seed=seed), built=while_some_hold(topology, seed))
                self.assertGreater(found.compared, (PROBES or 200) // 2)
                self.assertEqual([str(each) for each in found.differences], [])

    def test_networks_of_wider_shapes_and_the_kernel_agree(self):
        """An appliance with further addresses whose routes lead back to it; routers whose refusals go by the machine that
        was sent to; appliances that send round what they are sent; and random probes."""
        for seed, choice in ((3, Choice(sources=("mid1",))), (54, Choice(("site",), ("mid2",))),
                             (91, Choice(destinations=("10.1.1.12",))), (141, Choice(destinations=("site",))),
                             (303, Choice(sources=("m4",))),
                             (1, Choice(most=PROBES, seed=1))):  # fmt: skip
            with self.subTest(seed=seed):
                found = verify(load(wider_network(seed)), choice)
                self.assertGreater(found.compared, 50)
                self.assertEqual([str(each) for each in found.differences], [])

    def test_networks_around_a_hub_and_the_kernel_agree(self):
        for seed in (1, 3):
            with self.subTest(seed=seed):
                found = verify(load(star_network(seed, 4)), Choice(most=PROBES or 300, seed=seed))
                self.assertGreater(found.compared, 100)
                self.assertEqual([str(each) for each in found.differences], [])

    def test_networks_with_public_blocks_and_the_kernel_agree(self):
        """Requests that come by a peering and are refused by way of the internet: by the machine that was sent to, and by
        a router. Such that go out as they are, come in again to a public address, and are refused by the core."""
        for seed, choice in ((24, Choice(("m2",), ("m4",))), (19, Choice(("m2",), ("11.1.2.11",))),
                             (77, Choice(("m3",), ("203.0.113.91",))), (106, Choice(("m0",), ("203.0.113.11",)))):  # fmt: skip
            with self.subTest(seed=seed):
                found = verify(load(with_public_blocks(random_network(seed), random.Random(seed))), choice)
                self.assertGreaterEqual(found.compared, 8)
                self.assertEqual([str(each) for each in found.differences], [])

    def test_a_walk_that_is_wrong_is_caught(self):
        """The comparison must be able to fail: the replica of one network against the walk of another."""
        from unittest import mock

        values = base()
        topology = load(values)
        values["filters"]["shut"] = a_filter("instance", inbound=[], attach_to=["ann"])
        other = Walker(load(values))
        with mock.patch("kiboko.replica.verify.Walker", lambda _: other):
            found = verify(topology, Choice(most=400))
        self.assertTrue(found.differences)
        self.assertTrue(
            all(
                str(each.walk.flow.target) in ("10.1.1.10", "203.0.113.10", "2001:db8:1:1::10")
                for each in found.differences
            )
        )

    def test_what_a_replica_without_faults_records_is_no_leak_and_no_break(self):
        """At every kind of observation point, on random networks: the kernel's log and the rules must not disagree."""
        for seed in range(FIRST_NETWORK, FIRST_NETWORK + max(3, NETWORKS // 10)):
            values = random_network(seed)
            names = [*values["subnets"], *values["instances"], *values["outside"]]
            names += [name for name, gateway in values["gateways"].items() if gateway["kind"] in ("internet", "nat")]
            values["observation_points"] = dict(enumerate(names, 1)) if seed % 3 else {}
            topology = load(values)
            found = verify(topology, Choice(most=PROBES, seed=seed), record=True)
            held = Comparison(Walker(topology))
            summary = Summary(held.walker.directory)
            summary.take_all(Evaluator(held).tallies(table_of(list(found.flows))), held.finding)
            self.assertTrue(found.flows)
            wrong = [
                (g.finding.status, g.source, g.destination, g.service, g.finding.why)
                for g in summary.rows(("leak", "break"))
            ]
            self.assertEqual(wrong, [], seed)

    def test_the_demo_agrees(self):
        with tempfile.TemporaryDirectory() as folder:
            kiboko("demo", "--only-write", folder)
            done = kiboko("replica", "verify", "--most", "1500", "--json", cwd=folder)
            self.assertEqual(done.returncode, 0, done.stdout[-1500:] + done.stderr)
            summary = json.loads(done.stdout)["summary"]
            self.assertEqual((summary["compared"], summary["differences"]), (1500, 0))

    def test_the_host_is_left_as_it_was(self):
        """Held in namespaces of the test's own, since others may come and go on the host meanwhile."""
        state = "ip -br link; ip route show table all; ip netns; nft list ruleset"
        script = f"""
            mkdir -p /run/netns && mount -t tmpfs none /run/netns && ip link set lo up
            before=$({state}); "$@"; status=$?; after=$({state})
            [ "$before" = "$after" ] || {{ echo "left behind: $after"; exit 99; }}
            exit $status
        """
        with tempfile.TemporaryDirectory() as folder:
            kiboko("demo", "--only-write", folder)
            command = ["unshare", "--net", "--mount", "sh", "-c", script, "sh", sys.executable, "-m", "kiboko"]
            done = subprocess.run([*command, "replica", "verify", "--most", "50"], cwd=folder, capture_output=True,
                                  text=True, timeout=300,
                                  env={**os.environ, "PATH": os.environ["PATH"] + ":/usr/sbin:/sbin"})  # fmt: skip
            self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
            self.assertIn("AGREE", done.stdout)

    def test_a_killed_run_leaves_no_process_and_so_no_namespace_behind(self):
        with tempfile.TemporaryDirectory() as folder:
            kiboko("demo", "--only-write", folder)
            command = [sys.executable, "-m", "kiboko", "replica", "verify"]
            running = subprocess.Popen(command, cwd=folder, stdout=subprocess.DEVNULL)
            outer = self.wait_for(lambda: self.children(running.pid))
            inner = self.wait_for(lambda: self.children(outer[0]))
            running.kill()
            running.wait()
            self.wait_for(lambda: not any(alive(pid) for pid in (*outer, *inner)))

    def wait_for(self, condition):
        for _ in range(200):
            found = condition()
            if found:
                return found
            time.sleep(0.05)
        raise AssertionError("waited in vain")

    def children(self, parent):
        listed = subprocess.run(["ps", "-o", "pid=", "--ppid", str(parent)], capture_output=True, text=True).stdout
        return [int(word) for word in listed.split()]


@unittest.skipIf(why_not() is not None, why_not() or "")
class Faults(unittest.TestCase):
    """With one fault put in, `confirm` on what the replica recorded names it among the first two likely causes."""

    def causes(self, fault, *chosen, older=None):
        """The first two causes of every leak and break that the program finds, and how many there are."""
        with tempfile.TemporaryDirectory() as folder:
            kiboko("demo", "--only-write", folder)
            if older:
                text = Path(folder, "network.yaml").read_text()
                self.assertIn(older[0], text)
                Path(folder, "older.yaml").write_text(text.replace(*older))
            done = kiboko("replica", "verify", "--fault", fault, "--record", "ev", *chosen, cwd=folder)
            self.assertEqual(done.returncode, 1, done.stdout + done.stderr)
            self.assertIn("a fault put in on request", done.stdout)
            evidence = ("--probes", "ev/probes.jsonl", "--flows", "ev/flows.csv")
            found = json.loads(kiboko("confirm", *evidence, "--json", cwd=folder).stdout)
            rows = [row for row in found["rows"] if row["status"] in ("leak", "break")]
            self.assertTrue(rows)
            if older:
                known = json.loads(kiboko("confirm", *evidence, "--older", "older.yaml", "--json", cwd=folder).stdout)
                for row in known["rows"]:
                    if row["status"] in ("leak", "break"):
                        self.assertEqual(row["causes"][0]["id"], "older-filter")
            return [[cause["id"] for cause in row["causes"][:2]] for row in rows]

    def test_filters_that_are_not_enforced(self):
        self.assertEqual({tuple(each) for each in self.causes("not-enforced=relay-2", "--destination", "relays")},
                         {("not-enforced", "older-filter")})  # fmt: skip

    def test_a_service_that_is_down(self):
        for first, _ in self.causes("service-down=gauge-07/ssh", "--destination", "gauges", "--service", "ssh"):
            self.assertEqual(first, "service-down")

    def test_a_filter_from_an_older_network_file(self):
        rule = ("action: allow, service: [ssh, ping]}", "action: allow, service: ping}")
        for both in self.causes(
            "older-filter=bank-edge@older.yaml", "--destination", "river", "--service", "ssh", older=rule
        ):
            self.assertIn("older-filter", both)

    def test_a_sender_whose_own_network_blocks(self):
        for both in self.causes(
            "sender-side=crews/ssh", "--destination", "river", "--service", "ssh", "--service", "ping"
        ):
            self.assertIn("sender-side", both)

    def test_a_fault_that_cannot_be_put_in_is_bad_usage(self):
        with tempfile.TemporaryDirectory() as folder:
            kiboko("demo", "--only-write", folder)
            for fault, said in (
                ("not-enforced=nobody", "'nobody' is no instance"),
                ("sleepy=relay-2", "fault 'sleepy=relay-2' is none"),
                ("service-down=desk-1", "listens to nothing"),
                ("older-filter=bank-edge", "does not say where from"),
                ("older-session=bank-edge", "older-session=FILTER@NETWORK_FILE"),
                ("not-enforced=relay-2/ssh", "takes no service"),
            ):
                done = kiboko("replica", "verify", "--fault", fault, cwd=folder)
                self.assertEqual((done.returncode, done.stdout), (2, ""))
                self.assertIn(said, done.stderr)
            fault = "older-session=bank-edge@network.yaml"
            done = kiboko("replica", "build", "--fault", fault, cwd=folder)
            self.assertEqual((done.returncode, done.stdout), (2, ""))
            self.assertIn("goes with 'kiboko replica verify --record DIR'", done.stderr)

    def test_a_session_that_is_older_than_the_rules(self):
        """With the time that is told as `as_of` it is told as what it is; without it as a leak."""
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            kiboko("demo", "--only-write", name)
            text = (folder / "network.yaml").read_text()
            closed = re.sub(r".*id: ssh-for-all.*\n", "", text)
            (folder / "network.yaml").write_text(closed)
            (folder / "older.yaml").write_text(text)
            made = kiboko("replica", "verify", "--fault", "older-session=relay-guard@older.yaml", "--record", "seen",
                          "--source", "crews", "--destination", "relays", "--service", "ssh", "--json",
                          cwd=name)  # fmt: skip
            as_of = json.loads(made.stdout)["summary"]["as_of"]
            leaks = json.loads(kiboko("confirm", "--flows", "seen/flows.csv", "--json", cwd=name).stdout)["summary"]
            self.assertGreater(leaks["leak"], 0)
            (folder / "network.yaml").write_text(re.sub(r"as_of: .*", f"as_of: {as_of}", closed))
            found = json.loads(kiboko("confirm", "--flows", "seen/flows.csv", "--json", cwd=name).stdout)
            self.assertEqual((0, 0), (found["summary"]["leak"], found["summary"]["break"]))
            self.assertIn("older-session", {row["causes"][0]["id"] for row in found["rows"] if row["causes"]})


@unittest.skipIf(why_not() is not None, why_not() or "")
class Standing(unittest.TestCase):
    """A replica that is left standing, used by hand and removed."""

    def setUp(self):
        self.folder = tempfile.mkdtemp()
        self.addCleanup(shutil.rmtree, self.folder)
        kiboko("demo", "--only-write", self.folder)
        self.environment = {"XDG_RUNTIME_DIR": self.folder}
        self.addCleanup(self.replica, "remove")

    def replica(self, *words):
        return kiboko("replica", *words, cwd=self.folder, env=self.environment)

    def holders(self):
        note = Path(self.folder, f"kiboko-{os.geteuid()}", "replica.json")
        return json.loads(note.read_text())["pid"] if note.exists() else None

    def test_build_try_by_hand_and_remove(self):
        self.assertIn("no replica stands", self.replica("at", "gauge-03", "true").stderr)
        built = self.replica("build")
        self.assertEqual(built.returncode, 0, built.stderr)
        self.assertIn("STANDING", built.stdout)
        self.assertIn("10.61.4.13/24", self.replica("at", "gauge-03", "ip", "-br", "addr").stdout)
        self.assertEqual(self.replica("at", "gauge-03", "sh", "-c", "exit 7").returncode, 7)
        dial = "import socket,sys; socket.create_connection((sys.argv[1], 8883), 1, ('', int(sys.argv[2])))"
        reached = self.replica("at", "gauge-03", sys.executable, "-c", dial, "10.62.1.11", "50000")
        self.assertEqual(reached.returncode, 0, reached.stderr)
        some = self.replica("at", "gauge-03", sys.executable, "-c", dial, "10.62.1.11", "40000")
        self.assertIn("timed out", some.stderr, "front-edge lets back some client ports only")
        missed = self.replica("at", "gauge-08", sys.executable, "-c", dial, "10.61.5.102", "50000")
        self.assertIn("timed out", missed.stderr)
        told = self.replica("at", "gauge-03")
        self.assertEqual(told.returncode, 0)
        self.assertIn("eth0 is eth0 here: 10.61.4.13", told.stdout)
        self.assertIn("client ports 32768-60999", told.stdout)
        self.assertIn("did you mean 'gauge-03'", self.replica("at", "gauge-3", "true").stderr)
        self.assertIn("stands already", self.replica("build").stderr)
        pid = self.holders()
        self.assertIn("is gone", self.replica("remove").stdout)
        self.assertFalse(alive(pid))
        self.assertIn("No replica stood", self.replica("remove").stdout)

    def test_a_build_killed_half_way_is_removed_too(self):
        command = [sys.executable, "-m", "kiboko", "replica", "build"]
        running = subprocess.Popen(command, cwd=self.folder, env={**os.environ, **self.environment})
        pid = None
        while pid is None:
            pid = self.holders()
        running.kill()
        running.wait()
        self.replica("remove")
        self.assertFalse(alive(pid))
        self.assertIsNone(self.holders())


class Log(unittest.TestCase):
    """Packets as the kernel logs them; the bytes are laid out by hand from the RFCs and nfnetlink_log.h."""

    def test_headers(self):
        four = bytes.fromhex("4500003c00000000400600000a3d040d0a3e010b") + bytes.fromhex("c00022b30000000000000000a002")
        self.assertEqual(
            parse_header(four), Header(Address(4, 0x0A3D040D), Address(4, 0x0A3E010B), 6, 49152, 8883, 60, 2)
        )
        six = bytes.fromhex("6000000000083a40") + b"\0" * 15 + b"\1" + b"\0" * 15 + b"\2" + bytes.fromhex("80000000")
        self.assertEqual(parse_header(six), Header(Address(6, 1), Address(6, 2), 58, None, 0x8000, 48, None))
        for length in range(24):
            self.assertIsNone(parse_header(four[:length]))
        self.assertIsNone(parse_header(b"\x20" * 40))

    def test_messages(self):
        def attribute(kind, value):
            return struct.pack("=HH", 4 + len(value), kind) + value + b"\0" * (-len(value) % 4)

        body = (
            b"\0\0\0\7" + attribute(10, b"5\0") + attribute(3, struct.pack(">QQ", 1000, 500000)) + attribute(9, b"abc")
        )
        message = struct.pack("=IHHII", 16 + len(body), 0x400, 0, 0, 0) + body
        self.assertEqual(list(log_messages(message * 2)), [("5", 1000.5, b"abc")] * 2)
        self.assertEqual(list(log_messages(message[:10])), [])
        self.assertEqual(list(log_messages(b"\0" * 40)), [])


if __name__ == "__main__":
    unittest.main()
