"""Records of a real exporter, of real packets through the replica, held against the rules: no finding but the fault.

The exporter does not know of any of this: it records later fragments by whatever stands where ports and types would,
parts of connections, and both directions apart.
"""

import dataclasses
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from collections import Counter
from pathlib import Path

from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.records.flow_table import table_of
from kiboko.core.walk.walk import Walker
from kiboko.files.logs.flow_reader import tables_of
from kiboko.files.network.network_file import load_network
from tests.helpers import kiboko
from tests.namespaces import why_not

POINTS = {"bank-east": "11", "bank-west": "12", "hub-front": "13", "hub-core": "14", "desk-room": "15"}
SENDERS = ("gauge-03", "gauge-07", "gauge-08", "relay-1", "ingest-1", "bulletin", "database", "desk-1")
UNFILTERED = "relay-2"
EXPORTER = """
daemonize: false
pcap_interface: br0
plugins: nfprobe
nfprobe_receiver: 127.0.0.1:9995
nfprobe_version: 10
nfprobe_timeouts: tcp=3:tcp.rst=3:tcp.fin=3:udp=3:icmp=3:general=3:maxlife=3600:expint=1
aggregate: src_host, dst_host, src_port, dst_port, proto, tcpflags
"""
RECEIVER = """
import socket, sys
came = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
came.bind(("127.0.0.1", 9995))
with open(sys.argv[1], "wb", buffering=0) as kept:
    while True:
        kept.write(came.recv(65535))
"""
SENDER = """
import random, socket, struct, sys, threading, time

chance, targets = random.Random(sys.argv[1]), sys.argv[2:]

def connect(address, port, how):
    with socket.socket() as made:
        made.settimeout(1)
        try:
            made.connect((address, port))
            made.sendall(b"x" * how)
            if how == 1:
                made.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
        except OSError:
            pass

def ask(address, port, size):
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as made:
        made.settimeout(0.3)
        try:
            made.connect((address, port))
            made.send(bytes(size))
            made.recv(100)
        except OSError:
            pass

def ping(address, _, size):
    body = struct.pack("!HH", chance.randrange(65536), 1) + bytes(index & 255 for index in range(size))
    total = sum(struct.unpack(f"!{len(body) // 2}H", body)) + 0x0800
    total = (total >> 16) + (total & 0xFFFF)
    with socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_ICMP) as made:
        try:
            made.sendto(struct.pack("!BBH", 8, 0, ~(total + (total >> 16)) & 0xFFFF) + body, (address, 0))
        except OSError:
            pass

running = []
for number in range(30):
    how, ports, sizes = chance.choice(((connect, (22, 443, 8883, 9100, 5432), (1, 400, 5000)),
                                       (ask, (53, 123, 514, 5000), (10, 4000)), (ping, (0,), (56, 4000))))
    job = connect, targets[0], 9100, 400
    if number:
        job = how, chance.choice(targets), chance.choice(ports), chance.choice(sizes)
    running.append(threading.Thread(target=job[0], args=job[1:]))
    running[-1].start()
    time.sleep(0.05)
for each in running:
    each.join()
"""


@unittest.skipIf(why_not() is not None, why_not() or "")
@unittest.skipUnless(shutil.which("pmacctd"), "pmacctd is not installed")
class RealExporter(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        kiboko("demo", "--only-write", self.folder)
        self.environment = {"XDG_RUNTIME_DIR": str(self.folder)}

    def at(self, name, *command):
        """A command that is started somewhere in the replica; it goes with the replica."""
        return subprocess.Popen(
            [sys.executable, "-m", "kiboko", "replica", "at", name, *map(str, command)], cwd=self.folder,
            env={**os.environ, **self.environment}, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip

    def records(self):
        """What was exported, by the point at which it was recorded."""
        found = []
        for subnet, point in POINTS.items():
            path = self.folder / f"{subnet}.ipfix"
            for table, _ in tables_of(path) if path.exists() and path.stat().st_size else ():
                found += [dataclasses.replace(table.record(row), point=point) for row in range(len(table))]
        return [dataclasses.replace(each, line=line) for line, each in enumerate(found, 1)]

    def test_only_what_is_wrong_is_found(self):
        topology = load_network(str(self.folder / "network.yaml"))
        targets = [str(each.addresses[0]) for instance in topology.instances.values() if instance.running
                   for each in instance.interfaces if each.addresses]  # fmt: skip
        (own,) = [str(address) for address in topology.instances[UNFILTERED].interfaces[0].addresses]
        built = kiboko(
            "replica", "build", "--fault", f"not-enforced={UNFILTERED}", cwd=self.folder, env=self.environment
        )
        self.addCleanup(kiboko, "replica", "remove", cwd=self.folder, env=self.environment)
        self.assertEqual(0, built.returncode, built.stderr)
        (self.folder / "exporter.conf").write_text(EXPORTER)
        started = []
        for subnet in POINTS:
            started.append(self.at(subnet, sys.executable, "-c", RECEIVER, self.folder / f"{subnet}.ipfix"))
            started.append(self.at(subnet, "pmacctd", "-f", self.folder / "exporter.conf"))
        time.sleep(4)
        sent = [self.at(name, sys.executable, "-c", SENDER, name, own, *targets) for name in SENDERS]
        for each in sent:
            self.assertEqual(0, each.wait(120))
        before, records = -1, self.records()
        while not records or len(records) > before:  # until nothing more comes
            time.sleep(5)
            before, records = len(records), self.records()
        kiboko("replica", "remove", cwd=self.folder, env=self.environment)
        for each in started:
            each.wait(30)

        judged = Evaluator(Comparison(Walker(topology))).judge(table_of(records))
        found = [judged.concluded[code] for code in judged.conclusion.tolist()]
        ends = [{str(record.source), str(record.destination)} for record in records]
        told = Counter(each.status for each in found)
        odd = [(str(record), each) for record, each, mine in zip(records, found, ends, strict=True)
               if each.status in ("leak", "break") and own not in mine]  # fmt: skip
        self.assertEqual([], odd[:3], json.dumps(told))
        self.assertGreater(told["leak"], 0, "what is not enforced is found")
        self.assertEqual(0, told["break"])
        self.assertGreater(len(records), 200)
        fragments = [each for record, each in zip(records, found, strict=True)
                     if record.service.protocol == 1 and record.service.detail >> 8 not in (0, 3, 8)]  # fmt: skip
        self.assertTrue(fragments, "some pings were large")
        self.assertEqual({"unsure"}, {each.status for each in fragments})


if __name__ == "__main__":
    unittest.main()
