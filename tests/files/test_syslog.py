"""Log messages in either form, the flows that they tell of, and how messages are told apart in a stream."""

import unittest
from datetime import UTC, datetime

from hypothesis import given
from hypothesis import strategies as st

from kiboko.files.messages.syslog import flow_fields, names_flow, parse_syslog
from kiboko.wire.framing import MOST_OCTETS, Frames

NOW = datetime(2026, 1, 2, 3, 4, 5, tzinfo=UTC)
KERNEL = (
    "IN=eth0 OUT= MAC=02:00 SRC=192.0.2.9 DST=10.1.1.10 LEN=60 TOS=0x00 TTL=63 ID=1 DF PROTO=TCP SPT=40000 DPT=22"
    " WINDOW=64240 RES=0x00 SYN URGP=0"
)


def flow(text, arrived=NOW):
    return flow_fields(parse_syslog(text.encode(), arrived))


class Forms(unittest.TestCase):
    def test_rfc_5424_by_hand(self):
        text = '<165>1 2026-01-02T03:04:05.003+01:00 host app 77 ID47 [a@32473 x="1" y="say \\"no\\" \\]"][b@1 z="2"] \ufeffbody here'
        message = parse_syslog(text.encode(), NOW)
        self.assertEqual((message.priority, message.host, message.app, message.body), (165, "host", "app", "body here"))
        self.assertEqual(message.time, datetime(2026, 1, 2, 2, 4, 5, 3000, tzinfo=UTC))
        self.assertEqual(message.structured, {"a@32473": {"x": "1", "y": 'say "no" ]'}, "b@1": {"z": "2"}})

    def test_rfc_5424_with_nothing_known(self):
        message = parse_syslog(b"<0>1 - - - - - - hello", NOW)
        self.assertEqual((message.time, message.host, message.app, message.structured), (None, None, None, {}))
        self.assertEqual(message.body, "hello")

    def test_rfc_3164_takes_the_year_that_brings_it_nearest(self):
        for text, year in (("Dec 31 23:59:59", 2025), ("Jan  2 03:00:00", 2026)):
            message = parse_syslog(f"<34>{text} gate kernel: dropped".encode(), NOW)
            self.assertEqual(
                (message.time.year, message.host, message.app, message.body), (year, "gate", "kernel", "dropped")
            )

    def test_what_has_no_form_is_all_body(self):
        for text in ("just words", "<999>Jan words", "", "<13>", "a=1 b=2"):
            self.assertEqual(parse_syslog(text.encode(), NOW).body, text.removeprefix("<13>"))

    @given(st.binary(max_size=400))
    def test_no_message_raises(self, data):
        for start in (b"", b"<13>", b"<13>1 ", b"<13>1 - - - - - [", b"<13>Jan  2 "):
            flow_fields(parse_syslog(start + data, NOW))


