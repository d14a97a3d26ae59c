"""`check --fixes`, `--stop` and `--write-change` as they are called, on the demo."""

import contextlib
import io
import json
from unittest import mock

from kiboko.commands.main import main
from tests.helpers import OnTheDemo, a_filter, base


class Fixing(OnTheDemo):
    def test_each_change_says_what_else_it_does(self):
        line = "check desk-1 forecast-1 forecast-api --fixes --expectations expectations.yaml --json"
        moved, added, widened = json.loads(self.kiboko(line, 1))["fixes"]
        self.assertEqual([{"move_rule": {"rule": "core-guard/inbound/30", "order": 15}}], moved["steps"])
        self.assertEqual([(["desk-1", "desk-2"], ["forecast-1"], ["tcp/8443"])],
                         [(sorted(each["sources"]), each["destinations"], each["services"])
                          for each in moved["besides"]])  # fmt: skip
        self.assertFalse(moved["nothing_else"])
        self.assertTrue(added["nothing_else"] and widened["nothing_else"])
        text = self.kiboko("check desk-1 forecast-1 forecast-api --fixes", 1)
        self.assertIn("A rule stops it, and no default", text)
        self.assertEqual(2, text.count("besides   nothing else"))

    def test_several_processes_say_the_same_as_one(self):
        """Of large networks each change is looked at by a process of its own."""
        line = "check desk-1 forecast-1 forecast-api --fixes --json"
        wanted, out = json.loads(self.kiboko(line, 1)), io.StringIO()
        with (
            mock.patch("kiboko.commands.fixing._MANY", 0), mock.patch("kiboko.batch.processors.usable", lambda: 2),
            contextlib.chdir(self.folder), contextlib.redirect_stdout(out),
        ):  # fmt: skip
            self.assertEqual(1, main(line.split()))
        self.assertEqual(wanted, json.loads(out.getvalue()))

    def test_the_whole_set_for_several_faults_is_written_as_one_change_file(self):
        text = self.kiboko("check desk-1 forecast-2 forecast-api --write-change both.yaml", 1)
        self.assertIn("written as both.yaml: kiboko rehearse both.yaml", text)
        self.assertIn("ALLOWED", self.kiboko("check desk-1 forecast-2 forecast-api --change both.yaml", 0))
        self.assertIn("already", self.kiboko("check desk-1 forecast-2 forecast-api --write-change both.yaml", 2))
        written = (self.folder / "both.yaml").read_text()
        self.assertIn("remove_route: {table: desk-main, to: 10.62.2.21/32, origin: static}", written)
        self.assertIn("move_rule: {rule: core-guard/inbound/30, order: 15}", written)

    def test_a_change_file_that_does_not_open_it_says_so(self):
        """Of two gates that stop it the route cannot be mended: no gateway leads there."""
        values = base()
        del values["gateways"]["peer"]
        values["route_tables"] = {name: rows[:1] for name, rows in values["route_tables"].items()}
        values["filters"]["guard"] = a_filter("instance", outbound=[])
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
        (self.folder / "split.yaml").write_text(json.dumps(values))
        text = self.kiboko("check ann dan ssh -n split.yaml --write-change some.yaml", 1)
        self.assertIn("its network has no gateway that leads there  [not tried", text)
        self.assertRegex(text, r"written as some.yaml: .*; not in it, .* leads there; with all .* is still blocked")
        self.assertIn("BLOCKED", self.kiboko("check ann dan ssh -n split.yaml --change some.yaml", 1))

    def test_the_smallest_stop_stops_this_and_nothing_else(self):
        self.kiboko("check 192.0.2.14 relay-1 ssh --stop --write-change stop.yaml", 0)
        self.assertIn("BLOCKED", self.kiboko("check 192.0.2.14 relay-1 ssh --change stop.yaml", 1))
        found = json.loads(self.kiboko("rehearse stop.yaml --json", 0))
        self.assertEqual([("allowed", "blocked", ["tcp/22"])],
                         [(row["before"], row["after"], row["services"]) for row in found["rows"]])  # fmt: skip
        moved = [fix for fix in json.loads(self.kiboko("check 192.0.2.14 relay-1 ssh --stop --expectations"
                 " expectations.yaml --json", 0))["fixes"] if "move_rule" in fix["steps"][0]]  # fmt: skip
        self.assertEqual(["scanner-shut-out"], moved[0]["mends"])

    def test_questions_that_mean_nothing_are_refused(self):
        for line, text in (
            ("check desk-1 forecast-1 forecast-api --stop", "it is blocked as it is"),
            ("check desk-1 any ssh --fixes", "name single ones"),
            ("check 198.51.100.20 gauge-07 ssh --write-change x.yaml", "no change of the network file to write"),
        ):
            with self.subTest(line):
                self.refused(line, text)
