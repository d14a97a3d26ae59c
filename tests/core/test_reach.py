"""Reach, doors and stepping stones held to walks, one by one."""

import contextlib
import copy
import json
import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from kiboko.core.errors import UsageError
from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.services import Service
from kiboko.core.queries.ends import Ends, resolve_service, services_for
from kiboko.core.queries.members import Member, member_addresses
from kiboko.core.reachability.doors import doors
from kiboko.core.reachability.naming import Namer
from kiboko.core.reachability.reach import ReachQuestion, far_members, reach
from kiboko.core.reachability.stepping_stones import stepping_stones
from kiboko.core.walk.walk import ALLOWED, PARTLY, Walker
from kiboko.demo.data import write_demo
from kiboko.files.network.network_file import load_network
from tests import helpers
from tests.core.test_clauses_signals import listing
from tests.helpers import a_filter, base, load
from tests.random_networks import random_network, varied_network
from tests.wider_networks import wider_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "2"))
ASKED = [(6, 22), (6, 80), (6, 8005), (17, 53), (6, 40001), (1, 8 << 8), (58, 128 << 8), (1, 3 << 8 | 3), (47, 0)]


def single(member, is_last=False):
    """A member as one end: of a range its first or its last address."""
    if member.low is None:
        return member
    address = member.high if is_last else member.low
    return Member(str(address), None, (), address, address, outside=member.outside)


def singles(member, is_sender):
    """A member as ends: where it is sent to each interface by itself, at its first address of each family, and each
    further address of it."""
    if member.low is None and not is_sender and not member.is_by_address:
        for interface in member.interfaces:
            first = tuple(address for address in interface.addresses if interface.address(address.family) == address)
            own = interface._replace(addresses=first)
            yield Member(interface.name, member.instance, (own,))
            for address in interface.addresses:
                if address not in first:
                    further = interface._replace(addresses=(address,), public=None)
                    yield Member(str(address), member.instance, (further,), is_by_address=True)
    else:
        yield single(member, not is_sender)


def is_meant(ends, sender, whole, one, family):
    """Whether a sender means one address of a machine by it (S1): an outside without a tunnel means those that are public
    or global, where there are any, else the first, but of two networks that to which it has a tunnel."""
    if sender.outside is None or whole.low is not None:
        return True

    def tunnel(interface):
        return ends.directory.tunnel(ends.topology.subnets[interface.subnet].network, sender.outside) is not None

    listed = [(each, address) for each in whole.interfaces for address in each.addresses if address.family == family]
    usable = [
        (each.name, address) for each, address in listed
        if tunnel(each) or (family == 6 and not str(address).startswith("f"))
        or (family == 4 and each.public is not None and each.address(4) == address)
        or any(address in block for network in ends.topology.networks.values() for block in network.public)
    ]  # fmt: skip
    mine = one.interfaces[0].name, one.interfaces[0].address(family)
    return mine in (usable or [(each.name, address) for each, address in listed[:1]])


def cells(ends, question, family):
    """Every pair that a question is about, by its walks: `(source, destination)` names to walk by service."""
    far = [(member, each) for member in far_members(ends, question) for each in singles(member, not question.is_out)]
    near = [(member, each) for member in question.name.members for each in singles(member, question.is_out)]
    for far_whole, one in far:
        for near_whole, other in near:
            sender, receiver, whole = (other, one, far_whole) if question.is_out else (one, other, near_whole)
            if sender.instance is not None and sender.instance == receiver.instance:
                continue
            if not is_meant(ends, sender, whole, receiver, family):
                continue
            pairs = ends.pairs(sender, receiver, family)
            if not pairs or pairs[0].source.address == pairs[0].target:
                continue
            if pairs[0].source.network is None and ends.is_foreign(pairs[0].target):
                continue
            for protocol, detail in ASKED:
                if (protocol << 16 | detail) in services_for(question.services, family):
                    yield one, other, ends.walk_pair(pairs[0], Service(protocol, detail))


