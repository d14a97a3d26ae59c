"""A stand-in for a flow exporter: the demo's recorded flows, sent as IPFIX (RFC 7011) to a collector on loopback."""

from __future__ import annotations

import socket
import threading
import time
from contextlib import AbstractContextManager
from pathlib import Path

from kiboko.demo.background import beside
from kiboko.files.logs.flow_reader import tables_of
from kiboko.files.store.ipfix_export import messages, templates

ADDRESS, PORT = "127.0.0.1", 47839
_WAIT = 30.0
_PAUSE = 0.02


def exporter(log: Path) -> AbstractContextManager[None]:
    """Send the flows of a log to the demo's collector as soon as it listens, while a block runs."""
    return beside(_export, log)


def _export(log: Path, stopped: threading.Event) -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
        sender.connect((ADDRESS, PORT))
        if not _first_sent(sender, templates(), stopped):
            return
        sent = 0
        for table, _ in tables_of(log):
            for message in messages(table, sent):
                if stopped.wait(_PAUSE):
                    return
                sender.send(message)
            sent += len(table)


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
