"""The evaluator held to a plain judge that takes one conversation at a time and walks it; and its bounds."""

import itertools
import operator
import os
import random
import tempfile
import unittest
from collections import Counter
from datetime import UTC, datetime, timedelta
from pathlib import Path
from unittest import mock

import numpy as np

from kiboko.core.evidence import flow_numbers
from kiboko.core.evidence.asking import Asking, RecordedEnds
from kiboko.core.evidence.brought_together import bring_together
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.known_ports import KnownPorts, sent_to
from kiboko.core.header.addresses import Address, AddressSet, Prefix
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, TCP, UDP, WITH_PORTS, Service, parse_services
from kiboko.core.records.flow_table import AddressTable, table_of
from kiboko.core.records.records import DENIED, PASSED, SEEN, FlowRecord
from kiboko.core.walk.walk import Walker
from kiboko.demo.data import write_demo
from kiboko.files.network.network_file import load_network
from tests.helpers import base, load
from tests.plain_judge import PlainJudge
from tests.random_networks import random_network

RECORDS = int(os.environ.get("KIBOKO_RECORDS", "1500"))
NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "4"))
REPRODUCERS = Path(__file__).resolve().parent.parent / "reproducers"
NOON = datetime(2026, 11, 20, 12, tzinfo=UTC)
PORTS = (22, 53, 80, 443, 8000, 32767, 32768, 40000, 45000, 47000, 49151, 50000, 60999, 61000, 0, 65535)

_ECHO_REPLIES = {(ICMP, 8 << 8): 0, (ICMP6, 128 << 8): 129 << 8}


def addresses_of(topology):
    """Addresses near every boundary of a network, by family; those of interfaces and public ones more often."""
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
    return pool


def random_records(topology, chance, count):
    """Records of conversations whose parts were seen at random, at random points: requests, replies, resets, echoes."""
    pool, points = addresses_of(topology), [None, None, *topology.observation_points]
    walker = Walker(topology)
    records = []
    while len(records) < count:
        family = chance.choice((4, 4, 6))
        if not pool[family]:
            continue
        source, destination = chance.choice(pool[family]), chance.choice(pool[family])
        protocol = chance.choice((TCP, TCP, TCP, UDP, ICMP if family == 4 else ICMP6, 47))
        detail = chance.choice(PORTS) if protocol in WITH_PORTS else 0
        if protocol in (ICMP, ICMP6):
            detail = chance.choice((0, 8 << 8, 3 << 8 | 3, 128 << 8, 129 << 8, 1 << 8 | 4, 135 << 8, 136 << 8))
        port = chance.choice([*PORTS, chance.randrange(1024, 65536)]) if protocol in WITH_PORTS else None
        unrecorded = chance.choice((None, None, None, 0, -1)) if protocol in WITH_PORTS else None
        begin = NOON + timedelta(milliseconds=chance.randrange(-3_600_000, 3_600_000))
        for _ in range(chance.choice((1, 1, 2, 2, 3, 5))):
            is_echo = (protocol, detail) in _ECHO_REPLIES
            turned = (port is not None or is_echo) and chance.random() < 0.5
            ends, ports = ((destination, source), (detail, port)) if turned else ((source, destination), (port, detail))
            if unrecorded is not None:  # the client's port, by an exporter that leaves it out, or has 0 for it
                ports = (detail, 0) if turned else (None if unrecorded else 0, detail)
            if chance.random() < 0.3:  # seen on the other side of a gateway
                ends = tuple(moved(walker, each) for each in ends)
            flags = (
                chance.choice((None, 0, 0x02, 0x12, 0x1B, 0x1B, 0x14, 0x16, 0x1E, 0x04, 0x10))
                if protocol == TCP
                else None
            )
            start = begin + timedelta(milliseconds=chance.choice((0, 1, 40, 900, 5000, 400_000)))
            event = chance.choice((PASSED, PASSED, DENIED, SEEN))
            packets = chance.choice((*range(9), 40))
            octets = chance.choice((chance.randrange(999), 84 * packets)) if is_echo else chance.randrange(999)
            if chance.random() < 0.1:  # by an exporter that takes one packet of a thousand
                packets, octets = packets * 1000, octets * 1000
            told = ports[1] if port is not None else _ECHO_REPLIES[protocol, detail] if turned else detail
            records.append(FlowRecord(
                *ends, Service(protocol, told), ports[0] if port is not None else None, event, start,
                start + timedelta(milliseconds=chance.randrange(60_000)), packets, octets, flags,
                chance.choice(points), len(records) + 1,
            ))  # fmt: skip
    return records[:count]


