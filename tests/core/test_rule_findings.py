"""Findings on the rules of one filter, held to every packet that its rules tell apart, one by one: a second judge of
peers, services, ports and order, written for this, on random filters."""

import ipaddress
import itertools
import random
import unittest
from datetime import date
from unittest import mock

from kiboko.core.audit.audit import audit
from kiboko.core.audit.parts import MOST_PARTS
from kiboko.core.queries.ends import Ends
from kiboko.core.walk.walk import Walker
from tests.core.test_audit import findings
from tests.helpers import a_filter, base, load

TODAY = date(2026, 1, 1)
SEEDS = range(12)
TCP, UDP, GRE = 6, 17, 47
HIGHEST = {4: (1 << 32) - 1, 6: (1 << 128) - 1}
CLIENTS, OFFICE_CLIENTS, ANN_CLIENTS = (32768, 60999), (49152, 65535), (40000, 45000)
PEERS = {
    "10.1.1.0/24": ["10.1.1.0-10.1.1.255"], "10.1.0.0/16": ["10.1.0.0-10.1.255.255"], "10.1.1.5": ["10.1.1.5-10.1.1.5"],
    "10.1.1.4-10.1.1.90": ["10.1.1.4-10.1.1.90"], "192.0.2.0/24": ["192.0.2.0-192.0.2.255"],
    "192.0.2.0/25": ["192.0.2.0-192.0.2.127"], "0.0.0.0/0": ["0.0.0.0-255.255.255.255"],
    "::/0": ["::-ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff"], "nobody": [],
    "a": ["10.1.1.0-10.1.1.255", "2001:db8:1:1::-2001:db8:1:1:ffff:ffff:ffff:ffff"], "b": ["10.1.2.0-10.1.2.255"],
    "ann": ["10.1.1.5-10.1.1.5", "2001:db8:1:1::5-2001:db8:1:1::5"],
    "office": ["192.0.2.0-192.0.2.255", "2001:db8:99::-2001:db8:99:ffff:ffff:ffff:ffff:ffff"],
    "crew": ["10.1.1.5-10.1.1.5", "2001:db8:1:1::5-2001:db8:1:1::5", "10.1.2.9-10.1.2.9"],
}  # fmt: skip
"""What a rule may name, and by hand the addresses that it stands for."""
NETWORK = ["10.1.0.0-10.1.255.255", "2001:db8:1::-2001:db8:1:ffff:ffff:ffff:ffff:ffff"]
NOBODY = ["0.0.0.0-0.0.0.0", "127.0.0.0-127.255.255.255", "169.254.0.0-169.254.255.255", "224.0.0.0-239.255.255.255",
          "255.255.255.255-255.255.255.255", "::-::1", "fe80::-febf:ffff:ffff:ffff:ffff:ffff:ffff:ffff",
          "ff00::-ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff"]  # fmt: skip
SERVICES = {
    "ssh": (TCP, 22, 22), "https": (TCP, 443, 443), "tcp/80-443": (TCP, 80, 443), "tcp": (TCP, 0, 65535),
    "udp/53": (UDP, 53, 53), "udp": (UDP, 0, 65535), "tcp/32768-60999": (TCP, *CLIENTS), "proto/47": (GRE, 0, 65535),
    "tcp/49152-65535": (TCP, *OFFICE_CLIENTS), "tcp/40000-45000": (TCP, *ANN_CLIENTS),
    "tcp/1024-65535": (TCP, 1024, 65535), "udp/32768-60999": (UDP, *CLIENTS), "tcp/50000": (TCP, 50000, 50000),
}  # fmt: skip


def spans(texts, family):
    """The ranges of one family, as pairs of numbers."""
    ends = ([ipaddress.ip_address(each) for each in text.split("-")] for text in texts)
    return [(int(low), int(high)) for low, high in ends if low.version == family]


def ports(text):
    low, _, high = text.partition("-")
    return int(low), int(high or low)


def holds(ranges, value):
    return any(low <= value <= high for low, high in ranges)


