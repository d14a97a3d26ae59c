"""IPFIX and NetFlow version 9 come to records, whatever order, loss or damage they come with."""

import gzip
import io
import re
import socket
import struct
import tempfile
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from kiboko.core.header.services import UNTOLD
from kiboko.core.records.flow_sums import Sums
from kiboko.core.records.flow_table import joined, table_of
from kiboko.files.elements.rejects import Rejects
from kiboko.files.logs.flow_columns import Converter
from kiboko.files.logs.flow_reader import tables_of
from kiboko.files.messages.flow_messages import ANEW, GAPS, LATE, MessageReader, messages_of
from kiboko.files.store.flow_export import write_tables
from tests.export_messages import FLOW, START, a_flow, data, message, options, template, v9

SIX = tuple(name.replace("IPv4", "IPv6") for name in FLOW)


def rows_of(reader, *messages, exporter="192.0.2.1"):
    """What a reader makes of some messages."""
    for each in messages:
        reader.read(each, exporter)
    return [row for table in reader.take() for row in table.to_pylist()]


def records_of(names, *rows):
    """The records of one exporter's flows, as they are judged."""
    reader, converter = MessageReader(), Converter()
    reader.read(message(0, template(256, names), data(256, names, rows)), "192.0.2.1")
    tables = [converter.table(columns, Rejects("x"), 1) for columns in reader.take()]
    return [table.record(row) for table in tables for row in range(len(table))]


