"""Rules that hold under a condition which no header tells (clause S41): by hand, and held against every network that they
may stand for."""

import collections
import os
import random
import unittest

from kiboko.core.audit.audit import audit
from kiboko.core.changes.changed_rules import changed_rules
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.network.edits import settled, with_rule_enabled, without_rule
from kiboko.core.network.model import ALLOW
from kiboko.core.queries.ends import Ends
from kiboko.core.tables.gate_tables import GateTables
from kiboko.core.walk.walk import Walker
from tests.core.test_gate_tables import STRANGERS, flows_on
from tests.helpers import a_filter, base, load, question, walk, while_some_hold
from tests.random_networks import random_network, with_conditions
from tests.wider_networks import STRANGERS as WIDER_STRANGERS
from tests.wider_networks import wider_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "5"))
FLOWS = 250
DRAWN = 5
RANKS = {"blocked": 0, "one-way": 1, "partly": 2, "allowed": 3}
USER = "the user is in keepers"


def guarded(*rules, decide="first", stateful=True, otherwise="drop", **more):
    """Ann's and bob's network, with a filter on what comes in to bob."""
    values = base()
    values["filters"]["guard"] = a_filter("instance", decide=decide, stateful=stateful, inbound=list(rules), **more)
    values["filters"]["guard"]["otherwise"] = otherwise
    values["instances"]["bob"]["interfaces"][0]["filters"] = ["guard"]
    return values