def first_of_each(ranges, highest):
    """The lowest value of each piece of a line that some ranges cut."""
    return sorted({0, *(edge for low, high in ranges for edge in (low, high + 1) if edge <= highest)})


class PlainRule:
    """A rule in one address family."""

    def __init__(self, values, family):
        def peer(key):
            named = values.get(key)
            if named is None:
                return [(0, HIGHEST[family])]
            return [span for each in (named if isinstance(named, list) else [named])
                    for span in spans(PEERS[each], family)]  # fmt: skip

        self.values, self.sources, self.destinations = values, peer("from"), peer("to")
        self.services = [SERVICES[values["service"]]] if "service" in values else None
        self.source_ports = [ports(values["source_ports"])] if "source_ports" in values else None

    def matches(self, packet):
        source, destination, protocol, port, source_port = packet
        return (
            self.values.get("enabled", True) and holds(self.sources, source) and holds(self.destinations, destination)
            and (self.services is None or any(protocol == named and low <= port <= high
                                              for named, low, high in self.services))
            and (self.source_ports is None or (protocol != GRE and holds(self.source_ports, source_port)))
        )  # fmt: skip


class Plain:
    """The rules of a filter in one direction and one address family, and packets of every kind that they tell apart."""

    def __init__(self, rules, family):
        self.rules, self.family = [PlainRule(each, family) for each in rules], family

    def matching(self, packet):
        return [number for number, rule in enumerate(self.rules) if rule.matches(packet)]

    def ends(self, side, more=()):
        return first_of_each([*(span for rule in self.rules for span in getattr(rule, side)), *more],
                             HIGHEST[self.family])  # fmt: skip

    def ports(self, protocol, more=()):
        named = [each[1:] for rule in self.rules for each in rule.services or () if each[0] == protocol]
        return first_of_each([*named, *more], 65535)

    def source_ports(self, more=()):
        return first_of_each([*(span for rule in self.rules for span in rule.source_ports or ()), *more], 65535)

    def packets(self):
        services = [(protocol, port) for protocol in (TCP, UDP, GRE) for port in self.ports(protocol)]
        for source, destination, service, port in itertools.product(
            self.ends("sources"), self.ends("destinations"), services, self.source_ports()
        ):
            yield source, destination, *service, port


def random_rule(chance, **more):
    rule = {"action": chance.choice(["allow", "allow", "drop", "reject"]), **more}
    for key, share in (("from", 0.45), ("to", 0.3)):
        if chance.random() < share:
            rule[key] = chance.choice(list(PEERS)) if chance.random() < 0.8 else chance.sample(list(PEERS), 2)
    if chance.random() < 0.7:
        rule["service"] = chance.choice(list(SERVICES))
    if chance.random() < 0.15:
        rule["source_ports"] = chance.choice(["32768-45000", "22", "443", "80-443", "1-1023", "32768-60999"])
    if chance.random() < 0.06:
        rule["enabled"] = False
    return rule


