"""Faults and observation points as plain values: what is built, without building it. Expectations are written by hand."""

import json
import os
import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path
from unittest import mock

from kiboko.core.errors import EnvironmentFailure, UsageError
from kiboko.core.header.addresses import parse_address
from kiboko.core.header.services import Service, parse_services
from kiboko.core.walk.walk import Walker
from kiboko.replica import standing
from kiboko.replica.faults import Fault, as_built, check_faults
from kiboko.replica.laying_out import lay_out
from kiboko.replica.layout import Tap
from kiboko.replica.recorder import Header, Recorder
from kiboko.replica.trials import Choice, Trial, chosen_services, chosen_trials, outside_addresses
from kiboko.replica.verify import probe_record
from kiboko.wire.probes import Outcome, Target
from tests.helpers import a_filter, base, load


def network():
    """ann carries guard, which takes ssh; dan's subnet b1 has an edge; ann listens to ssh and http."""
    values = base()
    values["filters"] = {
        "guard": a_filter("instance", inbound=[{"action": "allow", "service": "ssh"}]),
        "edge": a_filter("subnet", inbound=[{"action": "allow"}]),
    }
    values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
    values["instances"]["ann"]["listens"] = ["ssh", "http"]
    values["instances"]["cat"]["listens"] = []
    values["subnets"]["b1"]["filter"] = "edge"
    return values


def machine(layout, name):
    return layout.machines[layout.homes[name]]


class Faults(unittest.TestCase):
    def setUp(self):
        self.topology = load(network())

    def test_a_service_that_is_down_is_one_less_and_the_walk_is_not_told(self):
        ssh = parse_services("ssh")
        built = as_built(self.topology, (Fault("service-down", "ann", ssh),))
        self.assertEqual([each.text for each in built.instances["ann"].listens], ["http"])
        self.assertEqual([each.text for each in self.topology.instances["ann"].listens], ["ssh", "http"])
        self.assertEqual(as_built(self.topology, (Fault("service-down", "ann"),)).instances["ann"].listens, ())

    def test_of_a_machine_whose_listeners_are_not_known_all_others_stay(self):
        built = as_built(self.topology, (Fault("service-down", "bob", parse_services("tcp/22")),))
        (left,) = built.instances["bob"].listens
        self.assertNotIn(6 << 16 | 22, left.services)
        self.assertIn(6 << 16 | 23, left.services)
        self.assertIn(17 << 16 | 22, left.services)

    def test_filters_that_are_not_enforced_are_left_out_on_that_machine_only(self):
        plain = lay_out(self.topology, [], {})
        faulty = lay_out(self.topology, [], {}, (Fault("not-enforced", "ann"),))
        self.assertIn("tcp dport { 22 } return", machine(plain, "ann").rules)
        self.assertNotIn("tcp dport { 22 } return", machine(faulty, "ann").rules)
        self.assertEqual(machine(plain, "b1").rules, machine(faulty, "b1").rules)

    def test_an_older_filter_keeps_todays_attachments(self):
        values = network()
        values["filters"]["guard"]["inbound"] = []
        older = load(values).filters["guard"]
        built = as_built(self.topology, (Fault("older-filter", "guard", older=older),))
        self.assertEqual(built.filters["guard"].inbound, ())
        self.assertEqual(built.instances["ann"], self.topology.instances["ann"])

    def test_a_sender_side_drops_what_is_new_on_its_way_out(self):
        made = lay_out(self.topology, [], {}, (Fault("sender-side", "depot", parse_services("ssh")),))
        line = 'oifname != "lo" ct direction original ct state new tcp dport { 22 } drop'
        self.assertIn(line, machine(made, "depot").rules)
        self.assertNotIn(line, machine(made, "internet").rules)

    def test_what_cannot_be_put_in(self):
        older = load(network()).filters["edge"]
        values = network()
        values["groups"]["gone"] = {"members": ["ann"]}
        values["filters"]["guard"]["inbound"] = [{"action": "allow", "from": "gone"}]
        for fault, said in (
            (Fault("not-enforced", "depot"), "'depot' is no instance"),
            (Fault("sender-side", "a1"), "'a1' is no instance or outside"),
            (Fault("older-filter", "gard"), "'gard' is no filter"),
            (Fault("service-down", "cat"), "listens to nothing"),
            (Fault("older-filter", "guard", older=load(values).filters["guard"]), "names 'gone'"),
        ):
            with self.subTest(said), self.assertRaisesRegex(UsageError, said):
                check_faults((fault,), self.topology)
        check_faults((Fault("older-filter", "edge", older=older),), self.topology)