class Flows(unittest.TestCase):
    def test_a_kernel_line_by_hand(self):
        found = flow(f"<4>Jan  2 03:00:00 gate kernel: [  12.345] DROP: {KERNEL}")
        wanted = {
            "sourceIPv4Address": "192.0.2.9", "destinationIPv4Address": "10.1.1.10", "sourceTransportPort": "40000",
            "destinationTransportPort": "22", "protocolIdentifier": "TCP", "octetDeltaCount": "60", "tcpControlBits": 2,
            "firewallEvent": "denied", "ingressInterface": "eth0", "packetDeltaCount": 1,
            "syslog.prefix": "DROP:", "syslog.host": "gate",
        }  # fmt: skip
        self.assertEqual({name: found[name] for name in wanted}, wanted)
        self.assertNotIn("egressInterface", found)

    def test_the_prefix_tells_the_fate_and_a_word_in_the_line_does_not(self):
        self.assertEqual(flow(f"ACCEPT {KERNEL}")["firewallEvent"], "passed")
        self.assertNotIn("firewallEvent", flow(f"seen here {KERNEL}".replace("seen", "watch")))

    def test_a_prefix_that_runs_into_the_first_device(self):
        """As `log prefix "DROP"` leaves it, without a space behind."""
        for prefix in ("DROP", "DROP:", "[DROP]"):
            found = flow(f"<4>Jan  2 03:00:00 gate kernel: {prefix}" + KERNEL.replace("OUT= ", "OUT=eth1 "))
            self.assertEqual((found["syslog.prefix"], found["firewallEvent"]), (prefix, "denied"))
            self.assertEqual((found["ingressInterface"], found["egressInterface"]), ("eth0", "eth1"))
            self.assertNotIn("flowDirection", found)

    def test_fields_of_the_packet_come_before_those_of_the_prefix(self):
        found = flow(f"chain=INPUT DST=here {KERNEL}")
        self.assertEqual((found["chain"], found["destinationIPv4Address"]), ("INPUT", "10.1.1.10"))

    def test_words_of_the_prefix_are_no_flags(self):
        for prefix in ("SYN flood: ", "RST ", "[ACK PSH] "):
            with self.subTest(prefix):
                found = flow(prefix + KERNEL)
                self.assertEqual((found["tcpControlBits"], found["syslog.prefix"]), (2, prefix.strip()))

    def test_an_icmp_error_is_no_flow_of_the_packet_that_it_is_about(self):
        line = "IN=eth0 OUT= SRC=10.1.1.1 DST=10.1.1.10 LEN=88 PROTO=ICMP TYPE=3 CODE=3 [SRC=10.1.1.10 DST=192.0.2.9 LEN=60 PROTO=UDP SPT=5 DPT=53 ]"
        found = flow(line)
        self.assertEqual((found["sourceIPv4Address"], found["icmpTypeCodeIPv4"]), ("10.1.1.1", 3 << 8 | 3))
        self.assertNotIn("destinationTransportPort", found)

    def test_pairs_json_and_structured_data(self):
        pairs = 'src=192.0.2.9 dst="10.1.1.10" proto=tcp spt=40000 dpt=22 action=deny, msg="a b"'
        json = '{"src": "192.0.2.9", "dst": "10.1.1.10", "proto": "tcp", "spt": 40000, "dpt": 22, "action": "deny"}'
        data = '[f@1 src="192.0.2.9" dst="10.1.1.10" proto="tcp" spt="40000" dpt="22" action="deny"]'
        for text in (f"<13>1 - - - - - - {pairs}", f"<13>1 - - - - - - {json}", f"<13>1 - - - - - {data}"):
            found = flow(text)
            self.assertTrue(names_flow(found))
            got = [str(found[name]) for name in ("src", "dst", "proto", "spt", "dpt", "action")]
            self.assertEqual(got, ["192.0.2.9", "10.1.1.10", "tcp", "40000", "22", "deny"])

    def test_other_messages_tell_of_no_flow(self):
        self.assertIsNone(flow("<13>Jan  2 03:00:00 host sshd[12]: session opened"))
        self.assertFalse(names_flow(flow("user=ann tty=7")))


class Framing(unittest.TestCase):
    def test_counted_and_ended_by_line_feeds_may_take_turns(self):
        found = Frames().feed(b"5 abc d<13>one\n11 <13>with\nlf<14>two\n")
        self.assertEqual(found, [b"abc d", b"<13>one", b"<13>with\nlf", b"<14>two"])

    @given(st.lists(st.binary(min_size=1, max_size=60).filter(lambda m: m.strip()), max_size=6), st.data())
    def test_however_a_stream_is_cut_the_messages_are_the_same(self, messages, draw):
        stream = b"".join(b"%d %b" % (len(each), each) for each in messages)
        frames, found = Frames(), []
        while stream:
            size = draw.draw(st.integers(1, len(stream)))
            found += frames.feed(stream[:size])
            stream = stream[size:]
        self.assertEqual(found, messages)

    def test_of_a_line_of_10_mb_the_beginning_is_read_and_the_next_one_whole(self):
        frames, found = Frames(), []
        stream = b"<13>" + b"x" * (10 << 20) + b"\n<13>after\n"
        for at in range(0, len(stream), 65536):
            found += frames.feed(stream[at : at + 65536])
        self.assertEqual((found, frames.too_long), ([stream[:MOST_OCTETS], b"<13>after"], 1))

    def test_of_a_count_of_10_mb_the_beginning_is_read_and_the_rest_stepped_over(self):
        frames = Frames()
        size = 10 << 20
        self.assertGreater(size, MOST_OCTETS)
        self.assertEqual(frames.feed(b"%d " % size + b"x" * size + b"5 after"), [b"x" * MOST_OCTETS, b"after"])
        self.assertEqual((frames.too_long, frames.broken), (1, False))

    def test_a_count_that_no_stream_can_keep_ends_it(self):
        frames = Frames()
        self.assertEqual(frames.feed(b"99999999999 <13>x\n"), [])
        self.assertTrue(frames.broken)

    @given(st.lists(st.binary(max_size=200), max_size=10))
    def test_no_stream_raises(self, chunks):
        frames = Frames()
        for chunk in chunks:
            frames.feed(chunk)
        frames.rest()


if __name__ == "__main__":
    unittest.main()
