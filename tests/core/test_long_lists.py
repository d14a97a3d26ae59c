"""Long lists: block lists, firewalls of many rules, many routes, many outsides, many senders; and what is too much."""

import random
import unittest
from unittest import mock

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from kiboko.core.audit.audit import audit
from kiboko.core.errors import UsageError
from kiboko.core.filters import filters
from kiboko.core.filters.long_lists import NamedBy
from kiboko.core.header.addresses import Address, AddressSet, parse_address, parse_prefix
from kiboko.core.header.nesting import Nesting
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.queries.near_misses import near_misses
from kiboko.core.queries.subjects import subject_of
from kiboko.core.reachability.naming import Namer
from kiboko.core.reachability.reach import ReachQuestion, reach
from kiboko.core.reachability.sets import ask_set
from kiboko.core.reachability.space import Space
from kiboko.core.records.address_names import AddressNames, Stretches
from kiboko.core.records.flow_table import AddressTable
from kiboko.core.routing.routes import Router
from kiboko.core.tables.lines import AddressLine
from kiboko.core.tables.places import Places
from kiboko.core.tables.route_pieces import RoutePieces
from kiboko.core.walk.walk import Walker
from tests.core.test_rehearsing import TODAY
from tests.helpers import a_filter, base, load
from tests.random_networks import random_network
from tests.wider_networks import wider_network

WEB = 6 << 16 | 443


def prefix(chance):
    """Some block outside of the networks of `base`."""
    length = chance.choice((24, 28, 32))
    value = (chance.randrange(20, 100) << 24 | chance.getrandbits(24)) >> (32 - length) << (32 - length)
    return f"{Address(4, value)}/{length}"


def firewalled(chance, count):
    """`base` with a firewall of many rules between outside and inside, each about one sender, machine and service."""
    values = base()
    names = list(values["instances"])
    rules = [
        {"action": chance.choice(("allow", "drop", "reject")), "from": prefix(chance), "to": chance.choice(names),
         "service": f"tcp/{chance.choice((443, 22, chance.randrange(1, 65536)))}"}
        for _ in range(count)
    ]  # fmt: skip
    values["filters"]["wall"] = a_filter("zone", rules=[*rules, {"action": "allow", "service": "tcp/443"}])
    values["crossings"] = [
        {"from": "public", "to": zone, "filter": "wall"} for zone in values["zones"] if zone != "public"
    ]
    return values


def ends_of(values):
    return Ends(Walker(load(values)))


class OfOneQuestion(unittest.TestCase):
    def setUp(self):
        self.chance = random.Random(5)
        self.values = firewalled(self.chance, 400)
        self.ends = ends_of(self.values)
        topology = self.ends.topology
        self.open = [name for name, each in topology.instances.items() if any(i.public for i in each.interfaces)]

    def senders(self):
        """One address of each block that a rule names, and some that none does."""
        rules = self.values["filters"]["wall"]["rules"]
        named = [parse_prefix(rule["from"]) for rule in rules if "from" in rule]
        return [Address(4, each.value) for each in self.chance.sample(named, 120)] + [parse_address("150.1.2.3")]

    def test_who_reaches_a_machine_is_as_single_walks_say_and_rules_about_others_are_not_compiled(self):
        self.assertTrue(self.open)
        name = self.open[0]
        services = resolve_service("both", {"both": RangeSet.of([(WEB, WEB), (6 << 16 | 22, 6 << 16 | 22)])})
        answer = reach(self.ends, ReachQuestion(self.ends.resolve(name), services, only="outside"))
        met = set()
        for sender in self.senders():
            for port in (443, 22):
                sender_end, receiver = self.ends.resolve(str(sender)), self.ends.resolve(name)
                pair = self.ends.pairs(sender_end.members[0], receiver.members[0], 4)[0]
                verdict = self.ends.walk_pair(pair, Service(6, port), None).verdict
                told = [line.verdict for line in answer.lines if 6 << 16 | port in line.services
                        and any(each.low <= sender <= each.high for each in line.far if each.low is not None)]  # fmt: skip
                self.assertEqual([] if verdict == "blocked" else [verdict], told, (sender, port))
                met.add((verdict, port))
        self.assertGreater(len(met), 2)
        space = Space(self.ends, services, between=(None, self.ends.resolve(name).members))
        wall = self.ends.topology.filters["wall"]
        compiled = len(space.layout.lists.rules_of(space.layout.lists.list_of(wall, "in"))[0]) - 1
        about = [rule for rule in self.values["filters"]["wall"]["rules"]
                 if rule["service"] in ("tcp/443", "tcp/22") and rule.get("to", name) == name]  # fmt: skip
        self.assertEqual(len(about), compiled)

    def test_a_set_is_as_single_walks_say(self):
        found = ask_set(self.ends, self.ends.resolve("any"), self.ends.resolve(self.open[0]), resolve_service("any", {}),
                        None, 4)  # fmt: skip
        for sender in self.senders():
            for port in (443, 22, 8080):
                pair = self.ends.pairs(self.ends.resolve(str(sender)).members[0],
                                       self.ends.resolve(self.open[0]).members[0], 4)[0]  # fmt: skip
                walk = self.ends.walk_pair(pair, Service(6, port), None)
                told = [
                    row.example for row in found.rows for part in row.parts
                    if 6 << 16 | port in part.services and any(
                        each.low <= sender <= each.high for each in part.sources
                        if each.low is not None and each.low.family == 4)
                ]  # fmt: skip
                self.assertEqual([(walk.verdict, walk.signal)], [(each.verdict, each.signal) for each in told])

    def test_rules_that_only_replies_meet_count_where_a_filter_keeps_no_state(self):
        values = base()
        values["filters"]["edge"] = a_filter("subnet", stateful=False, inbound=[
            {"action": "drop", "from": "bob", "service": "tcp/40000-50000"}, {"action": "allow"}], outbound=[{"action": "allow"}])  # fmt: skip
        values["subnets"]["a1"]["filter"] = "edge"
        ends = ends_of(values)
        subject = subject_of(ends, resolve_service("tcp/443", {}), None, None, ends.resolve("bob").members)
        drop = ends.walker.ground.judge.rules(ends.topology.filters["edge"], "in")[0]
        self.assertTrue(subject.concerns("edge", drop.rule, drop.sources, drop.destinations))
        self.assertFalse(subject.concerns("else", drop.rule, drop.sources, drop.destinations))
        asked = subject_of(ends, resolve_service("tcp/443", {}), RangeSet.one(33000), None, ends.resolve("bob").members)
        self.assertFalse(asked.concerns("edge", drop.rule, drop.sources, drop.destinations))
        away = subject_of(ends, resolve_service("tcp/443", {}), None, None, ends.resolve("dan").members)
        self.assertFalse(away.concerns("edge", drop.rule, drop.sources, drop.destinations))