class WhatExportersSend(unittest.TestCase):
    """RFC 5103, 7011, 7270: what a record says beside its two ends."""

    def ends(self, record):
        return str(record.source), str(record.service), record.source_port, record.packets, record.octets

    def test_a_biflow_is_a_record_of_each_direction(self):
        names = (*FLOW, "reversePacketDeltaCount", "reverseOctetDeltaCount", "reverseTcpControlBits", "biflowDirection")
        told = {
            "reversePacketDeltaCount": 4,
            "reverseOctetDeltaCount": 260,
            "reverseTcpControlBits": 0x12,
            "biflowDirection": 1,
        }
        forward, back = records_of(names, a_flow(**told))
        self.assertEqual(self.ends(forward), ("10.1.1.10", "tcp/22", 40000, 10, 900))
        self.assertEqual(self.ends(back), ("10.2.1.10", "tcp/40000", 22, 4, 260))
        self.assertEqual((forward.tcp_flags, back.tcp_flags, forward.direction, back.direction), (27, 0x12, 1, 2))
        self.assertEqual((back.start, back.point, back.event), (forward.start, forward.point, forward.event))
        (alone,) = records_of(names, a_flow(**{**told, "reversePacketDeltaCount": 0, "reverseOctetDeltaCount": 0}))
        self.assertEqual((alone.packets, alone.direction), (10, 1))
        turned, _ = records_of(names, a_flow(**{**told, "biflowDirection": 2}))
        self.assertEqual(turned.direction, 2)

    def test_a_biflow_in_which_only_the_other_end_sent_is_a_record_of_that_alone(self):
        """As of an exporter that puts the lower address first, or tells of a minute in which nobody else sent."""
        names = (*FLOW, "reversePacketDeltaCount", "reverseOctetDeltaCount", "biflowDirection")
        for direction, other in ((0, 0), (1, 2)):
            told = {"packetDeltaCount": 0, "octetDeltaCount": 0, "reversePacketDeltaCount": 4,
                    "reverseOctetDeltaCount": 260, "biflowDirection": direction}  # fmt: skip
            (only,) = records_of(names, a_flow(**told))
            self.assertEqual((*self.ends(only), only.direction), ("10.2.1.10", "tcp/40000", 22, 4, 260, other))
            ping = {**told, "protocolIdentifier": 1, "sourceTransportPort": 0, "destinationTransportPort": 0}
            for kind, reply in ((0x0800, 0), (0, 0)):
                (only,) = records_of((*names, "icmpTypeCodeIPv4"), a_flow(**ping, icmpTypeCodeIPv4=kind))
                self.assertEqual(reply if direction else UNTOLD, only.service.detail)
        # Of what only octets tell, which may be those of data, an end that sent none may have sent packets.
        octets = ("initiatorOctets", "responderOctets")
        forward, back = records_of((*FLOW[:8], *octets), a_flow(initiatorOctets=0, responderOctets=120))
        self.assertEqual((forward.octets, back.octets), (0, 120))
        denied = {**told, "firewallEvent": 3}
        self.assertEqual(
            2, len(records_of((*names, "firewallEvent"), a_flow(**denied))), "who was denied sent something"
        )

    def test_counters_of_initiator_and_responder_tell_who_began(self):
        names = (*FLOW[:8], "initiatorPackets", "initiatorOctets", "responderPackets", "responderOctets")
        told = {"initiatorPackets": 3, "initiatorOctets": 180, "responderPackets": 2, "responderOctets": 120}
        forward, back = records_of(names, a_flow(**told))
        self.assertEqual(self.ends(forward), ("10.1.1.10", "tcp/22", 40000, 3, 180))
        self.assertEqual((*self.ends(back), back.direction), ("10.2.1.10", "tcp/40000", 22, 2, 120, 2))

    def test_icmp_in_all_its_codings(self):
        echo = {"protocolIdentifier": 1, "sourceTransportPort": 0}
        for names, values, expected in (
            ((*FLOW, "icmpTypeCodeIPv4"), {"icmpTypeCodeIPv4": 0, "destinationTransportPort": 0}, "icmp/echo-reply"),
            ((*FLOW, "icmpTypeIPv4", "icmpCodeIPv4"), {"icmpTypeIPv4": 3, "icmpCodeIPv4": 4, "destinationTransportPort": 0}, "icmp/3/4"),
            (FLOW, {"destinationTransportPort": 8 << 8}, "icmp/echo-request"),
            (FLOW, {"destinationTransportPort": 0}, "icmp, type not recorded"),
            (FLOW, {"destinationTransportPort": 3 << 8 | 15}, "icmp/3/15"),
            (FLOW, {"destinationTransportPort": 3 << 8 | 16}, "icmp, type not recorded"),  # an identifier of echoes, perhaps
            (FLOW, {"destinationTransportPort": 8 << 8 | 1}, "icmp, type not recorded"),
            (FLOW, {"destinationTransportPort": 9 << 8, "sourceTransportPort": 8}, "icmp, type not recorded"),
        ):  # fmt: skip
            with self.subTest(expected):
                (record,) = records_of(names, a_flow(**{**echo, **values}))
                self.assertEqual(str(record.service), expected)

    def test_the_forwarding_status_is_a_fate_where_no_firewall_event_is(self):
        names = (*FLOW[:-2], "forwardingStatus")
        told = {
            "seen": (0, 63, 132, 137, 139, 143, 191, 192, 195),
            "passed": (64, 66, 127),
            "denied": (128, 129, 130, 131),
        }
        for event, statuses in told.items():
            found = {records_of(names, a_flow(forwardingStatus=status))[0].event for status in statuses}
            self.assertEqual({event}, found)
        (record,) = records_of((*FLOW, "forwardingStatus"), a_flow(forwardingStatus=130))
        self.assertEqual(record.event, "passed", "the firewall's own word counts before it")

    def test_the_link_is_carried_through_every_form_of_export(self):
        names = (*FLOW, "vlanId", "sourceMacAddress", "destinationMacAddress", "reversePacketDeltaCount",
                 "reverseOctetDeltaCount")  # fmt: skip
        told = {"vlanId": 230, "sourceMacAddress": 0x02000000000A, "destinationMacAddress": 0x0200000000FF,
                "reversePacketDeltaCount": 4, "reverseOctetDeltaCount": 260}  # fmt: skip
        reader, converter = MessageReader(), Converter()
        reader.read(message(0, template(256, names), data(256, names, [a_flow(**told)])), "192.0.2.1")
        (columns,) = reader.take()
        table = converter.table(columns, Rejects("x"), 1)
        plain = table_of([table.record(0)])  # one that says nothing of its link
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        for name in ("a.csv", "a.jsonl", "a.ipfix", "a.arrows", "a.parquet"):
            write_tables([table, plain], folder / name)
            back = joined([each for each, _ in tables_of(folder / name)])
            self.assertEqual(back.vlan.tolist(), [230, 230, -1], name)
            self.assertEqual(back.source_mac.tolist(), [0x02000000000A, 0x0200000000FF, -1], name)
            self.assertEqual(back.destination_mac.tolist(), [0x0200000000FF, 0x02000000000A, -1], name)
        sums = Sums(("vlan", "source-mac"))
        sums.add(back)
        self.assertEqual({key: each.records for key, each in sums.groups.items()},
                         {("230", "02:00:00:00:00:0a"): 1, ("230", "02:00:00:00:00:ff"): 1, ("-", "-"): 1})  # fmt: skip

    def test_both_sides_of_a_translation_are_one_conversation(self):
        """Dan of the south goes out behind 203.0.113.2; what was recorded outside shows that address alone."""
        names = (*FLOW, "postNATSourceIPv4Address", "postNAPTSourceTransportPort")
        none = {"postNATSourceIPv4Address": "0.0.0.0", "postNAPTSourceTransportPort": 0}
        inner = {"sourceIPv4Address": "10.2.1.10", "destinationIPv4Address": "192.0.2.9", "tcpControlBits": 2,
                 "sourceTransportPort": 40000, "destinationTransportPort": 443, "observationPointId": 0}  # fmt: skip
        told = {"postNATSourceIPv4Address": "203.0.113.2", "postNAPTSourceTransportPort": 51000}
        outer = {**inner, "sourceIPv4Address": "203.0.113.2", "sourceTransportPort": 51000}
        reply = {**inner, "sourceIPv4Address": "192.0.2.9", "destinationIPv4Address": "203.0.113.2",
                 "sourceTransportPort": 443, "destinationTransportPort": 51000, "tcpControlBits": 0x12}  # fmt: skip
        other = {**reply, "destinationTransportPort": 51001}
        rows = [a_flow(**inner, **told), a_flow(**outer, **none), a_flow(**reply, **none), a_flow(**other, **none)]
        found = records_of(names, *rows)
        self.assertEqual([self.ends(each)[:3] for each in found],
                         [("10.2.1.10", "tcp/443", 40000), ("10.2.1.10", "tcp/443", 40000),
                          ("192.0.2.9", "tcp/40000", 443), ("192.0.2.9", "tcp/51001", 443)])  # fmt: skip
        self.assertEqual([str(each.destination) for each in found], ["192.0.2.9"] * 2 + ["10.2.1.10", "203.0.113.2"])
        two = records_of(names, *rows, a_flow(**{**inner, "sourceIPv4Address": "10.2.1.11"}, **told))
        self.assertEqual(str(two[1].source), "203.0.113.2", "of two senders nobody knows which it was")

    def test_a_port_in_front_of_a_shared_address_is_a_senders_for_as_long_as_records_are_of_one_conversation(self):
        """Another sender may have it later, whose own record was lost, or stands in another piece of the log."""
        lines = ["10:00:00,10:02:00,10.2.1.10,192.0.2.9,40000,443,tcp,203.0.113.2,51000"]
        spans = (("09:50:00", "09:54:59"), ("09:50:00", "09:55:00"), ("10:07:00", "10:09:00"), ("10:07:01", "10:09:00"))
        for begun, ended in spans:
            lines += [f"{begun},{ended},203.0.113.2,192.0.2.9,51000,443,tcp,,",
                      f"{begun},{ended},192.0.2.9,203.0.113.2,443,51000,tcp,,"]  # fmt: skip
        head = "start,end,src,dst,sport,dport,proto,postNATSourceIPv4Address,postNAPTSourceTransportPort\n"
        text = "\n".join("2026-11-20T" + line[:9] + "2026-11-20T" + line[9:] for line in lines)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "log.csv"
            path.write_text(head + text + "\n")
            found = [table.record(row) for table, _ in tables_of(path) for row in range(len(table))][1:]
            path.write_text(head + re.sub(r"^2026\S{16}2026\S{16}", ",,", text, flags=re.M) + "\n")
            timeless = [table.record(row) for table, _ in tables_of(path) for row in range(len(table))][1:]
        own = [
            ["10.2.1.10" in (str(each.source), str(each.destination)) for each in some] for some in (found, timeless)
        ]
        self.assertEqual([[False, False, True, True, True, True, False, False], [True] * 8], own)

    def test_who_is_written_in_two_ways_is_one_sender_behind_a_translation(self):
        lines = [
            "10.2.1.10,192.0.2.9,40000,443,tcp,203.0.113.2,51000",
            "::ffff:10.2.1.10,192.0.2.9,40000,443,tcp,203.0.113.2,51000",
            "::ffff:203.0.113.2,::ffff:192.0.2.9,51000,443,tcp,,",
            "10.2.1.10,192.0.2.9,40001,443,tcp,::ffff:10.2.1.10,40001",
        ]
        head = "src,dst,sport,dport,proto,postNATSourceIPv4Address,postNAPTSourceTransportPort\n"
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "log.csv"
            path.write_text(head + "\n".join(lines) + "\n")
            found = [table.record(row) for table, _ in tables_of(path) for row in range(len(table))]
        self.assertEqual([(str(each.source), each.source_port) for each in found],
                         [("10.2.1.10", 40000)] * 3 + [("10.2.1.10", 40001)])  # fmt: skip

    def test_who_began_is_kept_in_every_form_of_export(self):
        names = (*FLOW, "reversePacketDeltaCount", "reverseOctetDeltaCount", "biflowDirection")
        records = records_of(names, a_flow(reversePacketDeltaCount=4, reverseOctetDeltaCount=260, biflowDirection=1))
        with tempfile.TemporaryDirectory() as folder:
            for form in ("csv", "jsonl", "parquet", "arrows", "ipfix"):
                path = Path(folder, f"log.{form}")
                write_tables([table_of(records)], path)
                again = [table.record(row) for table, _ in tables_of(path) for row in range(len(table))]
                self.assertEqual([each.direction for each in again], [1, 2], form)


