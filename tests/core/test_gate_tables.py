"""The compiled walk held to the walk, gate by gate; and lists of boxes to what boxes mean."""

import os
import random
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.seen_ends import SeenEnds
from kiboko.core.header.addresses import parse_address
from kiboko.core.header.services import WITH_PORTS
from kiboko.core.tables import places
from kiboko.core.tables.boxes import Box, BoxLists, Packets
from kiboko.core.tables.column import Flows
from kiboko.core.tables.filter_lists import PASSES, Decider
from kiboko.core.tables.gate_tables import VERDICTS, GateTables, code_of, gates_of
from kiboko.core.tables.lines import AddressLine
from kiboko.core.tables.places import Places
from kiboko.core.walk.walk import Walker
from kiboko.demo.data import write_demo
from kiboko.files.network.network_file import load_network
from tests.core.test_clauses_signals import listing
from tests.helpers import a_filter, base, load
from tests.random_networks import in_more_zones, random_network, star_network, varied_network
from tests.wider_networks import STRANGERS as WIDER_STRANGERS
from tests.wider_networks import wider_network

REPRODUCERS = Path(__file__).resolve().parent.parent / "reproducers"
# Addresses of which nothing is recorded: in subnets, in a network beside them, outside, public ones of nobody.
STRANGERS = ("10.1.1.200", "10.1.2.201", "10.2.1.202", "10.1.77.1", "198.51.100.100", "8.8.8.8", "192.0.2.7", "203.0.113.2",
             "203.0.113.99", "2001:db8:1:1::77", "2001:db8:fffe::5", "2a00::1", "fd00:2:0:1::99")  # fmt: skip
SERVICES = ((6, 22), (6, 80), (6, 8005), (17, 53), (6, 40001), (1, 8 << 8), (58, 128 << 8), (1, 3 << 8 | 3), (47, 0), (17, 123),
            (6, 50000), (58, 1 << 8 | 4), (132, 80))  # fmt: skip
PORTS = (22, 1024, 32768, 40000, 45000, 60999)
NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "6"))
FLOWS = int(os.environ.get("KIBOKO_FLOWS", "1200"))


def flows_on(tables, chance, count, strangers=STRANGERS):
    """Random flows between all that is recorded and strangers, over services and ports of every kind."""
    addresses = [parse_address(text) for text in strangers]
    for interface in tables.walker.directory.interfaces():
        addresses += [*interface.addresses, *([interface.public] if interface.public else [])]
    found = []
    while len(found) < count:
        source, target, (protocol, detail) = chance.choice(addresses), chance.choice(addresses), chance.choice(SERVICES)
        if source.family == target.family and source != target and protocol != {4: 58, 6: 1}[source.family]:
            port = chance.choice(PORTS) if protocol in (6, 17, 132) else -1
            found.append((tables.addresses.atom(source), tables.addresses.atom(target), protocol << 16 | detail, port))
    columns = [np.array(column) for column in zip(*found)]
    return Flows(columns[0].astype(np.int32), columns[1].astype(np.int32), columns[2], columns[3])


def of_walk(walk):
    """What the gates of a walk do, but for those that let pass without any rule."""
    for row in walk.rows:
        code = code_of(row)
        rule = row.rule if row.filter and not row.tracked else None
        if code != PASSES or rule is not None:
            yield row.gate, row.at, row.direction, code, row.filter if rule else None, rule, row.chain


def of_tables(tables, flows, gates, row):
    """The same of the tables."""
    for gate, at, direction, code, decider in gates_of(tables, flows, gates, row):
        if gate == "listener":
            decider = Decider()  # the walk tells of it in words
        if code != PASSES or decider.rule is not None:
            yield gate, at, direction, code, decider.filter, decider.rule, decider.chain


