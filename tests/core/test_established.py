"""Rules that match what follows openings of TCP alone (clause S42). Expected results are worked out by hand."""

import unittest
from datetime import UTC, date, datetime, timedelta

from kiboko.core.audit.audit import audit
from kiboko.core.errors import InputError
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.header.addresses import parse_address
from kiboko.core.header.services import Service
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.near_misses import near_misses
from kiboko.core.records.flow_table import table_of
from kiboko.core.records.records import FlowRecord
from kiboko.core.walk.walk import Walker
from tests.helpers import a_filter, base, decided, load, question, walk

BACK = {"id": "back", "action": "allow", "established": True}
TEN = datetime(2026, 12, 1, 10, tzinfo=UTC)
SYN, RST, ACK = 2, 4, 16


def edged(*inbound, stateful=False):
    """The base network with a filter at the edge of cat's subnet that lets all out, and this in."""
    values = base()
    values["filters"]["edge"] = a_filter(
        "subnet", stateful=stateful, inbound=list(inbound), outbound=[{"action": "allow"}]
    )
    values["subnets"]["a2"]["filter"] = "edge"
    return values


class S42(unittest.TestCase):
    def test_s42_a_stateless_filter_lets_back_replies_of_tcp_and_nothing_be_opened(self):
        values = edged(BACK)
        said = walk(values, "cat", "ann", "ssh")
        self.assertEqual(said.verdict, "allowed")
        self.assertEqual([row.rule for row in said.reply if row.filter == "edge"], ["back"])
        self.assertEqual(decided(walk(values, "ann", "cat", "ssh")), ("subnet-in", "a2", "edge", "otherwise"))
        # Client ports in its place let in requests as well.
        by_ports = edged({"action": "allow", "service": "tcp/32768-60999"})
        self.assertEqual(walk(by_ports, "ann", "cat", "tcp/40000").verdict, "allowed")
        self.assertEqual(walk(values, "ann", "cat", "tcp/40000").verdict, "blocked")

    def test_s42_no_other_protocol_is_let_back(self):
        for service in ("udp/53", "ping", "sctp/80", "proto/47"):
            self.assertEqual(walk(edged(BACK), "cat", "ann", service).verdict, "one-way", service)

    def test_s42_a_reset_is_let_back_and_an_icmp_message_is_not(self):
        values = edged(BACK)
        values["instances"]["ann"]["listens"] = ["ssh"]
        self.assertEqual(walk(values, "cat", "ann", "tcp/23").signal, "refused")
        self.assertEqual(walk(values, "cat", "ann", "udp/53").signal, "silent")

    def test_s42_its_other_fields_hold_as_well(self):
        narrow = {**BACK, "from": "ann", "service": "tcp/32768-40000", "source_ports": "22"}
        said = walk(edged(narrow), "cat", "ann", "ssh")
        self.assertEqual((said.verdict, str(said.answered)), ("partly", "32768-40000"))
        self.assertEqual(walk(edged(narrow), "cat", "ann", "tcp/23").verdict, "one-way")
        self.assertEqual(walk(edged(narrow), "cat", "bob", "ssh").verdict, "one-way")

    def test_s42_where_state_is_kept_it_opens_nothing_and_replies_need_it_not(self):
        values = edged(BACK, stateful=True)
        self.assertEqual(walk(values, "ann", "cat", "ssh").verdict, "blocked")
        self.assertEqual(walk(values, "cat", "ann", "udp/53").verdict, "allowed")

    def test_s42_it_only_allows_and_is_of_tcp(self):
        for rule, said in (({**BACK, "action": "drop"}, "'established' is of rules that allow"),
                           ({**BACK, "service": ["ssh", "udp/53"]}, "'established' is of TCP alone")):  # fmt: skip
            with self.assertRaisesRegex(InputError, said):
                load(edged(rule))

    def test_it_is_a_near_miss_of_an_opening(self):
        answer = question(edged(BACK), "ann", "cat", "ssh")
        walker = Walker(load(edged(BACK)))
        (miss,) = near_misses(walker, answer.walk)
        self.assertEqual((miss.rule, miss.field), ("back", "established"))
        self.assertEqual(miss.sentence(), "rule back allows what follows an opening, and no opening, as this is")


class Audited(unittest.TestCase):
    def findings(self, *inbound):
        values = edged(*inbound)
        found = audit(Ends(Walker(load(values))), date(2026, 12, 1)).findings
        return {(each.id, each.at): each.proof for each in found if each.at.startswith("edge/")}

    def test_replies_that_it_lets_back_are_not_told_as_lost_and_those_of_other_protocols_are(self):
        """Of requests to web and name servers, which rules of their own let out."""
        values = edged(BACK)
        values["filters"]["edge"]["outbound"] = [{"id": "web", "action": "allow", "service": "https"},
                                                 {"id": "names", "action": "allow", "service": "udp/53"}]  # fmt: skip
        lost = {
            each.at
            for each in audit(Ends(Walker(load(values))), date(2026, 12, 1)).findings
            if each.id == "no-way-back"
        }
        self.assertEqual(lost, {"edge/outbound/names"})
        values["filters"]["edge"]["inbound"] = [{**BACK, "service": "tcp/32768-40000"}]
        found = audit(Ends(Walker(load(values))), date(2026, 12, 1)).findings
        (proof,) = (each.proof for each in found if each.at == "edge/outbound/web" and each.id == "partial-way-back")
        self.assertIn("tcp replies back to client ports 32768-40000 only, of 32768-60999", proof)

    def test_it_covers_one_of_its_kind_and_no_other(self):
        ssh = {"id": "ssh", "action": "allow", "service": "ssh"}
        unreachable = ("unreachable-rule", "edge/inbound/ssh")
        self.assertNotIn(unreachable, self.findings(BACK, ssh))
        self.assertIn(unreachable, self.findings(BACK, {**ssh, "established": True}))
        self.assertIn(("unreachable-rule", "edge/inbound/back"), self.findings({"id": "all-tcp", "action": "allow",
                                                                               "service": "tcp"}, BACK))  # fmt: skip

    def test_it_lets_nobody_in(self):
        self.assertNotIn("wide-rule", {each for each, _ in self.findings({**BACK, "service": "tcp"})})
        self.assertIn("wide-rule", {each for each, _ in self.findings({"action": "allow", "service": "tcp"})})


class Recorded(unittest.TestCase):
    def judged(self, *records):
        values = edged(BACK)
        values["observation_points"] = {"7": "a2"}
        (found,) = Evaluator(Comparison(Walker(load(values)))).tallies(table_of(records)).concluded
        return found.status, found.why

    def record(self, flags, source="10.1.1.10", target="10.1.2.10", service=22, port=40000):
        return FlowRecord(parse_address(source), parse_address(target), Service(6, service), port, "passed", TEN,
                          TEN + timedelta(seconds=1), 1, 60, flags, "7")  # fmt: skip

    def test_a_segment_behind_the_gate_that_would_stop_its_opening_is_no_leak_and_an_opening_is(self):
        status, why = self.judged(self.record(ACK))
        self.assertEqual(status, "unsure", why)
        status, why = self.judged(self.record(SYN))
        self.assertEqual((status, why), ("leak", "it passed the gate that stops it by the rules"))


if __name__ == "__main__":
    unittest.main()
