"""Sockets that flow records and log messages come in by: UDP, TCP, and TLS over TCP."""

from __future__ import annotations

import asyncio
import contextlib
import os
import resource
import socket
import ssl
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from time import monotonic

from kiboko.core.errors import EnvironmentFailure
from kiboko.wire.framing import MOST_OCTETS, Frames, Framing

Taker = Callable[[bytes, str], None]
"""Takes a message and the address of who sent it. Of a session it is `ADDRESS#PORT`, of a connection
`ADDRESS#tcp-PORT`: templates of IPFIX hold within one (RFC 7011, section 8)."""
_BUFFER = 64 << 20
_LARGEST = 65535
_AT_ONCE = 500
_TURN_SECONDS = 0.05
"""How long one socket is taken from before the others, and the signals, have their turn."""
_MOST_CONNECTIONS = 1000
_SPARE_FILES = 100
"""Open files that connections leave to everything else."""
_MOST_OF_ONE = 200
"""Connections of one sender."""
_IDLE_SECONDS = 60
"""After so long without a word a connection makes room for another, and one in the middle of a message is ended."""
_HANDSHAKE_SECONDS = 10
_LAST_SECONDS = 1
_FORCE_BUFFER = 33  # SO_RCVBUFFORCE of Linux: beyond the limit, for who may
_FOR_ANYBODY = 1024
"""Ports from here on anybody may listen to (ip(7), ip_unprivileged_port_start)."""


@dataclass(frozen=True, slots=True)
class Certificate:
    """What TLS needs (RFC 5425): certificate and key, and the authority that clients' certificates must be of, where
    they need one at all."""

    certificate: Path
    key: Path | None = None
    client_authority: Path | None = None

    def context(self) -> ssl.SSLContext:
        """A server's side of TLS. Raises EnvironmentFailure where the files are no good."""
        made = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        made.minimum_version = ssl.TLSVersion.TLSv1_2
        try:
            made.load_cert_chain(self.certificate, self.key)
            if self.client_authority is not None:
                made.load_verify_locations(self.client_authority)
                made.verify_mode = ssl.CERT_REQUIRED
        except (OSError, ssl.SSLError) as error:
            raise EnvironmentFailure(f"{self.certificate}: no certificate that TLS can use: {error}") from error
        return made


