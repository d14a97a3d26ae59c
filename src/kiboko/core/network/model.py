"""What a network file says, as frozen values: networks, subnets, instances, filters, routes, zones.

Nothing here decides anything. Names still stand as text; `kiboko.core.network.directory` answers who has which address
and `kiboko.core.network.membership` what a peer means.
"""

from __future__ import annotations

import dataclasses
from abc import abstractmethod
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import NamedTuple

from kiboko.core.errors import Place, Problem
from kiboko.core.header.addresses import Address, AddressSet, Prefix
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import EPHEMERAL_DEFAULT, parse_services, union_services
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.network.peers import Peer, peer_text

ALLOW, DROP, REJECT = "allow", "drop", "reject"


@dataclass(frozen=True, slots=True)
class Rule:
    """One rule of a filter. A field that is None matches anything (clause S17)."""

    order: int
    action: str
    place: Place
    id: str | None = None
    sources: Peer | None = None
    destinations: Peer | None = None
    services: RangeSet | None = None
    service_text: str = "any"
    source_ports: RangeSet | None = None
    stateful: bool | None = None
    enabled: bool = True
    log: bool = False
    note: str = ""
    order_is_given: bool = True
    """Whether the file says it; else it is the rule's position."""
    condition: str = ""
    """What has to be so besides for it to match, in words, where nothing in a packet's header tells (clause S41)."""
    established: bool = False
    """Whether it matches TCP segments with ACK or RST alone, which no opening has (clause S42)."""

    @property
    def name(self) -> str:
        """How the rule is called: its id, else its order."""
        return self.id or str(self.order)

    @property
    def service_words(self) -> str:
        """Its service, with what else it says of ports and flags."""
        service = "tcp" if self.established and self.services is None else self.service_text
        ports = f", source ports {self.source_ports}" if self.source_ports else ""
        return f"{service}{ports}{', established' if self.established else ''}"

    def __str__(self) -> str:
        parts = [self.action]
        if self.sources is not None:
            parts.append(f"from {peer_text(self.sources)}")
        if self.destinations is not None:
            parts.append(f"to {peer_text(self.destinations)}")
        if self.services is not None:
            parts.append(self.service_text)
        if self.source_ports is not None:
            parts.append(f"source ports {self.source_ports}")
        if self.established:
            parts.append("established")
        if self.condition:
            parts.append(f'if "{self.condition}"')
        return " ".join(parts)


@dataclass(frozen=True, slots=True)
class Filter:
    """A named rule set of one layer. A direction that is None is not filtered (clause S13)."""

    name: str
    layer: str
    decide: str
    stateful: bool
    place: Place
    inbound: tuple[Rule, ...] | None = None
    outbound: tuple[Rule, ...] | None = None
    rules: tuple[Rule, ...] | None = None
    otherwise: str = DROP
    otherwise_place: Place | None = None
    attach_to: tuple[str, ...] = ()
    exempt: tuple[str, ...] = ()
    note: str = ""

    @property
    def default_place(self) -> Place:
        """Where it is written what it does where no rule matches: where it is, if that is not written."""
        return self.otherwise_place or self.place

    def direction(self, way: str) -> tuple[Rule, ...] | None:
        """The rules asked of traffic going `way` (`in` or `out`), in file order; None: not filtered."""
        if self.rules is not None:
            return self.rules
        return self.inbound if way == "in" else self.outbound

    def every_rule(self) -> tuple[Rule, ...]:
        """All rules of all directions."""
        return (self.rules or ()) + (self.inbound or ()) + (self.outbound or ())

    def path_of(self, rule: Rule, way: str) -> str:
        """How a rule that was asked of traffic going `way` is named on the command line: `FILTER/RULE`, or
        `FILTER/inbound/RULE` where both directions have a rule of that name."""
        if sum(any(each.name == rule.name for each in rules or ()) for rules in (self.inbound, self.outbound)) < 2:
            return f"{self.name}/{rule.name}"
        return f"{self.name}/{'inbound' if way == 'in' else 'outbound'}/{rule.name}"

    @property
    def has_established(self) -> bool:
        """Whether a rule of it that is enabled matches no openings of TCP (clause S42)."""
        return any(rule.established and rule.enabled for rule in self.every_rule())

    @property
    def has_conditions(self) -> bool:
        """Whether a rule of it that is enabled holds under a condition only (clause S41)."""
        return any(rule.condition and rule.enabled for rule in self.every_rule())


@dataclass(frozen=True, slots=True)
class Network:
    """A routed address space. `public` are those of its IPv4 blocks, or parts of them, whose addresses are reached from
    outside as they are (clause S6)."""

    name: str
    blocks: tuple[Prefix, ...]
    place: Place
    public: tuple[Prefix, ...] = ()


@dataclass(frozen=True, slots=True)
class Subnet:
    """A block of a network, at most one of each family."""

    name: str
    network: str
    blocks: tuple[Prefix, ...]
    place: Place
    zone: str | None = None
    route_table: str | None = None
    filter: str | None = None

    def block(self, family: int) -> Prefix | None:
        """The subnet's block of one family."""
        return next((block for block in self.blocks if block.family == family), None)

    def __contains__(self, address: Address) -> bool:
        return any(address in block for block in self.blocks)


