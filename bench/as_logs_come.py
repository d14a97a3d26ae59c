"""The log of an estate as logs really come, against the same records in one plain file: taken at observation points, in
a thousand files, from behind shared addresses, as lines of a packet filter; and of both directions without TCP flags,
written late, and by two routers that share the load, against the same written at once by one.

`python bench/as_logs_come.py [INSTANCES] [RECORDS]` (10,000 and 500,000 by default). Prints ratios of one run of
`confirm`, and its peak memory.
"""

from __future__ import annotations

import ipaddress
import json
import sys
import tempfile
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv
from confirming import peak
from estate import Estate, program, run
from measure import ratio, report

PLAIN = "in one plain file"
FILES, SHARED = 1_000, 4
A_SECOND, LATE = 5_000, 15_000
"""Requests a second, and by how many milliseconds at most a record is late."""


def points_of(values: dict[str, Any]) -> dict[str, str]:
    """The number of the observation point at the subnet of each block."""
    return {
        block: str(number) for number, subnet in enumerate(values["subnets"].values(), 1) for block in subnet["cidr"]
    }


def at_points(values: dict[str, Any], log: pa.Table, path: Path) -> None:
    """Each record at the subnet of its sender, and every other one at that of its receiver as well."""
    known = {ipaddress.ip_network(block): point for block, point in points_of(values).items()}
    by_start = {(net.version, net.network_address): point for net, point in known.items()}
    sizes = {net.version: net.prefixlen for net in known}

    def point(text: str) -> str:
        address = ipaddress.ip_address(text)
        net = ipaddress.ip_network((address, sizes[address.version]), strict=False)
        return by_start.get((net.version, net.network_address), "")

    columns = []
    for side in ("source", "destination"):
        four, six = (log[f"{side}{family}Address"].to_pylist() for family in ("IPv4", "IPv6"))
        ends = [one or other for one, other in zip(four, six, strict=True)]
        told = {each: point(each) for each in dict.fromkeys(ends)}
        columns.append(pa.array([told[each] for each in ends]))
    sent = log.append_column("observationPointId", columns[0])
    received = log.append_column("observationPointId", columns[1]).take(np.arange(0, log.num_rows, 2))
    both = pa.concat_tables([sent, received]).sort_by("flowStartMilliseconds").slice(0, log.num_rows)
    pyarrow.csv.write_csv(both, path, pyarrow.csv.WriteOptions(quoting_style="none"))


def from_behind(log: pa.Table, path: Path) -> None:
    """As many records of a few shared addresses with the internet."""
    draw = np.random.default_rng(3)
    count = log.num_rows
    near = pa.array([f"198.51.100.{number}" for number in range(1, SHARED + 1)]).take(draw.integers(0, SHARED, count))
    far = [str(ipaddress.ip_address(int(number))) for number in draw.integers(0x08000000, 0x09000000, count)]
    changed = {"sourceIPv4Address": near, "destinationIPv4Address": pa.array(far)}
    for name in ("sourceIPv6Address", "destinationIPv6Address"):
        changed[name] = pa.array([""] * count)
    for name, column in changed.items():
        log = log.set_column(log.column_names.index(name), name, column)
    pyarrow.csv.write_csv(log, path, pyarrow.csv.WriteOptions(quoting_style="none"))


