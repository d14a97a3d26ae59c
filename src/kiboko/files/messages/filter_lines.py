"""Lines of the kernel's packet filter as a log daemon writes them, read many at once.

One pattern takes those apart that have the usual form (nf_log_syslog.c of the Linux kernel), and says of each what
`kiboko.files.messages.syslog` says of it by itself. Any other line is left to that.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from kiboko.files.elements.fields import FLAG_BITS
from kiboko.files.messages.syslog import MONTHS, fate_of, time_written

_STAMP = (
    rf"(?:{'|'.join(MONTHS)}) +[0-9]{{1,2}} [0-9]{{2}}:[0-9]{{2}}:[0-9]{{2}}(?:\.[0-9]+)?"
    r"|[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9:.Z+-]+"
)
_DEVICE = "[A-Za-z0-9_.@-]*"
_FORM = (
    rf"^(?P<time>{_STAMP}) (?P<host>[A-Za-z0-9_.-]+) kernel: *(?:\[ *[0-9]+\.[0-9]+\] )?(?P<prefix>[ !#-<>-~]*)"
    rf"IN=(?P<in>{_DEVICE}) OUT=(?P<out>{_DEVICE}) (?:PHYSIN={_DEVICE} )?(?:PHYSOUT={_DEVICE} )?(?:MAC=[0-9a-f:]* )?"
    r"SRC=(?P<source>[0-9a-fA-F.:]+) DST=(?P<destination>[0-9a-fA-F.:]+) LEN=(?P<octets>[0-9]+) "
    r"(?:(?:TOS|PREC|TTL|ID|TC|HOPLIMIT|FLOWLBL)=(?:0x)?[0-9A-F]+ |CE |DF |MF )*"
    r"PROTO=(?P<protocol>TCP|UDP|UDPLITE|ICMP|ICMPv6|[0-9]+)(?: SPT=(?P<from>[0-9]+) DPT=(?P<to>[0-9]+))?"
    r"(?: SEQ=[0-9]+ ACK=[0-9]+)?(?: WINDOW=[0-9]+)?(?: RES=0x[0-9A-Fa-f]+)?"
    rf"(?P<flags>(?: (?:{'|'.join(FLAG_BITS)}))*)(?: TYPE=(?P<type>[0-9]{{1,3}}) CODE=(?P<code>[0-9]{{1,3}}))?"
    r"(?: (?:URGP|LEN|ID|SEQ|UID|GID|MARK)=(?:0x)?[0-9A-Fa-f]+)* *\r?\n?$"
)


def filter_lines(lines: pa.Array, arrived: datetime) -> tuple[NDArray[np.bool_], pa.Table]:
    """Which of some lines (binary) have the usual form, bool[n], and the fields of these as columns of texts by
    information element; columns without any value are left out. `arrived` tells the year that RFC 3164 leaves out."""
    parts = pc.extract_regex(lines, pattern=_FORM)
    is_usual = parts.is_valid().to_numpy(zero_copy_only=False)
    found = parts.filter(pa.array(is_usual))
    names = {each.name: found.field(each.name).cast(pa.string()) for each in found.type}
    moments = _each(names["time"], lambda stamp: _milliseconds(stamp, arrived))
    kind = _kinds(names["type"], names["code"])
    # A time that is none makes the tag a part of the prefix, and a type that is none is not told.
    is_whole = pc.and_(moments.is_valid(), pc.or_(kind.is_valid(), pc.equal(names["type"], "")))
    is_six = pc.match_substring(names["source"], ":")
    nothing = pa.scalar(None, pa.string())
    columns = {
        "flowStartMilliseconds": moments,
        "sourceIPv4Address": names["source"],
        "destinationIPv4Address": names["destination"],
        "sourceTransportPort": _told(names["from"]),
        "destinationTransportPort": _told(names["to"]),
        "protocolIdentifier": names["protocol"],
        "octetDeltaCount": names["octets"],
        "packetDeltaCount": pa.array(["1"] * len(found), pa.string()),
        "tcpControlBits": pc.if_else(pc.equal(names["protocol"], "TCP"), _each(names["flags"], _flags), nothing),
        "icmpTypeCodeIPv4": pc.if_else(is_six, nothing, kind),
        "icmpTypeCodeIPv6": pc.if_else(is_six, kind, nothing),
        "exporterIPv4Address": names["host"],
        "ingressInterface": _told(names["in"]),
        "egressInterface": _told(names["out"]),
        "flowDirection": pc.if_else(pc.and_(pc.equal(names["in"], ""), pc.not_equal(names["out"], "")), "1", nothing),
        "firewallEvent": _each(names["prefix"], fate_of),
    }
    is_usual[is_usual] = is_whole.to_numpy(zero_copy_only=False)
    table = pa.table(columns).filter(is_whole)
    return is_usual, table.select([name for name in table.column_names if table[name].null_count < table.num_rows])


def _told(column: pa.Array) -> pa.Array:
    """A column without its empty texts."""
    return pc.if_else(pc.equal(column, ""), pa.scalar(None, pa.string()), column)


def _each(column: pa.Array, made: Callable[[str], str | None]) -> pa.Array:
    """What is made of each text of a column; of equal ones once."""
    coded = column.dictionary_encode()
    return pa.array([made(text) for text in coded.dictionary.to_pylist()], pa.string()).take(coded.indices)


def _milliseconds(stamp: str, arrived: datetime) -> str | None:
    moment = time_written(stamp, arrived)
    return str(round(moment.timestamp() * 1000)) if moment is not None else None


def _flags(words: str) -> str:
    return str(sum(FLAG_BITS[name] for name in set(words.split())))


def _kinds(kind: pa.Array, code: pa.Array) -> pa.Array:
    """Types and codes of ICMP as numbers in texts; none where either is none."""

    def number(text: str) -> str | None:
        parts = [int(each) for each in text.split() if int(each) < 256]
        return str(parts[0] << 8 | parts[1]) if len(parts) == 2 else None

    return _each(pc.binary_join_element_wise(kind, code, " "), number)
