"""What is written out can be read back, in every form that is read."""

import dataclasses
import tempfile
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path

from kiboko.core.errors import UsageError
from kiboko.core.header.addresses import parse_address
from kiboko.core.header.services import Service
from kiboko.core.records.flow_table import table_of
from kiboko.core.records.records import DENIED, PASSED, SEEN, FlowRecord
from kiboko.files.logs.flow_reader import tables_of
from kiboko.files.messages.flow_messages import MessageReader
from kiboko.files.store.flow_export import write_tables
from kiboko.files.store.ipfix_export import messages, templates

TEN = datetime(2026, 11, 20, 10, tzinfo=UTC)


def record(source, destination, protocol, detail, port, event=PASSED, flags=None, point="7", seconds=2):
    return FlowRecord(parse_address(source), parse_address(destination), Service(protocol, detail), port, event, TEN,
                      TEN + timedelta(seconds=seconds), 3, 1 << 40, flags, point)  # fmt: skip


RECORDS = [
    record("10.1.1.10", "10.2.1.10", 6, 22, 40000, flags=27),
    record("10.2.1.10", "10.1.1.10", 6, 40000, 22, SEEN, 0x112),
    record("10.1.1.10", "192.0.2.9", 1, 8 << 8, None, DENIED),
    record("10.1.1.10", "192.0.2.9", 17, 53, 0, point=None),
    record("10.1.1.10", "192.0.2.9", 47, 0, None),
    record("2001:db8:1:1::10", "2001:db8::9", 6, 443, 65535, DENIED, 2),
    record("2001:db8::9", "2001:db8:1:1::10", 58, 128 << 8, None),
]


class Export(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def back(self, path):
        found = list(tables_of(path))
        self.assertEqual(found[-1][1].counts, {})
        records = [table.record(index) for table, _ in found for index in range(len(table))]
        return [dataclasses.replace(each, line=0) for each in records]

    def test_every_form_gives_back_what_was_written(self):
        for name in (
            "a.csv",
            "a.csv.gz",
            "a.csv.zst",
            "a.jsonl",
            "a.jsonl.gz",
            "a.arrows",
            "a.arrows.zst",
            "a.parquet",
        ):
            with self.subTest(name):
                tables = [table_of(RECORDS[:3]), table_of(RECORDS[3:])]
                self.assertEqual(write_tables(tables, self.folder / name), len(RECORDS))
                self.assertEqual(self.back(self.folder / name), RECORDS)

    def test_ipfix_has_a_number_where_nothing_was_recorded(self):
        wanted = [dataclasses.replace(each, tcp_flags=each.tcp_flags or 0, point=each.point or "0") for each in RECORDS]
        for name in ("a.ipfix", "a.ipfix.gz"):
            write_tables([table_of(RECORDS[:3]), table_of(RECORDS[3:])], self.folder / name)
            by_family = sorted(wanted, key=lambda each: each.source.family)
            self.assertEqual(sorted(self.back(self.folder / name), key=lambda each: each.source.family), by_family)

    def test_messages_keep_count_and_fit_a_datagram(self):
        many = table_of([dataclasses.replace(RECORDS[n % 2 * 5], source_port=n) for n in range(500)])
        reader, sent = MessageReader(), [templates(), *messages(many)]
        for each in sent:
            self.assertLessEqual(len(each), 1400)
            reader.read(each, "127.0.0.1")
        self.assertEqual(sum(table.num_rows for table in reader.take()), 500)
        self.assertEqual(+reader.counts, {"messages": len(sent), "templates": 2})

    def test_a_name_of_no_form_is_bad_usage(self):
        for name in ("a.txt", "a", "a.parquet.gz", "a.gz"):
            with self.assertRaisesRegex(UsageError, "records are written as .csv, .jsonl"):
                write_tables([], self.folder / name)
        self.assertEqual(list(self.folder.iterdir()), [])


if __name__ == "__main__":
    unittest.main()
