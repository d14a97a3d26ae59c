"""The section `instances`: machines with their interfaces, what they listen to, and files of rule sets and sockets."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, NamedTuple

from kiboko.core.errors import Place, Problem
from kiboko.core.header.addresses import Address
from kiboko.core.header.ranges import EMPTY
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.network.model import ALL_ADDRESSES, Instance, Interface, Listener
from kiboko.files.documents.lined_yaml import Items, Table
from kiboko.files.network.names import Names, name_fault
from kiboko.files.network.schema import InstanceShape, InterfaceShape
from kiboko.files.network.values import ValueReader

ReferFilter = Callable[[str, str, str, Place], None]
"""Looks up a filter that something names: by the owner in words, its name, the layer it has to be of, and the place."""


class Beside(NamedTuple):
    """Where the files lie that machines name: below the network's `folder`, or anywhere (`files_elsewhere`); and what
    stands before their names in messages, where that is not the folder."""

    folder: Path
    files_elsewhere: bool
    shown: str | None = None

    def shown_as(self, name: str) -> str:
        """What a file is called in messages."""
        return str(self.folder / name) if self.shown is None else self.shown + name


class InstanceReader:
    """Makes machines of their shapes; what is wrong with them is added to `problems`. Which files beside the network's
    own were read is in `used_files`."""

    def __init__(
        self, names: Names, values: ValueReader, problems: list[Problem], refer_filter: ReferFilter, beside: Beside
    ) -> None:
        self.names, self.values, self.problems = names, values, problems
        self.refer_filter = refer_filter
        self.beside = beside
        self.used_files: set[Path] = set()
        self._rule_sets: dict[str, HostRuleSet | None] = {}
        self._judged: dict[tuple[str, tuple[str, ...]], HostRuleSet | None] = {}
        self._rule_sets_by_text: dict[str, HostRuleSet] = {}

    def read(self, name: str, shape: InstanceShape, raw: Table, place: Place) -> Instance:
        """One machine with its interfaces, what it listens to and its own filter."""
        owner = f"instance '{name}'"
        interfaces = []
        devices: set[str] = set()
        for index, each in enumerate(shape.interfaces):
            at = raw["interfaces"].place(index)
            interface = self._interface(owner, name, each, raw["interfaces"][index], at, index)
            if interface.name in devices:
                self.values.fault(at, f"{owner}: interface '{interface.device}' is given twice")
            devices.add(interface.name)
            interfaces.append(interface)
        ports = None
        if shape.ephemeral_ports is not None:
            ports = self.values.client_ports(owner, shape.ephemeral_ports, raw.place("ephemeral_ports"))
        named = {each.device: each.addresses for each, given in zip(interfaces, shape.interfaces, strict=True)
                 if given.name is not None}  # fmt: skip
        guessed = tuple(each.device for each in interfaces if each.device not in named)
        return Instance(
            name, place, tuple(interfaces), shape.state == "running", shape.tags,
            self._host_filter(owner, shape.host_filter, raw, guessed) if shape.host_filter is not None else None,
            self._listens(owner, shape.listens, raw, named) if "listens" in raw else None,
            shape.forwards, ports, shape.note,
        )  # fmt: skip

    def _interface(
        self, owner: str, instance: str, shape: InterfaceShape, raw: Table, place: Place, index: int
    ) -> Interface:
        device = device_of(shape, index)
        if name_fault(device):
            self.values.fault(place, f"{owner}: interface '{device}': {name_fault(device)}")
        owner = f"{owner}, interface '{device}'"
        self.names.refer(owner, shape.subnet, ("subnet",), raw.place("subnet"))
        for each in shape.filters:
            self.refer_filter(owner, each, "instance", raw.place("filters"))
        found = [self.values.address(owner, text, raw.place("addresses")) for text in shape.addresses]
        public = None
        if shape.public is not None:
            public = self.values.address(owner, shape.public, raw.place("public"))
            if public is not None and public.family != 4:
                text = f"{owner}: IPv6 is never translated; an IPv6 address is public by itself"
                self.values.fault(raw.place("public"), text)
        addresses = tuple(address for address in found if address is not None)
        filters = tuple(map(str, shape.filters))
        return Interface(f"{instance}/{device}", instance, shape.subnet, addresses, place, public, filters)

    def _host_filter(self, owner: str, value: Any, raw: Table, guessed: tuple[str, ...]) -> str | HostRuleSet | None:
        """What filters on a machine itself; `guessed` are the names of interfaces to which none is given."""
        place = raw.place("host_filter")
        if isinstance(value, str):
            self.refer_filter(owner, value, "host", place)
            return str(value)
        from kiboko.files.hosts.devices import with_unnamed_interfaces
        from kiboko.files.hosts.rule_set_listing import read_rule_set

        path = self._file_of(owner, "host_filter", value, "nftables", place)
        if path is None:
            return None
        if path[1] not in self._rule_sets:  # many machines may name one file
            self._rule_sets[path[1]] = read_rule_set(path[0], path[1], self.problems, self._rule_sets_by_text)
        key = path[1], guessed
        if key not in self._judged:
            found = self._rule_sets[path[1]]
            self._judged[key] = found if found is None or not guessed else with_unnamed_interfaces(found, guessed)
        return self._judged[key]

    def _listens(
        self, owner: str, value: Any, raw: Table, named: Mapping[str, tuple[Address, ...]]
    ) -> tuple[Listener, ...] | None:
        """What listens on a machine; `named` are the addresses of its interfaces that have names."""
        place = raw.place("listens")
        if value is None:
            return None
        if isinstance(value, dict):
            from kiboko.files.hosts.sockets import read_sockets

            path = self._file_of(owner, "listens", value, "sockets", place)
            return read_sockets(path[0], path[1], self.problems, named) if path else None
        if isinstance(value, str):
            value = [value]  # as all lists may be written that have one item
        if not isinstance(value, list):
            self.values.fault(place, f"{owner}: 'listens' is a list of services or {{sockets: FILE}}")
            return None
        found = []
        for index, item in enumerate(value):
            at = value.place(index) if isinstance(value, Items) else place
            listener = self._listener(owner, item, at)
            if listener is not None:
                found.append(listener)
        return tuple(found)

    def _listener(self, owner: str, item: Any, place: Place) -> Listener | None:
        if isinstance(item, str):
            services = self.values.services(f"{owner}, listens", [item], place)
            return Listener(services or EMPTY, str(item), place)
        if not isinstance(item, dict) or not {"service"} <= set(item) <= {"service", "address"}:
            self.values.fault(place, f"{owner}: a listener is a service or {{service: NAME, address: ADDRESS}}")
            return None
        told = item["service"] if isinstance(item["service"], list) else [item["service"]]
        services = self.values.services(f"{owner}, listens", [str(each) for each in told], place)
        address = family = None
        bound = str(item["address"]) if item.get("address") is not None else "*"
        if isinstance(item.get("address"), list):
            self.values.fault(place, f"{owner}: a listener has one address; write one for each")
            return None
        if bound in ALL_ADDRESSES:
            family = ALL_ADDRESSES[bound]
        else:
            address = self.values.address(f"{owner}, listens", bound, place)
        text = ", ".join(map(str, told)) + (f" on {bound}" if bound != "*" else "")
        return Listener(services or EMPTY, text, place, address, family)

    def _file_of(self, owner: str, key: str, value: Any, kind: str, place: Place) -> tuple[Path, str] | None:
        """The file that `{KIND: FILE}` names, relative to the network's folder, and how it is shown."""
        if not isinstance(value, dict) or set(value) != {kind} or not isinstance(value[kind], str):
            self.values.fault(place, f"{owner}: '{key}' is a name or {{{kind}: FILE}}")
            return None
        path = self.beside.folder / value[kind]
        if not path.is_file():
            self.values.fault(place, f"{owner}: file '{value[kind]}' does not exist beside the network file")
            return None
        if not self.beside.files_elsewhere and not path.resolve().is_relative_to(self.beside.folder.resolve()):
            text = f"{owner}: file '{value[kind]}' does not lie below the network's folder; --files-elsewhere allows it"
            self.values.fault(place, text)
            return None
        self.used_files.add(path.resolve())
        return path, self.beside.shown_as(value[kind])


def device_of(shape: InterfaceShape, index: int) -> str:
    """What an interface is called on its machine: `eth0` and so on where nothing is said."""
    return shape.name if shape.name is not None else f"eth{index}"
