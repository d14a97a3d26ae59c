"""The start of every command, as a whole process on the demo, against importing NumPy and YAML."""

import sys
import tempfile
from pathlib import Path

from measure import command, ratio, report

from kiboko.demo.data import write_demo

# Each command line with its bar; None where none is promised.
LINES = (
    ("check 192.0.2.14 gauge-07 ssh", 2.0),
    ("check gauges relays telemetry", None),
    ("route desk-1 forecast-2", None),
    ("show relay-1", None),
    ("flows evidence/flows.csv", 2.5),
    ("confirm --flows evidence/flows.csv", 2.5),
    ("confirm --probes evidence/probes.jsonl", None),
    ("probe --help", None),
    ("collect --help", None),
    ("replica --help", None),
    ("demo --help", None),
    ("--version", None),
)


def main() -> None:
    theirs = command(sys.executable, "-c", "import numpy, yaml")
    with tempfile.TemporaryDirectory() as folder:
        write_demo(Path(folder))
        for line, bar in LINES:
            ours = command(sys.executable, "-m", "kiboko", *line.split(), cwd=folder)
            report(f"kiboko {line} / import numpy, yaml", *ratio(ours, theirs, 9), bar)


if __name__ == "__main__":
    main()
