"""The compiled evaluator against the one walk, record by record."""

import os
import random
import tempfile
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from unittest import mock

from kiboko.core.evidence.comparison import LEAK, Comparison, is_request, seen_behind
from kiboko.core.evidence.compiled import CompiledComparison, judged_alone
from kiboko.core.evidence.summary import Summary
from kiboko.core.header.addresses import Address, parse_address
from kiboko.core.header.services import ICMP, ICMP6, TCP, UDP, WITH_PORTS, Service
from kiboko.core.records.flow_table import table_of
from kiboko.core.records.records import DENIED, PASSED, SEEN, FlowRecord
from kiboko.core.records.signs import proves_passage
from kiboko.core.walk.walk import Walker
from kiboko.demo.data import write_demo
from kiboko.files.network.network_file import load_network
from tests.helpers import a_filter, base, load
from tests.random_networks import random_network

RECORDS = int(os.environ.get("KIBOKO_RECORDS", "3000"))
NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "8"))
REPRODUCERS = Path(__file__).resolve().parent.parent / "reproducers"
NOON = datetime(2026, 11, 20, 12, tzinfo=UTC)


def random_records(topology, chance, count):
    """Records between addresses and ports near every boundary of a network, half of them followed by a reply."""
    walker = Walker(topology)
    pool = {4: [], 6: []}
    for interface in walker.directory.interfaces():
        for address in interface.addresses:
            pool[address.family] += [address] * 4
    for address in walker.directory.public_addresses():
        pool[4] += [address] * 3
    for each in [*topology.outsides.values(), *topology.subnets.values()]:
        for prefix in getattr(each, "prefixes", None) or each.blocks:
            for value in (prefix.value, prefix.last, (prefix.value + prefix.last) // 2, prefix.value - 1):
                pool[prefix.family].append(Address(prefix.family, max(0, value)))
    ports = [22, 53, 80, 443, 8000, 32767, 32768, 40000, 45000, 47000, 49151, 50000, 60999, 61000, 0, 65535]
    points = [None, *topology.observation_points]
    records = []
    while len(records) < count:
        family = chance.choice((4, 4, 6))
        if not pool[family]:
            continue
        source, destination = chance.choice(pool[family]), chance.choice(pool[family])
        protocol = chance.choice((TCP, TCP, TCP, UDP, ICMP if family == 4 else ICMP6, 47))
        detail = chance.choice(ports) if protocol in WITH_PORTS else 0
        if protocol in (ICMP, ICMP6):
            detail = chance.choice((0, 8 << 8, 3 << 8 | 3, 128 << 8, 129 << 8, 1 << 8 | 4))
        port = chance.choice([*ports, chance.randrange(65536), None]) if protocol in WITH_PORTS else None
        flags = chance.choice((None, 0x02, 0x12, 0x1B, 0x14, 0x04)) if protocol == TCP else None
        start = NOON + timedelta(minutes=chance.randrange(-90, 90)) if chance.random() < 0.9 else None
        end = start + timedelta(minutes=chance.randrange(60)) if start and chance.random() < 0.8 else None
        made = FlowRecord(source, destination, Service(protocol, detail), port, chance.choice((PASSED, DENIED, SEEN)),
                          start, end, chance.randrange(9), chance.randrange(999), flags, chance.choice(points))  # fmt: skip
        records.append(made)
        if port is not None and chance.random() < 0.5:
            records.append(FlowRecord(
                destination, source, Service(protocol, port), detail, chance.choice((PASSED, PASSED, DENIED, SEEN)),
                start, end, 1, 60, chance.choice((None, 0x12, 0x1B, 0x14)) if protocol == TCP else None,
                chance.choice((made.point, chance.choice(points))),
            ))  # fmt: skip
    return records[:count]


def one_by_one(comparison, records):
    """The same by plain loops over the walk: each record judged alone, then again beside its request."""
    alone = [comparison.judge(record) for record in records]
    requests = {}
    for index, (record, finding) in enumerate(zip(records, alone, strict=True)):
        if record.service.has_ports and record.source_port is not None and is_request(record, finding):
            ports = (record.service.protocol, record.source_port, record.service.detail)
            behind = seen_behind(finding)
            for rank, ends in enumerate(((record.source, record.destination), behind)):
                if ends is not None and (rank == 0 or ends != (record.source, record.destination)):
                    requests.setdefault((*ends, *ports), []).append((rank, index))
    result = list(alone)
    for index, (record, finding) in enumerate(zip(records, alone, strict=True)):
        if not (record.service.has_ports and record.source_port is not None and comparison.may_reply(record, finding)):
            continue
        key = (record.destination, record.source, record.service.protocol, record.service.detail, record.source_port)
        if key not in requests:
            continue
        request = min(requests[key])[1]
        if request == index or (comparison.is_reply_by_ports(record) is not True and request > index):
            continue
        result[index] = comparison.judge_reply(record, alone[request])
        if alone[request].is_undecided and alone[request].status == "unsure" and proves_passage(record):
            result[request] = comparison.decided(alone[request])
    return result


def told(finding, by_name=True):
    """What is said of a record; `by_name` with the place of the gate that decides."""
    walk = finding.walk
    decider = finding.decider
    if not by_name:
        return (
            finding.status, finding.observed, finding.why.split(" behind ")[0], finding.is_reply, finding.different_signal,
            finding.before_as_of, finding.cause, finding.is_undecided, finding.is_bare_opening,
            walk is None, decider and (decider.direction, decider.gate, decider.filter, decider.rule, decider.action),
        )  # fmt: skip
    return (
        finding.status, finding.observed, finding.why.split(" behind ")[0], finding.is_reply, finding.different_signal,
        finding.before_as_of, finding.cause, walk and (walk.verdict, walk.signal),
        decider and (decider.direction, decider.gate, decider.at, decider.filter, decider.rule, decider.action),
    )  # fmt: skip


class Compiled(unittest.TestCase):
    few = -1
    """As many classes as are judged without tables: none here, so that all is told apart by them."""

    def setUp(self):
        patch = mock.patch("kiboko.core.evidence.compiled.FEW_CLASSES", self.few)
        patch.start()
        self.addCleanup(patch.stop)

    def compare(self, topology, records, seed):
        compiled_for = Comparison(Walker(topology))
        compiled = CompiledComparison(compiled_for)
        judged = compiled.judge(table_of(records))
        expected = one_by_one(Comparison(Walker(topology)), records)
        for index, (record, want) in enumerate(zip(records, expected, strict=True)):
            found = judged.findings[int(judged.code[index])]
            self.assertEqual(told(found, False), told(want, False), (seed, index, record))
            request = int(judged.request[index])
            asked = records[request] if request >= 0 else None
            decided = found.status == LEAK and want.is_undecided
            own = judged_alone(compiled_for, record, asked, decided)
            self.assertEqual(told(own), told(want), (seed, index, record))

    def test_random_networks_and_records_get_what_the_walk_says_record_by_record(self):
        for seed in range(NETWORKS):
            values = random_network(seed)
            values["as_of"] = "2026-11-20T12:00:00Z"
            names = [*values["subnets"], *values["outside"]]
            values["observation_points"] = dict(enumerate(names, 1)) if seed % 2 else {}
            topology = load(values)
            self.compare(topology, random_records(topology, random.Random(seed), RECORDS // 8), seed)

    def test_on_the_demo_with_its_kernel_rule_sets_and_on_reproducers(self):
        with tempfile.TemporaryDirectory() as folder:
            write_demo(Path(folder))
            paths = [Path(folder) / "network.yaml", *sorted(REPRODUCERS.glob("*/network.yaml"))]
            for number, path in enumerate(paths):
                topology = load_network(str(path))
                self.compare(
                    topology, random_records(topology, random.Random(number), 400 if not number else 120), path
                )

    def test_a_reply_is_judged_with_its_own_request_and_not_with_another_of_that_class(self):
        """Two addresses of the internet are one class; at a point met twice on the way it is by the addresses that a
        reply is known to have been taken on this side of the translation or on that."""
        values = random_network(1)
        values["observation_points"] = dict(enumerate([*values["subnets"], *values["outside"]], 1))
        own, one, other = map(parse_address, ("203.0.113.43", "127.255.255.255", "198.51.100.95"))
        records = [
            FlowRecord(own, one, Service(UDP, 40000), 47000, SEEN, point="1"),
            FlowRecord(own, other, Service(UDP, 40000), 47000, SEEN, NOON, NOON, point="1"),
            FlowRecord(other, own, Service(UDP, 47000), 40000, DENIED, NOON, NOON, point="1"),
        ]
        self.compare(load(values), records, 1)

    def test_a_scan_is_one_group_from_its_lowest_to_its_highest_port_whatever_came_first(self):
        values = base()
        values["filters"]["guard"] = a_filter(
            "instance",
            inbound=[{"order": 10, "action": "allow", "service": "tcp/30040"}],
            outbound=[{"action": "allow"}],
        )
        values["instances"]["dan"]["interfaces"][0]["filters"] = ["guard"]
        topology = load(values)
        ann, dan = parse_address("10.1.1.10"), parse_address("10.2.1.10")

        def record(port, source_port=40000):
            return FlowRecord(ann, dan, Service(TCP, port), source_port, PASSED, NOON, NOON, 1, 60, 0x02)

        comparison = Comparison(Walker(topology))
        compiled = CompiledComparison(comparison)
        summary = Summary(comparison.walker.directory)
        # Two tables as of two pieces: no rule tells the ports above 30040 apart, nor those below.
        for ports in ((30050, 30045, 30040, 30050), (30100, 30048, 30021)):
            for tally in compiled.tallies(table_of([record(port) for port in ports])):
                summary.take(tally.record, tally, lambda t=tally: comparison.judge(t.record))
        found = {(each.service, each.count) for each in summary.rows(("leak",))}
        self.assertEqual(found, {("tcp/30045-30100", 5), ("tcp/30021", 1)})
        self.assertEqual({each.service for each in summary.rows(("agree",))}, {"tcp/30040"})

    def test_a_record_comes_back_from_the_columns_as_it_was(self):
        topology = load(base())
        records = random_records(topology, random.Random(3), 200)
        table = table_of(records)
        self.assertEqual([table.record(index) for index in range(len(table))], records)


class WithoutTables(Compiled):
    """All of it again, with as many classes as there are judged by walks alone."""

    few = 1 << 40


if __name__ == "__main__":
    unittest.main()