class Taps(unittest.TestCase):
    def made(self, points, **more):
        values = {**network(), **more}
        values["observation_points"] = points
        return lay_out(load(values), [("tcp", 22)], {}, tapping=True)

    def logs(self, machine):
        return [line for line in machine.rules if "log prefix" in line]

    def test_a_subnet_is_observed_at_its_router_before_and_behind_its_filter(self):
        made = self.made({7: "b1"})
        self.assertEqual(made.taps, [Tap("7", False), Tap("7", True)])
        self.assertEqual(list(made.tapped), [made.homes["b1"]])
        heads = [line for line in machine(made, "b1").rules if line.startswith("chain tap-")]
        self.assertEqual([(head.split()[6], head.split()[8]) for head in heads],
                         [("prerouting", "-300;"), ("output", "-300;"), ("input", "300;"), ("postrouting", "300;")])  # fmt: skip

    def test_one_interface_is_observed_for_itself(self):
        made = self.made({7: "ann/eth0"})
        self.assertTrue(all('ifname "eth0"' in line for line in self.logs(machine(made, "ann"))))

    def test_a_crossing_is_observed_around_its_rules(self):
        made = self.made({7: {"from": "left", "to": "right"}})
        core = made.machines["core"].rules
        at = core.index("chain cross-zleft-zright {")
        self.assertEqual([line.split()[0] for line in core[at + 1 : at + 4]], ["log", "jump", "log"])
        self.assertEqual(core[at + 2], "jump rules-of-cross-zleft-zright")

    def test_without_points_every_running_machine_logs_what_is_meant_for_it(self):
        values = {"instances": {**network()["instances"]}}
        values["instances"]["bob"] = {**values["instances"]["bob"], "state": "stopped"}
        made = self.made({}, **values)
        self.assertEqual({tap.point for tap in made.taps}, {None})
        self.assertEqual(self.logs(machine(made, "bob")), [])
        self.assertTrue(all("fib daddr type local" in line for line in self.logs(machine(made, "ann"))))

    def test_packets_become_records_of_what_passed_and_what_did_not(self):
        recorder = Recorder.__new__(Recorder)
        recorder.moved_by, recorder._flows, recorder._taps = 0.0, {}, [Tap("7", False), Tap("7", True)]
        header = Header(parse_address("10.1.1.10"), parse_address("10.2.1.10"), 6, 40000, 22, 60, 2)
        with mock.patch("kiboko.replica.recorder.parse_header", lambda _: header):
            for prefix, moment in (("0", 10.0), ("1", 10.001), ("0", 11.0)):
                recorder._note(prefix, moment, b"")
        from kiboko.replica.recorder import _records

        ((key, flow),) = recorder._flows.items()
        passed, denied = _records(key, flow)
        self.assertEqual((passed.event, passed.packets, passed.octets, passed.tcp_flags), ("passed", 1, 60, 2))
        self.assertEqual((denied.event, denied.packets, denied.octets, denied.point), ("denied", 1, 60, "7"))
        self.assertEqual((passed.start, passed.end), (datetime.fromtimestamp(10, UTC), datetime.fromtimestamp(11, UTC)))


class Trials(unittest.TestCase):
    def setUp(self):
        self.walker = Walker(load(network()))

    def trials(self, *services, **choice):
        chosen = Choice(services=services or ("ssh",), **choice)
        found = chosen_services(self.walker.topology, chosen)
        outside = outside_addresses(self.walker.topology, self.walker.directory)
        return chosen_trials(self.walker, outside, {}, found, chosen)

    def test_ends_and_services_as_chosen(self):
        found = self.trials("ssh", "ping", sources=("ann",), destinations=("dan", "cat"))
        self.assertEqual(
            sorted((str(each.source), str(each.target.address), str(each.target.service)) for each in found),
            [("10.1.1.10", to, what) for to in ("10.1.2.10", "10.2.1.10", "203.0.113.20") for what in ("icmp/echo-request", "tcp/22")],
        )  # fmt: skip

    def test_a_range_too_wide_and_nobody_at_all_are_bad_usage(self):
        with self.assertRaisesRegex(UsageError, "cannot be probed whole"):
            self.trials("tcp/1-1000")
        with self.assertRaisesRegex(UsageError, "nothing to probe"):
            self.trials(sources=("ann",), destinations=("ann",))

    def test_the_draw_is_the_same_for_the_same_seed(self):
        self.assertEqual(self.trials(most=5, seed=3), self.trials(most=5, seed=3))
        self.assertEqual(len(self.trials(most=5, seed=3)), 5)

    def record(self, source, target):
        trial = Trial("m", parse_address(source), Target(parse_address(target), Service(6, 22), 40000))
        return probe_record(self.walker, trial, 0.0, Outcome("answered", 1.0, 1, 40000, None))

    def test_a_probe_is_recorded_under_names_where_they_mean_these_addresses(self):
        cases = {
            ("10.1.1.11", "10.1.1.10"): ("bob", "ann"),
            ("192.0.2.77", "203.0.113.10"): ("192.0.2.77", "ann"),
            ("10.1.1.11", "203.0.113.10"): ("bob", "203.0.113.10"),
            ("192.0.2.77", "10.1.1.10"): ("192.0.2.77", "10.1.1.10"),
            ("2001:db8:1:1::10", "2001:db8:ffff::1"): ("ann", "2001:db8:ffff::1"),
        }
        for (source, target), names in cases.items():
            with self.subTest(target):
                record = self.record(source, target)
                self.assertEqual((record.source, record.destination), names)


class Notes(unittest.TestCase):
    """The note of what stands: it must not be trusted where somebody else could have written it."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.enterContext(mock.patch.dict(os.environ, {"XDG_RUNTIME_DIR": str(self.folder)}))
        self.own = self.folder / f"kiboko-{os.geteuid()}"

    def test_nothing_stands_where_there_is_no_note_or_its_process_has_ended(self):
        self.assertIsNone(standing.standing())
        note = {"pid": os.getpid(), "began": "1", "network": "n"}
        (self.own / "replica.json").write_text(json.dumps(note))
        self.assertIsNone(standing.standing(), "another process bears the number now")
        self.assertIsNone(standing.remove())
        self.assertFalse((self.own / "replica.json").exists())

    def test_a_folder_that_others_can_write_to_is_refused(self):
        self.own.mkdir(mode=0o700)
        self.own.chmod(0o777)
        with self.assertRaisesRegex(EnvironmentFailure, "not a folder of this user alone"):
            standing.standing()

    def test_a_note_that_is_none_is_an_error_with_a_way_out(self):
        self.own.mkdir(mode=0o700)
        (self.own / "replica.json").write_text("{")
        with self.assertRaisesRegex(EnvironmentFailure, "cannot be read.*remove it"):
            standing.standing()


if __name__ == "__main__":
    unittest.main()
