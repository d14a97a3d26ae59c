"""Real probes from this machine: TCP connect, UDP with a payload, ICMP echo; IPv4 and IPv6.

What came back is one of four outcomes: `answered`, `refused` (TCP reset, port unreachable), `silent`, or
`unreachable` (any other ICMP error, or no route from here).
"""

from __future__ import annotations

import contextlib
import errno
import os
import select
import socket
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from queue import SimpleQueue
from typing import Any

from kiboko.core.errors import EnvironmentFailure, UsageError
from kiboko.core.header.addresses import Address
from kiboko.core.header.services import ICMP, ICMP6, TCP, UDP, Service
from kiboko.core.records.records import ANSWERED, REFUSED, SILENT, UNREACHABLE

_UNREACHABLE_ERRORS = frozenset(
    (errno.EHOSTUNREACH, errno.ENETUNREACH, errno.EACCES, errno.EHOSTDOWN, errno.EPROTO, errno.ENETDOWN)
)
_HERE = frozenset((errno.EMFILE, errno.ENFILE, errno.EADDRNOTAVAIL, errno.EAFNOSUPPORT, errno.ENOBUFS, errno.ENOMEM))


@dataclass(frozen=True, slots=True)
class Target:
    """Where one probe goes. `source_port` and `source` fix the client's port and address; None lets the system
    choose."""

    address: Address
    service: Service
    source_port: int | None = None
    source: Address | None = None


@dataclass(frozen=True, slots=True)
class Sending:
    """How to probe: seconds to wait for each attempt, attempts at most, the UDP payload in bytes."""

    timeout: float = 2.0
    attempts: int = 2
    payload: bytes = b"kiboko"


@dataclass(frozen=True, slots=True)
class Outcome:
    """What one probe saw: the outcome, the round-trip time in milliseconds, attempts made, ports and addresses."""

    outcome: str
    rtt_ms: float | None
    attempts: int
    source_port: int | None
    sent_from: str | None


_WITHOUT_IPV6 = "; where this machine has no IPv6 address, -4 leaves IPv6 out"


def probe_all(targets: Sequence[Target], sending: Sending, concurrency: int) -> Iterator[tuple[int, Outcome]]:
    """Probe many targets at once and hand over each outcome as soon as it is there, with the place of its target.

    Raises UsageError for a protocol that cannot be probed, EnvironmentFailure where this machine fails.
    """
    for target in targets:
        if target.service.protocol not in (TCP, UDP, ICMP, ICMP6):
            raise UsageError(f"{target.service} cannot be probed: tcp, udp and echo requests can")
    waiting, done = deque(enumerate(targets)), SimpleQueue[tuple[int, Outcome | Exception]]()

    def work() -> None:
        with contextlib.suppress(IndexError):  # nothing is left
            while True:
                place, target = waiting.popleft()
                try:
                    done.put((place, probe(target, sending)))
                except Exception as error:  # it is for whoever waits
                    done.put((place, error))

    # Daemons, so that whoever is interrupted does not wait until the last silence is one.
    for _ in range(max(1, min(concurrency, len(targets)))):
        threading.Thread(target=work, daemon=True).start()
    try:
        for _ in targets:
            place, outcome = done.get()
            if isinstance(outcome, Exception):
                raise outcome
            yield place, outcome
    finally:
        waiting.clear()


def probe(target: Target, sending: Sending) -> Outcome:
    """Probe one target until it gives any answer, or the attempts are used up. Raises EnvironmentFailure."""
    once = {TCP: _tcp_once, UDP: _udp_once}.get(target.service.protocol, _echo_once)
    made = 0
    result = Outcome(SILENT, None, 0, None, None)
    while made < sending.attempts:
        made += 1
        try:
            result = once(target, sending)
        except OSError as error:
            if error.errno in _HERE:
                hint = _WITHOUT_IPV6 if (error.errno, target.address.family) == (errno.EADDRNOTAVAIL, 6) else ""
                raise EnvironmentFailure(
                    f"probing {target.address} {target.service}: {error.strerror}{hint}"
                ) from error
            result = Outcome(UNREACHABLE, None, made, None, None)
        if result.outcome != SILENT:
            break
    return Outcome(result.outcome, result.rtt_ms, made, result.source_port, result.sent_from)


