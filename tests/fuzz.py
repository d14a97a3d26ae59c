"""Damaged datagrams, log messages and files for as long as is asked: none may raise anything but an input error.

`python -m tests.fuzz [SECONDS] [SEED]`; `make fuzz` runs ten minutes.
"""

import gzip
import io
import json
import random
import sys
import tempfile
import time
from collections import Counter
from datetime import UTC, datetime
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet

from kiboko.core.errors import InputError
from kiboko.files.collection.intake import Intake
from kiboko.files.elements.column_map import USUAL, Column, ColumnMap
from kiboko.files.logs.flow_reader import tables_of
from kiboko.wire.framing import Frames
from tests.export_messages import FLOW, a_flow, data, message, options, template, v9
from tests.files.test_flow_reader import HEADER, ROWS
from tests.files.test_syslog import KERNEL

NOW = datetime(2026, 11, 20, 10, tzinfo=UTC)
NESTED = ColumnMap(
    (Column("a", "sourceIPv4Address"), Column("b", "destinationIPv4Address"), Column("p", "protocolIdentifier"),
     Column("d", "destinationTransportPort"), Column("t", "flowStartMilliseconds", form="%Y-%m-%d %H:%M:%S")),
    ("r[]", "f[]"), ",", ("a", "b", "p", "d", "t"), (("p", ("void",)),),
)  # fmt: skip


def datagrams():
    names = (
        "flowStartSysUpTime",
        "flowEndSysUpTime",
        "sourceIPv6Address",
        "destinationIPv6Address",
        "protocolIdentifier",
    )
    row = a_flow(flowStartSysUpTime=5, flowEndSysUpTime=9, samplingInterval=10, observationDomainId=7)
    named = ("interfaceName", *FLOW)
    return [
        message(0, template(256, FLOW), data(256, FLOW, [a_flow(n) for n in range(9)])),
        message(9, data(256, FLOW, [a_flow(n) for n in range(3)])),
        message(12, template(260, named), data(260, named, [a_flow(1), a_flow(2, interfaceName="x" * 90)])),
        message(12, options(400, ("observationDomainId",), ("samplingInterval",)),
                data(400, ("observationDomainId", "samplingInterval"), [row])),
        v9(1, 3, template(300, names, 9), data(300, names, [row, row])),
        b"\x00\x05\x00\x01" + bytes(20) + bytes(range(48)),
    ]  # fmt: skip


def logs():
    return [
        f"<4>Jan  2 03:00:00 gate kernel: [  12.3] drop: {KERNEL}".encode(),
        b'<165>1 2026-01-02T03:04:05.003Z host app 77 ID [a@1 src="192.0.2.9" dst="10.1.1.10" proto="tcp" dpt="22"] x',
        b'<13>1 - - - - - - {"src": "192.0.2.9", "dst": "10.1.1.10", "proto": 17, "dpt": 53, "n": [1, {"a": 2}]}',
        b"<13>src=192.0.2.9 dst=2001:db8::1 proto=udp dpt=53 start=2026-01-02T03:04:05Z",
    ]


def files():
    rows = [dict(zip(HEADER.strip().split(","), row.strip().split(","), strict=True)) for row in ROWS]
    text = (HEADER + "".join(ROWS) * 4).encode()
    parquet, arrow = io.BytesIO(), io.BytesIO()
    table = pa.Table.from_pylist(rows)
    pa.parquet.write_table(table, parquet)
    with pa.ipc.new_stream(arrow, table.schema) as writer:
        writer.write_table(table)
    tuples = ["192.0.2.9,10.1.1.10,tcp,22,2026-01-02 03:04:05", "192.0.2.9,10.1.1.10,void,22,"]
    nested = {"r": [{"f": tuples, "x": 1}, {"f": [{"a": "192.0.2.9", "b": "10.1.1.10", "p": 6, "d": 22}]}]}
    lines = "\n".join(json.dumps(row) for row in rows).encode()
    return [
        (USUAL, text), (USUAL, gzip.compress(text)), (USUAL, pa.Codec("zstd").compress(text, asbytes=True)),
        (USUAL, lines), (USUAL, json.dumps(rows, indent=1).encode()), (USUAL, parquet.getvalue()),
        (USUAL, arrow.getvalue()), (USUAL, b"".join(datagrams()[:4])), (USUAL, gzip.compress(b"".join(datagrams()[:4]))),
        (NESTED, json.dumps(nested).encode()), (NESTED, json.dumps(nested, indent=1).encode()),
        (USUAL, gzip.compress(parquet.getvalue())),
    ]  # fmt: skip


def damaged(octets, chance):
    """Some octets with a few things wrong."""
    found = bytearray(octets)
    for _ in range(chance.choice((0, 1, 1, 2, 4, 16))):
        at = chance.randrange(len(found) + 1)
        kind = chance.randrange(6)
        if kind == 0:
            found = found[:at]
        elif kind == 1:
            found[at:at] = chance.randbytes(chance.randrange(1, 9))
        elif kind == 2 and at < len(found):
            found[at] = chance.choice((0, 255, chance.randrange(256)))
        elif kind == 3:
            found[at : at + chance.randrange(1, 40)] = b""
        elif kind == 4:
            found[at:at] = found[chance.randrange(len(found) + 1) :][: chance.randrange(1, 80)]
        else:
            found[at:at] = chance.choice((b"\xff" * 4, b"\n", b'"', b"[" * 200, b"9" * 30, b"\0", b"{", "é".encode()))
    return bytes(found)


def run(seconds, seed):
    """Go on for so many seconds; how many of each kind were tried."""
    chance, tried = random.Random(seed), Counter()
    until = time.monotonic() + seconds
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "log"
        while time.monotonic() < until:
            intake, frames = Intake(), Frames()
            for each in chance.choices(datagrams(), k=20):
                intake.flow_message(damaged(each, chance), f"192.0.2.{chance.randrange(4)}", NOW)
                if chance.random() < 0.2:  # as it is when time passes between two of them
                    intake.take()
            stream = b"".join(damaged(each, chance) + b"\n" for each in chance.choices(logs(), k=20))
            for each in frames.feed(stream):
                intake.log_message(each, "192.0.2.9", NOW)
            intake.take()
            tried["datagrams"] += 20
            tried["log messages"] += 20
            for columns, octets in chance.choices(files(), k=4):
                path.write_bytes(damaged(octets, chance))
                tried["files"] += 1
                try:
                    for table, _ in tables_of(path, columns=columns):
                        for index in range(min(3, len(table))):
                            table.record(index)
                except InputError:
                    tried["files refused"] += 1
    return tried


if __name__ == "__main__":
    length = float(sys.argv[1]) if len(sys.argv) > 1 else 600
    began = int(sys.argv[2]) if len(sys.argv) > 2 else int(time.time())
    print(f"seed {began}, {length:.0f} s: ", ", ".join(f"{n:,} {kind}" for kind, n in run(length, began).items()))
