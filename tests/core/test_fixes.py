"""Proposed changes on random networks: each does what it says, by the edit and by the change file of it; what else it
does is all that differs."""

import random
import tempfile
import unittest
from collections import Counter
from pathlib import Path

import yaml

from kiboko.core.changes.difference import difference
from kiboko.core.changes.effects import EffectsOf
from kiboko.core.errors import InputError
from kiboko.core.header.addresses import parse_address
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.queries.proposals import Proposals, proposals, stops
from kiboko.core.queries.proving import walked_again
from kiboko.core.walk.walk import ALLOWED, Walker
from kiboko.files.changes.applying import changed
from kiboko.files.changes.change_file import change_of, change_text
from kiboko.files.network.network_file import load_network
from kiboko.replica.trials import Choice
from kiboko.replica.verify import verify
from tests.helpers import a_filter, base, load
from tests.namespaces import why_not
from tests.random_networks import random_network
from tests.wider_networks import wider_network

SERVICES = (Service(6, 22), Service(17, 53), Service(6, 8005), Service(1, 8 << 8))


def asked(walker, chance, count, *, public=False):
    """Some flows between machines, by their public addresses, too, where that is asked for."""
    ends = [(each, address) for each in walker.directory.interfaces() for address in each.addresses]
    ends += [(each, each.public) for each in walker.directory.interfaces() if public and each.public is not None]
    for _ in range(count):
        (one, source), (other, target) = chance.choice(ends), chance.choice(ends)
        service = chance.choice(SERVICES)
        if (
            one.instance != other.instance
            and source.family == target.family
            and (service.protocol != 1 or source.family == 4)
        ):
            yield walker.walk(walker.directory.endpoint(source), target, service)


