"""The whole space of pairs held to the walk: any pair, any service, both families, every feature."""

import json
import os
import random
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.queries.members import Member
from kiboko.core.reachability.space import Space
from kiboko.core.tables.pair_words import PairWords
from kiboko.core.walk.walk import Walker
from kiboko.demo.data import write_demo
from kiboko.files.network.network_file import load_network
from tests.helpers import a_filter, base, load
from tests.random_networks import random_network, varied_network, with_conditions
from tests.wider_networks import wider_network

REPRODUCERS = Path(__file__).resolve().parent.parent / "reproducers"
NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "5"))
CELLS = int(os.environ.get("KIBOKO_CELLS", "400"))


def verdicts(kinds, sends, arrives, answered, doubtful):
    """The verdict on each set of services of one pair, by what becomes of its client ports (clauses S23, S35)."""
    found = []
    for place in range(len(kinds.services)):
        ports = [number for number in np.flatnonzero(kinds.service_of == place) if sends[number]]
        back = [each for each in ports if answered[each]]
        arriving = [each for each in ports if arrives[each]]
        if any(doubtful[each] for each in back):
            found.append("unknown")
        elif back:
            found.append("allowed" if len(back) == len(ports) else "partly")
        elif arriving:
            found.append("unknown" if all(doubtful[each] for each in arriving) else "one-way")
        else:
            found.append("blocked")
    return found


def from_block(block):
    """What the kernel lists of a rule set that lets known connections and what comes from a block in, and nothing else
    out to it."""
    address, length = block.split("/")
    peers = {name: {"match": {"op": "==", "left": {"payload": {"protocol": "ip", "field": name}},
                              "right": {"prefix": {"addr": address, "len": int(length)}}}} for name in ("saddr", "daddr")}  # fmt: skip
    known = {"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": ["established", "related"]}}
    chains = [{"chain": {"family": "inet", "table": "t", "name": hook, "handle": 1, "type": "filter", "hook": hook, "prio": 0,
                         "policy": policy}} for hook, policy in (("input", "drop"), ("output", "accept"))]  # fmt: skip
    told = [("input", known, "accept"), ("input", peers["saddr"], "accept"), ("output", known, "accept"),
            ("output", peers["daddr"], "drop")]  # fmt: skip
    rules = [{"rule": {"family": "inet", "table": "t", "chain": chain, "handle": number, "expr": [match, {action: None}]}}
             for number, (chain, match, action) in enumerate(told, 2)]  # fmt: skip
    return json.dumps({"nftables": [{"table": {"family": "inet", "name": "t", "handle": 1}}, *chains, *rules]})


