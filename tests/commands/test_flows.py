"""The built program on flow logs: by rule, with the kernel's own counters, copies of files, bad options."""

import json
import tempfile
import unittest
from pathlib import Path

from tests.helpers import a_filter, base, kiboko

HEAD = "src,dst,sport,dport,proto,action,start\n"
ROWS = (
    "10.1.2.10,10.1.1.10,40000,22,tcp,allow,2026-11-20T10:00:00Z\n"
    "10.1.2.10,10.1.1.10,40001,80,tcp,deny,2026-11-20T10:01:00Z\n"
    "10.1.1.10,10.2.1.10,40002,22,tcp,allow,2026-11-20T10:02:00Z\n"
)


def listing(*counts):
    """What `nft -j list ruleset` prints of two rules, with counters where counts are given."""
    rules = []
    for handle, (port, comment) in enumerate(((22, "ssh in"), (25, "mail in")), 4):
        counter = [{"counter": {"packets": counts[handle - 4], "bytes": 60}}] if counts else []
        match = {"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": port}}
        rules.append({"rule": {"family": "inet", "table": "t", "chain": "in", "handle": handle, "comment": comment,
                               "expr": [match, *counter, {"accept": None}]}})  # fmt: skip
    chain = {
        "family": "inet",
        "table": "t",
        "name": "in",
        "handle": 2,
        "type": "filter",
        "hook": "input",
        "prio": 0,
        "policy": "drop",
    }
    objects = [
        {"metainfo": {"json_schema_version": 1}},
        {"table": {"family": "inet", "name": "t", "handle": 1}},
        {"chain": chain},
    ]
    return json.dumps({"nftables": objects + rules})


