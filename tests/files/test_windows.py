"""Many small files: what is of one time is read together, and comes to what one file of all of it comes to."""

import csv
import dataclasses
import gzip
import io
import json
import random
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet

from kiboko.demo.data import write_demo
from kiboko.files.elements.column_map import Column, ColumnMap
from kiboko.files.elements.rejects import Rejects
from kiboko.files.logs import flow_pieces, whole_texts
from kiboko.files.logs.flow_reader import tables_of
from kiboko.files.logs.window_reader import WindowReader
from kiboko.files.logs.windows import windows_of
from tests.helpers import kiboko

HEADER = ("flowStartMilliseconds,flowEndMilliseconds,sourceIPv4Address,destinationIPv4Address,sourceTransportPort,"
          "destinationTransportPort,protocolIdentifier,tcpControlBits,packetDeltaCount,octetDeltaCount,firewallEvent")  # fmt: skip
START = 1_795_166_400_000  # 2026-11-20 09:20 UTC


def line(at, source, destination, port, to, flags, packets=3):
    return f"{START + at},{START + at + 40},{source},{destination},{port},{to},6,{flags},{packets},{packets * 60},1"


def request(at, port, source="10.61.4.14", destination="10.62.1.11"):
    return line(at, source, destination, port, 8883, 27)


def reply(at, port, source="10.61.4.14", destination="10.62.1.11"):
    return line(at, destination, source, 8883, port, 27)


