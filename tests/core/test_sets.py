"""Clause S36 and everything that stands for more than one: exact rows, counts, classes."""

import collections
import contextlib
import ipaddress
import os
import random
import unittest
from unittest import mock

from kiboko.core.errors import UsageError
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import services_texts
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.queries.pair import ask
from kiboko.core.reachability.grid import PairGrid
from kiboko.core.reachability.set_answer import outcome_key
from kiboko.core.reachability.sets import _SetQuestion, ask_set
from kiboko.core.reachability.told_rows import ToldRows
from kiboko.core.walk.walk import Walker
from tests.helpers import a_filter, base, load
from tests.random_networks import random_network as rich_network
from tests.random_networks import star_network

ONE_WAY_SEEDS = {18, 23, 55}
"""Random networks in which some replies to a single client port are stopped."""


def answer(values, source, destination, service, family=None):
    topology = load(values)
    ends = Ends(Walker(topology))
    services = resolve_service(service, topology.services)
    return ask_set(ends, ends.resolve(source), ends.resolve(destination), services, None, family)


def told(row):
    return [
        (part.source_texts(), part.destination_texts(), services_texts(part.services), part.size) for part in row.parts
    ]


class Sets(unittest.TestCase):
    def test_s36_one_row_for_each_distinct_outcome_with_exact_ranges_and_counts(self):
        values = base()
        values["filters"]["f"] = a_filter(
            "instance", inbound=[{"action": "allow", "from": "192.0.2.0/25", "service": "ssh"}]
        )
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["f"]
        found = answer(values, "192.0.2.0/24", "ann", "tcp/20-24")
        self.assertEqual([row.example.verdict for row in found.rows], ["allowed", "blocked"], "asked about an outside")
        self.assertEqual(told(found.rows[0]), [(["192.0.2.0/25"], ["ann"], ["tcp/22"], 128)])
        self.assertEqual(sorted(told(found.rows[1])), [
            (["192.0.2.0/25"], ["ann"], ["tcp/20-21", "tcp/23-24"], 128),
            (["192.0.2.128/25"], ["ann"], ["tcp/20-24"], 128),
        ])  # fmt: skip

    def test_s36_members_are_taken_singly_and_an_instance_to_itself_is_left_out(self):
        values = base()
        values["groups"]["both"] = {"members": ["ann", "bob"]}
        found = answer(values, "both", "both", "ssh")
        self.assertEqual(
            [(row.example.verdict, row.sources.instances) for row in found.rows], [("allowed", ("ann", "bob"))]
        )

    def test_s3_s36_a_machine_is_sent_to_at_each_of_its_addresses(self):
        values = base()
        values["instances"]["ann"]["interfaces"][0]["addresses"].append("10.1.1.12")
        values["instances"]["ann"]["interfaces"].append({"subnet": "a2", "addresses": ["10.1.2.12"]})
        values["filters"]["own"] = a_filter(
            "instance", inbound=[{"action": "allow", "to": ["10.1.1.12", "10.1.2.12"], "service": "ssh"}]
        )
        for interface in values["instances"]["ann"]["interfaces"]:
            interface["filters"] = ["own"]
        values["groups"]["both"] = {"members": ["ann", "cat"]}
        for receiver, more in (("both", ["cat"]), ("any", ["10.1.1.1-10.1.1.9"])):
            rows = {row.example.verdict: row for row in answer(values, "dan", receiver, "ssh", family=4).rows
                    if "ann" in row.destinations.instances}  # fmt: skip
            self.assertEqual({"blocked", "allowed"}, set(rows))
            told_at = [text for part in rows["allowed"].parts for text in part.destination_texts()]
            self.assertEqual([], [each for each in ("10.1.1.12", "ann/eth1") if each not in told_at])
            told_at = [text for part in rows["blocked"].parts for text in part.destination_texts()]
            self.assertIn("ann", told_at)
            self.assertNotIn("10.1.1.12", told_at, more)

    def test_s1_s36_an_outside_is_told_of_no_address_that_it_cannot_use(self):
        values = base()
        values["instances"]["ann"]["interfaces"][0]["addresses"].append("10.1.1.12")
        values["instances"]["ann"]["interfaces"].append({"subnet": "a2", "addresses": ["10.1.2.12"]})
        values["groups"]["one"] = {"members": ["ann"]}
        found = answer(values, "192.0.2.0/24", "one", "ssh", family=4)
        self.assertEqual([("allowed", [(["192.0.2.0/24"], ["ann"], ["tcp/22"], 256)])],
                         [(row.example.verdict, told(row)) for row in found.rows])  # fmt: skip

    def test_s36_even_one_row_is_a_set(self):
        values = base()
        values["groups"]["one"] = {"members": ["bob"]}
        ends = Ends(Walker(load(values)))
        one, ann = ends.resolve("one"), ends.resolve("ann")
        self.assertIsNone(ask(ends, one, ann, resolve_service("ssh", {}), None, None))
        self.assertEqual(len(answer(values, "one", "ann", "ssh").rows), 1)

    def test_s36_partly_by_source_ports_is_its_own_row(self):
        values = base()
        values["filters"]["e"] = a_filter(
            "subnet", stateful=False, inbound=[{"action": "allow"}],
            outbound=[{"action": "allow", "to": "ann"}, {"action": "allow", "service": "tcp/50000-60999"}],
        )  # fmt: skip
        values["subnets"]["b1"]["filter"] = "e"
        values["groups"]["senders"] = {"members": ["ann", "bob", "cat"]}
        found = answer(values, "senders", "dan", "ssh")
        rows = {row.example.verdict: told(row)[0][0] for row in found.rows}
        self.assertEqual(rows, {"allowed": ["ann"], "partly": ["bob", "cat"]})

    def test_a_subnet_is_its_machines_and_the_addresses_where_nobody_is_recorded(self):
        found = answer(base(), "dan", "a1", "ssh", family=4)
        self.assertEqual(found.destinations.instances, ("ann", "bob"))
        self.assertEqual(found.destinations.addresses, 256 - 2 - 2 + 2**64 - 1, "less the edges of the IPv4 block")
        names = [text for row in found.rows for part in row.parts for text in part.destination_texts()]
        self.assertIn("ann/eth0", names)
        self.assertIn("10.1.1.12-10.1.1.254", names)

    def test_an_outside_is_its_addresses_less_our_blocks_each_walked_as_the_outside_it_belongs_to(self):
        values = base()
        values["filters"]["edge"] = a_filter("subnet", outbound=[])
        values["outside"]["depot"]["filter"] = "edge"
        found = answer(values, "internet", "ann", "ssh", family=4)
        blocked = next(
            row for row in found.rows if row.example.verdict == "blocked" and row.example.decided_by.gate == "outside"
        )
        self.assertEqual(told(blocked), [(["198.51.100.0/28"], ["ann"], ["tcp/22"], 16)])
        everything = AddressTexts(found)
        self.assertNotIn("10.1.", everything)

    def test_a_member_without_an_address_is_blocked_at_route(self):
        values = base()
        values["instances"]["new"] = {"interfaces": [{"subnet": "a1"}]}
        values["groups"]["g"] = {"members": ["new", "bob"]}
        rows = answer(values, "ann", "g", "ssh").rows
        self.assertEqual(
            [(r.example.verdict, told(r)[0][1]) for r in rows], [("blocked", ["new"]), ("allowed", ["bob"])]
        )

    def test_both_families_are_asked_and_named_where_they_differ(self):
        values = base()
        values["filters"]["f"] = a_filter("instance", inbound=[{"action": "allow", "from": "10.0.0.0/8"}])
        values["instances"]["eve"] = {"interfaces": [{"subnet": "a1", "addresses": ["10.1.1.12", "2001:db8:1:1::12"],
                                                      "filters": ["f"]}]}  # fmt: skip
        values["groups"]["g"] = {"members": ["eve"]}
        rows = answer(values, "ann", "g", "ssh").rows
        self.assertEqual([(r.example.verdict, r.family) for r in rows], [("blocked", 6), ("allowed", 4)])
        same = answer(base(), "ann", "a1", "ssh").rows
        self.assertEqual({row.family for row in same if row.kind == 0}, {None})

    def test_addresses_of_two_families_make_no_pair(self):
        rows = answer(base(), "a1", "a1", "ssh").rows
        self.assertEqual({row.example.verdict for row in rows}, {"allowed"})

    def test_an_outside_that_covers_our_own_public_addresses_does_not_mean_our_machines(self):
        found = answer(base(), "dan", "internet", "ssh", family=4)
        self.assertEqual(found.destinations.instances, ())
        self.assertNotIn(
            "203.0.113.10", " ".join(t for r in found.rows for p in r.parts for t in p.destination_texts())
        )
        self.assertIn("public addresses of our own in internet are not meant by it", found.caveats[0])

    def test_one_reason_for_a_row_is_that_of_all_its_members(self):
        values = base()
        for name, address in (("off", "10.1.1.50"), ("gone", "10.1.1.51")):
            values["instances"][name] = {"state": "stopped", "interfaces": [{"subnet": "a1", "addresses": [address]}]}
        found = answer(values, "10.1.0.0/16", "dan", "ssh")
        reasons = {row.reason for row in found.rows if row.example.verdict == "blocked"}
        self.assertEqual(reasons, {"the machine is stopped", "the sender lies in no subnet"})

    def test_recorded_instances_come_first_and_any_is_an_end(self):
        found = answer(base(), "any", "dan", "ssh", family=4)
        self.assertEqual(found.sources.instances, ("ann", "bob", "cat", "dan"))
        self.assertEqual(set(found.sources.outsides), {"internet", "depot"})
        kinds = [row.kind for row in answer(base(), "a1", "dan", "ssh", family=4).rows]
        self.assertEqual(kinds, sorted(kinds))

    def test_addresses_that_are_never_delivered_are_bad_usage_said_what_they_are(self):
        for address, what in (
            ("224.0.0.5", "multicast"), ("127.0.0.1", "loopback"), ("169.254.9.9", "link-local"),
            ("255.255.255.255", "broadcast"), ("0.0.0.0", "unspecified"), ("10.1.1.255", "broadcast in subnet a1"),
            ("ff02::1", "multicast"), ("::1", "loopback"),
        ):  # fmt: skip
            topology = load(base())
            ends = Ends(Walker(topology))
            with self.assertRaisesRegex(UsageError, f"{address} is {what}"):
                ask(ends, ends.resolve("ann"), ends.resolve(address), resolve_service("ssh", {}), None, None)

    def test_ends_that_make_no_pair_are_bad_usage(self):
        with self.assertRaises(UsageError):
            answer(base(), "192.0.2.0/24", "depot", "ssh")

    def test_every_pair_of_random_networks_agrees_with_its_own_walk(self):
        for seed in range(6):
            with self.subTest(seed=seed):
                self.check_random(random.Random(seed))

    def check_random(self, chance):
        """The rows of everything to everything, unfolded, are what a walk of each pair says."""
        values = random_network(chance)
        topology = load(values)
        ends = Ends(Walker(topology))
        services = resolve_service("tcp", {})
        found = ask_set(ends, ends.resolve("everyone"), ends.resolve("everyone"), services, None, None)
        ports = [21, 22, 25, 26, 80, 443, 8080]
        seen = {}
        for row in found.rows:
            for part in row.parts:
                for source in part.sources:
                    for destination in part.destinations:
                        for port in ports:
                            if 6 << 16 | port in part.services and source.name != destination.name:
                                key = (source.name, destination.name, port)
                                self.assertNotIn(key, seen)
                                seen[key] = (row.example.verdict, row.example.signal)
        names = list(values["instances"])
        self.assertEqual(len(seen), len(names) * (len(names) - 1) * len(ports))
        for (source, destination, port), said in seen.items():
            single = ask(
                ends, ends.resolve(source), ends.resolve(destination), resolve_service(f"tcp/{port}", {}), None, None
            )
            self.assertEqual(said, (single.walk.verdict, single.walk.signal), (source, destination, port))