@dataclass(frozen=True, slots=True)
class Outside:
    """An endpoint set beyond the networks."""

    name: str
    prefixes: tuple[Prefix, ...]
    place: Place
    zone: str | None = None
    filter: str | None = None
    ephemeral_ports: RangeSet | None = None


@dataclass(frozen=True, slots=True)
class Gateway:
    """A way in or out of networks: `internet`, `nat`, `peering` or `tunnel` (clauses S26 to S29)."""

    name: str
    kind: str
    networks: tuple[str, ...]
    place: Place
    address: Address | None = None
    outside: str | None = None


@dataclass(frozen=True, slots=True)
class RouteEntry:
    """One entry of a route table: a gateway, an instance as next hop, `discard` or `connected`."""

    to: Prefix
    origin: str
    place: Place | None
    gateway: str | None = None
    instance: str | None = None
    interface: str | None = None
    discard: bool = False
    note: str = ""

    @property
    def via(self) -> str:
        """The next hop as it is written."""
        if self.discard:
            return "discard"
        if self.interface:
            return f"instance {self.interface}"
        if self.instance:
            return f"instance {self.instance}"
        return self.gateway or "connected"

    def __str__(self) -> str:
        return f"{self.to} via {self.via}" + ("" if self.origin in ("static", "connected") else f" ({self.origin})")


@dataclass(frozen=True, slots=True)
class RouteTable:
    """A named route table; the connected routes of its network are not listed in it."""

    name: str
    entries: tuple[RouteEntry, ...]
    place: Place


@dataclass(frozen=True, slots=True)
class Zone:
    """A named zone."""

    name: str
    place: Place
    note: str = ""


@dataclass(frozen=True, slots=True)
class Crossing:
    """Traffic from one zone to another, or inside one, and the filter that judges it."""

    source: str
    destination: str
    filter: str
    place: Place
    note: str = ""


@dataclass(frozen=True, slots=True)
class Group:
    """A named set of endpoints: listed members, instances by tags, literal addresses, or all three."""

    name: str
    place: Place
    members: tuple[str, ...] = ()
    where: tuple[tuple[str, tuple[str, ...]], ...] | None = None
    addresses: AddressSet = field(default_factory=AddressSet)
    address_texts: tuple[str, ...] = ()
    note: str = ""


class Interface(NamedTuple):
    """One interface of an instance; `name` is `instance/interface`. A tuple, since there are very many."""

    name: str
    instance: str
    subnet: str
    addresses: tuple[Address, ...]
    place: Place
    public: Address | None = None
    filters: tuple[str, ...] = ()

    @property
    def device(self) -> str:
        """The interface's own name on its machine, such as `eth0`."""
        return self.name.partition("/")[2]

    def address(self, family: int) -> Address | None:
        """The first address of one family."""
        for address in self.addresses:
            if address.family == family:
                return address
        return None


ALL_ADDRESSES: Mapping[str, int | None] = {"*": None, "0.0.0.0": 4, "::": 6}
"""How it is written that a socket is bound to no address: it serves all, of both families, of IPv4 or of IPv6 alone. As
ss(8) prints them: one of `::` that serves IPv4 as well is `*` there."""


class Listener(NamedTuple):
    """A socket that accepts: its services and the address it is bound to (None: all, of `family` if set). A tuple,
    since there are very many."""

    services: RangeSet
    text: str
    place: Place
    address: Address | None = None
    family: int | None = None

    @property
    def bound(self) -> str | None:
        """What it is bound to, as a network file has it; None where it serves all addresses."""
        if self.address is not None:
            return str(self.address)
        return next((text for text, family in ALL_ADDRESSES.items() if family and family == self.family), None)

    def accepts(self, address: Address) -> bool:
        """Whether the socket answers at an address of its machine."""
        return self.address in (None, address) and self.family in (None, address.family)


@dataclass(frozen=True, slots=True)
class Instance:
    """A machine. `listens` is None where it is not known what listens."""

    name: str
    place: Place
    interfaces: tuple[Interface, ...] = ()
    running: bool = True
    tags: Mapping[str, str] = field(default_factory=dict)
    host_filter: str | HostRuleSet | None = None
    listens: Sequence[Listener] | None = None
    forwards: bool = False
    ephemeral_ports: RangeSet | None = None
    note: str = ""

    @property
    def has_host_filter(self) -> bool:
        """Whether a host filter is recorded that may stop something."""
        rules = self.host_filter
        return rules is not None and not (isinstance(rules, HostRuleSet) and rules.filters_nothing)


class PackedListeners(Sequence[Listener]):
    """Listeners that are made when somebody asks which they are."""

    @property
    @abstractmethod
    def sockets(self) -> Sequence[Listener]:
        """What they accept: equal to them but for their places, and shared with other machines."""


