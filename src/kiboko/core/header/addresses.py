"""IPv4 and IPv6 addresses and exact sets of them."""

from __future__ import annotations

import contextlib
import ipaddress
import re
import socket
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import NamedTuple

from kiboko.core.header.ranges import EMPTY, RangeSet

BITS = {4: 32, 6: 128}
_ZEROS = bytes(10)
_MAPPED, _V4 = 0xFFFF, (1 << 32) - 1


class Address(NamedTuple):
    """One IP address: its family (4 or 6) and its value as an unsigned integer of 32 or 128 bits. A tuple, since very
    many are looked up by."""

    family: int
    value: int

    def __str__(self) -> str:
        if self.family == 4:
            return socket.inet_ntop(socket.AF_INET, self.value.to_bytes(4, "big"))
        return ipv6_text(self.value.to_bytes(16, "big"))


def ipv6_text(octets: bytes) -> str:
    """An IPv6 address of 16 octets as RFC 5952 recommends, without dotted decimals: these are IPv4's here."""
    if octets.startswith(_ZEROS):  # of these, libraries write some with dotted decimals
        return str(ipaddress.IPv6Address(octets))
    return socket.inet_ntop(socket.AF_INET6, octets)


@dataclass(frozen=True, slots=True, order=True)
class Prefix:
    """A CIDR block (RFC 4632, RFC 4291): family, lowest address, length in bits."""

    family: int
    value: int
    length: int

    @property
    def last(self) -> int:
        """The highest address in the block, as an integer."""
        return self.value | ((1 << (BITS[self.family] - self.length)) - 1)

    def __contains__(self, address: Address) -> bool:
        return address.family == self.family and self.value <= address.value <= self.last

    def covers(self, other: Prefix) -> bool:
        """Whether every address of `other` lies in this block."""
        return self.family == other.family and self.value <= other.value and other.last <= self.last

    def overlaps(self, other: Prefix) -> bool:
        """Whether the two blocks share an address."""
        return self.family == other.family and self.value <= other.last and other.value <= self.last

    def __str__(self) -> str:
        return f"{Address(self.family, self.value)}/{self.length}"


@dataclass(frozen=True, slots=True)
class AddressSet:
    """An exact set of addresses: the IPv4 and the IPv6 members, each as ranges of integers."""

    v4: RangeSet = EMPTY
    v6: RangeSet = EMPTY

    @classmethod
    def union(cls, sets: Iterable[AddressSet]) -> AddressSet:
        """Everything that is in at least one of `sets`."""
        several = list(sets)
        if len(several) == 1:
            return several[0]
        four: list[tuple[int, int]] = []
        six: list[tuple[int, int]] = []
        for each in several:
            four.extend(each.v4.ranges)
            six.extend(each.v6.ranges)
        return cls(RangeSet.of(four), RangeSet.of(six))

    @classmethod
    def of_addresses(cls, addresses: Iterable[Address]) -> AddressSet:
        """The set of the given addresses."""
        four: list[tuple[int, int]] = []
        six: list[tuple[int, int]] = []
        for family, value in addresses:
            (four if family == 4 else six).append((value, value))
        return cls(RangeSet.of(four), RangeSet.of(six))

    @classmethod
    def of_prefixes(cls, prefixes: Iterable[Prefix]) -> AddressSet:
        """All addresses of the given blocks."""
        listed = list(prefixes)
        return cls(
            RangeSet.of((p.value, p.last) for p in listed if p.family == 4),
            RangeSet.of((p.value, p.last) for p in listed if p.family == 6),
        )

    def family(self, family: int) -> RangeSet:
        """The members of one family, as ranges of integers."""
        return self.v4 if family == 4 else self.v6

    def is_whole(self, family: int) -> bool:
        """Whether every address of a family is in the set."""
        return self.family(family).ranges == ((0, (1 << BITS[family]) - 1),)

    def __contains__(self, address: Address) -> bool:
        return address.value in (self.v4 if address.family == 4 else self.v6)

    def __bool__(self) -> bool:
        return bool(self.v4.ranges or self.v6.ranges)

    @property
    def size(self) -> int:
        """How many addresses are in the set."""
        return self.v4.size + self.v6.size

    def __or__(self, other: AddressSet) -> AddressSet:
        return AddressSet(self.v4 | other.v4, self.v6 | other.v6)

    def __and__(self, other: AddressSet) -> AddressSet:
        return AddressSet(self.v4 & other.v4, self.v6 & other.v6)

    def __sub__(self, other: AddressSet) -> AddressSet:
        return AddressSet(self.v4 - other.v4, self.v6 - other.v6)

    def meets(self, other: AddressSet) -> bool:
        """Whether the two have an address in common."""
        return self.v4.meets(other.v4) or self.v6.meets(other.v6)

    def __le__(self, other: AddressSet) -> bool:
        return self.v4 <= other.v4 and self.v6 <= other.v6

    def unmapped(self) -> AddressSet:
        """What a set of IPv4-mapped addresses alone (RFC 4291, section 2.5.5.2) stands for; any other as it is."""
        if self.v4 or not self.v6 or any(low >> 32 != _MAPPED or high >> 32 != _MAPPED for low, high in self.v6):
            return self
        return AddressSet(RangeSet.of((low & _V4, high & _V4) for low, high in self.v6))

    def addresses(self) -> Iterator[Address]:
        """Every member, ascending, IPv4 first. Only for sets known to be small."""
        for family in (4, 6):
            for low, high in self.family(family):
                for value in range(low, high + 1):
                    yield Address(family, value)

    def texts(self) -> list[str]:
        """The set as blocks where a range is one block, else as `low-high`; ascending, IPv4 first."""
        return [range_text(family, low, high) for family in (4, 6) for low, high in self.family(family)]

    def __str__(self) -> str:
        return ", ".join(self.texts()) or "no address"


