"""Clause S35: rules of a kernel that cannot be judged, and what rests on them: by hand, and tables against walks."""

import json
import os
import random
import unittest
from datetime import UTC, datetime

from kiboko.batch.spanning import matrix_of
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.reachability.matrix import MatrixQuestion, axis_names
from kiboko.core.reachability.reach import ReachQuestion, reach
from kiboko.core.records.records import ProbeRecord
from kiboko.core.walk.walk import Walker
from tests.core import test_evaluator, test_gate_tables, test_matrix, test_sets, test_space
from tests.helpers import a_filter, base, load, walk

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "4"))
LIMIT = {"limit": {"rate": 10, "per": "second"}}
NOW = datetime(2026, 11, 20, 10, 0, tzinfo=UTC)


def listing(*chains):
    """What the kernel lists of chains, each a hook, a policy, and rules as expressions."""
    made = [{"table": {"family": "inet", "name": "t", "handle": 1}}]
    for number, (hook, policy, rules) in enumerate(chains):
        where = {"family": "inet", "table": "t"}
        made.append({"chain": {**where, "name": f"at-{hook}", "handle": number, "type": "filter", "hook": hook, "prio": 0,
                               "policy": policy}})  # fmt: skip
        made += [{"rule": {**where, "chain": f"at-{hook}", "handle": 10 * number + at, "expr": rule}}
                 for at, rule in enumerate(rules, 2)]  # fmt: skip
    return json.dumps({"nftables": made})


def port(side, number):
    return {"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": side}}, "right": number}}


def behind(*chains, replies=()):
    """ann asks cat, who has a kernel rule set; the edge of ann's subnet keeps no state and lets few replies in."""
    values = base()
    values["filters"] = {"edge": a_filter("subnet", stateful=False, outbound=[{"action": "allow"}], inbound=[*replies])}
    values["subnets"]["a1"]["filter"] = "edge"
    values["instances"]["cat"] |= {"host_filter": {"nftables": "cat.json"}, "listens": ["ssh"]}
    return load(values, {"cat.json": listing(*chains)})


IN_DOUBT = ("input", "drop", [[LIMIT, {"accept": None}]])
ONE_SURE = ("input", "drop", [[port("sport", 40000), {"accept": None}], [LIMIT, {"accept": None}]])