def further_cells(ends, question, family):
    """Pairs of which the sender is a machine at an address that it does not use by itself: `(far, near)`, the walk, and
    that of the machine by its name."""
    near, far = question.name.members, list(far_members(ends, question))
    for whole in near if question.is_out else far:
        for interface in whole.interfaces if not whole.is_by_address else ():
            for address in interface.addresses:
                first = next(a for i in whole.interfaces for a in i.addresses if a.family == address.family)
                if address.family != family or address == first:
                    continue
                named = interface.name if interface.address(family) == address else str(address)
                one = Member(named, whole.instance, (interface._replace(addresses=(address,)),), is_by_address=True)
                for other in far if question.is_out else near:
                    for receiver in singles(other, False):
                        if receiver.instance == whole.instance or not is_meant(ends, whole, other, receiver, family):
                            continue
                        pairs, usual = (ends.pairs(each, receiver, family) for each in (one, whole))
                        for protocol, detail in ASKED if pairs else ():
                            if (protocol << 16 | detail) in services_for(question.services, family):
                                service = Service(protocol, detail)
                                walks = [ends.walk_pair(each[0], service) for each in (pairs, usual)]
                                yield (receiver, one) if question.is_out else (one, receiver), *walks


def public_pairs(ends, senders, receivers, asked):
    """Pairs of which the receiver is a machine at its public address, and whose sender is inside or has a tunnel there:
    sender, receiver, the walk, and that to the address behind it, for each of some protocols and details."""
    for whole in receivers:
        for interface in whole.interfaces if not whole.is_literal else ():
            network = ends.topology.subnets[interface.subnet].network
            if interface.public is None or interface.address(4) is None:
                continue
            receiver = Member(str(interface.public), None, (), interface.public, interface.public)
            own = Member(interface.name, whole.instance, (interface._replace(addresses=(interface.address(4),)),))
            for one in (each for member in senders for each in singles(member, True)):
                has_way = one.outside is None or ends.directory.tunnel(network, one.outside) is not None
                pairs, usual = (ends.pairs(one, each, 4) for each in (receiver, own))
                if one.instance == whole.instance or not has_way or not pairs:
                    continue
                if pairs[0].source.interface is not None and pairs[0].source.interface.instance == whole.instance:
                    continue  # its own public address as a sender
                shown = Member(str(interface.public), whole.instance)
                for protocol, detail in asked:
                    walks = [ends.walk_pair(each[0], Service(protocol, detail)) for each in (pairs, usual)]
                    yield one, shown, *walks


def public_cells(ends, question):
    """Pairs that a question is about with a machine at its public address: `(far, near)`, the walk, and that to the
    address behind it."""
    near, far = question.name.members, list(far_members(ends, question))
    asked = [each for each in ASKED if each[0] << 16 | each[1] in services_for(question.services, 4)]
    senders, receivers = (near, far) if question.is_out else (far, near)
    for one, shown, walk, usual in public_pairs(ends, senders, receivers, asked):
        yield ((shown, one) if question.is_out else (one, shown)), walk, usual


def holds(members, end):
    """Whether an end is among some members of a line: by its address, by its name, or with its whole machine."""
    for each in members:
        if each.low is not None and end.low is not None:
            if each.low.family == end.low.family and each.low <= end.low <= each.high:
                return True
            continue
        is_mine = end.low is None and each.low is None and each.instance == end.instance
        if is_mine and each.name in (end.name, end.instance) and _stands_for(each, end):
            return True
    return False


def _stands_for(member, end):
    """Whether a name stands for an end: the same name, a machine as a sender, or one for its interface."""
    return end.name in (member.name, end.instance) or end.interfaces[0].name in [
        each.name for each in member.interfaces
    ]