EVERY_ADDRESS = AddressSet(*(RangeSet.span(0, (1 << BITS[family]) - 1) for family in (4, 6)))
IPV6_NOT_GLOBAL = tuple(
    (int(block.network_address), int(block.broadcast_address))
    for block in map(ipaddress.IPv6Network, ("fc00::/7", "fe80::/10", "ff00::/8", "::1/128", "::/128"))
)
"""The first and the last address of each block that `is_global_ipv6` leaves out."""


def is_global_ipv6(address: Address) -> bool:
    """Whether an IPv6 address is neither unique-local, link-local, loopback nor multicast (clause S6).

    Documentation blocks (RFC 3849) count as global, so that made-up networks behave like real ones.
    """
    return address.family == 6 and not any(low <= address.value <= high for low, high in IPV6_NOT_GLOBAL)


_SPECIAL = (
    ("unspecified", ("0.0.0.0/32", "::/128")),
    ("loopback", ("127.0.0.0/8", "::1/128")),
    ("link-local", ("169.254.0.0/16", "fe80::/10")),
    ("multicast", ("224.0.0.0/4", "ff00::/8")),
    ("broadcast", ("255.255.255.255/32",)),
)


def special_purpose(address: Address) -> str | None:
    """What an address is that no router ever delivers to one machine (RFC 6890; RFC 1112, RFC 4291): `loopback`,
    `link-local`, `multicast`, `broadcast` or `unspecified`; None for any other."""
    return next((name for name, addresses in SPECIAL_PURPOSE.items() if address in addresses), None)


def parse_address(text: str) -> Address:
    """One address in standard text form (RFC 4291 for IPv6). Raises ValueError."""
    if ":" in text:  # the system's own reading takes a tenth of the time, and has no words for what is wrong
        with contextlib.suppress(OSError, ValueError):
            return Address(6, int.from_bytes(socket.inet_pton(socket.AF_INET6, text), "big"))
    if "/" in text and reads_as_address(text.partition("/")[0]):
        raise ValueError(f"'{text}' has a prefix length; write the address alone: '{text.partition('/')[0]}'")
    parsed = ipaddress.ip_address(text)
    if isinstance(parsed, ipaddress.IPv6Address) and parsed.scope_id:
        raise ValueError(f"'{text}' has a zone index; write the address without '%{parsed.scope_id}'")
    return Address(parsed.version, int(parsed))


def parse_meant(text: str) -> Address:
    """One address as programs print it that take both families at one socket: an IPv4-mapped one (RFC 4291, section
    2.5.5.2) is the IPv4 address for which it stands, since no packet bears it. Raises ValueError."""
    found = parse_address(text)
    is_mapped = found.family == 6 and found.value >> 32 == _MAPPED
    return Address(4, found.value & _V4) if is_mapped else found


def parse_prefix(text: str) -> Prefix:
    """A CIDR block with no host bits set. Raises ValueError, naming the block that was probably meant."""
    try:
        network = ipaddress.ip_network(text)
    except ValueError as error:
        try:
            meant = ipaddress.ip_network(text, strict=False)
        except ValueError:
            hint = "; did you mean '0.0.0.0/0', and '::/0' of IPv6?" if text in ("default", "any", "all", "*") else ""
            raise ValueError(f"'{text}' is not a CIDR block{hint}") from error
        raise ValueError(f"'{text}' has bits set behind its prefix length; did you mean '{meant}'?") from error
    if "/" in text and not text.rpartition("/")[2].isdigit():
        raise ValueError(f"'{text}' is not a CIDR block: write the prefix length in bits, as '{network}'")
    return Prefix(network.version, int(network.network_address), network.prefixlen)


def parse_address_range(text: str) -> tuple[Address, Address]:
    """A range `low-high` of one family. Raises ValueError."""
    low_text, dash, high_text = text.partition("-")
    if not dash:
        raise ValueError(f"'{text}' is not a range of addresses")
    low, high = parse_address(low_text.strip()), parse_address(high_text.strip())
    if low.family != high.family:
        raise ValueError(f"'{text}' mixes IPv4 and IPv6")
    if low > high:
        raise ValueError(f"'{text}' runs backwards; did you mean '{high}-{low}'?")
    return low, high


