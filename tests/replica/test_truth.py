"""What `confirm` concludes against what really happened: random networks with random faults rebuilt in the kernel, real
packets, everything recorded at every point, and then less and less of it.

The truth of a conversation is the outcome of its probe, and the walk of the network as it was really built. A finding is
wrong where it says that both agree and they do not, or that they do not and they do.
"""

import collections
import dataclasses
import os
import random
import tempfile
import unittest
from datetime import timedelta
from pathlib import Path
from unittest import mock

import numpy as np

from kiboko.batch.heard_out import heard_out
from kiboko.batch.ticket import CONFIRMED, CONTRADICTED, Ticket
from kiboko.core.evidence import watch as watching
from kiboko.core.evidence.asking import Asker, Beside, RecordedEnds
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.finding_groups import FindingGroup
from kiboko.core.evidence.summary import Summary
from kiboko.core.evidence.watch import Watch
from kiboko.core.header.addresses import AddressSet, parse_address
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service, parse_services
from kiboko.core.network.model import ObservationPoint
from kiboko.core.records.flow_table import joined, table_of
from kiboko.core.walk.walk import Walker
from kiboko.files.logs import flow_pieces
from kiboko.files.logs.window_reader import WindowReader
from kiboko.files.logs.windows import windows_of
from kiboko.files.store.flow_export import write_tables
from kiboko.replica.faults import Fault, as_built, check_faults
from kiboko.replica.trials import Choice
from kiboko.replica.verify import verify
from tests.helpers import load, while_some_hold
from tests.namespaces import why_not
from tests.random_networks import random_network, varied_network
from tests.replica.odd_logs import CHANGED_PORTS, OddLogs, changed, parts_of

NETWORKS = int(os.environ.get("KIBOKO_TRUTH", "2"))
FIRST_NETWORK = int(os.environ.get("KIBOKO_FIRST_NETWORK", "0"))
PROBES = 250
SERVICES = ("ssh", "tcp/80", "udp/53"), ("tcp/7001", "tcp/40080", "udp/40053")
"""What is asked for: of one network services by whose ports everybody knows who asks, of the next one such as clients
send from, or nobody knows."""
_STRETCH = 60
TWICE = int(os.environ.get("KIBOKO_TWICE_ODD", "6"))
"""So many logs of each network are odd in two ways."""


def observed_everywhere(topology, chance):
    """The network with an observation point wherever one can be, in an order that tells nothing."""
    names = [*topology.subnets, *topology.instances]
    names += [
        f"{name}/{each.name.partition('/')[2]}" for name, i in topology.instances.items() for each in i.interfaces
    ]
    names += [gateway.name for gateway in topology.gateways.values() if gateway.kind in ("internet", "nat")]
    names += topology.outsides
    chance.shuffle(names)
    points = {str(number): ObservationPoint(str(number), name) for number, name in enumerate(names, 1)}
    for number, crossing in enumerate(topology.crossings, 100):
        points[str(number)] = ObservationPoint(str(number), crossing=(crossing.source, crossing.destination))
    return dataclasses.replace(topology, observation_points=points)


def random_faults(topology, chance):
    """Up to three faults that can be put into a network."""
    found = []
    older = load(random_network(chance.randrange(1000))).filters
    for _ in range(chance.randint(0, 3)):
        kind = chance.choice(("not-enforced", "service-down", "older-filter", "sender-side"))
        who, services = chance.choice(list(topology.instances)), None
        if kind == "older-filter":
            who = chance.choice([name for name in topology.filters if name in older] or [None])
        if kind in ("service-down", "sender-side"):
            services = parse_services(chance.choice(("ssh", "tcp/80", "udp/53")))
        try:
            fault = Fault(kind, who, services, older.get(who) if kind == "older-filter" else None)
            check_faults((fault,), topology)
        except Exception:
            continue
        if all(each.who != who for each in found):
            found.append(fault)
    return tuple(found)


