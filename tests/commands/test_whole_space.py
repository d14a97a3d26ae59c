"""`reach`, `matrix` and `audit` as they are called: what they print, their statuses, and what is wrong with a question."""

import csv
import json
import unittest
from pathlib import Path
from xml.etree import ElementTree

import jsonschema

from tests.helpers import OnTheDemo, a_filter, base
from tests.helpers import kiboko as run

# OASIS publishes it; the Makefile fetches the package that holds it.
SARIF = Path(__file__).resolve().parent.parent.parent / ".venv" / "sarif" / "package" / "lib" / "schemas"


class Reach(OnTheDemo):
    def test_who_reaches_the_database_with_the_rules_and_a_line_to_paste(self):
        """The hub's front and the core machines may use the database; the rule of its own filter is core-guard 10."""
        text = self.kiboko("reach database --service postgresql --only recorded", 0)
        self.assertIn("6 of 16 instances can reach database on postgresql", text)
        self.assertIn("every instance of subnet hub-front (3 instances), forecast-1, forecast-2, archive", text)
        self.assertIn("instance-in: core-guard/10 (network.yaml:145)", text)
        line = next(each for each in text.splitlines() if "kiboko check" in each)
        self.kiboko(line.partition("kiboko ")[2], 0)

    def test_every_line_that_is_to_be_pasted_comes_to_what_its_own_line_says(self):
        for question in (
            "reach --out internet",
            "reach gauges --service ssh",
            "reach any --service ssh --only outside",
        ):
            rows = json.loads(self.kiboko(question + " --json", 1 if "--out" in question else 0))["rows"]
            self.assertGreater(len(rows), 1)
            for row in rows:
                with self.subTest(row["check"]):
                    done = run(*row["check"].split()[1:], "--json", f"-{row['family']}", cwd=self.folder)
                    self.assertEqual(row["verdict"], json.loads(done.stdout)["verdict"])

    def test_what_is_open_to_the_internet_is_what_was_found_by_hand(self):
        """By hand, from the file: ping to gauges with a public address, ssh to both relays, ssh of two gauges for the
        crews alone, the bulletin's https from a part of the client ports; by IPv6 the one gauge and unrecorded ones."""
        found = json.loads(self.kiboko("reach --out internet --json", 1))["rows"]
        told = {(row["family"], row["kind"], row["verdict"], tuple(each["name"] for each in row["far"]),
                 tuple(row["services"])) for row in found}  # fmt: skip
        self.assertEqual(
            {
                (4, "instances", "allowed", ("gauge-03", "gauge-04", "gauge-07"), ("icmp/echo-request",)),
                (4, "instances", "allowed", ("relays",), ("tcp/22",)),
                (4, "instances", "allowed", ("gauge-03", "gauge-07"), ("tcp/22",)),
                (4, "instances", "partly", ("bulletin",), ("tcp/443",)),
                (6, "instances", "allowed", ("gauge-03",), ("icmp6/echo-request",)),
                (6, "addresses", "allowed", ("the other addresses of bank-east (IPv6)",),
                 ("tcp/22", "icmp6/echo-request")),
            },
            told,
        )  # fmt: skip

    def test_doors_are_counted_and_named(self):
        text = self.kiboko("reach database --service postgresql --doors --only recorded", 0)
        self.assertIn("2 doors: every instance of subnet desk-room (3 instances)", text)
        self.assertIn("zone: office-to-core/otherwise", text)

    def test_chains_by_way_of_machines(self):
        text = self.kiboko("reach database --service postgresql --through 3", 0)
        self.assertIn("By way of other machines", text)

    def test_an_end_that_nothing_reaches_says_so(self):
        self.assertIn("Nothing gets through.", self.kiboko("reach gauge-12 --service rdp", 0))

    def test_questions_that_mean_nothing_are_refused(self):
        for line, text in (
            ("reach gauge-70", "'gauge-07'?"),
            ("reach gauge-09", "it has no address"),
            ("reach database --service ssl", "service 'ssl' is not defined"),
            ("reach database --through 1", "2 connections at least"),
            ("reach database --out --through 2", "goes without --out"),
            ("reach database --except nobody", "neither an address nor a name"),
            ("reach database --client-ports x", "--client-ports"),
            ("reach zone:rivverside", "did you mean 'riverside'"),
            ("reach tag:role=gage", "no instance has that tag; did you mean"),
        ):
            with self.subTest(line):
                self.refused(line, text)

    def test_a_zone_and_a_tag_are_ends(self):
        for name in ("zone:office", "tag:role=desk"):
            self.assertIn("desk-1", self.kiboko(f"reach --out {name} --service ssh", 0) + "desk-1")


