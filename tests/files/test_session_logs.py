"""Logs of sessions, a record each with the flags of both directions together: what is said to have been sent by whom is
held against exchanges of packets, written down by hand."""

import itertools
import tempfile
import unittest
from pathlib import Path

import numpy as np

from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.doubtful_flags import without_doubtful
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.proofs import ACKNOWLEDGES, OPENING, PLAIN, RESET, UNCLEAR, flag_kinds
from kiboko.core.walk.walk import Walker
from kiboko.files.logs.flow_reader import tables_of
from tests.helpers import a_filter, base, load

FIN, SYN, RST, PSH, ACK = 0x01, 0x02, 0x04, 0x08, 0x10
THERE, BACK = 0, 1
HANDSHAKE = [(THERE, SYN), (BACK, SYN | ACK), (THERE, ACK)]
DATA = [(THERE, PSH | ACK), (BACK, PSH | ACK)]
CLOSED = [(THERE, FIN | ACK), (BACK, FIN | ACK), (THERE, ACK)]
EXCHANGES = {
    "whole": HANDSHAKE + DATA + CLOSED,
    "opened, and nothing more": HANDSHAKE,
    "cut off by the client": [*HANDSHAKE, *DATA, (THERE, RST | ACK)],
    "cut off by the server": [*HANDSHAKE, *DATA, (BACK, RST)],
    "taken and cut off at once": [*HANDSHAKE, (BACK, RST)],
    "refused": [(THERE, SYN), (BACK, RST | ACK)],
    "refused three times": [(THERE, SYN), (BACK, RST | ACK)] * 3,
    "half open": [(THERE, SYN), (BACK, SYN | ACK)],
    "half open, tried again": [(THERE, SYN), (BACK, SYN | ACK)] * 3,
    "half open, and given up": [(THERE, SYN), (BACK, SYN | ACK), (THERE, RST)],
    "scanned by an end": [(THERE, FIN), (BACK, RST | ACK)],
    "scanned by an opening and an end": [(THERE, SYN | FIN), (BACK, RST | ACK)],
    "scanned by everything": [(THERE, FIN | PSH | 0x20), (BACK, RST | ACK)],
    "scanned by an acknowledgement": [(THERE, ACK), (BACK, RST)],
    "the middle": DATA * 2,
    "the middle of a dead one": [(THERE, PSH | ACK), (BACK, RST)],
    "the end": CLOSED,
}  # fmt: skip
HEADER = ("sourceIPv4Address,sourceTransportPort,destinationIPv4Address,destinationTransportPort,protocolIdentifier,"
          "flowStartMilliseconds,initiatorPackets,initiatorOctets,responderPackets,responderOctets,tcpControlBits")  # fmt: skip


def union(packets):
    found = 0
    for flags in packets:
        found |= flags
    return found


def kinds_of(table):
    """What the records of a table are by their flags, beside one another."""
    judged = Evaluator(Comparison(Walker(load(base())))).judge(table)
    return without_doubtful(table, judged.found, flag_kinds(table))


