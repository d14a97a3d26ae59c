"""Flow and probe logs: every good record read, every bad one counted with its place."""

import bz2
import contextlib
import errno
import gzip
import json
import lzma
import os
import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from kiboko.core.errors import EnvironmentFailure, InputError
from kiboko.core.records.records import ProbeRecord
from kiboko.files.documents.saving import LineAppender, write_whole
from kiboko.files.elements.fields import parse_flow_time
from kiboko.files.elements.rejects import Rejects
from kiboko.files.logs.flow_reader import tables_of
from kiboko.files.logs.probe_log import read_probes, to_line

HEADER = "flowStartMilliseconds,sourceIPv4Address,destinationIPv4Address,sourceTransportPort,destinationTransportPort,protocolIdentifier,firewallEvent\n"
ROW = "1763632800000,10.1.1.10,10.2.1.10,40000,22,6,1\n"


class Logs(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def flows(self, text, strict=False):
        path = self.folder / "log"
        path.write_bytes(text) if isinstance(text, bytes) else path.write_text(text)
        with contextlib.chdir(self.folder):
            found = list(tables_of(Path("log"), strict))
        return [table.record(index) for table, _ in found for index in range(len(table))], found[-1][1]

    def test_elements_of_the_registry(self):
        (record,), rejects = self.flows(HEADER + ROW)
        self.assertEqual(
            (str(record.source), str(record.destination), str(record.service)), ("10.1.1.10", "10.2.1.10", "tcp/22")
        )
        self.assertEqual((record.source_port, record.event, record.line), (40000, "passed", 2))
        self.assertEqual(record.start, datetime(2025, 11, 20, 10, 0, tzinfo=UTC))
        self.assertEqual(rejects.total, 0)

    def test_plain_headers_are_recognised(self):
        (record,), _ = self.flows(
            "Src,DST,dst-port,proto,action,bytes\n10.0.0.1,fd00::1,53,udp,DENY,9\n10.0.0.1,10.0.0.2,53,udp,DENY,9\n"
        )
        self.assertEqual(
            (record.event, str(record.service), record.octets, record.source_port), ("denied", "udp/53", 9, None)
        )

    def test_json_lines(self):
        text = '{"sourceIPv6Address": "fd00::1", "destinationIPv6Address": "fd00::2", "protocolIdentifier": 58, "icmpTypeCodeIPv6": 33024}\n'
        (record,), _ = self.flows(text)
        self.assertEqual(str(record.service), "icmp6/echo-reply")

    def test_a_missing_column_is_an_error_that_names_it(self):
        with self.assertRaisesRegex(
            InputError, "column 'destinationIPv4Address' is missing; the columns are src, proto"
        ):
            self.flows("src,proto\n10.0.0.1,6\n")
        with self.assertRaisesRegex(InputError, "the file is empty"):
            self.flows("")

    def test_a_bad_address_in_row_40000_is_named_counted_and_the_rest_used(self):
        rows = [ROW] * 40_010
        rows[39_999] = ROW.replace("10.1.1.10", "10.1.1.999")
        found, rejects = self.flows(HEADER + "".join(rows))
        self.assertEqual((len(found), rejects.counts), (40_009, {"bad address": 1}))
        self.assertIn(
            "row 40,000 (line 40001): sourceIPv4Address '10.1.1.999' is not an address", rejects.sentences()[0]
        )
        with self.assertRaisesRegex(InputError, "log:40001: row 40,000"):
            self.flows(HEADER + "".join(rows), strict=True)

    def test_a_torn_last_line_is_told_apart_from_a_bad_row(self):
        found, rejects = self.flows(HEADER + ROW + "1763632800000,10.1.1.10,10.2")
        self.assertEqual((len(found), rejects.counts), (1, {"torn last line": 1}))
        found, rejects = self.flows(HEADER + "1763632800000,10.1.1.10\n" + ROW)
        self.assertEqual((len(found), rejects.counts), (1, {"wrong number of cells": 1}))

    def test_bad_fields_are_counted_by_kind(self):
        bad = [ROW.replace(",22,", ",70000,"), ROW.replace(",6,1", ",6,maybe"), ROW.replace("10.2.1.10", "fd00::1"),
               ROW.replace(",22,", ",,"), ROW.replace("1763632800000", "soon"), ROW.replace(",6,", ",999,")]  # fmt: skip
        found, rejects = self.flows(HEADER + "".join(bad) + ROW)
        self.assertEqual(len(found), 1)
        self.assertEqual(set(rejects.counts), {"bad destinationTransportPort", "bad firewallEvent", "mixed families", "no port", "bad flowStartMilliseconds", "bad protocolIdentifier"})  # fmt: skip

    @settings(max_examples=150)
    @given(st.binary(max_size=300))
    def test_no_bytes_crash_the_reader_and_the_good_row_before_them_is_kept(self, noise):
        found, _ = self.flows((HEADER + ROW).encode() + noise.replace(b'"', b"'"))
        self.assertGreaterEqual(len(found), 1)

    def test_times(self):
        self.assertEqual(parse_flow_time("2026-11-20 10:00:00.5"), datetime(2026, 11, 20, 10, 0, 0, 500000, UTC))
        self.assertEqual(parse_flow_time("2026-11-20T12:00:00+02:00"), datetime(2026, 11, 20, 10, 0, tzinfo=UTC))
        self.assertEqual(parse_flow_time("1500"), datetime(1970, 1, 1, 0, 0, 1, 500000, UTC))

    # Probe records.

    def record(self, port=40000):
        return ProbeRecord(
            datetime(2026, 11, 20, 10, 0, tzinfo=UTC), "ann", "dan", "10.2.1.10", "tcp/22", "answered", port, 1.5
        )

    def test_probe_records_are_read_as_they_were_written_and_bad_lines_counted(self):
        path = self.folder / "probes"
        path.write_text(
            to_line(self.record())
            + '\n[1]\nnot json\n{"kiboko": "probe/1", "outcome": "lost"}\n'
            + to_line(self.record())[:50]
        )
        rejects = Rejects("probes")
        self.assertEqual(list(read_probes(path, rejects)), [self.record()])
        self.assertEqual(rejects.counts, {"not a probe record": 2, "not JSON": 1, "torn last line": 1})

    def test_what_a_probe_record_by_hand_lacks_is_told_at_once(self):
        good = json.loads(to_line(self.record()))
        path = self.folder / "probes"
        for wrong, said in (
            ({"time": good["time"], "from": "ann"}, "'kiboko', 'to', 'address', 'service', 'outcome' are missing"),
            ({key: value for key, value in good.items() if key != "address"}, "'address' is missing"),
            (good | {"kiboko": "probe/2"}, "the form is 'probe/2', and probe/1 is read"),
            (good | {"outcome": "filtered"}, "outcome 'filtered' is none of answered, refused, silent, unreachable; did"
             " you mean 'silent'?"),
            ([good], "a line is one JSON object"),
        ):  # fmt: skip
            rejects = Rejects("probes")
            path.write_text(json.dumps(wrong) + "\n")
            self.assertEqual([], list(read_probes(path, rejects)))
            self.assertEqual([said], [text for _, text in rejects.first.values()])

    def test_probe_records_as_a_spreadsheet_or_shell_saves_them(self):
        """With a byte order mark they are read; text of UTF-16 would be read in part, line by line."""
        path, lines = self.folder / "probes", f"{to_line(self.record())}\n{to_line(self.record(40001))}\n"
        path.write_bytes(lines.encode("utf-8-sig"))
        self.assertEqual([self.record(), self.record(40001)], list(read_probes(path, Rejects("probes"))))
        path.write_bytes(lines.encode("utf-16"))
        with self.assertRaisesRegex(InputError, "this is UTF-16 text; save it as UTF-8"):
            list(read_probes(path, Rejects("probes")))
        path.write_bytes(lines.encode("utf-16-le"))
        self.assertEqual([], list(read_probes(path, Rejects("probes"))))

    def test_compressed_probe_records(self):
        lines = "".join(to_line(self.record(port)) + "\n" for port in range(40000, 40100)).encode()
        for pack in (gzip.compress, bz2.compress, lzma.compress):
            path, rejects = self.folder / "probes", Rejects("probes")
            path.write_bytes(pack(lines))
            self.assertEqual(list(read_probes(path, rejects)), [self.record(port) for port in range(40000, 40100)])
            path.write_bytes(pack(lines)[:-20])
            some, rejects = list(read_probes(path, rejects)), Rejects("probes")
            self.assertEqual(some, [self.record(port) for port in range(40000, 40000 + len(some))])
            self.assertTrue(list(read_probes(path, rejects)) == some and rejects.total, pack)

    def test_a_probe_record_with_a_field_of_another_kind_is_rejected_with_its_name(self):
        right = json.loads(to_line(self.record()))
        for key, value, said in (
            ("rtt_ms", "fast", "rtt_ms 'fast' is no number"), ("rtt_ms", [1], "is no number"),
            ("rtt_ms", -5, "no time in milliseconds"), ("attempts", "x", "attempts 'x' is no number"),
            ("attempts", 1e400, "is no number"), ("source_port", True, "source_port 'True' is no number"),
            ("source_port", 1.5, "is no number"), ("source_port", 70000, "is not a port"),
            ("redirected", "no", "neither true nor false"), ("address", "relay-1", "address 'relay-1' is no address"),
            ("sent_from", "10.1.1.0/24", "sent_from '10.1.1.0/24' is no address"), ("from", None, "'from' is not text"),
            ("outcome", ["answered"], "is none of"),
        ):  # fmt: skip
            path, rejects = self.folder / "odd", Rejects("odd")
            path.write_text(json.dumps(right | {key: value}) + "\n" + json.dumps(right) + "\n")
            self.assertEqual([self.record()], list(read_probes(path, rejects)), (key, value))
            self.assertIn(said, rejects.sentences()[0])
        path.write_text(json.dumps(right | {"source_port": 0, "rtt_ms": None}) + "\n")
        (found,) = read_probes(path, Rejects("odd"))
        self.assertEqual((None, None), (found.source_port, found.rtt_ms))

    # Writing.

    def test_appending_closes_a_torn_line_first(self):
        path = self.folder / "probes"
        path.write_text("one\ntor")
        with LineAppender(path) as log:
            log.append("two")
        self.assertEqual(path.read_text(), "one\ntor\ntwo\n")

    def test_a_full_disk_leaves_the_earlier_records_as_they_were(self):
        path = self.folder / "probes"
        real, written = os.write, []

        def short(handle, data):
            if written:
                raise OSError(errno.ENOSPC, "No space left on device")
            written.append(real(handle, data[:5]))
            return 5

        with LineAppender(path) as log:
            log.append("earlier")
            with (
                mock.patch("os.write", short),
                self.assertRaisesRegex(EnvironmentFailure, "the records before this one are kept"),
            ):
                log.append("a longer record")
        self.assertEqual(path.read_text(), "earlier\n")

    def test_a_folder_that_cannot_be_written_is_said_before_anything_is_sent(self):
        with self.assertRaisesRegex(EnvironmentFailure, "cannot be appended to"):
            LineAppender(Path("/proc/nothing/here"))
        with self.assertRaisesRegex(EnvironmentFailure, "cannot be written"):
            write_whole(Path("/proc/nothing/here"), b"x")

    def test_a_whole_file_is_moved_into_place(self):
        write_whole(self.folder / "deep" / "file", b"x")
        self.assertEqual([p.name for p in (self.folder / "deep").iterdir()], ["file"])


if __name__ == "__main__":
    unittest.main()
