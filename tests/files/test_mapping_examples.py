"""The mapping files of docs/logs: eleven unlike shapes of log, in which the same three flows are written."""

import json
import tempfile
import unittest
from datetime import datetime
from pathlib import Path

from tests.helpers import kiboko

LOGS = Path(__file__).resolve().parents[2] / "docs" / "logs"
# As one would tell them: when, from whom to whom, what became of it, and how much it was.
TOLD = [
    ("2026-11-20T10:10:00.300Z", "2026-11-20T10:10:01Z", "10.63.1.11", 43216, "10.62.2.20", 8443, 6, 3, 180, 3),
    ("2026-11-20T10:11:02Z", "2026-11-20T10:11:05.500Z", "192.0.2.14", 51000, "203.0.113.17", 22, 6, 12000, 1234500, 1),
    ("2026-11-20T10:12:09Z", "2026-11-20T10:12:09Z", "10.61.5.18", 40000, "10.61.5.1", 53, 17, 1, 76, 1),
]
ELEMENTS = (
    "flowStartMilliseconds", "flowEndMilliseconds", "sourceIPv4Address", "sourceTransportPort",
    "destinationIPv4Address", "destinationTransportPort", "protocolIdentifier", "packetDeltaCount", "octetDeltaCount",
    "firewallEvent",
)  # fmt: skip


def as_milliseconds(value):
    return round(datetime.fromisoformat(value).timestamp() * 1000) if isinstance(value, str) and "T" in value else value


class Examples(unittest.TestCase):
    def test_each_shape_tells_of_the_same_three_flows(self):
        wanted = [[as_milliseconds(value) for value in row] for row in TOLD]
        folders = sorted(path for path in LOGS.iterdir() if path.is_dir())
        self.assertEqual(11, len(folders))
        for folder in folders:
            with self.subTest(folder.name), tempfile.TemporaryDirectory() as scratch:
                log = next(path for path in folder.iterdir() if path.stem == "log")
                done = kiboko("flows", log, "--columns", folder / "columns.yaml", "--export", "out.jsonl", cwd=scratch)
                self.assertEqual(0, done.returncode, done.stderr)
                records = [json.loads(line) for line in Path(scratch, "out.jsonl").read_text().splitlines()]
                self.assertEqual(wanted, [[record.get(name) for name in ELEMENTS] for record in records])
                if folder.name.startswith("09"):
                    self.assertEqual({"17"}, {record["observationPointId"] for record in records})

    def read_with(self, example, log, wrong, right):
        with tempfile.TemporaryDirectory() as scratch:
            text = (LOGS / example / "columns.yaml").read_text()
            self.assertIn(right, text)
            Path(scratch, "columns.yaml").write_text(text.replace(right, wrong))
            return kiboko("flows", LOGS / example / log, "--columns", "columns.yaml", cwd=scratch)

    def test_a_path_that_leads_nowhere_is_an_error_also_where_only_its_end_does(self):
        for path in ("logs[].rows[]", "log[].entries[]"):
            done = self.read_with("04-one-document", "log.json", path, "logs[].entries[]")
            self.assertEqual(2, done.returncode)
            self.assertIn(f"the path '{path}' leads nowhere", done.stderr)

    def test_a_field_that_no_record_has_is_told_of(self):
        done = self.read_with("03-objects-in-objects", "log.jsonl", "flow.begin", "flow.start")
        self.assertEqual(0, done.returncode)
        self.assertIn("3 records without 'flow.begin', which the mapping file reads", done.stdout)

    def test_where_nothing_can_be_guessed_it_is_said_what_to_write(self):
        for example, log, told in (
            ("05-text-in-documents", "log.json", "with 'records: batches[].messages[]'"),
            ("08-free-text", "log.txt", "a 'pattern' of named groups"),
            ("09-tabs-without-a-header", "log.tsv", "lists its columns as 'names'"),
        ):
            done = kiboko("flows", LOGS / example / log, "--guess")
            self.assertEqual((2, ""), (done.returncode, done.stdout), example)
            self.assertIn(told, done.stderr)

    def test_of_records_inside_json_the_path_is_guessed_and_the_guess_reads_them(self):
        with tempfile.TemporaryDirectory() as scratch:
            rows = [{"src": "10.1.1.10", "dst": f"10.2.1.{end}", "port": 22, "proto": 6} for end in range(10, 13)]
            inside = {"note": ["x"], "site": "a", "found": {"rows": [{"of": "b", "seen": rows}, {"seen": rows}]}}
            for name, text in (("one.json", json.dumps(inside, indent=1)), ("line.json", json.dumps(inside)),
                               ("array.json", json.dumps([inside, inside], indent=1)),
                               ("cut.json", json.dumps(inside | {"more": "x" * (5 << 20)}, indent=1))):  # fmt: skip
                Path(scratch, name).write_text(text)
            for log, path, records in (
                (LOGS / "04-one-document" / "log.json", "logs[].entries[]", 3), ("one.json", "found.rows[].seen[]", 6),
                ("line.json", "found.rows[].seen[]", 6), ("array.json", "[].found.rows[].seen[]", 12),
                ("cut.json", "found.rows[].seen[]", 6),
            ):  # fmt: skip
                with self.subTest(log):
                    done = kiboko("flows", log, "--guess", cwd=scratch)
                    self.assertIn(f'records: "{path}"', done.stdout, done.stderr)
                    Path(scratch, "columns.yaml").write_text(done.stdout)
                    done = kiboko("flows", log, "--columns", "columns.yaml", cwd=scratch)
                    self.assertIn(f"{records} records, ", done.stdout, done.stderr)
                    plain = kiboko("flows", log, cwd=scratch)
                    self.assertEqual((2, ""), (plain.returncode, plain.stdout))
                    self.assertIn("without a field of a flow record", plain.stderr)
                    self.assertIn(f"at {path.removeprefix('[].')}: flows --guess proposes", plain.stderr)

    def test_the_page_names_each_of_them(self):
        page = (LOGS / "README.md").read_text()
        for folder in LOGS.iterdir():
            if folder.is_dir():
                self.assertIn(f"({folder.name}/columns.yaml)", page)


if __name__ == "__main__":
    unittest.main()
