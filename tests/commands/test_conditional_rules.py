"""Rules that hold under a condition, as somebody meets them who asks about traffic that hangs on one (clause S41)."""

import json
import shlex
import tempfile
import unittest
from pathlib import Path

from tests.helpers import kiboko
from tests.namespaces import why_not

NETWORK = """\
kiboko: 1
networks: {site: {cidrs: [10.20.0.0/16]}}
zones: {offices: {}, servers: {}}
subnets:
  desks: {network: site, cidr: 10.20.1.0/24, zone: offices}
  racks: {network: site, cidr: 10.20.2.0/24, zone: servers}
crossings: [{from: offices, to: servers, filter: inner-wall}]
filters:
  inner-wall:
    layer: zone
    decide: first
    stateful: true
    rules:
      - {id: keepers, action: allow, service: ssh, condition: "the user is in group keepers"}
      - {id: web, action: allow, service: https}
      - {id: never, action: allow, service: telnet}
      - {id: perhaps, action: allow, service: rdp, condition: "during office hours"}
instances:
  desk: {interfaces: [{subnet: desks, addresses: [10.20.1.10]}]}
  store: {listens: [ssh, https], interfaces: [{subnet: racks, addresses: [10.20.2.10]}]}
expectations:
  - {id: keepers-get-in, from: desk, to: store, service: ssh, expect: allowed}
  - {id: nobody-gets-in, from: desk, to: store, service: ssh, expect: blocked}
"""
RECORD = "2026-11-30T10:0{}:00Z,2026-11-30T10:0{}:01Z,{},{},{},{},6,{},10,1000\n"
LOG = "flowStartMilliseconds,flowEndMilliseconds,sourceIPv4Address,destinationIPv4Address,sourceTransportPort,"\
      "destinationTransportPort,protocolIdentifier,tcpControlBits,packetDeltaCount,octetDeltaCount\n"\
      + RECORD.format(0, 0, "10.20.1.10", "10.20.2.10", 40000, 22, 27)\
      + RECORD.format(0, 0, "10.20.2.10", "10.20.1.10", 22, 40000, 27)  # fmt: skip
CHANGE = """\
kiboko: change/1
name: open-up
changes:
  - edit_rule: {rule: inner-wall/keepers, set: {condition: null}}
"""
HELD = (
    'rule keepers of inner-wall (network.yaml:14), zone at offices>servers: allow ssh if "the user is in group keepers"'
)


