"""The findings that a change brings and ends, held to what a whole audit finds before and after it."""

import copy
import functools
import os
import random
import unittest
from datetime import date

from kiboko.core.audit.audit import audit
from kiboko.core.audit.findings import NOTE
from kiboko.core.audit.listening import of_unreached, unreached
from kiboko.core.changes.difference import difference
from kiboko.core.changes.rehearsing import _scope, rehearse
from kiboko.core.errors import InputError
from kiboko.core.header.ranges import RangeSet
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.walk.walk import Walker
from tests.helpers import a_filter, base, load
from tests.random_changes import ANYTHING, OF_RULES, changed, moved, restructured
from tests.random_networks import random_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "6"))
TODAY = date(2026, 11, 26)
ANY = resolve_service("any", {})


def both(values, other):
    old = Walker(load(values))
    return Ends(old), Ends(old.on(load(other)))


def ordered(values):
    """A network whose rules say where they stand, so that none is called otherwise when one before it goes."""
    for chosen in values["filters"].values():
        for way in ("inbound", "outbound", "rules"):
            for position, rule in enumerate(chosen.get(way) or (), 1):
                rule.setdefault("order", position)
    return values


def keys(ends, scope=None):
    """The findings of an audit by their kinds and places, less those that gather machines."""
    found = audit(ends, TODAY) if scope is None else audit(ends, TODAY, scope=scope)
    return {(each.id, each.at) for each in found.findings
            if each.severity != NOTE and each.id != "unallowed-listener"}  # fmt: skip


def exposed(ends):
    """What of each machine very many outside can get to that they should not, by a whole audit."""
    return together(audit(ends, TODAY, kinds=("open-administration",)).findings)


def together(findings):
    found = {}
    for name, services in (pair for each in findings for pair in each.opened):
        found[name] = found.get(name, RangeSet()) | services
    return found


