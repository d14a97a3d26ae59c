"""Logs as they lie on disk: lines of every kind, the extended log format, free text by a pattern, other people's units.
Expected records are read off the lines by hand."""

import gzip
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from kiboko.core.errors import InputError
from kiboko.files.elements.column_map import USUAL
from kiboko.files.elements.mapping_file import read_column_map
from kiboko.files.logs.flow_reader import tables_of
from kiboko.files.messages.tracked import tracked_fields
from tests.helpers import a_filter, base, kiboko
from tests.namespaces import why_not

KERNEL = ("Nov 20 10:00:00 gw kernel: [12.5] DROP: IN=eth0 OUT= SRC=10.1.2.10 DST=10.1.1.10 LEN=60 PROTO=TCP SPT=40000"
          " DPT=22 WINDOW=64240 SYN URGP=0\n")  # fmt: skip
ENTRY = (
    "<134>1 2026-11-20T10:00:02Z gw fw - - - src=10.1.1.11 dst=10.1.1.10 sport=40001 dport=22 proto=tcp action=allow\n"
)


class Lines(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def read(self, text, name="some.log", columns=None):
        """The records of a log, and what is told of it."""
        path = self.folder / name
        path.write_bytes(text if isinstance(text, bytes) else text.encode())
        mapping = USUAL
        if columns is not None:
            (self.folder / "map.yaml").write_text("kiboko: columns/1\n" + columns)
            mapping = read_column_map(self.folder / "map.yaml")
        records, rejects = [], None
        for table, told in tables_of(path, columns=mapping):
            rejects = told
            records += [table.record(row) for row in range(len(table))]
        self.said = rejects.sentences() if rejects is not None else []
        return records

    def told(self, *arguments, **more):
        return [
            (str(r.source), str(r.destination), str(r.service), r.source_port, r.event)
            for r in self.read(*arguments, **more)
        ]

    def test_kernel_lines_and_pairs_among_other_messages_plain_and_compressed(self):
        text = KERNEL + "Nov 20 10:00:01 gw sshd[12]: Accepted publickey for root\n" + ENTRY
        want = [
            ("10.1.2.10", "10.1.1.10", "tcp/22", 40000, "denied"),
            ("10.1.1.11", "10.1.1.10", "tcp/22", 40001, "passed"),
        ]
        self.assertEqual(self.told(text), want)
        self.assertIn("1 record telling of no flow; first record 2 (line 2)", self.said[0])
        self.assertEqual(self.told(gzip.compress(text.encode()), "some.log.gz"), want)
        first = self.read(KERNEL)[0]
        self.assertEqual((first.tcp_flags, first.start.month, first.start.day, first.octets), (2, 11, 20, 60))

    def test_messages_of_several_machines_in_one_file_were_taken_at_as_many_points(self):
        entry = json.dumps({"MESSAGE": KERNEL.partition("[12.5] ")[2].strip(), "_HOSTNAME": "hub"})
        for text, points in (
            (KERNEL + KERNEL.replace(" gw ", " web-3.example "), ["gw/*/eth0", "web-3.example/*/eth0"]),
            (KERNEL.replace(" gw ", " 192.0.2.1 ").replace("IN=eth0 OUT= ", "IN= OUT=eth7 "), ["192.0.2.1/*/eth7"]),
            (ENTRY + ENTRY.replace(" gw ", " - "), ["gw", None]),
            (ENTRY.replace(" gw ", " a/b "), [None]),
            (ENTRY.replace("action", "exporter=192.0.2.9 action"), ["192.0.2.9"]),
            (ENTRY.replace("action", "point=17 action"), ["17"]),
            (entry + "\n", ["hub/*/eth0"]),
        ):
            with self.subTest(text):
                self.assertEqual([each.point for each in self.read(text)], points)

    def test_a_prefix_tells_the_fate_by_its_last_word_and_not_by_one_that_it_merely_contains(self):
        for prefix, event in (("DROP:", "denied"), ("[ACCEPT]", "passed"), ("not-allowed:", "seen"),
                              ("drop-exempt-accept:", "seen"), ("in-eth0", "seen"), ("[EDGE BLOCK]", "denied"),
                              ("filter_IN_public_ACCEPT:", "passed"), ("STATE_INVALID_DROP:", "denied"), ("DROP INVALID:", "denied"),
                              ("net-fw:REJECT:", "denied"), ("reject wan in:", "denied"), ("DROP(src wan)", "denied"),
                              ("would drop:", "seen"), ("accept limit exceeded:", "seen"), ("[EDGE AUDIT]", "seen"),
                              ("blocklist:", "seen"), ("3", "seen"), ("drop, then drop:", "denied")):  # fmt: skip
            with self.subTest(prefix):
                self.assertEqual(self.read(KERNEL.replace("DROP:", prefix))[0].event, event)

    def test_the_journals_json(self):
        entries = [{"__REALTIME_TIMESTAMP": "1763632800123456", "_HOSTNAME": "gw", "MESSAGE": KERNEL.partition("[12.5] ")[2].strip()},
                   {"__REALTIME_TIMESTAMP": "1763632801000000", "_HOSTNAME": "gw", "MESSAGE": "hello"}]  # fmt: skip
        (record,) = self.read("".join(json.dumps(each) + "\n" for each in entries))
        self.assertEqual((record.event, record.start.isoformat()), ("denied", "2025-11-20T10:00:00.123000+00:00"))

    def test_connections_that_the_kernel_tracks(self):
        answered = ("ipv4     2 tcp      6 431999 ESTABLISHED src=10.1.1.11 dst=203.0.113.10 sport=40000 dport=22 packets=10"
                    " bytes=900 src=10.1.1.10 dst=10.1.1.11 sport=22 dport=40000 packets=8 bytes=800 [ASSURED] mark=0 use=1\n")  # fmt: skip
        unanswered = ("[1763632800.123456]\t    [NEW] tcp      6 119 SYN_SENT src=10.1.2.10 dst=10.1.1.10 sport=40001 dport=22"
                      " [UNREPLIED] src=10.1.1.10 dst=10.1.2.10 sport=22 dport=40001\n")  # fmt: skip
        echo = "icmp     1 29 src=10.1.1.11 dst=10.1.1.10 type=8 code=0 id=7 src=10.1.1.10 dst=10.1.1.11 type=0 code=0 id=7\n"
        records = self.read(answered + unanswered + echo)
        self.assertEqual(
            [(str(r.source), str(r.destination), str(r.service), r.source_port, r.packets, r.tcp_flags, r.direction) for r in records],
            [("10.1.1.11", "203.0.113.10", "tcp/22", 40000, 10, 0x10, 1), ("10.1.1.10", "10.1.1.11", "tcp/40000", 22, 8, 0x10, 2),
             ("10.1.2.10", "10.1.1.10", "tcp/22", 40001, 1, 2, 1), ("10.1.1.11", "10.1.1.10", "icmp/echo-request", None, 1, None, 1),
             ("10.1.1.10", "10.1.1.11", "icmp/echo-reply", None, 1, None, 2)],
        )  # fmt: skip
        self.assertEqual(records[2].start.isoformat(), "2025-11-20T10:00:00.123000+00:00")
        self.assertEqual(tracked_fields("tcp is what this says, not a connection"), [])

    def test_the_extended_log_format_with_date_and_time_apart(self):
        text = ("#Version: 1.0\n#Fields: date time action protocol src-ip dst-ip src-port dst-port size\n"
                "2026-11-20 10:00:00 ALLOW TCP 10.1.1.11 10.1.1.10 40000 22 -\n"
                "2026-11-20 10:00:01 DROP UDP 10.1.2.10 10.1.1.10 40001 53 60\n")  # fmt: skip
        records = self.read(text)
        self.assertEqual([(r.event, r.start.second, r.octets, r.source_port) for r in records],
                         [("passed", 0, 0, 40000), ("denied", 1, 60, 40001)])  # fmt: skip

    # Mapping files.

    def test_words_for_no_value_thousands_decimal_signs_and_columns_put_together(self):
        text = ("day;clock;from;to;dp;proto;volume;fate\n"
                "20.11.2026;10:00:00;10.1.1.11;10.1.1.10;22;tcp;1.200,4;ok\n20.11.2026;10:00:01;10.1.2.10;10.1.1.10;53;udp;none;no\n")  # fmt: skip
        columns = (
            "delimiter: ';'\nnone: [none]\ncolumns:\n"
            "  day + clock: {element: flowStartMilliseconds, format: '%d.%m.%Y %H:%M:%S', zone: Europe/Rome}\n"
            "  from: sourceIPv4Address\n  to: destinationIPv4Address\n  dp: destinationTransportPort\n  proto: protocolIdentifier\n"
            "  volume: {element: octetDeltaCount, thousands: '.', decimal: ','}\n"
            "  fate: {element: firewallEvent, passed: [ok], denied: ['no']}\n"
        )
        records = self.read(text, "some.csv", columns)
        self.assertEqual([(r.event, r.start.isoformat(), r.octets) for r in records],
                         [("passed", "2026-11-20T09:00:00+00:00", 1200), ("denied", "2026-11-20T09:00:01+00:00", 0)])  # fmt: skip

    PATTERN = (
        "pattern: '(?P<verb>let|held) (?P<what>\\w+) (?P<a>\\S+):(?P<ap>\\d+) -> (?P<b>\\S+):(?P<bp>\\d+)'\n"
        "columns:\n  verb: {element: firewallEvent, passed: [let], denied: [held]}\n  what: protocolIdentifier\n"
        "  a: sourceIPv4Address\n  ap: sourceTransportPort\n  b: destinationIPv4Address\n  bp: destinationTransportPort\n"
    )

    def test_free_text_by_a_pattern(self):
        text = "gate 7 let tcp 10.1.1.11:40000 -> 10.1.1.10:22 today\nnothing\ngate 7 held udp 10.1.2.10:40001 -> 10.1.1.10:53\n"
        self.assertEqual(self.told(text, columns=self.PATTERN),
                         [("10.1.1.11", "10.1.1.10", "tcp/22", 40000, "passed"), ("10.1.2.10", "10.1.1.10", "udp/53", 40001, "denied")])  # fmt: skip

    def test_a_pattern_is_tried_before_anything_else_is_read(self):
        with self.assertRaisesRegex(InputError, "fits none of the first 2 lines"):
            self.read("nothing here\nnor here\n", columns=self.PATTERN)
        columns = self.PATTERN.replace("(?P<verb>let|held)", "(?P<verb>let|(?:x|xx)+(?=y)z)")
        with self.assertRaisesRegex(InputError, "some.log:1: the pattern takes more than 0.2 s on this line alone"):
            self.read("x" * 60 + " tcp 10.1.1.11:1 -> 10.1.1.10:2\n", columns=columns)
        good = "let tcp 10.1.1.11:40000 -> 10.1.1.10:22\n"
        records = self.read(good * 1000 + "x" * 60 + " tcp 10.1.1.11:1 -> 10.1.1.10:2\n" + good, columns=columns)
        self.assertEqual(len(records), 1001)
        self.assertIn("rejected, given up by the pattern; first record 1,001 (line 1001)", self.said[0])

    def test_mistakes_in_a_mapping_file_are_told_with_their_place(self):
        for columns, said in (
            ("columns: {a: sourceIPv4Address, b: destinationIPv4Address, p: protocolIdentifier, t: octetDeltaCount, u: octetDeltaCount}",
             "'u' and 't' are both octetDeltaCount, of which a record has one"),
            (self.PATTERN.replace("(?P<ap>", "(?P<port>"), "the pattern has no group 'ap'"),
            (self.PATTERN.replace("(?P<ap>\\d+)", "(?P<ap>\\d+"), "the pattern cannot be read"),
            ("columns: {a: sourceIPv4Address, b: destinationIPv4Address, p: protocolIdentifier, t: {element: octetDeltaCount, decimal: xx}}",
             "'decimal' is one character"),
        ):  # fmt: skip
            with self.subTest(said), self.assertRaisesRegex(InputError, "map.yaml:\\d+: .*" + said.replace("(", "\\(")):
                self.read("x\n", columns=columns)

    # Guessing.

    def test_a_guess_is_a_mapping_file_that_reads_the_log(self):
        text = ("begin;client;server;cp_port;server_port;proto;volume;fate;weird\n"
                "1763632800;10.1.1.11;10.1.1.10;40000;22;tcp;1.200;permitted by rule;7\n"
                "1763632801;10.1.2.10;10.1.1.10;40001;53;udp;60;dropped;8\n")  # fmt: skip
        (self.folder / "odd.csv").write_text(text)
        done = kiboko("flows", "odd.csv", "--guess", cwd=self.folder)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("# weird: not read; such as 7, 8", done.stdout)
        self.assertIn("# Missing: tcpControlBits", done.stdout)
        columns = done.stdout.partition("kiboko: columns/1\n")[2]
        self.assertEqual(self.told(text, "odd.csv", columns=columns),
                         [("10.1.1.11", "10.1.1.10", "tcp/22", 40000, "passed"), ("10.1.2.10", "10.1.1.10", "udp/53", 40001, "denied")])  # fmt: skip
        records = self.read(text, "odd.csv", columns)
        self.assertEqual([(r.octets, r.start.isoformat()) for r in records],
                         [(1200, "2025-11-20T10:00:00+00:00"), (60, "2025-11-20T10:00:01+00:00")])  # fmt: skip

    def test_counters_of_both_directions_and_flags_in_their_places_are_told_by_what_is_in_them(self):
        """The one that comes back may stand first; words for protocols stand beside numbers."""
        text = ("ts,sa,da,sp,dp,pr,flg,opkt,ipkt,ibyt,obyt\n"
                "2025-11-20 10:00:00,10.1.1.11,10.1.1.10,40000,22,TCP,...AP.SF,6,9,900,600\n"
                "2025-11-20 10:00:01,10.1.1.12,10.1.1.10,40001,23,tcp,......S.,0,1,60,0\n"
                "2025-11-20 10:00:02,10.1.1.12,10.1.1.10,0,0,IGMP,........,0,1,60,0\n"
                "2025-11-20 10:00:03,10.1.1.9,10.1.1.12,53,40002,17,........,2,0,0,300\n")  # fmt: skip
        (self.folder / "both.csv").write_text(text)
        columns = kiboko("flows", "both.csv", "--guess", cwd=self.folder).stdout.partition("kiboko: columns/1\n")[2]
        for told in ("pr: protocolIdentifier", "flg: tcpControlBits", "ipkt: packetDeltaCount", "ibyt: octetDeltaCount",
                     "opkt: reversePacketDeltaCount", "obyt: reverseOctetDeltaCount"):  # fmt: skip
            self.assertIn(f"  {told}\n", columns)
        records = [
            (str(r.source), str(r.service), r.packets, r.octets, r.tcp_flags)
            for r in self.read(text, "both.csv", columns)
        ]
        self.assertEqual(records, [
            ("10.1.1.11", "tcp/22", 9, 900, 0x1B), ("10.1.1.10", "tcp/40000", 6, 600, None),
            ("10.1.1.12", "tcp/23", 1, 60, 2), ("10.1.1.12", "proto/2", 1, 60, 0),
            ("10.1.1.12", "udp/53", 2, 300, None),  # whose forward counters are 0: the other end alone sent
        ])  # fmt: skip

    def test_of_a_flow_inside_an_event_its_own_beginning_counts_and_flags_may_be_hexadecimal(self):
        event = {"timestamp": "2025-11-20T10:00:09Z", "src_ip": "10.1.1.11", "src_port": 40000, "dest_ip": "10.1.1.10",
                 "dest_port": 22, "proto": "TCP", "tcp": {"tcp_flags": "1b"},
                 "flow": {"pkts_toclient": 7, "pkts_toserver": 9, "bytes_toserver": 900, "bytes_toclient": 700,
                          "start": "2025-11-20T10:00:00Z", "end": "2025-11-20T10:00:04Z"}}  # fmt: skip
        text = "".join(json.dumps({**event, "tcp": {"tcp_flags": each}}) + "\n" for each in ("1b", "12", "02"))
        (self.folder / "events.jsonl").write_text(text)
        columns = kiboko("flows", "events.jsonl", "--guess", cwd=self.folder).stdout.partition("kiboko: columns/1\n")[2]
        self.assertIn("  tcp.tcp_flags: {element: tcpControlBits, base: 16}\n", columns)
        records = self.read(text, "events.jsonl", columns)
        self.assertEqual([r.tcp_flags for r in records[::2]], [0x1B, 0x12, 0x02])
        self.assertEqual([(str(r.source), r.packets, r.octets, r.start.second, r.end.second) for r in records[:2]],
                         [("10.1.1.11", 9, 900, 0, 4), ("10.1.1.10", 7, 700, 0, 4)])  # fmt: skip
        for more in ("base: 8", "base: 16, decimal: ','"):
            wrong = columns.replace("base: 16", more)
            with self.assertRaisesRegex(InputError, "map.yaml:\\d+: tcp.tcp_flags: 'base' is 16, of numbers"):
                self.read(text, "events.jsonl", wrong)

    def test_columns_of_which_one_has_a_value_are_one_and_addresses_of_ipv6_have_their_own(self):
        """As of packets, where each protocol has ports of its own."""
        header = ("when,ip.src,ip.dst,ipv6.src,ipv6.dst,ip.proto,ipv6.nxt,tcp.srcport,tcp.dstport,udp.srcport,"
                  "udp.dstport,icmpv6.type,icmpv6.code\n")  # fmt: skip
        text = (f"{header}1763632800.25,10.1.1.11,10.1.1.10,,,6,,40000,22,,,,\n"
                "1763632801.25,,,2001:db8::1,2001:db8::2,,17,,,40001,53,,\n"
                "1763632801.25,,,2001:db8::1,2001:db8::2,,58,,,,,128,0\n")  # fmt: skip
        (self.folder / "packets.csv").write_text(text)
        columns = kiboko("flows", "packets.csv", "--guess", cwd=self.folder).stdout.partition("kiboko: columns/1\n")[2]
        for told in ('"tcp.srcport | udp.srcport": sourceTransportPort', '"ip.proto | ipv6.nxt": protocolIdentifier',
                     "ipv6.dst: destinationIPv6Address", "icmpv6.type: icmpTypeIPv6"):  # fmt: skip
            self.assertIn(f"  {told}\n", columns)
        for more in ("", "torn,line\n"):
            records = [
                (str(r.source), str(r.service), r.source_port) for r in self.read(text + more, "packets.csv", columns)
            ]
            self.assertEqual(records, [("10.1.1.11", "tcp/22", 40000), ("2001:db8::1", "udp/53", 40001),
                                       ("2001:db8::1", "icmp6/echo-request", None)])  # fmt: skip
        both = text + "1763632802.25,10.1.1.11,10.1.1.10,,,6,,40000,22,7,8,,\n"
        (self.folder / "packets.csv").write_text(both)
        self.assertNotIn(" | udp", kiboko("flows", "packets.csv", "--guess", cwd=self.folder).stdout)

    def test_what_was_sent_and_what_came_back_count_before_both_together_and_flags_of_others_are_doubted(self):
        """As in the table of a firewall, whose flags are those of its sessions."""
        header = ("Received At,Source address,Destination address,Source Port,Destination Port,Flags,IP Protocol,Action,"
                  "Bytes,Bytes Sent,Bytes Received,Packets,Start Time,Packets Received,Packets Sent\n")  # fmt: skip
        ends = "2025/11/20 10:00:09,10.1.1.11,10.1.1.10,40000"
        text = (f"{header}{ends},22,0x19,tcp,allow,1600,900,700,16,2025/11/20 10:00:00,7,9\n"
                f"{ends},23,0x0,tcp,deny,74,74,0,1,2025/11/20 10:00:01,0,1\n"
                f"{ends},53,0x64,udp,allow,200,80,120,2,2025/11/20 10:00:02,1,1\n")  # fmt: skip
        (self.folder / "table.csv").write_text(text)
        columns = kiboko("flows", "table.csv", "--guess", cwd=self.folder).stdout.partition("kiboko: columns/1\n")[2]
        self.assertIn(
            "  Flags: tcpControlBits  # records of other protocols have some too: are these of TCP?\n", columns
        )
        self.assertIn(
            '  Start Time: {element: flowStartMilliseconds, format: "%Y/%m/%d %H:%M:%S", zone: UTC}  # of', columns
        )
        records = self.read(text, "table.csv", columns)
        self.assertEqual([(str(r.service), r.packets, r.octets, r.start.second, r.event) for r in records], [
            ("tcp/22", 9, 900, 0, "passed"), ("tcp/40000", 7, 700, 0, "passed"), ("tcp/23", 1, 74, 1, "denied"),
            ("udp/53", 1, 80, 2, "passed"), ("udp/40000", 1, 120, 2, "passed"),
        ])  # fmt: skip
        (self.folder / "tcp.csv").write_text("".join(line for line in text.splitlines(True) if "udp" not in line))
        self.assertIn("  Flags: tcpControlBits\n", kiboko("flows", "tcp.csv", "--guess", cwd=self.folder).stdout)

    def test_fields_that_a_line_of_comments_names_are_columns_however_it_is_written(self):
        """As a network monitor writes them, with the octets of data beside those of whole packets."""
        for head in ("#separator \\x09\n#fields\t", "#Version: 1\n#Fields: "):
            parted = "\t" if head.endswith("\t") else " "
            lines = [("ts", "uid", "id.orig_h", "id.orig_p", "id.resp_h", "id.resp_p", "proto", "orig_bytes", "resp_bytes",
                      "orig_pkts", "orig_ip_bytes", "resp_pkts", "resp_ip_bytes"),
                     ("1763632800.25", "a", "10.1.1.11", "40000", "10.1.1.10", "22", "tcp", "500", "300", "9", "900", "7", "700"),
                     ("1763632801.25", "b", "10.1.1.11", "40001", "10.1.1.10", "23", "tcp", "-", "-", "3", "180", "0", "0")]  # fmt: skip
            text = head + "\n".join(map(parted.join, lines)) + "\n"
            (self.folder / "monitor.log").write_text(text)
            columns = kiboko("flows", "monitor.log", "--guess", cwd=self.folder).stdout.partition(
                "kiboko: columns/1\n"
            )[2]
            records = self.read(text, "monitor.log", columns)
            self.assertEqual([(str(r.service), r.source_port, r.packets, r.octets) for r in records], [
                ("tcp/22", 40000, 9, 900), ("tcp/40000", 22, 7, 700), ("tcp/23", 40001, 3, 180)])  # fmt: skip

    def test_of_fields_whose_names_fit_those_count_whose_values_do(self):
        """As packets that a machine's own filter logs: the length of one is no count, and 2048 no protocol."""
        event = {"timestamp": "2025-11-20T10:00:00", "raw.pktlen": 60, "raw.pktcount": 1, "raw.mac_len": 14,
                 "oob.prefix": "DROP rest ", "oob.time.sec": 1763632800, "oob.protocol": 2048, "ip.protocol": 6,
                 "ip.totlen": 60, "src_ip": "10.1.1.11", "src_port": 40000, "dest_ip": "10.1.1.10", "dest_port": 22}  # fmt: skip
        text = json.dumps(event) + "\n"
        (self.folder / "packets.jsonl").write_text(text)
        columns = kiboko("flows", "packets.jsonl", "--guess", cwd=self.folder).stdout.partition("kiboko: columns/1\n")[
            2
        ]
        for told in ("ip.protocol: protocolIdentifier", "raw.pktcount: packetDeltaCount", "raw.pktlen: octetDeltaCount",
                     "oob.prefix: {element: firewallEvent, denied: [DROP rest]}"):  # fmt: skip
            self.assertIn(f"  {told}\n", columns)
        self.assertNotIn("flowEndMilliseconds", columns)
        (record,) = self.read(text, "packets.jsonl", columns)
        self.assertEqual(
            (record.event, record.packets, record.octets, str(record.service)), ("denied", 1, 60, "tcp/22")
        )

    def test_of_fields_inside_structures_the_last_name_counts_and_one_port_is_the_one_that_was_sent_to(self):
        for ends, wanted in (
            ('"net": {"src": "10.1.1.11", "dst": "10.1.1.10", "dport": 22, "proto": 6}', "net.dport: destinationTransportPort"),
            ('"a": "10.1.1.11", "b": "10.1.1.10", "the_port": 22, "proto": 6', "the_port: destinationTransportPort"),
            ('"a": "10.1.1.11", "b": "10.1.1.10", "my.sport": 4000, "my.dport": 22, "proto": 6', "my.sport: sourceTransport"),
        ):  # fmt: skip
            (self.folder / "in.jsonl").write_text(f"{{{ends}}}\n")
            done = kiboko("flows", "in.jsonl", "--guess", cwd=self.folder)
            self.assertIn(f"  {wanted}", done.stdout)
            (self.folder / "map.yaml").write_text(done.stdout)
            done = kiboko("flows", "in.jsonl", "--columns", "map.yaml", "--by", "service", cwd=self.folder)
            self.assertIn("tcp/22", done.stdout, done.stderr)

    def test_what_needs_no_mapping_file_is_said(self):
        (self.folder / "plain.csv").write_text("src,dst,src_port,dst_port,protocol\n10.1.1.11,10.1.1.10,1,2,6\n")
        done = kiboko("flows", "plain.csv", "--guess", cwd=self.folder)
        self.assertIn("the log is read as it stands, without a mapping file", done.stdout)

    def test_a_log_without_a_record_is_no_log_that_says_nothing_is_wrong(self):
        (self.folder / "none.csv").write_text("src,dst,src_port,dst_port,protocol\n")
        for words in (("flows", "none.csv"), ("confirm", "--flows", "none.csv", "-n", "network.yaml")):
            (self.folder / "network.yaml").write_text("kiboko: 1\nnetworks: {n: {cidrs: [10.1.0.0/16]}}\n")
            done = kiboko(*words, cwd=self.folder)
            self.assertEqual(
                (done.returncode, "none.csv: there is no record in it" in done.stderr), (2, True), done.stderr
            )


_TRAFFIC = """
import socket, threading
server = socket.create_server(("127.0.0.1", 2222))
def serve():
    for _ in range(3):
        connection = server.accept()[0]
        connection.recv(10)
        connection.sendall(b"ok")
        connection.close()
thread = threading.Thread(target=serve)
thread.start()
for number in range(3):
    with socket.socket() as client:
        client.bind(("127.0.0.1", 40000 + number))
        client.connect(("127.0.0.1", 2222))
        client.sendall(b"hello")
        client.recv(10)
with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as client:
    client.bind(("127.0.0.1", 50000))
    client.sendto(b"x", ("127.0.0.1", 9999))
thread.join()
"""
_TRACKED = """
set -e
ip link set lo up
nft add table inet t
nft add chain inet t in '{type filter hook input priority 0;}'
nft add rule inet t in ct state new counter accept
nft add rule inet t in udp dport 9999 drop
conntrack -E -o timestamp > events.log 2>/dev/null & events=$!
sleep 1
"$1" traffic.py
sleep 1
conntrack -L > list.log 2>/dev/null
kill $events
"""


@unittest.skipIf(why_not(), why_not())
@unittest.skipUnless(shutil.which("conntrack"), "conntrack is not installed")
class RealTracking(unittest.TestCase):
    """In a network namespace of its own: three connections that are answered, and a datagram that is not."""

    def test_what_the_kernel_tracked_is_read_as_it_was_sent(self):
        with tempfile.TemporaryDirectory() as folder:
            Path(folder, "traffic.py").write_text(_TRAFFIC)
            Path(folder, "track.sh").write_text(_TRACKED)
            subprocess.run(["unshare", "--net", "bash", "track.sh", sys.executable], cwd=folder, check=True, timeout=60)
            for name in ("list.log", "events.log"):
                done = kiboko("flows", name, "--by", "source-port,service", "--json", "--top", "99", cwd=folder)
                rows = json.loads(done.stdout)["rows"]
                met = {(row["source-port"], row["service"]) for row in rows}
                there = {(str(port), "tcp/2222") for port in (40000, 40001, 40002)}
                back = {("2222", f"tcp/{port}") for port in (40000, 40001, 40002)}
                self.assertEqual(met, there | back | {("50000", "udp/9999")}, name)
                if name == "list.log":
                    self.assertEqual([row["records"] for row in rows], [1] * 7)


_RESTARTED = """
import socket, subprocess
server = socket.create_server(("10.1.1.10", 22))
client = socket.socket()
client.bind(("10.1.1.11", 40000))
client.connect(("10.1.1.10", 22))
connection = server.accept()[0]
client.sendall(b"hello")
connection.recv(10)
subprocess.run(["conntrack", "-F"], check=True, capture_output=True)
for one, other in ((connection, client), (client, connection)):
    one.sendall(b"more")
    other.recv(10)
with open("list.log", "w") as log:
    subprocess.run(["conntrack", "-L"], check=True, stdout=log, stderr=subprocess.DEVNULL)
"""
_RESTART = """
set -e
ip link set lo up
ip address add 10.1.1.10/32 dev lo
ip address add 10.1.1.11/32 dev lo
nft add table inet t
nft add chain inet t in '{type filter hook input priority 0;}'
nft add rule inet t in ct state new counter accept
"$1" traffic.py
"""


@unittest.skipIf(why_not(), why_not())
@unittest.skipUnless(shutil.which("conntrack"), "conntrack is not installed")
class RealRestart(unittest.TestCase):
    """In a network namespace of its own: what tracks connections is emptied, and goes on with what the server sends."""

    def test_a_session_that_is_tracked_from_the_middle_is_no_leak_of_the_other_direction(self):
        values = base()
        values["filters"] = {"guard": a_filter("instance", inbound=[{"action": "allow", "service": "ssh"}])}
        for name in ("ann", "bob"):
            values["instances"][name]["interfaces"][0]["filters"] = ["guard"]
        values["instances"]["ann"]["listens"] = ["ssh"]
        with tempfile.TemporaryDirectory() as folder:
            Path(folder, "network.yaml").write_text(json.dumps(values))
            Path(folder, "traffic.py").write_text(_RESTARTED)
            Path(folder, "restart.sh").write_text(_RESTART)
            subprocess.run(
                ["unshare", "--net", "bash", "restart.sh", sys.executable], cwd=folder, check=True, timeout=60
            )
            listed = Path(folder, "list.log").read_text()
            self.assertRegex(listed, "src=10.1.1.10 dst=10.1.1.11 sport=22 dport=40000 .*dport=22", "the server first")
            done = kiboko("confirm", "--flows", "list.log", "--json", cwd=folder)
        rows = json.loads(done.stdout)["rows"]
        self.assertEqual([(row["status"], row["why"]) for row in rows],
                         [("unsure", "who began is not recorded, and it matters")])  # fmt: skip


_LOGGED = """
set -e
ip link set lo up
nft add table inet t
nft add chain inet t in '{type filter hook input priority 0;}'
nft add rule inet t in udp dport 29999 log prefix '"DROP: "' drop
nft add rule inet t in udp dport 29998 log prefix '"ACCEPT: "' accept
nft add rule inet t in udp dport 29997 log prefix '"not-dropped "' accept
"$1" - "$2" <<'END'
import socket, sys
for port in (29999, 29998, 29997):
    for number in range(5):
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as client:
            client.bind(("127.0.0.1", int(sys.argv[1]) + number))
            client.sendto(b"x" * number, ("127.0.0.1", port))
END
"""
_OTHERS_LOG = Path("/proc/sys/net/netfilter/nf_log_all_netns")
"""Whether the kernel logs what the filters of other namespaces log."""


@unittest.skipIf(why_not(), why_not())
@unittest.skipUnless(shutil.which("rsyslogd"), "rsyslogd is not installed")
@unittest.skipUnless(_OTHERS_LOG.exists() and Path("/dev/kmsg").exists(), "this kernel's log cannot be read here")
class RealKernelLog(unittest.TestCase):
    """In a network namespace of its own: fifteen datagrams that rules of the kernel log, and a daemon writes down."""

    def test_what_the_kernel_logged_is_read_from_the_file_of_a_daemon(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        first_port = 40000 + os.getpid() % 2000 * 10  # the log holds what was before, of other runs too
        (folder / "traffic.sh").write_text(_LOGGED)
        (folder / "daemon.conf").write_text(
            f'module(load="imkmsg")\n*.* action(type="omfile" file="{folder}/kernel.log" template="RSYSLOG_FileFormat")\n'
        )
        before = _OTHERS_LOG.read_text()
        try:
            _OTHERS_LOG.write_text("1")
            command = ["unshare", "--net", "bash", folder / "traffic.sh", sys.executable, str(first_port)]
            subprocess.run(command, check=True, timeout=60)
        finally:
            _OTHERS_LOG.write_text(before)
        with subprocess.Popen(["rsyslogd", "-n", "-f", folder / "daemon.conf", "-i", folder / "pid"]) as daemon:
            try:
                until = time.monotonic() + 60
                while time.monotonic() < until and len(self.records(folder, first_port)) < 15:
                    time.sleep(0.3)
            finally:
                daemon.terminate()
        fates = {29999: "denied", 29998: "passed", 29997: "seen"}
        wanted = sorted((port, fates[port], first_port + n, 28 + n) for port in fates for n in range(5))
        got = sorted((r.service.detail, r.event, r.source_port, r.octets) for r in self.records(folder, first_port))
        self.assertEqual(got, wanted, "28 octets of headers each")

    def records(self, folder, first_port):
        log = folder / "kernel.log"
        if not log.exists() or not log.stat().st_size:
            return []
        tables = [table for table, _ in tables_of(log)]
        found = [table.record(row) for table in tables for row in range(len(table))]
        return [r for r in found if r.source_port is not None and r.source_port - first_port in range(5)]


if __name__ == "__main__":
    unittest.main()