class FoundByTheirBounds(unittest.TestCase):
    def test_long_lists_decide_and_nearly_match_as_short_ones_do(self):
        """Random networks and a firewall of both families, with every list taken as long and with none."""
        asked = 0
        for seed, made in ((1, random_network), (2, random_network), (3, wider_network), (4, wider_network), (5, None)):
            chance = random.Random(seed)
            topology = load(made(seed) if made is not None else firewalled(chance, 300))
            ways = {}
            for long in (1, 1 << 30):
                with mock.patch.object(filters, "LONG", long):
                    walker = Walker(topology)
                    ends = sorted((a for each in walker.directory.interfaces() for a in each.addresses), key=str)
                    more = ends + [parse_address(text) for text in ("192.0.2.9", "10.1.1.200", "2001:db8:1:1::77")]
                    chance = random.Random(seed)
                    walks = [walker.walk(walker.directory.endpoint(chance.choice(ends)), chance.choice(more),
                                         Service(*chance.choice(((6, 22), (6, 443), (17, 53), (1, 8 << 8)))))
                             for _ in range(60)]  # fmt: skip
                    ways[long] = [(each.rows, each.verdict, near_misses(walker, each)) for each in walks]
            self.assertEqual(ways[1], ways[1 << 30])
            asked += sum(len(misses) for *_, misses in ways[1])
        self.assertGreater(asked, 100)

    @given(st.lists(st.none() | st.lists(st.tuples(st.integers(0, 40), st.integers(0, 9)), max_size=3), max_size=12),
           st.integers(0, 50), st.integers(0, 9))  # fmt: skip
    def test_the_sets_that_meet_a_range_are_those_that_have_a_number_of_it(self, listed, low, more):
        sets = [each if each is None else RangeSet.of((first, first + wide) for first, wide in each) for each in listed]
        numbers = range(low, low + more + 1)
        want = [place for place, each in enumerate(sets) if each is None or any(number in each for number in numbers)]
        for dtype in (np.int64, object):
            self.assertEqual(want, NamedBy(sets, dtype).meeting(low, low + more).tolist())


class TooMuch(unittest.TestCase):
    def test_more_kinds_of_traffic_than_memory_holds_are_refused_with_what_to_ask_instead(self):
        ends = ends_of(firewalled(random.Random(1), 50))
        with (
            mock.patch("kiboko.core.tables.kinds.MOST_KINDS", 8),
            self.assertRaisesRegex(
                UsageError, r"kinds of services and up to \d+ of client ports apart.*or about single client ports"
            ),
        ):
            reach(ends, ReachQuestion(ends.resolve("internet"), resolve_service("any", {}), is_out=True))

    def test_an_audit_says_what_it_left_out_and_looks_for_the_rest(self):
        ends = ends_of(firewalled(random.Random(1), 50))
        whole = audit(ends, TODAY)
        self.assertEqual((), whole.left_out)
        with mock.patch("kiboko.core.reachability.reach.MOST_CELLS", 3):
            found = audit(ends, TODAY)
        self.assertRegex(
            found.left_out[0], "administration that is open to very many was not looked for: .* make .* pairs"
        )
        self.assertEqual({each for each in whole.findings if each.id not in ("open-administration", "one-door-only")},
                         set(found.findings) - {each for each in found.findings if each.id == "accepted-in-vain"})  # fmt: skip