class ByTables(Sets):
    """All of it again, with tables asked however few the ends are."""

    def setUp(self):
        self.enterContext(few(walks=-1, pairs=1 << 40))

    def test_services_are_told_apart_by_the_ports_that_replies_come_from(self):
        values = base()
        values["filters"]["edge"] = a_filter(
            "subnet", stateful=False, inbound=[{"action": "allow"}],
            outbound=[{"action": "allow", "source_ports": "443"}],
        )  # fmt: skip
        values["subnets"]["a1"]["filter"] = "edge"
        ends = Ends(Walker(load(values)))
        found = ask_set(ends, ends.resolve("a2"), ends.resolve("a1"), resolve_service("tcp/1-1000", {}), None, 4)
        verdicts = {row.example.verdict: services_texts(row.parts[0].services) for row in found.rows}
        self.assertEqual({"one-way": ["tcp/1-442", "tcp/444-1000"], "allowed": ["tcp/443"]}, verdicts)

    def test_tables_and_walks_give_the_same_rows(self):
        """Every cell of everything to everything on any service, by both: verdict, signal, what decides, ports."""
        # Of network 14 a listener's resets get back to some client ports of one sender, and to none of another.
        for seed in sorted({*range(int(os.environ.get("KIBOKO_NETWORKS", "1"))), 14}):
            topology = load(rich_network(seed))
            for service in ("any", "icmp") if not seed else ("tcp",):
                for ports in (None, RangeSet.of([(1000, 1000), (40000, 50000)])):
                    with self.subTest(seed=seed, service=service, ports=str(ports)):
                        self.compare(topology, service, ports)

    def test_pairs_that_are_told_by_words_come_to_what_walks_say(self):
        """From one client port, so that what decides is spelled out for all but few pairs, of all verdicts."""
        told = collections.Counter()
        rows = ToldRows.rows

        def counted(asked):
            found = rows(asked)
            told.update(row.walk.verdict for row in found)
            return found

        with mock.patch.object(ToldRows, "rows", counted):
            for seed in sorted({*range(int(os.environ.get("KIBOKO_NETWORKS", "1"))), *ONE_WAY_SEEDS}):
                with self.subTest(seed=seed):
                    self.compare(load(rich_network(seed)), "tcp", RangeSet.one(40000))
        self.assertLess({"allowed", "one-way"}, set(told))

    def test_addresses_of_two_families_are_not_looked_at_pair_by_pair(self):
        """Between the machines of a subnet lie as many stretches where nobody is recorded, in either family."""
        values = base()
        for number in range(8):
            addresses = [f"10.1.1.{40 + 9 * number}", f"2001:db8:1:1::{4 + number}0"]
            values["instances"][f"m{number}"] = {"interfaces": [{"subnet": "a1", "addresses": addresses}]}
        values["instances"]["new"] = {"interfaces": [{"subnet": "a1", "addresses": ["2001:db8:1:1::3"]}]}
        rules = [{"action": "drop", "from": f"m{number}", "service": "ssh"} for number in range(8)]
        values["filters"]["edge"] = a_filter("subnet", inbound=[*rules, {"action": "allow"}])
        values["subnets"]["a1"]["filter"] = "edge"
        topology = load(values)
        looked_at, met = [], _SetQuestion.met

        def noted(asked, i, j, chosen):
            looked_at.append(tuple((each.name, each.families, each.low is not None) for each in chosen))
            return met(asked, i, j, chosen)

        with mock.patch.object(_SetQuestion, "met", noted):
            self.compare(topology, "ssh", None)
            looked_at.clear()
            ends = Ends(Walker(topology))
            with few(walks=-1, pairs=0):
                ask_set(ends, ends.resolve("any"), ends.resolve("any"), resolve_service("ssh", {}), None, None)
        apart = [(one, other) for one, other in looked_at if not set(one[1]) & set(other[1])]
        self.assertIn(("bob", "new"), [(one[0], other[0]) for one, other in apart], "of machines it is said")
        self.assertFalse([pair for pair in apart if pair[0][2] or pair[1][2]])

    def test_networks_that_have_no_way_to_each_other_come_to_what_walks_say(self):
        """What a router does not send on is told by the entry of its own table, and by the filters in front of it."""
        for seed in range(int(os.environ.get("KIBOKO_NETWORKS", "2"))):
            topology = load(star_network(seed))
            for service in ("tcp/20-25", "icmp"):
                with self.subTest(seed=seed, service=service):
                    self.compare(topology, service, None)

    def compare(self, topology, service, ports):
        ends = Ends(Walker(topology))
        services = resolve_service(service, topology.services)
        question = (ends, ends.resolve("any"), ends.resolve("any"), services, ports, None)
        with few(walks=1 << 40, pairs=1 << 40):
            by_walks = cells_of(ask_set(*question))
        for pairs in (1 << 40, 0):
            with few(walks=-1, pairs=pairs):
                found = ask_set(*question)
            by_tables = cells_of(found)
            self.assertEqual(set(by_walks), set(by_tables))
            self.check_examples(found)
            for ends_of, outcomes in by_walks.items():
                self.assertEqual(outcomes, by_tables[ends_of], ends_of)

    def check_examples(self, found):
        """The example of a row is of ends and of a service of that row."""
        for row in found.rows:
            flow = row.example.flow
            mine = [part for part in row.parts if flow.service.number in part.services]
            senders = [member.name for part in mine for member in part.sources]
            receivers = [member.name for part in mine for member in part.destinations]
            for name, listed in zip(row.example_names, (senders, receivers), strict=True):
                self.assertTrue(name in listed or any(is_between(name, each) for each in listed), (name, listed))
            if flow.source.interface is not None:
                self.assertEqual(row.example_names[0], flow.source.interface.instance)

    def test_rules_of_one_name_inbound_and_outbound_of_an_outsides_edge_stay_two(self):
        values = base()
        rules = [{"order": 10, "action": "drop", "service": "tcp/22"}, {"order": 20, "action": "allow"}]
        values["filters"]["edge"] = a_filter("subnet", stateful=False, inbound=rules, outbound=rules)
        values["outside"]["internet"]["filter"] = "edge"
        self.compare(load(values), "tcp", RangeSet.one(40000))

    def test_a_public_address_that_is_named_comes_to_what_the_machine_behind_it_listens_to(self):
        values = base()
        values["instances"]["ann"]["listens"], values["instances"]["cat"]["listens"] = ["ssh"], ["http"]
        values["groups"] = {"both": {"addresses": ["203.0.113.10", "203.0.113.20"]}}
        for receiver, allowed in (("203.0.113.10", {"tcp/22"}), ("both", {"tcp/22", "tcp/80"})):
            for sender in ("internet", "dan", "any"):
                found = answer(values, sender, receiver, "tcp/1-100", 4)
                open_to = {text for row in found.rows if row.example.verdict == "allowed" for part in row.parts
                           for text in services_texts(part.services)}  # fmt: skip
                self.assertEqual(open_to, allowed, (sender, receiver))
                self.assertEqual((found.destinations.addresses, len(found.destinations.instances)), (0, len(allowed)))


