"""Messages in a stream: syslog (RFC 6587; RFC 5425 uses counted octets over TLS) and IPFIX (RFC 7011, section 10.4)."""

from __future__ import annotations

from typing import Protocol

MOST_OCTETS = 1 << 16
"""Octets of a message that are read: of a longer one the beginning."""
_LONGEST_SKIP = 1 << 30


_IPFIX, _IPFIX_HEADER = 10, 16


class Framing(Protocol):
    """What finds the messages in a stream. `too_long` counts those of which only the beginning was handed on; `broken`
    tells of a stream that cannot be followed any further."""

    too_long: int
    broken: bool

    def feed(self, data: bytes) -> list[bytes]:
        """What a stream brought next: the messages that are whole now."""

    @property
    def is_waiting(self) -> bool:
        """Whether a message has begun that has not ended."""

    def rest(self) -> bytes:
        """What a stream ended with that may be a message."""


class IpfixFrames:
    """The IPFIX messages in a stream, which say themselves how long they are. Octets that are no header end it: nothing
    tells where the next message begins."""

    def __init__(self) -> None:
        self._buffer = bytearray()
        self.too_long = 0
        self.broken = False

    def feed(self, data: bytes) -> list[bytes]:
        """What a stream brought next: the messages that are whole now."""
        self._buffer += data
        found: list[bytes] = []
        at = 0
        while len(self._buffer) - at >= 4:
            version, length = (int.from_bytes(self._buffer[at + begin : at + begin + 2], "big") for begin in (0, 2))
            if version != _IPFIX or length < _IPFIX_HEADER:
                self.broken = True
                break
            if len(self._buffer) - at < length:
                break
            found.append(bytes(self._buffer[at : at + length]))
            at += length
        del self._buffer[: len(self._buffer) if self.broken else at]
        return found

    @property
    def is_waiting(self) -> bool:
        """Whether a message has begun that has not ended."""
        return bool(self._buffer)

    def rest(self) -> bytes:
        """What a stream ended with in the middle of a message; what of it is whole can be read all the same."""
        left = bytes(self._buffer)
        self._buffer.clear()
        return left


class Frames:
    """The messages in a stream (RFC 6587): counted octets or ended by a line feed, whichever each of them begins with.

    Of a message longer than `MOST_OCTETS` only so much is handed on, and it is counted in `too_long`; `broken` tells of
    a stream that cannot be followed any further. No more than one such message is ever kept.
    """

    def __init__(self) -> None:
        self._buffer = bytearray()
        self._skip = 0
        self._skip_line = False
        self.too_long = 0
        self.broken = False

    def feed(self, data: bytes) -> list[bytes]:
        """What a stream brought next: the messages that are whole now."""
        self._buffer += data
        found: list[bytes] = []
        while self._buffer and not self.broken:
            if self._skip:
                gone = min(self._skip, len(self._buffer))
                del self._buffer[:gone]
                self._skip -= gone
                continue
            message = self._line() if self._skip_line or not 0x30 < self._buffer[0] <= 0x39 else self._counted()
            if message is None:
                break
            if message.strip():
                found.append(message)
        return found

    @property
    def is_waiting(self) -> bool:
        """Whether a message has begun that has not ended."""
        return bool(self._buffer)

    def rest(self) -> bytes:
        """What a stream ended with: a last message without its line feed."""
        left = bytes(self._buffer) if not (self._skip or self._skip_line or self.broken) else b""
        self._buffer.clear()
        return left

    def _counted(self) -> bytes | None:
        space = self._buffer.find(b" ", 0, 12)
        digits = bytes(self._buffer[: space if space >= 0 else 12])
        if space < 0 and len(self._buffer) < 12 and digits.isdigit():
            return None
        if space < 0 or not digits.isdigit():
            return self._line()
        length = int(digits)
        if length > MOST_OCTETS:
            if length > _LONGEST_SKIP:
                self.too_long += 1
                self.broken = True
                return None
            if len(self._buffer) < space + 1 + MOST_OCTETS:
                return None
            self.too_long += 1
            message = bytes(self._buffer[space + 1 : space + 1 + MOST_OCTETS])
            del self._buffer[: space + 1 + MOST_OCTETS]
            self._skip = length - MOST_OCTETS
            return message
        if len(self._buffer) < space + 1 + length:
            return None
        message = bytes(self._buffer[space + 1 : space + 1 + length])
        del self._buffer[: space + 1 + length]
        return message

    def _line(self) -> bytes | None:
        end = self._buffer.find(b"\n")
        if self._skip_line:
            self._skip_line = end < 0
            del self._buffer[: end + 1 if end >= 0 else len(self._buffer)]
            return b"" if end >= 0 else None
        if end < 0 and len(self._buffer) <= MOST_OCTETS:
            return None
        message = bytes(self._buffer[: min(end if end >= 0 else MOST_OCTETS, MOST_OCTETS)])
        if end < 0 or end > MOST_OCTETS:
            self.too_long += 1
        self._skip_line = end < 0
        del self._buffer[: end + 1 if end >= 0 else len(self._buffer)]
        return message
