"""Data sets of one template, whose records are all of one length, as columns: gathered at once instead of field by
field."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kiboko.core.records.columns import distinct
from kiboko.core.records.flow_table import AddressTable

Fields = Sequence[tuple[str, str, int]]
"""A template as netflume has it: name, kind and length in octets of each field, 65535 for any length."""
ELEMENTS = {
    "flow_start_ms": "flowStartMilliseconds", "flow_end_ms": "flowEndMilliseconds",
    "src_port": "sourceTransportPort", "dst_port": "destinationTransportPort", "proto": "protocolIdentifier",
    "icmp_type_code": "icmpTypeCodeIPv4", "icmp_type_code_v6": "icmpTypeCodeIPv6", "tcp_flags": "tcpControlBits",
    "ie233": "firewallEvent", "observation_point_id": "observationPointId", "in_if": "ingressInterface",
    "out_if": "egressInterface", "direction": "flowDirection", "ie161": "flowDurationMilliseconds",
    "src_addr": "sourceIPv4Address", "dst_addr": "destinationIPv4Address", "forwarding_status": "forwardingStatus",
    "ie239": "biflowDirection", "ie298": "initiatorPackets", "ie299": "responderPackets", "ie231": "initiatorOctets",
    "ie232": "responderOctets", "vlan": "vlanId", "src_mac": "sourceMacAddress", "dst_mac": "destinationMacAddress",
    "flow_id": "flowId", "post_nat_src_addr": "postNATSourceIPv4Address",
    "post_nat_src_port": "postNAPTSourceTransportPort", "e29305.6": "reverseTcpControlBits",
    "e29305.152": "reverseFlowStartMilliseconds", "e29305.153": "reverseFlowEndMilliseconds",
}  # fmt: skip
"""Fields by the names of netflume, and the information elements that they are."""
TIMES = tuple(
    (f"flow_{end}_{unit}", f"flow{end.capitalize()}Milliseconds")
    for end in ("start", "end")
    for unit in ("s", "us", "ns")
)
"""Absolute times in other units than milliseconds."""
COUNTS = (("packets", "packetDeltaCount", "packets_total"), ("octets", "octetDeltaCount", "octets_total"))
"""Counts: the one since the last record, the element, and the one since the flow began."""
REVERSE_COUNTS = (("e29305.2", "reversePacketDeltaCount", "e29305.86"),
                  ("e29305.1", "reverseOctetDeltaCount", "e29305.85"))  # fmt: skip
"""The same of the other direction of a biflow (RFC 5103, section 6.1: elements under the reverse number)."""
OBSERVED = "observation_time_ms"
DAY_MS = 86_400_000
WRAP_MS = 1 << 32
_ICMP6 = 58
_NTP_EPOCH = 2_208_988_800
_MOST = (1 << 63) - 1
_ANY_LENGTH = 0xFFFF


@dataclass(slots=True)
class RecordLayout:
    """Where each field of a template stands, and the octets of records that wait to be gathered.

    For each body there are its exporter's time of export and of its boot, in milliseconds since 1970 (0 for no boot
    known), and the rate that its counts are multiplied by.
    """

    fields: Fields
    places: dict[str, tuple[int, int, str]]
    length: int
    bodies: list[bytes] = field(default_factory=list)
    about: list[tuple[int, int, int, int]] = field(default_factory=list)

    @classmethod
    def of(cls, fields: Fields) -> RecordLayout | None:
        """The layout of a template; None where its records have no fixed length, or a field occurs twice."""
        names = [name for name, _, _ in fields]
        if len(set(names)) != len(names) or any(length == _ANY_LENGTH for _, _, length in fields):
            return None
        places, at = {}, 0
        for name, kind, length in fields:
            places[name] = at, length, kind
            at += length
        return cls(fields, places, at) if at else None

    def count(self, body: bytes) -> int:
        """How many records a set has."""
        return len(body) // self.length

    def add(self, body: bytes, export_ms: int, boot_ms: int, rate: int) -> int:
        """Keep the records of a set; how many they are. What is left behind the last is padding."""
        count = len(body) // self.length
        self.bodies.append(body[: count * self.length])
        self.about.append((count, export_ms, boot_ms, rate))
        return count

    def take(self, exporter: str, domain: int) -> pa.Table:
        """What was kept, as columns by information element."""
        return taken_together([(self, exporter, domain)])


def taken_together(parts: Sequence[tuple[RecordLayout, str, int]]) -> pa.Table:
    """What layouts of the same fields have kept, each with its exporter and observation domain, as columns by
    information element. Thousands of exporters, or domains, may have a few records each."""
    first = parts[0][0]
    bodies = [body for layout, _, _ in parts for body in layout.bodies]
    octets = np.frombuffer(b"".join(bodies), dtype=np.uint8).reshape(-1, first.length)
    about = [each for layout, _, _ in parts for each in layout.about]
    counts, exports, boots, rates = (np.array(each, dtype=np.int64) for each in zip(*about, strict=True))
    sizes = np.array([sum(count for count, *_ in layout.about) for layout, _, _ in parts])
    for layout, _, _ in parts:
        layout.bodies, layout.about = [], []
    columns = _Gathered(first.places, octets).columns(*(np.repeat(each, counts) for each in (exports, boots, rates)))
    columns["exporterIPv4Address"] = _repeated([exporter for _, exporter, _ in parts], sizes)
    columns["observationDomainId"] = _repeated([str(domain) for _, _, domain in parts], sizes)
    return pa.table(columns)


def _repeated(texts: list[str], sizes: NDArray[np.int64]) -> pa.Array:
    """Each text as often as its size says; an empty one is none."""
    known = {text: number for number, text in enumerate(dict.fromkeys(text for text in texts if text))}
    codes = np.repeat(np.array([known.get(text, -1) for text in texts], dtype=np.int32), sizes)
    if not known:
        return pa.nulls(len(codes), pa.string())
    indices = pa.array(codes, mask=codes < 0)
    return pa.DictionaryArray.from_arrays(indices, pa.array(list(known), pa.string()))


def has_ends(fields: Fields) -> bool:
    """Whether the records of a template have a source and a destination."""
    names = {name for name, _, _ in fields}
    return bool({"src_addr", "post_nat_src_addr"} & names) and bool({"dst_addr", "post_nat_dst_addr"} & names)


_OF_SAMPLES = {f"ie{number}" for number in (301, 313, 314, 315, 316, 317)}
"""Elements that only packet samples have (RFC 5477): which selection took them, and sections of them."""


def is_of_samples(fields: Fields) -> bool:
    """Whether the records of a template are packets that were sampled, and no flows."""
    return any(name in _OF_SAMPLES for name, _, _ in fields)


class _Gathered:
    """The fields of records as columns."""

    def __init__(self, places: dict[str, tuple[int, int, str]], octets: NDArray[np.uint8]) -> None:
        self._places = places
        self._octets = octets

    def columns(
        self, exports: NDArray[np.int64], boots: NDArray[np.int64], rates: NDArray[np.int64]
    ) -> dict[str, pa.Array]:
        found: dict[str, pa.Array] = {}
        for name, element in ELEMENTS.items():
            if name in self._places:
                is_address = name in ("src_addr", "dst_addr", "post_nat_src_addr")
                found[element] = self._addresses(name) if is_address else pa.array(self._whole(name))
        if "vlanId" not in found and "dot1q_vlan" in self._places:
            found["vlanId"] = pa.array(self._whole("dot1q_vlan"))
        for name, element in (
            ("post_nat_src_addr", "sourceIPv4Address"),
            ("post_nat_dst_addr", "destinationIPv4Address"),
        ):
            if element not in found and name in self._places:
                found[element] = self._addresses(name)
        for name, element in TIMES:
            if name in self._places and element not in found:
                found[element] = pa.array(self._moments(name))
        told = "system_init_time_ms" in self._places
        boots = self._whole("system_init_time_ms") if told else boots
        for name, element in (("first_switched", "flowStartMilliseconds"), ("last_switched", "flowEndMilliseconds")):
            if name in self._places and element not in found and (told or boots.all()):
                found[element] = pa.array(self._since_boot(name, exports, boots))
        if "flowStartMilliseconds" not in found and "flowEndMilliseconds" not in found:
            found["flowStartMilliseconds"] = pa.array(self._whole(OBSERVED) if OBSERVED in self._places else exports)
        for name, element, total in (*COUNTS, *REVERSE_COUNTS):
            source = name if name in self._places else total
            if source not in self._places and (name, element, total) in REVERSE_COUNTS:
                continue
            counted = self._whole(source) if source in self._places else np.zeros(len(self._octets), dtype=np.int64)
            found[element] = pa.array(np.minimum(counted, _MOST // np.maximum(rates, 1)) * rates)
        if "icmp_type" in self._places:
            code = self._whole("icmp_code") if "icmp_code" in self._places else 0
            six = "proto" in self._places and bool((self._whole("proto") == _ICMP6).any())
            found.setdefault(
                "icmpTypeCodeIPv6" if six else "icmpTypeCodeIPv4", pa.array(self._whole("icmp_type") << 8 | code)
            )
        return found

    def _field(self, name: str) -> NDArray[np.uint8]:
        at, length, _ = self._places[name]
        return self._octets[:, at : at + length]

    def _unsigned(self, name: str) -> NDArray[np.uint64]:
        octets = self._field(name)[:, -8:]
        value = np.zeros(len(octets), dtype=np.uint64)
        for index in range(octets.shape[1]):
            value = value << np.uint64(8) | octets[:, index]
        return value

    def _whole(self, name: str) -> NDArray[np.int64]:
        return np.minimum(self._unsigned(name), np.uint64(_MOST)).astype(np.int64)

    def _moments(self, name: str) -> NDArray[np.int64]:
        """Seconds, or NTP timestamps (RFC 7011, section 6.1.9), in milliseconds since 1970."""
        if self._places[name][2] != "ntp":
            return self._whole(name) * 1000
        value = self._unsigned(name)
        seconds = (value >> np.uint64(32)).astype(np.int64) - _NTP_EPOCH
        fraction = (value & np.uint64(0xFFFFFFFF)).astype(np.float64) / 2**32
        return seconds * 1000 + np.round(fraction * 1000).astype(np.int64)

    def _since_boot(self, name: str, exports: NDArray[np.int64], boots: NDArray[np.int64]) -> NDArray[np.int64]:
        """Times of an exporter's uptime. It is of 32 bits and wraps after 49.7 days: a time far behind its own export
        has wrapped in between."""
        moments = boots + self._whole(name)
        return np.where(moments > exports + DAY_MS, moments - WRAP_MS, moments)

    def _addresses(self, name: str) -> pa.Array:
        """Addresses as a dictionary of texts: each that occurs is written out once."""
        octets = np.ascontiguousarray(self._field(name))
        length = octets.shape[1]
        if length not in (4, 16):
            return pa.nulls(len(octets), pa.string())
        values = octets.view(">u4" if length == 4 else ">u8").astype(np.uint64)
        kinds = distinct(*values.T)
        words = values[kinds.first]
        family = np.full(len(words), 4 if length == 4 else 6, dtype=np.uint8)
        texts = AddressTable(family, words[:, 0], words[:, -1]).texts()
        return pa.DictionaryArray.from_arrays(pa.array(kinds.codes.astype(np.int32)), pa.array(texts, pa.string()))
