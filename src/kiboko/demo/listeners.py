"""The services that the demo probes: one TCP listener and one UDP responder on a loopback address."""

from __future__ import annotations

import socket
import threading
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress

from kiboko.core.errors import EnvironmentFailure
from kiboko.demo.background import beside

ADDRESS, TCP_PORT, UDP_PORT = "127.77.1.10", 47811, 47813


@contextmanager
def lamp() -> Iterator[None]:
    """Listen as the instance `lamp` of the loopback network does, until the block is left."""
    with ExitStack() as stack:
        stream = stack.enter_context(socket.socket(socket.AF_INET, socket.SOCK_STREAM))
        datagrams = stack.enter_context(socket.socket(socket.AF_INET, socket.SOCK_DGRAM))
        try:
            stream.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            stream.bind((ADDRESS, TCP_PORT))
            stream.listen()
            datagrams.bind((ADDRESS, UDP_PORT))
        except OSError as error:
            text = f"the demo cannot listen on {ADDRESS}, ports {TCP_PORT} and {UDP_PORT}: {error.strerror}"
            raise EnvironmentFailure(text) from error
        with beside(_answer, datagrams):
            yield


def _answer(datagrams: socket.socket, stopped: threading.Event) -> None:
    datagrams.settimeout(0.1)
    while not stopped.is_set():
        with suppress(TimeoutError):
            data, sender = datagrams.recvfrom(2048)
            datagrams.sendto(data, sender)
