"""What differs between two versions, held to the walks of every pair in both."""

import copy
import dataclasses
import os
import random
import unittest
import unittest.mock

from kiboko.core.changes.difference import CLOSED, OPENED, difference
from kiboko.core.errors import InputError, UsageError
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service
from kiboko.core.network.edits import toggled_rule
from kiboko.core.network.host_rules import Chain, HostRuleSet
from kiboko.core.queries.ends import Ends, resolve_service, services_for
from kiboko.core.queries.members import sent_to_at
from kiboko.core.walk.walk import Walker
from tests.core.test_matrix import told_apart
from tests.core.test_reach import ASKED, holds, is_meant, singles
from tests.helpers import a_filter, base, load, question
from tests.random_changes import ANYTHING, OF_RULES, changed, restructured
from tests.random_networks import both_global, by_an_appliance, in_more_zones, random_network
from tests.wider_networks import wider_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "2"))
CHANGES = 5


def every_cell(old, new, family):
    """Every pair of ends that both have, with its walks on some services in both: of few networks on every other one of
    these, another one for each pair."""
    step, pair = 1 if NETWORKS > 2 else 2, 0
    services = services_for(resolve_service("any", {}), family)
    ends = [list(told_apart(old, told_apart(new, old.resolve("any").members)))]
    for sender in ends[0]:
        for other in ends[0]:
            for receiver in singles(other, False):
                if sender.instance is not None and sender.instance == receiver.instance:
                    continue
                one = next(iter(singles(sender, True)))
                if not is_meant(new, one, other, receiver, family):
                    continue
                pairs = [each.pairs(one, receiver, family) for each in (old, new)]
                if not all(pairs) or pairs[0][0].source.address == pairs[0][0].target:
                    continue
                if pairs[0][0].source.network is None and old.is_foreign(pairs[0][0].target):
                    continue
                pair += 1
                for protocol, detail in ASKED[pair % step :: step]:
                    if (protocol << 16 | detail) in services:
                        service = Service(protocol, detail)
                        yield one, receiver, [each.walk_pair(pair[0], service)
                                              for each, pair in zip((old, new), pairs, strict=True)]  # fmt: skip


def further_cells(old, new, family):
    """The same of machines as senders at addresses that they do not use by themselves, with the walks of those that they
    do use; of machines whose addresses are the same in both."""

    def addresses(ends, name):
        interfaces = ends.topology.instances[name].interfaces if name in ends.topology.instances else ()
        return [(each.name, each.addresses, each.public) for each in interfaces]

    same = [name for name in old.topology.instances if addresses(old, name) == addresses(new, name)]
    services = services_for(resolve_service("any", {}), family)
    for name in same:
        whole = old.resolve(name).members[0]
        for one in sent_to_at(whole):
            others = [other for other in same if other != name] if one.is_further and family in one.families else []
            for receiver in (each for other in others for each in singles(new.resolve(other).members[0], False)):
                pairs = [[each.pairs(sender, receiver, family) for each in (old, new)] for sender in (one, whole)]
                for protocol, detail in ASKED if all(pairs[0]) else ():
                    if (protocol << 16 | detail) in services:
                        walks = ([each.walk_pair(pair[0], Service(protocol, detail))
                                  for each, pair in zip((old, new), some, strict=True)] for some in pairs)  # fmt: skip
                        yield one, receiver, *walks


def told(found):
    """What differs of each pair of ends: the services of each two verdicts."""
    pairs = {}
    for line in found.changed:
        for one in line.sources:
            for other in line.destinations:
                ends = [(each.name, each.low, each.high) for each in (one, other)]
                key = (line.family, *ends, line.before, line.after, line.ports)
                pairs.setdefault(key, []).extend(line.services)
    return {key: RangeSet.of(services) for key, services in pairs.items()}