class Logs(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        values = base()
        values["filters"]["guard"] = a_filter(
            "subnet",
            inbound=[
                {"order": 10, "action": "allow", "service": "ssh"},
                {"id": "never", "action": "allow", "service": "smtp"},
            ],
        )
        values["subnets"]["a1"]["filter"] = "guard"
        values["instances"]["ann"]["host_filter"] = {"nftables": "ann.json"}
        (self.folder / "network.yaml").write_text(json.dumps(values))
        (self.folder / "ann.json").write_text(listing())
        (self.folder / "log.csv").write_text(HEAD + ROWS)


class Flows(Logs):
    def run_flows(self, *options, status=0):
        done = kiboko("flows", "log.csv", *options, "--json", cwd=self.folder)
        self.assertEqual(done.returncode, status, done.stderr)
        return json.loads(done.stdout) if status < 2 else done.stderr

    def usage(self, *options):
        told = self.run_flows("--rules", *options, status=1)
        return {
            f"{row['filter']}/{row['rule']}": (row["records"], row["counter"] and row["counter"]["packets"])
            for row in told["rows"]
        }

    def test_by_the_rule_that_records_meet(self):
        for rule, ports in (("guard/10", ["tcp/22"]), ("guard/inbound/otherwise", ["tcp/80"]), ("guard/never", [])):
            rows = self.run_flows("--rule", rule, "--by", "service")["rows"]
            self.assertEqual([row["service"] for row in rows], ports)
        both = self.run_flows("--rule", "guard/10", "--rule", "guard/otherwise", "--by", "service")
        self.assertEqual(both["summary"]["records"], 2)
        self.assertIn("did you mean 'guard/inbound/never'?", self.run_flows("--rule", "guard/nevr", status=2))

    def test_what_is_written_out_is_what_was_asked_for(self):
        self.run_flows("--rule", "guard/10", "--export", "kept.csv")
        self.assertEqual(len((self.folder / "kept.csv").read_text().splitlines()), 2)

    def test_rules_of_one_filter_alone(self):
        rows = self.run_flows("--rules-of", "guard", status=1)["rows"]
        self.assertEqual([("guard", "10"), ("guard", "never"), ("guard", "otherwise")],
                         [(row["filter"], row["rule"]) for row in rows])  # fmt: skip
        for name in ("ann", "ann.json"):  # a kernel's rule set, by the machine or the file
            self.assertEqual(
                {"ann.json"}, {row["filter"] for row in self.run_flows("--rules-of", name, status=1)["rows"]}
            )
        self.assertIn("'gard' is no filter of the network; did you mean 'guard'?",
                      self.run_flows("--rules-of", "gard", status=2))  # fmt: skip

    def test_full_is_about_rules(self):
        self.assertIn("--full goes with --rules", self.run_flows("--full", status=2))

    def test_of_many_lists_of_rules_a_line_each_the_least_used_first(self):
        values = json.loads((self.folder / "network.yaml").read_text())
        for number in range(45):
            rules = [
                {"id": f"r{each}", "action": "allow", "service": f"tcp/{9000 + each}"} for each in range(number % 9)
            ]
            values["filters"][f"unused-{number}"] = a_filter("instance", decide="any", inbound=rules)
        (self.folder / "network.yaml").write_text(json.dumps(values))
        text = kiboko("flows", "log.csv", "--rules", "--top", "9", cwd=self.folder).stdout
        lists = [line.split() for line in text.splitlines() if line.startswith("unused-")]
        self.assertEqual([f"unused-{number}," for number in (8, 17, 26, 35, 44, 7, 16, 25, 34)],
                         [line[0] for line in lists])  # fmt: skip
        self.assertEqual(["8", "8", "0", "0", "-"], lists[0][2:])
        self.assertIn("and 38 more lists; --top N shows more, --rules-of FILTER", text)
        self.assertIn("184 rules; 182 never hit", text.replace("held against ", ""))
        whole = kiboko("flows", "log.csv", "--rules", "--full", cwd=self.folder).stdout
        self.assertEqual(180, whole.count("tcp/900"))  # five times 0 to 8 rules

    def test_rules_of_a_host_count_with_its_counters(self):
        found = self.usage()
        self.assertEqual(
            (found["ann.json/ssh in"], found["ann.json/mail in"], found["guard/never"]),
            ((1, None), (0, None), (0, None)),
        )
        (self.folder / "ann.json").write_text(listing(7, 0))
        self.assertEqual(self.usage()["ann.json/ssh in"], (1, 7))
        (self.folder / "later.json").write_text(listing(9, 3))
        found = self.usage("--counters", "ann=later.json")
        self.assertEqual((found["ann.json/ssh in"], found["ann.json/mail in"]), ((1, 9), (0, 3)))

    def test_a_rule_that_only_the_kernel_counted_is_not_never_hit(self):
        (self.folder / "later.json").write_text(listing(9, 3))
        self.assertEqual(self.run_flows("--rules", status=1)["summary"]["never_hit"], 2)
        self.assertEqual(self.run_flows("--rules", "--counters", "ann=later.json", status=1)["summary"]["never_hit"], 1)

    def test_counters_of_nobody_are_bad_usage(self):
        self.assertIn("is not INSTANCE=FILE", self.run_flows("--rules", "--counters", "nobody=x", status=2))
        self.assertIn(
            "has no rule set of the kernel", self.run_flows("--rules", "--counters", "bob=ann.json", status=2)
        )

    def test_a_copy_of_a_file_is_not_counted_twice(self):
        (self.folder / "copy.csv").write_text(HEAD + ROWS)
        told = self.run_flows("copy.csv")
        self.assertEqual(told["summary"]["records"], 3)
        self.assertEqual(told["caveats"], ["copy.csv: the same file as log.csv, not counted twice"])

    def test_times_of_several_zones_and_addresses_of_both_families_in_one_column(self):
        (self.folder / "log.csv").write_text(
            HEAD + "10.1.2.10,10.1.1.10,1,22,tcp,allow,2026-11-20T12:00:00+02:00\n2001:db8::9,2001:db8:1:1::10,1,22,tcp,allow,2026-11-20T10:00:00Z\n"
            "10.1.2.10,2001:db8:1:1::10,1,22,tcp,allow,2026-11-20T10:00:00Z\n10.1.2.10,10.1.1.10,1,22,tcp,allow,2026-11-20 10:00:00\n"
        )  # fmt: skip
        told = self.run_flows("--by", "source")
        self.assertEqual(
            (told["summary"]["records"], told["summary"]["first"], told["summary"]["last"]),
            (3, *["2026-11-20T10:00:00.000Z"] * 2),
        )
        rejected, zoneless = told["caveats"]
        self.assertIn("1 row rejected, mixed families; first row 3 (line 4)", rejected)
        self.assertIn(
            "1 row with a time without a zone, where others have one: read as UTC; first row 4 (line 5)", zoneless
        )


class Confirm(Logs):
    def test_the_report_has_coverage_and_both_kinds_of_evidence(self):
        probe = {"kiboko": "probe/1", "time": "2026-11-20T10:00:00Z", "from": "cat", "to": "ann", "address": "10.1.1.10",
                 "service": "tcp/22", "source_port": 40000, "outcome": "answered", "rtt_ms": 1, "attempts": 1}  # fmt: skip
        (self.folder / "probes.jsonl").write_text(json.dumps(probe) + "\n")
        done = kiboko(
            "confirm",
            "--flows",
            "log.csv",
            "--probes",
            "probes.jsonl",
            "--plot",
            "found.svg",
            "--json",
            cwd=self.folder,
        )
        told = json.loads(done.stdout)
        self.assertEqual(
            [(s["source"], s["destination"], s["conclusion"]) for s in told["side_by_side"]],
            [("cat", "ann", "all three agree: it works")],
        )
        self.assertEqual(told["coverage"]["subnets_without"], [])
        self.assertEqual(
            [
                sum(count for kind, count in row.items() if kind != "begin")
                for row in told["coverage"]["timeline"]["rows"]
            ],
            [1, 1, 1],
        )
        self.assertIn("<svg", (self.folder / "found.svg").read_text())
        text = kiboko("confirm", "--flows", "log.csv", cwd=self.folder).stdout
        self.assertIn("what the flow records cover", text)

    def test_a_figure_needs_flow_records(self):
        (self.folder / "probes.jsonl").write_text("")
        done = kiboko("confirm", "--probes", "probes.jsonl", "--plot", "x.png", cwd=self.folder)
        self.assertEqual((done.returncode, "give --flows" in done.stderr), (2, True))


if __name__ == "__main__":
    unittest.main()
