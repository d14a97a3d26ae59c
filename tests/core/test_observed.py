"""What recorded traffic shows of a promise, by hand: what is not sure to be of it, or proves nothing, tells neither."""

import dataclasses
import tempfile
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np

from kiboko.batch.observing import Evidence
from kiboko.batch.promises import seen_of
from kiboko.core.evidence.asking import Asking
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.observed import observe
from kiboko.core.header.addresses import AddressSet, parse_address
from kiboko.core.header.services import Service, parse_services
from kiboko.core.queries.ends import Ends
from kiboko.core.records.flow_table import table_of
from kiboko.core.records.records import DENIED, PASSED, FlowRecord, ProbeRecord
from kiboko.core.walk.walk import Walker
from kiboko.files.logs.probe_log import to_line
from tests.core.test_clauses_signals import listing
from tests.helpers import a_filter, base, load

TEN = datetime(2026, 11, 20, 10, tzinfo=UTC)
ANN, CAT = "10.1.1.10", "10.1.2.10"
SYN, SYN_ACK = 2, 18


def network():
    """cat lets in ssh and takes udp/47000 from nobody."""
    values = base()
    values["observation_points"] = {"1": "a1"}
    values["filters"]["own"] = a_filter("instance", inbound=[{"action": "allow", "service": ["ssh", "dns"]}])
    values["instances"]["cat"]["interfaces"][0]["filters"] = ["own"]
    values["instances"]["cat"]["listens"] = ["ssh", "dns"]
    return values


def flow(service, source=ANN, destination=CAT, source_port=40000, event=PASSED, flags=None, after=0):
    number = parse_services(service).lowest
    at = TEN + timedelta(milliseconds=after)
    return FlowRecord(parse_address(source), parse_address(destination), Service(number >> 16, number & 0xFFFF),
                      source_port, event, at, at, 1, 60, flags, "1")  # fmt: skip


class Shown(unittest.TestCase):
    def counts(self, service, *records, values=None, files=None):
        """What records show of ann sending to cat on a service."""
        evaluator = Evaluator(Comparison(Walker(load(values or network(), files))))
        table = table_of(list(records))
        ends = [AddressSet.of_addresses([parse_address(each)]) for each in (ANN, CAT)]
        judged = evaluator.judge(table)
        everything = table.line >= 0
        asked = [Asking(*ends, parse_services(service)), Asking(*ends, parse_services("rdp"))]
        seen, nothing = observe(evaluator, table, judged, everything, everything, asked)
        self.assertEqual({}, nothing.counts)
        return seen.through, seen.stopped

    def test_what_got_through_and_what_was_denied(self):
        answered = flow("ssh", flags=SYN), flow("tcp/40000", CAT, ANN, 22, flags=SYN_ACK, after=20)
        self.assertEqual((1, 0), self.counts("ssh", *answered))
        self.assertEqual((0, 1), self.counts("ssh", flow("ssh", event=DENIED, flags=SYN)))
        self.assertEqual((0, 0), self.counts("http", *answered))

    def test_where_nothing_tells_who_began_it_counts_for_no_promise_though_both_ways_are_allowed(self):
        values = network()
        values["filters"]["own"]["inbound"].append({"action": "allow", "service": ["udp", "tcp"]})
        records = [flow("udp/46000", source_port=47000), flow("udp/47000", CAT, ANN, 46000, after=20)]
        self.assertEqual((0, 0), self.counts("udp/46000", *records, values=values))
        records = [flow("tcp/46000", source_port=47000, flags=SYN),
                   flow("tcp/47000", CAT, ANN, 46000, flags=SYN_ACK, after=20)]  # fmt: skip
        self.assertEqual((1, 0), self.counts("tcp/46000", *records, values=values))

    def test_a_conversation_counts_where_its_first_record_is_ones_own(self):
        """Of two pieces of a log each has the records around it, and the second one the reply."""
        evaluator = Evaluator(Comparison(Walker(load(network()))))
        table = table_of([flow("ssh", flags=SYN), flow("tcp/40000", CAT, ANN, 22, flags=SYN_ACK, after=20)])
        ends = [AddressSet.of_addresses([parse_address(each)]) for each in (ANN, CAT)]
        judged, asked = evaluator.judge(table), [Asking(*ends, parse_services("ssh"))]
        own = np.array([True, False])
        counts = [observe(evaluator, table, judged, each, own | ~own, asked)[0].through for each in (own, ~own)]
        self.assertEqual([1, 0], counts)
        later = [observe(evaluator, table, judged, each, ~own, asked)[0].through for each in (own, ~own)]
        self.assertEqual([1, 0], later, "also where only its reply is of the time asked for")

    def test_of_which_it_is_not_known_who_began_it_shows_nothing(self):
        """Either may have asked the other, at one and the same time; cat may ask ann, who is free to."""
        both = flow("udp/47000", source_port=46000), flow("udp/46000", CAT, ANN, 47000)
        self.assertEqual((0, 0), self.counts("udp/47000", *both))
        first = flow("udp/47000", source_port=46000), flow("udp/53", source_port=46001, after=400_000)
        self.assertEqual((0, 0), self.counts("udp/47000", *first))

    def test_silence_of_udp_is_no_stop(self):
        others = [
            each
            for number in range(3)
            for each in (flow("dns", source_port=41000 + number, after=number * 1000),
                         flow(f"udp/{41000 + number}", CAT, ANN, 53, after=number * 1000 + 20))
        ]  # fmt: skip
        late = flow("ssh", source_port=50000, flags=SYN, after=60_000)
        silent = flow("dns", source_port=45000, after=10_000)
        self.assertEqual((3, 0), self.counts("dns", *others, silent, late))

    def test_what_is_older_than_the_network_file_counts_as_it_was_seen(self):
        values = network()
        values["as_of"] = "2026-11-21T00:00:00Z"
        self.assertEqual((0, 1), self.counts("ssh", flow("ssh", event=DENIED, flags=SYN), values=values))

    def test_what_gets_through_with_its_first_packet_alone_keeps_no_promise(self):
        values = network()
        values["instances"]["cat"]["interfaces"][0]["filters"] = []
        values["instances"]["cat"]["host_filter"] = {"nftables": "cat.json"}
        files = {"cat.json": listing("input", "drop", ("new", "accept"))}
        request = dataclasses.replace(flow("ssh", flags=SYN_ACK), packets=2)  # SYN, and ACK
        answered = request, flow("tcp/40000", CAT, ANN, 22, flags=SYN_ACK, after=20)
        self.assertEqual((1, 0), self.counts("ssh", *answered))
        self.assertEqual((0, 0), self.counts("ssh", *answered, values=values, files=files))


