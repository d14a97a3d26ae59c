"""Sockets that receive: what is lost because more came than could be taken is counted."""

import asyncio
import contextlib
import socket
import unittest
from collections import Counter
from unittest import mock

from kiboko.core.errors import EnvironmentFailure
from kiboko.wire import receivers


class Receiving(unittest.TestCase):
    def setUp(self):
        self.faults = Counter()
        self.taken = []

    def made(self):
        return receivers.Receivers(lambda kind, sender, count: self.faults.update({kind: count}))

    def test_datagrams_that_the_kernel_drops_are_counted(self):
        async def run():
            with mock.patch.object(receivers, "_BUFFER", 4096):
                made = self.made()
                port = int(
                    made.datagrams("127.0.0.1", 0, lambda data, sender: self.taken.append(data)).rpartition(":")[2]
                )
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
                for number in range(200):  # the loop does not run meanwhile: nobody takes them
                    sender.sendto(b"%04d" % number * 200, ("127.0.0.1", port))
            await asyncio.sleep(0.1)
            made.count_dropped()
            made.count_dropped()  # each is counted once
            await made.close()

        asyncio.run(run())
        dropped = self.faults["datagrams dropped: more came than could be taken"]
        self.assertGreater(dropped, 0)
        self.assertEqual(len(self.taken) + dropped, 200)

    def test_what_waits_at_the_end_is_taken(self):
        async def run():
            made = self.made()
            port = int(made.datagrams("127.0.0.1", 0, lambda data, sender: self.taken.append(data)).rpartition(":")[2])
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
                for number in range(1200):
                    sender.sendto(b"%d" % number, ("127.0.0.1", port))
            await made.close()

        asyncio.run(run())
        self.assertEqual((len(self.taken), sum(self.faults.values())), (1200, 0))

    def test_what_a_connection_ends_with_is_a_message(self):
        async def run():
            made = self.made()
            where = await made.streams("::1", 0, lambda data, sender: self.taken.append((data, sender)))
            self.assertTrue(where.startswith("tcp [::1]:"))
            _, writer = await asyncio.open_connection("::1", int(where.rpartition(":")[2]))
            writer.write(b"<13>one\n<13>two")
            await writer.drain()
            writer.close()
            await asyncio.sleep(0.1)
            await made.close()

        asyncio.run(run())
        self.assertEqual(self.taken, [(b"<13>one", "::1"), (b"<13>two", "::1")])

    def test_a_stream_that_cannot_be_followed_is_ended_and_told(self):
        async def run():
            made = self.made()
            where = await made.streams("127.0.0.1", 0, lambda data, sender: self.taken.append(data))
            reader, writer = await asyncio.open_connection("127.0.0.1", int(where.rpartition(":")[2]))
            writer.write(b"5 hello99999999999 x")
            with contextlib.suppress(ConnectionResetError):
                self.assertEqual(await asyncio.wait_for(reader.read(), 5), b"")
            writer.close()
            await made.close()

        asyncio.run(run())
        self.assertEqual((self.taken, self.faults["streams that could not be followed"]), ([b"hello"], 1))

    def test_a_certificate_that_is_none_is_said(self):
        with self.assertRaisesRegex(EnvironmentFailure, "no certificate that TLS can use"):
            receivers.Certificate(__file__).context()


if __name__ == "__main__":
    unittest.main()
