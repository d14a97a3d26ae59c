"""Logs that are read piece by piece: what was cut apart does not look as if nobody had answered (clauses E1, E7)."""

import contextlib
import gzip
import io
import json
import random
import tempfile
import unittest
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from unittest import mock

import numpy as np
import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet

from kiboko.batch.flow_judging import FlowJudge
from kiboko.batch.heard_out import heard_out
from kiboko.batch.observing import Evidence, observed_of
from kiboko.core.evidence.asking import Asker
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.summary import Summary
from kiboko.core.header.addresses import AddressSet, parse_address
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import parse_services
from kiboko.core.records.flow_table import table_of
from kiboko.core.walk.walk import Walker
from kiboko.demo.data import write_demo
from kiboko.files.logs import begun_together, flow_pieces, flow_reader
from kiboko.files.logs.flow_reader import tables_of
from kiboko.files.logs.window_reader import WindowReader
from kiboko.files.logs.windows import windows_of
from kiboko.files.network.network_file import load_network
from kiboko.files.store.flow_export import write_tables
from tests.core.test_evidence import ALL, ANN, BOB, SYN, flow, network
from tests.helpers import load

HEADER = ("flowStartMilliseconds,flowEndMilliseconds,sourceIPv4Address,destinationIPv4Address,sourceTransportPort,"
          "destinationTransportPort,protocolIdentifier,packetDeltaCount,octetDeltaCount,firewallEvent")  # fmt: skip
START = 1_795_166_400_000  # 2026-11-20 09:20 UTC
CONVERSATIONS, EVERY, LASTS = 900, 1000, 400
PIECE, CONTEXT = 16_000, 400


def half(at, port, is_reply):
    """The record of one direction of a gauge's session, which lasts 0.4 s; no TCP flags were recorded."""
    ends, ports = ("10.61.4.14", "10.62.1.11"), (port, 8883)
    ends, ports = (ends[::-1], ports[::-1]) if is_reply else (ends, ports)
    return f"{START + at},{START + at + LASTS},{ends[0]},{ends[1]},{ports[0]},{ports[1]},6,9,1080,1"