def random_filters(seed):
    """A network of two subnets, with one filter of each kind."""
    chance = random.Random(seed)

    def rules(**more):
        return [random_rule(chance, **more) for _ in range(chance.randint(1, 6))]

    crossing = [rule | ({"stateful": chance.random() < 0.5} if chance.random() < 0.4 else {}) for rule in rules()]
    edge = {"layer": "subnet", "decide": "first", "stateful": False, "inbound": rules(), "outbound": rules(),
            "otherwise": chance.choice(["drop", "drop", "allow", "reject"])}  # fmt: skip
    if chance.random() < 0.5:
        edge["outbound"].append({"action": "allow", "service": chance.choice(["tcp/32768-60999", "tcp/1024-65535"])})
    values = {
        "kiboko": 1, "networks": {"north": {"cidrs": ["10.1.0.0/16", "2001:db8:1::/48"]}},
        "outside": {"internet": {"addresses": ["0.0.0.0/0", "::/0"], "zone": "x"},
                    "office": {"addresses": ["192.0.2.0/24", "2001:db8:99::/48"]}},
        "zones": {"x": {}, "y": {}}, "crossings": [{"from": "x", "to": "y", "filter": "crossing"}],
        "gateways": {"door": {"kind": "internet", "network": "north"}},
        "route_tables": {"t": [{"to": "0.0.0.0/0", "via": "door"}, {"to": "::/0", "via": "door"}]},
        "subnets": {"a": {"network": "north", "cidr": ["10.1.1.0/24", "2001:db8:1:1::/64"], "route_table": "t",
                          "zone": "y", "filter": "edge"},
                    "b": {"network": "north", "cidr": "10.1.2.0/24", "route_table": "t"}},
        "groups": {"crew": {"members": ["ann", "bob"]}, "nobody": {"where": {"role": "ghost"}}},
        "instances": {
            "ann": {"interfaces": [{"subnet": "a", "addresses": ["10.1.1.5", "2001:db8:1:1::5"], "filters": ["one"]}]},
            "bob": {"interfaces": [{"subnet": "b", "addresses": ["10.1.2.9"], "filters": ["loose"]}]},
        },
        "filters": {
            "edge": edge,
            "one": {"layer": "instance", "decide": "first", "stateful": True, "inbound": rules(),
                    "otherwise": chance.choice(["drop", "allow", "reject"])},
            "loose": {"layer": "instance", "decide": "any", "stateful": True, "inbound": rules(action="allow")},
            "crossing": {"layer": "zone", "decide": "first", "stateful": chance.random() < 0.5, "rules": crossing,
                         "otherwise": chance.choice(["drop", "allow"])},
        },
    }  # fmt: skip
    if chance.random() < 0.4:
        values["subnets"]["b"]["filter"] = "edge"
    if chance.random() < 0.3:
        values["outside"]["office"]["ephemeral_ports"] = "49152-65535"
    if chance.random() < 0.3:
        values["instances"]["ann"]["ephemeral_ports"] = "40000-45000"
    return values


class HeldToEveryPacket(unittest.TestCase):
    def setUp(self):
        self.met = set()

    def test_rules_that_no_packet_gets_to_and_those_that_change_nothing(self):
        for seed in SEEDS:
            values = random_filters(seed)
            found = audit(Ends(Walker(load(values))), TODAY).findings
            for name, way in (("edge", "inbound"), ("edge", "outbound"), ("one", "inbound"), ("loose", "inbound"),
                              ("crossing", "rules")):  # fmt: skip
                mine = [each for each in found if each.at.startswith(f"{name}/{way}/")]
                with self.subTest(seed=seed, filter=name, way=way):
                    self.hold(values["filters"][name], f"{name}/{way}/", way, mine)
        self.assertLessEqual({"unreachable-rule", "redundant-rule", "contradicted-rule"}, self.met)

    def hold(self, chosen, prefix, way, found):
        rules = chosen[way]
        judges = [Plain(rules, family) for family in (4, 6)]
        matching = [judge.matching(packet) for judge in judges for packet in judge.packets()]
        at = {kind: {int(each.at.removeprefix(prefix)) - 1 for each in found if each.id == kind}
              for kind in ("unreachable-rule", "redundant-rule")}  # fmt: skip
        self.met |= {each.id for each in found}
        out = {int(each.at.removeprefix(prefix)) - 1 for each in found if each.fix.startswith("take it out")}
        if chosen["decide"] == "any":
            needed = {here[0] for each in matching if len(here := [n for n in each if n not in out]) == 1}
            self.assertEqual({n for each in matching for n in each} - out, needed)
        else:
            reached = {each[0] for each in matching if each}
            self.assertEqual({n for each in matching for n in each} - reached, at["unreachable-rule"])
            self.assertFalse(at["redundant-rule"] & at["unreachable-rule"])

        def effect(numbers):
            if not numbers or chosen["decide"] == "any":
                return bool(numbers) if chosen["decide"] == "any" else (chosen["otherwise"], chosen["stateful"])
            return rules[numbers[0]]["action"], rules[numbers[0]].get("stateful", chosen["stateful"])

        for each in matching:  # all that is to be taken out, taken out at once
            self.assertEqual(effect(each), effect([number for number in each if number not in out]))
        for each in (each for each in found if each.id == "contradicted-rule"):
            number = int(each.at.removeprefix(prefix)) - 1
            for other in (int(name.removeprefix(prefix)) - 1 for name, _ in each.others):
                self.assertTrue(any(number in here and here[0] == other for here in matching))

    def test_replies_of_which_none_or_some_are_let_back(self):
        kinds = set()
        for seed in SEEDS:
            values = random_filters(seed)
            found = audit(Ends(Walker(load(values))), TODAY, kinds=("no-way-back", "partial-way-back")).findings
            told = sorted((each.id, each.at) for each in found)
            with self.subTest(seed=seed):
                expected = [each for way in ("inbound", "outbound") for each in Replies(values, way).expected()]
                self.assertEqual(sorted(expected), told)
            kinds |= {kind for kind, _ in told}
        self.assertEqual({"no-way-back", "partial-way-back"}, kinds)


