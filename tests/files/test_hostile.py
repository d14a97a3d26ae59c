"""What arrives or is read may be made to do harm: nothing of it ends a run, takes long, takes much, or is taken in silence."""

import contextlib
import json
import os
import stat
import struct
import subprocess
import sys
import tempfile
import time
import tracemalloc
import unittest
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from pathlib import Path
from unittest import mock

import pyarrow as pa
import pyarrow.parquet

from kiboko.core.errors import EnvironmentFailure, InputError, Problem
from kiboko.core.evidence.coverage import Coverage, SubnetPlaces
from kiboko.core.header.addresses import parse_address
from kiboko.core.header.services import Service
from kiboko.core.records.flow_query import MINUTE, Timeline
from kiboko.core.records.flow_table import table_of
from kiboko.core.records.records import PASSED, FlowRecord
from kiboko.files.collection.intake import Intake
from kiboko.files.documents.saving import LineAppender, check_writable, write_whole, written_whole
from kiboko.files.documents.times import parse_time
from kiboko.files.elements.column_map import USUAL
from kiboko.files.elements.mapping_file import read_column_map
from kiboko.files.elements.moments import read_moments
from kiboko.files.elements.rejects import Rejects
from kiboko.files.hosts.rule_set_listing import read_rule_set
from kiboko.files.hosts.sockets import read_sockets
from kiboko.files.logs.flow_reader import tables_of
from kiboko.files.logs.flow_texts import Text, TextReader
from kiboko.files.logs.probe_log import read_probes
from kiboko.files.messages.flow_messages import MessageReader
from kiboko.files.messages.syslog import flow_fields, parse_syslog
from kiboko.files.store.flow_export import write_tables
from kiboko.files.store.flow_store import FlowStore, Keeping
from kiboko.wire.framing import MOST_OCTETS, Frames
from tests.export_messages import FLOW, a_flow, a_set, data, fields, message, template
from tests.files.test_flow_store import NOW, records
from tests.helpers import load

AWKWARD = ["a", "a=", "=", '"', "\\", 'a="', 'a="\\', "[", "]", "[a ", '[a b="', " ", "a ", "<", "{", "}", "(", ":", "a:",
           "a[", "%", "\t", "\0", "0", "9.", "-", "_", ",", ";", "é", "SRC=", " SRC=1 DST=2 PROTO=", "\\\"", "a.b-"]  # fmt: skip
ARRIVED = datetime(2026, 11, 20, 10, tzinfo=UTC)


def cost(action, data, tries=4):
    """The least CPU time that an action took on some data, in seconds."""
    best = float("inf")
    for _ in range(tries):
        began = time.process_time()
        action(data)
        best = min(best, time.process_time() - began)
    return best


