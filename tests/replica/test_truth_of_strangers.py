"""What `confirm` concludes where strangers send what belongs to no connection, held against real packets.

The networks are built as they are described, so that whatever becomes of a packet is what the rules say: no log of it,
however little it tells, has a leak or a break.
"""

import collections
import os
import random
import unittest
from pathlib import Path
from unittest import mock

from kiboko.core.walk.walk import Walker
from kiboko.replica.holder import HolderTask, run_inside
from kiboko.replica.part import whole
from kiboko.replica.trials import Choice, chosen_services, chosen_trials, outside_addresses
from kiboko.replica.verify import draw, probe_record
from tests.helpers import load, while_some_hold
from tests.namespaces import why_not
from tests.random_networks import varied_network
from tests.replica.odd_logs import OddLogs
from tests.replica.strangers import drawn
from tests.replica.test_truth import (
    FIRST_NETWORK,
    NETWORKS,
    SERVICES,
    TWICE,
    Truth,
    conclusions,
    observed_everywhere,
)

_PROBES, _STRAYS = 60, 250
_ROOT = str(Path(__file__).resolve().parents[2])
_MADE_UP = ("sessions", "fragments", "first packets", "long flows", "cut off", "began in the middle")
"""Of strangers' packets these kinds of logs would have what no exporter writes, or bring different ones together."""


@unittest.skipIf(why_not(), why_not())
class AgainstTheKernel(unittest.TestCase):
    maxDiff = None

    def test_where_the_rules_are_kept_no_stranger_makes_a_leak_or_a_break(self):
        statuses, wrong = collections.defaultdict(collections.Counter), collections.Counter()
        for seed in range(FIRST_NETWORK, FIRST_NETWORK + NETWORKS):
            chance = random.Random(seed)
            topology = observed_everywhere(load(varied_network(seed)), chance)
            walker, asked = Walker(topology), SERVICES[seed % 2]
            services = chosen_services(topology, Choice(services=asked))
            outside = outside_addresses(topology, walker.directory)
            trials = chosen_trials(walker, outside, {}, services, Choice(services=asked, most=_PROBES, seed=seed))
            held = while_some_hold(topology, seed)
            layout = draw(held, walker, services, (), True, whole(topology))
            ports = [*(each.detail for each in services), 443, 123]
            strays = drawn(walker, layout, ports, _STRAYS, chance)
            task = HolderTask("tests.replica.strangers", "sent_inside", (layout, trials, strays, 0.7))
            with mock.patch.dict(os.environ, PYTHONPATH=_ROOT):
                outcomes, flows = run_inside(task)
            probes = [probe_record(walker, *each) for each in
                      ((trial, *told) for trial, told in zip(trials, outcomes, strict=True))]  # fmt: skip
            truth = Truth(topology, (), probes, held)
            odd = OddLogs({gateway.address for gateway in topology.gateways.values()} - {None}, asked, chance)
            logs = [(name, kind(list(flows))) for name, kind in odd.kinds.items()]
            logs += [(" and ".join(names), few) for names, few in (odd.several(2, list(flows)) for _ in range(TWICE))]
            for name, records in logs:
                if any(each in name for each in _MADE_UP):
                    continue
                for key, _, found in conclusions(topology, records):
                    whose = "a probe" if key in truth.outcomes else "others"
                    statuses[whose]["as far as seen" if found.as_far_as_seen else found.status] += 1
                    if found.status in ("leak", "break"):
                        wrong[f"network {seed}, {name}, {whose}: {found.status}, {found.why}"] += 1
        print()
        for whose, counts in statuses.items():
            print(f"  {whose}: {dict(counts)}")
        self.assertEqual({}, dict(wrong))
        self.assertGreater(statuses["a probe"]["agree"], 0)
        self.assertGreater(statuses["others"]["unsure"], _STRAYS)


if __name__ == "__main__":
    unittest.main()
