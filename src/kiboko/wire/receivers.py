"""Sockets that flow records and log messages come in by: UDP, TCP, and TLS over TCP."""

from __future__ import annotations

import asyncio
import contextlib
import os
import socket
import ssl
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from time import monotonic

from kiboko.core.errors import SurroundingsError
from kiboko.wire.framing import Frames

Taker = Callable[[bytes, str], None]
"""Takes a message and the address of who sent it."""
_BUFFER = 64 << 20
_LARGEST = 65535
_AT_ONCE = 500
_MOST_CONNECTIONS = 1000
_LAST_SECONDS = 10
_FORCE_BUFFER = 33  # SO_RCVBUFFORCE of Linux: beyond the limit, for who may


@dataclass(frozen=True, slots=True)
class Certificate:
    """What TLS needs (RFC 5425): certificate and key, and the authority that clients' certificates must be of, where
    they need one at all."""

    certificate: Path
    key: Path | None = None
    client_authority: Path | None = None

    def context(self) -> ssl.SSLContext:
        """A server's side of TLS. Raises SurroundingsError where the files are no good."""
        made = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        made.minimum_version = ssl.TLSVersion.TLSv1_2
        try:
            made.load_cert_chain(self.certificate, self.key)
            if self.client_authority is not None:
                made.load_verify_locations(self.client_authority)
                made.verify_mode = ssl.CERT_REQUIRED
        except (OSError, ssl.SSLError) as error:
            raise SurroundingsError(f"{self.certificate}: no certificate that TLS can use: {error}") from error
        return made


@dataclass(slots=True)
class Receivers:
    """Open sockets. `faults` is told of what goes wrong, by kind, with who sent it and how often."""

    faults: Callable[[str, str, int], None]
    _sockets: dict[socket.socket, Taker] = field(default_factory=dict)
    _servers: list[asyncio.Server] = field(default_factory=list)
    _connections: set[asyncio.Transport] = field(default_factory=set)
    _dropped: dict[int, int] = field(default_factory=dict)

    def datagrams(self, address: str, port: int, take: Taker) -> str:
        """Receive datagrams; where, as text. Raises SurroundingsError where that cannot be."""
        family = socket.AF_INET6 if ":" in address else socket.AF_INET
        made = socket.socket(family, socket.SOCK_DGRAM)
        made.setblocking(False)
        for option in (_FORCE_BUFFER, socket.SO_RCVBUF):
            with contextlib.suppress(OSError):
                made.setsockopt(socket.SOL_SOCKET, option, _BUFFER)
                break
        try:
            made.bind((address, port))
        except (OSError, OverflowError) as error:
            made.close()
            raise _cannot_listen("udp", address, port, error) from error
        self._sockets[made] = take
        asyncio.get_running_loop().add_reader(made, self._drain, made, take)
        return f"udp {_shown(made.getsockname())}"

    def _drain(self, source: socket.socket, take: Taker) -> bool:
        """Take some datagrams; whether there may be more."""
        for _ in range(_AT_ONCE):
            try:
                data, sender = source.recvfrom(_LARGEST)
            except (BlockingIOError, InterruptedError):
                return False
            except OSError as error:
                self.faults(f"socket errors, {error.strerror}", "", 1)
                return False
            take(data, sender[0])
        return True

    async def streams(self, address: str, port: int, take: Taker, tls: Certificate | None = None) -> str:
        """Receive streams of framed messages; where, as text. Raises SurroundingsError where that cannot be."""
        context = tls.context() if tls is not None else None
        loop = asyncio.get_running_loop()
        try:
            server = await loop.create_server(lambda: _Stream(self, take), address, port, ssl=context, backlog=100)
        except (OSError, OverflowError) as error:
            raise _cannot_listen("tcp", address, port, error) from error
        self._servers.append(server)
        return f"{'tls' if tls else 'tcp'} {_shown(server.sockets[0].getsockname())}"

    def count_dropped(self) -> None:
        """Tell `faults` of datagrams that the kernel has dropped since the last time, because nobody took them."""
        counts: dict[int, int] = {}
        for name in ("udp", "udp6"):
            with contextlib.suppress(OSError, ValueError, IndexError):
                lines = Path(f"/proc/self/net/{name}").read_text().splitlines()[1:]
                counts |= {int(cells[9]): int(cells[-1]) for cells in map(str.split, lines)}
        for each in self._sockets:
            inode = os.fstat(each.fileno()).st_ino
            fresh = counts.get(inode, 0) - self._dropped.get(inode, 0)
            if fresh > 0:
                self._dropped[inode] = counts[inode]
                self.faults("datagrams dropped: more came than could be taken", _shown(each.getsockname()), fresh)

    async def close(self) -> None:
        """Take what is there still, and close everything."""
        loop = asyncio.get_running_loop()
        for server in self._servers:
            server.close()
        for transport in list(self._connections):
            transport.close()
        await asyncio.sleep(0)
        self.count_dropped()
        until = monotonic() + _LAST_SECONDS
        for each, take in self._sockets.items():
            loop.remove_reader(each)
            while self._drain(each, take):
                if monotonic() > until:
                    self.faults("sockets with datagrams left behind at the end", _shown(each.getsockname()), 1)
                    break
            each.close()


class _Stream(asyncio.Protocol):
    """One connection."""

    def __init__(self, receivers: Receivers, take: Taker) -> None:
        self._receivers = receivers
        self._take = take
        self._frames = Frames()
        self._sender = ""
        self._transport: asyncio.Transport | None = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self._transport = transport
        self._sender = (transport.get_extra_info("peername") or ("",))[0]
        if len(self._receivers._connections) >= _MOST_CONNECTIONS:
            self._receivers.faults("connections refused: too many are open", self._sender, 1)
            transport.abort()
            return
        self._receivers._connections.add(transport)

    def data_received(self, data: bytes) -> None:
        before = self._frames.too_long
        for message in self._frames.feed(data):
            self._take(message, self._sender)
        if self._frames.too_long > before:
            self._receivers.faults("messages too long to be read", self._sender, self._frames.too_long - before)
        if self._frames.broken and self._transport is not None:
            self._receivers.faults("streams that could not be followed", self._sender, 1)
            self._transport.abort()

    def connection_lost(self, error: Exception | None) -> None:
        left = self._frames.rest()
        if left.strip():
            self._take(left, self._sender)
        if self._transport is not None:
            self._receivers._connections.discard(self._transport)


def _shown(name: tuple[str, int]) -> str:
    address, port = name[:2]
    return f"[{address}]:{port}" if ":" in address else f"{address}:{port}"


def _cannot_listen(kind: str, address: str, port: int, error: Exception) -> SurroundingsError:
    reason = getattr(error, "strerror", None) or str(error)
    return SurroundingsError(f"cannot listen at {kind} {_shown((address, port))}: {reason}")