def in_files(path: Path, folder: Path) -> None:
    """The lines of a log in a thousand files."""
    folder.mkdir()
    header, *lines = path.read_bytes().splitlines(keepends=True)
    for number in range(FILES):
        part = lines[number * len(lines) // FILES : (number + 1) * len(lines) // FILES]
        (folder / f"{number:04}.csv").write_bytes(b"".join([header, *part]))


def both_ways(log: pa.Table, path: Path, late: int, exporters: int = 1) -> None:
    """The records without flags, with an answer to nearly each that passed, in the order in which they are written: so
    many milliseconds late at most, by one exporter, or in turn by several, each with a file in the folder `path`."""
    draw = np.random.default_rng(4)
    log = log.drop_columns("tcpControlBits")
    start = int(log["flowStartMilliseconds"][0].as_py()) + np.arange(log.num_rows) * 1000 // A_SECOND
    is_answered = (log["firewallEvent"].to_numpy() == 1) & (draw.random(log.num_rows) < 0.98)
    is_answered &= np.isin(log["protocolIdentifier"].to_numpy(), (6, 17))

    def at(times: np.ndarray, table: pa.Table) -> pa.Table:
        for name, moved in (("flowStartMilliseconds", 0), ("flowEndMilliseconds", 400)):
            table = table.set_column(table.column_names.index(name), name, pa.array(times + moved))
        return table

    turned = [
        name.replace("source", "_").replace("destination", "source").replace("_", "destination")
        for name in log.column_names
    ]
    rows = np.flatnonzero(is_answered)
    replies = at(start[rows] + 1, log.take(rows).rename_columns(turned).select(log.column_names))
    both = pa.concat_tables([at(start, log), replies])
    written = np.concatenate([start, start[rows] + 1]) + draw.uniform(0, late, len(both))
    both = both.take(np.argsort(written, kind="stable"))
    if exporters == 1:
        pyarrow.csv.write_csv(both, path)
        return
    path.mkdir()
    whose = draw.integers(0, exporters, len(both))
    for number in range(exporters):
        pyarrow.csv.write_csv(both.take(np.flatnonzero(whose == number)), path / f"{number}.csv")


def as_lines(log: pa.Table, path: Path) -> None:
    """The records of IPv4 as lines of the kernel's packet filter."""
    names = ("flowStartMilliseconds", "sourceIPv4Address", "destinationIPv4Address", "sourceTransportPort",
             "destinationTransportPort")  # fmt: skip
    with path.open("w") as stream:
        for start, source, destination, port, to in zip(*(log[name].to_pylist() for name in names), strict=True):
            if source:
                at = datetime.fromtimestamp(start / 1000, UTC).strftime("%Y-%m-%dT%H:%M:%S+00:00")
                stream.write(f"{at} fw kernel: drop: IN=eth0 OUT=eth1 SRC={source} DST={destination} LEN=60 TTL=63"
                             f" PROTO=TCP SPT={port} DPT={to} WINDOW=64240 SYN URGP=0\n")  # fmt: skip


def with_more(values: dict[str, Any]) -> dict[str, Any]:
    """The estate with an observation point at every subnet, and a shared address at each of its sites."""
    doors = {
        f"exit-{number}": {"kind": "nat", "network": f"site-{number}", "address": f"198.51.100.{number + 1}"}
        for number in range(SHARED)
    }
    points = {str(number): name for number, name in enumerate(values["subnets"], 1)}
    return values | {"gateways": values["gateways"] | doors, "observation_points": points}


def main() -> None:
    instances = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    records = int(sys.argv[2]) if len(sys.argv) > 2 else 500_000
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        estate = Estate(instances, 2_000, 7)
        values = estate.network()
        (folder / "network.yaml").write_text(json.dumps(with_more(values)))
        plain = folder / "plain.csv"
        estate.log(plain, records, records // 5, 1)
        log = pa.csv.read_csv(plain)
        at_points(values, log, folder / "points.csv")
        from_behind(log, folder / "behind.csv")
        in_files(plain, folder / "files")
        as_lines(log, folder / "lines.log")
        both_ways(log, folder / "prompt.csv", 0)
        both_ways(log, folder / "late.csv", LATE)
        both_ways(log, folder / "two", LATE, 2)
        commands = {
            name: program(folder, "confirm", "--flows", str(folder / name), cache=folder / "cache")
            for name in ("plain.csv", "points.csv", "files", "behind.csv", "lines.log", "prompt.csv", "late.csv", "two")
        }
        run(commands["plain.csv"])
        for name, what, beside, than in (
            ("points.csv", f"{records:,} records at {len(values['subnets'])} observation points", "plain.csv", PLAIN),
            ("files", f"{records:,} records in {FILES:,} files", "plain.csv", PLAIN),
            ("behind.csv", f"{records:,} records from behind {SHARED} shared addresses", "plain.csv", PLAIN),
            ("lines.log", "four in five of them as lines of a packet filter", "plain.csv", PLAIN),
            (
                "late.csv",
                f"both directions of them, written to {LATE / 1000:g} s late",
                "prompt.csv",
                "written at once",
            ),
            ("two", "both directions, late, by two that share the load", "prompt.csv", "written at once by one"),
        ):
            theirs = ratio(lambda name=name: run(commands[name]), lambda beside=beside: run(commands[beside]), 3)
            report(f"{what} / {than}", *theirs, None)
            print(f"its peak memory: {peak(commands[name], str(folder))} MiB", flush=True)


if __name__ == "__main__":
    main()
