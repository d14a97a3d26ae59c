"""Random networks of the shapes that `tests.random_networks` leaves out, from a seed.

Three networks in a row of peerings, of several blocks each; machines with an interface in two networks, with two
addresses of one family, without IPv4, without any address; subnets of IPv6 alone, of two addresses, behind others;
outsides inside outsides, with filters and tunnels of two networks; two gateways that share an address each; appliances
behind one another, entered by a chosen interface; client ports of single machines and outsides; SCTP, GRE and single
ICMP messages.
"""

import random

from tests.random_networks import both_global, by_an_appliance, in_more_zones, random_network, with_public_blocks

ACTIONS = ["allow", "allow", "allow", "drop", "reject"]
SERVICES = ["any", "any", "ssh", "tcp/80", "tcp/8000-8010", "udp/53", "udp", "tcp", "ping", "icmp", "icmp6", "sctp/80", "sctp",
            "proto/47", ["ssh", "udp/53", "proto/47"], "tcp/32768-60999", "udp/20000-60999", "tcp/40000-60999",
            "icmp/echo-reply", "icmp6/echo-reply", "icmp/3/3", "icmp6/1/4", "tcp/20000-20999"]  # fmt: skip
BLOCKS = {
    "north": ["10.1.0.0/16", "10.11.0.0/20", "2001:db8:1::/48"],
    "south": ["10.2.0.0/16", "fd00:2::/48"],
    "east": ["10.3.0.0/16", "2001:db8:3::/48", "fd00:3::/48"],
}
SUBNETS = {
    "a1": ("north", "10.1.1.0/24", "2001:db8:1:1::/64"), "a2": ("north", "10.11.2.0/24", "2001:db8:1:2::/64"),
    "a3": ("north", None, "2001:db8:1:3::/64"), "a4": ("north", "10.1.4.8/31", None),
    "b1": ("south", "10.2.1.0/24", "fd00:2:0:1::/64"), "b2": ("south", "10.2.2.16/28", None),
    "c1": ("east", "10.3.1.0/24", "2001:db8:3:1::/64"), "c2": ("east", "10.3.2.0/24", "fd00:3:0:2::/64"),
}  # fmt: skip
STRANGERS = ("10.1.1.200", "10.11.2.201", "10.1.77.1", "10.2.1.202", "10.2.2.20", "10.3.1.77", "10.3.99.1", "198.51.100.100",
             "198.51.100.105", "172.20.0.9", "192.0.2.70", "192.0.2.7", "8.8.8.8", "203.0.113.2", "203.0.113.3",
             "203.0.113.99", "2001:db8:1:1::77", "2001:db8:1:3::88", "2001:db8:3:1::9", "2001:db8:fffe::5",
             "2001:db8:fffe:7::5", "2a00::1", "fd00:2:0:1::99", "fd00:3:0:2::98", "fd00:dddd::7")  # fmt: skip
"""Addresses of which nothing is recorded: in subnets, in a network beside them, outside, shared ones, those of nobody."""


def wider_network(seed):
    """The values of one random network."""
    return _Draw(random.Random(seed)).network()


