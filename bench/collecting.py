"""`collect` on one core: records a second that arrive without loss, over IPFIX and NetFlow version 9 on loopback; and
held against the rules of an estate of 10,000 machines as they come.

`python bench/collecting.py [SECONDS] [RATE]` (10 s at 60,000 records a second by default).
"""

import ipaddress
import json
import os
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import numpy as np
import pyarrow.csv
from confirming import proportional
from estate import Estate

from kiboko.core.records.flow_table import FlowTable
from kiboko.files.logs.chosen_files import flow_files
from kiboko.files.logs.flow_reader import tables_of

PER_MESSAGE = 20
V9, IPFIX = 9, 10
_PATIENCE = 90
"""Seconds within which a collector should have caught up, and after which it is ended."""
FIELDS = ((152, 8), (153, 8), (8, 4), (12, 4), (7, 2), (11, 2), (4, 1), (6, 2), (2, 8), (1, 8), (233, 1))
RECORD = struct.Struct("!QQIIHHBHQQB")


Row = tuple[int, int, int, int, int, int]
"""Source and destination address, client port and port, flags of TCP, what was done."""
ACKNOWLEDGED, FORWARDED = 27, 1


def of_demo(count: int) -> list[Row]:
    """As many records of the demo's gauges."""
    return [
        (0x0A3D0400 + row % 250, 0x0A3E010A, 32768 + row % 28000, 8883, ACKNOWLEDGED, FORWARDED) for row in range(count)
    ]


