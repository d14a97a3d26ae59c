"""A store keeps what was written to it, whatever ends the writing, and no more than it may keep."""

import os
import tempfile
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from unittest import mock

from kiboko.core.errors import EnvironmentFailure
from kiboko.core.header.addresses import parse_address
from kiboko.core.header.services import Service
from kiboko.core.records.flow_table import table_of
from kiboko.core.records.records import PASSED, FlowRecord
from kiboko.files.logs.chosen_files import flow_files
from kiboko.files.logs.flow_reader import tables_of
from kiboko.files.store.day_log import DayLog
from kiboko.files.store.flow_store import FlowStore, Keeping, finish_segment

NOW = datetime(2026, 11, 20, 10, 0, 0, tzinfo=UTC)


def records(first, count):
    ends = parse_address("10.1.1.10"), parse_address("10.2.1.10")
    return table_of(
        [
            FlowRecord(*ends, Service(6, 22), 40000 + n, PASSED, NOW, NOW, 1, 60, 2, "7")
            for n in range(first, first + count)
        ]
    )


class Store(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory())) / "store"

    def ports(self):
        tables = [table for path in flow_files([self.folder]) for table, _ in tables_of(path)]
        return [int(port) - 40000 for table in tables for port in table.source_port]

    def opened(self, now=NOW, **keeping):
        store = FlowStore.opened(self.folder, Keeping(**keeping), now)
        self.addCleanup(store.close)
        return store

    def test_what_is_written_can_be_read_before_the_store_is_closed_and_after(self):
        store = self.opened()
        store.append(records(0, 5), NOW)
        self.assertEqual(self.ports(), list(range(5)))
        store.append(records(5, 5), NOW)
        store.close()
        self.assertEqual(self.ports(), list(range(10)))
        self.assertEqual([path.name for path in flow_files([self.folder])], ["100000-00.parquet"])

    def test_a_writer_that_died_loses_nothing_but_a_batch_that_was_torn(self):
        store = self.opened()
        for first in (0, 5, 10):
            store.append(records(first, 5), NOW)
        (segment,) = flow_files([self.folder])
        data = segment.read_bytes()
        store.close()
        for path in flow_files([self.folder]):
            path.unlink()
        segment.write_bytes(data[:-40])
        self.assertEqual(self.ports(), list(range(10)))  # readers cope with the tear
        again = self.opened()
        self.assertEqual(again.recovered, 10)
        self.assertEqual(self.ports(), list(range(10)))

    def test_a_crash_between_the_two_forms_of_a_segment_doubles_nothing(self):
        store = self.opened()
        store.append(records(0, 5), NOW)
        segment = store.end_segment()
        data = segment.read_bytes()
        finish_segment(segment)
        segment.write_bytes(data)
        self.assertEqual(self.ports(), list(range(5)))
        store.close()
        self.opened()
        self.assertEqual(self.ports(), list(range(5)))
        self.assertFalse(segment.exists())

    def test_a_segment_ends_with_its_day_its_time_or_its_size(self):
        store = self.opened()
        store.append(records(0, 1), NOW)
        self.assertIsNone(store.append(records(1, 1), NOW + timedelta(seconds=599)))
        self.assertIsNotNone(store.append(records(2, 1), NOW + timedelta(seconds=601)))
        self.assertIsNotNone(store.append(records(3, 1), NOW.replace(hour=0) + timedelta(days=1)))
        self.assertEqual(
            sorted(path.name for path in self.folder.iterdir() if path.is_dir()), ["2026-11-20", "2026-11-21"]
        )
        with mock.patch("kiboko.files.store.flow_store.SEGMENT_OCTETS", 10):
            self.assertIsNotNone(store.append(records(4, 1), NOW + timedelta(days=1)))
        self.assertEqual(self.ports(), [0, 1, 2, 3, 4])

    def test_days_beyond_those_kept_go_whole(self):
        store = self.opened(days=2)
        for day in range(4):
            store.append(records(day, 1), NOW + timedelta(days=day))
        store.remove_old(NOW + timedelta(days=3))
        self.assertEqual((self.ports(), store.removed), ([2, 3], 2))
        self.assertFalse((self.folder / "2026-11-20").exists())

    def test_the_oldest_goes_where_there_is_too_much(self):
        store = self.opened()
        for day in range(4):
            full = store.append(records(day, 1), NOW + timedelta(days=day))
            if full is not None:
                finish_segment(full)
        store.close()
        size = flow_files([self.folder])[0].stat().st_size
        kept = self.opened(octets=round(2.5 * size))
        self.assertEqual((self.ports(), kept.removed), ([2, 3], 2))

    def test_one_process_alone_collects_into_a_store(self):
        self.opened()
        with self.assertRaisesRegex(EnvironmentFailure, "another process is collecting"):
            FlowStore.opened(self.folder, Keeping(), NOW)

    def test_a_folder_that_cannot_be_written_is_said(self):
        self.folder.parent.joinpath("file").write_text("")
        with self.assertRaisesRegex(EnvironmentFailure, "cannot be written"):
            FlowStore.opened(self.folder.parent / "file" / "store", Keeping(), NOW)