def _family(address: Address) -> socket.AddressFamily:
    return socket.AF_INET if address.family == 4 else socket.AF_INET6


def _open(target: Target, kind: socket.SocketKind) -> socket.socket:
    try:
        made = socket.socket(_family(target.address), kind)
        made.setblocking(False)
        # An ICMP error ends an attempt at once instead of being taken for a passing trouble (ip(7), ipv6(7)).
        recverr = (socket.IPPROTO_IP, 11) if target.address.family == 4 else (socket.IPPROTO_IPV6, 25)
        made.setsockopt(*recverr, 1)
        if target.source_port is not None or target.source is not None:
            made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            own = str(target.source) if target.source is not None else "" if target.address.family == 4 else "::"
            made.bind((own, target.source_port or 0))
    except OSError as error:
        where = f" from port {target.source_port}" if target.source_port is not None else ""
        raise EnvironmentFailure(f"probing {target.address}{where}: {error.strerror}") from error
    return made


def _settled(made: socket.socket, outcome: str, began: float) -> Outcome:
    rtt = round((time.monotonic() - began) * 1000, 3) if outcome in (ANSWERED, REFUSED) else None
    name = made.getsockname()
    return Outcome(outcome, rtt, 1, name[1] or None, name[0] if name[0] not in ("0.0.0.0", "::") else None)


def _of_error(number: int) -> str | None:
    """The outcome that a socket error tells; None where it tells nothing of the network."""
    if number == 0:
        return ANSWERED
    if number in (errno.ECONNREFUSED, errno.ECONNRESET):
        return REFUSED
    if number == errno.ETIMEDOUT:
        return SILENT
    return UNREACHABLE if number in _UNREACHABLE_ERRORS else None


def _wait(made: socket.socket, event: int, seconds: float) -> bool:
    """Whether a socket became ready, or failed, in time. (`poll` takes descriptors of any number.)"""
    waiting = select.poll()
    waiting.register(made, event)
    return bool(waiting.poll(seconds * 1000))


def _tcp_once(target: Target, sending: Sending) -> Outcome:
    with _open(target, socket.SOCK_STREAM) as made:
        began = time.monotonic()
        number = made.connect_ex((str(target.address), target.service.detail))
        if number == errno.EINPROGRESS:
            ready = _wait(made, select.POLLOUT, sending.timeout)
            number = made.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR) if ready else errno.ETIMEDOUT
        outcome = _of_error(number)
        if outcome is None:
            raise OSError(number, os.strerror(number))
        return _settled(made, outcome, began)


def _udp_once(target: Target, sending: Sending) -> Outcome:
    with _open(target, socket.SOCK_DGRAM) as made:
        began = time.monotonic()
        number = made.connect_ex((str(target.address), target.service.detail))
        try:
            if number:
                raise OSError(number, os.strerror(number))
            with contextlib.suppress(PermissionError):  # our own filter dropped it: the sender sees silence
                made.send(sending.payload)
            if not _wait(made, select.POLLIN, sending.timeout):
                return _settled(made, SILENT, began)
            made.recv(65535)
        except OSError as error:
            outcome = _of_error(error.errno or 0)
            if outcome is None:
                raise
            return _settled(made, outcome, began)
        return _settled(made, ANSWERED, began)


def _echo_once(target: Target, sending: Sending) -> Outcome:
    """One echo request, over a raw socket where the system allows it, else an unprivileged datagram one."""
    if (target.service.detail >> 8) not in (8, 128):
        raise UsageError(f"{target.service} cannot be probed: of ICMP only echo requests can")
    from icmplib import SocketPermissionError  # only echo probes pay for it

    # A raw socket first: it is shown the whole ICMP error, so that one about another packet can be told.
    for privileged in (True, False):
        try:
            return replace(_echo(target, sending, privileged), sent_from=_left_from(target))
        except SocketPermissionError:
            continue
    raise EnvironmentFailure(
        f"probing {target.address} {target.service}: this system lets only root send echo requests;"
        " widen net.ipv4.ping_group_range or run as root"
    )