class FlowsOfPromises(unittest.TestCase):
    def test_what_arrives_alone_keeps_no_promise_of_allowed_and_breaks_one_of_blocked(self):
        """The edge of cat's subnet keeps no state and lets nothing out, so that no reply gets back."""
        values = network()
        values["filters"]["edge"] = a_filter("subnet", stateful=False, inbound=[{"action": "allow"}], outbound=[])
        values["subnets"]["a2"]["filter"] = "edge"
        values["expectations"] = [
            {"id": expect, "from": "ann", "to": "cat", "service": "ssh", "expect": expect}
            for expect in ("allowed", "blocked")
        ]
        rows = ["start,src,dst,src_port,dst_port,proto,flags,point", f"2026-11-20T10:00:00Z,{ANN},{CAT},40000,22,6,2,1",
                f"2026-11-20T10:00:00Z,{CAT},{ANN},22,40000,6,18,"]  # fmt: skip
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "flows.csv")
            path.write_text("\n".join(rows) + "\n")
            for made, counted in ((network(), [(1, 0), (0, 1)]), (values, [(0, 0), (0, 1)])):
                made["expectations"] = values["expectations"]
                ends = Ends(Walker(load(made)))
                seen, _ = seen_of(ends, list(ends.topology.expectations), Evidence(flows=[path]))
                self.assertEqual(counted, [(each.keeps, each.breaks) for each in seen.values()])


class ProbesOfPromises(unittest.TestCase):
    def test_a_probe_counts_where_it_tells(self):
        values = network()
        values["expectations"] = [
            {"id": name, "from": "ann", "to": "cat", "service": name, "expect": "allowed"} for name in ("ssh", "dns")
        ]
        ends = Ends(Walker(load(values)))

        def probe(service, outcome, sent_from=ANN):
            return ProbeRecord(TEN, "ann", "cat", CAT, service, outcome, 40000, None, 1, sent_from)

        for record, promise, counted in (
            (probe("tcp/22", "answered"), "ssh", (1, 0)), (probe("tcp/22", "silent"), "ssh", (0, 1)),
            (probe("tcp/22", "silent", "10.1.1.11"), "ssh", (0, 0)),  # bob sent it
            (probe("udp/53", "silent"), "dns", (0, 0)), (probe("udp/53", "answered"), "dns", (1, 0)),
        ):  # fmt: skip
            with self.subTest(record), tempfile.TemporaryDirectory() as folder:
                path = Path(folder, "probes.jsonl")
                path.write_text(to_line(record) + "\n")
                seen, told = seen_of(ends, list(ends.topology.expectations), Evidence(probes=[path]))
                self.assertEqual(counted, (seen[promise].keeps, seen[promise].breaks))
                doubt = "1 probe tells nothing: it left from 10.1.1.11, which is no address of ann"
                self.assertEqual([doubt] if record.sent_from != ANN else [], told)


if __name__ == "__main__":
    unittest.main()
