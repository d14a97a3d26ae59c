"""What `confirm` concludes of echo requests against what really happened, where everything was recorded, and less and
less of it: they have no ports by which one could be told from another.

The truth of a ping is the outcome of its probe. A finding is wrong where it is wrong of every ping that it may be of.
"""

import collections
import dataclasses
import random
import unittest
from datetime import timedelta

from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.header.addresses import parse_address
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, UNTOLD, Service
from kiboko.core.walk.walk import Walker
from kiboko.replica.trials import Choice
from kiboko.replica.verify import verify
from tests.helpers import load
from tests.namespaces import why_not
from tests.random_networks import random_network
from tests.replica.test_truth import (
    FIRST_NETWORK,
    NETWORKS,
    PROBES,
    Truth,
    fragment,
    observed_everywhere,
    own,
    parse_services_of,
    random_faults,
    read_together,
)  # fmt: skip

_REPLIES = {ICMP: 0, ICMP6: 129}


class Pings(Truth):
    """What really happened to each ping of a run: who sent it, of which kind, to which address, and its outcome."""

    def __init__(self, topology, faults, probes):
        super().__init__(topology, faults, [])
        self.made = [
            (parse_address(each.sent_from), parse_services_of(each.service), parse_address(each.address), each.outcome)
            for each in probes if each.sent_from
        ]  # fmt: skip

    def walks(self, ping):
        sender, service, target, outcome = ping
        asked = (target, service, RangeSet.one(0))
        return outcome, *(w.walk(w.directory.endpoint(sender), *asked) for w in (self.rules, self.real))

    def between(self, sender, receiver, service):
        """The pings that one between two ends, by their own addresses, may have been."""
        gateway = self.rules.directory.shared_owner(sender)
        mine = [each for each in self.made if each[1] == service and own(self.rules, each[2]) == receiver]
        if gateway is None:
            return [each for each in mine if each[0] == sender]
        return [each for each in mine if self.leaves_by(gateway, each)]

    def leaves_by(self, gateway, ping):
        path = self.real.paths.forward(self.real.directory.endpoint(ping[0]), ping[2])
        return any(step.gate == "translate" and step.at == gateway.name for step in path.steps)


def is_reply(record):
    return record.service.detail >> 8 == _REPLIES.get(record.service.protocol)


def with_type(record, detail):
    return dataclasses.replace(record, service=Service(record.service.protocol, detail))


def reduced(records, chance):
    """The records as they are, and with something missing or odd, each by name."""
    yield "all of it", records
    points = sorted({record.point for record in records if record.point})
    kept = set(chance.sample(points, max(1, len(points) // 3))) if points else set()
    yield "a third of the points", [r for r in records if r.point in kept]
    yield "points that nobody knows", [dataclasses.replace(r, point=None) for r in records if r.point in kept]
    exporters = {point: str(number % 3) for number, point in enumerate(points)}
    bare = [dataclasses.replace(r, point=None, file=exporters.get(r.point, "0")) for r in records if r.point in kept]
    yield "a file for each exporter, no points", bare
    yield "one-sided exporters beside others, no points", [r for r in bare if r.file != "1" or not is_reply(r)]
    yield "no replies", [r for r in records if not is_reply(r)]
    yield "only replies", [r for r in records if is_reply(r)]
    yield "a quarter, sampled", [r for r in records if chance.random() < 0.25]
    ahead, hour = {point for point in points if chance.random() < 0.5}, timedelta(hours=1)
    yield (
        "a clock an hour off",
        [dataclasses.replace(r, start=r.start + hour, end=r.end + hour) if r.point in ahead else r for r in records],
    )
    large = [dataclasses.replace(r, octets=1500 * r.packets) for r in records]
    cut = [r for r in large if r.service.protocol == ICMP and r.service.detail >> 8 in (0, 8)]  # errors are short
    yield "later fragments as well", [*large, *map(fragment, cut)]
    yield "without types", [with_type(r, UNTOLD) for r in records]
    yield "all of type 0", [with_type(r, 0) for r in records]
    yield "without a time", [dataclasses.replace(r, start=None, end=None) for r in records]
    yield "without a word on what passed", [dataclasses.replace(r, event="seen") for r in records]


def conclusions(walker, records):
    """What each conversation of a log comes to: its sender and receiver by their own addresses, what was asked, what it
    comes to, and whether either end may have begun it."""
    if not records:
        return
    records, table = read_together(records)
    judged = Evaluator(Comparison(walker)).judge(table)
    for number, row in enumerate(judged.found.first.tolist()):
        ends = [own(walker, each) for each in (records[row].source, records[row].destination)]
        service = int(judged.asked.service[number])
        concluded = judged.concluded[int(judged.conclusion[row])]
        yield (*(ends[::-1] if judged.is_reply[row] else ends), Service(service >> 16, service & 0xFFFF),
               concluded, judged.found.began[number] < 0)  # fmt: skip


@unittest.skipIf(why_not(), why_not())
class AgainstTheKernel(unittest.TestCase):
    def test_no_agreement_leak_or_break_of_a_ping_is_wrong(self):
        statuses, wrong = collections.defaultdict(collections.Counter), collections.Counter()
        for seed in range(FIRST_NETWORK, FIRST_NETWORK + NETWORKS):
            chance = random.Random(seed)
            topology = observed_everywhere(load(random_network(seed)), chance)
            faults = random_faults(topology, chance)
            run = verify(topology, Choice(services=("ping",), most=PROBES, seed=seed), faults, True)
            pings = Pings(topology, faults, run.probes)
            for name, records in reduced(list(run.flows), chance):
                for sender, receiver, service, found, is_open in conclusions(Walker(topology), records):
                    may_be = pings.between(sender, receiver, service)
                    told = found
                    if is_open:  # and which gate is passed is that of one end or of the other
                        may_be += pings.between(receiver, sender, service)
                        told = dataclasses.replace(found, decider=None, is_shared=True)
                    if may_be:
                        statuses[name]["as far as seen" if found.as_far_as_seen else found.status] += 1
                        faults_of = [pings.fault_of(told, each) for each in may_be]
                        if None not in faults_of:
                            wrong[f"network {seed}, {name}: {faults_of[0]}"] += 1
        self.assertEqual({}, dict(wrong))
        for status in ("agree", "as far as seen", "leak"):
            self.assertGreater(statuses["all of it"][status], 0, statuses)
        self.assertGreater(statuses["later fragments as well"]["unsure"], 0)


if __name__ == "__main__":
    unittest.main()