def is_between(name, blocks):
    """Whether a name is an address of a range that another is."""
    low, _, high = blocks.partition("-")
    try:
        first, address, last = map(ipaddress.ip_address, (low, name, high))
    except ValueError:
        return False
    return first.version == address.version and int(first) <= int(address) <= int(last)


@contextlib.contextmanager
def few(walks, pairs):
    """So many walks are made rather than tables, and so many pairs asked about one by one."""
    with (
        mock.patch("kiboko.core.reachability.sets.FEW_WALKS", walks),
        mock.patch("kiboko.core.reachability.sets._FEW_PAIRS", pairs),
    ):
        yield


class Counts(unittest.TestCase):
    def test_ends_of_several_products_are_counted_once(self):
        """Each sender is let in on another port; what is left is blocked to the same addresses by one rule."""
        values = base()
        values["filters"]["edge"] = a_filter(
            "subnet", stateful=False, outbound=[{"order": 1, "action": "allow"}],
            inbound=[{"order": 1, "action": "allow", "from": "ann", "service": "tcp/22"},
                     {"order": 2, "action": "allow", "from": "bob", "service": "tcp/23"}],
        )  # fmt: skip
        values["subnets"]["a2"]["filter"] = "edge"
        values["groups"] = {"two": {"members": ["ann", "bob"]}}
        for pairs in (1 << 40, 0):
            with few(walks=-1, pairs=pairs):
                found = answer(values, "two", "a2", "tcp/1-100", 4)
            (row,) = (row for row in found.rows if row.example.verdict == "blocked" and row.kind == 1)
            self.assertEqual(len(row.parts), 2)
            self.assertEqual((row.sources.instances, row.destinations.addresses), (("ann", "bob"), 256 - 2 - 1))