class Matrix(OnTheDemo):
    def test_the_grid_counts_and_the_words_open_a_cell(self):
        text = self.kiboko("matrix --service ssh", 0)
        self.assertRegex(text, r"e +duty +all +all +all")
        line = next(each for each in text.splitlines() if "kiboko check duty gauges" in each)
        self.assertIn("kiboko check duty gauges ssh", line)

    def test_what_more_gets_through_to_public_addresses_is_marked_and_can_be_looked_up(self):
        """The bulletin's filters let everybody in from outside, but of the office only what the crossing to the core
        allows: who sends to its public address from there comes in as from outside."""
        text = self.kiboko("matrix --by scrubber,bulletin --service https", 0)
        self.assertRegex(text, r"a +scrubber +- +\.\*")
        line = next(each for each in text.splitlines() if "to public addresses: https" in each)
        found = self.kiboko(line[line.index("kiboko ") + 7 :], 1)
        self.assertIn("203.0.113.20 (bulletin)", found)
        self.kiboko("check scrubber bulletin https", 1)
        self.assertIn("PARTLY", self.kiboko("check scrubber 203.0.113.20 https", 1))

    def test_csv_has_every_cell(self):
        self.kiboko("matrix --by zone --service ssh --service https --csv cells.csv", 0)
        with open(self.folder / "cells.csv", newline="") as stream:
            rows = list(csv.DictReader(stream))
        self.assertEqual(4 * 4 * 2, len(rows))
        self.assertIn({"from": "zone:office", "to": "zone:riverside", "service": "ssh", "state": "partly", "by": "address",
                       "more_to_public": ""}, rows)  # fmt: skip
        self.assertEqual(33, len(self.kiboko("matrix --by zone --service ssh --service https --csv -", 0).splitlines()))

    def test_against_another_file_only_what_differs_is_told(self):
        text = self.kiboko("matrix --by zone --service ssh --against clean/network.yaml", 1)
        self.assertRegex(text, "zone:office +zone:riverside +ssh +allowed +partly")
        self.kiboko("matrix --by zone --service ssh --against clean/network.yaml --csv -", 1)
        same = self.kiboko("matrix --by zone --service ssh --against network.yaml", 0)
        self.assertTrue(same.startswith("0 cells differ"), same)

    def test_a_figure_is_drawn(self):
        self.kiboko("matrix --plot matrix.png", 0)
        self.assertEqual(b"\x89PNG", (self.folder / "matrix.png").read_bytes()[:4])

    def test_questions_that_mean_nothing_are_refused(self):
        for line, text in (
            ("matrix --by role", "neither an address nor a name"),
            ("matrix --by zones", "did you mean 'zone'?; --by is group, zone, subnet, network, tag:KEY"),
            ("matrix --by tag:rank", "no instance has a tag 'rank'"),
            ("matrix --service nothing", "service 'nothing' is not defined"),
            ("matrix --plot matrix.gif", "a figure is .png or .svg"),
            ("matrix --against missing.yaml", "no such network file"),
        ):
            with self.subTest(line):
                self.refused(line, text)


