"""Promises that were broken before a change and are broken for more by it, held against each pair by itself."""

import copy
import itertools
import os
import random
import unittest
from datetime import date

from kiboko.core.changes.difference import difference
from kiboko.core.changes.expecting import BROKEN, HELD, held
from kiboko.core.changes.rehearsing import rehearse
from kiboko.core.changes.worsened import Worsened as Worse
from kiboko.core.errors import InputError, Place
from kiboko.core.network.model import Expectation
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.walk.walk import Walker
from tests.helpers import a_filter, base, load
from tests.random_changes import changed
from tests.wider_networks import any_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "3"))
ANY = resolve_service("any", {})


def promise(expect, sources, destinations, service="ssh", **more):
    return Expectation("it", tuple(sources), tuple(destinations), resolve_service(service, {}), service, expect,
                       place=Place("x", 1), **more)  # fmt: skip


class Worsened(unittest.TestCase):
    def test_a_promise_is_worse_where_one_of_its_pairs_keeps_it_no_more(self):
        counted = {True: 0, False: 0}
        for seed in range(NETWORKS):
            values, chance = any_network(seed), random.Random(seed)
            try:
                other = changed(changed(changed(values, chance), chance), chance)
                old, new = (Ends(Walker(load(each))) for each in (values, other))
            except InputError:  # what was changed is no network any more
                continue
            known = [name for name in old.topology.instances if name in new.topology.instances]
            found = difference(old, new, ANY)
            for expect, service in itertools.product(("allowed", "blocked"), ("ssh", "tcp/8005", "udp/53")):
                asked = promise(expect, known[::2], known[1::2], service)
                if {held(ends, [asked])[0].state for ends in (old, new)} != {BROKEN}:
                    continue
                pairs = [promise(expect, [one], [other], service) for one in known[::2] for other in known[1::2]]
                before, after = (held(ends, pairs) for ends in (old, new))
                is_worse = any(was.state == HELD and now.state == BROKEN and now.pairs
                               for was, now in zip(before, after, strict=True))  # fmt: skip
                self.assertLessEqual(is_worse, bool(Worse(new, found).shown(asked)), (seed, expect, service))
                counted[is_worse] += 1
        self.assertGreater(min(counted.values()), 0, counted)

    def setUp(self):
        """Ann and bob are not to be reached from cat, and ann is."""
        self.old = base()
        self.old["filters"]["open"] = a_filter("instance", inbound=[{"action": "allow", "service": ["ssh", "dns"]}])
        self.old["filters"]["shut"] = a_filter("instance", inbound=[])
        self.old["groups"] = {"both": {"members": ["ann", "bob"]}}
        for name, guard in (("ann", "open"), ("bob", "shut")):
            self.old["instances"][name]["interfaces"][0]["filters"] = [guard]
        self.new = copy.deepcopy(self.old)

    def worse(self, *promises):
        old, new = (Ends(Walker(load(each))) for each in (self.old, self.new))
        found = rehearse(old, new, ANY, None, date(2026, 11, 28), promises)
        self.assertEqual((found.broken, found.mended), ((), ()))
        return [pair for _, pair in found.worse]

    def test_one_more_machine_that_is_reached_breaks_a_broken_promise_further(self):
        asked = promise("blocked", ["cat"], ["both"])
        self.assertEqual(self.worse(asked), [])
        self.new["instances"]["bob"]["interfaces"][0]["filters"] = ["open"]
        self.assertEqual(self.worse(asked), ["cat to bob on tcp/22 arrives"])
        self.assertEqual(self.worse(promise("blocked", ["cat"], ["ann"])), [])
        self.assertEqual(self.worse(promise("allowed", ["cat"], ["both"], "https")), [])
        self.assertEqual(self.worse(promise("only", ["dan"], ["both"])), ["ann to bob on tcp/22 arrives"])

    def test_one_machine_less_that_gets_through_does_too_and_one_that_is_new_is_looked_at(self):
        self.new["instances"]["ann"]["interfaces"][0]["filters"] = ["shut"]
        self.assertEqual(
            self.worse(promise("allowed", ["cat"], ["both"])), ["cat to ann on tcp/22 does not get through"]
        )
        self.new = copy.deepcopy(self.old)
        self.new["instances"]["eve"] = {
            "interfaces": [{"subnet": "a1", "addresses": ["10.1.1.99"], "filters": ["open"]}]
        }
        self.new["groups"] = {"both": {"members": ["ann", "bob", "eve"]}}
        self.assertEqual(self.worse(promise("blocked", ["cat"], ["both"])), ["cat to eve on tcp/22 arrives"])


if __name__ == "__main__":
    unittest.main()