class Caveats(unittest.TestCase):
    def test_what_listens_is_told_once_for_all_machines_and_nothing_is_cut_in_silence(self):
        values = base()
        values["groups"]["many"] = {"where": {"kind": "many"}}
        for index in range(20):
            name = f"m{index:02d}"
            values["instances"][name] = {
                "tags": {"kind": "many"},
                "interfaces": [{"subnet": "a1", "addresses": [f"10.1.1.{100 + index}"], "filters": [f"f{index}"]}],
            }
            # Each is reached on client ports of its own, so that each is an outcome with an example.
            values["filters"][f"f{index}"] = a_filter(
                "instance", inbound=[{"action": "allow", "service": "ssh", "source_ports": f"{50000 + index}-60999"}]
            )
        found = answer(values, "dan", "many", "ssh", 4)
        self.assertEqual(len(found.rows), 20)
        listening = [caveat for caveat in found.caveats if "listen" in caveat]
        self.assertEqual(listening, ["whether m00, m01, m02, m03 and 16 more listen on tcp/22 is not known"])
        self.assertRegex(found.caveats[-1], r"^and \d+ more to bear in mind of the examples")
        self.assertEqual(len(found.caveats), 13)


class TooMany(unittest.TestCase):
    def test_more_pairs_than_are_asked_about_at_once_are_refused_with_another_way_to_ask(self):
        with (
            mock.patch("kiboko.core.reachability.sets._MOST_PAIRS", 3),
            self.assertRaisesRegex(UsageError, "pairs of ends .* more than the 3 .* 'kiboko matrix' or 'kiboko reach'"),
        ):
            answer(base(), "a1", "a2", "ssh")


