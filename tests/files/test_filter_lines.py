"""Lines of the packet filter that are read many at once, held to the same lines each read by itself."""

import random
import tempfile
import unittest
from collections import Counter
from datetime import UTC, datetime
from pathlib import Path
from unittest import mock

import pyarrow as pa

from kiboko.files.logs.flow_reader import tables_of
from kiboko.files.messages.filter_lines import filter_lines
from tests.files.test_log_lines import ENTRY, KERNEL


def random_line(chance):
    """A line of the packet filter, as the kernel writes it or nearly so; sometimes another message."""

    def one(usual, odd):
        return chance.choice(usual) if chance.random() < 0.94 else chance.choice(odd)

    def some(text, often=0.5):
        return text if chance.random() < often else ""

    six = chance.random() < 0.2
    addresses = ("2001:db8::7", "fe80:0:0:0:0:0:0:1") if six else ("10.1.2.10", "192.0.2.9")
    source, destination = (one(addresses, ("010.1.1.1", "10.1.2.300", "::ffff:10.1.2.10")) for _ in range(2))
    stamp = one(("Nov 20 10:00:00", "Nov  2 10:00:59", "2026-11-20T10:00:00+01:00", "2026-11-20T10:00:00.123456Z",
                 "Nov 20 10:00:00.123"), ("Nov 20 10:00:00.", "Nix 20 10:00:00", "Feb 30 10:00:00", "2026-11-20T25:00:00Z", "20 Nov"))  # fmt: skip
    tag = one(("gw kernel: ", "gw.example kernel:  "), ("gw kernel[0]: ", "kernel: ", "gw ulogd: ", "gw: kernel: "))
    prefix = one(("DROP: ", "[EDGE BLOCK] ", "ACCEPT ", "SYN flood: ", "DROP:", "DROP", ""),
                 ("chain=INPUT ", '"odd" ', "n\u00e4h ", "a[SRC=1 ", "[7.5] "))  # fmt: skip
    protocol = one(("TCP", "UDP", "ICMP", "ICMPv6", "2"), ("ESP SPI=0x7", "tcp"))
    flags = one(("SYN", "ACK SYN", "ACK PSH FIN", "RST", "ACK ACK"), ("NEW", "ack"))
    behind = {
        "TCP": f" SPT={chance.randrange(66000)} DPT=22{some(' SEQ=7 ACK=9')} WINDOW=64240 RES=0x00 {flags} URGP=0",
        "UDP": f" SPT=53 DPT={chance.randrange(66000)} LEN=40",
        "ICMP": f" TYPE={one((8, 3), (300,))} CODE={one((0, 4), (256,))}{some(' ID=7 SEQ=1')}"
                f"{some(' [SRC=10.1.1.10 DST=192.0.2.9 LEN=60 PROTO=UDP SPT=5 DPT=53 ]', 0.1)}",
    }.get(protocol, " TYPE=128 CODE=0" if protocol == "ICMPv6" else "")  # fmt: skip
    line = (
        f"{stamp} {tag}{some('[12.5] ')}{prefix}IN={one(('eth0', '', 'br-1.2@x'), ('a b', 'e=1'))} OUT={some('eth1')} "
        f"{some('PHYSIN=p1 ', 0.1)}{some('MAC=52:54:00:12:34:56:08:00 ')}{some('MAC= ', 0.02)}SRC={source} DST={destination}"
        f" LEN={one((60, 1500), ('x', '7 7'))} {some('TOS=0x00 PREC=0x00 ')}TTL=63 ID={chance.randrange(9)} {some('DF ')}"
        f"{some('FRAG:185 ', 0.03)}PROTO={protocol}{behind}{some(' UID=0 GID=0')}{some(' MARK=0x1')}{some(' ')}"
    )
    other = ("", " ", "Nov 20 10:00:01 gw sshd[12]: Accepted publickey for root", ENTRY.strip(), "{}",
             line[: chance.randrange(len(line))])  # fmt: skip
    return chance.choice(other) if chance.random() < 0.15 else line


class UsualLines(unittest.TestCase):
    def setUp(self):
        self.path = Path(self.enterContext(tempfile.TemporaryDirectory())) / "some.log"

    def read(self, data):
        """The records of a log, and what is told of it."""
        self.path.write_bytes(data)
        records, said = [], []
        for table, rejects in tables_of(self.path):
            said = rejects.sentences()
            records += [table.record(row) for row in range(len(table))]
        return records, said

    def test_random_lines_come_to_the_same_records_and_remarks(self):
        met = Counter()
        for seed in range(60):
            chance = random.Random(seed)
            lines = [random_line(chance).encode() for _ in range(chance.choice((3, 40, 200)))]
            data = chance.choice((b"\n", b"\n", b"\r\n")).join(
                [*lines, chance.choice((b"", lines[-1], b"\xff\xfe bad"))]
            )
            data = KERNEL.encode() + data
            with mock.patch("kiboko.files.logs.flow_texts.TextReader._usual_lines", lambda *_: None):
                alone = self.read(data)
            with mock.patch("kiboko.files.logs.flow_texts.filter_lines", wraps=filter_lines) as asked:
                self.assertEqual(self.read(data), alone, seed)
            met["records"] += len(alone[0])
            for each in asked.call_args_list:
                is_usual, _ = filter_lines(*each.args)
                met["usual"] += int(is_usual.sum())
        self.assertGreater(met["usual"], 500, met)
        self.assertGreater(met["records"] - met["usual"], 300, met)

    def test_what_is_usual_by_hand(self):
        """Each of these in turn: a line as it is written, and the same with something in it that is told by itself."""
        good = KERNEL.strip()
        odd = (good.replace("Nov 20", "Feb 30"), good.replace("DROP:", 'D"P:'), good.replace("DROP:", "a=b"),
               good.replace("kernel:", "kernel[1]:"), good + " [SRC=1.2.3.4 DST=5.6.7.8 ]", good.replace("LEN=60", "LEN=60 FRAG:8"))  # fmt: skip
        lines = pa.array([good.encode(), *(each.encode() for each in odd)], pa.large_binary())
        is_usual, table = filter_lines(lines, datetime(2026, 11, 21, tzinfo=UTC))
        self.assertEqual(is_usual.tolist(), [True] + [False] * len(odd))
        (row,) = table.to_pylist()
        self.assertEqual(
            {"sourceIPv4Address": "10.1.2.10", "destinationIPv4Address": "10.1.1.10", "sourceTransportPort": "40000",
             "destinationTransportPort": "22", "protocolIdentifier": "TCP", "octetDeltaCount": "60", "packetDeltaCount": "1",
             "tcpControlBits": "2", "exporterIPv4Address": "gw", "ingressInterface": "eth0", "firewallEvent": "denied"},
            {name: value for name, value in row.items() if name != "flowStartMilliseconds"})  # fmt: skip


if __name__ == "__main__":
    unittest.main()