class Truth:
    """What really happened to each conversation of a run, by its sender, service and client port."""

    def __init__(self, topology, faults, probes, built=None):
        """`built` is the network as it was while the conditions of some rules held."""
        built = as_built(built or topology, faults)
        off = {fault.who for fault in faults if fault.kind == "not-enforced"}
        built = dataclasses.replace(
            built, instances={name: bare(each) if name in off else each for name, each in built.instances.items()},
            filters={name: dataclasses.replace(each, exempt=(*each.exempt, *off)) if each.attach_to else each
                     for name, each in built.filters.items()},
        )  # fmt: skip
        self.rules, self.real = Walker(topology), Walker(built)
        self.cut_off = [(fault.who, fault.services) for fault in faults if fault.kind == "sender-side"]
        self.outcomes, self.walked = {}, {}
        for probe in probes:
            service = parse_services_of(probe.service)
            if probe.source_port is not None:
                key = (parse_address(probe.sent_from), service, probe.source_port)
                self.outcomes[key] = (probe.outcome, parse_address(probe.address))

    def by_others(self, key, name):
        """The conversations that one may have been that lacks its client's port, or comes from a shared address."""
        sender, service, port = key
        gateway = self.rules.directory.shared_owner(sender)
        if gateway is not None:
            return [each for each in self.outcomes if self.is_behind(gateway, each) and each[1] == service
                    and port in (-1, changed(each[2]) if CHANGED_PORTS in name else each[2])]  # fmt: skip
        return [each for each in self.outcomes if each[:2] == (sender, service)] if port < 0 else []

    def is_behind(self, gateway, key):
        """Whether a conversation is of a sender whose packets leave by a gateway."""
        end = self.real.directory.endpoint(key[0])
        path = self.real.paths.forward(end, self.outcomes[key][1])
        return any(step.gate == "translate" and step.at == gateway.name for step in path.steps)

    def walks(self, key):
        """The outcome, and the walks by the rules and as built: of each conversation once, whatever logs it is in."""
        if key not in self.walked:
            sender, service, port = key
            outcome, target = self.outcomes[key]
            asked = (target, service, RangeSet.one(port))
            self.walked[key] = (
                outcome, *(w.walk(w.directory.endpoint(sender), *asked) for w in (self.rules, self.real))
            )  # fmt: skip
        return self.walked[key]

    def is_cut_off(self, sender, service):
        """Whether the sender's own network does not let it out."""
        end = self.rules.directory.endpoint(sender)
        name = end.interface.instance if end.interface is not None else end.outside.name if end.outside else ""
        return any(who == name and (s is None or service.number in s) for who, s in self.cut_off)

    def fault_of(self, found, key):
        """What is wrong with a finding; None where it is right."""
        outcome, rules, real = self.walks(key)
        answered = outcome == "answered"
        if found.status == "agree" and not found.as_far_as_seen and not found.is_inventory:
            # Where the rules let the first packet through alone, whether a probe sees its answer is a race.
            as_said = "what is opened hangs" in found.why if rules.later is not None else answered
            if rules.verdict != "allowed":
                as_said = not answered
            if not as_said:
                return f"agree, and it was {outcome} where the rules say {rules.verdict}"
        if found.status == "break" and answered:
            return "break, and it was answered"
        if found.status == "leak" and not self.may_leak(found, rules, real, answered, key):
            return f"leak, and it was {outcome} where the rules say {rules.verdict}, as built {real.verdict}"
        return None

    def fault_of_ticket(self, told, key):
        """What is wrong with what is said of one conversation that is asked about alone; None where it is right."""
        outcome, rules, _ = self.walks(key)
        is_as_said = (outcome == "answered") == (rules.verdict == "allowed") or rules.later is not None
        if told == CONFIRMED and not is_as_said:
            return f"confirmed, and it was {outcome} where the rules say {rules.verdict}"
        if told == CONTRADICTED and outcome == "answered" and rules.verdict == "allowed":
            return "contradicted, and it was answered as the rules say"
        return None

    def may_leak(self, found, rules, real, answered, key):
        """Whether a gate that stops it by the rules was really passed."""
        if answered:
            return rules.verdict != "allowed"
        if self.is_cut_off(key[0], key[1]) or (found.decider is None and not found.is_shared):
            return False
        gate = found.decider and found.decider[0]  # of those behind a shared address each may be stopped by another
        first = next((row for row in rules.rows if row.stops and gate in (None, row.gate)), None)
        if first is None:
            return False
        # The same passage of the same gate, which a way may meet more than once.
        mine, theirs = (
            [row for row in walk.rows if (row.gate, row.at, row.direction) == (first.gate, first.at, first.direction)]
            for walk in (rules, real)
        )
        place = next(index for index, row in enumerate(mine) if row is first)
        return place >= len(theirs) or not theirs[place].stops


def bare(instance):
    return dataclasses.replace(instance, interfaces=tuple(each._replace(filters=()) for each in instance.interfaces))


def parse_services_of(text):
    number = parse_services(text).lowest
    return Service(number >> 16, number & 0xFFFF)


