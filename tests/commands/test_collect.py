"""The built program receives what real senders send, over every transport, and keeps it."""

import contextlib
import json
import random
import re
import shutil
import signal
import socket
import ssl
import subprocess
import sys
import tempfile
import time
import unittest
from collections import Counter
from dataclasses import replace
from pathlib import Path

import trustme

from kiboko.core.errors import InputError
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.records.flow_table import milliseconds, table_of
from kiboko.core.walk.walk import Walker
from kiboko.files.logs.chosen_files import flow_files
from kiboko.files.logs.flow_reader import tables_of
from tests.captures import ACK, FIN_ACK, PSH_ACK, SYN, SYN_ACK, capture, echo_request, fragments, packet, tcp, udp
from tests.core.test_evaluator import random_records
from tests.export_messages import FLOW, a_flow, data, message, template
from tests.files.test_syslog import KERNEL
from tests.helpers import a_filter, base, kiboko, load
from tests.random_networks import random_network

PAIRS = "src=192.0.2.9 dst=10.1.1.10 proto=tcp spt=%d dpt=22 action=deny bytes=60"
PMACCTD = """
daemonize: false
pcap_savefile: {capture}
plugins: nfprobe
nfprobe_receiver: {target}
nfprobe_version: {version}
aggregate: src_host, dst_host, src_port, dst_port, proto, tcpflags
"""


