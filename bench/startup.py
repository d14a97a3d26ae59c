"""`kiboko check` on the demo as a whole process, against importing NumPy and YAML."""

import sys
import tempfile
from pathlib import Path

from measure import command, ratio, report

from kiboko.demo.data import write_demo


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        write_demo(Path(folder))
        ours = command(sys.executable, "-m", "kiboko", "check", "192.0.2.14", "gauge-07", "ssh", cwd=folder)
        theirs = command(sys.executable, "-c", "import numpy, yaml")
        report("check on the demo / import numpy, yaml", *ratio(ours, theirs, 15), 2.5)


if __name__ == "__main__":
    main()