class HeldToWalks(unittest.TestCase):
    further = 0

    def held(self, seeds, changes, kinds, least):
        met = 0
        for seed in seeds:
            values = random_network(seed)
            chance, other = random.Random(seed), values
            for _ in range(changes):
                other = changed(other, chance, kinds)
            met += self.compared(seed, values, other)
        self.assertGreater(met, least * len(seeds))

    def compared(self, seed, values, other):
        """Hold two networks to the walks of each; how many verdicts differ."""
        met = 0
        try:
            old, new = (Ends(Walker(load(each))) for each in (values, other))
        except InputError:  # what was changed is no network any more
            return 0
        for family in (4, 6):
            lines = difference(old, new, resolve_service("any", {}), family).changed
            for sender, receiver, walks in every_cell(old, new, family):
                number = walks[0].flow.service.number
                mine = [each for each in lines if number in each.services
                        and holds(each.sources, sender) and holds(each.destinations, receiver)]  # fmt: skip
                verdicts = [walk.verdict for walk in walks]
                ports = [walk.answered if walk.verdict == "partly" else None for walk in walks]
                text = (seed, family, sender.name, receiver.name, str(walks[0].flow.service), verdicts)
                if verdicts[0] != verdicts[1] or ports[0] != ports[1]:
                    met += 1
                    self.assertEqual([tuple(verdicts)], [(each.before, each.after) for each in mine], text)
                else:
                    self.assertEqual([], mine, text)
            self.compared_further(seed, old, new, family, lines)
        return met

    def compared_further(self, seed, old, new, family, lines):
        """What turns of a machine at another address is told where it is not what turns of it anyway."""
        for sender, receiver, walks, usual in further_cells(old, new, family):
            number = walks[0].flow.service.number
            mine = [each for each in lines if number in each.services and holds(each.destinations, receiver)
                    and sender.name in [member.name for member in each.sources]]  # fmt: skip
            own, others = ([(each.verdict, each.answered if each.verdict == "partly" else None) for each in some]
                           for some in (walks, usual))  # fmt: skip
            text = (seed, family, sender.name, receiver.name, str(walks[0].flow.service), own, others)
            if own[0] == own[1]:
                self.assertEqual([], mine, text)
            elif own != others:
                self.further += 1
                self.assertEqual(
                    [tuple(each.verdict for each in walks)], [(each.before, each.after) for each in mine], text
                )

    def test_every_verdict_that_changes_and_no_other(self):
        self.held(range(NETWORKS), CHANGES, ANYTHING, 20)

    def test_where_only_rules_change_no_less_is_found(self):
        """What a changed rule cannot match is not looked at then, and must not differ."""
        seeds = (46, 63) if NETWORKS == 2 else range(40, 40 + NETWORKS)  # two that much comes of
        self.held(seeds, 2, OF_RULES, 2)

    def test_where_something_else_than_a_rule_changes_no_less_is_found(self):
        """A machine, a group, a subnet, a route, a crossing: what these cannot touch is not looked at then, and comes to
        the same where all pairs are."""
        for kind in (lambda values, _: values, by_an_appliance, in_more_zones, both_global):
            met = 0
            for seed in range(NETWORKS if kind is in_more_zones else 2 * NETWORKS):
                values = kind(random_network(seed), random.Random(seed))
                other = restructured(values, random.Random(seed + 1))
                try:
                    old, new = (Ends(Walker(load(each))) for each in (values, other))
                except InputError:
                    continue
                found = told(difference(old, new, resolve_service("any", {})))
                with unittest.mock.patch("kiboko.core.changes.difference.touched", lambda *_: None):
                    self.assertEqual(found, told(difference(old, new, resolve_service("any", {}))), (kind, seed))
                met += len(found)
            self.assertGreater(met, 5, kind)

    def test_global_addresses_meet_in_the_zone_of_an_outside(self):
        """Packets between two networks, out by the door of one and in by that of the other, cross the outside's zone,
        and neither end lies in it."""
        met = 0
        for seed in (21,) if NETWORKS == 2 else range(20, 20 + NETWORKS):
            values = both_global(random_network(seed), random.Random(seed))
            other = copy.deepcopy(values)
            for name in {each["filter"] for each in values["crossings"] if each["from"] == "public"}:
                other["filters"][name]["rules"][0]["action"] = "drop"
            met += self.compared(seed, values, other)
        self.assertGreater(met, 10)

    def test_what_turns_of_a_machine_at_another_address_of_it(self):
        for seed in (4,) if NETWORKS == 2 else range(4, 4 + NETWORKS):
            values, chance = wider_network(seed), random.Random(seed)
            other = values
            for _ in range(CHANGES):
                other = changed(other, chance, ANYTHING)
            self.compared(seed, values, other)
        self.assertGreater(self.further, 5)

    def test_where_what_changes_is_halfway_no_less_is_found(self):
        """Rules at the edge of an appliance's subnet, and at the crossings that leave its zone, are asked of packets of
        which neither end is there."""
        met = 0
        for seed in range(NETWORKS + 1):
            chance = random.Random(seed)
            values = by_an_appliance(random_network(seed), chance)
            other = copy.deepcopy(values)
            for name in {"its-edge", "its-crossing"} & set(other["filters"]):
                for way in ("inbound", "outbound", "rules"):
                    for rule in other["filters"][name].get(way) or ():
                        if chance.random() < 0.5:
                            rule["action"] = "drop" if rule["action"] == "allow" else "allow"
            met += self.compared(seed, values, other)
        self.assertGreater(met, 100 * NETWORKS)


