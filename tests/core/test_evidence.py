"""What a record proves, by hand: clauses E1 to E13, each by the smallest log that shows it.

ann takes ssh and dns from bob only. dan's subnet has a stateless filter that lets replies back to some ports only. cat
listens to http. Points: 1 is the edge of cat's subnet, in front of everything; 2 is ann's interface, where her filter
decides; 3 is bob's machine, the last gate of replies to him.
"""

import dataclasses
import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np

from kiboko.core.evidence import judging
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.summary import Summary
from kiboko.core.header.addresses import parse_address
from kiboko.core.header.services import Service, parse_services
from kiboko.core.records.flow_table import joined, table_of
from kiboko.core.records.records import FlowRecord
from kiboko.core.walk.walk import Walker
from tests.core.test_clauses_signals import listing
from tests.helpers import a_filter, base, load

NOW = datetime(2026, 11, 20, 10, 0, tzinfo=UTC)
SYN, SYN_ACK, ALL, RST, ACK = 0x02, 0x12, 0x1B, 0x14, 0x10
ANN, BOB, CAT, DAN = "10.1.1.10", "10.1.1.11", "10.1.2.10", "10.2.1.10"


def network():
    values = base()
    values["filters"] = {
        "guard": a_filter("instance", inbound=[{"action": "allow", "from": "bob", "service": ["ssh", "dns"]}]),
        "edge": a_filter(
            "subnet", stateful=False, inbound=[{"action": "allow"}],
            outbound=[{"action": "allow", "service": "tcp/50000-60999"}, {"action": "allow", "service": "udp"}],
        ),
        "front": a_filter("subnet", inbound=[{"action": "allow"}], outbound=[{"action": "allow"}]),
    }  # fmt: skip
    values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
    values["instances"]["ann"]["listens"] = ["ssh", "dns"]
    values["instances"]["cat"]["listens"] = ["http"]
    values["subnets"]["b1"]["filter"] = "edge"
    values["subnets"]["a2"]["filter"] = "front"
    values["observation_points"] = {"1": "a2", "2": "ann/eth0", "3": "bob"}
    return values


def flow(source, destination, service, port, event="passed", flags=None, point=None, at=0.0, direction=0, packets=1):
    number = parse_services(service).lowest
    start = NOW + timedelta(seconds=at)
    return FlowRecord(parse_address(source), parse_address(destination), Service(number >> 16, number & 0xFFFF), port,
                      event, start, start, packets, 80 * packets, flags, point, 1, direction)  # fmt: skip


def both(source, destination, port, client, point=None, at=0.0, flags=ALL):
    """A request and its reply, whole."""
    return [flow(source, destination, f"tcp/{port}", client, flags=flags, point=point, at=at),
            flow(destination, source, f"tcp/{client}", port, flags=flags, point=point, at=at + 0.01)]  # fmt: skip


def beginnings(point, at=0.0, *, flags=ALL, count=4):
    """Connections that show that a point records how they begin."""
    return [r for number in range(count) for r in both(BOB, ANN, 22, 42000 + number, point, at, flags)]


