"""Flow logs in every form come to the same records, whatever is wrong with some of them."""

import bz2
import gzip
import io
import json
import lzma
import struct
import tarfile
import tempfile
import unittest
import warnings
import zipfile
from pathlib import Path
from unittest import mock

import numpy as np
import pyarrow as pa
import pyarrow.parquet

from kiboko.core.errors import InputError, UsageError
from kiboko.core.header.services import parse_services
from kiboko.core.records.flow_query import FlowFilter, Timeline
from kiboko.core.records.flow_sums import Sums
from kiboko.core.records.flow_table import table_of
from kiboko.files.elements.fields import time_filter
from kiboko.files.logs.chosen_files import flow_files, without_copies
from kiboko.files.logs.flow_pieces import pieces_of
from kiboko.files.logs.flow_reader import tables_of
from kiboko.files.store.flow_export import write_tables
from kiboko.views.flow_figures import draw_flows
from kiboko.views.flows_view import show_flows
from kiboko.views.output import Output

HEADER = "flowStartMilliseconds,flowEndMilliseconds,sourceIPv4Address,destinationIPv4Address,sourceTransportPort,destinationTransportPort,protocolIdentifier,tcpControlBits,packetDeltaCount,octetDeltaCount,firewallEvent,observationPointId\n"
ROWS = [
    "2026-11-20 10:00:00.000,2026-11-20 10:00:02.500,10.1.1.10,10.2.1.10,40000,22,6,27,10,900,1,7\n",
    "2026-11-20 10:01:00.000,2026-11-20 10:01:00.000,10.2.1.10,10.1.1.10,22,40000,6,18,9,4000,1,\n",
    "2026-11-20 11:30:00.000,,192.0.2.9,10.1.1.10,,53,17,,1,60,3,7\n",
]


