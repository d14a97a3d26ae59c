"""`compare` and `rehearse` as they are called."""

import copy
import json
import os
import re
import shlex
import shutil

from tests.helpers import OnTheDemo, a_filter, base, git
from tests.helpers import kiboko as run


class Changes(OnTheDemo):
    def test_a_file_and_itself_differ_in_nothing(self):
        text = self.kiboko("compare network.yaml network.yaml", 0)
        self.assertTrue(text.startswith("0 differences in what the files say; no verdict changes."), text)

    def test_rule_sets_of_machines_are_what_they_say_wherever_they_lie(self):
        """In another folder, in a revision, and with other counts; another rule is a difference."""
        where = self.folder / "repository"
        shutil.copytree(self.folder / "hosts", where / "hosts")
        shutil.copy(self.folder / "network.yaml", where)
        (where / "elsewhere.yaml").symlink_to("/etc/hostname")
        (where / "also.yaml").symlink_to("network.yaml")
        for words in ("init -q", "add .", "commit -qm one"):
            git(where, *words.split())
        self.assertIn("0 differences", self.kiboko("compare network.yaml repository/network.yaml", 0))
        same = run("compare", "HEAD:network.yaml", "network.yaml", cwd=where)
        self.assertTrue(same.stdout.startswith("0 differences"), same.stdout)
        told = run("check", "198.51.100.20", "gauge-04", "ssh", "-n", "HEAD:also.yaml", cwd=where)
        self.assertIn("Decided by policy drop of HEAD:hosts/gauge-04.json, inbound", told.stdout)
        gone = run("check", "198.51.100.20", "gauge-04", "ssh", "-n", "HEAD:elsewhere.yaml", cwd=where)
        self.assertEqual((2, "HEAD:elsewhere.yaml: no such network file; name one with --network PATH or KIBOKO_NETWORK"),
                         (gone.returncode, gone.stderr.splitlines()[0]))  # fmt: skip
        if os.geteuid() == 0:
            os.chown(where, 12345, 12345)
            theirs = run("compare", "HEAD:network.yaml", "network.yaml", cwd=where)
            self.assertIn("or Git does not read it: detected dubious ownership", theirs.stderr)
            os.chown(where, 0, 0)
        listing = where / "hosts" / "gauge-04.json"
        listed = json.loads(listing.read_text())
        for packets in (0, 4411):
            listed["nftables"][-1]["rule"]["expr"].insert(0, {"counter": {"packets": packets, "bytes": packets * 60}})
            (where / f"{packets}.json").write_text(json.dumps(listed))
            del listed["nftables"][-1]["rule"]["expr"][0]
            values = (where / "network.yaml").read_text().replace("hosts/gauge-04.json", f"{packets}.json")
            (where / f"after-{packets}.yaml").write_text(values)
        counted = run("compare", "after-0.yaml", "after-4411.yaml", cwd=where).stdout
        self.assertTrue(counted.startswith("0 differences"), counted)
        self.assertIn('"dport"', listing.read_text())
        listing.write_text(listing.read_text().replace('"dport"', '"sport"'))
        other = run("compare", "HEAD:network.yaml", "network.yaml", cwd=where)
        self.assertIn("before  host filter: HEAD:hosts/gauge-04.json\n      now     host filter: hosts/gauge-04.json",
                      other.stdout)  # fmt: skip

    def test_each_line_to_paste_comes_to_the_verdict_that_its_line_says(self):
        rows = json.loads(self.kiboko("compare network.yaml clean/network.yaml --service ssh --json", 1))["rows"]
        self.assertGreater(len(rows), 3)
        for row in rows:
            with self.subTest(row["check"]):
                done = run(*row["check"].split()[1:], f"-{row['family']}", "--json", cwd=self.folder)
                self.assertEqual(row["after"], json.loads(done.stdout)["verdict"])
                old = row["check"].replace(" -n clean/network.yaml", "")
                before = run(*old.split()[1:], f"-{row['family']}", "--json", cwd=self.folder)
                self.assertEqual(row["before"], json.loads(before.stdout)["verdict"])

    def test_many_lines_are_a_table_by_the_rules_that_turn_them(self):
        """Each row's example comes to what the row says in either version, and by the rule that it names in one."""
        text = self.kiboko("compare network.yaml clean/network.yaml", 1)
        closed = text.split("What is closed\n")[1].split("turned by: ")[0].splitlines()
        header, *lines = [re.split(r"  +", line.strip()) for line in closed]
        self.assertEqual(["before and now", "turned by", "from", "to", "on", "example"], header)
        self.assertGreater(len(lines), 8)
        for _, turned, by, *_, example in lines[::3]:
            was, now = re.fullmatch(r"(\S+) → (\S+?)(?:, also IPv6)?", turned).groups()
            asked = [json.loads(run("check", *example.split(), *more, "--json", cwd=self.folder).stdout)
                     for more in ([], ["-n", "clean/network.yaml"])]  # fmt: skip
            self.assertEqual([was, now], [each["verdict"] for each in asked], example)
            rules = {f"{name}/{gate['rule']}" for each in asked
                     for gate in (*each["forward"], *(each["reply"] or ())) for name in gate["filters"]}  # fmt: skip
            named = by.removesuffix(" (reply)").rpartition(": ")[2].split(" → ")
            self.assertTrue(rules & set(named), (named, rules))
        least = self.kiboko("compare network.yaml clean/network.yaml --top 3", 1).split("What is closed\n")[1]
        self.assertIn(f"and {len(lines) - 3} more lines; --top N shows more", least)

    def test_a_change_whose_files_have_awkward_names_is_made_by_what_is_printed(self):
        """Written, rehearsed, looked at again, made and taken back: each line that is printed is pasted as it is."""
        where = self.folder / "a b"
        shutil.copytree(self.folder / "hosts", where / "hosts")
        shutil.copy(self.folder / "network.yaml", where / "my nët $HOME.yaml")
        before = (where / "my nët $HOME.yaml").read_bytes()

        def pasted(text, more=""):
            found = re.search(rf"kiboko ({more}.*)", text)
            self.assertIsNotNone(found, text)
            done = run(*shlex.split(found[1]), cwd=where)
            self.assertIn(done.returncode, (0, 1), done.stderr)
            return done.stdout

        ticket = ("check", "gauge-08", "relay-2", "tcp/9100", "-n", "my nët $HOME.yaml")
        self.assertIn("1 opened", pasted(run(*ticket, "--write-change", "it's.yaml", cwd=where).stdout, "rehearse"))
        change = ("it's.yaml", "-n", "my nët $HOME.yaml")
        kept = run("rehearse", *change, "--service", "tcp/9100", "--save", "mine", "--folder", "k t", cwd=where).stdout
        self.assertIn("ALLOWED", pasted(kept, "check"))
        shutil.copy(self.folder / "evidence" / "flows.csv", where / "PATH")
        self.assertIn("mine: 1 verdict was to change", pasted(kept, "rehearse --after"))
        made = run("apply", *change, "--in-place", cwd=where).stdout
        self.assertNotEqual(before, (where / "my nët $HOME.yaml").read_bytes())
        pasted(made, "apply")
        self.assertEqual(before, (where / "my nët $HOME.yaml").read_bytes())

    def test_what_stops_an_example_at_a_public_address_is_said_of_that(self):
        """A machine that another one may send to at either address: at the public one it is the edge that turns."""
        values = base()
        values["filters"]["far"] = a_filter("subnet", inbound=[{"order": 1, "action": "allow", "from": "10.0.0.0/8"}])
        values["subnets"]["a2"]["filter"] = "far"
        (self.folder / "old.yaml").write_text(json.dumps(values))
        values["filters"]["far"]["inbound"].append({"order": 2, "action": "allow", "from": "203.0.113.0/24"})
        (self.folder / "new.yaml").write_text(json.dumps(values))
        text = self.kiboko("compare old.yaml new.yaml --service ssh -4", 1)
        self.assertRegex(text, r"blocked → allowed: ann, dan.*\n +to +203.0.113.20 \(cat\)\n +on +tcp/22\n"
                               r" +before +stopped by default drop of far, inbound.*, subnet-in at a2")  # fmt: skip

    def test_with_full_every_line_is_shown_with_every_name(self):
        rows = json.loads(self.kiboko("compare network.yaml clean/network.yaml --json", 1))["rows"]
        text = self.kiboko("compare network.yaml clean/network.yaml --full --top 1000", 1)
        shown = re.findall(r"^ +\d+\. (\S+ → \S+?)(, IPv6|, also IPv6)?: ", text, re.M)
        self.assertEqual(len(rows), len(shown) + sum(family == ", also IPv6" for _, family in shown))

    def test_a_rule_switched_off_closes_mends_promises_and_ends_findings(self):
        found = json.loads(self.kiboko(
            "rehearse --toggle bank-edge/inbound/20 --file expectations.yaml --service ssh --json", 1))  # fmt: skip
        self.assertEqual({"closed"}, {row["kind"] for row in found["rows"]})
        turned = {each["id"] for each in found["expectations"] if each["before"] != each["after"]}
        self.assertEqual({"relays-not-open", "scanner-shut-out"}, turned)
        ended = {each["finding"] for each in found["findings"] if each["change"] == "ended"}
        self.assertLessEqual({"open-administration", "contradicted-rule"}, ended)
        for row in found["rows"]:
            self.assertIn("--without bank-edge/inbound/20", row["check"])
            done = run(*row["check"].split()[1:], f"-{row['family']}", "--json", cwd=self.folder)
            self.assertEqual(row["after"], json.loads(done.stdout)["verdict"], row["check"])

    def test_the_mended_network_breaks_nothing(self):
        text = self.kiboko("rehearse clean/network.yaml --file expectations.yaml --top 2", 0)
        self.assertIn("0 broken by it, 5 mended by it", text)

    CHANGE = """kiboko: change/1
name: shut-out
reason: ticket 4411
changes:
  - move_rule: {rule: bank-edge/inbound/30, before: 20}
"""

    def test_what_nobody_asked_for_is_not_told_as_tried(self):
        """The edge of the field sees a gauge knocked at, and answered in its name by somebody whom it never asked."""
        (self.folder / "edge.csv").write_text(
            "flowStartMilliseconds,sourceIPv4Address,destinationIPv4Address,sourceTransportPort,"
            "destinationTransportPort,protocolIdentifier,tcpControlBits,packetDeltaCount,octetDeltaCount\n"
            "2026-11-20 10:00:00,45.1.2.3,203.0.113.17,443,40001,6,18,3,180\n"
            "2026-11-20 10:00:01,203.0.113.17,45.1.2.3,40001,443,6,4,3,120\n"
            "2026-11-20 10:00:02,45.1.2.4,203.0.113.17,40002,23,6,2,1,60\n"
        )
        line = "rehearse --toggle bank-edge/inbound/20 --flows edge.csv"
        text = self.kiboko(line, 1)
        self.assertIn("1 the rules stop before and after.", text)
        self.assertRegex(text, r"1 +1 +internet +gauge-07 +tcp/23")
        self.assertNotIn("tcp/443", text.split("tried all the same")[1].split("Also")[0])
        self.assertIn("of 2 flow records that the rules stop before and after nothing shows that anybody tried", text)
        self.assertEqual(2, json.loads(self.kiboko(line + " --json", 1))["recorded"]["unasked"])

    def test_a_change_file_is_rehearsed_beside_what_was_recorded(self):
        (self.folder / "change.yaml").write_text(self.CHANGE)
        before = (self.folder / "network.yaml").read_bytes()
        line = "rehearse change.yaml --file expectations.yaml --service ssh --flows evidence/flows.csv"
        text = self.kiboko(line, 0)
        self.assertRegex(text, r"\n\+ +15: drop from 192.0.2.0/24\n +20: allow ssh, ping +20: allow ssh, ping\n")
        self.assertIn("mends scanner-shut-out", text)
        self.assertRegex(text, "would newly be stopped\n.*last seen\n +1 +2 +met-office +relay-1 +tcp/22")
        found = json.loads(self.kiboko(line + " --json", 0))
        self.assertEqual([("newly stopped", "met-office", "relay-1", 2)],
                         [(each["turned"], each["source"], each["destination"], each["records"])
                          for each in found["recorded"]["rows"] if each["turned"] == "newly stopped"])  # fmt: skip
        for row in found["rows"]:
            done = run(*row["check"].split()[1:], f"-{row['family']}", "--json", cwd=self.folder)
            self.assertEqual(row["after"], json.loads(done.stdout)["verdict"], row["check"])
        self.assertEqual((self.folder / "network.yaml").read_bytes(), before)

    def test_what_was_to_change_is_held_against_what_was_seen_since(self):
        (self.folder / "change.yaml").write_text(self.CHANGE)
        self.assertIn("No rehearsal is kept", self.kiboko("rehearse --list", 0))
        self.kiboko("rehearse change.yaml --service ssh --save shut-out", 0)
        self.assertRegex(self.kiboko("rehearse --list", 0), "shut-out .*change.yaml .*ticket 4411")
        self.assertIn("is there already", self.kiboko("rehearse change.yaml --save shut-out", 2))
        since = " --since 2026-11-20T10:00:00Z"
        text = self.kiboko("rehearse --after shut-out --flows evidence/flows.csv" + since, 1)
        self.assertRegex(text, "NOT DONE +allowed → blocked: met-office to .*relay")
        self.assertIn("answered", text)
        rows = ["when,src,dst,src_port,dst_port,proto,action,flags"]
        rows += [f"2026-11-2{day}T10:00:00Z,192.0.2.14,203.0.113.101,5000{day},22,tcp,drop,2" for day in (7, 8)]
        (self.folder / "later.csv").write_text("\n".join(rows).replace("when", "start") + "\n")
        found = json.loads(self.kiboko("rehearse --after shut-out --flows later.csv --json" + since, 0))
        self.assertEqual(1, found["summary"]["done"])
        self.assertEqual({"denied": 2}, next(each["seen"] for each in found["rows"] if each["state"] == "done"))
        self.assertIn("by the rules of network.yaml none of these verdicts came about", text)
        self.assertEqual({"allowed"}, {each["now"] for each in found["rows"]})
        self.kiboko("apply change.yaml --in-place", 0)
        made = json.loads(self.kiboko("rehearse --after shut-out --flows later.csv --json" + since, 0))
        self.assertEqual(([], {"blocked"}), (made["caveats"], {each["now"] for each in made["rows"]}))
        for row in made["rows"]:  # each line is one to paste, of the network file as it is by now
            self.assertNotIn("--change", row["check"])
            self.assertIn("BLOCKED", self.kiboko(row["check"].removeprefix("kiboko "), 1))
        self.kiboko("rehearse clean/network.yaml --service ssh --save whole", 0)
        few = self.kiboko("rehearse --after whole --flows later.csv --top 1" + since, 0)
        self.assertRegex(few, "and [0-9]+ more verdicts? not seen; --top N shows more")
        early = self.kiboko("rehearse --after shut-out --flows evidence/flows.csv", 0)
        self.assertIn("nothing was recorded of it", early, "what is older than the rehearsal tells nothing of it")
        (self.folder / "rehearsals" / "bad.json").write_text("{}")
        self.assertIn("no rehearsal that was kept", self.kiboko("rehearse --list", 2))
        kept = json.loads((self.folder / "rehearsals" / "shut-out.json").read_text())
        for key, value, said in (("source", 5, "rows.0.example.source: "), ("family", 5, "rows.0.example.family: ")):
            odd = copy.deepcopy(kept)
            odd["rows"][0]["example"][key] = value
            (self.folder / "rehearsals" / "bad.json").write_text(json.dumps(odd))
            self.assertIn(said, self.kiboko("rehearse --after bad --flows later.csv", 2))
        self.assertIn("there is no such rehearsal", self.kiboko("rehearse --after nothing --flows later.csv", 2))

    def test_questions_that_mean_nothing_are_refused(self):
        for line, text in (
            ("rehearse", "say what is to change"),
            ("rehearse --after x", "give --flows, --probes, or both"),
            ("rehearse clean/network.yaml --list", "leave out the change"),
            ("rehearse clean/network.yaml --reason x", "--reason goes with --save"),
            (
                "check desk-1 database ssh --change network.yaml",
                "this is a network file, and a change file belongs here",
            ),
            ("rehearse clean/network.yaml --toggle bank-edge/20", "say what is to change"),
            ("apply missing.yaml", "missing.yaml: no such change file"),
            ("check desk-1 database ssh --change missing.yaml", "missing.yaml: no such change file"),
            ("rehearse missing.yaml", "missing.yaml: no such change file, and no network file as it is to be"),
            ("rehearse --toggle bank-egde/20", "did you mean 'bank-edge'"),
            ("rehearse --toggle bank-edge/99", "has no rule '99'"),
            ("compare network.yaml missing.yaml", "no such network file"),
            ("rehearse changes/02-close-relays.yaml", "did you mean 'changes/02-close-the-relays.yaml'?"),
            ("check desk-1 database ssh --change changs/10-tidy-up.yaml", "did you mean 'changes'?"),
            ("check desk-1 database ssh --flows evidence/flow.csv", "did you mean 'evidence/flows.csv'"),
            ("compare network.yaml netwrok.yaml", "no such network file; did you mean 'network.yaml'?"),
            ("expect --file expectation.yaml", "did you mean 'expectations.yaml'?"),
            ("compare network.yaml evidence/flows.csv", "flows.csv"),
            ("compare network.yaml clean/network.yaml --service sssh", "'sssh' is not defined"),
        ):
            with self.subTest(line):
                told = self.kiboko(line, 2)
                self.assertIn(text, told)
                self.assertNotIn("Traceback", told)