class Replies:
    """What becomes of the replies to what each rule of one direction of `edge` lets pass."""

    def __init__(self, values, way):
        self.values, self.way, self.filter = values, way, values["filters"]["edge"]
        self.back = {"inbound": "outbound", "outbound": "inbound"}[way]
        self.carriers = [name for name, each in values["subnets"].items() if each.get("filter") == "edge"]

    def expected(self):
        """The finding of each rule and protocol, with its place."""
        worst = {}
        for family in (4, 6):
            self.asked, self.answering = (Plain(self.filter[way], family) for way in (self.way, self.back))
            self.blocks = {name: spans(PEERS[name], family) for name in self.values["subnets"]}
            self.nobody = spans(NOBODY, family)
            self.network = spans(NETWORK, family)
            for (rule, protocol), fates in self.of_family(family).items():
                here = 0 if any(not any(each) for each in fates) else 1 if any(not all(each) for each in fates) else 2
                worst[rule, protocol] = min(worst.get((rule, protocol), 2), here)
        for (rule, _), kind in worst.items():
            if kind < 2:
                yield ("no-way-back", "partial-way-back")[kind], f"edge/{self.way}/{rule + 1}"

    def of_family(self, family):
        """For each rule and protocol the fates of replies to client ports, for each pair of ends and port."""
        fates = {}
        edges = [*(span for each in self.blocks.values() for span in each), *self.nobody, *self.network,
                 *spans([*PEERS["office"], *PEERS["ann"]], family)]  # fmt: skip
        back = self.answering
        sources = self.asked.ends("sources", [*edges, *(s for rule in back.rules for s in rule.destinations)])
        targets = self.asked.ends("destinations", [*edges, *(s for rule in back.rules for s in rule.sources)])
        self.targets = targets
        replied = [each[1:] for rule in back.rules for each in rule.services or ()]
        clients = self.asked.source_ports([*replied, CLIENTS, OFFICE_CLIENTS, ANN_CLIENTS])
        asked = {protocol: self.asked.ports(protocol, [(1, 1023), CLIENTS, *(s for rule in back.rules
                                                                             for s in rule.source_ports or ())])
                 for protocol in (TCP, UDP)}  # fmt: skip
        for source, target in itertools.product(sources, targets):
            if not self.meet(source, target):
                continue
            low, high = self.clients(source, family)
            mine = [port for port in clients if low <= port <= high]
            for protocol, port in [*((TCP, port) for port in asked[TCP]), *((UDP, port) for port in asked[UDP])]:
                by_rule = {}
                for client in mine:
                    rule = self.deciding(source, target, protocol, port, client)
                    if rule is not None and self.serves(rule, protocol, port):
                        fate = self.comes_back(rule, source, target, protocol, port, client)
                        by_rule.setdefault(rule, []).append(fate)
                for rule, each in by_rule.items():
                    fates.setdefault((rule, protocol), []).append(each)
        return fates

    def meet(self, source, target):
        """Whether two ends are somebody, and meet the filter between them."""
        own, other = (target, source) if self.way == "inbound" else (source, target)
        at = [name for name in self.carriers if holds(self.blocks[name], own)]
        if not at or holds(self.blocks[at[0]], other) or holds(self.nobody, other):
            return False
        return not holds(self.network, other) or any(holds(each, other) for each in self.blocks.values())

    def clients(self, source, family):
        if "ephemeral_ports" in self.values["instances"]["ann"] and holds(spans(PEERS["ann"], family), source):
            return ANN_CLIENTS
        if "ephemeral_ports" in self.values["outside"]["office"] and holds(spans(PEERS["office"], family), source):
            return OFFICE_CLIENTS
        return CLIENTS

    def deciding(self, source, target, protocol, port, client):
        """The rule that lets a request pass."""
        met = self.asked.matching((source, target, protocol, port, client))
        return met[0] if met and self.filter[self.way][met[0]]["action"] == "allow" else None

    def serves(self, rule, protocol, port):
        """Whether a rule lets requests to a port: neither one that is there for replies, nor to a client's own port."""
        named = self.asked.rules[rule].services
        if named is None:
            return protocol == TCP and 1 <= port <= 1023
        own = sum(min(high, CLIENTS[1]) - max(low, CLIENTS[0]) + 1 for each, low, high in named
                  if each == protocol and high >= CLIENTS[0] and low <= CLIENTS[1])  # fmt: skip
        return own <= 1000 and not CLIENTS[0] <= port <= CLIENTS[1]

    def comes_back(self, rule, source, target, protocol, port, client):
        """Whether a reply passes; where requests go out to whom nobody has named, that of anybody they go to."""
        if self.passes(source, target, protocol, port, client):
            return True
        if self.way == "inbound" or "to" in self.filter[self.way][rule]:
            return False
        return any(
            self.meet(source, other) and self.deciding(source, other, protocol, port, client) == rule
            and self.passes(source, other, protocol, port, client) for other in self.targets
        )  # fmt: skip

    def passes(self, source, target, protocol, port, client):
        met = self.answering.matching((target, source, protocol, client, port))
        action = self.filter[self.back][met[0]]["action"] if met else self.filter["otherwise"]
        return action == "allow"


