"""Random changes of random networks, from a source of chance: values as `tests.helpers.load` takes them."""

import copy
import ipaddress

ANYTHING = ("turn", "drop", "detach", "route", "service")
OF_RULES = ("turn", "drop", "service", "move", "peer")


def changed(values, chance, kinds=ANYTHING):
    """The same network with one thing changed: a rule turned, dropped or moved, a filter taken off, a route removed."""
    values = copy.deepcopy(values)
    rules = [(each, rule) for chosen in values["filters"].values() for way in ("inbound", "outbound", "rules")
             for each in [chosen.get(way) or []] for rule in each]  # fmt: skip
    kind = chance.choice(kinds)
    if kind in OF_RULES and rules:
        listed, rule = chance.choice(rules)
        if kind == "drop":
            listed.remove(rule)
        elif kind == "turn":
            rule["enabled"] = not rule.get("enabled", True)
        elif kind == "move":
            rule["order"] = chance.choice([1, 5000]) + chance.randrange(900)
        elif kind == "peer":
            rule["from"] = chance.choice([*values["instances"], "internet", "north", "10.1.0.0/17"])
        else:
            rule["service"] = "tcp/8000-8010"
    elif kind == "route" and values["route_tables"]:
        table = chance.choice(list(values["route_tables"].values()))
        if table:
            table.pop(chance.randrange(len(table)))
    else:
        machine = chance.choice(list(values["instances"].values()))
        machine["interfaces"][0].pop("filters", None)
    return values


def restructured(values, chance):
    """The same network with one thing other than a rule changed: a machine, a group, a subnet, a route, a crossing."""
    values = copy.deepcopy(values)
    names, filters = list(values["instances"]), values["filters"]
    machine = values["instances"][chance.choice(names)]
    subnet = values["subnets"][chance.choice(list(values["subnets"]))]
    table = chance.choice([*values["route_tables"].values(), []])

    def of_layer(layer):
        return [name for name, each in filters.items() if each["layer"] == layer]

    def switched(thing, key, value):
        if key in thing:
            del thing[key]
        else:
            thing[key] = value

    def crossing():
        zones = [chance.choice(list(values["zones"])) for _ in range(2)]
        left = [each for each in values["crossings"] if [each["from"], each["to"]] != zones]
        more = [{"from": zones[0], "to": zones[1], "filter": chance.choice(of_layer("zone") or ["none"])}]
        values["crossings"] = left + more * (chance.random() < 0.7)

    chance.choice([
        lambda: machine["tags"].update(role=chance.choice(["web", "db", "none"])) if "tags" in machine else None,
        lambda: machine["interfaces"][0].update(filters=chance.sample(of_layer("instance"), chance.randint(0, 2))),
        lambda: machine.update(state="running" if machine.get("state") == "stopped" else "stopped"),
        lambda: machine.update(listens=[chance.choice(["ssh", "tcp/80", "udp/53"])]),
        lambda: switched(machine, "host_filter", "host"),
        lambda: switched(machine["interfaces"][0], "public", "203.0.113.200"),
        lambda: values["groups"]["some"].update(members=chance.sample(names, chance.randint(1, 3))),
        lambda: values["groups"]["some"].update(addresses=[chance.choice(
            ["10.1.1.0/25", "10.2.0.0/16", "203.0.113.0/24", "2001:db8:1:1::/64"])]),
        lambda: values["groups"]["webs"].update(where={"role": chance.choice(["db", "web"])}),
        lambda: filters["fleet"].update(attach_to=[chance.choice(["all", "webs", "some"])]),
        lambda: switched(subnet, "filter", chance.choice(of_layer("subnet"))),
        lambda: subnet.update(zone=chance.choice(list(values["zones"]))),
        lambda: subnet.update(route_table=chance.choice([*values["route_tables"], "none"])),
        lambda: table.append({"to": chance.choice(["10.1.2.0/24", "10.2.1.0/25", "203.0.113.0/25", "2001:db8:1:2::/64"]),
                              "via": chance.choice(["discard", "peer", "door"])}),
        lambda: table.pop(chance.randrange(len(table))) if table else None,
        crossing,
    ])()  # fmt: skip
    return values


def moved(values, chance):
    """The same network with a machine taken out, or moved to another subnet or address."""
    values = copy.deepcopy(values)
    name = chance.choice(list(values["instances"]))
    interface = values["instances"][name]["interfaces"][0]
    if chance.random() < 0.3:
        del values["instances"][name]
    else:
        subnet = chance.choice(list(values["subnets"]))
        cidrs = values["subnets"][subnet]["cidr"]
        prefixes = [ipaddress.ip_network(each) for each in (cidrs if isinstance(cidrs, list) else [cidrs])]
        interface.update(
            subnet=subnet, addresses=[str(each[chance.randrange(200, 250) % each.num_addresses]) for each in prefixes]
        )
    return values


__all__ = ["ANYTHING", "OF_RULES", "changed", "moved", "restructured"]
