"""Expectations held to the walk of every pair, and what is broken by being about nobody."""

import dataclasses
import os
import unittest
from unittest import mock

from kiboko.batch.spanning import spread
from kiboko.core.changes.expecting import BROKEN, HELD, _without_family, held
from kiboko.core.errors import InputError, Place
from kiboko.core.header.services import Service
from kiboko.core.network.model import Expectation
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.walk.walk import Walker
from tests.core.test_clauses_signals import listing
from tests.core.test_matrix import told_apart
from tests.core.test_reach import is_meant, public_pairs, singles
from tests.helpers import a_filter, base, load
from tests.random_networks import random_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "4"))
PLACE = Place("network.yaml", 1)


def promise(sources, destinations, service, expect, **rest):
    return Expectation("one", tuple(sources), tuple(destinations), resolve_service(service, {}), service, expect, PLACE,
                       **rest)  # fmt: skip


def verdicts(ends, sources, destinations, services, family, with_nobody):
    """The verdict of every pair of recorded or outside ends, by its walk."""
    number = services.lowest
    for member in told_apart(ends, [m for name in sources for m in ends.resolve(name).members]):
        if member.low is not None and member.outside is None and not with_nobody:
            continue
        for other in told_apart(ends, [m for name in destinations for m in ends.resolve(name).members]):
            if other.low is not None and other.outside is None:
                continue
            for receiver in singles(other, False):
                if member.instance is not None and member.instance == receiver.instance:
                    continue
                if not is_meant(ends, member, other, receiver, family):
                    continue
                pairs = ends.pairs(next(iter(singles(member, True))), receiver, family)
                if not pairs or pairs[0].source.address == pairs[0].target:
                    continue
                if pairs[0].source.network is None and ends.is_foreign(pairs[0].target):
                    continue
                yield ends.walk_pair(pairs[0], Service(number >> 16, number & 0xFFFF))


class HeldToWalks(unittest.TestCase):
    def test_allowed_and_blocked_on_random_networks(self):
        met = set()
        for seed in range(NETWORKS):
            ends = Ends(Walker(load(random_network(seed))))
            machines = list(ends.topology.instances)
            for sources, destinations in ((machines[:2], machines[2:4]), (["internet"], machines[:3]),
                                          (["a1"], [machines[-1]])):  # fmt: skip
                for service in ("tcp/22", "udp/53"):
                    for family in (4, 6):
                        for expect in ("allowed", "blocked"):
                            asked = promise(sources, destinations, service, expect, family=family)
                            walks = list(
                                verdicts(ends, sources, destinations, asked.services, family, expect == "blocked")
                            )
                            if expect == "blocked" and family == 4:
                                number = asked.services.lowest
                                ours, theirs = (
                                    [m for name in names for m in ends.resolve(name).members]
                                    for names in (sources, destinations)
                                )
                                pairs = public_pairs(ends, ours, theirs, [(number >> 16, number & 0xFFFF)])
                                walks += [walk for _, _, walk, _ in pairs]
                            wrong = [w for w in walks if (w.verdict != "allowed" if expect == "allowed" else
                                                          w.delivered or w.verdict in ("allowed", "partly", "unknown"))]  # fmt: skip
                            (found,) = held(ends, [asked])
                            with self.subTest(seed=seed, asked=asked):
                                if not walks:
                                    self.assertEqual(BROKEN, found.state)
                                    continue
                                if found.pairs:
                                    met.add((expect, found.state))
                                if "no address" not in found.why:
                                    self.assertEqual(BROKEN if wrong else HELD, found.state, found.why)
        self.assertLessEqual({("allowed", BROKEN), ("blocked", BROKEN), ("blocked", HELD)}, met)


class SharedOut(unittest.TestCase):
    def test_promises_held_in_pieces_by_other_processes_come_to_the_same_in_the_same_order(self):
        for seed in range(NETWORKS):
            ends = Ends(Walker(load(random_network(seed))))
            names = [*ends.topology.instances, *ends.topology.outsides, *ends.topology.subnets]
            asked = [promise([name], [names[(at + 1) % len(names)]], service, expect)
                     for at, name in enumerate(names) for service in ("ssh", "dns")
                     for expect in ("allowed", "blocked", "only")]  # fmt: skip
            pieces = []

            def shared_out(function, numbers, pieces=pieces):
                pieces += list(numbers)
                return spread(function, pieces)

            with mock.patch("kiboko.core.changes.expecting._FEW_PAIRS", 0):
                found = held(ends, asked, shared_out)
            self.assertGreater(len(pieces), 4)
            self.assertEqual(held(ends, asked), found, seed)