def parse_address_set(text: str) -> AddressSet:
    """An address, a CIDR block or a range `low-high`. Raises ValueError."""
    if "/" in text:
        return AddressSet.of_prefixes([parse_prefix(text)])
    if "-" in text:
        low, high = parse_address_range(text)
        return AddressSet(**{f"v{low.family}": RangeSet.span(low.value, high.value)})
    return AddressSet.of_addresses([parse_address(text)])


def address_hint(text: str) -> str:
    """How somebody may have meant addresses that are written as in other places (`10.1.1.5-10`, `10.1.*`, `!10.1.1.5`),
    to be put behind a message; empty where it does not look so."""
    short = re.fullmatch(r"((?:\d+\.){3})(\d+)-(\d+)", text, re.ASCII)
    if short is not None:
        return f"; did you mean '{short[1]}{short[2]}-{short[1]}{short[3]}'?"
    wild = re.fullmatch(r"((?:\d+\.){1,3})\*(?:\.\*)*", text, re.ASCII)
    if wild is not None:
        count = wild[1].count(".")
        return f"; did you mean '{wild[1]}{'.'.join('0' * (4 - count))}/{8 * count}'?"
    if text.startswith(("!", "not ", "~")):
        return "; nothing is negated here: a rule in front of it, for whom it shall not hold, says the same"
    return ""


def reads_as_address(text: str) -> bool:
    """Whether `text` would be taken for an address, a block or a range rather than for a name."""
    if not any(character.isdigit() or character == ":" for character in text):
        return False
    try:
        parse_address_set(text)
    except ValueError:
        head = text.split("/")[0].split("-")[0]
        try:
            ipaddress.ip_address(head)
        except ValueError:
            return False
        return "/" in text
    return True


def range_text(family: int, low: int, high: int) -> str:
    """A range as an address, a CIDR block where it is exactly one, else `low-high`."""
    if low == high:
        return str(Address(family, low))
    size = high - low + 1
    if size & (size - 1) == 0 and low % size == 0:
        return f"{Address(family, low)}/{BITS[family] - size.bit_length() + 1}"
    return f"{Address(family, low)}-{Address(family, high)}"


def range_prefixes(family: int, low: int, high: int) -> list[Prefix]:
    """The shortest list of CIDR blocks that together are exactly the range."""
    kind = ipaddress.IPv4Address if family == 4 else ipaddress.IPv6Address
    blocks = ipaddress.summarize_address_range(kind(low), kind(high))
    return [Prefix(family, int(block.network_address), block.prefixlen) for block in blocks]


SPECIAL_PURPOSE = {name: AddressSet.of_prefixes(parse_prefix(text) for text in texts) for name, texts in _SPECIAL}
"""The addresses that no router delivers to one machine, by what they are."""

PRIVATE_BLOCKS = tuple(
    map(parse_prefix, ("10.0.0.0/8", "100.64.0.0/10", "172.16.0.0/12", "192.168.0.0/16", "fc00::/7"))
)
"""Blocks that everybody uses within and nobody beyond: private (RFC 1918), shared behind a carrier's translation (RFC
6598) and unique-local (RFC 4193) addresses."""

PRIVATE_USE = AddressSet.of_prefixes([*PRIVATE_BLOCKS, parse_prefix("169.254.0.0/16"), parse_prefix("fe80::/10")])
"""Addresses that a sender may have beside the one that others see: those, and link-local ones (RFC 3927, RFC 4291)."""

_OF_NOBODY = {
    family: tuple((block.value, block.last) for block in blocks)
    for family, blocks in {
        4: (parse_prefix("0.0.0.0/8"), *(block for block in PRIVATE_BLOCKS if block.family == 4)),
        6: (parse_prefix("::/3"),),
    }.items()
}
"""Addresses that nobody out there is reached at, ascending: of *this* network (RFC 1122, section 3.2.1.3), of private
ones (RFC 1918, RFC 6598), and before those that are given out (RFC 4291, section 2.4)."""

_EXAMPLES = {
    4: tuple(map(parse_address, ("192.0.2.1", "198.51.100.1", "203.0.113.1"))),
    6: (parse_address("2001:db8::1"),),
}


def somebodys(low: Address, high: Address) -> Address:
    """An address of a range that somebody could have, where there is one, first of all one that is kept for examples
    (RFC 5737, RFC 3849)."""
    for example in _EXAMPLES[low.family]:
        if low <= example <= high:
            return example
    first = low.value + (high.value - low.value > 1)
    for begin, end in _OF_NOBODY[low.family]:
        if begin <= first <= end < high.value:
            first = min(end + 2, high.value)
    return Address(low.family, first)