class WhatRestsOnThem(unittest.TestCase):
    def test_s35_a_request_that_may_be_stopped_is_not_told_to_arrive_where_its_reply_is(self):
        said = walk(behind(IN_DOUBT), "ann", "cat", "ssh")
        self.assertEqual((said.verdict, said.either, said.signal), ("unknown", ("blocked", "one-way"), "unknown"))
        self.assertEqual(said.decided_by.gate, "host-in")

    def test_s35_a_pair_has_one_verdict_by_the_walk_in_a_matrix_and_in_what_reaches_it(self):
        open_to, all_of = ([{"action": "allow", "service": f"tcp/{ports}"}] for ports in ("40000", "1-65535"))
        cases = {
            "nothing is sure": (IN_DOUBT, (), "unknown"),
            "one port surely arrives": (ONE_SURE, (), "one-way"),
            "one surely gets its answer": (ONE_SURE, open_to, "partly"),
            "one surely gets its answer, the others may": (ONE_SURE, all_of, "unknown"),
            "all of them may": (IN_DOUBT, all_of, "unknown"),
        }
        for title, (rules, replies, wanted) in cases.items():
            with self.subTest(title):
                topology = behind(rules, replies=replies)
                self.assertEqual(walk(topology, "ann", "cat", "ssh").verdict, wanted)
                ends = Ends(Walker(topology))
                services = [("ssh", resolve_service("ssh", {}))]
                cells = matrix_of(MatrixQuestion(ends, axis_names(ends, "ann,cat"), services, 4))
                self.assertEqual(cells.cell(0, 1, 0).state, wanted)
                asked = ReachQuestion(ends.resolve("cat"), services[0][1], family=4, only="recorded")
                told = {end.name: each.verdict for each in reach(ends, asked).lines for end in each.far}
                self.assertEqual(told["ann"], wanted)

    def test_s35_what_is_refused_behind_such_a_gate_may_be_met_by_silence(self):
        everything = [{"action": "allow"}]
        said = walk(behind(IN_DOUBT, replies=everything), "ann", "cat", "telnet")
        self.assertEqual((said.verdict, said.decided_by.gate, said.signal), ("blocked", "listener", "unknown"))

    def test_s35_silence_behind_a_gate_that_may_drop_is_silence(self):
        said = walk(behind(IN_DOUBT), "ann", "cat", "telnet")  # the reset is lost at the edge
        self.assertEqual((said.decided_by.gate, said.signal), ("listener", "silent"))

    def test_s35_a_packet_that_is_changed_may_meet_a_refusal_behind_that(self):
        change = [{"mangle": {"key": {"payload": {"protocol": "tcp", "field": "dport"}}, "value": 23}}]
        rules = ("input", "drop", [change, [port("dport", 23), {"reject": {"type": "tcp reset"}}]])
        said = walk(behind(rules, replies=[{"action": "allow"}]), "ann", "cat", "ssh")
        self.assertEqual((said.verdict, said.decided_by.possible), ("unknown", ("drop", "reject", "allow")))

    def test_s35_nothing_is_sure_behind_a_change_of_where_a_packet_goes(self):
        """A service that is published by another port than it listens to, and a sender whose traffic a proxy takes."""
        redirect = [port("dport", 23), {"redirect": {"port": 22}}]
        published = ("prerouting", "accept", [redirect])
        said = walk(behind(published, replies=[{"action": "allow"}]), "ann", "cat", "telnet")
        self.assertEqual(
            (said.verdict, said.either, said.decided_by.gate), ("unknown", ("blocked", "allowed"), "host-in")
        )
        values = base()
        values["filters"]["shut"] = a_filter("instance", inbound=[])
        values["instances"]["cat"]["interfaces"][0]["filters"] = ["shut"]
        values["instances"]["ann"]["host_filter"] = {"nftables": "ann.json"}
        taken = load(values, {"ann.json": listing(("output", "accept", [redirect]))})
        self.assertEqual(walk(taken, "ann", "cat", "telnet").verdict, "unknown")
        self.assertEqual(walk(taken, "ann", "cat", "ssh").verdict, "blocked")
        queued = load(values, {"ann.json": listing(("output", "accept", [[{"queue": {"num": 1}}]]))})
        self.assertEqual(walk(queued, "ann", "cat", "ssh").verdict, "blocked")

    def test_s35_a_change_of_a_field_that_the_packet_has_not_ends_its_rule(self):
        change = {"mangle": {"key": {"payload": {"protocol": "ip6", "field": "dscp"}}, "value": "cs1"}}
        said = walk(
            behind(("input", "accept", [[change, {"drop": None}]]), replies=[{"action": "allow"}]), "ann", "cat", "ssh"
        )
        self.assertEqual(said.verdict, "allowed")

    def test_an_answer_to_a_probe_of_which_the_reply_is_surely_stopped_is_a_leak(self):
        held = Comparison(Walker(behind(IN_DOUBT)))
        found = {outcome: held.probe(ProbeRecord(NOW, "ann", "cat", "10.1.2.10", "ssh", outcome, None))
                 for outcome in ("answered", "silent", "refused")}  # fmt: skip
        self.assertEqual({"answered": "leak", "silent": "agree", "refused": "agree"},
                         {outcome: each.status for outcome, each in found.items()})  # fmt: skip
        self.assertEqual(found["answered"].decider.direction, "reply")


