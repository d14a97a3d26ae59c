"""An estate: thousands of machines of which almost every pair is told apart by some rule, and what that costs.

`python bench/estate.py [INSTANCES] [RECORDS]` (10,000 and a million by default). Prints ratios of one run: `confirm` of
the estate's log against one of as many records on the demo's network, the same with a twentieth of the conversations,
two roles on any service against one pair, the second start against the first, the same with kernel rule sets on every
twentieth machine, flows by the tables against walks.
"""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

import flow_logs
import numpy as np
import pyarrow as pa
import pyarrow.csv
from confirming import peak
from measure import ratio, report, seconds

from kiboko.core.header.services import TCP, Service
from kiboko.core.tables.column import Flows
from kiboko.core.tables.gate_tables import GateTables
from kiboko.core.walk.walk import Walker
from kiboko.demo.data import write_demo
from kiboko.files.network.network_file import load_network

PORTS = [22, 25, 53, 80, 123, 161, 389, 443, 445, 514, 636, 1433, 1883, 3306, 3389, 5432, 5672, 6379, 8080, 8443, 8883,
         9092, 9100, 9200, *range(12001, 12027)]  # fmt: skip


class Estate:
    """A made-up estate: four networks of both families, subnets of fifty machines, filters of ten rules each."""

    def __init__(self, instances: int, rules: int, seed: int) -> None:
        self.chance = random.Random(seed)
        self.instances, self.filters = instances, max(10, rules // 10)
        self.subnets, self.roles = max(4, instances // 50), max(8, instances // 40)
        self.four: list[str] = []
        self.six: list[str] = []

    def peer(self) -> str:
        """Somebody whom a rule names."""
        kind = self.chance.random()
        if kind < 0.45:
            return f"role-{self.chance.randrange(self.roles)}"
        if kind < 0.65:
            return f"hall-{self.chance.randrange(self.subnets)}"
        return f"box-{self.chance.randrange(self.instances)}" if kind < 0.9 else "any"

    def rules(self, way: str, *, only_allow: bool = False) -> list[dict[str, Any]]:
        """Ten rules of one direction, with an end each."""
        made: list[dict[str, Any]] = []
        for number in range(1, 11):
            rule: dict[str, Any] = {"service": f"tcp/{self.chance.choice(PORTS)}"}
            rule |= {"id": f"r{number}"} if only_allow else {"order": number * 10}
            rule["action"] = "allow" if only_allow or self.chance.random() < 0.8 else "drop"
            peer = self.peer()
            if peer != "any":
                rule["from" if way == "inbound" else "to"] = peer
            made.append(rule)
        return made

    def network(self) -> dict[str, Any]:
        """The values of its network file."""
        chance, zones = self.chance, [f"floor-{number}" for number in range(5)]
        filters: dict[str, Any] = {}
        names: dict[str, list[str]] = {"instance": [], "subnet": [], "zone": [], "host": []}
        for number in range(self.filters):
            layer = ("instance", "instance", "subnet", "instance", "zone", "host")[number % 6]
            name = f"{layer}-{number}"
            names[layer].append(name)
            if layer == "zone":
                filters[name] = {"layer": layer, "decide": "first", "stateful": True, "rules": self.rules("inbound"),
                                 "otherwise": "allow"}  # fmt: skip
            elif layer == "subnet":
                back = [{"order": 900, "action": "allow", "service": ["tcp/1024-65535"]}]
                filters[name] = {"layer": layer, "decide": "first", "stateful": False,
                                 "inbound": [*self.rules("inbound"), *back],
                                 "outbound": [{"order": 1, "action": "allow"}]}  # fmt: skip
            else:
                decide = "any" if layer == "instance" and number % 2 else "first"
                filters[name] = {"layer": layer, "decide": decide, "stateful": True,
                                 "inbound": self.rules("inbound", only_allow=decide == "any")}  # fmt: skip
                if layer == "host":
                    filters[name]["otherwise"] = "allow"
        pairs = [(one, other) for one in zones for other in zones]
        for unused in names["zone"][len(pairs) :]:
            del filters[unused]
        tables = {
            f"table-{i}": [
                {"to": "0.0.0.0/0", "via": f"door-{i}"}, {"to": "::/0", "via": f"door-{i}"},
                *({"to": f"{block}", "via": f"bridge-{min(i, j)}-{max(i, j)}"}
                  for j in range(4) if j != i for block in (f"10.{j * 16}.0.0/12", f"2001:db8:{j}::/48")),
            ]
            for i in range(4)
        }  # fmt: skip
        return {
            "kiboko": 1,
            "networks": {f"site-{i}": {"cidrs": [f"10.{i * 16}.0.0/12", f"2001:db8:{i}::/48"]} for i in range(4)},
            "outside": {"internet": {"addresses": ["0.0.0.0/0", "::/0"], "zone": "street"}},
            "zones": {zone: {} for zone in (*zones, "street")},
            "gateways": {
                **{f"door-{i}": {"kind": "internet", "network": f"site-{i}"} for i in range(4)},
                **{f"bridge-{j}-{i}": {"kind": "peering", "networks": [f"site-{j}", f"site-{i}"]}
                   for i in range(4) for j in range(i)},
            },
            "route_tables": tables,
            "crossings": [{"from": a, "to": b, "filter": name} for (a, b), name in zip(pairs, names["zone"])],
            "groups": {f"role-{g}": {"where": {"role": f"r{g}"}} for g in range(self.roles)},
            "filters": filters,
            "subnets": {
                f"hall-{s}": {
                    "network": f"site-{s % 4}", "cidr": [self.block(s) + "0/24", f"2001:db8:{s % 4}:{s // 4:x}::/64"],
                    "zone": zones[s % 5], "route_table": f"table-{s % 4}", "filter": chance.choice(names["subnet"]),
                }
                for s in range(self.subnets)
            },
            "instances": {f"box-{h}": self.machine(h, names) for h in range(self.instances)},
        }  # fmt: skip

    def block(self, subnet: int) -> str:
        """The first three numbers of a subnet's addresses."""
        return f"10.{subnet % 4 * 16 + subnet // 4 // 256}.{subnet // 4 % 256}."

    def machine(self, number: int, names: dict[str, list[str]]) -> dict[str, Any]:
        """One machine: some have a host filter, a second interface, a public address."""
        chance, subnet = self.chance, number % self.subnets
        low = 4 + number // self.subnets
        four, six = self.block(subnet) + str(low), f"2001:db8:{subnet % 4}:{subnet // 4:x}::{low:x}"
        self.four.append(four)
        self.six.append(six)
        first = {"subnet": f"hall-{subnet}", "addresses": [four, six], "filters": chance.sample(names["instance"], 2)}
        if number % 50 == 0:
            first["public"] = f"198.{18 + (number // 50 >> 16)}.{number // 50 >> 8 & 255}.{number // 50 & 255}"
        machine: dict[str, Any] = {"tags": {"role": f"r{chance.randrange(self.roles)}"}, "interfaces": [first]}
        if number % 3 == 0:
            machine["host_filter"] = chance.choice(names["host"])
        if number % 2:
            machine["listens"] = [f"tcp/{port}" for port in chance.sample(PORTS, 12)]
        if number % 40 == 0:
            other = (subnet + 4) % self.subnets
            machine["interfaces"].append({"subnet": f"hall-{other}", "addresses": [self.block(other) + str(low + 120)]})
        return machine

    def log(self, path: Path, records: int, conversations: int, seed: int) -> None:
        """A log between its machines, of so many conversations, some in IPv6."""
        draw = np.random.default_rng(seed)
        source, target = (draw.integers(0, self.instances, conversations) for _ in range(2))
        port, six = draw.choice(PORTS, conversations), draw.random(conversations) < 0.2
        weight = 1 / np.arange(1, conversations + 1) ** 0.7
        more = draw.choice(conversations, max(0, records - conversations), p=weight / weight.sum())
        pick = np.concatenate([np.arange(min(records, conversations)), more])
        draw.shuffle(pick)
        four, long = np.array(self.four), np.array(self.six)
        start = flow_logs.BEGIN + np.sort(draw.integers(0, 3_600_000, records))

        def ends(which: np.ndarray) -> list[np.ndarray]:
            chosen = which[pick]
            return [np.where(six[pick], "", four[chosen]), np.where(six[pick], long[chosen], "")]

        near, far = ends(source), ends(target)
        pyarrow.csv.write_csv(pa.table({
            "flowStartMilliseconds": start, "flowEndMilliseconds": start + 400,
            "sourceIPv4Address": near[0], "sourceIPv6Address": near[1],
            "destinationIPv4Address": far[0], "destinationIPv6Address": far[1],
            "sourceTransportPort": draw.integers(32768, 61000, records), "destinationTransportPort": port[pick],
            "protocolIdentifier": np.full(records, TCP), "tcpControlBits": draw.choice([2, 27], records),
            "packetDeltaCount": np.full(records, 3), "octetDeltaCount": np.full(records, 180),
            "firewallEvent": draw.choice([0, 1, 3], records),
        }), path, pyarrow.csv.WriteOptions(quoting_style="none"))  # fmt: skip


def large_sets(values: dict[str, Any], instances: int) -> dict[str, Any]:
    """A thousand machines of each side, and all services that the rules name."""
    left, right = ([f"box-{number}" for number in range(at, at + 1_000)] for at in (0, instances // 2))
    return {
        "groups": values["groups"] | {"left": {"members": left}, "right": {"members": right}},
        "services": {"fifty": [f"tcp/{port}" for port in PORTS]},
    }


def sets_of_thousands(folder: Path, pair: list[str], cache: Path) -> None:
    """A thousand by a thousand machines, rule by rule and as a matrix, whole processes less one of a single pair."""
    one = seconds(lambda: run(pair))

    def told(what: str, *words: str) -> None:
        took = seconds(lambda: run(program(folder, *words, cache=cache)))
        print(f"1,000 by 1,000 machines, {what}: {took - one:.1f} s beyond one pair (bar 5)", flush=True)

    for service in ("tcp/443", "fifty"):
        told(f"check on {service}", "check", "left", "right", service)
    services = [word for port in PORTS for word in ("--service", f"tcp/{port}")]
    told("matrix on fifty services, both ways and each with itself", "matrix", "--by", "left,right", *services)


def everyday(folder: Path, values: dict[str, Any], pair: list[str], many: list[str], cache: Path) -> None:
    """What is asked every day, as whole commands: of one machine, of a log, of one rule that is switched."""
    chosen = next(name for name, each in values["filters"].items() if each["layer"] == "subnet" and each.get("inbound"))
    orders = [each.get("order", number) for number, each in enumerate(values["filters"][chosen]["inbound"], 1)]
    rule, widest = f"{chosen}/inbound/{orders[0]}", f"{chosen}/inbound/{orders[-1]}"
    machine, changed = values["instances"]["box-7"], folder / "changed.yaml"
    other = {**values["instances"], "box-7": machine | {"tags": {"role": "r3"}}}
    changed.write_text(json.dumps(json.loads((folder / "network.yaml").read_text()) | {"instances": other}))
    for what, *words in (
        ("show of one machine", "show", "box-7"),
        ("rehearsal of one rule switched", "rehearse", "--toggle", rule),
        ("rehearsal of the rule that lets in most", "rehearse", "--toggle", widest),
        ("rehearsal of a file in which one machine is of another role", "rehearse", str(changed)),
        ("check of a pair with what each fix does besides", "check", "box-1", "box-7", "tcp/443", "--fixes"),
        ("reach of one machine", "reach", "box-7"),
    ):
        command = program(folder, *words, cache=cache)
        took = min(seconds(lambda command=command: run(command)) for _ in range(2))
        print(f"{what}: {took - seconds(lambda: run(pair)):.1f} s beyond one pair", flush=True)
    log = str(folder / "many.csv")
    for what, *words in (("sums of the log", "flows", log), ("rules that it met", "flows", "--rules", log)):
        command = program(folder, *words, cache=cache)
        report(f"{what} / confirm of it", *ratio(lambda command=command: run(command), lambda: run(many), 3), None)
    whole = seconds(lambda: run([*many, "--json"]))
    print(
        f"the report of it as JSON: {whole:.0f} s, {whole / seconds(lambda: run(many)):.0f} times as long as its text"
    )


def program(folder: Path, *words: str, cache: Path) -> list[str]:
    """Time the program by this: a command line in a folder, with a cache of its own."""
    os.environ["KIBOKO_CACHE"] = str(cache)
    return [sys.executable, "-m", "kiboko", *words, "-n", str(folder / "network.yaml")]


def run(command: list[str]) -> object:
    """A whole process."""
    return subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)


def rule_set(chance: random.Random) -> str:
    """What the kernel lists of one machine's rule set: known connections, ICMPv6 (without which nobody finds it over
    IPv6), ssh from one block, two services, no mail."""

    def rule(chain: str, *statements: dict[str, Any]) -> dict[str, Any]:
        return {"rule": {"family": "inet", "table": "fw", "chain": chain, "handle": 1, "expr": list(statements)}}

    def match(left: dict[str, Any], right: object) -> dict[str, Any]:
        return {"match": {"op": "==", "left": left, "right": right}}

    def field(protocol: str, name: str) -> dict[str, Any]:
        return {"payload": {"protocol": protocol, "field": name}}

    block = {"prefix": {"addr": f"10.{chance.randrange(0, 64, 16)}.0.0", "len": 12}}
    ports = field("tcp", "dport")
    chains = [
        {
            "chain": {
                "family": "inet",
                "table": "fw",
                "name": hook,
                "handle": 1,
                "type": "filter",
                "hook": hook,
                "prio": 0,
                "policy": policy,
            }
        }
        for hook, policy in (("input", "drop"), ("output", "accept"))
    ]
    known = {"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": ["established", "related"]}}
    rules = [
        rule("input", known, {"accept": None}),
        rule("input", match({"meta": {"key": "l4proto"}}, "ipv6-icmp"), {"accept": None}),
        rule("input", match(field("ip", "saddr"), block), match(ports, 22), {"accept": None}),
        *(rule("input", match(ports, port), {"accept": None}) for port in chance.sample(PORTS, 2)),
        rule("output", match(field("ip", "daddr"), block), match(ports, 25), {"drop": None}),
    ]  # fmt: skip
    return json.dumps({"nftables": [{"table": {"family": "inet", "name": "fw", "handle": 1}}, *chains, *rules]})


def with_kernel_rule_sets(folder: Path, made: Path, cache: Path) -> None:
    """The same estate where every twentieth machine has a kernel rule set of its own."""
    chance = random.Random(3)
    other = made / "with-rule-sets"
    (other / "hosts").mkdir(parents=True)
    values = json.loads((folder / "network.yaml").read_text())
    for name in list(values["instances"])[::20]:
        (other / "hosts" / f"{name}.json").write_text(rule_set(chance))
        values["instances"][name]["host_filter"] = {"nftables": f"hosts/{name}.json"}
    (other / "network.yaml").write_text(json.dumps(values))
    log = str(folder / "many.csv")
    for what, *words in (
        ("check of two roles", "check", "role-1", "role-2", "any"), ("reach of one machine", "reach", "box-7"),
        ("confirm of the log", "confirm", "--flows", log),
    ):  # fmt: skip
        commands = [program(each, *words, cache=cache) for each in (other, folder)]
        run(commands[0])
        found = ratio(lambda commands=commands: run(commands[0]), lambda commands=commands: run(commands[1]), 3)
        report(f"{what}, with kernel rule sets / without", *found, None)


def tables_against_walks(path: Path) -> None:
    """Random flows judged by the tables, and some of them by the walk."""
    walker = Walker(load_network(str(path)))
    tables = GateTables(walker)
    draw = np.random.default_rng(4)
    atoms = np.array([tables.addresses.atom(each.addresses[0]) for each in walker.directory.interfaces()], np.int32)
    count, few = 200_000, 500
    flows = Flows(draw.choice(atoms, count), draw.choice(atoms, count), (TCP << 16) + draw.choice(PORTS, count),
                  draw.integers(32768, 61000, count))  # fmt: skip
    first = seconds(lambda: tables.gates(flows.taken(slice(0, few))))
    by_tables = seconds(lambda: tables.judge(flows)) / count
    by_walks = seconds(lambda: [tables.walk(flows, row) for row in range(few)]) / few
    print(f"a flow by the tables: {by_tables * 1e6:.1f} us, by the walk {by_walks * 1e6:.0f} us, ratio"
          f" {by_walks / by_tables:.0f}; making what the first {few} need took {first:.2f} s")  # fmt: skip
    service = Service(TCP, 443)
    assert walker.walk(tables.places.end(int(atoms[0])).endpoint, tables.addresses.first(int(atoms[1])), service)


def main() -> None:
    instances = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    records = int(sys.argv[2]) if len(sys.argv) > 2 else 1_000_000
    with tempfile.TemporaryDirectory() as made:
        folder, demo = Path(made) / "estate", Path(made) / "demo"
        folder.mkdir()
        estate = Estate(instances, 2_000, 7)
        values = estate.network()
        (folder / "network.yaml").write_text(json.dumps(values | large_sets(values, instances)))
        estate.log(folder / "many.csv", records, records // 5, 1)
        estate.log(folder / "few.csv", records, records // 100, 2)
        write_demo(demo)
        flow_logs.write(demo / "log.csv", records)
        cache = Path(made) / "cache"
        pair = program(folder, "check", "box-1", "box-7", "tcp/443", cache=cache)
        first = seconds(lambda: run(pair))
        again, small, times = ratio(
            lambda: run(pair), lambda: run(program(demo, "check", "relay-1", "ingest-1", "telemetry", cache=cache)), 5
        )
        report("one pair on the estate, second start / the same on the demo", again, small, times, 3.0)
        print(f"its first start, the network file read: {first:.1f} s")
        roles = program(folder, "check", "role-1", "role-2", "any", cache=cache)
        report("two roles on any service / one pair", *ratio(lambda: run(roles), lambda: run(pair), 3), 1.5)
        unkept = [[*words, "--no-cache"] for words in (roles, pair)]
        found = ratio(lambda: run(unkept[0]), lambda: run(unkept[1]), 3)
        report("the same where the network file is read anew each time", *found, 1.5)
        sets_of_thousands(folder, pair, cache)
        many = program(folder, "confirm", "--flows", str(folder / "many.csv"), cache=cache)
        few = program(folder, "confirm", "--flows", str(folder / "few.csv"), cache=cache)
        on_demo = program(demo, "confirm", "--flows", str(demo / "log.csv"), cache=cache)
        report(
            f"confirm {records:,} records on the estate / on the demo",
            *ratio(lambda: run(many), lambda: run(on_demo), 3),
            2.0,
        )
        report("20 times the conversations / one time", *ratio(lambda: run(many), lambda: run(few), 3), 1.5)
        print(f"peak memory of confirm on the estate: {peak(many, str(folder))} MiB (bar 1536)")
        everyday(folder, values, pair, many, cache)
        with_kernel_rule_sets(folder, Path(made), cache)
        tables_against_walks(folder / "network.yaml")


if __name__ == "__main__":
    main()
