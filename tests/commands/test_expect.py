"""`expect` as it is called: files, tables, JUnit, statuses, and what is wrong with them."""

import json
import re
import shutil
import tempfile
import unittest
from pathlib import Path

from junitparser import JUnitXml

from tests.helpers import OnTheDemo, a_filter, base, git
from tests.helpers import kiboko as run


class Expect(OnTheDemo):
    def test_the_demos_promises_and_the_line_that_shows_each_that_is_broken(self):
        """By hand: the duty desk's way to gauge 8 and 12, the relays' ssh, the met office, both forecasts, gauge 4."""
        rows = json.loads(self.kiboko("expect --file expectations.yaml --json", 1))["rows"]
        states = {row["id"]: row["state"] for row in rows}
        self.assertEqual(["database-only-from-hub"], [name for name, state in states.items() if state == "held"])
        for row in rows:
            if row["check"]:
                done = run(*row["check"].split()[1:], "--json", cwd=self.folder)
                verdict = json.loads(done.stdout)["verdict"]
                self.assertEqual(row["expect"] == "allowed", verdict != "allowed", row)

    def test_the_network_that_is_mended_keeps_most_of_them(self):
        text = self.kiboko("expect --file expectations.yaml -n clean/network.yaml --every", 0)
        self.assertIn("6 held, 0 broken", text)

    def test_recorded_traffic_is_held_to_them(self):
        """By hand, from the story of the evidence: the met office's scanner reached a relay once, and the gauges not;
        crews reach gauge 7 and not gauge 4; a desk's old session goes on with the database."""
        line = "expect --file expectations.yaml --flows evidence/flows.csv"
        rows = {row["id"]: row for row in json.loads(self.kiboko(line + " --json", 1))["rows"]}
        told = {name: (row["recorded"]["keep"] > 0, row["recorded"]["break"]) for name, row in rows.items()}
        self.assertEqual((True, 1), told["scanner-shut-out"])
        self.assertEqual((True, 1), told["crews-reach-gauges"])
        self.assertEqual({"answered": 1}, rows["database-only-from-hub"]["recorded"]["of_others"])
        self.assertEqual((True, 0), told["duty-reaches-river"])
        text = self.kiboko(line + " --junit out.xml", 1)
        self.assertRegex(text, "scanner-shut-out +broken +breaks it")
        suite = next(iter(JUnitXml.fromfile(str(self.folder / "out.xml"))))
        cases = {(case.classname, case.name): bool(case.result) for case in suite}
        self.assertTrue(cases["expectations.recorded", "scanner-shut-out"])
        self.assertFalse(cases["expectations.recorded", "duty-reaches-river"])
        self.assertIn("tells nothing", self.kiboko(line + " --since 2026-11-21", 1))

    def test_a_first_set_out_of_what_was_recorded_is_held(self):
        text = self.kiboko("expect --draft --flows evidence/flows.csv", 0)
        self.assertIn('"from": "crews", "to": "gauge-07", "service": ["tcp/22"]'.replace('"from"', "from")
                      .replace('"to"', "to").replace('"service"', "service"), text)  # fmt: skip
        (self.folder / "draft.yaml").write_text(text)
        self.assertRegex(self.kiboko("expect --file draft.yaml", 0), "^[1-9][0-9]* expectations.* 0 broken")

    @unittest.skipUnless(shutil.which("git"), "git is not installed")
    def test_only_what_changed_since_a_revision(self):
        git(self.folder, "init", "-q")
        git(self.folder, "add", "network.yaml", "expectations.yaml", "hosts")
        git(self.folder, "commit", "-qm", "one")
        self.addCleanup(shutil.rmtree, self.folder / ".git")
        line = "expect --file expectations.yaml --changed-since HEAD --json"
        told = json.loads(self.kiboko(line, 0))
        self.assertEqual([], told["rows"])
        self.assertRegex(told["caveats"][0], r"^\d+ expectations say and come to what they did at HEAD: not shown$")
        self.kiboko("apply changes/01-shut-out-the-met-office.yaml --in-place", 0)
        self.addCleanup(self.kiboko, "apply changes/01-shut-out-the-met-office.yaml --undo", 0)
        states = {row["id"]: row["state"] for row in json.loads(self.kiboko(line, 1))["rows"]}
        self.assertEqual({"scanner-shut-out": "held", "relays-not-open": "broken"}, states, "of fewer addresses now")
        # One that spoke of somebody whom there was not is shown, and keeps no other from being held.
        known = (self.folder / "expectations.yaml").read_text()
        self.addCleanup((self.folder / "expectations.yaml").write_text, known)
        git(self.folder, "rm", "-q", "--cached", "expectations.yaml")
        more = '\n  - {id: "to-eve", from: "eve", to: "relays", service: "ssh", expect: "blocked"}\n'
        (self.folder / "expectations.yaml").write_text(known.rstrip() + more)
        git(self.folder, "add", "expectations.yaml")
        git(self.folder, "commit", "-qm", "of somebody to come")
        network = (self.folder / "network.yaml").read_text()
        self.addCleanup((self.folder / "network.yaml").write_text, network)
        (self.folder / "network.yaml").write_text(
            network.replace(
                "instances:\n", "instances:\n  eve: {interfaces: [{subnet: bank-east, addresses: [10.61.4.77]}]}\n", 1
            )
        )
        self.assertIn("to-eve", [row["id"] for row in json.loads(self.kiboko(line, 1))["rows"]])
        self.assertIn("there is no revision 'v7'", self.kiboko(line.replace("HEAD", "v7"), 2))

    def test_a_promise_that_is_broken_for_another_pair_has_changed_though_it_is_for_as_many(self):
        values = base()
        values["filters"] |= {"open": a_filter("instance", inbound=[{"action": "allow", "service": "ssh"}]),
                              "shut": a_filter("instance", inbound=[])}  # fmt: skip
        values["expectations"] = [
            {"id": "shut", "from": "cat", "to": ["ann", "bob"], "service": "ssh", "expect": "blocked"}
        ]
        with tempfile.TemporaryDirectory() as folder:
            for number, guards in enumerate((("open", "shut"), ("shut", "open"))):
                for name, guard in zip(("ann", "bob"), guards, strict=True):
                    values["instances"][name]["interfaces"][0]["filters"] = [guard]
                Path(folder, "network.yaml").write_text(json.dumps(values))
                if not number:
                    git(folder, "init", "-q")
                    git(folder, "add", "network.yaml")
                    git(folder, "commit", "-qm", "one")
                    done = run("expect", "--changed-since", "HEAD", "--json", cwd=folder)
                    self.assertEqual((0, []), (done.returncode, json.loads(done.stdout)["rows"]))
            done = run("expect", "--changed-since", "HEAD", "--json", cwd=folder)
            self.assertEqual((1, ["shut"]), (done.returncode, [row["id"] for row in json.loads(done.stdout)["rows"]]))

    def test_expectations_stand_in_the_network_file_too(self):
        values = base()
        values["expectations"] = [
            {"id": "one", "from": "ann", "to": "bob", "service": "ssh", "expect": "allowed"},
            {
                "id": "two",
                "from": "any",
                "to": "bob",
                "service": ["ssh", "https"],
                "expect": "blocked",
                "except": "ann",
            },
        ]
        (self.folder / "own.yaml").write_text(json.dumps(values))
        self.assertIn("1 held, 1 broken", self.kiboko("expect -n own.yaml", 1))
        self.assertIn("1 held, 0 broken", self.kiboko("expect -n own.yaml --id one", 0))

    def test_a_table_of_wanted_connections(self):
        (self.folder / "wanted.csv").write_text(
            "Nr;Source;Destination;Port;Comment\nR1;duty;gauge-03;ssh;maintenance\nR2;duty;database;postgresql;reports\n"
        )
        text = self.kiboko("expect --table wanted.csv", 1)
        self.assertIn("1 held, 1 broken", text)
        self.assertIn("BROKEN R2  (wanted.csv:3)", text)

    def test_several_in_a_cell_and_lines_of_several_tables(self):
        (self.folder / "one.csv").write_text('from,to,service\n"desk-1, desk-2",gauge-03,"ssh, ping"\n')
        (self.folder / "two.csv").write_text("from;to;service;expect\nmet-office;relay-2;ssh,ping;blocked\n")
        rows = json.loads(self.kiboko("expect --table one.csv --table two.csv --json", 1))["rows"]
        self.assertEqual(
            [("one-line-2", ["desk-1", "desk-2"], 2), ("two-line-2", ["met-office"], 1)],
            [(row["id"], row["from"], row["pairs"]) for row in rows],
        )
        (self.folder / "more").mkdir()
        shutil.copy(self.folder / "one.csv", self.folder / "more/one.csv")
        told = self.kiboko("expect --table one.csv --table more/one.csv", 2)
        self.assertIn("more/one.csv:2: expectation 'one-line-2' is there twice; first in one.csv:2", told)
        self.assertIn("is there twice", self.kiboko("expect --file expectations.yaml --file expectations.yaml", 2))

    def test_a_promise_of_one_family_is_of_that_alone(self):
        """Over IPv6 somebody reached gauge 3, which the rules stop: no word of what was promised of IPv4. It has no
        IPv4 address in common with gauge 4 of the other family."""
        lines = [f"  - {{id: p{family}, from: internet, to: gauge-03, service: telnet, expect: blocked, family: {family}}}\n"
                 for family in (4, 6)]  # fmt: skip
        lines.append(
            "  - {id: gauges, from: desk-1, to: [gauge-03, gauge-07], service: ssh, expect: allowed, family: 6}\n"
        )
        (self.folder / "families.yaml").write_text("kiboko: expectations/1\nexpectations:\n" + "".join(lines))
        ends = "2001:db8:ffff::7", "2001:db8:61:4::13"
        (self.folder / "six.csv").write_text(
            "flowStartMilliseconds,flowEndMilliseconds,sourceIPv6Address,destinationIPv6Address,sourceTransportPort,"
            "destinationTransportPort,protocolIdentifier,tcpControlBits,packetDeltaCount,octetDeltaCount\n"
            f"1795166400000,1795166401000,{','.join(ends)},40000,23,6,27,9,900\n"
            f"1795166400000,1795166401000,{','.join(ends[::-1])},23,40000,6,27,9,900\n"
        )
        rows = json.loads(self.kiboko("expect --file families.yaml --flows six.csv --json", 1))["rows"]
        self.assertEqual([(4, 0), (6, 1)], [(row["family"], row["recorded"]["break"]) for row in rows[:2]])
        self.assertEqual("desk-1, gauge-07 have no IPv6 address", rows[2]["why"])
        self.assertIn(
            "desk-1 to gauge-03, gauge-07 on ssh over IPv6 is allowed", self.kiboko("expect --file families.yaml", 1)
        )

    def test_why_nobody_is_left_whom_a_promise_is_about(self):
        told = {
            "crews, met-office": "both are outside: no gate of this network lies between them",
            "desk-1, desk-1": "they are one machine: what it sends itself passes no gate",
            "gauge-09, desk-1": "gauge-09 has no address",
            "desk-1, '2001:db8::1'": "they have no address family in common",
        }
        lines = [f"  - {{id: p{number}, from: {pair.split(', ')[0]}, to: {pair.split(', ')[1]}, service: ssh, expect: blocked}}\n"
                 for number, pair in enumerate(told)]  # fmt: skip
        (self.folder / "nobody.yaml").write_text("kiboko: expectations/1\nexpectations:\n" + "".join(lines))
        rows = json.loads(self.kiboko("expect --file nobody.yaml --json", 1))["rows"]
        self.assertEqual(list(told.values()), [row["why"] for row in rows])

    def test_of_many_the_first_are_shown_in_full_and_nothing_recorded_is_a_number(self):
        """Thirty promises that nothing keeps, and one that the log keeps and breaks (the scanner's)."""
        lines = [f"  - {{id: p{number}, from: crews, to: relay-1, service: tcp/{5000 + number}, expect: allowed}}\n"
                 for number in range(30)]  # fmt: skip
        scanner = "  - {id: scanner, from: met-office, to: any, service: ssh, expect: blocked}\n"
        (self.folder / "many.yaml").write_text("kiboko: expectations/1\nexpectations:\n" + "".join(lines) + scanner)
        text = self.kiboko("expect --file many.yaml --flows evidence/flows.csv", 1)
        self.assertEqual(20, len(re.findall(r"(?m)^BROKEN p\d+ ", text)))
        self.assertIn("11 more broken; --id ID has one in full", text)
        self.assertRegex(text, r"(?m)^p29 +crews to relay-1 on tcp/5029 is allowed +198.51.100.17 to relay-1")
        self.assertRegex(text, r"(?m)^scanner +broken +breaks it +[1-9]")
        self.assertIn("of 30 others nothing was recorded that tells; --every lists them", text)
        every = self.kiboko("expect --file many.yaml --flows evidence/flows.csv --every", 1)
        self.assertEqual(30, every.count("tells nothing"))

    def test_junit_has_a_case_for_each(self):
        self.kiboko("expect --file expectations.yaml --junit out.xml", 1)
        (suite,) = JUnitXml.fromfile(str(self.folder / "out.xml"))
        self.assertEqual((6, 5), (suite.tests, suite.failures))

    def test_a_draft_of_nothing_is_a_file_of_no_expectations(self):
        bare = "kiboko: 1\nnetworks: {n: {cidrs: [10.0.0.0/16]}}\n"
        for more in ("", "subnets: {s: {network: n, cidr: 10.0.1.0/24}}\n"):  # no name, and no service
            (self.folder / "bare.yaml").write_text(bare + more)
            (self.folder / "draft.yaml").write_text(self.kiboko("expect --draft -n bare.yaml", 0))
            self.assertIn("there is no expectation", self.kiboko("expect --file draft.yaml -n bare.yaml", 2))

    def test_a_draft_holds_today_and_can_be_read_back(self):
        (self.folder / "draft.yaml").write_text(self.kiboko("expect --draft", 0))
        self.assertIn(", 0 broken", self.kiboko("expect --file draft.yaml", 0))

    def test_a_draft_of_very_many_groups_is_of_fewer_names(self):
        values = base()
        values["filters"]["wall"] = a_filter("zone", rules=[{"action": "allow", "service": "ssh"}])
        zone = values["subnets"]["a1"]["zone"]
        values["crossings"] = [{"from": "public", "to": zone, "filter": "wall"}]
        values["groups"] = {f"object-{number}": {"addresses": [f"10.1.1.{number}"]} for number in range(100, 161)}
        (self.folder / "many.json").write_text(json.dumps(values))
        done = run("expect", "--draft", "-n", "many.json", cwd=self.folder)
        self.assertEqual(0, done.returncode, done.stderr)
        self.assertIn("61 groups are more than anybody reads promises of: these are of the 3 subnets", done.stderr)
        self.assertIn('from: "a2", to: "b1", service: ["ssh"], expect: "allowed"', done.stdout)
        self.assertNotIn("object-", done.stdout)
        (self.folder / "draft.yaml").write_text(done.stdout)
        self.assertIn(", 0 broken", self.kiboko("expect --file draft.yaml -n many.json", 0))

    def test_what_is_wrong_is_told_with_its_line_and_nothing_else_is_said(self):
        (self.folder / "bad.yaml").write_text(
            "kiboko: expectations/1\nexpectations:\n"
            "  - {id: a, from: duty, to: gauges, service: sssh, expect: allowed}\n"
            "  - {id: a, from: duty, to: gauges, service: ssh, expect: allowed}\n"
            "  - {id: c, from: duty, to: gauges, service: ssh, expect: permitted}\n"
        )
        (self.folder / "unknown.yaml").write_text(
            "kiboko: expectations/1\nexpectations:\n  - {id: a, from: dutty, to: gages, service: ssh, expect: blocked}\n"
        )
        (self.folder / "empty.yaml").write_text(
            "kiboko: expectations/1\nexpectations:\n"
            "  - {id: a, from: [], to: gauges, service: ssh, expect: blocked}\n"
            "  - {id: b, from: duty, to: gauges, service: [], expect: blocked, family: 5}\n"
        )
        (self.folder / "bad.csv").write_text("who,to,service\na,b,ssh\n")
        (self.folder / "rows.csv").write_text("from,to,service,expect\nduty,,ssh,\nduty,gauges,ssh,permitted\n")
        for line, texts in (
            ("expect", ["there is no expectation", "--draft"]),
            ("expect --file bad.yaml", ["bad.yaml:5", "permitted"]),
            (
                "expect --file unknown.yaml",
                ["unknown.yaml:3: expectation 'a': 'dutty' is neither", "'duty'", "'gauges'"],
            ),
            ("expect --file missing.yaml", ["missing.yaml"]),
            (
                "expect --file empty.yaml",
                [
                    "empty.yaml:3: expectations.1.from: one name or more belongs here, not an empty",
                    "empty.yaml:4: expectations.2.service: one name or more",
                    "'5' is none of 4, 6",
                ],
            ),
            ("expect --file evidence/flows.csv", ["flows.csv"]),
            (
                "expect --file network.yaml",
                ["network.yaml:2: this is a network file, and a file of expectations belongs"],
            ),
            (
                "expect -n expectations.yaml",
                ["expectations.yaml:2: this is a file of expectations, and a network file"],
            ),
            ("apply expectations.yaml", ["expectations.yaml:2: this is a file of expectations, and a change file"]),
            ("flows evidence/flows.csv --columns network.yaml", ["this is a network file, and a mapping file belongs"]),
            ("expect --table bad.csv", ["no column 'from'"]),
            ("expect --table rows.csv", ["rows.csv:2: nothing in to", "rows.csv:3: 'permitted' is none of"]),
            ("expect --file expectations.yaml --id crews-reach", ["did you mean"]),
        ):
            with self.subTest(line):
                told = self.kiboko(line, 2)
                for text in texts:
                    self.assertIn(text, told)
                self.assertNotIn("Traceback", told)