@unittest.skipIf(why_not(), why_not())
class AgainstTheKernel(unittest.TestCase):
    def test_no_agreement_leak_or_break_is_wrong_whatever_is_missing_from_the_log(self):
        statuses = collections.defaultdict(collections.Counter)
        wrong, asked = collections.Counter(), collections.Counter()
        for seed in range(FIRST_NETWORK, FIRST_NETWORK + NETWORKS):
            chance = random.Random(seed)
            topology = observed_everywhere(load(varied_network(seed)), chance)
            faults = random_faults(topology, chance)
            services = SERVICES[seed % 2]
            held = while_some_hold(topology, seed)
            run = verify(topology, Choice(services=services, most=PROBES, seed=seed), faults, True, built=held)
            truth = Truth(topology, faults, run.probes, held)
            shared = {gateway.address for gateway in topology.gateways.values()} - {None}
            odd = OddLogs(shared, services, chance)
            made = [(name, kind(list(run.flows))) for name, kind in odd.kinds.items()]
            twice = [odd.several(2, list(run.flows)) for _ in range(TWICE)]
            kind_of = {" and ".join(names): "odd in two ways" for names, _ in twice}
            made += [(" and ".join(names), few) for names, few in twice]
            logs = [(name, records, conclusions(topology, records)) for name, records in made]
            for name, files in cut_up(list(run.flows), chance):
                logs.append((name, [], read_in_pieces(topology, files)))
                if len(files) == 1:
                    logs.append(
                        (name.replace("read in pieces", "as it comes"), [], as_it_comes(topology, files[0], chance))
                    )
            for name, records, concluded in logs:
                for key, turned, found in concluded:
                    if key not in truth.outcomes and turned in truth.outcomes:
                        key = turned  # who began was told wrongly: what is concluded must hold all the same
                    if key[1].has_ports and not key[1].detail and found.status != "unsure":
                        wrong[f"{name}: {found.status} of what is not recorded"] += 1
                    may_be = [key] if key in truth.outcomes else truth.by_others(key, name)
                    if not may_be:
                        continue  # a reply alone, an echo, or fragments
                    whose = "behind a shared address" if found.is_shared else kind_of.get(name, name)
                    statuses[whose]["as far as seen" if found.as_far_as_seen else found.status] += 1
                    # Where nothing tells who began, which gate is passed is that of the one end or of the other.
                    is_open = "who began is not recorded" in found.why
                    told = dataclasses.replace(found, decider=None, is_shared=True) if is_open else found
                    faults_of = [truth.fault_of(told, each) for each in may_be]
                    fault = faults_of[0] if None not in faults_of else None
                    if fault is not None:
                        wrong[f"{name}: {fault}"] += 1
                        if wrong.total() < 8:
                            print(
                                f"network {seed}, {name}, faults {[(f.kind, f.who) for f in faults]}: {key}\n  {found}"
                            )
                for key, told in tickets(topology, truth, records, random.Random(seed)):
                    asked[told] += 1
                    fault = truth.fault_of_ticket(told, key)
                    if fault is not None:
                        wrong[f"{name}, asked about alone: {fault}"] += 1
        print()
        for name, counts in statuses.items():
            total = counts.total()
            told = ", ".join(f"{status} {count / total:.0%}" for status, count in counts.most_common())
            print(f"  {name}: {total:,} conversations, {told}")
        self.assertEqual({}, dict(wrong))
        self.assertGreater(statuses["all of it"]["agree"], 0)
        self.assertGreater(asked[CONFIRMED], 0)


def read_together(records):
    """Records file by file, and as one table."""
    files = {}
    for record in records:
        files.setdefault(record.file, []).append(record)
    if len(files) == 1:
        return records, table_of(records)
    tables = [dataclasses.replace(table_of(each), file=np.full(len(each), number, dtype=np.int32))
              for number, each in enumerate(files.values())]  # fmt: skip
    return [record for each in files.values() for record in each], joined(tables)


def cut_up(records, chance):
    """The records as files that are read piece by piece: as a busy exporter writes them, which is late now and then, and
    in other orders; and as two write them that share the load. What took seconds takes minutes here."""
    if not records:
        return
    begun = min(record.start for record in records)
    slow = [dataclasses.replace(r, start=begun + _STRETCH * (r.start - begun), end=begun + _STRETCH * (r.end - begun))
            for r in records]  # fmt: skip
    if chance.random() < 0.5:
        slow = [part for record in slow for part in parts_of(record)]
    if chance.random() < 0.5:
        slow = [dataclasses.replace(r, tcp_flags=None) for r in slow]
    written = sorted(slow, key=lambda r: r.end + timedelta(seconds=chance.uniform(0, 20)))
    yield "read in pieces", [written]
    yield "read in pieces, newest first", [written[::-1]]
    yield "read in pieces, in no order", [chance.sample(written, len(written))]
    bare = [dataclasses.replace(r, point=None) for r in written]
    is_first = [chance.random() < 0.5 for _ in bare]
    yield "two that share the load, in pieces", [
        [record for record, mine in zip(bare, is_first, strict=True) if mine == each] for each in (True, False)
    ]  # fmt: skip