class OnRandomNetworks(unittest.TestCase):
    def setUp(self):
        self.path = Path(self.enterContext(tempfile.TemporaryDirectory())) / "network.yaml"

    def by_file(self, steps):
        """The network with the steps made by a change file."""
        return changed(str(self.path), change_of(change_text("x", "", [dict(each) for each in steps]), "c.yaml"))[0]

    def test_change_files_of_proposals_come_to_what_they_say(self):
        met = Counter()
        for seed in range(4):
            self.path.write_text(yaml.safe_dump(random_network(seed), sort_keys=False))
            walker = Walker(load_network(str(self.path)))
            chance = random.Random(seed)
            for walk in asked(walker, chance, 25):
                if walk.verdict == ALLOWED:
                    continue
                found = proposals(walker, walk)
                for each in (one for first in found.each for one in (first, *first.others)):
                    if each.steps and not each.rests_on_earlier:
                        after = walked_again(walker.on(self.by_file(each.steps)), walk)
                        self.assertEqual(after.verdict, each.verdict_after, (seed, each.text, each.steps))
                        met[next(iter(each.steps[0]))] += 1
                steps = [step for each in found.each for step in each.steps]
                if steps and all(each.steps for each in found.each):
                    try:
                        whole = self.by_file(steps)
                    except InputError as error:
                        self.assertIn("changed twice", str(error), (seed, steps))
                        met["both"] += 1
                        continue
                    after = walked_again(walker.on(whole), walk)
                    self.assertEqual(after.verdict, found.verdict_with_all, (seed, steps))
                    met["whole"] += 1
        for verb in ("add_rule", "edit_rule", "whole"):
            self.assertGreater(met[verb], 5, met)
        self.assertGreater(met["move_rule"] + met["enable_rule"], 0, met)
        self.assertLess(met["both"], 3, met)

    def test_no_change_is_proposed_that_leaves_its_gate_as_it_is(self):
        """Removing the route of a whole network, say, for an address of it that no subnet has."""
        met = Counter()
        for seed in range(12):
            walker = Walker(load((random_network, wider_network)[seed % 2](seed)))
            for walk in asked(walker, random.Random(seed), 40, public=True):
                found = proposals(walker, walk) if walk.verdict != ALLOWED else Proposals((), ALLOWED)
                now, topology = walk, walker.topology
                for number, each in enumerate(found.each):
                    self.assertEqual(each.proved, each.edit is not None, (seed, each.text))
                    if each.edit is None:
                        continue
                    topology = each.edit(topology)
                    after = walked_again(walker.on(topology), walk)
                    stops = [row for row in now.rows if row.stops and (row.gate, row.at) == (each.gate, each.at)]
                    left = [row for row in after.rows if row.stops and (row.gate, row.at) == (each.gate, each.at)]
                    self.assertLess(len(left), len(stops), (seed, each.text))
                    if each.rests_on_earlier:
                        with_earlier = found.edit_of(number)(walker.topology)
                        self.assertEqual(each.verdict_after, walked_again(walker.on(with_earlier), walk).verdict)
                    met[each.gate, each.rests_on_earlier] += 1
                    now = after
                self.assertEqual(found.verdict_with_all, now.verdict)
        self.assertGreater(sum(count for (_, rests), count in met.items() if rests), 5, met)
        self.assertGreater(met["route", False], 5, met)

    def test_stops_stop(self):
        met = 0
        for seed in range(4):
            self.path.write_text(yaml.safe_dump(random_network(seed), sort_keys=False))
            walker = Walker(load_network(str(self.path)))
            for walk in asked(walker, random.Random(seed), 15):
                if walk.verdict == ALLOWED:
                    for each in stops(walker, walk):
                        after = walked_again(walker.on(self.by_file(each.steps)), walk)
                        self.assertFalse(after.delivered, (seed, each.text))
                        met += 1
        self.assertGreater(met, 5)

    def test_what_else_a_change_does_is_all_that_differs_but_the_flow_itself(self):
        met = Counter()
        for seed in range(2):
            walker = Walker(load(random_network(seed)))
            for walk in asked(walker, random.Random(seed), 8):
                for each in proposals(walker, walk).each if walk.verdict != ALLOWED else ():
                    if each.edit is None or each.rests_on_earlier:
                        continue
                    effects = EffectsOf(walker, walk, ()).of(each.edit)
                    both = Ends(walker), Ends(walker.on(each.edit(walker.topology)))
                    lines = difference(*both, resolve_service("any", {})).changed
                    own = [line for line in lines if line not in effects.other]
                    for line in own:
                        alike = [each.services for each in effects.other if each.before == line.before
                                 and (each.sources, each.destinations) == (line.sources, line.destinations)]  # fmt: skip
                        left = alike[0] if alike else RangeSet()
                        self.assertEqual(line.services - left, RangeSet.one(walk.flow.service.number))
                        self.assertEqual((len(line.sources), len(line.destinations)), (1, 1))
                    self.assertLessEqual(len(own), 1)
                    met[effects.is_nothing_else] += 1
        self.assertTrue(met[True] and met[False], met)