class HeldToTheWalk(unittest.TestCase):
    def cells(self, space, family):
        """Every pair of `any` with `any`, once."""
        members = space.ends.resolve("any").members
        senders, receivers = (space.ends_of(members, family, is_sender) for is_sender in (True, False))
        space.prepare(receivers)
        found = {}
        for block in space.blocks(senders, receivers, family, space.kinds(family), with_hanging=True):
            for column, row in np.argwhere(block.there).tolist():
                key = int(block.senders[row]), int(block.receivers[column])
                self.assertNotIn(key, found, "a pair is judged once")
                found[key] = block.outcome, column, row
        return senders, receivers, found

    def spaces(self, topology):
        """Anybody to anybody on anything, by family: the space, senders, receivers and kinds of traffic."""
        ends = Ends(Walker(topology))
        members = ends.resolve("any").members
        for family in (4, 6):
            space = Space(ends, resolve_service("any", topology.services))
            senders, receivers = (space.ends_of(members, family, is_sender) for is_sender in (True, False))
            space.prepare(receivers)
            yield space, family, senders, receivers, space.kinds(family)

    def hold(self, topology, seed, count=CELLS):
        ends = Ends(Walker(topology))
        chance = random.Random(seed)
        held = 0
        for family in (4, 6):
            space = Space(ends, resolve_service("any", topology.services))
            senders, receivers, cells = self.cells(space, family)
            kinds = space.kinds(family)
            for _ in range(count if cells else 0):
                (one, other), (outcome, column, row) = chance.choice(list(cells.items()))
                words = (outcome.arrives, outcome.answered, outcome.doubtful)
                sends = kinds.unpacked(kinds.sent_from(senders[one].ports))
                judged = verdicts(kinds, sends, *(kinds.unpacked(each[column, row]) for each in words))
                place = chance.randrange(len(kinds.services))
                low, high = chance.choice(kinds.services[place].ranges)
                number = chance.choice([low, high, chance.randint(low, high)])
                sender, receiver = chance.choice(senders[one].members), chance.choice(receivers[other].members)
                if receiver.low is not None:
                    receiver = Member("", None, (), receiver.high, receiver.high, outside=receiver.outside)
                pair = ends.pairs(sender, receiver, family)[0]
                if pair.source.address != pair.target:
                    held += 1
                    service = Service(number >> 16, number & 0xFFFF)
                    text = f"{sender.name} {pair.target} {service}"
                    walk = ends.walk_pair(pair, service)
                    self.assertEqual(walk.verdict, judged[place], text)
                    mine = kinds.unpacked(outcome.hanging[column, row]) & sends & (kinds.service_of == place)
                    self.assertEqual(walk.later is not None, mine.any(), text)
        return held

    def test_on_random_networks_of_every_feature(self):
        held = 0
        for seed in range(NETWORKS):
            with self.subTest(seed=seed):
                held += self.hold(load(varied_network(seed)), seed)
        self.assertGreater(held, NETWORKS * CELLS // 2)

    def test_on_random_networks_of_wider_shapes(self):
        for seed in range(2, 2 + NETWORKS // 2):
            with self.subTest(seed=seed):
                self.assertGreater(self.hold(load(wider_network(seed)), seed, CELLS // 2), CELLS // 4)

    def test_on_networks_whose_rules_hold_under_conditions(self):
        for seed in range(NETWORKS // 2):
            for make in (random_network, wider_network):
                with self.subTest(seed=seed, make=make.__name__):
                    topology = load(with_conditions(make(seed), random.Random(seed)))
                    self.assertGreater(self.hold(topology, seed, CELLS // 2), CELLS // 4)

    def test_on_the_demo_and_on_every_reproducer_with_their_kernel_rule_sets(self):
        with tempfile.TemporaryDirectory() as folder:
            write_demo(Path(folder))
            paths = [Path(folder) / "network.yaml", *sorted(REPRODUCERS.glob("*/network.yaml"))]
            networks = [(path, load_network(str(path))) for path in paths]
        for path, topology in networks:
            with self.subTest(path.parent.name):
                self.hold(topology, 0, count=150)

    def test_what_gets_through_of_a_few_kinds_is_the_same_whether_or_not_only_these_are_asked_about(self):
        """Pairs for which the receivers' own filters leave nothing open that is wanted are judged no further."""
        networks = [random_network(seed) for seed in range(NETWORKS)]
        networks += [wider_network(seed) for seed in range(2, 2 + NETWORKS // 2)]
        with tempfile.TemporaryDirectory() as folder:
            write_demo(Path(folder))
            topologies = [load_network(str(Path(folder) / "network.yaml")), *map(load, networks)]
        chance, shorter, through = random.Random(1), 0, 0
        whole = PairWords._of_pairs
        for topology in topologies:
            for space, family, senders, receivers, kinds in self.spaces(topology):
                wanted = kinds.packed(np.array([[chance.random() < 0.02 for _ in kinds.kinds] for _ in receivers]))
                found = []
                with mock.patch.object(PairWords, "_of_pairs", autospec=True, side_effect=whole) as taken:
                    for asked in (None, wanted):
                        words = np.zeros((len(receivers), len(senders), kinds.words), dtype=np.uint64)
                        for block in space.blocks(senders, receivers, family, kinds, wanted=asked):
                            mine = np.where(block.there[..., None], block.outcome.answered, np.uint64(0))
                            words[np.ix_(block.receivers, block.senders)] |= mine & wanted[block.receivers][:, None]
                        found.append(words)
                np.testing.assert_array_equal(*found)
                shorter, through = shorter + taken.call_count, through + int(kinds.unpacked(found[0]).sum())
        self.assertGreater(shorter, 20)
        self.assertGreater(through, 200)

    def test_what_hosts_alone_stop_is_what_one_gate_alone_stops_and_the_walk_sees_stopped_there(self):
        chance, met = random.Random(1), {True: 0, False: 0}
        for seed in range(NETWORKS):
            for space, family, senders, receivers, kinds in self.spaces(load(random_network(seed))):
                cells = []
                for asked in ({"with_single": True}, {"at_hosts": kinds.every}):
                    found = set()
                    for block in space.blocks(senders, receivers, family, kinds, **asked):
                        single = kinds.unpacked(block.outcome.single) & block.there[..., None]
                        found |= {(int(block.senders[row]), int(block.receivers[column]), kind)
                                  for column, row, kind in np.argwhere(single).tolist()}  # fmt: skip
                    cells.append(found)
                every, at_hosts = cells
                self.assertLessEqual(at_hosts, every)
                for is_host, some in ((True, at_hosts), (False, every - at_hosts)):
                    for one, other, kind in chance.sample(sorted(some), min(30, len(some))):
                        sender, receiver = (side[at].members[0] for side, at in ((senders, one), (receivers, other)))
                        if sender.low is not None or receiver.low is not None:
                            continue
                        source = space.layout.end(senders[one].atom).endpoint
                        target = space.layout.addresses.first(receivers[other].atom)
                        service, port = kinds.kinds[kind].service, kinds.kinds[kind].port
                        ports = RangeSet.one(port) if port >= 0 else None
                        walked = space.walker.walk(source, target, Service(service >> 16, service & 0xFFFF), ports)
                        stopped = [row.gate for row in walked.forward if row.stops]
                        self.assertEqual(is_host, "host-in" in stopped, (seed, sender.name, receiver.name, service))
                        met[is_host] += 1
        self.assertGreater(min(met.values()), NETWORKS)

    def test_the_kinds_that_a_set_of_services_meets_are_those_of_any_of_its_services(self):
        ends = Ends(Walker(load(random_network(3))))
        space = Space(ends, resolve_service("any", {}))
        space.prepare(space.ends_of(ends.resolve("any").members, 4, False))
        kinds, chance = space.kinds(4), random.Random(1)
        numbers = [edge for each in kinds.services for pair in each for edge in pair]
        sets = [
            RangeSet.of(tuple(sorted(chance.sample(numbers, 2))) for _ in range(count)) for count in (0, 1, 1, 2, 3)
        ]
        for each, met in zip(sets, kinds.unpacked(kinds.met_by(sets)), strict=True):
            self.assertEqual(met.tolist(), [bool(kind.services & each) for kind in kinds.kinds])

    def test_a_kernel_rule_set_that_tells_senders_apart_is_asked_for_each_also_where_it_is_the_only_one(self):
        """Among several receivers of a way and as the only one, at the sender as well as at the receiver."""
        values = base()
        for name in ("bob", "dan"):
            values["instances"][name]["host_filter"] = {"nftables": f"{name}.json"}
        files = {
            f"{name}.json": from_block("10.1.0.0/16" if name == "dan" else "10.1.1.0/24") for name in ("bob", "dan")
        }
        topology = load(values, files)
        self.assertGreater(self.hold(topology, 1, 600), 300)
        ends = Ends(Walker(topology))
        space = Space(ends, resolve_service("ssh", {}))
        senders = space.ends_of(
            [m for each in ("ann", "bob", "cat", "dan") for m in ends.resolve(each).members], 4, True
        )
        (receiver,) = space.ends_of(ends.resolve("dan").members, 4, False)
        space.prepare([receiver])
        found = {}
        for block in space.blocks(senders, [receiver], 4, space.kinds(4)):
            for row in np.flatnonzero(block.there[0]).tolist():
                found[senders[int(block.senders[row])].name] = bool(block.outcome.arrives[0, row].any())
        walks = {name: ends.walk_pair(ends.pairs(ends.resolve(name).members[0], ends.resolve("dan").members[0], 4)[0],
                                      Service(6, 22)) for name in ("ann", "bob", "cat")}  # fmt: skip
        self.assertEqual({name: bool(each.delivered) for name, each in walks.items()}, found)

    def test_what_further_receivers_tell_apart_makes_other_kinds_and_those_of_before_are_refused(self):
        """Of cat nothing tells ssh and smtp apart; dan listens to the one alone."""
        values = base()
        values["instances"]["dan"]["listens"] = ["ssh"]
        ends = Ends(Walker(load(values)))
        space = Space(ends, resolve_service("ssh", {}) | resolve_service("smtp", {}))
        cat, dan = (space.ends_of(ends.resolve(name).members, 4, False) for name in ("cat", "dan"))
        senders = space.ends_of(ends.resolve("ann").members, 4, True)
        space.prepare(cat)
        before = space.kinds(4)
        self.assertEqual(1, len(before.services))
        with self.assertRaises(ValueError):
            list(space.blocks(senders, dan, 4, before))
        (block,) = space.blocks(senders, dan, 4, space.kinds(4))
        arriving = space.kinds(4).by_service(space.kinds(4).unpacked(block.outcome.arrives[0, 0]))
        self.assertEqual(
            [resolve_service("ssh", {})],
            [each for each, number in zip(space.kinds(4).services, arriving, strict=True) if number],
        )

    def test_a_machine_of_several_interfaces_sends_by_the_one_in_the_receivers_subnet(self):
        values = base()
        values["instances"]["ann"]["interfaces"].append({"name": "eth1", "subnet": "a2", "addresses": ["10.1.2.99"]})
        values["filters"]["guard"] = a_filter("instance", inbound=[{"action": "allow", "from": "10.1.2.99"}])
        for number in range(3):
            values["instances"][f"n{number}"] = {
                "interfaces": [{"subnet": "a2", "addresses": [f"10.1.2.{60 + number}"], "filters": ["guard"]}]
            }
        self.hold(load(values), 1)

    def test_two_addresses_that_nothing_tells_apart_reach_each_other(self):
        """A block that one rule names is one atom, in which nobody is recorded: its addresses send to each other."""
        values = base()
        values["filters"]["edge"] = a_filter("subnet", inbound=[{"action": "allow", "from": "10.1.1.160/28"}])
        values["subnets"]["a1"]["filter"] = "edge"
        ends = Ends(Walker(load(values)))
        space = Space(ends, resolve_service("ssh", {}))
        members = ends.resolve("10.1.1.160/28").members
        senders, receivers = (space.ends_of(members, 4, is_sender) for is_sender in (True, False))
        (block,) = space.blocks(senders, receivers, 4, space.kinds(4))
        self.assertTrue(block.there.all())
        pair = ends.pairs(Member("", None, (), members[0].low, members[0].low),
                          Member("", None, (), members[0].high, members[0].high), 4)[0]  # fmt: skip
        self.assertEqual("allowed", ends.walk_pair(pair, Service(6, 22)).verdict)
        self.assertTrue(block.outcome.answered.any())

    def test_every_pair_is_there_but_those_of_one_machine_and_of_two_outsides(self):
        topology = load(base())
        space = Space(Ends(Walker(topology)), resolve_service("ssh", {}))
        senders, receivers, cells = self.cells(space, 4)
        expected = {
            (one, other)
            for one, sender in enumerate(senders)
            for other, receiver in enumerate(receivers)
            if not (sender.instance and sender.instance == receiver.instance)
            and not (sender.outside and receiver.outside)
            and not (sender.count == receiver.count == 1 and sender.atom == receiver.atom)
        }
        self.assertEqual(expected, set(cells))