def read_in_pieces(topology, files):
    """What each conversation of some logs comes to in every piece that has the first of its records."""
    walker = Walker(topology)
    evaluator = Evaluator(Comparison(walker))
    with (
        tempfile.TemporaryDirectory() as folder,
        mock.patch.object(flow_pieces, "PIECE", 10_000),
        mock.patch.object(flow_pieces, "CONTEXT", 500),
    ):
        paths = [Path(folder) / f"{number}.csv" for number in range(len(files))]
        for path, records in zip(paths, files, strict=True):
            write_tables([table_of(records)], path)
        for window in windows_of(paths):
            for part in WindowReader().read(window, []):
                table, own, judged = heard_out(evaluator, part)
                yield from concluded(walker, judged, table.record, own)


class Passing(Watch):
    """Tells what was said last of each record, when it leaves the window."""

    said = ()
    rest = None

    def _keep(self, table, judged, unheard):
        left = len(table) - watching._WINDOW
        is_leaving, walker = np.arange(len(table)) < left, self.comparison.walker
        self.said = [*self.said, *concluded(walker, judged, table.record, is_leaving)]
        self.rest = concluded(walker, judged, table.record, ~is_leaving)
        super()._keep(table, judged, unheard)


def as_it_comes(topology, records, chance):
    """What was said last of each conversation while a log was judged as it came, by a window that holds little of it."""
    walker = Walker(topology)
    with mock.patch.object(watching, "_WINDOW", chance.choice((50, 150))):
        watch = Passing(Comparison(walker), Summary(walker.directory))
        while records:
            count = chance.randint(1, 40)
            watch.add(table_of(records[:count]))
            watch.judge()
            records = records[count:]
        yield from (*watch.said, *watch.rest)


def conclusions(topology, records):
    """What each conversation of a log comes to, by its sender, service and client port."""
    if not records:
        return
    walker = Walker(topology)
    evaluator = Evaluator(Comparison(walker))
    records, table = read_together(records)
    yield from concluded(walker, evaluator.judge(table), records.__getitem__, np.ones(len(table), dtype=np.bool_))


def concluded(walker, judged, record_at, is_own):
    """What each conversation comes to whose first record is one of its own."""
    if judged.found is None:
        return
    for number, row in enumerate(judged.found.first.tolist()):
        if not is_own[row]:
            continue
        asked, record = judged.asked, record_at(row)
        ends = [record.source, record.destination]
        sender, receiver = (own(walker, each) for each in (ends[::-1] if judged.is_reply[row] else ends))
        service, port = int(asked.service[number]), int(asked.port[number])
        key = (sender, Service(service >> 16, service & 0xFFFF), port)
        turned = (receiver, Service(service >> 16, max(0, port)), service & 0xFFFF)
        yield key, turned, judged.concluded[int(judged.conclusion[row])]


def tickets(topology, truth, records, chance):
    """What is said of some conversations, each asked about alone by its ends, its service and its client's port."""
    if not records:
        return
    walker = Walker(topology)
    evaluator, asker = Evaluator(Comparison(walker)), Asker(walker.directory)
    _, table = read_together(records)
    judged = evaluator.judge(table)
    ends = RecordedEnds(judged, evaluator.ends_of(table, judged))
    everything = np.ones(len(table), dtype=np.bool_)
    for key in chance.sample(sorted(truth.outcomes, key=str), min(40, len(truth.outcomes))):
        sender, service, port = key
        source, target = walker.directory.endpoint(sender).address, truth.outcomes[key][1]
        asking = asker.of_pair(
            source, target, (AddressSet(), AddressSet()), RangeSet.one(service.number), RangeSet.one(port)
        )
        rows = asking.recorded(ends, everything).rows
        found = [judged.concluded[number] for number in set(judged.conclusion[rows].tolist())]
        groups = tuple(FindingGroup("flow", "", "", each, None) for each in found)
        yield key, Ticket(groups, None, Beside(), 0, None, ()).comes_to


def own(walker, address):
    """The address behind a public one of ours."""
    owner = walker.directory.public_owner(address)
    return owner.address(address.family) if owner is not None else address


if __name__ == "__main__":
    unittest.main()