class ByHand(unittest.TestCase):
    def test_who_is_nowhere_is_to_be_recorded_and_that_is_said_once(self):
        walker = Walker(load(base()))
        for sender, target in (("10.99.1.1", "10.1.1.10"), ("10.1.1.10", "10.99.1.1")):
            ends = [walker.directory.endpoint(parse_address(each)) for each in (sender, target)]
            found = proposals(walker, walker.walk(ends[0], parse_address(target), Service(6, 22)))
            told = "record where 10.99.1.1 is: a subnet, or an outside that lists it, and what leads there"
            self.assertEqual([told], [each.text for each in found.each if "10.99.1.1" in each.text])

    def test_no_route_is_touched_for_an_address_that_no_subnet_has(self):
        values = base()
        walker = Walker(load(values))
        sender = walker.directory.endpoint(parse_address("10.1.1.10"))
        walk = walker.walk(sender, parse_address("10.2.77.1"), Service(6, 22))
        (found,) = proposals(walker, walk).each
        self.assertEqual(("route", None), (found.gate, found.edit))
        self.assertEqual("no change of a route carries it: no subnet of south holds 10.2.77.1", found.text)

    def test_what_listens_already_is_bound_as_it_was_when_something_is_added(self):
        values = base()
        bound = [{"service": "http", "address": "0.0.0.0"}, {"service": "https", "address": "::"}, "dns",
                 {"service": ["ntp", "tcp/8080"], "address": "127.0.0.1"}]  # fmt: skip
        values["instances"]["bob"]["listens"] = bound
        walker = Walker(load(values))
        walk = walker.walk(
            walker.directory.endpoint(parse_address("10.1.1.10")), parse_address("10.1.1.11"), Service(6, 22)
        )
        (found,) = proposals(walker, walk).each
        self.assertEqual(found.steps, ({"set_instance": {"instance": "bob", "listens": [*bound, "tcp/22"]}},))

    def test_what_there_is_is_changed_before_anything_is_added(self):
        values = base()
        values["groups"] = {"desks": {"where": {"role": "desk"}}}
        values["instances"]["bob"]["tags"] = {"role": "dekk"}
        rules = [{"order": 10, "action": "allow", "from": "desks", "service": "ssh"}, {"order": 20, "action": "drop"},
                 {"order": 30, "action": "allow", "from": "cat", "service": "ssh"},
                 {"order": 40, "action": "allow", "service": "http", "enabled": False}]  # fmt: skip
        values["filters"]["guard"] = a_filter("instance", inbound=rules)
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
        walker = Walker(load(values))

        def first(sender, service):
            end = walker.directory.endpoint(walker.topology.instances[sender].interfaces[0].addresses[0])
            target = walker.topology.instances["ann"].interfaces[0].addresses[0]
            (found,) = proposals(walker, walker.walk(end, target, service)).each
            return found

        self.assertEqual(first("cat", Service(6, 22)).steps,
                         ({"move_rule": {"rule": "guard/inbound/30", "order": 15}},))  # fmt: skip
        self.assertEqual(first("bob", Service(6, 22)).steps,
                         ({"set_instance": {"instance": "bob", "tags": {"role": "desk"}}},))  # fmt: skip
        self.assertEqual(first("dan", Service(6, 443)).rule["order"], 15, "nothing there fits: a rule is added")

    def test_a_second_change_in_a_filter_that_the_first_one_brings_is_made_with_that(self):
        """Out and back in between neighbours: no crossing public>left is listed, which both legs need."""
        values = base()
        values["zones"] = {"left": {}, "right": {}, "public": {}, "depots": {}}
        values["defaults"] = {"between_zones": "drop"}
        values["outside"]["internet"]["zone"] = "public"
        values["filters"]["out"] = a_filter("zone", stateful=False, rules=[{"order": 10, "action": "allow"}])
        values["crossings"] = [{"from": "left", "to": "public", "filter": "out"}]
        walker = Walker(load(values))
        sender = walker.directory.endpoint(walker.topology.instances["ann"].interfaces[0].addresses[0])
        target = walker.topology.instances["cat"].interfaces[0].public
        walk = walker.walk(sender, target, Service(6, 443))
        found = proposals(walker, walk)
        self.assertEqual([None, "public-to-left"], [each.filter for each in found.each])
        self.assertEqual((ALLOWED, True), (found.verdict_with_all, all(each.proved for each in found.each)))
        self.assertEqual([False, True], [each.rests_on_earlier for each in found.each])
        self.assertIn("in public-to-left, rules, at the end", found.each[1].text)
        for number, each in enumerate(found.each):  # each by itself, as `--fixes` asks what else it would do
            changed_so = walker.on(found.edit_of(number)(walker.topology))
            self.assertEqual(each.verdict_after, walked_again(changed_so, walk).verdict)


@unittest.skipIf(why_not(), why_not())
class HeldToTheKernel(unittest.TestCase):
    def test_a_network_with_proposals_made_does_what_the_walk_says(self):
        done = 0
        for seed in (1, 4):
            walker = Walker(load(random_network(seed)))
            topology = walker.topology
            for walk in asked(walker, random.Random(seed), 40):
                found = proposals(walker.on(topology), walked_again(walker.on(topology), walk))
                if found.each and found.verdict_with_all == ALLOWED and all(each.edit for each in found.each):
                    for each in found.each:
                        topology = each.edit(topology)
                    done += 1
                if done >= 3 * (1 + (1, 4).index(seed)):
                    break
            run = verify(topology, Choice(most=120, seed=seed))
            self.assertEqual([], [(d.source, d.outcome, d.walk.verdict) for d in run.differences])
        self.assertGreater(done, 3)


if __name__ == "__main__":
    unittest.main()
