"""Every cell of a matrix held to the walks of all its pairs."""

import os
import unittest

import numpy as np

from kiboko.batch.spanning import matrix_of
from kiboko.core.errors import UsageError
from kiboko.core.header.services import Service
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.queries.members import Member
from kiboko.core.reachability.matrix import STATES, MatrixQuestion, axis_names, usual_services
from kiboko.core.reachability.space import Space
from kiboko.core.tables.cuts import address_atoms
from kiboko.core.walk.walk import ALLOWED, BLOCKED, ONE_WAY, PARTLY, UNKNOWN, Walker
from tests.core.test_reach import is_meant, public_pairs, singles
from tests.helpers import a_filter, base, load
from tests.random_networks import random_network, star_network
from tests.wider_networks import wider_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "2"))
SERVICES = ("tcp/22", "tcp/8005", "udp/53", "ping")


def told_apart(ends, members):
    """Members with ranges cut wherever anything in the network begins or ends."""
    atoms = address_atoms(ends.walker.ground)
    for member in members:
        if member.low is None:
            yield member
            continue
        for low, high, _ in atoms.split(member.low, member.high):
            is_ours = ends.directory.public_owner(low) is not None
            beyond = None if is_ours else ends.directory.outside_of(low)
            yield Member(f"{low}-{high}", None, (), low, high, outside=beyond.name if beyond else None)


def is_nobody(ends, member):
    """Whether a member is of addresses of which nothing is recorded, and which are not outside either."""
    if member.low is None or member.outside is not None:
        return False
    return ends.directory.public_owner(member.low) is None


def more_to_public(ends, sources, destinations, service):
    """Whether a cell comes to more at public addresses by the walks of its pairs: None where these are not all simply
    allowed or blocked."""
    number = 1 << 16 | 8 << 8 if service == "ping" else resolve_service(service, {}).lowest
    recorded = [each for each in told_apart(ends, sources) if not is_nobody(ends, each)]
    found = False
    for *_, walk, usual in public_pairs(ends, recorded, destinations, [(number >> 16, number & 0xFFFF)]):
        told = (walk.verdict, usual.verdict)
        if told == (ALLOWED, BLOCKED):
            return True
        if not set(told) <= {ALLOWED, BLOCKED}:
            found = None
    return found


def expected(ends, sources, destinations, service, family):
    """The state of a cell by the walk of every pair, recorded ends and outsides only."""
    verdicts = []
    services = resolve_service(service, {})
    for each in (4, 6) if family is None else (family,):
        number = next((low for low, _ in services if low >> 16 == {4: 1, 6: 58}[each]), None)
        number = number if service == "ping" else services.lowest
        for member in told_apart(ends, sources):
            for other in told_apart(ends, destinations):
                if any(is_nobody(ends, one) for one in (member, other)):
                    continue
                for receiver in singles(other, False):
                    if member.instance is not None and member.instance == receiver.instance:
                        continue
                    if member.low is not None and member.low == member.high == receiver.low == receiver.high:
                        continue
                    if not is_meant(ends, member, other, receiver, each):
                        continue
                    pairs = ends.pairs(next(iter(singles(member, True))), receiver, each)
                    if not pairs or pairs[0].source.address == pairs[0].target:
                        continue
                    if pairs[0].source.network is None and ends.is_foreign(pairs[0].target):
                        continue
                    mine, target = pairs[0].source.interface, pairs[0].target
                    owner = ends.directory.interface_at(target) or ends.directory.public_owner(target)
                    if mine is not None and owner is not None and owner.instance == mine.instance:
                        continue
                    verdicts.append(ends.walk_pair(pairs[0], Service(number >> 16, number & 0xFFFF)).verdict)
    if not verdicts:
        return "no pair"
    if set(verdicts) == {ALLOWED}:
        return ALLOWED
    if {ALLOWED, PARTLY} & set(verdicts):
        return PARTLY
    return next((each for each in (UNKNOWN, ONE_WAY) if each in verdicts), BLOCKED)