class CutLogs(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.demo = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        write_demo(cls.demo)
        cls.walker = Walker(load_network(str(cls.demo / "network.yaml")))

    def setUp(self):
        self.logs = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.enterContext(mock.patch.object(flow_pieces, "PIECE", PIECE))
        self.enterContext(mock.patch.object(flow_pieces, "CONTEXT", CONTEXT))
        self.enterContext(mock.patch.object(flow_pieces, "ROWS", 100))
        self.enterContext(mock.patch.object(flow_pieces, "CONTEXT_ROWS", 4))

    @staticmethod
    def halves(unanswered=()):
        """Both directions of many sessions, one every second: when each was over, and its record."""
        for number in range(CONVERSATIONS):
            at, port = number * EVERY, 50000 + number
            yield at, half(at, port, False)
            if number not in unanswered:
                yield at + 2, half(at + 2, port, True)

    def exported(self, late, unanswered=(), seed=4):
        """These records in the order in which an exporter writes them that is up to so many milliseconds late."""
        chance = random.Random(seed)
        return [row for _, row in sorted((at + chance.uniform(0, late), row) for at, row in self.halves(unanswered))]

    def write(self, name, rows):
        path = self.logs / name
        text = "\n".join((HEADER, *rows)) + "\n"
        if name.endswith(".gz"):
            path.write_bytes(gzip.compress(text.encode()))
        elif name.endswith(".parquet"):
            pa.parquet.write_table(pa.csv.read_csv(io.BytesIO(text.encode())), path, row_group_size=100)
        elif name.endswith(".jsonl"):
            names = HEADER.split(",")
            path.write_text("".join(json.dumps(dict(zip(names, row.split(","), strict=True))) + "\n" for row in rows))
        else:
            path.write_text(text)
        return path

    def test_parts_of_a_long_flow_in_no_order_do_not_tell_who_began(self):
        """ann asks bob over UDP, both from high ports, for twenty minutes; her filter lets nobody ask her. Either side
        is written down every minute, and of no minute both in the same piece."""
        rows = []
        for number in range(60):
            for minute in range(20):
                for (source, port), (target, asked), later in (
                    (("10.1.1.10", 50500 + number), ("10.1.1.11", 50001), 0),
                    (("10.1.1.11", 50001), ("10.1.1.10", 50500 + number), 20),
                ):
                    start = START + 1000 * number + 60_000 * minute + later
                    rows.append(f"{start},{start + 59_000},{source},{target},{port},{asked},17,9,1080,1,2")
        random.Random(3).shuffle(rows)
        path = self.logs / "flows.csv"
        path.write_text("\n".join((HEADER + ",observationPointId", *rows)) + "\n")
        walker = Walker(load(network()))
        summary = Summary(walker.directory)
        FlowJudge(Comparison(walker), summary).take([path], 1)
        self.assertEqual((0, len(rows)), (summary.totals["leak"], summary.records))

    def summary(self, *paths):
        summary = Summary(self.walker.directory)
        judge = FlowJudge(Comparison(self.walker), summary)
        judge.take(list(paths), 1)
        return summary

    def totals(self, *paths):
        summary = self.summary(*paths)
        told = {each: summary.totals[each] for each in ("leak", "break", "unsure", "agree")}
        return {**told, "seen": summary.as_far_as_seen}, summary.conversations

    # One log.

    def test_a_conversation_across_the_row_groups_of_a_parquet_file_counts_once(self):
        """Cut between groups in the middle of many of them; and within one that is too large to be read at once."""
        rows = self.exported(late=0)
        told = self.totals(self.write("flows.csv", rows))
        self.assertEqual(CONVERSATIONS, told[1])
        columns = pa.csv.read_csv(io.BytesIO("\n".join((HEADER, *rows)).encode()))
        for size, at_once in ((35, None), (7, None), (105, None), (len(rows), 77)):
            path = self.logs / f"{size}-{at_once}.parquet"
            pa.parquet.write_table(columns, path, row_group_size=size)
            with self.subTest(size=size, at_once=at_once), contextlib.ExitStack() as patched:
                if at_once:
                    patched.enter_context(mock.patch.object(flow_reader, "_MOST_ROWS", 100))
                    patched.enter_context(mock.patch.object(flow_reader, "_ROWS", at_once))
                self.assertEqual(told, self.totals(path))
        for context, is_enough in ((4, True), (0, False)):  # a few rows around each piece spare reading all beside it
            with (
                mock.patch.object(flow_pieces, "CONTEXT_ROWS", context),
                mock.patch.object(WindowReader, "_read_beyond", autospec=True,
                                  side_effect=WindowReader._read_beyond) as beyond,
            ):  # fmt: skip
                self.assertEqual(told, self.totals(self.logs / "35-None.parquet"))
            self.assertEqual(is_enough, not beyond.call_count)

    def test_what_is_wrong_in_the_rows_around_a_piece_is_told_once(self):
        """By the piece that they are of, with the numbers of all pieces together."""
        rows = [row.replace("10.61.4.14", "10.61.4.300", 1) if number % 10 == 9 else row
                for number, row in enumerate(self.exported(late=0))]  # fmt: skip
        path = self.write("flows.parquet", rows)
        summary = Summary(self.walker.directory)
        judge = FlowJudge(Comparison(self.walker), summary)
        caveats = judge.take([path], 1)
        self.assertEqual((len(rows) - summary.records, summary.rejected), (len(rows) // 10,) * 2, caveats)

    def test_an_answer_that_was_written_much_later_or_earlier_is_found(self):
        rows = self.exported(late=20_000)
        newest_first = rows[::-1]
        for name, mine in {
            "log.csv": rows, "log.jsonl": rows, "log.csv.gz": rows, "log.parquet": rows, "newest.csv": newest_first,
            "newest.csv.gz": newest_first,
        }.items():  # fmt: skip
            with self.subTest(name):
                path = self.write(name, mine)
                self.assertEqual(self.totals(path)[0], {"leak": 0, "break": 0, "unsure": 0, "agree": 0, "seen": 1800})

    def test_a_conversation_that_was_cut_in_two_is_counted_once(self):
        path = self.write("log.csv", self.exported(late=20_000))
        self.assertGreater(len(windows_of([path])), 10)
        self.assertEqual(self.totals(path)[1], CONVERSATIONS)

    def test_of_a_log_in_no_order_no_silence_is_told(self):
        rows = self.exported(late=0, unanswered=range(100, 800, 7))
        random.Random(8).shuffle(rows)
        for name in ("log.csv", "log.csv.gz", "log.parquet"):
            with self.subTest(name):
                self.assertEqual(self.totals(self.write(name, rows))[0]["break"], 0)

    def test_what_nobody_answered_is_told_wherever_it_was_cut(self):
        unanswered = range(100, 800, 7)
        for late in (0, 20_000):
            rows = self.exported(late, unanswered)
            for name in ("log.csv", "log.jsonl", "log.parquet", "log.csv.gz"):
                wide = PIECE * 3 if name == "log.jsonl" else PIECE
                with self.subTest(f"{name}, {late}"), mock.patch.object(flow_pieces, "PIECE", wide):
                    found, conversations = self.totals(self.write(name, rows))
                    self.assertEqual((found["break"], conversations), (len(unanswered), CONVERSATIONS))

    def test_a_log_so_busy_that_pieces_are_less_than_a_reply_apart_tells_of_no_silence(self):
        """The same records a hundred times as fast: a piece goes over a second or two, and none is read beside it."""
        rows = self.exported(late=0, unanswered=range(100, 800, 7))
        fast = []
        for row in rows:
            start, end, rest = row.split(",", 2)
            begun = START + (int(start) - START) // 100
            fast.append(f"{begun},{begun + int(end) - int(start)},{rest}")
        for form in ("log.csv", "log.jsonl"):
            path = self.write(form, fast)
            self.assertGreater(len(windows_of([path])), 3)
            parts = [part for window in windows_of([path]) for part in WindowReader().read(window, [])]
            self.assertEqual({True}, {part.is_dense for part in parts})
            with mock.patch(
                "kiboko.files.logs.surroundings.Surroundings.read_on", side_effect=AssertionError("read on")
            ):
                self.assertEqual(0, self.totals(path)[0]["break"])
        slow = [
            part for window in windows_of([self.write("log.csv", rows)]) for part in WindowReader().read(window, [])
        ]
        self.assertEqual({False}, {part.is_dense for part in slow})

    def test_what_was_not_read_is_not_taken_for_silence(self):
        """Beyond the piece beside it nothing is looked for: what lies that far away is not told."""
        rows = self.exported(late=0, unanswered=[400])
        answer = half(400 * EVERY + 2, 50400, True)
        with mock.patch.object(flow_pieces, "PIECE", 1_000):
            told = {}
            for place, where in (("near", rows.index(half(400 * EVERY, 50400, False)) + 40), ("far", len(rows) - 1)):
                mine = list(rows)
                mine.insert(where, answer)
                told[place] = self.totals(self.write(f"{place}.csv", mine))[0]
        self.assertEqual({place: each["break"] for place, each in told.items()}, {"near": 0, "far": 0})

    def test_what_shows_that_answers_were_recorded_may_stand_where_theirs_were_not_looked_for(self):
        """Both answers of two conversations stand in the piece before; the one is looked for there, and shows that
        those of the other's time and point were recorded."""
        topology = load(network())
        evaluator = Evaluator(Comparison(Walker(topology)))

        def sent(port, point, at, lasts, is_reply=False):
            ends, service = ((ANN, BOB), f"tcp/{port}") if is_reply else ((BOB, ANN), "ssh")
            record = flow(*ends, service, 22 if is_reply else port, flags=ALL if is_reply else SYN, point=point, at=at)
            return replace(record, end=record.start + timedelta(seconds=lasts))

        others = [sent(30000 + each, "23"[each % 2], each, 0.1) for each in range(200)]
        mine = [sent(port, "3", 99, 0.9, True) for port in (41000, 42000)]
        mine += [sent(41000, "3", 99, 2), sent(41000, "2", 99, 2), sent(42000, "3", 99, 2)]
        mine += [sent(43000, "2", 101, 0.1), sent(43000, "2", 101, 0.1, True)]
        records = sorted([*others, *mine], key=lambda each: each.end)
        path = self.logs / "log.csv"
        write_tables([table_of(records)], path)
        told = set()
        for size in range(4_200, 4_500, 50):  # so that one of them ends between these answers and what they answer
            with mock.patch.object(flow_pieces, "PIECE", size), mock.patch.object(flow_pieces, "CONTEXT", 0):
                for part in (each for window in windows_of([path]) for each in WindowReader().read(window, [])):
                    table, own, judged = heard_out(evaluator, part)
                    rows = np.flatnonzero(own & (table.source_port == 42000)).tolist()
                    told |= {(len(rows), judged.concluded[judged.conclusion[row]].status) for row in rows}
        self.assertEqual({(1, "agree")}, told)

    def packets(self):
        """Each packet of some sessions as a record of its own: an opening and the reset that ends it are written at
        once, what lies between them fifteen seconds late. One session in ten is refused."""
        ends, written = ("10.61.4.14", "10.62.1.11"), []
        for number in range(400):
            port, refused = 50000 + number, number % 10 == 7
            for after, is_reply, flags in ((0, False, 2), (0, True, 18), (1, False, 16), (2, False, 24), (9, True, 4)):
                if refused and flags not in (2, 4):
                    continue
                at = START + number * EVERY + after
                (source, target), ports = (ends[::-1], (8883, port)) if is_reply else (ends, (port, 8883))
                row = f"{at},{at},{source},{target},{ports[0]},{ports[1]},6,1,60,1,{flags}"
                written.append((at + (0 if flags in (2, 4) else 15_000), row))
        return [row for _, row in sorted(written)]

    def test_a_reset_is_no_refusal_where_the_piece_beside_has_what_went_before_it(self):
        rows = self.packets()
        path = self.logs / "log.csv"
        path.write_text("\n".join((HEADER + ",tcpControlBits", *rows)) + "\n")
        told = {}
        for size in (40_000, 1 << 25):
            with mock.patch.object(flow_pieces, "PIECE", size):
                told[size] = self.totals(path)
                cut = len(windows_of([path]))
                self.assertEqual(size < 1 << 20, cut > 2)
        self.assertEqual((told[1 << 25][0]["break"], told[1 << 25][1]), (80, 400))  # two records of each
        wrong = [{each: found[each] for each in ("leak", "break", "unsure")} for found, _ in told.values()]
        self.assertEqual(wrong[0], wrong[1])

    def test_a_session_that_is_older_than_the_rules_is_none_that_leaks_in_a_later_piece(self):
        """The desk may not ask the database any more; its session goes on, recorded every minute, beside others' of
        which one is new and one was never recorded before."""
        as_of = int(self.walker.topology.as_of.timestamp() * 1000)
        rows = []
        for minute in range(-10, 60):
            at = as_of + minute * 60_000
            sessions = {50123: 24} | ({50200: 26 if minute == 20 else 24, 50300: 24} if minute >= 20 else {})
            for port, flags in sessions.items():
                for ends, ports in (
                    (("10.63.1.11", "10.62.2.11"), (port, 5432)),
                    (("10.62.2.11", "10.63.1.11"), (5432, port)),
                ):
                    rows.append(f"{at},{at + 59_000},{ends[0]},{ends[1]},{ports[0]},{ports[1]},6,9,1080,1,{flags}")
            for each in range(30):
                begun = at + each * 1900
                rows.append(f"{begun},{begun + 400},10.61.4.14,10.62.1.11,{50000 + each},8883,6,9,1080,1,27")
        rows.sort()
        path = self.logs / "log.csv"
        path.write_text("\n".join((HEADER + ",tcpControlBits", *rows)) + "\n")
        self.assertGreater(len(windows_of([path])), 10)
        for size in (PIECE, 1 << 25):
            with self.subTest(size), mock.patch.object(flow_pieces, "PIECE", size):
                summary = self.summary(path)
                told = {}
                for row in summary.rows():
                    if row.source == "desk-1":
                        told[row.concluded.status] = told.get(row.concluded.status, 0) + row.count
                self.assertEqual(told, {"unsure": 140, "leak": 160})
                self.assertEqual((summary.totals["unsure"], summary.totals["leak"]), (140, 160))

    # Several logs of one time.

    def shared_out(self, rows, exporters=2, seed=6):
        chance = random.Random(seed)
        found = [[] for _ in range(exporters)]
        for row in rows:
            chance.choice(found).append(row)
        return found

    def test_large_logs_of_routers_that_share_the_load_are_one(self):
        """Each records what comes by it: half of the replies come by the other than their requests."""
        unanswered = range(100, 800, 7)
        rows = self.exported(late=15_000, unanswered=unanswered)
        whole = self.totals(self.write("whole.csv", rows))
        self.assertEqual((whole[0]["break"], whole[1]), (len(unanswered), CONVERSATIONS))
        for forms in (("csv", "csv"), ("csv", "jsonl", "csv"), ("csv.gz", "csv.gz"), ("csv", "csv.gz", "jsonl")):
            with self.subTest(" ".join(forms)):
                self.assertEqual(self.totals(*self.written(self.shared_out(rows, len(forms)), forms)), whole)

    def written(self, logs, forms):
        return [self.write(f"{number}.{form}", logs[number]) for number, form in enumerate(forms)]

    def test_what_was_read_apart_from_another_log_of_its_time_proves_no_silence(self):
        unanswered = range(100, 800, 7)
        mine = self.shared_out(self.exported(late=15_000, unanswered=unanswered))
        for forms in (("parquet", "csv.gz"), ("parquet", "csv")):
            with self.subTest(" ".join(forms)):
                paths = self.written(mine, forms)
                summary = self.summary(*paths)
                self.assertEqual(summary.totals["break"], 0)
                told = {row.concluded.why for row in summary.rows() if row.concluded.status == "unsure"}
                self.assertTrue(
                    any("another of that time, which was read apart from it" in each for each in told), told
                )
                asked = Asker(self.walker.directory).of_pair(
                    *(parse_address(each) for each in ("10.61.4.14", "10.62.1.11")), (AddressSet(), AddressSet()),
                    parse_services("tcp/8883"), RangeSet.span(1, 65535))  # fmt: skip
                (seen,), _ = observed_of(self.walker, [asked], Evidence(paths))
                self.assertEqual((seen.stopped, seen.through > 300), (0, True))

    def test_nor_does_a_reset_prove_a_refusal_where_the_load_is_shared(self):
        """By whose log the rest went is known for none; where each log has whole sessions, a reset refuses."""
        header = HEADER + ",tcpControlBits"
        rows = self.packets()
        by_session = [[], []]
        for row in rows:
            by_session[max(int(each) for each in row.split(",")[4:6]) % 2].append(row)
        told = {}
        for name, logs in (("shared", self.shared_out(rows)), ("whole", by_session)):
            with mock.patch(f"{__name__}.HEADER", header):
                summary = self.summary(*self.written(logs, ("parquet", "csv.gz")))
            told[name] = summary.totals["break"]
            if name == "shared":
                self.assertIn("an opening and a reset alone are recorded in this log",
                              " ".join(row.concluded.why for row in summary.rows()))  # fmt: skip
        self.assertEqual({"shared": 0, "whole": 80}, told)

    def test_of_logs_that_follow_each_other_silence_is_told(self):
        unanswered = range(100, 800, 7)
        rows = self.exported(late=2_000, unanswered=unanswered)
        for forms in (("csv", "csv"), ("csv.gz", "csv.gz"), ("parquet", "csv.gz")):
            with self.subTest(" ".join(forms)):
                found, _ = self.totals(*self.written([rows[:900], rows[900:]], forms))
                self.assertIn(found["break"], range(len(unanswered) - 8, len(unanswered) + 1))

    def test_a_small_log_beside_a_large_one_is_read_with_it(self):
        rows = self.exported(late=15_000)
        moved = rows[900:930]
        large, small = self.write("large.csv", rows[:900] + rows[930:]), self.write("small.csv", moved)
        gz = self.write("small.csv.gz", moved)
        self.assertEqual(self.totals(large, small), self.totals(self.write("whole.csv", rows)))
        self.assertEqual(self.totals(large, gz), self.totals(large, small))

    def test_every_record_is_read_once_and_named_by_its_file_and_line(self):
        mine = self.shared_out(self.exported(late=15_000), 3)
        for names in (
            ("a.csv", "b.jsonl", "c.csv"),
            ("a.csv.gz", "b.csv.gz", "c.csv.gz"),
            ("a.csv", "b.csv.gz", "c.jsonl"),
        ):
            with self.subTest(" ".join(names)):
                paths = [self.write(name, rows) for name, rows in zip(names, mine, strict=True)]
                paths.append(self.write("d.csv" + names[0][5:], mine[0][300:330]))
                self.check_lines(paths)

    def check_lines(self, paths):
        with mock.patch.object(flow_pieces, "PIECE", 8_000), mock.patch.object(begun_together, "_SIDE_BY_SIDE", 1):
            cut = windows_of(paths)
        self.assertGreater(max(len(each.pieces) for each in cut), 2)
        lines = {str(path): 0 if path.suffix == ".jsonl" else 1 for path in paths}
        found = []
        for window in cut:
            files = []
            for part in WindowReader().read(window, files):
                own = part.table.taken(part.own)
                for row, number in enumerate(own.file if own.file is not None else [0] * len(own)):
                    path, file = window.pieces[number].path, files[number]
                    record = own.record(row)
                    found.append((path, lines[path] + record.line - file.start + 1, record.source_port, record.service))
            for piece, file in zip(window.pieces, files, strict=True):
                lines[piece.path] += file.lines
        alone = [
            (str(path), record.line, record.source_port, record.service)
            for path in paths for table, _ in tables_of(path) for record in map(table.record, range(len(table)))
        ]  # fmt: skip
        self.assertCountEqual(found, alone)

    def test_logs_that_follow_each_other_are_cut_by_themselves(self):
        rows = self.exported(late=5_000)
        paths = [self.write("a.csv", rows[:900]), self.write("b.csv", rows[900:])]
        self.assertEqual({len(each.pieces) for each in windows_of(paths)}, {1})
        self.assertEqual(self.totals(*paths)[0]["break"], 0)

    def test_logs_of_which_all_records_have_one_time_are_not_read_at_once(self):
        rows = [row.replace(row[:27], f"{START},{START}", 1) for row in self.exported(late=0)]
        paths = [self.write(f"{number}.csv", rows) for number in range(2)]
        self.assertEqual({len(each.pieces) for each in windows_of(paths)}, {1})
        self.assertGreater(len(windows_of(paths)), 10)

    def test_a_log_in_no_order_is_not_cut_by_times(self):
        rows = self.exported(late=0)
        mine = self.shared_out(rows)
        random.Random(9).shuffle(mine[1])
        paths = [self.write(f"{number}.csv", each) for number, each in enumerate(mine)]
        self.assertEqual({len(each.pieces) for each in windows_of(paths)}, {1})
        self.assertEqual(self.totals(*paths)[0]["break"], 0)
