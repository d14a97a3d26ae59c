"""Random networks that use every feature of the network file, from a seed: values as `tests.helpers.load` takes them."""

import copy
import ipaddress
import json
import random

ACTIONS = ["allow", "allow", "allow", "drop", "reject"]
SERVICES = ["any", "ssh", "tcp/80", "tcp/8000-8010", "udp/53", "udp", "tcp", "ping", "icmp", "icmp6", ["ssh", "udp/53"],
            "tcp/32768-60999", "udp/32768-60999", "tcp/40000-60999", "icmp/echo-reply", "icmp6/echo-reply", "icmp/3/3", "icmp6/1/4"]  # fmt: skip


def random_network(seed):
    """The values of one random network."""
    return _Draw(random.Random(seed)).network()


def varied_network(seed):
    """The values of one random network; of three in five seeds one with public blocks, with shared gateways, or with
    rules that hold under conditions only, for all but somebody, or for what follows openings alone."""
    vary = {1: with_public_blocks, 3: with_shared_gateways, 4: with_odd_rules}.get(seed % 5)
    return vary(random_network(seed), random.Random(seed)) if vary is not None else random_network(seed)


def by_an_appliance(values, chance):
    """A random network with an appliance in a subnet and a zone of its own, by which much of what others send goes. The
    filters `its-edge` and `its-crossing` are asked there, of packets of which neither end is."""
    for layer, name in (("subnet", "its-edge"), ("zone", "its-crossing")):
        alike = [each for each in values["filters"].values() if each["layer"] == layer]
        if alike:
            values["filters"][name] = copy.deepcopy(chance.choice(alike))
    tables = values["route_tables"]
    ways_out = [table for table in tables.values() if any(entry["via"] == "door" for entry in table)]
    tables["halfway-table"] = [entry for table in ways_out[:1] for entry in table if isinstance(entry["via"], str)]
    values["subnets"]["halfway"] = {"network": "north", "cidr": ["10.1.9.0/24"], "zone": "middle",
                                    "route_table": "halfway-table"}  # fmt: skip
    if "its-edge" in values["filters"]:
        values["subnets"]["halfway"]["filter"] = "its-edge"
    values["zones"]["middle"] = {}
    if "its-crossing" in values["filters"]:
        values["crossings"] += [{"from": "middle", "to": zone, "filter": "its-crossing"} for zone in values["zones"]]
    values["instances"]["mid"] = {
        "forwards": True, "interfaces": [{"name": "eth0", "subnet": "halfway", "addresses": ["10.1.9.9"]}]
    }  # fmt: skip
    for name, table in tables.items():
        destinations = {entry["to"] for entry in table}
        if name != "halfway-table" and "10.2.0.0/16" in destinations:  # of the north
            table += [{"to": to, "via": {"instance": "mid"}} for to in ("10.1.2.0/24", "10.2.1.0/24")
                      if to not in destinations]  # fmt: skip
    return values


def in_more_zones(values, chance):
    """A random network with further subnets of the same routes in zones of their own, and crossings between them: most
    of their ends differ in nothing but the zone."""
    zones = [f"z{number}" for number in range(4)]
    values["zones"] |= {zone: {} for zone in zones}
    instances = list(values["instances"].values())
    for number, (name, subnet) in enumerate(list(values["subnets"].items())):
        for zone in (*zones, chance.choice(["public", None])):
            third, like = 100 + 10 * number + len(values["subnets"]), chance.choice(instances)["interfaces"][0]
            more = {key: value for key, value in subnet.items() if key != "zone"} | ({"zone": zone} if zone else {})
            block = subnet["cidr"][0].split(".")[:2]
            values["subnets"][f"{name}-{third}"] = more | {"cidr": [f"{'.'.join(block)}.{third}.0/24"]}
            interface = {"subnet": f"{name}-{third}", "addresses": [f"{'.'.join(block)}.{third}.7"],
                         "filters": like.get("filters", [])}  # fmt: skip
            if chance.random() < 0.3 and "public" not in values["networks"][subnet["network"]]:
                interface["public"] = f"203.0.113.{third}"
            values["instances"][f"n{third}"] = {"interfaces": [interface]}
    known = {(each["from"], each["to"]) for each in values["crossings"]}
    for index, pair in enumerate((one, other) for one in values["zones"] for other in values["zones"]):
        if pair not in known and chance.random() < 0.6:
            rules = [
                {"order": order, "action": chance.choice(ACTIONS), "service": chance.choice(SERVICES),
                 "stateful": chance.random() < 0.5}
                for order in (1, 2, 3)
            ]  # fmt: skip
            values["filters"][f"cross-{index}"] = {
                "layer": "zone", "decide": "first", "stateful": chance.random() < 0.5, "rules": rules,
                "otherwise": chance.choice(["allow", "drop", "reject"]),
            }  # fmt: skip
            values["crossings"].append({"from": pair[0], "to": pair[1], "filter": f"cross-{index}"})
    return values