class S41(unittest.TestCase):
    def test_s41_what_hangs_on_a_condition_is_not_known_and_names_the_rule_and_the_condition(self):
        values = guarded({"id": "keepers", "action": "allow", "service": "ssh", "condition": USER})
        said = walk(values, "ann", "bob", "ssh")
        self.assertEqual((said.verdict, said.either, said.signal), ("unknown", ("blocked", "allowed"), "unknown"))
        row = said.decided_by
        self.assertEqual((row.gate, row.filter, row.rule, row.action), ("instance-in", "guard", "keepers", None))
        self.assertEqual((row.condition, row.possible), (USER, ("allow", "drop")))
        (caveat,) = (each for each in said.caveats if USER in each)
        self.assertIn("--with guard/keepers", caveat)
        self.assertEqual(walk(values, "ann", "bob", "tcp/23").verdict, "blocked")

    def test_s41_what_all_possibilities_agree_on_is_decided_by_the_rule_that_surely_matches(self):
        """A block list in front of a default that drops anyway; an exception in front of a rule that allows it too."""
        listed = {"id": "listed", "action": "drop", "condition": "the sender is listed"}
        said = walk(guarded(listed), "ann", "bob", "ssh")
        self.assertEqual((said.verdict, said.signal, said.decided_by.rule), ("blocked", "silent", "otherwise"))
        known = {"id": "known", "action": "allow", "condition": USER}
        said = walk(guarded(known, {"id": "every", "action": "allow"}), "ann", "bob", "ssh")
        self.assertEqual(said.verdict, "allowed")
        self.assertEqual([row.rule for row in said.forward if row.filter == "guard"], ["every"])

    def test_s41_a_block_list_in_front_of_a_rule_that_allows_makes_it_not_known(self):
        listed = {"id": "listed", "action": "reject", "condition": "the sender is listed"}
        said = walk(guarded(listed, {"id": "every", "action": "allow"}), "ann", "bob", "ssh")
        self.assertEqual((said.verdict, said.decided_by.rule, said.decided_by.possible),
                         ("unknown", "listed", ("reject", "allow")))  # fmt: skip

    def test_s41_a_rule_behind_the_one_that_surely_matches_opens_nothing(self):
        late = {"id": "late", "action": "allow", "condition": USER}
        said = walk(guarded({"id": "shut", "action": "drop"}, late), "ann", "bob", "ssh")
        self.assertEqual((said.verdict, said.decided_by.rule), ("blocked", "shut"))

    def test_s41_where_only_how_it_is_stopped_hangs_on_it_the_verdict_stands_and_the_signal_is_not_known(self):
        told = {"id": "told", "action": "reject", "condition": "during office hours"}
        said = walk(guarded(told), "ann", "bob", "ssh")
        self.assertEqual((said.verdict, said.signal), ("blocked", "unknown"))
        self.assertTrue(any("guard/told" in each and "reject or drop" in each for each in said.caveats), said.caveats)

    def test_s41_client_ports_are_told_apart_as_by_any_rule(self):
        low = {"id": "low", "action": "allow", "source_ports": "32768-40000", "condition": USER}
        high = {"id": "high", "action": "allow", "source_ports": "40001-60999"}
        said = walk(guarded(low, high), "ann", "bob", "ssh")
        self.assertEqual((said.verdict, said.either), ("unknown", ("partly", "allowed")))
        self.assertEqual((str(said.doubtful), str(said.answered)), ("32768-40000", "40001-60999"))

    def test_s41_in_a_set_of_any_filters_a_rule_that_surely_matches_decides(self):
        perhaps = {"id": "perhaps", "action": "allow", "service": "ssh", "condition": USER}
        values = guarded(perhaps, decide="any")
        self.assertEqual(walk(values, "ann", "bob", "ssh").verdict, "unknown")
        values["filters"]["other"] = a_filter("instance", decide="any", inbound=[{"id": "sure", "action": "allow"}])
        values["instances"]["bob"]["interfaces"][0]["filters"] = ["guard", "other"]
        said = walk(values, "ann", "bob", "ssh")
        self.assertEqual(said.verdict, "allowed")
        self.assertIn("sure", [row.rule for row in said.forward])

    def test_s41_of_stateful_and_stateless_filters_in_one_set_the_reply_is_perhaps_let_back(self):
        """The request passes by the stateless filter; whether the stateful one tracks it hangs on its condition."""
        perhaps = {"id": "perhaps", "action": "allow", "service": "ssh", "condition": USER}
        values = guarded(perhaps, decide="any", outbound=[])
        values["filters"]["plain"] = a_filter("instance", decide="any", stateful=False, inbound=[{"action": "allow"}])
        values["instances"]["bob"]["interfaces"][0]["filters"] = ["guard", "plain"]
        said = walk(values, "ann", "bob", "ssh")
        self.assertEqual((said.verdict, said.either), ("unknown", ("one-way", "allowed")))
        self.assertEqual((said.decided_by.gate, said.decided_by.direction), ("instance-out", "reply"))
        self.assertTrue(any("guard/perhaps" in each for each in said.caveats), said.caveats)

    def test_s41_a_stateless_filter_asks_replies_by_the_same_conditions(self):
        back = {"id": "back", "action": "allow", "condition": USER}
        values = guarded({"action": "allow"}, stateful=False, outbound=[back])
        said = walk(values, "ann", "bob", "ssh")
        self.assertEqual((said.verdict, said.either), ("unknown", ("one-way", "allowed")))

    def test_s41_with_asks_as_if_it_held_and_without_as_if_it_did_not(self):
        topology = load(guarded({"id": "keepers", "action": "allow", "service": "ssh", "condition": USER}))
        for made, verdict in ((with_rule_enabled, "allowed"), (without_rule, "blocked")):
            ends = Ends(Walker(made(topology, "guard/keepers")))
            one, other = (ends.resolve(name).members[0] for name in ("ann", "bob"))
            self.assertEqual(ends.walk_pair(ends.pairs(one, other, 4)[0], self.ssh).verdict, verdict)

    ssh = question(base(), "ann", "bob", "ssh").walk.flow.service

    def test_s41_no_rule_has_state_of_its_own_beside_a_condition(self):
        values = base()
        values["zones"] = {"red": {}, "blue": {}}
        values["filters"]["wall"] = a_filter("zone", rules=[{"action": "allow", "stateful": False},
                                                            {"action": "allow", "condition": USER}])  # fmt: skip
        with self.assertRaisesRegex(Exception, "rule 1 has 'stateful' of its own, and rule 2 a 'condition'"):
            load(values)

    def test_an_empty_condition_is_an_error_and_what_others_call_it_a_hint(self):
        with self.assertRaisesRegex(Exception, "'condition' has no value"):
            load(guarded({"action": "allow", "condition": " "}))
        for word in ("user", "application", "schedule"):
            with self.assertRaisesRegex(Exception, "did you mean 'condition'"):
                load(guarded({"action": "allow", word: "x"}))