class Collecting(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.store = self.folder / "store"

    @contextlib.contextmanager
    def collector(self, *options):
        """The program at ports that are free; yields it with the ports by transport, and ends it."""
        command = [
            sys.executable,
            "-m",
            "kiboko",
            "collect",
            self.store,
            "--flow-port",
            "0",
            "--syslog-port",
            "0",
            *options,
        ]
        stops = [each for each in options if each == "--json"]
        with subprocess.Popen(
            [*map(str, command)], cwd=self.folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
        ) as process:
            ports = {}
            wanted = {"flows udp", "flows tcp", "udp", "tcp"}
            wanted |= {"tls", "flows tls"} if "--certificate" in options else set()
            try:
                while set(ports) != wanted:
                    line = process.stderr.readline()
                    self.assertTrue(line, "the collector ended too soon")
                    kind = ("flows " if "IPFIX" in line else "") + line.split()[-2]
                    ports[kind] = int(line.rpartition(":")[2])
                process.ports = ports | {"flows": ports["flows udp"]}
                yield process
                self.end(process, stops)
            finally:
                if process.poll() is None:
                    process.kill()

    def end(self, process, stops):
        if process.poll() is not None:
            return
        time.sleep(0.4)
        process.send_signal(signal.SIGTERM)
        process.output, process.errors = process.communicate(timeout=120)
        process.report = json.loads(process.output) if stops else None

    def send(self, port, *messages):
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
            for each in messages:
                sender.sendto(each, ("127.0.0.1", port))

    def records(self):
        tables = [table for path in flow_files([self.store]) for table, _ in tables_of(path)]
        return [table.record(index) for table in tables for index in range(len(table))]

    def faults(self, process):
        """What the report counts as wrong, but for the clock of messages from another year."""
        found = {each["kind"]: each["count"] for each in process.report["summary"]["faults"]}
        return {kind: count for kind, count in found.items() if "clock" not in kind}

    def wait_for_records(self, number):
        def are_there():
            with contextlib.suppress(InputError):  # the store has no file yet
                return len(self.records()) >= number
            return False

        wait_for(are_there)

    def ports_received(self):
        return sorted(record.source_port for record in self.records())


class FlowExport(Collecting):
    def test_records_arrive_whole_and_are_counted(self):
        with self.collector("--json") as process:
            self.send(process.ports["flows"], message(0, template(256, FLOW)))
            for number in range(50):
                self.send(
                    process.ports["flows"],
                    message(20 * number, data(256, FLOW, [a_flow(20 * number + n) for n in range(20)])),
                )
        summary = process.report["summary"]
        self.assertEqual((process.returncode, summary["records"], summary["packets"]), (0, 1000, 10_000))
        self.assertEqual(self.ports_received(), list(range(40000, 41000)))
        self.assertEqual(summary["messages"]["messages"], 51)

    def test_messages_over_a_connection_whatever_their_pieces(self):
        with self.collector("--json") as process, socket.create_connection(
            ("127.0.0.1", process.ports["flows tcp"])
        ) as one, socket.create_connection(("127.0.0.1", process.ports["flows tcp"])) as other:  # fmt: skip
            # Two connections, the same template number, other fields: each has its own.
            short = FLOW[:7]
            whole = message(0, template(256, FLOW)) + message(0, data(256, FLOW, [a_flow(n) for n in range(5)]))
            for at in range(0, len(whole), 7):
                one.sendall(whole[at : at + 7])
            other.sendall(message(0, template(256, short), data(256, short, [a_flow(100)])))
            one.sendall(message(5, data(256, FLOW, [a_flow(5)])) + message(6, data(256, FLOW, [a_flow(6)]))[:-1])
            self.wait_for_records(7)
        self.assertEqual(self.ports_received(), [*range(40000, 40006), 40100])
        self.assertEqual(self.faults(process), {"message cut short": 1})

    def test_a_stream_that_is_none_is_ended_and_said(self):
        with self.collector("--json") as process:
            with socket.create_connection(("127.0.0.1", process.ports["flows tcp"]), timeout=5) as sender:
                sender.sendall(message(0, template(256, FLOW), data(256, FLOW, [a_flow()])) + b"GET / HTTP/1.1")
                with contextlib.suppress(ConnectionError):
                    self.assertEqual(sender.recv(1), b"")
            self.wait_for_records(1)
        self.assertEqual(self.faults(process), {"streams that could not be followed": 1})
        self.assertEqual(self.ports_received(), [40000])

    def test_tls_carries_flows_too(self):
        authority = trustme.CA()
        authority.issue_cert("localhost").private_key_and_cert_chain_pem.write_to_path(self.folder / "server.pem")
        options = ("--tls-port", "0", "--flow-tls-port", "0", "--certificate", "server.pem", "--json")
        with self.collector(*options) as process:
            context = ssl.create_default_context()
            authority.configure_trust(context)
            with (
                socket.create_connection(("127.0.0.1", process.ports["flows tls"]), timeout=5) as plain,
                context.wrap_socket(plain, server_hostname="localhost") as secured,
            ):
                secured.sendall(message(0, template(256, FLOW), data(256, FLOW, [a_flow(3)])))
                self.wait_for_records(1)
        self.assertEqual(self.ports_received(), [40003])

    def test_what_is_missing_or_no_message_is_said(self):
        two = data(256, FLOW, [a_flow(1), a_flow(2)])
        with self.collector("--json") as process:
            port = process.ports["flows"]
            self.send(
                port, data(256, FLOW, [a_flow()])[:3], b"\x00\x63 nonsense", message(0, data(300, FLOW, [a_flow()]))
            )
            self.send(port, *(message(sequence, template(256, FLOW), two, domain=9) for sequence in (0, 2, 4, 14)))
        faults = {each["kind"]: each["count"] for each in process.report["summary"]["faults"]}
        self.assertEqual(faults["message of another version"], 2)
        self.assertEqual(faults["data whose template never came"], 1)
        self.assertEqual(faults["records or messages that never came"], 8)
        self.assertEqual(len(self.records()), 8)

    @unittest.skipUnless(shutil.which("softflowd"), "softflowd is not installed")
    def test_a_real_exporter_over_both_protocols(self):
        began = self.captured()
        self.export(began, lambda target: [
            ["softflowd", "-r", self.folder / "packets.pcap", "-n", target, "-v", version, "-d", *more]
            for version, *more in (("9",), ("10",), ("10", "-b"))
        ])  # fmt: skip

    @unittest.skipUnless(shutil.which("pmacctd"), "pmacctd is not installed")
    def test_a_real_exporter_of_another_make_over_both_protocols(self):
        began = self.captured()

        def commands(target):
            for version in (9, 10):
                config = self.folder / f"probe-{version}.conf"
                config.write_text(PMACCTD.format(capture=self.folder / "packets.pcap", target=target, version=version))
                yield ["pmacctd", "-f", config]

        self.export(began, commands)

    def captured(self):
        """A capture of three connections and a question over IPv6; when it began."""
        packets = []
        for client in (40000, 40001, 40002):
            packets += [
                packet("10.1.1.10", "10.2.1.10", 6, tcp(client, 22, flags)) for flags in (SYN, ACK, PSH_ACK, FIN_ACK)
            ]
            packets.append(packet("10.2.1.10", "10.1.1.10", 6, tcp(22, client, SYN_ACK)))
        packets.append(packet("2001:db8::9", "2001:db8:1:1::10", 17, udp(5000, 53, b"abcd")))
        began = int(time.time()) - 100
        (self.folder / "packets.pcap").write_bytes(capture(packets, began))
        return began

    @unittest.skipUnless(shutil.which("softflowd") and shutil.which("pmacctd"), "softflowd or pmacctd is not installed")
    def test_the_fragments_of_what_is_allowed_are_no_leak_whatever_an_exporter_makes_of_them(self):
        """bob takes dns and pings. Later fragments have no ports, and are recorded with whatever stands in their place."""
        packets = []
        for source, target in (("10.1.1.10", "10.1.1.11"), ("2001:db8:1:1::10", "2001:db8:1:1::11")):
            packets += fragments(source, target, 17, udp(40000, 53, bytes(4000)))
            version, ping = (6, 58) if ":" in source else (4, 1)
            for body in (bytes(4000), bytes(range(256)) * 16):
                packets += fragments(source, target, ping, echo_request(version, body))
        (self.folder / "packets.pcap").write_bytes(capture(packets, int(time.time()) - 100))
        values = base()
        values["filters"] = {"guard": a_filter("instance", inbound=[
            {"action": "allow", "service": ["dns", "icmp/8/0", "icmp6/128/0"]}])}  # fmt: skip
        (own,) = values["instances"]["bob"]["interfaces"]
        own |= {"addresses": ["10.1.1.11", "2001:db8:1:1::11"], "filters": ["guard"]}
        values["observation_points"] = {"1": "bob/eth0"}
        evaluator = Evaluator(Comparison(Walker(load(values))))
        config = self.folder / "fragments.conf"
        for make in ("softflowd", "pmacctd"):
            with self.subTest(make), self.collector("--json") as process:
                target = f"127.0.0.1:{process.ports['flows']}"
                config.write_text(PMACCTD.format(capture=self.folder / "packets.pcap", target=target, version=10))
                command = ["pmacctd", "-f", config] if make == "pmacctd" else [
                    make, "-r", self.folder / "packets.pcap", "-n", target, "-v", "10", "-d"]  # fmt: skip
                subprocess.run(command, capture_output=True, check=False, timeout=60)
            table = table_of([replace(record, event="passed", point="1") for record in self.records()])
            shutil.rmtree(self.store)
            judged = evaluator.judge(table)
            told = Counter(judged.concluded[code].status for code in judged.conclusion.tolist())
            self.assertGreater(told["agree"], 2, make)
            self.assertGreater(told["unsure"], 0, make)
            self.assertEqual(told["agree"] + told["unsure"], len(table), (make, told))

    def export(self, began, commands):
        """Have each of some commands export the capture, and hold what comes against what was sent."""
        for number in range(len(list(commands("127.0.0.1:0")))):
            with self.subTest(number), self.collector("--json") as process:
                command = list(commands(f"127.0.0.1:{process.ports['flows']}"))[number]
                # Their status is not asked: one of them ends with 1 now and then, with everything sent.
                subprocess.run(command, capture_output=True, check=False, timeout=60)
            records = self.records()
            shutil.rmtree(self.store)
            got = sorted((str(r.source), str(r.service), r.source_port, r.packets, r.octets) for r in records)
            # By hand: 20 octets of IP and 20 of TCP each; 40 of IPv6, 8 of UDP and 4 of body.
            there = [("10.1.1.10", "tcp/22", port, 4, 160) for port in (40000, 40001, 40002)]
            back = [("10.2.1.10", f"tcp/{port}", 22, 1, 40) for port in (40000, 40001, 40002)]
            self.assertEqual(got, [*there, *back, ("2001:db8::9", "udp/53", 5000, 1, 52)])
            self.assertTrue(all(record.event == "seen" for record in records))
            self.assertTrue(all(abs(record.start.timestamp() - began) < 2 for record in records))


class Syslog(Collecting):
    @unittest.skipUnless(shutil.which("logger"), "logger is not installed")
    def test_a_real_sender_over_udp_and_tcp_in_both_forms(self):
        with self.collector("--json") as process:
            udp_port, tcp_port = str(process.ports["udp"]), str(process.ports["tcp"])
            for number, options in enumerate(
                (["-d", "-P", udp_port, "--rfc5424"], ["-d", "-P", udp_port, "--rfc3164"], ["-T", "-P", tcp_port, "--rfc5424"],
                 ["-T", "-P", tcp_port, "--rfc3164", "--octet-count"])
            ):  # fmt: skip
                subprocess.run(
                    ["logger", "-n", "127.0.0.1", *options, PAIRS % (40000 + number)], check=True, timeout=30
                )
            subprocess.run(
                ["logger", "-n", "127.0.0.1", "-d", "-P", udp_port, f"drop {KERNEL}"], check=True, timeout=30
            )
        records = sorted(self.records(), key=lambda record: (record.source_port, record.octets))
        self.assertEqual([r.source_port for r in records], [40000, 40000, 40001, 40002, 40003])
        self.assertEqual({(str(r.source), str(r.destination), str(r.service), r.event, r.octets) for r in records},
                         {("192.0.2.9", "10.1.1.10", "tcp/22", "denied", 60)})  # fmt: skip
        self.assertTrue(all(abs(record.start.timestamp() - time.time()) < 60 for record in records))
        self.assertIn("127.0.0.1/*/eth0", {record.point for record in records})

    @unittest.skipUnless(shutil.which("rsyslogd"), "rsyslogd is not installed")
    def test_a_real_daemon_over_tcp(self):
        with self.collector("--json") as process:
            config = self.folder / "daemon.conf"
            config.write_text(
                f'module(load="imuxsock" SysSock.Use="off")\ninput(type="imuxsock" Socket="{self.folder}/log")\n'
                f'*.* action(type="omfwd" target="127.0.0.1" port="{process.ports["tcp"]}" protocol="tcp"'
                ' template="RSYSLOG_SyslogProtocol23Format")\n'
                + "".join(f'*.* action(type="omfile" file="{self.folder}/{form}.log" template="RSYSLOG_{form}Format")\n'
                          for form in ("File", "TraditionalFile"))
            )  # fmt: skip
            with subprocess.Popen(["rsyslogd", "-n", "-f", config, "-i", self.folder / "pid"]) as daemon:
                try:
                    wait_for(lambda: (self.folder / "log").exists())
                    for number in range(200):
                        subprocess.run(
                            ["logger", "-u", self.folder / "log", PAIRS % (40000 + number)], check=True, timeout=30
                        )
                    wait_for(lambda: self.store.exists() and len(self.records()) >= 200)
                finally:
                    daemon.terminate()
        self.assertEqual(self.ports_received(), list(range(40000, 40200)))
        for form in ("File", "TraditionalFile"):  # the same lines, as the daemon lays them down
            done = kiboko("flows", f"{form}.log", "--by", "source,service,outcome", "--json", cwd=self.folder)
            summary = json.loads(done.stdout)["summary"]
            self.assertEqual((summary["records"], summary["octets"]), (200, 200 * 60), done.stderr)

    def test_tls_takes_messages_from_who_has_a_certificate(self):
        authority, stranger = trustme.CA(), trustme.CA()
        server, client = authority.issue_cert("localhost"), authority.issue_cert("sender")
        server.private_key_and_cert_chain_pem.write_to_path(self.folder / "server.pem")
        authority.cert_pem.write_to_path(self.folder / "authority.pem")
        options = ("--tls-port", "0", "--flow-tls-port", "0", "--certificate", "server.pem", "--client-authority",
                   "authority.pem", "--json")  # fmt: skip
        with self.collector(*options) as process:
            for number, certificate in enumerate((client, stranger.issue_cert("other"), None)):
                context = ssl.create_default_context()
                authority.configure_trust(context)
                if certificate is not None:
                    certificate.configure_cert(context)
                text = (PAIRS % (40000 + number)).encode()
                with (
                    contextlib.suppress(OSError),
                    socket.create_connection(("127.0.0.1", process.ports["tls"]), timeout=2) as plain,
                    context.wrap_socket(plain, server_hostname="localhost") as secured,
                ):
                    secured.sendall(b"%d %b" % (len(text), text))
                    secured.recv(1)  # where the certificate is refused, this tells
        self.assertEqual(self.ports_received(), [40000])

    def test_a_line_of_10_mb_costs_its_neighbours_nothing(self):
        with (
            self.collector("--json") as process,
            socket.create_connection(("127.0.0.1", process.ports["tcp"])) as sender,
        ):
            for number, middle in enumerate((b"", b"<13>" + b"x" * (10 << 20) + b"\n", b"")):
                sender.sendall(middle + (PAIRS % (40000 + number)).encode() + b"\n")
            sender.sendall(b"nothing of interest\n")
        self.assertEqual(self.ports_received(), [40000, 40001, 40002])
        faults = {each["kind"]: each["count"] for each in process.report["summary"]["faults"]}
        self.assertEqual(
            faults,
            {
                "messages longer than 64 KiB, of which the beginning was read": 1,
                "syslog messages without a flow": 2,
            },
        )

    def test_other_words_by_a_mapping_file(self):
        (self.folder / "map.yaml").write_text(
            "kiboko: columns/1\ncolumns:\n  who: sourceIPv4Address\n  whom: destinationIPv4Address\n"
            "  how: protocolIdentifier\n  door: destinationTransportPort\n"
            "  fate: {element: firewallEvent, denied: [stopped]}\n"
        )
        with self.collector("--columns", "map.yaml", "--json") as process:
            self.send(process.ports["udp"], b"<13>who=192.0.2.9 whom=10.1.1.10 how=tcp door=22 fate=stopped")
        (record,) = self.records()
        self.assertEqual((str(record.service), record.event, record.point), ("tcp/22", "denied", "127.0.0.1"))


class Ending(Collecting):
    def test_a_kill_loses_the_last_moments_alone(self):
        """At most a second where the machine is quiet; a busy one gets more."""
        with self.collector() as process:
            port = process.ports["flows"]
            self.send(port, message(0, template(256, FLOW)))
            for number in range(30):
                self.send(port, message(number, data(256, FLOW, [a_flow(number)])))
                time.sleep(0.05 if number < 9 else 0.2)
            process.kill()
            process.wait()
        self.assertLessEqual(set(range(40000, 40010)), set(self.ports_received()))
        before = len(self.records())
        with self.collector("--json") as process:
            pass
        self.assertEqual((process.report["summary"]["recovered"], len(self.records())), (before, before))

    def test_a_leak_is_shown_and_written_as_it_comes(self):
        values = base()
        values["filters"]["closed"] = a_filter("subnet", inbound=[])
        values["subnets"]["a1"]["filter"] = "closed"
        (self.folder / "network.yaml").write_text(json.dumps(values))
        flow = a_flow(sourceIPv4Address="10.1.2.10", destinationIPv4Address="10.1.1.10", observationPointId=99)
        with self.collector("--confirm", "--network", "network.yaml") as process:
            self.send(process.ports["flows"], message(0, template(256, FLOW), data(256, FLOW, [flow])))
            sent = time.monotonic()
            line = process.stdout.readline()
            self.assertIn(
                "LEAK 10:00:00Z cat to ann, tcp/22: answered; by the rules stopped by default drop of closed", line
            )
            (written,) = (self.store / "disagreements.jsonl").read_text().splitlines()
            # A second is what a quiet machine needs (bench/collecting.py); a busy one gets more.
            self.assertLess(time.monotonic() - sent, 30.0)
        told = json.loads(written)
        self.assertEqual(
            (told["status"], told["filter"], told["rule"], told["count"]), ("leak", "closed", "otherwise", 1)
        )
        self.assertEqual(process.returncode, 1)
        self.assertIn("DISAGREE: 1 leak in 1 record.", process.output)
        again = json.loads(kiboko("confirm", "--flows", self.store, "--json", cwd=self.folder).stdout)
        self.assertEqual((again["summary"]["leak"], again["caveats"]), (1, []))
        self.assertEqual(len(self.records()), 1)

    def test_a_network_file_that_changes_meanwhile_is_taken_over_and_one_that_is_faulty_is_not(self):
        values = base()
        values["filters"]["closed"] = a_filter("subnet", inbound=[])
        values["subnets"]["a1"]["filter"] = "closed"
        file = self.folder / "network.yaml"
        file.write_text(json.dumps(values))

        def send(number):
            flow = a_flow(sourceIPv4Address="10.1.2.10", destinationIPv4Address="10.1.1.10", observationPointId=99,
                          sourceTransportPort=40000 + number)  # fmt: skip
            self.send(process.ports["flows"], message(number, template(256, FLOW), data(256, FLOW, [flow])))
            self.wait_for_records(number + 1)

        # It ends by itself, so that nobody waits for a line that does not come.
        with self.collector("--confirm", "--network", "network.yaml", "--json", "--stop-after", "120") as process:
            send(0)
            file.write_text(json.dumps(values) + "\n# a remark changes nothing\n")
            time.sleep(2.5)
            values["filters"]["closed"]["inbound"] = [{"action": "allow"}]
            file.write_text(json.dumps(values))
            self.assertRegex(process.stderr.readline(), "network.yaml has changed; from ..:..:..Z on records are held")
            send(1)
            file.write_text("kiboko: 1\nnetworks: [")
            self.assertIn("network.yaml has changed and cannot be used; records are held against it as it was",
                          process.stderr.readline())  # fmt: skip
            self.assertRegex(process.stderr.readline(), r"network.yaml:\d+: ")
            send(2)
            values["filters"]["closed"]["inbound"] = []
            file.write_text(json.dumps(values))  # without a time: what began before is of other rules
            self.assertIn("network.yaml has changed; from", process.stderr.readline())
            send(3)
            file.write_text(json.dumps(values | {"as_of": "2025-11-01T00:00:00Z"}))
            self.assertIn("network.yaml has changed; from", process.stderr.readline())
            send(4)
        report = process.report
        earlier = [[each[status] for status in ("leak", "break", "unsure", "agree")]
                   for each in report["summary"]["earlier_rules"]]  # fmt: skip
        self.assertEqual([[1, 0, 0, 0], [0, 0, 0, 2], [0, 0, 1, 0]], earlier)
        self.assertEqual([("leak", 1)], [(row["status"], row["count"]) for row in report["rows"]], report["rows"])
        self.assertEqual((5, 2, 1), (report["summary"]["records"], report["summary"]["leaks"], process.returncode))
        self.assertIn("records were held against the network file as it was then (1 leak, 0 break, 0 unsure, 0 agree)",
                      "\n".join(report["caveats"]))  # fmt: skip
        self.assertEqual(2, len((self.store / "disagreements.jsonl").read_text().splitlines()))

    def test_of_many_leaks_at_once_some_are_told_and_all_are_written(self):
        values = base()
        values["filters"]["closed"] = a_filter("subnet", inbound=[])
        values["subnets"]["a1"]["filter"] = "closed"
        for number in range(30):
            address = f"10.1.2.{100 + number}"
            values["instances"][f"m{number}"] = {"interfaces": [{"subnet": "a2", "addresses": [address]}]}
        (self.folder / "network.yaml").write_text(json.dumps(values))
        flows = [a_flow(number, sourceIPv4Address=f"10.1.2.{100 + number}", destinationIPv4Address="10.1.1.10",
                        observationPointId=99) for number in range(30)]  # fmt: skip
        with self.collector("--confirm", "--network", "network.yaml") as process:
            self.send(process.ports["flows"], message(0, template(256, FLOW), data(256, FLOW, flows[:15])))
            self.send(process.ports["flows"], message(15, data(256, FLOW, flows[15:])))
        lines = [json.loads(line) for line in (self.store / "disagreements.jsonl").read_text().splitlines()]
        self.assertEqual({f"10.1.2.{100 + number}" for number in range(30)}, {each["source_address"] for each in lines})
        told = process.output.count("LEAK ")
        more = re.search(r"and (\d+) more kinds of leaks and breaks at once: \S+disagreements.jsonl", process.output)
        self.assertEqual(30, told + (int(more.group(1)) if more else 0))
        self.assertLessEqual(20, told)
        done = kiboko(*lines[0]["check"].split()[1:], "--network", "network.yaml", "--json", cwd=self.folder)
        self.assertEqual((1, "blocked"), (done.returncode, json.loads(done.stdout)["verdict"]))

    def test_every_record_is_judged_or_said_not_to_be(self):
        (self.folder / "network.yaml").write_text(json.dumps(base()))
        with self.collector("--confirm", "--network", "network.yaml", "--json") as process:
            self.send(process.ports["flows"], message(0, template(256, FLOW)))
            for number in range(20):
                flows = [a_flow(n, sourceIPv4Address=f"10.1.1.{n % 250}") for n in range(number * 20, number * 20 + 20)]
                self.send(process.ports["flows"], message(number * 20, data(256, FLOW, flows)))
        summary = process.report["summary"]
        judged = sum(row["count"] for row in process.report["rows"])
        self.assertEqual((summary["records"], judged + summary["unjudged"]), (400, 400))

    def test_what_was_judged_as_it_came_comes_to_what_the_store_does(self):
        """Conversations that several records tell of, at two points and from either side, some of them much later."""
        values, chance = random_network(7), random.Random(7)
        (self.folder / "network.yaml").write_text(json.dumps(values))
        flows = []
        for each in random_records(load(values), chance, 250):
            if each.source.family != 4 or each.service.protocol not in (6, 17) or each.start is None:
                continue
            ends = [(str(each.source), each.source_port or 0), (str(each.destination), each.service.detail)]
            for _ in range(chance.choice((1, 1, 2, 3))):
                (source, port), (destination, other) = ends if chance.random() < 0.6 else ends[::-1]
                begin = milliseconds(each.start) + chance.choice((0, 3, 40, 900, 5000))
                flows.append(a_flow(
                    flowStartMilliseconds=begin, flowEndMilliseconds=begin + 100, sourceIPv4Address=source,
                    destinationIPv4Address=destination, sourceTransportPort=port, destinationTransportPort=other,
                    protocolIdentifier=each.service.protocol, tcpControlBits=chance.choice((2, 18, 24)),
                    packetDeltaCount=chance.randint(1, 5), octetDeltaCount=chance.randint(60, 900),
                    firewallEvent=3 if each.event == "denied" else 1, observationPointId=chance.choice((1, 2)),
                ))  # fmt: skip
        flows.sort(key=lambda flow: flow["flowEndMilliseconds"])
        with self.collector("--confirm", "--network", "network.yaml", "--json") as process:
            with socket.create_connection(("127.0.0.1", process.ports["flows tcp"])) as sender:
                sender.sendall(message(0, template(256, FLOW)))
                for at in range(0, len(flows), 20):
                    sender.sendall(message(at, data(256, FLOW, flows[at : at + 20])))
                    time.sleep(0.1)
            self.wait_for_records(len(flows))
        stored = kiboko("confirm", "--flows", self.store, "--json", cwd=self.folder)
        self.assertGreater(len(flows), 100)
        self.assertEqual(self.told(process.report), self.told(json.loads(stored.stdout)))

    @staticmethod
    def told(report):
        """What is counted between any two ends, by what it comes to."""
        counts = Counter()
        for row in report["rows"]:
            for name in ("count", "conversations", "replies", "packets", "octets"):
                counts[row["status"], row["source"], row["destination"], row["observed"], row["why"], name] += row[name]
        return {key: count for key, count in counts.items() if count}

    def test_a_port_in_use_is_the_environment_fault(self):
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as taken:
            taken.bind(("127.0.0.1", 0))
            done = kiboko("collect", self.store, "--flow-port", taken.getsockname()[1], "--stop-after", "1")
        self.assertEqual((done.returncode, done.stdout), (3, ""))
        self.assertIn("cannot listen at udp 127.0.0.1:", done.stderr)

    def test_bad_usage_says_what_would_be_right(self):
        for options, said in (
            (("--flow-port", "ninety"), "'ninety' is no port"),
            (
                ("--listen", "127.0.0.1:4739"),
                "'127.0.0.1:4739' is no address to listen at; the port goes to --flow-port",
            ),
            (("--listen", "[::1]:4739"), "'[::1]:4739' is no address to listen at; the port goes to --flow-port"),
            (("--flow-port", "none", "--syslog-port", "none"), "nothing to listen to"),
            (("--keep-size", "lots"), "'lots' is no size; write it as 500M or 20G"),
            (("--keep-days", "0"), "--keep-days is from 1 to 36,500"),
            (("--key", "k.pem"), "go with --certificate"),
        ):
            done = kiboko("collect", self.store, *options)
            self.assertEqual((done.returncode, said in done.stderr), (2, True), done.stderr)
        self.assertFalse(self.store.exists())


def wait_for(condition, seconds=60):
    until = time.monotonic() + seconds
    while not condition() and time.monotonic() < until:
        time.sleep(0.05)


if __name__ == "__main__":
    unittest.main()
