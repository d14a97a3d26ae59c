"""The ends of a question: what FROM, TO and SERVICE stand for, and which address a name means (S1 to S4, S6)."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Mapping
from functools import cached_property

from kiboko.core.errors import UsageError
from kiboko.core.header.addresses import Address, AddressSet, address_hint, parse_address_set, reads_as_address
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, Service, parse_services, service_hint
from kiboko.core.hints import nearest
from kiboko.core.network.directory import Endpoint
from kiboko.core.network.model import Interface
from kiboko.core.queries.members import End, Member, Pair, member_addresses, reduced, seen_from_outside
from kiboko.core.walk.walk import Walk, Walker

_FEW = 16
"""As many addresses are looked up one by one."""


class Ends:
    """Resolves ends over one topology."""

    def __init__(self, walker: Walker) -> None:
        self.walker = walker
        self.topology = walker.topology
        self.directory = walker.directory
        self._machines: dict[str, Member] = {}
        self._everybody: End | None = None
        self._recorded: tuple[list[tuple[Address, Interface]], list[Address], list[int]] | None = None
        """The addresses of interfaces in the order of the file; the same ascending, and where each of these stands."""

    @cached_property
    def _public(self) -> AddressSet:
        """All public addresses of ours."""
        return AddressSet.of_addresses(self.directory.public_addresses())

    def known_names(self) -> list[str]:
        """Every name that may stand as an end."""
        topology = self.topology
        groups = (topology.instances, topology.groups, topology.subnets, topology.outsides, topology.networks)
        return [name for names in groups for name in names] + [i.name for i in self.directory.interfaces()]

    def resolve(self, text: str) -> End:
        """FROM or TO: a name, an address, a block or a range. Raises UsageError where it is none."""
        topology = self.topology
        if text == "any":
            return self._anybody()
        if text in topology.instances:
            return End(text, (self._instance(text),), False)
        interface = self.directory.interface(text)
        if interface is not None:
            return End(text, (Member(text, interface.instance, (interface,)),), False)
        if text in topology.groups:
            return End(text, tuple(self._group_members(text)), True)
        if text in topology.subnets:
            return self.block_end(text, AddressSet.of_prefixes(topology.subnets[text].blocks))
        if text in topology.networks:
            return self.block_end(text, AddressSet.of_prefixes(topology.networks[text].blocks))
        if text in topology.outsides:
            listed = self.directory.outside_addresses(text)
            return self.block_end(text, listed - self.directory.network_blocks)
        kind, colon, name = text.partition(":")
        if colon and kind in ("zone", "tag"):
            return self._zone_end(text, name) if kind == "zone" else self._tag_end(text, name)
        machine, slash, device = text.partition("/")
        if slash and machine in topology.instances:
            own = ", ".join(each.device for each in topology.instances[machine].interfaces) or "none"
            raise UsageError(f"'{text}': {machine} has no interface '{device}'; it has {own}")
        if reads_as_address(text) or ("/" in text and "://" not in text):
            try:
                return self.block_end(text, parse_address_set(text).unmapped())
            except ValueError as error:
                raise UsageError(str(error)) from error
        raise UsageError(self._unknown(text))

    def resolve_deliverable(self, text: str) -> End:
        """The same, of what can take part in traffic at all. Raises UsageError for an address of no one machine too."""
        end = self.resolve(text)
        self.refuse_undeliverable(end)
        return end

    def refuse_undeliverable(self, end: End) -> None:
        """An address that stands for no one machine is no end of a question (S4). Raises UsageError."""
        low = end.members[0].low if len(end.members) == 1 and not end.is_set else None
        what = self.directory.why_undeliverable(low) if low is not None else None
        if what is not None:
            raise UsageError(f"{end.text} is {what}: no router of this network delivers to it or from it")

    def _zone_end(self, text: str, name: str) -> End:
        """`zone:NAME`: the subnets and the outsides of a zone. Raises UsageError."""
        topology = self.topology
        if name not in topology.zones:
            raise UsageError(f"'{text}': there is no zone '{name}'" + nearest(name, list(topology.zones), 3, 0.5))
        held = [each.name for each in topology.subnets.values() if each.zone == name]
        held += [each.name for each in topology.outsides.values() if each.zone == name]
        found = [self.resolve(each) for each in held]
        caveats = dict.fromkeys(caveat for end in found for caveat in end.caveats)
        return End(text, tuple(member for end in found for member in end.members), True, tuple(caveats))

    def _tag_end(self, text: str, tag: str) -> End:
        """`tag:KEY=VALUE`: the instances with a tag. Raises UsageError."""
        key, equals, value = tag.partition("=")
        if not equals:
            raise UsageError(f"'{text}': a tag is written tag:KEY=VALUE")
        found = [each.name for each in self.topology.instances.values() if each.tags.get(key) == value]
        if not found:
            known = sorted({each.tags[key] for each in self.topology.instances.values() if key in each.tags})
            hint = nearest(value, known, 3, 0.5) if known else ""
            raise UsageError(f"'{text}': no instance has that tag{hint}")
        return End(text, tuple(self._instance(name) for name in found), True)

    def _unknown(self, text: str) -> str:
        what = {
            **dict.fromkeys(self.topology.filters, "filter"),
            **dict.fromkeys(self.topology.zones, "zone"),
            **dict.fromkeys(self.topology.gateways, "gateway"),
        }.get(text)
        if what:
            own = f"zone:{text} is what is in it" if what == "zone" else "name an instance, address, subnet or group"
            return f"'{text}' is a {what}, which cannot send or receive; {own}"
        told = f"'{text}' is neither an address nor a name of the network"
        before, _, port = text.rpartition(":")
        if port.isdecimal() and reads_as_address(before.strip("[]")):
            return f"{told}; an address stands by itself, and its port is in the service: tcp/{port}"
        if text.lower() in ("*", "all", "any"):
            return f"{told}; did you mean 'any'?"
        return told + (address_hint(text) or nearest(text, self.known_names(), 3, 0.5))

    def _instance(self, name: str) -> Member:
        found = self._machines.get(name)
        if found is None:
            found = self._machines[name] = Member(name, name, self.topology.instances[name].interfaces)
        return found

    def _group_members(self, name: str) -> Iterator[Member]:
        """The members of a group, each once, nested groups opened; then its literal addresses."""
        seen: dict[str, Member] = {}
        literals: list[AddressSet] = []
        pending = [name]
        while pending:
            group = self.topology.groups[pending.pop(0)]
            literals.append(group.addresses)
            for member in self.walker.membership.group_members(group):
                if member in self.topology.groups:
                    pending.append(member)
                else:
                    is_machine = member in self.topology.instances
                    seen.setdefault(member, self._instance(member) if is_machine else self.resolve(member).members[0])
        yield from seen.values()
        named = AddressSet.of_addresses(a for m in seen.values() for i in m.interfaces for a in i.addresses)
        yield from self._in_block(AddressSet.union(literals) - named)

    def _anybody(self) -> End:
        """`any`: every instance, the addresses of subnets where nobody is recorded, and everything outside."""
        if self._everybody is None:
            self._everybody = self._made_of_all()
        return self._everybody

    def _made_of_all(self) -> End:
        topology = self.topology
        machines = [self._instance(name) for name in topology.instances]
        subnets = AddressSet.of_prefixes(block for subnet in topology.subnets.values() for block in subnet.blocks)
        beyond = AddressSet.union(map(self.directory.outside_addresses, topology.outsides))
        recorded = AddressSet.of_addresses(a for i in self.directory.interfaces() for a in i.addresses)
        rest = (subnets - recorded) | (beyond - self.directory.network_blocks)
        rest = rest - self.directory.undeliverable - AddressSet.of_addresses(self.directory.public_addresses())
        return End("any", (*machines, *self._in_block(rest)), True)

    def block_end(self, text: str, addresses: AddressSet) -> End:
        """An address, or the ends in a block. A block that happens to hold public addresses of ours, as the internet
        does, does not mean our machines (S2), and no block means addresses that nothing is ever delivered to."""
        if addresses.size == 1:
            return End(text, tuple(self._in_block(addresses)), False)
        ours = self._public & addresses if self._public.meets(addresses) else AddressSet()
        members = tuple(self._in_block(addresses - ours - self.directory.undeliverable))
        caveats: tuple[str, ...] = ()
        if ours:
            which = ", ".join(ours.texts()[:3]) + (", …" if len(ours.texts()) > 3 else "")
            caveats = (f"public addresses of our own in {text} are not meant by it ({which}): ask for them by name",)
        return End(text, members, True, caveats)

    def _in_block(self, addresses: AddressSet) -> Iterator[Member]:
        """The recorded interfaces of a block one by one, then what is left of it as ranges."""
        rest = addresses
        singles: list[Address] = []
        recorded = (
            [(a, i) for a in addresses.addresses() if (i := self.directory.interface_at(a)) is not None]
            if addresses.size <= _FEW
            else self._recorded_in(addresses)
        )
        for address, interface in recorded:
            singles.append(address)
            is_named = addresses.size > 1 and interface.address(address.family) == address
            name = interface.name if is_named else str(address)
            yield Member(name, interface.instance, (reduced(interface, address),), is_by_address=True)
        for address in self.directory.public_addresses() if self._public.meets(addresses) else ():
            if address in addresses:
                singles.append(address)
                owner = self.directory.public_owner(address)
                behind = owner.instance if owner is not None else None
                yield Member(str(address), None, (), address, address, public_of=behind)
        rest = addresses - AddressSet.of_addresses(singles)
        for family in (4, 6):
            for low, high in rest.family(family):
                first, last = Address(family, low), Address(family, high)
                name = str(first) if first == last else f"{first}-{last}"
                beyond = self.directory.outside_of(first)
                yield Member(name, None, (), first, last, outside=beyond.name if beyond else None)

    def _recorded_in(self, addresses: AddressSet) -> Iterator[tuple[Address, Interface]]:
        """The addresses of interfaces that are among some, in the order of the file."""
        if self._recorded is None:
            listed = [(a, i) for i in self.directory.interfaces() for a in i.addresses]
            order = sorted(range(len(listed)), key=lambda place: listed[place][0])
            self._recorded = listed, [listed[place][0] for place in order], order
        listed, ascending, order = self._recorded
        places: list[int] = []
        for family in (4, 6):
            for low, high in addresses.family(family):
                begin, end = (
                    bisect_left(ascending, Address(family, low)),
                    bisect_right(ascending, Address(family, high)),
                )
                places += order[begin:end]
        return (listed[place] for place in sorted(places))

    # Pairs.

    def pairs(self, sender: Member, receiver: Member, family: int | None = None) -> list[Pair]:
        """The ways to take one sender and one receiver, the one that counts first.

        IPv4 comes before IPv6, a receiver's first interface before its others, and the first address of an interface
        before its others (clauses S3, S6); addresses that the sender has no use for are left out where there is one
        that it has (S1). Empty where the two share no family, or not the one asked for.
        """
        found = []
        for each in sorted(set(sender.families) & set(receiver.families)):
            if family not in (None, each):
                continue
            if receiver.low is not None:
                source = self._source(sender, each, receiver.low)
                found.append(Pair(source, receiver.low, receiver))
                continue
            ways = [
                self._to_interface(sender, receiver, interface, private)
                for interface in receiver.interfaces for private in interface.addresses if private.family == each
            ]  # fmt: skip
            found += [pair for pair in ways if pair.usable] or ways
        return found

    def _to_interface(self, sender: Member, receiver: Member, interface: Interface, private: Address) -> Pair:
        source = self._source(sender, private.family, private)
        if source.outside is None or receiver.is_literal:
            return Pair(source, private, receiver)
        network = self.topology.subnets[interface.subnet].network
        if self.directory.tunnel(network, source.outside.name) is not None:
            return Pair(source, private, receiver)
        seen = seen_from_outside(self.directory, interface, private)
        return Pair(source, seen or private, receiver, usable=seen is not None)

    def _source(self, sender: Member, family: int, target: Address) -> Endpoint:
        """The sender's interface: the one in the target's subnet, else its first of the family (S3)."""
        if sender.low is not None:
            return self.directory.endpoint(sender.low)
        address = self.sending_by(sender.interfaces, target).address(family)
        assert address is not None
        return self.directory.endpoint(address, sender.name)

    def sending_by(self, interfaces: Iterable[Interface], target: Address) -> Interface:
        """Of a machine's interfaces the one by which it sends to an address of its own accord: the one in that subnet,
        else the first of that family, of which there is one (S3)."""
        usable = [each for each in interfaces if each.address(target.family) is not None]
        return next((each for each in usable if target in self.topology.subnets[each.subnet]), usable[0])

    def source_of(self, member: Member) -> Endpoint:
        """A member as a sender, whatever it sends to. The member must have an address."""
        first = member.low or next(a for i in member.interfaces for a in i.addresses)
        return self.directory.endpoint(first, member.name)

    def is_foreign(self, address: Address) -> bool:
        """Whether an address is neither in a network nor a public address of ours."""
        directory = self.directory
        return (
            directory.network_of(address) is None
            and directory.public_owner(address) is None
            and directory.shared_owner(address) is None
        )

    def walk_pair(self, pair: Pair, service: Service, source_ports: RangeSet | None = None) -> Walk:
        """The walk of a pair."""
        return self.walker.walk(pair.source, pair.target, service, source_ports)


def resolve_service(text: str, named: Mapping[str, RangeSet]) -> RangeSet:
    """SERVICE as a set of service numbers. Raises UsageError, with the nearest names."""
    try:
        services = parse_services(text, named)
    except ValueError as error:
        raise UsageError(f"{error}{service_hint(text, named)}") from error
    return without_odd_echo(services)


def without_odd_echo(services: RangeSet) -> RangeSet:
    """Services less the echo messages with a code other than 0, which nothing sends (RFC 792, RFC 4443)."""
    for protocol, kinds in ((ICMP, (0, 8)), (ICMP6, (128, 129))):
        for kind in kinds:
            base = protocol << 16 | kind << 8
            if base in services:
                services = services - RangeSet.span(base | 1, base | 255)
    return services


NO_FAMILY = "the service and the ends have no address family in common: icmp is IPv4, icmp6 is IPv6"


def services_for(services: RangeSet, family: int) -> RangeSet:
    """The services that can travel in one address family: ICMP in IPv4, ICMPv6 in IPv6 (clause S6)."""
    other = ICMP6 if family == 4 else ICMP
    return services - RangeSet.span(other << 16, other << 16 | 0xFFFF)


def single_service(services: RangeSet) -> Service | None:
    """The one service that a set stands for, or None where it stands for several."""
    if len(services.ranges) != 1:
        return None
    low, high = services.ranges[0]
    one_protocol = low >> 16 == high >> 16
    portless = one_protocol and low >> 16 not in (6, 17, 132, ICMP, ICMP6)
    return Service(low >> 16, low & 0xFFFF) if low == high or portless else None


def address_set_of(ends: Ends, names: Iterable[str]) -> AddressSet:
    """Every address that some names stand for, the public ones of their interfaces as well. Raises UsageError."""
    found = []
    for name in names:
        for member in ends.resolve(name).members:
            found.append(member_addresses(member))
            found.append(AddressSet.of_addresses(i.public for i in member.interfaces if i.public is not None))
    return AddressSet.union(found)
