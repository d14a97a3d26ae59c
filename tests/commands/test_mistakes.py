"""Command lines of somebody who is tired: each says what is wrong and where to look, with status 2."""

import json
import re
import shutil
import subprocess
import sys
import unittest

from tests.helpers import OnTheDemo, kiboko


class Mistakes(OnTheDemo):
    def test_what_a_command_has_no_place_for_is_told_with_what_may_have_been_meant(self):
        for line, said in (
            ("chekc desk-1 desk-2 ssh", "there is no command 'chekc'; did you mean 'check'? kiboko --help lists them"),
            ("matrix --services ssh", "matrix has no option '--services'; did you mean '--service'? kiboko matrix --help"),
            ("rehearse --xyz=3", "rehearse has no option '--xyz'; kiboko rehearse --help lists what there is"),
            ("check desk-1 desk-2 ssh dns", "'dns' is a word too many for check; kiboko check --help"),
            ("confirm evidence/flows.csv", "'evidence/flows.csv' is a word too many for confirm; a file is named by its"
             " option: --probes, --flows,"),
            ("check --flows evidence/flows.csv network.yaml desk-1 desk-2 ssh", "or all by a pattern in quotes: --flows"
             " 'logs/*.csv'; kiboko check --help"),
            ("-n network.yaml check desk-1 desk-2 ssh", "options stand behind the command: kiboko check … -n"),
        ):  # fmt: skip
            with self.subTest(line):
                self.refused(line, said)

    def test_an_empty_word_is_no_name_of_the_folder_that_one_is_in(self):
        """Which is what a path of nothing stands for: `-n "$NETWORK"` where there is no such variable."""
        for line, said in ((["confirm", "--flows", ""], "behind 'kiboko confirm --flows'"), ([""], "behind 'kiboko'"),
                           (["check", "desk-1", "desk-2", "ssh", "--network="], "behind 'kiboko check desk-1 desk-2 ssh --network='"),
                           (["compare", "", "network.yaml"], "behind 'kiboko compare'; is it a variable")):  # fmt: skip
            with self.subTest(line):
                done = kiboko(*line, cwd=self.folder)
                self.assertEqual((done.returncode, done.stdout), (2, ""))
                self.assertIn(f"an empty word {said}", done.stderr)

    def test_an_ipv4_address_as_programs_write_it_that_take_both_families_is_itself(self):
        """RFC 4291, section 2.5.5.2: no packet has such an address."""
        plain = self.kiboko("check 10.61.4.14 ingest-1 telemetry", 1)
        mapped = self.kiboko("check ::ffff:10.61.4.14 ingest-1 telemetry", 1)
        self.assertIn("10.61.4.14", plain)
        self.assertEqual(mapped.split("\n", 2)[1:], plain.split("\n", 2)[1:])
        self.assertIn("gauge-04", self.kiboko("show ::ffff:a3d:40e", 0))
        network = (self.folder / "network.yaml").read_text()
        (self.folder / "odd.yaml").write_text(network.replace("from: 192.0.2.0/24", 'from: "::ffff:192.0.2.0/120"'))
        self.refused("check gauge-04 ingest-1 telemetry -n odd.yaml",
                     "'::ffff:192.0.2.0/120' is IPv4 written as IPv6 (RFC 4291, section 2.5.5.2); write 192.0.2.0/24")  # fmt: skip

    def test_ends_and_services_as_others_write_them_are_told_how_they_are_written_here(self):
        for ends, said in (
            ("GAUGE-04 ingest-1 ssh", "did you mean 'gauge-04'"), ("all ingest-1 ssh", "did you mean 'any'?"),
            ("10.61.4.14:22 ingest-1 ssh", "an address stands by itself, and its port is in the service: tcp/22"),
            ("[2001:db8::1]:53 ingest-1 ssh", "its port is in the service: tcp/53"),
            ("gauge-04/eth1 ingest-1 ssh", "gauge-04 has no interface 'eth1'; it has eth0"),
            ("https://10.61.4.14/ ingest-1 ssh", "is neither an address nor a name of the network"),
            ("gauge-04 ingest-1 gre", "did you mean 'proto/47'?"), ("gauge-04 ingest-1 icmpv6", "did you mean 'icmp6'?"),
            ("gauge-04 ingest-1 udp/*", "did you mean 'udp'?"), ("gauge-04 ingest-1 ip", "did you mean 'any'?"),
            ("gauge-04 ingest-1 icmp/echo", "did you mean 'icmp/echo-request'?"),
            ("gauge-04 ingest-1 tcp/https", "did you mean 'https'?"), ("gauge-04 ingest-1 dns/udp", "did you mean 'dns'?"),
        ):  # fmt: skip
            with self.subTest(ends):
                self.refused(f"check {ends}", said)

    def test_a_network_file_of_a_later_time_than_its_evidence_is_told_in_the_first_line(self):
        """By a year that was mistyped every leak is older than the network file, and none of them one."""
        text = (self.folder / "network.yaml").read_text()
        self.assertIn("as_of: 2026-", text)
        (self.folder / "later.yaml").write_text(text.replace("as_of: 2026-", "as_of: 2027-"))
        first, *rest = self.kiboko(
            "confirm -n later.yaml --flows evidence/flows.csv --probes evidence/probes.jsonl", 0
        ).splitlines()
        self.assertRegex(
            first, r"^AGREE: no leak and no break in 457 records; 21 that disagree are older than the network"
        )
        told = "\n".join(rest)
        self.assertIn("probed before the time that the network file tells of", told)
        self.assertNotIn("a leak", told)

    def test_a_time_without_a_zone_is_told_how_to_write_it_and_that_is_taken(self):
        text = (self.folder / "network.yaml").read_text()
        for written, wanted in (("2026-11-20", "2026-11-20T00:00:00Z"), ("2026-11-20T09", "2026-11-20T09:00:00Z"),
                                ("2026-11-20 09:30:00", "2026-11-20T09:30:00Z")):  # fmt: skip
            with self.subTest(written):
                for when in (written, wanted):
                    (self.folder / "dated.yaml").write_text(re.sub("as_of: .*", f"as_of: {when}", text))
                    if when == written:
                        self.refused("show desk-1 -n dated.yaml", f"no time zone; write it as {wanted} if")
                self.kiboko("show desk-1 -n dated.yaml", 0)

    def test_options_that_make_something_of_a_change_are_told_of_only_where_there_is_one(self):
        """No address of a subnet that there is not can be opened by an edit."""
        told = self.kiboko("check desk-1 10.61.200.9 ssh", 1)
        self.assertIn("no change of the network file is known", told)
        self.assertNotIn("--write-change", told)
        self.assertIn("--write-change", self.kiboko("check desk-1 forecast-2 forecast-api", 1))

    def test_how_many_rows_could_not_be_read_is_told_in_the_first_line(self):
        log = (self.folder / "evidence" / "flows.csv").read_text().splitlines(keepends=True)
        torn = "".join(line.replace(",6,", ",x,") for line in log[4:9])
        number = torn.count(",x,")
        self.assertGreater(number, 3)
        (self.folder / "odd.csv").write_text("".join([*log, torn]))
        told = self.kiboko("confirm --flows odd.csv", 1).splitlines()[0]
        self.assertRegex(told, rf"^DISAGREE: 16 leaks in [\d,]+ records; {number} rows could not be read\.$")
        self.assertEqual(json.loads(self.kiboko("confirm --flows odd.csv --json", 1))["summary"]["rejected"], number)
        self.assertNotIn("could not be read", self.kiboko("confirm --flows evidence/flows.csv", 1).splitlines()[0])

    def test_a_column_that_is_not_read_is_told_by_its_name(self):
        """A mistyped header takes what it says away: here the times, beside a network file that says of when it is."""
        log = (self.folder / "evidence" / "flows.csv").read_text()
        self.assertNotIn("not read", self.kiboko("confirm --flows evidence/flows.csv", 1))
        (self.folder / "typo.csv").write_text(log.replace("flowStartMilliseconds", "flowStartMiliseconds", 1))
        told = self.kiboko("confirm --flows typo.csv", 1)
        self.assertTrue(
            told.startswith("NOT KNOWN: 20 records of 443 disagree, and do not say when they began"), told[:200]
        )
        one = "1 column is not read: flowStartMiliseconds (did you mean 'flowStartMilliseconds'?)"
        self.assertIn(f"- typo.csv: {one}\n", told)
        self.assertIn(f"- typo.csv: {one}\n", self.kiboko("flows typo.csv", 0))
        names = log.partition("\n")[0].split(",")
        rows = [dict(zip([*names, "colour"], [*row.split(","), "red"], strict=True)) for row in log.splitlines()[1:]]
        for each in range(3):
            (self.folder / f"more-{each}.jsonl").write_text("".join(json.dumps(rows[each]) + "\n"))
        told = self.kiboko("flows more-0.jsonl more-1.jsonl more-2.jsonl", 0)
        self.assertIn("- more-0.jsonl and 2 more files: 1 column is not read: colour\n", told)

    def test_what_is_written_takes_the_place_of_nothing_but_its_own_kind(self):
        """Each of these destroyed what it named: the log that was read, the network file, the promises, the evidence."""
        for name in (
            "network.yaml",
            "expectations.yaml",
            "hosts/gauge-04.json",
            "evidence/flows.csv",
            "evidence/probes.jsonl",
        ):
            self.assertTrue((self.folder / name).exists())
        before = {path: path.read_bytes() for path in self.folder.rglob("*") if path.is_file()}
        for line, said in (
            ("flows evidence/flows.csv --service ssh --export evidence/flows.csv", "it is read, and would be gone"),
            ("flows evidence/flows.csv --export ./evidence/../evidence/flows.csv", "it is read, and would be gone"),
            ("matrix --by group --csv network.yaml", "another file of this name, which would be gone"),
            ("audit --sarif hosts/gauge-04.json", "another file of this name, which would be gone"),
            ("expect --file expectations.yaml --junit expectations.yaml", "another file of this name, which would be gone"),
            ("probe 127.0.0.1 tcp/9 --record evidence/flows.csv", "it has no probe records"),
            ("probe 127.0.0.1 tcp/9 --record network.yaml", "it has no probe records"),
            ("replica verify --most 2 --record evidence", "evidence/probes.jsonl is there already"),
            ("collect network.yaml", "it is a file; records are kept in a folder"),
            ("collect store --tls-port 6514", "--tls-port goes with --certificate"),
        ):  # fmt: skip
            with self.subTest(line):
                self.assertIn(said, self.kiboko(line, 2))
        after = {path: path.read_bytes() for path in self.folder.rglob("*") if path.is_file()}
        self.assertEqual(before, after)
        for line in ("matrix --by group --csv m.csv", "audit --sarif a.sarif", "expect --file expectations.yaml --junit j.xml",
                     "flows evidence/flows.csv --export out.csv", "flows evidence/flows.csv --plot p.svg"):  # fmt: skip
            for _ in range(2):  # what is of its own kind is written anew
                self.assertNotEqual(2, kiboko(*line.split(), cwd=self.folder).returncode, line)

    def test_a_command_line_that_is_not_whole_is_told_in_one_line(self):
        for line, said in (
            ("", "kiboko: missing: COMMAND; kiboko --help lists what there is"),
            ("replica at", "kiboko replica at: missing: NAME; kiboko replica at --help lists what there is"),
            ("check", "kiboko check: missing: FROM, TO, SERVICE; kiboko check --help lists what there is"),
            ("check desk-1 bulletin:443", "kiboko check: missing: SERVICE; kiboko check --help lists what there is;"
             " a port goes into the service: bulletin tcp/443"),
            ("check desk-1 https://[2001:db8::1]:8443/", "kiboko check: missing: SERVICE; kiboko check --help lists what"
             " there is; a port goes into the service: 2001:db8::1 tcp/8443"),
            ("flows evidence/flows.csv --outcome blocked", "kiboko flows: --outcome: 'blocked' is none of seen, passed,"
             " denied; did you mean 'denied'? kiboko flows --help lists what there is"),
            ("replica bild", "kiboko replica: ACTION: 'bild' is none of verify, build, at, remove; did you mean 'build'?"
             " kiboko replica --help lists what there is"),
        ):  # fmt: skip
            done = kiboko(*line.split(), cwd=self.folder)
            self.assertEqual((2, "", said + "\n"), (done.returncode, done.stdout, done.stderr))

    def test_standard_input_is_a_log_or_probes_for_a_dash(self):
        for option, name in (("--flows", "flows.csv"), ("--probes", "probes.jsonl")):
            given = (self.folder / "evidence" / name).read_text()
            done = kiboko("confirm", option, "-", cwd=self.folder, stdin=given)
            self.assertEqual(done.stdout, self.kiboko(f"confirm {option} evidence/{name}", 1))
        done = kiboko("confirm", "--flows", "-", cwd=self.folder, stdin="")
        self.assertEqual((2, ""), (done.returncode, done.stdout))
        self.assertIn("standard input:1: the file is empty", done.stderr)

    @unittest.skipUnless(shutil.which("bash"), "bash is not installed")
    def test_what_a_shell_hands_over_as_a_pipe_is_named_as_it_was_given(self):
        def run(line):
            command = line.replace("KIBOKO", f"{sys.executable} -m kiboko")
            return subprocess.run(["bash", "-c", command], capture_output=True, text=True, cwd=self.folder, check=False)

        done = run("KIBOKO flows <(sed 's/^.*/x&/;1s/^x//' evidence/flows.csv)")
        self.assertRegex(done.stderr, "^/dev/fd/[0-9]+: no record could be read")
        for more in ("", " --json"):
            done = run(f"KIBOKO confirm --flows <(sed '3s/,/,x/' evidence/flows.csv){more}")
            self.assertRegex(done.stdout, "/dev/fd/[0-9]+: 1 row rejected")
            self.assertNotIn("/kiboko-", done.stdout)

    def test_an_option_without_effect_is_refused_since_whoever_gives_it_expects_one(self):
        flows, probes = "--flows evidence/flows.csv", "--probes evidence/probes.jsonl"
        for line, said in (
            ("check desk-1 gauge-03 ssh --since 2026-11-20", "--since is about evidence: give --flows"),
            ("check desk-1 gauge-03 ssh --expectations expectations.yaml", "it goes with --fixes or --stop"),
            ("audit --until 2026-11-20", "--until is about evidence"),
            (f"confirm {flows} --since 2026-11-21 --until 2026-11-20", "is not before --until 2026-11-20: nothing lies"),
            (f"audit --kinds {probes}", "leave out --probes"),
            ("audit --kinds --json", "leave out --json"),
            (f"expect --draft {probes}", "leave out --probes"),
            ("expect --draft --junit out.xml", "leave out --junit"),
            ("expect --draft --changed-since HEAD", "leave out --changed-since"),
            (f"rehearse --list {flows}", "leave out --flows"),
            ("matrix --csv - --json", "both go to standard output"),
            ("flows evidence/flows.csv --guess --export out.csv", "leave out --export"),
            ("flows evidence/flows.csv --guess --source desk-1", "leave out --source"),
            ("flows evidence/flows.csv --rules --rule bank-edge/20", "leave out --rule"),
            ("flows evidence/flows.csv --rules-of bank-edge --export out.csv", "leave out --export"),
            ("flows evidence/flows.csv --raw", "--raw goes with --export"),
            ("flows evidence/flows.csv --counters relay-2=x.json", "--counters goes with --rules"),
        ):  # fmt: skip
            with self.subTest(line):
                self.refused(line, said)
        self.assertEqual([], [name for name in ("out.csv", "out.xml") if (self.folder / name).exists()])

    def test_what_the_shell_makes_of_a_pattern_is_several_files_of_one_option(self):
        logs = sorted(f"logs/{name}.csv" for name in ("a", "b"))
        (self.folder / "logs").mkdir()
        header, *rows = (self.folder / "evidence/flows.csv").read_text().splitlines(keepends=True)
        for name, part in zip(logs, (rows[:200], rows[200:]), strict=True):
            (self.folder / name).write_text(header + "".join(part))
        for command, status in (("confirm", 1), ("audit", 1), ("expect --file expectations.yaml", 1)):
            by_one, by_each = " ".join(logs), " --flows ".join(logs)
            with self.subTest(command):
                several = self.kiboko(f"{command} --flows {by_one} --probes evidence/probes.jsonl", status)
                told = self.kiboko(f"{command} --flows {by_each} --probes evidence/probes.jsonl", status)
                self.assertEqual(told, several)
                self.assertNotEqual(told, self.kiboko(f"{command} --flows {logs[0]}", status))

    def test_a_network_file_may_be_what_another_program_writes(self):
        """As `-n <(sed … network.yaml)` has it: it can be read once, and lies in no folder."""
        asked = "check desk-1 forecast-1 forecast-api"
        made = kiboko(*asked.split(), "-n", "/dev/stdin", cwd=self.folder,
                      stdin=(self.folder / "network.yaml").read_text().replace("action: drop", "action: allow"))  # fmt: skip
        self.assertEqual((made.returncode, made.stdout[:7]), (0, "ALLOWED"), made.stderr)
        self.assertIn("BLOCKED", self.kiboko(asked, 1))
        made = kiboko("rehearse", "changes/01-shut-out-the-met-office.yaml", "-n", "/dev/stdin", cwd=self.folder,
                      stdin=(self.folder / "network.yaml").read_text())  # fmt: skip
        self.assertIn("can be read once; if it is read again here, put it into a file", made.stderr)
        self.refused(f"{asked} -n -", "standard input is /dev/stdin")

    def test_times_asked_for_hold_for_probes_as_well(self):
        words = "--probes evidence/probes.jsonl --since 2026-11-20T10:05:10Z"
        later = self.kiboko(f"confirm {words} --until 2026-11-20T10:05:11Z", 1)
        self.assertIn("DISAGREE: 1 leak in 1 record.", later)
        self.assertIn("13 probes are not of the time asked for, and left out", later)
        none = self.kiboko("confirm --probes evidence/probes.jsonl --since 2026-11-21", 1)
        self.assertIn("NOT KNOWN", none.splitlines()[0])
        ticket = self.kiboko("check gauge-08 relay-2 tcp/9100 --probes evidence/probes.jsonl --since 2026-11-21", 1)
        self.assertIn("Nothing of it was recorded: 0 probes looked through", ticket)
        self.assertIn("14 probes are not of the time asked for", ticket)
        self.refused("confirm --probes evidence/probes.jsonl --since yesterday", "'yesterday' is no time")

    def test_no_lines_at_all_are_refused_by_every_command_that_shows_some(self):
        """None would look as if there were nothing."""
        for line in ("check gauges any any", "reach --out gauges", "matrix --by subnet", "flows evidence/flows.csv",
                     "confirm --flows evidence/flows.csv", "compare network.yaml clean/network.yaml"):  # fmt: skip
            with self.subTest(line):
                self.refused(f"{line} --top 0", "--top: at least one line is shown")
        self.refused("reach gauges --top many", "--top: 'many' is no number of lines")

    def test_an_address_of_no_one_machine_is_no_end_of_any_question(self):
        """Nothing is delivered to it, so that nothing would be promised or reached."""
        (self.folder / "odd.yaml").write_text(
            "kiboko: expectations/1\nexpectations:\n"
            "  - {id: odd, from: desks, to: 10.61.4.255, service: ssh, expect: allowed}\n"
        )
        for line in ("check desk-1 10.61.4.255 ssh", "route desk-1 10.61.4.255", "reach 10.61.4.255",
                     "reach --out 10.61.4.255", "matrix --by gauges,10.61.4.255", "expect --file odd.yaml"):  # fmt: skip
            with self.subTest(line):
                self.refused(line, "10.61.4.255 is broadcast in subnet bank-east: no router of this network delivers")
        self.refused("reach 127.0.0.1", "127.0.0.1 is loopback")

    def test_of_a_network_file_that_is_none_it_is_said_what_is_wrong_with_it_whatever_was_to_be_changed(self):
        change = next(iter(sorted((self.folder / "changes").glob("*.yaml"))))
        for text, said in (('{"a": 1}\n{"b": 2}\n', "odd.yaml:2:"), ("- 1\n- 2\n", "odd.yaml:1:"),
                           ("kiboko: 1\nfilters: [\n", "odd.yaml")):  # fmt: skip
            (self.folder / "odd.yaml").write_text(text)
            for line in (f"apply changes/{change.name} --diff", f"rehearse changes/{change.name}"):
                with self.subTest(line, text=text):
                    self.refused(f"{line} -n odd.yaml", said)

    def test_a_log_with_other_columns_or_other_words_is_refused_with_what_reads_it(self):
        """And that does: what is proposed needs no change to be read by."""
        for name, text, said in (
            ("columns.csv", "from,to,kind,dport\n10.61.4.14,10.62.1.11,tcp,443\n", "column 'sourceIPv4Address' is missing"),
            ("words.csv", "src,dst,proto,dport,action\n" + "10.61.4.14,10.62.1.11,tcp,443,closing\n" * 3, "'closing' cannot be read"),
        ):  # fmt: skip
            with self.subTest(name):
                (self.folder / name).write_text(text)
                done = kiboko("confirm", "--flows", name, cwd=self.folder)
                self.assertEqual((done.returncode, done.stderr.count("flows --guess proposes a mapping file")), (2, 1))
                self.assertIn(said, done.stderr)
        (self.folder / "words.yaml").write_text(self.kiboko("flows words.csv --guess", 0))
        self.assertIn("3 records", self.kiboko("flows words.csv --columns words.yaml", 0))

    def test_a_name_of_a_command_may_be_that_of_an_end(self):
        self.refused("check show desk-1 ssh", "'show' is neither an address nor a name of the network")


if __name__ == "__main__":
    unittest.main()
