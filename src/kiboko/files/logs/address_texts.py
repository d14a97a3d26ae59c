"""Columns of addresses as text: each distinct text is told from the others, and read, once.

Nearly all are IPv4 in dotted decimals, of at most fifteen characters. Such a text is two numbers of 64 bits, by which
whole columns are compared without the library's dictionaries, and its octets are read digit by digit for all at once.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from kiboko.core.header.addresses import Address, parse_meant
from kiboko.core.records.columns import KeyNumbers, distinct
from kiboko.core.records.flow_table import AddressTable
from kiboko.files.elements.arrays import filled

_MOST_KNOWN = 1_000_000
_MOST_KEPT = 1 << 16
_LONGEST = 15
_LOW = (1 << 64) - 1
_PACKED = (4, 16)
"""Octets of an address of IPv4 and of IPv6."""
_FEW = 100
_WORD = np.dtype("<u8")
# For each length of a text what is kept of its first eight octets and of the next eight.
_KEPT = np.array([[255] * size + [0] * (16 - size) for size in range(_LONGEST + 1)], dtype=np.uint8).view(_WORD)
_FIRST, _SECOND = _KEPT[:, 0].copy(), _KEPT[:, 1].copy()
_LONGEST_SIX, _LONG_WORDS = 39, 5
_KEPT_LONG = np.array([[255] * size + [0] * (40 - size) for size in range(40)], dtype=np.uint8).view(_WORD)


class AddressTexts:
    """Reads columns of addresses. Remembers those that it has read, within a bound: most come again and again."""

    def __init__(self) -> None:
        self._known: dict[str, Address | None] = {}
        self._forget()

    def _forget(self) -> None:
        self._numbers = KeyNumbers(2)
        self._long_numbers = KeyNumbers(_LONG_WORDS)
        self._number_of: dict[Address, int] = {}
        self._addresses = AddressTable.of([Address(4, 0)])

    def table(self, columns: Sequence[pa.ChunkedArray]) -> tuple[AddressTable, list[NDArray[np.int64]]]:
        """The addresses of some columns of texts, dictionaries of texts or octets; and for each column, for each row,
        which it is, int64[n]: 0 where there is none, or a text that is no address."""
        if len(self._known) > _MOST_KNOWN:
            self._known.clear()
        read = [_texts(column) for column in columns]
        rows = [0, *np.cumsum([len(texts) for texts, _ in read]).tolist()]
        first, second = np.zeros(rows[-1], dtype=_WORD), np.zeros(rows[-1], dtype=_WORD)
        is_long = np.zeros(rows[-1], dtype=np.bool_)
        for begin, (texts, _) in zip(rows, read):
            _put_words(texts, first[begin:], second[begin:], is_long[begin:])
        codes, found = self._short(first, second), []
        for begin, end, (texts, indices) in zip(rows, rows[1:], read):
            mine, long = codes[begin:end], np.flatnonzero(is_long[begin:end])
            if len(long):
                mine[long] = self._long(*_long_words(texts, long))
            found.append(mine if indices is None else np.append(mine, 0)[indices])
        return self._addresses, found

    def _short(self, first: NDArray[np.uint64], second: NDArray[np.uint64]) -> NDArray[np.int64]:
        """Which address each text of at most fifteen octets is; new ones are read and remembered."""
        if len(self._addresses) > _MOST_KEPT:  # what is done for each of them would cost more than it saves
            self._forget()
        found = self._numbers.find(first, second)
        rows = np.flatnonzero(found < 0)
        if not len(rows):
            return found
        groups = distinct(first[rows], second[rows])
        words = np.stack([first[rows[groups.first]], second[rows[groups.first]]], axis=1)
        low, good = _ipv4(words)
        size = len(self._addresses)
        number = np.where(good, size + np.arange(len(groups)), 0)
        family, high = np.full(len(groups), 4, dtype=np.uint8), np.zeros(len(groups), dtype=np.uint64)
        for index in np.flatnonzero(~good).tolist():
            octets = words[index].tobytes()
            address = self._address(octets[: octets[-1]].decode("utf-8", "replace"))
            if address is not None:
                number[index], family[index] = size + index, address.family
                high[index], low[index] = address.value >> 64, address.value & _LOW
        self._addresses = self._addresses.and_more(AddressTable(family, high, low))
        self._numbers.note(number, words[:, 0].copy(), words[:, 1].copy())
        found[rows] = number[groups.codes]
        return found

    def _long(self, words: NDArray[np.uint64], whole: dict[int, bytes]) -> NDArray[np.int64]:
        """Which address each longer text is, 0 for none; new ones are read and remembered. `words` are as `_long_words`
        has them, and `whole` the texts of those that do not fit into them."""
        columns = [np.ascontiguousarray(column) for column in words.T]
        found = self._long_numbers.find(*columns)
        more: list[Address] = []
        for row, octets in whole.items():
            found[row] = self._number(octets, more)
        rows = np.flatnonzero(found < 0)
        if len(rows):
            groups = distinct(*(column[rows] for column in columns))
            first = rows[groups.first]
            told = [each.tobytes() for each in words[first]]
            number = np.array([self._number(each[: each[-1]], more) for each in told], dtype=np.int64)
            self._long_numbers.note(number, *(column[first] for column in columns))
            found[rows] = number[groups.codes]
        if more:
            self._addresses = self._addresses.and_more(AddressTable.of(more))
        return found

    def _number(self, octets: bytes, more: list[Address]) -> int:
        """Which address a text is, 0 for none; one that was not met yet goes behind `more` of them."""
        address = self._address(octets.decode("utf-8", "replace"))
        if address is None:
            return 0
        if address not in self._number_of:
            self._number_of[address] = len(self._addresses) + len(more)
            more.append(address)
        return self._number_of[address]

    def _address(self, text: str) -> Address | None:
        if text not in self._known:
            try:
                self._known[text] = parse_meant(text.strip())
            except ValueError:
                self._known[text] = None
        return self._known[text]


def parse_ipv4(texts: pa.Array) -> tuple[NDArray[np.uint64], NDArray[np.bool_]]:
    """Texts as IPv4 addresses all at once: their numbers uint64[m], and which of them are dotted decimals without
    leading zeros (RFC 6943, section 3.1.1: other forms are ambiguous)."""
    words = np.zeros((len(texts), 2), dtype=_WORD)
    _put_words(
        pa.chunked_array([texts.cast(pa.binary())]), words[:, 0], words[:, 1], np.zeros(len(texts), dtype=np.bool_)
    )
    return _ipv4(words)


def _texts(column: pa.ChunkedArray) -> tuple[pa.ChunkedArray, NDArray[np.int64] | None]:
    """A column as octets; where it is a dictionary, its entries and for each row which it is, -1 for none."""
    if not pa.types.is_dictionary(column.type):
        return column if pa.types.is_binary(column.type) else column.cast(pa.binary()), None
    if column.num_chunks == 0:
        return pa.chunked_array([], pa.binary()), np.zeros(0, dtype=np.int64)
    whole = column.unify_dictionaries().combine_chunks() if column.num_chunks > 1 else column.chunk(0)
    entries = pa.chunked_array([whole.dictionary.cast(pa.binary())])
    return entries, filled(whole.indices, -1)[0].astype(np.int64)


def addresses_written_out(table: pa.Table) -> pa.Table:
    """A table by information element, of a file that has types, with its addresses as texts."""
    for place, name in enumerate(table.column_names):
        if name.endswith(("IPv4Address", "IPv6Address")):
            table = table.set_column(place, name, _written_out(table.column(name)))
    return table


def _written_out(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """A column of addresses as numbers of IPv4, or as their four or sixteen octets, as texts; others as they are."""
    kind = column.type
    if pa.types.is_fixed_size_binary(kind):
        is_packed = kind.byte_width in _PACKED
    elif pa.types.is_binary(kind) or pa.types.is_large_binary(kind):
        few = [octets for octets in column.slice(0, _FEW).to_pylist() if octets is not None]
        is_packed = bool(few) and all(len(octets) in _PACKED for octets in few) and not all(map(_is_text, few))
    else:
        is_packed = False
    if not is_packed and not pa.types.is_integer(kind):
        return column
    coded = column.combine_chunks().dictionary_encode() if column.num_chunks else pa.array([], kind).dictionary_encode()
    texts = [_of_octets(each) if is_packed else _of_number(each) for each in coded.dictionary.to_pylist()]
    return pa.chunked_array([pa.DictionaryArray.from_arrays(coded.indices, pa.array(texts, pa.string()))])


def _is_text(octets: bytes) -> bool:
    """Whether octets may be a text: of an address as it is nearly all are not."""
    return all(0x20 <= octet < 0x7F for octet in octets)


def _of_octets(octets: bytes) -> str:
    """Four or sixteen octets in the order of the network; others as the hexadecimal digits that they are."""
    if len(octets) not in _PACKED:
        return octets.hex()
    return str(Address(4 if len(octets) == 4 else 6, int.from_bytes(octets, "big")))


def _of_number(number: int) -> str:
    """An IPv4 address as a number of 32 bits, with a sign or without."""
    return str(Address(4, number & 0xFFFFFFFF)) if -(1 << 31) <= number < 1 << 32 else str(number)


def _long_words(texts: pa.ChunkedArray, rows: NDArray[np.int64]) -> tuple[NDArray[np.uint64], dict[int, bytes]]:
    """Some longer texts, by ascending rows, as forty octets each, in five numbers: up to 39 of its own, as many as an
    address of IPv6 has at most, the last of them for how many these are. Texts that are longer still are zero there,
    and by their places among the rows in full."""
    found, whole = np.zeros((len(rows), _LONG_WORDS), dtype=_WORD), {}
    begin = 0
    for chunk in texts.chunks:
        first, last = np.searchsorted(rows, (begin, begin + len(chunk))).tolist()
        if first < last:
            _, places, octets = chunk.buffers()
            mine = rows[first:last] - begin + chunk.offset
            offsets = np.frombuffer(places, dtype=np.int32).astype(np.int64)
            sizes = offsets[mine + 1] - offsets[mine]
            data = np.append(
                np.frombuffer(octets, dtype=np.uint8)[: offsets[mine[-1] + 1]], np.zeros(40, dtype=np.uint8)
            )
            # Forty octets from any place on, as one item.
            windows: NDArray[np.void] = np.ndarray((len(data) - 39,), "V40", data.data, strides=(1,))
            words = windows[offsets[mine]].view(_WORD).reshape(-1, _LONG_WORDS)
            for row in np.flatnonzero(sizes > _LONGEST_SIX).tolist():
                low = int(offsets[mine[row]])
                whole[first + row], sizes[row] = data[low : low + int(sizes[row])].tobytes(), 0
            found[first:last] = words & _KEPT_LONG[sizes]
            found[first:last, -1] |= sizes.astype(_WORD) << np.uint64(56)
        begin += len(chunk)
    return found, whole


def _put_words(
    texts: pa.ChunkedArray, first: NDArray[np.uint64], second: NDArray[np.uint64], is_long: NDArray[np.bool_]
) -> None:
    """Write each text as sixteen octets, in two numbers: up to fifteen of its own, the last of them for how many these
    are. Texts that are longer are left out and told of in `is_long`. All three, of at least as many items as there are
    texts, come zero."""
    begin = 0
    for chunk in texts.chunks:  # one after another, since each fits a processor's cache
        count = len(chunk)
        _, places, octets = chunk.buffers()
        if count and octets is not None:
            offsets = np.frombuffer(places, dtype=np.int32)[chunk.offset : chunk.offset + count + 1].astype(np.int64)
            data = np.concatenate([np.frombuffer(octets, dtype=np.uint8)[: offsets[-1]], np.zeros(16, dtype=np.uint8)])
            # Sixteen octets from any place on, as one item.
            windows: NDArray[np.void] = np.ndarray((len(data) - 15,), "V16", data.data, strides=(1,))
            words = windows[offsets[:-1]].view(_WORD).reshape(-1, 2)
            kept, mine = np.diff(offsets), slice(begin, begin + count)
            if kept.max() > _LONGEST:
                is_long[mine] = kept > _LONGEST
                kept[is_long[mine]] = 0
            first[mine] = words[:, 0] & _FIRST[kept]
            second[mine] = words[:, 1] & _SECOND[kept] | kept.astype(_WORD) << np.uint64(56)
        begin += count


def _ipv4(words: NDArray[np.uint64]) -> tuple[NDArray[np.uint64], NDArray[np.bool_]]:
    octets = np.ascontiguousarray(words.view(np.uint8).reshape(-1, 16).T)
    count, length = len(words), octets[_LONGEST]
    good = np.ones(count, dtype=np.bool_)
    value, part = np.zeros(count, dtype=np.uint64), np.zeros(count, dtype=np.uint16)
    digits, dots = np.zeros(count, dtype=np.uint8), np.zeros(count, dtype=np.uint8)
    for place in range(int(length.max(initial=0))):
        digit = octets[place] - np.uint8(ord("0"))
        is_dot = octets[place] == ord(".")
        is_digit = digit < 10
        good &= (is_digit & ((digits == 0) | (part > 0))) | (is_dot & (digits > 0)) | (place >= length)
        part = np.where(is_digit, part * np.uint16(10) + digit, part)
        good &= part <= 255
        value = np.where(is_dot, value << np.uint64(8) | part, value)
        part[is_dot] = 0
        digits = np.where(is_dot, 0, digits + is_digit)
        dots += is_dot
    good &= (dots == 3) & (digits > 0)
    return np.where(good, value << np.uint64(8) | part, np.uint64(0)), good