class OfKernelRuleSets(unittest.TestCase):
    def test_what_gets_through_with_its_first_packet_alone_does_not_keep_a_promise(self):
        values = base()
        values["instances"]["bob"]["host_filter"] = {"nftables": "bob.json"}
        for rules, state in (([("new", "accept")], BROKEN), ([("new", "accept"), ("established", "accept")], HELD)):
            ends = Ends(Walker(load(values, {"bob.json": listing("input", "drop", *rules)})))
            (found,) = held(ends, [promise(["ann"], ["bob"], "ssh", "allowed")])
            self.assertEqual(state, found.state)
            if state == BROKEN:
                self.assertIn("ann to bob on tcp/22 gets through with its first packet alone", found.why)


class Promises(unittest.TestCase):
    def setUp(self):
        self.values = base()
        self.values["filters"]["guard"] = a_filter("instance", inbound=[
            {"action": "allow", "from": ["bob", "cat"], "service": "ssh"}])  # fmt: skip
        self.values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]

    def held(self, *arguments, **rest):
        (found,) = held(Ends(Walker(load(self.values))), [promise(*arguments, **rest)])
        return found

    def test_what_a_machine_listens_to_counts_whatever_was_asked_before(self):
        """Nothing in front of cat and dan tells ssh and smtp apart, and of cat it does not matter: dan takes ssh alone."""
        values = base()
        for name, listens in (("cat", ["https"]), ("dan", ["ssh"])):
            values["instances"][name]["listens"] = listens
        asked = [promise(["ann"], [name], service, "allowed")
                 for name, service in (("cat", "https"), ("dan", "smtp"), ("dan", "ssh"))]  # fmt: skip
        found = held(Ends(Walker(load(values))), asked)
        self.assertEqual([HELD, BROKEN, HELD], [each.state for each in found])

    def test_only_these_means_that_they_get_through_and_nobody_else_does(self):
        self.assertEqual(HELD, self.held(["bob", "cat"], ["ann"], "ssh", "only", family=4).state)
        fewer = self.held(["bob"], ["ann"], "ssh", "only", family=4)
        self.assertEqual((BROKEN, "cat"), (fewer.state, fewer.example.source.name))
        more = self.held(["bob", "cat", "dan"], ["ann"], "ssh", "only", family=4)
        self.assertEqual((BROKEN, "dan"), (more.state, more.example.source.name))
        self.assertEqual(HELD, self.held(["bob"], ["ann"], "ssh", "only", family=4, excepted=("cat",)).state)

    def test_another_address_of_a_machine_that_is_named_is_somebody_else(self):
        """By name a machine is meant with all it has; by one address the others are not, and neither is its IPv6."""
        self.values["instances"]["ann"]["interfaces"][0]["addresses"].append("2001:db8:1:1::99")
        self.values["instances"]["bob"]["interfaces"][0]["addresses"].append("2001:db8:1:1::11")
        self.values["filters"]["guard"]["inbound"] = [{"action": "allow", "from": "bob", "service": "ssh"}]
        self.assertEqual(HELD, self.held(["bob"], ["ann"], "ssh", "only").state)
        found = self.held(["10.1.1.11"], ["ann"], "ssh", "only")
        self.assertEqual((BROKEN, 6), (found.state, found.family))

    def test_a_promise_is_of_every_address_that_the_sender_means(self):
        """The internet has no use for a second private address; a neighbour has."""
        self.values["instances"]["ann"]["interfaces"][0]["addresses"].append("10.1.1.12")
        self.values["filters"]["guard"]["inbound"] = [
            {"action": "allow", "from": "192.0.2.0/24", "service": "ssh"},
            {"action": "allow", "to": "10.1.1.12", "service": "https"}]  # fmt: skip
        self.assertEqual(HELD, self.held(["192.0.2.0/24"], ["ann"], "ssh", "allowed", family=4).state)
        found = self.held(["bob"], ["ann"], "https", "blocked", family=4)
        self.assertEqual((BROKEN, "10.1.1.12"), (found.state, found.example.destination.name))
        self.assertEqual(HELD, self.held(["192.0.2.0/24"], ["ann"], "https", "blocked", family=4).state)

    def test_nothing_arrives_from_any_address_of_a_sender_of_whom_nothing_may(self):
        self.values["instances"]["dan"]["interfaces"][0]["addresses"].append("10.2.1.99")
        self.assertEqual(HELD, self.held(["dan"], ["ann"], "ssh", "blocked").state)
        self.values["filters"]["guard"]["inbound"].append({"action": "allow", "from": "10.2.1.99", "service": "ssh"})
        found = self.held(["dan"], ["ann"], "ssh", "blocked")
        self.assertEqual((BROKEN, "10.2.1.99"), (found.state, found.example.source.name))
        self.assertEqual(BROKEN, self.held(["dan"], ["ann"], "ssh", "allowed").state, "it does not send from there")

    def test_nothing_arrives_by_the_public_address_either(self):
        self.values["route_tables"]["south-table"] = [{"to": "0.0.0.0/0", "via": "exit"}]
        self.assertEqual(HELD, self.held(["dan"], ["ann"], "ssh", "blocked").state)
        self.values["filters"]["guard"]["inbound"].append({"action": "allow", "from": "203.0.113.2", "service": "ssh"})
        found = self.held(["dan"], ["ann"], "ssh", "blocked")
        self.assertEqual((BROKEN, "203.0.113.10"), (found.state, found.example.destination.name))

    def test_who_is_excepted_is_promised_nothing(self):
        self.assertEqual(BROKEN, self.held(["bob", "dan"], ["ann"], "ssh", "blocked").state)
        self.assertEqual(HELD, self.held(["bob", "dan"], ["ann"], "ssh", "blocked", excepted=("bob",)).state)

    def test_a_request_that_arrives_breaks_a_promise_of_blocked_though_no_reply_comes_back(self):
        self.values["filters"]["edge"] = a_filter("subnet", stateful=False, inbound=[{"action": "allow"}], outbound=[])
        self.values["subnets"]["a1"]["filter"] = "edge"
        found = self.held(["cat"], ["ann"], "ssh", "blocked")
        self.assertEqual(BROKEN, found.state)
        self.assertIn("arrives", found.why)

    def test_some_client_ports_are_not_enough(self):
        self.values["filters"]["edge"] = a_filter(
            "subnet", stateful=False, inbound=[{"action": "allow"}],
            outbound=[{"action": "allow", "service": "tcp/40000-65535"}],
        )  # fmt: skip
        self.values["subnets"]["a1"]["filter"] = "edge"
        found = self.held(["cat"], ["ann"], "ssh", "allowed")
        self.assertEqual((BROKEN, 32768), (found.state, found.example.port))

    def test_a_promise_over_nobody_is_broken(self):
        self.values["groups"] = {"none": {"where": {"role": "ghost"}}}
        for expect in ("allowed", "blocked", "only"):
            self.assertEqual(BROKEN, self.held(["none"], ["ann"], "ssh", expect).state, expect)

    def test_a_machine_without_an_address_breaks_what_was_promised_to_it(self):
        self.values["instances"]["new"] = {"interfaces": [{"subnet": "a1", "addresses": []}]}
        self.values["groups"] = {"some": {"members": ["ann", "new"]}}
        found = self.held(["bob"], ["some"], "ssh", "allowed")
        self.assertEqual((BROKEN, "new has no address"), (found.state, found.why))

    def test_machines_without_a_family_in_common_are_counted_pair_by_pair(self):
        """Of IPv4 alone, of IPv6 alone, of both, without an address, and a range, each on both sides."""
        values = base()
        kinds = {"four": ["10.1.1.{}"], "six": ["2001:db8:1:1::{}"], "both": ["10.1.1.{}", "2001:db8:1:1::{}"]}
        for place, (kind, texts) in enumerate(kinds.items()):
            for number in range(3):
                addresses = [text.format(100 + 10 * place + number) for text in texts]
                values["instances"][f"{kind}-{number}"] = {"interfaces": [{"subnet": "a1", "addresses": addresses}]}
        ends = Ends(Walker(load(values)))
        every = [member for name in (*values["instances"], "10.1.1.0/28") for member in ends.resolve(name).members]
        for chosen in (every, every[::-1], every[4:9]):
            expected = [(one.name, other.name) for one in chosen for other in every
                        if one.low is None and other.low is None and one.instance != other.instance
                        and not set(one.families) & set(other.families)]  # fmt: skip
            self.assertEqual(_without_family(chosen, every), (len(expected), expected[0]))
        alone = [each for each in every if each.families == (4,)]
        self.assertEqual(_without_family(alone, alone), (0, ()))

    def test_unrecorded_addresses_may_send_and_are_not_sent_to(self):
        self.values["filters"]["guard"]["inbound"][0]["from"] = "10.1.2.0/24"
        self.assertEqual(BROKEN, self.held(["a2"], ["ann"], "ssh", "blocked", excepted=("cat",)).state)
        self.assertEqual(BROKEN, self.held(["bob"], ["a2"], "ssh", "blocked").state)
        self.assertEqual(BROKEN, self.held(["bob"], ["10.1.2.128/25"], "ssh", "blocked").state)

    def test_an_end_that_is_not_known_is_told_with_the_place(self):
        with self.assertRaises(InputError) as caught:
            self.held(["nobody", "bob"], ["ann", "an"], "ssh", "allowed", excepted=("dann",))
        told = [str(each).split(";")[0] for each in caught.exception.problems]
        what = "is neither an address nor a name of the network"
        self.assertEqual(
            told, [f"network.yaml:1: expectation 'one': '{name}' {what}" for name in ("nobody", "an", "dann")]
        )

    def test_services_are_looked_at_one_by_one(self):
        both = dataclasses.replace(
            promise(["bob"], ["ann"], "ssh", "allowed"), services=resolve_service("tcp/22-23", {})
        )
        (found,) = held(Ends(Walker(load(self.values))), [both])
        self.assertEqual((BROKEN, "tcp/23"), (found.state, str(found.example.service)))
