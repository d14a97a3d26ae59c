"""Long lists: a block list, a firewall of many rules, a table of learned routes, ten times as long each, and the log of
an edge with a thousand times the senders; what that costs in a network of 400 machines whose other rules are few. The
same of a firewall between all zones whose rules are of groups, and of machines with kernel rule sets of their own.
"""

import json
import random
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from measure import command, ratio, report

from kiboko.core.header.addresses import Address

RECORDS = 500_000
HEADER = (
    "flowStartMilliseconds,flowEndMilliseconds,sourceIPv4Address,destinationIPv4Address,sourceTransportPort,"
    "destinationTransportPort,protocolIdentifier,tcpControlBits,packetDeltaCount,octetDeltaCount,firewallEvent"
)


def stranger(chance: random.Random) -> int:
    """Some address that is no network's and no special one's."""
    while True:
        value = chance.getrandbits(32)
        if value >> 24 not in (0, 10, 127) and value >> 24 < 224 and value >> 16 not in (0xCB00, 0xA9FE):
            return value


def block(chance: random.Random) -> str:
    """A block of such addresses, most of them single ones."""
    length = chance.choice((32, 32, 32, 32, 24, 28, 22))
    return f"{Address(4, stranger(chance) >> (32 - length) << (32 - length))}/{length}"


def crossroads(blocked: int, rules: int, routes: int) -> dict[str, Any]:
    """Two networks of 200 machines each behind one firewall, with lists of some lengths."""
    chance = random.Random(blocked + rules + routes)
    machines = {}
    for number in range(400):
        side, subnet = number % 2, number % 20
        interface: dict[str, Any] = {"subnet": f"hall-{subnet}", "filters": ["own"],
                                     "addresses": [f"10.{side}.{subnet}.{10 + number // 20}"]}  # fmt: skip
        if not side:
            interface["public"] = f"203.0.113.{number // 2 + 1}"
        machines[f"box-{number}"] = {"interfaces": [interface], "listens": ["https", "ssh"]}
    wall = [
        {"action": chance.choice(("allow", "drop")), "from": block(chance), "to": f"box-{chance.randrange(400)}",
         "service": f"tcp/{chance.choice((443, 22, 5432, chance.randrange(1, 65536)))}"}
        for _ in range(rules)
    ]  # fmt: skip
    table: list[dict[str, Any]] = [{"to": "0.0.0.0/0", "via": "door"}, {"to": "10.1.0.0/16", "via": "bridge"}]
    table += [
        {"to": each, "via": "door", "origin": "learned"} for each in sorted({block(chance) for _ in range(routes)})
    ]
    return {
        "kiboko": 1, "networks": {"left": {"cidrs": ["10.0.0.0/16"]}, "right": {"cidrs": ["10.1.0.0/16"]}},
        "outside": {"internet": {"addresses": ["0.0.0.0/0"], "zone": "street"}},
        "zones": {"inner": {}, "outer": {}, "street": {}},
        "gateways": {"door": {"kind": "internet", "network": "left"},
                     "bridge": {"kind": "peering", "networks": ["left", "right"]}},
        "route_tables": {"left-main": table, "right-main": [{"to": "10.0.0.0/16", "via": "bridge"}]},
        "subnets": {f"hall-{n}": {"network": ("left", "right")[n % 2], "cidr": f"10.{n % 2}.{n}.0/24", "filter": "edge",
                                  "zone": ("outer", "inner")[n % 2], "route_table": ("left-main", "right-main")[n % 2]}
                    for n in range(20)},
        "groups": {"blocked": {"addresses": sorted({block(chance) for _ in range(max(1, blocked))})}},
        "filters": {
            "wall": {"layer": "zone", "decide": "first", "stateful": True, "rules": [
                {"action": "drop", "from": "blocked"}, *wall, {"action": "allow", "service": "https"}]},
            "edge": {"layer": "subnet", "decide": "first", "stateful": False,
                     "inbound": [{"action": "drop", "from": "blocked"}, {"action": "allow"}],
                     "outbound": [{"action": "drop", "to": "blocked"}, {"action": "allow"}]},
            "own": {"layer": "instance", "decide": "any", "stateful": True,
                    "inbound": [{"action": "allow", "service": "https"}, {"action": "allow", "from": "10.0.0.0/8"}]},
        },
        "crossings": [{"from": "street", "to": "outer", "filter": "wall"}], "instances": machines,
    }  # fmt: skip


