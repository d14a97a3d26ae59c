"""Other people's columns, by a mapping file: the same records come out as from a log with the usual names."""

import gzip
import io
import json
import tempfile
import unittest
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet

from kiboko.core.errors import InputError
from kiboko.files.elements.column_map import USUAL
from kiboko.files.elements.mapping_file import read_column_map
from kiboko.files.logs.flow_reader import tables_of
from kiboko.files.logs.nested_json import expanded, outer_items
from tests.helpers import kiboko

MAP = """
kiboko: columns/1
columns:
  when: {element: flowStartMilliseconds, unit: seconds}
  a: sourceIPv4Address
  b: destinationIPv4Address
  ap: sourceTransportPort
  bp: destinationTransportPort
  kind: {element: protocolIdentifier, values: {T: tcp, U: udp}}
  fate: {element: firewallEvent, passed: [OK], denied: [NO]}
  size: {element: octetDeltaCount, unit: kibibytes}
skip: {fate: [VOID]}
"""
ROWS = [
    {"when": "1763632800.25", "a": "10.1.1.10", "b": "10.2.1.10", "ap": "40000", "bp": "22", "kind": "T", "fate": "OK", "size": "2"},
    {"when": "1763632801", "a": "2001:db8::9", "b": "2001:db8:1:1::10", "ap": "53", "bp": "40001", "kind": "U", "fate": "NO", "size": "0.5"},
]  # fmt: skip
VOID = {**ROWS[0], "fate": "VOID"}
# By hand: 1763632800 is 2025-11-20 10:00:00 UTC; a kibibyte is 1,024 octets.
WANTED = [
    ("2025-11-20T10:00:00.250000+00:00", "10.1.1.10", "10.2.1.10", 40000, "tcp/22", "passed", 2048),
    ("2025-11-20T10:00:01+00:00", "2001:db8::9", "2001:db8:1:1::10", 53, "udp/40001", "denied", 512),
]


