"""A stand-in for a flow exporter: the demo's recorded flows, sent as IPFIX (RFC 7011) to a collector on loopback."""

from __future__ import annotations

import socket
import struct
import threading
import time
from contextlib import AbstractContextManager
from pathlib import Path

import numpy as np

from kiboko.core.flow_table import NO_TIME, FlowTable
from kiboko.core.services import ICMP, WITH_PORTS
from kiboko.demo.background import beside
from kiboko.files.flow_reader import tables_of

ADDRESS, PORT = "127.0.0.1", 47839
_TEMPLATE = 256
_DOMAIN = 61
_AT_ONCE = 20
_WAIT = 30.0
_PAUSE = 0.02
# Element numbers and lengths of the IANA registry, in the order of `_record`.
_FIELDS = ((152, 8), (153, 8), (8, 4), (12, 4), (7, 2), (11, 2), (4, 1), (32, 2), (6, 2), (2, 8), (1, 8), (233, 1),
           (138, 8))  # fmt: skip
_RECORD = struct.Struct("!QQIIHHBHHQQBQ")
_EVENTS = (0, 1, 3)


def exporter(log: Path) -> AbstractContextManager[None]:
    """Send the flows of a log to the demo's collector as soon as it listens, while a block runs."""
    return beside(_export, log)


def _export(log: Path, stopped: threading.Event) -> None:
    records = [_record(table, row) for table, _ in tables_of(log) for row in range(len(table))]
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
        sender.connect((ADDRESS, PORT))
        template = struct.pack("!HH", _TEMPLATE, len(_FIELDS)) + b"".join(struct.pack("!HH", *each) for each in _FIELDS)
        if not _first_sent(sender, _message(0, 2, template), stopped):
            return
        for start in range(0, len(records), _AT_ONCE):
            if stopped.wait(_PAUSE):
                return
            sender.send(_message(start, _TEMPLATE, b"".join(records[start : start + _AT_ONCE])))


def _first_sent(sender: socket.socket, message: bytes, stopped: threading.Event) -> bool:
    """Send a message until somebody listens: until then the kernel refuses the one after it."""
    until = time.monotonic() + _WAIT
    while time.monotonic() < until and not stopped.is_set():
        try:
            sender.send(message)
            time.sleep(0.2)
            sender.send(message)
            return True
        except ConnectionRefusedError:
            continue
    return False


def _message(sequence: int, number: int, body: bytes) -> bytes:
    head = struct.pack("!HHIII", 10, 20 + len(body), int(time.time()), sequence, _DOMAIN)
    return head + struct.pack("!HH", number, 4 + len(body)) + body


def _record(table: FlowTable, row: int) -> bytes:
    """One record of IPv4, as the demo's flows are."""
    protocol, detail = int(table.protocol[row]), int(table.detail[row])
    ends = table.addresses[int(table.source[row])].value, table.addresses[int(table.destination[row])].value
    ports = (max(0, int(table.source_port[row])), detail) if protocol in WITH_PORTS else (0, 0)
    start = int(table.start[row])
    end = start if table.end[row] == np.int64(NO_TIME) else int(table.end[row])
    return _RECORD.pack(
        start, end, *ends, *ports, protocol, detail if protocol == ICMP else 0, max(0, int(table.flags[row])),
        int(table.packets[row]), int(table.octets[row]), _EVENTS[table.event[row]],
        int(table.points[table.point[row]] or 0),
    )  # fmt: skip
