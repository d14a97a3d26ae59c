"""Flow records as IPFIX messages (RFC 7011): for files (RFC 5655), and for collectors."""

from __future__ import annotations

import struct
import time
from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.services import ICMP, ICMP6, WITH_PORTS
from kiboko.core.records.flow_table import NO_TIME, FlowTable

DOMAIN = 1
"""The observation domain of what is written here."""
_TEMPLATES = {4: 256, 6: 257}
_MOST_OCTETS = 1400
# Element numbers of the IANA registry and lengths; addresses and ICMP stand for either family.
_FIELDS = (
    ("start", 152, 8), ("end", 153, 8), ("source", (8, 27), 0), ("destination", (12, 28), 0), ("source_port", 7, 2),
    ("destination_port", 11, 2), ("protocol", 4, 1), ("icmp", (32, 139), 2), ("flags", 6, 2), ("packets", 2, 8),
    ("octets", 1, 8), ("event", 233, 1), ("point", 138, 8), ("direction", 239, 1),
    ("vlan", 58, 2), ("source_mac", 56, 6), ("destination_mac", 80, 6),
)  # fmt: skip
_EVENTS = np.array([0, 1, 3], dtype=np.uint8)


def templates(sequence: int = 0) -> bytes:
    """The message that has to come first: a template for each family. It counts no records."""
    sets = b""
    for family, number in _TEMPLATES.items():
        fields = b"".join(struct.pack("!HH", *each) for each in _specifiers(family))
        sets += struct.pack("!HHHH", 2, 8 + len(fields), number, len(_FIELDS)) + fields
    return _message(sequence, sets)


def messages(table: FlowTable, sequence: int = 0) -> Iterator[bytes]:
    """The records of a table, `sequence` records after the first. A point that is no number is left out, as elements of
    that kind are numbers; counts that were not recorded are 0."""
    for family, number in _TEMPLATES.items():
        octets = _records(table.taken(table.addresses.family[table.source] == family), family)
        size = octets.shape[1]
        at_once = (_MOST_OCTETS - 20) // size
        for start in range(0, len(octets), at_once):
            body = octets[start : start + at_once].tobytes()
            yield _message(sequence, struct.pack("!HH", number, 4 + len(body)) + body)
            sequence += len(body) // size


def _message(sequence: int, sets: bytes) -> bytes:
    return struct.pack("!HHIII", 10, 16 + len(sets), int(time.time()), sequence & 0xFFFFFFFF, DOMAIN) + sets


def _specifiers(family: int) -> list[tuple[int, int]]:
    """Element number and length of each field."""
    found = []
    for _, element, length in _FIELDS:
        either = element if isinstance(element, tuple) else (element, element)
        found.append((either[0 if family == 4 else 1], length or (4 if family == 4 else 16)))
    return found


def _records(table: FlowTable, family: int) -> NDArray[np.uint8]:
    """The records of one family, uint8[n, length]."""
    ported = np.isin(table.protocol, sorted(WITH_PORTS))
    end = np.where(table.end == NO_TIME, table.start, table.end)
    points = np.array(
        [int(text) if text is not None and text.isdecimal() else 0 for text in table.points], dtype=np.uint64
    )
    columns: dict[str, NDArray[np.generic]] = {
        "start": np.maximum(table.start, 0), "end": np.maximum(end, 0),
        "source_port": np.where(ported, np.maximum(table.source_port, 0), 0),
        "destination_port": np.where(ported, table.detail, 0),
        "protocol": table.protocol, "icmp": np.where(np.isin(table.protocol, (ICMP, ICMP6)), table.detail, 0),
        "flags": np.maximum(table.flags, 0), "packets": table.packets, "octets": table.octets,
        "event": _EVENTS[table.event], "point": points[table.point],
        "direction": table.optional("direction"),
        **{name: np.maximum(table.optional(name), 0) for name in ("vlan", "source_mac", "destination_mac")},
    }  # fmt: skip
    parts = []
    for (name, _, _), (_, length) in zip(_FIELDS, _specifiers(family), strict=True):
        if name in ("source", "destination"):
            rows = table.source if name == "source" else table.destination
            wide = np.stack([table.addresses.high[rows], table.addresses.low[rows]], axis=1).astype(">u8")
            octets = wide.view(np.uint8).reshape(len(table), 16)
            parts.append(octets[:, 16 - length :])
        else:
            wide = columns[name].astype(">u8").view(np.uint8).reshape(len(table), 8)
            parts.append(wide[:, 8 - length :])
    return np.concatenate(parts, axis=1)
