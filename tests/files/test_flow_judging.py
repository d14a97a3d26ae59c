"""Logs judged in pieces and by several workers come to what one worker makes of the whole."""

import csv
import gzip
import json
import random
import tempfile
import unittest
from collections import Counter
from pathlib import Path
from unittest import mock

from kiboko.batch.flow_judging import FlowJudge
from kiboko.core.errors import InputError
from kiboko.core.evidence.causes import Causes
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.rule_usage import RuleUsage
from kiboko.core.evidence.summary import Summary
from kiboko.core.records.flow_query import FlowFilter
from kiboko.core.walk.walk import Walker
from kiboko.demo.data import write_demo
from kiboko.demo.recording import MORNING, READERS, rules_before, sessions
from kiboko.files.logs.flow_reader import pieces_of, tables_of
from kiboko.files.network.network_file import load_network
from kiboko.files.store.flow_export import write_tables
from kiboko.views.confirm_view import confirm_json, confirm_json_text
from kiboko.views.flows_view import usage_json
from tests.helpers import walk
from tests.plain_judge import PlainJudge


class Judging(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        write_demo(cls.folder)
        cls.walker = Walker(load_network(str(cls.folder / "network.yaml")))
        recorded = (cls.folder / "evidence/flows.csv").read_text().splitlines(keepends=True)
        chance = random.Random(5)
        rows = [chance.choice(recorded[1:]).replace(",50", f",{chance.choice((50, 51, 33))}") for _ in range(4000)]
        rows[1234] = rows[1234].replace(",6,", ",six,").replace(",17,", ",six,").replace(",1,", ",six,")
        cls.log = cls.folder / "long.csv"
        cls.log.write_text(recorded[0] + "".join(rows))

    def judged(self, path, workers, strict=False, wanted=None):
        comparison = Comparison(self.walker)
        summary, usage = Summary(self.walker.directory), RuleUsage(self.walker.topology)
        judge = FlowJudge(comparison, summary, strict, wanted, usage)
        caveats = judge.take([path], workers)
        causes = Causes(self.walker, summary.rows())
        whole = confirm_json(summary, causes, caveats)
        self.assertEqual("".join(confirm_json_text(summary, causes, caveats)), json.dumps(whole, indent=1) + "\n")
        return whole, usage_json(usage, caveats)

    def test_several_workers_say_the_same_to_the_byte_as_one(self):
        with (
            mock.patch("kiboko.files.logs.flow_pieces.PIECE", 40_000),
            mock.patch("kiboko.files.logs.flow_pieces.PIECE", 40_000),
        ):
            self.assertGreater(len(list(pieces_of(self.log))), 8)
            alone = self.judged(self.log, 1)
            for workers in (2, 3):
                self.assertEqual(self.judged(self.log, workers), alone)
        self.assertEqual((alone[0]["summary"]["records"], alone[0]["summary"]["rejected"]), (3999, 1))
        self.assertIn("1 row rejected, bad protocolIdentifier; first row 1,235 (line 1236)", alone[0]["caveats"][0])

    def test_rows_that_several_processes_write_are_the_same_text(self):
        comparison = Comparison(self.walker)
        summary = Summary(self.walker.directory)
        FlowJudge(comparison, summary).take([self.log], 1)
        causes = Causes(self.walker, summary.rows())
        alone = "".join(confirm_json_text(summary, causes, []))
        with (
            mock.patch("kiboko.core.evidence.row_verdicts.FEW", 10),
            mock.patch("kiboko.views.finding_texts._PIECE_ROWS", 4),
            mock.patch("kiboko.batch.processors.usable", lambda: 3),
        ):
            together = "".join(confirm_json_text(summary, causes, []))
        self.assertGreater(len(summary.rows()), 20)
        self.assertEqual(together, alone)

    def test_pieces_with_what_lies_around_them_say_the_same_as_the_whole(self):
        """Replies stand within a few rows of nothing here, so that the window is made as wide as the log."""
        whole = self.judged(self.log, 1)
        with (
            mock.patch("kiboko.files.logs.flow_pieces.PIECE", 60_000),
            mock.patch("kiboko.files.logs.flow_pieces.CONTEXT", 1 << 20),
        ):
            pieces = self.judged(self.log, 1)
        packed = self.folder / "packed.csv.gz"
        packed.write_bytes(gzip.compress(self.log.read_bytes()))
        with (
            mock.patch("kiboko.files.logs.flow_pieces.PIECE", 240_000),
            mock.patch("kiboko.files.logs.flow_pieces.CONTEXT", 1 << 20),
        ):
            unpacked = self.judged(packed, 1)
        self.assertEqual(pieces[1], whole[1])
        self.assertEqual(pieces[0]["summary"], whole[0]["summary"])
        self.assertEqual(unpacked[0]["summary"], whole[0]["summary"])

    def test_records_of_the_same_packets_are_counted_in_their_own_piece_alone(self):
        def counts():
            judge = FlowJudge(Comparison(self.walker), Summary(self.walker.directory))
            judge.take([self.log], 1)
            return judge.twice, judge.elsewhere

        whole = counts()
        self.assertTrue(all(each > 100 for each in whole), whole)
        with (
            mock.patch("kiboko.files.logs.flow_pieces.PIECE", 60_000),
            mock.patch("kiboko.files.logs.flow_pieces.CONTEXT", 1 << 20),
        ):
            self.assertEqual(whole, counts())

    def test_pieces_tell_of_the_silences_that_the_whole_tells_of(self):
        """At the end of what is read a conversation may be without its reply: that tells of no lost ones."""
        lines = ["flowStartMilliseconds,flowEndMilliseconds,sourceIPv4Address,sourceTransportPort,destinationIPv4Address,"
                 "destinationTransportPort,protocolIdentifier,tcpControlBits,packetDeltaCount,firewallEvent"]  # fmt: skip
        for number in range(3000):
            time, port = 1_795_166_400_000 + 400 * number, 50_000 + number
            is_answered = number % 5 > 0
            lines.append(f"{time},{time + 90},10.61.4.14,{port},10.62.1.11,8883,6,{27 if is_answered else 2},4,1")
            if is_answered:
                lines.append(f"{time},{time + 90},10.62.1.11,8883,10.61.4.14,{port},6,27,4,1")
        log = self.folder / "silences.csv"
        log.write_text("\n".join(lines) + "\n")
        whole = self.judged(log, 1)[0]["summary"]["break"]
        self.assertGreater(whole, 500)
        with (
            mock.patch("kiboko.files.logs.flow_pieces.PIECE", 60_000),
            mock.patch("kiboko.files.logs.flow_pieces.CONTEXT", 8_000),
        ):
            self.assertGreater(len(list(pieces_of(log))), 5)
            self.assertGreaterEqual(self.judged(log, 1)[0]["summary"]["break"], whole - 30)

    def test_every_form_comes_to_the_same_findings(self):
        whole = self.judged(self.log, 1)[0]
        for name in ("copy.parquet", "copy.jsonl"):
            path = self.folder / name
            write_tables((table for table, _ in tables_of(self.log)), path)
            found = self.judged(path, 1)[0]
            self.assertEqual(found["summary"] | {"rejected": 1}, whole["summary"], f"{name}, of what could be read")
            path.unlink()

    def test_totals_are_those_of_the_plain_judge(self):
        records = [table.record(row) for table, _ in tables_of(self.log) for row in range(len(table))]
        want = Counter(status for status, _ in PlainJudge(self.walker).judged(records))
        found = self.judged(self.log, 1)[0]["summary"]
        found["agree"] += found["agree_as_far_as_seen"]
        self.assertEqual({status: found[status] for status in want}, dict(want))

    def test_strict_stops_with_the_line_of_the_file_whatever_piece_it_is_in(self):
        with (
            mock.patch("kiboko.files.logs.flow_pieces.PIECE", 40_000),
            self.assertRaisesRegex(InputError, "long.csv:1236: row 1,235"),
        ):
            self.judged(self.log, 2, strict=True)

    def test_what_is_not_wanted_is_left_out_and_counted(self):
        wanted = FlowFilter(outcome="denied")
        judge = FlowJudge(Comparison(self.walker), Summary(self.walker.directory), wanted=wanted)
        judge.take([self.log])
        rows = [row for row in csv.DictReader(self.log.read_text().splitlines()) if row["protocolIdentifier"] != "six"]
        denied = sum(row["firewallEvent"] == "3" for row in rows)
        self.assertEqual(judge.left_out, 3999 - denied)


class Story(unittest.TestCase):
    """The hour that the demo's evidence was recorded from."""

    def test_the_hour_is_in_order_and_every_port_is_used_once(self):
        hour = sessions()
        self.assertEqual([each.at for each in hour], sorted(each.at for each in hour))
        self.assertTrue(all(0 <= each.at < 3600 for each in hour))
        clients = Counter((each.source, each.port, each.destination) for each in hour if each.port is not None)
        self.assertEqual({each: n for each, n in clients.items() if n > 1}, {})
        self.assertEqual(sum(each.is_probe for each in hour), 14)
        self.assertEqual(MORNING.hour, 10)
        self.assertEqual(len(set(READERS)), len(READERS))

    def test_two_days_before_the_desk_could_ask_the_database(self):
        with tempfile.TemporaryDirectory() as folder:
            write_demo(Path(folder))
            today = load_network(str(Path(folder) / "network.yaml"))
            self.assertEqual(walk(today, "desk-2", "database", "postgresql").verdict, "blocked")
            self.assertEqual(walk(rules_before(today), "desk-2", "database", "postgresql").verdict, "allowed")


if __name__ == "__main__":
    unittest.main()
