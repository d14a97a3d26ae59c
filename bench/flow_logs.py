"""Large flow logs of the Mto network, made up but of realistic shape: `python bench/flow_logs.py FILE RECORDS`.

Most records are telemetry and its replies; readers of the bulletin come from many addresses and ports, scanners knock
on everything and are denied, a little is odd. The same seed gives the same log.
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute
import pyarrow.csv
import pyarrow.parquet

BATCH = 500_000
BEGIN = 1_795_166_400_000  # 2026-11-20 10:40 UTC, in milliseconds
GAUGES = ["10.61.4.13", "10.61.4.14", "10.61.4.17", "10.61.6.12"]
SHARES = {"telemetry": 0.55, "readers": 0.25, "scans": 0.12, "desk": 0.06, "odd": 0.02}


def batch(chance: np.random.Generator, count: int, begin: int) -> pa.Table:
    """`count` records, half of them replies, in the order of time."""
    half = count // 2
    kind = chance.choice(len(SHARES), half, p=list(SHARES.values()))
    readers = np.array(
        [f"203.0.113.{n}" for n in range(210, 255)] + [f"198.18.{n >> 8}.{n & 255}" for n in range(20000)]
    )
    scanned = np.array([*GAUGES, "10.61.4.101", "10.61.5.102", "10.62.1.20"])
    source = np.select(
        [kind == 0, kind == 1, kind == 2, kind == 3],
        [chance.choice(GAUGES, half), chance.choice(readers, half), chance.choice(readers, half),
         chance.choice(["10.63.1.11", "10.63.1.12"], half)],
        chance.choice(["10.61.5.18", "10.62.2.20"], half),
    )  # fmt: skip
    destination = np.select(
        [kind == 0, kind == 1, kind == 2, kind == 3],
        [np.full(half, "10.62.1.11"), np.full(half, "203.0.113.20"), chance.choice(scanned, half),
         chance.choice(["10.61.4.13", "10.61.4.17", "10.62.2.20"], half)],
        chance.choice(["10.61.5.102", "10.62.2.30"], half),
    )  # fmt: skip
    port = np.select(
        [kind == 0, kind == 1, kind == 2, kind == 3],
        [np.full(half, 8883), np.full(half, 443), chance.choice([23, 80, 3389, 5432, 8080], half),
         chance.choice([22, 8443], half)],
        chance.choice([9100, 5432], half),
    )  # fmt: skip
    client = np.where(
        chance.random(half) < 0.97, chance.integers(49152, 61000, half), chance.integers(32768, 49152, half)
    )
    denied = (kind == 2) | ((kind == 3) & (port == 8443))
    start = begin + np.sort(chance.integers(0, half // 20 + 1, half))
    length = chance.exponential(4000, half).astype(np.int64)
    packets = np.where(denied, 1, 4 + chance.poisson(8, half))
    flags = np.where(denied, 2, 27)
    answered = ~denied
    columns = {
        "flowStartMilliseconds": np.concatenate([start, start[answered] + 2]),
        "flowEndMilliseconds": np.concatenate([start + length, (start + length)[answered]]),
        "sourceIPv4Address": np.concatenate([source, destination[answered]]),
        "destinationIPv4Address": np.concatenate([destination, source[answered]]),
        "sourceTransportPort": np.concatenate([client, port[answered]]),
        "destinationTransportPort": np.concatenate([port, client[answered]]),
        "protocolIdentifier": np.full(half + int(answered.sum()), 6),
        "tcpControlBits": np.concatenate([flags, flags[answered]]),
        "packetDeltaCount": np.concatenate([packets, packets[answered] - 1]),
        "octetDeltaCount": np.concatenate([packets * 120, packets[answered] * 300]),
        "firewallEvent": np.concatenate([np.where(denied, 3, 1), np.ones(int(answered.sum()), dtype=int)]),
    }
    order = np.argsort(columns["flowStartMilliseconds"], kind="stable")
    return pa.table({name: values[order] for name, values in columns.items()})


def write(path: Path, count: int, seed: int = 0) -> None:
    """Write about `count` records as CSV or Parquet, by the file's name."""
    chance = np.random.default_rng(seed)
    begin, left, writer = BEGIN, count, None
    try:
        while left > 0:
            table = batch(chance, int(min(BATCH, left) * 1.09) + 2, begin)
            table = table.slice(0, min(table.num_rows, left))
            begin, left = begin + BATCH // 40, left - table.num_rows
            if path.suffix == ".parquet":
                writer = writer or pyarrow.parquet.ParquetWriter(path, table.schema)
                writer.write_table(table)
            else:
                times = ("flowStartMilliseconds", "flowEndMilliseconds")
                text = [
                    pyarrow.compute.strftime(table[name].cast(pa.timestamp("ms")), "%Y-%m-%d %H:%M:%S")
                    for name in times
                ]
                table = table.set_column(0, times[0], text[0]).set_column(1, times[1], text[1])
                writer = writer or pyarrow.csv.CSVWriter(
                    path, table.schema, write_options=pyarrow.csv.WriteOptions(quoting_style="none")
                )
                writer.write_table(table)
    finally:
        if writer is not None:
            writer.close()


if __name__ == "__main__":
    write(Path(sys.argv[1]), int(sys.argv[2]))