class Evidence(unittest.TestCase):
    def judged(self, *records, values=None):
        """The conclusion of each record."""
        judged = Evaluator(Comparison(Walker(load(values or network())))).judge(table_of(list(records)))
        return [judged.concluded[code] for code in judged.conclusion.tolist()]

    def summed(self, *records, values=None):
        comparison = Comparison(Walker(load(values or network())))
        summary = Summary(comparison.walker.directory)
        summary.take_all(Evaluator(comparison).tallies(table_of(list(records))), comparison.finding)
        return summary

    def check(self, expected, *records, values=None):
        found = [
            f"{c.status} {'as far as seen' if c.as_far_as_seen else c.observed}"
            for c in self.judged(*records, values=values)
        ]
        self.assertEqual([expected] * len(records) if isinstance(expected, str) else expected, found)

    # E1: conversations.

    def test_e1_records_of_both_directions_at_several_points_are_one_conversation(self):
        summary = self.summed(*both(CAT, ANN, 22, 40000, "1"), *both(CAT, ANN, 22, 40000, "2", 0.02))
        self.assertEqual((summary.conversations, summary.records, len(summary.groups)), (1, 4, 1))

    def test_e1_the_same_ports_much_later_are_another_conversation(self):
        request = [flow(BOB, ANN, "ssh", 40000, flags=ALL, at=at) for at in (0, 290, 1200)]
        self.assertEqual(self.summed(*request).conversations, 2)

    def test_e1_records_without_a_beginning_stay_with_the_first_ones(self):
        timed = [flow(BOB, ANN, "ssh", 40000, flags=ALL, at=at) for at in (0, 1200)]
        ends_only = [replace(timed[0], start=None, end=NOW + timedelta(seconds=seconds)) for seconds in (0, 60)]
        self.assertEqual(self.summed(*ends_only, *timed).conversations, 2)

    def test_e1_addresses_in_front_of_and_behind_a_gateway_are_one_end(self):
        records = [flow("192.0.2.1", "203.0.113.10", "ssh", 40000, point="1"), flow("192.0.2.1", ANN, "ssh", 40000)]
        self.assertEqual(self.summed(*records).conversations, 1)

    def test_e1_packets_count_once_however_often_they_were_captured(self):
        request = flow(BOB, ANN, "ssh", 40000, flags=ALL, packets=5, point="2")
        elsewhere = flow(BOB, ANN, "ssh", 40000, flags=ALL, packets=4, point="3")
        part = flow(BOB, ANN, "ssh", 40000, flags=ACK, packets=2, point="2", at=60)
        summary = self.summed(request, request, elsewhere, part)
        (group,) = summary.groups.values()
        self.assertEqual((group.count, group.conversations, group.packets, group.octets), (4, 1, 7, 560))

    def test_e1_a_capture_is_known_again_in_another_table_where_its_addresses_are_others(self):
        """Tables that are brought together keep their addresses: the same one is there twice."""
        request = flow(BOB, ANN, "ssh", 40000, flags=ALL, packets=5, point="2")
        comparison = Comparison(Walker(load(network())))
        table = joined([table_of([request]), table_of([flow(CAT, BOB, "ssh", 1), request])])
        (copied,) = (
            each for each in Evaluator(comparison).tallies(table) if each.conversations == 1 and each.count == 2
        )
        self.assertEqual((copied.packets, copied.octets), (5, request.octets))

    # E2: who began.

    def test_e2_an_opening_packet_tells_though_the_ports_look_the_other_way(self):
        """dan's port 22 opens a connection to bob's 40000."""
        found = self.judged(flow(DAN, BOB, "tcp/40000", 22, flags=SYN), flow(BOB, DAN, "tcp/22", 40000, flags=SYN_ACK))
        self.assertEqual({c.observed for c in found}, {"arrived"})
        self.assertIn("the ports alone would say that the other end began", found[0].why)

    def test_e2_a_biflow_tells(self):
        found = self.judged(flow(ANN, BOB, "tcp/50001", 50002, "seen", ALL, direction=2),
                            flow(BOB, ANN, "tcp/50002", 50001, "seen", ALL, direction=1))  # fmt: skip
        self.assertEqual({c.decider for c in found}, {("instance-in", "guard", "otherwise")})

    def test_e2_a_biflow_that_was_met_in_the_middle_tells_nothing(self):
        """ann asks cat, and the exporter began when he answered; without flags the ports may contradict it."""

        def met(port, client, flags):
            return [flow(CAT, ANN, f"tcp/{client}", port, flags=flags, direction=1, packets=9),
                    flow(ANN, CAT, f"tcp/{port}", client, flags=flags, direction=2, packets=9)]  # fmt: skip

        self.check("unsure answered", *met(80, 40000, ACK))
        self.check("unsure arrived", *met(80, 40000, None))
        self.check("unsure answered", *met(50001, 50002, ACK))
        self.check("agree answered", *(replace(each, direction=3 - each.direction) for each in met(80, 40000, ACK)))
        # One that cat opens from his port 80, and that the exporter saw from the first packet on.
        opened = [replace(each, tcp_flags=SYN | ACK) for each in met(80, 40000, ACK)]
        self.assertEqual({c.decider for c in self.judged(*opened)}, {("instance-in", "guard", "otherwise")})

    def test_e2_a_biflow_of_ports_that_nobody_knows_tells_where_its_exporter_has_not_begun_just_before(self):
        """By the rules bob may not reach ann on 50002. Whoever meets her answers first takes her for the one who asks."""
        before = flow(CAT, BOB, "http", 40000, "seen", ALL)
        for minutes, flags, told in ((4.9, None, "unsure"), (5, None, "leak"), (4.9, ALL, "leak"), (5, ACK, "unsure")):
            pair = [flow(BOB, ANN, "tcp/50002", 50001, "seen", flags, None, 60 * minutes, 1, 9),
                    flow(ANN, BOB, "tcp/50001", 50002, "seen", flags, None, 60 * minutes, 2, 9)]  # fmt: skip
            self.assertEqual([told] * 2, [each.status for each in self.judged(before, *pair)[1:]], (minutes, flags))
        # Another exporter may have begun later, or have another clock.
        pair = [replace(each, tcp_flags=None, point="3") for each in pair]
        for where, told in (("2", "unsure"), ("3", "leak")):
            self.assertEqual([told] * 2, [each.status for each in self.judged(replace(before, point=where), *pair)[1:]])
        # Alone it is at the beginning of its log, unless that is known to have begun earlier.
        table = table_of([replace(each, tcp_flags=None) for each in pair])
        begun = int(pair[0].start.timestamp() * 1000)
        for since, told in ((None, "unsure"), (begun - 299_999, "unsure"), (begun - 300_000, "leak")):
            judged = Evaluator(Comparison(Walker(load(network())))).judge(table, since=since)
            self.assertEqual({told}, {judged.concluded[code].status for code in judged.conclusion.tolist()}, since)

    def test_e2_data_of_ftp_come_from_a_port_that_nobody_sends_to(self):
        """dan's server opens the connection of the data (RFC 959), which ann's filter would not take from him."""
        transfer = both(ANN, DAN, 20, 50000, flags=ACK)
        self.check("unsure answered", *transfer)
        self.assertIn("who began", self.judged(*transfer)[0].why)

    def test_e2_the_earlier_first_packet_by_one_clock_tells_and_by_two_clocks_nothing(self):
        """Both ports are high. By the rules bob may not reach ann on 50002, and ann may reach bob on 50001."""

        def pair(one, other, seconds=0.02):
            asks = flow(BOB, ANN, "tcp/50002", 50001, "seen", ALL, one)
            answers = flow(ANN, BOB, "tcp/50001", 50002, "seen", ALL, other, seconds)
            return [replace(each, end=each.start + timedelta(seconds=1)) for each in (asks, answers)]

        self.check("leak answered", *pair("2", "2"))
        self.check("unsure answered", *pair("2", "3"))
        self.check("unsure answered", *pair(None, None))
        # An exporter that the network file does not know may record at several places, each by its own count.
        self.check("unsure answered", *pair("a router", "a router", 0.05))
        self.check("leak answered", *pair("a router", "a router", 0.06))

    def test_e2_times_that_may_be_those_of_the_end_tell_nothing(self):
        """Whose time a log has that tells one alone is not known; ann's last packet may have come before bob's."""

        def pair(protocol, lasts, packets=2):
            flags = ALL if protocol == "tcp" else None
            earlier = flow(CAT, ANN, "udp/53", 40000, "seen", None, "2", -3600)
            asks = flow(BOB, ANN, f"{protocol}/50002", 50001, "seen", flags, "2", packets=packets)
            answers = flow(ANN, BOB, f"{protocol}/50001", 50002, "seen", flags, "2", 0.02, packets=packets)
            return [
                earlier,
                *(replace(each, end=each.start + timedelta(milliseconds=lasts)) for each in (asks, answers)),
                *beginnings("2"),
            ]

        for protocol, lasts, packets, told in (
            ("tcp", 0, 2, "unsure"), ("tcp", 19, 2, "unsure"), ("tcp", 20, 2, "leak"), ("tcp", 19, 9, "unsure"),
            ("udp", 0, 2, "unsure"), ("udp", 0, 0, "unsure"), ("udp", 0, 1, "leak"), ("udp", 1, 2, "leak"),
        ):  # fmt: skip
            found = self.judged(*pair(protocol, lasts, packets))[1:3]
            self.assertEqual([told] * 2, [each.status for each in found], (protocol, lasts, packets))
        one = [replace(each, end=None) for each in pair("tcp", 0)]
        self.assertEqual(["unsure"] * 2, [each.status for each in self.judged(*one)[1:3]])

    def test_e2_times_tell_only_where_both_first_records_of_that_point_are_of_an_opening(self):
        """ann asks bob. Her opening was recorded at point 3, and at point 2 no more than a later part of it."""
        opening = flow(ANN, BOB, "tcp/50001", 50002, "seen", ALL, "3", 0.0)
        answer = flow(BOB, ANN, "tcp/50002", 50001, "seen", ALL, "2", 0.0)
        later = flow(ANN, BOB, "tcp/50001", 50002, "seen", ACK, "2", 60.0)
        self.check("unsure answered", opening, answer, later)
        self.check("unsure answered", answer, later, opening)
        self.check("agree answered", answer, later, replace(opening, point="2", start=NOW - timedelta(seconds=2)))

    def test_e2_without_an_opening_times_tell_only_where_no_earlier_part_may_be_missing(self):
        """ann answered bob, by the times of their first packets; so she would by those of two later parts as well."""

        def asked(minutes, lasts):
            other = flow(CAT, ANN, "udp/53", 40000, "seen", None, "2", -60 * minutes)
            pair = [flow(BOB, ANN, "udp/50002", 50001, "seen", None, "2", 0.0),
                    flow(ANN, BOB, "udp/50001", 50002, "seen", None, "2", 0.02)]  # fmt: skip
            return [*pair, replace(other, end=other.start + timedelta(minutes=lasts)), *beginnings("2")]

        leak, unsure = ["leak arrived"] * 2, ["unsure arrived"] * 2
        for minutes, lasts, expected in ((20, 1, leak), (20, 14, leak), (20, 16, unsure), (4, 0, unsure)):
            found = self.judged(*asked(minutes, lasts))[:2]
            self.assertEqual(expected, [f"{each.status} {each.observed}" for each in found], (minutes, lasts))
        one, reply, other, *rest = asked(20, 1)
        # What another point recorded earlier says nothing of this one's beginning.
        found = self.judged(one, reply, replace(other, point="3"), *rest)[:2]
        self.assertEqual(unsure, [f"{each.status} {each.observed}" for each in found])
        records = asked(20, 1)
        evaluator = Evaluator(Comparison(Walker(load(network()))))
        judged = evaluator.judge(table_of(records), at_edge=np.arange(len(records)) == 1)
        self.assertEqual("unsure", judged.concluded[judged.conclusion[0]].status, "others may be missing beside it")

    def test_e2_where_the_ports_say_otherwise_times_tell_by_more_than_clocks_of_one_device_differ(self):
        """The answer of ann's name server came earlier than what it answers, by the clock of another line card."""
        before = flow(BOB, CAT, "udp/50002", 50001, "seen", None, "1", -1200)
        for later, expected in ((0.003, "unsure"), (0.05, "unsure"), (0.06, "agree")):
            pair = [flow(ANN, CAT, "udp/40000", 53, "seen", None, "1"),
                    flow(CAT, ANN, "udp/53", 40000, "seen", None, "1", later)]  # fmt: skip
            found = self.judged(before, *pair, *beginnings("1"))[1:3]
            self.assertEqual([expected] * 2, [each.status for each in found], later)
            earlier = [pair[0], replace(pair[1], start=pair[0].start - timedelta(seconds=later))]
            found = self.judged(before, *earlier, *beginnings("1"))[1:3]
            self.assertEqual(["leak"] * 2, [each.status for each in found], later)

    def test_e2_times_tell_nothing_where_the_beginnings_of_conversations_are_left_out(self):
        """The earliest of some sampled packets of ann and bob is the one's as likely as the other's."""
        before = flow(CAT, ANN, "udp/53", 40000, "seen", None, "2", -1200)
        pair = [flow(BOB, ANN, "udp/50002", 50001, "seen", None, "2", 0.0),
                flow(ANN, BOB, "udp/50001", 50002, "seen", None, "2", 0.02)]  # fmt: skip

        def told(*others):
            return {each.status for each in self.judged(before, *pair, *others)[1:3]}

        whole, middle = beginnings("2"), beginnings("2", flags=ACK)
        self.assertEqual({"leak"}, told(*whole))
        self.assertEqual({"unsure"}, told(), "nothing shows that beginnings are recorded")
        self.assertEqual({"unsure"}, told(*beginnings("2", count=3)))
        self.assertEqual({"leak"}, told(*whole[:6], *middle[6:]))
        self.assertEqual({"unsure"}, told(*whole[:4], *middle[4:]))
        self.assertEqual({"leak"}, told(*whole, *beginnings("3", flags=ACK)), "at another point")
        self.assertEqual({"unsure"}, told(*beginnings("3"), *middle))
        self.assertEqual(
            {"unsure"}, told(*beginnings("2", -1200)), "met in the middle, or not: they began with the log"
        )
        # Scans show nothing: they are sampled as they are. Nor do answers to what others forged.
        scan = [flow(CAT, ANN, "ssh", 42000 + n, "seen", SYN, "2", packets=9) for n in range(50)]
        echoes = [flow(CAT, ANN, f"tcp/{42000 + n}", 443, "seen", SYN_ACK, "2") for n in range(50)]
        self.assertEqual({"unsure"}, told(*scan, *echoes))
        # Without flags both directions of large packets show it.
        bare = [replace(each, tcp_flags=None, octets=900) for each in whole]
        self.assertEqual({"leak"}, told(*bare))
        self.assertEqual({"unsure"}, told(*bare[::2], *bare[5:]))
        self.assertEqual({"unsure"}, told(*(replace(each, octets=60) for each in bare)))

    def test_e6_a_refusal_may_be_the_end_of_what_was_answered_where_beginnings_are_left_out(self):
        """Of a connection that bob's machine ended by a reset two packets were taken, the first and the last."""
        before = flow(CAT, BOB, "udp/53", 40000, "seen", None, "3", -1200)
        pair = [flow(CAT, ANN, "http", 40000, "seen", SYN, "2"), flow(ANN, CAT, "tcp/40000", 80, "seen", RST, "2", 0.1)]
        back = [flow(ANN, CAT, "http", 40000, "seen", SYN, "2"), flow(CAT, ANN, "tcp/40000", 80, "seen", RST, "2", 0.1)]
        before = replace(before, point="2")
        told, doubted = ("agree refused", "break refused"), ("unsure something",) * 2
        middle, much = beginnings("2", flags=ACK), beginnings("2", flags=ACK, count=41)
        for others, expected in (
            (beginnings("2"), told), ([], told), (beginnings("2", flags=ACK, at=-1200), told),
            (middle, doubted), (much[4:], doubted), (much[3:-1], doubted),
            # Of connections that rest for hours both directions are recorded.
            (much[2:], told), (much[1:], told), (beginnings("2", flags=ACK, count=61)[3:-1], told),
            ([replace(before, point="1"), *beginnings("1", flags=ACK)], doubted),  # one point, if it shows nothing, is as others are
            ([*middle, *beginnings("2", count=16)[8:]], told), ([*middle, *beginnings("2", count=15)[8:]], doubted),
        ):  # fmt: skip
            for asked, one in zip((pair, back), expected, strict=True):
                found = self.judged(before, *asked, *others)[1:3]
                self.assertEqual([one] * 2, [f"{each.status} {each.observed}" for each in found], len(others))
        # Of a part of a log others may have the beginnings.
        table = table_of([*back, *beginnings("2", flags=ACK)])
        since = int(NOW.timestamp() * 1000) - 3_600_000
        judged = Evaluator(Comparison(Walker(load(network())))).judge(table, since=since)
        self.assertEqual("break", judged.concluded[judged.conclusion[0]].status)

    def test_e13_a_reset_is_no_refusal_of_what_belongs_to_no_connection(self):
        """A scanner's packets have more than one kind of flags; cat's machine resets what it knows nothing of."""
        for event in ("passed", "seen"):
            sent = [
                flow("192.0.2.9", CAT, "http", 40000, event, flags, packets=2, at=at)
                for flags, at in ((0x12, 0), (0x11, 1))
            ]
            back = flow(CAT, "192.0.2.9", "tcp/40000", 80, event, RST, at=1)
            for told in ([*sent, back], [sent[0], back], [sent[1], back]):
                self.assertEqual({"unsure"}, {each.status for each in self.judged(*told)})
            opening = flow("192.0.2.9", CAT, "http", 40000, event, SYN)
            self.assertEqual({"break"}, {each.status for each in self.judged(opening, back)})

    def test_e2_a_biflow_tells_nothing_where_the_beginnings_of_conversations_are_left_out(self):
        """Who meets packets in the middle takes the sender of the first for the one that began."""
        before = flow(CAT, ANN, "udp/53", 40000, "seen", None, "2", -1200)
        pair = [flow(BOB, ANN, "udp/50002", 50001, "seen", None, "2", 0.0, 1),
                flow(ANN, BOB, "udp/50001", 50002, "seen", None, "2", 0.0, 2)]  # fmt: skip
        for others, expected in ((beginnings("2"), "leak"), ([], "leak"), (beginnings("2", flags=ACK), "unsure")):
            self.assertEqual({expected}, {each.status for each in self.judged(before, *pair, *others)[1:3]})

    def test_e2_the_only_end_with_a_known_port_was_sent_to(self):
        self.check("agree answered", flow(BOB, ANN, "ssh", 40000, flags=ALL))
        self.check("agree as far as seen", flow(ANN, BOB, "tcp/40000", 22, flags=ALL))

    def test_e2_a_port_that_a_rule_names_by_itself_was_sent_to(self):
        """ann asks cat; nobody listens on 50001, and no service has that name."""
        asks = [flow(ANN, CAT, "tcp/50001", 50002, flags=ALL), flow(CAT, ANN, "tcp/50002", 50001, flags=ALL)]
        self.check("unsure answered", *asks)
        values = network()
        values["filters"]["front"]["inbound"].insert(0, {"action": "allow", "service": "tcp/50001"})
        self.check("agree answered", *asks, values=values)
        values["filters"]["front"]["inbound"][0] = {"action": "allow", "service": "tcp/50001-50100"}
        self.check("unsure answered", *asks, values=values)

    def test_e2_ports_that_clients_send_from_tell_nothing_though_a_service_or_a_listener_has_many_of_them(self):
        """ann asks cat on http, and on a port of his that few have; servers hand out the ports of a service one by one."""
        many = {"services": {"calls": "tcp/49152-65535"}, "listens": ["tcp/49152-65535"]}
        web, other = both(ANN, CAT, 80, 50001), both(ANN, CAT, 8443, 50001)
        for key, told in many.items():
            values = network()
            (values if key == "services" else values["instances"]["dan"])[key] = told
            with self.subTest(key):
                self.check("agree answered", *web, values=values)
                self.check("unsure answered", *other, values=values)
                values["services"] = values.get("services", {}) | {"ours": "tcp/8440-8450"}
                self.check("agree answered", *other, values=values)
        for number, told in (
            (16, "unsure answered"),
            (15, "leak answered"),
        ):  # so few are of the service: cat asked ann
            values = network()
            values["services"] = {"calls": f"tcp/50000-{50000 + number}"}
            self.check(told, *other, values=values)
        values = network()
        values["services"] = {"replies": "tcp/1024-65535"}
        self.check("agree answered", *web, values=values)
        self.check("agree answered", *other, values=values)  # 8443 is none that clients send from

    def test_e2_where_nothing_tells_both_are_judged(self):
        self.check("unsure answered", flow(BOB, ANN, "tcp/50002", 50001, flags=ALL))
        open_both_ways = network()
        open_both_ways["filters"]["guard"]["inbound"] = [{"action": "allow"}]
        open_both_ways["instances"]["ann"]["listens"] = ["tcp"]
        self.check("agree answered", *both(BOB, ANN, 50002, 50001), values=open_both_ways)
        told = self.judged(*both(BOB, ANN, 50002, 50001), values=open_both_ways)[0].why
        self.assertEqual("answered, as the rules say (who began is not recorded, and it comes to the same)", told)

    def test_e2_whoever_began_no_more_is_agreed_to_than_either_reading_proves(self):
        """A reply that a point at the asker's machine recorded came back; a request that was recorded there may not have
        been answered."""
        values = network()
        values["filters"]["guard"]["inbound"] = [{"action": "allow"}]
        values["filters"]["own"] = a_filter("instance", inbound=[{"action": "allow"}], outbound=[{"action": "allow"}])
        values["instances"]["bob"]["interfaces"][0]["filters"] = ["own"]
        del values["instances"]["ann"]["listens"]
        values["observation_points"]["2"] = "ann"
        for point in "23":
            both = [flow(ANN, BOB, "udp/50002", 50001, point=point), flow(BOB, ANN, "udp/50001", 50002, point=point)]
            self.check("agree as far as seen", *both, values=values)
            (found, _) = self.judged(*both, values=values)
            self.assertNotEqual("answered", found.observed)
            self.assertIn("as far as it was recorded it is as the rules say (who began is not recorded", found.why)
        self.check("agree answered", *both, *(replace(each, point="2") for each in both), values=values)

    def test_what_several_possibilities_come_to_is_no_more_than_each_of_them(self):
        plain, seen, elsewhere = judging.STOPPED_AS_SAID, judging.SEEN_BEFORE, judging.STOPPED_ELSEWHERE
        for one, other, expected in ((plain, plain, plain), (plain, seen, None), (plain, elsewhere, None),
                                     (elsewhere, plain, None), (seen, judging.PASSED_AS_SAID, seen)):  # fmt: skip
            pair = [np.array([each], dtype=np.uint8) for each in (one, other)]
            expected = judging.AS_RECORDED if expected is None else expected
            self.assertEqual(expected, judging.either(*pair)[0])
            self.assertEqual(expected, judging.whichever(*pair)[0])
        ports = np.array([plain, elsewhere, plain, seen, plain, plain], dtype=np.uint8)
        self.assertEqual([judging.AS_RECORDED, judging.PORTS_UNKNOWN, plain],
                         judging.by_every_port(ports, np.array([0, 2, 4])).tolist())  # fmt: skip

    def test_e2_a_lone_echo_reply_may_be_a_later_fragment_of_what_its_own_sender_asks(self):
        """Whoever exports a large ping without putting it together records its later fragments by type 0."""
        asked, fragments = flow(ANN, CAT, "icmp/8/0", None), flow(ANN, CAT, "icmp/0/0", None)
        of_others = flow(BOB, DAN, "icmp/8/0", None)
        for others in ([of_others], [of_others, flow(CAT, ANN, "icmp/0/0", None)]):
            found = self.judged(fragments, *others)
            self.assertEqual(("unsure", "arrived"), (found[0].status, found[0].observed))
            self.assertTrue(found[0].why.startswith("an echo reply, or a later fragment of an echo request"), found)
        self.check(["agree as far as seen", "unsure arrived"], asked, fragments)
        self.check("leak arrived", flow(CAT, ANN, "icmp/8/0", None), fragments)
        stopped_both_ways = network()
        stopped_both_ways["filters"]["front"].update(inbound=[], outbound=[])
        lone = flow(ANN, CAT, "icmp/0/0", None, point="1")
        self.assertEqual("leak", self.judged(lone, of_others, values=stopped_both_ways)[0].status)

    def test_e2_where_all_messages_are_of_type_0_their_types_are_not_told(self):
        replies = [flow(ANN, CAT, "icmp/0/0", None), flow(CAT, ANN, "icmp/0/0", None)]
        for records, is_told in ((replies, False), (replies[:1], False),
                                 ([*replies, flow(BOB, ANN, "icmp/255/255", None)], False),
                                 ([*replies, flow(BOB, CAT, "icmp/3/3", None)], True)):  # fmt: skip
            found = self.judged(*records)
            self.assertEqual(is_told, not found[0].why.startswith("which ICMP message"), found)

    def test_e3_an_echo_reply_of_who_asks_by_large_packets_himself_may_be_a_fragment(self):
        """Both ping each other, and neither gets through: the fragments of what ann asks are no answers to cat."""

        def pings(octets, event="passed"):
            records = [flow(CAT, ANN, "icmp/8/0", None, event), flow(ANN, CAT, "icmp/8/0", None),
                       flow(ANN, CAT, "icmp/0/0", None)]  # fmt: skip
            return [dataclasses.replace(each, octets=octets) for each in records]

        for octets in (0, 256, 1500):
            for event in ("passed", "denied"):
                found = self.judged(*pings(octets, event))
                self.assertEqual(["unsure", "agree", "unsure"], [each.status for each in found], (octets, event))
                self.assertTrue(found[2].why.startswith("an echo reply, or a later fragment"), found[2])
        self.check(["leak arrived", "agree as far as seen", "leak arrived"], *pings(255))
        none = [dataclasses.replace(each, packets=0) for each in pings(84)]
        self.assertEqual("unsure", self.judged(*none)[0].status)
        several = [dataclasses.replace(each, packets=10) for each in pings(840)]  # small ones, and many
        self.check(["leak arrived", "agree as far as seen", "leak arrived"], *several)

    def test_e3_an_echo_is_as_large_as_what_was_asked(self):
        """In a sampled log the first packets of what fragments are of may be missing: cat asks, and ann asks as well."""
        for asked, octets, status in (
            (84, 84, "leak"), (84, 92, "leak"), (84, 76, "leak"), (84, 93, "unsure"), (84, 75, "unsure"), (84, 1500, "unsure"),
            (84, 0, "leak"), (0, 1500, "leak"), (255, 255, "leak"), (256, 256, "unsure"), (256, 0, "unsure"),
        ):  # fmt: skip
            records = [flow(CAT, ANN, "icmp/8/0", None, "denied"), flow(ANN, CAT, "icmp/0/0", None)]
            found = self.judged(*(dataclasses.replace(each, octets=size)
                                  for each, size in zip(records, (asked, octets), strict=True)))  # fmt: skip
            self.assertEqual(status, found[1].status, (asked, octets))
        sizes = zip((84, 1000, 500), ("icmp/8/0", "icmp/8/0", "icmp/0/0"), strict=True)
        several = [dataclasses.replace(flow(*((ANN, CAT) if kind == "icmp/0/0" else (CAT, ANN)), kind, None), octets=size)
                   for size, kind in sizes]  # fmt: skip
        self.assertEqual("unsure", self.judged(*several)[2].status)

    def test_e2_a_record_without_the_port_that_it_was_sent_from_may_be_a_reply(self):
        for port in (None, 0):
            self.check("unsure answered", flow(ANN, CAT, "tcp/40000", port, flags=ALL))
            self.check(["leak answered", "leak arrived"], flow(CAT, ANN, "ssh", port, flags=ALL),
                       flow(ANN, CAT, "tcp/40000", 22, flags=ALL))  # fmt: skip
            self.check("agree answered", flow(BOB, ANN, "ssh", port, flags=ALL), flow(ANN, BOB, "tcp/0", 22, flags=ALL))

    def test_e1_later_fragments_bear_no_ports_and_prove_nothing(self):
        """What they are part of may be allowed, and may not: their ports are 0 in a record."""
        whole = flow(BOB, ANN, "dns", 40000)
        for event in ("passed", "denied", "seen"):
            for protocol in ("udp/0", "tcp/0", "proto/0", "proto/44"):
                fragments = flow(BOB, ANN, protocol, 0 if "/0" in protocol[:5] else None, event)
                found = self.judged(whole, fragments)
                self.assertEqual(["agree", "unsure"], [each.status for each in found])
                self.assertTrue(found[1].why.startswith("what it was sent to is not recorded"), found[1])

    def test_s23_without_the_clients_port_it_is_judged_by_every_port_that_may_have_been_it(self):
        """dan's subnet lets replies back to 50000 and above; bob's are 32768 to 60999."""
        request = flow(BOB, DAN, "http", None, flags=SYN, point="3")
        values = network()
        self.check("agree as far as seen", request, values=values)
        self.check("unsure arrived", request, flow(DAN, BOB, "tcp/0", 80, flags=SYN_ACK, point="3"), values=values)
        values["instances"]["bob"]["ephemeral_ports"] = "50000-60999"
        self.check("agree answered", request, flow(DAN, BOB, "tcp/0", 80, flags=SYN_ACK, point="3"), values=values)
        values["instances"]["bob"]["ephemeral_ports"] = "32768-49999"
        self.check("leak answered", request, flow(DAN, BOB, "tcp/0", 80, flags=SYN_ACK, point="3"), values=values)

    # E3 to E6: what is proved.

    def test_e3_an_answer_recorded_before_the_gate_that_decides_proves_that_the_request_passed_it(self):
        """The log was taken at the edge of cat's subnet; her filter stops it at ann, and ann answered."""
        request = flow(CAT, ANN, "ssh", 40000, flags=SYN, point="1")
        reply = flow(ANN, CAT, "tcp/40000", 22, flags=SYN_ACK, point="1", at=0.01)
        self.check("leak arrived", request, reply)
        self.check("leak answered", *both(CAT, ANN, 22, 40000, "1"))

    def test_e3_an_answer_overrides_an_earlier_denial(self):
        self.check(
            "leak answered", flow(CAT, ANN, "ssh", 40000, "denied", SYN, "2"), *both(CAT, ANN, 22, 40000, "1", 1)
        )

    def test_e3_what_was_denied_beside_an_answer_agrees_only_if_it_was_surely_a_try(self):
        """Packets that were denied and are no opening may have followed the answer: what is opened may hang."""
        whole = both(BOB, ANN, 22, 40000, "1")
        self.check("agree answered", flow(BOB, ANN, "ssh", 40000, "denied", SYN, "2"), *whole)
        for flags in (ACK, ALL, None):
            found = self.judged(flow(BOB, ANN, "ssh", 40000, "denied", flags, "2", 1), *whole)
            self.assertEqual({("unsure", "ann/eth0")}, {(each.status, each.at) for each in found}, flags)
        request, reply = flow(BOB, ANN, "udp/53", 40000), flow(ANN, BOB, "udp/40000", 53, at=0.01)
        self.check("unsure arrived", request, reply, flow(BOB, ANN, "udp/53", 40000, "denied", point="2", at=1))

    def test_e4_an_acknowledgement_of_the_initiator_proves_that_the_reply_came_back(self):
        self.check("agree answered", flow(BOB, ANN, "ssh", 40000, flags=ALL, point="2"))
        self.check("agree as far as seen", flow(BOB, ANN, "ssh", 40000, flags=SYN, point="2"))

    def test_e4_so_does_a_reply_behind_the_last_gate_of_its_way(self):
        request = flow(BOB, ANN, "udp/53", 40000, point="2")
        self.check("agree as far as seen", request, flow(ANN, BOB, "udp/40000", 53, point="2", at=0.01))
        self.check("agree answered", request, flow(ANN, BOB, "udp/40000", 53, point="3", at=0.01))

    def test_e4_an_acknowledgement_that_met_nothing_but_resets_shows_no_answer(self):
        """cat may not reach ann, and bob may on ssh; a listener that knows of no connection answers by a reset."""
        for flags in (ACK, ACK | 0x08, ACK | 0x01):
            for reset in (RST, 0x04):
                refused = [flow(CAT, ANN, "ssh", 40000, flags=flags), flow(ANN, CAT, "tcp/40000", 22, flags=reset)]
                self.check("unsure refused", *refused)
                taken = [flow(BOB, ANN, "ssh", 40000, flags=flags), flow(ANN, BOB, "tcp/40000", 22, flags=reset)]
                self.check("unsure refused", *taken)
        # It had an opening, so that there was a connection.
        opened = [flow(BOB, ANN, "ssh", 40000, flags=SYN), *taken]
        self.check("agree answered", *opened)
        # What is told of more than resets was a connection as well.
        more = [flow(CAT, ANN, "ssh", 40000, flags=ACK), flow(ANN, CAT, "tcp/40000", 22, flags=RST | 0x08)]
        self.check("leak answered", *more)

    def test_e4_a_single_acknowledgement_without_data_and_nothing_else_shows_no_answer(self):
        def asks(**rest):
            return replace(flow(CAT, ANN, "ssh", 40000, "seen", ACK), **rest)

        self.check("unsure seen", asks(octets=40))
        self.check("leak answered", asks(octets=400))
        self.check("leak answered", asks(octets=80, packets=2))
        self.check("leak answered", asks(octets=40), flow(ANN, CAT, "tcp/40000", 22, "seen", ACK))

    def test_e3_an_answer_to_somebody_who_sent_nothing_but_resets_is_the_echo_of_another(self):
        """Somebody opened a connection to cat's http in bob's name, which the rules do not let through."""
        values = network()
        values["filters"]["front"]["inbound"] = []
        echo = [flow(CAT, BOB, "tcp/40000", 80, flags=SYN_ACK), flow(BOB, CAT, "http", 40000, flags=0x04)]
        self.check("unsure something", *echo, values=values)
        self.check("leak arrived", *echo, flow(BOB, CAT, "http", 40000, flags=SYN), values=values)

    def test_e5_what_passed_at_a_point_passed_the_gates_up_to_it_and_nothing_behind(self):
        self.check("agree as far as seen", flow(CAT, ANN, "ssh", 40000, flags=SYN, point="1"))
        self.check("leak passed", flow(CAT, ANN, "ssh", 40000, flags=SYN, point="2"))

    def test_e5_what_was_only_seen_at_a_filter_did_not_pass_it(self):
        self.check("agree as far as seen", flow(CAT, ANN, "ssh", 40000, "seen", SYN, "2"))

    def test_e5_what_passed_nobody_knows_where_may_have_passed_in_front_of_every_filter(self):
        self.check("unsure passed", flow(BOB, ANN, "http", 40000, flags=SYN))
        self.check("unsure passed", flow(CAT, ANN, "ssh", 40000, flags=SYN))
        self.check("unsure seen", flow(CAT, ANN, "ssh", 40000, "seen", SYN))

    def test_e6_denied_is_stopped_there_and_elsewhere_is_said(self):
        (at_gate,) = self.judged(flow(CAT, ANN, "ssh", 40000, "denied", SYN, "2"))
        (elsewhere,) = self.judged(flow(CAT, ANN, "ssh", 40000, "denied", SYN, "1"))
        (off_its_way,) = self.judged(flow(CAT, ANN, "ssh", 40000, "denied", SYN, "3"))
        self.assertEqual((off_its_way.status, off_its_way.is_elsewhere), ("agree", True))
        self.assertEqual(
            [(c.status, c.is_elsewhere) for c in (at_gate, elsewhere)], [("agree", False), ("agree", True)]
        )
        self.check("break denied", flow(BOB, ANN, "ssh", 40001, "denied", SYN))

    def test_e6_a_reset_is_a_refusal_and_no_answer(self):
        refused = [
            flow(CAT, ANN, "ssh", 40000, "seen", SYN, "1"),
            flow(ANN, CAT, "tcp/40000", 22, "seen", RST, "1", 0.01),
        ]
        self.check("agree refused", *refused)
        self.assertTrue(self.judged(*refused)[0].different_signal, "by the rules it is dropped")
        self.check("break refused", flow(BOB, ANN, "ssh", 40000, flags=SYN), flow(ANN, BOB, "tcp/40000", 22, flags=RST))
        self.check(
            "unsure refused", flow(ANN, BOB, "http", 40000, flags=SYN), flow(BOB, ANN, "tcp/40000", 80, flags=RST)
        )
        # Nobody knows what listens outside.
        there = flow(CAT, "192.0.2.9", "https", 40000, flags=SYN)
        self.check("unsure refused", there, flow("192.0.2.9", CAT, "tcp/40000", 443, flags=RST, at=0.1))

    def test_e6_without_flags_small_packets_of_tcp_may_be_refusals_and_large_ones_are_none(self):
        for flags in (None, 0):  # an exporter that does not know them may well have 0 for them
            request = flow(CAT, ANN, "ssh", 40000, "seen", flags, point="1")
            reply = flow(ANN, CAT, "tcp/40000", 22, "seen", flags, point="1", at=0.01)
            bare = flow(BOB, DAN, "ssh", 40001, flags=RST, point="1")
            for octets, framed, told in ((44, "unsure something", "unsure something"), (69, "leak arrived", "leak arrived"),
                                         (68, "unsure something", "leak arrived")):  # fmt: skip
                self.check(framed, request, replace(reply, octets=octets))
                # A point that has shorter segments than frames are counts none.
                for size, point, expected in ((53, "1", told), (54, "1", framed), (40, "2", framed)):
                    shown = replace(bare, octets=size, point=point)
                    self.assertEqual(expected, self.last(shown, request, replace(reply, octets=octets)), (octets, size))
            self.check("unsure something", request, replace(reply, octets=0, packets=3))

    # E7, E8: what the records of others tell.

    def test_e7_a_request_without_an_answer_where_answers_of_others_were_recorded_is_silence(self):
        others = [*both(BOB, ANN, 22, 41000, "2", 0), *both(BOB, ANN, 22, 41001, "2", 60)]
        silent = flow(BOB, ANN, "ssh", 40000, flags=SYN, point="2", at=10)
        self.assertEqual("break silent", self.last(*others, silent))
        self.assertEqual("agree as far as seen", self.last(silent), "alone it proves nothing")

    def test_e7_nothing_is_proved_by_silence_where_the_log_is_sampled_or_one_sided(self):
        others = [*both(BOB, ANN, 22, 41000, "2", 0), *both(BOB, ANN, 22, 41001, "2", 60)]
        half = flow(BOB, ANN, "ssh", 41002, flags=ALL, point="2", at=20)  # surely answered, and no answer recorded
        self.assertEqual(
            "agree as far as seen", self.last(*others, half, flow(BOB, ANN, "ssh", 40000, flags=SYN, point="2", at=10))
        )

    def test_e7_of_udp_and_where_nothing_is_known_to_listen_silence_is_unsure(self):
        others = [*both(BOB, ANN, 22, 41000, "2", 0), *both(BOB, ANN, 22, 41001, "2", 60)]
        self.assertEqual("unsure silent", self.last(*others, flow(BOB, ANN, "udp/53", 40000, point="2", at=10)))
        to_bob = [*both(ANN, BOB, 443, 41000, "2", 0), *both(ANN, BOB, 443, 41001, "2", 60)]
        self.assertEqual(
            "unsure silent", self.last(*to_bob, flow(ANN, BOB, "http", 40000, flags=SYN, point="2", at=10))
        )

    def test_e7_at_the_very_end_of_a_log_the_answer_may_be_to_come(self):
        others = both(BOB, ANN, 22, 41000, "2", 0)
        self.assertEqual(
            "agree as far as seen", self.last(*others, flow(BOB, ANN, "ssh", 40000, flags=SYN, point="2", at=5))
        )

    def test_e8_a_lone_reply_is_unsure_where_requests_were_recorded_and_proves_arrival_where_none_were(self):
        lone = flow(ANN, BOB, "tcp/40000", 22, flags=SYN_ACK, point="2", at=5)
        self.assertEqual("unsure arrived", self.last(*both(BOB, ANN, 22, 41000, "2"), lone))
        self.assertEqual("agree as far as seen", self.last(lone))
        to_cat = flow(ANN, CAT, "tcp/40000", 22, flags=SYN_ACK, point="2", at=5)
        self.assertEqual("leak arrived", self.last(to_cat))

    def last(self, *records, values=None):
        found = self.judged(*records, values=values)[-1]
        return f"{found.status} {'as far as seen' if found.as_far_as_seen else found.observed}"

    # E13: alone from beyond.

    def test_e13_what_somebody_beyond_sends_alone_may_be_what_nobody_asked_for(self):
        """The edge of a network sees answers to requests that others forged, of machines that never asked."""
        values = network()
        values["filters"]["front"]["outbound"] = []
        values["observation_points"]["4"] = "internet"
        for at, seen in ((None, "something"), ("4", "passed")):
            syn_ack = flow("192.0.2.9", CAT, "tcp/40000", 443, flags=SYN_ACK, packets=3, point=at, at=5)
            ack = replace(syn_ack, tcp_flags=0x18)
            udp = flow("192.0.2.9", CAT, "udp/40000", 53, point=at, at=5, packets=500)
            for lone in (syn_ack, ack, replace(ack, tcp_flags=None, octets=900), udp):
                for others in ([], both("192.0.2.7", CAT, 80, 41000, at)[:1], both("192.0.2.7", CAT, 80, 41000, at),
                               both(CAT, "192.0.2.7", 443, 41000, at)):  # fmt: skip
                    self.assertEqual(f"unsure {seen}", self.last(*others, lone, values=values))
                (found,) = self.judged(lone, values=values)
                self.assertIn("perhaps nobody asked for it", found.why)
            # A machine that knows of no connection resets what comes of one: no request of its.
            reset = flow(CAT, "192.0.2.9", "https", 40000, flags=0x04, point=at, at=5.01)
            for records in ([ack, reset], [syn_ack, reset], [reset]):
                self.assertEqual("unsure", self.last(*records, values=values).split()[0])
        # What passed a gate that lets it through neither as a reply nor as a request is a leak whatever it is.
        values["filters"]["front"]["inbound"] = [{"action": "allow", "service": "http"}]
        values["observation_points"]["5"] = "cat/eth0"
        for others in ([], both("192.0.2.7", CAT, 80, 41000, "5")):
            for lone in (udp, replace(ack, point="5")):
                self.assertEqual("leak passed", self.last(*others, replace(lone, point="5"), values=values))
        pings = flow(BOB, CAT, "ping", None), flow("192.0.2.9", CAT, "icmp/0", None, point="5", at=5)
        self.assertEqual("unsure passed", self.last(*pings, values=values))

    def test_e13_with_what_asked_for_it_or_where_a_connection_goes_on_it_is_a_reply(self):
        values = network()
        values["filters"]["front"]["outbound"] = []
        asked = flow(CAT, "192.0.2.9", "https", 40000, flags=SYN)
        answer = flow("192.0.2.9", CAT, "tcp/40000", 443, flags=SYN_ACK, at=0.1)
        self.assertEqual("leak arrived", self.last(*both("192.0.2.7", CAT, 80, 41000), asked, answer, values=values))
        self.check("leak denied", asked, replace(answer, event="denied"), values=values)
        self.check("leak arrived", replace(answer, tcp_flags=ALL, packets=2), values=values)
        self.check("unsure something", replace(answer, tcp_flags=ALL), values=values)
        for packets, expected in ((16, "unsure something"), (17, "leak arrived")):
            self.check(expected, replace(answer, tcp_flags=ACK, packets=packets, octets=9000), values=values)
        # A machine of ours answers what has come to it.
        self.check("leak denied", flow(ANN, CAT, "tcp/40000", 22, "denied", SYN_ACK))
        self.check("leak arrived", flow(ANN, CAT, "tcp/40000", 22, flags=SYN_ACK))

    def test_e13_without_the_clients_port_what_came_from_beyond_may_be_of_another_conversation(self):
        """Of the same two: ours asked in vain, and others got answers in our name."""
        values = network()
        values["filters"]["front"]["outbound"] = []
        values["filters"]["front"]["inbound"] = []
        one_way = network()
        one_way["filters"]["front"] |= {"stateful": False, "outbound": []}
        for port in (None, 0):
            asked = flow(CAT, "192.0.2.9", "https", port, "denied", SYN, "1")
            stray = flow("192.0.2.9", CAT, "tcp/1", 443, flags=SYN_ACK, at=0.1)
            stray = replace(stray, service=Service(6, port or 0))
            (_, found) = self.judged(asked, stray, values=values)
            self.assertEqual("unsure", found.status)
            self.assertIn("may be of another conversation", found.why)
            # What ours sends to nobody but who answered shows that it came through.
            went_on = replace(asked, event="passed", tcp_flags=ALL, packets=4, point=None)
            self.check("leak answered", asked, stray, went_on, values=values)
            udp = replace(asked, service=Service(17, 53), tcp_flags=None)
            reply = replace(stray, service=Service(17, port or 0), source_port=53, tcp_flags=None)
            self.check("unsure arrived", udp, reply, values=values)
            # A scan of a service: an opening is stopped, and what is none has flags as of an answer.
            scan = flow("192.0.2.9", CAT, "http", port, "denied", SYN, "1")
            for flags, packets in ((0x18, 1), (0x29, 2)):
                self.assertEqual("unsure" if flags & ACK else "agree",
                                 self.last(scan, replace(scan, event="passed", tcp_flags=flags, packets=packets,
                                                         point=None), values=values).split()[0])  # fmt: skip
            # An opening that came to the gate, and a scan that passed it, are of two.
            fenced = network()
            fenced["filters"]["front"]["inbound"] = []
            fenced["observation_points"] |= {"4": "internet", "6": "cat"}
            opening = flow("192.0.2.9", CAT, "http", port, flags=SYN, point="4")
            passed = replace(opening, point="6")
            for flags, expected in ((0x29, "unsure"), (SYN, "leak")):
                told = self.last(opening, replace(passed, tcp_flags=flags), values=fenced)
                self.assertEqual(expected, told.split()[0], (port, flags))
            # What is denied of him beside what the rules allow, and is no opening, may be of none.
            late = flow("192.0.2.9", CAT, "http", port, "denied", 0x18)
            self.assertEqual("unsure", self.last(late).split()[0])
            self.assertEqual("break", self.last(replace(late, tcp_flags=SYN)).split()[0])
            # What ours answers with is no stranger's, but whether that came back only he would tell.
            served = replace(flow(CAT, "192.0.2.9", "tcp/1", 80, flags=SYN_ACK), service=Service(6, port or 0))
            asked = flow("192.0.2.9", CAT, "http", port, flags=SYN)
            data = replace(asked, tcp_flags=0x18, packets=2)
            self.check("unsure answered", asked, replace(served, event="denied"), data, values=one_way)
            self.assertEqual("leak", self.last(scan, served, values=values).split()[0])

    def test_e13_an_echo_reply_from_beyond_may_answer_another_ping_or_none(self):
        values = network()
        values["filters"]["front"] |= {"outbound": []}
        asked = flow(CAT, "192.0.2.9", "ping", None, "denied", point="1")
        reply = replace(flow("192.0.2.9", CAT, "ping", None, at=0.2), service=Service(1, 0))
        found = self.judged(asked, reply, values=values)
        self.assertEqual({"unsure"}, {each.status for each in found})
        self.assertIn("perhaps nobody asked for it", found[0].why)
        self.check("agree denied", asked, values=values)
        # That the request was seen behind the gate shows it, and that the reply was does not.
        values["observation_points"]["4"] = "internet"
        self.check("unsure arrived", asked, replace(reply, point="4"), values=values)
        for at_gateway in (replace(asked, event="passed", point="4"), replace(asked, event="seen", point="4")):
            (found, _) = self.judged(at_gateway, reply, values=values)
            self.assertEqual(("leak", "it passed the gate that stops it by the rules"), (found.status, found.why))
            self.check(f"leak {at_gateway.event}", at_gateway, values=values)
        # What answers our own machines is theirs.
        inside = [
            flow(BOB, CAT, "ping", None, at=1),
            replace(flow(CAT, BOB, "ping", None, at=1.1), service=Service(1, 0)),
        ]
        values["filters"]["front"] |= {"inbound": []}
        self.assertEqual({"leak"}, {each.status for each in self.judged(*inside, values=values)})

    def test_e13_what_was_denied_to_nothing_that_was_recorded_is_unsure(self):
        """A flood with forged senders is answered to these, and what a firewall knows no more of comes late."""
        values = network()
        values["filters"]["front"]["outbound"] = []
        syn_ack = flow("192.0.2.9", CAT, "tcp/40000", 443, "denied", SYN_ACK)
        for lone in (syn_ack, flow("192.0.2.9", CAT, "tcp/40000", 443, "denied", 0x18, packets=3),
                     flow("192.0.2.9", CAT, "udp/40000", 53, "denied")):  # fmt: skip
            (found,) = self.judged(lone, values=values)
            self.assertEqual(("unsure", "denied"), (found.status, found.observed))
            self.assertIn("perhaps nobody asked for it", found.why)
        self.check("unsure denied", replace(syn_ack, event="passed"), syn_ack, values=values)
        # By rules that let replies back it is no break either.
        for lone in (syn_ack, replace(syn_ack, tcp_flags=0x18)):
            (found,) = self.judged(lone)
            self.assertEqual("unsure", found.status)
            self.assertIn("perhaps the end of what a firewall knew no more of", found.why)
        # What the rules stop on the way back was denied as they say.
        self.check("agree denied", flow(DAN, BOB, "tcp/40000", 22, "denied", SYN_ACK))

    def test_e13_without_an_opening_nobody_outside_was_answered(self):
        values = network()
        values["filters"]["front"]["inbound"] = [{"action": "allow", "service": "ssh"}]
        values["observation_points"]["5"] = "cat/eth0"
        data = flow("192.0.2.9", CAT, "http", 40000, flags=0x18, packets=3)
        (found,) = self.judged(data, values=values)
        self.assertEqual(("unsure", "passed"), (found.status, found.observed))
        self.assertIn("where is not known", found.why)
        self.check("agree as far as seen", data)
        self.check("leak answered", replace(data, tcp_flags=SYN), data, values=values)
        self.check("leak answered", replace(data, packets=17), values=values)
        self.check("leak passed", replace(data, point="5"), values=values)
        self.check("agree answered", flow(BOB, CAT, "http", 40000, flags=0x18, packets=3))

    def test_e13_a_reply_alone_agrees_as_far_as_seen(self):
        """Where the rules let it through, also behind the last gate of its way."""
        values, one_way = network(), network()
        values["observation_points"]["6"] = "cat"
        one_way["filters"]["edge"] |= {"inbound": [], "outbound": [{"action": "allow"}]}
        lone = flow("192.0.2.9", CAT, "tcp/40000", 443, flags=SYN_ACK, point="6")
        (found,) = self.judged(lone, values=values)
        self.assertEqual(("agree", True), (found.status, found.as_far_as_seen))
        self.assertIn("nothing that asked for it was recorded", found.why)
        # Where its reply is what the rules stop, or the sender does not run, nothing shows that it was asked either.
        values["instances"]["cat"]["state"] = "stopped"
        self.check("unsure passed", lone, values=values)
        self.check("unsure denied", replace(lone, event="denied"), values=values)
        values["instances"]["cat"].pop("state")
        for event, expected in (("passed", "unsure something"), ("denied", "unsure denied")):
            self.check(expected, flow("192.0.2.9", DAN, "tcp/40000", 443, event, SYN_ACK), values=one_way)
        asked = flow(CAT, "192.0.2.9", "https", 40000, flags=SYN, at=-0.1)
        self.check("agree answered", asked, lone, values=values)

    def test_e13_a_forged_address_does_not_come_by_the_edge_of_its_outside(self):
        """What an outside's own filter stops, and was recorded within, may be of somebody else."""
        values = network()
        values["filters"]["fence"] = a_filter("subnet", outbound=[{"action": "allow", "service": "ssh"}])
        values["outside"]["internet"]["filter"] = "fence"
        fenced = values
        values["observation_points"]["6"] = "cat"
        scan = flow("192.0.2.9", CAT, "http", 40000, flags=0x18, point="6")
        (found,) = self.judged(scan, values=fenced)
        self.assertEqual("unsure", found.status)
        self.assertIn("its address may be forged", found.why)
        lone = flow("192.0.2.9", CAT, "udp/40000", 53, point="6")
        values["filters"]["front"]["outbound"] = []
        self.check("unsure passed", lone, values=values)
        # Nor by a crossing from its zone, where others outside are in another.
        values = network()
        values["filters"]["cross"] = a_filter("zone", rules=[{"action": "drop"}])
        values["filters"]["front"]["outbound"] = []
        values["crossings"] = [{"from": "public", "to": "left", "filter": "cross"}]
        values["observation_points"]["6"] = "cat"
        self.check("unsure passed", lone, values=values)
        values["outside"]["depot"]["zone"] = "public"
        self.check("leak passed", lone, values=values)
        # What asks by itself is what it seems.
        for asked in (flow("192.0.2.9", CAT, "http", 40000, flags=SYN, point="6"),
                      flow("192.0.2.9", CAT, "dns", 40000, point="6"), flow("192.0.2.9", CAT, "ping", None, point="6")):  # fmt: skip
            self.check("leak passed", asked, values=fenced)

    def test_e6_what_is_no_opening_by_its_flags_or_size_may_have_come_late(self):
        """Of allowed traffic: scans without flags, and what firewalls deny of closed connections, in logs that have no
        flags."""
        lone = flow("192.0.2.9", CAT, "http", 40000, "denied")
        told = flow("192.0.2.8", CAT, "http", 40001, flags=ALL, packets=6)
        bare = flow(BOB, DAN, "ssh", 40001, flags=RST)
        for octets, framed, expected in (
            (40, "unsure", "unsure"), (43, "unsure", "unsure"), (44, "unsure", "break"), (68, "unsure", "break"),
            (69, "break", "break"), (102, "break", "break"), (103, "unsure", "unsure"), (340, "unsure", "unsure"),
            (0, "break", "break"),
        ):  # fmt: skip
            for packets in (1, 3):
                few = replace(lone, packets=packets, octets=packets * octets)
                if octets == 0 or octets >= 54:  # a shorter one shows by itself that no frames are counted
                    self.assertEqual(framed, self.judged(few)[0].status, (octets, packets))
                self.assertEqual(expected, self.judged(few, replace(bare, octets=40))[0].status, (octets, packets))
        self.check("break denied", replace(lone, tcp_flags=0))
        self.assertEqual("unsure denied", self.last(told, replace(lone, tcp_flags=0)))
        self.assertEqual("break denied", self.last(told, lone))
        self.assertEqual("break denied", self.last(replace(told, point="1"), replace(lone, tcp_flags=0)))

    def test_e6_replies_that_were_denied_behind_others_or_long_after_came_late(self):
        """A firewall that waits for one answer, or some seconds, denies what comes then: a second answer of a name
        server, or one that took long."""
        asked, second = flow(BOB, ANN, "udp/53", 40000), flow(ANN, BOB, "udp/40000", 53, "denied", at=1.2)
        for point in (None, "2"):
            first = flow(ANN, BOB, "udp/40000", 53, point=point, at=0.1)
            for at, expected in ((0.1, "break"), (1.0, "break"), (1.1, "unsure"), (1.2, "unsure")):
                found = self.judged(asked, first, replace(second, start=NOW + timedelta(seconds=at), point=point))
                self.assertEqual({expected}, {each.status for each in found}, at)
        # At another point it is the rules there.
        self.assertEqual("break", self.judged(asked, replace(first, point="8"), replace(second, point="9"))[0].status)
        for at, expected in ((19.9, "break"), (20, "unsure"), (45, "unsure")):
            (first, _) = self.judged(asked, flow(ANN, BOB, "udp/40000", 53, "denied", at=at))
            self.assertEqual(expected, first.status, at)
        # Each of them, and where it is known when.
        early = replace(second, start=NOW + timedelta(seconds=0.1))
        late = replace(second, start=NOW + timedelta(seconds=50), end=NOW + timedelta(seconds=50))
        self.assertEqual("break", self.judged(asked, early, late)[0].status)
        self.assertEqual("break", self.judged(asked, replace(late, start=None, end=None))[0].status)

    def test_e5_a_few_short_packets_without_flags_alone_may_be_resets(self):
        """Of a machine that resets what strangers send: an opening is longer."""
        sent = flow(CAT, ANN, "ssh", 40000, point="2")
        for octets, packets, expected in ((160, 4, "unsure"), (176, 4, "leak"), (643, 16, "unsure"), (684, 17, "leak"),
                                          (680, 17, "unsure"), (40_000, 1000, "unsure")):  # fmt: skip
            (found,) = self.judged(replace(sent, packets=packets, octets=octets))
            self.assertEqual(expected, found.status, (octets, packets))
        answer = replace(flow(ANN, CAT, "tcp/40000", 22, point="2", at=0.1), octets=900)
        self.check("leak arrived", replace(sent, octets=40), answer)

    def test_e7_nobody_need_answer_a_reset_or_what_is_no_opening(self):
        others = [*both("192.0.2.7", CAT, 80, 41000), flow(BOB, CAT, "http", 42000, flags=SYN, at=20)]
        for flags, expected in ((SYN, "break silent"), (0x29, "agree as far as seen"), (0x01, "agree as far as seen"),
                                (0x04, "agree as far as seen"), (RST, "agree as far as seen")):  # fmt: skip
            lone = flow("192.0.2.9", CAT, "http", 40000, "seen", flags=flags)
            self.assertEqual(expected, self.last(*others, lone))
        for flags, expected in ((SYN, "break silent"), (0x04, "agree as far as seen"), (RST, "agree as far as seen"),
                                (0x29, "agree as far as seen"), (0x2B, "break silent")):  # fmt: skip
            self.assertEqual(expected, self.last(*others, flow(BOB, CAT, "http", 40000, "seen", flags=flags)))

    def test_e2_one_packet_with_syn_and_ack_began_no_biflow(self):
        """An exporter takes whoever sent the first packet that it met for the one that began."""
        lone = flow("192.0.2.9", CAT, "tcp/8000", 443, "denied", SYN_ACK, direction=1)
        (found,) = self.judged(lone)
        self.assertEqual("unsure", found.status)
        self.assertNotIn("ports alone would say", found.why)

    # E9: the rest of the table.

    def test_e9_what_a_listener_or_a_stopped_machine_stops_is_the_inventorys_fault(self):
        values = network()
        values["instances"]["bob"]["state"] = "stopped"
        (first, _) = self.judged(*both(ANN, CAT, 443, 40000))
        (second, _) = self.judged(*both(CAT, BOB, 443, 40000), values=values)
        self.assertEqual([(c.status, c.is_inventory) for c in (first, second)], [("agree", True)] * 2)

    def test_e9_partly_is_judged_by_the_conversations_own_port(self):
        values = network()
        values["filters"]["edge"]["inbound"] = [{"action": "allow", "source_ports": "50000-60999"}]
        self.check("leak answered", flow(ANN, DAN, "ssh", 40000, flags=ALL), values=values)
        self.check("agree answered", flow(ANN, DAN, "ssh", 50000, flags=ALL), values=values)

    def test_e9_an_answered_one_way_conversation_is_a_leak_of_the_reply(self):
        (found,) = self.judged(flow(ANN, DAN, "ssh", 40000, flags=ALL))
        self.assertEqual((found.status, found.decider), ("leak", ("subnet-out", "edge", "otherwise")))
        request = flow(ANN, DAN, "ssh", 40000, flags=SYN)
        self.check("agree as far as seen", request, flow(DAN, ANN, "tcp/40000", 22, "seen", SYN_ACK))
        self.check("agree denied", request, flow(DAN, ANN, "tcp/40000", 22, "denied", SYN_ACK))

    def test_e9_a_request_is_not_denied_where_the_rules_stop_its_reply(self):
        """Wherever that was: something else stops it."""
        for point in (None, "9", "1"):
            (found,) = self.judged(flow(ANN, DAN, "ssh", 40000, "denied", SYN, point=point))
            self.assertEqual(("agree", True), (found.status, found.is_elsewhere), point)
        reply = flow(DAN, ANN, "tcp/40000", 22, "denied", SYN_ACK)
        self.assertEqual(
            [False] * 2, [c.is_elsewhere for c in self.judged(flow(ANN, DAN, "ssh", 40000, flags=SYN), reply)]
        )

    def test_e9_a_denied_reply_of_an_allowed_flow_is_a_break_with_no_way_back(self):
        found = self.judged(flow(BOB, ANN, "ssh", 40000, flags=SYN), flow(ANN, BOB, "tcp/40000", 22, "denied", SYN_ACK))
        self.assertEqual({(c.status, c.cause) for c in found}, {("break", "no-way-back")})

    def test_e9_where_the_rules_let_through_the_first_packet_alone_that_is_what_agrees(self):
        """bob's kernel accepts what is new, and has no rule for known connections (S35)."""
        values = network()
        values["instances"]["bob"] |= {"host_filter": {"nftables": "bob.json"}, "listens": ["http"]}
        opening = flow(CAT, BOB, "http", 40000, flags=SYN, at=-1)
        whole = both(CAT, BOB, 80, 40000)
        denied = flow(CAT, BOB, "http", 40000, "denied", ACK, "3", 1)
        refused = [opening, flow(BOB, CAT, "tcp/40000", 80, flags=RST)]
        for known, told in (
            ([], [("agree", True), ("agree", True), ("agree", False), ("break", False), ("unsure", False)]),
            ([("established", "accept")],
             [("agree", False), ("unsure", False), ("unsure", False), ("break", False), ("break", False)]),
        ):  # fmt: skip
            files = {"bob.json": listing("input", "drop", ("new", "accept"), *known)}
            found = []
            for records in (
                whole,
                [*whole, denied],
                [denied],
                [flow(CAT, BOB, "http", 40000, "denied", SYN, "3")],
                refused,
            ):
                walker = Walker(load(values, files))
                judged = Evaluator(Comparison(walker)).judge(table_of(records))
                concluded = judged.concluded[judged.conclusion[0]]
                found.append((concluded.status, "what is opened hangs" in concluded.why))
            self.assertEqual(told, found, known)

    def test_e9_records_and_sessions_older_than_the_network_file_are_set_apart(self):
        values = network()
        values["as_of"] = "2026-11-20T09:00:00Z"
        (old,) = self.judged(flow(CAT, ANN, "ssh", 40000, flags=ALL, at=-7200), values=values)
        session = [flow(CAT, ANN, "ssh", 40001, flags=ACK, at=at) for at in range(-3720, -3300, 60)]
        found = self.judged(*session, values=values)
        self.assertEqual((old.status, old.cause), ("unsure", "log-before-as-of"))
        self.assertEqual({(c.status, c.cause) for c in found}, {("unsure", "older-session")})

    def test_s37_what_is_seen_at_an_interface_was_perhaps_seen_in_front_of_the_machines_own_filter(self):
        """cat lets no reply out. One that passed at her interface did leave; one that was seen there, nobody knows."""
        values = network()
        values["filters"]["own"] = a_filter("host", stateful=False, inbound=[{"action": "allow"}], outbound=[])
        values["instances"]["cat"]["host_filter"] = "own"
        values["observation_points"]["4"] = "cat/eth0"
        request = flow(ANN, CAT, "http", 40000, flags=SYN)
        reply = flow(CAT, ANN, "tcp/40000", 80, flags=SYN_ACK, point="4")
        self.check("leak answered", request, reply, values=values)
        self.check("agree as far as seen", request, replace(reply, event="seen"), values=values)
        self.check("agree denied", request, replace(reply, event="denied"), values=values)

    def test_s38_at_the_edge_of_an_outside_there_is_the_address_that_was_sent_to(self):
        """The depot lets nothing out to ann's public address. What it sends to her private one goes nowhere, later."""
        values = network()
        values["filters"]["fence"] = a_filter("subnet", otherwise="allow", outbound=[
            {"action": "drop", "to": "203.0.113.0/24"}])  # fmt: skip
        values["outside"]["depot"]["filter"] = "fence"
        values["observation_points"]["4"] = "depot"
        for target, told in (("203.0.113.10", "leak passed"), (ANN, "agree as far as seen")):
            self.check(told, flow("198.51.100.3", target, "ssh", 40000, flags=SYN, point="4"), values=values)
        # Behind the door the same address is that of whoever was sent to in public.
        self.check("leak passed", flow("198.51.100.3", ANN, "ssh", 40000, flags=SYN, point="2"), values=values)

    def test_s37_what_a_next_hop_does_not_pass_on_has_come_to_it_and_is_stopped_there(self):
        """Whatever ann sends to dan is to go by cat, who forwards nothing."""
        values = network()
        values["route_tables"]["north-table"].append({"to": "10.2.1.0/24", "via": {"instance": "cat"}})
        values["observation_points"]["4"] = "cat"
        request = flow(ANN, DAN, "ssh", 40000, "denied", SYN, "4")
        (found,) = self.judged(request, values=values)
        self.assertEqual(("agree", False, "route"), (found.status, found.is_elsewhere, found.decider[0]))
        self.check("agree as far as seen", replace(request, event="seen"), values=values)
        (found,) = self.judged(replace(request, point="3"), values=values)  # bob has no part in it
        self.assertEqual(("agree", True), (found.status, found.is_elsewhere))

    def test_e6_what_is_denied_without_its_opening_may_have_come_late(self):
        """To a firewall that has forgotten it, the end of a connection is no part of one: logs are full of such."""
        fin, push = 0x11, 0x18
        for flags in (fin, ACK, push):
            request = flow(BOB, ANN, "ssh", 40000, "denied", flags, "2")
            reply = flow(ANN, BOB, "tcp/40000", 22, "denied", flags, "3")
            for records in ([request], [reply], [request, reply]):
                self.assertEqual({"unsure"}, {each.status for each in self.judged(*records)}, (flags, len(records)))
            for each in (request, reply):
                self.assertTrue(self.judged(each)[0].why.startswith("denied, and what it belongs to"))
            opening = flow(BOB, ANN, "ssh", 40000, flags=SYN, point="2", at=-1)
            self.check("break denied", opening, reply)
        self.check("break denied", flow(BOB, ANN, "ssh", 40000, "denied", SYN, "2"))
        self.check("break denied", flow(ANN, BOB, "tcp/40000", 22, "denied", SYN_ACK, "3"))
        # Without flags it was its opening that was denied, more likely than not; a reply was not.
        self.check("break denied", flow(BOB, ANN, "ssh", 40000, "denied", None, "2"))
        self.check("unsure denied", flow(ANN, BOB, "tcp/40000", 22, "denied", None, "3"))
        self.check("unsure denied", flow(ANN, BOB, "udp/40000", 53, "denied", point="3"))
        self.check("break denied", flow(BOB, ANN, "udp/53", 40000, "denied", point="2"))
        self.check("agree denied", flow(CAT, ANN, "ssh", 40000, "denied", fin, "2"))

    def test_s2_records_of_a_private_sender_whom_nobody_recorded_do_not_agree_with_what_is_said_of_the_internet(self):
        """Whoever has 10.99.1.1 did not come by the door, though ann takes ssh from everybody there."""
        values = network()
        values["filters"]["guard"]["inbound"] = [{"action": "allow", "service": "ssh"}]
        self.check("agree answered", *both("192.0.2.9", ANN, 22, 40000), values=values)
        found = self.judged(*both("10.99.1.1", ANN, 22, 40000), values=values)
        self.assertEqual({("leak", "route")}, {(each.status, each.decider[0]) for each in found})
        self.check("unsure answered", *both("10.99.1.1", "192.0.2.9", 22, 40000), values=values)

    def test_e9_what_has_no_time_is_no_leak_and_no_break_beside_a_network_file_of_some_time(self):
        dated, timeless = network(), network()
        dated["as_of"] = "2026-11-20T09:00:00Z"
        leak = flow(CAT, ANN, "ssh", 40000, flags=ALL)
        fault = flow(BOB, ANN, "ssh", 40001, "denied", flags=SYN)
        self.assertEqual("leak", self.judged(leak, values=dated)[0].status)
        for record in (leak, fault):
            wanted = self.judged(record, values=timeless)[0]
            self.assertIn(wanted.status, ("leak", "break"))
            without = replace(record, start=None, end=None)
            self.assertEqual(wanted, self.judged(without, values=timeless)[0])
            (found,) = self.judged(without, values=dated)
            self.assertEqual((found.status, found.is_undated, found.before_as_of), ("unsure", True, False))
        ended = [replace(record, start=None, end=record.start) for record in (leak, fault)]
        self.assertEqual(
            [("unsure", True), ("break", False)], [(c.status, c.is_undated) for c in self.judged(*ended, values=dated)]
        )
        (found,) = self.judged(replace(leak, start=None, end=leak.start - timedelta(hours=2)), values=dated)
        self.assertEqual(("unsure", True), (found.status, found.before_as_of))

    def test_e9_an_icmp_error_and_what_nobody_delivers_are_unsure(self):
        self.check("unsure denied", flow(ANN, CAT, "icmp/3/3", None, "denied"))
        self.check("unsure passed", flow(ANN, "224.0.0.5", "udp/53", 40000))
        self.check("unsure passed", flow("192.0.2.1", "192.0.2.9", "udp/53", 40000))

    def test_e1_pings_of_an_outside_to_both_addresses_of_a_machine_are_held_against_both(self):
        """By the tunnel dan is reached at his own address; at his public one, in a network without a door, he is not."""
        values = network()
        values["gateways"]["line"] = {"kind": "tunnel", "network": "south", "outside": "depot"}
        values["route_tables"]["south-table"].append({"to": "198.51.100.0/28", "via": "line"})
        values["instances"]["dan"]["interfaces"][0]["public"] = "203.0.113.40"
        values["observation_points"]["4"] = "depot"
        del values["subnets"]["b1"]["filter"]
        own, public = (flow("198.51.100.3", to, "icmp/8/0", None, point="4") for to in (DAN, "203.0.113.40"))
        reply = flow(DAN, "198.51.100.3", "icmp/0/0", None, point="4", at=0.01)
        told = self.judged(own, public, reply, values=values)
        self.assertEqual({"unsure"}, {each.status for each in told}, told)

    def test_s38_a_ping_to_a_private_address_seen_outside_and_what_answers_another_may_be_of_two(self):
        """What the depot sends to ann's private address goes nowhere, and a ping to her public one is answered. Ports
        tell two flows apart, and pings have none; nor do they where the client's is not recorded, or where a sample of
        packets may have left out what was sent to the public address by the same ports."""
        values = network()
        values["filters"]["guard"]["inbound"].append({"action": "allow"})
        values["instances"]["ann"]["listens"] = ["udp/7"]
        values["observation_points"]["4"] = "depot"
        for asked, answer, ports, told in (("icmp/8/0", "icmp/0/0", (None, None), "unsure"),
                                           ("udp/7", "udp/40000", (40000, 7), "leak"),
                                           ("udp/7", "udp/0", (None, 7), "unsure"),
                                           ("udp/7", "udp/0", (0, 7), "unsure")):  # fmt: skip
            records = [flow("198.51.100.3", ANN, asked, ports[0], point="4"),
                       flow(ANN, "198.51.100.3", answer, ports[1], point="2", at=0.01)]  # fmt: skip
            before = flow(CAT, ANN, "udp/53", 40000, "seen", None, "2", -1200)
            for others, expected in ((beginnings("2"), told), (beginnings("2", flags=ACK), "unsure"), ([], "unsure")):
                found = self.judged(*records, before, *others, values=values)[:2]
                self.assertEqual([expected] * 2, [each.status for each in found], found)
        public = flow("198.51.100.3", "203.0.113.10", "icmp/8/0", None, point="4")
        answer = flow(ANN, "198.51.100.3", "icmp/0/0", None, point="2", at=0.01)
        self.assertEqual(["agree"] * 2, [each.status for each in self.judged(public, answer, values=values)])

    def test_e9_what_neighbours_find_each_other_by_is_none_of_the_filters(self):
        """Between two machines of one subnet, by their own addresses, as every log of IPv6 has it."""
        values = network()
        values["instances"]["bob"]["interfaces"][0]["addresses"].append("2001:db8:1:1::11")
        values["observation_points"]["2"] = "ann"
        ann, bob = "2001:db8:1:1::10", "2001:db8:1:1::11"
        for service in ("icmp6/135/0", "icmp6/136/0", "icmp6/134/0", "icmp6/137/0"):
            for ends in ((bob, ann), (ann, bob), ("2001:db8:1:1::1", ann)):
                for event in ("passed", "denied"):
                    (found,) = self.judged(flow(*ends, service, None, event, point="2"), values=values)
                    self.assertEqual("unsure", found.status)
                    self.assertIn("neighbours alone", found.why)
        evaluator = Evaluator(Comparison(Walker(load(values))))
        for service, expected in (("icmp6/135/0", False), ("icmp6/echo-request", True)):
            met = evaluator.rules_met(evaluator.tallies(table_of([flow(bob, ann, service, None, point="2")])))
            self.assertEqual(expected, bool((met.request >= 0).any()), "which rules it met is told of what they decide")
        self.check("leak passed", flow(bob, ann, "icmp6/echo-request", None, point="2"), values=values)

    def test_e9_an_echo_is_answered_by_its_reply(self):
        values = network()
        values["filters"]["guard"]["inbound"].append({"action": "allow", "service": "ping"})
        request, reply = flow(CAT, ANN, "icmp/8/0", None, point="1"), flow(ANN, CAT, "icmp/0/0", None, point="1")
        self.check("leak arrived", request, reply)
        self.check("agree as far as seen", request, reply, values=values)

    def test_e9_a_point_met_twice_was_passed_there_once(self):
        """ann to bob's public address: the subnet's filter is passed on the way out and stops on the way in."""
        values = network()
        values["filters"]["way-in"] = a_filter("subnet", inbound=[])
        values["subnets"]["a1"]["filter"] = "way-in"
        values["observation_points"] = {"1": "a1"}
        values["instances"]["bob"]["interfaces"][0]["public"] = "203.0.113.11"
        self.check(
            "agree as far as seen", flow(ANN, "203.0.113.11", "http", 40000, flags=SYN, point="1"), values=values
        )
        self.check("leak passed", flow("203.0.113.10", BOB, "http", 40000, flags=SYN, point="1"), values=values)

    # E10, E11.

    def test_e10_what_agrees_only_as_far_as_it_was_seen_is_counted_apart(self):
        summary = self.summed(flow(CAT, ANN, "ssh", 40000, flags=SYN, point="1"))
        self.assertEqual((summary.totals["agree"], summary.as_far_as_seen, summary.records), (0, 1, 1))

    def test_e11_who_is_behind_a_shared_address_is_judged_by_what_all_of_them_have_in_common(self):
        """dan is the only one behind 203.0.113.2; with eve beside him, who may not, it cannot be told."""
        values = network()
        values["filters"]["edge"]["outbound"] = [{"action": "allow", "from": DAN}]
        request = flow("203.0.113.2", "8.8.8.8", "https", 40000, flags=ALL)
        self.check("agree answered", request, values=values)
        values["instances"]["eve"] = {"interfaces": [{"subnet": "b1", "addresses": ["10.2.1.77"]}]}
        self.check("unsure answered", request, values=values)
        values["filters"]["edge"]["outbound"] = []
        self.check("leak answered", request, values=values)


if __name__ == "__main__":
    unittest.main()