class HeldToWalks(unittest.TestCase):
    further = 0

    def hold(self, topology, names, service="any"):
        ends = Ends(Walker(topology))
        services = resolve_service(service, topology.services)
        count = 0
        for name in names:
            for is_out in (False, True):
                for family in (4, 6):
                    question = ReachQuestion(ends.resolve(name), services, is_out, family)
                    expected = list(cells(ends, question, family))
                    try:
                        lines = reach(ends, question).lines
                        locked = doors(ends, question)
                    except UsageError:
                        self.assertEqual([], expected)
                        continue
                    for far, near, walk in expected:
                        count += 1
                        self.held((name, is_out), far, near, walk, lines, locked)
                    for (far, near), walk, usual in further_cells(ends, question, family):
                        count += 1
                        self.held_further((name, is_out), far, near, walk, usual, lines)
                    for (far, near), walk, usual in public_cells(ends, question) if family == 4 else ():
                        count += 1
                        self.held_further((name, not is_out), far, near, walk, usual, lines)
        return count

    def held_further(self, asked, far, near, walk, usual, lines):
        """What comes of another address of a machine is told where it does not come of the usual one. `asked` tells
        whether that is of the near end."""
        number = walk.flow.service.protocol << 16 | walk.flow.service.detail
        further, other = (near, far) if asked[1] else (far, near)
        met = [each.verdict for each in lines if number in each.services
               and further.name in [member.name for member in (each.near if asked[1] else each.far)]
               and holds(each.far if asked[1] else each.near, other)]  # fmt: skip
        told = [(each.verdict, each.answered if each.verdict == "partly" else None) for each in (walk, usual)]
        is_told = walk.verdict != "blocked" and usual.verdict != "allowed" and told[0] != told[1]
        text = (asked, far.name, near.name, str(walk.flow.service), usual.verdict)
        self.assertEqual([walk.verdict] if is_told else [], met, text)
        self.further += is_told

    def held(self, asked, far, near, walk, lines, locked):
        number = walk.flow.service.protocol << 16 | walk.flow.service.detail
        text = f"{asked} {far.name} {near.name} {walk.flow.service}"

        def mine(found):
            return [each for each in found if number in each.services
                    and holds(each.far, far) and holds(each.near, near)]  # fmt: skip

        met = mine(lines)
        self.assertEqual([] if walk.verdict == "blocked" else [walk.verdict], [each.verdict for each in met], text)
        for line in met:
            if walk.verdict == "partly":
                self.assertEqual(walk.answered, line.ports, text)
            told = {(rule.gate, rule.direction, rule.filter, rule.rule) for rule in line.rules}
            for row in walk.rows:
                is_rule = (
                    row.action == "allow" and row.filter and row.rule and not row.tracked and row.gate != "listener"
                )
                if is_rule and walk.verdict == "allowed":
                    self.assertIn((row.gate, row.direction, row.filter, row.rule), told, text)
        behind = mine(locked)
        if walk.verdict in ("blocked", "one-way") and not walk.doubtful:
            ports = walk.flow.source_ports.lowest if walk.flow.service.has_ports else None
            stops = [row for row in walk.stops() if ports is None or ports in row.ports]
            self.assertEqual(1, len(behind), text)
            said = [(door.gate, door.direction, door.filter, door.rule) for door in behind[0].doors if door.filter]
            self.assertEqual(
                [(row.gate, row.direction, row.filter, row.rule) for row in stops if row.filter and row.gate != "listener"],
                said, text,
            )  # fmt: skip
            self.assertEqual(len(stops), len(behind[0].doors), text)
        elif walk.verdict in ("allowed", "partly"):
            self.assertEqual([], behind, text)

    def test_every_cell_of_random_networks(self):
        count = 0
        for seed in range(NETWORKS):
            topology = load(varied_network(seed))
            names = [next(iter(topology.instances)), "a1", "internet", *list(topology.groups)[:1]]
            with self.subTest(seed=seed):
                count += self.hold(topology, names)
        self.assertGreater(count, 1000 * NETWORKS)

    def test_every_cell_of_a_network_of_wider_shape(self):
        for seed in range(504, 504 + NETWORKS // 2):
            topology = load(wider_network(seed))
            with self.subTest(seed=seed):
                self.assertGreater(self.hold(topology, [next(iter(topology.instances)), "a1"]), 1000)
        self.assertGreater(self.further, 3)

    def test_every_cell_of_the_demo(self):
        with tempfile.TemporaryDirectory() as folder:
            write_demo(Path(folder))
            topology = load_network(str(Path(folder) / "network.yaml"))
        self.assertGreater(self.hold(topology, ["database", "gauges", "internet"]), 2000)


class ChainsHeldToReach(unittest.TestCase):
    """A chain of k connections is of whoever gets, by a login, to a machine that is k - 1 connections from there."""

    def who(self, members):
        names = {each.instance for each in members if each.low is None and not each.is_further}
        return names, AddressSet.union(member_addresses(each) for each in members if each.low is not None)

    def who_gets_to(self, ends, name, services, family):
        """Everybody who does by reach; (names, addresses), none where there is nobody to ask about."""
        with contextlib.suppress(UsageError):
            lines = reach(ends, ReachQuestion(ends.resolve(name), services, family=family)).lines
            return self.who(
                member for line in lines if line.verdict in (ALLOWED, PARTLY) and any(not n.is_further for n in line.near)
                for member in line.far
            )  # fmt: skip
        return set(), AddressSet()

    def by_steps(self, ends, target, services, logins, family):
        """Who is at the beginning of chains of one, two and three connections, of none before."""
        names, addresses = self.who_gets_to(ends, target, services, family)
        found, seen = [(names, addresses)], [{*names, target}, addresses]
        for _ in range(2):
            before, names, addresses = found[-1][0] - {target}, set(), AddressSet()
            for name in before:
                others, more = self.who_gets_to(ends, name, logins, family)
                names, addresses = names | others, addresses | more
            found.append((names - seen[0], addresses - seen[1]))
            seen = [seen[0] | names, seen[1] | addresses]
        return found

    def test_on_random_networks(self):
        """Also where rules tell addresses apart on the last connection that they do not on those before it."""
        met = 0
        for seed in range(2, 2 + 2 * NETWORKS):
            ends = Ends(Walker(load(random_network(seed))))
            for target in list(ends.topology.instances)[:3]:
                for service, login in (("tcp/8000-8010", "ssh"), ("any", "ssh"), ("udp/53", "any")):
                    services, logins = resolve_service(service, {}), resolve_service(login, {})
                    question = ReachQuestion(ends.resolve(target), services, family=4)
                    with contextlib.suppress(UsageError):
                        chains = stepping_stones(ends, question, logins, 3)
                        expected = self.by_steps(ends, target, services, logins, 4)
                        for steps in (2, 3):
                            found = self.who(m for chain in chains if chain.steps == steps for m in chain.sources)
                            self.assertEqual(expected[steps - 1], found, (seed, target, service, login, steps))
                            met += any(map(bool, found))
        self.assertGreater(met, 0)


class Lines(unittest.TestCase):
    def setUp(self):
        values = base()
        for number in range(3):
            values["instances"][f"desk-{number}"] = {
                "tags": {"role": "desk"}, "interfaces": [{"subnet": "a2", "addresses": [f"10.1.2.{50 + number}"]}]
            }  # fmt: skip
        values["groups"] = {"desks": {"where": {"role": "desk"}}}
        values["filters"]["guard"] = a_filter("instance", inbound=[
            {"action": "allow", "from": "desks", "service": "ssh"},
            {"action": "allow", "from": "desk-0", "service": "tcp/5432"}])  # fmt: skip
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
        self.values = values
        self.topology = load(values)
        self.ends = Ends(Walker(self.topology))

    def reach(self, service, **rest):
        services = resolve_service(service, self.topology.services)
        return reach(self.ends, ReachQuestion(self.ends.resolve("ann"), services, family=4, **rest))

    def test_who_gets_in_is_told_by_the_fewest_names(self):
        found = self.reach("ssh")
        self.assertEqual(1, len(found.lines))
        self.assertEqual(["desks"], [name.text for name in Namer(self.ends).names(found.lines[0].far)])
        self.assertEqual(3, found.found[0])

    def test_a_public_address_that_is_named_is_reached_on_what_the_machine_behind_it_listens_to(self):
        values = base()
        values["instances"]["ann"]["listens"] = ["ssh"]
        ends = Ends(Walker(load(values)))
        asked = ReachQuestion(ends.resolve("203.0.113.10"), resolve_service("tcp/1-100", {}), family=4)
        met = {(each.verdict, each.services) for each in reach(ends, asked).lines}
        self.assertEqual({("allowed", resolve_service("ssh", {}))}, met)

    def test_a_line_names_the_rules_that_let_it_in_with_their_lines(self):
        (rule,) = self.reach("tcp/5432").lines[0].rules
        self.assertEqual(("instance-in", "forward", "guard"), (rule.gate, rule.direction, rule.filter))
        self.assertIsNotNone(rule.place)

    def test_a_default_is_named_by_the_line_on_which_it_is_written_or_by_that_of_its_filter(self):
        def lines_met():
            """The text of the lines that are named for the default of ann's filter, by the walk and by reach."""
            text = json.dumps(self.values, indent=1).splitlines()
            walked = [row for row in helpers.walk(self.values, "cat", "ann", "tcp/5432").rows if row.filter == "guard"]
            ends = Ends(Walker(load(self.values)))
            asked = ReachQuestion(ends.resolve("ann"), resolve_service("tcp/5432", {}), family=4)
            let_in = [rule for line in reach(ends, asked).lines for rule in line.rules]
            places = [each.place for each in (*walked, *let_in) if each.filter == "guard" and each.rule == "otherwise"]
            return [text[place.line - 1].strip(" ,") for place in places]

        self.values["filters"]["guard"]["otherwise"] = "allow"
        self.assertEqual(set(lines_met()), {'"otherwise": "allow"'})
        self.assertGreater(len(lines_met()), 1)
        del self.values["filters"]["guard"]["otherwise"]
        self.assertEqual(set(lines_met()), {'"guard": {'})

    def test_that_of_some_only_the_first_packet_gets_through_is_told(self):
        for rules, is_told in (([("new", "accept")], True), ([("new", "accept"), ("established", "accept")], False)):
            self.values["instances"]["ann"]["host_filter"] = {"nftables": "ann.json"}
            ends = Ends(Walker(load(self.values, {"ann.json": listing("input", "drop", *rules)})))
            found = reach(ends, ReachQuestion(ends.resolve("ann"), resolve_service("ssh", {}), family=4))
            self.assertEqual("allowed", found.lines[0].verdict)
            self.assertEqual(is_told, any("only the first packet" in each for each in found.caveats))

    def test_what_is_excepted_is_not_looked_for(self):
        found = self.reach("ssh", excepted=(self.ends.resolve("desk-1"), self.ends.resolve("desk-2")))
        self.assertEqual(["desk-0"], [member.name for member in found.lines[0].far])

    def test_only_outside_leaves_instances_out(self):
        self.assertEqual((), self.reach("ssh", only="outside").lines)

    def test_a_chain_goes_by_way_of_whom_one_may_log_in_to(self):
        """Only desk-0 may reach the database; the other desks may log in to desk-0, and go on from there."""
        question = ReachQuestion(self.ends.resolve("ann"), resolve_service("tcp/5432", {}), family=4, only="recorded")
        chains = stepping_stones(self.ends, question, resolve_service("ssh", {}), 2)
        first = next(chain for chain in chains if any(member.name == "desk-1" for member in chain.sources))
        self.assertEqual(2, first.steps)
        self.assertEqual([("ssh", "desk-0"), ("postgresql", "ann")], [
            ({22: "ssh", 5432: "postgresql"}[hop.service.detail], hop.destination.name) for hop in first.hops])  # fmt: skip
        everybody = {member.name for chain in chains for member in chain.sources}
        self.assertNotIn("desk-0", everybody, "whoever gets there at once needs no chain")

    def test_a_chain_goes_by_what_each_machine_on_the_way_listens_to(self):
        """To ann gets cat alone, to cat dan alone, and to dan one may log in by rdp, not by ssh: of cat it is not known
        what listens there, so that nothing tells these two apart until dan is asked about."""
        values = base()
        for name, sender in (("ann", "cat"), ("cat", "dan"), ("dan", "bob")):
            values["filters"][f"{name}-guard"] = a_filter("instance", inbound=[{"action": "allow", "from": sender}])
            values["instances"][name]["interfaces"][0]["filters"] = [f"{name}-guard"]
        values["instances"]["dan"]["listens"] = ["rdp"]
        ends = Ends(Walker(load(values)))
        logins = resolve_service("ssh", {}) | resolve_service("rdp", {})
        question = ReachQuestion(ends.resolve("ann"), resolve_service("https", {}), family=4, only="recorded")
        (chain,) = (each for each in stepping_stones(ends, question, logins, 3) if each.steps == 3)
        self.assertEqual([("dan", 3389), ("cat", 22), ("ann", 443)],
                         [(hop.destination.name, hop.service.detail) for hop in chain.hops])  # fmt: skip

    def test_a_chain_ends_where_nobody_may_log_in(self):
        question = ReachQuestion(self.ends.resolve("ann"), resolve_service("tcp/5432", {}), family=4, only="recorded")
        self.assertEqual((), stepping_stones(self.ends, question, resolve_service("tcp/1", {}), 1))

    def test_whoever_is_looked_for_the_machines_on_the_way_are_any(self):
        """From outside one may log in to desk-0 alone, and only desk-0 may reach the database."""
        values = copy.deepcopy(self.values)
        values["instances"]["desk-0"]["interfaces"][0]["public"] = "203.0.113.50"
        ends = Ends(Walker(load(values)))
        question = ReachQuestion(ends.resolve("ann"), resolve_service("tcp/5432", {}), family=4, only="outside")
        chains = stepping_stones(ends, question, resolve_service("ssh", {}), 2)
        self.assertTrue(chains)
        self.assertEqual({"desk-0"}, {chain.hops[0].destination.name for chain in chains})
        self.assertTrue(all(member.outside for chain in chains for member in chain.sources))

    def test_one_door_is_one_change(self):
        lines = doors(self.ends, ReachQuestion(self.ends.resolve("ann"), resolve_service("tcp/5432", {}), family=4))
        mine = next(line for line in lines if any(member.name == "desk-1" for member in line.far))
        self.assertEqual([("instance-in", "guard", "otherwise")], [(d.gate, d.filter, d.rule) for d in mine.doors])

    def test_every_address_of_a_machine_is_reached_by_itself(self):
        self.values["instances"]["ann"]["interfaces"][0]["addresses"].append("10.1.1.12")
        self.values["filters"]["guard"]["inbound"] = [{"action": "allow", "to": "10.1.1.12", "service": "https"}]
        ends = Ends(Walker(load(self.values)))
        found = reach(ends, ReachQuestion(ends.resolve("ann"), resolve_service("any", {}), family=4, only="recorded"))
        self.assertEqual([(["10.1.1.12"], "tcp/443")], [([m.name for m in line.near], str(line.example[2]))
                                                        for line in found.lines])  # fmt: skip

    def test_who_gets_in_by_the_public_address_alone_is_told_so(self):
        """From the south no peering leads to ann, and by the internet somebody does get in."""
        self.values["route_tables"]["south-table"] = [{"to": "0.0.0.0/0", "via": "exit"}]
        self.values["filters"]["guard"]["inbound"] = [{"action": "allow", "service": "https"}]
        ends = Ends(Walker(load(self.values)))
        found = reach(ends, ReachQuestion(ends.resolve("ann"), resolve_service("any", {}), family=4, only="recorded"))
        told = {member.name: [m.name for m in line.near] for line in found.lines for member in line.far}
        self.assertEqual((["203.0.113.10"], ["ann"]), (told["dan"], told["bob"]))
        self.assertEqual(["203.0.113.10 (ann)"], [name.text for name in Namer(ends).names(
            next(line.near for line in found.lines if line.far[0].name == "dan"))])  # fmt: skip

    def test_a_door_is_one_that_traffic_from_the_senders_own_client_ports_meets(self):
        """Rule 1 stops client ports that bob alone uses, and rule 2 those of everybody else."""
        self.values["instances"]["bob"]["ephemeral_ports"] = "20000-20999"
        self.values["filters"]["guard"]["inbound"] = [
            {"order": 1, "action": "drop", "source_ports": "20000-20999"}, {"order": 2, "action": "drop", "from": "dan"},
            {"order": 3, "action": "allow", "source_ports": "20000-60999", "service": "ssh"}]  # fmt: skip
        ends = Ends(Walker(load(self.values)))
        lines = doors(ends, ReachQuestion(ends.resolve("ann"), resolve_service("ssh", {}), family=4, only="recorded"))
        said = {member.name: [door.rule for door in line.doors] for line in lines for member in line.far}
        self.assertEqual({"bob": ["1"], "dan": ["2"]}, said)
        question = ReachQuestion(ends.resolve("ann"), resolve_service("ssh", {}), family=4, only="recorded")
        told = {rule.rule for line in reach(ends, question).lines for rule in line.rules}
        self.assertEqual({"3"}, told)

    def test_two_crossings_that_are_not_listed_are_two_doors(self):
        """Global addresses of two networks meet by the internet, and cross its zone."""
        self.values["defaults"]["between_zones"] = "drop"
        self.values["networks"]["south"]["cidrs"].append("2001:db8:2::/48")
        self.values["gateways"]["south-door"] = {"kind": "internet", "network": "south"}
        self.values["route_tables"]["south-table"].append({"to": "::/0", "via": "south-door"})
        self.values["subnets"]["b1"]["cidr"] = ["10.2.1.0/24", "2001:db8:2:1::/64"]
        self.values["instances"]["dan"]["interfaces"][0]["addresses"].append("2001:db8:2:1::10")
        self.values["instances"]["ann"]["interfaces"][0]["filters"] = []
        ends = Ends(Walker(load(self.values)))
        question = ReachQuestion(ends.resolve("ann"), resolve_service("ssh", {}), family=6, only="recorded")
        (line,) = [each for each in doors(ends, question) if each.far[0].name == "dan"]
        self.assertEqual([("zone", "no crossing right>public is listed"), ("zone", "no crossing public>left is listed")],
                         [(door.gate, door.reason) for door in line.doors])  # fmt: skip

    def test_too_many_pairs_are_refused_with_what_to_ask_instead(self):
        few = mock.patch("kiboko.core.reachability.reach.MOST_CELLS", 3)
        with few, self.assertRaisesRegex(UsageError, "ask about less"):
            self.reach("ssh")