class _Draw:
    def __init__(self, chance):
        self.chance = chance
        self.used = dict.fromkeys(SUBNETS, 0)
        self.publics = 30

    def often(self, share):
        return self.chance.random() < share

    def network(self):
        chance = self.chance
        zones = [*["red", "green", "blue"][: chance.randint(1, 3)], "public"]
        self.values = values = {
            "kiboko": 1,
            "defaults": {"same_zone": chance.choice(["allow", "allow", "drop"]),
                         "between_zones": chance.choice(["allow", "allow", "drop", "reject"])},
            "zones": {zone: {} for zone in zones},
            "networks": {name: {"cidrs": blocks} for name, blocks in BLOCKS.items()},
            "outside": {
                "internet": {"addresses": ["0.0.0.0/0", "::/0"], "zone": "public"},
                "site": {"addresses": ["198.51.100.96/28", "2001:db8:fffe::/48"]},
                "desk": {"addresses": ["198.51.100.104/30", "2001:db8:fffe:7::/64"]},
                "depot": {"addresses": ["172.20.0.0/24", "192.0.2.64-192.0.2.99", "fd00:dddd::/64"]},
            },
            "gateways": {
                "door": {"kind": "internet", "network": "north"},
                "exit": {"kind": "nat", "network": "south", "address": "203.0.113.2"},
                "peer": {"kind": "peering", "networks": ["north", "south"]},
                "link": {"kind": "tunnel", "network": chance.choice(["north", "south"]), "outside": "site"},
            },
            "subnets": {}, "instances": {}, "route_tables": {}, "crossings": [], "groups": {}, "filters": {},
        }  # fmt: skip
        for name in ("site", "desk", "depot"):
            if self.often(0.7):
                values["outside"][name]["zone"] = chance.choice(zones)
            if self.often(0.3):
                values["outside"][name]["ephemeral_ports"] = chance.choice(["20000-30000", "40000-40999"])
        self.gateways()
        self.subnets(zones)
        self.instances()
        self.groups()
        self.filters()
        self.attach(zones)
        self.routes()
        return values

    def gateways(self):
        more = {
            "side": {"kind": "peering", "networks": ["south", "east"]},
            "round": {"kind": "peering", "networks": ["east", "north"]},
            "east-door": {"kind": "internet", "network": "east"},
            "south-door": {"kind": "internet", "network": "south"},
            "east-exit": {"kind": "nat", "network": "east", "address": "203.0.113.3"},
            "other-exit": {"kind": "nat", "network": "south", "address": "203.0.113.4"},
            "north-exit": {"kind": "nat", "network": "north", "address": "203.0.113.5"},
            "depot-link": {"kind": "tunnel", "network": self.chance.choice(["north", "east"]), "outside": "depot"},
            "desk-link": {"kind": "tunnel", "network": self.chance.choice(["north", "south"]), "outside": "desk"},
        }
        self.values["gateways"] |= {name: gateway for name, gateway in more.items() if self.often(0.55)}
        link = self.values["gateways"]["link"]
        if self.often(0.3):
            other = {"north": "south", "south": "north"}[link["network"]]
            self.values["gateways"]["second-link"] = {"kind": "tunnel", "network": other, "outside": "site"}

    def subnets(self, zones):
        for name, (network, four, six) in SUBNETS.items():
            if name in ("a1", "b1", "c1") or self.often(0.55):
                blocks = [block for block in (four, six if four is None or self.often(0.7) else None) if block]
                self.values["subnets"][name] = {"network": network, "cidr": blocks}
                if self.often(0.85):
                    self.values["subnets"][name]["zone"] = self.chance.choice(zones)

    def interface(self, subnet, **more):
        """An interface at the next address of a subnet, at some of its families, sometimes with a second one."""
        made = {"subnet": subnet, **more}
        if self.often(0.05):
            return made
        chosen = []
        for block in self.values["subnets"][subnet]["cidr"]:
            base, _, length = block.rpartition("/")
            if ":" in block and chosen and self.often(0.2):
                continue
            first = {"31": 0, "28": 2}.get(length, 10)
            for again in range(2 if length != "31" and self.often(0.15) else 1):
                number = (
                    first
                    + self.used[subnet]
                    + 100 * (again and length != "28")
                    + (6 if again and length == "28" else 0)
                )
                if ":" in block:
                    chosen.append(f"{base}{number:x}")
                else:
                    head, _, last = base.rpartition(".")
                    chosen.append(f"{head}.{int(last) + number}")
        made["addresses"] = chosen
        self.used[subnet] += 1
        if any("." in address for address in chosen) and self.often(0.4):
            self.publics += 1
            made["public"] = f"203.0.113.{self.publics}"
        return made

    def room(self, subnet):
        """Whether a subnet has an address left."""
        return self.used[subnet] < {"a4": 2, "b2": 5}.get(subnet, 50)

    def instances(self):
        chance, names = self.chance, list(self.values["subnets"])
        for index in range(chance.randint(5, 8)):
            first = names[index % len(names)]
            if not self.room(first):
                continue
            instance = {"interfaces": [self.interface(first)], "tags": {"role": chance.choice(["web", "db"])}}
            others = [name for name in names if name != first and self.room(name)]
            if self.often(0.3) and others:
                instance["interfaces"].append(self.interface(chance.choice(others)))
            if self.often(0.08):
                instance["state"] = "stopped"
            if self.often(0.5):
                instance["listens"] = chance.sample(
                    ["ssh", "tcp/80", "udp/53", "sctp/80", {"service": "tcp/8000", "address": "127.0.0.1"}], 3
                )
            if self.often(0.2):
                instance["ephemeral_ports"] = chance.choice(["20000-20999", "40000-50000", "1024-65535"])
            self.values["instances"][f"m{index}"] = instance
        for number, network in enumerate(("north", "south", "north")):
            mine = [name for name in names if SUBNETS[name][0] == network and name != "a3" and self.room(name)]
            if self.often(0.5) and mine:
                places = [chance.choice(mine)]
                across = [name for name in names if name not in places and name != "a3" and self.room(name)]
                if self.often(0.5) and across:
                    places.append(chance.choice(across))
                interfaces = [self.interface(name) for name in places]
                self.values["instances"][f"mid{number}"] = {"interfaces": interfaces, "forwards": self.often(0.85)}

    def groups(self):
        names = list(self.values["instances"])
        self.values["groups"] = {
            "webs": {"where": {"role": "web"}},
            "some": {"members": self.chance.sample(names, 2), "addresses": ["192.0.2.64/28", "203.0.113.31"]},
            "nest": {"members": ["webs", f"{names[0]}/eth0"]},
        }

    def peer(self):
        names = list(self.values["instances"])
        choices = ["any", "any", "webs", "some", "nest", "a1", "b1", "north", "east", "site", "desk", "depot", "internet",
                   "10.1.0.0/16", "10.2.1.0-10.2.1.12", "203.0.113.0/24", "203.0.113.2", "2001:db8::/32", "fd00::/8", *names[:4],
                   f"{names[1]}/eth0", [names[0], "b1"], ["site", "203.0.113.0/27"]]  # fmt: skip
        if "guard" in self.values["filters"]:
            choices += [{"carrying": "guard"}, {"carrying": "fleet"}] if "fleet" in self.values["filters"] else []
        return self.chance.choice(choices)

    def rule(self, **more):
        chance = self.chance
        rule = {"action": chance.choice(ACTIONS), **more}
        if self.often(0.6):
            rule["service"] = chance.choice(SERVICES)
        if self.often(0.4):
            rule["from"] = self.peer()
        if self.often(0.3):
            rule["to"] = self.peer()
        if self.often(0.1):
            rule["source_ports"] = chance.choice(["32768-45000", "22", "0-65535", "20000-20500"])
        if self.often(0.08):
            rule["enabled"] = False
        return rule

    def rules(self, **more):
        rules = [self.rule(**{key: value() for key, value in more.items()}) for _ in range(self.chance.randint(1, 4))]
        return rules + [{"action": "allow"}] * self.often(0.55)

    def a_filter(self, layer, decide="first"):
        chance = self.chance
        made = {"layer": layer, "decide": decide, "stateful": self.often(0.6),
                "otherwise": chance.choice(["drop", "drop", "reject"] + ["allow"] * (decide == "first") * 2)}  # fmt: skip
        directions = chance.choice([["inbound"], ["outbound"], ["inbound", "outbound"], ["inbound", "outbound"]])
        if layer == "instance" and self.often(0.25):
            directions = ["rules"]
        for way in directions:
            made[way] = self.rules() if self.often(0.92) else []
            if decide == "any":
                made[way] = [{**rule, "action": "allow"} for rule in made[way]]
        return made

    def filters(self):
        values = self.values["filters"]
        values["fleet"] = self.a_filter("instance") | {"otherwise": "allow"}
        values["guard"] = self.a_filter("instance", "any")
        values["other"] = self.a_filter("instance", "any")
        for name in ("first", "second"):
            values[name] = self.a_filter("instance")
        for name in ("edge", "fence"):
            values[name] = self.a_filter("subnet")
        values["host"] = self.a_filter("host")
        for name in ("fleet", "other"):
            if self.often(0.4):
                values[name] |= {"attach_to": [self.chance.choice(["all", "webs", "some", "nest"])],
                                 "exempt": [self.chance.choice(["m0", "webs", "nest"])]}  # fmt: skip

    def attach(self, zones):
        chance, values = self.chance, self.values
        for instance in values["instances"].values():
            for interface in instance["interfaces"]:
                interface["filters"] = chance.choice(
                    [
                        [],
                        [],
                        [],
                        ["guard"],
                        ["first"],
                        ["guard", "other"],
                        ["first", "second"],
                        ["other", "first", "guard"],
                    ]
                )
            if self.often(0.15):
                instance["host_filter"] = "host"
        for subnet in values["subnets"].values():
            if self.often(0.35):
                subnet["filter"] = chance.choice(["edge", "fence"])
        for name in ("site", "desk", "internet"):
            if self.often(0.25):
                values["outside"][name]["filter"] = chance.choice(["edge", "fence"])
        for source in zones:
            for destination in zones:
                if self.often(0.3):
                    name = f"{source}-to-{destination}"
                    values["filters"][name] = {
                        "layer": "zone", "decide": "first", "stateful": self.often(0.7),
                        "rules": self.rules(stateful=lambda: self.often(0.5)),
                        "otherwise": chance.choice(["allow", "drop", "reject"]),
                    }  # fmt: skip
                    values["crossings"].append({"from": source, "to": destination, "filter": name})

    def routes(self):
        for name, subnet in self.values["subnets"].items():
            if not self.often(0.06):
                self.values["route_tables"][f"{name}-table"] = self.table(subnet)
                subnet["route_table"] = f"{name}-table"

    def table(self, subnet):
        """The routes of one subnet: out, to the peers, by tunnels, and some that lead astray or by an appliance."""
        chance, values, network = self.chance, self.values, subnet["network"]
        four, six = (any((":" in block) == kind for block in subnet["cidr"]) for kind in (False, True))
        mine = {name: each for name, each in values["gateways"].items()
                if network == each.get("network") or network in each.get("networks", ())}  # fmt: skip
        doors = [name for name, each in mine.items() if each["kind"] in ("internet", "nat")]
        found = {}

        def add(to, via, origin="static"):
            if (":" in to and six) or (":" not in to and four):
                found.setdefault((to, origin), {"to": to, "via": via, "origin": origin})

        appliances = [
            ({"instance": name} | ({"interface": f"eth{index}"} if index or self.often(0.4) else {}), interface["addresses"])
            for name, each in values["instances"].items() if name.startswith("mid")
            for index, interface in enumerate(each["interfaces"])
            if SUBNETS[interface["subnet"]][0] == network and interface.get("addresses")
        ]  # fmt: skip
        if appliances and self.often(0.6):
            for _ in range(chance.randint(1, 2)):
                via, addresses = chance.choice(appliances)
                to = chance.choice(["10.2.0.0/16", "10.1.0.0/16", "0.0.0.0/0", "10.2.1.11/32", "203.0.113.0/24", "10.3.0.0/16",
                                    "198.51.100.96/28", "10.11.2.0/24", "2001:db8:3::/48", "fd00:2::/48", "::/0"])  # fmt: skip
                if any((":" in address) == (":" in to) for address in addresses):
                    add(to, via)
        if self.often(0.2):
            add(chance.choice(["10.1.1.10/32", "10.2.1.11/32", "192.0.2.0/24", "2001:db8:3::/48"]), "discard")
        for to in ("0.0.0.0/0", "::/0"):
            if doors:
                add(to, chance.choice(doors))
        for name, each in mine.items():
            if each["kind"] == "peering" and self.often(0.85):
                (other,) = (one for one in each["networks"] if one != network)
                for block in BLOCKS[other]:
                    add(block, name, "learned")
            if each["kind"] == "tunnel" and self.often(0.85):
                for address in values["outside"][each["outside"]]["addresses"]:
                    if "-" not in address:
                        add(address, name)
        peerings = [name for name, each in mine.items() if each["kind"] == "peering"]
        if self.often(0.1) and peerings:  # to a network behind the next one, which peering does not carry
            add("10.3.0.0/16", chance.choice(peerings))
        return list(found.values())


__all__ = ["STRANGERS", "wider_network"]


def any_network(seed):
    """A random network of each kind in turn, as values."""
    if seed % 5 == 4:
        return wider_network(seed)
    vary = (with_public_blocks if seed % 2 else None, by_an_appliance, in_more_zones, both_global)[seed % 5]
    return vary(random_network(seed), random.Random(seed)) if vary is not None else random_network(seed)
