"""The evaluator against a plain loop over the walk, and `confirm` over Parquet against reading the file.

`python bench/judging.py [RECORDS]` (ten million for Parquet by default; the loop takes the first ten thousand).
"""

import subprocess
import sys
import tempfile
from pathlib import Path

import flow_logs
import pyarrow.csv
import pyarrow.parquet
from confirming import peak
from measure import seconds

from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.header.ranges import RangeSet
from kiboko.core.walk.walk import Walker
from kiboko.demo.data import write_demo
from kiboko.files.logs.flow_reader import tables_of
from kiboko.files.network.network_file import load_network

LOOP = 10_000
READ = """
import pyarrow.parquet, sys, time
began = time.perf_counter()
pyarrow.parquet.read_table(sys.argv[1])
print(time.perf_counter() - began)
"""


def plain_loop(folder: Path, log: Path) -> None:
    """Seconds a record, both ways."""
    walker = Walker(load_network(str(folder / "network.yaml")))
    table = next(table for table, _ in tables_of(log))
    few = table.taken(slice(0, LOOP))
    records = [few.record(index) for index in range(len(few))]

    def one_by_one() -> None:
        """A walk for each record, and nothing remembered."""
        for record in records:
            port = RangeSet.one(record.source_port) if record.source_port is not None else None
            walker.walk(walker.directory.endpoint(record.source), record.destination, record.service, port)

    slow = seconds(one_by_one) / len(records)
    evaluator = Evaluator(Comparison(walker))
    evaluator.tallies(few)
    fast = min(seconds(lambda: evaluator.tallies(table)) for _ in range(3)) / len(table)
    print(
        f"a record judged: {slow * 1e6:.0f} us by a loop over the walk, {fast * 1e6:.2f} us by columns,"
        f" {slow / fast:,.0f} x (bar 100)",
        flush=True,
    )


def parquet(folder: Path, log: Path, count: int) -> None:
    """`confirm` over Parquet against pyarrow's read of it."""
    whole = folder / "log.parquet"
    with pyarrow.csv.open_csv(log) as reader, pyarrow.parquet.ParquetWriter(whole, reader.schema) as writer:
        for batch in reader:
            writer.write_batch(batch)
    command = [sys.executable, "-m", "kiboko", "confirm", "--flows", str(whole)]

    def reading() -> float:
        done = subprocess.run([sys.executable, "-c", READ, str(whole)], capture_output=True, check=True)
        return float(done.stdout)

    def confirm() -> object:
        return subprocess.run(command, cwd=folder, stdout=subprocess.DEVNULL, check=False)

    pairs = [(reading(), seconds(confirm)) for _ in range(3)]
    read, ours = min(pair[0] for pair in pairs), min(pair[1] for pair in pairs)
    print(
        f"confirm {count:,} records of Parquet: {ours:.1f} s, pyarrow.parquet.read_table {read:.2f} s,"
        f" {ours / read:.2f} x (bar 2.5); peak memory {peak(command, str(folder))} MiB",
        flush=True,
    )


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000_000
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_demo(folder)
        log = folder / "log.csv"
        flow_logs.write(log, count)
        plain_loop(folder, log)
        parquet(folder, log, count)


if __name__ == "__main__":
    main()
