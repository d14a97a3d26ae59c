"""Every machine-readable form against its published schema, and the face for scripts at work."""

import contextlib
import doctest
import importlib
import json
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import jsonschema

import kiboko
import kiboko.api
from tests.helpers import kiboko as run

DOCS = Path(__file__).resolve().parent.parent.parent / "docs"


class Forms(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        made = tempfile.TemporaryDirectory()
        cls.addClassCleanup(made.cleanup)
        cls.folder = made.name
        run("demo", "--only-write", cls.folder)

    def hold(self, form, text):
        schema = json.loads((DOCS / "forms" / f"{form}.schema.json").read_text())
        jsonschema.Draft202012Validator.check_schema(schema)
        value = json.loads(text)
        jsonschema.Draft202012Validator(schema).validate(value)
        return value

    def test_what_each_command_prints_has_the_form_of_its_schema(self):
        for form, words in (
            ("check", "check desk-1 forecast-2 forecast-api"),
            ("check", "check 203.0.113.77 bulletin https"),
            ("check", "check desk-1 forecast-1 forecast-api --fixes --flows evidence/flows.csv"),
            ("check", "check 192.0.2.14 relay-1 ssh --stop --expectations expectations.yaml"),
            ("check", "check gauge-08 relay-2 tcp/9100 --flows evidence/flows.csv --probes evidence/probes.jsonl"),
            ("check", "check bench-pc lamp reading -n loopback/network.yaml --probe --as bench-pc"),
            ("check-set", "check internet gauges ssh"),
            ("check-set", "check internet gauges ssh --flows evidence/flows.csv"),
            ("check-set", "check any relays any"),
            ("route", "route desk-1 forecast-2"),
            ("show", "show relay-1"),
            ("flows", "flows evidence/flows.csv"),
            ("rule-usage", "flows evidence/flows.csv --rules"),
            ("confirm", "confirm --flows evidence/flows.csv --probes evidence/probes.jsonl"),
            ("reach", "reach database --service postgresql --doors --through 2"),
            ("reach", "reach --out internet"),
            ("matrix", "matrix --by zone --service ssh"),
            ("matrix", "matrix --by zone --service ssh --against clean/network.yaml"),
            ("audit", "audit --flows evidence/flows.csv"),
            ("expect", "expect --file expectations.yaml"),
            ("compare", "compare network.yaml clean/network.yaml --service ssh"),
            ("rehearse", "rehearse --toggle bank-edge/inbound/20 --file expectations.yaml"),
            ("rehearse", "rehearse --toggle bank-edge/inbound/20 --service ssh --flows evidence/flows.csv --save kept"),
            ("rehearsals", "rehearse --list"),
            ("after", "rehearse --after kept --flows evidence/flows.csv --since 2026-11-20T10:00:00Z"),
        ):
            with self.subTest(words):
                self.hold(form, run(*words.split(), "--json", cwd=self.folder).stdout)

        self.hold("rehearsal", Path(self.folder, "rehearsals", "kept.json").read_text())

    def test_a_field_that_is_missing_is_noticed(self):
        value = json.loads(run("route", "desk-1", "forecast-2", "--json", cwd=self.folder).stdout)
        del value["summary"]["routed"]
        with self.assertRaises(jsonschema.ValidationError):
            self.hold("route", json.dumps(value))

    def test_probe_records_have_theirs(self):
        for line in Path(self.folder, "evidence", "probes.jsonl").read_text().splitlines()[:20]:
            self.hold("probe", line)


class Face(unittest.TestCase):
    def test_the_page_on_scripts_and_the_examples_of_the_face_run(self):
        with tempfile.TemporaryDirectory() as folder:
            run("demo", "--only-write", folder)
            with contextlib.chdir(folder):
                page = doctest.testfile(str(DOCS / "scripts.md"), module_relative=False)
                names = {"kiboko": kiboko, "network": kiboko.load("network.yaml")}
                face = doctest.testmod(kiboko.api, extraglobs=names)
        self.assertEqual((page.failed, face.failed), (0, 0))
        self.assertGreater(page.attempted + face.attempted, 15)

    def test_the_examples_at_the_entry_points_of_the_core_run(self):
        modules = [
            importlib.import_module(f"kiboko.{name}")
            for name in ("core.queries.pair", "core.queries.proposals", "core.queries.near_misses", "core.walk.walk",
                         "core.reachability.sets", "core.reachability.reach", "core.audit.audit", "core.tables.gate_tables",
                         "core.evidence.evaluator", "core.records.flow_sums", "files.network.network_file")
        ]  # fmt: skip
        with tempfile.TemporaryDirectory() as folder:
            run("demo", "--only-write", folder)
            with contextlib.chdir(folder):
                for module in modules:
                    with self.subTest(module.__name__):
                        done = doctest.testmod(module)
                        self.assertEqual((0, True), (done.failed, done.attempted > 1))

    def test_every_name_of_the_face_is_there(self):
        for name in kiboko.__all__:
            self.assertTrue(callable(getattr(kiboko, name)), name)
        with self.assertRaises(AttributeError):
            kiboko.nothing_of_the_kind  # noqa: B018

    def test_importing_it_brings_in_nothing_that_is_not_needed(self):
        names = ("numpy", "yaml", "pydantic", "pyarrow", "rich", "typing")
        script = f"import sys, kiboko.__main__; print([m for m in {names} if m in sys.modules])"
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True)
        self.assertEqual(done.stdout.strip(), "[]")

    def test_an_answer_is_the_form_that_the_program_prints(self):
        with tempfile.TemporaryDirectory() as folder:
            run("demo", "--only-write", folder)
            with contextlib.chdir(folder):
                network = kiboko.load("network.yaml")
                whole = kiboko.check(network, "desk-1", "forecast-2", "forecast-api").as_dict()
                with self.assertRaisesRegex(kiboko.UsageError, "ask check_set"):
                    kiboko.check(network, "gauges", "relay-1", "ssh")
            printed = json.loads(run("check", "desk-1", "forecast-2", "forecast-api", "--json", cwd=folder).stdout)
        self.assertEqual(whole, printed)

    def test_what_a_script_gets_wrong_is_told_and_looks_like_no_answer(self):
        with tempfile.TemporaryDirectory() as folder:
            run("demo", "--only-write", folder)
            with contextlib.chdir(folder):
                network = kiboko.load(Path("network.yaml"))
                blocked = kiboko.check(network, "desk-1", "forecast-2", "forecast-api")
                many = kiboko.check_set(network, "gauges", "relays", "ssh")
                seen = kiboko.confirm(network, flows="evidence/flows.csv")  # one is no list of its letters
                for wrong, said in (
                    (lambda: bool(blocked), "neither true nor false: ask its 'allowed'"),
                    (lambda: bool(many), "ask its 'verdicts'"), (lambda: bool(seen), "ask its 'agrees'"),
                    (lambda: bool(kiboko.audit(network)), "ask its 'rows'"),
                    (lambda: kiboko.confirm(network), "give evidence"),
                    (lambda: kiboko.confirm(network, flows=[]), "give evidence"),
                    (lambda: kiboko.confirm(network, flows=[None]), "flows: a path belongs here, not None"),
                    (lambda: kiboko.load(""), "'' is no path of a network file"),
                    (lambda: kiboko.check("network.yaml", "a", "b", "ssh"), "'network.yaml' is no network"),
                    (lambda: kiboko.check(network, "desk-1", "", "ssh"), "destination: a text belongs here, not ''"),
                    (lambda: kiboko.check(network, "desk-1", "desk-2", 22), "service: a text belongs here, not 22"),
                    (lambda: kiboko.check(network, "desk-1", "desk-2", "ssh", family="6"), "family: 4, 6 or None, not '6'"),
                    (lambda: kiboko.check(network, "desk-1", "desk-2", "ssh", client_ports=""), "client_ports: a text"),
                    (lambda: kiboko.reach(network, ["gauges"]), "name: a text belongs here"),
                ):  # fmt: skip
                    with self.subTest(said), self.assertRaises(kiboko.UsageError) as caught:
                        wrong()
                    self.assertIn(said, str(caught.exception))
                self.assertEqual(seen.as_dict(), kiboko.confirm(network, flows=[Path("evidence/flows.csv")]).as_dict())
                Path("one.csv").write_text(
                    "flowStartMilliseconds,src,dst,srcport,dstport,protocol,tcpControlBits,action\n"
                    "1795169400000,10.63.1.11,10.62.2.20,43216,8443,tcp,2,denied\n"
                    "1795169400000,10.61.5.18,10.61.5.1,40000,53,udp,,passed\n"
                )
                lines = Path("one.csv").read_text().splitlines(True)
                Path("none.csv").write_text(lines[0] + lines[2])
                told = [(kiboko.confirm(network, flows=name).agrees, run("confirm", "--flows", name).returncode)
                        for name in ("evidence/flows.csv", "one.csv", "none.csv")]  # fmt: skip
        self.assertEqual([(False, 1), (True, 0), (False, 1)], told, "what proves nothing does not agree")


if __name__ == "__main__":
    unittest.main()
