"""What `confirm` concludes of what real exporters record of real packets, strangers' among them.

The networks are built as they are described: whatever becomes of a packet is what the rules say, and no log has a leak or
a break, whatever an exporter makes of it.
"""

import collections
import os
import random
import shutil
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

from kiboko.core.header.services import OF_LINKS
from kiboko.core.walk.walk import Walker
from kiboko.files.logs.flow_reader import tables_of
from kiboko.replica.holder import HolderTask, run_inside
from kiboko.replica.part import whole
from kiboko.replica.trials import Choice, chosen_services, chosen_trials, outside_addresses
from kiboko.replica.verify import draw
from tests.helpers import load, while_some_hold
from tests.namespaces import why_not
from tests.random_networks import varied_network
from tests.replica.captured import EXPORTERS, SAMPLING, exported
from tests.replica.strangers import drawn
from tests.replica.test_truth import SERVICES, conclusions, observed_everywhere

NETWORKS = int(os.environ.get("KIBOKO_TRUTH", "2"))
FIRST_NETWORK = int(os.environ.get("KIBOKO_FIRST_NETWORK", "2"))
_PROBES, _STRAYS = 200, 250
_ROOT = str(Path(__file__).resolve().parents[2])


@unittest.skipIf(why_not(), why_not())
@unittest.skipUnless(shutil.which("softflowd") and shutil.which("pmacctd"), "softflowd or pmacctd is not installed")
class AgainstTheKernel(unittest.TestCase):
    maxDiff = None

    def test_where_the_rules_are_kept_nothing_that_exporters_record_is_a_leak_or_a_break(self):
        statuses, wrong = collections.defaultdict(collections.Counter), collections.Counter()
        of_links = 0
        for seed in range(FIRST_NETWORK, FIRST_NETWORK + NETWORKS):
            for name, topology, records in self.logs(seed):
                of_links += sum(
                    each.service.protocol == 58 and each.service.detail >> 8 in OF_LINKS for each in records
                )
                for key, _, found in conclusions(topology, records):
                    statuses[name]["as far as seen" if found.as_far_as_seen else found.status] += 1
                    if found.status in ("leak", "break"):
                        wrong[f"network {seed}, {name}, {key}: {found.status}, {found.why}"] += 1
        print()
        for name, counts in statuses.items():
            print(f"  {name}: {dict(counts)}")
        self.assertEqual({}, dict(wrong))
        self.assertGreater(of_links, 0, "neighbours find each other")
        for exporter in EXPORTERS:
            told = "as far as seen" if exporter == SAMPLING else "agree"
            self.assertGreater(statuses[exporter][told], 0, exporter)

    def logs(self, seed):
        """What each exporter records of a network, with its points and without."""
        chance = random.Random(seed)
        topology = observed_everywhere(load(varied_network(seed)), chance)
        walker, choice = Walker(topology), Choice(services=(*SERVICES[seed % 2], "ping"), most=_PROBES, seed=seed)
        services = chosen_services(topology, choice)
        trials = chosen_trials(walker, outside_addresses(topology, walker.directory), {}, services, choice)
        layout = draw(while_some_hold(topology, seed), walker, services, (), False, whole(topology))
        ports = [*(each.detail for each in services if each.has_ports), 443, 123]
        strays = drawn(walker, layout, ports, _STRAYS, chance)
        points = {point.name: number for number, point in topology.observation_points.items()}
        with tempfile.TemporaryDirectory() as folder:
            os.chmod(folder, 0o755)  # exporters give up their rights
            argument = layout, trials, strays, list(topology.subnets), folder
            with mock.patch.dict(os.environ, PYTHONPATH=_ROOT):
                run_inside(HolderTask("tests.replica.captured", "captured_inside", argument))
            for exporter in EXPORTERS:
                records = []
                for subnet in topology.subnets:
                    path = Path(folder, f"{subnet}.ipfix")
                    exported(exporter, Path(folder, f"{subnet}.pcap"), path)
                    for table, _ in tables_of(path) if path.stat().st_size else ():
                        records += [replace(table.record(row), point=points[subnet], file=subnet)
                                    for row in range(len(table))]  # fmt: skip
                yield exporter, topology, records
                yield f"{exporter}, no points", topology, [replace(each, point=None) for each in records]


if __name__ == "__main__":
    unittest.main()