def both_global(values, chance):
    """A random network whose two networks both have global IPv6 addresses and a door to the internet, and no other way
    to each other by IPv6; nothing but crossings is between them, and those from the internet let all in."""
    text = json.dumps(values).replace("fd00:2:0:", "2001:db8:2:").replace("fd00:2::", "2001:db8:2::")
    values = json.loads(text)
    values["gateways"]["south-door"] = {"kind": "internet", "network": "south"}
    values["subnets"]["b1"]["cidr"] = ["10.2.1.0/24", "2001:db8:2:1::/64"]
    for number, instance in enumerate(values["instances"].values()):
        for key in ("host_filter", "listens"):
            instance.pop(key, None)
        for interface in instance["interfaces"]:
            interface["filters"] = []
            if interface["subnet"] == "b1":
                interface["addresses"] = [interface["addresses"][0], f"2001:db8:2:1::{number + 10}"]
    for subnet in values["subnets"].values():
        subnet.pop("filter", None)
    for chosen in values["filters"].values():
        for key in ("attach_to", "exempt"):
            chosen.pop(key, None)
    for name, table in values["route_tables"].items():
        door = "south-door" if name.startswith("b") else "door"
        table[:] = [entry for entry in table if ":" not in entry["to"]] + [{"to": "::/0", "via": door}]
    for crossing in values["crossings"]:
        if crossing["from"] == "public":
            values["filters"][crossing["filter"]]["rules"] = [{"action": "allow", "order": 10}]
    values["defaults"] = {"same_zone": "allow", "between_zones": "allow"}
    if chance.random() < 0.5:
        values["crossings"] = [each for each in values["crossings"] if each["from"] == "public"]
    return values


def with_public_blocks(values, chance):
    """A random network of which one network or both have IPv4 addresses that are reached from outside as they are: all
    of them, those of a subnet, or of half a subnet."""
    text = json.dumps(values)
    chosen = chance.choice([["south"], ["north"], ["north", "south"]])
    for name, before, after in (("north", "10.1.", "11.1."), ("south", "10.2.", "11.2.")):
        text = text.replace(before, after) if name in chosen else text
    values = json.loads(text)
    if "south-door" not in values["gateways"] and chance.random() < 0.6:
        values["gateways"]["south-door"] = {"kind": "internet", "network": "south"}
    public = []
    for name in chosen:
        start = {"north": "11.1", "south": "11.2"}[name]
        blocks = chance.choice([[f"{start}.0.0/16"], [f"{start}.1.0/24"], [f"{start}.1.0/28", f"{start}.2.0/25"]])
        values["networks"][name]["public"] = blocks
        public += map(ipaddress.ip_network, blocks)
    for instance in values["instances"].values():
        for interface in instance["interfaces"]:
            own = map(ipaddress.ip_address, interface.get("addresses", ()))
            if any(each in block for each in own if each.version == 4 for block in public):
                interface.pop("public", None)
    for name, table in values["route_tables"].items():
        if name.startswith("b") and "south-door" in values["gateways"] and chance.random() < 0.6:
            table[0]["via"] = "south-door"
        if chance.random() < 0.5:  # to each other by the internet, where by nothing else
            table[:] = [entry for entry in table if entry["via"] != "peer" or ":" in entry["to"]]
    return values


