"""Whom a rule names: peers as they are written, by name, by address, by attachment, or by what they are not.

`kiboko.core.network.membership` says which addresses they stand for.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from kiboko.core.header.addresses import AddressSet


@dataclass(frozen=True, slots=True)
class Named:
    """A peer or an end by name: an instance, `instance/interface`, subnet, network, group or outside."""

    name: str

    def __str__(self) -> str:
        return self.name


@dataclass(frozen=True, slots=True)
class Literal:
    """A peer by address, block or range, with the text it was written as."""

    text: str
    addresses: AddressSet

    def __str__(self) -> str:
        return self.text


@dataclass(frozen=True, slots=True)
class Carrying:
    """A peer by attachment: every interface that carries the filter (clause S15)."""

    filter: str

    def __str__(self) -> str:
        return f"carrying {self.filter}"


@dataclass(frozen=True, slots=True)
class AllBut:
    """A peer by what it is not: every address of both families, or of `within`, but those of `without`."""

    without: Peer
    within: Peer | None = None

    def __str__(self) -> str:
        left, taken = ("all" if each is None else f"({peer_text(each)})" if len(each) > 1 else peer_text(each)
                       for each in (self.within, self.without))  # fmt: skip
        return f"{left} but {taken}"


PeerItem = Named | Literal | Carrying | AllBut
Peer = tuple[PeerItem, ...]
"""The items of a rule's `from` or `to`; their addresses are united. None in a rule stands for any."""


def names_in(peer: Peer | None) -> Iterator[str]:
    """The names in a peer, those of what it is not among them."""
    for item in peer or ():
        if isinstance(item, AllBut):
            yield from names_in(item.within)
            yield from names_in(item.without)
        elif isinstance(item, Named):
            yield item.name


def peer_text(peer: Peer | None) -> str:
    """A peer as it is written in a rule; `any` where it is left out."""
    return "any" if peer is None else ", ".join(str(item) for item in peer) or "nobody"
