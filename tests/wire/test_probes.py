"""Real packets: a port that listens, one that is closed, one that is dropped, in both families."""

import json
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from tests import program
from tests.helpers import kiboko
from tests.namespaces import CLIENT4, CLIENT6, SERVER4, SERVER6, TwoMachines

DROPPING = """table inet t { chain input { type filter hook input priority 0; policy accept;
    tcp dport 1001 drop
    udp dport 1001 drop
    tcp dport 1002 reject with icmpx admin-prohibited
    udp dport 1002 reject with icmpx host-unreachable
} }"""


class Outcomes(TwoMachines):
    def test_listening_closed_dropped_and_prohibited_ports(self):
        self.load_rules(self.server, DROPPING)
        services = [f"{protocol}/{port}" for protocol in ("tcp", "udp") for port in (1000, 1003, 1001, 1002)] + ["ping"]
        for address in (SERVER4, SERVER6):
            records = self.probe(address, services, "--timeout", "3")
            outcomes = {record["service"]: record["outcome"] for record in records}
            echo = next(name for name in outcomes if "echo" in name or name == "ping")
            self.assertEqual([outcomes[each] for each in [*services[:-1], echo]],
                             ["answered", "refused", "silent", "unreachable"] * 2 + ["answered"])  # fmt: skip
            own = {record["sent_from"] for record in records}
            self.assertEqual({CLIENT4 if address == SERVER4 else CLIENT6}, own, "of echo requests as well")
            self.assertTrue(
                all(
                    (record["rtt_ms"] is None) == (record["outcome"] in ("silent", "unreachable")) for record in records
                )
            )

    def test_what_is_there_is_handed_over_while_others_are_waited_for(self):
        self.load_rules(self.server, DROPPING)
        words = ("probe", SERVER4, "tcp/1001", "tcp/1000", "--json", "--timeout", "60", "--attempts", "1")
        command = ["ip", "netns", "exec", self.client, sys.executable, "-m", "kiboko", *words]
        with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
            try:
                record = json.loads(process.stdout.readline())
                self.assertEqual((record["service"], record["outcome"]), ("tcp/1000", "answered"))
                self.assertIsNone(process.poll(), "the silence of the other is waited for")
            finally:
                process.terminate()

    def test_who_of_a_set_cannot_be_probed_is_left_out_and_told(self):
        """A machine without an address, and the addresses of an IPv6 subnet at which nobody is recorded."""
        values = {
            "kiboko": 1, "networks": {"lab": {"cidrs": ["10.9.0.0/16", "fd09::/48"]}},
            "subnets": {"bench": {"network": "lab", "cidr": ["10.9.0.0/29", "fd09::/64"]}},
            "groups": {"both": {"members": ["one", "bare"]}, "none": {"members": ["bare"]}},
            "instances": {"one": {"interfaces": [{"subnet": "bench", "addresses": [SERVER4]}]},
                          "bare": {"interfaces": [{"subnet": "bench"}]}},
        }  # fmt: skip
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "network.yaml").write_text(json.dumps(values))

            def probed(*words):
                return program.run(["probe", *words], folder, namespace=self.client)

            self.load_rules(self.server, "")
            done = probed("both", "tcp/1000")
            self.assertEqual(done.returncode, 1, done.stderr)
            first, *others = done.stdout.splitlines()
            self.assertEqual(first.split()[:4], ["answered", "one", f"({SERVER4})", "tcp/1000"])
            self.assertEqual(others, ["not probed: bare (no address)"])
            done = probed("bench", "tcp/1000", "--json", "--timeout", "0.2", "--attempts", "1")
            addresses = [json.loads(line)["address"] for line in done.stdout.splitlines()]
            self.assertEqual(sorted(addresses), [f"10.9.0.{number}" for number in range(1, 7)])
            self.assertRegex(done.stderr, r"not probed: fd09::-fd09::ffff:ffff:ffff:ffff \(nobody is recorded there")
            done = probed("bench", "tcp/1000", "-4", "--json", "--timeout", "0.2", "--attempts", "1")
            self.assertEqual((done.returncode, len(done.stdout.splitlines())), (1, 6))
            self.assertNotIn("fd09", done.stderr)
            done = probed("none", "tcp/1000")
            self.assertEqual(done.returncode, 2)
            self.assertIn("none has no address to probe; not probed: bare (no address)", done.stderr)

    def test_silence_takes_all_attempts_and_probes_run_side_by_side(self):
        self.load_rules(self.server, DROPPING)
        records = self.probe(SERVER4, ["tcp/1001"], "--attempts", "3", "--client-port", "45000")
        self.assertEqual((records[0]["attempts"], records[0]["source_port"]), (3, 45000))
        records = self.probe(SERVER4, ["udp/1003-1042"], "--concurrency", "40")
        self.assertEqual(len(records), 40)

    def test_an_address_without_a_route_is_unreachable(self):
        (record,) = self.probe("10.99.0.1", ["tcp/1"])
        self.assertEqual(record["outcome"], "unreachable")


