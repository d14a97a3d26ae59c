"""`confirm` over a large CSV log, whole process, against reading the same file with pyarrow's defaults; peak memory.
`rehearse` of a change with the same log against `confirm`.

`python bench/confirming.py [RECORDS]` (ten million by default). Best of three of each, taken in turn.
"""

import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import flow_logs
from measure import seconds

from kiboko.demo.data import write_demo

READ = """
import pyarrow.csv, sys, time
began = time.perf_counter()
pyarrow.csv.read_csv(sys.argv[1])
print(time.perf_counter() - began)
"""


def reading(log: Path) -> float:
    """Seconds that pyarrow needs, in a process of its own, without its start."""
    return float(subprocess.run([sys.executable, "-c", READ, str(log)], capture_output=True, check=True).stdout)


def peak(command: list[str], folder: str) -> int:
    """The most memory in MiB that a command and its workers held at once."""
    most = 0
    with subprocess.Popen(command, cwd=folder, stdout=subprocess.DEVNULL) as running:
        while running.poll() is None:
            total = 0
            for status in [Path(f"/proc/{running.pid}"), *map(Path, children(running.pid))]:
                total += proportional(status)
            most = max(most, total)
            time.sleep(0.1)
    return most >> 10


def children(pid: int) -> list[str]:
    """The processes that a process started."""
    try:
        return [f"/proc/{child}" for child in Path(f"/proc/{pid}/task/{pid}/children").read_text().split()]
    except OSError:
        return []


def proportional(process: Path) -> int:
    """A process's share of memory in KiB, shared pages counted in parts (proc(5), smaps_rollup)."""
    try:
        lines = (process / "smaps_rollup").read_text().splitlines()
    except OSError:
        return 0
    return next((int(line.split()[1]) for line in lines if line.startswith("Pss:")), 0)


def main() -> None:
    records = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000_000
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    with tempfile.TemporaryDirectory() as folder:
        write_demo(Path(folder))
        for count in (records // 10, records):
            log = Path(folder) / "log.csv"
            flow_logs.write(log, count)
            command = [sys.executable, "-m", "kiboko", "confirm", "--flows", str(log)]
            change = Path(folder) / "changes" / "02-close-the-relays.yaml"
            rehearsing = [*command[:3], "rehearse", str(change), "--flows", str(log)]

            def taken(command: list[str]) -> float:
                return seconds(lambda: subprocess.run(command, cwd=folder, stdout=subprocess.DEVNULL, check=False))

            rounds = [(reading(log), taken(command), taken(rehearsing)) for _ in range(3)]
            read, ours, rehearsed = (min(each) for each in zip(*rounds, strict=True))
            print(
                f"confirm {count:,} records: {ours:.1f} s, pyarrow.csv.read_csv {read:.1f} s, {ours / read:.2f} x"
                f" (bar 1.5 at ten million); peak memory {peak(command, folder)} MiB (bar 1024)",
                flush=True,
            )
            print(
                f"rehearse of a change with them: {rehearsed:.1f} s, {rehearsed / ours:.2f} x (bar 2 at ten million)",
                flush=True,
            )
            log.unlink()


if __name__ == "__main__":
    main()
