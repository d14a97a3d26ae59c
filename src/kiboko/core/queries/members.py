"""What stands at either end of a question: machines, interfaces, addresses; and by which addresses they are meant."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from kiboko.core.header.addresses import Address, AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.directory import Directory, Endpoint
from kiboko.core.network.model import Interface


@dataclass(frozen=True, slots=True)
class Member:
    """One sender or receiver: an instance, one interface of it, or a range of addresses treated alike.

    For an instance `interfaces` are those that may be used, in file order; for a range it is empty and `low`
    and `high` bound the addresses, both included.
    """

    name: str
    instance: str | None = None
    interfaces: tuple[Interface, ...] = ()
    low: Address | None = None
    high: Address | None = None
    is_by_address: bool = False
    """Whether it stands for one address of an interface, as a member of a block does."""
    is_further: bool = False
    """Whether it is one of several addresses of a machine that was asked about, and not the one that its name means."""
    outside: str | None = None
    """Of addresses beyond the networks: the outside that they belong to."""
    public_of: str | None = None
    """Of a public address of ours that was named by itself: the machine behind it."""

    @property
    def machine(self) -> str | None:
        """The instance that it is, or whose public address it is."""
        return self.instance or self.public_of

    @property
    def families(self) -> tuple[int, ...]:
        """The address families the member has, ascending."""
        if self.low is not None:
            return (self.low.family,)
        return tuple(sorted({a.family for interface in self.interfaces for a in interface.addresses}))

    def is_among(self, wanted: AddressSet) -> bool:
        """Whether it has an address of some, public ones too."""
        if self.low is not None and self.high is not None:
            span = RangeSet.span(self.low.value, self.high.value)
            return span.meets(wanted.family(self.low.family))
        return any(address in wanted for each in self.interfaces
                   for address in (*each.addresses, *((each.public,) if each.public is not None else ())))  # fmt: skip

    @property
    def is_literal(self) -> bool:
        """Whether a private address was named rather than the machine that bears it."""
        return self.is_by_address and any(
            self.name == str(address) for each in self.interfaces for address in each.addresses
        )

    @property
    def count(self) -> int:
        """How many ends the member stands for."""
        return 1 if self.low is None or self.high is None else self.high.value - self.low.value + 1


@dataclass(frozen=True, slots=True)
class End:
    """FROM or TO as asked. `is_set` tells whether it stands for more than one (clause S36)."""

    text: str
    members: tuple[Member, ...]
    is_set: bool
    caveats: tuple[str, ...] = ()

    @property
    def is_outside(self) -> bool:
        """Whether it is, or holds, addresses beyond the networks."""
        return any(member.outside is not None for member in self.members)


@dataclass(frozen=True, slots=True)
class Pair:
    """A sender and the address that it sends to, in one family.

    `usable` is false where the target is a private address that this sender has no use for, for want of a
    public one (clause S1).
    """

    source: Endpoint
    target: Address
    receiver: Member
    usable: bool = True


def machines_of(members: Iterable[Member]) -> list[str]:
    """The instances that some members are, or whose public addresses they are, each once: what is sent to them comes to
    what these listen to."""
    return list(dict.fromkeys(name for each in members if (name := each.machine) is not None))


def sent_to_at(member: Member) -> Iterator[Member]:
    """A machine as those that it may be sent to as: by its name at the first address of each family (S3), by that of an
    interface at the first ones of that, and at every other address by itself."""
    yield member
    first: dict[int, Address] = {}
    for interface in member.interfaces:
        for address in interface.addresses:
            first.setdefault(address.family, address)
    for interface in member.interfaces:
        others = [each for each in interface.addresses if first[each.family] != each]
        named = tuple(each for each in others if interface.address(each.family) == each)
        if named:
            yield Member(
                interface.name, member.instance, (reduced(interface, *named),), is_by_address=True, is_further=True
            )
        yield from (at_address(interface, each, is_further=True) for each in others if each not in named)


def seen_from_outside(directory: Directory, interface: Interface, private: Address) -> Address | None:
    """The address that stands for one of an interface in the internet (S1): itself, where it is public as it is, else
    its public one; None where there is none."""
    if directory.is_global(private):
        return private
    return interface.public if private == interface.address(4) else None


def at_public(interface: Interface) -> Member:
    """A machine at the public address of an interface, by that: what somebody inside may send to as well (S29)."""
    behind = tuple(each for each in interface.addresses if each == interface.address(4))
    return Member(
        str(interface.public), interface.instance, (reduced(interface, *behind),), is_by_address=True, is_further=True
    )


def at_address(interface: Interface, address: Address, is_further: bool = False) -> Member:
    """A machine at one address of an interface, by the address itself."""
    return Member(
        str(address), interface.instance, (reduced(interface, address),), is_by_address=True, is_further=is_further
    )


def reduced(interface: Interface, *addresses: Address) -> Interface:
    """The interface reduced to the addresses that were named, in the order of the file."""
    if interface.addresses == addresses:
        return interface
    public = interface.public if interface.address(4) in addresses else None
    return interface._replace(addresses=addresses, public=public)


def member_addresses(member: Member) -> AddressSet:
    """The addresses of a member: its range, or all private addresses of its interfaces."""
    if member.low is not None and member.high is not None:
        ranges = RangeSet.span(member.low.value, member.high.value)
        return AddressSet(v4=ranges) if member.low.family == 4 else AddressSet(v6=ranges)
    return AddressSet.of_addresses(address for interface in member.interfaces for address in interface.addresses)
