"""A gateway with a shared address that chooses the clients' ports (RFC 4787), by real packets: S28 and E11.

dan asks a depot by `exit`. His subnet's edge is stateless, and lets replies back to 32768 to 60999 alone.
"""

import unittest
from unittest import mock

from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.header.addresses import parse_address
from kiboko.core.records.flow_table import table_of
from kiboko.core.walk.walk import Walker
from kiboko.replica import gateways
from kiboko.replica.trials import Choice
from kiboko.replica.verify import verify
from tests.helpers import a_filter, base, load
from tests.namespaces import why_not

SERVICES = ("ssh", "http", "https", "telnet", "smtp", "tcp/110", "tcp/143", "tcp/993")
SHARED = parse_address("203.0.113.2")
add_shared = gateways._add_shared


def choosing(site, machine, gateway):
    """The gateway as the replica builds it, but that it chooses a port of its own for each connection, none with a name:
    where both ends have one, nothing tells who began."""
    add_shared(site, machine, gateway)
    at = next(number for number, rule in enumerate(machine.rules) if "snat" in rule)
    machine.rules.insert(at, f'oifname "outer" ip protocol tcp snat ip to {gateway.address}:28000-65535 fully-random')


@unittest.skipIf(why_not(), why_not())
class ChosenPorts(unittest.TestCase):
    def network(self, back):
        values = base()
        values["filters"]["edge"] = a_filter("subnet", stateful=False, outbound=[{"action": "allow"}],
                                             inbound=[{"action": "allow", "service": back}])  # fmt: skip
        values["subnets"]["b1"]["filter"] = "edge"
        values["observation_points"] = {"1": "exit", "2": "depot"}
        return load(values)

    def found(self, topology, records):
        """What the records come to that show the shared address, by the client's port."""
        judged = Evaluator(Comparison(Walker(topology))).judge(table_of(records))
        found = {}
        for record, code in zip(records, judged.conclusion.tolist(), strict=True):
            if record.source == SHARED:
                found[record.source_port] = judged.concluded[code].status
        return found

    def test_no_port_that_the_gateway_chose_is_a_leak(self):
        topology = self.network("tcp/32768-60999")
        with mock.patch.object(gateways, "_add_shared", choosing):
            run = verify(topology, Choice(sources=("dan",), destinations=("depot",), services=SERVICES), (), True)
        self.assertEqual({"answered"}, {probe.outcome for probe in run.probes})
        found = self.found(topology, list(run.flows))
        self.assertEqual(len(SERVICES), len(found))
        own = {probe.source_port for probe in run.probes}
        self.assertGreater(len(set(found) - own), len(found) // 2, "the kernel chose")
        # Within what the edge lets back it may be dan's own port or not, and all of these are allowed.
        want = {port: "agree" if 32768 <= port <= 60999 else "unsure" for port in found}
        self.assertEqual(want, found)
        self.assertEqual({"agree"}, set(self.found(self.network("tcp"), list(run.flows)).values()))
        self.assertEqual({"leak"}, set(self.found(self.network("udp"), list(run.flows)).values()))


if __name__ == "__main__":
    unittest.main()
