"""Addresses, services, peers and times of a network file: text to core values, with every fault noted."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import datetime
from typing import Any, TypeVar

from kiboko.core.errors import Place, Problem
from kiboko.core.header.addresses import (
    Address,
    AddressSet,
    Prefix,
    parse_address,
    parse_address_set,
    parse_prefix,
    range_prefixes,
    reads_as_address,
)
from kiboko.core.header.ranges import EMPTY, RangeSet
from kiboko.core.header.services import PROTOCOLS, parse_ports, parse_services, service_hint
from kiboko.core.network.peers import AllBut, Carrying, Literal, Named, Peer, PeerItem
from kiboko.files.documents.lined_yaml import Items
from kiboko.files.documents.times import parse_time
from kiboko.files.network.names import PEER_KINDS, Names

T = TypeVar("T")


def _address(text: str) -> Address:
    return _of_packets(parse_address(text), text)


def _prefix(text: str) -> Prefix:
    return _of_packets(parse_prefix(text), text)


def _address_set(text: str) -> AddressSet:
    return _of_packets(parse_address_set(text), text)


def _of_packets(found: T, text: str) -> T:
    """What was parsed of a text. Raises ValueError for what is IPv4-mapped: no packet bears such an address."""
    if "ffff" in text.lower() and (meant := parse_address_set(text).unmapped()).v4:
        raise ValueError(f"'{text}' is IPv4 written as IPv6 (RFC 4291, section 2.5.5.2); write {meant}")
    return found


class ValueReader:
    """Parses the scalars of one network file. A value that cannot be parsed is a problem, and None."""

    def __init__(self, names: Names, problems: list[Problem]) -> None:
        self._names = names
        self._problems = problems
        self.named_services: dict[str, RangeSet] = {}
        self._services: dict[str, RangeSet] = {}

    def _try(self, owner: str, place: Place, parse: Callable[[str], T], text: str) -> T | None:
        try:
            return parse(text)
        except ValueError as error:
            self._problems.append(Problem(place, f"{owner}: {error}"))
            return None

    def fault(self, place: Place, text: str) -> None:
        """Note a problem."""
        self._problems.append(Problem(place, text))

    def address(self, owner: str, text: str, place: Place) -> Address | None:
        """One address."""
        return self._try(owner, place, _address, text)

    def prefix(self, owner: str, text: str, place: Place) -> Prefix | None:
        """One CIDR block."""
        return self._try(owner, place, _prefix, text)

    def prefixes(self, owner: str, texts: list[str], place: Place) -> tuple[Prefix, ...]:
        """CIDR blocks."""
        found = (self.prefix(owner, text, place) for text in texts)
        return tuple(prefix for prefix in found if prefix is not None)

    def covering_prefixes(self, owner: str, texts: list[str], place: Place) -> tuple[Prefix, ...]:
        """Addresses, blocks and ranges as the blocks that make them up."""
        found: list[Prefix] = []
        for text in texts:
            addresses = self._try(owner, place, _address_set, text)
            for family in (4, 6):
                for low, high in addresses.family(family) if addresses else ():
                    found.extend(range_prefixes(family, low, high))
        return tuple(found)

    def ports(self, owner: str, texts: list[str] | str | None, place: Place) -> RangeSet | None:
        """A port range, or a list of them, united. None where nothing is given."""
        if texts is None:
            return None
        listed = [texts] if isinstance(texts, str) else texts
        found = [self._try(owner, place, parse_ports, text) for text in listed]
        return RangeSet.of(pair for ports in found if ports for pair in ports)

    def client_ports(self, owner: str, texts: str | None, place: Place) -> RangeSet | None:
        """The range that clients choose their ports from. None where nothing is given."""
        found = self.ports(owner, texts, place)
        if found is not None and found.ranges and found.ranges[0][0] == found.ranges[-1][1]:
            low = found.ranges[0][0]
            text = f"{owner}: 'ephemeral_ports' is one port alone; clients choose from a range, such as {low}-65535"
            self._problems.append(Problem(place, text))
        return found

    def services(self, owner: str, texts: list[str] | None, place: Place) -> RangeSet | None:
        """The union of services; None where the field is left out."""
        if texts is None:
            return None
        each = [self._service(owner, text, place) for text in texts]
        # Of thousands of machines that listen to the same each has the same set, and not an equal one.
        return each[0] if len(each) == 1 else RangeSet.of(pair for services in each for pair in services)

    def _service(self, owner: str, text: str, place: Place) -> RangeSet:
        known = self._services.get(text)
        if known is None:
            try:
                known = self._services[text] = parse_services(text, self.named_services)
            except ValueError as error:  # told wherever it is written
                self._problems.append(Problem(place, f"{owner}: {error}{service_hint(text, self.named_services)}"))
                return EMPTY
        return known

    def define_services(self, given: Mapping[str, tuple[list[str], Place]]) -> None:
        """Take in the `services` section; a name may be built from others, but not from itself."""
        waiting = dict(given)
        while waiting:
            ready = [n for n, (texts, _) in waiting.items() if not any(t in waiting for t in texts)]
            if not ready:
                for name, (_, place) in waiting.items():
                    self._problems.append(Problem(place, f"service '{name}' is defined by itself"))
                return
            for name in ready:
                texts, place = waiting.pop(name)
                if name in PROTOCOLS or name in ("any", "proto"):
                    self._problems.append(Problem(place, f"service '{name}': the name is that of a protocol"))
                    continue
                services = self.services(f"service '{name}'", texts, place)
                self.named_services[name] = services if services is not None else RangeSet()

    def peer(self, owner: str, value: Any, place: Place) -> Peer | None:
        """A rule's `from` or `to`; None for any."""
        if value is None:
            return None
        listed = value if isinstance(value, list) else [value]
        items: list[PeerItem] = []
        for index, item in enumerate(listed):
            at = value.place(index) if isinstance(value, Items) else place
            if isinstance(item, str) and item == "any":
                return None
            found = self._peer_item(owner, item, at)
            if found is not None:
                items.append(found)
        return tuple(items)

    def _peer_item(self, owner: str, item: Any, place: Place) -> PeerItem | None:
        if isinstance(item, dict) and "not" in item:
            return self._all_but(owner, item, place)
        if isinstance(item, dict):
            if set(item) != {"carrying"} or not isinstance(item["carrying"], str):
                self.fault(place, f"{owner}: a peer that is a table is {{carrying: FILTER}}, {{not: PEER}} or"
                           " {in: PEER, not: PEER}")  # fmt: skip
                return None
            name = str(item["carrying"])
            return Carrying(name) if self._names.refer(owner, name, ("filter",), place) else None
        if not isinstance(item, str):
            self.fault(place, f"{owner}: a peer is a name, an address, a block, a range or {{carrying: FILTER}}")
            return None
        text = str(item)
        if reads_as_address(text) or ("/" in text and text.partition("/")[2].isdigit()):
            addresses = self._try(owner, place, _address_set, text)
            return Literal(text, addresses) if addresses is not None else None
        return Named(text) if self._names.refer(owner, text, PEER_KINDS, place, "any") else None

    def _all_but(self, owner: str, item: dict[str, Any], place: Place) -> AllBut | None:
        """A peer by what it is not."""
        if not set(item) <= {"in", "not"} or any(_is_nested(each) for each in item.values()):
            self.fault(place, f"{owner}: {{not: PEER}} and {{in: PEER, not: PEER}} have no other key, and no such table"
                       " in them")  # fmt: skip
            return None
        if item["not"] is None:
            return None  # a key without a value is told anyway
        without = self.peer(owner, item["not"], place)
        if without is None or item["not"] == []:
            self.fault(place, f"{owner}: 'not' is of somebody: without anybody, or with 'any', it says nothing")
            return None
        return AllBut(without, self.peer(owner, item.get("in"), place))

    def address_set(self, owner: str, text: str, place: Place) -> AddressSet:
        """An address, block or range; empty, and a problem, where it is none."""
        return self._try(owner, place, _address_set, text) or AddressSet()

    def time(self, owner: str, text: str, place: Place) -> datetime | None:
        """A time with its zone, RFC 3339."""
        return self._try(owner, place, parse_time, text)


def _is_nested(value: Any) -> bool:
    """Whether a peer has another in it that is told by what it is not."""
    return any(isinstance(each, dict) and "not" in each for each in (value if isinstance(value, list) else [value]))