class OnRandomNetworks(unittest.TestCase):
    def held(self, seed, change):
        """How many machines and findings a change turns; nothing of that is out of its scope."""
        values = ordered(random_network(seed))
        try:
            old, new = both(values, change(values, random.Random(seed)))
        except InputError:  # what was changed is no network any more
            return 0
        scope = _scope(difference(old, new, ANY))
        shut = [unreached(ends) for ends in (old, new)]
        turned = [{name: left for name, some in one.items() if (left := some - other.get(name, RangeSet()))}
                  for one, other in (shut, shut[::-1])]  # fmt: skip
        found = rehearse(old, new, ANY, None, TODAY, [])
        for ends, some, told in zip((old, new), turned, (found.ended, found.brought), strict=True):
            expected = [(each.at, each.proof) for each in of_unreached(ends, some)]
            self.assertCountEqual(expected, [(each.at, each.proof) for each in told
                                             if each.id == "unallowed-listener"], seed)  # fmt: skip
        before, after = map(exposed, (old, new))
        for told, mine, others in ((found.ended, before, after), (found.brought, after, before)):
            self.assertEqual({name: left for name, some in mine.items() if (left := some - others.get(name, RangeSet()))},
                             together(told), seed)  # fmt: skip
        whole = keys(old) ^ keys(new)
        self.assertLessEqual(whole, keys(old, scope) ^ keys(new, scope), seed)
        return sum(map(len, turned)) + len(whole)

    def test_every_machine_and_finding_that_a_change_turns_is_in_its_scope(self):
        for change, first, count in (
            (functools.partial(changed, kinds=OF_RULES), 1, NETWORKS // 2),
            (functools.partial(changed, kinds=ANYTHING), 4, NETWORKS // 2),
            (restructured, 5, NETWORKS // 2),
            (moved, 0, NETWORKS // 4),
        ):
            self.assertGreater(sum(self.held(seed, change) for seed in range(first, first + count)), 0, change)


class Findings(unittest.TestCase):
    def setUp(self):
        """Ann, bob and cat listen to ssh, which nobody is let in to."""
        self.old = base()
        self.old["filters"]["guard"] = a_filter("instance", inbound=[
            {"order": 10, "action": "allow", "to": "bob", "service": "ssh", "enabled": False}])  # fmt: skip
        for name in ("ann", "bob", "cat"):
            self.old["instances"][name]["interfaces"][0]["filters"] = ["guard"]
            self.old["instances"][name]["listens"] = ["ssh"]
        self.new = {**self.old, "filters": {"guard": a_filter("instance", inbound=[
            {"order": 10, "action": "allow", "to": "bob", "service": "ssh"}])}}  # fmt: skip

    def turned(self, services=ANY, family=None):
        found = rehearse(*both(self.old, self.new), services, family, TODAY, [])
        return [[(each.id, each.at) for each in some] for some in (found.ended, found.brought)]

    def test_of_machines_that_nobody_reaches_the_one_that_is_reached_now_is_told_alone(self):
        self.assertEqual(self.turned(), [[("unallowed-listener", "bob")], []])

    def test_a_machine_of_which_other_verdicts_turn_is_not_told_again(self):
        """Nobody reaches ann on smtp, before and after: that bob is let in to her ssh is no word of it."""
        for each in (self.old, self.new):
            each["instances"]["ann"]["listens"] = ["ssh", "smtp"]
        self.new["filters"] = {"guard": a_filter("instance", inbound=[
            {"order": 10, "action": "allow", "from": "cat", "to": ["ann", "bob"], "service": "ssh"}])}  # fmt: skip
        found = rehearse(*both(self.old, self.new), ANY, None, TODAY, [])
        self.assertEqual([(each.at, each.proof) for each in found.ended],
                         [("ann, bob", "these 2 listen to tcp/22, which nobody at all can reach")])  # fmt: skip
        self.assertEqual(found.brought, ())

    def test_findings_are_told_whatever_verdicts_are_asked_for(self):
        self.assertEqual(self.turned(resolve_service("https", {})), [[("unallowed-listener", "bob")], []])
        self.assertEqual(self.turned(ANY, 6), [[("unallowed-listener", "bob")], []])
        self.assertEqual(self.turned(RangeSet()), [[("unallowed-listener", "bob")], []])

    def test_a_rule_that_is_moved_and_turns_no_packet_may_be_needless_or_in_vain_all_the_same(self):
        """What the narrow rule allows the wide one behind it allows as well; behind the wide one no packet gets to it."""
        wide, narrow = (
            {"id": name, "action": "allow", **more}
            for name, more in (("wide", {"from": "bob"}), ("narrow", {"from": "bob", "service": "ssh"}))
        )
        self.old["filters"]["guard"] = a_filter("instance", inbound=[narrow | {"order": 10}, wide | {"order": 20}])
        self.new = {
            **self.old,
            "filters": {"guard": a_filter("instance", inbound=[wide | {"order": 10}, narrow | {"order": 20}])},
        }
        self.assertEqual([[("redundant-rule", "guard/inbound/narrow")], [("unreachable-rule", "guard/inbound/narrow")]],
                         self.turned())  # fmt: skip

    def test_a_rule_in_vain_that_is_moved_is_told_by_its_new_name(self):
        """Behind a rule that drops everything nothing turns, and the rule is called by its order."""
        for version, order in ((self.old, 20), (self.new, 30)):
            version["filters"] = {"guard": a_filter("instance", inbound=[
                {"order": 10, "action": "drop"}, {"order": order, "action": "allow", "service": "ssh"}])}  # fmt: skip
        self.assertEqual([[("unreachable-rule", "guard/inbound/20")], [("unreachable-rule", "guard/inbound/30")]],
                         self.turned())  # fmt: skip

    def test_one_more_machine_that_is_open_by_the_same_rule_is_told_and_one_that_is_so_by_another_is_not(self):
        self.old["filters"]["guard"] = a_filter(
            "instance", inbound=[{"order": 10, "action": "allow", "service": "ssh"}]
        )
        self.old["filters"]["shut"] = a_filter("instance", inbound=[])
        interfaces = {name: each["interfaces"][0] for name, each in self.old["instances"].items()}
        interfaces["ann"] |= {"public": "203.0.113.9", "filters": ["guard"]}
        interfaces["bob"] |= {"public": "203.0.113.10", "filters": ["shut"]}
        self.new = copy.deepcopy(self.old)
        self.new["instances"]["bob"]["interfaces"][0]["filters"] = ["guard"]
        found = rehearse(*both(self.old, self.new), ANY, None, TODAY, [])
        (told,) = (each for each in found.brought if each.id == "open-administration")
        self.assertEqual(("guard/10", ("bob",)), (told.at, told.machines))
        self.assertTrue(
            told.proof.startswith("new is tcp/22 of bob: tcp/22 of ann, bob, cat can be reached"), told.proof
        )
        (told,) = rehearse(*both(self.new, self.old), ANY, None, TODAY, []).ended[:1]
        self.assertTrue(
            told.proof.startswith("over is tcp/22 of bob: tcp/22 of ann, bob, cat can be reached"), told.proof
        )
        self.new["filters"]["guard"]["inbound"][0]["order"] = 20
        self.new["instances"]["bob"]["interfaces"][0]["filters"] = ["shut"]
        found = rehearse(*both(self.old, self.new), ANY, None, TODAY, [])
        self.assertNotIn("open-administration", {each.id for each in (*found.brought, *found.ended)})

    def test_a_machine_that_begins_to_listen_is_looked_at(self):
        self.new = {**self.old, "instances": {**self.old["instances"], "dan": {
            **self.old["instances"]["dan"], "listens": ["smtp"]}}}  # fmt: skip
        self.new["instances"]["dan"]["interfaces"][0]["filters"] = ["guard"]
        self.assertEqual(self.turned(), [[], [("unallowed-listener", "dan")]])

    def test_who_nobody_but_a_machine_that_goes_reaches_is_told(self):
        """Verdicts of a machine that only one version has are not compared, and yet it was the only one let in to bob;
        it is the same the other way round, where it comes."""
        guard = a_filter("instance", inbound=[{"order": 10, "action": "allow", "from": "readers", "to": "bob",
                                               "service": "ssh"}])  # fmt: skip
        self.old["filters"]["guard"] = guard
        self.old["groups"] = {"readers": {"where": {"role": "reader"}}}
        self.old["instances"]["cat"]["tags"] = {"role": "reader"}
        self.old["instances"]["cat"].pop("listens")
        self.new = {**self.old, "instances": {
            name: each for name, each in self.old["instances"].items() if name != "cat"}}  # fmt: skip
        both_findings = [("empty-group", "readers"), ("unallowed-listener", "bob")]
        self.assertEqual(self.turned(), [[], both_findings])
        self.old, self.new = self.new, self.old
        self.assertEqual(self.turned(), [both_findings, []])


if __name__ == "__main__":
    unittest.main()