class ManyRoutes(unittest.TestCase):
    def test_routes_by_one_gateway_are_one_place(self):
        values = base()
        chance = random.Random(3)
        few = len(self.places(values))
        values["route_tables"]["north-table"] += [
            {"to": each, "via": "door", "origin": "learned"} for each in sorted({prefix(chance) for _ in range(300)})
        ]
        self.assertEqual(few, len(self.places(values)))

    def places(self, values):
        ground = Walker(load(values)).ground
        line = AddressLine(ground)
        found = Places(ground, line)
        for atom in range(line.size):
            found.end(atom)
        return found

    def test_addresses_of_one_number_are_sent_the_same_way_by_every_table(self):
        alike = 0
        for seed in range(12):
            for values in (random_network(seed), wider_network(seed)):
                topology = load(values)
                walker = Walker(topology)
                router, pieces = Router(walker.directory), RoutePieces(topology, ())
                for family in (4, 6):
                    edges = pieces.edges[family]
                    by_number = {}
                    for edge in edges:
                        address = Address(family, edge)
                        ways = tuple(
                            (entry.via, entry.discard) if (entry := router.look_up(subnet, address).entry) else None
                            for subnet in topology.subnets.values()
                        )
                        before = by_number.setdefault(pieces.number(address), ways)
                        self.assertEqual(before, ways, (seed, address))
                    alike += len(edges) - len(by_number)
        self.assertGreater(alike, 12)


class Names(unittest.TestCase):
    def test_addresses_are_called_in_stretches_as_one_by_one(self):
        chance = random.Random(2)
        for seed in range(6):
            directory = Walker(load(wider_network(seed))).directory
            edges = list(directory.name_edges())
            some = edges + [Address(each.family, max(0, each.value - 1)) for each in edges]
            some += [Address(4, chance.getrandbits(32)) for _ in range(200)]
            some += [Address(6, chance.getrandbits(128)) for _ in range(50)]
            names = []

            def number(address, directory=directory, names=names):
                name = directory.end_name(address)
                if name not in names:
                    names.append(name)
                return names.index(name)

            asked = mock.Mock(side_effect=number)
            found = AddressNames(asked, Stretches(edges, directory.is_by_itself)).numbers(AddressTable.of(some))
            self.assertEqual([directory.end_name(each) for each in some], [names[each] for each in found.tolist()])
            self.assertLess(asked.call_count, len(set(some)))

    def test_what_lies_in_an_outside_is_taken_out_of_it(self):
        chance = random.Random(4)
        sets = {
            f"o{number}": AddressSet.of_prefixes(parse_prefix(prefix(chance)) for _ in range(chance.randrange(1, 4)))
            for number in range(60)
        }
        sets["all"] = AddressSet.of_prefixes([parse_prefix("0.0.0.0/0")])
        sets["half"] = AddressSet.of_prefixes([parse_prefix("0.0.0.0/2"), parse_prefix("64.0.0.0/3")])
        nesting = Nesting(sets)
        for name, whole in sets.items():
            within = [other for each, other in sets.items() if each != name and other <= whole and other != whole]
            self.assertEqual(whole - AddressSet.union(within), nesting.own(name))

    def test_a_range_is_counted_by_its_own_addresses(self):
        ends = ends_of(base())
        whole = ends.resolve("198.51.100.16/30")
        names = Namer(ends).names([*whole.members, *ends.resolve("203.0.113.200/31").members])
        counts = {each.text: each.count for each in names}
        self.assertEqual(6, sum(counts.values()), counts)


small = st.lists(st.tuples(st.integers(0, 40), st.integers(0, 5)), max_size=7).map(
    lambda pairs: RangeSet.of((low, low + more) for low, more in pairs)
)


class Ranges(unittest.TestCase):
    @given(small, small)
    def test_what_is_left_and_whether_two_meet_are_as_of_plain_sets(self, one, other):
        mine, theirs = ({value for low, high in each for value in range(low, high + 1)} for each in (one, other))
        left = one - other
        self.assertEqual(mine - theirs, {value for low, high in left for value in range(low, high + 1)})
        self.assertEqual(left, RangeSet.of(left.ranges))
        self.assertEqual(bool(mine & theirs), one.meets(other))
        self.assertEqual(mine <= theirs, one <= other)
        self.assertLessEqual(one & other, one)


if __name__ == "__main__":
    unittest.main()