class AgainstAllThatItMayBe(unittest.TestCase):
    def test_a_verdict_that_is_known_is_that_of_every_network_and_one_that_is_not_lies_between_two_of_them(self):
        """Whatever conditions hold, a known verdict and signal stand; of others the worst is met where every stopping rule
        holds and no other, the best where it is the other way round."""
        met = collections.Counter()
        for seed in range(NETWORKS):
            for make, strangers in ((random_network, STRANGERS), (wider_network, WIDER_STRANGERS)):
                topology = load(with_conditions(make(seed), random.Random(seed)))
                tables = GateTables(Walker(topology))
                flows = flows_on(tables, random.Random(seed), FLOWS, strangers)
                worst = settled(topology, lambda chosen, rule: rule.action != ALLOW)
                best = settled(topology, lambda chosen, rule: rule.action == ALLOW)
                drawn = [while_some_hold(topology, number) for number in range(DRAWN)]
                walkers = [Walker(each) for each in (worst, best, *drawn)]
                for row in range(len(flows)):
                    said = tables.walk(flows, row)
                    flow = said.flow
                    others = [each.walk(each.directory.endpoint(flow.source.address), flow.target, flow.service,
                                        flow.source_ports) for each in walkers]  # fmt: skip
                    with self.subTest(seed=seed, make=make.__name__, flow=str(flow)):
                        self.held(said, others)
                    met[said.verdict] += 1
        self.assertGreater(met["unknown"], 10 * NETWORKS, met)
        self.assertGreater(met["allowed"], 10 * NETWORKS, met)

    def held(self, said, others):
        if said.verdict != "unknown":
            self.assertEqual({each.verdict for each in others}, {said.verdict})
            if said.signal != "unknown":
                self.assertLessEqual({each.signal for each in others}, {said.signal, "unknown"})
            return
        worst, best = said.either
        self.assertEqual((others[0].verdict, others[1].verdict), (worst, best))
        for each in others:
            self.assertLessEqual(RANKS[worst], RANKS[each.verdict])
            self.assertLessEqual(RANKS[each.verdict], RANKS[best])


class WhatIsSaidOfThem(unittest.TestCase):
    def findings(self, values):
        from datetime import date

        found = audit(Ends(Walker(load(values))), date(2026, 12, 1))
        return {(each.id, each.at) for each in found.findings}, found.left_out

    def test_audit_takes_no_rule_for_covered_by_one_with_a_condition(self):
        wide = {"id": "wide", "action": "allow"}
        narrow = {"id": "narrow", "action": "allow", "service": "ssh"}
        covered = ("unreachable-rule", "guard/inbound/narrow")
        self.assertIn(covered, self.findings(guarded(wide, narrow))[0])
        findings, left_out = self.findings(guarded({**wide, "condition": USER}, narrow))
        self.assertNotIn(covered, findings)
        self.assertTrue(any("guard/wide" in each for each in left_out), left_out)
        # One with a condition is covered as any other is.
        self.assertIn(covered, self.findings(guarded(wide, {**narrow, "condition": USER}))[0])

    def test_audit_takes_no_rule_for_redundant_for_what_one_with_a_condition_does_behind_it(self):
        narrow = {"id": "narrow", "action": "allow", "service": "ssh"}
        wide = {"id": "wide", "action": "allow"}
        redundant = ("redundant-rule", "guard/inbound/narrow")
        self.assertIn(redundant, self.findings(guarded(narrow, wide))[0])
        self.assertNotIn(redundant, self.findings(guarded(narrow, {**wide, "condition": USER}))[0])

    def test_another_condition_is_another_rule_to_a_change(self):
        one, other = (load(guarded({"id": "keepers", "action": "allow", "condition": each})).filters["guard"]
                      for each in (USER, "the user is in guests"))  # fmt: skip
        gone, new = changed_rules(one, other)
        self.assertEqual(([rule.condition for _, rule in gone], [rule.condition for _, rule in new]),
                         ([USER], ["the user is in guests"]))  # fmt: skip

    def test_a_probe_that_was_answered_agrees_as_far_as_is_known_and_a_silent_one_tells_nothing(self):
        from datetime import UTC, datetime

        from kiboko.core.records.records import ProbeRecord

        values = guarded({"id": "keepers", "action": "allow", "service": "ssh", "condition": USER})
        comparison = Comparison(Walker(load(values)))
        for outcome, status, as_far in (("answered", "agree", True), ("silent", "unsure", False)):
            record = ProbeRecord(datetime(2026, 12, 1, tzinfo=UTC), "ann", "bob", "10.1.1.11", "tcp/22", outcome, 40000,
                                 None, 1, "10.1.1.10")  # fmt: skip
            found = comparison.probe(record)
            self.assertEqual((found.status, found.concluded.as_far_as_seen), (status, as_far), outcome)


if __name__ == "__main__":
    unittest.main()