class Reading(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def write(self, name, data):
        path = self.folder / name
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(data if isinstance(data, bytes) else data.encode())
        return path

    def read(self, path, strict=False):
        found = list(tables_of(path, strict))
        return [table.record(index) for table, _ in found for index in range(len(table))], found[-1][1]

    def plain(self):
        return self.read(self.write("plain.csv", HEADER + "".join(ROWS)))[0]

    def same(self, path):
        """The records of a file are those of the plain one, apart from the lines they stand on."""
        records, rejects = self.read(path)
        self.assertEqual(rejects.counts, {})
        lines = [record.line for record in records]
        self.assertEqual(lines, sorted(lines))
        key = ("source", "destination", "service", "source_port", "event", "start", "end", "packets", "octets", "point")
        self.assertEqual(*([[getattr(r, name) for name in key] for r in each] for each in (records, self.plain())))

    def test_a_record_by_hand(self):
        first, second, third = self.plain()
        self.assertEqual((str(first.source), first.source_port, str(first.service)), ("10.1.1.10", 40000, "tcp/22"))
        self.assertEqual((first.packets, first.octets, first.tcp_flags, first.point), (10, 900, 27, "7"))
        self.assertEqual((first.start.hour, first.end.microsecond), (10, 500_000))
        self.assertEqual((second.point, third.end, third.source_port, third.event), (None, None, None, "denied"))
        self.assertEqual([first.line, second.line, third.line], [2, 3, 4])

    def test_compressed(self):
        data = (HEADER + "".join(ROWS)).encode()
        self.same(self.write("log.csv.gz", gzip.compress(data)))
        self.same(self.write("log.csv.zst", pa.Codec("zstd").compress(data, asbytes=True)))
        self.same(self.write("log.csv.xz", lzma.compress(data)))
        self.same(self.write("log.csv.bz2", bz2.compress(data)))

    def test_json_lines_with_numbers_or_texts(self):
        names = HEADER.strip().split(",")
        values = [dict(zip(names, row.strip().split(","), strict=True)) for row in ROWS]
        texts = [{name: value for name, value in row.items() if value} for row in values]
        numbers = [{n: int(v) if v.isdecimal() else v for n, v in row.items()} for row in texts]
        for name, rows in (("texts", texts), ("numbers", numbers), ("mixed", [texts[0], *numbers[1:]])):
            with self.subTest(name):
                self.same(self.write(f"{name}.jsonl", "".join(json.dumps(row) + "\n" for row in rows)))

    def test_what_is_exported_in_any_form_reads_back_the_same(self):
        tables = [table for table, _ in tables_of(self.write("plain.csv", HEADER + "".join(ROWS)))]
        for suffix in ("csv", "jsonl", "parquet"):
            with self.subTest(suffix):
                path = self.folder / f"out.{suffix}"
                self.assertEqual(write_tables(iter(tables), path), 3)
                self.same(path)
        self.assertEqual(sorted(p.name for p in self.folder.iterdir() if p.name.startswith(".")), [])

    def test_ipv6_and_ipv4_side_by_side(self):
        header = "sourceIPv4Address,sourceIPv6Address,destinationIPv4Address,destinationIPv6Address,protocolIdentifier,destinationTransportPort\n"
        records, rejects = self.read(
            self.write(
                "both.csv", header + "10.0.0.1,,10.0.0.2,,6,22\n,fd00::1,,fd00::2,6,22\n10.0.0.1,,,fd00::2,6,22\n"
            )
        )
        self.assertEqual([str(r.source) for r in records], ["10.0.0.1", "fd00::1"])
        self.assertEqual(rejects.counts, {"mixed families": 1})
        either = self.read(
            self.write("one.csv", "src,dst,proto,dport\n10.0.0.1,10.0.0.2,6,22\nfd00::1,fd00::2,6,22\n")
        )[0]
        self.assertEqual([str(r.destination) for r in either], ["10.0.0.2", "fd00::2"])

    def test_a_log_cut_into_pieces_loses_and_doubles_nothing(self):
        rows = [ROWS[index % 3].replace("10.1.1.10", f"10.1.{index % 250}.10") for index in range(500)]
        rows[300] = rows[300].replace(",6,", ",nonsense,").replace(",17,", ",nonsense,")
        path = self.write("long.csv", HEADER + "".join(rows))
        whole, rejects = self.read(path)
        self.assertEqual((len(whole), rejects.counts), (499, {"bad protocolIdentifier": 1}))
        for size in (300, 1000, 7001):
            with (
                mock.patch("kiboko.files.logs.flow_pieces.PIECE", size),
                mock.patch("kiboko.files.logs.flow_pieces.CONTEXT", 200),
            ):
                self.assertGreater(len(list(pieces_of(path))), 3)
                cut, cut_rejects = self.read(path)
                self.assertEqual(cut, whole)
                self.assertEqual(cut_rejects.first, rejects.first)
                self.assertEqual(cut_rejects.first["bad protocolIdentifier"][0], 302)
                packed, packed_rejects = self.read(self.write("long.csv.gz", gzip.compress(path.read_bytes())))
                self.assertEqual(packed, whole)
                self.assertEqual(packed_rejects.first["bad protocolIdentifier"][0], 302)

    def test_what_is_torn_and_compressed_keeps_what_was_whole_and_says_so(self):
        rows = [ROWS[0].replace("40000", str(1024 + index)) for index in range(30_000)]
        whole = (HEADER + "".join(rows)).encode()
        for form, pack in (
            ("gzip", gzip.compress),
            ("bzip2", lambda data: bz2.compress(data, 1)),
            ("xz", lzma.compress),
        ):
            packed = pack(whole)
            with self.subTest(form), mock.patch("kiboko.files.logs.flow_pieces.PIECE", 4096):
                records, rejects = self.read(self.write("torn", packed[: len(packed) * 2 // 3]))
                self.assertGreater(len(records), 1000)
                self.assertLess(len(records), len(rows))
                self.assertIn(f"torn {form}", rejects.counts)

    def test_what_is_torn_and_small_keeps_what_was_whole_too(self):
        rows = [ROWS[0].replace("40000", str(1024 + index * 7919 % 60000)) for index in range(300)]
        for form, pack in (("gzip", gzip.compress), ("xz", lzma.compress)):
            with self.subTest(form):
                packed = pack((HEADER + "".join(rows)).encode())
                records, rejects = self.read(self.write("torn", packed[: len(packed) * 3 // 4]))
                self.assertGreater(len(records), 100)
                self.assertEqual([record.line for record in records], list(range(2, len(records) + 2)))
                self.assertIn(f"torn {form}", rejects.counts)

    def test_an_archive_is_no_log_whose_first_column_has_an_odd_name(self):
        """The header of a tar archive stands in the line of the log's own, and would cost it its first column."""
        log = self.write("log.csv", HEADER + "".join(ROWS))
        for name, kind in (("log.tar", "tar"), ("log.tgz", "tar"), ("log.zip", "zip")):
            if kind == "tar":
                with tarfile.open(self.folder / name, "w:gz" if name.endswith("gz") else "w") as archive:
                    archive.add(log, "log.csv")
            else:
                with zipfile.ZipFile(self.folder / name, "w") as archive:
                    archive.write(log, "log.csv")
            with self.subTest(name), self.assertRaisesRegex(InputError, f"{name}: this is a {kind} archive; unpack it"):
                self.read(self.folder / name)
        rest = struct.pack("<HHiIII", 2, 4, 0, 0, 65535, 1)
        for magic in (b"\xd4\xc3\xb2\xa1", b"\xa1\xb2\xc3\xd4", b"\x4d\x3c\xb2\xa1", b"\n\r\r\n\x1c\0\0\0"):
            (self.folder / "my.pcap").write_bytes(magic + rest)
            with self.assertRaisesRegex(InputError, "my.pcap: this is a capture of packets.*softflowd -r '?/.*my.pcap"):
                self.read(self.folder / "my.pcap")
        with self.assertRaisesRegex(InputError, "this is no text, by octets of 0 in its first line"):
            self.read(self.write("odd.csv", "\0" + HEADER + "".join(ROWS)))

    def test_times_in_several_forms_in_one_column(self):
        forms = [
            "2026-11-20 10:00:00.250",
            "2026-11-20T10:00:00.250Z",
            "2026-11-20T12:00:00.250+02:00",
            "1795168800250",
            "",
        ]
        rows = [ROWS[0].replace("2026-11-20 10:00:00.000", text) for text in forms]
        records, rejects = self.read(self.write("mixed.csv", HEADER + "".join(rows)))
        self.assertEqual(rejects.counts, {})
        moments = [record.start and record.start.isoformat(timespec="milliseconds") for record in records]
        self.assertEqual(moments, ["2026-11-20T10:00:00.250+00:00"] * 4 + [None])

    def test_microseconds_and_zones_in_the_fast_way(self):
        for text in ("2026-11-20 10:00:00.250999", "2026-11-20T10:00:00.250999Z", "2026-11-20T10:00:00.250Z"):
            with self.subTest(text):
                records, _ = self.read(self.write("log.csv", HEADER + ROWS[0].replace("2026-11-20 10:00:00.000", text)))
                self.assertEqual(records[0].start.isoformat(timespec="milliseconds"), "2026-11-20T10:00:00.250+00:00")

    def test_plain_headers_in_one_word_and_none_that_means_another_end(self):
        header = "starttime srcaddr dstaddr srcport dstport protocol tcpflags packets bytes action".replace(" ", ",")
        row = "1795166400250,10.1.1.10,10.2.1.10,40000,22,6,27,10,900,allow\n"
        (record,), rejects = self.read(self.write("one.csv", f"{header}\n{row}"))
        self.assertEqual((str(record.source), str(record.destination), str(record.service), record.tcp_flags, rejects.unread),
                         ("10.1.1.10", "10.2.1.10", "tcp/22", 27, {}))  # fmt: skip
        ping = "srcip,dstip,proto,icmptype,icmpcode\n10.1.1.10,10.2.1.10,1,8,0\n"
        self.assertEqual(str(self.read(self.write("ping.csv", ping))[0][0].service), "icmp/echo-request")
        with self.assertRaisesRegex(InputError, "column 'sourceIPv4Address' is missing"):
            self.read(self.write("short.csv", "sip,dip,proto\n10.1.1.10,10.2.1.10,6\n"))

    def test_numbers_of_a_plain_header_are_of_the_unit_that_their_size_says(self):
        moment = "2026-11-20T09:20:00.250000+00:00"
        header = "time,src,dst,src_port,dst_port,proto\n"
        rest = "10.1.1.10,10.2.1.10,40000,22,6"
        texts = ("1795166400.25", "1795166400250", "1795166400250000", "1795166400250000000")
        for text in texts:
            with self.subTest(text):
                path = self.write("one.csv", f"{header}{text},{rest}\n")
                (record,), _ = self.read(path)
                self.assertEqual(record.start.isoformat(), moment)
                (record,), _ = self.read(self.write("one.csv.gz", gzip.compress(path.read_bytes())))
                self.assertEqual(record.start.isoformat(), moment)
        ends = {"src": "10.1.1.10", "dst": "10.2.1.10", "src_port": 40000, "dst_port": 22, "proto": 6}
        values = [*map(float, texts[:1]), *map(int, texts[1:]), *texts, moment]
        several = self.write("all.jsonl", "".join(json.dumps(ends | {"time": each}) + "\n" for each in values))
        self.assertEqual({record.start.isoformat() for record in self.read(several)[0]}, {moment})
        self.assertEqual(len(self.read(several)[0]), 9)
        kinds = (pa.float64(), pa.uint64(), pa.int64(), pa.string())
        for kind in kinds:
            values = [1795166400.25, None, float("nan")] if kind == pa.float64() else [1795166400250, None, 0]
            table = pa.table({"time": pa.array(list(map(str, values)) if kind == pa.string() else values, kind),
                              **{name: pa.array([each] * 3) for name, each in ends.items()}})  # fmt: skip
            pyarrow.parquet.write_table(table, self.folder / "kinds.parquet")
            with warnings.catch_warnings():
                warnings.simplefilter("error")
                first = self.read(self.folder / "kinds.parquet")[0][0]
            self.assertEqual(first.start.isoformat(), moment, kind)
        whole = self.write("whole.csv", f"{header}1795166400,{rest}\n,{rest}\n0,{rest}\n")
        self.assertEqual([str(record.start) for record in self.read(whole)[0]],
                         ["2026-11-20 09:20:00+00:00", "None", "None"])  # fmt: skip

    def test_an_element_whose_name_tells_its_unit_is_read_in_it_and_a_year_that_cannot_be_is_told(self):
        header = HEADER.split(",", 2)[0] + ",src,dst,dst_port,proto\n"
        records, rejects = self.read(self.write("declared.csv", f"{header}1795166400,10.1.1.10,10.2.1.10,22,6\n"))
        self.assertEqual([record.start for record in records], [None])
        told = (
            "1 row of a time before 1973: a clock that was never set, or seconds where milliseconds are meant; taken as"
        )
        self.assertIn(f"{told} without a time", rejects.sentences()[0])
        header = header.replace("flowStart", "flowEnd")
        records, rejects = self.read(self.write("ended.csv", f"{header}1795166400,10.1.1.10,10.2.1.10,22,6\n"))
        self.assertEqual([(record.start, record.end) for record in records], [(None, None)])
        self.assertIn(f"{told} without a time", rejects.sentences()[0])

    def test_flags_as_numbers_names_and_letters_and_what_may_mean_two_things(self):
        header = "src,dst,src_port,dst_port,proto,flags\n"
        good = {"18": 18, "0x12": 18, "SA": 18, "sa": 18, "SYN|ACK": 18, '"SYN,ACK"': 18, "syn ack": 18, ".A..S.": 18,
                "-------S": 2, "PA": 24, "CEUAPRSF": 255, "W": 128, "65535": 65535, "": None, "......": 0, "27": 27}  # fmt: skip
        bad = ("S.", ".", "SS", "XY", "70000", "SYN|XYZ", "[S.]", "-1")
        rows = "".join(f"10.1.1.10,10.2.1.10,40000,22,6,{text}\n" for text in (*good, *bad))
        records, rejects = self.read(self.write("flags.csv", header + rows))
        self.assertEqual([record.tcp_flags for record in records], list(good.values()))
        self.assertEqual(rejects.counts, {"bad tcpControlBits": len(bad)})
        (record,), _ = self.read(self.write("one.csv", header + "10.1.1.10,10.2.1.10,40000,22,tcp,SA\n"))
        self.assertEqual(record.tcp_flags, 18)

    def test_hexadecimal_numbers_are_read_whatever_else_is_in_the_log(self):
        """By columns, and one row at a time where a line is torn or a number is none."""
        header = "src,dst,src_port,dst_port,proto,packets\n"
        rows = "10.1.1.10,10.2.1.10,0x9C40,0X16,6,0x0a\n10.1.1.10,10.2.1.10,0x0008,0x0900,icmp,1\n"
        for more in ("", "torn,line\n", "10.1.1.10,10.2.1.10,1_0,22,6,1\n10.1.1.10,10.2.1.10,x,22,6,1\n"):
            records, rejects = self.read(self.write("hex.csv", header + rows + more))
            self.assertEqual([(str(r.service), r.source_port, r.packets) for r in records],
                             [("tcp/22", 40000, 10), ("icmp, type not recorded", None, 1)])  # fmt: skip
            self.assertEqual(more.count("\n"), sum(rejects.counts.values()))

    def test_the_times_of_a_question_are_of_the_unit_that_their_size_says_too(self):
        for text in ("1795166400", "1795166400000", "2026-11-20T09:20:00Z", "2026-11-20 10:20:00+01:00"):
            self.assertEqual(time_filter(text, None).since, 1795166400000)
        for text in ("20261120", "2026-11-20", "20261120T000000Z"):
            self.assertEqual(time_filter(None, text).until, 1795132800000)
        for text in ("20261399", "0", "1130", "yesterday", "1e9"):
            with self.assertRaisesRegex(UsageError, f"'{text}' is no time"):
                time_filter(text, None)

    def test_an_ipv4_address_written_as_one_of_ipv6_is_itself(self):
        """RFC 4291, section 2.5.5.2, in each way of reading: short and long texts, octets, and a row by itself."""
        header = "time,src,dst,src_port,dst_port,proto\n"
        rows = ("1795166400250,::ffff:10.1.1.10,10.2.1.10,40000,22,6\n"
                "1795166400250,0:0:0:0:0:ffff:10.1.1.10,::FFFF:a02:10a,40000,22,6\n"
                "1795166400250, ::ffff:10.1.1.10,10.2.1.10,40000, 22,tcp\n")  # fmt: skip
        records, rejects = self.read(self.write("mapped.csv", header + rows))
        self.assertEqual((len(records), rejects.counts), (3, {}))
        self.assertEqual({(str(each.source), str(each.destination)) for each in records}, {("10.1.1.10", "10.2.1.10")})
        octets = [b"\0" * 10 + b"\xff\xff\x0a\x01\x01\x0a", b"\0" * 10 + b"\xff\xff\x0a\x02\x01\x0a"]
        packed = [pa.array([each], pa.binary(16)) for each in octets]
        table = pa.table({"sourceIPv6Address": packed[0], "destinationIPv6Address": packed[1],
                          "destinationTransportPort": [22], "protocolIdentifier": [6]})  # fmt: skip
        pyarrow.parquet.write_table(table, self.folder / "mapped.parquet")
        ((record,), _) = self.read(self.folder / "mapped.parquet")
        self.assertEqual((str(record.source), str(record.destination)), ("10.1.1.10", "10.2.1.10"))

    def test_empty_lines_before_the_header_are_passed_over(self):
        data = "\n \r\n" + HEADER + "".join(ROWS) + ROWS[0].replace(",6,", ",x,")
        for name, text in (("blank.csv", data.encode()), ("blank.csv.gz", gzip.compress(data.encode()))):
            records, rejects = self.read(self.write(name, text))
            self.assertEqual([record.line for record in records], [4, 5, 6])
            self.assertIn("(line 7)", rejects.sentences()[0])

    def test_blank_lines_are_no_rows_whether_others_are_faulty_or_not(self):
        faulty = ROWS[0].replace(",6,", ",x,")
        for name, rest, rejected in (("clean.csv", "", 0), ("faulty.csv", faulty, 1), ("last.csv", "\n\r\n\n", 0)):
            for form in ("", ".gz"):
                with self.subTest(name + form):
                    data = (HEADER + ROWS[0] + "\n\r\n" + "".join(ROWS[:2]) + rest).encode()
                    path = self.write(name + form, gzip.compress(data) if form else data)
                    records, rejects = self.read(path)
                    self.assertEqual([record.line for record in records], [2, 5, 6])
                    self.assertEqual(rejects.total, rejected)

    def test_text_in_another_coding_and_lines_that_are_none_are_told_what_to_do(self):
        data = HEADER + "".join(ROWS)
        for text, said in ((data.encode("utf-16"), "this is UTF-16 text; save it as UTF-8"),
                           (data.replace("\n", "\r").encode(), "its lines end with a carriage return alone")):  # fmt: skip
            with self.subTest(said), self.assertRaisesRegex(InputError, said):
                self.read(self.write("odd.csv", text))

    def test_objects_without_any_field_of_a_flow_record_are_rejected_each(self):
        records, rejects = self.read(self.write("odd.jsonl", '{"a": 1}\n{"b": 2}\n{}\n'))
        self.assertEqual((records, rejects.counts), ([], {"without a field of a flow record": 3}))
        self.assertEqual(rejects.first["without a field of a flow record"], (1, "it has 'a'"))
        _, rejects = self.read(self.write("in.jsonl", '{"a": {"src": "10.1.1.10", "dst": "10.2.1.10", "proto": 1}}\n'))
        self.assertIn("it has 'a'; its fields may lie inside: flows --guess proposes", rejects.sentences()[0])

    def test_words_for_protocols_events_and_flags(self):
        header = "src,dst,proto,sport,dport,action,flags\n"
        rows = ["10.0.0.1,10.0.0.2,TCP,1000,22,ALLOW,0x12\n", "10.0.0.1,10.0.0.2,udp,1000,53,Blocked,\n",
                "fd00::1,fd00::2,ipv6-icmp,,33024,-,\n"]  # fmt: skip
        records, rejects = self.read(self.write("words.csv", header + "".join(rows)))
        self.assertEqual(rejects.counts, {})
        self.assertEqual([(str(r.service), r.event, r.tcp_flags) for r in records],
                         [("tcp/22", "passed", 0x12), ("udp/53", "denied", None), ("icmp6/echo-reply", "seen", None)])  # fmt: skip

    def test_json_lines_with_bad_ones_between(self):
        good = '{"src": "10.0.0.1", "dst": "10.0.0.2", "proto": "tcp", "dport": 22}\n'
        text = (
            good + "not json\n" + good + "[1]\n" + '{"src": "10.0.0.1", "proto": 6, "dport": 22}\n' + good + good[:30]
        )
        records, rejects = self.read(self.write("bad.jsonl", text))
        self.assertEqual([record.line for record in records], [1, 3, 6])
        self.assertEqual(rejects.counts, {"not JSON": 1, "not a record": 1, "bad address": 1, "torn last line": 1})
        self.assertEqual(rejects.first["not JSON"][0], 2)

    def test_nested_values_are_no_fields_and_no_crash(self):
        text = '{"src": "10.0.0.1", "dst": {"a": 1}, "proto": 6, "dport": 22}\n'
        self.assertEqual(self.read(self.write("nested.jsonl", text))[1].counts, {"bad address": 1})

    def test_strict_stops_at_the_first_bad_row_and_names_its_line(self):
        path = self.write("bad.csv", HEADER + ROWS[0] + ROWS[1].replace(",22,", ",x,") + ROWS[2])
        with self.assertRaisesRegex(InputError, r"bad.csv:3: row 2: sourceTransportPort 'x' cannot be read"):
            self.read(path, strict=True)

    def test_folders_and_patterns(self):
        self.write("b/two.csv", HEADER + ROWS[0])
        self.write("b/one.csv", HEADER + ROWS[1])
        self.write("b/.hidden", "x")
        self.write("b/README.md", "not a log")
        names = [path.name for path in flow_files([self.folder / "b", str(self.folder / "b" / "t*.csv")])]
        self.assertEqual(names, ["one.csv", "two.csv"])
        with self.assertRaisesRegex(InputError, "no such file"):
            flow_files([self.folder / "none*"])

    def test_of_a_folder_what_is_not_named_as_a_log_is_told_and_what_was_put_aside_is_read(self):
        for number, name in enumerate(("a.csv", "a.csv.1", "a.csv.2.gz", "a.csv-20261120", "b.jsonl.2026-11-20", "c.dat",
                                       "messages", "d.csv.gz.part")):  # fmt: skip
            data = (HEADER + ROWS[0].replace("40000", str(40000 + number))).encode()
            self.write(f"b/{name}", gzip.compress(data) if name.endswith(".gz") else data)
        files = flow_files([self.folder / "b"])
        self.assertEqual([path.name for path in files],
                         ["a.csv", "a.csv-20261120", "a.csv.1", "a.csv.2.gz", "b.jsonl.2026-11-20"])  # fmt: skip
        (told,) = without_copies(files)[1]
        self.assertIn("b: 3 files are not read, by the name: c.dat, d.csv.gz.part, messages; logs of a folder", told)
        self.write("none/x.dat", "x")
        with self.assertRaisesRegex(
            InputError, "none: no log is in this folder; 1 file is not read, by the name: x.dat"
        ):
            flow_files([self.folder / "none"])

    def test_times_of_every_unit_and_beyond_any_calendar_in_an_arrow_stream(self):
        # 2026-11-20 09:20:00 and 123 ms, in each unit; 2**62 of most of them lies beyond the year 9999.
        moments = {"s": 1795166400, "ms": 1795166400123, "us": 1795166400123456, "ns": 1795166400123456789}
        for unit, moment in moments.items():
            times = pa.array([moment, None, 2**62, -1], pa.int64()).view(pa.timestamp(unit))
            table = pa.table({"start": times, "src": ["10.1.1.1"] * 4, "dst": ["10.1.1.2"] * 4, "proto": ["1"] * 4})
            with (
                pa.OSFile(str(self.folder / "x.arrows"), "wb") as sink,
                pa.ipc.new_stream(sink, table.schema) as writer,
            ):
                writer.write_table(table)
            found, rejects = self.read(self.folder / "x.arrows")
            exact = {"s": 1795166400000}.get(unit, 1795166400123)
            starts = [None if each.start is None else round(each.start.timestamp() * 1000) for each in found]
            late = [2**62 // 10**6] if unit == "ns" else []
            self.assertEqual(starts, [exact, None, *late, None], unit)
            self.assertEqual(rejects.counts, {} if late else {"bad flowStartMilliseconds": 1})

    def test_what_is_no_parquet_file_is_an_error_without_a_traceback(self):
        with self.assertRaisesRegex(InputError, "not Parquet"):
            self.read(self.write("x.parquet", b"PAR1 and then nothing of the kind"))


class Asking(unittest.TestCase):
    """Filters and sums over the three records; what they come to is counted by hand."""

    def setUp(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (folder / "log.csv").write_text(HEADER + "".join(ROWS))
        self.table = next(tables_of(folder / "log.csv"))[0]

    def kept(self, **wanted):
        from kiboko.core.header.addresses import parse_address_set

        sets = {n: parse_address_set(v) for n, v in wanted.items() if n in ("sources", "destinations", "either")}
        return FlowFilter(**{**wanted, **sets}).mask(self.table).tolist()

    def test_filters(self):
        hour = 3_600_000
        ten = int(self.table.start[0])
        self.assertEqual(self.kept(sources="10.1.0.0/16"), [True, False, False])
        self.assertEqual(self.kept(destinations="10.1.1.10"), [False, True, True])
        self.assertEqual(self.kept(either="192.0.2.0/24"), [False, False, True])
        self.assertEqual(self.kept(services=parse_services("ssh")), [True, False, False])
        self.assertEqual(self.kept(outcome="denied"), [False, False, True])
        self.assertEqual(self.kept(since=ten + hour), [False, False, True])
        self.assertEqual(self.kept(until=ten + 1), [True, False, False])
        self.assertEqual(self.kept(since=ten + 2500, until=ten + 2501), [True, False, False])

    def test_sums(self):
        sums = Sums(("outcome", "hour"))
        sums.add(self.table)
        sums.add(self.table.taken(np.array([True, False, False])))
        found = {key: (each.records, each.packets, each.octets) for key, each in sums.groups.items()}
        self.assertEqual(
            found, {("passed", "2026-11-20 10:00Z"): (3, 29, 5800), ("denied", "2026-11-20 11:00Z"): (1, 1, 60)}
        )
        self.assertEqual((sums.total.records, sums.total.octets), (4, 5860))

    def test_a_timeline_has_its_empty_periods_and_grows_coarser_not_longer(self):
        timeline = Timeline(60_000)
        timeline.add(self.table)
        rows = timeline.rows()
        self.assertEqual(len(rows), 91)
        self.assertEqual([counts for _, counts in rows if any(counts)], [(0, 1, 0), (0, 1, 0), (0, 0, 1)])
        self.assertEqual([sum(counts) for _, counts in timeline.coarsened(9).rows()], [2, 0, 0, 1])

    def test_no_records_come_to_nothing(self):
        sums, timeline = Sums(("source",)), Timeline(60_000)
        sums.add(table_of([]))
        timeline.add(table_of([]))
        self.assertEqual((sums.total.records, sums.groups, timeline.rows()), (0, {}, []))


class Shown(unittest.TestCase):
    """What a person sees of sums and of time."""

    def setUp(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (folder / "log.csv").write_text(HEADER + "".join(ROWS))
        self.folder, self.table = folder, next(tables_of(folder / "log.csv"))[0]
        self.sums, self.timeline = Sums(("service",)), Timeline(60_000)
        self.sums.add(self.table)
        self.timeline.add(self.table)

    def text(self, by="octets", most=20, caveats=()):
        stream = io.StringIO()
        show_flows(self.sums, self.timeline, by, most, list(caveats), Output(stream))
        return stream.getvalue()

    def test_the_largest_groups_come_first_by_the_measure_asked_for(self):
        def order(by):
            return [line.split()[0] for line in self.text(by).splitlines() if line.startswith(("tcp", "udp"))]

        self.assertEqual(order("octets"), ["tcp/40000", "tcp/22", "udp/53"])
        self.assertEqual(order("packets"), ["tcp/22", "tcp/40000", "udp/53"])
        self.assertIn("and 2 more groups", self.text(most=1))
        self.assertIn("80.6 %", self.text(), "4,000 of 4,960")

    def test_the_smallest_count_is_still_seen(self):
        for _ in range(500):
            self.timeline.add(self.table.taken(np.array([True, False, False])))
        (line,) = (line for line in self.text().splitlines() if line.startswith("  2026-11-20 11:30"))
        self.assertTrue(line.endswith("░"), line)
        self.assertIn("Bear in mind", self.text(caveats=["a log was torn"]))

    def test_what_began_earlier_counts_from_since_on(self):
        timeline = Timeline(60_000, int(self.table.start[2]))
        timeline.add(self.table)
        self.assertEqual([counts for _, counts in timeline.rows()], [(0, 2, 1)])

    def test_figures(self):
        for name, magic in (("flows.png", b"\x89PNG"), ("flows.svg", b"<?xml")):
            draw_flows(self.sums, self.timeline, "octets", self.folder / name)
            self.assertTrue((self.folder / name).read_bytes().startswith(magic))
        with self.assertRaisesRegex(UsageError, "a figure is .png or .svg"):
            draw_flows(self.sums, self.timeline, "octets", self.folder / "flows.pdf")

    def test_names_from_outside_cannot_steer_a_terminal(self):
        self.sums = Sums(("source",), lambda address: f"\x1b[2J{address}")
        self.sums.add(self.table)
        self.assertNotIn("\x1b", self.text())


if __name__ == "__main__":
    unittest.main()