def moved(walker, address):
    """The address that an end has on the other side of its gateway, where it has one."""
    owner = walker.directory.public_owner(address)
    if owner is not None:
        return owner.address(address.family) or address
    owner = walker.directory.interface_at(address)
    return owner.public if owner is not None and owner.public is not None and owner.address(4) == address else address


class AskedAbout(unittest.TestCase):
    """Questions about a table look at each distinct address once; here each conversation is looked at by itself."""

    def test_conversations_that_are_asked_about_and_others_between_the_same_ends(self):
        met, beside = 0, Counter()
        for seed in range(4):
            chance, topology = random.Random(seed), load(random_network(seed))
            table = table_of(random_records(topology, chance, 300))
            evaluator = Evaluator(Comparison(Walker(topology)))
            judged = evaluator.judge(table)
            sender, target = evaluator.ends_of(table, judged)
            known = RecordedEnds(judged, (sender, target))
            bears = [each for some in addresses_of(topology).values() for each in some]
            of = judged.found.of.tolist()
            for _ in range(60):
                some, others, more, apart, shared = (
                    {each for each in bears if chance.random() < share} for share in (0.3, 0.6, 0.1, 0.05, 0.05)
                )
                services = chance.choice([parse_services("any"), parse_services("ssh"), parse_services("tcp/1-1000")])
                ports = chance.choice([None, None, RangeSet.of([(0, 40000)])])
                kinds = [AddressSet.of_addresses(each) for each in (some - shared, others, more, apart, shared)]
                asking = Asking(kinds[0], kinds[1], services, ports, (kinds[2], kinds[2]), (kinds[0], kinds[3]),
                                shared=kinds[4])  # fmt: skip

                def is_on(service, port, services=services, ports=ports):
                    return service in services and (ports is None or port < 0 or port in ports)

                told = Counter()
                mine, some = set(), some - shared
                for each in range(len(sender)):
                    ends = sender[each], target[each]
                    service, port = int(judged.asked.service[each]), int(judged.asked.port[each])
                    if judged.found.began[each] < 0 and ends[1] in some and ends[0] in others:
                        ported = service >> 16 in (6, 17, 132)
                        turned = (service, port)
                        if ported:  # neither port 0 nor none is one
                            client = service & 0xFFFF if port > 0 and service & 0xFFFF else -1
                            turned = (service & ~0xFFFF | max(port, 0), client)
                        mine |= {each} if is_on(*turned) else set()
                    on = is_on(service, port)
                    if on and ends[0] in some and ends[1] in others and ends[1] not in apart:
                        mine.add(each)
                    wide = (some | more | shared, others | more)
                    if each not in mine and (ends[0] in wide[0] and ends[1] in wide[1]):
                        behind = on and ends[0] in shared and ends[1] in others
                        told[each] = 3 if behind else 2 if on else 1
                    elif each not in mine and ends[1] in wide[0] and ends[0] in wide[1]:
                        told[each] = 1
                wanted = np.array([chance.random() < 0.7 for _ in of])
                recorded = asking.recorded(known, wanted)
                self.assertEqual(np.flatnonzero(asking.conversations(known)).tolist(), sorted(mine))
                self.assertEqual(
                    recorded.rows.tolist(), [row for row, each in enumerate(of) if each in mine and wanted[row]]
                )
                counts = Counter(told[each] for row, each in enumerate(of) if wanted[row])
                self.assertEqual(recorded.beside, tuple(counts[kind] for kind in (1, 2, 3)))
                met += len(mine)
                beside += +counts
        self.assertTrue(all(beside[kind] > 50 for kind in (1, 2, 3)), beside)
        self.assertGreater(met, 500)

    def test_of_a_table_without_records_there_is_none(self):
        evaluator = Evaluator(Comparison(Walker(load(base()))))
        table = table_of([])
        judged = evaluator.judge(table)
        known = RecordedEnds(judged, evaluator.ends_of(table, judged))
        everything = AddressSet.of_prefixes([Prefix(4, 0, 0)])
        asking = Asking(everything, everything, parse_services("any"))
        nothing = asking.recorded(known, np.zeros(0, dtype=np.bool_)).rows
        self.assertEqual((nothing.tolist(), asking.conversations(known).tolist()), ([], []))


