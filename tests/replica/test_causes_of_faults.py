"""Every fault put into a replica is named first among the causes by `confirm` on what that replica recorded (E12)."""

import dataclasses
import unittest

from kiboko.core.evidence.causes import Causes
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.summary import Summary
from kiboko.core.header.services import parse_services
from kiboko.core.records.flow_table import table_of
from kiboko.core.walk.walk import Walker
from kiboko.replica.faults import KINDS, OF_TIME, Fault
from kiboko.replica.trials import Choice
from kiboko.replica.verify import verify
from tests.helpers import a_filter, base, load
from tests.namespaces import why_not


def network():
    """ann, bob and cat carry a filter of their own and that of the fleet; dan's subnet has an edge."""
    values = base()
    values["groups"] = {"admins": {"where": {"role": "admin"}}}
    values["filters"] = {
        "guard": a_filter("instance", inbound=[{"action": "allow", "from": "admins", "service": "ssh"},
                                               {"action": "allow", "service": ["http", "ping"]}]),
        "fleet": a_filter("instance", otherwise="allow", attach_to=["all"],
                          rules=[{"action": "drop", "service": ["telnet", "udp/69"]}]),
        "edge": a_filter("subnet", inbound=[{"action": "allow", "service": ["ssh", "http", "ping", "telnet", "udp/69"]}],
                         outbound=[{"action": "allow"}]),
    }  # fmt: skip
    for name in ("ann", "bob", "cat", "dan"):
        values["instances"][name]["listens"] = ["ssh", "http", "telnet", "udp/69"]
        if name != "dan":
            values["instances"][name]["interfaces"][0]["filters"] = ["guard"]
    values["instances"]["bob"]["tags"] = {"role": "admin"}
    values["subnets"]["b1"]["filter"] = "edge"
    values["observation_points"] = {"1": "a1", "2": "a2", "3": "b1", "4": "ann", "5": "bob", "6": "cat", "7": "dan"}
    return values


def older(services):
    """The filter of the machines as it was, with other services."""
    values = network()
    values["filters"]["guard"]["inbound"][1]["service"] = services
    return load(values).filters["guard"]


FAULTS = (
    Fault("not-enforced", "ann"),
    Fault("exempt", "fleet", at="cat"),
    Fault("not-attached", "guard", at="cat"),
    Fault("older-filter", "guard", older=older(["ping"])),
    Fault("membership", "admins", at="cat"),
    Fault("no-address", "bob", at="10.1.1.77"),
    Fault("service-down", "ann", parse_services("http")),
    Fault("host-filter", "ann", parse_services("http")),
    Fault("no-way-back", "edge"),
    Fault("older-session", "guard", older=older(["http", "ping", "ssh"])),
    Fault("log-before-as-of", "guard", older=older(["http", "ping", "ssh"])),
    Fault("sender-side", "cat", parse_services("http")),
    Fault("host-unhealthy", "ann"),
)


@unittest.skipIf(why_not(), why_not())
class EachFault(unittest.TestCase):
    def test_there_is_one_of_each_kind(self):
        self.assertEqual({fault.kind for fault in FAULTS}, set(KINDS))

    def test_it_is_named_first(self):
        topology = load(network())
        for fault in FAULTS:
            if fault.kind in OF_TIME:
                continue
            with self.subTest(fault.kind):
                summary, walker, _ = recorded(topology, fault)
                causes = Causes(walker, summary.rows())
                told = [(group, causes.of(group)) for group in summary.rows(("leak", "break"))]
                self.assertTrue(told, "the fault shows")
                wrong = [(g.concluded.status, g.evidence, g.source, g.destination, g.service, g.concluded.observed,
                          [(c.id, c.weight, c.looked_at) for c in found[:3]])
                         for g, found in told if not found or found[0].id != fault.kind]  # fmt: skip
                self.assertEqual([], wrong, f"{len(wrong)} of {len(told)}")

    def test_what_is_of_another_time_is_no_leak_and_no_break_and_is_told_as_what_it_is(self):
        topology = load(network())
        for fault in FAULTS:
            if fault.kind not in OF_TIME:
                continue
            with self.subTest(fault.kind):
                summary, walker, run = recorded(topology, fault)
                self.assertEqual([], list(summary.rows(("leak", "break"))))
                causes = Causes(walker, summary.rows())
                told = [group for group in summary.rows(("unsure",)) if group.concluded.cause is not None]
                self.assertGreater(len(told), 3)
                self.assertEqual({fault.kind}, {causes.of(group)[0].id for group in told})
                self.assertEqual({"tcp/22"}, {str(group.example.service) for group in told})  # allowed until then
                # Without the time since when the rules are in force it is what it would be: leaks.
                blind = recorded_of(walker.topology, run, None)[0]
                self.assertLessEqual({(g.source, g.destination) for g in told},
                                     {(g.source, g.destination) for g in blind.rows(("leak",))})  # fmt: skip


def recorded(topology, fault):
    """What the evidence of a replica with a fault comes to, the walker of its network, and the run."""
    services = ("ssh", "http", "telnet", "udp/69", "ping")
    run = verify(topology, Choice(services=services, most=500, seed=3), (fault,), True)
    return recorded_of(topology, run, run.as_of)


def recorded_of(topology, run, as_of):
    walker = Walker(dataclasses.replace(topology, as_of=as_of))
    comparison, summary = Comparison(walker), Summary(walker.directory)
    for probe in run.probes:
        summary.add(probe, comparison.probe(probe))
    summary.take_all(Evaluator(comparison).tallies(table_of(list(run.flows))), comparison.finding)
    return summary, walker, run


if __name__ == "__main__":
    unittest.main()