class HeldToWalks(unittest.TestCase):
    by_public = 0

    def hold(self, topology, by, family):
        ends = Ends(Walker(topology))
        names = axis_names(ends, by)
        services = [(text, resolve_service(text, {})) for text in SERVICES]
        matrix = matrix_of(MatrixQuestion(ends, names, services, family))
        for row, source in enumerate(names):
            for column, destination in enumerate(names):
                for number, service in enumerate(SERVICES):
                    wanted = expected(ends, source.members, destination.members, service, family)
                    found = matrix.cell(row, column, number).state
                    text = f"{source.text} to {destination.text} {service} IPv{family}"
                    self.assertEqual(wanted, found, text)
                    more = more_to_public(ends, source.members, destination.members, service) and family != 6
                    if more is not None:
                        self.assertEqual(more, matrix.cell(row, column, number).more_to_public, text)
                        self.by_public += more
        return matrix

    def test_every_cell_of_random_networks(self):
        met = set()
        for seed in range(1, 1 + NETWORKS):
            topology = load(random_network(seed))
            names = ",".join([*list(topology.groups)[:2], *list(topology.instances)[:2], "internet"])
            for family in (4, 6, None):
                with self.subTest(seed=seed, family=family):
                    matrix = self.hold(topology, names, family)
                    met |= {STATES[each] for each in matrix.state.reshape(-1).tolist()}
        self.assertLessEqual({ALLOWED, BLOCKED, PARTLY}, met)

    def test_every_cell_of_networks_that_have_no_way_to_each_other(self):
        for seed in range(1, 1 + max(1, NETWORKS // 3)):
            topology = load(star_network(seed))
            for family in (4, 6):
                with self.subTest(seed=seed, family=family):
                    self.hold(topology, ",".join([*topology.networks, "internet"]), family)
        self.assertGreater(self.by_public, 0)

    def test_every_cell_of_a_network_of_wider_shape(self):
        for seed in (1, *range(42, 42 + NETWORKS // 2)):
            topology = load(wider_network(seed))
            names = ",".join([*list(topology.groups)[:2], *list(topology.instances)[:2], "a1", "internet"])
            for family in (4, 6):
                with self.subTest(seed=seed, family=family):
                    self.hold(topology, names, family)
        self.assertGreater(self.by_public, 3)

    def test_several_processes_come_to_the_same(self):
        topology = load(random_network(3))
        ends = Ends(Walker(topology))
        names, services = axis_names(ends, "subnet"), usual_services(ends, 5)
        alone = matrix_of(MatrixQuestion(ends, names, services, None), 1)
        question = MatrixQuestion(ends, names, services, None)
        from kiboko.batch.piecework import shared_out

        together = question.matrix(shared_out(question, question.pieces(), 2))
        self.assertTrue((alone.state == together.state).all())
        self.assertTrue((alone.by_port == together.by_port).all())


class Cells(unittest.TestCase):
    def cell(self, values, service="ssh", names="ann,bob"):
        ends = Ends(Walker(load(values)))
        question = MatrixQuestion(ends, axis_names(ends, names), [(service, resolve_service(service, {}))], 4)
        return matrix_of(question).cell(0, 1, 0)

    def test_partly_by_port_where_only_client_ports_differ(self):
        values = base()
        values["filters"]["edge"] = a_filter(
            "subnet", stateful=False, inbound=[{"action": "allow"}],
            outbound=[{"action": "allow", "service": "tcp/40000-65535"}],
        )  # fmt: skip
        values["subnets"]["a2"]["filter"] = "edge"
        values["instances"]["cid"] = {"interfaces": [{"subnet": "a2", "addresses": ["10.1.2.77"]}]}
        found = self.cell(values, names="ann,cid")
        self.assertEqual(("partly", "port"), (found.state, found.by))

    def test_partly_by_address_where_one_of_a_group_gets_through(self):
        values = base()
        values["groups"] = {"both": {"members": ["ann", "dan"]}}
        values["filters"]["guard"] = a_filter("instance", inbound=[{"action": "allow", "from": "ann"}])
        values["instances"]["bob"]["interfaces"][0]["filters"] = ["guard"]
        found = self.cell(values, names="both,bob")
        self.assertEqual(("partly", "address"), (found.state, found.by))

    def test_what_a_machine_of_one_family_alone_listens_to_tells_services_of_the_other_apart_as_well(self):
        """Nothing else tells ssh and smtp apart; a cell of both families is of what both come to."""
        values = base()
        values["instances"]["six"] = {"interfaces": [{"subnet": "a1", "addresses": ["2001:db8:1:1::66"]}],
                                      "listens": ["ssh"]}  # fmt: skip
        ends = Ends(Walker(load(values)))
        asked = [(service, resolve_service(service, {})) for service in ("ssh", "smtp")]
        question = MatrixQuestion(ends, axis_names(ends, "ann,bob,six"), asked, None)
        found = matrix_of(question)
        self.assertEqual(
            [["allowed", "allowed"], ["allowed", "blocked"], ["no pair", "no pair"]],
            [[found.cell(*cell, number).state for number in (0, 1)] for cell in ((0, 1), (0, 2), (1, 2))],
        )

    def test_a_machine_alone_makes_no_pair_with_itself(self):
        ends = Ends(Walker(load(base())))
        question = MatrixQuestion(ends, axis_names(ends, "ann"), [("ssh", resolve_service("ssh", {}))], 4)
        self.assertEqual("no pair", matrix_of(question).cell(0, 0, 0).state)

    def test_names_are_zones_tags_and_lists_and_a_wrong_one_is_told(self):
        values = base()
        values["instances"]["ann"]["tags"] = {"role": "desk"}
        ends = Ends(Walker(load(values)))
        self.assertIn("tag:role=desk", [name.text for name in axis_names(ends, "tag:role")])
        self.assertEqual(["ann", "bob"], [name.text for name in axis_names(ends, "ann, bob")])
        for by in ("tag:rank", "nobody", "zone:nowhere"):
            with self.subTest(by), self.assertRaises(UsageError):
                axis_names(ends, by)

    def test_a_list_with_a_table_too_wide_is_worked_out_for_the_pairs_that_are_met(self):
        """The same cells whether the lists of filters are tables or looked at pair by pair."""
        from unittest import mock

        topology = load(random_network(2))
        ends = Ends(Walker(topology))
        found = []
        for most in (1 << 22, 0):
            with mock.patch("kiboko.core.tables.rule_words._MOST_ENTRIES", most):
                space = Space(ends, resolve_service("any", {}))
                members = ends.resolve("any").members
                senders, receivers = (space.ends_of(members, 4, each) for each in (True, False))
                space.prepare(receivers)
                found.append(
                    [
                        (b.senders, b.outcome.answered.copy())
                        for b in space.blocks(senders, receivers, 4, space.kinds(4))
                    ]
                )
        self.assertEqual(len(found[0]), len(found[1]))
        for (_, one), (_, other) in zip(*found, strict=True):
            self.assertTrue(np.array_equal(one, other))