def of_groups(rules: int) -> dict[str, Any]:
    """The same machines with one firewall between all zones, whose rules are of groups of addresses and of services."""
    values, chance = crossroads(1, 0, 0), random.Random(rules)

    def inside() -> str:
        length = chance.choice((32, 32, 28, 26))
        value = 10 << 24 | chance.randrange(2) << 16 | chance.randrange(20) << 8 | chance.randrange(256)
        return f"{Address(4, value >> (32 - length) << (32 - length))}/{length}"

    for number in range(800):
        members = {inside() for _ in range(chance.choice((1, 2, 3, 5, 10, 40)))}
        values["groups"][f"object-{number}"] = {"addresses": sorted(members)}
    values["services"] = {
        f"service-{number}": [f"{chance.choice(('tcp', 'udp'))}/{chance.randrange(1, 60_000)}"
                              for _ in range(chance.choice((1, 1, 2, 4)))]
        for number in range(150)
    }  # fmt: skip

    def peer() -> str:
        group = f"object-{chance.randrange(800)}"
        return chance.choice((group, group, group, group, inside(), inside(), block(chance), "any"))

    services = (*values["services"], "https", "ssh", "tcp/5432")
    values["filters"]["wall"]["rules"] = [
        {"action": chance.choice(("allow", "allow", "allow", "drop")), "from": peer(), "to": peer(),
         "service": chance.sample(services, chance.choice((1, 1, 3)))}
        for _ in range(rules)
    ]  # fmt: skip
    values["crossings"] = [{"from": one, "to": other, "filter": "wall"}
                           for one in values["zones"] for other in values["zones"] if one != other]  # fmt: skip
    return values


def with_rule_sets(folder: Path, machines: int) -> dict[str, Any]:
    """Some machines, each with a kernel rule set of its own that lets in forty peers, each on one service."""
    chance = random.Random(machines)
    place = {"family": "inet", "table": "own", "chain": "input"}

    def matches(field: tuple[str, str], value: object) -> dict[str, Any]:
        return {"match": {"op": "==", "left": {"payload": {"protocol": field[0], "field": field[1]}}, "right": value}}

    names = {}
    for number in range(machines):
        rules: list[dict[str, Any]] = [
            {"table": {"family": "inet", "name": "own"}},
            {"chain": {"family": "inet", "table": "own", "name": "input", "type": "filter", "hook": "input", "prio": 0,
                       "policy": "drop"}},
        ]  # fmt: skip
        rules += [
            {"rule": {**place, "handle": handle, "expr": [
                matches(("ip", "saddr"), f"10.0.{chance.randrange(20)}.{chance.randrange(1, 250)}"),
                matches(("tcp", "dport"), chance.choice((22, 443, 5432, chance.randrange(1, 10_000)))),
                {"accept": None}]}}
            for handle in range(40)
        ]  # fmt: skip
        (folder / f"{machines}-{number}.json").write_text(json.dumps({"nftables": rules}))
        names[f"box-{number}"] = {
            "interfaces": [{"subnet": f"hall-{number % 20}", "addresses": [f"10.0.{number % 20}.{1 + number // 20}"]}],
            "listens": ["https", "ssh"], "host_filter": {"nftables": f"{machines}-{number}.json"},
        }  # fmt: skip
    return {"kiboko": 1, "networks": {"left": {"cidrs": ["10.0.0.0/16"]}},
            "subnets": {f"hall-{n}": {"network": "left", "cidr": f"10.0.{n}.0/24"} for n in range(20)},
            "instances": names}  # fmt: skip