class DayLogs(unittest.TestCase):
    """What disagreed goes to the folder of its day, and with the records of that day."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory())) / "store"
        self.store = FlowStore.opened(self.folder, Keeping(days=2), NOW)
        self.addCleanup(self.store.close)

    def files(self):
        return {
            str(path.relative_to(self.folder)): path.read_text() for path in self.folder.rglob("disagreements.jsonl")
        }

    def test_a_day_that_is_over_is_put_away_whoever_notices_it(self):
        with DayLog(self.folder, NOW) as log:
            log.append("one\ntwo", NOW)
            log.end_day(NOW + timedelta(hours=13))
            self.assertEqual(self.files(), {"disagreements.jsonl": "one\ntwo\n"}, "it is the same day still")
            log.append("three", NOW + timedelta(days=1))
            log.end_day(NOW + timedelta(days=2))
            log.end_day(NOW + timedelta(days=3))
        self.assertEqual(self.files(), {"disagreements.jsonl": "", "2026-11-20/disagreements.jsonl": "one\ntwo\n",
                                        "2026-11-21/disagreements.jsonl": "three\n"})  # fmt: skip

    def test_what_an_earlier_process_left_is_put_to_what_is_there_of_its_day(self):
        for text in ("one", "two"):
            (self.folder / "disagreements.jsonl").write_text(text + "\n")
            os.utime(self.folder / "disagreements.jsonl", (NOW.timestamp(), NOW.timestamp()))
            with DayLog(self.folder, NOW + timedelta(days=1)):
                pass
        self.assertEqual(self.files(), {"disagreements.jsonl": "", "2026-11-20/disagreements.jsonl": "one\ntwo\n"})
        with DayLog(self.folder, NOW) as log:
            log.append("three", NOW)
        with DayLog(self.folder, NOW) as log:
            log.append("four", NOW)
        self.assertEqual(self.files()["disagreements.jsonl"], "three\nfour\n")

    def test_it_is_kept_as_long_as_the_records_of_its_day(self):
        self.store.append(records(0, 5), NOW)
        finish_segment(self.store.end_segment())
        with DayLog(self.folder, NOW) as log:
            log.append("one", NOW)
            log.end_day(NOW + timedelta(days=1))
        (self.folder / "2026-11-20" / "other.jsonl").write_text("somebody else's")
        self.store.remove_old(NOW + timedelta(days=1))
        self.assertIn("2026-11-20/disagreements.jsonl", self.files())
        self.store.remove_old(NOW + timedelta(days=2))
        self.assertEqual((self.files(), self.store.removed), ({"disagreements.jsonl": ""}, 1))
        self.assertEqual([path.name for path in (self.folder / "2026-11-20").iterdir()], ["other.jsonl"])

    def test_it_counts_for_what_the_store_may_hold_and_is_no_flow_log(self):
        store, self.store.keeping = self.store, Keeping(octets=1000)
        with DayLog(self.folder, NOW) as log:
            log.append("x" * 2000, NOW)
            log.end_day(NOW + timedelta(days=1))
        store.append(records(0, 5), NOW + timedelta(days=1))
        self.assertEqual([path.parent.name for path in flow_files([self.folder])], ["2026-11-21"])
        store.remove_old(NOW + timedelta(days=1))
        self.assertNotIn("2026-11-20/disagreements.jsonl", self.files())


if __name__ == "__main__":
    unittest.main()
