"""Filters against a second judge that takes one packet with one port at a time and knows no sets.

The naive judge follows the text of S11 to S14, S17, S18, S20 and S21; it shares no code with the filters.
"""

import ipaddress
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.helpers import base, walk

ADDRESSES = {"ann": "10.1.1.10", "bob": "10.1.1.11", "cat": "10.1.2.10", "dan": "10.2.1.10"}
PORTS = range(40000, 40006)

peers = st.sampled_from([None, "ann", "bob", "cat", "dan", "10.1.0.0/16", "10.1.1.0/24", ["bob", "dan"], "pair"])
services = st.sampled_from(
    [None, "tcp/22", "tcp/20-30", "udp/22", "tcp", "icmp", "tcp/40000-40002", "tcp/40003", ["tcp/23", "udp"]]
)
source_ports = st.sampled_from([None, None, "40000-40001", "40004", "22"])
rules = st.lists(
    st.fixed_dictionaries(
        {
            "action": st.sampled_from(["allow", "allow", "drop", "reject"]),
            "enabled": st.sampled_from([True, True, True, False]),
        },
        optional={"from": peers, "to": peers, "service": services, "source_ports": source_ports},
    ).map(lambda rule: {key: value for key, value in rule.items() if value is not None}),
    max_size=4,
)


def filters(decide):
    directions = st.fixed_dictionaries({}, optional={"inbound": rules, "outbound": rules})
    return st.tuples(directions, st.booleans(), st.sampled_from(["drop", "reject"])).map(
        lambda drawn: {"layer": "instance", "decide": decide, "stateful": drawn[1], "otherwise": drawn[2],
                       **{way: [_allowing(rule) if decide == "any" else rule for rule in listed]
                          for way, listed in drawn[0].items()}}
    )  # fmt: skip


def _allowing(rule):
    return {**rule, "action": "allow"}


def in_peer(address, peer):
    if peer is None:
        return True
    if isinstance(peer, list):
        return any(in_peer(address, each) for each in peer)
    if peer == "pair":
        return address in (ADDRESSES["ann"], ADDRESSES["dan"])
    if peer in ADDRESSES:
        return address == ADDRESSES[peer]
    return ipaddress.ip_address(address) in ipaddress.ip_network(peer)


def in_service(packet, service):
    if service is None:
        return True
    if isinstance(service, list):
        return any(in_service(packet, each) for each in service)
    protocol, _, ports = service.partition("/")
    if packet["protocol"] != protocol:
        return False
    low, _, high = ports.partition("-")
    return not ports or int(low) <= packet["to_port"] <= int(high or low)


def matches(rule, packet):
    ports = rule.get("source_ports")
    if ports is not None:
        low, _, high = ports.partition("-")
        if not int(low) <= packet["from_port"] <= int(high or low):
            return False
    return in_peer(packet["from"], rule.get("from")) and in_peer(packet["to"], rule.get("to")) and in_service(packet, rule.get("service"))  # fmt: skip


def ask_one(chosen, way, packet):
    """One `first` filter: the action."""
    if way not in chosen:
        return "allow"
    for rule in chosen[way]:
        if rule["enabled"] and matches(rule, packet):
            return rule["action"]
    return chosen["otherwise"]


def ask_set(members, way, packet):
    """One `any` set: whether it allows, and whether it tracks."""
    naming = [member for member in members if way in member]
    if not naming:
        return True, any(member["stateful"] for member in members)
    allowing = [m for m in naming for rule in m[way] if rule["enabled"] and matches(rule, packet)]
    if allowing:
        return True, any(member["stateful"] for member in allowing)
    return False, any(member["stateful"] for member in naming)


def naive(attached, source, destination, protocol, port, client_port):
    """`allowed`, `one-way` or `blocked` for one client port between two machines of one subnet."""
    request = {"from": ADDRESSES[source], "to": ADDRESSES[destination], "protocol": protocol,
               "from_port": client_port, "to_port": port}  # fmt: skip
    reply = {
        "from": request["to"],
        "to": request["from"],
        "protocol": protocol,
        "from_port": port,
        "to_port": client_port,
    }
    delivered = answered = True
    for machine, way, back in ((source, "outbound", "inbound"), (destination, "inbound", "outbound")):
        chosen = attached.get(machine, [])
        for each in (f for f in chosen if f["decide"] == "first"):
            delivered &= ask_one(each, way, request) == "allow"
            answered &= each["stateful"] or ask_one(each, back, reply) == "allow"
        together = [f for f in chosen if f["decide"] == "any"]
        if together:
            allowed, tracked = ask_set(together, way, request)
            delivered &= allowed
            answered &= tracked or ask_set(together, back, reply)[0]
    return "blocked" if not delivered else "allowed" if answered else "one-way"


attached_filters = st.lists(st.one_of(filters("first"), filters("any")), max_size=3)


class NaiveJudge(unittest.TestCase):
    @settings(max_examples=150)
    @given(attached_filters, attached_filters, st.sampled_from([("ann", "bob"), ("bob", "ann")]),
           st.sampled_from([("tcp", 22), ("tcp", 25), ("udp", 22)]))  # fmt: skip
    def test_every_port_of_every_random_filter_is_judged_as_the_naive_judge_does(self, on_ann, on_bob, ends, service):
        values = base()
        values["groups"]["pair"] = {"members": ["ann", "dan"]}
        attached = {"ann": on_ann, "bob": on_bob}
        for machine, chosen in attached.items():
            names = [f"{machine}-{index}" for index in range(len(chosen))]
            values["filters"].update(zip(names, chosen, strict=True))
            values["instances"][machine]["interfaces"][0]["filters"] = names
        values["defaults"]["ephemeral_ports"] = f"{PORTS[0]}-{PORTS[-1]}"
        found = walk(values, *ends, f"{service[0]}/{service[1]}", family=4)
        for port in PORTS:
            said = "allowed" if port in found.answered else "one-way" if port in found.delivered else "blocked"
            self.assertEqual(said, naive(attached, *ends, *service, port), f"port {port}")


if __name__ == "__main__":
    unittest.main()