class ToldApart(Sets):
    """All of it once more, with one pair asked for all that come to the same, however few the ends are."""

    def setUp(self):
        self.enterContext(few(walks=-1, pairs=0))

    def test_most_pairs_of_a_large_network_are_not_asked_about(self):
        """Of 40 × 40 pairs that differ in a few rules some are asked, and the answer is that of all of them."""
        values = base()
        values["groups"] = {"many": {"where": {"kind": "many"}}}
        for index in range(40):
            subnet, block = (("a1", "10.1.1"), ("a2", "10.1.2"), ("b1", "10.2.1"))[index % 3]
            values["instances"][f"m{index}"] = {
                "tags": {"kind": "many"},
                "interfaces": [
                    {"subnet": subnet, "addresses": [f"{block}.{100 + index}"], "filters": [f"f{index % 4}"]}
                ],
            }
        for index in range(4):
            values["filters"][f"f{index}"] = a_filter(
                "instance", inbound=[{"action": "allow", "from": f"m{index}", "service": f"tcp/{port}"}
                                     for port in range(20, 24 + index)],
            )  # fmt: skip
        topology = load(values)
        ends = Ends(Walker(topology))
        with mock.patch.object(PairGrid, "judged", autospec=True, side_effect=PairGrid.judged) as judged:
            found = ask_set(ends, ends.resolve("many"), ends.resolve("many"), resolve_service("tcp/1-100", {}), None, 4)
        self.assertLess(sum(len(call.args[1]) for call in judged.call_args_list), 300)
        allowed = [row for row in found.rows if row.example.verdict == "allowed"]
        cells = {(source.name, destination.name, port) for row in allowed for part in row.parts for source in part.sources
                 for destination in part.destinations for port in range(1, 101) if 6 << 16 | port in part.services}  # fmt: skip
        expected = {(f"m{one}", f"m{other}", port) for one in range(4) for other in range(40)
                    for port in range(20, 24 + one) if other % 4 == one and other != one}  # fmt: skip
        self.assertEqual(cells, expected)

    def test_every_rule_of_a_filter_and_of_its_replies_has_its_own_row(self):
        """More rules than a word has bits stop a port each, on the way there; others the replies of some; a set of
        filters lets in what any of its rules does; and a listener refuses what is left but one port."""
        values = base()
        gone, lost = range(1000, 1080), range(1080, 1090)
        values["filters"]["edge"] = a_filter(
            "subnet", stateful=False, otherwise="allow",
            inbound=[{"order": port, "action": "drop", "service": f"tcp/{port}"} for port in gone],
            outbound=[{"order": port, "action": "drop", "source_ports": str(port)} for port in lost],
        )  # fmt: skip
        for name in ("one", "third"):
            values["filters"][name] = a_filter("instance", decide="any", inbound=[
                {"id": "low", "action": "allow", "service": "tcp/1000-1094"}])  # fmt: skip
        values["filters"]["other"] = a_filter("instance", decide="any", inbound=[
            {"id": "high", "action": "allow", "service": "tcp/1096-1100"}])  # fmt: skip
        values["subnets"]["a2"]["filter"] = "edge"
        for index in range(8):
            filters = ["one" if index < 4 else "third", "other"]
            values["instances"][f"m{index}"] = {
                "interfaces": [{"subnet": "a2", "addresses": [f"10.1.2.{100 + index}"], "filters": filters}],
                "listens": ["tcp/1080-1092"],
            }
        values["groups"] = {"many": {"members": [f"m{index}" for index in range(8)]}}
        ends = Ends(Walker(load(values)))
        services = resolve_service("tcp/1000-1100", {})
        found = ask_set(ends, ends.resolve("a1"), ends.resolve("many"), services, RangeSet.one(40000), 4)
        mine = [row for row in found.rows if row.kind == 0]
        told = {}
        for row in mine:
            decider = row.example.decided_by
            by = (decider.filter, decider.rule) if decider is not None else None
            union = RangeSet.of(pair for part in row.parts for pair in part.services)
            told[row.example.verdict, by] = ", ".join(services_texts(union))
            of_set = by is not None and by[1] == "otherwise"
            self.assertEqual({len(part.destinations) for part in row.parts}, {4 if of_set else 8})
        expected = {("blocked", ("edge", str(port))): f"tcp/{port}" for port in gone}
        expected |= {("one-way", ("edge", str(port))): f"tcp/{port}" for port in lost}
        expected |= {
            ("blocked", ("one", "otherwise")): "tcp/1095", ("blocked", ("third", "otherwise")): "tcp/1095",
            ("allowed", None): "tcp/1090-1092",
            ("blocked", (None, None)): "tcp/1093-1094, tcp/1096-1100",
        }  # fmt: skip
        self.assertEqual(told, expected)

    def test_senders_with_client_ports_of_their_own_are_told_by_words_as_well(self):
        """Nobody is asked about one by one, and all comes to what walks say."""
        values = base()
        values["instances"]["bob"]["ephemeral_ports"] = "49152-65535"
        values["filters"]["edge"] = a_filter(
            "subnet", stateful=False, inbound=[{"order": 1, "action": "allow", "service": "tcp/1-90"}],
            outbound=[{"order": 1, "action": "allow", "service": "tcp/1024-65535", "source_ports": "1-80"}],
        )  # fmt: skip
        values["subnets"]["a2"]["filter"] = "edge"
        values["groups"] = {"every": {"members": ["ann", "bob", "cat", "dan"]}}
        ends = Ends(Walker(load(values)))
        question = (ends, ends.resolve("every"), ends.resolve("every"), resolve_service("tcp/1-100", {}), None, None)
        with mock.patch.object(PairGrid, "judged", side_effect=AssertionError):
            by_words = ask_set(*question)
        with few(walks=1 << 40, pairs=1 << 40):
            self.assertEqual(cells_of(by_words), cells_of(ask_set(*question)))
        self.assertLess({"allowed", "one-way"}, {row.example.verdict for row in by_words.rows})

    def told(self, values, sender, receiver, service, port=None, most=0):
        """What is told of ends of which `most` pairs are asked about one by one: the same as walks say."""
        ends = Ends(Walker(load(values)))
        ports = RangeSet.one(port) if port is not None else None
        question = (ends, ends.resolve(sender), ends.resolve(receiver), resolve_service(service, {}), ports, None)
        with mock.patch.object(PairGrid, "judged", autospec=True, side_effect=PairGrid.judged) as judged:
            by_words = ask_set(*question)
        self.assertLessEqual(sum(len(call.args[1]) for call in judged.call_args_list), most)
        with few(walks=1 << 40, pairs=1 << 40):
            self.assertEqual(cells_of(by_words), cells_of(ask_set(*question)))
        return by_words

    def test_addresses_outside_are_told_by_words_as_well(self):
        """Of a firewall with rules about many addresses; by tunnel machines are meant at their own address, else at
        their public one; what is said of addresses outside stands by itself."""
        values = base()
        values["gateways"]["line"] = {"kind": "tunnel", "network": "south", "outside": "depot"}
        values["route_tables"]["south-table"].append({"to": "198.51.100.0/28", "via": "line"})
        values["filters"]["edge"] = a_filter("subnet", stateful=False, outbound=[{"order": 1, "action": "allow"}], inbound=[
            *({"order": 1 + number, "action": "drop", "from": f"8.8.{number}.0/24", "service": f"tcp/{20 + number}"}
              for number in range(20)),
            {"order": 90, "action": "allow", "from": "198.51.100.3", "service": "tcp/30-40"},
            {"order": 99, "action": "allow", "from": "internet"}])  # fmt: skip
        for subnet in ("a1", "a2", "b1"):
            values["subnets"][subnet]["filter"] = "edge"
        values["groups"] = {"ours": {"members": ["ann", "bob", "cat", "dan"]}}
        found = self.told(values, "0.0.0.0/0", "ours", "tcp/1-100", 40000, most=40)
        deciders = {row.example.decided_by.rule for row in found.rows if row.example.decided_by is not None}
        self.assertLess({str(1 + number) for number in range(20)}, deciders)
        self.assertIn((2, "allowed"), {(row.kind, row.example.verdict) for row in found.rows})
        self.told(values, "ours", "internet", "tcp/1-100", 40000)

    def test_a_router_without_a_way_on_is_asked_once_for_each_sender_and_for_what_keeps_state(self):
        """Its message is lost where a sender's own filters let nothing in that they keep no state for: of a sender with
        one that does and one that does not, on what the latter alone lets out."""
        values = base()
        values["route_tables"]["shut"] = []
        for name, port, stateful in (("own", 22, True), ("loose", 23, False)):
            values["filters"][name] = a_filter("instance", decide="any", stateful=stateful, inbound=[],
                                               outbound=[{"id": "out", "action": "allow", "service": f"tcp/{port}"}])  # fmt: skip
        values["subnets"]["dead"] = {"network": "north", "cidr": "10.1.8.0/24", "route_table": "shut"}
        for number, filters in enumerate(([], ["own"], ["loose"], ["own", "loose"])):
            values["instances"][f"s{number}"] = {
                "interfaces": [{"subnet": "dead", "addresses": [f"10.1.8.1{number}"], "filters": filters}]
            }
        found = self.told(values, "dead", "internet", "tcp/20-30", 40000)
        told = {}
        for row in found.rows:
            if row.example.decided_by.gate == "route":
                for part in row.parts:
                    for source in part.sources:
                        told[source.name, row.example.signal] = ", ".join(services_texts(part.services))
        nobody = {name for name, _ in told if name.startswith("10.")}
        self.assertEqual(told, {(name, "unreachable"): "tcp/20-30" for name in {*nobody, "s0/eth0"}} | {
            ("s1/eth0", "unreachable"): "tcp/22", ("s2/eth0", "silent"): "tcp/23",
            ("s3/eth0", "unreachable"): "tcp/22", ("s3/eth0", "silent"): "tcp/23"})  # fmt: skip

    def test_what_a_route_stops_is_told_by_the_entry_of_the_senders_own_table(self):
        """Two tables say the same, each at a line of its own; so do two by which replies go."""
        values = base()
        for number, subnet in enumerate(("a1", "a2")):
            values["route_tables"][f"table-{number}"] = [
                {"to": "10.2.0.0/16", "via": "door"}, {"to": "198.51.100.0/24", "via": "discard"},
                {"to": "0.0.0.0/0", "via": "door"}]  # fmt: skip
            values["subnets"][subnet]["route_table"] = f"table-{number}"
        for number in range(4):
            values["instances"][f"m{number}"] = {
                "interfaces": [
                    {"subnet": "a1" if number % 2 else "a2", "addresses": [f"10.1.{2 - number % 2}.{60 + number}"]}
                ]
            }
        values["groups"] = {"upper": {"members": ["ann", "bob", "cat", *(f"m{number}" for number in range(4))]}}
        for sender, receiver in (("upper", "10.2.1.0/24"), ("upper", "internet"), ("10.2.1.0/24", "upper")):
            found = self.told(values, sender, receiver, "tcp/20-30", 40000)
            lines = {row.example.decided_by.place.line for row in found.rows if row.example.decided_by is not None
                     and row.example.decided_by.place is not None}  # fmt: skip
            self.assertGreater(len(lines), 1, (sender, receiver))

    def test_pairs_of_two_families_are_never_one_however_many_client_ports_there_are(self):
        values = base()
        for number in range(4):
            values["instances"][f"four-{number}"] = {
                "ephemeral_ports": f"{40000 + number}-65535",
                "interfaces": [{"subnet": "b1", "addresses": [f"10.2.1.{20 + number}"]}],
            }
            values["instances"][f"six-{number}"] = {
                "listens": [f"tcp/{1 + number}"],
                "interfaces": [{"subnet": "a1", "addresses": [f"2001:db8:1:1::{20 + number}"]}],
            }
        names = [f"{word}-{number}" for word in ("four", "six") for number in range(4)]
        values["groups"] = {"every": {"members": names}}
        found = self.told(values, "every", "every", "icmp", most=16)
        allowed = [part for row in found.rows if row.example.verdict == "allowed" for part in row.parts]
        self.assertEqual({source.name for part in allowed for source in part.sources}, set(names[:4]))

    def test_where_only_ends_that_nothing_tells_apart_are_left_they_are_asked_one_by_one(self):
        self.told(base(), "10.1.2.128/25", "10.1.2.128/25", "tcp/20-30", 40000, most=1)

    def test_a_service_that_travels_in_none_of_the_families_is_refused(self):
        ends = Ends(Walker(load(base())))
        with self.assertRaisesRegex(UsageError, "no address family in common: icmp is IPv4"):
            ask_set(ends, ends.resolve("a1"), ends.resolve("a2"), resolve_service("icmp6", {}), None, 4)


