"""Reading a network file or folder into a `Topology`: the door through which every command comes in.

Reading goes in three rounds, so that every fault is told at once: the shapes of all parts (`parts`), all names
(`names`), then the values and what they refer to (here), and last what only shows between values
(`consistency`).
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterator
from pathlib import Path
from types import MappingProxyType
from typing import Any, NamedTuple, TypeVar

from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.header.addresses import PRIVATE_USE, AddressSet, Prefix, reads_as_address
from kiboko.core.header.ranges import EMPTY, RangeSet
from kiboko.core.network import consistency
from kiboko.core.network.model import (
    ADMINISTRATION,
    LOGINS,
    Accepted,
    Crossing,
    Defaults,
    Expectation,
    Gateway,
    Group,
    Network,
    ObservationPoint,
    Outside,
    RouteEntry,
    RouteTable,
    Subnet,
    Topology,
    Zone,
)
from kiboko.files.documents.lined_yaml import Items, Table
from kiboko.files.network.filter_section import FilterReader
from kiboko.files.network.instance_section import Beside, InstanceReader, device_of
from kiboko.files.network.names import PEER_KINDS, Names
from kiboko.files.network.parts import Part, Texts, read_parts, unread_files
from kiboko.files.network.schema import (
    ExpectationShape,
    GatewayShape,
    GroupShape,
    OutsideShape,
    RouteShape,
    SubnetShape,
)
from kiboko.files.network.values import ValueReader

V = TypeVar("V")
_SECTIONS = {
    "networks": "network", "outside": "outside", "gateways": "gateway", "route_tables": "route table",
    "subnets": "subnet", "zones": "zone", "filters": "filter", "groups": "group", "services": "service",
    "instances": "instance",
}  # fmt: skip


class ShownAs(NamedTuple):
    """What a copy of a network file is called in messages, and what stands before the names of files beside it."""

    network: str
    beside: str


def load_network(path: str, files_elsewhere: bool = False) -> Topology:
    """The network that a file or folder describes.

    Parameters
    ----------
    path : a YAML file, or a folder of parts, as the user named it
    files_elsewhere : whether `nftables:` and `sockets:` may name files that do not lie below the network's folder

    Returns
    -------
    the network; what is odd about it, though it can be read, is in its `warnings`

    Raises
    ------
    InputError : with every problem found, each with file and line

    >>> network = load_network("network.yaml")
    >>> sorted(network.networks), len(network.instances)
    (['desk', 'field', 'hub'], 18)
    """
    return load_with_files(path, files_elsewhere)[0]


def load_with_files(
    path: str, files_elsewhere: bool = False, texts: Texts = MappingProxyType({}), shown: ShownAs | None = None
) -> tuple[Topology, tuple[Path, ...]]:
    """As `load_network`, and the files beside the network's own that went into it. What `texts` has is read instead of
    the files of these names; `shown` is what files are called, where that is not their path. Raises InputError."""
    problems: list[Problem] = []
    parts = read_parts(Path(path), path if shown is None else shown.network, problems, texts)
    builder = _Builder(Path(path), parts, problems, files_elsewhere, shown)
    topology = builder.build(path if shown is None else shown.network)
    problems.extend(unread_files(Path(path), topology.file, builder.machines.used_files))
    if problems:
        raise InputError(_in_order(problems))
    odd = [each for part in parts for each in part.warnings]
    warnings = tuple(_in_order([*odd, *builder.warnings(topology), *consistency.warnings_of(topology)]))
    return dataclasses.replace(topology, warnings=warnings), tuple(sorted(builder.machines.used_files))


def _in_order(problems: list[Problem]) -> list[Problem]:
    unique = dict.fromkeys(problems)
    return sorted(unique, key=lambda p: (p.place.file, p.place.line) if p.place else ("", 0))


class _Builder:
    def __init__(
        self, path: Path, parts: list[Part], problems: list[Problem], files_elsewhere: bool, shown: ShownAs | None
    ) -> None:
        folder = path if path.is_dir() else path.parent
        if path.exists() and not path.is_file() and not path.is_dir():
            folder = Path()  # what another program writes, as `-n <(…)` has it, lies nowhere
        self.parts = parts
        self.problems = problems
        self.names = Names(problems)
        self.values = ValueReader(self.names, problems)
        self.filter_layers: dict[str, str] = {}
        self._without_word: list[str] = []
        """Networks that do not say which of their blocks are public."""
        self._short: set[str] = set()
        """Networks and subnets of which a block could not be read."""
        beside = Beside(folder, files_elsewhere, None if shown is None else shown.beside)
        self.machines = InstanceReader(self.names, self.values, problems, self._refer_filter, beside)

    def build(self, file: str) -> Topology:
        self._define_names()
        self._define_services()
        self.filter_layers = {n: s.layer for p in self.parts for n, s in p.shape.filters.items()}
        topology = Topology(
            name=self._single("name", lambda part: part.shape.name) or "network",
            file=file,
            as_of=self._as_of(),
            defaults=self._defaults(),
            networks=self._section("networks", self._network),
            outsides=self._section("outside", self._outside),
            gateways=self._section("gateways", self._gateway),
            route_tables=self._section("route_tables", self._route_table),
            subnets=self._section("subnets", self._subnet),
            zones=self._section(
                "zones", lambda name, shape, raw, place: Zone(name, place, shape.note if shape else "")
            ),
            crossings=self._crossings(),
            filters=self._section("filters", FilterReader(self.names, self.values, self.problems).read),
            groups=self._section("groups", self._group),
            services=self.values.named_services,
            instances=self._section("instances", self.machines.read),
            observation_points=self._observation_points(),
            logins=self._services("logins", LOGINS),
            administration=self._services("administration", ADMINISTRATION),
            accepted=tuple(self._accepted()),
            expectations=tuple(self._expectations()),
        )
        self.problems.extend(list(consistency.problems_of(topology, not self.problems, self._short)))
        return topology

    # Names.

    def _define_names(self) -> None:
        for part in self.parts:
            for section, kind in _SECTIONS.items():
                for name, place in part.names.get(section, {}).items():
                    self.names.define(kind, name, place)
            for name, shape in part.shape.instances.items():
                raw = part.raw["instances"][name]
                for index, interface in enumerate(shape.interfaces):
                    full = f"{name}/{device_of(interface, index)}"
                    self.names.note_interface(full, raw["interfaces"].place(index))

    def _define_services(self) -> None:
        given = {}
        for part in self.parts:
            for name, texts in part.shape.services.items():
                place = part.raw["services"].place(name)
                given[name] = texts, place
                if not texts:
                    self.values.fault(place, f"service '{name}' stands for nothing; take it out, or say what it is")
        self.values.define_services(given)

    def _section(self, section: str, build: Callable[[str, Any, Any, Place], V]) -> dict[str, V]:
        found = {}
        for part in self.parts:
            for name, shape in getattr(part.shape, section).items():
                table = part.raw[section]
                found[name] = build(name, shape, table[name], table.place(name))
        return found

    def _single(self, key: str, get: Callable[[Part], V | None]) -> V | None:
        """A value that only one part may give."""
        given = [(part, get(part)) for part in self.parts if key in part.raw]
        for part, _ in given[1:]:
            text = f"'{key}' is given twice; first in {given[0][0].raw.place(key)}"
            self.values.fault(part.raw.place(key), text)
        return given[0][1] if given else None

    def _refer(self, owner: str, name: str | None, kind: str, place: Place) -> None:
        if name is not None:
            self.names.refer(owner, name, (kind,), place)

    def _refer_filter(self, owner: str, name: str | None, layer: str, place: Place) -> None:
        if name is None or not self.names.refer(owner, name, ("filter",), place):
            return
        actual = self.filter_layers.get(name, layer)
        if actual != layer:
            self.values.fault(
                place, f"{owner}: filter '{name}' is of layer {actual}; here belongs one of layer {layer}"
            )

    # Sections.

    def _as_of(self) -> Any:
        text = self._single("as_of", lambda part: part.shape.as_of)
        if text is None:
            return None
        part = next(part for part in self.parts if "as_of" in part.raw)
        return self.values.time("as_of", text, part.raw.place("as_of"))

    def _defaults(self) -> Defaults:
        shape = self._single("defaults", lambda part: part.shape.defaults)
        if shape is None:
            return Defaults()
        raw = next(part.raw["defaults"] for part in self.parts if "defaults" in part.raw)
        ports = self.values.client_ports("defaults", shape.ephemeral_ports, raw.place("ephemeral_ports"))
        return Defaults(ports or Defaults().ephemeral_ports, shape.same_zone, shape.between_zones)

    def _services(self, section: str, usual: RangeSet) -> RangeSet:
        """A list of services that may be given once for all parts."""
        texts = self._single(section, lambda part: getattr(part.shape, section))
        if texts is None:
            return usual
        part = next(part for part in self.parts if section in part.raw)
        return self.values.services(section, texts, part.raw.place(section)) or EMPTY

    def _accepted(self) -> Iterator[Accepted]:
        for part in self.parts:
            for index, shape in enumerate(part.shape.accepted):
                place = part.raw["accepted"].place(index)
                until = None
                if not shape.reason.strip():
                    self.values.fault(place, f"accepted '{shape.finding}': 'reason' is empty; say why it is lived with")
                if shape.until is not None:
                    last = f"{shape.until}T23:59:59Z" if len(shape.until) == len("2026-12-31") else shape.until
                    until = self.values.time(f"accepted '{shape.finding}', until", last, place)
                yield Accepted(shape.finding, shape.at, shape.reason, place, until)

    def _expectations(self) -> Iterator[Expectation]:
        first: dict[str, Place] = {}
        for part in self.parts:
            for index, shape in enumerate(part.shape.expectations):
                place = part.raw["expectations"].place(index)
                owner = f"expectation '{shape.id}'"
                if shape.id in first:
                    self.values.fault(place, f"{owner} is there twice; first in {first[shape.id]}")
                first.setdefault(shape.id, place)
                for name in (*shape.source, *shape.destination, *shape.excepted):
                    if not stands_for_an_end(name):
                        self.names.refer(owner, name, PEER_KINDS, place, "any")
                texts = list(shape.service)
                services = self.values.services(owner, texts, place) or EMPTY
                yield expectation_of(shape, services, place)

    def _network(self, name: str, shape: Any, raw: Table, place: Place) -> Network:
        owner = f"network '{name}'"
        blocks = self._blocks(owner, name, shape.cidrs, raw, "cidrs")
        if shape.public is None:
            self._without_word.append(name)
            return Network(name, blocks, place)
        return Network(name, blocks, place, self.values.prefixes(owner, shape.public, raw.place("public")))

    def warnings(self, topology: Topology) -> Iterator[Problem]:
        """What is odd about a network that can be read: blocks that are not private, and of which nothing is said."""
        reached = {name for each in topology.gateways.values() if each.kind == "internet" for name in each.networks}
        for network in (topology.networks[name] for name in self._without_word if name in reached):
            for block in network.blocks:
                if block.family == 4 and not AddressSet.of_prefixes([block]).meets(PRIVATE_USE):
                    text = f"network '{network.name}': {block} is not private, and taken for reached by translation"
                    text += (
                        f" alone: say 'public: [{block}]' if it is routed on the internet as it is, 'public: []' if not"
                    )
                    yield Problem(network.place, text)

    def _blocks(self, owner: str, name: str, texts: list[str], raw: Table, key: str) -> tuple[Prefix, ...]:
        blocks = self.values.prefixes(owner, texts, raw.place(key))
        given = raw.get(key)
        if len(blocks) < (len(given) if isinstance(given, list) else 1):
            self._short.add(name)
        return blocks

    def _outside(self, name: str, shape: OutsideShape, raw: Table, place: Place) -> Outside:
        owner = f"outside '{name}'"
        self._refer(owner, shape.zone, "zone", raw.place("zone"))
        self._refer_filter(owner, shape.filter, "subnet", raw.place("filter"))
        prefixes = self.values.covering_prefixes(owner, shape.addresses, raw.place("addresses"))
        ports = self.values.client_ports(owner, shape.ephemeral_ports, raw.place("ephemeral_ports"))
        return Outside(name, prefixes, place, shape.zone, shape.filter, ports)

    def _gateway(self, name: str, shape: GatewayShape, raw: Table, place: Place) -> Gateway:
        owner = f"gateway '{name}'"
        wanted = {"internet": {"network"}, "nat": {"network", "address"}, "peering": {"networks"}}
        needed = wanted.get(shape.kind, {"network", "outside"})
        given = {key for key in ("network", "networks", "address", "outside") if getattr(shape, key) is not None}
        if "network" in needed and "networks" in given:  # one gateway of several networks
            if "network" in given:
                self.values.fault(raw.place("networks"), f"{owner}: give 'network' or 'networks', not both")
            needed = needed - {"network"} | {"networks"}
            given -= {"network"}
        for key in sorted(needed - given):
            self.values.fault(
                place, f"{owner}: '{key}' is missing; {_article(shape.kind)} {shape.kind} gateway needs it"
            )
        for key in sorted(given - needed):
            self.values.fault(raw.place(key), f"{owner}: {_article(shape.kind)} {shape.kind} gateway has no '{key}'")
        networks = tuple(shape.networks or ()) + ((shape.network,) if shape.network else ())
        for network in networks:
            self._refer(owner, network, "network", raw.place("networks" if shape.networks else "network"))
        least = 2 if shape.kind == "peering" else 1
        if shape.networks is not None and len(set(networks)) < max(least, len(networks)):
            what = "a peering joins two networks or more" if least == 2 else "it serves one network or more"
            self.values.fault(raw.place("networks"), f"{owner}: {what}, each named once")
        self._refer(owner, shape.outside, "outside", raw.place("outside"))
        address = None
        if shape.address is not None:
            address = self.values.address(owner, shape.address, raw.place("address"))
            if address is not None and address.family != 4:
                self.values.fault(raw.place("address"), f"{owner}: IPv6 is never translated; give an IPv4 address")
        return Gateway(name, shape.kind, networks, place, address, shape.outside)

    def _route_table(self, name: str, shapes: list[RouteShape], raw: Items, place: Place) -> RouteTable:
        entries = []
        for index, shape in enumerate(shapes):
            entry = self._route_entry(f"route table '{name}'", shape, raw[index], raw.place(index))
            if entry is not None:
                entries.append(entry)
        return RouteTable(name, tuple(entries), place)

    def _route_entry(self, owner: str, shape: RouteShape, raw: Table, place: Place) -> RouteEntry | None:
        prefix = self.values.prefix(owner, shape.to, raw.place("to"))
        if prefix is None:
            return None
        via = shape.via
        if isinstance(via, str):
            if via == "discard":
                return RouteEntry(prefix, shape.origin, place, discard=True, note=shape.note)
            if self.names.is_a("instance", via):
                told = f"'via' is a gateway, discard or {{instance: NAME}}; did you mean {{instance: {via}}}?"
                self.values.fault(raw.place("via"), f"{owner}: {told}")
                return None
            self.names.refer(owner, via, ("gateway",), raw.place("via"), "discard")
            return RouteEntry(prefix, shape.origin, place, gateway=str(via), note=shape.note)
        if not isinstance(via, dict) or not {"instance"} <= set(via) <= {"instance", "interface"}:
            self.values.fault(
                raw.place("via"), f"{owner}: 'via' is a gateway, discard or {{instance: NAME, interface: NAME}}"
            )
            return None
        instance, interface = str(via["instance"]), via.get("interface")
        if not self.names.refer(owner, instance, ("instance",), raw.place("via")):
            return None
        full = f"{instance}/{interface}" if interface is not None else None
        if full is not None and not self.names.refer(owner, full, ("interface",), raw.place("via")):
            return None
        return RouteEntry(prefix, shape.origin, place, instance=instance, interface=full, note=shape.note)

    def _subnet(self, name: str, shape: SubnetShape, raw: Table, place: Place) -> Subnet:
        owner = f"subnet '{name}'"
        self._refer(owner, shape.network, "network", raw.place("network"))
        self._refer(owner, shape.zone, "zone", raw.place("zone"))
        self._refer(owner, shape.route_table, "route table", raw.place("route_table"))
        self._refer_filter(owner, shape.filter, "subnet", raw.place("filter"))
        blocks = self._blocks(owner, name, shape.cidr, raw, "cidr")
        for family in (4, 6):
            if sum(block.family == family for block in blocks) > 1:
                self.values.fault(raw.place("cidr"), f"{owner}: at most one IPv{family} block")
        return Subnet(name, shape.network, blocks, place, shape.zone, shape.route_table, shape.filter)

    def _crossings(self) -> tuple[Crossing, ...]:
        found = []
        first: dict[tuple[str, str], Place] = {}
        for part in self.parts:
            for index, shape in enumerate(part.shape.crossings):
                place, raw = part.raw["crossings"].place(index), part.raw["crossings"][index]
                owner = f"crossing {shape.source}>{shape.destination}"
                self._refer(owner, shape.source, "zone", raw.place("from"))
                self._refer(owner, shape.destination, "zone", raw.place("to"))
                self._refer_filter(owner, shape.filter, "zone", raw.place("filter"))
                pair = (shape.source, shape.destination)
                if pair in first:
                    self.values.fault(place, f"{owner} is listed twice; first in {first[pair]}")
                first.setdefault(pair, place)
                found.append(Crossing(shape.source, shape.destination, shape.filter, place, shape.note))
        return tuple(found)

    # Groups and instances.

    def _group(self, name: str, shape: GroupShape, raw: Table, place: Place) -> Group:
        owner = f"group '{name}'"
        if shape.members is None and shape.where is None and shape.addresses is None:
            self.values.fault(place, f"{owner}: give 'members', 'where' or 'addresses'")
        members = []
        for index, member in enumerate(shape.members or ()):
            listed = raw["members"]
            at = listed.place(index) if isinstance(listed, Items) else raw.place("members")
            if self.names.refer(owner, member, ("instance", "interface", "group"), at):
                members.append(str(member))
        where = None
        if shape.where is not None:
            where = tuple((key, tuple(map(str, values))) for key, values in shape.where.items())
            if not where:
                self.values.fault(raw.place("where"), f"{owner}: 'where' names no tag")
        texts = tuple(map(str, shape.addresses or ()))
        addresses = AddressSet.union(self.values.address_set(owner, text, raw.place("addresses")) for text in texts)
        return Group(name, place, tuple(members), where, addresses, texts, shape.note)

    # Observation points.

    def _observation_points(self) -> dict[str, ObservationPoint]:
        found = {}
        kinds = ("subnet", *[kind for kind in PEER_KINDS if kind not in ("subnet", "group", "network")], "gateway")
        for part in self.parts:
            for key, value in part.shape.observation_points.items():
                place = part.raw["observation_points"].place(key)
                owner = f"observation point {key}"
                if isinstance(value, dict) and set(value) == {"from", "to"}:
                    for end in ("from", "to"):
                        self._refer(owner, str(value[end]), "zone", place)
                    found[key] = ObservationPoint(key, crossing=(str(value["from"]), str(value["to"])))
                elif isinstance(value, str):
                    self.names.refer(owner, str(value), kinds, place)
                    found[key] = ObservationPoint(key, str(value))
                else:
                    text = f"{owner}: name a subnet, interface, gateway or outside, or {{from: ZONE, to: ZONE}}"
                    self.values.fault(place, text)
        return found


def stands_for_an_end(text: str) -> bool:
    """Whether a text is an end without being a name of the network file: `any`, an address, a block, a zone, a tag."""
    return text == "any" or reads_as_address(text) or "/" in text or text.startswith(("zone:", "tag:"))


def _article(word: str) -> str:
    return "an" if word[:1] in "aeiou" else "a"


def expectation_of(shape: ExpectationShape, services: RangeSet, place: Place) -> Expectation:
    """An expectation as a value."""
    return Expectation(
        shape.id, tuple(shape.source), tuple(shape.destination), services, ", ".join(shape.service), shape.expect,
        place, tuple(shape.excepted), shape.family, shape.owner, shape.reason,
    )  # fmt: skip
