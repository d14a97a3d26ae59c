"""What the flags and types of a flow record tell by themselves: an opening, a refusal, an error, an echo."""

from __future__ import annotations

from kiboko.core.header.services import ICMP, ICMP6
from kiboko.core.records.records import DENIED, FlowRecord

_SYN, _RST, _ACK = 0x02, 0x04, 0x10
ICMP_ERRORS = {ICMP: (3, 4, 5, 11, 12), ICMP6: (1, 2, 3, 4)}


def is_opening(record: FlowRecord) -> bool:
    """SYN without ACK: the first packet of a TCP connection, never a reply."""
    return record.tcp_flags is not None and record.tcp_flags & (_SYN | _ACK) == _SYN


def is_bare_opening(record: FlowRecord) -> bool:
    """SYN and nothing else: a sender that got an answer would have sent more."""
    return record.tcp_flags is not None and record.tcp_flags & 0x3F == _SYN


def is_bare_reset(record: FlowRecord) -> bool:
    """RST, perhaps with ACK, and nothing else (RFC 9293, section 3.10.7)."""
    return record.tcp_flags is not None and record.tcp_flags & 0x3F in (_RST, _RST | _ACK)


def is_icmp_error(record: FlowRecord) -> bool:
    """An ICMP message that speaks of another packet (RFC 792, RFC 4443)."""
    return record.service.detail >> 8 in ICMP_ERRORS.get(record.service.protocol, ())


def is_echo_reply(record: FlowRecord) -> bool:
    """The answer to an echo request (RFC 792, RFC 4443)."""
    return record.service.detail >> 8 == {ICMP: 0, ICMP6: 129}.get(record.service.protocol)


def proves_passage(record: FlowRecord) -> bool:
    """Whether a reply proves that its request passed: a refusal may come from whatever stopped it."""
    return record.event != DENIED and not is_bare_reset(record)