def write_log(path: Path, senders: int) -> None:
    """A log of an edge: most of it is tried and stopped, by so many senders at most."""
    chance = random.Random(senders)
    known = [str(Address(4, stranger(chance))) for _ in range(senders)]
    time = 1_790_000_000_000
    with path.open("w") as out:
        out.write(HEADER + "\n")
        for _ in range(RECORDS):
            time += chance.randrange(20)
            answered = chance.random() < 0.3
            port = 443 if answered else chance.choice((22, 23, 80, 3389, chance.randrange(1, 65536)))
            flow = f"{time},{time + 90},{chance.choice(known)},203.0.113.{chance.randrange(1, 201)}"
            seen = "27,8,900,1" if answered else "2,1,60,3"
            out.write(f"{flow},{chance.randrange(1024, 65536)},{port},6,{seen}\n")


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        here = Path(folder)

        def kiboko(name: str, *words: str) -> Callable[[], object]:
            return command(sys.executable, "-m", "kiboko", *words, "-n", f"{name}.yaml", cwd=folder)

        for what, lists in (
            ("a block list of 20,000 / of 2,000", ((20_000, 0, 0), (2_000, 0, 0))),
            ("a firewall of 3,000 rules / of 300", ((1, 3_000, 0), (1, 300, 0))),
            ("20,000 learned routes / 2,000", ((1, 0, 20_000), (1, 0, 2_000))),
        ):
            for name, lengths in zip(("long", "short"), lists, strict=True):
                (here / f"{name}.yaml").write_text(json.dumps(crossroads(*lengths)))
            for words in (("check", "internet", "box-2", "https"), ("check", "any", "box-2", "any"),
                          ("check", "internet", "10.0.0.0/8", "any"), ("reach", "box-2"), ("matrix", "--by", "zone"),
                          ("audit",), ("rehearse", "--toggle", "wall/1")):  # fmt: skip
                report(f"{what}, {' '.join(words)}", *ratio(kiboko("long", *words), kiboko("short", *words), 3), None)
        write_log(here / "edge.csv", 4_000)
        asked = (
            ("check", "box-1", "box-2", "https"), ("check", "any", "box-2", "https"), ("show", "box-2"),
            ("reach", "box-2"), ("matrix", "--by", "zone"), ("audit",), ("confirm", "--flows", "edge.csv"),
        )  # fmt: skip
        for name, rules in (("long", 20_000), ("short", 2_000)):
            (here / f"{name}.yaml").write_text(json.dumps(of_groups(rules)))
        for words in asked:
            timed = ratio(kiboko("long", *words), kiboko("short", *words), 1)
            report(f"a firewall of 20,000 rules of groups / of 2,000, {' '.join(words)}", *timed, None)
        for name, machines in (("long", 1_500), ("short", 150)):
            (here / f"{name}.yaml").write_text(json.dumps(with_rule_sets(here, machines)))
        for words in (*asked[:4], ("matrix", "--by", "subnet"), ("audit",)):
            timed = ratio(kiboko("long", *words), kiboko("short", *words), 1)
            report(f"1,500 kernel rule sets / 150, {' '.join(words)}", *timed, None)
        (here / "plain.yaml").write_text(json.dumps(crossroads(2_000, 300, 0)))
        for name, senders in (("many.csv", 400_000), ("few.csv", 400)):
            write_log(here / name, senders)
        timed = ratio(
            kiboko("plain", "confirm", "--flows", "many.csv"), kiboko("plain", "confirm", "--flows", "few.csv"), 3
        )
        report(f"confirm of {RECORDS:,} records of up to 400,000 senders / of 400", *timed, None)


if __name__ == "__main__":
    main()
