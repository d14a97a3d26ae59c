"""Logs with the address and the port of an end in one column. Expected records are read off the lines by hand."""

import json
import tempfile
import unittest
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet

from kiboko.files.elements.address_ports import address_and_port
from kiboko.files.elements.guessing import guess_columns, mapping_text
from kiboko.files.logs.flow_reader import tables_of
from tests.helpers import kiboko

ROWS = [
    {"src": "10.1.1.10", "dst": "10.1.2.10", "proto": "icmp", "action": "accept"},
    {"src": "10.1.1.10:40001", "dst": "10.1.2.10:443", "proto": "tcp", "action": "accept"},
    {"src": "[2001:db8::9]:40002", "dst": "[2001:db8::1]:53", "proto": "udp", "action": "deny"},
    {"src": "2001:db8::9", "dst": "2001:db8:0:0:0:0:0:1", "proto": "58", "action": "deny"},
]
WANTED = [
    ("10.1.1.10", None, "10.1.2.10", "icmp", "passed"),
    ("10.1.1.10", 40001, "10.1.2.10", "tcp/443", "passed"),
    ("2001:db8::9", 40002, "2001:db8::1", "udp/53", "denied"),
    ("2001:db8::9", None, "2001:db8::1", "icmp6", "denied"),
]


class InOneColumn(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def read(self, path):
        records, said = [], []
        for table, rejects in tables_of(path):
            records += [table.record(row) for row in range(len(table))]
            said = rejects.sentences()
        told = [(str(r.source), r.source_port, str(r.destination), str(r.service).partition(",")[0], r.event)
                for r in records]  # fmt: skip
        return told, said

    def test_whatever_form_the_log_has(self):
        columns = {name: [row[name] for row in ROWS] for name in ROWS[0]}
        (self.folder / "a.csv").write_text(
            "\n".join([",".join(columns), *(",".join(row.values()) for row in ROWS)]) + "\n"
        )
        (self.folder / "a.jsonl").write_text("".join(json.dumps(row) + "\n" for row in ROWS))
        (self.folder / "a.json").write_text(json.dumps({"flows": ROWS}))
        pa.parquet.write_table(pa.table(columns), self.folder / "a.parquet")
        coded = {name: pa.array(values).dictionary_encode() for name, values in columns.items()}
        pa.parquet.write_table(pa.table(coded), self.folder / "coded.parquet")
        lines = [f"Nov 20 10:00:00 gw fw: src={row['src']} dst={row['dst']} proto={row['proto']} action={row['action']}\n"
                 for row in ROWS]  # fmt: skip
        (self.folder / "a.log").write_text("".join(lines))
        for name in ("a.csv", "a.jsonl", "a.parquet", "coded.parquet", "a.log"):
            with self.subTest(name):
                told, said = self.read(self.folder / name)
                self.assertEqual(told, WANTED)
                self.assertEqual(said, [])

    def test_what_is_no_port_or_no_address_is_rejected_by_its_line(self):
        (self.folder / "a.csv").write_text(
            "src,dst,proto\n10.1.1.10:40001,10.1.2.10:443,tcp\n10.1.1.10:70000,10.1.2.10:443,tcp\n"
            "10.1.1.300:1,10.1.2.10:443,tcp\nbob:40001,10.1.2.10:443,tcp\n"
        )
        told, said = self.read(self.folder / "a.csv")
        self.assertEqual(len(told), 1)
        self.assertIn("bad sourceTransportPort; first row 2 (line 3)", " ".join(said))
        self.assertIn("2 rows rejected, bad address; first row 3 (line 4)", " ".join(said))

    def test_where_ports_have_columns_of_their_own_nothing_is_read_otherwise(self):
        (self.folder / "a.csv").write_text(
            "src,sport,dst,dport,proto\n10.1.1.10,40001,10.1.2.10,443,tcp\n10.1.1.10:7,40001,10.1.2.10,443,tcp\n"
        )
        told, said = self.read(self.folder / "a.csv")
        self.assertEqual((len(told), told[0][1]), (1, 40001))
        self.assertIn("1 row rejected, bad address", " ".join(said))

    def test_an_address_of_version_6_alone_is_none_with_a_port(self):
        for text in ("2001:db8:0:0:0:0:0:1", "::1", "2001:db8::1:443", "10.1.1.10", "10.1.1.10:", ":443", "[::1]"):
            self.assertIsNone(address_and_port(text), text)

    def test_a_mapping_file_is_proposed_that_reads_the_log(self):
        guesses, unknown = guess_columns(ROWS)
        text = mapping_text(guesses, unknown, "a.csv", None, "")
        self.assertNotIn("Missing: sourceTransportPort", text)
        self.assertNotIn("Missing: destinationTransportPort", text)
        odd = "caller;called;proto\n10.1.1.10:40001;10.1.2.10:443;tcp\n10.1.1.10:40002;10.1.2.10:443;tcp\n"
        (self.folder / "odd.csv").write_text(odd)
        (self.folder / "odd.yaml").write_text(kiboko("flows", "odd.csv", "--guess", cwd=self.folder).stdout)
        done = kiboko(
            "flows", "odd.csv", "--columns", "odd.yaml", "--by", "source-port,service", "--json", cwd=self.folder
        )
        rows = {(row["source-port"], row["service"]) for row in json.loads(done.stdout)["rows"]}
        self.assertEqual(rows, {("40001", "tcp/443"), ("40002", "tcp/443")}, done.stderr)


if __name__ == "__main__":
    unittest.main()