class Files(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        write_demo(self.folder)
        self.logs = self.folder / "logs"
        self.logs.mkdir()

    def write(self, name, *lines, header=HEADER):
        path = self.logs / name
        path.parent.mkdir(exist_ok=True)
        data = "\n".join((header, *lines)).encode() + b"\n"
        path.write_bytes(gzip.compress(data) if name.endswith(".gz") else data)
        return path

    def confirm(self, flows="logs", *options):
        done = kiboko("confirm", "--flows", flows, "--json", *options, cwd=self.folder)
        self.assertIn(done.returncode, (0, 1), done.stderr)
        return json.loads(done.stdout)

    def read(self):
        """All records of the folder by the file that they are in, and what was rejected, in sentences."""
        return self.read_of(windows_of(sorted(self.logs.rglob("*.*"))))

    @staticmethod
    def read_of(windows):
        found, sentences = [], []
        for window in windows:
            files = []
            for part in WindowReader().read(window, files):
                own = part.table.taken(part.own)
                of = own.file if own.file is not None else [0] * len(own)
                found += [(Path(window.pieces[number].path).name, own.record(row)) for row, number in enumerate(of)]
            for piece, file in zip(window.pieces, files, strict=True):
                headers = piece.header_lines or file.rejects.headers
                whole = Rejects(piece.path, word=piece.word, headers=headers)
                whole.take(file.rejects, headers)
                sentences += whole.sentences()
        return found, sentences

    # What is said.

    def test_request_and_reply_in_two_files_are_one_conversation(self):
        self.write("a.csv", request(0, 50001))
        self.write("b.csv", reply(2, 50001))
        found = self.confirm()
        self.assertEqual((found["summary"]["conversations"], found["summary"]["agree"]), (1, 2))
        self.assertEqual([row["why"] for row in found["rows"]], ["answered, as the rules say"])

    def test_however_a_log_is_cut_into_files_the_same_is_said_of_it(self):
        rows = list(csv.reader((self.folder / "evidence" / "flows.csv").read_text().splitlines()))
        header, rows = rows[0], rows[1:]
        whole = self.confirm("evidence/flows.csv")
        point = header.index("observationPointId")
        for name, file_of in {
            "by point": lambda at, row: row[point],
            "by time": lambda at, row: at * 12 // len(rows),
            "in turn": lambda at, row: at % 5,
            "all alone": lambda at, row: at,
            "each point by itself and in turn": lambda at, row: f"{row[point]}-{at % 3}",
        }.items():
            with self.subTest(name):
                cut = {}
                for at, row in enumerate(rows):
                    cut.setdefault(file_of(at, row), []).append(row)
                for old in self.logs.iterdir():
                    old.unlink()
                for number, (key, mine) in enumerate(cut.items()):
                    self.put(f"{key}", header, mine, ("csv", "csv.gz", "jsonl", "parquet")[number % 4])
                found = self.confirm()
                self.assertEqual(found["summary"], whole["summary"])
                self.assertCountEqual(map(told, found["rows"]), map(told, whole["rows"]))

    def put(self, name, header, rows, form):
        """Some rows as a file of one of several forms."""
        text = io.StringIO()
        csv.writer(text, lineterminator="\n").writerows([header, *rows])
        path = self.logs / f"{name}.{form}"
        if form == "csv":
            path.write_text(text.getvalue())
        elif form == "csv.gz":
            path.write_bytes(gzip.compress(text.getvalue().encode()))
        elif form == "parquet":
            table = pa.csv.read_csv(io.BytesIO(text.getvalue().encode()))
            pa.parquet.write_table(table.set_column(table.column_names.index("observationPointId"),
                "observationPointId", table["observationPointId"].cast(pa.string())), path)  # fmt: skip
        else:
            path.write_text("".join(
                json.dumps({key: value for key, value in zip(header, row) if value}) + "\n" for row in rows))  # fmt: skip

    def test_an_example_names_its_file_and_line(self):
        self.write("a.csv", *(request(at, 50001 + at) for at in range(5)))
        self.write("b.csv", *(request(at, 51001 + at, "10.61.5.18", "10.61.5.102") for at in range(3)))
        rows = self.confirm()["rows"]
        named = {row["source"]: (row["example"]["file"], row["example"]["line"]) for row in rows}
        self.assertEqual(named["gauge-08"], ("logs/b.csv", 2))
        self.assertEqual(named["gauge-04"], ("logs/a.csv", 2))
        (alone,) = self.confirm("logs/b.csv")["rows"]
        self.assertEqual((alone["example"]["file"], alone["example"]["line"]), ("logs/b.csv", 2))

    def test_what_a_one_sided_exporter_leaves_out_is_no_silence(self):
        """Neither names a point: one records both directions of one gauge's sessions, one the requests of another's."""
        later = 60_000
        both = [each(at, 50001 + at) for at in range(4) for each in (request, reply)]
        both += [each(later, 50900) for each in (request, reply)]
        opening = [line(at, "10.61.4.13", "10.62.1.11", 52001 + at, 8883, 2, 1) for at in range(4)]
        self.write("both.csv", *both)
        self.write("one-sided.csv", *opening)
        totals = self.confirm()["summary"]
        self.assertEqual((totals["break"], totals["leak"]), (0, 0))
        self.write("all.csv", *both, *opening)
        totals = self.confirm("logs/all.csv")["summary"]
        self.assertEqual(totals["break"], 4, "of one exporter, silence where others are answered is told")

    # What is rejected.

    def test_what_is_rejected_is_told_of_its_own_file_and_line(self):
        good = [request(at, 50001 + at) for at in range(20)]
        bad = [each.replace("10.61.4.14", "10.61.4.999") if at in (3, 7) else each for at, each in enumerate(good)]
        for name, lines in (("a.csv", good), ("b.csv", bad), ("c.csv", good), ("d.csv.gz", bad), ("e.csv.gz", good)):
            self.write(name, *lines)
        found, sentences = self.read()
        self.assertEqual(len(found), 96)
        for name in ("b.csv", "d.csv.gz"):
            (mine,) = [each for each in sentences if f"{name}:" in each]
            self.assertRegex(mine, "2 rows rejected, bad address; first (row|record) 4 .line 5.: sourceIPv4Address")
        self.assertEqual(len(sentences), 2)
        for name in ("b.csv", "d.csv.gz"):
            told = kiboko("flows", self.logs / name).stdout
            self.assertRegex(told, f"{name}: 2 rows rejected, bad address; first (row|record) 4 .line 5.:")
        self.assertEqual(sorted(record.line for name, record in found if name == "a.csv")[0] % 20, 1)

    def test_a_torn_file_takes_nothing_from_the_others(self):
        good = [request(at, 50001 + at) for at in range(20)]
        for name in ("a.csv", "c.csv", "d.csv"):
            self.write(name, *good)
        self.write("b.csv", *good, "1795166400000,17951664")
        self.write("e.csv.gz", *(request(at * 977, 50000 + at * 31 % 9999) for at in range(4000)))
        torn = self.logs / "e.csv.gz"
        torn.write_bytes(torn.read_bytes()[:-30])
        self.write("f.jsonl", '{"a": 1', header=json.dumps({"src": "10.61.4.14", "dst": "10.62.1.11", "proto": 1}))
        found, sentences = self.read()
        counts = {name: sum(each == name for each, _ in found) for name, _ in found}
        self.assertEqual([counts[name] for name in ("a.csv", "b.csv", "c.csv", "d.csv", "f.jsonl")], [20] * 4 + [1])
        self.assertTrue(any("b.csv: 1 row rejected" in each and "(line 22)" in each for each in sentences), sentences)
        self.assertTrue(any("e.csv.gz" in each and "torn gzip" in each for each in sentences), sentences)
        self.assertTrue(any("f.jsonl: 1 row rejected" in each and "(line 2)" in each for each in sentences))

    def test_a_file_without_a_line_break_at_its_end_does_not_run_into_the_next(self):
        for name in ("a.csv", "b.csv"):
            path = self.write(name, request(0, 50001), request(1, 50002))
            path.write_bytes(path.read_bytes().rstrip(b"\n"))
        found, sentences = self.read()
        self.assertEqual((len(found), sentences), (4, []))

    def test_a_file_of_no_record_says_so_only_where_all_are_empty(self):
        self.write("a.csv", request(0, 50001))
        self.write("b.csv")
        found, sentences = self.read()
        self.assertEqual((len(found), sentences), (1, []))

    def test_what_is_wrong_with_many_files_is_told_once(self):
        good = [request(at, 50001 + at) for at in range(3)]
        for number in range(9):
            self.write(f"f{number}.csv", *good, request(0, 51000 + number, "10.61.4.999"), request(1, 52000 + number))
            self.write(f"copy{number}.csv", *good)
        told = kiboko("flows", self.logs).stdout
        self.assertEqual(told.count("f0.csv: 1 row rejected, bad address; first row 4 (line 5):"), 1)
        self.assertEqual(told.count("is not an address; so are 8 rows of 8 more files"), 1)
        self.assertEqual(told.count("rejected"), 1)
        self.assertEqual(told.count("the same file as"), 3)
        self.assertIn("5 more files are the same as others before", told)
        for path in self.logs.iterdir():
            path.write_text(HEADER + "\n" + request(0, 50001, path.stem) + "\n")
        done = kiboko("flows", self.logs)
        self.assertEqual((done.returncode, done.stderr.count("no record could be read")), (2, 4))
        self.assertIn("of 15 more files the same holds: no record could be read", done.stderr)

    # What is read together.

    def test_records_are_those_of_each_file_by_itself(self):
        chance = random.Random(5)
        with mock.patch.object(flow_pieces, "PIECE", 4000):
            for number in range(40):
                lines = [chance.choice((request, reply))(chance.randrange(10**6), chance.randrange(50000, 60000))
                         for _ in range(chance.randrange(1, 9))]  # fmt: skip
                self.write(f"f{number}.csv{'.gz' if number % 3 == 0 else ''}", *lines)
            windows = windows_of(sorted(self.logs.iterdir()))
            found, _ = self.read()
        self.assertGreater(len(windows), 4)
        self.assertGreater(max(len(each.pieces) for each in windows), 2)
        alone = []
        for path in self.logs.iterdir():
            for table, _ in tables_of(path):
                alone += [(path.name, plain(table.record(row))) for row in range(len(table))]
        self.assertCountEqual([(name, plain(record)) for name, record in found], alone)

    def test_files_of_one_time_are_read_together(self):
        day = 86_400_000
        for exporter in ("a", "b", "c"):
            for hour in range(8):
                lines = [request(hour * day + at, 50001 + at) for at in range(6)]
                self.write(f"{exporter}/{hour}.csv{'.gz' if exporter == 'b' else ''}", *lines)
        with mock.patch.object(flow_pieces, "PIECE", 24_000):
            windows = windows_of(sorted(self.logs.rglob("*.*")))
        self.assertGreater(len(windows), 2)
        self.assertGreater(max(len({Path(p.path).parent for p in each.pieces}) for each in windows), 1)
        hours = [Path(piece.path).name[0] for window in windows for piece in window.pieces]
        self.assertEqual(hours, sorted(hours))

    def test_a_part_of_a_log_knows_when_that_begins(self):
        lines = [request(1000 * at, 50001 + at) + ",1" for at in range(200)]
        for name, some in (("whole.csv", lines[:4]), ("large.csv", lines), ("packed.csv.gz", lines)):
            self.write(name, *some, header=HEADER + ",biflowDirection")

        def told(name):
            return [part.since for window in windows_of([self.logs / name]) for part in WindowReader().read(window, [])]

        self.assertEqual([None], told("whole.csv"), "it begins when the table does")
        with mock.patch.object(flow_pieces, "PIECE", 4_000), mock.patch.object(flow_pieces, "CONTEXT", 200):
            cut, unpacked = told("large.csv"), told("packed.csv.gz")
        self.assertEqual(([None], {START}), (cut[:1], set(cut[1:])))
        self.assertEqual({START}, set(unpacked))
        self.assertTrue(len(cut) > 3 and len(unpacked) > 3)
        self.write("no biflows.csv", *(each.removesuffix(",1") for each in lines))
        with mock.patch.object(flow_pieces, "PIECE", 4_000), mock.patch.object(flow_pieces, "CONTEXT", 200):
            self.assertEqual({None}, set(told("no biflows.csv")))

    def test_times_of_other_peoples_columns_order_files_too(self):
        columns = ColumnMap(tuple(
            Column(name, element, form=form) for name, element, form in (
                ("when", "flowStartMilliseconds", "%d.%m.%Y %H:%M:%S"), ("from", "sourceIPv4Address", None),
                ("to", "destinationIPv4Address", None), ("proto", "protocolIdentifier", None))
        ))  # fmt: skip
        for number, day in enumerate((3, 1, 4, 2, 5, 6)):
            lines = [f"0{day}.11.2026 10:00:{second:02},10.61.4.14,10.62.1.11,1" for second in range(20)]
            self.write(f"{number}.csv", *lines, header="when,from,to,proto")
        with mock.patch.object(flow_pieces, "PIECE", 4_000):
            windows = windows_of(sorted(self.logs.iterdir()), columns)
        order = [Path(piece.path).stem for window in windows for piece in window.pieces]
        self.assertEqual((order, len(windows) > 1), (["1", "3", "0", "2", "4", "5"], True))

    def test_what_unpacks_to_very_much_is_read_piece_by_piece(self):
        lines = [request(0, 50001)] * 2000
        for name in ("a.csv.gz", "b.csv.gz"):
            self.write(name, *lines)
        self.write("c.csv", request(0, 50001))
        with mock.patch.object(flow_pieces, "PIECE", 100_000), mock.patch.object(
            whole_texts, "WholeText", side_effect=AssertionError("read whole")) as made:  # fmt: skip
            windows = windows_of(sorted(self.logs.glob("*.gz")))
            self.assertEqual([len(each.pieces) for each in windows], [2])
            found, sentences = self.read_of(windows)
        self.assertEqual((len(found), sentences, made.called), (4000, [], False))

    def test_a_large_file_is_cut_and_small_ones_are_read_with_what_is_of_their_time(self):
        self.write("large.csv", *(request(at, 50001) for at in range(400)))
        for number in range(6):
            self.write(f"small-{number}.csv", request(number, 50001))
        with mock.patch.object(flow_pieces, "PIECE", 8000):
            windows = windows_of(sorted(self.logs.iterdir()))
            found, _ = self.read()
        sizes = [len(each.pieces) for each in windows]
        self.assertEqual(sorted(sizes)[-1], 7)
        self.assertGreater(sizes.count(1), 3)
        self.assertEqual(len(found), 406)


def told(row):
    """A row without its example, which may be any of its records."""
    return json.dumps({name: value for name, value in row.items() if name != "example"}, sort_keys=True)


def plain(record):
    """A record without its place."""
    return dataclasses.replace(record, line=0, file=None)


if __name__ == "__main__":
    unittest.main()