class CommandLine(unittest.TestCase):
    def test_records_are_appended_and_name_what_was_asked(self):
        with tempfile.TemporaryDirectory() as folder:
            log = Path(folder) / "probes.jsonl"
            for _ in range(2):
                done = kiboko("probe", "127.0.0.1", "tcp/1", "--record", log, cwd=folder)
                self.assertEqual(done.returncode, 1, done.stderr)
            records = [json.loads(line) for line in log.read_text().splitlines()]
        self.assertEqual(
            [(r["kiboko"], r["to"], r["service"], r["outcome"]) for r in records],
            [("probe/1", "127.0.0.1", "tcp/1", "refused")] * 2,
        )

    def test_packets_that_go_elsewhere_are_redirected_and_unsure_in_confirm(self):
        with tempfile.TemporaryDirectory() as folder:
            kiboko("demo", "--only-write", folder)
            done = kiboko(
                "probe",
                "gauge-07",
                "ssh",
                "--as",
                "desk-1",
                "--address",
                "127.0.0.1:1",
                "--record",
                "p.jsonl",
                cwd=folder,
            )
            self.assertEqual(done.returncode, 1, done.stderr)
            record = json.loads((Path(folder) / "p.jsonl").read_text())
            self.assertEqual(
                (record["from"], record["to"], record["address"], record["service"], record["redirected"]),
                ("desk-1", "gauge-07", "127.0.0.1", "tcp/22", True),
            )
            found = json.loads(kiboko("confirm", "--probes", "p.jsonl", "--json", cwd=folder).stdout)
            self.assertEqual(found["summary"]["unsure"], 1)

    def test_bad_usage_is_said(self):
        cases = {
            ("127.0.0.1", "proto/47"): "proto/47 cannot be probed",
            ("127.0.0.1", "shh"): "did you mean 'ssh'",
            ("10.0.0.0/8", "ssh"): "65,536 at most",
            ("127.0.0.1", "any"): "stands for",
            ("nowhere", "ssh"): "'nowhere' is neither an address nor a name",
            ("127.0.0.1", "tcp/1", "--address", "300.1.1.1"): "--address: '300.1.1.1'",
        }
        with tempfile.TemporaryDirectory() as folder:
            for words, expected in cases.items():
                done = kiboko("probe", *words, cwd=folder)
                self.assertEqual(done.returncode, 2, words)
                self.assertIn(expected, done.stderr)
                self.assertNotIn("Traceback", done.stderr)

    def test_a_log_that_cannot_be_written_is_status_3(self):
        for target in ("/dev/full", "/proc/nothing"):
            done = kiboko("probe", "127.0.0.1", "tcp/1", "--record", target)
            self.assertEqual(done.returncode, 3, done.stderr)
            self.assertIn("cannot be", done.stderr)


if __name__ == "__main__":
    unittest.main()
