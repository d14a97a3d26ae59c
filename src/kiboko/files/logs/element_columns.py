"""Information elements of flow records, column by column: whole columns of texts or numbers as arrays of numbers."""

from __future__ import annotations

import contextlib
import functools
import re
from collections.abc import Callable
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kiboko.core.records.columns import combined
from kiboko.core.records.flow_table import EVENTS, NO_TIME
from kiboko.files.elements.arrays import filled, values_of
from kiboko.files.elements.fields import EVENT_NAMES, FORWARDED, parse_flags, parse_mac
from kiboko.files.elements.moments import PLAIN, UNREADABLE, ZONELESS, read_moments
from kiboko.files.logs.biflows import Reverse

_EXPORTERS = {"exporterIPv4Address", "exporterIPv6Address", "observationDomainId", "ingressInterface"}
# The times that a calendar of four digits has, in milliseconds since 1970.
_EARLIEST, LATEST = -62_135_596_800_000, 253_402_300_799_999
_NO_NUMBER = 256
_BAD = -2
_NUMBER = re.compile(r"-?\d{1,17}", re.ASCII)
_WHOLE = r"^(\d{1,18}|0[xX][0-9a-fA-F]{1,15})$"
_REVERSE = {"reversePacketDeltaCount", "reverseOctetDeltaCount", "responderPackets", "responderOctets"}