def may_send_echo_requests() -> bool:
    """Whether this system lets this user send echo requests at all."""
    for kind in (socket.SOCK_RAW, socket.SOCK_DGRAM):
        with contextlib.suppress(OSError):
            socket.socket(socket.AF_INET, kind, socket.IPPROTO_ICMP).close()
            return True
    return False


def _left_from(target: Target) -> str | None:
    """The address from which the system sends to a target: that of a datagram socket that is connected to it, by which
    no packet goes out (connect(2))."""
    if target.source is not None:
        return str(target.source)
    with contextlib.suppress(OSError), socket.socket(_family(target.address), socket.SOCK_DGRAM) as made:
        made.connect((str(target.address), 9))
        return str(made.getsockname()[0])
    return None


def _echo(target: Target, sending: Sending, privileged: bool) -> Outcome:
    from icmplib import (
        DestinationUnreachable,
        ICMPRequest,
        ICMPSocketError,
        ICMPv4Socket,
        ICMPv6Socket,
        SocketBroadcastError,
        TimeExceeded,
        TimeoutExceeded,
    )
    from icmplib.utils import unique_identifier

    factory: Callable[..., Any] = ICMPv4Socket if target.address.family == 4 else ICMPv6Socket
    own = str(target.source) if target.source is not None else None
    with _about(target.address, factory)(address=own, privileged=privileged) as made:
        if not privileged:
            # Only a connected datagram socket is told of errors (icmp(7)).
            with contextlib.suppress(OSError):
                made.sock.connect((str(target.address), 0))
        began = time.monotonic()
        request = ICMPRequest(str(target.address), unique_identifier(), 1, payload=sending.payload)
        try:
            with contextlib.suppress(SocketBroadcastError):  # our own filter took it; a refusal may still come
                made.send(request)
            reply = made.receive(request, sending.timeout)
            reply.raise_for_status()
            while reply.source != str(target.address):
                # An answer from somewhere else is none: whoever asked would not take it.
                left = sending.timeout - (time.monotonic() - began)
                if left <= 0:
                    raise TimeoutExceeded(sending.timeout)
                reply = made.receive(request, left)
                reply.raise_for_status()
        except TimeoutExceeded:
            return Outcome(SILENT, None, 1, None, None)
        except DestinationUnreachable as error:
            # Clause S33: port unreachable is how a filter refuses; every other code is `unreachable`.
            refusing = 3 if target.address.family == 4 else 4
            outcome = REFUSED if error.reply.code == refusing else UNREACHABLE
            return Outcome(outcome, None, 1, None, None)
        except (TimeExceeded, ICMPSocketError) as error:
            cause = error.__cause__ or error.__context__
            known = _of_error(cause.errno or 0) if isinstance(cause, OSError) else UNREACHABLE
            if known is None:
                raise EnvironmentFailure(f"probing {target.address}: {getattr(cause, 'strerror', error)}") from error
            return Outcome(known, None, 1, None, None)
        return Outcome(ANSWERED, round((time.monotonic() - began) * 1000, 3), 1, None, None)


def _about(address: Address, factory: Callable[..., Any]) -> Callable[..., Any]:
    """An echo socket that takes only errors about packets to `address`: what a translation or a redirected flow
    draws from elsewhere speaks of another packet, though it quotes our identifier (RFC 792, RFC 4443)."""
    base: Any = factory

    class _Socket(base):  # type: ignore[misc]
        def _parse_reply(self, packet: bytes, source: str, current_time: float) -> Any:
            reply = super()._parse_reply(packet, source, current_time)
            if reply is None or not self.is_privileged or reply.type == self._ICMP_ECHO_REPLY:
                return reply
            if address.family == 4:
                inner = (packet[0] & 15) * 4 + 8
                quoted = packet[inner + 16 : inner + 20]
            else:
                quoted = packet[32:48]
            return reply if int.from_bytes(quoted, "big") == address.value else None

    return _Socket
