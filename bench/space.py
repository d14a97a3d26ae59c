"""The whole space of an estate: what reach, matrix, audit and covering cost, and how it grows.

`python bench/space.py [INSTANCES]` (10,000 by default; beside it a tenth of them). Prints seconds of one run in this
process and the growth; peak memory is that of the largest process.
"""

from __future__ import annotations

import json
import random
import resource
import sys
import tempfile
from datetime import date
from pathlib import Path
from typing import Any

from estate import Estate
from measure import seconds

from kiboko.batch.spanning import matrix_of, spread
from kiboko.core.audit.audit import audit
from kiboko.core.audit.covering import Boxes, Sides
from kiboko.core.changes.difference import difference
from kiboko.core.changes.rehearsing import rehearse
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.edits import toggled_rule
from kiboko.core.network.model import Topology
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.reachability.matrix import MatrixQuestion, axis_names, usual_services
from kiboko.core.reachability.reach import ReachQuestion, reach
from kiboko.core.walk.walk import Walker
from kiboko.files.network.network_file import load_network

RULES, SERVICES, BOXES = 2000, 50, 10_000


def loaded(values: dict[str, Any]) -> Topology:
    """A network of some values."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "network.yaml"
        path.write_text(json.dumps(values))
        return load_network(str(path))


def estate(instances: int) -> Topology:
    """A made-up estate, loaded."""
    return loaded(Estate(instances, RULES, 5).network())


def after_a_change(instances: int) -> Topology:
    """The same after an evening's work: a rule of fifteen filters is on another service, for anybody, or gone; five
    machines have another role, and a route between two sites is missing."""
    values, chance = Estate(instances, RULES, 5).network(), random.Random(5)
    named = [name for name, each in values["filters"].items() if each["layer"] in ("instance", "subnet")]
    for number, name in enumerate(chance.sample(named, 15)):
        rules = values["filters"][name]["inbound"]
        rule = chance.choice(rules[:10])
        if number % 3 == 0:
            rule["service"] = "tcp/22"
        elif number % 3 == 1:
            rule.pop("from", None)
        else:
            rules.remove(rule)
    for name in chance.sample(list(values["instances"]), 5):
        values["instances"][name]["tags"]["role"] = "r3"
    del values["route_tables"]["table-0"][3]
    return loaded(values)


def compared(old: Topology, new: Topology) -> None:
    """Every verdict that such a change turns, on anything."""
    difference(*(Ends(Walker(each)) for each in (old, new)), resolve_service("any", {}), spread=spread)


def told(what: str, took: float, bar: float | None = None) -> float:
    """Print a line."""
    print(f"{what}: {took:.2f} s{f' (bar {bar:g})' if bar is not None else ''}", flush=True)
    return took


def matrix(topology: Topology) -> None:
    """All pairs of IPv4 on fifty services."""
    ends = Ends(Walker(topology))
    question = MatrixQuestion(ends, axis_names(ends, "group"), usual_services(ends, SERVICES), 4)
    matrix_of(question)


def reach_one(topology: Topology) -> None:
    """Everything that reaches one machine on anything."""
    ends = Ends(Walker(topology))
    name = list(topology.instances)[7]
    reach(ends, ReachQuestion(ends.resolve(name), resolve_service("any", topology.services)))


def rehearse_one(topology: Topology) -> None:
    """What one rule of a subnet filter does, on anything, and the findings that it brings and ends."""
    chosen = next(each for each in topology.filters.values() if each.layer == "subnet" and each.inbound)
    assert chosen.inbound
    walker = Walker(topology)
    after = toggled_rule(topology, f"{chosen.name}/inbound/{chosen.inbound[0].name}")
    every = resolve_service("any", topology.services)
    rehearse(Ends(walker), Ends(walker.on(after)), every, None, date.today(), [])


def some(chance: random.Random, most: int) -> RangeSet:
    """A random range."""
    low, high = sorted((chance.randrange(most), chance.randrange(most)))
    return RangeSet.span(low, high)


def block(chance: random.Random) -> RangeSet:
    """A block of addresses as rules name them."""
    length = chance.choice((0, 4, 8))
    first = chance.randrange(1 << 20) << length
    return RangeSet.span(first, first + (1 << length) - 1)


def random_boxes(chance: random.Random) -> list[Sides]:
    """Rules that match any range of sources, destinations, ports of TCP and client ports."""
    return [(some(chance, 1 << 32), some(chance, 1 << 32),
             RangeSet.of((6 << 16 | low, 6 << 16 | high) for low, high in some(chance, 1 << 16)), some(chance, 1 << 16))
            for _ in range(BOXES)]  # fmt: skip


def usual_boxes(chance: random.Random) -> list[Sides]:
    """Rules as people write them: from somebody or anybody, to a block, on one service."""
    every = RangeSet.span(0, (1 << 32) - 1)
    ports = (22, 80, 443, 3306)
    return [(every if chance.random() < 0.2 else block(chance), block(chance),
             RangeSet.one(6 << 16 | (chance.choice(ports) if chance.random() < 0.8 else chance.randrange(1 << 16))),
             RangeSet.span(0, 1 << 16)) for _ in range(BOXES)]  # fmt: skip


def covering(rules: list[Sides]) -> None:
    """Every rule of a filter held against those before it."""
    boxes = Boxes(rules)
    for number in range(len(boxes)):
        boxes.covered(number, range(number))


def main(instances: int) -> None:
    """Print all of it."""
    for name, made in (("as people write them", usual_boxes), ("at random", random_boxes)):
        rules = made(random.Random(1))
        told(f"covering over one filter of {BOXES:,} rules {name}", seconds(lambda rules=rules: covering(rules)), 10)
    small, large = estate(instances // 10), estate(instances)
    told(f"reach of one machine of {instances:,}", seconds(lambda: reach_one(large)), 3)
    few = told(f"matrix of {instances // 10:,} machines on {SERVICES} services, IPv4", seconds(lambda: matrix(small)))
    many = told(f"matrix of {instances:,} machines on {SERVICES} services, IPv4", seconds(lambda: matrix(large)), 30)
    print(f"growth for ten times the machines: {many / few:.1f} times (bar 12)", flush=True)
    few = told(f"audit of {instances // 10:,} machines", seconds(lambda: audit(Ends(Walker(small)), date.today())))
    many = told(f"audit of {instances:,} machines", seconds(lambda: audit(Ends(Walker(large)), date.today())), 60)
    print(f"growth for ten times the machines: {many / few:.1f} times", flush=True)
    after = [after_a_change(count) for count in (instances // 10, instances)]
    few = told(f"comparing {instances // 10:,} machines before and after an evening's work",
               seconds(lambda: compared(small, after[0])))  # fmt: skip
    many = told(f"comparing {instances:,} machines likewise", seconds(lambda: compared(large, after[1])))
    print(f"growth for ten times the machines: {many / few:.1f} times", flush=True)
    told(f"rehearsing one rule of {instances:,} machines", seconds(lambda: rehearse_one(large)), 5)
    peak = max(resource.getrusage(who).ru_maxrss for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
    print(f"peak memory of the largest process: {peak / 1e6:.2f} GB (bar 2)", flush=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 10_000)