def with_shared_gateways(values, chance):
    """A random network whose two networks go out by the same gateways, one of each kind, and have the same tunnel."""
    gateways = values["gateways"]
    gateways.pop("south-door", None)
    for gateway in gateways.values():
        if gateway["kind"] != "peering":
            gateway["networks"] = chance.choice([["north", "south"], ["south", "north"]])
            gateway.pop("network", None)
    for table in values["route_tables"].values():
        for entry in table:
            if entry["via"] in ("door", "exit", "south-door"):
                entry["via"] = chance.choice(["door", "exit"])
        if "link" in gateways and chance.random() < 0.6 and all(each["to"] != "198.51.100.96/28" for each in table):
            table.append({"to": "198.51.100.96/28", "via": "link"})
    return values


def with_conditions(values, chance):
    """A random network in which many rules hold under conditions only that no header tells."""
    number = 0
    for each in values["filters"].values():
        rules = [rule for way in ("inbound", "outbound", "rules") for rule in each.get(way, ())]
        for rule in rules if chance.random() < 0.7 else ():
            if chance.random() < 0.35:
                number += 1
                rule["condition"] = f"the sender's user is in list {number}"
        if any("condition" in rule for rule in rules):
            for rule in rules:
                rule.pop("stateful", None)
    return values


def with_exceptions(values, chance):
    """A random network in which many rules are for all but somebody, or for some but others."""
    others = ["10.1.1.0/24", "10.2.1.10", "2001:db8:1::/48", "m0", ["webs", "b1"], "203.0.113.0/24"]
    rules = [rule for each in values["filters"].values() for way in ("inbound", "outbound", "rules")
             for rule in each.get(way, ())]  # fmt: skip
    for rule, side in ((rule, side) for rule in rules for side in ("from", "to")):
        if chance.random() < 0.3:
            peer = rule.get(side, "any")
            rule[side] = (
                {"not": peer} if peer != "any" and chance.random() < 0.5 else {"in": peer, "not": chance.choice(others)}
            )
            if chance.random() < 0.2:
                rule[side] = [rule[side], chance.choice(others[:3])]
    return values


def with_established(values, chance):
    """A random network of which many filters keep no state, with rules that match no openings of TCP."""
    of_tcp = [None, "ssh", "tcp/80", "tcp/8000-8010", "tcp", "tcp/32768-60999", "tcp/40000-60999"]
    for each in values["filters"].values():
        if chance.random() < 0.4:
            each["stateful"] = False
        for rule in (rule for way in ("inbound", "outbound", "rules") for rule in each.get(way, ())):
            if rule["action"] == "allow" and rule.get("service") in of_tcp and chance.random() < 0.4:
                rule["established"] = True
    return values


def with_odd_rules(values, chance):
    """A random network with rules of all these kinds."""
    return with_established(with_exceptions(with_conditions(values, chance), chance), chance)