class Differences(unittest.TestCase):
    def setUp(self):
        self.old = base()
        self.old["filters"]["guard"] = a_filter("instance", inbound=[
            {"order": 10, "action": "allow", "from": "bob", "service": "ssh"}])  # fmt: skip
        self.old["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
        self.new = copy.deepcopy(self.old)

    def found(self, service="any", family=4):
        return difference(
            *(Ends(Walker(load(each))) for each in (self.old, self.new)), resolve_service(service, {}), family
        )

    def test_the_same_said_in_another_order_is_no_difference(self):
        self.new["instances"] = dict(reversed(self.new["instances"].items()))
        found = self.found()
        self.assertEqual(((), ()), (found.said, found.changed))

    def test_a_rule_that_is_added_opens_what_it_says_and_nothing_else(self):
        self.new["filters"]["guard"]["inbound"].append(
            {"order": 20, "action": "allow", "from": "dan", "service": "https"}
        )
        found = self.found()
        self.assertEqual([("rules", "guard/inbound/20", None)], [(s.section, s.name, s.before) for s in found.said])
        (line,) = found.changed
        self.assertEqual((OPENED, "blocked", "allowed", ["dan"], ["ann"]),
                         (line.kind, line.before, line.after, [m.name for m in line.sources],
                          [m.name for m in line.destinations]))  # fmt: skip

    def test_a_rule_that_is_taken_out_closes(self):
        self.new["filters"]["guard"]["inbound"] = []
        self.assertEqual([(CLOSED, "allowed", "blocked")], [(c.kind, c.before, c.after) for c in self.found().changed])

    def test_a_rule_that_decides_nothing_changes_no_verdict(self):
        self.new["filters"]["guard"]["inbound"].append({"order": 20, "action": "drop", "from": "dan"})
        found = self.found()
        self.assertEqual((1, ()), (len(found.said), found.changed))

    def test_a_rule_for_a_further_address_of_a_machine_turns_what_is_sent_there(self):
        for version in (self.old, self.new):
            version["instances"]["ann"]["interfaces"][0]["addresses"].append("10.1.1.12")
        self.new["filters"]["guard"]["inbound"].append(
            {"order": 20, "action": "allow", "to": "10.1.1.12", "from": "dan"}
        )
        self.assertEqual([(OPENED, ["dan"], ["10.1.1.12"])],
                         [(line.kind, [m.name for m in line.sources], [m.name for m in line.destinations])
                          for line in self.found().changed])  # fmt: skip

    def test_a_rule_for_what_a_machine_sends_from_another_address_turns_that_alone(self):
        for version in (self.old, self.new):
            version["instances"]["dan"]["interfaces"][0]["addresses"].append("10.2.1.99")
        self.new["filters"]["guard"]["inbound"].append({"order": 20, "action": "allow", "from": "10.2.1.99"})
        self.assertEqual([(OPENED, ["10.2.1.99"], ["ann"])],
                         [(line.kind, [m.name for m in line.sources], [m.name for m in line.destinations])
                          for line in self.found().changed])  # fmt: skip
        self.new["filters"]["guard"]["inbound"][-1]["from"] = "dan"
        self.assertEqual([["dan"]], [[m.name for m in line.sources] for line in self.found().changed])

    def test_a_rule_for_what_comes_from_a_shared_address_turns_what_is_sent_to_the_public_one(self):
        self.new["filters"]["guard"]["inbound"].append({"order": 20, "action": "allow", "from": "203.0.113.2"})
        self.assertEqual([(OPENED, ["dan"], ["203.0.113.10"])],
                         [(line.kind, [m.name for m in line.sources if m.instance], [m.name for m in line.destinations])
                          for line in self.found().changed if any(m.instance for m in line.sources)])  # fmt: skip

    def test_a_machine_that_gets_a_further_address_is_compared_at_the_one_that_it_had(self):
        self.new["instances"]["ann"]["interfaces"][0]["addresses"].append("10.1.1.12")
        self.new["filters"]["guard"]["inbound"] = []
        found = self.found("ssh")
        self.assertEqual([(CLOSED, ["bob"], ["ann"])],
                         [(line.kind, [m.name for m in line.sources], [m.instance for m in line.destinations])
                          for line in found.changed])  # fmt: skip

    def test_instances_that_one_version_has_are_told_apart(self):
        self.new["instances"]["eve"] = {"interfaces": [{"subnet": "a1", "addresses": ["10.1.1.77"]}]}
        del self.new["instances"]["dan"]
        found = self.found("ssh")
        self.assertEqual((("dan",), ("eve",)), (found.gone, found.new))

    def test_a_machine_that_has_another_address_is_told_as_not_compared(self):
        self.new["instances"]["bob"]["interfaces"][0]["addresses"] = ["10.1.1.99"]
        found = self.found("ssh")
        self.assertIn("bob", found.moved)
        self.assertIn("10.1.1.11", found.moved)

    def test_what_a_rule_names_is_told_field_by_field(self):
        self.new["subnets"]["a2"]["zone"] = "right"
        self.new["instances"]["bob"]["interfaces"][0]["filters"] = ["guard"]
        texts = {(each.section, each.name): (each.before, each.after) for each in self.found("ssh").said}
        self.assertEqual(("zone: left", "zone: right"), texts["subnets", "a2"])
        self.assertEqual(
            ("interfaces: eth0 (filters: none)", "interfaces: eth0 (filters: guard)"), texts["instances", "bob"]
        )

    def test_addresses_are_told_as_they_are_written(self):
        self.new["instances"]["bob"]["interfaces"][0]["addresses"] = ["10.1.1.99"]
        (told,) = [each for each in self.found("ssh").said if each.name == "bob"]
        self.assertEqual("interfaces: eth0 (addresses: 10.1.1.99)", told.after)

    def test_a_rule_is_switched_beside_machines_with_a_kernels_own_rule_set(self):
        old = load(self.old)
        drops = Chain("inet", "own", "in", hook="input", type="filter", policy="drop")
        ann = dataclasses.replace(old.instances["ann"], host_filter=HostRuleSet("ann.json", (drops,)))
        old = dataclasses.replace(old, instances={**old.instances, "ann": ann})
        walkers = Walker(old), Walker(toggled_rule(old, "guard/inbound/10"))
        found = difference(*map(Ends, walkers), resolve_service("any", {}), 4)
        self.assertEqual((1, ()), (len(found.said), found.changed))  # her kernel stops it, before and after

    def test_a_filter_that_decides_otherwise_or_names_other_directions_is_held_to_walks(self):
        self.old["filters"]["other"] = a_filter("instance", inbound=[{"action": "allow", "service": "https"}])
        self.old["instances"]["ann"]["interfaces"][0]["filters"] = ["guard", "other"]
        for changes in ({"decide": "first"}, {"decide": "any"}, {"inbound": None, "outbound": []}, {"stateful": False},
                        {"otherwise": "allow"}, {"decide": "first", "otherwise": "reject"}):  # fmt: skip
            for before in ("first", "any") if changes.keys() == {"decide"} else ("any",):
                if before == changes.get("decide"):
                    continue
                with self.subTest(changes=changes, before=before):
                    self.old["filters"]["guard"]["decide"] = self.old["filters"]["other"]["decide"] = before
                    self.new = copy.deepcopy(self.old)
                    guard = {**self.new["filters"]["guard"], **changes}
                    self.new["filters"]["guard"] = {key: each for key, each in guard.items() if each is not None}
                    try:
                        old, new = (Ends(Walker(load(each))) for each in (self.old, self.new))
                    except InputError:
                        continue
                    lines = difference(old, new, resolve_service("any", {}), 4).changed
                    for sender, receiver, walks in every_cell(old, new, 4):
                        number = walks[0].flow.service.number
                        mine = [(each.before, each.after) for each in lines if number in each.services
                                and holds(each.sources, sender) and holds(each.destinations, receiver)]  # fmt: skip
                        verdicts = tuple(walk.verdict for walk in walks)
                        if verdicts[0] != verdicts[1]:
                            self.assertEqual([verdicts], mine, (sender.name, receiver.name, number))
                        elif verdicts[0] != "partly":
                            self.assertEqual([], mine, (sender.name, receiver.name, number))

    def test_traffic_of_others_that_passes_an_appliance_is_compared_too(self):
        """Ann's packets to cat go by eve: the edge of eve's subnet, the crossing that leaves her zone, eve's own."""
        self.old["zones"]["mid"] = {}
        self.old["subnets"]["a3"] = {"network": "north", "cidr": "10.1.3.0/24", "zone": "mid",
                                     "route_table": "north-table"}  # fmt: skip
        table = [{"to": "10.1.2.0/24", "via": {"instance": "eve"}}, *self.old["route_tables"]["north-table"]]
        self.old["route_tables"]["by-eve"] = table
        self.old["subnets"]["a1"]["route_table"] = "by-eve"
        self.old["instances"]["eve"] = {"forwards": True, "interfaces": [
            {"subnet": "a3", "addresses": ["10.1.3.10"], "filters": ["own"]}]}  # fmt: skip
        pass_all = [{"order": 20, "action": "allow"}]
        self.old["filters"] |= {
            "edge": a_filter("subnet", outbound=pass_all), "own": a_filter("instance", outbound=pass_all),
            "cross": a_filter("zone", rules=pass_all),
        }  # fmt: skip
        self.old["subnets"]["a3"]["filter"] = "edge"
        self.old["crossings"] = [{"from": "mid", "to": "left", "filter": "cross"}]
        for name, way in (("edge", "outbound"), ("cross", "rules"), ("own", "outbound")):
            self.new = copy.deepcopy(self.old)
            self.new["filters"][name][way] = [{"order": 10, "action": "drop", "service": "ssh"}, *pass_all]
            for far in ("cat", "bob"):
                walks = [question(each, "ann", far, "ssh").walk.verdict for each in (self.old, self.new)]
                told = [(each.before, each.after) for each in self.found().changed
                        if {"ann"} <= {member.name for member in each.sources}
                        and {far} <= {member.name for member in each.destinations}]  # fmt: skip
                self.assertEqual(told, [tuple(walks)] if far == "cat" else [], (name, far))
                self.assertEqual(walks[0] != walks[1], far == "cat", (name, far))

    def test_too_many_pairs_are_refused_with_what_to_ask_instead(self):
        self.new["filters"]["guard"]["inbound"] = [{"order": 10, "action": "allow"}]
        limits = [unittest.mock.patch(f"kiboko.core.changes.both_versions.{name}", 2)
                  for name in ("MOST_PAIRS", "_MOST_WORDS")]  # fmt: skip
        with limits[0]:
            self.assertTrue(self.found().changed, "many pairs with little to compare are compared")
        with limits[0], limits[1], self.assertRaisesRegex(UsageError, "--service.*matrix --against"):
            self.found()