class OfReplies(unittest.TestCase):
    def edge(self, outbound, inbound=({"order": 10, "action": "allow", "service": "https"},)):
        values = base()
        values["filters"]["edge"] = a_filter("subnet", decide="first", stateful=False, inbound=list(inbound),
                                             outbound=outbound)  # fmt: skip
        values["subnets"]["a1"]["filter"] = "edge"
        return [each for each in findings(values, "no-way-back", "partial-way-back") if each.at.startswith("edge/in")]

    def test_no_reply_some_replies_and_all_replies(self):
        every = {"order": 10, "action": "allow", "service": "tcp/32768-60999"}
        some = {"order": 10, "action": "allow", "service": "tcp/49152-65535"}
        other = {"order": 10, "action": "allow", "service": "udp/32768-60999"}
        for rule, kinds in ((every, []), (some, ["partial-way-back"]), (other, ["no-way-back"])):
            self.assertEqual(kinds, [each.id for each in self.edge([rule])], rule)

    def test_who_alone_gets_replies_is_set_apart(self):
        rules = [{"order": 10, "action": "allow", "service": "tcp/49152-65535"},
                 {"order": 20, "action": "allow", "to": "10.2.0.0/16"}]  # fmt: skip
        (found,) = self.edge(rules)
        self.assertIn("back to all but 10.2.0.0/16 to client ports 49152-60999 only", found.proof)

    def test_whose_requests_are_stopped_too_and_one_machine_that_is_kept_in_are_not_all_others(self):
        replies = {"order": 90, "action": "allow", "service": "tcp/32768-60999"}
        inbound = [{"order": 5, "action": "drop", "from": "192.0.2.0/24"},
                   {"order": 10, "action": "allow", "service": "https"}]  # fmt: skip
        outbound = [{"order": 10, "action": "drop", "to": "192.0.2.0/24"}, replies]
        self.assertEqual([], self.edge(outbound, inbound))
        (found,) = self.edge([{"order": 20, "action": "drop", "from": "10.1.1.9"}, replies], inbound)
        self.assertIn(
            "lets no tcp reply back from 10.1.1.9 to client ports 32768-60999; stopped by rule 20", found.proof
        )
        self.assertEqual("allow tcp/32768-60999 in edge/outbound, in front of 20, or do not let their requests in",
                         found.fix)  # fmt: skip

    def test_a_rule_for_the_replies_of_one_port_lets_none_of_another_back(self):
        inbound = [{"order": 10, "action": "allow", "service": ["https", "ssh"]}]
        (found,) = self.edge([{"order": 10, "action": "allow", "source_ports": "443"}], inbound)
        self.assertIn("lets no tcp reply back from port 22 to client ports 32768-60999", found.proof)

    def test_with_whom_one_talks_the_rules_for_replies_may_say_alone(self):
        known = [{"order": 10, "action": "allow", "from": ["10.2.0.0/16", "2001:db8:9::/48"]}]
        values = base()
        values["subnets"]["a1"]["filter"] = "edge"
        for to, kinds in (({}, []), ({"to": ["10.2.0.0/16", "192.0.2.0/24"]}, ["no-way-back"])):
            out = [{"order": 10, "action": "allow", "service": "https", **to}]
            values["filters"]["edge"] = a_filter("subnet", stateful=False, inbound=known, outbound=out)
            met = [
                each for each in findings(values, "no-way-back", "partial-way-back") if each.at == "edge/outbound/10"
            ]
            self.assertEqual(kinds, [each.id for each in met])
        self.assertIn("edge/inbound lets no tcp reply back from 192.0.2.0/24", met[0].proof)

    def test_a_family_that_the_rules_for_replies_forget_is_told_of(self):
        values = base()
        values["subnets"]["a1"] |= {"filter": "edge", "cidr": ["10.1.1.0/24", "2001:db8:1:1::/64"]}
        values["filters"]["edge"] = a_filter(
            "subnet", stateful=False, inbound=[{"action": "allow", "from": "0.0.0.0/0"}],
            outbound=[{"order": 10, "action": "allow", "service": "https"}],
        )  # fmt: skip
        (found,) = [each for each in findings(values, "no-way-back") if each.at == "edge/outbound/10"]
        self.assertIn("edge/inbound lets no tcp reply back by IPv6 to client ports", found.proof)