class AgainstThePlainJudge(unittest.TestCase):
    def hold(self, topology, seed, count=RECORDS):
        records = random_records(topology, random.Random(seed), count)
        expected = PlainJudge(Walker(topology)).judged(records)
        evaluator = Evaluator(Comparison(Walker(topology)))
        if seed % 2:  # as one that records come to live
            evaluator.prepare()
        judged = evaluator.judge(table_of(records))
        met = {}
        for record, (status, why), code in zip(records, expected, judged.conclusion.tolist(), strict=True):
            found = judged.concluded[code]
            self.assertEqual((status, True), (found.status, found.why.startswith(why)), f"{why!r} {found}\n{record}")
            met[found.why] = met.get(found.why, 0) + 1
        return met

    def test_on_random_networks_every_record_gets_the_status_and_the_reason_of_the_plain_judge(self):
        met = {}
        for seed in range(NETWORKS):
            with self.subTest(seed=seed):
                for why, count in self.hold(load(random_network(seed)), seed).items():
                    met[why] = met.get(why, 0) + count
        self.assertGreater(len(met), 20, "the networks and records are varied enough to meet most reasons")

    def test_pieces_one_after_another_are_judged_as_each_is_by_itself(self):
        for seed, most in itertools.product(range(3), (flow_numbers._MOST_FLOWS, 5)):
            topology = load(random_network(seed))
            records, walker = random_records(topology, random.Random(seed), 300), Walker(topology)
            going_on = Evaluator(Comparison(walker))
            with mock.patch.object(flow_numbers, "_MOST_FLOWS", most):
                for at in range(5):
                    table = table_of(records[at::5] + records[:at])
                    once, again = Evaluator(Comparison(walker)).judge(table), going_on.judge(table)
                    told = [[each.concluded[code] for code in each.conclusion.tolist()] for each in (once, again)]
                    self.assertEqual(*told, (seed, most, at))

    def test_addresses_that_were_chosen_to_look_alike_are_two_ends_all_the_same(self):
        """One may choose the lower half of an address of IPv6 so that a hash of both halves is that of another."""
        ends = Evaluator(Comparison(Walker(load(base())))).ends
        mask, odd = (1 << 64) - 1, 0xBF58476D1CE4E5B9
        high, low, other = 0x20010DB800000001, 0x10, 0x20010DB800000002
        chosen = (low ^ (high + 6) * odd ^ (other + 6) * odd) & mask
        pair = [Address(6, high << 64 | low), Address(6, other << 64 | chosen)]
        one, two, again = ends.identities(AddressTable.of([*pair, pair[0]])).tolist()
        self.assertEqual((one != two, one == again), (True, True))

    def test_what_the_records_of_conversations_come_to_is_what_a_loop_finds(self):
        chance = np.random.default_rng(3)
        topology = load(random_network(2))
        comparison = Comparison(Walker(topology))
        evaluator = Evaluator(comparison)
        records = random_records(topology, random.Random(3), 400)
        records += records[:40] * 4  # some conversations of very many records
        random.Random(4).shuffle(records)
        table = table_of(records)
        found = bring_together(table, evaluator.ends, KnownPorts(sent_to(comparison.walker.topology)))
        values = chance.integers(0, 1 << 30, len(table))
        for name, together in (("union", operator.or_), ("least", min), ("most", max)):
            expected = {}
            for of, value in zip(found.of.tolist(), values.tolist(), strict=True):
                expected[of] = together(expected[of], value) if of in expected else value
            self.assertEqual(getattr(found, name)(values).tolist(), [expected[of] for of in range(len(found))], name)
        sizes = np.bincount(found.of)
        self.assertTrue({1, 2, 3, 4} < set(sizes.tolist()) and sizes.max() > 8, sizes)

    def test_on_the_demo(self):
        with tempfile.TemporaryDirectory() as folder:
            write_demo(Path(folder))
            self.hold(load_network(str(Path(folder, "network.yaml"))), 5)

    def test_on_every_reproducer(self):
        for path in sorted(REPRODUCERS.glob("*/network.yaml")):
            with self.subTest(path.parent.name):
                self.hold(load_network(str(path)), 3, 300)


if __name__ == "__main__":
    unittest.main()