class ElementColumns:
    """The columns of one batch as arrays, each by the name of its information element; `bad` marks the rows of which
    some value could not be read."""

    def __init__(self, batch: pa.Table) -> None:
        self._batch = batch
        self.bad = np.zeros(batch.num_rows, dtype=np.bool_)
        self.zoneless = np.zeros(batch.num_rows, dtype=np.bool_)
        """Rows with a time without a zone, where others of its column have one."""

    def _column(self, name: str) -> pa.ChunkedArray | None:
        return self._batch.column(name) if name in self._batch.column_names else None

    def whole(self, name: str, missing: int, most: int) -> NDArray[np.int32]:
        """Whole numbers from 0 to `most`; `missing` where there is none."""
        return self._whole(name, missing, most).astype(np.int32, copy=False)

    def flags(self, name: str) -> NDArray[np.int32]:
        """Flags of TCP; -1 where there are none."""
        column = self._column(name)
        if column is None or pa.types.is_integer(column.type) or pa.types.is_null(column.type):
            return self.whole(name, -1, 0xFFFF)
        return self._each_read(column, parse_flags, -1, np.int32)

    def icmp_kind(self, name: str) -> NDArray[np.int32]:
        """Type and code of ICMP messages: together, or in two elements; -1 where neither is there."""
        kind = self.whole(name, -1, 65535)
        family = name[-4:]
        if f"icmpType{family}" not in self._batch.column_names:
            return kind
        apart, code = self.whole(f"icmpType{family}", -1, 255), self.whole(f"icmpCode{family}", 0, 255)
        return np.where((kind < 0) & (apart >= 0), apart << 8 | code, kind)

    def events(self) -> NDArray[np.int16]:
        """What records say of their fate: `firewallEvent`, else `forwardingStatus`."""
        event = self.coded("firewallEvent", _event, 0)
        if "forwardingStatus" not in self._batch.column_names:
            return event
        status = self.whole("forwardingStatus", 0, 255)
        told = np.array([EVENTS.index(each) for each in FORWARDED], dtype=np.int16)[status]
        return np.where(event == 0, told, event)

    def counts(self, name: str, other: str) -> NDArray[np.int64]:
        """A count, or what another element has of it."""
        found = self.count(name, 0)
        if other in self._batch.column_names:
            found = np.where(found == 0, self.count(other, 0), found)
        return found

    def link(self) -> dict[str, NDArray[Any]]:
        """What records say of the link, by column of a table: those columns of which some record has a value."""
        found: dict[str, NDArray[Any]] = {}
        if self._column("vlanId") is not None:
            vlan = self.whole("vlanId", -1, 65535)
            found["vlan"] = np.where(vlan == 0, -1, vlan)  # a frame of no VLAN has priority only
        for name in ("source", "destination"):
            if (column := self._column(f"{name}MacAddress")) is not None:
                found[f"{name}_mac"] = self._macs(f"{name}MacAddress", column)
        return {name: column for name, column in found.items() if (column >= 0).any()}

    def _macs(self, name: str, column: pa.ChunkedArray) -> NDArray[np.int64]:
        if pa.types.is_integer(column.type):
            numbers = filled(column, -1)[0].astype(np.int64, copy=False)
            return np.where((numbers > 0) & (numbers < 1 << 48), numbers, -1)
        texts, codes = self.texts(name)
        read = np.full(len(texts), -1, dtype=np.int64)
        for index, text in enumerate(texts):
            with contextlib.suppress(ValueError):  # nothing rests on it: a record is not lost for it
                read[index] = (parse_mac(text) or -1) if text else -1
        return read[codes]

    def parts(self) -> NDArray[np.int64] | None:
        """A number for each flow that records are parts of, -1 for those that say nothing."""
        if self._column("flowId") is None:
            return None
        texts, codes = self.texts("flowId")
        none = np.array([text is None for text in texts])[codes]
        return np.where(none, -1, codes)

    def reverse(self) -> Reverse | None:
        """The other direction of each record; None where no record tells of it."""
        names = set(self._batch.column_names)
        if not names & {*_REVERSE, "biflowDirection"}:
            return None
        direction = self.whole("biflowDirection", 0, 255)
        told = np.where(direction <= 2, direction, 0).astype(np.uint8)
        if {"responderPackets", "responderOctets"} & names:
            told = np.where(told == 0, 1, told).astype(np.uint8)
        return Reverse(
            self.counts("reversePacketDeltaCount", "responderPackets"),
            self.counts("reverseOctetDeltaCount", "responderOctets"), self.flags("reverseTcpControlBits"),
            self.times("reverseFlowStartMilliseconds"), self.times("reverseFlowEndMilliseconds"), told,
        )  # fmt: skip

    def count(self, name: str, missing: int) -> NDArray[np.int64]:
        """Whole numbers from 0; `missing` where there is none."""
        return self._whole(name, missing, None).astype(np.int64, copy=False)

    def _whole(self, name: str, missing: int, most: int | None) -> NDArray[Any]:
        column = self._column(name)
        if column is None:
            return np.full(len(self.bad), missing, dtype=np.int64 if most is None else np.int32)
        if not pa.types.is_integer(column.type):
            column = self._as_whole(column)
        values, absent = filled(column, missing)
        if absent is None and (not len(values) or (values.min() >= 0 and (most is None or values.max() <= most))):
            return values
        wrong = values < 0 if most is None else (values < 0) | (values > most)
        if absent is not None:
            wrong &= ~absent
        if wrong.any():
            self.bad |= wrong
            values = np.where(wrong, missing, values)
        return values

    def _as_whole(self, column: pa.ChunkedArray) -> pa.ChunkedArray:
        if pa.types.is_null(column.type):
            return column.cast(pa.int64())
        import pyarrow.compute as pc  # takes long to load, and most logs have their numbers as numbers

        text = pc.utf8_trim_whitespace(column.cast(pa.string()))
        text = pc.if_else(pc.equal(text, ""), pa.scalar(None, pa.string()), text)
        fits = pc.match_substring_regex(text, _WHOLE)
        self.bad |= values_of(pc.fill_null(pc.invert(fits), False))
        return pc.if_else(fits, text, pa.scalar(None, pa.string())).cast(pa.int64())

    def times(self, name: str) -> NDArray[np.int64]:
        """Times in milliseconds since 1970 UTC: whole numbers as they are, text as RFC 7373 or RFC 3339."""
        column = self._column(name)
        if column is None:
            return np.full(len(self.bad), NO_TIME, dtype=np.int64)
        unit = "ms"
        if pa.types.is_timestamp(column.type):
            unit = column.type.unit
            column = pa.chunked_array([chunk.view(pa.int64()) for chunk in column.chunks], pa.int64())
        elif not pa.types.is_integer(column.type):
            column = self._as_times(column)
        values = _in_milliseconds(filled(column, int(NO_TIME))[0].astype(np.int64, copy=False), unit)
        if len(values) and (values.min() < _EARLIEST or values.max() > LATEST):
            wrong = ((values < _EARLIEST) | (values > LATEST)) & (values != NO_TIME)
            self.bad |= wrong
            values = np.where(wrong, NO_TIME, values)
        return values

    def _as_times(self, column: pa.ChunkedArray) -> pa.ChunkedArray:
        if pa.types.is_null(column.type):
            return column.cast(pa.int64())
        import pyarrow.compute as pc

        texts = pc.utf8_trim_whitespace(column.cast(pa.string())).to_pylist()
        numbers = [bool(text) and _NUMBER.fullmatch(text) is not None for text in texts]
        result, kinds = read_moments([None if number else text for text, number in zip(texts, numbers, strict=True)])
        dated = np.array([bool(text) for text in texts], dtype=np.bool_) & ~np.array(numbers, dtype=np.bool_)
        self.bad |= dated & (kinds == UNREADABLE)
        if (kinds == PLAIN).any():
            self.zoneless |= kinds == ZONELESS
        for index in np.flatnonzero(numbers).tolist():
            result[index] = int(texts[index] or 0)
        return pa.chunked_array([pa.array(result, mask=result == NO_TIME)])

    def coded(self, name: str, read: Callable[[str], int], missing: int) -> NDArray[np.int16]:
        """Values of a small vocabulary, each distinct text read once; `missing` where there is none."""
        column = self._column(name)
        if column is None:
            return np.full(len(self.bad), missing, dtype=np.int16)
        if pa.types.is_integer(column.type):
            numbers, _ = filled(column, _NO_NUMBER)
            if len(numbers) and numbers.min() >= 0 and numbers.max() <= _NO_NUMBER:
                found = _numbered(read, missing).take(numbers)
                if found.min() == _BAD:
                    self.bad |= found == _BAD
                return found
        return self._each_read(column, read, missing, np.int16)

    def _each_read(
        self, column: pa.ChunkedArray, read: Callable[[str], int], missing: int, kind: type[np.signedinteger[Any]]
    ) -> NDArray[Any]:
        """A column of texts, each distinct one read once."""
        texts, codes = _coded(column)
        read_once = np.full(len(texts) + 1, missing, dtype=kind)
        wrong = np.zeros(len(texts) + 1, dtype=np.bool_)
        for index, text in enumerate(texts):
            try:
                read_once[index] = read(text.strip()) if text.strip() else missing
            except (ValueError, KeyError):
                wrong[index] = True
        self.bad |= wrong[codes]
        return read_once[codes]

    def points(self) -> tuple[tuple[str | None, ...], NDArray[np.int64]]:
        """Where each record was taken, as `texts` has it: the observation point that it names, else its exporter,
        observation domain and interface."""
        known, codes = self.texts("observationPointId")
        if not _EXPORTERS & set(self._batch.column_names):
            return known, codes
        parts = [self._either("exporterIPv4Address", "exporterIPv6Address"), self.texts("observationDomainId"),
                 self._interface()]  # fmt: skip
        groups = combined([column for _, column in parts], len(self.bad))
        made = [
            point_name(*(texts[column[row]] for texts, column in parts)) if len(self.bad) else None
            for row in groups.first.tolist()
        ]
        none = np.array([text is None for text in known])[codes]
        return (*known, *made), np.where(none, len(known) + groups.codes, codes)

    def _either(self, name: str, other: str) -> tuple[tuple[str | None, ...], NDArray[np.int64]]:
        one, two = self.texts(name), self.texts(other)
        none = np.array([text is None for text in one[0]])[one[1]]
        return (*one[0], *two[0]), np.where(none, len(one[0]) + two[1], one[1])

    def _interface(self) -> tuple[tuple[str | None, ...], NDArray[np.int64]]:
        """The interface at which the packets were seen: where `flowDirection` is 1, the one they left by."""
        known, codes = self.texts("ingressInterface")
        if self._column("flowDirection") is None or self._column("egressInterface") is None:
            return known, codes
        directions, direction = self.texts("flowDirection")
        left = np.array([text == "1" for text in directions])[direction]
        other, other_codes = self.texts("egressInterface")
        return (*known, *other), np.where(left, len(known) + other_codes, codes)

    def texts(self, name: str) -> tuple[tuple[str | None, ...], NDArray[np.int64]]:
        """The distinct texts of a column, None among them, and for each row which it is."""
        column = self._column(name)
        if column is None:
            return (None,), np.zeros(len(self.bad), dtype=np.int64)
        texts, codes = _coded(column)
        return (*(text.strip() or None for text in texts), None), np.where(codes < 0, len(texts), codes)


