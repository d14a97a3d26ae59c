"""What `confirm` concludes of echo requests against what really happened, where everything was recorded, and less and
less of it: they have no ports by which one could be told from another.

The truth of a ping is the outcome of its probe. A finding is wrong where it is wrong of every ping that it may be of.
"""

import collections
import dataclasses
import random
import unittest

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
from tests.replica.odd_logs import OddLogs, fragment
from tests.replica.test_truth import (
    FIRST_NETWORK,
    NETWORKS,
    PROBES,
    TWICE,
    Truth,
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


class OddPings(OddLogs):
    """What may become of records of pings."""

    def __init__(self, chance):
        super().__init__((), (), chance)
        alike = ("all of it", "a third of the points", "points that nobody knows", "a file for each exporter, no points",
                 "exporters that record at several places each", "one-sided exporters beside others, no points",
                 "no replies", "only replies", "a quarter, sampled", "two clocks", "a clock an hour off",
                 "every capture twice", "biflows", "without a time", "without a word on what passed",
                 "denials alone")  # fmt: skip
        self.kinds = {name: self.kinds[name] for name in alike} | {
            "later fragments as well": large_in_fragments,
            "without types": lambda records: [with_type(r, UNTOLD) for r in records],
            "all of type 0": lambda records: [with_type(r, 0) for r in records],
        }

    def is_reply(self, record):
        return record.service.detail >> 8 == _REPLIES.get(record.service.protocol)


def with_type(record, detail):
    return dataclasses.replace(record, service=Service(record.service.protocol, detail))


def large_in_fragments(records):
    """Large packets, and their later fragments as an exporter has them that does not put packets together."""
    large = [dataclasses.replace(r, octets=1500 * r.packets) for r in records]
    cut = [r for r in large if r.service.protocol == ICMP and r.service.detail >> 8 in (0, 8)]  # errors are short
    return [*large, *map(fragment, cut)]


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
            odd = OddPings(chance)
            logs = [(name, kind(list(run.flows))) for name, kind in odd.kinds.items()]
            logs += [
                (" and ".join(names), few) for names, few in (odd.several(2, list(run.flows)) for _ in range(TWICE))
            ]
            for name, records in logs:
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
        # Not every network has a fault that lets a ping pass.
        for status in ("agree", "as far as seen", *([] if FIRST_NETWORK else ["leak"])):
            self.assertGreater(statuses["all of it"][status], 0, statuses)
        self.assertGreater(statuses["later fragments as well"]["unsure"], 0)


if __name__ == "__main__":
    unittest.main()