class Reading(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def map(self, text=MAP):
        (self.folder / "map.yaml").write_text(text)
        return read_column_map(self.folder / "map.yaml")

    def read(self, name, content, text=MAP):
        path = self.folder / name
        path.write_bytes(content if isinstance(content, bytes) else content.encode())
        found = list(tables_of(path, columns=self.map(text) if text else USUAL))
        return [table.record(index) for table, _ in found for index in range(len(table))], found[-1][1]

    def same(self, name, content, text=MAP):
        records, rejects = self.read(name, content, text)
        self.assertEqual(rejects.counts, {})
        got = [
            (r.start.isoformat(), str(r.source), str(r.destination), r.source_port, str(r.service), r.event, r.octets)
            for r in records
        ]
        self.assertEqual(got, WANTED)
        return rejects

    def csv(self, delimiter=",", header=True, rows=(*ROWS, VOID)):
        lines = [delimiter.join(ROWS[0])] if header else []
        return "\n".join([*lines, *(delimiter.join(row.values()) for row in rows)]) + "\n"


class Mapping(Reading):
    def test_csv_with_units_translated_values_and_rows_that_are_none(self):
        rejects = self.same("log.csv", self.csv())
        self.assertEqual(rejects.remarks, {"left out, as the mapping file says": (4, 1)})

    def test_another_delimiter_is_seen_or_said(self):
        self.same("log.csv", self.csv(";"))
        self.same("log.csv", self.csv("\t"))
        self.same("log.csv", self.csv(" "), MAP + "delimiter: space\n")

    def test_parts_of_one_flow_are_joined_by_the_key_that_is_named(self):
        header = "when,until,a,b,ap,bp,kind,fate,size,back,session\n"
        ends = "10.1.1.10,10.2.1.10,40000,22,T"
        begun = 1_795_000_000
        rows = [
            f"{begun + first},{begun + last if last else ''},{ends},{rest}"
            for first, last, rest in (
                (100, None, "OK,2,1,s1"), (100, 460, "OK,6,3,s1"), (700, 760, "OK,1,0,s2"), (100, 900, "OK,9,5,s1"),
                (700, 800, "NO,1,0,s2"), (100, 100, "OK,4,0,"), (100, 100, "OK,4,0,"),
            )
        ]  # fmt: skip
        text = MAP.replace(
            "  size: {element: octetDeltaCount, unit: kibibytes}",
            """  size: octetDeltaCount
  back: responderOctets
  until: {element: flowEndMilliseconds, unit: seconds}
  session: flowId""",
        )
        wanted = {
            "totals": [("passed", 100, 900, 9), ("passed", 100, 900, 5), ("passed", 700, 760, 1),
                       ("denied", 700, 800, 1), ("passed", 100, 100, 4), ("passed", 100, 100, 4)],
            "deltas": [("passed", 100, 900, 17), ("passed", 100, 900, 9), ("passed", 700, 760, 1),
                       ("denied", 700, 800, 1), ("passed", 100, 100, 4), ("passed", 100, 100, 4)],
        }  # fmt: skip
        for parts, want in wanted.items():
            records, rejects = self.read("log.csv", header + "\n".join(rows), f"{text}parts: {parts}\n")
            got = [(r.event, r.start.timestamp() - begun, r.end.timestamp() - begun, r.octets) for r in records]
            self.assertEqual(got, want, parts)
            said = {kind: count for kind, (_, count) in rejects.remarks.items()}
            self.assertEqual(said["further parts of flows told before: joined with the first of each"], 2)
        records, _ = self.read("log.csv", header + "\n".join(rows), text)
        self.assertEqual(len([r for r in records if str(r.source) == "10.1.1.10"]), 7, "nothing is joined unasked")

    def test_of_several_mapping_files_the_one_whose_first_line_a_log_has(self):
        for name, content in (
            ("one.yaml", MAP + "first_line: 'when,a,b'\n"),
            ("two.yaml", MAP.replace("fate:", "outcome:", 1).replace("{fate:", "{outcome:") + "first_line: outcome\n"),
            ("rest.yaml", MAP.replace("  a: source", "  src: source")),
        ):
            (self.folder / name).write_text(content)
        logs = {
            "a.csv": self.csv(), "c.csv.gz": gzip.compress(self.csv().replace(",a,", ",src,").encode()),
            "d.jsonl": "\n".join(json.dumps({"outcome" if k == "fate" else k: v for k, v in row.items()})
                                 for row in (*ROWS, VOID)),
        }  # fmt: skip
        options = [word for name in ("one.yaml", "two.yaml", "rest.yaml") for word in ("--columns", name)]
        for name, content in logs.items():
            path = self.folder / name
            path.write_bytes(content if isinstance(content, bytes) else content.encode())
        for names in (["a.csv"], ["c.csv.gz"], ["d.jsonl"], ["a.csv", "c.csv.gz", "d.jsonl"]):
            done = kiboko("flows", *names, *options, "--json", cwd=self.folder)
            self.assertEqual(done.returncode, 0, done.stderr)
            told = json.loads(done.stdout)["summary"]
            self.assertEqual((told["records"], told["octets"]), (2 * len(names), 2560 * len(names)), names)
        done = kiboko("flows", "a.csv", *options, "--columns", "rest2.yaml", cwd=self.folder)
        self.assertEqual(done.returncode, 2)
        (self.folder / "rest2.yaml").write_text(MAP)
        done = kiboko("flows", "a.csv", *options, "--columns", "rest2.yaml", cwd=self.folder)
        self.assertEqual(done.returncode, 2)
        self.assertIn("rest.yaml and rest2.yaml are both for any log", done.stderr)
        self.assertIn("first_line", done.stderr)

    def test_what_the_parts_of_a_flow_need_is_said(self):
        for more, wanted in (("parts: totals\n", "no column is 'flowId'"), ("first_line: ' '\n", "'first_line'"),
                             ("parts: some\n", "parts")):  # fmt: skip
            with self.assertRaises(InputError) as caught:
                self.map(MAP + more)
            self.assertIn(wanted, str(caught.exception))

    def test_rows_without_a_header(self):
        names = f"names: [{', '.join(ROWS[0])}]\ndelimiter: '|'\n"
        rejects = self.same("log.txt", self.csv("|", header=False), MAP + names)
        self.assertEqual(rejects.remarks, {"left out, as the mapping file says": (3, 1)})

    def test_json_lines_and_parquet(self):
        self.same("log.jsonl", "\n".join(json.dumps(row) for row in (*ROWS, VOID)))
        sink = io.BytesIO()
        pa.parquet.write_table(pa.Table.from_pylist([*ROWS, VOID]), sink)
        self.same("log.parquet", sink.getvalue())
        self.same("log.parquet.gz", gzip.compress(sink.getvalue()))

    def test_records_in_arrays_inside_objects_whether_one_a_line_or_one_document(self):
        path = MAP.replace("fate:", "rule.fate:", 1) + "records: logs[].entries[]\n"
        path = path.replace("skip: {fate: [VOID]}", "skip: {rule.fate: [VOID]}")
        inner = [{k: v for k, v in row.items() if k != "fate"} for row in (*ROWS, VOID)]
        logs = [
            {"rule": {"fate": row["fate"]}, "entries": [bare]} for row, bare in zip((*ROWS, VOID), inner, strict=True)
        ]
        document = {"logs": logs}
        self.same("log.json", json.dumps(document, indent=2), path)
        self.same("log.jsonl", json.dumps(document) + "\n", path)
        self.same("log.json.gz", gzip.compress(json.dumps(document, indent=2).encode()), path)
        bare = path.replace("records: logs[].entries[]", 'records: "[].entries[]"')
        self.same("bare.json", json.dumps(logs, indent=1), bare)

    def test_records_as_one_delimited_text_in_a_field(self):
        names = f"names: [{', '.join(ROWS[0])}]\nrecords: messages[].text\ndelimiter: space\n"
        texts = [{"text": " ".join(row.values())} for row in (*ROWS, VOID)]
        self.same("log.json", json.dumps({"messages": texts}, indent=1), MAP + names)
        records, rejects = self.read(
            "log.json", json.dumps({"messages": [*texts, {"text": "torn 1 2"}]}, indent=1), MAP + names
        )
        self.assertEqual((len(records), rejects.counts), (2, {"wrong number of fields": 1}))

    def test_times_in_forms_and_zones_of_their_own(self):
        # 11:00:00.25 of Berlin in November, and 05:00 of a zone five hours behind.
        forms = (
            ("{element: flowStartMilliseconds, format: '%d/%b/%Y %H:%M:%S.%f', zone: Europe/Berlin}", "20/Nov/2025 11:00:00.25", "20/Nov/2025 11:00:01.0"),
            ("{element: flowStartMilliseconds, format: '%Y%m%d %H%M%S.%f %z'}", "20251120 050000.25 -0500", "20251120 110001.0 +0100"),
            ("{element: flowStartMilliseconds, zone: Europe/Berlin}", "2025-11-20 11:00:00.250", "2025-11-20 11:00:01.000"),
            ("{element: flowStartMilliseconds, unit: nanoseconds}", "1763632800250000000", "1763632801000000000"),
        )  # fmt: skip
        for shape, *times in forms:
            rows = [{**row, "when": time} for row, time in zip(ROWS, times, strict=True)]
            with self.subTest(shape):
                self.same(
                    "log.csv",
                    self.csv(rows=rows),
                    MAP.replace("{element: flowStartMilliseconds, unit: seconds}", shape),
                )

    def test_what_does_not_fit_is_rejected_with_its_place_and_the_rest_kept(self):
        bad = [{**ROWS[0], "when": "soon"}, {**ROWS[0], "size": "much"}, {**ROWS[0], "fate": "MAYBE"}]
        records, rejects = self.read("log.csv", self.csv(rows=[ROWS[0], *bad, ROWS[1]]))
        self.assertEqual(len(records), 2)
        self.assertEqual(
            {kind: place for kind, (place, _) in rejects.first.items()},
            {"bad flowStartMilliseconds": 3, "bad octetDeltaCount": 4, "bad firewallEvent": 5},
        )

    def test_faults_of_a_mapping_file_have_their_lines(self):
        for wrong, said in (
            (MAP.replace("octetDeltaCount", "octetDeltaCont"), "map.yaml:11: 'octetDeltaCont' is no information element that is read; did you mean 'octetDeltaCount'?"),
            (MAP.replace("kibibytes", "stones"), "map.yaml:11: size: 'stones' is no unit of octetDeltaCount"),
            (MAP.replace("unit: seconds", "zone: Mars/Dome"), "map.yaml:4: when: 'Mars/Dome' is no time zone"),
            (MAP.replace("  a: source", "  a: destination"), "no column is 'sourceIPv4Address'"),
            (MAP.replace("skip:", "skp:"), "map.yaml:12: unknown key 'skp'; did you mean 'skip'?"),
            (MAP.replace("denied: [NO]", "denied: [OK]"), "'OK' is given two meanings"),
            (MAP + "constant: {firewallEvent: passed}\n", "map.yaml:13: firewallEvent is what column 'fate' says"),
            (MAP + "constant: {observationPointId: ''}\n", "map.yaml:13: observationPointId: there is no value"),
            (MAP.replace("  kind: {element: protocolIdentifier, values: {T: tcp, U: udp}}", "") + "constant: {protocolIdentifier: tpc}\n", "'tpc' is no protocol"),
            (MAP.replace("T: tcp", "T: tpc"), "map.yaml:9: kind: 'tpc' is no protocol"),
            (MAP.replace("  a: source", "  a: \n  c: source"), "map.yaml:5: columns.a: a table belongs here, not nothing"),
            (MAP.replace("passed: [OK]", "passed: "), "map.yaml:10: columns.fate.passed: a list belongs here, not nothing"),
            ("[]", "map.yaml:1: this is not a mapping file"),
        ):  # fmt: skip
            with self.subTest(said), self.assertRaises(InputError) as caught:
                self.map(wrong)
            self.assertIn(said, str(caught.exception))

    def test_one_word_is_a_list_of_one(self):
        text = MAP.replace("[OK]", "OK").replace("[NO]", "NO").replace("[VOID]", "VOID")
        self.same("log.csv", self.csv(), text + "none: n/a\n")

    def test_a_mapping_file_that_is_for_other_logs_is_told_of(self):
        with self.assertRaises(InputError) as caught:
            self.read("log.csv", self.csv(), MAP + "delimiter: '|'\n")
        self.assertEqual("log.csv:1: there is no '|' in its first line, which parts its columns by the mapping file",
                         str(caught.exception).removeprefix(f"{self.folder}/"))  # fmt: skip
        (self.folder / "map.yaml").write_text(MAP + "first_line: outcome\n")
        done = kiboko("flows", "log.csv", "--columns", "map.yaml", cwd=self.folder)
        self.assertEqual(2, done.returncode)
        self.assertIn("no mapping file is for this log: its first line has no 'outcome' in it", done.stderr)

    def test_a_column_that_the_log_has_not_is_named_with_the_nearest(self):
        with self.assertRaisesRegex(
            InputError, "log.csv:1: column 'kind' of the mapping file is not in it; did you mean 'kinds'"
        ):
            self.read("log.csv", self.csv().replace("kind,", "kinds,", 1))

    def test_the_program_reads_by_a_mapping_file(self):
        (self.folder / "map.yaml").write_text(MAP)
        (self.folder / "log.csv").write_text(self.csv())
        told = json.loads(kiboko("flows", "log.csv", "--columns", "map.yaml", "--json", cwd=self.folder).stdout)
        self.assertEqual((told["summary"]["records"], told["summary"]["octets"]), (2, 2560))
        self.assertEqual(told["caveats"], ["log.csv: 1 row left out, as the mapping file says; first row 3 (line 4)"])


class UsualNames(Reading):
    def test_elements_in_other_units_and_durations(self):
        head = "flowStartSeconds,flowDurationMilliseconds,src,dst,dport,proto,octetTotalCount\n"
        (record,), rejects = self.read("log.csv", head + "1763632800,1500,10.1.1.10,10.2.1.10,22,6,77\n", None)
        self.assertEqual(
            (record.start.isoformat(), record.end.isoformat()),
            ("2025-11-20T10:00:00+00:00", "2025-11-20T10:00:01.500000+00:00"),
        )
        self.assertEqual((record.octets, rejects.counts), (77, {}))

    def test_a_record_that_ends_before_it_begins_is_kept_and_told(self):
        head = "start,end,src,dst,dport,proto\n"
        records, rejects = self.read("log.csv", head + "1763632802000,1763632801000,10.1.1.10,10.2.1.10,22,6\n", None)
        self.assertEqual(
            (len(records), rejects.remarks), (1, {"ending before they begin: some clock is wrong": (2, 1)})
        )

    def test_exporter_domain_and_interface_make_a_point(self):
        head = "src,dst,dport,proto,exporterIPv4Address,observationDomainId,ingressInterface,egressInterface,flowDirection,observationPointId\n"
        row = "10.1.1.10,10.2.1.10,22,6,"
        ends = ("192.0.2.1,7,3,4,0,", "192.0.2.1,7,3,4,1,", "192.0.2.1,7,,,,", "192.0.2.1,7,3,4,0,17", ",,,,,")
        records, _ = self.read("log.csv", head + "".join(f"{row}{end}\n" for end in ends), None)
        self.assertEqual([r.point for r in records], ["192.0.2.1/7/3", "192.0.2.1/7/4", "192.0.2.1/7", "17", None])


class Paths(unittest.TestCase):
    def test_a_path_by_hand(self):
        value = {"x": 1, "r": [{"f": [1, 2]}, {"g": []}, {"f": [3]}]}
        self.assertEqual([leaf for _, leaf in expanded(value, ("r[]", "f[]"))], [1, 2, 3])
        chain, _ = next(expanded(value, ("r[]", "f[]")))
        self.assertEqual([sorted(each) for each in chain], [["r", "x"], ["f"]])
        self.assertEqual([leaf for _, leaf in expanded([5, 6], ("[]",))], [5, 6])
        self.assertEqual(list(expanded({"r": 3}, ("r[]", "f"))), [])

    def test_outer_items_stream_documents_one_after_another(self):
        stream = io.BytesIO(b'{"r": [{"f": 1}]}\n{"r": [{"f": 2}, {"f": 3}]}')
        self.assertEqual([item for item, _ in outer_items(stream, ("r[]", "f"))], [{"f": 1}, {"f": 2}, {"f": 3}])


if __name__ == "__main__":
    unittest.main()
