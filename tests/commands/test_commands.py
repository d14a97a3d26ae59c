"""The built program on the demo data: outputs, JSON and exit statuses as a user meets them."""

import csv
import json
import os
import re
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from tests.helpers import kiboko


class WritingTheDemo(unittest.TestCase):
    def test_it_takes_no_file_of_somebody_elses_away(self):
        """Neither one that it would write nor one that its steps would make anew, before anything is written."""
        for name in ("network.yaml", "mended.yaml", "mended.yaml.mine", "loopback/probes.jsonl"):
            with self.subTest(name), tempfile.TemporaryDirectory() as folder:
                own = Path(folder) / name
                own.parent.mkdir(exist_ok=True)
                own.write_text("mine")
                done = kiboko("demo", ".", cwd=folder)
                self.assertEqual((done.returncode, done.stdout), (2, ""))
                self.assertIn(f"{name} is there already", done.stderr)
                self.assertEqual(own.read_text(), "mine")
                self.assertEqual([each for each in Path(folder).rglob("*") if each.is_file()], [own])


class OnTheDemo(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = cls.enterClassContext(tempfile.TemporaryDirectory())
        done = kiboko("demo", "--only-write", cls.folder)
        assert done.returncode == 0, done.stderr
        cls.lines = (Path(cls.folder) / "network.yaml").read_text().splitlines()

    def run_json(self, *words, status):
        done = kiboko(*words, "--json", cwd=self.folder)
        self.assertEqual(done.returncode, status, done.stderr)
        return json.loads(done.stdout)

    def line_of(self, text):
        """The line of the network file that holds a text, found without Kiboko."""
        return next(number for number, line in enumerate(self.lines, 1) if text in line)

    def test_the_line_under_each_outcome_of_a_set_asks_for_just_that(self):
        """Pasted, it comes to the same verdict, signal and place, also where ends have no address or are ranges."""
        found = self.run_json("check", "any", "any", "tcp", "-6", status=1)
        self.assertGreater(len(found["rows"]), 10)
        for row in found["rows"]:
            line = row["example"]["check"]
            with self.subTest(line=line):
                done = kiboko(*line.split()[1:], "--json", cwd=self.folder)
                self.assertIn(done.returncode, (0, 1), done.stderr)
                told = json.loads(done.stdout)
                self.assertEqual(told["kiboko"], "check/1")
                self.assertEqual((told["verdict"], told["signal"]), (row["verdict"], row["signal"]))
                decides = [each and (each["gate"], each["at"], each["rule"])
                           for each in (told["decided_by"], row["decided_by"])]  # fmt: skip
                self.assertEqual(decides[0], decides[1])

    def test_lines_to_paste_name_the_network_file_that_was_asked(self):
        """Asked from another folder, a line without the file would be answered by another network, or none."""
        network, flows = (str(Path(self.folder) / name) for name in ("network.yaml", "evidence/flows.csv"))
        with tempfile.TemporaryDirectory() as elsewhere:
            told = kiboko("confirm", "--flows", flows, "-n", network, cwd=elsewhere).stdout
            lines = re.findall(r"to see it: kiboko (check .*)", told)
            self.assertTrue(lines)
            rows = json.loads(kiboko("confirm", "--flows", flows, "-n", network, "--json", cwd=elsewhere).stdout)[
                "rows"
            ]
            lines += [row["example"]["check"].removeprefix("kiboko ") for row in rows]
            asked = ("check", "gauge-08", "relay-2", "tcp/9100", "--flows", flows, "-n", network, "--json")
            found = json.loads(kiboko(*asked, cwd=elsewhere).stdout)["evidence"]["findings"]
            self.assertTrue(found)
            lines += [row["check"].removeprefix("kiboko ") for row in found]
            self.assertEqual({line.partition(" -n ")[2] for line in lines}, {network})
            self.assertIn(kiboko(*lines[0].split(), cwd=elsewhere).returncode, (0, 1))

    def test_check_json_has_the_form_of_the_design(self):
        found = self.run_json("check", "192.0.2.14", "gauge-07", "ssh", status=1)
        self.assertEqual(found["kiboko"], "check/1")
        self.assertEqual(found["source"], {"name": "192.0.2.14", "address": "192.0.2.14", "zone": "public"})
        self.assertEqual(
            found["destination"],
            {"name": "gauge-07", "address": "203.0.113.17", "private": "10.61.4.17", "zone": "riverside"},
        )
        self.assertEqual((found["service"], found["verdict"], found["signal"]), ("tcp/22", "blocked", "silent"))
        self.assertEqual(found["decided_by"], {
            "gate": "instance-in", "at": "gauge-07/eth0", "direction": "forward", "filter": "gauge-guard", "rule": "otherwise",
            "action": "drop", "file": "network.yaml", "line": self.line_of("  gauge-guard:"),
        })  # fmt: skip
        gate = {
            "gate",
            "at",
            "direction",
            "filters",
            "rule",
            "action",
            "stateful",
            "reason",
            "file",
            "line",
            "client_ports",
        }
        self.assertTrue(all(gate <= set(row) for row in found["forward"] + found["reply"]))
        route = next(row for row in found["reply"] if row["gate"] == "route")
        self.assertEqual((route["entry"], route["beaten"], route["rule"]), ("0.0.0.0/0 via field-door", [], None))
        self.assertEqual({miss["rule"]: miss["field"] for miss in found["near_misses"]}["crew-ssh"], "from")
        self.assertEqual(found["suggestions"][0]["filter"], "gauge-guard")
        self.assertEqual(found["allowed_client_ports"], [])

    def test_each_planted_fault_is_on_one_commands_first_screen(self):
        """Rule and line are looked up in the file by their text, not taken from the output."""
        cases = [
            (
                "check 192.0.2.14 relay-1 ssh",
                0,
                "rule 30 drops exactly this, but rule 20 comes before it",
                "scanner, ticket 4411",
            ),
            (
                "check 203.0.113.77 bulletin https",
                1,
                "Client ports 49152-60999 of 32768-60999 get an answer",
                "return ports, copied",
            ),
            ("route desk-1 forecast-2", 1, "scrubber does not forward", "left over from a test"),
            (
                "check desk-1 forecast-1 forecast-api",
                1,
                "rule 30 allows exactly this, but rule 20 comes before it",
                "from: duty, service: forecast-api",
            ),
            ("show archive-guard", 0, "attached to  nothing", "hub-only"),
            ("show gauges", 0, "its tag is role=guage, the group asks for role=gauge", None),
            ("show gauges", 0, "none: adds nothing to any rule", None),
            ("show relay-1", 0, "ssh-for-all", "for the first week only"),
            ("check gauge-03 ingest-2 telemetry", 1, "listens on 127.0.0.1 only, not on 10.62.1.12", None),
            ("check 198.51.100.20 gauge-12 ssh", 1, "gauge-12/eth0 has no public address", None),
            ("check 198.51.100.20 gauge-04 ssh", 1, "policy drop of hosts/gauge-04.json, inbound", None),
            ("flows evidence/flows.csv --rules", 1, "old-syslog", "old-syslog"),
            ("confirm --flows evidence/flows.csv", 1, "1. not-enforced", None),
            ("confirm --flows evidence/flows.csv", 1, "may be older than the rules", None),
        ]
        for command, status, text, planted in cases:
            with self.subTest(command):
                done = kiboko(*command.split(), cwd=self.folder)
                self.assertEqual(done.returncode, status, done.stderr)
                self.assertIn(text, done.stdout)
                self.assertLessEqual(len(done.stdout.splitlines()), 76, "one screen and a little")
                if planted is not None and "flows" not in command:
                    self.assertIn(f"network.yaml:{self.line_of(planted)}", done.stdout)

    def test_flows_sums_what_a_count_of_the_file_gives(self):
        rows = list(csv.DictReader(Path(self.folder, "evidence/flows.csv").read_text().splitlines()))
        telemetry = [
            r for r in rows if r["destinationTransportPort"] == "8883" and r["destinationIPv4Address"] == "10.62.1.11"
        ]
        found = self.run_json(
            "flows",
            "evidence/fl*.csv",
            "--destination",
            "ingest-1",
            "--service",
            "telemetry",
            "--by",
            "outcome",
            status=0,
        )
        self.assertEqual(found["summary"]["records"], len(telemetry))
        self.assertEqual(found["summary"]["octets"], sum(int(r["octetDeltaCount"]) for r in telemetry))
        self.assertEqual([(row["outcome"], row["records"]) for row in found["rows"]], [("passed", len(telemetry))])
        self.assertEqual(sum(row["passed"] for row in found["timeline"]["rows"]), len(telemetry))
        denied = self.run_json("flows", "evidence/flows.csv", "--outcome", "denied", status=0)["summary"]["records"]
        self.assertEqual(denied, sum(r["firewallEvent"] == "3" for r in rows))

    def test_flows_shows_names_beside_addresses_and_writes_what_it_read(self):
        done = kiboko("flows", "evidence/flows.csv", "--export", "out.jsonl", "--plot", "out.svg", cwd=self.folder)
        self.assertIn("gauge-08 10.61.5.18", done.stdout)
        self.assertEqual(Path(self.folder, "out.svg").read_text()[:5], "<?xml")
        again = self.run_json("flows", "out.jsonl", status=0)
        self.assertEqual(again["rows"], self.run_json("flows", "evidence/flows.csv", status=0)["rows"])
        for name in ("out.jsonl", "out.svg"):
            Path(self.folder, name).unlink()

    def test_rule_usage(self):
        """Counted by hand from the story: four knocks of the met office at gauge-07, one probe there, one at relay-1."""
        rows = self.run_json("flows", "evidence/flows.csv", "--rules", "--source", "met-office", status=1)["rows"]
        hit = {(row["filter"], row["direction"], row["rule"]): row["records"] for row in rows if row["records"]}
        self.assertEqual(hit["public-to-riverside", "rules", "10"], 6)
        self.assertEqual(hit["relay-guard", "inbound", "ssh-for-all"], 1)
        self.assertEqual(hit["gauge-guard", "inbound", "otherwise"], 5)
        self.assertNotIn(("gauge-guard", "inbound", "crew-ssh"), hit)

    def test_confirm_of_a_time(self):
        found = self.run_json("confirm", "--flows", "evidence/flows.csv", "--since", "2026-11-20T10:36:00Z", status=1)
        self.assertEqual([row["service"] for row in found["rows"] if row["status"] == "leak"], ["tcp/8883"])
        self.assertRegex(found["caveats"][0], r"^\d+ flow records are not of the time asked for")
        done = kiboko("confirm", "--flows", "evidence/flows.csv", "--until", "soon", cwd=self.folder)
        self.assertEqual((done.returncode, done.stdout), (2, ""))
        self.assertIn("'soon' is no time", done.stderr)

    def test_toggles_change_one_answer(self):
        self.run_json("check", "192.0.2.14", "relay-1", "ssh", status=0)
        found = self.run_json("check", "192.0.2.14", "relay-1", "ssh", "--without", "bank-edge/inbound/20", status=1)
        self.assertEqual((found["decided_by"]["rule"], found["toggles"]), ("30", ["without bank-edge/inbound/20"]))

    def test_sets_have_their_own_form(self):
        found = self.run_json("check", "crews", "gauges", "ssh", status=1)
        self.assertEqual(found["kiboko"], "check-set/1")
        self.assertEqual(found["summary"]["sources"], {"instances": 0, "addresses": 0, "outsides": ["crews"]})
        self.assertEqual(found["summary"]["destinations"]["instances"], 5)
        self.assertEqual(sum(row["destinations"]["instances"] for row in found["rows"]), 5, "each gauge is in one row")
        allowed = self.run_json("check", "crews", "gauges", "ssh", "--only", "allowed", status=1)["rows"]
        self.assertEqual({row["verdict"] for row in allowed}, {"allowed"})
        self.assertEqual(self.run_json("check", "crews", "relays", "ssh", status=0)["summary"]["allowed"], 1)

    def test_route_and_show_have_their_forms(self):
        route = self.run_json("route", "desk-1", "forecast-2", status=1)
        self.assertEqual(route["summary"]["stopped_at"], {"gate": "route", "at": "desk-room"})
        row = next(row for row in route["rows"] if row["hop"] == "route")
        self.assertEqual(
            (row["entry"], row["line"]), ("10.62.2.21/32 via instance scrubber", self.line_of("10.62.2.21/32"))
        )
        self.assertEqual(row["beaten"][0], "10.62.0.0/16 via desk-hub (learned) [shorter prefix]")
        for name in ("relay-1", "bank-east", "fleet", "gauges", "riverside", "desk-exit", "crews", "hub", "banks",
                     "relay-1/eth0", "203.0.113.101", "10.61.4.101", "203.0.113.200", "10.61.4.77", "10.61.9.9", "192.0.2.1"):  # fmt: skip
            with self.subTest(name):
                self.assertEqual(self.run_json("show", name, status=0)["kiboko"], "show/1")

    def test_show_leaves_only_the_rules_that_matter(self):
        without = [
            self.run_json("show", name, status=0)["summary"].get("without") for name in ("internet", "met-office")
        ]
        self.assertEqual(["private addresses, which are nobody's beyond a network", None], without)
        all_rules = self.run_json("show", "relay-1", status=0)["rows"]
        some = self.run_json("show", "relay-1", "--service", "telemetry", "--peer", "gauge-03", status=0)["rows"]
        names = [row["rule"].strip() for row in some if row["table"].startswith("Inbound")]
        self.assertLess(len(some), len(all_rules))
        self.assertIn("from-gauges", names)
        self.assertNotIn("ssh-for-all", names)

    def test_confirm_json(self):
        found = self.run_json("confirm", "--probes", "evidence/probes.jsonl", "--flows", "evidence/flows.csv", status=1)
        summary = found["summary"]
        self.assertEqual(
            summary["records"], 14 + len((Path(self.folder) / "evidence/flows.csv").read_text().splitlines()) - 1
        )
        self.assertEqual({row["destination"] for row in found["rows"] if row["status"] == "leak"}, {"relay-2"})
        leak = found["rows"][0]
        words = leak["example"]["check"].split()
        again = kiboko(*words[1:], "--json", cwd=self.folder)
        self.assertEqual((again.returncode, json.loads(again.stdout)["decided_by"]), (1, leak["decided_by"]))

    def test_what_nobody_saw_agree_is_no_agreement(self):
        folder = Path(self.folder)
        lines = (folder / "evidence/flows.csv").read_text().splitlines(True)
        unsure = [line for line in lines if ",50444,5432," in line or ",5432,50444," in line]
        for name, rows, told in (("unsure.csv", unsure, f"NOTHING PROVED: none of {len(unsure)} records tests"),):
            (folder / name).write_text("".join(lines[:1] + rows))
            done = kiboko("confirm", "--flows", name, cwd=self.folder)
            self.assertEqual((done.returncode, done.stdout.startswith(told)), (1, True), done.stdout)
        # Nor is what disagrees and does not say when it was: the demo's sessions from before its network file are some.
        header, *rows = lines
        names = header.strip().split(",")
        untimed = [",".join(["", "", *row.split(",")[2:]]) for row in rows]
        (folder / "untimed.csv").write_text("".join([header, *untimed]))
        self.assertEqual(["flowStartMilliseconds", "flowEndMilliseconds"], names[:2])
        done = kiboko("confirm", "--flows", "untimed.csv", cwd=self.folder)
        told = f"NOT KNOWN: 20 records of {len(rows)} disagree, and do not say when they began: they may be older than"
        self.assertEqual((1, f"{told} the network file."), (done.returncode, done.stdout.splitlines()[0]))
        (folder / "probes-none.jsonl").write_text("")
        done = kiboko("confirm", "--probes", "probes-none.jsonl", cwd=self.folder)
        self.assertEqual((done.returncode, done.stdout), (2, ""))
        self.assertIn("probes-none.jsonl: there is no record in it", done.stderr)

    def test_what_was_stopped_elsewhere_than_the_rules_stop_it_alone_proves_nothing_of_them(self):
        """The rules stop it between two zones; it was denied behind that, at the edge of the subnet."""
        header = "src,dst,src_port,dst_port,proto,flags,action,point,time\n"
        row = "10.61.4.14,10.62.1.11,40001,22,6,2,deny,13,2026-11-20T10:00:00Z\n"
        (Path(self.folder) / "elsewhere.csv").write_text(header + row)
        alone = kiboko("confirm", "--flows", "elsewhere.csv", cwd=self.folder)
        self.assertEqual((1, "NOTHING PROVED: none of 1 record tests to the end what the rules say."),
                         (alone.returncode, alone.stdout.splitlines()[0]))  # fmt: skip
        self.assertIn("1 stopped elsewhere than the rules stop it", alone.stdout)
        answered = "10.63.1.11,10.61.4.13,50000,22,6,27,allow,13,2026-11-20T10:00:01Z\n"
        (Path(self.folder) / "more.csv").write_text(header + row + answered)
        more = kiboko("confirm", "--flows", "more.csv", cwd=self.folder)
        self.assertEqual((0, True), (more.returncode, more.stdout.startswith("AGREE: ")), more.stdout)

    def test_rejected_rows_do_not_change_the_status_unless_strict(self):
        bad = Path(self.folder) / "bad.csv"
        bad.write_text(
            "src,dst,dst_port,proto,action\n10.63.1.11,10.61.4.13,22,6,allow\nnonsense,10.61.4.13,22,6,allow\n"
        )
        done = kiboko("confirm", "--flows", "bad.csv", cwd=self.folder)
        self.assertEqual((done.returncode, "NOTHING PROVED" in done.stdout), (1, True), done.stderr)
        self.assertIn("bad.csv: 1 row rejected, bad address; first row 2 (line 3)", done.stdout)
        strict = kiboko("confirm", "--flows", "bad.csv", "--strict", cwd=self.folder)
        self.assertEqual((strict.returncode, strict.stdout), (2, ""))
        self.assertIn("bad.csv:3: row 2: sourceIPv4Address 'nonsense' is not an address", strict.stderr)

    def test_unknown_words_offer_the_nearest_and_status_2(self):
        cases = {
            "check gauge-3 relay-1 ssh": "did you mean 'gauge-03'",
            "check gauge-03 relay-1 shh": "did you mean 'ssh'",
            "check riverside relay-1 ssh": "'riverside' is a zone, which cannot send or receive; zone:riverside is what is in it",
            "check 192.0.2.1 198.51.100.20 ssh": "both outside",
            "check gauge-03 relay-1 icmp6/echo-request": "no address family in common",
            "check gauge-03 relay-1 ssh --client-ports 9-1": "--client-ports: '9-1' runs backwards",
            "check gauge-03 relay-1 ssh -n none.yaml": "none.yaml: no such network file",
            "check gauge-03 gauge-03 ssh": "are one machine",
            "show gaugess": "did you mean 'gauges'",
            "show htps": "did you mean 'https'",
            "confirm --flows evidence/flows.csv --top 0": "--top: at least one line",
            "route crews relay-1": "'crews' stands for more than one end",
            "confirm": "give evidence",
            "confirm --flows none.csv": "none.csv: no such file",
            "frobnicate": "there is no command 'frobnicate'",
        }
        for command, expected in cases.items():
            with self.subTest(command):
                done = kiboko(*command.split(), cwd=self.folder)
                self.assertEqual(done.returncode, 2, done.stdout)
                self.assertIn(expected, done.stderr)
                self.assertNotIn("Traceback", done.stderr)

    def test_a_service_written_as_elsewhere_is_refused_with_the_form_that_is_meant(self):
        cases = {
            "443/tcp": "did you mean 'tcp/443'?", "tcp:443": "did you mean 'tcp/443'?",
            "TCP/8000-8010": "did you mean 'tcp/8000-8010'?", "53 udp": "did you mean 'udp/53'?",
            "HTTPS": "did you mean 'https'?", "*": "did you mean 'any'?", "tcp/22,80": "several are a list in a file",
            "ssh, https": "several are a list in a file", "443": "tcp/443 or udp/443", "quic/443": "write it as tcp/443",
        }  # fmt: skip
        for service, expected in cases.items():
            with self.subTest(service):
                done = kiboko("check", "gauge-03", "relay-1", service, cwd=self.folder)
                self.assertEqual((done.returncode, done.stdout), (2, ""))
                self.assertIn(expected, done.stderr)
        Path(self.folder, "wanted.yaml").write_text(
            "kiboko: expectations/1\nexpectations:\n  - {id: a, from: gauge-03, to: relay-1, service: 443/tcp, expect: allowed}\n"
        )
        done = kiboko("expect", "--file", "wanted.yaml", cwd=self.folder)
        self.assertIn("did you mean 'tcp/443'?", done.stderr)

    def test_the_network_may_come_from_the_environment(self):
        done = kiboko(
            "check", "gauge-03", "relay-1", "ssh", cwd="/", env={"KIBOKO_NETWORK": f"{self.folder}/network.yaml"}
        )
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_a_reader_that_goes_away_is_no_error(self):
        command = f"{sys.executable} -m kiboko check gauge-03 relay-1 ssh --json | head -c 10; exit ${{PIPESTATUS[0]}}"
        done = subprocess.run(["bash", "-c", command], cwd=self.folder, capture_output=True, text=True, timeout=60)
        self.assertEqual((done.returncode, done.stderr), (0, ""))

    def test_text_from_the_file_cannot_drive_the_terminal(self):
        text = (Path(self.folder) / "network.yaml").read_text()
        (Path(self.folder) / "evil.yaml").write_text(
            text.replace("for the first week only", "\\u001b]0;x\\u0007[red]\\u202e")
        )
        done = kiboko("show", "relay-1", "-n", "evil.yaml", cwd=self.folder)
        check = kiboko("check", "192.0.2.14", "relay-1", "ssh", "-n", "evil.yaml", cwd=self.folder)
        for output in (done.stdout, check.stdout):
            self.assertNotRegex(output, "[\x00-\x08\x0b-\x1f\x7f\u202e]")
        self.assertIn(r"\x1b]0;x\x07[red]\u202e", check.stdout)

    def test_a_terminal_gets_colour_and_no_color_is_honoured(self):
        command = f"{sys.executable} -m kiboko check gauge-03 relay-1 ssh"
        for environment, coloured in (
            ({"TERM": "xterm-256color"}, True),
            ({"TERM": "xterm-256color", "NO_COLOR": "1"}, False),
        ):
            done = subprocess.run(["script", "-qec", command, "/dev/null"], cwd=self.folder, capture_output=True, text=True,
                                  env={"PATH": "/usr/bin:/bin", "COLUMNS": "120", **environment}, timeout=60)  # fmt: skip
            self.assertIn("ALLOWED", done.stdout)
            self.assertEqual("\x1b[1;32m" in done.stdout, coloured)
            plain = re.sub(r"\x1b\[[0-9;]*m", "", done.stdout)
            self.assertLessEqual(max(len(line) for line in plain.splitlines()), 120)


class Demo(unittest.TestCase):
    def test_the_whole_demo_gives_the_statuses_it_should(self):
        with tempfile.TemporaryDirectory() as folder:
            done = kiboko("demo", Path(folder) / "mto")
            self.assertEqual(done.returncode, 0, done.stdout[-2000:] + done.stderr)
            self.assertIn("steps gave the status they should", done.stdout)
            # Once more in the same folder, where this user may not send echo requests.
            without = ["setpriv", "--bounding-set=-net_raw"] if os.geteuid() == 0 else []
            again = subprocess.run([*without, sys.executable, "-m", "kiboko", "demo", Path(folder) / "mto"],
                                   capture_output=True, text=True, timeout=120)  # fmt: skip
            self.assertEqual(again.returncode, 0, again.stderr + again.stdout[-2000:])
            if without:
                self.assertIn("no ping", again.stdout)
            (Path(folder) / "mto" / "network.yaml").write_text("mine")
            refused = kiboko("demo", Path(folder) / "mto")
            self.assertEqual(refused.returncode, 2)
            self.assertEqual((Path(folder) / "mto" / "network.yaml").read_text(), "mine")


if __name__ == "__main__":
    unittest.main()