class Senders(unittest.TestCase):
    def test_several_exporters_behind_one_address_have_their_own_templates_and_sequences(self):
        reader, short = MessageReader(), FLOW[:7]
        told = [("192.0.2.1#1", message(0, template(256, FLOW))), ("192.0.2.1#2", message(0, template(256, short)))]
        for turn in range(3):
            told.append(("192.0.2.1#1", message(turn, data(256, FLOW, [a_flow(turn)]))))
            told.append(("192.0.2.1#2", message(2 * turn, data(256, short, [a_flow(100 + turn), a_flow(200 + turn)]))))
        for session, each in told:
            reader.read(each, session)
        rows = [row for table in reader.take() for row in table.to_pylist()]
        ports = sorted(row["sourceTransportPort"] for row in rows)
        self.assertEqual(ports, sorted(40000 + base + turn for turn in range(3) for base in (0, 100, 200)))
        self.assertEqual({row["exporterIPv4Address"] for row in rows}, {"192.0.2.1"})
        self.assertEqual(reader.counts["exporters behind an address of others"], 1)
        self.assertNotIn("records or messages that never came", reader.counts)

    def test_a_port_that_changes_on_the_way_loses_no_template(self):
        reader = MessageReader()
        reader.read(message(0, template(256, FLOW)), "192.0.2.1#1")
        reader.read(message(0, data(256, FLOW, [a_flow()])), "192.0.2.1#2")
        reader.read(message(1, template(256, FLOW), data(256, FLOW, [a_flow(1)])), "192.0.2.1#2")
        self.assertEqual(sum(table.num_rows for table in reader.take()), 2)
        self.assertNotIn("exporters behind an address of others", reader.counts)

    def test_version_5_with_the_parts_of_a_second_of_its_clock(self):
        # Up for an hour when it sent this, half a second past; the flow began a minute before, and took 5.5 seconds.
        header = struct.pack("!HHIIIIBBH", 5, 1, 3_600_000, START // 1000 + 60, 500_000_000, 0, 0, 3, 0)
        ends = (socket.inet_aton("10.1.1.10"), socket.inet_aton("10.2.1.10"), bytes(4))
        flow = struct.pack("!4s4s4sHHIIIIHHBBBBHHBBH", *ends, 4, 5, 7, 420, 3_540_000, 3_545_500, 40000, 22, 0, 27, 6, 0,
                           0, 0, 24, 24, 0)  # fmt: skip
        (row,) = rows_of(MessageReader(), header + flow)
        times = int(row["flowStartMilliseconds"]), int(row["flowEndMilliseconds"])
        self.assertEqual(times, (START + 500, START + 6000))
        self.assertEqual((row["sourceIPv4Address"], row["destinationTransportPort"], row["packetDeltaCount"]),
                         ("10.1.1.10", "22", "7"))  # fmt: skip

    def test_what_is_not_read_is_called_by_its_name(self):
        for begin, name in (
            (b"\x00\x07", "NetFlow version 7"), (b"\x00\x01", "NetFlow version 1"), (b"\x00\x00\x00\x05", "sFlow version 5"),
        ):  # fmt: skip
            reader = MessageReader()
            reader.read(begin + bytes(60), "192.0.2.1")
            self.assertEqual(
                [each for each in reader.counts if each.startswith(f"{name}, which is not read")], [*reader.first]
            )

    def test_packet_samples_are_no_flows_and_are_called_so(self):
        reader = MessageReader()
        names = ("selectionSequenceId", "ipHeaderPacketSection", "packetDeltaCount")
        rows = [dict.fromkeys(names, 1)] * 3
        reader.read(message(0, template(256, names), data(256, names, rows)), "192.0.2.1")
        self.assertEqual(reader.counts["packet samples (PSAMP, RFC 5476), which are no flow records"], 3)
        self.assertEqual(reader.take(), [])


class Messages(unittest.TestCase):
    def test_a_record_by_hand(self):
        reader = MessageReader()
        self.assertEqual(rows_of(reader, message(0, template(256, FLOW))), [])
        (row,) = rows_of(reader, message(0, data(256, FLOW, [a_flow(firewallEvent=3)])))
        self.assertEqual((row["sourceIPv4Address"], row["destinationIPv4Address"]), ("10.1.1.10", "10.2.1.10"))
        self.assertEqual((row["sourceTransportPort"], row["destinationTransportPort"]), (40000, 22))
        self.assertEqual((row["flowStartMilliseconds"], row["flowEndMilliseconds"]), (START, START + 500))
        self.assertEqual((row["packetDeltaCount"], row["octetDeltaCount"]), (10, 900))
        self.assertEqual((row["firewallEvent"], row["observationPointId"]), (3, 7))
        self.assertEqual((row["exporterIPv4Address"], row["observationDomainId"]), ("192.0.2.1", "7"))

    def test_times_of_netflow_9_count_from_when_the_exporter_booted(self):
        names = ("sourceIPv4Address", "destinationIPv4Address", "protocolIdentifier", "flowStartSysUpTime",
                 "flowEndSysUpTime")  # fmt: skip
        # Exported at START + 60 s, an hour after the boot: a flow of 3,540,000 ms of uptime began at START.
        flow = a_flow(flowStartSysUpTime=3_540_000, flowEndSysUpTime=3_541_000)
        rows = rows_of(MessageReader(), v9(0, 2, template(300, names, 9), data(300, names, [flow])))
        self.assertEqual(
            [(r["flowStartMilliseconds"], r["flowEndMilliseconds"]) for r in rows], [(START, START + 1000)]
        )
        # An uptime of 32 bits that has begun anew since: 1,000 ms before it did.
        flow = a_flow(flowStartSysUpTime=(1 << 32) - 1000, flowEndSysUpTime=1000)
        again = v9(0, 2, template(300, names, 9), data(300, names, [flow]), uptime=2000)
        (row,) = rows_of(MessageReader(), again)
        self.assertEqual(row["flowEndMilliseconds"] - row["flowStartMilliseconds"], 2000)
        self.assertEqual(row["flowEndMilliseconds"], START + 59_000)

    def test_data_before_its_template_waits_for_it(self):
        reader = MessageReader()
        self.assertEqual(rows_of(reader, message(0, data(256, FLOW, [a_flow(1), a_flow(2)]))), [])
        self.assertEqual(reader.waiting, 1)
        # The template of another exporter, or of another domain, is another template.
        self.assertEqual(rows_of(reader, message(0, template(256, FLOW)), exporter="192.0.2.2"), [])
        self.assertEqual(rows_of(reader, message(0, template(256, FLOW), domain=8)), [])
        rows = rows_of(reader, message(2, template(256, FLOW), data(256, FLOW, [a_flow(3)])))
        self.assertEqual([row["flowStartMilliseconds"] - START for row in rows], [1, 2, 3])
        self.assertEqual((reader.waiting, reader.counts["data before its template, read later"]), (0, 1))

    def test_counts_are_multiplied_by_the_sampling_rate(self):
        reader = MessageReader()
        stated = a_flow(samplingInterval=100, observationDomainId=7)
        scope, names = ("observationDomainId",), ("samplingInterval",)
        reader.read(message(0, options(400, scope, names), data(400, (*scope, *names), [stated])), "192.0.2.1")
        (row,) = rows_of(reader, message(1, template(256, FLOW), data(256, FLOW, [a_flow()])))
        self.assertEqual((row["packetDeltaCount"], row["octetDeltaCount"]), (1000, 90_000))
        self.assertEqual((reader.sampled, reader.counts["option records"]), ({("192.0.2.1", 7): 100}, 1))

    def test_gaps_in_the_sequence_are_counted(self):
        reader = MessageReader()
        two = data(256, FLOW, [a_flow(1), a_flow(2)])
        for sequence in (0, 2, 4, 10):  # IPFIX counts records: four are missing
            reader.read(message(sequence, template(256, FLOW), two), "192.0.2.1")
        self.assertEqual(reader.counts["records or messages that never came"], 4)

    def test_what_looks_like_loss_and_is_none_is_told_apart(self):
        reader = MessageReader()
        two = data(256, FLOW, [a_flow(), a_flow()])
        # Late: the message of 4 came behind that of 6. Anew: the exporter was restarted, and counts from nothing.
        for sequence in (100_000, 100_002, 100_006, 100_004, 100_008, 0, 2, 4):
            reader.read(message(sequence, template(256, FLOW), two), "192.0.2.1")
        self.assertEqual(reader.counts[GAPS], 2, "what was late had been missed when it should have come")
        self.assertEqual((reader.counts[LATE], reader.counts[ANEW]), (1, 1))

    def test_fields_of_any_length_and_unknown_elements_do_not_disturb(self):
        names = ("interfaceName", *FLOW)
        sets = template(256, names), data(256, names, [a_flow(1, interfaceName="a" * 200), a_flow(2)])
        found = rows_of(MessageReader(), message(0, *sets))
        plain = rows_of(MessageReader(), message(0, template(256, FLOW), data(256, FLOW, [a_flow(1), a_flow(2)])))
        # One by one they are texts; what they say is the same as gathered at once.
        self.assertEqual([{k: str(v) for k, v in row.items()} for row in plain], found)

    def test_times_of_other_units_are_milliseconds(self):
        names = ("sourceIPv4Address", "destinationIPv4Address", "flowStartSeconds", "flowEndMicroseconds")
        # An NTP timestamp: seconds since 1900 and a fraction in units of 2 to the power of -32.
        ntp = (START // 1000 + 2_208_988_800 << 32) + (1 << 31)
        flow = a_flow(flowStartSeconds=START // 1000, flowEndMicroseconds=ntp)
        (row,) = rows_of(MessageReader(), message(0, template(256, names), data(256, names, [flow])))
        self.assertEqual((row["flowStartMilliseconds"], row["flowEndMilliseconds"]), (START, START + 500))

    def test_a_template_may_change_when_everything_before_it_is_taken(self):
        reader = MessageReader()
        short = ("destinationIPv4Address", "sourceIPv4Address")
        self.assertEqual(len(rows_of(reader, message(0, template(256, FLOW), data(256, FLOW, [a_flow(1)])))), 1)
        found = rows_of(reader, message(1, template(256, short), data(256, short, [a_flow(2)])))
        self.assertEqual([row["sourceIPv4Address"] for row in found], ["10.1.1.10"])
        self.assertEqual(len(rows_of(reader, message(2, data(256, short, [a_flow(3), a_flow(4)])))), 2)

    def test_a_number_that_becomes_one_of_options_loses_no_data_of_before(self):
        reader = MessageReader()
        stated = a_flow(samplingInterval=1, observationDomainId=7)
        scope, names = ("observationDomainId",), ("samplingInterval",)
        found = rows_of(
            reader,
            message(0, template(256, FLOW), data(256, FLOW, [a_flow(1)])),
            message(1, options(256, scope, names), data(256, (*scope, *names), [stated])),
        )
        self.assertEqual([row["sourceIPv4Address"] for row in found], ["10.1.1.10"])

    def test_a_template_that_changes_is_the_new_one_from_then_on(self):
        reader = MessageReader()
        short = ("destinationIPv4Address", "sourceIPv4Address")
        found = rows_of(
            reader,
            message(0, template(256, FLOW), data(256, FLOW, [a_flow(1)])),
            message(1, template(256, short), data(256, short, [a_flow(2)])),
        )
        self.assertEqual(len(found), 2)
        self.assertEqual(
            {(row["sourceIPv4Address"], row["destinationIPv4Address"]) for row in found}, {("10.1.1.10", "10.2.1.10")}
        )

    @given(st.binary(max_size=300), st.integers(0, 400))
    def test_no_datagram_raises(self, noise, cut):
        reader = MessageReader()
        good = message(0, template(256, FLOW), data(256, FLOW, [a_flow(1), a_flow(2)]))
        rows_of(reader, noise, good[:cut] + noise, b"\x00\x0a" + noise, b"\x00\x09" + noise, b"\x00\x05" + noise)
        good = message(9, template(257, FLOW), data(257, FLOW, [a_flow()]))
        self.assertEqual(len(rows_of(reader, good, exporter="192.0.2.3")), 1)


class Files(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def read(self, content, name="log.ipfix"):
        (self.folder / name).write_bytes(content)
        found = list(tables_of(self.folder / name))
        return [table.record(index) for table, _ in found for index in range(len(table))], found[-1][1]

    def whole(self, count=5):
        each = [message(i, data(256, FLOW, [a_flow(i)])) for i in range(count)]
        return [message(0, template(256, FLOW), template(257, SIX)), *each]

    def test_a_file_plain_and_compressed(self):
        content = b"".join([*self.whole(), message(5, data(257, SIX, [a_flow(9)]))])
        for name, octets in (("log.ipfix", content), ("log.ipfix.gz", gzip.compress(content))):
            records, rejects = self.read(octets, name)
            self.assertEqual([str(r.source) for r in records], ["10.1.1.10"] * 5 + ["2001:db8:1:1::10"])
            self.assertEqual([(r.point, r.event, r.octets) for r in records], [("7", "passed", 900)] * 6)
            self.assertEqual([r.line for r in records], [1, 2, 3, 4, 5, 6])
            self.assertEqual((rejects.counts, rejects.remarks), ({}, {}))

    def test_a_torn_last_message_loses_only_what_is_torn(self):
        content = b"".join(self.whole())
        records, rejects = self.read(content[:-20])
        self.assertEqual((len(records), rejects.counts), (4, {"torn IPFIX message": 1}))

    def test_octets_that_are_no_message_are_stepped_over(self):
        first, *rest = self.whole()
        records, rejects = self.read(b"".join([first, *rest[:2], b"\x00\x07garbage", *rest[2:]]))
        self.assertEqual((len(records), rejects.counts), (5, {"no IPFIX message": 1}))
        self.assertEqual(rejects.first["no IPFIX message"], (3, "9 octets are no message"))

    def test_a_length_of_nothing_does_not_hang(self):
        first, *rest = self.whole()
        records, rejects = self.read(b"".join([first, b"\x00\x0a\x00\x00" + bytes(12), *rest]))
        self.assertEqual((len(records), rejects.counts), (5, {"no IPFIX message": 1}))

    def test_data_whose_template_never_comes_is_told(self):
        records, rejects = self.read(b"".join([*self.whole(), message(5, data(999, FLOW, [a_flow()]))]))
        self.assertEqual((len(records), rejects.counts), (5, {"unknown template": 1}))

    def test_no_exporter_means_the_point_by_domain_and_interface(self):
        names = ("sourceIPv4Address", "destinationIPv4Address", "protocolIdentifier", "ingressInterface",
                 "destinationTransportPort")  # fmt: skip
        (record,), _ = self.read(message(0, template(256, names), data(256, names, [a_flow()])))
        self.assertEqual(record.point, "*/7/3")

    @given(st.integers(0, 400), st.binary(max_size=40))
    def test_messages_are_found_again_behind_any_noise(self, cut, noise):
        # A torn message may swallow the one behind it, and that one's rest the next: no more than these two.
        good = self.whole()
        found = [
            each for each, fault in messages_of(io.BytesIO(b"".join(good)[:cut] + noise + b"".join(good))) if not fault
        ]
        self.assertLessEqual(set(good[2:]), set(found))


if __name__ == "__main__":
    unittest.main()