class _Draw:
    def __init__(self, chance):
        self.chance = chance

    def network(self):
        chance = self.chance
        self.zones = [*["red", "green", "blue"][: chance.randint(1, 3)], "public"]
        values = {
            "kiboko": 1,
            "defaults": {
                "same_zone": chance.choice(["allow", "allow", "drop"]),
                "between_zones": chance.choice(["allow", "allow", "drop", "reject"]),
            },
            "zones": {zone: {} for zone in self.zones},
            "networks": {"north": {"cidrs": ["10.1.0.0/16", "2001:db8:1::/48"]}, "south": {"cidrs": ["10.2.0.0/16", "fd00:2::/48"]}},
            "outside": {
                "internet": {"addresses": ["0.0.0.0/0", "::/0"], "zone": "public"},
                "site": {"addresses": ["198.51.100.96/28", "2001:db8:fffe::/48"]},
            },
            "gateways": {
                "door": {"kind": "internet", "network": "north"},
                "exit": {"kind": "nat", "network": "south", "address": "203.0.113.2"},
                "peer": {"kind": "peering", "networks": ["north", "south"]},
            },
            "subnets": {}, "instances": {}, "route_tables": {}, "crossings": [], "groups": {}, "filters": {},
        }  # fmt: skip
        self.values = values
        if chance.random() < 0.7:
            values["outside"]["site"]["zone"] = chance.choice(self.zones)
        if chance.random() < 0.4:
            values["gateways"]["south-door"] = {"kind": "internet", "network": "south"}
        if chance.random() < 0.5:
            values["gateways"]["link"] = {
                "kind": "tunnel",
                "network": chance.choice(["north", "south"]),
                "outside": "site",
            }
        self.subnets()
        self.instances()
        self.groups()
        self.filters()
        self.attach()
        self.routes()
        return values

    def subnets(self):
        for name, network, four, six in (("a1", "north", "10.1.1.0/24", "2001:db8:1:1::/64"), ("a2", "north", "10.1.2.0/24", "2001:db8:1:2::/64"),
                                         ("b1", "south", "10.2.1.0/24", "fd00:2:0:1::/64")):  # fmt: skip
            subnet = {"network": network, "cidr": [four, six] if self.chance.random() < 0.7 else [four]}
            if self.chance.random() < 0.85:
                subnet["zone"] = self.chance.choice(self.zones)
            self.values["subnets"][name] = subnet

    def interface(self, subnet, number):
        blocks = self.values["subnets"][subnet]["cidr"]
        made = {"subnet": subnet, "addresses": [blocks[0].replace(".0/24", f".{number}")]}
        if len(blocks) > 1 and self.chance.random() < 0.8:
            made["addresses"].append(blocks[1].replace("::/64", f"::{number}"))
        if self.chance.random() < 0.5:
            made["public"] = f"203.0.113.{number}"
        return made

    def instances(self):
        chance = self.chance
        for index in range(chance.randint(4, 6)):
            first = chance.choice(["a1", "a2", "b1"]) if index > 2 else ["a1", "a2", "b1"][index]
            instance = {
                "interfaces": [self.interface(first, 10 + index)],
                "tags": {"role": chance.choice(["web", "db"])},
            }
            if chance.random() < 0.2:
                other = chance.choice([name for name in ("a1", "a2") if name != first])
                if first != "b1":
                    instance["interfaces"].append(self.interface(other, 40 + index))
            if chance.random() < 0.1:
                instance["state"] = "stopped"
            if chance.random() < 0.6:
                instance["listens"] = chance.sample(
                    ["ssh", "tcp/80", "udp/53", {"service": "tcp/8000", "address": "127.0.0.1"}], 2
                )
            self.values["instances"][f"m{index}"] = instance
        if chance.random() < 0.6:
            places = chance.choice([["a1"], ["a2"], ["a1", "a2"]])
            self.values["instances"]["mid"] = {
                "interfaces": [self.interface(name, 90 + n) for n, name in enumerate(places)],
                "forwards": chance.random() < 0.8,
            }

    def groups(self):
        names = list(self.values["instances"])
        self.values["groups"] = {
            "webs": {"where": {"role": "web"}},
            "some": {"members": self.chance.sample(names, 2), "addresses": ["192.0.2.0/24"]},
            "nest": {"members": ["webs", f"{names[0]}/eth0"]},
        }

    def peer(self):
        names = list(self.values["instances"])
        choices = ["any", "any", "any", "webs", "some", "nest", "a1", "north", "site", "internet", "10.1.0.0/16", "10.2.1.0-10.2.1.12",
                   "203.0.113.0/24", "2001:db8::/32", *names[:3], [names[0], "b1"]]  # fmt: skip
        if "guard" in self.values["filters"]:
            choices.append({"carrying": "guard"})
        return self.chance.choice(choices)

    def rule(self, **more):
        chance = self.chance
        rule = {"action": chance.choice(ACTIONS), **more}
        if chance.random() < 0.6:
            rule["service"] = chance.choice(SERVICES)
        if chance.random() < 0.4:
            rule["from"] = self.peer()
        if chance.random() < 0.3:
            rule["to"] = self.peer()
        if chance.random() < 0.1:
            rule["source_ports"] = chance.choice(["32768-45000", "22", "0-65535"])
        if chance.random() < 0.08:
            rule["enabled"] = False
        return rule

    def rules(self, **more):
        rules = [self.rule(**{key: value() for key, value in more.items()}) for _ in range(self.chance.randint(1, 4))]
        if self.chance.random() < 0.5:
            rules.append({"action": "allow"})
        return rules

    def a_filter(self, layer, decide="first"):
        chance = self.chance
        made = {"layer": layer, "decide": decide, "stateful": chance.random() < 0.6,
                "otherwise": chance.choice(["drop", "drop", "reject"] + ["allow"] * (decide == "first") * 2)}  # fmt: skip
        directions = chance.choice([["inbound"], ["outbound"], ["inbound", "outbound"], ["inbound", "outbound"]])
        if layer == "instance" and chance.random() < 0.2:
            directions = ["rules"]
        for way in directions:
            made[way] = self.rules() if chance.random() < 0.92 else []
            if decide == "any":
                made[way] = [{**rule, "action": "allow"} for rule in made[way]]
        return made

    def filters(self):
        values = self.values["filters"]
        values["guard"] = self.a_filter("instance", "any")
        values["other"] = self.a_filter("instance", "any")
        for name in ("first", "second"):
            values[name] = self.a_filter("instance")
        values["fleet"] = self.a_filter("instance")
        values["fleet"]["otherwise"] = "allow"
        if self.chance.random() < 0.4:
            values["fleet"] |= {
                "attach_to": [self.chance.choice(["all", "webs", "some"])],
                "exempt": [self.chance.choice(["m0", "webs"])],
            }
        for name in ("edge", "fence"):
            values[name] = self.a_filter("subnet")
        values["host"] = self.a_filter("host")

    def attach(self):
        chance, values = self.chance, self.values
        for instance in values["instances"].values():
            for interface in instance["interfaces"]:
                interface["filters"] = chance.choice(
                    [[], [], ["guard"], ["first"], ["guard", "other"], ["first", "second"], ["other", "first", "guard"]]
                )
            if chance.random() < 0.15:
                instance["host_filter"] = "host"
        for subnet in values["subnets"].values():
            if chance.random() < 0.4:
                subnet["filter"] = chance.choice(["edge", "fence"])
        if chance.random() < 0.4:
            values["outside"]["site"]["filter"] = "fence"
        for source in self.zones:
            for destination in self.zones:
                if chance.random() < 0.3:
                    name = f"{source}-to-{destination}"
                    rules = self.rules(stateful=lambda: chance.choice([True, False]))
                    values["filters"][name] = {"layer": "zone", "decide": "first", "stateful": chance.random() < 0.7, "rules": rules,
                                               "otherwise": chance.choice(["allow", "drop", "reject"])}  # fmt: skip
                    values["crossings"].append({"from": source, "to": destination, "filter": name})

    def routes(self):
        chance, values = self.chance, self.values
        for name, subnet in values["subnets"].items():
            if chance.random() < 0.08:
                continue
            north = subnet["network"] == "north"
            doors = (
                ["door"] if north else ["exit", "exit", *(["south-door"] if "south-door" in values["gateways"] else [])]
            )
            door = chance.choice(doors)
            table = [{"to": "0.0.0.0/0", "via": door}]
            if len(subnet["cidr"]) > 1:
                table.append({"to": "::/0", "via": door})
            table.append({"to": "10.2.0.0/16" if north else "10.1.0.0/16", "via": "peer", "origin": "learned"})
            table.append({"to": "fd00:2::/48" if north else "2001:db8:1::/48", "via": "peer", "origin": "learned"})
            link = values["gateways"].get("link")
            if link is not None and link["network"] == subnet["network"] and chance.random() < 0.8:
                table.append({"to": "198.51.100.96/28", "via": "link"})
            if chance.random() < 0.2:
                table.append({"to": chance.choice(["10.1.2.11/32", "10.2.1.12/32", "192.0.2.0/24"]), "via": "discard"})
            if "mid" in values["instances"] and north and chance.random() < 0.6:
                to = chance.choice(["10.2.0.0/16", "10.1.0.0/16", "0.0.0.0/0", "10.2.1.12/32", "203.0.113.0/24"])
                if all(entry["to"] != to or entry.get("origin") for entry in table):
                    table.append({"to": to, "via": {"instance": "mid"}})
            values["route_tables"][f"{name}-table"] = table
            subnet["route_table"] = f"{name}-table"


