"""`check` on sets of many outcomes: a line for each of the first, every verdict among them, nothing left out in silence."""

import json
import re
import tempfile
import unittest
from pathlib import Path

from tests.helpers import OnTheDemo, a_filter, base, kiboko


def tills(count=30):
    """Machines of one subnet behind filters of their own: two let ssh in, of all others nothing gets through."""
    values = base()
    for number in range(count):
        inbound = [{"action": "allow", "service": "ssh"}] if number in (4, 7) else []
        values["filters"][f"own-{number}"] = a_filter("instance", inbound=inbound)
        values["instances"][f"till-{number}"] = {
            "tags": {"role": "till"}, "listens": ["ssh"],
            "interfaces": [{"subnet": "b1", "addresses": [f"10.2.1.{100 + number}"], "filters": [f"own-{number}"]}],
        }  # fmt: skip
    values["groups"]["tills"] = {"where": {"role": "till"}}
    return values


class ManyOutcomes(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def asked(self, values, *words):
        (self.folder / "network.yaml").write_text(json.dumps(values))
        done = kiboko("check", *words, cwd=self.folder)
        self.assertEqual("", done.stderr)
        return done.stdout

    def lines(self, text):
        """The lines of the table."""
        return [line.split() for line in text.splitlines() if re.match(r" ?\d+  ", line)]

    def test_each_verdict_is_among_the_first_lines_and_what_is_left_out_is_counted(self):
        """29 outcomes of machines, and as many of the addresses in a1 where nobody is recorded: of each one is allowed,
        and 28 tills stop ssh by default, each by its own filter."""
        text = self.asked(tills(), "a1", "tills", "ssh", "-4")
        self.assertIn("58 distinct outcomes: 56 blocked, 2 allowed.", text)
        self.assertEqual(["allowed,"] * 2 + ["blocked,"] * 18, [line[1] for line in self.lines(text)])
        self.assertIn("252 unrecorded addresses", text)
        self.assertIn("and 38 more outcomes: 38 blocked; --top N shows more", text)

    def test_top_only_and_full(self):
        text = self.asked(tills(), "bob", "tills", "ssh")
        self.assertIn("29 distinct outcomes: 28 blocked, 1 allowed.", text)
        lines = self.lines(text)
        self.assertEqual(20, len(lines))
        self.assertEqual(["1", "allowed,", "answered", "bob"], lines[0][:4], "the exception comes first")
        self.assertIn("tills (2 of 30)", text)
        self.assertIn("own-0/otherwise (instance-in)", text)
        self.assertIn("and 9 more outcomes: 9 blocked; --top N shows more", text)
        self.assertEqual(5, len(self.lines(self.asked(tills(), "bob", "tills", "ssh", "--top", "5"))))
        whole = self.asked(tills(), "bob", "tills", "ssh", "--full")
        self.assertEqual(29, len(re.findall(r"^\d+\. ", whole, re.MULTILINE)))
        only = self.asked(tills(), "bob", "tills", "ssh", "--only", "allowed")
        self.assertIn("1. allowed, answered: 1 instance to 2 instances\n", only)
        self.assertEqual(2, kiboko("check", "bob", "tills", "ssh", "--top", "0", cwd=self.folder).returncode)

    def test_the_line_to_paste_comes_to_what_the_first_line_says(self):
        text = self.asked(tills(), "bob", "tills", "ssh")
        pasted = next(line for line in text.splitlines() if line.startswith("to see one: kiboko check ")).split()[4:]
        self.assertEqual(["bob", "till-4", "tcp/22"], pasted[1:])
        self.assertTrue(self.asked(tills(), *pasted[1:]).startswith("ALLOWED: bob"))

    def test_outcomes_that_differ_in_names_alone_are_one_line_that_says_of_how_many(self):
        """Ten networks, each with a default route to its own door: none leads to a private block of another. To that
        of the first there is a peering."""
        values = base()
        values["filters"] |= {f"f{number}": a_filter("subnet", inbound=[]) for number in range(8)}
        for number in range(3, 13):
            name, block = f"n{number}", f"10.{number}.1.0/24"
            values["networks"][name] = {"cidrs": [block]}
            values["gateways"][f"door{number}"] = {"kind": "internet", "network": name}
            values["route_tables"][f"t{number}"] = [{"to": "0.0.0.0/0", "via": f"door{number}"}]
            values["subnets"][f"s{number}"] = {"network": name, "cidr": block, "route_table": f"t{number}"}
            values["instances"][f"m{number}"] = {
                "tags": {"role": "far"}, "interfaces": [{"subnet": f"s{number}", "addresses": [f"10.{number}.1.10"]}],
            }  # fmt: skip
        values["groups"]["far"] = {"where": {"role": "far"}}
        text = self.asked(values, "far", "far", "ssh")
        self.assertIn("BLOCKED: far (10 instances) to far (10 instances) on ssh: 10 distinct outcomes.", text)
        self.assertIn("1. blocked, silent: 10 instances to 10 instances (10 outcomes)", text)
        self.assertIn("by       route: the gateway of the route does not take it there", text)
        self.assertNotIn("\n2. ", text)
        rows = json.loads(self.asked(values, "far", "far", "ssh", "--json"))["rows"]
        self.assertEqual(10, len(rows), "a machine has them all")
        self.assertEqual({f"0.0.0.0/0 via door{number}: door{number} does not lead to private blocks"
                          for number in range(3, 13)}, {row["reason"] for row in rows})  # fmt: skip
        one = self.asked(values, "m3", "m4", "ssh")
        self.assertIn("door3 does not lead to a private block of n4", one)

    def test_what_probes_and_log_both_speak_of_is_told_by_conclusion_where_it_is_much(self):
        """bob asks forty tills for ssh: two let it in, a third does so against the rules, the others are silent."""
        (self.folder / "network.yaml").write_text(json.dumps(tills(40)))
        probes, flows = [], ["start,end,src,dst,proto,src_port,dst_port,packets,octets,action"]
        for number in range(40):
            address, passes = f"10.2.1.{100 + number}", number in (4, 7, 9)
            probes.append({"kiboko": "probe/1", "time": "2026-11-20T10:00:00Z", "from": "bob", "to": f"till-{number}",
                           "address": address, "service": "tcp/22", "source_port": 40000 + number,
                           "outcome": "answered" if passes else "silent", "attempts": 1, "redirected": False})  # fmt: skip
            flows.append(f"2026-11-20T10:00:00Z,2026-11-20T10:00:01Z,10.1.1.11,{address},tcp,{40000 + number},22,1,60,"
                         + ("passed" if passes else "denied"))  # fmt: skip
        (self.folder / "probes.jsonl").write_text("\n".join(map(json.dumps, probes)) + "\n")
        (self.folder / "flows.csv").write_text("\n".join(flows) + "\n")
        words = ("confirm", "--probes", "probes.jsonl", "--flows", "flows.csv")
        told = kiboko(*words, cwd=self.folder).stdout
        lines = [
            re.split(r"  +", line.strip()) for line in told.partition("both kinds of evidence\n")[2].splitlines()[1:5]
        ]
        self.assertEqual(lines, [
            ["1", "blocked, silent", "answered", "passed",
             "the probe was answered: a leak; the log has it on its way where it was taken", "bob to till-9, tcp/22"],
            ["37", "blocked, silent", "silent 37", "denied 37", "all three agree: it is stopped", "bob to till-0, tcp/22"],
            ["2", "allowed", "answered 2", "passed 2", "all three agree: it works", "bob to till-4, tcp/22"],
            ["40 pairs and services in all; --by pair lists each of them"],
        ])  # fmt: skip
        by_pair = kiboko(*words, "--by", "pair", cwd=self.folder).stdout
        self.assertEqual(40, len(re.findall(r"(?m)^bob +till-\d+ .*(?:all three agree|a leak)", by_pair)))

    def test_a_reach_of_many_lines_is_a_table_with_the_rules_that_tell_most(self):
        """Each of 12 tills lets in one port of its own, from bob alone, and nothing stops bob at ann, cat and dan; that
        his own filter lets him out tells less."""
        values = base()
        values["filters"]["out"] = a_filter("instance", outbound=[{"action": "allow"}])
        values["instances"]["bob"]["interfaces"][0]["filters"] = ["out"]
        for number in range(12):
            inbound = [{"id": "till", "action": "allow", "from": "bob", "service": f"tcp/{9000 + number}"}]
            values["filters"][f"own-{number}"] = a_filter("instance", inbound=inbound)
            interface = {"subnet": "b1", "addresses": [f"10.2.1.{100 + number}"], "filters": [f"own-{number}"]}
            values["instances"][f"till-{number}"] = {"interfaces": [interface], "listens": [f"tcp/{9000 + number}"]}
        (self.folder / "network.yaml").write_text(json.dumps(values))
        asked = ("reach", "--out", "bob", "--service", "tcp/9000-9999", "--only", "recorded")
        done = kiboko(*asked, cwd=self.folder)
        lines = [line.split() for line in done.stdout.splitlines()]
        self.assertEqual("", done.stderr)
        mine = next(line for line in lines if "own-3/till" in line)
        self.assertEqual("4 allowed ann, cat, dan and 1 more tcp/9003 own-3/till (instance-in), out/1 (instance-out)"
                         " bob ann tcp/9003", " ".join(mine))  # fmt: skip
        self.assertNotIn("let in by instance-out", done.stdout)
        self.assertIn("let in by instance-out: out/1 (network.yaml:", kiboko(*asked, "--full", cwd=self.folder).stdout)
        few = kiboko(*asked, "--top", "3", cwd=self.folder).stdout
        self.assertRegex(
            few, r"and \d+ more lines of [\d,]+ pairs; --top N shows more, --full all their rules, --json all"
        )

    def test_a_table_wider_than_a_screen_is_summed_up_by_name(self):
        """Of 45 subnets with a machine each nothing gets to the first one: it gets to the 44 others, and each of these
        to 43."""
        values = base()
        values["filters"]["shut"] = a_filter("instance", inbound=[])
        for number in range(45):
            values["subnets"][f"s{number}"] = {"network": "south", "cidr": f"10.2.{100 + number}.0/24"}
            interface = {"subnet": f"s{number}", "addresses": [f"10.2.{100 + number}.10"]}
            values["instances"][f"m{number}"] = {"interfaces": [interface | ({} if number else {"filters": ["shut"]})]}
        names = ",".join(f"s{number}" for number in range(45))
        (self.folder / "network.yaml").write_text(json.dumps(values))
        done = kiboko("matrix", "--by", names, "--service", "ssh", "--csv", "cells.csv", cwd=self.folder)
        self.assertEqual(0, done.returncode, done.stderr)
        lines = [line.split() for line in done.stdout.splitlines()]
        self.assertIn(["s0", "44", "0", "0", "0"], lines)
        self.assertIn(["s19", "43", "0", "44", "0"], lines)
        self.assertIn("and 25 more names that get to no more than these", done.stdout)
        self.assertNotIn("from \\ to", done.stdout)
        self.assertEqual(1 + 45 * 45, len((self.folder / "cells.csv").read_text().splitlines()))


class Names(OnTheDemo):
    def test_an_outside_is_called_by_its_name_and_not_by_what_is_left_of_it(self):
        """All of the internet comes to one outcome at the bulletin; at the gauges' ssh the crews come to another."""
        for question, told in (
            ("internet bulletin https", "internet"),
            ("internet gauges ssh", "met-office, the rest of internet"),
            ("bank-east ingest-1 telemetry", "the other addresses of bank-east"),
            ("198.51.0.0/16 bulletin https", "198.51.0.0/16"),
        ):
            self.assertIn(f"   from     {told}\n", self.kiboko(f"check {question}", 1), question)
        self.assertIn("   from     0.0.0.1-9.255.255.255, ", self.kiboko("check internet bulletin https --full", 1))


if __name__ == "__main__":
    unittest.main()