def of_estate(folder: Path, count: int, worst: bool) -> list[Row]:
    """As many records between machines of an estate, whose network file is written to a folder: as they are in its log,
    or (`worst`) all forwarded and answered, which is nearly always a leak that nobody has seen before."""
    estate = Estate(10_000, 2_000, 5)
    (folder / "network.yaml").write_text(json.dumps(estate.network()))
    log = folder / "log.csv"
    estate.log(log, count * 13 // 10, count * 26 // 100, 7)  # a fifth are of IPv6
    names = ["sourceIPv4Address", "destinationIPv4Address", "sourceTransportPort", "destinationTransportPort",
             "tcpControlBits", "firewallEvent"]  # fmt: skip
    table = pyarrow.csv.read_csv(log, convert_options=pyarrow.csv.ConvertOptions(include_columns=names))
    rows = zip(*(table[name].to_pylist() for name in names), strict=True)
    told = (ACKNOWLEDGED, FORWARDED)
    return [(int(ipaddress.IPv4Address(one)), int(ipaddress.IPv4Address(other)), *ports, *(told if worst else seen))
            for one, other, *ports, seen in ((*row[:4], row[4:]) for row in rows) if one][:count]  # fmt: skip


def messages(version: int, rows: list[Row]) -> list[bytes]:
    """A template, and messages of some records, as an exporter numbers them."""
    now = int(time.time())
    template = struct.pack("!HH", 256, len(FIELDS)) + b"".join(struct.pack("!HH", *each) for each in FIELDS)

    def message(number: int, set_number: int, body: bytes) -> bytes:
        whole = struct.pack("!HH", set_number, 4 + len(body)) + body
        if version == IPFIX:
            return struct.pack("!HHIII", 10, 16 + len(whole), now, number * PER_MESSAGE, 7) + whole
        return struct.pack("!HHIIII", 9, PER_MESSAGE, 1000, now, number, 7) + whole

    found = [message(0, 2 if version == IPFIX else 0, template)]
    for number in range(len(rows) // PER_MESSAGE):
        body = b"".join(
            RECORD.pack(now * 1000, now * 1000 + 5, one, other, client, port, 6, flags, 10, 900, event)
            for one, other, client, port, flags, event in rows[number * PER_MESSAGE : (number + 1) * PER_MESSAGE]
        )
        found.append(message(number, 256, body))
    return found


def of_exporter(table: FlowTable) -> int:
    """The records of the good exporter."""
    mine = np.array([(point or "").startswith("127.0.0.1/") for point in table.points])
    return int(mine[table.point].sum()) if len(table) else 0


def attack(flow_port: int, log_port: int, stopped: threading.Event) -> None:
    """What a sender that means harm sends beside the exporter, from an address of its own, a hundred times a second:
    log messages that are slow to search, sets of records of one octet, templates of thousands of fields, new
    domains."""
    now = int(time.time())

    def message(domain: int, *sets: bytes) -> bytes:
        whole = b"".join(struct.pack("!HH", number, 4 + len(body)) + body for number, body in sets)
        return struct.pack("!HHIII", 10, 16 + len(whole), now, 0, domain) + whole

    octet = (2, struct.pack("!HHHH", 256, 1, 4, 1))
    wide = (2, struct.pack("!HH", 257, 16_000) + struct.pack("!HH", 1, 1) * 16_000)
    flow = (2, struct.pack("!HH", 258, len(FIELDS)) + b"".join(struct.pack("!HH", *each) for each in FIELDS))
    row = RECORD.pack(0, 0, 1, 2, 3, 4, 6, 27, 10, 900, 1)
    logs = [b"<13>" + b"a" * 32_000, b"<13>" + b'a="' * 20_000, b"<13>" + b"{" * 60_000, b'<13>{"x":"\\ud800"}']
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
        sender.bind(("127.0.0.2", 0))
        number = 0
        while not stopped.wait(0.01):
            number += 1
            for each in (
                message(1, octet, (256, b"\6" * 60_000)),
                message(number, wide),
                message(number, flow, (258, row)),
            ):
                sender.sendto(each, ("127.0.0.1", flow_port))
            sender.sendto(logs[number % len(logs)], ("127.0.0.1", log_port))


def run(version: int, seconds: float, rate: int, attacked: bool = False, confirming: str = "") -> None:
    """One exporter for so many seconds, alone or beside an attacker; `confirming` holds what comes against the rules of
    an estate: its `log`, or the `worst` of logs."""
    with tempfile.TemporaryDirectory() as estate:
        wanted = int(seconds * rate)
        rows = of_estate(Path(estate), wanted, confirming == "worst") if confirming else of_demo(wanted)
        options = ["--confirm", "-n", f"{estate}/network.yaml"] if confirming else []
        if confirming:  # what takes long is kept from the first time on
            subprocess.run([sys.executable, "-m", "kiboko", "show", "-n", f"{estate}/network.yaml"],
                           capture_output=True, check=False)  # fmt: skip
        sent_to(version, messages(version, rows), seconds, rate, attacked, options)


def used(process: int) -> float:
    """The seconds of processor that a process has used."""
    ticks = sum(map(float, Path(f"/proc/{process}/stat").read_text().split()[13:15]))
    return ticks / os.sysconf("SC_CLK_TCK")


def until_idle(process: int) -> float:
    """Wait until a process has nothing more to do: how many seconds that took."""
    began, before = time.monotonic(), used(process)
    last = began
    while time.monotonic() - last < 2 and time.monotonic() - began < _PATIENCE - 5:
        time.sleep(0.2)
        if used(process) - before > 0.03:  # what it takes to look whether there is anything
            last = time.monotonic()
        before = used(process)
    return last - began


def sent_to(version: int, made: list[bytes], seconds: float, rate: int, attacked: bool, options: list[str]) -> None:
    """Messages sent to a collector with some options, and what came of them."""
    count = len(made) - 1
    cores = sorted(os.sched_getaffinity(0))
    with tempfile.TemporaryDirectory() as folder:
        log_port = "0" if attacked else "none"
        report_as = [] if options else ["--json"]
        stop_after = str(seconds + _PATIENCE)
        command = [sys.executable, "-m", "kiboko", "collect", f"{folder}/store", "--flow-port", "0",
                   "--syslog-port", log_port, "--stop-after", stop_after, *report_as, *options]  # fmt: skip
        with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as collector:
            os.sched_setaffinity(collector.pid, cores[:1])
            os.sched_setaffinity(0, cores[1:] or cores)
            assert collector.stderr is not None and collector.stdout is not None
            port = int(collector.stderr.readline().rpartition(":")[2])
            stopped = threading.Event()
            collector.stderr.readline()  # where flows come in over connections
            if attacked:
                logs_at = int(collector.stderr.readline().rpartition(":")[2])
                threading.Thread(target=attack, args=(port, logs_at, stopped), daemon=True).start()
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
                sender.connect(("127.0.0.1", port))
                sender.send(made[0])
                at_first = used(collector.pid)
                began, sent = time.perf_counter(), 0
                while sent < count:
                    due = min(count, int((time.perf_counter() - began) * rate / PER_MESSAGE))
                    for each in made[sent + 1 : due + 1]:
                        sender.send(each)
                    sent = due
                    time.sleep(0.0005)
                took = time.perf_counter() - began
            stopped.set()
            behind = until_idle(collector.pid)
            worked = used(collector.pid) - at_first
            memory = proportional(Path(f"/proc/{collector.pid}"))
            collector.terminate()
            report = collector.stdout.read()
        stored = sum(of_exporter(table) for path in flow_files([f"{folder}/store"]) for table, _ in tables_of(path))
        os.sched_setaffinity(0, cores)
    got, wanted = stored, count * PER_MESSAGE
    name = ("IPFIX" if version == IPFIX else "NetFlow version 9") + (" beside an attacker" if attacked else "")
    if options:
        said = [
            line.strip() for line in report.splitlines() if "not held against" in line or line.startswith("DISAGREE")
        ]
        name += f", --confirm on an estate ({'; '.join(said[:3])})"
    if attacked:
        told = {each["kind"]: each["count"] for each in json.loads(report)["summary"]["faults"]}
        print("of the attacker: " + "; ".join(f"{kind} {number:,}" for kind, number in told.items()), flush=True)
    print(
        f"collect, {name}: {wanted:,} records sent at {wanted / took:,.0f} a second, {got:,} stored,"
        f" {wanted - got:,} lost (bar 50,000 a second without loss); {worked:.1f} s of one core,"
        f" {wanted / worked:,.0f} records for each; idle {behind:.1f} s after the last; {memory >> 10} MiB",
        flush=True,
    )


def main() -> None:
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 10
    rate = int(sys.argv[2]) if len(sys.argv) > 2 else 60_000
    for version in (IPFIX, V9):
        run(version, seconds, rate)
    run(IPFIX, seconds, rate, attacked=True)
    for log in ("log", "worst"):
        run(IPFIX, seconds, rate, confirming=log)


if __name__ == "__main__":
    main()