__all__ = [
    "both_global",
    "by_an_appliance",
    "in_more_zones",
    "random_network",
    "star_network",
    "varied_network",
    "with_conditions",
    "with_established",
    "with_exceptions",
    "with_odd_rules",
    "with_public_blocks",
    "with_shared_gateways",
]


def star_network(seed, count=5):
    """Many networks around one, or around a hub: each with routes of its own, of which most lead nowhere, and filters in
    front of them."""
    chance = random.Random(seed)
    made = {
        "kiboko": 1, "defaults": {"between_zones": chance.choice(["allow", "drop"])},
        "networks": {}, "outside": {"internet": {"addresses": ["0.0.0.0/0", "::/0"], "zone": "street"}},
        "zones": {"street": {}, "inner": {}, "outer": {}}, "crossings": [], "gateways": {}, "route_tables": {},
        "subnets": {}, "filters": {}, "instances": {},
    }  # fmt: skip
    actions = ["allow", "allow", "drop", "reject"]
    for number in range(count):
        network, block = f"n{number}", f"10.{number}.0.0/16"
        made["networks"][network] = {"cidrs": [block, f"{chance.choice(['fd00', '2001:db8'])}:{number + 1}::/48"]}
        made["gateways"][f"door{number}"] = {"kind": "internet", "network": network}
        made["gateways"][f"exit{number}"] = {"kind": "nat", "network": network, "address": f"203.0.113.{200 + number}"}
        routes = [{"to": "0.0.0.0/0", "via": chance.choice([f"door{number}", f"exit{number}", "discard"])}]
        routes += [{"to": "::/0", "via": f"door{number}"}]
        routes = [each for each in routes if chance.random() < 0.8]
        if number:
            made["gateways"][f"peer{number}"] = {"kind": "peering", "networks": ["n0", network]}
            routes += [{"to": chance.choice(["10.0.0.0/16", "10.0.0.0/8"]), "via": f"peer{number}"}]
            made["route_tables"]["t0"] += [{"to": block, "via": chance.choice([f"peer{number}", "discard"])}]
        made["route_tables"][f"t{number}"] = routes
        rules = [
            {"order": 10 * place, "action": chance.choice(actions), "service": chance.choice(["ssh", "tcp", "icmp", "udp/53"]),
             "to": chance.choice(["any", "10.1.0.0/16", "10.2.1.10", block])} for place in range(1, 4)
        ]  # fmt: skip
        made["filters"][f"f{number}"] = {
            "layer": "subnet", "decide": "first", "stateful": chance.random() < 0.5, "inbound": [{"action": "allow"}],
            "outbound": rules, "otherwise": chance.choice(actions),
        }  # fmt: skip
        made["subnets"][f"s{number}"] = {
            "network": network, "cidr": [f"10.{number}.1.0/24", made["networks"][network]["cidrs"][1].replace("/48", "/64")],
            "route_table": f"t{number}", "zone": chance.choice(["inner", "outer"]), "filter": f"f{number}",
        }  # fmt: skip
        six = made["networks"][network]["cidrs"][1].replace("/48", "")
        for place in range(2):
            interface = {"subnet": f"s{number}", "addresses": [f"10.{number}.1.{10 + place}", f"{six}{10 + place}"]}
            if chance.random() < 0.5:
                interface["public"] = f"203.0.113.{10 * number + place + 1}"
            made["instances"][f"m{number}{'ab'[place]}"] = {"interfaces": [interface], "listens": ["ssh", "udp/53"]}
    return with_a_hub(made) if seed % 2 else made


def with_a_hub(values):
    """A network whose peerings are one that joins them all."""
    peerings = [name for name, each in values["gateways"].items() if each["kind"] == "peering"]
    joined = dict.fromkeys(name for each in peerings for name in values["gateways"].pop(each)["networks"])
    values["gateways"]["hub"] = {"kind": "peering", "networks": list(joined)}
    for entry in (entry for table in values["route_tables"].values() for entry in table):
        entry["via"] = "hub" if entry["via"] in peerings else entry["via"]
    return values