class Sessions(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def table(self, exchange, octets=60):
        """The records of an exchange of which a log of sessions has one line, a request's first."""
        sides = [[flags for side, flags in exchange if side == wanted] for wanted in (THERE, BACK)]
        counts = [str(number) for each in sides for number in (len(each), octets * len(each))]
        flags = union(flags for _, flags in exchange)
        row = ",".join(["10.1.1.11", "40000", "10.1.1.10", "22", "6", "1795925883000", *counts, str(flags)])
        path = self.folder / "sessions.csv"
        path.write_text(f"{HEADER}\n{row}\n")
        (table,) = (each for each, _ in tables_of(path) if len(each))
        return table, sides

    def test_nothing_is_said_to_have_been_sent_that_was_not(self):
        for (name, exchange), octets in itertools.product(EXCHANGES.items(), (40, 60, 400)):
            with self.subTest(name, octets=octets):
                table, sides = self.table(exchange, octets)
                self.assertEqual(len(table), 2)
                for kind, sent in zip(kinds_of(table).tolist(), sides, strict=True):
                    got_on = [flags for flags in sent if flags & ACK and not flags & (SYN | RST)]
                    if kind == ACKNOWLEDGES:
                        self.assertTrue(got_on or any(flags == SYN | ACK for flags in sent))
                    elif kind == OPENING:
                        self.assertIn(SYN, sent)
                    elif kind == RESET:
                        self.assertTrue(all(flags & RST for flags in sent))
                    elif kind == PLAIN and octets == 40:
                        self.fail("packets as small as resets, and nothing is known of their flags")

    def test_both_directions_stand_side_by_side(self):
        """Whoever reads a part of what is written of them has both; of what sent nothing back there is one."""
        rows = [
            f"10.1.1.11,{port},10.1.1.10,22,6,{1795925883000 + port},2,140,{port % 3},{70 * (port % 3)},18"
            for port in range(40000, 40030)
        ]
        path = self.folder / "sessions.csv"
        path.write_text("\n".join([HEADER, *rows]) + "\n")
        (table,) = (each for each, _ in tables_of(path) if len(each))
        wanted = [port for port in range(40000, 40030) for _ in range(1 + (port % 3 > 0))]
        self.assertEqual(wanted, np.where(table.direction == 1, table.source_port, table.detail).tolist())
        self.assertEqual(sorted(table.line.tolist()), table.line.tolist())
        half = table.taken(table.direction == 1)  # as a log has them from which somebody took one direction alone
        self.assertEqual({PLAIN}, set(kinds_of(half).tolist()))

    def test_what_is_known_of_sessions_that_got_on_is_not_lost(self):
        for name in ("whole", "cut off by the client", "cut off by the server", "the middle", "the end"):
            table, _ = self.table(EXCHANGES[name])
            self.assertEqual(kinds_of(table)[0], ACKNOWLEDGES, name)

    def test_a_refused_connection_is_neither_agreement_nor_a_leak(self):
        """bob may ask ann on ssh in one network, and not in the other; what follows is what was seen of him."""
        told = {}
        for is_open, (name, exchange) in itertools.product((True, False), EXCHANGES.items()):
            values = base()
            rules = [{"action": "allow", "from": "bob", "service": "ssh"}] if is_open else []
            values["filters"]["guard"] = a_filter("instance", inbound=rules)
            values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
            values["instances"]["ann"]["listens"] = ["ssh"]
            table, _ = self.table(exchange, 40)
            judged = Evaluator(Comparison(Walker(load(values)))).judge(table)
            (found,) = {judged.concluded[code] for code in judged.conclusion.tolist()}
            told[is_open, name] = f"{found.status} {'as far as seen' if found.as_far_as_seen else found.observed}"
        for name in EXCHANGES:
            answered = name in ("whole", "cut off by the client", "cut off by the server", "the middle", "the end")
            with self.subTest(name):
                self.assertEqual(told[True, name] == "agree answered", answered, told[True, name])
                self.assertEqual(told[False, name] == "leak answered", answered, told[False, name])
        self.assertEqual((told[True, "refused"], told[False, "refused"]), ("break refused", "agree refused"))
        self.assertEqual(told[True, "half open"], "agree as far as seen")
        self.assertEqual(told[False, "half open"], "leak arrived")

    def test_a_line_for_each_direction_with_the_flags_of_both_shows_no_answer_of_a_refused_one(self):
        header = (
            "sourceIPv4Address,sourceTransportPort,destinationIPv4Address,destinationTransportPort,protocolIdentifier"
        )
        for name, exchange in EXCHANGES.items():
            sides = [[flags for side, flags in exchange if side == wanted] for wanted in (THERE, BACK)]
            flags = union(flags for _, flags in exchange)
            path = self.folder / "lines.csv"
            path.write_text(f"{header},flowStartMilliseconds,packetDeltaCount,octetDeltaCount,tcpControlBits\n"
                            f"10.1.1.11,40000,10.1.1.10,22,6,1795925883000,{len(sides[0])},{len(sides[0]) * 40},{flags}\n"
                            f"10.1.1.10,22,10.1.1.11,40000,6,1795925883000,{len(sides[1])},{len(sides[1]) * 40},{flags}\n"
                            )  # fmt: skip
            (table,) = (each for each, _ in tables_of(path) if len(each))
            values = base()
            values["instances"]["ann"]["listens"] = ["ssh"]
            judged = Evaluator(Comparison(Walker(load(values)))).judge(table)
            (found,) = {judged.concluded[code] for code in judged.conclusion.tolist()}
            got_on = any(side == THERE and flags in (ACK, PSH | ACK, FIN | ACK) for side, flags in exchange)
            if not got_on and not name.startswith(("scanned", "the middle", "half open, tried again")):
                self.assertNotEqual(found.observed, "answered", name)
            elif name in ("whole", "cut off by the client", "cut off by the server"):
                self.assertEqual((found.status, found.observed), ("agree", "answered"), name)

    def test_a_record_of_a_session_that_counts_both_directions_together_shows_no_answer_of_a_refused_one(self):
        header = (
            "sourceIPv4Address,sourceTransportPort,destinationIPv4Address,destinationTransportPort,protocolIdentifier"
        )
        for name, exchange in EXCHANGES.items():
            path = self.folder / "totals.csv"
            path.write_text(f"{header},flowStartMilliseconds,packetDeltaCount,octetDeltaCount,tcpControlBits\n"
                            f"10.1.1.11,40000,10.1.1.10,22,6,1795925883000,{len(exchange)},{len(exchange) * 40},"
                            f"{union(flags for _, flags in exchange)}\n")  # fmt: skip
            (table,) = (each for each, _ in tables_of(path) if len(each))
            values = base()
            values["instances"]["ann"]["listens"] = ["ssh"]
            judged = Evaluator(Comparison(Walker(load(values)))).judge(table)
            (found,) = (judged.concluded[code] for code in judged.conclusion.tolist())
            if name in ("refused", "refused three times", "half open, and given up", "taken and cut off at once"):
                self.assertNotEqual(found.observed, "answered", name)
            elif name in ("whole", "cut off by the client", "cut off by the server"):
                self.assertEqual((found.status, found.observed), ("agree", "answered"), name)

    def test_without_flags_and_counts_of_packets_so_few_octets_may_be_resets(self):
        columns = (
            HEADER.removesuffix(",tcpControlBits").replace("initiatorPackets,", "").replace("responderPackets,", "")
        )
        for octets, kind in ((40, UNCLEAR), (3 * 40, UNCLEAR), (4000, PLAIN)):
            path = self.folder / f"{octets}.csv"
            path.write_text(f"{columns}\n10.1.1.11,40000,10.1.1.10,22,6,1795925883000,400,{octets}\n")
            (table,) = (each for each, _ in tables_of(path) if len(each))
            self.assertEqual((len(table), flag_kinds(table)[1]), (2, kind), octets)

    def test_an_answer_of_which_nobody_counted_the_packets_is_no_single_reset(self):
        path = self.folder / "uncounted.csv"
        path.write_text(f"{HEADER.replace('responderPackets,', '')}\n"
                        "10.1.1.11,40000,10.1.1.10,22,6,1795925883000,1,40,44,22\n")  # fmt: skip
        (table,) = (each for each, _ in tables_of(path) if len(each))
        self.assertEqual(kinds_of(table).tolist(), [UNCLEAR, UNCLEAR])

    def test_what_a_line_says_is_kept_as_it_is(self):
        """What is doubted is only doubted: what is written out again is what was recorded."""
        for name, exchange in EXCHANGES.items():
            table, _ = self.table(exchange)
            self.assertEqual(table.flags.tolist(), [union(flags for _, flags in exchange), -1], name)

    def test_flags_of_each_direction_are_taken_as_they_are(self):
        path = self.folder / "biflows.csv"
        path.write_text(f"{HEADER},reverseTcpControlBits\n"
                        "10.1.1.11,40000,10.1.1.10,22,6,1795925883000,2,80,1,40,18,4\n")  # fmt: skip
        (table,) = (each for each, _ in tables_of(path) if len(each))
        self.assertEqual(table.flags.tolist(), [SYN | ACK, RST])


if __name__ == "__main__":
    unittest.main()