class OnOneNetwork(unittest.TestCase):
    def setUp(self):
        made = tempfile.TemporaryDirectory()
        self.addCleanup(made.cleanup)
        self.folder = Path(made.name)
        for name, text in (("network.yaml", NETWORK), ("log.csv", LOG), ("change.yaml", CHANGE)):
            (self.folder / name).write_text(text)

    def ask(self, line, status):
        done = kiboko(*shlex.split(line), cwd=self.folder)
        self.assertEqual(status, done.returncode, done.stdout + done.stderr)
        return done.stdout

    def test_check_names_the_rule_and_the_condition_and_its_toggles_settle_it(self):
        told = self.ask("check desk store ssh", 1)
        lines = told.splitlines()
        self.assertTrue(lines[0].startswith("NOT KNOWN: ") and lines[0].endswith("it is blocked or allowed."), lines[0])
        self.assertEqual(lines[1], f"Rests on {HELD}")
        self.assertIn("--with inner-wall/keepers asks as if it held", told)
        self.assertTrue(self.ask("check desk store ssh --with inner-wall/keepers", 0).startswith("ALLOWED: "))
        self.assertTrue(self.ask("check desk store ssh --without inner-wall/keepers", 1).startswith("BLOCKED: "))

    def test_all_conditions_are_taken_as_held_or_not_at_once_and_lines_to_paste_say_so(self):
        self.assertTrue(self.ask("check desk store ssh --conditions all", 0).startswith("ALLOWED: "))
        told = self.ask("check desk store ssh --conditions none", 1)
        self.assertTrue(told.startswith("BLOCKED: "))
        self.assertIn("(asked conditions none; the network file itself is unchanged)", told)
        self.assertTrue(
            self.ask("check desk store ssh --conditions none --with inner-wall/keepers", 0).startswith("ALLOWED")
        )
        told = self.ask("reach store --service ssh --conditions all", 0)
        self.assertIn("(asked as if all conditions of rules held)", told)
        line = next(each for each in told.splitlines() if "see  " in each).partition("kiboko ")[2]
        self.assertTrue(line.endswith("--conditions all"), line)
        self.ask(line, 0)
        self.assertNotIn("desk", self.ask("reach store --service ssh --conditions none --only recorded", 0))
        cells = json.loads(self.ask("matrix --by desks,racks --service ssh --conditions none --json", 0))["rows"]
        states = {each["state"] for each in cells if (each["source"], each["destination"]) == ("desks", "racks")}
        self.assertEqual(states, {"blocked"})

    def test_the_form_says_what_the_gate_hangs_on(self):
        told = json.loads(self.ask("check desk store ssh --json", 1))
        self.assertEqual((told["verdict"], told["either"]), ("unknown", ["blocked", "allowed"]))
        (row,) = (each for each in told["forward"] if each["gate"] == "zone")
        self.assertEqual((row["action"], row["rule"], row["possible"]), (None, "keepers", ["allow", "drop"]))
        self.assertEqual(row["condition"], "the user is in group keepers")

    def test_reach_says_on_which_rule_a_line_rests(self):
        told = self.ask("reach store --service ssh", 1)
        self.assertIn("not known: desk", told)
        self.assertIn("rests on  zone: inner-wall/keepers (network.yaml:14), not known", told)
        lines = json.loads(self.ask("reach store --service ssh --json", 1))["rows"]
        rules = [rule for line in lines for rule in line["rules"] if rule["rule"] == "keepers"]
        self.assertTrue(rules)
        self.assertEqual({rule.get("is_known") for rule in rules}, {False})

    def test_what_was_recorded_proves_no_more_than_that_it_may_be_so(self):
        told = self.ask("confirm --flows log.csv", 1)
        self.assertIn("NOTHING PROVED", told)
        self.assertIn("2  agree   as far as seen", told)
        self.assertNotIn("leak", told)

    def test_of_rules_without_a_hit_those_that_no_record_tells_of_are_not_called_unused(self):
        told = self.ask("flows log.csv --rules", 1)
        self.assertRegex(told, r'keepers +allow +ssh if "the user is in group keepers" +1 ')
        self.assertRegex(told, r"never +allow +telnet +never hit")
        self.assertRegex(told, r"perhaps +allow +rdp .* +not told")
        self.assertRegex(told, r"otherwise +drop +no rule matched +1 ")
        rows = {
            row["rule"]: row["never_hit"] for row in json.loads(self.ask("flows log.csv --rules --json", 1))["rows"]
        }
        self.assertEqual((rows["perhaps"], rows["keepers"], rows["never"]), (False, False, True))

    def test_no_promise_is_kept_by_it(self):
        told = self.ask("expect", 1)
        self.assertIn("desk to store on tcp/22 does not surely get through: a gate on its way is not known", told)
        self.assertIn("desk to store on tcp/22 is not surely stopped: a gate on its way is not known", told)

    def test_a_change_of_the_condition_is_a_change_of_what_gets_through(self):
        told = self.ask("rehearse change.yaml", 0)
        self.assertIn("unknown → allowed", told)
        self.assertIn(f"before    rests on {HELD}", told)
        self.assertIn('before  allow ssh if "the user is in group keepers"', told)
        made = self.ask("apply change.yaml", 0)
        self.assertIn("{id: keepers, action: allow, service: ssh}\n", made)

    def test_show_and_audit_tell_of_it(self):
        self.assertRegex(
            self.ask("show inner-wall", 0), r"keepers +allow +any +any +ssh +network.yaml:14 +the user is in"
        )
        self.assertIn(
            "2 rules hold under a condition that no header tells (inner-wall/keepers, inner-wall/perhaps)",
            self.ask("audit", 1),
        )

    @unittest.skipIf(why_not() is not None, why_not() or "")
    def test_a_replica_is_built_while_none_holds_or_one_that_is_named(self):
        told = self.ask("replica verify --record none", 0)
        self.assertIn("2 rules have a condition: built while none of them holds", told)
        self.ask("replica verify --with inner-wall/keepers --record held", 0)
        outcomes = []
        for folder in ("none", "held"):
            probes = map(json.loads, (self.folder / folder / "probes.jsonl").read_text().splitlines())
            outcomes += [each["outcome"] for each in probes
                         if (each["from"], each["to"], each["service"]) == ("desk", "store", "tcp/22")]  # fmt: skip
        self.assertEqual(outcomes, ["silent", "answered"])


if __name__ == "__main__":
    unittest.main()