def cells_of(answer):
    """For each pair of members and family, what each set of services comes to."""
    found = {}
    for row in answer.rows:
        for part in row.parts:
            for source in part.sources:
                for destination in part.destinations:
                    outcomes = found.setdefault((source.name, destination.name, row.family), {})
                    key = outcome_key(row.example)
                    outcomes[key] = outcomes.get(key, RangeSet()) | part.services
    return found


def AddressTexts(found):
    return " ".join(text for row in found.rows for part in row.parts for text in part.source_texts())


def random_network(chance):
    """The base network with more machines, and filters of every layer drawn at random."""
    values = base()
    for index in range(6):
        subnet, block = chance.choice([("a1", "10.1.1"), ("a2", "10.1.2"), ("b1", "10.2.1")])
        values["instances"][f"m{index}"] = {
            "interfaces": [{"subnet": subnet, "addresses": [f"{block}.{100 + index}"]}],
            "state": chance.choice(["running"] * 5 + ["stopped"]),
        }
        if chance.random() < 0.5:
            values["instances"][f"m{index}"]["listens"] = chance.sample(["ssh", "http", "tcp/8080"], 2)
    names = list(values["instances"])
    values["groups"] = {"everyone": {"members": names}, "some": {"members": chance.sample(names, 3)}}

    def rules(**more):
        peers = ["any", "some", "10.1.1.0/24", "10.2.0.0/16", *chance.sample(names, 2)]
        return [
            {"action": chance.choice(["allow", "allow", "drop", "reject"]), "from": chance.choice(peers),
             "to": chance.choice(peers), "service": chance.choice(["any", "ssh", "tcp/20-25", "http", "tcp/1-1024"]), **more}
            for _ in range(chance.randint(1, 4))
        ]  # fmt: skip

    for index in range(4):
        values["filters"][f"i{index}"] = a_filter(
            "instance", stateful=chance.random() < 0.5, inbound=rules(), outbound=rules()
        )
    values["filters"]["s"] = a_filter("subnet", stateful=False, inbound=rules(), outbound=rules(), otherwise="allow")
    values["filters"]["z"] = a_filter(
        "zone", rules=rules(stateful=chance.random() < 0.5), otherwise=chance.choice(["allow", "drop"])
    )
    values["crossings"] = [{"from": "left", "to": "right", "filter": "z"}]
    values["subnets"][chance.choice(["a1", "a2", "b1"])]["filter"] = "s"
    for name in chance.sample(names, 4):
        values["instances"][name]["interfaces"][0]["filters"] = [chance.choice(["i0", "i1", "i2", "i3"])]
    if chance.random() < 0.5:
        values["instances"]["m0"]["forwards"] = True
        values["instances"]["m0"]["interfaces"] = [{"subnet": "a2", "addresses": ["10.1.2.100"]}]
        values["route_tables"]["north-table"].append({"to": "10.2.1.10/32", "via": {"instance": "m0"}})
    return values


if __name__ == "__main__":
    unittest.main()
