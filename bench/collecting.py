"""`collect` on one core: records a second that arrive without loss, over IPFIX and NetFlow version 9 on loopback.

`python bench/collecting.py [SECONDS] [RATE]` (10 s at 60,000 records a second by default).
"""

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
from confirming import proportional

from kiboko.core.records.flow_table import FlowTable
from kiboko.files.logs.flow_pieces import flow_files
from kiboko.files.logs.flow_reader import tables_of

PER_MESSAGE = 20
V9, IPFIX = 9, 10
FIELDS = ((152, 8), (153, 8), (8, 4), (12, 4), (7, 2), (11, 2), (4, 1), (6, 2), (2, 8), (1, 8), (233, 1))
RECORD = struct.Struct("!QQIIHHBHQQB")


def messages(version: int, count: int) -> list[bytes]:
    """A template, and so many messages of records, as an exporter numbers them."""
    now = int(time.time())
    template = struct.pack("!HH", 256, len(FIELDS)) + b"".join(struct.pack("!HH", *each) for each in FIELDS)

    def message(number: int, set_number: int, body: bytes) -> bytes:
        whole = struct.pack("!HH", set_number, 4 + len(body)) + body
        if version == IPFIX:
            return struct.pack("!HHIII", 10, 16 + len(whole), now, number * PER_MESSAGE, 7) + whole
        return struct.pack("!HHIIII", 9, PER_MESSAGE, 1000, now, number, 7) + whole

    found = [message(0, 2 if version == IPFIX else 0, template)]
    for number in range(count):
        rows = range(number * PER_MESSAGE, (number + 1) * PER_MESSAGE)
        body = b"".join(
            RECORD.pack(now * 1000, now * 1000 + 5, 0x0A3D0400 + row % 250, 0x0A3E010A, 32768 + row % 28000, 8883, 6,
                        27, 10, 900, 1)
            for row in rows
        )  # fmt: skip
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


def run(version: int, seconds: float, rate: int, attacked: bool = False) -> None:
    """One exporter for so many seconds, alone or beside an attacker."""
    count = int(seconds * rate / PER_MESSAGE)
    made = messages(version, count)
    cores = sorted(os.sched_getaffinity(0))
    with tempfile.TemporaryDirectory() as folder:
        command = [sys.executable, "-m", "kiboko", "collect", f"{folder}/store", "--flow-port", "0", "--syslog-port",
                   "0" if attacked else "none", "--json", "--stop-after", str(seconds + 4)]  # fmt: skip
        with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as collector:
            os.sched_setaffinity(collector.pid, cores[:1])
            os.sched_setaffinity(0, cores[1:] or cores)
            assert collector.stderr is not None and collector.stdout is not None
            port = int(collector.stderr.readline().rpartition(":")[2])
            stopped = threading.Event()
            collector.stderr.readline()  # where flows come in over connections
            if attacked:
                log_port = int(collector.stderr.readline().rpartition(":")[2])
                threading.Thread(target=attack, args=(port, log_port, stopped), daemon=True).start()
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
                sender.connect(("127.0.0.1", port))
                sender.send(made[0])
                began, sent = time.perf_counter(), 0
                while sent < count:
                    due = min(count, int((time.perf_counter() - began) * rate / PER_MESSAGE))
                    for each in made[sent + 1 : due + 1]:
                        sender.send(each)
                    sent = due
                    time.sleep(0.0005)
                took = time.perf_counter() - began
            stopped.set()
            used = sum(map(float, Path(f"/proc/{collector.pid}/stat").read_text().split()[13:15]))
            memory = proportional(Path(f"/proc/{collector.pid}"))
            report = json.loads(collector.stdout.read())
        stored = sum(of_exporter(table) for path in flow_files([f"{folder}/store"]) for table, _ in tables_of(path))
        os.sched_setaffinity(0, cores)
    got, wanted = stored, count * PER_MESSAGE
    name = ("IPFIX" if version == IPFIX else "NetFlow version 9") + (" beside an attacker" if attacked else "")
    core_seconds = used / os.sysconf("SC_CLK_TCK")
    if attacked:
        told = {each["kind"]: each["count"] for each in report["summary"]["faults"]}
        print("of the attacker: " + "; ".join(f"{kind} {number:,}" for kind, number in told.items()), flush=True)
    print(
        f"collect, {name}: {wanted:,} records sent at {wanted / took:,.0f} a second, {got:,} stored,"
        f" {wanted - got:,} lost (bar 50,000 a second without loss); {core_seconds:.1f} s of one core,"
        f" {memory >> 10} MiB",
        flush=True,
    )


def main() -> None:
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 10
    rate = int(sys.argv[2]) if len(sys.argv) > 2 else 60_000
    for version in (IPFIX, V9):
        run(version, seconds, rate)
    run(IPFIX, seconds, rate, attacked=True)


if __name__ == "__main__":
    main()