def sockets_of(instance: Instance) -> Sequence[Listener]:
    """What listens on a machine, where it is not asked at which place of a file that is said."""
    listens = instance.listens
    return listens.sockets if isinstance(listens, PackedListeners) else listens or ()


def listened(instances: Iterable[Instance]) -> list[RangeSet]:
    """The distinct sets of services that listeners of some machines accept."""
    found = {id(each.services): each.services for instance in instances for each in sockets_of(instance)}
    return list(dict.fromkeys(found.values()))


@dataclass(frozen=True, slots=True)
class Defaults:
    """What holds where nothing is said."""

    ephemeral_ports: RangeSet = EPHEMERAL_DEFAULT
    same_zone: str = ALLOW
    between_zones: str = DROP


@dataclass(frozen=True, slots=True)
class Accepted:
    """A finding that somebody has looked at and lives with: its id, where it is (a filter, a rule, a name), why, and
    the last day on which it holds, None for always."""

    finding: str
    at: str
    reason: str
    place: Place
    until: datetime | None = None


@dataclass(frozen=True, slots=True)
class Expectation:
    """A written promise about traffic: from any of `sources` to any of `destinations` on `services`, all is `allowed`,
    or all is `blocked`, or `only` they get there. `excepted` are senders of whom nothing is promised; `family` is 4 or
    6, None for both."""

    id: str
    sources: tuple[str, ...]
    destinations: tuple[str, ...]
    services: RangeSet
    service_text: str
    expect: str
    place: Place
    excepted: tuple[str, ...] = ()
    family: int | None = None
    owner: str = ""
    reason: str = ""


def services_of(names: tuple[str, ...]) -> RangeSet:
    """The union of services of the shipped table, or as `tcp/443`."""
    return union_services(parse_services(name) for name in names)


LOGINS = services_of(("ssh", "telnet", "rdp", "winrm", "tcp/5900"))
"""The services by which a machine is logged in to, where the network file names none."""
ADMINISTRATION = LOGINS | services_of(
    ("ftp", "tftp", "snmp", "ldap", "smb", "nfs", "rsync", "mysql", "postgresql", "redis", "tcp/512-514", "tcp/1433",
     "tcp/1521", "tcp/2375-2376", "tcp/2379-2380", "tcp/6443", "tcp/9200", "tcp/10250", "tcp/11211", "tcp/27017",
     "udp/623", "udp/11211")
)  # fmt: skip
"""The services that are not for everybody, where the network file names none: logging in, files, databases, control."""


@dataclass(frozen=True, slots=True)
class ObservationPoint:
    """Where a flow record was taken: exactly one of a named thing or a crossing (clause S37)."""

    key: str
    name: str | None = None
    crossing: tuple[str, str] | None = None

    @property
    def text(self) -> str:
        """What it is called: what is observed there, a crossing as `FROM>TO`."""
        return self.name or ">".join(self.crossing or ())


@dataclass(frozen=True, slots=True)
class Topology:
    """Everything one network file says."""

    name: str
    file: str
    as_of: datetime | None = None
    defaults: Defaults = field(default_factory=Defaults)
    networks: Mapping[str, Network] = field(default_factory=dict)
    outsides: Mapping[str, Outside] = field(default_factory=dict)
    gateways: Mapping[str, Gateway] = field(default_factory=dict)
    route_tables: Mapping[str, RouteTable] = field(default_factory=dict)
    subnets: Mapping[str, Subnet] = field(default_factory=dict)
    zones: Mapping[str, Zone] = field(default_factory=dict)
    crossings: tuple[Crossing, ...] = ()
    filters: Mapping[str, Filter] = field(default_factory=dict)
    groups: Mapping[str, Group] = field(default_factory=dict)
    services: Mapping[str, RangeSet] = field(default_factory=dict)
    instances: Mapping[str, Instance] = field(default_factory=dict)
    observation_points: Mapping[str, ObservationPoint] = field(default_factory=dict)
    logins: RangeSet = LOGINS
    administration: RangeSet = ADMINISTRATION
    accepted: tuple[Accepted, ...] = ()
    expectations: tuple[Expectation, ...] = ()
    warnings: tuple[Problem, ...] = field(default=(), compare=False)
    """What is odd about it, though it can be read."""

    def observation_point(self, text: str | None) -> ObservationPoint | None:
        """Where a record was taken that names its point so: an `observationPointId`, or exporter, observation domain
        and interface as `EXPORTER/DOMAIN/INTERFACE`, of which the last may be left out in the network file, and the
        first be `*` for any."""
        if not text or not self.observation_points:
            return None
        parts = text.split("/")
        tried = [parts[:count] for count in range(len(parts), 0, -1)]
        tried += [["*", *each[1:]] for each in tried if len(each) > 1]
        found = (self.observation_points.get("/".join(each)) for each in tried)
        return next((point for point in found if point is not None), None)

    def with_filter(self, changed: Filter) -> Topology:
        """The same network with one filter replaced by another of the same name."""
        return dataclasses.replace(self, filters={**self.filters, changed.name: changed})