class LinearTime(unittest.TestCase):
    """Ten times as much takes about ten times as long, whatever it is made of: at most 15 times."""

    def hold(self, action, make, kinds=AWKWARD):
        action(make("a", 1000))
        for kind in kinds:
            small, large = make(kind, 50_000), make(kind, 500_000)
            # What is too quick to be compared, ten times as much of it is quick as well.
            allowed = max(15 * cost(action, small, 2), 0.25)
            if cost(action, large, 1) >= allowed:
                measured = (
                    (cost(action, large, 3), 15 * cost(action, small, 6)) for _ in range(3)
                )  # machines are noisy
                self.assertTrue(any(long < max(most, 0.25) for long, most in measured), kind)

    def test_log_messages(self):
        def read(data):
            flow_fields(parse_syslog(data, ARRIVED))

        for lead in (
            "<13>",
            "<13>1 - - - - - [x ",
            "<13>Nov 20 10:00:00 h a: IN=x ",
        ):
            self.hold(read, lambda kind, size, lead=lead: (lead + kind * (size // len(kind))).encode())

    def test_streams_of_log_messages(self):
        def read(data):
            frames = Frames()
            for at in range(0, len(data), 4096):
                frames.feed(data[at : at + 4096])

        self.hold(read, lambda kind, size: (kind * (size // len(kind))).encode(), [*AWKWARD, "\n", "a\n", "5 "])

    def test_csv_and_json_lines(self):
        header = ("src", "dst", "proto", "dst_port")
        reader = TextReader(USUAL)

        def csv(data):
            reader.csv(header, ",", Text(pa.py_buffer(data), 1), Rejects("x"))

        def lines(data):
            reader.json(Text(pa.py_buffer(data), 1), Rejects("x"))

        self.hold(csv, lambda kind, size: ((kind * 40 + "\n") * (size // (40 * len(kind) + 1))).encode(), AWKWARD[1:7])
        self.hold(
            lines, lambda kind, size: ((kind * 40 + "\n") * (size // (40 * len(kind) + 1))).encode(), AWKWARD[1:7]
        )
        self.hold(lines, lambda kind, size: b'{"a": "' + (kind * (size // len(kind))).encode() + b'"}\n', AWKWARD[:6])

    def test_listings_of_sockets_and_probe_logs(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "x")

            def sockets(data):
                path.write_bytes(data)
                read_sockets(path, "x", [])

            def probes(data):
                path.write_bytes(data)
                list(read_probes(path, Rejects("x")))

            def mapping(data):
                path.write_bytes(data)
                with contextlib.suppress(InputError):
                    read_column_map(path)

            for action in (sockets, probes, mapping):
                self.hold(action, lambda kind, size: (kind * (size // len(kind))).encode(), AWKWARD[:8])


class LogMessages(unittest.TestCase):
    def intake(self, *messages):
        taken = Intake()
        for each in messages:
            taken.log_message(each, "192.0.2.1", ARRIVED)
        return sum(len(table) for table in taken.take()), taken.counts

    def test_half_of_a_pair_of_surrogates_is_no_text(self):
        good = b'<13>{"src":"192.0.2.9","dst":"10.1.1.10","proto":"tcp","dst_port":22,"spt":4000,"point":"p"}'
        odd = good.replace(b'"p"', b'"\\ud800"')
        self.assertEqual(self.intake(odd, good)[0], 2)
        bad = good.replace(b"192.0.2.9", b"\\ud800")
        count, counts = self.intake(bad, good)
        self.assertEqual((count, counts["records rejected, bad address"]), (1, 1))

    def test_a_bare_json_object_behind_the_priority_is_a_message(self):
        self.assertEqual(
            self.intake(b'<134>{"src":"192.0.2.9","dst":"10.1.1.10","proto":"tcp","dst_port":22,"src_port":9}')[0], 1
        )

    def test_a_kernel_line_whose_code_is_no_number(self):
        line = b"<4>kernel: IN=eth0 OUT= SRC=192.0.2.9 DST=10.1.1.10 LEN=60 PROTO=ICMP TYPE=8 CODE=xyz"
        self.assertEqual(self.intake(line, line.replace(b"xyz", b"99999999"), line.replace(b"8", b"\xc2\xb2"))[0], 3)

    def test_of_a_message_longer_than_64_kib_the_beginning_is_tried(self):
        lead = b"<13>src=192.0.2.9 dst=10.1.1.10 proto=tcp spt=4000 dpt=22 action=deny pad="
        long = lead + b"x" * (1 << 20)
        for stream in (long + b"\n<13>after\n", b"%d " % len(long) + long + b"9 <13>after"):
            frames, found = Frames(), []
            for at in range(0, len(stream), 5000):
                found += frames.feed(stream[at : at + 5000])
                self.assertLess(len(frames._buffer), MOST_OCTETS + 10_000)
            self.assertEqual((found, frames.too_long), ([long[:MOST_OCTETS], b"<13>after"], 1))
            self.assertEqual(self.intake(*found)[0], 1)

    def test_numbers_and_depths_that_no_value_has(self):
        for body in (
            '{"src": ' + "9" * 5000 + "}",
            '{"src": ' + "[" * 5000 + "}",
            '{"bytes": 1e999, "src": 1}',
            "{" * 60000,
        ):
            self.intake(b"<13>" + body.encode())


class FlowMessages(unittest.TestCase):
    def test_records_of_one_octet_that_are_no_flows_cost_next_to_nothing(self):
        reader = MessageReader()
        reader.read(message(0, a_set(2, struct.pack("!HH", 256, 1) + struct.pack("!HH", 4, 1))), "192.0.2.1")
        whole = message(0, a_set(256, b"\x06" * 65000))
        self.assertLess(cost(lambda each: reader.read(each, "192.0.2.1"), whole), 0.05)
        self.assertEqual(reader.take(), [])
        self.assertGreaterEqual(reader.counts["records without two ends"], 65000)
        reader.read(message(0, a_set(2, struct.pack("!HH", 257, 1) + struct.pack("!HH", 82, 0xFFFF))), "192.0.2.1")
        self.assertLess(cost(lambda each: reader.read(each, "192.0.2.1"), message(0, a_set(257, b"\0" * 65000))), 0.05)

    def test_thousands_of_domains_are_taken_in_at_once(self):
        taken = Intake()
        began = time.process_time()
        for domain in range(8000):
            both = message(0, template(256, FLOW), data(256, FLOW, [a_flow(domain)]), domain=domain)
            taken.flow_message(both, "192.0.2.1", ARRIVED)
        tables = taken.take()
        self.assertEqual(sum(map(len, tables)), 8000)
        self.assertLess(time.process_time() - began, 20)

    def test_templates_of_an_exporter_are_bounded_and_what_is_let_go_is_counted(self):
        reader = MessageReader()
        wide = a_set(2, struct.pack("!HH", 256, 16_000) + struct.pack("!HH", 1, 1) * 16_000)
        tracemalloc.start()
        for domain in range(20):
            reader.read(message(0, wide, domain=domain), "192.0.2.1")
        held, _ = tracemalloc.get_traced_memory()
        tracemalloc.stop()
        self.assertLess(held, 8 << 20)
        self.assertEqual(reader.counts["templates of more fields than are read"], 20)
        for number in range(2500):
            reader.read(message(0, template(256, FLOW), domain=number), "192.0.2.2")
        self.assertEqual(reader.counts["templates let go: their exporter has too many"], 500)
        reader.read(message(0, data(256, FLOW, [a_flow()]), domain=2499), "192.0.2.2")
        self.assertEqual(sum(t.num_rows for t in reader.take()), 1, "the latest stay")

    @mock.patch("kiboko.files.messages.flow_messages._MOST_OF_ALL", 4_000)
    def test_an_exporter_that_is_spoofed_a_thousand_times_takes_no_memory_for_ever(self):
        reader = MessageReader()
        self.assertLessEqual(reader._sequence.max_streams, 10_000)
        reader._sequence.max_streams = 400
        sizes = []
        tracemalloc.start()
        for turn in range(3):
            for number in range(1_000):
                exporter = f"10.{turn}.{number >> 8}.{number & 255}"
                reader.read(message(0, a_set(2, struct.pack("!HH", 256, len(FLOW)) + fields(FLOW))), exporter)
            sizes.append(tracemalloc.get_traced_memory()[0])
        tracemalloc.stop()
        self.assertLess(sizes[2], 1.3 * sizes[1], sizes)
        self.assertGreater(reader.counts["templates let go: there are too many in all"], 2_000)


class OddTimes(unittest.TestCase):
    def test_bins_follow_what_is_shown_and_never_the_span(self):
        ends = parse_address("10.1.1.10"), parse_address("10.2.1.10")
        times = [datetime(year, 1, 1, tzinfo=UTC) for year in (1, 1970, 2025, 2026, 9999)]
        table = table_of([FlowRecord(*ends, Service(6, 22), 40000, PASSED, t, t, 1, 60, 2, "7") for t in times])
        timeline = Timeline(MINUTE)
        timeline.add(table)
        self.assertEqual(len(timeline.met()), 5)
        self.assertLessEqual(len(timeline.coarsened(24).rows()), 24)
        coverage = Coverage(SubnetPlaces.of(load({"kiboko": 1})))
        coverage.timeline.note(table.start, table.event)
        self.assertLessEqual(len(coverage.timeline.coarsened(120).rows()), 120)

    def test_whole_commands_on_a_log_with_an_odd_time(self):
        from tests.helpers import base, kiboko

        with tempfile.TemporaryDirectory() as folder:
            Path(folder, "network.yaml").write_text(json.dumps(base()))
            Path(folder, "x.csv").write_text(
                "start,src,dst,proto,src_port,dst_port\n"
                + "".join(
                    f"{year}-01-01T00:00:00Z,10.1.1.10,10.2.1.10,tcp,40000,22\n" for year in ("2025", "2026", "9999")
                )
            )
            for words in ("flows x.csv", "flows x.csv --json", "confirm --flows x.csv", "confirm --flows x.csv --json",
                          "confirm --flows x.csv --plot p.png", "flows x.csv --plot q.png"):  # fmt: skip
                done = kiboko(*words.split(), cwd=folder)
                # Nothing shows what became of this traffic, which is no agreement.
                self.assertEqual(done.returncode, int(words.startswith("confirm")), words + done.stderr)
                self.assertLess(len(done.stdout), 50_000, words)

    def test_counts_too_large_to_be_added_up_end_no_run(self):
        """Of counters near 2^63, which 64 bits cannot add up, `flows` has the exact sum and `confirm` a bound."""
        from tests.helpers import kiboko

        with tempfile.TemporaryDirectory() as folder:
            kiboko("demo", "--only-write", folder)
            lines = Path(folder, "evidence/flows.csv").read_text().splitlines()
            octets = lines[0].split(",").index("octetDeltaCount")
            rows = [lines[1].split(",") for _ in range(4)]
            for row in rows:
                row[octets] = str(2**63 - 1)
            Path(folder, "large.csv").write_text("\n".join([lines[0], *map(",".join, rows)]) + "\n")
            sums = json.loads(kiboko("flows", "large.csv", "--json", cwd=folder).stdout)
            self.assertEqual(sums["summary"]["octets"], 4 * (2**63 - 1))
            done = kiboko("confirm", "--flows", "large.csv", "--json", cwd=folder)
            self.assertEqual(done.stderr, "")
            self.assertEqual([row["octets"] for row in json.loads(done.stdout)["rows"]], [1 << 56])

    def test_a_time_before_all_years_is_no_time(self):
        with self.assertRaisesRegex(ValueError, "before or behind all years"):
            parse_time("0001-01-01T00:00:00+14:00")
        self.assertEqual(read_moments(["0001-01-01T00:00:00+14:00"])[1].tolist(), [0])

    def test_an_hour_that_the_clocks_show_twice_is_the_earlier_and_said(self):
        moments, kinds = read_moments(
            ["2026-10-25 02:30:00", "2026-10-25 03:30:00", "2026-03-29 02:30:00"], zone="Europe/Berlin"
        )
        self.assertEqual(moments[0], datetime(2026, 10, 25, 0, 30, tzinfo=UTC).timestamp() * 1000)
        self.assertEqual(kinds.tolist(), [3, 1, 0], "repeated, plain, and one that no clock showed")


class Stores(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory())) / "store"

    def test_what_is_not_the_stores_own_is_left_alone(self):
        strangers = [
            self.folder / "2026-11-01" / name for name in ("notes.parquet", "mine.arrows", "100000-00.arrows.bak")
        ]
        strangers += [self.folder / "other" / "100000-00.parquet"]
        for path in strangers:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(b"keep me")
        outside = self.folder.parent / "precious.arrows"
        outside.write_bytes(b"keep me too")
        (self.folder / "2026-11-01" / "090000-00.arrows").symlink_to(outside)
        store = FlowStore.opened(self.folder, Keeping(1, 1), NOW)
        store.close()
        for path in (*strangers, outside):
            self.assertTrue(path.exists(), path)

    def test_a_damaged_segment_is_set_aside_and_said(self):
        store = FlowStore.opened(self.folder, Keeping(), NOW)
        store.append(records(0, 600), NOW)
        path = store._path
        store.end_segment()
        store._lock.close()
        whole = path.read_bytes()
        path.write_bytes(b"\0" * 64 + whole[64:])
        again = FlowStore.opened(self.folder, Keeping(), NOW)
        again.close()
        self.assertEqual((again.recovered, again.damaged), (0, 1))
        self.assertEqual(path.with_name(path.name + ".damaged").read_bytes()[64:], whole[64:])

    def test_a_lock_that_is_a_link_is_not_followed(self):
        self.folder.mkdir()
        target = self.folder.parent / "target"
        target.write_text("whole")
        (self.folder / ".collecting").symlink_to(target)
        with self.assertRaises(EnvironmentFailure):
            FlowStore.opened(self.folder, Keeping(), NOW)
        self.assertEqual(target.read_text(), "whole")

    def test_reading_goes_on_while_segments_are_finished_or_removed(self):
        from kiboko.batch.flow_summing import Question, summed
        from kiboko.core.records.flow_query import FlowFilter
        from kiboko.files.logs.chosen_files import flow_files

        store = FlowStore.opened(self.folder, Keeping(), NOW)
        store.append(records(0, 10), NOW)
        listed = flow_files([self.folder])
        store.close()  # the segment is a Parquet file now
        sums, _, _ = summed(listed, Question(FlowFilter()))
        self.assertEqual(sums.total.records, 10)
        for path in self.folder.glob("*/*.parquet"):
            path.unlink()
        sums, _, _ = summed(listed, Question(FlowFilter()))
        self.assertEqual(sums.total.records, 0)


class Files(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_files_honour_the_umask_and_follow_no_link_laid_beforehand(self):
        target = self.folder / "target"
        target.write_text("whole")
        for name in (".out.csv.part", ".x.part"):
            (self.folder / name).symlink_to(target)
        before = os.umask(0o077)
        try:
            write_whole(self.folder / "x", b"1")
            write_tables([records(0, 3)], self.folder / "out.csv")
            with LineAppender(self.folder / "log") as log:
                log.append("{}")
        finally:
            os.umask(before)
        for name in ("x", "out.csv", "log"):
            self.assertEqual(stat.S_IMODE((self.folder / name).stat().st_mode), 0o600, name)
        self.assertEqual(target.read_text(), "whole")

    def test_a_record_that_another_process_has_appended_is_not_taken_back(self):
        path = self.folder / "log"
        with LineAppender(path) as one, LineAppender(path) as other:
            one.append("first")
            full = mock.patch(
                "kiboko.files.documents.saving.os.write", side_effect=OSError(28, "No space left on device")
            )
            with full, self.assertRaises(EnvironmentFailure):
                one.append("lost")
            other.append("second")
        self.assertEqual(path.read_text(), "first\nsecond\n")

    def test_a_figure_or_export_that_could_not_be_written_is_refused_before(self):
        (self.folder / "file").write_text("")
        for path in (self.folder, self.folder / "file" / "x.png"):
            with self.assertRaises(EnvironmentFailure):
                check_writable(path)

    def test_an_earlier_figure_is_not_harmed_by_a_full_disk(self):
        path = self.folder / "plot.png"
        path.write_bytes(b"the earlier one")
        with self.assertRaises(EnvironmentFailure), written_whole(path) as temporary:
            temporary.write_bytes(b"half")
            raise OSError(28, "No space left on device")
        self.assertEqual(path.read_bytes(), b"the earlier one")
        self.assertEqual(os.listdir(self.folder), ["plot.png"])

    def test_what_is_no_file_is_written_into_and_stays(self):
        pipe = self.folder / "pipe.csv"
        os.mkfifo(pipe)
        with ThreadPoolExecutor(1) as other:
            read = other.submit(pipe.read_bytes)
            write_whole(pipe, b"whole")
            self.assertEqual(read.result(), b"whole")
        self.assertTrue(pipe.is_fifo())
        ends = os.pipe()
        write_whole(Path(f"/dev/fd/{ends[1]}"), b"to a program")
        with LineAppender(Path(f"/proc/self/fd/{ends[1]}")) as log:
            log.append(" and more")
        self.assertEqual(os.read(ends[0], 100), b"to a program and more\n")
        for end in ends:
            os.close(end)
        self.assertEqual(os.listdir(self.folder), ["pipe.csv"])

    def test_what_is_there_whole_goes_into_a_pipe_without_another_place_to_be_written_to(self):
        """As in a container whose file systems are all read-only."""
        ends = os.pipe()
        path, none = Path(f"/dev/fd/{ends[1]}"), FileNotFoundError(2, "No usable temporary directory found in []")
        with mock.patch("tempfile.mkdtemp", side_effect=none):
            write_whole(path, b"whole")
            with self.assertRaisesRegex(EnvironmentFailure, "No usable temporary directory"), written_whole(path):
                self.fail("there is nowhere to write to")
        self.assertEqual(os.read(ends[0], 100), b"whole")
        for end in ends:
            os.close(end)

    def test_a_reader_that_has_read_enough_is_no_failure(self):
        reading, writing = os.pipe()
        os.close(reading)
        write_whole(Path(f"/dev/fd/{writing}"), b"nobody reads this")
        os.close(writing)

    def test_a_link_goes_on_leading_to_its_file(self):
        (self.folder / "there").mkdir()
        link, new = self.folder / "link", self.folder / "new"
        link.symlink_to("there/file")
        new.symlink_to("there/none-yet")
        (self.folder / "there" / "file").write_text("before")
        for path in (link, new):
            check_writable(path, b"before")
            write_whole(path, b"after")
            self.assertTrue(path.is_symlink())
            self.assertEqual(path.resolve().read_text(), "after")
        self.assertEqual(sorted(os.listdir(self.folder / "there")), ["file", "none-yet"])
        (self.folder / "round").symlink_to("round")
        with self.assertRaisesRegex(EnvironmentFailure, "symbolic links"):
            write_whole(self.folder / "round", b"after")

    def test_a_file_that_is_replaced_keeps_who_may_read_it(self):
        path = self.folder / "findings.sarif"
        for mode in (0o600, 0o640, 0o664):
            path.write_text("before")
            path.chmod(mode)
            write_whole(path, b"after")
            self.assertEqual(stat.S_IMODE(path.stat().st_mode), mode)
        path.chmod(0o664)
        write_whole(path, b"kept for oneself", private=True)
        self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o600)

    @unittest.skipUnless(os.geteuid() == 0, "only root can mount a file")
    def test_a_file_that_is_mounted_by_itself_is_written_anew(self):
        path, source = self.folder / "network.yaml", self.folder / "mounted.yaml"
        for each in (path, source):
            each.write_text("before, and longer than what comes")
        line = ["unshare", "--mount", "sh", "-c", 'mount --bind "$1" "$2" && exec "$3" -c "$4" "$2"', "sh", source, path,
                sys.executable, "import sys; from pathlib import Path; from kiboko.files.documents import saving;"
                " saving.write_whole(Path(sys.argv[1]), b'after')"]  # fmt: skip
        done = subprocess.run(list(map(str, line)), capture_output=True, text=True)
        self.assertEqual((0, ""), (done.returncode, done.stderr))
        self.assertEqual(("after", "before, and longer than what comes"), (source.read_text(), path.read_text()))
        self.assertEqual(["mounted.yaml", "network.yaml"], sorted(os.listdir(self.folder)))

    @unittest.skipUnless(os.geteuid() == 0, "only root can give a file to somebody else")
    def test_a_file_of_somebody_else_stays_his(self):
        path = self.folder / "findings.sarif"
        path.write_text("before")
        os.chown(path, 12345, 23456)
        write_whole(path, b"after")
        self.assertEqual((path.stat().st_uid, path.stat().st_gid), (12345, 23456))
        with mock.patch("kiboko.files.documents.saving.os.chown", side_effect=PermissionError(1, "no")):
            path.chmod(0o664)
            write_whole(path, b"after")
        self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o604)  # whose group it is now was not asked

    def exported(self, point, **options):
        ends = parse_address("10.1.1.10"), parse_address("10.2.1.10")
        table = table_of([FlowRecord(*ends, Service(6, 22), 40000, PASSED, NOW, NOW, 1, 60, 2, point)])
        write_tables([table], self.folder / "x.csv", **options)
        return (self.folder / "x.csv").read_text()

    def test_csv_keeps_its_shape_and_runs_nothing_in_a_spreadsheet(self):
        self.assertIn("'=1+1", self.exported("=1+1"))
        self.assertNotIn("'=1+1", self.exported("=1+1", raw=True))
        self.assertIn('"a,b"', self.exported("a,b"))
        self.assertNotIn("\x1b", self.exported("\x1b[2Ja\nb"))
        (table, _), *_ = tables_of(self.folder / "x.csv")
        self.assertEqual(len(table), 1)

    def test_kernel_listings_that_are_odd(self):
        for content in ('{"nftables": [{"metainfo": null}]}', '{"nftables": [{"rule": ' + "[" * 1000 + "]" * 1000 + "}]}",
                        '{"nftables": [{"metainfo": {"json_schema_version": ' + "9" * 5000 + "}}]}", "[" * 100_000,
                        '{"nftables": [{"rule": {"family": "inet", "table": "t", "chain": "c", "expr": [{"match": {"op": "==", "left": '
                        + '{"a":' * 900 + "1" + "}" * 900 + ', "right": 1}}]}}]}'):  # fmt: skip
            path = self.folder / "x.json"
            path.write_text(content)
            problems: list[Problem] = []
            read_rule_set(path, "x.json", problems)

    def test_mapping_files_that_are_odd(self):
        path = self.folder / "map.yaml"
        for inner, said in (
            ("a: {element: flowStartMilliseconds, format: '%s'}", "'%s' cannot be read back"),
            ("a: {element: flowStartMilliseconds, format: '%'}", "'%' cannot be read back"),
        ):
            path.write_text(f"kiboko: columns/1\ncolumns:\n  {inner}\n")
            with self.assertRaisesRegex(InputError, said):
                read_column_map(path)
        path.write_text("kiboko: columns/1\ncolumns: {a: sourceIPv4Address}\nskip: {outcome: []}\n")
        with self.assertRaisesRegex(InputError, "skip, outcome: name the values"):
            read_column_map(path)

    def test_lines_with_a_surrogate_in_a_file(self):
        path = self.folder / "x.jsonl"
        path.write_text('{"src":"10.1.1.10","dst":"10.2.1.10","proto":"tcp","dst_port":22,"x":"\\ud800"}\n' * 2)
        self.assertEqual(sum(len(table) for table, _ in tables_of(path)), 2)


if __name__ == "__main__":
    unittest.main()