class TooMuch(unittest.TestCase):
    def test_of_rules_that_fall_apart_into_very_many_pieces_nothing_is_said(self):
        kinds = "no-way-back", "partial-way-back", "outside-holds-own", "contradicted-rule"
        met = []
        for most in (MOST_PARTS, 0):
            with mock.patch("kiboko.core.audit.parts.MOST_PARTS", most):
                met.append(sum(len(findings(random_filters(seed), *kinds)) for seed in range(4)))
        self.assertGreater(met[0], met[1])


class AtTheEdgeOfASite(unittest.TestCase):
    def test_replies_go_to_public_addresses_alone_where_there_is_no_tunnel(self):
        """Ann (203.0.113.10) and cat (203.0.113.20) are seen there, and nobody's private address."""
        values = base()
        values["outside"]["depot"] |= {"filter": "uplink", "addresses": ["198.51.100.16/28"]}
        values["gateways"] = {name: each for name, each in values["gateways"].items() if each["kind"] != "tunnel"}
        for to, said in (("203.0.113.0/24", None), ("203.0.113.10", " to all but 203.0.113.10 to client ports")):
            values["filters"]["uplink"] = a_filter(
                "subnet", stateful=False, inbound=[{"action": "allow", "service": "https"}],
                outbound=[{"action": "allow", "to": to}],
            )  # fmt: skip
            told = [each.proof for each in findings(values, "no-way-back") if each.at.startswith("uplink/inbound")]
            self.assertEqual([said is not None], [bool(told)])
            self.assertTrue(said is None or said in told[0], told)


if __name__ == "__main__":
    unittest.main()