class NamesOfInterfaces(unittest.TestCase):
    """S35: rules about a device, where the network file does not say how the machine's interfaces are called."""

    def verdict(self, device, name=None, operator="=="):
        rule = [{"match": {"op": operator, "left": {"meta": {"key": "iifname"}}, "right": device}}, {"accept": None}]
        values = base()
        values["instances"]["cat"] |= {"host_filter": {"nftables": "cat.json"}}
        values["instances"]["cat"]["interfaces"][0].pop("name", None)
        if name is not None:
            values["instances"]["cat"]["interfaces"][0]["name"] = name
        return walk(load(values, {"cat.json": listing(("input", "drop", [rule]))}), "ann", "cat", "ssh").verdict

    def test_it_is_not_known_whether_a_rule_about_another_device_is_about_it(self):
        self.assertEqual(self.verdict("ens5"), "unknown")
        self.assertEqual(self.verdict("ens5", operator="!="), "unknown")
        self.assertEqual(self.verdict({"set": ["ens5", "lo"]}), "unknown")

    def test_it_is_known_where_the_name_is_given_or_is_the_one_that_is_taken_without(self):
        self.assertEqual(self.verdict("ens5", name="ens5"), "allowed")
        self.assertEqual(self.verdict("ens5", name="ens6"), "blocked")
        self.assertEqual(self.verdict("eth0"), "allowed")
        self.assertEqual(self.verdict("eth*"), "allowed")

    def test_devices_that_a_machine_makes_for_itself_are_none_of_its_interfaces(self):
        self.assertEqual(self.verdict("lo"), "blocked")
        self.assertEqual(self.verdict("docker0", operator="!="), "allowed")


def drawn(chance):
    """A random rule set of which much cannot be judged."""

    def rule():
        matches = [port("dport", chance.choice([22, 80])), port("sport", 40000), LIMIT, LIMIT,
                   {"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": ["established", "related"]}},
                   {"match": {"op": ">", "left": {"payload": {"protocol": "ip", "field": "ttl"}}, "right": 3}}]  # fmt: skip
        verdicts = [{"accept": None}] * 3 + [{"drop": None}, {"reject": {"type": "icmpx", "expr": "port-unreachable"}}]
        verdicts.append(chance.choice([{"redirect": {"port": 22}}, {"queue": {"num": 1}}]))
        return [*chance.sample(matches, chance.randint(1, 2)), chance.choice(verdicts)]

    hooks = chance.sample(["input", "output", "input"], chance.randint(1, 2))
    return listing(*((hook, chance.choice(["accept", "accept", "drop"]), [rule() for _ in range(chance.randint(1, 3))])
                     for hook in dict.fromkeys(hooks)))  # fmt: skip


def network(seed):
    """A small network whose subnets keep no state and whose machines have such rule sets."""
    chance, values = random.Random(seed), base()
    values["filters"] = {}
    for name in values["subnets"]:
        ways = {way: [{"action": "allow", **chance.choice([{}, {"service": "tcp/22"}, {"service": "tcp/40000-50000"},
                                                           {"source_ports": "22"}, {"service": "udp"}])}
                      for _ in range(chance.randint(0, 2))] for way in ("inbound", "outbound")}  # fmt: skip
        if chance.random() < 0.6:
            values["filters"][f"edge-{name}"] = a_filter("subnet", stateful=False, **ways)
            values["subnets"][name]["filter"] = f"edge-{name}"
    files = {}
    for name, instance in values["instances"].items():
        instance["listens"] = chance.choice([["ssh", "http"], ["ssh"], ["http", "dns"]])
        if chance.random() < 0.7:
            files[f"{name}.json"] = drawn(chance)
            instance["host_filter"] = {"nftables": f"{name}.json"}
    return load(values, files)


class TablesAndWalks(unittest.TestCase):
    def test_random_networks_in_which_much_cannot_be_judged(self):
        for seed in range(NETWORKS):
            topology = network(seed)
            with self.subTest(seed=seed):
                test_gate_tables.HeldToTheWalk().hold(topology, seed, 400)
                test_space.HeldToTheWalk().hold(topology, seed, 200)
                test_evaluator.AgainstThePlainJudge().hold(topology, seed, 150)
                test_matrix.HeldToWalks().hold(topology, ",".join([*topology.instances, "internet"]), 4)
                test_sets.ByTables().compare(topology, "tcp/20-25", None)


if __name__ == "__main__":
    unittest.main()
