"""Most tests run the program in a process that is forked from one which has loaded it: here what each command says so is
held to what one says that is started from nothing."""

import os
import subprocess
import sys
import unittest
from pathlib import Path

from kiboko.commands.main import COMMANDS
from tests import program
from tests.helpers import OnTheDemo

LINES = {
    "demo": "demo --only-write .",
    "check": "check desk-1 forecast-2 forecast-api",
    "route": "route desk-1 forecast-2 --json",
    "show": "show relay-1",
    "reach": "reach database --service postgresql --doors",
    "matrix": "matrix --by zone --service ssh --csv zones.csv",
    "audit": "audit --sarif findings.sarif",
    "expect": "expect --file expectations.yaml --flows evidence/flows.csv",
    "rehearse": "rehearse changes/01-shut-out-the-met-office.yaml --flows evidence/flows.csv",
    "apply": "apply changes/01-shut-out-the-met-office.yaml --diff",
    "compare": "compare network.yaml clean/network.yaml",
    "probe": "probe 127.0.0.1 tcp/1 --attempts 1",
    "collect": "collect store --flow-port none --syslog-port none",
    "flows": "flows evidence/flows.csv --by hour --export hours.csv",
    "confirm": "confirm --probes evidence/probes.jsonl --flows -",
    "replica": "replica verify --fault nobody",
}


class Starting(OnTheDemo):
    def test_a_command_that_was_loaded_before_says_what_one_says_that_is_started(self):
        self.assertEqual(set(COMMANDS), set(LINES))
        flows = Path(self.folder, "evidence", "flows.csv").read_text()
        for command, line in LINES.items():
            with self.subTest(command):
                forked = program.run(line.split(), self.folder, os.environ, flows)
                started = subprocess.run([sys.executable, "-m", "kiboko", *line.split()], cwd=self.folder, text=True,
                                         input=flows, capture_output=True, timeout=120)  # fmt: skip
                said = [[each.returncode, each.stdout, each.stderr] for each in (forked, started)]
                if command == "probe":  # how long it took is another time each
                    said = [[status, out.split()[:2], error] for status, out, error in said]
                self.assertEqual(said[1], said[0])
                self.assertTrue(started.stdout or started.stderr)


if __name__ == "__main__":
    unittest.main()