def _in_milliseconds(values: NDArray[np.int64], unit: str) -> NDArray[np.int64]:
    """Times of a unit of the library's in milliseconds; what is beyond any calendar stays beyond it."""
    if unit == "s":
        fits = (values >= _EARLIEST // 1000) & (values <= LATEST // 1000)
        return np.where(fits, values * 1000, np.where(values == NO_TIME, NO_TIME, LATEST + 1))
    if unit == "ms" or not len(values):
        return values
    found: NDArray[np.int64] = values // (1000 if unit == "us" else 1_000_000)
    return np.where(values == NO_TIME, NO_TIME, found) if values.min() == NO_TIME else found


@functools.cache
def _numbered(read: Callable[[str], int], missing: int) -> NDArray[np.int16]:
    """What each small number of a vocabulary means, `_BAD` for nothing; the last stands for none."""
    table = np.full(_NO_NUMBER + 1, _BAD, dtype=np.int16)
    for number in range(_NO_NUMBER):
        with contextlib.suppress(ValueError, KeyError):
            table[number] = read(str(number))
    table[_NO_NUMBER] = missing
    return table


def point_name(exporter: str | None, domain: str | None, interface: str | None) -> str | None:
    """The observation point that an exporter, its observation domain and an interface make: `EXPORTER/DOMAIN/INTERFACE`
    with `*` for what is not known; None where nothing is."""
    parts = [part or "*" for part in (exporter, domain, interface)]
    while parts and parts[-1] == "*":
        parts.pop()
    return "/".join(parts) or None


def _coded(column: pa.ChunkedArray) -> tuple[list[str], NDArray[np.int64]]:
    """The distinct texts of a column and for each row the index of its own, -1 for none."""
    if not pa.types.is_dictionary(column.type):
        column = column.cast(pa.string()).dictionary_encode()
    if column.num_chunks == 0:
        return [], np.zeros(0, dtype=np.int64)
    whole = column.unify_dictionaries().combine_chunks() if column.num_chunks > 1 else column.chunk(0)
    return [str(text) for text in whole.dictionary.to_pylist()], filled(whole.indices, -1)[0].astype(np.int64)


def _event(text: str) -> int:
    return EVENTS.index(EVENT_NAMES[text.lower()])