@dataclass(slots=True)
class Receivers:
    """Open sockets. `faults` is told of what goes wrong, by kind, with who sent it and how often."""

    faults: Callable[[str, str, int], None]
    _sockets: dict[socket.socket, Taker] = field(default_factory=dict)
    _sessions: set[socket.socket] = field(default_factory=set)
    _servers: list[asyncio.Server] = field(default_factory=list)
    _connections: set[_Stream] = field(default_factory=set)
    _by_sender: Counter[str] = field(default_factory=Counter)
    _most: int = 0
    _dropped: dict[int, int] = field(default_factory=dict)

    def datagrams(self, address: str, port: int, take: Taker, is_session: bool = False) -> str:
        """Receive datagrams, of sessions where that matters; where, as text. Raises EnvironmentFailure where that
        cannot be."""
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
        if is_session:
            self._sessions.add(made)
        self._sockets[made] = take
        asyncio.get_running_loop().add_reader(made, self._drain, made, take)
        return f"udp {_shown(made.getsockname())}"

    def _drain(self, source: socket.socket, take: Taker) -> bool:
        """Take some datagrams; whether there may be more."""
        until = monotonic() + _TURN_SECONDS
        for _ in range(_AT_ONCE):
            if monotonic() > until:
                return True
            try:
                data, sender = source.recvfrom(_LARGEST)
            except (BlockingIOError, InterruptedError):
                return False
            except OSError as error:
                self.faults(f"socket errors, {error.strerror}", "", 1)
                return False
            take(data, f"{sender[0]}#{sender[1]}" if source in self._sessions else sender[0])
        return True

    async def streams(
        self,
        address: str,
        port: int,
        take: Taker,
        tls: Certificate | None = None,
        framing: Callable[[], Framing] = Frames,
        is_session: bool = False,
    ) -> str:
        """Receive streams of framed messages, of sessions where that matters; where, as text. Raises EnvironmentFailure
        where that cannot be."""
        context = tls.context() if tls is not None else None
        loop = asyncio.get_running_loop()
        self._most = self._most or _connections_possible()
        try:
            # TLS begins once a connection is counted: one that never finishes its handshake is one all the same.
            server = await loop.create_server(
                lambda: _Stream(self, take, context, framing(), is_session), address, port, backlog=100
            )
        except (OSError, OverflowError) as error:
            raise _cannot_listen("tcp", address, port, error) from error
        self._servers.append(server)
        return f"{'tls' if tls else 'tcp'} {_shown(server.sockets[0].getsockname())}"

    def admit(self, stream: _Stream) -> bool:
        """Whether a new connection may stay. Where there are too many, one that has been idle makes room."""
        if self._by_sender[stream.sender] >= _MOST_OF_ONE:
            self.faults("connections refused: too many of one sender", stream.sender, 1)
            return False
        if len(self._connections) >= self._most:
            idlest = min(self._connections, key=lambda each: each.heard)
            if monotonic() - idlest.heard < _IDLE_SECONDS:
                self.faults("connections refused: too many are open", stream.sender, 1)
                return False
            self.faults("idle connections ended to make room", idlest.sender, 1)
            idlest.abort()
        self._connections.add(stream)
        self._by_sender[stream.sender] += 1
        return True

    def gone(self, stream: _Stream) -> None:
        """A connection is no more."""
        if stream in self._connections:
            self._connections.discard(stream)
            self._by_sender[stream.sender] -= 1
            if not self._by_sender[stream.sender]:
                del self._by_sender[stream.sender]

    def end_stalled(self) -> None:
        """End the connections that have stopped in the middle of a message: what they keep waits for nothing."""
        for stream in [each for each in self._connections if each.is_stalled]:
            self.faults("connections ended in the middle of a message", stream.sender, 1)
            stream.abort()

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
        for stream in list(self._connections):
            stream.end()
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
    """One connection. With TLS it stands for the handshake too, and takes what comes once that is done."""

    def __init__(
        self, receivers: Receivers, take: Taker, context: ssl.SSLContext | None, frames: Framing, is_session: bool
    ) -> None:
        self._receivers = receivers
        self._take = take
        self._context = context
        self._frames = frames
        self._is_session = is_session
        self._transport: asyncio.Transport | None = None
        self._handshake: asyncio.Task[None] | None = None
        self.sender = self._named = ""
        self.heard = monotonic()

    @property
    def is_stalled(self) -> bool:
        """Whether a message has begun and nothing has come since for long."""
        return self._frames.is_waiting and monotonic() - self.heard > _IDLE_SECONDS

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        if self._transport is not None:  # the same connection again, now within TLS
            self._transport = transport
            return
        self._transport = transport
        peer = transport.get_extra_info("peername") or ("", 0)
        self.sender = peer[0]
        self._named = f"{peer[0]}#tcp-{peer[1]}" if self._is_session else peer[0]
        if not self._receivers.admit(self):
            transport.abort()
        elif self._context is not None:
            transport.pause_reading()
            self._handshake = asyncio.get_running_loop().create_task(self._begin_tls(transport, self._context))

    async def _begin_tls(self, transport: asyncio.Transport, context: ssl.SSLContext) -> None:
        loop = asyncio.get_running_loop()
        try:
            made = await loop.start_tls(
                transport, self, context, server_side=True, ssl_handshake_timeout=_HANDSHAKE_SECONDS
            )
            self._transport = made
        except (OSError, ssl.SSLError, ConnectionError):
            self._receivers.faults("handshakes of TLS that came to nothing", self.sender, 1)
            transport.abort()
            self._receivers.gone(self)

    def data_received(self, data: bytes) -> None:
        self.heard = monotonic()
        before = self._frames.too_long
        for message in self._frames.feed(data):
            self._take(message, self._named)
        if self._frames.too_long > before:
            self._receivers.faults(_CUT, self.sender, self._frames.too_long - before)
        if self._frames.broken:
            self._receivers.faults("streams that could not be followed", self.sender, 1)
            self.abort()

    def connection_lost(self, error: Exception | None) -> None:
        left = self._frames.rest()
        if left.strip():
            self._take(left, self._named)
        self._receivers.gone(self)

    def end(self) -> None:
        """Close it, whatever is under way."""
        if self._handshake is not None and not self._handshake.done():
            self._handshake.cancel()
            self.abort()
        elif self._transport is not None:
            self._transport.close()

    def abort(self) -> None:
        """End it at once."""
        self._receivers.gone(self)
        if self._transport is not None:
            self._transport.abort()


_CUT = f"messages longer than {MOST_OCTETS >> 10} KiB, of which the beginning was read"


def _connections_possible() -> int:
    """How many connections may be open at once: as many as the system lets this process open files, less some for all
    else, and no more than are worth having."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = _MOST_CONNECTIONS + _SPARE_FILES
    if soft < wanted:
        most = wanted if hard == resource.RLIM_INFINITY else min(hard, wanted)
        with contextlib.suppress(OSError, ValueError):
            resource.setrlimit(resource.RLIMIT_NOFILE, (most, hard))
            soft = most
    return max(1, min(_MOST_CONNECTIONS, soft - _SPARE_FILES))


def _shown(name: tuple[str, int]) -> str:
    address, port = name[:2]
    return f"[{address}]:{port}" if ":" in address else f"{address}:{port}"


def _cannot_listen(kind: str, address: str, port: int, error: Exception) -> EnvironmentFailure:
    reason = getattr(error, "strerror", None) or str(error)
    if isinstance(error, PermissionError) and port < _FOR_ANYBODY:
        reason += (
            f"; ports below {_FOR_ANYBODY} are root's, or take CAP_NET_BIND_SERVICE: choose another, or forward it"
        )
    return EnvironmentFailure(f"cannot listen at {kind} {_shown((address, port))}: {reason}")