class Audit(OnTheDemo):
    def test_the_gravest_come_first_with_place_proof_and_fix(self):
        text = self.kiboko("audit", 1)
        self.assertLess(text.index("HIGH"), text.index("MEDIUM"))
        self.assertIn("open-administration  relay-guard/ssh-for-all  (network.yaml:128)", text)
        self.assertIn("fix  name in that rule who may come in", text)

    def test_the_network_that_is_mended_has_none(self):
        self.assertTrue(self.kiboko("audit -n clean/network.yaml", 0).startswith("0 findings."))

    def test_severity_and_kind_choose_and_make_the_status(self):
        self.assertNotIn("MEDIUM", self.kiboko("audit --severity high", 1))
        self.assertIn("1 finding: 1 medium", self.kiboko("audit --finding unattached-filter", 1))
        self.kiboko("audit --finding unattached-filter --severity high", 0)

    def test_no_rule_is_without_traffic_where_none_was_looked_at(self):
        for line in ("audit --finding never-hit", "flows --rules"):
            command, _, options = line.partition(" ")
            text = self.kiboko(f"{command} {options} evidence/flows.csv --since 2027-01-01".replace(
                "never-hit ", "never-hit --flows "), 0 if command == "audit" else 1)  # fmt: skip
            self.assertIn("no record was held against the rules: nothing is known of which are used", text)
            self.assertNotIn("take it out", text)

    def test_rules_that_recorded_traffic_never_hit(self):
        text = self.kiboko("audit --finding never-hit --flows evidence/flows.csv --full", 1)
        self.assertIn("ingest-guard/inbound/old-syslog", text)
        self.assertNotIn("ingest-guard/inbound/telemetry-in", text)

    def test_what_only_evidence_shows_is_a_finding_too(self):
        text = self.kiboko("audit --finding leak --finding break --finding older-session --flows evidence/flows.csv", 1)
        self.assertIn("2 findings: 1 high, 1 medium", text)
        self.assertIn("leak  relay-guard/otherwise at relay-2/eth0", text)
        self.assertIn("16 records from gauge-08 to relay-2", text)
        self.assertIn("likely not-enforced", text)
        self.assertIn("4 records from desk-2 to database on tcp/5432: the session began before", text)
        text = self.kiboko("audit --finding leak --probes evidence/probes.jsonl", 1)
        self.assertIn("1 probe from gauge-08 to relay-2 on tcp/9100: answered, though the rules stop it", text)
        text = self.kiboko("audit --finding leak --flows evidence/flows.csv --probes evidence/probes.jsonl", 1)
        self.assertIn("1 finding: 1 high", text)
        self.assertIn("16 records and 1 probe from gauge-08 to relay-2 on tcp/9100, tcp/8883: answered", text)

    def test_every_fault_of_the_demo_is_found(self):
        """The thirteen of which docs tell: each by its id and place."""
        text = self.kiboko("audit --flows evidence/flows.csv --probes evidence/probes.jsonl --full", 1)
        for each in (
            "contradicted-rule  bank-edge/inbound/30", "partial-way-back  front-edge/inbound/10",
            "route-to-nothing  desk-main: 10.62.2.21/32", "unreachable-rule  core-guard/inbound/30",
            "unattached-filter  archive-guard", "nearly-member  gauges", "group-without-addresses  gauges",
            "open-administration  relay-guard/ssh-for-all", "bound-elsewhere  ingest-2: telemetry",
            "leak  relay-guard/otherwise at relay-2/eth0", "no-return-route  gauge-12/eth0",
            "host-filter-against  gauge-04: hosts/gauge-04.json/otherwise",
            "never-hit  ingest-guard/inbound/old-syslog", "older-session  office-to-core/otherwise at office>core",
        ):  # fmt: skip
            self.assertIn(each, text)

    def test_what_is_accepted_stands_apart_until_its_day(self):
        values = base()
        values["filters"] = {"lost": a_filter("instance", inbound=[])}
        values["accepted"] = [
            {"finding": "unattached-filter", "at": "lost", "reason": "for the move", "until": "2026-12-01"}
        ]
        (self.folder / "own.yaml").write_text(json.dumps(values))
        text = self.kiboko("audit -n own.yaml --finding unattached-filter --today 2026-12-01", 0)
        self.assertIn("lost: for the move, until 2026-12-01", text)
        self.kiboko("audit -n own.yaml --finding unattached-filter --today 2026-12-02", 1)

    def test_sarif_has_every_finding_with_its_line(self):
        self.kiboko("audit --sarif found.sarif", 1)
        (run_,) = json.loads((self.folder / "found.sarif").read_text())["runs"]
        first = next(each for each in run_["results"] if each["ruleId"] == "unattached-filter")
        place = first["locations"][0]["physicalLocation"]
        self.assertEqual(("network.yaml", 157), (place["artifactLocation"]["uri"], place["region"]["startLine"]))
        ids = [rule["id"] for rule in run_["tool"]["driver"]["rules"]]
        self.assertTrue(all(ids[each["ruleIndex"]] == each["ruleId"] for each in run_["results"]))

    def test_a_report_on_standard_output_stands_there_alone(self):
        self.kiboko("audit --sarif found.sarif", 1)
        self.assertEqual(self.kiboko("audit --sarif -", 1), (self.folder / "found.sarif").read_text())
        self.kiboko("matrix --csv cells.csv", 0)
        self.assertEqual(self.kiboko("matrix --csv -", 0), (self.folder / "cells.csv").read_text())
        text = self.kiboko("expect --file expectations.yaml --junit -", 1)
        self.assertEqual(ElementTree.fromstring(text).tag, "testsuites")
        for words in ("audit --sarif", "matrix --csv", "expect --junit"):
            self.refused(f"{words} - --json", "both go to standard output")
        self.assertFalse((self.folder / "-").exists())

    @unittest.skipUnless(SARIF.is_dir(), "the schema of SARIF is not here: make test fetches it")
    def test_sarif_validates_against_its_schema(self):
        self.kiboko("audit --flows evidence/flows.csv --sarif found.sarif", 1)
        (path,) = SARIF.glob("sarif-2.1.0*.json")
        jsonschema.validate(json.loads((self.folder / "found.sarif").read_text()), json.loads(path.read_text()))

    def test_every_kind_is_documented(self):
        page = (Path(__file__).resolve().parent.parent.parent / "docs" / "findings.md").read_text()
        for line in self.kiboko("audit --kinds", 0).splitlines():
            if line.startswith("  "):
                self.assertIn(f"`{line.split()[0]}`", page)

    def test_questions_that_mean_nothing_are_refused(self):
        for line, text in (
            ("audit --finding unatached-filter", "did you mean 'unattached-filter'"),
            ("audit --finding never-hit", "give --flows too"),
            ("audit --finding leak", "give --flows or --probes too"),
            ("audit --today yesterday", "is no date"),
            ("audit --flows missing.csv", "missing.csv"),
        ):
            with self.subTest(line):
                self.refused(line, text)