class HeldToTheWalk(unittest.TestCase):
    def hold(self, topology, seed=0, count=FLOWS, strangers=STRANGERS):
        tables = GateTables(Walker(topology))
        flows = flows_on(tables, random.Random(seed), count, strangers)
        gates = tables.gates(flows)
        judged = tables.verdicts(gates)
        later = tables.stops_later(flows, gates)
        for row in range(len(flows)):
            walk = tables.walk(flows, row)
            text = f"{tables.addresses.first(int(flows.source[row]))} to {walk.flow.target} {walk.flow.service}"
            text += f" from {flows.port[row]}"
            self.assertEqual(walk.verdict, VERDICTS[judged.verdict[row]], text)
            self.assertEqual(
                list(of_walk(walk)),
                list(of_tables(tables, flows, gates, row)) if gates.way[row] >= 0 else list(of_walk(walk)),
                text,
            )
            if gates.way[row] >= 0:
                self.assertEqual(walk.later is not None, later[row], text)
            decider, found = walk.decided_by, tables.deciders[judged.decider[row]]
            self.assertEqual(judged.gate[row] < 0, decider is None, text)
            if decider is not None and decider.rule is not None and gates.way[row] >= 0:
                self.assertEqual((decider.filter, decider.rule, decider.chain), (found.filter, found.rule, found.chain))
        return tables, gates

    def test_on_random_networks_of_every_feature(self):
        for seed in range(NETWORKS):
            with self.subTest(seed=seed):
                self.hold(load(varied_network(seed)), seed)

    def test_on_networks_around_one_and_around_a_hub(self):
        for seed in range(max(2, NETWORKS // 3)):
            with self.subTest(seed=seed):
                self.hold(load(star_network(seed)), seed)

    def test_on_random_networks_of_wider_shapes(self):
        for seed in range(NETWORKS // 2):
            with self.subTest(seed=seed):
                self.hold(load(wider_network(seed)), seed, strangers=WIDER_STRANGERS)

    def test_ways_that_differ_in_zones_only_are_found_once_and_asked_as_each_by_itself(self):
        found = alike = 0
        for seed in range(NETWORKS):
            with self.subTest(seed=seed):
                tables, _ = self.hold(load(in_more_zones(random_network(seed), random.Random(seed))), seed)
                found += len(tables.layout.ways)
                alike += len(tables.layout._model_of)
        self.assertGreater(alike, found / 10)

    def test_on_the_demo_and_on_every_reproducer_with_their_kernel_rule_sets(self):
        with tempfile.TemporaryDirectory() as folder:
            write_demo(Path(folder))
            paths = [Path(folder) / "network.yaml", *sorted(REPRODUCERS.glob("*/network.yaml"))]
            networks = [(path, load_network(str(path))) for path in paths]
        self.assertGreater(len(networks), 10)
        for path, topology in networks:
            with self.subTest(path.parent.name):
                self.hold(topology, count=400)

    def test_kernel_rule_sets_that_take_first_packets_alone(self):
        """What nobody answers stays new to them, and is taken each time."""
        values = base()
        for name in ("ann", "bob", "dan"):
            values["instances"][name]["host_filter"] = {"nftables": f"{name}.json"}
        files = {"ann.json": listing("output", "drop", ("new", "accept")), "bob.json": listing("input", "drop", ("new", "accept")),
                 "dan.json": listing("input", "accept", ("established", "drop"))}  # fmt: skip
        tables, _ = self.hold(load(values, files), count=1500)
        flows = flows_on(tables, random.Random(0), 1500, STRANGERS)
        later = tables.stops_later(flows, tables.gates(flows))
        met = {(int(number) >> 16 in WITH_PORTS, bool(each)) for number, each in zip(flows.service, later, strict=True)}
        self.assertEqual({(True, True), (True, False), (False, True), (False, False)}, met)

    def test_machines_of_one_place_share_their_ways_but_not_their_rules(self):
        values = base()
        values["filters"]["guard"] = a_filter(
            "instance", inbound=[{"action": "allow", "from": "bob", "service": "ssh"}]
        )
        for number in range(40):
            interface = {"subnet": "a1", "addresses": [f"10.1.1.{100 + number}"]}
            if number % 2:
                interface["filters"] = ["guard"]
            values["instances"][f"n{number}"] = {"interfaces": [interface], "listens": ["ssh"] if number % 3 else []}
        tables, _ = self.hold(load(values))
        self.assertLess(len(tables.layout.ways), 250)

    def test_ends_that_are_looked_at_all_at_once_are_those_looked_at_one_by_one(self):
        usual = 0
        for seed, made in ((seed, made) for seed in range(20) for made in (varied_network, wider_network)):
            walker = Walker(load(made(seed)))
            ground, line = walker.ground, AddressLine(walker.ground)
            atoms, machines = np.arange(line.size), list(walker.topology.instances)
            with mock.patch.object(places, "_FEW", 0):
                at_once, one_by_one = Places(ground, line), Places(ground, line)
                own, public, interface, subnet, place, machine = at_once.numbers(atoms)
            for atom in atoms.tolist():
                end = one_by_one.end(atom)
                named = machines[machine[atom]] if machine[atom] >= 0 else ""
                told = (own[atom], public[atom], interface[atom], subnet[atom], named, place[atom])
                place_of = at_once.end(atom).place
                self.assertEqual((*end[1:5], end.instance, place_of), told, (seed, str(line.first(atom))))
            self.assertEqual(len(set(place.tolist())), len(one_by_one), "as many places as there are one by one")
            usual += int(np.sum(at_once._bearers().is_usual))
            ends = SeenEnds(walker, GateTables(walker, line), Comparison(walker).ends.is_foreign)
            for atom, *facts in zip(atoms.tolist(), *(ends._of(which, atoms).tolist() for which in range(7))):
                self.assertEqual(ends._made(atom), tuple(facts), (seed, str(line.first(atom))))
        self.assertGreater(usual, 50)

    def test_a_machine_that_talks_to_itself_is_walked(self):
        values = base()
        values["instances"]["ann"]["interfaces"].append({"name": "eth1", "subnet": "a2", "addresses": ["10.1.2.99"]})
        tables = GateTables(Walker(load(values)))
        atoms = [tables.addresses.atom(parse_address(text)) for text in ("10.1.1.10", "10.1.2.99")]
        flows = Flows(
            np.array(atoms[:1], np.int32), np.array(atoms[1:], np.int32), np.array([6 << 16 | 22]), np.array([40000])
        )
        judged = tables.judge(flows)
        self.assertEqual((1, tables.walk(flows, 0).verdict), (tables.walked, VERDICTS[judged.verdict[0]]))

    def test_no_flows_are_no_verdicts(self):
        tables = GateTables(Walker(load(base())))
        nothing = np.zeros(0, dtype=np.int64)
        flows = Flows(nothing.astype(np.int32), nothing.astype(np.int32), nothing, nothing)
        self.assertEqual(0, len(tables.judge(flows).verdict))

    def test_more_flows_than_are_judged_at_once_are_judged_alike(self):
        tables = GateTables(Walker(load(random_network(3))))
        few = flows_on(tables, random.Random(1), 500)
        rows = np.arange(70_000) % 500
        many = tables.judge(few.taken(rows))
        np.testing.assert_array_equal(tables.judge(few).verdict[rows], many.verdict)
        np.testing.assert_array_equal(tables.judge(few).decider[rows], many.decider)


SIZE = 12
SIDE = st.none() | st.lists(st.tuples(st.integers(0, SIZE - 1), st.integers(0, 4)), max_size=3).map(
    lambda pairs: np.array([(low, min(SIZE - 1, low + more)) for low, more in pairs], dtype=np.int64).reshape(-1, 2)
)
BOX = st.builds(Box, SIDE, SIDE, SIDE, SIDE)


class Lists(unittest.TestCase):
    @given(st.lists(st.lists(BOX, max_size=5), min_size=1, max_size=4), st.data())
    def test_the_first_box_that_holds_a_packet_is_found(self, lists, data):
        made = BoxLists((SIZE, SIZE, SIZE, SIZE))
        numbers = [made.add(boxes) for boxes in lists]
        atoms = st.lists(st.integers(0, SIZE - 1), min_size=20, max_size=20)
        columns = [np.array(data.draw(atoms), dtype=np.int32) for _ in range(4)]
        chosen = np.array([numbers[i % len(numbers)] for i in range(20)])
        found = made.first(chosen, Packets(*columns))
        for row in range(20):
            boxes = lists[chosen[row]]
            holding = [
                place for place, box in enumerate(boxes)
                if all(side is None or any(low <= column[row] <= high for low, high in side)
                       for side, column in zip(box.sides, columns))
            ]  # fmt: skip
            self.assertEqual(min(holding, default=-1), found[row])

    def test_lists_of_hundreds_of_rules_find_the_first_of_them(self):
        made = BoxLists((1000, 1000, 4, 4))
        long = made.add(
            [Box(sources=np.array([[place, place]])) for place in range(300)] + [Box(destinations=np.array([[7, 9]]))]
        )
        short = made.add([Box()])
        sources = np.array([0, 63, 64, 299, 300, 999, 300], dtype=np.int32)
        targets = np.array([0, 0, 8, 0, 8, 0, 0], dtype=np.int32)
        zero = np.zeros(7, dtype=np.int32)
        lists = np.array([long, long, long, long, long, long, short])
        self.assertEqual(
            [0, 63, 64, 299, 300, -1, 0], made.first(lists, Packets(sources, targets, zero, zero)).tolist()
        )

    def test_sets_of_many_rules_whose_ranges_lie_across_one_another_hold_what_each_holds_by_itself(self):
        chance = random.Random(5)

        def side():
            spans = [(low, min(SIZE - 1, low + chance.randrange(5)))
                     for low in chance.choices(range(SIZE), k=chance.randrange(1, 4))]  # fmt: skip
            return None if chance.random() < 0.2 else np.array(spans, dtype=np.int64)

        boxes = [Box(side(), side(), side(), side()) for _ in range(200)]
        made = BoxLists((SIZE,) * 4)
        number = made.add(boxes)
        for dimension in range(4):
            classes = made.classes(dimension, np.array([number]), np.arange(SIZE))
            for atom, words in enumerate(made.matching(dimension, number)[classes]):
                told = [bool(int(words[place // 64]) >> place % 64 & 1) for place in range(200)]
                spans = [box.sides[dimension] for box in boxes]
                want = [some is None or any(low <= atom <= high for low, high in some.tolist()) for some in spans]
                self.assertEqual(want, told)


if __name__ == "__main__":
    unittest.main()
